#pragma once
// The kind of model whose coefficients a penalty holds back.
#include "design/held_rows.h"
#include "estimate/model_kind.h"
#include "estimate/penalised/penalised_path.h"

#include <string>
#include <vector>

namespace oxgoad {

/// Settings: `l1_share`, `penalty`, `penalties` (a grid for the search), `standardise`, `adaptive`,
/// `grouped`, `unpenalised`, `rising`, `falling` (names of terms) and `factors` (pairs of a term and its
/// factor). See PenaltyOptions for what is minimised. A penalty or share that is to be found is found by the
/// folds of the recipe before the kind learns.
ModelKind penalisedKind();

/// Whether the penalty or the share is to be found.
bool isSought(const Settings& settings);

/// The rows of a training by the design learned from them; outlived by the training.
struct PenalisedRows {
    Design design;
    BoundDesign bound;
    HeldRows rows;
    explicit PenalisedRows(const TrainingData& training);
    PenalisedRows(const PenalisedRows&) = delete;
    PenalisedRows& operator=(const PenalisedRows&) = delete;
};

/// The options of one share for the columns of a design. Errors (badTerm): a name that is no term of the
/// model, a term that may neither rise nor fall, a factor that is no number of 0 or more, no term that is
/// penalised, a term of several columns that is to rise or fall, adaptive groups.
PenaltyOptions penaltyOptions(const Settings& settings, double l1Share, const Design& design,
                              const TrainingData& training);

/// What `penalisedKind().learn` does, for rows and their problem that are there already. Errors: those of the
/// kind. Throws Stopped.
FitResult learnPenalised(const Settings& settings, const TrainingData& training, const PenalisedRows& x,
                         const PenalisedProblem& problem, Progress& progress);

/// Factors of the adaptive lasso (Zou 2006, Journal of the American Statistical Association 101) with
/// exponent 1: one over the size of a first estimate, by least squares where the rows hold it, otherwise by
/// ridge regression; a column whose first estimate is 0 is kept out. Nothing unless asked for.
void adaptFactors(const Settings& settings, const PenalisedProblem& problem, PenaltyOptions& options,
                  Progress& progress);

} // namespace oxgoad
