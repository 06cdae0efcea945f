// Tables as people write them: every file is made here or lies in tests/cases, and what each cell holds is
// known from how it was made.
#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "read/gather.h"
#include "read/source.h"
#include "read/text_format.h"
#include "read/workbook.h"
#include "recipe/recipe.h"
#include "support/support.h"

#include <xlsxwriter.h>
#include <zip.h>

#include <cstdlib>

using namespace oxgoad;
using namespace oxgoad::test;

namespace reading_test {

const std::filesystem::path cases = OXGOAD_CASES;

RowsRead caseRows(const std::string& path) {
    RowsSource source;
    source.file = path;
    source.kind = kindOfFile(cases / path);
    return readSource(source, cases, {}, {}, quietly());
}

RowsRead rowsOf(const std::string& text, const TextOptions& options = {}) {
    return readTextBytes(text, "t.csv", options, {}, quietly());
}

std::string cell(const RowsRead& rows, const std::string& column, std::size_t row) {
    return rows.table.at(column, "").cellText(row - 1);
}

/// Names and kinds, as "region:factor code:number".
std::string shape(const RowsRead& rows) {
    std::string text;
    for (const Column& column : rows.table.columns())
        text += (text.empty() ? "" : " ") + column.name() + ":" + std::string(kindName(column.kind()));
    return text;
}

bool doubted(const RowsRead& rows, const std::string& words) {
    return std::any_of(rows.report.doubts.begin(), rows.report.doubts.end(),
                       [&](const ReadDoubt& d) { return d.said.find(words) != std::string::npos; });
}

bool noted(const RowsRead& rows, const std::string& words) {
    return std::any_of(rows.report.notes.begin(), rows.report.notes.end(),
                       [&](const std::string& note) { return note.find(words) != std::string::npos; });
}

RowsRead gathered(const std::string& text, const GatherPlan& plan,
                  const std::map<std::string, AskedKind>& kinds = {}) {
    return gatherRows(rowsOf(text), plan, kinds, quietly());
}

std::string refusalOf(ErrorCode code, const std::function<void()>& call) {
    try {
        call();
    } catch (const Error& error) {
        EXPECT_EQ(error.code(), code) << error.what();
        return error.what();
    }
    ADD_FAILURE() << "nothing was refused";
    return {};
}

// Cases
// ---------------------------------------------------------------------------------------------------------

TEST(ReadingCase, HeaderWithNumbers) {
    const auto codes = caseRows("header_with_numbers/a.csv");
    EXPECT_EQ(shape(codes), "region:factor code:number 2020:number");
    EXPECT_EQ(codes.table.rows(), 4u);
    const auto dates = caseRows("header_with_numbers/dates.csv");
    EXPECT_EQ(shape(dates), "id:number 2020-01-01:number 2020-02-01:number");
    EXPECT_EQ(dates.table.rows(), 3u);
}

TEST(ReadingCase, SemicolonRaggedReadAsComma) {
    const auto a = caseRows("semicolon_ragged_read_as_comma/a.csv");
    EXPECT_EQ(a.report.format.delimiter, ';');
    EXPECT_EQ(shape(a), "y:number a:number b:number c:number");
    EXPECT_EQ(cell(a, "y", 2), "1.5");
    EXPECT_EQ(cell(a, "c", 1), ""); // a short line: missing there, and counted
    EXPECT_GT(a.report.faultCount, 0u);
    const auto b = caseRows("semicolon_ragged_read_as_comma/b.csv");
    EXPECT_EQ(shape(b), "y:number a:number b:number");
    EXPECT_EQ(cell(b, "a", 3), "4.75");
    EXPECT_EQ(b.report.faultCount, 1u);
}

TEST(ReadingCase, CommaDelimiterQuotedDecimalComma) {
    const auto rows = caseRows("comma_delimiter_quoted_decimal_comma/a.csv");
    EXPECT_EQ(shape(rows), "y:number a:number");
    EXPECT_EQ(cell(rows, "a", 1), "2.25");
    EXPECT_EQ(rows.report.format.decimalMark, ',');
}

TEST(ReadingCase, DateYmdWithPoints) {
    const auto rows = caseRows("date_ymd_with_points/a.csv");
    EXPECT_EQ(shape(rows), "y:number d:date");
    EXPECT_EQ(cell(rows, "d", 1), "2019-05-27");
    TextOptions asked;
    asked.kinds["d"] = ColumnKind::date;
    asked.dateOrder = DateOrder::yearFirst;
    const auto byKind = readText(cases / "date_ymd_with_points/a.csv", asked, {}, quietly());
    EXPECT_EQ(cell(byKind, "d", 4), "2019-07-01");
    EXPECT_EQ(byKind.report.faultCount, 0u);
}

TEST(ReadingCase, OdsErrorCellsTimesAndHiddenSheets) {
    const auto rows = caseRows("ods_error_cells/a.ods");
    EXPECT_EQ(rows.table.at("e", "").kind(), ColumnKind::number);
    EXPECT_EQ(cell(rows, "e", 3), "");
    EXPECT_GE(rows.report.faultCount, 1u);
    EXPECT_EQ(rows.report.faults[0].text, "#DIV/0!");
    EXPECT_EQ(rows.table.at("t", "").kind(), ColumnKind::number);
    EXPECT_DOUBLE_EQ(rows.table.at("t", "").numbers()[1], 1.5 / 24); // the share of a day, as in .xlsx
    const auto hidden = caseRows("ods_hidden_sheet/a.ods");
    EXPECT_EQ(shape(hidden), "y:number a:number");
    const auto sheets = sheetsOf(cases / "ods_hidden_sheet/a.ods", quietly());
    ASSERT_EQ(sheets.size(), 2u);
    EXPECT_TRUE(sheets[0].hidden);
    EXPECT_FALSE(sheets[1].hidden);
    EXPECT_EQ(shape(readWorkbook(cases / "ods_hidden_sheet/a.ods", {"H", "", 0}, {}, quietly())),
              "secret:number");
}

// Headers, lines above them, delimiters, marks
// --------------------------------------------------------------------

TEST(Header, OfYearsOverNumbersIsOne) {
    const auto rows = rowsOf(
        "Country Name,Country Code,1960,1961,1962\nArvia,ARV,54208,55434,56234\nBelmor,BEL,8622,9011,9214\n");
    EXPECT_EQ(shape(rows), "Country Name:factor Country Code:factor 1960:number 1961:number 1962:number");
    // Values that could be years themselves: years that count up by one are names all the same.
    EXPECT_TRUE(rowsOf("site,1990,1991,1992\nA,1200,1300,1250\nB,1100,1900,2011\n").report.format.header);
    EXPECT_FALSE(rowsOf("2019,100\n2020,105\n2021,120\n").report.format.header);
    EXPECT_FALSE(rowsOf("1,2,3\n2,3,4\n").report.format.header);
    EXPECT_FALSE(rowsOf("2025-01-01,5\n2025-02-01,6\n").report.format.header);
    EXPECT_TRUE(rowsOf("day,5\n2025-01-01,a\n2025-02-01,b\n").report.format.header);
    EXPECT_TRUE(rowsOf("name,town\nAnn,Vell\nBo,Umber\n").report.format.header);
}

TEST(Header, ThatIsDoubtfulIsSaid) {
    const auto torn = rowsOf("region,7\nN,1\nS,2\n"); // a number over numbers, a text over texts
    EXPECT_TRUE(doubted(torn, "first line") || !torn.report.format.header);
    const auto levels = rowsOf("north,low\nsouth,high\nnorth,low\nsouth,high\n");
    EXPECT_FALSE(levels.report.format.header) << "both texts come again below";
    TextOptions said;
    said.header = true;
    EXPECT_TRUE(rowsOf("north,low\nsouth,high\nnorth,low\n", said).report.doubts.empty());
}

TEST(Header, OfWorkbooksGoesByTheSameRule) {
    const TemporaryFolder folder;
    const std::string path = folder.file("w.xlsx").string();
    lxw_workbook* book = workbook_new(path.c_str());
    lxw_worksheet* sheet = workbook_add_worksheet(book, nullptr);
    worksheet_write_string(sheet, 0, 0, "Costs of all depots", nullptr);
    worksheet_write_string(sheet, 2, 0, "depot", nullptr);
    for (int y = 0; y < 4; ++y)
        worksheet_write_number(sheet, 2, static_cast<lxw_col_t>(y + 1), 2020 + y, nullptr);
    for (int r = 0; r < 6; ++r) {
        worksheet_write_string(sheet, static_cast<lxw_row_t>(3 + r), 0, ("D" + std::to_string(r)).c_str(),
                               nullptr);
        for (int y = 0; y < 4; ++y)
            worksheet_write_number(sheet, static_cast<lxw_row_t>(3 + r), static_cast<lxw_col_t>(y + 1),
                                   100.5 * r + y, nullptr);
    }
    ASSERT_EQ(workbook_close(book), LXW_NO_ERROR);
    const auto rows = readWorkbook(path, {}, {}, quietly());
    EXPECT_EQ(shape(rows), "depot:factor 2020:number 2021:number 2022:number 2023:number");
    EXPECT_EQ(rows.table.rows(), 6u);
    EXPECT_TRUE(doubted(rows, "Costs of all depots"));
    TextOptions none;
    none.skipLines = 0;
    EXPECT_NE(shape(readWorkbook(path, {}, none, quietly())), shape(rows));
}

TEST(LinesAbove, RemarksTitlesAndSaidDelimitersArePassedOver) {
    const auto remarks = rowsOf("# made by hand\n# units: kg\nsite,kg\nA,1\nB,2\n");
    EXPECT_EQ(shape(remarks), "site:factor kg:number");
    EXPECT_TRUE(noted(remarks, "2 lines above the header were passed over"));
    const auto headed = rowsOf("# site,kg\nA,1\nB,2\n");
    EXPECT_EQ(shape(headed), "# site:factor kg:number") << "a header behind a mark is no remark";
    const auto titles = rowsOf("Costs 2024;;\nall depots;;\nsite;kg;eur\nA;1,5;2\nB;2,5;3\n");
    EXPECT_EQ(shape(titles), "site:factor kg:number eur:number");
    EXPECT_TRUE(doubted(titles, "Costs 2024"));
    EXPECT_EQ(titles.report.format.skipLines, 2u);
    const auto narrow = rowsOf("Costs of 2024\n\nsite,kg,eur\nA,1,2\nB,x,3\n");
    EXPECT_EQ(shape(narrow), "site:factor kg:factor eur:number");
    EXPECT_EQ(narrow.report.format.skipLines, 2u);
    const auto parted = rowsOf("Costs of 2024, EUR\n\nsite,a,b,c,d\nA,1,2,3,4\nB,5,6,7,8\n");
    EXPECT_EQ(shape(parted), "site:factor a:number b:number c:number d:number");
    const auto said = rowsOf("sep=|\na|b\n1,5|2\n");
    EXPECT_EQ(said.report.format.delimiter, '|');
    EXPECT_EQ(shape(said), "a:number b:number");
    const auto tab = rowsOf("sep=\t\na\tb\n1\t2\n");
    EXPECT_EQ(tab.report.format.delimiter, '\t');
    // Faults and cells keep the lines of the file.
    const auto fault =
        rowsOf("# remark\n\nTitle\nsite,kg\nA,1\nB,2\nC,3\nD,4\nE,5\nF,6\nG,7\nH,8\nI,9\nJ,x\n");
    ASSERT_EQ(fault.report.faultCount, 1u);
    EXPECT_EQ(fault.report.faults[0].line, 14u);
    // What is said is obeyed: nothing is passed over.
    TextOptions all;
    all.skipLines = 0;
    EXPECT_EQ(rowsOf("# remark\nsite,kg\nA,1\n", all).table.columns()[0].name(), "# remark");
}

TEST(LinesAbove, AFirstRowWithOneNameIsNoTitle) {
    EXPECT_EQ(rowsOf("x,,\n1,2,3\n4,5,6\n").table.columns()[0].name(), "x");
    EXPECT_EQ(rowsOf("x\n1\n2\n").table.rows(), 2u);
    EXPECT_EQ(rowsOf("# only\n# remarks\n").table.rows(), 1u);
}

TEST(Blanks, InRunsPartCells) {
    const auto rows = rowsOf("   y      x   site\n  1.5   20    A\n\n -2.25  3e2   B  \n\t4\t5\tC\n");
    EXPECT_EQ(rows.report.format.delimiter, blankRuns);
    EXPECT_EQ(shape(rows), "y:number x:number site:factor");
    EXPECT_EQ(rows.table.rows(), 3u);
    EXPECT_EQ(cell(rows, "y", 2), "-2.25");
    EXPECT_EQ(cell(rows, "x", 2), "300");
    EXPECT_EQ(cell(rows, "site", 3), "C");
    const auto crlf = rowsOf("y x\r\n1 2\r\n3 4\r\n");
    EXPECT_EQ(shape(crlf), "y:number x:number");
    EXPECT_EQ(crlf.report.faultCount, 0u);
    const auto quoted = rowsOf("site kg\n\"North Vell\" 2\n\"Umber\" 3\n");
    EXPECT_EQ(cell(quoted, "site", 1), "North Vell");
    EXPECT_EQ(rowsOf("y x\n1 2\n3 4\n   ").table.rows(), 2u) << "blanks behind the last line are no row";
    EXPECT_EQ(rowsOf("y x\n1 2\n3 4").table.rows(), 2u);
    TextOptions said;
    said.delimiter = blankRuns;
    EXPECT_EQ(rowsOf("y\n 1 \n 2\n ", said).table.rows(), 2u);
    // Blanks in texts part nothing where another delimiter does, nor in one column.
    EXPECT_EQ(rowsOf("Country Name,2020\nUnited Vales,5\nNew Umber,6\n").report.format.delimiter, ',');
    EXPECT_EQ(rowsOf("stamp\n2025-01-01 12:00\n2025-01-02 13:00\n").table.columns().size(), 1u);
    const auto comma = rowsOf("y x\n1,5 2,5\n2,5 3,5\n");
    EXPECT_EQ(shape(comma), "y:number x:number");
    EXPECT_EQ(cell(comma, "x", 2), "3.5");
}

TEST(Blanks, AMillionCellsAreReadTheSameByAnyNumberOfThreads) {
    std::string text = "a b c\n";
    for (int i = 0; i < 300000; ++i)
        text += (i % 3 == 0 ? "  " : "") + std::to_string(i) + "   " + std::to_string(i * 0.25) + "\tlevel" +
                std::to_string(i % 7) + (i % 5 == 0 ? " \r\n" : "\n");
    const auto one = readTextBytes(text, "t", {}, {1}, quietly());
    const auto many = readTextBytes(text, "t", {}, {7}, quietly());
    ASSERT_EQ(one.table.rows(), 300000u);
    EXPECT_EQ(one.report.faultCount, 0u);
    for (std::size_t row = 0; row < 300000; row += 1013) {
        ASSERT_EQ(one.table.columns()[0].numbers()[row], static_cast<double>(row));
        for (std::size_t c = 0; c < 3; ++c)
            ASSERT_EQ(one.table.columns()[c].cellText(row), many.table.columns()[c].cellText(row));
    }
}

TEST(DecimalMark, IsFoundFromOneNumberWithASpaceForThousands) {
    const auto rows = rowsOf("site;kg\nA;5\nB;6\nC;1 234,5\n");
    EXPECT_EQ(shape(rows), "site:factor kg:number");
    EXPECT_EQ(cell(rows, "kg", 3), "1234.5");
    const auto narrow = rowsOf("site;kg\nA;5\nC;1\u202F234,5\n");
    EXPECT_EQ(cell(narrow, "kg", 2), "1234.5");
    // Quoted thousands in a comma-delimited file are no decimal commas.
    const auto thousands = rowsOf("site,kg\nA,\"1,234\"\nB,\"12,500\"\n");
    EXPECT_EQ(cell(thousands, "kg", 2), "12500");
    EXPECT_EQ(thousands.report.format.decimalMark, '.');
}

// Codes and dates
// -----------------------------------------------------------------------------------------------

TEST(Codes, WithZerosInFrontOrTooManyDigitsStayTexts) {
    const auto rows = rowsOf("zip,id,kg\n00123,12345678901234567,1\n90210,12345678901234568,2\n04500,"
                             "12345678901234569,3\n");
    EXPECT_EQ(shape(rows), "zip:factor id:factor kg:number");
    EXPECT_EQ(cell(rows, "zip", 1), "00123");
    EXPECT_EQ(cell(rows, "id", 2), "12345678901234568");
    ASSERT_EQ(rows.report.doubts.size(), 2u);
    EXPECT_EQ(rows.report.doubts[0].column, "zip");
    TextOptions asked;
    asked.kinds = {{"zip", ColumnKind::number}, {"id", ColumnKind::factor}};
    const auto numbers = rowsOf("zip,id\n00123,12345678901234567\n90210,1\n", asked);
    EXPECT_EQ(cell(numbers, "zip", 1), "123");
    EXPECT_TRUE(numbers.report.doubts.empty());
    EXPECT_EQ(shape(rowsOf("x\n0.5\n0\n00\n0.25\n")), "x:number") << "numbers with decimals are quantities";
    EXPECT_EQ(shape(rowsOf("x\n0\n1\n0\n")), "x:number");
    EXPECT_EQ(shape(rowsOf("x\n9007199254740992\n1\n")), "x:number") << "2^53 is kept whole";
    EXPECT_EQ(shape(rowsOf("x\n9007199254740993\n1\n")), "x:factor");
}

TEST(Codes, BehindTheSampleAreFoundWhenTheWholeFileIsRead) {
    std::string text = "code\n";
    for (int i = 0; i < 3000; ++i)
        text += (i < 2000 ? std::to_string(1000 + i) : "0" + std::to_string(i)) + "\n";
    const auto rows = rowsOf(text);
    EXPECT_EQ(rows.table.columns()[0].kind() == ColumnKind::number, false);
    EXPECT_EQ(rows.table.columns()[0].cellText(2999), "02999");
    EXPECT_TRUE(doubted(rows, "zeros in front"));
    std::string stray = "code\n007\n";
    for (int i = 0; i < 3000; ++i)
        stray += std::to_string(1000 + i) + "\n";
    EXPECT_EQ(shape(rowsOf(stray)), "code:number") << "one of 3,000 is a slip";
}

TEST(Dates, OfWhichTheOrderIsPlainAreNotDoubted) {
    const auto open = rowsOf("d\n03/04/2025\n05/06/2025\n");
    EXPECT_TRUE(doubted(open, "day first"));
    EXPECT_TRUE(rowsOf("d\n1 Mar 2025\n2 Apr 2025\n").report.doubts.size() == 1u); // one column, no more
    EXPECT_FALSE(doubted(rowsOf("d,x\n05/05/2025,1\n06/06/2025,2\n"), "first")) << "the same in either order";
    std::string settled = "d,x\n";
    for (int i = 0; i < 1500; ++i)
        settled += "03/04/2025,1\n";
    EXPECT_TRUE(doubted(rowsOf(settled), "day first"));
    EXPECT_FALSE(doubted(rowsOf(settled + "25/04/2025,1\n"), "first"));
    const auto turned = rowsOf(settled + "04/25/2025,1\n");
    EXPECT_EQ(turned.report.faultCount, 0u) << "one date that only the other order reads settles it";
    EXPECT_EQ(cell(turned, "d", 1), "2025-03-04");
}

// Gathering
// -------------------------------------------------------------------------------------------------------

TEST(Gather, MakesRowsOfYears) {
    const std::string wide = "country,code,1960,1961,1962,last\nArvia,A,1.5,2.5,,x\nBelmor,B,4,5,6,y\n";
    const auto rows = gathered(wide, {{}, "1960", "1962", "year", "rate"});
    EXPECT_EQ(shape(rows), "country:factor code:factor year:number rate:number last:factor");
    ASSERT_EQ(rows.table.rows(), 6u);
    // A plain loop over the file as it was written.
    const char* expected[6][5] = {{"Arvia", "A", "1960", "1.5", "x"}, {"Arvia", "A", "1961", "2.5", "x"},
                                  {"Arvia", "A", "1962", "", "x"},    {"Belmor", "B", "1960", "4", "y"},
                                  {"Belmor", "B", "1961", "5", "y"},  {"Belmor", "B", "1962", "6", "y"}};
    for (std::size_t r = 0; r < 6; ++r)
        for (std::size_t c = 0; c < 5; ++c)
            EXPECT_EQ(rows.table.columns()[c].cellText(r), expected[r][c]) << r << " " << c;
    EXPECT_TRUE(noted(rows, "3 columns from 1960 to 1962 were gathered into 6 rows"));
    const auto listed = gathered(wide, {{"1962", "1960"}, "", "", "year", "rate"});
    EXPECT_EQ(listed.table.rows(), 4u);
    EXPECT_EQ(cell(listed, "year", 2), "1962");
    EXPECT_NE(listed.table.find("1961"), nullptr);
}

TEST(Gather, ReadsNamesAsDatesMonthsNumbersOrLevels) {
    EXPECT_EQ(shape(gathered("s,2025-01,2025-02\nA,1,2\n", {{}, "2025-01", "2025-02", "month", "v"})),
              "s:factor month:date v:number");
    const auto named = gathered("s,Jan,Feb,Mar\nA,1,2,3\n", {{}, "Jan", "Mar", "month", "v"});
    EXPECT_EQ(shape(named), "s:factor month:number v:number");
    EXPECT_EQ(cell(named, "month", 3), "3");
    EXPECT_EQ(shape(gathered("s,Mar 2025,Apr 2025\nA,1,2\n", {{}, "Mar 2025", "Apr 2025", "m", "v"})),
              "s:factor m:date v:number");
    EXPECT_EQ(shape(gathered("s,north,south\nA,1,2\n", {{}, "north", "south", "side", "v"})),
              "s:factor side:factor v:number");
    EXPECT_EQ(shape(gathered("s,1960,1961\nA,1,2\n", {{}, "1960", "1961", "year", "v"},
                             {{"year", ColumnKind::factor}})),
              "s:factor year:factor v:number");
    const auto mixed = gathered("s,a,b,c\nA,1,x,\nB,2,y,\n", {{}, "a", "c", "n", "v"});
    EXPECT_EQ(shape(mixed), "s:factor n:factor v:factor");
    EXPECT_EQ(cell(mixed, "v", 1), "1");
    EXPECT_EQ(cell(mixed, "v", 3), "");
    EXPECT_EQ(shape(gathered("s,a,b\nA,,\nB,,\n", {{}, "a", "b", "n", "v"})), "s:factor n:factor v:number");
}

TEST(Gather, KeepsFaultsInTheirPlace) {
    std::string wide = "s,1960,1961\n";
    for (int i = 0; i < 20; ++i)
        wide += "A," + std::to_string(i) + (i == 7 ? ",wrong\n" : ",2\n");
    const auto rows = gathered(wide, {{}, "1960", "1961", "year", "rate"});
    ASSERT_EQ(rows.report.faults.size(), 1u);
    EXPECT_EQ(rows.report.faults[0].line, 9u);
    EXPECT_EQ(rows.report.faults[0].row, 16u);
    EXPECT_EQ(rows.report.faults[0].column, "rate");
    EXPECT_EQ(rows.report.faultsByColumn, (std::vector<std::pair<std::string, std::size_t>>{{"rate", 1}}));
}

TEST(Gather, RefusesWhatCannotBe) {
    const std::string wide = "s,a,b\nA,1,2\n";
    EXPECT_NE(refusalOf(ErrorCode::unknownColumn,
                        [&] {
                            gathered(wide, {{"c"}, "", "", "n", "v"});
                        })
                  .find("\"c\""),
              std::string::npos);
    refusalOf(ErrorCode::badJoin, [&] { gathered(wide, {{}, "a", "b", "s", "v"}); });
    refusalOf(ErrorCode::badJoin, [&] { gathered(wide, {{}, "a", "b", "n", "n"}); });
    refusalOf(ErrorCode::badJoin, [&] { gathered(wide, {}); });
    EXPECT_EQ(gathered(wide, {{}, "b", "a", "n", "v"}).table.rows(), 2u) << "from and to may be turned round";
}

TEST(Gather, IsSuggestedForYearsAndMonths) {
    EXPECT_EQ(suggestedGather(rowsOf("c,1960,1961,1962,x\nA,1,2,3,4\n").table),
              (GatherPlan{{}, "1960", "1962", "year", "value"}));
    EXPECT_EQ(suggestedGather(rowsOf("c,Jan,Feb,Mar\nA,1,2,3\n").table).names, "month");
    EXPECT_EQ(suggestedGather(rowsOf("c,1960,1961\nA,1,2\n").table), GatherPlan{});
}

TEST(Gather, IsPartOfARecipe) {
    const TemporaryFolder folder;
    folder.write("wide.csv", "country,1960,1961\nArvia,1.5,2.5\nBelmor,4,5\nCalder,7,9\n");
    folder.write("r.json",
                 R"({"recipe": 1, "rows": {"file": "wide.csv", "gather": {"from": "1960", "to": "1961",
        "names": "year", "values": "rate"}, "kinds": {"year": "factor"}}, "response": "rate", "terms": []})");
    const Recipe recipe = readRecipe(folder.file("r.json"));
    const auto rows = readRows(recipe.rows, folder.path(), {}, {}, quietly());
    EXPECT_EQ(shape(rows), "country:factor year:factor rate:number");
    EXPECT_EQ(parseRecipe(recipeText(recipe), "r").rows, recipe.rows) << "written and read back";
    for (const char* gather :
         {"{}", "{\"from\": \"1960\"}", "{\"columns\": [\"1960\"], \"from\": \"1960\"}",
          "{\"columns\": [\"1960\"], \"names\": \"\"}", "{\"columns\": [\"1960\"], \"odd\": 1}"}) {
        const std::string text = std::string(R"({"recipe": 1, "rows": {"file": "wide.csv", "gather": )") +
                                 gather + R"(}, "response": "rate", "terms": []})";
        refusalOf(ErrorCode::badRecipe, [&] { parseRecipe(text, "r"); });
    }
}

