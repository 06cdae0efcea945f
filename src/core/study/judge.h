#pragma once
// Every error with its spread: models learned anew without the rows they are judged by.
#include "base/parallel.h"
#include "base/progress.h"
#include "recipe/recipe.h"
#include "resample/folds.h"
#include "study/prepare_rows.h"
#include "study/study.h"

#include <cstdint>
#include <functional>
#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// What one fold found. Errors are in the response's unit.
struct FoldScore {
    /// Its number from 1, the value of its column, its periods, or its row.
    std::string fold;
    std::size_t repeat = 0;
    std::size_t rows = 0;
    double mse = 0, rmse = 0, mae = 0;
    /// Of the response of its judged rows.
    double mean = 0;
    /// Names of the terms in its model.
    std::vector<std::string> chosen;
    Settings settings;
};

/// A level that judged rows of a fold have and its learning rows have not.
struct UnseenLevel {
    std::string fold, column, level;
    /// The rows of the table, from 0.
    std::vector<std::uint32_t> rows;
};

/// Of the bootstrap; mean squared errors (Efron and Tibshirani 1997, "Improvements on cross-validation: the
/// .632+ bootstrap method", Journal of the American Statistical Association 92).
struct BootstrapErrors {
    /// Of rows by models that did not draw them, a row's errors over draws first; .632 of it and .368 of the
    /// learning error; and the same with the weight that the relative overfitting asks for.
    double outOfBag = 0, plain632 = 0, plus632 = 0;
    /// Every response against every prediction.
    double noInformation = 0;
    /// From 0 to 1, and the weight of outOfBag that follows.
    double overfitting = 0, weight = 0;
};
BootstrapErrors bootstrapErrors(double learningMse, double outOfBag, double noInformation);

/// A repeat: its seed and its error.
struct RepeatScore {
    std::uint64_t seed = 0;
    double mse = 0, rmse = 0;
    /// Of its folds, over the root of their number.
    double standardError = 0;
};

/// What all folds found. NaN where it cannot be said.
struct FoldEvidence {
    FoldPlan plan;
    /// Folds over all repeats, and how many of them were judged before a stop.
    std::size_t asked = 0, done = 0;
    /// Rows judged, each counted once.
    std::size_t rows = 0;
    /// Over rows, repeats and draws; of the bootstrap a row's errors over draws first.
    double mse = 0, rmse = 0, mae = 0;
    /// 1 less the squared error over that of each fold's own learning mean.
    double rSquared = 0;
    double meanOfFoldMse = 0;
    /// Of it: standard deviation over folds with divisor k − 1, over √k; of several repeats the root of the
    /// mean of its square, since dealing again brings no new rows. It takes the folds for independent, which
    /// they are not: there is no unbiased estimate of the spread (Bengio and Grandvalet 2004, "No unbiased
    /// estimator of the variance of k-fold cross-validation", Journal of Machine Learning Research 5).
    double standardError = 0;
    /// Of rmse, by the same; NaN for the bootstrap, whose draws are all of the same rows.
    double rmseError = 0;
    /// Bias-adjusted (Davison and Hinkley 1997, "Bootstrap methods and their application", §6.4.1): mse, plus
    /// the learning error of the whole fit, less the mean over folds, by their judged rows, of the error of a
    /// fold's model over all learning rows. Said of plans that judge every row by models of the others.
    double adjustedMse = 0;
    /// Of the whole fit over its own learning rows.
    double learningMse = 0;
    /// Mean over folds of the mean squared error of a fold's model over the rows it learned from; NaN where
    /// folds are not fitted one by one.
    double foldLearningMse = std::numeric_limits<double>::quiet_NaN();
    /// Empty for leave one out.
    std::vector<FoldScore> each;
    /// One where the rows are dealt once.
    std::vector<RepeatScore> repeats;
    /// Standard deviation of rmse over repeats, divisor r − 1.
    double spreadOverRepeats = 0;
    std::optional<BootstrapErrors> bootstrap;
    /// Judged rows with levels that a fold had not learned: predicted as the mean over the levels it has
    /// learned, each as often as it learned it.
    std::vector<UnseenLevel> unseen;
    std::size_t unseenRows = 0;
    /// Rows that lack a value or where a term is not defined, a fold at a time: not judged.
    std::size_t unpredicted = 0;
    /// Rows without a value of the column the folds go by.
    std::size_t withoutValue = 0;
    /// One a row of the table, in the response's unit; NaN where it was not judged. With repeats or draws the
    /// mean of its predictions.
    std::vector<double> outOfFold;
    /// The number of the fold (of the first repeat, from 0) that judged the row; -1 for none.
    std::vector<std::int32_t> foldOf;
    /// Relative change of rmse when a term is left out of every fold's model, one a term of the recipe; least
    /// squares in one pass only, otherwise empty. NaN where it cannot be said.
    std::vector<double> errorWithout;
    /// Share of the models that each term of the recipe is in, where terms are chosen: names and shares.
    std::vector<std::pair<std::string, double>> chosenShares;

    bool partial() const { return done < asked; }
};

struct JudgeOptions {
    Threads threads{};
    /// What was learned of all learning rows; learned here when null.
    std::shared_ptr<const Study> whole{};
    /// Every fold is fitted anew, whatever could be had otherwise: for tests.
    bool refit = false;
    /// Every fold learns from so many of its learning rows, drawn at random, those of fewer among those of
    /// more; 0 for all. Each fold is fitted anew then.
    std::size_t learnFrom = 0;
    /// Rows that teach no fold and are judged as they are dealt: what it would be to learn without them. Each
    /// fold is fitted anew then.
    std::vector<std::uint32_t> withheld{};
    /// Only so many folds from this one (from 0) are judged, each fitted anew, and nothing is said of a fit
    /// of all rows; 0 for all folds.
    std::size_t first = 0, count = 0;
    /// Called now and then with what the folds found so far.
    std::function<void(const FoldEvidence&)> soFar{};
};

/// Judges the recipe by its folds; requires recipe.judge. Dealt are the learning rows that have a response
/// and a weight above 0 and that nobody left out by hand, those that a step leaves out among them: they are
/// judged and teach nothing. In each fold steps, terms that are chosen, levels, means, knots and the model
/// are learned anew from its learning rows alone; rows without a response teach its steps nothing. Least
/// squares of rows that nothing else is learned of takes the folds from cross products in the orthonormal
/// basis of the whole fit, and leaving out one row from e / (1 − h) (Allen 1974, "The relationship between
/// variable selection and data augmentation", Technometrics 16), which equal refits. A step that looks back
/// at the response goes with rolling origin only, whose judged responses are hidden from it. A stop after the
/// first fold keeps the folds done. Errors: those of dealRows, and what a fold's rows are too few or too
/// alike for, with the fold's name (tooFewRows, badTerm); badParts for a look back at the response. Throws
/// Stopped. The same for any number of threads.
FoldEvidence judgeByFolds(const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
                          const JudgeOptions& options, Progress& progress);

/// Throws what judgeByFolds would throw before its first fold.
void requireJudgeable(const Recipe& recipe, const PreparedRows& prepared, const std::string& file);

/// The rows that folds deal, in order.
std::vector<std::uint32_t> rowsToDeal(const Recipe& recipe, const PreparedRows& prepared,
                                      const std::string& file);

/// True when judging takes one pass over the rows, so that it is quick beside the fit.
bool judgesInOnePass(const Recipe& recipe, const Study& whole);

} // namespace oxgoad
