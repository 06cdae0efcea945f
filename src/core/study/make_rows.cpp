#include "study/make_rows.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "table/values.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <optional>

namespace oxgoad {

namespace {

using namespace std::chrono;

constexpr std::size_t mostRows = 1000000;

int monthsIn(const std::string& every) {
    return every == "month" ? 1 : every == "quarter" ? 3 : every == "year" ? 12 : 0;
}

std::int32_t monthsLater(std::int32_t day, int months) {
    const year_month_day date{sys_days{days{day}}};
    const year_month_day_last end = (date.year() / date.month() + std::chrono::months{months}) / last;
    const auto at = end.year() / end.month() / std::min(date.day(), end.day());
    return static_cast<std::int32_t>(sys_days{at}.time_since_epoch().count());
}

std::int32_t endOfMonth(std::int32_t day) {
    const year_month_day date{sys_days{days{day}}};
    return static_cast<std::int32_t>(sys_days{date.year() / date.month() / last}.time_since_epoch().count());
}

std::int32_t later(std::int32_t day, const std::string& every, int periods, bool atEnds) {
    if (const int months = monthsIn(every)) {
        const std::int32_t to = monthsLater(day, months * periods);
        return atEnds ? endOfMonth(to) : to;
    }
    return day + periods * (every == "week" ? 7 : 1);
}

/// Rows of one series.
struct Series {
    std::vector<std::uint32_t> rows;
    std::int32_t last = INT32_MIN;
};

class Maker {
public:
    Maker(const MadeRows& made, const Table& learning, const std::string& response, const std::string& file)
        : m_made(made), m_learning(learning), m_response(response), m_date(learning.at(made.date, file)) {
        if (m_date.kind() != ColumnKind::date)
            throw Error(ErrorCode::wrongType, "rows are made along a date",
                        {.file = file, .column = made.date}, "Name a column of dates.");
        for (const CarriedColumn& carried : made.columns)
            m_learning.at(carried.column, file);
        std::vector<const Column*> by;
        for (const std::string& name : made.by)
            by.push_back(&m_learning.at(name, file));
        const Column* known = m_learning.find(response);
        std::map<std::vector<std::string>, Series> series;
        for (std::uint32_t i = 0; i < m_learning.rows(); ++i) {
            if (m_date.isMissing(i) || (known && known->isMissing(i))) continue;
            std::vector<std::string> key;
            for (const Column* column : by)
                key.push_back(column->cellText(i));
            Series& own = series[key];
            own.rows.push_back(i);
            own.last = std::max(own.last, m_date.days()[i]);
            m_last = std::max(m_last, m_date.days()[i]);
            m_atEnds = m_atEnds && m_date.days()[i] == endOfMonth(m_date.days()[i]);
        }
        if (series.empty())
            throw Error(ErrorCode::badForecastRows, "no row has a date and " + response,
                        {.file = file, .column = made.date}, "Rows are made after the last that has both.");
        if (series.size() * static_cast<std::size_t>(made.periods) > mostRows)
            throw Error(ErrorCode::badForecastRows,
                        countText(series.size()) + " series of " +
                            countText(static_cast<std::size_t>(made.periods)) + " periods are too many rows",
                        {.file = file}, "Make " + countText(mostRows) + " at most.");
        for (auto& [key, own] : series)
            m_series.push_back(std::move(own));
    }

    Table make() const {
        const std::size_t rows = m_series.size() * periods();
        std::vector<Column> columns;
        for (const Column& column : m_learning.columns()) {
            if (column.name() == m_response) continue;
            if (column.name() == m_made.date) {
                std::vector<std::int32_t> days(rows);
                for (std::size_t i = 0; i < rows; ++i)
                    days[i] = dayOf(i);
                columns.push_back(Column::ofDates(column.name(), std::move(days)));
            } else {
                columns.push_back(carried(column));
            }
        }
        return Table(std::move(columns));
    }

private:
    std::size_t periods() const { return static_cast<std::size_t>(m_made.periods); }
    std::int32_t dayOf(std::size_t row) const {
        return later(m_last, m_made.every, static_cast<int>(row % periods()) + 1, m_atEnds);
    }

