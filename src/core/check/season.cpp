#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"
#include "recipe/recipe_edits.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

namespace {

using std::chrono::days;
using std::chrono::sys_days;
using std::chrono::year_month_day;

constexpr std::array monthNames{"January", "February", "March",     "April",   "May",      "June",
                                "July",    "August",   "September", "October", "November", "December"};
constexpr std::array dayNames{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"};

/// A turn of the calendar: which part of it each point of time is.
struct Calendar {
    std::string name;
    /// Points of time in one turn, as the data have them.
    std::size_t length = 0;
    int (*part)(double day);
    std::string (*partName)(int part);
};

year_month_day dateOf(double day) {
    return year_month_day(sys_days(days(static_cast<int>(std::floor(day)))));
}
int monthOf(double day) {
    return static_cast<int>(static_cast<unsigned>(dateOf(day).month())) - 1;
}

const std::array<Calendar, 4>& calendars() {
    static const std::array<Calendar, 4> all{
        Calendar{"month", 12, monthOf,
                 [](int part) { return std::string(monthNames[static_cast<std::size_t>(part)]); }},
        Calendar{"quarter", 4, [](double day) { return monthOf(day) / 3; },
                 [](int part) { return "quarter " + std::to_string(part + 1); }},
        Calendar{"weekday", 7,
                 [](double day) {
                     return static_cast<int>((static_cast<long long>(std::floor(day)) % 7 + 10) % 7);
                 },
                 [](int part) { return std::string(dayNames[static_cast<std::size_t>(part)]); }},
        Calendar{"hour", 24, [](double day) { return static_cast<int>(24 * (day - std::floor(day)) + 1e-9); },
                 [](int part) { return "hour " + std::to_string(part); }}};
    return all;
}

/// The calendars that the times of the rows go through at least twice, finely enough.
std::vector<const Calendar*> turnsOf(const CheckContext& context, const Column& time) {
    std::set<double> days;
    std::set<int> months, hours;
    std::set<long long> yearMonths;
    for (const auto row : context.errorRows) {
        if (time.isMissing(row)) continue;
        const double t = time.asNumber(row);
        days.insert(std::floor(t));
        months.insert(monthOf(t));
        hours.insert(calendars()[3].part(t));
        yearMonths.insert(static_cast<int>(dateOf(t).year()) * 12LL + monthOf(t));
    }
    std::vector<const Calendar*> found;
    if (days.size() < 3) return found;
    const double span = *days.rbegin() - *days.begin();
    std::vector<double> gaps;
    for (auto next = std::next(days.begin()), before = days.begin(); next != days.end(); ++next, ++before)
        gaps.push_back(*next - *before);
    std::nth_element(gaps.begin(), gaps.begin() + static_cast<std::ptrdiff_t>(gaps.size() / 2), gaps.end());
    const double gap = gaps[gaps.size() / 2];
    constexpr double twoYears = 700;
    if (span >= twoYears) {
        std::set<int> ofQuarter;
        for (const int month : months)
            ofQuarter.insert(month % 3);
        if (ofQuarter.size() == 1 && months.size() >= 3)
            found.push_back(&calendars()[1]);
        else if (months.size() >= 3 && gap <= 62)
            found.push_back(&calendars()[0]);
    }
    if (gap <= 2 && span >= 20) found.push_back(&calendars()[2]);
    if (time.moments() && hours.size() >= 3 && span >= 3) found.push_back(&calendars()[3]);
    return found;
}

struct Tried {
    const Calendar* calendar;
    double f = 0, numeratorDf = 0, denominatorDf = 0, p = 1, share = 0;
    std::string highest, lowest;
};

std::optional<Tried> tryCalendar(const CheckContext& context, const Column& time, const Calendar& calendar) {
    std::map<int, std::pair<double, double>> sums; // errors and rows of each part
    std::vector<int> part;
    for (std::size_t i = 0; i < context.errorRows.size(); ++i) {
        const auto row = context.errorRows[i];
        part.push_back(time.isMissing(row) ? -1 : calendar.part(time.asNumber(row)));
        if (part.back() < 0) continue;
        sums[part.back()].first += context.errors[i];
        sums[part.back()].second += 1;
    }
    std::erase_if(sums, [](const auto& each) { return each.second.second < 2; });
    if (sums.size() < 3) return std::nullopt;
    Tried out{&calendar};
    double high = -INFINITY, low = INFINITY;
    for (const auto& [which, sum] : sums) {
        const double mean = sum.first / sum.second;
        if (mean > high) high = mean, out.highest = calendar.partName(which);
        if (mean < low) low = mean, out.lowest = calendar.partName(which);
    }
    if (context.linear && context.kind.leastSquares) {
        ColumnsBeside beside(context);
        ScreenBlock block;
        for (auto at = std::next(sums.begin()); at != sums.end(); ++at) {
            Eigen::VectorXd column = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(part.size()));
            for (std::size_t i = 0; i < part.size(); ++i)
                column[static_cast<Eigen::Index>(i)] = part[i] == at->first;
            block.columns.push_back(beside.add(std::move(column)));
        }
        beside.ask(std::move(block));
        const Addition added = beside.answers().front();
        if (!isTested(added)) return std::nullopt;
        out.f = added.f, out.numeratorDf = added.numeratorDf, out.denominatorDf = added.denominatorDf;
        out.p = added.p, out.share = added.share;
        return out;
    }
    std::vector<std::int64_t> keys(part.begin(), part.end());
    const OneWay way = oneWay(context.errors, Grouping::by(keys, -1));
    if (!(way.denominatorDf > 0) || std::isnan(way.f)) return std::nullopt;
    out.f = way.f, out.numeratorDf = way.numeratorDf, out.denominatorDf = way.denominatorDf;
    out.p = way.p();
    out.share = way.f * way.numeratorDf / (way.f * way.numeratorDf + way.denominatorDf);
    return out;
}

Move yearBefore(const CheckContext& context, const Column& time, const Calendar& calendar,
                const Column* panel) {
    return {.label = "its value a year before",
            .edit = [date = time.name(), response = context.response(), unit = calendar.name,
                     back = static_cast<double>(calendar.length),
                     group = panel ? panel->name() : std::string()](Recipe& recipe, const std::string&) {
                const std::string name = response + " a year before";
                recipe.steps.push_back({"lag",
                                        true,
                                        {{"column", response},
                                         {"time", date},
                                         {"group", group},
                                         {"unit", unit},
                                         {"back", back},
                                         {"name", name}}});
                recipe = withTerm(recipe, plainTerm(name));
            }};
}

/// What puts the calendar into the model.
void addMoves(const CheckContext& context, const Column& time, const Calendar& calendar, Goad& goad) {
    const std::string date = time.name();
    const bool weekday = calendar.name == "weekday";
    const std::string column = date + " " + calendar.name;
    goad.moves.push_back(
        {.label = calendar.name + " as levels",
         .edit = [date, column, part = calendar.name, weekday](Recipe& recipe, const std::string&) {
             Step step{"parts of date", true, {{"column", date}, {"month", false}}};
             step.fields[part] = true;
             recipe.steps.push_back(std::move(step));
             if (!weekday)
                 recipe.steps.push_back(
                     {"change type",
                      true,
                      {{"columns", std::vector<std::string>{column}}, {"to", std::string("factor")}}});
             recipe = withTerm(recipe, plainTerm(column));
         }});
    const bool ofYear = calendar.name == "month" || calendar.name == "quarter";
    if (ofYear && context.linear && time.kind() == ColumnKind::date)
        goad.moves.push_back(
            {.label = "a wave of the year", .edit = [date](Recipe& recipe, const std::string&) {
                 TermPart wave{date};
                 wave.form = Form::wave;
                 wave.count = 2;
                 recipe = withTerm(recipe, Term{{wave}});
             }});
    if (!ofYear || time.kind() != ColumnKind::date) return;
    std::string why;
    const Column* panel = panelOf(context, time, why);
    if (why.empty()) goad.moves.push_back(yearBefore(context, time, calendar, panel));
}

} // namespace

