// What the evidence says, number by number, on rows small enough to check by hand or by another route.
#include "share/exports.h"
#include "study/compare.h"
#include "support/support.h"

#include <Eigen/Dense>

#include <algorithm>

using namespace oxgoad;
using namespace oxgoad::test;

namespace evidence_test {

/// 40 rows of two numbers and a factor with some values missing.
StudyRows sample() {
    std::string text = "a,b,g,y\n";
    for (int i = 0; i < 40; ++i)
        text += (i == 5 ? "?" : std::to_string((i * 7) % 13)) + "," +
                (i == 9 ? "" : std::to_string((i * i) % 17)) + "," + "uvw"[i % 3] + "," +
                (i == 20 ? "NA" : std::to_string(3 + (i * 7) % 13 + 2 * ((i * i) % 17) + (i * 11) % 5)) +
                "\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    return rows;
}

/// The same fit in 80-bit arithmetic by the normal equations: another algorithm, another precision.
struct SecondRoute {
    using Matrix = Eigen::Matrix<long double, Eigen::Dynamic, Eigen::Dynamic>;
    using Vector = Eigen::Matrix<long double, Eigen::Dynamic, 1>;
    Matrix x;
    Vector y, b;
    Matrix inverse;
    long double variance = 0;
    SecondRoute(const StudyRows& rows, const Evidence& e) {
        const Table& t = rows.learning.table;
        std::vector<std::size_t> used;
        for (std::size_t i = 0; i < t.rows(); ++i)
            if (e.rows.state[i] == RowState::learning) used.push_back(i);
        x.resize(static_cast<Eigen::Index>(used.size()), 5);
        y.resize(x.rows());
        for (Eigen::Index k = 0; k < x.rows(); ++k) {
            const auto i = used[static_cast<std::size_t>(k)];
            const std::string g = t.columns()[2].cellText(i);
            x.row(k) << 1, t.columns()[0].numbers()[i], t.columns()[1].numbers()[i], g == "v" ? 1 : 0,
                g == "w" ? 1 : 0;
            y[k] = t.columns()[3].numbers()[i];
        }
        inverse = (x.transpose() * x).inverse();
        b = inverse * x.transpose() * y;
        variance = (y - x * b).squaredNorm() / static_cast<long double>(x.rows() - 5);
    }
};

TEST(EvidenceNumbers, AgreeWithASecondRoute) {
    const StudyRows rows = sample();
    const Evidence e = evaluate(recipeOf("y", {"a", "b", "g"}), rows, {}, quietly());
    const SecondRoute second(rows, e);
    ASSERT_EQ(e.linear->coefficients.size(), 5u);
    for (Eigen::Index j = 0; j < 5; ++j) {
        const auto& c = e.linear->coefficients[static_cast<std::size_t>(j)];
        EXPECT_GE(digits(c.estimate, static_cast<double>(second.b[j])), 12) << c.name;
        EXPECT_GE(
            digits(c.standardError, static_cast<double>(std::sqrt(second.variance * second.inverse(j, j)))),
            12)
            << c.name;
        EXPECT_NEAR(c.t, c.estimate / c.standardError, 1e-12 * std::fabs(c.t));
        EXPECT_NEAR(c.upper + c.lower, 2 * c.estimate, 1e-12 * std::fabs(c.upper));
    }
    const SecondRoute::Matrix hat = second.x * second.inverse * second.x.transpose();
    Eigen::Index k = 0;
    for (std::size_t i = 0; i < e.rows.state.size(); ++i) {
        if (e.rows.state[i] != RowState::learning) {
            EXPECT_TRUE(std::isnan(e.linear->rows.leverage[i]));
            continue;
        }
        EXPECT_GE(digits(e.linear->rows.leverage[i], static_cast<double>(hat(k, k))), 11);
        ++k;
    }
}

TEST(EvidenceNumbers, DeletedResidualsAreThoseOfTheFitWithoutTheRow) {
    // t_i is the row's residual from the fit that never saw it, over that prediction's standard deviation.
    const StudyRows rows = sample();
    Recipe recipe = recipeOf("y", {"a", "b", "g"});
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    for (const std::size_t i : {0u, 7u, 33u}) {
        recipe.leaveOut = {{i + 1, "to see"}};
        recipe.forecast = forecastOf("one.csv", 0.95);
        StudyRows without = rows;
        const Table& t = rows.learning.table;
        without.forecast =
            RowsRead{Table({Column::ofNumbers("a", {t.columns()[0].numbers()[i]}),
                            Column::ofNumbers("b", {t.columns()[1].numbers()[i]}),
                            Column::ofFactor("g", {t.columns()[2].codes()[i]}, t.columns()[2].levels())}),
                     {}};
        const Evidence deleted = evaluate(recipe, without, {}, quietly());
        const double half = deleted.forecast->upper[0] - deleted.forecast->prediction[0];
        const double t975 =
            (deleted.linear->coefficients[0].upper - deleted.linear->coefficients[0].estimate) /
            deleted.linear->coefficients[0].standardError;
        EXPECT_NEAR(e.linear->rows.studentized[i],
                    (t.columns()[3].numbers()[i] - deleted.forecast->prediction[0]) / (half / t975), 1e-9)
            << i;
    }
}

TEST(EvidenceNumbers, ErrorWithoutATermIsThatOfTheFitWithoutIt) {
    StudyRows rows = sample();
    Recipe recipe = recipeOf("y", {"a", "b", "g"});
    recipe.setAside = SetAside{.share = 0.4, .seed = 3};
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    for (std::size_t t = 0; t < 3; ++t) {
        Recipe fewer = recipe;
        fewer.terms.erase(fewer.terms.begin() + static_cast<std::ptrdiff_t>(t));
        // The same rows must judge: those whose value of the term's column is missing stay out.
        for (const std::size_t row : {6u, 10u})
            fewer.leaveOut.push_back({row, "missing in the other fit"});
        const Evidence without = evaluate(fewer, rows, {}, quietly());
        ASSERT_EQ(without.rowsHeldOut, e.rowsHeldOut);
        EXPECT_NEAR(e.linear->terms[t].errorWithout, without.heldOut.rmse / e.heldOut.rmse - 1, 1e-10)
            << e.linear->terms[t].name;
        const double f = (without.linear->residualSumOfSquares - e.linear->residualSumOfSquares) /
                         e.linear->terms[t].degreesOfFreedom /
                         (e.linear->residualSumOfSquares / e.linear->degreesOfFreedom);
        EXPECT_NEAR(e.linear->terms[t].f, f, 1e-9 * f);
    }
}

TEST(EvidenceNumbers, RowsAddUpAndMissingValuesAreCountedByColumn) {
    const StudyRows rows = sample();
    Recipe recipe = recipeOf("y", {"a", "b"});
    recipe.leaveOut = {{1, "r"}};
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(e.rowsLearning + e.rowsHeldOut + e.rowsLeftOut + e.rowsMissing, e.rowsRead);
    EXPECT_EQ(e.rowsMissing, 3u);
    EXPECT_EQ(e.missingByColumn,
              (std::vector<std::pair<std::string, std::size_t>>{{"y", 1}, {"a", 1}, {"b", 1}}));
    // A column that is not in use costs nothing.
    EXPECT_EQ(evaluate(recipeOf("y", {"a"}), rows, {}, quietly()).rowsMissing, 2u);
}

TEST(EvidenceNumbers, WithoutAConstantSquaresAreAboutZero) {
    // NIST NoInt1 has the certified values; here the definition: R² is 1 − RSS/Σy².
    StudyRows rows;
    rows.learning = readBytes("x,y\n1,2.1\n2,3.9\n3,6.2\n4,7.8\n");
    Recipe recipe = recipeOf("y", {"x"});
    recipe.intercept = false;
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(e.linear->coefficients.size(), 1u);
    EXPECT_NEAR(e.linear->coefficients[0].estimate, (2.1 + 7.8 + 18.6 + 31.2) / 30, 1e-14);
    EXPECT_NEAR(e.linear->totalSumOfSquares, 2.1 * 2.1 + 3.9 * 3.9 + 6.2 * 6.2 + 7.8 * 7.8, 1e-12);
    EXPECT_EQ(e.linear->degreesOfFreedom, 3);
}

TEST(EvidenceNumbers, TheMeanAloneIsAModel) {
    StudyRows rows;
    rows.learning = readBytes("y\n1\n2\n3\n6\n");
    const Evidence e = evaluate(recipeOf("y", {}), rows, {}, quietly());
    EXPECT_NEAR(e.linear->coefficients[0].estimate, 3, 1e-15);
    EXPECT_NEAR(e.linear->coefficients[0].standardError, std::sqrt(14.0 / 3 / 4), 1e-14);
    EXPECT_NEAR(e.linear->rSquared, 0, 1e-15);
}

TEST(EvidenceNumbers, HeldOutLevelsNeverLearnedAreCounted) {
    StudyRows rows;
    std::string text = "g,y\n";
    for (int i = 0; i < 30; ++i)
        text += std::string(i == 3 ? "rare" : i % 2 ? "a" : "b") + "," + std::to_string(i % 5) + "\n";
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"g"});
    for (std::uint64_t seed = 1; seed < 100; ++seed) {
        recipe.setAside = SetAside{.share = 0.3, .seed = seed};
        const Evidence e = evaluate(recipe, rows, {}, quietly());
        if (e.rows.state[3] != RowState::heldOut) continue;
        EXPECT_EQ(e.heldOutUnpredicted, 1u);
        EXPECT_EQ(e.rowsHeldOut, 8u);
        EXPECT_TRUE(std::isnan(e.rows.fitted[3]));
        return;
    }
    FAIL() << "no seed held the row out";
}

