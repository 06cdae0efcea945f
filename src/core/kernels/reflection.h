#pragma once
// Lengths and reflections of columns however small or large their numbers are: the one place where both are
// worked out.
#include <Eigen/Core>

#include <cmath>

namespace oxgoad {

/// Below this a length is 0: of columns of usual numbers it is rounding of rounding, and what is divided by
/// it leaves the range of doubles.
constexpr double shortest = 1e-290;

/// Euclidean length. Squares that leave the range of doubles, or come near its lower end where they have few
/// digits, are taken of the column over its largest entry (Blue 1978, "A portable Fortran program to find the
/// Euclidean norm of a vector", ACM Transactions on Mathematical Software 4). 0 below `shortest`.
template <class Column> double lengthOf(const Eigen::MatrixBase<Column>& column) {
    const double square = column.squaredNorm();
    if (square > 1e-280 && square < 1e280) return std::sqrt(square);
    const double largest = column.size() > 0 ? column.cwiseAbs().maxCoeff() : 0;
    if (largest < shortest) return 0;
    return largest * std::sqrt((column / largest).squaredNorm());
}

/// The reflection I - factor·vv', v = [1; scale·column], that turns [first; column] into [length; 0].
struct Reflection {
    /// 0 where the column is 0 and nothing is to be turned.
    double factor = 0;
    double scale = 0;
    double length = 0;
};

/// Of the sign that cancels nothing (Golub and Van Loan 2013, §5.1.3): the length has the other sign than
/// `first`.
template <class Column> Reflection reflectionOf(double first, const Eigen::MatrixBase<Column>& column) {
    const double below = lengthOf(column);
    if (below == 0) return {0, 0, first};
    const double whole = std::hypot(first, below), length = first > 0 ? -whole : whole;
    return {(length - first) / length, 1 / (first - length), length};
}

} // namespace oxgoad
