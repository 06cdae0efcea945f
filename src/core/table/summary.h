#pragma once
// What one column holds: the line of the ledger.
#include "base/parallel.h"
#include "base/progress.h"
#include "table/table.h"
#include "table/tails.h"

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

/// Moments and quantiles of the values that are not missing.
struct NumberSummary {
    double smallest = 0;
    double lowerQuartile = 0;
    double median = 0;
    double mean = 0;
    double upperQuartile = 0;
    double largest = 0;
    /// Divisor n - 1; NaN below two values.
    double standardDeviation = 0;
    /// Third central moment over the cube of the standard deviation, both with divisor n: g1 of Joanes and
    /// Gill (1998), "Comparing measures of sample skewness and kurtosis"; NaN without spread.
    double skewness = 0;
};

struct ColumnSummary {
    std::string name;
    ColumnKind kind = ColumnKind::number;
    /// Numbers that are dates with times.
    bool moments = false;
    std::size_t rows = 0;
    std::size_t missing = 0;
    std::size_t distinct = 0;
    /// For numbers and dates (days).
    std::optional<NumberSummary> numbers;
    /// For factors: level and count, largest count first.
    std::vector<std::pair<std::string, std::size_t>> levels;
    /// Counts over equal bins from smallest to largest, or per level in order of count (at most 24).
    std::vector<std::size_t> shape;
    /// For numbers: how many lie more than three quartile spreads beyond the quartiles, the outer fences of
    /// Tukey (1977, "Exploratory data analysis", §2D), and below zero; and how many are whole.
    std::size_t farOut = 0, negative = 0, whole = 0;
    /// For numbers and dates: the values at the ends that stand apart.
    ApartValues apartLow, apartHigh;
    std::size_t zeros = 0;
    /// How often the commonest value occurs.
    std::size_t commonest = 0;
    /// How often the rarest value occurs (numbers and dates only).
    std::size_t rarest = 0;
    /// The share of pairs of rows with the same value; missing is a value here.
    double sameShare = 0;
    /// The chance of the gap between values below zero and those above in a tail that falls no slower than
    /// exponentially; 1 when there are none.
    double signChance = 1;
};

/// kindName, or "date and time".
inline std::string_view kindText(const ColumnSummary& s) {
    return s.moments ? "date and time" : kindName(s.kind);
}
/// A value of a date column or of one of dates and times as it is written; empty for other columns.
std::string calendarText(const ColumnSummary& s, double value);

/// Quantile of sorted values by linear interpolation of order statistics: definition 7 of Hyndman and
/// Fan (1996), "Sample quantiles in statistical packages". Requires values not empty and 0 <= share <= 1.
double quantileOfSorted(const std::vector<double>& sorted, double share);

/// Mean, sd and skewness in two passes from the median, the second corrected for the mean's rounding (Chan,
/// Golub and LeVeque 1983, "Algorithms for computing the sample variance"), sorted quantiles. NaN are left
/// out. Empty when no value is left. Throws Stopped.
std::optional<NumberSummary> summarizeNumbers(std::vector<double> values, const Progress& progress = {});

/// Sorts numbers in place, NaN last: by digits, in time proportional to their number (Knuth, "The art of
/// computer programming", vol. 3, §5.2.5). Throws Stopped; the values are then as they were.
void sortNumbers(std::vector<double>& values, const Progress& progress = {});

/// Places of the values from smallest to largest, equal values in the order given, NaN last; by digits too.
/// Requires fewer than 2³² values.
std::vector<std::uint32_t> sortedOrder(std::span<const double> values);

/// Memory for sorting many columns one after the other.
struct SortScratch {
    std::vector<std::uint64_t> items, other;
    std::vector<std::uint32_t> order;
};
/// The same in memory that is given; holds until the scratch is used again.
std::span<const std::uint32_t> sortedOrder(std::span<const double> values, SortScratch& scratch);

/// Of the rows with used[i] != 0, or of all when `used` is empty. Throws Stopped.
ColumnSummary summarize(const Column& column, std::span<const std::uint8_t> used = {},
                        const Progress& progress = {});
/// One summary a column, in parallel.
std::vector<ColumnSummary> summarize(const Table& table, Threads threads, Progress& progress,
                                     std::span<const std::uint8_t> used = {});

} // namespace oxgoad
