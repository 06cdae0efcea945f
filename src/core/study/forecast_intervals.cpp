// Intervals of single values made otherwise than the kind of model makes them, and how often intervals held.
#include "base/error.h"
#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "check/error_tests.h"
#include "estimate/one_way.h"
#include "recipe/validity.h"
#include "study/forecast_answers.h"
#include "study/judge.h"
#include "study/reach_measures.h"
#include "study/rows_used.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

using Eigen::Index;

constexpr std::size_t draws = 1000;
constexpr std::size_t rowsOfBand = 100;

/// What rows missed by that no model of theirs had learned from: on the model's scale, for the usual weight.
struct UnseenErrors {
    std::vector<double> fitted, size;
    std::vector<std::int32_t> fold;
    std::string of;
};

UnseenErrors outOfFoldErrors(const Recipe& recipe, const PreparedRows& prepared, const Study& study,
                             const FoldEvidence* known, const std::string& file, Threads threads,
                             Progress& progress) {
    UnseenErrors out;
    FoldEvidence made;
    FoldPlan plan = recipe.judge.value_or(FoldPlan{});
    if (!known || known->outOfFold.empty()) {
        Recipe judged = recipe;
        if (plan.kind == FoldKind::bootstrap) plan = {};
        judged.judge = plan;
        judged.forecast.reset();
        made = judgeByFolds(judged, prepared, file, {.threads = threads}, progress);
        known = &made;
    }
    const std::span<const double> response = prepared.table.at(recipe.response, file).numbers();
    const BoundModel bound = study.bind(prepared.table, file);
    const Link& link = study.rule.link;
    for (std::uint32_t row = 0; row < known->outOfFold.size(); ++row) {
        if (std::isnan(known->outOfFold[row]) || std::isnan(response[row])) continue;
        const bool logs = link.isLogarithmic();
        const double fitted = logs ? std::log(known->outOfFold[row] / link.smearing) : known->outOfFold[row];
        const double error = (logs ? std::log(response[row]) : response[row]) - fitted;
        if (!std::isfinite(error)) continue;
        out.fitted.push_back(fitted);
        out.size.push_back(std::fabs(error) * std::sqrt(bound.weight(row) / study.rule.usualWeight));
        out.fold.push_back(known->foldOf.empty() ? -1 : known->foldOf[row]);
    }
    out.of = foldPlanText(plan);
    return out;
}

/// Half widths by the size of errors, in bands of what is predicted where sizes differ between them.
class ByUnseenErrors {
public:
    explicit ByUnseenErrors(const UnseenErrors& errors, std::int32_t withoutFold = -2) {
        std::vector<double> fitted, size;
        for (std::size_t i = 0; i < errors.size.size(); ++i)
            if (errors.fold[i] != withoutFold) {
                fitted.push_back(errors.fitted[i]);
                size.push_back(errors.size[i]);
            }
        const std::size_t bands = std::min<std::size_t>(5, fitted.size() / rowsOfBand);
        std::vector<double> sorted = fitted;
        std::sort(sorted.begin(), sorted.end());
        for (std::size_t k = 1; k < bands; ++k)
            m_cuts.push_back(sorted[k * sorted.size() / bands]);
        m_cuts.erase(std::unique(m_cuts.begin(), m_cuts.end()), m_cuts.end());
        Grouping grouping;
        for (const double value : fitted)
            grouping.group.push_back(static_cast<std::int32_t>(bandOf(value)));
        grouping.sizes.assign(m_cuts.size() + 1, 0);
        for (const auto g : grouping.group)
            ++grouping.sizes[static_cast<std::size_t>(g)];
        if (!m_cuts.empty() && !(oneWay(size, grouping).p() < 0.01)) m_cuts.clear();
        m_bands.resize(m_cuts.size() + 1);
        for (std::size_t i = 0; i < size.size(); ++i)
            m_bands[bandOf(fitted[i])].sizes.push_back(size[i]);
        for (IntervalsByErrors& band : m_bands)
            std::sort(band.sizes.begin(), band.sizes.end());
        m_rows = size.size();
    }
    double half(double fitted, double level) const { return m_bands[bandOf(fitted)].half(level); }
    std::size_t bands() const { return m_bands.size(); }
    std::size_t rows() const { return m_rows; }

private:
    std::size_t bandOf(double fitted) const {
        return static_cast<std::size_t>(std::upper_bound(m_cuts.begin(), m_cuts.end(), fitted) -
                                        m_cuts.begin());
    }
    std::vector<double> m_cuts;
    std::vector<IntervalsByErrors> m_bands;
    std::size_t m_rows = 0;
};

