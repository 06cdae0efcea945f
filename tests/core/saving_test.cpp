// Saving projects: what a kill, a second save, a damaged file and odd targets do.
#include "base/file.h"
#include "base/random.h"
#include "study/project.h"
#include "study/sqlite.h"
#include "support/support.h"

#include <atomic>
#include <csignal>
#include <cstdlib>
#include <sys/stat.h>
#include <sys/wait.h>
#include <thread>

using namespace oxgoad;
using namespace oxgoad::test;

namespace fs = std::filesystem;

namespace saving_test {

/// A project whose rows, recipe and view all say the same number.
Project numbered(int number, std::size_t rows = 400) {
    Project project;
    std::vector<double> x(rows), y(rows);
    for (std::size_t i = 0; i < rows; ++i) {
        x[i] = static_cast<double>(i);
        y[i] = number + 0.5 * x[i] + static_cast<double>((i * 37) % 11);
    }
    std::vector<std::int32_t> codes(rows);
    for (std::size_t i = 0; i < rows; ++i)
        codes[i] = static_cast<std::int32_t>(i % 3);
    TextCells cells;
    for (std::size_t i = 0; i < rows; ++i)
        cells.add("row " + std::to_string(i));
    project.rows.learning.table =
        Table({Column::ofNumbers("x", x), Column::ofNumbers("y", y),
               Column::ofFactor("g", codes, {"a", "b", "c"}), Column::ofText("id", std::move(cells))});
    project.rows.learning.report.rows = rows;
    project.recipe = recipeOf("y", {"x"});
    project.recipe.units["y"] = std::to_string(number);
    project.view["number"] = std::to_string(number);
    project.folder = "/somewhere";
    const Evidence e = evaluate(project.recipe, project.rows, {}, quietly());
    project.current = project.trail.add(project.recipe, e, 0);
    Recipe other = project.recipe;
    other.intercept = false;
    project.trail.add(other, evaluate(other, project.rows, {}, quietly()), project.current);
    return project;
}

/// The number that all parts agree on.
int numberOf(const Project& project) {
    const int number = std::stoi(project.view.at("number"));
    EXPECT_EQ(project.recipe.units.at("y"), std::to_string(number));
    EXPECT_EQ(project.rows.learning.table.at("y", {}).numbers()[0], number);
    EXPECT_EQ(project.trail.fits().size(), 2u);
    return number;
}

bool sameContents(const Project& a, const Project& b) {
    if (a.recipe != b.recipe || a.current != b.current || a.view != b.view || a.folder != b.folder ||
        a.trail.fits().size() != b.trail.fits().size() || a.trail.testLooks() != b.trail.testLooks())
        return false;
    for (std::size_t i = 0; i < a.trail.fits().size(); ++i)
        if (a.trail.fits()[i].recipe != b.trail.fits()[i].recipe ||
            a.trail.fits()[i].change != b.trail.fits()[i].change ||
            a.trail.fits()[i].summary.learningRmse != b.trail.fits()[i].summary.learningRmse)
            return false;
    const auto &left = a.rows.learning.table.columns(), &right = b.rows.learning.table.columns();
    if (left.size() != right.size()) return false;
    for (std::size_t c = 0; c < left.size(); ++c) {
        if (left[c].name() != right[c].name() || left[c].kind() != right[c].kind() ||
            left[c].size() != right[c].size())
            return false;
        for (std::size_t i = 0; i < left[c].size(); ++i)
            if (left[c].cellText(i) != right[c].cellText(i)) return false;
    }
    return a.rows.learning.report.file == b.rows.learning.report.file;
}

std::size_t filesIn(const fs::path& folder) {
    return static_cast<std::size_t>(std::distance(fs::directory_iterator(folder), {}));
}

TEST(Saving, KillsAtRandomMomentsWithOverlappingSavesLoseNothing) {
    const std::size_t rounds = wanted("OXGOAD_KILLS", 50); // 1,000 by hand
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    std::vector<Project> versions;
    for (int v = 1; v <= 4; ++v)
        versions.push_back(numbered(v));
    saveProject(path, versions[0], quietly());
    RandomStream random(7, "kills");
    std::size_t changed = 0;
    for (std::size_t round = 0; round < rounds; ++round) {
        const std::string before = bytesOf(path);
        const pid_t child = fork();
        ASSERT_GE(child, 0);
        if (child == 0) {
            // Two threads save different versions over and over, as two windows might.
            const auto save = [&](std::size_t from) {
                for (std::size_t i = from;; ++i)
                    saveProject(path, versions[i % versions.size()], quietly());
            };
            std::thread other(save, 1);
            save(2);
        }
        usleep(static_cast<useconds_t>(500 + random.below(40000)));
        kill(child, SIGKILL);
        waitpid(child, nullptr, 0);
        const int number = numberOf(openProject(path, quietly()));
        ASSERT_GE(number, 1) << "round " << round;
        ASSERT_LE(number, 4) << "round " << round;
        changed += bytesOf(path) != before;
    }
    EXPECT_GT(changed, rounds / 4) << "the saves got somewhere at all";
    // What the killed ones left is taken away by the next save of the same file.
    saveProject(path, versions[0], quietly());
    EXPECT_EQ(filesIn(folder.path()), 1u);
    EXPECT_EQ(numberOf(openProject(path, quietly())), 1);
}

TEST(Saving, TwoSavesAtOnceNeverMix) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    const Project one = numbered(1, 3000), two = numbered(2, 3000);
    for (int round = 0; round < 12; ++round) {
        std::thread first([&] { saveProject(path, one, quietly()); });
        std::thread second([&] { saveProject(path, two, quietly()); });
        first.join();
        second.join();
        const Project found = openProject(path, quietly());
        EXPECT_TRUE(sameContents(found, numberOf(found) == 1 ? one : two));
    }
    EXPECT_EQ(filesIn(folder.path()), 1u);
}

