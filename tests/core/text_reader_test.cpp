#include "support/support.h"

using namespace oxgoad;
using namespace oxgoad::test;

namespace text_reader_test {

std::vector<std::string> cells(const RowsRead& read, std::size_t column) {
    std::vector<std::string> all;
    for (std::size_t i = 0; i < read.table.rows(); ++i)
        all.push_back(read.table.columns()[column].cellText(i));
    return all;
}

TEST(TextReader, FindsDelimiterHeaderDecimalMarkAndKinds) {
    const auto read = readBytes("depot;rate;month;code\nNorth;12,5;2025-01-01;a\nSouth;13,75;2025-02-01;b\n");
    EXPECT_EQ(read.report.format.delimiter, ';');
    EXPECT_EQ(read.report.format.decimalMark, ',');
    EXPECT_TRUE(read.report.format.header);
    const auto& c = read.table.columns();
    ASSERT_EQ(c.size(), 4u);
    EXPECT_EQ(c[0].kind(), ColumnKind::factor);
    EXPECT_EQ(c[1].kind(), ColumnKind::number);
    EXPECT_EQ(c[2].kind(), ColumnKind::date);
    EXPECT_EQ(c[1].numbers()[1], 13.75);
}

TEST(TextReader, EverythingFoundCanBeChanged) {
    TextOptions options;
    options.delimiter = '|';
    options.header = false;
    options.decimalMark = ',';
    options.quote = '\'';
    options.kinds["column_1"] = ColumnKind::factor;
    const auto read = readBytes("1|'a|b'|2,5\n2|c|3,5\n", options);
    EXPECT_EQ(cells(read, 0), (std::vector<std::string>{"1", "2"}));
    EXPECT_EQ(read.table.columns()[0].kind(), ColumnKind::factor);
    EXPECT_EQ(cells(read, 1), (std::vector<std::string>{"a|b", "c"}));
    EXPECT_EQ(read.table.columns()[2].numbers()[0], 2.5);
}

TEST(TextReader, QuotedDelimitersNewlinesAndQuotes) {
    const auto read = readBytes("a,b\r\n\"x, y\",1\r\n\"line one\nline two\",2\r\n\"say \"\"hi\"\"\",3\r\n");
    EXPECT_EQ(cells(read, 0), (std::vector<std::string>{"x, y", "line one\nline two", "say \"hi\""}));
    EXPECT_EQ(cells(read, 1), (std::vector<std::string>{"1", "2", "3"}));
}

TEST(TextReader, LineNumbersCountLinesInsideQuotes) {
    const auto read = readBytes("a,b\n\"one\ntwo\",1\nx,2\nx,3\nx,4\nx,5\nx,6\nx,7\nx,8\nx,9\nx,ten\n");
    ASSERT_EQ(read.report.faults.size(), 1u);
    EXPECT_EQ(read.report.faults[0].line, 12u);
    EXPECT_EQ(read.report.faults[0].row, 10u);
    EXPECT_EQ(read.report.faults[0].cell, 2u);
    EXPECT_EQ(read.report.faults[0].column, "b");
    EXPECT_EQ(read.report.faults[0].text, "ten");
}

TEST(TextReader, MissingMarksAreMissingAndMisfitsAreCounted) {
    std::string text = "rate\n?\nNA\n\"\"\n-\n";
    for (int i = 0; i < 30; ++i)
        text += "1.5\n";
    text += "1 5\n12 EURO\n";
    const auto read = readBytes(text);
    EXPECT_EQ(read.table.rows(), 36u);
    EXPECT_EQ(read.table.columns()[0].missingCount(), 6u);
    EXPECT_EQ(read.report.faultCount, 2u);
    ASSERT_EQ(read.report.faultsByColumn.size(), 1u);
    EXPECT_EQ(read.report.faultsByColumn[0], (std::pair<std::string, std::size_t>{"rate", 2}));
}

TEST(TextReader, EncodingsGiveTheSameText) {
    const std::string plain = "Ort,Wert\nKöln,1\nZürich,2\n";
    std::string utf16 = "\xFF\xFE", utf16big, latin;
    for (const char32_t c : std::u32string(U"Ort,Wert\nKöln,1\nZürich,2\n")) {
        utf16 += static_cast<char>(c & 0xFF);
        utf16 += static_cast<char>(c >> 8);
        utf16big += static_cast<char>(c >> 8);
        utf16big += static_cast<char>(c & 0xFF);
        latin += static_cast<char>(c);
    }
    const auto expected = cells(readBytes(plain), 0);
    EXPECT_EQ(cells(readBytes("\xEF\xBB\xBF" + plain), 0), expected);
    EXPECT_EQ(cells(readBytes(utf16), 0), expected);
    EXPECT_EQ(cells(readBytes(utf16big), 0), expected); // found without a mark
    const auto read = readBytes(latin);
    EXPECT_EQ(cells(read, 0), expected);
    EXPECT_EQ(read.report.format.encoding, Encoding::latin1);
    EXPECT_EQ(read.table.columns()[0].name(), "Ort");
}

TEST(TextReader, RaggedLinesAreReportedAndNothingIsLost) {
    const auto read = readBytes("a,b,c\n1,2,3\n4,5\n6,7,8,9\n");
    EXPECT_EQ(read.table.rows(), 3u);
    EXPECT_EQ(read.report.faultCount, 2u);
    EXPECT_EQ(read.report.faults[0].line, 3u);
    EXPECT_NE(read.report.faults[0].reason.find("2 cells where the header has 3"), std::string::npos);
    EXPECT_EQ(read.report.faults[1].text, "9");
    EXPECT_TRUE(read.table.columns()[2].isMissing(1));
}

TEST(TextReader, DoubledAndEmptyNamesAreMadeDistinct) {
    const auto read = readBytes("rate,,rate,rate_2\n1,2,3,4\n");
    std::vector<std::string> names;
    for (const auto& c : read.table.columns())
        names.push_back(c.name());
    EXPECT_EQ(names, (std::vector<std::string>{"rate", "column_2", "rate_3", "rate_2"}));
    EXPECT_EQ(read.report.notes.size(), 2u);
}

TEST(TextReader, BlankLinesArePassedOverAndSaid) {
    const auto read = readBytes("\n\na,b\n1,2\n\n3,4\n\n");
    EXPECT_EQ(read.table.rows(), 2u);
    EXPECT_EQ(read.table.columns()[0].name(), "a");
    ASSERT_FALSE(read.report.notes.empty());
    EXPECT_NE(read.report.notes.back().find("2 blank lines"), std::string::npos);
}

TEST(TextReader, OneColumnKeepsItsEmptyLinesAsMissing) {
    const auto read = readBytes("x\n1\n\n3\n");
    EXPECT_EQ(read.table.rows(), 3u);
    EXPECT_EQ(read.table.columns()[0].missingCount(), 1u);
}

TEST(TextReader, BadFilesGetASentence) {
    EXPECT_NE(errorOf([] { readBytes(""); }).find("the file is empty"), std::string::npos);
    EXPECT_NE(errorOf([] { readBytes("\n\n \n"); }).find("blank lines"), std::string::npos);
    EXPECT_NE(errorOf([] { readBytes("a,b\n"); }).find("no rows below it"), std::string::npos);
    EXPECT_NE(errorOf([] {
                  readBytes(std::string("\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0", 18));
              }).find("does not look like text"),
              std::string::npos);
    EXPECT_NE(
        errorOf([] { readBytes(std::string("PK\x03\x04 and so on", 14)); }).find("workbook or an archive"),
        std::string::npos);
    const std::string open = errorOf([] { readBytes("a,b\n1,2\n\"3,4\n5,6\n"); });
    EXPECT_NE(open.find("line 3"), std::string::npos) << open;
    EXPECT_NE(open.find("never closed"), std::string::npos);
    TextOptions options;
    options.kinds["rat"] = ColumnKind::number;
    EXPECT_NE(errorOf([&] { readBytes("rate\n1\n", options); }).find("no column \"rat\""), std::string::npos);
    options.kindsMayBeAbsent = true;
    EXPECT_EQ(readBytes("rate\n1\n", options).table.rows(), 1u);
}

TEST(TextReader, ALineOfAMillionCharactersIsRead) {
    const std::string longCell(1000000, 'x');
    const auto read = readBytes("a,b\n" + longCell + ",1\ny,2\n");
    EXPECT_EQ(read.table.rows(), 2u);
    EXPECT_EQ(read.table.columns()[0].cellText(0).size() + read.table.columns()[0].cellText(1).size(),
              1000001u);
}

TEST(TextReader, ManyDistinctTextsAreTextNotAFactor) {
    std::string text = "id,v\n";
    for (int i = 0; i < 100; ++i)
        text += "item-" + std::to_string(i) + ",1\n";
    EXPECT_EQ(readBytes(text).table.columns()[0].kind(), ColumnKind::text);
}

TEST(TextReader, AColumnJudgedTooEarlyIsReadAgainAsAFactor) {
    // Numbers in all the places that are sampled, words in most others.
    std::string text = "v,w\n";
    for (int i = 0; i < 1200; ++i)
        text += "1,2\n";
    for (int i = 0; i < 4000; ++i)
        text += "word,2\n";
    const auto read = readBytes(text);
    EXPECT_EQ(read.table.columns()[0].kind(), ColumnKind::factor);
    EXPECT_EQ(read.report.faultCount, 0u);
}

TEST(TextReader, ChunksAndThreadsChangeNothing) {
    // 7 MB, so that it is cut; quotes with line ends, stray quotes in bare cells, CRLF.
    std::string text = "name,size,height,note\r\n";
    for (int i = 0; text.size() < 7000000; ++i)
        text += "n" + std::to_string(i % 97) + "," + std::to_string(i) + ".25,5'" + std::to_string(i % 12) +
                "\"," + (i % 5 ? "plain" : "\"two\r\nlines, \"\"x\"\"\"") + "\r\n";
    const auto one = readBytes(text, {}, 1);
    const auto four = readBytes(text, {}, 4);
    ASSERT_EQ(one.table.rows(), four.table.rows());
    EXPECT_EQ(one.report.faultCount, four.report.faultCount);
    for (std::size_t c = 0; c < one.table.columns().size(); ++c)
        for (std::size_t i = 0; i < one.table.rows(); i += 1009)
            ASSERT_EQ(one.table.columns()[c].cellText(i), four.table.columns()[c].cellText(i));
    EXPECT_EQ(one.table.columns()[1].numbers().back(), static_cast<double>(one.table.rows() - 1) + 0.25);
}

TEST(TextReader, StopsWhenAsked) {
    class Stopper : public Progress {
        bool stopRequested() const override { return true; }
    } stopper;
    EXPECT_THROW(readTextBytes("a\n1\n", "x", {}, {1}, stopper), Stopped);
}

TEST(TextReader, TheTableTakesAtMostTwiceItsNumbersAndCodes) {
    const auto read = readBytes("a,b\n1,x\n2,y\n");
    EXPECT_EQ(read.table.valueBytes(), 2 * 8 + 2 * 4u);
}

} // namespace text_reader_test
