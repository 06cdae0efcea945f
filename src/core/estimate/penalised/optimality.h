#pragma once
// What proves a penalised fit where it runs: the optimality conditions, asked of the rows.
#include "estimate/penalised/penalised_path.h"

namespace oxgoad {

/// How far a point is from what minimises, by the gradient Z'W(y − b0 − Zb)/n that its rows give, whatever
/// way it was found: the largest departure from the optimality conditions (a column kept is pulled as the
/// penalty pulls it back, one left out by no more; of whole groups by their norms: Yuan and Lin 2006, Journal
/// of the Royal Statistical Society B 68, eq. 2.3 and 2.4) over 1e-6 ‖z‖ ‖y‖/n (common practice, no source)
/// and what rounding makes of what is said. Above 1 the point is not the optimum. `gradient`: one a column,
/// of standardised columns.
double fromOptimum(const PenalisedProblem& problem, const PenaltyOptions& options,
                   const PenalisedPoint& point, const Eigen::VectorXd& gradient);

} // namespace oxgoad
