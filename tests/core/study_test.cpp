// Recipe to evidence: forms, refusals, leaks, reach, goads.
#include "check/checks.h"
#include "recipe/change_text.h"
#include "share/exports.h"
#include "study/trail.h"
#include "support/support.h"

#include <algorithm>

using namespace oxgoad;
using namespace oxgoad::test;

namespace study_test {

constexpr const char* wholeRecipe =
    R"({"recipe": 1, "rows": {"file": "depot_months.csv"}, "response": "revenue",
 "terms": ["list_rate", {"column": "x", "power": 3}, {"log": "places"}, {"product": ["list_rate", "contract"]}],
 "intercept": true, "reference": {"contract": "spot"}, "estimator": {"kind": "least squares"},
 "set_aside": {"kind": "random", "share": 0.25, "seed": 7}, "forecast": {"file": "plan.csv", "level": 0.95}})";

/// y = 10 + 2x, +5 for b and −3 for c, with a little noise; 60 rows.
std::string smallRows() {
    std::string text = "x,g,y\n";
    for (int i = 0; i < 60; ++i) {
        const double x = i % 20;
        const int g = i / 20;
        const double noise = ((i * 37) % 11 - 5) / 10.0;
        text += std::to_string(x) + "," + "abc"[g] + "," +
                std::to_string(10 + 2 * x +
                               (g == 1   ? 5
                                : g == 2 ? -3
                                         : 0) +
                               noise) +
                "\n";
    }
    return text;
}

StudyRows rowsOf(const std::string& learning, const std::string& forecast = {}) {
    StudyRows rows;
    rows.learning = readTextBytes(learning, "rows.csv", {}, {1}, quietly());
    if (!forecast.empty()) {
        TextOptions options;
        options.kindsMayBeAbsent = true;
        for (const Column& c : rows.learning.table.columns())
            options.kinds[c.name()] = c.kind();
        rows.forecast = readTextBytes(forecast, "plan.csv", options, {1}, quietly());
    }
    return rows;
}

const CoefficientEvidence& coefficient(const Evidence& e, const std::string& name) {
    const auto found = std::find_if(e.linear->coefficients.begin(), e.linear->coefficients.end(),
                                    [&](const auto& c) { return c.name == name; });
    if (found == e.linear->coefficients.end()) throw std::runtime_error("no coefficient " + name);
    return *found;
}

const Goad* goad(const Evidence& e, const std::string& key) {
    const auto found =
        std::find_if(e.goads.begin(), e.goads.end(), [&](const auto& g) { return g.key == key; });
    return found == e.goads.end() ? nullptr : &*found;
}

TEST(Recipe, TheFixedFormIsReadAndWrittenBack) {
    const Recipe recipe = parseRecipe(wholeRecipe, "r.json");
    EXPECT_EQ(recipe.rows.file, "depot_months.csv");
    ASSERT_EQ(recipe.terms.size(), 4u);
    EXPECT_EQ(termName(recipe.terms[1]), "x^3");
    EXPECT_EQ(termName(recipe.terms[2]), "ln(places)");
    EXPECT_EQ(termName(recipe.terms[3]), "list_rate × contract");
    EXPECT_EQ(recipe.setAside->seed, 7u);
    EXPECT_EQ(parseRecipe(recipeText(recipe), "again"), recipe);
}

TEST(Recipe, EveryMemberSurvivesTheRoundTrip) {
    Recipe recipe = parseRecipe(wholeRecipe, "r.json");
    recipe.rows.text.delimiter = '\t';
    recipe.rows.text.quote = '\'';
    recipe.rows.text.header = false;
    recipe.rows.text.decimalMark = ',';
    recipe.rows.text.encoding = Encoding::latin1;
    recipe.rows.text.missingMarks = {"none", "\"x\""};
    recipe.rows.text.kinds["depot"] = ColumnKind::factor;
    recipe.intercept = false;
    recipe.level = 0.1 + 0.2;
    recipe.setAside->share = 1.0 / 3;
    recipe.setAside->seed = UINT64_MAX;
    recipe.forecast->text.delimiter = ';';
    recipe.leaveOut = {{713, "typed ten times too high"}};
    recipe.accepted = {{"unequal spread", "known, see report"}};
    recipe.units = {{"revenue", "EUR a month"}};
    EXPECT_EQ(parseRecipe(recipeText(recipe), "again"), recipe);
}

