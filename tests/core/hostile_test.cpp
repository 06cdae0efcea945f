// Files that were made to crash, hang or eat the machine, given to the command as anyone would, with a limit
// on memory and time; and what it leaves behind.
#include "base/random.h"
#include "base/text.h"
#include "read/database.h"
#include "read/source.h"
#include "read/text_reader.h"
#include "read/workbook.h"
#include "study/project.h"
#include "study/sqlite.h"
#include "support/support.h"

#include <chrono>
#include <csignal>
#include <sys/stat.h>
#include <sys/wait.h>
#include <thread>

using namespace oxgoad;
using namespace oxgoad::test;

namespace hostile_test {

const std::filesystem::path hostile = std::filesystem::path(OXGOAD_CASES) / "hostile";

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
const std::string limit; // the sanitizers reserve address space of their own
#else
const std::string limit = "ulimit -v 3000000; ";
#endif

struct Ran {
    int code = -1;
    std::string said;
    double seconds = 0;
};

/// Exit code 124 when it takes longer than 30 seconds, above 128 when a signal ends it.
Ran run(const std::string& arguments, const TemporaryFolder& folder) {
    const auto begin = std::chrono::steady_clock::now();
    const std::string command = "bash -c '" + limit + "exec timeout 30 " + OXGOAD_RUN + " " + arguments +
                                " --quiet' >" + folder.file("out.txt").string() + " 2>&1";
    const int status = std::system(command.c_str());
    return {WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status), bytesOf(folder.file("out.txt")),
            std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count()};
}

/// Read, or refused with a sentence; nothing else.
void expectCivil(const Ran& ran, const std::string& what) {
    EXPECT_TRUE(ran.code >= 0 && ran.code <= 3)
        << what << " ended with " << ran.code << ": " << ran.said.substr(0, 300);
    if (ran.code != 0) {
        EXPECT_GT(ran.said.size(), 10u) << what;
        EXPECT_EQ(ran.said.find("not enough memory"), std::string::npos)
            << what << ": a limit of its own comes first";
    }
    EXPECT_LT(ran.seconds, 25) << what;
}

/// A progress that asks to stop after some time.
class StopsAfter : public Progress {
public:
    explicit StopsAfter(double seconds) : m_seconds(seconds) {}
    bool stopRequested() const override {
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - m_begin).count() > m_seconds;
    }

private:
    double m_seconds;
    std::chrono::steady_clock::time_point m_begin = std::chrono::steady_clock::now();
};

TEST(Hostile, EveryFileIsReadOrRefused) {
    const TemporaryFolder folder;
    for (const auto& entry : std::filesystem::directory_iterator(hostile)) {
        const std::string name = entry.path().filename().string(), ending = entry.path().extension().string();
        if (ending == ".json")
            expectCivil(run(entry.path().string() + " --out " + folder.file("result").string(), folder),
                        name);
        else if (ending != ".db")
            expectCivil(run("--describe " + entry.path().string(), folder), name);
    }
}

TEST(Hostile, NumbersKeptAsTextAreReadAndNamed) {
    const TemporaryFolder folder;
    const Ran marks = run("--describe " + (hostile / "mixed_marks.csv").string(), folder);
    EXPECT_EQ(marks.code, 0) << marks.said;
    for (const auto* name : {"step_to_text.json", "kinds_text.json"}) {
        const Ran ran = run((hostile / name).string() + " --out " + folder.file("out").string(), folder);
        EXPECT_LE(ran.code, 3) << name << ran.said;
    }
    StudyRows rows;
    TextOptions options;
    options.kinds["x"] = ColumnKind::text;
    std::string text = "x,y\n";
    for (int i = 0; i < 60; ++i)
        text += std::to_string(i) + ".5," + std::to_string(i * i) + "\n";
    rows.learning = readTextBytes(text, "r.csv", options, {1}, quietly());
    const auto prepared = prepareRows(recipeOf("y", {}), rows, {}, quietly());
    bool named = false;
    for (const Goad& goad : prepared->ledger.goads())
        named = named || (goad.key == "number as text: x" && !goad.moves.empty());
    EXPECT_TRUE(named);
}

