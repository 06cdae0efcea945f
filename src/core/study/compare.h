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

/// Requires evidence of the same table and response. Both fits are scored against the mean of the first one's
/// learning rows. Scores of no rows are NaN.
Comparison compareHeldOut(const Evidence& first, const Evidence& second);

} // namespace oxgoad
