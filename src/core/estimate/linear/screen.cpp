#include "estimate/linear/screen.h"

#include "estimate/distributions.h"
#include "estimate/linear/apart_reader.h"
#include "estimate/linear/triangle.h"
#include "estimate/products.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <optional>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index chunkRows = 2048;
/// Chunks summed one after the other by one thread, at most.
constexpr Index mostGroupChunks = 8;
constexpr double dependentShare = 1e-9;

/// Sums over all rows that say what candidates add.
struct Products {
    /// rank × m: X~'Z.
    MatrixXd cross;
    /// Z'e.
    VectorXd withResiduals;
    /// Z'Z within each block, its columns by their order in the block.
    std::vector<MatrixXd> own;
};

/// A block after what the model says of it is taken out: its lower triangular factor over the columns that
/// are left, and what each of them takes from the residual sum of squares.
struct Eliminated {
    std::vector<std::size_t> left; // places within the block
    MatrixXd factor;               // of the columns left
    VectorXd effects;
    /// The smallest share that is left of one of them.
    double share = 1;
};

class Screener {
public:
    Screener(const LeastSquaresFit& fit, const RowSource& x, const RowSource& candidates,
             std::span<const ScreenBlock> blocks, std::span<const double> weights, Threads threads,
             Progress& progress)
        : m_weights(weights), m_fit(fit), m_x(x), m_candidates(candidates), m_blocks(blocks),
          m_threads(threads), m_progress(progress), m_columns(candidates.columns()),
          m_chunks((fit.rows + chunkRows - 1) / chunkRows) {
        m_shift = VectorXd::Zero(m_columns);
        m_scale = VectorXd::Ones(m_columns);
        if (fit.rows == 0) return;
        if (fit.factor.levels() > 0 && x.levels()) m_apart.emplace(fit, x);
        MatrixXd first(std::min(chunkRows, fit.rows), m_columns);
        candidates.fill(0, first);
        // Near the mean and near length 1: all that is needed is that no digits are lost.
        if (fit.intercept) m_shift = first.colwise().mean();
        for (Index j = 0; j < m_columns; ++j) {
            const double size = (first.col(j).array() - m_shift[j]).abs().maxCoeff();
            if (size > 0 && std::isfinite(size)) m_scale[j] = std::ldexp(1.0, -std::ilogb(size));
        }
    }

    Products sum() {
        // By the shape only, so that sums come out the same on any machine: few chunks still keep threads
        // busy, and sums of many columns are not held too often.
        const bool large = m_fit.rank() * m_columns > (1 << 18);
        const Index groupChunks =
            large ? mostGroupChunks : std::clamp<Index>(m_chunks / 16, 1, mostGroupChunks);
        const Index groups = (m_chunks + groupChunks - 1) / groupChunks;
        std::vector<Products> parts(static_cast<std::size_t>(groups));
        std::atomic<std::size_t> done{0};
        parallelFor(parts.size(), m_threads, [&](std::size_t g) {
            m_progress.checkpoint(static_cast<double>(done) / static_cast<double>(groups), "Screening terms");
            Products& part = parts[g] = empty();
            MatrixXd z;
            const Index begin = static_cast<Index>(g) * groupChunks;
            for (Index c = begin; c < std::min(m_chunks, begin + groupChunks); ++c) {
                stopIfTold(m_progress);
                if (m_apart) {
                    const ApartReader::Rows a = loadApart(c, z);
                    m_apart->addProducts(a, z, part.cross);
                } else {
                    MatrixXd a;
                    load(c, a, z);
                    addProducts(part.cross, a, z);
                }
                part.withResiduals.noalias() +=
                    z.transpose() *
                    m_fit.residuals.segment(c * chunkRows, z.rows()).cwiseProduct(roots(c, z.rows()));
                for (std::size_t b = 0; b < m_blocks.size(); ++b)
                    addOwn(part.own[b], z, m_blocks[b].columns);
            }
            ++done;
        });
        Products total = empty();
        for (const Products& part : parts) {
            total.cross += part.cross;
            total.withResiduals += part.withResiduals;
            for (std::size_t b = 0; b < m_blocks.size(); ++b)
                total.own[b] += part.own[b];
        }
        return total;
    }

