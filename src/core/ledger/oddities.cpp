#include "base/text.h"
#include "ledger/judging.h"
#include "ledger/ledger.h"
#include "recipe/recipe_edits.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

constexpr std::string_view apartSource =
    "Rényi 1953, Hill 1975: spacings of a tail; Tukey 1977, outer fences";
constexpr std::size_t rareRows = 10;

Step step(std::string kind, std::map<std::string, StepValue> fields) {
    return {std::move(kind), true, std::move(fields)};
}

using Names = std::vector<std::string>;

class ColumnOddities {
public:
    ColumnOddities(const LedgerInput& input, const Column& column, LedgerLine& line)
        : m_input(input), m_column(column), m_s(line.summary), m_name(column.name()),
          m_present(m_s.rows - m_s.missing), m_goads(line.goads), m_remarks(line.remarks) {}

    void run() {
        misfits();
        if (m_present == 0) {
            add("all missing", Severity::alarm, "All values of " + m_name + " are missing",
                "no value in " + plural(m_s.rows, "row", "rows"), "one value");
            m_goads.back().moves.push_back(giveRole("set " + m_name + " aside", m_name, Role::setAside));
            return;
        }
        if (m_s.missing > 0) missing();
        if (constant()) return;
        if (m_s.moments) {
            apart(false);
            return;
        }
        if (m_s.kind == ColumnKind::number) {
            apart(sign());
            category();
            zeros();
            heapAtTheEnd();
            shape();
        } else if (m_s.kind == ColumnKind::date) {
            apart(false);
        } else if (m_s.kind == ColumnKind::factor) {
            numbersAsText();
            nearDuplicates();
            rareLevels();
        } else if (m_s.kind == ColumnKind::text) {
            numbersAsText();
        }
        identifier();
    }

private:
    Goad& add(const std::string& kind, Severity severity, std::string title, std::string reading,
              std::string threshold, std::string_view source = practice) {
        Goad goad;
        goad.key = kind + ": " + m_name;
        goad.severity = severity;
        goad.title = std::move(title);
        goad.reading = std::move(reading);
        goad.threshold = std::move(threshold);
        goad.source = source;
        goad.station = "data";
        goad.column = m_name;
        goad.moves.push_back(seeColumn());
        m_goads.push_back(std::move(goad));
        return m_goads.back();
    }

    /// A goad nobody is asked to answer.
    Goad& remark(const std::string& kind, std::string title, std::string reading, std::string threshold,
                 std::string_view source = practice) {
        Goad& goad =
            add(kind, Severity::caution, std::move(title), std::move(reading), std::move(threshold), source);
        m_remarks.push_back(std::move(goad));
        m_goads.pop_back();
        return m_remarks.back();
    }

    bool counts(std::size_t row) const { return m_input.used.empty() || m_input.used[row] != 0; }

    void misfits() {
        const auto found = std::find_if(m_input.misfits.begin(), m_input.misfits.end(),
                                        [&](const auto& m) { return m.first == m_name; });
        if (found == m_input.misfits.end()) return;
        std::string cells;
        if (const auto texts = m_input.misfitTexts.find(m_name); texts != m_input.misfitTexts.end())
            for (const std::string& text : texts->second)
                cells += (cells.empty() ? "" : ", ") + ("\"" + text + "\"");
        add("unreadable cells", Severity::caution,
            plural(found->second, "cell", "cells") + " of " + m_name + " could not be read",
            (cells.empty() ? "" : cells + "; ") + "taken as missing", "any cell");
    }

    void missing() {
        const double share = static_cast<double>(m_s.missing) / static_cast<double>(m_s.rows);
        Goad& goad = add("missing", share > 0.05 ? Severity::alarm : Severity::caution,
                         plural(m_s.missing, "value", "values") + " of " + m_name +
                             (m_s.missing == 1 ? " is" : " are") + " missing",
                         readableText(100 * share, 2) + " % of rows", "any value; grave above 5 % of rows");
        goad.size = share;
        if (m_name != m_input.response) {
            if (m_s.kind == ColumnKind::number)
                goad.moves.push_back(
                    addStep("fill with the median", step("fill missing", {{"columns", Names{m_name}}})));
            if (m_s.kind == ColumnKind::factor) {
                goad.moves.push_back(addStep("make it the level \"missing\"",
                                             step("fill missing", {{"columns", Names{m_name}},
                                                                   {"with", std::string("level missing")}})));
            }
        }
        goad.moves.push_back(
            addStep("leave out these rows", step("leave out missing", {{"columns", Names{m_name}}})));
        if (share > 0.5) goad.moves.push_back(giveRole("set " + m_name + " aside", m_name, Role::setAside));
    }

