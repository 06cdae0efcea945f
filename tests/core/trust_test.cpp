// What a stranger's file is read as: nothing is dropped in silence, codes stay codes, and what is unsure is
// said.
#include "base/text.h"
#include "ledger/ledger.h"
#include "read/gather.h"
#include "read/stack_join.h"
#include "share/ledger_text.h"
#include "support/support.h"
#include "table/values.h"

#include <algorithm>
#include <functional>
#include <random>

using namespace oxgoad;
using namespace oxgoad::test;

namespace trust_test {

RowsRead read(const std::string& text, const TextOptions& options = {}) {
    return readTextBytes(text, "t.csv", options, {2}, quietly());
}

bool doubted(const RowsRead& rows, const std::string& part) {
    return std::any_of(rows.report.doubts.begin(), rows.report.doubts.end(),
                       [&](const ReadDoubt& doubt) { return doubt.said.find(part) != std::string::npos; });
}

std::string doubtsOf(const RowsRead& rows) {
    std::string all;
    for (const ReadDoubt& doubt : rows.report.doubts)
        all += doubt.said + " | ";
    return all;
}

/// A file of one column.
RowsRead column(const std::vector<std::string>& cells, const std::string& name = "v",
                const TextOptions& options = {}) {
    std::string text = "k;" + name + "\n";
    for (std::size_t i = 0; i < cells.size(); ++i)
        text += std::string(1, static_cast<char>('a' + i % 3)) + ";" + cells[i] + "\n";
    TextOptions with = options;
    with.delimiter = ';';
    return read(text, with);
}

std::vector<std::string> times(std::size_t n, const std::function<std::string(std::size_t)>& cell) {
    std::vector<std::string> cells;
    for (std::size_t i = 0; i < n; ++i)
        cells.push_back(cell(i));
    return cells;
}

// Lines
// ---------------------------------------------------------------------------------------------------------

TEST(WiderLines, WithOneCellMoreEachHaveNamesOfRows) {
    const RowsRead rows = read("price,depot\nr1,10,north\nr2,12,south\nr3,11.5,north\n");
    ASSERT_EQ(rows.table.columns().size(), 3U);
    EXPECT_EQ(rows.table.columns()[0].name(), "row");
    EXPECT_EQ(rows.table.at("price", {}).numbers()[1], 12);
    EXPECT_EQ(rows.table.at("depot", {}).cellText(2), "north");
    EXPECT_EQ(rows.report.faultCount, 0U);
    EXPECT_TRUE(doubted(rows, "one cell more than the header")) << doubtsOf(rows);
}

TEST(WiderLines, OtherwiseMakeColumns) {
    std::string text = "a,b\n";
    for (int i = 0; i < 40; ++i)
        text += std::to_string(i) + "," + std::to_string(2 * i) + (i % 2 ? ",3" : ",4,5,6") + "\n";
    const RowsRead rows = read(text);
    ASSERT_EQ(rows.table.columns().size(), 5U);
    EXPECT_EQ(rows.table.at("a", {}).numbers()[3], 3);
    EXPECT_EQ(rows.table.at("column_5", {}).numbers()[0], 6);
    EXPECT_TRUE(rows.table.at("column_5", {}).isMissing(1));
    EXPECT_EQ(rows.report.faultCount, 0U);
    EXPECT_TRUE(doubted(rows, "3 columns were added")) << doubtsOf(rows);
}

TEST(WiderLines, SingleOnesAreFaultsWithLineAndText) {
    std::string text = "a,b\n";
    for (int i = 0; i < 40; ++i)
        text += std::to_string(i) + "," + std::to_string(2 * i) + (i == 7 ? ",Smith" : "") + "\n";
    const RowsRead rows = read(text);
    ASSERT_EQ(rows.table.columns().size(), 2U);
    ASSERT_EQ(rows.report.faults.size(), 1U);
    EXPECT_EQ(rows.report.faults[0].line, 9U);
    EXPECT_EQ(rows.report.faults[0].text, "Smith");
    EXPECT_NE(rows.report.faultsText().find("1 line of another length"), std::string::npos)
        << rows.report.faultsText();
}

TEST(WiderLines, ThatEndWithADelimiterHaveNothingMore) {
    const RowsRead rows = read("a,b\n1,2,\n3,4,\n5,6,\n");
    EXPECT_EQ(rows.table.columns().size(), 2U);
    EXPECT_EQ(rows.report.faultCount, 0U);
    EXPECT_EQ(rows.table.at("b", {}).numbers()[2], 6);
}

TEST(FirstLine, OfSizesIsPassedOver) {
    const RowsRead rows = read("4,3,setosa,virginica\n5.1,3.5,0\n4.9,3.0,1\n6.2,2.9,1\n5.0,3.1,0\n");
    EXPECT_EQ(rows.table.rows(), 4U);
    EXPECT_EQ(rows.table.columns().size(), 3U);
    EXPECT_EQ(rows.table.columns()[0].numbers()[0], 5.1);
    EXPECT_TRUE(doubted(rows, "how many rows")) << doubtsOf(rows);
}

TEST(UnitsRow, StandsUnderTheHeaderAndNamesUnits) {
    std::string text = "date;output;temperature\n;t/h;°C\n";
    for (int i = 1; i < 20; ++i)
        text += "2024-01-" + std::string(i < 10 ? "0" : "") + std::to_string(i) + ";22," + std::to_string(i) +
                ";7" + std::to_string(i % 10) + ",1\n";
    const RowsRead rows = read(text);
    EXPECT_EQ(rows.table.rows(), 19U);
    EXPECT_EQ(rows.table.at("output", {}).kind(), ColumnKind::number) << doubtsOf(rows);
    ASSERT_EQ(rows.report.units.size(), 2U);
    EXPECT_EQ(rows.report.units[1], (std::pair<std::string, std::string>("temperature", "°C")));
    EXPECT_TRUE(doubted(rows, "taken as units"));
    // A row of text over texts is a row.
    EXPECT_EQ(read("name,city\nAnn,Oslo\nBob,Bergen\nCid,Narvik\nDora,Oslo\n").table.rows(), 4U);
}

TEST(Quotes, ThatAreApostrophesGoAway) {
    const RowsRead rows = read("'name','cost'\n'Ann, A.','12'\n'Bob','13.5'\n");
    EXPECT_EQ(rows.table.columns().size(), 2U);
    EXPECT_EQ(rows.table.at("name", {}).cellText(0), "Ann, A.");
    EXPECT_EQ(rows.table.at("cost", {}).numbers()[1], 13.5);
}

// Codes and units
// ---------------------------------------------------------------------------------------------------------

TEST(Codes, AreNotMoney) {
    for (const char* prefix : {"INV-", "SKU-", "ABC", "KLM ", "USD-", "EUR 00"}) {
        const RowsRead rows =
            column(times(30, [&](std::size_t i) { return prefix + std::to_string(1001 + i); }));
        EXPECT_NE(rows.table.at("v", {}).kind(), ColumnKind::number) << prefix;
        EXPECT_EQ(rows.table.at("v", {}).cellText(3), prefix + std::string("1004"));
    }
}

TEST(Units, OfNearlyAllCellsBecomeTheColumns) {
    struct Case {
        const char* before;
        const char* behind;
        const char* unit;
    };
    for (const Case& c : {Case{"", " kg", "kg"}, Case{"", " mi", "mi"}, Case{"USD ", "", "USD"},
                          Case{"", " EUR", "EUR"}, Case{"", " L", "L"}, Case{"", "°C", "°C"}}) {
        const RowsRead rows = column(
            times(30, [&](std::size_t i) { return c.before + std::to_string(1200 + 7 * i) + c.behind; }));
        const Column& v = rows.table.at("v", {});
        ASSERT_EQ(v.kind(), ColumnKind::number) << c.unit << ": " << doubtsOf(rows);
        EXPECT_EQ(v.numbers()[2], 1214);
        ASSERT_EQ(rows.report.units.size(), 1U) << c.unit;
        EXPECT_EQ(rows.report.units[0].second, c.unit);
    }
    const RowsRead sizes = column({"2.3M", "850k", "1.2M", "0.6M", "2M", "3.4M", "1M", "4.1M", "900k", "7M"});
    EXPECT_EQ(sizes.table.at("v", {}).numbers()[0], 2300000);
    EXPECT_EQ(sizes.table.at("v", {}).numbers()[1], 850000);
    EXPECT_TRUE(doubted(sizes, "million")) << doubtsOf(sizes);
}

TEST(Units, ThatDifferAreLeftAsTextsAndOffered) {
    const auto cells =
        times(40, [](std::size_t i) { return std::to_string(60 + i) + (i % 3 ? " kg" : " lb"); });
    const RowsRead rows = column(cells);
    EXPECT_NE(rows.table.at("v", {}).kind(), ColumnKind::number);
    EXPECT_TRUE(doubted(rows, "different texts")) << doubtsOf(rows);
    // Two currencies too.
    EXPECT_NE(
        column(times(40, [](std::size_t i) { return (i % 2 ? "EUR " : "USD ") + std::to_string(60 + i); }))
            .table.at("v", {})
            .kind(),
        ColumnKind::number);
    TextOptions asked;
    asked.kinds["v"] = ColumnKind::number;
    const RowsRead forced = column(cells, "v", asked);
    EXPECT_EQ(forced.table.at("v", {}).numbers()[1], 61);
    EXPECT_TRUE(forced.table.at("v", {}).isMissing(0)); // pounds are no kilograms
    EXPECT_EQ(forced.report.faultCount, 14U);
}

TEST(Numbers, WithTheirSignBehindAreBelowZero) {
    const RowsRead rows = column({"120.50-", "80.00", "1,200.00-", "3.5"});
    EXPECT_EQ(rows.table.at("v", {}).numbers()[0], -120.5);
    EXPECT_EQ(rows.table.at("v", {}).numbers()[2], -1200);
    EXPECT_FALSE(parseDressedNumber("-5-", {}));
    EXPECT_FALSE(parseDressedNumber("-", {}));
}

TEST(Numbers, WithAndWithoutPercentAreDoubted) {
    auto cells = times(20, [](std::size_t i) { return std::to_string(10 + i) + " %"; });
    cells[4] = "0.12";
    EXPECT_TRUE(doubted(column(cells), "percent sign")) << doubtsOf(column(cells));
    cells[4] = "12 %";
    EXPECT_FALSE(doubted(column(cells), "percent sign"));
}

TEST(Numbers, WithAPointInAFileOfSemicolonsAreDoubtedWithBothReadings) {
    const RowsRead rows = read("a;b\nx;1.234\ny;2.500\nz;9.120\n");
    EXPECT_EQ(rows.table.at("b", {}).numbers()[0], 1.234);
    EXPECT_TRUE(doubted(rows, "1.234") && doubted(rows, "1234")) << doubtsOf(rows);
    // Decimal commas elsewhere decide it.
    const RowsRead sure = read("a;b;c\nx;1.234;1,5\ny;2.500;2,25\nz;9.120;3,75\n");
    EXPECT_EQ(sure.table.at("b", {}).numbers()[0], 1234);
    EXPECT_EQ(sure.table.at("c", {}).numbers()[1], 2.25);
    EXPECT_TRUE(sure.report.doubts.empty()) << doubtsOf(sure);
}

TEST(NearlyNumbers, SayWhatKeepsThemFromBeingSome) {
    auto cells = times(40, [](std::size_t i) { return std::to_string(100 + i); });
    for (std::size_t i = 0; i < 6; ++i)
        cells[5 * i] = i < 4 ? "--" : "see note";
    const RowsRead rows = column(cells, "Turnover");
    EXPECT_EQ(rows.table.at("Turnover", {}).kind(), ColumnKind::text);
    EXPECT_TRUE(doubted(rows, "\"--\" (4), \"see note\" (2)")) << doubtsOf(rows);
    const ReadDoubt& doubt = *std::find_if(rows.report.doubts.begin(), rows.report.doubts.end(),
                                           [](const ReadDoubt& d) { return !d.column.empty(); });
    TextOptions asked;
    asked.kinds[doubt.column] = doubt.as;
    const RowsRead again = column(cells, "Turnover", asked);
    EXPECT_EQ(again.table.at("Turnover", {}).missingCount(), 6U);
    EXPECT_EQ(again.report.faultCount, 6U);
}

// Dates
// ---------------------------------------------------------------------------------------------------------

TEST(Dates, AreReadAsPeopleWriteThem) {
    const auto day = [](const char* text, DateOrder order) { return parseDate(text, order); };
    const auto iso = [](const char* text) { return parseDate(text).value(); };
    EXPECT_EQ(day("1/15/22", DateOrder::monthFirst), iso("2022-01-15"));
    EXPECT_EQ(day("15/1/22", DateOrder::dayFirst), iso("2022-01-15"));
    EXPECT_EQ(day("15.01.22", DateOrder::dayFirst), iso("2022-01-15"));
    EXPECT_EQ(day("01-Jan-22", DateOrder::dayFirst), iso("2022-01-01"));
    EXPECT_EQ(day("01-Jan-85", DateOrder::dayFirst), iso("1985-01-01"));
    EXPECT_EQ(day("Jan-22", DateOrder::dayFirst), iso("2022-01-01"));
    EXPECT_EQ(day("2022Q1", DateOrder::dayFirst), iso("2022-01-01"));
    EXPECT_EQ(day("2022-Q3", DateOrder::dayFirst), iso("2022-07-01"));
    EXPECT_EQ(day("Q4 2022", DateOrder::dayFirst), iso("2022-10-01"));
    EXPECT_EQ(day("2022Q5", DateOrder::dayFirst), std::nullopt);
    // ISO 8601: the week of the first Thursday is the first.
    EXPECT_EQ(day("2022-W07", DateOrder::dayFirst), iso("2022-02-14"));
    EXPECT_EQ(day("2020-W53", DateOrder::dayFirst), iso("2020-12-28"));
    EXPECT_EQ(day("2021-W53", DateOrder::dayFirst), std::nullopt);
    EXPECT_EQ(day("2021W01", DateOrder::dayFirst), iso("2021-01-04"));
    EXPECT_EQ(day("1.2.10", DateOrder::dayFirst), std::nullopt); // a version
    EXPECT_EQ(day("1-2-10", DateOrder::dayFirst), std::nullopt);
    EXPECT_EQ(day("13/13/22", DateOrder::dayFirst), std::nullopt);
    EXPECT_EQ(parseCompactDate("20220131"), iso("2022-01-31"));
    EXPECT_EQ(parseCompactDate("20220231"), std::nullopt);
    EXPECT_EQ(parseSerialDate("44562"), iso("2022-01-01")); // as workbooks show it
    EXPECT_TRUE(namesDate("orderDate") && namesDate("Order date") && namesDate("DATE") &&
                namesDate("ship_day"));
    EXPECT_FALSE(namesDate("update") || namesDate("holidays") || namesDate("candidate"));
}

TEST(Dates, OfEveryFormMakeColumnsOfDates) {
    const auto kindOf = [](const std::vector<std::string>& cells, const std::string& name = "v") {
        return column(cells, name).table.at(name, {}).kind();
    };
    EXPECT_EQ(kindOf({"1/15/22", "2/28/22", "3/3/22", "12/31/21"}), ColumnKind::date);
    EXPECT_EQ(kindOf({"01-Jan-22", "08-Feb-22", "15-Mar-22"}), ColumnKind::date);
    EXPECT_EQ(kindOf({"2022Q1", "2022Q2", "2022Q3", "2022Q4"}), ColumnKind::date);
    EXPECT_EQ(kindOf({"2022-W07", "2022-W08", "2022-W09"}), ColumnKind::date);
    EXPECT_EQ(kindOf({"20220101", "20220102", "20220131"}), ColumnKind::date);
    EXPECT_EQ(kindOf({"20220101", "20220102", "20220199"}), ColumnKind::number); // not all are days
    EXPECT_EQ(kindOf({"44562", "44563", "44570"}, "Date"), ColumnKind::date);
    EXPECT_EQ(kindOf({"44562", "44563", "44570"}, "Sales"), ColumnKind::number);
    EXPECT_TRUE(doubted(column({"44562", "44563", "44570"}, "Date"), "days a workbook counts"));
    TextOptions asked;
    asked.kinds["v"] = ColumnKind::date;
    EXPECT_EQ(column({"44562", "44563", "44570"}, "v", asked).table.at("v", {}).cellText(0), "2022-01-01");
    asked.kinds["v"] = ColumnKind::number;
    EXPECT_EQ(column({"20220101", "20220102", "20220131"}, "v", asked).table.at("v", {}).numbers()[2],
              20220131);
}

TEST(Moments, KeepTheTimeOfDay) {
    const RowsRead rows =
        column({"2025-03-01 12:30", "2025-03-01 06:00:30", "2025-03-02 00:00", "2025-03-02T23:59:59.5Z"});
    const Column& v = rows.table.at("v", {});
    ASSERT_TRUE(v.moments()) << kindName(v.kind());
    EXPECT_EQ(v.cellText(0), "2025-03-01 12:30");
    EXPECT_EQ(v.cellText(1), "2025-03-01 06:00:30");
    EXPECT_EQ(v.cellText(2), "2025-03-02 00:00");
    EXPECT_EQ(v.cellText(3), "2025-03-02 23:59:59.500");
    EXPECT_LT(v.numbers()[1], v.numbers()[0]);
    EXPECT_EQ(parseMoment("3/1/2025 2:30 PM", DateOrder::monthFirst), *parseDate("2025-03-01") + 14.5 / 24);
    EXPECT_EQ(parseMoment("3/1/2025 12:00 AM", DateOrder::monthFirst), *parseDate("2025-03-01"));
    EXPECT_FALSE(parseMoment("2025-03-01", DateOrder::monthFirst));
    // Midnights alone are days.
    EXPECT_EQ(column({"2025-03-01 00:00", "2025-03-02 00:00", "2025-03-05 00:00"}).table.at("v", {}).kind(),
              ColumnKind::date);
    // A time late in a long file is found too.
    auto cells =
        times(3000, [](std::size_t i) { return dateText(static_cast<std::int32_t>(19000 + i)) + " 00:00"; });
    cells[2900] = "2030-01-01 17:00";
    EXPECT_TRUE(column(cells).table.at("v", {}).moments());
}

TEST(Moments, ComeAndGoWithProjectsAndSteps) {
    StudyRows rows;
    rows.learning = column({"2025-03-01 12:30", "2025-03-01 06:00", "2025-03-02 18:00"}, "at");
    Recipe recipe;
    recipe.steps.push_back(
        {"parts of date",
         true,
         {{"column", std::string("at")}, {"month", false}, {"hour", true}, {"weekday", true}}});
    recipe.steps.push_back(
        {"derive", true, {{"name", std::string("later")}, {"expression", std::string("at + 1")}}});
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    ASSERT_TRUE(prepared->steps[0].problem.empty()) << prepared->steps[0].problem;
    EXPECT_EQ(prepared->table.at("at hour", {}).numbers()[2], 18);
    EXPECT_EQ(prepared->table.at("at weekday", {}).cellText(0), "Saturday");
    EXPECT_NE(ledgerText(recipe, rows, *prepared).find("date and time"), std::string::npos);
}

TEST(Moments, CanBeAskedForByName) {
    // Dates alone are dates, and dates with times where they are asked for: rows to forecast that have no
    // times are the same sort of column as the rows learned from.
    const TextOptions asked{.kinds = {{"v", AskedKind::ofMoments()}}};
    const Column v = column({"2025-03-01", "2025-03-02", "2025-03-05"}, "v", asked).table.at("v", {});
    ASSERT_TRUE(v.moments());
    EXPECT_EQ(v.cellText(1), "2025-03-02 00:00");
    const RowsRead odd = column({"2025-03-01 10:00", "soon"}, "v", asked);
    EXPECT_EQ(odd.table.at("v", {}).missingCount(), 1U);
    ASSERT_EQ(odd.report.faults.size(), 1U);
    EXPECT_EQ(odd.report.faults[0].reason, "is not a date and time");
    Recipe recipe = parseRecipe(
        R"({"recipe": 1, "rows": {"file": "a.csv", "kinds": {"at": "date and time"}}, "response": "y",
            "terms": []})",
        "r");
    EXPECT_EQ(recipe.rows.text.kinds.at("at"), AskedKind::ofMoments());
    EXPECT_EQ(parseRecipe(recipeText(recipe), "r"), recipe);
    // A text becomes one by a step, and one becomes a date or a plain number.
    StudyRows rows;
    rows.learning =
        column({"2025-03-01 12:00", "2025-03-01", "later"}, "at", {.kinds = {{"at", ColumnKind::factor}}});
    for (const char* to : {"date and time", "number", "date", "date and time"})
        recipe.steps.push_back(
            {"change type", true, {{"columns", std::vector<std::string>{"at"}}, {"to", std::string(to)}}});
    const auto after = [&](std::size_t steps) {
        Recipe some = recipe;
        some.steps.resize(steps);
        const auto prepared = prepareRows(some, rows, {}, quietly());
        EXPECT_TRUE(prepared->steps.back().problem.empty()) << prepared->steps.back().problem;
        return prepared->table.at("at", {});
    };
    EXPECT_EQ(after(1).cellText(0), "2025-03-01 12:00");
    EXPECT_EQ(after(1).cellText(1), "2025-03-01 00:00");
    EXPECT_TRUE(after(1).isMissing(2));
    EXPECT_FALSE(after(2).moments());
    EXPECT_EQ(after(2).numbers()[0], *parseDate("2025-03-01") + 0.5);
    recipe.steps.erase(recipe.steps.begin() + 1); // a date of a date and time, and back
    EXPECT_EQ(after(2).cellText(0), "2025-03-01");
    EXPECT_EQ(after(3).cellText(0), "2025-03-01 00:00");
}

