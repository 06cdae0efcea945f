#include "look/look.h"

#include "table/summary.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

struct Sums {
    std::size_t n = 0;
    double meanX = 0, meanY = 0;
    double xx = 0, xy = 0, yy = 0;
    double low = 0, high = 0;
    /// Updating formulas (Welford 1962; Chan, Golub and LeVeque 1983).
    void add(double x, double y) {
        low = n == 0 ? x : std::min(low, x);
        high = n == 0 ? x : std::max(high, x);
        ++n;
        const auto k = static_cast<double>(n);
        const double dx = x - meanX;
        const double dy = y - meanY;
        meanX += dx / k;
        meanY += dy / k;
        xx += dx * (x - meanX);
        xy += dx * (y - meanY);
        yy += dy * (y - meanY);
    }
};

} // namespace

std::vector<GroupLine> linesByGroup(const Column& x, const Column& y, const Column* group,
                                    std::span<const char> leftOut) {
    std::vector<Sums> sums(group ? group->levels().size() : 1);
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (!leftOut.empty() && leftOut[i]) continue;
        const double a = x.asNumber(i);
        const double b = y.asNumber(i);
        if (!std::isfinite(a) || !std::isfinite(b)) continue;
        if (group && group->isMissing(i)) continue;
        sums[group ? static_cast<std::size_t>(group->codes()[i]) : 0].add(a, b);
    }
    std::vector<GroupLine> lines;
    for (std::size_t g = 0; g < sums.size(); ++g) {
        const Sums& s = sums[g];
        if (s.n < 3 || !(s.xx > 0)) continue;
        GroupLine line;
        line.group = group ? group->levels()[g] : std::string();
        line.rows = s.n;
        line.slope = s.xy / s.xx;
        line.intercept = s.meanY - line.slope * s.meanX;
        const double rss = std::max(0.0, s.yy - line.slope * s.xy);
        line.slopeError = std::sqrt(rss / static_cast<double>(s.n - 2) / s.xx);
        line.rSquared = s.yy > 0 ? 1 - rss / s.yy : std::nan("");
        line.low = s.low;
        line.high = s.high;
        lines.push_back(line);
    }
    return lines;
}

Density density(std::span<const double> x, std::span<const double> y, double xLow, double xHigh, double yLow,
                double yHigh, std::size_t across, std::size_t up) {
    Density d{across, up, std::vector<std::uint32_t>(across * up, 0), 0};
    const double xScale = static_cast<double>(across) / (xHigh - xLow);
    const double yScale = static_cast<double>(up) / (yHigh - yLow);
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double column = (x[i] - xLow) * xScale;
        const double row = (y[i] - yLow) * yScale;
        if (!(column >= 0 && row >= 0 && column <= static_cast<double>(across) &&
              row <= static_cast<double>(up)))
            continue;
        const std::size_t cell = std::min(up - 1, static_cast<std::size_t>(row)) * across +
                                 std::min(across - 1, static_cast<std::size_t>(column));
        d.largest = std::max(d.largest, ++d.counts[cell]);
    }
    return d;
}

std::optional<Histogram> histogram(std::vector<double> values) {
    std::erase_if(values, [](double v) { return !std::isfinite(v); });
    if (values.empty()) return std::nullopt;
    std::sort(values.begin(), values.end());
    const double spread = quantileOfSorted(values, 0.75) - quantileOfSorted(values, 0.25);
    const double whole = values.back() - values.front();
    const double wanted = 2 * spread / std::cbrt(static_cast<double>(values.size()));
    const auto bins =
        static_cast<std::size_t>(std::clamp(wanted > 0 ? std::ceil(whole / wanted) : 5.0, 5.0, 60.0));
    Histogram h{values.front(), whole > 0 ? whole / static_cast<double>(bins) : 1,
                std::vector<std::size_t>(bins, 0)};
    for (const double value : values)
        ++h.counts[std::min(bins - 1, static_cast<std::size_t>((value - h.low) / h.width))];
    return h;
}

} // namespace oxgoad
