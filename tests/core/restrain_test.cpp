// What a path says beside its errors, halves of the rows, learning curves, the trail, and several fits beside
// each other.
#include "base/random.h"
#include "estimate/linear/least_squares.h"
#include "estimate/penalised/penalised.h"
#include "study/compare_many.h"
#include "study/compare_pairs.h"
#include "study/fold_evidence.h"
#include "study/halves.h"
#include "study/learning_curve.h"
#include "study/path_view.h"
#include "study/project.h"
#include "study/rows_used.h"
#include "study/trail.h"
#include "support/support.h"

#include <Eigen/Dense>

#include <functional>
#include <numeric>
#include <set>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace restrain_test {

/// y depends on the first `signals` of `columns` numbers by `size` each; f is a factor of four levels that
/// says `factor` a level.
StudyRows rowsWith(std::size_t n, unsigned seed, std::size_t columns, std::size_t signals, double size,
                   double factor = 0) {
    RandomStream random(seed, "rows to be restrained");
    std::vector<std::vector<double>> x(columns, std::vector<double>(n));
    std::vector<double> y(n);
    std::vector<std::int32_t> codes(n);
    for (std::size_t i = 0; i < n; ++i) {
        for (auto& column : x)
            column[i] = random.normal();
        codes[i] = static_cast<std::int32_t>(random.below(4));
        y[i] = 200 + factor * codes[i] + random.normal();
        for (std::size_t j = 0; j < signals; ++j)
            y[i] += size * x[j][i];
    }
    std::vector<Column> all{Column::ofNumbers("y", y), Column::ofFactor("f", codes, {"a", "b", "c", "d"})};
    for (std::size_t j = 0; j < columns; ++j)
        all.push_back(Column::ofNumbers("x" + std::to_string(j), x[j]));
    StudyRows rows;
    rows.learning.table = Table(std::move(all));
    return rows;
}

Recipe recipeWith(std::size_t columns, bool factor = false) {
    std::vector<std::string> names;
    for (std::size_t j = 0; j < columns; ++j)
        names.push_back("x" + std::to_string(j));
    if (factor) names.push_back("f");
    Recipe recipe = recipeOf("y", names);
    recipe.estimator = Settings{"penalised"};
    recipe.judge = FoldPlan{};
    return recipe;
}

struct Fitted {
    StudyRows rows;
    Recipe recipe;
    std::shared_ptr<const PreparedRows> prepared;
    Evidence evidence;
    Fitted(StudyRows of, Recipe by) : rows(std::move(of)), recipe(std::move(by)) {
        prepared = prepareRows(recipe, rows, {}, quietly());
        evidence = evaluate(recipe, rows, *prepared, {.checks = ChecksWanted::quick}, quietly());
    }
    std::shared_ptr<const PenaltySearch> path(bool detailed = true) const {
        return penaltyPath(recipe, *prepared, *evidence.study, {}, quietly(), detailed);
    }
};

/// A lasso of x0 to x3 learned from the rows of a fold, and its error on those it is judged by.
class FoldOfLasso {
public:
    FoldOfLasso(const Table& table, const Fold& fold, bool logarithm)
        : m_logarithm(logarithm), m_fold(fold), m_x(matrix(table, fold.learning)),
          m_judged(matrix(table, fold.judged)) {}

    double mse(double penalty, std::span<const double> y) const {
        std::vector<double> own;
        for (const auto row : m_fold.learning)
            own.push_back(m_logarithm ? std::log(y[row]) : y[row]);
        const MatrixRows source(m_x);
        const PenaltyOptions lasso;
        const PenalisedPoint point =
            penalisedPoint(problemOf(source, own, {}, lasso, {}, quietly()), lasso, penalty, quietly());
        double smearing = 0, squares = 0;
        for (Index i = 0; i < m_x.rows(); ++i)
            smearing += std::exp(own[static_cast<std::size_t>(i)] - point.constant -
                                 m_x.row(i).dot(point.coefficients)) /
                        static_cast<double>(m_x.rows());
        for (Index i = 0; i < m_judged.rows(); ++i) {
            const double said = point.constant + m_judged.row(i).dot(point.coefficients);
            const double e = y[m_fold.judged[static_cast<std::size_t>(i)]] -
                             (m_logarithm ? std::exp(said) * smearing : said);
            squares += e * e;
        }
        return squares / static_cast<double>(m_judged.rows());
    }

private:
    static MatrixXd matrix(const Table& table, const std::vector<std::uint32_t>& rows) {
        MatrixXd x(static_cast<Index>(rows.size()), 4);
        for (Index i = 0; i < x.rows(); ++i)
            for (Index j = 0; j < 4; ++j)
                x(i, j) = table.find("x" + std::to_string(j))->numbers()[rows[static_cast<std::size_t>(i)]];
        return x;
    }

    bool m_logarithm;
    Fold m_fold;
    MatrixXd m_x, m_judged;
};

class StopsAfter : public Progress {
public:
    explicit StopsAfter(int asks) : m_left(asks) {}
    bool stopRequested() const override { return --m_left < 0; }

private:
    mutable std::atomic<int> m_left;
};

TEST(PathDetail, LearningErrorsAreThoseOfTheFits) {
    for (const bool logarithm : {false, true}) {
        Recipe recipe = recipeWith(6);
        recipe.logResponse = logarithm;
        const Fitted fitted(rowsWith(120, 3, 6, 3, 2), recipe);
        const auto search = fitted.path();
        ASSERT_TRUE(search->detailed);
        for (const std::size_t k : {std::size_t{0}, search->points.size() / 3, search->points.size() - 1}) {
            Recipe fixed = recipe;
            fixed.estimator.fields["penalty"] = search->points[k].penalty;
            const Evidence one = evaluate(fixed, fitted.rows, {}, quietly());
            EXPECT_GT(digits(std::sqrt(search->points[k].learningMse), one.learning.rmse), 10)
                << logarithm << " at " << k;
        }
    }
}