void putOutOfFold(ForecastEvidence& forecast, const ByUnseenErrors& errors, const std::string& of,
                  const BoundModel& coming) {
    const PredictionRule& rule = coming.rule();
    for (std::size_t i = 0; i < forecast.middle.size(); ++i) {
        if (std::isnan(forecast.prediction[i])) continue;
        const double half =
            errors.half(forecast.middle[i], forecast.level) * std::sqrt(rule.usualWeight / coming.weight(i));
        forecast.lower[i] = rule.link.quantileToResponseScale(forecast.middle[i] - half);
        forecast.upper[i] = rule.link.quantileToResponseScale(forecast.middle[i] + half);
    }
    forecast.intervals =
        "by errors of " + countText(errors.rows()) + " rows out of fold, " + of +
        (errors.bands() > 1 ? ", in " + countText(errors.bands()) + " bands of the prediction" : "");
}

/// Residuals drawn again, on top of the uncertainty of the mean where a theory says it.
void putResampled(ForecastEvidence& forecast, const Study& study, const BoundModel& coming, Threads threads,
                  Progress& progress) {
    const TrainingResults& trained = study.trained;
    std::vector<double> pool;
    const bool unseen = !trained.unseen.empty();
    if (unseen)
        pool = trained.unseen;
    else
        for (Index i = 0; i < trained.residuals.size(); ++i) {
            const double h = trained.leverages.size() > 0 ? trained.leverages[i] : 0;
            if (h < 1 - 1e-9) pool.push_back(trained.residuals[i] / std::sqrt(1 - h)); // of equal spread
        }
    std::erase_if(pool, [](double e) { return !std::isfinite(e); });
    if (pool.size() < 20)
        throw Error(ErrorCode::tooFewRows, countText(pool.size()) + " residuals are too few to draw from", {},
                    "Ask for intervals by theory, or bring more rows.");
    RandomStream stream(1, "resampled residuals");
    std::vector<double> error(draws), z(draws);
    for (std::size_t b = 0; b < draws; ++b) {
        error[b] = pool[stream.below(pool.size())];
        z[b] = unseen ? 0 : stream.normal();
    }
    const PredictionRule& rule = coming.rule();
    const double tail = (1 - forecast.level) / 2;
    const std::size_t n = forecast.middle.size(), each = 256;
    parallelFor((n + each - 1) / each, threads, [&](std::size_t block) {
        stopIfTold(progress);
        std::vector<double> values(draws);
        for (std::size_t i = block * each; i < std::min(n, (block + 1) * each); ++i) {
            if (std::isnan(forecast.prediction[i])) continue;
            const double own = std::sqrt(rule.usualWeight / coming.weight(i));
            const double mean = std::isfinite(forecast.meanError[i]) ? forecast.meanError[i] : 0;
            for (std::size_t b = 0; b < draws; ++b)
                values[b] = error[b] * own + z[b] * mean;
            std::sort(values.begin(), values.end());
            const auto quantile = [&](double share) {
                // The ends that draws + 1 equal stretches give.
                const double place = share * (static_cast<double>(draws) + 1) - 1;
                return values[static_cast<std::size_t>(
                    std::clamp(place, 0.0, static_cast<double>(draws - 1)))];
            };
            forecast.lower[i] = rule.link.quantileToResponseScale(forecast.middle[i] + quantile(tail));
            forecast.upper[i] = rule.link.quantileToResponseScale(forecast.middle[i] + quantile(1 - tail));
        }
    });
    forecast.intervals =
        "by " + countText(draws) + " draws of " + countText(pool.size()) + " residuals, seed 1";
}