    /// Chunk c of [1, X~] and of the candidates, shifted and scaled, rows times the roots of their weights.
    void load(Index c, MatrixXd& a, MatrixXd& z) const {
        MatrixXd raw(std::min(chunkRows, m_fit.rows - c * chunkRows), m_x.columns());
        m_x.fill(c * chunkRows, raw);
        a = m_fit.shifted(raw);
        loadCandidates(c, z);
        if (!m_weights.empty()) a.array().colwise() *= roots(c, a.rows()).array();
    }
    /// The same where levels are apart.
    ApartReader::Rows loadApart(Index c, MatrixXd& z) const {
        ApartReader::Rows a = m_apart->read(c * chunkRows, std::min(chunkRows, m_fit.rows - c * chunkRows));
        loadCandidates(c, z);
        if (!m_weights.empty()) a.multiply(roots(c, z.rows()));
        return a;
    }
    /// Chunk c of the candidates less what the model's columns say of them.
    void loadLeft(Index c, const MatrixXd& said, MatrixXd& z) const {
        if (m_apart) {
            const ApartReader::Rows a = loadApart(c, z);
            z -= m_apart->times(a, said);
            return;
        }
        MatrixXd a;
        load(c, a, z);
        z.noalias() -= a * said;
    }
    /// Differences of sums of squares lose the digits of what is nearly said already: the factor and the
    /// effects of such blocks, from their rows less what the model's columns say of them, by reflections.
    /// `w` is what the model says of the candidates, in its orthonormal basis.
    void refine(const MatrixXd& w, std::vector<Eliminated>& blocks) const {
        constexpr double delicate = 1e-3;
        std::vector<std::size_t> which;
        for (std::size_t b = 0; b < blocks.size(); ++b)
            if (blocks[b].share < delicate) which.push_back(b);
        if (which.empty()) return;
        const MatrixXd said = m_fit.factor.solve(w);
        const Index groups = (m_chunks + mostGroupChunks - 1) / mostGroupChunks;
        std::vector<std::vector<MatrixXd>> parts(static_cast<std::size_t>(groups),
                                                 std::vector<MatrixXd>(which.size()));
        parallelFor(parts.size(), m_threads, [&](std::size_t g) {
            MatrixXd z;
            const Index begin = static_cast<Index>(g) * mostGroupChunks;
            for (Index c = begin; c < std::min(m_chunks, begin + mostGroupChunks); ++c) {
                stopIfTold(m_progress);
                loadLeft(c, said, z);
                for (std::size_t k = 0; k < which.size(); ++k) {
                    const std::vector<std::size_t>& left = blocks[which[k]].left;
                    const auto count = static_cast<Index>(left.size());
                    MatrixXd rows(z.rows(), count + 1);
                    for (Index i = 0; i < count; ++i)
                        rows.col(i) = z.col(static_cast<Index>(
                            m_blocks[which[k]].columns[left[static_cast<std::size_t>(i)]]));
                    rows.col(count) =
                        m_fit.residuals.segment(c * chunkRows, z.rows()).cwiseProduct(roots(c, z.rows()));
                    absorb(parts[g][k], rows, m_progress);
                }
            }
        });
        for (std::size_t k = 0; k < which.size(); ++k) {
            MatrixXd& r = parts[0][k];
            for (std::size_t g = 1; g < parts.size(); ++g)
                absorb(r, parts[g][k], m_progress);
            Eliminated& block = blocks[which[k]];
            const Index count = r.cols() - 1;
            block.factor = r.topLeftCorner(count, count).transpose();
            block.effects = r.col(count).head(count);
        }
    }
    /// Square roots of the weights of chunk c; ones without weights.
    VectorXd roots(Index c, Index rows) const {
        if (m_weights.empty()) return VectorXd::Ones(rows);
        return Eigen::Map<const VectorXd>(m_weights.data() + c * chunkRows, rows).array().sqrt();
    }
    Index chunks() const { return m_chunks; }

private:
    void loadCandidates(Index c, MatrixXd& z) const {
        const Index rows = std::min(chunkRows, m_fit.rows - c * chunkRows);
        z.resize(rows, m_columns);
        m_candidates.fill(c * chunkRows, z);
        for (Index j = 0; j < m_columns; ++j)
            z.col(j) = (z.col(j).array() - m_shift[j]) * m_scale[j];
        if (!m_weights.empty()) z.array().colwise() *= roots(c, rows).array();
    }

