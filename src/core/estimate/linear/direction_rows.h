#pragma once
// Rows in the directions of a triangular factor, of which what is 0 in the directions of levels takes no
// room.
#include "estimate/linear/triangular_factor.h"

#include <Eigen/SparseCore>

#include <optional>
#include <span>

namespace oxgoad {

/// Rows that products with directions are taken of: the root of a covariance is made of them, each a score or
/// what scores leave. All together, or apart as the factor is: what is not 0 in the directions of its levels,
/// which come first, and the others.
class DirectionRows {
public:
    using Index = Eigen::Index;
    using MatrixXd = Eigen::MatrixXd;
    using VectorXd = Eigen::VectorXd;
    using Sparse = Eigen::SparseMatrix<double>;

    DirectionRows() = default;
    /// A row a column: rank × rows.
    explicit DirectionRows(MatrixXd columns);
    /// rows × levels, and rows × the rest.
    DirectionRows(Sparse ofLevels, MatrixXd rest);
    /// Triangular: of the levels (their diagonal may be 0), and the triangle of the rest.
    DirectionRows(TriangularFactor::Levels levels, MatrixXd triangle);

    bool empty() const { return rows() == 0; }
    bool apart() const { return m_apart; }
    Index rows() const { return m_apart ? m_rest.rows() : m_columns.cols(); }
    /// How many directions each row has.
    Index rank() const { return m_apart ? m_ofLevels.cols() + m_rest.cols() : m_columns.rows(); }
    bool allFinite() const;
    void multiply(double by);
    /// Length of the longest row.
    double longest() const;

    /// Of each row its products with directions (rank × m): rows × m.
    MatrixXd times(const MatrixXd& directions) const;
    VectorXd times(const VectorXd& direction) const;
    /// The same of directions that are 0 but at a few of the levels' in a row: the first of them for each (−1
    /// for none), what they are from there on, and the rest (a row a direction). Requires rows apart.
    MatrixXd timesApart(std::span<const Index> first, const MatrixXd& own, const MatrixXd& rest) const;

    /// Triangular: as a factor, whose diagonal may be 0; directions with more than `least` of a length.
    const std::optional<TriangularFactor>& factor() const { return m_factor; }
    bool triangular() const { return m_factor.has_value(); }
    Index known(double least) const;

    /// Together; requires rows that are not apart.
    const MatrixXd& columns() const { return m_columns; }
    const Sparse& ofLevels() const { return m_ofLevels; }
    const MatrixXd& rest() const { return m_rest; }

private:
    bool m_apart = false;
    MatrixXd m_columns;
    Sparse m_ofLevels;
    MatrixXd m_rest;
    std::optional<TriangularFactor> m_factor;
};

} // namespace oxgoad
