// Models, jobs and the session, without a window.
#include "app_support.h"
#include "workspace/grids.h"

#include <QAbstractItemModelTester>
#include <QSignalSpy>

using namespace oxgoad;
using namespace oxgoad::test;

namespace {

class SessionTest : public testing::Test {
protected:
    bool settle() {
        return QTest::qWaitFor([this] { return !session.jobs().busy() && !session.saveJobs().busy(); },
                               20000);
    }
    Session session;
};

} // namespace

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
        model.setContent(termsGrid(session));
        const auto e = session.evidence();
        model.setContent(compareGrid(session, 1, e.get(), 2, e.get()));
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
    model.setContent(termsGrid(session));
    const double estimate = session.evidence()->coefficients[1].estimate;
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

TEST_F(SessionTest, AnOutdatedFitIsDropped) {
    session.open(demo + "/1_straight.json");
    ASSERT_TRUE(settle());
    Recipe first = session.recipe();
    first.terms.push_back(plainTerm("dock_hours"));
    Recipe second = session.recipe();
    second.terms.push_back(plainTerm("promotion"));
    session.change(first);
    session.change(second); // before the first is done
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe(), second);
    EXPECT_EQ(session.trail().fits().size(), 2u);
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
