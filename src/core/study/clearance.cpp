// What stands behind a forecast that is handed on, on one sheet.
#include "base/text.h"
#include "estimate/model_text.h"
#include "recipe/model_parts.h"
#include "study/forecast_answers.h"
#include "study/judge.h"
#include "study/say.h"

#include <nlohmann/json.hpp>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

/// FNV-1a, 64 bits (Fowler, Noll and Vo): tells apart what was changed, not what was forged.
class Fingerprint {
public:
    void add(std::string_view bytes) {
        for (const char c : bytes)
            m_state = (m_state ^ static_cast<unsigned char>(c)) * 1099511628211ULL;
        m_state = (m_state ^ 0x1fU) * 1099511628211ULL; // where a cell ends
    }
    void add(const Table& table) {
        for (const Column& column : table.columns()) {
            add(column.name());
            for (std::size_t i = 0; i < column.size(); ++i)
                add(column.isMissing(i)                   ? std::string()
                    : column.kind() == ColumnKind::number ? exactText(column.numbers()[i])
                                                          : column.cellText(i));
        }
    }
    std::string text() const {
        char text[17];
        std::snprintf(text, sizeof text, "%016llx", static_cast<unsigned long long>(m_state));
        return text;
    }

private:
    std::uint64_t m_state = 14695981039346656037ULL;
};

ordered_json numberOrNullOf(double value) {
    return std::isfinite(value) ? ordered_json(value) : ordered_json(nullptr);
}

} // namespace

std::string fingerprintOf(const Table& table) {
    Fingerprint print;
    print.add(table);
    return print.text();
}

ordered_json coverageJson(const ReachedCoverage& coverage) {
    return {{"rows", coverage.rows},
            {"share", coverage.share},
            {"lower", coverage.lower},
            {"upper", coverage.upper},
            {"of", coverage.of}};
}

std::string clearanceText(const Recipe& recipe, const Evidence& evidence, const StudyRows& rows) {
    const ForecastEvidence& f = *evidence.forecast;
    ordered_json out;
    out["says"] = summaryText(evidence, recipe);
    out["model"] = estimatorText(recipe.estimator);
    out["forecast"] = {{"file", f.file},       {"rows", f.prediction.size()},
                       {"level", f.level},     {"intervals", f.intervals},
                       {"inside", f.inside},   {"edge", f.edge},
                       {"outside", f.outside}, {"without_prediction", f.unpredicted}};
    if (evidence.heldOut.rows > 0)
        out["error"] = {{"rmse", numberOrNullOf(evidence.heldOut.rmse)}, {"of", "held-out rows"}};
    else if (evidence.folds)
        out["error"] = {{"rmse", numberOrNullOf(evidence.folds->rmse)},
                        {"of", foldPlanText(evidence.folds->plan)}};
    else
        out["error"] = {{"rmse", numberOrNullOf(evidence.learning.rmse)}, {"of", "learning rows"}};
    out["coverage"] = nullptr;
    if (evidence.answers && evidence.answers->coverage)
        out["coverage"] = coverageJson(*evidence.answers->coverage);
    if (evidence.answers && evidence.answers->came) out["came_of_it"] = evidence.answers->came->says;
    out["open"] = ordered_json::array();
    out["accepted"] = ordered_json::array();
    for (const Goad& goad : evidence.goads) {
        ordered_json each{{"goad", goad.key}, {"title", goad.title}, {"reading", goad.reading}};
        if (goad.accepted) {
            each["reason"] = *goad.accepted;
            out["accepted"].push_back(std::move(each));
        } else if (goad.under.empty()) {
            out["open"].push_back(std::move(each));
        }
    }
    out["left_out"] = ordered_json::array();
    for (const LeftOutRow& row : recipe.leaveOut)
        out["left_out"].push_back({{"row", row.row}, {"reason", row.reason}});
    out["test_looked_at"] = evidence.test.has_value();
    out["seeds"] = ordered_json::object();
    if (recipe.setAside) out["seeds"]["set_aside"] = recipe.setAside->seed;
    if (recipe.judge) out["seeds"]["judge"] = recipe.judge->seed;
    Fingerprint of;
    of.add(recipeText(recipe));
    out["fingerprints"] = {{"rows", fingerprintOf(rows.learning.table)},
                           {"rows_to_forecast", fingerprintOf(rows.forecast->table)},
                           {"recipe", of.text()}};
    const Clearance clearance = recipe.clearance.value_or(Clearance{});
    out["cleared"] = clearanceJson(clearance);
    return out.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n";
}

std::string reachTestedText(const ForecastAnswers& answers) {
    ordered_json out = ordered_json::array();
    for (const ReachTested& tested : answers.reach) {
        ordered_json each{{"column", tested.column},
                          {"end", tested.high ? "high" : "low"},
                          {"asked_beyond", numberOrNullOf(tested.asked)},
                          {"rmse_inside", numberOrNullOf(tested.rmseInside)},
                          {"inside_of", tested.insideOf},
                          {"steps", ordered_json::array()}};
        for (const ReachStep& step : tested.steps)
            each["steps"].push_back({{"share", step.share},
                                     {"edge", numberOrNullOf(step.edge)},
                                     {"rows", step.rows},
                                     {"beyond", numberOrNullOf(step.beyond)},
                                     {"rmse", numberOrNullOf(step.rmse)},
                                     {"coverage", numberOrNullOf(step.coverage)},
                                     {"coverage_lower", numberOrNullOf(step.coverageLower)},
                                     {"coverage_upper", numberOrNullOf(step.coverageUpper)}});
        if (!tested.says.empty()) each["says"] = tested.says;
        if (tested.steps.empty()) each["problem"] = tested.problem;
        out.push_back(std::move(each));
    }
    return ordered_json{{"level_of", "the forecast"}, {"tested", std::move(out)}}.dump(
               2, ' ', false, ordered_json::error_handler_t::replace) +
           "\n";
}

} // namespace oxgoad
