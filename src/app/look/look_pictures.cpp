#include "app/look/look_pictures.h"

#include "base/text.h"
#include "estimate/distributions.h"
#include "look/curve.h"
#include "look/distribution.h"
#include "look/levels.h"
#include "look/places.h"
#include "look/points.h"
#include "look/series.h"
#include "workspace/grid_text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QObject>
#include <array>
#include <cmath>
#include <set>

namespace oxgoad {

namespace {

constexpr std::size_t mostGroups = 12;
constexpr std::size_t mostLevels = 40;
constexpr std::array styles{Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine, Qt::DashDotDotLine};

QString tr(const char* text) {
    return QObject::tr(text);
}

/// A request with what every picture needs of it.
struct Looking {
    const LookRequest& request;
    LookScope scope;
    LookPicture picture;

    const Table& table() const { return request.prepared->table; }
    QString titled(const std::string& name) const {
        const auto unit = request.recipe.units.find(name);
        return unit == request.recipe.units.end() ? qs(name) : qs(name + ", " + unit->second);
    }
    QString unitOfTarget() const {
        const auto unit = request.recipe.units.find(upName());
        return unit == request.recipe.units.end() ? QString() : " " + qs(unit->second);
    }
    const std::string& upName() const { return request.up.empty() ? request.recipe.response : request.up; }
    QString targetTitle() const {
        const QString name = titled(upName());
        if (!request.up.empty() || request.against == Against::response) return name;
        return request.against == Against::predicted ? tr("predicted %1").arg(name)
                                                     : tr("residual of %1").arg(name);
    }
    bool inModel(const Term& term) const {
        const auto& terms = request.recipe.terms;
        return std::find(terms.begin(), terms.end(), term) != terms.end();
    }
    /// Offers to put terms into the model; those that are there already are not put in twice.
    void offer(const QString& label, const std::vector<Term>& terms) {
        if (!request.up.empty()) return;
        Recipe recipe = request.recipe;
        for (const Term& term : terms)
            recipe = withTerm(recipe, term);
        if (recipe.terms.size() > request.recipe.terms.size())
            picture.moves.push_back({label, std::move(recipe)});
    }
};

/// Learning and held-out rows, each with its own mark; only points that are finite.
std::vector<PlotFrame::Marks> marksOf(const Looking& look, std::span<const double> x, bool spread) {
    PlotFrame::Marks learning{tr("learning rows"), theme::Mark::learning, {}, {}, {}};
    PlotFrame::Marks heldOut{tr("held-out rows"), theme::Mark::heldOut, {}, {}, {}};
    const PreparedRows& rows = *look.request.prepared;
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (rows.leftOut[i] != 0 || rows.parts[i] == Part::test) continue;
        const double y = look.scope.target[i];
        if (!std::isfinite(x[i]) || !std::isfinite(y)) continue;
        PlotFrame::Marks& marks = rows.parts[i] == Part::heldOut ? heldOut : learning;
        // Rows of a level are spread a little so that they do not hide each other.
        const double aside = spread ? 0.5 * (static_cast<double>((i * 2654435761U) % 1000) / 1000 - 0.5) : 0;
        marks.x.push_back(x[i] + aside);
        marks.y.push_back(y);
        marks.rows.push_back(i);
    }
    std::vector<PlotFrame::Marks> all;
    if (!learning.x.empty()) all.push_back(std::move(learning));
    if (!heldOut.x.empty()) all.push_back(std::move(heldOut));
    return all;
}

/// Three digits, for the classes of a legend.
QString roundText(double value) {
    if (value == 0) return "0";
    const double unit = std::pow(10, std::floor(std::log10(std::fabs(value))) - 2);
    return qs(readableText(std::isnormal(unit) ? std::round(value / unit) * unit : value, 3));
}

void addLine(PlotFrame::Content& content, const GroupLine& line, const QString& label, int index) {
    const QColor colour = theme::groupColour(index);
    content.lines.push_back({{},
                             {line.low, line.high},
                             {line.at(line.low), line.at(line.high)},
                             colour,
                             styles[static_cast<std::size_t>(index) % styles.size()],
                             label,
                             2});
    PlotFrame::Band band{{}, {}, {}, colour};
    const double t = studentQuantile(0.95, static_cast<double>(line.rows) - 2);
    for (int k = 0; k <= 40; ++k) {
        const double x = line.low + (line.high - line.low) * k / 40;
        const double half = t * line.errorAt(x);
        band.x.push_back(x);
        band.low.push_back(line.at(x) - half);
        band.high.push_back(line.at(x) + half);
    }
    content.bands.push_back(std::move(band));
}

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

/// Whether residuals about a line grow with x: a line through their sizes (Glejser 1969, "A new test for
/// heteroskedasticity").
void saySpread(Looking& look, const GroupLine& line, std::span<const double> x, std::span<const double> y,
               const QString& name) {
    std::vector<double> sizes(x.size(), std::nan(""));
    for (std::size_t i = 0; i < x.size(); ++i)
        if (std::isfinite(x[i]) && std::isfinite(y[i])) sizes[i] = std::fabs(y[i] - line.at(x[i]));
    const GroupLines grown = groupLines(x, sizes, {}, 0);
    if (grown.lines.empty()) return;
    const GroupLine& g = grown.lines.front();
    const double p = studentTwoSided(g.slope / g.slopeError, static_cast<double>(g.rows) - 2);
    const double low = g.at(g.low), high = g.at(g.high);
    if (!(p < 0.001) || !(std::max(low, high) > 1.5 * std::max(std::min(low, high), 1e-300))) return;
    look.picture.sentences << tr("The spread %1 with %2 (p = %3, Glejser 1969): Check watches it in the fit.")
                                  .arg(g.slope > 0 ? tr("grows") : tr("shrinks"), name,
                                       qs(probabilityText(p)));
}

void drawNumber(Looking& look, const Column& column, const NumberView& view, Progress& progress) {
    const LookRequest& request = look.request;
    PlotFrame::Content& content = look.picture.content;
    const QString name = qs(column.name());
    content.xIsDate = column.kind() == ColumnKind::date;
    std::vector<double> x, y;
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < look.scope.used.size(); ++i)
        if (look.scope.used[i] != 0 && std::isfinite(view[i]) && std::isfinite(look.scope.target[i])) {
            x.push_back(view[i]);
            y.push_back(look.scope.target[i]);
            rows.push_back(static_cast<std::uint32_t>(i));
        }
    const Column* group = request.group.empty() ? nullptr : look.table().find(request.group);
    if (group == &column) group = nullptr;
    const GroupLines whole = groupLines(x, y, {}, 0);
    if (whole.lines.empty()) {
        look.picture.sentences
            << (x.size() < 3 ? tr("%1 learning rows have both values: no line can be drawn.").arg(x.size())
                             : tr("%1 is the same in all learning rows: no line can be drawn.").arg(name));
        return;
    }
    const QString perUnit = column.kind() == ColumnKind::date ? tr(" a day") : QString();
    if (group) {
        std::vector<std::int32_t> codes;
        for (const auto row : rows)
            codes.push_back(group->codes()[row]);
        const GroupLines lines = groupLines(x, y, codes, group->levels().size());
        int index = 0;
        for (const GroupLine& line : lines.lines) {
            if (index >= static_cast<int>(mostGroups)) break;
            addLine(content, line, qs(group->levels()[static_cast<std::size_t>(line.level)]), index++);
        }
        look.picture.slopes = slopesGrid(lines.lines, group->levels(), name);
        if (lines.equalSlopes)
            look.picture.sentences
                << tr("%1 by %2: F = %3 on %4 and %5 degrees of freedom, p %6 (test of equal slopes, "
                      "Snedecor and "
                      "Cochran 1989).")
                       .arg(lines.equalSlopes->p < 0.05 ? tr("Slopes differ") : tr("Slopes may be the same"),
                            qs(group->name()), qs(readableText(lines.equalSlopes->f, 3)),
                            qs(countText(static_cast<std::size_t>(lines.equalSlopes->numeratorDf))),
                            qs(countText(static_cast<std::size_t>(lines.equalSlopes->denominatorDf))),
                            qs(probabilityText(lines.equalSlopes->p))
                                .prepend(qs(probabilityText(lines.equalSlopes->p)).startsWith('<') ? ""
                                                                                                   : "= "));
        if (!lines.without.empty())
            look.picture.sentences << tr("No line for %1 with fewer than three rows or one value of %2.")
                                          .arg(qs(plural(lines.without.size(), "group", "groups")), name);
        look.offer(tr("add %1 × %2 to the terms").arg(name, qs(group->name())),
                   {plainTerm(column.name()), plainTerm(group->name()),
                    Term{{TermPart{column.name()}, TermPart{group->name()}}}});
        return;
    }
    const GroupLine& line = whole.lines.front();
    addLine(content, line, {}, 0);
    content.lines.back().style = Qt::DashLine;
    content.lines.back().width = 1.4;
    const auto curve = fitCurve(x, y, {});
    // A fifth of a million rows says as much about unseen rows as all of them, and at once.
    constexpr std::size_t mostJudged = 200000;
    std::vector<double> judgedX, judgedY;
    const std::size_t stride = x.size() / mostJudged + 1;
    for (std::size_t i = 0; stride > 1 && i < x.size(); i += stride) {
        judgedX.push_back(x[i]);
        judgedY.push_back(y[i]);
    }
    const CrossValidated unseen =
        stride > 1 ? crossValidateCurve(judgedX, judgedY) : crossValidateCurve(x, y);
    const auto bend = bendTerm(column, look.scope);
    // A hundredth of the variance is seen by eye; less than that needs a test.
    const double gain = unseen.curve - std::max(0.0, unseen.line);
    const bool bends = curve && (gain > 0.01 || (gain > 0 && bend && bend->p < 0.01));
    if (curve) {
        PlotFrame::Line drawn{tr("curve"), {}, {}, theme::goad, Qt::SolidLine, {}, 2.2};
        PlotFrame::Band band{{}, {}, {}, theme::goad};
        for (int k = 0; k <= 120; ++k) {
            const double at = curve->low + (curve->high - curve->low) * k / 120;
            drawn.x.push_back(at);
            drawn.y.push_back(curve->at(at));
            band.x.push_back(at);
            band.low.push_back(curve->at(at) - 1.96 * curve->errorAt(at));
            band.high.push_back(curve->at(at) + 1.96 * curve->errorAt(at));
        }
        content.lines.front().name = tr("straight line");
        content.lines.push_back(std::move(drawn));
        content.bands.push_back(std::move(band));
    }
    look.picture.sentences << tr("%1 %2 with %3: slope %4 ± %5%6%7, R² %8, %9.")
                                  .arg(qs(look.upName()), line.slope < 0 ? tr("falls") : tr("rises"), name,
                                       supportedText(line.slope, line.slopeError),
                                       qs(readableText(line.slopeError, 2)),
                                       look.unitOfTarget() +
                                           (perUnit.isEmpty() && !look.unitOfTarget().isEmpty()
                                                ? tr(" for each unit of %1").arg(name)
                                                : QString()),
                                       perUnit, qs(readableText(line.rSquared, 2)),
                                       qs(plural(line.rows, "learning row", "learning rows")));
    if (!std::isnan(unseen.curve))
        look.picture.sentences
            << tr("Of rows not used to draw them the line explains %1, the curve %2%3.")
                   .arg(qs(percentText(std::round(1000 * std::max(0.0, unseen.line)) / 1000)),
                        qs(percentText(std::round(1000 * std::max(0.0, unseen.curve)) / 1000)),
                        bends ? tr(": it bends") : QString());
    saySpread(look, line, x, y, name);
    const auto by = request.up.empty()
                        ? slopesByFactor(look.table(), look.scope, column.name(),
                                         lookColumns(request.recipe, look.table()), mostGroups, {}, progress)
                        : std::vector<SlopesBy>();
    for (std::size_t k = 0; k < std::min<std::size_t>(2, by.size()); ++k)
        if (by[k].pAdjusted < 0.05)
            look.picture.groups.emplace_back(qs(by[k].factor),
                                             tr("see slopes differ by %1").arg(qs(by[k].factor)));
    if (bend && bends && request.up.empty()) {
        const TermPart part = bend->logarithm ? TermPart{column.name(), 1, true} : TermPart{column.name(), 2};
        std::vector<Term> terms;
        if (!bend->logarithm) terms.push_back(plainTerm(column.name()));
        terms.push_back(Term{{part}});
        look.offer(tr("add the bend as %1").arg(qs(partName(part))), terms);
    }
    look.offer(tr("add %1 to the terms").arg(name), {plainTerm(column.name())});
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
    content.marks = marksOf(look, x, true);
    look.picture.sentences << tr("Levels in the order of their medians: %1 lowest (%2), %3 highest (%4%5). "
                                 "Boxes hold the middle half "
                                 "of the learning rows, whiskers reach 1.5 boxes further at most.")
                                  .arg(content.xLevels.front(), qs(readableText(boxes.front().median)),
                                       content.xLevels.back(), qs(readableText(boxes.back().median)),
                                       look.unitOfTarget());
    look.offer(tr("add %1 to the terms").arg(qs(column.name())), {plainTerm(column.name())});
}

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
    content.marks = marksOf(look, view.values(), false);
    if (content.marks.empty()) {
        content.summary = tr("No row has both %1 and %2.").arg(qs(column.name()), qs(look.upName()));
        return;
    }
    drawNumber(look, column, view, progress);
}

