#include "table/table.h"

#include "base/error.h"

#include <algorithm>
#include <cassert>
#include <string_view>
#include <unordered_set>

namespace oxgoad {

namespace {

/// Long names that differ at their end only, as those made distinct do, are told apart there first.
bool isCalled(const Column& column, std::string_view name) {
    const std::string& own = column.name();
    return own.size() == name.size() && (own.empty() || own.back() == name.back()) && own == name;
}

} // namespace

Table::Table(std::vector<Column> columns) : m_columns(std::move(columns)) {
    [[maybe_unused]] std::unordered_set<std::string_view> names;
    for ([[maybe_unused]] const Column& column : m_columns) {
        assert(column.size() == m_columns.front().size());
        assert(names.insert(column.name()).second);
    }
}

const Column* Table::find(std::string_view name) const {
    const auto found =
        std::find_if(m_columns.begin(), m_columns.end(), [&](const Column& c) { return isCalled(c, name); });
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
                                    [&](const Column& c) { return isCalled(c, column.name()); });
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
