#include "estimate/tree/tree.h"

#include "base/random.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

namespace oxgoad {

namespace {

/// Sums of a stretch of rows about the mean of all, so that their squares keep their digits.
struct Sums {
    double weight = 0, sum = 0;
    void add(double w, double y) { weight += w, sum += w * y; }
    double score() const { return weight > 0 ? sum * sum / weight : 0; }
};

struct Question {
    double gain = -1;
    double below = 0;
    std::vector<std::int32_t> levels{};
    bool missingLeft = false;
};

/// A tie is decided by the order of columns and thresholds, not by rounding.
bool clearlyMore(double gain, double best) {
    return gain > best + 1e-12 * std::fabs(best);
}

class Grower {
public:
    Grower(const TreeRows& rows, std::span<const double> weights, const TreeOrder* order,
           const TreeOptions& options, Threads threads, const Progress& progress)
        : m_rows(rows), m_weights(weights), m_order(order), m_options(options), m_threads(threads),
          m_progress(progress), m_stream(options.seed, "columns of a split") {}

    std::vector<TreeNode> run() {
        center();
        sortRows();
        if (m_lists.back().empty()) return std::move(m_nodes);
        std::vector<Place> open{{0, m_lists.back().size(), TreeNode::none, 0, false}};
        while (!open.empty()) {
            stopIfTold(m_progress);
            const Place place = open.back();
            open.pop_back();
            const std::size_t at = addNode(place);
            if (place.parent != TreeNode::none)
                (place.left ? m_nodes[static_cast<std::size_t>(place.parent)].left
                            : m_nodes[static_cast<std::size_t>(place.parent)].right) =
                    static_cast<std::int32_t>(at);
            const std::size_t middle = split(place, at);
            if (middle == place.begin) continue;
            // The left one is taken first, with all that is below it.
            open.push_back({middle, place.end, static_cast<std::int32_t>(at), place.depth + 1, false});
            open.push_back({place.begin, middle, static_cast<std::int32_t>(at), place.depth + 1, true});
        }
        if (m_options.weakest) cutWeakest();
        return std::move(m_nodes);
    }

private:
    struct Place {
        std::size_t begin, end;
        std::int32_t parent;
        std::size_t depth;
        bool left;
    };

    double weight(std::uint32_t row) const { return m_weights.empty() ? 1 : m_weights[row]; }

    std::vector<std::uint32_t> weighing(const std::vector<std::uint32_t>& list) const {
        std::vector<std::uint32_t> out;
        out.reserve(list.size());
        for (const auto row : list)
            if (weight(row) > 0) out.push_back(row);
        return out;
    }

    void center() {
        long double sum = 0, whole = 0;
        std::vector<std::uint32_t> order;
        if (m_order) {
            order = weighing(m_order->byResponse);
        } else {
            for (std::uint32_t i = 0; i < m_rows.y.size(); ++i)
                if (weight(i) > 0) order.push_back(i);
            std::sort(order.begin(), order.end(), [&](auto a, auto b) {
                return std::pair(m_rows.y[a], weight(a)) < std::pair(m_rows.y[b], weight(b));
            });
        }
        for (const auto i : order) {
            sum += static_cast<long double>(weight(i)) * m_rows.y[i];
            whole += weight(i);
        }
        m_center = order.empty() ? 0 : static_cast<double>(sum / whole);
        m_y.resize(m_rows.y.size());
        for (const auto i : order)
            m_y[i] = m_rows.y[i] - m_center;
        m_lists.resize(m_rows.columns.size() + 1);
        m_lists.back() = std::move(order);
    }

    /// Numbers by value, equal ones by the response: sums then do not hang on the order of the rows.
    void sortRows() {
        const std::vector<std::uint32_t>& base = m_lists.back();
        parallelFor(m_rows.columns.size(), m_threads, [&](std::size_t j) {
            stopIfTold(m_progress);
            if (m_rows.levels[j] > 0) return;
            if (m_order) {
                m_lists[j] = weighing(m_order->byColumn[j]);
                return;
            }
            m_lists[j] = base; // by the response already: a stable sort keeps that
            const std::vector<double>& x = m_rows.columns[j];
            std::stable_sort(m_lists[j].begin(), m_lists[j].end(), [&](auto a, auto b) {
                return x[a] < x[b] || (std::isnan(x[b]) && !std::isnan(x[a]));
            });
        });
        m_side.resize(m_rows.y.size());
    }

