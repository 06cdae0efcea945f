#include "study/compare_many.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "study/evaluate.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

double medianOf(std::vector<double> values) {
    if (values.empty()) return nan;
    const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    if (values.size() % 2 == 1) return *middle;
    return 0.5 * (*middle + *std::max_element(values.begin(), middle));
}

PartScores scoresOf(std::string part, const std::vector<double>& actual, const std::vector<double>& predicted,
                    double learningMean) {
    const Scores s = score(actual, predicted, learningMean);
    std::vector<double> errors;
    for (std::size_t i = 0; i < actual.size(); ++i)
        errors.push_back(std::fabs(actual[i] - predicted[i]));
    return {std::move(part),
            s.rows,
            s.rmse,
            s.mae,
            medianOf(std::move(errors)),
            s.rSquared,
            s.relativeAbsoluteError,
            s.relativeSquaredError};
}

} // namespace

std::vector<std::shared_ptr<const Evidence>>
judgedAlike(std::span<const std::shared_ptr<const Evidence>> fits, std::span<const Recipe> recipes,
            const StudyRows& rows, const PreparedRows* before, Threads threads, Progress& progress) {
    std::vector<std::shared_ptr<const Evidence>> alike;
    for (std::size_t i = 0; i < fits.size(); ++i) {
        if (recipes[i].judge == recipes[0].judge && recipes[i].setAside == recipes[0].setAside) {
            alike.push_back(fits[i]);
            continue;
        }
        ProgressStage stage(progress, 0.9 * static_cast<double>(i) / static_cast<double>(fits.size()),
                            0.9 * static_cast<double>(i + 1) / static_cast<double>(fits.size()));
        stage.checkpoint(0, "Judging fits by the same folds");
        Recipe recipe = recipes[i];
        recipe.judge = recipes[0].judge;
        recipe.setAside = recipes[0].setAside;
        recipe.forecast.reset();
        const auto own = prepareRows(recipe, rows, threads, stage, before);
        alike.push_back(std::make_shared<const Evidence>(
            evaluate(recipe, rows, *own, {.threads = threads, .checks = ChecksWanted::quick}, stage)));
    }
    return alike;
}

std::vector<PartScores> partScores(const Evidence& evidence) {
    std::vector<PartScores> found;
    const double mean = evidence.learning.meanActual;
    const auto add = [&](const char* part, RowState state, const std::vector<double>& values) {
        std::vector<double> actual, predicted;
        for (std::size_t i = 0; i < std::min(evidence.rows.state.size(), values.size()); ++i)
            if (evidence.rows.state[i] == state && !std::isnan(values[i]) &&
                !std::isnan(evidence.rows.actual[i])) {
                actual.push_back(evidence.rows.actual[i]);
                predicted.push_back(values[i]);
            }
        if (!actual.empty()) found.push_back(scoresOf(part, actual, predicted, mean));
    };
    add("learning", RowState::learning, evidence.rows.fitted);
    add("held out", RowState::heldOut, evidence.rows.fitted);
    if (evidence.folds) add("out of fold", RowState::learning, evidence.folds->outOfFold);
    if (evidence.test)
        found.push_back({"test", evidence.test->rows, evidence.test->rmse, evidence.test->mae, nan,
                         evidence.test->rSquared, evidence.test->relativeAbsoluteError,
                         evidence.test->relativeSquaredError});
    return found;
}

Complexity complexityOf(const Evidence& evidence) {
    if (const LinearModel* model = evidence.study->linear()) {
        if (model->penalised)
            return {"effective degrees of freedom", model->penalised->effectiveDegreesOfFreedom};
        return {"coefficients", static_cast<double>(model->fit.rank())};
    }
    const auto says = evidence.study->model->says();
    if (says.empty()) return {"", nan};
    return {says.front().name, says.front().value};
}

