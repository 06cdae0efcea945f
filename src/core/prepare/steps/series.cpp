// Steps on dates, and steps that look back in time.
#include "base/error.h"
#include "base/text.h"
#include "prepare/steps/kinds.h"
#include "table/dictionary.h"

#include "base/not_a_number.h"
#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <map>
#include <unordered_map>

namespace oxgoad {

namespace {

using std::chrono::days;
using std::chrono::sys_days;
using std::chrono::year_month_day;
constexpr std::array weekdayOrder{"Monday", "Tuesday",  "Wednesday", "Thursday",
                                  "Friday", "Saturday", "Sunday"};

year_month_day dateOf(std::int32_t day) {
    return year_month_day(sys_days(days(day)));
}

int monthsOf(std::int32_t day) {
    const auto date = dateOf(day);
    return static_cast<int>(date.year()) * 12 + static_cast<int>(static_cast<unsigned>(date.month())) - 1;
}

/// Numbers worked out from each date; missing dates stay missing.
Column fromDates(const Column& dates, const std::string& ending,
                 const std::function<double(std::int32_t)>& value) {
    std::vector<double> values(dates.size(), nan);
    for (std::size_t i = 0; i < values.size(); ++i)
        if (!dates.isMissing(i)) values[i] = value(dates.days()[i]);
    return Column::ofNumbers(dates.name() + ending, std::move(values));
}

/// The days of dates with times.
Column daysOf(const Column& moments) {
    std::vector<std::int32_t> days(moments.size(), Column::missingDay);
    for (std::size_t i = 0; i < days.size(); ++i)
        if (!moments.isMissing(i)) days[i] = static_cast<std::int32_t>(std::floor(moments.numbers()[i]));
    return Column::ofDates(moments.name(), std::move(days));
}

Column weekdayColumn(const Column& dates) {
    std::vector<std::int32_t> codes(dates.size(), Column::missingCode);
    for (std::size_t i = 0; i < codes.size(); ++i) {
        if (dates.isMissing(i)) continue;
        const auto day = std::chrono::weekday(sys_days(days(dates.days()[i]))).c_encoding();
        codes[i] = static_cast<std::int32_t>((day + 6) % 7);
    }
    return Column::ofFactor(dates.name() + " weekday", std::move(codes),
                            std::vector<std::string>(weekdayOrder.begin(), weekdayOrder.end()));
}

enum class Period { hour, day, week, month, quarter };

/// Weeks from Monday to Sunday (ISO 8601), counted on from the one that holds 1970-01-01, a Thursday.
long long weekOf(std::int32_t day) {
    const long long monday = static_cast<long long>(day) + 3;
    return monday >= 0 ? monday / 7 : -((6 - monday) / 7);
}

/// A point of time as a whole number: the hour, the day, the calendar week, month or quarter of a date, or
/// the number itself.
struct Clock {
    const Column* column;
    Period period;

