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
/// its own, by which only the coefficients of its own level go.
class ApartRoot {
public:
    ApartRoot(const LeastSquaresFit& fit, const RowSource& x)
        : m_fit(fit), m_reader(fit, x), m_lengths(naturalLengths(fit)) {
        const Index rest = fit.factor.triangle().rows(), first = fit.intercept ? 1 : 0;
        m_ofRest = Eigen::MatrixXd::Zero(rest, fit.rank());
        if (fit.intercept) m_ofRest.col(0) = fit.factor.direction(0).tail(rest);
        for (std::size_t k = 0; k < fit.kept.size(); ++k) {
            const auto column = static_cast<Index>(fit.kept[k]);
            const Index place = first + static_cast<Index>(k);
            m_ofRest.col(place) = fit.scale[column] * fit.factor.direction(place).tail(rest);
            if (fit.intercept) m_ofRest.col(0) -= fit.shift[column] * m_ofRest.col(place);
        }
        m_ofRest = (m_ofRest * m_lengths.cwiseInverse().asDiagonal()).eval();
    }

    /// Rest × rank: what a unit of each direction of the rest adds to each coefficient.
    const Eigen::MatrixXd& ofRest() const { return m_ofRest; }
    /// Of each row what its own level's coefficients get beside, and its rest as it is turned.
    ApartReader::Rows read(Index begin, Index count) const {
        ApartReader::Rows rows = m_reader.read(begin, count);
        m_reader.turn(rows);
        const TriangularFactor::Levels& levels = m_fit.factor.ofLevels();
        for (Index i = 0; i < count; ++i) {
            const Index from = rows.first[static_cast<std::size_t>(i)],
                        across = rows.directions[static_cast<std::size_t>(i)];
            for (Index k = across; k-- > 0;) { // R⁻¹ of its directions
                for (Index j = k + 1; j < across; ++j)
                    rows.own(i, k) -= levels.own(from + k, j - k) * rows.own(i, j);
                rows.own(i, k) /= levels.own(from + k, 0);
            }
            for (Index k = 0; k < across; ++k)
                rows.own(i, k) /= m_lengths[place(rows, i, k)];
        }
        return rows;
    }
    /// Of a row's own coefficient.
    Index place(const ApartReader::Rows& rows, Index i, Index k) const {
        return m_fit.factor.ofLevels()
            .places[static_cast<std::size_t>(rows.first[static_cast<std::size_t>(i)] + k)];
    }

private:
    const LeastSquaresFit& m_fit;
    ApartReader m_reader;
    Eigen::VectorXd m_lengths;
    Eigen::MatrixXd m_ofRest;
};

void forEachApart(const LeastSquaresFit& fit, const RowSource& x, Threads threads, Progress& progress,
                  const std::function<void(Index begin, Eigen::MatrixXd& block)>& use) {
    const ApartRoot root(fit, x);
    constexpr Index piece = 256;
    parallelFor(static_cast<std::size_t>((x.rows() + piece - 1) / piece), threads, [&](std::size_t b) {
        stopIfTold(progress);
        const Index begin = static_cast<Index>(b) * piece;
        const ApartReader::Rows rows = root.read(begin, std::min(piece, x.rows() - begin));
        Eigen::MatrixXd block = rows.rest * root.ofRest();
        for (Index i = 0; i < block.rows(); ++i)
            for (Index k = 0; k < rows.directions[static_cast<std::size_t>(i)]; ++k)
                block(i, root.place(rows, i, k)) += rows.own(i, k);
        use(begin, block);
    });
}

/// The place that is moved most by a row of the root, the first of several alike.
struct Most {
    double value = 0;
    Index place = 0;
    void see(double other, Index at) {
        if (std::fabs(other) > std::fabs(value) || (std::fabs(other) == std::fabs(value) && at < place)) {
            value = other;
            place = at;
        }
    }
};

