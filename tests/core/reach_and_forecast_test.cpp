// Rows to come: how far they reach, their intervals by hand, and the door that every kind of model stands
// behind.
#include "estimate/distributions.h"
#include "forecast/forecast.h"
#include "study/study.h"
#include "support/support.h"

#include <algorithm>
#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace reach_and_forecast_test {

/// Learning rows for reach: x from 0 to 100, region with its own stretch of x, product or not.
std::string learningText() {
    std::string text = "x,region,contract,day,y\n";
    for (int i = 0; i <= 100; ++i) {
        const bool north = i <= 60; // south is seen from 30 to 100 only
        const bool annual = i % 2 == 0 && north;
        text += std::to_string(i) + (north ? ",north," : ",south,") + (annual ? "annual" : "spot") +
                ",2024-0" + std::to_string(1 + i % 6) + "-15," + std::to_string(3 * i + (i * 7) % 5) + "\n";
    }
    for (int i = 30; i <= 60; ++i)
        text += std::to_string(i) + ",south,spot,2024-03-15," + std::to_string(3 * i + 1) + "\n";
    return text;
}

Evidence forecastOf(Recipe recipe, const std::string& coming, double level = 0.95) {
    StudyRows rows;
    rows.learning = readBytes(learningText());
    TextOptions options;
    options.kinds = {{"x", ColumnKind::number},
                     {"region", ColumnKind::factor},
                     {"contract", ColumnKind::factor},
                     {"day", ColumnKind::date}};
    options.kindsMayBeAbsent = true;
    rows.forecast = readTextBytes(coming, "plan.csv", options, {1}, quietly());
    recipe.forecast = ForecastRequest{};
    recipe.forecast->level = level;
    return evaluate(recipe, rows, {}, quietly());
}

bool says(const Reach& reach, const std::string& what) {
    return std::any_of(reach.reasons.begin(), reach.reasons.end(),
                       [&](const std::string& reason) { return reason.find(what) != std::string::npos; });
}

/// The simplest kind there is: the mean of what was learned, and how far x is from it.
class MeanOnly final : public LearnedModel {
public:
    explicit MeanOnly(double mean) : m_mean(mean) {}
    const std::string& kind() const override {
        static const std::string name = "mean only";
        return name;
    }
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override {
        return Eigen::MatrixXd::Constant(inputs.rows(), 1, m_mean);
    }
    Eigen::VectorXd distances(const Eigen::MatrixXd& inputs) const override {
        return (inputs.col(0).array() - 50).abs();
    }
    DistanceScale distanceScale() const override { return {"distance to the middle", 25, 50}; }
    std::vector<std::string> problems(std::span<const double> inputs) const override {
        return inputs[0] == 13 ? std::vector<std::string>{"13 is no number to go by"}
                               : std::vector<std::string>{};
    }
    std::vector<NamedNumber> says() const override { return {}; }
    std::string text() const override { return {}; }

private:
    double m_mean;
};

TEST(Reach, RangesHaveAnEdgeOfATwentiethOfTheirWidth) {
    const Evidence e = forecastOf(recipeOf("y", {"x"}), "x\n50\n100\n105\n105.1\n-5\n-6\n");
    const auto& reach = e.forecast->reach;
    EXPECT_EQ(reach[0].grade, ReachGrade::inside);
    EXPECT_TRUE(reach[0].reasons.empty());
    EXPECT_EQ(reach[1].grade, ReachGrade::inside);
    EXPECT_EQ(reach[2].grade, ReachGrade::edge);
    EXPECT_TRUE(says(reach[2], "x 105 is above the highest seen, 100")) << reach[2].reasons.front();
    EXPECT_EQ(reach[3].grade, ReachGrade::outside);
    EXPECT_EQ(reach[4].grade, ReachGrade::edge);
    EXPECT_EQ(reach[5].grade, ReachGrade::outside);
    EXPECT_TRUE(says(reach[5], "is below the lowest seen, 0"));
    EXPECT_EQ(e.forecast->inside, 2U);
    EXPECT_EQ(e.forecast->edge, 2U);
    EXPECT_EQ(e.forecast->outside, 2U);
}

