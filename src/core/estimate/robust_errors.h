#pragma once
// Standard errors of least squares that stand unequal spread, groups and serial dependence.
#include "estimate/least_squares.h"

#include <cstdint>
#include <memory>
#include <span>

namespace oxgoad {

/// How the standard errors are worked out.
enum class ErrorsKind {
    /// σ²(X'X)⁻¹: the same spread everywhere, rows independent.
    equalSpread,
    /// White 1980 ("A heteroskedasticity-consistent covariance matrix estimator", Econometrica 48), and its
    /// small
    /// sample forms of MacKinnon and White 1985 (Journal of Econometrics 29): squared residuals as they are,
    /// times
    /// n/(n−k), over 1−h, over (1−h)².
    hc0,
    hc1,
    hc2,
    hc3,
    /// Groups of rows that may depend on each other (Liang and Zeger 1986, Biometrika 73), times
    /// G/(G−1)·(n−1)/(n−k), with G−1 degrees of freedom.
    byGroup,
    /// The same for few groups: residuals of each group adjusted by the symmetric square root of (I − H)
    /// there, so
    /// that the covariance is unbiased where the spread is equal, and for t the degrees of freedom that
    /// Satterthwaite's
    /// approximation gives each combination (Bell and McCaffrey 2002, Survey Methodology 28; Pustejovsky and
    /// Tipton
    /// 2018, Journal of Business & Economic Statistics 36).
    byFewGroups,
    /// Serial dependence up to some lags (Newey and West 1987, Econometrica 55), times n/(n−k); several rows
    /// of one
    /// period are added up first, so that rows of one period may depend on each other too (Driscoll and Kraay
    /// 1998, Review of Economics and Statistics 80).
    serial
};

struct RobustErrors {
    /// See LeastSquaresFit::covarianceRoot.
    Eigen::MatrixXd covarianceRoot;
    /// Of t.
    double degreesOfFreedom = 0;
    /// Groups, or periods; 0 otherwise.
    std::size_t units = 0;
    /// For byFewGroups.
    std::shared_ptr<const FewGroups> fewGroups{};
    /// Rows that alone fix their fitted value (1 − h < 1e-10). Their residual is 0 whatever the spread: they
    /// add nothing here.
    std::size_t rowsFixed = 0;
    /// See LeastSquaresFit::unseen.
    Eigen::MatrixXd unseen{};
    bool undefinedThere = false;
};

/// Where the fit was worked out to twice the precision and kept its orthonormal rows, so are these.
/// `units`: for byGroup and byFewGroups the group of each row, for serial the period of each row, both
/// counted from 0; empty otherwise. `lags` for serial, 0 or more. `weights` as the fit was made with.
/// Requires the rows of the fit. Errors: tooFewRows with fewer than two groups or not more periods than lags.
/// Throws Stopped.
RobustErrors robustErrors(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                          ErrorsKind kind, std::span<const std::uint32_t> units, int lags, Threads threads,
                          Progress& progress);

/// Lags to look back over n periods: the whole part of 4(n/100)^(2/9) (Newey and West 1994, Review of
/// Economic Studies 61).
int usualLags(std::size_t periods);

} // namespace oxgoad
