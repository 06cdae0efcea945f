// The solver: one way from rows to coefficients and their errors, each step of which reads what the one
// before left. What a fit answers afterwards is in least_squares_result.cpp.
#include "estimate/linear/least_squares.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/apart_reader.h"
#include "estimate/linear/cell_means.h"
#include "estimate/linear/cell_rows.h"
#include "estimate/linear/condition.h"
#include "estimate/linear/exact.h"
#include "estimate/linear/level_rows.h"
#include "estimate/linear/triangle.h"

#include <Eigen/Cholesky>
#include <Eigen/QR>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <memory>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double epsilon = std::numeric_limits<double>::epsilon();

/// Row blocks of a size that depends on the shape only, so that sums come out the same on any machine.
struct Blocks {
    Index rows;
    Index size;
    Index count;
    /// Blocks that are reduced at once: many columns ask for some columns' times of rows.
    Index atOnce;
    /// Blocks that are reduced one after the other; the triangles of such groups are put together by pairs.
    /// Groups are long beside a triangle, and more than one even where there are few rows.
    Index together;
    Blocks(Index n, Index p) : rows(n), size(rowsAtOnce(p + 1)) {
        count = std::max<Index>(1, (n + size - 1) / size);
        atOnce = std::max<Index>(1, 2 * p / size);
        const Index usual = std::max(8 * size, 16 * (p + 2)), few = std::max(4 * (p + 2), n / 8);
        together = std::max(atOnce, std::min(usual, few) / size / atOnce * atOnce);
    }
    Index begin(Index i) const { return i * size; }
    Index length(Index i) const { return std::min(size, rows - begin(i)); }
    Index end(Index i) const { return begin(i) + length(i); }
};

using Extent = GroupedRows::Extent;

/// Square roots of the weights from a row on; ones without weights.
VectorXd rootsOf(std::span<const double> weights, Index begin, Index count) {
    if (weights.empty()) return VectorXd::Ones(count);
    return Eigen::Map<const VectorXd>(weights.data() + begin, count).array().sqrt();
}

void requireWeights(std::span<const double> weights, std::span<const double> y) {
    if (weights.empty()) return;
    if (weights.size() != y.size())
        throw Error(ErrorCode::badWeights,
                    countText(weights.size()) + " weights cannot go with " + plural(y.size(), "row", "rows"),
                    {}, "Give each row one weight.");
    bool any = false;
    for (std::size_t i = 0; i < weights.size(); ++i) {
        if (!std::isfinite(weights[i]) || weights[i] < 0)
            throw Error(ErrorCode::badWeights,
                        "the weight of learning row " + countText(i + 1) + " is " + shortText(weights[i]), {},
                        "Weights are 0 or more. Correct it or leave the row out.");
        any = any || weights[i] > 0;
    }
    if (!any)
        throw Error(ErrorCode::badWeights, "all weights are 0, so no row teaches anything", {},
                    "Choose another column as weight, or none.");
}

Extent extentOf(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                const Blocks& blocks, Threads threads, Progress& progress) {
    const Index p = x.columns();
    std::vector<VectorXd> sums(static_cast<std::size_t>(blocks.count));
    std::vector<VectorXd> lows(sums.size());
    std::vector<VectorXd> highs(sums.size());
    parallelFor(sums.size(), threads, [&](std::size_t b) {
        progress.checkpoint(0.05, "Centring columns");
        const auto i = static_cast<Index>(b);
        MatrixXd block(blocks.length(i), p + 1);
        x.fill(blocks.begin(i), block.leftCols(p));
        block.col(p) = Eigen::Map<const VectorXd>(y.data() + blocks.begin(i), block.rows());
        if (weights.empty())
            sums[b] = block.colwise().sum();
        else
            sums[b] = block.transpose() *
                      Eigen::Map<const VectorXd>(weights.data() + blocks.begin(i), block.rows());
        lows[b] = block.colwise().minCoeff();
        highs[b] = block.colwise().maxCoeff();
    });
    Extent extent{std::vector<long double>(static_cast<std::size_t>(p + 1), 0), lows[0], highs[0]};
    for (std::size_t b = 0; b < sums.size(); ++b) {
        for (Index j = 0; j <= p; ++j)
            extent.sum[static_cast<std::size_t>(j)] += sums[b][j];
        extent.low = extent.low.cwiseMin(lows[b]);
        extent.high = extent.high.cwiseMax(highs[b]);
    }
    return extent;
}

