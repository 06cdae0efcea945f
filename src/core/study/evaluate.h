#pragma once
// Recipe and rows to evidence.
#include "base/parallel.h"
#include "base/progress.h"
#include "study/evidence.h"
#include "study/recipe.h"
#include "table/table.h"

#include <filesystem>
#include <optional>

namespace oxgoad {

/// The rows a recipe names, as read.
struct StudyRows {
    RowsRead learning;
    std::optional<RowsRead> forecast;
};

/// Reads the files a recipe names; relative names are looked up in `folder`. The rows to be forecast are read
/// with the kinds the learning rows have. Errors of readText; Stopped.
StudyRows loadRows(const Recipe& recipe, const std::filesystem::path& folder, Threads threads,
                   Progress& progress);
RowsRead loadForecastRows(const ForecastRequest& request, const Table& learning, const std::string& response,
                          const std::filesystem::path& folder, Threads threads, Progress& progress);

/// Fits, judges, checks and forecasts. A pure function of its arguments: no clock, no global state; the same
/// recipe and rows give the same evidence to the last digit for any number of threads.
/// Missing values: rows lacking the response or a value of a column in use are counted by column and not
/// used. Errors: unknownColumn, wrongType, badTerm, tooFewRows, noSpread, badForecastRows. Throws Stopped.
Evidence evaluate(const Recipe& recipe, const StudyRows& rows, Threads threads, Progress& progress);

} // namespace oxgoad
