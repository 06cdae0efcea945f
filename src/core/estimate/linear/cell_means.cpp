#include "estimate/linear/cell_means.h"

#include "estimate/linear/triangle.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

using Cells = std::span<const std::uint32_t>;

/// Adds values, times weights where there are some, to the sums of their cells.
template <class Sum>
void addByCell(const Eigen::Ref<const VectorXd>& values, Cells cells, std::span<const double> weights,
               Sum* sums) {
    for (std::size_t i = 0; i < cells.size(); ++i)
        sums[cells[i]] += (weights.empty() ? 1 : weights[i]) * values[static_cast<Index>(i)];
}

void subtractByCell(Eigen::Ref<VectorXd> values, Cells cells, const Eigen::Ref<const VectorXd>& ofCells) {
    for (std::size_t i = 0; i < cells.size(); ++i)
        values[static_cast<Index>(i)] -= ofCells[cells[i]];
}

} // namespace

CellMeans::CellMeans(CellColumns columns, std::span<const double> y, std::span<const double> weights,
                     Threads threads, Progress& progress)
    : m_columns(std::move(columns)), m_y(y), m_weights(weights), m_threads(threads), m_progress(progress),
      m_numbers(m_columns.cells().numbers), m_atOnce(rowsAtOnce(m_numbers + 1)), m_places(y.size()),
      m_sizes(static_cast<std::size_t>(m_columns.cells().count), 0) {
    // A stretch has sums of its own for all cells: few where these are many.
    constexpr Index mostSums = 4000000, mostStretches = 32;
    const auto n = static_cast<Index>(y.size());
    const Index stretches = std::clamp<Index>(mostSums / (m_columns.cells().count * (m_numbers + 1)), 1,
                                              std::min(mostStretches, 1 + n / (4 * m_atOnce)));
    m_stretch = (n + stretches - 1) / stretches;
    progress.checkpoint(0.05, "Counting levels");
    std::iota(m_places.begin(), m_places.end(), 0U);
    const auto& cellOf = m_columns.cells().cellOf;
    constexpr auto none = static_cast<std::uint32_t>(-1);
    m_first.assign(m_sizes.size(), none);
    for (std::size_t i = 0; i < cellOf.size(); ++i) // the first that weighs something, where one does
        if (auto& first = m_first[cellOf[i]];
            first == none || (!weights.empty() && weights[first] == 0 && weights[i] > 0))
            first = static_cast<std::uint32_t>(i);
    if (weights.empty()) {
        std::vector<std::uint32_t> counts(m_sizes.size(), 0);
        for (const auto cell : cellOf)
            ++counts[cell];
        std::copy(counts.begin(), counts.end(), m_sizes.begin());
    } else {
        for (std::size_t i = 0; i < cellOf.size(); ++i)
            m_sizes[cellOf[i]] += weights[i];
    }
}

void CellMeans::read(Rows& rows) const {
    const auto from = static_cast<std::size_t>(rows.from), count = static_cast<std::size_t>(rows.count());
    m_columns.cells().fill(std::span(m_places).subspan(from, count), rows.values.leftCols(m_numbers));
    rows.values.col(m_numbers) = Eigen::Map<const VectorXd>(m_y.data() + from, rows.count());
    rows.cells = std::span(m_columns.cells().cellOf).subspan(from, count);
    if (!m_weights.empty()) rows.weights = m_weights.subspan(from, count);
}

void CellMeans::shift(const LeastSquaresFit& fit, Eigen::Ref<MatrixXd> rows) const {
    m_columns.shiftNumbers(rows.leftCols(m_numbers));
    auto y = rows.col(m_numbers);
    y = (y.array() - fit.responseShift) * fit.responseScale;
}

Index CellMeans::stretches() const {
    const auto n = static_cast<Index>(m_y.size());
    return (n + m_stretch - 1) / m_stretch;
}

