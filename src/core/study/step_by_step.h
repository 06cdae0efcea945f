#pragma once
// Forecasts whose steps look back at the response: what is predicted of a period feeds the periods after it.
#include "forecast/forecast.h"
#include "study/prepare_rows.h"
#include "study/study.h"

#include <optional>
#include <vector>

namespace oxgoad {

struct SteppedRows {
    /// Rows to be forecast after the steps, with predictions where the response was not known yet.
    Prepared prepared;
    /// On the model's scale: how much what was fed in varies, as a standard deviation of each row; empty
    /// where there were too many rows to simulate.
    std::vector<double> spread;
    /// Of each simulated path and row: the value, and what its own residual is of it, in the response's unit.
    std::vector<std::vector<double>> values, own;
    std::size_t paths = 0;
    /// "what is predicted of a month feeds those after it; 200 paths"; of intervals.
    std::string says;
};

/// Nothing where no step looks back at the response, no row lacks it, or the rows have not the column of the
/// time. Periods are taken in their order; a row's response is its prediction once its period is done. Paths
/// add a residual of the learning rows to each prediction, drawn with the recipe's seed for it (1): up to 200
/// paths, as many as 2·10⁷ prepared rows allow, none below 50. Coefficients stay as they are: their
/// uncertainty is in the intervals already. Throws Stopped.
std::optional<SteppedRows> stepThrough(const Study& study, const Recipe& recipe, const PreparedRows& prepared,
                                       const std::string& file, Threads threads, Progress& progress);

/// Widens intervals of single values, means and totals by day by what the paths say.
void widenByPaths(ForecastEvidence& forecast, const SteppedRows& stepped, const LearnedRows& learned,
                  const std::string& file);

} // namespace oxgoad
