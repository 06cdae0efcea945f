#include "study/evidence.h"

#include "check/explain.h"
#include "estimate/linear/linear_model.h"

#include "base/text.h"
#include "study/calibration.h"
#include "study/fold_evidence.h"
#include "study/forecast_answers.h"

#include "study/tune.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

void putAnswers(ordered_json& forecast, const ForecastAnswers& answers) {
    if (answers.coverage) forecast["coverage"] = coverageJson(*answers.coverage);
    if (answers.damped)
        forecast["damped_trend"] = {
            {"column", answers.damped->column},       {"phi", answers.damped->phi},
            {"rows", answers.damped->rows},           {"total", answers.damped->total},
            {"total_damped", answers.damped->damped}, {"says", answers.damped->says}};
    if (answers.came) {
        const auto plain = [](double value) {
            return std::isfinite(value) ? ordered_json(value) : ordered_json(nullptr);
        };
        const auto told = [&](const CameOfIt& came) -> ordered_json {
            if (came.rows == 0) return nullptr;
            return {
                {"rows", came.rows},
                {"rmse", came.rmse},
                {"bias", came.bias},
                {"bias_error", plain(came.biasError)},
                {"coverage", came.coverage.rows > 0 ? ordered_json(coverageJson(came.coverage)) : nullptr}};
        };
        ordered_json& came = forecast["came_of_it"] = told(answers.came->all);
        came["expected_rmse"] = plain(answers.came->expectedRmse);
        for (std::size_t g = 0; g < 3; ++g)
            came["by_reach"][std::string(gradeName(static_cast<ReachGrade>(g)))] =
                told(answers.came->byGrade[g]);
        came["says"] = answers.came->says;
        if (!answers.came->soFar.empty()) came["so_far"] = answers.came->soFar;
    }
    if (!answers.sumsBy.empty()) forecast["totals_intervals"] = answers.sumsBy;
    if (!answers.shared.empty()) forecast["totals_share"] = answers.shared;
    for (const ScenarioFound& found : answers.scenarios) {
        forecast["scenarios"].push_back({{"scenario", found.scenario.name},
                                         {"says", scenarioText(found.scenario)},
                                         {"rows", found.rows},
                                         {"outside", found.outside},
                                         {"outside_before", found.outsideBefore},
                                         {"without_prediction", found.unpredicted},
                                         {"total", found.total},
                                         {"total_changed", found.changed},
                                         {"difference", found.difference},
                                         {"lower", found.lower},
                                         {"upper", found.upper}});
        if (!found.problem.empty()) forecast["scenarios"].back()["problem"] = found.problem;
    }
}

ordered_json scoresJson(const Scores& s) {
    return {{"rows", s.rows},
            {"rmse", s.rmse},
            {"rmse_standard_error", s.rmseError},
            {"mae", s.mae},
            {"mean", s.meanActual},
            {"r_squared", s.rSquared},
            {"relative_absolute_error", s.relativeAbsoluteError},
            {"relative_squared_error", s.relativeSquaredError}};
}

ordered_json coefficientJson(const CoefficientEvidence& c) {
    return {{"name", c.name},
            {"estimate", c.estimate},
            {"standard_error", c.standardError},
            {"t", c.t},
            {"p", c.p},
            {"lower", c.lower},
            {"upper", c.upper},
            {"effect", c.effect},
            {"effect_lower", c.effectLower},
            {"effect_upper", c.effectUpper},
            {"standard_deviation", c.deviation},
            {"dependent", c.dependent},
            {"derived", c.derived},
            {"test_degrees_of_freedom", c.degreesOfFreedom}};
}

ordered_json termJson(const TermEvidence& t) {
    ordered_json out{{"name", t.name},
                     {"enters_as", t.entersAs},
                     {"degrees_of_freedom", t.degreesOfFreedom},
                     {"f", t.f},
                     {"p", t.p},
                     {"inflation", t.inflation},
                     {"error_without", t.errorWithout},
                     {"lowest", t.lowest},
                     {"highest", t.highest},
                     {"centre", t.centre},
                     {"scale", t.scale},
                     {"test_degrees_of_freedom", t.denominatorDf}};
    if (!t.why.empty()) out["no_test"] = t.why;
    if (!t.chosen) out["chosen"] = false;
    return out;
}

