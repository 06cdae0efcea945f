#include "resample/parts.h"

#include "base/random.h"

#include <cmath>

namespace oxgoad {

std::vector<Part> assignParts(std::size_t rows, const std::optional<RandomHoldOut>& holdOut) {
    std::vector<Part> parts(rows, Part::learning);
    if (!holdOut) return parts;
    RandomStream stream(holdOut->seed, "set aside");
    const auto order = shuffled(static_cast<std::uint32_t>(rows), stream);
    const auto count = static_cast<std::size_t>(std::llround(holdOut->share * static_cast<double>(rows)));
    for (std::size_t i = 0; i < std::min(count, rows); ++i)
        parts[order[i]] = Part::heldOut;
    return parts;
}

Scores score(std::span<const double> actual, std::span<const double> predicted, double learningMean) {
    Scores s;
    s.rows = actual.size();
    if (actual.empty()) {
        s.rmse = s.mae = s.rSquared = s.relativeAbsoluteError = s.relativeSquaredError = s.rmseError =
            s.meanActual = std::nan("");
        return s;
    }
    const auto n = static_cast<long double>(actual.size());
    long double sum = 0;
    for (const double y : actual)
        sum += y;
    const long double mean = sum / n;
    long double squared = 0, absolute = 0, aboutMean = 0, aboutLearning = 0, absoluteLearning = 0;
    for (std::size_t i = 0; i < actual.size(); ++i) {
        const long double e = static_cast<long double>(actual[i]) - predicted[i];
        const long double d = actual[i] - mean;
        const long double l = static_cast<long double>(actual[i]) - learningMean;
        squared += e * e;
        absolute += std::fabs(e);
        aboutMean += d * d;
        aboutLearning += l * l;
        absoluteLearning += std::fabs(l);
    }
    auto ratio = [](long double a, long double b) {
        return b > 0 ? static_cast<double>(a / b) : std::nan("");
    };
    const long double mse = squared / n;
    s.rmse = static_cast<double>(std::sqrt(mse));
    s.mae = static_cast<double>(absolute / n);
    s.rSquared = aboutMean > 0 ? static_cast<double>(1 - squared / aboutMean) : std::nan("");
    s.relativeAbsoluteError = ratio(absolute, absoluteLearning);
    s.relativeSquaredError = ratio(squared, aboutLearning);
    s.meanActual = static_cast<double>(mean);
    s.rmseError = std::nan("");
    if (actual.size() > 1 && s.rmse > 0) {
        long double spread = 0;
        for (std::size_t i = 0; i < actual.size(); ++i) {
            const long double e = static_cast<long double>(actual[i]) - predicted[i];
            spread += (e * e - mse) * (e * e - mse);
        }
        s.rmseError = static_cast<double>(std::sqrt(spread / (n - 1) / n) / (2 * std::sqrt(mse)));
    }
    return s;
}

} // namespace oxgoad
