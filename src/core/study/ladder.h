#pragma once
// How the prediction of one row comes about.
#include "study/effects.h"

#include <cstdint>
#include <string>
#include <vector>

namespace oxgoad {

/// A step of the ladder from the mean prediction to that of the row.
struct Contribution {
    /// A term; a column for a model without coefficients.
    std::string name;
    /// "list_rate 14.95, contract annual".
    std::string values;
    /// On the model's scale: a logarithm where the fit is one.
    double amount = 0;
};

struct Ladder {
    /// Mean over the learning rows, from which the ladder starts, the offset of the row, and the end without
    /// it: on the model's scale.
    double start = 0, offset = 0, end = 0;
    std::vector<Contribution> steps;
};

/// Of a complete row of a prepared table that `bound` is bound to; `usual` as of usualValues. A step for each
/// term of models with coefficients: the coefficient times its distance from the mean of the learning rows.
/// For models that say what each column adds (Contributions) that. Otherwise columns are moved one after the
/// other from their usual values to the row's, in the order of the inputs.
Ladder ladderOf(const Study& study, const std::vector<HeldValue>& usual, const Table& table,
                const std::string& file, const BoundModel& bound, std::uint32_t row);

} // namespace oxgoad
