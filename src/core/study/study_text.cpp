#include "estimate/linear/linear_model.h"
#include "estimate/model_text.h"
#include "estimate/ordered/ordered.h"
#include "estimate/two_parts/two_parts.h"
#include "recipe/json_reader.h"
#include "recipe/model_parts.h"
#include "study/study.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <functional>

namespace oxgoad {

using nlohmann::json;

namespace {

json columnJson(const Column& column) {
    json out = {{"name", column.name()}, {"kind", column.kindText()}};
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
    if (kind == AskedKind::ofMoments().name()) return Column::ofMoments(name, numbersFrom(j.at("values")));
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

json intervalsJson(const Intervals& intervals) {
    if (const auto* errors = std::get_if<IntervalsByErrors>(&intervals))
        return {{"of", errorsOfName(errors->of)}, {"sizes", numbersJson(errors->sizes)}};
    if (const auto* none = std::get_if<NoIntervals>(&intervals)) return {{"none", none->why}};
    return {{"by", std::holds_alternative<IntervalsByTheory>(intervals) ? "theory" : "quantiles"}};
}

Intervals intervalsFrom(const json& j) {
    if (j.contains("none")) return NoIntervals{j.at("none").get<std::string>()};
    if (j.contains("by")) {
        const auto by = j.at("by").get<std::string>();
        if (by == "quantiles") return IntervalsByQuantiles{};
        if (by != "theory") damaged("intervals of a kind that is not known");
        return IntervalsByTheory{};
    }
    IntervalsByErrors errors;
    const auto of = j.at("of").get<std::string>();
    for (const auto known : {IntervalsByErrors::Of::leftOneOut, IntervalsByErrors::Of::outOfBag,
                             IntervalsByErrors::Of::outOfFold, IntervalsByErrors::Of::leftOneOut}) {
        errors.of = known;
        if (errorsOfName(known) == of) break;
    }
    if (errorsOfName(errors.of) != of) damaged("errors of rows that are not known");
    errors.sizes = numbersFrom(j.at("sizes"));
    if (!std::is_sorted(errors.sizes.begin(), errors.sizes.end()) ||
        std::any_of(errors.sizes.begin(), errors.sizes.end(), [](double v) { return !(v >= 0); }))
        damaged("sizes of errors in no order");
    return errors;
}

Settings settingsFrom(const json& j) {
    const std::string name = "the model";
    return parseEstimator(JsonValue(j, "settings", name));
}

Link linkFrom(const json& j, Eigen::Index outputs) {
    Link link;
    const auto name = j.at("kind").get<std::string>();
    for (const auto known :
         {Link::Kind::logarithm, Link::Kind::logOfMean, Link::Kind::chances, Link::Kind::identity}) {
        link.kind = known;
        if (linkName(known) == name) break;
    }
    if (linkName(link.kind) != name) damaged("a link that is not known");
    link.smearing = numberFrom(j.at("smearing"));
    link.relativeVariance = numberFrom(j.at("relative_variance"));
    link.values = numbersFrom(j.at("values"));
    if (j.contains("power")) {
        link.family = PowerFamily{numberFrom(j.at("power"))};
        if (!(link.family->power >= 1 && link.family->power <= 3) || link.kind == Link::Kind::chances ||
            link.kind == Link::Kind::logarithm)
            damaged("a family that does not go with its link");
    }
    const std::size_t values = link.kind == Link::Kind::chances ? static_cast<std::size_t>(outputs) : 0;
    if (link.values.size() != values || (values == 0 && outputs != 1))
        damaged("other outputs than the link's");
    return link;
}

} // namespace

std::string studyText(const Study& study) {
    const PredictionRule& rule = study.rule;
    json out = {{"study", 2},
                {"recipe", recipeText(study.recipe)},
                {"settings", estimatorJson(study.settings)},
                {"inputs", inputsJson(study.inputs)},
                {"model", study.model->text()},
                {"passed_over", study.notSelected},
                {"steps", json::array()},
                {"outcome",
                 {{"converged", bool(study.outcome.converged)},
                  {"why", study.outcome.why},
                  {"history_of", study.outcome.historyOf},
                  {"history", numbersJson(study.outcome.history)}}},
                {"rule",
                 {{"link",
                   {{"kind", linkName(rule.link.kind)},
                    {"smearing", numberJson(rule.link.smearing)},
                    {"relative_variance", numberJson(rule.link.relativeVariance)},
                    {"values", numbersJson(rule.link.values)}}},
                  {"intervals", intervalsJson(rule.intervals)},
                  {"offset", rule.offset},
                  {"weight", rule.weight},
                  {"usual_weight", numberJson(rule.usualWeight)},
                  {"spread", numberJson(rule.spread)}}}};
    if (rule.link.family) out["rule"]["link"]["power"] = numberJson(rule.link.family->power);
    for (const StepOutcome& outcome : study.steps)
        out["steps"].push_back(outcomeJson(outcome));
    return out.dump(-1, ' ', false, json::error_handler_t::replace);
}

namespace {

/// The models with coefficients that a model is, or is made of.
std::vector<const LinearModel*> linearPartsOf(const LearnedModel& model) {
    if (const LinearModel* linear = model.linear()) return {linear};
    if (const auto* ordered = dynamic_cast<const OrderedModel*>(&model)) return {&ordered->slopes};
    if (const auto* parts = dynamic_cast<const TwoPartsModel*>(&model))
        return {&parts->whether->slopes, parts->amount->linear()};
    return {};
}

/// What goes into a model, and what it is made of, is what the recipe says.
void requireWhole(const Study& study) {
    const Recipe& recipe = study.recipe;
    if (study.steps.size() != recipe.steps.size()) damaged("other steps than the recipe's");
    if (study.model->kind() != recipe.estimator.kind) damaged("another kind than the recipe's");
    if (!study.notSelected.empty() && study.notSelected.size() != recipe.terms.size())
        damaged("other terms than the recipe's");
    std::vector<std::string> names;
    for (const Input& input : study.inputs)
        names.push_back(input.name);
    std::vector<std::string> wanted = inputNames(study.terms());
    if (kindOf(study.settings).series) // and when rows were, and of which series
        for (const Role role : {Role::time, Role::group}) {
            const std::string name = columnWith(study.recipe, role);
            const bool there = std::find(wanted.begin(), wanted.end(), name) != wanted.end();
            if (!there && std::find(names.begin(), names.end(), name) != names.end()) wanted.push_back(name);
        }
    if (names != wanted) damaged("other inputs than those of the terms");
    for (const LinearModel* linear : linearPartsOf(*study.model)) {
        if (!(linear->design.inputs() == study.inputs)) damaged("other inputs than the model's");
        // Cuts take the place of the constant.
        const bool intercept = linear->kindName == "ordered" || recipe.intercept;
        if (linear->design.terms().size() != recipe.terms.size() || linear->fit.intercept != intercept)
            damaged("other terms than the recipe's");
        std::vector<std::uint8_t> columns(recipe.terms.size(), 0);
        for (const DesignColumn& column : linear->design.columns())
            columns[column.term] = 1;
        for (std::size_t t = 0; t < columns.size(); ++t) {
            if (!(linear->design.terms()[t] == recipe.terms[t])) damaged("another term than the recipe's");
            // Whether there is anything may be said by some of the terms.
            const bool some = linear->kindName == "ordered" && study.model->kind() != "ordered";
            if (columns[t] != 0 ? !study.has(t) : study.has(t) && !some)
                damaged("a term with no columns, or one not chosen with some");
        }
    }
}

} // namespace

void requireRows(const Study& study) {
    guardedRead([&] {
        const std::size_t count = study.rows.size();
        const auto is = [&](auto size) { return static_cast<std::size_t>(size) == count; };
        const TrainingResults& trained = study.trained;
        if (count == 0 || std::adjacent_find(study.rows.begin(), study.rows.end(), std::greater_equal<>()) !=
                              study.rows.end())
            damaged("learned from rows that are in no order");
        if ((!study.weights.empty() && !is(study.weights.size())) || !is(trained.fitted.size()) ||
            !is(trained.residuals.size()) ||
            (!trained.robustWeights.empty() && !is(trained.robustWeights.size())) ||
            (study.linear() && (!is(trained.leverages.size()) || !is(study.linear()->fit.rows))) ||
            trained.unseen.size() != trained.unseenRows.size() ||
            std::any_of(trained.unseenRows.begin(), trained.unseenRows.end(),
                        [&](std::uint32_t place) { return place >= count; }))
            damaged("other rows than it learned from");
        return true;
    });
}

namespace {

/// What the first version said otherwise, in the words of today.
void renewFirst(json& j, const Study& study) {
    json& rule = j.at("rule");
    const LinearModel* linear = study.linear();
    Settings settings = study.recipe.estimator;
    if (linear && linear->penalised) {
        settings.fields["penalty"] = linear->penalised->penalty;
        settings.fields["l1_share"] = linear->penalised->l1Share;
    }
    j["settings"] = estimatorJson(settings);
    j["outcome"] = {{"converged", !linear || !linear->iterated || linear->iterated->converged},
                    {"why", ""},
                    {"history_of", ""},
                    {"history", json::array()}};
    rule["link"] = {{"kind", rule.at("logarithm").get<bool>() ? "logarithm" : "identity"},
                    {"smearing", rule.at("smearing")},
                    {"relative_variance", rule.at("relative_variance")},
                    {"values", json::array()}};
    if (linear && linear->hasErrors())
        rule["intervals"] = {{"by", linear->isQuantile() ? "quantiles" : "theory"}};
    else
        rule["intervals"] = {{"of", errorsOfName(IntervalsByErrors::Of::leftOneOut)},
                             {"sizes", rule.at("left_one_out")}};
}

} // namespace

std::shared_ptr<Study> readStudy(std::string_view text) {
    return guardedRead([&] {
        json j = json::parse(text);
        const int version = j.at("study").get<int>();
        if (version != 1 && version != 2) damaged("another version");
        auto study = std::make_shared<Study>();
        study->recipe = parseRecipe(j.at("recipe").get_ref<const std::string&>(), "the model");
        study->inputs = inputsFrom(j.at("inputs"));
        study->model = readModel(j.at("model").get_ref<const std::string&>());
        if (j.contains("passed_over"))
            study->notSelected = j.at("passed_over").get<std::vector<std::uint8_t>>();
        if (version == 1) renewFirst(j, *study);
        for (const auto& outcome : j.at("steps"))
            study->steps.push_back(outcomeFrom(outcome));
        const json& from = j.at("rule");
        PredictionRule& rule = study->rule;
        rule.link = linkFrom(from.at("link"), study->model->outputs());
        rule.intervals = intervalsFrom(from.at("intervals"));
        rule.offset = from.at("offset").get<std::string>();
        rule.weight = from.at("weight").get<std::string>();
        rule.usualWeight = numberFrom(from.at("usual_weight"));
        rule.spread = numberFrom(from.at("spread"));
        study->settings = settingsFrom(j.at("settings"));
        if (study->settings.kind != study->recipe.estimator.kind) damaged("settings of another kind");
        const json& outcome = j.at("outcome");
        study->outcome = {outcome.at("converged").get<bool>(), outcome.at("why").get<std::string>(),
                          outcome.at("history_of").get<std::string>(), numbersFrom(outcome.at("history"))};
        requireWhole(*study);
        return study;
    });
}

} // namespace oxgoad
