// What holds for every learner whatever its method: rows that weigh nothing teach nothing, units and orders
// of what it reads do not matter, and what cannot be learned is refused in a sentence.
#include "base/random.h"
#include "base/text.h"
#include "estimate/formula/formula.h"
#include "recipe/model_parts.h"
#include "study/evaluate.h"
#include "study/study.h"
#include "support/support.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace learner_edges_test {

struct Row {
    double a = 0, b = 0, w = 1, y = 0;
    std::string g = "p";
};

std::vector<Row> someRows(std::size_t n, unsigned seed) {
    RandomStream random(seed, "edges of learners");
    std::vector<Row> rows(n);
    for (std::size_t i = 0; i < n; ++i) {
        Row& row = rows[i];
        row.a = 1 + 9 * random.uniform();
        row.b = random.normal();
        row.g = std::string(1, "pqr"[random.below(3)]);
        row.y = 12 + 3 * std::sin(row.a) + 2 * row.b * (row.g == "q") + 0.3 * random.normal();
    }
    return rows;
}

std::string textOf(const std::vector<Row>& rows) {
    std::string text = "a,b,g,w,y\n";
    for (const Row& row : rows)
        text += exactText(row.a) + "," + exactText(row.b) + "," + row.g + "," + exactText(row.w) + "," +
                exactText(row.y) + "\n";
    return text;
}

Recipe recipeOfKind(const Settings& settings, bool weighted = false) {
    Recipe recipe = recipeOf("y", {"a", "b", "g"});
    recipe.estimator = settings;
    if (weighted) recipe.roles["w"] = Role::weight;
    return recipe;
}

std::shared_ptr<const Study> learned(const Recipe& recipe, const std::string& text) {
    StudyRows rows;
    rows.learning = readBytes(text);
    const auto prepared = prepareRows(recipe, rows, {2}, quietly());
    std::vector<std::uint32_t> all(prepared->table.rows());
    std::iota(all.begin(), all.end(), 0U);
    return learn(recipe, prepared->table, prepared->steps, "rows.csv", all, {2}, quietly());
}

/// What it says of each learning row.
VectorXd saidBy(const Recipe& recipe, const std::vector<Row>& rows) {
    return learned(recipe, textOf(rows))->trained.fitted;
}

const std::vector<Settings>& learners() {
    static const std::vector<Settings> all{
        {"forest", {{"trees", 30.0}}},
        {"quantile forest", {{"trees", 30.0}}},
        {"boosted", {{"rounds", 30.0}, {"smallest_leaf", 4.0}}},
        {"boosted", {{"rounds", 30.0}, {"smallest_leaf", 4.0}, {"loss", std::string("absolute")}}},
        {"boosted quantile", {{"rounds", 20.0}, {"smallest_leaf", 4.0}}},
        {"network", {{"layers", std::vector<double>{5}}, {"passes", 60.0}, {"restarts", 1.0}}},
        {"formula", {{"generations", 6.0}, {"population", 40.0}, {"largest", 9.0}}},
        {"average", {{"models", std::vector<std::string>{"least squares", "tree"}}}}};
    return all;
}

std::string nameOf(const Settings& settings) {
    return kindOf(settings).sentence(settings);
}

TEST(LearnerEdges, RowsThatWeighNothingTeachNothing) {
    std::vector<Row> rows = someRows(160, 1), other;
    for (std::size_t i = 0; i < rows.size(); i += 4)
        rows[i].w = 0;
    other = rows;
    for (Row& row : other)
        if (row.w == 0) row.y = 1e4;
    for (const Settings& settings : learners()) {
        const Recipe recipe = recipeOfKind(settings, true);
        const VectorXd said = saidBy(recipe, rows), spoilt = saidBy(recipe, other);
        EXPECT_EQ(said, spoilt) << nameOf(settings);
        EXPECT_LT(said.maxCoeff(), 40) << nameOf(settings);
    }
}

TEST(LearnerEdges, WeightsCountByTheirSharesOnly) {
    std::vector<Row> rows = someRows(150, 2), other;
    for (std::size_t i = 0; i < rows.size(); ++i)
        rows[i].w = 1 + static_cast<double>(i % 3);
    other = rows;
    for (Row& row : other)
        row.w *= 1024; // no rounding
    for (const Settings& settings : learners()) {
        if (settings.kind == "network") continue; // its penalty stands against the sum of the weights
        const Recipe recipe = recipeOfKind(settings, true);
        const VectorXd said = saidBy(recipe, rows), scaled = saidBy(recipe, other);
        EXPECT_LT((said - scaled).cwiseAbs().maxCoeff(), 1e-8) << nameOf(settings);
    }
}

