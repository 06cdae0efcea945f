#pragma once
// Least squares held back by a penalty: ridge, lasso and what lies between them, for a path of penalties.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_source.h"

#include <Eigen/Core>

#include <functional>
#include <span>
#include <vector>

namespace oxgoad {

/// Minimised over b0 and b, for n rows of weights w (1 where none are given) and p columns:
///
///   1/(2n) Σ w (y − b0 − Xb)² + penalty · (l1Share · Σ f|b| + (1 − l1Share)/2 · Σ f b²)
///
/// on columns less their (weighted) mean over their (weighted) standard deviation, divisor n; without a
/// constant over their root mean square about 0. The constant is never penalised.
struct PenaltyOptions {
    /// 1 the lasso (Tibshirani 1996, Journal of the Royal Statistical Society B 58), 0 ridge regression
    /// (Hoerl and Kennard 1970, Technometrics 12), between them the elastic net (Zou and Hastie 2005, Journal
    /// of the Royal Statistical Society B 67).
    double l1Share = 1;
    /// Otherwise columns are taken as they are.
    bool standardise = true;
    bool intercept = true;
    /// f of each column, 0 or more; 0 is not penalised. Empty: 1 for all.
    std::vector<double> factors{};
    /// Of each column: 1 its coefficient is not below 0, −1 not above, 0 free. Empty: all free.
    std::vector<int> signs{};
};

/// Sums over rows about a common shift, from which paths are worked out without the rows. Sums of disjoint
/// rows add up.
struct RowSums {
    Eigen::Index rows = 0;
    double weight = 0;
    Eigen::VectorXd x, xy;
    /// Lower triangle.
    Eigen::MatrixXd xx;
    double y = 0, yy = 0;
    void add(const RowSums& other);
};

/// What is taken off columns and response, so that sums of squares keep their digits: near the means is
/// enough.
struct SumShift {
    Eigen::VectorXd x;
    double y = 0;
};
SumShift shiftOf(const RowSource& x, std::span<const double> y, bool intercept);

/// Block by block in a fixed order: the same for any number of threads. Throws Stopped.
RowSums sumRows(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                const SumShift& shift, Threads threads, Progress& progress);

/// R of [Z, y]/√n for some standardised columns Z of the rows, upper triangular, by orthogonal reduction.
using OrthogonalRoot = std::function<Eigen::MatrixXd(const std::vector<Eigen::Index>& columns)>;

/// Rows as a path sees them: standardised, over n.
struct PenalisedProblem {
    Eigen::Index rows = 0;
    bool intercept = true;
    Eigen::VectorXd mean, scale;
    /// Columns without any spread: their coefficients are 0.
    std::vector<std::uint8_t> constant;
    double responseMean = 0;
    /// Z'(y − mean)/n and (y − mean)'(y − mean)/n, weighted.
    Eigen::VectorXd cross;
    double squares = 0;
    /// Z'Z/n; empty where there are fewer than two rows a column: then `z` (rows times the roots of their
    /// weights) and `y` are there.
    Eigen::MatrixXd gram;
    Eigen::MatrixXd z;
    Eigen::VectorXd y;
    /// Asked where columns kept are so nearly dependent that products lose digits; may be empty.
    OrthogonalRoot root;

    Eigen::Index columns() const { return mean.size(); }
    bool naive() const { return gram.size() == 0; }
};

/// What PenalisedProblem::root answers, from the rows of the problem.
Eigen::MatrixXd orthogonalRoot(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                               const PenalisedProblem& problem, const std::vector<Eigen::Index>& columns);

/// From sums over rows.
PenalisedProblem problemOf(const RowSums& sums, const SumShift& shift, const PenaltyOptions& options);
/// From rows, which the problem refers to through `root`: by sums, or with fewer than two rows a column by
/// the rows themselves. Requires finite values; weights 0 or more, not all 0. Throws Stopped.
PenalisedProblem problemOf(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                           const PenaltyOptions& options, Threads threads, Progress& progress);

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

/// Residuals' degrees of freedom that a point takes, the constant included: the number of columns kept for
/// the lasso (Zou, Hastie and Tibshirani 2007, Annals of Statistics 35), the trace of its hat matrix on the
/// columns kept in general.
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
