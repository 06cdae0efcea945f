#pragma once
// A regression tree as a landscape of its rows: rows along the width, each question a line down, as deep as
// the error it takes away; below, what the leaves say among the rows.
#include "workspace/tree_view.h"

#include <QPolygonF>
#include <QWidget>
#include <memory>
#include <vector>

namespace oxgoad {

/// Keys: up and down cut back by one step more or less, Home to the root, End to the full tree; left and
/// right go from leaf to leaf, whose way is lit and said; + and − make the width larger and smaller, with
/// Shift left and right move along it. The wheel does the same, with Shift it moves.
class TreePicture : public QWidget {
    Q_OBJECT
public:
    explicit TreePicture(QWidget* parent = nullptr);
    void show(std::shared_ptr<const TreeView> view);
    void clear(const QString& why);
    /// Step of the weakest-link sequence that is drawn.
    std::size_t step() const { return m_step; }
    QPoint gripAt(std::size_t step) const;
    /// The sentence below the drawing.
    QString sentence() const { return m_sentence; }
    std::size_t leaves() const;
    /// Where a leaf lies, out of view too.
    QRect leafRect(std::size_t leaf) const;

signals:
    /// The line moved to a step, and whether it rests now.
    void moved(std::size_t step, bool rests);

protected:
    bool event(QEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;

private:
    struct Place {
        TreeNode node;
        double left = 0, right = 0, top = 0, bottom = 0;
    };
    void layOut();
    void setStep(std::size_t step, bool rests);
    void choose(std::size_t leaf);
    /// So many times larger, what lies at x staying there.
    void zoomBy(double factor, double x);
    /// By a share of what is in view.
    void panBy(double share);
    void showLeaf();
    double yOf(double value) const;
    double lineAt(std::size_t step) const;
    std::size_t stepAt(double y) const;
    double said(const TreeNode& node) const;
    QString shortQuestion(const TreeNode& node, bool left) const;
    void drawBands(QPainter& painter) const;
    void drawLeaves(QPainter& painter) const;
    void drawLine(QPainter& painter) const;
    std::size_t placeAt(const QPointF& at) const;

    std::shared_ptr<const TreeView> m_view;
    QString m_why, m_sentence;
    std::size_t m_step = 0;
    std::vector<Place> m_places;
    std::vector<std::size_t> m_leaves;
    /// Whether a place is on the way that is lit.
    std::vector<bool> m_lit;
    std::size_t m_leaf = 0;
    bool m_ofRow = true;
    QRectF m_above, m_below;
    /// How many times wider than the view all rows are, and the share of what is out of sight that lies on
    /// the left.
    double m_zoom = 1, m_pan = 0;
    double m_low = 0, m_high = 1;
    bool m_dragging = false;
    double m_dragged = 0;
};

} // namespace oxgoad
