// Penalised least squares against published values (tests/reference/published/README.md:
// diabetes_elastic_net, diabetes_lasso_path, ridge) and against its optimality conditions on random problems.
#include "base/random.h"
#include "estimate/penalised/kept_factor.h"
#include "estimate/penalised/penalised_path.h"
#include "support/support.h"

#include <Eigen/Dense>

#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace penalised_test {

struct Rows {
    MatrixXd x;
    std::vector<double> y;
    std::vector<double> weights;
};

Rows rowsOf(const std::string& file, const std::string& response, const std::vector<std::string>& columns) {
    const Table table = publishedRows(file).learning.table;
    Rows rows;
    const auto y = table.find(response)->numbers();
    rows.y.assign(y.begin(), y.end());
    rows.x.resize(static_cast<Index>(table.rows()), static_cast<Index>(columns.size()));
    for (std::size_t j = 0; j < columns.size(); ++j)
        for (Index i = 0; i < rows.x.rows(); ++i)
            rows.x(i, static_cast<Index>(j)) =
                table.find(columns[j])->asNumber(static_cast<std::uint32_t>(i));
    return rows;
}

PenalisedPoint pointOf(const Rows& rows, const PenaltyOptions& options, double penalty) {
    const MatrixRows source(rows.x);
    const PenalisedProblem problem = problemOf(source, rows.y, rows.weights, options, {}, quietly());
    const std::vector<double> one{penalty};
    return penalisedPath(problem, options, one, quietly()).front();
}

/// The largest violation of the optimality conditions over the largest gradient of nothing kept, worked out
/// from the rows in long double.
double violation(const Rows& rows, const PenaltyOptions& options, const PenalisedPoint& point) {
    const Index n = rows.x.rows(), p = rows.x.cols();
    const auto w = [&](Index i) {
        return rows.weights.empty() ? 1.0L
                                    : static_cast<long double>(rows.weights[static_cast<std::size_t>(i)]);
    };
    long double whole = 0;
    for (Index i = 0; i < n; ++i)
        whole += w(i);
    std::vector<long double> residual;
    for (Index i = 0; i < n; ++i) {
        long double e = static_cast<long double>(rows.y[static_cast<std::size_t>(i)]) - point.constant;
        for (Index j = 0; j < p; ++j)
            e -= static_cast<long double>(rows.x(i, j)) * point.coefficients[j];
        residual.push_back(e);
    }
    long double worst = 0, largest = 0, sum = 0, yMean = 0;
    for (Index i = 0; i < n; ++i) {
        sum += w(i) * residual[static_cast<std::size_t>(i)];
        yMean += w(i) * rows.y[static_cast<std::size_t>(i)] / whole;
    }
    for (Index j = 0; j < p; ++j) {
        long double mean = 0, squares = 0;
        for (Index i = 0; i < n; ++i)
            mean += w(i) * rows.x(i, j) / whole;
        if (!options.intercept) mean = 0;
        for (Index i = 0; i < n; ++i)
            squares += w(i) * (rows.x(i, j) - mean) * (rows.x(i, j) - mean) / whole;
        const long double scale = options.standardise ? std::sqrt(squares) : 1;
        long double gradient = 0, whenNone = 0;
        for (Index i = 0; i < n; ++i) {
            const long double z = (rows.x(i, j) - mean) / scale;
            gradient += w(i) * z * residual[static_cast<std::size_t>(i)] / n;
            whenNone +=
                w(i) * z * (rows.y[static_cast<std::size_t>(i)] - (options.intercept ? yMean : 0)) / n;
        }
        const auto at = static_cast<std::size_t>(j);
        const long double f = options.factors.empty() ? 1 : options.factors[at];
        const int sign = options.signs.empty() ? 0 : options.signs[at];
        const long double b = point.coefficients[j] * scale;
        const long double l1 = point.penalty * options.l1Share * f,
                          l2 = point.penalty * (1 - options.l1Share) * f;
        const long double g = gradient - l2 * b;
        largest = std::max(largest, std::fabs(whenNone));
        if (sign * b < 0) return 1;
        if (b != 0)
            worst = std::max(worst, std::fabs(g - (b > 0 ? l1 : -l1)));
        else
            worst = std::max(worst, (sign == 0 ? std::fabs(g) : std::max(0.0L, sign * g)) - l1);
    }
    if (options.intercept) worst = std::max(worst, std::fabs(sum) / whole);
    return static_cast<double>(worst / largest);
}

