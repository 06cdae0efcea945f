// Workbooks, databases, stacks, joins, dressed numbers and dates.
#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "ledger/drift.h"
#include "read/database.h"
#include "read/source.h"
#include "read/stack_join.h"
#include "read/workbook.h"
#include "read/zip_xml.h"
#include "study/sqlite.h"
#include "support/server.h"
#include "support/support.h"

#include <xlsxwriter.h>
#include <zip.h>

#include <array>
#include <cstdlib>
#include <cstring>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;

namespace sources_test {

std::string cell(const RowsRead& rows, const std::string& column, std::size_t row) {
    return rows.table.at(column, "").cellText(row - 1);
}

bool noted(const RowsRead& rows, const std::string& words) {
    for (const auto& note : rows.report.notes)
        if (note.find(words) != std::string::npos) return true;
    return false;
}

RowsRead rowsOf(const std::string& text, const TextOptions& options = {}) {
    return readTextBytes(text, "t.csv", options, {}, quietly());
}

template <class Call> std::string refusal(ErrorCode code, const Call& call) {
    try {
        call();
    } catch (const Error& error) {
        EXPECT_EQ(error.code(), code) << error.what();
        EXPECT_FALSE(error.remedy().empty()) << error.what();
        return error.what();
    }
    ADD_FAILURE() << "nothing was refused";
    return {};
}

const std::filesystem::path workbooks = std::filesystem::path(OXGOAD_PUBLISHED).parent_path() / "workbooks";

/// A packed file of parts made by hand.
std::filesystem::path pack(const TemporaryFolder& folder, const std::string& name,
                           const std::map<std::string, std::string>& parts) {
    int failure = 0;
    zip_t* archive = zip_open(folder.file(name).c_str(), ZIP_CREATE | ZIP_TRUNCATE, &failure);
    for (const auto& [part, bytes] : parts)
        zip_file_add(archive, part.c_str(), zip_source_buffer(archive, bytes.data(), bytes.size(), 0),
                     ZIP_FL_OVERWRITE);
    EXPECT_EQ(zip_close(archive), 0);
    return folder.file(name);
}

std::map<std::string, std::string> xlsxParts(const std::string& sheet) {
    return {{"xl/workbook.xml", "<workbook><workbookPr date1904=\"1\"/><sheets><sheet name=\"S\" r:id=\"r1\" "
                                "xmlns:r=\"x\"/></sheets></workbook>"},
            {"xl/_rels/workbook.xml.rels",
             "<Relationships><Relationship Id=\"r1\" Type=\"x/worksheet\" Target=\"worksheets/s.xml\"/>"
             "<Relationship Id=\"r2\" Type=\"x/styles\" Target=\"/xl/styles.xml\"/></Relationships>"},
            {"xl/styles.xml",
             "<styleSheet><numFmts><numFmt numFmtId=\"200\" formatCode=\"[Red]0.00&quot;d&quot;\"/></numFmts>"
             "<cellXfs><xf numFmtId=\"0\"/><xf numFmtId=\"14\"/><xf numFmtId=\"200\"/><xf "
             "numFmtId=\"45\"/></cellXfs></styleSheet>"},
            {"xl/worksheets/s.xml", sheet}};
}

TEST(Workbook, OfOpenpyxlIsReadWithMergedHeadsDatesAndFaults) {
    // Written by openpyxl: absolute targets, a hidden first sheet, shared strings, merged cells (make.py
    // beside it).
    const auto sheets = sheetsOf(workbooks / "openpyxl.xlsx", quietly());
    ASSERT_EQ(sheets.size(), 2u);
    EXPECT_TRUE(sheets[0].hidden);
    EXPECT_EQ(sheets[1].name, "Rates & more");
    const auto rows = readWorkbook(workbooks / "openpyxl.xlsx", {}, {}, quietly());
    ASSERT_EQ(rows.table.columns().size(), 7u);
    EXPECT_EQ(rows.table.columns()[0].name(), "depot name");
    EXPECT_EQ(rows.table.columns()[1].name(), "rate list");
    EXPECT_EQ(rows.table.columns()[2].name(), "rate paid");
    ASSERT_EQ(rows.table.rows(), 5u);
    EXPECT_EQ(cell(rows, "depot name", 3), "Grüner Æsch <b>");
    EXPECT_EQ(cell(rows, "depot name", 5), "Merged"); // merged down two rows
    EXPECT_EQ(cell(rows, "rate list", 1), "21.5");
    EXPECT_EQ(cell(rows, "rate paid", 2), "");
    EXPECT_EQ(cell(rows, "rate paid", 3), "123456789.125");
    EXPECT_EQ(cell(rows, "since day", 1), "2024-05-31 00:00");
    EXPECT_EQ(cell(rows, "since day", 2), "2024-02-29 13:30"); // nothing of it is dropped
    EXPECT_EQ(cell(rows, "since day", 3), "1900-01-15 00:00");
    EXPECT_EQ(cell(rows, "share of all", 1), "0.05"); // shown as 5.0 %
    EXPECT_EQ(cell(rows, "open now", 1), "true");
    // Formulas without a stored value are no zeros: they are missing, and told.
    EXPECT_EQ(rows.table.at("sum worked out", "").missingCount(), 5u);
    EXPECT_EQ(rows.report.faultCount, 3u); // two formulas and one #N/A
    EXPECT_EQ(rows.report.faults[0].line, 3u);
}

TEST(Workbook, OfOdfpyIsReadWithRepeatsBooleansAndDates) {
    const auto rows = readWorkbook(workbooks / "odfpy.ods", {}, {}, quietly());
    ASSERT_EQ(rows.table.rows(), 5u); // one row repeated three times; a million blank ones below are none
    EXPECT_EQ(cell(rows, "depot", 5), "Kelder");
    EXPECT_EQ(cell(rows, "month", 1), "2024-05-31 00:00"); // the stored date, not what is shown
    EXPECT_EQ(cell(rows, "month", 2), "2024-02-29 13:30");
    EXPECT_EQ(cell(rows, "rate", 1), "21.5");
    EXPECT_EQ(cell(rows, "rate", 2), "");
    EXPECT_EQ(cell(rows, "share", 2), "0.125");
    EXPECT_EQ(cell(rows, "open", 2), "false");
    EXPECT_EQ(cell(rows, "note", 1), "two\nlines");
    EXPECT_NE(refusal(ErrorCode::noRows,
                      [] { readWorkbook(workbooks / "odfpy.ods", {.sheet = "Empty"}, {}, quietly()); })
                  .find("sheet Empty"),
              std::string::npos);
    EXPECT_NE(refusal(ErrorCode::badWorkbook,
                      [] { readWorkbook(workbooks / "odfpy.ods", {.sheet = "Gone"}, {}, quietly()); })
                  .find("Depots, Empty"),
              std::string::npos);
}

TEST(Workbook, OfLibxlsxwriterIsReadWithStoredFormulaValuesAndRanges) {
    const TemporaryFolder folder;
    const std::string path = folder.file("w.xlsx").string();
    lxw_workbook* book = workbook_new(path.c_str());
    lxw_worksheet* sheet = workbook_add_worksheet(book, "Long name's sheet");
    lxw_format* dates = workbook_add_format(book);
    format_set_num_format(dates, "d mmm yyyy");
    worksheet_write_string(sheet, 2, 1, "month", nullptr);
    worksheet_write_string(sheet, 2, 2, "rate", nullptr);
    worksheet_write_string(sheet, 2, 3, "twice", nullptr);
    worksheet_write_string(sheet, 0, 0, "a title above", nullptr);
    std::vector<double> rates;
    for (int i = 0; i < 200; ++i) {
        lxw_datetime date{2020 + i / 12, i % 12 + 1, 1, 0, 0, 0};
        rates.push_back(std::nextafter(20 + i * 0.1, 0));
        const auto row = static_cast<lxw_row_t>(3 + i);
        worksheet_write_datetime(sheet, row, 1, &date, dates);
        worksheet_write_number(sheet, row, 2, rates.back(), nullptr);
        worksheet_write_formula_num(sheet, row, 3, "=C4*2", nullptr, 2 * rates.back());
    }
    worksheet_write_string(sheet, 100, 2, "n/a", nullptr);
    worksheet_write_string(sheet, 101, 2, "mistyped", nullptr);
    ASSERT_EQ(workbook_close(book), LXW_NO_ERROR);
    const auto rows = readWorkbook(path, {.range = "B3:D1000"}, {}, quietly());
    ASSERT_EQ(rows.table.rows(), 200u);
    EXPECT_EQ(cell(rows, "month", 14), "2021-02-01");
    for (std::size_t i = 0; i < 200; ++i) {
        if (i == 97 || i == 98) continue;
        EXPECT_LT(std::fabs(rows.table.at("rate", "").numbers()[i] / rates[i] - 1),
                  1e-15); // the writer keeps 16 digits
    }
    EXPECT_EQ(cell(rows, "rate", 98), "");
    EXPECT_DOUBLE_EQ(rows.table.at("twice", "").numbers()[3], 2 * rates[3]);
    ASSERT_EQ(rows.report.faultCount, 1u);
    EXPECT_EQ(rows.report.faults[0].text, "mistyped");
    EXPECT_EQ(rows.report.faults[0].line, 102u);
    // The whole sheet, told to pass over the title.
    TextOptions below;
    below.skipLines = 2;
    EXPECT_EQ(readWorkbook(path, {}, below, quietly()).table.columns().size(), 3u);
    EXPECT_EQ(readWorkbook(path, {.range = "B3:D1000", .mostRows = 10}, {}, quietly()).table.rows(), 10u);
    refusal(ErrorCode::badWorkbook, [&] { readWorkbook(path, {.range = "B3-D9"}, {}, quietly()); });
}

TEST(Workbook, DatesOf1904AndFormatsThatOnlyLookLikeDates) {
    const TemporaryFolder folder;
    const auto path =
        pack(folder, "h.xlsx",
             xlsxParts(
                 "<worksheet><sheetData><row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>day</t></is></c><c "
                 "r=\"B1\" t=\"str\"><v>x</v></c>"
                 "<c r=\"C1\" t=\"inlineStr\"><is><r><t>ti</t></r><r><t>me</t></r></is></c></row>"
                 "<row r=\"2\"><c r=\"A2\" s=\"1\"><v>0</v></c><c r=\"B2\" s=\"2\"><v>1.5</v></c><c r=\"C2\" "
                 "s=\"3\"><v>0.5</v></c></row>"
                 "<row><c s=\"1\"><v>44561</v></c><c s=\"2\"><v>-2e3</v></c></row></sheetData></worksheet>"));
    const auto rows = readWorkbook(path, {}, {}, quietly());
    EXPECT_EQ(cell(rows, "day", 1), "1904-01-01"); // ECMA-376 part 1, §18.17.4.1: the 1904 system starts at 0
    EXPECT_EQ(cell(rows, "day", 2), "2026-01-01");
    EXPECT_EQ(cell(rows, "x", 2), "-2000");  // a quoted d in a number format is no day
    EXPECT_EQ(cell(rows, "time", 1), "0.5"); // a time alone is the share of a day
}

TEST(Workbook, AColumnThatBeginsFarDownIsReadAndEmptyOnesAreNot) {
    const TemporaryFolder folder;
    std::string sheet = "<worksheet><sheetData><row r=\"1\"><c r=\"B1\" t=\"str\"><v>a</v></c><c r=\"C1\" "
                        "t=\"str\"><v>empty</v></c></row>";
    for (int r = 2; r <= 60; ++r)
        sheet += "<row r=\"" + std::to_string(r) + "\">" + (r == 51 ? "<c r=\"A51\"><v>1</v></c>" : "") +
                 "<c r=\"B" + std::to_string(r) + "\"><v>" + std::to_string(r) + "</v></c>" +
                 (r == 50 ? "<c r=\"F50\"><v>7</v></c>" : "") + "</row>";
    const auto rows = readWorkbook(pack(folder, "w.xlsx", xlsxParts(sheet + "</sheetData></worksheet>")), {},
                                   {}, quietly());
    ASSERT_EQ(rows.table.columns().size(),
              3u); // a, the named one without values, and F; D and E hold nothing at all
    EXPECT_EQ(rows.table.columns()[1].name(), "empty");
    EXPECT_EQ(rows.table.columns()[2].name(), "column_3");
    EXPECT_EQ(rows.table.columns()[2].numbers()[48], 7);
    EXPECT_TRUE(noted(rows, "1 cell left of the table"));
    EXPECT_TRUE(noted(rows, "Column 3 has no name"));
}

TEST(Workbook, ThatIsDamagedLockedOrHugeIsRefusedWithASentence) {
    const TemporaryFolder folder;
    EXPECT_NE(refusal(ErrorCode::badWorkbook,
                      [&] { readWorkbook(folder.write("a.xlsx", "a,b\n1,2\n"), {}, {}, quietly()); })
                  .find("not a workbook"),
              std::string::npos);
    EXPECT_NE(refusal(ErrorCode::badWorkbook,
                      [&] {
                          readWorkbook(folder.write("b.xlsx",
                                                    std::string("\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1 rest", 13)),
                                       {}, {}, quietly());
                      })
                  .find("password"),
              std::string::npos);
    std::string whole;
    {
        std::ifstream in(workbooks / "openpyxl.xlsx", std::ios::binary);
        whole.assign(std::istreambuf_iterator<char>(in), {});
    }
    refusal(ErrorCode::badWorkbook, [&] {
        readWorkbook(folder.write("c.xlsx", whole.substr(0, whole.size() / 2)), {}, {}, quietly());
    });
    refusal(ErrorCode::badWorkbook, [&] {
        readWorkbook(pack(folder, "d.xlsx", {{"hello", "there"}}), {}, {}, quietly());
    });
    EXPECT_NE(refusal(ErrorCode::badWorkbook,
                      [&] {
                          readWorkbook(
                              pack(folder, "e.xlsx", xlsxParts("<worksheet><sheetData><row></sheetData>")),
                              {}, {}, quietly());
                      })
                  .find("line 1"),
              std::string::npos);
    EXPECT_NE(
        refusal(ErrorCode::badWorkbook,
                [&] {
                    readWorkbook(
                        pack(folder, "f.xlsx",
                             xlsxParts("<!DOCTYPE w [<!ENTITY a \"aaaa\">]><worksheet>&a;</worksheet>")),
                        {}, {}, quietly());
                })
            .find("document type"),
        std::string::npos);
    EXPECT_NE(refusal(ErrorCode::badWorkbook,
                      [&] {
                          readWorkbook(
                              pack(folder, "g.ods",
                                   {{"content.xml", "<x/>"},
                                    {"META-INF/manifest.xml",
                                     "<m:manifest xmlns:m=\"m\"><m:encryption-data/></m:manifest>"}}),
                              {}, {}, quietly());
                      })
                  .find("password"),
              std::string::npos);
    refusal(ErrorCode::noRows, [&] {
        readWorkbook(pack(folder, "h.xlsx", xlsxParts("<worksheet><sheetData/></worksheet>")), {}, {},
                     quietly());
    });
    refusal(ErrorCode::fileNotFound, [&] { readWorkbook(folder.file("none.xlsx"), {}, {}, quietly()); });
    // Whatever a part says of its size, no more than the limit is unpacked of it.
    const auto blanks = pack(folder, "i.ods", {{"content.xml", std::string(3000000, ' ')}});
    EXPECT_LT(std::filesystem::file_size(blanks), 10000u);
    std::size_t seen = 0;
    EXPECT_NE(refusal(ErrorCode::badWorkbook,
                      [&] {
                          ZipArchive(blanks).stream("content.xml", 1U << 20U, [&](std::string_view bytes) {
                              seen += bytes.size();
                              return true;
                          });
                      })
                  .find("unpacks to more than 1 MB"),
              std::string::npos);
    EXPECT_LE(seen, std::size_t{1} << 20U);
}

TEST(Workbook, ReadingStopsAtOnceWhenTold) {
    struct Stopping : Progress {
        bool stopRequested() const override { return true; }
    } stopping;
    EXPECT_THROW(readWorkbook(workbooks / "openpyxl.xlsx", {}, {}, stopping), Stopped);
    EXPECT_THROW(readWorkbook(workbooks / "odfpy.ods", {}, {}, stopping), Stopped);
}

TEST(Workbook, RepeatedCellsDoNotGrowWithoutEnd) {
    const TemporaryFolder folder;
    const auto path =
        pack(folder, "r.ods",
             {{"content.xml",
               "<o xmlns:table=\"t\" xmlns:office=\"f\" xmlns:text=\"x\"><table:table "
               "table:name=\"A\"><table:table-row><table:table-cell "
               "office:value-type=\"float\" office:value=\"1\" "
               "table:number-columns-repeated=\"99999999\"/></table:table-row></table:table></o>"}});
    const auto rows = readWorkbook(path, {}, {}, quietly());
    EXPECT_LE(rows.table.columns().size(), 16384u);
    EXPECT_EQ(rows.table.rows(), 1u);
}

TEST(Dressed, NumbersAreReadAndCounted) {
    const auto rows = rowsOf(
        "price,share,plain\n\"€ 1,234.50\",5 %,1\n\"12,000\",12.5%,2\n(300),-1 %,3\n1 000 000 €,100%,4\n");
    EXPECT_EQ(cell(rows, "price", 1), "1234.5");
    EXPECT_EQ(cell(rows, "price", 2), "12000");
    EXPECT_EQ(cell(rows, "price", 3), "-300");
    EXPECT_EQ(rows.table.at("price", "").numbers()[3], 1000000);
    EXPECT_EQ(cell(rows, "share", 1), "0.05");
    EXPECT_EQ(cell(rows, "share", 3), "-0.01");
    EXPECT_TRUE(noted(rows, "price: numbers 3 with thousands marks, 2 with a currency sign"));
    EXPECT_TRUE(noted(rows, "4 with a percent sign"));
    TextOptions number;
    number.percent = NumberDress::Percent::number;
    EXPECT_EQ(cell(rowsOf("s\n5 %\n6 %\n", number), "s", 1), "5");
    TextOptions none;
    none.thousandsMarks = "";
    none.kinds["p"] = ColumnKind::number;
    EXPECT_EQ(rowsOf("p\n\"1,234\"\n5\n", none).report.faultCount, 1u);
    const auto comma = rowsOf("p;q\n1.234,50;1\n99,5;2\n12.000,00;3\n");
    EXPECT_EQ(cell(comma, "p", 1), "1234.5");
    EXPECT_EQ(cell(comma, "p", 3), "12000");
}

TEST(Dressed, MarksThatDoNotPartThousandsAreNoNumbers) {
    for (const auto* text : {"1,23", "12,34,567", "1,2345", "1,,234", ",123", "1,234,", "1 234,567", "€",
                             "EUR", "5 5", "--3", "5 % %", "(3", "3)", "1e5 %x", "USDEUR 3"})
        EXPECT_FALSE(parseDressedNumber(text, {})) << text;
    EXPECT_EQ(parseDressedNumber("−3", {})->value, -3);
    EXPECT_EQ(parseDressedNumber("1'234’567.5", {})->value, 1234567.5);
    EXPECT_EQ(parseDressedNumber("-$3.50", {})->value, -3.5);
    EXPECT_EQ(parseDressedNumber("$-3.50", {})->value, -3.5);
    EXPECT_EQ(parseDressedNumber("12.345,6", {.decimalMark = ',', .thousandsMarks = "."})->value, 12345.6);
}

TEST(Dates, AreReadInEveryOrderAndTheDoubtIsTold) {
    const auto day = rowsOf("d\n03/04/2025\n25/12/2024\n");
    EXPECT_EQ(cell(day, "d", 1), "2025-04-03");
    const auto month = rowsOf("d\n03/04/2025\n12/25/2024\n");
    EXPECT_EQ(cell(month, "d", 1), "2025-03-04");
    const auto doubt = rowsOf("d\n03/04/2025\n05/06/2025\n");
    EXPECT_EQ(cell(doubt, "d", 1), "2025-04-03");
    EXPECT_NE(doubt.report.doubts.front().said.find("day first"), std::string::npos);
    TextOptions first;
    first.dateOrder = DateOrder::monthFirst;
    EXPECT_EQ(cell(rowsOf("d\n03/04/2025\n05/06/2025\n", first), "d", 1), "2025-03-04");
    // The sample leaves it open; what comes later settles it.
    std::string late = "d\n";
    for (int i = 0; i < 1200; ++i)
        late += "03/04/2025\n";
    for (int i = 0; i < 400; ++i)
        late += "04/25/2025\n";
    EXPECT_EQ(cell(rowsOf(late), "d", 1), "2025-03-04");
    for (const auto* text : {"1 Mar 2025", "March 1, 2025", "01-Mar-2025", "Mar 2025", "2025-03-01T12:30:00Z",
                             "2025-03-01 00:00"})
        EXPECT_EQ(parseDate(text, DateOrder::dayFirst), daysFromCivil(2025, 3, 1)) << text;
    for (const auto* text :
         {"31/02/2025", "1 Marr 2025", "2025", "12:30", "1/2/5", "a/b/2025", "2025-03-01 noon"})
        EXPECT_FALSE(parseDate(text, DateOrder::dayFirst)) << text;
}

TEST(Stack, GoesByNameAndSaysWhereRowsComeFrom) {
    const TemporaryFolder folder;
    folder.write("jan.csv", "depot,rate,old\nCinder,20,1\nDunlin,21,2\n");
    folder.write("feb.csv", "rate,depot,new\n22,Kelder,x\n23,Cinder,y\n");
    RowsPlan plan;
    plan.file = "jan.csv";
    plan.stacked = {RowsSource{.file = "feb.csv"}};
    plan.originColumn = "source";
    const auto rows = readRows(plan, folder.path(), {}, {}, quietly());
    ASSERT_EQ(rows.table.rows(), 4u);
    EXPECT_EQ(cell(rows, "depot", 3), "Kelder");
    EXPECT_EQ(cell(rows, "rate", 4), "23");
    EXPECT_EQ(cell(rows, "old", 3), "");
    EXPECT_EQ(cell(rows, "new", 1), "");
    EXPECT_EQ(cell(rows, "source", 1) + cell(rows, "source", 4), "jan.csvfeb.csv");
    EXPECT_TRUE(noted(rows, "lacks old; adds new"));
}

TEST(Join, MatchesKeysAndCountsWhatDoesNot) {
    const TemporaryFolder folder;
    folder.write("rows.csv",
                 "depot,month,rate\nCinder,1,20\nDunlin,1,21\nCinder,2,22\nNowhere,1,23\n,1,24\n");
    folder.write("depots.csv", "name,places,rate\nCinder,100,9\nDunlin,200,8\nCinder,999,7\nKelder,300,6\n");
    RowsPlan plan;
    plan.file = "rows.csv";
    plan.joins = {{RowsSource{.file = "depots.csv"}, {{"depot", "name"}}}};
    const auto rows = readRows(plan, folder.path(), {}, {}, quietly());
    EXPECT_EQ(cell(rows, "places", 1), "100"); // the first of two rows with the same key
    EXPECT_EQ(cell(rows, "places", 3), "100");
    EXPECT_EQ(cell(rows, "places", 4), "");
    EXPECT_EQ(cell(rows, "places", 5), ""); // a missing key matches nothing
    EXPECT_EQ(cell(rows, "depots.csv rate", 2), "8");
    EXPECT_TRUE(noted(rows, "3 rows matched, 2 without a match (such as Nowhere), 1 row of it has a key that "
                            "came before and did not count, 1 key was not asked for"));
    plan.joins[0].keys = {{"month", "name"}};
    EXPECT_NE(refusal(ErrorCode::badJoin, [&] { readRows(plan, folder.path(), {}, {}, quietly()); })
                  .find("never equal"),
              std::string::npos);
    plan.joins[0].keys = {{"month", "places"}};
    EXPECT_NE(refusal(ErrorCode::badJoin, [&] { readRows(plan, folder.path(), {}, {}, quietly()); })
                  .find("no row has a match"),
              std::string::npos);
    plan.joins[0].keys = {{"gone", "name"}};
    refusal(ErrorCode::unknownColumn, [&] { readRows(plan, folder.path(), {}, {}, quietly()); });
}

TEST(Join, KeysOfSeveralColumnsMustAllBeEqual) {
    const auto first = rowsOf("g,m\na,1\na,2\nb,1\n");
    const auto second = rowsOf("g,m,v\na,1,10\nb,1,20\nb,2,30\n");
    const auto rows = joinRows(first, second, "s", {{"g", "g"}, {"m", "m"}}, {}, quietly());
    EXPECT_EQ(cell(rows, "v", 1) + "|" + cell(rows, "v", 2) + "|" + cell(rows, "v", 3), "10||20");
}

TEST(Sqlite, QueriesAreReadAndNothingElseRuns) {
    const TemporaryFolder folder;
    const auto path = folder.file("d.sqlite");
    {
        Database database(path.string(), false);
        database.run("CREATE TABLE depots (name TEXT, since TEXT, places INTEGER, rate REAL, picture BLOB);"
                     "INSERT INTO depots VALUES ('Cinder', '2024-05-31', 100, 20.5, x'00'), ('Dunlin', NULL, "
                     "200, NULL, NULL),"
                     "('Kelder', '2025-01-01', 9007199254740993, 1e300, NULL);"
                     "CREATE VIEW large AS SELECT * FROM depots WHERE places > 150;");
    }
    EXPECT_EQ(tablesOfSqlite(path), (std::vector<std::string>{"depots", "large"}));
    auto ask = [&](const std::string& query) { return readSqlite(path, query, {}, 0, quietly()); };
    const auto rows = ask("SELECT name, since, places, rate FROM depots -- with a comment");
    EXPECT_EQ(rows.table.at("since", "").kind(), ColumnKind::date);
    EXPECT_EQ(cell(rows, "since", 1), "2024-05-31");
    EXPECT_EQ(cell(rows, "since", 2), "");
    EXPECT_EQ(cell(rows, "rate", 2), "");
    EXPECT_EQ(cell(rows, "places", 2), "200");
    EXPECT_EQ(ask("SELECT picture, name FROM depots").report.faultCount, 1u);
    EXPECT_NE(refusal(ErrorCode::badQuery, [&] { ask("SELECT nam FROM depots"); }).find("character 8"),
              std::string::npos);
    for (const auto* query : {"DELETE FROM depots", "SELECT 1 AS a; DELETE FROM depots", "ATTACH 'x' AS y",
                              "", "-- nothing", "SELEC 1", "DROP VIEW large"})
        refusal(ErrorCode::badQuery, [&] { ask(query); });
    EXPECT_NE(refusal(ErrorCode::badQuery, [&] { ask("SELECT name, places AS name FROM depots"); })
                  .find("\"name\""),
              std::string::npos);
    refusal(ErrorCode::noRows, [&] { ask("SELECT name FROM depots WHERE places < 0"); });
    refusal(ErrorCode::badDatabase,
            [&] { readSqlite(folder.write("t.db", std::string(5000, 'x')), "SELECT 1", {}, 0, quietly()); });
    refusal(ErrorCode::fileNotFound, [&] { readSqlite(folder.file("none"), "SELECT 1", {}, 0, quietly()); });
    EXPECT_EQ(ask("SELECT count(*) AS n FROM depots").table.at("n", "").numbers()[0], 3);
}

TEST(Sqlite, AQueryThatRunsForeverIsStopped) {
    const TemporaryFolder folder;
    {
        Database database(folder.file("e.sqlite").string(), false);
        database.run("CREATE TABLE t (x)");
    }
    struct Stopping : Progress {
        bool stopRequested() const override { return ++asked > 20; }
        mutable int asked = 0;
    } stopping;
    EXPECT_THROW(
        readSqlite(
            folder.file("e.sqlite"),
            "WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c) SELECT max(x) AS m FROM c", {},
            0, stopping),
        Stopped);
}

TEST(Drift, KolmogorovSmirnovAgreesWithADifferentComputation) {
    // Two samples whose distance can be read off by hand: at 2.5 the shares are 1/4 and 3/4.
    const auto [d, p] = kolmogorovSmirnov({1, 3, 4, 5}, {0, 1.5, 2, 6});
    EXPECT_DOUBLE_EQ(d, 0.5);
    EXPECT_GT(p, 0.4);
    // Smirnov 1948, "Table for estimating the goodness of fit of empirical distributions": Q(1.36) =
    // 0.0494860.
    std::vector<double> a(1000000), b(1000000);
    std::iota(a.begin(), a.end(), 0.0);
    const double shift = 1.36 * std::sqrt(2.0 / 1e6) * 1e6;
    for (std::size_t i = 0; i < b.size(); ++i)
        b[i] = a[i] + std::floor(shift);
    EXPECT_NEAR(kolmogorovSmirnov(a, b).second, 0.0494860, 2e-4);
    EXPECT_EQ(kolmogorovSmirnov(a, a).second, 1);
}

TEST(Drift, SaysWhatChangedBetweenTwoReadings) {
    std::string before = "depot,rate,gone\n", now = "depot,rate,fresh\n";
    for (int i = 0; i < 200; ++i) {
        before += (i % 2 ? "Cinder," : "Dunlin,") + std::to_string(20 + i % 10) + ",1\n";
        now += std::string(i % 2   ? "Cinder,"
                           : i % 4 ? "Kelder,"
                                   : "Dunlin,") +
               std::to_string(30 + i % 10) + ",1\n";
    }
    const auto drift = compareReadings(rowsOf(before).table, rowsOf(now).table, quietly());
    std::string all;
    for (const auto& sentence : drift.sentences())
        all += sentence + "\n";
    EXPECT_NE(all.find("gone: gone"), std::string::npos) << all;
    EXPECT_NE(all.find("new: fresh"), std::string::npos) << all;
    EXPECT_NE(all.find("depot: 1 new level: Kelder"), std::string::npos) << all;
    EXPECT_NE(all.find("rate: its distribution moved"), std::string::npos) << all;
    EXPECT_EQ(compareReadings(rowsOf(before).table, rowsOf(before).table, quietly()).sentences(),
              (std::vector<std::string>{"nothing changed"}));
}

TEST(Postgres, AQueryOfARealServerIsRead) {
    const Server server;
    ASSERT_TRUE(server.running) << "the server did not start";
    auto ask = [&](const std::string& query) {
        return readPostgres(server.place(), "right", query, {}, 0, quietly());
    };
    const auto rows = ask("SELECT * FROM depots ORDER BY name;");
    EXPECT_EQ(cell(rows, "name", 2), "Dunlin \"<b>");
    EXPECT_EQ(rows.table.at("since", "").kind(), ColumnKind::date);
    EXPECT_EQ(cell(rows, "since", 1), "2024-05-31");
    EXPECT_EQ(cell(rows, "seen", 1), "2024-05-31 12:30");
    EXPECT_EQ(cell(rows, "rate", 1), "20.1234567891");
    EXPECT_EQ(cell(rows, "places", 2), "");
    EXPECT_EQ(cell(rows, "open", 2), "false");
    const auto many = ask("SELECT x, y FROM many ORDER BY x");
    ASSERT_EQ(many.table.rows(), 60000u); // more than one portion
    EXPECT_EQ(many.table.at("y", "").numbers()[59999], 30000);
    EXPECT_NE(refusal(ErrorCode::badQuery, [&] { ask("SELECT nam FROM depots"); }).find("character 8"),
              std::string::npos);
    for (const auto* query : {"DELETE FROM depots", "SELECT 1 AS a; DELETE FROM depots",
                              "INSERT INTO depots(name) VALUES ('x') RETURNING name",
                              "WITH d AS (DELETE FROM depots RETURNING name) SELECT name FROM d", ""})
        refusal(ErrorCode::badQuery, [&] { ask(query); });
    refusal(ErrorCode::badQuery, [&] { ask("SELECT name, name FROM depots"); });
    EXPECT_EQ(ask("SELECT count(*) AS n FROM depots").table.at("n", "").numbers()[0], 2);
    // Passwords.
    EXPECT_NE(refusal(ErrorCode::badPassword,
                      [&] { readPostgres(server.place(), "wrong", "SELECT 1 AS a", {}, 0, quietly()); })
                  .find("refused the password"),
              std::string::npos);
    EXPECT_NE(refusal(ErrorCode::badPassword,
                      [&] { readPostgres(server.place(), "", "SELECT 1 AS a", {}, 0, quietly()); })
                  .find("asks for a password"),
              std::string::npos);
    ServerPlace elsewhere = server.place();
    elsewhere.port = 1;
    EXPECT_NE(refusal(ErrorCode::badDatabase,
                      [&] { readPostgres(elsewhere, "right", "SELECT 1 AS a", {}, 0, quietly()); })
                  .find("no connection"),
              std::string::npos);
    // The connection goes away half way.
    struct Cutting : Progress {
        const Server* server;
        bool done = false;
        void report(double, std::string_view message) override {
            if (done || message.find("10,000") == std::string_view::npos) return;
            done = true;
            readPostgres(server->place(), "right",
                         "SELECT count(pg_terminate_backend(pid)) AS n FROM pg_stat_activity WHERE usename = "
                         "'oxgoad' AND pid <> pg_backend_pid()",
                         {}, 0, quietly());
        }
    } cutting;
    cutting.server = &server;
    EXPECT_NE(refusal(ErrorCode::badDatabase,
                      [&] { readPostgres(server.place(), "right", "SELECT x FROM many", {}, 0, cutting); })
                  .find("connection was lost after 10,000 rows"),
              std::string::npos);
}

} // namespace sources_test
