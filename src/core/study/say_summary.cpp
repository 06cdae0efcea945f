#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "study/run_checks.h"
#include "study/say.h"
#include "study/tune.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <cmath>
#include <string_view>

namespace oxgoad {

namespace {

std::string withUnit(const Recipe& recipe, double value, int digits = 4) {
    const auto unit = recipe.units.find(recipe.response);
    return readableText(value, digits) + (unit == recipe.units.end() ? "" : " " + unit->second);
}

const Reading* readingOf(const Evidence& evidence, std::string_view name) {
    for (const Reading& reading : evidence.readings)
        if (reading.name == name && !std::isnan(reading.value)) return &reading;
    return nullptr;
}

std::string learnedText(const Evidence& evidence, const Recipe& recipe) {
    const auto names = inputNames(evidence.study->terms());
    std::string from;
    constexpr std::size_t named = 4;
    for (std::size_t i = 0; i < std::min(named, names.size()); ++i)
        from += (i == 0 ? "" : i + 1 == names.size() ? " and " : ", ") + names[i];
    if (names.size() > named) from += " and " + plural(names.size() - named, "other column", "other columns");
    return "The model predicts " + recipe.response + (from.empty() ? " by its mean" : " from " + from) +
           ", learned from " + plural(evidence.rowsLearning, "row", "rows") + " by " +
           estimatorText(recipe.estimator) + (recipe.logResponse ? " of its logarithm" : "") + ".";
}

/// What a penalty left in the model; empty where it leaves all in.
std::string keptText(const Evidence& evidence) {
    const LinearModel* model = evidence.study->linear();
    if (!model || !model->penalised) return {};
    const auto& columns = model->design.columns();
    std::string kept;
    std::size_t count = 0;
    constexpr std::size_t named = 8;
    for (std::size_t j = 0; j < columns.size(); ++j) {
        if (model->fit.coefficients[static_cast<Eigen::Index>(j)] == 0) continue;
        if (count++ < named) kept += (count > 1 ? ", " : "") + columns[j].name;
    }
    if (count == columns.size()) return {};
    return " The penalty keeps " + countText(count) + " of " + plural(columns.size(), "column", "columns") +
           (count > 0 ? ": " + kept + (count > named ? ", …" : "") : "") + ".";
}

/// How good, on rows it has not seen where there are any.
std::string qualityText(const Evidence& evidence, const Recipe& recipe) {
    const bool folds = evidence.folds && evidence.folds->rows > 0;
    const bool heldOut = evidence.heldOut.rows > 1;
    if (!folds && !heldOut)
        return "How good it is on new rows is not known: it was judged by the " +
               plural(evidence.rowsLearning, "row", "rows") +
               " it learned from only, where it is typically off by " +
               withUnit(recipe, evidence.learning.rmse) + ".";
    const double error = heldOut ? evidence.heldOut.rmse : evidence.folds->rmse;
    const double spread = heldOut ? evidence.heldOut.rmseError : evidence.folds->rmseError;
    const double rSquared = heldOut ? evidence.heldOut.rSquared : evidence.folds->rSquared;
    std::string text = "On rows it did not learn from it is typically off by " + withUnit(recipe, error);
    if (std::isfinite(spread)) text += ", give or take " + readableText(spread, 2);
    text += heldOut ? " (" + plural(evidence.heldOut.rows, "row", "rows") + " " +
                          judgedText(*recipe.setAside) + ")"
                    : " (judged by " + foldPlanText(*recipe.judge) + ")";
    if (const Reading* share = readingOf(evidence, "error over the mean"))
        text += ", " + readableText(100 * share->value, 2) + " % of the mean";
    text += ". ";
    if (!(rSquared > 0)) return text + "That is worse than saying the mean every time: do not use it.";
    return text + "Saying the mean every time would be off by " +
           withUnit(recipe, error / std::sqrt(1 - std::min(rSquared, 1 - 1e-16))) + ".";
}

std::string intervalText(const Evidence& evidence, const Recipe& recipe) {
    const Reading* coverage = readingOf(evidence, "interval coverage");
    if (!coverage) return {};
    const std::string level = percentText(recipe.level);
    const bool off = coverage->p && *coverage->p < coverage->threshold;
    return " Its " + level + " intervals held " + readableText(100 * coverage->value, 3) +
           " % of the rows that could test them" +
           (off ? (coverage->value < recipe.level ? ", so they are too narrow." : ", so they are too wide.")
                : ", which agrees with what they say.");
}

std::string forecastText(const Evidence& evidence, const Recipe& recipe) {
    if (!evidence.forecast) return {};
    const ForecastEvidence& f = *evidence.forecast;
    double total = 0;
    for (const double v : f.prediction)
        if (std::isfinite(v)) total += v;
    const std::size_t predicted = f.prediction.size() - f.unpredicted;
    std::string text =
        " The forecast of " + plural(f.prediction.size(), "row", "rows") + " adds up to " +
        withUnit(recipe, total, 5) +
        (f.unpredicted > 0 ? " over the " + plural(predicted, "row", "rows") + " that could be predicted"
                           : "") +
        ".";
    if (f.outside > 0)
        text += " Of them " + plural(f.outside, "row lies", "rows lie") +
                " outside what the model learned from, and nothing here vouches for them.";
    if (f.unpredicted > 0) text += " " + unpredictedText(f) + ".";
    return text;
}

/// A title as it stands within a sentence; names of columns and levels keep their capitals.
std::string withinSentence(std::string title) {
    static constexpr std::array starts{"The ",       "Row ",       "Rows ",  "Held-out ", "Errors ",
                                       "Residuals ", "Something ", "Few ",   "Totals ",   "Intervals ",
                                       "Places ",    "What ",      "Step ",  "More ",     "Terms ",
                                       "As ",        "Too ",       "Equal ", "Chosen ",   "No "};
    for (const std::string_view start : starts)
        if (title.starts_with(start))
            title[0] = static_cast<char>(std::tolower(static_cast<unsigned char>(title[0])));
    return title;
}

std::string goadsText(const Evidence& evidence) {
    std::vector<const Goad*> open, accepted;
    for (const Goad& goad : evidence.goads)
        (goad.accepted ? accepted : open).push_back(&goad);
    std::string text;
    if (open.empty())
        text = " No check that could be made is open.";
    else {
        constexpr std::size_t named = 3;
        text = " What could make it wrong and is not answered yet: ";
        std::size_t said = 0, rest = 0;
        for (const Goad* goad : open) {
            if (!goad->under.empty()) continue;
            if (said == named) {
                ++rest;
                continue;
            }
            const auto more =
                std::count_if(open.begin(), open.end(), [&](const Goad* g) { return g->under == goad->key; });
            text += (said > 0 ? "; " : "") + withinSentence(goad->title);
            if (more > 0)
                text += " (with " + plural(static_cast<std::size_t>(more), "more sign", "more signs") + ")";
            ++said;
        }
        text += rest > 0 ? "; and " + plural(rest, "more finding", "more findings") + "." : ".";
    }
    if (!accepted.empty()) {
        text += " Known and accepted: ";
        for (std::size_t i = 0; i < accepted.size(); ++i)
            text += (i > 0 ? "; " : "") + withinSentence(accepted[i]->title) + " (" + *accepted[i]->accepted +
                    ")";
        text += ".";
    }
    return text;
}

std::string leftOutText(const Recipe& recipe) {
    std::string text;
    if (!recipe.leaveOut.empty()) {
        constexpr std::size_t named = 10;
        text = " Left out by hand: ";
        for (std::size_t i = 0; i < std::min(named, recipe.leaveOut.size()); ++i)
            text += (i > 0 ? "; " : "") + std::string("row ") + countText(recipe.leaveOut[i].row) + " (" +
                    recipe.leaveOut[i].reason + ")";
        if (recipe.leaveOut.size() > named)
            text += "; and " + plural(recipe.leaveOut.size() - named, "more row", "more rows");
        text += ".";
    }
    for (const auto& [name, setting] : recipe.checks)
        text += setting.off ? " Not checked: " + name + " (" + setting.reason + ")."
                            : " The threshold of " + name + " is " + shortText(*setting.threshold) +
                                  (setting.reason.empty() ? "" : " (" + setting.reason + ")") + ".";
    return text;
}

} // namespace

std::string summaryText(const Evidence& evidence, const Recipe& recipe) {
    std::string text = learnedText(evidence, recipe) + keptText(evidence) + " " +
                       qualityText(evidence, recipe) + intervalText(evidence, recipe) +
                       forecastText(evidence, recipe) + goadsText(evidence) + leftOutText(recipe);
    if (checksPending(evidence)) text += " Not all checks have run yet.";
    return text;
}

/// What folds found, of kinds without a path of their own.
std::string tuningText(const Evidence& evidence) {
    if (!evidence.study || !evidence.study->tuning) return {};
    const Tuning& tuning = *evidence.study->tuning;
    const TuningPoint &found = tuning.points[tuning.chosen], &best = tuning.points[tuning.smallest];
    std::string text = tuning.label + " " + shortText(found.value) + ", of " +
                       plural(tuning.points.size(), "value", "values") + " tried";
    if (tuning.judgedBy.empty()) return text + "; there were too few rows to judge them by folds";
    text += "; found by " + tuning.judgedBy + ": root mean squared error " +
            readableText(std::sqrt(found.meanOfFoldMse), 4);
    if (tuning.chosen != tuning.smallest)
        text += ", within one standard error of the smallest, " +
                readableText(std::sqrt(best.meanOfFoldMse), 4) + " at " + shortText(best.value);
    if (!tuning.note.empty()) text += "; " + tuning.note;
    return text;
}

std::string settingsFoundText(const Evidence& evidence) {
    const LinearModel* model = evidence.study ? evidence.study->linear() : nullptr;
    if (!model || !model->penalised) return tuningText(evidence);
    const Penalised& p = *model->penalised;
    const std::size_t columns = model->design.columns().size();
    std::string text = "Penalty " + readableText(p.penalty, 4) + ", l1 share " + shortText(p.l1Share) +
                       ", keeps " + countText(p.kept) + " of " + plural(columns, "column", "columns") + " (" +
                       shortText(std::round(10 * p.effectiveDegreesOfFreedom) / 10) +
                       " effective degrees of freedom)";
    const PenaltySearch* search = evidence.study->search.get();
    if (!search || search->judgedBy.empty()) return text;
    const PenaltyPoint& found = search->points[search->chosen];
    const PenaltyPoint& best = search->points[search->smallest];
    text += "; found by " + search->judgedBy + ": root mean squared error " +
            readableText(std::sqrt(found.meanOfFoldMse), 4);
    if (search->chosen != search->smallest)
        text += ", within one standard error of the smallest, " +
                readableText(std::sqrt(best.meanOfFoldMse), 4) + " at penalty " +
                readableText(best.penalty, 4) + " with " + countText(best.kept) + " columns";
    if (!search->note.empty()) text += "; " + search->note;
    return text;
}

} // namespace oxgoad
