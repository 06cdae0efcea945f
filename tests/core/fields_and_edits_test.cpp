// Fields of steps and of kinds of model, edits of a recipe that goads offer, and which rows count for what.
#include "design/input_ranges.h"
#include "recipe/change_text.h"
#include "recipe/recipe_edits.h"
#include "study/rows_used.h"
#include "support/support.h"
#include "table/fields.h"

#include <algorithm>

using namespace oxgoad;
using namespace oxgoad::test;

namespace fields_and_edits_test {

const std::vector<Field>& someFields() {
    static const std::vector<Field> fields{
        wholeField("count", "Count", 5, 1, 100),
        numberField("share", "Share", 0.5, 0.1, 0.9),
        numberField("tuning", "Tuning", 0, 1, 10),
        choiceField("by", "By", {"mean", "median"}),
        flagField("keep", "Keep", false),
        Field{.key = "column", .label = "Column", .type = FieldType::column},
        Field{.key = "limits",
              .label = "Limits",
              .type = FieldType::numbers,
              .fallback = std::vector<double>{}}};
    return fields;
}

std::string refusal(FieldValues values) {
    values.try_emplace("column", std::string("x"));
    return errorOf([&] { checkFields("the step \"try\"", someFields(), values); });
}

PreparedRows preparedOf(const Recipe& recipe, const std::string& text) {
    StudyRows rows;
    rows.learning = readBytes(text);
    return *prepareRows(recipe, rows, {}, quietly());
}

TEST(Fields, AreTakenWhenTheyAreWhatTheyShouldBe) {
    EXPECT_EQ(refusal({}), "");
    EXPECT_EQ(refusal({{"count", 1.0}, {"share", 0.9}, {"by", std::string("median")}, {"keep", true}}), "");
    EXPECT_EQ(refusal({{"tuning", 0.0}}), "") << "0 stands for the usual one";
    EXPECT_EQ(refusal({{"limits", std::vector<double>{1, 2}}}), "");
    EXPECT_EQ(errorOf([&] { checkFields("the step \"try\"", someFields(), {}); }),
              "the step \"try\" lacks \"column\".");
}

TEST(Fields, AreRefusedByNameWithWhatIsKnown) {
    EXPECT_NE(refusal({{"count", 0.0}}).find("\"count\" of the step \"try\" must lie between 1 and 100"),
              std::string::npos)
        << refusal({{"count", 0.0}});
    EXPECT_NE(refusal({{"count", 2.5}}).find("must be a whole number"), std::string::npos);
    EXPECT_NE(refusal({{"share", std::nan("")}}).find("must lie between"), std::string::npos);
    EXPECT_NE(refusal({{"tuning", 0.5}}).find("must lie between"), std::string::npos);
    EXPECT_NE(refusal({{"by", std::string("mode")}}).find("Known are mean and median"), std::string::npos);
    EXPECT_NE(refusal({{"by", 3.0}}).find("value of the wrong type"), std::string::npos);
    EXPECT_NE(refusal({{"other", 3.0}}).find("has no \"other\""), std::string::npos);
    EXPECT_NE(refusal({{"limits", std::vector<double>{1, INFINITY}}}).find("not finite"), std::string::npos);
    EXPECT_NE(refusal({{"column", std::string()}}).find("names no column"), std::string::npos);
}

TEST(Fields, ASettingLeftOutIsItsFallback) {
    const Settings plain{"robust"}, said{"robust", {{"function", std::string("Huber")}, {"tuning", 0.0}}};
    EXPECT_EQ(plain, said);
    EXPECT_EQ(plain.text("function"), "Huber");
    EXPECT_FALSE(plain == (Settings{"robust", {{"function", std::string("bisquare")}}}));
    EXPECT_FALSE(plain == Settings{});
    Recipe recipe = recipeOf("y", {"x"});
    for (const ModelKind& kind : modelKinds())
        for (const ModelOffer& offer : kind.offers) {
            recipe.estimator = offer.settings;
            EXPECT_EQ(errorOf([&] { checkSettings(offer.settings); }), "") << offer.title;
            EXPECT_EQ(parseRecipe(recipeText(recipe), "r.json"), recipe) << offer.title;
            EXPECT_FALSE(estimatorText(offer.settings).empty());
        }
    EXPECT_NE(errorOf([] { checkSettings({"magic"}); })
                  .find("Known are least squares, robust, quantile, autoregressive errors, penalised, "
                        "neighbours, tree, forest, "),
              std::string::npos);
}

TEST(Edits, OfGoadsChangeWhatTheySay) {
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.terms.push_back({{TermPart{"x"}, TermPart{"g"}}});
    const auto made = [&](const Move& move, const std::string& reason = {}) {
        Recipe edited = recipe;
        move.edit(edited, reason);
        return edited;
    };
    const Recipe without = made(leaveOutTerm("x"));
    ASSERT_EQ(without.terms.size(), 1U) << "its product goes with it";
    EXPECT_EQ(termName(without.terms[0]), "g");
    const Recipe row = made(leaveOutRow(16), "closed");
    ASSERT_EQ(row.leaveOut.size(), 1U);
    EXPECT_EQ(row.leaveOut[0].row, 17U);
    EXPECT_EQ(row.leaveOut[0].reason, "closed");
    EXPECT_EQ(leaveOutRow(16).asks, "Why is row 17 left out?");
    Recipe twice = row;
    leaveOutRow(16).edit(twice, "again");
    EXPECT_EQ(twice.leaveOut.size(), 1U) << "a row is left out once";
    const Recipe step =
        made(addStep("fill", {"fill missing", true, {{"columns", std::vector<std::string>{"x"}}}}));
    ASSERT_EQ(step.steps.size(), 1U);
    EXPECT_EQ(step.steps[0].kind, "fill missing");
    recipe.roles = {{"w", Role::weight}};
    const Recipe weight = made(giveRole("weigh", "v", Role::weight));
    EXPECT_EQ(columnWith(weight, Role::weight), "v") << "one column has the role";
    EXPECT_EQ(weight.roles.size(), 1U);
    EXPECT_TRUE(made(giveRole("none", "w", Role::predictor)).roles.empty());
    EXPECT_EQ(seeRow(3).shows, Move::Shows::row);
    EXPECT_FALSE(seeRow(3).edit);
    EXPECT_EQ(seeColumn().shows, Move::Shows::column);
}

TEST(Edits, ANoteIsDroppedByItsGoad) {
    Recipe recipe = recipeOf("y", {"x"});
    recipe.noted = {{"x", "It bends."}, {"x", "It grows."}};
    const auto goads = notedGoads(recipe);
    ASSERT_EQ(goads.size(), 2U);
    EXPECT_TRUE(goads[0].noted);
    goads[0].moves.back().edit(recipe, {});
    ASSERT_EQ(recipe.noted.size(), 1U);
    EXPECT_EQ(recipe.noted[0].says, "It grows.");
    EXPECT_TRUE(sameModel(recipe, recipeOf("y", {"x"})));
}

TEST(Edits, WhatIsAskedOfAModelAfterwardsLearnsTheSame) {
    Recipe recipe = recipeOf("y", {"x"});
    recipe.forecast.emplace();
    Recipe other = recipe;
    other.level = 0.5;
    other.forecast->level = 0.8;
    other.forecast->file = "other.csv";
    other.accepted = {{"reach", "known"}};
    other.units["y"] = "EUR";
    EXPECT_TRUE(learnsTheSame(recipe, other));
    for (Recipe* r : {&recipe, &other})
        r->estimator.kind = "quantile";
    EXPECT_FALSE(learnsTheSame(recipe, other)) << "quantiles at the ends of intervals are learned";
    other.forecast->level = recipe.forecast->level;
    EXPECT_TRUE(learnsTheSame(recipe, other));
    other.intercept = false;
    EXPECT_FALSE(learnsTheSame(recipe, other));
}

TEST(Edits, AKindOfModelIsSaidOnTheTrail) {
    const Recipe before = recipeOf("y", {"x"});
    Recipe after = before;
    after.estimator = {"neighbours", {{"count", 1.0}, {"scale", std::string("as is")}}};
    EXPECT_EQ(changeText(before, after), "by the nearest neighbour on columns as they are");
    EXPECT_EQ(startText(after), "y from 1 term by the nearest neighbour on columns as they are");
    after.estimator.fields["count"] = 12.0;
    after.estimator.fields["weights"] = std::string("by distance");
    EXPECT_EQ(estimatorText(after.estimator),
              "12 nearest neighbours weighted by distance on columns as they are");
}

TEST(RowsUsed, EveryRowHasOneUse) {
    // By row: teaches; held out; left out by hand; lacks x; held out and left out by the step; held out, by
    // the step and without x; weight 0; test; learning and left out by the step; held out by hand.
    const std::string text =
        "x,w,part,y\n1,1,learn,1\n2,1,judge,2\n3,1,learn,3\n,1,learn,4\n5,1,judge,500\n,1,judge,600\n"
        "7,0,learn,7\n8,1,test,8\n9,1,learn,900\n10,1,judge,10\n";
    Recipe recipe = recipeOf("y", {"x"});
    recipe.roles["w"] = Role::weight;
    recipe.setAside = SetAside{
        .kind = SetAsideKind::column, .column = "part", .heldOutValues = {"judge"}, .testValues = {"test"}};
    recipe.steps = {{"leave out where", true, {{"condition", std::string("y > 100")}}}};
    recipe.leaveOut = {{3, "odd"}, {10, "odd"}};
    const RowsUsed used = rowsUsed(recipe, preparedOf(recipe, text), "rows.csv");
    const std::vector<RowState> expected{
        RowState::learning, RowState::heldOut,    RowState::leftOut, RowState::missing, RowState::heldOut,
        RowState::leftOut,  RowState::weightless, RowState::test,    RowState::leftOut, RowState::leftOut};
    EXPECT_EQ(used.state, expected);
    EXPECT_EQ(used.learning, (std::vector<std::uint32_t>{0}));
    EXPECT_EQ(used.heldOut, (std::vector<std::uint32_t>{1, 4}));
    EXPECT_EQ(used.test, (std::vector<std::uint32_t>{7}));
    EXPECT_EQ(used.weightless, (std::vector<std::uint32_t>{6}));
    EXPECT_EQ(used.leftOut, 4U);
    EXPECT_EQ(used.missing, 1U);
    ASSERT_EQ(used.missingByColumn.size(), 1U);
    EXPECT_EQ(used.missingByColumn[0], (std::pair<std::string, std::size_t>{"x", 1}));
}

TEST(RowsUsed, NothingToLearnFromIsSaid) {
    Recipe recipe = recipeOf("y", {"x"});
    EXPECT_NE(errorOf([&] {
                  rowsUsed(recipe, preparedOf(recipe, "x,y\n,1\n2,\n"), "rows.csv");
              }).find("no learning row has values in all columns in use"),
              std::string::npos);
    recipe.roles["w"] = Role::weight;
    EXPECT_NE(errorOf([&] {
                  rowsUsed(recipe, preparedOf(recipe, "x,w,y\n1,0,1\n2,0,2\n"), "rows.csv");
              }).find("all weights of the learning rows are 0"),
              std::string::npos);
}

TEST(InputRanges, AreThoseOfTheRowsAskedFor) {
    const Table table =
        readBytes("x,day,g\n1,2024-01-01,a\n5,2024-03-01,b\n3,2024-02-01,a\n99,2025-01-01,c\n").table;
    const std::vector<std::uint32_t> rows{0, 1, 2};
    const Inputs inputs = learnInputs(table, rows, {"x", "day", "g"}, {}, "rows.csv");
    EXPECT_EQ(inputs[2].levels, (std::vector<std::string>{"a", "b"})) << "c is in no row asked for";
    const BoundInputs bound(inputs, table, "rows.csv");
    const Range x = rangeOver(bound, 0, rows);
    EXPECT_EQ(x.low, 1);
    EXPECT_EQ(x.high, 5);
    EXPECT_EQ(inputs[1].valueText(rangeOver(bound, 1, rows).high), "2024-03-01");
    EXPECT_EQ(densityOver(bound, 0, rows, x, 2), (std::vector<double>{1, 2}));
    EXPECT_EQ(densityOver(bound, 2, rows, {}, 0), (std::vector<double>{2, 1}));
    EXPECT_TRUE(std::isnan(bound.value(2, 3)));
    EXPECT_FALSE(bound.complete(3));
    EXPECT_EQ(bound.problems(3), (std::vector<std::string>{"g = c was never learned from"}));
    Eigen::MatrixXd block(4, 3);
    bound.fill(std::vector<std::uint32_t>{0, 1, 2, 3}, block);
    for (std::uint32_t row = 0; row < 4; ++row)
        for (std::size_t input = 0; input < 3; ++input) {
            const double value = bound.value(input, row),
                         filled = block(row, static_cast<Eigen::Index>(input));
            EXPECT_TRUE(value == filled || (std::isnan(value) && std::isnan(filled))) << row << " " << input;
        }
    EXPECT_FALSE(findInput(inputs, "z"));
    EXPECT_EQ(*findInput(inputs, "g"), 2U);
}

} // namespace fields_and_edits_test
