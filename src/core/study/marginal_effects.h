#pragma once
// Average marginal effects.
#include "study/evidence.h"

#include <string>
#include <vector>

namespace oxgoad {

/// The average over the learning rows of what one unit more does to the prediction (a number), or of what the
/// level does against the reference level (a factor), with delta-method errors (common practice; formulas as
/// in Greene 2018, "Econometric analysis", 8th ed., §17.3.2 for nonlinear means). Of a model without
/// coefficients, which may have no slope anywhere, the average difference of predictions half a standard
/// deviation to both sides, over that standard deviation, of at most 2,000 evenly spaced rows, without
/// errors.
struct MarginalEffect {
    std::string column;
    /// Level; empty for numbers.
    std::string level;
    double effect = 0;
    double standardError = 0;
    double lower = 0, upper = 0;
    double p = 0;
};
/// Of every column of the model, in the order of the design's inputs, or of one. Intervals at the evidence's
/// level. Throws Stopped.
std::vector<MarginalEffect> averageMarginalEffects(const Evidence& evidence, const Table& table,
                                                   Threads threads, Progress& progress,
                                                   const std::string& only = {});

/// The same, the lowest effect first.
std::vector<MarginalEffect> fromLowToHigh(std::vector<MarginalEffect> effects);

} // namespace oxgoad
