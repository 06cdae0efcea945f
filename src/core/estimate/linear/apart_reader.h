#pragma once
// Rows for a fit whose levels are apart, read without ever writing out the columns of levels.
#include "design/row_source.h"
#include "estimate/linear/least_squares.h"

#include <Eigen/Core>

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace oxgoad {

/// Reads rows of a source for a fit with levels apart: which level each has, what its own columns are, and
/// the others.
class ApartReader {
public:
    using Index = Eigen::Index;
    /// References outlive it. Requires: levels apart in the fit, and a source of its columns.
    ApartReader(const LeastSquaresFit& fit, const RowSource& x);

    struct Rows {
        /// count × (rank − levels): [1, X~] without the levels, in the order of the factor's rest.
        Eigen::MatrixXd rest;
        /// Of each row the first direction of its level, −1 where it has none of them, and how many follow.
        std::vector<Index> first;
        std::vector<Index> directions;
        /// count × the most that a level has: what it is worth there.
        Eigen::MatrixXd own;
        void multiply(const Eigen::VectorXd& by);
    };
    /// From any thread.
    Rows read(Index begin, Index count) const;
    Rows read(std::span<const std::uint32_t> places) const;
    /// Of a row of the source, the first direction of its level; −1 where it has none.
    Index firstOf(std::size_t row) const { return m_firstOf[m_levels->of[row]]; }
    /// Rows into the basis that the factor makes orthonormal.
    void turn(Rows& rows) const;
    /// Σ over its row of the basis, squared.
    static Eigen::VectorXd leverages(const Rows& turned);
    /// Of the mean, with a root of the covariance that is apart.
    Eigen::VectorXd variances(const Rows& turned) const;

    /// Adds X~'z to `sums` (rank × m), z a row of which belongs to each row.
    void addProducts(const Rows& rows, const Eigen::MatrixXd& z, Eigen::MatrixXd& sums) const;
    /// X~b of coefficients by place (rank × m).
    Eigen::MatrixXd times(const Rows& rows, const Eigen::MatrixXd& b) const;

private:
    const LeastSquaresFit& m_fit;
    std::shared_ptr<const RowLevels> m_levels;
    /// Of a level of the rows, the first direction of the factor's, and how many it has.
    std::vector<Index> m_firstOf, m_countOf;
    /// Of each direction the slot of its column.
    std::vector<Index> m_slotOf;
    /// Of the rest by the factor, the column of the rows' rest; −1 for the constant.
    std::vector<Index> m_columnOf;
};

} // namespace oxgoad
