#include "study/compare_pairs.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <array>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::array measures{Measure::rmse, Measure::mse, Measure::mae};

double valueOf(const FoldScore& fold, Measure measure) {
    return measure == Measure::rmse ? fold.rmse : measure == Measure::mse ? fold.mse : fold.mae;
}

/// Dealt alike, whole, with the same rows judged in every fold.
bool alike(const Evidence& a, const Evidence& b) {
    if (!a.folds || !b.folds || a.folds->partial() || b.folds->partial() ||
        !(a.folds->plan == b.folds->plan) || a.folds->each.size() != b.folds->each.size() ||
        a.folds->each.size() < 2 || a.folds->foldOf != b.folds->foldOf)
        return false;
    for (std::size_t f = 0; f < a.folds->each.size(); ++f)
        if (a.folds->each[f].rows != b.folds->each[f].rows || a.folds->each[f].rows == 0) return false;
    return true;
}

/// Judged rows over learning rows, on average.
double ratioOf(const FoldEvidence& folds) {
    double sum = 0;
    for (const FoldScore& fold : folds.each) {
        const auto judged = static_cast<double>(fold.rows), all = static_cast<double>(folds.rows);
        // A draw with replacement learns as many rows as there are.
        const double learning = folds.plan.kind == FoldKind::bootstrap ? all : all - judged;
        sum += judged / std::max(1.0, learning);
    }
    return sum / static_cast<double>(folds.each.size());
}

void compareByFolds(const Compared& a, const Compared& b, double level, PairComparison& pair) {
    const FoldEvidence &first = *a.evidence.folds, &second = *b.evidence.folds;
    double sum = 0, own = 0;
    for (std::size_t f = 0; f < first.each.size(); ++f) {
        const double x = valueOf(first.each[f], pair.measure);
        const double difference = valueOf(second.each[f], pair.measure) - x;
        pair.byFold.push_back(difference);
        sum += difference;
        own += x;
        pair.foldsBetter += difference < 0;
    }
    pair.folds = pair.byFold.size();
    const auto n = static_cast<double>(pair.folds);
    pair.difference = sum / n;
    pair.ofFirst = own / n;
    pair.standardError = correctedFoldError(pair.byFold, ratioOf(first));
    const double half = studentQuantile(level, n - 1) * pair.standardError;
    pair.lower = pair.difference - half;
    pair.upper = pair.difference + half;
    pair.judgedBy = foldPlanText(first.plan);
}

/// Errors of both fits at rows that neither learned from: rows both hold out and predict, or, judged by
/// leaving out one row at a time, rows that both predict so.
struct PairedErrors {
    std::vector<std::array<double, 2>> errors;
    std::string judgedBy;
};

PairedErrors pairedErrors(const Evidence& a, const Evidence& b) {
    PairedErrors found;
    const RowEvidence &x = a.rows, &y = b.rows;
    const std::size_t n = std::min(x.state.size(), y.state.size());
    const auto add = [&](std::size_t i, double first, double second) {
        if (!std::isnan(first) && !std::isnan(second) && !std::isnan(x.actual[i]))
            found.errors.push_back({x.actual[i] - first, x.actual[i] - second});
    };
    const auto one = [](const Evidence& e) {
        return e.folds && !e.folds->partial() && e.folds->plan.kind == FoldKind::leaveOneOut;
    };
    if (one(a) && one(b)) {
        for (std::size_t i = 0; i < std::min({n, a.folds->outOfFold.size(), b.folds->outOfFold.size()}); ++i)
            add(i, a.folds->outOfFold[i], b.folds->outOfFold[i]);
        found.judgedBy = plural(found.errors.size(), "row", "rows") + " left out one at a time";
        return found;
    }
    for (std::size_t i = 0; i < n; ++i)
        if (x.state[i] == RowState::heldOut && y.state[i] == RowState::heldOut)
            add(i, x.fitted[i], y.fitted[i]);
    found.judgedBy = plural(found.errors.size(), "held-out row", "held-out rows");
    return found;
}

