// Forests, boosting, small networks and searched formulas: against loops of their own, closed forms and
// finite differences, and at their edges.
#include "base/random.h"
#include "base/text.h"
#include "core/stops.h"
#include "estimate/boosted/boosted.h"
#include "estimate/forest/forest.h"
#include "estimate/formula/formula.h"
#include "estimate/linear/linear_model.h"
#include "estimate/network/network.h"
#include "prepare/expression.h"
#include "recipe/model_parts.h"
#include "recipe/recipe_edits.h"
#include "study/study.h"
#include "study/tune.h"
#include "support/support.h"

#include <algorithm>
#include <cmath>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace learners_test {

std::string rowsText(unsigned seed, int n, double noise = 1, bool missing = false) {
    RandomStream random(seed, "learners");
    std::string text = "a,b,g,w,y\n";
    for (int i = 0; i < n; ++i) {
        const double a = 10 * random.uniform(), b = random.normal();
        const int g = static_cast<int>(random.below(4));
        const double y = 5 + 3 * std::sin(a) + 2 * b * (g == 2) + g + noise * random.normal();
        const bool lacks = missing && i % 7 == 0;
        text += (lacks ? std::string() : exactText(a)) + "," + exactText(b) + "," + "pqrs"[g] + "," +
                std::to_string(1 + i % 3) + "," + exactText(y) + "\n";
    }
    return text;
}

Recipe recipeWith(const Settings& settings, const std::vector<std::string>& columns = {"a", "b", "g"}) {
    Recipe recipe = recipeOf("y", columns);
    recipe.estimator = settings;
    return recipe;
}

std::shared_ptr<const Study> learned(const Recipe& recipe, const std::string& text,
                                     Progress& progress = quietly(), unsigned threads = 1) {
    StudyRows rows;
    rows.learning = readBytes(text);
    const auto prepared = prepareRows(recipe, rows, {threads}, quietly());
    std::vector<std::uint32_t> all(prepared->table.rows());
    std::iota(all.begin(), all.end(), 0U);
    if (recipe.estimator.kind.starts_with("network") || recipe.estimator.kind == "formula")
        std::erase_if(all, [&](auto row) { return prepared->table.columns()[0].isMissing(row); });
    return learn(recipe, prepared->table, prepared->steps, "rows.csv", all, {threads}, progress);
}

double meanSquare(const std::vector<double>& e) {
    double sum = 0;
    for (const double v : e)
        sum += v * v;
    return sum / static_cast<double>(e.size());
}

TEST(Forests, SayOfRowsNotDrawnWhatTheirTreesSay) {
    const Recipe recipe = recipeWith({"forest", {{"trees", 60.0}, {"stop_early", false}}});
    const auto study = learned(recipe, rowsText(1, 300));
    const auto& model = dynamic_cast<const ForestModel&>(*study->model);
    ASSERT_EQ(model.trees.trees(), 60U);
    // The drawing, made again: which rows each tree was not given.
    const Table table = readBytes(rowsText(1, 300)).table;
    MatrixXd inputs(300, 3);
    std::vector<std::uint32_t> all(300);
    std::iota(all.begin(), all.end(), 0U);
    BoundInputs(study->inputs, table, "").fill(all, inputs);
    std::vector<double> sum(300, 0), count(300, 0);
    for (std::size_t t = 0; t < 60; ++t) {
        RandomStream stream(1, "tree " + std::to_string(t) + " of a forest");
        std::vector<int> drawn(300, 0);
        for (int i = 0; i < 300; ++i)
            ++drawn[stream.below(300)];
        for (std::size_t i = 0; i < 300; ++i) {
            const std::vector<double> row{inputs(static_cast<Index>(i), 0), inputs(static_cast<Index>(i), 1),
                                          inputs(static_cast<Index>(i), 2)};
            if (drawn[i] > 0) continue;
            sum[i] += model.trees.nodes()[model.trees.leafOf(t, row.data())].value;
            ++count[i];
        }
    }
    ASSERT_EQ(study->trained.unseen.size(), 300U);
    for (std::size_t i = 0; i < 300; ++i)
        EXPECT_NEAR(study->trained.unseen[i], table.at("y", "").numbers()[i] - sum[i] / count[i], 1e-12);
    // And that is near what it misses of rows it never saw.
    const Table fresh = readBytes(rowsText(2, 2000)).table;
    std::vector<std::uint32_t> others(2000);
    std::iota(others.begin(), others.end(), 0U);
    const auto said = study->bind(fresh, "").predict(others, {1}, quietly());
    std::vector<double> errors;
    for (std::size_t i = 0; i < 2000; ++i)
        errors.push_back(fresh.at("y", "").numbers()[i] - said[i]);
    EXPECT_NEAR(meanSquare(study->trained.unseen) / meanSquare(errors), 1, 0.25);
    EXPECT_LT(meanSquare(errors), 3) << "of a variance of 8";
    EXPECT_EQ(model.learning.runs[0].step.size(), 6U);
    EXPECT_NEAR(model.learning.runs[0].unseen.back(), std::sqrt(meanSquare(study->trained.unseen)), 1e-12);
}

