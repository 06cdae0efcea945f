#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/decompositions.h"
#include "estimate/distributions.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

constexpr std::size_t mostTimes = 200;
constexpr int draws = 999;
constexpr double trimmed = 0.15;

std::string timeText(const Column& time, double value) {
    if (time.kind() == ColumnKind::date) return dateText(static_cast<std::int32_t>(std::lround(value)));
    return exactText(value);
}

/// Errors by times: bins of one time each, or of as many rows each when there are more times.
struct Times {
    std::vector<double> time;
    std::vector<double> rows;
    /// Z'e, and Z'Z less what the model says of it, for indicators Z of the times.
    Eigen::VectorXd sums;
    Eigen::MatrixXd covariance;
    double squares = 0, df = 0;
    std::size_t missing = 0;
};

Times timesOf(const CheckContext& context, const Column& time) {
    Times out;
    std::vector<std::pair<double, std::uint32_t>> order;
    for (std::uint32_t i = 0; i < context.errorRows.size(); ++i)
        if (const double t = time.asNumber(context.errorRows[i]); std::isfinite(t))
            order.emplace_back(t, i);
        else
            ++out.missing;
    std::sort(order.begin(), order.end());
    std::vector<std::int32_t> bin(context.errorRows.size(), -1);
    std::size_t distinct = 0;
    for (std::size_t k = 0; k < order.size(); ++k)
        distinct += k == 0 || order[k].first != order[k - 1].first;
    const std::size_t wanted = distinct <= mostTimes ? 1 : (order.size() + mostTimes - 1) / mostTimes;
    double inBin = 0, sum = 0;
    const auto close = [&] {
        if (inBin == 0) return;
        out.time.push_back(sum / inBin);
        out.rows.push_back(inBin);
        inBin = sum = 0;
    };
    for (std::size_t k = 0; k < order.size(); ++k) {
        // Rows of one time are never parted.
        if (k > 0 && order[k].first != order[k - 1].first && inBin >= static_cast<double>(wanted)) close();
        bin[order[k].second] = static_cast<std::int32_t>(out.time.size());
        inBin += 1;
        sum += order[k].first;
    }
    close();
    const auto g = static_cast<Eigen::Index>(out.time.size());
    out.sums = Eigen::VectorXd::Zero(g);
    out.covariance = Eigen::MatrixXd::Zero(g, g);
    const bool exact = context.linear && context.kind.leastSquares;
    const auto n = static_cast<Eigen::Index>(context.errors.size());
    const Eigen::MatrixXd constant =
        exact ? Eigen::MatrixXd() : Eigen::MatrixXd::Constant(n, 1, 1 / std::sqrt(static_cast<double>(n)));
    const Eigen::MatrixXd& q = exact ? context.linear->orthonormal() : constant;
    const std::vector<double> roots = exact ? rootsOfWeights(context) : std::vector<double>();
    const Eigen::MatrixXd w = sumsByGroup(q, bin, out.time.size(), roots, context.threads);
    // Errors that no constant was fitted to are taken about their mean, which is no change.
    double mean = 0;
    for (const double e : context.errors)
        mean += exact ? 0 : e / static_cast<double>(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        const double e = context.errors[static_cast<std::size_t>(i)] - mean;
        out.squares += e * e;
        const auto b = bin[static_cast<std::size_t>(i)];
        if (b < 0) continue;
        // The indicator is times the root of the weight, as q is.
        const double root = roots.empty() ? 1 : roots[static_cast<std::size_t>(i)];
        out.sums[b] += root * e;
        out.covariance(b, b) += root * root;
    }
    out.covariance -= w.transpose() * w;
    out.df = exact ? context.linear->fit.degreesOfFreedom : static_cast<double>(n - 1);
    return out;
}

/// The step and the ramp from one time on: their products with the errors and with each other.
struct Break {
    std::size_t at = 0;
    Eigen::Matrix2d inverse; // of their covariance; of the step alone when the ramp has nothing of its own
    double numeratorDf = 2, stepVariance = 0;
};

std::vector<Break> breaksOf(const Times& times) {
    const auto g = static_cast<Eigen::Index>(times.time.size());
    double all = 0, before = 0;
    for (const double m : times.rows)
        all += m;
    std::vector<Break> breaks;
    const double range = times.time.back() - times.time.front();
    for (Eigen::Index b = 1; b < g; ++b) {
        before += times.rows[static_cast<std::size_t>(b - 1)];
        if (before < trimmed * all || before > (1 - trimmed) * all) continue;
        const Eigen::Index m = g - b;
        Eigen::MatrixXd z(m, 2);
        for (Eigen::Index k = 0; k < m; ++k) {
            z(k, 0) = 1;
            z(k, 1) =
                (times.time[static_cast<std::size_t>(b + k)] - times.time[static_cast<std::size_t>(b)]) /
                range;
        }
        const Eigen::Matrix2d covariance = z.transpose() * times.covariance.bottomRightCorner(m, m) * z;
        Break each;
        each.at = static_cast<std::size_t>(b);
        each.stepVariance = covariance(0, 0);
        const double own = times.rows[static_cast<std::size_t>(b)];
        if (!(covariance(0, 0) > 1e-9 * own)) continue;
        const double left = covariance(1, 1) - covariance(0, 1) * covariance(0, 1) / covariance(0, 0);
        if (left > 1e-9 * covariance(1, 1) && covariance(1, 1) > 0) {
            each.inverse = covariance.inverse();
        } else {
            each.inverse.setZero();
            each.inverse(0, 0) = 1 / covariance(0, 0);
            each.numeratorDf = 1;
        }
        breaks.push_back(each);
    }
    return breaks;
}

