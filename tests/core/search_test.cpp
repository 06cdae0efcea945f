// A search under a budget: it finds what is there, tells it, is the same again, and sees no row it must not
// see.
#include "base/random.h"
#include "base/text.h"
#include "core/stops.h"
#include "estimate/average/average.h"
#include "study/search.h"
#include "study/search_space.h"
#include "support/support.h"

#include <Eigen/Cholesky>

#include <cmath>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace search_test {

std::string curvedRows(unsigned seed, int n, double noise = 0.5, bool pure = false) {
    RandomStream random(seed, "search");
    std::string text = "a,b,g,y\n";
    for (int i = 0; i < n; ++i) {
        const double a = 10 * random.uniform(), b = random.normal();
        const int g = static_cast<int>(random.below(3));
        const double y = pure ? 0 : 20 + 4 * std::sin(a) + b + g;
        text += exactText(a) + "," + exactText(b) + "," + "pqr"[g] + "," +
                exactText(y + noise * random.normal()) + "\n";
    }
    return text;
}

Recipe searchRecipe() {
    Recipe recipe = recipeOf("y", {"a", "b", "g"});
    recipe.units["y"] = "EUR";
    return recipe;
}

SearchFound searched(const Recipe& recipe, const std::string& text, const SearchPlan& plan,
                     Progress& progress = quietly(), unsigned threads = 1) {
    StudyRows rows;
    rows.learning = readBytes(text);
    const auto prepared = prepareRows(recipe, rows, {threads}, quietly());
    return search(recipe, *prepared, "rows.csv", plan, {threads}, progress);
}

SearchPlan quickPlan(std::size_t fits = 70) {
    SearchPlan plan;
    plan.fits = fits;
    plan.kinds = {"least squares", "tree", "neighbours", "boosted"};
    return plan;
}

TEST(Search, FindsAndTellsWhatIsThere) {
    const SearchFound found = searched(searchRecipe(), curvedRows(1, 300), quickPlan(110));
    EXPECT_LT(found.bestRmse, 0.45 * found.straightRmse);
    EXPECT_NEAR(found.straightRmse, 2.9, 0.4);
    EXPECT_GE(found.certainty, 0.99);
    EXPECT_GE(found.corrected, found.bestRmse);
    EXPECT_LE(found.fits, 110U + 5);
    for (const char* says :
         {"The best is ", "less than the straight model", "corrected for having been chosen",
          "neither learned from nor looked at", " EUR", "It ended by 110 fits"})
        EXPECT_NE(found.says.find(says), std::string::npos) << says << " in " << found.says;
    std::size_t early = 0;
    for (const Tried& tried : found.tried) {
        EXPECT_FALSE(tried.ended.empty());
        early += tried.ended.starts_with("stopped after");
    }
    EXPECT_GT(early, 3U);
    // What it proposes is what it judged.
    const Recipe proposed = withTried(searchRecipe(), found.tried[found.best]);
    EXPECT_EQ(proposed.estimator, found.tried[found.best].recipe.estimator);
    EXPECT_NE(searchCsv(found).find("judged by all folds"), std::string::npos);
    EXPECT_EQ(nlohmann::json::parse(searchJson(found)).at("tried"), found.tried.size());
}

TEST(Search, IsTheSameAgainAndForAnyThreads) {
    const std::string text = curvedRows(2, 150);
    const SearchFound one = searched(searchRecipe(), text, quickPlan()),
                      two = searched(searchRecipe(), text, quickPlan(), quietly(), 2);
    ASSERT_EQ(one.tried.size(), two.tried.size());
    for (std::size_t k = 0; k < one.tried.size(); ++k) {
        EXPECT_EQ(one.tried[k].says, two.tried[k].says);
        EXPECT_TRUE(one.tried[k].mse == two.tried[k].mse || std::isnan(one.tried[k].mse));
    }
    EXPECT_EQ(one.corrected, two.corrected);
    SearchPlan other = quickPlan();
    other.seed = 2;
    const SearchFound three = searched(searchRecipe(), text, other);
    bool differs = three.tried.size() != one.tried.size();
    for (std::size_t k = 0; k < std::min(one.tried.size(), three.tried.size()); ++k)
        differs = differs || one.tried[k].says != three.tried[k].says;
    EXPECT_TRUE(differs);
}