/// Of the coefficients of levels that are not a row's own, only those are worked out that could be moved
/// most.
void forEachMostApart(const LeastSquaresFit& fit, const RowSource& x, Threads threads, Progress& progress,
                      const std::function<void(Index row, const Most& most)>& use) {
    const ApartRoot root(fit, x);
    const std::vector<Index>& restPlaces = fit.factor.restPlaces();
    const Eigen::MatrixXd ofOthers = root.ofRest()(Eigen::all, restPlaces),
                          ofLevels = root.ofRest()(Eigen::all, fit.factor.ofLevels().places);
    const double farthest = ofLevels.colwise().norm().maxCoeff();
    constexpr Index piece = 4096;
    parallelFor(static_cast<std::size_t>((x.rows() + piece - 1) / piece), threads, [&](std::size_t b) {
        stopIfTold(progress);
        const Index begin = static_cast<Index>(b) * piece;
        const ApartReader::Rows rows = root.read(begin, std::min(piece, x.rows() - begin));
        const Eigen::MatrixXd others = rows.rest * ofOthers;
        for (Index i = 0; i < others.rows(); ++i) {
            Most most;
            for (Index k = 0; k < others.cols(); ++k)
                most.see(others(i, k), restPlaces[static_cast<std::size_t>(k)]);
            const Index across = rows.directions[static_cast<std::size_t>(i)];
            for (Index k = 0; k < across; ++k) {
                const Index place = root.place(rows, i, k);
                most.see(rows.rest.row(i).dot(root.ofRest().col(place)) + rows.own(i, k), place);
            }
            if (rows.rest.row(i).norm() * farthest >= std::fabs(most.value)) {
                const Eigen::RowVectorXd all = rows.rest.row(i) * ofLevels;
                const Index from = rows.first[static_cast<std::size_t>(i)];
                for (Index d = 0; d < all.size(); ++d)
                    if (d < from || d >= from + across)
                        most.see(all[d], fit.factor.ofLevels().places[static_cast<std::size_t>(d)]);
            }
            use(begin + i, most);
        }
    });
}

/// A row's DFBETAS over its row of the root.
double timesOfRow(std::size_t at, std::span<const double> weights, std::span<const double> leverages,
                  std::span<const double> studentized) {
    const double rest = 1 - leverages[at];
    const double weight = weights.empty() ? 1 : weights[at];
    return rest > 1e-10 ? studentized[at] * std::sqrt(weight / rest) : nan;
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
            times[i] = timesOfRow(static_cast<std::size_t>(begin + i), weights, leverages, studentized);
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

std::vector<LargestDfbetas> largestDfbetas(const LeastSquaresFit& fit, const RowSource& x,
                                           std::span<const double> weights, std::span<const double> leverages,
                                           std::span<const double> studentized, Threads threads,
                                           Progress& progress) {
    std::vector<LargestDfbetas> found(static_cast<std::size_t>(x.rows()));
    if (fit.factor.levels() > 0 && x.levels()) {
        forEachMostApart(fit, x, threads, progress, [&](Index row, const Most& most) {
            const auto at = static_cast<std::size_t>(row);
            found[at] = {most.value * timesOfRow(at, weights, leverages, studentized), most.place};
        });
        return found;
    }
    forEachDfbetas(fit, x, weights, leverages, studentized, threads, progress,
                   [&](Index first, const Eigen::MatrixXd& block) {
                       // Column by column, as they lie.
                       Eigen::VectorXd largest = block.col(0).cwiseAbs();
                       std::vector<Index> which(static_cast<std::size_t>(block.rows()), 0);
                       for (Index j = 1; j < block.cols(); ++j)
                           for (Index i = 0; i < block.rows(); ++i)
                               if (const double size = std::fabs(block(i, j)); size > largest[i]) {
                                   largest[i] = size;
                                   which[static_cast<std::size_t>(i)] = j;
                               }
                       for (Index i = 0; i < block.rows(); ++i) {
                           const Index place = which[static_cast<std::size_t>(i)];
                           found[static_cast<std::size_t>(first + i)] = {block(i, place), place};
                       }
                   });
    return found;
}

} // namespace oxgoad