    bool has(std::size_t row) const { return !column->isMissing(row); }
    long long at(std::size_t row) const {
        if (column->kind() != ColumnKind::date && !column->moments())
            return std::llround(column->numbers()[row]);
        const double time = column->asNumber(row);
        const auto day = static_cast<std::int32_t>(std::floor(time));
        switch (period) {
        case Period::hour:
            return static_cast<long long>(std::floor(24 * time + 1e-6));
        case Period::week:
            return weekOf(day);
        case Period::month:
            return monthsOf(day);
        case Period::quarter:
            return monthsOf(day) / 3;
        case Period::day:
            break;
        }
        return day;
    }
};

/// Values by group and point of time, from the rows learned from and, when forecasting, those to be forecast.
/// Rows without a group where one is asked for, or without a time, have no history and are none.
class History {
public:
    History(const Step& step, StepFrame& frame) {
        const std::string& group = step.text("group");
        const Column value = frame.number(step.text("column"));
        const Column time = frame.at(step.text("time"));
        if (time.kind() != ColumnKind::date && time.kind() != ColumnKind::number)
            throw Error(ErrorCode::wrongType, "time must be a date or a number", {.column = time.name()});
        if (time.kind() == ColumnKind::date || time.moments())
            m_period = step.text("unit") == "month"     ? Period::month
                       : step.text("unit") == "quarter" ? Period::quarter
                       : step.text("unit") == "week"    ? Period::week
                       : step.text("unit") == "hour"    ? Period::hour
                                                        : Period::day;
        std::optional<Column> by;
        if (!group.empty()) by = frame.at(group);
        const auto& before = frame.values().columns([&] {
            std::vector<Column> kept{masked(value, frame), time};
            if (by) kept.push_back(*by);
            return kept;
        });
        const bool whole = before.size() == (by ? 3U : 2U) && before[0].kind() == ColumnKind::number &&
                           before[1].kind() == time.kind() && (!by || before[2].kind() == by->kind()) &&
                           std::all_of(before.begin(), before.end(),
                                       [&](const Column& c) { return c.size() == before[0].size(); });
        if (!whole)
            throw Error(ErrorCode::badStep, "what was learned about " + value.name() + " is not whole",
                        {.column = value.name()});
        if (frame.applying()) {
            addRows(before[0], before[1], by ? &before[2] : nullptr);
            addRows(value, time, by ? &*by : nullptr);
        } else {
            addRows(before[0], before[1], by ? &before[2] : nullptr);
        }
        if (m_doubled > 0)
            frame.note(plural(m_doubled, "row shares", "rows share") +
                       " its group and time with another; their mean was taken");
        std::size_t nowhere = 0;
        for (std::size_t i = 0; i < time.size(); ++i)
            nowhere += time.isMissing(i) || (by && by->isMissing(i));
        if (nowhere > 0)
            frame.note(plural(nowhere, "row has", "rows have") + " no " +
                       (by ? by->name() + " or no " + time.name() : time.name()) + " and no value before");
        m_value = value;
        m_time = time;
        m_by = by;
    }

    std::size_t rows() const { return m_time->size(); }
    /// Mean of the values `back` periods before the row; NaN when there is none.
    double before(std::size_t row, long long back) const {
        const Clock clock{&*m_time, m_period};
        if (!clock.has(row) || (m_by && m_by->isMissing(row))) return nan;
        const auto group = m_by ? m_groups.find(m_by->cellText(row)) : m_groups.begin();
        if (group == m_groups.end()) return nan;
        const auto found = group->second.find(clock.at(row) - back);
        return found == group->second.end() || found->second.second == 0
                   ? nan
                   : found->second.first / static_cast<double>(found->second.second);
    }

    /// Mean over the periods from `first` to `last` before the row that have a value, each counting once; NaN
    /// where none has.
    double meanBefore(std::size_t row, long long first, long long last) {
        const Clock clock{&*m_time, m_period};
        if (!clock.has(row) || (m_by && m_by->isMissing(row))) return nan;
        const std::string group = m_by ? m_by->cellText(row) : std::string();
        const auto known = m_by ? m_groups.find(group) : m_groups.begin();
        if (known == m_groups.end()) return nan;
        const Running& sums = running(known->first, known->second);
        const auto at = [&](long long period) {
            return static_cast<std::size_t>(
                std::lower_bound(sums.periods.begin(), sums.periods.end(), period) - sums.periods.begin());
        };
        const std::size_t from = at(clock.at(row) - last), to = at(clock.at(row) - first + 1);
        return from < to ? static_cast<double>((sums.upTo[to] - sums.upTo[from]) /
                                               static_cast<long double>(to - from))
                         : nan;
    }

private:
    /// Sums of the means of all periods before each, in order.
    struct Running {
        std::vector<long long> periods;
        std::vector<long double> upTo{0};
    };
    using Periods = std::unordered_map<long long, std::pair<double, std::size_t>>;
    const Running& running(const std::string& group, const Periods& periods) {
        const auto [at, added] = m_running.try_emplace(group);
        Running& sums = at->second;
        if (!added) return sums;
        for (const auto& [period, of] : periods)
            if (of.second > 0) sums.periods.push_back(period);
        std::sort(sums.periods.begin(), sums.periods.end());
        for (const long long period : sums.periods) {
            const auto& [sum, count] = periods.at(period);
            sums.upTo.push_back(sums.upTo.back() +
                                static_cast<long double>(sum) / static_cast<double>(count));
        }
        return sums;
    }