TEST(LearnerEdges, TheUnitOfTheResponseDoesNotMatter) {
    const std::vector<Row> rows = someRows(150, 3);
    std::vector<Row> other = rows;
    for (Row& row : other)
        row.y = 4096 * row.y; // no rounding
    for (const Settings& settings : learners()) {
        if (settings.kind == "formula") continue; // constants are drawn on a scale of their own
        const VectorXd said = saidBy(recipeOfKind(settings), rows),
                       scaled = saidBy(recipeOfKind(settings), other);
        EXPECT_LT((4096 * said - scaled).cwiseAbs().maxCoeff(), 4096 * 1e-6) << nameOf(settings);
    }
}

TEST(LearnerEdges, TreesReadTheOrderOfNumbersOnly) {
    const std::vector<Row> rows = someRows(200, 4);
    std::vector<Row> other = rows;
    for (Row& row : other)
        row.a = std::exp(row.a), row.b = row.b * row.b * row.b;
    for (const Settings& settings : learners()) {
        // Of a forest rows that a tree was not given may lie on the other side of the middle of two others.
        if (!settings.kind.starts_with("boosted")) continue;
        const VectorXd said = saidBy(recipeOfKind(settings), rows),
                       turned = saidBy(recipeOfKind(settings), other);
        // Cuts lie between neighbouring values: the same rows go the same ways.
        EXPECT_LT((said - turned).cwiseAbs().maxCoeff(), 1e-9) << nameOf(settings);
    }
}

TEST(LearnerEdges, OfNamesOfLevelsNothingHangs) {
    const std::vector<Row> rows = someRows(150, 5);
    std::vector<Row> other = rows;
    for (Row& row : other)
        row.g = row.g == "p" ? "a name, \"quoted\"" : row.g == "q" ? "b" : "c";
    for (Row& row : other)
        if (row.g.starts_with("a name")) row.g = "\"a name, \"\"quoted\"\"\"";
    for (const Settings& settings : learners()) {
        const VectorXd said = saidBy(recipeOfKind(settings), rows),
                       renamed = saidBy(recipeOfKind(settings), other);
        EXPECT_EQ(said, renamed) << nameOf(settings);
    }
}

TEST(LearnerEdges, OneRowALevelAndConstantColumnsAreLearnedOrRefused) {
    std::vector<Row> rows = someRows(60, 6);
    for (std::size_t i = 0; i < rows.size(); ++i) {
        rows[i].g = "level" + std::to_string(i);
        rows[i].b = 2;
    }
    for (const Settings& settings : learners()) {
        VectorXd said;
        const std::string refused = errorOf([&] { said = saidBy(recipeOfKind(settings), rows); });
        if (refused.empty()) {
            EXPECT_TRUE(said.allFinite()) << nameOf(settings);
        } else {
            EXPECT_GT(refused.size(), 30U) << nameOf(settings);
            EXPECT_EQ(refused.find("nan"), std::string::npos) << refused;
        }
    }
}

TEST(LearnerEdges, AResponseOfOneValueIsSaidOrRefused) {
    std::vector<Row> rows = someRows(80, 7);
    for (Row& row : rows)
        row.y = 41.5;
    for (const Settings& settings : learners()) {
        VectorXd said;
        const std::string refused = errorOf([&] { said = saidBy(recipeOfKind(settings), rows); });
        if (refused.empty()) {
            EXPECT_LT((said.array() - 41.5).abs().maxCoeff(), 1e-6) << nameOf(settings);
        } else {
            EXPECT_NE(refused.find("same value"), std::string::npos) << refused;
        }
    }
}

TEST(LearnerEdges, LogarithmsAreCarriedBack) {
    std::vector<Row> rows = someRows(200, 8);
    for (Row& row : rows)
        row.y = std::exp(0.3 * row.y);
    for (const Settings& settings : learners()) {
        if (!kindOf(settings).can.logResponse) continue;
        Recipe recipe = recipeOfKind(settings);
        recipe.logResponse = true;
        recipe.setAside = SetAside{.share = 0.25, .seed = 2};
        StudyRows read;
        read.learning = readBytes(textOf(rows));
        const Evidence e = evaluate(recipe, read, {2}, quietly());
        EXPECT_GT(e.heldOut.rSquared, 0.1) << nameOf(settings);
        for (const double fitted : e.rows.fitted)
            EXPECT_TRUE(std::isnan(fitted) || fitted > 0) << nameOf(settings);
    }
}

TEST(LearnerEdges, FewRowsAreLearnedOrRefusedWithTheWayOut) {
    for (const std::size_t n : {1U, 2U, 3U, 5U, 9U, 15U})
        for (const Settings& settings : learners()) {
            VectorXd said;
            const std::string refused =
                errorOf([&] { said = saidBy(recipeOfKind(settings), someRows(n, 9)); });
            if (refused.empty()) {
                EXPECT_TRUE(said.allFinite()) << nameOf(settings) << " of " << n;
            } else {
                EXPECT_NE(refused.find('.'), std::string::npos) << refused;
            }
        }
}