ordered_json goadJson(const Goad& g, const std::vector<Goad>& all) {
    ordered_json out{{"goad", g.key},
                     {"severity", g.severity == Severity::alarm ? "alarm" : "caution"},
                     {"state", g.accepted ? "accepted" : "open"},
                     {"title", g.title},
                     {"reading", g.reading},
                     {"threshold", g.threshold},
                     {"source", g.source}};
    if (g.row) out["row"] = *g.row + 1;
    if (!g.column.empty()) out["column"] = g.column;
    if (g.accepted) out["reason"] = *g.accepted;
    if (!g.acceptedBefore.empty()) out["accepted_before"] = g.acceptedBefore;
    if (!g.check.empty()) out["check"] = g.check;
    if (g.cost) out["cost"] = *g.cost;
    if (!g.costSays.empty()) out["cost_says"] = g.costSays;
    if (g.size) out["size"] = *g.size;
    if (!g.family.empty()) out["family"] = g.family;
    const Explanation why = explain(g);
    out["why"] = {{"what", why.what}, {"here", why.here}, {"answers", why.answers}};
    for (const Move& move : g.moves)
        if (move.edit) out["moves"].push_back(move.label);
    for (const Goad& other : all)
        if (other.under == g.key) out["also"].push_back(goadJson(other, {}));
    return out;
}

ordered_json stepEvidenceJson(const StepOutcome& o, const Step& step) {
    ordered_json out{{"says", stepSentence(step)},
                     {"done", o.done},
                     {"rows_in", o.rowsIn},
                     {"rows_out", o.rowsOut},
                     {"columns_in", o.columnsIn},
                     {"columns_out", o.columnsOut},
                     {"changed_cells", o.changedCells}};
    if (!o.problem.empty()) out["problem"] = o.problem;
    if (!o.notes.empty()) out["notes"] = o.notes;
    for (const LearnedValue& value : o.learned) {
        ordered_json learned{{"column", value.column}, {"what", value.what}};
        if (!value.numbers.empty()) learned["numbers"] = value.numbers;
        if (!value.texts.empty() || value.numbers.empty()) learned["texts"] = value.texts;
        out["learned"].push_back(learned);
    }
    return out;
}

ordered_json partJson(const PartSummary& p) {
    ordered_json out{{"part", partName(p.part)},
                     {"rows", p.rows},
                     {"with_response", p.withResponse},
                     {"mean", p.mean},
                     {"standard_deviation", p.standardDeviation}};
    if (!p.unseenLevels.empty()) out["levels_not_learned"] = p.unseenLevels;
    return out;
}

ordered_json inputJson(const InputEvidence& input) {
    return {{"name", input.name},
            {"factor", input.factor},
            {"lowest", input.lowest},
            {"highest", input.highest},
            {"importance", input.importance},
            {"importance_standard_error", input.importanceError}};
}

/// The part that only models with coefficients have.
void addLinear(ordered_json& fit, const LinearEvidence& e) {
    fit["residual_standard_deviation"] = e.residualStandardDeviation;
    fit["degrees_of_freedom"] = e.degreesOfFreedom;
    fit["r_squared"] = e.rSquared;
    fit["adjusted_r_squared"] = e.adjustedRSquared;
    fit["f"] = e.f;
    fit["f_degrees_of_freedom"] = e.fDegreesOfFreedom;
    fit["f_p"] = e.fP;
    fit["f_test_degrees_of_freedom"] = e.fDenominatorDf;
    if (!e.fWhy.empty()) fit["f_no_test"] = e.fWhy;
    fit["residual_sum_of_squares"] = e.residualSumOfSquares;
    fit["total_sum_of_squares"] = e.totalSumOfSquares;
    fit["condition_number"] = e.conditionNumber;
    fit["digits_left"] = e.digitsLeft;
    fit["response_digits_left"] = e.responseDigitsLeft;
    if (e.fitsExactly) fit["fits_exactly"] = true;
    if (e.rowsFixed > 0) fit["rows_fixed"] = e.rowsFixed;
    fit["twice_precision"] = e.twicePrecision;
    fit["rank_tolerance"] = e.rankTolerance;
}

/// The knots of curves and straight pieces of a term, as they were learned or given.
void addKnots(ordered_json& out, const Design& design, std::size_t term) {
    std::map<std::string, std::vector<double>> knots; // by input
    for (const DesignColumn& column : design.columns()) {
        if (column.term != term) continue;
        for (const DesignColumn::Piece& piece : column.pieces) {
            std::vector<double>& own = knots[design.inputs()[static_cast<std::size_t>(piece.input)].name];
            if (piece.basis.kind == Basis::Kind::spline && piece.basis.values)
                own = *piece.basis.values;
            else if (piece.basis.kind == Basis::Kind::hinge &&
                     std::find(own.begin(), own.end(), piece.basis.shift) == own.end())
                own.push_back(piece.basis.shift);
        }
    }
    for (auto& [input, at] : knots)
        if (!at.empty()) out["knots"][input] = at;
}

