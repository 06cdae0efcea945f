#include "look/density.h"

#include <algorithm>

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

} // namespace oxgoad
