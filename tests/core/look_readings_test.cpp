// What the views of a look read off the rows. Values in look.json: see look_test.cpp.
#include "look/inside.h"
#include "look/places.h"
#include "study/evaluate.h"
#include "study/look_readings.h"
#include "support/support.h"

#include "base/random.h"

#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace look_readings_test {

const nlohmann::json& shape() {
    static const nlohmann::json values = publishedJson("look")["shape"];
    return values;
}

const Table& diabetes() {
    static const Table table = publishedRows("diabetes").learning.table;
    return table;
}

LookScope scopeOf(const Table& table, const std::string& target) {
    LookScope scope;
    lookAtColumn(scope, table.at(target, {}));
    scope.used.assign(table.rows(), 1);
    scope.rows = table.rows();
    return scope;
}

TEST(Outline, HoldsWhatLiesWithinByTheEvenOddRule) {
    const std::vector<double> x{0, 4, 4, 0}, y{0, 0, 3, 3};
    const Outline box(x, y);
    EXPECT_TRUE(box.contains(1, 1));
    EXPECT_FALSE(box.contains(5, 1));
    EXPECT_FALSE(box.contains(1, -1));
    EXPECT_FALSE(box.contains(std::nan(""), 1));
    // A star drawn in one stroke: its middle lies within twice, that is outside.
    std::vector<double> sx, sy;
    for (int k = 0; k < 5; ++k) {
        sx.push_back(std::sin(4 * M_PI * k / 5));
        sy.push_back(std::cos(4 * M_PI * k / 5));
    }
    const Outline star(sx, sy);
    EXPECT_FALSE(star.contains(0, 0));
    EXPECT_TRUE(star.contains(0, 0.8));
    EXPECT_FALSE(star.contains(0, -0.8));
    EXPECT_FALSE(Outline(std::vector<double>{1, 2}, std::vector<double>{1, 2}).contains(1.5, 1.5));
}

TEST(Shape, BendAndSpreadAgreeWithAReferenceLibrary) {
    const LookPoints points = pointsOf(diabetes().at("bmi", {}), scopeOf(diabetes(), "y"));
    const auto bend = bendOf(points.x, points.y);
    ASSERT_TRUE(bend);
    EXPECT_NEAR(bend->p, shape()["square_p"].get<double>(), 1e-9);
    EXPECT_EQ(bend->logarithm,
              shape()["log_r_squared"].get<double>() > shape()["square_r_squared"].get<double>() - 0.005);
    EXPECT_GT(digits(bend->rSquared, shape()[bend->logarithm ? "log_r_squared" : "square_r_squared"]), 10);
    const auto line = groupLines(points.x, points.y, {}, 0).lines.front();
    const auto spread = spreadAlong(points.x, points.y, line);
    ASSERT_TRUE(spread);
    EXPECT_EQ(spread->grows, shape()["spread_grows"].get<bool>());
    EXPECT_GT(digits(spread->p, shape()["spread_p"]), 9);
    EXPECT_GT(digits(spread->ratio, shape()["spread_ratio"]), 10);
}

TEST(Shape, APowerOfTwoInTheUnitsChangesNothing) {
    const LookPoints points = pointsOf(diabetes().at("bmi", {}), scopeOf(diabetes(), "y"));
    const auto bend = bendOf(points.x, points.y);
    for (const double unit : {std::ldexp(1.0, 900), std::ldexp(1.0, -900)}) {
        std::vector<double> x = points.x, y = points.y;
        for (double& v : x)
            v *= unit;
        for (double& v : y)
            v /= unit;
        const auto scaled = bendOf(x, y);
        ASSERT_TRUE(scaled);
        EXPECT_EQ(scaled->rSquared, bend->rSquared);
        EXPECT_EQ(scaled->p, bend->p);
    }
    EXPECT_FALSE(bendOf(std::vector<double>{1, 2, 1, 2, 1, 2}, std::vector<double>{1, 2, 3, 4, 5, 7}));
    EXPECT_FALSE(bendOf(std::vector<double>{1, 2, 3, 4, 5}, std::vector<double>{7, 7, 7, 7, 7}));
    EXPECT_FALSE(bendOf(std::vector<double>{1, 2, 3}, std::vector<double>{7, 7, 8}));
}

TEST(Places, ClassesHoldAsManyPlacesEachAndEqualMeansStayTogether) {
    std::vector<Place> places;
    for (int k = 0; k < 11; ++k)
        places.push_back({0, 0, 1, k < 5 ? 7.0 : static_cast<double>(k), 0});
    places.push_back({0, 0, 1, std::nan(""), 0});
    const auto classes = placeClasses(places, 4);
    ASSERT_EQ(classes.size(), 3u); // five equal means fill two
    EXPECT_EQ(classes[0].low, 5);
    std::size_t count = 0;
    double before = -1;
    for (const PlaceClass& c : classes) {
        EXPECT_GT(c.low, before);
        EXPECT_LE(c.low, c.high);
        before = c.high;
        count += c.places.size();
    }
    EXPECT_EQ(count, 11u);
    EXPECT_TRUE(placeClasses({}, 5).empty());
}

