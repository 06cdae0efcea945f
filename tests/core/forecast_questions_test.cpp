// What is asked of rows to be forecast: totals, cross tables, scenarios, other intervals, reach that was
// tested.
#include "base/random.h"
#include "base/text.h"
#include "check/error_tests.h"
#include "estimate/distributions.h"
#include "share/exports.h"
#include "study/forecast_answers.h"
#include "support/support.h"

#include "table/values.h"

#include <algorithm>
#include <array>
#include <chrono>

using namespace oxgoad;
using namespace oxgoad::test;
using nlohmann::json;

namespace forecast_questions_test {

/// Months of depots: y = 100 + 3x + depot + what a month shares + noise.
struct Made {
    StudyRows rows;

    explicit Made(unsigned seed, double shared = 0, std::size_t months = 40, std::size_t depots = 6,
                  std::size_t coming = 3) {
        RandomStream random(seed, "months");
        std::vector<double> y, x, truth;
        std::vector<std::int32_t> day, depot, region;
        std::vector<std::string> names;
        for (std::size_t d = 0; d < depots; ++d)
            names.push_back("D" + std::to_string(d));
        const auto monthDay = [](std::size_t m) {
            using namespace std::chrono;
            return static_cast<std::int32_t>(
                sys_days{year{2020 + static_cast<int>(m / 12)} / month{static_cast<unsigned>(m % 12 + 1)} / 1}
                    .time_since_epoch()
                    .count());
        };
        for (std::size_t m = 0; m < months + coming; ++m) {
            const double ofMonth = shared * random.normal();
            for (std::size_t d = 0; d < depots; ++d) {
                x.push_back(20 + 5 * random.normal());
                day.push_back(monthDay(m));
                depot.push_back(static_cast<std::int32_t>(d));
                region.push_back(static_cast<std::int32_t>(d % 2));
                y.push_back(100 + 3 * x.back() + 4 * static_cast<double>(d) + ofMonth + 2 * random.normal());
            }
        }
        const std::size_t first = months * depots;
        const auto table = [&](std::size_t from, std::size_t to) {
            const auto part = [&](const auto& all) {
                return std::decay_t<decltype(all)>(all.begin() + static_cast<std::ptrdiff_t>(from),
                                                   all.begin() + static_cast<std::ptrdiff_t>(to));
            };
            return Table({Column::ofNumbers("y", part(y)), Column::ofNumbers("x", part(x)),
                          Column::ofDates("month", part(day)), Column::ofFactor("depot", part(depot), names),
                          Column::ofFactor("region", part(region), {"north", "south"})});
        };
        rows.learning.table = table(0, first);
        rows.forecast.emplace();
        rows.forecast->table = table(first, y.size());
    }
};

Recipe recipeFor(const Settings& settings = {}) {
    Recipe recipe = recipeOf("y", {"x", "depot"});
    recipe.estimator = settings;
    recipe.forecast = ForecastRequest{};
    return recipe;
}

const ForecastAnswers& answersOf(const Evidence& evidence) {
    return *evidence.answers;
}

TEST(Totals, AddUpAndCarryWhatCoefficientsHaveInCommon) {
    Recipe recipe = recipeFor();
    recipe.forecast->totals = {{},
                               {{{.column = "region"}, {.column = "month", .stretch = Stretch::quarter}}}};
    const Made made(1);
    const Evidence e = evaluate(recipe, made.rows, {}, quietly());
    const auto& totals = answersOf(e).totals;
    ASSERT_EQ(totals.size(), 2U);
    ASSERT_EQ(totals[0].lines.size(), 1U);
    double predicted = 0, actual = 0;
    for (std::size_t i = 0; i < e.forecast->prediction.size(); ++i) {
        predicted += e.forecast->prediction[i];
        actual += made.rows.forecast->table.at("y", "").numbers()[i];
    }
    const TotalLine& all = totals[0].lines[0];
    EXPECT_NEAR(all.predicted, predicted, 1e-9 * predicted);
    EXPECT_NEAR(all.actual, actual, 1e-9 * actual);
    EXPECT_EQ(all.rows, 18U);
    // σ²(m + s'(X'X)⁻¹s) (Draper and Smith 1998, §1.4, for several new observations), by the means of rows:
    // the half of a total of all forecast rows is that of a mean of m new rows, times m.
    const double sigma = e.linear->residualStandardDeviation,
                 t = studentQuantile(0.95, e.linear->degreesOfFreedom);
    EXPECT_GT(all.upper - all.predicted, t * sigma * std::sqrt(18.0));
    EXPECT_LT(all.upper - all.predicted, 1.2 * t * sigma * std::sqrt(18.0));
    double parts = 0;
    for (const TotalLine& line : totals[1].lines)
        parts += line.predicted;
    EXPECT_NEAR(parts, predicted, 1e-9 * predicted);
    // Months 41 to 43 of January 2020: May to July 2023.
    ASSERT_EQ(totals[1].lines.size(), 4U);
    EXPECT_EQ(totals[1].lines[0].by, (std::vector<std::string>{"north", "2023-Q2"}));
    EXPECT_EQ(totals[1].lines[3].by, (std::vector<std::string>{"south", "2023-Q3"}));
    EXPECT_EQ(totalsCsv(answersOf(e)).substr(0, 78),
              "total,region,month,rows,rows_outside,rows_unpredicted,predicted,lower,upper,ac");
    // A single row's total is that row.
    recipe.forecast->totals = {{{{.column = "depot"}, {.column = "month"}}}};
    const Evidence single = evaluate(recipe, made.rows, {}, quietly());
    const TotalLine& row = answersOf(single).totals[0].lines[0];
    EXPECT_NEAR(row.predicted, e.forecast->prediction[0], 1e-10);
    EXPECT_NEAR(row.upper, e.forecast->upper[0], 1e-9 * row.upper);
}

/// Share of 90 % intervals of the total that hold it, over sets.
double held(const Settings& settings, double shared, std::size_t sets, bool logs = false) {
    std::size_t inside = 0;
    for (unsigned seed = 1; seed <= sets; ++seed) {
        Recipe recipe = recipeFor(settings);
        recipe.logResponse = logs;
        recipe.forecast->level = 0.9;
        recipe.forecast->totals = {{}};
        const Evidence e = unchecked(recipe, Made(seed, shared, 30, 6, 2).rows);
        const TotalLine& all = answersOf(e).totals[0].lines[0];
        EXPECT_FALSE(std::isnan(all.lower));
        inside += all.actual >= all.lower && all.actual <= all.upper;
    }
    return static_cast<double>(inside) / static_cast<double>(sets);
}

TEST(Totals, HoldAsOftenAsTheySay) {
    // 200 sets: two binomial errors are 0.042.
    EXPECT_NEAR(held({}, 0, 200), 0.9, 0.045);
    EXPECT_NEAR(held({}, 0, 200, true), 0.9, 0.045);
    // What a month shares: without it 90 % totals hold 0.6.
    EXPECT_NEAR(held({}, 3, 200), 0.9, 0.06);
}

TEST(Totals, OfKindsWithoutATheoryAreThoseOfModelsWithoutAPart) {
    for (const Settings& settings :
         {Settings{"neighbours", {{"count", 5.0}}}, Settings{"quantile", {{"share", 0.5}}},
          Settings{"penalised", {{"penalty", 0.01}, {"l1_share", 0.5}}}}) {
        const double share = held(settings, 0, 60);
        EXPECT_GT(share, 0.8) << settings.kind; // 60 sets: two binomial errors are 0.08
    }
}

TEST(Totals, CountRowsThatAreOutsideAndThoseWithoutAPrediction) {
    Made made(3);
    std::vector<double> x(made.rows.forecast->table.at("x", "").numbers().begin(),
                          made.rows.forecast->table.at("x", "").numbers().end());
    x[0] = std::nan("");
    x[1] = 500;
    made.rows.forecast->table = made.rows.forecast->table.withColumn(Column::ofNumbers("x", x));
    Recipe recipe = recipeFor();
    recipe.forecast->totals = {{}};
    const Evidence e = unchecked(recipe, made.rows);
    const TotalLine& all = answersOf(e).totals[0].lines[0];
    EXPECT_EQ(all.unpredicted, 1U);
    EXPECT_EQ(all.outside, 1U);
    EXPECT_EQ(all.rows, 17U);
}

TEST(Totals, NameTheWeeksOfTheYearTheyBelongTo) {
    // ISO 8601: 2024-12-30 is in the first week of 2025, 2027-01-01 in the 53rd of 2026.
    Made made(4);
    std::vector<std::int32_t> days(18, *parseDate("2024-12-30"));
    days[1] = *parseDate("2027-01-01");
    days[2] = *parseDate("2024-02-14");
    made.rows.forecast->table = made.rows.forecast->table.withColumn(Column::ofDates("month", days));
    Recipe recipe = recipeFor();
    recipe.forecast->totals = {{{{.column = "month", .stretch = Stretch::week}}}};
    const Evidence e = unchecked(recipe, made.rows);
    std::vector<std::string> weeks;
    for (const TotalLine& line : answersOf(e).totals[0].lines)
        weeks.push_back(line.by[0]);
    EXPECT_EQ(weeks, (std::vector<std::string>{"2024-W07", "2025-W01", "2026-W53"}));
}

TEST(CrossTables, AreTheTotalsAndSharesAddUpToOne) {
    Recipe recipe = recipeFor();
    const Made made(5);
    for (const auto measure : {CrossMeasure::sumOfPredicted, CrossMeasure::shareOfPredicted,
                               CrossMeasure::rows, CrossMeasure::meanOfDifference, CrossMeasure::interval}) {
        recipe.forecast->crossTable = CrossTable{.down = {.column = "region"},
                                                 .across = {.column = "month", .stretch = Stretch::month},
                                                 .measure = measure};
        EXPECT_EQ(parseRecipe(recipeText(recipe), "r"), recipe);
        const Evidence e = unchecked(recipe, made.rows);
        const CrossTableFound& table = *answersOf(e).crossTable;
        EXPECT_EQ(table.down, (std::vector<std::string>{"north", "south"}));
        EXPECT_EQ(table.across, (std::vector<std::string>{"2023-05", "2023-06", "2023-07"}));
        double sum = 0;
        for (const CrossCell& cell : table.cells) {
            EXPECT_EQ(cell.rows, 3U);
            sum += cell.value;
            if (measure == CrossMeasure::sumOfPredicted || measure == CrossMeasure::shareOfPredicted) {
                EXPECT_LT(cell.lower, cell.value);
            }
        }
        if (measure == CrossMeasure::shareOfPredicted) {
            EXPECT_NEAR(sum, 1, 1e-12);
        } else if (measure == CrossMeasure::rows) {
            EXPECT_EQ(sum, 18);
        }
    }
}

TEST(Scenarios, DifferAsByHand) {
    Recipe recipe = recipeFor();
    recipe.scenarios = {
        {"dearer", "region = \"north\"", {{"x", ColumnChange::How::by, 2.0}}},
        {"share", "", {{"x", ColumnChange::How::byPercent, 5.0}}},
        {"move", "depot = \"D0\"", {{"depot", ColumnChange::How::to, std::string("D1")}}},
        {"new", "depot = \"D0\"", {{"depot", ColumnChange::How::to, std::string("D99")}}},
        {"wrong", "", {{"rate", ColumnChange::How::by, 1.0}}},
    };
    EXPECT_EQ(parseRecipe(recipeText(recipe), "r"), recipe);
    const Made made(6);
    const Evidence e = unchecked(recipe, made.rows);
    const auto& found = answersOf(e).scenarios;
    ASSERT_EQ(found.size(), 5U);
    const auto& b = e.linear->coefficients;
    const auto slope = std::find_if(b.begin(), b.end(), [](const auto& c) { return c.name == "x"; });
    const double t = studentQuantile(0.95, e.linear->degreesOfFreedom);
    // 9 rows in the north, 2 more each: 18 times the coefficient, and its error is all there is.
    EXPECT_EQ(found[0].rows, 9U);
    EXPECT_NEAR(found[0].difference, 18 * slope->estimate, 1e-9);
    EXPECT_NEAR(found[0].upper - found[0].difference, 18 * t * slope->standardError, 1e-8);
    EXPECT_NEAR(found[0].changed - found[0].total, found[0].difference, 1e-8);
    double sum = 0;
    for (const double x : made.rows.forecast->table.at("x", "").numbers())
        sum += x;
    EXPECT_NEAR(found[1].difference, 0.05 * sum * slope->estimate, 1e-8);
    const auto depot = std::find_if(b.begin(), b.end(),
                                    [](const auto& c) { return c.name.find("D1") != std::string::npos; });
    ASSERT_NE(depot, b.end());
    EXPECT_NEAR(found[2].difference, 3 * depot->estimate, 1e-8);
    EXPECT_EQ(found[3].unpredicted, 3U) << "a depot that nobody learned from";
    EXPECT_EQ(found[3].outside, 3U);
    EXPECT_NE(found[4].problem.find("rate"), std::string::npos);
    EXPECT_EQ(scenariosCsv(answersOf(e)).substr(0, 62),
              "scenario,rows,total,total_changed,difference,lower,upper\ndeare");
}

TEST(Scenarios, OfAModelInLogsFollowTheirRows) {
    Recipe recipe = recipeFor();
    recipe.logResponse = true;
    recipe.scenarios = {{"more", "", {{"x", ColumnChange::How::by, 1.0}}}};
    const Evidence e = unchecked(recipe, Made(7).rows);
    const auto& b = e.linear->coefficients;
    const auto slope = std::find_if(b.begin(), b.end(), [](const auto& c) { return c.name == "x"; });
    const ScenarioFound& found = answersOf(e).scenarios[0];
    EXPECT_NEAR(found.changed, found.total * std::exp(slope->estimate), 1e-8 * found.total);
    EXPECT_LT(found.lower, found.difference);
}

TEST(Intervals, OfEveryWayHoldWhatTheySay) {
    for (const auto way :
         {IntervalWay::theory, IntervalWay::resampled, IntervalWay::outOfFold, IntervalWay::quantiles}) {
        std::size_t inside = 0, rows = 0;
        for (unsigned seed = 1; seed <= 12; ++seed) {
            Recipe recipe = recipeFor();
            recipe.forecast->intervals = way;
            recipe.forecast->level = 0.9;
            recipe.judge = FoldPlan{};
            const Made made(300 + seed, 0, 40, 6, 10);
            const Evidence e = unchecked(recipe, made.rows);
            for (std::size_t i = 0; i < e.forecast->lower.size(); ++i) {
                const double y = made.rows.forecast->table.at("y", "").numbers()[i];
                inside += y >= e.forecast->lower[i] && y <= e.forecast->upper[i];
                ++rows;
            }
            ASSERT_TRUE(answersOf(e).coverage);
            EXPECT_EQ(answersOf(e).coverage->rows, 240U);
            EXPECT_GT(answersOf(e).coverage->share, 0.8);
            EXPECT_LT(answersOf(e).coverage->lower, answersOf(e).coverage->share);
            EXPECT_EQ(parseRecipe(recipeText(recipe), "r"), recipe);
        }
        // 720 rows: two binomial errors are 0.022, those of the sets as much again.
        EXPECT_NEAR(static_cast<double>(inside) / static_cast<double>(rows), 0.9,
                    way == IntervalWay::quantiles ? 0.05 : 0.035)
            << intervalWayName(way);
    }
}

TEST(Intervals, OutOfFoldAreWiderWhereRowsSpreadMore) {
    RandomStream random(9, "unequal");
    std::vector<double> x, y;
    for (int i = 0; i < 1200; ++i) {
        x.push_back(10 * random.uniform());
        y.push_back(20 + 5 * x.back() + (0.2 + 0.5 * x.back()) * random.normal());
    }
    StudyRows rows;
    rows.learning.table = Table({Column::ofNumbers("y", y), Column::ofNumbers("x", x)});
    rows.forecast.emplace();
    rows.forecast->table = Table({Column::ofNumbers("x", {1, 9})});
    Recipe recipe = recipeOf("y", {"x"});
    recipe.forecast = ForecastRequest{};
    recipe.forecast->intervals = IntervalWay::outOfFold;
    const Evidence e = unchecked(recipe, rows);
    const auto width = [&](std::size_t i) { return e.forecast->upper[i] - e.forecast->lower[i]; };
    EXPECT_GT(width(1), 3 * width(0));
    EXPECT_NE(e.forecast->intervals.find("5 bands of the prediction"), std::string::npos)
        << e.forecast->intervals;
    EXPECT_NE(e.forecast->intervals.find("1,200 rows out of fold"), std::string::npos);
}

TEST(ReachTested, SeesABendThatOnlyTheEndsShow) {
    RandomStream random(11, "bend");
    std::vector<double> x, bent, straight;
    for (int i = 0; i < 400; ++i) {
        x.push_back(10 * random.uniform());
        bent.push_back(x.back() + 0.6 * x.back() * x.back() + 0.5 * random.normal());
        straight.push_back(2 * x.back() + 0.5 * random.normal());
    }
    for (const bool bends : {true, false}) {
        StudyRows rows;
        rows.learning.table =
            Table({Column::ofNumbers("y", bends ? bent : straight), Column::ofNumbers("x", x)});
        rows.forecast.emplace();
        rows.forecast->table = Table({Column::ofNumbers("x", {14})});
        Recipe recipe = recipeOf("y", {"x"});
        recipe.forecast = ForecastRequest{};
        recipe.forecast->testReach = {"x"};
        const Evidence e = unchecked(recipe, rows);
        const auto& tested = answersOf(e).reach;
        ASSERT_EQ(tested.size(), 2U);
        const ReachTested& high = tested[0];
        EXPECT_TRUE(high.high);
        EXPECT_NEAR(high.asked, 0.4, 0.02);
        ASSERT_EQ(high.steps.size(), 4U);
        EXPECT_NEAR(high.steps[3].edge, 7, 0.5);
        if (bends) {
            EXPECT_GT(high.steps[3].rmse, 2.5 * high.rmseInside);
            EXPECT_LT(high.steps[3].coverage, 0.7);
            EXPECT_GT(high.steps[3].rmse, high.steps[0].rmse);
        } else {
            EXPECT_LT(high.steps[3].rmse, 1.3 * high.rmseInside);
            EXPECT_GT(high.steps[3].coverage, 0.88);
        }
        EXPECT_NE(reachTestedText(answersOf(e)).find("\"beyond\""), std::string::npos);
    }
}

TEST(Importance, OfALinearModelIsItsClosedForm) {
    // Mean squared error of y = bx after x was permuted: that before plus 2b²var(x), up to chance; and
    // columns that go together are permuted together, too.
    RandomStream random(21, "importance");
    std::vector<double> x, twin, z, y;
    for (int i = 0; i < 1000; ++i) {
        x.push_back(random.normal());
        twin.push_back(x.back() + 0.2 * random.normal());
        z.push_back(random.normal());
        y.push_back(5 * x.back() + 2 * z.back() + random.normal());
    }
    StudyRows rows;
    rows.learning.table = Table({Column::ofNumbers("y", y), Column::ofNumbers("x", x),
                                 Column::ofNumbers("twin", twin), Column::ofNumbers("z", z)});
    const Recipe recipe = recipeOf("y", {"x", "twin", "z"});
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const Evidence e =
        evaluate(recipe, rows, *prepared, {.checks = ChecksWanted::none, .importance = true}, quietly());
    ASSERT_EQ(e.importance.lines.size(), 4U);
    const auto lineOf = [&](std::vector<std::string> columns) {
        return *std::find_if(e.importance.lines.begin(), e.importance.lines.end(),
                             [&](const ImportanceLine& l) { return l.columns == columns; });
    };
    const auto& c = e.linear->coefficients;
    const auto squared = [&](const std::string& column, const std::vector<double>& values) {
        double mean = 0, squares = 0;
        for (const double v : values)
            mean += v / 1000;
        for (const double v : values)
            squares += (v - mean) * (v - mean) / 1000;
        const auto b =
            std::find_if(c.begin(), c.end(), [&](const auto& each) { return each.name == column; })->estimate;
        return 2 * b * b * squares;
    };
    const double before = e.importance.rmse * e.importance.rmse;
    EXPECT_NEAR(std::pow(e.importance.rmse + lineOf({"z"}).increase, 2), before + squared("z", z), 0.6);
    EXPECT_NEAR(std::pow(e.importance.rmse + lineOf({"x"}).increase, 2), before + squared("x", x), 4);
    EXPECT_NEAR(std::pow(e.importance.rmse + lineOf({"x", "twin"}).increase, 2), before + 50, 5);
    EXPECT_EQ(e.importance.lines.front().columns, (std::vector<std::string>{"x", "twin"}));
    EXPECT_GT(lineOf({"z"}).spread, 0);
}

TEST(Clearance, SaysWhatIsOpenAndWhoSigned) {
    Recipe recipe = recipeFor();
    recipe.clearance = Clearance{"A. Person", "2026-01-05", "for the plan"};
    const Made made(12);
    const Evidence e = evaluate(recipe, made.rows, {}, quietly());
    const json sheet = json::parse(clearanceText(recipe, e, made.rows));
    EXPECT_EQ(sheet["cleared"]["by"], "A. Person");
    EXPECT_EQ(sheet["forecast"]["rows"], 18);
    std::size_t open = 0;
    for (const Goad& goad : e.goads)
        open += !goad.accepted && goad.under.empty();
    EXPECT_EQ(sheet["open"].size(), open);
    EXPECT_EQ(sheet["fingerprints"]["rows"].get<std::string>().size(), 16U);
    Made other(12);
    std::vector<double> y(other.rows.learning.table.at("y", "").numbers().begin(),
                          other.rows.learning.table.at("y", "").numbers().end());
    y[7] += 1e-9;
    other.rows.learning.table = other.rows.learning.table.withColumn(Column::ofNumbers("y", y));
    EXPECT_NE(json::parse(clearanceText(recipe, e, other.rows))["fingerprints"]["rows"],
              sheet["fingerprints"]["rows"]);
}

TEST(ForecastPlans, AreRefusedByTheirPlace) {
    const auto error = [](const std::string& rest) {
        return errorOf([&] {
            parseRecipe(R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": [], )" + rest +
                            "}",
                        "r");
        });
    };
    // What a kind has no theory for is refused, and nothing else is given in its place.
    EXPECT_NE(error(R"("estimator": {"kind": "tree"}, "forecast": {"file": "b.csv", "intervals": "theory"})")
                  .find("has none"),
              std::string::npos);
    EXPECT_NE(error(R"("forecast": {"file": "b.csv", "intervals": "guess"})").find("out of fold"),
              std::string::npos);
    EXPECT_NE(
        error(R"("forecast": {"file": "b.csv", "totals": [{"by": [{"date": "m", "period": "decade"}]}]})")
            .find("quarter"),
        std::string::npos);
    EXPECT_NE(error(R"("scenarios": [{"name": "a", "change": [{"column": "x"}]}])").find("scenarios[0]"),
              std::string::npos);
    EXPECT_NE(
        error(R"("scenarios": [{"name": "a", "change": []}, {"name": "a", "change": []}])").find("another"),
        std::string::npos);
    Recipe recipe = recipeFor();
    recipe.forecast->totals = {{{{.column = "x", .stretch = Stretch::month}}}};
    EXPECT_NE(errorOf([&] { unchecked(recipe, Made(1).rows); }).find("need a date"), std::string::npos);
}

} // namespace forecast_questions_test

