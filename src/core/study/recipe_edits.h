#pragma once
// Edits of a recipe that meet other edits.
#include "study/recipe.h"

namespace oxgoad {

/// What an analyst says beside the model and what changes no number of a fit: accepted and noted goads,
/// units, and roles other than weight and offset, taken from `from` into `to`.
void takeNotes(Recipe& to, const Recipe& from);

/// The edit that led from `base` to `made`, made in `onto` instead: a part that the edit left alone is as it
/// is in `onto`. Of terms, steps and rows left out single entries are the parts: those that the edit took
/// away are taken away, those that it added follow at the end. When `onto` is `base` the answer is `made`.
Recipe rebased(const Recipe& made, const Recipe& base, const Recipe& onto);

} // namespace oxgoad
