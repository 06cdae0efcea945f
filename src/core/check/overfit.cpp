#include "base/text.h"
#include "check/checks.h"

#include <cmath>

namespace oxgoad {

void checkOverfit(const CheckContext& context, Findings& findings) {
    constexpr double ratioLimit = 1.1;
    constexpr double errorsLimit = 2;
    const Scores& l = context.learning;
    const Scores& h = context.heldOut;
    if (h.rows < 2 || l.rows < 2 || !(l.rmse > 0)) return;
    const std::string without =
        context.learnedWithoutItself ? " of learning rows left out one at a time" : "";
    const double ratio = h.rmse / l.rmse;
    const double error = std::hypot(h.rmseError, l.rmseError);
    findings.readings.push_back({"held-out error over learning error",
                                 ratio,
                                 ratioLimit,
                                 {},
                                 readableText(h.rmse) + " against " + readableText(l.rmse) + without,
                                 "common practice, no source"});
    if (!(ratio > ratioLimit) || !(h.rmse - l.rmse > errorsLimit * error)) return;
    Goad goad;
    goad.key = "overfit gap";
    goad.severity = ratio > 1.5 ? Severity::alarm : Severity::caution;
    goad.title = "Held-out rows are predicted worse than learning rows";
    goad.reading = "RMSE " + readableText(h.rmse) + " against " + readableText(l.rmse) + without + ", " +
                   readableText(100 * (ratio - 1), 2) + " % more";
    goad.threshold = "10 % and two standard errors of the difference";
    goad.source = "common practice, no source";
    goad.station = "compare";
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
