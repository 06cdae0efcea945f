#include "prepare/arrange.h"

#include "base/error.h"
#include "base/text.h"
#include "prepare/expression.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

char lower(char c) {
    return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
}

bool holds(std::string_view text, std::string_view wanted) {
    return std::search(text.begin(), text.end(), wanted.begin(), wanted.end(),
                       [](char a, char b) { return lower(a) == lower(b); }) != text.end();
}

void markFound(const Column& column, std::string_view wanted, std::vector<std::uint8_t>& found) {
    const std::size_t n = column.size();
    switch (column.kind()) {
    case ColumnKind::number:
        if (const auto value = parseDressedNumber(wanted, {}))
            for (std::size_t i = 0; i < n; ++i)
                found[i] |= column.numbers()[i] == value->value;
        return;
    case ColumnKind::date:
        if (const auto day = parseDate(wanted, DateOrder::dayFirst))
            for (std::size_t i = 0; i < n; ++i)
                found[i] |= column.days()[i] == *day;
        return;
    case ColumnKind::factor: {
        std::vector<std::uint8_t> level;
        for (const auto& name : column.levels())
            level.push_back(holds(name, wanted));
        for (std::size_t i = 0; i < n; ++i)
            if (const auto code = column.codes()[i]; code >= 0)
                found[i] |= level[static_cast<std::size_t>(code)];
        return;
    }
    case ColumnKind::text:
        for (std::size_t i = 0; i < n; ++i)
            found[i] |= holds(column.text(i), wanted);
    }
}

} // namespace

std::vector<std::uint32_t> arrangeRows(const Table& table, const RowArrangement& wanted,
                                       std::span<const double> key, Progress& progress) {
    const std::size_t n = table.rows();
    std::vector<std::uint8_t> shown(n, 1);
    if (!trimmed(wanted.condition).empty()) {
        progress.checkpoint(0, "Choosing rows");
        const auto values = Expression::parse(wanted.condition, table.columns()).evaluate(table.columns());
        for (std::size_t i = 0; i < n; ++i)
            shown[i] = values[i] != 0 && !std::isnan(values[i]);
    }
    const std::string_view text = trimmed(wanted.search);
    if (!text.empty()) {
        std::vector<std::uint8_t> found(n, 0);
        for (std::size_t c = 0; c < table.columns().size(); ++c) {
            progress.checkpoint(static_cast<double>(c) / static_cast<double>(table.columns().size()),
                                "Searching rows");
            markFound(table.columns()[c], text, found);
        }
        for (std::size_t i = 0; i < n; ++i)
            shown[i] &= found[i];
    }
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < n; ++i)
        if (shown[i] != 0) rows.push_back(static_cast<std::uint32_t>(i));
    if (key.empty() && wanted.sortBy.empty()) return rows;
    progress.checkpoint(0.5, "Sorting rows");
    const Column* column = key.empty() ? &table.at(wanted.sortBy, {}) : nullptr;
    if (column && column->kind() == ColumnKind::text) {
        std::stable_sort(rows.begin(), rows.end(), [&](std::uint32_t a, std::uint32_t b) {
            const auto x = column->text(a);
            const auto y = column->text(b);
            if (x.empty() || y.empty()) return !x.empty() && y.empty();
            return wanted.descending ? y < x : x < y;
        });
        return rows;
    }
    std::vector<double> values(n);
    for (const auto row : rows)
        values[row] = column ? column->asNumber(row) : key[row];
    std::stable_sort(rows.begin(), rows.end(), [&](std::uint32_t a, std::uint32_t b) {
        const double x = values[a];
        const double y = values[b];
        if (std::isnan(x) || std::isnan(y)) return !std::isnan(x) && std::isnan(y);
        return wanted.descending ? y < x : x < y;
    });
    return rows;
}

} // namespace oxgoad
