// Errors over folds: against independent values, against refits, and with everything learned anew inside.
#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "study/compare.h"
#include "study/fold_evidence.h"
#include "study/judge.h"
#include "study/rows_used.h"
#include "study/say.h"
#include "study/what_helps.h"
#include "support/support.h"

#include <Eigen/QR>

#include <algorithm>
#include <atomic>
#include <bit>
#include <set>

using namespace oxgoad;
using namespace oxgoad::test;
using nlohmann::json;

namespace judge_test {

const std::vector<std::string> ten{"age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"};

/// The published rows with columns that say folds: in the order of the file, and by place.
StudyRows diabetes() {
    StudyRows rows = publishedRows("diabetes");
    const std::size_t n = rows.learning.table.rows();
    std::vector<double> row(n);
    for (std::size_t i = 0; i < n; ++i)
        row[i] = static_cast<double>(i + 1);
    Table table = rows.learning.table.withColumn(Column::ofNumbers("row", row));
    for (const std::size_t k : {5U, 10U}) {
        std::vector<double> inOrder(n), byPlace(n);
        for (std::size_t i = 0, fold = 0, end = 0; i < n; ++i) {
            if (i == end) {
                end += n / k + (fold < n % k ? 1 : 0);
                ++fold;
            }
            inOrder[i] = static_cast<double>(fold);
            byPlace[i] = static_cast<double>(i % k);
        }
        table = table.withColumn(Column::ofNumbers("order" + std::to_string(k), inOrder))
                    .withColumn(Column::ofNumbers("place" + std::to_string(k), byPlace));
    }
    rows.learning.table = table;
    return rows;
}

Recipe judged(const std::string& response, const std::vector<std::string>& columns, FoldPlan plan) {
    Recipe recipe = recipeOf(response, columns);
    recipe.judge = std::move(plan);
    return recipe;
}

FoldEvidence foldsOf(const Recipe& recipe, const StudyRows& rows, unsigned threads = 2, bool refit = false) {
    const auto prepared = prepareRows(recipe, rows, {threads}, quietly());
    return judgeByFolds(recipe, *prepared, "rows.csv", {.threads = {threads}, .refit = refit}, quietly());
}

std::string refusal(const Recipe& recipe, const StudyRows& rows) {
    return errorOf([&] { foldsOf(recipe, rows); });
}

/// A step that learns and changes nothing the model reads: the folds then have tables of their own.
Step learnsApart(const std::string& column) {
    return {.kind = "fill missing", .fields = {{"columns", std::vector<std::string>{column}}}};
}

/// y of two numbers and a factor of unequal levels, with weights and an offset.
StudyRows invented(std::size_t n, std::uint64_t seed) {
    RandomStream random(seed, "judged rows");
    std::string text = "y,x,z,g,w,off,site,month,apart\n";
    for (std::size_t i = 0; i < n; ++i) {
        const double x = random.normal(), z = random.normal();
        const auto level = std::min<std::uint64_t>(random.below(9), 4);
        const double off = 0.2 * random.normal();
        const double y = std::exp(0.5 + 0.3 * x - 0.2 * z + 0.1 * static_cast<double>(level) + off +
                                  0.2 * random.normal());
        text += exactText(y) + "," + exactText(x) + "," + exactText(z) + ",g" + std::to_string(level) + "," +
                exactText(0.5 + random.uniform()) + "," + exactText(off) + ",s" +
                std::to_string(random.below(12)) + "," + std::to_string(1 + i * 24 / n) + "," +
                (i % 7 == 0 ? "" : exactText(random.normal())) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    return rows;
}

/// The first of the month that many months after January 2000.
std::string monthText(int months) {
    const int month = 1 + months % 12;
    return std::to_string(2000 + months / 12) + (month < 10 ? "-0" : "-") + std::to_string(month) + "-01";
}

StudyRows rowsOf(const std::string& text) {
    StudyRows rows;
    rows.learning = readBytes(text);
    return rows;
}

void expectSame(const FoldEvidence& a, const FoldEvidence& b, double wanted, const std::string& what) {
    EXPECT_EQ(a.rows, b.rows) << what;
    EXPECT_GE(digits(a.mse, b.mse), wanted) << what;
    EXPECT_GE(digits(a.mae, b.mae), wanted) << what;
    EXPECT_GE(digits(a.rSquared, b.rSquared), wanted) << what;
    EXPECT_GE(digits(a.meanOfFoldMse, b.meanOfFoldMse), wanted) << what;
    if (!std::isnan(a.standardError) || !std::isnan(b.standardError)) {
        EXPECT_GE(digits(a.standardError, b.standardError), wanted) << what;
    }
    if (!std::isnan(a.adjustedMse) || !std::isnan(b.adjustedMse)) {
        EXPECT_GE(digits(a.adjustedMse, b.adjustedMse), wanted) << what;
    }
    ASSERT_EQ(a.outOfFold.size(), b.outOfFold.size());
    double worst = 16;
    for (std::size_t i = 0; i < a.outOfFold.size(); ++i)
        if (!std::isnan(a.outOfFold[i]) || !std::isnan(b.outOfFold[i]))
            worst = std::min(worst, digits(a.outOfFold[i], b.outOfFold[i]));
    EXPECT_GE(worst, wanted) << what;
}

/// Asks for a stop after some questions.
class StopsAfter : public Progress {
public:
    explicit StopsAfter(int folds) : m_folds(folds) {}
    void report(double, std::string_view message) override {
        if (message.starts_with("Judging, fold") || message.starts_with("Judging, draw")) ++m_seen;
    }
    bool stopRequested() const override { return m_seen > m_folds; }

private:
    int m_folds;
    std::atomic<int> m_seen{0};
};

// Values: 5 and 10 folds of the diabetes rows by mpmath at 80 digits, compared with a general-purpose library
// (tests/reference/published, diabetes_diagnostics).
TEST(Judge, ABasisThatIsNoneIsNotUsed) {
    const StudyRows rows = invented(200, 3);
    for (const FoldKind kind : {FoldKind::leaveOneOut, FoldKind::kFolds}) {
        const Recipe recipe = judged("y", {"x", "z", "g"}, {.kind = kind});
        const auto prepared = prepareRows(recipe, rows, {1}, quietly());
        const RowsUsed used = rowsUsed(recipe, *prepared, "rows.csv");
        auto whole = std::make_shared<Study>(
            *learn(recipe, prepared->table, prepared->steps, "rows.csv", used.learning, {1}, quietly()));
        auto model = std::make_shared<LinearModel>(*whole->linear());
        const auto& factor = model->fit.factor;
        model->fit.factor = TriangularFactor(factor.wholeTriangle() * 0.9, factor.wholeInverse() / 0.9);
        whole->model = model;
        const FoldEvidence right = foldsOf(recipe, rows, 1, true);
        const FoldEvidence found =
            judgeByFolds(recipe, *prepared, "rows.csv", {.threads = {1}, .whole = whole}, quietly());
        EXPECT_GE(digits(found.mse, right.mse), 12) << foldPlanText(*recipe.judge);
    }
}

TEST(Judge, FoldsAgreeWithIndependentValues) {
    const StudyRows rows = diabetes();
    const json values = publishedJson("diabetes_diagnostics").at("cross_validation");
    const std::pair<const char*, const char*> plans[] = {{"order5", "kfold_5_contiguous"},
                                                         {"order10", "kfold_10_contiguous"},
                                                         {"place5", "kfold_5_row_index_mod"},
                                                         {"place10", "kfold_10_row_index_mod"}};
    for (const auto& [column, name] : plans)
        for (const int way : {0, 1, 2}) {
            Recipe recipe = judged("y", ten, {.kind = FoldKind::column, .column = column});
            if (way == 1) recipe.steps = {learnsApart("row")};
            const FoldEvidence folds = foldsOf(recipe, rows, 2, way == 2);
            const json& value = values.at(name);
            EXPECT_GE(digits(folds.mse, value.at("pooled_mse")), 12) << name;
            EXPECT_GE(digits(folds.rmse, value.at("pooled_rmse")), 12) << name;
            EXPECT_GE(digits(folds.mae, value.at("pooled_mae")), 12) << name;
            EXPECT_GE(digits(folds.meanOfFoldMse, value.at("mean_of_fold_mse")), 12) << name;
            const auto each = value.at("fold_mse").get<std::vector<double>>();
            ASSERT_EQ(folds.each.size(), each.size());
            for (std::size_t f = 0; f < each.size(); ++f)
                EXPECT_GE(digits(folds.each[f].mse, each[f]), 12) << name << " " << f;
        }
}

TEST(Judge, LeavingOneOutAgreesWithIndependentValues) {
    const FoldEvidence folds = foldsOf(judged("y", ten, {.kind = FoldKind::leaveOneOut}), diabetes());
    EXPECT_GE(digits(folds.mse, publishedJson("diabetes_diagnostics").at("loocv").at("mse")), 13);
    EXPECT_TRUE(folds.each.empty());
    EXPECT_EQ(folds.asked, 442U);
}

// Leaving out one row, by mpmath at 80 digits (longley, 16 rows of nearly dependent columns, and stackloss).
TEST(Judge, LeavingOneOutOfSmallAndNearlyDependentRows) {
    const std::pair<const char*, std::vector<std::string>> sets[] = {
        {"longley", {"GNPDEFL", "GNP", "UNEMP", "ARMED", "POP", "YEAR"}},
        {"stackloss", {"AIRFLOW", "WATERTEMP", "ACIDCONC"}}};
    for (const auto& [name, columns] : sets) {
        const json values = publishedJson(std::string(name) + "_diagnostics");
        const StudyRows rows = publishedRows(name);
        std::string response;
        for (const Column& column : rows.learning.table.columns())
            if (std::find(columns.begin(), columns.end(), column.name()) == columns.end() &&
                (column.name() == "TOTEMP" || column.name() == "STACKLOSS"))
                response = column.name();
        ASSERT_FALSE(response.empty()) << name;
        for (const bool refit : {false, true}) {
            const FoldEvidence folds =
                foldsOf(judged(response, columns, {.kind = FoldKind::leaveOneOut}), rows, 2, refit);
            EXPECT_GE(digits(folds.mse, values.at("loocv").at("mse")), 10) << name << refit;
        }
    }
}

// What a fold's model says, its pooled errors and the bias-adjusted one (Davison and Hinkley 1997, §6.4.1),
// by plain refits with another reduction than the program's.
TEST(Judge, ErrorsAreWhatTheirDefinitionsSay) {
    const StudyRows rows = diabetes();
    const Table& table = rows.learning.table;
    const FoldPlan plan{.folds = 7, .seed = 3};
    const FoldEvidence folds = foldsOf(judged("y", {"bmi", "bp", "s5"}, plan), rows);
    const auto n = static_cast<Eigen::Index>(table.rows());
    Eigen::MatrixXd x(n, 4);
    Eigen::VectorXd y(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        const auto row = static_cast<std::size_t>(i);
        x.row(i) << 1, table.find("bmi")->numbers()[row], table.find("bp")->numbers()[row],
            table.find("s5")->numbers()[row];
        y[i] = table.find("y")->numbers()[row];
    }
    std::vector<std::uint32_t> all(table.rows());
    for (std::uint32_t i = 0; i < all.size(); ++i)
        all[i] = i;
    const Dealing dealing = dealRows(plan, table, all, "");
    double pooled = 0, absolute = 0, aboutMean = 0, fallen = 0, mean = 0;
    std::vector<double> each;
    for (std::size_t f = 0; f < 7; ++f) {
        const Fold fold = dealing.fold(f);
        Eigen::MatrixXd own(static_cast<Eigen::Index>(fold.learning.size()), 4);
        Eigen::VectorXd response(own.rows());
        for (Eigen::Index i = 0; i < own.rows(); ++i) {
            own.row(i) = x.row(fold.learning[static_cast<std::size_t>(i)]);
            response[i] = y[fold.learning[static_cast<std::size_t>(i)]];
        }
        const Eigen::VectorXd errors = y - x * own.colPivHouseholderQr().solve(response);
        double squares = 0;
        for (const auto row : fold.judged) {
            squares += errors[row] * errors[row];
            absolute += std::fabs(errors[row]);
            aboutMean += std::pow(y[row] - response.mean(), 2);
            EXPECT_GE(digits(folds.outOfFold[row], y[row] - errors[row]), 10);
            EXPECT_EQ(folds.foldOf[row], static_cast<std::int32_t>(f));
        }
        pooled += squares;
        each.push_back(squares / static_cast<double>(fold.judged.size()));
        mean += each.back() / 7;
        fallen += static_cast<double>(fold.judged.size()) / static_cast<double>(n) * errors.squaredNorm() /
                  static_cast<double>(n);
    }
    const double learning = (y - x * x.colPivHouseholderQr().solve(y)).squaredNorm() / static_cast<double>(n);
    EXPECT_GE(digits(folds.mse, pooled / static_cast<double>(n)), 11);
    EXPECT_GE(digits(folds.mae, absolute / static_cast<double>(n)), 11);
    EXPECT_GE(digits(folds.rSquared, 1 - pooled / aboutMean), 11);
    EXPECT_GE(digits(folds.learningMse, learning), 11);
    EXPECT_GE(digits(folds.adjustedMse, pooled / static_cast<double>(n) + learning - fallen), 11);
    double squares = 0;
    for (const double mse : each)
        squares += (mse - mean) * (mse - mean);
    EXPECT_GE(digits(folds.standardError, std::sqrt(squares / 6 / 7)), 10);
    EXPECT_GE(digits(folds.rmseError, folds.standardError / (2 * std::sqrt(mean))), 12);
}

TEST(Judge, OnePassEqualsRefitsForEveryPlan) {
    const StudyRows rows = invented(150, 1);
    const std::vector<FoldPlan> plans{
        {.folds = 5, .repeats = 2, .seed = 3},
        {.kind = FoldKind::leaveOneOut},
        {.kind = FoldKind::groups, .folds = 4, .column = "site"},
        {.kind = FoldKind::inProportion, .folds = 4, .column = "g"},
        {.kind = FoldKind::rollingOrigin, .folds = 3, .column = "month", .horizon = 2, .gap = 1},
        {.kind = FoldKind::column, .column = "g"},
        {.kind = FoldKind::bootstrap, .seed = 2, .draws = 12}};
    const std::vector<std::pair<std::string, std::function<void(Recipe&)>>> variants{
        {"plain", [](Recipe&) {}},
        {"weights", [](Recipe& r) { r.roles["w"] = Role::weight; }},
        {"logs", [](Recipe& r) { r.logResponse = true; }},
        {"logs, weights and an offset",
         [](Recipe& r) {
             r.logResponse = true;
             r.roles["w"] = Role::weight;
             r.roles["off"] = Role::offset;
         }},
        {"no constant", [](Recipe& r) { r.intercept = false; }},
        {"errors by group, a product", [](Recipe& r) {
             r.errors = {CovarianceKind::clustered, "site", -1};
             r.terms.push_back(Term{{TermPart{"x"}, TermPart{"z"}}});
         }}};
    for (const FoldPlan& plan : plans)
        for (const auto& [name, change] : variants) {
            Recipe recipe = judged("y", {"x", "z", "g"}, plan);
            change(recipe);
            const auto prepared = prepareRows(recipe, rows, {2}, quietly());
            const Evidence whole =
                evaluate(recipe, rows, *prepared, {.folds = EvaluateOptions::Folds::never}, quietly());
            ASSERT_TRUE(judgesInOnePass(recipe, *whole.study)) << name;
            const FoldEvidence quick = foldsOf(recipe, rows);
            recipe.steps = {learnsApart("apart")};
            ASSERT_FALSE(judgesInOnePass(recipe, *whole.study));
            // On their own tables, and fitted one by one.
            const FoldEvidence inBasis = foldsOf(recipe, rows);
            const FoldEvidence refitted = foldsOf(recipe, rows, 2, true);
            expectSame(inBasis, refitted, 9, name + ", own tables, " + foldPlanText(plan));
            EXPECT_EQ(inBasis.unseenRows, refitted.unseenRows);
            expectSame(quick, refitted, 9, name + ", " + foldPlanText(plan));
            EXPECT_EQ(quick.unseenRows, refitted.unseenRows);
            if (plan.kind == FoldKind::column) {
                EXPECT_EQ(quick.unseenRows, 150U);
            }
        }
}

TEST(Judge, WhatFunctionsOfColumnsLearnIsLearnedInEveryFold) {
    const StudyRows rows = invented(120, 2);
    const auto formOf = [](Form form, int count) {
        TermPart part{"x"};
        part.form = form;
        part.count = count;
        return part;
    };
    const FoldPlan plan{.folds = 4};
    const auto quick = [&](const Recipe& recipe) {
        const auto prepared = prepareRows(recipe, rows, {2}, quietly());
        const Evidence whole =
            evaluate(recipe, rows, *prepared, {.folds = EvaluateOptions::Folds::never}, quietly());
        return judgesInOnePass(recipe, *whole.study);
    };
    for (const auto& [form, onePass] : {std::pair{Form::spline, false},
                                        {Form::pieces, false},
                                        {Form::polynomial, true},
                                        {Form::standardised, true},
                                        {Form::centred, true}}) {
        Recipe recipe = judged("y", {}, plan);
        recipe.terms = {Term{{formOf(form, form == Form::spline ? 4 : 3)}}, plainTerm("z")};
        EXPECT_EQ(quick(recipe), onePass) << static_cast<int>(form);
        // The same by the recipe of the fold's own rows, held out from a fit of them.
        const FoldEvidence folds = foldsOf(recipe, rows);
        std::vector<double> part(120, 0);
        for (std::size_t i = 0; i < part.size(); ++i)
            part[i] = folds.foldOf[i] == 2 ? 1 : 0;
        StudyRows split = rows;
        split.learning.table = rows.learning.table.withColumn(Column::ofNumbers("part", part));
        Recipe once = recipe;
        once.judge.reset();
        once.setAside = SetAside{.kind = SetAsideKind::column, .column = "part", .heldOutValues = {"1"}};
        const Evidence evidence = evaluate(once, split, {2}, quietly());
        for (std::size_t i = 0; i < part.size(); ++i)
            if (part[i] == 1) {
                EXPECT_GE(digits(folds.outOfFold[i], evidence.rows.fitted[i]), 9);
            }
    }
    // A product of a centred column is another space of functions when its mean moves.
    Recipe product = judged("y", {"x"}, plan);
    product.terms.push_back(Term{{formOf(Form::centred, 0), TermPart{"z"}}});
    EXPECT_FALSE(quick(product));
    Recipe given = judged("y", {"z"}, plan);
    TermPart curve = formOf(Form::spline, 0);
    curve.knots = {-1, 0, 1};
    given.terms.push_back(Term{{curve}});
    EXPECT_TRUE(quick(given));
}

TEST(Judge, OtherKindsOfModelAreRefitted) {
    const StudyRows rows = invented(90, 3);
    for (const char* kind : {"neighbours", "robust", "quantile"}) {
        Recipe recipe = judged("y", {"x", "z"}, {.folds = 3});
        recipe.estimator.kind = kind;
        const FoldEvidence folds = foldsOf(recipe, rows);
        EXPECT_EQ(folds.rows, 90U) << kind;
        EXPECT_GT(folds.rSquared, 0) << kind;
        EXPECT_EQ(folds.each[0].settings.kind, kind);
        Recipe once = recipe;
        once.judge.reset();
        std::vector<double> part(90);
        for (std::size_t i = 0; i < 90; ++i)
            part[i] = folds.foldOf[i] == 0 ? 1 : 0;
        StudyRows split = rows;
        split.learning.table = rows.learning.table.withColumn(Column::ofNumbers("part", part));
        once.setAside = SetAside{.kind = SetAsideKind::column, .column = "part", .heldOutValues = {"1"}};
        EXPECT_GE(digits(folds.each[0].rmse, evaluate(once, split, {2}, quietly()).heldOut.rmse), 12) << kind;
    }
}

// By hand: learning error 1, out of bag 3, no information 5: R = 2/4, weight 0.632 / (1 − 0.184).
TEST(Judge, TheBootstrapByAHandWorkedExample) {
    const BootstrapErrors e = bootstrapErrors(1, 3, 5);
    EXPECT_DOUBLE_EQ(e.overfitting, 0.5);
    EXPECT_NEAR(e.weight, 0.7745098039215687, 1e-15);
    EXPECT_NEAR(e.plain632, 0.368 + 1.896, 1e-15);
    EXPECT_NEAR(e.plus632, 0.2254901960784313 + 3 * 0.7745098039215687, 1e-14);
    // The same as Efron and Tibshirani write it: .632 estimate + (out of bag − learning) · .368·.632·R/(1 −
    // .368R).
    EXPECT_NEAR(e.plus632, e.plain632 + 2 * 0.368 * 0.632 * 0.5 / (1 - 0.368 * 0.5), 1e-14);
    // Worse than no information: all weight on it, bounded; better than learning: none is relative.
    EXPECT_DOUBLE_EQ(bootstrapErrors(1, 9, 5).plus632, 5);
    EXPECT_DOUBLE_EQ(bootstrapErrors(3, 2, 5).overfitting, 0);
    EXPECT_DOUBLE_EQ(bootstrapErrors(0, 2, 2).weight, 1);
}

TEST(Judge, TheBootstrapOfRowsFollowsItsDefinition) {
    const StudyRows rows = diabetes();
    const FoldEvidence folds =
        foldsOf(judged("y", {"bmi"}, {.kind = FoldKind::bootstrap, .draws = 40}), rows);
    ASSERT_TRUE(folds.bootstrap);
    EXPECT_EQ(folds.each.size(), 40U);
    EXPECT_EQ(folds.bootstrap->outOfBag, folds.mse);
    EXPECT_TRUE(std::isnan(folds.adjustedMse));
    Recipe plain = recipeOf("y", {"bmi"});
    const Evidence whole = evaluate(plain, rows, {1}, quietly());
    EXPECT_GE(digits(folds.learningMse, whole.learning.rmse * whole.learning.rmse), 12);
    double pairs = 0; // over all pairs, slowly
    for (const double y : whole.rows.actual)
        for (const double f : whole.rows.fitted)
            pairs += (y - f) * (y - f) / (442.0 * 442.0);
    EXPECT_GE(digits(folds.bootstrap->noInformation, pairs), 11);
    EXPECT_GT(folds.bootstrap->plus632, folds.learningMse);
    EXPECT_LT(folds.bootstrap->plus632, folds.mse);
}

TEST(Judge, NoiseIsNotPredictedHoweverMuchIsLearned) {
    double sum = 0, squares = 0;
    const int seeds = 20;
    for (int seed = 1; seed <= seeds; ++seed) {
        RandomStream random(static_cast<std::uint64_t>(seed), "noise");
        std::string text = "y,month";
        for (int j = 0; j < 50; ++j)
            text += ",x" + std::to_string(j);
        text += "\n";
        for (int i = 0; i < 100; ++i) {
            text += exactText(random.normal()) + "," + monthText(i);
            for (int j = 0; j < 50; ++j)
                text += random.below(40) == 0 ? "," : "," + exactText(random.normal());
            text += "\n";
        }
        std::vector<std::string> columns;
        for (int j = 0; j < 50; ++j)
            columns.push_back("x" + std::to_string(j));
        Recipe recipe = judged("y", columns, {.folds = 5, .seed = static_cast<std::uint64_t>(seed)});
        recipe.terms[0].parts[0].form = Form::spline;
        recipe.terms[0].parts[0].count = 4;
        recipe.steps = {{.kind = "fill missing", .fields = {{"columns", columns}}},
                        {.kind = "leave out beyond fences",
                         .fields = {{"columns", std::vector<std::string>{"y", "x1"}}, {"width", 1.5}}},
                        {.kind = "lag",
                         .fields = {{"column", std::string("x2")},
                                    {"time", std::string("month")},
                                    {"unit", std::string("month")}}}};
        recipe.choose = ChoosePlan{.criterion = ChooseCriterion::aicc, .mostSteps = 6};
        const FoldEvidence folds = foldsOf(recipe, rowsOf(text));
        EXPECT_EQ(folds.rows, 100U); // those beyond the fences are judged, too
        sum += folds.rSquared;
        squares += folds.rSquared * folds.rSquared;
    }
    const double mean = sum / seeds;
    const double error = std::sqrt((squares / seeds - mean * mean) / (seeds - 1));
    EXPECT_LE(mean, 2 * error);
    EXPECT_LT(mean, 0);
}

TEST(Judge, WhatIsJudgedChangesNothingThatIsLearned) {
    const StudyRows rows = invented(120, 4);
    Recipe recipe = judged("y", {"x", "z", "g", "apart"}, {.folds = 4, .seed = 2});
    recipe.terms[0].parts[0].form = Form::spline;
    recipe.terms[0].parts[0].count = 4;
    recipe.steps = {{.kind = "fill missing", .fields = {{"columns", std::vector<std::string>{"apart"}}}},
                    {.kind = "leave out beyond fences",
                     .fields = {{"columns", std::vector<std::string>{"z", "y"}}, {"width", 2.0}}}};
    recipe.choose = ChoosePlan{.criterion = ChooseCriterion::crossValidated, .mostSteps = 3};
    const FoldEvidence before = foldsOf(recipe, rows);
    for (std::int32_t fold = 0; fold < 4; ++fold) {
        // Other responses, and other values of every second row.
        std::vector<double> y(rows.learning.table.find("y")->numbers().begin(),
                              rows.learning.table.find("y")->numbers().end());
        std::vector<double> z(rows.learning.table.find("z")->numbers().begin(),
                              rows.learning.table.find("z")->numbers().end());
        for (std::size_t i = 0; i < y.size(); ++i) {
            if (before.foldOf[i] != fold) continue;
            y[i] = 1000 + 17 * static_cast<double>(i);
            if (i % 2 == 0) z[i] = -500;
        }
        StudyRows changed = rows;
        changed.learning.table =
            rows.learning.table.withColumn(Column::ofNumbers("y", y)).withColumn(Column::ofNumbers("z", z));
        const FoldEvidence after = foldsOf(recipe, changed);
        for (std::size_t i = 0; i < y.size(); ++i)
            if (before.foldOf[i] == fold && i % 2 == 1) {
                EXPECT_EQ(std::bit_cast<std::uint64_t>(after.outOfFold[i]),
                          std::bit_cast<std::uint64_t>(before.outOfFold[i]));
            }
        EXPECT_EQ(after.each[static_cast<std::size_t>(fold)].chosen,
                  before.each[static_cast<std::size_t>(fold)].chosen);
    }
}

TEST(Judge, ALookBackAtTheResponseGoesWithRollingOriginOnly) {
    RandomStream random(1, "series");
    std::string text = "month,y,x\n";
    double y = 0;
    for (int i = 1; i <= 60; ++i) {
        y = 0.8 * y + random.normal();
        text += monthText(i) + "," + exactText(y) + "," + exactText(random.normal()) + "\n";
    }
    const StudyRows rows = rowsOf(text);
    Recipe recipe = judged("y", {"x"}, {.folds = 5});
    recipe.steps = {{.kind = "lag",
                     .fields = {{"column", std::string("y")},
                                {"time", std::string("month")},
                                {"unit", std::string("month")}}}};
    const auto prepared = prepareRows(recipe, rows, {1}, quietly());
    ASSERT_TRUE(prepared->steps[0].done) << prepared->steps[0].problem;
    recipe.terms.push_back(plainTerm(prepared->steps[0].touched.at(0)));
    for (const FoldKind kind : {FoldKind::kFolds, FoldKind::leaveOneOut, FoldKind::bootstrap}) {
        recipe.judge = FoldPlan{.kind = kind};
        EXPECT_NE(refusal(recipe, rows).find("looks back at y"), std::string::npos);
        EXPECT_NE(refusal(recipe, rows).find("rolling origin"), std::string::npos);
    }
    recipe.judge = FoldPlan{.kind = FoldKind::rollingOrigin, .folds = 4, .column = "month", .horizon = 3};
    const FoldEvidence folds = foldsOf(recipe, rows);
    // One period ahead the last response is known; two ahead it is one of those to be judged.
    EXPECT_EQ(folds.rows, 4U);
    EXPECT_EQ(folds.unpredicted, 8U);
    std::vector<double> other(rows.learning.table.find("y")->numbers().begin(),
                              rows.learning.table.find("y")->numbers().end());
    for (std::size_t i = 57; i < 60; ++i)
        other[i] = 99;
    StudyRows changed = rows;
    changed.learning.table = rows.learning.table.withColumn(Column::ofNumbers("y", other));
    const FoldEvidence after = foldsOf(recipe, changed);
    for (std::size_t i = 0; i < 60; ++i)
        EXPECT_EQ(std::isnan(folds.outOfFold[i]), std::isnan(after.outOfFold[i]));
    EXPECT_GE(digits(after.outOfFold[57], folds.outOfFold[57]), 12);
    // Switched off it is no hindrance.
    recipe.steps[0].on = false;
    recipe.terms.pop_back();
    recipe.judge = FoldPlan{.folds = 5};
    EXPECT_EQ(refusal(recipe, rows), "");
}

// y is 1 for a, 2 for b, 3 for c: left out, a level gets the mean of those learned, each as often as learned.
TEST(Judge, ALevelThatAFoldHasNotLearnedIsPredictedByTheStatedRule) {
    const StudyRows rows =
        rowsOf("y,g,part\n1,a,1\n1.2,a,2\n2,b,1\n2.2,b,2\n2.1,b,2\n3,c,3\n3.3,c,3\n0.9,a,1\n");
    for (const bool stepped : {false, true}) {
        Recipe recipe = judged("y", {"g"}, {.kind = FoldKind::column, .column = "part"});
        if (stepped) recipe.steps = {learnsApart("part")};
        const FoldEvidence folds = foldsOf(recipe, rows);
        ASSERT_EQ(folds.unseen.size(), 1U);
        EXPECT_EQ(folds.unseen[0].fold, "3");
        EXPECT_EQ(folds.unseen[0].column, "g");
        EXPECT_EQ(folds.unseen[0].level, "c");
        EXPECT_EQ(folds.unseen[0].rows, (std::vector<std::uint32_t>{5, 6}));
        EXPECT_EQ(folds.unseenRows, 2U);
        EXPECT_EQ(folds.rows, 8U);
        const double a = (1 + 1.2 + 0.9) / 3, b = (2 + 2.2 + 2.1) / 3;
        EXPECT_NEAR(folds.outOfFold[5], (3 * a + 3 * b) / 6, 1e-12);
        const json evidence = json::parse(evidenceText(evaluate(recipe, rows, {1}, quietly()), recipe));
        EXPECT_EQ(evidence.at("folds").at("unseen_levels").at(0).at("rows"), (json{6, 7}));
        EXPECT_NE(evidence.dump().find("levels not learned in folds"), std::string::npos);
    }
}

TEST(Judge, RowsOfWeightZeroAreNotDealt) {
    const StudyRows plain = invented(80, 5);
    std::string text = "y,x,z,w\n";
    const auto cell = [&](const char* name, std::size_t i) {
        return exactText(plain.learning.table.find(name)->numbers()[i]);
    };
    std::string more = text;
    for (std::size_t i = 0; i < 80; ++i)
        text += cell("y", i) + "," + cell("x", i) + "," + cell("z", i) + "," + cell("w", i) + "\n";
    more = text + "9999,40,40,0\n-1,3,3,0\n";
    for (const FoldKind kind : {FoldKind::kFolds, FoldKind::leaveOneOut, FoldKind::bootstrap}) {
        Recipe recipe = judged("y", {"x", "z"}, {.kind = kind, .folds = 5, .draws = 10});
        recipe.roles["w"] = Role::weight;
        const FoldEvidence without = foldsOf(recipe, rowsOf(text)), with = foldsOf(recipe, rowsOf(more));
        EXPECT_EQ(without.mse, with.mse);
        EXPECT_EQ(without.rows, with.rows);
        EXPECT_TRUE(std::isnan(with.outOfFold[80]));
    }
}

TEST(Judge, RowsLeftOutByAStepAreJudgedAndTeachNothing) {
    StudyRows rows = rowsOf("y,x\n1,1\n2.1,2\n2.9,3\n4.2,4\n5,5\n6.1,6\n100,7\n7.9,8\n");
    Recipe recipe = judged("y", {"x"}, {.kind = FoldKind::leaveOneOut});
    recipe.steps = {{.kind = "leave out where", .fields = {{"condition", std::string("y > 50")}}}};
    const FoldEvidence folds = foldsOf(recipe, rows);
    EXPECT_EQ(folds.rows, 8U);
    EXPECT_NEAR(folds.outOfFold[6], 7, 0.2);
    recipe.leaveOut = {{7, "typed wrongly"}}; // by hand: not judged
    EXPECT_EQ(foldsOf(recipe, rows).rows, 7U);
}

TEST(Judge, MissingValuesAreFilledInsideOrCounted) {
    const StudyRows rows = invented(140, 6); // "apart" lacks every seventh value
    Recipe recipe = judged("y", {"x", "apart"}, {.folds = 5});
    const FoldEvidence lacking = foldsOf(recipe, rows);
    EXPECT_EQ(lacking.rows, 120U);
    EXPECT_EQ(lacking.unpredicted, 20U);
    recipe.steps = {learnsApart("apart")};
    EXPECT_EQ(foldsOf(recipe, rows).rows, 140U);
    EXPECT_EQ(foldsOf(recipe, rows).unpredicted, 0U);
}

TEST(Judge, FoldsWithTooFewRowsSayWhichAndWhatToDo) {
    const StudyRows rows = rowsOf("y,a,b,c\n1,1,2,1\n2,3,1,4\n3,2,2,9\n5,5,1,3\n6,4,3,2\n7,9,8,1\n");
    Recipe recipe = judged("y", {"a", "b", "c"}, {.folds = 2});
    EXPECT_NE(refusal(recipe, rows).find("fold 1: 3 learning rows are too few for 4 coefficients"),
              std::string::npos)
        << refusal(recipe, rows);
    EXPECT_NE(refusal(recipe, rows).find("Fewer folds"), std::string::npos);
    // One row fewer than rows and as many as coefficients: each can still be left out.
    recipe.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    EXPECT_EQ(refusal(recipe, rows), "");
    const StudyRows just = rowsOf("y,a,b\n1,1,2\n2,3,1\n3,2,2\n");
    recipe.terms.pop_back();
    EXPECT_NE(refusal(recipe, just).find("fold 1"), std::string::npos);
    // A fold whose learning rows all have one level.
    const StudyRows alike = rowsOf("y,g,f\n1,a,1\n2,a,1\n3,b,2\n4,b,2\n5,a,1\n");
    EXPECT_NE(refusal(judged("y", {"g"}, {.kind = FoldKind::column, .column = "f"}), alike).find("fold 1"),
              std::string::npos);
}

TEST(Judge, AFitIsNotRefusedBecauseAFoldCannotLearn) {
    // Of two levels one has a single row: the fold that judges it learns from one level only.
    std::string text = "y,g\n";
    for (int i = 0; i < 24; ++i)
        text += std::to_string(3 * i % 7) + "," + (i == 5 ? "b" : "a") + "\n";
    const StudyRows rows = rowsOf(text);
    Recipe recipe = judged("y", {"g"}, {.folds = 4});
    const auto prepared = prepareRows(recipe, rows, {1}, quietly());
    EXPECT_NE(errorOf([&] { evaluate(recipe, rows, *prepared, {}, quietly()); }).find("fold "),
              std::string::npos);
    const auto unjudged = [](const Evidence& evidence) {
        return std::count_if(evidence.goads.begin(), evidence.goads.end(), [](const Goad& g) {
            return g.key == unjudgedKey && g.reading.find("fold ") != std::string::npos;
        });
    };
    const Evidence evidence =
        evaluate(recipe, rows, *prepared, {.folds = EvaluateOptions::Folds::whenQuick}, quietly());
    EXPECT_FALSE(evidence.folds);
    EXPECT_EQ(unjudged(evidence), 1);
    const Evidence never =
        evaluate(recipe, rows, *prepared, {.folds = EvaluateOptions::Folds::never}, quietly());
    EXPECT_EQ(unjudged(never), 0);
    EXPECT_EQ(unjudged(withFolds(never, recipe, rows, *prepared, {}, quietly())), 1);
    // A plan that cannot be is refused all the same.
    recipe.judge->folds = 25;
    EXPECT_NE(errorOf([&] {
                  evaluate(recipe, rows, *prepared, {.folds = EvaluateOptions::Folds::whenQuick}, quietly());
              }).find("25 folds"),
              std::string::npos);
}

TEST(Judge, ARowThatAloneHoldsACoefficientIsNotPredictedWithoutIt) {
    // Row 8 is the only one with x2 other than 0: the others say nothing of what that does.
    const StudyRows rows =
        rowsOf("y,x,x2\n1,1,0\n2.2,2,0\n2.9,3,0\n4.1,4,0\n5.3,5,0\n5.8,6,0\n7.1,7,0\n20,8,1\n");
    const FoldEvidence folds = foldsOf(judged("y", {"x", "x2"}, {.kind = FoldKind::leaveOneOut}), rows);
    EXPECT_EQ(folds.rows, 7U);
    EXPECT_TRUE(std::isnan(folds.outOfFold[7]));
    EXPECT_NEAR(folds.outOfFold[6], 7, 0.5);
    EXPECT_TRUE(std::isfinite(folds.adjustedMse));
}

TEST(Judge, AStopKeepsTheFoldsDone) {
    const StudyRows rows = invented(300, 7);
    Recipe recipe = judged("y", {"x", "z", "g"}, {.folds = 10});
    recipe.estimator.kind = "neighbours";
    const auto prepared = prepareRows(recipe, rows, {1}, quietly());
    StopsAfter progress(4);
    const FoldEvidence some = judgeByFolds(recipe, *prepared, "", {.threads = {1}}, progress);
    EXPECT_EQ(some.asked, 10U);
    EXPECT_EQ(some.done, 4U);
    EXPECT_TRUE(some.partial());
    EXPECT_EQ(some.rows, 120U);
    const FoldEvidence all = foldsOf(recipe, rows, 1);
    for (std::size_t f = 0; f < 4; ++f)
        EXPECT_EQ(some.each[f].mse, all.each[f].mse);
    Evidence evidence =
        evaluate(recipe, rows, *prepared, {.folds = EvaluateOptions::Folds::never}, quietly());
    evidence.folds = std::make_shared<const FoldEvidence>(some);
    gatherFindings(evidence, {recipe, rows, *prepared});
    EXPECT_TRUE(std::any_of(evidence.goads.begin(), evidence.goads.end(),
                            [](const Goad& g) { return g.title == "4 of 10 folds were judged"; }));
    evidence.folds = std::make_shared<const FoldEvidence>(all);
    gatherFindings(evidence, {recipe, rows, *prepared});
    EXPECT_TRUE(std::none_of(evidence.goads.begin(), evidence.goads.end(),
                             [](const Goad& g) { return g.key == "folds were stopped"; }));
    StopsAfter atOnce(0);
    EXPECT_THROW(judgeByFolds(recipe, *prepared, "", {.threads = {1}}, atOnce), Stopped);
}

TEST(Judge, WhatIsFoundSoFarIsToldNowAndThen) {
    const StudyRows rows = invented(1500, 16);
    Recipe recipe = judged("y", {"x", "z"}, {.kind = FoldKind::leaveOneOut});
    const auto prepared = prepareRows(recipe, rows, {1}, quietly());
    std::size_t calls = 0, last = 0;
    const auto count = [&](const FoldEvidence& so) {
        ++calls;
        EXPECT_GT(so.done, last);
        EXPECT_EQ(so.asked, 1500U);
        EXPECT_TRUE(std::isfinite(so.rmse));
        last = so.done;
    };
    const FoldEvidence quick =
        judgeByFolds(recipe, *prepared, "", {.threads = {1}, .soFar = count}, quietly());
    EXPECT_LT(calls, 50U); // not a thousand times over a thousand rows
    calls = last = 0;
    const FoldEvidence refitted =
        judgeByFolds(recipe, *prepared, "", {.threads = {1}, .refit = true, .soFar = count}, quietly());
    EXPECT_GT(calls, 0U); // fifteen hundred fits take a while
    EXPECT_GE(digits(quick.mse, refitted.mse), 11);
}

TEST(Judge, TheSameForAnyNumberOfThreadsAndOnEveryRun) {
    const StudyRows rows = invented(20000, 8);
    for (const FoldKind kind : {FoldKind::kFolds, FoldKind::leaveOneOut, FoldKind::bootstrap})
        for (const bool logs : {false, true}) {
            if (logs && kind == FoldKind::leaveOneOut) continue; // rows times rows
            Recipe recipe = judged("y", {"x", "z", "g"}, {.kind = kind, .repeats = 2, .draws = 5});
            recipe.logResponse = logs;
            const FoldEvidence one = foldsOf(recipe, rows, 1);
            for (const unsigned threads : {2U, 5U}) {
                const FoldEvidence many = foldsOf(recipe, rows, threads);
                EXPECT_EQ(foldsJson(one, recipe).dump(), foldsJson(many, recipe).dump());
                for (std::size_t i = 0; i < one.outOfFold.size(); ++i)
                    ASSERT_EQ(std::bit_cast<std::uint64_t>(one.outOfFold[i]),
                              std::bit_cast<std::uint64_t>(many.outOfFold[i]));
            }
        }
}

TEST(Judge, RepeatsShowWhatTurnsWithTheSeed) {
    const StudyRows rows = invented(100, 9);
    const FoldEvidence folds = foldsOf(judged("y", {"x", "z"}, {.folds = 5, .repeats = 4, .seed = 11}), rows);
    ASSERT_EQ(folds.repeats.size(), 4U);
    EXPECT_EQ(folds.each.size(), 20U);
    EXPECT_EQ(folds.rows, 100U);
    double mean = 0, squares = 0, pooled = 0, within = 0;
    for (std::size_t r = 0; r < 4; ++r) {
        const FoldEvidence once = foldsOf(judged("y", {"x", "z"}, {.folds = 5, .seed = 11 + r}), rows);
        EXPECT_EQ(folds.repeats[r].seed, 11 + r);
        EXPECT_GE(digits(folds.repeats[r].mse, once.mse), 14);
        EXPECT_GE(digits(folds.repeats[r].standardError, once.standardError), 12);
        mean += once.rmse / 4;
        pooled += once.mse / 4;
        within += once.standardError * once.standardError / 4;
    }
    for (const RepeatScore& r : folds.repeats)
        squares += (r.rmse - mean) * (r.rmse - mean);
    EXPECT_GE(digits(folds.spreadOverRepeats, std::sqrt(squares / 3)), 9);
    EXPECT_GE(digits(folds.mse, pooled), 13);
    EXPECT_GE(digits(folds.standardError, std::sqrt(within)), 12);
}

TEST(Judge, HeldOutRowsStayApartAndTheDifferenceIsAReading) {
    const StudyRows rows = invented(200, 10);
    Recipe recipe = judged("y", {"x", "z"}, {.folds = 5});
    recipe.setAside = SetAside{.share = 0.2, .testShare = 0.1, .seed = 3};
    const Evidence evidence = evaluate(recipe, rows, {1}, quietly());
    ASSERT_TRUE(evidence.folds);
    EXPECT_EQ(evidence.folds->rows, evidence.rowsLearning);
    for (std::size_t i = 0; i < 200; ++i)
        EXPECT_EQ(std::isnan(evidence.folds->outOfFold[i]), evidence.rows.state[i] != RowState::learning);
    const auto reading =
        std::find_if(evidence.readings.begin(), evidence.readings.end(),
                     [](const Reading& r) { return r.name == "held-out error less error over folds"; });
    ASSERT_NE(reading, evidence.readings.end());
    EXPECT_DOUBLE_EQ(reading->value, evidence.heldOut.rmse - evidence.folds->rmse);
    EXPECT_NEAR(reading->threshold,
                1.959963984540054 * std::hypot(evidence.heldOut.rmseError, evidence.folds->rmseError), 1e-12);
    // The folds are those of the learning rows alone: another response of a held-out row changes nothing.
    std::vector<double> y(rows.learning.table.find("y")->numbers().begin(),
                          rows.learning.table.find("y")->numbers().end());
    for (std::size_t i = 0; i < 200; ++i)
        if (evidence.rows.state[i] != RowState::learning) y[i] = 1e6;
    StudyRows changed = rows;
    changed.learning.table = rows.learning.table.withColumn(Column::ofNumbers("y", y));
    EXPECT_EQ(evaluate(recipe, changed, {1}, quietly()).folds->mse, evidence.folds->mse);
    recipe.setAside.reset();
    const Evidence alone = evaluate(recipe, rows, {1}, quietly());
    EXPECT_TRUE(std::isnan(std::find_if(alone.readings.begin(), alone.readings.end(), [](const Reading& r) {
                               return r.name == "held-out error less error over folds";
                           })->value));
}

TEST(Judge, FoldsAreTakenOverWhereNothingElseCanComeOut) {
    const StudyRows rows = invented(100, 11);
    Recipe recipe = judged("y", {"x"}, {.folds = 4});
    const auto prepared = prepareRows(recipe, rows, {1}, quietly());
    const Evidence first = evaluate(recipe, rows, *prepared, {}, quietly());
    recipe.level = 0.8;
    const Evidence next =
        evaluate(recipe, rows, *prepared, {.study = first.study, .before = &first}, quietly());
    EXPECT_EQ(next.folds, first.folds);
    recipe.judge->seed = 2; // another dealing of the same model
    const Evidence dealt =
        evaluate(recipe, rows, *prepared, {.study = first.study, .before = &next}, quietly());
    EXPECT_EQ(dealt.study, first.study);
    EXPECT_NE(dealt.folds->mse, first.folds->mse);
    const Evidence later = evaluate(
        recipe, rows, *prepared, {.study = first.study, .folds = EvaluateOptions::Folds::never}, quietly());
    EXPECT_FALSE(later.folds);
    EXPECT_EQ(withFolds(later, recipe, rows, *prepared, {}, quietly()).folds->mse, dealt.folds->mse);
}

TEST(Judge, FoldsThatChooseTermsSayTheSameBesideEachOtherAndKeepWhatIsDone) {
    const StudyRows rows = invented(300, 6);
    Recipe recipe = judged("y", {"x", "z", "g", "site", "w"}, {.folds = 9, .seed = 3});
    recipe.choose = ChoosePlan{.criterion = ChooseCriterion::aicc};
    const FoldEvidence one = foldsOf(recipe, rows, 1), three = foldsOf(recipe, rows, 3);
    ASSERT_EQ(one.each.size(), 9U);
    EXPECT_EQ(one.mse, three.mse);
    EXPECT_EQ(one.outOfFold, three.outOfFold);
    for (std::size_t f = 0; f < 9; ++f) {
        EXPECT_EQ(one.each[f].mse, three.each[f].mse);
    }
    // Told to stop among the second three: the first three are there.
    const auto prepared = prepareRows(recipe, rows, {3}, quietly());
    StopsAfter progress(1);
    const FoldEvidence some = judgeByFolds(recipe, *prepared, "rows.csv", {.threads = {3}}, progress);
    ASSERT_EQ(some.each.size(), 3U);
    EXPECT_EQ(some.asked, 9U);
    for (std::size_t f = 0; f < 3; ++f)
        EXPECT_EQ(some.each[f].mse, one.each[f].mse);
    // An error says its fold, the same one for any number of threads.
    Recipe refused = recipe;
    refused.intercept = false;
    refused.choose = ChoosePlan{.criterion = ChooseCriterion::pValue, .enter = 1e-300, .leave = 1e-299};
    const std::string said = errorOf([&] { foldsOf(refused, rows, 3); });
    EXPECT_NE(said, "");
    EXPECT_EQ(said, errorOf([&] { foldsOf(refused, rows, 1); }));
}

TEST(Judge, TermsThatAreChosenAreLearned) {
    const StudyRows rows = diabetes();
    Recipe recipe = judged("y", ten, {.kind = FoldKind::column, .column = "place5"});
    recipe.choose = ChoosePlan{.criterion = ChooseCriterion::bic};
    const Evidence evidence = evaluate(recipe, rows, {2}, quietly());
    ASSERT_TRUE(evidence.linear);
    Recipe plain = recipeOf("y", {});
    std::vector<std::string> in, out;
    for (const TermEvidence& term : evidence.linear->terms)
        (term.chosen ? in : out).push_back(term.name);
    EXPECT_EQ(evidence.linear->terms.size(), 10U);
    EXPECT_FALSE(out.empty());
    for (const std::string& name : in)
        plain.terms.push_back(plainTerm(name));
    const Evidence fixed = evaluate(plain, rows, {2}, quietly());
    ASSERT_EQ(evidence.linear->coefficients.size(), fixed.linear->coefficients.size());
    for (std::size_t c = 0; c < fixed.linear->coefficients.size(); ++c) {
        EXPECT_EQ(evidence.linear->coefficients[c].name, fixed.linear->coefficients[c].name);
        EXPECT_EQ(evidence.linear->coefficients[c].estimate, fixed.linear->coefficients[c].estimate);
        EXPECT_EQ(evidence.linear->coefficients[c].standardError,
                  fixed.linear->coefficients[c].standardError);
    }
    EXPECT_EQ(evidence.linear->bic, fixed.linear->bic);
    for (std::size_t t = 0, k = 0; t < 10; ++t) {
        const TermEvidence& term = evidence.linear->terms[t];
        if (!term.chosen) {
            EXPECT_TRUE(std::isnan(term.p));
            EXPECT_EQ(term.entersAs, "not chosen");
            continue;
        }
        EXPECT_EQ(term.p, fixed.linear->terms[k].p);
        EXPECT_EQ(term.inflation, fixed.linear->terms[k].inflation);
        ++k;
    }
    // Each fold chose anew; the shares are theirs.
    std::set<std::string> sets;
    for (const FoldScore& fold : evidence.folds->each) {
        std::string together;
        for (const std::string& name : fold.chosen)
            together += name + " ";
        sets.insert(together);
    }
    EXPECT_GT(sets.size(), 1U);
    for (const auto& [name, share] : evidence.folds->chosenShares) {
        const auto times =
            std::count_if(evidence.folds->each.begin(), evidence.folds->each.end(), [&](const auto& f) {
                return std::find(f.chosen.begin(), f.chosen.end(), name) != f.chosen.end();
            });
        EXPECT_DOUBLE_EQ(share, static_cast<double>(times) / 5);
    }
    // As text it is the same model, and rows to be forecast need what is in it only.
    const auto again = readStudy(studyText(*evidence.study));
    EXPECT_EQ(again->notSelected, evidence.study->notSelected);
    EXPECT_EQ(studyText(*again), studyText(*evidence.study));
    for (const Input& input : again->inputs)
        EXPECT_NE(std::find(in.begin(), in.end(), input.name), in.end());
    // A choice that is honest is worse than one that saw its rows.
    Recipe seen = plain;
    seen.judge = recipe.judge;
    EXPECT_GT(evidence.folds->mse, evaluate(seen, rows, {2}, quietly()).folds->mse);
}

TEST(Judge, AChoiceThatLeavesNothingIsTheConstantOrAnError) {
    RandomStream random(3, "nothing");
    std::string text = "y,a,b\n";
    for (int i = 0; i < 40; ++i)
        text += exactText(5 + random.normal()) + "," + exactText(random.normal()) + "," +
                exactText(random.normal()) + "\n";
    Recipe recipe = judged("y", {"a", "b"}, {.folds = 4});
    recipe.choose = ChoosePlan{.criterion = ChooseCriterion::pValue, .enter = 1e-9, .leave = 1e-8};
    const Evidence evidence = evaluate(recipe, rowsOf(text), {1}, quietly());
    EXPECT_EQ(evidence.linear->coefficients.size(), 1U);
    EXPECT_LT(evidence.folds->rSquared, 0.1);
    recipe.intercept = false;
    EXPECT_NE(errorOf([&] { evaluate(recipe, rowsOf(text), {1}, quietly()); }).find("no term was chosen"),
              std::string::npos);
}

// The usual interval, pooled error ± 1.96 standard errors, of the error that models of so many rows have: it
// covers less than it says, since the folds' models share rows and the squared errors are skewed (Bengio and
// Grandvalet 2004). The figure stands in docs/methods.md.
TEST(Judge, TheIntervalOfThePooledErrorCoversAsTheDocumentsSay) {
    const int sets = 400;
    int covered = 0;
    std::vector<std::pair<double, double>> found;
    double expected = 0;
    for (int set = 0; set < sets; ++set) {
        RandomStream random(static_cast<std::uint64_t>(set), "coverage");
        std::string text = "y,a,b,c\n";
        for (int i = 0; i < 60; ++i) {
            const double a = random.normal(), b = random.normal(), c = random.normal();
            text += exactText(a + b + random.normal()) + "," + exactText(a) + "," + exactText(b) + "," +
                    exactText(c) + "\n";
        }
        const FoldEvidence folds = foldsOf(judged("y", {"a", "b", "c"}, {.folds = 10}), rowsOf(text), 1);
        found.emplace_back(folds.meanOfFoldMse, folds.standardError);
        expected += folds.mse / sets;
    }
    for (const auto& [mse, error] : found)
        covered += std::fabs(mse - expected) <= 1.959964 * error;
    const double share = static_cast<double>(covered) / sets;
    RecordProperty("coverage", std::to_string(share));
    std::printf("coverage of 95 %% intervals: %.3f\n", share);
    EXPECT_GT(share, 0.80);
    EXPECT_LT(share, 0.96);
}

TEST(Judge, TheErrorWithoutATermIsThatOfFoldsWithoutIt) {
    const StudyRows rows = invented(130, 12);
    for (const FoldKind kind : {FoldKind::kFolds, FoldKind::leaveOneOut, FoldKind::groups})
        for (const bool logs : {false, true}) {
            Recipe recipe =
                judged("y", {"x", "z", "g"}, {.kind = kind, .folds = 5, .repeats = 2, .column = "site"});
            recipe.logResponse = logs;
            recipe.roles["off"] = Role::offset;
            if (logs) recipe.roles["w"] = Role::weight;
            const FoldEvidence folds = foldsOf(recipe, rows);
            if (logs && kind == FoldKind::leaveOneOut) {
                EXPECT_TRUE(folds.errorWithout.empty());
                continue;
            }
            ASSERT_EQ(folds.errorWithout.size(), 3U);
            recipe.judge->repeats = 1;
            const double whole = foldsOf(recipe, rows).rmse;
            for (std::size_t t = 0; t < 3; ++t) {
                Recipe less = recipe;
                less.terms.erase(less.terms.begin() + static_cast<std::ptrdiff_t>(t));
                EXPECT_NEAR(folds.errorWithout[t], foldsOf(less, rows).rmse / whole - 1, 1e-9)
                    << t << " " << foldKindName(kind);
            }
        }
    // A term that another says already costs nothing to leave out.
    Recipe twice = judged("y", {"x", "x2"}, {.folds = 5});
    StudyRows doubled = rows;
    std::vector<double> x2(rows.learning.table.find("x")->numbers().begin(),
                           rows.learning.table.find("x")->numbers().end());
    for (double& value : x2)
        value *= 2;
    doubled.learning.table = rows.learning.table.withColumn(Column::ofNumbers("x2", x2));
    EXPECT_NEAR(foldsOf(twice, doubled).errorWithout.at(1), 0, 1e-12);
    twice.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    EXPECT_NEAR(foldsOf(twice, doubled).errorWithout.at(1), 0, 1e-12);
}

TEST(Judge, TwoFitsAreComparedOverTheFoldsTheyShare) {
    const StudyRows rows = invented(150, 13);
    Recipe small = judged("y", {"x"}, {.folds = 5}), large = judged("y", {"x", "z", "g"}, {.folds = 5});
    const Evidence a = evaluate(small, rows, {1}, quietly()), b = evaluate(large, rows, {1}, quietly());
    const FoldComparison both = compareFolds(a, b);
    EXPECT_EQ(both.rows, 150U);
    EXPECT_EQ(both.folds, 5U);
    EXPECT_GE(digits(both.first, a.folds->rmse), 12);
    EXPECT_GE(digits(both.second, b.folds->rmse), 12);
    std::size_t better = 0;
    for (std::size_t f = 0; f < 5; ++f)
        better += b.folds->each[f].mse < a.folds->each[f].mse;
    EXPECT_EQ(both.betterFolds, better);
    const std::string said = comparisonSentence({a, small, "fit 1"}, {b, large, "fit 2"});
    EXPECT_NE(said.find("Over the same 5 folds fit 2 is off by"), std::string::npos) << said;
    EXPECT_NE(said.find("less in " + std::to_string(better) + " of 5"), std::string::npos) << said;
    large.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    const Evidence c = evaluate(large, rows, {1}, quietly());
    EXPECT_EQ(compareFolds(a, c).folds, 0U);
    EXPECT_EQ(compareFolds(a, c).rows, 150U);
    EXPECT_NE(
        comparisonSentence({a, small, "fit 1"}, {c, large, "fit 2"}).find("leaving out one row at a time"),
        std::string::npos);
    large.judge.reset();
    const Evidence none = evaluate(large, rows, {1}, quietly());
    EXPECT_EQ(compareFolds(a, none).rows, 0U);
    EXPECT_NE(comparisonSentence({a, small, "fit 1"}, {none, large, "fit 2"}).find("judged by 5 folds"),
              std::string::npos);
}

// What would help is judged as the recipe is, and as refits of every fold say.
TEST(Judge, WhatWouldHelpIsJudgedByTheRecipesFolds) {
    const StudyRows rows = invented(160, 14);
    const std::vector<FoldPlan> plans{
        {.folds = 5},
        {.kind = FoldKind::groups, .folds = 4, .column = "site"},
        {.kind = FoldKind::rollingOrigin, .folds = 3, .column = "month", .horizon = 3}};
    for (const FoldPlan& plan : plans)
        for (const bool weighted : {false, true}) {
            Recipe recipe = judged("y", {"x"}, plan);
            if (weighted) recipe.roles["w"] = Role::weight;
            const auto prepared = prepareRows(recipe, rows, {2}, quietly());
            const WhatHelps helps = whatHelps(recipe, *prepared, {2}, quietly());
            EXPECT_TRUE(helps.byFolds);
            EXPECT_EQ(helps.judgedBy, foldPlanText(plan));
            int compared = 0;
            for (std::size_t h = 0; h < std::min<std::size_t>(helps.helps.size(), 24); ++h) {
                const Help& help = helps.helps[h];
                if (help.rows != 160 || std::isnan(help.errorWith)) continue; // judged on fewer rows
                Recipe before = recipe;
                before.terms.insert(before.terms.end(), help.parents.begin(), help.parents.end());
                EXPECT_NEAR(help.errorBefore / foldsOf(before, rows).rmse, 1, 1e-8) << termName(help.term);
                EXPECT_NEAR(help.errorWith / foldsOf(withHelp(recipe, help), rows).rmse, 1, 1e-8)
                    << termName(help.term);
                ++compared;
            }
            EXPECT_GE(compared, 5);
            EXPECT_NE(helpsJson(helps, recipe).find("error_over_folds_with"), std::string::npos);
        }
    Recipe plain = judged("y", {"x"}, {.kind = FoldKind::leaveOneOut});
    const auto prepared = prepareRows(plain, rows, {2}, quietly());
    EXPECT_FALSE(whatHelps(plain, *prepared, {2}, quietly()).byFolds);
}

TEST(Judge, StepsThatLearnGiveWhatRefitsGive) {
    StudyRows rows = invented(260, 15);
    std::vector<double> z(rows.learning.table.find("z")->numbers().begin(),
                          rows.learning.table.find("z")->numbers().end());
    for (std::size_t i = 0; i < z.size(); i += 9)
        z[i] = i % 2 == 0 ? std::nan("") : 30 * z[i];
    rows.learning.table = rows.learning.table.withColumn(Column::ofNumbers("z", z));
    const std::vector<std::string> numbers{"z", "apart"};
    const std::vector<std::pair<std::string, std::vector<Step>>> steps{
        {"filled",
         {{.kind = "fill missing", .fields = {{"columns", numbers}, {"with", std::string("mean")}}}}},
        {"fences and z",
         {{.kind = "fill missing", .fields = {{"columns", numbers}}},
          {.kind = "leave out beyond fences", .fields = {{"columns", numbers}, {"width", 1.5}}},
          {.kind = "leave out beyond z",
           .fields = {{"columns", std::vector<std::string>{"x"}}, {"limit", 2.0}}}}},
        {"standardised",
         {{.kind = "fill missing", .fields = {{"columns", numbers}}},
          {.kind = "standardise", .fields = {{"columns", std::vector<std::string>{"x", "z"}}}}}},
        {"lumped",
         {{.kind = "fill missing", .fields = {{"columns", numbers}}},
          {.kind = "lump rare levels",
           .fields = {{"columns", std::vector<std::string>{"g"}}, {"rows", 28.0}}}}}};
    for (const auto& [name, of] : steps)
        for (const FoldPlan& plan :
             {FoldPlan{.folds = 6}, FoldPlan{.kind = FoldKind::groups, .folds = 4, .column = "site"},
              FoldPlan{.kind = FoldKind::rollingOrigin, .folds = 3, .column = "month", .horizon = 2}})
            for (const bool logs : {false, true}) {
                Recipe recipe = judged("y", {"x", "z", "g", "apart"}, plan);
                recipe.steps = of;
                recipe.logResponse = logs;
                if (logs) recipe.roles["w"] = Role::weight;
                const auto prepared = prepareRows(recipe, rows, {1}, quietly());
                for (const StepOutcome& step : prepared->steps)
                    ASSERT_TRUE(step.done) << name << ": " << step.problem;
                const FoldEvidence quick = foldsOf(recipe, rows, 2),
                                   refitted = foldsOf(recipe, rows, 1, true);
                expectSame(quick, refitted, 9, name + ", " + foldPlanText(plan));
                EXPECT_EQ(quick.unpredicted, refitted.unpredicted);
                EXPECT_EQ(quick.unseenRows, refitted.unseenRows);
            }
}

/// A problem with what goes wrong at edges: rare levels, weights of 0, columns that others say, missing
/// cells, a level with one row, logarithms, products, no constant, steps.
struct RandomJudging {
    StudyRows rows;
    Recipe recipe;
};

RandomJudging randomJudging(std::uint64_t seed) {
    RandomStream random(seed, "random judging");
    const auto n = 30 + random.below(90);
    const auto levels = 2 + random.below(5);
    std::string text = "y,x,z,twice,g,w,month,site\n";
    for (std::uint64_t i = 0; i < n; ++i) {
        const double x = random.normal(), z = 2 + random.uniform();
        const auto level = random.below(3) == 0 ? random.below(levels) : 0;
        const double y =
            std::exp(0.4 * x + 0.1 * z + 0.2 * static_cast<double>(level) + 0.3 * random.normal());
        text += exactText(y) + "," + (random.below(20) == 0 ? "" : exactText(x)) + "," + exactText(z) + "," +
                exactText(2 * z - 1) + ",g" + std::to_string(level) + "," +
                (random.below(12) == 0 ? "0" : exactText(0.5 + random.uniform())) + "," +
                std::to_string(i / 4) + ",s" + std::to_string(random.below(9)) + "\n";
    }
    RandomJudging made;
    made.rows = rowsOf(text);
    const std::vector<std::vector<std::string>> sets{{"x"}, {"x", "z"}, {"z", "twice", "x"},
                                                     {"g"}, {"x", "g"}, {"z", "g", "x"}};
    made.recipe = recipeOf("y", sets[random.below(sets.size())]);
    Recipe& recipe = made.recipe;
    if (random.below(3) == 0) recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    if (random.below(4) == 0) recipe.terms.push_back(Term{{TermPart{"z", 2}}});
    recipe.intercept = random.below(5) != 0;
    recipe.logResponse = random.below(3) == 0;
    if (random.below(3) == 0) recipe.roles["w"] = Role::weight;
    if (random.below(3) == 0) recipe.steps.push_back(learnsApart("x"));
    if (random.below(4) == 0)
        recipe.steps.push_back({.kind = "leave out beyond fences",
                                .fields = {{"columns", std::vector<std::string>{"x"}}, {"width", 1.0}}});
    switch (random.below(6)) {
    case 0:
        recipe.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
        break;
    case 1:
        recipe.judge = FoldPlan{.kind = FoldKind::groups, .folds = 3, .seed = seed, .column = "site"};
        break;
    case 2:
        recipe.judge = FoldPlan{.kind = FoldKind::rollingOrigin, .folds = 2, .column = "month", .horizon = 1};
        break;
    case 3:
        recipe.judge = FoldPlan{.kind = FoldKind::inProportion, .folds = 4, .seed = seed, .column = "g"};
        break;
    case 4:
        recipe.judge = FoldPlan{.kind = FoldKind::bootstrap, .seed = seed, .draws = 8};
        break;
    default:
        recipe.judge = FoldPlan{.folds = 5, .repeats = 2, .seed = seed};
    }
    return made;
}

TEST(Judge, RandomProblemsGiveWhatRefitsGive) {
    int judgedOnes = 0, refused = 0, unseen = 0;
    for (std::uint64_t seed = 1; seed <= 300; ++seed) {
        const RandomJudging problem = randomJudging(seed);
        FoldEvidence quick, refitted;
        const std::string first = errorOf([&] { quick = foldsOf(problem.recipe, problem.rows, 2); });
        const std::string second =
            errorOf([&] { refitted = foldsOf(problem.recipe, problem.rows, 1, true); });
        ASSERT_EQ(first, second) << seed;
        if (!first.empty()) {
            ++refused;
            continue;
        }
        expectSame(quick, refitted, 8,
                   "seed " + std::to_string(seed) + ", " + foldPlanText(*problem.recipe.judge));
        EXPECT_EQ(quick.unpredicted, refitted.unpredicted) << seed;
        EXPECT_EQ(quick.unseenRows, refitted.unseenRows) << seed;
        ++judgedOnes;
        unseen += quick.unseenRows > 0;
    }
    std::printf("[ judged   ] %d random problems, %d refused, %d with levels not learned\n", judgedOnes,
                refused, unseen);
    EXPECT_GT(judgedOnes, 200);
    EXPECT_GT(unseen, 20);
}

} // namespace judge_test