    Products empty() const {
        Products p{MatrixXd::Zero(m_fit.rank(), m_columns), VectorXd::Zero(m_columns), {}};
        for (const ScreenBlock& block : m_blocks) {
            const auto k = static_cast<Index>(block.columns.size());
            p.own.push_back(MatrixXd::Zero(k, k));
        }
        return p;
    }

    static void addOwn(MatrixXd& own, const MatrixXd& z, const std::vector<std::size_t>& columns) {
        for (std::size_t i = 0; i < columns.size(); ++i)
            for (std::size_t j = 0; j <= i; ++j)
                own(static_cast<Index>(i), static_cast<Index>(j)) +=
                    z.col(static_cast<Index>(columns[i])).dot(z.col(static_cast<Index>(columns[j])));
    }

    std::span<const double> m_weights;
    const LeastSquaresFit& m_fit;
    const RowSource& m_x;
    std::optional<ApartReader> m_apart;
    const RowSource& m_candidates;
    std::span<const ScreenBlock> m_blocks;
    Threads m_threads;
    Progress& m_progress;
    Index m_columns;
    Index m_chunks;
    VectorXd m_shift, m_scale;
};

Eliminated eliminate(const ScreenBlock& block, const MatrixXd& w, const Products& products,
                     std::size_t number) {
    const auto k = static_cast<Index>(block.columns.size());
    MatrixXd within(w.rows(), k);
    VectorXd effect(k);
    for (Index i = 0; i < k; ++i) {
        const auto column = static_cast<Index>(block.columns[static_cast<std::size_t>(i)]);
        within.col(i) = w.col(column);
        effect[i] = products.withResiduals[column];
    }
    MatrixXd s = products.own[number];
    const VectorXd whole = s.diagonal();
    for (Index i = 0; i < k; ++i)
        for (Index j = 0; j <= i; ++j)
            s(i, j) -= within.col(i).dot(within.col(j));
    Eliminated result;
    MatrixXd l = MatrixXd::Zero(k, k);
    VectorXd effects(k);
    Index rank = 0;
    for (Index i = 0; i < k; ++i) {
        // Row i of the factor over the columns taken so far.
        for (Index m = 0; m < rank; ++m) {
            const auto taken = static_cast<Index>(result.left[static_cast<std::size_t>(m)]);
            l(rank, m) = (s(i, taken) - l.row(rank).head(m).dot(l.row(m).head(m))) / l(m, m);
        }
        const double left = s(i, i) - l.row(rank).head(rank).squaredNorm();
        if (!(left > dependentShare * whole[i])) {
            l.row(rank).setZero();
            continue;
        }
        l(rank, rank) = std::sqrt(left);
        result.share = std::min(result.share, left / whole[i]);
        effects[rank] = (effect[i] - l.row(rank).head(rank).dot(effects.head(rank))) / l(rank, rank);
        result.left.push_back(static_cast<std::size_t>(i));
        ++rank;
    }
    result.factor = l.topLeftCorner(rank, rank);
    result.effects = effects.head(rank);
    return result;
}

} // namespace

std::vector<Addition> screenBlocks(const LeastSquaresFit& fit, const RowSource& x,
                                   const RowSource& candidates, std::span<const ScreenBlock> blocks,
                                   std::span<const double> weights, Threads threads, Progress& progress) {
    Screener screener(fit, x, candidates, blocks, weights, threads, progress);
    const Products products = screener.sum();
    const MatrixXd w = fit.factor.solveTransposed(products.cross);
    std::vector<Eliminated> eliminated(blocks.size());
    parallelFor(blocks.size(), threads,
                [&](std::size_t b) { eliminated[b] = eliminate(blocks[b], w, products, b); });
    screener.refine(w, eliminated);
    std::vector<Addition> additions(blocks.size());
    parallelFor(blocks.size(), threads, [&](std::size_t b) {
        const Eliminated& left = eliminated[b];
        double parents = 0, parentDf = 0;
        Addition& a = additions[b];
        for (std::size_t k = 0; k < left.left.size(); ++k) {
            const double taken = left.effects[static_cast<Index>(k)] * left.effects[static_cast<Index>(k)];
            if (left.left[k] < blocks[b].parents) {
                parents += taken;
                parentDf += 1;
            } else {
                a.reduction += taken;
                a.numeratorDf += 1;
            }
        }
        const double before = fit.residualSumOfSquares - parents;
        a.denominatorDf = fit.degreesOfFreedom - parentDf - a.numeratorDf;
        const double after = std::max(0.0, before - a.reduction);
        if (a.numeratorDf == 0 || a.denominatorDf <= 0) {
            a.reduction = a.f = a.p = a.share = std::nan("");
            return;
        }
        a.share = before > 0 ? std::min(1.0, a.reduction / before) : std::nan("");
        a.f = a.reduction / a.numeratorDf / (after / a.denominatorDf);
        a.p = fisherUpper(a.f, a.numeratorDf, a.denominatorDf);
    });
    return additions;
}

