#pragma once
// The fit read aloud as files.
#include "base/progress.h"
#include "share/exports.h"
#include "study/effects.h"
#include "study/marginal_effects.h"

#include <string>

namespace oxgoad {

/// reading.txt: the equation, the equation per level where slopes differ, a sentence a coefficient, the
/// reference levels, goads about the model.
std::string readingText(const Recipe& recipe, const Evidence& evidence);
/// effects.csv: column, by, line, at, level, mean, lower, upper; one block for each column, and for each
/// product of two with a number or date in it. Throws Stopped.
std::string effectsCsv(const Evidence& evidence, const Table& table, Progress& progress);
/// marginal_effects.csv: column, level, effect, standard_error, p, lower, upper.
std::string marginalEffectsCsv(const std::vector<MarginalEffect>& effects);

/// All three. `table` is the prepared one.
NamedFiles readingFiles(const Recipe& recipe, const Evidence& evidence, const Table& table, Threads threads,
                        Progress& progress);

} // namespace oxgoad
