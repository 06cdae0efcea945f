#include "look/density.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

Density density(std::span<const double> x, std::span<const double> y, double xLow, double xHigh, double yLow,
                double yHigh, std::size_t across, std::size_t up) {
    Density d{across, up, std::vector<std::uint32_t>(across * up, 0), 0};
    const double xScale = static_cast<double>(across) / (xHigh - xLow);
    const double yScale = static_cast<double>(up) / (yHigh - yLow);
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double column = (x[i] - xLow) * xScale;
        const double row = (y[i] - yLow) * yScale;
        if (!(column >= 0 && row >= 0 && column <= static_cast<double>(across) &&
              row <= static_cast<double>(up)))
            continue;
        const std::size_t cell = std::min(up - 1, static_cast<std::size_t>(row)) * across +
                                 std::min(across - 1, static_cast<std::size_t>(column));
        d.largest = std::max(d.largest, ++d.counts[cell]);
    }
    return d;
}

BandPoints bandPoints(std::span<const double> x, std::span<const double> low, std::span<const double> high,
                      double from, double to, std::size_t most) {
    BandPoints points;
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (!(x[i] >= from && x[i] <= to) || !std::isfinite(low[i]) || !std::isfinite(high[i])) continue;
        points.x.push_back(x[i]);
        points.low.push_back(low[i]);
        points.high.push_back(high[i]);
    }
    if (points.x.size() <= most) return points;
    const double width = (to - from) / static_cast<double>(most);
    constexpr double none = std::numeric_limits<double>::infinity();
    std::vector<double> lowest(most, none), highest(most, -none);
    for (std::size_t i = 0; i < points.x.size(); ++i) {
        const std::size_t cell = std::min(most - 1, static_cast<std::size_t>((points.x[i] - from) / width));
        lowest[cell] = std::min(lowest[cell], points.low[i]);
        highest[cell] = std::max(highest[cell], points.high[i]);
    }
    BandPoints covered;
    for (std::size_t cell = 0; cell < most; ++cell) {
        if (lowest[cell] == none) continue;
        covered.x.push_back(from + width * (static_cast<double>(cell) + 0.5));
        covered.low.push_back(lowest[cell]);
        covered.high.push_back(highest[cell]);
    }
    return covered;
}

} // namespace oxgoad