// Generated files
// -------------------------------------------------------------------------------------------------

std::string utf16(const std::string& utf8, bool little) {
    std::string out = little ? "\xFF\xFE" : "\xFE\xFF";
    for (std::size_t i = 0; i < utf8.size();) {
        const auto a = static_cast<unsigned char>(utf8[i]);
        unsigned point = a;
        std::size_t length = 1;
        if (a >= 0xE0) {
            point = ((a & 0x0FU) << 12U) | ((static_cast<unsigned char>(utf8[i + 1]) & 0x3FU) << 6U) |
                    (static_cast<unsigned char>(utf8[i + 2]) & 0x3FU);
            length = 3;
        } else if (a >= 0xC0) {
            point = ((a & 0x1FU) << 6U) | (static_cast<unsigned char>(utf8[i + 1]) & 0x3FU);
            length = 2;
        }
        i += length;
        const char high = static_cast<char>(point >> 8U), low = static_cast<char>(point & 0xFFU);
        out += little ? low : high;
        out += little ? high : low;
    }
    return out;
}

/// é and ü only: the letters the generator uses.
std::string latin1(const std::string& utf8) {
    std::string out;
    for (std::size_t i = 0; i < utf8.size(); ++i) {
        if (static_cast<unsigned char>(utf8[i]) == 0xC3) {
            out += static_cast<char>(static_cast<unsigned char>(utf8[++i]) + 0x40);
        } else {
            out += utf8[i];
        }
    }
    return out;
}

