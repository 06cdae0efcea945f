#include "forecast/forecast.h"

#include "base/text.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "estimate/one_way.h"

#include <array>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

const Column* sharedDates(const Table& before, const Table& coming) {
    for (const Column& column : coming.columns()) {
        const Column* other = before.find(column.name());
        if (column.kind() == ColumnKind::date && other && other->kind() == ColumnKind::date) return &column;
    }
    return nullptr;
}

std::vector<PeriodTotal> historyTotals(const Column& dates, std::span<const double> response) {
    std::map<std::int32_t, PeriodTotal> totals;
    for (std::size_t i = 0; i < dates.size(); ++i) {
        if (dates.isMissing(i) || std::isnan(response[i])) continue;
        PeriodTotal& total = totals[dates.days()[i]];
        total.day = dates.days()[i];
        total.actual += response[i];
        ++total.rows;
    }
    std::vector<PeriodTotal> history;
    history.reserve(totals.size());
    for (const auto& [day, total] : totals)
        history.push_back(total);
    return history;
}

/// Intervals of a total by the theory of a linear model; `rows` of one day.
void boundTotal(PeriodTotal& total, const BoundModel& bound, const LinearModel& linear,
                std::span<const std::uint32_t> rows, const ForecastEvidence& forecast) {
    const PredictionRule& rule = bound.rule();
    MatrixXd inputs(static_cast<Index>(rows.size()), static_cast<Index>(bound.inputs().inputs().size()));
    bound.inputs().fill(rows, inputs);
    const MatrixXd block = linear.matrix(inputs);
    // d total / d coefficient: the rows themselves, or each times its prediction for logarithms.
    VectorXd gradient = VectorXd::Zero(block.cols());
    const double shared = forecast.periodSpread * forecast.periodSpread,
                 ofRow = std::max(0.0, rule.spread * rule.spread - shared),
                 ofRowInLogs = rule.spread > 0
                                   ? ofRow / (rule.spread * rule.spread) * rule.link.relativeVariance
                                   : rule.link.relativeVariance;
    const bool logarithmic = rule.link.isLogarithmic();
    double constant = 0, own = 0;
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const auto row = rows[i];
        const double prediction = forecast.prediction[row];
        const double slope = rule.link.slopeAt(prediction);
        gradient += slope * block.row(static_cast<Index>(i)).transpose();
        constant += slope;
        own += rule.link.family ? ofRow * rule.link.family->variance(prediction) / bound.weight(row)
               : logarithmic    ? prediction * prediction * ofRowInLogs * rule.usualWeight / bound.weight(row)
                                : ofRow / bound.weight(row);
    }
    const Combination ofMean = linear.fit.combination(gradient, linear.fit.intercept ? constant : 0);
    const double t = studentQuantile(forecast.level, ofMean.degreesOfFreedom);
    double half = t * std::sqrt(own + ofMean.standardError * ofMean.standardError);
    if (shared > 0) {
        const double periods = forecast.periodDegreesOfFreedom + 1;
        // The mean of the periods learned from is off, too, which errors by group say already.
        const double ofPeriods = linear.fit.covarianceRoot ? 0 : 1 / periods;
        half = std::hypot(half, studentQuantile(forecast.level, forecast.periodDegreesOfFreedom) *
                                    forecast.periodSpread * constant * std::sqrt(1 + ofPeriods));
    }
    total.lower = total.predicted - half;
    total.upper = total.predicted + half;
}

/// What the residuals of a period have in common.
void findPeriodSpread(ForecastEvidence& out, const Column& dates, const LearnedRows& learned) {
    // Deviance residuals are near the model's scale where both are relative errors.
    const Link& link = learned.model.rule().link;
    if (link.family && (link.family->power != 2 || !link.isLogarithmic())) return;
    constexpr double limit = 0.01; // as of groups; common practice, no source
    std::vector<std::int64_t> keys;
    constexpr std::int64_t none = INT64_MIN;
    for (const auto row : learned.rows)
        keys.push_back(dates.isMissing(row) ? none : dates.days()[row]);
    const Grouping periods = Grouping::by(keys, none);
    if (periods.shared() < 2 || learned.residuals.size() != learned.rows.size()) return;
    const OneWay way = oneWay(learned.residuals, periods);
    if (!(way.p() < limit)) return;
    out.periodSpread = std::sqrt(way.between);
    out.periodDegreesOfFreedom = way.numeratorDf;
}

