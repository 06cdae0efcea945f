#pragma once
// The checks a fit has to answer. One file a check; checks.cpp lists them.
#include "base/progress.h"
#include "design/design.h"
#include "estimate/least_squares.h"
#include "ledger/goad.h"
#include "reach/reach.h"
#include "resample/parts.h"

#include <span>
#include <string>
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

/// Everything a check may read. References outlive the call.
struct CheckContext {
    const Table& table;
    const BoundDesign& design;
    const LeastSquaresFit& fit;
    /// Rows of the table the fit learned from, in the order of fit.residuals.
    std::span<const std::uint32_t> learningRows;
    std::span<const CheckedTerm> terms;
    /// Studentised (deleted) residuals and Cook's distances of the learning rows.
    std::span<const double> studentized;
    std::span<const double> cooks;
    /// Rows held out, and actual minus predicted there.
    std::span<const std::uint32_t> heldOutRows;
    std::span<const double> heldOutErrors;
    const Scores& learning;
    const Scores& heldOut;
    std::string response;
    /// Weights of the learning rows; empty without.
    std::span<const double> weights;
    /// Errors of the coefficients stand unequal spread; the estimator stands outliers; the fit is one of
    /// logarithms; there are rows to forecast, whose intervals need an even spread.
    bool robustToSpread = false;
    bool robustToOutliers = false;
    bool logResponse = false;
    bool forecasts = false;
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

/// Runs every check, in a fixed order.
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
/// Held-out rows by their error over the residual standard deviation, adjusted in the same way.
void checkOutlyingRows(const CheckContext& context, Findings& findings);
/// Held-out error above the learning error by more than 10 % and two standard errors (common practice).
void checkOverfit(const CheckContext& context, Findings& findings);
/// Levels in use with fewer than 10 learning rows (common practice, no source).
void checkRareLevels(const CheckContext& context, Findings& findings);
/// Rows to be forecast that are outside what was learned from. Any such row.
void checkReach(const CheckContext& context, Findings& findings);

} // namespace oxgoad
