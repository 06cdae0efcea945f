#include "app/fit/path_picture.h"

#include "app/plots/picture_file.h"

#include "app/theme.h"
#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QFileDialog>
#include <QHelpEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QToolTip>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr double leftEdge = 74, rightEdge = 190, topEdge = 36, bottomEdge = 36, between = 26;

} // namespace

std::vector<double> readableTicks(double low, double high, int count) {
    std::vector<double> ticks;
    const double raw = (high - low) / count;
    if (!(raw > 0)) return ticks;
    const double power = std::pow(10, std::floor(std::log10(raw)));
    double step = 10 * power;
    for (const double times : {1.0, 2.0, 5.0})
        if (times * power >= raw) {
            step = times * power;
            break;
        }
    for (double at = std::ceil(low / step) * step; at <= high + 1e-9 * step; at += step)
        ticks.push_back(std::fabs(at) < 1e-9 * step ? 0 : at);
    return ticks;
}

PathPicture::PathPicture(QWidget* parent) : QWidget(parent) {
    setObjectName("pathPicture");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setMinimumHeight(180);
    setAccessibleName(tr("Path of penalties"));
}

void PathPicture::show(std::shared_ptr<const PathView> view, const QString& response, const QString& unit,
                       const QString& fitted, bool perDeviation) {
    m_view = std::move(view);
    m_response = response;
    m_unit = unit;
    m_fitted = fitted;
    m_perDeviation = perDeviation;
    m_place = std::min(m_place, m_view->places.size() - 1);
    layOut();
    setPlace(m_place);
}

void PathPicture::clear(const QString& why) {
    m_view.reset();
    m_why = why;
    m_still = {};
    setAccessibleDescription(why);
    update();
}

void PathPicture::setPlace(std::size_t place) {
    if (!m_view) return;
    m_place = std::min(place, m_view->places.size() - 1);
    setAccessibleDescription(qs(placeSentence(*m_view, m_place, ss(m_unit))));
    update();
}

const std::vector<double>& PathPicture::valuesOf(const PathLine& line) const {
    return m_perDeviation ? line.perDeviation : line.natural;
}

void PathPicture::layOut() {
    m_still = {};
    if (!m_view) return;
    const double whole = std::max(60.0, height() - topEdge - bottomEdge - between);
    const bool judged = m_view->smallest < m_view->places.size();
    const double upper = judged || !std::isnan(m_view->places[0].learning) ? 0.42 * whole : 0;
    const double wide = std::max(50.0, width() - leftEdge - rightEdge);
    m_upper = QRectF(leftEdge, topEdge, wide, upper);
    m_lower = QRectF(leftEdge, topEdge + upper + between, wide, whole - upper);
    m_errors = {1e308, -1e308};
    for (const PathPlace& place : m_view->places)
        for (const double v : {place.error, place.low, place.high, place.learning})
            if (std::isfinite(v)) {
                m_errors.low = std::min(m_errors.low, v);
                m_errors.high = std::max(m_errors.high, v);
            }
    // What is to be told apart lies near the smallest error: far above it the curves leave the picture.
    if (judged) {
        const PathPlace &best = m_view->places[m_view->smallest], &simple = m_view->places[m_view->oneError];
        const double near = std::max(8 * (best.high - best.error), 4 * (simple.error - best.error));
        m_errors.high = std::min(m_errors.high, best.error + std::max(near, 0.1 * best.error));
    }
    const double pad = 0.06 * std::max(m_errors.high - m_errors.low, 1e-12 * std::fabs(m_errors.high));
    m_errors = {m_errors.low - pad, m_errors.high + pad};
    m_values = {0, 0};
    for (const PathLine& line : m_view->lines)
        for (const double v : valuesOf(line)) {
            m_values.low = std::min(m_values.low, v);
            m_values.high = std::max(m_values.high, v);
        }
    if (m_values.high == m_values.low) m_values = {-1, 1};
    const double more = 0.06 * (m_values.high - m_values.low);
    m_values = {m_values.low - more, m_values.high + more};
    m_lines.clear();
    for (const PathLine& line : m_view->lines) {
        QPolygonF points;
        const std::size_t from = line.enters > 0 ? line.enters - 1 : 0;
        for (std::size_t k = from; k < m_view->places.size(); ++k)
            points << QPointF(xOf(k), valueY(valuesOf(line)[k]));
        m_lines.push_back(std::move(points));
    }
}

