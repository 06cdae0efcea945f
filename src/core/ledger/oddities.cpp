#include "base/random.h"
#include "base/text.h"
#include "ledger/ledger.h"
#include "table/dictionary.h"
#include "table/values.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

constexpr std::string_view practice = "common practice, no source";
constexpr std::size_t rareRows = 10;
/// Fewer rows than these say nothing about what is usual.
constexpr std::size_t fewRows = 20;
constexpr std::size_t listedRows = 1000;

Move addStep(std::string label, Step step) {
    Move move{Move::Kind::addStep, std::move(label), {}, 0};
    move.step = std::move(step);
    return move;
}

Move giveRole(std::string label, std::string column, std::string role) {
    Move move{Move::Kind::giveRole, std::move(label), std::move(column), 0};
    move.role = std::move(role);
    return move;
}

Step step(std::string kind, std::map<std::string, StepValue> fields) {
    return {std::move(kind), true, std::move(fields)};
}

using Names = std::vector<std::string>;

class ColumnOddities {
public:
    ColumnOddities(const LedgerInput& input, const Column& column, const ColumnSummary& summary)
        : m_input(input), m_column(column), m_s(summary), m_name(column.name()),
          m_present(summary.rows - summary.missing) {}

    std::vector<Goad> run() {
        misfits();
        if (m_present == 0) {
            add("all missing", Severity::alarm, "All values of " + m_name + " are missing",
                "no value in " + plural(m_s.rows, "row", "rows"), "one value");
            m_goads.back().moves.push_back(giveRole("set " + m_name + " aside", m_name, "set aside"));
            return std::move(m_goads);
        }
        if (m_s.missing > 0) missing();
        if (constant()) return std::move(m_goads);
        if (m_s.kind == ColumnKind::number) {
            sign();
            farOut();
            category();
            skew();
        } else if (m_s.kind == ColumnKind::factor) {
            numbersAsText();
            nearDuplicates();
            rareLevels();
        } else if (m_s.kind == ColumnKind::text) {
            numbersAsText();
        }
        identifier();
        return std::move(m_goads);
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
        goad.moves.push_back({Move::Kind::seeColumn, "see column", m_name, 0});
        m_goads.push_back(std::move(goad));
        return m_goads.back();
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
        if (share > 0.5) goad.moves.push_back(giveRole("set " + m_name + " aside", m_name, "set aside"));
    }

    bool constant() {
        if (m_present < 2) return true;
        if (m_s.distinct == 1) {
            add("constant", Severity::caution, m_name + " has one value only",
                "the same in " + plural(m_present, "row", "rows"), "two values")
                .moves.push_back(giveRole("set " + m_name + " aside", m_name, "set aside"));
            return true;
        }
        if (m_present >= 100 && static_cast<double>(m_s.commonest) >= 0.99 * static_cast<double>(m_present)) {
            const std::size_t other = m_present - m_s.commonest;
            add("almost constant", Severity::caution, m_name + " hardly varies",
                "all but " + plural(other, "row", "rows") + " have the same value",
                "1 % of rows with another value")
                .moves.push_back(giveRole("set " + m_name + " aside", m_name, "set aside"));
        }
        return false;
    }

    void sign() {
        if (m_present < fewRows || m_s.negative == 0) return;
        if (static_cast<double>(m_s.negative) > 0.01 * static_cast<double>(m_present) && m_s.negative > 1)
            return;
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
        Goad& goad = add("sign", Severity::alarm,
                         plural(m_s.negative, "value", "values") + " of " + m_name +
                             (m_s.negative == 1 ? " is" : " are") + " below zero among positive ones",
                         "row " + countText(first + 1) + ": " + shortText(values[first]),
                         "at most 1 % of rows below zero");
        goad.row = first;
        goad.moves.push_back({Move::Kind::seeRow, "see row", {}, first});
        if (pairs.size() <= 20)
            goad.moves.push_back(
                addStep("make it missing", step("replace values", {{"column", m_name}, {"pairs", pairs}})));
        goad.moves.push_back(addStep("leave out these rows",
                                     step("leave out where", {{"condition", quoted(m_name) + " < 0"}})));
    }

