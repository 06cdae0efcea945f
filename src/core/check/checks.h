#pragma once
// The checks a model has to answer. One file a check; checks.cpp lists them with what they need.
#include "base/progress.h"
#include "estimate/linear/linear_model.h"
#include "reach/reach.h"
#include "recipe/recipe_edits.h"
#include "resample/parts.h"
#include "table/table.h"

#include <functional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace oxgoad {

/// A term as checks see it.
struct CheckedTerm {
    std::string name;
    /// Variance inflation, comparable over terms of any number of columns; NaN when it cannot be said.
    double inflation = 0;
    /// Terms made of the same columns share a group and an inflation.
    std::size_t group = 0;
};

/// An effect as checks see it: from the lower to the upper quartile of a number, from 0 to 1 of a level.
struct CheckedEffect {
    std::string name;
    double effect = 0;
    /// Of one level of a factor, and the learning rows that have it.
    bool level = false;
    std::size_t rows = 0;
};

/// What only a model with coefficients has. Vectors are of the learning rows, in their order.
struct CheckedLinear {
    const LinearModel& model;
    const BoundDesign& design;
    /// The model's fit, with the residuals of the rows.
    const LeastSquaresFit& fit;
    /// On the model's scale.
    const Eigen::VectorXd& residuals;
    std::span<const CheckedTerm> terms;
    std::span<const CheckedEffect> effects;
    std::span<const double> leverages;
    /// Studentised (deleted) residuals and Cook's distances.
    std::span<const double> studentized;
    std::span<const double> cooks;
    /// The model's columns in the basis that its factor makes orthonormal, rows times the roots of their
    /// weights: n × rank. Worked out when it is first asked for, by any thread. Throws Stopped.
    std::function<const Eigen::MatrixXd&()> orthonormal;
    /// Why they are not made: more than some 2 GB of them. Empty otherwise.
    std::string tooWide;
};

/// Rows that a model did not learn from, and what it says of them, in the response's unit.
struct CheckedUnseen {
    /// "held-out rows"; "rows out of fold"; empty when there are none.
    std::string what;
    std::span<const std::uint32_t> rows;
    std::span<const double> actual, predicted;
    bool heldOut = false;
};

/// The judgement of the recipe made with other seeds.
struct SeedSpread {
    /// "held out at random, with seeds 8 to 27"; empty when it cannot be made, for `why`.
    std::string what, why;
    /// Of each seed: the error, over that of the learning mean, over that of the learning rows.
    std::vector<double> rmse, overMean, overLearning;
    /// With the recipe's own seed.
    double own = 0, ownOverMean = 0, ownOverLearning = 0;
};

/// A setting found by folds that were dealt with other seeds.
struct SettingSeeds {
    /// Why there are none; empty when there are.
    std::string why;
    /// "leaves", "neighbours": what is told of a value.
    std::string unit;
    /// Found with each other seed, with the recipe's own, and the one whose error is smallest (or simplest
    /// within one standard error, by the recipe's rule) on average over all dealings.
    std::vector<double> sizes;
    double own = 0, onAverage = 0;
    /// The setting of the last, and how to take it.
    std::string field;
    double value = 0;
};

struct PairStrength {
    std::string first, second;
    /// H² (Friedman and Popescu 2008, Annals of Applied Statistics 2, eq. 44): the share of the variance of
    /// the pair's partial dependence that the sum of both columns' own does not say; and the same variance
    /// over that of all predictions.
    double hSquared = 0, share = 0;
};

/// What the squared error grows by when a column says nothing.
struct ColumnImportance {
    std::string column;
    double increase = 0;
};

