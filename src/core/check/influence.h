#pragma once
// What leaving out a row would change, in closed form.
#include "estimate/linear/linear_model.h"

#include <cmath>
#include <functional>
#include <span>
#include <vector>

namespace oxgoad {

/// DFBETAS (Belsley, Kuh and Welsch 1980, eq. 2.7): the change of a coefficient when a row is left out, over
/// its standard error with the deleted residual standard deviation. For rows of least squares with their
/// leverages and deleted residuals, times the weights' roots inside. Calls use(first, block) for blocks of
/// rows, in parallel: rows × (constant, if there is one, then the kept columns). NaN for a row that alone
/// fixes its value. Throws Stopped.
void forEachDfbetas(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                    std::span<const double> leverages, std::span<const double> studentized, Threads threads,
                    Progress& progress,
                    const std::function<void(Eigen::Index first, const Eigen::MatrixXd& block)>& use);

/// Of each row the DFBETAS of the coefficient that it moves most: where levels are apart without working out
/// those that cannot be it. Arguments and errors as above.
struct LargestDfbetas {
    /// NaN for a row that alone fixes its value.
    double value = std::nan("");
    /// Of the constant, if there is one, then the kept columns.
    Eigen::Index place = 0;
};
std::vector<LargestDfbetas> largestDfbetas(const LeastSquaresFit& fit, const RowSource& x,
                                           std::span<const double> weights, std::span<const double> leverages,
                                           std::span<const double> studentized, Threads threads,
                                           Progress& progress);

/// By how much coefficients are other with a row than without it: (X'X)⁻¹x w e/(1 − h).
struct CoefficientChange {
    /// The constant, if there is one, then the kept columns: in natural units, and of the shifted columns.
    Eigen::VectorXd naturalChange, shiftedChange;
    /// Over standard errors with the deleted residual standard deviation.
    Eigen::VectorXd dfbetas;
};
/// Of one learning row, whose columns are `x` (1 × p); requires a leverage below 1.
CoefficientChange changeWithout(const LeastSquaresFit& fit, const Eigen::MatrixXd& x, double weight,
                                double residual, double leverage, double studentized);

struct CheckContext;
struct Findings;
/// The row that moves a coefficient most, by DFBETAS; threshold 1.
void checkMovedCoefficients(const CheckContext& context, Findings& findings);

/// t √(h / (1 − h)), eq. 2.11.
double dffits(double studentized, double leverage);

} // namespace oxgoad
