// How the content of a plot becomes graphs of the plotting library.
#include "app/plots/plot_parts.h"
#include "look/density.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t mostMarks = 40000;
/// Marked rows beyond this are drawn as a density too.
constexpr std::size_t mostMarked = 3000;
constexpr int cellsAcross = 240;
constexpr int cellsUp = 160;
const QColor faint{0xEC, 0xEF, 0xEC};

QVector<double> along(const PlotScale& scale, const std::vector<double>& values) {
    QVector<double> out(static_cast<qsizetype>(values.size()));
    for (std::size_t i = 0; i < values.size(); ++i)
        out[static_cast<qsizetype>(i)] = scale.to(values[i]);
    return out;
}

double largestMagnitude(const PlotFrame::Content& content, bool up) {
    double largest = 0;
    auto take = [&](const std::vector<double>& values) {
        for (const double v : values)
            if (std::isfinite(v)) largest = std::max(largest, std::fabs(v));
    };
    for (const auto& m : content.marks)
        take(up ? m.y : m.x);
    for (const auto& l : content.lines)
        take(up ? l.y : l.x);
    for (const auto& b : content.bars)
        if (b.sideways == up)
            take({b.low, b.low + b.width * static_cast<double>(b.heights.size())});
        else
            take(b.heights);
    return largest;
}

/// Counts over the cells of a colour map, as shades: few rows must still be seen.
void shade(QCPColorMap& map, const std::vector<double>& counts) {
    double largest = 0;
    for (std::size_t i = 0; i < counts.size(); ++i) {
        const double value = std::log1p(counts[i]);
        largest = std::max(largest, value);
        map.data()->setCell(static_cast<int>(i % cellsAcross), static_cast<int>(i / cellsAcross), value);
    }
    map.setDataRange({0, std::max(largest, 1e-9)});
}

void fitCells(QCPColorMap& map, const QCPRange& x, const QCPRange& y) {
    map.data()->setSize(cellsAcross, cellsUp);
    map.data()->setRange({x.lower + x.size() / cellsAcross / 2, x.upper - x.size() / cellsAcross / 2},
                         {y.lower + y.size() / cellsUp / 2, y.upper - y.size() / cellsUp / 2});
}

QCPColorMap* densityMap(QCustomPlot& plot, const QColor& few, const QColor& some, const QColor& many) {
    auto* map = new QCPColorMap(plot.xAxis, plot.yAxis);
    QCPColorGradient gradient;
    gradient.clearColorStops();
    gradient.setColorStopAt(0, QColor(255, 255, 255, 0));
    gradient.setColorStopAt(0.02, few);
    gradient.setColorStopAt(0.4, some);
    gradient.setColorStopAt(1, many);
    map->setGradient(gradient);
    map->setInterpolate(false);
    return map;
}

} // namespace

void PlotFrame::setScales() {
    m_x = m_content.xIsDate ? PlotScale::dates()
          : m_content.xLog  ? PlotScale::logarithmic()
                            : PlotScale::plain(largestMagnitude(m_content, false));
    m_y = m_content.yLog ? PlotScale::logarithmic() : PlotScale::plain(largestMagnitude(m_content, true));
}

void PlotFrame::build() {
    QCustomPlot* plot = m_plot->widget;
    plot->clearPlottables();
    plot->clearItems();
    m_plot->graphs.clear();
    m_plot->bands.clear();
    m_plot->density = nullptr;
    const bool nothing = m_content.marks.empty() && m_content.lines.empty() && m_content.bars.empty() &&
                         m_content.bands.empty();
    setScales();
    buildAxes(nothing);
    buildLines();
    buildMarks();
    for (const Line& line : m_content.lines) {
        auto* curve = plot->addGraph();
        curve->setData(along(m_x, line.x), along(m_y, line.y));
        curve->setPen(QPen(line.colour, line.width, line.style));
        curve->setName(line.name);
        if (line.name.isEmpty()) curve->removeFromLegend();
        if (!line.label.isEmpty() && !line.x.empty()) {
            auto* label = new QCPItemText(plot);
            label->position->setCoords(m_x.to(line.x.back()), m_y.to(line.y.back()));
            label->setPositionAlignment(Qt::AlignLeft | Qt::AlignVCenter);
            label->setText(" " + line.label);
            label->setFont(theme::font(theme::smallSize, true));
            label->setColor(line.colour);
            label->setClipToAxisRect(false);
        }
    }
    buildOverlay(nothing);
    const bool legend = m_content.legend && !nothing;
    plot->legend->setVisible(legend);
    placeLegend(legend);
    if (!legend) return;
    plot->legend->setFont(theme::font(theme::smallSize));
    plot->legend->setTextColor(theme::quiet);
    plot->legend->setBorderPen(Qt::NoPen);
    plot->legend->setBrush(Qt::NoBrush);
    plot->legend->setRowSpacing(0);
    plot->legend->setMargins(QMargins(4, 0, 4, 0));
    plot->legend->setIconSize(18, 10);
    // As many beside each other as fit whole.
    const QFontMetrics metrics(theme::font(theme::smallSize));
    int widest = 1;
    for (int i = 0; i < plot->legend->itemCount(); ++i)
        if (auto* item = qobject_cast<QCPPlottableLegendItem*>(plot->legend->item(i)))
            widest = std::max(widest, metrics.horizontalAdvance(item->plottable()->name()) + 18 + 14);
    plot->legend->setWrap(std::max(1, (width() - 20) / widest));
    plot->legend->setFillOrder(QCPLegend::foColumnsFirst, true);
}

