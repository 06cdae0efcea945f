// Dealing rows into folds: whatever the plan, no row is judged by what it taught.
#include "base/error.h"
#include "base/random.h"
#include "recipe/recipe.h"
#include "resample/folds.h"
#include "support/support.h"

#include <algorithm>
#include <map>
#include <set>

using namespace oxgoad;
using namespace oxgoad::test;

namespace folds_test {

/// n rows with a site of some sites, a month and a number; every eleventh site and month is missing.
Table someRows(std::size_t n, std::size_t sites, std::uint64_t seed, bool gaps = false) {
    RandomStream random(seed, "rows to deal");
    std::vector<std::string> levels;
    for (std::size_t s = 0; s < sites; ++s)
        levels.push_back("s" + std::to_string(s));
    std::vector<std::int32_t> site, month;
    std::vector<double> size;
    for (std::size_t i = 0; i < n; ++i) {
        const bool gap = gaps && i % 11 == 3;
        site.push_back(gap ? -1 : static_cast<std::int32_t>(random.below(sites)));
        month.push_back(gap ? Column::missingDay : static_cast<std::int32_t>(30 * random.below(40)));
        size.push_back(random.normal());
    }
    return Table({Column::ofFactor("site", site, levels), Column::ofDates("month", month),
                  Column::ofNumbers("size", size)});
}

std::vector<std::uint32_t> everyRow(std::size_t n) {
    std::vector<std::uint32_t> rows(n);
    for (std::uint32_t i = 0; i < n; ++i)
        rows[i] = i;
    return rows;
}

Dealing deal(const FoldPlan& plan, const Table& table) {
    return dealRows(plan, table, everyRow(table.rows()), "rows.csv");
}

/// Every fold's rows are two sets apart, and cells say the same as folds.
void expectApart(const Dealing& dealing) {
    for (std::size_t f = 0; f < dealing.size(); ++f) {
        const Fold fold = dealing.fold(f);
        std::vector<std::uint32_t> both;
        std::set_intersection(fold.learning.begin(), fold.learning.end(), fold.judged.begin(),
                              fold.judged.end(), std::back_inserter(both));
        ASSERT_TRUE(both.empty());
        ASSERT_FALSE(fold.learning.empty());
        if (dealing.cells() == 0) continue;
        const std::size_t own = f % dealing.foldsPerRepeat();
        std::size_t judged = 0;
        for (std::size_t i = 0; i < dealing.rows().size(); ++i)
            judged += dealing.judges(own, dealing.cellOf(fold.repeat)[i]);
        ASSERT_EQ(judged, fold.judged.size());
    }
}

std::string refusal(const FoldPlan& plan, const Table& table) {
    return errorOf([&] { deal(plan, table); });
}

TEST(Folds, AtRandomEveryRowIsJudgedOnceAndSizesDifferByOneAtMost) {
    for (const std::size_t n : {10U, 11U, 97U, 442U}) {
        const Table table = someRows(n, 4, n);
        const Dealing dealing = deal({.folds = 10, .repeats = 3, .seed = 5}, table);
        ASSERT_EQ(dealing.size(), 30U);
        expectApart(dealing);
        for (std::size_t repeat = 0; repeat < 3; ++repeat) {
            std::vector<int> times(n, 0);
            std::size_t least = n, most = 0;
            for (std::size_t f = 0; f < 10; ++f) {
                const Fold fold = dealing.fold(10 * repeat + f);
                EXPECT_EQ(fold.repeat, repeat);
                EXPECT_EQ(fold.name, std::to_string(f + 1));
                EXPECT_EQ(fold.learning.size() + fold.judged.size(), n);
                least = std::min(least, fold.judged.size());
                most = std::max(most, fold.judged.size());
                for (const auto row : fold.judged)
                    ++times[row];
            }
            EXPECT_LE(most - least, 1U);
            EXPECT_EQ(std::count(times.begin(), times.end(), 1), static_cast<std::ptrdiff_t>(n));
        }
    }
}

TEST(Folds, ARepeatIsWhatTheNextSeedDeals) {
    const Table table = someRows(200, 12, 1);
    for (const FoldKind kind : {FoldKind::kFolds, FoldKind::groups, FoldKind::inProportion}) {
        FoldPlan plan{.kind = kind, .folds = 5, .repeats = 2, .seed = 8, .column = "site"};
        const Dealing both = deal(plan, table);
        plan.repeats = 1;
        plan.seed = 9;
        const Dealing next = deal(plan, table);
        for (std::size_t f = 0; f < 5; ++f)
            EXPECT_EQ(both.fold(5 + f).judged, next.fold(f).judged) << foldKindName(kind);
        EXPECT_NE(both.fold(0).judged, next.fold(0).judged) << foldKindName(kind);
    }
}

TEST(Folds, GroupsAndTimesNeverMixOverFiveHundredDealings) {
    RandomStream random(2, "dealings");
    for (int trial = 0; trial < 500; ++trial) {
        const std::size_t n = 40 + random.below(160);
        const Table table = someRows(n, 6 + random.below(20), random.next(), trial % 3 == 0);
        const int folds = 2 + static_cast<int>(random.below(4));
        const Dealing groups =
            deal({.kind = FoldKind::groups, .folds = folds, .seed = random.next(), .column = "site"}, table);
        expectApart(groups);
        for (std::size_t f = 0; f < groups.size(); ++f) {
            const Fold fold = groups.fold(f);
            ASSERT_FALSE(fold.judged.empty());
            std::set<std::int32_t> learned, judged;
            for (const auto row : fold.learning)
                learned.insert(table.columns()[0].codes()[row]);
            for (const auto row : fold.judged)
                judged.insert(table.columns()[0].codes()[row]);
            for (const auto code : judged)
                ASSERT_FALSE(learned.contains(code));
        }
        const FoldPlan plan{.kind = FoldKind::rollingOrigin,
                            .folds = folds,
                            .column = "month",
                            .horizon = 1 + static_cast<int>(random.below(2)),
                            .gap = static_cast<int>(random.below(3))};
        const Dealing rolling = deal(plan, table);
        expectApart(rolling);
        std::set<std::int32_t> times;
        for (const auto day : table.columns()[1].days())
            if (day != Column::missingDay) times.insert(day);
        const std::vector<std::int32_t> periods(times.begin(), times.end());
        const auto periodOf = [&](std::uint32_t row) {
            return std::lower_bound(periods.begin(), periods.end(), table.columns()[1].days()[row]) -
                   periods.begin();
        };
        for (std::size_t f = 0; f < rolling.size(); ++f) {
            const Fold fold = rolling.fold(f);
            std::ptrdiff_t last = -1, first = static_cast<std::ptrdiff_t>(periods.size()), end = -1;
            for (const auto row : fold.learning) {
                ASSERT_NE(table.columns()[1].days()[row], Column::missingDay);
                last = std::max(last, periodOf(row));
            }
            for (const auto row : fold.judged) {
                first = std::min(first, periodOf(row));
                end = std::max(end, periodOf(row));
            }
            ASSERT_EQ(first - last, 1 + plan.gap);
            ASSERT_EQ(end - first + 1, plan.horizon);
        }
        // The last period is judged, and no period twice.
        ASSERT_EQ(periodOf(rolling.fold(rolling.size() - 1).judged.back()) >= 0, true);
        const Dealing mix = deal(
            {.kind = FoldKind::inProportion, .folds = folds, .seed = random.next(), .column = "site"}, table);
        expectApart(mix);
        std::map<std::int32_t, std::vector<int>> counts;
        for (std::size_t f = 0; f < mix.size(); ++f)
            for (const auto row : mix.fold(f).judged) {
                auto& of = counts[table.columns()[0].codes()[row]];
                of.resize(mix.size());
                ++of[f];
            }
        for (const auto& [site, of] : counts)
            ASSERT_LE(*std::max_element(of.begin(), of.end()) - *std::min_element(of.begin(), of.end()), 1);
    }
}

TEST(Folds, OfANumberKeepTheMixOfItsBands) {
    const Table table = someRows(500, 3, 4);
    const Dealing dealing =
        deal({.kind = FoldKind::inProportion, .folds = 5, .column = "size", .bands = 10}, table);
    std::vector<double> sorted(table.columns()[2].numbers().begin(), table.columns()[2].numbers().end());
    std::sort(sorted.begin(), sorted.end());
    for (std::size_t f = 0; f < 5; ++f) {
        int low = 0;
        for (const auto row : dealing.fold(f).judged)
            low += table.columns()[2].numbers()[row] < sorted[50];
        EXPECT_NEAR(low, 10, 1); // a tenth of 100
    }
}

TEST(Folds, AColumnSaysThem) {
    const Table table({Column::ofNumbers("fold", {2, 1, 2, std::nan(""), 10, 1}),
                       Column::ofFactor("part", {1, 0, -1, 1, 2, 0}, {"late", "early", "never", "unused"})});
    const Dealing numbers = deal({.kind = FoldKind::column, .column = "fold"}, table);
    ASSERT_EQ(numbers.size(), 3U);
    EXPECT_EQ(numbers.nameOf(0), "1");
    EXPECT_EQ(numbers.nameOf(2), "10");
    EXPECT_EQ(numbers.fold(1).judged, (std::vector<std::uint32_t>{0, 2}));
    EXPECT_EQ(numbers.fold(1).learning, (std::vector<std::uint32_t>{1, 3, 4, 5})); // without a value: learns
    EXPECT_EQ(numbers.withoutValue, 1U);
    const Dealing levels = deal({.kind = FoldKind::column, .column = "part"}, table);
    ASSERT_EQ(levels.size(), 3U);
    EXPECT_EQ(levels.nameOf(0), "late"); // in the order of the levels; no fold for one that no row has
    EXPECT_EQ(levels.fold(0).judged, (std::vector<std::uint32_t>{1, 5}));
    EXPECT_EQ(levels.fold(2).learning, (std::vector<std::uint32_t>{0, 1, 2, 3, 5}));
}

TEST(Folds, LeaveOneOutIsAFoldARow) {
    const Dealing dealing = dealRows({.kind = FoldKind::leaveOneOut}, someRows(9, 2, 1), {1, 4, 8}, "");
    ASSERT_EQ(dealing.size(), 3U);
    EXPECT_EQ(dealing.nameOf(1), "5"); // rows count from 1
    EXPECT_EQ(dealing.fold(1).judged, (std::vector<std::uint32_t>{4}));
    EXPECT_EQ(dealing.fold(1).learning, (std::vector<std::uint32_t>{1, 8}));
}

TEST(Folds, ADrawHasAsManyRowsAndJudgesTheOthers) {
    const std::size_t n = 300;
    const Dealing dealing = deal({.kind = FoldKind::bootstrap, .seed = 3, .draws = 100}, someRows(n, 2, 1));
    ASSERT_EQ(dealing.size(), 100U);
    expectApart(dealing);
    double judged = 0;
    for (std::size_t d = 0; d < 100; ++d) {
        const Fold fold = dealing.fold(d);
        EXPECT_EQ(fold.learning.size(), n);
        const std::set<std::uint32_t> drawn(fold.learning.begin(), fold.learning.end());
        EXPECT_EQ(drawn.size() + fold.judged.size(), n);
        const auto times = dealing.timesDrawn(d);
        for (const auto row : fold.judged)
            EXPECT_EQ(times[row], 0U);
        judged += static_cast<double>(fold.judged.size()) / static_cast<double>(n);
    }
    // (1 − 1/n)ⁿ of the rows are not drawn: about 0.3673 of 300, the mean of 100 draws with an error of
    // 0.002.
    EXPECT_NEAR(judged / 100, std::pow(1 - 1.0 / n, n), 0.006);
    EXPECT_NE(dealing.fold(0).judged, dealing.fold(1).judged);
}

TEST(Folds, WhatCannotBeDealtIsSaidWithTheWayOut) {
    const Table table = someRows(30, 3, 1);
    const auto expect = [&](const FoldPlan& plan, const char* part) {
        EXPECT_NE(refusal(plan, table).find(part), std::string::npos) << refusal(plan, table);
    };
    expect({.folds = 31}, "30 rows cannot be dealt into 31 folds");
    expect({.folds = 31}, "leave out one row at a time");
    expect({.folds = 1}, "cannot be judged by 1 fold");
    expect({.folds = 5, .repeats = 0}, "less than once");
    expect({.kind = FoldKind::groups, .folds = 10, .column = "site"},
           "there are 3 groups of site for 10 folds");
    expect({.kind = FoldKind::groups, .folds = 10, .column = "site"}, "Use 3 folds or fewer");
    expect({.kind = FoldKind::groups, .folds = 2, .column = "shop"}, "shop");
    expect({.kind = FoldKind::rollingOrigin, .folds = 30, .column = "month", .horizon = 3}, "periods");
    expect({.kind = FoldKind::rollingOrigin, .folds = 30, .column = "month", .horizon = 3},
           "shorter horizon");
    expect({.kind = FoldKind::rollingOrigin, .folds = 2, .column = "site"}, "date or a number");
    expect({.kind = FoldKind::rollingOrigin, .folds = 2, .column = "month", .horizon = 0},
           "one period ahead");
    expect({.kind = FoldKind::bootstrap, .draws = 1}, "2 draws");
    const Table alike({Column::ofNumbers("fold", {1, 1, 1})});
    EXPECT_NE(refusal({.kind = FoldKind::column, .column = "fold"}, alike).find("has 1 value"),
              std::string::npos);
    EXPECT_NE(refusal({.kind = FoldKind::groups, .folds = 2, .column = "fold"}, alike).find("1 group"),
              std::string::npos);
    EXPECT_NE(errorOf([&] { dealRows({}, table, {1}, ""); }).find("1 row"), std::string::npos);
    // As many periods as are needed, and one too few.
    const Table months({Column::ofNumbers("month", {1, 2, 3, 4, 4, 5})});
    EXPECT_EQ(refusal({.kind = FoldKind::rollingOrigin, .folds = 2, .column = "month", .horizon = 2}, months),
              "");
    EXPECT_NE(
        refusal({.kind = FoldKind::rollingOrigin, .folds = 2, .column = "month", .horizon = 2, .gap = 1},
                months),
        "");
}

TEST(Folds, ARecipeKeepsEveryPlan) {
    const std::string head =
        R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": ["x"], "judge": )";
    const std::vector<std::string> plans{
        R"({"kind": "k folds", "folds": 5, "repeats": 3, "seed": 18446744073709551615})",
        R"({"kind": "leave one out"})",
        R"({"kind": "groups", "column": "depot", "folds": 4, "repeats": 1, "seed": 2})",
        R"({"kind": "in proportion", "column": "spot", "folds": 10, "repeats": 1, "bands": 7, "seed": 1})",
        R"({"kind": "rolling origin", "column": "month", "folds": 6, "horizon": 3, "gap": 1})",
        R"({"kind": "column", "column": "fold"})",
        R"({"kind": "bootstrap", "draws": 50, "seed": 9})"};
    for (const std::string& plan : plans) {
        const Recipe recipe = parseRecipe(head + plan + "}", "a.json");
        ASSERT_TRUE(recipe.judge);
        EXPECT_EQ(nlohmann::json::parse(recipeText(recipe)).at("judge"), nlohmann::json::parse(plan));
        EXPECT_EQ(parseRecipe(recipeText(recipe), "a.json"), recipe);
        EXPECT_FALSE(foldPlanText(*recipe.judge).empty());
    }
    const auto refused = [&](const std::string& plan) {
        return errorOf([&] { parseRecipe(head + plan + "}", "a.json"); });
    };
    EXPECT_NE(refused(R"({"kind": "leave two out"})").find("leave one out"), std::string::npos);
    EXPECT_NE(refused(R"({"kind": "groups"})").find("column"), std::string::npos);
    EXPECT_NE(refused(R"({"kind": "k folds", "column": "depot"})").find("column"), std::string::npos);
    EXPECT_NE(refused(R"({"kind": "leave one out", "seed": 1})").find("seed"), std::string::npos);
    EXPECT_NE(refused(R"({"kind": "k folds", "folds": 1})").find("judge.folds"), std::string::npos);
    EXPECT_NE(refused(R"({"kind": "k folds", "folds": 2.5})").find("judge.folds"), std::string::npos);
    // Noise in the text is an error or another plan, never a crash.
    RandomStream random(6, "noise");
    for (int trial = 0; trial < 2000; ++trial) {
        std::string text = head + plans[random.below(plans.size())] + "}";
        for (int k = 0; k < 3; ++k)
            text[head.size() + random.below(text.size() - head.size())] =
                static_cast<char>(32 + random.below(95));
        try {
            const Recipe recipe = parseRecipe(text, "a.json");
            EXPECT_EQ(parseRecipe(recipeText(recipe), "a.json"), recipe);
        } catch (const Error& error) {
            EXPECT_FALSE(std::string(error.what()).empty());
        }
    }
}

TEST(Folds, ARecipeKeepsHowTermsAreChosen) {
    const std::string head = R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": ["x"], )";
    const Recipe recipe = parseRecipe(
        head +
            R"("choose": {"way": "both ways", "by": "p", "steps": 10, "folds": 5, "enter": 0.01, "leave": 0.1}})",
        "a.json");
    ASSERT_TRUE(recipe.choose);
    EXPECT_EQ(recipe.choose->by, ChooseBy::bothWays);
    EXPECT_EQ(recipe.choose->mostSteps, 10);
    EXPECT_EQ(recipe.choose->enter, 0.01);
    EXPECT_EQ(parseRecipe(recipeText(recipe), "a.json"), recipe);
    const auto refused = [&](const std::string& rest) {
        return errorOf([&] { parseRecipe(head + rest + "}", "a.json"); });
    };
    EXPECT_NE(refused(R"("choose": {"way": "sideways"})").find("forward"), std::string::npos);
    EXPECT_NE(refused(R"("choose": {"by": "luck"})").find("AICc"), std::string::npos);
    EXPECT_NE(refused(R"("choose": {"by": "p", "enter": 0.2, "leave": 0.1})").find("for ever"),
              std::string::npos);
    EXPECT_NE(refused(R"("choose": {"folds": 40})").find("choose.folds"), std::string::npos);
    EXPECT_NE(
        refused(R"("estimator": {"kind": "neighbours", "count": 3}, "choose": {})").find("coefficients"),
        std::string::npos);
}

} // namespace folds_test
