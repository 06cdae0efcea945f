#include "look/pairs.h"

#include "estimate/products.h"
#include "look/points.h"
#include "look/scaled.h"

#include <Eigen/Core>

#include <algorithm>
#include <atomic>
#include <cmath>

namespace oxgoad {

namespace {

/// A column over the rows in use: numbers scaled and centred about their own mean, 0 where missing.
struct Prepared {
    bool factor = false;
    std::size_t levels = 0;
    std::size_t missing = 0;
    std::vector<double> values;
    std::vector<std::int32_t> codes;
    std::vector<std::uint8_t> present;
    double squares = 0;
};

Prepared prepare(const Column& column, std::span<const std::uint32_t> rows) {
    Prepared p;
    p.factor = column.kind() == ColumnKind::factor;
    const NumberView view(column);
    p.present.resize(rows.size());
    if (p.factor) {
        p.levels = column.levels().size();
        p.codes.resize(rows.size(), -1);
        for (std::size_t k = 0; k < rows.size(); ++k)
            if (std::isfinite(view[rows[k]])) {
                p.codes[k] = static_cast<std::int32_t>(view[rows[k]]);
                p.present[k] = 1;
            } else {
                ++p.missing;
            }
        return p;
    }
    p.values.resize(rows.size());
    double largest = 0;
    for (const auto row : rows)
        if (std::isfinite(view[row])) largest = std::max(largest, std::fabs(view[row]));
    const double scale = powerOfTwoScale(largest);
    double mean = 0, n = 0;
    for (std::size_t k = 0; k < rows.size(); ++k) {
        const double v = view[rows[k]] * scale;
        if (std::isfinite(v)) {
            p.present[k] = 1;
            mean += (v - mean) / ++n;
        } else {
            ++p.missing;
        }
    }
    for (std::size_t k = 0; k < rows.size(); ++k) {
        p.values[k] = p.present[k] != 0 ? view[rows[k]] * scale - mean : 0;
        p.squares += p.values[k] * p.values[k];
    }
    return p;
}

double numbers(const Prepared& a, const Prepared& b, std::size_t& rows) {
    const std::size_t n = a.values.size();
    PairSums sums;
    for (std::size_t k = 0; k < n; ++k)
        if (a.present[k] != 0 && b.present[k] != 0) sums.add(a.values[k], b.values[k]);
    rows = sums.n;
    return sums.correlation();
}

double overLevels(const Prepared& number, const Prepared& factor, std::size_t& rows) {
    struct Level {
        double n = 0, sum = 0;
    };
    std::vector<Level> levels(factor.levels);
    double total = 0, sum = 0, n = 0;
    for (std::size_t k = 0; k < number.values.size(); ++k) {
        if (number.present[k] == 0 || factor.codes[k] < 0) continue;
        Level& level = levels[static_cast<std::size_t>(factor.codes[k])];
        level.n += 1;
        level.sum += number.values[k];
        total += number.values[k] * number.values[k];
        sum += number.values[k];
        n += 1;
    }
    rows = static_cast<std::size_t>(n);
    double between = -sum * sum / n;
    for (const Level& level : levels)
        if (level.n > 0) between += level.sum * level.sum / level.n;
    total -= sum * sum / n;
    return n > 0 && total > 0 ? std::sqrt(std::clamp(between / total, 0.0, 1.0)) : std::nan("");
}

double overTable(const Prepared& a, const Prepared& b, std::size_t& rows) {
    // Levels of both that occur together are few beside all that could: sorted pairs, not a table.
    std::vector<std::uint64_t> cells;
    std::vector<double> left(a.levels, 0.0), right(b.levels, 0.0);
    for (std::size_t k = 0; k < a.codes.size(); ++k) {
        if (a.codes[k] < 0 || b.codes[k] < 0) continue;
        cells.push_back(static_cast<std::uint64_t>(a.codes[k]) * b.levels +
                        static_cast<std::uint64_t>(b.codes[k]));
        left[static_cast<std::size_t>(a.codes[k])] += 1;
        right[static_cast<std::size_t>(b.codes[k])] += 1;
    }
    rows = cells.size();
    const auto n = static_cast<double>(rows);
    double sum = 0;
    auto add = [&](std::uint64_t cell, double count) {
        sum += count * count / (left[cell / b.levels] * right[cell % b.levels]);
    };
    if (a.levels * b.levels <= 4 * cells.size() + 1024) {
        std::vector<double> table(a.levels * b.levels, 0.0);
        for (const auto cell : cells)
            table[cell] += 1;
        for (std::size_t cell = 0; cell < table.size(); ++cell)
            if (table[cell] > 0) add(cell, table[cell]);
    } else {
        std::sort(cells.begin(), cells.end());
        for (std::size_t k = 0; k < cells.size();) {
            std::size_t end = k;
            while (end < cells.size() && cells[end] == cells[k])
                ++end;
            add(cells[k], static_cast<double>(end - k));
            k = end;
        }
    }
    auto used = [](const std::vector<double>& counts) {
        return static_cast<double>(
            std::count_if(counts.begin(), counts.end(), [](double c) { return c > 0; }));
    };
    const double least = std::min(used(left), used(right)) - 1;
    return n > 0 && least > 0 ? std::sqrt(std::clamp((sum - 1) / least, 0.0, 1.0)) : std::nan("");
}

/// Products of all pairs of numbers that lack nothing, a panel of columns at a time. Throws Stopped.
class Products {
public:
    Products(const std::vector<Prepared>& columns, Threads threads, Progress& progress)
        : m_place(columns.size(), none) {
        std::size_t count = 0, rows = 0;
        for (std::size_t c = 0; c < columns.size(); ++c)
            if (isWhole(columns[c])) {
                m_place[c] = count++;
                rows = columns[c].values.size();
            }
        m_values = Eigen::MatrixXd::Zero(static_cast<Index>(count), static_cast<Index>(count));
        constexpr std::size_t panel = 64, chunk = 2048;
        const std::size_t panels = (count + panel - 1) / panel;
        std::vector<std::size_t> whole;
        for (std::size_t c = 0; c < columns.size(); ++c)
            if (m_place[c] != none) whole.push_back(c);
        // Chunks of rows in order, so that the sums are the same on any number of threads.
        const auto load = [&](std::size_t first, std::size_t from, Eigen::MatrixXd& block) {
            for (std::size_t k = 0; k < static_cast<std::size_t>(block.cols()); ++k)
                block.col(static_cast<Index>(k)) = Eigen::Map<const Eigen::VectorXd>(
                    columns[whole[first + k]].values.data() + from, block.rows());
        };
        std::atomic<std::size_t> done{0};
        parallelFor(panels, threads, [&](std::size_t p) {
            const std::size_t first = p * panel, own = std::min(panel, count - first);
            for (std::size_t from = 0; from < rows; from += chunk) {
                const auto length = static_cast<Index>(std::min(chunk, rows - from));
                Eigen::MatrixXd right(length, static_cast<Index>(own));
                load(first, from, right);
                for (std::size_t q = 0; q <= p; ++q) {
                    progress.checkpoint(0.5 * static_cast<double>(done) / static_cast<double>(panels),
                                        "Comparing columns");
                    const std::size_t other = q * panel, width = std::min(panel, count - other);
                    Eigen::MatrixXd left(length, static_cast<Index>(width));
                    load(other, from, left);
                    addProducts(m_values.block(static_cast<Index>(other), static_cast<Index>(first),
                                               static_cast<Index>(width), static_cast<Index>(own)),
                                left, right);
                }
            }
            ++done;
        });
    }

