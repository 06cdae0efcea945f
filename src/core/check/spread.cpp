#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"
#include "look/ranking.h"

#include <algorithm>
#include <cmath>
#include <numeric>

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

/// By how much intervals of single values are too wide or too narrow, over tenths of the errors by the size
/// of the prediction.
void setSpreadCost(const CheckContext& context, Goad& goad) {
    std::vector<std::size_t> order(context.errors.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::vector<double> said(context.table.rows(), 0);
    for (std::size_t i = 0; i < context.learningRows.size(); ++i)
        said[context.learningRows[i]] = context.fitted[i];
    for (std::size_t i = 0; i < context.unseen.rows.size(); ++i)
        if (!context.linear) said[context.unseen.rows[i]] = context.unseen.predicted[i];
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return said[context.errorRows[a]] < said[context.errorRows[b]];
    });
    double all = 0, off = 0, most = 0;
    const std::size_t n = order.size(), tenths = 10;
    for (const double e : context.errors)
        all += e * e;
    if (!(all > 0) || n < 2 * tenths) return;
    const double usual = std::sqrt(all / static_cast<double>(n));
    for (std::size_t t = 0; t < tenths; ++t) {
        double squares = 0;
        const std::size_t begin = t * n / tenths, end = (t + 1) * n / tenths;
        for (std::size_t k = begin; k < end; ++k)
            squares += context.errors[order[k]] * context.errors[order[k]];
        const double spread = std::sqrt(squares / static_cast<double>(end - begin));
        off += std::fabs(1 - spread / usual) / static_cast<double>(tenths);
        most = std::max(most, spread / usual);
    }
    goad.cost = off;
    goad.costSays =
        "by this share intervals of single values are too wide or too narrow, on average over tenths of "
        "the predictions";
    goad.size = most;
}

} // namespace

