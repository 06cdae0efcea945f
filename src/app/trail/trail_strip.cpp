#include "app/trail/trail_strip.h"

#include "app/parts.h"
#include "app/theme.h"
#include "base/text.h"
#include "workspace/text.h"
#include "workspace/trail_grid.h"

#include <QContextMenuEvent>
#include <QDialog>
#include <QInputDialog>
#include <QKeyEvent>
#include <QLineEdit>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QToolTip>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr int leftEdge = 82;
constexpr int topEdge = 40;
constexpr int bottomEdge = 14;
constexpr int findWidth = 130;

/// What bars and marks of the trail mean, as far as its fits have them.
struct Kinds {
    bool folds = false, heldOut = false, repeats = false;
    explicit Kinds(const Trail& trail) {
        for (const TrailFit& fit : trail.fits()) {
            folds = folds || std::isfinite(fit.summary.foldRmse);
            heldOut = heldOut || std::isfinite(fit.summary.heldOutRmse);
            repeats = repeats || fit.summary.repeatRmses.size() > 1;
        }
    }
};

} // namespace

TrailStrip::TrailStrip(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    setFixedHeight(122);
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAccessibleName(tr("Trail"));
    m_find = new FindField(tr("find fits"), tr("Find fits of the trail"), "trailFind");
    m_find->setParent(this);
    m_find->setFixedSize(findWidth, 22);
    connect(m_find, &QLineEdit::textChanged, this, [this](const QString& text) {
        m_filter.words = ss(text);
        layOut();
    });
    m_more = linkButton(tr("this fit…"), this);
    m_more->setObjectName("trailMore");
    m_more->setToolTip(tr("Name, note, pin or prune the fit that is shown; the trail as a list"));
    connect(m_more, &QPushButton::clicked, this, [this] {
        auto* menu = new QMenu(this);
        menu->setAttribute(Qt::WA_DeleteOnClose);
        fillMenu(*menu, m_session.current());
        menu->popup(m_more->mapToGlobal(QPoint(0, m_more->height())));
    });
    connect(&session, &Session::trailChanged, this, [this] {
        layOut();
        reveal();
        const auto& fits = m_session.trail().fits();
        setAccessibleDescription(
            fits.empty() ? tr("no fits yet")
                         : tr("%1 fits, fit %2 is chosen. ").arg(fits.size()).arg(m_session.current()) +
                               trailHint(m_session, m_session.current()));
    });
    connect(&session, &Session::fitChanged, this, [this] { layOut(); });
    layOut();
}

void TrailStrip::layOut() {
    m_layout = TrailLayout(m_session.trail(), m_filter, m_session.current());
    m_step = m_layout.step(width() - leftEdge - 110.0);
    const bool any = !m_session.trail().empty();
    m_find->setVisible(any);
    m_more->setVisible(any && m_session.current() != 0);
    m_more->adjustSize();
    m_find->move(width() - findWidth - 12, 4);
    m_more->move(width() - findWidth - 24 - m_more->width(), 15 - m_more->height() / 2);
    update();
}

const TrailFit& TrailStrip::fitAt(const Place& place) const {
    return m_session.trail().fits()[place.fit];
}

std::vector<int> TrailStrip::shown() const {
    std::vector<int> numbers;
    for (const Place& place : m_layout.places())
        numbers.push_back(fitAt(place).number);
    return numbers;
}

double TrailStrip::yOf(double error) const {
    const double share = std::clamp((error - m_layout.low()) / (m_layout.high() - m_layout.low()), -0.1, 1.1);
    return height() - bottomEdge - share * (height() - topEdge - bottomEdge);
}

double TrailStrip::xOf(std::size_t place) const {
    return leftEdge + 16 + m_step * static_cast<double>(place) - m_scroll;
}

QPoint TrailStrip::placeOf(int number) const {
    const auto& places = m_layout.places();
    for (std::size_t i = 0; i < places.size(); ++i)
        if (fitAt(places[i]).number == number) return {qRound(xOf(i)), qRound(yOf(places[i].error))};
    return {};
}

void TrailStrip::reveal() {
    const auto& places = m_layout.places();
    for (std::size_t i = 0; i < places.size(); ++i) {
        if (fitAt(places[i]).number != m_session.current()) continue;
        const double x = xOf(i);
        if (x > width() - 130) m_scroll += x - (width() - 130);
        if (x < leftEdge + 16) m_scroll -= leftEdge + 16 - x;
    }
    m_scroll = std::max(0.0, m_scroll);
    update();
}