/// By two quantile regressions of the same terms.
void putQuantiles(ForecastEvidence& forecast, const Recipe& recipe, const PreparedRows& prepared,
                  const Study& study, const std::string& file, Threads threads, Progress& progress) {
    Recipe quantile = withEstimator(recipe, {"quantile", {{"share", 0.5}}});
    quantile.terms = study.terms();
    quantile.choose.reset();
    quantile.forecast = ForecastRequest{};
    quantile.forecast->level = forecast.level;
    const auto learned = learn(quantile, prepared.table, prepared.steps, file, study.rows, threads, progress);
    const BoundModel bound = learned->bind(prepared.table, file);
    const LearnedRows rows{
        prepared.table, file, prepared.table.at(recipe.response, file).numbers(), bound, quantile.terms,
        learned->rows,  {}};
    const ForecastEvidence by =
        forecastRows(rows, forecast.rows, forecast.file, forecast.level, threads, progress);
    for (std::size_t i = 0; i < forecast.middle.size(); ++i) {
        if (std::isnan(forecast.prediction[i])) continue;
        forecast.lower[i] = by.lower[i];
        forecast.upper[i] = by.upper[i];
    }
    forecast.intervals = "by a pair of quantiles";
}

/// A forecast of some rows of the learning table, as of rows to come, with the intervals the recipe asks for.
ForecastEvidence forecastOf(const Recipe& recipe, const PreparedRows& prepared, const Study& study,
                            std::span<const std::uint32_t> rows, const std::string& file, Threads threads,
                            Progress& progress) {
    const std::vector<Term> terms = study.terms();
    const BoundModel bound = study.bind(prepared.table, file);
    const LearnedRows learned{prepared.table,
                              file,
                              prepared.table.at(recipe.response, file).numbers(),
                              bound,
                              terms,
                              study.rows,
                              {},
                              reachOptionsOf(recipe)};
    return forecastRows(learned, prepared.table.picked(rows), file, recipe.forecast->level, threads,
                        progress);
}

struct Counted {
    std::size_t rows = 0, inside = 0;
    double squares = 0;
    void add(double actual, double prediction, double lower, double upper) {
        if (std::isnan(actual) || std::isnan(prediction)) return;
        squares += (actual - prediction) * (actual - prediction);
        if (std::isnan(lower) || std::isnan(upper)) return;
        ++rows;
        inside += actual >= lower && actual <= upper;
    }
};

ReachedCoverage reachedOf(const Counted& counted, std::string of) {
    const auto [low, high] = binomialInterval(counted.inside, counted.rows, 0.95);
    return {
        counted.rows, counted.inside, static_cast<double>(counted.inside) / static_cast<double>(counted.rows),
        low,          high,           std::move(of)};
}

void remake(ForecastEvidence& forecast, const Recipe& recipe, const PreparedRows& prepared,
            const Study& study, const FoldEvidence* folds, const std::string& file, Threads threads,
            Progress& progress) {
    const BoundModel coming = study.bind(forecast.rows, file);
    const IntervalWay way = recipe.forecast->intervals;
    if (const auto& family = study.rule.link.family;
        family && (way == IntervalWay::resampled || (way == IntervalWay::outOfFold && family->power < 2)))
        throw Error(ErrorCode::badForecastRows,
                    "intervals " + std::string(way == IntervalWay::resampled ? "resampled" : "out of fold") +
                        " are not made with " + estimatorText(recipe.estimator) +
                        ": its errors grow with the mean, and zeros have no relative error",
                    {.file = file}, "Take \"intervals\" out: those of the distribution are given then.");
    switch (way) {
    case IntervalWay::usual:
    case IntervalWay::theory:
        return;
    case IntervalWay::quantiles:
        return putQuantiles(forecast, recipe, prepared, study, file, threads, progress);
    case IntervalWay::resampled:
        return putResampled(forecast, study, coming, threads, progress);
    case IntervalWay::outOfFold: {
        const UnseenErrors errors = outOfFoldErrors(recipe, prepared, study, folds, file, threads, progress);
        return putOutOfFold(forecast, ByUnseenErrors(errors), errors.of, coming);
    }
    }
}

