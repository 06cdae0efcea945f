#include "study/compare.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <vector>

namespace oxgoad {

namespace {

/// Mean and standard error of the gaps of squared errors.
double pairedError(const std::vector<double>& gaps, double together) {
    const auto n = static_cast<double>(gaps.size());
    double mean = 0, squares = 0;
    for (const double gap : gaps)
        mean += gap / n;
    for (const double gap : gaps)
        squares += (gap - mean) * (gap - mean);
    return n > 1 ? std::sqrt(squares / (n - 1) / n) / together : std::nan("");
}

} // namespace

FoldComparison compareFolds(const Evidence& first, const Evidence& second) {
    FoldComparison both;
    both.first = both.second = both.difference = both.differenceError = std::nan("");
    if (!first.folds || !second.folds) return both;
    const FoldEvidence &a = *first.folds, &b = *second.folds;
    const std::size_t rows = std::min(a.outOfFold.size(), b.outOfFold.size());
    std::vector<double> gaps;
    std::map<std::int32_t, double> gapOfFold;
    double squaresA = 0, squaresB = 0;
    const bool alike = a.plan == b.plan && a.plan.kind != FoldKind::bootstrap &&
                       a.plan.kind != FoldKind::leaveOneOut && a.foldOf == b.foldOf;
    for (std::size_t i = 0; i < rows; ++i) {
        if (std::isnan(a.outOfFold[i]) || std::isnan(b.outOfFold[i])) continue;
        const double byA = first.rows.actual[i] - a.outOfFold[i], byB = first.rows.actual[i] - b.outOfFold[i];
        gaps.push_back(byB * byB - byA * byA);
        squaresA += byA * byA;
        squaresB += byB * byB;
        if (alike) gapOfFold[a.foldOf[i]] += gaps.back();
    }
    both.rows = gaps.size();
    if (gaps.empty()) return both;
    const auto n = static_cast<double>(gaps.size());
    both.first = std::sqrt(squaresA / n);
    both.second = std::sqrt(squaresB / n);
    both.difference = both.second - both.first;
    both.differenceError = pairedError(gaps, both.first + both.second);
    both.folds = gapOfFold.size();
    for (const auto& [fold, gap] : gapOfFold)
        both.betterFolds += gap < 0;
    return both;
}

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
    std::vector<double> gaps;
    for (std::size_t i = 0; i < actual.size(); ++i) {
        const double a = actual[i] - byFirst[i], b = actual[i] - bySecond[i];
        gaps.push_back(b * b - a * a);
    }
    both.differenceError = pairedError(gaps, both.first.rmse + both.second.rmse);
    return both;
}

} // namespace oxgoad