TEST(Penalised, EightySixFitsAgreeWithExactOnes) {
    const json reference = publishedJson("diabetes_elastic_net");
    const std::array<std::array<const char*, 2>, 4> from{
        {{"diabetes", "1"}, {"diabetes_scaled", "0"}, {"diabetes", "0"}, {"longley", "1"}}};
    std::size_t fits = 0;
    for (std::size_t k = 0; k < from.size(); ++k) {
        const json& block = reference["blocks"][k];
        const auto columns = block["columns"].get<std::vector<std::string>>();
        const Rows rows = rowsOf(from[k][0], k == 3 ? "TOTEMP" : "y", columns);
        for (const json& fit : block["fits"]) {
            PenaltyOptions options;
            options.standardise = from[k][1][0] == '1';
            options.l1Share = fit["l1_ratio"];
            const PenalisedPoint point = pointOf(rows, options, fit["alpha"]);
            ++fits;
            const auto wanted = fit["coef"].get<std::vector<double>>();
            double size = 0;
            for (const double b : wanted)
                size = std::max(size, std::fabs(b));
            for (std::size_t j = 0; j < wanted.size(); ++j) {
                const double b = point.standardised[static_cast<Index>(j)];
                EXPECT_EQ(b == 0, wanted[j] == 0) << k << " " << fit["alpha"] << " " << columns[j];
                EXPECT_LT(std::fabs(b - wanted[j]), 1e-12 * size)
                    << k << " penalty " << fit["alpha"] << " share " << options.l1Share << " " << columns[j];
                if (fit.contains("coef_raw_units") && wanted[j] != 0) {
                    EXPECT_GE(digits(point.coefficients[static_cast<Index>(j)], fit["coef_raw_units"][j]), 9);
                }
            }
            if (fit.contains("intercept_raw_units")) {
                EXPECT_GE(digits(point.constant, fit["intercept_raw_units"]), 10);
            }
            EXPECT_LT(point.dualityGap, 1e-9);
            EXPECT_GE(digits(point.squares / static_cast<double>(rows.y.size()), fit["train_mse"]), 11);
        }
    }
    EXPECT_EQ(fits, 86U);
}

TEST(Penalised, TheLassoKinksWhereItShould) {
    const json reference = publishedJson("diabetes_lasso_path");
    const Rows rows =
        rowsOf("diabetes", "y", {"age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"});
    const MatrixRows source(rows.x);
    const PenaltyOptions options;
    const PenalisedProblem problem = problemOf(source, rows.y, {}, options, {}, quietly());
    std::vector<double> penalties;
    for (const json& knot : reference["knots"])
        penalties.push_back(knot["alpha"]);
    EXPECT_GE(digits(largestPenalty(problem, options), penalties.front()), 14);
    const auto path = penalisedPath(problem, options, penalties, quietly());
    for (std::size_t k = 0; k < path.size(); ++k)
        for (Index j = 0; j < 10; ++j)
            EXPECT_NEAR(path[k].standardised[j], reference["knots"][k]["coef"][static_cast<std::size_t>(j)],
                        2e-10)
                << "kink " << k << " column " << j;
    // A path of its own starts where nothing is kept, and ends near least squares.
    const auto own = usualPenalties(problem, options);
    ASSERT_EQ(own.size(), 100U);
    const auto whole = penalisedPath(problem, options, own, quietly());
    EXPECT_EQ(whole.front().kept, 0U);
    EXPECT_EQ(whole[1].kept, 2U); // the second column comes in at 42.3, and this is 41.1
    EXPECT_EQ(whole.back().kept, 10U);
    EXPECT_EQ(effectiveDegreesOfFreedom(problem, options, whole[1]), 3);
}

TEST(Penalised, RidgeIsItsClosedFormAndItsRowsLeftOut) {
    const json reference = publishedJson("ridge");
    const json& block = reference["blocks"][0];
    const Rows rows = rowsOf("diabetes", "y", block["columns"].get<std::vector<std::string>>());
    const MatrixRows source(rows.x);
    PenaltyOptions options;
    options.l1Share = 0;
    const PenalisedProblem problem = problemOf(source, rows.y, {}, options, {}, quietly());
    for (const json& fit : block["fits"]) {
        const double penalty = fit["alpha_ridge"].get<double>() / 442;
        const std::vector<double> one{penalty};
        const PenalisedPoint point = penalisedPath(problem, options, one, quietly()).front();
        for (std::size_t j = 0; j < fit["coef"].size(); ++j)
            EXPECT_GE(digits(point.standardised[static_cast<Index>(j)], fit["coef"][j]), 10);
        EXPECT_GE(digits(point.squares, fit["rss"]), 12);
        EXPECT_GE(
            digits(effectiveDegreesOfFreedom(problem, options, point), fit["effective_df_with_intercept"]),
            12);
        EXPECT_LT(point.dualityGap, 1e-12);
        const VectorXd leverages = penalisedLeverages(problem, options, point, source, {}, {}, quietly());
        double squares = 0;
        for (Index i = 0; i < source.rows(); ++i) {
            const double e =
                rows.y[static_cast<std::size_t>(i)] - point.constant - rows.x.row(i).dot(point.coefficients);
            squares += e * e / (1 - leverages[i]) / (1 - leverages[i]);
        }
        EXPECT_GE(digits(squares / 442, fit["loocv_mse_columns_and_intercept_fixed_scaling"]), 11);
    }
}

