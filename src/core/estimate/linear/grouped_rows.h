#pragma once
// Rows of a fit that are worked on in groups with something in common.
#include "estimate/linear/least_squares.h"
#include "estimate/linear/proof.h"

#include <Eigen/Core>

#include <vector>

namespace oxgoad {

/// What the solver asks of rows however they are grouped. Throws Stopped.
class GroupedRows {
public:
    virtual ~GroupedRows() = default;

    /// Weighted sum, smallest and largest of each column, and of y last.
    struct Extent {
        std::vector<long double> sum;
        Eigen::VectorXd low, high;
    };
    virtual Extent extent() const = 0;

    /// R of [1, X~, y~] with the fit's shifts and scales.
    virtual Eigen::MatrixXd triangleOf(const LeastSquaresFit& fit) = 0;

    using Extended = Eigen::Matrix<long double, Eigen::Dynamic, 1>;
    /// X~'(residuals) of a solution, weighted, by place; with `careful` worked out in long doubles from the
    /// rows on, for a solution that goes beyond doubles.
    virtual Eigen::VectorXd crossProducts(const LeastSquaresFit& fit, const Extended& solution,
                                          bool careful) const = 0;
    /// Residuals, fitted values and leverages of all rows into the fit, and what these residuals are.
    virtual ResidualSums finish(LeastSquaresFit& fit, const Eigen::VectorXd& solution) const = 0;
};

} // namespace oxgoad
