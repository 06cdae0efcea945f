#include "base/random.h"
#include "estimate/boosted/boosted.h"
#include "kernels/kernels.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>
#include <optional>

namespace oxgoad {

namespace {

/// Sums of a bin or a leaf: first and second derivatives, rows.
struct Derivatives {
    double g = 0, h = 0, rows = 0;
    Derivatives operator-(const Derivatives& other) const {
        return {g - other.g, h - other.h, rows - other.rows};
    }
    void operator+=(const Derivatives& other) { g += other.g, h += other.h, rows += other.rows; }
};

/// The value below which a share of the weight lies, half way where it falls between two.
double weightedQuantile(std::vector<std::pair<double, double>>& values, double share) {
    std::sort(values.begin(), values.end());
    double whole = 0, passed = 0;
    for (const auto& [value, weight] : values)
        whole += weight;
    for (std::size_t i = 0; i < values.size(); ++i) {
        passed += values[i].second;
        if (passed > share * whole * (1 + 1e-12)) return values[i].first;
        if (passed >= share * whole * (1 - 1e-12) && i + 1 < values.size())
            return (values[i].first + values[i + 1].first) / 2;
    }
    return values.empty() ? 0 : values.back().first;
}

/// The columns in bins. The last bin is that of missing values (of factors: that level).
struct BinnedColumn {
    std::vector<std::uint16_t> bin;
    /// Of numbers: rows below cut[k] are in bin k or before.
    std::vector<double> cuts;
    std::size_t bins = 0;
    bool factor = false, missing = false;
};

BinnedColumn binned(const std::vector<double>& x, std::size_t levels, std::size_t most) {
    BinnedColumn out;
    out.bin.resize(x.size());
    out.factor = levels > 0;
    if (out.factor) {
        out.bins = levels;
        for (std::size_t i = 0; i < x.size(); ++i)
            out.bin[i] = static_cast<std::uint16_t>(x[i]);
        return out;
    }
    std::vector<double> sorted;
    for (const double value : x)
        if (!std::isnan(value)) sorted.push_back(value);
    out.missing = sorted.size() < x.size();
    std::sort(sorted.begin(), sorted.end());
    std::vector<double> distinct = sorted;
    distinct.erase(std::unique(distinct.begin(), distinct.end()), distinct.end());
    const auto between = [](double low, double high) {
        const double middle = low + (high - low) / 2;
        return middle > low ? middle : high;
    };
    if (distinct.size() <= most) {
        for (std::size_t k = 0; k + 1 < distinct.size(); ++k)
            out.cuts.push_back(between(distinct[k], distinct[k + 1]));
    } else {
        for (std::size_t k = 1; k < most; ++k) {
            const auto at = static_cast<std::size_t>(static_cast<double>(k) / static_cast<double>(most) *
                                                     static_cast<double>(sorted.size()));
            const auto next = std::upper_bound(distinct.begin(), distinct.end(), sorted[at]);
            if (next == distinct.end()) break;
            const double cut = between(*(next - 1), *next);
            if (out.cuts.empty() || cut > out.cuts.back()) out.cuts.push_back(cut);
        }
    }
    out.bins = out.cuts.size() + 2; // and the missing ones
    for (std::size_t i = 0; i < x.size(); ++i)
        out.bin[i] = static_cast<std::uint16_t>(
            std::isnan(x[i])
                ? out.bins - 1
                : static_cast<std::size_t>(std::upper_bound(out.cuts.begin(), out.cuts.end(), x[i]) -
                                           out.cuts.begin()));
    return out;
}

struct BoostQuestion {
    double gain = 0;
    std::size_t column = SIZE_MAX;
    /// Of numbers: bins up to this go left.
    std::size_t last = 0;
    bool missingLeft = false;
    std::vector<std::int32_t> levels{};
    Derivatives left{};
};

/// A leaf that may be parted.
struct OpenLeaf {
    std::size_t begin = 0, end = 0, depth = 0;
    Derivatives sums{};
    double low = -INFINITY, high = INFINITY;
    std::vector<double> histogram{};
    BoostQuestion best{};
    /// Of the tree as it grows: children, and the question that it asked.
    std::size_t left = SIZE_MAX, right = SIZE_MAX;
};

class BoostedTreeGrower {
public:
    BoostedTreeGrower(const TreeRows& rows, const Inputs& inputs, const BoostOptions& options,
                      Threads threads, Progress& progress)
        : m_rows(rows), m_inputs(inputs), m_options(options), m_threads(threads), m_progress(progress) {
        m_columns.resize(rows.columns.size());
        parallelFor(m_columns.size(), threads, [&](std::size_t j) {
            stopIfTold(progress);
            m_columns[j] = binned(rows.columns[j], rows.levels[j], options.bins);
        });
        m_offset.push_back(0);
        for (const BinnedColumn& column : m_columns)
            m_offset.push_back(m_offset.back() + column.bins);
        for (std::uint32_t i = 0; i < rows.y.size(); ++i)
            if (weight(i) > 0) m_teaching.push_back(i);
    }

