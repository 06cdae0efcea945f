// The equation of a fit, and of each level of a factor.
#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "study/say.h"
#include "study/say_parts.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

using Eigen::Index;
using Eigen::VectorXd;

namespace {

/// Whether a coefficient's name says a level of a factor; a column may be called "a = b" too.
bool namesLevel(const Evidence& e, const std::string& name) {
    if (name.find(" = ") == std::string::npos) return false;
    if (!linearOf(e)) return true;
    const auto& inputs = linearOf(e)->design.inputs();
    return std::any_of(inputs.begin(), inputs.end(), [&](const Input& input) {
        return input.factor &&
               std::any_of(input.levels.begin(), input.levels.end(), [&](const std::string& level) {
                   return name.find(input.name + " = " + level) != std::string::npos;
               });
    });
}

std::string signedTerm(const Evidence& e, double value, double error, const std::string& name, bool first) {
    std::string text = value < 0 ? (first ? " −" : " − ") : (first ? " " : " + ");
    text += supported(std::fabs(value), error);
    if (!name.empty()) text += "·" + (namesLevel(e, name) ? "[" + name + "]" : name);
    return text;
}

std::string leftSide(const Evidence& e) {
    return e.logResponse ? "ln(" + e.response + ")"
           : e.inLogs()  ? "ln(mean of " + e.response + ")"
                         : e.response;
}

std::string offsetText(const Evidence& e) {
    return e.offset.empty() ? std::string() : " + " + e.offset;
}

/// What is left of a column once the pieces of `factor` have a level: the name of the rest, and their
/// product.
std::pair<std::string, double> atLevel(const LinearModel& model, std::size_t j, std::size_t factor,
                                       std::size_t level) {
    const DesignColumn& column = model.design.columns()[j];
    double product = 1;
    // The name is the parts' names in the order of the pieces.
    std::vector<std::string> names;
    std::size_t from = 0;
    for (std::size_t k = 0; k < column.pieces.size(); ++k) {
        const std::size_t to =
            k + 1 < column.pieces.size() ? column.name.find(" × ", from) : std::string::npos;
        names.push_back(column.name.substr(from, to == std::string::npos ? to : to - from));
        from = to == std::string::npos ? column.name.size() : to + std::string(" × ").size();
    }
    std::string rest;
    for (std::size_t k = 0; k < column.pieces.size(); ++k) {
        if (column.pieces[k].input == factor)
            product *= column.pieces[k].basis.at(static_cast<double>(level));
        else
            rest += (rest.empty() ? "" : " × ") + names[k];
    }
    return {rest, product};
}

bool hasNumber(const LinearModel& model, const DesignColumn& column) {
    return std::any_of(column.pieces.begin(), column.pieces.end(),
                       [&](const auto& piece) { return !model.design.inputs()[piece.input].factor; });
}

/// Levels above which an equation speaks of their factor instead.
constexpr std::size_t manyLevels = 12;

/// " + effect of article (499 levels against A0000: from −9.1, A0123, to 8.7, A0456, half of them between
/// −2.0 and 2.1)".
std::string foldedLevels(const std::vector<const CoefficientEvidence*>& levels, const TermEvidence& term,
                         bool first) {
    std::vector<const CoefficientEvidence*> order = levels;
    std::stable_sort(order.begin(), order.end(),
                     [](const auto* a, const auto* b) { return a->estimate < b->estimate; });
    const auto said = [](const CoefficientEvidence& c) { return supported(c.estimate, c.standardError); };
    const auto level = [&](const CoefficientEvidence& c) { return c.name.substr(term.name.size() + 3); };
    const std::size_t last = order.size() - 1;
    const std::string against = term.entersAs.starts_with("levels, from ")
                                    ? " against " + term.entersAs.substr(std::string("levels, from ").size())
                                    : "";
    return (first ? " effect of " : " + effect of ") + term.name + " (" +
           plural(levels.size(), "level", "levels") + against + ": from " + said(*order[0]) + ", " +
           level(*order[0]) + ", to " + said(*order[last]) + ", " + level(*order[last]) +
           ", half of them between " + said(*order[last / 4]) + " and " + said(*order[last - last / 4]) + ")";
}

/// The levels of each term that has many and nothing else; empty for others.
std::vector<std::vector<const CoefficientEvidence*>> foldedTerms(const LinearEvidence& linear) {
    std::vector<std::vector<const CoefficientEvidence*>> levels(linear.terms.size());
    for (const auto& c : linear.coefficients)
        if (c.term >= 0 && !c.dependent && !c.derived) levels[static_cast<std::size_t>(c.term)].push_back(&c);
    for (std::size_t t = 0; t < levels.size(); ++t) {
        const std::string start = linear.terms[t].name + " = ";
        if (levels[t].size() <= manyLevels ||
            !std::all_of(levels[t].begin(), levels[t].end(),
                         [&](const auto* c) { return c->name.starts_with(start); }))
            levels[t].clear();
    }
    return levels;
}

} // namespace

