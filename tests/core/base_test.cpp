#include "base/file.h"
#include "base/parallel.h"
#include "base/random.h"
#include "base/text.h"
#include "support/support.h"
#include "write/csv.h"

#include <atomic>
#include <limits>
#include <set>
#include <sys/resource.h>

using namespace oxgoad;
using namespace oxgoad::test;

TEST(Text, ExactTextReadsBackToTheSameDouble) {
    for (const double value :
         {0.1, 1.0 / 3, 1e-308, 123456789.123456789, -0.0, 5e-324, std::numeric_limits<double>::max()})
        EXPECT_EQ(std::strtod(exactText(value).c_str(), nullptr), value);
    EXPECT_EQ(exactText(std::nan("")), "");
}

TEST(Text, ReadableTextGroupsThousandsAndKeepsDigits) {
    EXPECT_EQ(readableText(1234567.0), "1,234,567");
    EXPECT_EQ(readableText(-0.012345), "−0.01235"); // halves are as the double says, here just above
    EXPECT_EQ(readableText(99999.6), "100,000");
    EXPECT_EQ(readableText(0), "0");
    EXPECT_EQ(readableText(1.5e-7), "1.500e-07");
    EXPECT_EQ(percentText(0.95), "95 %");
    EXPECT_EQ(percentText(0.999), "99.9 %");
}

TEST(Text, ProbabilitiesKeepTwoDigitsWhereTheyMatter) {
    EXPECT_EQ(probabilityText(0.5), "0.50");
    EXPECT_EQ(probabilityText(0.0123), "0.012");
    EXPECT_EQ(probabilityText(3e-7), "3e-07");
    EXPECT_EQ(probabilityText(1e-120), "< 1e-99");
}

TEST(Text, DatesFollowTheCalendar) {
    EXPECT_EQ(daysFromCivil(1970, 1, 1), 0);
    EXPECT_EQ(daysFromCivil(2000, 2, 29), 11016); // common practice: 2000 is a leap year
    EXPECT_FALSE(daysFromCivil(1900, 2, 29));
    EXPECT_FALSE(daysFromCivil(2025, 13, 1));
    EXPECT_EQ(dateText(11016), "2000-02-29");
}

TEST(Text, Utf8IsJudgedAsRfc3629Says) {
    EXPECT_TRUE(isUtf8("plain"));
    EXPECT_TRUE(isUtf8("Kühlhaus 倉庫 🧊"));
    EXPECT_FALSE(isUtf8("K\xFChlhaus"));
    EXPECT_FALSE(isUtf8("\xC0\xAF"));         // overlong
    EXPECT_FALSE(isUtf8("\xED\xA0\x80"));     // surrogate
    EXPECT_FALSE(isUtf8("\xF5\x80\x80\x80")); // beyond U+10FFFF
    EXPECT_FALSE(isUtf8("abc\xE2\x82"));      // cut off
}

TEST(Random, SplitMix64GivesItsPublishedSequence) {
    // The generator's steps from state 0: values of the reference code by Vigna, from memory.
    std::uint64_t state = 0;
    auto next = [&state] {
        std::uint64_t z = (state += 0x9e3779b97f4a7c15ULL);
        z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
        z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
        return z ^ (z >> 31);
    };
    EXPECT_EQ(next(), 0xe220a8397b1dcdafULL);
    EXPECT_EQ(next(), 0x6e789e6aa1b965f4ULL);
    // Streams of one seed differ by purpose and repeat themselves.
    RandomStream a(7, "one"), b(7, "two"), again(7, "one");
    const auto first = a.next();
    EXPECT_NE(first, b.next());
    EXPECT_EQ(first, again.next());
}

TEST(Random, ShuffledHoldsEveryNumberOnce) {
    RandomStream stream(1, "test");
    const auto order = shuffled(1000, stream);
    EXPECT_EQ(std::set<std::uint32_t>(order.begin(), order.end()).size(), 1000u);
    EXPECT_NE(order[0], 0u);
}

TEST(Parallel, RunsEveryIndexOnceAndRethrowsTheFirstFailure) {
    std::vector<std::atomic<int>> seen(1000);
    parallelFor(seen.size(), {4}, [&](std::size_t i) { ++seen[i]; });
    for (const auto& count : seen)
        EXPECT_EQ(count, 1);
    EXPECT_THROW(parallelFor(100, {4},
                             [](std::size_t i) {
                                 if (i == 57) throw Stopped{};
                             }),
                 Stopped);
}

TEST(File, MissingFilesAndFoldersAreNamed) {
    const TemporaryFolder folder;
    EXPECT_NE(errorOf([&] { readFile(folder.file("no.csv")); }).find("there is no such file"),
              std::string::npos);
    EXPECT_NE(errorOf([&] { readFile(folder.path()); }).find("this is a folder, not a file"),
              std::string::npos);
}

TEST(File, ReplacingLeavesTheOldFileWhenItCannotBeWritten) {
    const TemporaryFolder folder;
    const auto path = folder.write("kept.txt", "old");
    rlimit before{};
    getrlimit(RLIMIT_FSIZE, &before);
    signal(SIGXFSZ, SIG_IGN); // the limit stands for a full disk: writing ends with an error
    const rlimit small{1000, before.rlim_max};
    setrlimit(RLIMIT_FSIZE, &small);
    const std::string failure = errorOf([&] { replaceFile(path, std::string(100000, 'x')); });
    setrlimit(RLIMIT_FSIZE, &before);
    EXPECT_NE(failure.find("cannot be written"), std::string::npos) << failure;
    EXPECT_EQ(bytesOf(path), "old");
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(folder.path()), {}), 1)
        << "something half-written is left";
    replaceFile(path, "new");
    EXPECT_EQ(bytesOf(path), "new");
}

TEST(Csv, TextIsQuotedAndNeverLive) {
    CsvWriter csv;
    csv.text("plain")
        .text("a,b")
        .text("say \"hi\"")
        .text("=1+1")
        .text("-cmd|' /C calc'!A0")
        .text("@sum")
        .text("-12.5")
        .number(std::nan(""))
        .number(0.1);
    csv.endRow();
    EXPECT_EQ(csv.bytes(), "plain,\"a,b\",\"say \"\"hi\"\"\",'=1+1,'-cmd|' /C calc'!A0,'@sum,-12.5,,0.1\n");
}
