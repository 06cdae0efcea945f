// Width: factors of many levels whose rows are reduced once, and terms taken out of a fit, each against the
// dense way on random problems.
#include "core/wide_support.h"

#include "base/error.h"
#include "base/random.h"
#include "check/influence.h"
#include "estimate/distributions.h"
#include "estimate/linear/cell_rows.h"
#include "estimate/linear/least_squares.h"
#include "resample/folds.h"
#include "study/choose_terms.h"
#include "study/effects.h"
#include "study/marginal_effects.h"
#include "study/say.h"

#include <Eigen/QR>

#include <algorithm>
#include <atomic>
#include <numeric>
#include <thread>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace wide_test {

TEST(Cells, FitAsRowsDoOnThreeHundredRandomProblems) {
    for (std::uint64_t seed = 1; seed <= 300; ++seed) {
        RandomStream random(seed, "shapes");
        Shape shape;
        shape.levels = 20 + static_cast<int>(random.below(40));
        shape.numbers = static_cast<int>(random.below(4));
        shape.intercept = random.below(4) != 0;
        shape.weighted = random.below(3) == 0;
        shape.single = random.below(3) == 0 ? 3 : 0;
        shape.weightless = shape.weighted && random.below(2) == 0 ? 2 : 0;
        shape.others = random.below(3) == 0 ? 3 : 0;
        shape.said = shape.numbers > 1 && random.below(4) == 0;
        shape.slopes = shape.numbers > 0 && shape.others == 0 && random.below(3) == 0;
        shape.crossed = shape.others > 0 && random.below(3) == 0;
        expectTheSame(shape, seed, LeastSquaresOptions::Levels::asNeeded);
        if (HasFailure()) break;
    }
}

/// A number that nearly repeats another takes digits from both: refined in long doubles against all rows to
/// twice the precision.
TEST(Cells, KeepTheirDigitsWhereColumnsNearlyRepeat) {
    for (const double near : {1e-2, 1e-3, 1e-4}) {
        SCOPED_TRACE(near);
        const Made m = withNearRepeat(made({.n = 9000, .levels = 60, .numbers = 2}, 12), near);
        const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
        const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
        ASSERT_TRUE(CellRows::worthwhile(rows));
        const LeastSquaresFit a = fitLeastSquares(rows, m.y, {}, quietly());
        const LeastSquaresFit b = fitLeastSquares(Dense(rows), m.y, {}, quietly());
        EXPECT_EQ(b.exact, b.conditionNumber > 300);
        for (Index j = 0; j < a.coefficients.size(); ++j) {
            EXPECT_NEAR(a.coefficients[j], b.coefficients[j], 1e-12 * b.standardErrors[j]);
            EXPECT_GE(digits(a.standardErrors[j], b.standardErrors[j]), 10.5);
        }
        EXPECT_GE(digits(a.residualSumOfSquares, b.residualSumOfSquares), 12);
        EXPECT_LT(farthest(a.leverages, b.leverages), 1e-11);
    }
}

TEST(Cells, NamesWhatLevelsSayAndLevelsWithoutRows) {
    const Made m = made({.numbers = 3, .weighted = true, .said = true, .weightless = 2}, 4);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    ASSERT_TRUE(CellRows::worthwhile(rows));
    const LeastSquaresFit fit = fitLeastSquares(rows, m.y, {.weights = m.weights}, quietly());
    std::vector<std::string> names;
    for (const Dependency& d : fit.dependent)
        names.push_back(design.columns()[d.column].name);
    ASSERT_EQ(names.size(), 3U);
    EXPECT_NE(names[0].find("site38"), std::string::npos) << names[0];
    EXPECT_NE(names[1].find("site39"), std::string::npos) << names[1];
    EXPECT_EQ(names[2], "x2");
    EXPECT_GT(fit.dependent[2].combination.size(), 30U) << "the levels that say it are named";
}

