#include "estimate/linear/cell_rows.h"

#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <algorithm>
#include <atomic>
#include <cmath>

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

CellRows::CellRows(std::shared_ptr<const RowCells> cells, std::span<const double> y,
                   std::span<const double> weights, Threads threads, Progress& progress)
    : m_cells(std::move(cells)), m_weights(weights), m_threads(threads), m_progress(progress),
      m_order(y.size()), m_begin(static_cast<std::size_t>(m_cells->count) + 1, 0) {
    const auto n = static_cast<Index>(y.size());
    for (const auto cell : m_cells->cellOf)
        ++m_begin[cell + 1];
    for (std::size_t c = 1; c < m_begin.size(); ++c)
        m_begin[c] += m_begin[c - 1];
    auto next = m_begin;
    for (std::size_t i = 0; i < y.size(); ++i)
        m_order[next[m_cells->cellOf[i]]++] = static_cast<std::uint32_t>(i);

    const Index numbers = m_cells->numbers;
    m_values.resize(n, numbers + 1);
    if (!weights.empty()) m_roots.resize(n);
    const auto pieces = static_cast<std::size_t>((n + batchRows - 1) / batchRows);
    parallelFor(pieces, threads, [&](std::size_t b) {
        progress.checkpoint(0.05, "Sorting rows by their levels");
        const Index from = static_cast<Index>(b) * batchRows, count = std::min(batchRows, n - from);
        const std::span places(m_order.data() + from, static_cast<std::size_t>(count));
        m_cells->fill(places, m_values.block(from, 0, count, numbers));
        for (Index i = 0; i < count; ++i) {
            const auto place = places[static_cast<std::size_t>(i)];
            m_values(from + i, numbers) = y[place];
            if (!weights.empty()) m_roots[from + i] = std::sqrt(weights[place]);
        }
    });

    std::vector<Index> columns(static_cast<std::size_t>(numbers), 0);
    m_columnOf.assign(static_cast<std::size_t>(numbers), RowCells::none);
    std::vector<char> differs(static_cast<std::size_t>(numbers), 0);
    for (std::size_t j = 0; j < m_cells->numberOf.size(); ++j) {
        if (m_cells->numberOf[j] == RowCells::none) continue;
        const auto m = static_cast<std::size_t>(m_cells->numberOf[j]);
        m_columnOf[m] = static_cast<Index>(j);
        ++columns[m];
        if ((m_cells->multiple.col(static_cast<Index>(j)).array() != 1).any()) differs[m] = 1;
    }
    for (Index m = 0; m < numbers; ++m) {
        const auto at = static_cast<std::size_t>(m);
        (differs[at] != 0 || columns[at] != 1 ? m_own : m_shared).push_back(m);
    }
}

