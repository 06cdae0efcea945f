#pragma once
// The kinds of model that have coefficients.
#include "estimate/linear/linear_model.h"
#include "estimate/model_kind.h"

namespace oxgoad {

/// Least squares, with errors of coefficients of any kind.
ModelKind leastSquaresKind();
/// See fitRobust.
ModelKind robustKind();
/// See fitQuantile.
ModelKind quantileKind();
/// Least squares whose errors follow an autoregression in each series, by the exact likelihood with missing
/// periods; the order by AICc (Hurvich and Tsai 1989, Biometrika 76) where it is to be found. It says of a
/// row what its terms do and what the errors of the rows before it leave.
ModelKind autoregressiveKind();

/// What all linear kinds end with: values of rows go beside the model.
FitResult finishedLinear(LinearModel model, LeastSquaresFit fit, std::optional<Iterated> iterated);
/// Standard errors as the training data ask, in place of those of equal spread, of a fit of x with weights.
void replaceErrors(LinearModel& model, LeastSquaresFit& fit, const TrainingData& training,
                   std::span<const double> weights, const RowSource& x, Progress& progress);

} // namespace oxgoad
