// Terms whose columns come in together: against their optimality conditions, closed forms, and the plain
// lasso.
#include "base/random.h"
#include "estimate/linear/least_squares.h"
#include "estimate/penalised/grouped_path.h"
#include "estimate/penalised/kept_factor.h"
#include "support/support.h"

#include <Eigen/Dense>

#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace grouped_test {

struct Problem {
    MatrixXd x;
    std::vector<double> y, weights;
    PenaltyOptions options;

    PenalisedProblem sums() const {
        const MatrixRows source(x);
        return problemOf(source, y, weights, options, {}, quietly());
    }
};

/// Groups of one to four columns, some of them nearly the same, for a seed.
Problem problemWith(unsigned seed) {
    RandomStream random(seed, "problems in groups");
    const bool wide = seed % 5 == 0;
    const Index n = wide ? 20 : 40 + static_cast<Index>(random.below(60));
    Problem p;
    const std::size_t groups = wide ? 14 : 2 + random.below(6);
    for (std::size_t g = 0; g < groups; ++g)
        for (std::size_t k = 0, size = g == 0 ? 1 : 1 + random.below(4); k < size; ++k)
            p.options.groups.push_back(g);
    const auto columns = static_cast<Index>(p.options.groups.size());
    p.x.resize(n, columns);
    for (Index j = 0; j < columns; ++j)
        for (Index i = 0; i < n; ++i)
            p.x(i, j) = (seed % 3 == 0 ? 50 : 0) + (1 + static_cast<double>(j)) * random.normal();
    if (seed % 4 == 1 && columns > 3)
        for (Index i = 0; i < n; ++i)
            p.x(i, columns - 1) = p.x(i, columns - 2) + 1e-3 * random.normal();
    for (Index i = 0; i < n; ++i)
        p.y.push_back(20 + 2 * p.x(i, 0) - p.x(i, columns - 1) + 4 * random.normal());
    if (seed % 2 == 0)
        for (Index i = 0; i < n; ++i)
            p.weights.push_back(i % 6 == 0 ? 0.0 : 0.5 + random.uniform());
    p.options.l1Share = std::array<double, 3>{1, 0.6, 0.1}[seed % 3];
    p.options.intercept = seed % 7 != 0;
    p.options.standardise = seed % 4 != 2;
    if (seed % 6 == 3) {
        std::vector<double> factors;
        for (std::size_t g = 0; g < groups; ++g)
            factors.push_back(g == 1 ? 0 : 0.5 + random.uniform());
        for (const std::size_t g : p.options.groups)
            p.options.factors.push_back(factors[g]);
    }
    if (seed % 6 == 4) {
        p.options.signs.assign(p.options.groups.size(), 0);
        p.options.signs[0] = seed % 4 == 0 ? 1 : -1; // the first group has one column
    }
    return p;
}

/// The largest violation of 0 ∈ −Z'r/n + s b + t ∂‖b‖ over the largest gradient of nothing kept, from the
/// rows.
double violation(const Problem& p, const PenalisedPoint& point) {
    const Index n = p.x.rows(), m = p.x.cols();
    VectorXd w = VectorXd::Ones(n);
    if (!p.weights.empty()) w = Eigen::Map<const VectorXd>(p.weights.data(), n);
    const VectorXd y = Eigen::Map<const VectorXd>(p.y.data(), n);
    const VectorXd e = y - p.x * point.coefficients - VectorXd::Constant(n, point.constant);
    VectorXd gradient(m), whenNone(m), b(m);
    const double yMean = p.options.intercept ? w.dot(y) / w.sum() : 0;
    for (Index j = 0; j < m; ++j) {
        VectorXd z = p.x.col(j);
        if (p.options.intercept) z.array() -= w.dot(z) / w.sum();
        const double scale = p.options.standardise ? std::sqrt(w.dot(z.cwiseProduct(z)) / w.sum()) : 1;
        z /= scale;
        gradient[j] = w.cwiseProduct(z).dot(e) / static_cast<double>(n);
        whenNone[j] = w.cwiseProduct(z).dot(VectorXd(y.array() - yMean)) / static_cast<double>(n);
        b[j] = point.coefficients[j] * scale;
    }
    double worst = p.options.intercept ? std::fabs(w.dot(e)) / w.sum() : 0;
    for (Index begin = 0; begin < m;) {
        Index end = begin;
        while (end < m && p.options.groups[static_cast<std::size_t>(end)] ==
                              p.options.groups[static_cast<std::size_t>(begin)])
            ++end;
        const Index size = end - begin;
        const double f = p.options.factors.empty() ? 1 : p.options.factors[static_cast<std::size_t>(begin)];
        const int sign = p.options.signs.empty() ? 0 : p.options.signs[static_cast<std::size_t>(begin)];
        const double t = point.penalty * p.options.l1Share * f * std::sqrt(static_cast<double>(size));
        const double s = point.penalty * (1 - p.options.l1Share) * f;
        const VectorXd own = b.segment(begin, size), g = gradient.segment(begin, size) - s * own;
        if (own.norm() > 0) {
            EXPECT_EQ((own.array() != 0).count(), size) << "all of a group come in together";
            if (sign * own[0] < 0) return 1;
            worst = std::max(worst, (g - t * own / own.norm()).cwiseAbs().maxCoeff());
        } else {
            worst = std::max(worst, (sign == 0 ? g.norm() : std::max(0.0, sign * g[0])) - t);
        }
        begin = end;
    }
    return worst / whenNone.cwiseAbs().maxCoeff();
}

