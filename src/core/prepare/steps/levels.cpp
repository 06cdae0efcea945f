// Steps on types, values and levels.
#include "base/error.h"
#include "base/text.h"
#include "prepare/steps/kinds.h"
#include "table/dictionary.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

[[noreturn]] void refuse(const std::string& what, const std::string& column, const std::string& remedy = {}) {
    throw Error(ErrorCode::badStep, what, {.column = column}, remedy);
}

/// The factor with each level under the name `rename` gives it; names that become equal are one level. Levels
/// keep the place of their first bearer.
Column relevelled(const Column& column, const std::function<std::string(const std::string&)>& rename) {
    std::vector<std::string> levels;
    std::map<std::string, std::int32_t> places;
    std::vector<std::int32_t> newCode;
    for (const std::string& level : column.levels()) {
        const std::string name = rename(level);
        if (name.empty()) {
            newCode.push_back(Column::missingCode);
            continue;
        }
        const auto [at, fresh] = places.emplace(name, static_cast<std::int32_t>(levels.size()));
        if (fresh) levels.push_back(name);
        newCode.push_back(at->second);
    }
    std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
    for (auto& code : codes)
        if (code >= 0) code = newCode[static_cast<std::size_t>(code)];
    return Column::ofFactor(column.name(), std::move(codes), std::move(levels));
}

Column reordered(const Column& column, const std::vector<std::string>& order) {
    std::vector<std::int32_t> newCode(column.levels().size());
    for (std::size_t i = 0; i < newCode.size(); ++i)
        newCode[i] = static_cast<std::int32_t>(std::find(order.begin(), order.end(), column.levels()[i]) -
                                               order.begin());
    std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
    for (auto& code : codes)
        if (code >= 0) code = newCode[static_cast<std::size_t>(code)];
    return Column::ofFactor(column.name(), std::move(codes), order);
}

/// Levels in the wanted order; those not named follow as they stood.
std::vector<std::string> fullOrder(StepFrame& frame, const Column& column,
                                   const std::vector<std::string>& wanted) {
    std::vector<std::string> order;
    for (const std::string& level : wanted) {
        if (std::find(order.begin(), order.end(), level) != order.end())
            refuse("the level \"" + level + "\" is named twice", column.name());
        if (column.codeOf(level) >= 0)
            order.push_back(level);
        else if (!frame.applying())
            refuse("there is no level \"" + level + "\"", column.name(),
                   "The levels are: " + nameList(column.levels(), 20) + ".");
    }
    for (const std::string& level : column.levels())
        if (std::find(wanted.begin(), wanted.end(), level) == wanted.end()) order.push_back(level);
    return order;
}

} // namespace

StepKind changeType() {
    StepKind kind{.name = "change type", .title = "Change the type", .group = "values"};
    kind.fields = {columnsField({}),
                   choiceField("to", "To", {"number", "factor", "date", "date and time", "text"})};
    kind.sentence = [](const Step& step) {
        return "Take " + nameList(step.texts("columns")) + " as " + (step.text("to") == "text" ? "" : "a ") +
               step.text("to");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const std::string& to = step.text("to");
        const AskedKind wanted = AskedKind::named(to).value_or(ColumnKind::text);
        for (const std::string& name : step.texts("columns")) {
            const Column column = frame.at(name);
            const Column::Converted converted = column.converted(wanted);
            const std::size_t present = column.size() - column.missingCount();
            if (present > 0 && converted.lost == present)
                refuse("no value can be read as a " + to, name, "Choose another type.");
            if (converted.lost > 0)
                frame.note(name + ": " + plural(converted.lost, "value", "values") + " cannot be read as a " +
                           to + " and became missing");
            frame.put(converted.column);
        }
    };
    return kind;
}

