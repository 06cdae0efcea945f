#include "app/plots/plot_frame.h"

#include "app/parts.h"
#include "base/text.h"
#include "look/density.h"
#include "workspace/text.h"

#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QDialog>
#include <QFileDialog>
#include <QKeyEvent>
#include <QMenu>
#include <QMouseEvent>
#include <QSvgGenerator>
#include <QVBoxLayout>
#include <cmath>
#include <qcustomplot.h>

namespace oxgoad {

namespace {

constexpr std::size_t mostMarks = 40000;
constexpr double daySeconds = 86400;
constexpr double hitRadius = 9;

/// Ticks at whole months or years, as calendars have them.
QSharedPointer<QCPAxisTicker> dateTicker() {
    auto ticker = QSharedPointer<QCPAxisTickerDateTime>::create();
    ticker->setDateTimeFormat("MMM yyyy");
    ticker->setDateTimeSpec(Qt::UTC);
    ticker->setTickCount(6);
    return ticker;
}

/// Plain numbers with grouped thousands; the plotting library's own would follow the desktop's language.
class NumberTicker : public QCPAxisTicker {
    QString getTickLabel(double tick, const QLocale&, QChar, int) override {
        const double size = std::fabs(tick);
        if (size < 1e-9 * std::fabs(m_step)) return "0";
        if (size >= 1e12 || m_step < 1e-6) return qs(readableText(tick, 4));
        int decimals = 0; // as many as the step needs
        while (decimals < 7 && std::fabs(m_step * std::pow(10, decimals) -
                                         std::round(m_step * std::pow(10, decimals))) > 1e-6)
            ++decimals;
        const int whole = size >= 1 ? static_cast<int>(std::floor(std::log10(size) + 1e-12)) + 1 : 0;
        if (size >= 1) return qs(readableText(tick, whole + decimals));
        return (tick < 0 ? "−" : "") + QString::number(size, 'f', decimals);
    }
    double getTickStep(const QCPRange& range) override {
        m_step = QCPAxisTicker::getTickStep(range);
        return m_step;
    }
    double m_step = 1;
};

} // namespace

struct PlotFrame::Plot {
    QCustomPlot* widget = nullptr;
    std::vector<QCPGraph*> graphs;
    QCPColorMap* density = nullptr;
    QCPItemTracer* cross = nullptr;
    QCPItemText* note = nullptr;
    QCPItemText* empty = nullptr;
    QCPGraph* selection = nullptr;
    QCPLayoutGrid* legendLine = nullptr;
    QPoint panFrom;
    bool panning = false;
};

PlotFrame::PlotFrame(const QString& accessibleName, QWidget* parent)
    : QWidget(parent), m_plot(std::make_unique<Plot>()) {
    setAccessibleName(accessibleName);
    setFocusPolicy(Qt::StrongFocus);
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    auto* plot = new QCustomPlot(this);
    m_plot->widget = plot;
    layout->addWidget(plot);
    plot->setFocusProxy(this);
    plot->setMouseTracking(true);
    plot->installEventFilter(this);
    plot->setBackground(theme::sheet);
    plot->setInteractions(QCP::iRangeZoom);
    plot->setNoAntialiasingOnDrag(true);
    setMinimumSize(120, 110);
    plot->axisRect()->insetLayout()->take(plot->legend);
    plot->legend->setLayer("legend");
    plot->plotLayout()->setRowSpacing(0);
}

PlotFrame::~PlotFrame() = default;

void PlotFrame::clear(const QString& why) {
    Content none;
    none.summary = why;
    show(none);
}

void PlotFrame::show(Content content) {
    m_content = std::move(content);
    setAccessibleDescription(m_content.summary);
    build();
    showAll();
}

void PlotFrame::build() {
    QCustomPlot* plot = m_plot->widget;
    plot->clearPlottables();
    plot->clearItems();
    m_plot->graphs.clear();
    m_plot->density = nullptr;
    const bool nothing = m_content.marks.empty() && m_content.lines.empty() && m_content.bars.empty() &&
                         m_content.bands.empty();
    for (QCPAxis* axis : {plot->xAxis, plot->yAxis}) {
        axis->setVisible(!nothing);
        axis->setLabelFont(theme::font(theme::smallSize));
        axis->setTickLabelFont(theme::font(theme::smallSize));
        axis->setLabelColor(theme::quiet);
        axis->setTickLabelColor(theme::quiet);
        axis->setBasePen(QPen(theme::ink, 1));
        axis->setTickPen(QPen(theme::ink, 1));
        axis->setSubTickPen(Qt::NoPen);
        axis->setTicker(QSharedPointer<NumberTicker>::create());
        axis->grid()->setPen(QPen(QColor(0xEC, 0xEF, 0xEC), 1));
        axis->grid()->setZeroLinePen(m_content.zeroLine && axis == plot->yAxis
                                         ? QPen(theme::quiet, 1)
                                         : QPen(QColor(0xEC, 0xEF, 0xEC), 1));
    }
    plot->xAxis->setLabel(m_content.xTitle);
    plot->yAxis->setLabel(m_content.yTitle);
    if (m_content.xIsDate) plot->xAxis->setTicker(dateTicker());
    if (!m_content.xLevels.isEmpty()) {
        auto ticker = QSharedPointer<QCPAxisTickerText>::create();
        for (int i = 0; i < m_content.xLevels.size(); ++i)
            ticker->addTick(i, m_content.xLevels[i].size() > 16 ? m_content.xLevels[i].left(15) + "…"
                                                                : m_content.xLevels[i]);
        plot->xAxis->setTicker(ticker);
    }
    const double xUnit = m_content.xIsDate ? daySeconds : 1;
    auto toVector = [](const std::vector<double>& values, double unit) {
        QVector<double> out(static_cast<qsizetype>(values.size()));
        for (std::size_t i = 0; i < values.size(); ++i)
            out[static_cast<qsizetype>(i)] = values[i] * unit;
        return out;
    };
    for (const Band& band : m_content.bands) {
        auto* low = plot->addGraph();
        auto* high = plot->addGraph();
        low->setData(toVector(band.x, xUnit), toVector(band.low, 1));
        high->setData(toVector(band.x, xUnit), toVector(band.high, 1));
        for (auto* edge : {low, high}) {
            edge->setPen(Qt::NoPen);
            edge->removeFromLegend();
        }
        QColor fill = band.colour;
        fill.setAlpha(36);
        high->setBrush(fill);
        high->setChannelFillGraph(low);
    }
    for (const Bars& bars : m_content.bars) {
        auto* drawn =
            new QCPBars(bars.sideways ? plot->yAxis : plot->xAxis, bars.sideways ? plot->xAxis : plot->yAxis);
        QVector<double> keys, heights;
        for (std::size_t i = 0; i < bars.heights.size(); ++i) {
            keys << bars.low + bars.width * (static_cast<double>(i) + 0.5);
            heights << bars.heights[i];
        }
        drawn->setData(keys, heights, true);
        drawn->setWidth(bars.width * 0.92);
        drawn->setPen(Qt::NoPen);
        QColor fill = bars.colour;
        fill.setAlpha(150);
        drawn->setBrush(fill);
        drawn->setName(bars.name);
        if (bars.name.isEmpty()) drawn->removeFromLegend();
    }
    std::size_t count = 0;
    for (const Marks& marks : m_content.marks)
        count += marks.x.size();
    const bool dense = count > mostMarks;
    for (const Marks& marks : m_content.marks) {
        auto* graph = plot->addGraph();
        graph->setLineStyle(QCPGraph::lsNone);
        graph->setAdaptiveSampling(false); // it drops points and falsifies the density
        graph->setScatterStyle(
            QCPScatterStyle(theme::mark(
            marks.mark, marks.colour.value_or(theme::markColour(marks.mark)), devicePixelRatioF())));
        graph->setName(marks.name);
        if (!dense) graph->setData(toVector(marks.x, xUnit), toVector(marks.y, 1));
        if (marks.name.isEmpty()) graph->removeFromLegend();
        m_plot->graphs.push_back(graph);
    }
    if (dense) {
        m_plot->density = new QCPColorMap(plot->xAxis, plot->yAxis);
        QCPColorGradient gradient;
        gradient.clearColorStops();
        gradient.setColorStopAt(0, QColor(255, 255, 255, 0));
        gradient.setColorStopAt(0.02, QColor(0xD6, 0xDC, 0xEA));
        gradient.setColorStopAt(0.4, theme::learning);
        gradient.setColorStopAt(1, theme::ink);
        m_plot->density->setGradient(gradient);
        m_plot->density->setInterpolate(false);
        m_plot->density->setName("rows, darker where there are more");
    }
    for (const Box& box : m_content.boxes) {
        auto* drawn = new QCPStatisticalBox(plot->xAxis, plot->yAxis);
        drawn->addData(box.x, box.lowerWhisker, box.lowerQuartile, box.median, box.upperQuartile,
                       box.upperWhisker);
        drawn->setWidth(0.56);
        drawn->setPen(QPen(theme::ink, 1.1));
        drawn->setMedianPen(QPen(theme::ink, 2.4));
        drawn->setBrush(QColor(255, 255, 255, 150));
        drawn->setWhiskerWidth(0.2);
        drawn->removeFromLegend();
    }
    for (const Line& line : m_content.lines) {
        auto* curve = plot->addGraph();
        curve->setData(toVector(line.x, xUnit), toVector(line.y, 1));
        curve->setPen(QPen(line.colour, line.width, line.style));
        curve->setName(line.name);
        if (line.name.isEmpty()) curve->removeFromLegend();
        if (!line.label.isEmpty() && !line.x.empty()) {
            auto* label = new QCPItemText(plot);
            label->position->setCoords(line.x.back() * xUnit, line.y.back());
            label->setPositionAlignment(Qt::AlignLeft | Qt::AlignVCenter);
            label->setText(" " + line.label);
            label->setFont(theme::font(theme::smallSize, true));
            label->setColor(line.colour);
            label->setClipToAxisRect(false);
        }
    }
    m_plot->selection = plot->addGraph();
    m_plot->selection->setLineStyle(QCPGraph::lsNone);
    m_plot->selection->setScatterStyle(
        QCPScatterStyle(QCPScatterStyle::ssCircle, QPen(theme::alarm, 2), Qt::NoBrush, 15));
    m_plot->selection->removeFromLegend();
    m_plot->note = new QCPItemText(plot);
    m_plot->note->position->setType(QCPItemPosition::ptAbsolute);
    m_plot->note->setFont(theme::font(theme::smallSize));
    m_plot->note->setColor(theme::ink);
    m_plot->note->setBrush(QColor(255, 255, 255, 235));
    m_plot->note->setPen(QPen(theme::rule));
    m_plot->note->setPadding(QMargins(6, 3, 6, 3));
    m_plot->note->setTextAlignment(Qt::AlignLeft);
    m_plot->note->setVisible(false);
    m_plot->empty = new QCPItemText(plot);
    m_plot->empty->position->setType(QCPItemPosition::ptAxisRectRatio);
    m_plot->empty->position->setCoords(0.5, 0.5);
    m_plot->empty->setText(nothing ? m_content.summary : QString());
    m_plot->empty->setFont(theme::font(theme::textSize));
    m_plot->empty->setColor(theme::quiet);
    m_plot->empty->setVisible(nothing);
    const bool legend = m_content.legend && !nothing;
    plot->legend->setVisible(legend);
    placeLegend(legend);
    if (legend) {
        plot->legend->setFont(theme::font(theme::smallSize));
        plot->legend->setTextColor(theme::quiet);
        plot->legend->setBorderPen(Qt::NoPen);
        plot->legend->setBrush(Qt::NoBrush);
        plot->legend->setFillOrder(QCPLegend::foColumnsFirst);
        plot->legend->setRowSpacing(0);
        plot->legend->setMargins(QMargins(4, 0, 4, 0));
        plot->legend->setIconSize(18, 10);
    }
}

/// The legend has a line of its own above the plot, where it hides nothing; no line without a legend.
void PlotFrame::placeLegend(bool wanted) {
    QCustomPlot* plot = m_plot->widget;
    if (wanted == (m_plot->legendLine != nullptr)) return;
    if (wanted) {
        m_plot->legendLine = new QCPLayoutGrid;
        plot->plotLayout()->insertRow(0);
        plot->plotLayout()->addElement(0, 0, m_plot->legendLine);
        m_plot->legendLine->addElement(0, 0, plot->legend);
        m_plot->legendLine->addElement(0, 1, new QCPLayoutElement(plot));
        m_plot->legendLine->setColumnStretchFactor(0, 0.001);
        plot->plotLayout()->setRowStretchFactor(0, 0.001);
    } else {
        m_plot->legendLine->take(plot->legend);
        plot->plotLayout()->remove(m_plot->legendLine);
        plot->plotLayout()->simplify();
        m_plot->legendLine = nullptr;
    }
}

void PlotFrame::showAll() {
    QCustomPlot* plot = m_plot->widget;
    double xLow = 1e300, xHigh = -1e300, yLow = 1e300, yHigh = -1e300;
    auto takeX = [&](double v) {
        if (std::isfinite(v)) {
            xLow = std::min(xLow, v);
            xHigh = std::max(xHigh, v);
        }
    };
    auto takeY = [&](double v) {
        if (std::isfinite(v)) {
            yLow = std::min(yLow, v);
            yHigh = std::max(yHigh, v);
        }
    };
    for (const Marks& m : m_content.marks) {
        for (const double v : m.x)
            takeX(v);
        for (const double v : m.y)
            takeY(v);
    }
    for (const Line& l : m_content.lines) {
        for (const double v : l.x)
            takeX(v);
        for (const double v : l.y)
            takeY(v);
    }
    for (const Band& b : m_content.bands) {
        for (const double v : b.low)
            takeY(v);
        for (const double v : b.high)
            takeY(v);
    }
    for (const Bars& b : m_content.bars) {
        const double top = b.heights.empty() ? 1 : *std::max_element(b.heights.begin(), b.heights.end());
        const double end = b.low + b.width * static_cast<double>(b.heights.size());
        for (const double v : {b.low, end})
            b.sideways ? takeY(v) : takeX(v);
        for (const double v : {0.0, top})
            b.sideways ? takeX(v) : takeY(v);
    }
    if (xLow > xHigh) {
        xLow = 0;
        xHigh = 1;
    }
    if (yLow > yHigh) {
        yLow = 0;
        yHigh = 1;
    }
    const double xPad = xHigh > xLow ? 0.03 * (xHigh - xLow) : std::max(1e-9, 0.05 * std::fabs(xLow));
    const double yPad = yHigh > yLow ? 0.05 * (yHigh - yLow) : std::max(1e-9, 0.05 * std::fabs(yLow));
    const double unit = m_content.xIsDate ? daySeconds : 1;
    const bool labels = std::any_of(m_content.lines.begin(), m_content.lines.end(),
                                    [](const Line& l) { return !l.label.isEmpty(); });
    double right = xHigh + (labels ? 4 : 1) * xPad;
    double left = xLow - xPad;
    if (!m_content.xLevels.isEmpty()) {
        left = -0.6;
        right = static_cast<double>(m_content.xLevels.size()) - 0.4;
    }
    const bool sideways =
        std::any_of(m_content.bars.begin(), m_content.bars.end(), [](const Bars& b) { return b.sideways; });
    plot->xAxis->setRange(sideways ? 0 : left * unit, right * unit);
    plot->yAxis->setRange(!m_content.bars.empty() && !sideways ? 0 : yLow - yPad, yHigh + yPad);
    if (m_content.yRange) plot->yAxis->setRange((*m_content.yRange)[0], (*m_content.yRange)[1]);
    plot->xAxis->ticker()->setTickCount(std::clamp(width() / 95, 2, 8));
    plot->yAxis->ticker()->setTickCount(std::clamp(height() / 45, 2, 8));
    if (m_content.proportion) {
        // Whichever axis has room to spare shows more than it needs.
        plot->replot();
        const QCPRange up = plot->yAxis->range();
        plot->yAxis->setScaleRatio(plot->xAxis, *m_content.proportion);
        if (plot->yAxis->range().size() < up.size()) {
            plot->yAxis->setRange(up);
            plot->xAxis->setScaleRatio(plot->yAxis, 1 / *m_content.proportion);
        }
    }
    drawDensity();
    drawSelection();
    plot->replot();
}

void PlotFrame::drawDensity() {
    if (!m_plot->density) return;
    QCustomPlot* plot = m_plot->widget;
    const double unit = m_content.xIsDate ? daySeconds : 1;
    const QCPRange x = plot->xAxis->range();
    const QCPRange y = plot->yAxis->range();
    constexpr int across = 240;
    constexpr int up = 160;
    auto* data = m_plot->density->data();
    data->setSize(across, up);
    data->setRange({x.lower + x.size() / across / 2, x.upper - x.size() / across / 2},
                   {y.lower + y.size() / up / 2, y.upper - y.size() / up / 2});
    std::vector<double> counts(static_cast<std::size_t>(across) * up, 0);
    for (const Marks& marks : m_content.marks) {
        const Density d =
            density(marks.x, marks.y, x.lower / unit, x.upper / unit, y.lower, y.upper, across, up);
        for (std::size_t i = 0; i < counts.size(); ++i)
            counts[i] += d.counts[i];
    }
    double largest = 0;
    for (std::size_t i = 0; i < counts.size(); ++i) {
        const double shade = std::log1p(counts[i]); // few rows must still be seen
        largest = std::max(largest, shade);
        data->setCell(static_cast<int>(i % across), static_cast<int>(i / across), shade);
    }
    m_plot->density->setDataRange({0, std::max(largest, 1e-9)});
}

bool PlotFrame::showsDensity() const {
    return m_plot->density != nullptr;
}

std::array<double, 4> PlotFrame::extent() const {
    const double unit = m_content.xIsDate ? daySeconds : 1;
    const auto* plot = m_plot->widget;
    return {plot->xAxis->range().lower / unit, plot->xAxis->range().upper / unit, plot->yAxis->range().lower,
            plot->yAxis->range().upper};
}

void PlotFrame::setSelectedRow(std::optional<std::size_t> row) {
    if (row == m_selected) return;
    m_selected = row;
    drawSelection();
    m_plot->widget->replot();
}

void PlotFrame::drawSelection() {
    if (!m_plot->selection) return;
    m_plot->selection->data()->clear();
    if (!m_selected) return;
    const double unit = m_content.xIsDate ? daySeconds : 1;
    for (const Marks& marks : m_content.marks)
        for (std::size_t i = 0; i < marks.rows.size(); ++i)
            if (marks.rows[i] == *m_selected) m_plot->selection->addData(marks.x[i] * unit, marks.y[i]);
}

std::optional<QPoint> PlotFrame::placeOfRow(std::size_t row) const {
    const double unit = m_content.xIsDate ? daySeconds : 1;
    for (const Marks& marks : m_content.marks)
        for (std::size_t i = 0; i < marks.rows.size(); ++i)
            if (marks.rows[i] == row)
                return m_plot->widget->mapTo(
                    this, QPoint(qRound(m_plot->widget->xAxis->coordToPixel(marks.x[i] * unit)),
                                 qRound(m_plot->widget->yAxis->coordToPixel(marks.y[i]))));
    return std::nullopt;
}

std::optional<PlotFrame::Hit> PlotFrame::nearest(const QPoint& place) const {
    const auto* plot = m_plot->widget;
    const double unit = m_content.xIsDate ? daySeconds : 1;
    std::optional<Hit> best;
    double least = hitRadius * hitRadius;
    // Pixels are linear in coordinates: two conversions instead of one a point.
    const double x0 = plot->xAxis->coordToPixel(0), x1 = plot->xAxis->coordToPixel(unit) - x0;
    const double y0 = plot->yAxis->coordToPixel(0), y1 = plot->yAxis->coordToPixel(1) - y0;
    for (std::size_t s = 0; s < m_content.marks.size(); ++s) {
        const Marks& marks = m_content.marks[s];
        for (std::size_t i = 0; i < marks.x.size(); ++i) {
            const double dx = x0 + x1 * marks.x[i] - place.x();
            const double dy = y0 + y1 * marks.y[i] - place.y();
            const double distance = dx * dx + dy * dy;
            if (distance < least) {
                least = distance;
                best = Hit{s, i};
            }
        }
    }
    return best;
}

void PlotFrame::hover(const QPoint& place) {
    const auto hit = nearest(place);
    QCPItemText* note = m_plot->note;
    if (!hit) {
        if (note->visible()) {
            note->setVisible(false);
            m_plot->widget->replot(QCustomPlot::rpQueuedReplot);
        }
        return;
    }
    const Marks& marks = m_content.marks[hit->series];
    QString text = QString("%1 %2").arg(
        m_content.xTitle.section(',', 0, 0),
        m_content.xIsDate             ? qs(dateText(static_cast<std::int32_t>(marks.x[hit->point])))
        : m_content.xLevels.isEmpty() ? qs(readableText(marks.x[hit->point]))
                                      : m_content.xLevels.value(qRound(marks.x[hit->point])));
    text +=
        QString("\n%1 %2").arg(m_content.yTitle.section(',', 0, 0), qs(readableText(marks.y[hit->point])));
    if (!marks.rows.empty())
        text = QString("row %1").arg(qs(countText(marks.rows[hit->point] + 1))) +
               (m_describe ? ", " + m_describe(marks.rows[hit->point]) : QString()) + "\n" + text;
    note->setText(text);
    const bool leftHalf = place.x() < m_plot->widget->width() / 2;
    const bool topHalf = place.y() < m_plot->widget->height() / 2;
    note->setPositionAlignment((leftHalf ? Qt::AlignLeft : Qt::AlignRight) |
                               (topHalf ? Qt::AlignTop : Qt::AlignBottom));
    note->position->setCoords(place.x() + (leftHalf ? 12 : -12), place.y() + (topHalf ? 12 : -12));
    note->setVisible(true);
    m_plot->widget->replot(QCustomPlot::rpQueuedReplot);
}

bool PlotFrame::eventFilter(QObject* watched, QEvent* event) {
    if (watched != m_plot->widget) return QWidget::eventFilter(watched, event);
    QCustomPlot* plot = m_plot->widget;
    if (event->type() == QEvent::MouseButtonPress) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        setFocus(Qt::MouseFocusReason);
        m_pressed = mouse->pos();
        m_plot->panFrom = mouse->pos();
        m_plot->panning = mouse->button() == Qt::LeftButton;
    } else if (event->type() == QEvent::MouseMove) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        if (m_plot->panning && (mouse->buttons() & Qt::LeftButton) &&
            (mouse->pos() - m_pressed).manhattanLength() > 6) {
            plot->xAxis->moveRange(plot->xAxis->pixelToCoord(m_plot->panFrom.x()) -
                                   plot->xAxis->pixelToCoord(mouse->pos().x()));
            plot->yAxis->moveRange(plot->yAxis->pixelToCoord(m_plot->panFrom.y()) -
                                   plot->yAxis->pixelToCoord(mouse->pos().y()));
            m_plot->panFrom = mouse->pos();
            drawDensity();
            plot->replot(QCustomPlot::rpQueuedReplot);
        } else if (mouse->buttons() == Qt::NoButton) {
            hover(mouse->pos());
        }
    } else if (event->type() == QEvent::MouseButtonRelease) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        m_plot->panning = false;
        if (mouse->button() == Qt::LeftButton && (mouse->pos() - m_pressed).manhattanLength() <= 6)
            if (const auto hit = nearest(mouse->pos()); hit && !m_content.marks[hit->series].rows.empty())
                emit rowClicked(m_content.marks[hit->series].rows[hit->point]);
    } else if (event->type() == QEvent::MouseButtonDblClick) {
        showAll();
        return true;
    } else if (event->type() == QEvent::Wheel) {
        QMetaObject::invokeMethod(
            this, [this] { drawDensity(); }, Qt::QueuedConnection);
    } else if (event->type() == QEvent::Leave && m_plot->note && m_plot->note->visible()) {
        m_plot->note->setVisible(false);
        plot->replot(QCustomPlot::rpQueuedReplot);
    }
    return QWidget::eventFilter(watched, event);
}

