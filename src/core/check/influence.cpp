#include "check/influence.h"

#include "base/not_a_number.h"
#include "estimate/row_blocks.h"

#include <cmath>

namespace oxgoad {

using Eigen::Index;

namespace {

/// Rows are coefficients in natural units (the constant first), columns the orthonormal basis: A with
/// (X'X)⁻¹x = A u for a row's orthonormal form u, so that row j has the squared length (X'X)⁻¹_jj.
Eigen::MatrixXd naturalRoot(const LeastSquaresFit& fit) {
    const Index rank = fit.rank();
    const Index first = fit.intercept ? 1 : 0;
    const Eigen::MatrixXd inverse = fit.factor.topLeftCorner(rank, rank)
                                        .triangularView<Eigen::Upper>()
                                        .solve(Eigen::MatrixXd::Identity(rank, rank));
    Eigen::MatrixXd root = inverse;
    for (Index k = first; k < rank; ++k) {
        const auto column = static_cast<Index>(fit.kept[static_cast<std::size_t>(k - first)]);
        root.row(k) *= fit.scale[column];
        if (fit.intercept) root.row(0) -= fit.shift[column] * root.row(k);
    }
    return root;
}

} // namespace

double dffits(double studentized, double leverage) {
    return leverage < 1 ? studentized * std::sqrt(leverage / (1 - leverage)) : nan;
}

CoefficientChange changeWithout(const LeastSquaresFit& fit, const Eigen::MatrixXd& x, double weight,
                                double residual, double leverage, double studentized) {
    const Index rank = fit.rank();
    const auto factor = fit.factor.topLeftCorner(rank, rank).triangularView<Eigen::Upper>();
    const Eigen::VectorXd u = factor.transpose().solve(Eigen::VectorXd(fit.shifted(x).transpose()));
    const Eigen::MatrixXd root = naturalRoot(fit);
    CoefficientChange change;
    const double scaled = weight * residual / (1 - leverage);
    change.shiftedChange = factor.solve(Eigen::VectorXd(u * scaled));
    const Eigen::VectorXd along = root * u;
    change.naturalChange = along * scaled;
    change.dfbetas =
        along.cwiseQuotient(root.rowwise().norm()) * (studentized * std::sqrt(weight / (1 - leverage)));
    return change;
}

void forEachDfbetas(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                    std::span<const double> leverages, std::span<const double> studentized, Threads threads,
                    Progress& progress,
                    const std::function<void(Index first, const Eigen::MatrixXd& block)>& use) {
    const Eigen::MatrixXd root = naturalRoot(fit);
    const Eigen::VectorXd lengths = root.rowwise().norm();
    const Eigen::MatrixXd scaled = (lengths.cwiseInverse().asDiagonal() * root).transpose();
    forRowBlocks(x, threads, progress, [&](Index begin, const Eigen::MatrixXd& raw) {
        // The root is upper triangular, the constant's row included.
        Eigen::MatrixXd block = fit.inOrthonormalBasis(raw) * scaled.triangularView<Eigen::Lower>();
        for (Index i = 0; i < block.rows(); ++i) {
            const auto at = static_cast<std::size_t>(begin + i);
            const double rest = 1 - leverages[at];
            const double weight = weights.empty() ? 1 : weights[at];
            block.row(i) *= rest > 1e-10 ? studentized[at] * std::sqrt(weight / rest) : nan;
        }
        use(begin, block);
    });
}

} // namespace oxgoad
