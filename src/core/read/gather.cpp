#include "read/gather.h"

#include "base/error.h"
#include "base/text.h"
#include "table/dictionary.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>
#include <optional>
#include <set>

namespace oxgoad {

namespace {

constexpr std::size_t mostCells = 400000000;

/// 1..12 for the English name of a month or its first three letters.
std::optional<double> monthOfName(std::string_view name) {
    if (name.empty() || (name.front() >= '0' && name.front() <= '9')) return std::nullopt;
    if (!std::all_of(name.begin(), name.end(),
                     [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); }))
        return std::nullopt;
    for (int month = 1; month <= 12; ++month)
        if (parseDate(std::string(name) + " 2001", DateOrder::dayFirst) ==
            daysFromCivil(2001, static_cast<unsigned>(month), 1))
            return month;
    return std::nullopt;
}

template <class T, class Read>
std::optional<std::vector<T>> allRead(const std::vector<std::string>& names, Read read) {
    std::vector<T> values;
    for (const auto& name : names) {
        const auto value = read(name);
        if (!value) return std::nullopt;
        values.push_back(static_cast<T>(*value));
    }
    return values;
}

/// One value for each name, repeated for every row of the wide table.
template <class T> std::vector<T> repeated(const std::vector<T>& each, std::size_t rows) {
    std::vector<T> all;
    all.reserve(each.size() * rows);
    for (std::size_t i = 0; i < rows; ++i)
        all.insert(all.end(), each.begin(), each.end());
    return all;
}

Column nameColumn(const std::string& name, const std::vector<std::string>& names, std::size_t rows) {
    if (const auto numbers = allRead<double>(names, [](const auto& n) { return parseNumber(n, '.'); }))
        return Column::ofNumbers(name, repeated(*numbers, rows));
    if (const auto days =
            allRead<std::int32_t>(names, [](const auto& n) { return parseDate(n, DateOrder::dayFirst); }))
        return Column::ofDates(name, repeated(*days, rows));
    if (const auto months = allRead<double>(names, [](const auto& n) { return monthOfName(n); }))
        return Column::ofNumbers(name, repeated(*months, rows));
    std::vector<std::int32_t> codes;
    for (std::size_t i = 0; i < names.size(); ++i)
        codes.push_back(static_cast<std::int32_t>(i));
    return sortedFactor(name, repeated(codes, rows), names);
}

/// Every value of a column `times` times in a row.
Column stretched(const Column& column, std::size_t times, Progress& progress) {
    const std::size_t n = column.size();
    auto each = [&](auto&& values, auto add) {
        for (std::size_t i = 0; i < n; ++i) {
            if (i % 65536 == 0 && progress.stopRequested()) throw Stopped{};
            for (std::size_t k = 0; k < times; ++k)
                add(values(i));
        }
    };
    switch (column.kind()) {
    case ColumnKind::number: {
        std::vector<double> all;
        all.reserve(n * times);
        each([&](std::size_t i) { return column.numbers()[i]; }, [&](double v) { all.push_back(v); });
        return Column::ofNumbersLike(column, column.name(), std::move(all));
    }
    case ColumnKind::date: {
        std::vector<std::int32_t> all;
        all.reserve(n * times);
        each([&](std::size_t i) { return column.days()[i]; }, [&](std::int32_t v) { all.push_back(v); });
        return Column::ofDates(column.name(), std::move(all));
    }
    case ColumnKind::factor: {
        std::vector<std::int32_t> all;
        all.reserve(n * times);
        each([&](std::size_t i) { return column.codes()[i]; }, [&](std::int32_t v) { all.push_back(v); });
        return Column::ofFactor(column.name(), std::move(all), column.levels());
    }
    case ColumnKind::text:
        break;
    }
    TextCells cells;
    each([&](std::size_t i) { return column.text(i); }, [&](std::string_view v) { cells.add(v); });
    return Column::ofText(column.name(), std::move(cells));
}

/// The values of some columns row by row: of their kind when all that hold something share one.
Column valueColumn(const std::string& name, const std::vector<const Column*>& columns, std::size_t rows,
                   Progress& progress) {
    const AskedKind one = commonKind(columns).value_or(ColumnKind::factor);
    auto eachCell = [&](auto add) {
        for (std::size_t i = 0; i < rows; ++i) {
            if (i % 4096 == 0)
                progress.checkpoint(0.9 * static_cast<double>(i) / static_cast<double>(rows),
                                    "Gathering columns");
            for (const Column* column : columns)
                add(*column, i);
        }
    };
    if (one == ColumnKind::number) {
        std::vector<double> all;
        all.reserve(rows * columns.size());
        eachCell([&](const Column& c, std::size_t i) {
            const bool there = c.missingCount() < c.size() && !c.isMissing(i);
            all.push_back(there ? c.asNumber(i) : std::nan(""));
        });
        return one.moments ? Column::ofMoments(name, std::move(all))
                           : Column::ofNumbers(name, std::move(all));
    }
    if (one == ColumnKind::date) {
        std::vector<std::int32_t> all;
        all.reserve(rows * columns.size());
        eachCell([&](const Column& c, std::size_t i) {
            all.push_back(c.kind() == ColumnKind::date ? c.days()[i] : Column::missingDay);
        });
        return Column::ofDates(name, std::move(all));
    }
    Dictionary dictionary;
    std::vector<std::int32_t> codes;
    codes.reserve(rows * columns.size());
    std::string text;
    eachCell([&](const Column& c, std::size_t i) {
        codes.push_back(c.isMissing(i) ? Column::missingCode : dictionary.code(text = c.cellText(i)));
    });
    return sortedFactor(name, std::move(codes), dictionary.takeKeys());
}

Column asAsked(Column column, const std::map<std::string, AskedKind>& kinds) {
    const auto asked = kinds.find(column.name());
    return asked == kinds.end() || asked->second == column.asked() ? column
                                                                   : column.converted(asked->second).column;
}

} // namespace