TEST(Moments, StayThroughStacksAndGathering) {
    const auto part = [](const std::string& text, const char* name) { return StackedRows{name, read(text)}; };
    std::vector<StackedRows> parts{part("at,y\n2025-03-01 10:30,1\n2025-03-02 11:00,2\n", "a.csv"),
                                   part("at,y\n2025-03-03,3\n2025-03-04,\n", "b.csv"),
                                   part("y\n4\n", "c.csv")};
    const Column at = stackRows(parts, "from").table.at("at", {});
    ASSERT_TRUE(at.moments()) << at.kindText();
    EXPECT_EQ(at.cellText(0), "2025-03-01 10:30");
    EXPECT_EQ(at.cellText(2), "2025-03-03 00:00");
    EXPECT_TRUE(at.isMissing(4));
    parts.push_back(part("at,y\n5,1\n6,2\n", "d.csv"));
    const RowsRead mixed = stackRows(parts, "from");
    EXPECT_EQ(mixed.table.at("at", {}).kind(), ColumnKind::factor);
    EXPECT_EQ(std::count_if(mixed.report.notes.begin(), mixed.report.notes.end(),
                            [](const std::string& note) {
                                return note.find("at is a date and time in one source and a") !=
                                       std::string::npos;
                            }),
              1);
    const RowsRead wide =
        read("shop,seen,open,close\nn,2025-03-01 07:30,2025-03-01 08:00,2025-03-01 18:30\ns,2025-03-01 "
             "07:45,2025-03-02 09:00,2025-03-02 17:15\n");
    GatherPlan plan;
    plan.columns = {"open", "close"};
    plan.names = "what";
    plan.values = "at";
    const RowsRead rows = gatherRows(wide, plan, {}, quietly());
    EXPECT_TRUE(rows.table.at("at", {}).moments());
    EXPECT_EQ(rows.table.at("at", {}).cellText(1), "2025-03-01 18:30");
    EXPECT_EQ(rows.table.at("seen", {}).cellText(3), "2025-03-01 07:45");
}

