#pragma once
// Choosing terms by what they add, and how far the choice can be trusted.
#include "base/parallel.h"
#include "base/progress.h"
#include "recipe/choose_plan.h"
#include "recipe/recipe.h"
#include "study/prepare_rows.h"

#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

using ChooseRequest = ChoosePlan;

struct ChooseStep {
    Term term;
    bool in = true;
    /// Criterion after the step, its best on the way down: RMSE, adjusted R², AICc, BIC, or the p of the
    /// term.
    double criterion = 0;
    std::size_t terms = 0;
};

struct ChosenTerm {
    Term term;
    bool chosen = false;
    /// Of the folds that chose it again without seeing the fold left out.
    double share = 0;
    /// F test of the term in the chosen model; for others when added to it. NaN where it cannot be added.
    double p = 0;
};

struct Choice {
    std::vector<Term> terms;
    /// From the start (nothing, or everything) to the choice; for best subsets the terms in the order of
    /// their worth.
    std::vector<ChooseStep> steps;
    double startCriterion = 0, endCriterion = 0;
    std::vector<ChosenTerm> candidates;
    std::size_t rows = 0;
    int folds = 0;
    /// RMSE of the chosen terms over the folds, which the choice has seen, in the unit the model is fitted
    /// in; and of the whole procedure, the choice made anew in every fold it is judged by: the honest one, in
    /// the response's unit.
    double seenError = 0, honestError = 0;
    /// "10 folds, seed 1".
    std::string judgedBy;
    /// Candidates left out: that no rows tell apart, that most rows lack, or with too many levels.
    std::vector<std::string> notSelected;
    std::string how;
};

/// Chooses among the recipe's terms on rows that have them all, by least squares, with the recipe's weights,
/// offset and logarithm: what `learn` does for a recipe that has its terms chosen. With `describe` the
/// candidates and errors are worked out too, but for `share` and `honestError`. Errors and `soFar` as below.
Choice chooseAmong(const Recipe& recipe, const Table& table, const std::string& file,
                   std::span<const std::uint32_t> rows, const ChoosePlan& request, Threads threads,
                   Progress& progress, const std::function<void(const ChooseStep&)>& soFar = {},
                   bool describe = false);

/// Folds for what is tried out on rows that a model learns from, dealt as the recipe is judged: whole groups,
/// in proportion, in order of time where it goes by that; whole groups where a column has their role. As many
/// as asked for, or as groups and periods allow.
FoldPlan innerFolds(const Recipe& recipe, const Table& table, std::span<const std::uint32_t> rows, int folds,
                    std::uint64_t seed);

/// Chooses on the learning rows that have all candidates, as chooseAmong does, and judges the choice by the
/// folds of the recipe, or by as many as were asked for. Every step works on triangular factors of the folds,
/// made in one pass over the rows; best subsets by branch and bound (Furnival and Wilson 1974, "Regressions
/// by leaps and bounds", Technometrics 16), exactly, for each number of columns, of which the criterion then
/// picks. AICc of Hurvich and Tsai 1989, BIC of Schwarz 1978. `soFar` is called after each step. Errors:
/// badTerm (nothing to choose from, more than 30 terms for best subsets, best subsets by p, thresholds that
/// cycle, no response), tooFewRows; those of Design::learn. Throws Stopped. The same for any number of
/// threads.
Choice chooseTerms(const Recipe& recipe, const PreparedRows& prepared, const ChooseRequest& request,
                   Threads threads, Progress& progress,
                   const std::function<void(const ChooseStep&)>& soFar = {});

/// The recipe with the chosen terms and the record of the choice.
Recipe withChoice(const Recipe& recipe, const Choice& choice);

/// The recipes of the steps, one after the other, the last with the record of the choice: what the trail
/// shows.
std::vector<Recipe> pathOf(const Recipe& recipe, const Choice& choice);

/// The form documented in docs/evidence.md.
std::string choiceJson(const Choice& choice);

/// Best subsets of groups of columns for a triangular factor [columns, y]: for each number of columns the
/// least sum of squares and its groups. `valid` may refuse sets. Exposed for tests and benchmarks.
struct Subset {
    double residualSumOfSquares = 0;
    /// Groups, ascending; empty for the constant alone.
    std::vector<std::size_t> groups;
    bool found = false;
};
/// factor: (m × (first + Σ sizes + 1)); `first` leading columns are always in. Result by number of columns, 0
/// first.
std::vector<Subset> bestSubsets(const Eigen::MatrixXd& factor, Eigen::Index first,
                                const std::vector<std::vector<Eigen::Index>>& groups,
                                const std::function<bool(const std::vector<std::size_t>&)>& valid,
                                Progress& progress);

} // namespace oxgoad
