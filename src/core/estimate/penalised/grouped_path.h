#pragma once
// Paths whose columns come in by groups.
#include "estimate/penalised/penalised_path.h"

#include <span>
#include <vector>

namespace oxgoad {

/// Solutions for penalties in the order given, by blockwise descent: a group's coefficients, given the
/// others, are those of a quadratic held back by its norm, found in the basis of its own products; when the
/// groups that are in have settled, Newton's method takes them the rest of the way (Yuan and Lin 2006; Qin,
/// Scheinberg and Goldfarb 2013, "Efficient block-coordinate descent algorithms for the group lasso",
/// Mathematical Programming Computation 5). Requires groups, as PenaltyOptions says. Errors: tooFewRows for
/// more than 5,000 columns with fewer than two rows each. A stop throws Stopped.
std::vector<PenalisedPoint> groupedPath(const PenalisedProblem& problem, const PenaltyOptions& options,
                                        std::span<const double> penalties, PathDigits digits,
                                        Progress& progress);

/// The largest penalty · l1Share at which a group wants in, for the gradient where none is.
double largestOfGroups(const PenaltyOptions& options, const Eigen::VectorXd& gradient);

/// Second derivatives of the norms of the groups that a point keeps, among its columns.
Eigen::MatrixXd groupCurvature(const PenaltyOptions& options, const PenalisedPoint& point,
                               const std::vector<Eigen::Index>& columns);

} // namespace oxgoad