std::vector<PeriodTotal> comingTotals(const Column& dates, const BoundModel& bound,
                                      std::span<const std::uint32_t> complete,
                                      const ForecastEvidence& forecast) {
    std::map<std::int32_t, std::vector<std::uint32_t>> byDay;
    for (const auto row : complete)
        if (!dates.isMissing(row)) byDay[dates.days()[row]].push_back(row);
    std::map<std::int32_t, std::size_t> without;
    for (std::uint32_t row = 0; row < forecast.prediction.size(); ++row)
        if (std::isnan(forecast.prediction[row]) && !dates.isMissing(row)) {
            ++without[dates.days()[row]];
            byDay[dates.days()[row]];
        }
    std::vector<PeriodTotal> coming;
    const LinearModel* linear = bound.model().linear();
    for (const auto& [day, rows] : byDay) {
        PeriodTotal total;
        total.day = day;
        total.rows = rows.size();
        if (const auto found = without.find(day); found != without.end()) total.unpredicted = found->second;
        if (rows.empty()) total.predicted = nan;
        for (const auto row : rows) {
            total.predicted += forecast.prediction[row];
            total.outside += forecast.reach[row].grade == ReachGrade::outside;
        }
        total.lower = total.upper = nan;
        if (linear && !linear->isQuantile() && linear->hasErrors() && !rows.empty())
            boundTotal(total, bound, *linear, rows, forecast);
        coming.push_back(total);
    }
    return coming;
}

/// The intervals of rows from what they are made of.
void putIntervals(ForecastEvidence& out, std::span<const std::uint32_t> rows, const BoundModel& bound,
                  const LinearModel* linear) {
    const PredictionRule& rule = bound.rule();
    const auto plain = [&](double value) { return rule.link.quantileToResponseScale(value); };
    const bool theory = linear && linear->hasErrors();
    const double usual = theory            ? studentQuantile(out.level, linear->fit.testDegreesOfFreedom())
                         : rule.byErrors() ? rule.byErrors()->half(out.level)
                                           : nan;
    for (const auto row : rows) {
        const double t =
            out.degreesOfFreedom.empty() ? usual : studentQuantile(out.level, out.degreesOfFreedom[row]);
        const double middle = out.middle[row], forMean = t * out.meanError[row];
        out.prediction[row] = rule.toResponseScale(middle);
        out.meanLower[row] = rule.toResponseScale(middle - forMean);
        out.meanUpper[row] = rule.toResponseScale(middle + forMean);
        if (linear && linear->isQuantile()) continue; // its own quantiles stand there
        if (rule.link.family) {
            const auto ends =
                familyInterval(rule, out.prediction[row], out.meanError[row], bound.weight(row), out.level);
            out.lower[row] = ends.lower;
            out.upper[row] = ends.upper;
            continue;
        }
        const double half = t * out.valueError[row];
        out.lower[row] = plain(middle - half);
        out.upper[row] = plain(middle + half);
    }
}

/// By theory, or by the quantiles on both sides. `unsure` gets a mark where the mean has no error.
void predictByTheory(ForecastEvidence& out, const BoundModel& bound, const LinearModel& linear,
                     std::span<const std::uint32_t> complete, std::vector<double>& leverage,
                     std::vector<std::uint8_t>& unsure, Threads threads, Progress& progress) {
    const LeastSquaresFit& fit = linear.fit;
    const PredictionRule& rule = bound.rule();
    if (fit.fewGroups) out.degreesOfFreedom.assign(out.middle.size(), nan);
    bound.eachBlock(complete, threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        const auto [mean, h, variance, besides, dfs] = linear.at(inputs);
        const VectorXd df = fit.fewGroups ? dfs : VectorXd();
        VectorXd low, high;
        if (linear.lower) low = linear.lower->predict(linear.matrix(inputs));
        if (linear.upper) high = linear.upper->predict(linear.matrix(inputs));
        for (Index i = 0; i < mean.size(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            const double offset = bound.offset(row);
            out.middle[row] = mean[i] + offset;
            if (df.size() > 0) out.degreesOfFreedom[row] = df[i];
            unsure[row] = std::isnan(variance[i]) && fit.degreesOfFreedom > 0 && !linear.isQuantile();
            out.meanError[row] = std::sqrt(variance[i]);
            out.valueError[row] = std::sqrt(rule.spread * rule.spread / bound.weight(row) + variance[i] +
                                            (besides.size() > 0 ? besides[i] : 0));
            leverage[row] = h[i] * bound.weight(row); // as those of the rows learned from
            if (low.size() == 0 || high.size() == 0) continue;
            const auto plain = [&](double value) { return rule.link.quantileToResponseScale(value); };
            out.lower[row] = plain(std::min(low[i], high[i]) + offset);
            out.upper[row] = plain(std::max(low[i], high[i]) + offset);
        }
        putIntervals(out, complete.subspan(first, static_cast<std::size_t>(mean.size())), bound, &linear);
    });
}

