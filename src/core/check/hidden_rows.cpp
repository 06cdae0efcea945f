#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"
#include "estimate/linear/least_trimmed.h"
#include "recipe/validity.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>
#include <map>
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

/// Whether the bulk of the rows is continuous, so that something can stand apart from it: no value of the
/// response in three of ten, and not so few values that each is a step of its own.
bool isContinuous(const CheckContext& context, const std::vector<Index>& hidden) {
    const auto values = context.table.at(context.response(), context.file).numbers();
    std::vector<double> bulk;
    for (std::size_t i = 0, k = 0; i < context.learningRows.size(); ++i) {
        if (k < hidden.size() && static_cast<std::size_t>(hidden[k]) == i)
            ++k;
        else
            bulk.push_back(values[context.learningRows[i]]);
    }
    std::sort(bulk.begin(), bulk.end());
    std::size_t distinct = 0, run = 0, longest = 0;
    for (std::size_t i = 0; i < bulk.size(); ++i) {
        run = i > 0 && bulk[i] == bulk[i - 1] ? run + 1 : 1;
        distinct += run == 1;
        longest = std::max(longest, run);
    }
    constexpr std::size_t fewValues = 20;
    return 10 * longest < 3 * bulk.size() && (distinct >= fewValues || 2 * distinct > bulk.size());
}

/// Orthonormal columns that span what is left of some beside a model, as far as it is more than rounding.
Eigen::MatrixXd spannedBy(const Eigen::MatrixXd& left, const Eigen::MatrixXd& whole) {
    Eigen::MatrixXd basis(left.rows(), left.cols());
    Index count = 0;
    for (Index j = 0; j < left.cols(); ++j) {
        Eigen::VectorXd own = left.col(j);
        for (int twice = 0; twice < 2; ++twice) // once more for the digits that the first time loses
            own -= basis.leftCols(count) * (basis.leftCols(count).transpose() * own);
        const double length = own.norm();
        if (!(length > 1e-8 * whole.col(j).norm())) continue;
        basis.col(count++) = own / length;
    }
    basis.conservativeResize(Eigen::NoChange, count);
    return basis;
}

/// What else could explain that rows stand apart: columns tried beside the model, with what they are.
using Explanations = std::vector<std::pair<std::string, Eigen::MatrixXd>>;

/// Whether the rows lie beyond a gap in a number, where a bend is no more than a guess.
bool beyondGap(const Eigen::VectorXd& x, const std::vector<Index>& hidden) {
    double low = INFINITY, high = -INFINITY;
    std::vector<std::uint8_t> isHidden(static_cast<std::size_t>(x.size()));
    for (const Index i : hidden)
        isHidden[static_cast<std::size_t>(i)] = 1;
    for (Index i = 0; i < x.size(); ++i)
        if (isHidden[static_cast<std::size_t>(i)] == 0)
            low = std::min(low, x[i]), high = std::max(high, x[i]);
    std::vector<double> values(x.begin(), x.end());
    std::sort(values.begin(), values.end());
    double widest = 0;
    for (std::size_t i = 1; i < values.size(); ++i)
        widest = std::max(widest, values[i] - values[i - 1]);
    return !(high > low) || widest > 0.3 * (high - low);
}

Eigen::MatrixXd indicators(std::span<const std::int32_t> group) {
    std::map<std::int32_t, Index> place;
    for (const auto g : group)
        if (g >= 0) place.try_emplace(g, 0);
    Index next = 0;
    for (auto& [g, at] : place)
        at = next++;
    Eigen::MatrixXd columns = Eigen::MatrixXd::Zero(static_cast<Index>(group.size()), next);
    for (std::size_t i = 0; i < group.size(); ++i)
        if (group[i] >= 0) columns(static_cast<Index>(i), place.at(group[i])) = 1;
    return columns;
}

/// A bend of a number of the model, levels of a factor, or the calendar.
Explanations explanationsOf(const CheckContext& context, const std::vector<Index>& hidden) {
    Explanations all;
    const auto& inputs = context.inputs.inputs();
    for (std::size_t i = 0; i < inputs.size(); ++i) {
        if (inputs[i].factor) continue;
        const Eigen::VectorXd x = inputValues(context, i);
        if (beyondGap(x, hidden)) continue;
        const Eigen::VectorXd z = standardised(x);
        Eigen::MatrixXd bend(z.size(), 2);
        bend << z.array().square().matrix(), z.array().cube().matrix();
        all.emplace_back("a bend of " + inputs[i].name, std::move(bend));
    }
    constexpr std::size_t mostLevels = 50;
    for (const Column* column : factorsOutside(context)) {
        if (column->levels().size() > mostLevels) continue;
        std::vector<std::int32_t> codes;
        for (const auto row : context.learningRows)
            codes.push_back(column->codes()[row]);
        all.emplace_back("the levels of " + column->name(), indicators(codes));
    }
    for (const auto& [name, parts] : calendarParts(context, context.learningRows))
        all.emplace_back("the " + name, indicators(parts));
    return all;
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
    std::string instead;
    if (!hidden.empty() && !isContinuous(context, hidden)) {
        hidden.clear();
        instead = "; rows far off are values of a response that takes few of them";
    }
    // A pattern that a column or the calendar explains is theirs.
    if (!hidden.empty())
        for (auto& [what, columns] : explanationsOf(context, hidden)) {
            stopIfTold(*context.progress);
            for (Eigen::Index i = 0; i < n && !context.weights.empty(); ++i)
                columns.row(i) *= std::sqrt(context.weights[static_cast<std::size_t>(i)]);
            const Eigen::MatrixXd rest = columns - q * (q.transpose() * columns);
            const Eigen::MatrixXd beside = spannedBy(rest, columns);
            if (beside.cols() == 0 || n < 2 * (q.cols() + beside.cols()) + 5) continue;
            Eigen::MatrixXd wider(n, q.cols() + beside.cols());
            wider << q, beside;
            Against again;
            const Eigen::VectorXd left = y - beside * (beside.transpose() * y);
            const std::vector<Index> still = rowsApart(wider, left, hidden, again);
            const bool holds =
                still.size() >= 2 && std::all_of(still.begin(), still.end(), [&](Index i) {
                    return rarely(again.t[static_cast<std::size_t>(i)], again.degreesOfFreedom);
                });
            if (holds) continue;
            hidden.clear();
            instead = "; rows far off are explained by " + what;
            break;
        }
    const auto value = static_cast<double>(hidden.size());
    findings.readings.push_back(madeReading(
        name, value, limit, {},
        "rows far off a fit without them and apart from all others, of " + countText(robust.suspects.size()) +
            " suspects by least trimmed squares, which move the fit though no residual of all rows "
            "shows them" +
            instead,
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
