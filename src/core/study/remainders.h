#pragma once
// What the terms in a model leave of every candidate, kept up to date as terms come in.
#include "base/parallel.h"

#include <Eigen/Core>

#include <algorithm>
#include <cstddef>
#include <utility>
#include <vector>

namespace oxgoad {

/// Columns of rows, or of a factor of them, with what the terms in the model say taken out of each; y is the
/// last. Rows that are judged go along: theirs less what the others' coefficients say of them. A term costs
/// one update of all columns when it comes in (modified Gram–Schmidt: Björck 1967, "Solving linear least
/// squares problems by Gram-Schmidt orthogonalization", BIT 7), and a candidate one product of two columns.
class ColumnEntries {
public:
    using Index = Eigen::Index;
    ColumnEntries(Eigen::MatrixXd learned, std::vector<Eigen::MatrixXd> judged)
        : m_learned(std::move(learned)), m_judged(std::move(judged)),
          m_whole(m_learned.colwise().squaredNorm()) {}

    /// Takes a column in; nothing where it says no more than those that are in.
    void enter(Index j, Threads threads) {
        const Eigen::VectorXd own = m_learned.col(j);
        const double square = own.squaredNorm();
        if (!says(square, j)) return;
        std::vector<Eigen::VectorXd> theirs;
        for (const Eigen::MatrixXd& cell : m_judged)
            theirs.emplace_back(cell.col(j));
        constexpr Index panel = 64;
        parallelFor(static_cast<std::size_t>((m_learned.cols() + panel - 1) / panel), threads,
                    [&](std::size_t b) {
                        const Index from = static_cast<Index>(b) * panel,
                                    to = std::min(from + panel, m_learned.cols());
                        for (Index k = from; k < to; ++k) {
                            const double times = own.dot(m_learned.col(k)) / square;
                            m_learned.col(k) -= times * own;
                            for (std::size_t c = 0; c < theirs.size(); ++c)
                                m_judged[c].col(k) -= times * theirs[c];
                        }
                    });
        m_learned.col(j).setZero();
        for (Eigen::MatrixXd& cell : m_judged)
            cell.col(j).setZero();
    }

    /// Sums of squares that are left of y with some more columns, of the rows learned from and of those
    /// judged.
    std::pair<double, double> with(const std::vector<Index>& columns) const {
        const auto q = static_cast<Index>(columns.size());
        if (q == 1) return withOne(columns[0]);
        Eigen::MatrixXd own(m_learned.rows(), q + 1);
        for (Index k = 0; k < q; ++k)
            own.col(k) = m_learned.col(columns[static_cast<std::size_t>(k)]);
        own.col(q) = m_learned.col(m_learned.cols() - 1);
        std::vector<Eigen::MatrixXd> theirs;
        for (const Eigen::MatrixXd& cell : m_judged) {
            theirs.emplace_back(cell.rows(), q + 1);
            for (Index k = 0; k < q; ++k)
                theirs.back().col(k) = cell.col(columns[static_cast<std::size_t>(k)]);
            theirs.back().col(q) = cell.col(cell.cols() - 1);
        }
        for (Index k = 0; k < q; ++k) {
            const double square = own.col(k).squaredNorm();
            if (!says(square, columns[static_cast<std::size_t>(k)])) continue;
            for (Index l = k + 1; l <= q; ++l) {
                const double times = own.col(k).dot(own.col(l)) / square;
                own.col(l) -= times * own.col(k);
                for (Eigen::MatrixXd& cell : theirs)
                    cell.col(l) -= times * cell.col(k);
            }
        }
        double judged = 0;
        for (const Eigen::MatrixXd& cell : theirs)
            judged += cell.col(q).squaredNorm();
        return {own.col(q).squaredNorm(), judged};
    }

private:
    /// The same for one column, as almost all candidates are, without copies.
    std::pair<double, double> withOne(Index j) const {
        const Index y = m_learned.cols() - 1;
        const double square = m_learned.col(j).squaredNorm();
        const double times = says(square, j) ? m_learned.col(j).dot(m_learned.col(y)) / square : 0;
        double judged = 0;
        for (const Eigen::MatrixXd& cell : m_judged)
            judged += (cell.col(y) - times * cell.col(j)).squaredNorm();
        return {(m_learned.col(y) - times * m_learned.col(j)).squaredNorm(), judged};
    }
    bool says(double square, Index j) const { return square > 1e-20 * m_whole[j]; }

    Eigen::MatrixXd m_learned;
    std::vector<Eigen::MatrixXd> m_judged;
    Eigen::RowVectorXd m_whole;
};

} // namespace oxgoad