/// The power of two nearest below 1/size.
double powerOfTwoScale(double size) {
    return size > 0 && std::isfinite(size) ? std::ldexp(1.0, -std::ilogb(size)) : 1.0;
}

/// Inverse of an upper triangular matrix, some columns at a time. Throws Stopped.
MatrixXd invertUpper(const MatrixXd& r, Threads threads, const Progress& progress) {
    const Index k = r.rows();
    MatrixXd inverse = MatrixXd::Zero(k, k);
    const Index piece = std::clamp<Index>(20000000 / std::max<Index>(1, k * k), 1, 64);
    parallelFor(static_cast<std::size_t>((k + piece - 1) / piece), threads, [&](std::size_t b) {
        stopIfTold(progress);
        const Index from = static_cast<Index>(b) * piece, width = std::min(piece, k - from),
                    rows = from + width;
        MatrixXd part = MatrixXd::Zero(rows, width);
        part.bottomRows(width).setIdentity();
        r.topLeftCorner(rows, rows).triangularView<Eigen::Upper>().solveInPlace(part);
        inverse.block(0, from, rows, width) = part;
    });
    return inverse;
}

class Reducer {
public:
    Reducer(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
            std::span<const double> weights, const Blocks& blocks, Threads threads, Progress& progress)
        : m_fit(fit), m_x(x), m_y(y), m_weights(weights), m_blocks(blocks), m_threads(threads),
          m_progress(progress) {}

    /// R of [1, X~, y~] over all rows. The blocks of a group are reduced in order, then groups by pairs.
    MatrixXd reduce() {
        const Index groups = (m_blocks.count + m_blocks.together - 1) / m_blocks.together;
        std::vector<MatrixXd> factors(static_cast<std::size_t>(groups));
        std::atomic<Index> done{0};
        parallelFor(factors.size(), m_threads, [&](std::size_t g) {
            MatrixXd block;
            const Index first = static_cast<Index>(g) * m_blocks.together,
                        last = std::min(m_blocks.count, first + m_blocks.together);
            for (Index b = first; b < last; b += m_blocks.atOnce) {
                m_progress.checkpoint(0.1 + 0.5 * static_cast<double>(done) /
                                                static_cast<double>(m_blocks.count),
                                      "Reducing rows");
                const Index from = m_blocks.begin(b),
                            to = m_blocks.end(std::min(last, b + m_blocks.atOnce) - 1);
                block.resize(to - from, columns());
                fill(from, block);
                absorb(factors[g], block, m_progress);
                done += m_blocks.atOnce;
            }
        });
        for (std::size_t apart = 1; apart < factors.size(); apart *= 2)
            parallelFor((factors.size() + 2 * apart - 1) / (2 * apart), m_threads, [&](std::size_t pair) {
                const std::size_t g = 2 * apart * pair;
                if (g + apart >= factors.size()) return;
                absorb(factors[g], factors[g + apart], m_progress);
                factors[g + apart].resize(0, 0);
            });
        return std::move(factors[0]);
    }

private:
    Index columns() const { return m_x.columns() + 1 + (m_fit.intercept ? 1 : 0); }

    void fill(Index begin, Eigen::Ref<MatrixXd> out) const {
        const Index p = m_x.columns();
        const Index first = m_fit.intercept ? 1 : 0;
        if (first) out.col(0).setOnes();
        MatrixXd raw(out.rows(), p);
        m_x.fill(begin, raw);
        for (Index j = 0; j < p; ++j)
            out.col(first + j) = (raw.col(j).array() - m_fit.shift[j]) * m_fit.scale[j];
        out.col(first + p) =
            (Eigen::Map<const VectorXd>(m_y.data() + begin, out.rows()).array() - m_fit.responseShift) *
            m_fit.responseScale;
        if (!m_weights.empty()) out.array().colwise() *= rootsOf(m_weights, begin, out.rows()).array();
    }

