#pragma once
// Rows on the ground.
#include "table/table.h"
#include <cstddef>

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// Rows that share longitude and latitude (degrees).
struct Place {
    double longitude = 0, latitude = 0;
    std::size_t rows = 0;
    /// Mean of the target over the rows that have one; NaN without.
    double mean = 0;
    /// A row that stands for the place.
    std::size_t first = 0;
};

struct Places {
    /// In the order of their first rows.
    std::vector<Place> places;
    /// For each row the place it is at, or -1.
    std::vector<std::int32_t> placeOfRow;
    /// Rows with a longitude beyond ±180 or a latitude beyond ±90: not drawn.
    std::size_t outOfRange = 0;
    /// Rows without coordinates.
    std::size_t missing = 0;
    /// Length of a degree of longitude over that of a degree of latitude at the middle latitude
    /// (equirectangular projection; Snyder 1987, "Map projections: a working manual", §12).
    double proportion = 1;
};

/// The first number whose name starts so, whatever its case: "lon", "lat". Null when there is none.
const Column* coordinateOf(const Table& table, std::string_view start);

/// Throws nothing; rows where `used` is 0 belong to no place and are not counted.
Places placesOf(std::span<const double> longitude, std::span<const double> latitude,
                std::span<const double> target, std::span<const std::uint8_t> used);

/// A class of places with about as many places as each other class; places with equal means share one.
struct PlaceClass {
    /// Smallest and largest mean in it.
    double low = 0, high = 0;
    /// Numbers of its places.
    std::vector<std::size_t> places;
};
/// At most `classes`, lowest first; places without a mean are in none. Classes by quantiles: Slocum et al.
/// 2009, "Thematic cartography and geovisualization", 3rd ed., §5.2.2.
std::vector<PlaceClass> placeClasses(const std::vector<Place>& places, std::size_t classes);

/// Whether near places are alike: Moran's I (Moran 1950, "Notes on continuous stochastic phenomena") of the
/// means, each place against its `neighbours` nearest by great circle (haversine, Sinnott 1984), weights of
/// one row summing to 1. Expectation and variance under randomisation: Cliff and Ord (1981), "Spatial
/// processes", §1.5; p two-sided from the normal distribution.
struct Moran {
    std::size_t places = 0;
    double i = 0, expected = 0, deviation = 0, p = 0;
};
/// Of at most 3,000 places, evenly spaced ones when there are more. Empty with fewer than eight places with a
/// mean, or without spread.
std::optional<Moran> moran(const std::vector<Place>& places, std::size_t neighbours = 5);

/// Moran's I for given weights (n × n, row by row, 0 on the diagonal).
std::optional<Moran> moran(std::span<const double> values, std::span<const double> weights);

} // namespace oxgoad
