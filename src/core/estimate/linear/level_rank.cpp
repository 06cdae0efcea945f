// Which columns of levels and of the rest depend on others, and the factor of those that do not.
#include "estimate/linear/level_rows.h"
#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

VectorXd LevelRows::solveOwn(Index level, const VectorXd& z) const {
    VectorXd b = VectorXd::Zero(perLevel());
    for (Index slot = perLevel(); slot-- > 0;) {
        const Index row = level * perLevel() + slot;
        if (!isPresent(level, slot) || !(m_ownTriangles(row, slot) > 0)) continue;
        double value = z[slot];
        for (Index k = slot + 1; k < perLevel(); ++k)
            value -= m_ownTriangles(row, k) * b[k];
        b[slot] = value / m_ownTriangles(row, slot);
    }
    return b;
}

bool LevelRows::leaveOutWithin(LeastSquaresFit& fit, std::vector<char>& leftOut) {
    bool any = false;
    for (Index level = 0; level < levels(); ++level)
        for (Index slot = 0; slot < perLevel(); ++slot) {
            if (!isPresent(level, slot)) continue;
            const Index first = level * perLevel(), column = m_levels->column(level, slot);
            const VectorXd z = m_ownTriangles.col(slot).segment(first, perLevel());
            const double whole = z.norm();
            if (z[slot] > fit.rankToleranceUsed * whole) continue;
            // Rows above are of the slots before: those kept say this one.
            Dependency dependency;
            dependency.column = static_cast<std::size_t>(column);
            VectorXd before = z;
            before.tail(perLevel() - slot).setZero();
            const VectorXd said = solveOwn(level, before);
            constexpr double nothing = 1e-8;
            for (Index k = 0; k < slot; ++k)
                if (std::fabs(said[k]) * m_ownTriangles.col(k).segment(first, perLevel()).norm() >
                    nothing * whole)
                    dependency.combination.emplace_back(static_cast<std::size_t>(m_levels->column(level, k)),
                                                        said[k]);
            fit.dependent.push_back(std::move(dependency));
            leftOut[static_cast<std::size_t>(column)] = 1;
            m_without[static_cast<std::size_t>(first + slot)] = 1;
            any = true;
            break;
        }
    return any;
}

std::vector<Index> LevelRows::independent(const LeastSquaresFit& fit) const {
    const Index start = fit.intercept ? 1 : 0, width = start + rest();
    if (width == 0) return {};
    MatrixXd unit = m_left.leftCols(width);
    for (Index j = 0; j < width; ++j)
        if (const double whole = std::hypot(unit.col(j).norm(), m_shared.col(j).norm()); whole > 0)
            unit.col(j) /= whole;
    const Eigen::ColPivHouseholderQR<MatrixXd> qr(unit);
    Index ofLevels = 0;
    for (Index level = 0; level < levels(); ++level)
        for (Index slot = 0; slot < perLevel(); ++slot)
            ofLevels += isPresent(level, slot) && m_ownTriangles(level * perLevel() + slot, slot) > 0;
    const Index count = std::min(width, fit.rank() - ofLevels);
    std::vector<Index> places(qr.colsPermutation().indices().data(),
                              qr.colsPermutation().indices().data() + count);
    std::sort(places.begin(), places.end());
    return places;
}

