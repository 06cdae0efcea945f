#pragma once
// The path of penalties as a picture: errors above, coefficients below, and a handle on the penalty.
#include "study/path_view.h"

#include <QPixmap>
#include <QPolygonF>
#include <QWidget>
#include <memory>
#include <vector>

namespace oxgoad {

/// Values that read well, at most about `count` of them.
std::vector<double> readableTicks(double low, double high, int count);

/// Keys: left and right move the handle, Home to the smallest error, End to the simplest within one standard
/// error.
class PathPicture : public QWidget {
    Q_OBJECT
public:
    explicit PathPicture(QWidget* parent = nullptr);
    /// Titles carry the unit of errors and that of what is fitted; `perDeviation` chooses what of
    /// coefficients is drawn.
    void show(std::shared_ptr<const PathView> view, const QString& response, const QString& unit,
              const QString& fitted, bool perDeviation);
    void clear(const QString& why);
    void setPlace(std::size_t place);
    std::size_t place() const { return m_place; }
    /// Where the handle is taken hold of when it stands at a place.
    QPoint gripAt(std::size_t place) const;
    /// The line nearest to a point of the lower part; as many as there are lines when none is near.
    std::size_t lineAt(const QPoint& at) const;
    bool savePicture(const QString& path);
    void copyPicture();

signals:
    /// The handle moved, and whether it rests now.
    void moved(std::size_t place, bool rests);

protected:
    bool event(QEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void keyReleaseEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;

private:
    struct Range {
        double low = 0, high = 1;
    };
    void layOut();
    double xOf(std::size_t place) const;
    double errorY(double error) const;
    double valueY(double value) const;
    std::size_t placeAt(double x) const;
    const std::vector<double>& valuesOf(const PathLine& line) const;
    void drawStill(QPainter& painter) const;
    void drawAxes(QPainter& painter) const;
    void drawErrors(QPainter& painter) const;
    void drawLines(QPainter& painter) const;
    void drawHandle(QPainter& painter) const;
    void drawAll(QPainter& painter) const;
    /// The whole at twice the size.
    QPixmap drawn() const;
    void moveTo(std::size_t place, bool rests);

    std::shared_ptr<const PathView> m_view;
    QString m_response, m_unit, m_fitted, m_why;
    bool m_perDeviation = true;
    std::size_t m_place = 0;
    bool m_dragging = false;
    QRectF m_upper, m_lower;
    Range m_errors, m_values;
    std::vector<QPolygonF> m_lines;
    QPixmap m_still;
};

} // namespace oxgoad
