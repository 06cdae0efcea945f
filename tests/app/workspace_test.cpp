// Models, jobs and the session, without a window.
#include "app_support.h"
#include "base/parallel.h"
#include "recipe/recipe_edits.h"
#include "workspace/compare_grids.h"
#include "workspace/grids.h"

#include <QAbstractItemModelTester>
#include <QSignalSpy>

#include <sys/resource.h>
#include <thread>

using namespace oxgoad;
using namespace oxgoad::test;

namespace workspace_test {

class SessionTest : public testing::Test {
protected:
    bool settle() {
        return QTest::qWaitFor([this] { return !session.jobs().busy() && !session.saveJobs().busy(); },
                               20000);
    }
    Session session;
};

TEST_F(SessionTest, EveryTableOfTheWindowPassesQtsOwnTester) {
    GridModel model;
    const QAbstractItemModelTester tester(&model, QAbstractItemModelTester::FailureReportingMode::Fatal);
    auto all = [&] {
        for (auto* grid : {ledgerGrid, partsGrid, faultsGrid, outlyingGrid, readingsGrid, forecastGrid}) {
            model.setContent(grid(session));
            model.setContent(grid(session)); // again: changed data instead of a reset
        }
        model.setContent(rowsGrid(session, nullptr));
        model.setContent(rowsGrid(session, std::make_shared<const std::vector<std::uint32_t>>()));
        model.setContent(stepsGrid(session));
        model.setContent(termsGrid(session, termLines(session)));
        const auto e = session.evidence();
        model.setContent(compareGrid(session, {{1, e.get()}, {2, e.get()}}));
    };
    all();
    session.open(demo + "/cold_storage.oxgoad");
    ASSERT_TRUE(settle());
    all();
    EXPECT_GT(model.rowCount(), 10);
}

TEST_F(SessionTest, RawValuesKeepFullPrecision) {
    session.open(demo + "/cold_storage.oxgoad");
    ASSERT_TRUE(settle());
    GridModel model;
    model.setContent(termsGrid(session, termLines(session)));
    const double estimate = session.evidence()->linear->coefficients[1].estimate;
    QModelIndexList cells;
    for (int row = 0; row < model.rowCount(); ++row)
        if (model.index(row, 0).data().toString() == "places")
            cells << model.index(row, 0) << model.index(row, 2);
    ASSERT_EQ(cells.size(), 2);
    EXPECT_EQ(cells[1].data(RawValueRole).toDouble(), estimate);
    EXPECT_EQ(copiedText(cells).section('\t', 1).toDouble(), estimate);
    EXPECT_EQ(cells[1].data().toString(), "13.995") << "as many digits as the standard error supports";
}

TEST(SupportedText, ShowsTheDigitsTheStandardErrorSupports) {
    EXPECT_EQ(supportedText(1234.5678, 120), "1,235");
    EXPECT_EQ(supportedText(1.23456, 0.0123), "1.235");
    EXPECT_EQ(supportedText(-0.00004567, 0.0000012), "−0.0000457");
    EXPECT_EQ(supportedText(-0.001, 2), "0.0");
    EXPECT_EQ(supportedText(std::nan(""), 1), "");
}

TEST_F(SessionTest, ASecondEditStandsOnTopOfTheFirstAndOneFitIsMade) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    const std::size_t terms = session.recipe().terms.size();
    Recipe first = session.draft();
    first.terms.push_back(plainTerm("dock_hours"));
    session.change(first);
    EXPECT_EQ(session.recipe().terms.size(), terms) << "what is shown has not changed yet";
    EXPECT_EQ(session.draft().terms.size(), terms + 1);
    Recipe second = session.draft();
    second.terms.push_back(plainTerm("promotion"));
    session.change(second); // before the first is done
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe(), second);
    EXPECT_EQ(session.recipe().terms.size(), terms + 2) << "neither tick is lost";
    EXPECT_EQ(session.trail().fits().size(), 2u) << "the outdated fit is dropped";
    EXPECT_EQ(session.trail().fits().back().parent, 1);
    EXPECT_FALSE(session.editing());
}

TEST_F(SessionTest, AnEditThatCannotBeFittedIsTakenBackAndTheOneBeforeItStays) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    QSignalSpy failed(&session, &Session::failed);
    Recipe good = session.draft();
    good.terms.push_back(plainTerm("dock_hours"));
    session.change(good);
    Recipe bad = session.draft();
    bad.terms.push_back(Term{{TermPart{"promotion", 1, true}}}); // ln of 0
    session.change(bad);
    ASSERT_TRUE(settle());
    EXPECT_EQ(failed.size(), 1);
    EXPECT_EQ(session.recipe(), good);
    EXPECT_EQ(session.draft(), good);
}

