// Steps that leave rows out of learning and judging. Rows to be forecast are only noted: they need an answer.
#include "base/error.h"
#include "base/text.h"
#include "prepare/expression.h"
#include "prepare/steps/kinds.h"
#include "table/selection.h"
#include "table/summary.h"
#include "table/values.h"

#include "base/not_a_number.h"
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Leaves the rows out for which `test` holds, unless none would be left.
void leaveOutIf(StepFrame& frame, const std::function<bool(std::size_t)>& test) {
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < frame.rows(); ++i)
        if (!frame.isOut(i) && test(i)) rows.push_back(i);
    if (frame.applying()) {
        if (!rows.empty())
            frame.note(plural(rows.size(), "row", "rows") +
                       " to be forecast would have been left out of learning by this step");
        for (const auto row : rows)
            frame.leaveOut(row);
        return;
    }
    if (!rows.empty() && rows.size() == frame.rowsIn())
        throw Error(ErrorCode::badStep, "this leaves no rows", {.file = frame.file()},
                    "Change the condition.");
    for (const auto row : rows)
        frame.leaveOut(row);
}

/// Quartiles of the learning rows and `width` spreads beyond them (Tukey 1977, "Exploratory data analysis",
/// §2D).
std::pair<double, double> fencesOf(StepFrame& frame, const Column& column, double width) {
    const auto& quartiles = frame.values().numbers(
        column.name(), "quartiles",
        [&] {
            std::vector<double> values = frame.learningNumbers(column);
            const double lower = quantileBySelection(values, 0.25);
            return std::vector<double>{lower, quantileBySelection(values, 0.75)};
        },
        2);
    const double spread = quartiles[1] - quartiles[0];
    return {quartiles[0] - width * spread, quartiles[1] + width * spread};
}

void leaveOutBeyond(StepFrame& frame, const std::vector<std::string>& names,
                    const std::function<std::pair<double, double>(const Column&)>& limitsOf) {
    std::vector<std::uint8_t> beyond(frame.rows(), 0);
    for (const std::string& name : names) {
        const Column column = frame.number(name);
        const auto [low, high] = limitsOf(column);
        frame.note(name + ": from " + shortText(low) + " to " + shortText(high) + " stays");
        const auto values = column.numbers();
        for (std::size_t i = 0; i < values.size(); ++i)
            if (values[i] < low || values[i] > high) beyond[i] = 1;
    }
    leaveOutIf(frame, [&](std::size_t i) { return beyond[i] != 0; });
}

} // namespace

StepKind leaveOutWhere() {
    StepKind kind{
        .name = "leave out where", .title = "Leave out rows where a condition holds", .group = "rows"};
    kind.fields = {{.key = "condition", .label = "Condition", .type = FieldType::expression},
                   textField("reason", "Reason", StepValue(std::string()))};
    kind.leavesOut = true;
    kind.sentence = [](const Step& step) {
        const std::string& reason = step.text("reason");
        return "Leave out rows where " + step.text("condition") + (reason.empty() ? "" : " (" + reason + ")");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const auto holds =
            Expression::parse(step.text("condition"), frame.columns()).evaluate(frame.columns());
        leaveOutIf(frame, [&](std::size_t i) { return holds[i] != 0 && !std::isnan(holds[i]); });
    };
    return kind;
}

StepKind leaveOutMissing() {
    StepKind kind{
        .name = "leave out missing", .title = "Leave out rows with missing values", .group = "rows"};
    kind.fields = {columnsField({})};
    kind.leavesOut = true;
    kind.sentence = [](const Step& step) {
        return "Leave out rows that lack " + nameList(step.texts("columns"));
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        std::vector<const Column*> columns;
        for (const std::string& name : step.texts("columns"))
            columns.push_back(&frame.at(name));
        leaveOutIf(frame, [&](std::size_t i) {
            return std::any_of(columns.begin(), columns.end(),
                               [i](const Column* c) { return c->isMissing(i); });
        });
    };
    return kind;
}

