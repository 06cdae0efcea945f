#include "study/project.h"
#include "study/sqlite.h"
#include "support/support.h"

#include <csignal>
#include <fstream>
#include <sys/resource.h>
#include <sys/wait.h>

using namespace oxgoad;
using namespace oxgoad::test;

namespace project_test {

Project sample() {
    Project project;
    const std::string text =
        "id,month,g,x,y\nr-1,2025-01-01,a,0.1,1\nr-2,2025-02-01,b,,2\nr-3,,a,0.30000000000000004,4\nr-4,2025-"
        "04-01,?,1e-300,8\nr-5,2025-05-01,b,3,7\nr-6,2025-06-01,a,4,9\n";
    TextOptions options;
    options.kinds["id"] = ColumnKind::text;
    project.rows.learning = readTextBytes(text, "rows.csv", options, {1}, quietly());
    project.rows.forecast = readTextBytes("g,x\na,1\nb,2\n", "plan.csv", {}, {1}, quietly());
    project.recipe = recipeOf("y", {"x"});
    project.recipe.accepted = {{"unequal spread", "it's \"known\"; DROP TABLE fits"}};
    const Evidence evidence = evaluate(project.recipe, project.rows, {}, quietly());
    const int first = project.trail.add(project.recipe, evidence, 0);
    project.recipe.intercept = false;
    project.current =
        project.trail.add(project.recipe, evaluate(project.recipe, project.rows, {}, quietly()), first);
    project.folder = "/somewhere";
    project.view = {{"station", "check"}, {"check.across", "<b>x</b>"}};
    return project;
}

TEST(ProjectFile, EverythingIsFoundAsItWas) {
    const TemporaryFolder folder;
    const Project before = sample();
    saveProject(folder.file("p.oxgoad"), before, quietly());
    const Project after = openProject(folder.file("p.oxgoad"), quietly());
    EXPECT_EQ(after.recipe, before.recipe);
    EXPECT_EQ(after.current, before.current);
    EXPECT_EQ(after.view, before.view);
    EXPECT_EQ(after.folder, before.folder);
    ASSERT_EQ(after.trail.fits().size(), 2u);
    EXPECT_EQ(after.trail.fits()[1].change, "without a constant");
    EXPECT_EQ(after.trail.fits()[1].parent, 1);
    EXPECT_EQ(after.trail.fits()[0].recipe, before.trail.fits()[0].recipe);
    EXPECT_EQ(after.trail.fits()[0].summary.learningRmse, before.trail.fits()[0].summary.learningRmse);
    const Table& a = before.rows.learning.table;
    const Table& b = after.rows.learning.table;
    ASSERT_EQ(a.columns().size(), b.columns().size());
    for (std::size_t c = 0; c < a.columns().size(); ++c) {
        EXPECT_EQ(a.columns()[c].kind(), b.columns()[c].kind());
        EXPECT_EQ(a.columns()[c].name(), b.columns()[c].name());
        for (std::size_t i = 0; i < a.rows(); ++i)
            EXPECT_EQ(a.columns()[c].cellText(i), b.columns()[c].cellText(i));
    }
    EXPECT_EQ(after.rows.forecast->table.rows(), 2u);
    EXPECT_EQ(after.rows.learning.report.file, "rows.csv");
}

TEST(ProjectFile, OtherFilesAreRefusedAndLeftAlone) {
    const TemporaryFolder folder;
    const auto text =
        folder.write("text.oxgoad", "this is not a database, but long enough to be looked at as one");
    EXPECT_NE(errorOf([&] { openProject(text, quietly()); }).find("not an Oxgoad project"),
              std::string::npos);
    {
        Database other(folder.file("other.oxgoad").string(), false);
        other.run("CREATE TABLE t (x)");
    }
    EXPECT_NE(
        errorOf([&] { openProject(folder.file("other.oxgoad"), quietly()); }).find("not an Oxgoad project"),
        std::string::npos);
    EXPECT_NE(errorOf([&] { openProject(folder.file("none.oxgoad"), quietly()); }).find("no such file"),
              std::string::npos);
}

TEST(ProjectFile, ANewerFormIsSaidSo) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    saveProject(path, sample(), quietly());
    {
        Database database(path.string(), false);
        database.run("PRAGMA user_version = 99");
    }
    const auto bytes = bytesOf(path);
    EXPECT_NE(errorOf([&] { openProject(path, quietly()); }).find("saved by a newer Oxgoad (form 99"),
              std::string::npos);
    EXPECT_EQ(bytesOf(path), bytes);
}

TEST(ProjectFile, AFileThatIsCutOffIsRefused) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    saveProject(path, sample(), quietly());
    const std::string whole = bytesOf(path);
    for (std::size_t i = 0; i < 100; ++i) {
        const std::string bytes = whole.substr(0, i * whole.size() / 100);
        folder.write("damaged.oxgoad", bytes);
        EXPECT_NE(errorOf([&] { openProject(folder.file("damaged.oxgoad"), quietly()); }), "") << i << " %";
        ASSERT_EQ(bytesOf(folder.file("damaged.oxgoad")), bytes) << "a damaged file must not be touched";
    }
}

TEST(ProjectFile, AFullDiskWhileSavingLosesNothing) {
    const TemporaryFolder folder;
    const auto path = folder.file("p.oxgoad");
    saveProject(path, sample(), quietly());
    const auto bytes = bytesOf(path);
    std::string failure;
    rlimit before{};
    getrlimit(RLIMIT_FSIZE, &before);
    signal(SIGXFSZ, SIG_IGN);
    const rlimit small{8192, before.rlim_max};
    setrlimit(RLIMIT_FSIZE, &small);
    failure = errorOf([&] { saveProject(path, sample(), quietly()); });
    setrlimit(RLIMIT_FSIZE, &before);
    EXPECT_NE(failure.find("cannot be written"), std::string::npos) << failure;
    EXPECT_EQ(bytesOf(path), bytes);
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(folder.path()), {}), 1);
}

TEST(ProjectFile, AReadOnlyFolderIsSaidSo) {
    if (geteuid() == 0) {
        EXPECT_NE(
            errorOf([&] { saveProject("/proc/p.oxgoad", sample(), quietly()); }).find("cannot be written"),
            std::string::npos);
        return;
    }
    const TemporaryFolder folder;
    std::filesystem::permissions(folder.path(),
                                 std::filesystem::perms::owner_read | std::filesystem::perms::owner_exec);
    EXPECT_NE(
        errorOf([&] { saveProject(folder.file("p.oxgoad"), sample(), quietly()); }).find("cannot be written"),
        std::string::npos);
}

} // namespace project_test
