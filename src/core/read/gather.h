#pragma once
// From wide tables, in which the values of one quantity stand in many columns, to rows.
#include "base/progress.h"
#include "read/text_reader.h"

#include <map>
#include <string>
#include <vector>

namespace oxgoad {

/// Which columns become rows, and what the two columns that take their place are called.
struct GatherPlan {
    /// By name; or, when empty, the stretch of neighbouring columns from `from` to `to`, both included.
    std::vector<std::string> columns{};
    std::string from{}, to{};
    std::string names = "name";
    std::string values = "value";
    bool operator==(const GatherPlan&) const = default;
};

/// Places of the columns a plan gathers, in the order of the table. Errors: unknownColumn; badJoin when
/// nothing is left to gather.
std::vector<std::size_t> gatheredColumns(const Table& table, const GatherPlan& plan, const std::string& file);

/// n rows with k gathered columns become n · k rows: each row once for each gathered column, in the order of
/// the table, with the column's name and its value; the other columns are repeated. Missing values stay, as
/// rows. Names that are numbers (years) become numbers, names that are dates or months of a year (2025-03,
/// Mar 2025) dates, names of months numbers from 1 to 12, others a factor. Values that are numbers in some
/// columns and something else in others become a factor. `kinds` may ask for other types of both columns.
/// Faults keep their lines. Errors: those of gatheredColumns; badJoin when a name is taken or the rows are
/// more than can be held.
RowsRead gatherRows(RowsRead rows, const GatherPlan& plan, const std::map<std::string, AskedKind>& kinds,
                    Progress& progress);

/// The columns that look like one quantity in many: the longest stretch of at least three neighbours whose
/// names are years, months or dates. An empty plan when there is none.
GatherPlan suggestedGather(const Table& table);

} // namespace oxgoad
