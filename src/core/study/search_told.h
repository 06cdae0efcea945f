#pragma once
// What a search found, when it is over: what is simpler, how sure the best is, what mattered, the story.
#include "study/search.h"
#include "study/search_space.h"

#include <string>
#include <vector>

namespace oxgoad {

/// What a search keeps of a candidate beside Tried, in the same places.
struct JudgedCandidate {
    /// None of kinds that are not searched.
    const SearchSpace* space = nullptr;
    /// How its terms were changed; empty as they stand.
    std::string terms;
    /// Whether they say more (1) or less (-1) than they stand.
    int more = 0;
    std::vector<double> foldMse{};
    std::vector<std::size_t> foldRows{};
};

/// Fills in what SearchFound tells beside those tried; the best and the straight model are known.
void concludeSearch(SearchFound& found, const std::vector<JudgedCandidate>& judged,
                    const PreparedRows& prepared, const Recipe& base, const std::string& file,
                    Threads threads);

} // namespace oxgoad
