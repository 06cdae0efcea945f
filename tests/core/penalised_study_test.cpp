// Penalised fits from recipe to evidence: searched by folds, written down, compared.
#include "base/random.h"
#include "estimate/linear/linear_model.h"
#include "estimate/penalised/optimality.h"
#include "estimate/penalised/penalised.h"
#include "study/compare_pairs.h"
#include "study/penalty_search.h"
#include "study/rows_used.h"
#include "support/support.h"

#include <Eigen/Dense>

#include <atomic>
#include <functional>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace penalised_study_test {

const std::vector<std::string> diabetesColumns{"age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"};

Recipe penalisedRecipe(const std::string& estimator) {
    Recipe recipe = recipeOf("y", diabetesColumns);
    const std::string text =
        R"({"recipe":1,"rows":{"file":"rows.csv"},"response":"y","terms":["age"],"estimator":)" + estimator +
        "}";
    recipe.estimator = parseRecipe(text, "test").estimator;
    return recipe;
}

std::string refusal(const std::string& estimator) {
    return errorOf([&] { penalisedRecipe(estimator); });
}

/// Coordinate descent on rows, plainly: an independent reckoning of the same minimum.
std::pair<VectorXd, double> plainDescent(const MatrixXd& x, const VectorXd& y, double penalty,
                                         double l1Share) {
    const auto n = static_cast<double>(x.rows());
    const Eigen::RowVectorXd mean = x.colwise().mean();
    MatrixXd z = x.rowwise() - mean;
    const Eigen::RowVectorXd deviation = (z.colwise().squaredNorm() / n).cwiseSqrt();
    z.array().rowwise() /= deviation.array();
    VectorXd r = y.array() - y.mean();
    VectorXd b = VectorXd::Zero(x.cols());
    for (int round = 0; round < 100000; ++round) {
        double largest = 0;
        for (Index j = 0; j < x.cols(); ++j) {
            const double rho = z.col(j).dot(r) / n + b[j];
            const double over = std::fabs(rho) - penalty * l1Share;
            const double next = over > 0 ? std::copysign(over, rho) / (1 + penalty * (1 - l1Share)) : 0;
            r -= (next - b[j]) * z.col(j);
            largest = std::max(largest, std::fabs(next - b[j]));
            b[j] = next;
        }
        if (largest < 1e-13) break;
    }
    const VectorXd natural = b.cwiseQuotient(deviation.transpose());
    return {natural, y.mean() - mean.dot(natural)};
}

/// y says nothing of ten numbers, but for what `signal` adds.
StudyRows madeRows(std::size_t n, unsigned seed, double signal, std::size_t columns = 10) {
    RandomStream random(seed, "penalised study rows");
    std::vector<std::vector<double>> x(columns, std::vector<double>(n));
    std::vector<double> y(n), w(n);
    for (std::size_t i = 0; i < n; ++i) {
        for (auto& column : x)
            column[i] = random.normal();
        y[i] = 100 + signal * (x[0][i] - x[1][i]) + random.normal();
        w[i] = 0.5 + random.uniform();
    }
    std::vector<Column> all{Column::ofNumbers("y", y), Column::ofNumbers("w", w)};
    for (std::size_t j = 0; j < columns; ++j)
        all.push_back(Column::ofNumbers("x" + std::to_string(j), x[j]));
    StudyRows rows;
    rows.learning.table = Table(std::move(all));
    return rows;
}

Recipe madeRecipe(std::size_t columns = 10) {
    std::vector<std::string> names;
    for (std::size_t j = 0; j < columns; ++j)
        names.push_back("x" + std::to_string(j));
    Recipe recipe = recipeOf("y", names);
    recipe.estimator = Settings{"penalised"};
    recipe.judge = FoldPlan{};
    return recipe;
}

bool hasGoad(const Evidence& evidence, const std::string& key) {
    return std::any_of(evidence.goads.begin(), evidence.goads.end(),
                       [&](const Goad& goad) { return goad.key == key; });
}

