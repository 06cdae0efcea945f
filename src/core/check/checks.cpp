#include "check/checks.h"

#include "base/not_a_number.h"
#include <limits>

namespace oxgoad {

namespace {

/// Why the needs are not met; empty when they are.
std::string unmet(unsigned needs, const CheckContext& context) {
    if ((needs & needsLinear) != 0 && !context.linear) return "the model has no coefficients";
    if ((needs & needsLeastSquares) != 0 && !context.kind.leastSquares)
        return "only least squares says what a row's leaving would do";
    if ((needs & needsHeldOutRows) != 0 && context.heldOut.rows == 0) return "no rows are held out";
    if ((needs & needsForecast) != 0 && context.reach.empty()) return "there are no rows to forecast";
    if ((needs & needsSpreadToJudge) != 0) {
        const LeastSquaresFit& fit = context.linear->model.fit;
        if (!fit.intercept || fit.rank() < 2) return "the model has not both a constant and a coefficient";
        if (!(fit.degreesOfFreedom > 0)) return "there are no degrees of freedom";
    }
    return {};
}

} // namespace

const std::vector<Check>& checks() {
    static const std::vector<Check> all{
        {{"rows to forecast outside"}, needsForecast, checkReach},
        {{}, needsHeldOutRows, checkHeldOutRows},
        {{"largest studentised residual", "largest Cook's distance"},
         needsLinear | needsLeastSquares,
         checkOutlyingRows},
        {{"largest variance inflation", "condition number"}, needsLinear, checkCollinearity},
        {{"unequal spread"}, needsLinear | needsSpreadToJudge, checkSpread},
        {{"held-out error over learning error"}, needsHeldOutRows, checkOverfit},
        {{"rows with missing values"}, needsNothing, checkMissingValues},
        {{}, needsNothing, checkMisfits},
        {{}, needsNothing, checkRareLevels},
    };
    return all;
}

Findings runChecks(const CheckContext& context) {
    Findings findings;

    for (const Check& check : checks()) {
        const std::string why = unmet(check.needs, context);
        if (why.empty()) {
            check.run(context, findings);
            continue;
        }
        for (const std::string_view reading : check.readings)
            findings.readings.push_back({std::string(reading), nan, nan, {}, "does not apply: " + why, ""});
    }
    return findings;
}

} // namespace oxgoad
