#pragma once
// Which rows of a study count, and for what: the one place where it is decided.
#include "recipe/recipe.h"
#include "study/prepare_rows.h"

#include <cstdint>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace oxgoad {

enum class RowState : std::uint8_t { learning, heldOut, leftOut, missing, test, weightless };
/// "learning", "held out", "left out", "missing values", "test", "weight 0".
std::string_view stateName(RowState state);

/// Rows of a table by what they are used for, in order.
struct RowsUsed {
    std::vector<RowState> state;
    std::vector<std::uint32_t> learning, heldOut, test;
    /// Rows of weight 0 with values in all columns in use: predicted, and nothing is learned from them.
    std::vector<std::uint32_t> weightless;
    /// All of them.
    std::size_t allWeightless = 0;
    std::size_t leftOut = 0, missing = 0;
    std::vector<std::pair<std::string, std::size_t>> missingByColumn;
};

/// Columns a recipe's model reads: the response, those of terms, weight, offset, and of the errors.
std::vector<std::string> columnsInUse(const Recipe& recipe);

/// Learning rows teach; held-out and test rows are judged although a step would leave them out of learning,
/// for a judged row is never lost to what was learned elsewhere; rows that the analyst left out by hand
/// neither teach nor judge. Rows that lack a value of a column in use are set apart and counted by column,
/// but those that a step left out anyway stay so. Errors: unknownColumn; badWeights, tooFewRows when nothing
/// is left to learn from.
RowsUsed rowsUsed(const Recipe& recipe, const PreparedRows& prepared, const std::string& file);

} // namespace oxgoad
