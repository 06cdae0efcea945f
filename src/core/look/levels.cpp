#include "look/levels.h"

#include "estimate/distributions.h"
#include "look/scaled.h"
#include "table/summary.h"

#include <algorithm>

namespace oxgoad {

std::optional<BoxStatistics> boxOf(std::vector<double> values) {
    std::erase_if(values, [](double v) { return !std::isfinite(v); });
    if (values.empty()) return std::nullopt;
    sortNumbers(values);
    BoxStatistics box;
    box.rows = values.size();
    box.lowerQuartile = quantileOfSorted(values, 0.25);
    box.median = quantileOfSorted(values, 0.5);
    box.upperQuartile = quantileOfSorted(values, 0.75);
    const double spread = box.upperQuartile - box.lowerQuartile;
    box.lowerFence = box.lowerQuartile - 1.5 * spread;
    box.upperFence = box.upperQuartile + 1.5 * spread;
    const auto first = std::lower_bound(values.begin(), values.end(), box.lowerFence);
    const auto last = std::upper_bound(values.begin(), values.end(), box.upperFence);
    box.beyond = values.size() - static_cast<std::size_t>(last - first);
    // Quartiles between rows may leave no value within the fences.
    box.lowerWhisker = first < last ? std::min(*first, box.lowerQuartile) : box.lowerQuartile;
    box.upperWhisker = first < last ? std::max(*(last - 1), box.upperQuartile) : box.upperQuartile;
    double mean = 0;
    for (std::size_t i = 0; i < values.size(); ++i)
        mean += (values[i] - mean) / static_cast<double>(i + 1);
    box.mean = mean;
    return box;
}

std::vector<BoxStatistics> boxesByLevel(std::span<const double> y, std::span<const std::int32_t> codes,
                                        std::size_t levels) {
    std::vector<std::vector<double>> values(levels);
    for (std::size_t i = 0; i < y.size(); ++i)
        if (codes[i] >= 0 && std::isfinite(y[i])) values[static_cast<std::size_t>(codes[i])].push_back(y[i]);
    std::vector<BoxStatistics> boxes;
    for (std::size_t k = 0; k < levels; ++k)
        if (auto box = boxOf(std::move(values[k]))) {
            box->level = static_cast<std::int32_t>(k);
            boxes.push_back(*box);
        }
    std::stable_sort(boxes.begin(), boxes.end(),
                     [](const BoxStatistics& a, const BoxStatistics& b) { return a.median < b.median; });
    return boxes;
}

std::vector<BandMean> meansByBand(std::span<const double> x, std::span<const double> y, std::size_t bands,
                                  double level) {
    std::vector<std::pair<double, double>> points;
    points.reserve(x.size());
    for (std::size_t i = 0; i < x.size(); ++i)
        if (std::isfinite(x[i]) && std::isfinite(y[i])) points.emplace_back(x[i], y[i]);
    std::stable_sort(points.begin(), points.end(),
                     [](const auto& a, const auto& b) { return a.first < b.first; });
    const double xScale = powerOfTwoScale(x);
    const double yScale = powerOfTwoScale(y);
    std::vector<BandMean> means;
    std::size_t begin = 0;
    for (std::size_t k = 1; k <= bands && begin < points.size(); ++k) {
        std::size_t end = k * points.size() / bands;
        if (end <= begin) continue; // equal values before filled this band too
        while (end < points.size() && points[end].first == points[end - 1].first)
            ++end;
        PairSums sums;
        for (std::size_t i = begin; i < end; ++i)
            sums.add(points[i].first * xScale, points[i].second * yScale);
        BandMean band;
        band.low = points[begin].first;
        band.high = points[end - 1].first;
        band.centre = sums.meanX / xScale;
        band.rows = sums.n;
        band.mean = sums.meanY / yScale;
        const auto n = static_cast<double>(sums.n);
        const double half = sums.n > 1
                                ? studentQuantile(level, n - 1) * std::sqrt(sums.yy / (n - 1) / n) / yScale
                                : std::nan("");
        band.lower = band.mean - half;
        band.upper = band.mean + half;
        means.push_back(band);
        begin = end;
    }
    return means;
}

} // namespace oxgoad