TEST(PathDetail, SharesAndRelaxedErrorsAreThoseOfAnIndependentLoop) {
    for (const bool logarithm : {false, true}) { // by sums, and by rows
        Recipe recipe = recipeWith(8);
        recipe.logResponse = logarithm;
        recipe.judge = FoldPlan{.folds = 5, .seed = 4};
        recipe.estimator.fields["penalties"] =
            logarithm ? std::vector<double>{0.02, 0.004, 0.001} : std::vector<double>{1.5, 0.5, 0.1};
        const Fitted fitted(rowsWith(90, 8, 8, 3, 1.5), recipe);
        const auto search = fitted.path();
        const Table& table = fitted.rows.learning.table;
        const auto y = table.find("y")->numbers();
        std::vector<std::uint32_t> all(table.rows());
        std::iota(all.begin(), all.end(), 0U);
        const Dealing dealing = dealRows(*recipe.judge, table, all, "rows.csv");
        const auto matrix = [&](const std::vector<std::uint32_t>& rows) {
            MatrixXd x(static_cast<Index>(rows.size()), 8);
            for (Index i = 0; i < x.rows(); ++i)
                for (Index j = 0; j < 8; ++j)
                    x(i, j) =
                        table.find("x" + std::to_string(j))->numbers()[rows[static_cast<std::size_t>(i)]];
            return x;
        };
        for (std::size_t k = 0; k < search->points.size(); ++k) {
            std::vector<double> kept(8, 0);
            double relaxed = 0;
            for (std::size_t f = 0; f < dealing.size(); ++f) {
                const Fold fold = dealing.fold(f);
                const MatrixXd x = matrix(fold.learning), judged = matrix(fold.judged);
                std::vector<double> own;
                for (const auto row : fold.learning)
                    own.push_back(logarithm ? std::log(y[row]) : y[row]);
                const MatrixRows source(x);
                const PenaltyOptions lasso;
                const PenalisedPoint point = penalisedPoint(problemOf(source, own, {}, lasso, {}, quietly()),
                                                            lasso, search->points[k].penalty, quietly());
                std::vector<Index> in;
                for (Index j = 0; j < 8; ++j)
                    if (point.coefficients[j] != 0) {
                        in.push_back(j);
                        ++kept[static_cast<std::size_t>(j)];
                    }
                double constant =
                    std::accumulate(own.begin(), own.end(), 0.0) / static_cast<double>(own.size());
                VectorXd b = VectorXd::Zero(8);
                if (!in.empty()) {
                    const MatrixXd some = x(Eigen::all, in);
                    const MatrixRows chosen(some);
                    const LeastSquaresFit fit = fitLeastSquares(chosen, own, {}, quietly());
                    for (std::size_t c = 0; c < in.size(); ++c)
                        b[in[c]] = fit.coefficients[static_cast<Index>(c)];
                    constant = fit.constant;
                }
                double smearing = 0;
                for (Index i = 0; i < x.rows(); ++i)
                    smearing += std::exp(own[static_cast<std::size_t>(i)] - constant - x.row(i).dot(b)) /
                                static_cast<double>(x.rows());
                double squares = 0;
                for (Index i = 0; i < judged.rows(); ++i) {
                    const double said = constant + judged.row(i).dot(b);
                    const double e = y[fold.judged[static_cast<std::size_t>(i)]] -
                                     (logarithm ? std::exp(said) * smearing : said);
                    squares += e * e;
                }
                relaxed += squares / static_cast<double>(judged.rows()) / static_cast<double>(dealing.size());
            }
            EXPECT_GT(digits(search->points[k].relaxedMse, relaxed), 9) << logarithm << " at " << k;
            EXPECT_GT(search->points[k].relaxedError, 0);
            for (std::size_t j = 0; j < 8; ++j)
                EXPECT_FLOAT_EQ(search->points[k].keptShare[j],
                                static_cast<float>(kept[j] / static_cast<double>(dealing.size())))
                    << "x" << j;
        }
    }
}

TEST(PathDetail, TheViewFindsThePlacesAndSaysThem) {
    const Fitted fitted(rowsWith(150, 5, 12, 3, 1), recipeWith(12));
    const auto search = fitted.path();
    const PathView view = pathView(*search, 1);
    ASSERT_EQ(view.places.size(), search->points.size());
    EXPECT_TRUE(std::is_sorted(view.places.begin(), view.places.end(),
                               [](const PathPlace& a, const PathPlace& b) { return a.penalty > b.penalty; }));
    EXPECT_EQ(search->points[search->smallest].penalty, view.places[view.smallest].penalty);
    EXPECT_EQ(view.nearest(view.places[view.smallest].penalty), view.smallest);
    EXPECT_EQ(view.places.front().kept, 0U);
    // The simpler one, as the other rule finds it.
    Recipe simple = fitted.recipe;
    simple.estimator.fields["penalty"] = std::string("one standard error");
    const Evidence other = evaluate(simple, fitted.rows, {}, quietly());
    EXPECT_EQ(other.study->settings.number("penalty"), view.places[view.oneError].penalty);
    ASSERT_NE(view.oneError, view.smallest);
    const std::string cost = simplerSentence(view, "EUR a month");
    EXPECT_NE(cost.find("The simpler one keeps"), std::string::npos);
    EXPECT_NE(cost.find(" EUR ("), std::string::npos) << cost;
    EXPECT_NE(cost.find("takes the gap from"), std::string::npos) << cost;
    const std::string said = placeSentence(view, view.smallest, "EUR a month");
    EXPECT_NE(said.find("of 12 columns: typically off by"), std::string::npos) << said;
    EXPECT_NE(said.find("10 folds, seed 1"), std::string::npos) << said;
    // The three that matter come in first, per standard deviation near what was planted.
    for (std::size_t i = 0; i < 3; ++i) {
        EXPECT_LT(view.lines[i].term, 3U);
        EXPECT_NEAR(view.lines[i].perDeviation.back(), 1, 0.4);
    }
    EXPECT_TRUE(placeSentence(view, view.places.size(), "").empty());
}