/// Along one column and one end.
ReachTested testEnd(const Recipe& recipe, const PreparedRows& prepared, const Evidence& evidence,
                    const std::string& file, const Column& column, bool high, Threads threads,
                    Progress& progress) {
    ReachTested out{.column = column.name(), .high = high};
    const Study& study = *evidence.study;
    const std::span<const double> response = prepared.table.at(recipe.response, file).numbers();
    std::vector<std::uint32_t> rows;
    for (const auto row : study.rows)
        if (!column.isMissing(row)) rows.push_back(row);
    std::stable_sort(rows.begin(), rows.end(), [&](auto a, auto b) {
        const double x = column.asNumber(a), y = column.asNumber(b);
        return high ? x > y : x < y;
    });
    const bool folds = evidence.folds && evidence.folds->rmse > 0;
    out.rmseInside = folds ? evidence.folds->rmse : evidence.learning.rmse;
    out.insideOf = folds ? "out of fold" : "learning rows";
    constexpr std::size_t fewest = 20;
    for (const double share : {0.05, 0.1, 0.2, 0.3}) {
        stopIfTold(progress);
        const auto count = static_cast<std::size_t>(share * static_cast<double>(rows.size()));
        if (count < fewest || rows.size() - count < 2 * fewest) continue;
        // Rows of the same value go together.
        const double edgeValue = column.asNumber(rows[count]);
        std::vector<std::uint32_t> beyond, within;
        for (const auto row : rows)
            (high ? column.asNumber(row) > edgeValue : column.asNumber(row) < edgeValue)
                ? beyond.push_back(row)
                : within.push_back(row);
        if (beyond.size() < fewest || within.size() < 2 * fewest) continue;
        std::sort(within.begin(), within.end());
        std::sort(beyond.begin(), beyond.end());
        try {
            Recipe plain = recipe;
            plain.estimator = study.settings;
            const auto without =
                learn(plain, prepared.table, prepared.steps, file, within, threads, progress);
            ForecastEvidence forecast =
                forecastOf(recipe, prepared, *without, beyond, file, threads, progress);
            ReachStep step{.share = share, .edge = edgeValue};
            Counted counted;
            const auto [low, top] = std::minmax_element(within.begin(), within.end(), [&](auto a, auto b) {
                return column.asNumber(a) < column.asNumber(b);
            });
            const double width = column.asNumber(*top) - column.asNumber(*low);
            for (std::size_t i = 0; i < beyond.size(); ++i) {
                if (std::isnan(forecast.prediction[i])) continue;
                ++step.rows;
                step.beyond += std::fabs(column.asNumber(beyond[i]) - edgeValue);
                counted.add(response[beyond[i]], forecast.prediction[i], forecast.lower[i],
                            forecast.upper[i]);
            }
            if (step.rows < fewest) continue;
            const auto n = static_cast<double>(step.rows);
            step.beyond = width > 0 ? step.beyond / n / width : nan;
            step.rmse = std::sqrt(counted.squares / n);
            const ReachedCoverage reached = counted.rows > 0 ? reachedOf(counted, {}) : ReachedCoverage{};
            step.coverage = counted.rows > 0 ? reached.share : nan;
            step.coverageLower = counted.rows > 0 ? reached.lower : nan;
            step.coverageUpper = counted.rows > 0 ? reached.upper : nan;
            out.steps.push_back(step);
        } catch (const Error& error) {
            out.problem = error.what();
        }
    }
    if (out.steps.empty()) {
        if (out.problem.empty())
            out.problem = "too few learning rows at that end: " + countText(fewest) +
                          " are needed beyond, and twice as many within";
        return out;
    }
    const ReachStep& farthest = out.steps.back();
    const auto percent = [](double share) { return readableText(100 * share, 2) + " %"; };
    out.says = percent(farthest.beyond) + " of the range beyond the " + (high ? "highest " : "lowest ") +
               column.name() + " learned from, on the average of " + countText(farthest.rows) +
               " rows: the error was " + readableText(farthest.rmse / out.rmseInside, 2) + " times that " +
               out.insideOf +
               (std::isnan(farthest.coverage) ? std::string()
                                              : ", and " + percentText(recipe.forecast->level) +
                                                    " intervals held " + percent(farthest.coverage));
    return out;
}

} // namespace

