#include "workspace/trail_grid.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// "−1,204 (−1,900 to −510), better in 9 of 10 folds".
QString differenceText(const TrailDifference& d) {
    QString text = (d.difference > 0 ? "+" : "") + qs(readableText(d.difference, 3));
    if (std::isfinite(d.lower))
        text += QObject::tr(" (%1 to %2)").arg(qs(readableText(d.lower, 3)), qs(readableText(d.upper, 3)));
    if (d.folds > 0) text += QObject::tr(", better in %1 of %2 folds").arg(d.foldsBetter).arg(d.folds);
    return text;
}

} // namespace

GridModel::Content trailGrid(const Session& session, std::vector<int> numbers) {
    auto fits = std::make_shared<std::vector<TrailFit>>();
    for (const int number : numbers)
        if (const TrailFit* fit = session.trail().find(number)) fits->push_back(*fit);
    const auto at = [fits](int row) -> const TrailFit& { return (*fits)[static_cast<std::size_t>(row)]; };
    double size = 0;
    for (const TrailFit& fit : *fits)
        for (const double v : {fit.summary.judgedRmse(), fit.summary.learningRmse})
            if (std::isfinite(v)) size = std::max(size, v);
    const int decimals = decimalsFor(size);
    const QString unit = session.unit(session.recipe().response);
    const QString in = unit.isEmpty() ? QString() : "\n" + unit.section(' ', 0, 0);
    GridModel::Content grid;
    grid.rows = static_cast<int>(fits->size());
    grid.columns = {
        numberColumn(
            QObject::tr("fit"), [at](int r) { return at(r).number; }, 0),
        numberColumn(
            QObject::tr("from"), [at](int r) { return at(r).parent == 0 ? std::nan("") : at(r).parent; }, 0),
        textColumn(QObject::tr("what changed"), [at](int r) { return qs(at(r).change); }),
        textColumn(QObject::tr("name"), [at](int r) { return qs(at(r).name); }),
        textColumn(QObject::tr("pinned"),
                   [at](int r) { return at(r).pinned ? QObject::tr("pinned") : QString(); }),
        numberColumn(
            QObject::tr("error") + in, [at](int r) { return at(r).summary.judgedRmse(); }, decimals),
        numberColumn(
            QObject::tr("±"), [at](int r) { return at(r).summary.judgedRmseError(); }, decimals),
        numberColumn(
            QObject::tr("learning\nerror"), [at](int r) { return at(r).summary.learningRmse; }, decimals),
        {QObject::tr("size"), true, [at](int r) { return qs(readableText(at(r).summary.complexity, 4)); },
         [at](int r) { return rawNumber(at(r).summary.complexity); },
         QObject::tr(
             "Coefficients, effective degrees of freedom under a penalty, or what the kind says first")},
        textColumn(QObject::tr("made"), [at](int r) { return qs(at(r).madeAt); }),
        textColumn(QObject::tr("note"), [at](int r) { return qs(at(r).note); })};
    grid.extra = [at, current = session.current()](int row, int, int role) -> QVariant {
        if (role != ToneRole) return {};
        return at(row).number == current ? "strong" : at(row).pruned ? "quiet" : QVariant();
    };
    return grid;
}

QString trailHint(const Session& session, int number) {
    const TrailFit* fit = session.trail().find(number);
    if (!fit) return {};
    const FitSummary& s = fit->summary;
    QString text = QObject::tr("Fit %1").arg(fit->number);
    if (!fit->name.empty()) text += ", " + qs(fit->name);
    text += ": " + qs(fit->change);
    if (!fit->note.empty()) text += "\n" + qs(fit->note);
    text += QObject::tr("\nlearning rows %1, RMSE %2")
                .arg(qs(countText(s.rowsLearning)), qs(readableText(s.learningRmse)));
    if (std::isfinite(s.heldOutRmse))
        text += QObject::tr("\nheld-out RMSE %1 ± %2")
                    .arg(qs(readableText(s.heldOutRmse)), qs(readableText(s.heldOutRmseError, 2)));
    if (std::isfinite(s.foldRmse) && fit->recipe.judge)
        text += QObject::tr("\nRMSE %1 ± %2, judged by %3")
                    .arg(qs(readableText(s.foldRmse)), qs(readableText(s.foldRmseError, 2)),
                         qs(foldPlanText(*fit->recipe.judge)));
    if (std::isfinite(s.testRmse)) text += QObject::tr("\ntest RMSE %1").arg(qs(readableText(s.testRmse)));
    if (std::isfinite(s.repeatSpread))
        text += QObject::tr("\nfrom dealing to dealing ± %1").arg(qs(readableText(s.repeatSpread, 2)));
    if (std::isfinite(s.complexity)) text += QObject::tr("\nsize %1").arg(qs(readableText(s.complexity, 4)));
    if (const TrailFit* from = session.trail().find(fit->parent)) {
        const TrailDifference d = differenceOf(*fit, *from);
        if (std::isfinite(d.difference))
            text += QObject::tr("\nbeside fit %1: RMSE %2").arg(from->number).arg(differenceText(d));
    }
    if (!fit->madeAt.empty()) text += "\n" + qs(fit->madeAt);
    if (fit->pinned) text += QObject::tr("\npinned");
    if (fit->earlierRows)
        text += QObject::tr("\nin rows that were read before; choose the fit to work it out anew");
    return text;
}

} // namespace oxgoad
