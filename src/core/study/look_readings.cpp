#include "study/look_readings.h"

#include "look/points.h"

#include <cmath>
#include <set>

namespace oxgoad {

namespace {

/// Every so many-th point, so that at most `most` are left.
LookPoints thinned(const LookPoints& points, std::size_t most) {
    LookPoints few;
    const std::size_t stride = (points.x.size() + most - 1) / most;
    for (std::size_t i = 0; i < points.x.size(); i += stride) {
        few.x.push_back(points.x[i]);
        few.y.push_back(points.y[i]);
        few.rows.push_back(points.rows[i]);
    }
    return few;
}

void readGroups(AgainstReading& reading, const Column& group, const AgainstQuestion& question,
                Threads threads) {
    const LookPoints& points = reading.points;
    const auto codes = codesAt(group, points);
    reading.lines = groupLines(points.x, points.y, codes, group.levels().size());
    if (!question.groupCurves) return;
    for (const GroupLine& line : reading.lines.lines) {
        std::vector<double> x, y;
        for (std::size_t i = 0; i < codes.size(); ++i)
            if (codes[i] == line.level) {
                x.push_back(points.x[i]);
                y.push_back(points.y[i]);
            }
        reading.curves.push_back(fitCurve(x, y, threads));
    }
}

} // namespace

AgainstReading readAgainst(const Table& table, const Column& x, const LookScope& scope,
                           const std::vector<std::string>& columns, const AgainstQuestion& question,
                           Threads threads, Progress& progress) {
    constexpr std::size_t mostTried = 200000;
    AgainstReading reading;
    reading.points = pointsOf(x, scope, question.scales);
    reading.unseen = {std::nan(""), std::nan(""), false};
    const LookPoints& points = reading.points;
    if (question.bands > 0) reading.bands = meansByBand(points.x, points.y, question.bands);
    const Column* group = question.group.empty() ? nullptr : &table.at(question.group, {});
    if (group && group != &x && group->kind() == ColumnKind::factor) {
        readGroups(reading, *group, question, threads);
        return reading;
    }
    reading.lines = groupLines(points.x, points.y, {}, 0);
    if (reading.lines.lines.empty()) return reading;
    progress.checkpoint(0.2, "Drawing a curve");
    reading.unseen = crossValidateCurve(points.x, points.y);
    progress.checkpoint(0.4, "Drawing a curve");
    reading.curves.push_back(fitCurve(points.x, points.y, threads, reading.unseen.straight));
    const bool many = points.x.size() > mostTried;
    const LookPoints few = many ? thinned(points, mostTried) : LookPoints{};
    const LookPoints& tried = many ? few : points;
    reading.bend = bendOf(tried.x, tried.y);
    const double gain = reading.unseen.curve - std::max(0.0, reading.unseen.line);
    reading.bends =
        reading.curves.front() && (gain > 0.01 || (gain > 0 && reading.bend && reading.bend->p < 0.01));
    const auto spread = spreadAlong(tried.x, tried.y, reading.lines.lines.front());
    if (spread && spread->p < 0.001 && spread->ratio > 1.5) reading.spread = spread;
    progress.checkpoint(0.7, "Comparing slopes");
    if (question.mostGroups > 0)
        reading.slopesBy =
            slopesByFactor(table, tried, x.name(), columns, question.mostGroups, threads, progress);
    return reading;
}

namespace {

const Column* datesOf(const Recipe& recipe, const Table& table) {
    const Column* found = nullptr;
    for (const Column& column : table.columns())
        if (column.kind() == ColumnKind::date) {
            if (roleOf(recipe, column.name()) == Role::time) return &column;
            if (!found) found = &column;
        }
    return found;
}

const Column* monthFactorOf(const Recipe& recipe, const Table& table, const Column& dates) {
    for (const Column& column : table.columns()) {
        if (column.kind() != ColumnKind::factor || column.levels().size() > 12 ||
            column.levels().size() < 4 || !isOffered(recipe, column.name()))
            continue;
        std::vector<std::int64_t> month(column.levels().size(), -1);
        std::set<std::int64_t> months;
        bool fits = true;
        for (std::size_t i = 0; i < column.size() && fits; ++i) {
            const auto code = column.codes()[i];
            if (code < 0 || dates.isMissing(i)) continue;
            const std::int64_t m = ((periodOf(dates.days()[i], Period::month) % 12) + 12) % 12;
            auto& known = month[static_cast<std::size_t>(code)];
            if (known < 0) known = m;
            fits = known == m;
            months.insert(m);
        }
        if (fits && months.size() == column.levels().size()) return &column;
    }
    return nullptr;
}

} // namespace

std::optional<Course> readCourse(const Recipe& recipe, const Table& table, const LookScope& scope,
                                 const std::string& group, Summing summing, bool byYears) {
    Course course;
    course.dates = datesOf(recipe, table);
    if (!course.dates) return std::nullopt;
    const NumberView days(*course.dates);
    std::vector<double> when(days.values().begin(), days.values().end());
    for (std::size_t i = 0; i < when.size(); ++i)
        if (scope.used[i] == 0) when[i] = std::nan("");
    course.period = fittingPeriod(when);
    if (byYears && course.period == Period::day) course.period = Period::month;
    course.whole = seriesOf(when, scope.target, course.period, summing);
    const auto& values = course.whole.value;
    course.season = seasonOf(course.whole);
    if (course.whole.gaps == 0)
        course.autocorrelation = autocorrelation(values, std::min<std::size_t>(24, values.size() / 2));
    course.chance = 1.96 / std::sqrt(static_cast<double>(values.size()));
    course.monthFactor = monthFactorOf(recipe, table, *course.dates);
    if (group.empty()) return course;
    const Column& by = table.at(group, {});
    course.groups = seriesByGroup(when, scope.target, by.codes(), by.levels().size(), course.period, summing);
    double least = INFINITY, most = 0;
    for (const Series& series : course.groups)
        if (!series.value.empty()) {
            least = std::min(least, std::fabs(series.mean));
            most = std::max(most, std::fabs(series.mean));
        }
    if (most > 0 && least > 0) course.apart = most / least;
    return course;
}

} // namespace oxgoad