void TrailStrip::resizeEvent(QResizeEvent*) {
    layOut();
    reveal();
}

void TrailStrip::drawHead(QPainter& painter) const {
    const auto& trail = m_session.trail();
    painter.setPen(theme::ink);
    painter.setFont(theme::font(theme::textSize, true));
    painter.drawText(20, 19, tr("Trail"));
    const QString unit = m_session.unit(m_session.recipe().response);
    painter.setFont(theme::font(theme::smallSize));
    painter.setPen(theme::quiet);
    const Kinds kinds(trail);
    const QString head = trail.empty() ? tr("every fit is kept here, with the error it is judged by")
                                       : tr("RMSE%1; bar: ± one standard error%2%3")
                                             .arg(unit.isEmpty() ? QString() : ", " + unit,
                                                  kinds.folds ? tr("; strokes: folds") : QString(),
                                                  kinds.repeats ? tr(", points: dealings") : QString());
    painter.drawText(62, 19, head);
    int x = 62 + painter.fontMetrics().horizontalAdvance(head) + 22;
    if (!trail.empty())
        for (const auto& [kind, name] : {std::pair{theme::Mark::learning, tr("learning rows")},
                                         std::pair{theme::Mark::heldOut, tr("held-out rows")},
                                         std::pair{theme::Mark::plain, tr("over folds")}}) {
            if (kind == theme::Mark::heldOut && !kinds.heldOut) continue;
            if (kind == theme::Mark::plain && !kinds.folds) continue;
            painter.drawPixmap(x, 11, theme::mark(kind, theme::markColour(kind), devicePixelRatioF()));
            painter.drawText(x + 14, 19, name);
            x += 28 + painter.fontMetrics().horizontalAdvance(name);
        }
    QString news;
    if (const auto looks = trail.testLooks().size(); looks > 0)
        news = looks == 1 ? tr("test rows looked at once") : tr("test rows looked at %1 times").arg(looks);
    if (const std::size_t hidden = trail.fits().size() - m_layout.places().size(); hidden > 0)
        news += (news.isEmpty() ? "" : "; ") + tr("%1 of %2 not shown").arg(hidden).arg(trail.fits().size());
    painter.setPen(QColor(0x86, 0x55, 0x0F));
    const int room = (m_more->isVisible() ? m_more->x() : width()) - x - 16;
    if (!news.isEmpty())
        painter.drawText(x + 8, 19, painter.fontMetrics().elidedText(news, Qt::ElideRight, room));
}

void TrailStrip::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.fillRect(rect(), theme::sheet);
    painter.setPen(theme::rule);
    painter.drawLine(0, 0, width(), 0);
    drawHead(painter);
    const auto& trail = m_session.trail();
    if (hasFocus()) {
        painter.setPen(QPen(theme::heldOut, 1, Qt::DotLine));
        painter.drawRect(rect().adjusted(1, 1, -2, -2));
    }
    const auto& places = m_layout.places();
    if (places.empty()) return;
    painter.setFont(theme::font(theme::smallSize));
    for (const double share : {0.15, 0.85}) {
        const double value = m_layout.low() + share * (m_layout.high() - m_layout.low());
        const double y = yOf(value);
        painter.setPen(QColor(0xEC, 0xEF, 0xEC));
        painter.drawLine(QPointF(leftEdge, y), QPointF(width(), y));
        painter.setPen(theme::quiet);
        painter.drawText(QRectF(0, y - 8, leftEdge - 8, 16), Qt::AlignRight | Qt::AlignVCenter,
                         qs(readableText(value, 3)));
    }
    painter.setClipRect(leftEdge, 24, width() - leftEdge, height() - 24);
    for (std::size_t i = 0; i < places.size(); ++i) {
        if (places[i].from < 0) continue;
        const auto from = static_cast<std::size_t>(places[i].from);
        if (xOf(i) < leftEdge - 20 || xOf(from) > width() + 20) continue;
        painter.setPen(QPen(theme::heldOut, 1.3, places[i].direct ? Qt::SolidLine : Qt::DotLine));
        painter.drawLine(QPointF(xOf(from), yOf(places[from].error)), QPointF(xOf(i), yOf(places[i].error)));
    }
    const auto labelled = m_layout.labelled(trail, m_session.current(), m_step);
    for (std::size_t i = 0; i < places.size(); ++i)
        if (xOf(i) > leftEdge - 20 && xOf(i) < width() + 20) {
            std::size_t room = 0;
            if (labelled[i] != 0)
                for (room = 1; i + room < labelled.size() && labelled[i + room] == 0;)
                    ++room;
            drawFit(painter, i, room);
        }
}

