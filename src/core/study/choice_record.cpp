// What is kept of a choice: in a recipe, on the trail, as a text.
#include "study/choose_terms.h"

#include <nlohmann/json.hpp>

#include <algorithm>

namespace oxgoad {

Recipe withChoice(const Recipe& recipe, const Choice& choice) {
    Recipe next = recipe;
    next.terms = choice.terms;
    ChosenTerms record;
    record.how = choice.how;
    record.tried = choice.candidates.size();
    for (const ChosenTerm& candidate : choice.candidates) {
        if (candidate.chosen) record.shares.emplace_back(termName(candidate.term), candidate.share);
        if (!candidate.chosen && candidate.p < 0.05)
            record.notSelected.emplace_back(termName(candidate.term), candidate.p);
    }
    next.chosen = std::move(record);
    return next;
}

std::vector<Recipe> pathOf(const Recipe& recipe, const Choice& choice) {
    std::vector<Recipe> path;
    Recipe next = recipe;
    next.chosen.reset();
    next.terms.clear();
    if (!choice.steps.empty() && !choice.steps[0].in) // downwards it starts with everything
        for (const ChosenTerm& candidate : choice.candidates)
            next.terms.push_back(candidate.term);
    for (const ChooseStep& step : choice.steps) {
        if (step.in)
            next.terms.push_back(step.term);
        else
            std::erase(next.terms, step.term);
        path.push_back(next);
    }
    const Recipe last = withChoice(recipe, choice);
    if (path.empty())
        path.push_back(last);
    else {
        path.back().chosen = last.chosen;
        path.back().terms = last.terms;
    }
    return path;
}

std::string choiceJson(const Choice& choice) {
    nlohmann::ordered_json out;
    out["how"] = choice.how;
    out["rows"] = choice.rows;
    out["folds"] = choice.folds;
    out["start"] = choice.startCriterion;
    out["end"] = choice.endCriterion;
    out["steps"] = nlohmann::ordered_json::array();
    for (const ChooseStep& step : choice.steps)
        out["steps"].push_back({{"term", termName(step.term)},
                                {"in", step.in},
                                {"criterion", step.criterion},
                                {"terms", step.terms}});
    out["candidates"] = nlohmann::ordered_json::array();
    for (const ChosenTerm& candidate : choice.candidates)
        out["candidates"].push_back({{"term", termName(candidate.term)},
                                     {"chosen", candidate.chosen},
                                     {"share_of_folds", candidate.share},
                                     {"p", candidate.p}});
    out["passed_over"] = choice.notSelected;
    out["seen_error"] = choice.seenError;
    out["honest_error"] = choice.honestError;
    out["judged_by"] = choice.judgedBy;
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
