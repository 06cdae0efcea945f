#include "check/error_tests.h"

#include "base/not_a_number.h"
#include "base/parallel.h"
#include "estimate/decompositions.h"
#include "estimate/distributions.h"
#include "look/distribution.h"

#include <boost/math/distributions/beta.hpp>
#include <boost/math/distributions/binomial.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

using Eigen::Index;

double skewnessP(double skewness, double n) {
    if (n < 8) return nan;
    const double y = skewness * std::sqrt((n + 1) * (n + 3) / (6 * (n - 2)));
    const double beta =
        3 * (n * n + 27 * n - 70) * (n + 1) * (n + 3) / ((n - 2) * (n + 5) * (n + 7) * (n + 9));
    const double w2 = -1 + std::sqrt(2 * (beta - 1));
    const double delta = 1 / std::sqrt(0.5 * std::log(w2));
    const double alpha = std::sqrt(2 / (w2 - 1));
    return normalTwoSided(delta * std::asinh(y / alpha));
}

double tailsP(double kurtosis, double n) {
    if (n < 20) return nan;
    const double mean = 3 * (n - 1) / (n + 1);
    const double variance = 24 * n * (n - 2) * (n - 3) / ((n + 1) * (n + 1) * (n + 3) * (n + 5));
    const double x = (kurtosis - mean) / std::sqrt(variance);
    const double beta = 6 * (n * n - 5 * n + 2) / ((n + 7) * (n + 9)) *
                        std::sqrt(6 * (n + 3) * (n + 5) / (n * (n - 2) * (n - 3)));
    const double a = 6 + 8 / beta * (2 / beta + std::sqrt(1 + 4 / (beta * beta)));
    const double inner = (1 - 2 / a) / (1 + x * std::sqrt(2 / (a - 4)));
    const double z = (1 - 2 / (9 * a) - std::cbrt(inner)) / std::sqrt(2 / (9 * a));
    return normalTwoSided(z);
}

double jarqueBera(double skewness, double kurtosis, double n) {
    return n / 6 * (skewness * skewness + (kurtosis - 3) * (kurtosis - 3) / 4);
}

double andersonDarling(std::span<const double> values) {
    if (values.size() < 3) return nan;
    std::vector<double> z(values.begin(), values.end());
    const Moments m = momentsOf(values);
    const auto n = static_cast<double>(z.size());
    for (double& v : z)
        v = (v - m.mean) / m.standardDeviation;
    std::sort(z.begin(), z.end());
    // ln Φ(z) and ln (1 − Φ(z)) by the tail that is small, so that neither is the logarithm of a rounded 1.
    const auto logBelow = [](double v) {
        const double tail = 0.5 * normalTwoSided(v);
        return v < 0 ? std::log(tail) : std::log1p(-tail);
    };
    long double sum = 0;
    for (std::size_t i = 0; i < z.size(); ++i)
        sum += (2.0L * static_cast<long double>(i) + 1) * (logBelow(z[i]) + logBelow(-z[z.size() - 1 - i]));
    return static_cast<double>(-static_cast<long double>(n) - sum / static_cast<long double>(n));
}

double andersonDarlingP(double a2, double n) {
    if (!(n >= 3) || std::isnan(a2)) return nan;
    const double a = a2 * (1 + 0.75 / n + 2.25 / (n * n));
    if (a < 0.2) return 1 - std::exp(-13.436 + 101.14 * a - 223.73 * a * a);
    if (a < 0.34) return 1 - std::exp(-8.318 + 42.796 * a - 59.938 * a * a);
    if (a < 0.6) return std::exp(0.9177 - 4.279 * a - 1.38 * a * a);
    // Beyond 10 the parabola would turn; the tail goes on straight there.
    const double at = std::min(a, 10.0);
    return std::exp(1.2937 - 5.709 * at + 0.0186 * at * at - 5.3 * (a - at));
}

double durbinWatson(std::span<const double> errors, const std::vector<std::vector<std::uint32_t>>& runs) {
    long double differences = 0, squares = 0;
    for (const auto& run : runs)
        for (std::size_t i = 0; i < run.size(); ++i) {
            const long double e = errors[run[i]];
            squares += e * e;
            if (i == 0) continue;
            const long double d = e - errors[run[i - 1]];
            differences += d * d;
        }
    return static_cast<double>(differences / squares);
}