TEST(Expressions, ReadDatesInAnOrder) {
    StudyRows rows;
    rows.learning =
        column({"01/02/2022", "13/02/2022", "03/04/2022"}, "d", {.kinds = {{"d", ColumnKind::text}}});
    Recipe recipe;
    recipe.steps.push_back(
        {"derive",
         true,
         {{"name", std::string("day")}, {"expression", std::string("date(d, \"day month year\")")}}});
    recipe.steps.push_back(
        {"derive",
         true,
         {{"name", std::string("m")}, {"expression", std::string("month(date(d, \"month day year\"))")}}});
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    ASSERT_TRUE(prepared->steps[0].problem.empty()) << prepared->steps[0].problem;
    ASSERT_TRUE(prepared->steps[1].problem.empty()) << prepared->steps[1].problem;
    EXPECT_EQ(prepared->table.at("day", {}).cellText(2), "2022-04-03");
    EXPECT_EQ(prepared->table.at("m", {}).numbers()[2], 3);
    EXPECT_TRUE(std::isnan(prepared->table.at("m", {}).numbers()[1])); // there is no month 13
}

TEST(Lags, GoByQuarters) {
    StudyRows rows;
    rows.learning = read("when,sold\n2021Q1,10\n2021Q2,12\n2021Q3,14\n2021Q4,9\n2022Q1,11\n2022Q2,13\n");
    Recipe recipe;
    recipe.steps.push_back({"lag",
                            true,
                            {{"column", std::string("sold")},
                             {"time", std::string("when")},
                             {"unit", std::string("quarter")},
                             {"back", 4.0}}});
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    ASSERT_TRUE(prepared->steps[0].problem.empty()) << prepared->steps[0].problem;
    const auto before = prepared->table.at("sold 4 before", {}).numbers();
    EXPECT_TRUE(std::isnan(before[3]));
    EXPECT_EQ(before[4], 10);
    EXPECT_EQ(before[5], 12);
}

