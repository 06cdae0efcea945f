#include "app/check/check_picture.h"

#include "base/text.h"
#include "study/calibration.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t mostPanels = 6;

QString acrossText(const CheckRequest& request) {
    const QString unit = request.unit.isEmpty() ? QString() : ", " + request.unit;
    switch (request.residuals.against) {
    case ResidualAgainst::predicted:
        return QObject::tr("predicted %1").arg(qs(request.evidence->response)) + unit;
    case ResidualAgainst::rowNumber:
        return QObject::tr("row number");
    case ResidualAgainst::leverage:
        return QObject::tr("leverage");
    case ResidualAgainst::time:
    case ResidualAgainst::column:
        break;
    }
    return request.acrossTitle;
}

QString upText(const CheckRequest& request) {
    const QString unit = request.unit.isEmpty() ? QString() : ", " + request.unit;
    const bool logs = request.evidence->logResponse;
    switch (request.residuals.kind) {
    case ResidualKind::plain:
    case ResidualKind::heldOut:
        if (request.evidence->study && request.evidence->study->rule.link.family)
            return QObject::tr("deviance residual");
        return logs ? QObject::tr("residual, ln actual − ln predicted")
                    : QObject::tr("residual, actual − predicted") + unit;
    case ResidualKind::outOfFold:
        return QObject::tr("out of fold, actual − predicted") + unit;
    case ResidualKind::leaveOneOut:
        return logs ? QObject::tr("residual by a fit without the row, logarithm")
                    : QObject::tr("residual by a fit without the row") + unit;
    case ResidualKind::partial:
        return logs ? QObject::tr("partial residual, logarithm") : QObject::tr("partial residual") + unit;
    case ResidualKind::actual:
        return QObject::tr("actual %1").arg(qs(request.evidence->response)) + unit;
    case ResidualKind::standardised:
        return QObject::tr("standardised residual, standard errors");
    case ResidualKind::deleted:
        return QObject::tr("deleted residual, standard errors");
    }
    return {};
}

bool needsZero(ResidualKind kind) {
    return kind != ResidualKind::actual && kind != ResidualKind::partial;
}

/// Marks of some points of the view, by part; `which` says the points.
template <class Which>
std::vector<PlotFrame::Marks> marksOf(const CheckRequest& request, const ResidualView& view,
                                      const Which& which) {
    const std::size_t n = request.evidence->rows.state.size();
    std::vector<double> x(n, std::nan("")), y(n, std::nan(""));
    for (std::size_t k = 0; k < view.rows.size(); ++k) {
        if (!which(k)) continue;
        // Rows of a level are spread a little so that they do not hide each other.
        const double aside =
            view.levels ? 0.5 * (static_cast<double>((view.rows[k] * 2654435761U) % 1000) / 1000 - 0.5) : 0;
        x[view.rows[k]] = view.x[k] + aside;
        y[view.rows[k]] = view.y[k];
    }
    return Station::marksOf(
        request.evidence.get(), n, [&x](std::size_t i) { return x[i]; },
        [&y](std::size_t i) { return y[i]; });
}

void addLines(PlotFrame::Content& content, const ResidualView& view) {
    if (!view.spread.at.empty()) {
        content.lines.push_back(
            {QObject::tr("± spread"), view.spread.at, view.spread.low, theme::quiet, Qt::DotLine, {}, 1.4});
        content.lines.push_back({{}, view.spread.at, view.spread.high, theme::quiet, Qt::DotLine, {}, 1.4});
    }
    if (view.middle.at.empty()) return;
    content.bands.push_back({view.middle.at, view.middle.low, view.middle.high, theme::ink});
    content.lines.push_back({QObject::tr("smooth mean, 95 % band"),
                             view.middle.at,
                             view.middle.middle,
                             theme::ink,
                             Qt::SolidLine,
                             {},
                             1.8});
}