TEST(Recipe, MistakesAreRefusedWithTheirPath) {
    auto refusal = [](std::string from, const std::string& what, const std::string& with) {
        const auto at = from.find(what);
        if (at == std::string::npos) return std::string("the test is wrong");
        from.replace(at, what.size(), with);
        return errorOf([&] { parseRecipe(from, "r.json"); });
    };
    EXPECT_NE(refusal(wholeRecipe, "\"power\"", "\"powr\"").find("terms[1].powr"), std::string::npos);
    EXPECT_NE(
        refusal(wholeRecipe, "\"power\": 3", "\"power\": 3.5").find("terms[1].power must be a whole number"),
        std::string::npos);
    EXPECT_NE(refusal(wholeRecipe, "\"intercept\": true", "\"intercept\": 1")
                  .find("intercept must be true or false"),
              std::string::npos);
    EXPECT_NE(refusal(wholeRecipe, "\"share\": 0.25", "\"share\": 1.5")
                  .find("set_aside.share must be above 0 and below 1"),
              std::string::npos);
    EXPECT_NE(refusal(wholeRecipe, "least squares", "magic").find("estimator.kind is \"magic\""),
              std::string::npos);
    EXPECT_NE(refusal(wholeRecipe, "\"recipe\": 1", "\"recipe\": 2").find("newer form"), std::string::npos);
    EXPECT_NE(refusal(wholeRecipe, "\"recipe\": 1, ", "").find("lacks the key \"recipe\""),
              std::string::npos);
    EXPECT_NE(refusal(wholeRecipe, "[\"list_rate\", {", "[\"revenue\", {").find("to explain itself"),
              std::string::npos);
    EXPECT_NE(
        refusal(wholeRecipe, "\"response\": \"revenue\",", "\"response\": \"revenue\", \"response\": \"x\",")
            .find("is there twice"),
        std::string::npos);
    const std::string broken = refusal(wholeRecipe, "\"intercept\": true,", "\"intercept\": true");
    EXPECT_NE(broken.find("line 3"), std::string::npos) << broken;
    EXPECT_NE(errorOf([] { parseRecipe("[]", "r.json"); }).find("must be an object"), std::string::npos);
    EXPECT_NE(errorOf([] {
                  parseRecipe(std::string(100, '[') + std::string(100, ']'), "r.json");
              }).find("nested too deeply"),
              std::string::npos);
}

TEST(Recipe, TheExampleOfTheDocumentsIsARecipe) {
    const std::string page = bytesOf(std::string(OXGOAD_DOCS) + "/recipe.md");
    const auto begin = page.find("```json\n") + 8;
    const Recipe recipe = parseRecipe(page.substr(begin, page.find("```", begin) - begin), "recipe.md");
    EXPECT_EQ(recipe.terms.size(), 5u);
    EXPECT_EQ(recipe.leaveOut[0].row, 89u);
    // Every key the reader knows is in the table below the example.
    const auto table = page.find("| key |");
    for (const auto* key :
         {"delimiter", "quote", "header",    "decimal_mark", "encoding", "missing_marks", "kinds",
          "response",  "terms", "power",     "log",          "product",  "intercept",     "reference",
          "estimator", "level", "set_aside", "leave_out",    "forecast", "accepted",      "units"})
        EXPECT_NE(page.find(key, table), std::string::npos) << key;
}

