#include "study/fold_evidence.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "recipe/model_parts.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <charconv>
#include <cmath>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

constexpr std::string_view differenceName = "held-out error less error over folds";
constexpr std::string_view unseenKey = "levels not learned in folds";
constexpr std::string_view stoppedKey = "folds were stopped";

ordered_json bootstrapJson(const BootstrapErrors& b) {
    return {{"out_of_bag_mse", b.outOfBag},
            {"mse_632", b.plain632},
            {"mse_632_plus", b.plus632},
            {"rmse_632_plus", std::sqrt(b.plus632)},
            {"no_information_mse", b.noInformation},
            {"relative_overfitting", b.overfitting},
            {"weight", b.weight}};
}

/// A fold as scripts know it: its number, or the value of its column.
ordered_json foldJson(const FoldEvidence& folds, const std::string& name) {
    const FoldKind kind = folds.plan.kind;
    if (kind == FoldKind::rollingOrigin) {
        std::size_t number = 0;
        while (number < folds.each.size() && folds.each[number].fold != name)
            ++number;
        return number + 1;
    }
    double number = 0;
    const auto read = std::from_chars(name.data(), name.data() + name.size(), number);
    if (read.ec != std::errc() || read.ptr != name.data() + name.size() || !std::isfinite(number))
        return name;
    if (number == std::floor(number) && std::fabs(number) < 1e15) return static_cast<std::int64_t>(number);
    return number;
}

/// Held-out rows are new to every model of the folds, and were learned from by none.
Reading differenceOf(const Evidence& evidence, const FoldEvidence& folds) {
    const double difference = evidence.heldOut.rmse - folds.rmse;
    const double error = std::hypot(evidence.heldOut.rmseError, folds.rmseError);
    const double half = normalQuantile(0.975) * error;
    Reading reading;
    reading.name = differenceName;
    reading.value = difference;
    reading.threshold = half;
    if (std::isfinite(error) && error > 0) reading.p = normalTwoSided(difference / error);
    reading.sentence = "RMSE " + readableText(evidence.heldOut.rmse) + " on held-out rows, " +
                       readableText(folds.rmse) + " over folds: " + readableText(difference) +
                       " more, 95 % from " + readableText(difference - half) + " to " +
                       readableText(difference + half);
    reading.sentence += std::fabs(difference) <= half
                            ? "; no more than one split differs from another"
                            : "; more than the spread of rows explains, so that the two are not of one kind";
    reading.source =
        "difference of independent estimates; the folds' spread as Bengio and Grandvalet 2004 warn";
    return reading;
}

Reading noDifference() {
    Reading reading;
    reading.name = differenceName;
    reading.value = reading.threshold = nan;
    reading.sentence = "does not apply: no rows are held out beside the folds";
    return reading;
}

Goad unseenGoad(const FoldEvidence& folds) {
    Goad goad;
    goad.key = unseenKey;
    goad.severity = Severity::caution;
    goad.title = plural(folds.unseenRows, "row was", "rows were") +
                 " judged by folds that had not learned their level";
    std::vector<std::string> levels;
    for (const UnseenLevel& level : folds.unseen) {
        std::string text = level.column + ": " + level.level;
        if (std::find(levels.begin(), levels.end(), text) == levels.end()) levels.push_back(std::move(text));
    }
    goad.reading =
        nameList(levels, 4) +
        ". Such a row is predicted as the mean over the levels its fold has learned, each as often "
        "as it learned it: what a new level would get";
    goad.threshold = "any judged row with a level that the fold's learning rows lack";
    goad.source = "common practice, no source";
    goad.station = "data";
    goad.column = folds.unseen.front().column;
    goad.row = folds.unseen.front().rows.front();
    return goad;
}

Goad stoppedGoad(const FoldEvidence& folds) {
    Goad goad;
    goad.key = stoppedKey;
    goad.severity = Severity::caution;
    goad.title = countText(folds.done) + " of " + countText(folds.asked) + " folds were judged";
    goad.reading = "the rest was stopped; errors and their spread are of the folds done";
    goad.threshold = "all folds";
    goad.source = "common practice, no source";
    goad.station = "check";
    return goad;
}

} // namespace

