// Rows of a level that meet: they have the same level of a second factor, too.
#include "estimate/linear/level_rows.h"
#include "estimate/linear/triangle.h"

#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

void LevelRows::sortRows() {
    std::vector<std::uint32_t> rows(m_order.size());
    std::iota(rows.begin(), rows.end(), 0U);
    if (m_second) { // by the second factor first: sorting by the levels keeps that order within each
        std::vector<std::uint32_t> next(static_cast<std::size_t>(m_second->levels) + 1, 0);
        for (const auto level : m_second->of)
            ++next[level + 1];
        for (std::size_t l = 1; l < next.size(); ++l)
            next[l] += next[l - 1];
        for (std::size_t i = 0; i < m_order.size(); ++i)
            rows[next[m_second->of[i]]++] = static_cast<std::uint32_t>(i);
    }
    auto next = m_begin;
    for (const auto row : rows)
        m_order[next[m_levels->of[row]]++] = row;
    if (!m_second) return;
    m_meets.reserve(m_order.size());
    for (const auto row : m_order)
        m_meets.push_back(m_second->of[row]);
}

MatrixXd LevelRows::shiftedSecond(const LeastSquaresFit& fit) const {
    MatrixXd values = m_second->values;
    for (std::size_t k = 0; k < m_second->places.size(); ++k) {
        const Index at = m_levels->rest[static_cast<std::size_t>(m_second->places[k])];
        auto column = values.col(static_cast<Index>(k));
        column = (column.array() - fit.shift[at]) * fit.scale[at];
    }
    return values;
}

std::vector<Index> LevelRows::meetings(const Batch& batch) const {
    std::vector<Index> begins;
    forLevels(batch, [&](Index, Index first, Index count) {
        for (Index i = first; i < first + count; ++i) {
            const auto at = static_cast<std::size_t>(batch.from + i);
            if (i == first || m_meets[at] != m_meets[at - 1]) begins.push_back(i);
        }
    });
    return begins;
}

LevelRows::Worked LevelRows::met(const LeastSquaresFit& fit, const Batch& batch) const {
    const Index start = fit.intercept ? 1 : 0, width = start + rest() + 1, rows = batch.to - batch.from;
    const auto held = static_cast<Index>(m_held.size());
    VectorXd roots = VectorXd::Ones(rows);
    if (m_roots.size() > 0) roots = m_roots.segment(batch.from, rows);
    MatrixXd loose(rows, held + 1); // columns that differ among rows that meet, and y
    std::vector<Index> to;          // where they stand in the block
    for (Index k = 0; k <= held; ++k) {
        const Index j = k < held ? m_held[static_cast<std::size_t>(k)] : rest();
        loose.col(k) = shiftedColumn(fit, j, batch.from, rows);
        if (m_roots.size() > 0) loose.col(k).array() *= roots.array();
        to.push_back(start + j);
    }
    const std::vector<Index> begins = meetings(batch);
    const auto count = static_cast<Index>(begins.size());
    Worked made{MatrixXd::Zero(count + held + 1, width), VectorXd(count), {}};
    std::vector<Index> places = m_second->places;
    for (Index& place : places)
        place += start;
    const MatrixXd second = shiftedSecond(fit);
    for (Index c = 0; c < count; ++c) {
        const Index first = begins[static_cast<std::size_t>(c)],
                    last = c + 1 < count ? begins[static_cast<std::size_t>(c + 1)] : rows;
        // What is the same in all of them stands in the first with the length of their roots, and in no
        // other.
        const double length = last - first == 1 ? roots[first]
                                                : takeOne(loose.middleRows(first, last - first),
                                                          roots.segment(first, last - first));
        made.roots[c] = length;
        if (start > 0) made.block(c, 0) = length;
        made.block.row(c)(to) = loose.row(first);
        made.block.row(c)(places) =
            length * second.row(m_meets[static_cast<std::size_t>(batch.from + first)]);
        loose.row(first).setZero();
    }
    made.block.bottomRows(held + 1)(Eigen::all, to) = triangle(loose, m_progress);
    Index c = 0;
    forLevels(batch, [&](Index level, Index first, Index n) {
        const Index from = c;
        while (c < count && begins[static_cast<std::size_t>(c)] < first + n)
            ++c;
        made.spans.push_back({level, from, c - from});
    });
    return made;
}

VectorXd LevelRows::lengthsMet(const LeastSquaresFit& fit, const Batch& batch,
                               const std::vector<Index>& places, const MatrixXd& own,
                               const MatrixXd& shared) const {
    const Index start = fit.intercept ? 1 : 0, rows = batch.to - batch.from,
                spanned = static_cast<Index>(places.size());
    const std::vector<Index> begins = meetings(batch);
    const auto count = static_cast<Index>(begins.size()), held = static_cast<Index>(m_held.size());
    const MatrixXd second = shiftedSecond(fit);
    // The first row of those that meet, whole; and how the others differ from it.
    MatrixXd inside(count, spanned), loose(rows, held);
    std::vector<Index> free; // which of the places differ
    for (Index k = 0; k < spanned; ++k) {
        const Index j = places[static_cast<std::size_t>(k)] - start;
        if (j < 0) {
            inside.col(k).setOnes();
            continue;
        }
        const Index at = m_columnOf[static_cast<std::size_t>(j)];
        if (at < held) {
            const auto here = static_cast<Index>(free.size());
            free.push_back(k);
            loose.col(here) = shiftedColumn(fit, j, batch.from, rows);
            inside.col(k) = loose.col(here)(begins);
            continue;
        }
        for (Index c = 0; c < count; ++c)
            inside(c, k) =
                second(m_meets[static_cast<std::size_t>(batch.from + begins[static_cast<std::size_t>(c)])],
                       at - held);
    }
    VectorXd ofFirst = VectorXd::Zero(count);
    Index c = 0;
    forLevels(batch, [&](Index level, Index first, Index n) {
        const double r = level < levels() && isPresent(level, 0) ? m_ownTriangles(level, 0) : 0;
        for (; c < count && begins[static_cast<std::size_t>(c)] < first + n; ++c) {
            if (!(r > 0)) continue;
            inside.row(c) -= shared.row(level) / r;
            ofFirst[c] = 1 / (r * r);
        }
    });
    const auto across = static_cast<Index>(free.size());
    MatrixXd unit = MatrixXd::Zero(across, spanned);
    for (Index k = 0; k < across; ++k)
        unit(k, free[static_cast<std::size_t>(k)]) = 1;
    if (spanned > 0) {
        own.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(inside);
        own.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(unit);
    }
    for (Index k = 0; k < spanned; ++k)
        ofFirst += inside.col(k).cwiseAbs2();
    const MatrixXd products = unit * unit.transpose(), with = inside * unit.transpose();
    VectorXd leverages(rows), by(across);
    for (c = 0; c < count; ++c) {
        const Index first = begins[static_cast<std::size_t>(c)],
                    last = c + 1 < count ? begins[static_cast<std::size_t>(c + 1)] : rows;
        leverages[first] = ofFirst[c];
        for (Index i = first + 1; i < last; ++i) {
            double sum = ofFirst[c];
            for (Index k = 0; k < across; ++k)
                by[k] = loose(i, k) - loose(first, k);
            for (Index k = 0; k < across; ++k)
                sum += by[k] * (2 * with(c, k) + products.col(k).dot(by));
            leverages[i] = sum;
        }
    }
    return leverages;
}

} // namespace oxgoad
