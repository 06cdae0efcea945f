#pragma once
#include "study/recipe.h"
#include "table/table.h"

namespace oxgoad {

/// A start for rows nobody has said anything about: the last number column as response, no terms.
Recipe startRecipe(const RowsPlan& plan, const Table& table);

} // namespace oxgoad