// Ledger
// ---------------------------------------------------------------------------------------------------------

TEST(Totals, AreOfferedToBeLeftOut) {
    const auto goadOf = [](const std::string& text) {
        const RowsRead rows = read(text);
        const Ledger ledger = makeLedger({.table = rows.table, .used = {}, .response = {}}, {}, quietly());
        for (const Goad& goad : ledger.table)
            if (goad.key == "rows of totals") return goad.reading;
        return std::string();
    };
    std::string rows = "month,cost,sold\n";
    double cost = 0, sold = 0;
    for (int i = 0; i < 24; ++i) {
        rows += "m" + std::to_string(i) + "," + std::to_string(10 + i * i % 17) + "," +
                std::to_string(5 + i % 7) + "\n";
        cost += 10 + i * i % 17;
        sold += 5 + i % 7;
    }
    EXPECT_EQ(goadOf(rows), "");
    for (const char* word : {"Total", "TOTAL", "Grand Total", "Summe", "Total général", "Итого", "合計"})
        EXPECT_NE(goadOf(rows + word + ",1,1\n"), "") << word;
    EXPECT_EQ(goadOf(rows + "Totally new,1,1\n"), "");
    EXPECT_NE(goadOf(rows + "," + exactText(cost) + "," + exactText(sold) + "\n"), "");
    EXPECT_EQ(goadOf(rows + "," + exactText(cost + 3) + "," + exactText(sold) + "\n"), "");
}

