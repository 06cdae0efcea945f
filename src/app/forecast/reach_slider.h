#pragma once
#include "study/row_by_hand.h"

#include <QSlider>

namespace oxgoad {

/// A number of one row, moved along what was learned from: the line is thick where the row would be inside,
/// thin and dashed at the edge, dotted outside.
class ReachSlider : public QSlider {
    Q_OBJECT
public:
    static constexpr int places = 80;
    explicit ReachSlider(QWidget* parent = nullptr);
    /// From one end to the other; grades at evenly spaced places.
    void setScale(double low, double high, std::vector<ReachGrade> grades);
    void setNumber(double number);
    /// Rounded to what a step of the slider can tell apart.
    double number() const;
    QSize sizeHint() const override { return {160, 24}; }

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;

private:
    void moveTo(double x);
    double placeOf(int value) const;

    double m_low = 0, m_high = 1;
    std::vector<ReachGrade> m_grades;
};

} // namespace oxgoad
