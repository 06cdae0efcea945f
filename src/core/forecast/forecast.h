#pragma once
// Rows to be forecast: predictions, intervals, reach, totals.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/design.h"
#include "forecast/prediction.h"
#include "reach/reach.h"
#include "read/text_reader.h"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// Sum over the rows of one day.
struct PeriodTotal {
    std::int32_t day = 0;
    std::size_t rows = 0;
    double actual = 0;
    double predicted = 0, lower = 0, upper = 0;
    /// Rows graded outside.
    std::size_t outside = 0;
    /// Rows of the day that have no prediction and are not in the total.
    std::size_t unpredicted = 0;
};

struct ForecastEvidence {
    std::string file;
    double level = 0.95;
    /// How intervals of single values were made: "by theory", "by a pair of quantiles", "by rows left out one
    /// at a time", "none: …" with why.
    std::string intervals;
    /// Whether they are those of the kind of model, and not made anew as the recipe asks.
    bool asKind = true;
    /// By which rules of the recipe rows were graded.
    std::string gradedBy{};
    std::vector<double> prediction;
    /// Interval of the mean.
    std::vector<double> meanLower, meanUpper;
    /// Interval of a single value.
    std::vector<double> lower, upper;
    std::vector<Reach> reach;
    /// What the intervals are made of, so that others of the same rows need no prediction: on the model's
    /// scale with the offset, standard errors of the mean and of a single value (without a theory: what the
    /// size of a residual is multiplied by), degrees of freedom where they differ by row.
    std::vector<double> middle, meanError, valueError, degreesOfFreedom;
    /// The rows that were predicted.
    Table rows;
    std::size_t inside = 0, edge = 0, outside = 0;
    /// Rows without a prediction.
    std::size_t unpredicted = 0;
    /// Name of the date column totals are taken by; empty when there is none.
    std::string totalsBy;
    /// Where the learning rows of a period have errors in common: their standard deviation on the model's
    /// scale and its degrees of freedom; 0 otherwise. Totals of a period carry it.
    double periodSpread = 0, periodDegreesOfFreedom = 0;
    std::vector<PeriodTotal> history;
    std::vector<PeriodTotal> coming;
};

/// "80 of 300 rows to forecast have no prediction: rate is missing in 60, depot = Xanadu was never learned
/// from in 20"; empty when all have one.
std::string unpredictedText(const ForecastEvidence& forecast);

/// What a forecast rests on. References outlive the call.
struct LearnedRows {
    const Table& table;
    const std::string& file;
    /// The response of every row of the table; NaN where missing.
    std::span<const double> response;
    const BoundModel& model;
    /// How inputs enter together.
    const std::vector<Term>& terms;
    /// Rows of the table that were learned from, and their residuals on the model's scale.
    std::span<const std::uint32_t> rows;
    std::span<const double> residuals;
    ReachOptions reach{};
};

/// Predicts every row that has what the model needs, with intervals at `level`: x'b ± t σ √(x'(X'X)⁻¹x) for
/// the mean and √(1 + …) for a single value; grades the reach of all rows; and takes totals by day of the
/// first date column both tables have, actual before and predicted after, the variance of a total of m rows
/// with design sum s being σ²(m + s'(X'X)⁻¹s); where the residuals of a period go together (F of their
/// one-way analysis of variance by the days of that column, p below 0.01) a variance of σₚ²m²(1 + 1/periods)
/// comes on top, that of single rows being less by σₚ². With another covariance V of the coefficients x'Vx
/// stands for σ²x'(X'X)⁻¹x, with weights σ²/w for σ². Of a fit in logarithms the ends of intervals are those
/// of the logarithm, carried back, those of the mean with the smearing; totals then by the delta method. Of a
/// quantile regression a single value lies between the quantiles at (1 ∓ level)/2, and totals have no
/// interval. Of a model without coefficients single values lie within PredictionRule::halfByErrors of the
/// prediction, and means and totals have no interval. Missing values: rows that cannot be predicted have NaN
/// and a reason. Errors: unknownColumn, wrongType. Throws Stopped.
ForecastEvidence forecastRows(const LearnedRows& learned, const Table& coming, const std::string& file,
                              double level, Threads threads, Progress& progress);

/// The same of a model by itself: no history, no totals. `reach` is that of its learning rows.
ForecastEvidence scoreRows(const Inputs& inputs, const LearnedModel& model, const PredictionRule& rule,
                           const LearnedReach& reach, const Table& coming, const std::string& file,
                           double level, Threads threads, Progress& progress);

/// Rows that a step would have left out of learning, by its number, are at the edge at least.
void markLeftOut(ForecastEvidence& forecast, std::span<const std::int16_t> leftOutBy);

/// Intervals of the same predictions at another level. Requires a model with the intervals' theory, or none;
/// not a pair of quantiles, which are learned.
void setForecastLevel(ForecastEvidence& forecast, const LearnedRows& learned, const std::string& file,
                      double level);

/// Where a value is missing because its cell could not be read, the reason says so.
void nameMisfits(std::vector<Reach>& reach, std::span<const CellFault> faults);

} // namespace oxgoad