PlotFrame::Content emptyContent(const CheckRequest& request, const ResidualView& view) {
    PlotFrame::Content content;
    content.xTitle = acrossText(request);
    content.yTitle = upText(request);
    content.xIsDate = view.dates;
    content.zeroLine = needsZero(request.residuals.kind);
    content.xLog = view.logarithmic;
    content.yLog = view.logarithmic && request.residuals.kind == ResidualKind::actual;
    if (view.levels)
        if (const Column* column = request.prepared->table.find(request.residuals.column))
            for (const auto& level : column->levels())
                content.xLevels << qs(level);
    return content;
}

void addDiagonal(PlotFrame::Content& content, const ResidualView& view) {
    const auto [low, high] = std::minmax_element(view.x.begin(), view.x.end());
    if (low == view.x.end()) return;
    content.lines.push_back({QObject::tr("actual = predicted"),
                             {*low, *high},
                             {*low, *high},
                             theme::quiet,
                             Qt::DashLine,
                             {},
                             1.2});
}

void addPanels(CheckPicture& picture, const CheckRequest& request, const ResidualView& view) {
    const Column* group = request.prepared->table.find(request.group);
    if (!group || group->kind() != ColumnKind::factor) return;
    std::vector<std::size_t> counts(group->levels().size(), 0), order;
    for (const auto row : view.rows)
        if (const auto code = group->codes()[row]; code >= 0) ++counts[static_cast<std::size_t>(code)];
    for (std::size_t l = 0; l < counts.size(); ++l)
        if (counts[l] > 0) order.push_back(l);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return counts[a] > counts[b]; });
    const std::size_t all = order.size();
    if (order.size() > mostPanels) order.resize(mostPanels);
    if (order.empty()) return;
    std::sort(order.begin(), order.end());
    // All panels share their scales, so that they can be compared.
    const auto [left, right] = std::minmax_element(view.x.begin(), view.x.end());
    const auto [low, high] = std::minmax_element(view.y.begin(), view.y.end());
    // Ratios on a logarithmic scale.
    const bool logs = view.logarithmic;
    const double padX = logs ? std::pow(*right / *left, 0.03) : 0.03 * (*right - *left);
    const double padY = 0.05 * (*high - *low);
    for (const std::size_t level : order) {
        PlotFrame::Content content = emptyContent(request, view);
        if (view.levels)
            content.xRange = std::array{-0.6, static_cast<double>(content.xLevels.size()) - 0.4};
        else if (*right > *left)
            content.xRange =
                logs ? std::array{*left / padX, *right * padX} : std::array{*left - padX, *right + padX};
        if (*high > *low && !content.yLog) content.yRange = std::array{*low - padY, *high + padY};
        content.marks = marksOf(request, view, [&](std::size_t k) {
            return group->codes()[view.rows[k]] == static_cast<std::int32_t>(level);
        });
        content.legend = false;
        content.summary =
            QObject::tr("%1: %2 against %3").arg(qs(group->levels()[level]), content.yTitle, content.xTitle);
        picture.panels.emplace_back(
            QObject::tr("%1 (%2)").arg(qs(group->levels()[level]), qs(plural(counts[level], "row", "rows"))),
            std::move(content));
    }
    if (all > mostPanels)
        picture.says = QObject::tr("The %1 levels of %2 with the most rows, of %3.")
                           .arg(mostPanels)
                           .arg(qs(request.group))
                           .arg(all);
}

void addDistribution(CheckPicture& picture) {
    std::vector<double> values;
    for (const auto& marks : picture.plot.marks)
        values.insert(values.end(), marks.y.begin(), marks.y.end());
    PlotFrame::Content& beside = picture.beside;
    beside.legend = false;
    beside.xTitle = QObject::tr("rows");
    if (const auto h = histogram(std::move(values))) {
        PlotFrame::Bars bars;
        bars.low = h->low;
        bars.width = h->width;
        bars.heights.assign(h->counts.begin(), h->counts.end());
        bars.sideways = true;
        beside.bars.push_back(std::move(bars));
    }
    beside.summary = QObject::tr("Distribution of %1").arg(picture.plot.yTitle);
}