TEST(Cells, GiveTheSameBitsOnAnyNumberOfThreads) {
    const Made m = made({.n = 40000, .levels = 80, .others = 4, .numbers = 3, .slopes = true}, 9);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    const LeastSquaresFit one = fitLeastSquares(rows, m.y, {.threads = {1}}, quietly());
    const LeastSquaresFit three = fitLeastSquares(rows, m.y, {.threads = {3}}, quietly());
    EXPECT_EQ(one.coefficients, three.coefficients);
    EXPECT_EQ(one.standardErrors, three.standardErrors);
    EXPECT_EQ(one.residuals, three.residuals);
    EXPECT_EQ(one.leverages, three.leverages);
}

TEST(Cells, WithoutSlopesGoInStretchesOfRowsThatChangeNothing) {
    for (const bool weighted : {false, true}) {
        // Levels of one row, and of no weight; a number that levels say; some stretches with sums of their
        // own.
        const Shape shape{.n = 60000,
                          .levels = 50,
                          .numbers = 3,
                          .weighted = weighted,
                          .said = true,
                          .single = 3,
                          .weightless = weighted ? 2 : 0};
        expectTheSame(shape, 21, LeastSquaresOptions::Levels::asNeeded);
        const Made m = made(shape, 21);
        const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
        const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
        const auto fitted = [&](unsigned threads) {
            return fitLeastSquares(rows, m.y, {.threads = {threads}, .weights = m.weights}, quietly());
        };
        const LeastSquaresFit one = fitted(1), three = fitted(3);
        for (const std::size_t j : one.kept)
            EXPECT_EQ(one.coefficients[static_cast<Index>(j)], three.coefficients[static_cast<Index>(j)]);
        EXPECT_EQ(one.kept, three.kept);
        EXPECT_EQ(one.residuals, three.residuals);
        EXPECT_EQ(one.leverages, three.leverages);
        if (weighted) continue;
        for (Index i = 47; i < 50; ++i) { // the rows that are alone
            EXPECT_NEAR(one.leverages[i], 1, 1e-14);
            EXPECT_NEAR(one.residuals[i], 0, 1e-11);
        }
    }
}

TEST(Cells, FarFromEachOtherKeepTheDigitsOfWhatDiffersWithinThem) {
    // Levels a million apart in y and in a number that differs by some thousandths within them. Without the
    // levels nothing else is in the model, so that slopes are those of differences from level means.
    RandomStream random(8, "far levels");
    const std::size_t n = 50000, levels = 40;
    std::vector<double> x(n), y(n);
    std::vector<std::int32_t> codes(n);
    std::vector<std::string> names;
    for (std::size_t l = 0; l < levels; ++l)
        names.push_back("g" + std::to_string(l));
    std::vector<long double> dx(n), dy(n), meanX(levels, 0), meanY(levels, 0), count(levels, 0);
    for (std::size_t i = 0; i < n; ++i) {
        codes[i] = static_cast<std::int32_t>(random.below(levels));
        x[i] = codes[i] + 0x1p-8 * random.uniform();
        y[i] = 1000.0 * codes[i] + 3 * x[i] + 0x1p-8 * random.normal();
        const auto c = static_cast<std::size_t>(codes[i]);
        meanX[c] += x[i];
        meanY[c] += y[i];
        count[c] += 1;
    }
    long double xx = 0, xy = 0, yy = 0;
    for (std::size_t i = 0; i < n; ++i) {
        const auto c = static_cast<std::size_t>(codes[i]);
        dx[i] = x[i] - meanX[c] / count[c];
        dy[i] = y[i] - meanY[c] / count[c];
        xx += dx[i] * dx[i];
        xy += dx[i] * dy[i];
        yy += dy[i] * dy[i];
    }
    const Table table({Column::ofFactor("g", codes, names), Column::ofNumbers("x", x)});
    std::vector<std::uint32_t> all(n);
    std::iota(all.begin(), all.end(), 0U);
    const Design design = Design::learn(table, all, {plainTerm("g"), plainTerm("x")}, {}, {});
    const DesignRows rows(BoundDesign(design, table, {}), all);
    ASSERT_TRUE(CellRows::worthwhile(rows));
    const LeastSquaresFit fit = fitLeastSquares(rows, y, {}, quietly());
    EXPECT_FALSE(fit.exact);
    const auto last = static_cast<Index>(fit.columns - 1);
    const long double slope = xy / xx, left = yy - slope * xy;
    EXPECT_NEAR(fit.coefficients[last], static_cast<double>(slope), 1e-9 * fit.standardErrors[last]);
    EXPECT_GE(digits(fit.residualSumOfSquares, static_cast<double>(left)), 11);
    EXPECT_GE(digits(fit.standardErrors[last], static_cast<double>(std::sqrt(left / (n - levels - 1) / xx))),
              11);
}