    std::size_t addNode(const Place& place) {
        TreeNode node;
        node.parent = place.parent;
        node.rows = place.end - place.begin;
        long double sum = 0, whole = 0;
        for (std::size_t i = place.begin; i < place.end; ++i) {
            const auto row = m_lists.back()[i];
            sum += static_cast<long double>(weight(row)) * m_y[row];
            whole += weight(row);
        }
        const long double mean = sum / whole;
        long double squares = 0;
        for (std::size_t i = place.begin; i < place.end; ++i) {
            const auto row = m_lists.back()[i];
            const long double e = m_y[row] - mean;
            squares += weight(row) * e * e;
        }
        node.weight = static_cast<double>(whole);
        node.mean = m_center + static_cast<double>(mean);
        node.mse = static_cast<double>(squares / whole);
        m_nodes.push_back(std::move(node));
        return m_nodes.size() - 1;
    }

    /// Asks the best question and parts the rows; where the right ones begin, or the begin where nothing is
    /// asked.
    std::size_t split(const Place& place, std::size_t at) {
        const std::size_t n = place.end - place.begin, columns = m_rows.columns.size();
        const double error = m_nodes[at].mse * m_nodes[at].weight;
        const double rootError = m_nodes[0].mse * m_nodes[0].weight;
        if (n < std::max<std::size_t>({2, m_options.smallestSplit, 2 * m_options.smallestLeaf}) ||
            place.depth >= m_options.deepest || !(error > 1e-14 * rootError))
            return place.begin;
        std::vector<Question> best(columns);
        const auto ask = [&](std::size_t j) {
            best[j] = m_rows.levels[j] > 0 ? bestLevels(j, place) : bestThreshold(j, place);
        };
        if (m_options.columnsASplit > 0 && m_options.columnsASplit < columns) {
            // Columns that have no question here do not count.
            m_draw.resize(columns);
            std::iota(m_draw.begin(), m_draw.end(), 0U);
            std::size_t asked = 0;
            for (std::size_t k = 0; k < columns && asked < m_options.columnsASplit; ++k) {
                std::swap(m_draw[k], m_draw[k + m_stream.below(columns - k)]);
                ask(m_draw[k]);
                asked += best[m_draw[k]].gain > 0;
            }
        } else {
            const bool together = n * columns > 20000;
            parallelFor(columns, together ? m_threads : Threads{1}, [&](std::size_t j) {
                stopIfTold(m_progress);
                ask(j);
            });
        }
        std::size_t column = columns;
        double most = std::max(0.0, m_options.leastGain * rootError);
        for (std::size_t j = 0; j < columns; ++j)
            if (best[j].gain > 0 &&
                (column == columns ? best[j].gain >= most : clearlyMore(best[j].gain, most))) {
                column = j;
                most = best[j].gain;
            }
        // What rounding makes of nothing is no gain.
        if (column == columns || !(most > 1e-13 * error)) return place.begin;
        TreeNode& node = m_nodes[at];
        node.input = static_cast<std::int32_t>(column);
        node.gain = most;
        node.below = best[column].below;
        node.levels = std::move(best[column].levels);
        node.missingLeft = best[column].missingLeft;
        return part(place, node);
    }