    Column carried(const Column& column) const {
        CarriedColumn asked{.column = column.name()};
        bool said = false;
        for (const CarriedColumn& each : m_made.columns)
            if (each.column == column.name()) asked = each, said = true;
        if (!said)
            if (const auto from = byCalendar(column)) return column.picked(column.name(), *from);
        const std::size_t rows = m_series.size() * periods();
        // The learning row each value comes from, and for numbers the value itself.
        std::vector<std::int64_t> from(rows, -1);
        std::vector<double> numbers(rows, nan);
        const bool number = column.kind() == ColumnKind::number;
        for (std::size_t s = 0; s < m_series.size(); ++s) {
            const Series& own = m_series[s];
            std::pair<std::int64_t, double> value{-1, nan};
            if (asked.how == CarriedColumn::How::lastValue)
                value = ofDay(column, own, own.last, own.last);
            else if (asked.how == CarriedColumn::How::usualValue)
                value = usual(column, own);
            for (std::size_t p = 0; p < periods(); ++p) {
                const std::size_t row = s * periods() + p;
                if (asked.how == CarriedColumn::How::yearBefore) {
                    const std::int32_t before = monthsLater(dayOf(row), -12);
                    // The period that the day lies in.
                    const std::int32_t slack = monthsIn(m_made.every) > 0 ? 14
                                               : m_made.every == "week"   ? 3
                                                                          : 0;
                    value = ofDay(column, own, before - slack, before + slack);
                }
                from[row] = value.first;
                numbers[row] = value.second;
            }
        }
        if (asked.how == CarriedColumn::How::given) return given(column, asked, rows);
        if (number) return Column::ofNumbersLike(column, column.name(), std::move(numbers));
        return column.picked(column.name(), from);
    }

    /// Rows to take the values from of a column that the calendar says: one value for each month of the year,
    /// or each day of the week, in all learning rows, and not the same for all.
    std::optional<std::vector<std::int64_t>> byCalendar(const Column& column) const {
        const auto monthOf = [](std::int32_t day) {
            return static_cast<unsigned>(year_month_day{sys_days{days{day}}}.month());
        };
        const auto weekdayOf = [](std::int32_t day) {
            return std::chrono::weekday{sys_days{days{day}}}.c_encoding();
        };
        for (const bool months : {true, false}) {
            std::map<unsigned, std::uint32_t> rowOf;
            std::map<std::string, unsigned> values;
            bool holds = true;
            std::size_t again = 0;
            for (std::uint32_t i = 0; i < m_learning.rows() && holds; ++i) {
                if (m_date.isMissing(i) || column.isMissing(i)) continue;
                const std::int32_t day = m_date.days()[i];
                const auto [known, isNew] = rowOf.emplace(months ? monthOf(day) : weekdayOf(day), i);
                if (isNew) {
                    holds = values.emplace(column.cellText(i), known->first).second;
                } else {
                    holds = column.cellText(i) == column.cellText(known->second);
                    again += day != m_date.days()[known->second];
                }
            }
            if (!holds || values.size() < 2 || again < rowOf.size()) continue;
            std::vector<std::int64_t> from;
            for (std::size_t row = 0; row < m_series.size() * periods(); ++row) {
                const auto at = rowOf.find(months ? monthOf(dayOf(row)) : weekdayOf(dayOf(row)));
                from.push_back(at == rowOf.end() ? -1 : static_cast<std::int64_t>(at->second));
            }
            return from;
        }
        return std::nullopt;
    }

    /// The mean of a number over the rows of some days, and the last of these rows.
    static std::pair<std::int64_t, double> meanOf(const Column& column,
                                                  const std::vector<std::uint32_t>& rows) {
        double sum = 0, count = 0;
        std::int64_t last = -1;
        for (const auto row : rows) {
            if (column.isMissing(row)) continue;
            last = row;
            if (column.kind() == ColumnKind::number) sum += column.numbers()[row];
            ++count;
        }
        return {last, count > 0 ? sum / count : nan};
    }

    std::pair<std::int64_t, double> ofDay(const Column& column, const Series& own, std::int32_t first,
                                          std::int32_t last) const {
        std::vector<std::uint32_t> rows;
        for (const auto row : own.rows)
            if (m_date.days()[row] >= first && m_date.days()[row] <= last) rows.push_back(row);
        return meanOf(column, rows);
    }

