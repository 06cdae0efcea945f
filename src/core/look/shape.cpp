#include "look/shape.h"

#include "estimate/distributions.h"
#include "look/scaled.h"

#include <vector>

namespace oxgoad {

namespace {

/// Values about their mean, scaled so that their squares can be summed.
std::vector<double> centred(std::span<const double> values) {
    const double scale = powerOfTwoScale(values);
    double sum = 0;
    for (const double v : values)
        sum += v * scale;
    const double mean = sum / static_cast<double>(values.size());
    std::vector<double> out;
    out.reserve(values.size());
    for (const double v : values)
        out.push_back(v * scale - mean);
    return out;
}

double squaredCorrelation(std::span<const double> x, std::span<const double> y) {
    double xx = 0, xy = 0, yy = 0;
    for (std::size_t i = 0; i < x.size(); ++i) {
        xx += x[i] * x[i];
        xy += x[i] * y[i];
        yy += y[i] * y[i];
    }
    return xx > 0 && yy > 0 ? xy / xx * (xy / yy) : std::nan("");
}

} // namespace

std::optional<BendTerm> bendOf(std::span<const double> x, std::span<const double> y) {
    std::vector<double> xs, ys;
    xs.reserve(x.size());
    ys.reserve(x.size());
    double smallest = INFINITY;
    for (std::size_t i = 0; i < x.size(); ++i)
        if (std::isfinite(x[i]) && std::isfinite(y[i])) {
            xs.push_back(x[i]);
            ys.push_back(y[i]);
            smallest = std::min(smallest, x[i]);
        }
    if (xs.size() < 5) return std::nullopt;
    const auto n = static_cast<double>(xs.size());
    std::vector<double> t = centred(xs);
    const double widest = powerOfTwoScale(t);
    for (double& v : t)
        v *= widest;
    const std::vector<double> u = centred(ys);
    double s2 = 0, s3 = 0, s4 = 0, uu = 0, tu = 0, ttu = 0;
    for (std::size_t i = 0; i < t.size(); ++i) {
        const double square = t[i] * t[i];
        s2 += square;
        s3 += square * t[i];
        s4 += square * square;
        uu += u[i] * u[i];
        tu += t[i] * u[i];
        ttu += square * u[i];
    }
    if (!(s2 > 0) || !(uu > 0)) return std::nullopt;
    // x² less what 1 and x say of it.
    const double qq = s4 - s2 * s2 / n - s3 * s3 / s2;
    if (!(qq > 1e-12 * s4)) return std::nullopt; // two distinct values
    const double qu = ttu - s3 / s2 * tu;
    const double straight = tu / s2 * (tu / uu);
    BendTerm best{false, std::min(1.0, straight + qu / qq * (qu / uu)), 1};
    const double df = n - 3;
    best.p = fisherUpper((best.rSquared - straight) / ((1 - best.rSquared) / df), 1, df);
    if (smallest > 0) {
        for (double& v : xs)
            v = std::log(v);
        const double r = squaredCorrelation(centred(xs), u);
        if (r > best.rSquared - 0.005) best = {true, r, best.p};
    }
    return best;
}

std::optional<SpreadTrend> spreadAlong(std::span<const double> x, std::span<const double> y,
                                       const GroupLine& line) {
    std::vector<double> sizes(x.size(), std::nan(""));
    for (std::size_t i = 0; i < x.size(); ++i)
        if (std::isfinite(x[i]) && std::isfinite(y[i])) sizes[i] = std::fabs(y[i] - line.at(x[i]));
    const GroupLines through = groupLines(x, sizes, {}, 0);
    if (through.lines.empty()) return std::nullopt;
    const GroupLine& g = through.lines.front();
    SpreadTrend trend;
    trend.grows = g.slope > 0;
    trend.p = studentTwoSided(g.slope / g.slopeError, static_cast<double>(g.rows) - 2);
    const double low = g.at(g.low), high = g.at(g.high);
    const double narrow = std::min(low, high);
    trend.ratio = narrow > 0 ? std::max(low, high) / narrow : INFINITY;
    return trend;
}

} // namespace oxgoad