std::string equationText(const Evidence& e) {
    if (!e.linear) {
        std::string columns;
        for (std::size_t i = 0; i < e.inputs.size(); ++i)
            columns += (i == 0 ? "" : i + 1 == e.inputs.size() ? " and " : ", ") + e.inputs[i].name;
        return leftSide(e) + " by " + estimatorText(e.study->recipe.estimator) + " in " + columns +
               offsetText(e);
    }
    std::string text = leftSide(e) + " =";
    bool first = true;
    const auto folded = foldedTerms(*e.linear);
    for (const auto& c : e.linear->coefficients) {
        if (c.dependent || c.derived) continue;
        if (c.term >= 0 && !folded[static_cast<std::size_t>(c.term)].empty()) {
            const auto& levels = folded[static_cast<std::size_t>(c.term)];
            if (levels[0] == &c)
                text += foldedLevels(levels, e.linear->terms[static_cast<std::size_t>(c.term)], first);
            first = false;
            continue;
        }
        text += signedTerm(e, c.estimate, c.standardError, c.term < 0 ? std::string() : c.name, first);
        first = false;
    }
    return text + offsetText(e) + " + ε";
}

std::vector<std::string> factorsWithSlopes(const Evidence& e) {
    std::vector<std::string> found;
    if (!linearOf(e)) return found;
    const LinearModel& model = *linearOf(e);
    for (std::size_t i = 0; i < model.design.inputs().size(); ++i) {
        if (!model.design.inputs()[i].factor) continue;
        const bool any = std::any_of(
            model.design.columns().begin(), model.design.columns().end(), [&](const DesignColumn& column) {
                return hasNumber(model, column) &&
                       std::any_of(column.pieces.begin(), column.pieces.end(),
                                   [&](const auto& piece) { return piece.input == i; });
            });
        if (any) found.push_back(model.design.inputs()[i].name);
    }
    return found;
}

std::vector<LevelEquation> equationsByLevel(const Evidence& e, const std::string& factor) {
    std::vector<LevelEquation> found;
    const auto factors = factorsWithSlopes(e);
    if (std::find(factors.begin(), factors.end(), factor) == factors.end()) return found;
    const LinearModel& model = *linearOf(e);
    const std::size_t input = inputOf(model, factor);
    const auto& levels = model.design.inputs()[input].levels;
    const auto& columns = model.design.columns();
    for (std::size_t level = 0; level < std::min<std::size_t>(levels.size(), 30); ++level) {
        // Columns that come to the same once the level is put in, in the order they first stand; the constant
        // first.
        std::vector<std::string> order{std::string()};
        std::map<std::string, VectorXd> weights{{std::string(), VectorXd::Zero(model.fit.columns)}};
        std::map<std::string, bool> differs;
        for (std::size_t j = 0; j < columns.size(); ++j) {
            if (std::isnan(model.fit.coefficients[static_cast<Index>(j)])) continue;
            const auto [rest, product] = atLevel(model, j, input, level);
            if (!weights.contains(rest)) {
                order.push_back(rest);
                weights[rest] = VectorXd::Zero(model.fit.columns);
            }
            weights[rest][static_cast<Index>(j)] += product;
            if (rest != columns[j].name) differs[rest] = true;
        }
        LevelEquation equation;
        equation.level = levels[level];
        std::string text, common;
        bool first = true;
        std::size_t commonTerms = 0;
        for (const std::string& name : order) {
            if (name.empty() && !model.fit.intercept && !differs[name]) continue;
            const auto [estimate, error, df] =
                model.fit.combination(weights[name], name.empty() && model.fit.intercept ? 1 : 0);
            const bool own = differs[name] || name.empty();
            (own ? text : common) += signedTerm(e, estimate, error, name, own ? first : commonTerms == 0);
            if (own)
                first = false;
            else
                ++commonTerms;
            if (differs[name])
                equation.parts.push_back({name.empty() ? "constant" : name, estimate, error, df});
        }
        // Two terms more on each line are no burden; many are said once.
        constexpr std::size_t few = 2;
        common += offsetText(e);
        if (commonTerms > few && levels.size() > 1) {
            equation.equation = leftSide(e) + " =" + text + " + common + ε";
            equation.common = common;
        } else {
            const bool minus = common.starts_with(" −");
            equation.equation = leftSide(e) + " =" + text +
                                (commonTerms == 0 || first ? common
                                 : minus ? " − " + common.substr(std::string_view(" −").size())
                                         : " +" + common) +
                                " + ε";
        }
        found.push_back(std::move(equation));
    }
    return found;
}

std::string slopeSentence(const Evidence& e, const Recipe& recipe, const LevelEquation& level,
                          const std::string& factor) {
    std::string text;
    for (const LevelEquation::Part& part : level.parts) {
        if (part.name == "constant" || std::isnan(part.standardError)) continue;
        const double half = studentQuantile(recipe.level, part.degreesOfFreedom) * part.standardError;
        text += (text.empty() ? "For " + factor + " = " + level.level + ": " : "; ") + part.name + " " +
                supported(part.estimate, part.standardError) + " ± " + readableText(part.standardError, 2) +
                within(unitHead(recipe, e.response)) + ", " + percentText(recipe.level) + " interval " +
                supported(part.estimate - half, part.standardError) + " to " +
                supported(part.estimate + half, part.standardError);
    }
    return text.empty() ? text : text + ".";
}

} // namespace oxgoad
