#pragma once
// Is one fit really better than another? Every pair of several fits on the same rows and folds.
#include "study/compare.h"
#include "study/say.h"

#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// What is compared: of the response's unit, squared for mse.
enum class Measure { rmse, mse, mae };
/// "rmse", "mse", "mae".
std::string_view measureName(Measure measure);

/// Two fits by one measure. NaN and 0 where nothing can be said.
struct PairComparison {
    std::size_t first = 0, second = 0;
    Measure measure = Measure::rmse;
    /// Mean over folds of the first, and of second less first; of held-out rows the whole of them.
    double ofFirst = 0, difference = 0;
    double standardError = 0, lower = 0, upper = 0;
    std::size_t folds = 0, foldsBetter = 0;
    /// Second less first, fold by fold.
    std::vector<double> byFold;
    /// "10 folds, seed 1", "432 held-out rows"; empty where nothing is compared.
    std::string judgedBy;
    std::string says;
};

/// All pairs by all measures, first before second. Fits that are judged by folds dealt alike, of the same
/// judged rows, are compared fold by fold: the variance of the mean difference over J folds is that of the
/// differences times 1/J + n₂/n₁, for n₂ judged and n₁ learning rows, with J − 1 degrees of freedom, since
/// folds share the rows that they learn from (Nadeau and Bengio 2003, "Inference for the generalization
/// error", Machine Learning 52). Otherwise row by row, of the rows that both hold out and predict, or predict
/// when each is left out: the paired t interval of the mean difference, of root mean squares by the delta
/// method (Diebold and Mariano 1995, Journal of Business & Economic Statistics 13, with small samples' t:
/// Harvey, Leybourne and Newbold 1997). `level` is that of the interval. A difference whose interval leaves
/// out 0 is beyond what chance explains; one of more than its standard error is said to be likely, not
/// certain (common practice, no source). Throws Stopped.
std::vector<PairComparison> comparePairs(std::span<const Compared> fits, double level, Progress& progress);

/// The corrected standard error of a mean over folds: `ratio` is judged over learning rows.
double correctedFoldError(std::span<const double> differences, double ratio);

/// comparison.json: `fits` with estimator, scores on every part, complexity and open goads; `pairs` as above.
std::string comparisonJson(std::span<const Compared> fits, std::span<const PairComparison> pairs);

} // namespace oxgoad