    Boosted run() {
        Boosted out{.trees = TreeSet(m_inputs)};
        out.start = startValue();
        const std::size_t n = m_rows.y.size();
        m_said.assign(n, out.start);
        m_values.resize(4 * n);
        RandomStream stream(m_options.seed, "rows and columns of boosted trees");
        for (std::size_t round = 0; round < m_options.rounds; ++round) {
            if (round % 10 == 0)
                m_progress.checkpoint(static_cast<double>(round) / static_cast<double>(m_options.rounds),
                                      "Round " + std::to_string(round + 1) + " of " +
                                          std::to_string(m_options.rounds));
            derive();
            drawRowsAndColumns(stream);
            if (!growOne(out.trees)) {
                // Nothing is left to be said of these rows; others may be drawn.
                if (m_options.rowShare == 1 && m_options.columnShare == 1) {
                    out.trees.keep(out.trees.trees() - 1);
                    break;
                }
            }
            out.loss.push_back(meanLoss());
            m_progress.course("boosted", static_cast<double>(round + 1),
                              shownLoss(m_options, out.loss.back()), nan);
        }
        return out;
    }

private:
    double weight(std::size_t i) const { return m_rows.weights.empty() ? 1 : m_rows.weights[i]; }
    bool renews() const { return m_options.loss != BoostOptions::Loss::squared; }
    double middleShare() const {
        return m_options.loss == BoostOptions::Loss::quantile ? m_options.share : 0.5;
    }

    double startValue() const {
        std::vector<std::pair<double, double>> values;
        long double sum = 0, whole = 0;
        for (const auto i : m_teaching) {
            values.emplace_back(m_rows.y[i], weight(i));
            sum += static_cast<long double>(weight(i)) * m_rows.y[i];
            whole += weight(i);
        }
        return renews() ? weightedQuantile(values, middleShare()) : static_cast<double>(sum / whole);
    }

    double meanLoss() const {
        long double sum = 0, whole = 0;
        for (const auto i : m_teaching) {
            const double e = m_rows.y[i] - m_said[i], w = weight(i);
            double loss = std::fabs(e);
            if (m_options.loss == BoostOptions::Loss::squared)
                loss = e * e;
            else if (m_options.loss == BoostOptions::Loss::quantile)
                loss = e > 0 ? m_options.share * e : (m_options.share - 1) * e;
            sum += static_cast<long double>(w) * loss;
            whole += w;
        }
        return static_cast<double>(sum / whole);
    }

