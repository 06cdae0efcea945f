#pragma once
// What a recipe may hold together: the one place where that is decided, asked wherever recipes are made.
#include "recipe/recipe.h"

#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// A part of a recipe that does not go with the others.
struct RecipeProblem {
    /// Key of the part, "errors" or "terms[2]".
    std::string key;
    /// What is wrong, to follow the key or a name: "go with least squares only".
    std::string says;
    std::string hint;
};

/// The first part that does not go with the others: errors of other kinds than least squares, a choice of
/// terms without coefficients, a term twice or one that uses the response, a second weight or offset. A
/// recipe without one is read back from its text.
std::optional<RecipeProblem> problemOf(const Recipe& recipe);

/// The recipe without the parts that do not go with its kind of model, its response and its first terms: what
/// edits that meet each other leave. What was dropped is said in `dropped`, a sentence each, where it is
/// given.
Recipe settled(Recipe recipe, std::vector<std::string>* dropped = nullptr);

/// Another kind of model, without what that cannot have. The only way to change it.
Recipe withEstimator(const Recipe& recipe, const Settings& estimator);

} // namespace oxgoad
