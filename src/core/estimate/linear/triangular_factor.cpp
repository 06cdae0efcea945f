#include "estimate/linear/triangular_factor.h"

#include <stdexcept>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

// Nothing beside the levels is a triangle of no size, which products of triangles do not stand. One column
// goes as a vector, in the order of operations that is its own.

MatrixXd solved(const MatrixXd& r, MatrixXd z) {
    const auto upper = r.triangularView<Eigen::Upper>();
    if (r.size() == 0 || z.cols() == 0) return z;
    if (z.cols() > 1)
        upper.solveInPlace(z);
    else
        z.col(0) = VectorXd(upper.solve(VectorXd(z.col(0))));
    return z;
}

MatrixXd solvedTransposed(const MatrixXd& r, MatrixXd c) {
    const auto lower = r.transpose().triangularView<Eigen::Lower>();
    if (r.size() == 0 || c.cols() == 0) return c;
    if (c.cols() > 1)
        lower.solveInPlace(c);
    else
        c.col(0) = VectorXd(lower.solve(VectorXd(c.col(0))));
    return c;
}

MatrixXd product(const MatrixXd& r, const MatrixXd& b) {
    if (r.size() == 0 || b.cols() == 0) return b;
    const auto upper = r.triangularView<Eigen::Upper>();
    if (b.cols() > 1) return upper * b;
    const VectorXd one = upper * VectorXd(b.col(0));
    return one;
}

VectorXd transposedProduct(const MatrixXd& r, const VectorXd& z) {
    if (r.size() == 0) return z;
    return r.transpose().triangularView<Eigen::Lower>() * z;
}

} // namespace

TriangularFactor::TriangularFactor(MatrixXd triangle, MatrixXd inverse)
    : m_triangle(std::move(triangle)), m_inverse(std::move(inverse)) {
    for (Index place = 0; place < m_triangle.rows(); ++place)
        m_rest.push_back(place);
}

TriangularFactor::TriangularFactor(Levels levels, MatrixXd triangle, MatrixXd inverse)
    : m_levels(std::move(levels)), m_triangle(std::move(triangle)) {
    m_at.assign(static_cast<std::size_t>(rank()), -1);
    for (Index l = 0; l < this->levels(); ++l)
        m_at.at(static_cast<std::size_t>(m_levels.places[static_cast<std::size_t>(l)])) = l;
    for (Index place = 0; place < rank(); ++place)
        if (Index& at = m_at[static_cast<std::size_t>(place)]; at < 0) {
            at = -1 - static_cast<Index>(m_rest.size());
            m_rest.push_back(place);
        }
    if (inverse.rows() == m_triangle.rows()) setInverse(std::move(inverse));
}

void TriangularFactor::setInverse(MatrixXd inverse) {
    m_inverse = std::move(inverse);
    if (levels() > 0) m_trade = m_levels.lengths.cwiseInverse().asDiagonal() * (m_levels.shared * m_inverse);
}

const MatrixXd& TriangularFactor::wholeTriangle() const {
    if (levels() > 0) throw std::logic_error("a factor of levels is not one triangle");
    return m_triangle;
}

const MatrixXd& TriangularFactor::wholeInverse() const {
    if (levels() > 0) throw std::logic_error("a factor of levels is not one triangle");
    return m_inverse;
}

MatrixXd TriangularFactor::solve(const MatrixXd& z) const {
    if (levels() == 0) return solved(m_triangle, z);
    MatrixXd b(rank(), z.cols());
    const MatrixXd rest = solved(m_triangle, z.bottomRows(m_triangle.rows()));
    b(m_rest, Eigen::all) = rest;
    b(m_levels.places, Eigen::all) = MatrixXd(m_levels.lengths.cwiseInverse().asDiagonal() *
                                              (z.topRows(levels()) - m_levels.shared * rest));
    return b;
}

MatrixXd TriangularFactor::byInverse(const MatrixXd& z) const {
    if (levels() == 0) return product(m_inverse, z);
    MatrixXd b(rank(), z.cols());
    const MatrixXd rest = z.bottomRows(m_triangle.rows());
    b(m_rest, Eigen::all) = product(m_inverse, rest);
    b(m_levels.places, Eigen::all) =
        MatrixXd(m_levels.lengths.cwiseInverse().asDiagonal() * z.topRows(levels()) - m_trade * rest);
    return b;
}

