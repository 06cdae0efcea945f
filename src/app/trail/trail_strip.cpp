#include "app/trail/trail_strip.h"

#include "app/theme.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr int leftEdge = 82;
constexpr int topEdge = 40;
constexpr int bottomEdge = 14;
constexpr double widest = 150;
constexpr double narrowest = 120;

/// The error a fit is placed by: over folds, held-out, or learning where neither is there.
double placed(const FitSummary& s) {
    return s.judgedRmse();
}

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
    connect(&session, &Session::trailChanged, this, [this] {
        reveal();
        const auto& fits = m_session.trail().fits();
        setAccessibleDescription(
            fits.empty() ? tr("no fits yet")
                         : tr("%1 fits, fit %2 is chosen").arg(fits.size()).arg(m_session.current()));
        update();
    });
    connect(&session, &Session::fitChanged, this, [this] { update(); });
}

TrailStrip::Scale TrailStrip::scale() const {
    Scale s{1e300, -1e300};
    for (const TrailFit& fit : m_session.trail().fits()) {
        const FitSummary& f = fit.summary;
        // What a fit is judged by makes the scale; held-out rows beside folds stand at its edge when they lie
        // beyond, so that one awful row does not flatten all.
        const double heldOut = std::isfinite(f.foldRmse) ? std::nan("") : f.heldOutRmse;
        for (const double v : {heldOut, f.learningRmse, f.foldRmse, f.judgedRmse() + f.judgedRmseError(),
                               f.judgedRmse() - f.judgedRmseError()}) {
            if (!std::isfinite(v)) continue;
            s.low = std::min(s.low, v);
            s.high = std::max(s.high, v);
        }
    }
    if (s.low > s.high) return {0, 1};
    const double pad = s.high > s.low ? 0.12 * (s.high - s.low) : std::max(0.1 * std::fabs(s.high), 1e-12);
    return {std::max(0.0, s.low - pad), s.high + pad};
}

double TrailStrip::yOf(double error) const {
    const Scale s = scale();
    const double share = std::clamp((error - s.low) / (s.high - s.low), -0.1, 1.1);
    return height() - bottomEdge - share * (height() - topEdge - bottomEdge);
}

double TrailStrip::xOf(std::size_t index) const {
    const auto n = static_cast<double>(m_session.trail().fits().size());
    const double step = std::clamp((width() - leftEdge - 90.0) / std::max(1.0, n), narrowest, widest);
    return leftEdge + 16 + step * static_cast<double>(index) - m_scroll;
}

QPoint TrailStrip::placeOf(int number) const {
    const auto& fits = m_session.trail().fits();
    for (std::size_t i = 0; i < fits.size(); ++i)
        if (fits[i].number == number) return {qRound(xOf(i)), qRound(yOf(placed(fits[i].summary)))};
    return {};
}

void TrailStrip::reveal() {
    const auto& fits = m_session.trail().fits();
    for (std::size_t i = 0; i < fits.size(); ++i) {
        if (fits[i].number != m_session.current()) continue;
        const double x = xOf(i);
        if (x > width() - 130) m_scroll += x - (width() - 130);
        if (x < leftEdge + 16) m_scroll -= leftEdge + 16 - x;
    }
    m_scroll = std::max(0.0, m_scroll);
}

void TrailStrip::resizeEvent(QResizeEvent*) {
    reveal();
}