namespace plain_forecasts_test {

using namespace oxgoad;
using namespace oxgoad::test;

/// Months of three depots from 2019 on; noise of size `noise` beside what the column says.
StudyRows months(double noise, bool tells) {
    RandomStream random(3, "months");
    std::string text = "month,depot,x,y\n";
    for (int g = 0; g < 3; ++g)
        for (int m = 0; m < 60; ++m) {
            const double x = random.normal(), season = 20 * std::sin(m * 0.5235987755982988);
            std::array<char, 40> date{};
            std::snprintf(date.data(), date.size(), "%d-%02d-01", 2019 + m / 12, 1 + m % 12);
            text += std::string(date.data()) + "," + std::string(1, static_cast<char>('a' + g)) + "," +
                    std::to_string(tells ? x : random.normal()) + "," +
                    std::to_string(100 + 30 * g + season + 5 * x + noise * random.normal()) + "\n";
        }
    StudyRows rows;
    rows.learning = readBytes(text);
    return rows;
}

Evidence judged(const StudyRows& rows, const std::vector<std::string>& terms, int horizon) {
    Recipe recipe = recipeOf("y", terms);
    recipe.judge =
        FoldPlan{.kind = FoldKind::rollingOrigin, .folds = 6, .column = "month", .horizon = horizon};
    Progress progress;
    const auto prepared = prepareRows(recipe, rows, {1}, progress);
    return evaluate(recipe, rows, *prepared, {.threads = {1}}, progress);
}

const Reading* readingOf(const Evidence& e, const std::string& name) {
    for (const Reading& reading : e.readings)
        if (reading.name == name) return &reading;
    return nullptr;
}

bool hasGoad(const Evidence& e, const std::string& key) {
    return std::any_of(e.goads.begin(), e.goads.end(), [&](const Goad& g) { return g.key == key; });
}

TEST(PlainForecasts, AreBeatenOrAnAlarmSaysSo) {
    // A model without the season loses to the value of a year before.
    const Evidence blind = judged(months(1, true), {"x", "depot"}, 2);
    ASSERT_NE(readingOf(blind, "plain forecasts"), nullptr);
    EXPECT_TRUE(hasGoad(blind, "plain forecasts"));
    EXPECT_GT(readingOf(blind, "plain forecasts")->value, 1);
    // With it it wins, and by hand: the error of a year before over that of the model on the same rows.
    StudyRows rows = months(1, true);
    Recipe recipe = recipeOf("y", {"x", "depot"});
    Term wave = plainTerm("month");
    wave.parts[0].form = Form::wave;
    recipe.terms.push_back(wave);
    recipe.judge = FoldPlan{.kind = FoldKind::rollingOrigin, .folds = 6, .column = "month", .horizon = 2};
    Progress progress;
    const auto prepared = prepareRows(recipe, rows, {1}, progress);
    const Evidence e = evaluate(recipe, rows, *prepared, {.threads = {1}}, progress);
    EXPECT_FALSE(hasGoad(e, "plain forecasts"));
    double year = 0, model = 0;
    const auto y = prepared->table.at("y", "").numbers();
    for (std::size_t row = 0; row < 180; ++row)
        if (row % 60 >= 48) { // the last 12 of each depot
            year += std::pow(y[row] - y[row - 12], 2);
            model += std::pow(y[row] - e.folds->outOfFold[row], 2);
        }
    const double byYear = std::sqrt(model / year);
    double last = 0;
    for (std::size_t row = 0; row < 180; ++row)
        if (row % 60 >= 48) last += std::pow(y[row] - y[row / 60 * 60 + 47 + (row % 60 - 48) / 2 * 2], 2);
    EXPECT_NEAR(readingOf(e, "plain forecasts")->value, std::max(byYear, std::sqrt(model / last)), 1e-9);
    EXPECT_NE(readingOf(e, "plain forecasts")->sentence.find("scaled error"), std::string::npos);
    // Folds at random are no forecasts.
    recipe.judge = FoldPlan{};
    const auto plain = prepareRows(recipe, rows, {1}, progress);
    const Evidence none = evaluate(recipe, rows, *plain, {.threads = {1}}, progress);
    EXPECT_TRUE(std::isnan(readingOf(none, "plain forecasts")->value));
}

TEST(RowsToCome, InAnotherUnitAreAnAlarmAndLikeOnesAreNot) {
    RandomStream random(5, "to come");
    std::string learned = "x,g,y\n", like = "x,g\n", times = "x,g\n";
    for (int i = 0; i < 400; ++i) {
        const double x = 20 + 5 * random.uniform();
        const std::string g(1, static_cast<char>('a' + random.below(3)));
        learned += std::to_string(x) + "," + g + "," + std::to_string(3 * x + random.normal()) + "\n";
        const double other = 20 + 5 * random.uniform();
        like += std::to_string(other) + "," + g + "\n";
        times += std::to_string(1000 * other) + "," + g + "\n";
    }
    const auto found = [&](const std::string& coming) {
        StudyRows rows;
        rows.learning = readBytes(learned);
        rows.forecast = readBytes(coming);
        Recipe recipe = recipeOf("y", {"x", "g"});
        recipe.forecast = ForecastRequest{};
        Progress progress;
        const auto prepared = prepareRows(recipe, rows, {1}, progress);
        return evaluate(recipe, rows, *prepared, {.threads = {1}}, progress);
    };
    EXPECT_FALSE(hasGoad(found(like), "rows to forecast differ"));
    const Evidence unit = found(times);
    ASSERT_TRUE(hasGoad(unit, "rows to forecast differ"));
    for (const Goad& goad : unit.goads)
        if (goad.key == "rows to forecast differ") {
            EXPECT_EQ(goad.severity, Severity::alarm);
            EXPECT_EQ(goad.column, "x");
            EXPECT_NE(goad.reading.find("1,000 times"), std::string::npos) << goad.reading;
        }
}

TEST(ReachRules, GradeByTheHullAndByTheNearestRowsWhereAsked) {
    // Two numbers that go together: a row against the grain lies within both ranges and outside of the hull.
    RandomStream random(3, "hull");
    std::string text = "a,b,y\n";
    for (int i = 0; i < 200; ++i) {
        const double a = random.uniform(), b = a + 0.05 * random.normal();
        text += exactText(a) + "," + exactText(b) + "," + exactText(a + b + 0.1 * random.normal()) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    rows.forecast = readBytes("a,b,y\n0.5,0.5,1.1\n0.45,0.62,1.0\n0.2,0.8,4\n2,2,\n");
    Recipe recipe = recipeOf("y", {"a", "b"});
    recipe.forecast = ForecastRequest{};
    const Evidence plain = unchecked(recipe, rows);
    recipe.forecast->reach.hull = true;
    recipe.forecast->reach.nearest = 0.02;
    const Evidence asked = unchecked(recipe, rows);
    EXPECT_EQ(asked.forecast->reach[0].grade, ReachGrade::inside);
    const auto& reasons = asked.forecast->reach[2].reasons;
    EXPECT_NE(asked.forecast->reach[2].grade, ReachGrade::inside);
    EXPECT_TRUE(std::any_of(reasons.begin(), reasons.end(), [](const std::string& reason) {
        return reason.find("span together") != std::string::npos;
    }));
    EXPECT_TRUE(std::any_of(reasons.begin(), reasons.end(), [](const std::string& reason) {
        return reason.find("farther from the nearest") != std::string::npos;
    }));
    EXPECT_EQ(asked.forecast->inside + asked.forecast->edge + asked.forecast->outside, 4U);
    // A wider edge.
    EXPECT_EQ(plain.forecast->reach[3].grade, ReachGrade::outside);
    recipe.forecast->reach = {.edgeShare = 2, .edgeDistance = 1e5, .outsideDistance = 1e5};
    EXPECT_EQ(unchecked(recipe, rows).forecast->reach[3].grade, ReachGrade::edge);
    EXPECT_EQ(parseRecipe(recipeText(recipe), "").forecast->reach, recipe.forecast->reach);
    // What came of it: three rows are known by now.
    ASSERT_TRUE(plain.answers && plain.answers->came);
    const WhatCame& came = *plain.answers->came;
    EXPECT_EQ(came.all.rows, 3U);
    double squares = 0;
    for (std::size_t i = 0; i < 3; ++i)
        squares += std::pow(std::array{1.1, 1.0, 4.0}[i] - plain.forecast->prediction[i], 2);
    EXPECT_NEAR(came.all.rmse, std::sqrt(squares / 3), 1e-12);
    EXPECT_EQ(came.all.coverage.inside, 2U);
    EXPECT_NE(came.says.find("whose y is known by now"), std::string::npos) << came.says;
}

TEST(Deliveries, AreToldTogether) {
    Recipe recipe = recipeOf("y", {"a", "b"});
    EXPECT_EQ(deliveriesText({}), "");
    // By hand: 200 rows with squares of 800 are off by 2; of the 20 outside 180 are off by 3.
    Delivery one{.file = "january.csv", .on = "2027-02-01", .fingerprint = "f1", .level = 0.9};
    one.expected = 2;
    one.all = {.rows = 100, .withIntervals = 100, .inside = 95, .errors = 3, .squares = 400};
    Delivery two = one;
    two.file = "february.csv";
    two.fingerprint = "f2";
    two.all = {.rows = 100, .withIntervals = 80, .inside = 67, .errors = -3, .squares = 400};
    two.outside = {.rows = 20, .withIntervals = 20, .inside = 10, .errors = 1, .squares = 180};
    EXPECT_EQ(deliveriesText({one}), "") << "one says it itself";
    const std::string says = deliveriesText({one, two});
    for (const char* part : {"2 deliveries so far, 200 rows", "root mean squared error is 2.000,",
                             "where 2.000 was", "90.0 % lie in their 90.0 % intervals",
                             "rows outside were off by 1.62 times the others", "was right"})
        EXPECT_NE(says.find(part), std::string::npos) << part << " in " << says;
    two.outside.squares = 80; // 2 of them all
    EXPECT_NE(deliveriesText({one, two}).find("cried wolf"), std::string::npos);
    two.level = 0.8;
    EXPECT_NE(deliveriesText({one, two}).find("lie in their intervals"), std::string::npos);
    // Kept in the recipe, read back, and no other fit.
    recipe.deliveries = {one, two};
    const Recipe again = parseRecipe(recipeText(recipe), "");
    EXPECT_EQ(again.deliveries, recipe.deliveries);
    EXPECT_TRUE(sameModel(recipe, recipeOf("y", {"a", "b"})));
    for (
        const char* wrong :
        {R"([{"file": "a"}])", R"({})",
         R"([{"file": "a", "fingerprint": "f", "level": 0.9, "all": {"rows": 1, "with_intervals": 2, "in_intervals": 1, "errors": 0, "squared_errors": 1}, "outside": {"rows": 0, "with_intervals": 0, "in_intervals": 0, "errors": 0, "squared_errors": 0}}])",
         R"([{"file": "a", "fingerprint": "f", "level": 0.9, "all": {"rows": 1, "with_intervals": 1, "in_intervals": 1, "errors": 0, "squared_errors": -1}, "outside": {"rows": 0, "with_intervals": 0, "in_intervals": 0, "errors": 0, "squared_errors": 0}}])"})
        EXPECT_NE(
            errorOf([&] {
                parseRecipe(
                    R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": ["x"], "deliveries": )" +
                        std::string(wrong) + "}",
                    "recipe");
            }),
            "")
            << wrong;
    // And with the one at hand, which does not count twice.
    StudyRows rows;
    std::string text = "a,b,y\n";
    RandomStream random(5, "deliveries");
    for (int i = 0; i < 100; ++i) {
        const double a = random.uniform(), b = random.uniform();
        text += exactText(a) + "," + exactText(b) + "," + exactText(a + b + 0.1 * random.normal()) + "\n";
    }
    rows.learning = readBytes(text);
    rows.forecast = readBytes("a,b,y\n0.5,0.5,1.1\n0.4,0.6,1.0\n");
    recipe.forecast = ForecastRequest{};
    Evidence e = unchecked(recipe, rows);
    ASSERT_TRUE(e.answers && e.answers->came);
    EXPECT_EQ(e.answers->came->soFar.find("3 deliveries so far, 202 rows"), 0U) << e.answers->came->soFar;
    EXPECT_EQ(e.answers->came->delivery.all.rows, 2U);
    recipe.deliveries = {one, e.answers->came->delivery};
    e = unchecked(recipe, rows);
    EXPECT_EQ(e.answers->came->soFar.find("2 deliveries so far, 102 rows"), 0U) << e.answers->came->soFar;
    EXPECT_NE(evidenceText(e, recipe).find("\"so_far\""), std::string::npos);
}

TEST(DampedTrends, AreShownBesideTheTrendAndLeaveSeasonsAlone) {
    std::string text = "month,y\n", coming = "month\n";
    const double phi = 0.9;
    for (int t = 0; t < 39; ++t) {
        const std::string month =
            std::to_string(2020 + t / 12) + (t % 12 < 9 ? "-0" : "-") + std::to_string(t % 12 + 1) + "-01";
        if (t < 36)
            text += month + "," + exactText(100 + 3.0 * t + (t % 2 == 0 ? 0.01 : -0.01)) + "\n";
        else
            coming += month + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    rows.forecast = readBytes(coming);
    Recipe recipe = recipeOf("y", {"month"});
    recipe.terms.push_back(Term{{TermPart{.column = "month", .form = Form::wave}}});
    recipe.forecast = ForecastRequest{};
    const Evidence e = unchecked(recipe, rows);
    ASSERT_TRUE(e.answers && e.answers->damped);
    const DampedTrend& damped = *e.answers->damped;
    EXPECT_EQ(damped.rows, 3U);
    // About 3 a month: 1 + 2 + 3 steps become φ, φ + φ² and φ + φ² + φ³.
    const double fewer = 6 - (3 * phi + 2 * phi * phi + phi * phi * phi);
    EXPECT_NEAR(damped.total - damped.damped, 3 * fewer, 0.15);
    EXPECT_NE(damped.says.find("Were the trend of month damped"), std::string::npos);
    recipe.terms.erase(recipe.terms.begin());
    EXPECT_FALSE(unchecked(recipe, rows).answers->damped) << "a season is no trend";
}

} // namespace plain_forecasts_test