TEST(PenalisedStudy, EveryFitProvesItselfAtItsRows) {
    const StudyRows published = publishedRows("diabetes"), wide = madeRows(60, 3, 2, 90);
    std::vector<std::string> many;
    for (int j = 0; j < 90; ++j)
        many.push_back("x" + std::to_string(j));
    for (const std::string settings :
         {R"("penalty":0.5)", R"("penalty":0)", R"("penalty":1e-9)", R"("l1_share":0,"penalty":3)",
          R"("l1_share":0.5,"penalty":0.01)", R"("standardise":false,"penalty":0.01)",
          R"("grouped":true,"penalty":1)", R"("adaptive":true,"penalty":0.2)"})
        for (const bool weighted : {false, true})
            for (const StudyRows* rows : {&published, &wide}) {
                if (rows == &published && weighted) continue;
                Recipe recipe = penalisedRecipe(R"({"kind":"penalised",)" + settings + "}");
                recipe.response = "y";
                if (rows == &wide) recipe.terms = recipeOf("y", many).terms;
                if (weighted) recipe.roles["w"] = Role::weight;
                const Evidence evidence = evaluate(recipe, *rows, *prepareRows(recipe, *rows, {1}, quietly()),
                                                   {.threads = {1}}, quietly());
                const LeastSquaresFit& fit = evidence.study->linear()->fit;
                EXPECT_TRUE(fit.proven()) << settings << " " << fit.fromOrthogonal;
                EXPECT_GT(fit.fromOrthogonal, 0) << settings;
            }
}

TEST(PenalisedStudy, WhatIsNotTheOptimumDoesNotProveItself) {
    RandomStream random(8, "optimum");
    MatrixXd x(50, 4);
    for (double& value : x.reshaped())
        value = random.normal();
    const VectorXd y = x.col(0) - x.col(1) + 0.3 * VectorXd::NullaryExpr(50, [&] { return random.normal(); });
    for (const bool grouped : {false, true}) {
        PenaltyOptions options;
        if (grouped) options.groups = {0, 0, 1, 1};
        const MatrixRows source(x);
        const std::vector<double> response(y.begin(), y.end());
        const PenalisedProblem problem = problemOf(source, response, {}, options, {1}, quietly());
        const auto shareAt = [&](const PenalisedPoint& point) {
            const VectorXd r = y - x * point.coefficients - VectorXd::Constant(50, point.constant);
            const VectorXd pulls =
                ((x.rowwise() - problem.mean.transpose()).transpose() * r).cwiseQuotient(problem.scale) / 50;
            return fromOptimum(problem, options, point, pulls);
        };
        const PenalisedPoint right = penalisedPoint(problem, options, 0.1, quietly());
        EXPECT_LT(shareAt(right), 1e-3);
        for (Index j = 0; j < 4; ++j) { // a coefficient kept a little off, one left out brought in
            VectorXd other = right.standardised;
            other[j] += 1e-5;
            EXPECT_GT(shareAt(pointOf(problem, 0.1, other)), 1) << j;
        }
    }
}

TEST(PenalisedStudy, TheChoiceIsThatOfAnIndependentLoopOverTheSameFolds) {
    Recipe recipe = penalisedRecipe(
        R"({"kind":"penalised","l1_share":0.5,"penalty":{"tuned":{"rule":"smallest error"}},"penalties":[20,8,3,1,0.3,0.1,0.01]})");
    recipe.judge = FoldPlan{.folds = 7, .seed = 5};
    const StudyRows rows = publishedRows("diabetes");
    const Evidence evidence = evaluate(recipe, rows, {}, quietly());
    const PenaltySearch& search = *evidence.study->search;
    const Table& table = rows.learning.table;
    std::vector<std::uint32_t> all(table.rows());
    std::iota(all.begin(), all.end(), 0U);
    const Dealing dealing = dealRows(*recipe.judge, table, all, "rows.csv");
    const auto matrix = [&](const std::vector<std::uint32_t>& of) {
        MatrixXd x(static_cast<Index>(of.size()), 10);
        VectorXd y(x.rows());
        for (std::size_t i = 0; i < of.size(); ++i) {
            for (std::size_t j = 0; j < 10; ++j)
                x(static_cast<Index>(i), static_cast<Index>(j)) =
                    table.find(diabetesColumns[j])->asNumber(of[i]);
            y[static_cast<Index>(i)] = table.find("y")->asNumber(of[i]);
        }
        return std::pair(x, y);
    };
    ASSERT_EQ(search.points.size(), 7U);
    std::vector<double> means, errors;
    for (std::size_t k = 0; k < 7; ++k) {
        std::vector<double> mse;
        for (std::size_t f = 0; f < dealing.size(); ++f) {
            const Fold fold = dealing.fold(f);
            const auto [x, y] = matrix(fold.learning);
            const auto [u, v] = matrix(fold.judged);
            const auto [b, constant] = plainDescent(x, y, search.points[k].penalty, 0.5);
            mse.push_back((v.array() - (u * b).array() - constant).square().mean());
        }
        const double mean = std::accumulate(mse.begin(), mse.end(), 0.0) / 7;
        double squares = 0;
        for (const double m : mse)
            squares += (m - mean) * (m - mean);
        means.push_back(mean);
        errors.push_back(std::sqrt(squares / 6 / 7));
        EXPECT_GE(digits(search.points[k].meanOfFoldMse, mean), 10) << search.points[k].penalty;
        EXPECT_GE(digits(search.points[k].standardError, errors.back()), 9);
    }
    const auto best = static_cast<std::size_t>(std::min_element(means.begin(), means.end()) - means.begin());
    EXPECT_EQ(search.chosen, best);
    const auto [x, y] = matrix(all);
    const auto [b, constant] = plainDescent(x, y, search.points[best].penalty, 0.5);
    const LinearModel& model = *evidence.study->linear();
    EXPECT_GE(digits(model.fit.constant, constant), 10);
    for (Index j = 0; j < 10; ++j)
        EXPECT_NEAR(model.fit.coefficients[j], b[j], 1e-9 * b.cwiseAbs().maxCoeff());
    // The simplest within one standard error, of the same numbers.
    recipe.estimator.fields["penalty"] = std::string("one standard error");
    const Evidence simple = evaluate(recipe, rows, {}, quietly());
    std::size_t simplest = best;
    for (std::size_t k = 0; k < best; ++k)
        if (means[k] <= means[best] + errors[best]) {
            simplest = k;
            break;
        }
    EXPECT_EQ(simple.study->search->chosen, simplest);
    EXPECT_LT(simplest, best);
    // And it is said.
    const json said = json::parse(evidenceText(evidence, recipe));
    EXPECT_EQ(said["fit"]["penalty"], search.points[best].penalty);
    EXPECT_EQ(said["fit"]["l1_share"], 0.5);
    EXPECT_EQ(said["fit"]["penalty_judged_by"], "7 folds, seed 5");
    const std::string csv = pathCsv(search);
    EXPECT_TRUE(csv.starts_with(
        "penalty,l1_share,mean_of_fold_mse,standard_error,kept,duality_gap,intercept,age,sex,"))
        << csv.substr(0, 120);
    EXPECT_EQ(std::count(csv.begin(), csv.end(), '\n'), 8);
}

