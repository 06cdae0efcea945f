#include "design/held_rows.h"

#include <algorithm>
#include <utility>
#include <vector>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;

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

void HeldRows::fill(Index begin, Eigen::Ref<MatrixXd> block) const {
    if (m_held.size() > 0)
        block = m_held.middleRows(begin, block.rows());
    else
        m_made.fill(begin, block);
}

void HeldRows::fillAt(std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) const {
    if (m_held.size() == 0)
        make(places, block);
    else
        for (Index j = 0; j < block.cols(); ++j)
            gather(j, places, block.col(j));
}

void HeldRows::fillAt(std::span<const std::uint32_t> places, std::span<const Index> columns,
                      Eigen::Ref<MatrixXd> block) const {
    if (m_held.size() == 0) {
        MatrixXd all(block.rows(), this->columns());
        make(places, all);
        for (Index c = 0; c < block.cols(); ++c)
            block.col(c) = all.col(columns[static_cast<std::size_t>(c)]);
        return;
    }
    for (Index c = 0; c < block.cols(); ++c)
        gather(columns[static_cast<std::size_t>(c)], places, block.col(c));
}

void HeldRows::make(std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) const {
    std::vector<std::uint32_t> rows;
    rows.reserve(places.size());
    for (const auto place : places)
        rows.push_back(m_rows[place]);
    m_design.fill(rows, block);
}

void HeldRows::gather(Index column, std::span<const std::uint32_t> places,
                      Eigen::Ref<Eigen::VectorXd> to) const {
    const double* from = m_held.col(column).data();
    for (Index i = 0; i < to.size(); ++i)
        to[i] = from[places[static_cast<std::size_t>(i)]];
}

} // namespace oxgoad