    LeastSquaresFit& m_fit;
    const RowSource& m_x;
    std::span<const double> m_y;
    std::span<const double> m_weights;
    const Blocks& m_blocks;
    Threads m_threads;
    Progress& m_progress;
};

/// Decides the rank in the order of columns. Leaves the factor of the kept columns and Q'y in the fit.
void decideRank(LeastSquaresFit& fit, MatrixXd work, const std::vector<char>& constantColumn,
                const Progress& progress) {
    const Index p = fit.columns;
    const Index first = fit.intercept ? 1 : 0;
    const Index last = first + p;
    std::vector<Index> places;
    Index rank = 0;
    if (fit.intercept) {
        places.push_back(0);
        rank = 1;
    }
    for (Index j = first; j < last; ++j) {
        stopIfTold(progress);
        const auto column = static_cast<std::size_t>(j - first);
        const double whole = work.col(j).tail(work.rows() - first).norm();
        const double left = rank < work.rows() ? work.col(j).tail(work.rows() - rank).norm() : 0;
        if ((fit.intercept && constantColumn[column]) || !(left > fit.rankToleranceUsed * whole)) {
            fit.dependent.push_back({column, 0, {}});
            if (rank > 0) { // what the kept columns say of it
                MatrixXd r(rank, rank);
                for (Index k = 0; k < rank; ++k)
                    r.col(k) = work.col(places[static_cast<std::size_t>(k)]).head(rank);
                const VectorXd weights = r.triangularView<Eigen::Upper>().solve(work.col(j).head(rank));
                Dependency& d = fit.dependent.back();
                double constant = fit.shift[static_cast<Index>(column)] +
                                  (fit.intercept ? weights[0] / fit.scale[static_cast<Index>(column)] : 0);
                for (Index k = first; k < rank; ++k) {
                    if (std::fabs(weights[k]) * r.col(k).norm() <= 1e-8 * whole || constantColumn[column])
                        continue;
                    const std::size_t other = fit.kept[static_cast<std::size_t>(k - first)];
                    const double weight = weights[k] * fit.scale[static_cast<Index>(other)] /
                                          fit.scale[static_cast<Index>(column)];
                    d.combination.emplace_back(other, weight);
                    constant -= weight * fit.shift[static_cast<Index>(other)];
                }
                d.constant = fit.intercept ? constant : 0;
            }
            continue;
        }
        reflect(work, rank, j);
        places.push_back(j);
        fit.kept.push_back(column);
        ++rank;
    }
    MatrixXd factor(rank, rank);
    for (Index k = 0; k < rank; ++k)
        factor.col(k) = work.col(places[static_cast<std::size_t>(k)]).head(rank);
    fit.factor = TriangularFactor(std::move(factor));
    fit.projections = work.col(last).head(rank);
}

/// Residuals of the shifted problem, X~'Wr and Σ w r², block by block.
ResidualSums residualPass(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                          std::span<const double> weights, const VectorXd& solution, const Blocks& blocks,
                          bool withLeverage, Threads threads, Progress& progress) {
    const auto count = static_cast<std::size_t>(blocks.count);
    std::vector<VectorXd> products(count);
    std::vector<long double> squares(count, 0);
    std::atomic<std::size_t> done{0};
    parallelFor(count, threads, [&](std::size_t b) {
        progress.checkpoint((withLeverage ? 0.8 : 0.6) +
                                0.2 * static_cast<double>(done) / static_cast<double>(count),
                            withLeverage ? "Leverages and residuals" : "Refining");
        const auto i = static_cast<Index>(b);
        const Index begin = blocks.begin(i);
        MatrixXd raw(blocks.length(i), x.columns());
        x.fill(begin, raw);
        MatrixXd shifted = fit.shifted(raw);
        const Eigen::Map<const VectorXd> actual(y.data() + begin, raw.rows());
        const VectorXd residual =
            ((actual.array() - fit.responseShift) * fit.responseScale).matrix() - shifted * solution;
        const VectorXd roots = rootsOf(weights, begin, raw.rows());
        const VectorXd weighted = residual.cwiseProduct(roots);
        if (!weights.empty()) shifted.array().colwise() *= roots.array();
        products[b] = shifted.transpose() * weighted;
        long double sum = 0;
        for (Index r = 0; r < residual.size(); ++r)
            sum += static_cast<long double>(weighted[r]) * weighted[r];
        squares[b] = sum;
        if (withLeverage) {
            fit.residuals.segment(begin, raw.rows()) = residual / fit.responseScale;
            fit.fitted.segment(begin, raw.rows()) = actual - fit.residuals.segment(begin, raw.rows());
            fit.factor.turn(shifted);
            fit.leverages.segment(begin, raw.rows()) = shifted.rowwise().squaredNorm();
        }
        ++done;
    });
    ResidualSums pass{VectorXd::Zero(solution.size()), 0};
    for (std::size_t b = 0; b < count; ++b) {
        pass.products += products[b];
        pass.sumOfSquares += squares[b];
    }
    return pass;
}

