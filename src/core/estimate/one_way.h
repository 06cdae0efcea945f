#pragma once
// One-way analysis of variance of errors by group.
#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// Which group each value is of; -1 for none.
struct Grouping {
    std::vector<std::int32_t> group;
    /// Values of each group.
    std::vector<double> sizes;
    /// Values of none.
    std::size_t missing = 0;
    std::size_t groups() const { return sizes.size(); }
    /// Groups of two values or more.
    std::size_t shared() const;
    /// Group `of` some key, in order of appearance; `isMissing` keys are of none.
    static Grouping by(std::span<const std::int64_t> keys, std::int64_t missingKey);
};

/// Of e = group + rest, both with mean 0: variances by moments with the usual size n₀ of unequal groups
/// (Searle, Casella and McCulloch 1992, "Variance components", §3.6), the intraclass correlation, and F with
/// its degrees of freedom that the groups' variance is 0. NaN where nothing differs within groups.
struct OneWay {
    double between = 0, within = 0;
    double intraclass = 0;
    double f = 0, numeratorDf = 0, denominatorDf = 0;
    double p() const;
};
OneWay oneWay(std::span<const double> values, const Grouping& grouping);

} // namespace oxgoad
