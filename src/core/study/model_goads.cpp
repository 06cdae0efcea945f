#include "study/model_goads.h"

#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "recipe/recipe_edits.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Terms that a program chose by these rows: tests after it, and where choice and tests disagree.
void addChoiceGoads(const Recipe& recipe, const Evidence& evidence, std::vector<Goad>& goads) {
    if (recipe.choose && !recipe.chosen) {
        Goad goad;
        goad.key = "chosen terms";
        goad.title = "The terms are chosen by looking at these rows";
        goad.reading = choosePlanText(*recipe.choose) + ", " +
                       std::to_string(evidence.study->terms().size()) + " of " +
                       plural(recipe.terms.size(), "term", "terms") +
                       "; p values and intervals do not know of the choice and are optimistic; folds judge "
                       "it with the rest";
        goad.threshold = "any choice of terms by the rows the fit learns from";
        goad.source = "Miller 2002, \"Subset selection in regression\", 2nd ed., ch. 6";
        goad.station = "fit";
        goads.push_back(std::move(goad));
    }
    if (!recipe.chosen) return;
    const ChosenTerms& chosen = *recipe.chosen;
    Goad goad;
    goad.key = "chosen terms";
    goad.title = "The terms were chosen by looking at these rows";
    goad.reading = chosen.how + ", from " + plural(chosen.tried, "term", "terms") +
                   "; p values and intervals do not know of the choice and are optimistic";
    goad.threshold = "any choice of terms by the rows the fit learns from";
    goad.source = "Miller 2002, \"Subset selection in regression\", 2nd ed., ch. 6";
    goad.station = "fit";
    std::string fickle, weak;
    const std::vector<TermEvidence> none;
    const std::vector<TermEvidence>& terms = evidence.linear ? evidence.linear->terms : none;
    for (const auto& [name, share] : chosen.shares) {
        if (share < 0.5) fickle += (fickle.empty() ? "" : ", ") + name + " (" + percentText(share) + ")";
        for (const TermEvidence& term : terms)
            if (term.name == name && term.p > 0.05)
                weak += (weak.empty() ? "" : ", ") + name + " (p " + probabilityText(term.p) + ")";
    }
    if (!fickle.empty()) goad.reading += "; chosen again in fewer than half of the folds: " + fickle;
    goads.push_back(goad);
    if (!weak.empty()) {
        goad.key = "chosen but not significant";
        goad.title = "Chosen terms that are not significant: " + weak;
        goad.reading = "a criterion of prediction keeps a term that lowers the error a little, at p up "
                       "to about 0.16 "
                       "for one column by AIC; a test asks whether the effect could be 0";
        goad.threshold = "p above 0.05";
        goad.source = "Miller 2002, ch. 5";
        goads.push_back(goad);
    }
    std::string strong;
    for (const auto& [name, p] : chosen.notSelected)
        if (std::none_of(terms.begin(), terms.end(),
                         [&, n = name](const TermEvidence& t) { return t.name == n; }))
            strong += (strong.empty() ? "" : ", ") + name + " (p " + probabilityText(p) + ")";
    if (strong.empty()) return;
    goad.key = "significant but not chosen";
    goad.title = "Terms that would be significant were not chosen: " + strong;
    goad.reading =
        "the criterion asked more of a term than a p below 0.05, the steps were too few, or the path led "
        "another way; add one and look at the held-out error";
    goad.threshold = "p below 0.05 when added";
    goad.source = "Miller 2002, ch. 5";
    goads.push_back(goad);
}

/// What a penalty and its search leave open.
void addPenaltyGoads(const Recipe& recipe, const Evidence& evidence, std::vector<Goad>& goads) {
    const LinearModel* model = evidence.study ? evidence.study->linear() : nullptr;
    if (!model || !model->penalised) return;
    const PenaltySearch* search = evidence.study->search.get();
    if (model->penalised->kept == 0 && !recipe.terms.empty()) {
        Goad goad;
        goad.key = "nothing kept";
        goad.severity = Severity::alarm;
        goad.title = "The penalty keeps no term: the model is the mean alone";
        goad.reading = "penalty " + readableText(model->penalised->penalty, 6) +
                       (search ? ", the choice of " + search->judgedBy +
                                     ": on rows not learned from no term was worth its place"
                               : "");
        goad.threshold = "no column kept";
        goad.source = "Hastie, Tibshirani and Friedman 2009, \"The elements of statistical learning\", §3.4";
        goad.station = "fit";
        goads.push_back(std::move(goad));
    }
    if (!search || !search->atEdge) return;
    Goad goad;
    goad.key = "penalty at the edge";
    goad.title = "The penalty lies at an end of those that were tried";
    goad.reading = "penalty " + readableText(model->penalised->penalty, 6) + " of " +
                   plural(search->points.size(), "that was tried", "that were tried") +
                   "; a better one may lie beyond";
    goad.threshold = "the smallest or the largest of the penalties given";
    goad.source = "common practice, no source";
    goad.station = "fit";
    goad.moves.push_back({.label = "try the usual penalties", .edit = [](Recipe& next, const std::string&) {
                              next.estimator.fields.erase("penalties");
                          }});
    goads.push_back(std::move(goad));
}

