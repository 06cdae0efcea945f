#pragma once
// What least squares of y loses when columns leave it, kept up to date as they do.
#include "base/parallel.h"
#include "base/progress.h"

#include <Eigen/Core>

#include <utility>
#include <vector>

namespace oxgoad {

/// Least squares of y (the last column) on some columns of rows, or of a factor of them. When a column
/// leaves, its row of the inverse factor is turned into one direction by rotations, which is dropped:
/// O(columns²) for one that leaves, and to tell what each would cost (downdating by rotations of the inverse:
/// Golub and Van Loan 2013, §6.5; the sum of squares of a column that leaves: Björck 1996, §3.2). Rows that
/// are judged go along: to tell what each column that leaves does to them takes O(rows · columns²).
class ColumnRemovals {
public:
    using Index = Eigen::Index;
    using MatrixXd = Eigen::MatrixXd;
    using VectorXd = Eigen::VectorXd;

    /// `learned` and each of `judged` have all columns; `columns` of them are in.
    ColumnRemovals(const MatrixXd& learned, std::vector<Index> columns,
                   const std::vector<const MatrixXd*>& judged);

    /// False where the columns depend on each other, or nearly: then nothing here holds.
    bool sound() const { return m_sound; }
    /// Sum of squares that y leaves, and of the rows judged.
    double squares() const { return m_squares; }
    double judgedSquares() const;
    /// Both without some more columns.
    std::pair<double, double> without(const std::vector<Index>& columns) const;
    void leave(const std::vector<Index>& columns, Threads threads, const Progress& progress);

private:
    Index placeOf(Index column) const;
    /// Orthonormal basis of the directions that these places alone have.
    MatrixXd directionsOf(const std::vector<Index>& places) const;

    std::vector<Index> m_columns;
    bool m_sound = false;
    double m_squares = 0;
    /// Coefficients of directions, and what a unit of each gives to each column: columns × directions; 0 in
    /// the rows of those that have left.
    VectorXd m_effects;
    MatrixXd m_inverse;
    /// Of the rows judged, by cell: what is left of y, and each direction's values.
    std::vector<VectorXd> m_left;
    std::vector<MatrixXd> m_along;
};

} // namespace oxgoad
