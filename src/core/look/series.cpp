#include "look/series.h"

#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/least_squares.h"
#include "look/scaled.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <map>
#include <set>

namespace oxgoad {

namespace {

std::chrono::year_month_day civil(std::int32_t day) {
    return std::chrono::sys_days(std::chrono::days(day));
}

constexpr std::array monthNames{"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};

std::int64_t floorDivided(std::int64_t a, std::int64_t b) {
    return a >= 0 ? a / b : -((-a + b - 1) / b);
}

Series seriesOfRows(std::vector<std::pair<std::int64_t, double>>& rows, Period period, Summing summing) {
    std::stable_sort(rows.begin(), rows.end(),
                     [](const auto& a, const auto& b) { return a.first < b.first; });
    Series series;
    series.period = period;
    std::size_t begin = 0;
    while (begin < rows.size()) {
        std::size_t end = begin;
        double mean = 0;
        long double sum = 0;
        while (end < rows.size() && rows[end].first == rows[begin].first) {
            sum += rows[end].second;
            ++end;
        }
        mean = static_cast<double>(sum / static_cast<long double>(end - begin));
        series.time.push_back(rows[begin].first);
        series.value.push_back(summing == Summing::mean ? mean : static_cast<double>(sum));
        series.rows.push_back(end - begin);
        begin = end;
    }
    if (!series.time.empty())
        series.gaps =
            static_cast<std::size_t>(series.time.back() - series.time.front() + 1) - series.time.size();
    double mean = 0;
    for (std::size_t i = 0; i < series.value.size(); ++i)
        mean += (series.value[i] - mean) / static_cast<double>(i + 1);
    series.mean = mean;
    return series;
}

} // namespace

std::int64_t periodOf(std::int32_t day, Period period) {
    if (period == Period::day) return day;
    const auto date = civil(day);
    const std::int64_t year = static_cast<int>(date.year());
    const std::int64_t month = static_cast<unsigned>(date.month()) - 1;
    if (period == Period::year) return year;
    const std::int64_t months = (year - 1970) * 12 + month;
    return period == Period::month ? months : floorDivided(months, 3);
}

std::int32_t firstDayOf(std::int64_t time, Period period) {
    if (period == Period::day) return static_cast<std::int32_t>(time);
    const std::int64_t months = period == Period::year      ? (time - 1970) * 12
                                : period == Period::quarter ? time * 3
                                                            : time;
    const std::int64_t year = 1970 + floorDivided(months, 12);
    const auto month = static_cast<unsigned>(months - floorDivided(months, 12) * 12 + 1);
    return daysFromCivil(static_cast<int>(year), month, 1).value_or(0);
}

std::string periodText(std::int64_t time, Period period) {
    const std::int32_t day = firstDayOf(time, period);
    if (period == Period::day) return dateText(day);
    const auto date = civil(day);
    const std::string year = std::to_string(static_cast<int>(date.year()));
    const unsigned month = static_cast<unsigned>(date.month()) - 1;
    if (period == Period::year) return year;
    if (period == Period::month) return std::string(monthNames[month]) + " " + year;
    return year + " Q" + std::to_string(month / 3 + 1);
}

Period fittingPeriod(std::span<const double> days) {
    std::set<std::int32_t> distinct;
    std::set<std::int64_t> months;
    for (const double d : days) {
        if (!std::isfinite(d)) continue;
        const auto day = static_cast<std::int32_t>(d);
        if (distinct.insert(day).second) months.insert(periodOf(day, Period::month));
        if (distinct.size() > 200 && distinct.size() > 2 * months.size()) return Period::month;
    }
    if (distinct.size() <= months.size()) {
        std::set<std::int64_t> years;
        for (const auto day : distinct)
            years.insert(periodOf(day, Period::year));
        return distinct.size() <= years.size() && years.size() > 1 ? Period::year : Period::month;
    }
    return distinct.size() <= 200 ? Period::day : Period::month;
}

Series seriesOf(std::span<const double> days, std::span<const double> y, Period period, Summing summing) {
    return seriesByGroup(days, y, {}, 1, period, summing).front();
}

std::vector<Series> seriesByGroup(std::span<const double> days, std::span<const double> y,
                                  std::span<const std::int32_t> group, std::size_t levels, Period period,
                                  Summing summing) {
    std::vector<std::vector<std::pair<std::int64_t, double>>> rows(levels);
    // Rows often come in order of time: the last answer is kept.
    std::int32_t lastDay = 0;
    std::int64_t lastTime = periodOf(0, period);
    for (std::size_t i = 0; i < days.size(); ++i) {
        if (!std::isfinite(days[i]) || !std::isfinite(y[i])) continue;
        if (!group.empty() && group[i] < 0) continue;
        const auto day = static_cast<std::int32_t>(days[i]);
        if (day != lastDay) {
            lastDay = day;
            lastTime = periodOf(day, period);
        }
        rows[group.empty() ? 0 : static_cast<std::size_t>(group[i])].emplace_back(lastTime, y[i]);
    }
    std::vector<Series> series;
    for (auto& r : rows)
        series.push_back(seriesOfRows(r, period, summing));
    return series;
}

std::optional<Season> seasonOf(const Series& series) {
    if (series.period != Period::month && series.period != Period::quarter) return std::nullopt;
    Season season;
    season.length = series.period == Period::month ? 12 : 4;
    const std::size_t n = series.value.size();
    auto seasonAt = [&](std::size_t i) {
        return static_cast<int>(series.time[i] - floorDivided(series.time[i], season.length) * season.length);
    };
    std::map<std::int64_t, int> years;
    std::map<int, int> seasons;
    for (std::size_t i = 0; i < n; ++i) {
        years.emplace(floorDivided(series.time[i], season.length), 0);
        seasons.emplace(seasonAt(i), 0);
    }
    if (n < 2 * static_cast<std::size_t>(season.length) || years.size() < 2 || seasons.size() < 2)
        return std::nullopt;
    int next = 0;
    for (auto& [year, place] : years)
        place = next++;
    const auto yearColumns = static_cast<Eigen::Index>(years.size()) - 1;
    next = 0;
    for (auto& [code, place] : seasons)
        place = next++;
    const auto seasonColumns = static_cast<Eigen::Index>(seasons.size()) - 1;
    if (static_cast<Eigen::Index>(n) <= 1 + yearColumns + seasonColumns) return std::nullopt;
    Eigen::MatrixXd x = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(n), yearColumns + seasonColumns);
    const double scale = powerOfTwoScale(series.value);
    std::vector<double> y(n);
    for (std::size_t i = 0; i < n; ++i) {
        y[i] = series.value[i] * scale;
        const int year = years[floorDivided(series.time[i], season.length)];
        const int place = seasons[seasonAt(i)];
        if (year > 0) x(static_cast<Eigen::Index>(i), year - 1) = 1;
        if (place > 0) x(static_cast<Eigen::Index>(i), yearColumns + place - 1) = 1;
    }
    Progress silent;
    try {
        const Eigen::MatrixXd yearsOnly = x.leftCols(yearColumns);
        const LeastSquaresFit both = fitLeastSquares(MatrixRows(x), y, {}, silent);
        const LeastSquaresFit less = fitLeastSquares(MatrixRows(yearsOnly), y, {}, silent);
        const double said = less.residualSumOfSquares - both.residualSumOfSquares;
        season.numeratorDf = static_cast<double>(both.rank() - less.rank());
        season.denominatorDf = both.degreesOfFreedom;
        season.share = less.residualSumOfSquares > 0 ? said / less.residualSumOfSquares : 0;
        season.f = said / season.numeratorDf / (both.residualSumOfSquares / season.denominatorDf);
        season.p = fisherUpper(season.f, season.numeratorDf, season.denominatorDf);
        std::map<int, std::pair<double, double>> left; // sum and count of what years leave over
        for (std::size_t i = 0; i < n; ++i) {
            auto& [sum, count] = left[seasonAt(i)];
            sum += less.residuals[static_cast<Eigen::Index>(i)];
            count += 1;
        }
        double lowest = INFINITY, highest = -INFINITY;
        for (const auto& [code, entry] : left) {
            const double mean = entry.first / entry.second;
            if (mean > highest) {
                highest = mean;
                season.highest = code;
            }
            if (mean < lowest) {
                lowest = mean;
                season.lowest = code;
            }
        }
        season.swing = (highest - lowest) / scale;
    } catch (const Error&) { // a constant series
        return std::nullopt;
    }
    return season;
}

std::vector<double> autocorrelation(std::span<const double> values, std::size_t lags) {
    const double scale = powerOfTwoScale(values);
    const auto n = values.size();
    long double sum = 0;
    for (const double v : values)
        sum += v * scale;
    const auto mean = static_cast<double>(sum / static_cast<long double>(std::max<std::size_t>(n, 1)));
    auto product = [&](std::size_t k) {
        long double total = 0;
        for (std::size_t t = 0; t + k < n; ++t)
            total += (values[t] * scale - mean) * (values[t + k] * scale - mean);
        return static_cast<double>(total);
    };
    const double spread = product(0);
    std::vector<double> r;
    if (!(spread > 0)) return r;
    for (std::size_t k = 1; k <= std::min(lags, n - 1); ++k)
        r.push_back(product(k) / spread);
    return r;
}

} // namespace oxgoad