void remakeIntervals(ForecastEvidence& forecast, const Recipe& recipe, const PreparedRows& prepared,
                     const Evidence& evidence, const std::string& file, Threads threads, Progress& progress) {
    remake(forecast, recipe, prepared, *evidence.study, evidence.folds.get(), file, threads, progress);
}

std::optional<ReachedCoverage> reachedCoverage(const Recipe& recipe, const PreparedRows& prepared,
                                               const Evidence& evidence, const std::string& file,
                                               Threads threads, Progress& progress) {
    const std::span<const double> response = prepared.table.at(recipe.response, file).numbers();
    const RowsUsed used = rowsUsed(recipe, prepared, file);
    Counted counted;
    if (!used.heldOut.empty()) {
        ForecastEvidence forecast =
            forecastOf(recipe, prepared, *evidence.study, used.heldOut, file, threads, progress);
        remake(forecast, recipe, prepared, *evidence.study, evidence.folds.get(), file, threads, progress);
        for (std::size_t i = 0; i < used.heldOut.size(); ++i)
            counted.add(response[used.heldOut[i]], forecast.prediction[i], forecast.lower[i],
                        forecast.upper[i]);
        if (counted.rows == 0) return std::nullopt;
        return reachedOf(counted, "held-out rows");
    }
    if (!recipe.judge || recipe.judge->kind == FoldKind::bootstrap) return std::nullopt;
    FoldPlan plan = *recipe.judge;
    plan.repeats = 1;
    if (plan.kind == FoldKind::leaveOneOut) plan = {};
    const Dealing dealing = dealRows(plan, prepared.table, used.learning, file);
    std::optional<UnseenErrors> errors;
    if (recipe.forecast->intervals == IntervalWay::outOfFold)
        errors =
            outOfFoldErrors(recipe, prepared, *evidence.study, evidence.folds.get(), file, threads, progress);
    Recipe plain = recipe;
    plain.estimator = evidence.study->settings;
    for (std::size_t f = 0; f < dealing.size(); ++f) {
        stopIfTold(progress);
        Fold fold = dealing.fold(f);
        const auto study =
            learn(plain, prepared.table, prepared.steps, file, fold.learning, threads, progress);
        ForecastEvidence forecast =
            forecastOf(recipe, prepared, *study, fold.judged, file, threads, progress);
        if (errors) { // the other folds' errors about this fold's model
            const BoundModel coming = study->bind(forecast.rows, file);
            putOutOfFold(forecast, ByUnseenErrors(*errors, static_cast<std::int32_t>(f)), errors->of, coming);
        } else {
            remake(forecast, recipe, prepared, *study, nullptr, file, threads, progress);
        }
        for (std::size_t i = 0; i < fold.judged.size(); ++i)
            counted.add(response[fold.judged[i]], forecast.prediction[i], forecast.lower[i],
                        forecast.upper[i]);
    }
    if (counted.rows == 0) return std::nullopt;
    return reachedOf(counted, "out of fold");
}