double imhofBelowZero(std::span<const double> weights) {
    // P(Q > 0) = ½ + 1/π ∫₀^∞ sin θ(u) / (u ρ(u)) du, θ = ½ Σ arctan(λu), ρ = Π (1 + λ²u²)^¼.
    double largest = 0;
    for (const double w : weights)
        largest = std::max(largest, std::fabs(w));
    if (!(largest > 0)) return nan;
    const auto integrand = [&](double u) {
        if (u == 0) {
            double sum = 0;
            for (const double w : weights)
                sum += w / largest;
            return 0.5 * sum;
        }
        double theta = 0, logRho = 0;
        for (const double w : weights) {
            const double x = w / largest * u;
            theta += std::atan(x);
            logRho += std::log1p(x * x);
        }
        return std::sin(0.5 * theta) / u * std::exp(-0.25 * logRho);
    };
    // Until what is left is below 1e-8: the integrand falls at least as u^-(1+m/2) with m large weights.
    double end = 1;
    const auto envelope = [&](double u) {
        double logRho = 0;
        for (const double w : weights)
            logRho += std::log1p(w / largest * u * w / largest * u);
        return std::exp(-0.25 * logRho);
    };
    while (envelope(end) > 1e-9 && end < 1e7)
        end *= 1.3;
    // Simpson's rule on equal steps of ln(1 + u), refined until it settles.
    const double range = std::log1p(end);
    const auto transformed = [&](double s) { return integrand(std::expm1(s)) * std::exp(s); };
    double before = 0, result = 0;
    for (int steps = 128; steps <= 32768; steps *= 2) {
        const double h = range / steps;
        double sum = transformed(0) + transformed(range);
        for (int i = 1; i < steps; ++i)
            sum += transformed(i * h) * (i % 2 == 1 ? 4 : 2);
        result = sum * h / 3;
        if (steps > 128 && std::fabs(result - before) < 1e-9) break;
        before = result;
    }
    return std::clamp(0.5 - result / 3.14159265358979323846, 0.0, 1.0);
}

namespace {

/// A q for the matrix A of squared differences within runs, a column at a time and in the order of the rows:
/// rows that follow each other in time may lie far apart, and columns are longer than a cache.
Eigen::MatrixXd differenced(const std::vector<std::vector<std::uint32_t>>& runs, const Eigen::MatrixXd& q) {
    constexpr std::uint32_t none = std::numeric_limits<std::uint32_t>::max();
    struct Beside {
        std::uint32_t before = none, after = none;
    };
    std::vector<Beside> beside(static_cast<std::size_t>(q.rows()));
    for (const auto& run : runs)
        for (std::size_t i = 1; i < run.size(); ++i) {
            beside[run[i]].before = run[i - 1];
            beside[run[i - 1]].after = run[i];
        }
    Eigen::MatrixXd out(q.rows(), q.cols());
    parallelFor(static_cast<std::size_t>(q.cols()), {}, [&](std::size_t k) {
        const double* from = q.col(static_cast<Index>(k)).data();
        double* to = out.col(static_cast<Index>(k)).data();
        for (std::size_t i = 0; i < beside.size(); ++i) {
            const auto [before, after] = beside[i];
            double sum = 0;
            if (before != none) sum += from[i] - from[before];
            if (after != none) sum += from[i] - from[after];
            to[i] = sum;
        }
    });
    return out;
}

/// q'·a, which is symmetric: of each block of columns only the rows from its first on are worked out.
Eigen::MatrixXd products(const Eigen::MatrixXd& q, const Eigen::MatrixXd& a) {
    const Index p = a.cols();
    Eigen::MatrixXd out(p, p);
    constexpr Index some = 8;
    parallelFor(static_cast<std::size_t>((p + some - 1) / some), {}, [&](std::size_t k) {
        const Index begin = static_cast<Index>(k) * some, count = std::min(some, p - begin);
        out.block(begin, begin, p - begin, count).noalias() =
            q.rightCols(p - begin).transpose() * a.middleCols(begin, count);
    });
    return out.selfadjointView<Eigen::Lower>();
}

/// tr A and tr A²: a run of m rows has the diagonal 1, 2, …, 2, 1 and −1 beside it.
std::pair<double, double> tracesOf(const std::vector<std::vector<std::uint32_t>>& runs) {
    double one = 0, two = 0;
    for (const auto& run : runs) {
        const auto m = static_cast<double>(run.size());
        if (m < 2) continue;
        one += 2 * (m - 1);
        two += 2 + 4 * (m - 2) + 2 * (m - 1);
    }
    return {one, two};
}

} // namespace

