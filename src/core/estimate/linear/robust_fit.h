#pragma once
// Estimators beside least squares: robust to outliers, and quantile regression.
#include "estimate/linear/least_squares.h"

#include <span>
#include <string>

namespace oxgoad {

/// What an estimator that iterates says of itself.
struct Iterated {
    int iterations = 0;
    bool converged = true;
    /// Robust: spread of the middle of the residuals. Quantile: 0.
    double scale = 0;
    /// Weight that each learning row ended with, 0 to 1; robust only.
    std::vector<double> rowWeights;
    /// Rows that ended with a weight below one half.
    std::size_t rowsDoubted = 0;
    /// Quantile: true when the solution was confirmed to be a vertex of the linear programme, exact to
    /// rounding.
    bool exactVertex = false;
};

enum class Influence {
    /// Huber 1964 ("Robust estimation of a location parameter", Annals of Mathematical Statistics 35):
    /// residuals
    /// beyond 1.345 scales pull no harder than those at it.
    huber,
    /// Beaton and Tukey 1974 (Technometrics 16): residuals beyond 4.685 scales do not pull at all. Started
    /// from
    /// Huber's estimates.
    bisquare
};

/// 1.345 and 4.685: 95 % efficiency under normal errors (Holland and Welsch 1977, Communications in
/// Statistics A6).
double usualTuning(Influence influence);

struct RobustOptions {
    Influence influence = Influence::huber;
    /// 0 is the usual.
    double tuning = 0;
    int mostIterations = 200;
    std::span<const double> weights{};
    Threads threads;
};

/// M-estimates by iteratively reweighted least squares (Holland and Welsch 1977), the scale being the median
/// absolute residual over 0.6745, worked out anew at each step; covariance by Huber 1981, "Robust
/// statistics", eq. 6.5. `fit` is the least squares fit of the same rows; coefficients, covariance, fitted
/// values, residuals and sums of squares are replaced, the leverages and factor stay its own. Stops with
/// converged = false, keeping the last estimates, after mostIterations. Errors: tooFewRows when more than
/// half of the residuals are 0. Throws Stopped.
Iterated fitRobust(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                   const RobustOptions& options, Progress& progress);

/// The share-quantile of y given X: least sum of check losses (Koenker and Bassett 1978, Econometrica 46), by
/// the interior point method of Portnoy and Koenker 1997 (Statistical Science 12, with Mehrotra's corrector),
/// then simplex steps from the nearest vertex, so that the answer fits rank rows exactly. Covariance by
/// Powell's kernel sandwich with Hall and Sheather's bandwidth (Koenker 2005, "Quantile regression", §3.4.2
/// and §4.10.1); quantiles of the normal for intervals. Replaces the same parts of `fit` as fitRobust. Holds
/// n × rank doubles. Requires 0 < share < 1. Throws Stopped.
Iterated fitQuantile(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y, double share,
                     std::span<const double> weights, Threads threads, Progress& progress);

/// Sum of check losses: share·e above, (share−1)·e below.
double checkLoss(const Eigen::VectorXd& residuals, double share);

} // namespace oxgoad
