#include "table/table.h"

#include "base/error.h"

#include <algorithm>
#include <cassert>

namespace oxgoad {

Table::Table(std::vector<Column> columns) : m_columns(std::move(columns)) {
    constexpr std::size_t few = 32; // found as fast by looking through them
    if (m_columns.size() > few) {
        auto places = std::make_shared<Places>();
        places->reserve(m_columns.size());
        for (std::size_t i = 0; i < m_columns.size(); ++i)
            places->emplace(m_columns[i].name(), i);
        assert(places->size() == m_columns.size());
        m_places = std::move(places);
    }
    for (std::size_t i = 0; i < m_columns.size(); ++i) {
        assert(m_columns[i].size() == m_columns.front().size());
        for (std::size_t j = 0; j < (m_places ? 0 : i); ++j)
            assert(m_columns[i].name() != m_columns[j].name());
    }
}

const Column* Table::find(std::string_view name) const {
    if (m_places) {
        const auto place = m_places->find(std::string(name));
        return place == m_places->end() ? nullptr : &m_columns[place->second];
    }
    const auto found =
        std::find_if(m_columns.begin(), m_columns.end(), [&](const Column& c) { return c.name() == name; });
    return found == m_columns.end() ? nullptr : &*found;
}

const Column& Table::at(std::string_view name, std::string_view file) const {
    if (const Column* column = find(name)) return *column;
    std::string known;
    for (const Column& column : m_columns) {
        if (known.size() > 300) {
            known += ", …";
            break;
        }
        known += (known.empty() ? "" : ", ") + column.name();
    }
    throw Error(ErrorCode::unknownColumn, "there is no column \"" + std::string(name) + "\"",
                {.file = std::string(file)}, "The columns are: " + known + ".");
}

Table Table::withColumn(Column column) const {
    std::vector<Column> columns = m_columns;
    const auto found = std::find_if(columns.begin(), columns.end(),
                                    [&](const Column& c) { return c.name() == column.name(); });
    if (found == columns.end())
        columns.push_back(std::move(column));
    else
        *found = std::move(column);
    return Table(std::move(columns));
}

std::size_t Table::valueBytes() const {
    std::size_t bytes = 0;
    for (const Column& column : m_columns)
        bytes += column.valueBytes();
    return bytes;
}

} // namespace oxgoad
