#pragma once
// Choosing terms by what they add, and how far the choice can be trusted.
#include "base/parallel.h"
#include "base/progress.h"
#include "recipe/recipe.h"
#include "study/prepare_rows.h"

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

enum class ChooseBy { forward, backward, bothWays, bestSubsets };
enum class ChooseCriterion { crossValidated, adjustedRSquared, aicc, bic, pValue };
/// "forward", "backward", "both ways", "best subsets".
std::string_view chooseByName(ChooseBy by);
/// "cross-validated error", "adjusted R²", "AICc", "BIC", "p".
std::string_view criterionName(ChooseCriterion criterion);
/// The same without what cannot be typed: "adjusted R2".
std::optional<ChooseBy> chooseByNamed(std::string_view name);
std::optional<ChooseCriterion> criterionNamed(std::string_view name);

struct ChooseRequest {
    ChooseBy by = ChooseBy::forward;
    ChooseCriterion criterion = ChooseCriterion::crossValidated;
    /// With p: a term comes in below, and goes out above. Out must not be below in.
    double enter = 0.05, leave = 0.1;
    /// Steps at most; 0 for as many as it takes. Best subsets: terms at most.
    int mostSteps = 0;
    /// From 2 to 20. Rows are dealt by the seed, whole groups where a column has the role of the group.
    int folds = 5;
    std::uint64_t seed = 7;
    /// A product comes in after its parts and goes out before them.
    bool hierarchy = true;
    /// Terms to choose from; none means the terms of the recipe and every other column that is offered, as it
    /// is.
    std::vector<Term> from;
};

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
    /// RMSE of the chosen terms over the folds, which the choice has seen; and of the whole procedure, the
    /// choice made anew without each fold: the honest one. In the unit the model is fitted in.
    double seenError = 0, honestError = 0;
    /// Candidates left out: that no rows tell apart, that most rows lack, or with too many levels.
    std::vector<std::string> passedOver;
    std::string how;
};

/// Chooses on the learning rows that have all candidates, by least squares, with the recipe's weights, offset
/// and logarithm. Every step works on triangular factors of the folds, made in one pass over the rows; best
/// subsets by branch and bound (Furnival and Wilson 1974, "Regressions by leaps and bounds", Technometrics
/// 16), exactly, for each number of columns, of which the criterion then picks. AICc of Hurvich and Tsai
/// 1989, BIC of Schwarz 1978. `soFar` is called after each step. Errors: badTerm (nothing to choose from,
/// more than 30 terms for best subsets, best subsets by p, thresholds that cycle, no response), tooFewRows;
/// those of Design::learn. Throws Stopped. The same for any number of threads.
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
