#pragma once
// Sums of squares and products that neither overflow nor lose digits, whatever the size of the values.
#include <algorithm>
#include <cmath>
#include <cstddef>
#include <span>

namespace oxgoad {

/// A power of two that brings the largest magnitude of some values near 1, so that their squares can be
/// summed; 1 when there is nothing to scale. Exact to undo.
inline double powerOfTwoScale(double largestMagnitude) {
    if (!(largestMagnitude > 0) || !std::isfinite(largestMagnitude)) return 1;
    int exponent = 0;
    std::frexp(largestMagnitude, &exponent);
    // Neither the factor nor its inverse may overflow or be subnormal.
    return std::ldexp(1.0, std::min(1000, std::max(-1000, -exponent)));
}

inline double powerOfTwoScale(std::span<const double> values) {
    double largest = 0;
    for (const double v : values)
        if (std::isfinite(v)) largest = std::max(largest, std::fabs(v));
    return powerOfTwoScale(largest);
}

/// Mean and sums of squares and products of pairs, by updating formulas (Welford 1962; Chan, Golub and
/// LeVeque 1983).
struct PairSums {
    std::size_t n = 0;
    double meanX = 0, meanY = 0;
    double xx = 0, xy = 0, yy = 0;
    void add(double x, double y) {
        ++n;
        const double share = 1 / static_cast<double>(n);
        const double dx = x - meanX;
        const double dy = y - meanY;
        meanX += dx * share;
        meanY += dy * share;
        xx += dx * (x - meanX);
        xy += dx * (y - meanY);
        yy += dy * (y - meanY);
    }
    /// Pearson's correlation; NaN without spread.
    double correlation() const {
        return xx > 0 && yy > 0 ? xy / std::sqrt(xx) / std::sqrt(yy) : std::nan("");
    }
};

} // namespace oxgoad
