// Errors that stand unequal spread, groups and serial dependence, of fits whose levels are apart: against the
// dense way, and against sums within levels.
#include "core/stops.h"
#include "core/wide_support.h"

#include "base/error.h"
#include "estimate/linear/robust_errors.h"
#include "estimate/model_text.h"
#include "study/evaluate.h"

#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;

namespace levels_errors_test {

struct Asked {
    CovarianceKind kind;
    std::vector<std::uint32_t> units{};
    int lags = 0;
    std::string name;
};

/// Every kind: groups that the levels are, groups across them, more of these than coefficients, and periods.
std::vector<Asked> allKinds(const Made& m, std::uint64_t seed) {
    RandomStream random(seed, "groups");
    std::vector<std::uint32_t> sites, few, many, periods;
    const std::size_t n = m.y.size();
    for (std::size_t i = 0; i < n; ++i) {
        sites.push_back(static_cast<std::uint32_t>(m.table.columns()[0].codes()[i]));
        few.push_back(static_cast<std::uint32_t>(i < 7 ? i : random.below(7)));
        many.push_back(static_cast<std::uint32_t>(i < n / 2 ? i : random.below(n / 2)));
        periods.push_back(static_cast<std::uint32_t>(i * 150 / n));
    }
    return {{CovarianceKind::hc0, {}, 0, "HC0"},
            {CovarianceKind::hc1, {}, 0, "HC1"},
            {CovarianceKind::hc2, {}, 0, "HC2"},
            {CovarianceKind::hc3, {}, 0, "HC3"},
            {CovarianceKind::clustered, sites, 0, "by site"},
            {CovarianceKind::clustered, few, 0, "by seven groups"},
            {CovarianceKind::clustered, many, 0, "by many groups"},
            {CovarianceKind::clusteredFewGroups, few, 0, "by few groups"},
            {CovarianceKind::autocorrelated, periods, 3, "serial"},
            {CovarianceKind::autocorrelated, periods, 0, "by period"}};
}

constexpr auto plainly = LeastSquaresOptions::Precision::plain;

void replaceErrors(LeastSquaresFit& fit, const RowSource& rows, const Made& m, const Asked& asked) {
    RobustErrors errors =
        robustErrors(fit, rows, m.weights, asked.kind, asked.units, asked.lags, {2}, quietly());
    fit.rowsFixed = errors.rowsFixed;
    fit.unseen = std::move(errors.unseen);
    fit.undefinedThere = errors.undefinedThere;
    fit.fewGroups = std::move(errors.fewGroups);
    fit.replaceCovariance(std::move(errors.covarianceRoot), errors.degreesOfFreedom);
}

/// Nine digits, or neither is known. What rounding alone makes of a variance that is 0 is no number: below a
/// hundred thousandth of what equal spread makes of it nothing is compared.
void expectSameError(double one, double other, double usual, const std::string& what) {
    EXPECT_EQ(std::isnan(one), std::isnan(other)) << what << ": " << one << ", " << other;
    if (std::isnan(other) || other < 1e-5 * usual) return;
    EXPECT_NEAR(one, other, 1e-9 * std::max(other, 1e-2 * usual)) << what;
}

Shape shapeOf(std::uint64_t seed) {
    RandomStream random(seed, "shapes with errors");
    Shape shape;
    shape.n = 300 + random.below(500);
    shape.levels = 10 + static_cast<int>(random.below(50));
    shape.numbers = static_cast<int>(random.below(4));
    shape.intercept = random.below(4) != 0;
    shape.weighted = random.below(3) == 0;
    shape.single = random.below(3) == 0 ? 3 : 0;
    shape.weightless = shape.weighted && random.below(2) == 0 ? 2 : 0;
    shape.others = random.below(3) == 0 ? 2 + static_cast<int>(random.below(8)) : 0;
    shape.slopes = shape.numbers > 0 && random.below(3) == 0;
    shape.moreSlopes = shape.slopes && random.below(2) == 0;
    shape.productsFirst = shape.slopes && random.below(3) == 0;
    shape.productsAlone = shape.slopes && random.below(4) == 0;
    if (shape.slopes && random.below(2) == 0) shape.others = 0;
    return shape;
}

TEST(LevelsErrors, AreThoseOfOneTriangleOnAHundredRandomProblems) {
    int tests = 0, refused = 0, unknown = 0;
    for (std::uint64_t seed = 1; seed <= 100; ++seed) {
        SCOPED_TRACE(seed);
        const auto pair = bothOf(shapeOf(seed), seed, plainly);
        ASSERT_GT(pair->apart.factor.levels(), 0);
        for (const Asked& asked : allKinds(pair->m, seed)) {
            SCOPED_TRACE(asked.name);
            LeastSquaresFit a = pair->apart, b = pair->dense;
            replaceErrors(a, *pair->rows, pair->m, asked);
            replaceErrors(b, Dense(*pair->rows), pair->m, asked);
            EXPECT_EQ(a.covarianceRoot->apart(), asked.kind != CovarianceKind::clusteredFewGroups);
            EXPECT_EQ(a.rowsFixed, b.rowsFixed);
            for (const std::size_t j : b.kept) {
                const auto at = static_cast<Index>(j);
                expectSameError(a.standardErrors[at], b.standardErrors[at], pair->dense.standardErrors[at],
                                pair->design.columns()[j].name);
                unknown += std::isnan(b.standardErrors[at]);
            }
            if (b.intercept)
                expectSameError(a.constantError, b.constantError, pair->dense.constantError, "constant");
            const VectorXd one = a.meanVariance(pair->matrix.topRows(40)),
                           other = b.meanVariance(pair->matrix.topRows(40)),
                           usual = pair->dense.meanVariance(pair->matrix.topRows(40));
            for (Index i = 0; i < one.size(); ++i)
                expectSameError(std::sqrt(one[i]), std::sqrt(other[i]), std::sqrt(usual[i]), "a mean");
            for (std::size_t t = 0; t < pair->m.terms.size(); ++t) {
                std::vector<std::size_t> own;
                for (std::size_t j = 0; j < pair->design.columns().size(); ++j)
                    if (pair->design.columns()[j].term == t) own.push_back(j);
                const JointTest x = a.jointTest(own), y = b.jointTest(own);
                const auto q = static_cast<Index>(y.numeratorDf);
                const bool apartIsAsked = a.covarianceRoot->apart() && 2 * q > b.rank() &&
                                          q > std::clamp<Index>(a.factor.triangle().rows(), 16, 256);
                if (apartIsAsked && asked.kind != CovarianceKind::hc0 && asked.kind != CovarianceKind::hc1 &&
                    asked.kind != CovarianceKind::hc2 && asked.kind != CovarianceKind::hc3) {
                    EXPECT_TRUE(std::isnan(x.f));
                    EXPECT_FALSE(x.why.empty());
                    ++refused;
                    continue;
                }
                EXPECT_EQ(std::isnan(x.f), std::isnan(y.f)) << x.why << " | " << y.why;
                EXPECT_EQ(x.why.empty(), y.why.empty());
                if (!std::isnan(y.f)) {
                    EXPECT_GE(digits(x.f, y.f), 7) << x.f << " " << y.f;
                    EXPECT_EQ(x.denominatorDf > 0, y.denominatorDf > 0);
                    ++tests;
                }
            }
        }
        if (HasFailure()) break;
    }
    EXPECT_GT(tests, 1000);
    EXPECT_GT(refused, 20);
    EXPECT_GT(unknown, 20) << "rows that alone fix their value";
}

/// The rows of many levels written by sums alone: White 1980 (Econometrica 48) for HC0, whose every error is
/// Σ e²·(what the row adds to the coefficient)²; Arellano 1987 (Oxford Bulletin of Economics and Statistics
/// 49) for groups, which adds before it squares.
TEST(LevelsErrors, AreSumsWithinTwoThousandLevels) {
    const Made m = made({.n = 30000, .levels = 2000, .numbers = 1}, 22);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    LeastSquaresFit fit = fitLeastSquares(rows, m.y, {}, quietly());
    ASSERT_EQ(fit.factor.levels(), 1999);
    const LeastSquaresFit plain = fit;
    const auto codes = m.table.columns()[0].codes();
    const auto x = m.table.columns()[1].numbers();
    std::vector<long double> count(2000, 0), ofX(2000, 0);
    for (std::size_t i = 0; i < x.size(); ++i) {
        count[static_cast<std::size_t>(codes[i])] += 1;
        ofX[static_cast<std::size_t>(codes[i])] += x[i];
    }
    const auto within = [&](std::size_t i) {
        const auto l = static_cast<std::size_t>(codes[i]);
        return x[i] - ofX[l] / count[l];
    };
    long double xx = 0;
    for (std::size_t i = 0; i < x.size(); ++i)
        xx += within(i) * within(i);
    // What row i adds to the slope, and to level l against the first.
    const auto toSlope = [&](std::size_t i) { return within(i) / xx; };
    const auto toLevel = [&](std::size_t i, std::size_t l) {
        const auto own = static_cast<std::size_t>(codes[i]);
        const long double d = ofX[l] / count[l] - ofX[0] / count[0];
        return (own == l ? 1 / count[l] : 0) - (own == 0 ? 1 / count[0] : 0) - d * toSlope(i);
    };
    replaceErrors(fit, rows, m, {CovarianceKind::hc0, {}, 0, ""});
    ASSERT_TRUE(fit.covarianceRoot->triangular());
    const auto expected = [&](auto&& adds) {
        long double sum = 0;
        for (std::size_t i = 0; i < x.size(); ++i) {
            const long double e = plain.residuals[static_cast<Index>(i)], a = adds(i);
            sum += e * e * a * a;
        }
        return static_cast<double>(std::sqrt(sum));
    };
    EXPECT_GE(digits(fit.standardErrors[1999], expected(toSlope)), 11);
    for (const std::size_t l : {1U, 17U, 1000U, 1999U})
        EXPECT_GE(digits(fit.standardErrors[static_cast<Index>(l) - 1],
                         expected([&](std::size_t i) { return toLevel(i, l); })),
                  11);
    // By 300 groups across the levels.
    std::vector<std::uint32_t> groups;
    RandomStream random(5, "groups");
    for (std::size_t i = 0; i < x.size(); ++i)
        groups.push_back(static_cast<std::uint32_t>(random.below(300)));
    fit = plain;
    replaceErrors(fit, rows, m, {CovarianceKind::clustered, groups, 0, ""});
    const auto byGroup = [&](auto&& adds) {
        std::vector<long double> sums(300, 0);
        for (std::size_t i = 0; i < x.size(); ++i)
            sums[groups[i]] += plain.residuals[static_cast<Index>(i)] * adds(i);
        long double sum = 0;
        for (const long double s : sums)
            sum += s * s;
        return static_cast<double>(std::sqrt(sum * 300.0L / 299 * 29999 / (30000 - 2001)));
    };
    EXPECT_GE(digits(fit.standardErrors[1999], byGroup(toSlope)), 10);
    for (const std::size_t l : {1U, 1000U, 1999U})
        EXPECT_GE(digits(fit.standardErrors[static_cast<Index>(l) - 1],
                         byGroup([&](std::size_t i) { return toLevel(i, l); })),
                  10);
    EXPECT_EQ(fit.testDegreesOfFreedom(), 299);
    // 300 groups say nothing of 5,999 levels together, and it says so; of the slope they do.
    std::vector<std::size_t> levels(1999);
    std::iota(levels.begin(), levels.end(), std::size_t{0});
    EXPECT_NE(fit.jointTest(levels).why.find("of 300 of its 1999 directions"), std::string::npos);
    const std::vector<std::size_t> slope{1999};
    EXPECT_GE(digits(fit.jointTest(slope).f, std::pow(fit.coefficients[1999] / fit.standardErrors[1999], 2)),
              9);
}

TEST(LevelsErrors, AreReadAsTheyWereWritten) {
    const auto pair = bothOf({.n = 500, .levels = 30, .others = 4, .numbers = 2, .single = 2}, 3, plainly);
    for (const Asked& asked : allKinds(pair->m, 3)) {
        SCOPED_TRACE(asked.name);
        LeastSquaresFit fit = pair->apart;
        replaceErrors(fit, *pair->rows, pair->m, asked);
        const auto written = nlohmann::json::parse(fitJson(fit).dump());
        const LeastSquaresFit read = fitFrom(written);
        ASSERT_EQ(read.covarianceRoot->apart(), fit.covarianceRoot->apart());
        EXPECT_EQ(read.covarianceRoot->triangular(), fit.covarianceRoot->triangular());
        const MatrixXd directions = MatrixXd::Identity(fit.rank(), fit.rank());
        EXPECT_EQ(read.covarianceRoot->times(directions), fit.covarianceRoot->times(directions));
        EXPECT_EQ(read.unseen.rows(), fit.unseen.rows());
        if (!fit.unseen.empty()) {
            EXPECT_EQ(read.unseen.times(directions), fit.unseen.times(directions));
        }
        // What does not hang together is no project's.
        if (fit.covarianceRoot->triangular()) {
            auto broken = written;
            broken["covariance_root"]["factor_levels"]["lengths"].push_back(1);
            EXPECT_THROW(fitFrom(broken), std::out_of_range);
            broken = written;
            broken["covariance_root"]["triangle"]["columns"] = 1;
            EXPECT_THROW(fitFrom(broken), std::exception);
        } else if (fit.covarianceRoot->apart()) {
            for (const auto& [place, value] : {std::pair{0, 100000}, {1, 100000}, {0, -1}, {1, -1}}) {
                auto broken = written;
                broken["covariance_root"]["entries"][0][static_cast<std::size_t>(place)] = value;
                EXPECT_THROW(fitFrom(broken), std::out_of_range);
            }
            auto broken = written;
            broken["covariance_root"]["levels"] = -1;
            EXPECT_THROW(fitFrom(broken), std::out_of_range);
            broken["covariance_root"]["levels"] = 1'000'000'000'000;
            EXPECT_THROW(fitFrom(broken), std::out_of_range);
        }
    }
}

TEST(LevelsErrors, GiveTheSameBitsOnAnyNumberOfThreadsAndStop) {
    const Made m = made({.n = 40000, .levels = 1500, .others = 4, .numbers = 3, .weighted = true}, 9);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    const LeastSquaresFit fit = fitLeastSquares(rows, m.y, {.weights = m.weights}, quietly());
    for (const Asked& asked : allKinds(m, 4)) {
        if (asked.kind == CovarianceKind::clusteredFewGroups) continue;
        SCOPED_TRACE(asked.name);
        const auto with = [&](Threads threads, Progress& progress) {
            LeastSquaresFit made = fit;
            RobustErrors errors =
                robustErrors(fit, rows, m.weights, asked.kind, asked.units, asked.lags, threads, progress);
            made.replaceCovariance(std::move(errors.covarianceRoot), errors.degreesOfFreedom);
            return made.standardErrors;
        };
        EXPECT_EQ(with({1}, quietly()), with({3}, quietly()));
        StopsAfterAsked stops(3);
        EXPECT_THROW(with({2}, stops), Stopped);
    }
}

/// Through a recipe, with rows to be forecast: every mean's error is that of the dense root.
TEST(LevelsErrors, StandBesideEveryPredictionOfAnEvaluation) {
    Made m = made({.n = 4400, .levels = 1010, .others = 3, .numbers = 2}, 31);
    auto [rows, recipe] = studied(m);
    recipe.errors.kind = CovarianceKind::hc1;
    recipe.setAside = SetAside{.share = 0.1, .seed = 3};
    const auto prepared = prepareRows(recipe, rows, {2}, quietly());
    const auto evidence =
        evaluate(recipe, rows, *prepared, {.threads = {2}, .checks = ChecksWanted::all}, quietly());
    const LinearModel& model = *evidence.study->linear();
    ASSERT_GT(model.fit.factor.levels(), 1000);
    const BoundDesign bound(model.design, rows.learning.table, {});
    std::vector<double> y;
    for (const auto row : evidence.study->rows)
        y.push_back(m.y[row]);
    const DesignRows x(bound, evidence.study->rows);
    LeastSquaresFit dense = fitLeastSquares(
        Dense(x), y, {.threads = {2}, .precision = LeastSquaresOptions::Precision::plain}, quietly());
    RobustErrors errors = robustErrors(dense, Dense(x), {}, CovarianceKind::hc1, {}, 0, {2}, quietly());
    dense.replaceCovariance(std::move(errors.covarianceRoot), errors.degreesOfFreedom);
    const LinearEvidence& said = *evidence.linear;
    for (std::size_t k = 0; k < dense.kept.size(); ++k)
        EXPECT_GE(digits(said.coefficients[k + 1].standardError,
                         dense.standardErrors[static_cast<Index>(dense.kept[k])]),
                  9);
    std::vector<std::uint32_t> held;
    for (std::size_t row = 0; row < m.y.size(); ++row)
        if (evidence.rows.state[row] == RowState::heldOut && !std::isnan(evidence.rows.fitted[row]))
            held.push_back(static_cast<std::uint32_t>(row));
    ASSERT_GT(held.size(), 300U);
    MatrixXd block(static_cast<Index>(held.size()), x.columns()),
        inputs(block.rows(), static_cast<Index>(model.design.inputs().size()));
    bound.fill(held, block);
    bound.inputs().fill(held, inputs);
    const VectorXd one = model.at(inputs).variance, other = dense.meanVariance(block);
    for (Index i = 0; i < block.rows(); ++i)
        EXPECT_NEAR(one[i], other[i], 1e-9 * other[i]);
    // The model in a project, read again, says the same.
    const auto read = readLinearModel(model.text());
    EXPECT_EQ(read->linear()->at(inputs).variance, one);
}

/// What is not made says so, with what would do instead.
TEST(LevelsErrors, SayWhatTheyDoNotMake) {
    const Made m = made({.n = 24000, .levels = 1200, .numbers = 1}, 5);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    const LeastSquaresFit fit = fitLeastSquares(rows, m.y, {}, quietly());
    std::vector<std::uint32_t> units(24000);
    std::iota(units.begin(), units.end(), 0U);
    try {
        (void)robustErrors(fit, rows, {}, CovarianceKind::clusteredFewGroups, units, 0, {1}, quietly());
        FAIL() << "24,000 groups of 1,201 coefficients";
    } catch (const Error& error) {
        EXPECT_NE(error.message().find("24,000 groups"), std::string::npos) << error.message();
        EXPECT_FALSE(error.remedy().empty());
    }
    // Without the correction they are made, and say that a test of all levels is not.
    LeastSquaresFit grouped = fit;
    replaceErrors(grouped, rows, m, {CovarianceKind::clustered, units, 0, ""});
    EXPECT_TRUE(std::isfinite(grouped.standardErrors[5]));
    std::vector<std::size_t> levels(1199);
    std::iota(levels.begin(), levels.end(), std::size_t{0});
    EXPECT_NE(grouped.jointTest(levels).why.find("a test of 1199 coefficients together is not made"),
              std::string::npos)
        << grouped.jointTest(levels).why;
}

} // namespace levels_errors_test
