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

/// The same for the first columns of rows, applied to all; the diagonal comes out at 0 or above. Rows of
/// which the first `count` are R's and what the other columns share with it, the others what is left.
void reduceColumns(Eigen::Ref<Eigen::MatrixXd> work, Eigen::Index count);

/// Takes 1 (times the roots of the weights) out of rows by one reflection: the first of them becomes what
/// their columns share with it, the others what is left. The length of the roots; with 0 nothing is changed.
double takeOne(Eigen::Ref<Eigen::MatrixXd> rows, const Eigen::VectorXd& roots);

} // namespace oxgoad