TEST(Hostile, WorkbooksThatRepeatCellsAreRefusedAndCanBeStopped) {
    for (const auto* name : {"repeat.ods", "repeat_many.ods", "repeat_text.ods"}) {
        SheetChoice choice;
        const std::string said = errorOf([&] { readWorkbook(hostile / name, choice, {}, quietly()); });
        if (std::string_view(name) !=
            "repeat_many.ods") { // that one repeats beyond the last column of a sheet
            EXPECT_NE(said.find("more than a file of its size can hold"), std::string::npos)
                << name << ": " << said;
        }
        StopsAfter stop(0.02);
        const auto begin = std::chrono::steady_clock::now();
        try {
            readWorkbook(hostile / name, choice, {}, stop);
        } catch (const Error&) {
        } catch (const Stopped&) {
        }
        EXPECT_LT(std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count(), 3) << name;
    }
}

TEST(Hostile, APowerThatComesRoundBelowZeroIsRefused) {
    EXPECT_NE(errorOf([] { readRecipe(hostile / "power_wrap.json"); }).find("whole number from -30 to 30"),
              std::string::npos);
}

TEST(Hostile, TextThatIsNotUtf8IsAFaultOfItsCell) {
    const RowsRead rows = readSqlite(hostile / "u.db", "select * from t", {}, 0, quietly());
    EXPECT_GT(rows.report.faultCount, 0u);
    bool said = false;
    for (const CellFault& fault : rows.report.faults)
        said = said || fault.reason == "is not UTF-8 text";
    EXPECT_TRUE(said);
    for (const Column& column : rows.table.columns())
        for (std::size_t i = 0; i < rows.table.rows(); ++i)
            EXPECT_TRUE(isUtf8(column.cellText(i)));
}

TEST(Hostile, ALevelThatOtherProgramsWouldSplitIsQuoted) {
    const TemporaryFolder folder;
    const auto out = folder.file("out");
    ASSERT_EQ(run((hostile / "levels.json").string() + " --out " + out.string(), folder).code, 0);
    for (const auto* name : {"coefficients.csv", "forecast.csv"}) {
        const std::string text = bytesOf(out / name);
        for (std::size_t at = text.find(";="); at != std::string::npos; at = text.find(";=", at + 1)) {
            // Inside quotes: an odd number of them before it on its line.
            const std::size_t line = text.rfind('\n', at) + 1;
            EXPECT_EQ(std::count(text.begin() + static_cast<std::ptrdiff_t>(line),
                                 text.begin() + static_cast<std::ptrdiff_t>(at), '"') %
                          2,
                      1)
                << name << ": " << text.substr(line, 60);
        }
    }
}

TEST(Hostile, ManyColumnsOfOneNameAreNamedInTimeProportionalToThem) {
    std::string head, line;
    for (int i = 0; i < 20000; ++i) {
        head += i ? ",v" : "v";
        line += i ? ",1" : "1";
    }
    const auto begin = std::chrono::steady_clock::now();
    const RowsRead rows = readBytes(head + "\n" + line + "\n" + line + "\n");
    EXPECT_EQ(rows.table.columns().size(), 20000u);
    EXPECT_EQ(rows.table.columns()[19999].name(), "v_20000");
    EXPECT_LT(std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count(), 10);
}

TEST(Hostile, MoreColumnsOrCellsThanAFileCanHoldAreRefusedWithTheirNumber) {
    EXPECT_NE(errorOf([] { readBytes(std::string(1000000, ',') + "\n1\n"); }).find("1,000,001 columns"),
              std::string::npos);
    std::string tall(40000, ',');
    tall += "\n";
    for (int i = 0; i < 300000; ++i)
        tall += "1\n";
    EXPECT_NE(errorOf([&] { readBytes(tall); }).find("more cells than a file of this size can hold"),
              std::string::npos);
    // A sheet as wide and as tall as sheets get is no such thing.
    std::string dense;
    for (int i = 0; i < 300; ++i) {
        for (int c = 0; c < 2000; ++c)
            dense += c ? ",1" : "1";
        dense += "\n";
    }
    EXPECT_EQ(readBytes(dense).table.columns().size(), 2000u);
}

