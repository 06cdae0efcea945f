#include "base/not_a_number.h"
#include "base/parallel.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "look/ranking.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Squared correlation, or the adjusted squared correlation ratio of a factor.
double alone(const Eigen::VectorXd& x, const Eigen::VectorXd& y, std::size_t levels) {
    const auto n = static_cast<double>(y.size());
    const double mean = y.mean();
    const double total = (y.array() - mean).square().sum();
    if (!(total > 0)) return nan;
    if (levels == 0) {
        const Eigen::VectorXd z = standardised(x);
        const double with = z.dot(Eigen::VectorXd(y.array() - mean));
        return with * with / n / total;
    }
    std::vector<double> sums(levels, 0), counts(levels, 0);
    for (Eigen::Index i = 0; i < y.size(); ++i) {
        const auto level = static_cast<std::size_t>(x[i]);
        sums[level] += y[i] - mean;
        ++counts[level];
    }
    double between = 0, used = 0;
    for (std::size_t l = 0; l < levels; ++l)
        if (counts[l] > 0) {
            between += sums[l] * sums[l] / counts[l];
            ++used;
        }
    if (!(n - used > 0)) return nan;
    return 1 - (total - between) / (n - used) / (total / (n - 1));
}

/// Whether y is the same wherever x is, over at least as many repeats as a third of the rows.
bool plainFunction(const Eigen::VectorXd& x, const Eigen::VectorXd& y) {
    std::vector<Eigen::Index> order(static_cast<std::size_t>(x.size()));
    for (std::size_t i = 0; i < order.size(); ++i)
        order[i] = static_cast<Eigen::Index>(i);
    std::sort(order.begin(), order.end(), [&](Eigen::Index a, Eigen::Index b) { return x[a] < x[b]; });
    std::size_t repeats = 0;
    for (std::size_t i = 1; i < order.size(); ++i) {
        if (x[order[i]] != x[order[i - 1]]) continue;
        if (y[order[i]] != y[order[i - 1]]) return false;
        ++repeats;
    }
    const std::size_t distinct = order.size() - repeats;
    return 3 * repeats >= order.size() && distinct > 2;
}

} // namespace

void checkGoodColumn(const CheckContext& context, Findings& findings) {
    const std::string name = "suspiciously good column";
    const std::string source = "common practice, no source; rank correlation: Spearman 1904";
    const auto& inputs = context.inputs.inputs();
    const Eigen::Map<const Eigen::VectorXd> y(context.working.data(),
                                              static_cast<Eigen::Index>(context.working.size()));
    if (inputs.empty() || y.size() < 5) {
        findings.readings.push_back(
            noReading(name, inputs.empty() ? "no column is in the model" : "fewer than five learning rows"));
        return;
    }
    // Ranks and repeats are looked for on evenly spaced rows when there are many.
    constexpr Eigen::Index many = 10000;
    const Eigen::Index m = std::min(many, y.size());
    const auto thinned = [&](const Eigen::VectorXd& values) {
        Eigen::VectorXd few(m);
        for (Eigen::Index i = 0; i < m; ++i)
            few[i] = values[i * y.size() / m];
        return few;
    };
    const Eigen::VectorXd fewY = thinned(y);
    const std::vector<double> ranks =
        ranksOf(std::span<const double>(fewY.data(), static_cast<std::size_t>(m)));
    const Eigen::Map<const Eigen::VectorXd> rankY(ranks.data(), m);
    struct Alone {
        double share = nan;
        std::string how;
    };
    std::vector<Alone> found(inputs.size());
    parallelFor(inputs.size(), context.threads, [&](std::size_t i) {
        stopIfTold(*context.progress);
        const Eigen::VectorXd x = inputValues(context, i);
        if (!x.allFinite()) return; // of a column with gaps nothing is said here
        const Eigen::VectorXd fewX = thinned(x);
        Alone& each = found[i];
        each = {alone(x, y, inputs[i].factor ? inputs[i].levels.size() : 0),
                inputs[i].factor ? "its level means" : "a straight line"};
        if (!inputs[i].factor) {
            const std::vector<double> ranksX =
                ranksOf(std::span<const double>(fewX.data(), static_cast<std::size_t>(m)));
            const double monotone = alone(Eigen::Map<const Eigen::VectorXd>(ranksX.data(), m), rankY, 0);
            if (monotone > each.share && monotone > 0.999)
                each = {monotone, "rising or falling with it alone (ranks)"};
        }
        if (plainFunction(fewX, fewY)) each = {1, "its value: the response is the same wherever it is"};
    });
    double best = -1;
    std::string column, how;
    for (std::size_t i = 0; i < inputs.size(); ++i)
        if (found[i].share > best) {
            best = found[i].share;
            column = inputs[i].name;
            how = found[i].how;
        }
    if (best < 0) {
        findings.readings.push_back(noReading(name, "no column says anything alone"));
        return;
    }
    const double limit = context.limitOf(name, 0.98);
    findings.readings.push_back(
        madeReading(name, best, limit, {},
                    column + ": the share of the response's variance that " + how + " says", source));
    if (!(best > limit)) return;
    Goad goad;
    goad.key = name + ": " + column;
    goad.check = name;
    goad.severity = Severity::alarm;
    goad.title = column + " says nearly all of the response alone";
    goad.reading = readableText(100 * best, 4) + " % of the variance by " + how +
                   "; often such a column was computed from the response, or is known only after it";
    goad.threshold = percentText(limit);
    goad.source = source;
    goad.station = "look";
    goad.column = column;
    goad.size = best;
    goad.moves.push_back(seeColumn());
    for (const Term& term : context.terms)
        if (term.parts.size() == 1 && term.parts[0].column == column) {
            goad.moves.push_back(leaveOutTerm(termName(term)));
            break;
        }
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