MoneyAtStake moneyAtStake(const Evidence& evidence, const Evidence& forecast) {
    MoneyAtStake money{nan, nan, 0, {}};
    if (!forecast.forecast) return money;
    const ForecastEvidence& coming = *forecast.forecast;
    money.rows = coming.prediction.size() - coming.unpredicted;
    const double mae =
        evidence.folds && evidence.folds->rows > 0 ? evidence.folds->mae : evidence.heldOut.mae;
    money.onForecast = mae * static_cast<double>(money.rows);
    money.over = plural(money.rows, "row", "rows");
    const auto& periods = coming.coming;
    if (periods.size() < 2) return money;
    // As many steps as periods: twelve first days of months last a year.
    const double days = static_cast<double>(periods.back().day - periods.front().day);
    const double whole = days * static_cast<double>(periods.size()) / static_cast<double>(periods.size() - 1);
    if (!(whole > 0)) return money;
    money.aYear = money.onForecast * 365.25 / whole;
    money.over += " in " + plural(periods.size(), "period", "periods");
    return money;
}

std::vector<CommonCoefficient> commonCoefficients(std::span<const Compared> fits) {
    std::vector<CommonCoefficient> found;
    std::map<std::string, std::size_t> places;
    for (std::size_t f = 0; f < fits.size(); ++f) {
        if (!fits[f].evidence.linear) continue;
        for (const CoefficientEvidence& c : fits[f].evidence.linear->coefficients) {
            if (c.term < 0 || c.dependent || std::isnan(c.estimate)) continue;
            const auto [place, added] = places.emplace(c.name, found.size());
            if (added)
                found.push_back(
                    {c.name, std::vector<double>(fits.size(), nan), std::vector<double>(fits.size(), nan)});
            found[place->second].estimates[f] = c.estimate * c.deviation;
            found[place->second].errors[f] = c.standardError * c.deviation;
        }
    }
    const auto size = [](const CommonCoefficient& c) {
        double largest = 0;
        for (const double v : c.estimates)
            if (std::isfinite(v)) largest = std::max(largest, std::fabs(v));
        return largest;
    };
    std::stable_sort(found.begin(), found.end(),
                     [&](const auto& a, const auto& b) { return size(a) > size(b); });
    return found;
}

std::vector<DifferingRow> differMost(std::span<const Compared> fits, std::size_t most) {
    if (fits.size() < 2) return {};
    std::size_t rows = SIZE_MAX;
    bool outOfFold = true;
    for (const Compared& fit : fits) {
        rows = std::min(rows, fit.evidence.rows.fitted.size());
        outOfFold = outOfFold && fit.evidence.folds && fit.evidence.folds->rows > 0;
    }
    std::vector<DifferingRow> found;
    for (std::size_t i = 0; i < rows; ++i) {
        DifferingRow row{i, 0, fits[0].evidence.rows.actual[i], {}};
        double low = 1e308, high = -1e308;
        for (const Compared& fit : fits) {
            const RowState state = fit.evidence.rows.state[i];
            if (state == RowState::test) {
                low = nan;
                break;
            }
            const double own = outOfFold && state == RowState::learning ? fit.evidence.folds->outOfFold[i]
                                                                        : fit.evidence.rows.fitted[i];
            row.predictions.push_back(own);
            low = std::isnan(own) ? own : std::min(low, own);
            high = std::max(high, own);
            if (std::isnan(own)) break;
        }
        if (std::isnan(low)) continue;
        row.spread = high - low;
        if (row.spread > 0) found.push_back(std::move(row));
    }
    const auto count = static_cast<std::ptrdiff_t>(std::min(most, found.size()));
    std::partial_sort(found.begin(), found.begin() + count, found.end(), [](const auto& a, const auto& b) {
        return a.spread != b.spread ? a.spread > b.spread : a.row < b.row;
    });
    found.resize(static_cast<std::size_t>(count));
    return found;
}

} // namespace oxgoad