TEST(Recipe, ChangesAreSaidInAFewWords) {
    const Recipe a = recipeOf("y", {"x"});
    Recipe b = recipeOf("y", {"x", "g"});
    b.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    EXPECT_EQ(changeText(a, b), "+ g, + x × g");
    EXPECT_EQ(changeText(b, a), "− g, − x × g");
    Recipe c = a;
    c.leaveOut = {{1, "r"}, {2, "r"}};
    EXPECT_EQ(changeText(a, c), "− 2 rows");
    EXPECT_EQ(startText(b), "y from 3 terms");
    Recipe d = a;
    d.accepted = {{"g", "r"}};
    EXPECT_TRUE(sameModel(a, d));
    EXPECT_FALSE(sameModel(a, b));
}

TEST(Evaluate, FactorsAgainstTheirReferenceLevel) {
    Recipe recipe = recipeOf("y", {"x", "g"});
    const StudyRows rows = rowsOf(smallRows());
    const Evidence a = evaluate(recipe, rows, {}, quietly());
    recipe.reference["g"] = "c";
    const Evidence c = evaluate(recipe, rows, {}, quietly());
    EXPECT_NEAR(coefficient(a, "g = b").estimate, 5, 0.3);
    EXPECT_NEAR(coefficient(c, "g = b").estimate,
                coefficient(a, "g = b").estimate - coefficient(a, "g = c").estimate, 1e-10);
    EXPECT_EQ(a.linear->terms[1].entersAs, "levels, from a");
    for (std::size_t i = 0; i < a.rows.fitted.size(); ++i)
        EXPECT_NEAR(a.rows.fitted[i], c.rows.fitted[i], 1e-10) << "predictions depend on the reference level";
}

TEST(Evaluate, ProductsGiveEachLevelItsOwnSlope) {
    std::string text = "x,g,y\n";
    for (int i = 0; i < 40; ++i)
        text += std::to_string(i % 20) + "," + (i < 20 ? "a" : "b") + "," +
                std::to_string((i < 20 ? 1.0 + 2 * (i % 20) : 4.0 + 5 * (i % 20)) + 0.01 * ((i * 7) % 5)) +
                "\n";
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    const Evidence e = evaluate(recipe, rowsOf(text), {}, quietly());
    EXPECT_NEAR(coefficient(e, "x").estimate, 2, 0.01);
    EXPECT_NEAR(coefficient(e, "x × g = b").estimate, 3, 0.01);
    EXPECT_EQ(e.linear->terms[2].entersAs, "pair");
}

TEST(Evaluate, HeldOutRowsTeachNothing) {
    // Changing responses and predictors of held-out rows changes nothing that was learned.
    std::string text = smallRows();
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.setAside = SetAside{.share = 0.3, .seed = 7};
    const StudyRows rows = rowsOf(text);
    const Evidence before = evaluate(recipe, rows, {}, quietly());
    std::vector<double> x(rows.learning.table.columns()[0].numbers().begin(),
                          rows.learning.table.columns()[0].numbers().end());
    std::vector<double> y(rows.learning.table.columns()[2].numbers().begin(),
                          rows.learning.table.columns()[2].numbers().end());
    for (std::size_t i = 0; i < x.size(); ++i)
        if (before.rows.state[i] == RowState::heldOut) {
            x[i] = 1e6;
            y[i] = -1e9;
        }
    StudyRows spoilt = rows;
    spoilt.learning.table =
        rows.learning.table.withColumn(Column::ofNumbers("x", x)).withColumn(Column::ofNumbers("y", y));
    const Evidence after = evaluate(recipe, spoilt, {}, quietly());
    ASSERT_EQ(before.rowsHeldOut, 18u);
    for (std::size_t c = 0; c < before.linear->coefficients.size(); ++c) {
        EXPECT_EQ(before.linear->coefficients[c].estimate, after.linear->coefficients[c].estimate);
        if (c > 0) {
            EXPECT_EQ(before.linear->coefficients[c].effect, after.linear->coefficients[c].effect);
        }
    }
    EXPECT_EQ(before.linear->terms[0].highest, after.linear->terms[0].highest);
    EXPECT_NE(before.heldOut.rmse, after.heldOut.rmse);
}

