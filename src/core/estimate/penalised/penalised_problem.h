#pragma once
// Rows as a path of penalties sees them: what is minimised, and the sums that it is worked out from.
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
    /// Group of each column, from 0; columns of a group stand beside each other. With groups the penalty is
    /// penalty · (l1Share · Σ f √d ‖b‖ + (1 − l1Share)/2 · Σ f ‖b‖²) over groups of d columns each, which
    /// come in together (Yuan and Lin 2006, Journal of the Royal Statistical Society B 68); a group of one is
    /// a column as without. Columns of one group have one factor, and no sign unless it has one column.
    /// Empty: each column for itself.
    std::vector<std::size_t> groups{};
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

/// Whether a problem is worked out from sums over rows: there are two or more a column.
bool heldBySums(Eigen::Index rows, Eigen::Index columns);

/// From sums over rows.
PenalisedProblem problemOf(const RowSums& sums, const SumShift& shift, const PenaltyOptions& options);
/// The same, which asks these rows, those of the sums, where columns are nearly dependent: refers to them.
PenalisedProblem problemOf(const RowSums& sums, const SumShift& shift, const PenaltyOptions& options,
                           const RowSource& x, std::span<const double> y, std::span<const double> weights);
/// From rows, which the problem refers to through `root`: by sums, or with fewer than two rows a column by
/// the rows themselves. Requires finite values; weights 0 or more, not all 0. Throws Stopped.
PenalisedProblem problemOf(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                           const PenaltyOptions& options, Threads threads, Progress& progress);

} // namespace oxgoad