TEST_F(SessionTest, WhatIsSaidWhileAFitRunsIsKept) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    Recipe next = session.draft();
    next.terms.push_back(plainTerm("dock_hours"));
    session.change(next);
    session.note("places", "look at the largest depots");
    session.setUnit("dock_hours", "h a month");
    const std::string key = session.goads().all.front().key;
    session.acceptGoad(key, "known");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe().terms.size(), next.terms.size());
    EXPECT_EQ(session.unit("dock_hours"), "h a month");
    ASSERT_EQ(session.recipe().noted.size(), 1u);
    ASSERT_EQ(session.trail().find(session.current())->recipe.noted.size(), 1u);
    bool noted = false, accepted = false;
    for (const Goad& goad : session.goads().all) {
        noted = noted || goad.reading.find("largest depots") != std::string::npos ||
                goad.title.find("largest depots") != std::string::npos;
        accepted = accepted || (goad.key == key && goad.accepted == "known");
    }
    EXPECT_TRUE(noted);
    EXPECT_TRUE(accepted);
}

TEST_F(SessionTest, UndoingTwiceWhileFitsRunGoesBackTwo) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    const Recipe start = session.recipe();
    for (const auto* name : {"dock_hours", "promotion"}) {
        Recipe next = session.draft();
        next.terms.push_back(plainTerm(name));
        session.change(next);
        ASSERT_TRUE(settle());
    }
    Recipe third = session.draft();
    third.terms.erase(third.terms.begin());
    session.change(third); // runs
    session.undo();
    session.undo();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe().terms.size(), start.terms.size() + 1);
    session.redo();
    session.redo();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe(), third) << "the edit that was never shown comes back too";
}

TEST_F(SessionTest, AStoppedEditLeavesWhatThereWas) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    const Recipe before = session.recipe();
    Recipe next = session.draft();
    next.terms.push_back(plainTerm("dock_hours"));
    session.change(next);
    session.jobs().stop();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe(), before);
    EXPECT_EQ(session.draft(), before);
    EXPECT_FALSE(session.editing());
}

TEST_F(SessionTest, OpeningThatFailsLetsTheEditGoOn) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    Recipe next = session.draft();
    next.terms.push_back(plainTerm("dock_hours"));
    session.change(next);
    session.open("/nowhere/at_all.oxgoad");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe(), next);
}

TEST_F(SessionTest, RowsReadAnewTakeTheEditMadeMeanwhile) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    session.readAgain(session.recipe().rows);
    Recipe next = session.draft();
    next.terms.push_back(plainTerm("dock_hours"));
    session.change(next);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe().terms.size(), next.terms.size());
    EXPECT_FALSE(session.trail().fits().back().earlierRows);
    EXPECT_TRUE(session.trail().fits().front().earlierRows);
}

TEST_F(SessionTest, AnAnswerForOldRowsDoesNotEnterTheCache) {
    session.open(demo + "/cold_storage.oxgoad");
    ASSERT_TRUE(settle());
    const int other = session.trail().fits().front().number;
    ASSERT_NE(other, session.current());
    session.evidenceOf(other); // works it out beside
    session.readAgain(session.recipe().rows);
    ASSERT_TRUE(settle());
    QTest::qWait(300);
    EXPECT_TRUE(session.trail().find(other)->earlierRows);
    EXPECT_EQ(session.evidenceOf(other), nullptr) << "it is worked out from the rows there are now";
    ASSERT_TRUE(QTest::qWaitFor([this] { return !session.sideJobs().busy(); }, 20000));
}

TEST_F(SessionTest, SavesFollowEachOtherAndTouchOnlyTheirProject) {
    QTemporaryDir folder;
    session.open(demo + "/cold_storage.oxgoad");
    ASSERT_TRUE(settle());
    QSignalSpy saved(&session, &Session::saved);
    const QString one = folder.filePath("one.oxgoad"), two = folder.filePath("two.oxgoad");
    session.save(one);
    session.save(two); // both are written
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(QTest::qWaitFor([&] { return saved.size() == 2 && !session.jobs().busy(); }, 20000));
    EXPECT_TRUE(QFileInfo::exists(one));
    EXPECT_TRUE(QFileInfo::exists(two));
    EXPECT_TRUE(session.projectPath() != one && session.projectPath() != two)
        << "the next save must not write the rows opened since over the project saved before";
}

TEST_F(SessionTest, AChangeMadeWhileSavingIsUnsaved) {
    QTemporaryDir folder;
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    session.save(folder.filePath("p.oxgoad"));
    session.setUnit("dock_hours", "h a month"); // while it is being written
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session.dirty());
    session.save(folder.filePath("p.oxgoad"));
    ASSERT_TRUE(settle());
    EXPECT_FALSE(session.dirty());
}

