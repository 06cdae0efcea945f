#include "check/checks.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
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

/// What a test finds surely and what would change the forecast by less than this matters to nobody: a reading
/// and no goad.
void leaveOutSmall(Findings& found) {
    constexpr double smallest = 0.005;
    std::erase_if(found.goads, [&](const Goad& goad) {
        const bool small = goad.severity == Severity::caution && goad.cost && *goad.cost < smallest;
        if (small)
            for (Reading& reading : found.readings)
                if (reading.name == goad.check || reading.name == goad.key)
                    reading.sentence +=
                        "; too small to matter: it would change less than 0.5 % of the error or of "
                        "intervals";
        return small;
    });
}

} // namespace

const std::vector<Check>& checks() {
    constexpr bool slow = true, quick = false, folds = true, noFolds = false, alone = true, beside = false;
    static const std::vector<Check> all{
        {{"worse than the mean", "error over the mean"},
         needsNothing,
         checkErrorSize,
         quick,
         folds,
         beside,
         Tells::judgement},
        {{"rows to forecast outside"}, needsForecast, checkReach, quick, noFolds, beside, Tells::judgement},
        {{}, needsHeldOutRows, checkHeldOutRows, quick, noFolds, beside, Tells::rows},
        {{"largest studentised residual", "largest leverage", "largest Cook's distance", "largest DFFITS"},
         needsLinear | needsLeastSquares,
         checkOutlyingRows,
         quick,
         noFolds,
         beside,
         Tells::rows},
        {{}, needsErrors, checkOutlyingErrors, quick, folds, beside, Tells::rows},
        {{"largest variance inflation", "condition number", "condition index", "nearly dependent"},
         needsLinear,
         checkCollinearity},
        {{"unequal spread"},
         needsLinear | needsSpreadToJudge,
         checkSpread,
         quick,
         noFolds,
         beside,
         Tells::spread},
        {{"held-out error over learning error"},
         needsHeldOutRows,
         checkOverfit,
         quick,
         noFolds,
         beside,
         Tells::judgement},
        {{"rows with missing values"}, needsNothing, checkMissingValues},
        {{}, needsNothing, checkMisfits},
        {{}, needsNothing, checkRareLevels},
        {{"rows per coefficient"},
         needsLinear,
         checkRowsPerCoefficient,
         quick,
         noFolds,
         beside,
         Tells::judgement},
        {{"largest effect is one level"}, needsLinear, checkOneLevel},
        {{"impossible predictions"}, needsNothing, checkImpossible, quick, folds, beside, Tells::form},
        {{"skewness", "kurtosis", "normality, Jarque–Bera", "normality, Anderson–Darling"},
         needsErrors,
         checkShape,
         slow,
         folds,
         beside,
         Tells::shape},
        {{"interval coverage"}, needsNothing, checkCoverage, quick, noFolds, beside, Tells::judgement},
        {{"totals: predicted over actual"},
         needsUnseenRows,
         checkTotals,
         quick,
         folds,
         beside,
         Tells::spread},
        {{"plain forecasts"}, needsUnseenRows, checkPlainForecasts, quick, folds, beside, Tells::judgement},
        {{"rows to forecast differ"}, needsForecast, checkRowsToCome, slow},
        {{"largest DFBETAS"}, needsTests, checkMovedCoefficients, slow, noFolds, beside, Tells::rows},
        {{"curvature"}, needsTests, checkCurvature, slow, noFolds, beside, Tells::form},
        {{"curvature overall"},
         needsTests | needsSpreadToJudge,
         checkCurvatureOverall,
         slow,
         noFolds,
         beside,
         Tells::form},
        {{"left-out column"}, needsErrors, checkLeftOutColumn, slow, folds, beside, Tells::form},
        {{"missing interaction"}, needsTests, checkMissingInteraction, slow, noFolds, beside, Tells::form},
        {{"season"}, needsErrors, checkSeason, slow, folds, beside, Tells::form},
        {{"response a year before"}, needsErrors, checkYearBefore, slow, folds, beside, Tells::form},
        {{"rows that hide each other"}, needsTests, checkHiddenRows, slow, noFolds, beside, Tells::rows},
        {{"serial dependence, Durbin–Watson", "serial dependence, Ljung–Box"},
         needsErrors,
         checkSerialDependence,
         slow,
         folds,
         beside,
         Tells::dependence},
        {{"dependence within groups"}, needsErrors, checkGroups, slow, folds, beside, Tells::dependence},
        {{"dependence in space"}, needsErrors, checkSpace, slow, folds, beside, Tells::dependence},
        {{"trend in time left over"}, needsErrors, checkTrendInTime, slow, folds, beside, Tells::form},
        {{"change of level or slope in time"},
         needsErrors,
         checkChangeInTime,
         slow,
         folds,
         beside,
         Tells::form},
        {{"unequal spread, ranks"}, needsErrors, checkSpreadByRanks, slow, folds, beside, Tells::spread},
        {{}, needsErrors, checkSpreadOfErrors, slow, folds, beside, Tells::spread},
        {{"unequal spread, White"},
         needsTests | needsSpreadToJudge,
         checkSpreadWhite,
         slow,
         noFolds,
         beside,
         Tells::spread},
        {{"spread by group"}, needsErrors, checkSpreadByGroup, slow, folds, beside, Tells::spread},
        {{"suspiciously good column"}, needsNothing, checkGoodColumn, slow, noFolds, beside, Tells::leak},
        {{"response said by its making"}, needsNothing, checkLeaks, slow, noFolds, beside, Tells::leak},
        {{"kind of response"}, needsNothing, checkResponseKind, slow, noFolds, beside, Tells::form},
        {{"columns that act together"}, needsNothing, checkActingPairs, slow, noFolds, beside, Tells::form},
        {{"one column carries it"}, needsNothing, checkWhatCarries, slow, noFolds, beside, Tells::leak},
        {{"hangs on the seed", "setting hangs on the seed"},
         needsNothing,
         checkSeeds,
         slow,
         folds,
         alone,
         Tells::judgement},
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
    for (Goad& goad : out.found.goads)
        if (goad.tells == Tells::columns) goad.tells = check.tells;
    leaveOutSmall(out.found);
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
        std::vector<std::string> names;
        for (const Check& check : checks())
            names.insert(names.end(), check.readings.begin(), check.readings.end());
        const std::string meant = didYouMean(family, names);
        throw Error(
            ErrorCode::badRecipe, "there is no check \"" + name + "\"", {},
            (meant.empty() ? "" : meant + " ") +
                "Checks are named as their readings in the evidence are, or by the part before \": \".");
    }
}