/// A file and what each of its cells holds.
struct MadeFile {
    std::string bytes;
    std::string how;
    std::vector<std::string> names;
    std::vector<ColumnKind> kinds;
    std::vector<std::vector<std::string>> cells; // as Column::cellText says them
};

class FileMaker {
public:
    explicit FileMaker(std::uint64_t seed) : m_random(seed, "files of tests") {}

    MadeFile make() {
        static constexpr std::array delimiters{',', ';', '\t', '|', ' '};
        m_delimiter = delimiters[pick(delimiters.size())];
        m_comma = m_delimiter != '|' && pick(3) == 0;
        const bool header = pick(5) != 0;
        const std::array<std::string, 3> ends{"\n", "\r\n", "\r"};
        const std::string end = ends[pick(10) == 0 ? 2 : pick(2)];
        const bool quoteAll = pick(5) == 0;
        const bool ragged = m_delimiter != ' ' && pick(4) == 0;
        MadeFile made;
        const std::size_t columns = 2 + pick(6), rows = 20 + pick(120);
        std::vector<int> sorts{0}; // the first column is numbers: a table of texts alone has no sure header
        while (sorts.size() < columns)
            sorts.push_back(static_cast<int>(pick(7)));
        std::vector<std::vector<std::string>> written(rows, std::vector<std::string>(columns));
        made.cells = written;
        for (std::size_t c = 0; c < columns; ++c)
            fill(sorts[c], c, rows, made, written);
        std::string text;
        if (m_delimiter == '|' && pick(4) == 0) text += "sep=|" + end;
        const std::size_t above = header && end != "\r" ? pick(4) : 0;
        if (above == 1) text += "# made by hand" + end + "# 2 remarks" + end;
        if (above == 2 && m_delimiter != ' ' && columns > 2) text += "Table of everything" + end + end;
        auto quoted = [&](const std::string& cell) {
            const bool needed =
                cell.find_first_of(std::string("\"\r\n") + m_delimiter) != std::string::npos ||
                (m_delimiter == ' ' && cell.find('\t') != std::string::npos);
            if (!needed && !quoteAll) return cell;
            std::string out = "\"";
            for (const char ch : cell)
                out += ch == '"' ? std::string("\"\"") : std::string(1, ch);
            return out + "\"";
        };
        auto line = [&](const std::vector<std::string>& cells, std::size_t upTo) {
            for (std::size_t c = 0; c < upTo; ++c) {
                if (c > 0)
                    text += m_delimiter == ' ' ? std::string(1 + pick(3), ' ') : std::string(1, m_delimiter);
                text += quoted(cells[c]);
            }
            text += end;
        };
        for (std::size_t c = 0; c < columns; ++c)
            made.names.push_back(header ? "näme" + std::to_string(c + 1) : "column_" + std::to_string(c + 1));
        if (header) line(made.names, columns);
        for (std::size_t r = 0; r < rows; ++r) {
            std::size_t upTo = columns;
            if (ragged && r > 2 && columns > 2 && pick(15) == 0) {
                upTo = 2 + pick(columns - 2);
                for (std::size_t c = upTo; c < columns; ++c)
                    made.cells[r][c].clear();
            }
            line(written[r], upTo);
        }
        made.how = std::string("delimiter ") + m_delimiter + (m_comma ? ", decimal comma" : "") +
                   (header ? "" : ", no header") + (ragged ? ", ragged" : "") +
                   (quoteAll ? ", all quoted" : "") + ", above " + std::to_string(above) + ", ends " +
                   std::to_string(end.size()) + end[0];
        switch (pick(6)) {
        case 0:
            made.bytes = "\xEF\xBB\xBF" + text;
            break;
        case 1:
            made.bytes = utf16(text, true);
            break;
        case 2:
            made.bytes = utf16(text, false);
            break;
        case 3:
            made.bytes = latin1(text);
            break;
        default:
            made.bytes = text;
        }
        return made;
    }

private:
    std::size_t pick(std::size_t bound) { return static_cast<std::size_t>(m_random.below(bound)); }
    std::string number(double value, int decimals) const {
        char text[64];
        std::snprintf(text, sizeof text, "%.*f", decimals, value);
        std::string plain = text;
        if (m_comma) std::replace(plain.begin(), plain.end(), '.', ',');
        return plain;
    }

