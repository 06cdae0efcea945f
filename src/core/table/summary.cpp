#include "table/summary.h"

#include "base/text.h"

#include <algorithm>
#include <atomic>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t shapeBins = 24;
constexpr std::size_t rareRows = 10;

void addNumberShape(ColumnSummary& summary, const std::vector<double>& sorted) {
    const double low = sorted.front();
    const double width = sorted.back() - low;
    summary.shape.assign(shapeBins, 0);
    for (const double value : sorted) {
        const double place = width > 0 && std::isfinite(width) ? (value - low) / width * shapeBins : 0;
        ++summary.shape[std::min(shapeBins - 1, static_cast<std::size_t>(place))];
    }
}

void addOddities(ColumnSummary& s) {
    const std::size_t present = s.rows - s.missing;
    if (present == 0) {
        s.oddities.emplace_back("all values are missing");
        return;
    }
    if (s.missing > 0) s.oddities.push_back(plural(s.missing, "missing value", "missing values"));
    if (s.distinct == 1) s.oddities.emplace_back("constant");
    if (s.kind == ColumnKind::factor) {
        const auto rare = static_cast<std::size_t>(std::count_if(
            s.levels.begin(), s.levels.end(), [](const auto& l) { return l.second < rareRows; }));
        if (rare > 0 && s.levels.size() > 1)
            s.oddities.push_back(plural(rare, "level", "levels") + " with fewer than 10 rows");
    }
    if (s.kind != ColumnKind::number || !s.numbers) return;
    const NumberSummary& n = *s.numbers;
    if (std::fabs(n.skewness) > 2) s.oddities.push_back("skew " + readableText(n.skewness, 2));
    const double spread = n.upperQuartile - n.lowerQuartile;
    if (spread > 0 && (n.largest > n.upperQuartile + 6 * spread || n.smallest < n.lowerQuartile - 6 * spread))
        s.oddities.emplace_back("values far beyond the quartiles");
}

} // namespace

double quantileOfSorted(const std::vector<double>& sorted, double share) {
    const double place = share * static_cast<double>(sorted.size() - 1);
    const auto below = static_cast<std::size_t>(std::floor(place));
    const std::size_t above = std::min(below + 1, sorted.size() - 1);
    const double part = place - static_cast<double>(below);
    if (part == 0) return sorted[below];
    return sorted[below] * (1 - part) + sorted[above] * part;
}

std::optional<NumberSummary> summarizeNumbers(std::vector<double> values) {
    std::erase_if(values, [](double v) { return std::isnan(v); });
    if (values.empty()) return std::nullopt;
    std::sort(values.begin(), values.end());
    const auto n = static_cast<double>(values.size());
    NumberSummary s;
    s.smallest = values.front();
    s.lowerQuartile = quantileOfSorted(values, 0.25);
    s.median = quantileOfSorted(values, 0.5);
    s.upperQuartile = quantileOfSorted(values, 0.75);
    s.largest = values.back();
    long double sum = 0;
    for (const double v : values)
        sum += v;
    const long double mean = sum / n;
    long double second = 0;
    long double third = 0;
    for (const double v : values) {
        const long double d = v - mean;
        second += d * d;
        third += d * d * d;
    }
    s.mean = static_cast<double>(mean);
    s.standardDeviation = values.size() > 1 ? static_cast<double>(std::sqrt(second / (n - 1))) : std::nan("");
    const long double sd = std::sqrt(second / n);
    s.skewness = sd > 0 ? static_cast<double>(third / n / (sd * sd * sd)) : std::nan("");
    return s;
}

ColumnSummary summarize(const Column& column) {
    ColumnSummary s;
    s.name = column.name();
    s.kind = column.kind();
    s.rows = column.size();
    s.missing = column.missingCount();
    if (s.kind == ColumnKind::factor) {
        std::vector<std::size_t> counts(column.levels().size(), 0);
        for (const auto code : column.codes())
            if (code >= 0) ++counts[static_cast<std::size_t>(code)];
        for (std::size_t i = 0; i < counts.size(); ++i)
            if (counts[i] > 0) s.levels.emplace_back(column.levels()[i], counts[i]);
        s.distinct = s.levels.size();
        std::stable_sort(s.levels.begin(), s.levels.end(),
                         [](const auto& a, const auto& b) { return a.second > b.second; });
        for (std::size_t i = 0; i < std::min(shapeBins, s.levels.size()); ++i)
            s.shape.push_back(s.levels[i].second);
    } else if (s.kind == ColumnKind::text) {
        std::vector<std::string_view> cells;
        for (std::size_t i = 0; i < column.size(); ++i)
            if (!column.isMissing(i)) cells.push_back(column.text(i));
        std::sort(cells.begin(), cells.end());
        s.distinct = static_cast<std::size_t>(std::unique(cells.begin(), cells.end()) - cells.begin());
    } else {
        std::vector<double> values;
        values.reserve(column.size() - s.missing);
        for (std::size_t i = 0; i < column.size(); ++i)
            if (!column.isMissing(i)) values.push_back(column.asNumber(i));
        s.numbers = summarizeNumbers(values);
        std::sort(values.begin(), values.end());
        if (!values.empty()) addNumberShape(s, values);
        s.distinct = static_cast<std::size_t>(std::unique(values.begin(), values.end()) - values.begin());
    }
    addOddities(s);
    return s;
}

std::vector<ColumnSummary> summarize(const Table& table, Threads threads, Progress& progress) {
    std::vector<ColumnSummary> summaries(table.columns().size());
    std::atomic<std::size_t> done{0};
    parallelFor(summaries.size(), threads, [&](std::size_t i) {
        progress.checkpoint(static_cast<double>(done) / static_cast<double>(summaries.size()),
                            "Counting columns");
        summaries[i] = summarize(table.columns()[i]);
        ++done;
    });
    return summaries;
}

} // namespace oxgoad