/// A t interval of the mean of what each row adds to the difference; of root mean squares by the delta
/// method.
void compareRows(const PairedErrors& rows, double level, PairComparison& pair) {
    if (rows.errors.size() < 2) return;
    const auto n = static_cast<double>(rows.errors.size());
    const auto sizeOf = [&](double e) { return pair.measure == Measure::mae ? std::fabs(e) : e * e; };
    std::array<double, 2> mean{};
    for (const auto& e : rows.errors)
        for (std::size_t k = 0; k < 2; ++k)
            mean[k] += sizeOf(e[k]) / n;
    std::array<double, 2> slope{1, 1};
    if (pair.measure == Measure::rmse)
        for (std::size_t k = 0; k < 2; ++k) {
            mean[k] = std::sqrt(mean[k]);
            slope[k] = mean[k] > 0 ? 1 / (2 * mean[k]) : 0;
        }
    pair.ofFirst = mean[0];
    pair.difference = mean[1] - mean[0];
    double middle = 0, squares = 0;
    const auto added = [&](const std::array<double, 2>& e) {
        return slope[1] * sizeOf(e[1]) - slope[0] * sizeOf(e[0]);
    };
    for (const auto& e : rows.errors)
        middle += added(e) / n;
    for (const auto& e : rows.errors)
        squares += (added(e) - middle) * (added(e) - middle);
    pair.standardError = std::sqrt(squares / (n - 1) / n);
    const double half = studentQuantile(level, n - 1) * pair.standardError;
    pair.lower = pair.difference - half;
    pair.upper = pair.difference + half;
    pair.judgedBy = rows.judgedBy;
}

std::string sentenceOf(const PairComparison& pair, const Compared& a, const Compared& b, double level) {
    const std::string first = a.name, second = b.name;
    if (pair.judgedBy.empty())
        return second + " and " + first + " have no rows or folds in common that judge both";
    const std::string measure = pair.measure == Measure::rmse  ? "RMSE"
                                : pair.measure == Measure::mse ? "mean squared error"
                                                               : "mean absolute error";
    if (pair.difference == 0) return second + " and " + first + " have the same " + measure;
    const bool better = pair.difference < 0;
    const double share = std::fabs(pair.difference) / pair.ofFirst;
    const double half = (pair.upper - pair.lower) / 2 / pair.ofFirst;
    std::string text = second + " is " + (better ? "better" : "worse") + " than " + first;
    if (pair.folds > 0)
        text += " in " + countText(better ? pair.foldsBetter : pair.folds - pair.foldsBetter) + " of " +
                countText(pair.folds) + " folds";
    else
        text += " on " + pair.judgedBy;
    text +=
        ", by " + readableText(100 * share, 2) + " % ± " + readableText(100 * half, 2) + " % of " + measure;
    const bool apart = pair.lower > 0 || pair.upper < 0;
    const bool leans = std::fabs(pair.difference) > pair.standardError; // see comparePairs
    return text + (apart   ? ": beyond what chance explains at " + percentText(level)
                   : leans ? ": likely, not certain"
                           : ": no more than chance");
}

} // namespace

std::string_view measureName(Measure measure) {
    return measure == Measure::rmse ? "rmse" : measure == Measure::mse ? "mse" : "mae";
}

double correctedFoldError(std::span<const double> differences, double ratio) {
    const auto n = static_cast<double>(differences.size());
    if (n < 2) return nan;
    double mean = 0, squares = 0;
    for (const double d : differences)
        mean += d / n;
    for (const double d : differences)
        squares += (d - mean) * (d - mean);
    return std::sqrt((1 / n + ratio) * squares / (n - 1));
}

std::vector<PairComparison> comparePairs(std::span<const Compared> fits, double level, Progress& progress) {
    std::vector<PairComparison> pairs;
    for (std::size_t a = 0; a < fits.size(); ++a)
        for (std::size_t b = a + 1; b < fits.size(); ++b) {
            stopIfTold(progress);
            std::array<PairComparison, measures.size()> each;
            for (std::size_t m = 0; m < each.size(); ++m) {
                each[m].first = a;
                each[m].second = b;
                each[m].measure = measures[m];
                each[m].ofFirst = each[m].difference = each[m].standardError = each[m].lower = each[m].upper =
                    nan;
            }
            if (alike(fits[a].evidence, fits[b].evidence))
                for (PairComparison& pair : each)
                    compareByFolds(fits[a], fits[b], level, pair);
            else
                for (const PairedErrors rows = pairedErrors(fits[a].evidence, fits[b].evidence);
                     PairComparison & pair : each)
                    compareRows(rows, level, pair);
            for (PairComparison& pair : each) {
                pair.says = sentenceOf(pair, fits[a], fits[b], level);
                pairs.push_back(std::move(pair));
            }
        }
    return pairs;
}

