#include "app/forecast/reach_slider.h"

#include "app/theme.h"

#include <QMouseEvent>
#include <QPainter>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr int steps = 400, margin = 8;

} // namespace

ReachSlider::ReachSlider(QWidget* parent) : QSlider(Qt::Horizontal, parent) {
    setRange(0, steps);
    setSingleStep(2);
    setPageStep(20);
    setFocusPolicy(Qt::StrongFocus);
}

void ReachSlider::setScale(double low, double high, std::vector<ReachGrade> grades) {
    m_low = low;
    m_high = high > low ? high : low + 1;
    m_grades = std::move(grades);
    update();
}

void ReachSlider::setNumber(double number) {
    const double share = (number - m_low) / (m_high - m_low);
    setValue(std::isfinite(share) ? static_cast<int>(std::lround(std::clamp(share, 0.0, 1.0) * steps)) : 0);
}

double ReachSlider::number() const {
    const double step = (m_high - m_low) / steps;
    const double unit = std::pow(10, std::floor(std::log10(step)));
    return std::round((m_low + value() * step) / unit) * unit;
}

double ReachSlider::placeOf(int value) const {
    return margin + (width() - 2.0 * margin) * value / steps;
}

void ReachSlider::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    const double y = height() / 2.0;
    const auto n = m_grades.size();
    for (std::size_t i = 0; i < n; ++i) {
        const ReachGrade grade = m_grades[i];
        std::size_t last = i;
        while (last + 1 < n && m_grades[last + 1] == grade)
            ++last;
        const auto at = [&](double k) {
            return margin + (width() - 2.0 * margin) * std::clamp(k / static_cast<double>(n - 1), 0.0, 1.0);
        };
        QPen pen(grade == ReachGrade::outside ? theme::alarm
                 : grade == ReachGrade::edge  ? theme::goad
                                              : theme::fine);
        pen.setWidthF(grade == ReachGrade::inside ? 5 : grade == ReachGrade::edge ? 3 : 2);
        pen.setCapStyle(Qt::FlatCap);
        if (grade != ReachGrade::inside)
            pen.setDashPattern(grade == ReachGrade::edge ? QList<qreal>{3, 1.5} : QList<qreal>{1, 2});
        painter.setPen(pen);
        const double first = i == 0 ? 0 : static_cast<double>(i) - 0.5;
        painter.drawLine(QPointF(at(first), y), QPointF(at(static_cast<double>(last) + 0.5), y));
        i = last;
    }
    if (n == 0) {
        painter.setPen(QPen(theme::rule, 3));
        painter.drawLine(QPointF(margin, y), QPointF(width() - margin, y));
    }
    const QPointF at(placeOf(value()), y);
    painter.setPen(QPen(hasFocus() ? theme::focus : theme::ink, hasFocus() ? 2.5 : 1.5));
    painter.setBrush(theme::sheet);
    painter.drawRoundedRect(QRectF(at.x() - 4, at.y() - 9, 8, 18), 2, 2);
    if (hasFocus()) {
        painter.setBrush(Qt::NoBrush);
        painter.setPen(QPen(theme::focus, 1));
        painter.drawRoundedRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5), 3, 3);
    }
}

void ReachSlider::moveTo(double x) {
    const double share = (x - margin) / std::max(1.0, width() - 2.0 * margin);
    setValue(static_cast<int>(std::lround(std::clamp(share, 0.0, 1.0) * steps)));
}

void ReachSlider::mousePressEvent(QMouseEvent* event) {
    if (event->button() == Qt::LeftButton) moveTo(event->position().x());
}

void ReachSlider::mouseMoveEvent(QMouseEvent* event) {
    if (event->buttons() & Qt::LeftButton) moveTo(event->position().x());
}

void ReachSlider::wheelEvent(QWheelEvent* event) {
    event->ignore(); // the list scrolls
}

} // namespace oxgoad
