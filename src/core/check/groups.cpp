#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/decompositions.h"
#include "estimate/distributions.h"
#include "estimate/one_way.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Levels, and of them times the model's columns, that are still eliminated.
constexpr Eigen::Index mostGroups = 600;
/// From here on groups are groups and not a factor that is left out.
constexpr std::size_t fewestGroups = 13;

/// F test that indicators of the groups add nothing to the model. Their products with the orthonormal
/// columns are sums over rows of a group, so that no indicator is ever formed.
Addition groupsBeside(const CheckContext& context, const Eigen::MatrixXd& q, const Grouping& g) {
    const auto k = static_cast<Eigen::Index>(g.sizes.size());
    const std::vector<double> roots = rootsOfWeights(context);
    // Q'Z; q has its root already.
    Eigen::MatrixXd w = sumsByGroup(q, g.group, g.sizes.size(), roots, context.threads);
    Eigen::VectorXd own = Eigen::VectorXd::Zero(k), with = own;
    for (std::size_t i = 0; i < g.group.size(); ++i) {
        if (g.group[i] < 0) continue;
        const auto j = static_cast<Eigen::Index>(g.group[i]);
        const double root = roots.empty() ? 1 : roots[i];
        own[j] += root * root;
        with[j] += root * context.errors[i];
    }
    // Columns of Z at unit length; what the model lacks of them.
    const Eigen::VectorXd length = own.cwiseSqrt().cwiseMax(1e-300);
    w = w * length.cwiseInverse().asDiagonal();
    with = with.cwiseQuotient(length);
    Eigen::MatrixXd left = -w.transpose() * w;
    left.diagonal().array() += 1;
    const SymmetricParts parts = symmetricParts(left);
    Addition out;
    double reduction = 0;
    for (Eigen::Index j = 0; j < k; ++j)
        if (parts.values[j] > 1e-9) {
            const double part = parts.vectors.col(j).dot(with);
            reduction += part * part / parts.values[j];
            out.numeratorDf += 1;
        }
    const LeastSquaresFit& fit = context.linear->fit;
    out.denominatorDf = fit.degreesOfFreedom - out.numeratorDf;
    out.reduction = std::min(reduction, fit.residualSumOfSquares);
    out.share = out.reduction / fit.residualSumOfSquares;
    out.f =
        out.reduction / out.numeratorDf / ((fit.residualSumOfSquares - out.reduction) / out.denominatorDf);
    out.p = fisherUpper(out.f, out.numeratorDf, out.denominatorDf);
    return out;
}

} // namespace

void checkGroups(const CheckContext& context, Findings& findings) {
    const std::string family = "dependence within groups";
    const std::string source = "Fisher 1925, \"Statistical methods for research workers\", ch. 7";
    auto factors = factorsOutside(context);
    const Column* time = timeOf(context);
    if (time && time->kind() == ColumnKind::date && groupingOf(context, *time).shared() >= 2)
        factors.push_back(time);
    if (factors.empty()) {
        findings.readings.push_back(noReading(family, "no factor is left out of the model"));
        return;
    }
    const bool exact = context.linear && context.kind.leastSquares && context.linear->tooWide.empty();
    for (const Column* column : factors) {
        stopIfTold(*context.progress);
        const std::string name = family + ": " + column->name();
        const Grouping g = groupingOf(context, *column);
        const auto k = g.groups();
        if (g.shared() < 2) {
            findings.readings.push_back(noReading(name, "fewer than two groups have two rows"));
            continue;
        }
        const OneWay way = oneWay(context.errors, g);
        double f = way.f, df1 = way.numeratorDf, df2 = way.denominatorDf, p = way.p();
        std::string says;
        if (exact && static_cast<Eigen::Index>(k) <= mostGroups) {
            const Addition added = groupsBeside(context, context.linear->orthonormal(), g);
            if (!(added.numeratorDf > 0)) {
                findings.readings.push_back(noReading(name, "the model says its levels already"));
                continue;
            }
            if (!(added.denominatorDf > 0) || !std::isfinite(added.f)) {
                findings.readings.push_back(
                    noReading(name, "no degrees of freedom are left beside its levels"));
                continue;
            }
            f = added.f;
            df1 = added.numeratorDf;
            df2 = added.denominatorDf;
            p = added.p;
            says = "that its levels add nothing to the model: ";
        }
        if (std::isnan(way.intraclass)) {
            findings.readings.push_back(noReading(name, "errors do not differ within its groups"));
            continue;
        }
        says = "intraclass correlation of " + context.errorsOf + "; " + says + fText(f, df1, df2);
        if (g.missing > 0) says += "; " + plural(g.missing, "row", "rows") + " without a group passed over";
        const double limit = context.limitOf(name, pLimit);
        findings.readings.push_back(madeReading(name, way.intraclass, limit, p, says, source));
        const bool named = roleOf(context.recipe, column->name()) == Role::group;
        const bool byIt = context.recipe.errors.column == column->name() &&
                          (context.recipe.errors.kind == CovarianceKind::clustered ||
                           context.recipe.errors.kind == CovarianceKind::clusteredFewGroups);
        const bool judged = context.recipe.judge && context.recipe.judge->kind == FoldKind::groups &&
                            context.recipe.judge->column == column->name();
        // Adjusted for the factors that are looked at: they often say the same.
        if (!(p * static_cast<double>(factors.size()) < limit) || (k < fewestGroups && !named) ||
            (byIt && judged))
            continue;
        // A hundredth of the variance in common is felt by no forecast of rows, however many rows prove it.
        constexpr double smallest = 0.01;
        if (way.intraclass < smallest && column != time) {
            findings.readings.back().sentence += "; too small to matter: below 0.01";
            continue;
        }
        const double rows = static_cast<double>(context.errors.size()) / static_cast<double>(k);
        Goad goad;
        goad.key = goad.check = name;
        goad.title = "Rows of one " + column->name() + " have like errors";
        goad.reading =
            "intraclass correlation " + readableText(way.intraclass, 3) + ", p " + probabilityText(p) +
            " for " + (column == time ? plural(k, "period", "periods") : plural(k, "group", "groups")) +
            " of " + readableText(rows, 3) + " rows; " +
            (column == time ? "what a period shares does not average out in its total, and held-out "
                              "rows of a known period look better than those of a new one will"
                            : "held-out rows of a known group look better than those of a new one will");
        goad.threshold = pThresholdText(limit) + ", for the number of factors";
        goad.source = source;
        goad.station = "check";
        goad.column = column->name();
        goad.cost = 1 - 1 / std::sqrt(1 + std::max(0.0, (rows - 1) * way.intraclass));
        goad.costSays =
            "by this share intervals of what changes only between groups are too narrow (Kish 1965, "
            "\"Survey sampling\", §5.4)";
        goad.size = way.intraclass;
        goad.family = column == time ? "shared by " + column->name() : "left out: " + column->name();
        goad.familyTitle = column == time ? "# signs that rows of one " + column->name() + " go together"
                                          : "# signs that " + column->name() + " is missing";
        goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
        if (!judged) goad.moves.push_back(judgeByGroup(column->name()));
        if (!byIt && context.kind.leastSquares) goad.moves.push_back(errorsByGroup(column->name()));
        findings.goads.push_back(std::move(goad));
    }
}

} // namespace oxgoad
