// Factors of thousands of levels, whose columns are eliminated first: against the dense way on random
// problems.
#include "core/stops.h"
#include "core/wide_support.h"

#include "base/error.h"
#include "check/influence.h"
#include "estimate/linear/level_rows.h"
#include "estimate/linear/screen.h"
#include "estimate/model_text.h"
#include "study/evaluate.h"

#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;

namespace levels_test {

using Levels = LeastSquaresOptions::Levels;

Shape randomShape(std::uint64_t seed) {
    RandomStream random(seed, "shapes of levels");
    Shape shape;
    shape.n = 200 + random.below(900);
    shape.levels = 3 + static_cast<int>(random.below(60));
    shape.numbers = static_cast<int>(random.below(4));
    shape.intercept = random.below(4) != 0;
    shape.weighted = random.below(3) == 0;
    shape.single = shape.levels > 10 && random.below(3) == 0 ? 3 : 0;
    shape.weightless = shape.weighted && random.below(2) == 0 ? 2 : 0;
    shape.others = random.below(3) == 0 ? 2 + static_cast<int>(random.below(8)) : 0;
    shape.said = shape.numbers > 1 && random.below(4) == 0;
    shape.slopes = shape.numbers > 0 && shape.others == 0 && random.below(4) == 0;
    shape.moreSlopes = shape.slopes && random.below(2) == 0;
    shape.productsFirst = shape.slopes && random.below(3) == 0;
    shape.productsAlone = shape.slopes && random.below(4) == 0;
    shape.crossed = shape.others > 0 && random.below(4) == 0;
    shape.regions = shape.levels > 8 && random.below(5) == 0;
    return shape;
}

TEST(LevelsApart, FitAsRowsDoOnThreeHundredRandomProblems) {
    for (std::uint64_t seed = 1; seed <= 300; ++seed) {
        expectTheSame(randomShape(seed), seed, Levels::apart);
        if (HasFailure()) break;
    }
}

TEST(LevelsTogether, FitAsRowsDoOnAHundredRandomProblems) {
    for (std::uint64_t seed = 301; seed <= 400; ++seed) {
        expectTheSame(randomShape(seed), seed, Levels::together);
        if (HasFailure()) break;
    }
}

constexpr auto asNeeded = LeastSquaresOptions::Precision::asNeeded;

/// What a fit answers afterwards: at its rows, between them, of combinations, of terms.
TEST(LevelsApart, AnswerWhatOneTriangleDoes) {
    for (std::uint64_t seed = 1; seed <= 40; ++seed) {
        SCOPED_TRACE(seed);
        Shape shape = randomShape(seed);
        shape.regions = shape.said = false;
        const auto both = bothOf(shape, seed, asNeeded);
        const LeastSquaresFit &a = both->apart, &b = both->dense;
        ASSERT_GT(a.factor.levels(), 0);
        ASSERT_EQ(b.factor.levels(), 0);
        EXPECT_LT(farthest(a.predict(both->matrix), b.predict(both->matrix)), 1e-9);
        EXPECT_LT(farthest(a.leverage(both->matrix), b.leverage(both->matrix)), 1e-10);
        EXPECT_LT(farthest(a.meanVariance(both->matrix), b.meanVariance(both->matrix)), 1e-10);
        // Halfway between rows, where several levels are in part.
        const MatrixXd between = (both->matrix.topRows(20) + both->matrix.bottomRows(20)) / 2;
        EXPECT_LT(farthest(a.leverage(between), b.leverage(between)), 1e-10);
        const MatrixXd basis = a.inOrthonormalBasis(both->matrix);
        EXPECT_LT(farthest(basis.rowwise().squaredNorm(), b.leverage(both->matrix)), 1e-10);
        MatrixXd turned = a.shifted(both->matrix);
        a.factor.turn(turned);
        EXPECT_LT((turned - basis).cwiseAbs().maxCoeff(), 1e-12);
        VectorXd weights = VectorXd::Zero(a.columns);
        for (Index j = 0; j < a.columns; ++j)
            weights[j] = std::cos(static_cast<double>(j));
        for (const auto& d : b.dependent)
            weights[static_cast<Index>(d.column)] = 0;
        VectorXd known = a.coefficients, same = b.coefficients;
        const Combination one = a.combination(weights, 0.5);
        Combination other = b.combination(weights, 0.5);
        if (b.dependent.empty()) {
            EXPECT_NEAR(one.value, other.value, 1e-8 * std::max(1.0, std::fabs(other.value)));
        }
        EXPECT_GE(digits(one.standardError, other.standardError), 9);
        EXPECT_LT(farthest(a.columnMeans(), b.columnMeans()), 1e-10);
        EXPECT_GE(digits(a.unscaledCovariance().norm(), b.unscaledCovariance().norm()), 9);
        const VectorXd coefficients = a.shiftedCoefficients();
        EXPECT_LT(farthest(a.factor.solve(a.factor.times(coefficients)), coefficients),
                  1e-9 * coefficients.cwiseAbs().maxCoeff());
        EXPECT_LT(farthest(a.factor.byInverse(a.factor.times(coefficients)), coefficients),
                  1e-9 * coefficients.cwiseAbs().maxCoeff());
        const VectorXd direction = a.factor.directionOf(coefficients);
        EXPECT_LT(farthest(a.factor.solveTransposed(coefficients), direction),
                  1e-9 * direction.cwiseAbs().maxCoeff());
        EXPECT_LT(farthest(a.factor.transposeTimes(direction), coefficients),
                  1e-9 * coefficients.cwiseAbs().maxCoeff());
        if (HasFailure()) break;
    }
}

TEST(LevelsApart, AreReadAsTheyWereWritten) {
    const auto both = bothOf({.n = 500, .levels = 30, .others = 4, .numbers = 2}, 3, asNeeded);
    const LeastSquaresFit read = fitFrom(nlohmann::json::parse(fitJson(both->apart).dump()));
    EXPECT_EQ(read.factor.levels(), both->apart.factor.levels());
    EXPECT_EQ(read.factor.rank(), both->apart.factor.rank());
    EXPECT_EQ(read.leverage(both->matrix), both->apart.leverage(both->matrix));
    auto broken = nlohmann::json::parse(fitJson(both->apart).dump());
    broken["factor_levels"]["places"][1] = broken["factor_levels"]["places"][0];
    EXPECT_THROW(fitFrom(broken), std::out_of_range);
    broken = nlohmann::json::parse(fitJson(both->apart).dump());
    broken["factor_levels"]["places"].back() = 100000;
    EXPECT_THROW(fitFrom(broken), std::out_of_range);
    broken = nlohmann::json::parse(fitJson(both->apart).dump());
    broken.erase("factor_levels");
    EXPECT_THROW(fitFrom(broken), std::out_of_range);
}

/// What a candidate would add, and how rows move coefficients, go by the factor.
TEST(LevelsApart, ScreenAndInfluenceAreThoseOfOneTriangle) {
    for (const bool weighted : {false, true}) {
        const auto both =
            bothOf({.n = 700, .levels = 40, .others = 3, .numbers = 2, .weighted = weighted}, 8, asNeeded);
        RandomStream random(4, "candidates");
        MatrixXd candidates(both->rows->rows(), 3);
        for (Index i = 0; i < candidates.rows(); ++i)
            for (Index j = 0; j < 3; ++j)
                candidates(i, j) = random.normal() + (j == 0 ? both->m.y[static_cast<std::size_t>(i)] : 0);
        const std::vector<ScreenBlock> blocks{{.columns = {0}}, {.columns = {1, 2}}};
        const auto add = [&](const LeastSquaresFit& fit) {
            return screenBlocks(fit, *both->rows, MatrixRows(candidates), blocks, both->m.weights, {2},
                                quietly());
        };
        const auto a = add(both->apart), b = add(both->dense);
        for (std::size_t k = 0; k < blocks.size(); ++k) {
            EXPECT_GE(digits(a[k].reduction, b[k].reduction), 9);
            EXPECT_GE(digits(a[k].f, b[k].f), 9);
        }
        std::vector<double> leverages, studentized;
        for (Index i = 0; i < both->rows->rows(); ++i) {
            leverages.push_back(both->dense.leverages[i]);
            studentized.push_back(std::sin(static_cast<double>(i)));
        }
        std::vector<double> sums[2];
        for (const LeastSquaresFit* fit : {&both->apart, &both->dense})
            forEachDfbetas(*fit, *both->rows, both->m.weights, leverages, studentized, {1}, quietly(),
                           [&](Index, const MatrixXd& block) {
                               for (Index i = 0; i < block.rows(); ++i) {
                                   const double most = block.row(i).cwiseAbs().maxCoeff();
                                   sums[fit == &both->dense].push_back(most);
                               }
                           });
        ASSERT_EQ(sums[0].size(), sums[1].size());
        for (std::size_t i = 0; i < sums[0].size(); ++i)
            if (!std::isnan(sums[1][i])) {
                EXPECT_NEAR(sums[0][i], sums[1][i], 1e-9);
            }
        const MatrixXd row = both->matrix.row(17);
        const auto one = changeWithout(both->apart, row, 1, 2, 0.1, 1.5),
                   other = changeWithout(both->dense, row, 1, 2, 0.1, 1.5);
        EXPECT_LT(farthest(one.naturalChange, other.naturalChange), 1e-9);
        EXPECT_LT(farthest(one.dfbetas, other.dfbetas), 1e-9);
    }
}

/// A number that nearly repeats another, refined in long doubles: against twice the precision.
TEST(LevelsApart, KeepTheirDigitsWhereColumnsNearlyRepeat) {
    for (const double near : {1e-2, 1e-4, 1e-6}) {
        SCOPED_TRACE(near);
        const Made m = withNearRepeat(made({.n = 3000, .levels = 60, .numbers = 2}, 12), near);
        const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
        const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
        const LeastSquaresFit a = fitLeastSquares(rows, m.y, {.levels = Levels::apart}, quietly());
        const LeastSquaresFit b = fitLeastSquares(Dense(rows), m.y, {}, quietly());
        ASSERT_TRUE(b.exact);
        for (Index j = 0; j < a.coefficients.size(); ++j) {
            EXPECT_NEAR(a.coefficients[j], b.coefficients[j], 1e-11 * b.standardErrors[j]);
            EXPECT_GE(digits(a.standardErrors[j], b.standardErrors[j]), 9);
        }
        EXPECT_GE(digits(a.residualSumOfSquares, b.residualSumOfSquares), 12);
        EXPECT_LT(farthest(a.leverages, b.leverages), 1e-9);
    }
}

TEST(LevelsApart, GiveTheSameBitsOnAnyNumberOfThreads) {
    // One level has more rows than a batch holds.
    Made m = made({.n = 40000, .levels = 1500, .others = 4, .numbers = 3, .weighted = true}, 9);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    const LeastSquaresFit one = fitLeastSquares(rows, m.y, {.threads = {1}, .weights = m.weights}, quietly());
    const LeastSquaresFit three =
        fitLeastSquares(rows, m.y, {.threads = {3}, .weights = m.weights}, quietly());
    EXPECT_GT(one.factor.levels(), 1400) << "so many are apart without being asked";
    EXPECT_EQ(one.coefficients, three.coefficients);
    EXPECT_EQ(one.standardErrors, three.standardErrors);
    EXPECT_EQ(one.residuals, three.residuals);
    EXPECT_EQ(one.leverages, three.leverages);
}

/// Rows of a level beyond a batch come in parts, which are one level's all the same.
TEST(LevelsApart, LevelsOfManyRowsAreReducedInParts) {
    RandomStream random(5, "few levels");
    std::vector<std::int32_t> codes;
    std::vector<double> x, y;
    std::vector<std::uint32_t> places;
    for (std::uint32_t i = 0; i < 60000; ++i) {
        codes.push_back(i % 10 == 0 ? static_cast<std::int32_t>(random.below(5)) : 2);
        x.push_back(1000 + random.normal() + codes.back());
        y.push_back(3 * x.back() + codes.back() + random.normal());
        places.push_back(i);
    }
    const Table table(
        {Column::ofFactor("site", codes, {"a", "b", "c", "d", "e"}), Column::ofNumbers("x", x)});
    const Design design = Design::learn(table, places, {plainTerm("site"), plainTerm("x")}, {}, {});
    const DesignRows rows(BoundDesign(design, table, {}), places);
    const LeastSquaresFit a = fitLeastSquares(rows, y, {.levels = Levels::apart}, quietly());
    const LeastSquaresFit b = fitLeastSquares(Dense(rows), y, {}, quietly());
    for (Index j = 0; j < b.coefficients.size(); ++j) {
        EXPECT_NEAR(a.coefficients[j], b.coefficients[j], 1e-10 * b.standardErrors[j]);
        EXPECT_GE(digits(a.standardErrors[j], b.standardErrors[j]), 10);
    }
    EXPECT_LT(farthest(a.leverages, b.leverages), 1e-12);
}

TEST(LevelsApart, StopAtOnce) {
    StopsAfterAsked progress(40);
    const Made m = made({.n = 100000, .levels = 3000, .numbers = 4}, 2);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    EXPECT_THROW(fitLeastSquares(rows, m.y, {}, progress), Stopped);
}

TEST(LevelsApart, AreNoneWhereNoFactorIs) {
    RandomStream random(6, "numbers");
    const MatrixXd x = MatrixXd::NullaryExpr(50, 3, [&] { return random.normal(); });
    std::vector<double> y(50);
    for (double& value : y)
        value = random.normal();
    const LeastSquaresFit fit = fitLeastSquares(MatrixRows(x), y, {.levels = Levels::apart}, quietly());
    EXPECT_EQ(fit.factor.levels(), 0);
    EXPECT_THROW((void)TriangularFactor(
                     TriangularFactor::Levels::ofLengths({0}, VectorXd::Ones(1), MatrixXd::Zero(1, 1)),
                     MatrixXd::Ones(1, 1), MatrixXd::Ones(1, 1))
                     .wholeTriangle(),
                 std::logic_error);
}

/// Regression on the level means taken out (Frisch and Waugh 1933, Econometrica 1; Lovell 1963, Journal of
/// the American Statistical Association 58), worked out here by sums alone, of 6,000 levels.
TEST(LevelsApart, AreTheWithinEstimatorOfSixThousandLevels) {
    const Made m = made({.n = 30000, .levels = 6000, .numbers = 1}, 21);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    const LeastSquaresFit fit = fitLeastSquares(rows, m.y, {}, quietly());
    ASSERT_EQ(fit.factor.levels(), 5999);
    const auto codes = m.table.columns()[0].codes();
    const auto x = m.table.columns()[1].numbers();
    std::vector<long double> count(6000, 0), ofX(6000, 0), ofY(6000, 0);
    for (std::size_t i = 0; i < x.size(); ++i) {
        const auto l = static_cast<std::size_t>(codes[i]);
        count[l] += 1;
        ofX[l] += x[i];
        ofY[l] += m.y[i];
    }
    long double xx = 0, xy = 0, yy = 0;
    for (std::size_t i = 0; i < x.size(); ++i) {
        const auto l = static_cast<std::size_t>(codes[i]);
        const long double dx = x[i] - ofX[l] / count[l], dy = m.y[i] - ofY[l] / count[l];
        xx += dx * dx;
        xy += dx * dy;
        yy += dy * dy;
    }
    const long double slope = xy / xx, rss = yy - slope * xy;
    const double sigma = static_cast<double>(std::sqrt(rss / (30000 - 6001)));
    EXPECT_EQ(fit.degreesOfFreedom, 30000 - 6001);
    EXPECT_GE(digits(fit.residualSumOfSquares, static_cast<double>(rss)), 12);
    EXPECT_GE(digits(fit.coefficients[5999], static_cast<double>(slope)), 11);
    EXPECT_GE(digits(fit.standardErrors[5999], sigma / static_cast<double>(std::sqrt(xx))), 11);
    const auto meanOf = [&](std::size_t l) { return ofX[l] / count[l]; };
    for (const std::size_t l : {1U, 17U, 3000U, 5999U}) { // against the first level
        const long double expected = ofY[l] / count[l] - ofY[0] / count[0] - slope * (meanOf(l) - meanOf(0));
        EXPECT_NEAR(fit.coefficients[static_cast<Index>(l) - 1], static_cast<double>(expected), 1e-10);
        const long double d = meanOf(l) - meanOf(0);
        EXPECT_GE(digits(fit.standardErrors[static_cast<Index>(l) - 1],
                         sigma * static_cast<double>(std::sqrt(1 / count[l] + 1 / count[0] + d * d / xx))),
                  11);
    }
    for (const std::size_t i : {0U, 12345U, 29999U}) {
        const auto l = static_cast<std::size_t>(codes[i]);
        const long double d = x[i] - meanOf(l);
        EXPECT_NEAR(fit.leverages[static_cast<Index>(i)], static_cast<double>(1 / count[l] + d * d / xx),
                    1e-12);
    }
    // All levels together against the slope alone, and the slope's inflation by them.
    std::vector<std::size_t> levels(5999);
    std::iota(levels.begin(), levels.end(), std::size_t{0});
    long double sumX = 0, sumY = 0, totalXx = 0, totalXy = 0, totalYy = 0;
    for (std::size_t i = 0; i < x.size(); ++i) {
        sumX += x[i];
        sumY += m.y[i];
    }
    for (std::size_t i = 0; i < x.size(); ++i) {
        const long double dx = x[i] - sumX / 30000, dy = m.y[i] - sumY / 30000;
        totalXx += dx * dx;
        totalXy += dx * dy;
        totalYy += dy * dy;
    }
    const long double alone = totalYy - totalXy * totalXy / totalXx;
    EXPECT_GE(
        digits(fit.jointTest(levels).f, static_cast<double>((alone - rss) / 5999 / (rss / (30000 - 6001)))),
        10);
    EXPECT_GE(digits(fit.without(levels).residualSumOfSquares, static_cast<double>(alone)), 11);
    EXPECT_GE(digits(fit.without(levels).coefficients[5999], static_cast<double>(totalXy / totalXx)), 11);
    EXPECT_GE(digits(fit.inflation(std::vector<std::size_t>{5999}), static_cast<double>(totalXx / xx)), 10);
    EXPECT_GE(digits(fit.inflation(levels), static_cast<double>(totalXx / xx)), 10);
}

/// An evaluation with its checks of a model whose levels are apart, against one triangle of the same rows.
TEST(LevelsApart, AnEvaluationSaysWhatOneTriangleWould) {
    const Made m = made({.n = 4400, .levels = 1010, .others = 3, .numbers = 2}, 31);
    auto [rows, recipe] = studied(m);
    recipe.setAside = SetAside{.share = 0.1, .seed = 3};
    const auto prepared = prepareRows(recipe, rows, {2}, quietly());
    const auto evidence =
        evaluate(recipe, rows, *prepared, {.threads = {2}, .checks = ChecksWanted::all}, quietly());
    const LinearModel& model = *evidence.study->linear();
    ASSERT_GT(model.fit.factor.levels(), 1000);
    const Table& table = rows.learning.table;
    const BoundDesign bound(model.design, table, {});
    std::vector<double> y;
    for (const auto row : evidence.study->rows)
        y.push_back(m.y[row]);
    const DesignRows x(bound, evidence.study->rows);
    const LeastSquaresFit dense = fitLeastSquares(
        Dense(x), y, {.threads = {2}, .precision = LeastSquaresOptions::Precision::plain}, quietly());
    const LinearEvidence& said = *evidence.linear;
    ASSERT_EQ(said.coefficients.size(), dense.kept.size() + 1);
    for (std::size_t k = 0; k < dense.kept.size(); ++k) {
        const auto j = static_cast<Index>(dense.kept[k]);
        EXPECT_NEAR(said.coefficients[k + 1].estimate, dense.coefficients[j], 1e-9 * dense.standardErrors[j]);
        EXPECT_GE(digits(said.coefficients[k + 1].standardError, dense.standardErrors[j]), 9);
    }
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        std::vector<std::size_t> own;
        for (std::size_t j = 0; j < model.design.columns().size(); ++j)
            if (model.design.columns()[j].term == t) own.push_back(j);
        EXPECT_GE(digits(said.terms[t].f, dense.jointTest(own).f), 9);
        EXPECT_GE(
            digits(std::pow(said.terms[t].inflation, static_cast<double>(own.size())), dense.inflation(own)),
            7);
    }
    // Rows held out: predicted, with their errors and how far they lie.
    std::vector<std::uint32_t> held;
    for (std::size_t row = 0; row < m.y.size(); ++row)
        if (evidence.rows.state[row] == RowState::heldOut && !std::isnan(evidence.rows.fitted[row]))
            held.push_back(static_cast<std::uint32_t>(row));
    ASSERT_GT(held.size(), 300U);
    MatrixXd block(static_cast<Index>(held.size()), x.columns()),
        inputs(block.rows(), static_cast<Index>(model.design.inputs().size()));
    bound.fill(held, block);
    bound.inputs().fill(held, inputs);
    const auto at = model.at(inputs);
    const VectorXd predicted = dense.predict(block), variance = dense.meanVariance(block);
    double squares = 0;
    for (Index i = 0; i < block.rows(); ++i) {
        EXPECT_NEAR(at.mean[i], predicted[i], 1e-9);
        EXPECT_NEAR(evidence.rows.fitted[held[static_cast<std::size_t>(i)]], predicted[i], 1e-9);
        EXPECT_NEAR(at.variance[i], variance[i], 1e-9 * variance[i]);
        squares += std::pow(m.y[held[static_cast<std::size_t>(i)]] - predicted[i], 2);
    }
    EXPECT_LT(farthest(at.leverage, model.distances(inputs)), 1e-12);
    // Without x0, whose place is after the levels and the months.
    const auto reduced = dense.without(std::vector<std::size_t>{model.design.columns().size() - 2});
    double without = 0;
    for (Index i = 0; i < block.rows(); ++i) {
        double mean = reduced.constant;
        for (Index j = 0; j < block.cols(); ++j)
            mean += block(i, j) * reduced.coefficients[j];
        without += std::pow(m.y[held[static_cast<std::size_t>(i)]] - mean, 2);
    }
    EXPECT_NEAR(said.terms[2].errorWithout, std::sqrt(without / squares) - 1, 1e-9);
    // Checks: Koenker's n R² of the squared residuals on the model's columns, and the row that moves most.
    const VectorXd squared = dense.residuals.array().square() - dense.residuals.array().square().mean();
    const auto [products, sum] = shiftedCrossProducts(dense, Dense(x), squared, {1}, quietly());
    const double koenker =
        dense.explainedSumOfSquares(products, sum) / squared.squaredNorm() * static_cast<double>(y.size());
    const auto readingOf = [&](const std::string& name) {
        for (const Reading& reading : evidence.readings)
            if (reading.name == name) return reading.value;
        ADD_FAILURE() << name;
        return std::nan("");
    };
    EXPECT_GE(digits(readingOf("unequal spread"), koenker), 9);
    double most = 0;
    std::vector<double> leverages, studentized;
    for (const auto row : evidence.study->rows) {
        leverages.push_back(said.rows.leverage[row]);
        studentized.push_back(said.rows.studentized[row]);
    }
    forEachDfbetas(dense, Dense(x), {}, leverages, studentized, {1}, quietly(),
                   [&](Index, const MatrixXd& rowsOf) {
                       for (const double value : rowsOf.reshaped())
                           if (std::fabs(value) > most) most = std::fabs(value);
                   });
    EXPECT_NEAR(std::fabs(readingOf("largest DFBETAS")), most, 1e-9 * most);
}

