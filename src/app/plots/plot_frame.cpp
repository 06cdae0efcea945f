#include "app/plots/plot_frame.h"

#include "app/theme.h"

#include "app/plots/plot_parts.h"
#include "base/text.h"
#include "look/inside.h"
#include "workspace/text.h"

#include <QContextMenuEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QVBoxLayout>
#include <cmath>

namespace oxgoad {

namespace {

constexpr double hitRadius = 9;
constexpr int stillAClick = 6;

} // namespace

/// The box or line that is being drawn over the plot.
class PlotFrame::Rubber : public QWidget {
public:
    explicit Rubber(QWidget* parent) : QWidget(parent) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
        hide();
    }
    void begin(const QPoint& place, bool round) {
        m_round = round;
        m_outline = QPolygonF({QPointF(place)});
        setGeometry(parentWidget()->rect());
        show();
        raise();
    }
    void follow(const QPoint& place) {
        if (m_round)
            m_outline << QPointF(place);
        else
            m_outline = QPolygonF(QRectF(m_outline.first(), QPointF(place)));
        update();
    }
    const QPolygonF& outline() const { return m_outline; }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        painter.setRenderHint(QPainter::Antialiasing);
        painter.setPen(QPen(theme::alarm, 1, Qt::DashLine));
        painter.setBrush(QColor(0xA3, 0x3B, 0x2C, 22));
        painter.drawPolygon(m_outline);
    }

private:
    QPolygonF m_outline;
    bool m_round = false;
};

PlotFrame::PlotFrame(const QString& accessibleName, QWidget* parent)
    : QWidget(parent), m_plot(std::make_unique<Plot>()) {
    setAccessibleName(accessibleName);
    setFocusPolicy(Qt::StrongFocus);
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(1, 1, 1, 1); // the frame of the focus
    auto* plot = new QCustomPlot(this);
    m_plot->widget = plot;
    m_plot->rubber = new Rubber(plot);
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
    build(); // there is always something whole for pointer and keys to be over, if only nothing
}

PlotFrame::~PlotFrame() = default;

void PlotFrame::clear(const QString& why) {
    Content none;
    none.summary = why;
    show(none);
}

void PlotFrame::show(Content content) {
    m_content = std::move(content);
    build();
    showAll();
    setAccessibleDescription(m_content.summary); // others are told of what is whole
}

namespace {

/// Smallest and largest of what a scale has a place for.
struct Extent {
    const PlotScale& scale;
    double low = INFINITY, high = -INFINITY;
    void take(double value) {
        if (!scale.has(value)) return;
        low = std::min(low, value);
        high = std::max(high, value);
    }
    void take(const std::vector<double>& values) {
        for (const double v : values)
            take(v);
    }
    /// In coordinates, with room on both sides.
    QCPRange padded(double before, double after) const {
        if (low > high) return scale.isLog() ? QCPRange(-1, 1) : QCPRange(0, scale.to(1));
        const double from = scale.to(low), to = scale.to(high);
        const double size = to > from ? to - from : std::max(1e-9, std::fabs(from));
        return {from - before * size, to + after * size};
    }
};

} // namespace

void PlotFrame::labelLevels() {
    QCPAxis* axis = m_plot->widget->xAxis;
    const auto count = static_cast<int>(m_content.xLevels.size());
    if (count == 0) return;
    constexpr int beside = 90, longest = 16, line = 14;
    const double each = std::max(1, width() - beside) / static_cast<double>(count);
    const QFontMetrics metrics(theme::font(theme::smallSize));
    QStringList names;
    int widest = 0;
    for (const QString& level : m_content.xLevels) {
        names << (level.size() > longest ? level.left(longest - 1) + "…" : level);
        widest = std::max(widest, metrics.horizontalAdvance(names.back()));
    }
    // Names that have no room beside each other are turned; where even so there is none, some are left out.
    const bool turned = widest + 8 > each;
    const int step = turned ? std::max(1, static_cast<int>(std::ceil(line / each))) : 1;
    auto ticker = QSharedPointer<QCPAxisTickerText>::create();
    for (int i = 0; i < count; i += step)
        ticker->addTick(i, names[i]);
    axis->setTicker(ticker);
    axis->setTickLabelRotation(turned ? -60 : 0);
}

