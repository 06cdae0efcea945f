#include "app/fit/tree_picture.h"

#include "app/fit/path_picture.h"
#include "app/theme.h"
#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <QHelpEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <QWheelEvent>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr double treeLeft = 76, treeRight = 110, treeTop = 22, treeBottom = 44, treeBetween = 26;
constexpr double leastBand = 17, leastLeaf = 6;

QColor shade(bool lit) {
    return lit ? QColor(0xE3, 0xEE, 0xEC) : QColor(0xF2, 0xF2, 0xF0);
}

} // namespace

TreePicture::TreePicture(QWidget* parent) : QWidget(parent) {
    setObjectName("treePicture");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setMinimumHeight(240);
    setAccessibleName(tr("Regression tree"));
}

void TreePicture::show(std::shared_ptr<const TreeView> view) {
    const bool other = !m_view || m_view->study != view->study;
    m_view = std::move(view);
    if (other) {
        m_leaf = 0;
        m_step = 0;
        m_zoom = 1, m_pan = 0;
        for (std::size_t k = 0; k < m_view->sequence.size(); ++k)
            if (m_view->sequence[k].complexity <= m_view->model->complexity()) m_step = k;
    }
    m_ofRow = m_view->row.has_value();
    layOut();
}

void TreePicture::clear(const QString& why) {
    m_view.reset();
    m_places.clear();
    m_leaves.clear();
    m_why = why;
    m_sentence = why;
    setAccessibleDescription(why);
    update();
}

std::size_t TreePicture::leaves() const {
    return m_leaves.size();
}

QRect TreePicture::leafRect(std::size_t leaf) const {
    const Place& place = m_places[m_leaves[leaf]];
    return QRectF(place.left, m_below.top(), place.right - place.left, m_below.height()).toRect();
}

double TreePicture::said(const TreeNode& node) const {
    return m_view->study->rule.toResponseScale(node.mean);
}

void TreePicture::layOut() {
    m_places.clear();
    m_leaves.clear();
    if (!m_view) return;
    const double complexity = m_view->sequence[m_step].complexity;
    const TreeModel cut(m_view->model->inputs(), m_view->model->grown(), complexity);
    for (TreeNode& node : cut.cutBack())
        m_places.push_back({.node = std::move(node)});
    const double wide = std::max(60.0, width() - treeLeft - treeRight);
    const double high = std::max(80.0, height() - treeTop - treeBottom - treeBetween);
    m_above = QRectF(treeLeft, treeTop, wide, 0.56 * high);
    m_below = QRectF(treeLeft, treeTop + 0.56 * high + treeBetween, wide, 0.44 * high);
    // Rows along the width; no leaf is too narrow to be pointed at.
    for (std::size_t t = 0; t < m_places.size(); ++t)
        if (!m_places[t].node.asks()) m_leaves.push_back(t);
    const double whole = wide * m_zoom;
    const double least = std::min(leastLeaf, whole / static_cast<double>(m_leaves.size()));
    const double rest = whole - least * static_cast<double>(m_leaves.size());
    double x = treeLeft - m_pan * (whole - wide);
    for (const std::size_t t : m_leaves) {
        m_places[t].left = x;
        x += least +
             rest * static_cast<double>(m_places[t].node.rows) / static_cast<double>(m_places[0].node.rows);
        m_places[t].right = x;
    }
    for (std::size_t t = m_places.size(); t-- > 0;)
        if (m_places[t].node.asks()) {
            m_places[t].left = m_places[static_cast<std::size_t>(m_places[t].node.left)].left;
            m_places[t].right = m_places[static_cast<std::size_t>(m_places[t].node.right)].right;
        }
    // Heights: the error a question takes away, along the way that takes most.
    std::vector<double> gain(m_places.size());
    std::vector<int> depth(m_places.size());
    double most = 0;
    int deepest = 0;
    for (std::size_t t = 0; t < m_places.size(); ++t) {
        const auto above = m_places[t].node.parent;
        if (above != TreeNode::none) {
            gain[t] = gain[static_cast<std::size_t>(above)];
            depth[t] = depth[static_cast<std::size_t>(above)];
        }
        if (!m_places[t].node.asks()) continue;
        gain[t] += m_places[t].node.gain;
        most = std::max(most, gain[t]);
        deepest = std::max(deepest, ++depth[t]);
    }
    const double band = deepest > 0 ? std::min(leastBand, m_above.height() / deepest) : 0;
    const double scale = most > 0 ? (m_above.height() - band * deepest) / most : 0;
    for (std::size_t t = 0; t < m_places.size(); ++t) {
        const auto above = m_places[t].node.parent;
        m_places[t].top =
            above == TreeNode::none ? m_above.top() : m_places[static_cast<std::size_t>(above)].bottom;
        m_places[t].bottom = m_places[t].node.asks() ? m_places[t].top + band + scale * m_places[t].node.gain
                                                     : m_above.bottom();
    }
    m_low = INFINITY, m_high = -INFINITY;
    for (const double y : m_view->actual)
        m_low = std::min(m_low, y), m_high = std::max(m_high, y);
    const double pad = 0.05 * std::max(m_high - m_low, 1e-12);
    m_low -= pad, m_high += pad;
    choose(std::min(m_leaf, m_leaves.size() - 1));
}

