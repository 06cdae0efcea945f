#include "forecast/forecast.h"

#include "base/error.h"
#include "estimate/distributions.h"

#include <cmath>
#include <limits>
#include <map>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double nan = std::numeric_limits<double>::quiet_NaN();

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
    double constant = 0, own = 0;
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const auto row = rows[i];
        const double prediction = forecast.prediction[row];
        const double slope = rule.logarithm ? prediction : 1;
        gradient += slope * block.row(static_cast<Index>(i)).transpose();
        constant += slope;
        own += rule.logarithm
                   ? prediction * prediction * rule.relativeVariance * rule.usualWeight / bound.weight(row)
                   : rule.spread * rule.spread / bound.weight(row);
    }
    const Combination ofMean = linear.fit.combination(gradient, linear.fit.intercept ? constant : 0);
    const double t = studentQuantile(forecast.level, ofMean.degreesOfFreedom);
    const double half = t * std::sqrt(own + ofMean.standardError * ofMean.standardError);
    total.lower = total.predicted - half;
    total.upper = total.predicted + half;
}

std::vector<PeriodTotal> comingTotals(const Column& dates, const BoundModel& bound,
                                      std::span<const std::uint32_t> complete,
                                      const ForecastEvidence& forecast) {
    std::map<std::int32_t, std::vector<std::uint32_t>> byDay;
    for (const auto row : complete)
        if (!dates.isMissing(row)) byDay[dates.days()[row]].push_back(row);
    std::vector<PeriodTotal> coming;
    const LinearModel* linear = bound.model().linear();
    for (const auto& [day, rows] : byDay) {
        PeriodTotal total;
        total.day = day;
        total.rows = rows.size();
        for (const auto row : rows) {
            total.predicted += forecast.prediction[row];
            total.outside += forecast.reach[row].grade == ReachGrade::outside;
        }
        total.lower = total.upper = nan;
        if (linear && !linear->isQuantile()) boundTotal(total, bound, *linear, rows, forecast);
        coming.push_back(total);
    }
    return coming;
}

/// Predictions and intervals of one row, on the model's scale; NaN where they are not known.
struct Place {
    double middle = nan, forMean = nan;
    double lower = nan, upper = nan;
};

/// Carries a place back to the response.
void put(ForecastEvidence& out, std::size_t row, const Place& place, const PredictionRule& rule) {
    // A quantile of logarithms is the logarithm of the quantile: no smearing there.
    const auto plain = [&](double value) { return rule.logarithm ? std::exp(value) : value; };
    out.prediction[row] = rule.natural(place.middle);
    out.meanLower[row] = rule.natural(place.middle - place.forMean);
    out.meanUpper[row] = rule.natural(place.middle + place.forMean);
    out.lower[row] = plain(place.lower);
    out.upper[row] = plain(place.upper);
}

/// By theory, or by the quantiles on both sides. `unsure` gets a mark where the mean has no error.
void predictByTheory(ForecastEvidence& out, const BoundModel& bound, const LinearModel& linear,
                     std::span<const std::uint32_t> complete, std::vector<double>& leverage,
                     std::vector<std::uint8_t>& unsure, Threads threads, Progress& progress) {
    const LeastSquaresFit& fit = linear.fit;
    const PredictionRule& rule = bound.rule();
    const double usualT = studentQuantile(out.level, fit.testDegreesOfFreedom());
    bound.eachBlock(complete, threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        const MatrixXd block = linear.matrix(inputs);
        const VectorXd mean = fit.predict(block);
        const VectorXd h = fit.leverage(block);
        const VectorXd variance =
            fit.covarianceRoot
                ? fit.meanVariance(block)
                : VectorXd(h * (fit.residualStandardDeviation * fit.residualStandardDeviation));
        const VectorXd df = fit.fewGroups ? fit.meanDegreesOfFreedom(block) : VectorXd();
        VectorXd low, high;
        if (linear.lower) low = linear.lower->predict(block);
        if (linear.upper) high = linear.upper->predict(block);
        for (Index i = 0; i < mean.size(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            const double offset = bound.offset(row);
            Place place;
            place.middle = mean[i] + offset;
            const double t = df.size() > 0 ? studentQuantile(out.level, df[i]) : usualT;
            unsure[row] = std::isnan(variance[i]) && fit.degreesOfFreedom > 0 && !linear.isQuantile();
            place.forMean = t * std::sqrt(variance[i]);
            leverage[row] = h[i];
            if (linear.isQuantile()) {
                if (low.size() > 0 && high.size() > 0) {
                    place.lower = std::min(low[i], high[i]) + offset;
                    place.upper = std::max(low[i], high[i]) + offset;
                }
            } else {
                const double half =
                    t * std::sqrt(rule.spread * rule.spread / bound.weight(row) + variance[i]);
                place.lower = place.middle - half;
                place.upper = place.middle + half;
            }
            put(out, row, place, rule);
        }
    });
}

