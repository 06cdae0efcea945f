#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <cmath>

namespace oxgoad {

namespace {

QStringList linearSummary(const Evidence& e, const LinearEvidence& l, const QString& unit) {
    QStringList lines;
    if (!std::isnan(l.quantileFit))
        lines << QString("Check loss %1 % below that of the quantile alone (Koenker and Machado 1999)")
                     .arg(qs(readableText(100 * l.quantileFit, 3)));
    else if (std::isnan(l.rSquared))
        lines << QString("R², spread and tests have no value: there are as many coefficients as rows");
    else
        lines << QString("R² %1, adjusted %2%3")
                     .arg(qs(readableText(l.rSquared)), qs(readableText(l.adjustedRSquared)),
                          e.logResponse ? QString(", of the logarithm") : QString());
    if (l.iterated && l.iterated->scale > 0)
        lines << QString("Scale of the residuals %1%2; %3 weigh less than a half")
                     .arg(qs(readableText(l.iterated->scale)), e.logResponse ? QString() : unit,
                          qs(plural(l.iterated->rowsDoubted, "row", "rows")));
    else if (!std::isnan(l.residualStandardDeviation))
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

} // namespace

QStringList fitSummary(const Session& session) {
    const auto& e = session.evidence();
    if (!e) return {};
    const QString unit = session.unit(e->response).isEmpty() ? QString() : " " + session.unit(e->response);
    QStringList lines;
    if (e->linear)
        lines << linearSummary(*e, *e->linear, unit);
    else
        for (const NamedNumber& said : e->says)
            lines << QString("%1: %2").arg(qs(said.name),
                                           qs(said.value == std::floor(said.value)
                                                  ? countText(static_cast<std::size_t>(said.value))
                                                  : readableText(said.value, 3)));
    lines << QString("Learning rows: RMSE %1%2, MAE %3")
                 .arg(qs(readableText(e->learning.rmse)), unit, qs(readableText(e->learning.mae)));
    if (e->leftOneOut)
        lines << QString("%1 left out one at a time: RMSE %2 ± %3%4")
                     .arg(qs(plural(e->leftOneOut->rows, "learning row", "learning rows")),
                          qs(readableText(e->leftOneOut->rmse)),
                          qs(readableText(e->leftOneOut->rmseError, 2)), unit);
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