struct Largest {
    double wald = 0;
    std::size_t at = 0;
    double stepF = 0;
    std::size_t stepAt = 0;
};

/// The largest Wald statistic over the breaks, for sums by time and the sum of squares of all errors.
Largest largestOver(const std::vector<Break>& breaks, const Times& times, const Eigen::VectorXd& sums,
                    double squares) {
    // Sums from each time on, and the same times the time.
    const auto g = sums.size();
    Eigen::VectorXd level(g), slope(g);
    double s = 0, r = 0;
    for (Eigen::Index b = g - 1; b >= 0; --b) {
        s += sums[b];
        r += sums[b] * times.time[static_cast<std::size_t>(b)];
        level[b] = s;
        slope[b] = r;
    }
    const double range = times.time.back() - times.time.front();
    Largest out;
    for (const Break& each : breaks) {
        const auto b = static_cast<Eigen::Index>(each.at);
        const Eigen::Vector2d u(level[b], (slope[b] - times.time[each.at] * level[b]) / range);
        const double explained = std::max(0.0, u.dot(each.inverse * u));
        const double wald = explained / (std::max(squares - explained, 0.0) / (times.df - each.numeratorDf));
        if (wald > out.wald) {
            out.wald = wald;
            out.at = each.at;
        }
        const double step = u[0] * u[0] / each.stepVariance;
        const double f = step / (std::max(squares - step, 0.0) / (times.df - 1));
        if (f > out.stepF) {
            out.stepF = f;
            out.stepAt = each.at;
        }
    }
    return out;
}

/// Chi-squared of many degrees of freedom by the cube of a normal (Wilson and Hilferty 1931).
double chiSquaredDraw(double df, RandomStream& stream) {
    if (df <= 0) return 0;
    if (df < 40) {
        double sum = 0;
        for (int i = 0; i < static_cast<int>(df); ++i) {
            const double z = stream.normal();
            sum += z * z;
        }
        return sum;
    }
    const double c = 2 / (9 * df);
    return df * std::pow(1 - c + std::sqrt(c) * stream.normal(), 3);
}

/// p of the largest statistic by draws of normal errors: what their sums by time are under these columns is
/// known exactly.
double simulatedP(const std::vector<Break>& breaks, const Times& times, double wald,
                  const CheckContext& context) {
    const SymmetricParts parts = symmetricParts(times.covariance);
    const Eigen::VectorXd& values = parts.values;
    const double smallest = 1e-9 * values.maxCoeff();
    Eigen::Index first = 0;
    while (first < values.size() && values[first] < smallest)
        ++first;
    const Eigen::Index rank = values.size() - first;
    // The symmetric root: what a draw gives does not hang on the signs of the eigenvectors.
    const Eigen::MatrixXd span = parts.vectors.rightCols(rank);
    const Eigen::MatrixXd root = span * values.tail(rank).cwiseSqrt().asDiagonal() * span.transpose();
    std::vector<std::uint8_t> beyond(draws, 0);
    parallelFor(draws, context.threads, [&](std::size_t k) {
        stopIfTold(*context.progress);
        RandomStream stream(k + 1, "change in time");
        Eigen::VectorXd g(values.size());
        for (Eigen::Index i = 0; i < g.size(); ++i)
            g[i] = stream.normal();
        const double squares = (span.transpose() * g).squaredNorm() +
                               chiSquaredDraw(times.df - static_cast<double>(rank), stream);
        beyond[k] = largestOver(breaks, times, root * g, squares).wald >= wald ? 1 : 0;
    });
    return (1.0 + static_cast<double>(std::count(beyond.begin(), beyond.end(), 1))) / (draws + 1.0);
}

} // namespace

