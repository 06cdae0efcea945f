#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Levels, and of them times the model's columns, that are still eliminated.
constexpr Eigen::Index mostGroups = 600;
/// From here on groups are groups and not a factor that is left out.
constexpr std::size_t fewestGroups = 13;

struct Grouped {
    /// A group of each error; -1 for none.
    std::vector<std::int32_t> group;
    std::vector<double> sizes;
    std::size_t missing = 0;
};

Grouped groupedBy(const CheckContext& context, const Column& column) {
    Grouped out;
    std::vector<std::int32_t> place(column.levels().size(), -1);
    for (const auto row : context.errorRows) {
        const auto code = column.codes()[row];
        if (code < 0) {
            out.group.push_back(-1);
            ++out.missing;
            continue;
        }
        auto& at = place[static_cast<std::size_t>(code)];
        if (at < 0) {
            at = static_cast<std::int32_t>(out.sizes.size());
            out.sizes.push_back(0);
        }
        ++out.sizes[static_cast<std::size_t>(at)];
        out.group.push_back(at);
    }
    return out;
}

/// Intraclass correlation of one-way analysis of variance, with the usual size of unequal groups.
struct OneWay {
    double icc = 0, f = 0, between = 0, within = 0;
};
OneWay oneWay(std::span<const double> errors, const Grouped& g) {
    const auto k = static_cast<double>(g.sizes.size());
    std::vector<long double> sums(g.sizes.size(), 0);
    long double n = 0, total = 0, squares = 0, sizeSquares = 0;
    for (std::size_t i = 0; i < errors.size(); ++i) {
        if (g.group[i] < 0) continue;
        sums[static_cast<std::size_t>(g.group[i])] += errors[i];
        total += errors[i];
        squares += static_cast<long double>(errors[i]) * errors[i];
        ++n;
    }
    long double between = -total * total / n, within = squares;
    for (std::size_t j = 0; j < sums.size(); ++j) {
        between += sums[j] * sums[j] / g.sizes[j];
        within -= sums[j] * sums[j] / g.sizes[j];
        sizeSquares += static_cast<long double>(g.sizes[j]) * g.sizes[j];
    }
    const auto usual = static_cast<double>((n - sizeSquares / n) / (k - 1));
    OneWay out;
    out.between = k - 1;
    out.within = static_cast<double>(n) - k;
    const double msb = static_cast<double>(between) / out.between,
                 msw = static_cast<double>(within) / out.within;
    out.f = msb / msw;
    out.icc = (msb - msw) / (msb + (usual - 1) * msw);
    return out;
}

/// F test that indicators of the groups add nothing to the model. Their products with the orthonormal
/// columns are sums over rows of a group, so that no indicator is ever formed.
Addition groupsBeside(const CheckContext& context, const Eigen::MatrixXd& q, const Grouped& g) {
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
    const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> solver(left);
    Addition out;
    double reduction = 0;
    for (Eigen::Index j = 0; j < k; ++j)
        if (solver.eigenvalues()[j] > 1e-9) {
            const double part = solver.eigenvectors().col(j).dot(with);
            reduction += part * part / solver.eigenvalues()[j];
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
    const auto factors = factorsOutside(context);
    if (factors.empty()) {
        findings.readings.push_back(noReading(family, "no factor is left out of the model"));
        return;
    }
    const bool exact = context.linear && context.kind.leastSquares && context.linear->tooWide.empty();
    for (const Column* column : factors) {
        stopIfTold(*context.progress);
        const std::string name = family + ": " + column->name();
        const Grouped g = groupedBy(context, *column);
        const auto k = g.sizes.size();
        const auto paired = std::count_if(g.sizes.begin(), g.sizes.end(), [](double m) { return m > 1; });
        if (k < 2 || paired < 2) {
            findings.readings.push_back(noReading(name, "fewer than two groups have two rows"));
            continue;
        }
        OneWay way = oneWay(context.errors, g);
        double f = way.f, df1 = way.between, df2 = way.within, p = fisherUpper(f, df1, df2);
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
        if (std::isnan(way.icc)) {
            findings.readings.push_back(noReading(name, "errors do not differ within its groups"));
            continue;
        }
        says = "intraclass correlation of " + context.errorsOf + "; " + says + fText(f, df1, df2);
        if (g.missing > 0) says += "; " + plural(g.missing, "row", "rows") + " without a group passed over";
        const double limit = context.limitOf(name, pLimit);
        findings.readings.push_back(madeReading(name, way.icc, limit, p, says, source));
        const bool named = roleOf(context.recipe, column->name()) == Role::group;
        const bool byIt = context.recipe.errors.column == column->name() &&
                          (context.recipe.errors.kind == ErrorsKind::byGroup ||
                           context.recipe.errors.kind == ErrorsKind::byFewGroups);
        const bool judged = context.recipe.judge && context.recipe.judge->kind == FoldKind::groups &&
                            context.recipe.judge->column == column->name();
        // Adjusted for the factors that are looked at: they often say the same.
        if (!(p * static_cast<double>(factors.size()) < limit) || (k < fewestGroups && !named) ||
            (byIt && judged))
            continue;
        const double rows = static_cast<double>(context.errors.size()) / static_cast<double>(k);
        Goad goad;
        goad.key = goad.check = name;
        goad.title = "Rows of one " + column->name() + " have like errors";
        goad.reading = "intraclass correlation " + readableText(way.icc, 3) + ", p " + probabilityText(p) +
                       " for " + plural(k, "group", "groups") + " of " + readableText(rows, 3) +
                       " rows; held-out rows of a known group look better than those of a new one will";
        goad.threshold = pThresholdText(limit) + ", for the number of factors";
        goad.source = source;
        goad.station = "check";
        goad.column = column->name();
        goad.cost = 1 - 1 / std::sqrt(1 + std::max(0.0, (rows - 1) * way.icc));
        goad.costSays =
            "by this share intervals of what changes only between groups are too narrow (Kish 1965, "
            "\"Survey sampling\", §5.4)";
        goad.size = way.icc;
        goad.family = "left out: " + column->name();
        goad.familyTitle = "# signs that " + column->name() + " is missing";
        goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
        if (!judged) goad.moves.push_back(judgeByGroup(column->name()));
        if (!byIt && context.kind.leastSquares) goad.moves.push_back(errorsByGroup(column->name()));
        findings.goads.push_back(std::move(goad));
    }
}

} // namespace oxgoad
