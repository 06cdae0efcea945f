// What a solution says at rows level by level: residuals, their products with the columns, leverages.
#include "estimate/linear/level_rows.h"
#include "estimate/linear/triangle.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

VectorXd LevelRows::lessRest(const LeastSquaresFit& fit, const VectorXd& ofRest, Index from,
                             Index count) const {
    VectorXd residuals = shiftedColumn(fit, rest(), from, count);
    for (const Index j : m_held)
        if (ofRest[j] != 0) residuals -= ofRest[j] * shiftedColumn(fit, j, from, count);
    if (!m_second) return residuals;
    const VectorXd ofLevels = shiftedSecond(fit) * ofRest(m_second->places);
    for (Index i = 0; i < count; ++i)
        residuals[i] -= ofLevels[m_meets[static_cast<std::size_t>(from + i)]];
    return residuals;
}

VectorXd LevelRows::restTimes(const LeastSquaresFit& fit, const VectorXd& residuals, Index from) const {
    VectorXd products(rest());
    for (const Index j : m_held)
        products[j] = shiftedColumn(fit, j, from, residuals.size()).dot(residuals);
    if (!m_second) return products;
    VectorXd sums = VectorXd::Zero(m_second->levels);
    for (Index i = 0; i < residuals.size(); ++i)
        sums[m_meets[static_cast<std::size_t>(from + i)]] += residuals[i];
    products(m_second->places) = shiftedSecond(fit).transpose() * sums;
    return products;
}

LevelRows::Spread LevelRows::spread(const LeastSquaresFit& fit, const Extended& solution) const {
    const Index start = fit.intercept ? 1 : 0;
    Extended byColumn = Extended::Zero(fit.columns);
    long double constant = start > 0 ? solution[0] : 0;
    for (std::size_t k = 0; k < fit.kept.size(); ++k)
        byColumn[static_cast<Index>(fit.kept[k])] = solution[start + static_cast<Index>(k)];
    Spread made{Extended::Zero(levels() + 1), {}, Extended::Zero(rest())};
    made.ofOwn.setZero(levels(), m_own.cols());
    // Levels' columns are shifted where they stand in one triangle.
    for (const Index at : columns())
        constant -= byColumn[at] * fit.shift[at] * static_cast<long double>(fit.scale[at]);
    for (Index l = 0; l <= levels(); ++l) {
        made.ofLevel[l] = constant;
        for (Index slot = 0; l < levels() && slot < perLevel(); ++slot) {
            const Index at = m_levels->column(l, slot);
            if (at < 0) continue;
            const long double b = byColumn[at] * static_cast<long double>(fit.scale[at]);
            if (slot == 0 && m_levels->ones) {
                made.ofLevel[l] += b;
                continue;
            }
            made.ofOwn(l, slot) = b;
            if (hasOnes(l)) made.ofLevel[l] += b * m_centres(l, slot);
        }
    }
    for (Index j = 0; j < rest(); ++j)
        made.ofRest[j] = byColumn[m_levels->rest[static_cast<std::size_t>(j)]];
    return made;
}

void LevelRows::takeOwn(VectorXd& residuals, const MatrixXd& own, const Spread& b, Index level, Index first,
                        Index n) const {
    residuals.segment(first, n).array() -= static_cast<double>(b.ofLevel[level]);
    for (Index slot = 0; level < levels() && slot < own.cols(); ++slot)
        if (const auto slope = static_cast<double>(b.ofOwn(level, slot)); slope != 0)
            residuals.segment(first, n) -= slope * own.col(slot).segment(first, n);
}

void LevelRows::addProducts(const Batch& batch, const MatrixXd& own, const Extended& residuals,
                            Extended ofRest, Products& into) const {
    into.ofRest = std::move(ofRest);
    forLevels(batch, [&](Index level, Index first, Index n) {
        Products::Level part{level, residuals.segment(first, n).sum(), Extended::Zero(own.cols())};
        for (Index slot = 0; level < levels() && slot < own.cols(); ++slot)
            part.own[slot] =
                residuals.segment(first, n).dot(own.col(slot).segment(first, n).cast<long double>());
        into.ofLevels.push_back(std::move(part));
    });
}

