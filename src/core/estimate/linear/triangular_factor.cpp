#include "estimate/linear/triangular_factor.h"

#include "base/progress.h"
#include "estimate/linear/triangle.h"

#include <algorithm>
#include <cmath>
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

Index TriangularFactor::Levels::end(Index first) const {
    Index last = first + 1;
    while (last < count() && this->first(last) == first)
        ++last;
    return last;
}

TriangularFactor::Levels TriangularFactor::Levels::ofLengths(std::vector<Index> places,
                                                             const VectorXd& lengths, MatrixXd shared) {
    Levels levels{std::move(places), {}, lengths, std::move(shared)};
    for (Index d = 0; d < levels.count(); ++d)
        levels.firsts.push_back(d);
    return levels;
}

void TriangularFactor::Levels::solve(MatrixXd& z) const {
    if (single()) {
        z = own.col(0).cwiseInverse().asDiagonal() * z;
        return;
    }
    for (Index d = count(); d-- > 0;) {
        const Index last = end(first(d));
        for (Index k = d + 1; k < last; ++k)
            z.row(d) -= own(d, k - d) * z.row(k);
        z.row(d) /= own(d, 0);
    }
}

void TriangularFactor::Levels::solveTransposed(MatrixXd& z) const {
    if (single()) {
        z = own.col(0).cwiseInverse().asDiagonal() * z;
        return;
    }
    for (Index d = 0; d < count(); ++d) {
        for (Index k = first(d); k < d; ++k)
            z.row(d) -= own(k, d - k) * z.row(k);
        z.row(d) /= own(d, 0);
    }
}

MatrixXd TriangularFactor::Levels::times(const MatrixXd& z) const {
    MatrixXd out = own.col(0).asDiagonal() * z;
    if (single()) return out;
    for (Index d = 0; d < count(); ++d)
        for (Index k = d + 1; k < end(first(d)); ++k)
            out.row(d) += own(d, k - d) * z.row(k);
    return out;
}

MatrixXd TriangularFactor::Levels::transposeTimes(const MatrixXd& z) const {
    MatrixXd out = own.col(0).asDiagonal() * z;
    if (single()) return out;
    for (Index d = 0; d < count(); ++d)
        for (Index k = first(d); k < d; ++k)
            out.row(d) += own(k, d - k) * z.row(k);
    return out;
}

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
    if (levels() == 0) return;
    m_trade = m_levels.shared * m_inverse;
    m_levels.solve(m_trade);
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
    MatrixXd own = z.topRows(levels()) - m_levels.shared * rest;
    m_levels.solve(own);
    b(m_levels.places, Eigen::all) = own;
    return b;
}

MatrixXd TriangularFactor::byInverse(const MatrixXd& z) const {
    if (levels() == 0) return product(m_inverse, z);
    MatrixXd b(rank(), z.cols());
    const MatrixXd rest = z.bottomRows(m_triangle.rows());
    b(m_rest, Eigen::all) = product(m_inverse, rest);
    MatrixXd own = z.topRows(levels());
    m_levels.solve(own);
    own -= m_trade * rest;
    b(m_levels.places, Eigen::all) = own;
    return b;
}

MatrixXd TriangularFactor::solveTransposed(const MatrixXd& c) const {
    if (levels() == 0) return solvedTransposed(m_triangle, c);
    MatrixXd z(rank(), c.cols());
    MatrixXd own = c(m_levels.places, Eigen::all);
    m_levels.solveTransposed(own);
    z.topRows(levels()) = own;
    z.bottomRows(m_triangle.rows()) =
        solvedTransposed(m_triangle, c(m_rest, Eigen::all) - m_levels.shared.transpose() * own);
    return z;
}

VectorXd TriangularFactor::directionOf(const VectorXd& c) const {
    if (levels() == 0) return m_inverse.transpose() * c;
    VectorXd z(rank());
    const VectorXd own = c(m_levels.places);
    MatrixXd turned = own;
    m_levels.solveTransposed(turned);
    z.head(levels()) = turned.col(0);
    z.tail(m_triangle.rows()) = m_inverse.transpose() * VectorXd(c(m_rest)) - m_trade.transpose() * own;
    return z;
}

VectorXd TriangularFactor::transposeTimes(const VectorXd& z) const {
    if (levels() == 0) return transposedProduct(m_triangle, z);
    VectorXd c(rank());
    c(m_levels.places) = m_levels.transposeTimes(z.head(levels())).col(0);
    c(m_rest) = VectorXd(transposedProduct(m_triangle, z.tail(m_triangle.rows())) +
                         m_levels.shared.transpose() * z.head(levels()));
    return c;
}

VectorXd TriangularFactor::times(const VectorXd& b) const {
    if (levels() == 0) return product(m_triangle, b);
    VectorXd z(rank());
    const VectorXd rest = b(m_rest);
    z.head(levels()) = m_levels.times(b(m_levels.places)).col(0) + m_levels.shared * rest;
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
    z[at] = 1 / m_levels.own(at, 0);
    for (Index k = at + 1; !m_levels.single() && k < m_levels.end(m_levels.first(at)); ++k) {
        double said = 0; // R⁻ᵀ of a column of 1 at one place
        for (Index i = at; i < k; ++i)
            said += m_levels.own(i, k - i) * z[i];
        z[k] = -said / m_levels.own(k, 0);
    }
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
            for (Index i = m_levels.first(at); i <= at; ++i)
                column[i] = m_levels.own(i, at - i);
        } else {
            column.head(levels()) = m_levels.shared.col(-1 - at);
            column.tail(m_triangle.rows()) = m_triangle.col(-1 - at);
        }
    }
    return found;
}

