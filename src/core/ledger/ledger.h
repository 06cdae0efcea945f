#pragma once
// The ledger: what every column holds and what is odd about it.
#include "base/parallel.h"
#include "base/progress.h"
#include "ledger/goad.h"
#include "table/summary.h"
#include "table/table.h"

#include <cstdint>
#include <map>
#include <set>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

struct LedgerLine {
    ColumnSummary summary;
    /// What is odd about the column, gravest first; each with the moves that would answer it.
    std::vector<Goad> goads;
};

struct Ledger {
    std::vector<LedgerLine> columns;
    /// About the rows as a whole: duplicates, sources that do not fit together.
    std::vector<Goad> table;

    const LedgerLine* find(const std::string& column) const;
    /// All goads, those of the table first.
    std::vector<Goad> goads() const;
};

/// What the ledger is made of. References outlive the call.
struct LedgerInput {
    const Table& table;
    /// Rows that nobody left out; all when empty.
    std::span<const std::uint8_t> used;
    std::string response;
    /// Cells that could not be read, by column.
    std::vector<std::pair<std::string, std::size_t>> misfits;
    /// A few of these cells as they stand, by column.
    std::map<std::string, std::vector<std::string>> misfitTexts;
    /// Column that says which source a row came from; empty when there is one source.
    std::string originColumn;
    /// Columns nobody asks about any more: set aside, or identifiers.
    std::set<std::string> quiet;
};

/// One line a column. The same for any number of threads. Throws Stopped.
Ledger makeLedger(const LedgerInput& input, Threads threads, Progress& progress);

/// The goads of one column, gravest first. Thresholds are in the goads, with their sources.
std::vector<Goad> columnGoads(const LedgerInput& input, const Column& column, const ColumnSummary& summary);

/// Rows that are equal in all columns, and sources whose numbers barely overlap.
std::vector<Goad> tableGoads(const LedgerInput& input, Threads threads, Progress& progress);

} // namespace oxgoad
