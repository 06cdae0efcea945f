#include "recipe/choose_plan.h"

#include "base/text.h"

#include <array>

namespace oxgoad {

namespace {

constexpr std::array<std::pair<ChooseBy, std::string_view>, 4> byNames{
    {{ChooseBy::forward, "forward"},
     {ChooseBy::backward, "backward"},
     {ChooseBy::bothWays, "both ways"},
     {ChooseBy::bestSubsets, "best subsets"}}};
constexpr std::array<std::pair<ChooseCriterion, std::string_view>, 5> criterionNames{
    {{ChooseCriterion::crossValidated, "cross-validated error"},
     {ChooseCriterion::adjustedRSquared, "adjusted R²"},
     {ChooseCriterion::aicc, "AICc"},
     {ChooseCriterion::bic, "BIC"},
     {ChooseCriterion::pValue, "p"}}};

} // namespace

std::string_view chooseByName(ChooseBy by) {
    return byNames[static_cast<std::size_t>(by)].second;
}

std::string_view criterionName(ChooseCriterion criterion) {
    return criterionNames[static_cast<std::size_t>(criterion)].second;
}

std::optional<ChooseBy> chooseByNamed(std::string_view name) {
    for (const auto& [by, known] : byNames)
        if (known == name) return by;
    return std::nullopt;
}

std::optional<ChooseCriterion> criterionNamed(std::string_view name) {
    if (name == "adjusted R2") return ChooseCriterion::adjustedRSquared;
    for (const auto& [criterion, known] : criterionNames)
        if (known == name) return criterion;
    return std::nullopt;
}

std::string choosePlanText(const ChoosePlan& plan) {
    std::string text =
        std::string(chooseByName(plan.by)) + " by " + std::string(criterionName(plan.criterion));
    if (plan.criterion == ChooseCriterion::pValue)
        text += " in below " + shortText(plan.enter) + ", out above " + shortText(plan.leave);
    const bool subsets = plan.by == ChooseBy::bestSubsets;
    if (plan.mostSteps > 0)
        text += ", at most " + plural(static_cast<std::size_t>(plan.mostSteps), subsets ? "term" : "step",
                                      subsets ? "terms" : "steps");
    return text;
}

} // namespace oxgoad
