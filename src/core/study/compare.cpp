#include "study/compare.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace oxgoad {

Comparison compareHeldOut(const Evidence& first, const Evidence& second) {
    std::vector<double> actual, byFirst, bySecond;
    const std::size_t rows = std::min(first.rows.state.size(), second.rows.state.size());
    for (std::size_t i = 0; i < rows; ++i) {
        if (first.rows.state[i] != RowState::heldOut || second.rows.state[i] != RowState::heldOut) continue;
        if (std::isnan(first.rows.fitted[i]) || std::isnan(second.rows.fitted[i])) continue;
        actual.push_back(first.rows.actual[i]);
        byFirst.push_back(first.rows.fitted[i]);
        bySecond.push_back(second.rows.fitted[i]);
    }
    return {score(actual, byFirst, first.learning.meanActual),
            score(actual, bySecond, first.learning.meanActual)};
}

} // namespace oxgoad