TEST(Cells, StopAtOnce) {
    const Made m = made({.n = 400000, .levels = 300, .numbers = 4}, 2);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    Stoppable progress;
    std::atomic<bool> stopped = false;
    std::chrono::steady_clock::time_point asked;
    std::thread asks([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(60));
        asked = std::chrono::steady_clock::now();
        progress.stop();
    });
    try {
        for (int repeat = 0; repeat < 50; ++repeat)
            fitLeastSquares(rows, m.y, {}, progress);
    } catch (const Stopped&) {
        stopped = true;
    }
    asks.join();
    ASSERT_TRUE(stopped);
    EXPECT_LT(std::chrono::duration<double>(std::chrono::steady_clock::now() - asked).count(), 2)
        << "see the benchmarks for the limit";
}

TEST(Cells, AreNoneWhereTheyWouldNotPay) {
    const auto worthwhile = [](const Shape& shape) {
        const Made m = made(shape, 3);
        const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
        return CellRows::worthwhile(DesignRows(BoundDesign(design, m.table, {}), m.rows)) != nullptr;
    };
    EXPECT_TRUE(worthwhile({.levels = 40}));
    EXPECT_FALSE(worthwhile({.levels = 5})) << "few columns";
    EXPECT_FALSE(worthwhile({.n = 1000, .levels = 40})) << "few rows";
    EXPECT_FALSE(worthwhile({.levels = 900})) << "hardly fewer cells than rows";
}

/// Rows whose columns nearly repeat each other, so that a term's leaving is hard to work out.
TEST(TakenOut, CoefficientsAreThoseOfAFitWithoutTheColumns) {
    for (std::uint64_t seed = 1; seed <= 100; ++seed) {
        SCOPED_TRACE("seed " + std::to_string(seed));
        RandomStream random(seed, "taken out");
        const Index n = 200, p = 24;
        MatrixXd x(n, p);
        std::vector<double> y(static_cast<std::size_t>(n)), weights;
        for (double& value : x.reshaped())
            value = random.normal();
        const double near = std::pow(10.0, -static_cast<double>(seed % 6)); // as near as 1e-5
        x.col(7) = x.col(3) + near * x.col(7);
        x.col(11) = x.col(3) - x.col(5) + near * x.col(11);
        for (Index i = 0; i < n; ++i) {
            y[static_cast<std::size_t>(i)] = 5 + x(i, 3) - x(i, 11) + random.normal();
            if (seed % 2 == 0) weights.push_back(random.below(8) == 0 ? 0 : random.uniform());
        }
        const bool intercept = seed % 3 != 0;
        const LeastSquaresFit whole =
            fitLeastSquares(MatrixRows(x), y, {.intercept = intercept, .weights = weights}, quietly());
        for (const std::vector<std::size_t>& out :
             {std::vector<std::size_t>{7}, {3}, {0}, {23}, {7, 11}, {2, 5, 9, 20}}) {
            MatrixXd rest(n, p - static_cast<Index>(out.size()));
            Index next = 0;
            std::vector<std::size_t> places;
            for (Index j = 0; j < p; ++j)
                if (std::find(out.begin(), out.end(), static_cast<std::size_t>(j)) == out.end()) {
                    rest.col(next++) = x.col(j);
                    places.push_back(static_cast<std::size_t>(j));
                }
            const LeastSquaresFit refit =
                fitLeastSquares(MatrixRows(rest), y, {.intercept = intercept, .weights = weights}, quietly());
            const auto reduced = whole.without(out);
            EXPECT_EQ(reduced.rank, refit.rank());
            EXPECT_GE(digits(reduced.residualSumOfSquares, refit.residualSumOfSquares), 11);
            for (std::size_t k = 0; k < places.size(); ++k)
                EXPECT_NEAR(reduced.coefficients[static_cast<Index>(places[k])],
                            refit.coefficients[static_cast<Index>(k)],
                            1e-9 * refit.standardErrors[static_cast<Index>(k)]);
            for (const std::size_t j : out)
                EXPECT_EQ(reduced.coefficients[static_cast<Index>(j)], 0);
            EXPECT_NEAR(reduced.constant, refit.constant, 1e-10 * std::max(1.0, std::fabs(refit.constant)));
        }
        if (HasFailure()) break;
    }
}