    bool constant() {
        if (m_present < 2) return true;
        if (m_s.distinct == 1) {
            add("constant", Severity::caution, m_name + " has one value only",
                "the same in " + plural(m_present, "row", "rows"), "two values")
                .moves.push_back(giveRole("set " + m_name + " aside", m_name, Role::setAside));
            return true;
        }
        if (m_present >= 100 && static_cast<double>(m_s.commonest) >= 0.99 * static_cast<double>(m_present)) {
            const std::size_t other = m_present - m_s.commonest;
            add("almost constant", Severity::caution, m_name + " hardly varies",
                "all but " + plural(other, "row", "rows") + " have the same value",
                "1 % of rows with another value")
                .moves.push_back(giveRole("set " + m_name + " aside", m_name, Role::setAside));
        }
        return false;
    }

    /// Values below zero that stand apart from positive ones. True when the goad is there.
    bool sign() {
        const bool apartBelowZero = m_s.apartLow.count > 0 && m_s.apartLow.nearest < 0;
        if (m_s.negative == 0 || !(m_s.signChance < apartChance || apartBelowZero)) return false;
        if (m_s.negative > 1 && static_cast<double>(m_s.negative) > 0.01 * static_cast<double>(m_present))
            return false;
        std::size_t first = 0;
        TextPairs pairs;
        const auto values = m_column.numbers();
        for (std::size_t i = 0; i < values.size(); ++i) {
            if (!counts(i) || !(values[i] < 0)) continue;
            if (pairs.empty()) first = i;
            const std::string text = exactText(values[i]);
            if (std::none_of(pairs.begin(), pairs.end(), [&](const auto& p) { return p.first == text; }))
                pairs.emplace_back(text, "");
        }
        Goad& goad = add(
            "sign", Severity::alarm,
            plural(m_s.negative, "value", "values") + " of " + m_name + (m_s.negative == 1 ? " is" : " are") +
                " below zero among positive ones",
            "row " + countText(first + 1) + ": " + shortText(values[first]),
            "one value, or at most 1 % of rows, below zero, with a gap that chance makes once in 200 columns",
            apartSource);
        goad.row = first;
        goad.moves.push_back(seeRow(first));
        if (pairs.size() <= 20)
            goad.moves.push_back(
                addStep("make it missing", step("replace values", {{"column", m_name}, {"pairs", pairs}})));
        goad.moves.push_back(addStep("leave out these rows",
                                     step("leave out where", {{"condition", quoted(m_name) + " < 0"}})));
        return true;
    }

    double lowFence() const {
        const NumberSummary& n = *m_s.numbers;
        return n.lowerQuartile - 3 * (n.upperQuartile - n.lowerQuartile);
    }
    double highFence() const {
        const NumberSummary& n = *m_s.numbers;
        return n.upperQuartile + 3 * (n.upperQuartile - n.lowerQuartile);
    }

    std::string valueText(double value) const {
        const std::string day = calendarText(m_s, value);
        return day.empty() ? shortText(value) : day;
    }

