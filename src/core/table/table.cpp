#include "table/table.h"

#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <cassert>
#include <numeric>
#include <string_view>

namespace oxgoad {

Table::Table(std::vector<Column> columns) : m_columns(std::move(columns)) {
    std::vector<std::uint32_t> places(m_columns.size());
    std::iota(places.begin(), places.end(), 0U);
    const auto name = [&](std::uint32_t place) -> const std::string& { return m_columns[place].name(); };
    std::sort(places.begin(), places.end(),
              [&](std::uint32_t a, std::uint32_t b) { return name(a) < name(b); });
    assert(std::all_of(m_columns.begin(), m_columns.end(),
                       [&](const Column& c) { return c.size() == m_columns.front().size(); }));
    assert(std::adjacent_find(places.begin(), places.end(), [&](std::uint32_t a, std::uint32_t b) {
               return name(a) == name(b);
           }) == places.end());
    m_byName = std::make_shared<const std::vector<std::uint32_t>>(std::move(places));
}

const Column* Table::find(std::string_view name) const {
    if (m_columns.empty()) return nullptr;
    const auto place = std::lower_bound(
        m_byName->begin(), m_byName->end(), name,
        [&](std::uint32_t at, std::string_view wanted) { return m_columns[at].name() < wanted; });
    if (place == m_byName->end() || m_columns[*place].name() != name) return nullptr;
    return &m_columns[*place];
}

const Column& Table::at(std::string_view name, std::string_view file) const {
    if (const Column* column = find(name)) return *column;
    std::vector<std::string> names;
    for (const Column& column : m_columns)
        names.push_back(column.name());
    std::string known = didYouMean(name, names);
    known += known.empty() ? "The columns are: " : " The columns are: ";
    const std::size_t head = known.size();
    for (const Column& column : m_columns) {
        if (known.size() > head + 300) {
            known += ", …";
            break;
        }
        known += (known.size() == head ? "" : ", ") + column.name();
    }
    throw Error(ErrorCode::unknownColumn, "there is no column \"" + std::string(name) + "\"",
                {.file = std::string(file)}, known + ".");
}

Table Table::withColumn(Column column) const {
    std::vector<Column> columns = m_columns;
    if (const Column* found = find(column.name()))
        columns[static_cast<std::size_t>(found - m_columns.data())] = std::move(column);
    else
        columns.push_back(std::move(column));
    return Table(std::move(columns));
}

std::size_t Table::valueBytes() const {
    std::size_t bytes = 0;
    for (const Column& column : m_columns)
        bytes += column.valueBytes();
    return bytes;
}

Table Table::picked(std::span<const std::uint32_t> rows) const {
    const std::vector<std::int64_t> places(rows.begin(), rows.end());
    std::vector<Column> columns;
    columns.reserve(m_columns.size());
    for (const Column& column : m_columns)
        columns.push_back(column.picked(column.name(), places));
    return Table(std::move(columns));
}

} // namespace oxgoad