/// Of models that say how a response is distributed; nothing otherwise.
void putByDistribution(ForecastEvidence& out, const BoundModel& bound,
                       std::span<const std::uint32_t> complete, Threads threads, const Progress& progress) {
    const std::array shares{(1 - out.level) / 2, (1 + out.level) / 2};
    if (bound.model().quantiles(MatrixXd(0, 0), shares).cols() == 0) return;
    bound.eachBlock(complete, threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        const MatrixXd ends = bound.model().quantiles(inputs, shares);
        for (Index i = 0; i < ends.rows(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            out.lower[row] = ends(i, 0);
            out.upper[row] = ends(i, 1);
        }
    });
}

/// By what rows that the model had not learned from missed by.
void predictByErrors(ForecastEvidence& out, const BoundModel& bound, std::span<const std::uint32_t> complete,
                     std::vector<double>& distance, Threads threads, Progress& progress) {
    const PredictionRule& rule = bound.rule();
    const bool byWeight = bound.model().distanceScale().byWeight;
    bound.eachBlock(complete, threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        const LearnedModel::Placed placed = bound.model().locate(inputs);
        const VectorXd values = rule.valuesOf(placed.values);
        for (Index i = 0; i < values.size(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            out.middle[row] = values[i] + bound.offset(row);
            out.valueError[row] = std::sqrt(rule.usualWeight / bound.weight(row));
            distance[row] = placed.distances[i] * (byWeight ? bound.weight(row) : 1);
        }
        putIntervals(out, complete.subspan(first, static_cast<std::size_t>(values.size())), bound, nullptr);
    });
    putByDistribution(out, bound, complete, threads, progress);
}

void gradeRows(ForecastEvidence& out, const LearnedReach& judge, const BoundModel& bound,
               const std::vector<double>& distance, const std::vector<std::uint8_t>& unsure, Threads threads,
               Progress& progress) {
    const std::size_t n = out.reach.size();
    std::vector<std::uint32_t> all(n);
    std::iota(all.begin(), all.end(), 0U);
    const bool guarded = !bound.model().definedWhereInputsAre();
    bound.eachBlock(all, threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        progress.checkpoint(static_cast<double>(first) / static_cast<double>(n), "How far the rows reach");
        const MatrixXd values = inputs.transpose(); // a row's values beside each other
        for (Index i = 0; i < values.cols(); ++i) {
            const std::size_t row = first + static_cast<std::size_t>(i);
            const bool whole = !guarded && values.col(i).array().isFinite().all();
            out.reach[row] = judge.judge(values.col(i).data(), distance[row],
                                         whole ? std::vector<std::string>() : bound.problems(row));
        }
    });
    for (std::size_t i = 0; i < n; ++i) {
        Reach& reach = out.reach[i];
        if (unsure[i]) {
            reach.reasons.push_back("how sure its mean is cannot be said: it rests on rows that alone fix "
                                    "their fitted value, or on groups that do");
            if (reach.grade == ReachGrade::inside) reach.grade = ReachGrade::edge;
        }
        if (!bound.hasOffset(i) && bound.complete(i)) {
            reach.grade = ReachGrade::outside;
            reach.reasons.insert(reach.reasons.begin(), bound.rule().offset + " is missing");
        }
        out.inside += reach.grade == ReachGrade::inside;
        out.edge += reach.grade == ReachGrade::edge;
        out.outside += reach.grade == ReachGrade::outside;
    }
}

} // namespace

namespace {

/// Rows that have a prediction.
std::vector<std::uint32_t> predictable(const BoundModel& bound, std::size_t rows) {
    std::vector<std::uint32_t> complete;
    for (std::uint32_t i = 0; i < rows; ++i)
        if (bound.complete(i) && bound.hasOffset(i)) complete.push_back(i);
    return complete;
}

} // namespace

void markLeftOut(ForecastEvidence& forecast, std::span<const std::int16_t> leftOutBy) {
    for (std::size_t i = 0; i < forecast.reach.size(); ++i)
        if (const auto by = leftOutBy[i]; by > 0) {
            Reach& reach = forecast.reach[i];
            reach.reasons.push_back("step " + std::to_string(by) + " would have left it out of learning");
            if (reach.grade == ReachGrade::inside) {
                reach.grade = ReachGrade::edge;
                --forecast.inside;
                ++forecast.edge;
            }
        }
}

