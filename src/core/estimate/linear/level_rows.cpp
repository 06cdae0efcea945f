#include "estimate/linear/level_rows.h"

#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr Index levelBatchRows = 8192;

/// Takes 1 (times the roots of the weights) out of rows by one reflection: the first of them becomes what
/// their columns share with it, the others what is left. The length of the roots.
double takeOne(Eigen::Ref<MatrixXd> rows, const VectorXd& roots) {
    const double length = roots.norm();
    if (length == 0) return 0;
    VectorXd v = roots;
    v[0] += length;                           // roots are not below 0: nothing cancels
    const double scale = 1 / (length * v[0]); // 2/v'v
    const Eigen::RowVectorXd along = scale * (v.transpose() * rows);
    rows.noalias() -= v * along;
    rows.row(0) *= -1;
    return length;
}

} // namespace

std::shared_ptr<const RowLevels> LevelRows::worthwhile(const RowSource& x, bool any) {
    constexpr Index fewest = 16;
    const Index n = x.rows(), p = x.columns();
    if (!any && n < 4096 && p <= mostTogether) return nullptr;
    auto levels = x.levels();
    if (!levels || any) return levels;
    if (static_cast<Index>(levels->columns.size()) < fewest) return nullptr;
    const auto columns = static_cast<double>(p);
    const double together = p > mostTogether ? 0 : columns * columns * columns;
    return 2 * (costOf(*levels, n) + together) < static_cast<double>(n) * columns * columns ? levels
                                                                                            : nullptr;
}

double LevelRows::costOf(const RowLevels& levels, Index rows) {
    constexpr double mostValues = 5e8;
    const auto n = static_cast<double>(rows), width = static_cast<double>(levels.rest.size()) + 2;
    return n * width > mostValues ? std::numeric_limits<double>::infinity() : n * width * width;
}