    std::size_t part(const Place& place, const TreeNode& node) {
        const std::vector<double>& x = m_rows.columns[static_cast<std::size_t>(node.input)];
        const bool factor = m_rows.levels[static_cast<std::size_t>(node.input)] > 0;
        std::size_t left = 0;
        for (std::size_t i = place.begin; i < place.end; ++i) {
            const auto row = m_lists.back()[i];
            m_side[row] = factor               ? std::binary_search(node.levels.begin(), node.levels.end(),
                                                                    static_cast<std::int32_t>(x[row]))
                          : std::isnan(x[row]) ? node.missingLeft
                                               : x[row] < node.below;
            left += m_side[row];
        }
        const std::size_t n = place.end - place.begin;
        parallelFor(m_lists.size(), n * m_lists.size() > 50000 ? m_threads : Threads{1}, [&](std::size_t j) {
            if (m_lists[j].empty()) return;
            std::vector<std::uint32_t> right;
            right.reserve(n - left);
            std::size_t to = place.begin;
            for (std::size_t i = place.begin; i < place.end; ++i) {
                const auto row = m_lists[j][i];
                if (m_side[row])
                    m_lists[j][to++] = row;
                else
                    right.push_back(row);
            }
            std::copy(right.begin(), right.end(), m_lists[j].begin() + static_cast<std::ptrdiff_t>(to));
        });
        return place.begin + left;
    }

    Sums all(const std::vector<std::uint32_t>& list, const Place& place) const {
        Sums sums;
        for (std::size_t i = place.begin; i < place.end; ++i)
            sums.add(weight(list[i]), m_y[list[i]]);
        return sums;
    }

    Question bestThreshold(std::size_t j, const Place& place) const {
        const std::vector<std::uint32_t>& list = m_lists[j];
        const std::vector<double>& x = m_rows.columns[j];
        Question best;
        // Missing ones stand last.
        std::size_t end = place.end;
        if (std::isnan(x[list[end - 1]]))
            end = static_cast<std::size_t>(
                std::partition_point(list.begin() + static_cast<std::ptrdiff_t>(place.begin),
                                     list.begin() + static_cast<std::ptrdiff_t>(end),
                                     [&](auto row) { return !std::isnan(x[row]); }) -
                list.begin());
        const std::size_t missing = place.end - end;
        if (end == place.begin || !(x[list[place.begin]] < x[list[end - 1]])) return best;
        const Sums whole = all(list, place);
        Sums gone, left;
        for (std::size_t i = end; i < place.end; ++i)
            gone.add(weight(list[i]), m_y[list[i]]);
        const std::size_t n = place.end - place.begin;
        for (std::size_t i = place.begin; i + 1 < end; ++i) {
            const auto row = list[i];
            left.add(weight(row), m_y[row]);
            const std::size_t rows = i + 1 - place.begin;
            if (rows + missing < m_options.smallestLeaf) continue;
            if (n - rows < m_options.smallestLeaf) break;
            const double here = x[row], next = x[list[i + 1]];
            if (!(here < next)) continue;
            const auto consider = [&](const Sums& one, std::size_t oneRows, bool missingLeft) {
                if (oneRows < m_options.smallestLeaf || n - oneRows < m_options.smallestLeaf) return;
                const Sums right{whole.weight - one.weight, whole.sum - one.sum};
                const double gain = one.score() + right.score() - whole.score();
                if (!clearlyMore(gain, best.gain)) return;
                best.gain = gain;
                best.below = here + (next - here) / 2;
                if (!(best.below > here)) best.below = next;
                best.missingLeft = missingLeft;
            };
            consider(left, rows, missing == 0 && 2 * rows > n);
            if (missing > 0) consider({left.weight + gone.weight, left.sum + gone.sum}, rows + missing, true);
        }
        return best;
    }

