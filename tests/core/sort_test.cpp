// Sorting and counting of long columns, and stops on the way.
#include "core/stops.h"
#include "support/support.h"

#include "base/random.h"
#include "base/sort.h"
#include "ledger/ledger.h"
#include "resample/parts.h"
#include "table/summary.h"

#include <algorithm>
#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace sort_test {

constexpr std::size_t rows = 60000;

/// A number, words that repeat, and texts of which hardly one comes twice.
Table longTable() {
    RandomStream random(11, "long");
    std::vector<double> numbers(rows);
    std::vector<std::int32_t> codes;
    TextCells texts;
    for (double& value : numbers) {
        value = random.normal();
        codes.push_back(static_cast<std::int32_t>(random.below(3)));
        texts.add("text " + std::to_string(random.below(1U << 30U)));
    }
    return Table({Column::ofNumbers("number", std::move(numbers)),
                  Column::ofFactor("word", std::move(codes), {"few", "some", "many"}),
                  Column::ofText("text", std::move(texts))});
}

/// Told to stop after every number of questions short of all, at most a dozen of them: each ends in a stop.
template <class Work> void expectStops(const Work& work, int atLeast) {
    auto never = neverStops();
    work(never);
    ASSERT_GE(never.asked(), atLeast);
    for (int after = 0; after < never.asked(); after += std::max(1, never.asked() / 12)) {
        StopsAfterAsked progress(after);
        EXPECT_THROW(work(progress), Stopped) << after << " of " << never.asked();
    }
}

TEST(Sort, IsTheStandardOneWhereNobodyStopsIt) {
    RandomStream random(1, "sort");
    std::vector<std::uint64_t> values(100000);
    for (auto& value : values)
        value = random.below(5000);
    auto sorted = values, down = values;
    std::sort(sorted.begin(), sorted.end());
    sortUnlessStopped(values, quietly());
    EXPECT_EQ(values, sorted);
    sortUnlessStopped(down, quietly(), std::greater<>());
    EXPECT_EQ(down, std::vector<std::uint64_t>(sorted.rbegin(), sorted.rend()));
    std::vector<double> none, one{3};
    sortUnlessStopped(none, quietly());
    sortUnlessStopped(one, quietly());
    EXPECT_EQ(one, std::vector<double>{3});
}

TEST(Sort, StopsWithinTensOfThousandsOfComparisonsAndLosesNoValue) {
    RandomStream random(2, "sort");
    std::vector<std::uint64_t> values(200000);
    for (auto& value : values)
        value = random.below(1U << 30U);
    const auto given = values;
    expectStops(
        [&](const Progress& progress) {
            values = given;
            sortUnlessStopped(values, progress);
        },
        100); // n log2 n comparisons and more, asked every 16,384
    const StopsAfterAsked progress(50);
    values = given;
    EXPECT_THROW(sortUnlessStopped(values, progress), Stopped);
    auto all = given;
    std::sort(all.begin(), all.end());
    std::sort(values.begin(), values.end());
    EXPECT_EQ(values, all);
}

TEST(Sort, OfNumbersByDigitsLeavesThemAsTheyWereWhenStopped) {
    RandomStream random(3, "sort");
    std::vector<double> values(50000);
    for (double& value : values)
        value = random.below(50) == 0 ? std::nan("") : random.normal();
    const auto given = values;
    const StopsAfterAsked progress(2);
    EXPECT_THROW(sortNumbers(values, progress), Stopped);
    EXPECT_TRUE(std::equal(values.begin(), values.end(), given.begin(),
                           [](double a, double b) { return a == b || (std::isnan(a) && std::isnan(b)); }));
}

TEST(Sort, CountingAColumnStopsInEachKind) {
    const Table table = longTable();
    expectStops([&](const Progress& p) { (void)summarize(table.at("number", {}), {}, p); }, 8);
    expectStops([&](const Progress& p) { (void)summarize(table.at("text", {}), {}, p); }, 30);
    // A stop that never comes changes nothing.
    auto never = neverStops();
    const auto a = summarize(table.at("text", {})), b = summarize(table.at("text", {}), {}, never);
    EXPECT_EQ(a.distinct, b.distinct);
    EXPECT_EQ(a.sameShare, b.sameShare);
}

TEST(Sort, TheLedgerOfLongRowsStopsAmongEqualRowsToo) {
    const Table table = longTable();
    const LedgerInput input{.table = table, .response = "number"};
    expectStops([&](Progress& p) { (void)makeLedger(input, {1}, p); }, 60);
    const std::vector<Part> parts(rows, Part::learning);
    const std::vector<std::uint8_t> used(rows, 1);
    expectStops([&](const Progress& p) { (void)summarizeParts(table, parts, used, "number", p); }, 5);
}

} // namespace sort_test