    /// First and second derivatives of the loss by what is said, times the weight.
    void derive() {
        if (m_options.loss == BoostOptions::Loss::huber) {
            std::vector<std::pair<double, double>> sizes;
            for (const auto i : m_teaching)
                sizes.emplace_back(std::fabs(m_rows.y[i] - m_said[i]), weight(i));
            m_bound = weightedQuantile(sizes, 0.9);
        }
        constexpr std::size_t block = 16384;
        parallelFor((m_teaching.size() + block - 1) / block, m_threads, [&](std::size_t b) {
            for (std::size_t k = b * block; k < std::min(m_teaching.size(), (b + 1) * block); ++k) {
                const auto i = m_teaching[k];
                const double e = m_rows.y[i] - m_said[i], w = weight(i);
                double g = -e;
                switch (m_options.loss) {
                case BoostOptions::Loss::squared:
                    break;
                case BoostOptions::Loss::absolute:
                    g = e > 0 ? -1 : e < 0 ? 1 : 0;
                    break;
                case BoostOptions::Loss::huber:
                    g = -std::clamp(e, -m_bound, m_bound);
                    break;
                case BoostOptions::Loss::quantile:
                    g = e > 0 ? -m_options.share : 1 - m_options.share;
                    break;
                }
                double* to = m_values.data() + 4 * static_cast<std::size_t>(i);
                to[0] = w * g, to[1] = w, to[2] = 1, to[3] = 0;
            }
        });
    }

    void drawRowsAndColumns(RandomStream& stream) {
        if (m_options.rowShare < 1) {
            const auto wanted = std::max<std::size_t>(
                1, static_cast<std::size_t>(m_options.rowShare * static_cast<double>(m_teaching.size())));
            m_drawn = m_teaching;
            for (std::size_t k = 0; k < wanted; ++k)
                std::swap(m_drawn[k], m_drawn[k + stream.below(m_drawn.size() - k)]);
            m_drawn.resize(wanted);
            std::sort(m_drawn.begin(), m_drawn.end());
        } else {
            m_drawn = m_teaching;
        }
        m_asked.resize(m_columns.size());
        std::iota(m_asked.begin(), m_asked.end(), std::size_t{0});
        if (m_options.columnShare < 1) {
            const auto wanted =
                std::max<std::size_t>(1, static_cast<std::size_t>(std::lround(
                                             m_options.columnShare * static_cast<double>(m_columns.size()))));
            for (std::size_t k = 0; k < wanted; ++k)
                std::swap(m_asked[k], m_asked[k + stream.below(m_asked.size() - k)]);
            m_asked.resize(wanted);
            std::sort(m_asked.begin(), m_asked.end());
        }
    }

    double leafValue(const Derivatives& sums, double low, double high) const {
        const double curve = sums.h + m_options.leafPenalty;
        return curve > 0 ? std::clamp(-sums.g / curve, low, high) : std::clamp(0.0, low, high);
    }
    /// By how much the loss falls where the leaf says its value, twice.
    double fall(const Derivatives& sums, double low, double high) const {
        const double value = leafValue(sums, low, high);
        return -(2 * sums.g * value + (sums.h + m_options.leafPenalty) * value * value);
    }

    void fillHistogram(OpenLeaf& leaf) {
        leaf.histogram.assign(4 * m_offset.back(), 0);
        const std::size_t n = leaf.end - leaf.begin;
        m_ordered.resize(4 * n);
        for (std::size_t k = 0; k < n; ++k)
            std::copy_n(m_values.data() + 4 * static_cast<std::size_t>(m_drawn[leaf.begin + k]), 4,
                        m_ordered.data() + 4 * k);
        parallelFor(m_asked.size(), n * m_asked.size() > 200000 ? m_threads : Threads{1}, [&](std::size_t a) {
            const std::size_t j = m_asked[a];
            oxgoad_add_to_bins(m_columns[j].bin.data(), m_drawn.data() + leaf.begin,
                               static_cast<std::ptrdiff_t>(n), m_ordered.data(),
                               leaf.histogram.data() + 4 * m_offset[j]);
        });
    }

    void findBest(OpenLeaf& leaf) const {
        leaf.best = {};
        if (leaf.depth >= m_options.deepest ||
            leaf.sums.rows < static_cast<double>(2 * m_options.smallestLeaf))
            return;
        std::vector<BoostQuestion> found(m_asked.size());
        const double without = fall(leaf.sums, leaf.low, leaf.high);
        // The search is small beside the sums, and quicker than starting threads.
        for (std::size_t a = 0; a < m_asked.size(); ++a)
            found[a] = m_columns[m_asked[a]].factor ? bestOfLevels(leaf, m_asked[a], without)
                                                    : bestOfBins(leaf, m_asked[a], without);
        for (BoostQuestion& each : found)
            if (each.gain > leaf.best.gain * (1 + 1e-12)) leaf.best = std::move(each);
        // What rounding makes of nothing is no gain.
        if (!(leaf.best.gain > 1e-12 * std::max(1e-300, leaf.sums.g * leaf.sums.g / leaf.sums.h + m_floor)))
            leaf.best = {};
    }