TEST(PenalisedStudy, RecipesSayHowAPenaltyIsFound) {
    Recipe recipe = penalisedRecipe(
        R"({"kind":"penalised","l1_share":{"tuned":{"values":[0.1,0.5,1]}},"penalty":{"tuned":{"rule":"one standard error"}},"rising":["bmi"],"unpenalised":["sex"],"factors":[["age","0.25"]],"standardise":false,"adaptive":true})");
    EXPECT_EQ(parseRecipe(recipeText(recipe), "again"), recipe);
    EXPECT_NE(recipeText(recipe).find("\"rule\": \"one standard error\""), std::string::npos);
    EXPECT_TRUE(isSought(recipe.estimator));
    const Recipe given = penalisedRecipe(R"({"kind":"penalised","l1_share":1,"penalty":3})");
    EXPECT_FALSE(isSought(given.estimator));
    EXPECT_EQ(parseRecipe(recipeText(given), "again"), given);
    // Another judge finds another penalty; a given one does not care.
    Recipe other = recipe;
    other.judge = FoldPlan{.seed = 3};
    EXPECT_FALSE(learnsTheSame(recipe, other));
    other.estimator = given.estimator;
    EXPECT_TRUE(learnsTheSame(given, other));
    EXPECT_NE(refusal(R"({"kind":"penalised","penalty":-1})").find("between 0"), std::string::npos);
    EXPECT_NE(refusal(R"({"kind":"penalised","penalty":"large"})"), "");
    EXPECT_NE(refusal(R"({"kind":"penalised","penalty":{"tuned":{"rule":"best"}}})").find("smallest error"),
              std::string::npos);
    EXPECT_NE(refusal(R"({"kind":"penalised","l1_share":1.5})").find("between 0 and 1"), std::string::npos);
    EXPECT_NE(refusal(R"({"kind":"penalised","l1_share":{"tuned":{"values":[]}}})"), "");
    EXPECT_NE(refusal(R"({"kind":"penalised","l1_share":{"tuned":{"values":[0.5,2]}}})"), "");
    EXPECT_NE(refusal(R"({"kind":"penalised","alpha":1})"), "");
    const StudyRows rows = publishedRows("diabetes");
    const auto failure = [&](const std::string& estimator) {
        return errorOf([&] { evaluate(penalisedRecipe(estimator), rows, {}, quietly()); });
    };
    EXPECT_NE(failure(R"({"kind":"penalised","penalty":1,"rising":["weight"]})").find("no term of the model"),
              std::string::npos);
    EXPECT_NE(failure(R"({"kind":"penalised","penalty":1,"rising":["bmi"],"falling":["bmi"]})")
                  .find("neither rise nor"),
              std::string::npos);
    EXPECT_NE(failure(R"({"kind":"penalised","penalty":1,"factors":[["bmi","much"]]})").find("\"much\""),
              std::string::npos);
    EXPECT_NE(failure(R"({"kind":"penalised","penalties":[1,-2]})").find("a penalty to try is"),
              std::string::npos);
}

