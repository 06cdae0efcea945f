#pragma once
// The trail as a chart: error on held-out rows against the order of fits.
#include "workspace/session.h"

#include <QWidget>

namespace oxgoad {

class TrailStrip : public QWidget {
    Q_OBJECT
public:
    explicit TrailStrip(Session& session, QWidget* parent = nullptr);
    /// Where a fit's mark is.
    QPoint placeOf(int fit) const;

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    struct Scale {
        double low = 0, high = 1;
    };
    Scale scale() const;
    double yOf(double error) const;
    double xOf(std::size_t index) const;
    void drawFolds(QPainter& painter, const FitSummary& f, double cx) const;
    int nearest(const QPoint& place) const;
    void reveal();

    Session& m_session;
    double m_scroll = 0;
};

} // namespace oxgoad
