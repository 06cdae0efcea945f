#include "table/summary.h"

#include "base/sort.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t shapeBins = 24;

void addNumberShape(ColumnSummary& summary, const std::vector<double>& sorted) {
    const double low = sorted.front();
    const double width = sorted.back() - low;
    summary.shape.assign(shapeBins, 0);
    for (const double value : sorted) {
        const double place = width > 0 && std::isfinite(width) ? (value - low) / width * shapeBins : 0;
        ++summary.shape[std::min(shapeBins - 1, static_cast<std::size_t>(place))];
    }
}

} // namespace

std::string calendarText(const ColumnSummary& s, double value) {
    if (std::isnan(value)) return {};
    if (s.moments) return momentText(value);
    return s.kind == ColumnKind::date ? dateText(static_cast<std::int32_t>(value)) : std::string();
}

double quantileOfSorted(const std::vector<double>& sorted, double share) {
    const double place = share * static_cast<double>(sorted.size() - 1);
    const auto below = static_cast<std::size_t>(std::floor(place));
    const std::size_t above = std::min(below + 1, sorted.size() - 1);
    const double part = place - static_cast<double>(below);
    if (part == 0) return sorted[below];
    return sorted[below] * (1 - part) + sorted[above] * part;
}

namespace {

/// Bits in an order that is the order of the numbers: negative ones turned over, the others above them; NaN
/// last.
std::uint64_t keyOf(double value) {
    if (std::isnan(value)) return ~std::uint64_t{0};
    const auto bits = std::bit_cast<std::uint64_t>(value == 0 ? 0.0 : value); // one zero
    return (bits >> 63U) != 0 ? ~bits : bits | (std::uint64_t{1} << 63U);
}

double valueOf(std::uint64_t key) {
    if (key == ~std::uint64_t{0}) return std::nan("");
    return std::bit_cast<double>((key >> 63U) != 0 ? key & ~(std::uint64_t{1} << 63U) : ~key);
}

/// Sorts items by the lowest 11 bits times `digits` of the key each of them has, stable, least digit first.
template <std::size_t digits = 6, class Item, class Key>
void sortByDigits(std::vector<Item>& items, std::vector<Item>& other, const Progress& progress, Key&& key) {
    constexpr unsigned digitBits = 11;
    constexpr std::size_t buckets = 1U << digitBits;
    if (items.empty()) return;
    other.resize(items.size());
    std::array<std::array<std::uint32_t, buckets>, digits> counts{};
    for (const Item& item : items)
        for (std::size_t d = 0; d < digits; ++d)
            ++counts[d][(key(item) >> (d * digitBits)) & (buckets - 1)];
    for (std::size_t d = 0; d < digits; ++d) {
        stopIfTold(progress);
        const unsigned shift = static_cast<unsigned>(d) * digitBits;
        if (counts[d][(key(items[0]) >> shift) & (buckets - 1)] == items.size()) continue; // all alike here
        std::uint32_t place = 0;
        for (auto& count : counts[d]) {
            const std::uint32_t here = count;
            count = place;
            place += here;
        }
        for (const Item& item : items)
            other[counts[d][(key(item) >> shift) & (buckets - 1)]++] = item;
        items.swap(other);
    }
}

constexpr std::size_t fewestByDigits = 4096;

} // namespace

void sortNumbers(std::vector<double>& values, const Progress& progress) {
    if (values.size() < fewestByDigits) {
        std::sort(values.begin(), values.end(),
                  [](double a, double b) { return a < b || (std::isnan(b) && !std::isnan(a)); });
        return;
    }
    std::vector<std::uint64_t> keys(values.size());
    std::transform(values.begin(), values.end(), keys.begin(), keyOf);
    std::vector<std::uint64_t> other;
    sortByDigits(keys, other, progress, [](std::uint64_t key) { return key; });
    std::transform(keys.begin(), keys.end(), values.begin(), valueOf);
}

std::vector<std::uint32_t> sortedOrder(std::span<const double> values) {
    SortScratch scratch;
    sortedOrder(values, scratch);
    return std::move(scratch.order);
}

