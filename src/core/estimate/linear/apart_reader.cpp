#include "estimate/linear/apart_reader.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <stdexcept>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

ApartReader::ApartReader(const LeastSquaresFit& fit, const RowSource& x) : m_fit(fit), m_levels(x.levels()) {
    if (fit.factor.levels() == 0 || !m_levels) throw std::logic_error("no levels are apart");
    const Index first = fit.intercept ? 1 : 0;
    const auto columnAt = [&](Index place) {
        return static_cast<Index>(fit.kept[static_cast<std::size_t>(place - first)]);
    };
    // Made anew for every point of an effect: one pass over the columns.
    std::vector<Index> atColumn(static_cast<std::size_t>(fit.columns), -1); // of level and slot
    for (std::size_t k = 0; k < m_levels->columns.size(); ++k)
        if (m_levels->columns[k] >= 0)
            atColumn[static_cast<std::size_t>(m_levels->columns[k])] = static_cast<Index>(k);
    m_firstOf.assign(static_cast<std::size_t>(m_levels->levels) + 1, -1);
    m_countOf.assign(m_firstOf.size(), 0);
    const TriangularFactor::Levels& levels = fit.factor.ofLevels();
    m_slotOf.reserve(static_cast<std::size_t>(levels.count()));
    for (Index d = 0; d < levels.count(); ++d) {
        const Index at =
            atColumn[static_cast<std::size_t>(columnAt(levels.places[static_cast<std::size_t>(d)]))];
        const auto level = static_cast<std::size_t>(at / m_levels->perLevel);
        if (m_countOf[level]++ == 0) m_firstOf[level] = d;
        m_slotOf.push_back(at % m_levels->perLevel);
    }
    for (const Index place : fit.factor.restPlaces()) {
        if (place < first) {
            m_columnOf.push_back(-1);
            continue;
        }
        const auto at = std::lower_bound(m_levels->rest.begin(), m_levels->rest.end(), columnAt(place));
        m_columnOf.push_back(at - m_levels->rest.begin());
    }
}

ApartReader::Rows ApartReader::read(Index begin, Index count) const {
    std::vector<std::uint32_t> places(static_cast<std::size_t>(count));
    std::iota(places.begin(), places.end(), static_cast<std::uint32_t>(begin));
    return read(places);
}

ApartReader::Rows ApartReader::read(std::span<const std::uint32_t> places) const {
    const auto count = static_cast<Index>(places.size());
    MatrixXd raw(count, static_cast<Index>(m_levels->rest.size()));
    m_levels->fill(places, raw);
    Rows rows{MatrixXd(count, static_cast<Index>(m_columnOf.size())), {}, {}, {}};
    for (std::size_t k = 0; k < m_columnOf.size(); ++k) {
        auto out = rows.rest.col(static_cast<Index>(k));
        if (m_columnOf[k] < 0) {
            out.setOnes();
            continue;
        }
        const Index column = m_levels->rest[static_cast<std::size_t>(m_columnOf[k])];
        out = (raw.col(m_columnOf[k]).array() - m_fit.shift[column]) * m_fit.scale[column];
    }
    MatrixXd slots = MatrixXd::Ones(count, m_levels->perLevel);
    if (m_levels->fillOwn) m_levels->fillOwn(places, slots);
    rows.own = MatrixXd::Zero(count, m_fit.factor.ofLevels().own.cols());
    for (Index i = 0; i < count; ++i) {
        const auto level = m_levels->of[places[static_cast<std::size_t>(i)]];
        rows.first.push_back(m_firstOf[level]);
        rows.directions.push_back(m_countOf[level]);
        for (Index k = 0; k < rows.directions.back(); ++k)
            rows.own(i, k) = slots(i, m_slotOf[static_cast<std::size_t>(rows.first.back() + k)]);
    }
    return rows;
}

void ApartReader::Rows::multiply(const VectorXd& by) {
    rest.array().colwise() *= by.array();
    own.array().colwise() *= by.array();
}

void ApartReader::turn(Rows& rows) const {
    const TriangularFactor::Levels& levels = m_fit.factor.ofLevels();
    MatrixXd out = rows.rest.transpose(); // a row a column, as are those of each direction
    MatrixXd shared;                      // transposed where it is read often
    const bool often = 8 * static_cast<Index>(rows.first.size()) > levels.count();
    if (often) shared = levels.shared.transpose();
    for (std::size_t i = 0; i < rows.first.size(); ++i) {
        const auto at = static_cast<Index>(i);
        for (Index k = 0; k < rows.directions[i]; ++k) {
            const Index d = rows.first[i] + k;
            double& value = rows.own(at, k);
            for (Index j = 0; j < k; ++j)
                value -= rows.own(at, j) * levels.own(rows.first[i] + j, k - j);
            value /= levels.own(d, 0);
            if (often)
                out.col(at) -= value * shared.col(d);
            else
                out.col(at) -= value * levels.shared.row(d).transpose();
        }
    }
    if (out.size() > 0) m_fit.factor.triangle().triangularView<Eigen::Upper>().transpose().solveInPlace(out);
    rows.rest = out.transpose();
}

VectorXd ApartReader::leverages(const Rows& turned) {
    return turned.rest.rowwise().squaredNorm() + turned.own.rowwise().squaredNorm();
}

VectorXd ApartReader::variances(const Rows& turned) const {
    return m_fit.varianceApart(turned.first, turned.own, turned.rest);
}

void ApartReader::addProducts(const Rows& rows, const MatrixXd& z, MatrixXd& sums) const {
    const std::vector<Index>& places = m_fit.factor.ofLevels().places;
    const MatrixXd products = rows.rest.transpose() * z;
    sums(m_fit.factor.restPlaces(), Eigen::all) += products;
    for (Index j = 0; j < z.cols(); ++j)
        for (std::size_t i = 0; i < rows.first.size(); ++i)
            for (Index k = 0; k < rows.directions[i]; ++k)
                sums(places[static_cast<std::size_t>(rows.first[i] + k)], j) +=
                    rows.own(static_cast<Index>(i), k) * z(static_cast<Index>(i), j);
}

MatrixXd ApartReader::times(const Rows& rows, const MatrixXd& b) const {
    const std::vector<Index>& places = m_fit.factor.ofLevels().places;
    MatrixXd out = rows.rest * MatrixXd(b(m_fit.factor.restPlaces(), Eigen::all));
    for (Index j = 0; j < b.cols(); ++j)
        for (std::size_t i = 0; i < rows.first.size(); ++i)
            for (Index k = 0; k < rows.directions[i]; ++k)
                out(static_cast<Index>(i), j) += rows.own(static_cast<Index>(i), k) *
                                                 b(places[static_cast<std::size_t>(rows.first[i] + k)], j);
    return out;
}

} // namespace oxgoad
