#pragma once
// Would more rows help, or more terms? Errors against the number of rows learned from.
#include "study/judge.h"

#include <functional>
#include <string>
#include <vector>

namespace oxgoad {

/// Learned from so many rows a fold. Errors are RMSE in the response's unit: roots of means over folds of
/// mean squared errors.
struct LearningPoint {
    std::size_t rows = 0;
    /// Of the rows learned from, and of the fold's judged ones with its standard error.
    double learning = 0, unseen = 0, unseenError = 0;
    /// Rows over the coefficients of the whole model; NaN for models without any.
    double rowsPerCoefficient = 0;
    std::size_t folds = 0;
};

struct LearningCurve {
    std::vector<LearningPoint> points;
    /// "10 folds, seed 1".
    std::string judgedBy;
    /// Sizes that could not be learned from, and why.
    std::string notSelected;
    bool stopped = false;
    std::string says;
};

/// Eight sizes in equal steps of their logarithm up to all learning rows of a fold; each fold of the recipe
/// (10 folds, seed 1, where it names none) learns everything anew from so many of its rows, drawn so that
/// fewer are among more (Perlich, Provost and Simonoff 2003, "Tree induction vs. logistic regression: a
/// learning-curve analysis", Journal of Machine Learning Research 4; Viering and Loog 2023, "The shape of
/// learning curves", IEEE Transactions on Pattern Analysis and Machine Intelligence 45). Any kind of model.
/// Errors: those of judgeByFolds where not even all rows can be judged. A stop keeps the sizes done, largest
/// first; throws Stopped before the first. The same for any number of threads.
LearningCurve learningCurve(const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
                            const std::shared_ptr<const Study>& whole, Threads threads, Progress& progress,
                            const std::function<void(const LearningCurve&)>& soFar = {});

/// learning_curve.csv: rows, learning_rmse, unseen_rmse, standard_error, rows_per_coefficient, folds.
std::string learningCurveCsv(const LearningCurve& curve);

} // namespace oxgoad