TEST(Compare, RowsOnlyOneFitHoldsOutDoNotCount) {
    // Leaving an awful held-out row out must not look like a better model.
    std::string text = "x,y\n";
    for (int i = 0; i < 60; ++i)
        text += std::to_string(i % 10) + "," + std::to_string(2 * (i % 10) + (i * 7) % 3) + "\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"x"});
    recipe.setAside = SetAside{.share = 0.3, .seed = 4};
    const Evidence plain = evaluate(recipe, rows, {}, quietly());
    std::size_t awful = 0;
    while (plain.rows.state[awful] != RowState::heldOut)
        ++awful;
    std::vector<double> y(rows.learning.table.columns()[1].numbers().begin(),
                          rows.learning.table.columns()[1].numbers().end());
    y[awful] = 10000;
    rows.learning.table = rows.learning.table.withColumn(Column::ofNumbers("y", y));
    const Evidence before = evaluate(recipe, rows, {}, quietly());
    recipe.leaveOut = {{awful + 1, "awful"}};
    const Evidence after = evaluate(recipe, rows, {}, quietly());
    EXPECT_GT(before.heldOut.rmse, 100 * after.heldOut.rmse) << "the scores as such look like a great gain";
    const Comparison both = compareHeldOut(before, after);
    EXPECT_EQ(both.first.rows, 17u);
    EXPECT_EQ(both.first.rmse, both.second.rmse) << "the fits are the same";
}