StepKind replaceValues() {
    StepKind kind{.name = "replace values", .title = "Replace values", .group = "values"};
    kind.fields = {
        columnField({}),
        {.key = "pairs", .label = "Value and what replaces it (nothing: missing)", .type = FieldType::pairs}};
    kind.sentence = [](const Step& step) {
        std::vector<std::string> pairs;
        for (const auto& [from, to] : step.get<TextPairs>("pairs"))
            pairs.push_back(from + " by " + (to.empty() ? "missing" : to));
        return "Replace in " + step.text("column") + " " + nameList(pairs);
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const Column column = frame.at(step.text("column"));
        const auto& pairs = step.get<TextPairs>("pairs");
        if (pairs.empty())
            refuse("nothing to replace is given", column.name(), "Name a value and what replaces it.");
        std::map<std::string, std::size_t> used;
        if (column.kind() == ColumnKind::factor) {
            std::map<std::string, std::string> by(pairs.begin(), pairs.end());
            const Column next = relevelled(column, [&](const std::string& level) {
                const auto found = by.find(level);
                return found == by.end() ? level : found->second;
            });
            for (const auto& [from, to] : pairs)
                if (column.codeOf(from) < 0 && !frame.applying())
                    frame.note("there is no level \"" + from + "\"");
            frame.put(next);
            return;
        }
        std::vector<std::string> misses;
        if (column.kind() == ColumnKind::number) {
            std::vector<double> values(column.numbers().begin(), column.numbers().end());
            for (const auto& [fromText, toText] : pairs) {
                const auto from = parseNumber(fromText, '.');
                const auto to = toText.empty() ? std::optional(std::nan("")) : parseNumber(toText, '.');
                if (!from || !to)
                    refuse("\"" + (from ? toText : fromText) + "\" is not a number", column.name(),
                           "Write it with a decimal point.");
                std::size_t count = 0;
                for (std::size_t i = 0; i < values.size(); ++i)
                    if (column.numbers()[i] == *from) {
                        values[i] = *to;
                        ++count;
                    }
                if (count == 0 && !frame.applying()) frame.note("no value equals " + fromText);
            }
            frame.put(Column::ofNumbers(column.name(), std::move(values)));
            return;
        }
        if (column.kind() == ColumnKind::date) {
            std::vector<std::int32_t> days(column.days().begin(), column.days().end());
            for (const auto& [fromText, toText] : pairs) {
                const auto from = parseDate(fromText);
                const auto to = toText.empty() ? std::optional(Column::missingDay) : parseDate(toText);
                if (!from || !to)
                    refuse("\"" + (from ? toText : fromText) + "\" is not a date", column.name(),
                           "Write it as 2025-03-01.");
                for (std::size_t i = 0; i < days.size(); ++i)
                    if (column.days()[i] == *from) days[i] = *to;
            }
            frame.put(Column::ofDates(column.name(), std::move(days)));
            return;
        }
        TextCells cells;
        const std::map<std::string, std::string> by(pairs.begin(), pairs.end());
        for (std::size_t i = 0; i < column.size(); ++i) {
            const auto found = by.find(std::string(column.text(i)));
            cells.add(found == by.end() ? column.text(i) : std::string_view(found->second));
        }
        frame.put(Column::ofText(column.name(), std::move(cells)));
    };
    return kind;
}

StepKind mergeLevels() {
    StepKind kind{.name = "merge levels", .title = "Merge levels", .group = "levels"};
    kind.fields = {columnField({ColumnKind::factor}),
                   {.key = "levels", .label = "Levels", .type = FieldType::levels},
                   textField("into", "Into")};
    kind.sentence = [](const Step& step) {
        return "Merge the levels " + nameList(step.texts("levels")) + " of " + step.text("column") +
               " into " + step.text("into");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const Column column = frame.factor(step.text("column"));
        const auto& merged = step.texts("levels");
        const std::string& into = step.text("into");
        if (merged.empty() || into.empty())
            refuse("levels to merge and a name for them are needed", column.name());
        for (const std::string& level : merged)
            if (column.codeOf(level) < 0 && !frame.applying())
                frame.note("there is no level \"" + level + "\"");
        frame.put(relevelled(column, [&](const std::string& level) {
            return std::find(merged.begin(), merged.end(), level) == merged.end() ? level : into;
        }));
    };
    return kind;
}

StepKind lumpRareLevels() {
    StepKind kind{.name = "lump rare levels", .title = "Lump rare levels together", .group = "levels"};
    kind.fields = {columnsField({ColumnKind::factor}),
                   wholeField("rows", "Levels with fewer learning rows than", 10, 2, 1e9),
                   textField("into", "Into", StepValue(std::string("other")))};
    kind.learns = true;
    kind.sentence = [](const Step& step) {
        return "Lump levels of " + nameList(step.texts("columns")) + " with fewer than " +
               exactText(step.number("rows")) + " learning rows into " + step.text("into");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const std::string& into = step.text("into");
        if (into.empty()) refuse("the level to lump into has no name", step.texts("columns").front());
        for (const std::string& name : step.texts("columns")) {
            const Column column = frame.factor(name);
            // Levels that no learning row has are left as they are: they are not rare but never seen.
            const auto rare = frame.values().texts(name, "rare levels", [&] {
                std::vector<std::size_t> counts(column.levels().size(), 0);
                for (const auto row : frame.learningRows())
                    if (!column.isMissing(row)) ++counts[static_cast<std::size_t>(column.codes()[row])];
                std::vector<std::string> few;
                for (std::size_t i = 0; i < counts.size(); ++i)
                    if (counts[i] > 0 && static_cast<double>(counts[i]) < step.number("rows"))
                        few.push_back(column.levels()[i]);
                return few;
            });
            frame.note(rare.empty() ? name + ": no level is that rare"
                                    : name + ": " + nameList(rare, 8) + " became " + into);
            frame.put(relevelled(column, [&](const std::string& level) {
                return std::find(rare.begin(), rare.end(), level) == rare.end() ? level : into;
            }));
        }
    };
    return kind;
}