TEST(Ledgers, TellGoadsOfOneSortTogether) {
    std::string text = "a,b,c,d,e\n";
    for (int i = 0; i < 60; ++i)
        text += std::to_string(i * i % 37) + (i % 9 ? ",1" + std::to_string(i % 8) : ",") +
                (i % 7 ? "," + std::to_string(i % 11) : ",") + (i % 8 ? "," + std::to_string(i % 13) : ",") +
                ",x" + std::to_string(i % 5) + "\n";
    const RowsRead rows = read(text);
    const Ledger ledger = makeLedger({.table = rows.table, .used = {}, .response = {}}, {}, quietly());
    std::size_t missing = 0, leads = 0;
    for (const Goad& goad : ledger.goads())
        if (goad.key.starts_with("missing: ")) {
            ++missing;
            leads += goad.under.empty();
            EXPECT_NE(goad.familyTitle.find("b, c, d"), std::string::npos) << goad.familyTitle;
        }
    EXPECT_EQ(missing, 3U);
    EXPECT_EQ(leads, 1U);
}

TEST(Ledgers, TellAllPairsOfAlikeLevelsAtOnce) {
    std::string text = "city,x\n";
    for (int i = 0; i < 90; ++i)
        text += std::string(i % 2 ? "Town " : "TOWN ") + std::to_string(i % 9) + "," + std::to_string(i % 7) +
                "\n";
    const RowsRead rows = read(text);
    const Ledger ledger = makeLedger({.table = rows.table, .used = {}, .response = {}}, {}, quietly());
    const auto goads = ledger.goads();
    const auto alike = std::count_if(goads.begin(), goads.end(),
                                     [](const Goad& g) { return g.key.starts_with("alike levels"); });
    ASSERT_EQ(alike, 1);
    const auto found = std::find_if(goads.begin(), goads.end(),
                                    [](const Goad& g) { return g.key.starts_with("alike levels"); });
    EXPECT_NE(found->title.find("9 sets"), std::string::npos) << found->title;
    Recipe recipe;
    found->moves.back().edit(recipe, {});
    EXPECT_EQ(recipe.steps.size(), 9U);
}

