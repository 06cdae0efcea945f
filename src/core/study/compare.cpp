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
    Comparison both{score(actual, byFirst, first.learning.meanActual),
                    score(actual, bySecond, first.learning.meanActual), 0, 0};
    both.difference = both.second.rmse - both.first.rmse;
    const auto n = static_cast<double>(actual.size());
    double mean = 0, squares = 0;
    std::vector<double> gaps;
    for (std::size_t i = 0; i < actual.size(); ++i) {
        const double a = actual[i] - byFirst[i], b = actual[i] - bySecond[i];
        gaps.push_back(b * b - a * a);
        mean += gaps.back() / n;
    }
    for (const double gap : gaps)
        squares += (gap - mean) * (gap - mean);
    both.differenceError =
        n > 1 ? std::sqrt(squares / (n - 1) / n) / (both.first.rmse + both.second.rmse) : std::nan("");
    return both;
}

} // namespace oxgoad
