#include "estimate/linear/level_rows.h"

#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr Index levelBatchRows = 8192;

} // namespace

std::shared_ptr<const RowLevels> LevelRows::worthwhile(const RowSource& x, bool any) {
    constexpr Index fewest = 16;
    const Index n = x.rows(), p = x.columns();
    if (!any && n < 4096 && p <= mostTogether) return nullptr;
    auto levels = x.levels();
    if (!levels || any) return levels;
    if (levels->levels < fewest) return nullptr;
    const auto columns = static_cast<double>(p);
    const double together = p > mostTogether ? 0 : columns * columns * columns;
    return 2 * (costOf(*levels, n) + together) < static_cast<double>(n) * columns * columns ? levels
                                                                                            : nullptr;
}

double LevelRows::costOf(const RowLevels& levels, Index rows) {
    constexpr double mostValues = 5e8;
    const auto n = static_cast<double>(rows), own = static_cast<double>(levels.perLevel),
               others = static_cast<double>(levels.rest.size()) + 1;
    if (levels.perLevel == 1 && levels.ones && levels.second) {
        const auto held = static_cast<double>(levels.second->others.size()) + 1,
                   meetings = std::min(n, static_cast<double>(levels.levels) *
                                              static_cast<double>(levels.second->levels));
        return n * held > mostValues ? std::numeric_limits<double>::infinity()
                                     : n * held * (held + 1) + meetings * others * (others + 1);
    }
    return n * (others + own) > mostValues ? std::numeric_limits<double>::infinity()
                                           : n * (others + 1) * (others + own);
}

LevelRows::LevelRows(std::shared_ptr<const RowLevels> levels, std::span<const double> y,
                     std::span<const double> weights, Threads threads, Progress& progress)
    : m_levels(std::move(levels)), m_weights(weights), m_threads(threads), m_progress(progress),
      m_order(y.size()), m_begin(static_cast<std::size_t>(m_levels->levels) + 2, 0),
      m_without(m_levels->columns.size(), 0) {
    const auto n = static_cast<Index>(y.size());
    for (const auto level : m_levels->of)
        ++m_begin[level + 1];
    for (std::size_t l = 1; l < m_begin.size(); ++l)
        m_begin[l] += m_begin[l - 1];
    if (perLevel() == 1 && m_levels->ones) m_second = m_levels->second;
    progress.checkpoint(0, "Sorting rows by their levels");
    sortRows();
    progress.checkpoint(0.03, "Sorting rows by their levels");
    m_columnOf.resize(static_cast<std::size_t>(rest()));
    if (m_second)
        m_held = m_second->others;
    else
        for (Index j = 0; j < rest(); ++j)
            m_held.push_back(j);
    for (std::size_t k = 0; k < m_held.size(); ++k)
        m_columnOf[static_cast<std::size_t>(m_held[k])] = static_cast<Index>(k);
    for (std::size_t k = 0; m_second && k < m_second->places.size(); ++k)
        m_columnOf[static_cast<std::size_t>(m_second->places[k])] = static_cast<Index>(m_held.size() + k);
    const auto held = static_cast<Index>(m_held.size());
    m_values.resize(n, held + 1);
    if (m_levels->fillOwn) m_own.resize(n, perLevel());
    if (!weights.empty()) m_roots.resize(n);
    parallelFor(
        static_cast<std::size_t>((n + levelBatchRows - 1) / levelBatchRows), threads, [&](std::size_t b) {
            progress.checkpoint(0.05, "Sorting rows by their levels");
            const Index from = static_cast<Index>(b) * levelBatchRows,
                        count = std::min(levelBatchRows, n - from);
            const std::span places(m_order.data() + from, static_cast<std::size_t>(count));
            (m_second ? m_second->fill : m_levels->fill)(places, m_values.block(from, 0, count, held));
            if (m_own.size() > 0) m_levels->fillOwn(places, m_own.middleRows(from, count));
            for (Index i = 0; i < count; ++i) {
                const auto place = places[static_cast<std::size_t>(i)];
                m_values(from + i, held) = y[place];
                if (!weights.empty()) m_roots[from + i] = std::sqrt(weights[place]);
            }
        });
    m_centres = MatrixXd::Zero(this->levels(), perLevel());
    if (!m_levels->ones || m_own.size() == 0) return;
    for (Index level = 0; level < this->levels(); ++level) {
        Index row = begin(level);
        while (row < begin(level + 1) && !(weight(row) > 0))
            ++row;
        if (row < begin(level + 1)) m_centres.row(level) = m_own.row(row);
    }
}