    Question bestLevels(std::size_t j, const Place& place) const {
        const std::vector<std::uint32_t>& list = m_lists.back();
        const std::vector<double>& x = m_rows.columns[j];
        struct Level {
            std::int32_t code;
            std::size_t rows = 0;
            Sums sums{};
        };
        std::vector<std::int32_t> slot(m_rows.levels[j], -1);
        std::vector<Level> levels;
        Sums whole;
        for (std::size_t i = place.begin; i < place.end; ++i) {
            const auto code = static_cast<std::int32_t>(x[list[i]]);
            auto& at = slot[static_cast<std::size_t>(code)];
            if (at < 0) {
                at = static_cast<std::int32_t>(levels.size());
                levels.push_back({code});
            }
            Level& level = levels[static_cast<std::size_t>(at)];
            ++level.rows;
            level.sums.add(weight(list[i]), m_y[list[i]]);
            whole.add(weight(list[i]), m_y[list[i]]);
        }
        Question best;
        if (levels.size() < 2) return best;
        std::sort(levels.begin(), levels.end(), [](const Level& a, const Level& b) {
            const double x1 = a.sums.sum / a.sums.weight, x2 = b.sums.sum / b.sums.weight;
            return x1 != x2 ? x1 < x2 : a.code < b.code;
        });
        Sums left;
        std::size_t rows = 0, most = 0;
        const std::size_t n = place.end - place.begin;
        for (std::size_t k = 0; k + 1 < levels.size(); ++k) {
            left.weight += levels[k].sums.weight, left.sum += levels[k].sums.sum;
            rows += levels[k].rows;
            if (rows < m_options.smallestLeaf || n - rows < m_options.smallestLeaf) continue;
            const Sums right{whole.weight - left.weight, whole.sum - left.sum};
            const double gain = left.score() + right.score() - whole.score();
            if (!clearlyMore(gain, best.gain)) continue;
            best.gain = gain;
            most = k + 1;
        }
        // Levels that no row here has go with most of the rows.
        std::size_t leftRows = 0;
        for (std::size_t k = 0; k < most; ++k) {
            best.levels.push_back(levels[k].code);
            leftRows += levels[k].rows;
        }
        if (most > 0 && 2 * leftRows > n)
            for (std::size_t code = 0; code < slot.size(); ++code)
                if (slot[code] < 0) best.levels.push_back(static_cast<std::int32_t>(code));
        std::sort(best.levels.begin(), best.levels.end());
        return best;
    }

    /// Breiman and others 1984, §3.3: the place whose question takes away least error a leaf is cut first.
    void cutWeakest() {
        const std::size_t n = m_nodes.size();
        const double whole = m_nodes[0].weight;
        std::vector<double> gain(n);
        std::vector<std::size_t> leaves(n, 1), end(n);
        for (std::size_t t = n; t-- > 0;) {
            end[t] = t + 1;
            if (!m_nodes[t].asks()) continue;
            const auto l = static_cast<std::size_t>(m_nodes[t].left),
                       r = static_cast<std::size_t>(m_nodes[t].right);
            gain[t] = m_nodes[t].gain / whole + gain[l] + gain[r];
            leaves[t] = leaves[l] + leaves[r];
            end[t] = end[r];
        }
        const auto link = [&](std::size_t t) {
            return std::pair(gain[t] / static_cast<double>(leaves[t] - 1), t);
        };
        std::set<std::pair<double, std::size_t>> open;
        std::vector<std::uint8_t> in(n);
        for (std::size_t t = 0; t < n; ++t)
            if (m_nodes[t].asks()) open.insert(link(t)), in[t] = 1;
        double complexity = 0;
        while (!open.empty()) {
            stopIfTold(m_progress);
            const auto [least, at] = *open.begin();
            // What rounding alone tells apart is one step.
            if (least > complexity * (1 + 1e-11)) complexity = least;
            for (std::size_t t = at; t < end[at]; ++t)
                if (in[t]) {
                    open.erase(link(t));
                    in[t] = 0;
                    m_nodes[t].cutAt = complexity;
                }
            const double lost = gain[at];
            const std::size_t fewer = leaves[at] - 1;
            gain[at] = 0, leaves[at] = 1;
            for (auto a = m_nodes[at].parent; a != TreeNode::none;
                 a = m_nodes[static_cast<std::size_t>(a)].parent) {
                const auto t = static_cast<std::size_t>(a);
                open.erase(link(t));
                gain[t] = std::max(0.0, gain[t] - lost);
                leaves[t] -= fewer;
                open.insert(link(t));
            }
        }
    }