/// Where errors, tests and intervals cannot be said, or say less than they seem to.
void addUncertaintyGoads(const Recipe& recipe, const Evidence& evidence, std::vector<Goad>& goads) {
    // A penalty's coefficients have no errors by their making.
    if (!evidence.linear ||
        (evidence.study && evidence.study->linear() && !evidence.study->linear()->hasErrors()))
        return;
    const auto add = [&](std::string key, Severity severity, std::string title, std::string reading,
                         std::string threshold, std::string source) -> Goad& {
        Goad goad;
        goad.key = std::move(key);
        goad.severity = severity;
        goad.title = std::move(title);
        goad.reading = std::move(reading);
        goad.threshold = std::move(threshold);
        goad.source = std::move(source);
        goad.station = "fit";
        goads.push_back(std::move(goad));
        return goads.back();
    };
    const std::string practice = "common practice, no source";
    const auto coefficients = static_cast<std::size_t>(
        std::count_if(evidence.linear->coefficients.begin(), evidence.linear->coefficients.end(),
                      [](const CoefficientEvidence& c) { return !c.dependent && !c.derived; }));
    if (!(evidence.linear->degreesOfFreedom > 0)) {
        add("no degrees of freedom", Severity::alarm, "As many coefficients as rows: the fit proves nothing",
            plural(evidence.rowsLearning, "learning row", "learning rows") + " and " +
                plural(coefficients, "coefficient", "coefficients") +
                ": any rows would fit, so errors, tests, R² and intervals have no value",
            "0 degrees of freedom", practice);
        return;
    }
    if (evidence.linear->fitsExactly) {
        Goad& goad =
            add("fits exactly", Severity::alarm, "The model says the response to the last digit",
                "the residuals are no more than the rounding of the values, so errors, tests and intervals "
                "have no value; often the response was computed from these columns",
                "residuals within 4 roundings of the largest value", practice);
        goad.column = recipe.response;
    }
    if (evidence.linear->responseDigitsLeft < 6)
        add("far-off response", Severity::caution, "The response varies little beside its size",
            "a spread of some " +
                shortText(evidence.linear->totalSumOfSquares > 0
                              ? std::sqrt(evidence.linear->totalSumOfSquares /
                                          static_cast<double>(evidence.rowsLearning))
                              : 0) +
                " leaves " + readableText(evidence.linear->responseDigitsLeft, 2) +
                " digits of the values as they are stored; take a constant off before they are written",
            "fewer than 6 digits", "Chan, Golub and LeVeque 1983, The American Statistician 37")
            .column = recipe.response;
    constexpr std::size_t fewGroups = 30;
    if (recipe.errors.kind == CovarianceKind::clustered && evidence.linear->errorUnits > 0 &&
        evidence.linear->errorUnits < fewGroups) {
        Goad& goad =
            add("few groups: " + recipe.errors.column, Severity::caution,
                "Few groups for errors by " + recipe.errors.column,
                plural(evidence.linear->errorUnits, "group", "groups") +
                    ": such errors are too small with few groups and intervals too narrow (with 10 groups a "
                    "95 % interval covers about 92 %)",
                "fewer than about 30 groups",
                "Bell and McCaffrey 2002, Survey Methodology 28; Cameron and Miller 2015, Journal of Human "
                "Resources 50");
        goad.column = recipe.errors.column;
        goad.moves.push_back(
            {.label = "correct for few groups", .edit = [](Recipe& edited, const std::string&) {
                 edited.errors.kind = CovarianceKind::clusteredFewGroups;
             }});
    }
    if (evidence.linear->rowsFixed > 0 && recipe.errors.kind != CovarianceKind::homoskedastic)
        add("rows that fix their value", Severity::caution,
            plural(evidence.linear->rowsFixed, "row alone fixes its fitted value",
                   "rows alone fix their fitted values"),
            "such a row (the only one of a level, say) has no residual whatever the spread, so " +
                errorsText(recipe.errors) +
                " see nothing there; where they rest on it they are not given, "
                "or too small",
            "leverage above 1 − 1e-10", "MacKinnon and White 1985, Journal of Econometrics 29");
    std::string untested, why;
    for (const TermEvidence& term : evidence.linear->terms)
        if (!term.why.empty() && term.degreesOfFreedom > 0 && !evidence.linear->fitsExactly) {
            untested += (untested.empty() ? "" : ", ") + term.name;
            why = term.why;
        }
    if (untested.empty() && !evidence.linear->fWhy.empty() && !evidence.linear->terms.empty() &&
        !evidence.linear->fitsExactly) {
        untested = "all terms together";
        why = evidence.linear->fWhy;
    }
    if (!untested.empty())
        add("no test of a term", Severity::caution, "No test can be made of " + untested,
            why + " under " + errorsText(recipe.errors),
            "a direction with less than 1e-6 of the largest standard error, or of a row that fixes its value",
            "Pustejovsky and Tipton 2018, Journal of Business & Economic Statistics 36");
}