TEST(PathDetail, APathIsWrittenWithItsShares) {
    const Fitted fitted(rowsWith(60, 2, 3, 1, 2), recipeWith(3));
    const std::string text = pathFoldsCsv(*fitted.path());
    EXPECT_EQ(text.substr(0, text.find('\n')),
              "penalty,l1_share,learning_mse,relaxed_mean_of_fold_mse,relaxed_standard_error,x0,x1,x2");
    EXPECT_EQ(static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n')),
              fitted.path()->points.size() + 1);
}

TEST(GroupsInRecipes, AFactorComesInWhole) {
    Recipe recipe = recipeWith(4, true);
    recipe.estimator.fields["grouped"] = true;
    const Fitted fitted(rowsWith(200, 6, 4, 1, 1, 0.7), recipe);
    const auto search = fitted.path();
    bool ever = false, without = false;
    for (const PenaltyPoint& point : search->points) {
        std::set<bool> in;
        for (std::size_t j = 0; j < search->columns.size(); ++j)
            if (search->columns[j].starts_with("f = "))
                in.insert(point.coefficients[static_cast<Index>(j)] != 0);
        EXPECT_EQ(in.size(), 1U) << "all levels or none, at " << point.penalty;
        ever = ever || *in.begin();
        without = without || !*in.begin();
        EXPECT_LT(point.dualityGap, 1e-9);
    }
    EXPECT_TRUE(ever && without);
    EXPECT_NE(estimatorText(recipe.estimator).find("of whole terms"), std::string::npos);
    // Kept with its numbers, and read back.
    const auto again = readStudy(studyText(*fitted.evidence.study));
    EXPECT_EQ(studyText(*again), studyText(*fitted.evidence.study));
    recipe.estimator.fields["adaptive"] = true;
    EXPECT_NE(errorOf([&] { evaluate(recipe, fitted.rows, {}, quietly()); }).find("held back adaptively"),
              std::string::npos);
    recipe.estimator.fields.erase("adaptive");
    recipe.estimator.fields["rising"] = std::vector<std::string>{"f"};
    EXPECT_NE(
        errorOf([&] { evaluate(recipe, fitted.rows, {}, quietly()); }).find("only a term of one column"),
        std::string::npos);
}

TEST(StabilitySelection, PValuesOverSplitsAreTheSmallestQuantileOverItsShare) {
    // Meinshausen, Meier and Bühlmann 2009, equations 2.2 and 2.3, by hand.
    const double factor = 1 - std::log(0.05);
    EXPECT_NEAR(pOverSplits(std::vector<double>(50, 0.001)), factor * 0.001, 1e-15);
    // Three of ten splits say 1e-6: at γ = 0.1, 0.2, 0.3 the smallest is 1e-6 / 0.3.
    std::vector<double> some(10, 1);
    some[2] = some[5] = some[7] = 1e-6;
    EXPECT_NEAR(pOverSplits(some), factor * 1e-6 / 0.3, 1e-18);
    // One of fifty is below the smallest share that counts, three are not.
    std::vector<double> few(50, 1);
    few[0] = 1e-9;
    EXPECT_EQ(pOverSplits(few), 1);
    few[1] = few[2] = 1e-9;
    EXPECT_NEAR(pOverSplits(few), factor * 1e-9 / 0.06, 1e-20);
    EXPECT_EQ(pOverSplits({}), 1);
}

TEST(StabilitySelection, StabilitySelectionKeepsItsBoundAndFindsWhatIsThere) {
    double wrong = 0, bound = 0, found = 0;
    int sets = 0, anyFalse = 0, claimed = 0;
    for (unsigned seed = 1; seed <= 40; ++seed, ++sets) {
        Recipe recipe = recipeWith(30);
        const StudyRows rows = rowsWith(100, seed, 30, 3, 0.6);
        const auto prepared = prepareRows(recipe, rows, {}, quietly());
        // A penalty that halves keep about five terms at.
        recipe.estimator.fields["penalty"] = 0.3;
        const auto study = learn(recipe, prepared->table, prepared->steps, {},
                                 rowsUsed(recipe, *prepared, {}).learning, {}, quietly());
        const StabilitySelection halves =
            halvesOf(recipe, *prepared, *study, {.splits = 25, .seed = seed}, {}, quietly());
        ASSERT_EQ(halves.each.size(), 30U);
        bound += halves.expectedFalse;
        bool falseClaim = false;
        for (std::size_t j = 0; j < 30; ++j) {
            if (j < 3)
                found += halves.each[j].stable;
            else
                wrong += halves.each[j].stable;
            if (j >= 3 && halves.each[j].p < 0.05) falseClaim = true;
            if (j < 3 && halves.each[j].p < 0.05) ++claimed;
        }
        anyFalse += falseClaim;
    }
    std::printf("[ halves ] stable without effect %.3f a set, at most %.3f expected; with effect %.2f of 3; "
                "false claims after selection in %d of %d sets, true ones %.2f of 3\n",
                wrong / sets, bound / sets, found / sets, anyFalse, sets,
                claimed / static_cast<double>(sets));
    EXPECT_LE(wrong, bound);
    EXPECT_GT(found / sets, 2.5);
    EXPECT_LE(anyFalse, 5) << "at most one in twenty is promised, 5 of 40 would be a chance of 1 in 50";
    EXPECT_GT(claimed / static_cast<double>(sets), 1.5);
}