TEST(OrthonormalBasis, OfLevelsIsThatOfAllColumns) {
    const Made m = made({.n = 6000, .levels = 120, .numbers = 3}, 6);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const BoundDesign bound(design, m.table, {});
    const LeastSquaresFit fit = fitLeastSquares(DesignRows(bound, m.rows), m.y, {}, quietly());
    MatrixXd block(500, static_cast<Index>(design.columns().size()));
    bound.fill(std::span(m.rows).subspan(1000, 500), block);
    MatrixXd expected = fit.shifted(block);
    fit.factor.turn(expected);
    const MatrixXd basis = fit.inOrthonormalBasis(block);
    EXPECT_LT((basis - expected).cwiseAbs().maxCoeff(), 1e-14);
    // A few rows go the usual way, to the same values.
    EXPECT_LT((fit.inOrthonormalBasis(block.topRows(3)) - expected.topRows(3)).cwiseAbs().maxCoeff(), 1e-14);
}

/// Candidates in hundreds, four of which matter, two nearly the same, and one twice.
Made candidates(std::size_t n, int count, bool weighted, std::uint64_t seed) {
    RandomStream random(seed, "wide choice");
    Made m;
    std::vector<Column> columns;
    std::vector<std::vector<double>> x(static_cast<std::size_t>(count), std::vector<double>(n));
    for (std::size_t i = 0; i < n; ++i) {
        for (auto& column : x)
            column[i] = 20 + random.normal();
        x[11][i] = x[10][i] + 1e-3 * (x[11][i] - 20);
        x[31][i] = x[30][i];
        m.y.push_back(x[5][i] - 0.8 * x[10][i] + 0.6 * x[30][i] + 0.5 * x[100][i] + random.normal());
        m.rows.push_back(static_cast<std::uint32_t>(i));
        if (weighted) m.weights.push_back(random.below(10) == 0 ? 0 : 0.5 + random.uniform());
    }
    for (int j = 0; j < count; ++j) {
        columns.push_back(Column::ofNumbers("x" + std::to_string(j), x[static_cast<std::size_t>(j)]));
        m.terms.push_back(plainTerm("x" + std::to_string(j)));
    }
    columns.push_back(Column::ofNumbers("y", m.y));
    if (weighted) columns.push_back(Column::ofNumbers("w", m.weights));
    m.table = Table(std::move(columns));
    return m;
}

/// [1, columns of a set] times the roots of weights, for some rows.
MatrixXd chosenColumns(const Made& m, const std::vector<std::size_t>& set,
                       const std::vector<std::size_t>& rows, bool roots) {
    MatrixXd x(static_cast<Index>(rows.size()), static_cast<Index>(set.size()) + 1);
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const double root = roots && !m.weights.empty() ? std::sqrt(m.weights[rows[i]]) : 1;
        x(static_cast<Index>(i), 0) = root;
        for (std::size_t k = 0; k < set.size(); ++k)
            x(static_cast<Index>(i), static_cast<Index>(k) + 1) =
                root * m.table.columns()[set[k]].numbers()[rows[i]];
    }
    return x;
}
VectorXd responses(const Made& m, const std::vector<std::size_t>& rows, bool roots) {
    VectorXd y(static_cast<Index>(rows.size()));
    for (std::size_t i = 0; i < rows.size(); ++i)
        y[static_cast<Index>(i)] =
            m.y[rows[i]] * (roots && !m.weights.empty() ? std::sqrt(m.weights[rows[i]]) : 1);
    return y;
}

