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
    m_levelOf.assign(m_levels->columns.size() + 1, -1);
    Index level = 0;
    for (const Index place : fit.factor.ofLevels().places) {
        const auto at = std::lower_bound(m_levels->columns.begin(), m_levels->columns.end(), columnAt(place));
        m_levelOf.at(static_cast<std::size_t>(at - m_levels->columns.begin())) = level++;
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
    MatrixXd raw(count, static_cast<Index>(m_levels->rest.size()));
    m_levels->fill(places, raw);
    Rows rows{MatrixXd(count, static_cast<Index>(m_columnOf.size())), {}, VectorXd::Ones(count)};
    for (std::size_t k = 0; k < m_columnOf.size(); ++k) {
        auto out = rows.rest.col(static_cast<Index>(k));
        if (m_columnOf[k] < 0) {
            out.setOnes();
            continue;
        }
        const Index column = m_levels->rest[static_cast<std::size_t>(m_columnOf[k])];
        out = (raw.col(m_columnOf[k]).array() - m_fit.shift[column]) * m_fit.scale[column];
    }
    rows.level.reserve(places.size());
    for (const auto place : places)
        rows.level.push_back(m_levelOf[m_levels->of[place]]);
    return rows;
}

void ApartReader::Rows::multiply(const VectorXd& by) {
    rest.array().colwise() *= by.array();
    value = value.cwiseProduct(by);
}

void ApartReader::turn(Rows& rows) const {
    const TriangularFactor::Levels& levels = m_fit.factor.ofLevels();
    MatrixXd out = rows.rest.transpose(); // a row a column, as are those of each level
    const MatrixXd shared = levels.shared.transpose();
    for (std::size_t i = 0; i < rows.level.size(); ++i)
        if (const Index l = rows.level[i]; l >= 0)
            out.col(static_cast<Index>(i)) -=
                rows.value[static_cast<Index>(i)] / levels.lengths[l] * shared.col(l);
    if (out.size() > 0) m_fit.factor.triangle().triangularView<Eigen::Upper>().transpose().solveInPlace(out);
    rows.rest = out.transpose();
}

VectorXd ApartReader::leverages(const Rows& turned) const {
    const VectorXd& lengths = m_fit.factor.ofLevels().lengths;
    VectorXd squares = turned.rest.rowwise().squaredNorm();
    for (std::size_t i = 0; i < turned.level.size(); ++i)
        if (const Index l = turned.level[i]; l >= 0)
            squares[static_cast<Index>(i)] += std::pow(turned.value[static_cast<Index>(i)] / lengths[l], 2);
    return squares;
}

void ApartReader::addProducts(const Rows& rows, const MatrixXd& z, MatrixXd& sums) const {
    const std::vector<Index>& places = m_fit.factor.ofLevels().places;
    const MatrixXd products = rows.rest.transpose() * z;
    sums(m_fit.factor.restPlaces(), Eigen::all) += products;
    for (Index j = 0; j < z.cols(); ++j)
        for (std::size_t i = 0; i < rows.level.size(); ++i)
            if (const Index l = rows.level[i]; l >= 0)
                sums(places[static_cast<std::size_t>(l)], j) +=
                    rows.value[static_cast<Index>(i)] * z(static_cast<Index>(i), j);
}

MatrixXd ApartReader::times(const Rows& rows, const MatrixXd& b) const {
    const std::vector<Index>& places = m_fit.factor.ofLevels().places;
    MatrixXd out = rows.rest * MatrixXd(b(m_fit.factor.restPlaces(), Eigen::all));
    for (Index j = 0; j < b.cols(); ++j)
        for (std::size_t i = 0; i < rows.level.size(); ++i)
            if (const Index l = rows.level[i]; l >= 0)
                out(static_cast<Index>(i), j) +=
                    rows.value[static_cast<Index>(i)] * b(places[static_cast<std::size_t>(l)], j);
    return out;
}

} // namespace oxgoad
