#pragma once
// Whether the values at one end of a column belong to it.
#include <cstddef>
#include <span>

namespace oxgoad {

struct ApartValues {
    /// How many values stand apart; 0 when none does.
    std::size_t count = 0;
    /// The one of them nearest to the others.
    double nearest = 0;
    /// The chance of so wide a gap in a tail that goes on as it began.
    double p = 1;
};

/// The chance, for each end of a column, that a tail without anything odd is called apart: 1 in 200 at most.
inline constexpr double apartChance = 0.005;

/// The values at the upper (or lower) end that stand apart from the rest, whatever the number of rows and
/// however heavy a plain tail is. Distances from the median are taken in logarithms: under a tail that falls
/// like a power (Pareto) their normalised spacings are independent and exponential (Rényi 1953, "On the
/// theory of order statistics"; Hill 1975, "A simple general approach to inference about the tail of a
/// distribution"), so that a spacing over the mean of the k below it has an F distribution with 2 and 2k
/// degrees of freedom; under lighter tails (normal, exponential, lognormal, bounded) wide spacings are rarer
/// still. The first ten different values are looked at, as far as they are at most 1 in 20 of all, the
/// outermost at half of apartChance and the others at equal parts of the rest; equal values stand for as many
/// spacings drawn together by rounding. Requires sorted values without NaN; nothing is apart among fewer
/// than 20.
ApartValues apartAbove(std::span<const double> sorted);
ApartValues apartBelow(std::span<const double> sorted);

/// The chance of a gap as wide as the one above the lowest `count` values in a tail that falls no slower than
/// exponentially: as above, with the distances themselves. 1 when it cannot be said.
double chanceOfGapBelow(std::span<const double> sorted, std::size_t count);

} // namespace oxgoad
