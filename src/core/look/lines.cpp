#include "look/lines.h"

#include "estimate/distributions.h"
#include "look/scaled.h"

namespace oxgoad {

double GroupLine::errorAt(double x) const {
    const double away = (x - meanX) / std::sqrt(spreadX);
    return residualStandardDeviation * std::sqrt(1 / static_cast<double>(rows) + away * away);
}

GroupLines groupLines(std::span<const double> x, std::span<const double> y,
                      std::span<const std::int32_t> group, std::size_t levels, double level) {
    struct Group {
        PairSums sums;
        double low = INFINITY, high = -INFINITY;
    };
    const double xScale = powerOfTwoScale(x);
    const double yScale = powerOfTwoScale(y);
    std::vector<Group> groups(group.empty() ? 1 : levels);
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (!std::isfinite(x[i]) || !std::isfinite(y[i])) continue;
        if (!group.empty() && group[i] < 0) continue;
        Group& g = groups[group.empty() ? 0 : static_cast<std::size_t>(group[i])];
        g.sums.add(x[i] * xScale, y[i] * yScale);
        g.low = std::min(g.low, x[i]);
        g.high = std::max(g.high, x[i]);
    }
    GroupLines result;
    double within = 0, pooledXX = 0, pooledXY = 0, pooledYY = 0, df = 0;
    for (std::size_t k = 0; k < groups.size(); ++k) {
        const PairSums& s = groups[k].sums;
        if (s.n == 0) continue;
        const auto code = group.empty() ? -1 : static_cast<std::int32_t>(k);
        if (s.n < 3 || !(s.xx > 0)) {
            result.without.push_back(code);
            continue;
        }
        const double slope = s.xy / s.xx;
        const double rss = std::max(0.0, s.yy - slope * s.xy);
        const double freedom = static_cast<double>(s.n) - 2;
        GroupLine line;
        line.level = code;
        line.rows = s.n;
        const double unit = xScale / yScale;
        line.slope = slope * unit;
        line.meanX = s.meanX / xScale;
        line.meanY = s.meanY / yScale;
        line.intercept = (s.meanY - slope * s.meanX) / yScale;
        line.spreadX = s.xx / xScale / xScale;
        line.residualStandardDeviation = std::sqrt(rss / freedom) / yScale;
        line.slopeError = std::sqrt(rss / freedom / s.xx) * unit;
        const double half = studentQuantile(level, freedom) * line.slopeError;
        line.slopeLower = line.slope - half;
        line.slopeUpper = line.slope + half;
        line.rSquared = s.yy > 0 ? 1 - rss / s.yy : std::nan("");
        line.low = groups[k].low;
        line.high = groups[k].high;
        result.lines.push_back(line);
        within += rss;
        pooledXX += s.xx;
        pooledXY += s.xy;
        pooledYY += s.yy;
        df += freedom;
    }
    if (result.lines.size() > 1 && df > 0) {
        EqualSlopes test;
        const double slope = pooledXY / pooledXX;
        const double common = std::max(0.0, pooledYY - slope * pooledXY);
        test.numeratorDf = static_cast<double>(result.lines.size() - 1);
        test.denominatorDf = df;
        test.f = std::max(0.0, common - within) / test.numeratorDf / (within / df);
        test.p = fisherUpper(test.f, test.numeratorDf, test.denominatorDf);
        test.commonSlope = slope * xScale / yScale;
        test.commonError = std::sqrt(common / (df + test.numeratorDf) / pooledXX) * xScale / yScale;
        result.equalSlopes = test;
    }
    return result;
}

} // namespace oxgoad
