#include "look/ranking.h"

#include "estimate/distributions.h"
#include "look/curve.h"
#include "look/points.h"
#include "look/scaled.h"
#include "table/summary.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <mutex>
#include <numeric>

namespace oxgoad {

double RankedColumn::bend() const {
    const double gain = curved - std::max(0.0, straightUnseen);
    return gain > 0 ? gain : 0;
}

std::vector<double> holmAdjusted(std::span<const double> p) {
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < p.size(); ++i)
        if (!std::isnan(p[i])) order.push_back(i);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return p[a] < p[b]; });
    std::vector<double> adjusted(p.size(), std::nan(""));
    double largest = 0;
    for (std::size_t k = 0; k < order.size(); ++k) {
        largest = std::max(largest, std::min(1.0, static_cast<double>(order.size() - k) * p[order[k]]));
        adjusted[order[k]] = largest;
    }
    return adjusted;
}

namespace {

/// Ranks of values that are visited in sorted order; `same(a, b)` tells whether two places hold equal values.
template <class Same, class Each> void rankSorted(std::size_t n, Same&& same, Each&& give) {
    std::size_t begin = 0;
    while (begin < n) {
        std::size_t end = begin + 1;
        while (end < n && same(end, begin))
            ++end;
        const double rank = (static_cast<double>(begin) + static_cast<double>(end) + 1) / 2;
        for (std::size_t k = begin; k < end; ++k)
            give(k, rank);
        begin = end;
    }
}

/// Spearman's correlation of x with numbers whose ranks are known.
double spearman(std::span<const double> x, std::span<const double> yRanks, SortScratch& scratch) {
    const std::span<const std::uint32_t> order = sortedOrder(x, scratch);
    const double middle = (static_cast<double>(x.size()) + 1) / 2;
    double xx = 0, xy = 0, yy = 0;
    // Equal values share the half of the key the sort was made by: most places need no look at the values.
    const auto same = [&](std::size_t a, std::size_t b) {
        return scratch.items[a] >> 32U == scratch.items[b] >> 32U && x[order[a]] == x[order[b]];
    };
    rankSorted(x.size(), same, [&](std::size_t k, double rank) {
        const double a = rank - middle, b = yRanks[order[k]] - middle;
        xx += a * a;
        xy += a * b;
        yy += b * b;
    });
    return xx > 0 && yy > 0 ? xy / std::sqrt(xx * yy) : std::nan("");
}

/// Memory that columns worked out by one thread share, one after the other.
struct Scratch {
    std::vector<double> x, y, yRanks, rankOfClass;
    std::vector<std::int32_t> codes;
    std::vector<std::uint32_t> classes, count;
    SortScratch sorting;
};

/// Pearson's, about means worked out first; four sums side by side.
double correlationOf(std::span<const double> x, double xScale, std::span<const double> y, double yScale) {
    const auto n = static_cast<double>(x.size());
    const std::size_t whole = x.size() / 4 * 4;
    std::array<double, 4> sumX{}, sumY{};
    for (std::size_t i = 0; i < x.size(); ++i) {
        sumX[i % 4] += x[i] * xScale;
        sumY[i % 4] += y[i] * yScale;
    }
    const double meanX = ((sumX[0] + sumX[1]) + (sumX[2] + sumX[3])) / n;
    const double meanY = ((sumY[0] + sumY[1]) + (sumY[2] + sumY[3])) / n;
    std::array<double, 4> xx{}, xy{}, yy{};
    const auto add = [&](std::size_t i, std::size_t lane) {
        const double dx = x[i] * xScale - meanX, dy = y[i] * yScale - meanY;
        xx[lane] += dx * dx;
        xy[lane] += dx * dy;
        yy[lane] += dy * dy;
    };
    for (std::size_t i = 0; i < whole; i += 4)
        for (std::size_t lane = 0; lane < 4; ++lane)
            add(i + lane, lane);
    for (std::size_t i = whole; i < x.size(); ++i)
        add(i, i - whole);
    const auto of = [](const std::array<double, 4>& s) { return (s[0] + s[1]) + (s[2] + s[3]); };
    return of(xx) > 0 && of(yy) > 0 ? of(xy) / std::sqrt(of(xx)) / std::sqrt(of(yy)) : std::nan("");
}

void rankNumber(RankedColumn& r, std::span<const double> x, std::span<const double> y,
                std::span<const double> yRanks, SortScratch& scratch) {
    const double xScale = powerOfTwoScale(x);
    const double yScale = powerOfTwoScale(y);
    const double correlation = correlationOf(x, xScale, y, yScale);
    r.straight = correlation * correlation;
    r.direction = correlation > 0 ? 1 : correlation < 0 ? -1 : 0;
    const double df = static_cast<double>(x.size()) - 2;
    r.p = fisherUpper(r.straight * df / (1 - r.straight), 1, df);
    r.rankCorrelation = spearman(x, yRanks, scratch);
    const CrossValidated unseen = crossValidateCurve(x, y);
    r.straightUnseen = unseen.line;
    r.curved = unseen.curve;
}

void rankFactor(RankedColumn& r, std::span<const std::int32_t> codes, std::size_t levels,
                std::span<const double> y) {
    struct Level {
        double n = 0, sum = 0;
    };
    constexpr std::size_t folds = 10;
    const double scale = powerOfTwoScale(y);
    double mean = 0;
    for (std::size_t i = 0; i < y.size(); ++i)
        mean += (y[i] * scale - mean) / static_cast<double>(i + 1);
    std::vector<Level> all(levels);
    std::vector<Level> held(levels * folds);
    std::vector<Level> fold(folds);
    double total = 0;
    for (std::size_t i = 0; i < y.size(); ++i) {
        const double value = y[i] * scale - mean;
        const auto level = static_cast<std::size_t>(codes[i]);
        const std::size_t f = foldOf(i);
        for (Level* l : {&all[level], &held[level * folds + f], &fold[f]}) {
            l->n += 1;
            l->sum += value;
        }
        total += value * value;
    }
    double between = 0;
    double groups = 0;
    for (const Level& l : all)
        if (l.n > 0) {
            between += l.sum * l.sum / l.n;
            groups += 1;
        }
    const auto n = static_cast<double>(y.size());
    if (!(total > 0)) return;
    r.straight = std::min(1.0, between / total);
    r.p = groups > 1 ? fisherUpper((between / (groups - 1)) / (std::max(0.0, total - between) / (n - groups)),
                                   groups - 1, n - groups)
                     : std::nan("");
    if (y.size() < 2 * folds || groups < 2) return;
    double error = 0, base = 0;
    for (std::size_t i = 0; i < y.size(); ++i) {
        const double value = y[i] * scale - mean;
        const auto level = static_cast<std::size_t>(codes[i]);
        const std::size_t f = foldOf(i);
        const double others = -fold[f].sum / (n - fold[f].n); // y is centred: all sum to 0
        const Level& h = held[level * folds + f];
        const double left = all[level].n - h.n;
        const double predicted = left > 0 ? (all[level].sum - h.sum) / left : others;
        error += (value - predicted) * (value - predicted);
        base += (value - others) * (value - others);
    }
    r.straightUnseen = r.curved = 1 - error / base;
}

} // namespace

