#pragma once
// Rows in the order and choice the analyst wants to see them.
#include "base/progress.h"
#include "table/table.h"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

struct RowArrangement {
    /// Only rows where this condition holds; all when empty. See Expression.
    std::string condition;
    /// Only rows with a cell that holds this text (letters of either case), is this number, or is this date;
    /// all when empty.
    std::string search;
    /// Column to sort by; the order of the rows when empty.
    std::string sortBy;
    bool descending = false;
    bool operator==(const RowArrangement&) const = default;
};

/// Numbers of the rows, from 0. Sorting is stable; missing values come last either way; factors sort by their
/// levels' order. `key`, when not empty, is sorted by instead of a column. Errors: badExpression,
/// unknownColumn, wrongType. Throws Stopped.
std::vector<std::uint32_t> arrangeRows(const Table& table, const RowArrangement& wanted,
                                       std::span<const double> key, Progress& progress);

} // namespace oxgoad