/// Everything a check may read. References outlive the call.
struct CheckContext {
    const Recipe& recipe;
    const Table& table;
    const std::string& file;
    const BoundInputs& inputs;
    const std::vector<Term>& terms;
    const ModelKind& kind;
    /// Null for other kinds.
    const CheckedLinear* linear = nullptr;
    /// Rows of the table the model learned from, what it fits there (a logarithm, less the offset) and what
    /// it says of them in the response's unit.
    std::span<const std::uint32_t> learningRows;
    std::span<const double> working, fitted;
    /// Errors whose dependence, spread and shape are judged, on the model's scale, times the root of the
    /// weight: residuals of learning rows of a model with coefficients, otherwise of rows not learned from.
    /// `errorsOf` says which they are, and is empty when there are none.
    std::string errorsOf;
    std::span<const std::uint32_t> errorRows;
    std::span<const double> errors;
    /// Standard deviation of single values about the model, on its scale, and its degrees of freedom.
    double spread = 0, spreadDegreesOfFreedom = 0;
    /// Rows held out, actual minus predicted there, and half of the interval of a single value at the
    /// recipe's level; on the model's scale. The halves are empty where the model has no such intervals.
    std::span<const std::uint32_t> heldOutRows;
    std::span<const double> heldOutErrors, heldOutHalves;
    /// Held-out rows, or those out of fold.
    CheckedUnseen unseen;
    /// Of the sum of some rows of the table: the variance of what the model says of it, over that of the rows
    /// about the model; null without a theory.
    std::function<double(std::span<const std::uint32_t>)> shareOfModel;
    /// Of learning rows; where a model predicts them by themselves, of those left out one at a time.
    Scores learning;
    bool learnedWithoutItself = false;
    Scores heldOut;
    /// Of all unseen rows, 1 less their squared error over that of the learning mean; NaN without them.
    double unseenRmse = 0, unseenRSquared = 0;
    /// Weights of the learning rows; empty without.
    std::span<const double> weights;
    /// Errors of the coefficients stand unequal spread; the fit is one of logarithms.
    bool robustToSpread = false;
    bool logResponse = false;
    /// Rows that could not be used because of a missing value, in all and by column.
    std::size_t rowsMissing = 0;
    std::vector<std::pair<std::string, std::size_t>> missingByColumn;
    /// Cells of the rows that did not fit their column, by column.
    std::vector<std::pair<std::string, std::size_t>> misfitsByColumn;
    /// Grades of the rows to be forecast, and what is predicted of them; empty without a forecast.
    std::span<const Reach> reach;
    std::span<const double> forecast;
    /// The rows to be forecast; null without.
    const Table* coming = nullptr;
    /// Judges with other seeds; null where nobody can.
    std::function<SeedSpread(Progress&)> otherSeeds;
    /// Finds the setting that the recipe leaves to folds with other seeds; null where none is left to them.
    std::function<SettingSeeds(Progress&)> otherSettings;
    /// How columns act together, and what each adds; null for models with coefficients.
    std::function<std::vector<PairStrength>(Progress&)> pairs;
    std::function<std::vector<ColumnImportance>(Progress&)> importances;
    Threads threads;
    /// Asked whether to stop; never null.
    Progress* progress = nullptr;

    const std::string& response() const { return recipe.response; }
    /// The threshold of a reading: the recipe's, or the usual one.
    double limitOf(std::string_view reading, double usual) const {
        const CheckSetting* setting = checkSetting(recipe, reading);
        return setting && setting->threshold ? *setting->threshold : usual;
    }
};

/// Tests are goads below it (common practice, no source).
inline constexpr double pLimit = 0.01;

/// What a check needs; a sum of these.
enum CheckNeeds : unsigned {
    needsNothing = 0,
    /// Coefficients.
    needsLinear = 1,
    /// Least squares: rows left out in closed form.
    needsLeastSquares = 2,
    needsHeldOutRows = 4,
    /// Rows to be forecast.
    needsForecast = 8,
    /// A constant and a coefficient beside it, and degrees of freedom.
    needsSpreadToJudge = 16,
    /// Least squares with degrees of freedom and residuals that are more than rounding.
    needsTests = 32,
    /// Errors to be judged, see CheckContext::errors, that differ.
    needsErrors = 64,
    /// Rows that the model did not learn from.
    needsUnseenRows = 128,
};

struct Check {
    /// The readings it makes; "curvature" stands for "curvature: COLUMN".
    std::vector<std::string_view> readings;
    unsigned needs = needsNothing;
    void (*run)(const CheckContext&, Findings&);
    /// Takes as long as a fit or longer.
    bool slow = false;
    /// Reads rows out of fold.
    bool readsFolds = false;
    /// Keeps all cores busy by itself for as long as many folds take.
    bool alone = false;
    /// What its goads tell of; goads may say otherwise.
    Tells tells = Tells::columns;
};

/// Every check, the most useful first.
const std::vector<Check>& checks();