std::vector<std::pair<Index, Index>> CellRows::batches() const {
    std::vector<std::pair<Index, Index>> made;
    for (Index cell = 0; cell < m_cells->count;) {
        const Index first = cell, from = begin(cell);
        while (cell < m_cells->count && (cell == first || begin(cell + 1) - from <= batchRows))
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
    const Index p = m_cells->multiple.cols(), numbers = m_cells->numbers, cells = m_cells->count;
    std::vector<long double> sums(static_cast<std::size_t>(cells * (numbers + 2)), 0);
    MatrixXd low(cells, numbers + 1), high(cells, numbers + 1);
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
        for (Index c = 0; c < cells; ++c) {
            const Index m = j == p ? numbers : m_cells->numberOf[static_cast<std::size_t>(j)];
            const double times = j == p ? 1 : m_cells->multiple(c, j);
            if (m == RowCells::none)
                add(j, times * sumOf(c, numbers + 1), times, times);
            else
                add(j, times * sumOf(c, m), times * low(c, m), times * high(c, m));
        }
    return extent;
}

void CellRows::shiftNumbers(const LeastSquaresFit& fit) {
    m_shift = VectorXd::Zero(m_cells->numbers);
    m_scale = VectorXd::Ones(m_cells->numbers);
    for (Index m = 0; m < m_cells->numbers; ++m) {
        // A shared number stands as its column does; the others as the first of theirs, for want of better.
        const Index j = m_columnOf[static_cast<std::size_t>(m)];
        m_shift[m] = fit.shift[j];
        m_scale[m] = fit.scale[j];
    }
    for (const Index m : m_own) // about a value of its own
        m_shift[m] = m_values.col(m).mean();
}

CellRows::Code CellRows::code(const LeastSquaresFit& fit, Index cell, Index column) const {
    const double times = m_cells->multiple(cell, column);
    const Index m = m_cells->numberOf[static_cast<std::size_t>(column)];
    const auto scale = static_cast<long double>(fit.scale[column]);
    const long double shift = fit.shift[column];
    if (m == RowCells::none) return {m, 0, scale * (times - shift)};
    return {m, fit.scale[column] * times / m_scale[m],
            scale * (static_cast<long double>(times) * m_shift[m] - shift)};
}

MatrixXd CellRows::numbersOf(Index from, Index count) const {
    MatrixXd numbers = m_values.block(from, 0, count, m_cells->numbers);
    for (Index m = 0; m < numbers.cols(); ++m)
        numbers.col(m) = (numbers.col(m).array() - m_shift[m]) * m_scale[m];
    return numbers;
}

MatrixXd CellRows::reduce(const LeastSquaresFit& fit) {
    shiftNumbers(fit);
    const auto own = static_cast<Index>(m_own.size()), shared = static_cast<Index>(m_shared.size());
    const Index stay = 1 + own, k = stay + shared + 1;
    MatrixXd rows = MatrixXd::Zero(m_cells->count * stay, k); // of each cell
    std::vector<MatrixXd> rest(batches().size());
    forBatches(0.1, 0.5, "Reducing rows", [&](std::size_t batch, Index first, Index last) {
        MatrixXd left(0, shared + 1); // what the cells of this batch leave
        for (Index c = first; c < last; ++c) {
            MatrixXd r;
            for (Index from = begin(c); from < begin(c + 1); from += batchRows) {
                const Index count = std::min(batchRows, begin(c + 1) - from), above = r.rows();
                MatrixXd stacked(above + count, k);
                if (above > 0) stacked.topRows(above) = r;
                auto block = stacked.bottomRows(count);
                const MatrixXd numbers = numbersOf(from, count);
                block.col(0).setOnes();
                for (Index m = 0; m < own; ++m)
                    block.col(1 + m) = numbers.col(m_own[static_cast<std::size_t>(m)]);
                for (Index m = 0; m < shared; ++m)
                    block.col(stay + m) = numbers.col(m_shared[static_cast<std::size_t>(m)]);
                block.col(k - 1) =
                    (m_values.col(m_cells->numbers).segment(from, count).array() - fit.responseShift) *
                    fit.responseScale;
                if (m_roots.size() > 0) block.array().colwise() *= m_roots.segment(from, count).array();
                r = triangle(stacked, m_progress);
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
    for (const MatrixXd& part : rest) {
        MatrixXd stacked(left.rows() + part.rows(), shared + 1);
        stacked << left, part;
        left = triangle(stacked, m_progress);
    }

    // The few rows that stand for all, written out in the columns of the fit and reduced in their turn.
    const Index p = m_cells->multiple.cols(), start = fit.intercept ? 1 : 0, width = start + p + 1;
    MatrixXd total(0, width);
    const auto take = [&](MatrixXd block) {
        MatrixXd stacked(total.rows() + block.rows(), width);
        stacked << total, block;
        total = triangle(stacked, m_progress);
    };
    const Index cellsAtOnce = std::max<Index>(1, 4 * width / stay);
    for (Index c = 0; c < m_cells->count; c += cellsAtOnce) {
        m_progress.checkpoint(0.5 + 0.1 * static_cast<double>(c) / static_cast<double>(m_cells->count),
                              "Reducing levels");
        const Index count = std::min(cellsAtOnce, m_cells->count - c);
        MatrixXd block(count * stay, width);
        parallelFor(static_cast<std::size_t>(count), m_threads, [&](std::size_t i) {
            const Index cell = c + static_cast<Index>(i);
            const auto mine = rows.middleRows(cell * stay, stay);
            auto out = block.middleRows(static_cast<Index>(i) * stay, stay);
            if (start > 0) out.col(0) = mine.col(0);
            for (Index j = 0; j < p; ++j) {
                const Code made = code(fit, cell, j);
                out.col(start + j) = static_cast<double>(made.ofOne) * mine.col(0);
                if (made.number == RowCells::none) continue;
                out.col(start + j) += made.ofNumber * mine.col(placeOf(made.number));
            }
            out.col(width - 1) = mine.col(k - 1);
        });
        take(std::move(block));
    }
    if (left.rows() > 0) {
        MatrixXd block = MatrixXd::Zero(left.rows(), width);
        for (Index m = 0; m < shared; ++m)
            block.col(start + m_columnOf[static_cast<std::size_t>(m_shared[static_cast<std::size_t>(m)])]) =
                left.col(m);
        block.col(width - 1) = left.col(shared);
        take(std::move(block));
    }
    return total;
}

Index CellRows::placeOf(Index number) const {
    const auto own = std::find(m_own.begin(), m_own.end(), number);
    if (own != m_own.end()) return 1 + (own - m_own.begin());
    return 1 + static_cast<Index>(m_own.size()) +
           (std::find(m_shared.begin(), m_shared.end(), number) - m_shared.begin());
}

CellRows::ExtendedRows CellRows::cellCoefficients(const LeastSquaresFit& fit,
                                                  const Extended& solution) const {
    const Index start = fit.intercept ? 1 : 0;
    ExtendedRows coefficients = ExtendedRows::Zero(m_cells->count, 1 + m_cells->numbers);
    parallelFor(static_cast<std::size_t>(m_cells->count), m_threads, [&](std::size_t c) {
        const auto cell = static_cast<Index>(c);
        if (start > 0) coefficients(cell, 0) = solution[0];
        for (std::size_t k = 0; k < fit.kept.size(); ++k) {
            const long double b = solution[start + static_cast<Index>(k)];
            const Code made = code(fit, cell, static_cast<Index>(fit.kept[k]));
            coefficients(cell, 0) += made.ofOne * b;
            if (made.number != RowCells::none) coefficients(cell, 1 + made.number) += made.ofNumber * b;
        }
    });
    return coefficients;
}

VectorXd CellRows::residualsOf(const LeastSquaresFit& fit, const MatrixXd& numbers, Index from,
                               const Eigen::RowVectorXd& coefficients) const {
    VectorXd residuals =
        (m_values.col(m_cells->numbers).segment(from, numbers.rows()).array() - fit.responseShift) *
            fit.responseScale -
        coefficients[0];
    for (Index m = 0; m < numbers.cols(); ++m)
        residuals -= coefficients[1 + m] * numbers.col(m);
    return residuals;
}

void CellRows::addProducts(const LeastSquaresFit& fit, Index from, Index count,
                           const long double* coefficients, long double* sums) const {
    const Index numbers = m_cells->numbers;
    std::vector<long double> own(static_cast<std::size_t>(numbers));
    for (Index i = from; i < from + count; ++i) {
        long double residual =
            (static_cast<long double>(m_values(i, numbers)) - fit.responseShift) * fit.responseScale -
            coefficients[0];
        for (Index m = 0; m < numbers; ++m) {
            const long double value = (static_cast<long double>(m_values(i, m)) - m_shift[m]) * m_scale[m];
            own[static_cast<std::size_t>(m)] = value;
            residual -= coefficients[1 + m] * value;
        }
        residual *= weight(i);
        sums[0] += residual;
        for (Index m = 0; m < numbers; ++m)
            sums[1 + m] += residual * own[static_cast<std::size_t>(m)];
    }
}

VectorXd CellRows::crossProducts(const LeastSquaresFit& fit, const Extended& solution, bool careful) const {
    const ExtendedRows coefficients = cellCoefficients(fit, solution);
    const Index start = fit.intercept ? 1 : 0, numbers = m_cells->numbers;
    ExtendedRows sums = ExtendedRows::Zero(m_cells->count, 1 + numbers);
    forBatches(0.6, 0.8, "Refining", [&](std::size_t, Index first, Index last) {
        for (Index c = first; c < last; ++c)
            for (Index from = begin(c); from < begin(c + 1); from += batchRows) {
                const Index count = std::min(batchRows, begin(c + 1) - from);
                if (careful) {
                    if (m_progress.stopRequested()) throw Stopped{};
                    addProducts(fit, from, count, coefficients.row(c).data(), sums.row(c).data());
                    continue;
                }
                const MatrixXd own = numbersOf(from, count);
                VectorXd residuals = residualsOf(fit, own, from, coefficients.row(c).cast<double>());
                if (m_roots.size() > 0) residuals.array() *= m_roots.segment(from, count).array().square();
                sums(c, 0) += residuals.sum();
                const VectorXd products = own.transpose() * residuals;
                sums.row(c).tail(numbers) += products.transpose().cast<long double>();
            }
    });
    VectorXd products = VectorXd::Zero(solution.size());
    if (start > 0) products[0] = static_cast<double>(sums.col(0).sum());
    parallelFor(fit.kept.size(), m_threads, [&](std::size_t k) {
        long double sum = 0;
        for (Index c = 0; c < m_cells->count; ++c) {
            const Code made = code(fit, c, static_cast<Index>(fit.kept[k]));
            sum += made.ofOne * sums(c, 0);
            if (made.number != RowCells::none)
                sum += static_cast<long double>(made.ofNumber) * sums(c, 1 + made.number);
        }
        products[start + static_cast<Index>(k)] = static_cast<double>(sum);
    });
    return products;
}

std::vector<Index> CellRows::sharedInModel(const LeastSquaresFit& fit) const {
    std::vector<Index> numbers;
    for (const std::size_t j : fit.kept)
        if (const Index m = m_cells->numberOf[j];
            std::find(m_shared.begin(), m_shared.end(), m) != m_shared.end())
            numbers.push_back(m);
    return numbers;
}

MatrixXd CellRows::sharedDirections(const LeastSquaresFit& fit) const {
    std::vector<Index> places;
    for (std::size_t k = 0; k < fit.kept.size(); ++k)
        if (std::find(m_shared.begin(), m_shared.end(), m_cells->numberOf[fit.kept[k]]) != m_shared.end())
            places.push_back((fit.intercept ? 1 : 0) + static_cast<Index>(k));
    return fit.factor.directions(places);
}

long double CellRows::finish(LeastSquaresFit& fit, const VectorXd& solution) const {
    const MatrixXd coefficients = cellCoefficients(fit, solution.cast<long double>()).cast<double>();
    const Index start = fit.intercept ? 1 : 0;
    const auto own = static_cast<Index>(m_own.size());
    // A row in the basis that the factor makes orthonormal: what its shared numbers say, in an orthonormal
    // basis of their own, and beside it what its cell says.
    const std::vector<Index> numbers = sharedInModel(fit);
    const auto shared = static_cast<Index>(numbers.size());
    const MatrixXd directions = sharedDirections(fit);
    const Eigen::HouseholderQR<MatrixXd> qr(directions);
    const MatrixXd basis =
        shared > 0 ? MatrixXd(qr.householderQ() * MatrixXd::Identity(fit.rank(), shared)) : directions;
    const MatrixXd turn =
        shared > 0 ? MatrixXd(qr.matrixQR().topRows(shared).triangularView<Eigen::Upper>()) : MatrixXd(0, 0);
    const auto all = batches();
    std::vector<long double> squares(all.size(), 0);
    forBatches(0.8, 1, "Leverages and residuals", [&](std::size_t batch, Index first, Index last) {
        MatrixXd place = MatrixXd::Zero(fit.rank(), (last - first) * (1 + own)); // of 1 and own numbers
        for (Index c = first; c < last; ++c) {
            auto mine = place.middleCols((c - first) * (1 + own), 1 + own);
            if (start > 0) mine(0, 0) = 1;
            for (std::size_t k = 0; k < fit.kept.size(); ++k) {
                const Code made = code(fit, c, static_cast<Index>(fit.kept[k]));
                const Index at = start + static_cast<Index>(k);
                mine(at, 0) = static_cast<double>(made.ofOne);
                if (made.number != RowCells::none && placeOf(made.number) <= own)
                    mine(at, placeOf(made.number)) = made.ofNumber;
            }
        }
        place = fit.factor.solveTransposed(place);
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
                    said.col(1 + m) = values.col(m_own[static_cast<std::size_t>(m)]);
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
                    fit.fitted[row] = m_values(from + i, m_cells->numbers) - fit.residuals[row];
                    fit.leverages[row] = leverages[i] * root * root;
                }
                squares[batch] += sum;
            }
        }
    });
    long double total = 0;
    for (const long double s : squares)
        total += s;
    return total;
}

} // namespace oxgoad
