#pragma once
// What an edit of a recipe did, in a few words.
#include "recipe/recipe.h"

#include <string>

namespace oxgoad {

/// "+ list_rate × contract", "− 2 rows".
std::string changeText(const Recipe& from, const Recipe& to);
/// Of a recipe that came from none: "revenue from 3 terms".
std::string startText(const Recipe& recipe);

} // namespace oxgoad
