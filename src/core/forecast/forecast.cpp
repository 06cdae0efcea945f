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

/// What a rule reads of a row to be forecast, beside the design.
class RuleColumns {
public:
    RuleColumns(const PredictionRule& rule, const Table& table, const std::string& file) : m_rule(rule) {
        if (!rule.offset.empty()) m_offset = &table.at(rule.offset, file);
        if (!rule.weight.empty()) m_weight = table.find(rule.weight);
        for (const Column* column : {m_offset, m_weight})
            if (column && column->kind() != ColumnKind::number)
                throw Error(ErrorCode::wrongType,
                            "holds " + std::string(kindName(column->kind())) +
                                " values where the model needs numbers",
                            {.file = file, .column = column->name()}, "Correct the file.");
    }
    bool complete(std::size_t row) const { return !m_offset || !m_offset->isMissing(row); }
    double offset(std::size_t row) const { return m_offset ? m_offset->numbers()[row] : 0; }
    double weight(std::size_t row) const {
        if (!m_weight) return m_rule.usualWeight;
        const double w = m_weight->numbers()[row];
        return w > 0 ? w : m_rule.usualWeight;
    }

private:
    const PredictionRule& m_rule;
    const Column* m_offset = nullptr;
    const Column* m_weight = nullptr;
};

std::vector<PeriodTotal> comingTotals(const Column& dates, const BoundDesign& bound,
                                      const RuleColumns& columns, std::span<const std::uint32_t> complete,
                                      const LearnedRows& learned, const ForecastEvidence& forecast) {
    const PredictionRule& rule = learned.rule;
    std::map<std::int32_t, std::vector<std::uint32_t>> byDay;
    for (const auto row : complete)
        if (!dates.isMissing(row)) byDay[dates.days()[row]].push_back(row);
    std::vector<PeriodTotal> coming;
    for (const auto& [day, rows] : byDay) {
        PeriodTotal total;
        total.day = day;
        total.rows = rows.size();
        MatrixXd block(static_cast<Index>(rows.size()), static_cast<Index>(bound.design().columns().size()));
        bound.fill(rows, block);
        // d total / d coefficient: the rows themselves, or each times its prediction for logarithms.
        VectorXd gradient = VectorXd::Zero(block.cols());
        double constant = 0, own = 0;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const auto row = rows[i];
            const double prediction = forecast.prediction[row];
            total.predicted += prediction;
            total.outside += forecast.reach[row].grade == ReachGrade::outside;
            const double slope = rule.logarithm ? prediction : 1;
            gradient += slope * block.row(static_cast<Index>(i)).transpose();
            constant += slope;
            own += rule.logarithm ? prediction * prediction * rule.relativeVariance * rule.usualWeight /
                                        columns.weight(row)
                                  : rule.spread * rule.spread / columns.weight(row);
        }
        const Combination ofMean = learned.fit.combination(gradient, learned.fit.intercept ? constant : 0);
        const double t = studentQuantile(forecast.level, ofMean.degreesOfFreedom);
        const double half = rule.isQuantile()
                                ? std::numeric_limits<double>::quiet_NaN()
                                : t * std::sqrt(own + ofMean.standardError * ofMean.standardError);
        total.lower = total.predicted - half;
        total.upper = total.predicted + half;
        coming.push_back(total);
    }
    return coming;
}

} // namespace

double PredictionRule::natural(double predictor) const {
    return logarithm ? std::exp(predictor) * smearing : predictor;
}

