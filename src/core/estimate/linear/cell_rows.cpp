#include "estimate/linear/cell_rows.h"

#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr Index batchRows = 8192;

} // namespace

std::shared_ptr<const RowCells> CellRows::worthwhile(const RowSource& x) {
    const Index n = x.rows(), p = x.columns();
    // Below this all is soon done anyway; above it the multiples alone would take too much memory.
    constexpr Index fewest = 16, mostValues = 20000000;
    if (p < fewest || n < 4096) return nullptr;
    const auto cells = x.cells(std::min(n / 8, mostValues / p));
    if (!cells) return nullptr;
    return 2 * costOf(*cells, n, p) < static_cast<double>(n) * static_cast<double>(p * p) ? cells : nullptr;
}

double CellRows::costOf(const RowCells& cells, Index n, Index p) {
    const Index rows = cells.count * (cells.numbers + 1), numbers = cells.numbers + 2;
    return static_cast<double>(rows) * static_cast<double>(p * p) +
           static_cast<double>(n) * static_cast<double>(numbers * numbers);
}

CellRows::CellRows(CellColumns columns, std::span<const double> y, std::span<const double> weights,
                   Threads threads, Progress& progress)
    : m_columns(std::move(columns)), m_weights(weights), m_threads(threads), m_progress(progress),
      m_order(y.size()), m_begin(static_cast<std::size_t>(cells().count) + 1, 0) {
    const auto n = static_cast<Index>(y.size());
    for (const auto cell : cells().cellOf)
        ++m_begin[cell + 1];
    for (std::size_t c = 1; c < m_begin.size(); ++c)
        m_begin[c] += m_begin[c - 1];
    auto next = m_begin;
    for (std::size_t i = 0; i < y.size(); ++i)
        m_order[next[cells().cellOf[i]]++] = static_cast<std::uint32_t>(i);

    const Index numbers = cells().numbers;
    m_values.resize(n, numbers + 1);
    if (!weights.empty()) m_roots.resize(n);
    const auto pieces = static_cast<std::size_t>((n + batchRows - 1) / batchRows);
    parallelFor(pieces, threads, [&](std::size_t b) {
        progress.checkpoint(0.05, "Sorting rows by their levels");
        const Index from = static_cast<Index>(b) * batchRows, count = std::min(batchRows, n - from);
        const std::span places(m_order.data() + from, static_cast<std::size_t>(count));
        cells().fill(places, m_values.block(from, 0, count, numbers));
        for (Index i = 0; i < count; ++i) {
            const auto place = places[static_cast<std::size_t>(i)];
            m_values(from + i, numbers) = y[place];
            if (!weights.empty()) m_roots[from + i] = std::sqrt(weights[place]);
        }
    });
}

std::vector<std::pair<Index, Index>> CellRows::batches() const {
    std::vector<std::pair<Index, Index>> made;
    for (Index cell = 0; cell < cells().count;) {
        const Index first = cell, from = begin(cell);
        while (cell < cells().count && (cell == first || begin(cell + 1) - from <= batchRows))
            ++cell;
        made.emplace_back(first, cell);
    }
    return made;
}

template <class Each> void CellRows::forBatches(double from, double to, const char* what, Each&& each) const {
    const auto all = batches();
    std::atomic<std::size_t> done{0};
    parallelFor(all.size(), m_threads, [&](std::size_t b) {
        m_progress.checkpoint(
            from + (to - from) * static_cast<double>(done) / static_cast<double>(all.size()), what);
        each(b, all[b].first, all[b].second);
        ++done;
    });
}

CellRows::Extent CellRows::extent() const {
    const Index p = cells().multiple.cols(), numbers = cells().numbers, cellCount = cells().count;
    std::vector<long double> sums(static_cast<std::size_t>(cellCount * (numbers + 2)), 0);
    MatrixXd low(cellCount, numbers + 1), high(cellCount, numbers + 1);
    const auto sumOf = [&](Index cell, Index m) -> long double& {
        return sums[static_cast<std::size_t>(cell * (numbers + 2) + m)];
    };
    forBatches(0.05, 0.1, "Centring columns", [&](std::size_t, Index first, Index last) {
        for (Index c = first; c < last; ++c) {
            const auto rows = m_values.middleRows(begin(c), rowsOf(c));
            low.row(c) = rows.colwise().minCoeff();
            high.row(c) = rows.colwise().maxCoeff();
            for (Index i = 0; i < rows.rows(); ++i) {
                const long double w = weight(begin(c) + i);
                sumOf(c, numbers + 1) += w;
                for (Index m = 0; m <= numbers; ++m)
                    sumOf(c, m) += w * rows(i, m);
            }
        }
    });
    Extent extent{std::vector<long double>(static_cast<std::size_t>(p + 1), 0),
                  VectorXd::Constant(p + 1, INFINITY), VectorXd::Constant(p + 1, -INFINITY)};
    const auto add = [&](Index j, long double sum, double a, double b) {
        extent.sum[static_cast<std::size_t>(j)] += sum;
        extent.low[j] = std::min({extent.low[j], a, b});
        extent.high[j] = std::max({extent.high[j], a, b});
    };
    for (Index j = 0; j <= p; ++j)
        for (Index c = 0; c < cellCount; ++c) {
            const Index m = j == p ? numbers : cells().numberOf[static_cast<std::size_t>(j)];
            const double times = j == p ? 1 : cells().multiple(c, j);
            if (m == RowCells::none)
                add(j, times * sumOf(c, numbers + 1), times, times);
            else
                add(j, times * sumOf(c, m), times * low(c, m), times * high(c, m));
        }
    return extent;
}