void checkTrendInTime(const CheckContext& context, Findings& findings) {
    const std::string name = "trend in time left over";
    const std::string source = "F test of an added column";
    const Column* time = timeOf(context);
    if (!time) {
        findings.readings.push_back(noReading(name, "no column is a time"));
        return;
    }
    const auto n = static_cast<Eigen::Index>(context.errors.size());
    Eigen::VectorXd t(n);
    double sum = 0, count = 0;
    for (Eigen::Index i = 0; i < n; ++i) {
        t[i] = time->asNumber(context.errorRows[static_cast<std::size_t>(i)]);
        if (std::isfinite(t[i])) {
            sum += t[i];
            ++count;
        }
    }
    for (Eigen::Index i = 0; i < n; ++i)
        if (!std::isfinite(t[i])) t[i] = sum / std::max(count, 1.0);
    t = standardised(t);
    if (!(t.squaredNorm() > 0)) {
        findings.readings.push_back(noReading(name, "all rows have one " + time->name()));
        return;
    }
    Addition added;
    const Eigen::Map<const Eigen::VectorXd> e(context.errors.data(), n);
    if (context.linear && context.kind.leastSquares) {
        ColumnsBeside beside(context);
        beside.ask({{beside.add(t)}, 0});
        added = beside.answers().front();
    } else {
        const double mean = e.mean();
        const double total = (e.array() - mean).square().sum();
        added.numeratorDf = 1;
        added.denominatorDf = static_cast<double>(n - 2);
        added.share = std::pow(t.dot(Eigen::VectorXd(e.array() - mean)), 2) / static_cast<double>(n) / total;
        added.f = added.share / ((1 - added.share) / added.denominatorDf);
        added.p = fisherUpper(added.f, 1, added.denominatorDf);
    }
    if (!(added.numeratorDf > 0) || !(added.denominatorDf > 0) || std::isnan(added.f)) {
        findings.readings.push_back(noReading(name, "the model has " + time->name() + " already"));
        return;
    }
    const double limit = context.limitOf(name, pLimit);
    const std::string says =
        "a straight line in " + time->name() + ": " + fText(added.f, added.numeratorDf, added.denominatorDf);
    findings.readings.push_back(madeReading(name, added.f, limit, added.p, says, source));
    if (!(added.p < limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "Errors drift with " + time->name();
    goad.reading = says + ", p " + probabilityText(added.p) + "; a forecast goes on beyond the last of them";
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = time->name();
    goad.cost = errorTaken(added);
    goad.costSays = "the share of the typical error that a straight line in time takes away";
    goad.size = added.f;
    goad.family = "time";
    goad.familyTitle = "# signs of a change in time";
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    goad.moves.push_back(
        {.label = "add " + time->name(), .edit = [column = time->name()](Recipe& recipe, const std::string&) {
             recipe = withTerm(recipe, plainTerm(column));
         }});
    findings.goads.push_back(std::move(goad));
}

void checkChangeInTime(const CheckContext& context, Findings& findings) {
    const std::string name = "change of level or slope in time";
    const std::string source = "Andrews 1993; p by simulation";
    const Column* time = timeOf(context);
    if (!time) {
        findings.readings.push_back(noReading(name, "no column is a time"));
        return;
    }
    if (context.linear && context.kind.leastSquares && !context.linear->tooWide.empty()) {
        findings.readings.push_back(noReading(name, context.linear->tooWide));
        return;
    }
    const Times times = timesOf(context, *time);
    if (times.time.size() < 7) {
        findings.readings.push_back(noReading(name, "there are fewer than seven times"));
        return;
    }
    if (time->kind() == ColumnKind::date)
        if (const Grouping periods = groupingOf(context, *time);
            periods.shared() >= 2 && oneWay(context.errors, periods).p() < pLimit) {
            findings.readings.push_back(
                noReading(name, "rows of one " + time->name() +
                                    " have like errors, which independent draws know nothing of"));
            return;
        }
    const std::vector<Break> breaks = breaksOf(times);
    if (breaks.empty() || !(times.df > 3) || !(times.squares > 0)) {
        findings.readings.push_back(noReading(name, "no time has 15 % of the rows before and after it, and a "
                                                    "change there that the model does not say already"));
        return;
    }
    const Largest found = largestOver(breaks, times, times.sums, times.squares);
    const double p = simulatedP(breaks, times, found.wald, context);
    const double limit = context.limitOf(name, pLimit);
    const std::string when = timeText(*time, times.time[found.at]);
    std::string says = "the largest Wald statistic of a change of level and slope at one of " +
                       plural(breaks.size(), "time", "times") + ": from " + when +
                       " on; of the level alone F " + readableText(found.stepF, 4) + " from " +
                       timeText(*time, times.time[found.stepAt]) +
                       " on; p by 999 draws of independent normal errors";
    if (times.missing > 0)
        says += "; " + plural(times.missing, "row", "rows") + " without a time passed over";
    findings.readings.push_back(madeReading(name, found.wald, limit, p, says, source));
    if (!(p < limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "Something changed from " + when + " on";
    goad.reading = "a change of level or slope there has a Wald statistic of " + readableText(found.wald, 3) +
                   ", p " + probabilityText(p) +
                   " for the unknown time; what was learned before may not hold on";
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = time->name();
    const double share = std::min(1.0, found.wald / (found.wald + times.df));
    goad.cost = 1 - std::sqrt(1 - share);
    goad.costSays = "the share of the typical error that the change takes away";
    goad.size = found.wald;
    goad.family = "time";
    goad.familyTitle = "# signs of a change in time";
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (!(context.recipe.setAside && context.recipe.setAside->kind == SetAsideKind::latest))
        goad.moves.push_back({.label = "set the latest aside",
                              .edit = [column = time->name()](Recipe& recipe, const std::string&) {
                                  SetAside aside;
                                  aside.kind = SetAsideKind::latest;
                                  aside.column = column;
                                  aside.share = 0.2;
                                  recipe.setAside = aside;
                              }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