TEST(Grouped, OptimalityHoldsOnThreeHundredProblems) {
    double worst = 0, gap = 0;
    for (unsigned seed = 1; seed <= 300; ++seed) {
        const Problem p = problemWith(seed);
        const PenalisedProblem problem = p.sums();
        const double most = largestPenalty(problem, p.options);
        std::vector<double> penalties;
        for (const double share : {1.0000001, 0.7, 0.3, 0.05, 0.004})
            penalties.push_back(share * most);
        const auto path = penalisedPath(problem, p.options, penalties, quietly());
        for (const PenalisedPoint& point : path) {
            const double found = violation(p, point);
            EXPECT_LT(found, 1e-9) << "seed " << seed << " penalty " << point.penalty << " of " << most;
            EXPECT_LT(point.dualityGap, 1e-9) << "seed " << seed;
            worst = std::max(worst, found);
            gap = std::max(gap, point.dualityGap);
        }
        // Where the search for the largest penalty starts nothing is in but what is not penalised.
        std::size_t free = 0;
        for (std::size_t j = 0; j < p.options.factors.size(); ++j)
            free += p.options.factors[j] == 0;
        EXPECT_EQ(path.front().kept, free) << "seed " << seed;
        EXPECT_GT(path[1].kept, free) << "seed " << seed;
    }
    std::printf("[ grouped ] largest violation %.2g, largest gap %.2g\n", worst, gap);
}

TEST(Grouped, OrthonormalGroupsShrinkAsYuanAndLinSay) {
    // Yuan and Lin 2006, equation 2.4: (1 − penalty √d / ‖S‖)₊ S, for S the products of a group.
    const Index n = 64;
    MatrixXd x(n, 6);
    for (Index i = 0; i < n; ++i)
        for (Index j = 0; j < 6; ++j)
            x(i, j) = (i >> j) & 1 ? 1 : -1;
    Problem p;
    p.x = x;
    p.options.groups = {0, 0, 0, 1, 1, 2};
    RandomStream random(5, "orthonormal");
    for (Index i = 0; i < n; ++i)
        p.y.push_back(3 * x(i, 0) - 2 * x(i, 1) + 0.3 * x(i, 3) + x(i, 5) + random.normal());
    const PenalisedProblem problem = p.sums();
    for (const double penalty : {0.05, 0.2, 0.9, 1.5}) {
        const std::vector<double> one{penalty};
        const PenalisedPoint point = penalisedPath(problem, p.options, one, quietly()).front();
        Index at = 0;
        for (const Index size : {3, 2, 1}) {
            const VectorXd s = problem.cross.segment(at, size);
            const double share = std::max(0.0, 1 - penalty * std::sqrt(static_cast<double>(size)) / s.norm());
            for (Index k = 0; k < size; ++k)
                EXPECT_NEAR(point.standardised[at + k], share * s[k], 1e-13);
            at += size;
        }
    }
}

