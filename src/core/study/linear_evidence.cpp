#include "study/linear_evidence.h"

#include "base/not_a_number.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace oxgoad {

using Eigen::Index;

namespace {

/// AIC corrected for few rows (Hurvich and Tsai 1989, Biometrika 76) and BIC (Schwarz 1978, Annals of
/// Statistics 6) of normal errors, the spread counting as a parameter; of ln(response) carried back to
/// the response by the sum of its logarithms, so that both forms compare. Least squares only.
void judgeByInformation(const LinearScope& scope, LinearEvidence& out) {
    out.aicc = out.bic = nan;
    const LeastSquaresFit& fit = scope.study.linear()->fit;
    if (const auto& of = scope.study.linear()->generalised; of && std::isfinite(of->logLikelihood)) {
        const double parameters = static_cast<double>(fit.rank()) + (of->powerFound ? 2 : 1);
        const double n = fit.degreesOfFreedom + static_cast<double>(fit.rank());
        out.bic = -2 * of->logLikelihood + parameters * std::log(n);
        if (n - parameters - 1 > 0)
            out.aicc = -2 * of->logLikelihood + 2 * parameters +
                       2 * parameters * (parameters + 1) / (n - parameters - 1);
        return;
    }
    if (!kindOf(scope.recipe.estimator).leastSquares || !(fit.residualSumOfSquares > 0) ||
        !(fit.degreesOfFreedom > 0) || fit.fitsExactly)
        return;
    const double parameters = static_cast<double>(fit.rank()) + 1;
    const double n = fit.degreesOfFreedom + static_cast<double>(fit.rank());
    double twice = n * (std::log(2 * std::numbers::pi * fit.residualSumOfSquares / n) + 1);
    for (const double w : scope.study.weights)
        if (w > 0) twice -= std::log(w);
    if (scope.recipe.logResponse) {
        const auto response = scope.table.at(scope.recipe.response, scope.file).numbers();
        for (const auto row : scope.study.rows)
            twice += 2 * std::log(response[row]);
    }
    out.bic = twice + parameters * std::log(n);
    if (n - parameters - 1 > 0)
        out.aicc = twice + 2 * parameters + 2 * parameters * (parameters + 1) / (n - parameters - 1);
}

/// What the fit says as a whole.
void describeFit(const LinearScope& scope, LinearEvidence& out) {
    const LinearModel& linear = *scope.study.linear();
    const LeastSquaresFit& fit = linear.fit;
    const double k = static_cast<double>(fit.rank() - (fit.intercept ? 1 : 0));
    const double df = fit.degreesOfFreedom;
    const double explained = fit.totalSumOfSquares - fit.residualSumOfSquares;
    out.errorUnits = linear.errorUnits;
    out.errorLags = linear.errorLags;
    out.iterated = linear.iterated;
    out.quantileFit = linear.quantileFit;
    out.residualStandardDeviation = fit.residualStandardDeviation;
    out.degreesOfFreedom = df;
    out.residualSumOfSquares = fit.residualSumOfSquares;
    out.totalSumOfSquares = fit.totalSumOfSquares;
    out.conditionNumber = fit.conditionNumber;
    out.digitsLeft = fit.digitsLeft;
    out.responseDigitsLeft = fit.responseDigitsLeft;
    out.fitsExactly = fit.fitsExactly;
    out.rowsFixed = fit.rowsFixed;
    out.twicePrecision = fit.exact;
    out.rankTolerance = fit.rankToleranceUsed;
    out.generalised = linear.generalised;
    out.rSquared = df > 0 ? 1 - fit.residualSumOfSquares / fit.totalSumOfSquares : nan;
    const double whole = df + static_cast<double>(fit.rank()) - (fit.intercept ? 1 : 0);
    out.adjustedRSquared =
        df > 0 ? 1 - (fit.residualSumOfSquares / df) / (fit.totalSumOfSquares / whole) : nan;
    out.fDegreesOfFreedom = k;
    JointTest all{nan, k, fit.testDegreesOfFreedom(), {}};
    if (k > 0) all = fit.jointTest(fit.kept);
    if (!fit.covarianceRoot && !std::isnan(all.f)) all.f = (explained / k) / (fit.residualSumOfSquares / df);
    if (linear.generalised) {
        // Shares of the deviance, and the F test by it (McCullagh and Nelder 1989, §9.2).
        const Generalised& of = *linear.generalised;
        out.residualSumOfSquares = of.deviance;
        out.totalSumOfSquares = of.nullDeviance;
        out.rSquared = df > 0 ? 1 - of.deviance / of.nullDeviance : nan;
        out.adjustedRSquared = nan;
        if (k > 0 && !fit.covarianceRoot)
            all = {(of.nullDeviance - of.deviance) / k / of.dispersion, k, df, {}};
    }
    if (fit.fitsExactly) {
        all.f = nan;
        all.why = "the model fits to the last digit, so that there is no spread to judge by";
    }
    out.f = all.f;
    out.fDenominatorDf = all.denominatorDf;
    out.fWhy = all.why;
    out.fP = fisherUpper(all.f, k, all.denominatorDf);
    judgeByInformation(scope, out);
}

/// Leverage, deleted residuals and Cook's distances (Cook and Weisberg 1982, §2.2 and §3.1).
void describeRows(const LinearScope& scope, LinearEvidence& out) {
    LinearRows& rows = out.rows;
    const std::size_t n = scope.table.rows();
    for (auto* values : {&rows.leverage, &rows.studentized, &rows.cook})
        values->assign(n, nan);
    const LeastSquaresFit& fit = scope.study.linear()->fit;
    const TrainingResults& trained = scope.study.trained;
    const double df = fit.degreesOfFreedom;
    const double variance = fit.residualSumOfSquares / df;
    const auto rank = static_cast<double>(fit.rank());
    const bool leastSquares = kindOf(scope.recipe.estimator).leastSquares;
    if (!trained.robustWeights.empty()) rows.robustWeight.assign(n, nan);
    for (std::size_t i = 0; i < scope.study.rows.size(); ++i) {
        const auto row = scope.study.rows[i];
        const auto at = static_cast<Index>(i);
        const double weight = scope.study.weights.empty() ? 1 : scope.study.weights[i];
        const double e = trained.residuals[at] * std::sqrt(weight);
        const double h = trained.leverages[at];
        const double left = 1 - h;
        const bool determined = left < 1e-10; // the row alone fixes its fitted value
        const double deleted = (fit.residualSumOfSquares - e * e / left) / (df - 1);
        rows.leverage[row] = h;
        rows.studentized[row] = df > 1 && !determined && deleted > 0 ? e / std::sqrt(deleted * left) : nan;
        rows.cook[row] =
            df > 0 && !determined && variance > 0 ? e * e / (rank * variance) * h / (left * left) : nan;
        if (!leastSquares) { // no row's leaving is known without another fit
            rows.studentized[row] = e / (fit.residualStandardDeviation * std::sqrt(std::max(left, 1e-10)));
            rows.cook[row] = nan;
        }
        if (!rows.robustWeight.empty()) rows.robustWeight[row] = trained.robustWeights[i];
    }
}

} // namespace

LinearEvidence describeLinear(const LinearScope& scope) {
    LinearEvidence out;
    describeFit(scope, out);
    scope.progress.checkpoint(0.2, "Diagnosing rows");
    describeRows(scope, out);
    scope.progress.checkpoint(0.3, "Testing coefficients");
    describeCoefficients(scope, out);
    scope.progress.checkpoint(0.5, "Weighing terms");
    describeTerms(scope, out);
    return out;
}

} // namespace oxgoad
