// Checks against values computed independently (tests/reference/published: longley, stackloss, diabetes,
// nile), tables and worked examples of the literature, and what happens at their edges.
#include "check/checks.h"
#include "check/error_tests.h"
#include "check/explain.h"
#include "check/influence.h"
#include "estimate/distributions.h"
#include "share/exports.h"
#include "study/other_seeds.h"
#include "study/preview_move.h"
#include "study/residual_view.h"
#include "study/row_story.h"
#include "study/say.h"
#include "support/support.h"

#include <Eigen/QR>

#include <random>
#include <set>

using namespace oxgoad;
using namespace oxgoad::test;

namespace checks_test {

const Reading* reading(const Evidence& e, std::string_view name) {
    for (const Reading& r : e.readings)
        if (r.name == name) return &r;
    return nullptr;
}

const Goad* goadOf(const Evidence& e, std::string_view key) {
    for (const Goad& g : e.goads)
        if (g.key == key) return &g;
    return nullptr;
}

StudyRows rowsOf(const std::string& text) {
    return {readBytes(text), {}};
}

/// Rows of invented numbers: y of x, z, a factor g; u and h are left out, day is a time.
struct Invented {
    std::vector<double> x, z, u, y, w;
    std::vector<std::int32_t> g, h, day;
    explicit Invented(std::size_t n, unsigned seed) {
        std::mt19937 random(seed);
        std::normal_distribution<double> normal;
        for (std::size_t i = 0; i < n; ++i) {
            x.push_back(normal(random));
            z.push_back(10 + 2 * normal(random));
            u.push_back(normal(random));
            g.push_back(static_cast<std::int32_t>(random() % 4));
            h.push_back(static_cast<std::int32_t>(i % 15));
            day.push_back(static_cast<std::int32_t>(19000 + i));
            w.push_back(1 + static_cast<double>(random() % 3));
            y.push_back(50 + 3 * x[i] + z[i] + 2 * g[i] + normal(random));
        }
    }
    StudyRows rows() const {
        std::vector<std::string> four{"a", "b", "c", "d"}, fifteen;
        for (int k = 0; k < 15; ++k)
            fifteen.push_back("h" + std::to_string(k));
        return {RowsRead{Table({Column::ofNumbers("y", y), Column::ofNumbers("x", x),
                                Column::ofNumbers("z", z), Column::ofNumbers("u", u),
                                Column::ofFactor("g", g, four), Column::ofFactor("h", h, fifteen),
                                Column::ofDates("day", day), Column::ofNumbers("w", w)}),
                         {}},
                {}};
    }
};

Recipe inventedRecipe() {
    Recipe recipe = recipeOf("y", {"x", "z", "g"});
    recipe.roles["w"] = Role::setAside;
    return recipe;
}

struct PublishedChecks : testing::TestWithParam<std::pair<const char*, const char*>> {
    nlohmann::json json;
    StudyRows rows;
    Recipe recipe;
    void SetUp() override {
        json = publishedJson(std::string(GetParam().first) + "_diagnostics");
        rows = publishedRows(GetParam().first);
        recipe = recipeOf(GetParam().second, {});
        for (std::size_t i = 1; i < json["parameters"].size(); ++i)
            recipe.terms.push_back(plainTerm(json["parameters"][i]));
    }
};

TEST_P(PublishedChecks, ReadingsAgreeToTenDigits) {
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const auto agrees = [&](const char* name, const nlohmann::json& value, const nlohmann::json& p,
                            double least) {
        const Reading* r = reading(e, name);
        ASSERT_TRUE(r) << name;
        EXPECT_GE(digits(r->value, value), least) << name << ": " << r->value << ", " << r->sentence;
        if (p.is_null()) return;
        ASSERT_TRUE(r->p) << name;
        EXPECT_GE(digits(*r->p, p), least - 1) << name;
    };
    agrees("curvature overall", json["ramsey_reset"]["powers_2_to_3"]["F"],
           json["ramsey_reset"]["powers_2_to_3"]["p"], 9);
    agrees("serial dependence, Durbin–Watson", json["durbin_watson"], {}, 11);
    agrees("normality, Jarque–Bera", json["jarque_bera"]["stat"], json["jarque_bera"]["p"], 10);
    agrees("skewness", json["jarque_bera"]["skewness"], {}, 10);
    agrees("kurtosis", json["jarque_bera"]["kurtosis"], {}, 10);
    agrees("condition index", json["condition_number"]["columns_scaled_to_unit_length_with_intercept"], {},
           9);
    agrees("unequal spread", json["breusch_pagan"]["studentized_LM"],
           json["breusch_pagan"]["studentized_LM_p"], 10);
    if (json.contains("white"))
        agrees("unequal spread, White", json["white"]["LM"], json["white"]["LM_p"], 10);
    double inflation = 0;
    for (const auto& value : json["vif"])
        inflation = std::max(inflation, value.get<double>());
    agrees("largest variance inflation", inflation, {}, 10);
    const auto largest = [&](const char* key) {
        double best = 0;
        for (const auto& value : json["rows"][key])
            if (std::fabs(value.get<double>()) > std::fabs(best)) best = value;
        return best;
    };
    agrees("largest leverage", largest("leverage"), {}, 10);
    agrees("largest studentised residual", largest("stud_external"), {}, 10);
    agrees("largest Cook's distance", largest("cook"), {}, 10);
    agrees("largest DFFITS", largest("dffits"), {}, 10);
    EXPECT_NEAR(reading(e, "rows per coefficient")->value,
                json["n"].get<double>() / json["p_including_intercept"].get<double>(), 1e-12);
}

TEST_P(PublishedChecks, InfluenceOfEveryRowAgrees) {
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const auto read = readBytes(influenceCsv(e, rows.learning.table, "", {}, quietly()));
    const auto& wanted = json["rows"];
    const auto fits = read.table.at("dffits", "").numbers();
    double least = 16;
    for (std::size_t i = 0; i < fits.size(); ++i)
        least = std::min(least, digits(fits[i], wanted["dffits"][i]));
    EXPECT_GE(least, 9);
    if (!wanted.contains("dfbetas_by_row")) return;
    least = 16;
    for (std::size_t j = 0; j < json["parameters"].size(); ++j) {
        const std::string name = j == 0 ? "intercept" : json["parameters"][j].get<std::string>();
        const auto values = read.table.at("dfbetas_" + name, "").numbers();
        for (std::size_t i = 0; i < values.size(); ++i)
            least = std::min(least, digits(values[i], wanted["dfbetas_by_row"][i][j]));
    }
    std::cout << "[ digits   ] " << GetParam().first << ": DFBETAS " << least << "\n";
    EXPECT_GE(least, 6) << "the constant of longley loses digits to the size of its columns";
}

INSTANTIATE_TEST_SUITE_P(Public, PublishedChecks,
                         testing::Values(std::pair{"longley", "TOTEMP"}, std::pair{"stackloss", "STACKLOSS"},
                                         std::pair{"diabetes", "y"}),
                         [](const auto& each) { return std::string(each.param.first); });

TEST(PublishedSeries, LjungBoxAgrees) {
    // tests/reference/published/forecasting.json: Q of the series about their means, 5 and 10 lags.
    const auto values = publishedJson("forecasting");
    for (const char* name : {"nile", "sunspots", "elec_equip"}) {
        const StudyRows rows = publishedRows(name);
        for (const Column& column : rows.learning.table.columns()) {
            if (column.kind() != ColumnKind::number || column.name() == "year") continue;
            std::vector<double> errors(column.numbers().begin(), column.numbers().end());
            double mean = 0;
            for (const double v : errors)
                mean += v / static_cast<double>(errors.size());
            std::vector<std::vector<std::uint32_t>> run(1);
            for (std::uint32_t i = 0; i < errors.size(); ++i) {
                errors[i] -= mean;
                run[0].push_back(i);
            }
            std::size_t compared = 0;
            std::function<void(const nlohmann::json&)> find = [&](const nlohmann::json& node) {
                if (!node.is_object()) return;
                for (const auto& [key, value] : node.items()) {
                    if (key == name && value.is_object() && value.contains("ljung_box_on_the_series")) {
                        for (const auto& each : value["ljung_box_on_the_series"]) {
                            const LjungBox found = ljungBox(errors, run, each["lags"].get<std::size_t>());
                            EXPECT_GE(digits(found.statistic, each["Q"]), 9) << name << " " << column.name();
                            ++compared;
                        }
                    } else {
                        find(value);
                    }
                }
            };
            find(values);
            EXPECT_GE(compared, 2U) << name;
            break;
        }
    }
}

TEST(ErrorTests, DurbinWatsonKeepsToThePublishedBounds) {
    // 5 % points of Durbin and Watson 1951, as tabled by Savin and White 1977 (from memory): whatever the
    // regressor, P(D < lower bound) is at most and P(D < upper bound) at least 5 %.
    struct Bound {
        int n;
        double lower, upper;
    };
    std::mt19937 random(3);
    std::normal_distribution<double> normal;
    for (const Bound& bound : {Bound{15, 1.077, 1.361}, Bound{20, 1.201, 1.411}, Bound{50, 1.503, 1.585},
                               Bound{100, 1.654, 1.694}})
        for (int kind = 0; kind < 3; ++kind) {
            Eigen::MatrixXd x(bound.n, 2);
            for (int i = 0; i < bound.n; ++i) {
                x(i, 0) = 1;
                x(i, 1) = kind == 0 ? i : kind == 1 ? normal(random) : std::cos(3.0 * i);
            }
            const Eigen::MatrixXd q = Eigen::HouseholderQR<Eigen::MatrixXd>(x).householderQ() *
                                      Eigen::MatrixXd::Identity(bound.n, 2);
            std::vector<std::vector<std::uint32_t>> run(1);
            for (std::uint32_t i = 0; i < static_cast<std::uint32_t>(bound.n); ++i)
                run[0].push_back(i);
            const auto low = durbinWatsonLower(bound.lower, run, q),
                       high = durbinWatsonLower(bound.upper, run, q);
            EXPECT_TRUE(low.exact);
            EXPECT_LE(low.p, 0.0505) << bound.n << " " << kind;
            EXPECT_GE(high.p, 0.0495) << bound.n << " " << kind;
            // The beta distribution of many rows agrees with the exact one where both can be had.
            const auto beta = durbinWatsonLower(bound.lower, run, q, 0);
            EXPECT_FALSE(beta.exact);
            EXPECT_NEAR(beta.p, low.p, 0.002);
        }
}

TEST(ErrorTests, ImhofIsFishersFWhereThatIsKnown) {
    // P(χ²₂ − c χ²₁ < 0) = P(F(2, 1) < c/2).
    for (const double c : {0.5, 1.0, 3.0, 20.0}) {
        const std::vector<double> weights{1, 1, -c};
        EXPECT_NEAR(imhofBelowZero(weights), 1 - fisherUpper(c / 2, 2, 1), 2e-6) << c;
    }
    EXPECT_NEAR(imhofBelowZero(std::vector<double>{1, -1}), 0.5, 1e-6);
    EXPECT_NEAR(imhofBelowZero(std::vector<double>{2, 1, 0.5}), 0, 1e-5);
}

TEST(ErrorTests, AndersonDarlingHasStephensPoints) {
    // D'Agostino and Stephens 1986, table 4.7, mean and variance estimated (from memory): modified A² and p.
    for (const auto& [a, p] : {std::pair{0.631, 0.10}, {0.752, 0.05}, {0.873, 0.025}, {1.035, 0.01}}) {
        const double n = 1e9; // no modification
        EXPECT_NEAR(andersonDarlingP(a, n), p, 0.002 * (1 + p / 0.05)) << a;
    }
    EXPECT_LT(andersonDarlingP(12, 100), 1e-20);
    EXPECT_GT(andersonDarlingP(12, 100), 0);
    EXPECT_TRUE(std::isnan(andersonDarling(std::vector<double>{1, 2})));
}

TEST(ErrorTests, SkewnessAndKurtosisAreJudgedAsInTheWorkedExample) {
    // D'Agostino, Belanger and D'Agostino 1990, The American Statistician 44: 62 cholesterol values with
    // √b1 = 1.02 and b2 = 4.58 (from memory): p 0.0017 and 0.027.
    EXPECT_NEAR(skewnessP(1.02, 62), 0.0017, 0.0002);
    EXPECT_NEAR(tailsP(4.58, 62), 0.027, 0.002);
    EXPECT_TRUE(std::isnan(skewnessP(0.1, 7)));
    EXPECT_TRUE(std::isnan(tailsP(3, 19)));
}

TEST(ErrorTests, BinomialIsExact) {
    EXPECT_NEAR(binomialTwoSided(15, 20, 0.5), 0.04138946533203125, 1e-12); // 2 · P(X ≥ 15), by hand
    EXPECT_NEAR(binomialTwoSided(0, 20, 0.05), 1, 0.7); // the sum of outcomes no likelier than none
    EXPECT_EQ(binomialTwoSided(10, 20, 0.5), 1);
    // Sum by hand over all outcomes, for every k of 12.
    for (std::size_t k = 0; k <= 12; ++k) {
        const auto chance = [](std::size_t j) {
            double c = 1;
            for (std::size_t m = 0; m < j; ++m)
                c = c * static_cast<double>(12 - m) / static_cast<double>(m + 1);
            return c * std::pow(0.3, j) * std::pow(0.7, 12 - j);
        };
        double sum = 0;
        for (std::size_t j = 0; j <= 12; ++j)
            if (chance(j) <= chance(k) * (1 + 1e-7)) sum += chance(j);
        EXPECT_NEAR(binomialTwoSided(k, 12, 0.3), std::min(1.0, sum), 1e-12) << k;
    }
    const auto [low, high] = binomialInterval(10, 100, 0.95); // Clopper and Pearson 1934 (from memory)
    EXPECT_NEAR(low, 0.0490, 1e-4);
    EXPECT_NEAR(high, 0.1762, 1e-4);
    EXPECT_EQ(binomialInterval(0, 5, 0.95).first, 0);
    EXPECT_EQ(binomialInterval(5, 5, 0.95).second, 1);
}

TEST(Checks, TheNileChangedIn1899) {
    // The level of the Nile at Aswan fell about 1899 (Cobb 1978; the largest F of a change of level alone is
    // 75.93, as software for structural change gives it, from memory).
    const StudyRows rows = publishedRows("nile");
    std::string response;
    for (const Column& column : rows.learning.table.columns())
        if (column.name() != "year") response = column.name();
    const Evidence e = evaluate(recipeOf(response, {}), rows, {}, quietly());
    const Reading* r = reading(e, "change of level or slope in time");
    ASSERT_TRUE(r);
    EXPECT_EQ(*r->p, 0.001) << "the smallest of 999 draws";
    EXPECT_NE(r->sentence.find("of the level alone F 75.93 from 1899 on"), std::string::npos) << r->sentence;
    EXPECT_TRUE(goadOf(e, "change of level or slope in time"));
    EXPECT_LT(*reading(e, "serial dependence, Durbin–Watson")->p, 1e-5);
}

TEST(Checks, AnAddedColumnTestIsTheDifferenceOfTwoFits) {
    const Invented made(120, 5);
    const StudyRows rows = made.rows();
    const Evidence without = evaluate(inventedRecipe(), rows, {}, quietly());
    const auto f = [&](const Evidence& with) {
        const double more = without.linear->degreesOfFreedom - with.linear->degreesOfFreedom;
        return (without.linear->residualSumOfSquares - with.linear->residualSumOfSquares) / more /
               (with.linear->residualSumOfSquares / with.linear->degreesOfFreedom);
    };
    Recipe square = inventedRecipe();
    square.terms.push_back(Term{{TermPart{"x", 2}}});
    EXPECT_NEAR(reading(without, "curvature: x")->value, f(evaluate(square, rows, {}, quietly())), 1e-8);
    double best = 1;
    std::string found;
    for (const auto& [a, b] : {std::pair{"x", "z"}, {"x", "g"}, {"z", "g"}}) {
        Recipe pair = inventedRecipe();
        pair.terms.push_back(Term{{TermPart{a}, TermPart{b}}});
        const Evidence with = evaluate(pair, rows, {}, quietly());
        const double p = with.linear->terms.back().p;
        if (p < best) {
            best = p;
            found = std::string(a) + " × " + b;
        }
    }
    const Reading* pair = reading(without, "missing interaction");
    EXPECT_NEAR(*pair->p, std::min(1.0, 3 * best), 1e-8) << pair->sentence;
    EXPECT_EQ(pair->sentence.find(found), 0U) << pair->sentence;
    Recipe group = inventedRecipe();
    group.terms.push_back(plainTerm("h"));
    EXPECT_NEAR(*reading(without, "dependence within groups: h")->p,
                evaluate(group, rows, {}, quietly()).linear->terms.back().p, 1e-8);
    Recipe time = inventedRecipe();
    time.terms.push_back(plainTerm("day"));
    EXPECT_NEAR(reading(without, "trend in time left over")->value, f(evaluate(time, rows, {}, quietly())),
                1e-7);
}

TEST(Checks, IntraclassCorrelationIsThatOfTheTextbook) {
    // One-way analysis of variance of a constant: (MSB − MSW)/(MSB + (m − 1) MSW), F on k − 1 and n − k.
    const StudyRows rows = rowsOf("y,g\n1,a\n2,a\n3,a\n5,b\n6,b\n7,b\n8,c\n9,c\n13,c\n");
    const Evidence e = evaluate(recipeOf("y", {}), rows, {}, quietly());
    const Reading* r = reading(e, "dependence within groups: g");
    ASSERT_TRUE(r);
    // Means 2, 6, 10 about 6: MSB = 3(16+0+16)/2 = 48; within 2 + 2 + 14 = 18, MSW = 3; F = 16.
    EXPECT_NEAR(r->value, (48.0 - 3) / (48 + 2 * 3), 1e-12);
    EXPECT_NEAR(*r->p, fisherUpper(16, 2, 6), 1e-12);
    const Reading* bf = reading(e, "spread by group: g");
    // Distances from medians: a 1 0 1, b 1 0 1, c 1 0 4: means 2/3, 2/3, 5/3 about 1.
    const double between = 3 * (1.0 / 9 + 1.0 / 9 + 4.0 / 9) / 2;
    const double within = (2.0 / 3 + 2.0 / 3 + (4.0 / 9 + 25.0 / 9 + 49.0 / 9)) / 6;
    EXPECT_NEAR(bf->value, between / within, 1e-12);
}

TEST(Checks, RowsThatHideEachOtherAreFound) {
    // Ten rows far off at one end pull the line; none stands out in least squares (as in Rousseeuw and Leroy
    // 1987, ch. 2).
    Invented made(100, 8);
    std::vector<double> x, y;
    for (int i = 0; i < 60; ++i) {
        x.push_back(i / 10.0);
        y.push_back(2 + 3 * x.back() + 0.3 * std::sin(12.9 * i));
    }
    for (int i = 0; i < 14; ++i) {
        x.push_back(12 + 0.05 * i);
        y.push_back(4 + 0.3 * std::sin(7.7 * i));
    }
    const StudyRows rows{RowsRead{Table({Column::ofNumbers("y", y), Column::ofNumbers("x", x)}), {}}, {}};
    const Evidence e = evaluate(recipeOf("y", {"x"}), rows, {}, quietly());
    EXPECT_GT(*reading(e, "largest studentised residual")->p, 0.01);
    const Reading* r = reading(e, "rows that hide each other");
    EXPECT_EQ(r->value, 14) << r->sentence;
    ASSERT_TRUE(goadOf(e, "rows that hide each other"));
    EXPECT_EQ(
        reading(evaluate(inventedRecipe(), made.rows(), {}, quietly()), "rows that hide each other")->value,
        0);
}

TEST(Checks, ReadingsAreTheSameForAnyNumberOfThreads) {
    const StudyRows rows = Invented(300, 11).rows();
    Recipe recipe = inventedRecipe();
    recipe.judge = FoldPlan{.folds = 5};
    recipe.setAside = SetAside{.share = 0.25, .seed = 3};
    const Evidence one = evaluate(recipe, rows, {1}, quietly()),
                   four = evaluate(recipe, rows, {4}, quietly());
    ASSERT_EQ(one.readings.size(), four.readings.size());
    for (std::size_t i = 0; i < one.readings.size(); ++i) {
        EXPECT_EQ(one.readings[i].name, four.readings[i].name);
        EXPECT_TRUE(one.readings[i].value == four.readings[i].value ||
                    (std::isnan(one.readings[i].value) && std::isnan(four.readings[i].value)))
            << one.readings[i].name;
        EXPECT_EQ(one.readings[i].p, four.readings[i].p) << one.readings[i].name;
    }
}

TEST(Checks, RowsOfWeightZeroAndEqualWeightsChangeNoReading) {
    const Invented made(150, 21);
    Invented more = made;
    for (int i = 0; i < 20; ++i) { // wild rows that weigh nothing
        more.x.push_back(30 + i);
        more.z.push_back(-100);
        more.u.push_back(5);
        more.y.push_back(1e4 + i);
        more.w.push_back(0);
        more.g.push_back(i % 4);
        more.h.push_back(i % 15);
        more.day.push_back(25000 + i);
    }
    Recipe weighted = recipeOf("y", {"x", "z", "g"});
    weighted.roles["w"] = Role::weight;
    const Evidence a = evaluate(weighted, made.rows(), {}, quietly());
    const Evidence b = evaluate(weighted, more.rows(), {}, quietly());
    Invented equal = made;
    std::fill(equal.w.begin(), equal.w.end(), 4.0);
    const Evidence plain = evaluate(inventedRecipe(), made.rows(), {}, quietly());
    const Evidence alike = evaluate(weighted, equal.rows(), {}, quietly());
    std::size_t compared = 0;
    const auto same = [&](const Evidence& p, const Evidence& q, const char* what) {
        for (const Reading& r : p.readings) {
            const Reading* other = reading(q, r.name);
            ASSERT_TRUE(other) << r.name;
            ++compared;
            EXPECT_EQ(std::isnan(r.value), std::isnan(other->value))
                << what << ": " << r.name << " " << other->sentence;
            if (std::isnan(r.value)) continue;
            EXPECT_NEAR(r.value, other->value, 1e-7 * (1 + std::fabs(r.value))) << what << ": " << r.name;
            if (r.p) {
                EXPECT_NEAR(*r.p, *other->p, 1e-7) << what << ": " << r.name;
            }
        }
    };
    same(a, b, "weight 0");
    same(plain, alike, "equal weights");
    EXPECT_GT(compared, 70U);
}

TEST(Checks, UnitsAndTheOrderOfRowsChangeNoTest) {
    const Invented made(160, 33);
    Invented scaled = made;
    for (double& v : scaled.y)
        v = 1e6 * v;
    for (double& v : scaled.x)
        v = 1e-3 * v + 7;
    Invented turned = made;
    std::reverse(turned.x.begin(), turned.x.end());
    std::reverse(turned.z.begin(), turned.z.end());
    std::reverse(turned.u.begin(), turned.u.end());
    std::reverse(turned.y.begin(), turned.y.end());
    std::reverse(turned.g.begin(), turned.g.end());
    std::reverse(turned.h.begin(), turned.h.end());
    std::reverse(turned.day.begin(), turned.day.end());
    const Evidence a = evaluate(inventedRecipe(), made.rows(), {}, quietly());
    for (const Invented& other : {scaled, turned}) {
        const Evidence b = evaluate(inventedRecipe(), other.rows(), {}, quietly());
        std::size_t tests = 0;
        for (const Reading& r : a.readings)
            if (r.p) {
                ++tests;
                EXPECT_NEAR(*r.p, *reading(b, r.name)->p, 1e-6) << r.name;
            }
        EXPECT_GE(tests, 20U);
    }
}

TEST(Checks, WhatDoesNotApplySaysWhyAndNothingIsInfinite) {
    struct Edge {
        const char* what;
        std::string text;
        std::vector<std::string> terms;
    };
    std::string exact = "y,x,g,t\n", alone = exact, few = exact, ties = exact, repeated = exact;
    for (int i = 0; i < 30; ++i) {
        exact += std::to_string(3 + 2 * i) + "," + std::to_string(i) + "," + static_cast<char>('a' + i % 3) +
                 ",2024-01-" + (i < 9 ? "0" : "") + std::to_string(i + 1) + "\n";
        alone += std::to_string((i * 7) % 11) + "," + std::to_string(i) + "," + (i == 17 ? "only" : "rest") +
                 ",2024-01-01\n";
        ties += std::to_string(i % 2) + "," + std::to_string(i % 2) + "," + static_cast<char>('a' + i % 3) +
                ",2024-01-01\n";
        repeated += std::to_string((i * 5) % 13) + "," + std::to_string(i % 7) + ",g" + std::to_string(i) +
                    ",2024-01-0" + std::to_string(1 + i % 5) + "\n";
    }
    for (int i = 0; i < 4; ++i)
        few += std::to_string(i * i) + "," + std::to_string(i) + ",a,2024-01-01\n";
    for (const Edge& edge :
         {Edge{"a perfect fit", exact, {"x"}}, Edge{"a level of one row", alone, {"x", "g"}},
          Edge{"four rows", few, {"x"}}, Edge{"a response of two values that x says", ties, {"x"}},
          Edge{"times that repeat and groups of one row", repeated, {"x"}},
          Edge{"the mean alone", repeated, {}}}) {
        const Evidence e = evaluate(recipeOf("y", edge.terms), rowsOf(edge.text), {}, quietly());
        EXPECT_GE(e.readings.size(), 30U) << edge.what;
        for (const Reading& r : e.readings) {
            EXPECT_FALSE(std::isinf(r.value)) << edge.what << ": " << r.name;
            if (r.p) {
                EXPECT_TRUE(*r.p >= 0 && *r.p <= 1) << edge.what << ": " << r.name << " " << *r.p;
            }
            if (!std::isnan(r.value)) continue;
            EXPECT_TRUE(r.sentence.starts_with("does not apply: "))
                << edge.what << ": " << r.name << " " << r.sentence;
            EXPECT_GT(r.sentence.size(), 25U) << r.name;
        }
        for (const Goad& g : e.goads) {
            if (g.cost) {
                EXPECT_TRUE(std::isfinite(*g.cost)) << edge.what << ": " << g.key;
            }
        }
    }
    // In a perfect fit no test is made of rounding.
    const Evidence e = evaluate(recipeOf("y", {"x"}), rowsOf(exact), {}, quietly());
    for (const char* name :
         {"curvature overall", "normality, Jarque–Bera", "unequal spread", "missing interaction",
          "serial dependence, Durbin–Watson", "rows that hide each other"})
        EXPECT_TRUE(std::isnan(reading(e, name)->value)) << name;
}

TEST(Checks, OtherKindsAreCheckedByRowsTheyDidNotLearnFrom) {
    Invented made(400, 44);
    for (std::size_t i = 0; i < made.y.size(); ++i)
        made.y[i] += 8 * made.u[i];
    made.y[17] += 400;
    Recipe recipe = recipeOf("y", {"x", "z"});
    recipe.estimator.kind = "neighbours";
    recipe.judge = FoldPlan{.folds = 5};
    const Evidence e = evaluate(recipe, made.rows(), {}, quietly());
    for (const char* name :
         {"largest studentised residual", "serial dependence, Durbin–Watson", "serial dependence, Ljung–Box",
          "dependence within groups: h", "unequal spread", "left-out column", "hangs on the seed",
          "impossible predictions", "totals: predicted over actual", "trend in time left over",
          "spread by group: g"}) {
        const Reading* r = reading(e, name);
        ASSERT_TRUE(r) << name;
        EXPECT_FALSE(std::isnan(r->value)) << name << ": " << r->sentence;
    }
    EXPECT_TRUE(goadOf(e, "outlying: row 18"));
    EXPECT_TRUE(goadOf(e, "left-out column: u"));
    EXPECT_TRUE(std::isnan(reading(e, "curvature overall")->value));
    EXPECT_TRUE(std::isnan(reading(e, "condition index")->value));
    // The quantiles of a robust fit do not ask about rows that it stands.
    Recipe robust = inventedRecipe();
    robust.estimator = {"robust", {{"function", std::string("Huber")}}};
    EXPECT_FALSE(goadOf(evaluate(robust, made.rows(), {}, quietly()), "outlying: row 18"));
}

TEST(CheckSettings, SwitchOffAndOtherThresholdsAreSaid) {
    Invented made(120, 3);
    for (std::size_t i = 0; i < made.y.size(); ++i)
        made.y[i] += made.x[i] * made.x[i];
    Recipe recipe = inventedRecipe();
    ASSERT_TRUE(goadOf(evaluate(recipe, made.rows(), {}, quietly()), "curvature: x"));
    recipe.checks["curvature"] = {true, "only straight lines are asked for", {}};
    recipe.checks["rows per coefficient"] = {false, "house rule", 50.0};
    const Evidence e = evaluate(recipe, made.rows(), {}, quietly());
    EXPECT_FALSE(goadOf(e, "curvature: x"));
    for (const Reading& r : e.readings)
        if (r.name.starts_with("curvature:") || r.name == "curvature") {
            EXPECT_TRUE(std::isnan(r.value));
            EXPECT_EQ(r.sentence, "switched off: only straight lines are asked for");
        }
    EXPECT_FALSE(std::isnan(reading(e, "curvature overall")->value)) << "a check of its own";
    const Goad* rows = goadOf(e, "rows per coefficient");
    ASSERT_TRUE(rows);
    EXPECT_EQ(rows->threshold, "fewer than 50 rows for each");
    EXPECT_NE(reading(e, "rows per coefficient")->sentence.find("the threshold is the recipe's: house rule"),
              std::string::npos);
    EXPECT_NE(summaryText(e, recipe).find("Not checked: curvature (only straight lines are asked for)."),
              std::string::npos);
    EXPECT_EQ(parseRecipe(recipeText(recipe), "again").checks, recipe.checks);
    recipe.checks["curvatures"] = {true, "typed wrong", {}};
    EXPECT_NE(errorOf([&] {
                  evaluate(recipe, made.rows(), {}, quietly());
              }).find("there is no check \"curvatures\""),
              std::string::npos);
    const std::string head =
        R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": ["x"], "checks": )";
    EXPECT_NE(errorOf([&] {
                  parseRecipe(head + R"({"kurtosis": {"off": true}}})", "r");
              }).find("off without a reason"),
              std::string::npos);
    EXPECT_NE(errorOf([&] { parseRecipe(head + R"({"kurtosis": {}}})", "r"); }).find("neither"),
              std::string::npos);
    EXPECT_NE(errorOf([&] { parseRecipe(head + R"({"kurtosis": {"treshold": 1}}})", "r"); }).find("treshold"),
              std::string::npos);
}

TEST(CheckSettings, AnAcceptedGoadIsOpenAgainWhenItIsClearlyWorse) {
    Goad goad;
    goad.key = "overfit gap";
    goad.size = 1.4;
    Recipe recipe;
    recipe.accepted = {{"overfit gap", "few rows so far", 1.2}};
    markAccepted(recipe, goad);
    EXPECT_EQ(*goad.accepted, "few rows so far");
    goad.size = 1.81;
    markAccepted(recipe, goad);
    EXPECT_FALSE(goad.accepted);
    EXPECT_EQ(goad.acceptedBefore, "few rows so far");
    recipe.accepted[0].size.reset(); // accepted before sizes were kept
    markAccepted(recipe, goad);
    EXPECT_TRUE(goad.accepted);
    EXPECT_TRUE(goad.acceptedBefore.empty());
}

TEST(GoadOrder, GoesByWhatTheyCouldCost) {
    std::vector<Goad> goads(5);
    goads[0].key = "caution";
    goads[1].key = "alarm";
    goads[1].severity = Severity::alarm;
    goads[2].key = "half";
    goads[2].cost = 0.5;
    goads[3].key = "first";
    goads[3].tells = Tells::first;
    goads[4].key = "one per cent";
    goads[4].cost = 0.01;
    orderGoads(goads);
    std::string order;
    for (const Goad& goad : goads)
        order += goad.key + "; ";
    EXPECT_EQ(order, "first; half; alarm; caution; one per cent; ");
}

TEST(GoadOrder, AModelWorseThanTheMeanComesFirst) {
    // A straight line far beyond where it was learned, and a row that lies far off besides.
    std::string text = "t,x,y\n";
    for (int i = 0; i < 40; ++i)
        text += "2024-" + std::string(i < 20 ? "01-" : "02-") + (i % 20 < 9 ? "0" : "") +
                std::to_string(i % 20 + 1) + "," + std::to_string(i) + "," +
                std::to_string(i < 30 ? i : 10 - i) + "\n";
    text += "2024-01-01,5,400\n";
    Recipe recipe = recipeOf("y", {"x"});
    SetAside aside;
    aside.kind = SetAsideKind::latest;
    aside.column = "t";
    aside.share = 0.24;
    recipe.setAside = aside;
    const Evidence e = evaluate(recipe, rowsOf(text), {}, quietly());
    ASSERT_LT(e.heldOut.rSquared, 0);
    ASSERT_FALSE(e.goads.empty());
    EXPECT_EQ(e.goads.front().key, "worse than the mean");
    EXPECT_EQ(e.goads.front().title, "The model is worse than no model");
    EXPECT_NE(summaryText(e, recipe).find("worse than saying the mean every time: do not use it"),
              std::string::npos);
    EXPECT_NEAR(reading(e, "worse than the mean")->value, std::sqrt(1 - e.heldOut.rSquared), 1e-12);
}

TEST(Explain, EveryGoadHasThreeSentencesOfItsOwn) {
    Invented made(200, 9);
    for (std::size_t i = 0; i < made.y.size(); ++i)
        made.y[i] += made.x[i] * made.x[i] + 3 * made.u[i] + made.x[i] * made.g[i];
    made.y[5] = 900;
    made.y[6] = -900;
    Recipe recipe = inventedRecipe();
    recipe.setAside = SetAside{.share = 0.3, .seed = 1};
    const Evidence e = evaluate(recipe, made.rows(), {}, quietly());
    ASSERT_GE(e.goads.size(), 5U);
    std::set<std::string> whats;
    for (const Goad& goad : e.goads) {
        const Explanation why = explain(goad);
        EXPECT_NE(why.what, "Something was found that could make the forecast wrong.") << goad.key;
        EXPECT_NE(why.here.find(goad.reading), std::string::npos);
        EXPECT_FALSE(why.answers.empty());
        EXPECT_FALSE(why.help.empty());
        whats.insert(why.what);
    }
    EXPECT_GE(whats.size(), 4U);
    Goad other;
    other.key = "of another kind: x";
    EXPECT_FALSE(explain(other).what.empty());
}

TEST(RowStory, IsWhatTheFitWithoutTheRowSays) {
    for (const bool logs : {false, true})
        for (const bool weights : {false, true}) {
            const Invented made(90, 61);
            StudyRows rows = made.rows();
            rows.forecast = RowsRead{Invented(12, 62).rows().learning.table, {}};
            Recipe recipe = inventedRecipe();
            recipe.logResponse = logs;
            if (weights) recipe.roles["w"] = Role::weight;
            recipe.forecast = forecastOf("plan.csv", 0.95);
            const auto prepared = prepareRows(recipe, rows, {}, quietly());
            const Evidence e = evaluate(recipe, rows, *prepared, {}, quietly());
            const RowStory story =
                rowStory(e, recipe, prepared->table, &prepared->forecast->table, "", 30, {}, quietly());
            Recipe without = recipe;
            without.leaveOut.push_back({31, "to compare"});
            const Evidence refit = evaluate(without, rows, {}, quietly());
            ASSERT_EQ(story.coefficients.size(), e.linear->coefficients.size());
            for (const WithoutRow& each : story.coefficients)
                for (std::size_t k = 0; k < e.linear->coefficients.size(); ++k) {
                    if (e.linear->coefficients[k].name != each.name) continue;
                    EXPECT_NEAR(each.with, e.linear->coefficients[k].estimate, 1e-9);
                    EXPECT_NEAR(each.without, refit.linear->coefficients[k].estimate, 1e-8) << each.name;
                }
            // The ladder climbs from the mean to the prediction.
            double at = story.start + story.offset;
            for (const Contribution& step : story.ladder)
                at += step.amount;
            EXPECT_NEAR(at, story.end, 1e-9);
            EXPECT_NEAR(e.study->rule.toResponseScale(story.end), story.predicted,
                        1e-8 * std::fabs(story.predicted));
            EXPECT_LT(story.lower, story.predicted);
            EXPECT_GT(story.upper, story.predicted);
            double total = 0, other = 0;
            for (const double v : e.forecast->prediction)
                total += v;
            for (const double v : refit.forecast->prediction)
                other += v;
            EXPECT_NEAR(story.forecastTotal, total, 1e-8 * std::fabs(total));
            // Of logarithms the factor that carries back is kept.
            EXPECT_NEAR(story.forecastTotalWithout, other, (logs ? 2e-3 : 1e-9) * std::fabs(total));
            ASSERT_EQ(story.nearest.size(), 8U);
            for (std::size_t k = 1; k < story.nearest.size(); ++k)
                EXPECT_GE(story.nearest[k].distance, story.nearest[k - 1].distance);
            EXPECT_EQ(story.places.size(), 3U);
        }
}

TEST(RowStory, TellsOfRowsThatCannotBePredictedAndOfOtherKinds) {
    const StudyRows rows =
        rowsOf("y,x,g\n1,1,a\n2,2,b\n3,3,a\n4,4,b\n5,5,a\n6,6,b\n7,7,a\n8,,b\n9,30,a\n10,9,b\n");
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.leaveOut = {{9, "far off"}};
    auto prepared = prepareRows(recipe, rows, {}, quietly());
    Evidence e = evaluate(recipe, rows, *prepared, {}, quietly());
    const RowStory missing = rowStory(e, recipe, prepared->table, nullptr, "", 7, {}, quietly());
    EXPECT_FALSE(missing.problems.empty());
    EXPECT_TRUE(missing.ladder.empty());
    EXPECT_EQ(missing.places[0].value, "missing");
    const RowStory out = rowStory(e, recipe, prepared->table, nullptr, "", 8, {}, quietly());
    EXPECT_EQ(out.state, RowState::leftOut);
    EXPECT_TRUE(out.places[0].outside) << "30 is above all that was learned from";
    EXPECT_TRUE(out.coefficients.empty());
    EXPECT_EQ(out.ladder.size(), 2U);
    recipe.estimator.kind = "neighbours";
    recipe.leaveOut.clear();
    prepared = prepareRows(recipe, rows, {}, quietly());
    e = evaluate(recipe, rows, *prepared, {}, quietly());
    const RowStory near = rowStory(e, recipe, prepared->table, nullptr, "", 3, {}, quietly());
    double at = near.start;
    for (const Contribution& step : near.ladder)
        at += step.amount;
    EXPECT_NEAR(at, near.end, 1e-9);
    EXPECT_NEAR(near.end, near.predicted, 1e-9);
}

TEST(MovePreview, SaysWhatTheFitWithItWouldSay) {
    Invented made(200, 71);
    for (std::size_t i = 0; i < made.y.size(); ++i)
        made.y[i] += 2 * made.x[i] * made.x[i];
    const StudyRows rows = made.rows();
    Recipe recipe = inventedRecipe();
    recipe.judge = FoldPlan{.folds = 5};
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const Evidence e = evaluate(recipe, rows, *prepared, {}, quietly());
    const Goad* goad = goadOf(e, "curvature: x");
    ASSERT_TRUE(goad);
    const auto move =
        std::find_if(goad->moves.begin(), goad->moves.end(), [](const Move& m) { return m.edit != nullptr; });
    ASSERT_NE(move, goad->moves.end());
    EXPECT_EQ(move->label, "add the curve");
    const MovePreview preview = previewMove(e, recipe, rows, *prepared, *move, {}, quietly());
    Recipe with = recipe;
    move->edit(with, "");
    const Evidence then = evaluate(with, rows, {}, quietly());
    EXPECT_EQ(preview.before, e.folds->rmse);
    EXPECT_NEAR(preview.after, then.folds->rmse, 1e-9);
    EXPECT_LT(preview.after, 0.5 * preview.before);
    EXPECT_FALSE(preview.otherRows);
    EXPECT_EQ(previewText(preview).find("typical error "), 0U);
    // What cannot be fitted is said, and what is judged otherwise is not compared.
    const Move broken{.label = "break it",
                      .edit = [](Recipe& r, const std::string&) { r.terms = {plainTerm("nothing")}; }};
    EXPECT_NE(previewMove(e, recipe, rows, *prepared, broken, {}, quietly()).problem.find("nothing"),
              std::string::npos);
    const Move judged{.label = "judge", .edit = [](Recipe& r, const std::string&) { r.judge->folds = 10; }};
    EXPECT_TRUE(previewMove(e, recipe, rows, *prepared, judged, {}, quietly()).otherRows);
}

TEST(ResidualView, KindsAreWhatTheirNamesSay) {
    const StudyRows rows = Invented(150, 81).rows();
    Recipe recipe = inventedRecipe();
    recipe.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    recipe.setAside = SetAside{.share = 0.2, .seed = 2};
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const Evidence e = evaluate(recipe, rows, *prepared, {}, quietly());
    EXPECT_EQ(residualKinds(e).size(), 8U);
    const auto view = [&](ResidualKind kind, ResidualAgainst against, const std::string& column = {}) {
        return residualView(e, recipe, *prepared, "", {kind, against, column}, {}, quietly());
    };
    const auto folds = view(ResidualKind::outOfFold, ResidualAgainst::rowNumber);
    const auto alone = view(ResidualKind::leaveOneOut, ResidualAgainst::rowNumber);
    ASSERT_EQ(folds.rows, alone.rows);
    for (std::size_t k = 0; k < folds.y.size(); ++k)
        EXPECT_NEAR(folds.y[k], alone.y[k], 1e-8) << "leaving one out, by folds and in closed form";
    const auto standard = view(ResidualKind::standardised, ResidualAgainst::leverage);
    for (std::size_t k = 0; k < standard.rows.size(); ++k) {
        const auto row = standard.rows[k];
        EXPECT_NEAR(standard.y[k],
                    e.rows.residual[row] /
                        (e.linear->residualStandardDeviation * std::sqrt(1 - e.linear->rows.leverage[row])),
                    1e-9);
    }
    EXPECT_EQ(view(ResidualKind::heldOut, ResidualAgainst::predicted).rows.size(), e.rowsHeldOut);
    // Partial residuals of x rise along it by its coefficient.
    const auto partial = view(ResidualKind::partial, ResidualAgainst::column, "x");
    double xy = 0, xx = 0;
    for (std::size_t k = 0; k < partial.rows.size(); ++k) {
        if (e.rows.state[partial.rows[k]] != RowState::learning) continue;
        xy += partial.x[k] * partial.y[k];
        xx += partial.x[k] * partial.x[k];
    }
    double slope = 0;
    for (const auto& c : e.linear->coefficients)
        if (c.name == "x") slope = c.estimate;
    EXPECT_NEAR(xy / xx, slope, 0.3);
    const auto plain = view(ResidualKind::plain, ResidualAgainst::time);
    EXPECT_TRUE(plain.dates);
    EXPECT_EQ(plain.rows.size(), 150U);
    ASSERT_FALSE(plain.middle.at.empty());
    ASSERT_FALSE(plain.spread.at.empty());
    for (std::size_t k = 0; k < plain.spread.at.size(); ++k)
        EXPECT_NEAR(plain.spread.middle[k], 1, 0.4) << "errors have a standard deviation of 1";
    EXPECT_EQ(residualTime(recipe, prepared->table)->name(), "day");
    Recipe named = recipe;
    named.roles["u"] = Role::time;
    EXPECT_EQ(residualTime(named, prepared->table)->name(), "u") << "the role goes before a date";
    EXPECT_TRUE(view(ResidualKind::plain, ResidualAgainst::column, "g").levels);
    ASSERT_TRUE(plain.normal);
    EXPECT_EQ(plain.normalLow.size(), plain.normal->value.size());
}

TEST(ResidualView, TheNormalBandHoldsNineteenOfTwentySamplesWhole) {
    // Aldor-Noiman et al. 2013: all sorted values of a normal sample lie within it with 95 %.
    constexpr std::size_t n = 60;
    std::vector<std::size_t> places;
    for (std::size_t i = 0; i < n; ++i)
        places.push_back(i);
    const QuantileBand band = normalBand(n, places, {}, quietly());
    std::mt19937 random(5);
    std::normal_distribution<double> normal;
    int out = 0;
    constexpr int samples = 2000;
    for (int s = 0; s < samples; ++s) {
        std::vector<double> z(n);
        for (double& v : z)
            v = normal(random);
        const Moments m = momentsOf(z);
        std::sort(z.begin(), z.end());
        bool beyond = false;
        for (std::size_t i = 0; i < n; ++i) {
            const double v = (z[i] - m.mean) / m.standardDeviation;
            beyond = beyond || v < band.low[i] || v > band.high[i];
        }
        out += beyond;
    }
    EXPECT_NEAR(static_cast<double>(out) / samples, 0.05, 0.025) << "the band itself rests on 500 samples";
    EXPECT_NEAR(band.low[29], -band.high[30], 1e-12);
}

TEST(OtherSeeds, AreWhatEveryEvaluationWithThatSeedSays) {
    const StudyRows rows = Invented(240, 91).rows();
    Recipe recipe = inventedRecipe();
    recipe.setAside = SetAside{.share = 0.25, .seed = 4};
    const auto listed = [&](const Recipe& of) {
        const auto prepared = prepareRows(of, rows, {}, quietly());
        const Evidence e = evaluate(of, rows, *prepared, {.checks = ChecksWanted::none}, quietly());
        return otherSeeds(e, {of, rows, *prepared}, {}, quietly());
    };
    const SeedSpread split = listed(recipe);
    ASSERT_EQ(split.rmse.size(), 20U);
    for (const std::size_t k : {0U, 7U, 19U}) {
        Recipe other = recipe;
        other.setAside->seed = 5 + k;
        const Evidence e = evaluate(other, rows, {}, quietly());
        EXPECT_NEAR(split.rmse[k], e.heldOut.rmse, 1e-9);
        EXPECT_NEAR(split.overLearning[k], e.heldOut.rmse / e.learning.rmse, 1e-9);
        EXPECT_NEAR(split.overMean[k], std::sqrt(1 - e.heldOut.rSquared), 1e-9);
    }
    // A step that learns takes the long way, and so do logarithms.
    for (const bool steps : {true, false}) {
        Recipe slow = recipe;
        if (steps)
            slow.steps = {{.kind = "leave out beyond fences",
                           .fields = {{"columns", std::vector<std::string>{"x"}}, {"width", 2.0}}}};
        else
            slow.logResponse = true;
        const SeedSpread found = listed(slow);
        slow.setAside->seed = 5 + 11;
        EXPECT_NEAR(found.rmse[11], evaluate(slow, rows, {}, quietly()).heldOut.rmse, 1e-9);
    }
    Recipe folds = inventedRecipe();
    folds.judge = FoldPlan{.folds = 6, .seed = 9};
    const SeedSpread dealt = listed(folds);
    ASSERT_EQ(dealt.rmse.size(), 20U);
    for (const std::size_t k : {0U, 13U}) {
        Recipe other = folds;
        other.judge->seed = 10 + k;
        EXPECT_NEAR(dealt.rmse[k], evaluate(other, rows, {}, quietly()).folds->rmse, 1e-9);
    }
    // Rows of the test stay locked: whatever is in them changes no seed.
    Recipe locked = recipe;
    locked.setAside->testShare = 0.2;
    const auto before = listed(locked);
    Invented wild(240, 91);
    const auto prepared = prepareRows(locked, rows, {}, quietly());
    for (std::size_t i = 0; i < wild.y.size(); ++i)
        if (prepared->parts[i] == Part::test) wild.y[i] = 1e6;
    const StudyRows wildRows = wild.rows();
    const auto wildPrepared = prepareRows(locked, wildRows, {}, quietly());
    const Evidence e = evaluate(locked, wildRows, *wildPrepared, {.checks = ChecksWanted::none}, quietly());
    EXPECT_EQ(otherSeeds(e, {locked, wildRows, *wildPrepared}, {}, quietly()).rmse, before.rmse);
    // Nothing drawn at random, nothing to draw again.
    Recipe none = inventedRecipe();
    EXPECT_FALSE(listed(none).why.empty());
}

TEST(Moves, WeighingByTheColumnThatSpreadGrowsWithMendsIt) {
    Invented made(600, 97);
    std::mt19937 random(4);
    std::normal_distribution<double> normal;
    for (std::size_t i = 0; i < made.y.size(); ++i)
        made.y[i] = 50 + 3 * made.x[i] + made.z[i] + 0.02 * std::pow(made.z[i], 2) * normal(random);
    const StudyRows rows = made.rows();
    Recipe recipe = recipeOf("y", {"x", "z"});
    const Evidence before = evaluate(recipe, rows, {}, quietly());
    for (const char* key : {"unequal spread", "unequal spread, ranks"}) {
        const Goad* goad = goadOf(before, key);
        ASSERT_TRUE(goad) << key;
        const auto move = std::find_if(goad->moves.begin(), goad->moves.end(),
                                       [](const Move& m) { return m.label == "weigh by z"; });
        ASSERT_NE(move, goad->moves.end()) << key;
        Recipe weighed = recipe;
        move->edit(weighed, "");
        EXPECT_EQ(weighed.roles.at("weight by z"), Role::weight);
        const Evidence after = evaluate(weighed, rows, {}, quietly());
        EXPECT_FALSE(goadOf(after, key)) << key;
        EXPECT_GT(*reading(after, key)->p, 0.01);
        EXPECT_EQ(after.weight, "weight by z");
        const Goad* again = goadOf(after, key);
        EXPECT_FALSE(again);
    }
    // Not where the number turns sign.
    Recipe other = recipe;
    for (double& v : made.z)
        v -= 10;
    const Evidence signs = evaluate(other, made.rows(), {}, quietly());
    for (const Goad& goad : signs.goads)
        for (const Move& move : goad.moves)
            EXPECT_NE(move.label, "weigh by z");
}

TEST(Moves, OneRareLevelIsMergedWithTheMostFrequent) {
    Invented made(120, 98);
    std::fill(made.g.begin(), made.g.end(), 1);
    for (std::size_t i = 0; i < 40; ++i)
        made.g[i] = 0;
    for (std::size_t i = 40; i < 44; ++i)
        made.g[i] = 2;
    const StudyRows rows = made.rows();
    const Evidence before = evaluate(inventedRecipe(), rows, {}, quietly());
    const Goad* goad = goadOf(before, "rare levels: g");
    ASSERT_TRUE(goad);
    const auto move = std::find_if(goad->moves.begin(), goad->moves.end(),
                                   [](const Move& m) { return m.label == "merge it with b"; });
    ASSERT_NE(move, goad->moves.end());
    Recipe merged = inventedRecipe();
    move->edit(merged, "");
    const Evidence after = evaluate(merged, rows, {}, quietly());
    EXPECT_FALSE(goadOf(after, "rare levels: g"));
    EXPECT_EQ(after.rowsLearning, 120U);
}

TEST(CheckSettings, OneReadingOfShapeIsSwitchedOffAndTheOthersStillTell) {
    Invented made(200, 15);
    for (std::size_t i = 0; i < made.y.size(); ++i)
        made.y[i] += 20 * std::exp(made.u[i]);
    Recipe recipe = inventedRecipe();
    recipe.checks["normality, Anderson–Darling"] = {true, "counts are not normal", {}};
    const Evidence e = evaluate(recipe, made.rows(), {}, quietly());
    EXPECT_TRUE(std::isnan(reading(e, "normality, Anderson–Darling")->value));
    const Goad* goad = goadOf(e, "shape of residuals");
    ASSERT_TRUE(goad);
    EXPECT_EQ(goad->check, "skewness");
    for (const char* name : {"skewness", "kurtosis", "normality, Jarque–Bera"})
        recipe.checks[name] = {true, "counts are not normal", {}};
    EXPECT_FALSE(goadOf(evaluate(recipe, made.rows(), {}, quietly()), "shape of residuals"));
}

} // namespace checks_test