TEST(Forests, EndWhereMoreTreesDoNotHelp) {
    const auto study = learned(recipeWith({"forest", {{"trees", 2000.0}}}), rowsText(3, 150));
    const auto& model = dynamic_cast<const ForestModel&>(*study->model);
    EXPECT_LT(model.trees.trees(), 1500U);
    EXPECT_NE(model.learning.says.find("no more were grown"), std::string::npos) << model.learning.says;
}

TEST(Forests, OfOneColumnASplitAndAllColumnsHoldTogether) {
    // With all columns and one tree a forest is the tree of its drawn rows.
    const auto study =
        learned(recipeWith({"forest", {{"trees", 1.0}, {"columns_a_split", 1.0}}}), rowsText(4, 200));
    const auto& model = dynamic_cast<const ForestModel&>(*study->model);
    EXPECT_GT(model.trees.leaves(), 10U);
    EXPECT_LT(model.trees.leaves(), 41U) << "five rows a leaf";
    EXPECT_FALSE(study->trained.unseen.empty());
    EXPECT_LT(study->trained.unseen.size(), 120U);
}

TEST(Forests, ReadMissingValuesAndLevelsNeverSeen) {
    const auto study = learned(recipeWith({"forest", {{"trees", 20.0}}}), rowsText(5, 200, 1, true));
    MatrixXd inputs(2, 3);
    inputs << std::nan(""), 0, 1, 3, 0, INFINITY;
    EXPECT_TRUE(study->model->predict(inputs).allFinite());
}

TEST(QuantileForests, HoldTheSpreadOfEachPlace) {
    // The noise grows with a: intervals must too.
    RandomStream random(6, "spread");
    std::string text = "a,b,y\n";
    for (int i = 0; i < 1500; ++i) {
        const double a = random.uniform();
        text += exactText(a) + "," + exactText(random.uniform()) + "," +
                exactText((0.2 + 3 * a) * random.normal()) + "\n";
    }
    const auto study = learned(
        recipeWith({"quantile forest", {{"trees", 300.0}, {"smallest_leaf", 20.0}, {"stop_early", false}}},
                   {"a", "b"}),
        text);
    MatrixXd inputs(2, 2);
    inputs << 0.1, 0.5, 0.9, 0.5;
    const std::array shares{0.1, 0.9};
    const MatrixXd ends = study->model->quantiles(inputs, shares);
    const double narrow = ends(0, 1) - ends(0, 0), wide = ends(1, 1) - ends(1, 0);
    EXPECT_NEAR(narrow, 2 * 1.2816 * 0.5, 0.6);
    EXPECT_NEAR(wide, 2 * 1.2816 * 2.9, 2);
}

