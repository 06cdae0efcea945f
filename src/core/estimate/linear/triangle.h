#pragma once
// The reduction of rows to a triangular factor.
#include "base/progress.h"

#include <Eigen/Core>

namespace oxgoad {

/// R of the rows given (columns × columns), by Householder reflections (Golub and Van Loan 2013, §5.2),
/// padded with zero rows where there are fewer rows; `block` is worked on in its place. Throws Stopped.
Eigen::MatrixXd triangle(Eigen::MatrixXd& block, const Progress& progress);

/// Householder reflection that zeroes column `j` of `work` below row `top`; applied to columns j and after.
void reflect(Eigen::MatrixXd& work, Eigen::Index top, Eigen::Index j);

} // namespace oxgoad
