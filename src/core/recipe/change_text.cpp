#include "recipe/change_text.h"

#include "base/text.h"

#include <algorithm>

namespace oxgoad {

std::string startText(const Recipe& recipe) {
    std::string text = (recipe.logResponse ? "ln " : "") + recipe.response + " from " +
                       plural(recipe.terms.size(), "term", "terms");
    if (!(recipe.estimator == Settings{})) text += " by " + estimatorText(recipe.estimator);
    return text;
}

std::string changeText(const Recipe& from, const Recipe& to) {
    std::vector<std::string> changes;
    auto in = [](const std::vector<Term>& terms, const Term& term) {
        return std::find(terms.begin(), terms.end(), term) != terms.end();
    };
    if (from.rows != to.rows) changes.push_back("rows of " + sourceName(to.rows));
    for (const Step& step : to.steps)
        if (step.on && std::find(from.steps.begin(), from.steps.end(), step) == from.steps.end())
            changes.push_back("+ " + stepSentence(step));
    for (const Step& step : from.steps)
        if (step.on && std::find(to.steps.begin(), to.steps.end(), step) == to.steps.end())
            changes.push_back("− " + stepSentence(step));
    if (from.steps != to.steps && changes.empty()) changes.emplace_back("steps in another order");
    if (from.response != to.response) changes.push_back("response " + to.response);
    for (const Term& term : to.terms)
        if (!in(from.terms, term)) changes.push_back("+ " + termName(term));
    for (const Term& term : from.terms)
        if (!in(to.terms, term)) changes.push_back("− " + termName(term));
    if (from.intercept != to.intercept)
        changes.emplace_back(to.intercept ? "with a constant" : "without a constant");
    if (from.reference != to.reference) {
        for (const auto& [factor, level] : to.reference)
            if (!from.reference.contains(factor) || from.reference.at(factor) != level)
                changes.push_back(factor + " against " + level);
    }
    if (from.leaveOut != to.leaveOut) {
        const auto before = from.leaveOut.size();
        const auto after = to.leaveOut.size();
        changes.push_back(after >= before
                              ? "− " + plural(std::max<std::size_t>(after - before, 1), "row", "rows")
                              : "+ " + plural(before - after, "row", "rows"));
    }
    if (from.setAside != to.setAside)
        changes.push_back(to.setAside ? setAsideText(*to.setAside) : "no rows held out");
    if (from.judge != to.judge)
        changes.push_back(to.judge ? "judged by " + foldPlanText(*to.judge) : "judged by no folds");
    if (from.choose != to.choose)
        changes.push_back(to.choose ? "terms chosen " + choosePlanText(*to.choose) : "all terms");
    for (const auto& [name, setting] : to.checks)
        if (!from.checks.contains(name) || from.checks.at(name) != setting)
            changes.push_back(setting.off ? "no check of " + name
                                          : "threshold of " + name + " " + shortText(*setting.threshold));
    for (const auto& [name, setting] : from.checks)
        if (!to.checks.contains(name)) changes.push_back("check of " + name + " as usual");
    if (from.forecast != to.forecast)
        changes.push_back(to.forecast ? "forecast of " + sourceName(*to.forecast) : "no forecast");
    if (from.scenarios != to.scenarios)
        changes.push_back(to.scenarios.empty() ? "no scenarios"
                                               : plural(to.scenarios.size(), "scenario", "scenarios"));
    if (from.estimator != to.estimator) changes.push_back("by " + estimatorText(to.estimator));
    if (from.errors != to.errors) changes.push_back(errorsText(to.errors));
    if (from.logResponse != to.logResponse)
        changes.push_back(to.logResponse ? "ln " + to.response : to.response + " as it is");
    for (const Role role : {Role::weight, Role::offset})
        if (const std::string now = columnWith(to, role); now != columnWith(from, role))
            changes.push_back(now.empty() ? "no " + std::string(roleName(role))
                                          : std::string(roleName(role)) + " " + now);
    if (from.level != to.level) changes.push_back(readableText(100 * to.level, 3) + " % intervals");
    if (changes.empty()) return "the same";
    std::string text = changes[0];
    for (std::size_t i = 1; i < std::min<std::size_t>(changes.size(), 3); ++i)
        text += ", " + changes[i];
    if (changes.size() > 3) text += ", …";
    return text;
}

} // namespace oxgoad