template <class Each> void CellMeans::forRows(double from, double to, const char* what, Each&& each) const {
    const auto n = static_cast<Index>(m_y.size());
    std::atomic<Index> done{0};
    parallelFor(static_cast<std::size_t>(stretches()), m_threads, [&](std::size_t s) {
        const Index end = std::min(n, (static_cast<Index>(s) + 1) * m_stretch);
        Rows rows{.stretch = static_cast<Index>(s)};
        for (rows.from = static_cast<Index>(s) * m_stretch; rows.from < end; rows.from += m_atOnce) {
            m_progress.checkpoint(from + (to - from) * static_cast<double>(done) / static_cast<double>(n),
                                  what);
            rows.values.resize(std::min(m_atOnce, end - rows.from), m_numbers + 1);
            read(rows);
            each(rows);
            done += rows.count();
        }
    });
}

CellMeans::Extent CellMeans::extent() const {
    const RowCells& cells = m_columns.cells();
    const Index p = cells.multiple.cols(), k = m_numbers + 1;
    struct Part {
        std::vector<long double> sums;
        VectorXd low, high;
    };
    std::vector<Part> parts(static_cast<std::size_t>(stretches()),
                            {std::vector<long double>(static_cast<std::size_t>(k), 0),
                             VectorXd::Constant(k, INFINITY), VectorXd::Constant(k, -INFINITY)});
    forRows(0.05, 0.1, "Centring columns", [&](const Rows& rows) {
        Part& part = parts[static_cast<std::size_t>(rows.stretch)];
        part.low = part.low.cwiseMin(rows.values.colwise().minCoeff().transpose());
        part.high = part.high.cwiseMax(rows.values.colwise().maxCoeff().transpose());
        VectorXd sums(k);
        if (rows.weights.empty())
            sums = rows.values.colwise().sum();
        else
            sums = rows.values.transpose() * Eigen::Map<const VectorXd>(rows.weights.data(), rows.count());
        for (Index m = 0; m < k; ++m)
            part.sums[static_cast<std::size_t>(m)] += sums[m];
    });
    Extent extent{std::vector<long double>(static_cast<std::size_t>(p + 1), 0),
                  VectorXd::Constant(p + 1, INFINITY), VectorXd::Constant(p + 1, -INFINITY)};
    for (Index j = 0; j <= p; ++j) {
        long double& sum = extent.sum[static_cast<std::size_t>(j)];
        const Index m = j == p ? m_numbers : cells.numberOf[static_cast<std::size_t>(j)];
        if (m == RowCells::none) {
            for (Index c = 0; c < cells.count; ++c)
                sum += cells.multiple(c, j) * m_sizes[static_cast<std::size_t>(c)];
            extent.low[j] = cells.multiple.col(j).minCoeff();
            extent.high[j] = cells.multiple.col(j).maxCoeff();
            continue;
        }
        for (const Part& part : parts) {
            sum += part.sums[static_cast<std::size_t>(m)];
            extent.low[j] = std::min(extent.low[j], part.low[m]);
            extent.high[j] = std::max(extent.high[j], part.high[m]);
        }
    }
    return extent;
}

