#include "study/model_goads.h"

#include "base/text.h"

#include <algorithm>

namespace oxgoad {

namespace {

/// Terms that a program chose by these rows: tests after it, and where choice and tests disagree.
void addChoiceGoads(const Recipe& recipe, const Evidence& evidence, std::vector<Goad>& goads) {
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
    for (const auto& [name, share] : chosen.shares) {
        if (share < 0.5) fickle += (fickle.empty() ? "" : ", ") + name + " (" + percentText(share) + ")";
        for (const TermEvidence& term : evidence.terms)
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
    for (const auto& [name, p] : chosen.passedOver)
        if (std::none_of(evidence.terms.begin(), evidence.terms.end(),
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

} // namespace

void addDataGoads(const Recipe& recipe, const PreparedRows& prepared, std::vector<Goad>& goads) {
    for (std::size_t i = 0; i < prepared.steps.size(); ++i) {
        if (prepared.steps[i].problem.empty()) continue;
        Goad goad;
        goad.key = "step: " + stepSentence(recipe.steps[i]);
        goad.severity = Severity::alarm;
        goad.title = "Step " + std::to_string(i + 1) + " could not run";
        goad.reading = prepared.steps[i].problem;
        goad.threshold = "any step that is switched on";
        goad.source = "common practice, no source";
        goad.station = "data";
        goad.moves.push_back({Move::Kind::seeSteps, "see steps", {}, i});
        goads.push_back(std::move(goad));
    }
    auto used = inputNames(recipe.terms);
    used.push_back(recipe.response);
    for (const Goad& goad : prepared.ledger.table)
        goads.push_back(goad);
    for (const std::string& column : used)
        if (const LedgerLine* line = prepared.ledger.find(column))
            for (const Goad& goad : line->goads)
                if (!goad.key.starts_with("missing: ") && !goad.key.starts_with("rare levels: ") &&
                    !goad.key.starts_with("unreadable cells: "))
                    goads.push_back(goad);
}

void addModelGoads(const Recipe& recipe, const Evidence& evidence, std::vector<Goad>& goads) {
    for (const Term& term : recipe.terms) {
        const auto missing = parentsMissing(term, recipe.terms);
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
        goad.moves.push_back({Move::Kind::addParents, "put them in", termName(term), 0});
        goad.moves.push_back({Move::Kind::leaveOutTerm, "take the product out", termName(term), 0});
        goads.push_back(std::move(goad));
    }
    addChoiceGoads(recipe, evidence, goads);
    if (!evidence.iterated || evidence.iterated->converged) return;
    Goad goad;
    goad.key = "no convergence";
    goad.severity = Severity::alarm;
    goad.title = "The estimator did not come to rest";
    goad.reading = "after " + std::to_string(evidence.iterated->iterations) +
                   " iterations the estimates still moved; those of the last one are kept";
    goad.threshold = "steps below 1e-9 of the scale";
    goad.source = "common practice, no source";
    goad.station = "fit";
    goads.push_back(std::move(goad));
}

} // namespace oxgoad