    Derivatives binOf(const OpenLeaf& leaf, std::size_t column, std::size_t bin) const {
        const double* at = leaf.histogram.data() + 4 * (m_offset[column] + bin);
        return {at[0], at[1], at[2]};
    }

    /// The gain of a part of a leaf going left; none where a side has too few rows or a direction is broken.
    double gainOf(const OpenLeaf& leaf, const Derivatives& left, std::size_t column, double without) const {
        const auto least = static_cast<double>(m_options.smallestLeaf);
        const Derivatives right = leaf.sums - left;
        if (left.rows < least || right.rows < least) return 0;
        const int way = m_options.direction.empty() ? 0 : m_options.direction[column];
        if (way != 0 &&
            way * (leafValue(right, leaf.low, leaf.high) - leafValue(left, leaf.low, leaf.high)) < 0)
            return 0;
        return fall(left, leaf.low, leaf.high) + fall(right, leaf.low, leaf.high) - without;
    }

    BoostQuestion bestOfBins(const OpenLeaf& leaf, std::size_t j, double without) const {
        BoostQuestion best{.column = j};
        const BinnedColumn& column = m_columns[j];
        const Derivatives gone = binOf(leaf, j, column.bins - 1);
        Derivatives left;
        for (std::size_t b = 0; b < column.cuts.size(); ++b) {
            const Derivatives here = binOf(leaf, j, b);
            if (!(here.rows > 0)) continue; // the same rows on both sides as before
            left += here;
            const auto consider = [&](const Derivatives& one, bool missingLeft) {
                const double gain = gainOf(leaf, one, j, without);
                if (!(gain > best.gain * (1 + 1e-12))) return;
                best.gain = gain;
                best.last = b;
                best.missingLeft = missingLeft;
                best.left = one;
            };
            consider(left, gone.rows == 0 && 2 * left.rows > leaf.sums.rows);
            if (gone.rows > 0) {
                Derivatives with = left;
                with += gone;
                consider(with, true);
            }
        }
        return best;
    }

    BoostQuestion bestOfLevels(const OpenLeaf& leaf, std::size_t j, double without) const {
        BoostQuestion best{.column = j};
        struct Level {
            std::int32_t code;
            Derivatives sums;
        };
        std::vector<Level> levels;
        for (std::size_t b = 0; b < m_columns[j].bins; ++b)
            if (const Derivatives sums = binOf(leaf, j, b); sums.rows > 0)
                levels.push_back({static_cast<std::int32_t>(b), sums});
        if (levels.size() < 2) return best;
        const auto says = [&](const Level& level) {
            return level.sums.g / (level.sums.h + m_options.leafPenalty);
        };
        std::sort(levels.begin(), levels.end(), [&](const Level& a, const Level& b) {
            return says(a) != says(b) ? says(a) < says(b) : a.code < b.code;
        });
        Derivatives left;
        std::size_t most = 0;
        for (std::size_t k = 0; k + 1 < levels.size(); ++k) {
            left += levels[k].sums;
            const double gain = gainOf(leaf, left, j, without);
            if (!(gain > best.gain * (1 + 1e-12))) continue;
            best.gain = gain;
            best.left = left;
            most = k + 1;
        }
        for (std::size_t k = 0; k < most; ++k)
            best.levels.push_back(levels[k].code);
        // Levels that no row here has go with most of the rows.
        if (most > 0 && 2 * best.left.rows > leaf.sums.rows)
            for (std::size_t b = 0; b < m_columns[j].bins; ++b)
                if (!(binOf(leaf, j, b).rows > 0)) best.levels.push_back(static_cast<std::int32_t>(b));
        std::sort(best.levels.begin(), best.levels.end());
        return best;
    }

