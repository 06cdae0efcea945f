#pragma once
// The judgement of a recipe made again with other seeds.
#include "study/run_checks.h"

namespace oxgoad {

/// Twenty seeds after the recipe's own: rows are held out anew and everything is learned from what is left,
/// or the folds are dealt anew. Rows of the test stay locked. Throws Stopped.
SeedSpread otherSeeds(const Evidence& evidence, const EvaluatedFrom& from, Threads threads,
                      Progress& progress);

} // namespace oxgoad