std::vector<std::size_t> gatheredColumns(const Table& table, const GatherPlan& plan,
                                         const std::string& file) {
    std::vector<std::size_t> places;
    auto placeOf = [&](const std::string& name) {
        const Column& column = table.at(name, file);
        return static_cast<std::size_t>(&column - table.columns().data());
    };
    if (plan.columns.empty()) {
        if (plan.from.empty() || plan.to.empty())
            throw Error(ErrorCode::badJoin, "no columns are named to be gathered into rows", {.file = file},
                        "Name them in \"columns\", or the first and the last in \"from\" and \"to\".");
        const std::size_t first = placeOf(plan.from), last = placeOf(plan.to);
        for (std::size_t c = std::min(first, last); c <= std::max(first, last); ++c)
            places.push_back(c);
    } else {
        for (const auto& name : plan.columns)
            places.push_back(placeOf(name));
        std::sort(places.begin(), places.end());
        places.erase(std::unique(places.begin(), places.end()), places.end());
    }
    return places;
}

RowsRead gatherRows(RowsRead rows, const GatherPlan& plan, const std::map<std::string, AskedKind>& kinds,
                    Progress& progress) {
    const std::string file = rows.report.file;
    const auto places = gatheredColumns(rows.table, plan, file);
    const std::size_t n = rows.table.rows(), k = places.size();
    std::vector<const Column*> gathered;
    std::vector<std::string> names;
    for (const std::size_t place : places) {
        gathered.push_back(&rows.table.columns()[place]);
        names.push_back(gathered.back()->name());
    }
    const std::size_t columns = rows.table.columns().size() - k + 2;
    if (n * k > mostCells / columns)
        throw Error(ErrorCode::badJoin,
                    "gathering " + countText(k) + " columns of " + countText(n) + " rows makes " +
                        countText(n * k) + " rows of " + countText(columns) +
                        " columns, more than can be held",
                    {.file = file}, "Gather fewer columns, or leave others out where the file was made.");
    if (plan.names == plan.values)
        throw Error(ErrorCode::badJoin, "names and values cannot both be called \"" + plan.names + "\"",
                    {.file = file}, "Give one of them another name.");
    std::vector<Column> table;
    const std::set<std::size_t> gone(places.begin(), places.end());
    for (std::size_t c = 0; c < rows.table.columns().size(); ++c) {
        if (c == places.front()) {
            table.push_back(asAsked(nameColumn(plan.names, names, n), kinds));
            table.push_back(asAsked(valueColumn(plan.values, gathered, n, progress), kinds));
        }
        if (gone.contains(c)) continue;
        const Column& column = rows.table.columns()[c];
        if (column.name() == plan.names || column.name() == plan.values)
            throw Error(ErrorCode::badJoin, "there is a column called \"" + column.name() + "\" already",
                        {.file = file}, "Choose another name for the gathered columns.");
        table.push_back(stretched(column, k, progress));
    }
    RowsRead result;
    result.report = std::move(rows.report);
    ReadReport& report = result.report;
    std::map<std::string, std::size_t> place;
    for (std::size_t i = 0; i < k; ++i)
        place[names[i]] = i;
    for (CellFault& fault : report.faults) {
        const auto found = place.find(fault.column);
        fault.row = (fault.row - 1) * k + 1 + (found == place.end() ? 0 : found->second);
        if (found == place.end()) continue;
        fault.reason += " (" + plan.names + " " + fault.column + ")";
        fault.column = plan.values;
    }
    std::vector<std::pair<std::string, std::size_t>> byColumn;
    std::size_t values = 0;
    for (const auto& [column, count] : report.faultsByColumn) {
        if (place.contains(column))
            values += count;
        else
            byColumn.emplace_back(column, count);
    }
    if (values > 0) byColumn.emplace_back(plan.values, values);
    report.faultsByColumn = std::move(byColumn);
    report.rows = n * k;
    report.notes.push_back(plural(k, "column", "columns") + " from " + names.front() + " to " + names.back() +
                           " " + (k == 1 ? "was" : "were") + " gathered into " + countText(n * k) +
                           " rows: " + plan.names + ", " + plan.values + ".");
    result.table = Table(std::move(table));
    return result;
}

GatherPlan suggestedGather(const Table& table) {
    const auto& columns = table.columns();
    auto sortOf = [](const std::string& name) {
        const auto number = parseNumber(name, '.');
        if (number && name.size() == 4 && *number >= 1000 && *number < 3000) return 1;
        if (parseDate(name, DateOrder::dayFirst)) return 2;
        return monthOfName(name) ? 3 : 0;
    };
    std::size_t best = 0, from = 0;
    for (std::size_t c = 0; c < columns.size();) {
        const int sort = sortOf(columns[c].name());
        std::size_t end = c + 1;
        while (end < columns.size() && sort != 0 && sortOf(columns[end].name()) == sort)
            ++end;
        if (sort != 0 && end - c > best) {
            best = end - c;
            from = c;
        }
        c = end;
    }
    if (best < 3) return {};
    const int sort = sortOf(columns[from].name());
    return {{},
            columns[from].name(),
            columns[from + best - 1].name(),
            sort == 1   ? "year"
            : sort == 2 ? "date"
                        : "month",
            "value"};
}

} // namespace oxgoad
