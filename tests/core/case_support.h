#pragma once
// Cases: recipes and rows in tests/cases.
#include "support/support.h"

#include <algorithm>

namespace oxgoad::test {

inline const std::filesystem::path cases = OXGOAD_CASES;

struct Case {
    Recipe recipe;
    StudyRows rows;
    std::shared_ptr<const PreparedRows> prepared;
    Evidence evidence;
};

inline Case caseOf(const std::string& path) {
    Case c;
    c.recipe = readRecipe(cases / path);
    c.rows = loadRows(c.recipe, (cases / path).parent_path(), {}, quietly());
    c.prepared = prepareRows(c.recipe, c.rows, {}, quietly());
    c.evidence = evaluate(c.recipe, c.rows, *c.prepared, {}, quietly());
    return c;
}

inline bool hasGoad(const Evidence& e, const std::string& start) {
    return std::any_of(e.goads.begin(), e.goads.end(),
                       [&](const Goad& goad) { return goad.key.starts_with(start); });
}

inline const Reading* readingOf(const Evidence& e, const std::string& name) {
    for (const Reading& reading : e.readings)
        if (reading.name == name) return &reading;
    return nullptr;
}

} // namespace oxgoad::test