    void fill(int sort, std::size_t c, std::size_t rows, MadeFile& made,
              std::vector<std::vector<std::string>>& written) {
        static const std::array<std::string, 5> missing{"NA", "N/A", "null", "?", "-"};
        static const std::array<std::string, 6> words{"Vell",       "Umber", "Dunlin é",
                                                      "say \"hi\"", "a;b",   "c,d"};
        const bool holes = pick(3) == 0;
        const std::size_t dateForm = pick(5);
        made.kinds.push_back(sort <= 2   ? ColumnKind::number
                             : sort == 3 ? (dateForm == 4 ? ColumnKind::number : ColumnKind::date)
                                         : ColumnKind::factor);
        for (std::size_t r = 0; r < rows; ++r) {
            std::string& cell = made.cells[r][c];
            std::string& text = written[r][c];
            if (holes && r > 0 && pick(8) == 0) { // an empty cell parted by blanks cannot be seen
                text = m_delimiter != ' ' && pick(2) == 0 ? "" : missing[pick(missing.size())];
                continue;
            }
            if (sort == 0) { // whole numbers
                const long value = static_cast<long>(pick(100000)) - 50000;
                text = std::to_string(value);
                cell = text;
            } else if (sort == 1) { // decimals
                const double value = (static_cast<double>(pick(2000000)) - 1e6) / 100;
                text = number(value, 2);
                cell = exactText(value);
            } else if (sort == 2) { // with thousands marks and decimals
                const std::size_t whole = 1000 + pick(999000), cents = pick(100);
                char decimals[8];
                std::snprintf(decimals, sizeof decimals, "%02zu", cents);
                char rest[8];
                std::snprintf(rest, sizeof rest, "%03zu", whole % 1000);
                text = std::to_string(whole / 1000) + (m_comma ? "." : ",") + rest + (m_comma ? "," : ".") +
                       decimals;
                cell = exactText(static_cast<double>(whole * 100 + cents) / 100);
            } else if (sort == 3) {
                const std::int32_t day = 18000 + static_cast<std::int32_t>(pick(2500));
                cell = dateText(day);
                const std::string y = cell.substr(0, 4), m = cell.substr(5, 2), d = cell.substr(8, 2);
                text = dateForm == 0   ? cell
                       : dateForm == 1 ? d + "." + m + "." + y
                       : dateForm == 2 ? y + "." + m + "." + d
                       : dateForm == 3 ? y + "/" + m + "/" + d
                                       : cell + "T08:30:00";
                if (dateForm == 4) cell += " 08:30";
            } else if (sort == 4) { // codes
                char code[16];
                std::snprintf(code, sizeof code, "%05zu", pick(60));
                text = cell = code;
            } else {
                cell = words[pick(words.size())];
                if (sort == 6 && m_delimiter != ' ') cell += " " + std::to_string(pick(3));
                text = cell;
            }
        }
    }

