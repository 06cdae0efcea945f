#pragma once
// How well a triangular factor determines its coefficients.
#include "base/progress.h"
#include "estimate/linear/triangular_factor.h"

#include <Eigen/Core>

namespace oxgoad {

/// Ratio of the largest to the smallest singular value of the columns at unit length, by Lanczos' method on
/// R'R and on its inverse (Golub and Van Loan 2013, §10.1; Parlett 1998, "The symmetric eigenvalue problem",
/// §13): to the digits that R has; of more than 400 columns a lower bound, by 40 steps. Throws Stopped.
double conditionOf(const TriangularFactor& factor, bool intercept, const Progress& progress = {});

/// Of each place the length of its column, less what lies along `one` (nothing when it is empty).
Eigen::VectorXd columnLengths(const TriangularFactor& factor, const Eigen::VectorXd& one = {});

/// Of each place the length of its row of the inverse: the standard error of its coefficient over σ.
Eigen::VectorXd directionLengths(const TriangularFactor& factor);

} // namespace oxgoad
