#pragma once
// The checks a model has to answer. One file a check; checks.cpp lists them with what they need.
#include "base/progress.h"
#include "estimate/linear/linear_model.h"
#include "reach/reach.h"
#include "recipe/recipe_edits.h"
#include "resample/parts.h"
#include "table/table.h"

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

/// What only a model with coefficients has.
struct CheckedLinear {
    const LinearModel& model;
    const BoundDesign& design;
    /// Of the learning rows, in their order, on the model's scale.
    const Eigen::VectorXd& residuals;
    std::span<const CheckedTerm> terms;
    /// Studentised (deleted) residuals and Cook's distances of the learning rows.
    std::span<const double> studentized;
    std::span<const double> cooks;
};

/// Everything a check may read. References outlive the call.
struct CheckContext {
    const Table& table;
    const BoundInputs& inputs;
    const std::vector<Term>& terms;
    const ModelKind& kind;
    /// Null for other kinds.
    const CheckedLinear* linear = nullptr;
    /// Rows of the table the model learned from.
    std::span<const std::uint32_t> learningRows;
    /// Standard deviation of single values about the model, on its scale, and its degrees of freedom.
    double spread = 0, spreadDegreesOfFreedom = 0;
    /// Rows held out, and actual minus predicted there.
    std::span<const std::uint32_t> heldOutRows;
    std::span<const double> heldOutErrors;
    /// Of learning rows; where a model predicts them by themselves, of those left out one at a time.
    Scores learning;
    bool learnedWithoutItself = false;
    Scores heldOut;
    std::string response;
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
    /// Grades of the rows to be forecast; empty without a forecast.
    std::span<const Reach> reach;
    Threads threads;
    /// Asked whether to stop; never null.
    Progress* progress = nullptr;
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
};

struct Check {
    /// The readings it makes.
    std::vector<std::string_view> readings;
    unsigned needs = needsNothing;
    void (*run)(const CheckContext&, Findings&);
};

/// Every check, in the order of the goads.
const std::vector<Check>& checks();

/// Runs every check whose needs are met; of the others each reading is there without a value and says why.
Findings runChecks(const CheckContext& context);

/// Rows lost because values of columns in use are missing. Threshold 5 % of rows (common practice, no
/// source).
void checkMissingValues(const CheckContext& context, Findings& findings);
/// Cells of columns in use that could not be read. Any such cell.
void checkMisfits(const CheckContext& context, Findings& findings);
/// Columns that depend exactly on others, and variance inflation above 5 (Belsley, Kuh and Welsch 1980,
/// "Regression diagnostics"; factor terms by Fox and Monette 1992).
void checkCollinearity(const CheckContext& context, Findings& findings);
/// Unequal spread by the studentised Lagrange multiplier test (Koenker 1981), p below 0.01.
void checkSpread(const CheckContext& context, Findings& findings);
/// The largest studentised residual by Student's t with Bonferroni's adjustment, p below 0.01 (Cook and
/// Weisberg 1982, "Residuals and influence in regression", §2.2.2); then Cook's distance above 1 (Cook 1977).
void checkOutlyingRows(const CheckContext& context, Findings& findings);
/// Held-out rows by their error over the spread, adjusted in the same way.
void checkHeldOutRows(const CheckContext& context, Findings& findings);
/// Held-out error above the learning error by more than 10 % and two standard errors (common practice).
void checkOverfit(const CheckContext& context, Findings& findings);
/// Levels in use with fewer than 10 learning rows (common practice, no source).
void checkRareLevels(const CheckContext& context, Findings& findings);
/// Rows to be forecast that are outside what was learned from. Any such row.
void checkReach(const CheckContext& context, Findings& findings);

} // namespace oxgoad