    void farOut() {
        if (m_present < fewRows || m_s.farOut == 0) return;
        const NumberSummary& n = *m_s.numbers;
        const double spread = n.upperQuartile - n.lowerQuartile;
        const double low = n.lowerQuartile - 3 * spread;
        const double high = n.upperQuartile + 3 * spread;
        const auto values = m_column.numbers();
        std::vector<std::size_t> rows;
        for (std::size_t i = 0; i < values.size() && rows.size() < 3; ++i)
            if (counts(i) && (values[i] < low || values[i] > high)) rows.push_back(i);
        std::string reading;
        for (const auto row : rows)
            reading +=
                (reading.empty() ? "" : "; ") + ("row " + countText(row + 1)) + ": " + shortText(values[row]);
        if (m_s.farOut > rows.size()) reading += "; …";
        Goad& goad =
            add("far out", Severity::caution,
                plural(m_s.farOut, "value", "values") + " of " + m_name +
                    (m_s.farOut == 1 ? " lies" : " lie") + " far beyond the quartiles",
                reading, "3 quartile spreads beyond, from " + shortText(low) + " to " + shortText(high),
                "Tukey 1977, outer fences");
        goad.row = rows.front();
        goad.moves.push_back({Move::Kind::seeRow, "see row", {}, rows.front()});
        if (m_s.farOut <= 10 && m_name != m_input.response) {
            TextPairs pairs;
            for (std::size_t i = 0; i < values.size(); ++i)
                if (counts(i) && (values[i] < low || values[i] > high))
                    pairs.emplace_back(exactText(values[i]), "");
            std::sort(pairs.begin(), pairs.end());
            pairs.erase(std::unique(pairs.begin(), pairs.end()), pairs.end());
            goad.moves.push_back(addStep(m_s.farOut == 1 ? "make it missing" : "make them missing",
                                         step("replace values", {{"column", m_name}, {"pairs", pairs}})));
        }
        goad.moves.push_back(
            addStep(m_s.farOut == 1 ? "leave out this row" : "leave out these rows",
                    step("leave out beyond fences", {{"columns", Names{m_name}}, {"width", 3.0}})));
        if (n.smallest > 0 && n.skewness > 1) goad.moves.push_back(logMove());
    }

    void skew() {
        const NumberSummary& n = *m_s.numbers;
        if (m_present < fewRows || !(std::fabs(n.skewness) > 2) || m_s.distinct <= 2) return;
        // A few values far out make the skew; they have a goad already.
        if (m_s.farOut > 0 && m_s.farOut * 200 < m_present) return;
        Goad& goad = add("skew", Severity::caution, m_name + " is skewed",
                         "skewness " + readableText(n.skewness, 2), "2 either way");
        if (n.smallest > 0 && n.skewness > 0) goad.moves.push_back(logMove());
    }

    Move logMove() const {
        return addStep("take the logarithm", step("transform", {{"columns", Names{m_name}}}));
    }

    /// A whole number of few values, each in many rows: a code rather than a quantity.
    void category() {
        if (m_s.whole != m_present || m_s.distinct < 3 || m_s.distinct > 12 ||
            m_present < 10 * m_s.distinct || m_name == m_input.response)
            return;
        const bool oneToTwelve = m_s.numbers->smallest == 1 && m_s.numbers->largest == 12;
        Goad& goad = add("code", Severity::caution, m_name + " may be a category",
                         plural(m_s.distinct, "whole number", "whole numbers") + " from " +
                             shortText(m_s.numbers->smallest) + " to " + shortText(m_s.numbers->largest) +
                             (oneToTwelve ? ", as of months" : ""),
                         "at most 12 whole numbers with 10 rows each");
        goad.moves.push_back(
            addStep("take it as a factor",
                    step("change type", {{"columns", Names{m_name}}, {"to", std::string("factor")}})));
    }

