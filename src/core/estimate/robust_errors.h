#pragma once
// Standard errors of least squares that stand unequal spread, groups and serial dependence.
#include "estimate/least_squares.h"

#include <cstdint>
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
    /// Serial dependence up to some lags (Newey and West 1987, Econometrica 55), times n/(n−k); several rows
    /// of one
    /// period are added up first, so that rows of one period may depend on each other too (Driscoll and Kraay
    /// 1998, Review of Economics and Statistics 80).
    serial
};

/// Covariance of the fit's shifted coefficients (see LeastSquaresFit::covariance) and degrees of freedom for
/// t.
struct RobustErrors {
    Eigen::MatrixXd covariance;
    double degreesOfFreedom = 0;
    /// Groups, or periods; 0 otherwise.
    std::size_t units = 0;
};

/// `units`: for byGroup the group of each row, for serial the period of each row, both counted from 0; empty
/// otherwise. `lags` for serial, 0 or more. `weights` as the fit was made with. Requires the rows of the fit.
/// Errors: tooFewRows with fewer than two groups or not more periods than lags. Throws Stopped.
RobustErrors robustErrors(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                          ErrorsKind kind, std::span<const std::uint32_t> units, int lags, Threads threads,
                          Progress& progress);

/// Lags to look back over n periods: the whole part of 4(n/100)^(2/9) (Newey and West 1994, Review of
/// Economic Studies 61).
int usualLags(std::size_t periods);

} // namespace oxgoad
