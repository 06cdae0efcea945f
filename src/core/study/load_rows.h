#pragma once
// The rows that a recipe names.
#include "base/parallel.h"
#include "base/progress.h"
#include "recipe/recipe.h"
#include "study/prepare_rows.h"

#include <filesystem>

namespace oxgoad {

/// Reads the sources a recipe names; relative names are looked up in `folder`. The rows to be forecast are
/// read with the kinds the learning rows have and joined with the same second tables. Errors of readRows;
/// Stopped.
StudyRows loadRows(const Recipe& recipe, const std::filesystem::path& folder, Threads threads,
                   Progress& progress, const PasswordFor& password = {});
RowsRead loadForecastRows(const Recipe& recipe, const Table& learning, const std::filesystem::path& folder,
                          Threads threads, Progress& progress, const PasswordFor& password = {});

} // namespace oxgoad
