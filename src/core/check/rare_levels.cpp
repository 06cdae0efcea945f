#include "base/text.h"
#include "check/checks.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

void checkRareLevels(const CheckContext& context, Findings& findings) {
    constexpr std::size_t limit = 10;
    const auto& inputs = context.inputs.inputs();
    for (std::size_t i = 0; i < inputs.size(); ++i) {
        if (!inputs[i].factor) continue;
        std::vector<std::size_t> counts(inputs[i].levels.size(), 0);
        for (const auto row : context.learningRows)
            if (const double level = context.inputs.value(i, row); std::isfinite(level))
                ++counts[static_cast<std::size_t>(level)];
        std::string names;
        std::size_t rare = 0;
        std::size_t rows = 0;
        for (std::size_t level = 0; level < counts.size(); ++level) {
            if (counts[level] >= limit) continue;
            ++rare;
            rows += counts[level];
            if (rare <= 3)
                names +=
                    (names.empty() ? "" : ", ") + inputs[i].levels[level] + " " + countText(counts[level]);
        }
        if (rare == 0) continue;
        Goad goad;
        goad.key = "rare levels: " + inputs[i].name;
        goad.title =
            rare == 1 ? "One level of " + inputs[i].name + " has few learning rows"
                      : plural(rare, "level", "levels") + " of " + inputs[i].name + " have few learning rows";
        goad.reading = names + (rare > 3 ? ", …" : "") + "; " + plural(rows, "row", "rows") + " in all";
        goad.threshold = "10 rows a level";
        goad.source = "common practice, no source";
        goad.station = "data";
        goad.column = inputs[i].name;
        goad.moves.push_back(seeColumn());
        if (rare > 1) {
            goad.moves.push_back(
                addStep("lump them into \"other\"",
                        {"lump rare levels", true, {{"columns", std::vector<std::string>{inputs[i].name}}}}));
        } else {
            const std::string& level = inputs[i].levels[static_cast<std::size_t>(
                std::find_if(counts.begin(), counts.end(), [](std::size_t c) { return c < limit; }) -
                counts.begin())];
            goad.moves.push_back(addStep(
                "make it missing",
                {"replace values", true, {{"column", inputs[i].name}, {"pairs", TextPairs{{level, ""}}}}}));
            const auto most = std::max_element(counts.begin(), counts.end()) - counts.begin();
            const std::string& into = inputs[i].levels[static_cast<std::size_t>(most)];
            goad.moves.push_back(
                addStep("merge it with " + into, {"merge levels",
                                                  true,
                                                  {{"column", inputs[i].name},
                                                   {"levels", std::vector<std::string>{level, into}},
                                                   {"into", into}}}));
        }
        findings.goads.push_back(std::move(goad));
    }
}

} // namespace oxgoad