ForecastEvidence forecastRows(const LearnedRows& learned, const Table& coming, const std::string& file,
                              double level, Threads threads, Progress& progress) {
    const BoundDesign bound(learned.design.design(), coming, file);
    const LearnedReach judge(learned.design, learned.rows, learned.fit, progress);
    ForecastEvidence out;
    out.level = level;
    const std::size_t n = coming.rows();
    constexpr double nan = std::numeric_limits<double>::quiet_NaN();
    for (auto* values : {&out.prediction, &out.meanLower, &out.meanUpper, &out.lower, &out.upper})
        values->assign(n, nan);
    out.reach.resize(n);
    const PredictionRule& rule = learned.rule;
    const RuleColumns columns(rule, coming, file);
    std::vector<std::uint32_t> complete;
    for (std::uint32_t i = 0; i < n; ++i)
        if (bound.complete(i) && columns.complete(i)) complete.push_back(i);
    std::vector<double> leverage(n, nan);
    const double usualT = studentQuantile(level, learned.fit.testDegreesOfFreedom());
    const bool usual = !learned.fit.covarianceRoot;
    std::vector<std::uint8_t> unsure(n, 0);
    forEachBlock(bound, complete, threads, progress, [&](std::size_t first, const MatrixXd& block) {
        const VectorXd mean = learned.fit.predict(block);
        const VectorXd h = learned.fit.leverage(block);
        const VectorXd variance = usual ? VectorXd(h * (learned.fit.residualStandardDeviation *
                                                        learned.fit.residualStandardDeviation))
                                        : learned.fit.meanVariance(block);
        const VectorXd df = learned.fit.fewGroups ? learned.fit.meanDegreesOfFreedom(block) : VectorXd();
        VectorXd low, high;
        if (rule.lower) low = rule.lower->predict(block);
        if (rule.upper) high = rule.upper->predict(block);
        for (Index i = 0; i < mean.size(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            const double offset = columns.offset(row);
            const double middle = mean[i] + offset;
            const double t = df.size() > 0 ? studentQuantile(level, df[i]) : usualT;
            unsure[row] = std::isnan(variance[i]) && learned.fit.degreesOfFreedom > 0 && !rule.isQuantile();
            const double forMean = t * std::sqrt(variance[i]);
            const double forValue =
                t * std::sqrt(rule.spread * rule.spread / columns.weight(row) + variance[i]);
            leverage[row] = h[i];
            out.prediction[row] = rule.natural(middle);
            out.meanLower[row] = rule.natural(middle - forMean);
            out.meanUpper[row] = rule.natural(middle + forMean);
            // A quantile of logarithms is the logarithm of the quantile: no smearing here.
            const auto plain = [&](double value) { return rule.logarithm ? std::exp(value) : value; };
            if (rule.isQuantile()) {
                if (low.size() == 0 || high.size() == 0) continue;
                out.lower[row] = plain(std::min(low[i], high[i]) + offset);
                out.upper[row] = plain(std::max(low[i], high[i]) + offset);
            } else {
                out.lower[row] = plain(middle - forValue);
                out.upper[row] = plain(middle + forValue);
            }
        }
    });
    parallelFor((n + designBlockRows - 1) / designBlockRows, threads, [&](std::size_t b) {
        progress.checkpoint(static_cast<double>(b * designBlockRows) / static_cast<double>(n),
                            "How far the rows reach");
        for (std::size_t i = b * designBlockRows; i < std::min(n, (b + 1) * designBlockRows); ++i)
            out.reach[i] = judge.judge(bound, i, leverage[i]);
    });
    for (std::size_t i = 0; i < n; ++i)
        if (unsure[i]) {
            out.reach[i].reasons.push_back(
                "how sure its mean is cannot be said: it rests on rows that alone fix "
                "their fitted value, or on groups that do");
            if (out.reach[i].grade == ReachGrade::inside) out.reach[i].grade = ReachGrade::edge;
        }
    for (std::size_t i = 0; i < n; ++i)
        if (bound.complete(i) && !columns.complete(i)) {
            out.reach[i].grade = ReachGrade::outside;
            out.reach[i].reasons.insert(out.reach[i].reasons.begin(), rule.offset + " is missing");
        }
    for (const Reach& reach : out.reach) {
        out.inside += reach.grade == ReachGrade::inside;
        out.edge += reach.grade == ReachGrade::edge;
        out.outside += reach.grade == ReachGrade::outside;
    }
    out.unpredicted = n - complete.size();
    if (const Column* dates = sharedDates(learned.table, coming)) {
        out.totalsBy = dates->name();
        out.history = historyTotals(learned.table.at(dates->name(), learned.file), learned.response);
        out.coming = comingTotals(*dates, bound, columns, complete, learned, out);
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