// Exports
// ---------------------------------------------------------------------------------------------------------

/// A file as accounting software writes it, and what its cells are.
struct Export {
    std::string text;
    std::vector<double> amounts;
    std::vector<std::int32_t> days;
};

/// Titles, dates of one form, amounts dressed in one way, a row of totals, repeated by seed.
Export exportOf(unsigned seed) {
    std::mt19937 random(seed);
    const auto draw = [&](unsigned below) { return static_cast<unsigned>(random() % below); };
    const char delimiter = ",;\t"[draw(3)];
    const bool comma = delimiter != ',' && draw(2) == 1;
    Export e;
    if (draw(2)) e.text += "Fjordline Storage AS\nLedger by day\n\n";
    e.text += std::string("Posted") + delimiter + "Account" + delimiter + "Amount" + delimiter + "Depot\n";
    const unsigned dress = draw(5), form = draw(5);
    for (unsigned i = 0; i < 60; ++i) {
        const std::int32_t day = 19000 + static_cast<std::int32_t>(3 * i + draw(3));
        double amount = (1000 + draw(900000)) / 100.0;
        const bool below = dress != 3 && draw(4) == 0;
        const std::string date = dateText(day);
        const std::string y = date.substr(0, 4), m = date.substr(5, 2), d = date.substr(8, 2);
        static constexpr std::array months{"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                           "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
        const std::string named = months[static_cast<std::size_t>(std::stoi(m) - 1)];
        const std::string when = form == 0   ? date
                                 : form == 1 ? d + "." + m + "." + y
                                 : form == 2 ? d + "-" + named + "-" + y.substr(2)
                                 : form == 3 ? y + m + d
                                             : date + "T00:00:00";
        std::string digits = exactText(std::round(100 * amount)); // cents
        digits = digits.substr(0, digits.size() - 2) + (comma ? "," : ".") + digits.substr(digits.size() - 2);
        amount = std::round(100 * amount) / 100;
        std::string cell = dress == 0   ? (below ? "-" : "") + digits
                           : dress == 1 ? digits + (below ? "-" : "")
                           : dress == 2 ? (below ? "(" + digits + ")" : digits)
                           : dress == 3 ? "EUR " + digits
                                        : (below ? "-" : "") + digits + " €";
        if (cell.find(delimiter) != std::string::npos) cell = "\"" + cell + "\"";
        e.text += when + delimiter + "INV-" + std::to_string(1000 + i) + delimiter + cell + delimiter +
                  (i % 2 ? "Bergen" : "Oslo") + "\n";
        e.amounts.push_back(below ? -amount : amount);
        e.days.push_back(day);
    }
    return e;
}

TEST(Exports, OfAccountingSoftwareAreReadRight) {
    for (unsigned seed = 1; seed <= 40; ++seed) {
        const Export e = exportOf(seed);
        const RowsRead rows = read(e.text);
        SCOPED_TRACE(e.text.substr(0, 200) + doubtsOf(rows));
        ASSERT_EQ(rows.table.rows(), 60U);
        EXPECT_EQ(rows.report.faultCount, 0U);
        const Column& posted = rows.table.at("Posted", {});
        ASSERT_EQ(posted.kind(), ColumnKind::date);
        EXPECT_TRUE(std::equal(e.days.begin(), e.days.end(), posted.days().begin()));
        const Column& amount = rows.table.at("Amount", {});
        ASSERT_EQ(amount.kind(), ColumnKind::number);
        for (std::size_t i = 0; i < 60; ++i)
            ASSERT_EQ(amount.numbers()[i], e.amounts[i]) << i;
        EXPECT_EQ(rows.table.at("Account", {}).cellText(5), "INV-1005");
    }
}

} // namespace trust_test
