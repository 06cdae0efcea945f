#include "base/text.h"
#include "check/check_tools.h"
#include "check/error_tests.h"
#include "estimate/distributions.h"
#include "look/distribution.h"
#include "recipe/validity.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// What not being normal does at this number of rows.
std::string whatItDoes(const CheckContext& context, double n) {
    const double perCoefficient =
        context.linear ? n / std::max<double>(1, static_cast<double>(context.linear->fit.rank())) : n;
    const std::string single = "intervals of single values are off whatever the number of rows";
    if (!context.linear) return single;
    return single + (perCoefficient >= 20
                         ? "; those of coefficients and means hardly, with " +
                               readableText(perCoefficient, 3) + " rows for each coefficient"
                         : "; those of coefficients and means too, with only " +
                               readableText(perCoefficient, 3) + " rows for each coefficient");
}

/// The share of errors beyond what 95 % of a normal lie within.
double shareBeyond(std::span<const double> errors, double deviation) {
    const double far = normalQuantile(0.975) * deviation;
    return static_cast<double>(
               std::count_if(errors.begin(), errors.end(), [&](double e) { return std::fabs(e) > far; })) /
           static_cast<double>(errors.size());
}

} // namespace

void checkShape(const CheckContext& context, Findings& findings) {
    const auto n = static_cast<double>(context.errors.size());
    const Moments moments = momentsOf(context.errors);
    const double kurtosis = moments.excessKurtosis + 3;
    const std::string does = whatItDoes(context, n);
    const std::string of = context.errorsOf;
    const double skewP = skewnessP(moments.skewness, n), kurtosisP = tailsP(kurtosis, n);
    std::string firing; // the reading that the goad comes from
    const auto add = [&](const std::string& name, double value, std::optional<double> p,
                         const std::string& says, const std::string& source) {
        const double limit = context.limitOf(name, pLimit);
        findings.readings.push_back(madeReading(name, value, limit, p, says + "; " + does, source));
        const CheckSetting* setting = checkSetting(context.recipe, name);
        const bool fires = p && *p < limit && !(setting && setting->off);
        if (fires && firing.empty()) firing = name;
        return fires;
    };
    bool found =
        add("skewness", moments.skewness,
            std::isnan(skewP) ? std::optional<double>() : std::optional<double>(skewP),
            "m3/m2^1.5 of " + of + (moments.skewness > 0 ? ", long to the right" : ", long to the left"),
            "D'Agostino 1970, Biometrika 57");
    found |= add("kurtosis", kurtosis,
                 std::isnan(kurtosisP) ? std::optional<double>() : std::optional<double>(kurtosisP),
                 "m4/m2² of " + of + ", 3 for the normal", "Anscombe and Glynn 1983, Biometrika 70");
    const double jb = jarqueBera(moments.skewness, kurtosis, n);
    const double jbP = chiSquaredUpper(jb, 2);
    found |= add(
        "normality, Jarque–Bera", jb, jbP,
        "chi-squared with 2 degrees of freedom" +
            std::string(n < 2000 ? ", which it reaches only slowly: with few rows it fires too seldom" : ""),
        "Jarque and Bera 1980");
    const double a2 = andersonDarling(context.errors);
    found |= add("normality, Anderson–Darling", a2, andersonDarlingP(a2, n),
                 "A² with estimated mean and spread (divisor n − 1)",
                 "Anderson and Darling 1954; D'Agostino and Stephens 1986, table 4.9");
    if (!found) return;
    const double beyond = shareBeyond(context.errors, moments.standardDeviation);
    Goad goad;
    goad.key = "shape of residuals";
    goad.check = firing;
    const bool skewed = skewP < pLimit && std::fabs(moments.skewness) > 0.5;
    const bool heavy = kurtosisP < pLimit && kurtosis > 3;
    goad.title = skewed ? std::string("Residuals have a long tail ") +
                              (moments.skewness > 0 ? "to the right" : "to the left")
                 : heavy ? "More residuals lie far out than a normal has"
                         : "Residuals are not normal";
    goad.reading = "skewness " + readableText(moments.skewness, 3) + ", kurtosis " +
                   readableText(kurtosis, 3) + "; p " + probabilityText(jbP) + " (Jarque–Bera), " +
                   probabilityText(andersonDarlingP(a2, n)) + " (Anderson–Darling); " +
                   readableText(100 * beyond, 2) + " % lie where a normal has 5 %; " + does;
    goad.threshold = pThresholdText(pLimit) + " of any of four tests";
    goad.source = "Jarque and Bera 1980; Anderson and Darling 1954";
    goad.station = "check";
    goad.cost = std::fabs(beyond - 0.05);
    goad.costSays = "the share of rows that is wrongly in or out of a 95 % interval of single values";
    goad.size = std::fabs(moments.skewness) + std::fabs(kurtosis - 3);
    const bool positive =
        std::all_of(context.learningRows.begin(), context.learningRows.end(), [&](auto row) {
            return context.table.at(context.response(), context.file).numbers()[row] > 0;
        });
    if (!context.logResponse && moments.skewness > 0 && positive)
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    if (heavy && context.kind.leastSquares)
        goad.moves.push_back(
            {.label = "fit robustly", .edit = [](Recipe& recipe, const std::string&) {
                 recipe = withEstimator(recipe, {"robust", {{"function", std::string("Huber")}}});
             }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
