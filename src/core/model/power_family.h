#pragma once
// Distributions whose variance is a power of the mean: Var y = φ μ^p / w (Jørgensen 1987, "Exponential
// dispersion models", Journal of the Royal Statistical Society B 49; Tweedie 1984).
#include <string_view>

namespace oxgoad {

/// p: 1 counts with free dispersion, between 1 and 2 sums of a random number of gammas, with a chance of 0
/// (Tweedie), 2 gamma, 3 inverse Gaussian.
struct PowerFamily {
    double power = 2;

    bool operator==(const PowerFamily&) const = default;
    /// μ^p.
    double variance(double mean) const;
    /// d(y, μ), 0 where y = μ; requires μ > 0, and y > 0 for p >= 2, y >= 0 otherwise.
    double unitDeviance(double y, double mean) const;
    /// The root of it with the sign of y − μ.
    double devianceResidual(double y, double mean) const;
    /// Of one value with dispersion φ (divided by its weight). NaN for counts, which have none with a free
    /// dispersion. Tweedie by the series of Dunn and Smyth 2005, "Series evaluation of Tweedie exponential
    /// dispersion model densities", Statistics and Computing 15.
    double logDensity(double y, double mean, double dispersion) const;
    /// P(Y <= y), and P(Y < y): different where y has a chance of its own. Counts with φ > 1 as a negative
    /// binomial with the same mean and variance (multiples of 1), with φ <= 1 as Poisson.
    double below(double y, double mean, double dispersion) const;
    double strictlyBelow(double y, double mean, double dispersion) const;
    /// The value with that share below it; 0 where the chance of 0 is larger.
    double quantile(double share, double mean, double dispersion) const;
};

} // namespace oxgoad