TEST(PenalisedStudy, PublishedFitsComeOutOfRecipesAndAreKept) {
    const json fit = publishedJson("diabetes_elastic_net")["blocks"][0]["fits"][8];
    Recipe recipe = penalisedRecipe(R"({"kind":"penalised","l1_share":)" + fit["l1_ratio"].dump() +
                                    R"(,"penalty":)" + fit["alpha"].dump() + "}");
    recipe.judge.reset();
    const StudyRows rows = publishedRows("diabetes");
    const Evidence evidence = evaluate(recipe, rows, {}, quietly());
    const auto& coefficients = evidence.linear->coefficients;
    ASSERT_EQ(coefficients.size(), 11U);
    EXPECT_GE(digits(coefficients[0].estimate, fit["intercept_raw_units"]), 11);
    for (std::size_t j = 0; j < 10; ++j) {
        EXPECT_NEAR(coefficients[j + 1].estimate, fit["coef_raw_units"][j], 1e-11);
        EXPECT_TRUE(std::isnan(coefficients[j + 1].p)); // chosen by a penalty, not tested as if given
        EXPECT_TRUE(std::isnan(coefficients[j + 1].standardError));
    }
    EXPECT_GE(digits(evidence.learning.rmse * evidence.learning.rmse, fit["train_mse"]), 11);
    EXPECT_TRUE(std::isnan(evidence.linear->aicc));
    // Words make no error up: what is kept is held back, what is not is out.
    for (std::size_t j = 1; j <= 10; ++j) {
        const std::string said = coefficientSentence(evidence, recipe, j);
        EXPECT_NE(said.find(coefficients[j].estimate == 0 ? "The penalty keeps it out"
                                                          : "The penalty holds it back"),
                  std::string::npos)
            << said;
    }
    EXPECT_NE(
        settingsFoundText(evidence).find("keeps " + std::to_string(fit["nonzero"].size()) + " of 10 columns"),
        std::string::npos)
        << settingsFoundText(evidence);
    const LinearModel& model = *evidence.study->linear();
    EXPECT_EQ(model.penalised->kept, fit["nonzero"].size());
    // Intervals of single values come from rows left out.
    ASSERT_TRUE(evidence.study->rule.byErrors());
    EXPECT_EQ(evidence.study->rule.byErrors()->of, IntervalsByErrors::Of::leftOneOut);
    EXPECT_TRUE(std::isfinite(evidence.study->rule.halfByErrors(0.95)));
    const auto again = readStudy(studyText(*evidence.study));
    EXPECT_EQ(again->model->text(), model.text());
    EXPECT_EQ(again->settings, evidence.study->settings);
    const BoundModel before = evidence.study->bind(rows.learning.table, ""),
                     after = again->bind(rows.learning.table, "");
    std::vector<std::uint32_t> some{0, 7, 441};
    EXPECT_EQ(before.predict(some, {}, quietly()), after.predict(some, {}, quietly()));
}

TEST(PenalisedStudy, NoiseIsNotLearnedOnRowsNotSeen) {
    // Folds find the penalty anew without the rows that they judge: R² of noise is not above 0 by more than
    // chance, though the penalty is the one that looks best.
    double sum = 0;
    constexpr unsigned sets = 20;
    std::size_t empty = 0;
    for (unsigned seed = 1; seed <= sets; ++seed) {
        const Evidence evidence = evaluate(madeRecipe(), madeRows(80, seed, 0), {}, quietly());
        sum += evidence.folds->rSquared;
        empty += evidence.study->linear()->penalised->kept == 0;
        EXPECT_EQ(evidence.folds->each.size(), 10U);
        EXPECT_EQ(hasGoad(evidence, "nothing kept"), evidence.study->linear()->penalised->kept == 0);
    }
    EXPECT_LT(sum / sets, 0);
    EXPECT_GE(empty, sets / 4);
    const Evidence found = evaluate(madeRecipe(), madeRows(80, 1, 1), {}, quietly());
    EXPECT_GT(found.folds->rSquared, 0.4);
    // Each fold says what it found.
    EXPECT_GT(std::get<double>(found.folds->each[0].settings.get(std::string_view("penalty"))), 0);
}

