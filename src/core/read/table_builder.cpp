#include "read/table_builder.h"

#include "base/error.h"
#include "base/text.h"
#include "read/text_format.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace oxgoad {

namespace {

constexpr std::size_t fittingOfTen = 9;

} // namespace

TableBuilder::TableBuilder(std::vector<std::string> names, const TextOptions& options, std::string file)
    : m_names(std::move(names)), m_options(options), m_file(std::move(file)), m_cells(m_names.size()),
      m_faultsByColumn(m_names.size(), 0) {}

void TableBuilder::add(std::size_t column, Tag tag, double value) {
    Cells& cells = m_cells[column];
    if (cells.tags.size() > m_rows) return; // a cell given twice: the first counts
    cells.tags.resize(m_rows, Tag::missing);
    cells.values.resize(m_rows, 0);
    cells.tags.push_back(tag);
    cells.values.push_back(value);
}

void TableBuilder::addNumber(std::size_t column, double value) {
    if (std::isfinite(value)) add(column, Tag::number, value);
}

void TableBuilder::addDate(std::size_t column, double days) {
    add(column, Tag::date, days);
}

void TableBuilder::addText(std::size_t column, std::string_view text) {
    text = trimmed(text);
    if (text.empty()) return;
    if (!isUtf8(text)) {
        addFault(column, "", "is not UTF-8 text");
        return;
    }
    add(column, Tag::text, m_cells[column].texts.code(text));
}

void TableBuilder::addFault(std::size_t column, std::string_view text, std::string reason) {
    ++m_faultsByColumn[column];
    if (m_faults.size() < ReadReport::listedFaults)
        m_faults.push_back(
            {0, m_rows + 1, column + 1, m_names[column], std::string(text), std::move(reason)});
}

void TableBuilder::widen(std::size_t columns) {
    if (columns <= m_names.size()) return;
    m_names.resize(columns);
    m_cells.resize(columns);
    m_faultsByColumn.resize(columns, 0);
}

void TableBuilder::keepOnly(const std::vector<std::uint8_t>& wanted) {
    std::size_t kept = 0;
    for (std::size_t c = 0; c < m_names.size(); ++c) {
        if (wanted[c] == 0) continue;
        if (kept != c) {
            m_names[kept] = std::move(m_names[c]);
            m_cells[kept] = std::move(m_cells[c]);
            m_faultsByColumn[kept] = m_faultsByColumn[c];
        }
        ++kept;
    }
    m_names.resize(kept);
    m_cells.resize(kept);
    m_faultsByColumn.resize(kept);
}

void TableBuilder::repeat(std::size_t column, std::size_t fromRow, std::size_t toRow) {
    Cells& cells = m_cells[column];
    if (fromRow >= cells.tags.size()) return;
    if (toRow >= cells.tags.size()) {
        cells.tags.resize(toRow + 1, Tag::missing);
        cells.values.resize(toRow + 1, 0);
    }
    cells.tags[toRow] = cells.tags[fromRow];
    cells.values[toRow] = cells.values[fromRow];
}

void TableBuilder::endRow(std::size_t line) {
    ++m_rows;
    m_lines.push_back(line);
}

