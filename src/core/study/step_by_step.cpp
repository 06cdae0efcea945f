#include "study/step_by_step.h"

#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/distributions.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

constexpr std::size_t mostPaths = 200, fewestPaths = 50, mostPeriods = 1000;
constexpr double mostWork = 2e7;

/// Rows without a response by the periods of a step's time, in order.
std::vector<std::vector<std::uint32_t>> periodsOf(const Table& coming, const Step& step,
                                                  const Column& response) {
    std::map<double, std::vector<std::uint32_t>> byTime;
    const Column* time = coming.find(step.text("time"));
    if (!time) return {};
    for (std::uint32_t i = 0; i < coming.rows(); ++i)
        if (!time->isMissing(i) && response.isMissing(i)) byTime[time->asNumber(i)].push_back(i);
    std::vector<std::vector<std::uint32_t>> periods;
    for (auto& [at, rows] : byTime)
        periods.push_back(std::move(rows));
    return periods;
}

class Stepper {
public:
    Stepper(const Study& study, const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
            const Column& response)
        : m_study(study), m_recipe(recipe), m_prepared(prepared), m_file(file), m_raw(*prepared.rawForecast),
          m_response(response) {}

    /// Goes once through the periods; `residual` is added to what the model says of a row before it is fed
    /// on. `said` gets what the model says of each row, on its scale with the offset.
    Prepared walk(const std::vector<std::vector<std::uint32_t>>& periods,
                  const std::function<double(std::uint32_t)>& residual, std::vector<double>& said,
                  std::vector<double>& values) const {
        Progress quiet;
        values.assign(m_response.numbers().begin(), m_response.numbers().end());
        said.assign(values.size(), nan);
        for (const auto& rows : periods) {
            const Prepared now = prepareWith(values, quiet);
            const BoundModel bound = m_study.bind(now.table, m_file);
            std::vector<std::uint32_t> complete;
            for (const auto row : rows)
                if (bound.complete(row) && bound.hasOffset(row)) complete.push_back(row);
            const std::vector<double> predicted = bound.predict(complete, Threads{1}, quiet);
            for (std::size_t i = 0; i < complete.size(); ++i) {
                const auto row = complete[i];
                said[row] = predicted[i] + bound.offset(row);
                const double drawn = residual(row);
                const Link& link = m_study.rule.link;
                values[row] = std::isnan(drawn)      ? link.toResponseScale(said[row])
                              : link.isLogarithmic() ? std::exp(said[row] + drawn)
                                                     : said[row] + drawn;
            }
        }
        return prepareWith(values, quiet);
    }

private:
    Prepared prepareWith(const std::vector<double>& values, Progress& quiet) const {
        const Table table = m_raw.withColumn(Column::ofNumbersLike(m_response, m_response.name(), values));
        return applySteps(table, m_recipe.steps, m_prepared.steps, m_file, quiet);
    }

    const Study& m_study;
    const Recipe& m_recipe;
    const PreparedRows& m_prepared;
    const std::string& m_file;
    Table m_raw;
    Column m_response;
};

} // namespace