TEST(Readings, LogarithmicScalesReadLogarithmsAndCountWhatHasNone) {
    const Table table(
        {Column::ofNumbers("x", {1, 2, 4, 8, 0, -1, 16}), Column::ofNumbers("y", {3, 6, 12, 24, 5, 5, 48})});
    const LookPoints points = pointsOf(table.at("x", {}), scopeOf(table, "y"), {true, true});
    EXPECT_EQ(points.notPositive, 2u);
    EXPECT_EQ(points.rows, (std::vector<std::uint32_t>{0, 1, 2, 3, 6}));
    Progress progress;
    AgainstQuestion question;
    question.scales = {true, true};
    const auto reading =
        readAgainst(table, table.at("x", {}), scopeOf(table, "y"), {}, question, {1}, progress);
    ASSERT_EQ(reading.lines.lines.size(), 1u);
    EXPECT_NEAR(reading.lines.lines[0].slope, 1, 1e-14); // y = 3x
    EXPECT_NEAR(reading.lines.lines[0].intercept, std::log(3), 1e-14);
}

TEST(Readings, ABendIsSaidOnlyWhereUnseenRowsBearItOut) {
    RandomStream random(3, "bends");
    std::vector<double> x, straight, bent, fan;
    for (int i = 0; i < 800; ++i) {
        x.push_back(10 * random.uniform());
        const double noise = random.normal();
        straight.push_back(2 * x.back() + noise);
        bent.push_back(8 * std::log(1 + x.back()) + noise);
        fan.push_back(2 * x.back() + noise * (0.2 + x.back()));
    }
    const Table table({Column::ofNumbers("x", x), Column::ofNumbers("straight", straight),
                       Column::ofNumbers("bent", bent), Column::ofNumbers("fan", fan)});
    Progress progress;
    const auto read = [&](const char* target) {
        return readAgainst(table, table.at("x", {}), scopeOf(table, target), {}, {}, {1}, progress);
    };
    EXPECT_FALSE(read("straight").bends);
    EXPECT_FALSE(read("straight").spread);
    EXPECT_TRUE(read("bent").bends);
    ASSERT_TRUE(read("fan").spread);
    EXPECT_TRUE(read("fan").spread->grows);
}

TEST(Readings, OnlySomeRowsAndGroupsWithCurvesOfTheirOwn) {
    std::vector<double> x, y;
    std::vector<std::int32_t> g;
    for (int i = 0; i < 60; ++i) {
        x.push_back(i % 30);
        g.push_back(i / 30);
        y.push_back(i < 30 ? x.back() * x.back() : 100 - x.back());
    }
    const Table table(
        {Column::ofNumbers("x", x), Column::ofFactor("g", g, {"a", "b"}), Column::ofNumbers("y", y)});
    LookScope scope = scopeOf(table, "y");
    Progress progress;
    AgainstQuestion question;
    question.group = "g";
    question.groupCurves = true;
    auto reading = readAgainst(table, table.at("x", {}), scope, {}, question, {1}, progress);
    ASSERT_EQ(reading.curves.size(), 2u);
    EXPECT_NEAR(reading.curves[0]->at(20), 400, 4);
    EXPECT_NEAR(reading.curves[1]->at(20), 80, 0.1);
    std::vector<std::uint8_t> only(60, 0);
    std::fill(only.begin() + 30, only.end(), 1);
    keepOnly(scope, only);
    EXPECT_EQ(scope.rows, 30u);
    reading = readAgainst(table, table.at("x", {}), scope, {}, question, {1}, progress);
    ASSERT_EQ(reading.lines.lines.size(), 1u);
    EXPECT_EQ(reading.lines.lines[0].level, 1);
}

TEST(Noted, GoadsOfTheAnalystsOwnAreKeptReadBackAndAccepted) {
    Recipe recipe = parseRecipe(R"({"recipe": 1, "rows": {"file": "r.csv"}, "response": "y", "terms": ["x"],
        "noted": [{"column": "x", "says": "it <b>bends</b>"}]})",
                                "r.json");
    ASSERT_EQ(recipe.noted.size(), 1u);
    EXPECT_EQ(parseRecipe(recipeText(recipe), "again"), recipe);
    Recipe without = recipe;
    without.noted.clear();
    EXPECT_TRUE(sameModel(recipe, without));
    auto goads = notedGoads(recipe);
    ASSERT_EQ(goads.size(), 1u);
    EXPECT_EQ(goads[0].reading, "it <b>bends</b>");
    EXPECT_FALSE(goads[0].accepted);
    recipe.accepted.push_back({goads[0].key, "known"});
    EXPECT_EQ(notedGoads(recipe)[0].accepted, "known");
    EXPECT_THROW(parseRecipe(R"({"recipe": 1, "noted": [{"column": "x"}]})", "r.json"), Error);
}

} // namespace look_readings_test
