#include "check/checks.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "check/influence.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Why the needs are not met; empty when they are.
std::string unmet(unsigned needs, const CheckContext& context) {
    if ((needs & needsLinear) != 0 && !context.linear) return "the model has no coefficients";
    if ((needs & needsLeastSquares) != 0 && !context.kind.leastSquares)
        return "only least squares says what a row's leaving would do";
    if ((needs & needsHeldOutRows) != 0 && context.heldOut.rows == 0) return "no rows are held out";
    if ((needs & needsForecast) != 0 && context.reach.empty()) return "there are no rows to forecast";
    if ((needs & needsUnseenRows) != 0 && context.unseen.what.empty())
        return "the model is judged by no rows that it did not learn from";
    if ((needs & needsTests) != 0) {
        if (!context.linear || !context.kind.leastSquares) return "only of least squares";
        if (!(context.linear->fit.degreesOfFreedom > 0)) return "there are no degrees of freedom";
        if (context.linear->fit.fitsExactly || !(context.linear->fit.residualSumOfSquares > 0))
            return "the residuals are no more than rounding";
    }
    if ((needs & needsErrors) != 0) {
        if (context.errorsOf.empty()) return "the model is judged by no rows that it did not learn from";
        if (context.errors.size() < 4) return "fewer than four rows have an error to judge";
        if (context.linear && context.kind.leastSquares) {
            if (!(context.linear->fit.degreesOfFreedom > 0)) return "there are no degrees of freedom";
            if (context.linear->fit.fitsExactly) return "the residuals are no more than rounding";
        }
        const auto [low, high] = std::minmax_element(context.errors.begin(), context.errors.end());
        if (!(*low < *high)) return "the errors do not differ";
    }
    if ((needs & needsSpreadToJudge) != 0) {
        const LeastSquaresFit& fit = context.linear->model.fit;
        if (!fit.intercept || fit.rank() < 2) return "the model has not both a constant and a coefficient";
        if (!(fit.degreesOfFreedom > 0)) return "there are no degrees of freedom";
        if (fit.fitsExactly) return "the residuals are no more than rounding";
    }
    return {};
}

bool isOff(const Recipe& recipe, const std::string& reading) {
    const CheckSetting* setting = checkSetting(recipe, reading);
    return setting && setting->off;
}

/// What the recipe switches off has no value and no goad; what has another threshold says so.
void applySettings(const Recipe& recipe, Findings& found) {
    for (Reading& reading : found.readings) {
        const CheckSetting* setting = checkSetting(recipe, reading.name);
        if (!setting) continue;
        if (setting->off)
            reading = {reading.name, nan, nan, {}, "switched off: " + setting->reason, ""};
        else if (!std::isnan(reading.value))
            reading.sentence += "; the threshold is the recipe's" +
                                (setting->reason.empty() ? std::string() : ": " + setting->reason);
    }
    std::erase_if(found.goads,
                  [&](const Goad& goad) { return !goad.check.empty() && isOff(recipe, goad.check); });
}

} // namespace