TEST(Evaluate, TheHoldOutDependsOnTheSeedAndNotOnTheTerms) {
    const StudyRows rows = rowsOf(smallRows());
    Recipe recipe = recipeOf("y", {"x"});
    recipe.setAside = SetAside{.share = 0.25, .seed = 7};
    const auto one = evaluate(recipe, rows, {}, quietly()).rows.state;
    recipe.terms.push_back(plainTerm("g"));
    EXPECT_EQ(one, evaluate(recipe, rows, {}, quietly()).rows.state);
    recipe.setAside->seed = 8;
    EXPECT_NE(one, evaluate(recipe, rows, {}, quietly()).rows.state);
    EXPECT_EQ(std::count(one.begin(), one.end(), RowState::heldOut), 15);
}

TEST(Evaluate, TheSameRecipeGivesTheSameBytes) {
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.setAside = SetAside{.share = 0.3, .seed = 7};
    const StudyRows rows = rowsOf(smallRows());
    const std::string one = evidenceText(evaluate(recipe, rows, {1}, quietly()), recipe);
    EXPECT_EQ(one, evidenceText(evaluate(recipe, rows, {3}, quietly()), recipe));
    const auto json = nlohmann::json::parse(one);
    EXPECT_EQ(json["fit"]["coefficients"][0]["name"], "intercept");
    EXPECT_EQ(json["scores"]["held_out"]["rows"], 18);
    const Evidence e = evaluate(recipe, rows, {1}, quietly());
    EXPECT_EQ(json["fit"]["coefficients"][1]["estimate"].get<double>(), e.linear->coefficients[1].estimate)
        << "numbers must read back exactly";
}

TEST(Evaluate, BadInputGetsASentenceThatSaysWhatToDo) {
    const StudyRows rows =
        rowsOf("x,g,t,y,same,none\n1,a,p1,1,5,\n2,a,p2,2,5,\n3,a,p3,4,5,\n4,a,p4,8,5,\n0,a,p5,9,5,\n");
    auto failure = [&](const Recipe& recipe) {
        return errorOf([&] { evaluate(recipe, rows, {}, quietly()); });
    };
    EXPECT_NE(failure(recipeOf("revenue", {"x"})).find("there is no column \"revenue\""), std::string::npos);
    EXPECT_NE(failure(recipeOf("y", {"z"})).find("The columns are: x, g, t, y, same, none"),
              std::string::npos);
    EXPECT_NE(failure(recipeOf("g", {"x"})).find("the response must be a number"), std::string::npos);
    EXPECT_NE(failure(recipeOf("same", {"x"})).find("same value in all 5 learning rows"), std::string::npos);
    EXPECT_NE(failure(recipeOf("none", {"x"})).find("all values of the response are missing"),
              std::string::npos);
    EXPECT_NE(failure(recipeOf("y", {"none"})).find("no learning row has values"), std::string::npos);
    EXPECT_NE(failure(recipeOf("y", {"g"})).find("one level only"), std::string::npos);
    Recipe log = recipeOf("y", {});
    log.terms = {Term{{TermPart{"x", 1, true}}}};
    EXPECT_NE(failure(log).find("ln(x) is not defined at 0 in row 5"), std::string::npos) << failure(log);
    Recipe many = recipeOf("y", {"x"});
    for (int k = 2; k < 8; ++k)
        many.terms.push_back(Term{{TermPart{"x", k}}});
    EXPECT_NE(failure(many).find("5 learning rows are too few for 8 coefficients"), std::string::npos)
        << failure(many);
    Recipe reference = recipeOf("y", {"t"});
    reference.reference["t"] = "p9";
    EXPECT_NE(failure(reference).find("no learning row has the reference level \"p9\""), std::string::npos)
        << failure(reference);
    Recipe row = recipeOf("y", {"x"});
    row.leaveOut = {{99, "r"}};
    EXPECT_NE(failure(row).find("leave_out names row 99"), std::string::npos);
}

