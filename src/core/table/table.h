#pragma once
// An immutable table of columns of one length.
#include "table/column.h"

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

namespace oxgoad {

/// n rows × k columns with distinct names. A value type; columns are shared, not copied.
class Table {
public:
    Table() = default;
    /// Requires columns of equal size and distinct names; an assertion otherwise.
    explicit Table(std::vector<Column> columns);

    std::size_t rows() const { return m_columns.empty() ? 0 : m_columns.front().size(); }
    const std::vector<Column>& columns() const { return m_columns; }
    /// Nothing where no column has the name. By halves: tables of thousands of columns are asked for each of
    /// them.
    const Column* find(std::string_view name) const;
    /// Throws Error (unknownColumn) naming the column, the file and the nearest names there are.
    const Column& at(std::string_view name, std::string_view file) const;
    Table withColumn(Column column) const;
    /// Some of the rows, in the order given.
    Table picked(std::span<const std::uint32_t> rows) const;
    std::size_t valueBytes() const;

private:
    std::vector<Column> m_columns;
    /// Places in m_columns, by name.
    std::shared_ptr<const std::vector<std::uint32_t>> m_byName;
};

} // namespace oxgoad