    const TreeRows& m_rows;
    std::span<const double> m_weights;
    const TreeOrder* m_order;
    const TreeOptions& m_options;
    Threads m_threads;
    const Progress& m_progress;
    RandomStream m_stream;
    std::vector<std::size_t> m_draw;
    double m_center = 0;
    std::vector<double> m_y;
    /// Rows of each place beside each other: by each number, and last by the response.
    std::vector<std::vector<std::uint32_t>> m_lists;
    std::vector<std::uint8_t> m_side;
    std::vector<TreeNode> m_nodes;
};

} // namespace

std::vector<TreeNode> growTree(const TreeRows& rows, const TreeOptions& options, Threads threads,
                               const Progress& progress) {
    TreeOptions sound = options;
    sound.smallestLeaf = std::max<std::size_t>(1, options.smallestLeaf);
    return Grower(rows, rows.weights, nullptr, sound, threads, progress).run();
}

std::vector<TreeNode> growTree(const TreeRows& rows, const TreeOrder& order, std::span<const double> weights,
                               const TreeOptions& options, const Progress& progress) {
    return Grower(rows, weights, &order, options, {1}, progress).run();
}

TreeOrder orderOf(const TreeRows& rows, Threads threads, const Progress& progress) {
    TreeOrder order;
    order.byResponse.resize(rows.y.size());
    std::iota(order.byResponse.begin(), order.byResponse.end(), 0U);
    std::stable_sort(order.byResponse.begin(), order.byResponse.end(),
                     [&](auto a, auto b) { return rows.y[a] < rows.y[b]; });
    order.byColumn.resize(rows.columns.size());
    parallelFor(rows.columns.size(), threads, [&](std::size_t j) {
        stopIfTold(progress);
        if (rows.levels[j] > 0) return;
        const std::vector<double>& x = rows.columns[j];
        order.byColumn[j] = order.byResponse;
        std::stable_sort(order.byColumn[j].begin(), order.byColumn[j].end(), [&](auto a, auto b) {
            return x[a] < x[b] || (std::isnan(x[b]) && !std::isnan(x[a]));
        });
    });
    return order;
}

std::vector<TreeStep> weakestLinks(const std::vector<TreeNode>& nodes) {
    if (nodes.empty()) return {};
    std::vector<double> at;
    for (const TreeNode& node : nodes)
        if (node.asks()) at.push_back(node.cutAt);
    std::sort(at.begin(), at.end());
    at.erase(std::unique(at.begin(), at.end()), at.end());
    std::vector<TreeStep> steps{{0, 0, 0}};
    for (const double complexity : at)
        if (complexity > 0) steps.push_back({complexity, 0, 0});
    // A place is a leaf from the step that cuts it until one that cuts a place above: counted by differences.
    std::vector<double> reached(nodes.size(), INFINITY); // the least complexity of a place above
    std::vector<double> leaves(steps.size() + 1), error(steps.size() + 1);
    const auto stepOf = [&](double complexity) {
        return static_cast<std::size_t>(
            std::lower_bound(steps.begin(), steps.end(), complexity,
                             [](const TreeStep& s, double c) { return s.complexity < c; }) -
            steps.begin());
    };
    for (std::size_t t = 0; t < nodes.size(); ++t) {
        const TreeNode& node = nodes[t];
        if (node.parent != TreeNode::none) {
            const auto above = static_cast<std::size_t>(node.parent);
            reached[t] = std::min(reached[above], nodes[above].cutAt);
        }
        const std::size_t from = node.asks() ? stepOf(node.cutAt) : 0,
                          to = std::isinf(reached[t]) ? steps.size() : stepOf(reached[t]);
        if (from >= to) continue;
        leaves[from] += 1, leaves[to] -= 1;
        error[from] += node.mse * node.weight, error[to] -= node.mse * node.weight;
    }
    double countOf = 0, errorOf = 0;
    for (std::size_t k = 0; k < steps.size(); ++k) {
        countOf += leaves[k], errorOf += error[k];
        steps[k].leaves = static_cast<std::size_t>(std::lround(countOf));
        steps[k].learningMse = std::max(0.0, errorOf) / nodes[0].weight;
    }
    return steps;
}

} // namespace oxgoad