ordered_json foldsJson(const FoldEvidence& f, const Recipe& recipe) {
    ordered_json out{{"kind", foldKindName(f.plan.kind)},
                     {"says", foldPlanText(f.plan)},
                     {"asked", f.asked},
                     {"done", f.done},
                     {"rows", f.rows},
                     {"mse", f.mse},
                     {"rmse", f.rmse},
                     {"mae", f.mae},
                     {"r_squared", f.rSquared},
                     {"mean_of_fold_mse", f.meanOfFoldMse},
                     {"standard_error", f.standardError},
                     {"rmse_standard_error", f.rmseError},
                     {"adjusted_mse", f.adjustedMse},
                     {"learning_mse", f.learningMse}};
    if (f.bootstrap) out["bootstrap"] = bootstrapJson(*f.bootstrap);
    if (f.repeats.size() > 1) {
        out["spread_over_repeats"] = f.spreadOverRepeats;
        for (const RepeatScore& r : f.repeats)
            out["repeats"].push_back({{"seed", r.seed}, {"mse", r.mse}, {"rmse", r.rmse}});
    }
    out["unpredicted"] = f.unpredicted;
    if (f.withoutValue > 0) out["without_value"] = f.withoutValue;
    if (f.unseenRows > 0) {
        out["unseen_rows"] = f.unseenRows;
        for (const UnseenLevel& u : f.unseen) {
            ordered_json rows = ordered_json::array();
            for (const auto row : u.rows)
                rows.push_back(row + 1);
            out["unseen_levels"].push_back(
                {{"fold", foldJson(f, u.fold)}, {"column", u.column}, {"level", u.level}, {"rows", rows}});
        }
    }
    if (f.errorWithout.size() == recipe.terms.size())
        for (std::size_t t = 0; t < recipe.terms.size(); ++t)
            out["error_without"][termName(recipe.terms[t])] = f.errorWithout[t];
    for (const auto& [name, share] : f.chosenShares)
        out["chosen_shares"][name] = share;
    constexpr std::size_t mostListed = 20000;
    if (f.each.size() > mostListed) out["each_not_listed"] = f.each.size() - mostListed;
    for (const FoldScore& e : std::span(f.each).first(std::min(f.each.size(), mostListed))) {
        ordered_json fold{{"fold", foldJson(f, e.fold)}};
        if (f.plan.kind == FoldKind::rollingOrigin) fold["periods"] = e.fold;
        if (f.repeats.size() > 1) fold["repeat"] = e.repeat + 1;
        fold.update({{"rows", e.rows}, {"mse", e.mse}, {"rmse", e.rmse}, {"mae", e.mae}});
        fold["chosen"] = e.chosen;
        fold["settings"] = estimatorJson(e.settings);
        out["each"].push_back(std::move(fold));
    }
    return out;
}

std::string foldsSentence(const FoldEvidence& f) {
    std::string text = "typical error " + readableText(f.rmse);
    if (!std::isnan(f.rmseError)) text += " ± " + readableText(f.rmseError, 2);
    text += ", judged by " + foldPlanText(f.plan);
    if (f.partial()) text += ", stopped after " + countText(f.done) + " of " + countText(f.asked);
    return text;
}

/// A test error outside what the judgement before led to expect: two standard errors of both.
static std::optional<Goad> testGoad(const Evidence& evidence) {
    if (!evidence.test || evidence.test->rows < 2) return std::nullopt;
    const bool folds = evidence.folds && std::isfinite(evidence.folds->rmseError);
    const double expected = folds ? evidence.folds->rmse : evidence.heldOut.rmse;
    const double error = folds ? evidence.folds->rmseError : evidence.heldOut.rmseError;
    const double test = evidence.test->rmse;
    const double both = std::hypot(error, evidence.test->rmseError);
    if (!(test > expected + 2 * both)) return std::nullopt;
    Goad goad;
    goad.key = testDisappointsKey;
    goad.severity = Severity::alarm;
    goad.tells = Tells::first;
    goad.title = "The test is worse than the judgement before it led to expect";
    goad.reading = "RMSE " + readableText(test, 4) + " on " +
                   plural(evidence.test->rows, "test row", "test rows") + ", where " +
                   (folds ? foldPlanText(evidence.folds->plan)
                          : plural(evidence.heldOut.rows, "held-out row", "held-out rows")) +
                   " led to expect " + readableText(expected, 4) + ", give or take " + readableText(both, 2) +
                   ": the model was chosen by those rows, or the test rows are of another kind";
    goad.threshold = "more than two standard errors of both above it";
    goad.source = "Hastie, Tibshirani and Friedman 2009, \"The elements of statistical learning\", §7.2";
    goad.station = "compare";
    return goad;
}

Findings foldFindings(const Evidence& evidence) {
    Findings found;
    if (auto goad = testGoad(evidence)) found.goads.push_back(std::move(*goad));
    if (!evidence.foldsProblem.empty()) {
        Goad goad;
        goad.key = unjudgedKey;
        goad.severity = Severity::alarm;
        goad.tells = Tells::first;
        goad.title = "The folds could not be judged, so that no error of unseen rows is known";
        goad.reading = evidence.foldsProblem;
        goad.threshold = "any fold that cannot be learned from";
        goad.source = "common practice, no source";
        goad.station = "data";
        found.goads.push_back(std::move(goad));
    }
    if (!evidence.folds) return found;
    const FoldEvidence& folds = *evidence.folds;
    found.readings.push_back(evidence.heldOut.rows > 1 && folds.rows > 0 ? differenceOf(evidence, folds)
                                                                         : noDifference());
    if (folds.unseenRows > 0) found.goads.push_back(unseenGoad(folds));
    if (folds.partial()) found.goads.push_back(stoppedGoad(folds));
    return found;
}

} // namespace oxgoad
