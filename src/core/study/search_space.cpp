#include "study/search_space.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>

namespace oxgoad {

namespace {

double placed(const SettingRange& range, double share) {
    const double value = range.logarithmic ? range.low * std::pow(range.high / range.low, share)
                                           : range.low + share * (range.high - range.low);
    // Numbers that read well.
    if (range.whole) return std::round(value);
    std::array<char, 40> text{};
    const auto end = std::to_chars(text.begin(), text.end(), value, std::chars_format::general, 2).ptr;
    double plain = value;
    std::from_chars(text.data(), end, plain);
    return plain;
}

double shareOf(const SettingRange& range, double value) {
    const double share = range.logarithmic ? std::log(value / range.low) / std::log(range.high / range.low)
                                           : (value - range.low) / (range.high - range.low);
    return std::clamp(share, 0.0, 1.0);
}

FieldValue drawnValue(const SettingRange& range, RandomStream& stream) {
    if (!range.values.empty()) return range.values[stream.below(range.values.size())];
    return placed(range, stream.uniform());
}

std::vector<SearchSpace> madeSpaces() {
    const auto layers = [](std::vector<double> units) { return FieldValue(std::move(units)); };
    return {{.kind = "least squares", .simplicity = 0},
            {.kind = "robust", .simplicity = 1},
            {.kind = "penalised",
             .simplicity = 1,
             .fixed = {{"penalty", std::string(smallestErrorRule)}},
             .ranges = {{.key = "l1_share", .low = 0, .high = 1}}},
            {.kind = "tree",
             .simplicity = 2,
             .ranges = {{.key = "leaves", .low = 3, .high = 60, .logarithmic = true, .whole = true},
                        {.key = "smallest_leaf", .low = 2, .high = 40, .logarithmic = true, .whole = true}}},
            {.kind = "formula",
             .simplicity = 2,
             .fixed = {{"generations", 40.0}},
             .ranges = {{.key = "largest", .low = 5, .high = 31, .whole = true}}},
            {.kind = "neighbours",
             .simplicity = 3,
             .ranges = {{.key = "count", .low = 2, .high = 60, .logarithmic = true, .whole = true}}},
            {.kind = "forest",
             .simplicity = 4,
             .fixed = {{"trees", 150.0}},
             .ranges = {{.key = "columns_a_split", .low = 0.15, .high = 1},
                        {.key = "smallest_leaf", .low = 1, .high = 30, .logarithmic = true, .whole = true}}},
            {.kind = "boosted",
             .simplicity = 4,
             .ranges = {{.key = "rounds", .low = 40, .high = 600, .logarithmic = true, .whole = true},
                        {.key = "rate", .low = 0.02, .high = 0.3, .logarithmic = true},
                        {.key = "leaves", .low = 3, .high = 63, .logarithmic = true, .whole = true},
                        {.key = "smallest_leaf", .low = 3, .high = 60, .logarithmic = true, .whole = true},
                        {.key = "row_share", .low = 0.5, .high = 1}}},
            {.kind = "network",
             .simplicity = 4,
             .fixed = {{"restarts", 1.0}, {"passes", 400.0}, {"patience", 40.0}},
             .ranges = {{.key = "layers",
                         .values = {layers({4}), layers({10}), layers({20}), layers({40}), layers({10, 10})}},
                        {.key = "weight_penalty", .low = 1e-6, .high = 0.1, .logarithmic = true},
                        {.key = "rate", .low = 0.003, .high = 0.03, .logarithmic = true}}},
            {.kind = "average", .simplicity = 5}};
}

} // namespace

const std::vector<SearchSpace>& searchSpaces() {
    static const std::vector<SearchSpace> spaces = madeSpaces();
    return spaces;
}

const SearchSpace* searchSpaceOf(std::string_view kind) {
    const auto& spaces = searchSpaces();
    const auto at =
        std::find_if(spaces.begin(), spaces.end(), [&](const SearchSpace& s) { return s.kind == kind; });
    return at == spaces.end() ? nullptr : &*at;
}

const std::vector<SearchFamily>& searchFamilies() {
    static const std::vector<SearchFamily> families{
        {"kinds with coefficients", {"least squares", "robust", "penalised"}},
        {"trees, forests and boosting", {"tree", "forest", "boosted"}}};
    return families;
}

Settings drawnSettings(const SearchSpace& space, RandomStream& stream) {
    Settings settings{space.kind, space.fixed};
    for (const SettingRange& range : space.ranges)
        settings.fields[range.key] = drawnValue(range, stream);
    return settings;
}

Settings nearSettings(const SearchSpace& space, Settings settings, RandomStream& stream) {
    for (const auto& [key, value] : space.fixed)
        settings.fields[key] = value;
    if (space.ranges.empty()) return settings;
    for (std::uint64_t times = 1 + stream.below(2); times > 0; --times) {
        const SettingRange& range = space.ranges[stream.below(space.ranges.size())];
        const auto* now = std::get_if<double>(&settings.get(std::string_view(range.key)));
        if (!range.values.empty() || !now) {
            settings.fields[range.key] = drawnValue(range, stream);
            continue;
        }
        const double share = std::clamp(shareOf(range, *now) + 0.15 * stream.normal(), 0.0, 1.0);
        settings.fields[range.key] = placed(range, share);
    }
    return settings;
}

} // namespace oxgoad