/// What one check found; `done` is false until it ran.
struct CheckOutcome {
    bool done = false;
    Findings found;
};

/// Runs check number `index` when its needs are met; otherwise each of its readings is there without a value
/// and says why. What the recipe switches off is there without a value, too. Throws Stopped.
CheckOutcome runCheck(std::size_t index, const CheckContext& context);

/// Throws Error (badRecipe) when the recipe names a check that is not there.
void requireKnownChecks(const Recipe& recipe);

/// In the order of what they tell of (Tells), cautions that cost less than 2 % after all others, and within
/// it by Goad::cost, where an alarm without one stands as 10 % and a caution as 2 % (common practice, no
/// source).
void orderGoads(std::vector<Goad>& goads);
/// Says which open goads stand under another (Goad::under): of one family under its first; and unequal
/// spread, shape, totals that are off and rows that hide each other under a relation of the wrong form that
/// costs 5 % or more, since they follow from it. Goads are in order.
void gatherUnder(std::vector<Goad>& goads);

// Relation.
/// For every number in the model: F tests of its square and of two more columns of a natural cubic spline
/// with knots at the 5th, 35th, 65th and 95th percentile (Harrell 2015, "Regression modeling strategies", 2nd
/// ed., §2.4.6); the goad goes by both together, for the number of columns (Bonferroni).
void checkCurvature(const CheckContext& context, Findings& findings);
/// F test of powers 2 and 3 of the fitted values (Ramsey 1969, Journal of the Royal Statistical Society B
/// 31).
void checkCurvatureOverall(const CheckContext& context, Findings& findings);
/// F test of the strongest product of two columns of the model, for all that were tried (Bonferroni).
void checkMissingInteraction(const CheckContext& context, Findings& findings);
/// F test of the strongest column that is not in the model, for all that were tried (Bonferroni).
void checkLeftOutColumn(const CheckContext& context, Findings& findings);

// Spread.
/// Unequal spread by the studentised Lagrange multiplier test (Koenker 1981), p below 0.01.
void checkSpread(const CheckContext& context, Findings& findings);
/// The same of errors of rows that a model without coefficients did not learn from, on its numbers and its
/// prediction.
void checkSpreadOfErrors(const CheckContext& context, Findings& findings);
/// Rank correlation (Spearman 1904) of the sizes of errors with the numbers of the model, the strongest for
/// all that were tried (Bonferroni): a far row that hides unequal spread from the tests of squares does not
/// hide it from ranks.
void checkSpreadByRanks(const CheckContext& context, Findings& findings);
/// n R² of squared residuals on the columns, their squares and products (White 1980, Econometrica 48).
void checkSpreadWhite(const CheckContext& context, Findings& findings);
/// Brown and Forsythe 1974, Journal of the American Statistical Association 69, for every factor.
void checkSpreadByGroup(const CheckContext& context, Findings& findings);

// Shape of the errors: moments, Jarque and Bera 1980, Economics Letters 6; Anderson and Darling 1954 with
// Stephens' p (D'Agostino and Stephens 1986, "Goodness-of-fit techniques", table 4.9).
void checkShape(const CheckContext& context, Findings& findings);

// Dependence.
/// Durbin and Watson 1950, Biometrika 37, and Ljung and Box 1978, Biometrika 65; within groups of a panel
/// (Bhargava, Franzini and Narendranathan 1982, Review of Economic Studies 49).
void checkSerialDependence(const CheckContext& context, Findings& findings);
/// Intraclass correlation (Fisher 1925) with the F test that the groups add nothing to the model.
/// Month, quarter, weekday and hour, as the times have them, against what is left over.
void checkSeason(const CheckContext& context, Findings& findings);
/// Whether the response of twelve months or four quarters before, in the same group, says something of the
/// errors: F of that column beside the model (rows without one have the mean), for other kinds the t of its
/// correlation with their errors. Needs dates, at most one row a group and period, and 10 rows that have one.
void checkYearBefore(const CheckContext& context, Findings& findings);
void checkGroups(const CheckContext& context, Findings& findings);
/// Moran's I of mean errors of places, see moran().
void checkSpace(const CheckContext& context, Findings& findings);

