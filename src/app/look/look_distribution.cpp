// How one column is distributed, as it is and in logarithms.
#include "app/look/look_parts.h"
#include "base/text.h"
#include "look/distribution.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Bars of counts with the density over them; false when the values lie too far apart for a scale.
bool addCounts(PlotFrame::Content& content, const std::vector<double>& values) {
    const auto counts = histogram(values);
    if (!counts) return false;
    PlotFrame::Bars bars{tr("rows"), counts->low, counts->width, {}, false, theme::learning};
    for (const std::size_t count : counts->counts)
        bars.heights.push_back(static_cast<double>(count));
    content.bars.push_back(bars);
    content.yTitle = tr("learning rows");
    // Median and quartiles stand the whole height, fences half of it; fences beyond the values are not drawn.
    if (const auto box = boxOf(values)) {
        const double top = *std::max_element(bars.heights.begin(), bars.heights.end());
        const auto upright = [&](double x, double height, Qt::PenStyle style, double width) {
            const double end = counts->low + counts->width * static_cast<double>(bars.heights.size());
            if (x >= counts->low && x <= end)
                content.lines.push_back({{}, {x, x}, {0, height}, theme::quiet, style, {}, width});
        };
        upright(box->median, top, Qt::SolidLine, 1.6);
        upright(box->lowerQuartile, top, Qt::DashLine, 1.2);
        upright(box->upperQuartile, top, Qt::DashLine, 1.2);
        upright(box->lowerFence, top / 2, Qt::DotLine, 1.2);
        upright(box->upperFence, top / 2, Qt::DotLine, 1.2);
    }
    if (const auto density = smoothDensity(values)) {
        PlotFrame::Line line{tr("density"), {}, {}, theme::goad, Qt::SolidLine, {}, 1.8};
        for (std::size_t k = 0; k < density->height.size(); k += 2) {
            line.x.push_back(density->low + density->step * static_cast<double>(k));
            line.y.push_back(density->height[k] * static_cast<double>(values.size()) * counts->width);
        }
        content.lines.push_back(std::move(line));
    }
    return true;
}

/// Sorted values against what a normal distribution would have, and the line through the quartiles of both.
bool addQuantiles(PlotFrame::Content& content, const std::vector<double>& values,
                  const std::vector<std::size_t>& rows) {
    const auto q = normalQuantiles(values);
    if (!q) return false;
    PlotFrame::Marks marks{tr("learning rows"), theme::Mark::learning, q->normal, q->value, {}};
    for (const std::size_t place : q->place)
        marks.rows.push_back(rows[place]);
    content.yTitle = content.xTitle;
    content.xTitle = tr("normal quantile");
    PlotFrame::Line line{tr("normal"), {}, {}, theme::goad, Qt::SolidLine, {}, 1.8};
    for (const double x : {q->normal.front(), q->normal.back()}) {
        line.x.push_back(x);
        line.y.push_back(q->intercept + q->slope * x);
    }
    content.marks.push_back(std::move(marks));
    content.lines.push_back(std::move(line));
    content.summary = tr("Correlation of the sorted values with normal quantiles %1.")
                          .arg(qs(readableText(q->correlation, 4)));
    return true;
}

void addProfile(PlotFrame::Content& content, const BoxCox& power) {
    content.xTitle = tr("power λ of the column (0: its logarithm)");
    content.yTitle = tr("log likelihood");
    PlotFrame::Line profile{
        tr("profile likelihood"), power.powers, power.profile, theme::learning, Qt::SolidLine, {}, 2};
    const double edge = power.logLikelihood - 1.920729; // χ²₁(0.95) / 2
    const double low = std::max(power.lower, power.powers.front());
    const double high = std::min(power.upper, power.powers.back());
    content.lines.push_back(std::move(profile));
    content.lines.push_back(
        {tr("95 % interval"), {low, high}, {edge, edge}, theme::goad, Qt::SolidLine, {}, 3});
    // Far from the top nothing is to be seen: the interval keeps a tenth of the height.
    const double bottom = *std::min_element(power.profile.begin(), power.profile.end());
    content.yRange = {std::max(bottom, power.logLikelihood - 60), power.logLikelihood + 3};
}

