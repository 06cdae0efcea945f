#pragma once
// What intervals of single values are made of. There is no fallback: a model says which, or why there are
// none.
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace oxgoad {

/// By the distribution that the theory of the method gives.
struct IntervalsByTheory {
    bool operator==(const IntervalsByTheory&) const = default;
};

/// Between two quantiles that were learned.
struct IntervalsByQuantiles {
    bool operator==(const IntervalsByQuantiles&) const = default;
};

/// By what rows were missed by that a model had not learned from.
struct IntervalsByErrors {
    /// By which model each row was predicted.
    enum class Of {
        /// By one of all rows but it.
        leftOneOut,
        /// By those of the draws that it was not in.
        outOfBag,
        /// By one of the other folds.
        outOfFold
    };
    Of of = Of::leftOneOut;
    /// Sizes of the errors on the model's scale and for the usual weight, ascending.
    std::vector<double> sizes;

    bool operator==(const IntervalsByErrors&) const = default;
    /// Half of an interval: the ⌈level·(m + 1)⌉-th of the m sizes (the jackknife interval: Barber, Candès,
    /// Ramdas and Tibshirani 2021, Annals of Statistics 49, §1); NaN when there are too few for the level.
    double half(double level) const;
};

struct NoIntervals {
    std::string why = "no row was predicted by a model that had not learned from it";
    bool operator==(const NoIntervals&) const = default;
};

using Intervals = std::variant<NoIntervals, IntervalsByTheory, IntervalsByQuantiles, IntervalsByErrors>;

/// "by theory", "by rows left out one at a time", "none: …".
std::string intervalsText(const Intervals& intervals);
/// "left out one at a time", "out of bag", "out of fold".
std::string_view errorsOfName(IntervalsByErrors::Of of);

} // namespace oxgoad