MatrixXd TriangularFactor::solveTransposed(const MatrixXd& c) const {
    if (levels() == 0) return solvedTransposed(m_triangle, c);
    MatrixXd z(rank(), c.cols());
    const MatrixXd own = m_levels.lengths.cwiseInverse().asDiagonal() * c(m_levels.places, Eigen::all);
    z.topRows(levels()) = own;
    z.bottomRows(m_triangle.rows()) =
        solvedTransposed(m_triangle, c(m_rest, Eigen::all) - m_levels.shared.transpose() * own);
    return z;
}

VectorXd TriangularFactor::directionOf(const VectorXd& c) const {
    if (levels() == 0) return m_inverse.transpose() * c;
    VectorXd z(rank());
    const VectorXd own = c(m_levels.places);
    z.head(levels()) = own.cwiseQuotient(m_levels.lengths);
    z.tail(m_triangle.rows()) = m_inverse.transpose() * VectorXd(c(m_rest)) - m_trade.transpose() * own;
    return z;
}

VectorXd TriangularFactor::transposeTimes(const VectorXd& z) const {
    if (levels() == 0) return transposedProduct(m_triangle, z);
    VectorXd c(rank());
    c(m_levels.places) = m_levels.lengths.cwiseProduct(z.head(levels()));
    c(m_rest) = VectorXd(transposedProduct(m_triangle, z.tail(m_triangle.rows())) +
                         m_levels.shared.transpose() * z.head(levels()));
    return c;
}

VectorXd TriangularFactor::times(const VectorXd& b) const {
    if (levels() == 0) return product(m_triangle, b);
    VectorXd z(rank());
    const VectorXd rest = b(m_rest);
    z.head(levels()) = m_levels.lengths.cwiseProduct(VectorXd(b(m_levels.places))) + m_levels.shared * rest;
    z.tail(rest.size()) = product(m_triangle, rest);
    return z;
}

VectorXd TriangularFactor::direction(Index place) const {
    if (levels() == 0) return m_inverse.row(place).transpose();
    VectorXd z = VectorXd::Zero(rank());
    const Index at = m_at[static_cast<std::size_t>(place)];
    if (at < 0) {
        z.tail(m_triangle.rows()) = m_inverse.row(-1 - at).transpose();
        return z;
    }
    z[at] = 1 / m_levels.lengths[at];
    z.tail(m_triangle.rows()) = -m_trade.row(at).transpose();
    return z;
}

MatrixXd TriangularFactor::directions(const std::vector<Index>& places) const {
    if (levels() == 0) return m_inverse(places, Eigen::all).transpose();
    MatrixXd found(rank(), static_cast<Index>(places.size()));
    for (std::size_t k = 0; k < places.size(); ++k)
        found.col(static_cast<Index>(k)) = direction(places[k]);
    return found;
}

MatrixXd TriangularFactor::columns(const std::vector<Index>& places) const {
    if (levels() == 0) return m_triangle(Eigen::all, places);
    MatrixXd found = MatrixXd::Zero(rank(), static_cast<Index>(places.size()));
    for (std::size_t k = 0; k < places.size(); ++k) {
        auto column = found.col(static_cast<Index>(k));
        if (const Index at = m_at[static_cast<std::size_t>(places[k])]; at >= 0) {
            column[at] = m_levels.lengths[at];
        } else {
            column.head(levels()) = m_levels.shared.col(-1 - at);
            column.tail(m_triangle.rows()) = m_triangle.col(-1 - at);
        }
    }
    return found;
}

void TriangularFactor::turn(Eigen::Ref<MatrixXd> rows) const {
    if (levels() == 0) {
        if (m_triangle.size() > 0)
            m_triangle.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(rows);
        return;
    }
    MatrixXd own = rows(Eigen::all, m_levels.places);
    own.array().rowwise() /= m_levels.lengths.transpose().array();
    MatrixXd rest = rows(Eigen::all, m_rest);
    rest.noalias() -= own * m_levels.shared;
    if (rest.size() > 0) m_triangle.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(rest);
    rows.leftCols(levels()) = own;
    rows.rightCols(rest.cols()) = rest;
}

} // namespace oxgoad
