// What would help a fit. Values in diabetes_helps.json are made by tests/reference/make/helps_values.py: each
// F from two fits of a reference library, sums over rows left out from its influence measures.
#include "base/random.h"
#include "estimate/linear/screen.h"
#include "study/what_helps.h"
#include "support/support.h"

#include <set>

using namespace oxgoad;
using namespace oxgoad::test;

namespace what_helps_test {

StudyRows diabetes() {
    StudyRows rows = publishedRows("diabetes");
    std::vector<Column> columns;
    for (const Column& column : rows.learning.table.columns())
        columns.push_back(column.name() == "sex" ? column.converted(ColumnKind::factor).column : column);
    rows.learning.table = Table(columns);
    return rows;
}

WhatHelps helpsOf(const Recipe& recipe, const StudyRows& rows, Threads threads = {1}) {
    const auto prepared = prepareRows(recipe, rows, threads, quietly());
    return whatHelps(recipe, *prepared, threads, quietly());
}

const Help* find(const WhatHelps& helps, const std::string& name) {
    for (const Help& help : helps.helps)
        if (termName(help.term) == name) return &help;
    return nullptr;
}

TEST(WhatHelps, FTestsAndRowsLeftOutAgreeWithAReferenceLibrary) {
    const StudyRows rows = diabetes();
    const WhatHelps helps = helpsOf(recipeOf("y", {"bmi", "bp"}), rows);
    const auto expected = publishedJson("diabetes_helps");
    std::size_t compared = 0, leftOut = 0;
    for (const auto& [key, value] : expected.items()) {
        if (key == "press") continue;
        // Products are named in the order of the table.
        const Help* help = find(helps, key);
        if (!help && key.find(" × ") != std::string::npos) {
            const auto cut = key.find(" × ");
            help = find(helps, key.substr(cut + std::string(" × ").size()) + " × " + key.substr(0, cut));
        }
        ASSERT_TRUE(help) << key;
        EXPECT_GT(digits(help->f, value["f"]), 9) << key;
        EXPECT_GT(digits(help->p, value["p"]), 8) << key;
        EXPECT_EQ(help->numeratorDf, value["df1"].get<double>()) << key;
        EXPECT_EQ(help->denominatorDf, value["df2"].get<double>()) << key;
        EXPECT_GT(digits(help->share, value["share"]), 8) << key;
        ++compared;
        if (std::isnan(help->errorWith)) continue;
        EXPECT_GT(digits(help->errorWith * help->errorWith * 442, value["press"]), 9) << key;
        if (help->parents.empty()) {
            EXPECT_GT(digits(help->errorBefore * help->errorBefore * 442, expected["press"]), 10) << key;
        }
        ++leftOut;
    }
    EXPECT_EQ(compared, 8u);
    EXPECT_GE(leftOut, 2u);
    // 8 columns, a square and a logarithm of 9 numbers (bmi and bp among them), 45 pairs.
    EXPECT_EQ(helps.tried, 8u + 18u + 45u);
}

/// Of more columns than all pairs of can be tried: every column and bend, and pairs among those that are in
/// the model or add most. A planted product of two strong columns is found; it says how many were paired.
TEST(WhatHelps, OfManyColumnsPairsAreAmongTheStrongest) {
    RandomStream random(4, "many columns");
    constexpr std::size_t n = 400, p = 500;
    std::vector<Column> columns;
    std::vector<std::vector<double>> x(p, std::vector<double>(n));
    for (std::size_t j = 0; j < p; ++j) {
        for (double& value : x[j])
            value = random.normal();
        if (j == 44) x[j][7] = std::nan(""); // lacks a row
        columns.push_back(Column::ofNumbers("x" + std::to_string(j), x[j]));
    }
    std::vector<double> y(n);
    for (std::size_t i = 0; i < n; ++i)
        y[i] = x[3][i] + x[480][i] + 2 * x[3][i] * x[480][i] + x[9][i] * x[9][i] + 0.3 * random.normal();
    columns.push_back(Column::ofNumbers("y", y));
    StudyRows rows;
    rows.learning.table = Table(columns);
    const Recipe recipe = recipeOf("y", {"x3", "x12"});
    std::vector<std::size_t> told;
    const auto prepared = prepareRows(recipe, rows, {2}, quietly());
    const WhatHelps helps = whatHelps(recipe, *prepared, {2}, quietly(),
                                      [&](const WhatHelps& so) { told.push_back(so.helps.size()); });
    EXPECT_EQ(helps.pairsAmong, 316U);
    EXPECT_EQ(helps.tried, 498U + 500U + 316U * 315U / 2);
    EXPECT_EQ(termName(helps.helps[0].term), "x3 × x480");
    const Help* bend = find(helps, termName(Term{{TermPart{"x9", 2}}}));
    ASSERT_TRUE(bend);
    EXPECT_LT(bend->pAdjusted, 1e-6);
    EXPECT_TRUE(find(helps, "x3 × x12")) << "columns of the model are among them, however weak";
    // What is told grows, and not with every batch: some 50,000 are measured 100 or so at a time.
    EXPECT_TRUE(std::is_sorted(told.begin(), told.end()));
    EXPECT_GT(told.size(), 5U);
    EXPECT_LT(told.size(), 80U);
    const auto json = nlohmann::json::parse(helpsJson(helps, recipe));
    EXPECT_EQ(json.at("pairs_among"), 316);
    // The same on any number of threads.
    const WhatHelps again = helpsOf(recipe, rows, {1});
    EXPECT_EQ(helpsJson(again, recipe), helpsJson(helps, recipe));
    EXPECT_FALSE(nlohmann::json::parse(helpsJson(helpsOf(recipeOf("y", {"bmi"}), diabetes()), recipe))
                     .contains("pairs_among"));
}

TEST(WhatHelps, WhatTheModelNearlySaysLosesNoDigits) {
    // The logarithm of years is a line but for 1e-7 of its squares; refits to twice the precision are the
    // measure.
    for (const bool weighted : {false, true}) {
        RandomStream random(4, "years");
        const Eigen::Index n = 5000;
        Eigen::MatrixXd x(n, 1), log(n, 1), both(n, 2);
        std::vector<double> y, weights;
        for (Eigen::Index i = 0; i < n; ++i) {
            const double year = 2000 + 10 * random.uniform(), from = (year - 2005) / 5;
            x(i, 0) = year;
            log(i, 0) = std::log(year);
            y.push_back(from + 0.3 * from * from + 0.2 * random.normal());
            if (weighted) weights.push_back(0.5 + random.uniform());
        }
        both << x, log;
        const auto fitted = [&](const Eigen::MatrixXd& columns, const std::vector<double>& w) {
            return fitLeastSquares(MatrixRows(columns), y, {.rankTolerance = 1e-13, .weights = w}, quietly());
        };
        const LeastSquaresFit fit = fitted(x, weights), withLog = fitted(both, weights);
        ASSERT_TRUE(withLog.exact);
        const std::vector<ScreenBlock> blocks{{{0}, 0}};
        const auto added = screenBlocks(fit, MatrixRows(x), MatrixRows(log), blocks, weights, {2}, quietly());
        const double reduction = fit.residualSumOfSquares - withLog.residualSumOfSquares;
        ASSERT_GT(reduction, 0.1 * fit.residualSumOfSquares);
        EXPECT_NEAR(added[0].reduction, reduction, 1e-11 * reduction);
        EXPECT_EQ(added[0].numeratorDf, 1);
        const auto press =
            leaveOneOutWith(fit, MatrixRows(x), MatrixRows(log), blocks, weights, {2}, quietly());
        EXPECT_NEAR(press[0], leaveOneOutSquares(withLog), 1e-11 * press[0]);
    }
}

TEST(WhatHelps, PValuesAreAdjustedForAllThatWasTried) {
    const WhatHelps helps = helpsOf(recipeOf("y", {"bmi", "bp"}), diabetes());
    double smallest = 1;
    for (const Help& help : helps.helps) {
        EXPECT_GE(help.pAdjusted, help.p);
        smallest = std::min(smallest, help.p);
    }
    for (const Help& help : helps.helps)
        if (help.p == smallest) {
            EXPECT_NEAR(help.pAdjusted, smallest * static_cast<double>(helps.tried), 1e-12);
        }
}

TEST(WhatHelps, NoiseRarelySeemsToHelp) {
    // Holm's method keeps the chance of any false find among all that were tried below 5 %: of 40 sets of
    // noise more than six would be (binomial) one chance in 300.
    int found = 0;
    for (std::uint64_t seed = 0; seed < 40; ++seed) {
        RandomStream random(seed, "noise");
        std::vector<Column> columns;
        for (const char* name : {"y", "a", "b", "c", "d"}) {
            std::vector<double> values;
            for (int i = 0; i < 120; ++i)
                values.push_back(random.normal());
            columns.push_back(Column::ofNumbers(name, values));
        }
        StudyRows rows;
        rows.learning.table = Table(columns);
        const WhatHelps helps = helpsOf(recipeOf("y", {"a"}), rows);
        found += std::any_of(helps.helps.begin(), helps.helps.end(),
                             [](const Help& h) { return h.pAdjusted < 0.05; });
    }
    EXPECT_LE(found, 6);
}

TEST(WhatHelps, AColumnWithGapsIsMeasuredOnTheRowsThatHaveIt) {
    RandomStream random(9, "gaps");
    std::vector<double> x, z, y;
    for (int i = 0; i < 300; ++i) {
        x.push_back(random.normal());
        z.push_back(i % 3 == 0 ? std::nan("") : random.normal());
        y.push_back(x.back() + (std::isnan(z.back()) ? 100 : 2 * z.back()) + random.normal());
    }
    StudyRows rows, complete;
    rows.learning.table =
        Table({Column::ofNumbers("x", x), Column::ofNumbers("z", z), Column::ofNumbers("y", y)});
    const WhatHelps helps = helpsOf(recipeOf("y", {"x"}), rows);
    const Help* gapped = find(helps, "z");
    ASSERT_TRUE(gapped);
    EXPECT_EQ(gapped->rows, 200u);
    std::vector<double> xs, zs, ys;
    for (std::size_t i = 0; i < 300; ++i)
        if (!std::isnan(z[i])) {
            xs.push_back(x[i]);
            zs.push_back(z[i]);
            ys.push_back(y[i]);
        }
    complete.learning.table =
        Table({Column::ofNumbers("x", xs), Column::ofNumbers("z", zs), Column::ofNumbers("y", ys)});
    EXPECT_NEAR(gapped->f, find(helpsOf(recipeOf("y", {"x"}), complete), "z")->f, 1e-8 * gapped->f);
}

TEST(WhatHelps, DependentAndConstantColumnsAreNotOffered) {
    std::vector<double> x, twice, constant, y;
    for (int i = 0; i < 50; ++i) {
        x.push_back(i);
        twice.push_back(2 * i + 1);
        constant.push_back(5);
        y.push_back(i + (i % 7));
    }
    StudyRows rows;
    rows.learning.table = Table({Column::ofNumbers("x", x), Column::ofNumbers("twice", twice),
                                 Column::ofNumbers("constant", constant), Column::ofNumbers("y", y)});
    const WhatHelps helps = helpsOf(recipeOf("y", {"x"}), rows);
    EXPECT_FALSE(find(helps, "twice"));
    EXPECT_FALSE(find(helps, "constant"));
    EXPECT_EQ(helps.notSelected, 2u) << "the constant, and the column that repeats x";
    EXPECT_TRUE(find(helps, "x^2"));
}

TEST(WhatHelps, TheNumberOfThreadsChangesNothingAndParentsComeAlong) {
    const StudyRows rows = diabetes();
    const Recipe recipe = recipeOf("y", {"bmi"});
    const WhatHelps one = helpsOf(recipe, rows, {1}), many = helpsOf(recipe, rows, {4});
    EXPECT_EQ(helpsJson(one, recipe), helpsJson(many, recipe));
    const Help* pair = find(one, "sex × bmi");
    if (!pair) pair = find(one, "bmi × sex");
    ASSERT_TRUE(pair);
    const Recipe with = withHelp(recipe, *pair);
    ASSERT_EQ(with.terms.size(), 3u);
    EXPECT_EQ(termName(with.terms[1]), "sex");
    // The F of the pair is that of a fit with all of it.
    const Evidence e = evaluate(with, rows, {}, quietly());
    EXPECT_NEAR(e.linear->terms[2].f, pair->f, 1e-8 * pair->f);
}

TEST(WhatHelps, ThePlantedInteractionIsFirstAmongThePairsOfTheDemo) {
    const std::filesystem::path demo = OXGOAD_DEMO;
    const Recipe recipe = readRecipe(demo / "1_straight.json");
    const StudyRows rows = loadRows(recipe, demo, {}, quietly());
    const WhatHelps helps = helpsOf(recipe, rows, {});
    const auto first = std::find_if(helps.helps.begin(), helps.helps.end(),
                                    [](const Help& h) { return h.kind == Help::Kind::pair; });
    ASSERT_NE(first, helps.helps.end());
    EXPECT_EQ(termName(first->term), "list_rate × contract");
    EXPECT_LT(first->errorWith, 0.995 * first->errorBefore);
    EXPECT_LT(first->pAdjusted, 0.01);
}

TEST(WhatHelps, FillsInAndStopsWhenAsked) {
    const StudyRows rows = diabetes();
    const Recipe recipe = recipeOf("y", {"bmi"});
    const auto prepared = prepareRows(recipe, rows, {1}, quietly());
    std::size_t calls = 0, before = 0;
    Progress progress;
    whatHelps(recipe, *prepared, {1}, progress, [&](const WhatHelps& now) {
        EXPECT_GE(now.helps.size(), before);
        before = now.helps.size();
        ++calls;
    });
    EXPECT_GE(calls, 1u);
    struct : Progress {
        bool stopRequested() const override { return true; }
    } stopped;
    EXPECT_THROW(whatHelps(recipe, *prepared, {1}, stopped), Stopped);
}

} // namespace what_helps_test