std::vector<ReachTested> testReach(const Recipe& recipe, const PreparedRows& prepared,
                                   const Evidence& evidence, const std::string& file, Threads threads,
                                   Progress& progress) {
    struct End {
        const Column* column;
        bool high;
        double asked;
    };
    const Table& coming = evidence.forecast->rows;
    const Study& study = *evidence.study;
    std::vector<End> ends;
    const auto take = [&](const Column& column, bool named) {
        double low = INFINITY, high = -INFINITY, least = INFINITY, most = -INFINITY;
        for (const auto row : study.rows)
            if (!column.isMissing(row))
                low = std::min(low, column.asNumber(row)), high = std::max(high, column.asNumber(row));
        if (const Column* other = coming.find(column.name()); other && other->kind() == column.kind())
            for (std::size_t i = 0; i < other->size(); ++i)
                if (!other->isMissing(i))
                    least = std::min(least, other->asNumber(i)), most = std::max(most, other->asNumber(i));
        const double width = high - low;
        if (!(width > 0)) return;
        if (most > high || named) ends.push_back({&column, true, std::max(0.0, (most - high) / width)});
        if (least < low || named) ends.push_back({&column, false, std::max(0.0, (low - least) / width)});
    };
    if (!recipe.forecast->testReach.empty()) {
        for (const std::string& name : recipe.forecast->testReach) {
            const Column& column = prepared.table.at(name, file);
            if (column.kind() == ColumnKind::factor || column.kind() == ColumnKind::text)
                throw Error(ErrorCode::wrongType, "how far a model reaches is tested along numbers and dates",
                            {.file = file, .column = name}, "Name a number or a date under test_reach.");
            take(column, true);
        }
    } else {
        for (const Input& input : study.inputs)
            if (!input.factor) take(prepared.table.at(input.name, file), false);
        std::stable_sort(ends.begin(), ends.end(),
                         [](const End& a, const End& b) { return a.asked > b.asked; });
        ends.resize(std::min<std::size_t>(ends.size(), 3));
    }
    std::vector<ReachTested> out;
    for (std::size_t k = 0; k < ends.size(); ++k) {
        ProgressStage stage(progress, static_cast<double>(k) / static_cast<double>(ends.size()),
                            static_cast<double>(k + 1) / static_cast<double>(ends.size()));
        stage.checkpoint(0, "Testing how far the model reaches");
        out.push_back(
            testEnd(recipe, prepared, evidence, file, *ends[k].column, ends[k].high, threads, stage));
        out.back().asked = ends[k].asked;
    }
    return out;
}

std::string deliveriesText(const std::vector<Delivery>& deliveries) {
    if (deliveries.size() < 2) return {};
    Delivery::Part all, outside;
    double expected = 0, expectedRows = 0;
    bool oneLevel = true;
    const auto add = [](Delivery::Part& to, const Delivery::Part& each) {
        to.rows += each.rows, to.withIntervals += each.withIntervals, to.inside += each.inside;
        to.errors += each.errors, to.squares += each.squares;
    };
    for (const Delivery& each : deliveries) {
        add(all, each.all);
        add(outside, each.outside);
        oneLevel = oneLevel && each.level == deliveries.front().level;
        if (!each.expected) continue;
        const auto rows = static_cast<double>(each.all.rows);
        expected += rows * *each.expected * *each.expected;
        expectedRows += rows;
    }
    const auto percent = [](double share) { return readableText(100 * share, 3) + " %"; };
    const auto rmse = [](const Delivery::Part& of) {
        return std::sqrt(of.squares / static_cast<double>(of.rows));
    };
    if (all.rows == 0) return {};
    std::string text = countText(deliveries.size()) + " deliveries so far, " +
                       plural(all.rows, "row", "rows") + ": the root mean squared error is " +
                       readableText(rmse(all), 4);
    if (expectedRows > 0)
        text += ", where " + readableText(std::sqrt(expected / expectedRows), 4) + " was expected";
    if (all.withIntervals > 0) {
        const auto [low, high] = binomialInterval(all.inside, all.withIntervals, 0.95);
        text += "; " + percent(static_cast<double>(all.inside) / static_cast<double>(all.withIntervals)) +
                " lie in their " + (oneLevel ? percent(deliveries.front().level) + " " : std::string()) +
                "intervals (" + percent(low) + " to " + percent(high) + ")";
    }
    if (outside.rows > 0 && outside.rows < all.rows) {
        Delivery::Part others = all;
        others.rows -= outside.rows;
        others.squares -= outside.squares;
        const double ratio = rmse(outside) / rmse(others);
        text += "; rows outside were off by " + readableText(ratio, 3) + " times the others: " +
                (ratio > 1.2 ? "the goad that warned of them was right" : "the goad about them cried wolf");
    }
    return text + ".";
}

