#include "estimate/one_way.h"

#include "estimate/distributions.h"

#include <algorithm>
#include <cmath>
#include <unordered_map>

namespace oxgoad {

std::size_t Grouping::shared() const {
    return static_cast<std::size_t>(
        std::count_if(sizes.begin(), sizes.end(), [](double size) { return size > 1; }));
}

Grouping Grouping::by(std::span<const std::int64_t> keys, std::int64_t missingKey) {
    Grouping out;
    std::unordered_map<std::int64_t, std::int32_t> place;
    out.group.reserve(keys.size());
    for (const std::int64_t key : keys) {
        if (key == missingKey) {
            out.group.push_back(-1);
            ++out.missing;
            continue;
        }
        const auto [at, added] = place.emplace(key, static_cast<std::int32_t>(out.sizes.size()));
        if (added) out.sizes.push_back(0);
        ++out.sizes[static_cast<std::size_t>(at->second)];
        out.group.push_back(at->second);
    }
    return out;
}

OneWay oneWay(std::span<const double> values, const Grouping& grouping) {
    const auto k = static_cast<double>(grouping.groups());
    std::vector<long double> sums(grouping.groups(), 0);
    long double n = 0, total = 0, squares = 0, sizeSquares = 0;
    for (std::size_t i = 0; i < values.size(); ++i) {
        if (grouping.group[i] < 0) continue;
        sums[static_cast<std::size_t>(grouping.group[i])] += values[i];
        total += values[i];
        squares += static_cast<long double>(values[i]) * values[i];
        ++n;
    }
    long double between = -total * total / n, within = squares;
    for (std::size_t j = 0; j < sums.size(); ++j) {
        between += sums[j] * sums[j] / grouping.sizes[j];
        within -= sums[j] * sums[j] / grouping.sizes[j];
        sizeSquares += static_cast<long double>(grouping.sizes[j]) * grouping.sizes[j];
    }
    const auto usual = static_cast<double>((n - sizeSquares / n) / (k - 1));
    OneWay out;
    out.numeratorDf = k - 1;
    out.denominatorDf = static_cast<double>(n) - k;
    const double msb = static_cast<double>(between) / out.numeratorDf,
                 msw = static_cast<double>(within) / out.denominatorDf;
    out.f = msb / msw;
    out.intraclass = (msb - msw) / (msb + (usual - 1) * msw);
    out.within = msw;
    out.between = std::max(0.0, (msb - msw) / usual);
    return out;
}

double OneWay::p() const {
    return fisherUpper(f, numeratorDf, denominatorDf);
}

} // namespace oxgoad
