#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"
#include "recipe/validity.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

struct Total {
    double actual = 0, predicted = 0, error = 0, p = nan;
    double ratio() const { return predicted / actual; }
};

/// Predicted over actual of some unseen rows, with the standard error of their difference.
Total totalOf(const CheckContext& context, std::span<const std::size_t> places) {
    Total total;
    double squares = 0;
    std::vector<std::uint32_t> rows;
    for (const std::size_t i : places) {
        total.actual += context.unseen.actual[i];
        total.predicted += context.unseen.predicted[i];
        rows.push_back(context.unseen.rows[i]);
    }
    const auto m = static_cast<double>(places.size());
    const double mean = (total.actual - total.predicted) / m;
    for (const std::size_t i : places) {
        const double d = context.unseen.actual[i] - context.unseen.predicted[i] - mean;
        squares += d * d;
    }
    double variance = m > 1 ? squares * m / (m - 1) : nan;
    // Held-out rows: what the coefficients themselves are off comes on top; rows out of fold took part in
    // them, so that it goes off. Both are shares of the spread of these rows themselves: a spread taken from
    // other rows may leave nothing of it.
    if (context.shareOfModel) {
        constexpr double least = 0.01; // of the rows' own: below it the model says their sum
        const double share = context.shareOfModel(rows);
        variance *= context.unseen.heldOut ? 1 + share : 1 - share >= least ? 1 - share : nan;
    }
    total.error = std::sqrt(variance);
    total.p = studentTwoSided((total.predicted - total.actual) / total.error, m - 1);
    return total;
}

/// What rows are put in order by. Of rows out of fold what the fit of all says: their errors follow from its
/// residuals, which know nothing of it, while predictions out of fold are largest where they are too large.
std::vector<double> sizesOf(const CheckContext& context) {
    std::vector<double> sizes(context.unseen.predicted.begin(), context.unseen.predicted.end());
    if (context.unseen.heldOut) return sizes;
    for (std::size_t i = 0; i < sizes.size(); ++i) {
        const auto at = std::lower_bound(context.learningRows.begin(), context.learningRows.end(),
                                         context.unseen.rows[i]);
        if (at != context.learningRows.end() && *at == context.unseen.rows[i])
            sizes[i] = context.fitted[static_cast<std::size_t>(at - context.learningRows.begin())];
    }
    return sizes;
}

} // namespace

void checkTotals(const CheckContext& context, Findings& findings) {
    const std::string name = "totals: predicted over actual";
    const std::string source = "common practice, no source; smearing: Duan 1983";
    const std::size_t n = context.unseen.rows.size();
    constexpr std::size_t parts = 10, fewest = 20;
    std::vector<std::size_t> order(n);
    std::iota(order.begin(), order.end(), std::size_t{0});
    const std::vector<double> size = sizesOf(context);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return size[a] < size[b]; });
    if (n < fewest) {
        findings.readings.push_back(noReading(name, "fewer than 20 " + context.unseen.what));
        return;
    }
    const Total all = totalOf(context, order);
    if (!(all.actual > 0)) {
        findings.readings.push_back(noReading(name, "the sum of what was is not above 0"));
        return;
    }
    // The model may say the sum of all rows, and then it tells nothing.
    const bool tellsAll = !std::isnan(all.p);
    double smallest = tellsAll ? all.p : 1, furthest = 0;
    std::string worst;
    std::size_t tests = tellsAll ? 1 : 0;
    double worstShare = std::fabs(all.ratio() - 1);
    const std::size_t bands = n >= 10 * parts ? parts : n / 10;
    for (std::size_t t = 0; t < bands && bands > 1; ++t) {
        const std::size_t begin = t * n / bands, end = (t + 1) * n / bands;
        const Total part = totalOf(context, std::span(order).subspan(begin, end - begin));
        if (std::isnan(part.p)) continue;
        ++tests;
        if (!(part.actual > 0) || !(std::fabs(part.predicted - part.actual) / part.error > furthest))
            continue;
        furthest = std::fabs(part.predicted - part.actual) / part.error;
        worst = "part " + std::to_string(t + 1) + " of " + std::to_string(bands) +
                " by the prediction: " + readableText(part.ratio(), 4) + " ± " +
                readableText(normalQuantile(0.975) * part.error / part.actual, 2);
        worstShare = std::max(worstShare, std::fabs(part.ratio() - 1));
        smallest = std::min(smallest, part.p);
    }
    if (tests == 0) {
        findings.readings.push_back(noReading(name, "the model says the sums of these rows already"));
        return;
    }
    const double p = std::min(1.0, smallest * static_cast<double>(tests));
    const double limit = context.limitOf(name, pLimit);
    const double half = normalQuantile(0.975) * all.error / all.actual;
    std::string says = "sum of predictions over sum of what was, " + countText(n) + " " + context.unseen.what;
    if (tellsAll)
        says += ", 95 % from " + readableText(all.ratio() - half, 4) + " to " +
                readableText(all.ratio() + half, 4);
    if (!worst.empty()) says += "; furthest off is " + worst;
    if (const std::size_t tenth = n / parts; tenth > 1) {
        const Total top = totalOf(context, std::span(order).subspan(n - tenth));
        says +=
            "; the tenth predicted largest holds " + percentText(top.actual / all.actual) + " of what was";
    }
    says += "; p for " + plural(tests, "total", "totals");
    findings.readings.push_back(madeReading(name, all.ratio(), limit, p, says, source));
    if (!(p < limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = std::fabs(all.ratio() - 1) > 0.05 ? Severity::alarm : Severity::caution;
    goad.title = all.p < limit ? std::string("Totals come out too ") + (all.ratio() > 1 ? "high" : "low")
                               : "Totals are off for some sizes of the prediction";
    goad.reading = "predicted over actual " + readableText(all.ratio(), 4) +
                   (tellsAll ? " ± " + readableText(half, 2) : std::string()) +
                   (worst.empty() ? "" : "; " + worst) + "; p " + probabilityText(p) +
                   (context.logResponse ? "; one factor carries all predictions back from logarithms, which "
                                          "fails where their spread differs"
                                        : "");
    goad.threshold = pThresholdText(limit) + " of any total";
    goad.source = source;
    goad.station = "check";
    goad.cost = worstShare;
    goad.costSays = "by this share the total that is furthest off is wrong";
    goad.size = furthest;
    if (context.logResponse)
        goad.moves.push_back({.label = "gamma regression", .edit = [](Recipe& recipe, const std::string&) {
                                  recipe.logResponse = false;
                                  recipe = withEstimator(recipe, {"gamma"});
                              }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
