#pragma once
// The ledger: what every column holds and what is odd about it.
#include "base/parallel.h"
#include "base/progress.h"
#include "recipe/goad.h"
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
    /// What a plain distribution brings by itself: a skew, a long tail, few whole values, many zeros. Said
    /// beside the column and nowhere else; nobody is asked to answer it.
    std::vector<Goad> remarks;
};

struct Ledger {
    std::vector<LedgerLine> columns;
    /// About the rows as a whole: duplicates, sources that do not fit together.
    std::vector<Goad> table;
    std::vector<Goad> tableRemarks;

    const LedgerLine* find(const std::string& column) const;
    /// All goads, those of the table first, told together where they are of one sort.
    std::vector<Goad> goads() const;
};

/// Puts goads about columns from a place on into families: those of one sort that three columns or more have,
/// and otherwise those of one column; the later ones of a family stand under its first.
void tellColumnsTogether(std::vector<Goad>& goads, std::size_t from = 0);

/// What the ledger is made of. References outlive the call.
struct LedgerInput {
    const Table& table;
    /// Rows that count: those nobody left out and that are not for the test; all when empty.
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

/// Fills in the goads and the remarks of one column from its summary. Thresholds are in the goads, with their
/// sources; they know the number of rows.
void judgeColumn(const LedgerInput& input, const Column& column, LedgerLine& line);

/// Rows that are equal in all columns more often than chance makes them, and sources whose numbers barely
/// overlap.
void judgeTable(const LedgerInput& input, Threads threads, Progress& progress, Ledger& ledger);

/// Small letters, composed (Unicode 15, chapter 3.13, by utf8proc); the text itself when it is not UTF-8.
std::string foldedCase(const std::string& text);

/// What is left of a level when case, spaces and marks between letters are taken away: equal for levels that
/// differ in nothing else. Signs count (+, <, >, a minus at an end), points and strokes between digits, and
/// accents. Case is folded for all letters (Unicode 15, chapter 3.13, by utf8proc).
std::string bareLevel(const std::string& level);

} // namespace oxgoad