TEST(Saving, ASaveThatIsStillWritingIsNotTakenForALeftover) {
    const TemporaryFolder folder;
    AtomicFile writing(folder.file("p.oxgoad"));
    replaceFile(folder.file("p.oxgoad"), "other");
    EXPECT_TRUE(fs::exists(writing.temporary()));
    std::ofstream(writing.temporary()) << "mine";
    writing.commit();
    EXPECT_EQ(bytesOf(folder.file("p.oxgoad")), "mine");
    // Files that only look alike belong to somebody else.
    folder.write("p.oxgoad.writing-notes", "keep");
    replaceFile(folder.file("p.oxgoad"), "again");
    EXPECT_TRUE(fs::exists(folder.file("p.oxgoad.writing-notes")));
}

TEST(Saving, PermissionsAreKeptAndNobodyReadsAlongWhileItIsWritten) {
    const TemporaryFolder folder;
    const auto path = folder.write("private.oxgoad", "old");
    fs::permissions(path, fs::perms::owner_read | fs::perms::owner_write);
    {
        AtomicFile file(path);
        std::ofstream(file.temporary()) << "new";
        EXPECT_EQ(fs::status(file.temporary()).permissions(), fs::perms::owner_read | fs::perms::owner_write);
        file.commit();
    }
    EXPECT_EQ(fs::status(path).permissions(), fs::perms::owner_read | fs::perms::owner_write);
    const mode_t mask = umask(027);
    replaceFile(folder.file("fresh.txt"), "x");
    umask(mask);
    EXPECT_EQ(fs::status(folder.file("fresh.txt")).permissions(),
              fs::perms::owner_read | fs::perms::owner_write | fs::perms::group_read);
}

TEST(Saving, WriteProtectedFilesPipesAndDevicesAreRefused) {
    const TemporaryFolder folder;
    const auto path = folder.write("locked.oxgoad", "old");
    fs::permissions(path, fs::perms::owner_read);
    EXPECT_NE(errorOf([&] { replaceFile(path, "new"); }).find("write-protected"), std::string::npos);
    EXPECT_EQ(bytesOf(path), "old");
    ASSERT_EQ(mkfifo(folder.file("pipe").c_str(), 0600), 0);
    EXPECT_NE(errorOf([&] { replaceFile(folder.file("pipe"), "new"); }).find("not a regular file"),
              std::string::npos);
    EXPECT_TRUE(fs::is_fifo(folder.file("pipe")));
    EXPECT_NE(errorOf([&] { replaceFile("/dev/null", "new"); }).find("not a regular file"),
              std::string::npos);
    EXPECT_TRUE(fs::is_character_file("/dev/null"));
}