StepKind leaveOutBeyondFences() {
    StepKind kind{
        .name = "leave out beyond fences", .title = "Leave out rows beyond quartile fences", .group = "rows"};
    kind.fields = {columnsField({ColumnKind::number}),
                   numberField("width", "Width, in quartile spreads", 1.5, 0, 1000)};
    kind.learns = kind.leavesOut = true;
    kind.sentence = [](const Step& step) {
        return "Leave out rows whose " + nameList(step.texts("columns")) + " lies more than " +
               shortText(step.number("width")) + " quartile spreads beyond the quartiles";
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        leaveOutBeyond(frame, step.texts("columns"),
                       [&](const Column& column) { return fencesOf(frame, column, step.number("width")); });
    };
    return kind;
}

StepKind leaveOutBeyondZ() {
    StepKind kind{.name = "leave out beyond z", .title = "Leave out rows beyond z limits", .group = "rows"};
    kind.fields = {columnsField({ColumnKind::number}),
                   numberField("limit", "Limit, in standard deviations", 3, 0, 1000)};
    kind.learns = kind.leavesOut = true;
    kind.sentence = [](const Step& step) {
        return "Leave out rows whose " + nameList(step.texts("columns")) + " lies more than " +
               shortText(step.number("limit")) + " standard deviations from the mean";
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        leaveOutBeyond(frame, step.texts("columns"), [&](const Column& column) {
            const auto& scale = frame.values().numbers(
                column.name(), "mean and standard deviation",
                [&] {
                    const auto values = frame.learningNumbers(column);
                    const auto summary = summarizeNumbers(values);
                    // No |z| of n values exceeds (n - 1)/√n (Shiffler 1988, The American Statistician 42).
                    const auto n = static_cast<double>(values.size());
                    if ((n - 1) / std::sqrt(n) < step.number("limit"))
                        frame.note("with " + countText(values.size()) +
                                   " learning rows no value can lie that far out");
                    return std::vector<double>{summary->mean, std::isnan(summary->standardDeviation)
                                                                  ? 0
                                                                  : summary->standardDeviation};
                },
                2);
            const double reach = step.number("limit") * scale[1];
            return std::pair{scale[0] - reach, scale[0] + reach};
        });
        frame.note("outliers stretch the standard deviation they are judged by; quartile fences do not have "
                   "that fault");
    };
    return kind;
}

StepKind leaveOutRows() {
    StepKind kind{.name = "leave out rows", .title = "Leave out listed rows, with a reason", .group = "rows"};
    kind.fields = {{.key = "rows", .label = "Row numbers", .type = FieldType::numbers},
                   textField("reason", "Reason")};
    kind.leavesOut = true;
    kind.sentence = [](const Step& step) {
        std::vector<std::string> rows;
        for (const double row : step.get<std::vector<double>>("rows"))
            rows.push_back(exactText(row));
        return "Leave out " + std::string(rows.size() == 1 ? "row " : "rows ") + nameList(rows) + ": " +
               step.text("reason");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const auto& rows = step.get<std::vector<double>>("rows");
        if (frame.applying()) return; // the rows of another table
        if (rows.empty())
            throw Error(ErrorCode::badStep, "no row is listed", {}, "List row numbers, as in 89, 129.");
        std::vector<std::uint8_t> named(frame.rows(), 0);
        for (const double row : rows) {
            if (row < 1 || row != std::floor(row) || row > static_cast<double>(frame.rows()))
                throw Error(ErrorCode::badStep, "there is no row " + exactText(row), {.file = frame.file()},
                            "Rows count from 1 to " + countText(frame.rows()) + ".");
            named[static_cast<std::size_t>(row) - 1] = 1;
        }
        leaveOutIf(frame, [&](std::size_t i) { return named[i] != 0; });
    };
    return kind;
}

