#pragma once
// A setting of a kind of model found by folds, for any kind; and how what is found by folds is judged.
#include "base/not_a_number.h"
#include "check/checks.h"
#include "estimate/model_kind.h"
#include "forecast/prediction.h"
#include "recipe/recipe.h"
#include "resample/folds.h"
#include "study/study.h"
#include "table/table.h"

#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

/// The recipe's folds among some learning rows, or ten, seed 1, where it names none or they cannot be dealt
/// there.
struct InnerDealing {
    std::optional<Dealing> dealing; ///< none for fewer than four rows
    FoldPlan plan;
    std::string judgedBy; ///< "10 folds, seed 1"
    /// Why these are not the recipe's; empty when they are.
    std::string why;
};
/// `leaveOneOut` is whether that many models can be asked for. Weights: rows of weight 0 are in no fold.
InnerDealing dealWithin(const Recipe& recipe, const Table& table, const TrainingData& training,
                        bool leaveOneOut);

/// Mean of the folds' mean squared errors, and its standard error: from the spread between the folds of a
/// repeat, pooled over repeats. NaN among them are folds that said nothing.
std::pair<double, double> spreadOfFolds(std::span<const double> mse, std::size_t foldsPerRepeat);

struct TuningPoint {
    double value = 0;
    /// In the response's unit squared; NaN where no fold could say.
    double meanOfFoldMse = nan, standardError = nan;
    /// Of the learning rows, and of rows held out and of the test, which chose nothing; NaN where it was not
    /// worked out.
    double learningMse = nan, heldOutMse = nan, testMse = nan;
};

/// How a field of the settings was found.
struct Tuning {
    /// Its key, and what the window calls it.
    std::string field, label;
    /// The settings with the value that was found.
    Settings settings;
    /// From the value that follows the rows least.
    std::vector<TuningPoint> points;
    std::size_t chosen = 0, smallest = 0;
    std::string judgedBy, note;
    std::size_t folds = 0;
};

/// The errors of all values as they are drawn: roots of mean squares over the size of the model, or the value
/// itself for kinds that do not say how large a model is.
struct TuningDrawn {
    std::string sizeName;
    std::vector<double> size, folds, low, high, learning, heldOut, test;
    /// Places: the value taken, that of the smallest error, the simplest within one standard error of it.
    std::size_t taken = 0, smallest = 0, simplest = 0;
    std::string says;
};
/// Requires a study whose setting was found.
TuningDrawn drawnTuning(const Study& study);

/// The study with the errors of test rows beside each value that was tried, where all cost little more than
/// one. Whoever asks looks at the test. Throws Stopped.
std::shared_ptr<const Study> withTestErrors(std::shared_ptr<const Study> study, const PreparedRows& prepared,
                                            std::span<const std::uint32_t> test, Threads threads,
                                            Progress& progress);

/// Finds the field that the settings leave to be found: in every fold a model of each value, learned from
/// that fold's learning rows alone, judged on the response's scale; or, where the rule says so
/// (onHeldOutRows) and there are any, by `heldOut`, rows of the table that nothing here learns from. With
/// nothing to judge by, the value that follows the rows least. Errors: those of the kind; tooFewRows when no
/// value can be learned. Throws Stopped. The same for any number of threads.
std::shared_ptr<const Tuning> tuneByFolds(const Recipe& recipe, const Table& table,
                                          const TrainingData& training,
                                          std::span<const std::uint32_t> heldOut, Progress& progress);

/// Finds the field again with folds dealt with the next `count` seeds, each value judged in all of them.
/// Requires a study whose tuning is by folds that a seed deals; otherwise, or where it would take long, says
/// why not. Throws Stopped.
SettingSeeds tuneWithOtherSeeds(const Recipe& recipe, const PreparedRows& prepared, const Study& study,
                                std::size_t count, Threads threads, Progress& progress);

/// How predictions follow from what was learned of the rows: the link with its smearing, the spread,
/// intervals. `weights` are those of the learning rows.
PredictionRule ruleOf(const Recipe& recipe, const ModelKind& kind, const FitResult& fit,
                      std::span<const double> weights);

/// tuning.csv: value, mean_of_fold_mse, standard_error, held_out_mse.
std::string tuningCsv(const Tuning& tuning);

} // namespace oxgoad
