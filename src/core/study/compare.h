#pragma once
// Two fits judged on the same rows.
#include "study/evidence.h"

namespace oxgoad {

/// Scores of two fits on the rows that both hold out and both predict: what one leaves out does not make it
/// better.
struct Comparison {
    Scores first;
    Scores second;
};

/// Requires evidence of the same table and response. Both fits are scored against the mean of the first one's
/// learning rows. Scores of no rows are NaN.
Comparison compareHeldOut(const Evidence& first, const Evidence& second);

} // namespace oxgoad
