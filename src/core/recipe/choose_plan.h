#pragma once
// How terms are chosen by looking at the rows.
#include "design/term.h"

#include <cstdint>
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

/// A way to choose. In a recipe it is part of what is learned; a value type.
struct ChoosePlan {
    ChooseBy by = ChooseBy::forward;
    ChooseCriterion criterion = ChooseCriterion::crossValidated;
    /// With p: a term comes in below, and goes out above. Out must not be below in.
    double enter = 0.05, leave = 0.1;
    /// Steps at most; 0 for as many as it takes. Best subsets: terms at most.
    int mostSteps = 0;
    /// From 2 to 20. Rows are dealt by the seed, as the recipe's way to judge deals them: whole groups, in
    /// order of time.
    int folds = 5;
    std::uint64_t seed = 7;
    /// A product comes in after its parts and goes out before them.
    bool hierarchy = true;
    /// Terms to choose from; none means the terms of the recipe and, outside of learning, every other column
    /// that is offered, as it is.
    std::vector<Term> from{};
    bool operator==(const ChoosePlan&) const = default;
};

/// "forward by AICc, at most 10 steps".
std::string choosePlanText(const ChoosePlan& plan);

} // namespace oxgoad
