#pragma once
// The triangular factor of a model matrix, and what is worked out with it and with its inverse.
#include <Eigen/Core>

#include <vector>

namespace oxgoad {

/// R of QR = [1, X~], where Q has orthonormal columns. A place is that of a coefficient: the constant first,
/// where there is one, then the columns kept. A direction is a vector in the basis that R makes orthonormal.
///
/// Columns of the levels of one factor are orthogonal to those of other levels, as each row has one level:
/// taken first, they need no more of R than a small triangle a level (one length where a level has one
/// column) and what the other columns share with each (a block angular factor: Golub and Plemmons 1980,
/// "Large-scale geodetic least-squares adjustment by dissection and orthogonal projection", Linear Algebra
/// and its Applications 34; Björck 1996, "Numerical methods for least squares problems", §6.3). So thousands
/// of levels take room and time by their number, not by its square. The directions of levels come first then,
/// those of the rest after them.
class TriangularFactor {
public:
    using Index = Eigen::Index;
    using MatrixXd = Eigen::MatrixXd;
    using VectorXd = Eigen::VectorXd;

    /// The columns of levels, level by level: so many directions.
    struct Levels {
        /// Place of each direction; rising within a level.
        std::vector<Index> places;
        /// Of each direction the first of its level.
        std::vector<Index> firsts;
        /// directions × the most that a level has: of its level's triangle the row of each direction, from
        /// its diagonal on. The diagonal is above 0.
        MatrixXd own;
        /// directions × (rank − directions): what the others share with each, in the order of their places.
        MatrixXd shared;

        Index count() const { return static_cast<Index>(places.size()); }
        Index first(Index direction) const { return firsts[static_cast<std::size_t>(direction)]; }
        /// Past the last direction of the level that begins with this one.
        Index end(Index first) const;
        bool single() const { return own.cols() == 1; }
        /// In place, on directions × m: R⁻¹z, R⁻ᵀz, Rz, Rᵀz of each level's triangle.
        void solve(MatrixXd& z) const;
        void solveTransposed(MatrixXd& z) const;
        MatrixXd times(const MatrixXd& z) const;
        MatrixXd transposeTimes(const MatrixXd& z) const;
        /// Of levels with one column each: their lengths are their triangles.
        static Levels ofLengths(std::vector<Index> places, const VectorXd& lengths, MatrixXd shared);
    };

    TriangularFactor() = default;
    /// All of it one upper triangle, in the order of places. What asks for the inverse needs setInverse
    /// first.
    explicit TriangularFactor(MatrixXd triangle, MatrixXd inverse = {});
    /// The triangle of the rest beside that of levels.
    TriangularFactor(Levels levels, MatrixXd triangle, MatrixXd inverse = {});

    Index rank() const { return levels() + m_triangle.rows(); }
    /// Directions of levels; 0 where it is all one triangle.
    Index levels() const { return static_cast<Index>(m_levels.places.size()); }
    const Levels& ofLevels() const { return m_levels; }
    /// Of the columns that are not levels: of all where there are none.
    const MatrixXd& triangle() const { return m_triangle; }
    const MatrixXd& inverse() const { return m_inverse; }
    void setInverse(MatrixXd inverse);
    /// All of it as one triangle with its inverse, for what needs no thousands of levels. Requires no levels.
    const MatrixXd& wholeTriangle() const;
    const MatrixXd& wholeInverse() const;
    /// Places of the triangle's columns, rising.
    const std::vector<Index>& restPlaces() const { return m_rest; }

    /// R⁻¹z: coefficients by place of directions (rank × m). By substitution, and by the inverse.
    MatrixXd solve(const MatrixXd& z) const;
    MatrixXd byInverse(const MatrixXd& z) const;
    /// R⁻ᵀc: directions of weights by place; c of one or more columns. By substitution, and by the inverse.
    MatrixXd solveTransposed(const MatrixXd& c) const;
    VectorXd directionOf(const VectorXd& c) const;
    /// Rᵀz by place, and Rb.
    VectorXd transposeTimes(const VectorXd& z) const;
    VectorXd times(const VectorXd& b) const;
    /// Direction of one coefficient: its row of the inverse.
    VectorXd direction(Index place) const;
    /// rank × places: rows of the inverse, and columns of R.
    MatrixXd directions(const std::vector<Index>& places) const;
    MatrixXd columns(const std::vector<Index>& places) const;
    /// The factor of the columns at some places (rising), and what the projections (rank × 1) become and lose
    /// by it. Levels stay apart. Its places count those given; its inverse is not set.
    struct Part;
    Part of(const std::vector<Index>& places, const VectorXd& projections) const;
    /// log|det R|.
    double logDeterminant() const;
    /// Rows in places into rows of directions, in place: ·R⁻¹.
    void turn(Eigen::Ref<MatrixXd> rows) const;

private:
    /// By place: the direction of levels that has it, or −1 less the place among the rest.
    std::vector<Index> m_at;
    std::vector<Index> m_rest;
    Levels m_levels;
    MatrixXd m_triangle;
    MatrixXd m_inverse;
    /// levels × rest: what a unit of each direction of the rest takes from each level's coefficients.
    MatrixXd m_trade;
};

struct TriangularFactor::Part {
    TriangularFactor factor;
    VectorXd projections;
    double lost = 0;
};

} // namespace oxgoad