    /// Rows of a leaf in order, those that go left first; where the right ones begin.
    std::size_t part(const OpenLeaf& leaf) {
        const BoostQuestion& q = leaf.best;
        const BinnedColumn& column = m_columns[q.column];
        std::vector<std::uint8_t> goes(column.bins, 0);
        if (column.factor)
            for (const auto code : q.levels)
                goes[static_cast<std::size_t>(code)] = 1;
        else
            for (std::size_t b = 0; b < column.bins; ++b)
                goes[b] = b + 1 == column.bins ? q.missingLeft : b <= q.last;
        m_right.clear();
        std::size_t to = leaf.begin;
        for (std::size_t k = leaf.begin; k < leaf.end; ++k) {
            const auto row = m_drawn[k];
            if (goes[column.bin[row]])
                m_drawn[to++] = row;
            else
                m_right.push_back(row);
        }
        std::copy(m_right.begin(), m_right.end(), m_drawn.begin() + static_cast<std::ptrdiff_t>(to));
        return to;
    }

    /// False where nothing could be asked.
    bool growOne(TreeSet& trees) {
        std::vector<OpenLeaf> leaves(1);
        OpenLeaf& root = leaves[0];
        root.end = m_drawn.size();
        fillHistogram(root);
        for (std::size_t b = 0; b < m_columns[m_asked[0]].bins; ++b)
            root.sums += binOf(root, m_asked[0], b);
        m_floor = 1e-3 * squares();
        findBest(root);
        std::vector<std::size_t> open{0};
        while (open.size() < m_options.leaves) {
            stopIfTold(m_progress);
            std::size_t at = SIZE_MAX;
            for (const auto k : open)
                if (leaves[k].best.gain > 0 && (at == SIZE_MAX || leaves[k].best.gain > leaves[at].best.gain))
                    at = k;
            if (at == SIZE_MAX) break;
            std::erase(open, at);
            const auto [left, right] = partLeaf(leaves, at);
            open.push_back(left);
            open.push_back(right);
        }
        write(leaves, trees);
        return leaves.size() > 1;
    }

    double squares() const {
        long double sum = 0;
        for (const auto row : m_drawn)
            sum += m_values[4 * static_cast<std::size_t>(row)] * m_values[4 * static_cast<std::size_t>(row)];
        return static_cast<double>(sum / std::max<std::size_t>(1, m_drawn.size()));
    }

    std::pair<std::size_t, std::size_t> partLeaf(std::vector<OpenLeaf>& leaves, std::size_t at) {
        const std::size_t middle = part(leaves[at]);
        OpenLeaf left, right;
        const OpenLeaf& parent = leaves[at];
        left.begin = parent.begin, left.end = right.begin = middle, right.end = parent.end;
        left.depth = right.depth = parent.depth + 1;
        left.sums = parent.best.left;
        right.sums = parent.sums - parent.best.left;
        left.low = right.low = parent.low, left.high = right.high = parent.high;
        if (const int way = m_options.direction.empty() ? 0 : m_options.direction[parent.best.column];
            way != 0) {
            const double between = (leafValue(left.sums, parent.low, parent.high) +
                                    leafValue(right.sums, parent.low, parent.high)) /
                                   2;
            (way > 0 ? left.high : left.low) = between;
            (way > 0 ? right.low : right.high) = between;
        }
        OpenLeaf& smaller = left.end - left.begin <= right.end - right.begin ? left : right;
        OpenLeaf& larger = &smaller == &left ? right : left;
        fillHistogram(smaller);
        larger.histogram = std::move(leaves[at].histogram);
        for (std::size_t k = 0; k < larger.histogram.size(); ++k)
            larger.histogram[k] -= smaller.histogram[k];
        // The counts are whole; what rounding leaves of sums without rows is nothing.
        for (std::size_t k = 0; k < larger.histogram.size(); k += 4)
            if (!(larger.histogram[k + 2] > 0)) larger.histogram[k] = larger.histogram[k + 1] = 0;
        findBest(left);
        findBest(right);
        leaves[at].left = leaves.size();
        leaves[at].right = leaves.size() + 1;
        leaves.push_back(std::move(left));
        leaves.push_back(std::move(right));
        return {leaves.size() - 2, leaves.size() - 1};
    }