void PlotFrame::zoom(double factor) {
    QCustomPlot* plot = m_plot->widget;
    plot->xAxis->scaleRange(factor, plot->xAxis->range().center());
    plot->yAxis->scaleRange(factor, plot->yAxis->range().center());
    drawDensity();
    plot->replot();
}

void PlotFrame::keyPressEvent(QKeyEvent* event) {
    QCustomPlot* plot = m_plot->widget;
    auto move = [&](double x, double y) {
        plot->xAxis->moveRange(x * plot->xAxis->range().size());
        plot->yAxis->moveRange(y * plot->yAxis->range().size());
        drawDensity();
        plot->replot();
    };
    if (event->matches(QKeySequence::Copy))
        copyPicture();
    else if (event->key() == Qt::Key_Plus)
        zoom(0.8);
    else if (event->key() == Qt::Key_Minus)
        zoom(1.25);
    else if (event->key() == Qt::Key_Home)
        showAll();
    else if (event->key() == Qt::Key_Left)
        move(-0.1, 0);
    else if (event->key() == Qt::Key_Right)
        move(0.1, 0);
    else if (event->key() == Qt::Key_Up)
        move(0, 0.1);
    else if (event->key() == Qt::Key_Down)
        move(0, -0.1);
    else
        QWidget::keyPressEvent(event);
}

