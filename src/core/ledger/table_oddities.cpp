#include "base/sort.h"
#include "base/text.h"
#include "ledger/judging.h"
#include "ledger/ledger.h"
#include "recipe/recipe_edits.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t listedRows = 1000;

std::uint64_t mixed(std::uint64_t x) {
    x ^= x >> 30U;
    x *= 0xBF58476D1CE4E5B9ULL;
    x ^= x >> 27U;
    x *= 0x94D049BB133111EBULL;
    return x ^ (x >> 31U);
}

/// The chance of `pairs` equal pairs of rows or more when columns are independent and each takes its values
/// as often as it does: the number of pairs is about Poisson (Arratia, Goldstein and Gordon 1989, "Two
/// moments suffice for Poisson approximations"). Columns that go together make more, so three times the mean
/// is granted. A column in which no value comes again but in the rows that are equal as a whole makes any
/// such row odd.
double chanceOfPairs(const Ledger& ledger, std::size_t rows, double pairs, std::size_t again) {
    double mean = 3 * 0.5 * static_cast<double>(rows) * (static_cast<double>(rows) - 1);
    for (const LedgerLine& line : ledger.columns) {
        const ColumnSummary& s = line.summary;
        const bool onlyThere = s.missing < 2 && s.rows - s.missing - s.distinct <= again;
        mean *= onlyThere ? 0 : s.sameShare;
    }
    if (pairs <= mean) return 1;
    // Upper bound of the tail (Chernoff): exp(pairs − mean) (mean / pairs)^pairs.
    return mean > 0 ? std::exp(pairs - mean + pairs * std::log(mean / pairs)) : 0;
}

