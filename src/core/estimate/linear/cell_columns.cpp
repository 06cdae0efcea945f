#include "estimate/linear/cell_columns.h"

#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <algorithm>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

CellColumns::CellColumns(std::shared_ptr<const RowCells> cells) : m_cells(std::move(cells)) {
    const auto numbers = static_cast<std::size_t>(m_cells->numbers);
    std::vector<Index> columns(numbers, 0);
    m_columnOf.assign(numbers, RowCells::none);
    std::vector<char> differs(numbers, 0);
    for (std::size_t j = 0; j < m_cells->numberOf.size(); ++j) {
        if (m_cells->numberOf[j] == RowCells::none) continue;
        const auto m = static_cast<std::size_t>(m_cells->numberOf[j]);
        m_columnOf[m] = static_cast<Index>(j);
        ++columns[m];
        if ((m_cells->multiple.col(static_cast<Index>(j)).array() != 1).any()) differs[m] = 1;
    }
    for (std::size_t m = 0; m < numbers; ++m)
        (differs[m] != 0 || columns[m] != 1 ? m_own : m_shared).push_back(static_cast<Index>(m));
}

void CellColumns::shift(const LeastSquaresFit& fit, const VectorXd& middles) {
    m_shift = VectorXd::Zero(m_cells->numbers);
    m_scale = VectorXd::Ones(m_cells->numbers);
    for (Index m = 0; m < m_cells->numbers; ++m) {
        // A shared number stands as its column does; the others are scaled as one of theirs.
        const Index j = m_columnOf[static_cast<std::size_t>(m)];
        m_shift[m] = fit.shift[j];
        m_scale[m] = fit.scale[j];
    }
    for (const Index m : m_own)
        m_shift[m] = middles[m];
}

void CellColumns::shiftNumbers(Eigen::Ref<MatrixXd> numbers) const {
    for (Index m = 0; m < numbers.cols(); ++m)
        numbers.col(m) = (numbers.col(m).array() - m_shift[m]) * m_scale[m];
}

CellColumns::Code CellColumns::code(const LeastSquaresFit& fit, Index cell, Index column) const {
    const double times = m_cells->multiple(cell, column);
    const Index m = m_cells->numberOf[static_cast<std::size_t>(column)];
    const auto scale = static_cast<long double>(fit.scale[column]);
    const long double shift = fit.shift[column];
    if (m == RowCells::none) return {m, 0, scale * (times - shift)};
    return {m, fit.scale[column] * times / m_scale[m],
            scale * (static_cast<long double>(times) * m_shift[m] - shift)};
}

Index CellColumns::placeOf(Index number) const {
    const auto own = std::find(m_own.begin(), m_own.end(), number);
    if (own != m_own.end()) return 1 + (own - m_own.begin());
    return 1 + static_cast<Index>(m_own.size()) +
           (std::find(m_shared.begin(), m_shared.end(), number) - m_shared.begin());
}

CellColumns::ExtendedRows CellColumns::coefficients(const LeastSquaresFit& fit,
                                                    const GroupedRows::Extended& solution,
                                                    Threads threads) const {
    const Index start = fit.intercept ? 1 : 0;
    ExtendedRows coefficients = ExtendedRows::Zero(m_cells->count, 1 + m_cells->numbers);
    parallelFor(static_cast<std::size_t>(m_cells->count), threads, [&](std::size_t c) {
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

VectorXd CellColumns::products(const LeastSquaresFit& fit, const ExtendedRows& sums, Threads threads) const {
    const Index start = fit.intercept ? 1 : 0;
    VectorXd products = VectorXd::Zero(start + static_cast<Index>(fit.kept.size()));
    if (start > 0) products[0] = static_cast<double>(sums.col(0).sum());
    parallelFor(fit.kept.size(), threads, [&](std::size_t k) {
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

MatrixXd CellColumns::reduced(const LeastSquaresFit& fit, const MatrixXd& rows, const MatrixXd& left,
                              Threads threads, Progress& progress) const {
    const auto own = static_cast<Index>(m_own.size()), shared = static_cast<Index>(m_shared.size());
    const Index stay = 1 + own, k = stay + shared + 1;
    // The few rows that stand for all, written out in the columns of the fit and reduced in their turn.
    const Index p = m_cells->multiple.cols(), start = fit.intercept ? 1 : 0, width = start + p + 1;
    MatrixXd total(0, width);
    const auto take = [&](MatrixXd block) { absorb(total, block, progress); };
    const Index cellsAtOnce = std::max<Index>(1, 4 * width / stay);
    for (Index c = 0; c < m_cells->count; c += cellsAtOnce) {
        progress.checkpoint(0.5 + 0.1 * static_cast<double>(c) / static_cast<double>(m_cells->count),
                            "Reducing levels");
        const Index count = std::min(cellsAtOnce, m_cells->count - c);
        MatrixXd block(count * stay, width);
        parallelFor(static_cast<std::size_t>(count), threads, [&](std::size_t i) {
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

CellColumns::Shared CellColumns::sharedBasis(const LeastSquaresFit& fit) const {
    Shared shared;
    std::vector<Index> places;
    for (std::size_t k = 0; k < fit.kept.size(); ++k) {
        const Index m = m_cells->numberOf[fit.kept[k]];
        if (std::find(m_shared.begin(), m_shared.end(), m) == m_shared.end()) continue;
        shared.numbers.push_back(m);
        places.push_back((fit.intercept ? 1 : 0) + static_cast<Index>(k));
    }
    shared.basis = fit.factor.directions(places);
    const auto count = static_cast<Index>(places.size());
    shared.turn = MatrixXd(count, count);
    if (count == 0) return shared;
    const Eigen::HouseholderQR<MatrixXd> qr(shared.basis);
    shared.basis = qr.householderQ() * MatrixXd::Identity(fit.rank(), count);
    shared.turn = qr.matrixQR().topRows(count).triangularView<Eigen::Upper>();
    return shared;
}

MatrixXd CellColumns::directions(const LeastSquaresFit& fit, Index first, Index last) const {
    const Index start = fit.intercept ? 1 : 0;
    const auto own = static_cast<Index>(m_own.size());
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
    return fit.factor.solveTransposed(place);
}

} // namespace oxgoad