std::optional<WhatCame> whatCame(const Recipe& recipe, const Evidence& evidence) {
    const ForecastEvidence& forecast = *evidence.forecast;
    const Column* response = forecast.rows.find(recipe.response);
    if (!response || response->kind() != ColumnKind::number) return std::nullopt;
    WhatCame out;
    out.expectedRmse = evidence.heldOut.rows > 1 ? evidence.heldOut.rmse
                       : evidence.folds          ? evidence.folds->rmse
                                                 : nan;
    struct Sums {
        Counted counted;
        std::size_t rows = 0;
        double errors = 0, squares = 0;
    };
    std::array<Sums, 4> sums;
    for (std::size_t i = 0; i < forecast.prediction.size(); ++i) {
        const double actual = response->numbers()[i], e = actual - forecast.prediction[i];
        if (!std::isfinite(e)) continue;
        for (Sums* into : {&sums[3], &sums[static_cast<std::size_t>(forecast.reach[i].grade)]}) {
            into->counted.add(actual, forecast.prediction[i], forecast.lower[i], forecast.upper[i]);
            ++into->rows;
            into->errors += e;
            into->squares += e * e;
        }
    }
    if (sums[3].rows == 0) return std::nullopt;
    const auto kept = [](const Sums& of) {
        return Delivery::Part{of.rows, of.counted.rows, of.counted.inside, of.errors, of.squares};
    };
    out.delivery = {.file = forecast.file,
                    .fingerprint = fingerprintOf(forecast.rows),
                    .level = forecast.level,
                    .all = kept(sums[3]),
                    .outside = kept(sums[static_cast<std::size_t>(ReachGrade::outside)])};
    if (std::isfinite(out.expectedRmse)) out.delivery.expected = out.expectedRmse;
    std::vector<Delivery> all = recipe.deliveries;
    std::erase_if(all, [&](const Delivery& d) { return d.fingerprint == out.delivery.fingerprint; });
    all.push_back(out.delivery);
    out.soFar = deliveriesText(all);
    const auto told = [](const Sums& of) {
        CameOfIt came{.rows = of.rows};
        const auto n = static_cast<double>(of.rows);
        if (of.rows == 0) return came;
        came.rmse = std::sqrt(of.squares / n);
        came.bias = of.errors / n;
        came.biasError = of.rows > 1
                             ? std::sqrt(std::max(0.0, of.squares - n * came.bias * came.bias) / (n - 1) / n)
                             : nan;
        if (of.counted.rows > 0) came.coverage = reachedOf(of.counted, {});
        return came;
    };
    for (std::size_t g = 0; g < 3; ++g)
        out.byGrade[g] = told(sums[g]);
    out.all = told(sums[3]);
    const auto percent = [](double share) { return readableText(100 * share, 3) + " %"; };
    const CameOfIt& whole = out.all;
    out.says = "Of " + plural(whole.rows, "row", "rows") + " whose " + recipe.response + " is known by now";
    if (whole.coverage.rows > 0)
        out.says += ", " + percent(whole.coverage.share) + " lie in their " + percent(forecast.level) +
                    " intervals (" + percent(whole.coverage.lower) + " to " + percent(whole.coverage.upper) +
                    ")";
    out.says += "; the root mean squared error is " + readableText(whole.rmse, 4);
    if (std::isfinite(out.expectedRmse))
        out.says += ", where " + readableText(out.expectedRmse, 4) + " was expected";
    if (std::fabs(whole.bias) > 2 * whole.biasError)
        out.says += "; forecasts were too " + std::string(whole.bias > 0 ? "low" : "high") + " by " +
                    readableText(std::fabs(whole.bias), 3) + " on the average";
    const CameOfIt& outside = out.byGrade[static_cast<std::size_t>(ReachGrade::outside)];
    if (outside.rows > 0 && outside.rows < whole.rows)
        out.says += "; of the " + countText(outside.rows) + " outside, " + readableText(outside.rmse, 4);
    out.says += ".";
    return out;
}

} // namespace oxgoad
