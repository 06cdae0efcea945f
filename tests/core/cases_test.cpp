// Recipes and rows in which numbers were wrong once, each named after its folder in tests/cases. What is
// right was worked out by an independent implementation with 80 bits or 80 digits, or follows from plain
// reasoning, as said beside it.
#include "base/text.h"
#include "core/case_support.h"
#include "estimate/distributions.h"
#include "prepare/expression.h"
#include "study/choose_terms.h"
#include "study/compare.h"
#include "study/effects.h"
#include "study/model_goads.h"
#include "study/say.h"
#include "study/what_helps.h"
#include "table/summary.h"

#include <algorithm>

using namespace oxgoad;
using namespace oxgoad::test;

namespace cases_test {

const TermEvidence& termOf(const Evidence& e, const std::string& name) {
    for (const TermEvidence& term : e.linear->terms)
        if (term.name == name) return term;
    throw std::runtime_error("no term " + name);
}

const Help* helpOf(const WhatHelps& helps, const std::string& name) {
    for (const Help& help : helps.helps)
        if (termName(help.term) == name) return &help;
    return nullptr;
}

/// No F that is negative or beyond anything, no p of exactly 0, and a reason where there is none.
void expectSaneTests(const Evidence& e, const std::string& where) {
    for (const TermEvidence& term : e.linear->terms) {
        if (term.degreesOfFreedom == 0) continue;
        if (std::isnan(term.f)) {
            EXPECT_FALSE(term.why.empty()) << where << " " << term.name;
            EXPECT_TRUE(hasGoad(e, "no test of a term")) << where;
        } else {
            EXPECT_GE(term.f, 0) << where << " " << term.name;
            EXPECT_LT(term.f, 1e6) << where << " " << term.name;
            EXPECT_GT(term.p, 0) << where << " " << term.name;
        }
    }
    if (std::isnan(e.linear->f)) {
        EXPECT_FALSE(e.linear->fWhy.empty()) << where;
    } else {
        EXPECT_GE(e.linear->f, 0) << where;
        EXPECT_LT(e.linear->f, 1e6) << where;
    }
}

TEST(Cases, A_wald_single_row_level_the_rank_of_the_covariance_decides) {
    for (const auto* kind : {"HC0", "HC1", "HC2", "HC3"}) {
        const Evidence e = caseOf("A_wald_single_row_level/" + std::string(kind) + ".json").evidence;
        expectSaneTests(e, kind);
        EXPECT_FALSE(termOf(e, "g").why.empty()) << kind;
        EXPECT_TRUE(hasGoad(e, "rows that fix their value")) << kind;
        EXPECT_GT(termOf(e, "x").f, 0) << "the number is tested all the same";
    }
}

TEST(Cases, A2_wald_many_single_levels_have_no_test_and_a_reason) {
    for (const auto* kind : {"HC0_0", "HC0_1", "HC1_0", "HC1_1", "HC3_0", "HC3_1"})
        expectSaneTests(caseOf("A2_wald_many_single_levels/" + std::string(kind) + ".json").evidence, kind);
}

TEST(Cases, A3_two_shops_with_one_row) {
    for (const auto* kind : {"HC1", "HC3"}) {
        const Evidence e = caseOf("A3_two_shops_with_one_row/" + std::string(kind) + ".json").evidence;
        expectSaneTests(e, kind);
        EXPECT_TRUE(std::isnan(termOf(e, "shop").p)) << "not 3e-65";
    }
    // Errors for equal spread have no such trouble: the F test of two nested fits.
    EXPECT_NEAR(termOf(caseOf("A3_two_shops_with_one_row/equal_spread.json").evidence, "shop").p, 0.0573,
                0.0001);
}

TEST(Cases, B_group_is_term_and_B2_few_groups) {
    const Evidence term = caseOf("B_group_is_term/recipe.json").evidence;
    expectSaneTests(term, "B");
    EXPECT_TRUE(std::isnan(termOf(term, "g").f));
    const Case few = caseOf("B2_few_groups/recipe.json");
    expectSaneTests(few.evidence, "B2");
    EXPECT_TRUE(std::isnan(few.evidence.linear->f)) << "three groups say nothing of three slopes together";
    EXPECT_TRUE(hasGoad(few.evidence, "few groups: g"));
    for (const Goad& goad : few.evidence.goads)
        if (goad.key == "few groups: g") {
            ASSERT_FALSE(goad.moves.empty());
            Recipe edited = few.recipe;
            goad.moves.back().edit(edited, {});
            EXPECT_EQ(edited.errors.kind, CovarianceKind::clusteredFewGroups);
        }
}

TEST(Cases, L_year_polynomial_Wald_tests_and_inflation_lose_nothing_to_conditioning) {
    EXPECT_NEAR(caseOf("L_year_polynomial/4HC3.json").evidence.linear->f, 23.36, 0.005); // 80 bits
    EXPECT_NEAR(caseOf("L_year_polynomial/5HC3.json").evidence.linear->f, 19.85, 0.005);
    const Evidence six = caseOf("L_year_polynomial/6equ.json").evidence;
    EXPECT_NEAR(std::pow(termOf(six, "z").inflation, 1.0), 1.08, 0.01);
    for (const auto* name :
         {"2HC3", "3HC3", "4HC3", "5HC3", "6HC3", "2equ", "3equ", "4equ", "5equ", "6equ"}) {
        const Case each = caseOf("L_year_polynomial/" + std::string(name) + ".json");
        for (const TermEvidence& term : each.evidence.linear->terms)
            EXPECT_GE(term.inflation, 1) << name << " " << term.name;
    }
}

TEST(Cases, seed_410_and_D_inflation_by_triangular_factors) {
    EXPECT_NEAR(termOf(caseOf("seed_410/recipe.json").evidence, "Z").inflation, 1.02, 0.005);
    const Evidence d = caseOf("D_inflation/recipe.json").evidence;
    EXPECT_NEAR(termOf(d, "a").inflation / 9.9e15, 1, 0.01);
    EXPECT_NEAR(termOf(caseOf("D_inflation/hc0.json").evidence, "b").inflation / 9.9e15, 1, 0.01);
}

TEST(Cases, seed_514_and_seed_79_errors_to_twice_the_precision_where_coefficients_are) {
    const Evidence e = caseOf("seed_514/recipe.json").evidence;
    EXPECT_TRUE(e.linear->twicePrecision);
    EXPECT_NEAR(e.linear->coefficients[0].standardError, 3.34, 0.005); // 80 bits; 36.2 in doubles
    const Evidence grouped = caseOf("seed_79/recipe.json").evidence;
    EXPECT_TRUE(grouped.linear->twicePrecision);
    // The two collinear columns' errors belong together: the difference of them is well known. 3 % off
    // before.
    ASSERT_GT(grouped.linear->coefficients.size(), 5u);
    for (const CoefficientEvidence& c : grouped.linear->coefficients)
        EXPECT_GT(c.standardError, 0) << c.name;
}

TEST(Cases, I_mean_interval_empty_seed_573_seed_458_intervals_or_a_reason) {
    for (const auto* name : {"I_mean_interval_empty/HC0.json", "I_mean_interval_empty/HC3.json",
                             "seed_573/recipe.json", "seed_458/recipe.json"}) {
        const ForecastEvidence f = *caseOf(name).evidence.forecast;
        for (std::size_t i = 0; i < f.prediction.size(); ++i) {
            if (std::isnan(f.prediction[i])) continue;
            if (std::isfinite(f.meanLower[i])) {
                EXPECT_LT(f.meanLower[i], f.meanUpper[i]) << name << " row " << i;
                continue;
            }
            bool said = false;
            for (const std::string& reason : f.reach[i].reasons)
                said = said || reason.starts_with("how sure its mean is cannot be said");
            EXPECT_TRUE(said) << name << " row " << i;
        }
    }
    const ForecastEvidence f = *caseOf("seed_458/recipe.json").evidence.forecast;
    EXPECT_NEAR(f.meanLower[0] / 8.27e9, 1, 0.001); // 80 bits
    EXPECT_TRUE(std::isfinite(f.meanUpper[0]));
}

TEST(Cases, C_log_zero_weight_criteria_do_not_count_rows_of_weight_0) {
    const Evidence with = caseOf("C_log_zero_weight/d.csv.json").evidence;
    EXPECT_NEAR(with.linear->aicc, 42.5, 0.05);
    EXPECT_GT(digits(with.linear->aicc, caseOf("C_log_zero_weight/d2.csv.json").evidence.linear->aicc), 12);
}

TEST(Cases, H_level_only_weight_zero_was_never_learned_from) {
    const Case c = caseOf("H_level_only_weight_zero/recipe.json");
    for (const auto* name : {"recipe.json", "r2.json"}) {
        const ForecastEvidence f = *caseOf("H_level_only_weight_zero/" + std::string(name)).evidence.forecast;
        bool outside = false;
        for (std::size_t i = 0; i < f.prediction.size(); ++i)
            if (std::isnan(f.prediction[i])) {
                outside = true;
                EXPECT_EQ(f.reach[i].grade, ReachGrade::outside);
                EXPECT_FALSE(f.reach[i].reasons.empty());
            }
        EXPECT_TRUE(outside) << name;
    }
    EXPECT_GT(c.evidence.rowsWeightless, 0u);
}

TEST(Cases, O_zero_weight_everything_is_as_without_those_rows) {
    for (const auto* kind :
         {"least_squares", "HC3", "Huber", "bisquare", "median", "by_group", "serial", "log"}) {
        const std::string path = "O_zero_weight_everything/" + std::string(kind);
        const Evidence with = caseOf(path + "_with.json").evidence;
        const Evidence without = caseOf(path + "_without.json").evidence;
        EXPECT_EQ(with.rowsLearning, without.rowsLearning) << kind;
        EXPECT_EQ(with.rowsLearning + with.rowsWeightless, 90u) << kind;
        ASSERT_EQ(with.linear->coefficients.size(), without.linear->coefficients.size()) << kind;
        for (std::size_t i = 0; i < with.linear->coefficients.size(); ++i) {
            EXPECT_EQ(with.linear->coefficients[i].estimate, without.linear->coefficients[i].estimate)
                << kind << i;
            EXPECT_EQ(with.linear->coefficients[i].standardError,
                      without.linear->coefficients[i].standardError)
                << kind << i;
            if (i > 0) {
                EXPECT_EQ(with.linear->coefficients[i].effect, without.linear->coefficients[i].effect)
                    << kind << i;
            }
        }
        for (std::size_t t = 0; t < with.linear->terms.size(); ++t) {
            EXPECT_EQ(with.linear->terms[t].density, without.linear->terms[t].density) << kind;
            EXPECT_EQ(with.linear->terms[t].p, without.linear->terms[t].p) << kind;
            if (!std::isnan(without.linear->terms[t].lowest)) {
                EXPECT_EQ(with.linear->terms[t].lowest, without.linear->terms[t].lowest) << kind;
                EXPECT_EQ(with.linear->terms[t].highest, without.linear->terms[t].highest) << kind;
            }
        }
        EXPECT_EQ(with.learning.rmse, without.learning.rmse) << kind;
        EXPECT_EQ(with.linear->residualStandardDeviation, without.linear->residualStandardDeviation) << kind;
        EXPECT_EQ(with.linear->errorUnits, without.linear->errorUnits) << kind;
        ASSERT_EQ(with.readings.size(), without.readings.size()) << kind;
        for (std::size_t r = 0; r < with.readings.size(); ++r)
            EXPECT_TRUE(with.readings[r].value == without.readings[r].value ||
                        (std::isnan(with.readings[r].value) && std::isnan(without.readings[r].value)))
                << kind << with.readings[r].name;
        if (without.linear->iterated) {
            EXPECT_EQ(with.linear->iterated->scale, without.linear->iterated->scale) << kind;
        }
        EXPECT_EQ(with.forecast->prediction, without.forecast->prediction) << kind;
        EXPECT_EQ(with.forecast->lower[0], without.forecast->lower[0]) << kind;
    }
}

TEST(Cases, O_zero_weight_everything_choices_are_as_without_those_rows) {
    for (const auto criterion :
         {ChooseCriterion::pValue, ChooseCriterion::bic, ChooseCriterion::crossValidated}) {
        ChooseRequest request;
        request.criterion = criterion;
        std::vector<Choice> choices;
        for (const auto* which : {"with", "without"}) {
            const Case c = caseOf("O_zero_weight_everything/choose_p_" + std::string(which) + ".json");
            choices.push_back(chooseTerms(c.recipe, *c.prepared, request, {}, quietly()));
        }
        EXPECT_EQ(choices[0].terms, choices[1].terms);
        EXPECT_EQ(choices[0].endCriterion, choices[1].endCriterion);
        EXPECT_EQ(choices[0].honestError, choices[1].honestError);
        EXPECT_EQ(choices[0].rows, choices[1].rows);
    }
}

TEST(Cases, A_row_of_weight_0_teaches_no_step_either) {
    StudyRows rows;
    rows.learning = readBytes("x,y,w\n1,1,1\n2,2,1\n3,3.5,1\n4,4,1\n5,5.5,1\n1000,6,0\n,7,1\n");
    Recipe recipe = recipeOf("y", {"x"});
    recipe.roles["w"] = Role::weight;
    recipe.steps.push_back(
        {"fill missing", true, {{"columns", std::vector<std::string>{"x"}}, {"with", std::string("mean")}}});
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    EXPECT_EQ(prepared->table.at("x", {}).numbers()[6], 3) << "the mean of 1 to 5, without the 1,000";
    EXPECT_FALSE(prepared->teaches(5));
    const Evidence e = evaluate(recipe, rows, *prepared, {}, quietly());
    EXPECT_EQ(e.rows.state[5], RowState::weightless);
    EXPECT_TRUE(std::isfinite(e.rows.fitted[5])) << "it is predicted all the same";
    EXPECT_TRUE(std::isnan(e.linear->rows.cook[5]));
}

TEST(Cases, G_what_helps_weights_G2_what_helps_offset_F_what_helps_zero_weight) {
    for (const std::string name :
         {"G_what_helps_weights", "G2_what_helps_offset", "F_what_helps_zero_weight"}) {
        const Case without = caseOf(name + "/recipe.json");
        Recipe with = readRecipe(cases / name / "with.json");
        with.roles = without.recipe.roles; // G2's own recipe with the term has no offset
        const Evidence fitted = evaluate(with, without.rows, {}, quietly());
        const WhatHelps helps = whatHelps(without.recipe, *without.prepared, {}, quietly());
        const std::string added = termName(with.terms.back());
        const Help* help = helpOf(helps, added);
        ASSERT_NE(help, nullptr) << name;
        // What would help is by definition the F of the fit with the term.
        EXPECT_GT(digits(help->f, fitted.linear->terms.back().f), 8) << name << " " << help->f;
        EXPECT_GT(digits(help->p, fitted.linear->terms.back().p), 7) << name;
    }
    const Case weighted = caseOf("G_what_helps_weights/recipe.json");
    EXPECT_NEAR(helpOf(whatHelps(weighted.recipe, *weighted.prepared, {}, quietly()), "z")->f, 31.2, 0.05);
}

TEST(Cases, K_error_without_logs_each_fit_has_its_own_smearing) {
    const Evidence e = caseOf("K_error_without_logs/recipe.json").evidence;
    EXPECT_NEAR(termOf(e, "a").errorWithout, -0.0087, 0.0001);
    EXPECT_NEAR(termOf(e, "b").errorWithout, 0.303, 0.0005);
    // By definition: the other fit's error against this one's.
    const Evidence without = caseOf("K_error_without_logs/wo.json").evidence;
    EXPECT_NEAR(termOf(e, "b").errorWithout, without.heldOut.rmse / e.heldOut.rmse - 1, 1e-9);
}

TEST(Cases, R_no_degrees_of_freedom_has_no_values_and_a_goad) {
    const Evidence e = caseOf("R_no_degrees_of_freedom/recipe.json").evidence;
    EXPECT_TRUE(hasGoad(e, "no degrees of freedom"));
    for (const double value : {e.linear->f, e.linear->bic, e.linear->aicc, e.linear->rSquared,
                               e.linear->adjustedRSquared, e.linear->terms[0].f, e.linear->terms[0].p,
                               e.linear->coefficients[0].standardError, e.linear->coefficients[0].lower})
        EXPECT_TRUE(std::isnan(value));
    EXPECT_FALSE(e.linear->terms[0].why.empty());
    const std::string said = coefficientSentence(e, caseOf("R_no_degrees_of_freedom/recipe.json").recipe, 1);
    EXPECT_NE(said.find("How sure that is cannot be said: no degrees of freedom are left."),
              std::string::npos)
        << said;
    EXPECT_EQ(said.find("±"), std::string::npos) << said;
}

TEST(Cases, P_superscript_in_condition_is_a_power) {
    const auto rows = readBytes("a,b\n2,3\n-1,1.5\n1,1\n");
    const auto valuesOf = [&](const std::string& text) {
        return Expression::parse(text, rows.table.columns()).evaluate(rows.table.columns());
    };
    EXPECT_EQ(valuesOf("a² > b"), valuesOf("a^2 > b"));
    EXPECT_EQ(valuesOf("b < a³ and a² ≥ 1"), valuesOf("b < a^3 and a^2 >= 1"));
    for (const auto* name : {"0", "1", "2", "3", "4"})
        EXPECT_NO_THROW(caseOf("P_superscript_in_condition/" + std::string(name) + ".json")) << name;
}

TEST(Cases, J_effect_quartiles_by_definition_7) {
    for (const std::string rows : {"101", "40", "43"}) {
        const Case c = caseOf("J_effect/r" + rows + "False.json");
        std::vector<double> values;
        const auto a = c.rows.learning.table.at("a", {}).numbers();
        for (std::size_t i = 0; i < a.size(); ++i)
            if (c.evidence.rows.state[i] == RowState::learning) values.push_back(a[i]);
        std::sort(values.begin(), values.end());
        // Hyndman and Fan 1996, definition 7, written out.
        const auto quantile = [&](double share) {
            const double at = share * static_cast<double>(values.size() - 1);
            const auto below = static_cast<std::size_t>(at);
            const double rest = at - static_cast<double>(below);
            return values[below] + (rest > 0 ? rest * (values[below + 1] - values[below]) : 0);
        };
        EXPECT_GT(digits(c.evidence.linear->coefficients[1].effect,
                         c.evidence.linear->coefficients[1].estimate * (quantile(0.75) - quantile(0.25))),
                  12)
            << rows;
    }
}

TEST(Cases, N_compare_says_what_it_compares) {
    const Case first = caseOf("N_compare/first.json"), second = caseOf("N_compare/second.json");
    const auto say = [&](const Recipe& a, const Recipe& b) {
        const Evidence one = evaluate(a, first.rows, {}, quietly()),
                       other = evaluate(b, first.rows, {}, quietly());
        return comparisonSentence({one, a, "fit 1"}, {other, b, "fit 2"});
    };
    const std::string nested = say(first.recipe, second.recipe);
    EXPECT_NE(nested.find("(fit 2 against fit 1): F "), std::string::npos) << nested;
    EXPECT_NE(nested.find(" with 1 and "), std::string::npos) << "whole numbers: " << nested;
    EXPECT_EQ(nested.find("1.00"), std::string::npos) << nested;
    Recipe unweighted = second.recipe;
    unweighted.roles.clear();
    EXPECT_NE(say(first.recipe, unweighted).find("weighted differently (fit 1: w, fit 2: none)"),
              std::string::npos)
        << say(first.recipe, unweighted);
    Recipe median = second.recipe;
    median.estimator.kind = "quantile";
    const std::string said = say(first.recipe, median);
    EXPECT_NE(said.find("different estimators (fit 1: least squares, fit 2: median regression)"),
              std::string::npos)
        << said;
    EXPECT_EQ(said.find("learned from"), std::string::npos) << said;
    // A centred column is the first power of its polynomial.
    Recipe centred = first.recipe, polynomial = first.recipe;
    centred.terms[0].parts[0].form = Form::centred;
    polynomial.terms[0].parts[0].form = Form::polynomial;
    polynomial.terms[0].parts[0].count = 2;
    const std::string powers = say(centred, polynomial);
    EXPECT_NE(powers.find("x^2 "), std::string::npos) << powers;
    EXPECT_NE(powers.find(": F "), std::string::npos) << powers;
    EXPECT_NE(say(centred, first.recipe).find("the same terms"), std::string::npos);
}

TEST(Cases, seed_210_a_fit_that_did_not_settle_says_so) {
    Case c = caseOf("seed_210/recipe.json");
    c.recipe.errors = {};
    c.recipe.estimator = {"robust", {{"function", std::string("bisquare")}}};
    const Evidence e = evaluate(c.recipe, c.rows, {}, quietly());
    EXPECT_EQ(e.linear->iterated->converged, !hasGoad(e, "no convergence"));
}

TEST(Cases, Sums_of_squares_of_a_far_off_response_keep_their_digits) {
    // y = 1e12 + i·2⁻¹³, exact in doubles: the sum of squares about the mean is known.
    std::string text = "x,y\n";
    for (int i = 0; i < 1001; ++i)
        text += std::to_string((i * 7919) % 1001) + "," + exactText(1e12 + i * std::ldexp(1, -13)) + "\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    const Evidence e = evaluate(recipeOf("y", {"x"}), rows, {}, quietly());
    const double n = 1001;
    EXPECT_GT(digits(e.linear->totalSumOfSquares, n * (n * n - 1) / 12 * std::ldexp(1, -26)), 13);
    EXPECT_LT(e.linear->responseDigitsLeft, 4);
    EXPECT_TRUE(hasGoad(e, "far-off response"));
}

TEST(Cases, An_exactly_linear_response_is_a_goad_and_has_no_errors) {
    std::string text = "x,z,y\n";
    for (int i = 1; i <= 40; ++i)
        text += std::to_string(i) + "," + std::to_string((i * 37) % 11) + "," +
                exactText(0.1 + 0.3 * i - 0.7 * ((i * 37) % 11)) + "\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    for (const auto kind : {CovarianceKind::homoskedastic, CovarianceKind::hc3}) {
        Recipe recipe = recipeOf("y", {"x", "z"});
        recipe.errors.kind = kind;
        const Evidence e = evaluate(recipe, rows, {}, quietly());
        EXPECT_TRUE(e.linear->fitsExactly);
        EXPECT_TRUE(hasGoad(e, "fits exactly"));
        EXPECT_TRUE(std::isnan(e.linear->coefficients[1].standardError)) << "never an error of 0";
        EXPECT_TRUE(std::isnan(e.linear->terms[0].f));
        EXPECT_GT(digits(e.linear->coefficients[1].estimate, 0.3), 14);
    }
}