double leaveOneOutSquares(const LeastSquaresFit& fit) {
    double sum = 0;
    for (Index i = 0; i < fit.rows; ++i) {
        const double left = 1 - fit.leverages[i];
        if (!(left > 1e-10)) return std::nan("");
        const double error = fit.residuals[i] / left;
        sum += error * error;
    }
    return sum;
}

std::vector<double> leaveOneOutWith(const LeastSquaresFit& fit, const RowSource& x,
                                    const RowSource& candidates, std::span<const ScreenBlock> blocks,
                                    std::span<const double> weights, Threads threads, Progress& progress) {
    Screener screener(fit, x, candidates, blocks, weights, threads, progress);
    const Products products = screener.sum();
    const MatrixXd w = fit.factor.solveTransposed(products.cross);
    const MatrixXd said = fit.factor.solve(w); // of Z by the model's columns
    std::vector<Eliminated> left;
    for (std::size_t b = 0; b < blocks.size(); ++b)
        left.push_back(eliminate(blocks[b], w, products, b));
    screener.refine(w, left);
    const auto chunks = static_cast<std::size_t>(screener.chunks());
    std::vector<std::vector<double>> sums(chunks, std::vector<double>(blocks.size(), 0));
    parallelFor(chunks, threads, [&](std::size_t c) {
        progress.checkpoint(static_cast<double>(c) / static_cast<double>(chunks),
                            "Leaving rows out one by one");
        MatrixXd z;
        screener.loadLeft(static_cast<Index>(c), said, z);
        const Index begin = static_cast<Index>(c) * chunkRows;
        const VectorXd root = screener.roots(static_cast<Index>(c), z.rows());
        for (std::size_t b = 0; b < blocks.size(); ++b) {
            const auto rank = static_cast<Index>(left[b].left.size());
            MatrixXd u(z.rows(), rank);
            for (Index k = 0; k < rank; ++k)
                u.col(k) =
                    z.col(static_cast<Index>(blocks[b].columns[left[b].left[static_cast<std::size_t>(k)]]));
            left[b].factor.transpose().triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(u);
            for (Index i = 0; i < u.rows(); ++i) {
                const double leverage = fit.leverages[begin + i] + u.row(i).squaredNorm();
                const double residual = fit.residuals[begin + i] - u.row(i).dot(left[b].effects) / root[i];
                const double kept = 1 - leverage;
                sums[c][b] += kept > 1e-10 ? residual / kept * (residual / kept) : std::nan("");
            }
        }
    });
    std::vector<double> total(blocks.size(), 0);
    for (const auto& sum : sums)
        for (std::size_t b = 0; b < blocks.size(); ++b)
            total[b] += sum[b];
    return total;
}

namespace {

/// Sums over the rows of a cell in the orthonormal basis: of the fit, and of what each block adds to it.
struct CellSums {
    MatrixXd basis, cross;
    VectorXd products, added;
    std::vector<MatrixXd> own;
    void add(const CellSums& other) {
        basis += other.basis;
        cross += other.cross;
        products += other.products;
        added += other.added;
        for (std::size_t b = 0; b < own.size(); ++b)
            own[b] += other.own[b];
    }
};

/// The folds of one set of blocks.
class FoldScreener {
public:
    FoldScreener(const LeastSquaresFit& fit, const RowSource& x, const RowSource& candidates,
                 std::span<const ScreenBlock> blocks, const ScreenFolds& folds,
                 std::span<const double> weights, Threads threads, Progress& progress)
        : m_screener(fit, x, candidates, blocks, weights, threads, progress), m_fit(fit), m_blocks(blocks),
          m_folds(folds), m_threads(threads), m_progress(progress) {
        const Products products = m_screener.sum();
        const MatrixXd w = fit.factor.solveTransposed(products.cross);
        m_said = fit.factor.solve(w);
        for (std::size_t b = 0; b < blocks.size(); ++b)
            m_left.push_back(eliminate(blocks[b], w, products, b));
        m_screener.refine(w, m_left);
        for (const Eliminated& left : m_left) {
            m_begin.push_back(m_added);
            m_added += left.factor.rows();
        }
    }

