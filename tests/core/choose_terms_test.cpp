// Choosing terms: against every subset by brute force (tests/reference/make/choose_values.py), and what a
// choice says of itself.
#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "study/choose_terms.h"
#include "study/departures.h"
#include "study/rows_used.h"
#include "study/study.h"
#include "support/support.h"

#include <Eigen/QR>

#include <set>

using namespace oxgoad;
using namespace oxgoad::test;
using nlohmann::json;

namespace choose_terms_test {

const std::vector<std::string> ten{"age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"};

std::set<std::string> names(const std::vector<Term>& terms) {
    std::set<std::string> found;
    for (const Term& term : terms)
        found.insert(termName(term));
    return found;
}

Choice choose(const Recipe& recipe, const StudyRows& rows, const ChooseRequest& request,
              unsigned threads = 1) {
    return chooseTerms(recipe, *prepareRows(recipe, rows, {threads}, quietly()), request, {threads},
                       quietly());
}

Recipe diabetes() {
    return recipeOf("y", {});
}

/// y of some columns and noise; the first `real` of `columns` matter.
StudyRows invented(std::size_t n, int columns, int real, std::uint64_t seed) {
    RandomStream random(seed, "choice");
    std::string text = "y";
    for (int j = 0; j < columns; ++j)
        text += ",x" + std::to_string(j);
    text += "\n";
    for (std::size_t i = 0; i < n; ++i) {
        double y = random.normal();
        std::string cells;
        for (int j = 0; j < columns; ++j) {
            const double x = random.normal();
            if (j < real) y += x;
            cells += "," + exactText(x);
        }
        text += exactText(y) + cells + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    return rows;
}

Eigen::MatrixXd factorOf(Eigen::Index n, Eigen::Index k, std::uint64_t seed) {
    RandomStream random(seed, "factor");
    Eigen::MatrixXd x(n, k + 2);
    for (Eigen::Index i = 0; i < n; ++i) {
        double y = random.normal();
        x(i, 0) = 1;
        const double shared = random.normal();
        for (Eigen::Index j = 1; j <= k; ++j) {
            x(i, j) = random.normal() + 0.5 * shared;
            y += x(i, j) / static_cast<double>(j);
        }
        x(i, k + 1) = y;
    }
    return Eigen::HouseholderQR<Eigen::MatrixXd>(x).matrixQR().topRows(k + 2).triangularView<Eigen::Upper>();
}

TEST(ChooseTerms, BestSubsetsAreThoseOfBruteForce) {
    const json values = publishedJson("choose");
    const std::pair<ChooseCriterion, const char*> criteria[] = {
        {ChooseCriterion::aicc, "aicc"},
        {ChooseCriterion::bic, "bic"},
        {ChooseCriterion::adjustedRSquared, "adjusted"}};
    for (const auto& [criterion, name] : criteria) {
        const Choice choice = choose(diabetes(), publishedRows("diabetes"),
                                     {.by = ChooseBy::bestSubsets, .criterion = criterion});
        EXPECT_EQ(names(choice.terms), values["chosen"][name]["terms"].get<std::set<std::string>>()) << name;
        EXPECT_GT(digits(choice.endCriterion, values["chosen"][name]["value"]), 10) << name;
    }
    // Every size.
    Recipe recipe = diabetes();
    for (const auto& column : ten)
        recipe.terms.push_back(plainTerm(column));
    const auto rows = publishedRows("diabetes");
    std::vector<std::uint32_t> all;
    for (std::uint32_t i = 0; i < 442; ++i)
        all.push_back(i);
    const Design design = Design::learn(rows.learning.table, all, recipe.terms, {}, {});
    const DesignRows x(BoundDesign(design, rows.learning.table, {}), all);
    const auto y = rows.learning.table.at("y", {}).numbers();
    LeastSquaresFit fit = fitLeastSquares(x, y, {.threads = {1}}, quietly());
    const auto factor = reduceRows(fit, x, y, {}, {1}, quietly());
    std::vector<std::vector<Eigen::Index>> groups;
    for (Eigen::Index j = 1; j <= 10; ++j)
        groups.push_back({j});
    const auto best = bestSubsets(factor, 1, groups, {}, quietly());
    const double unit = fit.responseScale * fit.responseScale;
    ASSERT_EQ(best.size(), 11u);
    for (std::size_t size = 0; size <= 10; ++size) {
        EXPECT_GT(digits(best[size].residualSumOfSquares / unit, values["best"][size]["rss"]), 11) << size;
        std::set<std::string> chosen;
        for (const auto g : best[size].groups)
            chosen.insert(ten[g]);
        EXPECT_EQ(chosen, values["best"][size]["terms"].get<std::set<std::string>>()) << size;
    }
}

TEST(ChooseTerms, BranchAndBoundMissesNothingOfGroups) {
    // Groups of one to three columns, every one of 2^8 sets by hand.
    for (const std::uint64_t seed : {1, 2, 3}) {
        const Eigen::MatrixXd r = factorOf(60, 15, seed);
        const std::vector<std::vector<Eigen::Index>> groups{{1}, {2, 3},  {4},  {5, 6, 7},
                                                            {8}, {9, 10}, {11}, {12, 13, 14, 15}};
        std::vector<double> least(16, 1e300);
        for (unsigned mask = 0; mask < 256; ++mask) {
            std::vector<Eigen::Index> columns{0};
            for (std::size_t g = 0; g < 8; ++g)
                if (mask >> g & 1) columns.insert(columns.end(), groups[g].begin(), groups[g].end());
            const Eigen::MatrixXd x = r(Eigen::all, columns);
            const Eigen::VectorXd y = r.col(16);
            const double rss = (y - x * x.colPivHouseholderQr().solve(y)).squaredNorm();
            least[columns.size() - 1] = std::min(least[columns.size() - 1], rss);
        }
        const auto found = bestSubsets(r, 1, groups, {}, quietly());
        for (std::size_t size = 0; size < 16; ++size) {
            if (least[size] < 1e299) {
                EXPECT_GT(digits(found[size].residualSumOfSquares, least[size]), 10) << size;
            }
        }
    }
}

TEST(ChooseTerms, ForwardTakesThePathOfBruteForce) {
    const json path = publishedJson("choose")["forward_bic"];
    std::vector<std::string> told;
    ChooseRequest request{.by = ChooseBy::forward, .criterion = ChooseCriterion::bic};
    const Choice choice =
        chooseTerms(diabetes(), *prepareRows(diabetes(), publishedRows("diabetes"), {1}, quietly()), request,
                    {1}, quietly(), [&](const ChooseStep& step) { told.push_back(termName(step.term)); });
    ASSERT_EQ(choice.steps.size(), path.size());
    for (std::size_t i = 0; i < path.size(); ++i) {
        EXPECT_EQ(termName(choice.steps[i].term), path[i]["term"]);
        EXPECT_EQ(told[i], path[i]["term"]);
        EXPECT_GT(digits(choice.steps[i].criterion, path[i]["bic"]), 10);
    }
    request.mostSteps = 2;
    EXPECT_EQ(choose(diabetes(), publishedRows("diabetes"), request).terms.size(), 2u);
}

TEST(ChooseTerms, EveryWayFindsWhatIsPlanted) {
    const auto rows = invented(600, 10, 3, 5);
    const std::set<std::string> planted{"x0", "x1", "x2"};
    for (const ChooseBy by :
         {ChooseBy::forward, ChooseBy::backward, ChooseBy::bothWays, ChooseBy::bestSubsets}) {
        const Choice choice = choose(diabetes(), rows, {.by = by, .criterion = ChooseCriterion::bic});
        EXPECT_EQ(names(choice.terms), planted) << chooseByName(by);
        for (const ChosenTerm& candidate : choice.candidates)
            if (candidate.chosen) {
                EXPECT_EQ(candidate.share, 1) << termName(candidate.term);
            }
    }
    for (const ChooseBy by : {ChooseBy::forward, ChooseBy::backward, ChooseBy::bothWays}) {
        const auto found =
            names(choose(diabetes(), rows,
                         {.by = by, .criterion = ChooseCriterion::pValue, .enter = 0.001, .leave = 0.001})
                      .terms);
        EXPECT_EQ(found, planted) << chooseByName(by);
    }
    const auto crossed = names(choose(diabetes(), rows, {.by = ChooseBy::forward}).terms);
    EXPECT_TRUE(std::includes(crossed.begin(), crossed.end(), planted.begin(), planted.end()));
}

TEST(ChooseTerms, AChoiceAmongNoiseIsSeenThrough) {
    // Nothing matters: the error the choice has seen looks better than what choosing anew predicts.
    const Choice choice = choose(diabetes(), invented(80, 25, 0, 9),
                                 {.by = ChooseBy::forward, .criterion = ChooseCriterion::aicc});
    ASSERT_FALSE(choice.terms.empty());
    EXPECT_LT(choice.seenError, choice.honestError);
    const Recipe recipe = withChoice(diabetes(), choice);
    const Evidence e = evaluate(recipe, invented(80, 25, 0, 9), {}, quietly());
    EXPECT_TRUE(
        std::any_of(e.goads.begin(), e.goads.end(), [](const Goad& g) { return g.key == "chosen terms"; }));
    EXPECT_EQ(parseRecipe(recipeText(recipe), "r.json"), recipe);
    Recipe forgotten = recipe;
    forgotten.chosen.reset();
    EXPECT_TRUE(sameModel(recipe, forgotten));
}

TEST(ChooseTerms, HierarchyIsKeptUnlessToldOtherwise) {
    // y is the product alone.
    RandomStream random(4, "product");
    std::string text = "y,a,b,c\n";
    for (int i = 0; i < 400; ++i) {
        const double a = random.normal(), b = random.normal();
        text += exactText(a * b + 0.3 * random.normal()) + "," + exactText(a) + "," + exactText(b) + "," +
                exactText(random.normal()) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    ChooseRequest request{.by = ChooseBy::backward, .criterion = ChooseCriterion::bic};
    request.from = {plainTerm("a"), plainTerm("b"), plainTerm("c"), Term{{TermPart{"b"}, TermPart{"a"}}}};
    EXPECT_EQ(names(choose(diabetes(), rows, request).terms), (std::set<std::string>{"a", "b", "b × a"}));
    request.by = ChooseBy::bestSubsets;
    EXPECT_EQ(names(choose(diabetes(), rows, request).terms), (std::set<std::string>{"a", "b", "b × a"}));
    request.hierarchy = false;
    EXPECT_EQ(names(choose(diabetes(), rows, request).terms), (std::set<std::string>{"b × a"}));
}

TEST(ChooseTerms, ByGroupWholeGroupsAreDealt) {
    // 24 groups of 10 rows that are alike in their columns, and a level of their own each: when a group is
    // split, its rows tell the fold left out what its level is; whole groups tell nothing of each other.
    RandomStream random(5, "groups");
    std::string text = "y,grp";
    for (int c = 0; c < 20; ++c)
        text += ",x" + std::to_string(c);
    text += "\n";
    double squares = 0;
    for (int g = 0; g < 24; ++g) {
        const double level = 10 * random.normal();
        squares += level * level / 24;
        std::string columns;
        for (int c = 0; c < 20; ++c)
            columns += "," + exactText(random.normal());
        for (int i = 0; i < 10; ++i)
            text += exactText(level + 0.1 * random.normal()) + ",g" + std::to_string(g) + columns + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {});
    recipe.roles["grp"] = Role::setAside;
    const ChooseRequest request{.by = ChooseBy::backward, .criterion = ChooseCriterion::adjustedRSquared};
    const double spread = std::sqrt(squares);
    EXPECT_LT(choose(recipe, rows, request).seenError, 0.6 * spread);
    recipe.roles["grp"] = Role::group;
    EXPECT_GT(choose(recipe, rows, request).seenError, 0.9 * spread);
}

/// Columns that leave one after another, a few at once: against a reduction of those that are left.
TEST(ColumnRemovals, AreLeastSquaresOfWhatIsLeft) {
    using Eigen::Index, Eigen::MatrixXd, Eigen::VectorXd;
    for (std::uint64_t seed = 1; seed <= 40; ++seed) {
        SCOPED_TRACE(seed);
        RandomStream random(seed, "departures");
        const Index p = 2 + static_cast<Index>(random.below(14)),
                    n = p + 1 + static_cast<Index>(random.below(30));
        const auto noise = [&](Index rows) {
            MatrixXd made = MatrixXd::NullaryExpr(rows, p + 1, [&] { return random.normal(); });
            made.col(p) += made.col(0) - 2 * made.col(1);
            if (p > 3) made.col(2) = made.col(3) + 1e-3 * made.col(2); // nearly alike
            return made;
        };
        const MatrixXd learned = noise(n), first = noise(7), second = noise(12);
        std::vector<Index> columns; // some are not in from the start
        for (Index j = 0; j < p; ++j)
            if (j < 2 || random.below(5) != 0) columns.push_back(j);
        const auto expected = [&](const std::vector<Index>& in) {
            const MatrixXd x = learned(Eigen::all, in);
            const VectorXd b = in.empty() ? VectorXd() : VectorXd(x.householderQr().solve(learned.col(p)));
            std::pair<double, double> sums{(learned.col(p) - x * b).squaredNorm(), 0};
            for (const MatrixXd* cell : {&first, &second})
                sums.second += (cell->col(p) - MatrixXd((*cell)(Eigen::all, in)) * b).squaredNorm();
            return sums;
        };
        ColumnRemovals departures(learned, columns, {&first, &second});
        ASSERT_TRUE(departures.sound());
        while (!columns.empty()) {
            const auto now = expected(columns);
            EXPECT_GE(digits(departures.squares(), now.first), 9);
            EXPECT_GE(digits(departures.judgedSquares(), now.second), 7);
            std::vector<Index> out;
            for (std::size_t q = 0; q < std::min<std::size_t>(columns.size(), 1 + random.below(3)); ++q) {
                const Index one = columns[random.below(columns.size())];
                if (std::find(out.begin(), out.end(), one) == out.end()) out.push_back(one);
            }
            std::vector<Index> rest = columns;
            for (const Index one : out)
                std::erase(rest, one);
            const auto told = departures.without(out), then = expected(rest);
            EXPECT_GE(digits(told.first, then.first), 9);
            EXPECT_GE(digits(told.second, then.second), 7);
            departures.leave(out, {2}, quietly());
            columns = rest;
        }
        EXPECT_GE(digits(departures.squares(), learned.col(p).squaredNorm()), 12);
    }
}

TEST(ColumnRemovals, SayWhereColumnsDependOnEachOther) {
    using Eigen::MatrixXd;
    RandomStream random(3, "dependent");
    MatrixXd rows = MatrixXd::NullaryExpr(20, 5, [&] { return random.normal(); });
    EXPECT_TRUE(ColumnRemovals(rows, {0, 1, 2, 3}, {}).sound());
    rows.col(3) = rows.col(0) + rows.col(1);
    EXPECT_FALSE(ColumnRemovals(rows, {0, 1, 2, 3}, {}).sound());
    EXPECT_TRUE(ColumnRemovals(rows, {0, 1, 2}, {}).sound());
    EXPECT_FALSE(ColumnRemovals(rows.topRows(2), {0, 1, 2}, {}).sound()) << "fewer rows than columns";
    EXPECT_TRUE(ColumnRemovals(rows.topRows(3), {0, 1, 2}, {}).sound()) << "as many rows as columns";
    EXPECT_EQ(ColumnRemovals(rows.topRows(3), {0, 1, 2}, {}).squares(), 0);
}

/// A fold that lacks a level makes its columns depend on each other: the steps are those of fits made anew.
TEST(ChooseTerms, BackwardsWithAFoldThatLacksALevel) {
    RandomStream random(8, "rare");
    std::string text = "y,a,b,kind\n";
    for (int i = 0; i < 60; ++i) {
        const double a = random.normal();
        text += exactText(2 * a + random.normal()) + "," + exactText(a) + "," + exactText(random.normal()) +
                "," +
                (i == 17      ? "rare"
                 : i % 2 == 0 ? "even"
                              : "odd") +
                "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    ChooseRequest request{.by = ChooseBy::backward};
    request.from = {plainTerm("a"), plainTerm("b"), plainTerm("kind")};
    const Choice choice = choose(recipeOf("y", {}), rows, request);
    EXPECT_TRUE(names(choice.terms).contains("a"));
    EXPECT_FALSE(names(choice.terms).contains("b"));
}

TEST(ChooseTerms, IsTheSameForAnyNumberOfThreads) {
    Recipe recipe = diabetes();
    recipe.roles["age"] = Role::group;
    const ChooseRequest request{.by = ChooseBy::bothWays};
    EXPECT_EQ(choiceJson(choose(recipe, publishedRows("diabetes"), request, 1)),
              choiceJson(choose(recipe, publishedRows("diabetes"), request, 3)));
}

TEST(ChooseTerms, WhatCannotBeChosenIsRefused) {
    const auto refused = [](const ChooseRequest& request, const StudyRows& rows) {
        return errorOf([&] { choose(diabetes(), rows, request); });
    };
    const auto rows = publishedRows("diabetes");
    EXPECT_EQ(
        refused({.by = ChooseBy::bestSubsets}, invented(100, 31, 1, 1)),
        "best subsets of 31 terms cannot be searched. Choose from at most 30, or go forward or both ways.");
    EXPECT_NE(refused({.by = ChooseBy::bestSubsets, .criterion = ChooseCriterion::pValue}, rows)
                  .find("cannot be compared by p"),
              std::string::npos);
    EXPECT_NE(refused({.criterion = ChooseCriterion::pValue, .enter = 0.2, .leave = 0.1}, rows)
                  .find("round for ever"),
              std::string::npos);
    EXPECT_NE(refused({.folds = 1}, rows).find("Use from 2 to 20"), std::string::npos);
    StudyRows holes; // a column most rows lack is passed over, and does not take the rows along
    std::string text = "y,x,gone\n";
    for (int i = 0; i < 60; ++i)
        text += std::to_string(i + i % 5) + "," + std::to_string(i) + "," + (i < 3 ? "1" : "") + "\n";
    holes.learning = readBytes(text);
    const Choice choice = choose(diabetes(), holes, {});
    EXPECT_EQ(choice.rows, 60u);
    EXPECT_EQ(choice.notSelected, (std::vector<std::string>{"gone"}));
    StudyRows alone;
    alone.learning = readBytes("y\n1\n2\n3\n");
    EXPECT_NE(refused({}, alone).find("no term to choose from"), std::string::npos);
}

} // namespace choose_terms_test