TEST(Penalised, OptimalityHoldsOnFiveHundredProblems) {
    double worst = 0, gap = 0;
    for (unsigned seed = 1; seed <= 500; ++seed) {
        RandomStream random(seed, "penalised problems");
        const bool wide = seed % 5 == 0;
        const Index n =
            wide ? 12 + static_cast<Index>(random.below(20)) : 30 + static_cast<Index>(random.below(60));
        const Index p =
            wide ? n + 5 + static_cast<Index>(random.below(40)) : 2 + static_cast<Index>(random.below(15));
        Rows rows;
        rows.x.resize(n, p);
        for (Index j = 0; j < p; ++j)
            for (Index i = 0; i < n; ++i)
                rows.x(i, j) = 100 * (seed % 3 == 0 ? 1 : 0) + (1 + static_cast<double>(j)) * random.normal();
        if (seed % 4 == 0 && p > 2)
            for (Index i = 0; i < n; ++i)
                rows.x(i, 1) = rows.x(i, 0) + 1e-4 * random.normal(); // nearly dependent
        if (seed % 8 == 3 && p > 4) { // columns that say each other exactly, as levels of products do
            rows.x.col(2) = rows.x.col(0) - 2 * rows.x.col(1);
            rows.x.col(4) = rows.x.col(3);
        }
        for (Index i = 0; i < n; ++i)
            rows.y.push_back(50 + rows.x(i, 0) - 2 * rows.x(i, p - 1) + 3 * random.normal());
        if (seed % 2 == 0)
            for (Index i = 0; i < n; ++i)
                rows.weights.push_back(i % 7 == 0 ? 0.0 : 0.5 + random.uniform());
        PenaltyOptions options;
        options.l1Share = std::array<double, 4>{1, 0.5, 0.05, 0}[seed % 4];
        options.standardise = seed % 3 != 1;
        options.intercept = seed % 7 != 0;
        if (seed % 6 == 1)
            for (Index j = 0; j < p; ++j)
                options.factors.push_back(j == 0 ? 0 : 0.5 + random.uniform());
        if (seed % 6 == 2)
            for (Index j = 0; j < p; ++j)
                options.signs.push_back(static_cast<int>(random.below(3)) - 1);
        const MatrixRows source(rows.x);
        const PenalisedProblem problem = problemOf(source, rows.y, rows.weights, options, {}, quietly());
        EXPECT_EQ(problem.naive(), 2 * p > n);
        const double most = largestPenalty(problem, options);
        std::vector<double> penalties;
        for (const double share : {0.8, 0.4, 0.1, 0.02, 0.003})
            penalties.push_back(most * share * std::max(options.l1Share, 0.001));
        for (const PenalisedPoint& point : penalisedPath(problem, options, penalties, quietly())) {
            const double found = violation(rows, options, point);
            EXPECT_LT(found, 1e-9) << "seed " << seed << " n " << n << " p " << p << " share "
                                   << options.l1Share << " penalty " << point.penalty;
            worst = std::max(worst, found);
            gap = std::max(gap, point.dualityGap);
            EXPECT_LT(point.dualityGap, 1e-9) << "seed " << seed << " share " << options.l1Share;
        }
    }
    std::printf("[ penalised] largest violation %.2g, largest gap %.2g\n", worst, gap);
}

