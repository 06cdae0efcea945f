// Effects, marginal effects, and the fit read aloud.
#include "base/error.h"
#include "base/text.h"
#include "study/compare.h"
#include "study/effects.h"
#include "study/marginal_effects.h"
#include "study/say.h"
#include "support/support.h"

using namespace oxgoad;
using namespace oxgoad::test;

namespace effects_test {

Recipe demoRecipe() {
    return readRecipe(std::filesystem::path(OXGOAD_DEMO) / "3_rate_by_contract.json");
}

const StudyRows& demoRows() {
    static const StudyRows rows = loadRows(demoRecipe(), OXGOAD_DEMO, {}, quietly());
    return rows;
}

/// The model of the demo's maker up to the saturation, which is taken as a curve; spread grows with size.
Recipe planted() {
    Recipe recipe = demoRecipe();
    recipe.terms.clear();
    for (const char* column : {"places", "list_rate", "contract", "energy_price", "calendar_month"})
        recipe.terms.push_back(plainTerm(column));
    TermPart curve{"occupancy"};
    curve.form = Form::spline;
    recipe.terms.push_back(Term{{curve}});
    recipe.terms.push_back(Term{{TermPart{"list_rate"}, TermPart{"contract"}}});
    recipe.errors.kind = CovarianceKind::hc3;
    recipe.leaveOut = readRecipe(std::filesystem::path(OXGOAD_DEMO) / "4_two_rows_left_out.json").leaveOut;
    return recipe;
}

Evidence planted(const Recipe& recipe) {
    return evaluate(recipe, demoRows(), {}, quietly());
}

TEST(Effects, TheBandIsTheForecastsAtTheSamePlace) {
    // Rows to forecast at the held values and along the column.
    const std::string text = "x,z,g,y\n1,2,a,3\n2,3,b,6\n3,1,a,4\n4,5,b,11\n5,2,a,7\n6,8,b,15\n7,1,b,9\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"x", "z", "g"});
    const Evidence first = evaluate(recipe, rows, {}, quietly());
    const Table& table = rows.learning.table;
    const Effect effect = effectOf(first, table, "x", {{"z", 4}}, quietly());
    ASSERT_EQ(effect.lines.size(), 1u);
    EXPECT_EQ(effect.lowest, 1);
    EXPECT_EQ(effect.highest, 7);
    ASSERT_EQ(effect.held.size(), 2u);
    EXPECT_EQ(effect.held[0].text, "4");
    EXPECT_EQ(effect.held[1].text, "b"); // four rows of seven
    rows.forecast = readBytes("x,z,g\n1,4,b\n7,4,b\n");
    recipe.forecast.emplace();
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    EXPECT_NEAR(effect.lines[0].mean.front(), e.forecast->prediction[0], 1e-12);
    EXPECT_NEAR(effect.lines[0].lower.front(), e.forecast->meanLower[0], 1e-12);
    EXPECT_NEAR(effect.lines[0].upper.back(), e.forecast->meanUpper[1], 1e-12);
    // A partial residual is the line at the row's value plus the row's residual.
    const double slope = first.linear->coefficients[1].estimate;
    EXPECT_NEAR(effect.rows.y[2], effect.lines[0].mean.front() + slope * (3 - 1) + first.rows.residual[2],
                1e-12);
    double counted = 0;
    for (const double d : effect.density)
        counted += d;
    EXPECT_EQ(counted, 7);
    EXPECT_NE(errorOf([&] { effectOf(first, table, "w", {}, quietly()); }).find("does not use this column"),
              std::string::npos);
}

TEST(Effects, LinesOfAPairStopWhereTheirRowsDo) {
    StudyRows rows;
    rows.learning = readBytes("x,g,y\n1,a,3\n2,a,6\n3,a,4\n4,a,5\n10,b,1\n12,b,5\n14,b,4\n16,b,8\n");
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const Effect effect = pairEffect(e, rows.learning.table, "x", "g", {}, quietly());
    ASSERT_EQ(effect.lines.size(), 2u);
    EXPECT_EQ(effect.lines[0].at.back(), 4);
    EXPECT_EQ(effect.lines[1].at.front(), 10);
    // With a slope of its own each level is fitted as if alone.
    StudyRows alone;
    alone.learning = readBytes("x,y\n10,1\n12,5\n14,4\n16,8\n");
    const Evidence own = evaluate(recipeOf("y", {"x"}), alone, {}, quietly());
    EXPECT_NEAR(effect.lines[1].mean.back(),
                own.linear->coefficients[0].estimate + 16 * own.linear->coefficients[1].estimate, 1e-10);
    const auto equations = equationsByLevel(e, "g");
    ASSERT_EQ(equations.size(), 2u);
    ASSERT_EQ(equations[1].parts.size(), 2u);
    EXPECT_EQ(equations[1].parts[0].name, "constant");
    EXPECT_NEAR(equations[1].parts[0].estimate, own.linear->coefficients[0].estimate, 1e-10);
    EXPECT_EQ(equations[1].parts[1].name, "x");
    EXPECT_NEAR(equations[1].parts[1].estimate, own.linear->coefficients[1].estimate, 1e-10);
    // Its error is that of the pooled spread.
    EXPECT_NEAR(equations[1].parts[1].standardError,
                own.linear->coefficients[1].standardError * e.linear->residualStandardDeviation /
                    own.linear->residualStandardDeviation,
                1e-10);
}

TEST(Effects, TwoNumbersGiveALineForEachQuartile) {
    StudyRows rows;
    std::string text = "x,z,y\n";
    for (int i = 0; i < 40; ++i)
        text += std::to_string(i) + "," + std::to_string(i + i % 3) + "," + std::to_string(i * i % 17) + "\n";
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"x", "z"});
    recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"z"}}});
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const Effect effect = pairEffect(e, rows.learning.table, "x", "z", {}, quietly());
    ASSERT_EQ(effect.lines.size(), 3u);
    EXPECT_EQ(effect.lines[1].label, "z = 21");
    // Only over the third of the rows around it, and by the model's own equation there.
    EXPECT_GT(effect.lines[2].at.front(), effect.lines[0].at.back());
    const auto& c = e.linear->coefficients;
    const double x = effect.lines[1].at[10];
    EXPECT_NEAR(effect.lines[1].mean[10],
                c[0].estimate + c[1].estimate * x + c[2].estimate * 21 + c[3].estimate * x * 21, 1e-9);
}

