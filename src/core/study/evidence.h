#pragma once
// The evidence: everything that was found, as an immutable value.
#include "check/checks.h"
#include "forecast/forecast.h"
#include "prepare/preparation.h"
#include "recipe/goad.h"
#include "recipe/recipe.h"
#include "resample/parts.h"
#include "study/judge.h"
#include "study/rows_used.h"
#include "study/study.h"

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

struct CoefficientEvidence {
    /// "intercept", "x^3", "contract = annual", "list_rate × contract = annual".
    std::string name;
    double estimate = 0;
    double standardError = 0;
    double t = 0;
    double p = 0;
    double lower = 0;
    double upper = 0;
    /// Index of the term; -1 for the intercept.
    int term = -1;
    /// Change of the response when the column goes from its lower to its upper quartile (an indicator: from 0
    /// to 1), with its interval. Quartiles over at most 10,000 evenly spaced learning rows.
    double effect = 0;
    double effectLower = 0;
    double effectUpper = 0;
    /// Standard deviation of the column over the same rows (an indicator: 1): the estimate times it is the
    /// effect of one standard deviation.
    double deviation = 0;
    /// True when other columns say it already; all numbers are NaN then.
    bool dependent = false;
    /// Degrees of freedom of its t; infinite for the normal.
    double degreesOfFreedom = 0;
    /// True when it is a sum of others and no column of its own: the last level of deviations from the mean.
    bool derived = false;
    /// From the column's lower quartile to its upper one; NaN for the intercept.
    double quartiles = 0;
};

struct TermEvidence {
    std::string name;
    /// "as is", "ln", "power 3", "levels, from spot", "pair", "as a curve with 4 knots".
    std::string entersAs;
    int degreesOfFreedom = 0;
    /// False for a term of the recipe that was looked at and is not in the model.
    bool chosen = true;
    /// F test of the term as a whole.
    double f = 0;
    double p = 0;
    /// Why there is no test; empty when there is one.
    std::string why;
    /// Of the test, its denominator.
    double denominatorDf = 0;
    /// GVIF^(1/df) (Fox and Monette 1992); the variance inflation factor where df = 1. Terms made of the same
    /// columns (a product and its parents, a column and its powers) are taken together and share it.
    double inflation = 0;
    /// Relative change of the held-out RMSE when the term is left out; NaN without held-out rows.
    double errorWithout = 0;
    /// Range of a number over the learning rows; NaN for factors and products.
    double lowest = 0;
    double highest = 0;
    /// What was taken off and divided by of a column that enters centred or standardised; NaN otherwise.
    double centre = 0, scale = 0;
    /// Effect at points from lowest to highest, the middle of the range at 0; levels in order for a factor.
    std::vector<double> shape;
    /// Where the learning rows lie, from lowest to highest in 24 equal cells, of at most about
    /// 20,000 evenly spaced rows; rows a level for a factor.
    std::vector<double> density;
};

/// An input of a model without coefficients, as the learning rows have it and as the model uses it.
struct InputEvidence {
    std::string name;
    bool factor = false;
    /// Levels of a factor.
    std::size_t levels = 0;
    /// Range of a number; NaN for a factor.
    double lowest = 0, highest = 0;
    /// Prediction, in the response's unit, at points from lowest to highest or at every level, the other
    /// inputs as usual (see usualValues).
    std::vector<double> shape;
    /// As in TermEvidence.
    std::vector<double> density;
    /// By how much the root mean squared error grows, as a share, when the column is shuffled over rows
    /// (Breiman 2001, "Random forests", Machine Learning 45, §10), and the standard error of its mean over
    /// shuffles.
    double importance = 0, importanceError = 0;
};

/// One value a row of the table; NaN where there is none.
struct RowEvidence {
    std::vector<RowState> state;
    /// Who left the row out: 0 nobody, -1 the analyst by hand, otherwise the number of the step, from 1.
    std::vector<LeftOutBy> leftOutBy;
    std::vector<double> actual;
    std::vector<double> fitted;
    std::vector<double> residual;
};

/// What only models with coefficients say of rows: one value a row of the table; NaN where there is none.
struct LinearRows {
    std::vector<double> leverage;
    /// Deleted (externally studentised) residual.
    std::vector<double> studentized;
    std::vector<double> cook;
    /// Weight a robust estimator gave the row, 0 to 1; empty for other estimators.
    std::vector<double> robustWeight;
};