VectorXd LevelRows::products(const LeastSquaresFit& fit, const std::vector<Products>& ofBatches) const {
    Extended byColumn = Extended::Zero(fit.columns);
    long double all = 0;
    for (const Products& batch : ofBatches) {
        for (Index j = 0; j < rest(); ++j)
            byColumn[m_levels->rest[static_cast<std::size_t>(j)]] += batch.ofRest[j];
        for (const Products::Level& part : batch.ofLevels) {
            all += part.sum;
            for (Index slot = 0; part.level < levels() && slot < perLevel(); ++slot) {
                const Index at = m_levels->column(part.level, slot);
                if (at < 0) continue;
                if (slot == 0 && m_levels->ones)
                    byColumn[at] += part.sum;
                else
                    byColumn[at] += part.own[slot] +
                                    (hasOnes(part.level) ? part.sum * m_centres(part.level, slot) : 0.0L);
            }
        }
    }
    for (const Index at : columns())
        byColumn[at] = (byColumn[at] - fit.shift[at] * all) * static_cast<long double>(fit.scale[at]);
    const Index start = fit.intercept ? 1 : 0;
    VectorXd products(fit.rank());
    if (start > 0) products[0] = static_cast<double>(all);
    for (std::size_t k = 0; k < fit.kept.size(); ++k)
        products[start + static_cast<Index>(k)] =
            static_cast<double>(byColumn[static_cast<Index>(fit.kept[k])]);
    return products;
}

VectorXd LevelRows::crossProducts(const LeastSquaresFit& fit, const Extended& solution, bool careful) const {
    const Spread b = spread(fit, solution);
    const Index m = rest();
    const VectorXd ofRest = b.ofRest.cast<double>();
    std::vector<Products> made(batches().size());
    forBatches(0.6, 0.8, "Refining", [&](std::size_t batchAt, const Batch& batch) {
        const Index rows = batch.to - batch.from;
        MatrixXd own;
        if (m_own.size() > 0) own = centredOwn(batch);
        if (!careful) {
            VectorXd r = lessRest(fit, ofRest, batch.from, rows);
            forLevels(batch, [&](Index level, Index first, Index n) { takeOwn(r, own, b, level, first, n); });
            if (m_roots.size() > 0) r.array() *= m_roots.segment(batch.from, rows).array().square();
            addProducts(batch, own, r.cast<long double>(), restTimes(fit, r, batch.from).cast<long double>(),
                        made[batchAt]);
            return;
        }
        const long double shift = fit.responseShift, scale = fit.responseScale;
        Extended residuals = (column(m, batch.from, rows).cast<long double>().array() - shift) * scale;
        const auto exactly = [&](Index j) -> Extended {
            const Index at = m_levels->rest[static_cast<std::size_t>(j)];
            return ((column(j, batch.from, rows).cast<long double>().array() -
                     static_cast<long double>(fit.shift[at])) *
                    static_cast<long double>(fit.scale[at]))
                .matrix();
        };
        for (Index j = 0; j < m; ++j)
            if (b.ofRest[j] != 0) residuals -= b.ofRest[j] * exactly(j);
        forLevels(batch, [&](Index level, Index first, Index n) {
            residuals.segment(first, n).array() -= b.ofLevel[level];
            for (Index slot = 0; level < levels() && slot < own.cols(); ++slot)
                if (const long double slope = b.ofOwn(level, slot); slope != 0)
                    residuals.segment(first, n) -=
                        slope * own.col(slot).segment(first, n).cast<long double>();
        });
        for (Index i = 0; i < rows; ++i)
            residuals[i] *= weight(batch.from + i);
        Extended sums = Extended::Zero(m);
        for (Index j = 0; j < m; ++j)
            sums[j] = residuals.dot(exactly(j));
        addProducts(batch, own, residuals, std::move(sums), made[batchAt]);
    });
    return products(fit, made);
}