std::vector<Index> LevelRows::columns() const {
    std::vector<Index> all;
    for (const Index column : m_levels->columns)
        if (column >= 0) all.push_back(column);
    std::sort(all.begin(), all.end());
    return all;
}

std::vector<Index> LevelRows::present(Index level) const {
    std::vector<Index> found;
    for (Index slot = 0; level < levels() && slot < perLevel(); ++slot)
        if (isPresent(level, slot)) found.push_back(slot);
    return found;
}

std::vector<LevelRows::Batch> LevelRows::batches() const {
    std::vector<Batch> made;
    const Index groups = levels() + 1; // those of none are the last
    for (Index level = 0; level < groups;) {
        const Index first = level, from = begin(level);
        while (level < groups && (level == first || begin(level + 1) - from <= levelBatchRows))
            ++level;
        // A level of many rows comes in parts.
        for (Index at = from; at < begin(level); at += levelBatchRows)
            made.push_back({first, level, at, std::min(begin(level), at + levelBatchRows)});
    }
    return made;
}

LevelRows::Extent LevelRows::extent() const {
    const Index m = rest();
    const Index p = m + static_cast<Index>(columns().size());
    const auto count = batches().size();
    std::vector<std::vector<long double>> sums(count);
    std::vector<VectorXd> lows(count), highs(count);
    struct Part {
        Index level;
        std::vector<long double> sums; // by slot
        Eigen::RowVectorXd low, high;
    };
    std::vector<std::vector<Part>> ofLevels(count);
    forBatches(0.05, 0.1, "Centring columns", [&](std::size_t b, const Batch& batch) {
        lows[b].resize(m + 1);
        highs[b].resize(m + 1);
        sums[b].assign(static_cast<std::size_t>(m + 1), 0);
        for (Index j = 0; j <= m; ++j) {
            const VectorXd values = column(j, batch.from, batch.to - batch.from);
            lows[b][j] = values.minCoeff();
            highs[b][j] = values.maxCoeff();
            long double& sum = sums[b][static_cast<std::size_t>(j)];
            if (m_weights.empty())
                for (const double value : values)
                    sum += value;
            else
                for (Index i = 0; i < values.size(); ++i)
                    sum += static_cast<long double>(weight(batch.from + i)) * values[i];
        }
        forLevels(batch, [&](Index level, Index first, Index rowCount) {
            if (level == levels()) return;
            Part part{level, std::vector<long double>(static_cast<std::size_t>(perLevel()), 0),
                      Eigen::RowVectorXd::Ones(perLevel()), Eigen::RowVectorXd::Ones(perLevel())};
            for (Index slot = 0; slot < perLevel(); ++slot) {
                long double& sum = part.sums[static_cast<std::size_t>(slot)];
                for (Index i = batch.from + first; i < batch.from + first + rowCount; ++i)
                    sum +=
                        m_own.size() > 0 ? static_cast<long double>(weight(i)) * m_own(i, slot) : weight(i);
            }
            if (m_own.size() > 0) {
                const auto own = m_own.middleRows(batch.from + first, rowCount);
                part.low = own.colwise().minCoeff();
                part.high = own.colwise().maxCoeff();
            }
            ofLevels[b].push_back(std::move(part));
        });
    });
    Extent extent{std::vector<long double>(static_cast<std::size_t>(p + 1), 0),
                  VectorXd::Constant(p + 1, INFINITY), VectorXd::Constant(p + 1, -INFINITY)};
    for (Index j = 0; j <= m; ++j) {
        const Index at = j == m ? p : m_levels->rest[static_cast<std::size_t>(j)];
        for (std::size_t b = 0; b < count; ++b) {
            extent.sum[static_cast<std::size_t>(at)] += sums[b][static_cast<std::size_t>(j)];
            extent.low[at] = std::min(extent.low[at], lows[b][j]);
            extent.high[at] = std::max(extent.high[at], highs[b][j]);
        }
    }
    const auto n = static_cast<Index>(m_order.size());
    for (Index level = 0; level < levels(); ++level) // 0 at the rows of other levels, where there are any
        for (Index slot = 0; slot < perLevel(); ++slot)
            if (const Index at = m_levels->column(level, slot);
                at >= 0 && begin(level + 1) - begin(level) < n)
                extent.low[at] = extent.high[at] = 0;
    for (const auto& parts : ofLevels)
        for (const Part& part : parts)
            for (Index slot = 0; slot < perLevel(); ++slot)
                if (const Index at = m_levels->column(part.level, slot); at >= 0) {
                    extent.sum[static_cast<std::size_t>(at)] += part.sums[static_cast<std::size_t>(slot)];
                    extent.low[at] = std::min(extent.low[at], part.low[slot]);
                    extent.high[at] = std::max(extent.high[at], part.high[slot]);
                }
    return extent;
}