void PlotFrame::buildAxes(bool nothing) {
    QCustomPlot* plot = m_plot->widget;
    for (QCPAxis* axis : {plot->xAxis, plot->yAxis}) {
        axis->setVisible(!nothing);
        axis->setLabelFont(theme::font(theme::smallSize));
        axis->setTickLabelFont(theme::font(theme::smallSize));
        axis->setLabelColor(theme::quiet);
        axis->setTickLabelColor(theme::quiet);
        axis->setBasePen(QPen(theme::ink, 1));
        axis->setTickPen(QPen(theme::ink, 1));
        axis->setSubTickPen(Qt::NoPen);
        axis->setTicker((axis == plot->xAxis ? m_x : m_y).ticker());
        axis->grid()->setPen(QPen(faint, 1));
        const bool zero = m_content.zeroLine && axis == plot->yAxis && !m_y.isLog();
        axis->grid()->setZeroLinePen(QPen(zero ? theme::quiet : faint, 1));
    }
    plot->xAxis->setLabel(m_content.xTitle);
    plot->yAxis->setLabel(m_content.yTitle);
    plot->xAxis->setTickLabelRotation(0);
    labelLevels();
}

/// Bands and bars, which lie below the marks.
void PlotFrame::buildLines() {
    QCustomPlot* plot = m_plot->widget;
    for (const Band& band : m_content.bands) {
        auto* low = plot->addGraph();
        auto* high = plot->addGraph();
        m_plot->bands.emplace_back(low, high);
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
        const PlotScale& key = bars.sideways ? m_y : m_x;
        const PlotScale& value = bars.sideways ? m_x : m_y;
        QVector<double> keys;
        for (std::size_t i = 0; i < bars.heights.size(); ++i)
            keys << key.to(bars.low + bars.width * (static_cast<double>(i) + 0.5));
        drawn->setData(keys, along(value, bars.heights), true);
        drawn->setWidth((key.to(bars.low + bars.width) - key.to(bars.low)) * 0.92);
        drawn->setPen(Qt::NoPen);
        QColor fill = bars.colour;
        fill.setAlpha(150);
        drawn->setBrush(fill);
        drawn->setName(bars.name);
        if (bars.name.isEmpty()) drawn->removeFromLegend();
    }
}

void PlotFrame::buildMarks() {
    QCustomPlot* plot = m_plot->widget;
    std::size_t count = 0;
    for (const Marks& marks : m_content.marks)
        count += marks.x.size();
    const bool dense = count > mostMarks;
    for (const Marks& marks : m_content.marks) {
        auto* graph = plot->addGraph();
        graph->setLineStyle(QCPGraph::lsNone);
        graph->setAdaptiveSampling(false); // it drops points and falsifies the density
        graph->setName(marks.name);
        if (!dense) graph->setData(along(m_x, marks.x), along(m_y, marks.y));
        if (marks.name.isEmpty()) graph->removeFromLegend();
        m_plot->graphs.push_back(graph);
    }
    setMarkOpacity(m_opacity);
    if (dense) {
        m_plot->density = densityMap(*plot, QColor(0xD6, 0xDC, 0xEA), theme::learning, theme::ink);
        m_plot->density->setName(tr("rows, darker where there are more"));
    }
    for (const Box& box : m_content.boxes) {
        auto* drawn = new QCPStatisticalBox(plot->xAxis, plot->yAxis);
        drawn->addData(box.x, m_y.to(box.lowerWhisker), m_y.to(box.lowerQuartile), m_y.to(box.median),
                       m_y.to(box.upperQuartile), m_y.to(box.upperWhisker));
        drawn->setWidth(0.56);
        drawn->setPen(QPen(theme::ink, 1.1));
        drawn->setMedianPen(QPen(theme::ink, 2.4));
        drawn->setBrush(QColor(255, 255, 255, 150));
        drawn->setWhiskerWidth(0.2);
        drawn->removeFromLegend();
    }
}

void PlotFrame::setMarkOpacity(double opacity) {
    m_opacity = opacity;
    for (std::size_t s = 0; s < m_plot->graphs.size(); ++s) {
        const Marks& marks = m_content.marks[s];
        QColor colour = marks.colour.value_or(theme::markColour(marks.mark));
        colour.setAlphaF(colour.alphaF() * static_cast<float>(opacity));
        m_plot->graphs[s]->setScatterStyle(
            QCPScatterStyle(theme::mark(marks.mark, colour, devicePixelRatioF())));
    }
}

void PlotFrame::redraw() {
    m_plot->widget->replot();
}