TEST(Reach, StretchesAndPairsWeighMoreWhereTheModelMultipliesThem) {
    const std::string coming = "x,region,contract\n10,south,spot\n80,south,annual\n50,north,spot\n";
    Recipe plain = recipeOf("y", {"x", "region", "contract"});
    const auto apart = forecastOf(plain, coming).forecast->reach;
    EXPECT_EQ(apart[0].grade, ReachGrade::edge) << "south begins at 30";
    EXPECT_TRUE(says(apart[0], "x 10 with region = south: seen only from 30")) << apart[0].reasons.front();
    EXPECT_EQ(apart[1].grade, ReachGrade::edge);
    EXPECT_TRUE(says(apart[1], "region = south was never seen with contract = annual") ||
                says(apart[1], "contract = annual was never seen with region = south"));
    EXPECT_EQ(apart[2].grade, ReachGrade::inside);
    Recipe product = plain;
    product.terms.push_back({{TermPart{"x"}, TermPart{"region"}}});
    const auto together = forecastOf(product, coming).forecast->reach;
    EXPECT_EQ(together[0].grade, ReachGrade::outside) << "a product is extended where it was not seen";
    EXPECT_EQ(together[1].grade, ReachGrade::edge) << "these two are not multiplied";
}

TEST(Reach, WhatCannotBePredictedSaysWhy) {
    Recipe recipe = recipeOf("y", {"region"});
    TermPart log{"x"};
    log.logarithm = true;
    recipe.terms.push_back({{log}});
    recipe.leaveOut = {{1, "x is 0"}};
    const Evidence e = forecastOf(recipe, "x,region\n10,west\n,north\n0,north\n-1,\n20,north\n");
    const auto& reach = e.forecast->reach;
    EXPECT_TRUE(says(reach[0], "region = west was never learned from"));
    EXPECT_TRUE(says(reach[1], "x is missing"));
    EXPECT_TRUE(says(reach[2], "ln(x) is not defined at 0"));
    EXPECT_EQ(reach[3].reasons.size(), 2U) << "both reasons are said";
    for (std::size_t i = 0; i < 4; ++i) {
        EXPECT_EQ(reach[i].grade, ReachGrade::outside) << i;
        EXPECT_TRUE(std::isnan(e.forecast->prediction[i])) << i;
    }
    EXPECT_EQ(e.forecast->unpredicted, 4U);
    EXPECT_FALSE(std::isnan(e.forecast->prediction[4]));
}

TEST(Forecasts, IntervalsOfALineAreThoseOfTheTextbook) {
    // x̂ ± t·s·√(1 + 1/n + (x − x̄)²/Sxx): Draper and Smith 1998, eq. 3.1.3, worked out here by plain sums.
    StudyRows rows;
    rows.learning = readBytes("x,y\n1,2.1\n2,3.9\n3,6.2\n4,7.8\n5,10.1\n6,12.2\n7,13.7\n");
    rows.forecast = readTextBytes("x\n3.5\n8\n", "plan.csv", {}, {1}, quietly());
    const std::vector<double> x{1, 2, 3, 4, 5, 6, 7}, y{2.1, 3.9, 6.2, 7.8, 10.1, 12.2, 13.7};
    double mx = 0, my = 0, sxx = 0, sxy = 0, sse = 0;
    for (std::size_t i = 0; i < 7; ++i) {
        mx += x[i] / 7;
        my += y[i] / 7;
    }
    for (std::size_t i = 0; i < 7; ++i) {
        sxx += (x[i] - mx) * (x[i] - mx);
        sxy += (x[i] - mx) * (y[i] - my);
    }
    const double b = sxy / sxx, a = my - b * mx;
    for (std::size_t i = 0; i < 7; ++i)
        sse += (y[i] - a - b * x[i]) * (y[i] - a - b * x[i]);
    const double s = std::sqrt(sse / 5);
    Recipe recipe = recipeOf("y", {"x"});
    recipe.forecast = ForecastRequest{};
    for (const double level : {0.5, 0.8, 0.95, 0.999}) {
        recipe.forecast->level = level;
        const ForecastEvidence f = *evaluate(recipe, rows, {}, quietly()).forecast;
        const double t = studentQuantile(level, 5);
        for (std::size_t i = 0; i < 2; ++i) {
            const double at = i == 0 ? 3.5 : 8, said = a + b * at;
            const double of = 1.0 / 7 + (at - mx) * (at - mx) / sxx;
            EXPECT_NEAR(f.prediction[i], said, 1e-12);
            EXPECT_NEAR(f.meanUpper[i] - said, t * s * std::sqrt(of), 1e-12) << level;
            EXPECT_NEAR(said - f.meanLower[i], t * s * std::sqrt(of), 1e-12) << level;
            EXPECT_NEAR(f.upper[i] - said, t * s * std::sqrt(1 + of), 1e-12) << level;
            EXPECT_NEAR(said - f.lower[i], t * s * std::sqrt(1 + of), 1e-12) << level;
        }
        EXPECT_EQ(f.intervals, "by theory");
    }
}

