#include "table/column.h"

#include "base/text.h"
#include "table/dictionary.h"
#include "table/values.h"

#include <algorithm>
#include <array>
#include <cassert>
#include <cmath>

namespace oxgoad {

AskedKind AskedKind::ofMoments() {
    AskedKind asked;
    asked.moments = true;
    return asked;
}

std::span<const AskedKind> AskedKind::all() {
    static const std::array<AskedKind, 5> kinds{ColumnKind::number, ColumnKind::factor, ColumnKind::date,
                                                ofMoments(), ColumnKind::text};
    return kinds;
}

std::optional<AskedKind> AskedKind::named(std::string_view name) {
    for (const AskedKind& kind : all())
        if (kind.name() == name) return kind;
    return std::nullopt;
}

std::string_view kindName(ColumnKind kind) {
    switch (kind) {
    case ColumnKind::number:
        return "number";
    case ColumnKind::factor:
        return "factor";
    case ColumnKind::date:
        return "date";
    case ColumnKind::text:
        return "text";
    }
    return "text";
}

Column Column::ofNumbers(std::string name, std::vector<double> values) {
    auto data = std::make_shared<Data>();
    data->kind = ColumnKind::number;
    data->size = values.size();
    data->missing = static_cast<std::size_t>(
        std::count_if(values.begin(), values.end(), [](double v) { return std::isnan(v); }));
    data->numbers = std::move(values);
    return {std::move(name), std::move(data)};
}

Column Column::ofMoments(std::string name, std::vector<double> days) {
    Column column = ofNumbers(std::move(name), std::move(days));
    auto data = std::make_shared<Data>(*column.m_data);
    data->moments = true;
    column.m_data = std::move(data);
    return column;
}

Column Column::ofFactor(std::string name, std::vector<std::int32_t> codes, std::vector<std::string> levels) {
    auto data = std::make_shared<Data>();
    data->kind = ColumnKind::factor;
    data->size = codes.size();
    data->missing = static_cast<std::size_t>(std::count(codes.begin(), codes.end(), missingCode));
    assert(std::all_of(codes.begin(), codes.end(), [&](std::int32_t c) {
        return c >= missingCode && c < static_cast<std::int32_t>(levels.size());
    }));
    data->integers = std::move(codes);
    data->levels = std::move(levels);
    return {std::move(name), std::move(data)};
}

Column Column::ofDates(std::string name, std::vector<std::int32_t> days) {
    auto data = std::make_shared<Data>();
    data->kind = ColumnKind::date;
    data->size = days.size();
    data->missing = static_cast<std::size_t>(std::count(days.begin(), days.end(), missingDay));
    data->integers = std::move(days);
    return {std::move(name), std::move(data)};
}

Column Column::ofText(std::string name, TextCells cells) {
    auto data = std::make_shared<Data>();
    data->kind = ColumnKind::text;
    data->size = cells.offsets.size() - 1;
    for (std::size_t i = 0; i < data->size; ++i)
        data->missing += cells.offsets[i] == cells.offsets[i + 1];
    data->text = std::move(cells);
    return {std::move(name), std::move(data)};
}

std::span<const double> Column::numbers() const {
    assert(kind() == ColumnKind::number);
    return m_data->numbers;
}

std::span<const std::int32_t> Column::codes() const {
    assert(kind() == ColumnKind::factor);
    return m_data->integers;
}

const std::vector<std::string>& Column::levels() const {
    return m_data->levels;
}

std::span<const std::int32_t> Column::days() const {
    assert(kind() == ColumnKind::date);
    return m_data->integers;
}

std::string_view Column::text(std::size_t row) const {
    assert(kind() == ColumnKind::text);
    const auto& cells = m_data->text;
    return std::string_view(cells.bytes)
        .substr(cells.offsets[row], cells.offsets[row + 1] - cells.offsets[row]);
}

bool Column::isMissing(std::size_t row) const {
    assert(row < size());
    switch (kind()) {
    case ColumnKind::number:
        return std::isnan(m_data->numbers[row]);
    case ColumnKind::factor:
        return m_data->integers[row] == missingCode;
    case ColumnKind::date:
        return m_data->integers[row] == missingDay;
    case ColumnKind::text:
        return text(row).empty();
    }
    return true;
}

std::string Column::cellText(std::size_t row) const {
    if (isMissing(row)) return {};
    switch (kind()) {
    case ColumnKind::number:
        return moments() ? momentText(m_data->numbers[row]) : exactText(m_data->numbers[row]);
    case ColumnKind::factor:
        return m_data->levels[static_cast<std::size_t>(m_data->integers[row])];
    case ColumnKind::date:
        return dateText(m_data->integers[row]);
    case ColumnKind::text:
        return std::string(text(row));
    }
    return {};
}

double Column::asNumber(std::size_t row) const {
    if (isMissing(row) || kind() == ColumnKind::text) return std::nan("");
    return kind() == ColumnKind::number ? m_data->numbers[row] : m_data->integers[row];
}

std::int32_t Column::codeOf(std::string_view level) const {
    const auto found = std::find(m_data->levels.begin(), m_data->levels.end(), level);
    return found == m_data->levels.end() ? -1 : static_cast<std::int32_t>(found - m_data->levels.begin());
}

Column Column::renamed(std::string name) const {
    return {std::move(name), m_data};
}

namespace {

std::optional<double> dressedNumber(std::string_view cell) {
    const auto value = parseDressedNumber(cell, {});
    return value ? std::optional<double>(value->value) : std::nullopt;
}

std::optional<double> momentOf(std::string_view cell) {
    if (const auto moment = parseMoment(cell, DateOrder::dayFirst)) return moment;
    if (const auto day = parseDate(cell, DateOrder::dayFirst)) return static_cast<double>(*day);
    return std::nullopt;
}

} // namespace

Column::Converted Column::converted(AskedKind wanted) const {
    if (wanted == asked()) return {*this, 0};
    std::size_t lost = 0;
    if (wanted.kind == ColumnKind::number) {
        std::vector<double> values(size(), std::nan(""));
        for (std::size_t i = 0; i < size(); ++i) {
            if (isMissing(i)) continue;
            std::optional<double> value;
            if (!wanted.moments)
                value = moments() ? numbers()[i] : dressedNumber(cellText(i));
            else if (kind() == ColumnKind::date)
                value = days()[i];
            else if (kind() != ColumnKind::number)
                value = momentOf(cellText(i));
            lost += !value;
            if (value) values[i] = *value;
        }
        return {wanted.moments ? ofMoments(m_name, std::move(values)) : ofNumbers(m_name, std::move(values)),
                lost};
    }
    if (wanted.kind == ColumnKind::date) {
        std::vector<std::int32_t> values(size(), missingDay);
        for (std::size_t i = 0; i < size(); ++i) {
            if (isMissing(i)) continue;
            const auto day = parseDate(cellText(i), DateOrder::dayFirst);
            lost += !day;
            if (day) values[i] = *day;
        }
        return {ofDates(m_name, std::move(values)), lost};
    }
    if (wanted.kind == ColumnKind::text) {
        TextCells cells;
        for (std::size_t i = 0; i < size(); ++i)
            cells.add(cellText(i));
        return {ofText(m_name, std::move(cells)), 0};
    }
    Dictionary dictionary;
    std::vector<std::int32_t> codes(size(), missingCode);
    for (std::size_t i = 0; i < size(); ++i)
        if (!isMissing(i)) codes[i] = dictionary.code(cellText(i));
    return {sortedFactor(m_name, std::move(codes), dictionary.takeKeys()), 0};
}

std::size_t Column::valueBytes() const {
    return m_data->numbers.size() * sizeof(double) + m_data->integers.size() * sizeof(std::int32_t) +
           (kind() == ColumnKind::text ? m_data->text.bytes.size() + m_data->text.offsets.size() * 8 : 0);
}

std::optional<AskedKind> commonKind(std::span<const Column* const> columns) {
    std::optional<AskedKind> common;
    for (const Column* column : columns) {
        if (!column || (column->size() > 0 && column->missingCount() == column->size())) continue;
        const AskedKind own = column->asked();
        if (!common || *common == own) {
            common = own;
            continue;
        }
        const auto days = [](const AskedKind& kind) { return kind.moments || kind == ColumnKind::date; };
        const auto texts = [](const AskedKind& kind) {
            return kind == ColumnKind::factor || kind == ColumnKind::text;
        };
        if (days(*common) && days(own))
            common = AskedKind::ofMoments();
        else if (texts(*common) && texts(own))
            common = ColumnKind::factor;
        else
            return std::nullopt;
    }
    return common ? common : AskedKind(ColumnKind::number);
}

Column Column::picked(const std::string& name, std::span<const std::int64_t> rows) const {
    const std::size_t n = rows.size();
    switch (kind()) {
    case ColumnKind::number: {
        std::vector<double> values(n, std::nan(""));
        for (std::size_t i = 0; i < n; ++i)
            if (rows[i] >= 0) values[i] = numbers()[static_cast<std::size_t>(rows[i])];
        return ofNumbersLike(*this, name, std::move(values));
    }
    case ColumnKind::date: {
        std::vector<std::int32_t> values(n, missingDay);
        for (std::size_t i = 0; i < n; ++i)
            if (rows[i] >= 0) values[i] = days()[static_cast<std::size_t>(rows[i])];
        return ofDates(name, std::move(values));
    }
    case ColumnKind::factor: {
        std::vector<std::int32_t> values(n, missingCode);
        for (std::size_t i = 0; i < n; ++i)
            if (rows[i] >= 0) values[i] = codes()[static_cast<std::size_t>(rows[i])];
        return ofFactor(name, std::move(values), levels());
    }
    case ColumnKind::text:
        break;
    }
    TextCells cells;
    for (std::size_t i = 0; i < n; ++i)
        cells.add(rows[i] >= 0 ? text(static_cast<std::size_t>(rows[i])) : std::string_view{});
    return ofText(name, std::move(cells));
}

} // namespace oxgoad
