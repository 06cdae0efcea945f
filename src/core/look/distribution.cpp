#include "look/distribution.h"

#include "estimate/distributions.h"
#include "look/scaled.h"
#include "table/summary.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <numbers>
#include <numeric>

namespace oxgoad {

namespace {

std::vector<double> finiteOf(std::span<const double> values) {
    std::vector<double> finite;
    finite.reserve(values.size());
    for (const double v : values)
        if (std::isfinite(v)) finite.push_back(v);
    return finite;
}

} // namespace

std::optional<Histogram> histogram(std::vector<double> values) {
    std::erase_if(values, [](double v) { return !std::isfinite(v); });
    if (values.empty()) return std::nullopt;
    sortNumbers(values);
    const double spread = quantileOfSorted(values, 0.75) - quantileOfSorted(values, 0.25);
    const double whole = values.back() - values.front();
    if (!std::isfinite(whole)) return std::nullopt;
    const double wanted = 2 * spread / std::cbrt(static_cast<double>(values.size()));
    const auto bins =
        static_cast<std::size_t>(std::clamp(wanted > 0 ? std::ceil(whole / wanted) : 5.0, 5.0, 60.0));
    Histogram h{values.front(), whole > 0 ? whole / static_cast<double>(bins) : 1,
                std::vector<std::size_t>(bins, 0)};
    if (!(h.width > 0)) return std::nullopt; // a range below the smallest number
    for (const double value : values)
        ++h.counts[std::min(bins - 1, static_cast<std::size_t>((value - h.low) / h.width))];
    return h;
}

Moments momentsOf(std::span<const double> values) {
    const double scale = powerOfTwoScale(values);
    Moments m;
    long double sum = 0;
    for (const double v : values)
        if (std::isfinite(v)) {
            sum += v * scale;
            ++m.rows;
        }
    const auto n = static_cast<long double>(m.rows);
    const long double mean = m.rows > 0 ? sum / n : std::nanl("");
    long double second = 0, third = 0, fourth = 0;
    for (const double v : values)
        if (std::isfinite(v)) {
            const long double d = v * scale - mean;
            const long double dd = d * d;
            second += dd;
            third += dd * d;
            fourth += dd * dd;
        }
    m.mean = static_cast<double>(mean / scale);
    m.standardDeviation =
        m.rows > 1 ? static_cast<double>(std::sqrt(second / (n - 1)) / scale) : std::nan("");
    const long double variance = second / n;
    m.skewness =
        second > 0 ? static_cast<double>(third / n / (variance * std::sqrt(variance))) : std::nan("");
    m.excessKurtosis =
        second > 0 ? static_cast<double>(fourth / n / (variance * variance) - 3) : std::nan("");
    return m;
}

std::optional<SmoothDensity> smoothDensity(std::span<const double> values) {
    std::vector<double> sorted = finiteOf(values);
    if (sorted.size() < 5) return std::nullopt;
    sortNumbers(sorted);
    const double whole = sorted.back() - sorted.front();
    if (!(whole > 0) || !std::isfinite(whole)) return std::nullopt;
    const double deviation = momentsOf(sorted).standardDeviation;
    const double spread = (quantileOfSorted(sorted, 0.75) - quantileOfSorted(sorted, 0.25)) / 1.34;
    SmoothDensity density;
    density.bandwidth = 0.9 * (spread > 0 ? std::min(deviation, spread) : deviation) *
                        std::pow(static_cast<double>(sorted.size()), -0.2);
    constexpr std::size_t steps = 512;
    density.low = sorted.front() - 3 * density.bandwidth;
    density.step = (whole + 6 * density.bandwidth) / (steps - 1);
    if (!(density.step > 0) || !std::isfinite(density.step)) return std::nullopt;
    std::vector<double> mass(steps, 0.0);
    for (const double v : sorted) {
        const double place = (v - density.low) / density.step;
        const auto below = std::min<std::size_t>(static_cast<std::size_t>(place), steps - 2);
        const double part = place - static_cast<double>(below);
        mass[below] += 1 - part;
        mass[below + 1] += part;
    }
    const double unit =
        1 / (static_cast<double>(sorted.size()) * density.bandwidth * std::sqrt(2 * std::numbers::pi));
    const double ratio = density.step / density.bandwidth;
    std::vector<double> kernel;
    for (std::size_t d = 0; d < steps; ++d) {
        const double z = static_cast<double>(d) * ratio;
        kernel.push_back(z < 9 ? unit * std::exp(-z * z / 2) : 0);
    }
    density.height.assign(steps, 0.0);
    for (std::size_t j = 0; j < steps; ++j)
        if (mass[j] > 0)
            for (std::size_t i = 0; i < steps; ++i)
                density.height[i] += mass[j] * kernel[i > j ? i - j : j - i];
    return density;
}

std::optional<NormalQuantiles> normalQuantiles(std::span<const double> values) {
    std::vector<std::uint32_t> order = sortedOrder(values);
    std::erase_if(order, [&](std::uint32_t i) { return !std::isfinite(values[i]); });
    const std::size_t n = order.size();
    if (n < 3) return std::nullopt;
    auto normalAt = [n](std::size_t i) {
        return normalQuantile((static_cast<double>(i) + 0.625) / (static_cast<double>(n) + 0.25));
    };
    NormalQuantiles result;
    auto add = [&](std::size_t i) {
        result.normal.push_back(normalAt(i));
        result.value.push_back(values[order[i]]);
        result.place.push_back(order[i]);
    };
    constexpr std::size_t most = 2000;
    constexpr std::size_t outer = 200;
    const double scale = powerOfTwoScale(values);
    PairSums sums;
    for (std::size_t i = 0; i < n; ++i)
        // The normal quantiles of a million rows are smooth: every tenth does for the correlation.
        if (n <= 100000 || i < 1000 || i + 1000 >= n || i % 10 == 0)
            sums.add(normalAt(i), values[order[i]] * scale);
    result.correlation = sums.correlation();
    if (n <= most) {
        for (std::size_t i = 0; i < n; ++i)
            add(i);
    } else {
        for (std::size_t i = 0; i < outer; ++i)
            add(i);
        const std::size_t between = most - 2 * outer;
        for (std::size_t k = 0; k < between; ++k)
            add(outer + k * (n - 2 * outer) / between);
        for (std::size_t i = n - outer; i < n; ++i)
            add(i);
    }
    std::vector<double> sorted;
    sorted.reserve(n);
    for (const auto i : order)
        sorted.push_back(values[i]);
    const double low = quantileOfSorted(sorted, 0.25);
    const double high = quantileOfSorted(sorted, 0.75);
    const double z = normalQuantile(0.75);
    result.slope = (high - low) / (2 * z);
    result.intercept = low / 2 + high / 2;
    return result;
}

std::optional<BoxCox> boxCox(std::span<const double> values, double level, Threads threads,
                             Progress& progress) {
    std::vector<double> logs = finiteOf(values);
    if (logs.size() < 5) return std::nullopt;
    long double sum = 0;
    for (double& v : logs) {
        if (!(v > 0)) return std::nullopt;
        v = std::log(v);
        sum += v;
    }
    const auto n = static_cast<double>(logs.size());
    const auto meanLog = static_cast<double>(sum / n);
    double farthest = 0;
    for (double& v : logs) {
        v -= meanLog;
        farthest = std::max(farthest, std::fabs(v));
    }
    if (!(farthest > 1e-12)) return std::nullopt;
    constexpr std::size_t chunk = 16384;
    const std::size_t chunks = (logs.size() + chunk - 1) / chunk;
    // With y in units of its geometric mean the Jacobian is 1: z = expm1(λ·w)/λ, w = ln y − mean ln y.
    std::size_t tried = 0;
    auto likelihood = [&](double power) {
        progress.checkpoint(std::min(0.95, static_cast<double>(tried++) / 160), "Trying powers");
        struct Part {
            double n = 0, mean = 0, squares = 0;
        };
        std::vector<Part> parts(chunks);
        parallelFor(chunks, threads, [&](std::size_t c) {
            Part& part = parts[c];
            for (std::size_t i = c * chunk; i < std::min(logs.size(), (c + 1) * chunk); ++i) {
                const double w = logs[i];
                const double z = power == 0 ? w : std::expm1(power * w) / power;
                part.n += 1;
                const double d = z - part.mean;
                part.mean += d / part.n;
                part.squares += d * (z - part.mean);
            }
        });
        Part whole;
        for (const Part& part : parts) { // Chan, Golub and LeVeque 1983
            const double both = whole.n + part.n;
            const double d = part.mean - whole.mean;
            whole.squares += part.squares + d * d * whole.n * part.n / both;
            whole.mean += d * part.n / both;
            whole.n = both;
        }
        return -n / 2 * std::log(whole.squares / n) - n * meanLog;
    };
    BoxCox result;
    constexpr int steps = 48;
    int best = 0;
    for (int k = 0; k <= steps; ++k) {
        const double power = -3 + 6.0 * k / steps;
        result.powers.push_back(power);
        result.profile.push_back(likelihood(power));
        if (result.profile.back() > result.profile[static_cast<std::size_t>(best)]) best = k;
    }
    // Golden section about the largest of the steps (Kiefer 1953).
    double a = result.powers[static_cast<std::size_t>(std::max(0, best - 1))];
    double b = result.powers[static_cast<std::size_t>(std::min(steps, best + 1))];
    const double golden = (std::sqrt(5.0) - 1) / 2;
    double c = b - golden * (b - a), d = a + golden * (b - a);
    double fc = likelihood(c), fd = likelihood(d);
    while (b - a > 1e-7) {
        if (fc > fd) {
            b = d;
            d = c;
            fd = fc;
            c = b - golden * (b - a);
            fc = likelihood(c);
        } else {
            a = c;
            c = d;
            fc = fd;
            d = a + golden * (b - a);
            fd = likelihood(d);
        }
    }
    result.lambda = (a + b) / 2;
    result.logLikelihood = likelihood(result.lambda);
    const double t = normalQuantile(0.5 + level / 2);
    const double floor = result.logLikelihood - t * t / 2; // χ² with one degree of freedom is a square
    auto crossing = [&](double to) {
        if (likelihood(to) > floor)
            return to < 0 ? -std::numeric_limits<double>::infinity()
                          : std::numeric_limits<double>::infinity();
        double in = result.lambda, out = to;
        while (std::fabs(out - in) > 1e-7) {
            const double middle = (in + out) / 2;
            (likelihood(middle) > floor ? in : out) = middle;
        }
        return (in + out) / 2;
    };
    result.lower = crossing(-5);
    result.upper = crossing(5);
    result.plain = result.lambda;
    for (const double power : {1.0, 0.0, 0.5, -1.0, 1.0 / 3, 2.0, -0.5})
        if (power >= result.lower && power <= result.upper) {
            result.plain = power;
            break;
        }
    return result;
}

} // namespace oxgoad
