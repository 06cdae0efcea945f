#pragma once
// The Cholesky factor of products of columns that come and go.
#include <Eigen/Core>

#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// L of Z_A'Z_A/n + ridge, for a set A of columns that changes by a few at a time: one more is a row of L,
/// one less is taken out by rotations (Golub and Van Loan 2013, "Matrix computations", 4th ed., §6.5). Where
/// many change it is made anew.
class KeptFactor {
public:
    /// `gram` is Z'Z/n of all columns, `active` ascending, `ridge` one a column of `active`. What is asked
    /// for next is best near to it.
    void bring(const Eigen::MatrixXd& gram, std::span<const Eigen::Index> active,
               const Eigen::VectorXd& ridge);
    /// Smallest over largest diagonal element; 0 where the products are not positive definite.
    double ratio() const { return m_ratio; }
    /// Solves for a right side in the order of `active`. Requires a ratio above 0.
    Eigen::VectorXd solve(const Eigen::VectorXd& right) const;

private:
    void renew(const Eigen::MatrixXd& gram, std::span<const Eigen::Index> active,
               const Eigen::VectorXd& ridge);
    void drop(Eigen::Index place);
    bool add(const Eigen::MatrixXd& gram, Eigen::Index column, double ridge);
    void measure();

    /// The leading square of as many rows as there are columns in m_order is L.
    Eigen::MatrixXd m_l;
    std::vector<Eigen::Index> m_order;
    std::vector<double> m_ridge;
    /// Place of each column of `active` in m_order.
    std::vector<Eigen::Index> m_place;
    double m_ratio = 0;
};

/// Z_A'Z_A/n of the columns A that were ever asked for, in the order in which they were.
class ProductsOfColumns {
public:
    /// `z` is the same at every call.
    void bring(const Eigen::MatrixXd& z, std::span<const Eigen::Index> columns);
    /// Of a column that was asked for, its row and column in gram().
    Eigen::Index placeOf(Eigen::Index column) const { return m_placeOf[static_cast<std::size_t>(column)]; }
    /// The leading square; what is beyond has no meaning.
    const Eigen::MatrixXd& gram() const { return m_gram; }

private:
    Eigen::MatrixXd m_gram;
    std::vector<Eigen::Index> m_columns, m_placeOf;
};

} // namespace oxgoad
