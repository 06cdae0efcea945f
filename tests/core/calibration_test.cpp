// Whether what is predicted comes out, by tenths of the prediction: by hand, in simulation, at the edges.
#include "base/random.h"
#include "base/text.h"
#include "study/calibration.h"
#include "study/evaluate.h"
#include "study/residual_view.h"
#include "support/support.h"

#include <nlohmann/json.hpp>

#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace calibration_test {

/// Evidence of rows that are held out, as it would come out.
Evidence heldOut(const std::vector<double>& predicted, const std::vector<double>& actual) {
    Evidence e;
    e.rows.state.assign(predicted.size(), RowState::heldOut);
    e.rows.fitted = predicted;
    e.rows.actual = actual;
    return e;
}

TEST(Calibration, IsThatOfTenthsByHand) {
    std::vector<double> predicted, actual;
    for (int i = 0; i < 100; ++i) {
        predicted.push_back(99 - i); // in the other order
        actual.push_back((99 - i) + (i % 2 == 0 ? 1 : -1) + 2);
    }
    const auto found = calibrationOf(heldOut(predicted, actual));
    ASSERT_TRUE(found);
    ASSERT_EQ(found->parts.size(), 10U);
    EXPECT_EQ(found->of, "100 held-out rows");
    for (std::size_t t = 0; t < 10; ++t) {
        const CalibrationPart& part = found->parts[t];
        EXPECT_EQ(part.rows, 10U);
        EXPECT_DOUBLE_EQ(part.predicted, 10.0 * static_cast<double>(t) + 4.5);
        EXPECT_DOUBLE_EQ(part.actual, part.predicted + 2);
        // Differences are 3 and 1, five of each: their standard deviation is √(10/9), t of 9 degrees of
        // freedom at 0.975 is 2.262157 (from memory of the tables).
        EXPECT_NEAR(part.upper - part.actual, 2.262157 * std::sqrt(10.0 / 9) / std::sqrt(10.0), 1e-6);
        EXPECT_NEAR(part.actual - part.lower, part.upper - part.actual, 1e-12);
    }
    EXPECT_EQ(found->off, 10U) << "all are 2 too low";
    EXPECT_NEAR(found->ratio, 4950.0 / 5150, 1e-12);
    EXPECT_LT(found->ratioUpper, 1);
    EXPECT_NEAR(found->topTenth, 965.0 / 5150, 1e-12);
    const auto json = calibrationJson(found);
    EXPECT_EQ(json.at("parts").size(), 10U);
    EXPECT_EQ(json.at("off"), 10);
    EXPECT_NE(found->says.find("100 held-out rows in 10 parts"), std::string::npos) << found->says;
}

TEST(Calibration, HoldsAsOftenAsItSays) {
    RandomStream random(1, "calibration");
    std::size_t off = 0, parts = 0;
    for (int set = 0; set < 100; ++set) {
        std::vector<double> predicted, actual;
        for (int i = 0; i < 300; ++i) {
            predicted.push_back(100 + 20 * random.normal());
            actual.push_back(predicted.back() + 10 * random.normal());
        }
        const auto found = calibrationOf(heldOut(predicted, actual));
        ASSERT_TRUE(found);
        off += found->off;
        parts += found->parts.size();
    }
    EXPECT_NEAR(static_cast<double>(off) / static_cast<double>(parts), 0.05, 0.02);
}

TEST(Calibration, OfFewRowsThereIsNone) {
    EXPECT_FALSE(calibrationOf(heldOut({}, {})));
    const std::vector<double> nineteen(19, 1.0);
    EXPECT_FALSE(calibrationOf(heldOut(nineteen, nineteen)));
    EXPECT_TRUE(calibrationJson(calibrationOf(heldOut(nineteen, nineteen))).is_null());
    std::vector<double> predicted, actual;
    for (int i = 0; i < 35; ++i)
        predicted.push_back(i), actual.push_back(-i);
    const auto found = calibrationOf(heldOut(predicted, actual));
    ASSERT_TRUE(found);
    EXPECT_EQ(found->parts.size(), 3U) << "ten rows for each at least";
    EXPECT_TRUE(std::isnan(found->ratio)) << "the sum of what was is not above 0";
    EXPECT_TRUE(calibrationJson(found).at("predicted_over_actual").is_null());
    EXPECT_EQ(found->says.find("nan"), std::string::npos) << found->says;
    // Rows without a prediction are passed over.
    predicted[0] = std::nan("");
    EXPECT_EQ(calibrationOf(heldOut(predicted, actual))->of, "34 held-out rows");
    // Nobody looks at test rows.
    Evidence locked = heldOut(predicted, actual);
    locked.rows.state.assign(35, RowState::test);
    EXPECT_FALSE(calibrationOf(locked));
}

StudyRows skewed(int n) {
    RandomStream random(2, "skewed");
    std::string text = "a,y\n";
    for (int i = 0; i < n; ++i) {
        const double a = 4 * random.uniform();
        text += exactText(a) + "," + exactText(std::exp(1 + a + 0.3 * random.normal())) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    return rows;
}

TEST(Calibration, IsOfHeldOutRowsOrOutOfFold) {
    const StudyRows rows = skewed(200);
    Recipe recipe = recipeOf("y", {"a"});
    recipe.logResponse = true;
    EXPECT_FALSE(calibrationOf(evaluate(recipe, rows, {1}, quietly()))) << "all rows were learned from";
    recipe.judge = FoldPlan{};
    Evidence e = evaluate(recipe, rows, {1}, quietly());
    ASSERT_TRUE(calibrationOf(e));
    EXPECT_EQ(calibrationOf(e)->of, "200 rows out of fold");
    EXPECT_NE(evidenceText(e, recipe).find("\"calibration\""), std::string::npos);
    recipe.setAside = SetAside{.share = 0.25, .seed = 1};
    e = evaluate(recipe, rows, {1}, quietly());
    EXPECT_EQ(calibrationOf(e)->of, "50 held-out rows");
    // Carried back from logs the totals hold here, where the spread is the same everywhere.
    EXPECT_LT(calibrationOf(e)->ratioLower, 1);
    EXPECT_GT(calibrationOf(e)->ratioUpper, 1);
}

TEST(ResidualViews, AlongPredictionsOfLogsAreLogarithmic) {
    const StudyRows rows = skewed(150);
    const auto viewed = [&](bool logs, ResidualAgainst against) {
        Recipe recipe = recipeOf("y", {"a"});
        recipe.logResponse = logs;
        const auto prepared = prepareRows(recipe, rows, {1}, quietly());
        const Evidence e = evaluate(recipe, rows, *prepared, {}, quietly());
        return residualView(e, recipe, *prepared, "rows.csv",
                            {.against = against, .column = "a", .quantiles = false}, {1}, quietly());
    };
    const ResidualView logs = viewed(true, ResidualAgainst::predicted);
    EXPECT_TRUE(logs.logarithmic);
    ASSERT_GT(logs.middle.at.size(), 10U);
    const auto [low, high] = std::minmax_element(logs.x.begin(), logs.x.end());
    // The smooth line goes from end to end in equal ratios.
    EXPECT_NEAR(logs.middle.at.front() / *low, 1, 1e-9);
    EXPECT_NEAR(logs.middle.at.back() / *high, 1, 1e-9);
    EXPECT_NEAR(logs.middle.at[1] / logs.middle.at[0], logs.middle.at[2] / logs.middle.at[1], 1e-9);
    EXPECT_FALSE(viewed(true, ResidualAgainst::column).logarithmic);
    EXPECT_FALSE(viewed(false, ResidualAgainst::predicted).logarithmic);
}

} // namespace calibration_test