StepKind fillMissing() {
    StepKind kind{.name = "fill missing", .title = "Fill missing values", .group = "values"};
    kind.fields = {columnsField({ColumnKind::number, ColumnKind::factor}),
                   choiceField("with", "With", {"median", "mean", "most frequent", "value", "level missing"}),
                   textField("value", "The value", StepValue(std::string())),
                   flagField("indicator", "Add a column that says where it was missing", false)};
    kind.learns = true;
    kind.sentence = [](const Step& step) {
        const std::string& with = step.text("with");
        std::string text = "Fill missing values of " + nameList(step.texts("columns")) + " with ";
        text += with == "value"           ? step.text("value")
                : with == "level missing" ? "the level \"missing\""
                : with == "most frequent" ? "the most frequent value of the learning rows"
                                          : "the " + with + " of the learning rows";
        return text + (step.flag("indicator") ? ", and note where they were" : "");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const std::string& with = step.text("with");
        for (const std::string& name : step.texts("columns")) {
            const Column column = frame.at(name);
            if (step.flag("indicator")) {
                std::vector<double> was(frame.rows());
                for (std::size_t i = 0; i < was.size(); ++i)
                    was[i] = column.isMissing(i);
                frame.add(Column::ofNumbers(name + " was missing", std::move(was)));
            }
            if (column.kind() == ColumnKind::number) {
                const double filler = frame.values().number(name, with, [&]() -> double {
                    if (with == "value") {
                        if (const auto value = parseNumber(step.text("value"), '.')) return *value;
                        throw Error(ErrorCode::badStep, "\"" + step.text("value") + "\" is not a number",
                                    {.column = name}, "Write it with a decimal point.");
                    }
                    if (with == "level missing")
                        throw Error(ErrorCode::badStep, "a number column has no levels", {.column = name},
                                    "Fill it with a number, or change its type to factor first.");
                    std::vector<double> values = frame.learningNumbers(column);
                    if (with == "mean") return summarizeNumbers(values)->mean;
                    if (with == "median") return quantileBySelection(values, 0.5);
                    sortNumbers(values);
                    double best = values[0];
                    std::size_t most = 0;
                    for (std::size_t i = 0; i < values.size();) {
                        std::size_t j = i;
                        while (j < values.size() && values[j] == values[i])
                            ++j;
                        if (j - i > most) {
                            most = j - i;
                            best = values[i];
                        }
                        i = j;
                    }
                    return best;
                });
                std::vector<double> values(column.numbers().begin(), column.numbers().end());
                for (double& value : values)
                    if (std::isnan(value)) value = filler;
                frame.note(name + ": " + plural(column.missingCount(), "value", "values") + " filled with " +
                           shortText(filler));
                frame.put(Column::ofNumbers(name, std::move(values)));
                continue;
            }
            if (column.kind() != ColumnKind::factor)
                throw Error(ErrorCode::wrongType,
                            "a " + std::string(kindName(column.kind())) + " column cannot be filled",
                            {.column = name}, "Change its type first.");
            if (with == "median" || with == "mean")
                throw Error(ErrorCode::wrongType, "a factor has no " + with, {.column = name},
                            "Fill it with its most frequent level or with the level \"missing\".");
            const std::string filler =
                frame.values()
                    .texts(name, with,
                           [&]() -> std::vector<std::string> {
                               if (with == "value") return {step.text("value")};
                               if (with == "level missing") return {"missing"};
                               std::vector<std::size_t> counts(column.levels().size(), 0);
                               for (const auto row : frame.learningRows())
                                   if (!column.isMissing(row))
                                       ++counts[static_cast<std::size_t>(column.codes()[row])];
                               const auto best = std::max_element(counts.begin(), counts.end());
                               if (counts.empty() || *best == 0)
                                   throw Error(ErrorCode::badStep, "all values are missing",
                                               {.column = name});
                               return {column.levels()[static_cast<std::size_t>(best - counts.begin())]};
                           })
                    .front();
            if (filler.empty())
                throw Error(ErrorCode::badStep, "no value to fill with is given", {.column = name},
                            "Type one.");
            std::vector<std::string> levels = column.levels();
            std::int32_t code = column.codeOf(filler);
            if (code < 0) {
                code = static_cast<std::int32_t>(levels.size());
                levels.push_back(filler);
            }
            std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
            for (auto& c : codes)
                if (c < 0) c = code;
            frame.note(name + ": " + plural(column.missingCount(), "value", "values") + " filled with " +
                       filler);
            frame.put(Column::ofFactor(name, std::move(codes), std::move(levels)));
        }
    };
    return kind;
}

} // namespace oxgoad
