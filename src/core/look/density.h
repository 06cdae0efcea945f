#pragma once
// Counts of points over a grid, for plots of more points than can be told apart.
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// Counts of points over a grid of `across` × `up` cells, row by row from below; points outside or NaN are
/// passed over.
struct Density {
    std::size_t across = 0, up = 0;
    std::vector<std::uint32_t> counts;
    std::uint32_t largest = 0;
};
Density density(std::span<const double> x, std::span<const double> y, double xLow, double xHigh, double yLow,
                double yHigh, std::size_t across, std::size_t up);

} // namespace oxgoad
