#include "base/text.h"
#include "check/check_tools.h"
#include "check/error_tests.h"
#include "estimate/distributions.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

void checkCoverage(const CheckContext& context, Findings& findings) {
    const std::string name = "interval coverage";
    const std::string source = "exact binomial test; interval by Clopper and Pearson 1934";
    std::size_t inside = 0, n = 0;
    std::string of;
    const double level = context.recipe.level;
    // How much wider intervals must be so that the level holds, by the quantile of errors over halves.
    std::vector<double> sizes;
    if (!context.heldOutHalves.empty()) {
        of = "held-out rows";
        for (std::size_t i = 0; i < context.heldOutErrors.size(); ++i)
            if (std::isfinite(context.heldOutHalves[i]) && context.heldOutHalves[i] > 0)
                sizes.push_back(std::fabs(context.heldOutErrors[i]) / context.heldOutHalves[i]);
    } else if (context.linear && context.kind.leastSquares && !context.linear->studentized.empty() &&
               context.linear->fit.degreesOfFreedom > 1 && !context.linear->fit.fitsExactly) {
        of = "learning rows, each by a fit without it";
        const double t = studentQuantile(level, context.linear->fit.degreesOfFreedom - 1);
        for (const double each : context.linear->studentized)
            if (std::isfinite(each)) sizes.push_back(std::fabs(each) / t);
    }
    n = sizes.size();
    constexpr std::size_t fewest = 20;
    if (n < fewest) {
        findings.readings.push_back(
            noReading(name, of.empty() ? "no rows have an interval that was made without them"
                                       : "fewer than 20 " + of));
        return;
    }
    inside =
        static_cast<std::size_t>(std::count_if(sizes.begin(), sizes.end(), [](double s) { return s <= 1; }));
    const double share = static_cast<double>(inside) / static_cast<double>(n);
    const double p = binomialTwoSided(inside, n, level);
    const auto [low, high] = binomialInterval(inside, n, 0.95);
    const double limit = context.limitOf(name, pLimit);
    findings.readings.push_back(
        madeReading(name, share, limit, p,
                    countText(inside) + " of " + countText(n) + " " + of + " lie in their " +
                        percentText(level) + " interval of a single value, 95 % from " +
                        readableText(100 * low, 3) + " to " + readableText(100 * high, 3) + " %; p two-sided",
                    source));
    if (!(p < limit)) return;
    const auto place = static_cast<std::ptrdiff_t>(std::ceil(level * static_cast<double>(n)) - 1);
    std::nth_element(sizes.begin(), sizes.begin() + place, sizes.end());
    const double factor = sizes[static_cast<std::size_t>(place)];
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = share < level && level - share > 0.05 ? Severity::alarm : Severity::caution;
    goad.title =
        share < level ? "Intervals hold fewer rows than they say" : "Intervals hold more rows than they say";
    goad.reading = readableText(100 * share, 3) + " % of " + of + " lie in " + percentText(level) +
                   " intervals, p " + probabilityText(p) + "; " + readableText(factor, 3) +
                   " times their width would hold";
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.cost = std::fabs(1 - 1 / factor);
    goad.costSays =
        "by this share intervals of single values are too " + std::string(factor > 1 ? "narrow" : "wide");
    goad.size = std::fabs(share - level);
    if (!context.logResponse && share < level)
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