/// Lights the way to a leaf, or that of the selected row.
void TreePicture::choose(std::size_t leaf) {
    m_leaf = leaf;
    m_lit.assign(m_places.size(), false);
    std::size_t at = m_leaves[leaf];
    const double complexity = m_view->sequence[m_step].complexity;
    if (m_ofRow) {
        at = 0;
        while (m_places[at].node.asks())
            at = static_cast<std::size_t>(m_view->model->goesLeft(m_places[at].node, m_view->rowInputs.data())
                                              ? m_places[at].node.left
                                              : m_places[at].node.right);
        m_leaf = static_cast<std::size_t>(std::find(m_leaves.begin(), m_leaves.end(), at) - m_leaves.begin());
        m_sentence = tr("Row %1: ").arg(qs(countText(*m_view->row + 1))) +
                     wayText(*m_view, m_view->rowInputs.data(), complexity) +
                     tr("; actual %1").arg(tickText(m_view->rowActual));
    } else {
        QStringList steps;
        for (std::size_t t = at; m_places[t].node.parent != TreeNode::none;) {
            const auto above = static_cast<std::size_t>(m_places[t].node.parent);
            steps.prepend(qs(m_view->model->question(
                m_places[above].node, m_places[above].node.left == static_cast<std::int32_t>(t))));
            t = above;
        }
        m_sentence = (steps.isEmpty() ? tr("all rows") : steps.join(", then ")) + QString::fromUtf8(" → ") +
                     tickText(said(m_places[at].node)) +
                     (m_view->unit.isEmpty() ? QString() : " " + m_view->unit) +
                     tr(", from %1").arg(qs(plural(m_places[at].node.rows, "row", "rows")));
    }
    for (std::size_t t = at;; t = static_cast<std::size_t>(m_places[t].node.parent)) {
        m_lit[t] = true;
        if (m_places[t].node.parent == TreeNode::none) break;
    }
    setAccessibleDescription(tr("%1 leaves. ").arg(m_leaves.size()) + m_sentence);
    update();
}

void TreePicture::zoomBy(double factor, double x) {
    if (!m_view) return;
    constexpr double most = 50;
    const double wide = m_above.width(), before = wide * m_zoom;
    const double at = (x - treeLeft + m_pan * (before - wide)) / before;
    m_zoom = std::clamp(m_zoom * factor, 1.0, most);
    const double out = wide * m_zoom - wide;
    m_pan = out > 0 ? std::clamp((at * wide * m_zoom - (x - treeLeft)) / out, 0.0, 1.0) : 0;
    layOut();
}