/// A criterion of a set by fits from scratch.
double criterionByRefits(const Made& m, const Recipe& recipe, const ChoosePlan& plan,
                         const std::vector<std::size_t>& set) {
    std::vector<std::size_t> all(m.rows.begin(), m.rows.end());
    const auto n = static_cast<double>(all.size());
    if (plan.criterion == ChooseCriterion::bic) {
        const MatrixXd x = chosenColumns(m, set, all, true);
        const VectorXd y = responses(m, all, true);
        const double rss = (y - x * x.householderQr().solve(y)).squaredNorm();
        const double k = static_cast<double>(set.size()) + 2;
        return n * std::log(rss / n) + k * std::log(n) + n * (std::log(2 * M_PI) + 1);
    }
    const Dealing dealing =
        dealRows(innerFolds(recipe, m.table, m.rows, plan.folds, plan.seed), m.table, m.rows, {});
    const auto cellOf = dealing.cellOf(0);
    double sum = 0;
    for (std::size_t f = 0; f < dealing.foldsPerRepeat(); ++f) {
        std::vector<std::size_t> learns, judges;
        for (std::size_t i = 0; i < all.size(); ++i)
            (dealing.judges(f, cellOf[i]) ? judges : learns).push_back(i);
        const MatrixXd x = chosenColumns(m, set, learns, true);
        const VectorXd b = x.householderQr().solve(responses(m, learns, true));
        sum += (responses(m, judges, true) - chosenColumns(m, set, judges, true) * b).squaredNorm();
    }
    return std::sqrt(sum / n);
}

TEST(WideChoice, EveryStepForwardIsTheBestOfRefits) {
    for (const ChooseCriterion by : {ChooseCriterion::bic, ChooseCriterion::crossValidated})
        for (const bool weighted : {false, true}) {
            SCOPED_TRACE(std::string(criterionName(by)) + (weighted ? ", weighted" : ""));
            const Made m = candidates(240, 320, weighted, 3); // more candidates than rows
            Recipe recipe;
            recipe.response = "y";
            recipe.terms = m.terms;
            if (weighted) recipe.roles["w"] = Role::weight;
            const ChoosePlan plan{.by = ChooseBy::forward, .criterion = by, .mostSteps = 6};
            const Choice choice = chooseAmong(recipe, m.table, {}, m.rows, plan, {2}, quietly(), {}, true);
            ASSERT_GE(choice.steps.size(), 4U);
            std::vector<std::size_t> set;
            for (const ChooseStep& step : choice.steps) {
                double least = INFINITY;
                std::size_t best = 0;
                for (std::size_t t = 0; t < m.terms.size(); ++t) {
                    if (std::find(set.begin(), set.end(), t) != set.end()) continue;
                    if (t == 31) continue; // the copy, of which the first is taken
                    auto with = set;
                    with.push_back(t);
                    std::sort(with.begin(), with.end());
                    if (const double value = criterionByRefits(m, recipe, plan, with); value < least) {
                        least = value;
                        best = t;
                    }
                }
                EXPECT_EQ(termName(step.term), termName(m.terms[best]));
                EXPECT_GE(digits(step.criterion, least), 9);
                set.push_back(best);
                std::sort(set.begin(), set.end());
            }
            EXPECT_TRUE(std::find(set.begin(), set.end(), 5U) != set.end());
            // What is said of each candidate: its F test in the model, or when added to it.
            std::vector<std::size_t> all(m.rows.begin(), m.rows.end());
            const auto rss = [&](const std::vector<std::size_t>& columns) {
                const MatrixXd x = chosenColumns(m, columns, all, true);
                const VectorXd y = responses(m, all, true);
                return (y - x * x.householderQr().solve(y)).squaredNorm();
            };
            for (const std::size_t t : {std::size_t{0}, std::size_t{5}, std::size_t{200}}) {
                const bool in = std::find(set.begin(), set.end(), t) != set.end();
                EXPECT_EQ(choice.candidates[t].chosen, in);
                auto other = set;
                if (in)
                    std::erase(other, t);
                else
                    other.push_back(t);
                const auto &large = in ? set : other, &small = in ? other : set;
                const double df = 240 - static_cast<double>(large.size()) - 1;
                EXPECT_GE(digits(choice.candidates[t].p,
                                 fisherUpper((rss(small) - rss(large)) / (rss(large) / df), 1, df)),
                          8);
            }
        }
}

