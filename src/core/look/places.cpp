#include "look/places.h"

#include "estimate/distributions.h"
#include "look/scaled.h"

#include <algorithm>
#include <bit>
#include <cctype>
#include <cmath>
#include <numbers>
#include <unordered_map>

namespace oxgoad {

namespace {

struct PlaceHash {
    std::size_t operator()(const std::pair<double, double>& p) const {
        const auto a = std::bit_cast<std::uint64_t>(p.first) * 0x9E3779B97F4A7C15U;
        return static_cast<std::size_t>((a ^ (a >> 29U)) + std::bit_cast<std::uint64_t>(p.second) * 31U);
    }
};

double haversine(const Place& a, const Place& b) {
    constexpr double radian = std::numbers::pi / 180;
    const double s = std::sin((b.latitude - a.latitude) * radian / 2);
    const double t = std::sin((b.longitude - a.longitude) * radian / 2);
    return s * s + std::cos(a.latitude * radian) * std::cos(b.latitude * radian) * t * t;
}

} // namespace

const Column* coordinateOf(const Table& table, std::string_view start) {
    for (const Column& column : table.columns()) {
        const std::string& name = column.name();
        if (column.kind() == ColumnKind::number && name.size() >= start.size() &&
            std::equal(start.begin(), start.end(), name.begin(),
                       [](char a, char b) { return a == std::tolower(static_cast<unsigned char>(b)); }))
            return &column;
    }
    return nullptr;
}

Places placesOf(std::span<const double> longitude, std::span<const double> latitude,
                std::span<const double> target, std::span<const std::uint8_t> used) {
    Places result;
    result.placeOfRow.assign(longitude.size(), -1);
    const double scale = powerOfTwoScale(target);
    std::unordered_map<std::pair<double, double>, std::int32_t, PlaceHash> known;
    std::vector<double> withTarget;
    double south = 90, north = -90;
    for (std::size_t i = 0; i < longitude.size(); ++i) {
        if (!used.empty() && used[i] == 0) continue;
        const double lon = longitude[i] + 0.0, lat = latitude[i] + 0.0; // one zero
        if (!std::isfinite(lon) || !std::isfinite(lat)) {
            ++result.missing;
            continue;
        }
        if (std::fabs(lon) > 180 || std::fabs(lat) > 90) {
            ++result.outOfRange;
            continue;
        }
        const auto [at, fresh] =
            known.try_emplace({lon, lat}, static_cast<std::int32_t>(result.places.size()));
        if (fresh) {
            result.places.push_back({lon, lat, 0, 0, i});
            withTarget.push_back(0);
            south = std::min(south, lat);
            north = std::max(north, lat);
        }
        const auto p = static_cast<std::size_t>(at->second);
        result.placeOfRow[i] = at->second;
        ++result.places[p].rows;
        if (std::isfinite(target[i])) {
            withTarget[p] += 1;
            result.places[p].mean += (target[i] * scale - result.places[p].mean) / withTarget[p];
        }
    }
    for (std::size_t p = 0; p < result.places.size(); ++p)
        result.places[p].mean = withTarget[p] > 0 ? result.places[p].mean / scale : std::nan("");
    if (!result.places.empty())
        result.proportion = std::max(0.01, std::cos((south + north) / 2 * std::numbers::pi / 180));
    return result;
}

std::optional<Moran> moran(std::span<const double> values, std::span<const double> weights) {
    const std::size_t count = values.size();
    const auto n = static_cast<double>(count);
    if (count < 4) return std::nullopt;
    const double scale = powerOfTwoScale(values);
    double mean = 0;
    for (std::size_t i = 0; i < count; ++i)
        mean += (values[i] * scale - mean) / static_cast<double>(i + 1);
    std::vector<double> z(count);
    double second = 0, fourth = 0;
    for (std::size_t i = 0; i < count; ++i) {
        z[i] = values[i] * scale - mean;
        second += z[i] * z[i];
        fourth += z[i] * z[i] * z[i] * z[i];
    }
    if (!(second > 1e-28 * n)) return std::nullopt;
    double s0 = 0, s1 = 0, s2 = 0, cross = 0;
    for (std::size_t i = 0; i < count; ++i) {
        double out = 0, in = 0;
        for (std::size_t j = 0; j < count; ++j) {
            const double w = weights[i * count + j];
            const double back = weights[j * count + i];
            s0 += w;
            s1 += (w + back) * (w + back) / 2;
            cross += w * z[i] * z[j];
            out += w;
            in += back;
        }
        s2 += (out + in) * (out + in);
    }
    Moran result;
    result.places = count;
    result.i = n / s0 * cross / second;
    result.expected = -1 / (n - 1);
    const double kurtosis = n * fourth / (second * second);
    const double square = (n * ((n * n - 3 * n + 3) * s1 - n * s2 + 3 * s0 * s0) -
                           kurtosis * ((n * n - n) * s1 - 2 * n * s2 + 6 * s0 * s0)) /
                          ((n - 1) * (n - 2) * (n - 3) * s0 * s0);
    result.deviation = std::sqrt(std::max(0.0, square - result.expected * result.expected));
    result.p = normalTwoSided((result.i - result.expected) / result.deviation);
    return result;
}

std::vector<PlaceClass> placeClasses(const std::vector<Place>& places, std::size_t classes) {
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < places.size(); ++i)
        if (std::isfinite(places[i].mean)) order.push_back(i);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return places[a].mean < places[b].mean; });
    std::vector<PlaceClass> found;
    std::size_t begin = 0;
    for (std::size_t c = 1; c <= classes && begin < order.size(); ++c) {
        std::size_t end = c * order.size() / classes;
        if (end <= begin) continue; // equal means before filled this class too
        while (end < order.size() && places[order[end]].mean == places[order[end - 1]].mean)
            ++end;
        PlaceClass made{places[order[begin]].mean, places[order[end - 1]].mean, {}};
        made.places.assign(order.begin() + static_cast<std::ptrdiff_t>(begin),
                           order.begin() + static_cast<std::ptrdiff_t>(end));
        found.push_back(std::move(made));
        begin = end;
    }
    return found;
}

std::optional<Moran> moran(const std::vector<Place>& places, std::size_t neighbours) {
    constexpr std::size_t most = 3000;
    std::vector<Place> known;
    for (const Place& p : places)
        if (std::isfinite(p.mean)) known.push_back(p);
    if (known.size() > most) {
        std::vector<Place> thinned;
        for (std::size_t k = 0; k < most; ++k)
            thinned.push_back(known[k * known.size() / most]);
        known = std::move(thinned);
    }
    const std::size_t n = known.size();
    if (n < 8) return std::nullopt;
    const std::size_t near = std::min(neighbours, n - 1);
    std::vector<double> weights(n * n, 0.0);
    std::vector<double> values;
    std::vector<std::pair<double, std::size_t>> distances;
    for (std::size_t i = 0; i < n; ++i) {
        values.push_back(known[i].mean);
        distances.clear();
        for (std::size_t j = 0; j < n; ++j)
            if (j != i) distances.emplace_back(haversine(known[i], known[j]), j);
        std::nth_element(distances.begin(), distances.begin() + static_cast<std::ptrdiff_t>(near - 1),
                         distances.end());
        for (std::size_t k = 0; k < near; ++k)
            weights[i * n + distances[k].second] = 1 / static_cast<double>(near);
    }
    return moran(values, weights);
}

} // namespace oxgoad
