// Forecasts against what needs no model, and rows to be forecast against those learned from.
#include "base/text.h"
#include "check/check_tools.h"
#include "ledger/drift.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

namespace {

/// The same day of the year before; of a number that is a year, one less.
double yearBeforeOf(const Column& time, double at) {
    if (time.kind() != ColumnKind::date) return at - 1;
    using namespace std::chrono;
    const year_month_day date{sys_days(days(static_cast<int>(at)))};
    const year_month_day before{date.year() - years(1), date.month(), date.day()};
    const sys_days day =
        before.ok() ? sys_days(before)
                    : sys_days(year_month_day_last(date.year() - years(1), month_day_last(date.month())));
    return static_cast<double>(day.time_since_epoch().count());
}

/// Values by group and time.
using Known = std::map<std::pair<std::int32_t, double>, double>;

struct Plain {
    double squares = 0, modelSquares = 0;
    std::size_t rows = 0;
    void add(double e, double model) {
        squares += e * e;
        modelSquares += model * model;
        ++rows;
    }
    double ratio() const { return std::sqrt(modelSquares / squares); }
};

} // namespace

void checkPlainForecasts(const CheckContext& context, Findings& findings) {
    const std::string name = "plain forecasts";
    const std::string source = "last value and value of a year before; scaled by Hyndman and Koehler 2006, "
                               "International Journal of Forecasting 22";
    const auto none = [&](const std::string& why) { findings.readings.push_back(noReading(name, why)); };
    const auto& judge = context.recipe.judge;
    const bool rolling = judge && judge->kind == FoldKind::rollingOrigin && !context.unseen.heldOut;
    const bool latest = context.unseen.heldOut && context.recipe.setAside &&
                        context.recipe.setAside->kind == SetAsideKind::latest;
    if (!rolling && !latest) return none("rows are judged in no order of time");
    const std::string& column = rolling ? judge->column : context.recipe.setAside->column;
    const Column* time = context.table.find(column);
    if (!time || time->kind() == ColumnKind::factor || time->kind() == ColumnKind::text)
        return none("there is no column of time");
    std::string why;
    const Column* group = panelOf(context, *time, why);
    if (!why.empty()) return none(why);
    const auto groupOf = [&](std::size_t row) { return group ? group->codes()[row] : 0; };
    // When the origin of each judged time was: what came after it was not known.
    std::set<double> learned, judged;
    for (const auto row : context.learningRows)
        if (!time->isMissing(row)) learned.insert(time->asNumber(row));
    for (const auto row : context.unseen.rows)
        if (!time->isMissing(row)) judged.insert(time->asNumber(row));
    std::map<double, double> originOf;
    if (latest) {
        if (learned.empty()) return none("no learning row has a time");
        for (const double t : judged)
            originOf[t] = *learned.rbegin();
    } else {
        const std::vector<double> times(learned.begin(), learned.end());
        const std::vector<double> asked(judged.begin(), judged.end());
        const auto horizon = static_cast<std::size_t>(std::max(1, judge->horizon));
        for (std::size_t k = 0; k < asked.size(); ++k) {
            const double first = asked[k - k % horizon];
            const auto at =
                std::lower_bound(times.begin(), times.end(), first) - times.begin() - 1 - judge->gap;
            originOf[asked[k]] = at >= 0 ? times[static_cast<std::size_t>(at)] : -INFINITY;
        }
    }
    const auto response = context.table.at(context.response(), context.file).numbers();
    Known known;
    std::map<std::int32_t, std::vector<std::pair<double, double>>> series;
    const auto learn = [&](std::size_t row) {
        if (time->isMissing(row) || (group && group->isMissing(row)) || std::isnan(response[row])) return;
        known[{groupOf(row), time->asNumber(row)}] = response[row];
        series[groupOf(row)].emplace_back(time->asNumber(row), response[row]);
    };
    for (const auto row : context.learningRows)
        learn(row);
    double steps = 0, differences = 0;
    for (auto& [level, values] : series) {
        std::sort(values.begin(), values.end());
        for (std::size_t i = 1; i < values.size(); ++i) {
            differences += std::fabs(values[i].second - values[i - 1].second);
            ++steps;
        }
    }
    Plain last, year;
    double absolute = 0, count = 0;
    for (std::size_t i = 0; i < context.unseen.rows.size(); ++i) {
        const auto row = context.unseen.rows[i];
        if (time->isMissing(row) || (group && group->isMissing(row)) ||
            std::isnan(context.unseen.predicted[i]))
            continue;
        const double at = time->asNumber(row), origin = originOf[at], y = context.unseen.actual[i];
        const double e = y - context.unseen.predicted[i];
        absolute += std::fabs(e);
        ++count;
        const auto values = series.find(groupOf(row));
        if (values == series.end()) continue;
        const auto after = std::upper_bound(values->second.begin(), values->second.end(),
                                            std::pair<double, double>(origin, INFINITY));
        if (after != values->second.begin()) last.add(y - std::prev(after)->second, e);
        const double before = yearBeforeOf(*time, at);
        if (const auto found = known.find({groupOf(row), before}); found != known.end() && before <= origin)
            year.add(y - found->second, e);
    }
    constexpr std::size_t fewest = 8;
    if (last.rows < fewest && year.rows < fewest)
        return none("fewer than 8 judged rows have an earlier value");
    std::string says;
    double worst = 0;
    std::string by;
    const auto tell = [&](const Plain& plain, const std::string& what) {
        if (plain.rows < fewest || !(plain.squares > 0)) return;
        says += (says.empty() ? "" : "; ") + what + " is off by " +
                readableText(std::sqrt(plain.squares / static_cast<double>(plain.rows))) +
                " where the model is by " +
                readableText(std::sqrt(plain.modelSquares / static_cast<double>(plain.rows))) + " (" +
                plural(plain.rows, "row", "rows") + ")";
        if (plain.ratio() > worst) {
            worst = plain.ratio();
            by = what;
        }
    };
    tell(last, "the last value known");
    tell(year, "the value of a year before");
    if (by.empty()) return none("earlier values are what came");
    if (steps > 0 && differences > 0)
        says += "; scaled error " + readableText(absolute / count / (differences / steps), 3);
    const double limit = context.limitOf(name, 1);
    findings.readings.push_back(madeReading(name, worst, limit, {}, says, source));
    if (!(worst >= limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = Severity::alarm;
    goad.title = "The forecast is no better than " + by;
    goad.reading = says;
    goad.threshold = "an error below that of the value known before";
    goad.source = source;
    goad.station = "compare";
    goad.cost = 1 - 1 / worst;
    goad.costSays = "by this share " + by + " is nearer than the model";
    goad.size = worst;
    findings.goads.push_back(std::move(goad));
}

void checkRowsToCome(const CheckContext& context, Findings& findings) {
    const std::string name = "rows to forecast differ";
    const std::string source = "Kolmogorov and Smirnov; D above 0.25 is common practice, no source";
    // Days go on by themselves.
    std::vector<Column> before, coming;
    for (const Input& input : context.inputs.inputs()) {
        const Column* there = context.coming->find(input.name);
        if (!there || there->kind() == ColumnKind::date || input.years) continue;
        before.push_back(context.table.at(input.name, context.file));
        coming.push_back(*there);
    }
    if (before.empty()) {
        findings.readings.push_back(noReading(name, "the model reads no column but days"));
        return;
    }
    const Drift drift = compareReadings(Table(std::move(before)).picked(context.learningRows),
                                        Table(std::move(coming)), *context.progress);
    const double limit = context.limitOf(name, 0.25);
    double most = 0;
    std::string moved, unit, first;
    std::size_t columns = 0;
    for (const ColumnDrift& column : drift.columns) {
        if (std::isfinite(column.distance)) most = std::max(most, column.distance);
        // Ranges and new levels are said row by row, by reach; levels that are not asked for harm nothing.
        constexpr double muchMissing = 0.1;
        const bool tells = column.otherUnit || (column.distance > limit && column.p < 0.001) ||
                           column.missingMore > muchMissing;
        if (column.otherUnit && unit.empty()) unit = column.column;
        for (std::size_t k = 0; k < column.changes.size() && tells; ++k)
            moved += (moved.empty() ? "" : "; ") + (k == 0 ? column.column + ": " : "") + column.changes[k];
        columns += tells;
        if (tells && first.empty()) first = column.column;
    }
    findings.readings.push_back(
        madeReading(name, most, limit, {},
                    "largest distance of a number's distribution between rows learned from "
                    "and rows to forecast" +
                        (moved.empty() ? std::string() : ": " + moved),
                    source));
    if (columns == 0) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = unit.empty() ? Severity::caution : Severity::alarm;
    goad.title = unit.empty()
                     ? plural(columns, "column of the rows", "columns of the rows") + " to forecast " +
                           (columns == 1 ? "differs" : "differ") + " from those learned from"
                     : unit + " of the rows to forecast looks to be in another unit";
    goad.reading = moved;
    goad.threshold =
        "a distance of " + readableText(limit, 2) + " with p below 0.001, or more missing values";
    goad.source = source;
    goad.station = "forecast";
    goad.column = unit.empty() ? first : unit;
    goad.size = most;
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
