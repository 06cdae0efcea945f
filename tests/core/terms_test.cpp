// Ways a column enters: against another library's bases (tests/reference/make/estimators_values.py), by hand,
// and what is refused.
#include "base/error.h"
#include "design/design.h"
#include "study/evaluate.h"
#include "study/say.h"
#include "support/support.h"

using namespace oxgoad;
using namespace oxgoad::test;
using nlohmann::json;

namespace terms_test {

const json& reference(const std::string& name) {
    static const json values = publishedJson("estimators")["terms"];
    return values[name];
}

TermPart part(const std::string& column, Form form, int count = 0) {
    TermPart p{column};
    p.form = form;
    p.count = count;
    return p;
}

/// The diabetes rows with s4, rounded and at most 6, as a factor.
const StudyRows& rows() {
    static const StudyRows made = [] {
        std::ifstream in(published("csv/diabetes.csv"));
        std::string line, text;
        std::getline(in, line);
        text = line + ",level\n";
        while (std::getline(in, line)) {
            std::vector<std::string> cells;
            std::stringstream parts(line);
            for (std::string cell; std::getline(parts, cell, ',');)
                cells.push_back(cell);
            text += line + "," +
                    std::to_string(static_cast<int>(std::min(6.0, std::nearbyint(std::stod(cells[7]))))) +
                    "\n";
        }
        StudyRows r;
        TextOptions options;
        options.kinds["level"] = ColumnKind::factor;
        r.learning = readBytes(text, options);
        return r;
    }();
    return made;
}

Evidence fitted(std::vector<Term> terms) {
    Recipe recipe = recipeOf("y", {});
    recipe.terms = std::move(terms);
    return evaluate(recipe, rows(), {}, quietly());
}

std::string refusal(const TermPart& p) {
    return errorOf([&] { fitted({Term{{p}}}); });
}

void expectSame(const Evidence& e, const json& values, double least = 9) {
    ASSERT_GE(e.linear->coefficients.size(), values["coef"].size());
    for (std::size_t i = 0; i < values["coef"].size(); ++i) {
        EXPECT_GT(digits(e.linear->coefficients[i].estimate, values["coef"][i]), least)
            << e.linear->coefficients[i].name;
        EXPECT_GT(digits(e.linear->coefficients[i].standardError, values["se"][i]), least)
            << e.linear->coefficients[i].name;
    }
}

TEST(Terms, ACurveSpansTheNaturalSplines) {
    const Evidence e = fitted({Term{{part("bmi", Form::spline)}}});
    EXPECT_EQ(e.linear->terms[0].name, "bmi as a curve with 4 knots");
    EXPECT_EQ(e.linear->terms[0].degreesOfFreedom, 3);
    EXPECT_GT(digits(e.linear->residualSumOfSquares, reference("curve_bmi_4")["rss"]), 11);
    for (std::size_t i = 0; i < 6; ++i)
        EXPECT_GT(digits(e.rows.fitted[i], reference("curve_bmi_4")["fitted"][i]), 10);
    // Straight beyond the outermost knots.
    const auto& columns = e.study->linear()->design.columns();
    const Basis& bend = columns[1].pieces[0].basis;
    const double last = bend.values->back();
    EXPECT_NEAR(bend.at(last + 2) - bend.at(last + 1), bend.at(last + 1) - bend.at(last), 1e-9);
    EXPECT_EQ(bend.at(bend.values->front() - 5), 0);
}

TEST(Terms, AnInteractionAndItsSlopesPerLevelAgree) {
    // y on bmi, sex, bp and bmi × sex; the other library orders sex, bmi, interaction, bp in its own way.
    StudyRows sexed;
    TextOptions options;
    options.kinds["sex"] = ColumnKind::factor;
    sexed.learning = readText(published("csv/diabetes.csv"), options, {}, quietly());
    Recipe recipe = recipeOf("y", {"bmi", "sex", "bp"});
    recipe.terms.push_back(Term{{TermPart{"bmi"}, TermPart{"sex"}}});
    const Evidence e = evaluate(recipe, sexed, {}, quietly());
    const json& values = reference("interaction");
    const std::map<std::string, std::string> named{{"intercept", "Intercept"},
                                                   {"bmi", "bmi"},
                                                   {"sex = 2", "C(sex)[T.2]"},
                                                   {"bp", "bp"},
                                                   {"bmi × sex = 2", "bmi:C(sex)[T.2]"}};
    for (const CoefficientEvidence& c : e.linear->coefficients) {
        const auto columns = values["columns"].get<std::vector<std::string>>();
        const auto at = static_cast<std::size_t>(std::find(columns.begin(), columns.end(), named.at(c.name)) -
                                                 columns.begin());
        ASSERT_LT(at, columns.size()) << c.name;
        EXPECT_GT(digits(c.estimate, values["coef"][at]), 9) << c.name;
        EXPECT_GT(digits(c.standardError, values["se"][at]), 9) << c.name;
    }
    for (const LevelEquation& level : equationsByLevel(e, "sex"))
        for (const LevelEquation::Part& slope : level.parts)
            if (slope.name == "bmi") {
                EXPECT_GT(digits(slope.estimate, values["by"][level.level]["slope"]), 9) << level.level;
                EXPECT_GT(digits(slope.standardError, values["by"][level.level]["se"]), 9) << level.level;
            }
}

TEST(Terms, StraightPiecesAgree) {
    const Evidence e = fitted({Term{{part("bmi", Form::pieces)}}});
    expectSame(e, reference("pieces_bmi_2"));
    TermPart own = part("bmi", Form::pieces);
    own.knots = reference("pieces_bmi_2")["knots"].get<std::vector<double>>();
    expectSame(fitted({Term{{own}}}), reference("pieces_bmi_2"));
    EXPECT_TRUE(e.linear->coefficients[2].name.starts_with("(bmi − 2")) << e.linear->coefficients[2].name;
}

TEST(Terms, DeviationsAndTrendsAgree) {
    // The other library drops the last level, so that the reference level here is made the last.
    Recipe recipe = recipeOf("y", {});
    recipe.terms = {Term{{part("level", Form::deviations)}}, plainTerm("bmi")};
    recipe.reference["level"] = "6";
    const Evidence sum = evaluate(recipe, rows(), {}, quietly());
    const json& values = reference("s4_Sum");
    double left = 0;
    for (std::size_t i = 0; i < 5; ++i)
        EXPECT_GT(digits(sum.linear->coefficients[i].estimate, values["coef"][i]), 9);
    for (std::size_t i = 1; i < 5; ++i)
        left -= sum.linear->coefficients[i].estimate;
    EXPECT_TRUE(sum.linear->coefficients[5].derived);
    EXPECT_NEAR(sum.linear->coefficients[5].estimate, left, 1e-9);
    EXPECT_GT(digits(sum.linear->coefficients[6].estimate, values["coef"][5]), 9);
    // The last level's error: what it is when another level is left without a column.
    recipe.reference["level"] = "2";
    const Evidence other = evaluate(recipe, rows(), {}, quietly());
    const auto found = std::find_if(other.linear->coefficients.begin(), other.linear->coefficients.end(),
                                    [](const auto& c) { return c.name == "level = 6 against the mean"; });
    EXPECT_GT(digits(sum.linear->coefficients[5].standardError, found->standardError), 10);
    expectSame(fitted({Term{{part("level", Form::trend)}}, plainTerm("bmi")}), reference("s4_Poly"), 8);
}

TEST(Terms, WavesAndStandardisedAgree) {
    TermPart wave = part("age", Form::wave, 2);
    wave.period = 12;
    expectSame(fitted({Term{{wave}}}), reference("wave_age_12"));
    const Evidence e = fitted({Term{{part("bmi", Form::standardised)}}});
    expectSame(e, reference("standardised_bmi"));
    EXPECT_GT(digits(e.linear->terms[0].centre, reference("standardised_bmi")["mean"]), 13);
    EXPECT_GT(digits(e.linear->terms[0].scale, reference("standardised_bmi")["sd"]), 13);
}

TEST(Terms, WaysOfEnteringThatSpanTheSameFitTheSame) {
    const auto rss = [](std::vector<Term> terms) {
        return fitted(std::move(terms)).linear->residualSumOfSquares;
    };
    const double square = rss({plainTerm("bmi"), Term{{TermPart{"bmi", 2}}}});
    EXPECT_GT(digits(rss({Term{{part("bmi", Form::polynomial)}}}), square), 12);
    const double levels = rss({plainTerm("level")});
    EXPECT_GT(digits(rss({Term{{part("level", Form::deviations)}}}), levels), 12);
    EXPECT_GT(digits(rss({Term{{part("level", Form::trend)}}}), levels), 12);
    const double straight =
        rss({plainTerm("bmi"), plainTerm("level"), Term{{TermPart{"bmi"}, TermPart{"level"}}}});
    EXPECT_GT(digits(rss({Term{{part("bmi", Form::centred)}}, plainTerm("level"),
                          Term{{part("bmi", Form::centred), TermPart{"level"}}}}),
                     straight),
              12);
    // A product of three.
    EXPECT_EQ(fitted({Term{{TermPart{"bmi"}, TermPart{"bp"}, TermPart{"level"}}}})
                  .linear->terms[0]
                  .degreesOfFreedom,
              4);
}

TEST(Terms, ScoresFollowTheOrderGiven) {
    TermPart scores = part("level", Form::scores);
    const Evidence natural = fitted({Term{{scores}}});
    EXPECT_EQ(natural.linear->coefficients[1].name, "level as scores");
    scores.order = {"6", "5", "4", "3", "2"};
    EXPECT_NEAR(fitted({Term{{scores}}}).linear->coefficients[1].estimate,
                -natural.linear->coefficients[1].estimate, 1e-9);
    scores.scores = {5, 4, 3, 2, 1};
    EXPECT_NEAR(fitted({Term{{scores}}}).linear->coefficients[1].estimate,
                natural.linear->coefficients[1].estimate, 1e-9);
}

TEST(Terms, TheYearlyWaveComesBackEachYear) {
    const auto table =
        readBytes("d,y\n2024-01-01,1\n2024-07-01,2\n2025-01-01,3\n2025-04-01,5\n2026-01-01,4\n").table;
    const std::vector<std::uint32_t> all{0, 1, 2, 3, 4};
    const auto design = Design::learn(table, all, {Term{{part("d", Form::wave)}}}, {}, "rows.csv");
    ASSERT_EQ(design.columns().size(), 2u);
    EXPECT_EQ(design.columns()[0].name, "cos(2π·d in years)");
    Eigen::MatrixXd block(5, 2);
    BoundDesign(design, table, "rows.csv").fill(all, block);
    EXPECT_EQ(block(0, 0), 1);
    EXPECT_EQ(block(2, 0), 1); // though 2024 has 366 days
    EXPECT_EQ(block(4, 1), 0);
    EXPECT_NEAR(block(1, 0), -1, 0.001);
}

TEST(Terms, ContrastsOfFiveLevelsAreTheTabledOnes) {
    // Fisher and Yates, table XXIII, for five equal steps: −2 −1 0 1 2 and 2 −1 −2 −1 2.
    const std::vector<double> scores{1, 2, 3, 4, 5};
    const auto contrasts = trendContrasts(scores, 2);
    const double linear[] = {-2, -1, 0, 1, 2}, quadratic[] = {2, -1, -2, -1, 2};
    for (std::size_t i = 0; i < 5; ++i) {
        EXPECT_NEAR(contrasts[0][i], linear[i] / std::sqrt(10.0), 1e-15);
        EXPECT_NEAR(contrasts[1][i], quadratic[i] / std::sqrt(14.0), 1e-15);
    }
}

TEST(Terms, WhatCannotBeIsRefusedWithAWayOut) {
    TermPart p = part("bmi", Form::pieces);
    p.knots = {100};
    EXPECT_EQ(refusal(p),
              "rows.csv, column bmi: the knot at 100 is outside the learning rows, which go from 18 to 42.2. "
              "Put it between them.");
    p.knots = {25, 25};
    EXPECT_EQ(refusal(p),
              "rows.csv, column bmi: two knots stand at 25. Name each knot once, from low to high.");
    p.knots = {30, 25};
    EXPECT_NE(refusal(p).find("not in ascending order"), std::string::npos);
    p.form = Form::spline;
    p.knots = {20, 25};
    EXPECT_NE(refusal(p).find("needs three knots"), std::string::npos);
    EXPECT_NE(refusal(part("sex", Form::spline)).find("too few different values"), std::string::npos);
    EXPECT_NE(refusal(part("age", Form::wave)).find("needs a period above 0"), std::string::npos);
    EXPECT_NE(refusal(part("level", Form::spline)).find("is a factor, which cannot enter as a curve"),
              std::string::npos);
    EXPECT_NE(refusal(part("bmi", Form::deviations)).find("Only factors can"), std::string::npos);
    p = part("level", Form::scores);
    p.order = {"2", "3", "4"};
    EXPECT_NE(refusal(p).find("does not say where the level \"5\" stands"), std::string::npos);
    p.order = {"2", "3", "4", "4", "5", "6"};
    EXPECT_NE(refusal(p).find("\"4\" stands twice"), std::string::npos);
    EXPECT_NE(refusal(part("level", Form::trend, 5)).find("needs 6 levels"), std::string::npos);
    EXPECT_EQ(errorOf([] {
                  fitted({Term{{TermPart{"bmi"}, TermPart{"bmi"}}}});
              }),
              "column bmi: bmi × bmi is a product of bmi with itself. For a bend of a number use its square "
              "or a curve; "
              "a factor needs no product with itself.");
}

/// A factor of so many levels beside another; rows without a second one where it has none.
StudyRows rowsOfLevels(int levels, int others) {
    std::string text = "id,other,y\n";
    for (int i = 0; i < std::max(levels, others); ++i)
        text += "n" + std::to_string(i % levels) + ",o" + std::to_string(i % others) + "," +
                std::to_string(i % 7) + "\n";
    StudyRows rows;
    TextOptions options;
    options.kinds["id"] = options.kinds["other"] = ColumnKind::factor;
    rows.learning = readBytes(text, options);
    return rows;
}

TEST(Terms, AFactorOfTooManyLevelsIsRefused) {
    EXPECT_EQ(
        errorOf([] { evaluate(recipeOf("y", {"id"}), rowsOfLevels(55002, 2), {}, quietly()); }),
        "rows.csv, column id: id would make 55,001 columns of the model matrix. At most 50,000 levels of "
        "one factor, 100,000 columns with their products, and 5,000 columns beside these can be fitted. Lump "
        "its rare levels into one, read it "
        "as a number, or take it out.");
    // Only one factor can be eliminated.
    EXPECT_EQ(errorOf([] {
                  evaluate(recipeOf("y", {"id", "other"}), rowsOfLevels(7000, 6000), {}, quietly());
              }).substr(0, 63),
              "rows.csv, column other: other would make 5,999 columns of the m");
}

/// Kinds that put all columns into one matrix say so.
TEST(Terms, ManyLevelsAreForLeastSquares) {
    const StudyRows rows = rowsOfLevels(6000, 2);
    for (const char* kind : {"robust", "quantile"}) {
        Recipe recipe = recipeOf("y", {"id"});
        recipe.estimator.kind = kind;
        EXPECT_EQ(errorOf([&] { evaluate(recipe, rows, {}, quietly()); }),
                  std::string("rows.csv: a ") + kind +
                      " fit has no room for 5,999 columns of the model matrix. Take least squares, which "
                      "eliminates the levels of one factor one by one, lump rare levels into one, or take "
                      "terms out.");
    }
}

TEST(Terms, FormsAreWrittenAndReadBack) {
    Recipe recipe = recipeOf("y", {});
    TermPart curve = part("bmi", Form::spline), wave = part("age", Form::wave, 2),
             scores = part("level", Form::scores);
    curve.knots = {20, 25.5, 30};
    wave.period = 12;
    scores.order = {"2", "3"};
    scores.scores = {1, 4};
    recipe.terms = {Term{{curve}},
                    Term{{wave}},
                    Term{{scores}},
                    Term{{part("bp", Form::pieces, 3)}},
                    Term{{part("bp", Form::polynomial, 3)}},
                    Term{{part("level", Form::trend, 2)}},
                    Term{{part("sex", Form::deviations), part("bp", Form::centred)}},
                    Term{{part("s1", Form::standardised)}}};
    EXPECT_EQ(parseRecipe(recipeText(recipe), "r.json"), recipe);
    const auto refused = [](const std::string& term) {
        return errorOf([&] {
            parseRecipe("{\"recipe\": 1, \"rows\": {\"file\": \"a.csv\"}, \"response\": \"y\", \"terms\": [" +
                            term + "]}",
                        "r.json");
        });
    };
    EXPECT_NE(refused(R"({"column": "x", "as": "wiggle"})").find("terms[0].as is \"wiggle\""),
              std::string::npos);
    EXPECT_NE(refused(R"({"column": "x", "as": "centred", "degree": 2})").find("degree"), std::string::npos);
    EXPECT_NE(refused(R"({"column": "x", "as": "curve", "knots": 400})").find("knots"), std::string::npos);
    EXPECT_NE(
        refused(R"({"column": "x", "as": "scores", "order": ["a"], "scores": [1, 2]})").find("as many as"),
        std::string::npos);
}

TEST(Terms, AProductWithoutItsParentIsAGoad) {
    Recipe recipe = recipeOf("y", {"bmi"});
    recipe.terms.push_back(Term{{TermPart{"bmi"}, TermPart{"level"}}});
    const auto lacking = [&] {
        const auto goads = evaluate(recipe, rows(), {}, quietly()).goads;
        return std::find_if(goads.begin(), goads.end(), [](const Goad& g) {
                   return g.key == "product without parents: bmi × level";
               }) != goads.end();
    };
    EXPECT_TRUE(lacking());
    recipe.terms.push_back(plainTerm("level"));
    EXPECT_FALSE(lacking());
    const Term three{{TermPart{"a"}, TermPart{"b"}, TermPart{"c"}}};
    EXPECT_EQ(parentsMissing(three, {plainTerm("a"), Term{{TermPart{"c"}, TermPart{"b"}}}}).size(),
              4u); // b c ab ac
    // A curve of a holds a as it is; its logarithm does not, nor does a wave.
    const Term pair{{TermPart{"a"}, TermPart{"b"}}};
    for (const Form form : {Form::spline, Form::pieces, Form::polynomial, Form::centred})
        EXPECT_EQ(
            parentsMissing(pair, {Term{{TermPart{.column = "a", .form = form}}}, plainTerm("b")}).size(), 0u);
    EXPECT_EQ(
        parentsMissing(pair, {Term{{TermPart{.column = "a", .form = Form::wave}}}, plainTerm("b")}).size(),
        1u);
    EXPECT_EQ(
        parentsMissing(pair, {Term{{TermPart{.column = "a", .logarithm = true}}}, plainTerm("b")}).size(),
        1u);
    EXPECT_TRUE(sameTerm(Term{{TermPart{"b"}, TermPart{"c"}}}, Term{{TermPart{"c"}, TermPart{"b"}}}));
}

} // namespace terms_test