    /// Values of rows that were left out before this step are not history.
    static Column masked(const Column& value, const StepFrame& frame) {
        std::vector<double> values(value.numbers().begin(), value.numbers().end());
        for (std::size_t i = 0; i < values.size(); ++i)
            if (frame.isOut(i)) values[i] = nan;
        return Column::ofNumbers(value.name(), std::move(values));
    }

    void addRows(const Column& value, const Column& time, const Column* by) {
        const Clock clock{&time, m_period};
        for (std::size_t i = 0; i < value.size(); ++i) {
            if (!clock.has(i) || value.isMissing(i) || (by && by->isMissing(i))) continue;
            auto& [sum, count] = m_groups[by ? by->cellText(i) : std::string()][clock.at(i)];
            sum += value.numbers()[i];
            m_doubled += count > 0;
            ++count;
        }
    }

    std::map<std::string, Periods> m_groups;
    std::map<std::string, Running> m_running;
    std::optional<Column> m_value, m_time, m_by;
    Period m_period = Period::day;
    std::size_t m_doubled = 0;
};

std::vector<StepField> lookingBack() {
    StepField group = columnField({ColumnKind::factor, ColumnKind::text}, "group", "Within each");
    group.fallback = std::string();
    return {columnField({ColumnKind::number}),
            columnField({ColumnKind::date, ColumnKind::number}, "time", "Along"), group,
            choiceField("unit", "Period", {"month", "day", "week", "quarter", "hour"})};
}

std::string within(const Step& step) {
    return step.text("group").empty() ? "" : " of the same " + step.text("group");
}

} // namespace

StepKind partsOfDate() {
    StepKind kind{.name = "parts of date", .title = "Take parts of a date", .group = "dates and series"};
    kind.fields = {columnField({ColumnKind::date, ColumnKind::number}),
                   flagField("month", "Month, 1 to 12", true),
                   flagField("quarter", "Quarter, 1 to 4", false),
                   flagField("year", "Year", false),
                   flagField("weekday", "Day of the week", false),
                   flagField("hour", "Hour, 0 to 23, of a date and time", false),
                   flagField("running", "Running number of the month", false)};
    kind.learns = true;
    kind.sentence = [](const Step& step) {
        std::vector<std::string> parts;
        for (const auto* part : {"month", "quarter", "year", "weekday", "hour", "running"})
            if (step.flag(part)) parts.emplace_back(std::string(part) == "running" ? "running month" : part);
        return "Take " + nameList(parts) + " of " + step.text("column");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const Column given = frame.at(step.text("column"));
        const Column dates = given.moments() ? daysOf(given) : frame.date(step.text("column"));
        const std::size_t before = frame.columns().size();
        if (step.flag("hour")) {
            if (!given.moments())
                throw Error(ErrorCode::wrongType, "has no time of day", {.column = given.name()},
                            "Leave the hour out.");
            std::vector<double> hours(given.size(), nan);
            for (std::size_t i = 0; i < hours.size(); ++i)
                if (const double t = given.numbers()[i]; !std::isnan(t))
                    hours[i] = std::floor(24 * (t - std::floor(t)) + 1e-6);
            frame.add(Column::ofNumbers(given.name() + " hour", std::move(hours)));
        }
        if (step.flag("month"))
            frame.add(fromDates(dates, " month",
                                [](std::int32_t d) { return static_cast<unsigned>(dateOf(d).month()); }));
        if (step.flag("quarter"))
            frame.add(fromDates(dates, " quarter", [](std::int32_t d) {
                return (static_cast<unsigned>(dateOf(d).month()) + 2) / 3;
            }));
        if (step.flag("year"))
            frame.add(
                fromDates(dates, " year", [](std::int32_t d) { return static_cast<int>(dateOf(d).year()); }));
        if (step.flag("weekday")) frame.add(weekdayColumn(dates));
        if (step.flag("running")) {
            const double first = frame.values().number(dates.name(), "first month", [&]() -> double {
                std::int32_t earliest = std::numeric_limits<std::int32_t>::max();
                for (const auto row : frame.learningRows())
                    if (!dates.isMissing(row)) earliest = std::min(earliest, dates.days()[row]);
                if (earliest == std::numeric_limits<std::int32_t>::max())
                    throw Error(ErrorCode::badStep, "all dates in learning rows are missing",
                                {.column = dates.name()});
                return monthsOf(earliest);
            });
            frame.add(
                fromDates(dates, " running month", [&](std::int32_t d) { return monthsOf(d) - first + 1; }));
        }
        if (frame.columns().size() == before)
            throw Error(ErrorCode::badStep, "no part is chosen", {.column = dates.name()},
                        "Choose at least one.");
    };
    return kind;
}

StepKind lagColumn() {
    StepKind kind{.name = "lag", .title = "Take an earlier value", .group = "dates and series"};
    kind.fields = lookingBack();
    kind.fields.push_back(wholeField("back", "Periods back", 1, 1, 10000));
    kind.fields.push_back(
        textField("name", "Name (empty: the old one and \"before\")", StepValue(std::string())));
    kind.learns = true;
    kind.sentence = [](const Step& step) {
        const double back = step.number("back");
        return "Take " + step.text("column") + " " + exactText(back) + " " + step.text("unit") +
               (back == 1 ? "" : "s") + " before" + within(step) + ", along " + step.text("time");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const History history(step, frame);
        const auto back = static_cast<long long>(step.number("back"));
        std::vector<double> values(history.rows());
        for (std::size_t i = 0; i < values.size(); ++i)
            values[i] = history.before(i, back);
        frame.add(Column::ofNumbers(
            newName(step, step.text("column"), " " + exactText(step.number("back")) + " before"),
            std::move(values)));
    };
    return kind;
}

StepKind rollingMean() {
    StepKind kind{.name = "rolling mean", .title = "Take a rolling mean", .group = "dates and series"};
    kind.fields = lookingBack();
    kind.fields.push_back(wholeField("periods", "Over how many periods", 3, 1, 1000));
    kind.fields.push_back(flagField("current", "The row's own period counts too", false));
    kind.fields.push_back(
        textField("name", "Name (empty: the old one and \"rolling mean\")", StepValue(std::string())));
    kind.learns = true;
    kind.sentence = [](const Step& step) {
        return "Take the mean of " + step.text("column") + " over " + exactText(step.number("periods")) +
               " " + step.text("unit") + "s " + (step.flag("current") ? "up to the row's own" : "before") +
               within(step) + ", along " + step.text("time");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        History history(step, frame);
        const long long first = step.flag("current") ? 0 : 1;
        const auto periods = static_cast<long long>(step.number("periods"));
        std::vector<double> values(history.rows(), nan);
        for (std::size_t i = 0; i < values.size(); ++i)
            values[i] = history.meanBefore(i, first, first + periods - 1);
        if (first == 0)
            frame.note(
                "with its own period a rolling mean of the response holds the answer it should predict");
        frame.add(Column::ofNumbers(newName(step, step.text("column"), " rolling mean"), std::move(values)));
    };
    return kind;
}

} // namespace oxgoad