TreeRows boostRows(unsigned seed, std::size_t n, bool weighted = false) {
    RandomStream random(seed, "boosting");
    TreeRows rows;
    rows.columns.resize(2);
    rows.levels = {0, 5};
    for (std::size_t i = 0; i < n; ++i) {
        rows.columns[0].push_back(std::floor(20 * random.uniform()));
        rows.columns[1].push_back(std::floor(5 * random.uniform()));
        rows.y.push_back(rows.columns[0].back() * 0.3 + (rows.columns[1].back() == 2 ? 3 : 0) +
                         random.normal());
        if (weighted) rows.weights.push_back(std::floor(3 * random.uniform()));
    }
    return rows;
}

Inputs boostInputs() {
    return {{.name = "a", .factor = false, .levels = {}},
            {.name = "g", .factor = true, .levels = {"0", "1", "2", "3"}}};
}

TEST(Boosting, WithOneTreeIsTheTree) {
    for (const bool weighted : {false, true}) {
        const TreeRows rows = boostRows(7, 300, weighted);
        BoostOptions options;
        options.rounds = 1;
        options.rate = 1;
        options.leaves = 1000;
        options.smallestLeaf = 5;
        const Boosted one = boost(rows, boostInputs(), options, {2}, quietly());
        const std::vector<TreeNode> tree =
            growTree(rows, {.smallestLeaf = 5, .smallestSplit = 10}, {1}, quietly());
        TreeSet set(boostInputs());
        set.add(tree);
        for (std::size_t i = 0; i < rows.y.size(); ++i) {
            const double row[] = {rows.columns[0][i], rows.columns[1][i]};
            EXPECT_NEAR(one.start + one.trees.sum(row, 1), set.sum(row, 1), 1e-9) << i;
        }
    }
}

TEST(Boosting, FallsAtEveryRoundAndIsTheSameForAnyThreads) {
    const TreeRows rows = boostRows(8, 3000);
    for (const auto loss : {BoostOptions::Loss::squared, BoostOptions::Loss::absolute,
                            BoostOptions::Loss::huber, BoostOptions::Loss::quantile}) {
        BoostOptions options;
        options.loss = loss;
        options.share = 0.8;
        options.rounds = 40;
        options.leaves = 8;
        options.rate = 0.2;
        const Boosted one = boost(rows, boostInputs(), options, {1}, quietly());
        const Boosted two = boost(rows, boostInputs(), options, {2}, quietly());
        ASSERT_EQ(one.loss.size(), 40U);
        EXPECT_EQ(one.loss, two.loss);
        for (std::size_t k = 1; k < one.loss.size() && loss != BoostOptions::Loss::huber; ++k)
            EXPECT_LE(one.loss[k], one.loss[k - 1] * (1 + 1e-12));
        EXPECT_LT(one.loss.back(), 0.75 * one.loss.front());
        if (loss != BoostOptions::Loss::quantile) continue;
        // 80 % of the rows lie below.
        std::size_t below = 0;
        for (std::size_t i = 0; i < rows.y.size(); ++i) {
            const double row[] = {rows.columns[0][i], rows.columns[1][i]};
            below += rows.y[i] < one.start + one.trees.sum(row, one.trees.trees());
        }
        EXPECT_NEAR(static_cast<double>(below) / 3000, 0.8, 0.02);
    }
}

TEST(Boosting, TellsItsCourseAsItRuns) {
    struct Told final : Progress {
        void course(std::string_view run, double step, double learning, double unseen) override {
            EXPECT_EQ(run, "boosted");
            EXPECT_TRUE(std::isnan(unseen)) << "known at the end only";
            steps.push_back(step);
            losses.push_back(learning);
        }
        std::vector<double> steps, losses;
    } told;
    const auto study = learned(recipeWith({"boosted", {{"rounds", 25.0}}}), rowsText(5, 200), told);
    std::vector<double> counted(25);
    std::iota(counted.begin(), counted.end(), 1.0);
    EXPECT_EQ(told.steps, counted) << "each round once, and none of the models of parts";
    EXPECT_EQ(told.losses, study->model->course()->runs[0].learning) << "which is what is kept";
}

