#pragma once
// A search under a budget: kinds, settings and terms tried on the same folds, the hopeless ones stopped
// early, and what it learned told.
#include "recipe/recipe.h"
#include "study/prepare_rows.h"

#include <cmath>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

struct SearchPlan {
    /// What ends it first: minutes, fits (a model learned for one fold), or so many candidates in a row that
    /// did not become the best. 0: no such end; one is needed.
    double minutes = 0;
    std::size_t fits = 0, patience = 0;
    /// Names of kinds; empty: all that say the mean of such a response.
    std::vector<std::string> kinds{};
    /// Whether curves, products and logarithms of the terms are tried by models with coefficients, and by all
    /// kinds what is left without some terms; and whether logarithms of a positive response are.
    bool terms = true, logs = true;
    std::uint64_t seed = 1;
};
/// Reads {"minutes": 5, "fits": 200, "patience": 30, "kinds": ["forest"], "terms": true, "logs": true,
/// "seed": 1}. Errors: badRecipe.
SearchPlan searchPlanFrom(std::string_view json, const std::string& file);
std::string searchPlanText(const SearchPlan& plan);

/// A candidate, with what it missed by over the folds it was judged by.
struct Tried {
    Recipe recipe;
    /// "boosted trees of 20 leaves, 150 rounds; rate 0.08".
    std::string says;
    std::size_t folds = 0;
    /// Mean over its folds, in the response's unit squared; NaN where it could not be learned.
    double mse = 0, standardError = 0;
    double seconds = 0;
    /// "judged by all folds", "stopped after 1 of 5 folds", "could not be learned: …".
    std::string ended;
    /// By row of the table; of candidates judged by all folds.
    std::vector<double> outOfFold{};
    bool whole = false;
    double rmse() const { return std::sqrt(mse); }
};

/// How far a setting of a kind tells candidates apart: the share of the variance of their errors (ranks,
/// first fold) between thirds of its values.
struct SettingMattered {
    std::string kind, setting;
    double share = 0;
    std::size_t candidates = 0;
};

struct SearchFound {
    SearchPlan plan;
    FoldPlan folds;
    std::vector<Tried> tried;
    std::size_t fits = 0;
    double minutes = 0;
    /// Places among those tried: the best, the straight model that all are compared with, and one that is
    /// simpler and nearly as good, if there is one.
    std::size_t best = 0, straight = 0;
    std::optional<std::size_t> simpler{};
    /// Root mean squared errors over rows judged; the best's corrected for having been chosen.
    double bestRmse = 0, straightRmse = 0, simplerRmse = 0, corrected = 0;
    double correctedLower = 0, correctedUpper = 0;
    /// Share of resamplings in which the best is better than the straight model, and in which it is the best.
    double certainty = 0, stability = 0;
    std::vector<SettingMattered> mattered{};
    std::string endedBy;
    /// The story, in sentences.
    std::string says;
};

/// Searches by the recipe's folds, where these are ten at most that judge every row once, otherwise by five.
/// Rows held out and locked for the test are neither learned from nor judged.
///
/// Races by successive halving (Jamieson and Talwalkar 2016, AISTATS; of a class with Maron and Moore 1994):
/// nine candidates are judged by one fold, the better third by half of the folds, the best of them by all.
/// It asks nothing of how errors are distributed and spends the same on every seed, which bounds of races do
/// not. After the first race, of the kinds' usual settings, half of the candidates are drawn at random from
/// scales of each setting and half near the better ones so far.
///
/// The error of the best is corrected for having been chosen by the bootstrap of Tsamardinos, Greasidou and
/// Borboudakis 2018 (Machine Learning 107): of rows drawn, the best among all that were judged by all folds
/// is judged by the rows not drawn. The same budget of fits and seed give the same search. `soFar` is called
/// when a candidate is done. A stop that is served ends it with what there is. Errors: badRecipe for a budget
/// of nothing, those of judgeByFolds for the straight model. Throws Stopped.
SearchFound search(const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
                   const SearchPlan& plan, Threads threads, Progress& progress,
                   const std::function<void(const Tried&)>& soFar = {});

/// The recipe with the model and the terms of a candidate; what is asked of it stays.
Recipe withTried(const Recipe& recipe, const Tried& tried);

/// Places of those tried: judged by all folds first, then by most, the smaller error first.
std::vector<std::size_t> bestFirst(const std::vector<Tried>& tried);

/// A line for each candidate, the best first; and what was found of them together.
std::string searchCsv(const SearchFound& found);
std::string searchJson(const SearchFound& found);

} // namespace oxgoad