    std::vector<double> run() {
        const std::vector<CellSums> cells = sumCells();
        std::vector<int> judgedBy(m_folds.cells, -1);
        for (std::size_t f = 0; f < m_folds.folds.size(); ++f)
            for (const std::size_t c : m_folds.folds[f].judges)
                judgedBy[c] = static_cast<int>(f);
        // How the model of each fold differs from the whole fit, a column a fold.
        const auto folds = static_cast<Index>(m_folds.folds.size());
        std::vector<MatrixXd> differences(m_blocks.size());
        parallelFor(m_blocks.size(), m_threads, [&](std::size_t b) {
            stopIfTold(m_progress);
            const Index rank = m_fit.rank(), more = m_left[b].factor.rows();
            differences[b].resize(rank + more, folds);
            for (Index f = 0; f < folds; ++f) {
                MatrixXd squares = MatrixXd::Zero(rank + more, rank + more);
                VectorXd products = VectorXd::Zero(rank + more);
                for (const std::size_t c : m_folds.folds[static_cast<std::size_t>(f)].learns) {
                    squares.topLeftCorner(rank, rank) += cells[c].basis;
                    squares.bottomLeftCorner(more, rank) +=
                        cells[c].cross.middleCols(m_begin[b], more).transpose();
                    squares.bottomRightCorner(more, more) += cells[c].own[b];
                    products.head(rank) += cells[c].products;
                    products.tail(more) += cells[c].added.segment(m_begin[b], more);
                }
                const Eigen::LDLT<MatrixXd> solver(squares.selfadjointView<Eigen::Lower>());
                const VectorXd d = solver.vectorD();
                const bool holds = d.minCoeff() > 1e-8 * d.maxCoeff();
                differences[b].col(f) =
                    holds ? VectorXd(solver.solve(products)) : VectorXd::Constant(rank + more, std::nan(""));
            }
        });
        return sumErrors(judgedBy, differences);
    }

private:
    /// Chunk c in the basis: of the fit, and of all blocks beside each other.
    void load(Index c, MatrixXd& basis, MatrixXd& added) const {
        MatrixXd z;
        m_screener.load(c, basis, z);
        z.noalias() -= basis * m_said;
        m_fit.factor.turn(basis);
        added.resize(z.rows(), m_added);
        for (std::size_t b = 0; b < m_blocks.size(); ++b) {
            const auto more = static_cast<Index>(m_left[b].left.size());
            auto own = added.middleCols(m_begin[b], more);
            for (Index k = 0; k < more; ++k)
                own.col(k) = z.col(
                    static_cast<Index>(m_blocks[b].columns[m_left[b].left[static_cast<std::size_t>(k)]]));
            if (more > 0)
                m_left[b].factor.transpose().triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(
                    own);
        }
    }

    CellSums empty() const {
        CellSums sums{MatrixXd::Zero(m_fit.rank(), m_fit.rank()),
                      MatrixXd::Zero(m_fit.rank(), m_added),
                      VectorXd::Zero(m_fit.rank()),
                      VectorXd::Zero(m_added),
                      {}};
        for (const Eliminated& left : m_left)
            sums.own.push_back(MatrixXd::Zero(left.factor.rows(), left.factor.rows()));
        return sums;
    }

    std::vector<CellSums> sumCells() {
        // A fixed number of groups of chunks, so that threads change no digit and cells need little room.
        const Index chunks = m_screener.chunks();
        const Index groups = std::min<Index>(chunks, 8);
        std::vector<std::vector<CellSums>> parts(static_cast<std::size_t>(groups));
        parallelFor(parts.size(), m_threads, [&](std::size_t g) {
            parts[g].assign(m_folds.cells, empty());
            MatrixXd basis, added;
            for (Index c = static_cast<Index>(g) * chunks / groups;
                 c < (static_cast<Index>(g) + 1) * chunks / groups; ++c) {
                m_progress.checkpoint(0.5 * static_cast<double>(c) / static_cast<double>(chunks),
                                      "Judging by folds");
                load(c, basis, added);
                addChunk(c, basis, added, parts[g]);
            }
        });
        std::vector<CellSums> total(m_folds.cells, empty());
        for (const auto& part : parts)
            for (std::size_t c = 0; c < m_folds.cells; ++c)
                total[c].add(part[c]);
        return total;
    }