TEST_F(SessionTest, AnEditBeingWorkedOutIsSavedToo) {
    QTemporaryDir folder;
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    Recipe next = session.draft();
    next.terms.push_back(plainTerm("dock_hours"));
    session.change(next);
    session.save(folder.filePath("p.oxgoad"));
    ASSERT_TRUE(settle());
    Session other;
    other.open(folder.filePath("p.oxgoad"));
    ASSERT_TRUE(QTest::qWaitFor(
        [&] { return !other.jobs().busy() && other.evidence() && other.recipe() == next; }, 20000));
    EXPECT_EQ(other.trail().fits().size(), 2u);
}

TEST_F(SessionTest, GoingBackToAnotherForecastReadsItsOwnRows) {
    QTemporaryDir folder;
    session.open(demo + "/depot_months.csv");
    ASSERT_TRUE(settle());
    Recipe recipe = session.draft();
    recipe.terms = {plainTerm("places")};
    session.change(recipe);
    ASSERT_TRUE(settle());
    session.chooseForecast(demo + "/plan.csv");
    ASSERT_TRUE(settle());
    const auto first = session.evidence()->forecast->prediction;
    const int fit = session.current();
    QFile small(folder.filePath("two.csv"));
    ASSERT_TRUE(small.open(QIODevice::WriteOnly));
    small.write("places\n100\n200\n");
    small.close();
    session.chooseForecast(folder.filePath("two.csv"));
    ASSERT_TRUE(settle());
    ASSERT_EQ(session.evidence()->forecast->prediction.size(), 2u);
    for (int i = 0; i < 6; ++i) { // other fits push it out of memory
        Recipe next = session.draft();
        next.level = 0.9 + 0.01 * i;
        session.change(next);
        ASSERT_TRUE(settle());
    }
    session.choose(fit);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.evidence()->forecast->prediction, first);
}

TEST_F(SessionTest, TheSameModelIsNotFittedTwice) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    const Recipe start = session.recipe();
    session.change(withoutTerm(start, "occupancy"));
    ASSERT_TRUE(settle());
    session.change(
        withTerm(session.recipe(), plainTerm("occupancy"))); // the order of terms differs: another fit
    ASSERT_TRUE(settle());
    session.change(start);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.current(), 1);
    EXPECT_EQ(session.trail().fits().size(), 3u);
}

TEST(JobsTest, StopsAtOnceAndSaysSo) {
    Jobs jobs;
    QSignalSpy stopped(&jobs, &Jobs::stopped);
    std::atomic<bool> running{false};
    jobs.start("Counting", [&](Progress& progress) -> Jobs::Finish {
        running = true;
        for (;;)
            progress.checkpoint(0.5, "counting");
    });
    ASSERT_TRUE(QTest::qWaitFor([&] { return running.load(); }));
    jobs.stop();
    ASSERT_TRUE(QTest::qWaitFor([&] { return !jobs.busy(); }, 1000));
    ASSERT_EQ(stopped.size(), 1);
    EXPECT_EQ(stopped[0][0].toString(), "Counting");
}

TEST(JobsTest, WorkLeavesTheCoresToTheWindow) {
    // Priorities of threads (Linux): a larger number stands further back.
    const int window = getpriority(PRIO_PROCESS, 0);
    std::vector<int> seen(8, -100);
    Jobs jobs;
    jobs.start("Work", [&](Progress&) -> Jobs::Finish {
        std::atomic<int> there{0};
        parallelFor(seen.size(), {2}, [&](std::size_t i) {
            ++there;
            // Until a helper has come, too.
            for (int k = 0; k < 1000 && there < 2; ++k)
                std::this_thread::sleep_for(std::chrono::milliseconds(1));
            seen[i] = getpriority(PRIO_PROCESS, 0);
        });
        return {};
    });
    ASSERT_TRUE(QTest::qWaitFor([&] { return !jobs.busy(); }, 20000));
    const int wanted = std::min(19, window + 10);
    for (const int each : seen)
        EXPECT_EQ(each, wanted);
    EXPECT_EQ(getpriority(PRIO_PROCESS, 0), window);
}

TEST(JobsTest, DestroyingWaitsForTheWork) {
    std::atomic<int> ended{0};
    {
        Jobs jobs;
        jobs.start("Work", [&](Progress& progress) -> Jobs::Finish {
            struct End {
                std::atomic<int>& count;
                ~End() { ++count; }
            } end{ended};
            for (;;)
                progress.checkpoint(0, "");
        });
    }
    EXPECT_EQ(ended, 1);
}

TEST(JobsTest, ErrorsOfTheCoreBecomeSentences) {
    Jobs jobs;
    QSignalSpy failed(&jobs, &Jobs::failed);
    jobs.start("Work", [](Progress&) -> Jobs::Finish {
        throw Error(ErrorCode::badTerm, "no good", {.file = "a.csv", .line = 3}, "Do better.");
    });
    ASSERT_TRUE(QTest::qWaitFor([&] { return !jobs.busy(); }, 1000));
    ASSERT_EQ(failed.size(), 1);
    EXPECT_EQ(failed[0][0].toString(), "a.csv, line 3: no good. Do better.");
}

} // namespace workspace_test
