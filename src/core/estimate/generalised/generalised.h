#pragma once
// Models of the mean whose variance is a power of it, with a log or identity link.
#include "estimate/model_kind.h"

namespace oxgoad {

/// "gamma": Var y = φμ² (McCullagh and Nelder 1989, "Generalized linear models", 2nd ed., ch. 8). y > 0.
ModelKind gammaKind();
/// "inverse Gaussian": Var y = φμ³. y > 0.
ModelKind inverseGaussianKind();
/// "counts": Var y = φμ with φ free (ibid., §6.2.3 and §9.2). y >= 0, and need not be whole.
ModelKind countsKind();
/// "tweedie": Var y = φμ^p with 1 < p < 2, given or found by profile likelihood (Dunn and Smyth 2005,
/// Statistics and Computing 15). y >= 0, with zeros.
ModelKind tweedieKind();

// All four: coefficients by iteratively reweighted least squares (McCullagh and Nelder 1989, §2.5): steps in
// an orthonormal basis of the columns, halved until the deviance falls, then least squares of the working
// response with the working weights, which proves itself (X'Wr = 0) and gives the covariance φ(X'WX)⁻¹, with
// φ by Pearson's statistic over n − k, and t on n − k degrees of freedom. Rows of weight w have the variance
// φV(μ)/w. The offset is on the scale of the link: ln(exposure) with the log link. Residuals are deviance
// residuals. Missing values: rows without them are not learned from. Errors: wrongType for responses that the
// kind cannot have; badTerm for a level all of whose rows are 0 (its coefficient has no finite estimate), for
// means that leave what the identity link allows, for an offset that is not finite; tooFewRows. Throws
// Stopped. The result does not depend on the number of threads.

} // namespace oxgoad
