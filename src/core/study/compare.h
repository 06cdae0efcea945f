#pragma once
// Two fits judged on the same rows.
#include "study/evidence.h"

namespace oxgoad {

/// Scores of two fits on the rows that both hold out and both predict: what one leaves out does not make it
/// better.
struct Comparison {
    Scores first;
    Scores second;
    /// RMSE of the second less that of the first, and its standard error from the paired squared errors
    /// (delta method).
    double difference = 0;
    double differenceError = 0;
};

/// Two fits judged by folds, over the rows that both have a prediction out of fold of. NaN and 0 without.
struct FoldComparison {
    std::size_t rows = 0;
    /// RMSE over those rows.
    double first = 0, second = 0;
    /// Second less first, and its standard error from the paired squared errors, which takes rows for
    /// independent.
    double difference = 0, differenceError = 0;
    /// Folds that both were dealt alike, and in how many of them the second is better; 0 where the dealings
    /// differ.
    std::size_t folds = 0, betterFolds = 0;
};
FoldComparison compareFolds(const Evidence& first, const Evidence& second);

/// Requires evidence of the same table and response. Both fits are scored against the mean of the first one's
/// learning rows. Scores of no rows are NaN.
Comparison compareHeldOut(const Evidence& first, const Evidence& second);

} // namespace oxgoad