DurbinWatsonTail durbinWatsonLower(double d, const std::vector<std::vector<std::uint32_t>>& runs,
                                   const Eigen::MatrixXd& q, std::size_t exactRows) {
    const Index n = q.rows();
    const auto df = static_cast<double>(n - q.cols());
    if (!(df > 1)) return {nan, false};
    const Eigen::MatrixXd aq = differenced(runs, q);
    if (static_cast<std::size_t>(n) <= exactRows) {
        Eigen::MatrixXd a = differenced(runs, Eigen::MatrixXd::Identity(n, n));
        // M A M with M = I − QQ'.
        const Eigen::MatrixXd core = products(q, aq);
        a -= aq * q.transpose() + q * aq.transpose() - q * core * q.transpose();
        // Of the n eigenvalues those of the columns are 0; the others, less d, are the weights.
        std::vector<double> weights;
        const Eigen::VectorXd values = symmetricValues(a);
        for (Index i = q.cols(); i < n; ++i)
            weights.push_back(values[i] - d);
        return {imhofBelowZero(weights), true};
    }
    const auto [trace, traceSquare] = tracesOf(runs);
    const Eigen::MatrixXd core = products(q, aq);
    const double p = trace - core.trace();
    const double squares = traceSquare - 2 * aq.squaredNorm() + core.squaredNorm();
    const double mean = p / df;
    const double variance = 2 * (squares - p * mean) / (df * (df + 2));
    const double m = mean / 4, v = variance / 16;
    const double common = m * (1 - m) / v - 1;
    if (!(common > 0)) return {nan, false};
    const boost::math::beta_distribution<double> beta(m * common, (1 - m) * common);
    return {boost::math::cdf(beta, std::clamp(d / 4, 0.0, 1.0)), false};
}

LjungBox ljungBox(std::span<const double> errors, const std::vector<std::vector<std::uint32_t>>& runs,
                  std::size_t lags) {
    LjungBox out;
    double n = 0;
    long double squares = 0;
    for (const auto& run : runs)
        for (const auto i : run) {
            ++n;
            squares += static_cast<long double>(errors[i]) * errors[i];
        }
    for (std::size_t k = 1; k <= lags; ++k) {
        long double sum = 0;
        double pairs = 0;
        for (const auto& run : runs)
            for (std::size_t i = k; i < run.size(); ++i) {
                sum += static_cast<long double>(errors[run[i]]) * errors[run[i - k]];
                ++pairs;
            }
        const auto r = static_cast<double>(sum / squares);
        out.correlations.push_back(r);
        if (pairs > 0) out.statistic += r * r / pairs;
    }
    out.statistic *= n * (n + 2);
    return out;
}

double binomialTwoSided(std::size_t k, std::size_t n, double p) {
    const boost::math::binomial_distribution<double> b(static_cast<double>(n), p);
    const double own = boost::math::pdf(b, static_cast<double>(k));
    const double mode = std::floor((static_cast<double>(n) + 1) * p);
    const double slack = own * (1 + 1e-7);
    const auto at = static_cast<double>(k);
    if (at == mode) return 1;
    // On the other side of the mode: the first outcome that is no more likely, by halving.
    double low = 0, high = 0;
    if (at < mode) {
        low = mode;
        high = static_cast<double>(n) + 1;
        while (high - low > 1) {
            const double middle = std::floor((low + high) / 2);
            (boost::math::pdf(b, middle) <= slack ? high : low) = middle;
        }
        const double above =
            high <= static_cast<double>(n) ? boost::math::cdf(boost::math::complement(b, high - 1)) : 0;
        return std::min(1.0, boost::math::cdf(b, at) + above);
    }
    low = -1;
    high = mode;
    while (high - low > 1) {
        const double middle = std::floor((low + high) / 2);
        (boost::math::pdf(b, middle) <= slack ? low : high) = middle;
    }
    const double below = low >= 0 ? boost::math::cdf(b, low) : 0;
    return std::min(1.0, below + boost::math::cdf(boost::math::complement(b, at - 1)));
}

std::pair<double, double> binomialInterval(std::size_t k, std::size_t n, double level) {
    using Binomial = boost::math::binomial_distribution<double>;
    const double half = (1 - level) / 2;
    const auto trials = static_cast<double>(n), successes = static_cast<double>(k);
    return {k == 0 ? 0 : Binomial::find_lower_bound_on_p(trials, successes, half),
            k == n ? 1 : Binomial::find_upper_bound_on_p(trials, successes, half)};
}

} // namespace oxgoad