    /// Values that stand apart at an end and lie beyond the outer fence there.
    void apart(bool signIsTold) {
        if (!m_s.numbers) return;
        const bool low = !signIsTold && m_s.apartLow.count > 0 && m_s.apartLow.nearest < lowFence();
        const bool high = m_s.apartHigh.count > 0 && m_s.apartHigh.nearest > highFence();
        if (!low && !high) return;
        const std::size_t count = (low ? m_s.apartLow.count : 0) + (high ? m_s.apartHigh.count : 0);
        std::vector<std::size_t> rows;
        for (std::size_t i = 0; i < m_column.size(); ++i) {
            if (!counts(i) || m_column.isMissing(i)) continue;
            const double value = m_column.asNumber(i);
            if ((low && value <= m_s.apartLow.nearest) || (high && value >= m_s.apartHigh.nearest))
                rows.push_back(i);
        }
        std::string reading;
        for (std::size_t i = 0; i < std::min<std::size_t>(3, rows.size()); ++i)
            reading += (reading.empty() ? "row " : "; row ") + countText(rows[i] + 1) + ": " +
                       valueText(m_column.asNumber(rows[i]));
        if (rows.size() > 3) reading += "; …";
        const double p = std::min(low ? m_s.apartLow.p : 1, high ? m_s.apartHigh.p : 1);
        Goad& goad = add("far out", Severity::caution,
                         plural(count, "value", "values") + " of " + m_name +
                             (count == 1 ? " lies" : " lie") + " far beyond the others",
                         reading + "; p " + probabilityText(p),
                         "a gap in the tail that chance makes once in " +
                             countText(static_cast<std::size_t>(std::llround(1 / apartChance))) +
                             " columns at most, beyond " + valueText(std::round(lowFence())) + " to " +
                             valueText(std::round(highFence())),
                         apartSource);
        goad.row = rows.front();
        goad.moves.push_back(seeRow(rows.front()));
        if (m_s.kind == ColumnKind::number && count <= 10 && m_name != m_input.response) {
            TextPairs pairs;
            for (const std::size_t row : rows)
                pairs.emplace_back(exactText(m_column.numbers()[row]), "");
            std::sort(pairs.begin(), pairs.end());
            pairs.erase(std::unique(pairs.begin(), pairs.end()), pairs.end());
            goad.moves.push_back(addStep(count == 1 ? "make it missing" : "make them missing",
                                         step("replace values", {{"column", m_name}, {"pairs", pairs}})));
        }
        constexpr std::size_t listedRows = 1000;
        if (rows.size() <= listedRows) {
            std::vector<double> numbers;
            for (const std::size_t row : rows)
                numbers.push_back(static_cast<double>(row + 1));
            goad.moves.push_back(addStep(
                count == 1 ? "leave out this row" : "leave out these rows",
                step("leave out rows", {{"rows", numbers}, {"reason", m_name + " far beyond the others"}})));
        }
    }

    /// A skew or long tails: one remark, whichever says more.
    void shape() {
        const NumberSummary& n = *m_s.numbers;
        if (m_present < fewRows || m_s.distinct <= 2) return;
        const std::string beyond =
            m_s.farOut == 0 ? ""
                            : plural(m_s.farOut, "value", "values") + " beyond the outer fences, " +
                                  valueText(lowFence()) + " and " + valueText(highFence());
        if (std::fabs(n.skewness) > 2) {
            Goad& goad =
                remark("skew", m_name + " is skewed",
                       "skewness " + readableText(n.skewness, 2) + (beyond.empty() ? "" : "; " + beyond),
                       "2 either way");
            if (n.smallest > 0 && n.skewness > 0) goad.moves.push_back(logMove());
        } else if (!beyond.empty()) {
            remark("long tails", m_name + " has long tails", beyond, "any value beyond 3 quartile spreads",
                   "Tukey 1977, outer fences");
        }
    }

    void zeros() {
        if (m_s.distinct <= 2 || 5 * m_s.zeros < m_present || m_present < fewRows ||
            m_s.zeros < m_s.commonest || m_s.whole == m_present)
            return;
        remark(
            "zeros", m_name + " is 0 in many rows",
            percentText(std::round(100.0 * static_cast<double>(m_s.zeros) / static_cast<double>(m_present)) /
                        100) +
                " of rows",
            "a fifth of rows");
    }