TEST(MarginalEffects, OfStraightTermsAreTheCoefficients) {
    const auto rows = publishedRows("diabetes");
    Recipe recipe = recipeOf("y", {"bmi", "bp"});
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const auto effects = averageMarginalEffects(e, rows.learning.table, {2}, quietly());
    ASSERT_EQ(effects.size(), 2u);
    EXPECT_NEAR(effects[0].effect, e.linear->coefficients[1].estimate, 1e-8);
    EXPECT_NEAR(effects[0].standardError, e.linear->coefficients[1].standardError, 1e-7);
    // With a square: b + 2c times the mean.
    recipe.terms.push_back(Term{{TermPart{"bmi", 2}}});
    const Evidence bent = evaluate(recipe, rows, {}, quietly());
    double mean = 0;
    for (const double v : rows.learning.table.at("bmi", "").numbers())
        mean += v / 442;
    const auto of = averageMarginalEffects(bent, rows.learning.table, {1}, quietly());
    EXPECT_NEAR(of[0].effect,
                bent.linear->coefficients[1].estimate + 2 * mean * bent.linear->coefficients[3].estimate,
                1e-7);
}

TEST(MarginalEffects, OfLogarithmsAreSlopesTimesPredictions) {
    const auto rows = publishedRows("diabetes");
    Recipe recipe = recipeOf("y", {"bmi"});
    recipe.logResponse = true;
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    double mean = 0;
    for (const double v : e.rows.fitted)
        mean += v / 442;
    const auto effects = averageMarginalEffects(e, rows.learning.table, {1}, quietly());
    EXPECT_NEAR(effects[0].effect / (e.linear->coefficients[1].estimate * mean), 1, 1e-7);
    // Its error by the delta method, written out: the effect is b1·mean(f), f = exp(b0 + b1·x)·s, and changes
    // with b0 by itself and with b1 by mean(f) + b1·mean(x·f); the covariance of both is σ²(X'X)⁻¹.
    const auto x = rows.learning.table.at("bmi", "").numbers();
    double xf = 0, sx = 0, sxx = 0;
    for (std::size_t i = 0; i < 442; ++i) {
        xf += x[i] * e.rows.fitted[i] / 442;
        sx += x[i];
        sxx += x[i] * x[i];
    }
    const double b1 = e.linear->coefficients[1].estimate, d0 = b1 * mean, d1 = mean + b1 * xf;
    const double determinant = 442 * sxx - sx * sx;
    const double variance = (d0 * d0 * sxx - 2 * d0 * d1 * sx + d1 * d1 * 442) / determinant *
                            e.linear->residualStandardDeviation * e.linear->residualStandardDeviation;
    EXPECT_NEAR(effects[0].standardError / std::sqrt(variance), 1, 1e-6);
}

