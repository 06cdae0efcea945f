#pragma once
// What a forecast would be if its trend did not go on as it did.
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <optional>
#include <string>

namespace oxgoad {

struct DampedTrend {
    /// The column of time, and what of each period's step is left in the next.
    std::string column;
    double phi = 0.9;
    /// Rows beyond the last time learned from, and the sum of all predictions, as it is and damped.
    std::size_t rows = 0;
    double total = 0, damped = 0;
    std::string says;
};

/// Of models with coefficients in which a date or a year enters as a trend (not as a wave): every period
/// beyond the last adds φ times the step of the one before (Gardner and McKenzie 1985, Management Science
/// 31); seasons stay where they are. None without such a term or such rows.
std::optional<DampedTrend> dampedTrend(const Evidence& evidence, const PreparedRows& prepared,
                                       const std::string& file, Progress& progress);

} // namespace oxgoad