TEST(Forecasts, TotalsAddUpAndTheirErrorsDoNot) {
    Recipe recipe = recipeOf("y", {"x", "region"});
    const Evidence e =
        forecastOf(recipe, "x,region,day\n10,north,2025-01-15\n20,north,2025-01-15\n30,south,2025-02-15\n"
                           "40,north,\n,north,2025-02-15\n");
    const ForecastEvidence& f = *e.forecast;
    ASSERT_EQ(f.totalsBy, "day");
    ASSERT_EQ(f.coming.size(), 2U) << "a row without a day is in no total";
    EXPECT_EQ(f.coming[0].rows, 2U);
    EXPECT_EQ(f.coming[1].rows, 1U) << "nor is one without a prediction";
    EXPECT_NEAR(f.coming[0].predicted, f.prediction[0] + f.prediction[1], 1e-9);
    const double half = f.coming[0].upper - f.coming[0].predicted;
    EXPECT_LT(half, (f.upper[0] - f.prediction[0]) + (f.upper[1] - f.prediction[1]));
    EXPECT_GT(half, f.upper[0] - f.prediction[0]);
    EXPECT_NEAR(f.coming[1].upper, f.upper[2], 1e-9) << "of one row the total is the row";
    double before = 0;
    for (const PeriodTotal& total : f.history)
        before += total.actual;
    double all = 0;
    for (const double y : e.rows.actual)
        all += y;
    EXPECT_NEAR(before, all, 1e-9) << "every learning row has a day";
}

TEST(Door, AnyModelForecastsReachesAndIsCarriedBack) {
    // A kind nobody listed: the rest of the house needs nothing of it but LearnedModel.
    const Table learning = readBytes(learningText()).table;
    std::vector<std::uint32_t> rows(learning.rows());
    for (std::uint32_t i = 0; i < rows.size(); ++i)
        rows[i] = i;
    const Inputs inputs = learnInputs(learning, rows, {"x"}, {}, "rows.csv");
    const MeanOnly model(std::log(100));
    PredictionRule rule;
    rule.link = {.kind = Link::Kind::logarithm, .smearing = 1.5};
    rule.intervals = IntervalsByErrors{.sizes = {0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9}};
    const BoundModel bound(inputs, model, rule, learning, "rows.csv");
    const std::vector<Term> terms{plainTerm("x")};
    const LearnedRows learned{learning, "rows.csv", learning.at("y", "").numbers(), bound, terms, rows};
    const Table coming = readBytes("x\n50\n13\n99.9\n\n").table;
    ForecastEvidence f = forecastRows(learned, coming, "plan.csv", 0.5, {1}, quietly());
    EXPECT_NEAR(f.prediction[0], 150, 1e-9) << "exp and smearing are outside of the model";
    EXPECT_NEAR(f.lower[0], 100 * std::exp(-0.5), 1e-9) << "the 5th of 9 sizes: ⌈0.5·10⌉";
    EXPECT_NEAR(f.upper[0], 100 * std::exp(0.5), 1e-9);
    EXPECT_EQ(f.reach[0].grade, ReachGrade::inside);
    EXPECT_EQ(f.reach[1].reasons, (std::vector<std::string>{"13 is no number to go by"}));
    EXPECT_TRUE(std::isnan(f.prediction[1]));
    EXPECT_EQ(f.reach[2].grade, ReachGrade::inside)
        << "49.9 is below the largest distance and twice the average";
    setForecastLevel(f, learned, "plan.csv", 0.9);
    EXPECT_NEAR(f.upper[0], 100 * std::exp(0.9), 1e-9) << "the last: ⌈0.9·10⌉";
    setForecastLevel(f, learned, "plan.csv", 0.95);
    EXPECT_TRUE(std::isnan(f.upper[0])) << "nine rows say nothing of 95 %";
    EXPECT_NEAR(f.prediction[0], 150, 1e-9);
}

TEST(Door, TheRuleOfRowsLeftOutTakesTheRightPlace) {
    PredictionRule rule;
    EXPECT_TRUE(std::isnan(rule.halfByErrors(0.5))) << "nothing was left out";
    IntervalsByErrors errors;
    for (int i = 1; i <= 19; ++i)
        errors.sizes.push_back(i);
    rule.intervals = errors;
    EXPECT_EQ(rule.halfByErrors(0.95), 19) << "⌈0.95·20⌉ is 19 whatever the rounding of the product";
    EXPECT_EQ(rule.halfByErrors(0.9), 18);
    EXPECT_EQ(rule.halfByErrors(0.901), 19);
    EXPECT_TRUE(std::isnan(rule.halfByErrors(0.96)));
    EXPECT_EQ(rule.toResponseScale(3), 3);
    rule.link = {.kind = Link::Kind::logarithm, .smearing = 2};
    EXPECT_DOUBLE_EQ(rule.toResponseScale(std::log(3.0)), 6);
}

} // namespace reach_and_forecast_test