// The demo's rows are made with slopes of 3,900, 5,800 and 6,900 EUR for spot, annual and anchor.
TEST(Planted, SlopesPerContractAreWithinTheirIntervals) {
    const Recipe recipe = planted();
    const Evidence e = planted(recipe);
    const auto equations = equationsByLevel(e, "contract");
    ASSERT_EQ(equations.size(), 3u);
    const std::map<std::string, double> truth{{"spot", 3900}, {"annual", 5800}, {"anchor", 6900}};
    for (const LevelEquation& level : equations) {
        const auto slope = std::find_if(level.parts.begin(), level.parts.end(),
                                        [](const auto& p) { return p.name == "list_rate"; });
        ASSERT_NE(slope, level.parts.end());
        std::printf("[ planted  ] %s: %.0f ± %.0f, planted %.0f\n", level.level.c_str(), slope->estimate,
                    slope->standardError, truth.at(level.level));
        EXPECT_LT(std::fabs(slope->estimate - truth.at(level.level)), 1.97 * slope->standardError)
            << level.level;
    }
    // Read aloud: the difference of annual to spot is 1,900.
    for (std::size_t c = 0; c < e.linear->coefficients.size(); ++c)
        if (e.linear->coefficients[c].name == "list_rate × contract = annual") {
            EXPECT_LT(e.linear->coefficients[c].lower, 1900);
            EXPECT_GT(e.linear->coefficients[c].upper, 1900);
            const std::string said = coefficientSentence(e, recipe, c);
            EXPECT_TRUE(said.starts_with("For contract = annual each extra EUR of list_rate goes with "))
                << said;
            EXPECT_NE(said.find(" EUR more revenue than for spot, the other terms held. 95 % interval "),
                      std::string::npos)
                << said;
        }
}

TEST(Planted, TheSaturationIsFoundAsACurve) {
    Recipe recipe = planted();
    const Evidence curved = planted(recipe);
    for (Term& term : recipe.terms)
        if (term.parts[0].column == "occupancy") term = plainTerm("occupancy");
    const Evidence straight = planted(recipe);
    // Against a straight line the curve explains more, and it rises ever less: 110,000·(1 −
    // exp(−occupancy/30)).
    EXPECT_LT(curved.linear->bic, straight.linear->bic);
    const auto prepared = prepareRows(recipe, demoRows(), {}, quietly());
    const Effect effect = effectOf(curved, prepared->table, "occupancy", {}, quietly());
    const auto& line = effect.lines[0];
    const auto rise = [&](double from, double to) {
        const auto at = [&](double x) {
            const auto i = static_cast<std::size_t>(std::lower_bound(line.at.begin(), line.at.end(), x) -
                                                    line.at.begin());
            return line.mean[i];
        };
        return at(to) - at(from);
    };
    EXPECT_GT(rise(55, 70), rise(75, 90));
}

