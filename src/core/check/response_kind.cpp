// Whether the response is one for which there are models of its own: many zeros, or a spread that grows with
// the mean.
#include "base/text.h"
#include "check/check_tools.h"
#include "recipe/validity.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

constexpr std::size_t bands = 10, fewestRows = 100;

RecipeEdit asKind(const Settings& settings) {
    return [settings](Recipe& recipe, const std::string&) { recipe = withEstimator(recipe, settings); };
}

/// Slope of ln(variance of the response) on ln(mean) over bands of what is predicted, with as many rows each:
/// the power of the mean that the variance is. NaN where means are alike or not above 0.
double powerOfMean(const CheckContext& context, const std::vector<double>& y) {
    std::vector<std::uint32_t> order(y.size());
    std::iota(order.begin(), order.end(), 0U);
    std::stable_sort(order.begin(), order.end(),
                     [&](auto a, auto b) { return context.fitted[a] < context.fitted[b]; });
    double sx = 0, sy = 0, sxx = 0, sxy = 0, n = 0;
    for (std::size_t b = 0; b < bands; ++b) {
        const std::size_t from = b * y.size() / bands, to = (b + 1) * y.size() / bands;
        double mean = 0, squares = 0;
        const auto count = static_cast<double>(to - from);
        for (std::size_t i = from; i < to; ++i)
            mean += y[order[i]] / count;
        for (std::size_t i = from; i < to; ++i)
            squares += std::pow(y[order[i]] - context.fitted[order[i]], 2) / count;
        if (!(mean > 0) || !(squares > 0)) continue;
        const double u = std::log(mean), v = std::log(squares);
        sx += u, sy += v, sxx += u * u, sxy += u * v, ++n;
    }
    const double spread = sxx - sx * sx / n;
    return n >= 5 && spread > 0.1 ? (sxy - sx * sy / n) / spread : std::nan("");
}

} // namespace

void checkResponseKind(const CheckContext& context, Findings& findings) {
    const std::string name = "kind of response";
    if (context.kind.can.ownLink) {
        findings.readings.push_back(noReading(name, "the model is one for such a response"));
        return;
    }
    const Column* column = context.table.find(context.response());
    if (!column || column->kind() != ColumnKind::number || context.learningRows.size() < fewestRows) {
        findings.readings.push_back(noReading(name, "there are fewer than 100 rows"));
        return;
    }
    std::vector<double> y;
    double zeros = 0, lowest = 0, mean = 0;
    for (const auto row : context.learningRows) {
        y.push_back(column->numbers()[row]);
        zeros += y.back() == 0;
        lowest = std::min(lowest, y.back());
        mean += y.back();
    }
    const auto n = static_cast<double>(y.size());
    mean /= n;
    if (lowest < 0) {
        findings.readings.push_back(noReading(name, "the response is below 0 in some rows"));
        return;
    }
    double second = 0, third = 0;
    for (const double value : y) {
        second += std::pow(value - mean, 2) / n;
        third += std::pow(value - mean, 3) / n;
    }
    const double skewness = second > 0 ? third / std::pow(second, 1.5) : 0;
    const double power = powerOfMean(context, y);
    const double share = zeros / n, limit = context.limitOf(name, 0.1);
    std::string says = percentText(share) + " of the rows learned from have a response of 0; skewness " +
                       readableText(skewness, 2);
    if (std::isfinite(power))
        says +=
            "; its variance about the predictions goes as the mean to the power " + readableText(power, 2);
    const std::string source = "McCullagh and Nelder 1989; Cragg 1971; limits common practice, no source";
    findings.readings.push_back(madeReading(name, share, limit, {}, says, source));
    const bool skewed = skewness > 2 && std::isfinite(power) && power >= 1 && !context.logResponse;
    if (!(share > limit) && !(skewed && share == 0)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.reading = says;
    goad.source = source;
    goad.station = "fit";
    goad.column = context.response();
    if (share > limit) {
        goad.title = percentText(share) + " of " + context.response() +
                     " is 0: one line says both whether and how much";
        goad.threshold = "above " + percentText(limit) + " zeros, and nothing below 0";
        goad.moves.push_back({.label = "whether, and how much", .edit = asKind({"two parts"})});
        goad.moves.push_back({.label = "one model with zeros",
                              .edit = asKind({"tweedie", {{"power", std::string("likelihood")}}})});
    } else {
        goad.title = context.response() + " is skewed and spreads with its mean";
        goad.threshold = "skewness above 2, and a variance that grows as the mean or faster";
        goad.moves.push_back(
            power < 2.5 ? Move{.label = "gamma regression", .edit = asKind({"gamma"})}
                        : Move{.label = "inverse Gaussian regression", .edit = asKind({"inverse Gaussian"})});
    }
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
