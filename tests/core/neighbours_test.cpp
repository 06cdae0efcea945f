// Nearest neighbours: against published values, against a plain search, and at their edges.
#include "base/random.h"
#include "estimate/neighbours/neighbours.h"
#include "study/study.h"
#include "support/support.h"

#include <algorithm>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;

namespace neighbours_test {

Settings neighbours(double count, const std::string& weights = "equal",
                    const std::string& scale = "standardised") {
    return {"neighbours", {{"count", count}, {"weights", weights}, {"scale", scale}}};
}

Recipe recipeBy(const std::string& response, const std::vector<std::string>& columns,
                const Settings& settings) {
    Recipe recipe = recipeOf(response, columns);
    recipe.estimator = settings;
    return recipe;
}

StudyRows rowsOf(const std::string& text) {
    StudyRows rows;
    rows.learning = readBytes(text);
    return rows;
}

Evidence fitted(const Recipe& recipe, const std::string& text) {
    return evaluate(recipe, rowsOf(text), {}, quietly());
}

/// Every distance, sorted: what the tree must find.
std::vector<NearestTree::Neighbour> plainly(const MatrixXd& numbers, const MatrixXd& codes, double codePart,
                                            bool differences, const double* at, const double* codesAt,
                                            std::size_t count, std::int64_t without) {
    std::vector<NearestTree::Neighbour> all;
    for (Index i = 0; i < std::max(numbers.rows(), codes.rows()); ++i) {
        if (i == without) continue;
        double sum = 0;
        for (Index j = 0; j < numbers.cols(); ++j) {
            const double d = numbers(i, j) - at[j];
            sum += differences ? std::fabs(d) : d * d;
        }
        for (Index j = 0; j < codes.cols(); ++j)
            sum += codes(i, j) != codesAt[j] ? codePart : 0;
        all.push_back({sum, static_cast<std::uint32_t>(i)});
    }
    std::sort(all.begin(), all.end());
    all.resize(std::min(count, all.size()));
    return all;
}

/// Asks for a stop after some checks.
class StopsSoon final : public Progress {
public:
    explicit StopsSoon(int after) : m_left(after) {}
    bool stopRequested() const override { return m_left.fetch_sub(1) <= 0; }

private:
    mutable std::atomic<int> m_left;
};

TEST(Neighbours, AreThePublishedOnes) {
    // tests/reference/published/README.md: exact rational distances, compared there with a library.
    const auto reference = publishedJson("diabetes_knn");
    int compared = 0;
    for (const auto& result : reference["results"]) {
        Recipe recipe = recipeBy("y", {"age", "sex", "bmi", "bp", "s1", "s2", "s3", "s4", "s5", "s6"},
                                 neighbours(result["k"].get<double>(),
                                            result["weights"] == "uniform" ? "equal" : "by distance",
                                            result["scaling"] == "raw" ? "as is" : "standardised"));
        recipe.setAside = SetAside{.kind = SetAsideKind::firstRows, .share = 142.0 / 442};
        const StudyRows rows = publishedRows("diabetes");
        const Evidence e = evaluate(recipe, rows, *prepareRows(recipe, rows, {}, quietly()),
                                    {.checks = ChecksWanted::none}, quietly());
        ASSERT_EQ(e.rowsLearning, 300U);
        const std::string where = result["scaling"].get<std::string>() + " " + std::to_string(compared);
        EXPECT_GE(digits(e.heldOut.rmse * e.heldOut.rmse, result["test_mse"]), 11) << where;
        EXPECT_GE(digits(e.heldOut.rSquared, result["test_r2"]), 11) << where;
        for (std::size_t i = 0; i < 10; ++i)
            EXPECT_GE(digits(e.rows.fitted[300 + i], result["first_10_predictions"][i]), 11) << where;
        ++compared;
    }
    EXPECT_EQ(compared, 20);
}

TEST(Neighbours, TheTreeFindsWhatAPlainSearchFinds) {
    RandomStream random(11, "tree");
    for (int problem = 0; problem < 300; ++problem) {
        const auto n = static_cast<Index>(1 + random.below(400));
        const auto d = static_cast<Index>(random.below(5)), m = static_cast<Index>(random.below(3));
        MatrixXd numbers(n, d), codes(n, m);
        // Coarse values make ties and equal points.
        const bool coarse = random.below(2) == 0;
        for (double& value : numbers.reshaped())
            value = coarse ? static_cast<double>(random.below(4)) : random.normal();
        for (double& value : codes.reshaped())
            value = static_cast<double>(random.below(3));
        const bool differences = problem % 3 == 0;
        const NearestTree tree(numbers, codes, std::vector<double>(static_cast<std::size_t>(m), 0.49),
                               differences);
        std::vector<NearestTree::Neighbour> found;
        for (int query = 0; query < 10; ++query) {
            std::vector<double> at(static_cast<std::size_t>(d)), codesAt(static_cast<std::size_t>(m));
            for (double& value : at)
                value = coarse ? static_cast<double>(random.below(5)) : 1.5 * random.normal();
            for (double& value : codesAt)
                value = static_cast<double>(random.below(4));
            const std::size_t count = 1 + random.below(20);
            const std::int64_t without = query % 2 == 0 ? -1 : static_cast<std::int64_t>(random.below(n));
            tree.nearest(at.data(), codesAt.data(), count, found, without);
            const auto plain =
                plainly(numbers, codes, 0.49, differences, at.data(), codesAt.data(), count, without);
            ASSERT_EQ(found.size(), plain.size()) << problem;
            for (std::size_t i = 0; i < found.size(); ++i) {
                EXPECT_EQ(found[i].point, plain[i].point) << problem << " " << i;
                EXPECT_EQ(found[i].sum, plain[i].sum) << problem << " " << i;
            }
        }
    }
}

TEST(Neighbours, OfRowsAsNearAsEachOtherTheEarlierOnesCount) {
    // 0 lies as far from −1 as from 1: the one that stands earlier is taken.
    Recipe recipe = recipeBy("y", {"x"}, neighbours(1, "equal", "as is"));
    recipe.setAside = SetAside{.kind = SetAsideKind::column, .column = "part", .heldOutValues = {"judge"}};
    EXPECT_EQ(fitted(recipe, "x,part,y\n1,learn,10\n-1,learn,20\n3,learn,30\n0,judge,15\n").rows.fitted[3],
              10);
    EXPECT_EQ(fitted(recipe, "x,part,y\n-1,learn,20\n1,learn,10\n3,learn,30\n0,judge,15\n").rows.fitted[3],
              20);
    recipe.estimator = neighbours(2, "equal", "as is");
    EXPECT_EQ(fitted(recipe, "x,part,y\n-1,learn,20\n1,learn,10\n1,learn,40\n0,judge,15\n").rows.fitted[3],
              15);
}

TEST(Neighbours, WeightsOfDistanceAndOfRowsMultiply) {
    // At distances 1 and 3 with row weights 1 and 6: (1·10 + 6/3·40) / (1 + 6/3) = 30, worked out by hand.
    Recipe recipe = recipeBy("y", {"x"}, neighbours(2, "by distance", "as is"));
    recipe.roles["w"] = Role::weight;
    recipe.setAside = SetAside{.kind = SetAsideKind::column, .column = "part", .heldOutValues = {"judge"}};
    const std::string rows = "x,w,part,y\n1,1,learn,10\n-3,6,learn,40\n0,2,judge,30\n";
    EXPECT_DOUBLE_EQ(fitted(recipe, rows).rows.fitted[2], 30);
    // A row where it stands is all there is to say.
    EXPECT_DOUBLE_EQ(fitted(recipe, rows + "1,1,judge,0\n").rows.fitted[3], 10);
    // Rows of weight 0 teach nothing, even when they are the nearest.
    recipe.estimator = neighbours(1, "equal", "as is");
    const Evidence e = fitted(recipe, rows + "0.1,0,learn,99\n");
    EXPECT_DOUBLE_EQ(e.rows.fitted[2], 10);
    EXPECT_EQ(e.rowsWeightless, 1U);
    EXPECT_DOUBLE_EQ(e.rows.fitted[3], 10) << "but they are predicted";
}

TEST(Neighbours, ALevelThatDiffersIsAsFarAsTheSettingSays) {
    Recipe recipe = recipeBy("y", {"x", "g"}, neighbours(1, "equal", "as is"));
    recipe.setAside = SetAside{.kind = SetAsideKind::column, .column = "part", .heldOutValues = {"judge"}};
    const std::string rows =
        "x,g,part,y\n0,b,learn,1\n2,a,learn,2\n9,a,learn,3\n9,b,learn,4\n0,a,judge,0\n0,c,judge,0\n";
    // Row 1 differs by its level alone, row 2 by 2 units.
    recipe.estimator.fields["level_distance"] = 1.0;
    EXPECT_EQ(fitted(recipe, rows).rows.fitted[4], 1);
    recipe.estimator.fields["level_distance"] = 3.0;
    const Evidence far = fitted(recipe, rows);
    EXPECT_EQ(far.rows.fitted[4], 2);
    EXPECT_EQ(far.heldOutUnpredicted, 1U) << "c was never learned from";
}

TEST(Neighbours, CountColumnsByTheirRangesAndByWhatTheyAreSaidToCount) {
    // Gower's distance by its definition: rows of x over 0 to 10 and a factor.
    Recipe recipe = recipeBy("y", {"x", "g"}, neighbours(1, "equal", "Gower"));
    recipe.setAside = SetAside{.kind = SetAsideKind::column, .column = "part", .heldOutValues = {"judge"}};
    const std::string rows = "x,g,part,y\n0,a,learn,1\n10,a,learn,2\n4,b,learn,3\n3.5,a,judge,0\n";
    // (|3.5 − 0|/10 + 0)/2 = 0.175, (0.65 + 0)/2, (0.05 + 1)/2.
    Evidence e = fitted(recipe, rows);
    EXPECT_EQ(e.rows.fitted[3], 1);
    MatrixXd at(1, 2);
    at << 3.5, 0;
    EXPECT_NEAR(e.study->model->distances(at)[0], 0.175, 1e-15);
    // The factor counts a hundredth: (0.35)/1.01, (0.05 + 0.01)/1.01.
    recipe.estimator.fields["column_weights"] = TextPairs{{"g", "0.01"}};
    e = fitted(recipe, rows);
    EXPECT_EQ(e.rows.fitted[3], 3);
    EXPECT_NEAR(e.study->model->distances(at)[0], 0.06 / 1.01, 1e-15);
    const auto again = readModel(e.study->model->text());
    EXPECT_EQ(again->predict(at), e.study->model->predict(at));
    recipe.estimator = neighbours(1, "equal", "as is");
    recipe.estimator.fields["column_weights"] = TextPairs{{"x", "0"}};
    EXPECT_EQ(fitted(recipe, rows).rows.fitted[3], 1) << "x counts nothing: the first row of a";
    recipe.estimator.fields["column_weights"] = TextPairs{{"z", "2"}};
    EXPECT_NE(errorOf([&] { fitted(recipe, rows); }).find("do not read"), std::string::npos);
}

TEST(Neighbours, AConstantColumnAndStandardDeviationsWithDivisorN) {
    // x has the standard deviation 1 with divisor n (−1, 1), z is constant: distances are those of x.
    Recipe recipe = recipeBy("y", {"x", "z"}, neighbours(1));
    const Evidence e = fitted(recipe, "x,z,y\n-1,7,1\n1,7,2\n");
    EXPECT_EQ(e.rows.fitted[0], 1);
    EXPECT_NEAR(e.study->model->distanceScale().average, 2, 1e-15) << "each is 2 from the other";
}

TEST(Neighbours, WhatTheyCannotDoIsRefusedWithAReason) {
    const std::string rows = "x,g,y\n1,a,1\n2,b,2\n3,a,3\n";
    EXPECT_NE(errorOf([&] {
                  fitted(recipeBy("y", {"x"}, neighbours(4)), rows);
              }).find("3 learning rows are too few for 4 neighbours"),
              std::string::npos);
    Recipe bent = recipeBy("y", {"x"}, neighbours(1));
    bent.terms[0].parts[0].power = 2;
    EXPECT_NE(errorOf([&] { fitted(bent, rows); }).find("not the term x^2"), std::string::npos);
    Recipe product = recipeBy("y", {"x"}, neighbours(1));
    product.terms.push_back({{TermPart{"x"}, TermPart{"g"}}});
    EXPECT_NE(errorOf([&] { fitted(product, rows); }).find("not the term x × g"), std::string::npos);
    EXPECT_NE(errorOf([&] { fitted(recipeBy("y", {}, neighbours(1)), rows); }).find("Add a term"),
              std::string::npos);
    for (const auto* wrong :
         {R"({"kind": "neighbours", "count": 0})", R"({"kind": "neighbours", "count": 2.5})",
          R"({"kind": "neighbours", "weights": "gauss"})", R"({"kind": "neighbours", "k": 3})",
          R"({"kind": "neighbour"})", R"({"kind": "neighbours", "level_distance": -1})"}) {
        const std::string text =
            std::string(R"({"recipe": 1, "rows": {"file": "r.csv"}, "response": "y", "terms": ["x"],
            "estimator": )") +
            wrong + "}";
        EXPECT_NE(errorOf([&] { parseRecipe(text, "r.json"); }), "") << wrong;
    }
}

TEST(Neighbours, LogsOffsetsAndMissingValuesAreOutsideOfTheModel) {
    // Two rows each in pairs; of ln(y/size) the nearest has the same value, so y comes back exactly but for
    // smearing.
    std::string rows = "x,size,y\n";
    for (int i = 0; i < 20; ++i)
        rows += std::to_string(i / 2) + "," + std::to_string(i % 3) + "," + std::to_string(10 + i / 2) + "\n";
    rows += ",1,5\n";
    Recipe recipe = recipeBy("y", {"x"}, neighbours(2, "equal", "as is"));
    recipe.logResponse = true;
    recipe.roles["size"] = Role::offset;
    const Evidence e = fitted(recipe, rows);
    EXPECT_EQ(e.rowsMissing, 1U);
    EXPECT_TRUE(std::isnan(e.rows.fitted[20]));
    // By hand for rows 0 and 1: both of x = 0, y = 10, offsets 0 and 1: mean of ln 10 − 0 and ln 10 − 1.
    const double said = std::log(10.0) - 0.5;
    EXPECT_NEAR(e.rows.fitted[0], std::exp(said) * e.smearing, 1e-12);
    EXPECT_NEAR(e.rows.fitted[1], std::exp(said + 1) * e.smearing, 1e-12);
    EXPECT_GT(e.smearing, 1) << "of rows left out one at a time";
}

TEST(Neighbours, IntervalsCoverWhatTheySay) {
    RandomStream random(5, "neighbours");
    std::string rows = "x,z,y\n", coming = "x,z\n";
    std::vector<double> truth;
    const auto draw = [&](std::string& to, bool response) {
        const double x = random.uniform(), z = random.uniform();
        const double y = std::sin(6 * x) + z * z + 0.3 * random.normal();
        to += std::to_string(x) + "," + std::to_string(z) + (response ? "," + std::to_string(y) : "") + "\n";
        return y;
    };
    for (int i = 0; i < 1500; ++i)
        draw(rows, true);
    for (int i = 0; i < 2000; ++i)
        truth.push_back(draw(coming, false));
    StudyRows all = rowsOf(rows);
    all.forecast = readTextBytes(coming, "plan.csv", {}, {1}, quietly());
    Recipe recipe = recipeBy("y", {"x", "z"}, neighbours(10));
    recipe.forecast = ForecastRequest{};
    recipe.forecast->level = 0.8;
    const Evidence e = evaluate(recipe, all, {}, quietly());
    int covered = 0;
    for (std::size_t i = 0; i < truth.size(); ++i)
        covered += truth[i] >= e.forecast->lower[i] && truth[i] <= e.forecast->upper[i];
    EXPECT_NEAR(covered / 2000.0, 0.8, 0.03);
    EXPECT_EQ(e.forecast->intervals, "by rows left out one at a time");
    EXPECT_TRUE(std::isnan(e.forecast->meanLower[0])) << "theory says nothing of the mean";
    // Too few rows for the level: no interval, rather than one that is too narrow.
    StudyRows few = rowsOf("x,z,y\n1,1,1\n2,2,2\n3,1,3\n4,2,4\n");
    few.forecast = all.forecast;
    recipe.estimator = neighbours(1);
    recipe.forecast->level = 0.95;
    EXPECT_TRUE(std::isnan(evaluate(recipe, few, {}, quietly()).forecast->lower[0]));
}

TEST(Neighbours, ReachKnowsHowFarARowStandsFromItsNeighbours) {
    StudyRows rows = rowsOf([] {
        std::string text = "x,z,y\n";
        for (int i = 0; i < 200; ++i) // on a line: a point off it is far from all though within both ranges
            text +=
                std::to_string(i / 10.0) + "," + std::to_string(i / 10.0) + "," + std::to_string(i) + "\n";
        return text;
    }());
    rows.forecast = readTextBytes("x,z\n10.05,10.05\n2,18\n30,30\n,1\n", "plan.csv", {}, {1}, quietly());
    Recipe recipe = recipeBy("y", {"x", "z"}, neighbours(5));
    recipe.forecast = ForecastRequest{};
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(e.forecast->reach[0].grade, ReachGrade::inside);
    EXPECT_EQ(e.forecast->reach[1].grade, ReachGrade::outside);
    EXPECT_NE(e.forecast->reach[1].reasons.front().find("distance to the 5 nearest rows"), std::string::npos);
    EXPECT_EQ(e.forecast->reach[2].grade, ReachGrade::outside);
    EXPECT_NE(e.forecast->reach[2].reasons.front().find("above the highest seen"), std::string::npos);
    EXPECT_EQ(e.forecast->reach[3].reasons.front(), "x is missing");
    EXPECT_TRUE(std::isnan(e.forecast->prediction[3]));
}

TEST(Neighbours, AColumnThatSaysNothingHasNoImportance) {
    RandomStream random(3, "importance");
    std::string rows = "x,noise,y\n";
    for (int i = 0; i < 600; ++i) {
        const double x = 2 * random.uniform() - 1;
        rows += std::to_string(x) + "," + std::to_string(random.normal()) + "," +
                std::to_string(3 * x + 0.1 * random.normal()) + "\n";
    }
    Recipe recipe = recipeBy("y", {"x", "noise"}, neighbours(10));
    recipe.setAside = SetAside{.share = 0.3, .seed = 1};
    const Evidence e = fitted(recipe, rows);
    ASSERT_EQ(e.inputs.size(), 2U);
    EXPECT_GT(e.inputs[0].importance, 1);
    EXPECT_LT(std::fabs(e.inputs[1].importance), 0.5 * e.inputs[0].importance);
    EXPECT_FALSE(e.linear);
    EXPECT_TRUE(e.leftOneOut);
    EXPECT_NEAR(e.leftOneOut->rmse, e.heldOut.rmse, 0.25 * e.heldOut.rmse)
        << "rows left out one at a time are judged like others";
    for (const Reading& reading : e.readings)
        if (reading.name == "condition number") {
            EXPECT_TRUE(std::isnan(reading.value));
            EXPECT_EQ(reading.sentence, "does not apply: the model has no coefficients");
        }
}

TEST(Neighbours, AreTheSameForAnyNumberOfThreadsAndCanBeStopped) {
    RandomStream random(8, "threads");
    std::string text = "a,b,c,g,y\n";
    for (int i = 0; i < 3000; ++i)
        text += std::to_string(random.normal()) + "," + std::to_string(random.normal()) + "," +
                std::to_string(random.uniform()) + "," +
                std::string(1, static_cast<char>('p' + random.below(4))) + "," +
                std::to_string(random.normal()) + "\n";
    const StudyRows rows = rowsOf(text);
    Recipe recipe = recipeBy("y", {"a", "b", "c", "g"}, neighbours(7, "by distance"));
    recipe.setAside = SetAside{.share = 0.2, .seed = 2};
    const std::string one = evidenceText(evaluate(recipe, rows, {1}, quietly()), recipe);
    EXPECT_EQ(one, evidenceText(evaluate(recipe, rows, {4}, quietly()), recipe));
    for (const int after : {0, 3, 10, 40}) {
        StopsSoon soon(after);
        EXPECT_THROW(evaluate(recipe, rows, {2}, soon), Stopped) << after;
    }
}

} // namespace neighbours_test
