#pragma once
// A model as a file of its own, by which rows are scored without those it learned from.
#include "study/evidence.h"
#include "study/load_rows.h"
#include "study/study.h"

#include <filesystem>
#include <string>
#include <string_view>

namespace oxgoad {

/// model.json as docs/model_file.md describes it. `raw` are the learning rows as they were read.
std::string modelFileText(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                          const PreparedRows& prepared);

struct ModelFile {
    std::shared_ptr<const Study> study;
    std::string reach;
    /// The columns of the learning rows, without rows.
    Table columns;
    double level = 0.95;
};
/// Errors: badProject with the name of the file.
ModelFile readModelFile(const std::filesystem::path& file);

/// Reads, prepares and forecasts rows as the program that learned the model would: the same numbers to the
/// last bit, and a table of the rows as they were read. Errors of readRows; badForecastRows.
struct Scored {
    RowsRead read;
    ForecastEvidence forecast;
};
Scored scoreByFile(const ModelFile& model, const RowsSource& rows, const std::filesystem::path& folder,
                   Threads threads, Progress& progress, const PasswordFor& password = {});

} // namespace oxgoad