LevelRows::LevelRows(std::shared_ptr<const RowLevels> levels, std::span<const double> y,
                     std::span<const double> weights, Threads threads, Progress& progress)
    : m_levels(std::move(levels)), m_weights(weights), m_threads(threads), m_progress(progress),
      m_order(y.size()), m_begin(m_levels->columns.size() + 2, 0), m_without(m_levels->columns.size(), 0) {
    const auto n = static_cast<Index>(y.size());
    for (const auto level : m_levels->of)
        ++m_begin[level + 1];
    for (std::size_t l = 1; l < m_begin.size(); ++l)
        m_begin[l] += m_begin[l - 1];
    auto next = m_begin;
    for (std::size_t i = 0; i < y.size(); ++i)
        m_order[next[m_levels->of[i]]++] = static_cast<std::uint32_t>(i);

    m_values.resize(n, rest() + 1);
    if (!weights.empty()) m_roots.resize(n);
    parallelFor(static_cast<std::size_t>((n + levelBatchRows - 1) / levelBatchRows), threads,
                [&](std::size_t b) {
                    progress.checkpoint(0.05, "Sorting rows by their levels");
                    const Index from = static_cast<Index>(b) * levelBatchRows,
                                count = std::min(levelBatchRows, n - from);
                    const std::span places(m_order.data() + from, static_cast<std::size_t>(count));
                    m_levels->fill(places, m_values.block(from, 0, count, rest()));
                    for (Index i = 0; i < count; ++i) {
                        const auto place = places[static_cast<std::size_t>(i)];
                        m_values(from + i, rest()) = y[place];
                        if (!weights.empty()) m_roots[from + i] = std::sqrt(weights[place]);
                    }
                });
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

template <class Each>
void LevelRows::forBatches(double from, double to, const char* what, Each&& each) const {
    const auto all = batches();
    std::atomic<std::size_t> done{0};
    parallelFor(all.size(), m_threads, [&](std::size_t b) {
        m_progress.checkpoint(
            from + (to - from) * static_cast<double>(done) / static_cast<double>(all.size()), what);
        each(b, all[b]);
        ++done;
    });
}

template <class Each> void LevelRows::forLevels(const Batch& batch, Each&& each) const {
    for (Index level = batch.firstLevel; level < batch.lastLevel; ++level) {
        const Index first = std::max(begin(level), batch.from), last = std::min(begin(level + 1), batch.to);
        if (first < last) each(level, first - batch.from, last - first);
    }
}

LevelRows::Extent LevelRows::extent() const {
    const Index m = rest();
    const auto p = levels() + m;
    const auto count = batches().size();
    std::vector<std::vector<long double>> sums(count);
    std::vector<VectorXd> lows(count), highs(count);
    std::vector<std::vector<std::pair<Index, long double>>> weights(count); // of levels
    forBatches(0.05, 0.1, "Centring columns", [&](std::size_t b, const Batch& batch) {
        const auto rows = m_values.middleRows(batch.from, batch.to - batch.from);
        lows[b] = rows.colwise().minCoeff();
        highs[b] = rows.colwise().maxCoeff();
        sums[b].assign(static_cast<std::size_t>(m + 1), 0);
        for (Index j = 0; j <= m; ++j) {
            long double& sum = sums[b][static_cast<std::size_t>(j)];
            if (m_weights.empty())
                for (Index i = 0; i < rows.rows(); ++i)
                    sum += rows(i, j);
            else
                for (Index i = 0; i < rows.rows(); ++i)
                    sum += static_cast<long double>(weight(batch.from + i)) * rows(i, j);
        }
        forLevels(batch, [&](Index level, Index first, Index rowCount) {
            long double sum = 0;
            for (Index i = first; i < first + rowCount; ++i)
                sum += weight(batch.from + i);
            weights[b].emplace_back(level, sum);
        });
    });
    Extent extent{std::vector<long double>(static_cast<std::size_t>(p + 1), 0), VectorXd::Zero(p + 1),
                  VectorXd::Ones(p + 1)};
    for (Index j = 0; j <= m; ++j) {
        const Index at = j == m ? p : m_levels->rest[static_cast<std::size_t>(j)];
        extent.low[at] = INFINITY;
        extent.high[at] = -INFINITY;
        for (std::size_t b = 0; b < count; ++b) {
            extent.sum[static_cast<std::size_t>(at)] += sums[b][static_cast<std::size_t>(j)];
            extent.low[at] = std::min(extent.low[at], lows[b][j]);
            extent.high[at] = std::max(extent.high[at], highs[b][j]);
        }
    }
    for (const auto& part : weights)
        for (const auto& [level, sum] : part)
            if (level < levels())
                extent.sum[static_cast<std::size_t>(m_levels->columns[static_cast<std::size_t>(level)])] +=
                    sum;
    const auto n = static_cast<Index>(m_order.size());
    for (Index level = 0; level < levels(); ++level) {
        const Index at = m_levels->columns[static_cast<std::size_t>(level)];
        if (begin(level) == begin(level + 1)) extent.high[at] = 0;
        if (begin(level + 1) - begin(level) == n) extent.low[at] = 1;
    }
    return extent;
}

MatrixXd LevelRows::shiftedRest(const LeastSquaresFit& fit, Index from, Index count) const {
    MatrixXd values(count, rest());
    for (Index j = 0; j < rest(); ++j) {
        const Index at = m_levels->rest[static_cast<std::size_t>(j)];
        values.col(j) = (m_values.col(j).segment(from, count).array() - fit.shift[at]) * fit.scale[at];
    }
    return values;
}

void LevelRows::reduce(const LeastSquaresFit& fit) {
    const Index start = fit.intercept ? 1 : 0, m = rest(), width = start + m + 1;
    struct Part {
        Index level;
        double length;
        Eigen::RowVectorXd shared;
    };
    const auto count = batches().size();
    std::vector<std::vector<Part>> parts(count);
    std::vector<MatrixXd> lefts(count);
    forBatches(0.1, 0.5, "Reducing rows", [&](std::size_t b, const Batch& batch) {
        const Index rows = batch.to - batch.from;
        MatrixXd block(rows, width);
        VectorXd roots = VectorXd::Ones(rows);
        if (m_roots.size() > 0) roots = m_roots.segment(batch.from, rows);
        if (start > 0) block.col(0) = roots;
        block.middleCols(start, m) = shiftedRest(fit, batch.from, rows);
        block.col(width - 1) =
            (m_values.col(m).segment(batch.from, rows).array() - fit.responseShift) * fit.responseScale;
        if (m_roots.size() > 0) block.rightCols(m + 1).array().colwise() *= roots.array();
        forLevels(batch, [&](Index level, Index first, Index n) {
            if (level == levels() || m_without[static_cast<std::size_t>(level)]) return;
            auto own = block.block(first, start, n, m + 1);
            const double length = takeOne(own, roots.segment(first, n));
            if (length == 0) return;
            Part part{level, length, Eigen::RowVectorXd(width)};
            if (start > 0) part.shared[0] = length;
            part.shared.tail(m + 1) = own.row(0);
            parts[b].push_back(std::move(part));
            own.row(0).setZero();
            if (start > 0) block.col(0).segment(first, n).setZero();
        });
        lefts[b] = triangle(block, m_progress);
    });
    m_lengths = VectorXd::Zero(levels());
    m_shared = MatrixXd::Zero(levels(), width);
    std::vector<Eigen::RowVectorXd> more; // what parts of one level leave beside each other
    for (auto& ofBatch : parts)
        for (Part& part : ofBatch) {
            double& length = m_lengths[part.level];
            auto shared = m_shared.row(part.level);
            if (length == 0) {
                length = part.length;
                shared = part.shared;
                continue;
            }
            const double both = std::hypot(length, part.length), c = length / both, s = part.length / both;
            Eigen::RowVectorXd left = c * part.shared - s * shared;
            if (start > 0) left[0] = 0; // exactly
            more.push_back(std::move(left));
            shared = (c * shared + s * part.shared).eval();
            length = both;
            if (start > 0) shared[0] = both;
        }
    MatrixXd total = MatrixXd::Zero(static_cast<Index>(more.size()), width);
    for (std::size_t i = 0; i < more.size(); ++i)
        total.row(static_cast<Index>(i)) = more[i];
    for (const MatrixXd& left : lefts) {
        MatrixXd stacked(total.rows() + left.rows(), width);
        stacked << total, left;
        total = triangle(stacked, m_progress);
    }
    m_left = std::move(total);
}

MatrixXd LevelRows::reduceWhole(const LeastSquaresFit& fit) {
    reduce(fit);
    const Index start = fit.intercept ? 1 : 0, m = rest(), width = start + m + 1,
                all = start + levels() + m + 1;
    MatrixXd rows = MatrixXd::Zero(levels() + width, all);
    const auto put = [&](Index row, const Eigen::RowVectorXd& shared, Index level) {
        if (start > 0) rows(row, 0) = shared[0];
        for (Index l = 0; l < levels(); ++l) {
            const Index at = m_levels->columns[static_cast<std::size_t>(l)];
            const double one = l == level ? m_lengths[l] : 0;
            rows(row, start + at) = fit.scale[at] * (one - (start > 0 ? fit.shift[at] * shared[0] : 0));
        }
        for (Index j = 0; j < m; ++j)
            rows(row, start + m_levels->rest[static_cast<std::size_t>(j)]) = shared[start + j];
        rows(row, all - 1) = shared[width - 1];
    };
    for (Index l = 0; l < levels(); ++l)
        put(l, m_shared.row(l), l);
    for (Index i = 0; i < width; ++i)
        put(levels() + i, m_left.row(i), -1);
    return triangle(rows, m_progress);
}

LevelRows::Spread LevelRows::spread(const LeastSquaresFit& fit, const Extended& solution) const {
    const Index start = fit.intercept ? 1 : 0;
    Extended byColumn = Extended::Zero(fit.columns);
    long double constant = start > 0 ? solution[0] : 0;
    for (std::size_t k = 0; k < fit.kept.size(); ++k)
        byColumn[static_cast<Index>(fit.kept[k])] = solution[start + static_cast<Index>(k)];
    // Levels' columns are shifted where they stand in one triangle.
    Spread made{Extended::Zero(levels() + 1), Extended::Zero(rest())};
    for (const Index at : m_levels->columns)
        constant -= byColumn[at] * fit.shift[at] * static_cast<long double>(fit.scale[at]);
    for (Index l = 0; l <= levels(); ++l) {
        made.ofLevel[l] = constant;
        if (l == levels()) break;
        const Index at = m_levels->columns[static_cast<std::size_t>(l)];
        made.ofLevel[l] += byColumn[at] * static_cast<long double>(fit.scale[at]);
    }
    for (Index j = 0; j < rest(); ++j)
        made.ofRest[j] = byColumn[m_levels->rest[static_cast<std::size_t>(j)]];
    return made;
}

VectorXd LevelRows::crossProducts(const LeastSquaresFit& fit, const Extended& solution, bool careful) const {
    const Spread b = spread(fit, solution);
    const Index m = rest();
    const VectorXd ofRest = b.ofRest.cast<double>();
    const auto count = batches().size();
    std::vector<Extended> ofRows(count);
    std::vector<std::vector<std::pair<Index, long double>>> ofLevels(count);
    forBatches(0.6, 0.8, "Refining", [&](std::size_t batchAt, const Batch& batch) {
        const Index rows = batch.to - batch.from;
        Extended residuals(rows), sums = Extended::Zero(m);
        if (careful) {
            const long double shift = fit.responseShift, scale = fit.responseScale;
            residuals =
                (m_values.col(m).segment(batch.from, rows).cast<long double>().array() - shift) * scale;
            const auto column = [&](Index j) {
                const Index at = m_levels->rest[static_cast<std::size_t>(j)];
                return ((m_values.col(j).segment(batch.from, rows).cast<long double>().array() -
                         static_cast<long double>(fit.shift[at])) *
                        static_cast<long double>(fit.scale[at]))
                    .matrix();
            };
            for (Index j = 0; j < m; ++j)
                if (b.ofRest[j] != 0) residuals -= b.ofRest[j] * column(j);
            forLevels(batch, [&](Index level, Index first, Index n) {
                residuals.segment(first, n).array() -= b.ofLevel[level];
            });
            for (Index i = 0; i < rows; ++i)
                residuals[i] *= weight(batch.from + i);
            for (Index j = 0; j < m; ++j)
                sums[j] = residuals.dot(column(j));
        } else {
            const MatrixXd values = shiftedRest(fit, batch.from, rows);
            VectorXd r =
                (m_values.col(m).segment(batch.from, rows).array() - fit.responseShift) * fit.responseScale;
            r.noalias() -= values * ofRest;
            forLevels(batch, [&](Index level, Index first, Index n) {
                r.segment(first, n).array() -= static_cast<double>(b.ofLevel[level]);
            });
            if (m_roots.size() > 0) r.array() *= m_roots.segment(batch.from, rows).array().square();
            const VectorXd products = values.transpose() * r;
            sums = products.cast<long double>();
            residuals = r.cast<long double>();
        }
        forLevels(batch, [&](Index level, Index first, Index n) {
            ofLevels[batchAt].emplace_back(level, residuals.segment(first, n).sum());
        });
        ofRows[batchAt] = std::move(sums);
    });
    Extended byColumn = Extended::Zero(fit.columns);
    long double all = 0;
    for (std::size_t k = 0; k < count; ++k) {
        for (Index j = 0; j < m; ++j)
            byColumn[m_levels->rest[static_cast<std::size_t>(j)]] += ofRows[k][j];
        for (const auto& [level, sum] : ofLevels[k]) {
            all += sum;
            if (level < levels()) byColumn[m_levels->columns[static_cast<std::size_t>(level)]] += sum;
        }
    }
    for (const Index at : m_levels->columns)
        byColumn[at] = (byColumn[at] - fit.shift[at] * all) * static_cast<long double>(fit.scale[at]);
    const Index start = fit.intercept ? 1 : 0;
    VectorXd products(fit.rank());
    if (start > 0) products[0] = static_cast<double>(all);
    for (std::size_t k = 0; k < fit.kept.size(); ++k)
        products[start + static_cast<Index>(k)] =
            static_cast<double>(byColumn[static_cast<Index>(fit.kept[k])]);
    return products;
}

std::vector<Index> LevelRows::independent(const LeastSquaresFit& fit) const {
    const Index start = fit.intercept ? 1 : 0, width = start + rest();
    if (width == 0) return {};
    MatrixXd unit = m_left.leftCols(width);
    for (Index j = 0; j < width; ++j)
        if (const double whole = std::hypot(unit.col(j).norm(), m_shared.col(j).norm()); whole > 0)
            unit.col(j) /= whole;
    const Eigen::ColPivHouseholderQR<MatrixXd> qr(unit);
    const Index count = std::min(width, fit.rank() - (m_lengths.array() > 0).count());
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
        if (m_progress.stopRequested()) throw Stopped{};
        if (out[static_cast<std::size_t>(j)]) continue;
        const double whole = std::hypot(work.col(j).norm(), m_shared.col(j).norm());
        const double left = work.col(j).tail(work.rows() - rank).norm();
        if (left > fit.rankToleranceUsed * whole) {
            reflect(work, rank, j);
            work.col(j).tail(work.rows() - rank - 1).setZero();
            kept.push_back(j);
            ++rank;
            continue;
        }
        MatrixXd r(rank, rank);
        MatrixXd shared(levels(), rank);
        for (Index k = 0; k < rank; ++k) {
            r.col(k) = work.col(kept[static_cast<std::size_t>(k)]).head(rank);
            shared.col(k) = m_shared.col(kept[static_cast<std::size_t>(k)]);
        }
        const VectorXd said = r.triangularView<Eigen::Upper>().solve(work.col(j).head(rank));
        const VectorXd ofLevels = m_shared.col(j) - shared * said;
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
        for (Index l = 0; l < levels(); ++l)
            if (m_lengths[l] > 0 && std::fabs(ofLevels[l]) > nothing * whole / std::sqrt(double(levels())))
                null.columns[m_levels->columns[static_cast<std::size_t>(l)]] = -ofLevels[l] / m_lengths[l];
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
    for (Index l = 0; l < levels(); ++l)
        if (m_lengths[l] == 0) leaveOut(m_levels->columns[static_cast<std::size_t>(l)], {0, 0, {}});
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
            const auto level = std::find(m_levels->columns.begin(), m_levels->columns.end(), column);
            if (level != m_levels->columns.end()) {
                m_without[static_cast<std::size_t>(level - m_levels->columns.begin())] = 1;
                again = true;
                continue;
            }
            const auto at = std::find(m_levels->rest.begin(), m_levels->rest.end(), column);
            out[static_cast<std::size_t>(start + (at - m_levels->rest.begin()))] = 1;
        }
        if (again) reduce(fit);
    }
    std::sort(fit.dependent.begin(), fit.dependent.end(),
              [](const Dependency& a, const Dependency& b) { return a.column < b.column; });

    TriangularFactor::Levels parts;
    std::vector<Index> present;
    Index place = start;
    for (Index column = 0, l = 0; column < fit.columns; ++column) {
        const bool isLevel = l < levels() && m_levels->columns[static_cast<std::size_t>(l)] == column;
        if (!leftOut[static_cast<std::size_t>(column)]) {
            fit.kept.push_back(static_cast<std::size_t>(column));
            if (isLevel) {
                parts.places.push_back(place);
                present.push_back(l);
            }
            ++place;
        }
        l += isLevel;
    }
    parts.lengths = m_lengths(present);
    parts.shared = m_shared(present, kept);
    fit.projections.resize(fit.rank());
    // The response went through the same reflections as the kept columns.
    const Index width = start + m;
    MatrixXd work(m_left.rows(), static_cast<Index>(kept.size()) + 1);
    work.leftCols(work.cols() - 1) = m_left(Eigen::all, kept);
    work.col(work.cols() - 1) = m_left.col(width);
    const MatrixXd last = triangle(work, m_progress);
    const auto rank = static_cast<Index>(kept.size());
    fit.projections << VectorXd(m_shared.col(width)(present)), VectorXd(last.col(rank).head(rank));
    fit.factor = TriangularFactor(std::move(parts), last.topLeftCorner(rank, rank));
}