TEST(PenalisedStudy, EdgesAreSaidOrWidened) {
    Recipe recipe = madeRecipe();
    const StudyRows rows = madeRows(80, 3, 1);
    recipe.estimator.fields["penalties"] = std::vector<double>{2, 1.5, 1};
    const Evidence given = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(given.study->search->points.size(), 3U);
    EXPECT_TRUE(hasGoad(given, "penalty at the edge"));
    recipe.estimator.fields.erase("penalties");
    recipe.estimator.fields["l1_share"] = 0.0;
    const Evidence ridge = evaluate(recipe, rows, {}, quietly());
    EXPECT_FALSE(hasGoad(ridge, "penalty at the edge"));
    EXPECT_EQ(ridge.study->linear()->penalised->kept, 10U);
    // Least squares is best of few columns and many rows, so a grid of its own making goes on downwards.
    const StudyRows many = madeRows(400, 4, 3, 3);
    Recipe plain = madeRecipe(3);
    const Evidence low = evaluate(plain, many, {}, quietly());
    const PenaltySearch& search = *low.study->search;
    const auto& points = search.points;
    EXPECT_TRUE(std::is_sorted(points.begin(), points.end(),
                               [](const auto& a, const auto& b) { return a.penalty > b.penalty; }));
    EXPECT_LT(low.study->linear()->penalised->dualityGap, 1e-9);
    if (points.size() > 100) {
        EXPECT_NE(search.note.find("widened"), std::string::npos);
    }
}

TEST(PenalisedStudy, WeightsLogsFactorsAndSignsFindTheirWay) {
    StudyRows rows = madeRows(120, 6, 1);
    Recipe recipe = madeRecipe();
    // The same weight for all is no weight: sums over cells and rows of their own agree.
    std::vector<double> two(120, 2);
    rows.learning.table = rows.learning.table.withColumn(Column::ofNumbers("w", two));
    const Evidence plain = evaluate(recipe, rows, {}, quietly());
    Recipe weighted = recipe;
    weighted.roles["w"] = Role::weight;
    const Evidence same = evaluate(weighted, rows, {}, quietly());
    ASSERT_EQ(plain.study->search->points.size(), same.study->search->points.size());
    for (std::size_t k = 0; k < plain.study->search->points.size(); ++k)
        EXPECT_GE(
            digits(same.study->search->points[k].meanOfFoldMse, plain.study->search->points[k].meanOfFoldMse),
            10);
    // Of a logarithm errors are those of the response.
    Recipe logs = recipe;
    logs.logResponse = true;
    const Evidence grown = evaluate(logs, rows, {}, quietly());
    const PenaltyPoint& found = grown.study->search->points[grown.study->search->chosen];
    EXPECT_NEAR(std::sqrt(found.meanOfFoldMse), 1.0, 0.25);
    EXPECT_GT(found.kept, 0U);
    // What may only fall does, and what is not penalised stays.
    Recipe held = recipe;
    held.estimator.fields["falling"] = std::vector<std::string>{"x0"}; // which rises in truth
    held.estimator.fields["unpenalised"] = std::vector<std::string>{"x5"};
    held.estimator.fields["penalty"] = 0.9;
    const Evidence signs = evaluate(held, rows, {}, quietly());
    EXPECT_EQ(signs.study->linear()->fit.coefficients[0], 0);
    EXPECT_NE(signs.study->linear()->fit.coefficients[5], 0);
    // Adaptive penalties keep fewer of what is noise.
    Recipe adaptive = recipe;
    adaptive.estimator.fields["adaptive"] = true;
    const Evidence fewer = evaluate(adaptive, rows, {}, quietly());
    EXPECT_LE(fewer.study->linear()->penalised->kept, plain.study->linear()->penalised->kept);
    EXPECT_GE(fewer.study->linear()->penalised->kept, 2U);
    // More columns than rows.
    Recipe wide = madeRecipe(60);
    const Evidence of = evaluate(wide, madeRows(40, 8, 2, 60), {}, quietly());
    EXPECT_GT(of.study->linear()->penalised->kept, 1U);
    EXPECT_LT(of.study->linear()->penalised->dualityGap, 1e-9);
    EXPECT_GT(of.folds->rSquared, 0.3);
}