TEST(FormulaUnits, SumsAreOfOneUnit) {
    const auto col = [](std::uint32_t j) { return FormulaNode{.operation = Operation::column, .column = j}; };
    const auto of = [](Operation operation) { return FormulaNode{.operation = operation}; };
    const FormulaNode two{.operation = Operation::constant, .constant = 2};
    const std::vector<Dimension> units{Dimension{{{"EUR", 1.0}}}, Dimension{{{"EUR", 1.0}}},
                                       Dimension{{{"m²", 1.0}}}, std::nullopt, Dimension{std::in_place}};
    using enum Operation;
    const std::vector<std::pair<FormulaTree, bool>> cases{
        {{of(add), col(0), col(1)}, true},
        {{of(add), col(0), col(2)}, false},
        {{of(subtract), col(0), col(2)}, false},
        {{of(add), col(0), of(multiply), two, col(2)}, true}, // its constant has a unit
        {{of(add), col(0), two}, true},
        {{of(add), col(0), col(3)}, true},  // no unit is known
        {{of(add), col(0), col(4)}, false}, // a level is a plain number
        {{of(add), col(0), of(multiply), col(0), col(4)}, true},
        {{of(divide), col(0), col(2)}, true},
        {{of(add), of(divide), col(0), col(2), col(0)}, false},
        {{of(add), of(multiply), of(divide), col(0), col(2), col(2), col(1)}, true},
        {{of(add), of(square), col(0), of(multiply), col(0), col(1)}, true},
        {{of(add), of(root), of(square), col(0), col(1)}, true},
        {{of(add), of(root), col(0), col(1)}, false},
        {{of(exponential), col(0)}, false},
        {{of(exponential), of(divide), col(0), col(1)}, true},
        {{of(exponential), of(multiply), two, col(0)}, true},
        {{of(sine), col(2)}, false},
        {{of(logarithm), col(0)}, true},
        {{of(add), of(logarithm), col(0), col(2)}, true}};
    for (const auto& [tree, agree] : cases)
        EXPECT_EQ(unitsAgree(tree, units), agree) << formulaText(tree, {"a", "b", "m", "x", "g"}, 3);
}

TEST(FormulaUnits, AreRespectedByASearch) {
    RandomStream random(10, "units of formulas");
    MatrixXd columns(120, 2);
    std::vector<double> y;
    for (Index i = 0; i < 120; ++i) {
        columns.row(i) << 1 + random.uniform(), 1 + random.uniform();
        y.push_back((columns(i, 0) + columns(i, 1)) * columns(i, 1));
    }
    FormulaOptions options;
    options.operations = {Operation::add, Operation::multiply};
    options.generations = 30;
    const auto plain = searchFormulas(columns, y, {}, options, {2}, quietly());
    EXPECT_LT(plain.back().mse, 1e-10) << "found where nothing is known of units";
    options.units = {Dimension{{{"EUR", 1.0}}}, Dimension{{{"m²", 1.0}}}};
    const auto minded = searchFormulas(columns, y, {}, options, {2}, quietly());
    ASSERT_FALSE(minded.empty());
    for (const FoundFormula& each : minded)
        EXPECT_TRUE(unitsAgree(each.tree, options.units)) << formulaText(each.tree, {"a", "b"}, 3);
}

TEST(FormulaUnits, ComeFromTheRecipeAndMakeAnotherModel) {
    Recipe recipe = recipeOfKind(
        {"formula",
         {{"generations", 6.0}, {"population", 40.0}, {"operations", std::vector<std::string>{"+"}}}});
    std::vector<Row> rows = someRows(90, 11);
    for (Row& row : rows)
        row.y = row.a + row.b;
    Recipe minded = recipe;
    minded.units["a"] = "EUR";
    minded.units["b"] = "m²";
    EXPECT_FALSE(sameModel(recipe, minded)) << "units count";
    Recipe straight = recipe, straightMinded = minded;
    straight.estimator = straightMinded.estimator = {};
    EXPECT_TRUE(sameModel(straight, straightMinded)) << "of a kind that reads none";
    const auto frontOf = [&](const Recipe& of) {
        const auto study = learned(of, textOf(rows));
        return dynamic_cast<const FormulaModel&>(*study->model).front;
    };
    EXPECT_LT(frontOf(recipe).back().mse, 1e-12);
    const std::vector<Dimension> units{Dimension{{{"EUR", 1.0}}}, Dimension{{{"m²", 1.0}}},
                                       Dimension{std::in_place}, Dimension{std::in_place}};
    std::size_t bare = 0;
    for (const FoundFormula& each : frontOf(recipe))
        bare += !unitsAgree(each.tree, units);
    EXPECT_GT(bare, 0U) << "a + b is found where nothing is known of units";
    for (const FoundFormula& each : frontOf(minded))
        EXPECT_TRUE(unitsAgree(each.tree, units)) << formulaText(each.tree, {"a", "b", "q", "r"}, 3);
}

} // namespace learner_edges_test