void TreePicture::panBy(double share) {
    const double out = m_above.width() * (m_zoom - 1);
    if (!m_view || !(out > 0)) return;
    m_pan = std::clamp(m_pan + share * m_above.width() / out, 0.0, 1.0);
    layOut();
}

void TreePicture::showLeaf() {
    const Place& place = m_places[m_leaves[m_leaf]];
    const double middle = (place.left + place.right) / 2;
    if (middle < m_above.left() || middle > m_above.right())
        panBy((middle - m_above.center().x()) / m_above.width());
}

double TreePicture::yOf(double value) const {
    return m_below.bottom() - (value - m_low) / (m_high - m_low) * m_below.height();
}

double TreePicture::lineAt(std::size_t step) const {
    const auto last = static_cast<double>(std::max<std::size_t>(1, m_view->sequence.size() - 1));
    return m_above.bottom() - static_cast<double>(step) / last * m_above.height();
}

std::size_t TreePicture::stepAt(double y) const {
    const auto last = static_cast<double>(m_view->sequence.size() - 1);
    const double share = std::clamp((m_above.bottom() - y) / m_above.height(), 0.0, 1.0);
    return static_cast<std::size_t>(std::lround(share * last));
}

QPoint TreePicture::gripAt(std::size_t step) const {
    return m_view ? QPoint(qRound(m_above.right() + 14), qRound(lineAt(step))) : QPoint();
}

QString TreePicture::shortQuestion(const TreeNode& node, bool left) const {
    const QString whole = qs(m_view->model->question(node, left));
    // The right answer needs the column no second time.
    const QString name = qs(m_view->model->inputs()[static_cast<std::size_t>(node.input)].name) + " ";
    return left || !whole.startsWith(name) ? whole : whole.mid(name.size());
}

