#pragma once
// What a model loses when a column says nothing: for every kind of model.
#include "recipe/recipe.h"
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <string>
#include <vector>

namespace oxgoad {

/// Permutes the values of an input among rows and predicts them again (Breiman 2001, "Random forests",
/// Machine Learning 45; Fisher, Rudin and Dominici 2019, Journal of Machine Learning Research 20, for any
/// model): the root mean squared error then, less that before, in the response's unit, mean and standard
/// deviation over `repeats` permutations (seed 1). Of held-out rows where there are any, otherwise of
/// learning rows, evenly spaced, 1,000 at most. Numbers that go together (absolute rank correlation 0.8 or
/// more, by single linkage) are also permuted together, row for row, since one alone of them may say little
/// that the others do not. Empty for more than 100 inputs. Throws Stopped.
Importance permutationImportance(const Recipe& recipe, const PreparedRows& prepared, const Evidence& evidence,
                                 const std::string& file, Threads threads, Progress& progress);

/// importance.csv: columns, rmse, rmse_permuted, increase, spread.
std::string importanceCsv(const Importance& importance);

} // namespace oxgoad