void orderGoads(std::vector<Goad>& goads) {
    constexpr double alarm = 0.10, caution = 0.02, small = 0.02, smallForm = 0.05;
    const auto costOf = [&](const Goad& goad) {
        if (goad.cost && std::isfinite(*goad.cost)) return *goad.cost;
        return goad.severity == Severity::alarm ? alarm : caution;
    };
    const auto rankOf = [&](const Goad& goad) {
        // Small ones come after the others.
        const bool late = goad.severity == Severity::caution && goad.tells != Tells::first &&
                          costOf(goad) < (goad.tells == Tells::form && goad.cost ? smallForm : small);
        return static_cast<int>(goad.tells) + (late ? static_cast<int>(Tells::columns) + 1 : 0);
    };
    std::stable_sort(goads.begin(), goads.end(), [&](const Goad& a, const Goad& b) {
        return rankOf(a) != rankOf(b) ? rankOf(a) < rankOf(b) : costOf(a) > costOf(b);
    });
}

void gatherUnder(std::vector<Goad>& goads) {
    constexpr double large = 0.05;
    for (Goad& goad : goads)
        goad.under.clear();
    const auto isForm = [&](const Goad& goad) {
        return !goad.accepted && goad.tells == Tells::form && goad.cost && *goad.cost >= large;
    };
    const auto form = std::find_if(goads.begin(), goads.end(), isForm);
    const auto follows = [](const Goad& goad) {
        return goad.tells == Tells::spread || goad.tells == Tells::shape ||
               goad.check == "totals: predicted over actual" || goad.check == "rows that hide each other";
    };
    for (Goad& goad : goads)
        if (form != goads.end() && !goad.accepted && follows(goad)) goad.under = form->key;
    for (Goad& goad : goads)
        for (const std::string& key : goad.follows)
            if (goad.under.empty() && !goad.accepted &&
                std::any_of(goads.begin(), goads.end(),
                            [&](const Goad& other) { return other.key == key && !other.accepted; }))
                goad.under = key;
    tellFamiliesTogether(goads);
    // What stands under one that stands under another stands under that.
    for (int step = 0; step < 4; ++step)
        for (Goad& goad : goads)
            for (const Goad& other : goads)
                if (!goad.under.empty() && other.key == goad.under && !other.under.empty())
                    goad.under = other.under;
}

} // namespace oxgoad
