#pragma once
// The trail as a chart: the error each fit is judged by against the order of fits.
#include "app/trail/trail_layout.h"
#include "workspace/session.h"

#include <QPointer>
#include <QWidget>

class QLineEdit;
class QMenu;
class QPushButton;
class QDialog;

namespace oxgoad {

/// Keys: left and right step along, up leads to the fit it came from and down to the first that came from it,
/// P pins, N names, Delete prunes, / searches.
class TrailStrip : public QWidget {
    Q_OBJECT
public:
    explicit TrailStrip(Session& session, QWidget* parent = nullptr);
    /// Where a fit's mark is.
    QPoint placeOf(int fit) const;
    /// Numbers of the fits that are shown.
    std::vector<int> shown() const;

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;

private:
    using Place = TrailLayout::Place;
    void layOut();
    double yOf(double error) const;
    double xOf(std::size_t place) const;
    const TrailFit& fitAt(const Place& place) const;
    void drawHead(QPainter& painter) const;
    /// `room`: places up to the next fit that has a label; 0 for none of its own.
    void drawFit(QPainter& painter, std::size_t place, std::size_t room) const;
    void drawFolds(QPainter& painter, const FitSummary& f, double cx) const;
    int nearest(const QPoint& place) const;
    void reveal();
    void say(int fit, const QPoint& at);
    /// What can be done with a fit.
    void fillMenu(QMenu& menu, int fit);
    void askName(int fit);
    void askNote(int fit);
    void showList();

    Session& m_session;
    TrailFilter m_filter;
    TrailLayout m_layout;
    double m_step = 100;
    double m_scroll = 0;
    QLineEdit* m_find;
    QPushButton* m_more;
    QPointer<QDialog> m_list;
};

} // namespace oxgoad