TEST(Boosting, KeepsToTheDirectionOfAColumn) {
    const std::string text = rowsText(9, 600);
    Recipe recipe = recipeWith({"boosted", {{"rounds", 60.0}, {"falling", std::vector<std::string>{"a"}}}});
    const auto study = learned(recipe, text);
    MatrixXd inputs(200, 3);
    for (Index i = 0; i < 200; ++i)
        inputs.row(i) << 0.05 * static_cast<double>(i), 0.3, 2;
    const MatrixXd said = study->model->predict(inputs);
    for (Index i = 1; i < 200; ++i)
        EXPECT_LE(said(i, 0), said(i - 1, 0) + 1e-12) << i;
    recipe.estimator.fields["falling"] = std::vector<std::string>{"g"};
    EXPECT_NE(errorOf([&] { learned(recipe, text); }).find("factor"), std::string::npos);
    recipe.estimator.fields["falling"] = std::vector<std::string>{"absent"};
    EXPECT_NE(errorOf([&] { learned(recipe, text); }).find("absent"), std::string::npos);
}

TEST(Boosting, RoundsAreFoundByFolds) {
    Recipe recipe = recipeWith(
        {"boosted", {{"rounds", std::string(smallestErrorRule)}, {"most_rounds", 400.0}, {"rate", 0.2}}});
    const auto study = learned(recipe, rowsText(10, 250, 2));
    ASSERT_TRUE(study->tuning);
    const double rounds = study->settings.number("rounds");
    EXPECT_GT(rounds, 2);
    EXPECT_LT(rounds, 200) << "noise is not learned by heart";
    const auto& course = *study->model->course();
    EXPECT_EQ(course.runs[0].step.size(), static_cast<std::size_t>(rounds));
    EXPECT_TRUE(std::isfinite(course.runs[0].unseen.back()));
}

TEST(Networks, HaveTheDerivativesOfFiniteDifferences) {
    RandomStream random(11, "shapes");
    for (int shape = 0; shape < 200; ++shape) {
        NetworkShape net;
        net.sizes = {1 + static_cast<std::ptrdiff_t>(random.below(5))};
        for (std::uint64_t l = random.below(4); l > 0; --l)
            net.sizes.push_back(1 + static_cast<std::ptrdiff_t>(random.below(6)));
        net.sizes.push_back(1);
        // A rectifier and absolute losses have corners, which differences may straddle: seldom, and not here.
        net.activation = static_cast<Activation>(random.below(4));
        net.loss = static_cast<NetworkShape::Loss>(random.below(3));
        net.share = 0.3;
        const auto rows = static_cast<Index>(1 + random.below(7));
        MatrixXd x(net.sizes[0], rows);
        for (double& v : x.reshaped())
            v = random.normal();
        std::vector<double> y, weights, parameters(net.parameters()), gradient, ignored;
        for (Index i = 0; i < rows; ++i)
            y.push_back(random.normal()), weights.push_back(0.5 + random.uniform());
        for (double& p : parameters)
            p = random.normal();
        net.lossOf(parameters, x, y, weights, gradient);
        for (std::size_t k = 0; k < parameters.size(); ++k) {
            constexpr double by = 1e-6;
            std::vector<double> up = parameters, down = parameters;
            up[k] += by, down[k] -= by;
            const double slope =
                (net.lossOf(up, x, y, weights, ignored) - net.lossOf(down, x, y, weights, ignored)) /
                (2 * by);
            EXPECT_NEAR(gradient[k], slope, 2e-5 * std::max(1.0, std::fabs(slope))) << shape << " " << k;
        }
    }
}

TEST(Networks, WithoutHiddenLayersAreLeastSquares) {
    const std::string text = rowsText(12, 120);
    for (const bool weighted : {false, true}) {
        Recipe recipe = recipeWith({"network", {{"layers", std::vector<double>{}}, {"weight_penalty", 0.0}}});
        if (weighted) recipe.roles["w"] = Role::weight;
        const auto network = learned(recipe, text);
        recipe.estimator = {};
        const auto squares = learned(recipe, text);
        EXPECT_LT((network->trained.fitted - squares->trained.fitted).cwiseAbs().maxCoeff(), 1e-10);
    }
}

