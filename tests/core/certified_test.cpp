// Least squares against certified values: the Statistical Reference Datasets of the U.S. National Institute
// of Standards and Technology (linear regression and analysis of variance;
// tests/reference/published/README.md gives the way each set came here). Each test prints the digits reached;
// the floors are what the doubles leave: powers of x rounded to double cap Filip at 7.9 digits, and SmLs07's
// data at about 4 (the files say so).
#include "estimate/distributions.h"
#include "estimate/linear/least_squares.h"
#include "support/support.h"

#include <algorithm>
#include <iostream>

using namespace oxgoad;
using namespace oxgoad::test;

namespace certified_test {

struct Case {
    const char* name;
    int power; // 1: all other columns as they are
    double coefficientFloor;
    double errorFloor;
};

void PrintTo(const Case& c, std::ostream* out) {
    *out << c.name;
}

class CertifiedRegression : public testing::TestWithParam<Case> {};

Recipe recipeFor(const Case& c, const Table& table, bool intercept) {
    Recipe recipe = recipeOf("y", {});
    recipe.intercept = intercept;
    if (c.power > 1)
        for (int k = 1; k <= c.power; ++k)
            recipe.terms.push_back(Term{{TermPart{"x", k}}});
    else
        for (const Column& column : table.columns())
            if (column.name() != "y") recipe.terms.push_back(plainTerm(column.name()));
    return recipe;
}

TEST_P(CertifiedRegression, CoefficientsAndStandardErrors) {
    const Case& c = GetParam();
    const auto json = publishedJson(c.name);
    const auto& certified = json["certified"];
    const StudyRows rows = publishedRows(c.name);
    const Evidence e = evaluate(recipeFor(c, rows.learning.table, json["intercept"]), rows, {}, quietly());
    const auto& b = certified["coef"];
    ASSERT_EQ(e.linear->coefficients.size(), b.size());
    double coefficient = 16, error = 16;
    for (std::size_t i = 0; i < b.size(); ++i) {
        coefficient = std::min(coefficient, digits(e.linear->coefficients[i].estimate, b[i]));
        if (certified["se"][i] != 0.0)
            error = std::min(error, digits(e.linear->coefficients[i].standardError, certified["se"][i]));
    }
    const double sd = certified["resid_sd"] == 0.0
                          ? 16
                          : digits(e.linear->residualStandardDeviation, certified["resid_sd"]);
    const double r2 = digits(e.linear->rSquared, certified["r2"]);
    std::cout << "[ digits   ] " << c.name << ": coefficients " << coefficient << ", standard errors "
              << error << ", residual sd " << sd << ", R² " << r2 << "\n";
    RecordProperty("coefficient_digits", std::to_string(coefficient));
    EXPECT_GE(coefficient, c.coefficientFloor);
    EXPECT_GE(error, c.errorFloor);
    EXPECT_GE(sd, c.errorFloor);
    EXPECT_GE(r2, 9);
    if (certified["resid_sd"] == 0.0) { // the fit is exact: nothing but rounding may be left
        EXPECT_LT(e.linear->residualStandardDeviation, 1e-8 * std::sqrt(e.linear->totalSumOfSquares));
    }
}

INSTANTIATE_TEST_SUITE_P(Nist, CertifiedRegression,
                         testing::Values(Case{"nist_norris", 1, 13, 12}, Case{"nist_pontius", 2, 13, 12},
                                         Case{"nist_noint1", 1, 13, 12}, Case{"nist_noint2", 1, 13, 12},
                                         Case{"nist_filip", 10, 13, 12}, Case{"nist_longley", 1, 13, 12},
                                         Case{"nist_wampler1", 5, 13, 0}, Case{"nist_wampler2", 5, 13, 0},
                                         Case{"nist_wampler3", 5, 13, 12}),
                         [](const auto& each) { return std::string(each.param.name); });

class CertifiedVariance : public testing::TestWithParam<std::pair<const char*, double>> {};

TEST_P(CertifiedVariance, FOfOneFactor) {
    const auto [name, floor] = GetParam();
    const auto json = publishedJson(name);
    StudyRows rows;
    TextOptions options;
    options.kinds["group"] = ColumnKind::factor;
    rows.learning = readText(published(std::string("csv/") + name + ".csv"), options, {}, quietly());
    const Evidence e = evaluate(recipeOf("y", {"group"}), rows, {}, quietly());
    const double f = digits(e.linear->f, json["certified"]["F"]);
    const double sd = digits(e.linear->residualStandardDeviation, json["certified"]["resid_sd"]);
    std::cout << "[ digits   ] " << name << ": F " << f << ", residual sd " << sd << "\n";
    EXPECT_GE(f, floor);
    EXPECT_EQ(e.linear->fDegreesOfFreedom, json["certified"]["df_between"].get<double>());
    EXPECT_EQ(e.linear->degreesOfFreedom, json["certified"]["df_within"].get<double>());
    EXPECT_NEAR(e.linear->terms[0].f / e.linear->f, 1, 1e-7)
        << "the F of the only term is the F of the model";
}

INSTANTIATE_TEST_SUITE_P(Nist, CertifiedVariance,
                         testing::Values(std::pair{"nist_anova_sirstv", 12.0},
                                         std::pair{"nist_anova_smls01", 13.0},
                                         std::pair{"nist_anova_smls04", 9.0},
                                         std::pair{"nist_anova_smls07", 3.0}),
                         [](const auto& each) { return std::string(each.param.first); });

TEST(Distributions, TailsKeepTheirDigits) {
    // t with 5 df at 40: 9.2059810858864771e-08 two-sided half, an independent 60-digit closed form.
    EXPECT_GE(digits(studentTwoSided(40, 5), 2 * 9.2059810858864771e-08), 12);
    // chi-squared with 4 df: upper tail e^(-x/2)(1 + x/2).
    EXPECT_GE(digits(chiSquaredUpper(200, 4), std::exp(-100) * 101), 13);
    // F(2, 2) upper tail is 1/(1 + f).
    EXPECT_GE(digits(fisherUpper(1e12, 2, 2), 1 / (1 + 1e12)), 13);
    // t with 1 df is Cauchy: quantile tan(pi(level)/2).
    EXPECT_GE(digits(studentQuantile(0.95, 1), std::tan(std::acos(-1.0) * 0.475)), 13);
    EXPECT_TRUE(std::isnan(studentTwoSided(1, 0)));
    EXPECT_TRUE(std::isnan(studentQuantile(1.5, 3)));
    EXPECT_TRUE(std::isinf(studentQuantile(0.95, 1e-6))); // beyond doubles, and nothing is thrown
}

} // namespace certified_test
