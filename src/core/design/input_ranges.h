#pragma once
// Where the values of an input lie: the one place where ranges are learned.
#include "design/inputs.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// Lowest and highest of what was seen.
struct Range {
    double low = 0;
    double high = 0;
    bool seen = false;
    void add(double value) {
        if (std::isnan(value)) return;
        low = seen ? std::min(low, value) : value;
        high = seen ? std::max(high, value) : value;
        seen = true;
    }
};

/// Of a number or a date over some rows; missing values are passed over.
Range rangeOver(const BoundInputs& inputs, std::size_t input, std::span<const std::uint32_t> rows);

/// Rows in each of `cells` equal cells from the lowest to the highest of a range, rows a level for a factor.
/// Of numbers every n-th row is counted so that they are about `most`; 0 counts all.
std::vector<double> densityOver(const BoundInputs& inputs, std::size_t input,
                                std::span<const std::uint32_t> rows, const Range& range, std::size_t cells,
                                std::size_t most = 0);

} // namespace oxgoad