void TrailStrip::drawFit(QPainter& painter, std::size_t at, std::size_t room) const {
    const auto& places = m_layout.places();
    const TrailFit& fit = fitAt(places[at]);
    const FitSummary& f = fit.summary;
    const double cx = xOf(at), y = yOf(places[at].error);
    const bool chosen = fit.number == m_session.current(), close = m_step < 40;
    // What was found in rows read before stands back until it is worked out anew.
    painter.setOpacity(fit.earlierRows || fit.pruned ? 0.35 : 1);
    if (std::isfinite(f.learningRmse) && !close)
        painter.drawPixmap(QPointF(cx - 4.5, yOf(f.learningRmse) - 4.5),
                           theme::mark(theme::Mark::learning, theme::learning, devicePixelRatioF()));
    if (std::isfinite(f.judgedRmseError())) {
        painter.setPen(QPen(theme::heldOut, 1.3));
        painter.drawLine(QPointF(cx, yOf(f.judgedRmse() - f.judgedRmseError())),
                         QPointF(cx, yOf(f.judgedRmse() + f.judgedRmseError())));
    }
    if (std::isfinite(f.heldOutRmse) && (!close || !std::isfinite(f.foldRmse)))
        painter.drawPixmap(QPointF(cx - 4.5, yOf(f.heldOutRmse) - 4.5),
                           theme::mark(theme::Mark::heldOut, theme::heldOut, devicePixelRatioF()));
    const double topmost = std::max(std::isfinite(f.heldOutRmse) ? f.heldOutRmse : 0, places[at].error);
    if (topmost > m_layout.high() && m_step > 60) { // beyond the scale: its value beside it
        painter.setPen(theme::heldOut);
        painter.setFont(theme::font(theme::smallSize));
        painter.drawText(QPointF(cx + 8, yOf(topmost) + 4), "↑ " + qs(readableText(topmost, 3)));
    }
    if (std::isfinite(f.foldRmse)) {
        if (!close) drawFolds(painter, f, cx);
        painter.drawPixmap(QPointF(cx - 4.5, yOf(f.foldRmse) - 4.5),
                           theme::mark(theme::Mark::plain, theme::ink, devicePixelRatioF()));
    }
    painter.setOpacity(1);
    painter.setBrush(Qt::NoBrush);
    if (chosen) {
        painter.setPen(QPen(theme::ink, 1.5));
        painter.drawEllipse(QPointF(cx, y), 8.5, 8.5);
    }
    if (fit.pinned) { // a foot under its place
        painter.setPen(QPen(theme::goad, 2.4));
        painter.drawLine(QPointF(cx - 6, height() - 3), QPointF(cx + 6, height() - 3));
        painter.drawLine(QPointF(cx, height() - 3), QPointF(cx, height() - 9));
    }
    if (room == 0) return;
    const QFont font = theme::font(theme::smallSize, chosen || fit.pinned);
    painter.setFont(font);
    painter.setPen(chosen || fit.pinned ? theme::ink : theme::quiet);
    // The strokes of the next fit's folds stand before its mark.
    const bool next = at + 1 < places.size();
    const bool strokes = next && room == 1 && !close && std::isfinite(fitAt(places[at + 1]).summary.foldRmse);
    const double along = next ? m_step * static_cast<double>(room) : width() - cx;
    const double space = std::min({along, 150.0, width() - cx}) - (strokes ? 36 : 16);
    const QString text = QFontMetrics(font).elidedText(qs(fit.title()), Qt::ElideRight,
                                                       static_cast<int>(std::max(30.0, space)));
    // Beside the mark, on the side the line to the next fit does not take.
    const bool falls = next && yOf(places[at + 1].error) > y;
    painter.drawText(QPointF(cx + 11, falls || !next ? y - 5 : y + 14), text);
}

