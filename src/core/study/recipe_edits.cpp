#include "study/recipe_edits.h"

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
    next.forecast = chosen(made.forecast, base.forecast, onto.forecast);
    next.leaveOut = merged(made.leaveOut, base.leaveOut, onto.leaveOut);
    next.accepted = merged(made.accepted, base.accepted, onto.accepted);
    next.noted = merged(made.noted, base.noted, onto.noted);
    next.chosen = chosen(made.chosen, base.chosen, onto.chosen);
    next.units = merged(made.units, base.units, onto.units);
    return next;
}

} // namespace oxgoad