std::size_t seasonLength(const CheckContext& context) {
    const Column* time = timeOf(context);
    if (!time || (time->kind() != ColumnKind::date && !time->moments())) return 0;
    const auto turns = turnsOf(context, *time);
    return turns.empty() ? 0 : turns.front()->length;
}

std::vector<std::pair<std::string, std::vector<std::int32_t>>>
calendarParts(const CheckContext& context, std::span<const std::uint32_t> rows) {
    const Column* time = timeOf(context);
    if (!time || (time->kind() != ColumnKind::date && !time->moments())) return {};
    std::vector<std::pair<std::string, std::vector<std::int32_t>>> found;
    for (const Calendar* calendar : turnsOf(context, *time)) {
        std::vector<std::int32_t> parts;
        for (const auto row : rows)
            parts.push_back(time->isMissing(row) ? -1 : calendar->part(time->asNumber(row)));
        found.emplace_back(calendar->name + " of " + time->name(), std::move(parts));
    }
    return found;
}

void checkSeason(const CheckContext& context, Findings& findings) {
    const std::string name = "season";
    const std::string source = "F of the parts of the calendar; Hyndman and Athanasopoulos 2021, §2.4";
    const Column* time = timeOf(context);
    if (!time || (time->kind() != ColumnKind::date && !time->moments())) {
        findings.readings.push_back(noReading(name, "no column is a date"));
        return;
    }
    const auto turns = turnsOf(context, *time);
    if (turns.empty()) {
        findings.readings.push_back(
            noReading(name, "the times go through no year, week or day twice, finely enough"));
        return;
    }
    std::vector<Tried> tried;
    for (const Calendar* calendar : turns)
        if (auto found = tryCalendar(context, *time, *calendar)) tried.push_back(std::move(*found));
    if (tried.empty()) {
        findings.readings.push_back(noReading(name, "the model has the parts of the calendar already"));
        return;
    }
    const Tried& best = *std::min_element(tried.begin(), tried.end(),
                                          [](const Tried& a, const Tried& b) { return a.p < b.p; });
    const double p = std::min(1.0, best.p * static_cast<double>(tried.size()));
    const double limit = context.limitOf(name, pLimit);
    const std::string says =
        best.calendar->name + " of " + time->name() + ": " +
        fText(best.f, best.numeratorDf, best.denominatorDf) + ", highest in " + best.highest +
        ", lowest in " + best.lowest +
        (tried.size() > 1 ? "; p for " + plural(tried.size(), "calendar", "calendars") : "");
    findings.readings.push_back(madeReading(name, best.f, limit, p, says, source));
    if (!(p < limit)) return;
    Goad goad;
    goad.key = "season: " + best.calendar->name;
    goad.check = name;
    goad.title = "What is left over follows the " + best.calendar->name;
    goad.reading = says + ", p " + probabilityText(p);
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = time->name();
    goad.cost = 1 - std::sqrt(std::max(0.0, 1 - best.share));
    goad.costSays = "the share of the typical error that the parts of the calendar take away";
    goad.size = best.f;
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    addMoves(context, *time, *best.calendar, goad);
    findings.goads.push_back(std::move(goad));
}

