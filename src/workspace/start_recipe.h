#pragma once
#include "read/text_reader.h"
#include "recipe/recipe.h"

namespace oxgoad {

/// A start for rows nobody has said anything about: no terms, and as response the number column that looks
/// most like one by its name, its values and its place. A guess: the brief says so until somebody chooses.
/// Units that the file says are the columns'.
Recipe startRecipe(const RowsPlan& plan, const RowsRead& rows);

} // namespace oxgoad