void TreePicture::drawBands(QPainter& painter) const {
    painter.setPen(Qt::NoPen);
    for (std::size_t t = 0; t < m_places.size(); ++t) {
        const Place& place = m_places[t];
        painter.setBrush(shade(m_lit[t]));
        painter.drawRect(QRectF(place.left, place.top, place.right - place.left,
                                std::max(0.0, place.bottom - place.top - 1)));
    }
    const double root = m_places[0].node.mse * m_places[0].node.weight;
    for (std::size_t t = 0; t < m_places.size(); ++t) {
        const Place& place = m_places[t];
        if (!place.node.asks()) continue;
        const auto left = static_cast<std::size_t>(place.node.left),
                   right = static_cast<std::size_t>(place.node.right);
        const double x = m_places[right].left;
        painter.setPen(QPen(theme::rule, 1));
        painter.drawLine(QPointF(x, place.top + 2), QPointF(x, m_below.bottom()));
        if (place.bottom - place.top < leastBand - 3) continue;
        const double line = place.top + 1;
        for (const bool onLeft : {true, false}) {
            const double room = (onLeft ? x - place.left : place.right - x) - 12;
            if (room < 26) continue;
            painter.setFont(theme::font(theme::smallSize, m_lit[onLeft ? left : right]));
            painter.setPen(m_lit[onLeft ? left : right] ? theme::heldOut : theme::ink);
            const QString text = painter.fontMetrics().elidedText(shortQuestion(place.node, onLeft),
                                                                  Qt::ElideRight, qRound(room));
            painter.drawText(onLeft ? QRectF(x - 6 - room, line, room, 15) : QRectF(x + 6, line, room, 15),
                             (onLeft ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter, text);
        }
        // How much of the whole error it takes away, where there is room below the words.
        if (place.bottom - place.top < 34 || place.right - place.left < 70) continue;
        painter.setFont(theme::font(theme::smallSize));
        painter.setPen(theme::quiet);
        painter.drawText(QRectF(place.right - 66, place.bottom - 17, 60, 14), Qt::AlignRight,
                         QString::fromUtf8("− ") + qs(readableText(100 * place.node.gain / root, 2)) + " %");
    }
}

void TreePicture::drawLeaves(QPainter& painter) const {
    painter.setFont(theme::font(theme::smallSize));
    for (const double value : readableTicks(m_low, m_high, 6)) {
        painter.setPen(QPen(QColor(0xEC, 0xEF, 0xEC), 1));
        painter.drawLine(QPointF(m_below.left(), yOf(value)), QPointF(m_below.right(), yOf(value)));
        painter.setPen(theme::quiet);
        painter.drawText(QRectF(0, yOf(value) - 8, treeLeft - 8, 16), Qt::AlignRight | Qt::AlignVCenter,
                         tickText(value));
    }
    painter.setPen(theme::ink);
    painter.drawText(QRectF(treeLeft, m_below.top() - 18, 400, 15), Qt::AlignLeft,
                     m_view->response + (m_view->unit.isEmpty() ? QString() : ", " + m_view->unit) +
                         tr(" of learning rows, and the mean of each leaf"));
    painter.save();
    painter.setClipRect(QRectF(m_above.left(), 0, m_above.width(), height()));
    // Rows where they lie, spread over their leaf's width in their order.
    std::vector<std::size_t> seen(m_places.size());
    const QPixmap mark = theme::mark(theme::Mark::learning, theme::learning, devicePixelRatioF());
    const double half = mark.width() / mark.devicePixelRatio() / 2;
    for (std::size_t i = 0; i < m_view->actual.size(); ++i) {
        const Eigen::VectorXd inputs = m_view->inputs.row(static_cast<Eigen::Index>(i)).transpose();
        std::size_t at = 0;
        while (m_places[at].node.asks())
            at = static_cast<std::size_t>(m_view->model->goesLeft(m_places[at].node, inputs.data())
                                              ? m_places[at].node.left
                                              : m_places[at].node.right);
        const Place& place = m_places[at];
        const double share = std::fmod(0.5 + 0.6180339887 * static_cast<double>(++seen[at]), 1.0);
        painter.drawPixmap(QPointF(place.left + 2 + share * (place.right - place.left - 4) - half,
                                   yOf(m_view->actual[i]) - half),
                           mark);
    }
    for (const std::size_t t : m_leaves) {
        const Place& place = m_places[t];
        const double y = yOf(said(place.node));
        painter.setPen(QPen(m_lit[t] ? theme::heldOut : theme::ink, m_lit[t] ? 3 : 2));
        painter.drawLine(QPointF(place.left + 1, y), QPointF(place.right - 1, y));
        painter.setFont(theme::font(theme::smallSize, m_lit[t]));
        const QString value = qs(readableText(said(place.node), 3));
        const double wide = painter.fontMetrics().horizontalAdvance(value);
        if (wide + 6 < place.right - place.left || m_lit[t]) {
            const QRectF box((place.left + place.right - wide) / 2 - 2, y - 17, wide + 4, 15);
            painter.fillRect(box, QColor(255, 255, 255, 225));
            painter.drawText(box, Qt::AlignCenter, value);
        }
        const QString rows = qs(plural(place.node.rows, "row", "rows"));
        painter.setFont(theme::font(theme::smallSize));
        painter.setPen(theme::quiet);
        if (painter.fontMetrics().horizontalAdvance(rows) + 4 < place.right - place.left)
            painter.drawText(QRectF(place.left, m_below.bottom() + 3, place.right - place.left, 15),
                             Qt::AlignHCenter, rows);
        else if (painter.fontMetrics().horizontalAdvance(qs(countText(place.node.rows))) + 2 <
                 place.right - place.left)
            painter.drawText(QRectF(place.left, m_below.bottom() + 3, place.right - place.left, 15),
                             Qt::AlignHCenter, qs(countText(place.node.rows)));
    }
    if (m_ofRow) {
        const Place& place = m_places[m_leaves[m_leaf]];
        painter.setPen(QPen(theme::alarm, 2));
        painter.setBrush(Qt::NoBrush);
        painter.drawEllipse(QPointF((place.left + place.right) / 2, yOf(m_view->rowActual)), 7, 7);
    }
    painter.restore();
}

void TreePicture::drawLine(QPainter& painter) const {
    const double y = m_dragging ? m_dragged : lineAt(m_step);
    painter.setPen(QPen(theme::goad, 1.4, Qt::DashLine));
    painter.drawLine(QPointF(m_above.left() - 8, y), QPointF(m_above.right() + 8, y));
    painter.setPen(Qt::NoPen);
    painter.setBrush(theme::goad);
    painter.drawEllipse(QPointF(m_above.right() + 14, y), 6, 6);
    painter.setPen(theme::ink);
    painter.setFont(theme::font(theme::smallSize));
    painter.drawText(QRectF(m_above.right() + 24, y - 8, treeRight - 26, 16), Qt::AlignVCenter,
                     qs(plural(m_leaves.size(), "leaf", "leaves")));
}

void TreePicture::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme::sheet);
    painter.setFont(theme::font(theme::textSize));
    if (!m_view) {
        painter.setPen(theme::quiet);
        painter.drawText(rect(), Qt::AlignCenter, m_why);
        return;
    }
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(theme::quiet);
    painter.setFont(theme::font(theme::smallSize));
    painter.drawText(QPointF(treeLeft, treeTop - 8),
                     tr("%1 along the width; the taller a band, the more error its question takes away; drag "
                        "the line to cut back; the wheel, + and − zoom")
                         .arg(qs(plural(m_places[0].node.rows, "learning row", "learning rows"))));
    painter.save();
    painter.setClipRect(QRectF(m_above.left(), 0, m_above.width(), height()));
    drawBands(painter);
    painter.restore();
    drawLeaves(painter);
    drawLine(painter);
    painter.setPen(theme::heldOut);
    painter.setFont(theme::font(theme::smallSize, true));
    painter.drawText(
        QRectF(treeLeft, height() - 20, width() - treeLeft - 8, 16), Qt::AlignLeft | Qt::AlignVCenter,
        painter.fontMetrics().elidedText(m_sentence, Qt::ElideMiddle, qRound(width() - treeLeft - 12)));
    if (hasFocus()) {
        painter.setBrush(Qt::NoBrush);
        painter.setPen(QPen(theme::focus, 2));
        painter.drawRect(QRectF(rect()).adjusted(1, 1, -1, -1));
    }
}

