#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "prepare/arrange.h"
#include "prepare/expression.h"
#include "support/support.h"

using namespace oxgoad;
using namespace oxgoad::test;

namespace expression_test {

constexpr double none = std::numeric_limits<double>::quiet_NaN();

const std::vector<Column>& columns() {
    static const std::vector<Column> all{
        Column::ofNumbers("x", {1, 2, 3, none}), Column::ofNumbers("list rate", {10, 20, 30, 40}),
        Column::ofFactor("contract", {0, 1, -1, 0}, {"spot", "annual"}),
        Column::ofDates("month", {*daysFromCivil(2024, 2, 29), *daysFromCivil(2024, 3, 1),
                                  *daysFromCivil(1969, 12, 31), Column::missingDay})};
    return all;
}

std::vector<double> valuesOf(const std::string& text) {
    return Expression::parse(text, columns()).evaluate(columns());
}

/// Equal, or missing in the same places.
void expectValues(const std::string& text, std::vector<double> expected) {
    const auto values = valuesOf(text);
    ASSERT_EQ(values.size(), expected.size());
    for (std::size_t i = 0; i < values.size(); ++i) {
        if (std::isnan(expected[i]))
            EXPECT_TRUE(std::isnan(values[i])) << text << ", row " << i << ": " << values[i];
        else
            EXPECT_DOUBLE_EQ(values[i], expected[i]) << text << ", row " << i;
    }
}

void expectRefused(const std::string& text, std::size_t character, const std::string& words) {
    try {
        Expression::parse(text, columns());
        FAIL() << text << " was taken";
    } catch (const Error& error) {
        EXPECT_EQ(error.where().character, character) << text << ": " << error.what();
        EXPECT_NE(std::string(error.what()).find(words), std::string::npos) << text << ": " << error.what();
    }
}

TEST(Expression, FollowsTheOrderOfArithmetic) {
    expectValues("1 + 2 × x", {3, 5, 7, none});
    expectValues("-2^2", {-4, -4, -4, -4});
    expectValues("2^3^2", {512, 512, 512, 512});
    expectValues("x² − 1", {0, 3, 8, none});
    expectValues("{list rate} ÷ x", {10, 10, 10, none});
    expectValues("7 - 2 - 1", {4, 4, 4, 4});
    expectValues("min(x, 2) + max(x, 2)", {3, 4, 5, none});
    expectValues("0.1 + 0.2", {0.1 + 0.2, 0.1 + 0.2, 0.1 + 0.2, 0.1 + 0.2});
    expectValues("1e-3 * 1000", {1, 1, 1, 1});
}

TEST(Expression, MissingValuesFollowTheLogicOfThreeValues) {
    // Kleene 1952, "Introduction to metamathematics", §64.
    expectValues("x > 1", {0, 1, 1, none});
    expectValues("not(x > 1)", {1, 0, 0, none});
    expectValues("x > 1 or contract = \"spot\"", {1, 1, 1, 1});
    expectValues("x > 1 and contract = \"spot\"", {0, 0, none, none});
    expectValues("missing(x)", {0, 0, 0, 1});
    expectValues("if(missing(x), 0, x)", {1, 2, 3, 0});
    expectValues("ln(x - 1)", {none, 0, std::log(2.0), none});
    expectValues("1 / (x - 1)", {none, 1, 0.5, none});
}

TEST(Expression, FactorsAndDatesAreComparedWithQuotedTexts) {
    expectValues("contract = \"spot\"", {1, 0, none, 1});
    expectValues("contract ≠ \"spot\"", {0, 1, none, 0});
    expectValues("\"annual\" = contract", {0, 1, none, 0});
    expectValues("contract = \"never seen\"", {0, 0, none, 0});
    expectValues("month >= \"2024-03-01\"", {0, 1, 0, none});
    expectValues("\"2024-03-01\" > month", {1, 0, 1, none});
    expectValues("year(month)", {2024, 2024, 1969, none});
    expectValues("month(month) * 100 + day(month)", {229, 301, 1231, none});
    expectValues("year(month × 1e12)", {none, none, none, none}); // no day of any calendar
    expectValues("quarter(month)", {1, 1, 4, none});
    expectValues("weekday(month)", {4, 5, 3, none}); // 29 February 2024 was a Thursday: any calendar
}

TEST(Expression, WhatCannotBeMeantIsRefusedAtItsCharacter) {
    expectRefused("", 1, "empty");
    expectRefused("x +", 4, "missing at the end");
    expectRefused("x x", 3, "operator");
    expectRefused("1 < x < 3", 7, "and");
    expectRefused("x,5", 2, "point");
    expectRefused("x = 1,5", 6, "point");
    expectRefused("(x + 1", 1, "never closed");
    expectRefused("x + 1)", 6, "never opened");
    expectRefused("contract + 1", 1, "factor");
    expectRefused("x = \"spot\"", 1, "number");
    expectRefused("contract < \"spot\"", 1, "no order");
    expectRefused("month > \"yesterday\"", 9, "not a date");
    expectRefused("log(x)", 1, "no function");
    expectRefused("min(x)", 4, "takes");
    expectRefused("year(x)", 6, "not a date");
    expectRefused("äöü + y", 1, "no column");
    expectRefused("x + € 3", 5, "");
    expectRefused("xx + list rate", 1, "Did you mean \"x\"?");
    expectRefused("contract = \"spot", 12, "never closed");
    expectRefused("x := 3", 3, "");
    expectRefused("missing(x + 1)", 1, "one column");
    expectRefused("2x", 1, "not a number");
    expectRefused(std::string(300, '(') + "x" + std::string(300, ')'), 101, "too deep");
}

TEST(Expression, NothingTypedChangesAColumn) {
    // The library beneath knows assignment; a single equals sign must compare.
    const std::vector<double> before(columns()[0].numbers().begin(), columns()[0].numbers().begin() + 3);
    expectValues("x = 5", {0, 0, 0, none});
    for (std::size_t i = 0; i < before.size(); ++i)
        EXPECT_EQ(columns()[0].numbers()[i], before[i]);
}

TEST(Expression, AMillionRowsGiveWhatOneGives) {
    std::vector<double> x(1000003);
    for (std::size_t i = 0; i < x.size(); ++i)
        x[i] = static_cast<double>(i % 977) - 400;
    const std::vector<Column> many{Column::ofNumbers("x", x)};
    const auto values = Expression::parse("if(x > 0, ln(x), -x) * 2 + 1", many).evaluate(many);
    for (std::size_t i = 0; i < x.size(); i += 997)
        EXPECT_DOUBLE_EQ(values[i], (x[i] > 0 ? std::log(x[i]) : -x[i]) * 2 + 1);
}

TEST(ArrangedRows, AreChosenFoundAndSorted) {
    const Table table(columns());
    auto rows = [&](const RowArrangement& wanted) { return arrangeRows(table, wanted, {}, quietly()); };
    using Rows = std::vector<std::uint32_t>;
    EXPECT_EQ(rows({}), (Rows{0, 1, 2, 3}));
    EXPECT_EQ(rows({.condition = "x >= 2"}), (Rows{1, 2}));
    EXPECT_EQ(rows({.search = "SPO"}), (Rows{0, 3}));
    EXPECT_EQ(rows({.search = "20"}), (Rows{1}));
    EXPECT_EQ(rows({.search = "2024-03-01"}), (Rows{1}));
    EXPECT_EQ(rows({.sortBy = "x", .descending = true}), (Rows{2, 1, 0, 3})); // missing last either way
    EXPECT_EQ(rows({.sortBy = "contract"}), (Rows{0, 3, 1, 2}));
    EXPECT_THROW(rows({.condition = "y > 1"}), Error);
}

} // namespace expression_test