const std::vector<Check>& checks() {
    constexpr bool slow = true, folds = true;
    static const std::vector<Check> all{
        {{"worse than the mean", "error over the mean"}, needsNothing, checkErrorSize, false, folds},
        {{"rows to forecast outside"}, needsForecast, checkReach},
        {{}, needsHeldOutRows, checkHeldOutRows},
        {{"largest studentised residual", "largest leverage", "largest Cook's distance", "largest DFFITS"},
         needsLinear | needsLeastSquares,
         checkOutlyingRows},
        {{}, needsErrors, checkOutlyingErrors, false, folds},
        {{"largest variance inflation", "condition number", "condition index", "nearly dependent"},
         needsLinear,
         checkCollinearity},
        {{"unequal spread"}, needsLinear | needsSpreadToJudge, checkSpread},
        {{"held-out error over learning error"}, needsHeldOutRows, checkOverfit},
        {{"rows with missing values"}, needsNothing, checkMissingValues},
        {{}, needsNothing, checkMisfits},
        {{}, needsNothing, checkRareLevels},
        {{"rows per coefficient"}, needsLinear, checkRowsPerCoefficient},
        {{"largest effect is one level"}, needsLinear, checkOneLevel},
        {{"impossible predictions"}, needsNothing, checkImpossible, false, folds},
        {{"skewness", "kurtosis", "normality, Jarque–Bera", "normality, Anderson–Darling"},
         needsErrors,
         checkShape,
         slow,
         folds},
        {{"interval coverage"}, needsNothing, checkCoverage},
        {{"totals: predicted over actual"}, needsUnseenRows, checkTotals, false, folds},
        {{"largest DFBETAS"}, needsTests, checkMovedCoefficients, slow},
        {{"curvature"}, needsTests, checkCurvature, slow},
        {{"curvature overall"}, needsTests | needsSpreadToJudge, checkCurvatureOverall, slow},
        {{"left-out column"}, needsErrors, checkLeftOutColumn, slow, folds},
        {{"missing interaction"}, needsTests, checkMissingInteraction, slow},
        {{"rows that hide each other"}, needsTests, checkHiddenRows, slow},
        {{"serial dependence, Durbin–Watson", "serial dependence, Ljung–Box"},
         needsErrors,
         checkSerialDependence,
         slow,
         folds},
        {{"dependence within groups"}, needsErrors, checkGroups, slow, folds},
        {{"dependence in space"}, needsErrors, checkSpace, slow, folds},
        {{"trend in time left over"}, needsErrors, checkTrendInTime, slow, folds},
        {{"change of level or slope in time"}, needsErrors, checkChangeInTime, slow, folds},
        {{"unequal spread, ranks"}, needsErrors, checkSpreadByRanks, slow, folds},
        {{}, needsErrors, checkSpreadOfErrors, slow, folds},
        {{"unequal spread, White"}, needsTests | needsSpreadToJudge, checkSpreadWhite, slow},
        {{"spread by group"}, needsErrors, checkSpreadByGroup, slow, folds},
        {{"suspiciously good column"}, needsNothing, checkGoodColumn, slow},
        {{"hangs on the seed"}, needsNothing, checkSeeds, slow, folds, true},
    };
    return all;
}

CheckOutcome runCheck(std::size_t index, const CheckContext& context) {
    const Check& check = checks()[index];
    stopIfTold(*context.progress);
    CheckOutcome out;
    out.done = true;
    const bool wholly = !check.readings.empty() &&
                        std::all_of(check.readings.begin(), check.readings.end(), [&](std::string_view name) {
                            return isOff(context.recipe, std::string(name));
                        });
    const std::string why = wholly ? "switched off" : unmet(check.needs, context);
    const auto none = [&](const std::string& reason) {
        for (const std::string_view reading : check.readings)
            out.found.readings.push_back(
                {std::string(reading), nan, nan, {}, "does not apply: " + reason, ""});
    };
    try {
        if (why.empty())
            check.run(context, out.found);
        else
            none(why);
    } catch (const Error& error) { // a regression of its own on rows that are too few or too alike
        out.found = {};
        none(error.what());
    }
    applySettings(context.recipe, out.found);
    return out;
}

void requireKnownChecks(const Recipe& recipe) {
    for (const auto& [name, setting] : recipe.checks) {
        const std::string_view family = std::string_view(name).substr(0, name.find(": "));
        const auto known = [&](std::string_view reading) { return reading == name || reading == family; };
        const bool there = std::any_of(checks().begin(), checks().end(), [&](const Check& check) {
            return std::any_of(check.readings.begin(), check.readings.end(), known);
        });
        if (there || name == "totals: predicted over actual") continue;
        throw Error(ErrorCode::badRecipe, "there is no check \"" + name + "\"", {},
                    "Checks are named as their readings in the evidence are, or by the part before \": \".");
    }
}

void orderGoads(std::vector<Goad>& goads) {
    constexpr double alarm = 0.10, caution = 0.02;
    const auto costOf = [&](const Goad& goad) {
        if (goad.first) return 1e9;
        if (goad.cost && std::isfinite(*goad.cost)) return *goad.cost;
        return goad.severity == Severity::alarm ? alarm : caution;
    };
    std::stable_sort(goads.begin(), goads.end(),
                     [&](const Goad& a, const Goad& b) { return costOf(a) > costOf(b); });
}

} // namespace oxgoad