    void numbersAsText() {
        std::size_t numbers = 0;
        std::vector<std::string> others;
        auto look = [&](std::string_view text, std::size_t rows) {
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
        if (2 * numbers < m_present || numbers == 0) return;
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

    /// Letters and digits alone, small: "North-East " and "north east" are one.
    static std::string bare(const std::string& level) {
        std::string plain;
        for (const char c : level) {
            if (c >= 'A' && c <= 'Z')
                plain += static_cast<char>(c - 'A' + 'a');
            else if ((c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') ||
                     static_cast<unsigned char>(c) >= 0x80)
                plain += c;
        }
        return plain;
    }

    void nearDuplicates() {
        if (m_s.levels.size() > 20000) return;
        std::map<std::string, std::vector<std::pair<std::size_t, std::string>>> families;
        for (const auto& [level, rows] : m_s.levels)
            if (const std::string plain = bare(level); !plain.empty())
                families[plain].emplace_back(rows, level);
        for (auto& [plain, members] : families) {
            if (members.size() < 2) continue;
            const std::string into = members.front().second; // levels come with the commonest first
            Names levels;
            std::string names;
            for (const auto& [rows, level] : members) {
                levels.push_back(level);
                names += (names.empty() ? "\"" : ", \"") + level + "\" " + countText(rows);
            }
            Goad& goad =
                add("alike levels", Severity::caution,
                    "Levels of " + m_name + " differ only in case, spaces or marks", names, "any two levels");
            goad.key += " = " + into;
            goad.moves.push_back(
                addStep("merge them into \"" + into + "\"",
                        step("merge levels", {{"column", m_name}, {"levels", levels}, {"into", into}})));
        }
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
        if (number && (m_s.whole != m_present || m_s.numbers->largest - m_s.numbers->smallest + 1 >
                                                     1.2 * static_cast<double>(m_present)))
            return;
        add("identifier", Severity::caution, m_name + " looks like an identifier",
            "a value of its own in each of " + plural(m_present, "row", "rows"),
            number ? "whole numbers without gaps" : "no value twice")
            .moves.push_back(giveRole("make it an identifier", m_name, "identifier"));
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
    std::vector<Goad> m_goads;
};

std::uint64_t mixed(std::uint64_t x) {
    x ^= x >> 30U;
    x *= 0xBF58476D1CE4E5B9ULL;
    x ^= x >> 27U;
    x *= 0x94D049BB133111EBULL;
    return x ^ (x >> 31U);
}

void duplicateRows(const LedgerInput& input, Threads threads, Progress& progress, std::vector<Goad>& goads) {
    const Table& table = input.table;
    const std::size_t n = table.rows();
    if (n < 2 || table.columns().size() < 2) return;
    std::vector<std::uint64_t> hash(n, 0);
    constexpr std::size_t block = 16384;
    parallelFor((n + block - 1) / block, threads, [&](std::size_t b) {
        progress.checkpoint(0.5, "Looking for equal rows");
        const std::size_t first = b * block;
        const std::size_t last = std::min(n, first + block);
        for (const Column& column : table.columns()) {
            if (column.kind() == ColumnKind::number) {
                const auto values = column.numbers();
                for (std::size_t i = first; i < last; ++i)
                    hash[i] = mixed(hash[i] * 31 +
                                    (std::isnan(values[i]) ? 1 : std::bit_cast<std::uint64_t>(values[i])));
            } else if (column.kind() == ColumnKind::text) {
                for (std::size_t i = first; i < last; ++i)
                    hash[i] = mixed(hash[i] * 31 + std::hash<std::string_view>{}(column.text(i)));
            } else {
                const auto values = column.kind() == ColumnKind::factor ? column.codes() : column.days();
                for (std::size_t i = first; i < last; ++i)
                    hash[i] = mixed(hash[i] * 31 + static_cast<std::uint32_t>(values[i]));
            }
        }
    });
    // Equal hashes are candidates; the rows themselves decide.
    std::vector<std::pair<std::uint64_t, std::uint32_t>> order;
    order.reserve(n);
    for (std::size_t i = 0; i < n; ++i)
        if (input.used.empty() || input.used[i] != 0)
            order.emplace_back(hash[i], static_cast<std::uint32_t>(i));
    std::sort(order.begin(), order.end());
    auto equal = [&](std::size_t a, std::size_t b) {
        return std::all_of(table.columns().begin(), table.columns().end(),
                           [&](const Column& c) { return c.cellText(a) == c.cellText(b); });
    };
    std::vector<std::size_t> again;
    std::size_t firstOf = 0, example = 0;
    for (std::size_t i = 1; i < order.size(); ++i) {
        if (order[i].first != order[firstOf].first) {
            firstOf = i;
        } else if (equal(order[firstOf].second, order[i].second)) {
            if (again.empty()) example = order[firstOf].second;
            again.push_back(order[i].second);
        }
    }
    if (again.empty()) return;
    const std::size_t exampleAgain = again.front();
    std::sort(again.begin(), again.end());
    Goad goad;
    goad.key = "duplicate rows";
    goad.title = plural(again.size(), "row equals", "rows equal") + " a row before in every column";
    goad.reading = "row " + countText(exampleAgain + 1) + " is row " + countText(example + 1) + " again" +
                   (again.size() > 1 ? "; …" : "");
    goad.threshold = "any row";
    goad.source = practice;
    goad.station = "data";
    goad.row = exampleAgain;
    goad.moves.push_back({Move::Kind::seeRow, "see row", {}, exampleAgain});
    if (again.size() <= listedRows) {
        std::vector<double> rows;
        for (const auto row : again)
            rows.push_back(static_cast<double>(row + 1));
        goad.moves.push_back(addStep(
            again.size() == 1 ? "leave it out" : "leave them out",
            step("leave out rows", {{"rows", rows}, {"reason", std::string("equal to a row before")}})));
    }
    goads.push_back(std::move(goad));
}

/// Numbers of two sources whose middle nine tenths barely overlap.
void distantSources(const LedgerInput& input, Progress& progress, std::vector<Goad>& goads) {
    const Column* origin = input.originColumn.empty() ? nullptr : input.table.find(input.originColumn);
    if (!origin || origin->kind() != ColumnKind::factor || origin->levels().size() < 2 ||
        origin->levels().size() > 100)
        return;
    for (const Column& column : input.table.columns()) {
        if (column.kind() != ColumnKind::number || input.quiet.contains(column.name())) continue;
        progress.checkpoint(0.8, "Comparing sources");
        std::vector<std::vector<double>> values(origin->levels().size());
        for (std::size_t i = 0; i < column.size(); ++i)
            if ((input.used.empty() || input.used[i] != 0) && origin->codes()[i] >= 0 && !column.isMissing(i))
                values[static_cast<std::size_t>(origin->codes()[i])].push_back(column.numbers()[i]);
        struct Range {
            std::size_t source;
            double low, high;
        };
        std::vector<Range> ranges;
        for (std::size_t s = 0; s < values.size(); ++s) {
            if (values[s].size() < fewRows) continue;
            sortNumbers(values[s]);
            ranges.push_back({s, quantileOfSorted(values[s], 0.05), quantileOfSorted(values[s], 0.95)});
        }
        for (std::size_t a = 0; a + 1 < ranges.size(); ++a) {
            const Range& x = ranges[a];
            const Range& y = ranges[a + 1];
            const double overlap = std::min(x.high, y.high) - std::max(x.low, y.low);
            const double narrower = std::min(x.high - x.low, y.high - y.low);
            if (narrower <= 0 || overlap > 0.1 * narrower) continue;
            Goad goad;
            goad.key = "distant sources: " + column.name();
            goad.severity = Severity::alarm;
            goad.title = column.name() + " lies elsewhere in " + origin->levels()[y.source] + " than in " +
                         origin->levels()[x.source];
            goad.reading = readableText(x.low) + " to " + readableText(x.high) + " against " +
                           readableText(y.low) + " to " + readableText(y.high);
            goad.threshold = "the middle 90 % overlap by a tenth";
            goad.source = practice;
            goad.station = "data";
            goad.column = column.name();
            goad.moves.push_back({Move::Kind::seeColumn, "see column", column.name(), 0});
            goads.push_back(std::move(goad));
            break;
        }
    }
}

} // namespace

std::vector<Goad> columnGoads(const LedgerInput& input, const Column& column, const ColumnSummary& summary) {
    return ColumnOddities(input, column, summary).run();
}

std::vector<Goad> tableGoads(const LedgerInput& input, Threads threads, Progress& progress) {
    std::vector<Goad> goads;
    duplicateRows(input, threads, progress, goads);
    distantSources(input, progress, goads);
    return goads;
}

} // namespace oxgoad