void checkYearBefore(const CheckContext& context, Findings& findings) {
    const std::string name = "response a year before";
    const std::string source = "F of an added column; t of a correlation, Fisher 1915";
    const Column* time = timeOf(context);
    if (!time || time->kind() != ColumnKind::date) {
        findings.readings.push_back(noReading(name, "no column is a date"));
        return;
    }
    const Calendar* calendar = nullptr;
    for (const Calendar* turn : turnsOf(context, *time))
        if (turn->name == "month" || turn->name == "quarter") calendar = turn;
    std::string why;
    const Column* panel = calendar ? panelOf(context, *time, why) : nullptr;
    using Place = std::pair<std::int32_t, long long>;
    const auto placeOf = [&](std::uint32_t row, long long back) -> std::optional<Place> {
        if (time->isMissing(row) || (panel && panel->isMissing(row))) return std::nullopt;
        const double day = time->asNumber(row);
        const long long month = static_cast<int>(dateOf(day).year()) * 12LL + monthOf(day);
        const auto months = static_cast<long long>(12 / calendar->length);
        return Place{panel ? panel->codes()[row] : 0, month / months - back};
    };
    std::map<Place, double> values;
    if (calendar && why.empty())
        for (std::size_t i = 0; i < context.learningRows.size() && why.empty(); ++i)
            if (const auto place = placeOf(context.learningRows[i], 0))
                if (!values.emplace(*place, context.working[i]).second)
                    why = "a " + calendar->name + " has several rows";
    if (!calendar) why = "the times go through no year twice, finely enough";
    std::vector<double> before(context.errorRows.size(), std::nan(""));
    double sum = 0, there = 0;
    for (std::size_t i = 0; i < before.size() && why.empty(); ++i)
        if (const auto place = placeOf(context.errorRows[i], static_cast<long long>(calendar->length)))
            if (const auto found = values.find(*place); found != values.end())
                before[i] = found->second, sum += found->second, ++there;
    if (why.empty() && there < 10) why = "fewer than ten rows have one";
    if (!why.empty()) {
        findings.readings.push_back(noReading(name, why));
        return;
    }
    for (double& value : before)
        if (std::isnan(value)) value = sum / there;
    const Eigen::VectorXd column = standardised(
        Eigen::Map<const Eigen::VectorXd>(before.data(), static_cast<Eigen::Index>(before.size())));
    double f = 0, df = 0, p = 1, share = 0;
    if (context.linear && context.kind.leastSquares) {
        ColumnsBeside beside(context);
        ScreenBlock block;
        block.columns.push_back(beside.add(column));
        beside.ask(std::move(block));
        const Addition added = beside.answers().front();
        if (!isTested(added)) {
            findings.readings.push_back(noReading(name, "the model has it already"));
            return;
        }
        f = added.f, df = added.denominatorDf, p = added.p, share = added.share;
    } else {
        const Eigen::Map<const Eigen::VectorXd> errors(context.errors.data(), column.size());
        const Eigen::VectorXd z = standardised(errors);
        const double r = z.dot(column) / static_cast<double>(column.size());
        df = static_cast<double>(column.size()) - 2, share = r * r;
        f = df * share / std::max(1e-300, 1 - share);
        p = fisherUpper(f, 1, df);
    }
    const double limit = context.limitOf(name, pLimit);
    const std::string says = context.response() + " of the same " + calendar->name + " a year before" +
                             (panel ? " within " + panel->name() : std::string()) + ", known for " +
                             countText(static_cast<std::size_t>(there)) + " rows: " + fText(f, 1, df);
    findings.readings.push_back(madeReading(name, f, limit, p, says, source));
    if (!(p < limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "What is left over follows " + context.response() + " of a year before";
    goad.reading = says + ", p " + probabilityText(p);
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = time->name();
    goad.cost = 1 - std::sqrt(std::max(0.0, 1 - share));
    goad.costSays = "the share of the typical error that the value a year before takes away";
    goad.size = f;
    goad.follows = {"season: month", "season: quarter"};
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    goad.moves.push_back(yearBefore(context, *time, *calendar, panel));
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