MatrixXd CellMeans::triangleOf(const LeastSquaresFit& fit) {
    const Index count = m_columns.cells().count, k = m_numbers + 1;
    m_columns.shift(fit, VectorXd::Zero(m_numbers));
    // A cell's mean as one of its rows and what the others differ from it by: nothing is left of what is the
    // same in all of them, and little is rounded where they differ little.
    MatrixXd one(count, k);
    m_columns.cells().fill(m_first, one.leftCols(m_numbers));
    for (Index c = 0; c < count; ++c)
        one(c, m_numbers) = m_y[m_first[static_cast<std::size_t>(c)]];
    shift(fit, one);
    std::vector<MatrixXd> sums(static_cast<std::size_t>(stretches()));
    forRows(0.1, 0.25, "Means of levels", [&](Rows& rows) {
        MatrixXd& mine = sums[static_cast<std::size_t>(rows.stretch)];
        if (mine.size() == 0) mine = MatrixXd::Zero(count, k);
        shift(fit, rows.values);
        for (Index m = 0; m < k; ++m) {
            subtractByCell(rows.values.col(m), rows.cells, one.col(m));
            addByCell(rows.values.col(m), rows.cells, rows.weights, mine.col(m).data());
        }
    });
    MatrixXd differences = MatrixXd::Zero(count, k), rows(count, 1 + k);
    for (Index c = 0; c < count; ++c) {
        const long double size = m_sizes[static_cast<std::size_t>(c)], root = std::sqrt(size);
        rows(c, 0) = static_cast<double>(root);
        for (Index m = 0; m < k; ++m) {
            long double difference = 0;
            for (const MatrixXd& part : sums)
                difference += part(c, m);
            if (size > 0) difference /= size;
            differences(c, m) = static_cast<double>(difference);
            rows(c, 1 + m) = static_cast<double>(root * (one(c, m) + difference));
        }
    }
    std::vector<MatrixXd> lefts(sums.size());
    forRows(0.25, 0.5, "Reducing rows", [&](Rows& each) {
        shift(fit, each.values);
        for (Index m = 0; m < k; ++m) {
            subtractByCell(each.values.col(m), each.cells, one.col(m));
            subtractByCell(each.values.col(m), each.cells, differences.col(m));
        }
        if (!each.weights.empty())
            each.values.array().colwise() *=
                Eigen::Map<const VectorXd>(each.weights.data(), each.count()).array().sqrt();
        absorb(lefts[static_cast<std::size_t>(each.stretch)], each.values, m_progress);
    });
    for (std::size_t s = 1; s < lefts.size(); ++s)
        absorb(lefts[0], lefts[s], m_progress);
    return m_columns.reduced(fit, rows, lefts[0], m_threads, m_progress);
}

void CellMeans::addProducts(const Rows& rows, VectorXd residuals, Part& part) const {
    if (part.ofCells.size() == 0) part = {Extended::Zero(m_columns.cells().count), Extended::Zero(m_numbers)};
    if (!rows.weights.empty())
        residuals.array() *= Eigen::Map<const VectorXd>(rows.weights.data(), rows.count()).array();
    addByCell(residuals, rows.cells, {}, part.ofCells.data());
    part.ofNumbers += (rows.values.leftCols(m_numbers).transpose() * residuals).cast<long double>();
}

VectorXd CellMeans::products(const LeastSquaresFit& fit, const std::vector<Part>& parts) const {
    // Of the numbers only sums over all cells matter: the first cell holds them at the end.
    CellColumns::ExtendedRows sums = CellColumns::ExtendedRows::Zero(m_columns.cells().count, 1 + m_numbers);
    for (const Part& part : parts) {
        sums.col(0) += part.ofCells;
        sums.row(0).tail(m_numbers) += part.ofNumbers.transpose();
    }
    return m_columns.products(fit, sums, m_threads);
}

VectorXd CellMeans::crossProducts(const LeastSquaresFit& fit, const Extended& solution, bool careful) const {
    const CellColumns::ExtendedRows coefficients = m_columns.coefficients(fit, solution, m_threads);
    const VectorXd ofCells = coefficients.col(0).cast<double>(),
                   ofNumbers = coefficients.row(0).tail(m_numbers).transpose().cast<double>();
    std::vector<Part> parts(static_cast<std::size_t>(stretches()));
    forRows(0.6, 0.8, "Refining", [&](Rows& rows) {
        Part& part = parts[static_cast<std::size_t>(rows.stretch)];
        if (careful) {
            addCarefully(fit, rows, coefficients, part);
            return;
        }
        shift(fit, rows.values);
        VectorXd residuals = rows.values.col(m_numbers) - rows.values.leftCols(m_numbers) * ofNumbers;
        subtractByCell(residuals, rows.cells, ofCells);
        addProducts(rows, std::move(residuals), part);
    });
    return products(fit, parts);
}