    static bool isWhole(const Prepared& column) { return !column.factor && column.missing == 0; }
    bool has(std::size_t a, std::size_t b) const { return m_place[a] != none && m_place[b] != none; }
    /// a before b.
    double at(std::size_t a, std::size_t b) const {
        return m_values(static_cast<Index>(m_place[a]), static_cast<Index>(m_place[b]));
    }

private:
    using Index = Eigen::Index;
    static constexpr std::size_t none = static_cast<std::size_t>(-1);
    std::vector<std::size_t> m_place;
    Eigen::MatrixXd m_values;
};

/// Average linkage by merging; fills order and group.
void cluster(Pairs& pairs) {
    const std::size_t n = pairs.columns.size();
    struct Cluster {
        std::vector<std::size_t> members;
        std::size_t nearest = 0;
        double distance = 0;
        bool alive = true;
        /// Columns of a group so far: all merges were below the limit.
        bool together = true;
    };
    auto apart = [&](std::size_t a, std::size_t b) {
        const double v = pairs.at(a, b);
        return std::isnan(v) ? 1.0 : 1 - std::fabs(v);
    };
    std::vector<double> distance(n * n);
    for (std::size_t a = 0; a < n; ++a)
        for (std::size_t b = 0; b < n; ++b)
            distance[a * n + b] = apart(a, b);
    std::vector<Cluster> clusters(n);
    for (std::size_t a = 0; a < n; ++a)
        clusters[a].members = {a};
    auto findNearest = [&](std::size_t a) {
        clusters[a].distance = INFINITY;
        for (std::size_t b = 0; b < n; ++b)
            if (b != a && clusters[b].alive && distance[a * n + b] < clusters[a].distance) {
                clusters[a].distance = distance[a * n + b];
                clusters[a].nearest = b;
            }
    };
    for (std::size_t a = 0; a < n; ++a)
        findNearest(a);
    pairs.group.assign(n, 0);
    std::vector<std::vector<std::size_t>> groups;
    for (std::size_t merged = 1; merged < n; ++merged) {
        std::size_t a = n;
        for (std::size_t k = 0; k < n; ++k)
            if (clusters[k].alive && (a == n || clusters[k].distance < clusters[a].distance)) a = k;
        std::size_t b = clusters[a].nearest;
        if (b < a) std::swap(a, b);
        const bool near = distance[a * n + b] < 1 - groupStrength;
        for (const std::size_t side : {a, b})
            if (!near && clusters[side].together && clusters[side].members.size() > 1)
                groups.push_back(clusters[side].members);
        clusters[a].together = near;
        const auto sizeA = static_cast<double>(clusters[a].members.size());
        const auto sizeB = static_cast<double>(clusters[b].members.size());
        clusters[b].alive = false;
        for (std::size_t k = 0; k < n; ++k)
            if (clusters[k].alive && k != a)
                distance[a * n + k] = distance[k * n + a] =
                    (sizeA * distance[a * n + k] + sizeB * distance[b * n + k]) / (sizeA + sizeB);
        clusters[a].members.insert(clusters[a].members.end(), clusters[b].members.begin(),
                                   clusters[b].members.end());
        for (std::size_t k = 0; k < n; ++k)
            if (clusters[k].alive && (k == a || clusters[k].nearest == a || clusters[k].nearest == b))
                findNearest(k);
        if (merged + 1 == n) {
            if (near) groups.push_back(clusters[a].members);
            pairs.order = clusters[a].members;
        }
    }
    if (n == 1) pairs.order = {0};
    // Numbered as they come in the order.
    std::vector<int> groupOf(n, -1);
    for (std::size_t g = 0; g < groups.size(); ++g)
        for (const std::size_t m : groups[g])
            groupOf[m] = static_cast<int>(g);
    std::vector<int> number(groups.size(), 0);
    int next = 0;
    for (const std::size_t c : pairs.order)
        if (groupOf[c] >= 0) {
            auto& given = number[static_cast<std::size_t>(groupOf[c])];
            if (given == 0) given = ++next;
            pairs.group[c] = given;
        }
}

} // namespace

Pairs pairsOf(const Table& table, std::span<const std::uint8_t> used, const std::vector<std::string>& columns,
              Threads threads, Progress& progress) {
    Pairs pairs;
    for (const std::string& name : columns)
        if (table.at(name, {}).kind() != ColumnKind::text) pairs.columns.push_back(name);
    const std::size_t n = pairs.columns.size();
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < table.rows(); ++i)
        if (used.empty() || used[i] != 0) rows.push_back(static_cast<std::uint32_t>(i));
    std::vector<Prepared> prepared(n);
    parallelFor(n, threads,
                [&](std::size_t c) { prepared[c] = prepare(table.at(pairs.columns[c], {}), rows); });
    const Products products(prepared, threads, progress);
    pairs.values.assign(n * n, 1.0);
    std::vector<std::vector<Association>> byColumn(n);
    std::atomic<std::size_t> done{0};
    parallelFor(n, threads, [&](std::size_t a) {
        for (std::size_t b = 0; b < a; ++b) {
            progress.checkpoint(0.5 + 0.5 * static_cast<double>(done) / static_cast<double>(n * (n - 1) / 2),
                                "Comparing columns");
            Association pair{b, a, AssociationKind::correlation, 0, 0};
            const Prepared& p = prepared[a];
            const Prepared& q = prepared[b];
            if (p.factor && q.factor) {
                pair.kind = AssociationKind::cramersV;
                pair.value = overTable(p, q, pair.rows);
            } else if (p.factor || q.factor) {
                pair.kind = AssociationKind::correlationRatio;
                pair.value = p.factor ? overLevels(q, p, pair.rows) : overLevels(p, q, pair.rows);
            } else if (products.has(a, b)) {
                pair.rows = rows.size();
                pair.value = p.squares > 0 && q.squares > 0
                                 ? products.at(b, a) / std::sqrt(p.squares) / std::sqrt(q.squares)
                                 : std::nan("");
            } else {
                pair.value = numbers(p, q, pair.rows);
            }
            byColumn[a].push_back(pair);
            ++done;
        }
    });
    for (const auto& list : byColumn)
        for (const Association& pair : list) {
            pairs.values[pair.a * n + pair.b] = pairs.values[pair.b * n + pair.a] = pair.value;
            pairs.strongest.push_back(pair);
        }
    std::stable_sort(pairs.strongest.begin(), pairs.strongest.end(),
                     [](const Association& x, const Association& y) {
                         const double a = std::isnan(x.value) ? -1 : std::fabs(x.value);
                         const double b = std::isnan(y.value) ? -1 : std::fabs(y.value);
                         return a > b;
                     });
    if (n > 0) cluster(pairs);
    return pairs;
}

} // namespace oxgoad
