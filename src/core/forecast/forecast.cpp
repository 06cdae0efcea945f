#include "forecast/forecast.h"

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

std::vector<PeriodTotal> comingTotals(const Column& dates, const BoundDesign& bound,
                                      std::span<const std::uint32_t> complete, const LeastSquaresFit& fit,
                                      const ForecastEvidence& forecast, double t) {
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
        for (const auto row : rows) {
            total.predicted += forecast.prediction[row];
            total.outside += forecast.reach[row].grade == ReachGrade::outside;
        }
        // m² times the leverage of the mean row is s'(X'X)⁻¹s.
        const auto m = static_cast<double>(rows.size());
        const MatrixXd mean = block.colwise().mean();
        const double half = t * fit.residualStandardDeviation * std::sqrt(m + m * m * fit.leverage(mean)[0]);
        total.lower = total.predicted - half;
        total.upper = total.predicted + half;
        coming.push_back(total);
    }
    return coming;
}

} // namespace

ForecastEvidence forecastRows(const LearnedRows& learned, const Table& coming, const std::string& file,
                              double level, Threads threads, Progress& progress) {
    const BoundDesign bound(learned.design.design(), coming, file);
    const LearnedReach judge(learned.design, learned.rows, learned.fit);
    ForecastEvidence out;
    out.level = level;
    const std::size_t n = coming.rows();
    constexpr double nan = std::numeric_limits<double>::quiet_NaN();
    for (auto* values : {&out.prediction, &out.meanLower, &out.meanUpper, &out.lower, &out.upper})
        values->assign(n, nan);
    out.reach.resize(n);
    std::vector<std::uint32_t> complete;
    for (std::uint32_t i = 0; i < n; ++i)
        if (bound.complete(i)) complete.push_back(i);
    std::vector<double> leverage(n, nan);
    const double t = studentQuantile(level, learned.fit.degreesOfFreedom);
    const double sigma = learned.fit.residualStandardDeviation;
    forEachBlock(bound, complete, threads, progress, [&](std::size_t first, const MatrixXd& block) {
        const VectorXd mean = learned.fit.predict(block);
        const VectorXd h = learned.fit.leverage(block);
        for (Index i = 0; i < mean.size(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            const double forMean = t * sigma * std::sqrt(h[i]);
            const double forValue = t * sigma * std::sqrt(1 + h[i]);
            leverage[row] = h[i];
            out.prediction[row] = mean[i];
            out.meanLower[row] = mean[i] - forMean;
            out.meanUpper[row] = mean[i] + forMean;
            out.lower[row] = mean[i] - forValue;
            out.upper[row] = mean[i] + forValue;
        }
    });
    parallelFor((n + designBlockRows - 1) / designBlockRows, threads, [&](std::size_t b) {
        if (progress.stopRequested()) throw Stopped{};
        for (std::size_t i = b * designBlockRows; i < std::min(n, (b + 1) * designBlockRows); ++i)
            out.reach[i] = judge.judge(bound, i, leverage[i]);
    });
    for (const Reach& reach : out.reach) {
        out.inside += reach.grade == ReachGrade::inside;
        out.edge += reach.grade == ReachGrade::edge;
        out.outside += reach.grade == ReachGrade::outside;
    }
    out.unpredicted = n - complete.size();
    if (const Column* dates = sharedDates(learned.table, coming)) {
        out.totalsBy = dates->name();
        out.history = historyTotals(learned.table.at(dates->name(), learned.file), learned.response);
        out.coming = comingTotals(*dates, bound, complete, learned.fit, out, t);
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