TEST(StabilitySelection, AreTheSameForAnyThreadsAndKeepWhatAStopLeaves) {
    Recipe recipe = recipeWith(10);
    recipe.estimator.fields["unpenalised"] = std::vector<std::string>{"x9"};
    const Fitted fitted(rowsWith(80, 4, 10, 2, 1), recipe);
    const auto of = [&](unsigned threads, Progress& progress) {
        return halvesOf(fitted.recipe, *fitted.prepared, *fitted.evidence.study, {.splits = 12},
                        Threads{threads}, progress);
    };
    const StabilitySelection one = of(1, quietly()), three = of(3, quietly());
    EXPECT_EQ(halvesCsv(one), halvesCsv(three));
    EXPECT_EQ(one.done, 12);
    EXPECT_TRUE(one.each[9].free);
    EXPECT_FALSE(one.each[9].stable);
    EXPECT_EQ(one.each[9].share, 1);
    EXPECT_EQ(one.terms, 9U);
    StabilitySelection some;
    for (int asks = 40; asks < 100000 && some.done == 0; asks = asks * 3 / 2) {
        StopsAfter soon(asks);
        try {
            some = of(1, soon);
        } catch (const Stopped&) { // before the first split was done
        }
    }
    EXPECT_GT(some.done, 0);
    EXPECT_LT(some.done, 12);
    EXPECT_NE(some.says.find("stopped after"), std::string::npos);
    StopsAfter atOnce(0);
    EXPECT_THROW(of(1, atOnce), Stopped);
    EXPECT_NE(errorOf([&] {
                  const Fitted few(rowsWith(7, 1, 2, 1, 1), [] {
                      Recipe r = recipeWith(2);
                      r.estimator.fields["penalty"] = 0.1;
                      r.judge.reset();
                      return r;
                  }());
                  halvesOf(few.recipe, *few.prepared, *few.evidence.study, {}, {}, quietly());
              }).find("halves of 7 rows"),
              std::string::npos);
}

TEST(LearningCurves, FollowWhatLeastSquaresIsKnownToDo) {
    // Of n rows and p normal columns the expected squared error of an unseen row is σ² (1 + 1/n)(n − 2)/(n −
    // p − 2) (Thompson 1978, Technometrics 20), on learning rows σ² (n − p − 1)/n.
    constexpr std::size_t p = 8;
    Recipe recipe = recipeWith(p);
    recipe.estimator = Settings{};
    const Fitted fitted(rowsWith(2000, 11, p, 3, 1), recipe);
    const LearningCurve curve =
        learningCurve(recipe, *fitted.prepared, {}, fitted.evidence.study, {}, quietly());
    ASSERT_EQ(curve.points.size(), 8U);
    EXPECT_EQ(curve.points.back().rows, 1800U);
    for (const LearningPoint& point : curve.points) {
        const auto n = static_cast<double>(point.rows);
        const double unseen = std::sqrt((1 + 1 / n) * (n - 2) / (n - p - 2));
        EXPECT_NEAR(point.unseen, unseen, 0.05 * unseen + (n < 40 ? 0.25 * unseen : 0)) << n;
        EXPECT_NEAR(point.learning, std::sqrt((n - p - 1) / n), n < 60 ? 0.15 : 0.05) << n;
        EXPECT_NEAR(point.rowsPerCoefficient, n / (p + 1), 1e-9);
        EXPECT_EQ(point.folds, 10U);
    }
    // All rows: as the folds judge.
    const FoldEvidence folds = judgeByFolds(recipe, *fitted.prepared, {},
                                            {.whole = fitted.evidence.study, .refit = true}, quietly());
    EXPECT_GT(digits(curve.points.back().unseen, std::sqrt(folds.meanOfFoldMse)), 12);
    EXPECT_NE(curve.says.find("hardly help"), std::string::npos) << curve.says;
    EXPECT_EQ(learningCurveCsv(curve),
              learningCurveCsv(
                  learningCurve(recipe, *fitted.prepared, {}, fitted.evidence.study, Threads{1}, quietly())));
}

TEST(LearningCurves, AreDrawnForEveryKindAndKeepWhatAStopLeaves) {
    Recipe recipe = recipeWith(3, true);
    recipe.judge = FoldPlan{.folds = 4};
    const StudyRows rows = rowsWith(160, 12, 3, 2, 1, 0.5);
    for (const char* kind : {"least squares", "neighbours", "penalised"}) {
        recipe.estimator = Settings{kind};
        const Fitted fitted(rows, recipe);
        std::vector<std::size_t> told;
        const LearningCurve curve =
            learningCurve(recipe, *fitted.prepared, {}, fitted.evidence.study, {}, quietly(),
                          [&](const LearningCurve& now) { told.push_back(now.points.size()); });
        ASSERT_GE(curve.points.size(), 5U) << kind << " " << curve.notSelected;
        EXPECT_EQ(told.size(), curve.points.size());
        EXPECT_GT(curve.points.front().unseen, curve.points.back().unseen) << kind;
        EXPECT_GT(curve.points.front().learning, 0) << kind;
        StopsAfter atOnce(0);
        EXPECT_THROW(learningCurve(recipe, *fitted.prepared, {}, fitted.evidence.study, {}, atOnce), Stopped);
    }
    recipe.estimator = Settings{};
    const Fitted fitted(rows, recipe);
    LearningCurve some;
    for (int asks = 20; asks < 4000 && some.points.empty(); asks = asks * 3 / 2) {
        StopsAfter later(asks);
        try {
            some = learningCurve(recipe, *fitted.prepared, {}, fitted.evidence.study, Threads{1}, later);
        } catch (const Stopped&) {
        }
    }
    ASSERT_FALSE(some.points.empty());
    EXPECT_TRUE(some.stopped);
    EXPECT_EQ(some.points.back().rows, 120U) << "the largest comes first";
}

