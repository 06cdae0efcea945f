#pragma once
// From what a fit says to a prediction in the response's unit.
#include "estimate/least_squares.h"

#include <memory>
#include <string>

namespace oxgoad {

/// How predictions and their intervals follow from a fit.
struct PredictionRule {
    /// The fit is one of ln(response).
    bool logarithm = false;
    /// Mean of exp(residual) over the learning rows: exp of a predicted mean of logarithms falls short of the
    /// mean by this factor (Duan 1983, "Smearing estimate", Journal of the American Statistical Association
    /// 78). 1 for quantiles, which need none.
    double smearing = 1;
    /// Variance of exp(residual) over its squared mean: of one value about its mean, relative.
    double relativeVariance = 0;
    /// Column added to the linear predictor, on the fit's scale; empty without.
    std::string offset;
    /// Column of weights; rows without a value have the mean weight of the learning rows.
    std::string weight;
    double usualWeight = 1;
    /// Standard deviation of a row of weight 1, on the fit's scale.
    double spread = 0;
    /// Quantile regression: its share, and the fits of the quantiles that bound one value, when asked for.
    double share = 0;
    std::shared_ptr<const LeastSquaresFit> lower{}, upper{};

    bool isQuantile() const { return share > 0; }
    /// From the fit's scale to the response's unit: exp and smearing, or nothing.
    double natural(double predictor) const;
};

} // namespace oxgoad