std::vector<double> ranksOf(std::span<const double> values) {
    const std::vector<std::uint32_t> order = sortedOrder(values);
    std::vector<double> ranks(values.size());
    rankSorted(
        values.size(), [&](std::size_t a, std::size_t b) { return values[order[a]] == values[order[b]]; },
        [&](std::size_t k, double rank) { ranks[order[k]] = rank; });
    return ranks;
}

std::vector<RankedColumn> rankColumns(const Table& table, std::span<const double> target,
                                      std::span<const std::uint8_t> used,
                                      const std::vector<std::string>& columns, Threads threads,
                                      Progress& progress, const ColumnRanked& ranked) {
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < target.size(); ++i)
        if ((used.empty() || used[i] != 0) && std::isfinite(target[i]))
            rows.push_back(static_cast<std::uint32_t>(i));
    std::vector<double> y;
    y.reserve(rows.size());
    for (const auto row : rows)
        y.push_back(target[row]);
    // The target is sorted once; a column with gaps takes its ranks from the classes of equal targets.
    const std::vector<std::uint32_t> yOrder = sortedOrder(y);
    std::vector<double> yRanks(y.size());
    rankSorted(
        y.size(), [&](std::size_t a, std::size_t b) { return y[yOrder[a]] == y[yOrder[b]]; },
        [&](std::size_t k, double rank) { yRanks[yOrder[k]] = rank; });
    std::vector<std::uint32_t> yClass(y.size());
    std::uint32_t classes = 0;
    for (std::size_t k = 0; k < y.size(); ++k) {
        if (k > 0 && y[yOrder[k]] != y[yOrder[k - 1]]) ++classes;
        yClass[yOrder[k]] = classes;
    }

    std::vector<RankedColumn> results(columns.size());
    std::mutex guard;
    std::atomic<std::size_t> done{0};
    parallelFor(columns.size(), threads, [&](std::size_t c) {
        progress.checkpoint(static_cast<double>(done) / static_cast<double>(columns.size()),
                            "Ranking columns");
        const Column& column = table.at(columns[c], {});
        const double nan = std::nan("");
        RankedColumn& r = results[c];
        r = {column.name(), column.kind(), 0, 0, nan, nan, nan, nan, nan, nan, 0};
        thread_local Scratch scratch;
        const NumberView values(column);
        std::size_t present = 0;
        if (column.kind() != ColumnKind::text) {
            scratch.x.resize(rows.size());
            scratch.y.resize(rows.size());
            scratch.classes.resize(rows.size());
            for (std::size_t k = 0; k < rows.size(); ++k) {
                const double value = values[rows[k]];
                scratch.x[present] = value;
                scratch.y[present] = y[k];
                scratch.classes[present] = yClass[k];
                present += std::isfinite(value) ? 1 : 0;
            }
        }
        r.rows = present;
        r.missingShare =
            rows.empty() ? 0 : 1 - static_cast<double>(r.rows) / static_cast<double>(rows.size());
        const std::span<const double> x(scratch.x.data(), present);
        const std::span<const double> ys(scratch.y.data(), present);
        if (present >= 3 && column.kind() == ColumnKind::factor) {
            scratch.codes.resize(present);
            for (std::size_t k = 0; k < present; ++k)
                scratch.codes[k] = static_cast<std::int32_t>(x[k]);
            rankFactor(r, scratch.codes, column.levels().size(), ys);
        } else if (present >= 3) {
            std::span<const double> ranks = yRanks;
            if (present < rows.size()) {
                // How many of each class of equal targets are there says where its ranks begin.
                scratch.count.assign(classes + 1, 0);
                for (std::size_t k = 0; k < present; ++k)
                    ++scratch.count[scratch.classes[k]];
                scratch.rankOfClass.resize(classes + 1);
                double before = 0;
                for (std::size_t j = 0; j <= classes; ++j) {
                    scratch.rankOfClass[j] = before + (scratch.count[j] + 1) / 2.0;
                    before += scratch.count[j];
                }
                scratch.yRanks.resize(present);
                for (std::size_t k = 0; k < present; ++k)
                    scratch.yRanks[k] = scratch.rankOfClass[scratch.classes[k]];
                ranks = scratch.yRanks;
            }
            rankNumber(r, x, ys, ranks, scratch.sorting);
        }
        ++done;
        if (ranked) {
            const std::lock_guard lock(guard);
            ranked(c, r);
        }
    });
    std::vector<double> p;
    for (const RankedColumn& r : results)
        p.push_back(r.p);
    const std::vector<double> adjusted = holmAdjusted(p);
    for (std::size_t c = 0; c < results.size(); ++c)
        results[c].pAdjusted = adjusted[c];
    return results;
}

} // namespace oxgoad