    RandomStream m_random;
    char m_delimiter = ',';
    bool m_comma = false;
};

TEST(GeneratedFiles, AreReadCellByCellAsTheyWereMade) {
    const std::size_t files = wanted("OXGOAD_TABLES", 300);
    std::size_t cells = 0, wrongFiles = 0;
    for (std::size_t seed = 1; seed <= files; ++seed) {
        const MadeFile made = FileMaker(seed).make();
        const auto where = "file " + std::to_string(seed) + ": " + made.how;
        RowsRead rows;
        ASSERT_NO_THROW(rows = readTextBytes(made.bytes, "made", {}, {2}, quietly())) << where;
        const auto& columns = rows.table.columns();
        std::string wrong;
        if (columns.size() != made.names.size() || rows.table.rows() != made.cells.size())
            wrong = countText(columns.size()) + " columns of " + countText(rows.table.rows()) + " rows for " +
                    countText(made.names.size()) + " of " + countText(made.cells.size());
        for (std::size_t c = 0; wrong.empty() && c < columns.size(); ++c) {
            const bool texts =
                columns[c].kind() == ColumnKind::text || columns[c].kind() == ColumnKind::factor;
            if (columns[c].name() != made.names[c]) wrong = "name " + columns[c].name();
            if (made.kinds[c] == ColumnKind::factor ? !texts : columns[c].kind() != made.kinds[c])
                wrong = made.names[c] + " is " + std::string(kindName(columns[c].kind()));
            for (std::size_t r = 0; wrong.empty() && r < made.cells.size(); ++r, ++cells)
                if (columns[c].cellText(r) != made.cells[r][c])
                    wrong = "row " + std::to_string(r + 1) + " of " + made.names[c] + ": \"" +
                            columns[c].cellText(r) + "\" for \"" + made.cells[r][c] + "\"";
        }
        if (!wrong.empty() && ++wrongFiles < 20)
            ADD_FAILURE() << where << ": " << wrong << "\n" << made.bytes.substr(0, 300);
    }
    EXPECT_EQ(wrongFiles, 0u);
    std::printf("[ files    ] %zu made, %zu cells compared\n", files, cells);
}