// Rows.
/// The largest studentised residual by Student's t with Bonferroni's adjustment, p below 0.01 (Cook and
/// Weisberg 1982, "Residuals and influence in regression", §2.2.2); Cook's distance above 1 (Cook 1977);
/// leverage above 0.5 (Huber 1981, "Robust statistics", §7.2); DFFITS and DFBETAS (Belsley, Kuh and Welsch
/// 1980, "Regression diagnostics").
void checkOutlyingRows(const CheckContext& context, Findings& findings);
/// Held-out rows by their error over the spread, adjusted in the same way.
void checkHeldOutRows(const CheckContext& context, Findings& findings);
/// Errors of kinds that cannot leave a row out in closed form.
void checkOutlyingErrors(const CheckContext& context, Findings& findings);
/// Rows that a fit by least trimmed squares (see leastTrimmed) shows and least squares does not.
void checkHiddenRows(const CheckContext& context, Findings& findings);

// Columns.
/// Columns that depend exactly on others; variance inflation above 5 (Belsley, Kuh and Welsch 1980; factor
/// terms by Fox and Monette 1992); condition indexes with variance shares (Belsley 1991, "Conditioning
/// diagnostics").
void checkCollinearity(const CheckContext& context, Findings& findings);
/// Rows lost because values of columns in use are missing. Threshold 5 % of rows (common practice, no
/// source).
void checkMissingValues(const CheckContext& context, Findings& findings);
/// Cells of columns in use that could not be read. Any such cell.
void checkMisfits(const CheckContext& context, Findings& findings);
/// Levels in use with fewer than 10 learning rows (common practice, no source).
void checkRareLevels(const CheckContext& context, Findings& findings);

// Forecasts.
/// Judged in the order of time: the last value known at the origin and the value of a year before, of the
/// same group, against the model on the same rows; an error that is no smaller is an alarm. Scaled errors by
/// Hyndman and Koehler 2006.
void checkPlainForecasts(const CheckContext& context, Findings& findings);
/// Columns of the model in rows to be forecast against those learned from: see compareReadings.
void checkRowsToCome(const CheckContext& context, Findings& findings);

// Judgement.
/// Worse than the mean, and the error over the mean response above 10 % (common practice, no source).
void checkErrorSize(const CheckContext& context, Findings& findings);
/// Held-out error above the learning error by more than 10 % and two standard errors (common practice).
void checkOverfit(const CheckContext& context, Findings& findings);
/// Fewer than 10 rows for a coefficient (common practice; Harrell 2015, §4.4).
void checkRowsPerCoefficient(const CheckContext& context, Findings& findings);
/// The largest effect is that of a level that few rows have.
void checkOneLevel(const CheckContext& context, Findings& findings);
/// Predictions below 0 of a response that never is, or beyond 0 and 1 of shares.
void checkImpossible(const CheckContext& context, Findings& findings);
/// Sums of predictions over sums of what was, in all and by tenths of the prediction.
void checkTotals(const CheckContext& context, Findings& findings);
/// Exact binomial test (Clopper and Pearson 1934, Biometrika 26) of how many rows lie in their intervals.
void checkCoverage(const CheckContext& context, Findings& findings);
/// The same judgement with 20 other seeds.
void checkSeeds(const CheckContext& context, Findings& findings);
/// Many zeros, or a spread that grows with the mean: responses for which there are models of their own.
void checkResponseKind(const CheckContext& context, Findings& findings);
/// The pair of columns of a model without coefficients whose acting together says most of its predictions.
void checkActingPairs(const CheckContext& context, Findings& findings);
/// Whether one level, or a column that names rows, carries such a model.
void checkWhatCarries(const CheckContext& context, Findings& findings);
/// A column that explains nearly all of the response alone.
void checkGoodColumn(const CheckContext& context, Findings& findings);
/// Columns of the model that hold the response by their making: columnsThatHold.
void checkLeaks(const CheckContext& context, Findings& findings);
/// Errors that drift with time, and a change of their level or slope at an unknown time (Andrews 1993,
/// Econometrica 61).
void checkTrendInTime(const CheckContext& context, Findings& findings);
void checkChangeInTime(const CheckContext& context, Findings& findings);
/// Rows to be forecast that are outside what was learned from. Any such row.
void checkReach(const CheckContext& context, Findings& findings);

} // namespace oxgoad