void TriangularFactor::turn(Eigen::Ref<MatrixXd> rows) const {
    if (levels() == 0) {
        solveRows(m_triangle, rows);
        return;
    }
    MatrixXd own = rows(Eigen::all, m_levels.places);
    MatrixXd turned = own.transpose();
    m_levels.solveTransposed(turned);
    own = turned.transpose();
    MatrixXd rest = rows(Eigen::all, m_rest);
    rest.noalias() -= own * m_levels.shared;
    solveRows(m_triangle, rest);
    rows.leftCols(levels()) = own;
    rows.rightCols(rest.cols()) = rest;
}

double TriangularFactor::logDeterminant() const {
    double log = 0;
    for (Index d = 0; d < levels(); ++d)
        log += std::log(std::fabs(m_levels.own(d, 0)));
    for (Index j = 0; j < m_triangle.rows(); ++j)
        log += std::log(std::fabs(m_triangle(j, j)));
    return log;
}

TriangularFactor::Part TriangularFactor::of(const std::vector<Index>& places,
                                            const VectorXd& projections) const {
    Progress quiet;
    Part part;
    const auto count = static_cast<Index>(places.size());
    part.projections.resize(count);
    if (levels() == 0) {
        MatrixXd work(rank(), count + 1);
        work << m_triangle(Eigen::all, places), projections;
        const MatrixXd r = oxgoad::triangle(work, quiet);
        part.projections = r.col(count).head(count);
        part.lost = std::pow(r(count, count), 2);
        part.factor = TriangularFactor(r.topLeftCorner(count, count));
        return part;
    }
    // Of each level the columns that stay are reduced first; what is left of its directions goes to the rest.
    std::vector<Index> newPlace(static_cast<std::size_t>(rank()), -1);
    for (Index k = 0; k < count; ++k)
        newPlace[static_cast<std::size_t>(places[static_cast<std::size_t>(k)])] = k;
    std::vector<Index> ofRest;
    for (Index k = 0; k < m_triangle.rows(); ++k)
        if (newPlace[static_cast<std::size_t>(m_rest[static_cast<std::size_t>(k)])] >= 0) ofRest.push_back(k);
    const auto width = static_cast<Index>(ofRest.size());
    MatrixXd shared(levels(), width + 1);
    shared << m_levels.shared(Eigen::all, ofRest), projections.head(levels());
    const Index slots = m_levels.own.cols();
    Levels kept{{}, {}, MatrixXd::Zero(levels(), slots), MatrixXd(levels(), width + 1)};
    std::vector<Index> left;
    for (Index begin = 0, end = 0; begin < levels(); begin = end) {
        end = m_levels.end(begin);
        std::vector<Index> stay;
        for (Index d = begin; d < end; ++d)
            if (newPlace[static_cast<std::size_t>(m_levels.places[static_cast<std::size_t>(d)])] >= 0)
                stay.push_back(d);
        const auto own = static_cast<Index>(stay.size()), all = end - begin, from = kept.count();
        MatrixXd work = MatrixXd::Zero(all, own + width + 1);
        for (Index k = 0; k < own; ++k) {
            const Index d = stay[static_cast<std::size_t>(k)];
            for (Index i = begin; i <= d; ++i)
                work(i - begin, k) = m_levels.own(i, d - i);
        }
        work.rightCols(width + 1) = shared.middleRows(begin, all);
        if (own < all) reduceColumns(work, own);
        for (Index k = 0; k < own; ++k) {
            const Index d = stay[static_cast<std::size_t>(k)];
            kept.places.push_back(
                newPlace[static_cast<std::size_t>(m_levels.places[static_cast<std::size_t>(d)])]);
            kept.firsts.push_back(from);
            for (Index j = k; j < own; ++j)
                kept.own(from + k, j - k) = work(k, j);
            kept.shared.row(from + k) = work.row(k).tail(width + 1);
        }
        for (Index i = own; i < all; ++i) {
            shared.row(static_cast<Index>(left.size())) = work.row(i).tail(width + 1);
            left.push_back(i);
        }
    }
    const auto stays = kept.count(), leaves = static_cast<Index>(left.size());
    MatrixXd work(leaves + m_triangle.rows(), width + 1);
    work.topRows(leaves) = shared.topRows(leaves);
    work.bottomLeftCorner(m_triangle.rows(), width) =
        MatrixXd(m_triangle.triangularView<Eigen::Upper>())(Eigen::all, ofRest);
    work.col(width).tail(m_triangle.rows()) = projections.tail(m_triangle.rows());
    const MatrixXd r = oxgoad::triangle(work, quiet);
    part.projections << VectorXd(kept.shared.col(width).head(stays)), VectorXd(r.col(width).head(width));
    part.lost = std::pow(r(width, width), 2);
    kept.own.conservativeResize(stays, Eigen::NoChange);
    kept.shared = MatrixXd(kept.shared.topLeftCorner(stays, width));
    const MatrixXd own = r.topLeftCorner(width, width);
    part.factor = stays > 0 ? TriangularFactor(std::move(kept), own) : TriangularFactor(own);
    return part;
}

} // namespace oxgoad
