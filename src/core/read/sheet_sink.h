#pragma once
// From the cells of a sheet, in any dialect, to a table.
#include "read/table_builder.h"

#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// Columns and rows of a sheet, from 0, both ends included.
struct CellRange {
    std::size_t firstRow = 0, lastRow = static_cast<std::size_t>(-1);
    std::size_t firstColumn = 0, lastColumn = static_cast<std::size_t>(-1);
};
/// From "B3:F200", "B:F", "3:200", "B3"; empty when it is none of these.
std::optional<CellRange> parseRange(std::string_view text);
/// Column and row of "AB12", from 0; empty when it is no such name.
std::optional<std::pair<std::size_t, std::size_t>> parseCellName(std::string_view name);

struct SheetCell {
    enum class Kind { number, date, text, fault } kind = Kind::text;
    double number = 0;
    std::string text;
};

/// Takes the cells of a sheet row by row, finds the header, and fills a table.
class SheetSink {
public:
    SheetSink(std::string file, std::string sheet, const CellRange& range, const TextOptions& options,
              std::size_t mostRows);

    /// Rows and columns from 0 and never back.
    void cell(std::size_t row, std::size_t column, SheetCell cell);
    /// Cells that are one: the first one's value counts for all.
    void merged(const CellRange& cells);
    /// Says how many bytes of the file the cells come from. More cells than such a file can hold are refused:
    /// the ways to repeat cells, merge them or name far ones make a small file as large as one likes.
    void setBytes(std::size_t bytes) { m_bytes = bytes; }
    bool full() const { return m_mostRows > 0 && m_builder && m_builder->rows() >= m_mostRows; }
    std::size_t rows() const { return m_builder ? m_builder->rows() : 0; }
    RowsRead finish();

private:
    struct HeldRow {
        std::size_t row;
        std::vector<std::pair<std::size_t, SheetCell>> cells;
    };
    void endRow();
    void decideHeader();
    /// Rows with one cell above a table; they are kept as long as a merged cell may make one a part of the
    /// header.
    std::size_t titleRows() const;
    bool judgedHeader(std::size_t first, bool& sure) const;
    std::vector<HeadCell> headCells(const HeldRow& row, bool below) const;
    /// Passes over a row of units under the header; `heads` counts the rows above the first of the table.
    void takeUnits(std::size_t& heads);
    void put(const HeldRow& row);
    /// What the header says of each column; empty where it says nothing. Names merged across columns are
    /// repeated; columnNames tells equal ones apart.
    std::vector<std::string> headTexts() const;

    std::string m_file, m_sheet;
    CellRange m_range;
    TextOptions m_options;
    std::size_t m_mostRows;
    HeldRow m_row{};
    bool m_inRow = false;
    /// Rows kept until the header is decided.
    std::vector<HeldRow> m_held;
    std::vector<HeldRow> m_head;
    std::vector<HeldRow> m_titles;
    std::vector<HeadCell> m_units;
    bool m_headerIsGuess = false;
    std::size_t m_firstColumn = 0, m_columns = 0;
    std::optional<TableBuilder> m_builder;
    std::vector<std::size_t> m_rowOfBuilder;
    void requireRoom(std::size_t rows, std::size_t columns, double cost) const;

    std::vector<CellRange> m_merged;
    std::size_t m_bytes = 0;
    /// Cells so far; long texts count for more.
    double m_cost = 0;
    std::size_t m_beyond = 0;
};

} // namespace oxgoad