void PlotFrame::showAll() {
    QCustomPlot* plot = m_plot->widget;
    Extent x{m_x}, y{m_y};
    for (const Marks& m : m_content.marks) {
        x.take(m.x);
        y.take(m.y);
    }
    bool labels = false;
    for (const Line& l : m_content.lines) {
        x.take(l.x);
        y.take(l.y);
        labels = labels || !l.label.isEmpty();
    }
    for (const Band& b : m_content.bands) {
        y.take(b.low);
        y.take(b.high);
    }
    for (const Box& b : m_content.boxes) {
        y.take(b.lowerWhisker);
        y.take(b.upperWhisker);
    }
    bool sideways = false, bars = false;
    for (const Bars& b : m_content.bars) {
        (b.sideways ? sideways : bars) = true;
        Extent& key = b.sideways ? y : x;
        Extent& value = b.sideways ? x : y;
        key.take(b.low);
        key.take(b.low + b.width * static_cast<double>(b.heights.size()));
        value.take(0);
        value.take(b.heights);
    }
    QCPRange across = x.padded(0.03, labels ? 0.12 : 0.03);
    QCPRange up = y.padded(0.05, 0.05);
    if (!m_content.xLevels.isEmpty()) across = {-0.6, static_cast<double>(m_content.xLevels.size()) - 0.4};
    if (sideways) across.lower = 0;
    if (bars && y.low >= 0) up.lower = 0;
    if (m_content.xRange) across = {m_x.to((*m_content.xRange)[0]), m_x.to((*m_content.xRange)[1])};
    if (m_content.yRange) up = {m_y.to((*m_content.yRange)[0]), m_y.to((*m_content.yRange)[1])};
    plot->xAxis->setRange(across);
    plot->yAxis->setRange(up);
    labelLevels();
    // As many labels as have room beside each other.
    const QFontMetrics metrics(theme::font(theme::smallSize));
    int widest = 60;
    if (!m_content.xIsDate && m_content.xLevels.isEmpty())
        for (const double end : {across.lower, across.upper})
            widest = std::max(widest, metrics.horizontalAdvance(qs(shortText(m_x.from(end)))));
    plot->xAxis->ticker()->setTickCount(std::clamp(width() / (3 * widest / 2), 2, 8));
    plot->yAxis->ticker()->setTickCount(std::clamp(height() / 45, 2, 8));
    if (m_content.proportion) {
        // Whichever axis has room to spare shows more than it needs.
        plot->replot();
        plot->yAxis->setScaleRatio(plot->xAxis, *m_content.proportion);
        if (plot->yAxis->range().size() < up.size()) {
            plot->yAxis->setRange(up);
            plot->xAxis->setScaleRatio(plot->yAxis, 1 / *m_content.proportion);
        }
    }
    drawInView();
    drawSelection();
    plot->replot();
}

std::array<double, 4> PlotFrame::extent() const {
    const auto* plot = m_plot->widget;
    return {m_x.from(plot->xAxis->range().lower), m_x.from(plot->xAxis->range().upper),
            m_y.from(plot->yAxis->range().lower), m_y.from(plot->yAxis->range().upper)};
}

void PlotFrame::setSelectedRow(std::optional<std::size_t> row) {
    if (row == m_selected) return;
    m_selected = row;
    replotSelection();
}

void PlotFrame::setMarkedRows(RowMask marked) {
    if (marked == m_marked) return;
    m_marked = std::move(marked);
    replotSelection();
}

void PlotFrame::replotSelection() {
    drawSelection();
    m_plot->widget->layer("overlay")->replot();
}

std::size_t PlotFrame::marksMarked() const {
    std::size_t count = 0;
    for (const Marks& marks : m_content.marks)
        for (std::size_t i = 0; i < marks.rows.size(); ++i)
            count += isMarked(marks, i);
    return count;
}

bool PlotFrame::isMarked(const Marks& marks, std::size_t point) const {
    if (!m_marked) return false;
    const auto marked = [&](std::size_t row) { return row < m_marked->size() && (*m_marked)[row] != 0; };
    return marks.members.empty()
               ? marked(marks.rows[point])
               : std::any_of(marks.members[point].begin(), marks.members[point].end(), marked);
}

QPointF PlotFrame::pixelOf(double x, double y) const {
    return {m_plot->widget->xAxis->coordToPixel(m_x.to(x)), m_plot->widget->yAxis->coordToPixel(m_y.to(y))};
}

