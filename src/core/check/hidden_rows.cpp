#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"
#include "estimate/linear/least_trimmed.h"
#include "recipe/validity.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;

/// All rows against a fit without some of them.
struct Against {
    /// Of rows left out the residual over its standard error as a new row's; of the others over the residual
    /// standard deviation. Empty where the others do not hold the model.
    std::vector<double> t;
    double scale = 0, degreesOfFreedom = 0;
    /// How far the fitted values move, over what chance moves them: Cook's distance of the rows together.
    double moved = 0;
};

Against against(const Eigen::MatrixXd& q, const Eigen::VectorXd& y, const std::vector<Index>& out) {
    const Index p = q.cols();
    const Eigen::MatrixXd rows = q(out, Eigen::all);
    const Eigen::MatrixXd gram = Eigen::MatrixXd::Identity(p, p) - rows.transpose() * rows;
    const Eigen::LDLT<Eigen::MatrixXd> solver(gram);
    Against found;
    found.degreesOfFreedom = static_cast<double>(q.rows() - p) - static_cast<double>(out.size());
    if (!(solver.vectorD().minCoeff() > 1e-8) || found.degreesOfFreedom < 1) return found;
    const Eigen::VectorXd all = q.transpose() * y;
    const Eigen::VectorXd beta = solver.solve(all - rows.transpose() * Eigen::VectorXd(y(out)));
    const Eigen::VectorXd residuals = y - q * beta;
    double squares = residuals.squaredNorm();
    for (const Index i : out)
        squares -= residuals[i] * residuals[i];
    found.scale = std::sqrt(std::max(0.0, squares) / found.degreesOfFreedom);
    // No spread is left beside the rounding of what they say: most rows are fitted to the last digit.
    if (!(found.scale > 1e-8 * y.cwiseAbs().maxCoeff())) return found;
    found.moved = (beta - all).squaredNorm() / (static_cast<double>(p) * found.scale * found.scale);
    for (const double e : residuals)
        found.t.push_back(e / found.scale);
    for (const Index i : out)
        found.t[static_cast<std::size_t>(i)] /=
            std::sqrt(1 + std::max(0.0, q.row(i).dot(solver.solve(q.row(i).transpose()))));
    return found;
}

/// Rows far apart from all others by a fit without them, as far as a smallest of theirs is twice the largest
/// of the others: up to a quarter of the rows, beginning with the suspects. Rows in the tail of a wide
/// distribution, on the other side of a bend or of a level that is not in the model have no such gap, or are
/// no small part.
std::vector<Index> rowsApart(const Eigen::MatrixXd& q, const Eigen::VectorXd& y, std::vector<Index> rows,
                             Against& found) {
    constexpr double gap = 2;
    const Index most = q.rows() / 4;
    for (int round = 0; round < 10 && !rows.empty(); ++round) {
        found = against(q, y, rows);
        if (found.t.empty()) return {};
        std::vector<Index> order(found.t.size());
        std::iota(order.begin(), order.end(), Index{0});
        const auto size = [&](Index i) { return std::fabs(found.t[static_cast<std::size_t>(i)]); };
        std::partial_sort(order.begin(), order.begin() + most + 1, order.end(),
                          [&](Index a, Index b) { return size(a) != size(b) ? size(a) > size(b) : a < b; });
        Index last = 0;
        for (Index k = 1; k <= most; ++k)
            if (size(order[static_cast<std::size_t>(k - 1)]) >=
                gap * size(order[static_cast<std::size_t>(k)]))
                last = k;
        order.resize(static_cast<std::size_t>(last));
        std::sort(order.begin(), order.end());
        if (order == rows) return rows;
        rows = std::move(order);
    }
    return {};
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
    const double limit = context.limitOf(name, 0);
    Against found;
    std::vector<Index> hidden = rowsApart(q, y, robust.suspects, found);
    const double own = fit.degreesOfFreedom - 1;
    const auto rarely = [&](double t, double df) {
        return static_cast<double>(n) * studentTwoSided(t, df) < pLimit;
    };
    // One of them that least squares shows is where to begin; and rows that move the fit no more than chance
    // does hide nothing.
    const bool seen = std::any_of(hidden.begin(), hidden.end(), [&](Index i) {
        return !context.linear->studentized.empty() && own > 0 &&
               rarely(context.linear->studentized[static_cast<std::size_t>(i)], own);
    });
    const bool far = std::all_of(hidden.begin(), hidden.end(), [&](Index i) {
        return rarely(found.t[static_cast<std::size_t>(i)], found.degreesOfFreedom);
    });
    if (hidden.size() < 2 || seen || !far || found.moved < 1) hidden.clear();
    const auto value = static_cast<double>(hidden.size());
    findings.readings.push_back(madeReading(
        name, value, limit, {},
        "rows far off a fit without them and apart from all others, of " + countText(robust.suspects.size()) +
            " suspects by least trimmed squares, which move the fit though no residual of all rows "
            "shows them",
        source));
    if (!(value > limit)) return;
    std::string listed;
    for (std::size_t k = 0; k < std::min<std::size_t>(hidden.size(), 5); ++k)
        listed += (k > 0 ? ", " : "") +
                  countText(context.learningRows[static_cast<std::size_t>(hidden[k])] + 1) + " (t " +
                  readableText(found.t[static_cast<std::size_t>(hidden[k])], 3) + ")";
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
    goad.row = context.learningRows[static_cast<std::size_t>(hidden.front())];
    goad.cost = 1 - std::min(1.0, found.scale / fit.residualStandardDeviation);
    goad.costSays = "the share of the residual standard deviation that goes without them";
    goad.size = value;
    goad.moves.push_back(seeRow(*goad.row));
    goad.moves.push_back(
        {.label = "fit robustly", .edit = [](Recipe& recipe, const std::string&) {
             recipe = withEstimator(recipe, {"robust", {{"function", std::string("bisquare")}}});
         }});
    std::vector<std::uint32_t> rows;
    for (const auto i : hidden)
        rows.push_back(context.learningRows[static_cast<std::size_t>(i)]);
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