TEST(WideChoice, IsTheSameByRowsAndByFactors) {
    // 299 candidates go by factors, 300 by rows; the last one of these is noise.
    const Made m = candidates(700, 300, true, 8);
    for (const ChooseBy by : {ChooseBy::forward, ChooseBy::bothWays}) {
        Recipe recipe;
        recipe.response = "y";
        recipe.roles["w"] = Role::weight;
        recipe.terms = m.terms;
        const ChoosePlan plan{.by = by, .criterion = ChooseCriterion::aicc, .mostSteps = 5};
        const Choice wide = chooseAmong(recipe, m.table, {}, m.rows, plan, {2}, quietly());
        recipe.terms.pop_back();
        const Choice narrow = chooseAmong(recipe, m.table, {}, m.rows, plan, {2}, quietly());
        ASSERT_EQ(wide.steps.size(), narrow.steps.size());
        for (std::size_t k = 0; k < wide.steps.size(); ++k) {
            EXPECT_EQ(termName(wide.steps[k].term), termName(narrow.steps[k].term));
            EXPECT_GE(digits(wide.steps[k].criterion, narrow.steps[k].criterion), 9);
        }
    }
}

/// Backwards among 120: every step against fits made anew, by each criterion.
TEST(WideChoice, BackwardsLeavesOutWhatCostsLeast) {
    const Made m = candidates(500, 120, true, 4);
    Recipe recipe;
    recipe.response = "y";
    recipe.roles["w"] = Role::weight;
    recipe.terms = m.terms;
    const std::vector<std::size_t> all(m.rows.begin(), m.rows.end());
    const VectorXd y = responses(m, all, true);
    const auto rssOf = [&](const std::vector<std::size_t>& set) {
        const MatrixXd x = chosenColumns(m, set, all, true);
        return (y - x * x.householderQr().solve(y)).squaredNorm();
    };
    const ChoosePlan plan{.by = ChooseBy::backward, .criterion = ChooseCriterion::bic, .mostSteps = 12};
    const Choice choice = chooseAmong(recipe, m.table, {}, m.rows, plan, {2}, quietly());
    ASSERT_EQ(choice.steps.size(), 12U);
    std::vector<std::size_t> set(120);
    std::iota(set.begin(), set.end(), std::size_t{0});
    std::erase(set, 31U); // the copy is left out before
    for (const ChooseStep& step : choice.steps) {
        double least = INFINITY;
        std::size_t which = 0;
        for (const std::size_t t : set) {
            auto other = set;
            std::erase(other, t);
            if (const double rss = rssOf(other); rss < least) {
                least = rss;
                which = t;
            }
        }
        EXPECT_EQ(termName(step.term), termName(m.terms[which]));
        std::erase(set, which);
    }
    // By p and by folds it stops, and leaves what matters.
    for (const auto criterion : {ChooseCriterion::pValue, ChooseCriterion::crossValidated}) {
        const ChoosePlan whole{.by = ChooseBy::backward, .criterion = criterion};
        const Choice one = chooseAmong(recipe, m.table, {}, m.rows, whole, {1}, quietly()),
                     three = chooseAmong(recipe, m.table, {}, m.rows, whole, {3}, quietly());
        EXPECT_EQ(choiceJson(one), choiceJson(three));
        EXPECT_LT(one.terms.size(), 60U);
        EXPECT_GT(one.terms.size(), 2U);
    }
}

TEST(WideChoice, IsTheSameOnAnyNumberOfThreadsAndStops) {
    const Made m = candidates(400, 330, false, 5);
    Recipe recipe;
    recipe.response = "y";
    recipe.terms = m.terms;
    const ChoosePlan plan{.by = ChooseBy::forward, .mostSteps = 4};
    const Choice one = chooseAmong(recipe, m.table, {}, m.rows, plan, {1}, quietly(), {}, true);
    const Choice three = chooseAmong(recipe, m.table, {}, m.rows, plan, {3}, quietly(), {}, true);
    EXPECT_EQ(choiceJson(one), choiceJson(three));
    Stoppable stopped;
    EXPECT_THROW(chooseAmong(recipe, m.table, {}, m.rows, plan, {2}, stopped,
                             [&](const ChooseStep&) { stopped.stop(); }),
                 Stopped);
}

