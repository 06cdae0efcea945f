#pragma once
// What one column holds: the line of the ledger.
#include "base/parallel.h"
#include "base/progress.h"
#include "table/table.h"

#include <optional>
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
    /// Third standardised moment, divisor n; NaN without spread.
    double skewness = 0;
};

struct ColumnSummary {
    std::string name;
    ColumnKind kind = ColumnKind::number;
    std::size_t rows = 0;
    std::size_t missing = 0;
    std::size_t distinct = 0;
    /// For numbers and dates (days).
    std::optional<NumberSummary> numbers;
    /// For factors: level and count, largest count first.
    std::vector<std::pair<std::string, std::size_t>> levels;
    /// Counts over equal bins from smallest to largest, or per level in order of count (at most 24).
    std::vector<std::size_t> shape;
    /// What is odd about it, a short sentence each.
    std::vector<std::string> oddities;
};

/// Quantile of sorted values by linear interpolation of order statistics: definition 7 of Hyndman and
/// Fan (1996), "Sample quantiles in statistical packages". Requires values not empty and 0 <= share <= 1.
double quantileOfSorted(const std::vector<double>& sorted, double share);

/// Two-pass mean, sd and skewness, sorted quantiles. NaN are left out. Empty when no value is left.
std::optional<NumberSummary> summarizeNumbers(std::vector<double> values);

ColumnSummary summarize(const Column& column);
/// One summary a column, in parallel.
std::vector<ColumnSummary> summarize(const Table& table, Threads threads, Progress& progress);

} // namespace oxgoad
