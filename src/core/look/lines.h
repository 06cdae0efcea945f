#pragma once
// A straight line for each group, and whether the groups have one slope.
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// Least squares of y on x in one group: y = intercept + slope·x.
struct GroupLine {
    /// Code of the level, -1 for all rows.
    std::int32_t level = -1;
    std::size_t rows = 0;
    double intercept = 0;
    double slope = 0;
    double slopeError = 0;
    double slopeLower = 0, slopeUpper = 0;
    /// NaN when y has no spread.
    double rSquared = 0;
    /// NaN for fewer than three rows.
    double residualStandardDeviation = 0;
    /// Range of x in the group: nothing may be drawn beyond.
    double low = 0, high = 0;
    double meanX = 0, meanY = 0;
    /// Sum of squares of x about its mean.
    double spreadX = 0;
    double at(double x) const { return meanY + slope * (x - meanX); }
    /// Standard error of the line's height at x: s·√(1/n + (x - x̄)²/Sxx) (Draper and Smith 1998, "Applied
    /// regression analysis", 3rd ed., eq. 3.1.3).
    double errorAt(double x) const;
};

/// F test that all groups share one slope, in an analysis of covariance with a constant for each group
/// (Snedecor and Cochran 1989, "Statistical methods", 8th ed., §18.5; Zar 2010, "Biostatistical analysis",
/// 5th ed., §18.4).
struct EqualSlopes {
    double f = 0;
    double numeratorDf = 0, denominatorDf = 0;
    double p = 0;
    /// The slope all groups would share, and its standard error there.
    double commonSlope = 0, commonError = 0;
};

struct GroupLines {
    /// One a group that has a line, in the order of levels.
    std::vector<GroupLine> lines;
    /// Codes of groups with rows but no line: fewer than three rows, or no spread in x.
    std::vector<std::int32_t> without;
    /// With at least two lines and rows to spare.
    std::optional<EqualSlopes> equalSlopes;
};

/// x, y of length n; `group` of length n with codes 0 … levels-1, or empty for one line over all rows. Points
/// that are not finite and rows of code -1 are passed over. `level` is that of the slopes' intervals
/// (Student's t).
GroupLines groupLines(std::span<const double> x, std::span<const double> y,
                      std::span<const std::int32_t> group, std::size_t levels, double level = 0.95);

} // namespace oxgoad