void TrailStrip::drawFolds(QPainter& painter, const FitSummary& f, double cx) const {
    // Folds spread wider than what is to be compared, so strokes beyond the scale end at its edge.
    const double top = topEdge - 8, bottom = height() - 4;
    QColor stroke = theme::heldOut;
    stroke.setAlphaF(0.45F);
    painter.setPen(QPen(stroke, 1));
    for (const double rmse : f.foldRmses)
        if (const double at = yOf(rmse); std::isfinite(rmse) && at >= top && at <= bottom)
            painter.drawLine(QPointF(cx - 14, at), QPointF(cx - 8, at));
    painter.setPen(Qt::NoPen);
    painter.setBrush(theme::learning);
    for (const double rmse : f.repeatRmses)
        if (std::isfinite(rmse)) painter.drawEllipse(QPointF(cx - 18, yOf(rmse)), 1.6, 1.6);
}

int TrailStrip::nearest(const QPoint& at) const {
    const auto& places = m_layout.places();
    if (places.empty() || at.y() <= 24) return 0;
    const double along = (at.x() + m_scroll - leftEdge - 16) / m_step;
    const auto place =
        static_cast<std::size_t>(std::clamp(std::round(along), 0.0, static_cast<double>(places.size() - 1)));
    if (std::fabs(xOf(place) - at.x()) > std::max(14.0, m_step / 2)) return 0;
    return std::fabs(xOf(place) - at.x()) < 14 ? fitAt(places[place]).number : 0;
}

void TrailStrip::mousePressEvent(QMouseEvent* event) {
    setFocus(Qt::MouseFocusReason);
    if (event->button() != Qt::LeftButton) return;
    if (const int fit = nearest(event->pos())) m_session.choose(fit);
}

void TrailStrip::say(int fit, const QPoint& at) {
    const QString text = trailHint(m_session, fit);
    if (text.isEmpty())
        QToolTip::hideText();
    else
        QToolTip::showText(at, text.toHtmlEscaped().replace("\n", "<br>"), this);
}

void TrailStrip::mouseMoveEvent(QMouseEvent* event) {
    const int fit = nearest(event->pos());
    setCursor(fit ? Qt::PointingHandCursor : Qt::ArrowCursor);
    say(fit, event->globalPosition().toPoint());
}

void TrailStrip::wheelEvent(QWheelEvent* event) {
    const auto n = m_layout.places().size();
    const double last = n > 0 ? xOf(n - 1) + m_scroll : 0;
    m_scroll = std::clamp(m_scroll - (event->angleDelta().y() + event->angleDelta().x()) / 2.0, 0.0,
                          std::max(0.0, last - width() + 130));
    update();
}

void TrailStrip::keyPressEvent(QKeyEvent* event) {
    const auto& places = m_layout.places();
    const int current = m_session.current();
    std::size_t at = places.size();
    for (std::size_t i = 0; i < places.size(); ++i)
        if (fitAt(places[i]).number == current) at = i;
    const TrailFit* fit = m_session.trail().find(current);
    const auto choose = [&](std::size_t place) { m_session.choose(fitAt(places[place]).number); };
    if (event->key() == Qt::Key_Left && at > 0 && at < places.size())
        choose(at - 1);
    else if (event->key() == Qt::Key_Right && at + 1 < places.size())
        choose(at + 1);
    else if (event->key() == Qt::Key_Home && !places.empty())
        choose(0);
    else if (event->key() == Qt::Key_End && !places.empty())
        choose(places.size() - 1);
    else if (event->key() == Qt::Key_Up && at < places.size() && places[at].from >= 0)
        choose(static_cast<std::size_t>(places[at].from));
    else if (event->key() == Qt::Key_Down && at < places.size()) {
        for (std::size_t i = at + 1; i < places.size(); ++i)
            if (places[i].from == static_cast<int>(at)) {
                choose(i);
                break;
            }
    } else if (event->key() == Qt::Key_P && fit)
        m_session.pinFit(current, !fit->pinned);
    else if (event->key() == Qt::Key_N && fit)
        askName(current);
    else if (event->key() == Qt::Key_Delete && fit)
        m_session.pruneFit(current, true);
    else if (event->key() == Qt::Key_Slash)
        m_find->setFocus(Qt::ShortcutFocusReason);
    else
        QWidget::keyPressEvent(event);
}

