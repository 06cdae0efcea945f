// Rows set aside in proportion, and columns that look back in time, against plain loops.
#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "prepare/preparation.h"
#include "resample/parts.h"
#include "study/prepare_rows.h"
#include "support/support.h"

#include <chrono>
#include <optional>

using namespace oxgoad;
using namespace oxgoad::test;

namespace parts_and_lags_test {

const std::filesystem::path cases = OXGOAD_CASES;

std::shared_ptr<const PreparedRows> preparedCase(const std::string& path) {
    const Recipe recipe = readRecipe(cases / path);
    const StudyRows rows = loadRows(recipe, (cases / path).parent_path(), {}, quietly());
    return prepareRows(recipe, rows, {}, quietly());
}

std::vector<double> numbersOf(const PreparedRows& prepared, const std::string& column) {
    const auto values = prepared.table.at(column, "").numbers();
    return {values.begin(), values.end()};
}

/// The ISO week of a day as "year and week", by the calendar and not by counting days (ISO 8601: the week of
/// a day is that of its Thursday).
std::pair<int, int> isoWeek(std::int32_t day) {
    using namespace std::chrono;
    const sys_days date{days{day}};
    const unsigned monday = (weekday(date).iso_encoding() + 6) % 7;
    const sys_days thursday = date - days{monday} + days{3};
    const year_month_day of{thursday};
    const sys_days first{of.year() / January / 1};
    return {static_cast<int>(of.year()), static_cast<int>((thursday - first).count() / 7) + 1};
}

TEST(SeriesCase, LagWeekIrregular) {
    // 1, 9, 15 and 23 January 2024 lie in four weeks one after the other: each looks at the one before.
    const auto prepared = preparedCase("lag_week_irregular/recipe.json");
    const auto lag = numbersOf(*prepared, "L");
    EXPECT_TRUE(std::isnan(lag[0]));
    EXPECT_EQ(lag[1], 10);
    EXPECT_EQ(lag[2], 20);
    EXPECT_EQ(lag[3], 30);
}

TEST(SeriesCase, RollingWeeks) {
    // x is 0, 1, 2 … by the day from Monday, 1 January 2024: the mean of the two weeks before is that of
    // their means.
    const auto prepared = preparedCase("rolling_weeks/recipe.json");
    const auto means = numbersOf(*prepared, "L");
    EXPECT_TRUE(std::isnan(means[0]));
    EXPECT_EQ(means[7], 3);                 // one week before: days 0 to 6
    EXPECT_EQ(means[14], (3.0 + 10.0) / 2); // two weeks before
    EXPECT_EQ(means[20], (3.0 + 10.0) / 2); // the same for the whole week
    EXPECT_EQ(means[21], (10.0 + 17.0) / 2);
}

TEST(SeriesCase, LagMissingGroup) {
    const auto prepared = preparedCase("lag_missing_group/recipe.json");
    const auto lag = numbersOf(*prepared, "L");
    EXPECT_EQ(lag[1], 10);
    EXPECT_TRUE(std::isnan(lag[3])) << "rows without a group lag from nobody";
    EXPECT_EQ(lag[5], 50);
    ASSERT_FALSE(prepared->steps[0].notes.empty());
    EXPECT_NE(prepared->steps[0].notes[0].find("2 rows have no g"), std::string::npos)
        << prepared->steps[0].notes[0];
}

TEST(Series, LagsAndRollingMeansAreThoseOfAPlainLoop) {
    std::size_t compared = 0;
    for (std::uint64_t seed = 1; seed <= 40; ++seed) {
        RandomStream random(seed, "series of tests");
        const std::size_t n = 30 + random.below(200);
        const std::string unit = std::array{"month", "week", "day"}[random.below(3)];
        const bool grouped = random.below(2) == 0;
        std::vector<double> values(n);
        std::vector<std::int32_t> day(n), group(n);
        for (std::size_t i = 0; i < n; ++i) {
            values[i] = random.below(12) == 0 ? std::nan("") : static_cast<double>(random.below(1000));
            day[i] = random.below(15) == 0
                         ? Column::missingDay
                         : 19000 + static_cast<std::int32_t>(random.below(unit == "day" ? 60 : 500)) -
                               (seed % 4 == 0 ? 19200 : 0); // before 1970 as well
            group[i] =
                random.below(15) == 0 ? Column::missingCode : static_cast<std::int32_t>(random.below(3));
        }
        const Table table({Column::ofNumbers("x", values), Column::ofDates("t", day),
                           Column::ofFactor("g", group, {"a", "b", "c"})});
        const auto back = static_cast<double>(1 + random.below(3)),
                   periods = static_cast<double>(1 + random.below(4));
        const bool current = random.below(2) == 0;
        std::map<std::string, StepValue> common{
            {"column", std::string("x")}, {"time", std::string("t")}, {"unit", unit}};
        if (grouped) common["group"] = std::string("g");
        auto lag = common, rolling = common;
        lag["back"] = back;
        lag["name"] = std::string("lag");
        rolling["periods"] = periods;
        rolling["current"] = current;
        rolling["name"] = std::string("mean");
        const auto prepared =
            learnSteps(table, {{"lag", true, lag}, {"rolling mean", true, rolling}}, {}, {}, "t", quietly());
        ASSERT_TRUE(prepared.outcomes[0].done) << prepared.outcomes[0].problem;
        ASSERT_TRUE(prepared.outcomes[1].done) << prepared.outcomes[1].problem;
        using namespace std::chrono;
        // The day that stands for the period a number of periods before: compared by the calendar.
        auto periodOf = [&](std::int32_t d) {
            const year_month_day date{sys_days{days{d}}};
            if (unit == "month")
                return std::pair{static_cast<int>(date.year()), static_cast<int>(unsigned(date.month()))};
            return unit == "week" ? isoWeek(d) : std::pair{d, 0};
        };
        auto before = [&](std::int32_t d, int count) {
            if (unit == "day") return periodOf(d - count);
            if (unit == "week") return periodOf(d - 7 * count);
            const year_month_day date{sys_days{days{d}}};
            const year_month earlier = year_month{date.year(), date.month()} - months{count};
            return std::pair{static_cast<int>(earlier.year()), static_cast<int>(unsigned(earlier.month()))};
        };
        auto meanOf = [&](std::size_t row, int count) {
            double sum = 0;
            int found = 0;
            for (std::size_t j = 0; j < n; ++j) {
                if (day[j] == Column::missingDay || std::isnan(values[j])) continue;
                if (grouped && (group[j] < 0 || group[j] != group[row])) continue;
                if (periodOf(day[j]) != before(day[row], count)) continue;
                sum += values[j];
                ++found;
            }
            return found == 0 ? std::nan("") : sum / found;
        };
        const auto lags = prepared.table.at("lag", "").numbers(),
                   means = prepared.table.at("mean", "").numbers();
        for (std::size_t i = 0; i < n; ++i, ++compared) {
            const bool nowhere = day[i] == Column::missingDay || (grouped && group[i] < 0);
            double wantedLag = std::nan(""), wantedMean = std::nan("");
            if (!nowhere) {
                wantedLag = meanOf(i, static_cast<int>(back));
                double sum = 0;
                int found = 0;
                for (int k = current ? 0 : 1; k < static_cast<int>(periods) + (current ? 0 : 1); ++k)
                    if (const double m = meanOf(i, k); !std::isnan(m)) {
                        sum += m;
                        ++found;
                    }
                if (found > 0) wantedMean = sum / found;
            }
            ASSERT_EQ(std::isnan(lags[i]), std::isnan(wantedLag)) << seed << " " << i << " " << unit;
            if (!std::isnan(wantedLag)) {
                ASSERT_DOUBLE_EQ(lags[i], wantedLag) << seed << " " << i;
            }
            ASSERT_EQ(std::isnan(means[i]), std::isnan(wantedMean)) << seed << " " << i << " " << unit;
            if (!std::isnan(wantedMean)) {
                ASSERT_DOUBLE_EQ(means[i], wantedMean) << seed << " " << i;
            }
        }
    }
    EXPECT_GT(compared, 4000u);
}

// Parts
// -----------------------------------------------------------------------------------------------------------

TEST(PartsCase, InProportionSmallLevels) {
    // 34 levels of two rows, a quarter held out. Over 500 seeds every row must have the same chance, and each
    // seed its count within rounding. Chance and spread of a count of 500 draws: any textbook of probability.
    const auto rows = readText(cases / "in_proportion_small_levels/a.csv", {}, {}, quietly());
    SetAside aside;
    aside.kind = SetAsideKind::proportionate;
    aside.column = "g";
    aside.share = 0.25;
    const std::size_t n = rows.table.rows();
    std::vector<std::size_t> times(n, 0);
    constexpr std::size_t seeds = 500;
    for (std::size_t seed = 1; seed <= seeds; ++seed) {
        aside.seed = seed;
        const auto parts = assignParts(rows.table, aside, "a.csv");
        std::size_t held = 0;
        std::map<std::string, std::size_t> inLevel;
        for (std::size_t i = 0; i < n; ++i)
            if (parts[i] == Part::heldOut) {
                ++held;
                ++times[i];
                ++inLevel[rows.table.at("g", "").cellText(i)];
            }
        EXPECT_LE(std::fabs(static_cast<double>(held) - 0.25 * static_cast<double>(n)), 1) << seed;
        for (const auto& [level, count] : inLevel)
            EXPECT_LE(count, 1u) << level << " " << seed; // half a row, rounded up
    }
    const double sd = std::sqrt(seeds * 0.25 * 0.75);
    for (std::size_t i = 0; i < n; ++i)
        EXPECT_NEAR(static_cast<double>(times[i]), 0.25 * seeds, 4.5 * sd) << i;
}

TEST(Parts, InProportionHoldWithATestPartAndBandsAndMissingValues) {
    RandomStream random(5, "strata");
    const std::size_t n = 997;
    std::vector<double> size(n);
    for (double& s : size)
        s = random.below(20) == 0 ? std::nan("") : random.normal();
    const Table table({Column::ofNumbers("size", size)});
    SetAside aside;
    aside.kind = SetAsideKind::proportionate;
    aside.column = "size";
    aside.share = 0.2;
    aside.testShare = 0.1;
    aside.bands = 4;
    std::vector<std::size_t> held(n, 0), test(n, 0);
    constexpr std::size_t seeds = 500;
    for (std::size_t seed = 1; seed <= seeds; ++seed) {
        aside.seed = seed;
        const auto parts = assignParts(table, aside, "t");
        for (std::size_t i = 0; i < n; ++i) {
            held[i] += parts[i] == Part::heldOut;
            test[i] += parts[i] == Part::test;
        }
        const auto count = [&](Part part) {
            return static_cast<double>(std::count(parts.begin(), parts.end(), part));
        };
        EXPECT_NEAR(count(Part::heldOut), 0.2 * n, 1);
        EXPECT_NEAR(count(Part::test), 0.1 * n, 2);
        // Rows without a size are a stratum of their own.
        std::size_t missing = 0, missingHeld = 0;
        for (std::size_t i = 0; i < n; ++i)
            if (std::isnan(size[i])) {
                ++missing;
                missingHeld += parts[i] == Part::heldOut;
            }
        EXPECT_NEAR(static_cast<double>(missingHeld), 0.2 * static_cast<double>(missing), 1) << seed;
    }
    for (std::size_t i = 0; i < n; ++i) {
        EXPECT_NEAR(static_cast<double>(held[i]), 0.2 * seeds, 5 * std::sqrt(seeds * 0.16)) << i;
        EXPECT_NEAR(static_cast<double>(test[i]), 0.1 * seeds, 5 * std::sqrt(seeds * 0.09)) << i;
    }
    aside.seed = 77;
    EXPECT_EQ(assignParts(table, aside, "t"), assignParts(table, aside, "t")) << "one seed, one answer";
}

TEST(Parts, RowsWithoutADateLearnUnderLatestAndThatIsSaid) {
    std::string text = "y,d\n";
    for (int i = 0; i < 40; ++i)
        text +=
            std::to_string(i % 7) + "." + std::to_string(i) + "," +
            (i % 10 == 3 ? ""
                         : "2024-" + std::string(i < 20 ? "0" : "1") + std::to_string(i % 2 + 1) + "-01") +
            "\n";
    const TemporaryFolder folder;
    folder.write("a.csv", text);
    const Recipe recipe =
        parseRecipe(R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": [],
        "set_aside": {"kind": "latest", "column": "d", "share": 0.3}})",
                    "r");
    const StudyRows rows = loadRows(recipe, folder.path(), {}, quietly());
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    for (std::size_t i = 0; i < 40; ++i)
        if (i % 10 == 3) {
            EXPECT_EQ(prepared->parts[i], Part::learning);
        }
    EXPECT_EQ(prepared->partSummaries.front().note, "4 without d");
}

} // namespace parts_and_lags_test