TEST(Networks, LearnCurvesAndAreTheSameForAnyThreads) {
    const Recipe recipe = recipeWith(
        {"network",
         {{"layers", std::vector<double>{12}}, {"passes", 400.0}, {"restarts", 2.0}, {"batch", 600.0}}});
    const std::string text = rowsText(13, 700, 0.3);
    const auto one = learned(recipe, text, quietly(), 1), two = learned(recipe, text, quietly(), 2);
    const auto& model = dynamic_cast<const NetworkModel&>(*one->model);
    EXPECT_EQ(model.parameters, dynamic_cast<const NetworkModel&>(*two->model).parameters);
    EXPECT_EQ(model.learning.runs.size(), 2U);
    EXPECT_EQ(model.restarts.size(), 2U);
    EXPECT_EQ(model.learning.spreads.size(), 4U);
    Recipe straight = recipe;
    straight.estimator = {};
    const auto line = learned(straight, text);
    EXPECT_LT(one->trained.residuals.squaredNorm(), 0.5 * line->trained.residuals.squaredNorm());
    EXPECT_FALSE(model.learning.says.empty());
}

TEST(Networks, EndWhenTheLossIsNoNumberAndKeepTheBest) {
    NetworkShape net;
    net.sizes = {1, 4, 1};
    net.activation = Activation::rectifier;
    NetworkRows rows;
    rows.x = MatrixXd::Random(1, 50) * 1e200;
    for (int i = 0; i < 50; ++i)
        rows.y.push_back(i);
    NetworkOptions options;
    options.passes = 50;
    options.rate = 10;
    const TrainedNetwork found = train(net, options, rows, {}, 1, {1}, quietly());
    EXPECT_NE(found.ended.find("no number in step"), std::string::npos) << found.ended;
    for (const auto& layers : {std::vector<double>{1, 1, 1, 1}, {0.0}, {2.5}})
        EXPECT_NE(errorOf([&] {
                      learned(recipeWith({"network", {{"layers", layers}}}), rowsText(1, 60));
                  }).find("three hidden layers"),
                  std::string::npos);
}

/// Serves the stop that it asked for itself after some reports.
class StopsAndKeeps : public Progress {
public:
    explicit StopsAndKeeps(int after) : m_after(after) {}
    void report(double, std::string_view) override { --m_after; }
    bool stopRequested() const override { return m_after <= 0 && !m_served; }
    bool serveStop() override { return m_served = true; }

private:
    int m_after;
    bool m_served = false;
};

TEST(Networks, KeepTheBestWhenStopped) {
    StopsAndKeeps progress(30);
    const auto study =
        learned(recipeWith({"network", {{"passes", 100000.0}, {"patience", 0.0}, {"restarts", 3.0}}}),
                rowsText(14, 100), progress);
    EXPECT_FALSE(study->outcome.converged);
    EXPECT_NE(study->outcome.why.find("stopped after pass"), std::string::npos) << study->outcome.why;
    EXPECT_TRUE(study->trained.fitted.allFinite());
}