    double renewed(const OpenLeaf& leaf) const {
        std::vector<std::pair<double, double>> left;
        left.reserve(leaf.end - leaf.begin);
        for (std::size_t k = leaf.begin; k < leaf.end; ++k) {
            const auto row = m_drawn[k];
            left.emplace_back(m_rows.y[row] - m_said[row], weight(row));
        }
        double value = weightedQuantile(left, middleShare());
        if (m_options.loss == BoostOptions::Loss::huber) {
            double sum = 0, whole = 0;
            for (const auto& [e, w] : left) {
                sum += w * std::clamp(e - value, -m_bound, m_bound);
                whole += w;
            }
            value += sum / whole;
        }
        return std::clamp(value, leaf.low, leaf.high);
    }

    void write(const std::vector<OpenLeaf>& leaves, TreeSet& trees) {
        trees.begin();
        const bool all = m_drawn.size() == m_teaching.size();
        std::vector<std::pair<std::size_t, std::size_t>> open{{0, SIZE_MAX}}; // leaf, place whose right it is
        while (!open.empty()) {
            const auto [at, above] = open.back();
            open.pop_back();
            const OpenLeaf& leaf = leaves[at];
            TreeSet::Node node;
            if (leaf.left == SIZE_MAX) {
                node.value =
                    m_options.rate * (renews() ? renewed(leaf) : leafValue(leaf.sums, leaf.low, leaf.high));
            } else {
                const BinnedColumn& column = m_columns[leaf.best.column];
                node.input = static_cast<std::int32_t>(leaf.best.column);
                node.value = column.factor ? 0 : column.cuts[leaf.best.last];
                node.missingLeft = leaf.best.missingLeft;
                node.unknownLeft = 2 * leaf.best.left.rows > leaf.sums.rows;
                open.emplace_back(leaf.right, trees.places());
                open.emplace_back(leaf.left, SIZE_MAX);
            }
            const std::size_t place = trees.push(node, leaf.best.levels);
            if (above != SIZE_MAX) trees.setRight(above, place);
        }
        // Leaves know their rows; others are led there.
        if (all) {
            std::size_t place = trees.firstOf(trees.trees() - 1);
            std::vector<std::size_t> order{0};
            while (!order.empty()) {
                const OpenLeaf& leaf = leaves[order.back()];
                order.pop_back();
                if (leaf.left == SIZE_MAX) {
                    const double value = trees.nodes()[place].value;
                    for (std::size_t k = leaf.begin; k < leaf.end; ++k)
                        m_said[m_drawn[k]] += value;
                } else {
                    order.push_back(leaf.right);
                    order.push_back(leaf.left);
                }
                ++place;
            }
            return;
        }
        const std::size_t tree = trees.trees() - 1;
        constexpr std::size_t block = 8192;
        parallelFor((m_teaching.size() + block - 1) / block, m_threads, [&](std::size_t b) {
            std::vector<double> row(m_columns.size());
            for (std::size_t k = b * block; k < std::min(m_teaching.size(), (b + 1) * block); ++k) {
                for (std::size_t j = 0; j < row.size(); ++j)
                    row[j] = m_rows.columns[j][m_teaching[k]];
                m_said[m_teaching[k]] += trees.nodes()[trees.leafOf(tree, row.data())].value;
            }
        });
    }

    const TreeRows& m_rows;
    const Inputs& m_inputs;
    const BoostOptions& m_options;
    Threads m_threads;
    Progress& m_progress;
    std::vector<BinnedColumn> m_columns;
    std::vector<std::size_t> m_offset, m_asked;
    std::vector<std::uint32_t> m_teaching, m_drawn, m_right;
    std::vector<double> m_said, m_values, m_ordered;
    double m_bound = 0, m_floor = 0;
};

} // namespace

Boosted boost(const TreeRows& rows, const Inputs& inputs, const BoostOptions& options, Threads threads,
              Progress& progress) {
    return BoostedTreeGrower(rows, inputs, options, threads, progress).run();
}

} // namespace oxgoad
