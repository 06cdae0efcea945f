#include "app/plots/fold_marks.h"

#include "app/theme.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QPainter>

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr int edge = 7;

template <class Scores> std::pair<double, double> rangeOf(const Scores& scores) {
    double low = 1e300, high = -1e300;
    for (const auto& score : scores)
        if (std::isfinite(score.rmse)) {
            low = std::min(low, score.rmse);
            high = std::max(high, score.rmse);
        }
    return {low, high};
}

} // namespace

QString foldMarksText(const FoldEvidence& folds, const QString& unit) {
    const auto range = [&](const auto& scores) {
        const auto [low, high] = rangeOf(scores);
        return QObject::tr("%1 to %2%3").arg(qs(readableText(low, 3)), qs(readableText(high, 3)), unit);
    };
    if (folds.each.empty()) return {};
    const bool draws = folds.plan.kind == FoldKind::bootstrap;
    QString text = QObject::tr("errors of %1 from %2")
                       .arg(qs(plural(folds.each.size(), draws ? "draw" : "fold", draws ? "draws" : "folds")),
                            range(folds.each));
    if (folds.repeats.size() > 1)
        text += QObject::tr("; of %1 from %2, which is what turns with the seed")
                    .arg(qs(plural(folds.repeats.size(), "dealing", "dealings")), range(folds.repeats));
    return text;
}

FoldMarks::FoldMarks(std::shared_ptr<const FoldEvidence> folds, const QString& unit, QWidget* parent)
    : QWidget(parent), m_folds(std::move(folds)) {
    setObjectName("foldMarks");
    setFixedSize(sizeHint());
    const QString text = foldMarksText(*m_folds, unit);
    setAccessibleName(text);
    setToolTip(text.toHtmlEscaped());
}

void FoldMarks::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    auto [low, high] = rangeOf(m_folds->each);
    if (low > high) return;
    const double span = std::max(high - low, 1e-12 * std::fabs(high) + 1e-300);
    const auto xOf = [&](double rmse) { return edge + (width() - 2 * edge) * (rmse - low) / span; };
    const bool repeated = m_folds->repeats.size() > 1;
    const double line = repeated ? height() * 0.36 : height() * 0.5;
    painter.setPen(QPen(theme::rule, 1));
    painter.drawLine(QPointF(edge, line), QPointF(width() - edge, line));
    // Folds as upright strokes: many lie beside each other and stay countable.
    QColor stroke = theme::heldOut;
    stroke.setAlphaF(m_folds->each.size() > 60 ? 0.35F : 0.8F);
    painter.setPen(QPen(stroke, 1.4));
    for (const FoldScore& fold : m_folds->each)
        if (std::isfinite(fold.rmse))
            painter.drawLine(QPointF(xOf(fold.rmse), line - 5), QPointF(xOf(fold.rmse), line + 5));
    painter.setPen(Qt::NoPen);
    painter.setBrush(theme::ink);
    const double x = std::clamp(xOf(m_folds->rmse), 3.0, width() - 3.0);
    painter.drawPolygon(QPolygonF({{x, line + 4}, {x - 3.5, line + 10}, {x + 3.5, line + 10}}));
    if (!repeated) return;
    painter.setBrush(theme::learning);
    for (const RepeatScore& repeat : m_folds->repeats)
        painter.drawEllipse(QPointF(std::clamp(xOf(repeat.rmse), 2.0, width() - 2.0), height() - 4.0), 1.9,
                            1.9);
}

} // namespace oxgoad
