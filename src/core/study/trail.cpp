#include "study/trail.h"

#include "estimate/distributions.h"
#include "recipe/change_text.h"
#include "study/compare_many.h"
#include "study/compare_pairs.h"
#include "study/say.h"

#include <algorithm>
#include <cassert>
#include <cmath>
#include <set>
#include <sstream>

namespace oxgoad {

namespace {

std::string lower(std::string text) {
    for (char& c : text)
        if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
    return text;
}

} // namespace

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
    s.complexity = complexityOf(evidence).value;
    if (evidence.test) s.testRmse = evidence.test->rmse;
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

void Trail::replaceLast(const Recipe& recipe, const Evidence& evidence) {
    TrailFit& last = m_fits.back();
    const TrailFit* from = find(last.parent);
    last.change = from ? changeText(from->recipe, recipe) : startText(recipe);
    last.recipe = recipe;
    last.summary = summaryOf(evidence);
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
        fit.recipe.handRows = recipe.handRows;
        fit.recipe.clearance = recipe.clearance;
        fit.recipe.deliveries = recipe.deliveries;
    }
}

void Trail::lookAtTest(int number) {
    assert(find(number));
    m_testLooks.push_back(number);
}

TrailFit* Trail::at(int number) {
    return const_cast<TrailFit*>(find(number));
}

void Trail::rename(int number, const std::string& name) {
    at(number)->name = name;
}

void Trail::annotate(int number, const std::string& note) {
    at(number)->note = note;
}

void Trail::pin(int number, bool pinned) {
    at(number)->pinned = pinned;
    if (pinned) at(number)->pruned = false;
}

void Trail::timeOf(int number, const std::string& madeAt) {
    at(number)->madeAt = madeAt;
}

std::size_t Trail::prune(int number, bool pruned, int shown) {
    std::set<int> away;
    for (const TrailFit& fit : m_fits)
        if (fit.number == number || away.contains(fit.parent)) away.insert(fit.number);
    // What is pinned or shown stays, and the way to it.
    if (pruned)
        for (const TrailFit& fit : m_fits)
            if (away.contains(fit.number) && (fit.pinned || fit.number == shown))
                for (const TrailFit* way = &fit; way; way = find(way->parent))
                    away.erase(way->number);
    std::size_t changed = 0;
    for (TrailFit& fit : m_fits)
        if (away.contains(fit.number) && fit.pruned != pruned) {
            fit.pruned = pruned;
            ++changed;
        }
    return changed;
}

std::size_t Trail::prunedCount() const {
    return static_cast<std::size_t>(
        std::count_if(m_fits.begin(), m_fits.end(), [](const TrailFit& fit) { return fit.pruned; }));
}

std::string TrailFit::title() const {
    return std::to_string(number) + "  " + (name.empty() ? change : name);
}

TrailDifference differenceOf(const TrailFit& fit, const TrailFit& from, double level) {
    TrailDifference out;
    const FitSummary &a = from.summary, &b = fit.summary;
    out.difference = b.judgedRmse() - a.judgedRmse();
    if (a.foldRmses.size() != b.foldRmses.size() || a.foldRmses.size() < 2 ||
        fit.recipe.judge != from.recipe.judge || fit.earlierRows != from.earlierRows ||
        a.rowsLearning != b.rowsLearning)
        return out;
    std::vector<double> byFold;
    double sum = 0;
    for (std::size_t f = 0; f < a.foldRmses.size(); ++f) {
        byFold.push_back(b.foldRmses[f] - a.foldRmses[f]);
        sum += byFold.back();
        out.foldsBetter += byFold.back() < 0;
    }
    if (std::isnan(sum)) return {};
    out.folds = byFold.size();
    const auto n = static_cast<double>(out.folds);
    out.difference = sum / n;
    const FoldPlan plan = fit.recipe.judge.value_or(FoldPlan{});
    const bool parts =
        plan.kind == FoldKind::kFolds || plan.kind == FoldKind::inProportion || plan.kind == FoldKind::groups;
    const double ratio = plan.kind == FoldKind::bootstrap ? std::exp(-1.0)
                         : parts                          ? 1.0 / std::max(1, plan.folds - 1)
                                                          : 1 / std::max(1.0, n - 1);
    const double half = studentQuantile(level, n - 1) * correctedFoldError(byFold, ratio);
    out.lower = out.difference - half;
    out.upper = out.difference + half;
    return out;
}

bool matches(const TrailFit& fit, const std::string& words) {
    const std::string all =
        lower(std::to_string(fit.number) + " " + fit.name + " " + fit.change + " " + fit.note + " " +
              fit.recipe.response + " " + estimatorText(fit.recipe.estimator));
    std::istringstream each(lower(words));
    for (std::string word; each >> word;)
        if (all.find(word) == std::string::npos) return false;
    return true;
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