Column TableBuilder::column(std::size_t c, ReadReport& report) {
    Cells cells = std::move(m_cells[c]);
    m_cells[c] = {};
    cells.tags.resize(m_rows, Tag::missing);
    cells.values.resize(m_rows, 0);
    const std::string& name = m_names[c];
    const MissingMarks marks(m_options.missingMarks);
    const std::size_t texts = cells.texts.size();
    // Numbers stored as text: the decimal mark that reads more of them, the point when none does.
    char mark = m_options.decimalMark.value_or('.');
    if (!m_options.decimalMark) {
        std::size_t points = 0, commas = 0;
        for (std::size_t t = 0; t < texts; ++t) {
            const std::string& text = cells.texts.key(static_cast<std::int32_t>(t));
            points += parseDressedNumber(text, dressOf(m_options, '.')).has_value();
            commas += parseDressedNumber(text, dressOf(m_options, ',')).has_value();
        }
        if (commas > points) mark = ',';
    }
    NumberDress dress = dressOf(m_options, mark);
    DateOrder order = m_options.dateOrder.value_or(DateOrder::dayFirst);
    if (!m_options.dateOrder) { // as readText: what reads more of them
        std::size_t dayFirst = 0, monthFirst = 0;
        for (std::size_t t = 0; t < texts; ++t) {
            const std::string& text = cells.texts.key(static_cast<std::int32_t>(t));
            dayFirst += parseDate(text, DateOrder::dayFirst).has_value();
            monthFirst += parseDate(text, DateOrder::monthFirst).has_value();
        }
        if (monthFirst > dayFirst) order = DateOrder::monthFirst;
    }
    const auto asked = m_options.kinds.find(name);
    dress.units = NumberDress::Units::any;

    // What each text could be, once for every different text.
    std::vector<std::uint8_t> missing(texts), whole(texts), coded(texts);
    std::vector<std::optional<DressedNumber>> asNumber(texts);
    std::vector<std::optional<double>> asDate(texts);
    for (std::size_t t = 0; t < texts; ++t) {
        const std::string& text = cells.texts.key(static_cast<std::int32_t>(t));
        missing[t] = marks.contains(text);
        asNumber[t] = parseDressedNumber(text, dress);
        if (const auto moment = parseMoment(text, order))
            asDate[t] = moment;
        else if (const auto day = parseDate(text, order))
            asDate[t] = *day;
        coded[t] = writtenAsCode(text);
        whole[t] = isDigits(text);
    }
    std::size_t present = 0, numbers = 0, dates = 0, asCodes = 0, wholes = 0, times = 0, serials = 0;
    UnitTally units;
    for (std::size_t i = 0; i < m_rows; ++i) {
        const auto at = static_cast<std::size_t>(
            cells.values[i] >= 0 && cells.tags[i] == Tag::text ? cells.values[i] : 0);
        if (cells.tags[i] == Tag::text && missing[at]) cells.tags[i] = Tag::missing;
        if (cells.tags[i] == Tag::missing) continue;
        ++present;
        asCodes += cells.tags[i] == Tag::text && coded[at] != 0;
        wholes += cells.tags[i] == Tag::number || (cells.tags[i] == Tag::text && whole[at] != 0);
        const bool united = cells.tags[i] == Tag::text && asNumber[at] && !asNumber[at]->unit.empty();
        if (united) units.add(asNumber[at]->unit);
        numbers += cells.tags[i] == Tag::number || (cells.tags[i] == Tag::text && asNumber[at] && !united);
        const double day = cells.tags[i] == Tag::date                 ? cells.values[i]
                           : cells.tags[i] == Tag::text && asDate[at] ? *asDate[at]
                                                                      : 0;
        times += day != std::floor(day);
        serials += cells.tags[i] == Tag::number && parseSerialDate(exactText(cells.values[i]));
        dates += cells.tags[i] == Tag::date ||
                 (cells.tags[i] == Tag::text && (!asNumber[at] || united) && asDate[at]);
    }
    const auto [unit, unitCells] = units.best();
    const bool oneUnit = unitCells > 0 && 10 * unitCells >= fittingOfTen * present;
    if (oneUnit || (unitCells > 0 && asked != m_options.kinds.end() && asked->second == ColumnKind::number)) {
        dress.unit = unit;
        numbers += unitCells;
        if (unit != sizeMarks) report.units.emplace_back(name, unit);
        report.doubts.push_back({name + ": \"" + unit + "\" beside the numbers was read as their unit."});
    }
    for (auto& number : asNumber)
        if (number && !number->unit.empty() && number->unit != dress.unit) number.reset();
    // Days that a workbook counts, in cells that are not shown as days.
    const bool serial =
        present > 0 && serials == present &&
        ((asked == m_options.kinds.end() && namesDate(name)) ||
         (asked != m_options.kinds.end() && (asked->second == ColumnKind::date || asked->second.moments)));
    if (serial) {
        constexpr double epoch = 25569;
        for (std::size_t i = 0; i < m_rows; ++i)
            if (cells.tags[i] == Tag::number) cells.tags[i] = Tag::date, cells.values[i] -= epoch;
        dates = present;
        numbers = 0;
        report.doubts.push_back(
            {name + ": whole numbers were read as the days a workbook counts (44562 is 2022-01-01).", name});
    }
    ColumnKind kind = ColumnKind::factor;
    const bool keptAsText = areCodes(asCodes, wholes, present);
    if (10 * numbers >= fittingOfTen * present && !keptAsText)
        kind = ColumnKind::number;
    else if (10 * dates >= fittingOfTen * present)
        kind = ColumnKind::date;
    if (asked != m_options.kinds.end())
        kind = asked->second;
    else if (keptAsText)
        report.doubts.push_back(
            {name +
                 ": whole numbers with zeros in front or more digits than a number keeps were left as texts.",
             name});

    auto textOf = [&](std::size_t i) -> std::string {
        if (cells.tags[i] == Tag::number) return exactText(cells.values[i]);
        if (cells.tags[i] == Tag::date)
            return cells.values[i] == std::floor(cells.values[i])
                       ? dateText(static_cast<std::int32_t>(cells.values[i]))
                       : momentText(cells.values[i]);
        return cells.texts.key(static_cast<std::int32_t>(cells.values[i]));
    };
    auto misfit = [&](std::size_t i, const char* reason) {
        ++m_faultsByColumn[c];
        if (m_faults.size() < ReadReport::listedFaults)
            m_faults.push_back({m_lines[i], i + 1, c + 1, name, textOf(i), reason});
    };
    const bool asMoments =
        asked == m_options.kinds.end() ? kind == ColumnKind::date && times > 0 : asked->second.moments;
    if (asMoments) {
        std::vector<double> moments(m_rows, std::nan(""));
        for (std::size_t i = 0; i < m_rows; ++i) {
            if (cells.tags[i] == Tag::missing) continue;
            if (cells.tags[i] == Tag::date)
                moments[i] = cells.values[i];
            else if (cells.tags[i] == Tag::text && asDate[static_cast<std::size_t>(cells.values[i])])
                moments[i] = *asDate[static_cast<std::size_t>(cells.values[i])];
            else
                misfit(i, "is not a date and time");
        }
        return Column::ofMoments(name, std::move(moments));
    }
    if (kind == ColumnKind::number) {
        std::vector<double>& values = cells.values;
        std::size_t asText = 0;
        for (std::size_t i = 0; i < m_rows; ++i) {
            if (cells.tags[i] == Tag::number) continue;
            double value = std::nan("");
            if (cells.tags[i] == Tag::text && asNumber[static_cast<std::size_t>(values[i])]) {
                value = asNumber[static_cast<std::size_t>(values[i])]->value;
                ++asText;
            } else if (cells.tags[i] != Tag::missing) {
                misfit(i, "is not a number");
            }
            values[i] = value;
        }
        if (asText > 0)
            report.notes.push_back(name + ": " + plural(asText, "number was", "numbers were") +
                                   " stored as text and read as numbers.");
        return Column::ofNumbers(name, std::move(values));
    }
    if (kind == ColumnKind::date) {
        std::vector<std::int32_t> days(m_rows, Column::missingDay);
        for (std::size_t i = 0; i < m_rows; ++i) {
            if (cells.tags[i] == Tag::missing) continue;
            if (cells.tags[i] == Tag::date)
                days[i] = static_cast<std::int32_t>(std::floor(cells.values[i]));
            else if (cells.tags[i] == Tag::text && asDate[static_cast<std::size_t>(cells.values[i])])
                days[i] =
                    static_cast<std::int32_t>(std::floor(*asDate[static_cast<std::size_t>(cells.values[i])]));
            else
                misfit(i, "is not a date");
        }
        return Column::ofDates(name, std::move(days));
    }
    Dictionary dictionary;
    std::vector<std::int32_t> codes(m_rows, Column::missingCode);
    for (std::size_t i = 0; i < m_rows; ++i)
        if (cells.tags[i] != Tag::missing) codes[i] = dictionary.code(textOf(i));
    const bool asText = asked != m_options.kinds.end()
                            ? kind == ColumnKind::text
                            : dictionary.size() > 20 && dictionary.size() * 2 > present;
    if (!asText) return sortedFactor(name, std::move(codes), dictionary.takeKeys());
    TextCells out;
    for (const auto code : codes)
        out.add(code < 0 ? std::string_view{} : std::string_view(dictionary.key(code)));
    return Column::ofText(name, std::move(out));
}