VectorXd LevelRows::lengths(const LeastSquaresFit& fit, const Batch& batch, const std::vector<Index>& places,
                            const MatrixXd& own, const MatrixXd& shared) const {
    if (m_second) return lengthsMet(fit, batch, places, own, shared);
    const Index start = fit.intercept ? 1 : 0, rows = batch.to - batch.from;
    MatrixXd inside(rows, static_cast<Index>(places.size()));
    for (std::size_t k = 0; k < places.size(); ++k) {
        if (start > 0 && places[k] == 0)
            inside.col(static_cast<Index>(k)).setOnes();
        else
            inside.col(static_cast<Index>(k)) = shiftedColumn(fit, places[k] - start, batch.from, rows);
    }
    VectorXd leverages = VectorXd::Zero(rows);
    MatrixXd ownColumns;
    if (m_own.size() > 0) ownColumns = centredOwn(batch);
    forLevels(batch, [&](Index level, Index first, Index n) {
        const std::vector<Index> slotsThere = present(level);
        const auto across = static_cast<Index>(slotsThere.size());
        if (across == 0) return;
        // Counted from the level's first row: the triangle without what that adds.
        MatrixXd r(across, across), x(n, across), along(across, inside.cols());
        for (Index k = 0; k < across; ++k) {
            const Index slot = slotsThere[static_cast<std::size_t>(k)], row = level * perLevel() + slot;
            for (Index i = 0; i < across; ++i)
                r(k, i) = m_ownTriangles(row, slotsThere[static_cast<std::size_t>(i)]);
            along.row(k) = shared.row(row);
            if (slot == 0 && m_levels->ones)
                x.col(k).setOnes();
            else
                x.col(k) = ownColumns.col(slot).segment(first, n);
            if (k > 0 && hasOnes(level)) r(0, k) -= m_centres(level, slot) * r(0, 0);
        }
        for (Index k = 0; k < across; ++k) {
            for (Index i = 0; i < k; ++i)
                x.col(k) -= r(i, k) * x.col(i);
            if (r(k, k) > 0)
                x.col(k) /= r(k, k);
            else
                x.col(k).setZero();
        }
        inside.middleRows(first, n).noalias() -= x * along;
        leverages.segment(first, n) = x.rowwise().squaredNorm();
    });
    if (inside.size() > 0) own.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(inside);
    for (Index k = 0; k < inside.cols(); ++k)
        leverages += inside.col(k).cwiseAbs2();
    return leverages;
}

ResidualSums LevelRows::finish(LeastSquaresFit& fit, const VectorXd& solution) const {
    const Spread b = spread(fit, solution.cast<long double>());
    const VectorXd ofRest = b.ofRest.cast<double>();
    const Index start = fit.intercept ? 1 : 0, m = rest();
    // Of [1, rest], beside the levels, what spans them: leverages know no other choice.
    const std::vector<Index> places = independent(fit);
    MatrixXd work = m_left.leftCols(start + m)(Eigen::all, places);
    const MatrixXd own = triangle(work, m_progress);
    const MatrixXd shared = m_shared(Eigen::all, places);
    const auto all = batches();
    std::vector<long double> squares(all.size(), 0);
    std::vector<Products> made(all.size());
    forBatches(0.8, 1, "Leverages and residuals", [&](std::size_t batchAt, const Batch& batch) {
        const Index rows = batch.to - batch.from;
        VectorXd residuals = lessRest(fit, ofRest, batch.from, rows);
        MatrixXd ownColumns;
        if (m_own.size() > 0) ownColumns = centredOwn(batch);
        forLevels(batch, [&](Index level, Index first, Index n) {
            takeOwn(residuals, ownColumns, b, level, first, n);
        });
        const VectorXd leverages = lengths(fit, batch, places, own, shared);
        const VectorXd y = column(m, batch.from, rows);
        long double sum = 0;
        for (Index i = 0; i < rows; ++i) {
            const double root = m_roots.size() > 0 ? m_roots[batch.from + i] : 1;
            const double weighted = residuals[i] * root;
            sum += static_cast<long double>(weighted) * weighted;
            const auto row = static_cast<Index>(m_order[static_cast<std::size_t>(batch.from + i)]);
            fit.residuals[row] = residuals[i] / fit.responseScale;
            fit.fitted[row] = y[i] - fit.residuals[row];
            fit.leverages[row] = leverages[i] * root * root;
        }
        squares[batchAt] = sum;
        if (m_roots.size() > 0) residuals.array() *= m_roots.segment(batch.from, rows).array().square();
        addProducts(batch, ownColumns, residuals.cast<long double>(),
                    restTimes(fit, residuals, batch.from).cast<long double>(), made[batchAt]);
    });
    return {products(fit, made), std::accumulate(squares.begin(), squares.end(), 0.0L)};
}

} // namespace oxgoad
