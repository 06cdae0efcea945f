#include "estimate/linear/direction_rows.h"

#include <Eigen/QR>

#include <cmath>
#include <stdexcept>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

DirectionRows::DirectionRows(MatrixXd columns) : m_columns(std::move(columns)) {}

DirectionRows::DirectionRows(Sparse ofLevels, MatrixXd rest)
    : m_apart(true), m_ofLevels(std::move(ofLevels)), m_rest(std::move(rest)) {
    if (m_ofLevels.rows() != m_rest.rows()) throw std::logic_error("rows of levels and of the rest");
}

DirectionRows::DirectionRows(TriangularFactor::Levels levels, MatrixXd triangle)
    : m_apart(true), m_ofLevels(levels.count() + triangle.rows(), levels.count()),
      m_rest(levels.count() + triangle.rows(), triangle.cols()) {
    std::vector<Eigen::Triplet<double>> entries;
    for (Index d = 0; d < levels.count(); ++d)
        for (Index k = d; k < levels.end(levels.first(d)); ++k)
            entries.emplace_back(static_cast<int>(d), static_cast<int>(k), levels.own(d, k - d));
    m_ofLevels.setFromTriplets(entries.begin(), entries.end());
    m_rest << levels.shared, triangle;
    m_factor.emplace(std::move(levels), std::move(triangle));
}

bool DirectionRows::allFinite() const {
    return m_apart ? m_rest.allFinite() && m_ofLevels.coeffs().allFinite() : m_columns.allFinite();
}

void DirectionRows::multiply(double by) {
    if (!m_apart) {
        m_columns *= by;
    } else if (m_factor) {
        TriangularFactor::Levels levels = m_factor->ofLevels();
        levels.own *= by;
        levels.shared *= by;
        *this = DirectionRows(std::move(levels), by * m_factor->triangle());
    } else {
        m_ofLevels *= by;
        m_rest *= by;
    }
}

double DirectionRows::longest() const {
    if (!m_apart) return m_columns.colwise().norm().maxCoeff();
    VectorXd squares = m_rest.rowwise().squaredNorm();
    for (Index l = 0; l < m_ofLevels.cols(); ++l)
        for (Sparse::InnerIterator entry(m_ofLevels, l); entry; ++entry)
            squares[entry.row()] += entry.value() * entry.value();
    return std::sqrt(squares.maxCoeff());
}

MatrixXd DirectionRows::times(const MatrixXd& directions) const {
    if (!m_apart) return m_columns.transpose() * directions;
    const Index levels = m_ofLevels.cols();
    MatrixXd products = m_rest * directions.bottomRows(m_rest.cols());
    for (Index j = 0; j < directions.cols(); ++j)
        for (Index l = 0; l < levels; ++l)
            if (const double value = directions(l, j); value != 0)
                for (Sparse::InnerIterator entry(m_ofLevels, l); entry; ++entry)
                    products(entry.row(), j) += value * entry.value();
    return products;
}

VectorXd DirectionRows::times(const VectorXd& direction) const {
    if (!m_apart) return m_columns.transpose() * direction;
    return times(MatrixXd(direction)).col(0);
}

MatrixXd DirectionRows::timesApart(std::span<const Index> first, const MatrixXd& own,
                                   const MatrixXd& rest) const {
    if (!m_apart) throw std::logic_error("rows are not apart");
    MatrixXd products = m_rest * rest.transpose();
    for (std::size_t j = 0; j < first.size(); ++j) {
        if (first[j] < 0) continue;
        const auto at = static_cast<Index>(j);
        for (Index k = 0; k < own.cols() && first[j] + k < m_ofLevels.cols(); ++k)
            if (const double value = own(at, k); value != 0)
                for (Sparse::InnerIterator entry(m_ofLevels, first[j] + k); entry; ++entry)
                    products(entry.row(), at) += value * entry.value();
    }
    return products;
}

Index DirectionRows::known(double least) const {
    const Index levels = m_factor.value().levels();
    Index count = 0;
    for (Index d = 0; d < levels; ++d)
        count += std::fabs(m_factor->ofLevels().own(d, 0)) > least;
    const MatrixXd& triangle = m_factor->triangle();
    if (triangle.size() == 0) return count;
    const Eigen::ColPivHouseholderQR<MatrixXd> qr(triangle);
    for (Index k = 0; k < std::min(triangle.rows(), triangle.cols()); ++k)
        count += std::fabs(qr.matrixQR()(k, k)) > least;
    return count;
}

} // namespace oxgoad