TEST(Hostile, APipeInPlaceOfAFileIsRefusedAtOnce) {
    const TemporaryFolder folder;
    const auto pipe = folder.file("rows.csv");
    ASSERT_EQ(mkfifo(pipe.c_str(), 0600), 0);
    EXPECT_EQ(kindOfFile(pipe), SourceKind::text);
    EXPECT_NE(errorOf([&] { readText(pipe, {}, {}, quietly()); }).find("not a regular file"),
              std::string::npos);
    expectCivil(run("--describe " + pipe.string(), folder), "pipe");
}

TEST(Hostile, AnEndlessQueryStopsWithinAMomentBeforeItsFirstRow) {
    const TemporaryFolder folder;
    {
        Database database(folder.file("d.db").string(), false);
        database.run("CREATE TABLE t (x); INSERT INTO t VALUES (1)");
    }
    StopsAfter stop(0.2);
    const auto begin = std::chrono::steady_clock::now();
    EXPECT_THROW(
        readSqlite(folder.file("d.db"),
                   "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n",
                   {}, 0, stop),
        Stopped);
    EXPECT_LT(std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count(), 0.2 + 0.3);
}

TEST(Hostile, ReadingADatabaseWithALogLeavesNoFilesBesideIt) {
    const TemporaryFolder folder;
    const auto path = folder.file("log mode.db");
    {
        Database database(path.string(), false);
        database.run("PRAGMA journal_mode = WAL; CREATE TABLE t (x); INSERT INTO t VALUES (1), (2), (3)");
    }
    std::filesystem::remove(path.string() + "-wal");
    std::filesystem::remove(path.string() + "-shm");
    EXPECT_EQ(readSqlite(path, "SELECT x FROM t", {}, 0, quietly()).table.rows(), 3u);
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(folder.path()), {}), 1);
    // With a log that somebody still writes, its rows count and its files stay.
    Database writer(path.string(), false);
    writer.run("INSERT INTO t VALUES (4)");
    ASSERT_TRUE(std::filesystem::exists(path.string() + "-wal"));
    EXPECT_EQ(readSqlite(path, "SELECT x FROM t", {}, 0, quietly()).table.rows(), 4u);
    EXPECT_TRUE(std::filesystem::exists(path.string() + "-wal"));
}

TEST(Hostile, AFitOfThousandsOfColumnsStopsWithinAMoment) {
    RandomStream random(3, "wide");
    std::vector<Column> columns;
    constexpr std::size_t rows = 2600, wide = 2500;
    Recipe recipe = recipeOf("y", {});
    for (std::size_t c = 0; c <= wide; ++c) {
        std::vector<double> values(rows);
        for (double& v : values)
            v = random.normal();
        const std::string name = c == wide ? "y" : "x" + std::to_string(c);
        columns.push_back(Column::ofNumbers(name, std::move(values)));
        if (c < wide) recipe.terms.push_back(plainTerm(name));
    }
    StudyRows study;
    study.learning.table = Table(std::move(columns));
    const auto prepared = prepareRows(recipe, study, {}, quietly());
    for (const double after : {0.3, 1.5, 4.0}) {
        StopsAfter stop(after);
        const auto begin = std::chrono::steady_clock::now();
        EXPECT_THROW(evaluate(recipe, study, *prepared, {}, stop), Stopped);
        // 100 ms on a quiet machine; other tests run beside this one.
        EXPECT_LT(std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count(),
                  after + 1.0)
            << after;
    }
}

TEST(Hostile, ALimitOnTheSizeOfFilesIsASentence) {
    const TemporaryFolder folder;
    const std::string command = "bash -c 'ulimit -f 1; exec " + std::string(OXGOAD_RUN) + " " +
                                (std::filesystem::path(OXGOAD_DEMO) / "1_straight.json").string() +
                                " --quiet --out " + folder.file("out").string() + "' 2>" +
                                folder.file("said.txt").string();
    const int status = std::system(command.c_str());
    ASSERT_TRUE(WIFEXITED(status)) << "killed";
    EXPECT_NE(WEXITSTATUS(status), 0);
    EXPECT_LT(WEXITSTATUS(status), 128);
}

} // namespace hostile_test
