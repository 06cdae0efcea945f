#include "study/trail.h"

#include "recipe/change_text.h"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace oxgoad {

FitSummary summaryOf(const Evidence& evidence) {
    FitSummary s{
        evidence.learning.rmse,     evidence.heldOut.rmse,
        evidence.heldOut.rmseError, evidence.linear ? evidence.linear->adjustedRSquared : std::nan(""),
        evidence.rowsLearning,      {}};
    constexpr std::size_t most = 200;
    if (evidence.folds) {
        s.foldRmse = evidence.folds->rmse;
        s.foldRmseError = evidence.folds->rmseError;
        s.repeatSpread = evidence.folds->spreadOverRepeats;
        for (const FoldScore& fold : evidence.folds->each)
            if (s.foldRmses.size() < most) s.foldRmses.push_back(fold.rmse);
        for (const RepeatScore& repeat : evidence.folds->repeats)
            if (evidence.folds->repeats.size() > 1 && s.repeatRmses.size() < most)
                s.repeatRmses.push_back(repeat.rmse);
    }
    for (const Goad& goad : evidence.goads)
        s.goads.push_back(goad.key);
    return s;
}

double FitSummary::judgedRmse() const {
    return !std::isnan(foldRmse) ? foldRmse : !std::isnan(heldOutRmse) ? heldOutRmse : learningRmse;
}

double FitSummary::judgedRmseError() const {
    return !std::isnan(foldRmse) ? foldRmseError : heldOutRmseError;
}

const TrailFit* Trail::find(int number) const {
    const auto found =
        std::find_if(m_fits.begin(), m_fits.end(), [&](const TrailFit& f) { return f.number == number; });
    return found == m_fits.end() ? nullptr : &*found;
}

const TrailFit* Trail::findModel(const Recipe& recipe) const {
    const auto found = std::find_if(m_fits.begin(), m_fits.end(),
                                    [&](const TrailFit& f) { return sameModel(f.recipe, recipe); });
    return found == m_fits.end() ? nullptr : &*found;
}

int Trail::add(const Recipe& recipe, const Evidence& evidence, int parent) {
    const TrailFit* from = find(parent);
    TrailFit fit;
    fit.number = m_fits.empty() ? 1 : m_fits.back().number + 1;
    fit.parent = from ? parent : 0;
    fit.change = from ? changeText(from->recipe, recipe) : startText(recipe);
    fit.recipe = recipe;
    fit.summary = summaryOf(evidence);
    m_fits.push_back(std::move(fit));
    return m_fits.back().number;
}

void Trail::rowsWereReadAgain() {
    for (TrailFit& fit : m_fits)
        fit.earlierRows = true;
}

void Trail::renew(int number, const Evidence& evidence) {
    for (TrailFit& fit : m_fits)
        if (fit.number == number) {
            fit.summary = summaryOf(evidence);
            fit.earlierRows = false;
        }
}

void Trail::updateNotes(int number, const Recipe& recipe) {
    for (TrailFit& fit : m_fits) {
        if (fit.number != number) continue;
        fit.recipe.accepted = recipe.accepted;
        fit.recipe.noted = recipe.noted;
        fit.recipe.chosen = recipe.chosen;
        fit.recipe.units = recipe.units;
        fit.recipe.roles = recipe.roles;
    }
}

void Trail::lookAtTest(int number) {
    assert(find(number));
    m_testLooks.push_back(number);
}

std::vector<std::string> Trail::mendedGoads(int number) const {
    std::vector<std::string> mended;
    const TrailFit* fit = find(number);
    if (!fit) return mended;
    auto has = [](const std::vector<std::string>& keys, const std::string& key) {
        return std::find(keys.begin(), keys.end(), key) != keys.end();
    };
    for (const TrailFit* above = find(fit->parent); above; above = find(above->parent))
        for (const std::string& key : above->summary.goads)
            if (!has(fit->summary.goads, key) && !has(mended, key)) mended.push_back(key);
    return mended;
}

std::optional<Trail> Trail::fromFits(std::vector<TrailFit> fits) {
    Trail trail;
    for (TrailFit& fit : fits) {
        const bool rises = fit.number > (trail.m_fits.empty() ? 0 : trail.m_fits.back().number);
        if (!rises || (fit.parent != 0 && !trail.find(fit.parent))) return std::nullopt;
        trail.m_fits.push_back(std::move(fit));
    }
    return trail;
}

} // namespace oxgoad