TEST(PenalisedStudy, WhatASearchFindsIsTheFitOfThatPenaltyAlone) {
    // The search hands its rows and sums on; a recipe that names the penalty makes them anew.
    StudyRows rows = madeRows(130, 16, 1);
    std::vector<double> folds(130), some(130);
    for (std::size_t i = 0; i < folds.size(); ++i) {
        folds[i] = i % 9 == 0 ? std::nan("") : static_cast<double>(i % 4); // some learn in every fold
        some[i] = i % 7 == 0 ? 0 : 1 + static_cast<double>(i % 3);         // some weigh nothing
    }
    rows.learning.table = rows.learning.table.withColumn(Column::ofNumbers("w", some))
                              .withColumn(Column::ofNumbers("fold", folds));
    const auto sameAlone = [&](const Recipe& recipe, const std::string& what) {
        const Evidence sought = evaluate(recipe, rows, {2}, quietly());
        Recipe named = recipe;
        named.estimator = sought.study->settings;
        const Evidence alone = evaluate(named, rows, {1}, quietly());
        const LinearModel &a = *sought.study->linear(), &b = *alone.study->linear();
        ASSERT_GT(a.penalised->kept, 0U) << what;
        EXPECT_EQ(a.penalised->kept, b.penalised->kept) << what;
        EXPECT_LT(a.penalised->dualityGap, 1e-9) << what;
        EXPECT_GE(digits(a.fit.constant, b.fit.constant), 11) << what;
        EXPECT_GE(digits(sought.learning.rmse, alone.learning.rmse), 11) << what;
        for (Index j = 0; j < a.fit.coefficients.size(); ++j)
            EXPECT_NEAR(a.fit.coefficients[j], b.fit.coefficients[j], 1e-11) << what << " " << j;
        const auto &of = sought.study->trained, &to = alone.study->trained;
        EXPECT_LT((of.leverages - to.leverages).cwiseAbs().maxCoeff(), 1e-11) << what;
        EXPECT_LT((of.fitted - to.fitted).cwiseAbs().maxCoeff(), 1e-10) << what;
    };
    Recipe recipe = madeRecipe();
    sameAlone(recipe, "folds of all rows");
    recipe.judge->repeats = 3;
    sameAlone(recipe, "folds dealt three times");
    recipe.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    sameAlone(recipe, "each row left out");
    recipe.judge = FoldPlan{.kind = FoldKind::column};
    recipe.judge->column = "fold";
    sameAlone(recipe, "rows in no fold");
    recipe.judge = FoldPlan{};
    recipe.roles["w"] = Role::weight;
    sameAlone(recipe, "rows without weight");
    recipe.roles.clear();
    recipe.intercept = false;
    recipe.estimator.fields["l1_share"] = 0.0;
    sameAlone(recipe, "ridge without a constant");
    recipe.estimator.fields.erase("l1_share");
    recipe.intercept = true;
    recipe.logResponse = true;
    sameAlone(recipe, "logarithms");
    recipe.logResponse = false;
    recipe.estimator.fields["l1_share"] = std::vector<double>{0.2, 1};
    sameAlone(recipe, "two shares");
    recipe.estimator.fields["l1_share"] = 1.0;
    recipe.estimator.fields["adaptive"] = true;
    sameAlone(recipe, "adaptive");
}

TEST(HeldRows, AreThoseOfTheDesignWhetherHeldOrNot) {
    // 7 columns of curve and product: held at 1,000 rows, made anew when asked at 600,000.
    for (const std::size_t n : {std::size_t{1000}, std::size_t{600000}}) {
        RandomStream random(3, "held rows");
        std::vector<double> x(n), z(n);
        for (std::size_t i = 0; i < n; ++i) {
            x[i] = random.uniform();
            z[i] = random.normal();
        }
        const Table table({Column::ofNumbers("x", x), Column::ofNumbers("z", z)});
        std::vector<std::uint32_t> rows;
        for (std::uint32_t i = 0; i < n; ++i)
            if (i % 5 != 0) rows.push_back(i);
        TermPart curve;
        curve.column = "x";
        curve.form = Form::spline;
        curve.count = 7;
        const Design design =
            Design::learn(table, rows, {Term{{curve}}, plainTerm("z"), Term{{curve, TermPart{"z"}}}}, {}, "");
        const BoundDesign bound(design, table, "");
        const HeldRows held(bound, rows, {2});
        ASSERT_EQ(held.rows(), static_cast<Index>(rows.size()));
        const bool small = static_cast<double>(held.rows() * held.columns()) <= HeldRows::most;
        EXPECT_EQ(small, n == 1000);
        std::vector<std::uint32_t> places{1, 799, 0, 7, 7}, of;
        for (const auto place : places)
            of.push_back(rows[place]);
        MatrixXd wanted(5, held.columns()), got(5, held.columns());
        bound.fill(of, wanted);
        held.fillAt(places, got);
        EXPECT_EQ(got, wanted);
        const PlacedRows placed(held, places);
        EXPECT_EQ(placed.rows(), 5);
        MatrixXd two(2, held.columns());
        placed.fill(3, two);
        EXPECT_EQ(two, wanted.bottomRows(2));
        bound.fill(std::span(rows).subspan(513, 5), wanted);
        held.fill(513, got);
        EXPECT_EQ(got, wanted);
    }
}

