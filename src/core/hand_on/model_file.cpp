#include "hand_on/model_file.h"
#include "study/reach_measures.h"

#include "base/error.h"
#include "base/file.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "estimate/model_text.h"

#include <nlohmann/json.hpp>

#include <fstream>
#include <sstream>

namespace oxgoad {

namespace {

using nlohmann::json;
using nlohmann::ordered_json;

constexpr const char* nameOfFormat = "oxgoad model";

/// Texts of JSON that stand within JSON become what they say.
json opened(const json& kept) {
    json out = kept;
    out["recipe"] = json::parse(kept.at("recipe").get_ref<const std::string&>());
    out["model"] = json::parse(kept.at("model").get_ref<const std::string&>());
    return out;
}

json closed(const json& open) {
    json out = open;
    out["recipe"] = open.at("recipe").dump();
    out["model"] = open.at("model").dump(-1, ' ', false, json::error_handler_t::replace);
    return out;
}

ordered_json saysOf(const Study& study) {
    ordered_json says;
    for (const NamedNumber& each : study.model->says())
        says[each.name] = each.value;
    return says;
}

ordered_json coefficientsOf(const Study& study) {
    ordered_json out = ordered_json::array();
    const LinearModel* linear = study.linear();
    if (!linear) return out;
    if (linear->fit.intercept) out.push_back({{"name", "constant"}, {"estimate", linear->fit.constant}});
    for (const auto j : linear->fit.kept)
        out.push_back({{"name", linear->design.columns()[j].name},
                       {"estimate", linear->fit.coefficients[static_cast<Eigen::Index>(j)]}});
    return out;
}

ordered_json stepsOf(const Study& study) {
    ordered_json out = ordered_json::array();
    for (std::size_t i = 0; i < study.recipe.steps.size() && i < study.steps.size(); ++i) {
        if (!study.recipe.steps[i].on) continue;
        ordered_json learned = ordered_json::array();
        for (const LearnedValue& value : study.steps[i].learned)
            learned.push_back({{"column", value.column},
                               {"what", value.what},
                               {"numbers", value.numbers},
                               {"texts", value.texts}});
        out.push_back({{"says", stepSentence(study.recipe.steps[i])}, {"learned", learned}});
    }
    return out;
}

} // namespace

std::string modelFileText(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                          const PreparedRows& prepared) {
    const Study& study = *evidence.study;
    Progress quiet;
    const BoundModel bound = study.bind(prepared.table, rows.learning.report.file);
    const std::vector<Term> terms = study.terms();
    const LearnedReach reach(bound.inputs(), study.rows, terms, study.model->distanceScale(), quiet,
                             reachOptionsOf(recipe));
    ordered_json inputs = ordered_json::array();
    for (std::size_t i = 0; i < study.inputs.size(); ++i) {
        const Input& input = study.inputs[i];
        ordered_json each{{"name", input.name},
                          {"kind", input.factor ? "factor"
                                   : input.date ? "date"
                                                : "number"}};
        if (input.factor) {
            each["levels"] = input.levels;
            each["reference"] = input.levels[input.referenceLevel];
        } else if (reach.range(i).seen) {
            each["learned_from"] = input.valueText(reach.range(i).low);
            each["learned_to"] = input.valueText(reach.range(i).high);
        }
        inputs.push_back(each);
    }
    ordered_json columns = ordered_json::array();
    for (const Column& column : rows.learning.table.columns())
        columns.push_back({{"name", column.name()}, {"kind", column.kindText()}});
    ordered_json open = ordered_json::array();
    for (const Goad& goad : evidence.goads)
        if (!goad.accepted && goad.under.empty())
            open.push_back({{"key", goad.key}, {"title", goad.title}, {"reading", goad.reading}});
    const ordered_json out{{"format", nameOfFormat},
                           {"version", 1},
                           {"response", study.recipe.response},
                           {"model", kindOf(study.settings).sentence(study.settings)},
                           {"says", saysOf(study)},
                           {"rows_learned_from", study.rows.size()},
                           {"inputs", inputs},
                           {"coefficients", coefficientsOf(study)},
                           {"preparation", stepsOf(study)},
                           {"intervals", intervalsText(study.rule.intervals)},
                           {"open_goads", open},
                           {"level", recipe.forecast ? recipe.forecast->level : recipe.level},
                           {"columns", columns},
                           {"reach", json::parse(reach.text())},
                           {"kept", opened(json::parse(studyText(study)))}};
    return out.dump(1, ' ', false, json::error_handler_t::replace) + "\n";
}

ModelFile readModelFile(const std::filesystem::path& file) {
    const std::string bytes = readFile(file);
    try {
        return guardedRead([&] {
            const json j = json::parse(bytes);
            if (j.at("format") != nameOfFormat || j.at("version") != 1) damaged("another format or version");
            ModelFile model;
            model.study =
                readStudy(closed(j.at("kept")).dump(-1, ' ', false, json::error_handler_t::replace));
            model.reach = j.at("reach").dump();
            static_cast<void>(LearnedReach::read(model.reach, model.study->inputs));
            model.level = j.at("level").get<double>();
            if (!(model.level > 0 && model.level < 1)) damaged("a level that is no share");
            std::vector<Column> columns;
            for (const json& each : j.at("columns")) {
                const auto name = each.at("name").get<std::string>();
                const auto kind = AskedKind::named(each.at("kind").get<std::string>());
                if (!kind) damaged("a kind that is not known");
                for (const Column& column : columns)
                    if (column.name() == name) damaged("a column that stands twice");
                columns.push_back(kind->moments                 ? Column::ofMoments(name, {})
                                  : *kind == ColumnKind::number ? Column::ofNumbers(name, {})
                                  : *kind == ColumnKind::date   ? Column::ofDates(name, {})
                                  : *kind == ColumnKind::factor ? Column::ofFactor(name, {}, {})
                                                                : Column::ofText(name, {}));
            }
            model.columns = Table(std::move(columns));
            return model;
        });
    } catch (const Error& error) {
        throw Error(ErrorCode::badProject, "this is not a model that was handed on: " + error.message(),
                    {.file = file.string()}, "Hand it on anew with oxgoad-run --hand-on json.");
    }
}

Scored scoreByFile(const ModelFile& model, const RowsSource& rows, const std::filesystem::path& folder,
                   Threads threads, Progress& progress, const PasswordFor& password) {
    const Study& study = *model.study;
    Recipe recipe = study.recipe;
    recipe.forecast = ForecastRequest{};
    static_cast<RowsSource&>(*recipe.forecast) = rows;
    Scored out{loadForecastRows(recipe, model.columns, folder, threads, progress, password), {}};
    const std::string& file = out.read.report.file;
    const Prepared prepared = prepareFor(study, out.read.table, file, progress);
    out.forecast = scoreRows(study.inputs, *study.model, study.rule,
                             LearnedReach::read(model.reach, study.inputs, reachOptionsOf(study.recipe)),
                             prepared.table, file, model.level, threads, progress);
    nameMisfits(out.forecast.reach, out.read.report.faults);
    markLeftOut(out.forecast, prepared.leftOut);
    return out;
}

} // namespace oxgoad