void PlotFrame::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    menu.addAction(tr("Show all"), QKeySequence(Qt::Key_Home), this, &PlotFrame::showAll);
    menu.addAction(tr("Copy picture"), QKeySequence::Copy, this, &PlotFrame::copyPicture);
    auto ask = [this](const QString& filter, const QString& name) {
        const QString path = QFileDialog::getSaveFileName(this, tr("Save picture"), name, filter);
        if (!path.isEmpty()) savePicture(path);
    };
    menu.addAction(tr("Save as PNG…"), this, [ask] { ask("PNG (*.png)", "plot.png"); });
    menu.addAction(tr("Save as SVG…"), this, [ask] { ask("SVG (*.svg)", "plot.svg"); });
    menu.addAction(tr("Show as table"), this, &PlotFrame::showAsTable);
    menu.exec(event->globalPos());
}

bool PlotFrame::savePicture(const QString& path) {
    m_plot->note->setVisible(false);
    if (path.endsWith(".svg", Qt::CaseInsensitive)) {
        QSvgGenerator generator;
        generator.setFileName(path);
        generator.setSize(size());
        generator.setViewBox(QRect(QPoint(0, 0), size()));
        generator.setTitle(m_content.yTitle + " against " + m_content.xTitle);
        QCPPainter painter;
        if (!painter.begin(&generator)) return false;
        painter.setMode(QCPPainter::pmVectorized);
        m_plot->widget->toPainter(&painter, width(), height());
        return painter.end();
    }
    return m_plot->widget->savePng(path, width(), height(), 2.0);
}

