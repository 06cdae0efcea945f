#pragma once
// Recipe and rows to evidence.
#include "base/parallel.h"
#include "base/progress.h"
#include "study/evidence.h"
#include "study/prepare_rows.h"
#include "study/recipe.h"
#include "table/table.h"

#include <filesystem>
#include <optional>

namespace oxgoad {

/// Reads the sources a recipe names; relative names are looked up in `folder`. The rows to be forecast are
/// read with the kinds the learning rows have and joined with the same second tables. Errors of readRows;
/// Stopped.
StudyRows loadRows(const Recipe& recipe, const std::filesystem::path& folder, Threads threads,
                   Progress& progress, const PasswordFor& password = {});
RowsRead loadForecastRows(const Recipe& recipe, const Table& learning, const std::filesystem::path& folder,
                          Threads threads, Progress& progress, const PasswordFor& password = {});

struct EvaluateOptions {
    Threads threads{};
    /// Whether the test rows are predicted and scored. Whoever asks has to count it.
    bool lookAtTest = false;
};

/// Fits, judges, checks and forecasts. A pure function of its arguments: no clock, no global state; the same
/// recipe and rows give the same evidence to the last digit for any number of threads.
/// Missing values: rows lacking the response or a value of a column in use are counted by column and not
/// used. Errors: unknownColumn, wrongType, badTerm, tooFewRows, noSpread, badForecastRows, badParts. Throws
/// Stopped. `prepared` must be prepared for the recipe and the rows, its forecast included.
Evidence evaluate(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
                  const EvaluateOptions& options, Progress& progress);
/// Prepares the rows first.
Evidence evaluate(const Recipe& recipe, const StudyRows& rows, Threads threads, Progress& progress);

} // namespace oxgoad