    static std::pair<std::int64_t, double> usual(const Column& column, const Series& own) {
        std::vector<std::uint32_t> there;
        for (const auto row : own.rows)
            if (!column.isMissing(row)) there.push_back(row);
        if (there.empty()) return {-1, nan};
        if (column.kind() == ColumnKind::number || column.kind() == ColumnKind::date) {
            const auto middle = there.begin() + static_cast<std::ptrdiff_t>(there.size() / 2);
            std::nth_element(there.begin(), middle, there.end(), [&](std::uint32_t a, std::uint32_t b) {
                return column.asNumber(a) < column.asNumber(b);
            });
            return {*middle, column.asNumber(*middle)};
        }
        std::map<std::string, std::pair<std::size_t, std::uint32_t>> counts;
        for (const auto row : there) {
            auto& [count, at] = counts[column.cellText(row)];
            ++count, at = row;
        }
        const auto most = std::max_element(counts.begin(), counts.end(), [](const auto& a, const auto& b) {
            return a.second.first < b.second.first;
        });
        return {most->second.second, nan};
    }

    static Column given(const Column& column, const CarriedColumn& asked, std::size_t rows) {
        const auto* number = std::get_if<double>(&asked.value);
        const auto refuse = [&](const std::string& what, const std::string& remedy) {
            throw Error(ErrorCode::wrongType, what, {.column = column.name()}, remedy);
        };
        if (column.kind() == ColumnKind::number) {
            if (!number)
                refuse("a number cannot be \"" + std::get<std::string>(asked.value) + "\"", "Give a number.");
            return columnOfValue(column, *number, rows, nullptr);
        }
        if (number && column.kind() != ColumnKind::date)
            return columnOfValue(column, exactText(*number), rows, nullptr);
        if (column.kind() != ColumnKind::date) return columnOfValue(column, asked.value, rows, nullptr);
        const std::string text = number ? exactText(*number) : std::get<std::string>(asked.value);
        const auto day = parseDate(text);
        if (!day) refuse("\"" + text + "\" is no date", "Write it as 2026-03-31.");
        return columnOfValue(column, static_cast<double>(*day), rows, nullptr);
    }

    const MadeRows& m_made;
    const Table& m_learning;
    const std::string& m_response;
    const Column& m_date;
    std::vector<Series> m_series;
    std::int32_t m_last = INT32_MIN;
    /// All dates are the last of their months.
    bool m_atEnds = true;
};

} // namespace

Table makeRows(const MadeRows& made, const Table& learning, const std::string& response,
               const std::string& file) {
    return Maker(made, learning, response, file).make();
}

Column columnOfValue(const Column& like, const std::variant<double, std::string>& value, std::size_t rows,
                     const std::vector<double>* at) {
    const auto* number = std::get_if<double>(&value);
    const auto numberAt = [&](std::size_t i) { return at ? (*at)[i] : number ? *number : nan; };
    switch (like.kind()) {
    case ColumnKind::number: {
        std::vector<double> values(rows);
        for (std::size_t i = 0; i < rows; ++i)
            values[i] = numberAt(i);
        return Column::ofNumbersLike(like, like.name(), std::move(values));
    }
    case ColumnKind::date: {
        std::vector<std::int32_t> days(rows, Column::missingDay);
        for (std::size_t i = 0; i < rows; ++i)
            if (const double day = numberAt(i); std::isfinite(day))
                days[i] = static_cast<std::int32_t>(std::floor(day));
        return Column::ofDates(like.name(), std::move(days));
    }
    case ColumnKind::factor: {
        if (number || std::get<std::string>(value).empty())
            return Column::ofFactor(like.name(), std::vector<std::int32_t>(rows, Column::missingCode),
                                    like.levels());
        std::vector<std::string> levels = like.levels();
        const std::string& level = std::get<std::string>(value);
        auto place = std::find(levels.begin(), levels.end(), level);
        if (place == levels.end()) place = levels.insert(levels.end(), level);
        const auto code = static_cast<std::int32_t>(place - levels.begin());
        return Column::ofFactor(like.name(), std::vector<std::int32_t>(rows, code), std::move(levels));
    }
    case ColumnKind::text:
        break;
    }
    TextCells cells;
    for (std::size_t i = 0; i < rows; ++i)
        cells.add(number ? std::string_view() : std::string_view(std::get<std::string>(value)));
    return Column::ofText(like.name(), std::move(cells));
}

} // namespace oxgoad
