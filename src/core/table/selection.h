#pragma once
// Quantiles of values that need not be sorted as a whole.
#include <algorithm>
#include <cmath>
#include <cstddef>
#include <vector>

namespace oxgoad {

/// The same as quantileOfSorted of the sorted values, by selection (Hoare 1961, Algorithm 65, "Find"): moves
/// values about, in time proportional to their number. Requires values not empty and without NaN.
inline double quantileBySelection(std::vector<double>& values, double share) {
    const double place = share * static_cast<double>(values.size() - 1);
    const auto below = static_cast<std::size_t>(std::floor(place));
    const double part = place - static_cast<double>(below);
    const auto at = values.begin() + static_cast<std::ptrdiff_t>(below);
    std::nth_element(values.begin(), at, values.end());
    if (part == 0 || at + 1 == values.end()) return *at;
    return *at * (1 - part) + *std::min_element(at + 1, values.end()) * part;
}

} // namespace oxgoad