MatrixXd CellRows::numbersOf(Index from, Index count) const {
    MatrixXd numbers = m_values.block(from, 0, count, cells().numbers);
    m_columns.shiftNumbers(numbers);
    return numbers;
}

MatrixXd CellRows::triangleOf(const LeastSquaresFit& fit) {
    const std::vector<Index>& mine = m_columns.own();
    const std::vector<Index>& others = m_columns.shared();
    VectorXd middles = VectorXd::Zero(cells().numbers); // own numbers have no other value to stand about
    for (const Index m : mine)
        middles[m] = m_values.col(m).mean();
    m_columns.shift(fit, middles);
    const auto own = static_cast<Index>(mine.size()), shared = static_cast<Index>(others.size());
    const Index stay = 1 + own, k = stay + shared + 1;
    MatrixXd rows = MatrixXd::Zero(cells().count * stay, k); // of each cell
    std::vector<MatrixXd> rest(batches().size());
    forBatches(0.1, 0.5, "Reducing rows", [&](std::size_t batch, Index first, Index last) {
        MatrixXd left(0, shared + 1); // what the cells of this batch leave
        for (Index c = first; c < last; ++c) {
            MatrixXd r;
            for (Index from = begin(c); from < begin(c + 1); from += batchRows) {
                const Index count = std::min(batchRows, begin(c + 1) - from);
                MatrixXd block(count, k);
                const MatrixXd numbers = numbersOf(from, count);
                block.col(0).setOnes();
                for (Index m = 0; m < own; ++m)
                    block.col(1 + m) = numbers.col(mine[static_cast<std::size_t>(m)]);
                for (Index m = 0; m < shared; ++m)
                    block.col(stay + m) = numbers.col(others[static_cast<std::size_t>(m)]);
                block.col(k - 1) =
                    (m_values.col(cells().numbers).segment(from, count).array() - fit.responseShift) *
                    fit.responseScale;
                if (m_roots.size() > 0) block.array().colwise() *= m_roots.segment(from, count).array();
                absorb(r, block, m_progress);
            }
            rows.middleRows(c * stay, stay) = r.topRows(stay);
            const Index more = std::min(rowsOf(c), k) - stay;
            if (more <= 0) continue;
            const Index before = left.rows();
            left.conservativeResize(before + more, Eigen::NoChange);
            left.bottomRows(more) = r.block(stay, stay, more, shared + 1);
            if (left.rows() > 16 * (shared + 1)) left = triangle(left, m_progress);
        }
        rest[batch] = std::move(left);
    });
    MatrixXd left(0, shared + 1);
    for (MatrixXd& part : rest)
        absorb(left, part, m_progress);
    return m_columns.reduced(fit, rows, left, m_threads, m_progress);
}

VectorXd CellRows::residualsOf(const LeastSquaresFit& fit, const MatrixXd& numbers, Index from,
                               const Eigen::RowVectorXd& coefficients) const {
    VectorXd residuals =
        (m_values.col(cells().numbers).segment(from, numbers.rows()).array() - fit.responseShift) *
            fit.responseScale -
        coefficients[0];
    for (Index m = 0; m < numbers.cols(); ++m)
        residuals -= coefficients[1 + m] * numbers.col(m);
    return residuals;
}

void CellRows::addProducts(const LeastSquaresFit& fit, Index from, Index count,
                           const long double* coefficients, long double* sums) const {
    const Index numbers = cells().numbers;
    std::vector<long double> own(static_cast<std::size_t>(numbers));
    for (Index i = from; i < from + count; ++i) {
        long double residual =
            (static_cast<long double>(m_values(i, numbers)) - fit.responseShift) * fit.responseScale -
            coefficients[0];
        for (Index m = 0; m < numbers; ++m) {
            const long double value =
                (static_cast<long double>(m_values(i, m)) - m_columns.shifts()[m]) * m_columns.scales()[m];
            own[static_cast<std::size_t>(m)] = value;
            residual -= coefficients[1 + m] * value;
        }
        residual *= weight(i);
        sums[0] += residual;
        for (Index m = 0; m < numbers; ++m)
            sums[1 + m] += residual * own[static_cast<std::size_t>(m)];
    }
}