TEST(TrailInFull, DifferencesAreThoseOfThePairs) {
    const StudyRows rows = rowsWith(150, 21, 5, 3, 0.8);
    Recipe small = recipeWith(1), large = recipeWith(4);
    small.estimator = large.estimator = Settings{};
    const Evidence a = evaluate(small, rows, {}, quietly()), b = evaluate(large, rows, {}, quietly());
    Trail trail;
    const int first = trail.add(small, a, 0), second = trail.add(large, b, first);
    const TrailDifference d = differenceOf(*trail.find(second), *trail.find(first));
    const std::vector<Compared> both{{a, small, "one"}, {b, large, "two"}};
    const PairComparison pair = comparePairs(both, 0.95, quietly()).front();
    EXPECT_EQ(pair.measure, Measure::rmse);
    EXPECT_GT(digits(d.difference, pair.difference), 12);
    EXPECT_GT(digits(d.lower, pair.lower), 9);
    EXPECT_GT(digits(d.upper, pair.upper), 9);
    EXPECT_EQ(d.folds, 10U);
    EXPECT_EQ(d.foldsBetter, pair.foldsBetter);
    EXPECT_EQ(trail.find(second)->summary.complexity, 5);
    // Other folds: what can be said is the difference alone.
    Recipe other = large;
    other.judge->seed = 2;
    const int third = trail.add(other, evaluate(other, rows, {}, quietly()), second);
    const TrailDifference apart = differenceOf(*trail.find(third), *trail.find(second));
    EXPECT_TRUE(std::isfinite(apart.difference));
    EXPECT_TRUE(std::isnan(apart.lower));
}

TEST(TrailInFull, FitsAreNamedFoundPinnedPrunedAndKept) {
    Project project;
    project.rows = rowsWith(60, 22, 3, 1, 1);
    Recipe recipe = recipeWith(1);
    recipe.estimator = Settings{};
    recipe.judge.reset();
    const Evidence e = evaluate(recipe, project.rows, {}, quietly());
    Trail& trail = project.trail;
    // 1 → 2 → 3, and 1 → 4 → 5.
    const auto add = [&](int parent, std::size_t columns) {
        Recipe own = recipe;
        own.level = 0.9 + 0.001 * static_cast<double>(trail.fits().size());
        if (columns > 1) own.terms.push_back(plainTerm("x1"));
        return trail.add(own, e, parent);
    };
    EXPECT_EQ(add(0, 1), 1);
    add(1, 2);
    add(2, 1);
    add(1, 2);
    EXPECT_EQ(add(4, 1), 5);
    trail.rename(3, "with the season");
    trail.annotate(2, "the board asked for it\nin May");
    trail.pin(5, true);
    trail.timeOf(1, "2026-11-28 14:05");
    EXPECT_TRUE(matches(*trail.find(3), "SEASON with"));
    EXPECT_TRUE(matches(*trail.find(2), "board"));
    EXPECT_TRUE(matches(*trail.find(2), ""));
    EXPECT_FALSE(matches(*trail.find(1), "season"));
    EXPECT_EQ(trail.find(3)->title(), "3  with the season");
    // Pruned: what is pinned stays, and the way to it.
    EXPECT_EQ(trail.prune(4, true, 1), 0U);
    EXPECT_EQ(trail.prune(2, true, 1), 2U);
    EXPECT_EQ(trail.prunedCount(), 2U);
    EXPECT_TRUE(trail.find(3)->pruned);
    EXPECT_FALSE(trail.find(5)->pruned);
    project.recipe = recipe;
    project.current = 1;
    const TemporaryFolder folder;
    saveProject(folder.file("p.oxgoad"), project, quietly());
    const Project after = openProject(folder.file("p.oxgoad"), quietly());
    for (const TrailFit& fit : trail.fits()) {
        const TrailFit* read = after.trail.find(fit.number);
        ASSERT_NE(read, nullptr);
        EXPECT_EQ(read->name, fit.name);
        EXPECT_EQ(read->note, fit.note);
        EXPECT_EQ(read->madeAt, fit.madeAt);
        EXPECT_EQ(read->pinned, fit.pinned);
        EXPECT_EQ(read->pruned, fit.pruned);
        EXPECT_EQ(read->summary.complexity, fit.summary.complexity);
    }
    EXPECT_EQ(trail.prune(2, false, 1), 2U);
    EXPECT_EQ(trail.prunedCount(), 0U);
    // The fit that is shown cannot be pruned away.
    EXPECT_EQ(trail.prune(1, true, 3), 0U) << "all fits lead to it or to the pinned one";
}

TEST(TrailInFull, TheLastFitOfADragIsReplaced) {
    const StudyRows rows = rowsWith(60, 23, 3, 1, 1);
    Recipe recipe = recipeWith(3);
    recipe.judge.reset();
    recipe.estimator.fields["penalty"] = 0.5;
    Trail trail;
    const int first = trail.add(recipe, evaluate(recipe, rows, {}, quietly()), 0);
    recipe.estimator.fields["penalty"] = 0.4;
    const int second = trail.add(recipe, evaluate(recipe, rows, {}, quietly()), first);
    recipe.estimator.fields["penalty"] = 0.1;
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    trail.replaceLast(recipe, e);
    ASSERT_EQ(trail.fits().size(), 2U);
    EXPECT_EQ(trail.find(second)->recipe.estimator.number("penalty"), 0.1);
    EXPECT_EQ(trail.find(second)->summary.learningRmse, e.learning.rmse);
    EXPECT_EQ(trail.find(second)->parent, first);
    EXPECT_NE(trail.find(second)->change.find("0.1"), std::string::npos) << trail.find(second)->change;
}