    /// A response with many equal values at its largest was cut there: what it would have been is not known.
    void heapAtTheEnd() {
        constexpr std::size_t fewest = 5, fewValues = 20, wide = 5;
        if (m_name != m_input.response || m_s.distinct < fewValues) return;
        const double largest = m_s.numbers->largest;
        const double near = largest - 0.02 * (largest - m_s.numbers->smallest);
        std::size_t heap = 0, beside = 0;
        const auto values = m_column.numbers();
        for (std::size_t i = 0; i < values.size(); ++i) {
            if (!counts(i)) continue;
            heap += values[i] == largest;
            beside += values[i] < largest && values[i] >= near;
        }
        if (heap < fewest || 100 * heap < m_present || heap < wide * beside) return;
        Goad& goad = add(
            "heap at the largest", Severity::caution,
            plural(heap, "row has", "rows have") + " the same largest " + m_name + ", " + valueText(largest),
            percentText(std::round(1000.0 * static_cast<double>(heap) / static_cast<double>(m_present)) /
                        1000) +
                " of rows; values seem to be cut off there, so that predictions of large ones are pulled "
                "down and their errors are not what they look like",
            "five rows, 1 % of rows, and five times as many as just below", "Tobin 1958, Econometrica 26");
        goad.tells = Tells::form;
        goad.moves.push_back(
            addStep("leave them out",
                    step("leave out where", {{"condition", quoted(m_name) + " >= " + exactText(largest)},
                                             {"reason", std::string("cut off at the largest value")}})));
    }

    Move logMove() const {
        return addStep("take the logarithm", step("transform", {{"columns", Names{m_name}}}));
    }

    /// Whole numbers of few values, each in many rows: a code or a score rather than a quantity.
    void category() {
        if (m_s.whole != m_present || m_s.distinct < 3 || m_s.distinct > 12 || m_s.rarest < rareRows ||
            m_name == m_input.response)
            return;
        const bool oneToTwelve = m_s.numbers->smallest == 1 && m_s.numbers->largest == 12;
        Goad& goad = remark("code", m_name + " may be a category",
                            plural(m_s.distinct, "whole number", "whole numbers") + " from " +
                                shortText(m_s.numbers->smallest) + " to " + shortText(m_s.numbers->largest) +
                                (oneToTwelve ? ", as of months" : ""),
                            "at most 12 whole numbers, each in 10 rows at least");
        goad.moves.push_back(
            addStep("take it as a factor",
                    step("change type", {{"columns", Names{m_name}}, {"to", std::string("factor")}})));
    }

    void numbersAsText() {
        std::size_t numbers = 0, codes = 0;
        std::vector<std::string> others;
        auto look = [&](std::string_view text, std::size_t rows) {
            if (writtenAsCode(text)) codes += rows;
            if (parseDressedNumber(text, {}))
                numbers += rows;
            else if (others.size() < 5)
                others.emplace_back(text);
        };
        if (m_s.kind == ColumnKind::factor) {
            for (const auto& [level, rows] : m_s.levels)
                look(level, rows);
        } else {
            const std::size_t stride = std::max<std::size_t>(1, m_column.size() / 5000);
            std::size_t seen = 0;
            for (std::size_t i = 0; i < m_column.size(); i += stride)
                if (counts(i) && !m_column.isMissing(i)) {
                    ++seen;
                    look(m_column.text(i), 1);
                }
            if (seen > 0) numbers = numbers * m_present / seen;
        }
        // Codes are texts on purpose; the reader has said so.
        if (2 * numbers < m_present || numbers == 0 || 50 * codes >= m_present) return;
        if (others.empty() && m_s.kind == ColumnKind::factor) return; // codes somebody asked for as a factor
        Goad& goad =
            others.empty()
                ? add("number as text", Severity::alarm, m_name + " holds numbers and is a column of text",
                      "all cells looked at could be read as numbers, perhaps with other decimal marks",
                      "half of the cells")
                : add("number as text", Severity::alarm,
                      m_name + " would be a number but for " + plural(m_present - numbers, "cell", "cells"),
                      "such as \"" + others.front() + "\"", "half of the cells");
        goad.moves.push_back(
            addStep("take it as a number",
                    step("change type", {{"columns", Names{m_name}}, {"to", std::string("number")}})));
    }

