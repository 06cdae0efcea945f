#pragma once
// What a recipe asks of its rows to be forecast beside their predictions: totals, a cross table, scenarios,
// how far intervals held, how far the model was asked to go.
#include "recipe/recipe.h"
#include "study/damped_trend.h"
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <nlohmann/json_fwd.hpp>

#include <array>
#include <limits>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// A total of some rows. NaN for what is not known.
struct TotalLine {
    /// A value of each segment, as a text; "" where it is missing.
    std::vector<std::string> by;
    /// Rows that are in the total; graded outside among them; without a prediction, which are not in it.
    std::size_t rows = 0, outside = 0, unpredicted = 0;
    double predicted = 0, lower = 0, upper = 0;
    /// Sum of the response where all rows of the total have it.
    double actual = 0;
};
struct Totals {
    std::vector<Segment> by;
    std::vector<TotalLine> lines;
};

struct CrossCell {
    std::size_t rows = 0;
    double value = 0, lower = 0, upper = 0;
};
/// A cell for each pair of values, row by row; cells without rows have NaN.
struct CrossTableFound {
    CrossTable asked;
    std::vector<std::string> down, across;
    std::vector<CrossCell> cells;
    const CrossCell& at(std::size_t row, std::size_t column) const {
        return cells[row * across.size() + column];
    }
};

struct ScenarioFound {
    Scenario scenario;
    /// Rows that the condition chooses, graded outside after the change, and without a prediction before or
    /// after.
    std::size_t rows = 0, outside = 0, outsideBefore = 0, unpredicted = 0;
    /// Of all rows that have predictions both ways; the interval is that of the difference.
    double total = 0, changed = 0, difference = 0, lower = 0, upper = 0;
    /// Why it could not be worked out; empty when it was.
    std::string problem;
};

/// Share of rows that the model had not seen in intervals made as the forecast's are.
struct ReachedCoverage {
    std::size_t rows = 0, inside = 0;
    double share = 0, lower = 0, upper = 0;
    /// "held-out rows", "out of fold".
    std::string of;
};

/// What came of a forecast whose truth is known by now, of all rows or some.
struct CameOfIt {
    std::size_t rows = 0;
    double rmse = 0;
    /// Mean of actual less predicted, and its standard error.
    double bias = 0, biasError = 0;
    /// Share of actual values within their intervals.
    ReachedCoverage coverage;
};
struct WhatCame {
    CameOfIt all;
    /// Of rows inside, at the edge and outside; without rows where there are none.
    std::array<CameOfIt, 3> byGrade;
    /// What was to be expected, of unseen rows.
    double expectedRmse = 0;
    std::string says;
    /// As it may be kept, and what all that are kept say with it; empty with nothing else kept.
    Delivery delivery;
    std::string soFar;
};
/// "3 deliveries so far, 1,512 rows: …"; empty for fewer than two.
std::string deliveriesText(const std::vector<Delivery>& deliveries);

/// What happened when the model was asked to go as far along a column as its outermost rows.
struct ReachStep {
    /// Share of the rows held out at an end, and where the rows learned from stopped.
    double share = 0, edge = 0;
    std::size_t rows = 0;
    /// Mean distance beyond the edge as a share of the range learned from.
    double beyond = 0;
    double rmse = 0, coverage = 0, coverageLower = 0, coverageUpper = 0;
};
struct ReachTested {
    std::string column;
    /// "high" or "low".
    bool high = true;
    /// Error and coverage of the same rows' neighbours inside: of the folds, or of the rows learned from.
    double rmseInside = 0;
    std::string insideOf;
    std::vector<ReachStep> steps;
    /// How far rows to be forecast go beyond all learning rows, as a share of the range.
    double asked = 0;
    std::string problem;
    std::string says;
};

struct ForecastAnswers {
    std::vector<Totals> totals;
    std::optional<CrossTableFound> crossTable;
    std::vector<ScenarioFound> scenarios;
    std::vector<ReachTested> reach;
    /// How intervals of sums are made, and what rows share.
    std::string sumsBy, shared;
    std::optional<ReachedCoverage> coverage;
    /// Where rows to be forecast have the response.
    std::optional<WhatCame> came;
    std::optional<DampedTrend> damped;
};

/// Works out what the recipe asks: intervals made as it says, totals, cross table, scenarios. With
/// `questioned` also what takes predictions and fits of its own and was not asked for: how often intervals
/// held, and how far the model reaches along the columns in which rows to be forecast go beyond. Requires
/// evidence with a forecast of prepared.forecast. Errors: unknownColumn, wrongType for segments, those of the
/// way of intervals; scenarios that cannot be say so each. Throws Stopped.
void answerForecast(Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                    const PreparedRows& prepared, bool questioned, Threads threads, Progress& progress);

/// Intervals of single values made as the recipe asks, in place of those of the kind. Errors of the method.
/// Throws Stopped.
void remakeIntervals(ForecastEvidence& forecast, const Recipe& recipe, const PreparedRows& prepared,
                     const Evidence& evidence, const std::string& file, Threads threads, Progress& progress);

/// Coverage of such intervals over held-out rows, otherwise out of fold where the recipe has folds; none
/// without.
std::optional<ReachedCoverage> reachedCoverage(const Recipe& recipe, const PreparedRows& prepared,
                                               const Evidence& evidence, const std::string& file,
                                               Threads threads, Progress& progress);

/// What came of it; none where no row to be forecast has both a prediction and the response.
std::optional<WhatCame> whatCame(const Recipe& recipe, const Evidence& evidence);

/// Columns that the recipe names, or else those along which rows to be forecast go beyond, at most three.
std::vector<ReachTested> testReach(const Recipe& recipe, const PreparedRows& prepared,
                                   const Evidence& evidence, const std::string& file, Threads threads,
                                   Progress& progress);

/// totals.csv, cross_table.csv, scenarios.csv.
std::string totalsCsv(const ForecastAnswers& answers);
std::string crossTableCsv(const CrossTableFound& table);
std::string scenariosCsv(const ForecastAnswers& answers);
/// reach_tested.json, clearance.json; see docs/evidence.md.
std::string reachTestedText(const ForecastAnswers& answers);
nlohmann::ordered_json coverageJson(const ReachedCoverage& coverage);
/// Of names and cells of a table, as 16 digits (Fowler, Noll and Vo's hash).
std::string fingerprintOf(const Table& table);
std::string clearanceText(const Recipe& recipe, const Evidence& evidence, const StudyRows& rows);

} // namespace oxgoad