TEST(Grouped, GroupsOfOneAreThePlainLasso) {
    for (const unsigned seed : {3U, 5U, 10U, 12U, 22U}) {
        Problem p = problemWith(seed);
        p.options.factors.clear();
        PenaltyOptions plain = p.options;
        plain.groups.clear();
        std::iota(p.options.groups.begin(), p.options.groups.end(), std::size_t{0});
        const PenalisedProblem problem = p.sums();
        const double most = largestPenalty(problem, plain);
        EXPECT_NEAR(largestPenalty(problem, p.options) / most, 1, 1e-14);
        const std::vector<double> penalties{0.5 * most, 0.1 * most, 0.01 * most};
        const auto a = penalisedPath(problem, p.options, penalties, quietly()),
                   b = penalisedPath(problem, plain, penalties, quietly());
        for (std::size_t k = 0; k < a.size(); ++k) {
            const double size = b[k].standardised.cwiseAbs().maxCoeff();
            EXPECT_LT((a[k].standardised - b[k].standardised).cwiseAbs().maxCoeff(), 1e-8 * size) << seed;
            EXPECT_EQ(a[k].kept, b[k].kept) << seed;
        }
    }
}

TEST(Grouped, DegreesOfFreedomAreTheDivergenceOfTheFit) {
    // Σ ∂ŷ/∂y by differences of whole fits.
    Problem p = problemWith(7);
    p.options.intercept = true;
    const double penalty = 0.15 * largestPenalty(p.sums(), p.options);
    const auto fitted = [&](const Problem& of) {
        const PenalisedPoint point = penalisedPoint(of.sums(), of.options, penalty, quietly());
        return VectorXd(of.x * point.coefficients + VectorXd::Constant(of.x.rows(), point.constant));
    };
    const PenalisedProblem problem = p.sums();
    const PenalisedPoint point = penalisedPoint(problem, p.options, penalty, quietly());
    double divergence = 0;
    for (std::size_t i = 0; i < p.y.size(); ++i) {
        Problem up = p, down = p;
        up.y[i] += 1e-3;
        down.y[i] -= 1e-3;
        divergence += (fitted(up)[static_cast<Index>(i)] - fitted(down)[static_cast<Index>(i)]) / 2e-3;
    }
    EXPECT_NEAR(effectiveDegreesOfFreedom(problem, p.options, point), divergence, 1e-5 * divergence);
    // And the leverages are its derivatives row by row, summed over all.
    const MatrixRows source(p.x);
    EXPECT_NEAR(penalisedLeverages(problem, p.options, point, source, p.weights, {}, quietly()).sum(),
                p.weights.empty() ? divergence : 0, p.weights.empty() ? 1e-4 * divergence : 1e300);
}

TEST(Grouped, ColumnsWithoutSpreadAndGroupsOfThem) {
    Problem p = problemWith(9);
    p.options.groups.assign(p.options.groups.size(), 0);
    for (std::size_t j = 2; j < p.options.groups.size(); ++j)
        p.options.groups[j] = 1;
    p.options.factors.clear();
    p.options.signs.clear();
    p.x.col(0).setConstant(7);
    p.x.col(1).setConstant(-2); // the whole first group
    p.x.col(2).setConstant(3);  // one of the second
    const PenalisedProblem problem = p.sums();
    const PenalisedPoint point =
        penalisedPoint(problem, p.options, 0.1 * largestPenalty(problem, p.options), quietly());
    EXPECT_EQ(point.standardised.head(3).cwiseAbs().maxCoeff(), 0);
    EXPECT_GT(point.kept, 0U);
    EXPECT_TRUE(std::isfinite(point.constant));
    EXPECT_LT(point.dualityGap, 1e-9);
}

TEST(Grouped, AStopEndsAPath) {
    const Problem p = problemWith(11);
    const PenalisedProblem problem = p.sums();
    class Stopping : public Progress {
    public:
        bool stopRequested() const override { return true; }
    } progress;
    const std::vector<double> one{0.01};
    EXPECT_THROW(penalisedPath(problem, p.options, one, progress), Stopped);
}

