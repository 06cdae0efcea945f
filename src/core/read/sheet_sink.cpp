#include "read/sheet_sink.h"

#include "base/error.h"
#include "base/text.h"
#include "read/text_format.h"

#include <algorithm>

namespace oxgoad {

namespace {

/// Rows looked at before the header is decided.
constexpr std::size_t heldRows = 40;
constexpr std::size_t mostColumns = 16384;
/// Bytes of a name kept; merged cells repeat it.
constexpr std::size_t longestName = 400;

/// "AB" and "12" of "AB12"; either may be empty.
bool splitName(std::string_view name, std::optional<std::size_t>& column, std::optional<std::size_t>& row) {
    std::size_t i = 0;
    std::size_t letters = 0;
    for (; i < name.size() && ((name[i] >= 'A' && name[i] <= 'Z') || (name[i] >= 'a' && name[i] <= 'z')); ++i)
        letters = letters * 26 + static_cast<std::size_t>((name[i] & 0x5F) - 'A') + 1;
    if (i > 3) return false;
    if (i > 0) column = letters - 1;
    std::size_t number = 0;
    const std::size_t digits = i;
    for (; i < name.size() && name[i] >= '0' && name[i] <= '9' && i - digits < 8; ++i)
        number = number * 10 + static_cast<std::size_t>(name[i] - '0');
    if (i > digits) {
        if (number == 0) return false;
        row = number - 1;
    }
    return i == name.size() && (column || row);
}

} // namespace

std::optional<std::pair<std::size_t, std::size_t>> parseCellName(std::string_view name) {
    std::optional<std::size_t> column, row;
    if (!splitName(name, column, row) || !column || !row) return std::nullopt;
    return std::pair{*column, *row};
}

std::optional<CellRange> parseRange(std::string_view text) {
    std::string plain;
    for (const char c : trimmed(text))
        if (c != '$') plain += c;
    const auto colon = plain.find(':');
    std::optional<std::size_t> column, row, toColumn, toRow;
    if (!splitName(std::string_view(plain).substr(0, colon), column, row)) return std::nullopt;
    if (colon == std::string::npos) {
        toColumn = column;
        toRow = row;
    } else if (!splitName(std::string_view(plain).substr(colon + 1), toColumn, toRow)) {
        return std::nullopt;
    }
    CellRange range;
    range.firstRow = row.value_or(0);
    range.lastRow = toRow.value_or(range.lastRow);
    range.firstColumn = column.value_or(0);
    range.lastColumn = toColumn.value_or(range.lastColumn);
    if (range.lastRow < range.firstRow) std::swap(range.lastRow, range.firstRow);
    if (range.lastColumn < range.firstColumn) std::swap(range.lastColumn, range.firstColumn);
    return range;
}

SheetSink::SheetSink(std::string file, std::string sheet, const CellRange& range, const TextOptions& options,
                     std::size_t mostRows)
    : m_file(std::move(file)), m_sheet(std::move(sheet)), m_range(range), m_options(options),
      m_mostRows(mostRows) {
    m_range.firstRow = std::max(m_range.firstRow, options.skipLines.value_or(0));
}

void SheetSink::requireRoom(std::size_t rows, std::size_t columns, double cost) const {
    constexpr double always = 2e7, each = 2;
    const double most = always + each * static_cast<double>(m_bytes);
    const double cells = static_cast<double>(rows) * static_cast<double>(columns);
    if (cells <= most && cost <= always / 8 + 2 * each * static_cast<double>(m_bytes)) return;
    throw Error(ErrorCode::badWorkbook,
                cells > most ? "the sheet makes " + countText(rows) + " rows of " + countText(columns) +
                                   " columns, most of them empty: more than a file of its size can hold"
                             : "the sheet repeats cells until they are more than a file of its size can hold",
                {.file = m_file, .sheet = m_sheet},
                "Choose a range of cells, or save the sheet as text (CSV).");
}

void SheetSink::cell(std::size_t row, std::size_t column, SheetCell cell) {
    if (row < m_range.firstRow || row > m_range.lastRow || column < m_range.firstColumn ||
        column > m_range.lastColumn || column >= mostColumns)
        return;
    if (m_inRow && row != m_row.row) endRow();
    if (!m_inRow) {
        m_row.row = row;
        m_row.cells.clear();
        m_inRow = true;
    }
    m_cost += 1 + static_cast<double>(cell.text.size()) / 16;
    requireRoom(0, 0, m_cost);
    m_row.cells.emplace_back(column, std::move(cell));
}

void SheetSink::endRow() {
    m_inRow = false;
    if (m_row.cells.empty()) return;
    if (m_builder) {
        put(m_row);
        return;
    }
    m_held.push_back(std::move(m_row));
    m_row = {};
    if (m_held.size() >= heldRows) decideHeader();
}

void SheetSink::decideHeader() {
    auto onlyTexts = [](const HeldRow& row) {
        return std::all_of(row.cells.begin(), row.cells.end(),
                           [](const auto& c) { return c.second.kind == SheetCell::Kind::text; });
    };
    std::size_t first = mostColumns;
    std::size_t last = 0;
    for (const HeldRow& row : m_held)
        for (const auto& [column, cell] : row.cells) {
            first = std::min(first, column);
            last = std::max(last, column);
        }
    m_firstColumn = first;
    m_columns = last - first + 1;
    const std::size_t titles = m_options.skipLines || m_range.firstRow > 0 ? 0 : titleRows();
    auto held = [this, titles](std::size_t i) -> const HeldRow& { return m_held[titles + i]; };
    const std::size_t rest = m_held.size() - titles;
    bool sure = true;
    const bool twoRows = rest > 2 && held(0).cells.size() < m_columns && onlyTexts(held(0)) &&
                         onlyTexts(held(1)) && !onlyTexts(held(2));
    std::size_t heads = m_options.header.value_or(twoRows || judgedHeader(titles, sure)) ? 1 : 0;
    m_headerIsGuess = !m_options.header && !sure;
    if (heads == 1 && twoRows) heads = 2;
    m_titles.assign(m_held.begin(), m_held.begin() + static_cast<std::ptrdiff_t>(titles));
    m_head.assign(m_held.begin() + static_cast<std::ptrdiff_t>(titles),
                  m_held.begin() + static_cast<std::ptrdiff_t>(titles + heads));
    heads += titles;
    if (heads > titles && !m_options.header) takeUnits(heads);
    m_builder.emplace(std::vector<std::string>(m_columns), m_options, m_file);
    for (std::size_t i = heads; i < m_held.size(); ++i)
        put(m_held[i]);
    m_held.clear();
}

std::size_t SheetSink::titleRows() const {
    std::size_t titles = 0;
    while (titles < m_held.size() && m_held[titles].cells.size() == 1 &&
           m_held[titles].cells[0].second.kind == SheetCell::Kind::text)
        ++titles;
    if (titles == 0 || titles + 1 >= m_held.size()) return 0;
    bool sure = true;
    return m_held[titles].cells.size() >= 2 && judgedHeader(titles, sure) ? titles : 0;
}

bool SheetSink::judgedHeader(std::size_t first, bool& sure) const {
    std::vector<std::vector<HeadCell>> below;
    for (std::size_t i = first + 1; i < m_held.size(); ++i)
        below.push_back(headCells(m_held[i], true));
    const HeaderVerdict verdict = judgeHeader(headCells(m_held[first], false), below);
    sure = verdict.sure;
    return verdict.header;
}

std::vector<HeadCell> SheetSink::headCells(const HeldRow& row, bool below) const {
    const MissingMarks missing(m_options.missingMarks);
    std::vector<HeadCell> cells(m_columns);
    for (const auto& [column, cell] : row.cells) {
        HeadCell& out = cells[column - m_firstColumn];
        if (cell.kind == SheetCell::Kind::text)
            out = headCell(cell.text, m_options.decimalMark.value_or('.'), missing, below);
        else if (cell.kind == SheetCell::Kind::number)
            out = headCell(exactText(cell.number), '.', missing);
        else if (cell.kind == SheetCell::Kind::date)
            out.kind = HeadCell::Kind::date;
    }
    return cells;
}

void SheetSink::takeUnits(std::size_t& heads) {
    if (heads >= m_held.size()) return;
    std::vector<std::vector<HeadCell>> below;
    for (std::size_t i = heads + 1; i < m_held.size(); ++i)
        below.push_back(headCells(m_held[i], true));
    m_units = headCells(m_held[heads], true);
    if (isUnitRow(m_units, below))
        ++heads;
    else
        m_units.clear();
}

void SheetSink::put(const HeldRow& row) {
    if (full()) return;
    bool any = false;
    for (const auto& [column, cell] : row.cells) {
        if (column < m_firstColumn) {
            ++m_beyond;
            continue;
        }
        const std::size_t c = column - m_firstColumn;
        if (c >= m_columns) { // a column that begins further down
            m_columns = c + 1;
            m_builder->widen(m_columns);
        }
        if (m_columns > 1) requireRoom(m_builder->rows() + 1, m_columns, 0);
        switch (cell.kind) {
        case SheetCell::Kind::number:
            m_builder->addNumber(c, cell.number);
            break;
        case SheetCell::Kind::date:
            m_builder->addDate(c, cell.number);
            break;
        case SheetCell::Kind::text:
            m_builder->addText(c, cell.text);
            break;
        case SheetCell::Kind::fault:
            m_builder->addFault(c, cell.text, "is an error in the workbook");
            break;
        }
        any = true;
    }
    if (!any) return;
    m_builder->endRow(row.row + 1);
    m_rowOfBuilder.push_back(row.row);
}

void SheetSink::merged(const CellRange& cells) {
    constexpr std::size_t most = 1000000;
    if (m_merged.size() < most) m_merged.push_back(cells);
}

std::vector<std::string> SheetSink::headTexts() const {
    std::vector<std::string> texts(m_columns);
    for (std::size_t h = 0; h < m_head.size(); ++h) {
        std::vector<std::string> line(m_columns);
        for (const auto& [column, cell] : m_head[h].cells)
            if (column >= m_firstColumn && column - m_firstColumn < m_columns)
                line[column - m_firstColumn] = cell.kind == SheetCell::Kind::number ? exactText(cell.number)
                                               : cell.kind == SheetCell::Kind::date
                                                   ? dateText(static_cast<std::int32_t>(cell.number))
                                                   : cell.text;
        for (std::string& name : line)
            if (name.size() > longestName) { // cut at a character's first byte
                std::size_t end = longestName;
                while (end > 0 && (static_cast<unsigned char>(name[end]) & 0xC0U) == 0x80)
                    --end;
                name.resize(end);
                name += "…";
            }
        // Each column takes its name from one range only, however many overlap.
        std::vector<const CellRange*> across;
        for (const CellRange& range : m_merged)
            if (range.firstRow == m_head[h].row &&
                range.firstColumn >= m_firstColumn) // merged down: named above
                across.push_back(&range);
        std::stable_sort(across.begin(), across.end(), [](const CellRange* left, const CellRange* right) {
            return left->firstColumn < right->firstColumn;
        });
        std::size_t covered = 0;
        for (const CellRange* range : across) {
            const std::size_t from = range->firstColumn - m_firstColumn;
            if (from < covered || from >= m_columns) continue;
            const std::size_t to = std::min(range->lastColumn - m_firstColumn, m_columns - 1);
            for (std::size_t c = from + 1; c <= to; ++c)
                line[c] = line[from];
            covered = to + 1;
        }
        for (std::size_t c = 0; c < m_columns; ++c) {
            const std::string part(trimmed(line[c]));
            if (!part.empty()) texts[c] += (texts[c].empty() ? "" : " ") + part;
        }
    }
    return texts;
}

RowsRead SheetSink::finish() {
    if (m_inRow) endRow();
    if (!m_builder && !m_held.empty()) decideHeader();
    if (!m_builder)
        throw Error(ErrorCode::noRows,
                    "the sheet is empty" +
                        std::string(m_range.firstRow > 0 || m_range.firstColumn > 0 ? " there" : ""),
                    {.file = m_file, .sheet = m_sheet}, "Choose another sheet or range.");
    // Each cell takes its value from one range only, however many overlap.
    std::stable_sort(m_merged.begin(), m_merged.end(), [](const CellRange& a, const CellRange& b) {
        return std::pair(a.firstColumn, a.firstRow) < std::pair(b.firstColumn, b.firstRow);
    });
    std::size_t column = static_cast<std::size_t>(-1), below = 0;
    for (const CellRange& range : m_merged) {
        if (range.firstRow == range.lastRow || range.firstColumn != range.lastColumn) continue;
        if (range.firstColumn < m_firstColumn || range.firstColumn - m_firstColumn >= m_columns) continue;
        if (range.firstColumn == column && range.firstRow < below) continue;
        column = range.firstColumn;
        below = range.lastRow + 1;
        const auto from = std::lower_bound(m_rowOfBuilder.begin(), m_rowOfBuilder.end(), range.firstRow);
        if (from == m_rowOfBuilder.end() || *from != range.firstRow) continue;
        for (auto to = from + 1; to != m_rowOfBuilder.end() && *to <= range.lastRow; ++to)
            m_builder->repeat(range.firstColumn - m_firstColumn,
                              static_cast<std::size_t>(from - m_rowOfBuilder.begin()),
                              static_cast<std::size_t>(to - m_rowOfBuilder.begin()));
    }
    // A title merged over some of the columns is the upper row of their names.
    const bool grouped = !m_titles.empty() && !m_head.empty() &&
                         std::any_of(m_merged.begin(), m_merged.end(), [this](const CellRange& range) {
                             return range.firstRow == m_titles.back().row &&
                                    range.firstColumn < range.lastColumn &&
                                    range.lastColumn - range.firstColumn + 1 < m_columns;
                         });
    if (grouped) {
        m_head.insert(m_head.begin(), std::move(m_titles.back()));
        m_titles.pop_back();
    }
    std::vector<std::string> heads = headTexts();
    m_units.resize(m_columns);
    if (!m_head.empty()) { // columns with neither a name nor a value only stand between others
        std::vector<std::uint8_t> wanted(m_columns);
        for (std::size_t c = 0; c < m_columns; ++c)
            wanted[c] = !heads[c].empty() || !m_builder->isEmpty(c);
        m_builder->keepOnly(wanted);
        std::size_t place = 0;
        std::erase_if(heads, [&](const std::string&) { return wanted[place++] == 0; });
        place = 0;
        std::erase_if(m_units, [&](const HeadCell&) { return wanted[place++] == 0; });
    }
    std::vector<std::string> notes;
    const std::vector<std::string> names = columnNames(heads, !m_head.empty(), notes);
    m_builder->setNames(names);
    RowsRead result = m_builder->finish();
    std::string units;
    for (std::size_t c = 0; c < m_units.size(); ++c)
        if (!m_units[c].text.empty()) {
            result.report.units.emplace_back(names[c], m_units[c].text);
            units += (units.empty() ? "" : ", ") + m_units[c].text;
        }
    if (!units.empty())
        result.report.doubts.push_back({"The row under the header was taken as units: " + units + "."});
    result.report.notes.insert(result.report.notes.begin(), notes.begin(), notes.end());
    if (!m_titles.empty()) {
        const std::string& first = m_titles.front().cells.front().second.text;
        result.report.doubts.push_back({plural(m_titles.size(), "row", "rows") + " above the header " +
                                        (m_titles.size() == 1 ? "was" : "were") + " passed over" +
                                        (first.size() > 60 ? "" : " (\"" + first + "\")") + "."});
    }
    if (m_headerIsGuess)
        result.report.doubts.push_back({m_head.empty()
                                            ? "The first row was taken as a row, not as names."
                                            : "The first row was taken as the names of the columns."});
    if (m_head.size() > 1) result.report.notes.emplace_back("The header has two rows.");
    if (m_beyond > 0)
        result.report.notes.push_back(
            plural(m_beyond, "cell left of the table was", "cells left of the table were") + " passed over.");
    return result;
}

} // namespace oxgoad
