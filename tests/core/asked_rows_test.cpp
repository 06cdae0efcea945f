// Rows told by hand, rows made for the next periods, and lags fed step by step.
#include "base/random.h"
#include "base/text.h"
#include "core/case_support.h"
#include "study/make_rows.h"
#include "study/row_by_hand.h"
#include "study/step_by_step.h"

#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;
using nlohmann::json;

namespace asked_rows_test {

struct Asked {
    Recipe recipe;
    std::shared_ptr<const PreparedRows> prepared;
    Evidence evidence;
};

Asked asked(Recipe recipe, const std::string& text, const std::string& coming = {}) {
    StudyRows rows;
    rows.learning = readBytes(text);
    if (!coming.empty()) {
        recipe.forecast = recipe.forecast.value_or(ForecastRequest{});
        rows.forecast = readBytes(coming);
    }
    Asked out{recipe, prepareRows(recipe, rows, {}, quietly()), {}};
    out.evidence = evaluate(recipe, rows, *out.prepared, {.checks = ChecksWanted::none}, quietly());
    return out;
}

std::string straightRows() {
    RandomStream random(2, "by hand");
    std::string text = "y,a,g,idle\n";
    for (int i = 0; i < 200; ++i) {
        const double a = random.uniform() * 10;
        const bool q = i % 3 == 0;
        text += exactText(5 + 2 * a + (q ? 4 : 0) + random.normal()) + "," + exactText(a) + "," +
                (q ? "q" : "p") + ",x\n";
    }
    return text;
}

TEST(RowByHand, SaysWhatTheForecastOfTheSameRowSays) {
    for (const char* kind : {"least squares", "tree", "nearest neighbours"}) {
        Recipe recipe = recipeOf("y", {"a", "g"});
        recipe.estimator.kind = findModelKind(kind) ? kind : "neighbours";
        const Asked a = asked(recipe, straightRows(), "a,g\n3.5,q\n14,p\n");
        const RowByHand model(a.evidence, a.recipe, *a.prepared, {}, {});
        ASSERT_EQ(model.columns().size(), 2U) << "columns that nobody reads are not asked for";
        for (const auto& [row, value, level] : {std::tuple{0, 3.5, "q"}, {1, 14.0, "p"}}) {
            const auto values =
                model.valuesOf({.name = "", .values = {{"a", value}, {"g", std::string(level)}}});
            const HandAnswer answer = model.ask(values);
            const auto at = static_cast<std::size_t>(row);
            EXPECT_EQ(answer.prediction, a.evidence.forecast->prediction[at]) << kind;
            EXPECT_EQ(answer.lower, a.evidence.forecast->lower[at]);
            EXPECT_EQ(answer.reach.grade, a.evidence.forecast->reach[at].grade);
            double sum = answer.ladder.start;
            for (const Contribution& step : answer.ladder.steps)
                sum += step.amount;
            EXPECT_NEAR(sum, answer.prediction, 1e-9) << "the ladder ends at the prediction";
        }
    }
}

TEST(RowByHand, FindsTheValueThatReachesATarget) {
    const Asked a = asked(recipeOf("y", {"a", "g"}), straightRows());
    const RowByHand model(a.evidence, a.recipe, *a.prepared, {}, {});
    const auto values = model.valuesOf({.name = "", .values = {{"g", std::string("q")}}});
    const auto found = model.valuesFor(values, 0, 20);
    ASSERT_EQ(found.size(), 1U);
    const auto& c = a.evidence.linear->coefficients;
    EXPECT_NEAR(found[0], (20 - c[0].estimate - c[2].estimate) / c[1].estimate, 1e-6);
    EXPECT_TRUE(model.valuesFor(values, 0, 1e6).empty());
    const HandScale scale = model.along(values, 0, 41);
    EXPECT_EQ(scale.grade.front(), ReachGrade::outside);
    EXPECT_EQ(scale.grade[20], ReachGrade::inside);
    EXPECT_EQ(scale.grade.back(), ReachGrade::outside);
}

TEST(RowByHand, RefusesWhatItCannotRead) {
    const Asked a = asked(recipeOf("y", {"a", "g"}), straightRows());
    const RowByHand model(a.evidence, a.recipe, *a.prepared, {}, {});
    EXPECT_THROW(static_cast<void>(model.valuesOf({.name = "", .values = {{"b", 1.0}}})), Error);
    EXPECT_THROW(static_cast<void>(model.valuesOf({.name = "", .values = {{"a", std::string("many")}}})),
                 Error);
    const HandAnswer unknown =
        model.ask(model.valuesOf({.name = "", .values = {{"g", std::string("never seen")}}}));
    EXPECT_TRUE(std::isnan(unknown.prediction));
    EXPECT_EQ(unknown.reach.grade, ReachGrade::outside);
    const HandAnswer missing = model.ask(model.valuesOf({.name = "", .values = {{"a", std::string()}}}));
    EXPECT_TRUE(std::isnan(missing.prediction));
}

TEST(RowByHand, IsKeptInTheRecipe) {
    Recipe recipe = recipeOf("y", {"a", "g"});
    recipe.handRows = {{"a lot", {{"a", 3.0}, {"g", std::string("q")}}, HandRow::Target{"a", 20}},
                       {"wrong", {{"b", 3.0}}, {}}};
    EXPECT_EQ(parseRecipe(recipeText(recipe), "recipe.json").handRows, recipe.handRows);
    const Asked a = asked(recipe, straightRows());
    const json out = json::parse(handRowsText(answerHandRows(a.evidence, recipe, *a.prepared, {}, {})));
    EXPECT_EQ(out[0]["target"]["values"].size(), 1U);
    EXPECT_EQ(out[0]["reach"], "inside");
    EXPECT_TRUE(out[1].contains("problem"));
}

TEST(MadeRows, AreTheNextPeriodsOfEachSeries) {
    const RowsRead learned = readBytes("day,shop,y,price\n2025-10-31,n,1,10\n2025-11-30,n,2,11\n"
                                       "2025-12-31,n,3,12\n2025-11-30,s,4,20\n2025-12-31,s,5,21\n"
                                       "2026-01-31,s,,99\n2025-01-31,n,1,7\n");
    MadeRows made{.date = "day", .every = "month", .periods = 2, .by = {"shop"}};
    const Table table = makeRows(made, learned.table, "y", "");
    ASSERT_EQ(table.rows(), 4U);
    EXPECT_FALSE(table.find("y"));
    // Ends of months stay ends; a row without a response is no history.
    EXPECT_EQ(table.at("day", "").cellText(0), "2026-01-31");
    EXPECT_EQ(table.at("day", "").cellText(1), "2026-02-28");
    EXPECT_EQ(table.at("price", "").numbers()[0], 12);
    EXPECT_EQ(table.at("price", "").numbers()[3], 21);
    made.columns = {{"price", CarriedColumn::How::yearBefore, 0.0}};
    const Table year = makeRows(made, learned.table, "y", "");
    EXPECT_EQ(year.at("price", "").numbers()[0], 7);
    EXPECT_TRUE(std::isnan(year.at("price", "").numbers()[1]));
    made.columns = {{"price", CarriedColumn::How::given, 5.0}};
    EXPECT_EQ(makeRows(made, learned.table, "y", "").at("price", "").numbers()[2], 5);
    made.columns = {{"price", CarriedColumn::How::given, std::string("dear")}};
    EXPECT_THROW(static_cast<void>(makeRows(made, learned.table, "y", "")), Error);
    made.columns.clear();
    std::string dated = "day,y,name\n";
    for (int i = 0; i < 26; ++i)
        dated += std::to_string(2023 + i / 12) + "-" + (i % 12 < 9 ? "0" : "") + std::to_string(i % 12 + 1) +
                 "-01,1,m" + std::to_string(i % 12 + 1) + "\n";
    const Table named =
        makeRows({.date = "day", .every = "month", .periods = 2}, readBytes(dated).table, "y", "");
    EXPECT_EQ(named.at("name", "").cellText(0), "m3") << "as the month of the date says";
    EXPECT_EQ(named.at("name", "").cellText(1), "m4");
    made.date = "price";
    EXPECT_THROW(static_cast<void>(makeRows(made, learned.table, "y", "")), Error);
}

TEST(MadeRows, AreReadBackFromTheRecipe) {
    Recipe recipe = recipeOf("y", {"price"});
    recipe.forecast = ForecastRequest{};
    recipe.forecast->made = MadeRows{.date = "day",
                                     .every = "quarter",
                                     .periods = 3,
                                     .by = {"shop"},
                                     .columns = {{"price", CarriedColumn::How::usualValue, 0.0}}};
    EXPECT_EQ(parseRecipe(recipeText(recipe), "recipe.json").forecast, recipe.forecast);
}

/// y(t) = 2 + 0.8·y(t − 1) + noise, by month.
std::string seriesRows(int months, double noise) {
    RandomStream random(4, "series");
    std::string text = "month,y\n";
    double y = 10;
    for (int i = 0; i < months; ++i) {
        y = 2 + 0.8 * y + noise * random.normal();
        text += std::to_string(2000 + i / 12) + "-" + (i % 12 < 9 ? "0" : "") + std::to_string(i % 12 + 1) +
                "-01," + exactText(y) + "\n";
    }
    return text;
}

Recipe lagRecipe() {
    Recipe recipe = recipeOf("y", {"before"});
    Step lag{.kind = "lag"};
    lag.fields = {{"column", std::string("y")},
                  {"time", std::string("month")},
                  {"unit", std::string("month")},
                  {"back", 1.0},
                  {"name", std::string("before")}};
    recipe.steps = {lag};
    return recipe;
}

TEST(StepByStep, FeedsWhatWasPredicted) {
    const Asked a = asked(lagRecipe(), seriesRows(240, 1),
                          "month\n2020-01-01\n2020-02-01\n2020-03-01\n2020-04-01\n2020-05-01\n2020-06-01\n");
    const ForecastEvidence& f = *a.evidence.forecast;
    const double c = a.evidence.linear->coefficients[0].estimate,
                 b = a.evidence.linear->coefficients[1].estimate;
    double before = a.prepared->raw.at("y", "").numbers()[239];
    for (std::size_t i = 0; i < 6; ++i) {
        EXPECT_NEAR(f.prediction[i], c + b * before, 1e-9) << i;
        before = f.prediction[i];
    }
    // The variance of h steps is σ²(1 + b² + … + b^(2h − 2)) beside that of the coefficients.
    const double half1 = (f.upper[0] - f.lower[0]) / 2, half6 = (f.upper[5] - f.lower[5]) / 2;
    double sum = 0;
    for (int h = 0; h < 6; ++h)
        sum += std::pow(b, 2 * h);
    EXPECT_NEAR(half6 / half1, std::sqrt(sum), 0.12 * std::sqrt(sum));
    EXPECT_NE(f.intervals.find("feeds those after it"), std::string::npos) << f.intervals;
}

TEST(StepByStep, LeavesRowsAloneThatKnowTheResponse) {
    const Asked a = asked(lagRecipe(), seriesRows(60, 1), "month,y\n2005-01-01,9\n2005-02-01,8\n");
    const double c = a.evidence.linear->coefficients[0].estimate,
                 b = a.evidence.linear->coefficients[1].estimate;
    EXPECT_NEAR(a.evidence.forecast->prediction[1], c + b * 9, 1e-9)
        << "from what was, not what was predicted";
}

} // namespace asked_rows_test