/// How a kind without coefficients came by its model.
void addLearning(ordered_json& fit, const Study& study) {
    if (!study.outcome.converged) {
        fit["converged"] = false;
        fit["why"] = study.outcome.why;
    }
    if (!study.outcome.history.empty())
        fit["history"] = {{"of", study.outcome.historyOf}, {"values", study.outcome.history}};
    if (!study.tuning) return;
    const Tuning& tuning = *study.tuning;
    ordered_json& tuned = fit["tuned"];
    tuned = {{"setting", tuning.field},
             {"value", tuning.points[tuning.chosen].value},
             {"smallest_error_at", tuning.points[tuning.smallest].value},
             {"judged_by", tuning.judgedBy}};
    if (!tuning.note.empty()) tuned["note"] = tuning.note;
    for (const TuningPoint& point : tuning.points)
        tuned["tried"].push_back({{"value", point.value},
                                  {"mean_of_fold_mse", point.meanOfFoldMse},
                                  {"standard_error", point.standardError}});
}

ordered_json fitJson(const Evidence& e, const Recipe& recipe) {
    ordered_json fit;
    fit["estimator"] = estimatorText(recipe.estimator);
    const LinearEvidence* linear = e.linear ? &*e.linear : nullptr;
    if (linear && kindOf(recipe.estimator).choosesErrors) {
        fit["errors"] = errorsText(recipe.errors);
        if (linear->errorUnits > 0) fit["error_units"] = linear->errorUnits;
        if (recipe.errors.kind == CovarianceKind::autocorrelated) fit["error_lags"] = linear->errorLags;
        fit["aicc"] = linear->aicc;
        fit["bic"] = linear->bic;
    }
    if (e.logResponse) {
        fit["response_in_logs"] = true;
        fit["smearing"] = e.smearing;
    }
    if (!e.weight.empty()) fit["weight"] = e.weight;
    if (!e.offset.empty()) fit["offset"] = e.offset;
    if (const LinearModel* model = e.study ? e.study->linear() : nullptr; model && model->penalised) {
        fit["penalty"] = model->penalised->penalty;
        fit["l1_share"] = model->penalised->l1Share;
        fit["kept"] = model->penalised->kept;
        fit["duality_gap"] = model->penalised->dualityGap;
        fit["effective_degrees_of_freedom"] = model->penalised->effectiveDegreesOfFreedom;
        if (const PenaltySearch* search = e.study->search.get()) {
            fit["penalty_judged_by"] = search->judgedBy;
            fit["mean_of_fold_mse"] = search->points[search->chosen].meanOfFoldMse;
            if (!search->note.empty()) fit["penalty_note"] = search->note;
        }
    }
    if (linear && linear->generalised) {
        const Generalised& of = *linear->generalised;
        fit["link"] = of.log ? "log" : "identity";
        fit["power"] = of.power;
        if (of.powerFound) fit["power_found_by"] = "likelihood";
        fit["dispersion"] = of.dispersion;
        fit["deviance"] = of.deviance;
        fit["null_deviance"] = of.nullDeviance;
        fit["log_likelihood"] = of.logLikelihood;
    }
    if (linear && linear->iterated) {
        fit["iterations"] = linear->iterated->iterations;
        fit["converged"] = linear->iterated->converged;
        if (kindOf(recipe.estimator).quantile) {
            fit["exact_vertex"] = linear->iterated->exactVertex;
            fit["quantile_fit"] = linear->quantileFit;
        } else if (!linear->generalised) {
            fit["scale"] = linear->iterated->scale;
            fit["rows_doubted"] = linear->iterated->rowsDoubted;
        }
    }
    fit["level"] = e.level;
    fit["coefficients"] = ordered_json::array();
    fit["terms"] = ordered_json::array();
    if (linear) {
        for (const auto& c : linear->coefficients)
            fit["coefficients"].push_back(coefficientJson(c));
        for (std::size_t t = 0; t < linear->terms.size(); ++t) {
            fit["terms"].push_back(termJson(linear->terms[t]));
            if (e.study && e.study->linear()) addKnots(fit["terms"].back(), e.study->linear()->design, t);
        }
        addLinear(fit, *linear);
        return fit;
    }
    if (e.study) addLearning(fit, *e.study);
    if (e.study)
        if (const ModelPart part = partOf(*e.study); !part.fit.empty())
            fit.update(ordered_json::parse(part.fit));
    for (const InputEvidence& input : e.inputs)
        fit["inputs"].push_back(inputJson(input));
    for (const NamedNumber& said : e.says)
        fit["says"][said.name] = said.value;
    return fit;
}

} // namespace

bool Evidence::inLogs() const {
    return logResponse || (study && study->rule.link.isLogarithmic());
}