TEST(SeveralFits, ScoresSizesAndMoneyAreWhatTheyAre) {
    Recipe recipe = recipeWith(3);
    recipe.estimator = Settings{};
    recipe.setAside = SetAside{.share = 0.3, .seed = 2};
    const StudyRows rows = rowsWith(200, 31, 3, 2, 1);
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const auto scores = partScores(e);
    ASSERT_EQ(scores.size(), 3U);
    EXPECT_EQ(scores[0].part, "learning");
    EXPECT_GT(digits(scores[0].rmse, e.learning.rmse), 13);
    EXPECT_GT(digits(scores[1].mae, e.heldOut.mae), 13);
    EXPECT_GT(digits(scores[2].rmse, e.folds->rmse), 12);
    std::vector<double> errors;
    for (std::size_t i = 0; i < e.rows.state.size(); ++i)
        if (e.rows.state[i] == RowState::heldOut)
            errors.push_back(std::fabs(e.rows.actual[i] - e.rows.fitted[i]));
    std::sort(errors.begin(), errors.end());
    ASSERT_EQ(errors.size() % 2, 0U);
    EXPECT_DOUBLE_EQ(scores[1].medianError,
                     0.5 * (errors[errors.size() / 2 - 1] + errors[errors.size() / 2]));
    EXPECT_EQ(complexityOf(e).value, 4);
    EXPECT_TRUE(moneyAtStake(e, e).over.empty());
    // Twelve months of two rows each: a year's worth of absolute errors.
    Evidence coming = e;
    coming.forecast.emplace();
    coming.forecast->prediction.assign(24, 1.0);
    for (int month = 0; month < 12; ++month)
        coming.forecast->coming.push_back({.day = 18262 + month * 30, .rows = 2});
    const MoneyAtStake money = moneyAtStake(e, coming);
    EXPECT_EQ(money.rows, 24U);
    EXPECT_DOUBLE_EQ(money.onForecast, 24 * e.folds->mae);
    EXPECT_NEAR(money.aYear, money.onForecast * 365.25 / 360, 1e-9 * money.onForecast);
    EXPECT_EQ(money.over, "24 rows in 12 periods");
}

TEST(SeveralFits, CoefficientsShareAScaleAndRowsThatDifferAreFound) {
    const StudyRows rows = rowsWith(120, 32, 3, 3, 2);
    Recipe small = recipeWith(1), large = recipeWith(3);
    small.estimator = large.estimator = Settings{};
    const Evidence a = evaluate(small, rows, {}, quietly()), b = evaluate(large, rows, {}, quietly());
    const std::vector<Compared> fits{{a, small, "fit 1"}, {b, large, "fit 2"}};
    const auto common = commonCoefficients(fits);
    ASSERT_EQ(common.size(), 3U);
    for (const CommonCoefficient& c : common) {
        EXPECT_EQ(std::isnan(c.estimates[0]), c.name != "x0");
        EXPECT_NEAR(c.estimates[1], 2, 0.6);
        EXPECT_GT(c.errors[1], 0);
    }
    const auto differing = differMost(fits, 5);
    ASSERT_EQ(differing.size(), 5U);
    double largest = 0;
    for (std::size_t i = 0; i < 120; ++i)
        largest = std::max(largest, std::fabs(a.folds->outOfFold[i] - b.folds->outOfFold[i]));
    EXPECT_DOUBLE_EQ(differing[0].spread, largest);
    EXPECT_GE(differing[0].spread, differing[4].spread);
    EXPECT_DOUBLE_EQ(differing[0].actual, rows.learning.table.find("y")->numbers()[differing[0].row]);
    EXPECT_TRUE(differMost({fits.data(), 1}, 5).empty());
    EXPECT_TRUE(differMost(std::vector<Compared>{fits[0], fits[0]}, 5).empty()) << "the same says nothing";
}

TEST(AfterChoosing, HeldOutRowsLearnTooAndTestRowsStayTheSame) {
    const StudyRows rows = rowsWith(200, 41, 2, 2, 1);
    for (const SetAsideKind kind :
         {SetAsideKind::random, SetAsideKind::firstRows, SetAsideKind::proportionate}) {
        SetAside aside{.kind = kind, .share = 0.25, .testShare = 0.2, .seed = 3};
        if (kind == SetAsideKind::proportionate) aside.column = "f";
        if (kind == SetAsideKind::firstRows) aside.seed = SetAside{}.seed; // it has none
        const auto before = assignParts(rows.learning.table, aside, {});
        aside.heldOutLearn = true;
        const auto after = assignParts(rows.learning.table, aside, {});
        for (std::size_t i = 0; i < before.size(); ++i)
            EXPECT_EQ(after[i], before[i] == Part::heldOut ? Part::learning : before[i]);
        Recipe recipe = recipeWith(2);
        recipe.estimator = Settings{};
        recipe.judge.reset();
        recipe.setAside = aside;
        EXPECT_EQ(parseRecipe(recipeText(recipe), "test").setAside, recipe.setAside);
        const Evidence e = evaluate(recipe, rows, {}, quietly());
        EXPECT_EQ(e.rowsHeldOut, 0U);
        EXPECT_EQ(e.rowsLearning + e.rowsTest, 200U);
        EXPECT_NE(setAsideText(aside).find("learn too"), std::string::npos);
    }
}

TEST(AfterChoosing, ATestThatDisappointsIsAGoad) {
    // The last rows, which are the test, are of another kind.
    StudyRows rows = rowsWith(200, 42, 2, 2, 1);
    const auto y = rows.learning.table.find("y")->numbers();
    std::vector<double> values(y.begin(), y.end());
    RandomStream random(1, "another kind");
    for (std::size_t i = 150; i < 200; ++i)
        values[i] += 4 * random.normal();
    Recipe recipe = recipeWith(2);
    recipe.estimator = Settings{};
    recipe.setAside = SetAside{.kind = SetAsideKind::firstRows, .share = 0.25, .testShare = 0.25};
    const auto goadOf = [&](const StudyRows& of, bool folds, bool look) {
        Recipe own = recipe;
        if (!folds) own.judge.reset();
        const auto prepared = prepareRows(own, of, {}, quietly());
        const Evidence e = evaluate(own, of, *prepared, {.lookAtTest = look}, quietly());
        for (const Goad& goad : e.goads)
            if (goad.key == testDisappointsKey) return goad.reading;
        return std::string();
    };
    EXPECT_EQ(goadOf(rows, true, true), "") << "the test is as it was expected";
    StudyRows other = rows;
    other.learning.table = rows.learning.table.withColumn(Column::ofNumbers("y", values));
    EXPECT_NE(goadOf(other, true, true).find("10 folds, seed 1 led to expect"), std::string::npos);
    EXPECT_NE(goadOf(other, false, true).find("held-out rows led to expect"), std::string::npos);
    EXPECT_EQ(goadOf(other, true, false), "") << "nobody looked";
}