std::optional<QPoint> PlotFrame::placeOfRow(std::size_t row) const {
    for (const Marks& marks : m_content.marks)
        for (std::size_t i = 0; i < marks.rows.size(); ++i)
            if (marks.rows[i] == row)
                return m_plot->widget->mapTo(this, pixelOf(marks.x[i], marks.y[i]).toPoint());
    return std::nullopt;
}

std::optional<PlotFrame::Hit> PlotFrame::nearest(const QPoint& place) const {
    const auto* plot = m_plot->widget;
    std::optional<Hit> best;
    double least = hitRadius * hitRadius;
    // Pixels are linear in coordinates: two conversions instead of one a point.
    const double x0 = plot->xAxis->coordToPixel(0), x1 = plot->xAxis->coordToPixel(1) - x0;
    const double y0 = plot->yAxis->coordToPixel(0), y1 = plot->yAxis->coordToPixel(1) - y0;
    for (std::size_t s = 0; s < m_content.marks.size(); ++s) {
        const Marks& marks = m_content.marks[s];
        for (std::size_t i = 0; i < marks.x.size(); ++i) {
            const double dx = x0 + x1 * m_x.to(marks.x[i]) - place.x();
            const double dy = y0 + y1 * m_y.to(marks.y[i]) - place.y();
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
            m_plot->widget->layer("overlay")->replot();
        }
        return;
    }
    const Marks& marks = m_content.marks[hit->series];
    QString text = QString("%1 %2").arg(
        m_content.xTitle.section(',', 0, 0),
        m_content.xIsDate             ? qs(dateText(static_cast<std::int32_t>(marks.x[hit->point])))
        : m_content.xLevels.isEmpty() ? qs(shortText(marks.x[hit->point]))
                                      : m_content.xLevels.value(qRound(marks.x[hit->point])));
    text += QString("\n%1 %2").arg(m_content.yTitle.section(',', 0, 0), qs(shortText(marks.y[hit->point])));
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
    m_plot->widget->layer("overlay")->replot();
}

void PlotFrame::markInside(const QPolygonF& outline, bool add) {
    const auto* plot = m_plot->widget;
    std::vector<double> cornersX, cornersY; // in coordinates of the axes
    for (const QPointF& corner : outline) {
        cornersX.push_back(plot->xAxis->pixelToCoord(corner.x()));
        cornersY.push_back(plot->yAxis->pixelToCoord(corner.y()));
    }
    const Outline inside(cornersX, cornersY);
    std::vector<std::size_t> rows;
    for (const Marks& marks : m_content.marks)
        for (std::size_t i = 0; i < marks.rows.size(); ++i)
            if (inside.contains(m_x.to(marks.x[i]), m_y.to(marks.y[i]))) {
                if (marks.members.empty())
                    rows.push_back(marks.rows[i]);
                else
                    rows.insert(rows.end(), marks.members[i].begin(), marks.members[i].end());
            }
    std::sort(rows.begin(), rows.end());
    emit rowsMarked(rows, add);
}

void PlotFrame::markInView() {
    markInside(QPolygonF(QRectF(m_plot->widget->axisRect()->rect())), false);
}

