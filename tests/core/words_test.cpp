// Sentences, equations and reasons: what is common is said once, large numbers with their scale, dates and
// years as such, and no name is taken for something else.
#include "base/text.h"
#include "study/prepare_rows.h"
#include "study/say.h"
#include "support/support.h"
#include "table/values.h"

using namespace oxgoad;
using namespace oxgoad::test;

namespace words_test {

struct Fitted {
    Recipe recipe;
    StudyRows rows;
    Evidence evidence;
};

Fitted fittedTo(const std::string& text, const std::string& recipe, const std::string& forecast = {}) {
    Fitted f;
    f.recipe = parseRecipe(recipe, "r");
    f.rows.learning = readBytes(text);
    if (!forecast.empty()) {
        f.rows.forecast = readBytes(forecast);
        f.recipe.forecast.emplace();
        f.recipe.forecast->file = "forecast.csv";
    }
    f.evidence = evaluate(f.recipe, f.rows, {}, quietly());
    return f;
}

std::string recipeWith(const std::string& terms) {
    return R"({"recipe": 1, "rows": {"file": "rows.csv"}, "response": "y", "terms": )" + terms + "}";
}

std::size_t countOf(const std::string& text, const std::string& word) {
    std::size_t count = 0;
    for (auto at = text.find(word); at != std::string::npos; at = text.find(word, at + 1))
        ++count;
    return count;
}

/// 60 rows of a response of some size, with a factor of three levels and numbers.
std::string rowsOfSize(double size) {
    std::string text = "y,x,a,b,c,g\n";
    for (int i = 0; i < 60; ++i) {
        const int level = i % 3;
        text += exactText(size * (10 + (2 + level) * (i % 11) + 0.3 * (i % 7) + 0.01 * (i * i % 13))) + "," +
                std::to_string(i % 11) + "," + std::to_string(i % 7) + "," + std::to_string(i * i % 5) + "," +
                std::to_string(i * 3 % 8) + "," + "uvw"[level] + "\n";
    }
    return text;
}

TEST(Words, TheCommonPartOfEquationsIsSaidOnce) {
    const auto long4 =
        fittedTo(rowsOfSize(1), recipeWith(R"(["x", "g", {"product": ["x", "g"]}, "a", "b", "c"])"));
    const auto levels = equationsByLevel(long4.evidence, "g");
    ASSERT_EQ(levels.size(), 3u);
    for (const LevelEquation& level : levels) {
        EXPECT_EQ(countOf(level.equation, "·a"), 0u) << level.equation;
        EXPECT_EQ(countOf(level.equation, "+ common + ε"), 1u) << level.equation;
        EXPECT_EQ(countOf(level.equation, "·x"), 1u) << level.equation;
        EXPECT_EQ(level.common, levels[0].common);
    }
    for (const char* name : {"·a", "·b", "·c"})
        EXPECT_EQ(countOf(levels[0].common, name), 1u) << levels[0].common;
    // The parts add up to the prediction of a row: level u, x 4, a 3, b 2, c 1.
    double sum = 0;
    for (const auto& part : levels[0].parts)
        sum += part.estimate * (part.name == "x" ? 4 : 1);
    for (const auto& c : long4.evidence.linear->coefficients)
        sum += c.name == "a"   ? 3 * c.estimate
               : c.name == "b" ? 2 * c.estimate
               : c.name == "c" ? c.estimate
                               : 0;
    const auto coming =
        fittedTo(rowsOfSize(1), recipeWith(R"(["x", "g", {"product": ["x", "g"]}, "a", "b", "c"])"),
                 "x,a,b,c,g\n4,3,2,1,u\n");
    ASSERT_TRUE(coming.evidence.forecast);
    EXPECT_NEAR(coming.evidence.forecast->prediction[0] / sum, 1, 1e-9);
    // Short ones are written out.
    const auto brief = fittedTo(rowsOfSize(1), recipeWith(R"(["x", "g", {"product": ["x", "g"]}, "a"])"));
    for (const LevelEquation& level : equationsByLevel(brief.evidence, "g")) {
        EXPECT_EQ(countOf(level.equation, "·a"), 1u) << level.equation;
        EXPECT_TRUE(level.common.empty());
        EXPECT_TRUE(level.equation.ends_with(" + ε"));
        EXPECT_EQ(countOf(level.equation, "  "), 0u) << level.equation;
        EXPECT_EQ(countOf(level.equation, "+ −"), 0u) << level.equation;
    }
}

TEST(Words, NumbersAboveAMillionAreSaidWithTheirScale) {
    const auto big = fittedTo(rowsOfSize(1e8), recipeWith(R"(["x", "g"])"));
    for (std::size_t c = 0; c < big.evidence.linear->coefficients.size(); ++c)
        if (big.evidence.linear->coefficients[c].name == "x") {
            const std::string said = coefficientSentence(big.evidence, big.recipe, c);
            EXPECT_EQ(countOf(said, " million"), 2u) << said; // the estimate with its error, and the interval
            EXPECT_EQ(countOf(said, ",000"), 0u) << said;
        }
    const auto small = fittedTo(rowsOfSize(1000), recipeWith(R"(["x", "g"])"));
    for (std::size_t c = 0; c < small.evidence.linear->coefficients.size(); ++c)
        EXPECT_EQ(countOf(coefficientSentence(small.evidence, small.recipe, c), "illion"), 0u);
}

TEST(Words, ScalesGoFromAMillionToTrillions) {
    EXPECT_EQ(scaleWord(999999).second, "");
    EXPECT_EQ(scaleWord(1e6), (std::pair{1e6, std::string_view(" million")}));
    EXPECT_EQ(scaleWord(2.5e9).first, 1e9);
    EXPECT_EQ(scaleWord(1e12).second, " trillion");
    EXPECT_EQ(scaleWord(1e15).first, 1);
    EXPECT_EQ(scaleWord(std::nan("")).first, 1);
}

TEST(Words, ReachNamesDatesAsDatesAndYearsAsYears) {
    std::string text = "y,month,year,kg\n";
    for (int i = 0; i < 40; ++i)
        text += std::to_string(i % 9) + "." + std::to_string(i) + "," + dateText(19000 + 30 * i) + "," +
                std::to_string(1970 + i) + "," + std::to_string(1000 + 50 * (i % 17)) + "\n";
    const auto f = fittedTo(text, recipeWith(R"(["month", "year", "kg"])"),
                            "month,year,kg\n2031-05-01,2035,9000\n2022-06-01,1960,1200\n");
    ASSERT_TRUE(f.evidence.forecast);
    std::string reasons;
    for (const Reach& reach : f.evidence.forecast->reach)
        for (const auto& reason : reach.reasons)
            reasons += reason + "; ";
    EXPECT_NE(reasons.find("month 2031-05-01 is above the highest seen, 2025-"), std::string::npos)
        << reasons;
    EXPECT_NE(reasons.find("year 2035 is above the highest seen, 2009"), std::string::npos) << reasons;
    EXPECT_NE(reasons.find("year 1960 is below the lowest seen, 1970"), std::string::npos) << reasons;
    EXPECT_NE(reasons.find("kg 9,000 is above"), std::string::npos) << reasons;
}

TEST(Words, ANameWithAnEqualsSignIsNoLevel) {
    std::string text = "y,a = b,g\n";
    for (int i = 0; i < 30; ++i)
        text += std::to_string(2 * i + i % 3) + "," + std::to_string(i) + "," + (i % 2 ? "u" : "v") + "\n";
    const auto f = fittedTo(text, recipeWith(R"(["a = b", "g"])"));
    const std::string equation = equationText(f.evidence);
    EXPECT_NE(equation.find("·a = b"), std::string::npos) << equation;
    EXPECT_EQ(equation.find("[a = b]"), std::string::npos) << equation;
    EXPECT_NE(equation.find("[g = "), std::string::npos) << equation;
}

TEST(Words, CodesAndYearsAreToldByHowTheyAreWritten) {
    for (const char* code : {"00", "007", "00123", "12345678901234567", "9007199254740993", " 012 "})
        EXPECT_TRUE(writtenAsCode(code)) << code;
    for (const char* number : {"0", "7", "10", "0.5", "-01", "1e3", "9007199254740992", "", "0x1", "1,000"})
        EXPECT_FALSE(writtenAsCode(number)) << number;
    EXPECT_TRUE(areYears(1970, 2019));
    EXPECT_FALSE(areYears(0, 2019));
    EXPECT_FALSE(areYears(1970, 12000));
    EXPECT_EQ(parseDate("2019.05.27"), daysFromCivil(2019, 5, 27));
    EXPECT_FALSE(parseDate("2019.13.27"));
    EXPECT_FALSE(parseDate("2019.5"));
}

} // namespace words_test
