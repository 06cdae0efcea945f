#pragma once
// Least trimmed squares: a fit that up to half of the rows cannot pull.
#include "base/parallel.h"
#include "base/progress.h"

#include <Eigen/Core>

#include <vector>

namespace oxgoad {

struct LeastTrimmed {
    /// Length n, on the scale of y.
    Eigen::VectorXd residuals;
    /// Of the reweighted step, for normal errors.
    double scale = 0;
    /// Rows with |residual| / scale above the normal quantile that one of n normal rows passes with
    /// probability 0.01; ascending.
    std::vector<Eigen::Index> suspects;
};

/// Coefficients of the orthonormal columns `q` (n × rank, rows times the roots of their weights, as `y` is)
/// that make the sum of the h = ⌊(n + rank + 1)/2⌋ smallest squared residuals small (Rousseeuw 1984, "Least
/// median of squares regression", Journal of the American Statistical Association 79), by concentration steps
/// from seeded random starts and from least squares (Rousseeuw and Van Driessen 2006, "Computing LTS
/// regression for large data sets", Data Mining and Knowledge Discovery 12), then reweighted at 2.5. Above
/// 1,500 rows the starts are tried on as many rows drawn at random. With many columns and many such rows the
/// starts may all hold some; what is found is then no proof that there are none. Requires n > 2·rank. The
/// same for any number of threads. Throws Stopped.
LeastTrimmed leastTrimmed(const Eigen::MatrixXd& q, const Eigen::VectorXd& y, Threads threads,
                          Progress& progress);

} // namespace oxgoad