    void nearDuplicates() {
        if (m_s.levels.size() > 20000) return;
        std::map<std::string, std::vector<std::pair<std::size_t, std::string>>> families;
        for (const auto& [level, rows] : m_s.levels)
            if (const std::string plain = bareLevel(level); !plain.empty())
                families[plain].emplace_back(rows, level);
        std::erase_if(families, [](const auto& family) { return family.second.size() < 2; });
        if (families.empty()) return;
        std::vector<Step> merges;
        std::string names, into;
        constexpr std::size_t named = 3;
        for (const auto& [plain, members] : families) {
            into = members.front().second; // levels come with the commonest first
            Names levels;
            if (merges.size() < named && !merges.empty()) names += "; ";
            for (std::size_t k = 0; k < members.size(); ++k) {
                levels.push_back(members[k].second);
                if (merges.size() < named)
                    names +=
                        (k > 0 ? ", \"" : "\"") + members[k].second + "\" " + countText(members[k].first);
            }
            merges.push_back(step("merge levels", {{"column", m_name}, {"levels", levels}, {"into", into}}));
        }
        const bool one = merges.size() == 1;
        if (merges.size() > named) names += "; …";
        Goad& goad = add("alike levels", Severity::caution,
                         one ? "Levels of " + m_name + " differ only in case, spaces or marks"
                             : countText(merges.size()) + " sets of levels of " + m_name +
                                   " differ only in case, spaces or marks",
                         names, "any two levels");
        if (one) goad.key += " = " + into;
        goad.moves.push_back({.label = one ? "merge them into \"" + into + "\"" : "merge each set",
                              .edit = [merges](Recipe& recipe, const std::string&) {
                                  recipe.steps.insert(recipe.steps.end(), merges.begin(), merges.end());
                              }});
    }

    void rareLevels() {
        std::size_t rare = 0, rows = 0;
        std::string names;
        for (const auto& [level, count] : m_s.levels) {
            if (count >= rareRows) continue;
            if (rare++ < 3) names += (names.empty() ? "" : ", ") + level + " " + countText(count);
            rows += count;
        }
        if (rare == 0 || m_present < fewRows || rare * 2 > m_s.levels.size() + rare) return;
        Goad& goad = add("rare levels", Severity::caution,
                         rare == 1 ? "One level of " + m_name + " has few rows"
                                   : plural(rare, "level", "levels") + " of " + m_name + " have few rows",
                         names + (rare > 3 ? ", …" : "") + "; " + plural(rows, "row", "rows") + " in all",
                         "10 rows a level");
        if (rare > 1)
            goad.moves.push_back(
                addStep("lump them into \"other\"", step("lump rare levels", {{"columns", Names{m_name}}})));
        if (rare == 1) {
            const std::string& level = m_s.levels.back().first;
            if (level.find('"') == std::string::npos)
                goad.moves.push_back(addStep(
                    "leave out these rows",
                    step("leave out where", {{"condition", quoted(m_name) + " = \"" + level + "\""}})));
        }
    }

    void identifier() {
        if (m_present < fewRows || m_s.distinct != m_present || m_name == m_input.response) return;
        const bool number = m_s.kind == ColumnKind::number;
        if (m_s.kind == ColumnKind::date) return;
        if (number) {
            if (m_s.whole != m_present ||
                m_s.numbers->largest - m_s.numbers->smallest + 1 != static_cast<double>(m_present))
                return;
            if (m_s.numbers->smallest >= 1500 && m_s.numbers->largest < 2200) return; // years
        }
        add("identifier", Severity::caution, m_name + " looks like an identifier",
            "a value of its own in each of " + plural(m_present, "row", "rows") +
                (number
                     ? std::string()
                     : "; as a factor it would take " + plural(m_present - 1, "coefficient", "coefficients") +
                           ", fit every row by itself and leave none to judge by"),
            number ? "whole numbers without gaps" : "no value twice")
            .moves.push_back(giveRole("make it an identifier", m_name, Role::identifier));
    }

    /// The name as expressions want it.
    static std::string quoted(const std::string& name) {
        const bool plain = std::all_of(name.begin(), name.end(), [](char c) {
            return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
        });
        return plain && !name.empty() && !(name[0] >= '0' && name[0] <= '9') && name != "and" &&
                       name != "or" && name != "not"
                   ? name
                   : "{" + name + "}";
    }

    const LedgerInput& m_input;
    const Column& m_column;
    const ColumnSummary& m_s;
    const std::string& m_name;
    std::size_t m_present;
    std::vector<Goad>& m_goads;
    std::vector<Goad>& m_remarks;
};

} // namespace

void judgeColumn(const LedgerInput& input, const Column& column, LedgerLine& line) {
    ColumnOddities(input, column, line).run();
}

} // namespace oxgoad