/// Residuals of rows that weigh nothing, which the solver never saw.
void predictWeightless(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                       std::span<const double> weights, const Blocks& blocks) {
    for (Index b = 0; b < blocks.count; ++b) {
        const Index begin = blocks.begin(b), count = blocks.length(b);
        const auto part = weights.subspan(static_cast<std::size_t>(begin), static_cast<std::size_t>(count));
        if (std::none_of(part.begin(), part.end(), [](double w) { return w == 0; })) continue;
        MatrixXd raw(count, x.columns());
        x.fill(begin, raw);
        const VectorXd mean = fit.predict(raw);
        for (Index i = 0; i < count; ++i) {
            if (part[static_cast<std::size_t>(i)] != 0) continue;
            fit.fitted[begin + i] = mean[i];
            fit.residuals[begin + i] = y[static_cast<std::size_t>(begin + i)] - mean[i];
        }
    }
}

void storeCoefficients(LeastSquaresFit& fit, const VectorXd& solution) {
    const Index first = fit.intercept ? 1 : 0;
    const double nan = std::nan("");
    fit.coefficients = VectorXd::Constant(fit.columns, nan);
    fit.standardErrors = VectorXd::Constant(fit.columns, nan);
    const double sigma = fit.residualStandardDeviation;
    const VectorXd lengths = directionLengths(fit.factor);
    VectorXd toNatural = VectorXd::Zero(fit.rank()); // b0 = this · (b~0, b~)
    if (fit.intercept) toNatural[0] = 1;
    for (std::size_t k = 0; k < fit.kept.size(); ++k) {
        const auto j = static_cast<Index>(fit.kept[k]);
        const Index place = first + static_cast<Index>(k);
        fit.coefficients[j] = solution[place] * fit.scale[j] / fit.responseScale;
        fit.standardErrors[j] = sigma * lengths[place] * fit.scale[j];
        toNatural[place] = -fit.shift[j] * fit.scale[j];
    }
    if (!fit.intercept) return;
    long double constant = static_cast<long double>(solution[0]) / fit.responseScale + fit.responseShift;
    for (const auto j : fit.kept)
        constant -= static_cast<long double>(fit.coefficients[static_cast<Index>(j)]) *
                    fit.shift[static_cast<Index>(j)];
    fit.constant = static_cast<double>(constant);
    fit.constantError = sigma * fit.factor.directionOf(toNatural).norm();
}

/// Sums of squares of more than this size, or less than one over it, leave the range of doubles.
constexpr double largest = 1e150;
constexpr double largestColumn = 1e290;

void requireSize(double low, double high, double most, const std::string& what) {
    const double size = std::max(std::fabs(low), std::fabs(high));
    if (!(size <= most))
        throw Error(ErrorCode::badTerm,
                    what + " has values " +
                        (std::isfinite(size)
                             ? "up to " + shortText(size) + ", too large to be squared and added up"
                             : std::string("that are no finite numbers")),
                    {}, "Divide it by a power of ten, which changes only its unit.");
    if (const double spread = high - low; spread > 0 && spread < 1 / most)
        throw Error(ErrorCode::badTerm,
                    what + " spreads over " + shortText(spread) +
                        " only, too little to be squared and added up",
                    {}, "Multiply it by a power of ten, which changes only its unit.");
}