static nlohmann::ordered_json numberOrNull(double value) {
    if (!std::isfinite(value)) return nullptr;
    return value;
}

std::string comparisonJson(std::span<const Compared> fits, std::span<const PairComparison> pairs) {
    using nlohmann::ordered_json;
    const auto scores = [](const Scores& s) -> ordered_json {
        if (s.rows == 0) return nullptr;
        return {{"rows", s.rows},
                {"rmse", s.rmse},
                {"mse", s.rmse * s.rmse},
                {"mae", s.mae},
                {"r_squared", s.rSquared}};
    };
    ordered_json out{{"fits", ordered_json::array()}, {"pairs", ordered_json::array()}};
    for (std::size_t i = 0; i < fits.size(); ++i) {
        const Evidence& e = fits[i].evidence;
        ordered_json fit{{"number", i + 1},
                         {"name", fits[i].name},
                         {"estimator", estimatorText(e.study->settings)},
                         {"learning", scores(e.learning)},
                         {"held_out", scores(e.heldOut)},
                         {"out_of_fold", nullptr}};
        if (e.folds && e.folds->rows > 0)
            fit["out_of_fold"] = {{"rows", e.folds->rows},
                                  {"rmse", e.folds->rmse},
                                  {"mse", e.folds->mse},
                                  {"mae", e.folds->mae},
                                  {"r_squared", e.folds->rSquared},
                                  {"mean_of_fold_mse", e.folds->meanOfFoldMse},
                                  {"standard_error", e.folds->standardError},
                                  {"judged_by", foldPlanText(e.folds->plan)}};
        for (const PartScores& part : partScores(e))
            fit["scores"].push_back({{"part", part.part},
                                     {"rows", part.rows},
                                     {"rmse", numberOrNull(part.rmse)},
                                     {"mae", numberOrNull(part.mae)},
                                     {"median_absolute_error", numberOrNull(part.medianError)},
                                     {"r_squared", numberOrNull(part.rSquared)},
                                     {"relative_absolute_error", numberOrNull(part.relativeAbsolute)},
                                     {"relative_squared_error", numberOrNull(part.relativeSquared)}});
        const MoneyAtStake money = moneyAtStake(e, fits.front().evidence);
        if (!money.over.empty())
            fit["absolute_error_on_forecast"] = {{"over", money.over},
                                                 {"sum", numberOrNull(money.onForecast)},
                                                 {"a_year", numberOrNull(money.aYear)}};
        for (const NamedNumber& said : e.study->model->says())
            fit["complexity"][said.name] = said.value;
        ordered_json open = ordered_json::array();
        for (const Goad& goad : e.goads)
            if (!goad.accepted) open.push_back(goad.key);
        fit["open_goads"] = std::move(open);
        if (const LinearModel* model = e.study->linear()) {
            ordered_json coefficients;
            if (model->fit.intercept) coefficients["intercept"] = model->fit.constant;
            for (std::size_t j = 0; j < model->design.columns().size(); ++j)
                coefficients[model->design.columns()[j].name] =
                    model->fit.coefficients[static_cast<Eigen::Index>(j)];
            fit["coefficients"] = std::move(coefficients);
        }
        out["fits"].push_back(std::move(fit));
    }
    for (const PairComparison& pair : pairs) {
        ordered_json one{{"first", pair.first + 1},
                         {"second", pair.second + 1},
                         {"measure", measureName(pair.measure)},
                         {"judged_by", pair.judgedBy},
                         {"of_first", pair.ofFirst},
                         {"difference", pair.difference},
                         {"standard_error", pair.standardError},
                         {"lower", pair.lower},
                         {"upper", pair.upper},
                         {"folds", pair.folds},
                         {"folds_better", nullptr},
                         {"by_fold", pair.byFold},
                         {"says", pair.says}};
        if (pair.folds > 0) one["folds_better"] = pair.foldsBetter;
        out["pairs"].push_back(std::move(one));
    }
    for (const CommonCoefficient& c : commonCoefficients(fits)) {
        ordered_json one{{"name", c.name}, {"per_deviation", ordered_json::array()}};
        for (const double v : c.estimates)
            one["per_deviation"].push_back(numberOrNull(v));
        out["coefficients"].push_back(std::move(one));
    }
    for (const DifferingRow& row : differMost(fits, 20))
        out["differ_most"].push_back({{"row", row.row + 1},
                                      {"spread", row.spread},
                                      {"actual", numberOrNull(row.actual)},
                                      {"predictions", row.predictions}});
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