std::string evidenceText(const Evidence& e, const Recipe& recipe) {
    ordered_json out;
    out["evidence"] = 1;
    out["recipe"] = ordered_json::parse(recipeText(recipe));
    out["rows"] = {{"read", e.rowsRead},        {"learning", e.rowsLearning},
                   {"held_out", e.rowsHeldOut}, {"left_out", e.rowsLeftOut},
                   {"missing", e.rowsMissing},  {"held_out_unpredicted", e.heldOutUnpredicted}};
    if (e.rowsTest > 0) out["rows"]["test"] = e.rowsTest;
    if (e.rowsWeightless > 0) out["rows"]["weight_0"] = e.rowsWeightless;
    for (std::size_t i = 0; i < e.steps.size() && i < recipe.steps.size(); ++i)
        out["steps"].push_back(stepEvidenceJson(e.steps[i], recipe.steps[i]));
    for (const PartSummary& part : e.parts)
        out["parts"].push_back(partJson(part));
    out["rows"]["missing_by_column"] = ordered_json::object();
    for (const auto& [column, count] : e.missingByColumn)
        out["rows"]["missing_by_column"][column] = count;
    if (e.faultCount > 0) {
        ordered_json& faults = out["rows"]["faults"];
        faults = {{"count", e.faultCount}, {"by_column", ordered_json::object()}};
        for (const auto& [column, count] : e.faultsByColumn)
            faults["by_column"][column] = count;
        for (const CellFault& fault : e.faults)
            faults["first"].push_back({{"line", fault.line},
                                       {"row", fault.row},
                                       {"column", fault.column},
                                       {"text", fault.text},
                                       {"reason", fault.reason}});
    }
    out["fit"] = fitJson(e, recipe);
    out["scores"]["learning"] = scoresJson(e.learning);
    out["scores"]["held_out"] = recipe.setAside ? scoresJson(e.heldOut) : ordered_json();
    if (e.leftOneOut) {
        const bool one = e.study->trained.unseenOf == IntervalsByErrors::Of::leftOneOut;
        out["scores"][one ? "left_one_out" : "unseen_parts"] = scoresJson(*e.leftOneOut);
    }
    if (e.heldOutKept) out["scores"]["held_out_without_left_out"] = scoresJson(*e.heldOutKept);
    if (e.test) out["scores"]["test"] = scoresJson(*e.test);
    if (e.folds) out["folds"] = foldsJson(*e.folds, recipe);
    if (const auto calibration = calibrationOf(e)) out["calibration"] = calibrationJson(calibration);
    for (const ImportanceLine& line : e.importance.lines)
        out["importance"].push_back({{"columns", line.columns},
                                     {"of", e.importance.of},
                                     {"rmse", e.importance.rmse},
                                     {"increase", line.increase},
                                     {"spread", line.spread}});
    if (const ModelPart part = partOf(*e.study); !part.json.empty())
        out[part.key] = ordered_json::parse(part.json);
    out["readings"] = ordered_json::array();
    for (const Reading& r : e.readings) {
        ordered_json reading{{"name", r.name}, {"value", r.value},   {"threshold", r.threshold},
                             {"p", nullptr},   {"says", r.sentence}, {"source", r.source}};
        if (r.p) reading["p"] = *r.p;
        out["readings"].push_back(reading);
    }
    out["goads"] = ordered_json::array();
    for (const Goad& goad : e.goads)
        if (goad.under.empty()) out["goads"].push_back(goadJson(goad, e.goads));
    if (e.forecast)
        out["forecast"] = {{"file", e.forecast->file},
                           {"rows", e.forecast->prediction.size()},
                           {"level", e.forecast->level},
                           {"inside", e.forecast->inside},
                           {"edge", e.forecast->edge},
                           {"outside", e.forecast->outside},
                           {"without_prediction", e.forecast->unpredicted}};
    if (e.forecast && e.forecast->unpredicted > 0)
        out["forecast"]["without_prediction_because"] = unpredictedText(*e.forecast);
    if (e.forecast) {
        out["forecast"]["intervals"] = e.forecast->intervals;
        out["forecast"]["coverage"] = nullptr;
        if (e.answers) putAnswers(out["forecast"], *e.answers);
    }
    if (e.forecast && !e.forecast->totalsBy.empty()) {
        out["forecast"]["totals_by"] = e.forecast->totalsBy;
        if (e.forecast->periodSpread > 0) out["forecast"]["period_spread"] = e.forecast->periodSpread;
        for (const PeriodTotal& t : e.forecast->coming)
            out["forecast"]["totals"].push_back({{"date", dateText(t.day)},
                                                 {"rows", t.rows},
                                                 {"prediction", t.predicted},
                                                 {"lower", t.lower},
                                                 {"upper", t.upper},
                                                 {"outside", t.outside},
                                                 {"without_prediction", t.unpredicted}});
    }
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
