#pragma once
// Rows for a fit whose levels are apart, read without ever writing out the columns of levels.
#include "design/row_source.h"
#include "estimate/linear/least_squares.h"

#include <Eigen/Core>

#include <memory>
#include <vector>

namespace oxgoad {

/// Reads rows of a source for a fit with levels apart: which level each has, and the other columns.
class ApartReader {
public:
    using Index = Eigen::Index;
    /// References outlive it. Requires: levels apart in the fit, and a source of its columns.
    ApartReader(const LeastSquaresFit& fit, const RowSource& x);

    struct Rows {
        /// count × (rank − levels): [1, X~] without the levels, in the order of the factor's rest.
        Eigen::MatrixXd rest;
        /// Of each row, an index into the factor's levels; −1 where it has none of them.
        std::vector<Index> level;
        /// What it is worth there: 1, or what the row is multiplied by.
        Eigen::VectorXd value;
        void multiply(const Eigen::VectorXd& by);
    };
    /// From any thread.
    Rows read(Index begin, Index count) const;
    /// The rest in the basis that the factor makes orthonormal; of its own level a row has value/length
    /// there.
    void turn(Rows& rows) const;
    /// Σ over its row of the basis, squared.
    Eigen::VectorXd leverages(const Rows& turned) const;

    /// Adds X~'z to `sums` (rank × m), z a row of which belongs to each row.
    void addProducts(const Rows& rows, const Eigen::MatrixXd& z, Eigen::MatrixXd& sums) const;
    /// X~b of coefficients by place (rank × m).
    Eigen::MatrixXd times(const Rows& rows, const Eigen::MatrixXd& b) const;

private:
    const LeastSquaresFit& m_fit;
    std::shared_ptr<const RowLevels> m_levels;
    /// Of a level of the rows, that of the factor.
    std::vector<Index> m_levelOf;
    /// Of the rest by the factor, the column of the rows' rest; −1 for the constant.
    std::vector<Index> m_columnOf;
};

} // namespace oxgoad