void addQuantiles(CheckPicture& picture, const ResidualView& view) {
    PlotFrame::Content& beside = picture.beside;
    beside.legend = false;
    beside.xTitle = QObject::tr("normal quantile");
    if (!view.normal) return;
    PlotFrame::Marks marks;
    marks.x = view.normal->normal;
    marks.y = view.normal->value;
    for (const std::size_t place : view.normal->place)
        marks.rows.push_back(
            view.rows[view.quantilesOf == view.y.size() ? place : place * view.y.size() / view.quantilesOf]);
    beside.marks.push_back(std::move(marks));
    if (!view.normalLow.empty())
        beside.bands.push_back({view.normal->normal, view.normalLow, view.normalHigh, theme::ink});
    beside.summary = QObject::tr("Sorted residuals against normal quantiles; %1 of %2 beyond the 95 % band")
                         .arg(view.beyond)
                         .arg(view.normal->value.size());
}

/// What was against what was predicted, by tenths of the prediction, of rows the model did not learn from.
void addCalibration(CheckPicture& picture, const CheckRequest& request) {
    PlotFrame::Content& beside = picture.beside;
    const auto calibration = calibrationOf(*request.evidence);
    if (!calibration) {
        picture.says = QObject::tr("fewer than 20 unseen rows");
        return;
    }
    const QString unit = request.unit.isEmpty() ? QString() : ", " + request.unit;
    beside.xTitle = QObject::tr("mean predicted") + unit;
    beside.yTitle = QObject::tr("mean actual") + unit;
    beside.legend = false;
    PlotFrame::Marks means;
    means.name = QObject::tr("a tenth of the rows");
    means.mark = theme::Mark::heldOut;
    bool positive = true;
    for (const CalibrationPart& part : calibration->parts) {
        means.x.push_back(part.predicted);
        means.y.push_back(part.actual);
        positive = positive && part.predicted > 0 && part.lower > 0;
        if (std::isfinite(part.lower))
            beside.lines.push_back({{},
                                    {part.predicted, part.predicted},
                                    {part.lower, part.upper},
                                    theme::heldOut,
                                    Qt::SolidLine,
                                    {},
                                    1.4});
    }
    const auto [low, high] = std::minmax_element(means.x.begin(), means.x.end());
    beside.lines.push_back({QObject::tr("actual = predicted"),
                            {*low, *high},
                            {*low, *high},
                            theme::quiet,
                            Qt::DashLine,
                            {},
                            1.2});
    beside.xLog = beside.yLog = picture.plot.xLog && positive;
    beside.marks.push_back(std::move(means));
    const QString says = qs(calibration->says);
    beside.summary = says.left(1).toUpper() + says.mid(1) + ".";
    if (picture.says.isEmpty())
        picture.says = QObject::tr("%1 of %2 parts off").arg(calibration->off).arg(calibration->parts.size());
}

} // namespace

CheckPicture checkPicture(const CheckRequest& request, Progress& progress) {
    CheckPicture picture;
    const ResidualView view =
        residualView(*request.evidence, request.recipe, *request.prepared, request.rows->learning.report.file,
                     request.residuals, {}, progress);
    picture.plot = emptyContent(request, view);
    picture.plot.marks = marksOf(request, view, [](std::size_t) { return true; });
    progress.checkpoint(0.9, "Drawing residuals");
    addLines(picture.plot, view);
    if (request.residuals.kind == ResidualKind::actual &&
        request.residuals.against == ResidualAgainst::predicted)
        addDiagonal(picture.plot, view);
    picture.plot.summary =
        QObject::tr("%1 against %2, %3 rows")
            .arg(picture.plot.yTitle, picture.plot.xTitle, qs(countText(view.rows.size())));
    if (!request.group.empty()) addPanels(picture, request, view);
    switch (request.beside) {
    case CheckRequest::Beside::distribution:
        addDistribution(picture);
        break;
    case CheckRequest::Beside::quantiles:
        addQuantiles(picture, view);
        break;
    case CheckRequest::Beside::calibration:
        addCalibration(picture, request);
        break;
    }
    if (request.beside == CheckRequest::Beside::quantiles && view.normal && picture.says.isEmpty())
        picture.says = view.normalLow.empty()
                           ? QString()
                           : QObject::tr("%1 of %2 beyond the normal band")
                                 .arg(qs(countText(view.beyond)), qs(countText(view.normal->value.size())));
    return picture;
}

} // namespace oxgoad
