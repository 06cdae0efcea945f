#include "recipe/validity.h"

#include <algorithm>
#include <set>

namespace oxgoad {

namespace {

bool usesResponse(const Term& term, const Recipe& recipe) {
    return std::any_of(term.parts.begin(), term.parts.end(),
                       [&](const TermPart& part) { return part.column == recipe.response; });
}

/// Of the columns with a role that one may have, all but the one that counts.
std::vector<std::string> secondsWith(const Recipe& recipe, Role role) {
    std::vector<std::string> seconds;
    const std::string first = columnWith(recipe, role);
    for (const auto& [column, has] : recipe.roles)
        if (has == role && column != first) seconds.push_back(column);
    return seconds;
}

/// Nothing else is given in its place unasked.
bool asksForMissingTheory(const Recipe& recipe, const ModelKind& kind) {
    return recipe.forecast && recipe.forecast->intervals == IntervalWay::theory &&
           kind.can.intervals != IntervalSource::theory;
}

} // namespace

std::optional<RecipeProblem> problemOf(const Recipe& recipe) {
    const ModelKind& kind = kindOf(recipe.estimator);
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        const Term& term = recipe.terms[t];
        const std::string key = "terms[" + std::to_string(t) + "]";
        const auto here = recipe.terms.begin() + static_cast<std::ptrdiff_t>(t);
        if (std::find(recipe.terms.begin(), here, term) != here)
            return RecipeProblem{key, "is a term that is there before: " + termName(term), "Name it once."};
        if (usesResponse(term, recipe))
            return RecipeProblem{key, "uses the response \"" + recipe.response + "\" to explain itself",
                                 "Take it out, or choose another response."};
    }
    for (const Role role : {Role::weight, Role::offset})
        if (const auto seconds = secondsWith(recipe, role); !seconds.empty())
            return RecipeProblem{"roles." + seconds.front(),
                                 "is \"" + std::string(roleName(role)) + "\" for a second column",
                                 "One column can have it."};
    if (!(recipe.errors == Errors{}) && !kind.choosesErrors)
        return RecipeProblem{"errors", "go with least squares only",
                             "Other estimators have errors of their own; take the key out."};
    if (recipe.choose && (kind.can.terms != Capabilities::Terms::formula || kind.can.ownLink || kind.series))
        return RecipeProblem{"choose",
                             kind.series || kind.can.ownLink
                                 ? "goes with models of the response or its logarithm whose errors are "
                                   "independent only"
                                 : "goes with models that have coefficients only",
                             "Take the key out, or choose another estimator."};
    if (asksForMissingTheory(recipe, kind))
        return RecipeProblem{"forecast.intervals",
                             "is \"theory\", and " + kind.sentence(recipe.estimator) + " has none",
                             "Ask for \"out of fold\" or \"resampled\", or take the key out."};
    if (recipe.logResponse && !kind.can.logResponse)
        return RecipeProblem{"response_in_logs", "does not go with " + kind.sentence(recipe.estimator),
                             "It has a scale of its own; take the key out."};
    for (const auto& [role, can] :
         {std::pair(Role::weight, kind.can.weights != WeightUse::refused), {Role::offset, kind.can.offset}})
        if (const std::string column = columnWith(recipe, role); !can && !column.empty())
            return RecipeProblem{"roles." + column,
                                 "is \"" + std::string(roleName(role)) + "\", which " +
                                     kind.sentence(recipe.estimator) + " cannot use",
                                 "Give it another role, or choose another estimator."};
    return std::nullopt;
}

Recipe settled(Recipe recipe, std::vector<std::string>* dropped) {
    const ModelKind& kind = kindOf(recipe.estimator);
    const auto say = [&](const std::string& sentence) {
        if (dropped) dropped->push_back(sentence);
    };
    std::vector<Term> terms;
    for (const Term& term : recipe.terms) {
        if (std::find(terms.begin(), terms.end(), term) != terms.end()) continue; // says the same
        if (usesResponse(term, recipe))
            say(termName(term) + " uses the response and is out of the model.");
        else
            terms.push_back(term);
    }
    recipe.terms = std::move(terms);
    for (const Role role : {Role::weight, Role::offset})
        for (const std::string& column : secondsWith(recipe, role)) {
            say(column + " is no " + std::string(roleName(role)) + ": one column can have it.");
            recipe.roles.erase(column);
        }
    if (!(recipe.errors == Errors{}) && !kind.choosesErrors) {
        say(errorsText(recipe.errors) + " go with least squares only and are dropped.");
        recipe.errors = {};
    }
    if (recipe.choose &&
        (kind.can.terms != Capabilities::Terms::formula || kind.can.ownLink || kind.series)) {
        say("Choosing terms does not go with " + kind.sentence(recipe.estimator) + " and is dropped.");
        recipe.choose.reset();
    }
    if (asksForMissingTheory(recipe, kind)) {
        say("Intervals by theory do not go with " + kind.sentence(recipe.estimator) +
            ": they are its own now.");
        recipe.forecast->intervals = IntervalWay::usual;
    }
    if (recipe.logResponse && !kind.can.logResponse) {
        say("The logarithm of the response does not go with " + kind.sentence(recipe.estimator) +
            " and is dropped.");
        recipe.logResponse = false;
    }
    for (const auto& [role, can] :
         {std::pair(Role::weight, kind.can.weights != WeightUse::refused), {Role::offset, kind.can.offset}})
        if (const std::string column = columnWith(recipe, role); !can && !column.empty()) {
            say(column + " is no " + std::string(roleName(role)) + ": " + kind.sentence(recipe.estimator) +
                " cannot use one.");
            recipe.roles.erase(column);
        }
    return recipe;
}

Recipe withEstimator(const Recipe& recipe, const Settings& estimator) {
    Recipe next = recipe;
    next.estimator = estimator;
    return settled(std::move(next));
}

} // namespace oxgoad
