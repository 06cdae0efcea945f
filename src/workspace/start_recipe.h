#pragma once
#include "recipe/recipe.h"
#include "table/table.h"

namespace oxgoad {

/// A start for rows nobody has said anything about: no terms, and as response the number column that looks
/// most like one by its name, its values and its place. A guess: the brief says so until somebody chooses.
Recipe startRecipe(const RowsPlan& plan, const Table& table);

} // namespace oxgoad