double PathPicture::xOf(std::size_t place) const {
    const auto& places = m_view->places;
    const double first = std::log(std::max(places.front().penalty, 1e-300));
    double last = std::log(std::max(places.back().penalty, 1e-300));
    // A penalty of 0 has no place on the scale: one step beyond the others.
    if (places.back().penalty == 0 && places.size() > 2) {
        const double before = std::log(places[places.size() - 2].penalty);
        last = before + (before - first) / static_cast<double>(places.size() - 2);
    }
    if (first == last) return m_lower.center().x();
    const double own = place + 1 == places.size() ? last : std::log(std::max(places[place].penalty, 1e-300));
    return m_lower.left() + (first - own) / (first - last) * m_lower.width();
}

double PathPicture::errorY(double error) const {
    const double share = (error - m_errors.low) / (m_errors.high - m_errors.low);
    return m_upper.bottom() - std::clamp(share, -1.0, 50.0) * m_upper.height();
}

double PathPicture::valueY(double value) const {
    return m_lower.bottom() - (value - m_values.low) / (m_values.high - m_values.low) * m_lower.height();
}

std::size_t PathPicture::placeAt(double x) const {
    std::size_t best = 0;
    for (std::size_t k = 1; k < m_view->places.size(); ++k)
        if (std::fabs(xOf(k) - x) < std::fabs(xOf(best) - x)) best = k;
    return best;
}

QPoint PathPicture::gripAt(std::size_t place) const {
    return m_view ? QPoint(qRound(xOf(place)), qRound(m_lower.top() - between / 2)) : QPoint();
}

std::size_t PathPicture::lineAt(const QPoint& at) const {
    std::size_t best = m_view ? m_view->lines.size() : 0;
    if (!m_view || !m_lower.contains(at)) return best;
    const std::size_t place = placeAt(at.x());
    double least = 8;
    for (std::size_t i = 0; i < m_view->lines.size(); ++i) {
        if (m_view->lines[i].enters > place) continue;
        const double away = std::fabs(valueY(valuesOf(m_view->lines[i])[place]) - at.y());
        if (away < least) {
            least = away;
            best = i;
        }
    }
    return best;
}

void PathPicture::drawAxes(QPainter& painter) const {
    painter.setFont(theme::font(theme::smallSize));
    const QColor faint(0xEC, 0xEF, 0xEC);
    const auto rules = [&](const QRectF& box, const Range& range, const auto& place, int count) {
        for (const double tick : readableTicks(range.low, range.high, count)) {
            const double y = place(tick);
            painter.setPen(QPen(tick == 0 ? theme::rule : faint, 1));
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y));
            painter.setPen(theme::quiet);
            painter.drawText(QRectF(0, y - 8, leftEdge - 8, 16), Qt::AlignRight | Qt::AlignVCenter,
                             tickText(tick));
        }
    };
    if (m_upper.height() > 0)
        rules(
            m_upper, m_errors, [this](double v) { return errorY(v); }, 3);
    rules(
        m_lower, m_values, [this](double v) { return valueY(v); }, m_lower.height() > 160 ? 5 : 3);
    // Penalties in equal steps of their logarithm.
    const auto& places = m_view->places;
    const int ticks = m_lower.width() > 500 ? 6 : 4;
    for (int k = 0; k < ticks; ++k) {
        const auto at = static_cast<std::size_t>(
            std::lround(static_cast<double>(k) / (ticks - 1) * static_cast<double>(places.size() - 1)));
        painter.setPen(theme::rule);
        painter.drawLine(QPointF(xOf(at), m_lower.bottom()), QPointF(xOf(at), m_lower.bottom() + 4));
        painter.setPen(theme::quiet);
        painter.drawText(QRectF(xOf(at) - 50, m_lower.bottom() + 4, 100, 14), Qt::AlignHCenter,
                         qs(readableText(places[at].penalty, 2)));
    }
    painter.setPen(theme::ink);
    painter.drawText(QRectF(m_lower.left(), m_lower.bottom() + 18, m_lower.width(), 15), Qt::AlignHCenter,
                     tr("penalty, logarithmic; weaker to the right"));
    // What is drawn, over each part.
    painter.setPen(theme::quiet);
    const QString unit = m_unit.isEmpty() ? QString() : ", " + m_unit;
    if (m_upper.height() > 0)
        painter.drawText(QPointF(leftEdge, topEdge - 20), tr("typical error (RMSE) of ") + m_response + unit);
    painter.drawText(QPointF(leftEdge, m_lower.top() - 6),
                     m_perDeviation ? tr("coefficients per standard deviation, %1").arg(m_fitted)
                                    : tr("coefficients, %1 for one unit of each column").arg(m_fitted));
}

