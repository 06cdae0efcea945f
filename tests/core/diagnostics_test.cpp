// Full inference and diagnostics against values computed independently in 80-digit arithmetic on public data
// sets (tests/reference/published/README.md: longley, stackloss, diabetes).
#include "estimate/linear/least_squares.h"
#include "support/support.h"

#include <iostream>

using namespace oxgoad;
using namespace oxgoad::test;

namespace diagnostics_test {

struct Case {
    const char* name;
    const char* response;
    double floor;
};

void PrintTo(const Case& c, std::ostream* out) {
    *out << c.name;
}

class Diagnostics : public testing::TestWithParam<Case> {
protected:
    void SetUp() override {
        json = publishedJson(std::string(GetParam().name) + "_diagnostics");
        rows = publishedRows(GetParam().name);
        recipe = recipeOf(GetParam().response, {});
        for (std::size_t i = 1; i < json["parameters"].size(); ++i)
            recipe.terms.push_back(plainTerm(json["parameters"][i]));
    }
    double leastDigits(const std::vector<double>& values, const nlohmann::json& reference) {
        double least = 16;
        for (std::size_t i = 0; i < reference.size(); ++i)
            least = std::min(least, digits(values[i], reference[i]));
        return least;
    }
    nlohmann::json json;
    StudyRows rows;
    Recipe recipe;
};

TEST_P(Diagnostics, InferenceAgrees) {
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const auto& ols = json["ols"];
    std::vector<double> b, se, t, p, low, high;
    for (const auto& c : e.linear->coefficients) {
        b.push_back(c.estimate);
        se.push_back(c.standardError);
        t.push_back(c.t);
        p.push_back(c.p);
        low.push_back(c.lower);
        high.push_back(c.upper);
    }
    const double floor = GetParam().floor;
    std::cout << "[ digits   ] " << GetParam().name << ": coefficients " << leastDigits(b, ols["coef"])
              << ", standard errors " << leastDigits(se, ols["se"]) << ", p " << leastDigits(p, ols["p"])
              << "\n";
    EXPECT_GE(leastDigits(b, ols["coef"]), floor);
    EXPECT_GE(leastDigits(se, ols["se"]), floor);
    EXPECT_GE(leastDigits(t, ols["t"]), floor);
    EXPECT_GE(leastDigits(p, ols["p"]), floor - 1);
    EXPECT_GE(leastDigits(low, ols["ci95_low"]), floor - 1);
    EXPECT_GE(leastDigits(high, ols["ci95_high"]), floor - 1);
    EXPECT_GE(digits(e.linear->rSquared, ols["r2"]), 13);
    EXPECT_GE(digits(e.linear->adjustedRSquared, ols["adj_r2"]), 13);
    EXPECT_GE(digits(e.linear->residualStandardDeviation, ols["resid_sd"]), 12);
    EXPECT_GE(digits(e.linear->f, ols["F"]), 11);
    EXPECT_GE(digits(e.linear->fP, ols["F_p"]), 10);
}

TEST_P(Diagnostics, LeverageResidualsAndCooksDistancesAgree) {
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const double floor = GetParam().floor - 2;
    EXPECT_GE(leastDigits(e.rows.fitted, json["rows"]["fitted"]), floor);
    EXPECT_GE(leastDigits(e.linear->rows.leverage, json["rows"]["leverage"]), floor);
    EXPECT_GE(leastDigits(e.linear->rows.studentized, json["rows"]["stud_external"]), floor - 1);
    EXPECT_GE(leastDigits(e.linear->rows.cook, json["rows"]["cook"]), floor - 1);
}

TEST_P(Diagnostics, InflationAndSpreadAgree) {
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    for (const auto& term : e.linear->terms)
        EXPECT_GE(digits(term.inflation, json["vif"][term.name]), 10) << term.name;
    for (const Reading& reading : e.readings) {
        if (reading.name != "unequal spread") continue;
        EXPECT_GE(digits(reading.value, json["breusch_pagan"]["studentized_LM"]), 10);
        EXPECT_GE(digits(*reading.p, json["breusch_pagan"]["studentized_LM_p"]), 10);
        return;
    }
    FAIL() << "there is no reading of the spread";
}

TEST_P(Diagnostics, PredictionIntervalsAgree) {
    const auto& given = json["prediction_intervals"];
    std::vector<Column> columns;
    for (std::size_t j = 0; j < recipe.terms.size(); ++j) {
        std::vector<double> values;
        for (const auto& row : given["x"])
            values.push_back(row[j]);
        columns.push_back(Column::ofNumbers(recipe.terms[j].parts[0].column, values));
    }
    rows.forecast = RowsRead{Table(columns), {}};
    recipe.forecast = forecastOf("plan.csv", std::stod(given["level"].get<std::string>()));
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const double floor = GetParam().floor - 2;
    EXPECT_GE(leastDigits(e.forecast->prediction, given["fit"]), floor);
    EXPECT_GE(leastDigits(e.forecast->meanLower, given["mean_low"]), floor);
    EXPECT_GE(leastDigits(e.forecast->meanUpper, given["mean_high"]), floor);
    EXPECT_GE(leastDigits(e.forecast->lower, given["obs_low"]), floor);
    EXPECT_GE(leastDigits(e.forecast->upper, given["obs_high"]), floor);
}

INSTANTIATE_TEST_SUITE_P(Public, Diagnostics,
                         testing::Values(Case{"longley", "TOTEMP", 12}, Case{"stackloss", "STACKLOSS", 13},
                                         Case{"diabetes", "y", 12}),
                         [](const auto& each) { return std::string(each.param.name); });

TEST(Scores, HeldOutScoresAgreeOnDiabetes) {
    // Rows 1..300 learn, 301..442 judge; test R² about the test mean, as the reference states.
    const auto reference = publishedJson("diabetes_diagnostics")["train_test_split"]["raw"];
    const Table table = publishedRows("diabetes").learning.table;
    Eigen::MatrixXd x(442, 10);
    Eigen::VectorXd y(442);
    Eigen::Index j = 0;
    for (const auto* name : {"age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"}) {
        const Column& column = table.at(name, "diabetes");
        for (Eigen::Index i = 0; i < 442; ++i)
            x(i, j) = column.numbers()[static_cast<std::size_t>(i)];
        ++j;
    }
    const Column& response = table.at("y", "diabetes");
    for (Eigen::Index i = 0; i < 442; ++i)
        y[i] = response.numbers()[static_cast<std::size_t>(i)];
    const Eigen::MatrixXd learning = x.topRows(300);
    const auto fit = fitLeastSquares(MatrixRows(learning), std::span(y.data(), 300), {}, quietly());
    const Eigen::VectorXd predicted = fit.predict(x.bottomRows(142));
    const auto train = score(std::span(y.data(), 300), std::span(fit.fitted.data(), 300), y.head(300).mean());
    const auto test =
        score(std::span(y.data() + 300, 142), std::span(predicted.data(), 142), y.head(300).mean());
    EXPECT_GE(digits(train.rSquared, reference["train_r2"]), 12);
    EXPECT_GE(digits(train.rmse * train.rmse, reference["train_mse"]), 12);
    EXPECT_GE(digits(train.mae, reference["train_mae"]), 12);
    EXPECT_GE(digits(test.rSquared, reference["test_r2"]), 12);
    EXPECT_GE(digits(test.rmse * test.rmse, reference["test_mse"]), 12);
    EXPECT_GE(digits(test.mae, reference["test_mae"]), 12);
}

TEST(Scores, ErrorsRelativeToTheLearningMean) {
    // By hand: actual 1, 2, 6 about a learning mean of 2 gives Σ|d| = 1 + 0 + 4 and Σd² = 1 + 0 + 16.
    const std::vector<double> actual{1, 2, 6}, predicted{2, 2, 4};
    const auto s = score(actual, predicted, 2);
    EXPECT_DOUBLE_EQ(s.relativeAbsoluteError, 3.0 / 5);
    EXPECT_DOUBLE_EQ(s.relativeSquaredError, 5.0 / 17);
    EXPECT_DOUBLE_EQ(s.mae, 1);
    EXPECT_DOUBLE_EQ(s.rSquared, 1 - 5.0 / 14);
}

} // namespace diagnostics_test
