#include "study/calibration.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/distributions.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t mostParts = 10, fewestRows = 20, rowsOfAPart = 10;

struct Unseen {
    double predicted = 0, actual = 0;
};

struct Summed {
    double rows = 0, predicted = 0, actual = 0, squares = 0;
    explicit Summed(std::span<const Unseen> of) : rows(static_cast<double>(of.size())) {
        for (const Unseen& row : of)
            predicted += row.predicted, actual += row.actual;
        const double mean = (actual - predicted) / rows;
        for (const Unseen& row : of)
            squares += (row.actual - row.predicted - mean) * (row.actual - row.predicted - mean);
    }
    /// Half of the 95 % interval of the mean difference.
    double half() const {
        return rows > 1 ? studentQuantile(0.95, rows - 1) * std::sqrt(squares / (rows - 1) / rows) : nan;
    }
};

std::vector<Unseen> unseenOf(const Evidence& evidence, std::string& of) {
    std::vector<Unseen> rows;
    const RowEvidence& all = evidence.rows;
    const auto add = [&](std::size_t i, double predicted) {
        if (std::isfinite(predicted) && std::isfinite(all.actual[i]))
            rows.push_back({predicted, all.actual[i]});
    };
    for (std::size_t i = 0; i < all.state.size(); ++i)
        if (all.state[i] == RowState::heldOut) add(i, all.fitted[i]);
    of = plural(rows.size(), "held-out row", "held-out rows");
    if (rows.size() >= fewestRows || !evidence.folds) return rows;
    rows.clear();
    for (std::size_t i = 0; i < evidence.folds->outOfFold.size(); ++i)
        add(i, evidence.folds->outOfFold[i]);
    of = plural(rows.size(), "row", "rows") + " out of fold";
    return rows;
}

} // namespace

std::optional<Calibration> calibrationOf(const Evidence& evidence) {
    Calibration out;
    std::vector<Unseen> rows = unseenOf(evidence, out.of);
    const std::size_t n = rows.size();
    if (n < fewestRows) return std::nullopt;
    std::stable_sort(rows.begin(), rows.end(),
                     [](const Unseen& a, const Unseen& b) { return a.predicted < b.predicted; });
    const std::span<const Unseen> all(rows);
    const std::size_t parts = std::min(mostParts, n / rowsOfAPart);
    for (std::size_t t = 0; t < parts; ++t) {
        const std::size_t begin = t * n / parts, end = (t + 1) * n / parts;
        const Summed sums(all.subspan(begin, end - begin));
        const double mean = sums.actual / sums.rows, half = sums.half();
        out.parts.push_back({end - begin, sums.predicted / sums.rows, mean, mean - half, mean + half});
        const CalibrationPart& part = out.parts.back();
        out.off += part.predicted < part.lower || part.predicted > part.upper;
    }
    const Summed sums(all);
    out.ratio = out.ratioLower = out.ratioUpper = out.topTenth = nan;
    if (sums.actual > 0) {
        out.ratio = sums.predicted / sums.actual;
        const double half = sums.half() * sums.rows / sums.actual;
        out.ratioLower = out.ratio - half;
        out.ratioUpper = out.ratio + half;
        out.topTenth = Summed(all.subspan(n - std::max<std::size_t>(1, n / 10))).actual / sums.actual;
    }
    out.says = "of " + out.of + " in " + plural(parts, "part", "parts") +
               " by the prediction, the prediction " + "lies outside the interval of the mean in " +
               countText(out.off);
    if (std::isfinite(out.ratio))
        out.says += "; sum of predictions over sum of what was " + readableText(out.ratio, 4) + " (" +
                    readableText(out.ratioLower, 4) + " to " + readableText(out.ratioUpper, 4) +
                    "); the tenth predicted largest holds " + readableText(100 * out.topTenth, 3) +
                    " % of what was";
    return out;
}

nlohmann::ordered_json calibrationJson(const std::optional<Calibration>& calibration) {
    using nlohmann::ordered_json;
    if (!calibration) return nullptr;
    const auto plain = [](double value) {
        return std::isfinite(value) ? ordered_json(value) : ordered_json(nullptr);
    };
    ordered_json parts = ordered_json::array();
    for (const CalibrationPart& part : calibration->parts)
        parts.push_back({{"rows", part.rows},
                         {"predicted", part.predicted},
                         {"actual", part.actual},
                         {"lower", plain(part.lower)},
                         {"upper", plain(part.upper)}});
    return {{"of", calibration->of},
            {"parts", parts},
            {"off", calibration->off},
            {"predicted_over_actual", plain(calibration->ratio)},
            {"lower", plain(calibration->ratioLower)},
            {"upper", plain(calibration->ratioUpper)},
            {"top_tenth_holds", plain(calibration->topTenth)}};
}

} // namespace oxgoad
