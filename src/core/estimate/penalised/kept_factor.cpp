#include "estimate/penalised/kept_factor.h"

#include <Eigen/Cholesky>
#include <Eigen/Jacobi>

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

void KeptFactor::bring(const MatrixXd& gram, std::span<const Index> active, const VectorXd& ridge) {
    const auto k = static_cast<Index>(active.size());
    // What is to go: columns that are not asked for, or with another ridge.
    std::vector<Index> gone;
    for (std::size_t at = 0; at < m_order.size(); ++at) {
        const auto found = std::lower_bound(active.begin(), active.end(), m_order[at]);
        const bool stays =
            found != active.end() && *found == m_order[at] && ridge[found - active.begin()] == m_ridge[at];
        if (!stays) gone.push_back(static_cast<Index>(at));
    }
    const auto stay = static_cast<Index>(m_order.size() - gone.size());
    const Index changes = static_cast<Index>(gone.size()) + k - stay;
    if (m_ratio == 0 || changes > std::max<Index>(4, k / 8)) {
        renew(gram, active, ridge);
    } else {
        for (auto at = gone.rbegin(); at != gone.rend(); ++at)
            drop(*at);
        std::vector<Index> sorted = m_order;
        std::sort(sorted.begin(), sorted.end());
        bool fine = true;
        for (Index c = 0; c < k && fine; ++c)
            if (!std::binary_search(sorted.begin(), sorted.end(), active[static_cast<std::size_t>(c)]))
                fine = add(gram, active[static_cast<std::size_t>(c)], ridge[c]);
        if (fine)
            measure();
        else
            renew(gram, active, ridge);
    }
    m_place.assign(active.size(), 0);
    for (std::size_t at = 0; at < m_order.size(); ++at) {
        const auto found = std::lower_bound(active.begin(), active.end(), m_order[at]);
        m_place[static_cast<std::size_t>(found - active.begin())] = static_cast<Index>(at);
    }
}

void KeptFactor::renew(const MatrixXd& gram, std::span<const Index> active, const VectorXd& ridge) {
    const auto k = static_cast<Index>(active.size());
    if (m_l.rows() < k) m_l.resize(std::min(gram.rows(), std::max<Index>(k + 16, 2 * k)), 0);
    m_l.resize(m_l.rows(), m_l.rows());
    m_order.assign(active.begin(), active.end());
    m_ridge.assign(ridge.begin(), ridge.end());
    m_ratio = 1;
    if (k == 0) return;
    MatrixXd products(k, k);
    for (Index c = 0; c < k; ++c) {
        for (Index d = c; d < k; ++d)
            products(d, c) = gram(active[static_cast<std::size_t>(d)], active[static_cast<std::size_t>(c)]);
        products(c, c) += ridge[c];
    }
    const Eigen::LLT<MatrixXd> llt(products.selfadjointView<Eigen::Lower>());
    m_ratio = 0;
    if (llt.info() != Eigen::Success) return;
    m_l.topLeftCorner(k, k) = llt.matrixLLT();
    measure();
}

void KeptFactor::measure() {
    const auto k = static_cast<Index>(m_order.size());
    m_ratio = 1;
    if (k == 0) return;
    const auto diagonal = m_l.diagonal().head(k).cwiseAbs();
    m_ratio = diagonal.minCoeff() / diagonal.maxCoeff();
}

void KeptFactor::drop(Index place) {
    const auto k = static_cast<Index>(m_order.size());
    for (Index row = place; row + 1 < k; ++row)
        m_l.row(row).head(row + 2) = m_l.row(row + 1).head(row + 2);
    for (Index c = place; c + 1 < k; ++c) {
        Eigen::JacobiRotation<double> rotation;
        rotation.makeGivens(m_l(c, c), m_l(c, c + 1));
        const Index rows = k - 1 - c;
        for (Index row = c; row < c + rows; ++row) {
            const double a = m_l(row, c), b = m_l(row, c + 1);
            m_l(row, c) = rotation.c() * a - rotation.s() * b;
            m_l(row, c + 1) = rotation.s() * a + rotation.c() * b;
        }
    }
    m_order.erase(m_order.begin() + place);
    m_ridge.erase(m_ridge.begin() + place);
}

bool KeptFactor::add(const MatrixXd& gram, Index column, double ridge) {
    const auto k = static_cast<Index>(m_order.size());
    if (k == m_l.rows())
        m_l.conservativeResize(std::min(gram.rows(), 2 * k + 16), std::min(gram.rows(), 2 * k + 16));
    VectorXd w(k);
    for (Index c = 0; c < k; ++c)
        w[c] = gram(m_order[static_cast<std::size_t>(c)], column);
    m_l.topLeftCorner(k, k).triangularView<Eigen::Lower>().solveInPlace(w);
    const double whole = gram(column, column) + ridge, left = whole - w.squaredNorm();
    // Next to nothing is left: only all at once says whether anything is.
    if (!(left > 1e-13 * whole)) return false;
    m_l.row(k).head(k) = w.transpose();
    m_l(k, k) = std::sqrt(left);
    m_order.push_back(column);
    m_ridge.push_back(ridge);
    return true;
}

void ProductsOfColumns::bring(const MatrixXd& z, std::span<const Index> columns) {
    m_placeOf.resize(static_cast<std::size_t>(z.cols()), -1);
    for (const Index column : columns) {
        Index& place = m_placeOf[static_cast<std::size_t>(column)];
        if (place >= 0) continue;
        place = static_cast<Index>(m_columns.size());
        m_columns.push_back(column);
        if (place == m_gram.rows()) {
            const Index room = std::min(z.cols(), 2 * place + 32);
            m_gram.conservativeResize(room, room);
        }
        for (Index c = 0; c <= place; ++c)
            m_gram(c, place) = m_gram(place, c) =
                z.col(m_columns[static_cast<std::size_t>(c)]).dot(z.col(column)) /
                static_cast<double>(z.rows());
    }
}

VectorXd KeptFactor::solve(const VectorXd& right) const {
    const Index k = right.size();
    VectorXd b(k);
    for (Index c = 0; c < k; ++c)
        b[m_place[static_cast<std::size_t>(c)]] = right[c];
    const auto l = m_l.topLeftCorner(k, k).triangularView<Eigen::Lower>();
    l.solveInPlace(b);
    l.adjoint().solveInPlace(b);
    VectorXd out(k);
    for (Index c = 0; c < k; ++c)
        out[c] = b[m_place[static_cast<std::size_t>(c)]];
    return out;
}

} // namespace oxgoad
