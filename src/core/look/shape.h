#pragma once
// Whether points bend, and whether they spread out along x.
#include "look/lines.h"

#include <optional>
#include <span>

namespace oxgoad {

/// The plain term that says most of a bend: the square of x beside x, or its logarithm in place of x.
struct BendTerm {
    /// True for ln(x) in place of x, false for x² beside x.
    bool logarithm = false;
    /// R² of it.
    double rSquared = 0;
    /// Of the F test that x² adds nothing to the line (Draper and Smith 1998, "Applied regression analysis",
    /// 3rd ed., §6.1).
    double p = 0;
};
/// x, y of length n; points that are not finite are passed over. The logarithm is preferred when its R² comes
/// within 0.005, since it takes a term less. Empty for fewer than five points, fewer than three distinct x,
/// or a constant y.
std::optional<BendTerm> bendOf(std::span<const double> x, std::span<const double> y);

/// A line through the sizes of the residuals about a line (Glejser 1969, "A new test for
/// heteroskedasticity").
struct SpreadTrend {
    bool grows = true;
    double p = 0;
    /// Mean size at the wider end over that at the narrower end; infinity when the line goes below 0 there.
    double ratio = 1;
};
/// Empty when no line can be laid through the sizes.
std::optional<SpreadTrend> spreadAlong(std::span<const double> x, std::span<const double> y,
                                       const GroupLine& line);

} // namespace oxgoad