TEST(Saving, EveryFlippedBitIsFoundOrChangesNothing) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    const Project project = numbered(3, 400);
    saveProject(path, project, quietly());
    const std::string whole = bytesOf(path);
    std::size_t refused = 0, same = 0;
    RandomStream random(11, "flips");
    for (int i = 0; i < 600; ++i) {
        std::string bytes = whole;
        const std::size_t at = random.below(bytes.size());
        bytes[at] = static_cast<char>(bytes[at] ^ (1 << random.below(8)));
        folder.write("d.oxgoad", bytes);
        try {
            const Project found = openProject(folder.file("d.oxgoad"), quietly());
            EXPECT_TRUE(sameContents(found, project))
                << "bit of byte " << at << " opened with other contents";
            ++same; // in space that SQLite does not use
        } catch (const Error& error) {
            ++refused;
            EXPECT_TRUE(error.code() == ErrorCode::badProject || error.code() == ErrorCode::damagedProject ||
                        error.code() == ErrorCode::newerVersion)
                << error.what();
        }
        ASSERT_EQ(bytesOf(folder.file("d.oxgoad")), bytes) << "a damaged file must not be touched";
    }
    EXPECT_GT(refused, 100u);
    RecordProperty("refused", static_cast<int>(refused));
}

TEST(Saving, ADamagedColumnIsNamedAndTheRestIsOffered) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    const Project project = numbered(2);
    saveProject(path, project, quietly());
    {
        Database database(path.string(), false);
        database.run("UPDATE columns SET data = zeroblob(length(data)) WHERE name = 'g'");
        database.run("UPDATE fits SET recipe = replace(recipe, '\"x\"', '\"id\"') WHERE number = 2");
    }
    const auto before = bytesOf(path);
    const std::string said = errorOf([&] { openProject(path, quietly()); });
    EXPECT_NE(said.find("the project is damaged: fit 2: it is not as it was written. "), std::string::npos)
        << said;
    EXPECT_EQ(said.find("damaged", said.find("damaged") + 1), std::string::npos) << "said once: " << said;
    const Salvaged found = salvageProject(path, quietly());
    EXPECT_EQ(found.lost, (std::vector<std::string>{"fit 2", "column 3 of the rows, g"}))
        << nlohmann::json(found.lost).dump();
    EXPECT_EQ(found.lostColumns, std::vector<std::string>{"g"});
    EXPECT_EQ(found.project.trail.fits().size(), 1u);
    EXPECT_EQ(found.project.rows.learning.table.columns().size(), 3u);
    EXPECT_EQ(found.project.rows.learning.table.at("y", {}).numbers()[5],
              project.rows.learning.table.at("y", {}).numbers()[5]);
    EXPECT_EQ(bytesOf(path), before);
}

TEST(Saving, CraftedProjectsAreRefusedBeforeAnythingOfTheirsRuns) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    const auto crafted = [&](const char* sql) {
        fs::remove(path);
        saveProject(path, numbered(1), quietly());
        {
            Database database(path.string(), false);
            database.run(sql);
        }
        return errorOf([&] { openProject(path, quietly()); });
    };
    EXPECT_NE(crafted("UPDATE tables SET rows = -1").find("damaged"), std::string::npos);
    EXPECT_NE(crafted("UPDATE fits SET rows_learning = -1").find("damaged"), std::string::npos);
    EXPECT_NE(
        crafted(
            "DROP TABLE view; CREATE VIEW view AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 "
            "FROM n) SELECT i AS key, i AS value FROM n")
            .find("it holds the view \"view\""),
        std::string::npos);
    EXPECT_NE(
        crafted("CREATE TRIGGER t AFTER INSERT ON view BEGIN SELECT 1; END").find("it holds the trigger"),
        std::string::npos);
    EXPECT_NE(crafted("CREATE TABLE more (x)").find("it holds the table \"more\""), std::string::npos);
    EXPECT_NE(crafted("DELETE FROM checks WHERE part = 'column 1 of the rows'").find("has no checksum"),
              std::string::npos);
    EXPECT_NE(crafted("DELETE FROM columns WHERE name = 'id'").find("last ones are not there"),
              std::string::npos);
    EXPECT_NE(crafted("UPDATE state SET value = '99' WHERE key = 'current'").find("damaged"),
              std::string::npos);
}