StepKind orderLevels() {
    StepKind kind{.name = "order levels", .title = "Put levels in order", .group = "levels"};
    kind.fields = {columnField({ColumnKind::factor}),
                   {.key = "levels", .label = "Levels, first to last", .type = FieldType::levels},
                   flagField("scores", "Add a column of scores 1, 2, 3, …", false)};
    kind.sentence = [](const Step& step) {
        std::string order;
        for (const auto& level : step.texts("levels"))
            order += (order.empty() ? "" : " < ") + level;
        return "Order the levels of " + step.text("column") + ": " + order +
               (step.flag("scores") ? ", with scores" : "");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const Column column = frame.factor(step.text("column"));
        const auto& wanted = step.texts("levels");
        if (wanted.empty()) refuse("no levels are named", column.name());
        if (step.flag("scores")) {
            std::vector<double> scores(frame.rows(), std::nan(""));
            for (std::size_t i = 0; i < scores.size(); ++i) {
                if (column.isMissing(i)) continue;
                const auto at = std::find(wanted.begin(), wanted.end(), column.cellText(i));
                if (at != wanted.end()) scores[i] = static_cast<double>(at - wanted.begin()) + 1;
            }
            frame.add(Column::ofNumbers(column.name() + " score", std::move(scores)));
        }
        frame.put(reordered(column, fullOrder(frame, column, wanted)));
    };
    return kind;
}

StepKind referenceLevel() {
    StepKind kind{.name = "reference level", .title = "Choose the reference level", .group = "levels"};
    kind.fields = {columnField({ColumnKind::factor}),
                   {.key = "level", .label = "Level", .type = FieldType::level}};
    kind.sentence = [](const Step& step) {
        return "Compare the levels of " + step.text("column") + " with " + step.text("level");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const Column column = frame.factor(step.text("column"));
        frame.put(reordered(column, fullOrder(frame, column, {step.text("level")})));
    };
    return kind;
}

StepKind combineColumns() {
    StepKind kind{.name = "combine", .title = "Combine factors into one", .group = "levels"};
    kind.fields = {columnsField({ColumnKind::factor}), textField("name", "Name of the new column"),
                   textField("between", "Between the levels", StepValue(std::string(" / ")))};
    kind.sentence = [](const Step& step) {
        return "Combine " + nameList(step.texts("columns")) + " into " + step.text("name");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        std::vector<Column> columns;
        for (const std::string& name : step.texts("columns"))
            columns.push_back(frame.factor(name));
        if (columns.size() < 2) refuse("combining takes two columns or more", step.text("name"));
        Dictionary dictionary;
        std::vector<std::int32_t> codes(frame.rows(), Column::missingCode);
        std::string cell;
        for (std::size_t i = 0; i < codes.size(); ++i) {
            cell.clear();
            bool missing = false;
            for (const Column& column : columns) {
                missing |= column.isMissing(i);
                cell += (&column == &columns[0] ? "" : step.text("between")) + column.cellText(i);
            }
            if (!missing) codes[i] = dictionary.code(cell);
        }
        frame.add(sortedFactor(step.text("name"), std::move(codes), dictionary.takeKeys()));
    };
    return kind;
}

StepKind renameColumn() {
    StepKind kind{.name = "rename", .title = "Rename a column", .group = "columns"};
    kind.fields = {columnField({}), textField("to", "To")};
    kind.sentence = [](const Step& step) {
        return "Rename " + step.text("column") + " to " + step.text("to");
    };
    kind.run = [](const Step& step, StepFrame& frame) { frame.rename(step.text("column"), step.text("to")); };
    return kind;
}

} // namespace oxgoad