std::span<const std::uint32_t> sortedOrder(std::span<const double> values, SortScratch& scratch) {
    // The upper half of the key and the place in one word: half the digits to sort by. Values alike in that
    // half are put right afterwards.
    auto& items = scratch.items;
    auto& order = scratch.order;
    items.resize(values.size());
    for (std::size_t i = 0; i < values.size(); ++i)
        items[i] = (keyOf(values[i]) & 0xFFFFFFFF00000000U) | i;
    if (items.size() < fewestByDigits)
        std::sort(items.begin(), items.end());
    else
        sortByDigits<3>(items, scratch.other, {}, [](std::uint64_t item) { return item >> 32U; });
    order.resize(items.size());
    for (std::size_t i = 0; i < items.size(); ++i)
        order[i] = static_cast<std::uint32_t>(items[i]);
    const auto before = [&](std::uint32_t a, std::uint32_t b) {
        const std::uint64_t x = keyOf(values[a]), y = keyOf(values[b]);
        return x < y || (x == y && a < b);
    };
    for (std::size_t begin = 0; begin < items.size();) {
        std::size_t end = begin + 1;
        bool sorted = true;
        while (end < items.size() && items[end] >> 32U == items[begin] >> 32U) {
            sorted = sorted && before(order[end - 1], order[end]);
            ++end;
        }
        if (!sorted)
            std::sort(order.begin() + static_cast<std::ptrdiff_t>(begin),
                      order.begin() + static_cast<std::ptrdiff_t>(end), before);
        begin = end;
    }
    return order;
}

namespace {

/// Of sorted values without NaN; not empty.
NumberSummary summarizeSorted(const std::vector<double>& values) {
    const auto n = static_cast<double>(values.size());
    NumberSummary s;
    s.smallest = values.front();
    s.lowerQuartile = quantileOfSorted(values, 0.25);
    s.median = quantileOfSorted(values, 0.5);
    s.upperQuartile = quantileOfSorted(values, 0.75);
    s.largest = values.back();
    // Differences from a value amid the others are exact, or nearly so, however far the values are from 0.
    const long double shift = values[values.size() / 2];
    long double sum = 0;
    for (const double v : values)
        sum += v - shift;
    const long double mean = sum / n;
    long double first = 0;
    long double second = 0;
    long double third = 0;
    for (const double v : values) {
        const long double d = v - shift - mean;
        first += d;
        second += d * d;
        third += d * d * d;
    }
    second = std::max(0.0L, second - first * first / n);
    s.mean = static_cast<double>(shift + mean);
    s.standardDeviation = values.size() > 1 ? static_cast<double>(std::sqrt(second / (n - 1))) : std::nan("");
    const long double sd = std::sqrt(second / n);
    s.skewness = sd > 0 ? static_cast<double>(third / n / (sd * sd * sd)) : std::nan("");
    return s;
}

double pairsOf(std::size_t count) {
    return count == 0 ? 0 : 0.5 * static_cast<double>(count) * static_cast<double>(count - 1);
}

void addNumbers(ColumnSummary& s, std::vector<double> values, const Progress& progress) {
    if (values.empty()) return;
    sortNumbers(values, progress);
    stopIfTold(progress);
    s.numbers = summarizeSorted(values);
    stopIfTold(progress);
    addNumberShape(s, values);
    const double spread = s.numbers->upperQuartile - s.numbers->lowerQuartile;
    const double low = s.numbers->lowerQuartile - 3 * spread;
    const double high = s.numbers->upperQuartile + 3 * spread;
    s.apartLow = apartBelow(values);
    s.apartHigh = apartAbove(values);
    s.rarest = values.size();
    double same = pairsOf(s.missing);
    for (std::size_t begin = 0; begin < values.size();) {
        std::size_t end = begin + 1;
        while (end < values.size() && values[end] == values[begin])
            ++end;
        const std::size_t run = end - begin;
        ++s.distinct;
        s.commonest = std::max(s.commonest, run);
        s.rarest = std::min(s.rarest, run);
        same += pairsOf(run);
        const double value = values[begin];
        if (value < 0) s.negative += run;
        if (value == 0) s.zeros += run;
        if (value == std::floor(value)) s.whole += run;
        if (spread > 0 && (value < low || value > high)) s.farOut += run;
        begin = end;
    }
    s.sameShare = s.rows > 1 ? same / pairsOf(s.rows) : 1;
    if (s.negative > 0) s.signChance = chanceOfGapBelow(values, s.negative);
}

} // namespace

