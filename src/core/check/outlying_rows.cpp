#include "base/text.h"
#include "check/checks.h"
#include "estimate/distributions.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

constexpr double cookLimit = 1;
constexpr std::size_t listed = 5;

std::size_t largestOf(std::span<const double> values) {
    std::size_t best = 0;
    for (std::size_t i = 1; i < values.size(); ++i)
        if (std::isnan(values[best]) || std::fabs(values[i]) > std::fabs(values[best])) best = i;
    return best;
}

Goad rowGoad(std::size_t row, const std::string& kind) {
    Goad goad;
    goad.key = kind + ": row " + std::to_string(row + 1);
    goad.severity = Severity::alarm;
    goad.station = "check";
    goad.row = row;
    goad.moves.push_back(seeRow(row));
    goad.moves.push_back(leaveOutRow(row));
    return goad;
}

} // namespace

void checkHeldOutRows(const CheckContext& context, Findings& findings) {
    const double sigma = context.spread;
    if (!(sigma > 0)) return;
    const auto n = static_cast<double>(context.heldOutErrors.size());
    std::vector<std::size_t> order;
    if (context.heldOutErrors.empty()) return;
    const double farOff = sigma * studentQuantile(1 - pLimit / n, context.spreadDegreesOfFreedom);
    for (std::size_t i = 0; i < context.heldOutErrors.size(); ++i)
        if (std::fabs(context.heldOutErrors[i]) > farOff) order.push_back(i);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return std::fabs(context.heldOutErrors[a]) > std::fabs(context.heldOutErrors[b]);
    });
    double squares = 0;
    for (const double e : context.heldOutErrors)
        squares += e * e;
    for (std::size_t k = 0; k < std::min<std::size_t>(order.size(), 3); ++k) {
        const std::size_t i = order[k];
        const double ratio = context.heldOutErrors[i] / sigma;
        Goad goad = rowGoad(context.heldOutRows[i], "held-out row far off");
        goad.title = "Held-out row " + countText(context.heldOutRows[i] + 1) + " is predicted far off";
        goad.reading = "error " + readableText(ratio, 3) + " residual standard deviations; " +
                       readableText(100 * context.heldOutErrors[i] * context.heldOutErrors[i] / squares, 2) +
                       " % of the squared held-out error";
        goad.threshold = "adjusted p below 0.01";
        goad.source = "Cook and Weisberg 1982, §2.2.2";
        findings.goads.push_back(std::move(goad));
    }
}

void checkOutlyingRows(const CheckContext& context, Findings& findings) {
    const double df = context.linear->model.fit.degreesOfFreedom - 1;
    if (context.linear->studentized.empty() || !(df > 0)) return;
    const std::span<const double> studentized = context.linear->studentized, cooks = context.linear->cooks;
    const auto n = static_cast<double>(studentized.size());
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < studentized.size(); ++i)
        if (std::fabs(studentized[i]) > 3) order.push_back(i);
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return std::fabs(studentized[a]) > std::fabs(studentized[b]);
    });
    const std::size_t top = largestOf(studentized);
    const double topP = std::min(1.0, n * studentTwoSided(studentized[top], df));
    findings.readings.push_back({"largest studentised residual", studentized[top], pLimit, topP,
                                 "row " + countText(context.learningRows[top] + 1) + ", p adjusted for " +
                                     countText(studentized.size()) + " rows",
                                 "Cook and Weisberg 1982, §2.2.2"});
    std::size_t shown = 0;
    std::vector<std::size_t> named;
    for (const std::size_t i : order) {
        const double p = std::min(1.0, n * studentTwoSided(studentized[i], df));
        if (!(p < pLimit) || shown++ >= listed) break;
        Goad goad = rowGoad(context.learningRows[i], "outlying");
        goad.title = "Row " + countText(context.learningRows[i] + 1) + " lies far from the others";
        goad.reading = "studentised residual " + readableText(studentized[i], 3) + ", p " +
                       probabilityText(p) + " adjusted for the number of rows; Cook's distance " +
                       readableText(cooks[i], 2);
        goad.threshold = "adjusted p below 0.01";
        goad.source = "Cook and Weisberg 1982, §2.2.2";
        if (named.empty())
            goad.moves.push_back({.label = "fit robustly", .edit = [](Recipe& recipe, const std::string&) {
                                      recipe.estimator = {"robust", {{"function", std::string("Huber")}}};
                                      recipe.errors = {};
                                  }});
        findings.goads.push_back(std::move(goad));
        named.push_back(i);
    }
    const std::size_t mover = largestOf(cooks);
    findings.readings.push_back({"largest Cook's distance",
                                 cooks[mover],
                                 cookLimit,
                                 {},
                                 "row " + countText(context.learningRows[mover] + 1),
                                 "Cook 1977"});
    if (!(cooks[mover] > cookLimit) || std::find(named.begin(), named.end(), mover) != named.end()) return;
    Goad goad = rowGoad(context.learningRows[mover], "influential");
    goad.title = "Row " + countText(context.learningRows[mover] + 1) + " moves the whole fit";
    goad.reading = "Cook's distance " + readableText(cooks[mover], 3);
    goad.threshold = "1";
    goad.source = "Cook 1977";
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