RowsRead TableBuilder::finish() {
    if (m_rows == 0)
        throw Error(ErrorCode::noRows, "there are no rows below the header", {.file = m_file},
                    "Choose another sheet, range or query.");
    for (const auto& [wanted, kind] : m_options.kinds)
        if (!m_options.kindsMayBeAbsent && std::find(m_names.begin(), m_names.end(), wanted) == m_names.end())
            throw Error(ErrorCode::unknownColumn,
                        "there is no column \"" + wanted + "\" to be read as " + std::string(kindName(kind)),
                        {.file = m_file}, "Take it out of \"kinds\" or correct its name.");
    RowsRead result;
    std::vector<Column> columns;
    for (std::size_t c = 0; c < m_names.size(); ++c)
        columns.push_back(column(c, result.report));
    result.table = Table(std::move(columns));
    result.report.file = m_file;
    result.report.rows = m_rows;
    std::stable_sort(m_faults.begin(), m_faults.end(),
                     [](const CellFault& a, const CellFault& b) { return a.row < b.row; });
    for (CellFault& fault : m_faults)
        if (fault.line == 0 && fault.row > 0) fault.line = m_lines[fault.row - 1];
    result.report.faults = std::move(m_faults);
    for (std::size_t c = 0; c < m_names.size(); ++c)
        if (m_faultsByColumn[c] > 0) {
            result.report.faultsByColumn.emplace_back(m_names[c], m_faultsByColumn[c]);
            result.report.faultCount += m_faultsByColumn[c];
        }
    return result;
}

} // namespace oxgoad