void checkSpreadOfErrors(const CheckContext& context, Findings& findings) {
    if (context.linear) return; // see checkSpread
    const std::string name = "unequal spread";
    const auto n = static_cast<Eigen::Index>(context.errors.size());
    std::vector<Eigen::VectorXd> columns;
    std::vector<std::string> names;
    const auto& inputs = context.inputs.inputs();
    for (std::size_t i = 0; i < inputs.size(); ++i) {
        if (inputs[i].factor) continue;
        Eigen::VectorXd values(n);
        context.inputs.fillOne(i, context.errorRows, values.data());
        if (!values.allFinite()) continue;
        values = standardised(values);
        if (!(values.squaredNorm() > 0)) continue;
        columns.push_back(std::move(values));
        names.push_back(inputs[i].name);
    }
    const Eigen::Map<const Eigen::VectorXd> errors(context.errors.data(), n);
    const Eigen::VectorXd squares = errors.array().square();
    Eigen::MatrixXd x(n, static_cast<Eigen::Index>(columns.size()));
    for (std::size_t k = 0; k < columns.size(); ++k)
        x.col(static_cast<Eigen::Index>(k)) = columns[k];
    if (columns.empty() || n < x.cols() + 3) {
        findings.readings.push_back(noReading(name, "there is no number among the inputs to judge it by"));
        return;
    }
    LeastSquaresOptions options;
    options.threads = context.threads;
    options.precision = LeastSquaresOptions::Precision::plain;
    const LeastSquaresFit fit = fitLeastSquares(
        MatrixRows(x), std::vector<double>(squares.begin(), squares.end()), options, *context.progress);
    const double k = static_cast<double>(fit.rank() - 1);
    const double statistic =
        static_cast<double>(n) * (fit.totalSumOfSquares - fit.residualSumOfSquares) / fit.totalSumOfSquares;
    const double p = chiSquaredUpper(statistic, k);
    const double limit = context.limitOf(name, pLimit);
    findings.readings.push_back({name, statistic, limit, p,
                                 "Lagrange multiplier of " + context.errorsOf +
                                     " on the numbers among the inputs, " + shortText(k) +
                                     " degrees of freedom",
                                 "Koenker 1981"});
    if (!(p < limit)) return;
    std::size_t strongest = 0;
    std::vector<double> r;
    for (const Eigen::VectorXd& column : columns)
        r.push_back(column.dot(squares) / static_cast<double>(n));
    for (std::size_t c = 1; c < r.size(); ++c)
        if (std::fabs(r[c]) > std::fabs(r[strongest])) strongest = c;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = std::string("The spread of errors ") + (r[strongest] > 0 ? "grows" : "shrinks") + " with " +
                 names[strongest];
    goad.reading = "LM " + readableText(statistic, 3) + ", p " + probabilityText(p) +
                   "; intervals are as wide everywhere, so too narrow where the spread is large";
    goad.threshold = pThresholdText(limit);
    goad.source = "Koenker 1981";
    goad.station = "check";
    goad.column = names[strongest];
    setSpreadCost(context, goad);
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (!context.logResponse)
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    findings.goads.push_back(std::move(goad));
}

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
    if (!(total > 0)) {
        findings.readings.push_back(noReading("unequal spread", "squared residuals do not differ"));
        return;
    }
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
    const double limit = context.limitOf("unequal spread", pLimit);
    findings.readings.push_back({"unequal spread", statistic, limit, p,
                                 "Lagrange multiplier with " + shortText(k) + " degrees of freedom",
                                 "Koenker 1981"});
    // Errors that stand it leave the intervals of single values, which do not.
    if (!(p < limit) || (context.robustToSpread && context.reach.empty())) return;

    double strongest = 0;
    std::string column;
    const auto& inputs = context.inputs.inputs();
    std::vector<double> correlations(inputs.size(), 0);
    parallelFor(inputs.size(), context.threads, [&](std::size_t i) {
        stopIfTold(*context.progress);
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
    goad.threshold = pThresholdText(limit);
    goad.source = "Koenker 1981";
    goad.check = "unequal spread";
    goad.family = "spread";
    goad.familyTitle = "# signs of unequal spread";
    setSpreadCost(context, goad);
    goad.station = "check";
    goad.column = column;
    if (!column.empty()) goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (auto weigh = weighBy(context, column)) goad.moves.push_back(std::move(*weigh));
    if (!context.robustToSpread && !context.kind.standsOutliers)
        goad.moves.push_back(
            {.label = "errors that stand it",
             .edit = [](Recipe& recipe, const std::string&) { recipe.errors.kind = CovarianceKind::hc3; }});
    if (!context.logResponse)
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    findings.goads.push_back(std::move(goad));
}

void checkSpreadByRanks(const CheckContext& context, Findings& findings) {
    const std::string name = "unequal spread, ranks";
    const std::string source = "Spearman 1904, Bonferroni";
    // Evenly spaced rows when there are many: ranks take sorting.
    constexpr std::size_t many = 20000;
    const std::size_t n = std::min(many, context.errors.size());
    std::vector<std::uint32_t> places;
    for (std::size_t k = 0; k < n; ++k)
        places.push_back(static_cast<std::uint32_t>(k * context.errors.size() / n));
    std::vector<double> sizes;
    std::vector<std::uint32_t> rows;
    for (const auto place : places) {
        sizes.push_back(std::fabs(context.errors[place]));
        rows.push_back(context.errorRows[place]);
    }
    const std::vector<double> ranks = ranksOf(sizes);
    const Eigen::VectorXd z =
        standardised(Eigen::Map<const Eigen::VectorXd>(ranks.data(), static_cast<Eigen::Index>(n)));
    const auto& inputs = context.inputs.inputs();
    std::vector<double> correlations(inputs.size(), 0);
    parallelFor(inputs.size(), context.threads, [&](std::size_t i) {
        stopIfTold(*context.progress);
        if (inputs[i].factor) return;
        std::vector<double> values(n);
        context.inputs.fillOne(i, rows, values.data());
        if (!std::all_of(values.begin(), values.end(), [](double v) { return std::isfinite(v); })) return;
        const std::vector<double> own = ranksOf(values);
        correlations[i] =
            standardised(Eigen::Map<const Eigen::VectorXd>(own.data(), static_cast<Eigen::Index>(n))).dot(z) /
            static_cast<double>(n);
    });
    std::size_t best = 0, tried = 0;
    for (std::size_t i = 0; i < inputs.size(); ++i) {
        tried += inputs[i].factor ? 0 : 1;
        if (std::fabs(correlations[i]) > std::fabs(correlations[best])) best = i;
    }
    if (tried == 0 || n < 8) {
        findings.readings.push_back(
            noReading(name, tried == 0 ? "no number is in the model" : "fewer than eight rows"));
        return;
    }
    const double r = correlations[best];
    const double t = r * std::sqrt((static_cast<double>(n) - 2) / std::max(1e-300, 1 - r * r));
    const double p =
        std::min(1.0, studentTwoSided(t, static_cast<double>(n) - 2) * static_cast<double>(tried));
    const double limit = context.limitOf(name, pLimit);
    findings.readings.push_back(madeReading(
        name, r, limit, p,
        "rank correlation of the sizes of " + context.errorsOf + " with " + inputs[best].name +
            ", which single far rows do not hide; p for " + plural(tried, "number", "numbers") + " tried",
        source));
    if (!(p < limit) || (context.robustToSpread && context.reach.empty())) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = std::string("The spread of residuals ") + (r > 0 ? "grows" : "shrinks") + " with " +
                 inputs[best].name;
    goad.reading = "rank correlation " + readableText(r, 2) + " of their sizes, p " + probabilityText(p) +
                   "; intervals are too narrow where the spread is large";
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = inputs[best].name;
    goad.family = "spread";
    goad.familyTitle = "# signs of unequal spread";
    setSpreadCost(context, goad);
    goad.size = std::fabs(r);
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (auto weigh = weighBy(context, goad.column)) goad.moves.push_back(std::move(*weigh));
    if (!context.robustToSpread && context.kind.leastSquares)
        goad.moves.push_back(
            {.label = "errors that stand it",
             .edit = [](Recipe& recipe, const std::string&) { recipe.errors.kind = CovarianceKind::hc3; }});
    if (!context.logResponse)
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
