#include "base/text.h"
#include "check/checks.h"
#include "estimate/distributions.h"

#include <cmath>

namespace oxgoad {

namespace {

/// Correlation over learning rows of `values` with a numeric input.
double correlationWithInput(const CheckContext& context, std::size_t input, const Eigen::VectorXd& values) {
    const auto n = static_cast<double>(context.learningRows.size());
    double sum = 0;
    for (const auto row : context.learningRows)
        sum += context.inputs.value(input, row);
    const double mean = sum / n;
    const double other = values.mean();
    double xy = 0, xx = 0, yy = 0;
    for (std::size_t i = 0; i < context.learningRows.size(); ++i) {
        const double dx = context.inputs.value(input, context.learningRows[i]) - mean;
        const double dy = values[static_cast<Eigen::Index>(i)] - other;
        xy += dx * dy;
        xx += dx * dx;
        yy += dy * dy;
    }
    return xx > 0 && yy > 0 ? xy / std::sqrt(xx * yy) : 0;
}

} // namespace

void checkSpread(const CheckContext& context, Findings& findings) {
    const LeastSquaresFit& fit = context.linear->model.fit;
    const auto k = static_cast<double>(fit.rank() - (fit.intercept ? 1 : 0));
    // LM = n R² of the squared residuals on the same columns (Koenker 1981, "A note on studentizing a test
    // for heteroscedasticity", Journal of Econometrics 17).
    Eigen::VectorXd squares = context.linear->residuals.array().square();
    if (!context.weights.empty()) // with weights √w·e is what should spread evenly
        squares.array() *= Eigen::Map<const Eigen::ArrayXd>(context.weights.data(), squares.size());
    const Eigen::VectorXd centred = squares.array() - squares.mean();
    const double total = centred.squaredNorm();
    if (!(total > 0)) return;
    const DesignRows x(context.linear->design, context.learningRows);
    double explained = 0;
    if (context.weights.empty()) {
        const auto [products, sum] =
            shiftedCrossProducts(fit, x, centred, context.threads, *context.progress);
        explained = fit.explainedSumOfSquares(products, sum);
    } else {
        const std::vector<double> values(squares.begin(), squares.end());
        const LeastSquaresFit auxiliary = fitLeastSquares(
            x, values, {.threads = context.threads, .precision = LeastSquaresOptions::Precision::plain},
            *context.progress);
        explained = auxiliary.totalSumOfSquares - auxiliary.residualSumOfSquares;
    }
    const double statistic = static_cast<double>(fit.rows) * explained / total;
    const double p = chiSquaredUpper(statistic, k);
    findings.readings.push_back({"unequal spread", statistic, pLimit, p,
                                 "Lagrange multiplier with " + readableText(k, 3) + " degrees of freedom",
                                 "Koenker 1981"});
    // Errors that stand it leave the intervals of single values, which do not.
    if (!(p < pLimit) || (context.robustToSpread && context.reach.empty())) return;

    double strongest = 0;
    std::string column;
    const auto& inputs = context.inputs.inputs();
    std::vector<double> correlations(inputs.size(), 0);
    parallelFor(inputs.size(), context.threads, [&](std::size_t i) {
        if (context.progress->stopRequested()) throw Stopped{};
        if (!inputs[i].factor) correlations[i] = correlationWithInput(context, i, squares);
    });
    for (std::size_t i = 0; i < inputs.size(); ++i) {
        const double r = correlations[i];
        if (std::fabs(r) > std::fabs(strongest)) {
            strongest = r;
            column = inputs[i].name;
        }
    }
    Goad goad;
    goad.key = "unequal spread";
    goad.title = std::fabs(strongest) < 0.1 ? "The spread of residuals is not even"
                 : strongest > 0            ? "The spread of residuals grows with " + column
                                            : "The spread of residuals shrinks with " + column;
    goad.reading =
        "LM " + readableText(statistic, 3) + ", p " + probabilityText(p) +
        (context.robustToSpread
             ? "; the errors of the coefficients stand it, intervals of single values are too narrow where "
               "the spread is large"
             : "; intervals are too narrow where the spread is large");
    goad.threshold = "p below 0.01";
    goad.source = "Koenker 1981";
    goad.station = "check";
    goad.column = column;
    if (!column.empty()) goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (!context.robustToSpread && !context.kind.standsOutliers)
        goad.moves.push_back(
            {.label = "errors that stand it",
             .edit = [](Recipe& recipe, const std::string&) { recipe.errors.kind = ErrorsKind::hc3; }});
    if (!context.logResponse)
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