long double LevelRows::finish(LeastSquaresFit& fit, const VectorXd& solution) const {
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
    forBatches(0.8, 1, "Leverages and residuals", [&](std::size_t batchAt, const Batch& batch) {
        const Index rows = batch.to - batch.from;
        const MatrixXd values = shiftedRest(fit, batch.from, rows);
        VectorXd residuals =
            (m_values.col(m).segment(batch.from, rows).array() - fit.responseShift) * fit.responseScale;
        residuals.noalias() -= values * ofRest;
        MatrixXd inside(rows, static_cast<Index>(places.size()));
        for (std::size_t k = 0; k < places.size(); ++k) {
            if (start > 0 && places[k] == 0)
                inside.col(static_cast<Index>(k)).setOnes();
            else
                inside.col(static_cast<Index>(k)) = values.col(places[k] - start);
        }
        VectorXd leverages = VectorXd::Zero(rows);
        forLevels(batch, [&](Index level, Index first, Index n) {
            residuals.segment(first, n).array() -= static_cast<double>(b.ofLevel[level]);
            if (level == levels() || !(m_lengths[level] > 0)) return;
            inside.middleRows(first, n).rowwise() -= shared.row(level) / m_lengths[level];
            leverages.segment(first, n).setConstant(1 / (m_lengths[level] * m_lengths[level]));
        });
        if (inside.size() > 0) own.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(inside);
        for (Index k = 0; k < inside.cols(); ++k)
            leverages += inside.col(k).cwiseAbs2();
        long double sum = 0;
        for (Index i = 0; i < rows; ++i) {
            const double root = m_roots.size() > 0 ? m_roots[batch.from + i] : 1;
            const double weighted = residuals[i] * root;
            sum += static_cast<long double>(weighted) * weighted;
            const auto row = static_cast<Index>(m_order[static_cast<std::size_t>(batch.from + i)]);
            fit.residuals[row] = residuals[i] / fit.responseScale;
            fit.fitted[row] = m_values(batch.from + i, m) - fit.residuals[row];
            fit.leverages[row] = leverages[i] * root * root;
        }
        squares[batchAt] = sum;
    });
    long double total = 0;
    for (const long double s : squares)
        total += s;
    return total;
}

} // namespace oxgoad
