#include "estimate/linear/triangle.h"

#include "estimate/kernel_arrays.h"
#include "kernels/reflection.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::Ref;

namespace {

bool isTold(const void* progress) {
    return static_cast<const Progress*>(progress)->stopRequested();
}

/// R of hardly more rows than columns, reduced among themselves.
MatrixXd triangleOfFew(Ref<MatrixXd> block, const Progress& progress) {
    MatrixXd r = MatrixXd::Zero(block.cols(), block.cols());
    if (!oxgoad_triangle_of_few(arrayOf(r), arrayOf(block), isTold, &progress)) throw Stopped{};
    return r;
}

} // namespace

void absorb(MatrixXd& r, Ref<MatrixXd> rows, const Progress& progress) {
    if (rows.cols() == 0) return;
    if (r.rows() == 0)
        r = triangle(rows, progress);
    else if (!oxgoad_absorb(arrayOf(r), arrayOf(rows), isTold, &progress))
        throw Stopped{};
}

void solveRows(const MatrixXd& triangle, Ref<MatrixXd> rows) {
    if (triangle.size() > 0 && rows.rows() > 0) oxgoad_solve_rows(readArrayOf(triangle), arrayOf(rows));
}

Index rowsAtOnce(Index columns) {
    return std::clamp<Index>((1 << 15) / (columns + 1), 512, 8192);
}

MatrixXd triangle(Ref<MatrixXd> block, const Progress& progress) {
    if (block.rows() < 2 * block.cols()) return triangleOfFew(block, progress);
    MatrixXd r = MatrixXd::Zero(block.cols(), block.cols());
    const Index step = rowsAtOnce(block.cols());
    for (Index begin = 0; begin < block.rows(); begin += step)
        absorb(r, block.middleRows(begin, std::min(step, block.rows() - begin)), progress);
    return r;
}

namespace {

/// Turns the columns of `part` by the reflection of [first; below], of which `below` is scaled in its place.
void turnBy(const Reflection& turn, Eigen::VectorXd& below, Ref<MatrixXd> part) {
    below *= turn.scale;
    Eigen::RowVectorXd along = part.row(0);
    along.noalias() += below.transpose() * part.bottomRows(below.size());
    along *= turn.factor;
    part.row(0) -= along;
    part.bottomRows(below.size()).noalias() -= below * along;
}

} // namespace

double reflect(Ref<MatrixXd> work, Index top, Index j) {
    const Index below = work.rows() - top - 1, after = work.cols() - j - 1;
    if (below < 0) return 0;
    Eigen::VectorXd column = work.col(j).tail(below);
    const Reflection turn = reflectionOf(work(top, j), column);
    work(top, j) = turn.length;
    work.col(j).tail(below).setZero();
    if (turn.factor != 0 && after > 0) turnBy(turn, column, work.block(top, j + 1, below + 1, after));
    return turn.length;
}

void reduceColumns(Ref<MatrixXd> work, Index count) {
    for (Index j = 0; j < std::min(count, work.rows()); ++j)
        if (reflect(work, j, j) < 0) work.row(j).tail(work.cols() - j) *= -1;
}

double takeOne(Ref<MatrixXd> rows, const Eigen::VectorXd& roots) {
    const double length = lengthOf(roots);
    if (length == 0) return 0;
    Eigen::VectorXd below = roots.tail(roots.size() - 1);
    const Reflection turn = reflectionOf(roots[0], below);
    if (turn.factor != 0) turnBy(turn, below, rows);
    if (turn.length < 0) rows.row(0) *= -1;
    return length;
}

} // namespace oxgoad