void PlotFrame::copyPicture() {
    QApplication::clipboard()->setPixmap(m_plot->widget->toPixmap(width(), height(), 2.0));
}

void PlotFrame::showAsTable() {
    struct Cell {
        QString series;
        std::optional<std::size_t> row;
        double x, y;
    };
    auto cells = std::make_shared<std::vector<Cell>>();
    for (const Marks& m : m_content.marks)
        for (std::size_t i = 0; i < m.x.size(); ++i)
            cells->push_back(
                {m.name, m.rows.empty() ? std::nullopt : std::optional(m.rows[i]), m.x[i], m.y[i]});
    for (const Line& l : m_content.lines)
        for (std::size_t i = 0; i < l.x.size(); ++i)
            cells->push_back({l.name.isEmpty() ? l.label : l.name, {}, l.x[i], l.y[i]});
    for (const Bars& b : m_content.bars)
        for (std::size_t i = 0; i < b.heights.size(); ++i)
            cells->push_back({b.name, {}, b.low + b.width * (static_cast<double>(i) + 0.5), b.heights[i]});
    auto* dialog = new QDialog(this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle(m_content.yTitle + " against " + m_content.xTitle);
    dialog->resize(560, 480);
    auto* model = new GridModel(dialog);
    auto at = [cells](int row) -> const Cell& { return (*cells)[static_cast<std::size_t>(row)]; };
    const bool date = m_content.xIsDate;
    const QStringList levels = m_content.xLevels;
    model->setContent({static_cast<int>(cells->size()),
                       {{"series", false, [at](int r) { return at(r).series; }, {}, {}},
                        {"row",
                         true,
                         [at](int r) { return at(r).row ? qs(countText(*at(r).row + 1)) : QString(); },
                         {},
                         {}},
                        {m_content.xTitle,
                         true,
                         [at, date, levels](int r) {
                             return date               ? qs(dateText(static_cast<std::int32_t>(at(r).x)))
                                    : levels.isEmpty() ? qs(readableText(at(r).x, 6))
                                                       : levels.value(qRound(at(r).x));
                         },
                         [at](int r) { return QVariant(at(r).x); },
                         {}},
                        {m_content.yTitle,
                         true,
                         [at](int r) { return qs(readableText(at(r).y, 6)); },
                         [at](int r) { return QVariant(at(r).y); },
                         {}}},
                       {},
                       {},
                       {}});
    auto* view = new GridView(tr("Values of the plot"), dialog);
    view->show(model);
    auto* layout = new QVBoxLayout(dialog);
    layout->addWidget(view);
    dialog->show();
}

} // namespace oxgoad
