#pragma once
// The kinds of model that have coefficients.
#include "estimate/model_kind.h"

namespace oxgoad {

/// Least squares, with errors of coefficients of any kind.
ModelKind leastSquaresKind();
/// See fitRobust.
ModelKind robustKind();
/// See fitQuantile.
ModelKind quantileKind();

} // namespace oxgoad