TEST(ManyLevels, AreOneTermOfTheEquation) {
    Made m = made({.n = 4500, .levels = 40, .numbers = 1}, 21);
    auto [rows, recipe] = studied(m);
    const Evidence evidence = evaluate(recipe, rows, {2}, quietly());
    const CoefficientEvidence *lowest = nullptr, *highest = nullptr;
    for (const auto& c : evidence.linear->coefficients) {
        if (c.term != 0) continue;
        if (!lowest || c.estimate < lowest->estimate) lowest = &c;
        if (!highest || c.estimate > highest->estimate) highest = &c;
    }
    ASSERT_TRUE(lowest && highest);
    const auto level = [](const CoefficientEvidence& c) {
        return c.name.substr(std::string("site = ").size());
    };
    const std::string text = equationText(evidence);
    EXPECT_NE(text.find("effect of site (39 levels against site0: from "), std::string::npos) << text;
    EXPECT_NE(text.find(", " + level(*lowest) + ", to "), std::string::npos) << text;
    EXPECT_NE(text.find(", " + level(*highest) + ", half of them between "), std::string::npos) << text;
    EXPECT_NE(text.find("·x0"), std::string::npos) << text;
    EXPECT_EQ(text.find("[site"), std::string::npos) << "no level stands alone: " << text;
}

/// Changes of coefficients by leaving rows out, of levels by what is not 0 in them, against leaving them out.
TEST(ManyLevels, DfbetasAreThoseOfRefits) {
    const Made m = made({.n = 5000, .levels = 70, .numbers = 2}, 17);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const BoundDesign bound(design, m.table, {});
    const LeastSquaresFit fit = fitLeastSquares(DesignRows(bound, m.rows), m.y, {}, quietly());
    const auto n = static_cast<Index>(m.y.size());
    std::vector<double> leverages(m.y.size()), studentized(m.y.size());
    for (Index i = 0; i < n; ++i) {
        const double h = fit.leverages[i], e = fit.residuals[i];
        leverages[static_cast<std::size_t>(i)] = h;
        const double spread = (fit.residualSumOfSquares - e * e / (1 - h)) / (fit.degreesOfFreedom - 1);
        studentized[static_cast<std::size_t>(i)] = e / std::sqrt(spread * (1 - h));
    }
    MatrixXd all(n, fit.rank());
    forEachDfbetas(fit, DesignRows(bound, m.rows), {}, leverages, studentized, {2}, quietly(),
                   [&](Index first, const MatrixXd& block) { all.middleRows(first, block.rows()) = block; });
    for (const std::size_t out : {std::size_t{0}, std::size_t{69}, std::size_t{2345}}) {
        auto rows = m.rows;
        auto y = m.y;
        rows.erase(rows.begin() + static_cast<std::ptrdiff_t>(out));
        y.erase(y.begin() + static_cast<std::ptrdiff_t>(out));
        const LeastSquaresFit less = fitLeastSquares(DesignRows(bound, rows), y, {}, quietly());
        for (std::size_t k = 0; k < fit.kept.size(); ++k) {
            const auto j = static_cast<Index>(fit.kept[k]);
            const double expected =
                (fit.coefficients[j] - less.coefficients[j]) /
                (fit.standardErrors[j] / fit.residualStandardDeviation * less.residualStandardDeviation);
            EXPECT_NEAR(all(static_cast<Index>(out), static_cast<Index>(k) + 1), expected, 1e-8);
        }
    }
}

/// A term that is not defined at a row is an error where candidates are many too, not a column passed by.
TEST(WideChoice, SaysWhereACandidateIsNotDefined) {
    const Made m = candidates(320, 305, false, 6);
    Recipe recipe;
    recipe.response = "y";
    recipe.terms = m.terms;
    std::vector<Column> columns = m.table.columns();
    std::vector<double> x(m.y.size(), 1);
    for (std::size_t i = 0; i < x.size(); ++i)
        x[i] = static_cast<double>(i) - 7; // 0 or less in the first eight rows
    columns.push_back(Column::ofNumbers("zeros", x));
    recipe.terms.push_back(Term{{TermPart{.column = "zeros", .logarithm = true}}});
    try {
        chooseAmong(recipe, Table(columns), {}, m.rows, {.by = ChooseBy::forward}, {2}, quietly());
        FAIL() << "nothing was said";
    } catch (const Error& error) {
        EXPECT_EQ(error.code(), ErrorCode::badTerm);
        EXPECT_NE(std::string(error.what()).find("ln(zeros) is not defined at"), std::string::npos)
            << error.what();
    }
}

