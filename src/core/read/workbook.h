#pragma once
// Rows from sheets of workbooks: Office Open XML (ECMA-376, .xlsx) and OpenDocument (ISO/IEC 26300, .ods).
#include "read/text_reader.h"

#include <filesystem>
#include <string>
#include <vector>

namespace oxgoad {

struct SheetInfo {
    std::string name;
    bool hidden = false;
};

/// Sheets in the workbook's order. Errors: fileNotFound, badWorkbook (locked, damaged, not a workbook).
std::vector<SheetInfo> sheetsOf(const std::filesystem::path& path, Progress& progress);

struct SheetChoice {
    /// The first sheet that is not hidden when empty.
    std::string sheet;
    /// "B3:F200", "B:F"; all cells when empty.
    std::string range;
    /// Rows to read at most, for a preview; all when 0.
    std::size_t mostRows = 0;
};

/// Reads a sheet. The first row with cells holds the names; a second one belongs to them when the first has
/// gaps and the second holds texts only, and names of cells merged across columns are repeated: "rate list",
/// "rate paid". Dates are cells shown as dates; times of day are dropped, and a time alone is the share of a
/// day. Formulas give their stored value, percentages the share, cells merged down rows the value in each
/// row, errors a missing value and a fault. Columns with neither a name nor a value are left away. Streams:
/// memory is the table's. Errors: as sheetsOf, noRows (an empty sheet), and badWorkbook for a part that
/// unpacks to more than 4 GB. Throws Stopped.
RowsRead readWorkbook(const std::filesystem::path& path, const SheetChoice& choice,
                      const TextOptions& options, Progress& progress);

} // namespace oxgoad
