#include "study/departures.h"
#include "estimate/decompositions.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>

namespace oxgoad {

ColumnRemovals::ColumnRemovals(const MatrixXd& learned, std::vector<Index> columns,
                               const std::vector<const MatrixXd*>& judged)
    : m_columns(std::move(columns)) {
    const auto k = static_cast<Index>(m_columns.size());
    if (learned.rows() < k) return;
    MatrixXd work(learned.rows(), k + 1);
    work << learned(Eigen::all, m_columns), learned.col(learned.cols() - 1);
    const VectorXd lengths = work.leftCols(k).colwise().norm();
    const Eigen::HouseholderQR<MatrixXd> qr(work);
    const MatrixXd r = qr.matrixQR().topLeftCorner(std::min(work.rows(), k + 1), k + 1);
    constexpr double repeated = 1e-10;
    m_sound = true;
    for (Index j = 0; j < k; ++j)
        m_sound = m_sound && std::fabs(r(j, j)) > repeated * lengths[j];
    if (!m_sound) return;
    m_effects = r.col(k).head(k);
    m_squares = r.rows() > k ? r(k, k) * r(k, k) : 0;
    m_inverse = MatrixXd::Identity(k, k);
    if (k > 0) r.topLeftCorner(k, k).triangularView<Eigen::Upper>().solveInPlace(m_inverse);
    for (const MatrixXd* cell : judged) {
        m_along.emplace_back(MatrixXd((*cell)(Eigen::all, m_columns)) * m_inverse);
        m_left.emplace_back(cell->col(cell->cols() - 1) - m_along.back() * m_effects);
    }
}

double ColumnRemovals::judgedSquares() const {
    double sum = 0;
    for (const VectorXd& left : m_left)
        sum += left.squaredNorm();
    return sum;
}

Eigen::Index ColumnRemovals::placeOf(Index column) const {
    return std::find(m_columns.begin(), m_columns.end(), column) - m_columns.begin();
}

Eigen::MatrixXd ColumnRemovals::directionsOf(const std::vector<Index>& columns) const {
    const auto q = static_cast<Index>(columns.size());
    MatrixXd rows(m_inverse.cols(), q);
    for (Index j = 0; j < q; ++j)
        rows.col(j) = m_inverse.row(placeOf(columns[static_cast<std::size_t>(j)])).transpose().normalized();
    if (q == 1) return rows;
    return orthonormalColumns(rows);
}

std::pair<double, double> ColumnRemovals::without(const std::vector<Index>& columns) const {
    if (columns.empty()) return {m_squares, judgedSquares()};
    const MatrixXd own = directionsOf(columns);
    const VectorXd effects = own.transpose() * m_effects;
    double judged = 0;
    for (std::size_t c = 0; c < m_left.size(); ++c) {
        const VectorXd given = own * effects;
        judged += (m_left[c] + m_along[c] * given).squaredNorm();
    }
    return {m_squares + effects.squaredNorm(), judged};
}

void ColumnRemovals::leave(const std::vector<Index>& columns, Threads threads, const Progress& progress) {
    for (const Index column : columns) {
        stopIfTold(progress);
        const Index place = placeOf(column), last = m_inverse.cols() - 1;
        // Rotations of neighbouring directions, from the first that the column's row has to the last.
        struct Rotation {
            Index at;
            double cosine, sine;
        };
        std::vector<Rotation> rotations;
        VectorXd row = m_inverse.row(place).transpose();
        for (Index i = 0; i < last; ++i) {
            if (row[i] == 0) continue;
            const double length = std::hypot(row[i], row[i + 1]);
            rotations.push_back({i, row[i + 1] / length, row[i] / length});
            row[i + 1] = length;
        }
        const auto turn = [&](auto&& matrix, Index from, Index count) {
            for (const Rotation& r : rotations) {
                auto a = matrix.col(r.at).segment(from, count), b = matrix.col(r.at + 1).segment(from, count);
                const VectorXd before = a;
                a = r.cosine * before - r.sine * b;
                b = r.sine * before + r.cosine * b;
            }
        };
        constexpr Index piece = 128;
        const auto turnAll = [&](MatrixXd& matrix) {
            parallelFor(static_cast<std::size_t>((matrix.rows() + piece - 1) / piece), threads,
                        [&](std::size_t b) {
                            const Index from = static_cast<Index>(b) * piece;
                            turn(matrix, from, std::min(piece, matrix.rows() - from));
                        });
            matrix.conservativeResize(Eigen::NoChange, last);
        };
        for (const Rotation& r : rotations) {
            const double before = m_effects[r.at];
            m_effects[r.at] = r.cosine * before - r.sine * m_effects[r.at + 1];
            m_effects[r.at + 1] = r.sine * before + r.cosine * m_effects[r.at + 1];
        }
        turnAll(m_inverse);
        m_inverse.row(place).setZero();
        for (MatrixXd& along : m_along)
            turn(along, 0, along.rows());
        for (std::size_t c = 0; c < m_left.size(); ++c) {
            m_left[c] += m_effects[last] * m_along[c].col(last);
            m_along[c].conservativeResize(Eigen::NoChange, last);
        }
        m_squares += m_effects[last] * m_effects[last];
        m_effects.conservativeResize(last);
    }
}

} // namespace oxgoad