TEST(Cases, Values_at_the_end_of_doubles_are_said_so) {
    const auto said = [](const std::string& x, const std::string& y) {
        StudyRows rows;
        rows.learning = readBytes("x,y\n1" + x + ",1" + y + "\n2" + x + ",3" + y + "\n3" + x + ",2" + y +
                                  "\n4" + x + ",5" + y + "\n5" + x + ",4" + y + "\n");
        std::string text = errorOf([&] {
            const Evidence e = evaluate(recipeOf("y", {"x"}), rows, {}, quietly());
            for (const CoefficientEvidence& c : e.linear->coefficients) {
                EXPECT_TRUE(std::isfinite(c.estimate));
                EXPECT_GT(c.standardError, 0) << x << y;
            }
        });
        return text;
    };
    EXPECT_EQ(said("", ""), "");
    EXPECT_EQ(said("e100", "e100"), "");
    EXPECT_NE(said("", "e307").find("too large to be squared"), std::string::npos);
    EXPECT_NE(said("", "e-300").find("too little to be squared"), std::string::npos);
    EXPECT_NE(said("e307", "").find("too large"), std::string::npos);
    EXPECT_NE(said("e-307", "").find("too little"), std::string::npos);
}

TEST(Cases, One_learning_row_is_a_sentence_or_a_goad) {
    StudyRows rows;
    rows.learning = readBytes("x,y\n1,5\n");
    const Evidence mean = evaluate(recipeOf("y", {}), rows, {}, quietly());
    EXPECT_TRUE(hasGoad(mean, "no degrees of freedom"));
    EXPECT_TRUE(std::isnan(mean.linear->coefficients[0].standardError));
    EXPECT_NE(errorOf([&] { evaluate(recipeOf("y", {"x"}), rows, {}, quietly()); }).find("too few"),
              std::string::npos);
}