/// As many columns as rows and more, most of them noise: hundreds come in and leave again. Some repeat others
/// nearly or exactly, some rows weigh nothing.
TEST(Penalised, NoisyPathsOfManyColumnsEndAtTheirMinimum) {
    for (unsigned seed = 1; seed <= 6; ++seed) {
        RandomStream random(seed, "noisy paths");
        const Index n = 150, p = seed % 2 == 0 ? 150 : 260;
        Rows rows;
        rows.x.resize(n, p);
        for (Index j = 0; j < p; ++j)
            for (Index i = 0; i < n; ++i)
                rows.x(i, j) = 20 + random.normal();
        for (Index i = 0; i < n && seed > 2; ++i) {
            rows.x(i, 7) = rows.x(i, 3) + 1e-5 * random.normal();
            rows.x(i, 90) = rows.x(i, 4);
        }
        for (Index i = 0; i < n; ++i)
            rows.y.push_back(rows.x(i, 3) - rows.x(i, 4) + 2 * random.normal());
        for (Index i = 0; i < n && seed > 4; ++i)
            rows.weights.push_back(i % 9 == 0 ? 0.0 : 0.5 + random.uniform());
        PenaltyOptions options;
        options.l1Share = seed % 3 == 0 ? 0.7 : 1;
        const MatrixRows source(rows.x);
        const PenalisedProblem problem = problemOf(source, rows.y, rows.weights, options, {}, quietly());
        ASSERT_TRUE(problem.naive());
        const auto penalties = usualPenalties(problem, options);
        const auto path = penalisedPath(problem, options, penalties, quietly());
        EXPECT_GT(path.back().kept, 90U) << seed;
        for (std::size_t k = 0; k < path.size(); k += 9) {
            EXPECT_LT(violation(rows, options, path[k]), 1e-9) << "seed " << seed << " point " << k;
            EXPECT_LT(path[k].dualityGap, 1e-9) << "seed " << seed << " point " << k;
        }
        // Each point is what it is by itself, whatever came in before it.
        const PenalisedPoint alone = penalisedPoint(problem, options, penalties[60], quietly());
        EXPECT_EQ(alone.kept, path[60].kept) << seed;
        EXPECT_GE(digits(alone.squares, path[60].squares), 9) << seed;
    }
}

TEST(Penalised, ProductsOfColumnsAreThoseOfTheOrderTheyCameIn) {
    RandomStream random(2, "products");
    const MatrixXd z = MatrixXd::NullaryExpr(40, 90, [&] { return random.normal(); });
    ProductsOfColumns products;
    const std::vector<std::vector<Index>> asked{{5}, {2, 5, 80}, {}, {0, 1, 2, 3}, {89, 5}};
    std::vector<Index> all;
    for (const auto& columns : asked) {
        products.bring(z, columns);
        for (const Index j : columns)
            if (std::find(all.begin(), all.end(), j) == all.end()) all.push_back(j);
    }
    for (Index j = 20; j < 70; ++j)
        all.push_back(j); // more than there was room for
    products.bring(z, all);
    for (std::size_t a = 0; a < all.size(); ++a) {
        EXPECT_EQ(products.placeOf(all[a]), static_cast<Index>(a));
        for (std::size_t b = 0; b < all.size(); ++b)
            EXPECT_NEAR(products.gram()(static_cast<Index>(a), static_cast<Index>(b)),
                        z.col(all[a]).dot(z.col(all[b])) / 40, 1e-14);
    }
}

