#pragma once
// Goads that come from the recipe and the preparation, beside those of the checks.
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <vector>

namespace oxgoad {

/// Goads of the ledger about columns in use, of steps that could not run, and about the rows as a whole.
/// Missing values, rare levels and unreadable cells of columns in use have checks of their own.
void addDataGoads(const Recipe& recipe, const PreparedRows& prepared, std::vector<Goad>& goads);
/// Products without their parents, terms chosen by looking at the rows, and an estimator that did not
/// converge.
void addModelGoads(const Recipe& recipe, const Evidence& evidence, std::vector<Goad>& goads);

} // namespace oxgoad