std::optional<SteppedRows> stepThrough(const Study& study, const Recipe& recipe, const PreparedRows& prepared,
                                       const std::string& file, Threads threads, Progress& progress) {
    const auto step = std::find_if(recipe.steps.begin(), recipe.steps.end(),
                                   [&](const Step& s) { return looksBackAtResponse(s, recipe.response); });
    if (step == recipe.steps.end() || !prepared.rawForecast) return {};
    const Table& coming = *prepared.rawForecast;
    const Column* given = coming.find(recipe.response);
    const Column response = given && given->kind() == ColumnKind::number
                                ? *given
                                : Column::ofNumbers(recipe.response, std::vector<double>(coming.rows(), nan));
    const auto periods = periodsOf(coming, *step, response);
    if (periods.empty() || periods.size() > mostPeriods) return {};
    const Stepper stepper(study, recipe, prepared, file, response);
    std::vector<double> said, values;
    SteppedRows out;
    out.prepared = stepper.walk(
        periods, [](std::uint32_t) { return nan; }, said, values);
    const std::string feeds = "what is predicted of a " + step->text("unit") + " feeds those after it";
    const double once = static_cast<double>(periods.size() + 1) *
                        static_cast<double>(coming.rows() + prepared.raw.rows() / 8 + 1);
    out.paths = static_cast<std::size_t>(std::min<double>(mostPaths, mostWork / once));
    const Eigen::VectorXd& residuals = study.trained.residuals;
    if (out.paths < fewestPaths || residuals.size() < 2) {
        out.paths = 0;
        out.says = feeds + ", which intervals do not carry: there are too many rows to simulate";
        return out;
    }
    out.values.resize(out.paths);
    out.own.resize(out.paths);
    std::vector<std::vector<double>> means(out.paths);
    parallelFor(out.paths, threads, [&](std::size_t p) {
        stopIfTold(progress);
        RandomStream stream(1 + p, "paths");
        std::vector<double> drawn(coming.rows(), 0);
        for (double& value : drawn)
            value = residuals[static_cast<Eigen::Index>(
                stream.below(static_cast<std::uint64_t>(residuals.size())))];
        static_cast<void>(stepper.walk(
            periods, [&](std::uint32_t row) { return drawn[row]; }, means[p], out.values[p]));
        out.own[p].assign(coming.rows(), 0);
        for (std::size_t i = 0; i < drawn.size(); ++i)
            if (!std::isnan(means[p][i]))
                out.own[p][i] = out.values[p][i] - study.rule.link.toResponseScale(means[p][i]);
    });
    out.spread.assign(coming.rows(), 0);
    for (std::size_t i = 0; i < coming.rows(); ++i) {
        double sum = 0, squares = 0, n = 0;
        for (const auto& mean : means)
            if (!std::isnan(mean[i])) sum += mean[i], ++n;
        for (const auto& mean : means)
            if (!std::isnan(mean[i])) squares += (mean[i] - sum / n) * (mean[i] - sum / n);
        if (n > 1) out.spread[i] = std::sqrt(squares / (n - 1));
    }
    out.says = feeds + ", with what that adds by " + countText(out.paths) + " simulated paths";
    return out;
}

void widenByPaths(ForecastEvidence& forecast, const SteppedRows& stepped, const LearnedRows& learned,
                  const std::string& file) {
    forecast.intervals += "; " + stepped.says;
    if (stepped.paths == 0) return;
    const IntervalsByErrors* byErrors = learned.model.rule().byErrors();
    double unit = 1; // of the sizes that valueError multiplies
    if (byErrors && !byErrors->sizes.empty()) {
        double squares = 0;
        for (const double size : byErrors->sizes)
            squares += size * size;
        unit = std::sqrt(squares / static_cast<double>(byErrors->sizes.size()));
    }
    for (std::size_t i = 0; i < stepped.spread.size(); ++i) {
        const double more = stepped.spread[i];
        forecast.meanError[i] = std::hypot(forecast.meanError[i], more);
        forecast.valueError[i] = std::hypot(forecast.valueError[i], unit > 0 ? more / unit : 0);
    }
    setForecastLevel(forecast, learned, file, forecast.level);
    const Column* dates = forecast.rows.find(forecast.totalsBy);
    if (!dates) return;
    // Totals hold rows' own residuals already; what they do to the rows after them comes on top.
    const double z = studentQuantile(forecast.level, std::numeric_limits<double>::infinity());
    for (PeriodTotal& total : forecast.coming) {
        const auto variance = [&](const std::vector<std::vector<double>>& of) {
            double sum = 0, squares = 0;
            std::vector<double> totals;
            for (const auto& path : of) {
                double all = 0;
                for (std::size_t i = 0; i < path.size(); ++i)
                    if (!dates->isMissing(i) && dates->days()[i] == total.day && !std::isnan(path[i]))
                        all += path[i];
                totals.push_back(all);
                sum += all;
            }
            const double mean = sum / static_cast<double>(of.size());
            for (const double each : totals)
                squares += (each - mean) * (each - mean);
            return squares / static_cast<double>(of.size() - 1);
        };
        const double more = z * std::sqrt(std::max(0.0, variance(stepped.values) - variance(stepped.own)));
        total.lower = total.predicted - std::hypot(total.predicted - total.lower, more);
        total.upper = total.predicted + std::hypot(total.upper - total.predicted, more);
    }
}

} // namespace oxgoad