TEST(Relaxed, IsLeastSquaresOfTheColumnsKept) {
    for (const unsigned seed : {1U, 2U, 4U, 7U, 9U, 13U}) {
        const Problem p = problemWith(seed);
        PenaltyOptions plain = p.options;
        plain.groups.clear();
        plain.signs.clear();
        plain.l1Share = 1;
        const PenalisedProblem problem = p.sums();
        const PenalisedPoint point =
            penalisedPoint(problem, plain, 0.2 * largestPenalty(problem, plain), quietly());
        const KeptColumns kept = keptColumns(problem, plain, point);
        ASSERT_FALSE(kept.columns.empty());
        const PenalisedPoint relaxed = relaxedPoint(problem, plain, kept.columns, quietly());
        MatrixXd some(p.x.rows(), static_cast<Index>(kept.columns.size()));
        for (Index c = 0; c < some.cols(); ++c)
            some.col(c) = p.x.col(kept.columns[static_cast<std::size_t>(c)]);
        const MatrixRows source(some);
        LeastSquaresOptions options;
        options.intercept = plain.intercept;
        options.weights = p.weights;
        const LeastSquaresFit fit = fitLeastSquares(source, p.y, options, quietly());
        for (Index c = 0; c < some.cols(); ++c)
            EXPECT_NEAR(relaxed.coefficients[kept.columns[static_cast<std::size_t>(c)]], fit.coefficients[c],
                        1e-9 * fit.coefficients.cwiseAbs().maxCoeff())
                << seed;
        EXPECT_NEAR(relaxed.squares, fit.residualSumOfSquares, 1e-9 * fit.residualSumOfSquares) << seed;
        EXPECT_LE(relaxed.squares, point.squares * (1 + 1e-12));
    }
}

TEST(Relaxed, WithoutColumnsTheMeanIsLeft) {
    const Problem p = problemWith(1);
    const PenalisedProblem problem = p.sums();
    const PenalisedPoint none = relaxedPoint(problem, p.options, {}, quietly());
    EXPECT_EQ(none.kept, 0U);
    EXPECT_NEAR(none.constant, problem.responseMean, 1e-14 * std::fabs(problem.responseMean));
    EXPECT_EQ(none.coefficients.size(), p.x.cols());
}

TEST(KeptFactor, ColumnsComeAndGoAsIfAllWereMadeAnew) {
    RandomStream random(3, "columns that come and go");
    constexpr Index p = 60;
    MatrixXd x = MatrixXd::NullaryExpr(300, p, [&] { return random.normal(); });
    x.col(7) = x.col(3) + 1e-3 * x.col(7); // nearly the same
    x.col(9) = x.col(8);                   // the same
    const MatrixXd gram = x.transpose() * x / 300;
    KeptFactor factor;
    std::vector<Index> active{1, 2, 3};
    double worst = 0;
    for (int step = 0; step < 2000; ++step) {
        // One or a few in or out; now and then many; sometimes another ridge.
        const std::size_t times = step % 97 == 0 ? 30 : 1 + random.below(3);
        for (std::size_t k = 0; k < times; ++k) {
            const auto j = static_cast<Index>(random.below(p));
            const auto at = std::lower_bound(active.begin(), active.end(), j);
            if (at != active.end() && *at == j)
                active.erase(at);
            else
                active.insert(at, j);
        }
        const auto m = static_cast<Index>(active.size());
        const VectorXd ridge = VectorXd::Constant(m, step / 500 % 2 == 0 ? 0.0 : 0.3);
        factor.bring(gram, active, ridge);
        const bool both = std::binary_search(active.begin(), active.end(), 8) &&
                          std::binary_search(active.begin(), active.end(), 9);
        if (both && ridge.size() > 0 && ridge[0] == 0) {
            EXPECT_LT(factor.ratio(), 1e-6) << "the same column twice";
            continue;
        }
        ASSERT_GT(factor.ratio(), 0) << step;
        if (m == 0) continue;
        MatrixXd own = gram(active, active);
        own.diagonal() += ridge;
        const VectorXd right = VectorXd::NullaryExpr(m, [&] { return random.normal(); });
        const VectorXd b = factor.solve(right);
        worst = std::max(worst, (own * b - right).norm() / (own.norm() * b.norm() + right.norm()));
    }
    EXPECT_LT(worst, 1e-13);
}

} // namespace grouped_test
