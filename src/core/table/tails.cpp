#include "table/tails.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace oxgoad {

namespace {

constexpr std::size_t fewestValues = 20;
constexpr std::size_t fewestSpacings = 5;
constexpr int differentValues = 10;
constexpr double rounding = 1e-12;

/// `distance(i)`: how far the i-th value from the end is from the median, falling; below `least` it is
/// rounding.
template <class Distance>
std::size_t countApart(std::size_t n, double least, Distance&& distance, double& p) {
    const std::size_t most = n / 20, half = n / 2;
    const std::size_t wanted = std::clamp<std::size_t>(n / 20, 10, 200);
    std::size_t found = 0;
    std::size_t m = 0;
    for (int tested = 0; tested < differentValues; ++tested) {
        // The next different value: m values stand above the gap, `ties` of them at its edge. Equal values
        // stand for as many spacings that rounding drew together into one. Values found apart count no more.
        const double above = distance(m);
        const std::size_t before = m;
        while (m < half && distance(m) == above)
            ++m;
        const auto ties = static_cast<double>(m - before);
        if (m > most || m >= half || !(distance(m) > least)) break;
        const double gap = std::log(above / distance(m));
        // The mean of normalised spacings below: at least `wanted` of them, and ten that are not 0, as far as
        // the quartile; as far as the median where few different values stand above the quartile.
        double sum = 0;
        std::size_t spacings = 0, jumps = 0;
        for (std::size_t i = m; i + 1 < half && (spacings < wanted || jumps < 10); ++i) {
            if (i >= n / 4 && jumps >= 3) break;
            const double next = distance(i + 1);
            if (!(next > least)) break;
            const double spacing = static_cast<double>(i + 1 - found) * std::log(distance(i) / next);
            sum += spacing;
            jumps += spacing > 0;
            ++spacings;
        }
        if (spacings < fewestSpacings || !(sum > 0) || !std::isfinite(gap)) break;
        const auto k = static_cast<double>(spacings);
        const double ratio = static_cast<double>(m - found) / ties * gap / (sum / k);
        const double chance = std::exp(-k * std::log1p(ratio / k));
        // One value alone is by far the commonest: half of the chance is given to the outermost.
        const double allowed = tested == 0 ? apartChance / 2 : apartChance / 2 / (differentValues - 1);
        if (chance < allowed) {
            found = m;
            p = chance;
        }
    }
    return found;
}

} // namespace

double chanceOfGapBelow(std::span<const double> sorted, std::size_t count) {
    const std::size_t n = sorted.size(), half = n / 2;
    if (n < fewestValues || count == 0 || count >= half) return 1;
    const std::size_t wanted = std::clamp<std::size_t>(n / 20, 10, 200);
    double sum = 0;
    std::size_t spacings = 0, jumps = 0;
    for (std::size_t i = count; i + 1 < half && (spacings < wanted || jumps < 10); ++i) {
        const double spacing = static_cast<double>(i + 1) * (sorted[i + 1] - sorted[i]);
        sum += spacing;
        jumps += spacing > 0;
        ++spacings;
    }
    if (spacings < fewestSpacings || !(sum > 0)) return 1;
    const auto k = static_cast<double>(spacings);
    const double ratio = static_cast<double>(count) * (sorted[count] - sorted[count - 1]) / (sum / k);
    return std::exp(-k * std::log1p(ratio / k));
}

ApartValues apartAbove(std::span<const double> sorted) {
    ApartValues apart;
    const std::size_t n = sorted.size();
    if (n < fewestValues) return apart;
    const double middle = sorted[n / 2];
    apart.count = countApart(
        n, rounding * std::fabs(middle), [&](std::size_t i) { return sorted[n - 1 - i] - middle; }, apart.p);
    if (apart.count > 0) apart.nearest = sorted[n - apart.count];
    return apart;
}

ApartValues apartBelow(std::span<const double> sorted) {
    ApartValues apart;
    const std::size_t n = sorted.size();
    if (n < fewestValues) return apart;
    const double middle = sorted[(n - 1) / 2];
    apart.count = countApart(
        n, rounding * std::fabs(middle), [&](std::size_t i) { return middle - sorted[i]; }, apart.p);
    if (apart.count > 0) apart.nearest = sorted[apart.count - 1];
    return apart;
}

} // namespace oxgoad
