#include "recipe/recipe_edits.h"

#include "base/text.h"
#include "recipe/validity.h"

#include <algorithm>

namespace oxgoad {

namespace {

template <class T> bool contains(const std::vector<T>& all, const T& one) {
    return std::find(all.begin(), all.end(), one) != all.end();
}

template <class T>
std::vector<T> merged(const std::vector<T>& made, const std::vector<T>& base, const std::vector<T>& onto) {
    if (made == base) return onto;
    if (onto == base) return made;
    std::vector<T> all;
    for (const T& one : onto)
        if (contains(made, one) || !contains(base, one)) all.push_back(one);
    for (const T& one : made)
        if (!contains(base, one) && !contains(all, one)) all.push_back(one);
    return all;
}

template <class T> T chosen(const T& made, const T& base, const T& onto) {
    return made == base ? onto : made;
}

template <class T>
std::map<std::string, T> merged(const std::map<std::string, T>& made, const std::map<std::string, T>& base,
                                const std::map<std::string, T>& onto) {
    std::map<std::string, T> all = onto;
    for (const auto& [key, value] : made) {
        const auto before = base.find(key);
        if (before == base.end() || before->second != value) all[key] = value;
    }
    for (const auto& [key, value] : base)
        if (!made.contains(key)) all.erase(key);
    return all;
}

} // namespace

void takeNotes(Recipe& to, const Recipe& from) {
    to.accepted = from.accepted;
    to.noted = from.noted;
    to.units = from.units;
    to.handRows = from.handRows;
    const auto counts = [](Role role) { return role == Role::weight || role == Role::offset; };
    std::erase_if(to.roles, [&](const auto& entry) { return !counts(entry.second); });
    for (const auto& [column, role] : from.roles)
        if (!counts(role)) to.roles.emplace(column, role);
}

Recipe rebased(const Recipe& made, const Recipe& base, const Recipe& onto) {
    Recipe next;
    next.rows = chosen(made.rows, base.rows, onto.rows);
    next.steps = merged(made.steps, base.steps, onto.steps);
    next.roles = merged(made.roles, base.roles, onto.roles);
    next.response = chosen(made.response, base.response, onto.response);
    next.terms = merged(made.terms, base.terms, onto.terms);
    next.intercept = chosen(made.intercept, base.intercept, onto.intercept);
    next.reference = merged(made.reference, base.reference, onto.reference);
    next.estimator = chosen(made.estimator, base.estimator, onto.estimator);
    next.errors = chosen(made.errors, base.errors, onto.errors);
    next.logResponse = chosen(made.logResponse, base.logResponse, onto.logResponse);
    next.level = chosen(made.level, base.level, onto.level);
    next.setAside = chosen(made.setAside, base.setAside, onto.setAside);
    next.judge = chosen(made.judge, base.judge, onto.judge);
    next.choose = chosen(made.choose, base.choose, onto.choose);
    next.forecast = chosen(made.forecast, base.forecast, onto.forecast);
    next.scenarios = chosen(made.scenarios, base.scenarios, onto.scenarios);
    next.handRows = chosen(made.handRows, base.handRows, onto.handRows);
    next.clearance = chosen(made.clearance, base.clearance, onto.clearance);
    next.deliveries = chosen(made.deliveries, base.deliveries, onto.deliveries);
    next.leaveOut = merged(made.leaveOut, base.leaveOut, onto.leaveOut);
    next.accepted = merged(made.accepted, base.accepted, onto.accepted);
    next.noted = merged(made.noted, base.noted, onto.noted);
    next.checks = merged(made.checks, base.checks, onto.checks);
    next.chosen = chosen(made.chosen, base.chosen, onto.chosen);
    next.units = merged(made.units, base.units, onto.units);
    return settled(std::move(next));
}

Recipe withResponse(const Recipe& recipe, const std::string& name) {
    Recipe next = recipe;
    next.response = name;
    next.chosen.reset();
    return settled(std::move(next));
}

Recipe withOrderedResponse(const Recipe& recipe, const std::string& name,
                           const std::vector<std::string>& order) {
    Recipe next = withEstimator(recipe, {"ordered"});
    if (recipe.estimator.kind == "ordered") next.estimator.fields = recipe.estimator.fields;
    next.estimator.fields["order"] = order;
    next.logResponse = false;
    return withResponse(next, name);
}

Recipe withTerm(const Recipe& recipe, const Term& term) {
    Recipe next = recipe;
    for (const Term& parent : parentsMissing(term, next.terms))
        next.terms.push_back(parent);
    if (std::none_of(next.terms.begin(), next.terms.end(), [&](const Term& t) { return sameTerm(t, term); }))
        next.terms.push_back(term);
    return next;
}

Recipe withExpressionTerm(const Recipe& recipe, const std::string& name, const std::string& expression) {
    Recipe next = recipe;
    const auto taken = [&](const std::string& wanted) {
        return std::any_of(next.steps.begin(), next.steps.end(), [&](const Step& step) {
            return step.kind == "derive" && step.text("name") == wanted;
        });
    };
    std::string column = name;
    for (int k = 2; taken(column); ++k)
        column = name + " " + std::to_string(k);
    next.steps.push_back({"derive", true, {{"name", column}, {"expression", expression}}});
    next.terms = {Term{{TermPart{.column = column}}}};
    next.estimator = {};
    return next;
}

Recipe withoutTerm(const Recipe& recipe, const std::string& name, bool keepProducts) {
    Recipe next = recipe;
    for (const Term& out : recipe.terms)
        if (termName(out) == name)
            std::erase_if(next.terms, [&](const Term& term) {
                return term == out || (!keepProducts && isParent(out, term));
            });
    return next;
}

Recipe withOtherForm(const Recipe& recipe, std::size_t index, const TermPart& part) {
    Recipe next = recipe;
    const TermPart before = recipe.terms[index].parts[0];
    for (Term& term : next.terms)
        for (TermPart& p : term.parts)
            if (p == before) p = part;
    return settled(std::move(next)); // it may be there in that form
}

Move addStep(std::string label, Step step) {
    return {.label = std::move(label), .edit = [step = std::move(step)](Recipe& recipe, const std::string&) {
                recipe.steps.push_back(step);
            }};
}

Move giveRole(std::string label, const std::string& column, Role role) {
    return {.label = std::move(label), .edit = [column, role](Recipe& recipe, const std::string&) {
                if (role == Role::weight || role == Role::offset)
                    std::erase_if(recipe.roles, [&](const auto& has) { return has.second == role; });
                recipe.roles.erase(column);
                if (role != Role::predictor) recipe.roles[column] = role;
            }};
}

Move leaveOutTerm(const std::string& name) {
    return {.label = "leave out " + name,
            .edit = [name](Recipe& recipe, const std::string&) { recipe = withoutTerm(recipe, name); }};
}

Move leaveOutRow(std::size_t row) {
    return {.label = "leave out…",
            .edit =
                [row](Recipe& recipe, const std::string& reason) {
                    const bool there = std::any_of(recipe.leaveOut.begin(), recipe.leaveOut.end(),
                                                   [&](const LeftOutRow& out) { return out.row == row + 1; });
                    if (!there) recipe.leaveOut.push_back({row + 1, reason});
                },
            .asks = "Why is row " + countText(row + 1) + " left out?",
            .row = row};
}

Move seeRow(std::size_t row) {
    return {.label = "see row", .shows = Move::Shows::row, .row = row};
}

Move seeColumn() {
    return {.label = "see column", .shows = Move::Shows::column};
}

} // namespace oxgoad