TEST(Cases, What_would_help_measures_columns_far_off_0_or_counts_them_as_passed_over) {
    // x spreads over 1e-6 of its mean; its bend and its product with z were dropped without a word.
    std::string text = "x,z,y\n";
    for (int i = 0; i < 200; ++i) {
        const double u = (i * 7919 % 200) / 200.0 - 0.5, v = (i * 104729 % 199) / 199.0 - 0.5;
        text += exactText(1e6 + u) + "," + exactText(v) + "," +
                exactText(u + 4 * u * u + 3 * u * v + 0.01 * ((i * 31) % 17)) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    const Recipe recipe = recipeOf("y", {"x", "z"});
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const WhatHelps helps = whatHelps(recipe, *prepared, {}, quietly());
    for (const auto& [name, term] : {std::pair{"x^2", Term{{TermPart{"x", 2}}}},
                                     std::pair{"x × z", Term{{TermPart{"x"}, TermPart{"z"}}}}}) {
        const Help* help = helpOf(helps, name);
        ASSERT_NE(help, nullptr) << name;
        Recipe with = recipe;
        with.terms.push_back(term);
        EXPECT_GT(digits(help->f, evaluate(with, rows, {}, quietly()).linear->terms.back().f), 5) << name;
    }
    EXPECT_EQ(helps.helps.size() + helps.notSelected, helps.tried);
}

TEST(Cases, Conditions_with_missing_values_and_divisions_by_0_are_as_documented) {
    const auto rows = readBytes("a,b\n1,0\n,2\n4,2\n");
    const auto valuesOf = [&](const std::string& text) {
        return Expression::parse(text, rows.table.columns()).evaluate(rows.table.columns());
    };
    const auto chosen = valuesOf("if(a > 2, 10, 20)");
    EXPECT_EQ(chosen, (std::vector<double>{20, 20, 10})) << "a missing condition does not hold";
    EXPECT_TRUE(std::isnan(valuesOf("a / b")[0]));
    EXPECT_EQ(valuesOf("if(a / b > 5, 1, 0)")[0], 0) << "missing inside a condition too, not infinite";
    EXPECT_EQ(valuesOf("if(b / 0 < 5, 1, 0)"), (std::vector<double>{0, 0, 0}));
    EXPECT_EQ(valuesOf("8 / 2 / 2 × 3")[0], 6) << "from left to right as ever";
}

TEST(Cases, Products_are_read_aloud_at_the_mean_with_the_errors_of_their_slopes) {
    const StudyRows rows = publishedRows("diabetes");
    Recipe recipe = recipeOf("y", {"bmi", "bp"});
    recipe.terms.push_back(Term{{TermPart{"bmi"}, TermPart{"bp"}}});
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    // Two numbers: the slope of one is said at the mean of the other, b1 + b3·mean.
    const std::string said = coefficientSentence(e, recipe, 1);
    const auto bp = rows.learning.table.at("bp", {}).numbers();
    double mean = 0;
    for (const double v : bp)
        mean += v / static_cast<double>(bp.size());
    EXPECT_NE(said.find(" at the mean of bp (" + readableText(mean, 4) + ")"), std::string::npos) << said;
    // The same slope and error as the coefficient of a model in which bp is centred.
    Recipe centred = recipe;
    centred.terms[2].parts[1].form = Form::centred;
    const Evidence other = evaluate(centred, rows, {}, quietly());
    const auto& slope = other.linear->coefficients[1];
    EXPECT_NE(said.find(supported(slope.estimate, slope.standardError) + " ± " +
                        readableText(slope.standardError, 2)),
              std::string::npos)
        << said;
}

TEST(Cases, Slopes_of_each_level_have_their_error_and_interval) {
    std::string text = "x,g,y\n";
    for (int i = 0; i < 60; ++i) {
        const int g = i % 3;
        text += std::to_string(i % 20) + "," + std::string(1, static_cast<char>('a' + g)) + "," +
                exactText((1.0 + g) * (i % 20) + 0.1 * ((i * 37) % 23)) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    const auto levels = equationsByLevel(e, "g");
    ASSERT_EQ(levels.size(), 3u);
    // The slope of b and its error, by the fit in which b is the reference level.
    recipe.reference["g"] = "b";
    const Evidence b = evaluate(recipe, rows, {}, quietly());
    const auto& slope = b.linear->coefficients[1];
    const std::string said = slopeSentence(e, recipe, levels[1], "g");
    EXPECT_TRUE(said.starts_with("For g = b: x " + supported(slope.estimate, slope.standardError) + " ± " +
                                 readableText(slope.standardError, 2)))
        << said;
    EXPECT_NE(said.find("95 % interval " + supported(slope.lower, slope.standardError) + " to " +
                        supported(slope.upper, slope.standardError)),
              std::string::npos)
        << said;
    // The difference of levels is said at the mean of x, not where x is 0.
    EXPECT_NE(coefficientSentence(e, recipe, 2).find(" at the mean of x (9.5"), std::string::npos)
        << coefficientSentence(e, recipe, 2);
}

} // namespace cases_test
