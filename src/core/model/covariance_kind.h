#pragma once
// Names of the ways in which standard errors of coefficients are made.

namespace oxgoad {

/// How the standard errors are worked out.
enum class CovarianceKind {
    /// σ²(X'X)⁻¹: the same spread everywhere, rows independent.
    homoskedastic,
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
    clustered,
    /// The same for few groups: residuals of each group adjusted by the symmetric square root of (I − H)
    /// there, so
    /// that the covariance is unbiased where the spread is equal, and for t the degrees of freedom that
    /// Satterthwaite's
    /// approximation gives each combination (Bell and McCaffrey 2002, Survey Methodology 28; Pustejovsky and
    /// Tipton
    /// 2018, Journal of Business & Economic Statistics 36).
    clusteredFewGroups,
    /// Serial dependence up to some lags (Newey and West 1987, Econometrica 55), times n/(n−k); several rows
    /// of one
    /// period are added up first, so that rows of one period may depend on each other too (Driscoll and Kraay
    /// 1998, Review of Economics and Statistics 80).
    autocorrelated
};

} // namespace oxgoad