void TrailStrip::contextMenuEvent(QContextMenuEvent* event) {
    const bool byKey = event->reason() == QContextMenuEvent::Keyboard;
    const int fit = byKey ? m_session.current() : nearest(event->pos());
    if (!m_session.trail().find(fit)) return;
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    fillMenu(*menu, fit);
    menu->popup(byKey ? mapToGlobal(placeOf(fit)) : event->globalPos());
}

void TrailStrip::fillMenu(QMenu& menu, int number) {
    menu.setObjectName("trailMenu");
    const TrailFit* fit = m_session.trail().find(number);
    if (!fit) return;
    if (number != m_session.current())
        connect(menu.addAction(tr("Show fit %1").arg(number)), &QAction::triggered, this,
                [this, number] { m_session.choose(number); });
    connect(menu.addAction(tr("Name…")), &QAction::triggered, this, [this, number] { askName(number); });
    connect(menu.addAction(tr("Note…")), &QAction::triggered, this, [this, number] { askNote(number); });
    connect(menu.addAction(fit->pinned ? tr("Take the pin out") : tr("Pin")), &QAction::triggered, this,
            [this, number, pinned = fit->pinned] { m_session.pinFit(number, !pinned); });
    menu.addSeparator();
    connect(menu.addAction(tr("Prune this fit and what came from it")), &QAction::triggered, this,
            [this, number] { m_session.pruneFit(number, true); });
    if (fit->pruned)
        connect(menu.addAction(tr("Bring it back with what came from it")), &QAction::triggered, this,
                [this, number] { m_session.pruneFit(number, false); });
    const auto toggle = [&](const QString& text, bool TrailFilter::*member) {
        auto* action = menu.addAction(text);
        action->setCheckable(true);
        action->setChecked(m_filter.*member);
        connect(action, &QAction::toggled, this, [this, member](bool on) {
            m_filter.*member = on;
            layOut();
            reveal();
        });
    };
    if (const std::size_t pruned = m_session.trail().prunedCount(); pruned > 0)
        toggle(tr("Show the %1 pruned ones").arg(pruned), &TrailFilter::withPruned);
    toggle(tr("Only pinned fits"), &TrailFilter::onlyPinned);
    menu.addSeparator();
    connect(menu.addAction(tr("The trail as a list")), &QAction::triggered, this, &TrailStrip::showList);
}

void TrailStrip::askName(int number) {
    const TrailFit* fit = m_session.trail().find(number);
    if (!fit) return;
    bool given = false;
    const QString name = QInputDialog::getText(this, tr("Name of fit %1").arg(number),
                                               tr("What this fit is called on the trail:"), QLineEdit::Normal,
                                               qs(fit->name), &given);
    if (given) m_session.renameFit(number, ss(name.trimmed()));
}

void TrailStrip::askNote(int number) {
    const TrailFit* fit = m_session.trail().find(number);
    if (!fit) return;
    bool given = false;
    const QString note =
        QInputDialog::getMultiLineText(this, tr("Note on fit %1").arg(number),
                                       tr("What is to be remembered of this fit:"), qs(fit->note), &given);
    if (given) m_session.noteFit(number, ss(note.trimmed()));
}

void TrailStrip::showList() {
    if (!m_list) {
        m_list = new QDialog(this);
        m_list->setObjectName("trailList");
        m_list->setAttribute(Qt::WA_DeleteOnClose);
        m_list->setWindowTitle(tr("Trail"));
        m_list->resize(980, 460);
        auto* model = new GridModel(m_list);
        auto* view = new GridView(tr("Fits of the trail"), m_list);
        view->setModel(model);
        auto* layout = new QVBoxLayout(m_list);
        layout->addWidget(view);
        const auto fill = [this, model, view] {
            model->setContent(trailGrid(m_session, shown()));
            view->fitColumns(240);
        };
        fill();
        connect(&m_session, &Session::trailChanged, m_list, fill);
        connect(view, &GridView::opened, m_list, [this, model](const QModelIndex& index) {
            const int fit = model->index(index.row(), 0).data(RawValueRole).toInt();
            if (fit > 0) m_session.choose(fit);
        });
    }
    m_list->show();
    m_list->raise();
}

} // namespace oxgoad
