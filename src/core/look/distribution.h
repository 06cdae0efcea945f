#pragma once
// How one column is distributed, and what a power of it would look like.
#include "base/parallel.h"
#include "base/progress.h"

#include <cstddef>
#include <optional>
#include <span>
#include <vector>

namespace oxgoad {

/// Counts over equal bins whose width is by Freedman and Diaconis (1981, "On the histogram as a density
/// estimator"), between 5 and 60 bins.
struct Histogram {
    double low = 0;
    double width = 0;
    std::vector<std::size_t> counts;
};
/// Empty when no value is finite, or when their range overflows.
std::optional<Histogram> histogram(std::vector<double> values);

/// Moments of the finite values. NaN where they cannot be said.
struct Moments {
    std::size_t rows = 0;
    double mean = 0;
    /// Divisor n - 1.
    double standardDeviation = 0;
    /// g1 and g2 of Joanes and Gill (1998, "Comparing measures of sample skewness and kurtosis"): third and
    /// fourth standardised moments with divisor n, the fourth less 3.
    double skewness = 0;
    double excessKurtosis = 0;
};
Moments momentsOf(std::span<const double> values);

/// A density at equal steps.
struct SmoothDensity {
    double low = 0, step = 0, bandwidth = 0;
    std::vector<double> height;
};
/// Gaussian kernel, bandwidth 0.9·min(s, IQR/1.34)·n^(-1/5) (Silverman 1986, "Density estimation", eq. 3.31),
/// on linearly binned values (Wand 1994). Empty with fewer than five values or no spread.
std::optional<SmoothDensity> smoothDensity(std::span<const double> values);

/// Sorted values against what a normal distribution would have: plotting positions (i − 3/8)/(n + 1/4) (Blom
/// 1958).
struct NormalQuantiles {
    /// Standard normal quantiles and the sorted values, at most 2,000 of them: all when there are no more,
    /// otherwise the outermost 200 on each side and evenly spaced ones between.
    std::vector<double> normal, value;
    /// Place of each value among those given.
    std::vector<std::size_t> place;
    /// Through the quartiles of both.
    double intercept = 0, slope = 0;
    /// Correlation of all sorted values with their normal quantiles (Filliben 1975 with Blom's positions).
    double correlation = 0;
};
/// Empty with fewer than three finite values.
std::optional<NormalQuantiles> normalQuantiles(std::span<const double> values);

/// Profile likelihood of the power λ in (y^λ − 1)/λ, ln y at 0, with a normal distribution about one mean
/// (Box and Cox 1964, "An analysis of transformations", eq. 8 and §3).
struct BoxCox {
    /// Where the likelihood is largest, within −3 … 3.
    double lambda = 1;
    /// Powers whose log likelihood is within χ²₁(level)/2 of the largest; −∞ or ∞ beyond −5 and 5.
    double lower = 0, upper = 0;
    double logLikelihood = 0;
    /// The profile at even steps for drawing.
    std::vector<double> powers, profile;
    /// A plain power within the interval: 1, 0, 1/2, −1, 1/3, 2, −1/2, the first that is in; otherwise
    /// lambda.
    double plain = 1;
};
/// Requires values; those that are not finite are passed over. Empty when one is not positive, with fewer
/// than five, or without spread. Throws Stopped. The same for any number of threads.
std::optional<BoxCox> boxCox(std::span<const double> values, double level, Threads threads,
                             Progress& progress);

} // namespace oxgoad