std::string escaped(const std::string& text) {
    std::string out;
    for (const char c : text)
        out += c == '&' ? "&amp;" : c == '<' ? "&lt;" : c == '"' ? "&quot;" : std::string(1, c);
    return out;
}

TEST(GeneratedWorkbooks, AreReadCellByCellAsTheyWereMade) {
    // 30 written by libxlsxwriter, 30 as OpenDocument written here by its standard (ODF 1.2, part 1, chapter
    // 9).
    std::size_t cells = 0;
    for (std::uint64_t seed = 1; seed <= 60; ++seed) {
        const TemporaryFolder folder;
        RandomStream random(seed, "workbooks of tests");
        const bool ods = seed % 2 == 0;
        const std::size_t columns = 2 + random.below(5), rows = 10 + random.below(60), top = random.below(4);
        std::vector<std::vector<std::string>> texts(rows, std::vector<std::string>(columns));
        std::vector<int> sorts(columns);
        std::vector<std::vector<double>> values(rows, std::vector<double>(columns));
        for (std::size_t c = 0; c < columns; ++c) {
            sorts[c] = c == 0 ? 0 : static_cast<int>(random.below(3));
            for (std::size_t r = 0; r < rows; ++r) {
                if (r > 0 && random.below(9) == 0) continue; // an empty cell
                if (sorts[c] == 0) {
                    values[r][c] = (static_cast<double>(random.below(2000000)) - 1e6) / 128;
                    texts[r][c] = exactText(values[r][c]);
                } else if (sorts[c] == 1) {
                    values[r][c] = 18000 + static_cast<double>(random.below(3000));
                    texts[r][c] = dateText(static_cast<std::int32_t>(values[r][c]));
                } else {
                    texts[r][c] = std::string(1, static_cast<char>('A' + random.below(5))) + " & <b>";
                }
            }
        }
        const std::string path = folder.file(ods ? "w.ods" : "w.xlsx").string();
        if (ods) {
            std::string xml =
                "<office:document-content xmlns:office=\"o\" xmlns:table=\"t\" xmlns:text=\"x\">"
                "<office:body><office:spreadsheet><table:table table:name=\"S\">";
            for (std::size_t r = 0; r < top; ++r)
                xml += "<table:table-row><table:table-cell/></table:table-row>";
            xml += "<table:table-row>";
            for (std::size_t c = 0; c < columns; ++c)
                xml += "<table:table-cell office:value-type=\"string\"><text:p>c" + std::to_string(c) +
                       "</text:p></table:table-cell>";
            xml += "</table:table-row>";
            for (std::size_t r = 0; r < rows; ++r) {
                xml += "<table:table-row>";
                for (std::size_t c = 0; c < columns; ++c) {
                    if (texts[r][c].empty())
                        xml += "<table:table-cell/>";
                    else if (sorts[c] == 0)
                        xml += "<table:table-cell office:value-type=\"float\" office:value=\"" + texts[r][c] +
                               "\"><text:p>shown</text:p></table:table-cell>";
                    else if (sorts[c] == 1)
                        xml += "<table:table-cell office:value-type=\"date\" office:date-value=\"" +
                               texts[r][c] + "\"><text:p>shown</text:p></table:table-cell>";
                    else
                        xml += "<table:table-cell office:value-type=\"string\"><text:p>" +
                               escaped(texts[r][c]) + "</text:p></table:table-cell>";
                }
                xml += "</table:table-row>";
            }
            xml += "</table:table></office:spreadsheet></office:body></office:document-content>";
            int failure = 0;
            zip_t* archive = zip_open(path.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &failure);
            zip_file_add(archive, "content.xml", zip_source_buffer(archive, xml.data(), xml.size(), 0), 0);
            ASSERT_EQ(zip_close(archive), 0);
        } else {
            lxw_workbook* book = workbook_new(path.c_str());
            lxw_worksheet* sheet = workbook_add_worksheet(book, nullptr);
            lxw_format* dates = workbook_add_format(book);
            format_set_num_format(dates, "yyyy-mm-dd");
            for (std::size_t c = 0; c < columns; ++c) {
                const auto column = static_cast<lxw_col_t>(c);
                worksheet_write_string(sheet, static_cast<lxw_row_t>(top), column,
                                       ("c" + std::to_string(c)).c_str(), nullptr);
                for (std::size_t r = 0; r < rows; ++r) {
                    const auto row = static_cast<lxw_row_t>(top + 1 + r);
                    if (texts[r][c].empty()) continue;
                    if (sorts[c] == 0)
                        worksheet_write_number(sheet, row, column, values[r][c], nullptr);
                    else if (sorts[c] == 1) // ECMA-376: day 25569 is 1970-01-01
                        worksheet_write_number(sheet, row, column, values[r][c] + 25569, dates);
                    else
                        worksheet_write_string(sheet, row, column, texts[r][c].c_str(), nullptr);
                }
            }
            ASSERT_EQ(workbook_close(book), LXW_NO_ERROR);
        }
        const auto read = readWorkbook(path, {}, {}, quietly());
        ASSERT_EQ(read.table.columns().size(), columns) << seed;
        // Rows at the end that are empty altogether are not there.
        for (std::size_t c = 0; c < columns; ++c)
            for (std::size_t r = 0, at = 0; r < rows; ++r) {
                if (std::all_of(texts[r].begin(), texts[r].end(), [](const auto& t) { return t.empty(); }))
                    continue;
                ASSERT_EQ(read.table.columns()[c].cellText(at++), texts[r][c])
                    << seed << " " << r << " " << c;
                ++cells;
            }
    }
    EXPECT_GT(cells, 5000u);
}

} // namespace reading_test
