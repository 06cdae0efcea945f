#pragma once
// Edits of a recipe that meet other edits.
#include "recipe/recipe.h"

namespace oxgoad {

/// What an analyst says beside the model and what changes no number of a fit: accepted and noted goads,
/// units, and roles other than weight and offset, taken from `from` into `to`.
void takeNotes(Recipe& to, const Recipe& from);

/// The edit that led from `base` to `made`, made in `onto` instead: a part that the edit left alone is as it
/// is in `onto`. Of terms, steps and rows left out single entries are the parts: those that the edit took
/// away are taken away, those that it added follow at the end. When `onto` is `base` the answer is `made`.
Recipe rebased(const Recipe& made, const Recipe& base, const Recipe& onto);

/// Recipes with a term more; the parents it lacks come in with it.
Recipe withTerm(const Recipe& recipe, const Term& term);
/// Without the term of that name, nor, unless they are kept, the products that contain it.
Recipe withoutTerm(const Recipe& recipe, const std::string& name, bool keepProducts = false);
/// A straight model of one column that an expression says: a step that works it out, and its term alone. Of
/// the name the first that is free.
Recipe withExpressionTerm(const Recipe& recipe, const std::string& name, const std::string& expression);
/// With another response; terms that use it go.
Recipe withResponse(const Recipe& recipe, const std::string& name);
/// With a factor as the response, whose levels are ranks in that order: proportional odds, with the link it
/// has already where they are the kind.
Recipe withOrderedResponse(const Recipe& recipe, const std::string& name,
                           const std::vector<std::string>& order);
/// With another form of a one-column term, in products too.
Recipe withOtherForm(const Recipe& recipe, std::size_t index, const TermPart& part);

// Moves that goads offer.
Move addStep(std::string label, Step step);
/// The role of a predictor takes the one it has away. A role that only one column may have is taken from the
/// other.
Move giveRole(std::string label, const std::string& column, Role role);
/// "leave out NAME".
Move leaveOutTerm(const std::string& name);
/// Asks for the reason.
Move leaveOutRow(std::size_t row);
Move seeRow(std::size_t row);
/// Shows the goad's column.
Move seeColumn();

} // namespace oxgoad