TEST(PathDetail, RidgeAndSeveralSharesHaveTheirPlacesToo) {
    Recipe recipe = recipeWith(4);
    recipe.estimator.fields["l1_share"] = std::vector<double>{0, 0.5, 1};
    const Fitted fitted(rowsWith(80, 51, 4, 2, 1), recipe);
    const auto search = fitted.path();
    EXPECT_EQ(sharesOf(*search), (std::vector<double>{0, 0.5, 1}));
    const PathView ridge = pathView(*search, 0), lasso = pathView(*search, 1);
    EXPECT_EQ(ridge.places.front().kept, 4U) << "ridge lets nothing go";
    EXPECT_EQ(ridge.lines.size(), 4U);
    for (const PathLine& line : ridge.lines)
        EXPECT_EQ(line.keptShare.front(), 1);
    // All columns are kept everywhere: least squares of them is the same at every penalty.
    for (const PathPlace& place : ridge.places)
        EXPECT_GT(digits(place.relaxed, ridge.places.front().relaxed), 9);
    EXPECT_EQ(lasso.places.front().kept, 0U);
    // At weak penalties all shares are near to least squares, and to each other.
    EXPECT_NEAR(lasso.places.back().learning / ridge.places.back().learning, 1, 1e-3);
    EXPECT_TRUE(pathView(*search, 0.25).places.empty()) << "a share that nobody followed";
    // Nothing is judged: no errors, and no places that would rest on them.
    Recipe given = recipeWith(4);
    given.judge.reset();
    given.estimator.fields["penalty"] = 0.2;
    const Fitted one(rowsWith(80, 51, 4, 2, 1), given);
    const PathView bare = pathView(*one.path(), 1);
    EXPECT_EQ(bare.smallest, bare.places.size());
    EXPECT_TRUE(std::isnan(bare.places.front().error));
    EXPECT_TRUE(std::isfinite(bare.places.front().learning));
    EXPECT_TRUE(simplerSentence(bare, "EUR").empty());
    EXPECT_EQ(placeSentence(bare, 0, "").find("typically"), std::string::npos);
    EXPECT_TRUE(bare.lines.front().keptShare.empty());
}

TEST(PathDetail, WeightsCountInSharesAndErrors) {
    // A row that weighs nothing teaches nothing: the path is that of the others.
    StudyRows rows = rowsWith(90, 52, 5, 2, 1);
    RandomStream random(3, "weights of a path");
    std::vector<double> w(90);
    for (std::size_t i = 0; i < w.size(); ++i)
        w[i] = i < 70 ? 0.5 + random.uniform() : 0;
    rows.learning.table = rows.learning.table.withColumn(Column::ofNumbers("w", w));
    Recipe recipe = recipeWith(5);
    recipe.roles["w"] = Role::weight;
    recipe.estimator.fields["penalties"] = std::vector<double>{0.6, 0.2, 0.05};
    StudyRows first = rows;
    std::vector<std::uint32_t> places(70);
    std::iota(places.begin(), places.end(), 0U);
    std::vector<Column> some;
    for (const Column& column : rows.learning.table.columns())
        if (column.kind() == ColumnKind::number) {
            const auto all = column.numbers();
            some.push_back(Column::ofNumbers(column.name(), {all.begin(), all.begin() + 70}));
        }
    first.learning.table = Table(std::move(some));
    const Fitted whole(rows, recipe), others(first, recipe);
    const auto a = whole.path(), b = others.path();
    for (std::size_t k = 0; k < a->points.size(); ++k) {
        EXPECT_GT(digits(a->points[k].meanOfFoldMse, b->points[k].meanOfFoldMse), 9);
        EXPECT_GT(digits(a->points[k].relaxedMse, b->points[k].relaxedMse), 9);
        for (Index j = 0; j < 5; ++j)
            EXPECT_NEAR(a->points[k].coefficients[j], b->points[k].coefficients[j], 1e-10);
        EXPECT_EQ(a->points[k].keptShare, b->points[k].keptShare);
    }
}

TEST(StabilitySelection, LevelsOfAFactorAreOneTerm) {
    Recipe recipe = recipeWith(3, true);
    recipe.estimator.fields["grouped"] = true;
    recipe.estimator.fields["penalty"] = 0.1;
    const Fitted fitted(rowsWith(240, 53, 3, 1, 1, 0.8), recipe);
    const StabilitySelection halves =
        halvesOf(recipe, *fitted.prepared, *fitted.evidence.study, {.splits = 20, .seed = 2}, {}, quietly());
    ASSERT_EQ(halves.each.size(), 4U);
    EXPECT_EQ(halves.each[3].term, "f");
    EXPECT_EQ(halves.each[3].columns, 3U);
    EXPECT_EQ(halves.each[3].share, 1);
    EXPECT_LT(halves.each[3].p, 0.001) << "an F test of its three columns";
    EXPECT_GT(halves.each[1].p, 0.05);
    EXPECT_NE(halvesCsv(halves).find("\nf,3,1,yes,"), std::string::npos);
}

