#pragma once
// Setting rows aside, and how well predictions do on each part.
#include <Eigen/Core>

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace oxgoad {

enum class Part : std::uint8_t { learning, heldOut };

/// A share of all rows, at random.
struct RandomHoldOut {
    double share = 0.25;
    std::uint64_t seed = 1;
    bool operator==(const RandomHoldOut&) const = default;
};

/// The part of every row 0..rows-1. round(share·rows) rows are held out, the first of a random order that
/// depends on the seed and the number of rows only: which columns are used changes nothing.
std::vector<Part> assignParts(std::size_t rows, const std::optional<RandomHoldOut>& holdOut);

/// How predictions compare with actual values. NaN where it cannot be said.
struct Scores {
    std::size_t rows = 0;
    double rmse = 0;
    double mae = 0;
    /// 1 - SSE / sum of squares about these rows' own mean.
    double rSquared = 0;
    /// Σ|e| over Σ|y - m|, and Σe² over Σ(y - m)², m the mean of the learning rows: below 1 is better than
    /// always predicting that mean (Witten, Frank and Hall 2011, "Data mining", 3rd ed., §5.8).
    double relativeAbsoluteError = 0;
    double relativeSquaredError = 0;
    /// Standard error of rmse, from the spread of the squared errors (delta method).
    double rmseError = 0;
    double meanActual = 0;
};

Scores score(std::span<const double> actual, std::span<const double> predicted, double learningMean);

} // namespace oxgoad