std::unique_ptr<GroupedRows> inCells(std::shared_ptr<const RowCells> cells, std::span<const double> y,
                                     const LeastSquaresOptions& options, Progress& progress) {
    CellColumns columns(std::move(cells));
    if (columns.own().empty())
        return std::make_unique<CellMeans>(std::move(columns), y, options.weights, options.threads, progress);
    return std::make_unique<CellRows>(std::move(columns), y, options.weights, options.threads, progress);
}

} // namespace

MatrixXd reduceRows(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                    std::span<const double> weights, Threads threads, Progress& progress) {
    const Blocks blocks(x.rows(), x.columns());
    return Reducer(fit, x, y, weights, blocks, threads, progress).reduce();
}

std::pair<VectorXd, double> shiftedCrossProducts(const LeastSquaresFit& fit, const RowSource& x,
                                                 const VectorXd& z, Threads threads,
                                                 const Progress& progress) {
    const Blocks blocks(x.rows(), x.columns());
    const Index first = fit.intercept ? 1 : 0;
    if (fit.factor.levels() > 0 && x.levels()) {
        const ApartReader reader(fit, x);
        MatrixXd sums = MatrixXd::Zero(fit.rank(), 1);
        constexpr Index piece = 8192;
        for (Index begin = 0; begin < x.rows(); begin += piece) {
            stopIfTold(progress);
            const Index count = std::min(piece, x.rows() - begin);
            reader.addProducts(reader.read(begin, count), z.segment(begin, count), sums);
        }
        return {sums.bottomRows(fit.rank() - first), z.sum()};
    }
    std::vector<VectorXd> products(static_cast<std::size_t>(blocks.count));
    std::vector<double> sums(products.size());
    parallelFor(products.size(), threads, [&](std::size_t b) {
        stopIfTold(progress);
        const auto i = static_cast<Index>(b);
        MatrixXd raw(blocks.length(i), x.columns());
        x.fill(blocks.begin(i), raw);
        const auto part = z.segment(blocks.begin(i), raw.rows());
        products[b] = fit.shifted(raw).rightCols(fit.rank() - first).transpose() * part;
        sums[b] = part.sum();
    });
    VectorXd total = VectorXd::Zero(fit.rank() - first);
    double sum = 0;
    for (std::size_t b = 0; b < products.size(); ++b) {
        total += products[b];
        sum += sums[b];
    }
    return {total, sum};
}

