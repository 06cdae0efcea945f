// A column along the plot, the target up it.
#include "app/look/look_parts.h"
#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <cmath>

namespace oxgoad {

namespace {

GridModel::Content slopesGrid(const std::vector<GroupLine>& lines, const std::vector<std::string>& levels,
                              const QString& x) {
    auto held = std::make_shared<const std::vector<GroupLine>>(lines);
    auto at = [held](int row) -> const GroupLine& { return (*held)[static_cast<std::size_t>(row)]; };
    double size = 0;
    for (const GroupLine& line : lines)
        size = std::max(size, std::fabs(line.slopeError));
    const int decimals = std::max(0, decimalsFor(size) - 2);
    GridModel::Content grid;
    grid.rows = static_cast<int>(lines.size());
    grid.columns = {
        textColumn(tr("group"),
                   [at, levels](int row) { return qs(levels[static_cast<std::size_t>(at(row).level)]); }),
        numberColumn(
            tr("rows"), [at](int row) { return static_cast<double>(at(row).rows); }, 0),
        numberColumn(
            tr("slope"), [at](int row) { return at(row).slope; }, decimals),
        numberColumn(
            tr("95 % from"), [at](int row) { return at(row).slopeLower; }, decimals),
        numberColumn(
            tr("to"), [at](int row) { return at(row).slopeUpper; }, decimals),
        numberColumn(
            tr("R²"), [at](int row) { return at(row).rSquared; }, 2),
        textColumn(tr("line"), [at, x](int row) {
            const GroupLine& line = at(row);
            return QString("%1 %2 %3 · %4")
                .arg(qs(readableText(line.intercept)), line.slope < 0 ? "−" : "+",
                     qs(readableText(std::fabs(line.slope))), x);
        })};
    return grid;
}

/// Means of bands as squares on upright lines from end to end of their intervals.
void addBands(Looking& look, const std::vector<BandMean>& bands, PlotFrame::Content& content) {
    const LookScales scales = look.request.scales;
    const auto across = [&](double v) { return scales.logX ? std::exp(v) : v; };
    const auto up = [&](double v) { return scales.logY ? std::exp(v) : v; };
    PlotFrame::Line means{
        tr("means of bands with as many rows each, 95 %"), {}, {}, theme::goad, Qt::SolidLine, {}, 2};
    for (const BandMean& band : bands) {
        const double x = across(band.centre);
        means.x.push_back(x);
        means.y.push_back(up(band.mean));
        if (!std::isfinite(band.lower)) continue;
        content.lines.push_back(
            {{}, {x, x}, {up(band.lower), up(band.upper)}, theme::goad, Qt::SolidLine, {}, 1.6});
    }
    content.lines.push_back(std::move(means));
}

/// "slope 41.2 ± 0.8 EUR for each unit of list_rate", or what it means on logarithmic scales.
QString slopeSaid(const Looking& look, const Column& column, const GroupLine& line) {
    const LookScales scales = look.request.scales;
    const QString name = qs(column.name());
    const QString value =
        supportedText(line.slope, line.slopeError) + " ± " + qs(readableText(line.slopeError, 2));
    if (scales.logX && scales.logY) return tr("1 % more %1 goes with %2 % more").arg(name, value);
    if (scales.logX)
        return tr("1 % more %1 goes with a hundredth of %2%3").arg(name, value, look.unitOfTarget());
    const double growthError = 100 * std::exp(line.slope) * line.slopeError; // delta method
    if (scales.logY)
        return tr("each unit of %1 goes with %2 % more")
            .arg(name, supportedText(100 * std::expm1(line.slope), growthError) + " ± " +
                           qs(readableText(growthError, 2)));
    if (column.kind() == ColumnKind::date) return tr("slope %1%2 a day").arg(value, look.unitOfTarget());
    return tr("slope %1%2")
        .arg(value, look.unitOfTarget().isEmpty()
                        ? QString()
                        : look.unitOfTarget() + tr(" for each unit of %1").arg(name));
}

void sayGroups(Looking& look, const Column& column, const Column& group, const GroupLines& lines) {
    const QString name = qs(column.name());
    look.picture.slopes =
        slopesGrid(lines.lines, group.levels(), look.request.scales.logX ? "ln " + name : name);
    if (lines.equalSlopes)
        look.picture.sentences
            << tr("%1 by %2: F = %3 on %4 and %5 degrees of freedom, p %6 (test of equal slopes, Snedecor "
                  "and "
                  "Cochran 1989).")
                   .arg(lines.equalSlopes->p < 0.05 ? tr("Slopes differ") : tr("Slopes may be the same"),
                        qs(group.name()), qs(readableText(lines.equalSlopes->f, 3)),
                        qs(countText(static_cast<std::size_t>(lines.equalSlopes->numeratorDf))),
                        qs(countText(static_cast<std::size_t>(lines.equalSlopes->denominatorDf))),
                        probabilitySaid(lines.equalSlopes->p));
    if (!lines.without.empty())
        look.picture.sentences << tr("No line for %1 with fewer than three rows or one value of %2.")
                                      .arg(qs(plural(lines.without.size(), "group", "groups")), name);
    const TermPart part =
        look.request.scales.logX ? TermPart{column.name(), 1, true} : TermPart{column.name()};
    look.offer(tr("add %1 × %2 to the terms").arg(qs(partName(part)), qs(group.name())),
               {Term{{part}}, plainTerm(group.name()), Term{{part, TermPart{group.name()}}}});
}

void sayWhole(Looking& look, const Column& column, const AgainstReading& reading) {
    const LookRequest& request = look.request;
    const QString name = qs(column.name());
    const GroupLine& line = reading.lines.lines.front();
    look.picture.sentences << tr("%1 %2 with %3: %4, R² %5, %6.")
                                  .arg(qs(look.upName()), line.slope < 0 ? tr("falls") : tr("rises"), name,
                                       slopeSaid(look, column, line), qs(readableText(line.rSquared, 2)),
                                       qs(plural(line.rows, "learning row", "learning rows")));
    if (column.kind() == ColumnKind::number)
        look.picture.sentences << tr("Line: %1%2 = %3 %4 %5 · %6%7.")
                                      .arg(request.scales.logY ? tr("ln ") : QString(), qs(look.upName()),
                                           qs(readableText(line.intercept)), line.slope < 0 ? "−" : "+",
                                           qs(readableText(std::fabs(line.slope))),
                                           request.scales.logX ? tr("ln ") : QString(), name);
    if (!std::isnan(reading.unseen.curve)) {
        const auto explained = [](double share) {
            return share < 0 ? tr("less than the mean does")
                             : qs(percentText(std::round(1000 * share) / 1000));
        };
        look.picture.sentences << tr("Of rows not used to draw them the line explains %1, the curve %2%3.")
                                      .arg(explained(reading.unseen.line), explained(reading.unseen.curve),
                                           reading.bends ? tr(": it bends") : QString());
    }
    for (std::size_t k = 0; k < std::min<std::size_t>(2, reading.slopesBy.size()); ++k)
        if (reading.slopesBy[k].pAdjusted < 0.05)
            look.picture.groups.emplace_back(
                qs(reading.slopesBy[k].factor),
                tr("see slopes differ by %1").arg(qs(reading.slopesBy[k].factor)));
    if (request.scales.logX) {
        const TermPart part{column.name(), 1, true};
        look.offer(tr("add %1 to the terms").arg(qs(partName(part))), {Term{{part}}});
    } else if (reading.bend && reading.bends) {
        const TermPart part =
            reading.bend->logarithm ? TermPart{column.name(), 1, true} : TermPart{column.name(), 2};
        std::vector<Term> terms;
        if (!reading.bend->logarithm) terms.push_back(plainTerm(column.name()));
        terms.push_back(Term{{part}});
        look.offer(tr("add the bend as %1").arg(qs(partName(part))), terms);
    }
    if (!request.scales.logX) look.offer(tr("add %1 to the terms").arg(name), {plainTerm(column.name())});
    if (reading.spread) {
        const QString says = tr("The spread %1 with %2 (p %3, Glejser 1969)")
                                 .arg(reading.spread->grows ? tr("grows") : tr("shrinks"), name,
                                      probabilitySaid(reading.spread->p));
        look.picture.sentences << says + ".";
        look.offerNote(column.name(), says);
    }
}

/// Marks, lines and bands of what is in the scope; the reading it was drawn from.
AgainstReading drawNumber(const Looking& look, const Column& column, const NumberView& view,
                          PlotFrame::Content& content, bool whole, Progress& progress) {
    const LookRequest& request = look.request;
    const Column* group = look.factor(request.group, &column);
    content.xIsDate = column.kind() == ColumnKind::date;
    content.xLog = request.scales.logX;
    content.yLog = request.scales.logY;
    AgainstQuestion question;
    question.group = group ? group->name() : std::string();
    question.scales = request.scales;
    question.groupCurves = request.shape == LookRequest::Shape::curves;
    question.bands = request.shape == LookRequest::Shape::means ? 12 : 0;
    if (!whole || !request.up.empty()) question.mostGroups = 0;
    AgainstReading reading;
    const auto columns = lookColumns(request.recipe, look.table());
    parallelFor(2, {2}, [&](std::size_t task) { // marks and readings do not need each other
        if (task == 0)
            reading = readAgainst(look.table(), column, look.scope, columns, question, {}, progress);
        else
            content.marks = marksOf(look, view.values(), false, group);
    });
    if (question.bands > 0) {
        // The means stand in place of the lines, which are still read.
    } else if (group) {
        for (std::size_t k = 0; k < reading.lines.lines.size() && k < mostGroups; ++k) {
            const int level = reading.lines.lines[k].level;
            const QString label = qs(group->levels()[static_cast<std::size_t>(level)]);
            if (question.groupCurves && reading.curves[k])
                addCurve(content, *reading.curves[k], request.scales, label, theme::groupColour(level),
                         groupStyle(level));
            else
                addLine(content, reading.lines.lines[k], request.scales, label, level);
        }
    } else if (!reading.lines.lines.empty()) {
        addLine(content, reading.lines.lines.front(), request.scales, {}, 0);
        content.lines.back().style = Qt::DashLine;
        content.lines.back().width = 1.4;
        if (reading.curves.front()) {
            content.lines.back().name = tr("straight line");
            addCurve(content, *reading.curves.front(), request.scales, {}, theme::goad, Qt::SolidLine);
            content.lines.back().name = tr("curve");
        }
    }
    return reading;
}

/// A plot for each level of a factor, all on the same scales.
void drawPanels(Looking& look, const Column& column, const NumberView& view, const Column& by,
                Progress& progress) {
    for (std::size_t level = 0; level < by.levels().size(); ++level) {
        Looking part{look.request, look.scope, look.shown, {}};
        bool any = false;
        for (std::size_t i = 0; i < part.shown.size(); ++i) {
            const bool here = by.codes()[i] == static_cast<std::int32_t>(level);
            if (!here) part.scope.used[i] = part.shown[i] = 0;
            any = any || part.shown[i] != 0;
        }
        if (!any) continue;
        LookPicture::Panel panel{qs(by.name() + " " + by.levels()[level]), {}};
        panel.content.xTitle = look.picture.content.xTitle;
        panel.content.yTitle = look.picture.content.yTitle;
        panel.content.zeroLine = look.picture.content.zeroLine;
        panel.content.legend = false;
        panel.content.yTitle.clear();
        const AgainstReading reading = drawNumber(part, column, view, panel.content, false, progress);
        panel.content.summary = tr("%1: %2").arg(
            panel.title, reading.lines.lines.empty()
                             ? tr("no line can be drawn.")
                             : tr("slope %1, R² %2.")
                                   .arg(qs(readableText(reading.lines.lines.front().slope)),
                                        qs(readableText(reading.lines.lines.front().rSquared, 2))));
        look.picture.panels.push_back(std::move(panel));
    }
    auto& panels = look.picture.panels;
    shareRanges(panels, look.request.scales, true, true);
    const std::size_t count = panels.size();
    const std::size_t across = count <= 4 ? 2 : count <= 9 ? 3 : 4;
    look.picture.panelsAcross = static_cast<int>(across);
    // The scale along stands below the lowest of each row of plots, that up at the first.
    for (std::size_t k = 0; k < count; ++k) {
        if (k + across < count) panels[k].content.xTitle.clear();
        panels[k].content.yTitle =
            k % across == 0 ? look.picture.content.yTitle.section(',', 0, 0) : QString();
        for (auto& line : panels[k].content.lines)
            line.label.clear();
    }
    if (const Column* group = look.factor(look.request.group, &column))
        for (std::size_t level = 0; level < group->levels().size(); ++level)
            look.picture.key.emplace_back(qs(group->levels()[level]),
                                          theme::groupColour(static_cast<int>(level)));
}

void drawFactor(Looking& look, const Column& column) {
    PlotFrame::Content& content = look.picture.content;
    const auto codes = column.codes();
    std::vector<double> y(codes.size(), std::nan(""));
    for (std::size_t i = 0; i < codes.size(); ++i)
        if (look.scope.used[i] != 0) y[i] = look.scope.target[i];
    auto boxes = boxesByLevel(y, codes, column.levels().size());
    const std::size_t all = boxes.size();
    if (all > mostLevels) { // those with most rows, still in the order of medians
        std::vector<std::size_t> rows;
        for (const auto& box : boxes)
            rows.push_back(box.rows);
        std::nth_element(rows.begin(), rows.begin() + mostLevels, rows.end(), std::greater<>());
        const std::size_t least = rows[mostLevels];
        std::erase_if(boxes, [&](const BoxStatistics& box) { return box.rows <= least; });
        look.picture.sentences << tr("Shown are the levels with more than %1 of %2 levels.")
                                      .arg(qs(plural(least, "row", "rows")), qs(countText(all)));
    }
    std::vector<int> placeOfCode(column.levels().size(), -1);
    for (std::size_t k = 0; k < boxes.size(); ++k) {
        const BoxStatistics& box = boxes[k];
        placeOfCode[static_cast<std::size_t>(box.level)] = static_cast<int>(k);
        content.xLevels << qs(column.levels()[static_cast<std::size_t>(box.level)]);
        content.boxes.push_back({static_cast<double>(k), box.lowerWhisker, box.lowerQuartile, box.median,
                                 box.upperQuartile, box.upperWhisker});
    }
    if (boxes.empty()) {
        content.summary =
            all > 0 ? tr("All %1 levels have one row or as few as each other: there is nothing to compare.")
                          .arg(all)
                    : tr("No learning row has both values.");
        return;
    }
    std::vector<double> x(codes.size(), std::nan(""));
    for (std::size_t i = 0; i < codes.size(); ++i)
        if (codes[i] >= 0 && placeOfCode[static_cast<std::size_t>(codes[i])] >= 0)
            x[i] = placeOfCode[static_cast<std::size_t>(codes[i])];
    content.yLog = look.request.scales.logY;
    content.marks = marksOf(look, x, true, look.factor(look.request.group, &column));
    look.picture.sentences << tr("Levels in the order of their medians: %1 lowest (%2), %3 highest (%4%5). "
                                 "Boxes hold the middle half of the learning rows, whiskers reach 1.5 boxes "
                                 "further at most.")
                                  .arg(content.xLevels.front(), qs(readableText(boxes.front().median)),
                                       content.xLevels.back(), qs(readableText(boxes.back().median)),
                                       look.unitOfTarget());
    look.offer(tr("add %1 to the terms").arg(qs(column.name())), {plainTerm(column.name())});
}

} // namespace

void drawAgainst(Looking& look, Progress& progress) {
    const Column& column = look.table().at(look.request.column, look.request.recipe.rows.file);
    PlotFrame::Content& content = look.picture.content;
    content.xTitle = look.titled(column.name());
    content.yTitle = look.targetTitle();
    content.zeroLine = look.request.against == Against::residual && look.request.up.empty();
    if (column.kind() == ColumnKind::factor) {
        drawFactor(look, column);
        return;
    }
    const NumberView view(column);
    const AgainstReading reading = drawNumber(look, column, view, content, true, progress);
    if (content.marks.empty()) {
        content.summary = tr("No row has both %1 and %2.").arg(qs(column.name()), qs(look.upName()));
        return;
    }
    if (reading.points.notPositive > 0)
        look.picture.sentences << tr("%1 with a value of 0 or less cannot be drawn on a logarithmic scale.")
                                      .arg(qs(plural(reading.points.notPositive, "row", "rows")));
    const Column* group = look.factor(look.request.group, &column);
    const Column* panels = look.factor(look.request.panels, &column);
    if (panels) drawPanels(look, column, view, *panels, progress);
    if (group) {
        sayGroups(look, column, *group, reading.lines);
    } else if (panels) {
        const auto codes = codesAt(*panels, reading.points);
        sayGroups(look, column, *panels,
                  groupLines(reading.points.x, reading.points.y, codes, panels->levels().size()));
    } else if (reading.lines.lines.empty()) {
        look.picture.sentences << (reading.points.x.size() < 3
                                       ? tr("%1 learning rows have both values: no line can be drawn.")
                                             .arg(reading.points.x.size())
                                       : tr("%1 is the same in all learning rows: no line can be drawn.")
                                             .arg(qs(column.name())));
    } else {
        sayWhole(look, column, reading);
    }
    if (!reading.bands.empty()) {
        addBands(look, reading.bands, content);
        look.picture.sentences
            << tr("Squares are means of %1.").arg(qs(plural(reading.bands.size(), "band", "bands")));
    }
}

} // namespace oxgoad
