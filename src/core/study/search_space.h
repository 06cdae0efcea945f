#pragma once
// Which settings of a kind a search tries, and on which scales.
#include "base/random.h"
#include "estimate/model_kind.h"

#include <string>
#include <vector>

namespace oxgoad {

/// Values of one setting: from low to high, or some.
struct SettingRange {
    std::string key;
    double low = 0, high = 0;
    bool logarithmic = false, whole = false;
    std::vector<FieldValue> values{};
};

struct SearchSpace {
    std::string kind;
    /// Smaller is simpler to explain.
    int simplicity = 0;
    /// Taken before anything is drawn.
    FieldValues fixed{};
    std::vector<SettingRange> ranges{};
};

/// Of the kinds that a search knows. Ranges are common practice, no source.
const std::vector<SearchSpace>& searchSpaces();
const SearchSpace* searchSpaceOf(std::string_view kind);

/// Kinds that go together, by a name for people: "kinds with coefficients".
struct SearchFamily {
    std::string name;
    std::vector<std::string> kinds;
};
const std::vector<SearchFamily>& searchFamilies();

Settings drawnSettings(const SearchSpace& space, RandomStream& stream);
/// One or two settings drawn again near where they are.
Settings nearSettings(const SearchSpace& space, Settings settings, RandomStream& stream);

} // namespace oxgoad