namespace {

/// One triangle of so many columns, with its inverse, is more than there is room and time for.
constexpr Index mostInOne = 5000;

/// `plainly`: of rows as they are, in no groups.
LeastSquaresFit solve(const RowSource& x, std::span<const double> y, const LeastSquaresOptions& options,
                      bool plainly, Progress& progress) {
    const Index n = x.rows();
    const Index p = x.columns();
    LeastSquaresFit fit;
    fit.rows = n;
    fit.columns = p;
    fit.intercept = options.intercept;
    fit.rankToleranceUsed =
        options.rankTolerance > 0 ? options.rankTolerance : 64 * epsilon * static_cast<double>(p + 1);
    if (n == 0)
        throw Error(ErrorCode::tooFewRows, "there are no rows to learn from", {},
                    "Check what is missing or set aside.");

    const Blocks blocks(n, p);
    requireWeights(options.weights, y);
    double weightOfAll = static_cast<double>(n);
    Index training = n;
    if (!options.weights.empty()) {
        long double sum = 0;
        for (const double w : options.weights) {
            sum += w;
            training -= w == 0;
        }
        weightOfAll = static_cast<double>(sum);
    }
    // Digits are lost above this condition number; below it twice the precision costs a few hundredths of a
    // second where the work is little.
    constexpr double losing = 300, littleWork = 2e7;
    // Up to here a solution of cells is refined in long doubles instead.
    constexpr double refined = 1e5;
    const auto isLittle = [&](Index columns) {
        return static_cast<double>(n) * static_cast<double>(columns) * static_cast<double>(columns) <
               littleWork;
    };
    const bool always = options.levels != LeastSquaresOptions::Levels::asNeeded;
    std::unique_ptr<GroupedRows> byCells;
    std::optional<LevelRows> byLevels;
    if (!plainly &&
        (!isLittle(p + 1) || options.precision == LeastSquaresOptions::Precision::plain || always)) {
        const auto levels = LevelRows::worthwhile(x, always);
        const auto cells =
            always || (levels && p > LevelRows::mostTogether) ? nullptr : CellRows::worthwhile(x);
        if (levels && (!cells || 2 * LevelRows::costOf(*levels, n) < CellRows::costOf(*cells, n, p)))
            byLevels.emplace(levels, y, options.weights, options.threads, progress);
        else if (cells)
            byCells = inCells(cells, y, options, progress);
    }
    if (!byLevels && p > mostInOne)
        throw Error(
            ErrorCode::badTerm,
            plural(static_cast<std::size_t>(p), "column", "columns") + " of the model matrix would need " +
                shortText(std::ceil(1.6e-8 * static_cast<double>(p) * static_cast<double>(p))) +
                " GB for their factor",
            {},
            "Lump rare levels into one, take terms out, or bring more rows a level: then the levels of "
            "the largest factor are eliminated one by one.");
    GroupedRows* const grouped = byLevels ? &*byLevels : byCells.get();
    const bool apart = byLevels && (options.levels == LeastSquaresOptions::Levels::apart ||
                                    (!always && p > LevelRows::mostTogether));
    const Extent extent =
        grouped ? grouped->extent() : extentOf(x, y, options.weights, blocks, options.threads, progress);
    fit.shift = VectorXd::Zero(p);
    fit.scale = VectorXd::Ones(p);
    std::vector<char> constantColumn(static_cast<std::size_t>(p), 0);
    auto meanOf = [&](Index j) {
        return options.intercept ? static_cast<double>(extent.sum[static_cast<std::size_t>(j)] /
                                                       static_cast<long double>(weightOfAll))
                                 : 0.0;
    };
    for (Index j = 0; j <= p; ++j) {
        const double mean = meanOf(j);
        const double size = std::max(std::fabs(extent.high[j] - mean), std::fabs(extent.low[j] - mean));
        const double spread = extent.high[j] - extent.low[j];
        requireSize(extent.low[j], extent.high[j], j == p ? largest : largestColumn,
                    j == p ? "the response" : "column " + std::to_string(j + 1) + " of the model");
        const bool constant =
            !(spread > 8 * epsilon * std::max(std::fabs(extent.high[j]), std::fabs(extent.low[j])));
        if (j == p) {
            if (constant && n > 1)
                throw Error(ErrorCode::noSpread,
                            "the response has the same value in all " +
                                plural(static_cast<std::size_t>(n), "learning row", "learning rows"),
                            {}, "Choose another response or other rows.");
            fit.responseShift = mean;
            fit.responseScale = powerOfTwoScale(size);
        } else {
            fit.shift[j] = mean;
            fit.scale[j] = constant ? 1 : powerOfTwoScale(size);
            constantColumn[static_cast<std::size_t>(j)] = constant;
        }
    }

    if (apart) {
        for (const Index j : byLevels->columns()) { // as they are, so that they stay orthogonal
            fit.shift[j] = 0;
            fit.scale[j] = 1;
        }
        byLevels->eliminate(fit, constantColumn);
    } else {
        const auto reduced = [&] {
            if (grouped) return grouped->triangleOf(fit);
            return Reducer(fit, x, y, options.weights, blocks, options.threads, progress).reduce();
        };
        decideRank(fit, reduced(), constantColumn, progress);
    }
    const Index rank = fit.rank();
    if (training < rank || rank == 0)
        throw Error(ErrorCode::tooFewRows,
                    plural(static_cast<std::size_t>(training), "learning row is", "learning rows are") +
                        " too few for " +
                        plural(static_cast<std::size_t>(p + (options.intercept ? 1 : 0)), "coefficient",
                               "coefficients"),
                    {}, "Take terms out or learn from more rows.");
    fit.residuals.resize(n);
    fit.fitted.resize(n);
    fit.leverages.resize(n);
    // The mean is rounded to a double: what it is off by is taken back (Chan, Golub and LeVeque 1983,
    // "Algorithms for computing the sample variance").
    long double total = 0, off = 0;
    for (std::size_t i = 0; i < y.size(); ++i) {
        const long double w = options.weights.empty() ? 1 : options.weights[i];
        const long double d = static_cast<long double>(y[i]) - fit.responseShift;
        total += w * d * d;
        off += w * d;
    }
    if (options.intercept) total -= off * off / static_cast<long double>(weightOfAll);
    fit.totalSumOfSquares = static_cast<double>(total);
    const double sizeOfY = std::max(std::fabs(extent.high[p]), std::fabs(extent.low[p]));
    const double spreadOfY = static_cast<double>(std::sqrt(total / static_cast<long double>(weightOfAll)));
    fit.responseDigitsLeft = std::clamp(-std::log10(epsilon / 2 * sizeOfY / spreadOfY), 0.0, 16.0);
    fit.degreesOfFreedom = static_cast<double>(training - rank);
    fit.conditionNumber = conditionOf(fit.factor, fit.intercept, progress);
    fit.digitsLeft = std::max(0.0, -std::log10(epsilon / 2 * fit.conditionNumber));
    // Residuals within the rounding of the response's values are no residuals.
    const auto judgeResiduals = [&] {
        fit.fitsExactly = fit.degreesOfFreedom > 0 &&
                          std::sqrt(fit.residualSumOfSquares / weightOfAll) <= 4 * epsilon * sizeOfY;
    };
    if (options.precision == LeastSquaresOptions::Precision::asNeeded &&
        (fit.conditionNumber > losing || isLittle(rank)) && !apart &&
        !(grouped && fit.conditionNumber <= refined) &&
        solveExactly(fit, x, y, options.weights, options.keepOrthonormal, options.threads, progress)) {
        if (training < n) predictWeightless(fit, x, y, options.weights, blocks);
        judgeResiduals();
        return fit;
    }
    fit.factor.setInverse(invertUpper(fit.factor.triangle(), options.threads, progress));
    VectorXd solution = fit.factor.solve(fit.projections);
    const auto correct = [&](const VectorXd& products) {
        return fit.factor.solve(fit.factor.solveTransposed(products));
    };
    if (grouped) {
        const bool careful = fit.conditionNumber > losing;
        GroupedRows::Extended extended = solution.cast<long double>();
        for (int step = 0; step < (careful ? 3 : 1); ++step)
            extended += correct(grouped->crossProducts(fit, extended, careful)).cast<long double>();
        solution = extended.cast<double>();
    } else {
        solution += correct(
            residualPass(fit, x, y, options.weights, solution, blocks, false, options.threads, progress)
                .products);
    }

    const auto [products, sumOfSquares] =
        grouped ? grouped->finish(fit, solution)
                : residualPass(fit, x, y, options.weights, solution, blocks, true, options.threads, progress);
    prove(fit, products, solution);
    const double unit = fit.responseScale * fit.responseScale;
    fit.residualSumOfSquares = static_cast<double>(sumOfSquares) / unit;
    fit.residualStandardDeviation =
        fit.degreesOfFreedom > 0
            ? static_cast<double>(std::sqrt(sumOfSquares / fit.degreesOfFreedom)) / fit.responseScale
            : std::nan("");
    storeCoefficients(fit, solution);
    judgeResiduals();
    return fit;
}

} // namespace

LeastSquaresFit fitLeastSquares(const RowSource& x, std::span<const double> y,
                                const LeastSquaresOptions& options, Progress& progress) {
    LeastSquaresFit fit = solve(x, y, options, false, progress);
    if (fit.proven() || x.columns() > mostInOne) return fit;
    fit = solve(x, y, options, true, progress);
    fit.workedOutAnew = true;
    return fit;
}

} // namespace oxgoad
