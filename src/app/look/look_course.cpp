// The target along time: its course, its season, and how it resembles itself later.
#include "app/look/look_parts.h"
#include "base/text.h"
#include "workspace/text.h"

#include <cmath>
#include <map>

namespace oxgoad {

namespace {

QString seasonName(const Season& season, int index) {
    return season.length == 12 ? qs(periodText(index, Period::month)).left(3) : QString("Q%1").arg(index + 1);
}

void drawSeason(PlotFrame::Content& content, const Course& course) {
    const Season& season = *course.season;
    content.xTitle = season.length == 12 ? tr("month of the year") : tr("quarter of the year");
    for (int k = 0; k < season.length; ++k)
        content.xLevels << seasonName(season, k);
    std::map<std::int64_t, PlotFrame::Line> years;
    for (std::size_t i = 0; i < course.whole.time.size(); ++i) {
        const std::int64_t time = course.whole.time[i];
        const std::int64_t month = ((time % season.length) + season.length) % season.length;
        auto& line = years[(time - month) / season.length];
        line.x.push_back(static_cast<double>(month));
        line.y.push_back(course.whole.value[i]);
    }
    int index = 0;
    for (auto& [year, line] : years) {
        line.label = QString::number(1970 + year);
        line.colour = theme::groupColour(index);
        line.style = groupStyle(index++);
        content.lines.push_back(line);
    }
}

PlotFrame::Line lineOf(const Series& series, int index, const QString& label) {
    PlotFrame::Line line{{}, {}, series.value, theme::groupColour(index), groupStyle(index), label, 1.8};
    for (const auto time : series.time)
        line.x.push_back(firstDayOf(time, series.period));
    return line;
}

void drawItself(PlotFrame::Content& content, const Course& course) {
    content.xTitle = course.period == Period::day       ? tr("days later")
                     : course.period == Period::month   ? tr("months later")
                     : course.period == Period::quarter ? tr("quarters later")
                                                        : tr("years later");
    content.yTitle = tr("correlation with itself");
    content.zeroLine = true;
    const auto lags = static_cast<double>(course.autocorrelation.size());
    content.bars.push_back({tr("correlation"), 0.5, 1, course.autocorrelation, false, theme::learning});
    for (const double limit : {course.chance, -course.chance})
        content.lines.push_back({limit > 0 ? tr("beyond: more than chance (±1.96/√n)") : QString(),
                                 {0.5, lags + 0.5},
                                 {limit, limit},
                                 theme::goad,
                                 Qt::DashLine,
                                 {},
                                 1.2});
}

void drawGroups(Looking& look, const Course& course, const Column& group) {
    PlotFrame::Content& content = look.picture.content;
    for (std::size_t g = 0; g < course.groups.size(); ++g) {
        if (course.groups[g].value.empty()) continue;
        const QString name = qs(group.levels()[g]);
        content.lines.push_back(lineOf(course.groups[g], static_cast<int>(g), name));
        if (look.request.over != LookRequest::Over::ownScales) continue;
        LookPicture::Panel panel{qs(group.name()) + " " + name, {}};
        panel.title += ": " + content.yTitle;
        panel.content.yTitle.clear();
        panel.content.xIsDate = true;
        panel.content.legend = false;
        panel.content.lines.push_back(lineOf(course.groups[g], static_cast<int>(g), {}));
        panel.content.summary = tr("%1: mean %2.").arg(panel.title, qs(readableText(course.groups[g].mean)));
        look.picture.panels.push_back(std::move(panel));
    }
    // The same time along all, each with a scale of its own up.
    shareRanges(look.picture.panels, {}, true, false);
    if (!look.picture.panels.empty()) look.picture.panels.back().content.xTitle = content.xTitle;
    look.picture.panelsAcross = look.picture.panels.size() <= 3 ? 1 : 2;
    if (course.apart > 3)
        look.picture.sentences << tr("The groups' means differ %1-fold%2.")
                                      .arg(qs(readableText(course.apart, 2)),
                                           look.request.over == LookRequest::Over::ownScales
                                               ? QString()
                                               : tr(": their courses are seen each on its own scale"));
}

} // namespace

void drawCourse(Looking& look, bool season) {
    const LookRequest& request = look.request;
    PlotFrame::Content& content = look.picture.content;
    const Column* group = look.factor(season ? std::string() : request.group);
    const auto course = readCourse(request.recipe, look.table(), look.scope, group ? group->name() : "",
                                   request.summing, season);
    if (!course) {
        content.summary = tr("There is no column of dates to lay along the plot.");
        return;
    }
    if (course->whole.value.size() < 2) {
        content.summary = tr("The learning rows lie in one period: there is no course to draw.");
        return;
    }
    content.yTitle =
        (request.summing == Summing::mean ? tr("mean of %1") : tr("total of %1")).arg(look.targetTitle());
    if (season && !course->season) {
        content.summary = tr("A season needs two years of months or quarters.");
        return;
    }
    if (season) {
        drawSeason(content, *course);
    } else if (request.over == LookRequest::Over::itself) {
        if (course->autocorrelation.empty()) {
            content.summary =
                tr("Periods without rows, or too few of them: nothing can be laid beside itself.");
            return;
        }
        drawItself(content, *course);
    } else {
        content.xTitle = qs(course->dates->name());
        content.xIsDate = true;
        if (group)
            drawGroups(look, *course, *group);
        else
            content.lines.push_back(lineOf(course->whole, 0, {}));
    }
    if (!season && !course->autocorrelation.empty()) {
        const auto& r = course->autocorrelation;
        look.picture.sentences
            << tr("One period later it resembles itself by r = %1%2 (beyond ±%3 is more than chance).")
                   .arg(qs(readableText(r[0], 2)),
                        r.size() >= 12 ? tr(", twelve later by %1").arg(qs(readableText(r[11], 2)))
                                       : QString(),
                        qs(readableText(course->chance, 2)));
    }
    if (!season && course->whole.gaps > 0)
        look.picture.sentences << tr("%1 between the first and the last have no rows.")
                                      .arg(qs(plural(course->whole.gaps, "period", "periods")));
    if (!course->season) return;
    const Season& found = *course->season;
    look.picture.sentences << tr("The season says %1 of what the years leave over (F = %2, p %3): "
                                 "highest in %4, lowest in %5, %6%7 apart.")
                                  .arg(qs(percentText(std::round(100 * found.share) / 100)),
                                       qs(readableText(found.f, 3)), probabilitySaid(found.p),
                                       seasonName(found, found.highest), seasonName(found, found.lowest),
                                       qs(readableText(found.swing)), look.unitOfTarget());
    if (course->monthFactor)
        look.offer(tr("add %1 to the terms").arg(qs(course->monthFactor->name())),
                   {plainTerm(course->monthFactor->name())});
    if (found.p < 0.01)
        look.offerNote(course->dates->name(),
                       tr("A season: highest in %1, lowest in %2, F = %3")
                           .arg(seasonName(found, found.highest), seasonName(found, found.lowest),
                                qs(readableText(found.f, 3))));
}

} // namespace oxgoad