TEST(Evaluate, DependentColumnsAreNamedInAGoad) {
    std::string text = "x,double,y\n";
    for (int i = 0; i < 30; ++i)
        text += std::to_string(i) + "," + std::to_string(2 * i) + "," + std::to_string(3 * i + (i * 7) % 5) +
                "\n";
    const Evidence e = evaluate(recipeOf("y", {"x", "double"}), rowsOf(text), {}, quietly());
    ASSERT_TRUE(goad(e, "dependent: double"));
    EXPECT_EQ(goad(e, "dependent: double")->reading, "double = 2.000·x");
    EXPECT_TRUE(coefficient(e, "double").dependent);
    EXPECT_EQ(e.linear->degreesOfFreedom, 28);
}

TEST(Reach, GradesAndReasons) {
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.forecast = forecastOf("plan.csv", 0.9);
    const StudyRows rows = rowsOf(smallRows(), "x,g\n10,a\n19.5,b\n38,a\n5,d\n,a\noops,b\n-40,c\n");
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const ForecastEvidence& f = *e.forecast;
    EXPECT_EQ(f.reach[0].grade, ReachGrade::inside);
    EXPECT_EQ(f.reach[1].grade, ReachGrade::edge);
    EXPECT_EQ(f.reach[1].reasons[0], "x 19.5 is above the highest seen, 19");
    EXPECT_EQ(f.reach[2].grade, ReachGrade::outside);
    EXPECT_GT(f.upper[2] - f.lower[2], f.upper[0] - f.lower[0]) << "the interval grows with distance";
    EXPECT_EQ(f.reach[3].reasons[0], "g = d was never learned from");
    EXPECT_EQ(f.reach[4].reasons[0], "x is missing");
    EXPECT_EQ(f.reach[5].reasons[0], "x: \"oops\" is not a number (line 7)");
    EXPECT_TRUE(std::isnan(f.prediction[3]));
    EXPECT_EQ(f.unpredicted, 3u);
    EXPECT_EQ(f.inside + f.edge + f.outside, 7u);
    ASSERT_TRUE(goad(e, "reach"));
    EXPECT_NE(goad(e, "reach")->title.find("5 of 7 rows"), std::string::npos);
}

TEST(Reach, CombinationsNeverSeenTogether) {
    std::string text = "x,g,h,y\n";
    for (int i = 0; i < 60; ++i) {
        const char g = i % 2 ? 'a' : 'b', h = g == 'b' || i % 4 == 1 ? 'p' : 'q'; // b never with q
        const double x = g == 'a' ? i % 10 : 20 + i % 10;
        text += std::to_string(x) + "," + g + "," + h + "," + std::to_string(x + (i * 3) % 7) + "\n";
    }
    Recipe recipe = recipeOf("y", {"x", "g", "h"});
    recipe.forecast = forecastOf("plan.csv", 0.95);
    const StudyRows rows = rowsOf(text, "x,g,h\n25,b,q\n25,a,p\n");
    Evidence e = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(e.forecast->reach[0].reasons[0], "g = b was never seen with h = q");
    EXPECT_EQ(e.forecast->reach[0].grade, ReachGrade::edge);
    const auto& reasons = e.forecast->reach[1].reasons;
    EXPECT_TRUE(std::any_of(reasons.begin(), reasons.end(), [](const std::string& r) {
        return r.find("x 25 with g = a: seen only up to 9") != std::string::npos;
    }));
    EXPECT_TRUE(std::any_of(reasons.begin(), reasons.end(), [](const std::string& r) {
        return r.find("leverage 0.90") != std::string::npos;
    })) << "hidden extrapolation";
    recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}}); // now the slope itself is carried beyond
    e = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(e.forecast->reach[1].grade, ReachGrade::outside);
}

TEST(Reach, ForecastRowsLackingAColumnAreRefused) {
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.forecast = forecastOf("plan.csv", 0.95);
    EXPECT_NE(errorOf([&] {
                  evaluate(recipe, rowsOf(smallRows(), "x\n1\n2\n"), {}, quietly());
              }).find("plan.csv: there is no column \"g\""),
              std::string::npos);
}