/// What was found of a model with coefficients.
struct LinearEvidence {
    std::vector<CoefficientEvidence> coefficients;
    std::vector<TermEvidence> terms;
    LinearRows rows;
    double residualStandardDeviation = 0;
    double degreesOfFreedom = 0;
    double rSquared = 0;
    double adjustedRSquared = 0;
    double f = 0;
    double fDegreesOfFreedom = 0;
    double fP = 0;
    double fDenominatorDf = 0;
    std::string fWhy;
    double residualSumOfSquares = 0;
    double totalSumOfSquares = 0;
    double conditionNumber = 0;
    /// Decimal digits that the conditioning of the data leaves in the worst determined coefficient, and
    /// whether the fit was worked out to twice the precision, so that arithmetic takes none of them.
    double digitsLeft = 16;
    /// The same of the response: its spread beside its size.
    double responseDigitsLeft = 16;
    /// Residuals are no more than rounding: no errors, tests and intervals are given.
    bool fitsExactly = false;
    /// Learning rows that alone fix their fitted value, where the errors are made of residuals.
    std::size_t rowsFixed = 0;
    bool twicePrecision = false;
    double rankTolerance = 0;
    /// Groups or periods the errors of the coefficients were made over, and lags; 0 without.
    std::size_t errorUnits = 0;
    int errorLags = 0;
    /// Robust and quantile regression, without the weights of rows (see rows.robustWeight).
    std::optional<Iterated> iterated;
    /// See LinearModel::quantileFit.
    double quantileFit = 0;
    std::optional<Generalised> generalised;
    /// Least squares only, NaN otherwise. Compare fits of the same rows.
    double aicc = 0, bic = 0;
};

struct ForecastAnswers;

/// What the error grows by when some columns say nothing (see permutationImportance).
struct ImportanceLine {
    std::vector<std::string> columns;
    double increase = 0, spread = 0;
};
struct Importance {
    std::string of;
    std::size_t rows = 0;
    double rmse = 0;
    std::vector<ImportanceLine> lines;
};

struct Evidence {
    std::string response;
    double level = 0.95;
    std::size_t rowsRead = 0, rowsLearning = 0, rowsHeldOut = 0, rowsLeftOut = 0, rowsMissing = 0,
                rowsTest = 0;
    /// Held-out rows with a level no learning row has, which cannot be predicted.
    std::size_t heldOutUnpredicted = 0;
    /// Rows of weight 0: predicted, and nothing is learned from them.
    std::size_t rowsWeightless = 0;
    std::vector<std::pair<std::string, std::size_t>> missingByColumn;
    /// Cells and lines of the file that do not fit: how many, by column, and the first of them.
    std::size_t faultCount = 0;
    std::vector<std::pair<std::string, std::size_t>> faultsByColumn;
    std::vector<CellFault> faults;

    bool intercept = true;
    /// None unless the model has coefficients.
    std::optional<LinearEvidence> linear;
    /// Of models without coefficients, one an input; the terms say it otherwise.
    std::vector<InputEvidence> inputs;
    /// What the model says of itself.
    std::vector<NamedNumber> says;
    /// Residuals, coefficients, effects and sums of squares are those of ln(response); scores, fitted values
    /// and forecasts are not: they are carried back, exp times `smearing`.
    bool logResponse = false;
    /// Whether coefficients are of a logarithm: of the response, or of its mean.
    bool inLogs() const;
    double smearing = 1;
    /// Columns of the weights and the offset; empty without.
    std::string weight, offset;

    Scores learning;
    Scores heldOut;
    /// Held-out rows but for those that a step would have left out of learning, which are judged all the
    /// same; none when there are no such rows.
    std::optional<Scores> heldOutKept;
    /// Of models that predict their own learning rows better than others by their making: evenly spaced
    /// learning rows, each predicted from the others.
    std::optional<Scores> leftOneOut;
    /// Only when somebody asked to look at it.
    std::optional<Scores> test;
    /// What models say that learned without the rows they are judged by; null without, and until it is worked
    /// out.
    std::shared_ptr<const FoldEvidence> folds;
    /// Why the folds could not be judged; empty otherwise.
    std::string foldsProblem;
    /// What each step of the recipe did and learned, and what each part holds.
    std::vector<StepOutcome> steps;
    std::vector<PartSummary> parts;
    RowEvidence rows;
    /// One for each of checks(), and what they found together with the goads of the rows, the recipe and the
    /// folds: see gatherFindings.
    std::vector<CheckOutcome> checks;
    /// What the recipe said of the checks when they ran.
    std::map<std::string, CheckSetting> checkSettings;
    std::vector<Reading> readings;
    std::vector<Goad> goads;
    std::optional<ForecastEvidence> forecast;
    /// Empty unless it was asked for.
    Importance importance;
    /// What the recipe asks of the forecast beside the predictions of rows; null without a forecast.
    std::shared_ptr<const ForecastAnswers> answers;
    /// What was learned, for predictions, effects and further questions.
    std::shared_ptr<const Study> study;
};

/// The form documented in docs/evidence.md, without the rows. Numbers read back exactly; NaN is null.
std::string evidenceText(const Evidence& evidence, const Recipe& recipe);

} // namespace oxgoad
