#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"
#include "estimate/linear/least_trimmed.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// t of rows against a fit of all others but the suspects: what least squares would say of each had the
/// others of them not hidden it.
std::vector<double> againstTheRest(const Eigen::MatrixXd& q, const Eigen::VectorXd& y,
                                   const std::vector<Eigen::Index>& suspects, double& df) {
    using Eigen::Index;
    const Index p = q.cols();
    Eigen::MatrixXd out(static_cast<Index>(suspects.size()), p);
    Eigen::VectorXd outY(static_cast<Index>(suspects.size()));
    for (std::size_t k = 0; k < suspects.size(); ++k) {
        out.row(static_cast<Index>(k)) = q.row(suspects[k]);
        outY[static_cast<Index>(k)] = y[suspects[k]];
    }
    const Eigen::MatrixXd gram = Eigen::MatrixXd::Identity(p, p) - out.transpose() * out;
    const Eigen::LDLT<Eigen::MatrixXd> solver(gram);
    const Eigen::VectorXd beta = solver.solve(q.transpose() * y - out.transpose() * outY);
    Eigen::VectorXd residuals = y - q * beta;
    double squares = residuals.squaredNorm();
    for (const Index i : suspects)
        squares -= residuals[i] * residuals[i];
    df = static_cast<double>(q.rows() - p) - static_cast<double>(suspects.size());
    const double variance = squares / df;
    std::vector<double> t;
    for (const Index i : suspects) {
        const double h = q.row(i).dot(solver.solve(q.row(i).transpose()));
        t.push_back(residuals[i] / std::sqrt(variance * (1 + std::max(0.0, h))));
    }
    return t;
}

} // namespace

void checkHiddenRows(const CheckContext& context, Findings& findings) {
    const std::string name = "rows that hide each other";
    const std::string source = "Rousseeuw 1984; Rousseeuw and Van Driessen 2006; Hadi and Simonoff 1993";
    const LeastSquaresFit& fit = context.linear->fit;
    const auto n = static_cast<Eigen::Index>(context.learningRows.size());
    if (n < 2 * fit.rank() + 5) {
        findings.readings.push_back(
            noReading(name, "half of the rows are too few for " +
                                plural(static_cast<std::size_t>(fit.rank()), "coefficient", "coefficients")));
        return;
    }
    constexpr Eigen::Index widest = 250;
    if (fit.rank() > widest) {
        findings.readings.push_back(
            noReading(name, countText(static_cast<std::size_t>(fit.rank())) +
                                " coefficients are too many for random starts to miss such rows"));
        return;
    }
    const Eigen::MatrixXd& q = context.linear->orthonormal();
    Eigen::VectorXd y = context.linear->residuals; // only what the columns do not say matters
    for (Eigen::Index i = 0; i < n && !context.weights.empty(); ++i) {
        y[i] *= std::sqrt(context.weights[static_cast<std::size_t>(i)]);
    }
    const LeastTrimmed robust = leastTrimmed(q, y, context.threads, *context.progress);
    std::vector<std::size_t> hidden;
    std::vector<double> hiddenT;
    double df = 0;
    const double limit = context.limitOf(name, 0);
    if (!robust.suspects.empty() && static_cast<Eigen::Index>(robust.suspects.size()) < n / 2) {
        const auto t = againstTheRest(q, y, robust.suspects, df);
        const double rows = static_cast<double>(n);
        const double own = fit.degreesOfFreedom - 1;
        for (std::size_t k = 0; k < robust.suspects.size(); ++k) {
            const auto i = static_cast<std::size_t>(robust.suspects[k]);
            const bool seen = !context.linear->studentized.empty() && own > 0 &&
                              rows * studentTwoSided(context.linear->studentized[i], own) < pLimit;
            if (!seen && df > 0 && rows * studentTwoSided(t[k], df) < pLimit) {
                hidden.push_back(i);
                hiddenT.push_back(t[k]);
            }
        }
    }
    const auto value = static_cast<double>(hidden.size());
    findings.readings.push_back(
        madeReading(name, value, limit, {},
                    "rows far off a fit by least trimmed squares, of " + countText(robust.suspects.size()) +
                        " suspects, whose residual against the other rows is significant for " +
                        countText(context.learningRows.size()) +
                        " rows, though least squares of all rows does not show it",
                    source));
    if (!(value > limit)) return;
    std::string listed;
    for (std::size_t k = 0; k < std::min<std::size_t>(hidden.size(), 5); ++k)
        listed += (k > 0 ? ", " : "") + countText(context.learningRows[hidden[k]] + 1) + " (t " +
                  readableText(hiddenT[k], 3) + ")";
    if (hidden.size() > 5) listed += " …";
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = Severity::alarm;
    goad.title = plural(hidden.size(), "row hides", "rows hide") + " behind others";
    goad.reading = (hidden.size() == 1 ? "row " : "rows ") + listed +
                   ": far off a fit of the other rows, though no residual of all rows shows it";
    goad.threshold = "any such row";
    goad.source = source;
    goad.station = "check";
    goad.row = context.learningRows[hidden.front()];
    goad.cost = 1 - robust.scale / std::max(robust.scale, fit.residualStandardDeviation);
    goad.costSays = "the share of the residual standard deviation that they make";
    goad.size = value;
    goad.moves.push_back(seeRow(*goad.row));
    goad.moves.push_back({.label = "fit robustly", .edit = [](Recipe& recipe, const std::string&) {
                              recipe.estimator = {"robust", {{"function", std::string("bisquare")}}};
                              recipe.errors = {};
                          }});
    std::vector<std::uint32_t> rows;
    for (const auto i : hidden)
        rows.push_back(context.learningRows[i]);
    goad.moves.push_back({.label = rows.size() == 1 ? "leave it out" : "leave them out",
                          .edit =
                              [rows](Recipe& recipe, const std::string& reason) {
                                  for (const auto row : rows)
                                      recipe.leaveOut.push_back({row + 1, reason});
                              },
                          .asks = "Why are they left out?"});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