TEST(LearningCurves, GoByWholeGroupsAndSayWhatCannotBeLearned) {
    Recipe recipe = recipeWith(2, true);
    recipe.estimator = Settings{};
    recipe.judge = FoldPlan{.kind = FoldKind::groups, .folds = 3, .column = "f"};
    recipe.terms.pop_back(); // the groups are no term
    const Fitted fitted(rowsWith(160, 54, 2, 2, 1, 0.5), recipe);
    const LearningCurve curve =
        learningCurve(recipe, *fitted.prepared, {}, fitted.evidence.study, {}, quietly());
    EXPECT_EQ(curve.judgedBy, foldPlanText(*recipe.judge));
    ASSERT_GE(curve.points.size(), 3U);
    EXPECT_EQ(curve.points.back().folds, 3U);
    // Bootstrap draws with replacement, and leaving out single rows gives way to ten folds.
    for (const FoldKind kind : {FoldKind::bootstrap, FoldKind::leaveOneOut}) {
        Recipe other = recipe;
        other.judge = FoldPlan{.kind = kind, .draws = 12};
        const LearningCurve own =
            learningCurve(other, *fitted.prepared, {}, fitted.evidence.study, {}, quietly());
        EXPECT_EQ(own.points.back().folds, kind == FoldKind::bootstrap ? 12U : 10U);
    }
    // Terms that few rows cannot hold: those sizes are passed over and said.
    Recipe wide = recipeWith(20);
    wide.estimator = Settings{};
    const Fitted many(rowsWith(60, 55, 20, 2, 1), wide);
    const LearningCurve short_ = learningCurve(wide, *many.prepared, {}, many.evidence.study, {}, quietly());
    EXPECT_GE(short_.points.front().rows, 22U) << "at least as many rows as coefficients";
    EXPECT_GT(short_.points.front().unseen, 1.1 * short_.points.back().unseen);
}

TEST(PathDetail, RowsInNoFoldLearnInAllOfThem) {
    // A column says the folds, and some rows have no value of it: they always learn and are never judged.
    StudyRows rows = rowsWith(120, 61, 4, 2, 1);
    std::vector<std::int32_t> codes(120);
    for (std::size_t i = 0; i < codes.size(); ++i)
        codes[i] = i % 4 == 3 ? -1 : static_cast<std::int32_t>(i % 4);
    const Table table = rows.learning.table.withColumn(Column::ofFactor("f", codes, {"a", "b", "c"}));
    rows.learning.table = table;
    const auto y = table.find("y")->numbers();
    for (const bool logarithm : {false, true}) {
        Recipe recipe = recipeWith(4);
        recipe.logResponse = logarithm;
        recipe.judge = FoldPlan{.kind = FoldKind::column, .column = "f"};
        recipe.estimator.fields["penalties"] =
            logarithm ? std::vector<double>{0.004, 0.001} : std::vector<double>{0.5, 0.1};
        const Fitted fitted(rows, recipe);
        const auto search = fitted.path();
        std::vector<std::uint32_t> all(120);
        std::iota(all.begin(), all.end(), 0U);
        const Dealing dealing = dealRows(*recipe.judge, table, all, "rows.csv");
        ASSERT_EQ(dealing.size(), 3U);
        for (std::size_t k = 0; k < 2; ++k) {
            double mean = 0;
            for (std::size_t f = 0; f < 3; ++f) {
                const Fold fold = dealing.fold(f);
                ASSERT_EQ(fold.learning.size(), 90U) << "two levels, and the rows without one";
                mean += FoldOfLasso(table, fold, logarithm).mse(search->points[k].penalty, y) / 3;
            }
            EXPECT_GT(digits(search->points[k].meanOfFoldMse, mean), 9) << logarithm << " at " << k;
        }
    }
    // Where every row has a value there are none such, and all is as it was.
    for (std::size_t i = 0; i < codes.size(); ++i)
        codes[i] = static_cast<std::int32_t>(i % 3);
    rows.learning.table = table.withColumn(Column::ofFactor("f", codes, {"a", "b", "c"}));
    Recipe recipe = recipeWith(4);
    recipe.judge = FoldPlan{.kind = FoldKind::column, .column = "f"};
    recipe.estimator.fields["penalties"] = std::vector<double>{0.5, 0.1};
    const auto search = Fitted(rows, recipe).path();
    std::vector<std::uint32_t> all(120);
    std::iota(all.begin(), all.end(), 0U);
    const Dealing dealing = dealRows(*recipe.judge, rows.learning.table, all, "rows.csv");
    double mean = 0;
    for (std::size_t f = 0; f < 3; ++f)
        mean += FoldOfLasso(table, dealing.fold(f), false).mse(0.1, y) / 3;
    EXPECT_GT(digits(search->points[1].meanOfFoldMse, mean), 9);
}

TEST(SeveralFits, AreJudgedAlikeByTheFirst) {
    const StudyRows rows = rowsWith(120, 71, 3, 2, 1);
    std::vector<Recipe> recipes(3, recipeWith(2));
    for (Recipe& recipe : recipes)
        recipe.estimator = Settings{};
    recipes[1].terms.pop_back();
    recipes[2].judge->seed = 9;
    recipes[2].setAside = SetAside{.share = 0.3};
    std::vector<std::shared_ptr<const Evidence>> fits;
    for (const Recipe& recipe : recipes)
        fits.push_back(std::make_shared<const Evidence>(evaluate(recipe, rows, {}, quietly())));
    const auto alike = judgedAlike(fits, recipes, rows, nullptr, {}, quietly());
    EXPECT_EQ(alike[0], fits[0]);
    EXPECT_EQ(alike[1], fits[1]) << "judged as the first is";
    ASSERT_NE(alike[2], fits[2]);
    EXPECT_EQ(alike[2]->folds->foldOf, fits[0]->folds->foldOf);
    EXPECT_EQ(alike[2]->rowsLearning, 120U);
    EXPECT_GT(digits(alike[2]->folds->rmse, fits[0]->folds->rmse), 12) << "the same model then";
}

} // namespace restrain_test