std::vector<LevelRows::Null> LevelRows::nulls(const LeastSquaresFit& fit, const std::vector<char>& out,
                                              std::vector<Index>& kept) const {
    const Index start = fit.intercept ? 1 : 0, width = start + rest();
    MatrixXd work = m_left;
    Index rank = 0;
    kept.clear();
    std::vector<Null> found;
    for (Index j = 0; j < width; ++j) {
        stopIfTold(m_progress);
        if (out[static_cast<std::size_t>(j)]) continue;
        const double whole = std::hypot(work.col(j).norm(), m_shared.col(j).norm());
        const double left = work.col(j).tail(work.rows() - rank).norm();
        if (left > fit.rankToleranceUsed * whole) {
            reflect(work, rank, j);
            kept.push_back(j);
            ++rank;
            continue;
        }
        MatrixXd r(rank, rank);
        MatrixXd shared(m_shared.rows(), rank);
        for (Index k = 0; k < rank; ++k) {
            r.col(k) = work.col(kept[static_cast<std::size_t>(k)]).head(rank);
            shared.col(k) = m_shared.col(kept[static_cast<std::size_t>(k)]);
        }
        const VectorXd said = r.triangularView<Eigen::Upper>().solve(work.col(j).head(rank));
        const VectorXd across = m_shared.col(j) - shared * said;
        Null null{0, VectorXd::Zero(fit.columns)};
        const auto put = [&](Index place, double value) {
            if (start > 0 && place == 0)
                null.one = value;
            else
                null.columns[m_levels->rest[static_cast<std::size_t>(place - start)]] = value;
        };
        // What is no more than rounding is nothing.
        constexpr double nothing = 1e-8;
        put(j, 1);
        for (Index k = 0; k < rank; ++k) {
            const Index place = kept[static_cast<std::size_t>(k)];
            if (std::fabs(said[k]) * std::hypot(r.col(k).norm(), shared.col(k).norm()) > nothing * whole)
                put(place, -said[k]);
        }
        const double nothingOfOne = nothing * whole / std::sqrt(static_cast<double>(m_shared.rows()));
        for (Index level = 0; level < levels(); ++level) {
            const Index first = level * perLevel();
            const VectorXd own = solveOwn(level, across.segment(first, perLevel()));
            for (Index slot = 0; slot < perLevel(); ++slot)
                if (std::fabs(own[slot]) * m_ownTriangles.col(slot).segment(first, perLevel()).norm() >
                    nothingOfOne)
                    null.columns[m_levels->column(level, slot)] = -own[slot];
        }
        found.push_back(std::move(null));
    }
    return found;
}