TEST(Forecast, TheIntervalOfATotalIsThatOfItsSum) {
    // Var of a total of m rows is σ²(m + s'(X'X)⁻¹s); for one row a day it is the row's own interval.
    std::string text = "day,x,y\n";
    for (int i = 0; i < 28; ++i)
        text += "2025-01-" + std::string(i < 9 ? "0" : "") + std::to_string(i + 1) + "," +
                std::to_string(i % 7) + "," + std::to_string(2 * (i % 7) + (i * 5) % 3) + "\n";
    Recipe recipe = recipeOf("y", {"x"});
    recipe.forecast = forecastOf("plan.csv", 0.95);
    const Evidence e =
        evaluate(recipe, rowsOf(text, "day,x\n2025-03-01,3\n2025-03-02,3\n2025-03-02,5\n"), {}, quietly());
    const ForecastEvidence& f = *e.forecast;
    ASSERT_EQ(f.coming.size(), 2u);
    EXPECT_NEAR(f.coming[0].lower, f.lower[0], 1e-9);
    EXPECT_NEAR(f.coming[1].predicted, f.prediction[1] + f.prediction[2], 1e-9);
    const double single = f.upper[1] - f.lower[1];
    EXPECT_GT(f.coming[1].upper - f.coming[1].lower, single);
    EXPECT_LT(f.coming[1].upper - f.coming[1].lower, 2 * single);
    EXPECT_EQ(f.history.size(), 28u);
}

TEST(Goads, AreAcceptedByKeyWithAReason) {
    std::string text = smallRows();
    text += "3,a,900\n";
    Recipe recipe = recipeOf("y", {"x", "g"});
    Evidence e = evaluate(recipe, rowsOf(text), {}, quietly());
    ASSERT_TRUE(goad(e, "outlying: row 61"));
    EXPECT_FALSE(goad(e, "outlying: row 61")->accepted);
    recipe.accepted = {{"outlying: row 61", "checked with the depot"}};
    e = evaluate(recipe, rowsOf(text), {}, quietly());
    EXPECT_EQ(*goad(e, "outlying: row 61")->accepted, "checked with the depot");
    recipe.leaveOut = {{61, "typed wrong"}};
    EXPECT_FALSE(goad(evaluate(recipe, rowsOf(text), {}, quietly()), "outlying: row 61"))
        << "a change mends it";
}

TEST(Goads, ASoundFitHasNone) {
    const Evidence e = evaluate(recipeOf("y", {"x", "g"}), rowsOf(smallRows()), {}, quietly());
    for (const Goad& g : e.goads)
        // Its residuals take three values: no normal distribution, and said to be none.
        if (g.key != "shape of residuals") {
            ADD_FAILURE() << g.title;
        }
    EXPECT_GE(e.readings.size(), 30u);
}

TEST(Goads, TheOverfitGapNeedsBothSizeAndCertainty) {
    const StudyRows rows = rowsOf(smallRows());
    const Evidence e = evaluate(recipeOf("y", {"x"}), rows, {}, quietly());
    const Recipe recipe = recipeOf("y", {"x"});
    const BoundInputs inputs(e.study->inputs, rows.learning.table, {});
    const auto fires = [&](double learning, double heldOut, double error) {
        const Scores l{.rows = 100, .rmse = learning}, h{.rows = 100, .rmse = heldOut, .rmseError = error};
        const std::string file;
        const CheckContext context{.recipe = recipe,
                                   .table = rows.learning.table,
                                   .file = file,
                                   .inputs = inputs,
                                   .terms = recipe.terms,
                                   .kind = kindOf(recipe.estimator),
                                   .learning = l,
                                   .heldOut = h};
        Findings findings;
        checkOverfit(context, findings);
        EXPECT_EQ(findings.readings.size(), 1u);
        return !findings.goads.empty();
    };
    EXPECT_TRUE(fires(10, 12, 0.5)) << "20 % more, four standard errors";
    EXPECT_FALSE(fires(10, 12, 1.1)) << "20 % more, but less than two standard errors";
    EXPECT_FALSE(fires(10, 10.9, 0.01)) << "certain, but 9 % only";
    EXPECT_TRUE(fires(10, 11.1, 0.01)) << "just beyond both";
}

