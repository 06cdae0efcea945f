#pragma once
// Whether what is predicted comes out, by the size of the prediction.
#include "study/evidence.h"

#include <nlohmann/json_fwd.hpp>

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// Rows of a tenth by their prediction: means of what was predicted and of what was, with a 95 % interval of
/// that mean about the prediction's (Student's t of the differences).
struct CalibrationPart {
    std::size_t rows = 0;
    double predicted = 0, actual = 0, lower = 0, upper = 0;
};

struct Calibration {
    /// "424 held-out rows", "1,400 rows out of fold".
    std::string of;
    /// From the smallest predictions; ten, or fewer where there are not ten rows for each.
    std::vector<CalibrationPart> parts;
    /// Sum of predictions over sum of what was, with its interval; NaN where that sum is not above 0.
    double ratio = 0, ratioLower = 0, ratioUpper = 0;
    /// Share of all that was in the tenth of the rows predicted largest: how far the order concentrates it.
    double topTenth = 0;
    /// Parts whose interval does not hold the prediction.
    std::size_t off = 0;
    std::string says;
};

/// Of rows the model did not learn from: held-out rows, or out of fold where fewer than twenty are held out;
/// none where there are fewer than twenty of those. Test rows are not looked at. Common practice, no source.
std::optional<Calibration> calibrationOf(const Evidence& evidence);
/// null without.
nlohmann::ordered_json calibrationJson(const std::optional<Calibration>& calibration);

} // namespace oxgoad