    void addChunk(Index c, const MatrixXd& basis, const MatrixXd& added, std::vector<CellSums>& cells) const {
        std::vector<std::vector<Index>> rows(m_folds.cells);
        for (Index i = 0; i < basis.rows(); ++i)
            if (const auto cell = m_folds.cellOf[static_cast<std::size_t>(c * chunkRows + i)];
                cell < m_folds.cells)
                rows[cell].push_back(i);
        const VectorXd e = m_fit.residuals.segment(c * chunkRows, basis.rows())
                               .cwiseProduct(m_screener.roots(c, basis.rows()));
        for (std::size_t cell = 0; cell < rows.size(); ++cell) {
            if (rows[cell].empty()) continue;
            CellSums& sums = cells[cell];
            const MatrixXd a = basis(rows[cell], Eigen::all), u = added(rows[cell], Eigen::all);
            const VectorXd left = e(rows[cell]);
            addProducts(sums.basis, a, a);
            addProducts(sums.cross, a, u);
            sums.products.noalias() += a.transpose() * left;
            sums.added.noalias() += u.transpose() * left;
            for (std::size_t b = 0; b < m_left.size(); ++b) {
                const auto own = u.middleCols(m_begin[b], m_left[b].factor.rows());
                sums.own[b].noalias() += own.transpose() * own;
            }
        }
    }

    std::vector<double> sumErrors(const std::vector<int>& judgedBy,
                                  const std::vector<MatrixXd>& differences) {
        const auto chunks = static_cast<std::size_t>(m_screener.chunks());
        std::vector<std::vector<double>> sums(chunks, std::vector<double>(m_blocks.size(), 0));
        parallelFor(chunks, m_threads, [&](std::size_t c) {
            m_progress.checkpoint(0.5 + 0.5 * static_cast<double>(c) / static_cast<double>(chunks),
                                  "Judging by folds");
            MatrixXd basis, added;
            load(static_cast<Index>(c), basis, added);
            const Index begin = static_cast<Index>(c) * chunkRows;
            const VectorXd root = m_screener.roots(static_cast<Index>(c), basis.rows());
            for (std::size_t b = 0; b < m_blocks.size(); ++b) {
                const Index rank = m_fit.rank(), more = m_left[b].factor.rows();
                for (Index i = 0; i < basis.rows(); ++i) {
                    const auto cell = m_folds.cellOf[static_cast<std::size_t>(begin + i)];
                    if (cell >= m_folds.cells || judgedBy[cell] < 0) continue;
                    const auto d = differences[b].col(judgedBy[cell]);
                    const double change = basis.row(i).dot(d.head(rank)) +
                                          added.row(i).segment(m_begin[b], more).dot(d.tail(more));
                    const double error = m_fit.residuals[begin + i] - change / root[i];
                    sums[c][b] += error * error;
                }
            }
        });
        std::vector<double> total(m_blocks.size(), 0);
        for (const auto& sum : sums)
            for (std::size_t b = 0; b < total.size(); ++b)
                total[b] += sum[b];
        return total;
    }

    Screener m_screener;
    const LeastSquaresFit& m_fit;
    std::span<const ScreenBlock> m_blocks;
    const ScreenFolds& m_folds;
    Threads m_threads;
    Progress& m_progress;
    /// Of the candidates by the model's columns.
    MatrixXd m_said;
    std::vector<Eliminated> m_left;
    /// First of a block's columns among all that are added.
    std::vector<Index> m_begin;
    Index m_added = 0;
};

} // namespace

std::vector<double> foldSquaresWith(const LeastSquaresFit& fit, const RowSource& x,
                                    const RowSource& candidates, std::span<const ScreenBlock> blocks,
                                    const ScreenFolds& folds, std::span<const double> weights,
                                    Threads threads, Progress& progress) {
    return FoldScreener(fit, x, candidates, blocks, folds, weights, threads, progress).run();
}

} // namespace oxgoad