TEST(Goads, AModelOfNoiseOverfits) {
    // 40 learning rows with 30 columns of noise: held-out rows are predicted far worse.
    std::string text = "y";
    for (int j = 0; j < 30; ++j)
        text += ",x" + std::to_string(j);
    text += "\n";
    std::uint64_t state = 12345;
    auto noise = [&] {
        state = state * 6364136223846793005ULL + 1442695040888963407ULL;
        return static_cast<double>(state >> 40) / (1 << 24);
    };
    for (int i = 0; i < 120; ++i) {
        for (int j = 0; j < 31; ++j)
            text += (j ? "," : "") + std::to_string(noise());
        text += "\n";
    }
    Recipe recipe = recipeOf("y", {});
    for (int j = 0; j < 30; ++j)
        recipe.terms.push_back(plainTerm("x" + std::to_string(j)));
    recipe.setAside = SetAside{.share = 2.0 / 3, .seed = 1};
    EXPECT_TRUE(goad(evaluate(recipe, rowsOf(text), {}, quietly()), "overfit gap"));
}

TEST(Trail, KeepsParentsAndTellsWhatWasMended) {
    const std::string text = smallRows() + "3,a,900\n";
    Recipe recipe = recipeOf("y", {"x", "g"});
    Trail trail;
    const int first = trail.add(recipe, evaluate(recipe, rowsOf(text), {}, quietly()), 0);
    recipe.leaveOut = {{61, "typed wrong"}};
    const int second = trail.add(recipe, evaluate(recipe, rowsOf(text), {}, quietly()), first);
    EXPECT_EQ(trail.find(second)->change, "− 1 row");
    const auto mended = trail.mendedGoads(second);
    EXPECT_NE(std::find(mended.begin(), mended.end(), "outlying: row 61"), mended.end());
    EXPECT_TRUE(trail.mendedGoads(first).empty());
    EXPECT_EQ(trail.findModel(recipe)->number, second);
}

TEST(Exports, ForecastKeepsGivenColumnsAndAddsItsOwn) {
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.forecast = forecastOf("plan.csv", 0.95);
    const StudyRows rows = rowsOf(smallRows(), "id,x,g,upper\n=1+1,10,a,7\nplain,11,b,8\n");
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const std::string csv = forecastCsv(e, rows.forecast->table);
    EXPECT_EQ(csv.substr(0, csv.find('\n')),
              "id,x,g,given_upper,prediction,mean_lower,mean_upper,lower,upper,reach,reasons");
    EXPECT_NE(csv.find("\n'=1+1,10,a,7,"), std::string::npos) << csv;
    const auto back = readBytes(csv);
    EXPECT_EQ(back.table.at("prediction", "").numbers()[1], e.forecast->prediction[1])
        << "numbers must read back exactly";
}

TEST(Exports, AFolderThatCannotBeWrittenStaysAsItWas) {
    const TemporaryFolder folder;
    const Recipe recipe = recipeOf("y", {"x"});
    const StudyRows rows = rowsOf(smallRows());
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    folder.write("taken", "a file");
    EXPECT_NE(errorOf([&] { writeEvidence(folder.file("taken"), recipe, e, rows); }).find("this is a file"),
              std::string::npos);
    EXPECT_NE(
        errorOf([&] { writeEvidence("/proc/nothing/here", recipe, e, rows); }).find("nothing can be written"),
        std::string::npos);
    writeEvidence(folder.file("out"), recipe, e, rows);
    std::vector<std::string> names;
    for (const auto& entry : std::filesystem::directory_iterator(folder.file("out")))
        names.push_back(entry.path().filename().string());
    std::sort(names.begin(), names.end());
    EXPECT_EQ(names,
              (std::vector<std::string>{"coefficients.csv", "evidence.json", "rows.csv", "summary.txt"}));
}

} // namespace study_test