TEST(Say, SentencesSayWhatTheCoefficientIs) {
    StudyRows rows;
    rows.learning = readBytes("rate,size,kind,y\n10,1,a,101\n12,2,a,118\n14,3,b,160\n16,1,b,170\n18,2,a,"
                              "175\n20,3,b,222\n11,2,b,133\n13,4,a,130\n15,1,b,162\n");
    Recipe recipe = recipeOf("y", {});
    recipe.units = {{"y", "EUR a month"}, {"rate", "EUR a week"}};
    const auto said = [&](std::vector<Term> terms, std::size_t c) {
        recipe.terms = std::move(terms);
        return coefficientSentence(evaluate(recipe, rows, {}, quietly()), recipe, c);
    };
    EXPECT_TRUE(said({plainTerm("rate")}, 1)
                    .starts_with("Each extra EUR of rate goes with 10.6 ± 1.2 EUR more y, the other terms "
                                 "held. 95 % interval "))
        << said({plainTerm("rate")}, 1);
    EXPECT_TRUE(said({plainTerm("kind")}, 1).starts_with("For kind = b the model says "))
        << said({plainTerm("kind")}, 1);
    EXPECT_TRUE(said({Term{{TermPart{"rate", 1, true}}}}, 1)
                    .starts_with("1 % more of rate goes with 1.51 ± 0.19 EUR more y"))
        << said({Term{{TermPart{"rate", 1, true}}}}, 1);
    TermPart standard{"size"};
    standard.form = Form::standardised;
    EXPECT_NE(said({Term{{standard}}}, 1).find("One standard deviation ("), std::string::npos);
    EXPECT_NE(said({Term{{standard}}}, 1).find("for each extra unit; 0 is 2.11111."), std::string::npos)
        << said({Term{{standard}}}, 1);
    TermPart pieces{"rate"};
    pieces.form = Form::pieces;
    pieces.knots = {15};
    EXPECT_NE(said({Term{{pieces}}}, 2).find("Beyond 15 EUR each extra EUR of rate goes with "),
              std::string::npos)
        << said({Term{{pieces}}}, 2);
    const Term pair{{TermPart{"rate"}, TermPart{"size"}}};
    EXPECT_TRUE(
        said({plainTerm("rate"), plainTerm("size"), pair}, 3)
            .starts_with("Each extra unit of size changes what each extra EUR of rate goes with by "));
    recipe.logResponse = true;
    EXPECT_NE(said({plainTerm("rate")}, 1).find(" % more y, the other terms held."), std::string::npos);
    recipe.terms = {plainTerm("kind")};
    EXPECT_EQ(referenceSentence(evaluate(recipe, rows, {}, quietly()), recipe, 0),
              "Differences are against kind = a, the reference level (4 of 9 learning rows). Another "
              "reference level changes "
              "what is compared, not the predictions.");
    EXPECT_TRUE(equationText(evaluate(recipe, rows, {}, quietly())).starts_with("ln(y) = "));
}

TEST(Say, NestedFitsAreComparedByTheirTest) {
    const auto rows = publishedRows("diabetes");
    Recipe small = recipeOf("y", {"bmi", "bp"}), large = recipeOf("y", {"bmi", "bp", "s5", "s3"});
    for (Recipe* recipe : {&small, &large})
        recipe->setAside = SetAside{.share = 0.3, .seed = 7};
    const Evidence a = evaluate(small, rows, {}, quietly()), b = evaluate(large, rows, {}, quietly());
    const std::string said = comparisonSentence({a, small, "fit 1"}, {b, large, "fit 2"});
    EXPECT_TRUE(said.starts_with("s5, s3 explains more than chance would (fit 2 against fit 1): F ")) << said;
    EXPECT_NE(said.find("AICc changes by −"), std::string::npos) << said;
    EXPECT_NE(said.find("rows both hold out fit 2 is off by "), std::string::npos) << said;
    const double f = (a.linear->residualSumOfSquares - b.linear->residualSumOfSquares) / 2 /
                     (b.linear->residualSumOfSquares / b.linear->degreesOfFreedom);
    EXPECT_NE(said.find(readableText(f, 4)), std::string::npos);
    const Comparison both = compareHeldOut(a, b);
    EXPECT_NEAR(both.difference, b.heldOut.rmse - a.heldOut.rmse, 1e-12);
    EXPECT_GT(both.differenceError, 0);
    // Other rows: no test.
    large.setAside->seed = 8;
    EXPECT_EQ(comparisonSentence({a, small, "fit 1"}, {evaluate(large, rows, {}, quietly()), large, "fit 2"})
                  .find(": F "),
              std::string::npos);
}

} // namespace effects_test
