#pragma once
// Several fits on the same rows: every score on every part, coefficients on a common scale, money, and where
// their predictions differ.
#include "study/say.h"

#include <memory>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// Fits judged by the folds and the rows set aside of the first one: those that are not are made anew,
/// without their forecast. One recipe a fit; `before`, rows prepared by one of them, saves work. Errors:
/// those of evaluate(). Throws Stopped.
std::vector<std::shared_ptr<const Evidence>>
judgedAlike(std::span<const std::shared_ptr<const Evidence>> fits, std::span<const Recipe> recipes,
            const StudyRows& rows, const PreparedRows* before, Threads threads, Progress& progress);

/// Scores of one fit on one part, in the response's natural unit. NaN where it cannot be said.
struct PartScores {
    /// "learning", "held out", "out of fold", "test".
    std::string part;
    std::size_t rows = 0;
    double rmse = 0, mae = 0, medianError = 0, rSquared = 0;
    /// See Scores.
    double relativeAbsolute = 0, relativeSquared = 0;
};
/// Parts that have rows, in the order above; test rows only where somebody looked.
std::vector<PartScores> partScores(const Evidence& evidence);

/// Size of the model: coefficients, effective degrees of freedom, what the kind says first.
struct Complexity {
    std::string what;
    double value = 0;
};
Complexity complexityOf(const Evidence& evidence);

/// What the typical absolute error on unseen rows (out of fold, otherwise held out) comes to over the rows to
/// be forecast: mae · rows, and a year of it where a date says how long they last. NaN without either. Errors
/// of single rows are added, as when each is a decision of its own; those of a total cancel in part.
struct MoneyAtStake {
    double onForecast = 0, aYear = 0;
    std::size_t rows = 0;
    /// "504 rows in 12 months"; empty without rows to be forecast.
    std::string over;
};
/// `forecast` is the evidence whose rows to be forecast count.
MoneyAtStake moneyAtStake(const Evidence& evidence, const Evidence& forecast);

/// A coefficient of every fit that has it, per standard deviation of its column (an indicator: from 0 to 1),
/// and its standard error; NaN where a fit has none. Fits in logarithms say the change of the logarithm.
struct CommonCoefficient {
    std::string name;
    std::vector<double> estimates, errors;
};
/// Without the intercept; those of the largest size in any fit first.
std::vector<CommonCoefficient> commonCoefficients(std::span<const Compared> fits);

/// A row where predictions of fits lie far apart.
struct DifferingRow {
    std::size_t row = 0;
    /// Largest less smallest.
    double spread = 0;
    double actual = 0;
    std::vector<double> predictions;
};
/// The `most` rows that all fits predict with the largest spread, first rows first among equals: predictions
/// out of fold where every fit has them, otherwise fitted ones. Test rows are not among them.
std::vector<DifferingRow> differMost(std::span<const Compared> fits, std::size_t most);

} // namespace oxgoad
