#pragma once
// Scored rows as files and tables that others read.
#include "base/progress.h"
#include "forecast/forecast.h"
#include "read/source.h"
#include "table/table.h"

#include <filesystem>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

/// What was scored. References outlive the call.
struct ScoredRows {
    /// The rows as they were given.
    const Table& given;
    const ForecastEvidence& forecast;
    /// What goes along: open goads, the fit, fingerprints; by name.
    std::vector<std::pair<std::string, std::string>> notes{};
};

/// What is put into the cells of a workbook, whatever its format.
class SheetsOut {
public:
    virtual ~SheetsOut() = default;
    virtual void sheet(const std::string& name) = 0;
    virtual void text(std::size_t row, std::size_t column, const std::string& text) = 0;
    virtual void number(std::size_t row, std::size_t column, double value) = 0;
    virtual void date(std::size_t row, std::size_t column, double day) = 0;
    /// With what it comes to, for those who do not calculate: a number, or a text where that is NaN.
    virtual void formula(std::size_t row, std::size_t column, const std::string& formula, double value,
                         const std::string& text) = 0;
};
void writeScoredSheets(SheetsOut& out, const ScoredRows& scored, Progress& progress);

/// A sheet of the given columns, prediction, intervals, reach and reasons, and a sheet of notes. At most
/// 1,048,575 rows. Errors: badTerm for more, cannotWrite. Throws Stopped.
void writeScoredXlsx(const std::filesystem::path& file, const ScoredRows& scored, Progress& progress);
void writeScoredOds(const std::filesystem::path& file, const ScoredRows& scored, Progress& progress);
/// Tables `forecast` and `notes` in a new file. Errors: cannotWrite. Throws Stopped.
void writeScoredSqlite(const std::filesystem::path& file, const ScoredRows& scored, Progress& progress);

/// Appends the rows to a table of a server, which is made when it is not there, in one transaction: all of
/// them, or none. Errors: badDatabase, badPassword; cannotWrite where the table has other columns. Throws
/// Stopped.
void appendScored(const ServerPlace& place, const std::string& password, const std::string& table,
                  const ScoredRows& scored, Progress& progress);

} // namespace oxgoad