ForecastEvidence scoreRows(const Inputs& inputs, const LearnedModel& model, const PredictionRule& rule,
                           const LearnedReach& reach, const Table& coming, const std::string& file,
                           double level, Threads threads, Progress& progress) {
    const BoundModel bound(inputs, model, rule, coming, file);
    ForecastEvidence out;
    out.level = level;
    const std::size_t n = coming.rows();
    out.rows = coming;
    for (auto* values : {&out.prediction, &out.meanLower, &out.meanUpper, &out.lower, &out.upper, &out.middle,
                         &out.meanError, &out.valueError})
        values->assign(n, nan);
    out.reach.resize(n);
    const std::vector<std::uint32_t> complete = predictable(bound, n);
    std::vector<double> distance(n, nan);
    std::vector<std::uint8_t> unsure(n, 0);
    out.intervals = intervalsText(bound.rule().intervals);
    if (const LinearModel* linear = model.linear(); linear && linear->hasErrors()) {
        predictByTheory(out, bound, *linear, complete, distance, unsure, threads, progress);
    } else {
        predictByErrors(out, bound, complete, distance, threads, progress);
    }
    gradeRows(out, reach, bound, distance, unsure, threads, progress);
    out.unpredicted = n - complete.size();
    return out;
}

ForecastEvidence forecastRows(const LearnedRows& learned, const Table& coming, const std::string& file,
                              double level, Threads threads, Progress& progress) {
    const Inputs& inputs = learned.model.inputs().inputs();
    const LearnedModel& model = learned.model.model();
    const LearnedReach reach(learned.model.inputs(), learned.rows, learned.terms, model.distanceScale(),
                             progress, learned.reach);
    ForecastEvidence out =
        scoreRows(inputs, model, learned.model.rule(), reach, coming, file, level, threads, progress);
    if (const Column* dates = sharedDates(learned.table, coming)) {
        out.totalsBy = dates->name();
        const Column& before = learned.table.at(dates->name(), learned.file);
        out.history = historyTotals(before, learned.response);
        findPeriodSpread(out, before, learned);
        const BoundModel bound(inputs, model, learned.model.rule(), coming, file);
        out.coming = comingTotals(*dates, bound, predictable(bound, coming.rows()), out);
    }
    return out;
}

void setForecastLevel(ForecastEvidence& forecast, const LearnedRows& learned, const std::string& file,
                      double level) {
    const LearnedModel& model = learned.model.model();
    const BoundModel bound(learned.model.inputs().inputs(), model, learned.model.rule(), forecast.rows, file);
    forecast.level = level;
    const std::vector<std::uint32_t> complete = predictable(bound, forecast.middle.size());
    putIntervals(forecast, complete, bound, model.linear());
    putByDistribution(forecast, bound, complete, {}, {});
    if (const Column* dates = sharedDates(learned.table, forecast.rows))
        forecast.coming = comingTotals(*dates, bound, complete, forecast);
}

std::string unpredictedText(const ForecastEvidence& forecast) {
    if (forecast.unpredicted == 0) return {};
    std::map<std::string, std::pair<std::size_t, std::string>> bySubject; // rows, an example
    for (std::size_t i = 0; i < forecast.prediction.size(); ++i) {
        if (!std::isnan(forecast.prediction[i]) || forecast.reach[i].reasons.empty()) continue;
        auto& [rows, example] = bySubject[forecast.reach[i].subject];
        if (rows++ == 0) example = forecast.reach[i].reasons.front();
    }
    std::vector<std::pair<std::size_t, std::string>> sorted;
    for (const auto& [subject, found] : bySubject)
        sorted.push_back(found);
    std::stable_sort(sorted.begin(), sorted.end(),
                     [](const auto& a, const auto& b) { return a.first > b.first; });
    std::string text = countText(forecast.unpredicted) + " of " +
                       plural(forecast.prediction.size(), "row to forecast has", "rows to forecast have") +
                       " no prediction";
    constexpr std::size_t few = 4;
    for (std::size_t i = 0; i < std::min(few, sorted.size()); ++i)
        text +=
            (i == 0 ? ": " : "; ") + sorted[i].second + " (" + plural(sorted[i].first, "row", "rows") + ")";
    return text + (sorted.size() > few ? "; …" : "");
}

void nameMisfits(std::vector<Reach>& reach, std::span<const CellFault> faults) {
    for (const CellFault& fault : faults) {
        if (fault.column.empty() || fault.row == 0 || fault.row > reach.size()) continue;
        for (std::string& reason : reach[fault.row - 1].reasons)
            if (reason == fault.column + " is missing")
                reason = fault.column + ": \"" + fault.text + "\" " + fault.reason + " (line " +
                         std::to_string(fault.line) + ")";
    }
}

} // namespace oxgoad