TEST(Saving, OlderFormsAreStillOpened) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    const Project project = numbered(4);
    saveProject(path, project, quietly());
    {
        Database database(path.string(), false);
        database.run("DROP TABLE checks; PRAGMA user_version = 2");
    }
    EXPECT_TRUE(sameContents(openProject(path, quietly()), project));
}

TEST(Saving, WhatIsSaidOfFitsIsKeptCheckedAndUnknownToOlderForms) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    Project project = numbered(4);
    project.trail.rename(1, "=cmd|' /C calc'!A0 <b>");
    project.trail.annotate(1, "a note\nof two lines, with \"quotes\"");
    project.trail.pin(1, true);
    saveProject(path, project, quietly());
    const Project after = openProject(path, quietly());
    EXPECT_EQ(after.trail.find(1)->name, "=cmd|' /C calc'!A0 <b>") << "text is text";
    EXPECT_EQ(after.trail.find(1)->note, project.trail.find(1)->note);
    EXPECT_EQ(after.trail.find(1)->summary.complexity, 2);
    // Form 5 had none of it.
    {
        Database database(path.string(), false);
        database.run("ALTER TABLE fits DROP COLUMN about; DROP TABLE checks; PRAGMA user_version = 2");
    }
    const Project older = openProject(path, quietly());
    EXPECT_EQ(older.trail.find(1)->name, "");
    EXPECT_TRUE(std::isnan(older.trail.find(1)->summary.complexity));
    EXPECT_EQ(older.trail.find(1)->summary.learningRmse, project.trail.find(1)->summary.learningRmse);
    // What was changed by other hands is named.
    saveProject(path, project, quietly());
    {
        Database database(path.string(), false);
        database.run("UPDATE fits SET about = '{}' WHERE number = 1");
    }
    EXPECT_NE(errorOf([&] { openProject(path, quietly()); }).find("fit 1: it is not as it was written"),
              std::string::npos);
    const Salvaged found = salvageProject(path, quietly());
    EXPECT_EQ(found.lost.front(), "fit 1");
    EXPECT_EQ(found.project.trail.fits().size(), 1U);
}

TEST(Saving, OpeningStopsWhenItIsToldTo) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    saveProject(path, numbered(1, 100000), quietly());
    class Stops : public Progress {
    public:
        bool stopRequested() const override { return true; }
    } stops;
    EXPECT_THROW(openProject(path, stops), Stopped);
}

TEST(Saving, AModelThatIsNotAsItWasWrittenIsNamedAndTheRestIsOffered) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    Project project = numbered(4);
    project.recipe = project.trail.fits().back().recipe;
    const Evidence evidence = evaluate(project.recipe, project.rows, {}, quietly());
    project.studies[project.current] = evidence.study;
    const auto crafted = [&](const char* sql) {
        saveProject(path, project, quietly());
        {
            Database database(path.string(), false);
            database.run(sql);
        }
        return errorOf([&] { openProject(path, quietly()); });
    };
    EXPECT_NE(crafted("UPDATE models SET study = replace(study, '\"spread\":', '\"spread\":1')")
                  .find("model of fit"),
              std::string::npos);
    const Salvaged salvaged = salvageProject(path, quietly());
    EXPECT_TRUE(salvaged.project.studies.empty()) << "it is fitted again";
    EXPECT_EQ(salvaged.project.trail.fits().size(), project.trail.fits().size());
    EXPECT_NE(crafted("UPDATE models SET fitted = zeroblob(8)").find("model of fit"), std::string::npos);
    EXPECT_NE(crafted("DELETE FROM models").find("models"), std::string::npos);
    // A sum that would forget what stands before an empty value would find none of these.
    EXPECT_NE(crafted("UPDATE columns SET name = 'z' WHERE name = 'x'").find("column 1 of the rows"),
              std::string::npos);
    EXPECT_NE(crafted("UPDATE columns SET levels = '[\"a\",\"b\",\"d\"]' WHERE name = 'g'")
                  .find("column 3 of the rows"),
              std::string::npos);
    EXPECT_NE(crafted("DELETE FROM checks WHERE part LIKE 'model of%'").find("has no checksum"),
              std::string::npos);
}

} // namespace saving_test