/// Among thousands of pairs the one that was planted is found, with the F of refits.
TEST(ManyPairs, ThePlantedOneIsFoundAsByRefits) {
    for (const bool weighted : {false, true}) {
        Made m = candidates(900, 110, weighted, 4);
        const auto number = [&](int j) { return m.table.columns()[static_cast<std::size_t>(j)].numbers(); };
        for (std::size_t i = 0; i < m.y.size(); ++i)
            m.y[i] += 0.4 * (number(40)[i] - 20) * (number(77)[i] - 20);
        std::vector<Column> columns(m.table.columns().begin(), m.table.columns().begin() + 110);
        columns.push_back(Column::ofNumbers("y", m.y));
        if (weighted) columns.push_back(Column::ofNumbers("w", m.weights));
        StudyRows rows;
        rows.learning.table = Table(columns);
        Recipe recipe;
        recipe.response = "y";
        recipe.terms.assign(m.terms.begin(), m.terms.begin() + 110);
        if (weighted) recipe.roles["w"] = Role::weight;
        const Evidence before = evaluate(recipe, rows, {2}, quietly());
        const auto at = std::find_if(before.readings.begin(), before.readings.end(),
                                     [](const Reading& r) { return r.name == "missing interaction"; });
        ASSERT_NE(at, before.readings.end());
        EXPECT_TRUE(at->sentence.starts_with("x40 × x77: ")) << at->sentence;
        EXPECT_NE(at->sentence.find("(the 64 whose product says most"), std::string::npos) << at->sentence;
        recipe.terms.push_back(Term{{TermPart{"x40"}, TermPart{"x77"}}});
        const Evidence after = evaluate(recipe, rows, {2}, quietly());
        EXPECT_GE(digits(at->value, after.linear->terms.back().f), 8);
    }
}

/// Scores of two factors with thousands of levels: no table of all their pairs is laid out.
TEST(Cells, AreNotLookedForAmongAllPairsOfLevels) {
    const std::size_t n = 60000;
    RandomStream random(2, "scores");
    std::vector<Column> columns;
    std::vector<Term> terms;
    for (const std::string name : {"a", "b"}) {
        std::vector<std::string> names;
        for (int l = 0; l < 7000; ++l)
            names.push_back(std::to_string(l));
        std::vector<std::int32_t> codes(n);
        for (std::size_t i = 0; i < n; ++i)
            codes[i] = static_cast<std::int32_t>(i < 7000 ? i : random.below(7000));
        columns.push_back(Column::ofFactor(name, codes, names));
        terms.push_back(Term{{TermPart{.column = name, .form = Form::scores}}});
    }
    for (int j = 0; j < 16; ++j) {
        std::vector<double> x(n);
        for (double& value : x)
            value = random.normal();
        columns.push_back(Column::ofNumbers("x" + std::to_string(j), x));
        terms.push_back(plainTerm("x" + std::to_string(j)));
    }
    const Table table(columns);
    std::vector<std::uint32_t> rows(n);
    for (std::size_t i = 0; i < n; ++i)
        rows[i] = static_cast<std::uint32_t>(i);
    const Design design = Design::learn(table, rows, terms, {}, {});
    EXPECT_EQ(DesignRows(BoundDesign(design, table, {}), rows).cells(static_cast<Index>(n)), nullptr);
}

TEST(ManyLevels, StandFromTheLowestMean) {
    Effect effect;
    effect.lines.push_back({});
    effect.lines[0].mean = {3, 1, 2, 1};
    EXPECT_EQ(placesByMean(effect), (std::vector<double>{3, 0, 2, 1})) << "equal means in their own order";
    MarginalEffect low, high;
    low.effect = -1;
    high.effect = 2;
    const auto order = fromLowToHigh({high, low});
    EXPECT_EQ(order[0].effect, -1);
    EXPECT_EQ(order[1].effect, 2);
}

} // namespace wide_test