TEST(Penalised, EdgesGiveWhatTheyMust) {
    RandomStream random(3, "penalised edges");
    Rows rows;
    rows.x.resize(40, 4);
    for (Index i = 0; i < 40; ++i) {
        rows.x(i, 0) = random.normal();
        rows.x(i, 1) = 7;            // no spread
        rows.x(i, 2) = rows.x(i, 0); // a column that is there already
        rows.x(i, 3) = random.normal();
        rows.y.push_back(5 + 3 * rows.x(i, 0) - rows.x(i, 3) + random.normal());
    }
    const PenaltyOptions lasso;
    const MatrixRows source(rows.x);
    const PenalisedProblem problem = problemOf(source, rows.y, {}, lasso, {}, quietly());
    const double most = largestPenalty(problem, lasso);
    const PenalisedPoint none = pointOf(rows, lasso, most * 1.0001);
    EXPECT_EQ(none.kept, 0U);
    EXPECT_GE(digits(none.constant, std::accumulate(rows.y.begin(), rows.y.end(), 0.0) / 40), 14);
    const PenalisedPoint some = pointOf(rows, lasso, most / 50);
    EXPECT_EQ(some.coefficients[1], 0);
    EXPECT_LT(some.dualityGap, 1e-9);
    // Ridge shares between two columns that are the same.
    PenaltyOptions ridge;
    ridge.l1Share = 0;
    const PenalisedPoint shared = pointOf(rows, ridge, 0.1);
    EXPECT_NEAR(shared.coefficients[0], shared.coefficients[2], 1e-10);
    // No penalty is least squares.
    Rows two = rows;
    two.x = MatrixXd(40, 2);
    two.x.col(0) = rows.x.col(0);
    two.x.col(1) = rows.x.col(3);
    const PenalisedPoint plain = pointOf(two, lasso, 0);
    MatrixXd design(40, 3);
    design << VectorXd::Ones(40), two.x;
    const VectorXd least = design.colPivHouseholderQr().solve(Eigen::Map<const VectorXd>(rows.y.data(), 40));
    EXPECT_GE(digits(plain.constant, least[0]), 12);
    EXPECT_GE(digits(plain.coefficients[0], least[1]), 12);
    EXPECT_GE(digits(plain.coefficients[1], least[2]), 12);
    // A weight of 0 is a row that is not there, but for n, by which the loss is divided.
    Rows weighted = two;
    weighted.weights.assign(40, 1);
    for (std::size_t i = 30; i < 40; ++i)
        weighted.weights[i] = 0;
    Rows fewer;
    fewer.x = two.x.topRows(30);
    fewer.y.assign(two.y.begin(), two.y.begin() + 30);
    const PenalisedPoint a = pointOf(weighted, lasso, 0.3 * 30 / 40), b = pointOf(fewer, lasso, 0.3);
    EXPECT_GE(digits(a.coefficients[0], b.coefficients[0]), 12);
    EXPECT_GE(digits(a.constant, b.constant), 12);
    // Sums of parts are the sum of all, and the number of threads changes nothing.
    const SumShift shift = shiftOf(MatrixRows(two.x), two.y, true);
    const MatrixXd top = two.x.topRows(13), rest = two.x.bottomRows(27);
    RowSums sums = sumRows(MatrixRows(top), std::span(two.y).first(13), {}, shift, {}, quietly());
    sums.add(sumRows(MatrixRows(rest), std::span(two.y).subspan(13), {}, shift, {}, quietly()));
    const PenalisedProblem parts = problemOf(sums, shift, lasso);
    const std::vector<double> one{0.2};
    const PenalisedPoint ofParts = penalisedPath(parts, lasso, one, quietly()).front();
    EXPECT_GE(digits(ofParts.coefficients[0], pointOf(two, lasso, 0.2).coefficients[0]), 13);
}

TEST(Penalised, AStopEndsAPathAtOnce) {
    class Stopping : public Progress {
    public:
        bool stopRequested() const override { return ++m_asked > 3; }
        mutable int m_asked = 0;
    };
    RandomStream random(9, "penalised stop");
    Rows rows;
    rows.x = MatrixXd::NullaryExpr(200, 30, [&] { return random.normal(); });
    for (Index i = 0; i < 200; ++i)
        rows.y.push_back(rows.x.row(i).sum() + random.normal());
    const MatrixRows source(rows.x);
    const PenaltyOptions options;
    const PenalisedProblem problem = problemOf(source, rows.y, {}, options, {}, quietly());
    Stopping stopping;
    const auto penalties = usualPenalties(problem, options);
    EXPECT_THROW(penalisedPath(problem, options, penalties, stopping), Stopped);
}

TEST(Penalised, ManyLevelsThatSayEachOtherAreFollowedToTheEnd) {
    // Indicators of two factors and all their pairs: more columns than directions, most of them kept at the
    // end.
    RandomStream random(4, "penalised levels");
    Rows rows;
    constexpr Index n = 600, a = 12, b = 8;
    rows.x = MatrixXd::Zero(n, a + b + a * b);
    for (Index i = 0; i < n; ++i) {
        const auto u = static_cast<Index>(random.below(a)), v = static_cast<Index>(random.below(b));
        rows.x(i, u) = rows.x(i, a + v) = rows.x(i, a + b + u * b + v) = 1;
        rows.y.push_back(static_cast<double>(u) - 2 * static_cast<double>(v) + (u == v ? 3 : 0) +
                         random.normal());
    }
    const MatrixRows source(rows.x);
    const PenaltyOptions options;
    const PenalisedProblem problem = problemOf(source, rows.y, {}, options, {}, quietly());
    const auto penalties = usualPenalties(problem, options);
    const auto path = penalisedPath(problem, options, penalties, quietly());
    const auto quick = penalisedPath(problem, options, penalties, quietly(), PathDigits::few);
    for (std::size_t k = 0; k < path.size(); ++k) {
        EXPECT_LT(path[k].dualityGap, 1e-9) << k;
        EXPECT_LT(violation(rows, options, path[k]), 1e-8) << k;
        // What is judged by comes out the same to what matters.
        EXPECT_GE(digits(quick[k].squares, path[k].squares), 4) << k;
    }
    EXPECT_GT(path.back().kept, 60U);
    // One point alone is that of the path.
    const PenalisedPoint one = penalisedPoint(problem, options, penalties[60], quietly());
    EXPECT_GE(digits(one.squares, path[60].squares), 9);
}

} // namespace penalised_test