/// By what learning rows that were left out missed by.
void predictByRowsLeftOut(ForecastEvidence& out, const BoundModel& bound,
                          std::span<const std::uint32_t> complete, std::vector<double>& distance,
                          Threads threads, Progress& progress) {
    const PredictionRule& rule = bound.rule();
    const double usual = rule.leftOneOutHalf(out.level);
    bound.eachBlock(complete, threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        const LearnedModel::Placed placed = bound.model().locate(inputs);
        for (Index i = 0; i < placed.values.size(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            Place place;
            place.middle = placed.values[i] + bound.offset(row);
            const double half = usual * std::sqrt(rule.usualWeight / bound.weight(row));
            place.lower = place.middle - half;
            place.upper = place.middle + half;
            distance[row] = placed.distances[i];
            put(out, row, place, rule);
        }
    });
}

void gradeRows(ForecastEvidence& out, const LearnedRows& learned, const BoundModel& bound,
               const std::vector<double>& distance, const std::vector<std::uint8_t>& unsure, Threads threads,
               Progress& progress) {
    const LearnedReach judge(learned.model.inputs(), learned.rows, learned.terms,
                             learned.model.model().distanceScale(), progress);
    const std::size_t n = out.reach.size();
    parallelFor((n + designBlockRows - 1) / designBlockRows, threads, [&](std::size_t b) {
        progress.checkpoint(static_cast<double>(b * designBlockRows) / static_cast<double>(n),
                            "How far the rows reach");
        for (std::size_t i = b * designBlockRows; i < std::min(n, (b + 1) * designBlockRows); ++i)
            out.reach[i] = judge.judge(bound.inputs(), i, distance[i], bound.problems(i));
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

ForecastEvidence forecastRows(const LearnedRows& learned, const Table& coming, const std::string& file,
                              double level, Threads threads, Progress& progress) {
    const LearnedModel& model = learned.model.model();
    const BoundModel bound(learned.model.inputs().inputs(), model, learned.model.rule(), coming, file);
    ForecastEvidence out;
    out.level = level;
    const std::size_t n = coming.rows();
    for (auto* values : {&out.prediction, &out.meanLower, &out.meanUpper, &out.lower, &out.upper})
        values->assign(n, nan);
    out.reach.resize(n);
    std::vector<std::uint32_t> complete;
    for (std::uint32_t i = 0; i < n; ++i)
        if (bound.complete(i) && bound.hasOffset(i)) complete.push_back(i);
    std::vector<double> distance(n, nan);
    std::vector<std::uint8_t> unsure(n, 0);
    if (const LinearModel* linear = model.linear()) {
        out.intervals = linear->isQuantile() ? "by a pair of quantiles" : "by theory";
        predictByTheory(out, bound, *linear, complete, distance, unsure, threads, progress);
    } else {
        out.intervals = "by rows left out one at a time";
        predictByRowsLeftOut(out, bound, complete, distance, threads, progress);
    }
    gradeRows(out, learned, bound, distance, unsure, threads, progress);
    out.unpredicted = n - complete.size();
    if (const Column* dates = sharedDates(learned.table, coming)) {
        out.totalsBy = dates->name();
        out.history = historyTotals(learned.table.at(dates->name(), learned.file), learned.response);
        out.coming = comingTotals(*dates, bound, complete, out);
    }
    return out;
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