TEST(EvidenceFiles, TextHoldsTheSameNumbersExactly) {
    const StudyRows rows = sample();
    const Evidence e = evaluate(recipeOf("y", {"a", "b", "g"}), rows, {}, quietly());
    const Table coefficients = readBytes(coefficientsCsv(e)).table;
    const Table each = readBytes(rowsCsv(e)).table;
    for (std::size_t i = 0; i < e.linear->coefficients.size(); ++i)
        EXPECT_EQ(coefficients.at("estimate", "").numbers()[i], e.linear->coefficients[i].estimate);
    ASSERT_EQ(each.rows(), 40u);
    EXPECT_EQ(each.at("part", "").cellText(5), "missing values");
    for (std::size_t i = 0; i < 40; ++i)
        if (e.rows.state[i] == RowState::learning) {
            EXPECT_EQ(each.at("cooks_distance", "").numbers()[i], e.linear->rows.cook[i]);
        }
}

TEST(Checks, GroupedTermsShareTheirInflation) {
    // A product and its parents are collinear by construction; together they are judged against the rest.
    std::string text = "x,z,g,y\n";
    for (int i = 0; i < 80; ++i)
        text += std::to_string(100 + i % 10) + "," + std::to_string((i * 7) % 11) + "," +
                (i % 2 ? "a" : "b") + "," + std::to_string((i * 3) % 7) + "\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"x", "g", "z"});
    recipe.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(e.linear->terms[0].inflation, e.linear->terms[1].inflation);
    EXPECT_EQ(e.linear->terms[0].inflation, e.linear->terms[3].inflation);
    EXPECT_LT(e.linear->terms[0].inflation, 2);
    for (const Goad& g : e.goads)
        EXPECT_FALSE(g.key.starts_with("collinearity")) << g.key;
}

TEST(Checks, UnreadableCellsOfColumnsInUseAreAGoad) {
    std::string text = "x,other,y\n";
    for (int i = 0; i < 40; ++i)
        text += (i == 7 ? "n.v." : std::to_string(i)) + "," + (i == 8 ? "n.v." : "3") + "," +
                std::to_string((i * 3) % 7) + "\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    const Evidence e = evaluate(recipeOf("y", {"x"}), rows, {}, quietly());
    std::vector<std::string> keys;
    for (const Goad& g : e.goads)
        keys.push_back(g.key);
    EXPECT_NE(std::find(keys.begin(), keys.end(), "unreadable cells: x"), keys.end());
    EXPECT_EQ(std::find(keys.begin(), keys.end(), "unreadable cells: other"), keys.end());
}

TEST(Checks, EvenSpreadGivesNoGoadAndGrowingSpreadNamesItsColumn) {
    std::string even = "x,y\n", growing = even;
    std::uint64_t state = 99;
    auto noise = [&] {
        double sum = 0;
        for (int k = 0; k < 12; ++k) {
            state = state * 6364136223846793005ULL + 1442695040888963407ULL;
            sum += static_cast<double>(state >> 40) / (1 << 24);
        }
        return sum - 6;
    };
    for (int i = 0; i < 400; ++i) {
        const double x = 1 + i % 40, e = noise();
        even += std::to_string(x) + "," + std::to_string(x + e) + "\n";
        growing += std::to_string(x) + "," + std::to_string(x + e * x / 10) + "\n";
    }
    auto spread = [](const std::string& text) -> std::string {
        StudyRows rows;
        rows.learning = readBytes(text);
        for (const Goad& g : evaluate(recipeOf("y", {"x"}), rows, {}, quietly()).goads)
            if (g.key == "unequal spread") return g.title;
        return "";
    };
    EXPECT_EQ(spread(even), "");
    EXPECT_EQ(spread(growing), "The spread of residuals grows with x");
}

} // namespace evidence_test