void CellRows::addProducts(const MatrixXd& numbers, VectorXd residuals, Index from, Index cell,
                           ExtendedRows& sums) const {
    if (m_roots.size() > 0) residuals.array() *= m_roots.segment(from, residuals.size()).array().square();
    sums(cell, 0) += residuals.sum();
    const VectorXd products = numbers.transpose() * residuals;
    sums.row(cell).tail(numbers.cols()) += products.transpose().cast<long double>();
}

VectorXd CellRows::crossProducts(const LeastSquaresFit& fit, const Extended& solution, bool careful) const {
    const ExtendedRows coefficients = m_columns.coefficients(fit, solution, m_threads);
    ExtendedRows sums = ExtendedRows::Zero(cells().count, 1 + cells().numbers);
    forBatches(0.6, 0.8, "Refining", [&](std::size_t, Index first, Index last) {
        for (Index c = first; c < last; ++c)
            for (Index from = begin(c); from < begin(c + 1); from += batchRows) {
                const Index count = std::min(batchRows, begin(c + 1) - from);
                if (careful) {
                    stopIfTold(m_progress);
                    addProducts(fit, from, count, coefficients.row(c).data(), sums.row(c).data());
                    continue;
                }
                const MatrixXd own = numbersOf(from, count);
                addProducts(own, residualsOf(fit, own, from, coefficients.row(c).cast<double>()), from, c,
                            sums);
            }
    });
    return m_columns.products(fit, sums, m_threads);
}

ResidualSums CellRows::finish(LeastSquaresFit& fit, const VectorXd& solution) const {
    const MatrixXd coefficients =
        m_columns.coefficients(fit, solution.cast<long double>(), m_threads).cast<double>();
    const std::vector<Index>& ownNumbers = m_columns.own();
    const auto own = static_cast<Index>(ownNumbers.size());
    // A row in the basis that the factor makes orthonormal: what its shared numbers say, in an orthonormal
    // basis of their own, and beside it what its cell says.
    const auto [numbers, basis, turn] = m_columns.sharedBasis(fit);
    const Index shared = turn.cols();
    const auto all = batches();
    std::vector<long double> squares(all.size(), 0);
    ExtendedRows sums = ExtendedRows::Zero(cells().count, 1 + cells().numbers);
    forBatches(0.8, 1, "Leverages and residuals", [&](std::size_t batch, Index first, Index last) {
        MatrixXd place = m_columns.directions(fit, first, last);
        const MatrixXd inside = basis.transpose() * place;
        place -= basis * inside;
        for (Index c = first; c < last; ++c) {
            const auto mine = place.middleCols((c - first) * (1 + own), 1 + own);
            MatrixXd ways(shared, 1 + own + shared);
            ways << inside.middleCols((c - first) * (1 + own), 1 + own), turn;
            const Eigen::HouseholderQR<MatrixXd> beside(mine);
            const MatrixXd alone =
                beside.matrixQR().topRows(std::min(fit.rank(), 1 + own)).triangularView<Eigen::Upper>();
            for (Index from = begin(c); from < begin(c + 1); from += batchRows) {
                const Index count = std::min(batchRows, begin(c + 1) - from);
                const MatrixXd values = numbersOf(from, count);
                const VectorXd residuals = residualsOf(fit, values, from, coefficients.row(c));
                MatrixXd said(count, 1 + own + shared); // 1, own numbers, shared numbers
                said.col(0).setOnes();
                for (Index m = 0; m < own; ++m)
                    said.col(1 + m) = values.col(ownNumbers[static_cast<std::size_t>(m)]);
                for (Index m = 0; m < shared; ++m)
                    said.col(1 + own + m) = values.col(numbers[static_cast<std::size_t>(m)]);
                VectorXd leverages = VectorXd::Zero(count);
                const MatrixXd within = said * ways.transpose();
                for (Index m = 0; m < shared; ++m)
                    leverages += within.col(m).cwiseAbs2();
                if (own == 0)
                    leverages.array() += alone.squaredNorm();
                else
                    leverages += (said.leftCols(1 + own) * alone.transpose()).rowwise().squaredNorm();
                long double sum = 0;
                for (Index i = 0; i < count; ++i) {
                    const double root = m_roots.size() > 0 ? m_roots[from + i] : 1;
                    const double weighted = residuals[i] * root;
                    sum += static_cast<long double>(weighted) * weighted;
                    const auto row = static_cast<Index>(m_order[static_cast<std::size_t>(from + i)]);
                    fit.residuals[row] = residuals[i] / fit.responseScale;
                    fit.fitted[row] = m_values(from + i, cells().numbers) - fit.residuals[row];
                    fit.leverages[row] = leverages[i] * root * root;
                }
                squares[batch] += sum;
                addProducts(values, residuals, from, c, sums);
            }
        }
    });
    return {m_columns.products(fit, sums, m_threads), std::accumulate(squares.begin(), squares.end(), 0.0L)};
}

} // namespace oxgoad