MatrixXd LevelRows::centredOwn(const Batch& batch) const {
    MatrixXd own = m_own.middleRows(batch.from, batch.to - batch.from);
    forLevels(batch, [&](Index level, Index first, Index n) {
        if (level == levels() || !hasOnes(level)) return;
        for (Index slot = 1; slot < perLevel(); ++slot)
            own.col(slot).segment(first, n).array() -= m_centres(level, slot);
    });
    return own;
}

VectorXd LevelRows::column(Index j, Index from, Index count) const {
    const auto held = static_cast<Index>(m_held.size());
    const Index at = j == rest() ? held : m_columnOf[static_cast<std::size_t>(j)];
    if (j == rest() || at < held) return m_values.col(at).segment(from, count);
    VectorXd values(count);
    for (Index i = 0; i < count; ++i)
        values[i] = m_second->values(m_meets[static_cast<std::size_t>(from + i)], at - held);
    return values;
}

VectorXd LevelRows::shiftedColumn(const LeastSquaresFit& fit, Index j, Index from, Index count) const {
    if (j == rest()) return (column(j, from, count).array() - fit.responseShift) * fit.responseScale;
    const Index at = m_levels->rest[static_cast<std::size_t>(j)];
    return (column(j, from, count).array() - fit.shift[at]) * fit.scale[at];
}

LevelRows::Worked LevelRows::worked(const LeastSquaresFit& fit, const Batch& batch) const {
    if (m_second) return met(fit, batch);
    const Index start = fit.intercept ? 1 : 0, m = rest(), rows = batch.to - batch.from;
    Worked made{MatrixXd(rows, start + m + 1), VectorXd::Ones(rows), {}};
    if (m_roots.size() > 0) made.roots = m_roots.segment(batch.from, rows);
    if (start > 0) made.block.col(0) = made.roots;
    for (Index j = 0; j <= m; ++j) {
        auto to = made.block.col(start + j);
        to = shiftedColumn(fit, j, batch.from, rows);
        if (m_roots.size() > 0) to.array() *= made.roots.array();
    }
    forLevels(batch, [&](Index level, Index first, Index count) {
        made.spans.push_back({level, first, count});
    });
    return made;
}