/// What would not fit into memory is said before, with what would.
TEST(LevelsApart, WhatHasNoRoomIsSaidBefore) {
    const Made m = made({.n = 60000, .levels = 6000, .numbers = 1}, 4);
    auto [rows, recipe] = studied(m);
    const auto said = [&rows = rows, &recipe = recipe] {
        try {
            evaluate(recipe, rows, {2}, quietly());
        } catch (const Error& error) {
            return std::string(error.message()) + " " + error.remedy();
        }
        return std::string();
    };
    recipe.errors.kind = CovarianceKind::hc3;
    EXPECT_EQ(said(), "") << "levels are apart there too";
    recipe.errors = {};
    recipe.estimator = {"robust", {}};
    EXPECT_NE(said().find("a robust fit has no room for 6,000 columns"), std::string::npos) << said();
    recipe.estimator = {};
    recipe.choose = ChoosePlan{.by = ChooseBy::forward, .criterion = ChooseCriterion::bic};
    EXPECT_NE(said().find("a choice among terms has no room for 6,000 columns"), std::string::npos) << said();
    recipe.choose.reset();
    recipe.estimator = {"penalised", {{"l1_share", 1.0}, {"penalty", 1.0}}};
    EXPECT_NE(said().find("a penalised fit has no room for 6,000 columns"), std::string::npos) << said();
}

} // namespace levels_test