void TreePicture::setStep(std::size_t step, bool rests) {
    if (!m_view) return;
    step = std::min(step, m_view->sequence.size() - 1);
    if (step == m_step && !rests) return;
    m_step = step;
    layOut();
    emit moved(step, rests);
}

std::size_t TreePicture::placeAt(const QPointF& at) const {
    if (at.x() < m_above.left() || at.x() >= m_above.right()) return m_places.size();
    for (std::size_t t = 0; t < m_places.size(); ++t) {
        const Place& place = m_places[t];
        const double bottom = place.node.asks() ? place.bottom : m_below.bottom();
        if (at.x() >= place.left && at.x() < place.right && at.y() >= place.top && at.y() < bottom) return t;
    }
    return m_places.size();
}

bool TreePicture::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip && m_view) {
        auto* help = static_cast<QHelpEvent*>(event);
        const std::size_t t = placeAt(help->pos());
        if (t >= m_places.size()) {
            QToolTip::hideText();
            return true;
        }
        const TreeNode& node = m_places[t].node;
        QString text = tr("%1, mean %2").arg(qs(plural(node.rows, "row", "rows")), tickText(said(node)));
        if (!m_view->study->rule.link.isLogarithmic())
            text += tr(", typically %1 from it").arg(qs(readableText(std::sqrt(node.mse), 3)));
        if (node.asks()) text += "\n" + qs(m_view->model->question(node, true)) + tr(" goes left");
        QToolTip::showText(help->globalPos(), text.toHtmlEscaped().replace("\n", "<br>"), this);
        return true;
    }
    return QWidget::event(event);
}

