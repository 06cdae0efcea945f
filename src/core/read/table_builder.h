#pragma once
// Tables from cells that know their own type: workbooks and databases.
#include "read/text_format.h"
#include "read/text_reader.h"
#include "table/dictionary.h"

#include <cstdint>
#include <string>
#include <vector>

namespace oxgoad {

/// Takes cells row by row and decides on the kind of each column at the end, by the rules of readText.
class TableBuilder {
public:
    TableBuilder(std::vector<std::string> names, const TextOptions& options, std::string file);

    void addNumber(std::size_t column, double value);
    /// Days since 1970-01-01; a time of day is their fraction.
    void addDate(std::size_t column, double days);
    void addText(std::size_t column, std::string_view text);
    /// A cell that holds an error, such as #REF!.
    void addFault(std::size_t column, std::string_view text, std::string reason);
    /// Ends the row; cells that were not given are missing. `line` is where the row stands in its source.
    void endRow(std::size_t line);
    std::size_t rows() const { return m_rows; }
    /// Gives a cell the value of another of its column; rows from 0.
    void repeat(std::size_t column, std::size_t fromRow, std::size_t toRow);
    /// More columns at the right, without values so far.
    void widen(std::size_t columns);
    /// True while a column was given neither a value nor a fault.
    bool isEmpty(std::size_t column) const {
        return m_cells[column].tags.empty() && m_faultsByColumn[column] == 0;
    }
    /// Drops the columns whose mark is 0.
    void keepOnly(const std::vector<std::uint8_t>& wanted);
    void setNames(std::vector<std::string> names) { m_names = std::move(names); }
    std::size_t columns() const { return m_names.size(); }

    /// The table; the builder is empty then. Errors: noRows.
    RowsRead finish();

private:
    enum class Tag : std::uint8_t { missing, number, date, text };
    struct Cells {
        std::vector<Tag> tags;
        /// Number, day, or code of the text.
        std::vector<double> values;
        Dictionary texts;
    };
    void add(std::size_t column, Tag tag, double value);
    Column column(std::size_t c, ReadReport& report);

    std::vector<std::string> m_names;
    TextOptions m_options;
    std::string m_file;
    std::vector<Cells> m_cells;
    std::vector<std::size_t> m_lines;
    std::vector<CellFault> m_faults;
    std::vector<std::size_t> m_faultsByColumn;
    std::size_t m_rows = 0;
};

} // namespace oxgoad
