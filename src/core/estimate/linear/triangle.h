#pragma once
// The reduction of rows to a triangular factor.
#include "base/progress.h"

#include <Eigen/Core>

namespace oxgoad {

/// Takes rows into R (columns × columns, upper triangular) by Householder reflections of one row of R and all
/// the rows given (Golub and Van Loan 2013, §6.5.3), which are worked on in their place: R'R grows by the
/// products of the rows. Many columns are reduced in panels whose reflections are applied as one product
/// (Schreiber and Van Loan 1989, "A storage-efficient WY representation for products of Householder
/// transformations"; panels by halves: Elmroth and Gustavson 2000, "Applying recursion to serial and parallel
/// QR factorization"). Where R has no rows yet, R of the rows. Throws Stopped.
void absorb(Eigen::MatrixXd& r, Eigen::Ref<Eigen::MatrixXd> rows, const Progress& progress);

/// How many rows of so many columns are best taken in at once: as many as stay in the cache.
Eigen::Index rowsAtOnce(Eigen::Index columns);

/// R of the rows given (columns × columns), by Householder reflections (Golub and Van Loan 2013, §5.2),
/// padded with zero rows where there are fewer rows; `block` is worked on in its place. Throws Stopped.
Eigen::MatrixXd triangle(Eigen::Ref<Eigen::MatrixXd> block, const Progress& progress);

/// Rows times the inverse of an upper triangle with no zero on its diagonal, in their place (Golub and Van
/// Loan 2013, §3.1.7).
void solveRows(const Eigen::MatrixXd& triangle, Eigen::Ref<Eigen::MatrixXd> rows);

/// Householder reflection that zeroes column `j` of `work` below row `top`; applied to the columns after it
/// too. What it leaves at `top`.
double reflect(Eigen::Ref<Eigen::MatrixXd> work, Eigen::Index top, Eigen::Index j);

/// The same for the first columns of rows, applied to all; the diagonal comes out at 0 or above. Rows of
/// which the first `count` are R's and what the other columns share with it, the others what is left.
void reduceColumns(Eigen::Ref<Eigen::MatrixXd> work, Eigen::Index count);

/// Takes 1 (times the roots of the weights) out of rows by one reflection: the first of them becomes what
/// their columns share with it, the others what is left. The length of the roots; with 0 nothing is changed.
double takeOne(Eigen::Ref<Eigen::MatrixXd> rows, const Eigen::VectorXd& roots);

} // namespace oxgoad