void drawLevels(Looking& look, const Column& column, const std::vector<double>& values) {
    PlotFrame::Content& content = look.picture.content;
    content.yTitle = tr("learning rows");
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
}

void sayNumbers(Looking& look, const std::vector<double>& values, std::size_t missing, bool date) {
    const auto box = boxOf(values);
    const auto say = [date](double v) {
        return date ? qs(dateText(static_cast<std::int32_t>(v))) : qs(readableText(v));
    };
    look.picture.sentences << tr("Middle half from %1 to %2 (dashed), median %3 (line); fences at %4 and %5 "
                                 "(dotted), %6 beyond; %7 missing.")
                                  .arg(say(box->lowerQuartile), say(box->upperQuartile), say(box->median),
                                       say(box->lowerFence), say(box->upperFence),
                                       qs(plural(box->beyond, "row", "rows")), qs(countText(missing)));
}

} // namespace

void drawDistribution(Looking& look, Progress& progress) {
    const LookRequest& request = look.request;
    const Column& column = look.table().at(request.column, request.recipe.rows.file);
    PlotFrame::Content& content = look.picture.content;
    content.xTitle = look.titled(column.name());
    content.xIsDate = column.kind() == ColumnKind::date;
    content.legend = false;
    const NumberView view(column);
    std::vector<double> values;
    std::vector<std::size_t> rows;
    std::size_t missing = 0;
    for (std::size_t i = 0; i < look.scope.used.size(); ++i)
        if (look.scope.used[i] != 0) {
            if (std::isfinite(view[i])) {
                values.push_back(view[i]);
                rows.push_back(i);
            } else {
                ++missing;
            }
        }
    if (values.empty()) {
        content.summary = tr("%1 has no values in the learning rows.").arg(qs(column.name()));
        return;
    }
    if (column.kind() == ColumnKind::factor) {
        drawLevels(look, column, values);
        return;
    }
    sayNumbers(look, values, missing, content.xIsDate);
    const bool positive = *std::min_element(values.begin(), values.end()) > 0;
    const QString tooFar = tr("The values of %1 lie too far apart for a plain scale.").arg(qs(column.name()));
    if (content.xIsDate) {
        if (!addCounts(content, values)) content.summary = tooFar;
        return;
    }
    const Moments m = momentsOf(values);
    look.picture.sentences << tr("Skewness %1, excess kurtosis %2.")
                                  .arg(qs(readableText(m.skewness, 2)),
                                       qs(readableText(m.excessKurtosis, 2)));
    const auto power = boxCox(values, 0.95, {}, progress);
    std::vector<double> logs;
    if (positive)
        for (const double v : values)
            logs.push_back(std::log(v));
    if (power) {
        const Moments l = momentsOf(logs);
        look.picture.sentences << tr("Likeliest power %1 (95 %: %2 to %3; Box and Cox 1964); in logs "
                                     "skewness %4, excess kurtosis %5.")
                                      .arg(qs(readableText(power->lambda, 2)),
                                           qs(readableText(power->lower, 2)),
                                           qs(readableText(power->upper, 2)), qs(readableText(l.skewness, 2)),
                                           qs(readableText(l.excessKurtosis, 2)));
    }
    if (request.spread == LookRequest::Spread::powers) {
        if (power)
            addProfile(content, *power);
        else
            content.summary = tr("Powers are compared for at least five values above 0 that differ.");
        return;
    }
    const auto add = [&](PlotFrame::Content& into, const std::vector<double>& of) {
        return request.spread == LookRequest::Spread::counts ? addCounts(into, of)
                                                             : addQuantiles(into, of, rows);
    };
    PlotFrame::Content plain = content;
    if (!add(plain, values)) {
        content.summary = request.spread == LookRequest::Spread::counts
                              ? tooFar
                              : tr("Three values are needed to compare with a normal distribution.");
        return;
    }
    if (!positive) {
        content = std::move(plain);
        return;
    }
    PlotFrame::Content inLogs = content;
    inLogs.xTitle = "ln " + qs(column.name());
    const bool both = add(inLogs, logs);
    content = plain;
    if (!both) return;
    look.picture.panelsAcross = 2;
    look.picture.panels.push_back({tr("as it is"), std::move(plain)});
    look.picture.panels.push_back({tr("in natural logarithms"), std::move(inLogs)});
}

} // namespace oxgoad
