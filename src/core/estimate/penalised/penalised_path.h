#pragma once
// Least squares held back by a penalty: ridge, lasso and what lies between them, for a path of penalties.
#include "estimate/penalised/penalised_problem.h"

#include <Eigen/Cholesky>
#include <Eigen/Core>

#include <span>
#include <vector>

namespace oxgoad {

/// A point of a path.
struct PenalisedPoint {
    double penalty = 0;
    /// In natural units, one a column, and of standardised columns.
    Eigen::VectorXd coefficients, standardised;
    double constant = 0;
    /// Columns whose coefficient is not 0.
    std::size_t kept = 0;
    /// What is minimised less the largest that its dual says it cannot fall below, over the loss of the mean
    /// alone (Boyd and Vandenberghe 2004, "Convex optimization", §5.5).
    double dualityGap = 0;
    /// Σ w (residual)².
    double squares = 0;
};

/// Coefficients of standardised columns in natural units, with the constant that goes with them; what it is
/// worth is left open.
PenalisedPoint pointOf(const PenalisedProblem& problem, double penalty, const Eigen::VectorXd& standardised);

/// The smallest penalty that keeps no penalised column; for an l1 share below 0.001 that of 0.001 (common
/// practice, no source), since ridge regression keeps all at any penalty.
double largestPenalty(const PenalisedProblem& problem, const PenaltyOptions& options);
/// 100 penalties in equal steps of their logarithm, from the largest to its 10,000th part, or its 100th where
/// columns outnumber rows (Friedman, Hastie and Tibshirani 2010).
std::vector<double> usualPenalties(const PenalisedProblem& problem, const PenaltyOptions& options);

/// How far a path is worked out. Few digits, enough to judge by, are those that descent gives where more than
/// 60 columns are kept.
enum class PathDigits { all, few };

/// Solutions for penalties in the order given (descending ones start from the one before), by coordinate
/// descent with covariance updates (Friedman, Hastie and Tibshirani 2010, "Regularization paths for
/// generalized linear models via coordinate descent", Journal of Statistical Software 33) or naive ones where
/// there are fewer than two rows a column; columns that the sequential strong rule passes over are looked at
/// again by the optimality conditions (Tibshirani, Bien, Friedman, Hastie, Simon, Taylor and Tibshirani 2012,
/// Journal of the Royal Statistical Society B 74). Which columns are kept and their signs found, their
/// coefficients are solved for directly, by an orthogonal root where these columns are nearly dependent.
/// Requires penalties 0 or more. A stop throws Stopped.
std::vector<PenalisedPoint> penalisedPath(const PenalisedProblem& problem, const PenaltyOptions& options,
                                          std::span<const double> penalties, Progress& progress,
                                          PathDigits digits = PathDigits::all);
/// One point, by way of larger penalties.
PenalisedPoint penalisedPoint(const PenalisedProblem& problem, const PenaltyOptions& options, double penalty,
                              Progress& progress);

/// The columns kept of a point, Z_A'Z_A/n, and the Cholesky factor of that with what the penalty adds to it:
/// penalty (1 − l1Share) F, and of groups the curvature of their norms (a hair where columns are the same).
struct KeptColumns {
    std::vector<Eigen::Index> columns;
    Eigen::MatrixXd gram;
    Eigen::LLT<Eigen::MatrixXd> solver;
};
KeptColumns keptColumns(const PenalisedProblem& problem, const PenaltyOptions& options,
                        const PenalisedPoint& point);

/// Least squares of some columns of a problem and no penalty, with the signs asked for: what is left when the
/// columns that a penalty keeps are no longer held back (Meinshausen 2007, "Relaxed lasso", Computational
/// Statistics and Data Analysis 52, at φ = 0). Throws Stopped.
PenalisedPoint relaxedPoint(const PenalisedProblem& problem, const PenaltyOptions& options,
                            std::span<const Eigen::Index> columns, Progress& progress);

/// Residuals' degrees of freedom that a point takes, the constant included: the number of columns kept for
/// the lasso (Zou, Hastie and Tibshirani 2007, Annals of Statistics 35), the trace of its hat matrix on the
/// columns kept in general, of groups with the curvature of their norms (Vaiter, Deledalle, Peyré, Fadili and
/// Dossal 2012, "The degrees of freedom of the group lasso").
double effectiveDegreesOfFreedom(const PenalisedProblem& problem, const PenaltyOptions& options,
                                 const PenalisedPoint& point);
/// Diagonal of the hat matrix on the columns kept, at rows of the model matrix (natural units, all columns):
/// w (1/Σw + z'(Z'Z/n + penalty (1 − l1Share) F)⁻¹ z/n). A residual over 1 less it is that of the row left
/// out: exactly for ridge regression at the same columns' scales and penalty · n, near it for the others (Rad
/// and Maleki 2020, Journal of the Royal Statistical Society B 82).
Eigen::VectorXd penalisedLeverages(const PenalisedProblem& problem, const PenaltyOptions& options,
                                   const PenalisedPoint& point, const RowSource& x,
                                   std::span<const double> weights, Threads threads, Progress& progress);

} // namespace oxgoad
