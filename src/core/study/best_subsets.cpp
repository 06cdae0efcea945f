// Branch and bound over subsets.
#include "estimate/decompositions.h"
#include "study/choose_terms.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;

/// Columns dropped one group after another from a triangular factor (Gatu and Kontoghiorghes 2006,
/// "Branch-and-bound algorithms for computing the best-subset regression models", Journal of Computational
/// and Graphical Statistics 15).
class Search {
public:
    Search(Index first, std::vector<Index> sizes,
           const std::function<bool(const std::vector<std::size_t>&)>& valid, Progress& progress)
        : m_first(first), m_sizes(std::move(sizes)), m_valid(valid), m_progress(progress),
          m_best(static_cast<std::size_t>(std::accumulate(m_sizes.begin(), m_sizes.end(), Index{0})) + 1) {}

    std::vector<Subset> run(const MatrixXd& factor, const std::vector<std::vector<Index>>& groups) {
        std::vector<std::size_t> all(m_sizes.size());
        std::iota(all.begin(), all.end(), std::size_t{0});
        m_columns = groups;
        record({}, residual(factor, {}));
        branch(arrange(factor, all), all, 0);
        return std::move(m_best);
    }

private:
    /// Triangular factor of the leading columns, the groups in order, and y.
    MatrixXd arrange(const MatrixXd& factor, const std::vector<std::size_t>& groups) const {
        Index columns = m_first + 1;
        for (const std::size_t g : groups)
            columns += m_sizes[g];
        MatrixXd work(factor.rows(), columns);
        work.leftCols(m_first) = factor.leftCols(m_first);
        Index at = m_first;
        for (const std::size_t g : groups)
            for (const Index j : m_columns[g])
                work.col(at++) = factor.col(j);
        work.col(at) = factor.col(factor.cols() - 1);
        return triangle(work);
    }
    static MatrixXd triangle(const MatrixXd& work) {
        const Index m = std::min(work.rows(), work.cols());
        MatrixXd r = MatrixXd::Zero(work.cols(), work.cols());
        r.topRows(m) = upperTriangle(work);
        return r;
    }
    double residual(const MatrixXd& factor, const std::vector<std::size_t>& groups) const {
        const MatrixXd r = arrange(factor, groups);
        const Index last = r.cols() - 1;
        return r(last, last) * r(last, last);
    }

    void record(std::vector<std::size_t> groups, double rss) {
        std::size_t columns = 0;
        for (const std::size_t g : groups)
            columns += static_cast<std::size_t>(m_sizes[g]);
        Subset& best = m_best[columns];
        if (best.found && !(rss < best.residualSumOfSquares)) return;
        std::sort(groups.begin(), groups.end());
        if (m_valid && !m_valid(groups)) return;
        best = {rss, std::move(groups), true};
    }

    /// True when some subset with at least `low` and at most `high` columns could be better than what was
    /// found, if it were as good as `bound`.
    bool promising(double bound, Index low, Index high) const {
        for (Index c = low; c <= high; ++c) {
            const Subset& best = m_best[static_cast<std::size_t>(c)];
            if (!best.found || bound < best.residualSumOfSquares) return true;
        }
        return false;
    }

    /// `r`: triangular factor of the groups in order; the first `fixed` stay in every subset below.
    void branch(MatrixXd r, std::vector<std::size_t> groups, std::size_t fixed) {
        if (++m_nodes % 1024 == 0)
            m_progress.checkpoint(1 - std::exp(-static_cast<double>(m_nodes) / 2e6), "Searching subsets");
        sort(r, groups, fixed);
        const Index last = r.cols() - 1;
        // Sums of squares of the leading groups come with the factor.
        std::vector<Index> ends{m_first};
        for (const std::size_t g : groups)
            ends.push_back(ends.back() + m_sizes[g]);
        double rss = r(last, last) * r(last, last);
        const double whole = rss;
        for (std::size_t i = groups.size(); i > fixed; --i) {
            record({groups.begin(), groups.begin() + static_cast<std::ptrdiff_t>(i)}, rss);
            for (Index row = ends[i - 1]; row < ends[i]; ++row)
                rss += r(row, last) * r(row, last);
        }
        for (std::size_t i = fixed; i + 1 < groups.size(); ++i) {
            const Index high = ends.back() - m_first - m_sizes[groups[i]];
            const Index low = ends[i] - m_first;
            if (!promising(whole, low, high)) continue;
            MatrixXd child = drop(r, ends[i], m_sizes[groups[i]]);
            const Index end = child.cols() - 1;
            if (!promising(child(end, end) * child(end, end), low, high)) continue;
            std::vector<std::size_t> fewer = groups;
            fewer.erase(fewer.begin() + static_cast<std::ptrdiff_t>(i));
            branch(std::move(child), std::move(fewer), i);
        }
    }