TEST(Formulas, SayTheSameSimplifiedAndWithinTheirRanges) {
    RandomStream random(15, "formulas");
    MatrixXd columns(40, 2);
    for (double& v : columns.reshaped())
        v = 0.5 + 3 * random.uniform();
    std::vector<ValueRange> ranges;
    for (Index j = 0; j < 2; ++j)
        ranges.push_back({columns.col(j).minCoeff(), columns.col(j).maxCoeff()});
    const std::vector<std::string> names{"u", "v"};
    const Table table({Column::ofNumbers("u", {columns.col(0).begin(), columns.col(0).end()}),
                       Column::ofNumbers("v", {columns.col(1).begin(), columns.col(1).end()})});
    std::function<void(FormulaTree&, int)> grow = [&](FormulaTree& tree, int depth) {
        if (depth == 0 || random.uniform() < 0.2) {
            if (random.uniform() < 0.6)
                tree.push_back(
                    {.operation = Operation::column, .column = static_cast<std::uint32_t>(random.below(2))});
            else
                tree.push_back(
                    {.operation = Operation::constant, .constant = std::round(6 * random.uniform() - 3)});
            return;
        }
        const auto operation = static_cast<Operation>(2 + random.below(10));
        tree.push_back({.operation = operation});
        for (int k = 0; k < operandsOf(operation); ++k)
            grow(tree, depth - 1);
    };
    int defined = 0;
    for (int k = 0; k < 600; ++k) {
        FormulaTree tree;
        grow(tree, 4);
        ASSERT_EQ(endOf(tree, 0), tree.size());
        const ValueRange range = rangeOf(tree, ranges);
        if (!range.defined()) continue;
        ++defined;
        const Eigen::ArrayXd values = valuesOf(tree, columns), again = valuesOf(simplified(tree), columns);
        const double size = std::max(1.0, values.abs().maxCoeff());
        EXPECT_TRUE(values.allFinite());
        EXPECT_LE(simplified(tree).size(), tree.size() + 2);
        EXPECT_LT((values - again).abs().maxCoeff(), 1e-9 * size) << formulaText(tree, names, 0);
        EXPECT_GE(values.minCoeff(), range.low - 1e-9 * size);
        EXPECT_LE(values.maxCoeff(), range.high + 1e-9 * size);
        // What becomes a column says the same.
        const std::string text = expressionText(tree, names);
        if (size > 1e6 || (text.find("exp") != std::string::npos &&
                           (text.find("sin") != std::string::npos || text.find("cos") != std::string::npos)))
            continue; // a turn of a large angle is said by its last digits
        const auto worked = Expression::parse(text, table.columns()).evaluate(table.columns());
        for (Index i = 0; i < 40; ++i)
            EXPECT_NEAR(worked[static_cast<std::size_t>(i)], values[i], 1e-9 * size) << text;
    }
    EXPECT_GT(defined, 100);
}

TEST(Formulas, AreRecoveredFromRowsWithoutNoise) {
    // Of the shapes in use as benchmarks of symbolic regression: polynomials and quotients (Koza 1992, ch.
    // 10; Uy and others 2011, Genetic Programming and Evolvable Machines 12, table 1), and laws of physics of
    // the same size (from memory).
    struct Wanted {
        const char* name;
        std::function<double(double, double)> f;
        std::vector<std::string> operations;
    };
    const std::vector<std::string> plain{"+", "−", "×", "÷"};
    const std::vector<Wanted> all{
        {"x³ + x² + x", [](double x, double) { return x * x * x + x * x + x; }, plain},
        {"x⁴ + x³ + x² + x", [](double x, double) { return x * (1 + x * (1 + x * (1 + x))); }, plain},
        {"x² + y", [](double x, double y) { return x * x + y; }, plain},
        {"x·y", [](double x, double y) { return x * y; }, plain},
        {"x / y", [](double x, double y) { return x / y; }, plain},
        {"2.5 − 3·x·y", [](double x, double y) { return 2.5 - 3 * x * y; }, plain},
        {"x / (x + y)", [](double x, double y) { return x / (x + y); }, plain},
        {"ln(x) + y", [](double x, double y) { return std::log(x) + y; }, {"+", "×", "ln"}},
        {"√x · y", [](double x, double y) { return std::sqrt(x) * y; }, {"+", "×", "√"}},
        {"3·exp(−x)", [](double x, double) { return 3 * std::exp(-x); }, {"+", "−", "×", "exp"}}};
    int recovered = 0;
    for (const Wanted& wanted : all) {
        RandomStream random(16, wanted.name);
        MatrixXd columns(80, 2);
        std::vector<double> y;
        for (Index i = 0; i < 80; ++i) {
            columns.row(i) << 0.5 + 2 * random.uniform(), 0.5 + 2 * random.uniform();
            y.push_back(wanted.f(columns(i, 0), columns(i, 1)));
        }
        FormulaOptions options;
        options.generations = 60;
        for (const auto& name : wanted.operations)
            for (int o = 2; o < 12; ++o)
                if (operationName(static_cast<Operation>(o)) == name)
                    options.operations.push_back(static_cast<Operation>(o));
        const auto front = searchFormulas(columns, y, {}, options, {2}, quietly());
        const double variance = [&] {
            const Eigen::Map<const Eigen::ArrayXd> v(y.data(), 80);
            return (v - v.mean()).square().mean();
        }();
        const bool found = front.back().mse < 1e-9 * variance;
        recovered += found;
        EXPECT_LT(front.back().mse, 1e-3 * variance)
            << wanted.name << ": " << formulaText(front.back().tree, {"x", "y"}, 4);
    }
    EXPECT_GE(recovered, 9);
}

