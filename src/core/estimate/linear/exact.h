#pragma once
// Least squares to twice the precision, from a reduction that was made in doubles.
#include "estimate/linear/least_squares.h"

namespace oxgoad {

/// Works out anew, to about 32 digits less those the conditioning takes, what a fit says: coefficients,
/// standard errors, residuals, sums of squares, leverages, and the factor, its inverse and the projections,
/// each rounded to doubles from there; LeastSquaresFit::orthonormal when it is to be kept. Needs of the fit:
/// kept columns, shifts, scales, factor, degrees of freedom; residuals, fitted values and leverages of length
/// n.
///
/// The factor R of the doubles makes the columns nearly orthonormal, Z = X~R⁻¹, row by row in double-double
/// numbers from the columns as they really are; the products Z'Z are then near the identity and lose nothing,
/// and their triangular factor C corrects R to C·R (Yamamoto, Nakatsukasa, Yanagisawa and Fukaya 2015,
/// "Roundoff error analysis of the CholeskyQR2 algorithm"; Hida, Li and Bailey 2001 for the arithmetic;
/// Björck 1967 and Demmel, Hida, Riedy and Li 2009 for residuals in extended precision).
/// Holds n × rank doubles meanwhile. False, with nothing changed, when R is no help because the conditioning
/// leaves no digit. Throws Stopped. The same for any number of threads and on any machine.
bool solveExactly(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                  std::span<const double> weights, bool keepOrthonormal, Threads threads, Progress& progress);

} // namespace oxgoad