void drawDistribution(Looking& look, Progress& progress) {
    const Column& column = look.table().at(look.request.column, look.request.recipe.rows.file);
    PlotFrame::Content& content = look.picture.content;
    content.xTitle = look.titled(column.name());
    content.yTitle = tr("learning rows");
    content.xIsDate = column.kind() == ColumnKind::date;
    content.legend = false;
    const NumberView view(column);
    std::vector<double> values;
    std::size_t missing = 0;
    for (std::size_t i = 0; i < look.scope.used.size(); ++i)
        if (look.scope.used[i] != 0) {
            if (std::isfinite(view[i]))
                values.push_back(view[i]);
            else
                ++missing;
        }
    if (column.kind() == ColumnKind::factor) {
        std::vector<std::pair<double, std::int32_t>> counts;
        for (std::size_t k = 0; k < column.levels().size(); ++k)
            counts.emplace_back(0, static_cast<std::int32_t>(k));
        for (const double v : values)
            counts[static_cast<std::size_t>(v)].first += 1;
        std::stable_sort(counts.begin(), counts.end(),
                         [](const auto& a, const auto& b) { return a.first > b.first; });
        if (counts.size() > mostLevels) {
            look.picture.sentences
                << tr("Shown are the %1 commonest of %2 levels.").arg(mostLevels).arg(counts.size());
            counts.resize(mostLevels);
        }
        PlotFrame::Bars bars{tr("rows"), -0.5, 1, {}, false, theme::learning};
        for (const auto& [count, code] : counts) {
            bars.heights.push_back(count);
            content.xLevels << qs(column.levels()[static_cast<std::size_t>(code)]);
        }
        content.bars.push_back(bars);
        return;
    }
    const auto counts = histogram(values);
    const auto box = boxOf(values);
    if (!counts || !box) {
        content.summary =
            values.empty()
                ? tr("%1 has no values in the learning rows.").arg(qs(column.name()))
                : tr("The values of %1 lie too far apart for a plain scale.").arg(qs(column.name()));
        return;
    }
    PlotFrame::Bars bars{tr("rows"), counts->low, counts->width, {}, false, theme::learning};
    for (const std::size_t count : counts->counts)
        bars.heights.push_back(static_cast<double>(count));
    content.bars.push_back(bars);
    if (const auto density = smoothDensity(values)) {
        PlotFrame::Line line{tr("density"), {}, {}, theme::goad, Qt::SolidLine, {}, 1.8};
        for (std::size_t k = 0; k < density->height.size(); k += 2) {
            line.x.push_back(density->low + density->step * static_cast<double>(k));
            line.y.push_back(density->height[k] * static_cast<double>(values.size()) * counts->width);
        }
        content.lines.push_back(std::move(line));
    }
    const Moments m = momentsOf(values);
    const bool date = content.xIsDate;
    auto say = [date](double v) {
        return date ? qs(dateText(static_cast<std::int32_t>(v))) : qs(readableText(v));
    };
    look.picture.sentences
        << tr("Middle half from %1 to %2, median %3; fences at %4 and %5, %6 beyond; %7 missing.")
               .arg(say(box->lowerQuartile), say(box->upperQuartile), say(box->median), say(box->lowerFence),
                    say(box->upperFence), qs(plural(box->beyond, "row", "rows")), qs(countText(missing)));
    if (date) return;
    look.picture.sentences << tr("Skewness %1, excess kurtosis %2.")
                                  .arg(qs(readableText(m.skewness, 2)),
                                       qs(readableText(m.excessKurtosis, 2)));
    if (const auto power = boxCox(values, 0.95, {}, progress)) {
        std::vector<double> logs;
        for (const double v : values)
            logs.push_back(std::log(v));
        const Moments l = momentsOf(logs);
        look.picture.sentences << tr("Likeliest power %1 (95 %: %2 to %3; Box and Cox 1964); in logs "
                                     "skewness %4, excess kurtosis %5.")
                                      .arg(qs(readableText(power->lambda, 2)),
                                           qs(readableText(power->lower, 2)),
                                           qs(readableText(power->upper, 2)), qs(readableText(l.skewness, 2)),
                                           qs(readableText(l.excessKurtosis, 2)));
    }
}