void TreePicture::resizeEvent(QResizeEvent* event) {
    QWidget::resizeEvent(event);
    layOut();
}

void TreePicture::mousePressEvent(QMouseEvent* event) {
    if (!m_view || event->button() != Qt::LeftButton) return;
    const QPointF at = event->position();
    if (std::fabs(at.y() - lineAt(m_step)) < 7 || at.x() > m_above.right()) {
        m_dragging = true;
        m_dragged = at.y();
        return;
    }
    const std::size_t t = placeAt(at);
    const auto leaf = std::find_if(m_leaves.begin(), m_leaves.end(), [&](std::size_t l) {
        return at.x() >= m_places[l].left && at.x() < m_places[l].right;
    });
    if (t < m_places.size() && leaf != m_leaves.end()) {
        m_ofRow = false;
        choose(static_cast<std::size_t>(leaf - m_leaves.begin()));
    }
}

void TreePicture::mouseMoveEvent(QMouseEvent* event) {
    if (!m_view) return;
    if (!m_dragging) {
        setCursor(std::fabs(event->position().y() - lineAt(m_step)) < 7 ? Qt::SizeVerCursor
                                                                        : Qt::ArrowCursor);
        return;
    }
    m_dragged = std::clamp(event->position().y(), m_above.top(), m_above.bottom());
    setStep(stepAt(m_dragged), false);
    update();
}

void TreePicture::mouseReleaseEvent(QMouseEvent*) {
    if (!std::exchange(m_dragging, false)) return;
    setStep(m_step, true);
}

void TreePicture::wheelEvent(QWheelEvent* event) {
    const QPoint turned = event->angleDelta();
    const bool moves = (event->modifiers() & Qt::ShiftModifier) || turned.x() != 0;
    constexpr double notch = 120;
    if (moves)
        panBy(-0.2 * (turned.x() != 0 ? turned.x() : turned.y()) / notch);
    else
        zoomBy(std::pow(1.25, turned.y() / notch), event->position().x());
    event->accept();
}

void TreePicture::keyPressEvent(QKeyEvent* event) {
    if (!m_view) return QWidget::keyPressEvent(event);
    const auto middle = [this] {
        const Place& place = m_places[m_leaves[m_leaf]];
        return std::clamp((place.left + place.right) / 2, m_above.left(), m_above.right());
    };
    const std::size_t last = m_view->sequence.size() - 1;
    switch (event->key()) {
    case Qt::Key_Up:
        return setStep(std::min(last, m_step + 1), true);
    case Qt::Key_Down:
        return setStep(m_step == 0 ? 0 : m_step - 1, true);
    case Qt::Key_Home:
        return setStep(last, true);
    case Qt::Key_End:
        return setStep(0, true);
    case Qt::Key_Plus:
    case Qt::Key_Equal:
        return zoomBy(1.25, middle());
    case Qt::Key_Minus:
        return zoomBy(0.8, middle());
    case Qt::Key_Left:
    case Qt::Key_Right:
        if (event->modifiers() & Qt::ShiftModifier) return panBy(event->key() == Qt::Key_Right ? 0.2 : -0.2);
        m_ofRow = false;
        choose(event->key() == Qt::Key_Right ? std::min(m_leaves.size() - 1, m_leaf + 1)
               : m_leaf == 0                 ? 0
                                             : m_leaf - 1);
        return showLeaf();
    default:
        QWidget::keyPressEvent(event);
    }
}

void TreePicture::focusInEvent(QFocusEvent* event) {
    QWidget::focusInEvent(event);
    update();
}

void TreePicture::focusOutEvent(QFocusEvent* event) {
    QWidget::focusOutEvent(event);
    update();
}

} // namespace oxgoad