    /// Groups that cost most when dropped come first, so that the large branches without them are cut.
    void sort(MatrixXd& r, std::vector<std::size_t>& groups, std::size_t fixed) const {
        if (groups.size() - fixed < 5) return;
        std::vector<Index> starts{m_first};
        for (const std::size_t g : groups)
            starts.push_back(starts.back() + m_sizes[g]);
        const Index last = r.cols() - 1;
        const double whole = r(last, last) * r(last, last);
        std::vector<std::pair<double, std::size_t>> worth;
        for (std::size_t i = fixed; i < groups.size(); ++i) {
            const MatrixXd without = drop(r, starts[i], m_sizes[groups[i]]);
            const Index end = without.cols() - 1;
            worth.emplace_back(without(end, end) * without(end, end) - whole, i);
        }
        std::stable_sort(worth.begin(), worth.end(),
                         [](const auto& a, const auto& b) { return a.first > b.first; });
        if (std::is_sorted(worth.begin(), worth.end(),
                           [](const auto& a, const auto& b) { return a.second < b.second; }))
            return;
        std::vector<std::size_t> order(groups.begin(), groups.begin() + static_cast<std::ptrdiff_t>(fixed));
        MatrixXd work(r.rows(), r.cols());
        work.leftCols(starts[fixed]) = r.leftCols(starts[fixed]);
        Index at = starts[fixed];
        for (const auto& [cost, i] : worth) {
            work.middleCols(at, m_sizes[groups[i]]) = r.middleCols(starts[i], m_sizes[groups[i]]);
            at += m_sizes[groups[i]];
            order.push_back(groups[i]);
        }
        work.col(last) = r.col(last);
        const Index head = starts[fixed];
        const MatrixXd tail = triangle(work.bottomRightCorner(r.rows() - head, r.cols() - head));
        work.bottomRightCorner(r.rows() - head, r.cols() - head) = tail;
        r = std::move(work);
        groups = std::move(order);
    }

    /// The factor without some columns, by plane rotations.
    static MatrixXd drop(const MatrixXd& r, Index from, Index count) {
        const Index columns = r.cols() - count;
        MatrixXd out(r.rows(), columns);
        out.leftCols(from) = r.leftCols(from);
        out.rightCols(columns - from) = r.rightCols(columns - from);
        for (Index j = from; j < columns; ++j)
            for (Index i = j + count; i > j; --i) {
                const double a = out(i - 1, j), b = out(i, j);
                if (b == 0) continue;
                const double size = std::hypot(a, b), c = a / size, s = b / size;
                for (Index k = j; k < columns; ++k) {
                    const double above = out(i - 1, k), below = out(i, k);
                    out(i - 1, k) = c * above + s * below;
                    out(i, k) = c * below - s * above;
                }
                out(i, j) = 0;
            }
        return out.topRows(columns);
    }

    Index m_first;
    std::vector<Index> m_sizes;
    const std::function<bool(const std::vector<std::size_t>&)>& m_valid;
    Progress& m_progress;
    std::vector<Subset> m_best;
    std::vector<std::vector<Index>> m_columns;
    std::size_t m_nodes = 0;
};

} // namespace

std::vector<Subset> bestSubsets(const MatrixXd& factor, Index first,
                                const std::vector<std::vector<Index>>& groups,
                                const std::function<bool(const std::vector<std::size_t>&)>& valid,
                                Progress& progress) {
    std::vector<Index> sizes;
    for (const auto& group : groups)
        sizes.push_back(static_cast<Index>(group.size()));
    return Search(first, std::move(sizes), valid, progress).run(factor, groups);
}

} // namespace oxgoad