TEST(PenalisedStudy, ComparedFitsSayWhatFoldsSay) {
    const StudyRows rows = madeRows(200, 11, 0.4);
    Recipe first = madeRecipe(), second = madeRecipe();
    first.estimator = Settings{};
    first.terms.resize(1);
    second.estimator.fields["penalty"] = 0.05;
    const Evidence a = evaluate(first, rows, {}, quietly()), b = evaluate(second, rows, {}, quietly());
    const std::vector<Compared> fits{{a, first, "fit 1"}, {b, second, "fit 2"}};
    const auto pairs = comparePairs(fits, 0.95, quietly());
    ASSERT_EQ(pairs.size(), 3U);
    double sum = 0;
    std::size_t better = 0;
    for (std::size_t f = 0; f < 10; ++f) {
        const double d = b.folds->each[f].rmse - a.folds->each[f].rmse;
        sum += d / 10;
        better += d < 0;
    }
    EXPECT_GE(digits(pairs[0].difference, sum), 12);
    EXPECT_EQ(pairs[0].foldsBetter, better);
    double squares = 0;
    for (const double d : pairs[0].byFold)
        squares += (d - sum) * (d - sum);
    // Ten folds of twenty rows: 1/10 + 20/180.
    EXPECT_GE(digits(pairs[0].standardError, std::sqrt((0.1 + 20.0 / 180) * squares / 9)), 12);
    EXPECT_NE(pairs[0].says.find("fit 2 is better than fit 1 in " + std::to_string(better) + " of 10 folds"),
              std::string::npos)
        << pairs[0].says;
    const json said = json::parse(comparisonJson(fits, pairs));
    EXPECT_EQ(said["fits"].size(), 2U);
    EXPECT_EQ(said["pairs"][0]["measure"], "rmse");
    EXPECT_EQ(said["pairs"][0]["first"], 1);
    EXPECT_EQ(said["pairs"][0]["folds_better"], better);
    // Without folds the held-out rows are drawn in pairs.
    Recipe held = first, other = second;
    held.judge.reset();
    other.judge.reset();
    held.setAside = other.setAside = SetAside{.share = 0.4, .seed = 2};
    const Evidence c = evaluate(held, rows, {}, quietly()), d = evaluate(other, rows, {}, quietly());
    const std::vector<Compared> halves{{c, held, "fit 1"}, {d, other, "fit 2"}};
    const auto drawn = comparePairs(halves, 0.95, quietly());
    EXPECT_GE(digits(drawn[0].difference, d.heldOut.rmse - c.heldOut.rmse), 10);
    EXPECT_LT(drawn[0].lower, drawn[0].difference);
    EXPECT_GT(drawn[0].upper, drawn[0].difference);
    EXPECT_EQ(drawn[0].folds, 0U);
    EXPECT_EQ(comparePairs(halves, 0.95, quietly())[0].lower, drawn[0].lower);
    // A fit compared with itself is no better.
    const std::vector<Compared> alone{{a, first, "fit 1"}, {a, first, "fit 2"}};
    EXPECT_NE(comparePairs(alone, 0.95, quietly())[0].says.find("the same"), std::string::npos);
}

TEST(PenalisedStudy, TheIntervalOfAComparisonCovers) {
    // Two fits that are as good as each other by their making: each has the column that says something and
    // one of two that say nothing.
    std::size_t covers = 0, plainCovers = 0;
    constexpr unsigned sets = 200;
    for (unsigned seed = 1; seed <= sets; ++seed) {
        const StudyRows rows = madeRows(100, 500 + seed, 1);
        Recipe first = recipeOf("y", {"x0", "x2"}), second = recipeOf("y", {"x0", "x3"});
        first.judge = second.judge = FoldPlan{.seed = seed};
        const EvaluateOptions options{.checks = ChecksWanted::none};
        const auto prepared = prepareRows(first, rows, {}, quietly());
        const Evidence a = evaluate(first, rows, *prepared, options, quietly()),
                       b = evaluate(second, rows, *prepared, options, quietly());
        const std::vector<Compared> fits{{a, first, "fit 1"}, {b, second, "fit 2"}};
        const auto pair = comparePairs(fits, 0.95, quietly())[1];
        covers += pair.lower <= 0 && 0 <= pair.upper;
        const double uncorrected = pair.standardError * std::sqrt(0.1 / (0.1 + 1.0 / 9));
        plainCovers += std::fabs(pair.difference) <= 2.262 * uncorrected;
    }
    std::printf("[ compared ] interval of 10 folds covers %.3f, without the correction %.3f\n",
                static_cast<double>(covers) / sets, static_cast<double>(plainCovers) / sets);
    EXPECT_GE(covers, sets * 93 / 100);
    EXPECT_GT(covers, plainCovers);
}