bool PlotFrame::eventFilter(QObject* watched, QEvent* event) {
    if (watched != m_plot->widget) return QWidget::eventFilter(watched, event);
    QCustomPlot* plot = m_plot->widget;
    if (event->type() == QEvent::MouseButtonPress) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        setFocus(Qt::MouseFocusReason);
        m_plot->pressed = m_plot->panFrom = mouse->pos();
        m_plot->panning = mouse->button() == Qt::LeftButton;
    } else if (event->type() == QEvent::MouseMove) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        const bool far = (mouse->pos() - m_plot->pressed).manhattanLength() > stillAClick;
        if (m_plot->rubber->isVisible()) {
            m_plot->rubber->follow(mouse->pos());
        } else if (m_plot->panning && (mouse->buttons() & Qt::LeftButton) && far) {
            const bool box = (mouse->modifiers() & Qt::ShiftModifier) || m_drag == Drag::box;
            const bool round = (mouse->modifiers() & Qt::ControlModifier) || m_drag == Drag::round;
            if (box || round) {
                m_plot->note->setVisible(false);
                m_plot->rubber->begin(m_plot->pressed, round && !(mouse->modifiers() & Qt::ShiftModifier));
                m_plot->rubber->follow(mouse->pos());
            } else {
                plot->xAxis->moveRange(plot->xAxis->pixelToCoord(m_plot->panFrom.x()) -
                                       plot->xAxis->pixelToCoord(mouse->pos().x()));
                plot->yAxis->moveRange(plot->yAxis->pixelToCoord(m_plot->panFrom.y()) -
                                       plot->yAxis->pixelToCoord(mouse->pos().y()));
                m_plot->panFrom = mouse->pos();
                drawInView();
                plot->replot(QCustomPlot::rpQueuedReplot);
            }
        } else if ((mouse->buttons() & Qt::MiddleButton) && far) {
            dragPicture();
        } else if (mouse->buttons() == Qt::NoButton) {
            hover(mouse->pos());
        }
    } else if (event->type() == QEvent::MouseButtonRelease) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        m_plot->panning = false;
        if (m_plot->rubber->isVisible()) {
            m_plot->rubber->hide();
            // With both keys what is marked stays so.
            markInside(m_plot->rubber->outline(), (mouse->modifiers() & Qt::ShiftModifier) &&
                                                      (mouse->modifiers() & Qt::ControlModifier));
        } else if (mouse->button() == Qt::LeftButton &&
                   (mouse->pos() - m_plot->pressed).manhattanLength() <= stillAClick) {
            if (const auto hit = nearest(mouse->pos()); hit && !m_content.marks[hit->series].rows.empty()) {
                const std::size_t row = m_content.marks[hit->series].rows[hit->point];
                if (mouse->modifiers() & Qt::ControlModifier)
                    emit rowsMarked({row}, true);
                else
                    emit rowClicked(row);
            }
        }
    } else if (event->type() == QEvent::MouseButtonDblClick) {
        const auto hit = nearest(static_cast<QMouseEvent*>(event)->pos());
        if (hit && !m_content.marks[hit->series].rows.empty())
            emit rowOpened(m_content.marks[hit->series].rows[hit->point]);
        else
            showAll();
        return true;
    } else if (event->type() == QEvent::Wheel) {
        QMetaObject::invokeMethod(
            this, [this] { drawInView(); }, Qt::QueuedConnection);
    } else if (event->type() == QEvent::ContextMenu) {
        contextMenuEvent(static_cast<QContextMenuEvent*>(event)); // the plotting library passes nothing on
        return true;
    } else if (event->type() == QEvent::Leave && m_plot->note->visible()) {
        m_plot->note->setVisible(false);
        plot->layer("overlay")->replot();
    }
    return QWidget::eventFilter(watched, event);
}

void PlotFrame::zoom(double factor) {
    QCustomPlot* plot = m_plot->widget;
    plot->xAxis->scaleRange(factor, plot->xAxis->range().center());
    plot->yAxis->scaleRange(factor, plot->yAxis->range().center());
    drawInView();
    drawSelection();
    plot->replot();
}

bool PlotFrame::event(QEvent* event) {
    // Escape unmarks rows before it stops anything.
    if (event->type() == QEvent::ShortcutOverride && m_marked &&
        static_cast<QKeyEvent*>(event)->key() == Qt::Key_Escape) {
        event->accept();
        return true;
    }
    return QWidget::event(event);
}

void PlotFrame::paintEvent(QPaintEvent* event) {
    QWidget::paintEvent(event);
    if (!hasFocus()) return;
    QPainter painter(this);
    painter.setPen(QPen(theme::focus, 1));
    painter.drawRect(rect().adjusted(0, 0, -1, -1));
}

void PlotFrame::focusInEvent(QFocusEvent* event) {
    QWidget::focusInEvent(event);
    update();
}

void PlotFrame::focusOutEvent(QFocusEvent* event) {
    QWidget::focusOutEvent(event);
    update();
}

void PlotFrame::keyPressEvent(QKeyEvent* event) {
    QCustomPlot* plot = m_plot->widget;
    auto move = [&](double x, double y) {
        plot->xAxis->moveRange(x * plot->xAxis->range().size());
        plot->yAxis->moveRange(y * plot->yAxis->range().size());
        drawInView();
        drawSelection();
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
    else if (event->key() == Qt::Key_M)
        markInView();
    else if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && m_selected)
        emit rowOpened(*m_selected);
    else if (event->key() == Qt::Key_Escape && m_marked)
        emit rowsMarked({}, false);
    else
        QWidget::keyPressEvent(event);
}

} // namespace oxgoad