void duplicateRows(const LedgerInput& input, Threads threads, Progress& progress, Ledger& ledger) {
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
    sortUnlessStopped(order, progress);
    auto equal = [&](std::size_t a, std::size_t b) {
        return std::all_of(table.columns().begin(), table.columns().end(),
                           [&](const Column& c) { return c.cellText(a) == c.cellText(b); });
    };
    std::vector<std::size_t> again;
    std::size_t firstOf = 0, example = 0, inRun = 1;
    double pairs = 0;
    for (std::size_t i = 1; i < order.size(); ++i) {
        if (i % block == 0) stopIfTold(progress);
        if (order[i].first != order[firstOf].first) {
            firstOf = i;
            inRun = 1;
        } else if (equal(order[firstOf].second, order[i].second)) {
            if (again.empty()) example = order[firstOf].second;
            again.push_back(order[i].second);
            pairs += static_cast<double>(inRun++);
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
    constexpr double chance = 0.001;
    const double p = chanceOfPairs(ledger, order.size(), pairs, again.size());
    goad.threshold = "more than columns of so few values bring by themselves, p 0.001";
    goad.source = practice;
    goad.station = "data";
    goad.row = exampleAgain;
    goad.moves.push_back(seeRow(exampleAgain));
    if (again.size() <= listedRows) {
        std::vector<double> rows;
        for (const auto row : again)
            rows.push_back(static_cast<double>(row + 1));
        goad.moves.push_back(addStep(
            again.size() == 1 ? "leave it out" : "leave them out",
            Step{
                "leave out rows", true, {{"rows", rows}, {"reason", std::string("equal to a row before")}}}));
    }
    (p < chance ? ledger.table : ledger.tableRemarks).push_back(std::move(goad));
}

Goad totalsGoad(const std::string& reading, const std::vector<double>& rows) {
    Goad goad;
    goad.key = "rows of totals";
    goad.severity = Severity::alarm;
    goad.title = plural(rows.size(), "row looks", "rows look") + " like totals of the others";
    goad.reading = reading;
    goad.threshold = "any";
    goad.source = practice;
    goad.station = "data";
    goad.row = static_cast<std::size_t>(rows.front()) - 1;
    goad.moves.push_back(seeRow(*goad.row));
    if (rows.size() <= listedRows)
        goad.moves.push_back(addStep(
            rows.size() == 1 ? "leave it out" : "leave them out",
            Step{"leave out rows", true, {{"rows", rows}, {"reason", std::string("a row of totals")}}}));
    return goad;
}

/// Words that name a row of totals in the languages that exports come in (common practice, no source).
constexpr std::array<std::string_view, 31> totalWords{
    "total",         "totals",   "grand total", "subtotal",      "sub-total", "sub total", "sum",
    "gesamt",        "summe",    "gesamtsumme", "zwischensumme", "insgesamt", "somme",     "sous-total",
    "total général", "suma",     "totales",     "totale",        "totaal",    "subtotaal", "totalt",
    "sammanlagt",    "yhteensä", "razem",       "ogółem",        "celkem",    "összesen",  "итого",
    "всего",         "合計",     "总计"};

enum class NamesTotal { no, maybe, yes };

/// "Total", "Total:"; "Total North" and "North total" may be names like others.
NamesTotal namesTotal(std::string_view text) {
    constexpr std::size_t longest = 60;
    if (text.size() > longest) return NamesTotal::no;
    const std::string lower = foldedCase(std::string(text));
    for (const std::string_view word : totalWords)
        if (lower == word || lower == std::string(word) + ":") return NamesTotal::yes;
    for (const std::string_view word : totalWords) {
        if (lower.starts_with(word) &&
            std::string_view(" :-–").find(lower[word.size()]) != std::string_view::npos && word != "sum" &&
            word != "suma" && word != "somme")
            return NamesTotal::maybe;
        if (lower.ends_with(" total") || lower.ends_with(" subtotal")) return NamesTotal::maybe;
    }
    return NamesTotal::no;
}

/// Number columns in which the value of a row is the sum of those above it, as far as rounding lets it: of
/// all (at least three), or of the last ones, at least two, in as many rows in each column.
std::size_t sumsAbove(const LedgerInput& input, std::size_t row, std::size_t& compared, bool ofSome = false) {
    std::size_t equal = 0;
    compared = 0;
    for (const Column& column : input.table.columns()) {
        if (column.kind() != ColumnKind::number || column.moments() || column.isMissing(row)) continue;
        long double sum = 0;
        std::size_t terms = 0;
        double size = 0;
        bool someEqual = false;
        constexpr std::size_t mostSummed = 1000;
        for (std::size_t i = row; ofSome && i-- > 0 && terms < mostSummed && !someEqual;) {
            const double value = column.numbers()[i];
            if (std::isnan(value)) continue;
            sum += value;
            size = std::max(size, std::fabs(value));
            terms += value != 0;
            someEqual = terms > 1 && std::fabs(static_cast<double>(sum) - column.numbers()[row]) <=
                                         1e-9 * size * static_cast<double>(terms);
        }
        if (ofSome) {
            ++compared;
            equal += someEqual && column.numbers()[row] != 0;
            continue;
        }
        for (std::size_t i = 0; i < row; ++i) {
            const double value = column.numbers()[i];
            if (std::isnan(value) || (!input.used.empty() && input.used[i] == 0)) continue;
            sum += value;
            size = std::max(size, std::fabs(value));
            terms += value != 0;
        }
        if (terms < 3) continue;
        ++compared;
        const double rounding =
            1e-9 * size * static_cast<double>(terms) + 0.005 * std::sqrt(static_cast<double>(terms));
        equal += std::fabs(static_cast<double>(sum) - column.numbers()[row]) <= rounding;
    }
    return equal;
}

/// Rows of totals among the others: by what a text says, or because the last row is the sum of those above.
void totalRows(const LedgerInput& input, Progress& progress, Ledger& ledger) {
    const Table& table = input.table;
    for (const Column& column : table.columns()) {
        stopIfTold(progress);
        if (column.kind() != ColumnKind::factor && column.kind() != ColumnKind::text) continue;
        std::vector<NamesTotal> total;
        for (const std::string& level : column.levels())
            total.push_back(namesTotal(level));
        std::vector<double> rows;
        std::string example;
        for (std::size_t i = 0; i < table.rows(); ++i) {
            if ((!input.used.empty() && input.used[i] == 0) || column.isMissing(i)) continue;
            const NamesTotal found = column.kind() == ColumnKind::factor
                                         ? total[static_cast<std::size_t>(column.codes()[i])]
                                         : namesTotal(column.text(i));
            if (found == NamesTotal::no) continue;
            if (std::size_t compared = 0; found == NamesTotal::maybe) {
                const std::size_t equal = sumsAbove(input, i, compared, true);
                if (equal == 0 || 2 * equal < compared) continue;
            }
            if (rows.empty()) example = column.cellText(i);
            rows.push_back(static_cast<double>(i + 1));
        }
        // A level that stands in a tenth of the rows is a level.
        if (rows.empty() || 10 * rows.size() > table.rows() + 9) continue;
        ledger.table.push_back(totalsGoad(column.name() + " says \"" + example + "\"", rows));
        return;
    }
    if (table.rows() < 4) return;
    // A line of remarks may stand below it.
    const auto hasNumber = [&](std::size_t row) {
        return std::any_of(table.columns().begin(), table.columns().end(), [row](const Column& c) {
            return c.kind() == ColumnKind::number && !c.moments() && !c.isMissing(row);
        });
    };
    std::size_t last = table.rows() - 1;
    for (int below = 0; below < 3 && last > 3 && !hasNumber(last); ++below)
        --last;
    if (!input.used.empty() && input.used[last] == 0) return;
    std::size_t compared = 0;
    const std::size_t equal = sumsAbove(input, last, compared);
    if (equal > 0 && 2 * equal >= compared && (equal > 1 || compared == 1))
        ledger.table.push_back(totalsGoad("the last row is the sum of those above it in " +
                                              plural(equal, "column", "columns") + " of " +
                                              countText(compared),
                                          {static_cast<double>(last + 1)}));
}

/// The middle nine tenths of a column in one source.
struct SourceRange {
    std::size_t source;
    double low, high;
    double width() const { return high - low; }
};

/// How far apart two ranges are, in widths of the narrower; below 0.9 they overlap by more than a tenth.
/// Ranges without width are apart when one value is ten times the other or more, or lies outside the other
/// range by more than its width.
double distanceOf(const SourceRange& x, const SourceRange& y) {
    const double overlap = std::min(x.high, y.high) - std::max(x.low, y.low);
    const double narrower = std::min(x.width(), y.width()), wider = std::max(x.width(), y.width());
    if (narrower > 0) return 1 - overlap / narrower;
    if (overlap >= 0) return 0;
    if (wider > 0) return -overlap > wider ? 1 - overlap / wider : 0;
    const double small = std::min(std::fabs(x.low), std::fabs(y.low)),
                 large = std::max(std::fabs(x.low), std::fabs(y.low));
    return small > 0 && large >= 10 * small ? large / small : 0;
}

/// Numbers of two sources whose middle nine tenths barely overlap: of all pairs, the two farthest apart.
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
        std::vector<SourceRange> ranges;
        for (std::size_t s = 0; s < values.size(); ++s) {
            if (values[s].size() < fewRows) continue;
            sortNumbers(values[s]);
            ranges.push_back({s, quantileOfSorted(values[s], 0.05), quantileOfSorted(values[s], 0.95)});
        }
        constexpr double apart = 0.9;
        double farthest = 0;
        std::pair<std::size_t, std::size_t> which;
        std::size_t pairs = 0;
        for (std::size_t a = 0; a < ranges.size(); ++a)
            for (std::size_t b = a + 1; b < ranges.size(); ++b) {
                const double distance = distanceOf(ranges[a], ranges[b]);
                pairs += distance >= apart;
                if (distance >= apart && distance > farthest) {
                    farthest = distance;
                    which = {a, b};
                }
            }
        if (pairs == 0) continue;
        const SourceRange& x = ranges[which.first];
        const SourceRange& y = ranges[which.second];
        Goad goad;
        goad.key = "distant sources: " + column.name();
        goad.severity = Severity::alarm;
        goad.title = column.name() + " lies elsewhere in " + origin->levels()[y.source] + " than in " +
                     origin->levels()[x.source];
        goad.reading = readableText(x.low) + " to " + readableText(x.high) + " against " +
                       readableText(y.low) + " to " + readableText(y.high) +
                       (pairs > 1 ? "; so are " + countText(pairs - 1) + " more pairs of sources" : "");
        goad.threshold = "the middle 90 % overlap by a tenth; constants differ by less than ten times";
        goad.source = practice;
        goad.station = "data";
        goad.column = column.name();
        goad.moves.push_back(seeColumn());
        goads.push_back(std::move(goad));
    }
}

} // namespace

void judgeTable(const LedgerInput& input, Threads threads, Progress& progress, Ledger& ledger) {
    totalRows(input, progress, ledger);
    duplicateRows(input, threads, progress, ledger);
    distantSources(input, progress, ledger.table);
}

} // namespace oxgoad
