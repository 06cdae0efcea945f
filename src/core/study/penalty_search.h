#pragma once
// How strong a penalty should be: a path of penalties, and the error of each over folds.
#include "base/not_a_number.h"
#include "estimate/model_kind.h"
#include "recipe/recipe.h"
#include "table/table.h"

#include <Eigen/Core>

#include <memory>
#include <string>
#include <vector>

namespace oxgoad {

/// One penalty and share: the model of all learning rows, and what folds say of it.
struct PenaltyPoint {
    double l1Share = 1, penalty = 0;
    /// In the response's unit squared: the mean over folds of each fold's mean squared error, and its
    /// standard error as FoldEvidence::standardError; NaN where nothing was judged.
    double meanOfFoldMse = 0, standardError = 0;
    /// Columns whose coefficient is not 0.
    std::size_t kept = 0;
    double dualityGap = 0;
    /// One a column of the design, in natural units.
    Eigen::VectorXd coefficients;
    double constant = 0;
    /// Of a detailed search. Mean squared error of the learning rows, in the response's unit squared; the
    /// mean over folds and its standard error of least squares of the columns that each fold keeps, NaN where
    /// it keeps more than 300 or as many as rows; and the share of folds that keep each column.
    double learningMse = nan, relaxedMse = nan, relaxedError = nan;
    std::vector<float> keptShare{};
};

struct PenaltySearch {
    /// The estimator with the numbers that were found.
    Settings settings;
    /// Names of the columns of the design.
    std::vector<std::string> columns;
    /// By share, and penalties from the largest down.
    std::vector<PenaltyPoint> points;
    std::size_t chosen = 0, smallest = 0;
    /// "10 folds, seed 1"; empty when nothing was judged.
    std::string judgedBy;
    /// Something to know of how it was judged: other folds than the recipe's, a grid that was widened.
    std::string note;
    /// The choice lies at an end of the penalties that the recipe gives.
    bool atEdge = false;
    std::size_t folds = 0;
    /// Folds that a stop left; as many as there are otherwise.
    std::size_t foldsDone = 0;
    bool stopped() const { return foldsDone < folds; }
    /// Term of the recipe that each column belongs to, and its standard deviation over the learning rows: a
    /// coefficient times it is one per standard deviation.
    std::vector<std::size_t> terms;
    std::vector<double> deviations;
    bool detailed = false;
};

/// The path of the recipe's estimator over its learning rows, judged by its folds where `judge` is true or
/// something is to be found; 10 folds, seed 1, where the recipe names none, and where its folds cannot be
/// dealt among these rows. The columns are learned from all rows (they do not look at the response);
/// standardising, adaptive factors and coefficients anew in every fold: from sums over cells of rows where
/// the rows outnumber the columns. The penalty is that of the smallest error, or the largest whose error is
/// at most that plus its standard error (Breiman, Friedman, Olshen and Stone 1984, "Classification and
/// regression trees", §3.4.3). A choice at the end of a grid of the program's own making widens the grid.
/// Requires a penalised estimator. Errors: those of the kind. A stop that may be served (see Progress) keeps
/// the folds done, two at least, and says so; otherwise throws Stopped. The same for any number of threads.
std::shared_ptr<const PenaltySearch> searchPenalty(const Recipe& recipe, const Table& table,
                                                   const TrainingData& training, bool judge,
                                                   Progress& progress);

/// A search and the model of all learning rows at what it found.
struct SoughtModel {
    std::shared_ptr<const PenaltySearch> search;
    FitResult fit;
};
/// Of a recipe with something to be found, by the rows and sums of the search. As searchPenalty.
SoughtModel learnSought(const Recipe& recipe, const Table& table, const TrainingData& training,
                        Progress& progress);

/// The same search with the models of all rows to all digits, where the search, which only needs to know
/// which is best, stopped at a few (see PathDigits).
std::shared_ptr<const PenaltySearch> refinedSearch(const PenaltySearch& search, const Recipe& recipe,
                                                   const Table& table, const TrainingData& training,
                                                   Progress& progress);

/// A refined search with what PenaltyPoint says of a detailed one.
std::shared_ptr<const PenaltySearch> detailedSearch(const PenaltySearch& search, const Recipe& recipe,
                                                    const Table& table, const TrainingData& training,
                                                    Progress& progress);

/// path_folds.csv of a detailed search: penalty, l1_share, learning_mse, relaxed_mean_of_fold_mse,
/// relaxed_standard_error, then the share of folds that keep each column.
std::string pathFoldsCsv(const PenaltySearch& search);

/// path.csv: penalty, l1_share, mean_of_fold_mse, standard_error, kept, duality_gap, intercept, then a
/// coefficient each by the name of its column.
std::string pathCsv(const PenaltySearch& search);

} // namespace oxgoad
