// Of models without coefficients: which pairs of columns act together, and whether one column carries it all.
#include "base/text.h"
#include "check/check_tools.h"
#include "recipe/validity.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

const std::string noSource = "common practice, no source";

/// A straight model with both columns and their product.
RecipeEdit straightWith(const std::string& first, const std::string& second) {
    return [first, second](Recipe& recipe, const std::string&) {
        recipe = withEstimator(recipe, Settings{});
        Term product{{TermPart{.column = first}, TermPart{.column = second}}};
        for (const std::string& name : {first, second}) {
            const Term alone{{TermPart{.column = name}}};
            if (std::find(recipe.terms.begin(), recipe.terms.end(), alone) == recipe.terms.end())
                recipe.terms.push_back(alone);
        }
        if (std::find(recipe.terms.begin(), recipe.terms.end(), product) == recipe.terms.end())
            recipe.terms.push_back(std::move(product));
    };
}

/// Share of what a factor's levels say of the fitted values that one level alone says, and which.
std::pair<double, std::string> oneLevelOf(const CheckContext& context, const std::string& column) {
    const auto input = findInput(context.inputs.inputs(), column);
    if (!input || !context.inputs.inputs()[*input].factor) return {0, {}};
    std::map<std::size_t, std::pair<double, double>> levels; // rows, sum
    double whole = 0, rows = 0;
    for (std::size_t i = 0; i < context.learningRows.size(); ++i) {
        const double level = context.inputs.value(*input, context.learningRows[i]);
        if (!std::isfinite(level)) continue;
        auto& [count, sum] = levels[static_cast<std::size_t>(level)];
        ++count, ++rows;
        sum += context.fitted[i];
        whole += context.fitted[i];
    }
    double between = 0, most = 0;
    std::size_t which = 0;
    for (const auto& [level, of] : levels) {
        const double own = of.first * std::pow(of.second / of.first - whole / rows, 2);
        between += own;
        // Of this level against all others, which is more than its own share.
        const double others = rows - of.first;
        const double against = others > 0 ? own * rows / others : 0;
        if (against > most) most = against, which = level;
    }
    if (levels.size() < 3 || !(between > 0)) return {0, {}};
    return {most / between, context.inputs.inputs()[*input].levels[which]};
}

/// Nearly every row has a value of its own, as names and numbers of rows do.
bool isLikeIdentifier(const CheckContext& context, const std::string& column) {
    for (const auto& [name, role] : context.recipe.roles)
        if (name == column && role == Role::identifier) return true;
    const auto input = findInput(context.inputs.inputs(), column);
    if (!input || !context.inputs.inputs()[*input].factor) return false;
    return static_cast<double>(context.inputs.inputs()[*input].levels.size()) >
           0.5 * static_cast<double>(context.learningRows.size());
}

} // namespace

void checkActingPairs(const CheckContext& context, Findings& findings) {
    const std::string name = "columns that act together";
    if (context.linear || !context.pairs) {
        findings.readings.push_back(noReading(name, context.linear
                                                        ? "the model's products are among its terms"
                                                        : "so many rows take long to ask"));
        return;
    }
    const std::vector<PairStrength> pairs = context.pairs(*context.progress);
    if (pairs.empty()) {
        findings.readings.push_back(noReading(name, "there are not two columns"));
        return;
    }
    const auto most = std::max_element(pairs.begin(), pairs.end(),
                                       [](const auto& a, const auto& b) { return a.share < b.share; });
    const double limit = context.limitOf(name, 0.05);
    const std::string pair = most->first + " and " + most->second;
    const std::string says = pair + " act together: " + percentText(most->share) +
                             " of the spread of the predictions is said by neither alone (H² " +
                             readableText(most->hSquared, 2) + ")";
    const std::string source = "Friedman and Popescu 2008";
    findings.readings.push_back(madeReading(name, most->share, limit, {}, says, source));
    if (!(most->share > limit)) return;
    Goad goad;
    goad.key = name + ": " + pair;
    goad.check = name;
    goad.severity = Severity::caution;
    goad.title = "A straight model would need " + most->first + " × " + most->second;
    goad.reading = says;
    goad.threshold = "above " + percentText(limit) + " of the spread of the predictions";
    goad.source = source;
    goad.station = "fit";
    goad.column = most->first;
    goad.moves.push_back(
        {.label = "straight model with it", .edit = straightWith(most->first, most->second)});
    findings.goads.push_back(std::move(goad));
}

void checkWhatCarries(const CheckContext& context, Findings& findings) {
    const std::string name = "one column carries it";
    if (context.linear || !context.importances) {
        findings.readings.push_back(noReading(name, context.linear ? "coefficients and their leverages say it"
                                                                   : "so many rows take long to ask"));
        return;
    }
    const std::vector<ColumnImportance> columns = context.importances(*context.progress);
    double sum = 0;
    const ColumnImportance* most = nullptr;
    for (const ColumnImportance& column : columns) {
        sum += std::max(0.0, column.increase);
        if (!most || column.increase > most->increase) most = &column;
    }
    if (columns.size() < 2 || !(sum > 0)) {
        findings.readings.push_back(noReading(name, "no column says anything beside others"));
        return;
    }
    const double share = most->increase / sum;
    const double limit = context.limitOf(name, 0.95);
    const auto [ofLevel, level] = oneLevelOf(context, most->column);
    const bool like = isLikeIdentifier(context, most->column);
    std::string says = most->column + " alone makes " + percentText(share) +
                       " of what columns add to the squared error when they say nothing";
    const bool oneLevel = ofLevel > 0.9;
    if (like) says += ", and nearly every row has a value of its own of it";
    if (oneLevel) says += ", and " + percentText(ofLevel) + " of what its levels say is said by " + level;
    findings.readings.push_back(madeReading(name, share, limit, {}, says, noSource));
    // A name of rows is learned by heart long before it carries all; a level has to.
    if (!(like && share > 0.25) && !(oneLevel && share > limit)) return;
    Goad goad;
    goad.key = name + ": " + most->column;
    goad.check = name;
    goad.title = like ? "The model knows rows by " + most->column
                      : "One level carries the model: " + most->column + " = " + level;
    goad.reading = says;
    goad.threshold = like ? "a column with values for more than half of the rows that says above 25 %"
                          : "above " + percentText(limit) + ", and 90 % of it by one level";
    goad.source = noSource;
    goad.station = "fit";
    goad.column = most->column;
    for (const Term& term : context.terms)
        if (term.parts.size() == 1 && term.parts[0].column == most->column)
            goad.moves.push_back(leaveOutTerm(termName(term)));
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
