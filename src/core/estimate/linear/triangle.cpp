#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>

namespace oxgoad {

Eigen::MatrixXd triangle(Eigen::MatrixXd& block, const Progress& progress) {
    const Eigen::Index k = block.cols();
    // Panel by panel, so that most of the work is products of matrices; to the right in pieces of some 2e8
    // operations, so that a stop is seen soon.
    // Wide panels are applied as one product each (48 reflections or more), narrow ones one by one.
    const Eigen::Index panel = k >= 128 ? 64 : std::clamp<Eigen::Index>((k + 1) / 2, 8, 32);
    for (Eigen::Index j = 0; j < std::min(k, block.rows()); j += panel) {
        const Eigen::Index width = std::min(panel, k - j), below = block.rows() - j;
        Eigen::Ref<Eigen::MatrixXd> left = block.block(j, j, below, width); // factored in its place
        const Eigen::HouseholderQR<Eigen::Ref<Eigen::MatrixXd>> qr(left);
        const Eigen::Index piece = std::max<Eigen::Index>(64, 50000000 / (below * width));
        for (Eigen::Index from = j + width; from < k; from += piece) {
            if (progress.stopRequested()) throw Stopped{};
            block.block(j, from, below, std::min(piece, k - from))
                .applyOnTheLeft(qr.householderQ().adjoint());
        }
    }
    const Eigen::Index m = std::min(block.rows(), k);
    Eigen::MatrixXd r = Eigen::MatrixXd::Zero(k, k);
    r.topRows(m) = block.topRows(m).triangularView<Eigen::Upper>();
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
