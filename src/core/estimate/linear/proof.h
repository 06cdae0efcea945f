#pragma once
// What proves a least squares fit where it runs: its residuals are orthogonal to every column.
#include <Eigen/Core>

namespace oxgoad {

class LeastSquaresFit;

/// Of the residuals that a fit reports: X~'Wr by place, of shifted and scaled columns and residuals, and Σ w
/// r².
struct ResidualSums {
    Eigen::VectorXd products;
    long double sumOfSquares = 0;
};

/// Leaves in the fit how far its residuals are from being orthogonal to its columns: the largest |x~'Wr| over
/// what rounding may make of it, 64 ε (√n + rank) ‖x~‖ (‖y~‖ + Σ |b~| ‖x~‖) in the norm of the weights
/// (residuals of a backward stable solution: Björck 1996, "Numerical methods for least squares problems",
/// §1.4; Higham 2002, "Accuracy and stability of numerical algorithms", §20.1). Above 1 the fit is no least
/// squares, whatever way it was taken, and the digits left are told from it. `solution` by place.
void prove(LeastSquaresFit& fit, const Eigen::VectorXd& products, const Eigen::VectorXd& solution);

} // namespace oxgoad
