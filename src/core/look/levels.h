#pragma once
// A number by levels of a factor, and by bands of another number.
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace oxgoad {

/// Quartiles, fences and whiskers (Tukey 1977, "Exploratory data analysis", §2C–2D; quartiles by definition 7
/// of Hyndman and Fan 1996).
struct BoxStatistics {
    /// Code of the level, -1 for all rows.
    std::int32_t level = -1;
    std::size_t rows = 0;
    double lowerQuartile = 0, median = 0, upperQuartile = 0;
    /// 1.5 quartile spreads beyond the quartiles.
    double lowerFence = 0, upperFence = 0;
    /// The farthest values that lie within the fences.
    double lowerWhisker = 0, upperWhisker = 0;
    std::size_t beyond = 0;
    double mean = 0;
};

/// Empty when no value is finite.
std::optional<BoxStatistics> boxOf(std::vector<double> values);

/// One a level that has rows, ordered by median (then by code). Values that are not finite and codes of -1
/// are passed over.
std::vector<BoxStatistics> boxesByLevel(std::span<const double> y, std::span<const std::int32_t> codes,
                                        std::size_t levels);

/// The mean of y over a band of x, with its interval by Student's t.
struct BandMean {
    /// Smallest and largest x in the band, and their mean.
    double low = 0, high = 0, centre = 0;
    std::size_t rows = 0;
    double mean = 0;
    /// NaN for a band of one row.
    double lower = 0, upper = 0;
};

/// Up to `bands` bands with about the same number of rows each; equal x stay together. Points that are not
/// finite are passed over.
std::vector<BandMean> meansByBand(std::span<const double> x, std::span<const double> y, std::size_t bands,
                                  double level = 0.95);

} // namespace oxgoad