TEST(Search, NeverLooksAtRowsSetAside) {
    // The responses of held-out and test rows are other ones: nothing may change.
    Recipe recipe = searchRecipe();
    recipe.setAside = SetAside{};
    recipe.setAside->share = 0.3;
    recipe.setAside->testShare = 0.1;
    StudyRows rows;
    rows.learning = readBytes(curvedRows(3, 200));
    const auto prepared = prepareRows(recipe, rows, {1}, quietly());
    const SearchFound one = search(recipe, *prepared, "rows.csv", quickPlan(40), {1}, quietly());
    std::vector<double> y(rows.learning.table.at("y", "").numbers().begin(),
                          rows.learning.table.at("y", "").numbers().end());
    std::size_t changed = 0;
    for (std::size_t i = 0; i < y.size(); ++i)
        if (prepared->parts[i] != Part::learning) y[i] = 1000 + static_cast<double>(i), ++changed;
    ASSERT_GT(changed, 40U);
    StudyRows spoiled = rows;
    spoiled.learning.table = rows.learning.table.withColumn(Column::ofNumbers("y", y));
    const auto other = prepareRows(recipe, spoiled, {1}, quietly());
    const SearchFound two = search(recipe, *other, "rows.csv", quickPlan(40), {1}, quietly());
    ASSERT_EQ(one.tried.size(), two.tried.size());
    for (std::size_t k = 0; k < one.tried.size(); ++k)
        EXPECT_EQ(one.tried[k].mse, two.tried[k].mse) << one.tried[k].says;
    EXPECT_EQ(one.says.substr(one.says.find("The")), two.says.substr(two.says.find("The")));
}

TEST(Search, CorrectsTheErrorOfTheBestOnPureNoise) {
    // Nothing can be said of these rows: the true error of any honest model is 1 or more.
    double best = 0, corrected = 0;
    int covered = 0;
    constexpr int sets = 24;
    for (int set = 1; set <= sets; ++set) {
        SearchPlan plan = quickPlan(60);
        plan.kinds = {"least squares", "tree", "neighbours"};
        const SearchFound found = searched(
            searchRecipe(), curvedRows(100 + static_cast<unsigned>(set), 60, 1, true), plan, quietly(), 2);
        best += found.bestRmse / sets;
        corrected += found.corrected / sets;
        covered += found.correctedLower <= 1.02 && found.correctedUpper >= 1.0;
    }
    EXPECT_GT(corrected, best);
    EXPECT_GE(covered, sets - 4);
}

TEST(Search, EndsByItsBudgetsAndStops) {
    const std::string text = curvedRows(4, 80);
    SearchPlan patience;
    patience.patience = 6;
    patience.kinds = {"tree", "neighbours"};
    EXPECT_NE(searched(searchRecipe(), text, patience).endedBy.find("without a better one"),
              std::string::npos);
    SearchPlan minutes;
    minutes.minutes = 0.01;
    minutes.kinds = {"tree", "neighbours"};
    EXPECT_NE(searched(searchRecipe(), text, minutes).endedBy.find("minutes"), std::string::npos);
    StopsAfterAsked stopping(40);
    EXPECT_THROW(searched(searchRecipe(), text, quickPlan(100000), stopping), Stopped);
}

TEST(Search, RefusesWhatItCannotDo) {
    const std::string text = curvedRows(5, 60);
    const auto refusal = [&](const SearchPlan& plan) {
        return errorOf([&] { searched(searchRecipe(), text, plan); });
    };
    EXPECT_NE(refusal({}).find("budget of nothing"), std::string::npos);
    SearchPlan unknown = quickPlan();
    unknown.kinds = {"oracle"};
    EXPECT_NE(refusal(unknown).find("\"oracle\" is no kind"), std::string::npos);
    for (const char* plan :
         {"[]", "{", R"({"minutes": -1})", R"({"fits": 1.5})", R"({"kinds": "forest"})", R"({"speed": 1})"})
        EXPECT_NE(errorOf([&] { searchPlanFrom(plan, "plan.json"); }), "") << plan;
    const SearchPlan plan =
        searchPlanFrom(R"({"fits": 12, "kinds": ["tree"], "logs": false, "seed": 9})", "");
    EXPECT_EQ(searchPlanText(searchPlanFrom(searchPlanText(plan), "")), searchPlanText(plan));
}

TEST(Search, TriesFormsOfTheTermsAndGoesWithoutSome) {
    // a is spread over more than ten times its smallest value; what counts is its logarithm.
    RandomStream random(6, "forms");
    std::string text = "a,b,g,y\n";
    for (int i = 0; i < 200; ++i) {
        const double a = std::exp(6 * random.uniform()), b = random.normal();
        text += exactText(a) + "," + exactText(b) + "," + "pq"[i % 2] + "," +
                exactText(10 + 3 * std::log(a) + 0.2 * random.normal()) + "\n";
    }
    SearchPlan plan = quickPlan(150);
    plan.kinds = {"least squares", "tree"};
    const SearchFound found = searched(searchRecipe(), text, plan);
    std::size_t logs = 0, curves = 0, products = 0, fewer = 0;
    for (const Tried& tried : found.tried) {
        logs += tried.says.find("logarithms of numbers") != std::string::npos;
        curves += tried.says.find("numbers as curves") != std::string::npos;
        products += tried.says.find("all products of two") != std::string::npos;
        if (tried.says.find("without ") == std::string::npos) continue;
        ++fewer;
        EXPECT_LT(tried.recipe.terms.size(), searchRecipe().terms.size()) << tried.says;
        EXPECT_FALSE(tried.recipe.terms.empty());
    }
    EXPECT_GT(std::min({logs, curves, products, fewer}), 0U)
        << logs << " " << curves << " " << products << " " << fewer;
    EXPECT_NE(found.tried[found.best].says.find("logarithms of numbers"), std::string::npos)
        << found.tried[found.best].says;
    // And none of it where that is not asked for.
    plan.terms = plan.logs = false;
    for (const Tried& tried : searched(searchRecipe(), text, plan).tried) {
        EXPECT_EQ(tried.recipe.terms.size(), searchRecipe().terms.size()) << tried.says;
        EXPECT_FALSE(tried.recipe.logResponse);
    }
}

