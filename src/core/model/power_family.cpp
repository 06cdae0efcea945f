#include "model/power_family.h"

#include <boost/math/distributions/gamma.hpp>
#include <boost/math/distributions/inverse_gaussian.hpp>
#include <boost/math/distributions/negative_binomial.hpp>
#include <boost/math/distributions/poisson.hpp>
#include <boost/math/special_functions/gamma.hpp>
#include <boost/math/tools/toms748_solve.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>
#include <vector>

namespace oxgoad {

namespace {

namespace bm = boost::math;
constexpr double nan = std::numeric_limits<double>::quiet_NaN();

using Policy = bm::policies::policy<bm::policies::overflow_error<bm::policies::ignore_error>,
                                    bm::policies::domain_error<bm::policies::ignore_error>,
                                    bm::policies::evaluation_error<bm::policies::ignore_error>,
                                    bm::policies::discrete_quantile<bm::policies::integer_round_up>>;
using Gamma = bm::gamma_distribution<double, Policy>;
using InverseGaussian = bm::inverse_gaussian_distribution<double, Policy>;
using Poisson = bm::poisson_distribution<double, Policy>;
using NegativeBinomial = bm::negative_binomial_distribution<double, Policy>;

/// y − μ − y ln(y/μ) and its like lose digits near y = μ: x − ln(1 + x) with x = (y − μ)/μ.
double minusLog1p(double x) {
    if (std::fabs(x) > 0.1) return x - std::log1p(x);
    double term = x * x / 2, sum = 0;
    for (int k = 2; std::fabs(term) > 1e-18 * std::fabs(sum) && k < 60; ++k) {
        sum += term;
        term = (k % 2 == 0 ? -1.0 : 1.0) * std::pow(x, k + 1) / (k + 1);
    }
    return sum;
}

/// Parameters of the sum of gammas that Tweedie's distribution is: how many on average, their shape, their
/// scale.
struct SumOfGammas {
    double count, shape, scale;
};
SumOfGammas sumOfGammas(double p, double mean, double dispersion) {
    return {std::pow(mean, 2 - p) / (dispersion * (2 - p)), (2 - p) / (p - 1),
            dispersion * (p - 1) * std::pow(mean, p - 1)};
}

/// Terms from n = `largest` outwards, until they say nothing more: use(n) gives the logarithm of each. Where
/// they change over many n only every so many: the sum of a smooth peak of width s by steps of s/8 is off by
/// exp(−2π²·64) of itself. How many n each stands for; `narrow` is how often the peak's variance is in n.
template <class Use> double eachCount(double largest, double narrow, double reach, Use use) {
    constexpr double most = 1e12;
    const double middle = std::clamp(std::round(largest), 1.0, most);
    // Never more than some thousand: beyond, the sum is as good as a normal.
    const double by =
        std::max({1.0, std::floor(std::sqrt(middle / narrow) / 8), std::floor(std::sqrt(middle) / 1000)});
    double best = -std::numeric_limits<double>::infinity();
    const auto go = [&](double from, double step) {
        for (double n = from; n >= 1 && n <= 2 * most; n += step) {
            const double said = use(n);
            best = std::max(best, said);
            if (!std::isfinite(said) || said < best - reach) break;
        }
    };
    go(middle, by);
    go(middle - by, -by);
    return by;
}

/// ln Γ(n + 1) + ln Γ(n·shape), kept for the shape that was asked last: it is the same for all rows.
double gammasOf(double shape, double n) {
    thread_local double of = 0;
    thread_local std::vector<double> known;
    constexpr double kept = 20000;
    const auto work = [&](double at) {
        return bm::lgamma(at + 1, Policy()) + bm::lgamma(at * shape, Policy());
    };
    if (n > kept) return work(n);
    if (of != shape) {
        of = shape;
        known.clear();
    }
    while (known.size() < static_cast<std::size_t>(n))
        known.push_back(work(static_cast<double>(known.size() + 1)));
    return known[static_cast<std::size_t>(n) - 1];
}

double tweedieLogDensity(double p, double y, double mean, double dispersion) {
    const SumOfGammas of = sumOfGammas(p, mean, dispersion);
    if (y == 0) return -of.count;
    // ln Σ_n P(n) g(y; n·shape, scale), its largest term near y^{2−p}/(φ(2−p)).
    const double largest = std::pow(y, 2 - p) / (dispersion * (2 - p));
    const double slope = std::log(of.count) + of.shape * std::log(y / of.scale);
    std::vector<double> terms;
    const double by = eachCount(largest, 1 + of.shape, 37, [&](double n) {
        const double term = n * slope - gammasOf(of.shape, n);
        terms.push_back(term);
        return term;
    });
    const double most = *std::max_element(terms.begin(), terms.end());
    double sum = 0;
    for (const double term : terms)
        sum += std::exp(term - most);
    return most + std::log(by * sum) - std::log(y) - y / of.scale - of.count;
}

double tweedieBelow(double p, double y, double mean, double dispersion) {
    const SumOfGammas of = sumOfGammas(p, mean, dispersion);
    const double none = std::exp(-of.count);
    if (y <= 0) return y < 0 ? 0 : none;
    constexpr double asGoodAsNormal = 1e6; // to a thousandth
    if (of.count > asGoodAsNormal)
        return std::erfc((mean - y) / std::sqrt(2 * dispersion * std::pow(mean, p))) / 2;
    double sum = 0;
    const double by = eachCount(of.count, 1 + of.shape, 37, [&](double n) {
        const double log = n * std::log(of.count) - of.count - bm::lgamma(n + 1, Policy());
        sum += std::exp(log) * bm::gamma_p(n * of.shape, y / of.scale, Policy());
        return log;
    });
    return std::min(1.0, none + by * sum);
}

bool isCounts(double p) {
    return p == 1;
}
bool isTweedie(double p) {
    return p > 1 && p < 2;
}

NegativeBinomial overdispersed(double mean, double dispersion) {
    // Variance φμ: mean μ = r(1 − q)/q with q = 1/φ.
    return NegativeBinomial(mean / (dispersion - 1), 1 / dispersion);
}

} // namespace

double PowerFamily::variance(double mean) const {
    if (power == 1) return mean;
    if (power == 2) return mean * mean;
    if (power == 3) return mean * mean * mean;
    return std::pow(mean, power);
}

double PowerFamily::unitDeviance(double y, double mean) const {
    if (power == 1) {
        // 2(y ln(y/μ) − (y − μ)): with the roles changed, μ·(u − ln-like) of y/μ.
        if (y <= 0) return 2 * mean;
        return 2 * y * minusLog1p((mean - y) / y);
    }
    if (power == 2) return 2 * minusLog1p((y - mean) / mean);
    if (power == 3) return (y - mean) * (y - mean) / (mean * mean * y);
    const double p = power;
    const double zero = y > 0 ? std::pow(y, 2 - p) / ((1 - p) * (2 - p)) : 0;
    const double x = (y - mean) / mean;
    if (std::fabs(x) < 1e-3) // its series, where the difference of powers keeps no digits
        return std::pow(mean, 2 - p) * x * x *
               (1 - p * x / 3 + p * (p + 1) * x * x / 12 - p * (p + 1) * (p + 2) * x * x * x / 60);
    return std::max(0.0, 2 * (zero - y * std::pow(mean, 1 - p) / (1 - p) + std::pow(mean, 2 - p) / (2 - p)));
}

double PowerFamily::devianceResidual(double y, double mean) const {
    const double size = std::sqrt(std::max(0.0, unitDeviance(y, mean)));
    return y < mean ? -size : size;
}

double PowerFamily::logDensity(double y, double mean, double dispersion) const {
    if (isCounts(power)) return nan;
    if (power == 2) {
        const double shape = 1 / dispersion;
        return shape * std::log(shape * y / mean) - shape * y / mean - std::log(y) -
               bm::lgamma(shape, Policy());
    }
    if (power == 3)
        return -0.5 *
               (std::log(2 * std::numbers::pi * dispersion * y * y * y) + unitDeviance(y, mean) / dispersion);
    return tweedieLogDensity(power, y, mean, dispersion);
}

double PowerFamily::below(double y, double mean, double dispersion) const {
    if (!(mean > 0) || !(dispersion > 0) || std::isnan(y)) return nan;
    if (isCounts(power)) {
        if (y < 0) return 0;
        return dispersion > 1 + 1e-9 ? bm::cdf(overdispersed(mean, dispersion), std::floor(y))
                                     : bm::cdf(Poisson(mean), std::floor(y));
    }
    if (y <= 0) return isTweedie(power) ? tweedieBelow(power, y, mean, dispersion) : 0;
    if (power == 2) return bm::cdf(Gamma(1 / dispersion, mean * dispersion), y);
    if (power == 3) return bm::cdf(InverseGaussian(mean, 1 / dispersion), y);
    return tweedieBelow(power, y, mean, dispersion);
}

double PowerFamily::strictlyBelow(double y, double mean, double dispersion) const {
    if (isCounts(power)) return y <= 0 ? 0 : below(std::ceil(y) - 1, mean, dispersion);
    if (isTweedie(power) && y <= 0) return 0;
    return below(y, mean, dispersion);
}

double PowerFamily::quantile(double share, double mean, double dispersion) const {
    if (!(mean > 0) || !(dispersion > 0) || !(share > 0 && share < 1)) return nan;
    if (isCounts(power))
        return dispersion > 1 + 1e-9 ? bm::quantile(overdispersed(mean, dispersion), share)
                                     : bm::quantile(Poisson(mean), share);
    if (power == 2) return bm::quantile(Gamma(1 / dispersion, mean * dispersion), share);
    if (power == 3) return bm::quantile(InverseGaussian(mean, 1 / dispersion), share);
    if (share <= below(0, mean, dispersion)) return 0;
    double low = 0, high = mean;
    while (below(high, mean, dispersion) < share && high < 1e300)
        low = high, high *= 2;
    std::uintmax_t most = 100;
    const auto [from, to] =
        bm::tools::toms748_solve([&](double y) { return below(y, mean, dispersion) - share; }, low, high,
                                 [](double a, double b) { return b - a <= 1e-12 * b; }, most);
    return from + (to - from) / 2;
}

} // namespace oxgoad
