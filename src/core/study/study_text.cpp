#include "estimate/model_text.h"
#include "study/study.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <functional>

namespace oxgoad {

using nlohmann::json;

namespace {

json columnJson(const Column& column) {
    json out = {{"name", column.name()}, {"kind", kindName(column.kind())}};
    switch (column.kind()) {
    case ColumnKind::number:
        out["values"] = numbersJson({column.numbers().begin(), column.numbers().end()});
        break;
    case ColumnKind::factor:
        out["codes"] = std::vector<std::int32_t>(column.codes().begin(), column.codes().end());
        out["levels"] = column.levels();
        break;
    case ColumnKind::date:
        out["days"] = std::vector<std::int32_t>(column.days().begin(), column.days().end());
        break;
    case ColumnKind::text:
        out["texts"] = json::array();
        for (std::size_t i = 0; i < column.size(); ++i)
            out["texts"].push_back(std::string(column.text(i)));
        break;
    }
    return out;
}

Column columnFrom(const json& j) {
    const auto name = j.at("name").get<std::string>();
    const auto kind = j.at("kind").get<std::string>();
    if (kind == kindName(ColumnKind::number)) return Column::ofNumbers(name, numbersFrom(j.at("values")));
    if (kind == kindName(ColumnKind::date))
        return Column::ofDates(name, j.at("days").get<std::vector<std::int32_t>>());
    if (kind == kindName(ColumnKind::factor)) {
        auto levels = j.at("levels").get<std::vector<std::string>>();
        auto codes = j.at("codes").get<std::vector<std::int32_t>>();
        for (const std::int32_t code : codes)
            if (code < Column::missingCode || code >= static_cast<std::int32_t>(levels.size()))
                damaged("a code of no level");
        return Column::ofFactor(name, std::move(codes), std::move(levels));
    }
    if (kind != kindName(ColumnKind::text)) damaged("a kind that is not known");
    TextCells cells;
    for (const auto& text : j.at("texts"))
        cells.add(text.get<std::string>());
    return Column::ofText(name, std::move(cells));
}

/// What applySteps reads of an outcome.
json outcomeJson(const StepOutcome& outcome) {
    json learned = json::array(), kept = json::array();
    for (const LearnedValue& value : outcome.learned)
        learned.push_back({{"column", value.column},
                           {"what", value.what},
                           {"numbers", numbersJson(value.numbers)},
                           {"texts", value.texts}});
    for (const Column& column : outcome.kept)
        kept.push_back(columnJson(column));
    return {{"done", outcome.done}, {"learned", std::move(learned)}, {"kept", std::move(kept)}};
}

StepOutcome outcomeFrom(const json& j) {
    StepOutcome outcome;
    outcome.done = j.at("done").get<bool>();
    for (const auto& value : j.at("learned"))
        outcome.learned.push_back({value.at("column").get<std::string>(), value.at("what").get<std::string>(),
                                   numbersFrom(value.at("numbers")),
                                   value.at("texts").get<std::vector<std::string>>()});
    for (const auto& column : j.at("kept"))
        outcome.kept.push_back(columnFrom(column));
    return outcome;
}

} // namespace

std::string studyText(const Study& study) {
    const PredictionRule& rule = study.rule;
    json out = {{"study", 1},
                {"recipe", recipeText(study.recipe)},
                {"inputs", inputsJson(study.inputs)},
                {"model", study.model->text()},
                {"passed_over", study.passedOver},
                {"steps", json::array()},
                {"rule",
                 {{"logarithm", rule.logarithm},
                  {"smearing", numberJson(rule.smearing)},
                  {"relative_variance", numberJson(rule.relativeVariance)},
                  {"offset", rule.offset},
                  {"weight", rule.weight},
                  {"usual_weight", numberJson(rule.usualWeight)},
                  {"spread", numberJson(rule.spread)},
                  {"left_one_out", numbersJson(rule.leftOneOut)}}}};
    for (const StepOutcome& outcome : study.steps)
        out["steps"].push_back(outcomeJson(outcome));
    return out.dump(-1, ' ', false, json::error_handler_t::replace);
}

namespace {

/// What goes into a model, and what it is made of, is what the recipe says.
void requireWhole(const Study& study) {
    const Recipe& recipe = study.recipe;
    if (study.steps.size() != recipe.steps.size()) damaged("other steps than the recipe's");
    if (study.model->kind() != recipe.estimator.kind) damaged("another kind than the recipe's");
    if (!study.passedOver.empty() && study.passedOver.size() != recipe.terms.size())
        damaged("other terms than the recipe's");
    std::vector<std::string> names;
    for (const Input& input : study.inputs)
        names.push_back(input.name);
    if (names != inputNames(study.terms())) damaged("other inputs than those of the terms");
    const LinearModel* linear = study.linear();
    if (!linear) return;
    if (!(linear->design.inputs() == study.inputs)) damaged("other inputs than the model's");
    if (linear->design.terms().size() != recipe.terms.size() || linear->fit.intercept != recipe.intercept)
        damaged("other terms than the recipe's");
    std::vector<std::uint8_t> columns(recipe.terms.size(), 0);
    for (const DesignColumn& column : linear->design.columns())
        columns[column.term] = 1;
    for (std::size_t t = 0; t < columns.size(); ++t) {
        if (!(linear->design.terms()[t] == recipe.terms[t])) damaged("another term than the recipe's");
        if (study.has(t) != (columns[t] != 0)) damaged("a term with no columns, or one not chosen with some");
    }
}

} // namespace

void requireRows(const Study& study) {
    guardedRead([&] {
        const std::size_t count = study.rows.size();
        const auto is = [&](auto size) { return static_cast<std::size_t>(size) == count; };
        const TaughtRows& taught = study.taught;
        if (count == 0 || std::adjacent_find(study.rows.begin(), study.rows.end(), std::greater_equal<>()) !=
                              study.rows.end())
            damaged("learned from rows that are in no order");
        if ((!study.weights.empty() && !is(study.weights.size())) || !is(taught.fitted.size()) ||
            !is(taught.residuals.size()) ||
            (!taught.robustWeights.empty() && !is(taught.robustWeights.size())) ||
            (study.linear() && (!is(taught.leverages.size()) || !is(study.linear()->fit.rows))) ||
            taught.leftOneOut.size() != taught.leftOneOutRows.size() ||
            std::any_of(taught.leftOneOutRows.begin(), taught.leftOneOutRows.end(),
                        [&](std::uint32_t place) { return place >= count; }))
            damaged("other rows than it learned from");
        return true;
    });
}

std::shared_ptr<Study> readStudy(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        if (j.at("study").get<int>() != 1) damaged("another version");
        auto study = std::make_shared<Study>();
        study->recipe = parseRecipe(j.at("recipe").get_ref<const std::string&>(), "the model");
        study->inputs = inputsFrom(j.at("inputs"));
        study->model = readModel(j.at("model").get_ref<const std::string&>());
        if (j.contains("passed_over"))
            study->passedOver = j.at("passed_over").get<std::vector<std::uint8_t>>();
        for (const auto& outcome : j.at("steps"))
            study->steps.push_back(outcomeFrom(outcome));
        const json& from = j.at("rule");
        PredictionRule& rule = study->rule;
        rule.logarithm = from.at("logarithm").get<bool>();
        rule.smearing = numberFrom(from.at("smearing"));
        rule.relativeVariance = numberFrom(from.at("relative_variance"));
        rule.offset = from.at("offset").get<std::string>();
        rule.weight = from.at("weight").get<std::string>();
        rule.usualWeight = numberFrom(from.at("usual_weight"));
        rule.spread = numberFrom(from.at("spread"));
        rule.leftOneOut = numbersFrom(from.at("left_one_out"));
        const LinearModel* linear = study->linear();
        study->settings = study->recipe.estimator;
        if (linear && linear->penalised) {
            study->settings.fields["penalty"] = linear->penalised->penalty;
            study->settings.fields["l1_share"] = linear->penalised->l1Share;
        }
        requireWhole(*study);
        return study;
    });
}

} // namespace oxgoad
