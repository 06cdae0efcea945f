#include "estimate/linear/triangle.h"

#include "estimate/kernel_arrays.h"

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

void reflect(Eigen::MatrixXd& work, Eigen::Index top, Eigen::Index j) {
    const Eigen::Index below = work.rows() - top;
    if (below <= 1) return;
    Eigen::VectorXd v = work.col(j).tail(below);
    if (v.tail(below - 1).isZero(0)) return;
    const double alpha = v[0] > 0 ? -v.norm() : v.norm();
    v[0] -= alpha;
    const double square = v.squaredNorm();
    if (square == 0) return;
    auto part = work.block(top, j, below, work.cols() - j);
    part -= v * (2.0 / square * (v.transpose() * part));
}

void reduceColumns(Eigen::Ref<Eigen::MatrixXd> work, Eigen::Index count) {
    for (Eigen::Index j = 0; j < std::min(count, work.rows()); ++j) {
        const Eigen::Index below = work.rows() - j;
        Eigen::VectorXd v = work.col(j).tail(below);
        const double length = v.norm();
        if (length == 0) continue;
        const bool turned = v[0] < 0;
        v[0] += turned ? -length : length;                   // nothing cancels
        const double scale = 1 / (length * std::fabs(v[0])); // 2/v'v
        auto part = work.block(j, j + 1, below, work.cols() - j - 1);
        const Eigen::RowVectorXd along = scale * (v.transpose() * part);
        part.noalias() -= v * along;
        if (!turned) part.row(0) *= -1;
        work.col(j).tail(below).setZero();
        work(j, j) = length;
    }
}

double takeOne(Eigen::Ref<Eigen::MatrixXd> rows, const Eigen::VectorXd& roots) {
    const double length = roots.norm();
    if (length == 0) return 0;
    Eigen::VectorXd v = roots;
    v[0] += length;                           // roots are not below 0: nothing cancels
    const double scale = 1 / (length * v[0]); // 2/v'v
    const Eigen::RowVectorXd along = scale * (v.transpose() * rows);
    rows.noalias() -= v * along;
    rows.row(0) *= -1;
    return length;
}

} // namespace oxgoad