void PathPicture::drawErrors(QPainter& painter) const {
    if (!(m_upper.height() > 0)) return;
    const auto& places = m_view->places;
    QPolygonF band, error, learning, relaxed;
    for (std::size_t k = 0; k < places.size(); ++k) {
        if (std::isfinite(places[k].error)) {
            error << QPointF(xOf(k), errorY(places[k].error));
            band << QPointF(xOf(k), errorY(places[k].high));
        }
        if (std::isfinite(places[k].learning)) learning << QPointF(xOf(k), errorY(places[k].learning));
        if (std::isfinite(places[k].relaxed)) relaxed << QPointF(xOf(k), errorY(places[k].relaxed));
    }
    for (std::size_t k = places.size(); k-- > 0;)
        if (std::isfinite(places[k].error)) band << QPointF(xOf(k), errorY(places[k].low));
    QColor fill = theme::heldOut;
    fill.setAlphaF(0.15F);
    painter.save();
    painter.setClipRect(m_upper.adjusted(-1, -3, 1, 3));
    painter.setPen(Qt::NoPen);
    painter.setBrush(fill);
    painter.drawPolygon(band);
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(theme::learning, 1.2, Qt::DashLine));
    painter.drawPolyline(learning);
    painter.setPen(QPen(theme::forecast, 1.4, Qt::DotLine));
    painter.drawPolyline(relaxed);
    painter.setPen(QPen(theme::heldOut, 1.8));
    painter.drawPolyline(error);
    painter.restore();
    painter.setBrush(Qt::NoBrush);
    // Named at their right ends, moved apart where they meet.
    struct Label {
        double y;
        QString text;
        QColor colour;
    };
    std::vector<Label> labels;
    if (!error.isEmpty())
        labels.push_back({error.back().y(), qs(m_view->judgedBy) + tr(", ± one st. error"), theme::heldOut});
    if (!relaxed.isEmpty())
        labels.push_back({relaxed.back().y(), tr("least squares of what is kept"), theme::forecast});
    if (!learning.isEmpty()) labels.push_back({learning.back().y(), tr("learning rows"), theme::learning});
    std::sort(labels.begin(), labels.end(), [](const Label& a, const Label& b) { return a.y < b.y; });
    double last = m_upper.top() - 13;
    for (Label& label : labels)
        last = label.y = std::max(label.y, last + 13);
    double next = m_upper.bottom() + 17;
    for (auto label = labels.rbegin(); label != labels.rend(); ++label)
        next = label->y = std::min(label->y, next - 13);
    for (const Label& label : labels) {
        painter.setPen(label.colour);
        painter.drawText(QPointF(m_upper.right() + 8, label.y + 4),
                         painter.fontMetrics().elidedText(label.text, Qt::ElideRight, rightEdge - 12));
    }
}

void PathPicture::drawLines(QPainter& painter) const {
    QColor faint = theme::quiet;
    faint.setAlphaF(0.45F);
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(faint, 1));
    for (const QPolygonF& line : m_lines)
        painter.drawPolyline(line);
}

void PathPicture::drawStill(QPainter& painter) const {
    painter.setRenderHint(QPainter::Antialiasing);
    drawAxes(painter);
    drawErrors(painter);
    drawLines(painter);
}

