#pragma once
// Readings for plots: lines by group, densities, histograms.
#include "table/table.h"

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// A straight line fitted to the rows of one group, over that group's own range.
struct GroupLine {
    /// Level of the group; empty for all rows.
    std::string group;
    std::size_t rows = 0;
    double intercept = 0;
    double slope = 0;
    double slopeError = 0;
    double rSquared = 0;
    /// Range of x in the group: nothing may be drawn beyond.
    double low = 0;
    double high = 0;
};

/// Least squares of y on x in each level of `group` (or over all rows without one), by centred sums. Rows
/// where x, y or the group is missing are passed over. Groups with fewer than three rows or without spread in
/// x have no line and are not listed. Rows where `leftOut` is not 0 are passed over; empty means none.
std::vector<GroupLine> linesByGroup(const Column& x, const Column& y, const Column* group,
                                    std::span<const char> leftOut = {});

/// Counts of points over a grid of `across` × `up` cells, row by row from below; points outside or NaN are
/// passed over.
struct Density {
    std::size_t across = 0, up = 0;
    std::vector<std::uint32_t> counts;
    std::uint32_t largest = 0;
};
Density density(std::span<const double> x, std::span<const double> y, double xLow, double xHigh, double yLow,
                double yHigh, std::size_t across, std::size_t up);

/// Counts over equal bins whose width is by Freedman and Diaconis (1981), between 5 and 60 bins.
struct Histogram {
    double low = 0;
    double width = 0;
    std::vector<std::size_t> counts;
};
/// Empty when no value is finite.
std::optional<Histogram> histogram(std::vector<double> values);

} // namespace oxgoad