void LevelRows::eliminate(LeastSquaresFit& fit, const std::vector<char>& constantColumn) {
    const Index start = fit.intercept ? 1 : 0, m = rest();
    std::vector<char> out(static_cast<std::size_t>(start + m), 0); // of [1, rest]
    std::vector<char> leftOut(static_cast<std::size_t>(fit.columns), 0);
    const auto leaveOut = [&](Index column, Dependency dependency) {
        dependency.column = static_cast<std::size_t>(column);
        fit.dependent.push_back(std::move(dependency));
        leftOut[static_cast<std::size_t>(column)] = 1;
    };
    for (Index j = 0; j < m && start > 0; ++j)
        if (const Index at = m_levels->rest[static_cast<std::size_t>(j)];
            constantColumn[static_cast<std::size_t>(at)]) {
            leaveOut(at, {0, fit.shift[at], {}});
            out[static_cast<std::size_t>(start + j)] = 1;
        }
    reduce(fit);
    while (leaveOutWithin(fit, leftOut)) // one of a level at a time: what is 0 leaves no sound rows below it
        reduce(fit);
    std::vector<Index> kept;
    for (auto found = nulls(fit, out, kept); !found.empty(); found = nulls(fit, out, kept)) {
        bool again = false;
        // From the right: each combination gives up the last of its columns, which no other then holds.
        std::vector<std::pair<Index, Null>> given;
        while (!found.empty()) {
            const auto lastOf = [&](const Null& null) {
                Index last = fit.columns - 1;
                while (last >= 0 && null.columns[last] == 0)
                    --last;
                return last;
            };
            Index last = -1;
            for (const Null& null : found)
                last = std::max(last, lastOf(null));
            if (last < 0) break;
            auto at = std::max_element(found.begin(), found.end(), [&](const Null& a, const Null& b) {
                return std::fabs(a.columns[last]) < std::fabs(b.columns[last]);
            });
            Null null = std::move(*at);
            found.erase(at);
            const double value = null.columns[last];
            null.one /= value;
            null.columns /= value;
            const auto clear = [&](Null& other) {
                const double times = other.columns[last];
                if (times == 0) return;
                const double size = other.columns.cwiseAbs().maxCoeff();
                other.one -= times * null.one;
                other.columns -= times * null.columns;
                for (double& entry : other.columns)
                    if (std::fabs(entry) <= 1e-12 * size) entry = 0;
                other.columns[last] = 0;
            };
            for (Null& other : found)
                clear(other);
            for (auto& [column, other] : given)
                clear(other);
            given.emplace_back(last, std::move(null));
        }
        if (given.empty()) break;
        for (const auto& [column, null] : given) {
            Dependency dependency;
            double constant = fit.shift[column] - null.one / fit.scale[column];
            for (Index k = 0; k < fit.columns; ++k) {
                if (k == column || null.columns[k] == 0) continue;
                const double weight = -null.columns[k] * fit.scale[k] / fit.scale[column];
                dependency.combination.emplace_back(static_cast<std::size_t>(k), weight);
                constant -= weight * fit.shift[k];
            }
            dependency.constant = fit.intercept ? constant : 0;
            leaveOut(column, std::move(dependency));
            const auto ofLevel = std::find(m_levels->columns.begin(), m_levels->columns.end(), column);
            if (ofLevel != m_levels->columns.end()) {
                m_without[static_cast<std::size_t>(ofLevel - m_levels->columns.begin())] = 1;
                again = true;
                continue;
            }
            const auto at = std::find(m_levels->rest.begin(), m_levels->rest.end(), column);
            out[static_cast<std::size_t>(start + (at - m_levels->rest.begin()))] = 1;
        }
        if (again) reduce(fit);
    }
    // What a level's own columns say of one of them, in columns that are kept.
    std::map<std::size_t, Dependency> known;
    for (const Dependency& one : fit.dependent)
        known.emplace(one.column, one);
    for (Dependency& one : fit.dependent) {
        std::map<std::size_t, double> weights;
        for (const auto& [column, weight] : one.combination) {
            const auto gone = known.find(column);
            if (gone == known.end()) {
                weights[column] += weight;
                continue;
            }
            one.constant += weight * gone->second.constant;
            for (const auto& [other, share] : gone->second.combination)
                weights[other] += weight * share;
        }
        one.combination.assign(weights.begin(), weights.end());
    }
    std::sort(fit.dependent.begin(), fit.dependent.end(),
              [](const Dependency& a, const Dependency& b) { return a.column < b.column; });

    std::vector<Index> placeOf(static_cast<std::size_t>(fit.columns), -1);
    for (Index column = 0, place = start; column < fit.columns; ++column)
        if (!leftOut[static_cast<std::size_t>(column)]) {
            fit.kept.push_back(static_cast<std::size_t>(column));
            placeOf[static_cast<std::size_t>(column)] = place++;
        }
    TriangularFactor::Levels parts;
    std::vector<Index> rows;
    for (Index level = 0; level < levels(); ++level) {
        const std::vector<Index> own = present(level);
        for (const Index slot : own) {
            parts.places.push_back(placeOf[static_cast<std::size_t>(m_levels->column(level, slot))]);
            parts.firsts.push_back(slot == own[0] ? static_cast<Index>(rows.size()) : parts.firsts.back());
            rows.push_back(level * perLevel() + slot);
        }
    }
    parts.own = MatrixXd::Zero(parts.count(), perLevel());
    for (Index d = 0; d < parts.count(); ++d) {
        const Index row = rows[static_cast<std::size_t>(d)];
        for (Index k = d; k < parts.end(parts.first(d)); ++k)
            parts.own(d, k - d) = m_ownTriangles(row, rows[static_cast<std::size_t>(k)] % perLevel());
    }
    parts.shared = m_shared(rows, kept);
    fit.projections.resize(fit.rank());
    // The response went through the same reflections as the kept columns.
    const Index width = start + m;
    MatrixXd work(m_left.rows(), static_cast<Index>(kept.size()) + 1);
    work.leftCols(work.cols() - 1) = m_left(Eigen::all, kept);
    work.col(work.cols() - 1) = m_left.col(width);
    const MatrixXd last = triangle(work, m_progress);
    const auto rank = static_cast<Index>(kept.size());
    fit.projections << VectorXd(m_shared.col(width)(rows)), VectorXd(last.col(rank).head(rank));
    fit.factor = TriangularFactor(std::move(parts), last.topLeftCorner(rank, rank));
}

} // namespace oxgoad
