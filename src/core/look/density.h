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

/// Points of a band: from low to high at x.
struct BandPoints {
    std::vector<double> x, low, high;
};
/// The points of a band from `from` to `to` (NaN and infinite ones are passed over), as they are where they
/// are no more than `most`; otherwise what they cover of each of `most` equal stretches that has any: its
/// middle, the lowest low and the highest high. Requires from < to.
BandPoints bandPoints(std::span<const double> x, std::span<const double> low, std::span<const double> high,
                      double from, double to, std::size_t most);

} // namespace oxgoad