void PathPicture::drawHandle(QPainter& painter) const {
    const auto& places = m_view->places;
    painter.setRenderHint(QPainter::Antialiasing);
    // What is in at the handle, and names at the right end: the largest first, none over another.
    painter.setPen(QPen(theme::ink, 1.6));
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < m_lines.size(); ++i) {
        if (valuesOf(m_view->lines[i])[m_place] != 0) painter.drawPolyline(m_lines[i]);
        order.push_back(i);
    }
    const auto in = [&](std::size_t i) { return valuesOf(m_view->lines[i])[m_place] != 0; };
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        if (in(a) != in(b)) return in(a);
        return std::fabs(valuesOf(m_view->lines[a]).back()) > std::fabs(valuesOf(m_view->lines[b]).back());
    });
    std::vector<double> taken;
    for (const std::size_t i : order) {
        const double y = m_lines[i].back().y();
        if (std::any_of(taken.begin(), taken.end(), [&](double other) { return std::fabs(other - y) < 12; }))
            continue;
        taken.push_back(y);
        painter.setFont(theme::font(theme::smallSize, in(i)));
        painter.setPen(in(i) ? theme::ink : theme::quiet);
        painter.drawText(
            QPointF(m_lower.right() + 8, y + 4),
            painter.fontMetrics().elidedText(qs(m_view->lines[i].name), Qt::ElideRight, rightEdge - 12));
    }
    painter.setFont(theme::font(theme::smallSize));
    const auto upright = [&](std::size_t place, const QString& text, bool left) {
        painter.setPen(QPen(theme::quiet, 1, Qt::DashLine));
        if (m_upper.height() > 0)
            painter.drawLine(QPointF(xOf(place), topEdge - 4), QPointF(xOf(place), m_upper.bottom()));
        painter.drawLine(QPointF(xOf(place), m_lower.top()), QPointF(xOf(place), m_lower.bottom()));
        painter.setPen(theme::quiet);
        const double wide = painter.fontMetrics().horizontalAdvance(text);
        painter.drawText(QPointF(left ? xOf(place) - wide - 5 : xOf(place) + 5, topEdge - 6), text);
    };
    if (m_view->smallest < places.size()) {
        const bool two = m_view->oneError != m_view->smallest;
        if (two && m_view->oneError != m_place)
            upright(m_view->oneError, tr("one standard error: %1").arg(places[m_view->oneError].kept), true);
        if (m_view->smallest != m_place)
            upright(m_view->smallest, tr("smallest error: %1").arg(places[m_view->smallest].kept), false);
    }
    const double x = xOf(m_place);
    painter.setPen(QPen(theme::goad, 1.8));
    painter.drawLine(QPointF(x, topEdge - 4), QPointF(x, m_lower.bottom()));
    const QPointF grip = gripAt(m_place);
    painter.setBrush(theme::goad);
    painter.setPen(hasFocus() ? QPen(theme::focus, 2) : QPen(theme::goad, 1));
    painter.drawRoundedRect(QRectF(grip.x() - 5, grip.y() - 10, 10, 20), 3, 3);
    painter.setFont(theme::font(theme::smallSize, true));
    painter.setPen(QColor(0x86, 0x55, 0x0F));
    QString text = tr("%1 of %2 kept").arg(places[m_place].kept).arg(m_view->columns);
    if (m_place == m_view->smallest) text = tr("smallest error: ") + text;
    if (m_place == m_view->oneError && m_view->oneError != m_view->smallest)
        text = tr("one standard error: ") + text;
    const double wide = painter.fontMetrics().horizontalAdvance(text);
    const bool left = x + wide + 12 > m_lower.right() || m_place == m_view->oneError;
    painter.drawText(QPointF(left && x - wide - 6 > 0 ? x - wide - 6 : x + 6, topEdge - 6), text);
}

void PathPicture::drawAll(QPainter& painter) const {
    drawStill(painter);
    drawHandle(painter);
}

void PathPicture::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme::sheet);
    if (!m_view) {
        painter.setFont(theme::font(theme::textSize));
        painter.setPen(theme::quiet);
        painter.drawText(rect().adjusted(20, 20, -20, -20), Qt::AlignCenter | Qt::TextWordWrap, m_why);
        return;
    }
    if (m_still.isNull()) {
        m_still = QPixmap(size() * devicePixelRatioF());
        m_still.setDevicePixelRatio(devicePixelRatioF());
        m_still.fill(theme::sheet);
        QPainter still(&m_still);
        drawStill(still);
    }
    painter.drawPixmap(0, 0, m_still);
    drawHandle(painter);
}

void PathPicture::resizeEvent(QResizeEvent*) {
    layOut();
}

void PathPicture::moveTo(std::size_t place, bool rests) {
    if (!m_view) return;
    setPlace(place);
    emit moved(m_place, rests);
}

void PathPicture::mousePressEvent(QMouseEvent* event) {
    if (!m_view || event->button() != Qt::LeftButton) return;
    setFocus(Qt::MouseFocusReason);
    if (event->pos().x() < m_lower.left() - 6 || event->pos().x() > m_lower.right() + 6) return;
    m_dragging = true;
    moveTo(placeAt(event->pos().x()), false);
}