void CellMeans::addCarefully(const LeastSquaresFit& fit, const Rows& rows,
                             const CellColumns::ExtendedRows& coefficients, Part& part) const {
    if (part.ofCells.size() == 0) part = {Extended::Zero(m_columns.cells().count), Extended::Zero(m_numbers)};
    Extended own(m_numbers);
    for (Index i = 0; i < rows.count(); ++i) {
        const auto cell = rows.cells[static_cast<std::size_t>(i)];
        long double residual =
            (static_cast<long double>(rows.values(i, m_numbers)) - fit.responseShift) * fit.responseScale -
            coefficients(cell, 0);
        for (Index m = 0; m < m_numbers; ++m) {
            own[m] =
                (static_cast<long double>(rows.values(i, m)) - m_columns.shifts()[m]) * m_columns.scales()[m];
            residual -= coefficients(cell, 1 + m) * own[m];
        }
        if (!rows.weights.empty()) residual *= rows.weights[static_cast<std::size_t>(i)];
        part.ofCells[cell] += residual;
        part.ofNumbers += residual * own;
    }
}

ResidualSums CellMeans::finish(LeastSquaresFit& fit, const VectorXd& solution) const {
    const MatrixXd coefficients =
        m_columns.coefficients(fit, solution.cast<long double>(), m_threads).cast<double>();
    const Index count = m_columns.cells().count;
    const VectorXd ofNumbers = coefficients.row(0).tail(m_numbers).transpose();
    // A row in the basis that the factor makes orthonormal: what its numbers say, in an orthonormal basis of
    // their own, and beside it what its cell says.
    const auto [numbers, basis, turn] = m_columns.sharedBasis(fit);
    const Index shared = turn.cols();
    MatrixXd inside(count, shared);
    VectorXd alone(count);
    constexpr Index cellsAtOnce = 512;
    parallelFor(static_cast<std::size_t>((count + cellsAtOnce - 1) / cellsAtOnce), m_threads,
                [&](std::size_t b) {
                    stopIfTold(m_progress);
                    const Index first = static_cast<Index>(b) * cellsAtOnce,
                                last = std::min(count, first + cellsAtOnce);
                    MatrixXd place = m_columns.directions(fit, first, last);
                    const MatrixXd along = basis.transpose() * place;
                    place -= basis * along;
                    inside.middleRows(first, last - first) = along.transpose();
                    alone.segment(first, last - first) = place.colwise().squaredNorm();
                });
    std::vector<long double> squares(static_cast<std::size_t>(stretches()), 0);
    std::vector<Part> parts(squares.size());
    forRows(0.8, 1, "Leverages and residuals", [&](Rows& rows) {
        const VectorXd actual = rows.values.col(m_numbers);
        shift(fit, rows.values);
        VectorXd residuals = rows.values.col(m_numbers) - rows.values.leftCols(m_numbers) * ofNumbers;
        MatrixXd within = MatrixXd(rows.values(Eigen::all, numbers)) * turn.transpose();
        VectorXd leverages(rows.count());
        for (Index i = 0; i < rows.count(); ++i) {
            const auto cell = rows.cells[static_cast<std::size_t>(i)];
            residuals[i] -= coefficients(cell, 0);
            leverages[i] = alone[cell];
        }
        for (Index m = 0; m < shared; ++m) {
            const double* ofCell = inside.col(m).data();
            for (Index i = 0; i < rows.count(); ++i) {
                const double along = within(i, m) + ofCell[rows.cells[static_cast<std::size_t>(i)]];
                leverages[i] += along * along;
            }
        }
        long double sum = 0;
        for (Index i = 0; i < rows.count(); ++i) {
            const double w = rows.weights.empty() ? 1 : rows.weights[static_cast<std::size_t>(i)];
            sum += static_cast<long double>(w) * residuals[i] * residuals[i];
            leverages[i] *= w;
        }
        fit.residuals.segment(rows.from, rows.count()) = residuals / fit.responseScale;
        fit.fitted.segment(rows.from, rows.count()) = actual - fit.residuals.segment(rows.from, rows.count());
        fit.leverages.segment(rows.from, rows.count()) = leverages;
        squares[static_cast<std::size_t>(rows.stretch)] += sum;
        addProducts(rows, std::move(residuals), parts[static_cast<std::size_t>(rows.stretch)]);
    });
    return {products(fit, parts), std::accumulate(squares.begin(), squares.end(), 0.0L)};
}

} // namespace oxgoad