/// What changes with the pointer and the selection lies on a layer of its own, so that the marks below need
/// not be drawn again.
void PlotFrame::buildOverlay(bool nothing) {
    QCustomPlot* plot = m_plot->widget;
    m_plot->markedDensity =
        densityMap(*plot, QColor(0xE3, 0xB6, 0xAE), QColor(0xC8, 0x6A, 0x5B), theme::alarm);
    m_plot->marked = plot->addGraph();
    m_plot->marked->setLineStyle(QCPGraph::lsNone);
    m_plot->marked->setAdaptiveSampling(false);
    m_plot->marked->setScatterStyle(
        QCPScatterStyle(QCPScatterStyle::ssSquare, QPen(theme::alarm, 1), QBrush(theme::alarm), 4));
    m_plot->selection = plot->addGraph();
    m_plot->selection->setLineStyle(QCPGraph::lsNone);
    m_plot->selection->setScatterStyle(
        QCPScatterStyle(QCPScatterStyle::ssCircle, QPen(theme::alarm, 2), Qt::NoBrush, 15));
    for (QCPAbstractPlottable* p : std::initializer_list<QCPAbstractPlottable*>{
             m_plot->markedDensity, m_plot->marked, m_plot->selection}) {
        p->setLayer("overlay");
        p->removeFromLegend();
    }
    m_plot->note = new QCPItemText(plot);
    m_plot->note->setLayer("overlay");
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

/// An outline of tens of thousands of corners takes seconds to fill: what it covers is told apart no finer
/// than eyes can, over what is in view and as much again on both sides.
void PlotFrame::drawBands() {
    constexpr std::size_t mostCorners = 2000;
    const QCPRange x = m_plot->widget->xAxis->range();
    for (std::size_t b = 0; b < m_plot->bands.size(); ++b) {
        const Band& band = m_content.bands[b];
        const auto [low, high] = m_plot->bands[b];
        const bool many = band.x.size() > mostCorners;
        if (!many && !low->data()->isEmpty()) continue;
        const BandPoints points = many ? bandPoints(band.x, band.low, band.high, m_x.from(x.lower - x.size()),
                                                    m_x.from(x.upper + x.size()), mostCorners)
                                       : BandPoints{band.x, band.low, band.high};
        low->setData(along(m_x, points.x), along(m_y, points.low));
        high->setData(along(m_x, points.x), along(m_y, points.high));
    }
}

void PlotFrame::drawInView() {
    drawBands();
    if (!m_plot->density) return;
    QCustomPlot* plot = m_plot->widget;
    const QCPRange x = plot->xAxis->range();
    const QCPRange y = plot->yAxis->range();
    fitCells(*m_plot->density, x, y);
    std::vector<double> counts(static_cast<std::size_t>(cellsAcross) * cellsUp, 0);
    const bool plain = !m_x.isLog() && !m_y.isLog();
    for (const Marks& marks : m_content.marks) {
        std::vector<double> px, py;
        if (!plain) {
            px.reserve(marks.x.size());
            py.reserve(marks.x.size());
            for (std::size_t i = 0; i < marks.x.size(); ++i) {
                px.push_back(m_x.to(marks.x[i]));
                py.push_back(m_y.to(marks.y[i]));
            }
        }
        const Density d = plain ? density(marks.x, marks.y, m_x.from(x.lower), m_x.from(x.upper),
                                          m_y.from(y.lower), m_y.from(y.upper), cellsAcross, cellsUp)
                                : density(px, py, x.lower, x.upper, y.lower, y.upper, cellsAcross, cellsUp);
        for (std::size_t i = 0; i < counts.size(); ++i)
            counts[i] += d.counts[i];
    }
    shade(*m_plot->density, counts);
}

void PlotFrame::drawSelection() {
    QCustomPlot* plot = m_plot->widget;
    m_plot->selection->data()->clear();
    m_plot->marked->data()->clear();
    m_plot->markedDensity->setVisible(false);
    QVector<double> px, py;
    for (const Marks& marks : m_content.marks)
        for (std::size_t i = 0; i < marks.rows.size(); ++i) {
            const std::size_t row = marks.rows[i];
            if (m_selected && row == *m_selected)
                m_plot->selection->addData(m_x.to(marks.x[i]), m_y.to(marks.y[i]));
            if (isMarked(marks, i)) {
                px << m_x.to(marks.x[i]);
                py << m_y.to(marks.y[i]);
            }
        }
    if (static_cast<std::size_t>(px.size()) <= mostMarked) {
        m_plot->marked->setData(px, py);
        return;
    }
    const QCPRange x = plot->xAxis->range();
    const QCPRange y = plot->yAxis->range();
    fitCells(*m_plot->markedDensity, x, y);
    const Density d = density({px.constData(), static_cast<std::size_t>(px.size())},
                              {py.constData(), static_cast<std::size_t>(py.size())}, x.lower, x.upper,
                              y.lower, y.upper, cellsAcross, cellsUp);
    shade(*m_plot->markedDensity, {d.counts.begin(), d.counts.end()});
    m_plot->markedDensity->setVisible(true);
}

bool PlotFrame::showsDensity() const {
    return m_plot->density != nullptr;
}

} // namespace oxgoad