void PathPicture::mouseMoveEvent(QMouseEvent* event) {
    if (!m_view) return;
    if (m_dragging) {
        if (const std::size_t place = placeAt(event->pos().x()); place != m_place) moveTo(place, false);
        return;
    }
    const bool near = std::fabs(event->pos().x() - xOf(m_place)) < 6;
    setCursor(near ? Qt::SizeHorCursor : Qt::ArrowCursor);
}

void PathPicture::mouseReleaseEvent(QMouseEvent*) {
    if (!m_dragging) return;
    m_dragging = false;
    emit moved(m_place, true);
}

void PathPicture::keyPressEvent(QKeyEvent* event) {
    if (!m_view) {
        QWidget::keyPressEvent(event);
        return;
    }
    const std::size_t last = m_view->places.size() - 1;
    if (event->key() == Qt::Key_Left && m_place > 0)
        moveTo(m_place - 1, false);
    else if (event->key() == Qt::Key_Right && m_place < last)
        moveTo(m_place + 1, false);
    else if (event->key() == Qt::Key_Home && m_view->smallest <= last)
        moveTo(m_view->smallest, false);
    else if (event->key() == Qt::Key_End && m_view->oneError <= last)
        moveTo(m_view->oneError, false);
    else if (event->matches(QKeySequence::Copy))
        copyPicture();
    else
        QWidget::keyPressEvent(event);
}

void PathPicture::keyReleaseEvent(QKeyEvent* event) {
    const bool moves = event->key() == Qt::Key_Left || event->key() == Qt::Key_Right ||
                       event->key() == Qt::Key_Home || event->key() == Qt::Key_End;
    if (m_view && moves && !event->isAutoRepeat())
        emit moved(m_place, true);
    else
        QWidget::keyReleaseEvent(event);
}

bool PathPicture::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip && m_view) {
        auto* help = static_cast<QHelpEvent*>(event);
        const std::size_t line = lineAt(help->pos());
        QString text;
        if (line < m_view->lines.size()) {
            const PathLine& shown = m_view->lines[line];
            const std::size_t place = placeAt(help->pos().x());
            text = tr("%1: %2 at penalty %3")
                       .arg(qs(shown.name), qs(readableText(valuesOf(shown)[place], 4)),
                            qs(readableText(m_view->places[place].penalty, 3)));
            if (!shown.keptShare.empty())
                text += tr(", kept in %1 of folds").arg(qs(percentText(shown.keptShare[place])));
        } else if (m_upper.contains(help->pos())) {
            text = qs(placeSentence(*m_view, placeAt(help->pos().x()), ss(m_unit)));
        }
        if (text.isEmpty())
            QToolTip::hideText();
        else
            QToolTip::showText(help->globalPos(), text.toHtmlEscaped(), this);
        return true;
    }
    return QWidget::event(event);
}

QPixmap PathPicture::drawn() const {
    QPixmap picture(size() * 2);
    picture.setDevicePixelRatio(2);
    picture.fill(theme::sheet);
    QPainter painter(&picture);
    drawAll(painter);
    painter.end();
    return picture;
}

bool PathPicture::savePicture(const QString& path) {
    if (!m_view) return false;
    if (!path.endsWith(".svg", Qt::CaseInsensitive)) return writePicture(path, drawn());
    return writePicture(path, size(), accessibleName(), [this](QPainter& painter) { drawAll(painter); });
}

void PathPicture::copyPicture() {
    if (!m_view) return;
    QApplication::clipboard()->setPixmap(drawn());
}

void PathPicture::contextMenuEvent(QContextMenuEvent* event) {
    if (!m_view) return;
    QMenu menu(this);
    menu.addAction(tr("Copy picture"), QKeySequence::Copy, this, &PathPicture::copyPicture);
    const auto ask = [this](const QString& filter, const QString& name) {
        const QString path = QFileDialog::getSaveFileName(this, tr("Save picture"), name, filter);
        if (!path.isEmpty()) savePicture(path);
    };
    menu.addAction(tr("Save as PNG…"), this, [ask] { ask("PNG (*.png)", "path.png"); });
    menu.addAction(tr("Save as SVG…"), this, [ask] { ask("SVG (*.svg)", "path.svg"); });
    menu.exec(event->globalPos());
}

void PathPicture::focusInEvent(QFocusEvent* event) {
    QWidget::focusInEvent(event);
    update();
}

void PathPicture::focusOutEvent(QFocusEvent* event) {
    QWidget::focusOutEvent(event);
    if (m_view) emit moved(m_place, true);
    update();
}

} // namespace oxgoad
