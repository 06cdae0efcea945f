#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"

#include <cmath>

namespace oxgoad {

void checkOverfit(const CheckContext& context, Findings& findings) {
    const std::string name = "held-out error over learning error";
    constexpr double errorsLimit = 2;
    const Scores& l = context.learning;
    const Scores& h = context.heldOut;
    if (h.rows < 2 || l.rows < 2 || !(l.rmse > 0)) {
        findings.readings.push_back(noReading(name, l.rmse > 0 ? "fewer than two rows are held out"
                                                               : "the learning rows are predicted exactly"));
        return;
    }
    const double ratioLimit = context.limitOf(name, 1.1);
    const std::string without =
        context.learnedWithoutItself ? " of learning rows by models that had not learned from them" : "";
    const double ratio = h.rmse / l.rmse;
    const double error = std::hypot(h.rmseError, l.rmseError);
    // Of the logarithm, by the delta method.
    const double relative = std::hypot(h.rmseError / h.rmse, l.rmseError / l.rmse);
    const double factor = std::exp(normalQuantile(0.975) * relative);
    findings.readings.push_back(
        {name,
         ratio,
         ratioLimit,
         {},
         readableText(h.rmse) + " against " + readableText(l.rmse) + without +
             (std::isfinite(factor) ? ", 95 % from " + readableText(ratio / factor, 3) + " to " +
                                          readableText(ratio * factor, 3)
                                    : std::string()),
         "common practice, no source"});
    if (!(ratio > ratioLimit) || !(h.rmse - l.rmse > errorsLimit * error)) return;
    Goad goad;
    goad.key = "overfit gap";
    goad.severity = ratio > 1.5 ? Severity::alarm : Severity::caution;
    goad.title = "Held-out rows are predicted worse than learning rows";
    goad.reading = "RMSE " + readableText(h.rmse) + " against " + readableText(l.rmse) + without + ", " +
                   readableText(100 * (ratio - 1), 2) + " % more";
    goad.threshold = readableText(100 * (ratioLimit - 1), 3) + " % and two standard errors of the difference";
    goad.source = "common practice, no source";
    goad.station = "compare";
    goad.check = name;
    goad.cost = 1 - 1 / ratio;
    goad.costSays = "the share of the held-out error that learning rows do not have";
    goad.size = ratio;
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
