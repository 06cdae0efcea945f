#include "check/influence.h"

#include "base/not_a_number.h"
#include "estimate/linear/apart_reader.h"
#include "estimate/row_blocks.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;

namespace {

/// Rows are coefficients in natural units (the constant first), columns the orthonormal basis: A with
/// (X'X)⁻¹x = A u for a row's orthonormal form u, so that row j has the squared length (X'X)⁻¹_jj.
Eigen::MatrixXd naturalRoot(const LeastSquaresFit& fit) {
    const Index rank = fit.rank();
    const Index first = fit.intercept ? 1 : 0;
    Eigen::MatrixXd root = fit.factor.solve(Eigen::MatrixXd::Identity(rank, rank));
    for (Index k = first; k < rank; ++k) {
        const auto column = static_cast<Index>(fit.kept[static_cast<std::size_t>(k - first)]);
        root.row(k) *= fit.scale[column];
        if (fit.intercept) root.row(0) -= fit.shift[column] * root.row(k);
    }
    return root;
}

/// Coefficients in natural units, by place, of those of the shifted, scaled columns.
Eigen::VectorXd naturally(const LeastSquaresFit& fit, Eigen::VectorXd b) {
    const Index first = fit.intercept ? 1 : 0;
    for (std::size_t k = 0; k < fit.kept.size(); ++k) {
        const auto column = static_cast<Index>(fit.kept[k]);
        double& own = b[first + static_cast<Index>(k)];
        own *= fit.scale[column];
        if (fit.intercept) b[0] -= fit.shift[column] * own;
    }
    return b;
}

/// Lengths of the rows of naturalRoot, without it.
Eigen::VectorXd naturalLengths(const LeastSquaresFit& fit) {
    const Index first = fit.intercept ? 1 : 0;
    Eigen::VectorXd lengths(fit.rank()), constant = Eigen::VectorXd::Zero(fit.rank());
    if (fit.intercept) constant[0] = 1;
    for (std::size_t k = 0; k < fit.kept.size(); ++k) {
        const auto column = static_cast<Index>(fit.kept[k]);
        const Index place = first + static_cast<Index>(k);
        lengths[place] = fit.factor.direction(place).norm() * fit.scale[column];
        constant[place] = -fit.shift[column] * fit.scale[column];
    }
    if (fit.intercept) lengths[0] = fit.factor.directionOf(constant).norm();
    return lengths;
}

/// Rows times the natural root over its rows' lengths, where levels are apart: of their directions a row has
/// its own, by which only the coefficient of its own level goes.
void forEachApart(const LeastSquaresFit& fit, const RowSource& x, Threads threads, Progress& progress,
                  const std::function<void(Index begin, Eigen::MatrixXd& block)>& use) {
    const ApartReader reader(fit, x);
    const TriangularFactor::Levels& levels = fit.factor.ofLevels();
    const Eigen::VectorXd lengths = naturalLengths(fit);
    const Index rest = fit.factor.triangle().rows(), first = fit.intercept ? 1 : 0;
    Eigen::MatrixXd ofRest = Eigen::MatrixXd::Zero(rest, fit.rank());
    if (fit.intercept) ofRest.col(0) = fit.factor.direction(0).tail(rest);
    for (std::size_t k = 0; k < fit.kept.size(); ++k) {
        const auto column = static_cast<Index>(fit.kept[k]);
        const Index place = first + static_cast<Index>(k);
        ofRest.col(place) = fit.scale[column] * fit.factor.direction(place).tail(rest);
        if (fit.intercept) ofRest.col(0) -= fit.shift[column] * ofRest.col(place);
    }
    ofRest = (ofRest * lengths.cwiseInverse().asDiagonal()).eval();
    constexpr Index piece = 256;
    parallelFor(static_cast<std::size_t>((x.rows() + piece - 1) / piece), threads, [&](std::size_t b) {
        if (progress.stopRequested()) throw Stopped{};
        const Index begin = static_cast<Index>(b) * piece;
        ApartReader::Rows rows = reader.read(begin, std::min(piece, x.rows() - begin));
        reader.turn(rows);
        Eigen::MatrixXd block = rows.rest * ofRest;
        for (Index i = 0; i < block.rows(); ++i) {
            const Index from = rows.first[static_cast<std::size_t>(i)],
                        count = rows.directions[static_cast<std::size_t>(i)];
            for (Index k = count; k-- > 0;) { // R⁻¹ of its directions
                double& value = rows.own(i, k);
                for (Index j = k + 1; j < count; ++j)
                    value -= levels.own(from + k, j - k) * rows.own(i, j);
                value /= levels.own(from + k, 0);
                const Index place = levels.places[static_cast<std::size_t>(from + k)];
                block(i, place) += value / lengths[place];
            }
        }
        use(begin, block);
    });
}

} // namespace

double dffits(double studentized, double leverage) {
    return leverage < 1 ? studentized * std::sqrt(leverage / (1 - leverage)) : nan;
}

CoefficientChange changeWithout(const LeastSquaresFit& fit, const Eigen::MatrixXd& x, double weight,
                                double residual, double leverage, double studentized) {
    const Eigen::VectorXd u = fit.factor.solveTransposed(fit.shifted(x).transpose());
    CoefficientChange change;
    const double scaled = weight * residual / (1 - leverage);
    change.shiftedChange = fit.factor.solve(u * scaled);
    const Eigen::VectorXd along = naturally(fit, fit.factor.solve(u));
    change.naturalChange = along * scaled;
    change.dfbetas =
        along.cwiseQuotient(naturalLengths(fit)) * (studentized * std::sqrt(weight / (1 - leverage)));
    return change;
}

void forEachDfbetas(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                    std::span<const double> leverages, std::span<const double> studentized, Threads threads,
                    Progress& progress,
                    const std::function<void(Index first, const Eigen::MatrixXd& block)>& use) {
    const auto finish = [&](Index begin, Eigen::MatrixXd& block) {
        Eigen::VectorXd times(block.rows());
        for (Index i = 0; i < block.rows(); ++i) {
            const auto at = static_cast<std::size_t>(begin + i);
            const double rest = 1 - leverages[at];
            const double weight = weights.empty() ? 1 : weights[at];
            times[i] = rest > 1e-10 ? studentized[at] * std::sqrt(weight / rest) : nan;
        }
        block.array().colwise() *= times.array();
        use(begin, block);
    };
    if (fit.factor.levels() > 0 && x.levels()) {
        forEachApart(fit, x, threads, progress, finish);
        return;
    }
    const Eigen::MatrixXd root = naturalRoot(fit);
    const Eigen::VectorXd lengths = root.rowwise().norm();
    const Eigen::MatrixXd scaled = (lengths.cwiseInverse().asDiagonal() * root).transpose();
    forRowBlocks(x, threads, progress, [&](Index begin, const Eigen::MatrixXd& raw) {
        // The root is upper triangular, the constant's row included, where there is one triangle.
        Eigen::MatrixXd block = fit.inOrthonormalBasis(raw);
        if (fit.factor.levels() == 0)
            block = (block * scaled.triangularView<Eigen::Lower>()).eval();
        else
            block = (block * scaled).eval();
        finish(begin, block);
    });
}

} // namespace oxgoad