TEST(Search, PutsTheBestFirst) {
    std::vector<Tried> tried(5);
    const auto set = [&](std::size_t k, std::size_t folds, double mse, bool whole) {
        tried[k].folds = folds, tried[k].mse = mse, tried[k].whole = whole;
    };
    set(0, 1, 0.1, false);
    set(1, 5, 4, true);
    set(2, 0, std::nan(""), false);
    set(3, 5, 2, true);
    set(4, 3, 1, false);
    EXPECT_EQ(bestFirst(tried), (std::vector<std::size_t>{3, 1, 4, 0, 2}));
    EXPECT_EQ(tried[1].rmse(), 2);
    EXPECT_TRUE(bestFirst({}).empty());
}

TEST(SearchSpaces, OfAFamilyAreSearched) {
    ASSERT_FALSE(searchFamilies().empty());
    for (const SearchFamily& family : searchFamilies())
        for (const std::string& kind : family.kinds)
            EXPECT_TRUE(searchSpaceOf(kind)) << family.name << ": " << kind;
}

TEST(SearchSpaces, NameFieldsOfTheirKindsAndStayWithin) {
    RandomStream stream(1, "spaces");
    for (const SearchSpace& space : searchSpaces()) {
        ASSERT_TRUE(findModelKind(space.kind)) << space.kind;
        for (int k = 0; k < 50; ++k) {
            const Settings drawn = drawnSettings(space, stream);
            EXPECT_NO_THROW(checkSettings(drawn)) << space.kind;
            EXPECT_NO_THROW(checkSettings(nearSettings(space, drawn, stream))) << space.kind;
        }
    }
}

TEST(Averages, WeighByNonNegativeLeastSquares) {
    // Against all subsets of columns, in 60 random problems.
    RandomStream random(6, "weights");
    for (int problem = 0; problem < 60; ++problem) {
        MatrixXd x(12, 3);
        VectorXd y(12);
        for (double& v : x.reshaped())
            v = random.normal();
        for (double& v : y)
            v = random.normal();
        const VectorXd w = nonNegativeLeastSquares(x.transpose() * x, x.transpose() * y);
        EXPECT_GE(w.minCoeff(), 0);
        double best = y.squaredNorm();
        for (int set = 1; set < 8; ++set) {
            std::vector<Index> in;
            for (Index k = 0; k < 3; ++k)
                if (set >> k & 1) in.push_back(k);
            const MatrixXd part = x(Eigen::all, in);
            const VectorXd own = (part.transpose() * part).ldlt().solve(part.transpose() * y);
            if (own.minCoeff() >= 0) best = std::min(best, (y - part * own).squaredNorm());
        }
        EXPECT_NEAR((y - x * w).squaredNorm(), best, 1e-9 * best);
    }
}

TEST(Averages, AreAsGoodAsTheirParts) {
    StudyRows rows;
    rows.learning = readBytes(curvedRows(7, 250));
    Recipe recipe = searchRecipe();
    recipe.estimator = {"average", {{"models", std::vector<std::string>{"least squares", "forest"}}}};
    const auto prepared = prepareRows(recipe, rows, {2}, quietly());
    std::vector<std::uint32_t> all(250);
    std::iota(all.begin(), all.end(), 0U);
    const auto study = learn(recipe, prepared->table, prepared->steps, "rows.csv", all, {2}, quietly());
    const auto& model = dynamic_cast<const AverageModel&>(*study->model);
    EXPECT_GT(model.weights[1], 0.7) << "the forest follows the curve";
    const auto again = readModel(model.text());
    MatrixXd inputs(1, 3);
    inputs << 3, 0.2, 1;
    EXPECT_EQ(again->predict(inputs), model.predict(inputs));
    for (const auto& names :
         {std::vector<std::string>{"forest"}, {"forest", "nothing"}, {"forest", "gamma"}}) {
        recipe.estimator.fields["models"] = names;
        EXPECT_NE(errorOf([&] {
                      learn(recipe, prepared->table, prepared->steps, "rows.csv", all, {1}, quietly());
                  }),
                  "");
    }
}

} // namespace search_test