void LevelRows::reduce(const LeastSquaresFit& fit) {
    const Index start = fit.intercept ? 1 : 0, m = rest(), width = start + m + 1;
    struct Part {
        Index level = -1;
        std::vector<Index> slots{};
        MatrixXd rows{}; // the triangle of its own columns, and what [1, rest, y] share with them
    };
    const auto count = batches().size();
    std::vector<std::vector<Part>> parts(count);
    std::vector<MatrixXd> lefts(count);
    forBatches(0.1, 0.5, "Reducing rows", [&](std::size_t b, const Batch& batch) {
        auto [block, roots, spans] = worked(fit, batch);
        MatrixXd ownColumns;
        if (m_own.size() > 0) {
            ownColumns = centredOwn(batch);
            ownColumns.array().colwise() *= roots.array();
        }
        const auto takeOut = [&](Index level, Index first, Index n) {
            Part part{level, present(level)};
            const auto own = static_cast<Index>(part.slots.size());
            if (own == 0) return;
            if (own == 1 && hasOnes(level)) {
                auto others = block.block(first, start, n, m + 1);
                const double length = takeOne(others, roots.segment(first, n));
                if (length == 0) return;
                part.rows.resize(1, 1 + width);
                part.rows.leftCols(1 + start).setConstant(length);
                part.rows.rightCols(m + 1) = others.row(0);
                others.row(0).setZero();
                if (start > 0) block.col(0).segment(first, n).setZero();
                parts[b].push_back(std::move(part));
                return;
            }
            MatrixXd work(n, own + width);
            for (Index k = 0; k < own; ++k)
                work.col(k) = ownColumns.col(part.slots[static_cast<std::size_t>(k)]).segment(first, n);
            work.rightCols(width) = block.middleRows(first, n);
            reduceColumns(work, own);
            const Index top = std::min(own, n);
            part.rows = MatrixXd::Zero(own, own + width);
            part.rows.topRows(top) = work.topRows(top);
            block.middleRows(first, n) = work.rightCols(width);
            block.middleRows(first, top).setZero();
            if (start > 0 && hasOnes(level)) { // exactly
                part.rows.col(own) = part.rows.col(0);
                block.col(0).segment(first, n).setZero();
            }
            parts[b].push_back(std::move(part));
        };
        for (const auto& [level, first, n] : spans)
            takeOut(level, first, n);
        lefts[b] = triangle(block, m_progress);
    });
    m_ownTriangles = MatrixXd::Zero(levels() * perLevel(), perLevel());
    m_shared = MatrixXd::Zero(levels() * perLevel(), width);
    std::vector<Eigen::RowVectorXd> more; // what parts of one level leave beside each other
    Part whole;
    const auto put = [&] {
        if (whole.level < 0) return;
        const auto own = static_cast<Index>(whole.slots.size());
        if (hasOnes(whole.level)) // counted from 0 again
            for (Index k = 1; k < own; ++k)
                whole.rows(0, k) +=
                    m_centres(whole.level, whole.slots[static_cast<std::size_t>(k)]) * whole.rows(0, 0);
        for (Index i = 0; i < own; ++i) {
            const Index at = whole.level * perLevel() + whole.slots[static_cast<std::size_t>(i)];
            for (Index k = i; k < own; ++k)
                m_ownTriangles(at, whole.slots[static_cast<std::size_t>(k)]) = whole.rows(i, k);
            m_shared.row(at) = whole.rows.row(i).tail(width);
        }
    };
    for (auto& ofBatch : parts)
        for (Part& part : ofBatch) {
            if (part.level != whole.level) {
                put();
                whole = std::move(part);
                continue;
            }
            const auto own = static_cast<Index>(part.slots.size());
            MatrixXd both(2 * own, own + width);
            both << whole.rows, part.rows;
            reduceColumns(both, own);
            if (start > 0 && hasOnes(part.level)) { // exactly
                both.col(own).setZero();
                both.col(own).head(own) = both.col(0).head(own);
            }
            whole.rows = both.topRows(own);
            for (Index i = own; i < 2 * own; ++i)
                more.emplace_back(both.row(i).tail(width));
        }
    put();
    MatrixXd total = MatrixXd::Zero(static_cast<Index>(more.size()), width);
    for (std::size_t i = 0; i < more.size(); ++i)
        total.row(static_cast<Index>(i)) = more[i];
    total = triangle(total, m_progress);
    for (MatrixXd& left : lefts)
        absorb(total, left, m_progress);
    m_left = std::move(total);
}

MatrixXd LevelRows::triangleOf(const LeastSquaresFit& fit) {
    reduce(fit);
    const Index start = fit.intercept ? 1 : 0, m = rest(), width = start + m + 1,
                all = start + m + static_cast<Index>(columns().size()) + 1;
    const std::vector<Index> ofLevels = columns();
    MatrixXd rows = MatrixXd::Zero(m_shared.rows() + width, all);
    const auto put = [&](Index row, const Eigen::RowVectorXd& shared) {
        if (start > 0) {
            rows(row, 0) = shared[0];
            for (const Index at : ofLevels)
                rows(row, start + at) = -fit.scale[at] * fit.shift[at] * shared[0];
        }
        for (Index j = 0; j < m; ++j)
            rows(row, start + m_levels->rest[static_cast<std::size_t>(j)]) = shared[start + j];
        rows(row, all - 1) = shared[width - 1];
    };
    for (Index level = 0, row = 0; level < levels(); ++level)
        for (Index slot = 0; slot < perLevel(); ++slot, ++row) {
            put(row, m_shared.row(row));
            for (Index k = slot; k < perLevel(); ++k)
                if (const Index at = m_levels->column(level, k); at >= 0)
                    rows(row, start + at) += fit.scale[at] * m_ownTriangles(row, k);
        }
    for (Index i = 0; i < width; ++i)
        put(m_shared.rows() + i, m_left.row(i));
    MatrixXd whole = triangle(rows, m_progress);
    // The whole says which columns depend on others; leverages ask for a basis level by level.
    LeastSquaresFit within;
    within.rankToleranceUsed = fit.rankToleranceUsed;
    std::vector<char> leftOut(static_cast<std::size_t>(all), 0);
    while (leaveOutWithin(within, leftOut))
        reduce(fit);
    return whole;
}

} // namespace oxgoad