void TrailStrip::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.fillRect(rect(), theme::sheet);
    painter.setPen(theme::rule);
    painter.drawLine(0, 0, width(), 0);
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
    if (const auto looks = trail.testLooks().size(); looks > 0) {
        painter.setPen(theme::goad);
        painter.drawText(x + 8, 19,
                         looks == 1 ? tr("test rows looked at once")
                                    : tr("test rows looked at %1 times").arg(looks));
    }
    if (hasFocus()) {
        painter.setPen(QPen(theme::heldOut, 1, Qt::DotLine));
        painter.drawRect(rect().adjusted(1, 1, -2, -2));
    }
    if (trail.empty()) return;

    const Scale s = scale();
    painter.setFont(theme::font(theme::smallSize));
    for (const double share : {0.15, 0.85}) {
        const double value = s.low + share * (s.high - s.low);
        const double y = yOf(value);
        painter.setPen(QColor(0xEC, 0xEF, 0xEC));
        painter.drawLine(QPointF(leftEdge, y), QPointF(width(), y));
        painter.setPen(theme::quiet);
        painter.drawText(QRectF(0, y - 8, leftEdge - 8, 16), Qt::AlignRight | Qt::AlignVCenter,
                         qs(readableText(value, 3)));
    }
    painter.setClipRect(leftEdge, 24, width() - leftEdge, height() - 24);
    const auto& fits = trail.fits();
    auto indexOf = [&](int number) {
        for (std::size_t i = 0; i < fits.size(); ++i)
            if (fits[i].number == number) return i;
        return fits.size();
    };
    painter.setPen(QPen(theme::heldOut, 1.3));
    for (std::size_t i = 0; i < fits.size(); ++i) {
        const std::size_t from = indexOf(fits[i].parent);
        if (from < fits.size())
            painter.drawLine(QPointF(xOf(from), yOf(placed(fits[from].summary))),
                             QPointF(xOf(i), yOf(placed(fits[i].summary))));
    }
    for (std::size_t i = 0; i < fits.size(); ++i) {
        const FitSummary& f = fits[i].summary;
        const double cx = xOf(i);
        const double y = yOf(placed(f));
        const bool chosen = fits[i].number == m_session.current();
        // What was found in rows read before stands back until it is worked out anew.
        painter.setOpacity(fits[i].earlierRows ? 0.35 : 1);
        if (std::isfinite(f.learningRmse))
            painter.drawPixmap(QPointF(cx - 4.5, yOf(f.learningRmse) - 4.5),
                               theme::mark(theme::Mark::learning, theme::learning, devicePixelRatioF()));
        if (std::isfinite(f.judgedRmseError())) {
            painter.setPen(QPen(theme::heldOut, 1.3));
            painter.drawLine(QPointF(cx, yOf(f.judgedRmse() - f.judgedRmseError())),
                             QPointF(cx, yOf(f.judgedRmse() + f.judgedRmseError())));
        }
        if (std::isfinite(f.heldOutRmse)) {
            const double at = yOf(f.heldOutRmse);
            painter.drawPixmap(QPointF(cx - 4.5, at - 4.5),
                               theme::mark(theme::Mark::heldOut, theme::heldOut, devicePixelRatioF()));
            if (f.heldOutRmse > s.high) { // beyond the scale: its value beside it
                painter.setPen(theme::heldOut);
                painter.setFont(theme::font(theme::smallSize));
                painter.drawText(QPointF(cx + 8, at + 4), "↑ " + qs(readableText(f.heldOutRmse, 3)));
            }
        }
        if (std::isfinite(f.foldRmse)) drawFolds(painter, f, cx);
        painter.setOpacity(1);
        if (chosen) {
            painter.setPen(QPen(theme::ink, 1.5));
            painter.setBrush(Qt::NoBrush);
            painter.drawEllipse(QPointF(cx, y), 8.5, 8.5);
        }
        const QFont font = theme::font(theme::smallSize, chosen);
        painter.setFont(font);
        painter.setPen(chosen ? theme::ink : theme::quiet);
        // The strokes of the next fit's folds stand before its mark.
        const bool strokes = i + 1 < fits.size() && std::isfinite(fits[i + 1].summary.foldRmse);
        const double space = (i + 1 < fits.size() ? xOf(i + 1) - cx : width() - cx) - (strokes ? 36 : 16);
        const QString text =
            QFontMetrics(font).elidedText(QString("%1  %2").arg(fits[i].number).arg(qs(fits[i].change)),
                                          Qt::ElideRight, static_cast<int>(std::max(30.0, space)));
        // Beside the mark, on the side the line to the next fit does not take.
        const bool falls = i + 1 < fits.size() && yOf(placed(fits[i + 1].summary)) > y;
        painter.drawText(QPointF(cx + 11, falls || i + 1 >= fits.size() ? y - 5 : y + 14), text);
    }
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
    painter.drawPixmap(QPointF(cx - 4.5, yOf(f.foldRmse) - 4.5),
                       theme::mark(theme::Mark::plain, theme::ink, devicePixelRatioF()));
}

int TrailStrip::nearest(const QPoint& place) const {
    const auto& fits = m_session.trail().fits();
    for (std::size_t i = 0; i < fits.size(); ++i)
        if (std::fabs(xOf(i) - place.x()) < 14 && place.y() > 22) return fits[i].number;
    return 0;
}

void TrailStrip::mousePressEvent(QMouseEvent* event) {
    setFocus(Qt::MouseFocusReason);
    if (const int fit = nearest(event->pos())) m_session.choose(fit);
}

void TrailStrip::mouseMoveEvent(QMouseEvent* event) {
    const TrailFit* fit = m_session.trail().find(nearest(event->pos()));
    setCursor(fit ? Qt::PointingHandCursor : Qt::ArrowCursor);
    if (!fit) {
        QToolTip::hideText();
        return;
    }
    const FitSummary& s = fit->summary;
    QString text = tr("Fit %1: %2\nlearning rows %3, RMSE %4")
                       .arg(fit->number)
                       .arg(qs(fit->change), qs(countText(s.rowsLearning)), qs(readableText(s.learningRmse)));
    if (std::isfinite(s.heldOutRmse))
        text += tr("\nheld-out RMSE %1 ± %2")
                    .arg(qs(readableText(s.heldOutRmse)), qs(readableText(s.heldOutRmseError, 2)));
    if (std::isfinite(s.foldRmse) && fit->recipe.judge)
        text += tr("\nRMSE %1 ± %2, judged by %3")
                    .arg(qs(readableText(s.foldRmse)), qs(readableText(s.foldRmseError, 2)),
                         qs(foldPlanText(*fit->recipe.judge)));
    if (std::isfinite(s.repeatSpread))
        text += tr("\nfrom dealing to dealing ± %1").arg(qs(readableText(s.repeatSpread, 2)));
    if (fit->earlierRows) text += tr("\nin rows that were read before; choose the fit to work it out anew");
    QToolTip::showText(event->globalPosition().toPoint(), text.toHtmlEscaped().replace("\n", "<br>"), this);
}

void TrailStrip::wheelEvent(QWheelEvent* event) {
    const auto n = m_session.trail().fits().size();
    const double last = n > 0 ? xOf(n - 1) + m_scroll : 0;
    m_scroll = std::clamp(m_scroll - (event->angleDelta().y() + event->angleDelta().x()) / 2.0, 0.0,
                          std::max(0.0, last - width() + 130));
    update();
}

void TrailStrip::keyPressEvent(QKeyEvent* event) {
    const auto& fits = m_session.trail().fits();
    std::size_t at = fits.size();
    for (std::size_t i = 0; i < fits.size(); ++i)
        if (fits[i].number == m_session.current()) at = i;
    if (event->key() == Qt::Key_Left && at > 0 && at < fits.size())
        m_session.choose(fits[at - 1].number);
    else if (event->key() == Qt::Key_Right && at + 1 < fits.size())
        m_session.choose(fits[at + 1].number);
    else
        QWidget::keyPressEvent(event);
}

} // namespace oxgoad