/// The date column rows are ordered by: the one with the role, or the first.
const Column* dateColumn(const LookRequest& request) {
    const Column* found = nullptr;
    for (const Column& column : request.prepared->table.columns())
        if (column.kind() == ColumnKind::date) {
            if (roleOf(request.recipe, column.name()) == Role::time) return &column;
            if (!found) found = &column;
        }
    return found;
}

/// A factor whose levels each lie in one month of the year: what to add for a season.
const Column* monthFactor(const LookRequest& request, const Column& dates) {
    for (const Column& column : request.prepared->table.columns()) {
        if (column.kind() != ColumnKind::factor || column.levels().size() > 12 ||
            column.levels().size() < 4 || !isOffered(request.recipe, column.name()))
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

void drawSeries(Looking& look, bool season) {
    const LookRequest& request = look.request;
    PlotFrame::Content& content = look.picture.content;
    const Column* dates = dateColumn(request);
    if (!dates) {
        content.summary = tr("There is no column of dates to lay along the plot.");
        return;
    }
    const NumberView days(*dates);
    std::vector<double> when(days.values().begin(), days.values().end());
    for (std::size_t i = 0; i < when.size(); ++i)
        if (look.scope.used[i] == 0) when[i] = std::nan("");
    Period period = fittingPeriod(when);
    if (season && period == Period::day) period = Period::month;
    const Series whole = seriesOf(when, look.scope.target, period, Summing::mean);
    if (whole.value.size() < 2) {
        content.summary = tr("The learning rows lie in one period: there is no course to draw.");
        return;
    }
    content.yTitle = tr("mean of %1").arg(look.targetTitle());
    const auto found = seasonOf(whole);
    auto seasonName = [&](int index) {
        return found->length == 12 ? qs(periodText(index, Period::month)).left(3)
                                   : QString("Q%1").arg(index + 1);
    };
    if (season) {
        if (!found) {
            content.summary = tr("A season needs two years of months or quarters.");
            return;
        }
        content.xTitle = found->length == 12 ? tr("month of the year") : tr("quarter of the year");
        for (int k = 0; k < found->length; ++k)
            content.xLevels << seasonName(k);
        std::map<std::int64_t, PlotFrame::Line> years;
        for (std::size_t i = 0; i < whole.time.size(); ++i) {
            const std::int64_t year =
                (whole.time[i] - ((whole.time[i] % found->length) + found->length) % found->length) /
                found->length;
            auto& line = years[year];
            line.x.push_back(static_cast<double>(whole.time[i] - year * found->length));
            line.y.push_back(whole.value[i]);
        }
        int index = 0;
        for (auto& [year, line] : years) {
            line.label = QString::number(1970 + year);
            line.colour = theme::groupColour(index);
            line.style = styles[static_cast<std::size_t>(index++) % styles.size()];
            content.lines.push_back(line);
        }
    } else {
        content.xTitle = qs(dates->name());
        content.xIsDate = true;
        const Column* group = request.group.empty() ? nullptr : look.table().find(request.group);
        std::vector<Series> all{whole};
        if (group)
            all = seriesByGroup(when, look.scope.target, group->codes(), group->levels().size(), period,
                                Summing::mean);
        int index = 0;
        double least = INFINITY, most = 0;
        for (std::size_t g = 0; g < all.size(); ++g) {
            if (all[g].value.empty()) continue;
            PlotFrame::Line line{{},
                                 {},
                                 all[g].value,
                                 theme::groupColour(index),
                                 styles[static_cast<std::size_t>(index) % styles.size()],
                                 group ? qs(group->levels()[g]) : QString(),
                                 1.8};
            for (const auto time : all[g].time)
                line.x.push_back(firstDayOf(time, period));
            content.lines.push_back(std::move(line));
            least = std::min(least, std::fabs(all[g].mean));
            most = std::max(most, std::fabs(all[g].mean));
            ++index;
        }
        if (group && most > 3 * least)
            look.picture.sentences
                << tr("The groups' means differ %1-fold.").arg(qs(readableText(most / least, 2)));
        const auto r = autocorrelation(whole.value, std::min<std::size_t>(12, whole.value.size() / 2));
        if (!r.empty() && whole.gaps == 0)
            look.picture.sentences
                << tr("One period later it resembles itself by r = %1%2 (beyond ±%3 is more than chance).")
                       .arg(qs(readableText(r[0], 2)),
                            r.size() >= 12 ? tr(", twelve later by %1").arg(qs(readableText(r[11], 2)))
                                           : QString(),
                            qs(readableText(1.96 / std::sqrt(static_cast<double>(whole.value.size())), 2)));
        if (whole.gaps > 0)
            look.picture.sentences << tr("%1 between the first and the last have no rows.")
                                          .arg(qs(plural(whole.gaps, "period", "periods")));
    }
    if (found) {
        look.picture.sentences << tr("The season says %1 of what the years leave over (F = %2, p %3): "
                                     "highest in %4, lowest in %5, %6%7 apart.")
                                      .arg(qs(percentText(std::round(100 * found->share) / 100)),
                                           qs(readableText(found->f, 3)), qs(probabilityText(found->p)),
                                           seasonName(found->highest), seasonName(found->lowest),
                                           qs(readableText(found->swing)), look.unitOfTarget());
        if (const Column* months = monthFactor(request, *dates))
            look.offer(tr("add %1 to the terms").arg(qs(months->name())), {plainTerm(months->name())});
    }
}

const Column* coordinate(const Table& table, const QString& start) {
    for (const Column& column : table.columns())
        if (column.kind() == ColumnKind::number && qs(column.name()).startsWith(start, Qt::CaseInsensitive))
            return &column;
    return nullptr;
}

void drawMap(Looking& look) {
    PlotFrame::Content& content = look.picture.content;
    const Column* longitude = coordinate(look.table(), "lon");
    const Column* latitude = coordinate(look.table(), "lat");
    if (!longitude || !latitude) {
        content.summary = tr("There are no columns whose names begin with lon and lat, in degrees.");
        return;
    }
    const Places places =
        placesOf(longitude->numbers(), latitude->numbers(), look.scope.target, look.scope.used);
    std::vector<Place> known;
    for (const Place& place : places.places)
        if (std::isfinite(place.mean)) known.push_back(place);
    if (places.outOfRange > 0)
        look.picture.sentences
            << tr("%1 with a longitude beyond ±180 or a latitude beyond ±90 cannot be drawn.")
                   .arg(qs(plural(places.outOfRange, "row", "rows")));
    if (known.empty()) {
        content.summary = tr("No learning row has a place on the ground and a value.");
        return;
    }
    content.xTitle = tr("%1, degrees east").arg(qs(longitude->name()));
    content.yTitle = tr("%1, degrees north").arg(qs(latitude->name()));
    content.proportion = places.proportion;
    std::vector<double> means;
    for (const Place& place : known)
        means.push_back(place.mean);
    std::sort(means.begin(), means.end());
    // Five classes with as many places each, from pale to dark; translucent, so that places that lie on each
    // other show.
    constexpr int classes = 5;
    const std::array colours{QColor(0xD8, 0xB3, 0x6A, 190), QColor(0xC8, 0x8D, 0x6A, 190),
                             QColor(0x9A, 0x6A, 0x86, 190), QColor(0x5B, 0x5A, 0x96, 190),
                             QColor(0x1F, 0x2A, 0x2C, 210)};
    std::vector<PlotFrame::Marks> marks(classes);
    for (int c = 0; c < classes; ++c) {
        const double low = means[static_cast<std::size_t>(c) * means.size() / classes];
        marks[static_cast<std::size_t>(c)].name = tr("from %1").arg(roundText(low));
        marks[static_cast<std::size_t>(c)].mark = theme::Mark::plain;
        marks[static_cast<std::size_t>(c)].colour = colours[static_cast<std::size_t>(c)];
    }
    for (const Place& place : known) {
        const auto below = static_cast<std::size_t>(std::upper_bound(means.begin(), means.end(), place.mean) -
                                                    means.begin()) -
                           1;
        auto& m = marks[std::min<std::size_t>(classes - 1, below * classes / means.size())];
        m.x.push_back(place.longitude);
        m.y.push_back(place.latitude);
        m.rows.push_back(place.first);
    }
    std::erase_if(marks, [](const PlotFrame::Marks& m) { return m.x.empty(); });
    content.marks = std::move(marks);
    look.picture.sentences << tr("%1 by their mean of %2; a click selects the first of a place's rows.")
                                  .arg(qs(plural(known.size(), "place", "places")), look.targetTitle());
    if (const auto m = moran(known))
        look.picture.sentences << tr("%1: Moran's I %2 against %3 expected, p %4.")
                                      .arg(m->p < 0.05 ? (m->i > m->expected
                                                              ? tr("Near places are alike")
                                                              : tr("Near places differ more than far ones"))
                                                       : tr("Near places are no more alike than far ones"),
                                           qs(readableText(m->i, 2)), qs(readableText(m->expected, 2)),
                                           qs(probabilityText(m->p)));
    look.offer(tr("add %1 and %2 to the terms").arg(qs(longitude->name()), qs(latitude->name())),
               {plainTerm(longitude->name()), plainTerm(latitude->name())});
}

} // namespace

LookPicture lookPicture(const LookRequest& request, Progress& progress) {
    Looking look{request, {}, {}};
    try {
        look.scope = lookScope(request.recipe, *request.prepared, request.evidence.get(), request.against);
        if (!request.up.empty()) {
            const NumberView view(look.table().at(request.up, request.recipe.rows.file));
            look.scope.target.assign(view.values().begin(), view.values().end());
        }
        if (request.view == "spread out")
            drawDistribution(look, progress);
        else if (request.view == "over time" || request.view == "season")
            drawSeries(look, request.view == "season");
        else if (request.view == "map")
            drawMap(look);
        else
            drawAgainst(look, progress);
    } catch (const Error& error) {
        look.picture = {};
        look.picture.content.summary = qs(error.what());
    }
    if (look.picture.content.summary.isEmpty())
        look.picture.content.summary =
            tr("%1 against %2. ").arg(look.picture.content.yTitle, look.picture.content.xTitle) +
            look.picture.sentences.join(' ');
    return std::move(look.picture);
}

} // namespace oxgoad
