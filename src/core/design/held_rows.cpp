#include "design/held_rows.h"

#include <algorithm>
#include <utility>
#include <vector>

namespace oxgoad {

using Eigen::Index;

HeldRows::HeldRows(BoundDesign design, std::span<const std::uint32_t> rows, Threads threads)
    : m_design(std::move(design)), m_rows(rows), m_made(m_design, rows) {
    if (static_cast<double>(m_made.rows()) * static_cast<double>(m_made.columns()) > most) return;
    m_held.resize(m_made.rows(), m_made.columns());
    constexpr Index some = 512;
    parallelFor(static_cast<std::size_t>((m_held.rows() + some - 1) / some), threads, [&](std::size_t k) {
        const Index begin = static_cast<Index>(k) * some;
        m_made.fill(begin, m_held.middleRows(begin, std::min(some, m_held.rows() - begin)));
    });
}

void HeldRows::fill(Index begin, Eigen::Ref<Eigen::MatrixXd> block) const {
    if (m_held.size() > 0)
        block = m_held.middleRows(begin, block.rows());
    else
        m_made.fill(begin, block);
}

void HeldRows::fillAt(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block) const {
    if (m_held.size() == 0) {
        std::vector<std::uint32_t> rows;
        rows.reserve(places.size());
        for (const auto place : places)
            rows.push_back(m_rows[place]);
        m_design.fill(rows, block);
        return;
    }
    for (Index j = 0; j < block.cols(); ++j) {
        const double* column = m_held.col(j).data();
        for (Index i = 0; i < block.rows(); ++i)
            block(i, j) = column[places[static_cast<std::size_t>(i)]];
    }
}

} // namespace oxgoad
