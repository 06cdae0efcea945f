#include "base/text.h"
#include "study/say.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

QStringList linearSummary(const Evidence& e, const LinearEvidence& l, const QString& unit) {
    QStringList lines;
    if (!std::isnan(l.quantileFit))
        lines << QString("Check loss %1 % below that of the quantile alone (Koenker and Machado 1999)")
                     .arg(qs(readableText(100 * l.quantileFit, 3)));
    else if (l.generalised)
        lines << QString("%1 % of the deviance explained; dispersion %2")
                     .arg(qs(readableText(100 * l.rSquared, 4)),
                          qs(readableText(l.generalised->dispersion, 4)));
    else if (std::isnan(l.rSquared))
        lines << QString("R², spread and tests have no value: there are as many coefficients as rows");
    else
        lines << QString("R² %1, adjusted %2%3")
                     .arg(qs(readableText(l.rSquared)), qs(readableText(l.adjustedRSquared)),
                          e.logResponse ? QString(", of the logarithm") : QString());
    if (const std::string penalty = settingsFoundText(e); !penalty.empty()) lines << qs(penalty);
    if (l.iterated && l.iterated->scale > 0)
        lines << QString("Scale of the residuals %1%2; %3 weigh less than a half")
                     .arg(qs(readableText(l.iterated->scale)), e.logResponse ? QString() : unit,
                          qs(plural(l.iterated->rowsDoubted, "row", "rows")));
    else if (!std::isnan(l.residualStandardDeviation) && !l.generalised)
        lines << QString("Residual standard deviation %1%2 with %3 degrees of freedom")
                     .arg(qs(readableText(l.residualStandardDeviation)),
                          e.logResponse ? QString(" on the logarithm") : unit,
                          qs(countText(static_cast<std::size_t>(l.degreesOfFreedom))));
    if (e.logResponse && std::isnan(l.quantileFit))
        lines << QString("Predictions are exp of the equation times %1 (Duan 1983): exp of a mean logarithm "
                         "falls short of the mean")
                     .arg(qs(readableText(e.smearing)));
    if (std::isfinite(l.aicc))
        lines << QString("AICc %1, BIC %2").arg(qs(readableText(l.aicc, 6)), qs(readableText(l.bic, 6)));
    if (!std::isnan(l.f))
        lines << QString("All terms together: F %1, p %2")
                     .arg(qs(readableText(l.f)), qs(probabilityText(l.fP)));
    else if (!l.fWhy.empty())
        lines << QString("All terms together: no test; %1").arg(qs(l.fWhy));
    return lines;
}

/// Raw and adjusted beside each other, with what each is.
QStringList foldLines(const FoldEvidence& f, const QString& unit) {
    QStringList lines;
    const auto text = [&](double mse) { return qs(readableText(std::sqrt(mse))) + unit; };
    QString first = QString("Judged by %1: RMSE %2%3%4, MAE %5, R² %6")
                        .arg(qs(foldPlanText(f.plan)), qs(readableText(f.rmse)),
                             std::isnan(f.rmseError) ? QString() : " ± " + qs(readableText(f.rmseError, 2)),
                             unit, qs(readableText(f.mae)), qs(readableText(f.rSquared)));
    if (f.partial())
        first += QString("; stopped after %1 of %2").arg(qs(countText(f.done)), qs(countText(f.asked)));
    lines << first;
    if (!std::isnan(f.adjustedMse))
        lines << QString("Raw %1 is the error of models of fewer rows, a little too large for this one; "
                         "bias-adjusted %2 takes what fewer rows cost off (Davison and Hinkley 1997)")
                     .arg(text(f.mse), text(f.adjustedMse));
    if (f.bootstrap)
        lines << QString("Rows not drawn %1, too large since draws hold 63 % of the rows; .632+ %2 weighs it "
                         "with the learning error %3 (Efron and Tibshirani 1997)")
                     .arg(text(f.bootstrap->outOfBag), text(f.bootstrap->plus632), text(f.learningMse));
    if (!std::isnan(f.spreadOverRepeats)) {
        const auto [low, high] = std::minmax_element(
            f.repeats.begin(), f.repeats.end(), [](const auto& a, const auto& b) { return a.rmse < b.rmse; });
        lines << QString(
                     "Dealt %1 times: RMSE from %2 (seed %3) to %4 (seed %5), spread ± %6: what turns with "
                     "the seed")
                     .arg(f.repeats.size())
                     .arg(qs(readableText(low->rmse)))
                     .arg(low->seed)
                     .arg(qs(readableText(high->rmse)))
                     .arg(high->seed)
                     .arg(qs(readableText(f.spreadOverRepeats, 2)));
    }
    QStringList shares;
    for (const auto& [name, share] : f.chosenShares)
        if (share > 0) shares << QString("%1 %2").arg(qs(name), qs(percentText(share)));
    if (!shares.isEmpty()) lines << "Chosen anew in each fold: " + shares.join(", ");
    return lines;
}

} // namespace

QStringList fitSummary(const Session& session) {
    const auto& e = session.evidence();
    if (!e) return {};
    const QString unit = session.unit(e->response).isEmpty() ? QString() : " " + session.unit(e->response);
    QStringList lines;
    if (e->linear)
        lines << linearSummary(*e, *e->linear, unit);
    else {
        for (const NamedNumber& said : e->says)
            lines << QString("%1: %2").arg(qs(said.name), qs(said.value == std::floor(said.value)
                                                                 ? groupedText(said.value)
                                                                 : readableText(said.value, 3)));
        // What its kind tells, but for what is drawn.
        if (const ModelPart part = partOf(*e->study); part.key != "tree")
            for (const QString& line : qs(part.text).split('\n', Qt::SkipEmptyParts))
                lines << line;
    }
    lines << QString("Learning rows: RMSE %1%2, MAE %3")
                 .arg(qs(readableText(e->learning.rmse)), unit, qs(readableText(e->learning.mae)));
    if (e->leftOneOut)
        lines << QString("%1 %2: RMSE %3 ± %4%5")
                     .arg(qs(plural(e->leftOneOut->rows, "learning row", "learning rows")),
                          qs(std::string(errorsOfName(e->study->trained.unseenOf))),
                          qs(readableText(e->leftOneOut->rmse)),
                          qs(readableText(e->leftOneOut->rmseError, 2)), unit);
    if (e->folds) lines << foldLines(*e->folds, unit);
    if (e->heldOut.rows > 0)
        lines << QString("Held-out rows: RMSE %1 ± %2%3, MAE %4, R² %5")
                     .arg(qs(readableText(e->heldOut.rmse)), qs(readableText(e->heldOut.rmseError, 2)), unit,
                          qs(readableText(e->heldOut.mae)), qs(readableText(e->heldOut.rSquared)));
    if (e->heldOutKept)
        lines << QString("Without %1: RMSE %2 ± %3%4")
                     .arg(qs(plural(e->heldOut.rows - e->heldOutKept->rows,
                                    "held-out row that a step leaves out",
                                    "held-out rows that steps leave out")),
                          qs(readableText(e->heldOutKept->rmse)),
                          qs(readableText(e->heldOutKept->rmseError, 2)), unit);
    return lines;
}

} // namespace oxgoad