/// Steps that look back in time at the response, where rows are judged: what such a row has of others that
/// are judged is not known yet when the model is used.
void addReadAnswers(const Recipe& recipe, const PreparedRows& prepared, std::vector<Goad>& goads) {
    const auto judged = std::count_if(prepared.parts.begin(), prepared.parts.end(),
                                      [](Part part) { return part != Part::learning; });
    if (judged == 0) return;
    for (std::size_t i = 0; i < recipe.steps.size(); ++i) {
        const Step& step = recipe.steps[i];
        if ((step.kind != "lag" && step.kind != "rolling mean") || !prepared.steps[i].done ||
            step.text("column") != recipe.response)
            continue;
        Goad goad;
        goad.key = "judged response read: " + stepSentence(step);
        goad.severity = Severity::alarm;
        goad.title = "Step " + std::to_string(i + 1) + " may read what rows are judged by";
        goad.reading =
            "it looks back at " + recipe.response + ", and " +
            plural(static_cast<std::size_t>(judged), "row is", "rows are") +
            " judged: what one of them has of another is not known yet when the model is used, so that the "
            "error looks smaller than it will be";
        goad.threshold = "any step that looks back at the response while rows are held out";
        goad.source =
            "Hyndman and Athanasopoulos 2021, \"Forecasting: principles and practice\", 3rd ed., §5.8";
        goad.station = "data";
        goad.moves.push_back({.label = "see steps", .shows = Move::Shows::steps, .row = i});
        goads.push_back(std::move(goad));
    }
}

} // namespace

void addDataGoads(const Recipe& recipe, const PreparedRows& prepared, std::vector<Goad>& goads) {
    for (std::size_t i = 0; i < prepared.steps.size(); ++i) {
        if (prepared.steps[i].problem.empty()) continue;
        Goad goad;
        goad.key = "step: " + stepSentence(recipe.steps[i]);
        goad.tells = Tells::first;
        goad.severity = Severity::alarm;
        goad.title = "Step " + std::to_string(i + 1) + " could not run";
        goad.reading = prepared.steps[i].problem;
        goad.threshold = "any step that is switched on";
        goad.source = "common practice, no source";
        goad.station = "data";
        goad.moves.push_back({.label = "see steps", .shows = Move::Shows::steps, .row = i});
        goads.push_back(std::move(goad));
    }
    addReadAnswers(recipe, prepared, goads);
    auto used = inputNames(recipe.terms);
    used.push_back(recipe.response);
    for (const Goad& goad : prepared.ledger.table)
        goads.push_back(goad);
    const std::size_t first = goads.size();
    for (const std::string& column : used)
        if (const LedgerLine* line = prepared.ledger.find(column))
            for (const Goad& goad : line->goads)
                if (!goad.key.starts_with("missing: ") && !goad.key.starts_with("rare levels: ") &&
                    !goad.key.starts_with("unreadable cells: "))
                    goads.push_back(goad);
    tellColumnsTogether(goads, first);
}

void addModelGoads(const Recipe& recipe, const Evidence& evidence, std::vector<Goad>& goads) {
    const std::vector<Term> inModel = evidence.study->terms();
    for (const Term& term : inModel) {
        const auto missing = parentsMissing(term, inModel);
        if (missing.empty()) continue;
        std::string names;
        for (const Term& parent : missing)
            names += (names.empty() ? "" : ", ") + termName(parent);
        Goad goad;
        goad.key = "product without parents: " + termName(term);
        goad.title = termName(term) + " stands without " + names;
        goad.reading =
            "where the other part is 0 or at its reference level the slope or difference is forced to be "
            "0, so the fit depends on units and reference levels";
        goad.threshold = "any product that lacks a part as a term of its own";
        goad.source = "Nelder 1977, Journal of the Royal Statistical Society A 140";
        goad.station = "fit";
        goad.column = term.parts[0].column;
        goad.moves.push_back({.label = "put them in", .edit = [term](Recipe& edited, const std::string&) {
                                  edited = withTerm(edited, term);
                              }});
        Move out = leaveOutTerm(termName(term));
        out.label = "take the product out";
        goad.moves.push_back(std::move(out));
        goads.push_back(std::move(goad));
    }
    addChoiceGoads(recipe, evidence, goads);
    addPenaltyGoads(recipe, evidence, goads);
    addUncertaintyGoads(recipe, evidence, goads);
    if (!evidence.study || evidence.study->outcome.converged) return;
    Goad goad;
    goad.key = "no convergence";
    goad.severity = Severity::alarm;
    goad.title = "The estimator did not come to rest";
    goad.reading = evidence.study->outcome.why;
    goad.threshold = "steps below 1e-9 of the scale";
    goad.source = "common practice, no source";
    goad.station = "fit";
    goads.push_back(std::move(goad));
}

} // namespace oxgoad
