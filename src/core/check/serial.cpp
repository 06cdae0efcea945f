#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "check/error_tests.h"
#include "estimate/distributions.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

const char* const watson = "serial dependence, Durbin–Watson";
const char* const box = "serial dependence, Ljung–Box";

/// The orthonormal columns of the model at the rows of errors; only a constant for other kinds than least
/// squares, whose errors are of rows not learned from.
const Eigen::MatrixXd& basisOf(const CheckContext& context, Eigen::MatrixXd& constant) {
    if (context.linear && context.kind.leastSquares) return context.linear->orthonormal();
    const auto n = static_cast<Eigen::Index>(context.errors.size());
    constant = Eigen::MatrixXd::Constant(n, 1, 1 / std::sqrt(static_cast<double>(n)));
    return constant;
}

Goad serialGoad(const CheckContext& context, const OrderedErrors& order, const std::string& name,
                double correlation) {
    Goad goad;
    goad.key = goad.check = name;
    const bool standsIt = context.recipe.errors.kind == CovarianceKind::autocorrelated;
    goad.title = correlation > 0 ? "Errors that follow each other in time are alike"
                                 : "Errors that follow each other in time alternate";
    if (standsIt) goad.title += "; the errors of coefficients stand it, intervals of forecasts do not";
    goad.station = "check";
    goad.column = order.time;
    const double rho = std::clamp(correlation, -0.98, 0.98);
    goad.cost = rho > 0 ? 1 - std::sqrt((1 - rho) / (1 + rho)) : 0;
    goad.costSays = "by this share intervals of coefficients of columns that change as slowly are too narrow "
                    "(correlation " +
                    readableText(correlation, 2) + " from one time to the next)";
    goad.size = std::fabs(correlation);
    goad.family = "serial dependence";
    goad.familyTitle = "# signs that errors hang together in time";
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (context.kind.leastSquares && !standsIt)
        goad.moves.push_back({.label = "errors that stand it",
                              .edit = [time = order.time](Recipe& recipe, const std::string&) {
                                  recipe.errors.kind = CovarianceKind::autocorrelated;
                                  recipe.errors.column = time;
                              }});
    if (context.kind.leastSquares && context.weights.empty() && order.timed)
        goad.moves.push_back(
            {.label = "let errors depend in time",
             .edit = [time = order.time, group = order.group](Recipe& recipe, const std::string&) {
                 if (!group.empty() && columnWith(recipe, Role::group).empty())
                     recipe.roles[group] = Role::group;
                 if (columnWith(recipe, Role::time).empty()) recipe.roles[time] = Role::time;
                 recipe.estimator = Settings{"autoregressive errors", {{"order", std::string("AICc")}}};
             }});
    if (!(context.recipe.judge && context.recipe.judge->kind == FoldKind::rollingOrigin))
        goad.moves.push_back({.label = "judge the next times",
                              .edit = [time = order.time](Recipe& recipe, const std::string&) {
                                  FoldPlan plan;
                                  plan.kind = FoldKind::rollingOrigin;
                                  plan.column = time;
                                  plan.folds = 5;
                                  recipe.judge = plan;
                              }});
    return goad;
}

} // namespace

void checkSerialDependence(const CheckContext& context, Findings& findings) {
    const OrderedErrors order = errorsInOrder(context);
    std::size_t longest = 0, ordered = 0;
    for (const auto& run : order.runs) {
        longest = std::max(longest, run.size());
        ordered += run.size();
    }
    std::string why = order.why;
    if (why.empty() && longest < 4) why = "no group has four rows in order";
    const bool fits = ordered == context.errors.size();
    if (!why.empty()) {
        findings.readings.push_back(noReading(watson, why));
        findings.readings.push_back(noReading(box, why));
        return;
    }
    const double d = durbinWatson(context.errors, order.runs);
    Eigen::MatrixXd constant;
    // Rows passed over are no residuals of a fit of the others; the moments are those of all rows.
    const bool tooWide = context.linear && context.kind.leastSquares && !context.linear->tooWide.empty();
    const DurbinWatsonTail tail =
        tooWide ? DurbinWatsonTail{.p = nan} : durbinWatsonLower(d, order.runs, basisOf(context, constant));
    const double watsonLimit = context.limitOf(watson, pLimit);
    std::string says = order.says + "; ";
    if (tooWide)
        says += "its p is not worked out: " + context.linear->tooWide;
    else
        says += std::string("p that errors alike give so small a d: ") +
                (tail.exact ? "exact by Imhof 1961" : "by the beta distribution of its exact moments") +
                "; against errors that alternate p " + probabilityText(1 - tail.p);
    if (!fits && !tooWide) says += "; moments those of all rows";
    findings.readings.push_back(
        madeReading(watson, d, watsonLimit, tail.p, says, "Durbin and Watson 1950; Imhof 1961"));
    // Two turns of the season, as far as the rows reach.
    const std::size_t season = seasonLength(context);
    const std::size_t lags =
        std::max(std::clamp<std::size_t>(longest / 5, 1, 10), std::min(2 * season, longest / 4));
    const LjungBox lb = ljungBox(context.errors, order.runs, lags);
    const double p = chiSquaredUpper(lb.statistic, static_cast<double>(lags));
    const double boxLimit = context.limitOf(box, pLimit);
    std::string correlations;
    for (std::size_t k = 0; k < std::min<std::size_t>(3, lags); ++k)
        correlations += (k > 0 ? ", " : "") + readableText(lb.correlations[k], 2);
    findings.readings.push_back(madeReading(box, lb.statistic, boxLimit, p,
                                            order.says + "; " + plural(lags, "lag", "lags") +
                                                ", as many degrees of freedom; correlations " + correlations +
                                                (lags > 3 ? " …" : ""),
                                            "Ljung and Box 1978"));
    if (!order.timed) return; // an order of rows that nobody vouches for is no time
    const double first = lb.correlations[0];
    // Dependence that is too weak to matter for an interval is a reading and no goad.
    constexpr double weak = 0.1;
    double strongest = 0;
    for (const double r : lb.correlations)
        strongest = std::max(strongest, std::fabs(r));
    if (strongest < weak) return;
    if (tail.p < watsonLimit) {
        Goad goad = serialGoad(context, order, watson, first);
        goad.reading = "d " + readableText(d, 4) + " (2 where they are independent), p " +
                       probabilityText(tail.p) + ", " + order.says;
        goad.threshold = pThresholdText(watsonLimit);
        goad.source = "Durbin and Watson 1950";
        findings.goads.push_back(std::move(goad));
    }
    if (p < boxLimit) {
        Goad goad = serialGoad(context, order, box, first);
        if (context.recipe.errors.kind != CovarianceKind::autocorrelated)
            goad.title = "Errors hang together over several times";
        goad.reading = "Q " + readableText(lb.statistic, 3) + " on " + std::to_string(lags) +
                       " degrees of freedom, p " + probabilityText(p) + "; correlations " + correlations +
                       (lags > 3 ? " …" : "");
        goad.threshold = pThresholdText(boxLimit);
        goad.source = "Ljung and Box 1978";
        findings.goads.push_back(std::move(goad));
    }
}

} // namespace oxgoad
