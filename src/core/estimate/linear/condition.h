#pragma once
// How well a triangular factor determines its coefficients.
#include "base/progress.h"
#include "estimate/linear/triangular_factor.h"

#include <Eigen/Core>

namespace oxgoad {

/// Ratio of the largest to the smallest singular value of the columns at unit length, by power iteration on
/// R'R and on its inverse (Golub and Van Loan 2013, §8.2); a lower bound, within a few per cent. Throws
/// Stopped.
double conditionOf(const TriangularFactor& factor, bool intercept, const Progress& progress = {});

/// Of each place the length of its row of the inverse: the standard error of its coefficient over σ.
Eigen::VectorXd directionLengths(const TriangularFactor& factor);

} // namespace oxgoad