TEST(Formulas, BecomeTermsAndAreTheSameForAnyThreads) {
    RandomStream random(17, "terms");
    std::string text = "list rate,places,contract,y\n";
    for (int i = 0; i < 150; ++i) {
        const double rate = 10 + 20 * random.uniform(), places = 100 + 900 * random.uniform();
        const bool annual = random.uniform() < 0.5;
        text += exactText(rate) + "," + exactText(places) + (annual ? ",annual," : ",spot,") +
                exactText(2 * rate * places + (annual ? 4000 : 0) + 300 * random.normal()) + "\n";
    }
    Recipe recipe = recipeWith({"formula", {{"generations", 40.0}, {"largest", 15.0}}},
                               {"list rate", "places", "contract"});
    const auto study = learned(recipe, text), again = learned(recipe, text, quietly(), 2);
    EXPECT_EQ(study->model->text(), again->model->text());
    const auto& model = dynamic_cast<const FormulaModel&>(*study->model);
    EXPECT_LT(study->trained.residuals.squaredNorm() / 150, 4.5e6);
    double shares = 0;
    for (const double share : model.shares)
        shares += share;
    EXPECT_GT(shares, 0.9);
    // A straight model of it says nearly the same.
    const Recipe straight = withExpressionTerm(recipe, "formula", expressionText(model.tree(), model.names));
    const auto line = learned(straight, text);
    EXPECT_LE(line->trained.residuals.squaredNorm(), study->trained.residuals.squaredNorm() * (1 + 1e-6));
    // Bad input.
    recipe.estimator.fields["operations"] = std::vector<std::string>{};
    EXPECT_NE(errorOf([&] { learned(recipe, text); }).find("no operation"), std::string::npos);
    recipe.estimator.fields["operations"] = std::vector<std::string>{"%"};
    EXPECT_NE(errorOf([&] { learned(recipe, text); }).find("no operation of formulas"), std::string::npos);
}

TEST(Learners, AreReadBackAndStop) {
    for (const Settings& settings :
         {Settings{"forest", {{"trees", 20.0}}}, Settings{"quantile forest", {{"trees", 20.0}}},
          Settings{"boosted", {{"rounds", 20.0}}}, Settings{"boosted quantile", {{"rounds", 20.0}}},
          Settings{"network", {{"passes", 20.0}, {"restarts", 1.0}}},
          Settings{"formula", {{"generations", 5.0}, {"population", 30.0}}}}) {
        const auto study = learned(recipeWith(settings), rowsText(18, 120));
        const auto again = readModel(study->model->text());
        EXPECT_EQ(again->text(), study->model->text()) << settings.kind;
        MatrixXd inputs(1, 3);
        inputs << 4, 0.5, 2;
        EXPECT_EQ(again->predict(inputs), study->model->predict(inputs)) << settings.kind;
        EXPECT_FALSE(kindOf(settings).describe(*study->model, {}).json.empty());
    }
}

} // namespace learners_test
