// What a recipe may hold together: whatever edits meet, its text is read back to the same recipe.
#include "recipe/recipe_edits.h"
#include "recipe/validity.h"
#include "support/support.h"

#include <functional>

using namespace oxgoad;
using namespace oxgoad::test;

namespace validity_test {

struct Edit {
    std::string name;
    std::function<void(Recipe&)> make;
};

Recipe started() {
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    recipe.roles = {{"w", Role::weight}, {"day", Role::time}};
    return recipe;
}

std::vector<Edit> allEdits() {
    std::vector<Edit> edits;
    for (const ModelKind& kind : modelKinds())
        for (const ModelOffer& offer : kind.offers)
            edits.push_back({kind.name + ": " + offer.title,
                             [settings = offer.settings](Recipe& r) { r = withEstimator(r, settings); }});
    const auto add = [&](const std::string& name, const std::function<void(Recipe&)>& make) {
        edits.push_back({name, make});
    };
    for (const Errors& errors :
         {Errors{CovarianceKind::hc3, {}, -1}, Errors{CovarianceKind::clustered, "g", -1},
          Errors{CovarianceKind::clusteredFewGroups, "g", -1},
          Errors{CovarianceKind::autocorrelated, "day", 3}, Errors{}})
        add(errorsText(errors), [errors](Recipe& r) { r.errors = errors; });
    add("choose in every fit", [](Recipe& r) { r.choose = ChoosePlan{}; });
    add("choose no more", [](Recipe& r) { r.choose.reset(); });
    add("logs", [](Recipe& r) { r.logResponse = !r.logResponse; });
    add("no constant", [](Recipe& r) { r.intercept = false; });
    add("add z", [](Recipe& r) { r = withTerm(r, plainTerm("z")); });
    add("add x²", [](Recipe& r) { r = withTerm(r, Term{{TermPart{"x", 2}}}); });
    add("x as its square", [](Recipe& r) {
        for (std::size_t t = 0; t < r.terms.size(); ++t)
            if (r.terms[t] == plainTerm("x")) {
                r = withOtherForm(r, t, TermPart{"x", 2});
                return;
            }
    });
    add("without x", [](Recipe& r) { r = withoutTerm(r, "x"); });
    add("predict x", [](Recipe& r) { r = withResponse(r, "x"); });
    add("predict z", [](Recipe& r) { r = withResponse(r, "z"); });
    add("u as weight", [](Recipe& r) { giveRole("", "u", Role::weight).edit(r, ""); });
    add("u as weight beside", [](Recipe& r) { r.roles["u"] = Role::weight; });
    add("u as offset", [](Recipe& r) { giveRole("", "u", Role::offset).edit(r, ""); });
    add("w set aside", [](Recipe& r) { giveRole("", "w", Role::setAside).edit(r, ""); });
    add("folds", [](Recipe& r) { r.judge = FoldPlan{}; });
    add("hold rows out", [](Recipe& r) { r.setAside = SetAside{.share = 0.25, .seed = 3}; });
    add("leave a row out", [](Recipe& r) { leaveOutRow(4).edit(r, "why"); });
    add("a step", [](Recipe& r) {
        addStep("", Step{"fill missing", true, {{"columns", std::vector<std::string>{"z"}}}}).edit(r, "");
    });
    add("accept", [](Recipe& r) { r.accepted.push_back({"a goad", "a reason", 2.0}); });
    return edits;
}

void expectReadBack(const Recipe& recipe, const std::string& how) {
    const auto problem = problemOf(recipe);
    EXPECT_FALSE(problem) << how << ": " << problem->key << " " << problem->says;
    const std::string text = recipeText(recipe);
    std::string failure = errorOf([&] { EXPECT_TRUE(parseRecipe(text, "again") == recipe) << how << text; });
    EXPECT_EQ(failure, "") << how;
}

TEST(Validity, AllPairsOfEditsAreReadBack) {
    const auto edits = allEdits();
    EXPECT_GT(edits.size(), 30U);
    const Recipe base = started();
    for (const Edit& first : edits)
        for (const Edit& second : edits) {
            Recipe one = base;
            first.make(one);
            one = settled(one);
            // One after the other, as the window does with the draft.
            Recipe both = one;
            second.make(both);
            expectReadBack(settled(both), first.name + ", then " + second.name);
            // Made from what stood before the other, and merged with it.
            Recipe other = base;
            second.make(other);
            expectReadBack(rebased(other, base, one), first.name + ", meanwhile " + second.name);
            if (HasFailure()) return;
        }
}

TEST(Validity, WhatIsDroppedIsSaid) {
    Recipe recipe = started();
    recipe.errors = {CovarianceKind::clustered, "depot", -1};
    recipe.choose = ChoosePlan{};
    recipe.estimator = {"neighbours", {}};
    std::vector<std::string> dropped;
    const Recipe next = settled(recipe, &dropped);
    EXPECT_TRUE(next.errors == Errors{});
    EXPECT_FALSE(next.choose);
    ASSERT_EQ(dropped.size(), 2U);
    EXPECT_EQ(dropped[0], "errors by depot go with least squares only and are dropped.");
    // What goes together is left alone, and nothing is said.
    dropped.clear();
    EXPECT_TRUE(settled(started(), &dropped) == started());
    EXPECT_TRUE(dropped.empty());
}

TEST(Validity, ARecipeThatHoldsNotTogetherIsRefusedByItsKey) {
    const auto refusalOf = [](const std::string& rest) {
        return errorOf([&] {
            parseRecipe(R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", )" + rest + "}",
                        "r.json");
        });
    };
    EXPECT_NE(refusalOf(R"("terms": ["x", "x"])").find("terms[1] is a term that is there before: x"),
              std::string::npos);
    EXPECT_NE(refusalOf(R"("terms": ["y"])").find("terms[0] uses the response"), std::string::npos);
    EXPECT_NE(refusalOf(R"("terms": ["x"], "estimator": {"kind": "neighbours"}, "choose": {})")
                  .find("choose goes with models that have coefficients only"),
              std::string::npos);
    EXPECT_NE(refusalOf(R"("terms": ["x"], "estimator": {"kind": "robust"}, "errors": {"kind": "HC3"})")
                  .find("errors go with least squares only"),
              std::string::npos);
    EXPECT_NE(refusalOf(R"("terms": ["x"], "roles": {"a": "weight", "b": "weight"})").find("second column"),
              std::string::npos);
}

} // namespace validity_test
