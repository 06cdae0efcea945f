#pragma once
// A number over time: by period, its season, and how it resembles itself later.
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

enum class Period { day, month, quarter, year };
enum class Summing { mean, total };

/// One value a period that has rows, in order of time.
struct Series {
    Period period = Period::month;
    /// Number of the period: days since 1970-01-01, months or quarters since January 1970, or the year.
    std::vector<std::int64_t> time;
    std::vector<double> value;
    std::vector<std::size_t> rows;
    /// Periods between the first and the last without rows.
    std::size_t gaps = 0;
    double mean = 0;
};

std::int64_t periodOf(std::int32_t day, Period period);
/// First day of a period.
std::int32_t firstDayOf(std::int64_t time, Period period);
/// "Mar 2024", "2024 Q1", "2024", "2024-03-01".
std::string periodText(std::int64_t time, Period period);

/// The longest period that tells nearly all the dates of the rows apart: month for rows on the first of each
/// month, day for daily ones up to 200 distinct days and month beyond.
Period fittingPeriod(std::span<const double> days);

/// Mean or total of y a period. `days` are days since 1970-01-01, NaN where missing; rows lacking either are
/// passed over.
Series seriesOf(std::span<const double> days, std::span<const double> y, Period period, Summing summing);
/// One a level of a group, in the order of levels; empty series for levels without rows.
std::vector<Series> seriesByGroup(std::span<const double> days, std::span<const double> y,
                                  std::span<const std::int32_t> group, std::size_t levels, Period period,
                                  Summing summing);

/// Which share of what the years leave over is said by the season of the year, by the additive model value =
/// year + season (two-way analysis of variance, Snedecor and Cochran 1989, ch. 14).
struct Season {
    /// Seasons a year: 12 or 4.
    int length = 12;
    double share = 0;
    double f = 0, numeratorDf = 0, denominatorDf = 0, p = 0;
    /// Highest and lowest season, from 0, by the mean of what years leave over.
    int highest = 0, lowest = 0;
    /// Difference of these two means, in units of the series.
    double swing = 0;
};
/// Of a monthly or quarterly series over at least two years; empty otherwise.
std::optional<Season> seasonOf(const Series& series);

/// r_k = Σ (y_t − ȳ)(y_{t+k} − ȳ) / Σ (y_t − ȳ)² for k = 1 … lags (Box, Jenkins and Reinsel 2008, "Time
/// series analysis", 4th ed., eq. 2.1.12). The values are taken as equally spaced. Empty without spread.
std::vector<double> autocorrelation(std::span<const double> values, std::size_t lags);

} // namespace oxgoad