std::optional<NumberSummary> summarizeNumbers(std::vector<double> values, const Progress& progress) {
    std::erase_if(values, [](double v) { return std::isnan(v); });
    if (values.empty()) return std::nullopt;
    sortNumbers(values, progress);
    stopIfTold(progress);
    return summarizeSorted(values);
}

ColumnSummary summarize(const Column& column, std::span<const std::uint8_t> used, const Progress& progress) {
    ColumnSummary s;
    s.name = column.name();
    s.kind = column.kind();
    s.moments = column.moments();
    auto counts = [&](std::size_t i) { return used.empty() || used[i] != 0; };
    for (std::size_t i = 0; i < column.size(); ++i)
        s.rows += counts(i);
    if (s.kind == ColumnKind::factor) {
        std::vector<std::size_t> tally(column.levels().size() + 1, 0);
        const auto codes = column.codes();
        for (std::size_t i = 0; i < codes.size(); ++i)
            if (counts(i)) ++tally[static_cast<std::size_t>(codes[i] + 1)];
        s.missing = tally[0];
        for (std::size_t i = 1; i < tally.size(); ++i)
            if (tally[i] > 0) s.levels.emplace_back(column.levels()[i - 1], tally[i]);
        s.distinct = s.levels.size();
        std::stable_sort(s.levels.begin(), s.levels.end(),
                         [](const auto& a, const auto& b) { return a.second > b.second; });
        for (std::size_t i = 0; i < std::min(shapeBins, s.levels.size()); ++i)
            s.shape.push_back(s.levels[i].second);
        if (!s.levels.empty()) s.commonest = s.levels.front().second;
        double same = 0;
        for (const std::size_t count : tally)
            same += pairsOf(count);
        s.sameShare = s.rows > 1 ? same / pairsOf(s.rows) : 1;
        return s;
    }
    if (s.kind == ColumnKind::text) {
        std::vector<std::string_view> cells;
        for (std::size_t i = 0; i < column.size(); ++i)
            if (counts(i)) {
                if (column.isMissing(i))
                    ++s.missing;
                else
                    cells.push_back(column.text(i));
            }
        sortUnlessStopped(cells, progress);
        double same = pairsOf(s.missing);
        for (auto begin = cells.begin(); begin != cells.end();) {
            const auto end = std::upper_bound(begin, cells.end(), *begin);
            same += pairsOf(static_cast<std::size_t>(end - begin));
            ++s.distinct;
            begin = end;
        }
        s.sameShare = s.rows > 1 ? same / pairsOf(s.rows) : 1;
        return s;
    }
    std::vector<double> values;
    values.reserve(s.rows);
    if (s.kind == ColumnKind::number) {
        const auto numbers = column.numbers();
        for (std::size_t i = 0; i < numbers.size(); ++i)
            if (counts(i) && !std::isnan(numbers[i])) values.push_back(numbers[i]);
    } else {
        const auto days = column.days();
        for (std::size_t i = 0; i < days.size(); ++i)
            if (counts(i) && days[i] != Column::missingDay) values.push_back(days[i]);
    }
    s.missing = s.rows - values.size();
    addNumbers(s, std::move(values), progress);
    return s;
}

std::vector<ColumnSummary> summarize(const Table& table, Threads threads, Progress& progress,
                                     std::span<const std::uint8_t> used) {
    std::vector<ColumnSummary> summaries(table.columns().size());
    std::atomic<std::size_t> done{0};
    parallelFor(summaries.size(), threads, [&](std::size_t i) {
        progress.checkpoint(static_cast<double>(done) / static_cast<double>(summaries.size()),
                            "Counting columns");
        summaries[i] = summarize(table.columns()[i], used, progress);
        ++done;
    });
    return summaries;
}

} // namespace oxgoad
