#pragma once
// The reduction of rows to a triangular factor.
#include "base/progress.h"

#include <Eigen/Core>

namespace oxgoad {

/// R of the rows given (columns × columns), by Householder reflections (Golub and Van Loan 2013, §5.2),
/// padded with zero rows where there are fewer rows; `block` is worked on in its place. Throws Stopped.
Eigen::MatrixXd triangle(Eigen::MatrixXd& block, const Progress& progress);

} // namespace oxgoad
