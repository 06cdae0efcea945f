#include "study/path_models.h"

#include <algorithm>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

void PathModels::add(const VectorXd& coefficients, double constant) {
    m_placeOf.resize(static_cast<std::size_t>(coefficients.size()), -1);
    Kept kept;
    for (Index j = 0; j < coefficients.size(); ++j) {
        if (coefficients[j] == 0) continue;
        Index& place = m_placeOf[static_cast<std::size_t>(j)];
        if (place < 0) {
            place = static_cast<Index>(m_columns.size());
            m_columns.push_back(j);
        }
        kept.at.push_back(place);
        kept.coefficients.push_back(coefficients[j]);
    }
    m_models.push_back(std::move(kept));
    m_constants.push_back(constant);
}

void PathModels::say(const HeldRows& rows, std::span<const std::uint32_t> places, MatrixXd& columns,
                     MatrixXd& said) const {
    const auto n = static_cast<Index>(places.size());
    columns.resize(n, static_cast<Index>(m_columns.size()));
    rows.fillAt(places, m_columns, columns);
    said.resize(n, count());
    // Models beside each other keep nearly the same columns: the first of the order.
    constexpr Index some = 16;
    MatrixXd coefficients;
    for (Index first = 0; first < count(); first += some) {
        const Index models = std::min(some, count() - first);
        Index upTo = 0;
        for (Index k = 0; k < models; ++k)
            for (const Index at : m_models[static_cast<std::size_t>(first + k)].at)
                upTo = std::max(upTo, at + 1);
        coefficients.setZero(upTo, models);
        for (Index k = 0; k < models; ++k) {
            const Kept& kept = m_models[static_cast<std::size_t>(first + k)];
            for (std::size_t c = 0; c < kept.at.size(); ++c)
                coefficients(kept.at[c], k) = kept.coefficients[c];
        }
        auto block = said.middleCols(first, models);
        if (upTo > 0)
            block.noalias() = columns.leftCols(upTo) * coefficients;
        else
            block.setZero();
        for (Index k = 0; k < models; ++k)
            block.col(k).array() += m_constants[static_cast<std::size_t>(first + k)];
    }
}

} // namespace oxgoad