TEST(PenalisedStudy, AStoppedSearchKeepsTheFoldsDoneWhereSomebodyServesIt) {
    class Serves : public Progress {
    public:
        explicit Serves(bool serves) : m_serves(serves) {}
        void report(double, std::string_view message) override {
            if (message.find("fold 4 of 10") != std::string_view::npos) m_stop = true;
        }
        bool stopRequested() const override { return m_stop; }
        bool serveStop() override {
            m_stop = !m_serves;
            return m_serves;
        }

    private:
        bool m_serves;
        std::atomic<bool> m_stop = false;
    };
    Recipe recipe = madeRecipe();
    const StudyRows rows = madeRows(120, 5, 1);
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    Serves serves(true), firm(false);
    const Evidence kept = evaluate(recipe, rows, *prepared, {.threads = Threads{1}}, serves);
    const PenaltySearch& search = *kept.study->search;
    EXPECT_TRUE(search.stopped());
    EXPECT_EQ(search.folds, 10U);
    EXPECT_EQ(search.foldsDone, 3U) << "the fourth was just begun";
    EXPECT_NE(search.note.find("stopped after 3 of 10 folds"), std::string::npos) << search.note;
    EXPECT_GT(kept.study->linear()->penalised->penalty, 0);
    EXPECT_FALSE(kept.folds) << "folds would search anew";
    EXPECT_NE(kept.foldsProblem.find("was stopped"), std::string::npos);
    // The mean is that of the folds done.
    const Evidence whole = evaluate(recipe, rows, {}, quietly());
    EXPECT_FALSE(whole.study->search->stopped());
    EXPECT_NE(search.points[50].meanOfFoldMse, whole.study->search->points[50].meanOfFoldMse);
    EXPECT_NEAR(search.points[50].meanOfFoldMse, whole.study->search->points[50].meanOfFoldMse,
                0.5 * whole.study->search->points[50].meanOfFoldMse);
    EXPECT_THROW(evaluate(recipe, rows, *prepared, {.threads = Threads{1}}, firm), Stopped);
}

TEST(PenalisedStudy, TheTrailersShowWhatAPenaltyIsFor) {
    // The second demo: 256 columns by least squares and by a lasso, judged by five folds that each search
    // anew.
    const auto of = [](const std::string& name) {
        Recipe recipe = readRecipe(OXGOAD_DEMO "/trailers_" + name + ".json");
        recipe.judge->folds = 5;
        return recipe;
    };
    const Recipe lasso = of("3_lasso"), all = of("2_all_pairs"), few = of("1_columns");
    StudyRows rows;
    rows.learning = readText(OXGOAD_DEMO "/trailer_quotes.csv", {}, {}, quietly());
    const auto fitted = [&](const Recipe& recipe) {
        return evaluate(recipe, rows, *prepareRows(recipe, rows, {}, quietly()),
                        {.checks = ChecksWanted::quick}, quietly());
    };
    const Evidence held = fitted(lasso), loose = fitted(all), plain = fitted(few);
    const LinearModel& model = *held.study->linear();
    EXPECT_EQ(model.design.columns().size(), 256U);
    EXPECT_GT(model.penalised->kept, 30U);
    EXPECT_LT(model.penalised->kept, 130U);
    EXPECT_LT(model.penalised->dualityGap, 1e-9);
    const auto gap = [](const Evidence& e) { return e.folds->rmse / e.learning.rmse - 1; };
    EXPECT_LT(held.folds->rmse, loose.folds->rmse);
    EXPECT_LT(gap(held), 0.5 * gap(loose));
    // What is planted is straight: the few columns do as well.
    EXPECT_LT(plain.folds->rmse, 1.02 * held.folds->rmse);
    // A product stands with a curve of its column, which holds it as it is.
    for (const Goad& goad : held.goads)
        EXPECT_EQ(goad.key.find("product without parents: make × age"), std::string::npos) << goad.key;
}

} // namespace penalised_study_test
