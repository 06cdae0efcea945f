// Edits that meet running work, damaged files and odd targets, through the window.
#include "app_support.h"
#include "base/file.h"
#include "study/project.h"
#include "study/sqlite.h"
#include "workspace/grids.h"

#include <QDir>
#include <QFileInfo>
#include <QMenu>
#include <filesystem>
#include <sys/stat.h>

using namespace oxgoad;
using namespace oxgoad::test;

namespace edits_test {

class Edits : public WindowTest {
protected:
    GridView* terms() { return find<GridView>("terms"); }
    Qt::CheckState ticked(const QString& name) {
        return static_cast<Qt::CheckState>(line(terms(), name).data(Qt::CheckStateRole).toInt());
    }
    QString failure() { return window->failureShown(); }
};

TEST_F(Edits, TwoTicksOneAfterTheOtherBothCount) {
    openFile(demo + "/1_straight.json");
    station(3);
    ASSERT_TRUE(settle());
    tick(terms(), "dock_hours");
    EXPECT_EQ(ticked("dock_hours"), Qt::Checked) << "the tick follows the hand before the fit does";
    tick(terms(), "promotion"); // before the first fit is there
    EXPECT_EQ(ticked("promotion"), Qt::Checked);
    ASSERT_TRUE(settle());
    EXPECT_NE(line(terms(), "dock_hours").siblingAtColumn(2).data().toString(), "");
    const auto used = inputNames(session().recipe().terms);
    EXPECT_NE(std::find(used.begin(), used.end(), "dock_hours"), used.end());
    EXPECT_NE(std::find(used.begin(), used.end(), "promotion"), used.end());
    EXPECT_EQ(session().trail().fits().size(), 2u);
}

TEST_F(Edits, ATickTakenBackAtOnceLeavesTheFitThatWas) {
    openFile(demo + "/1_straight.json");
    station(3);
    ASSERT_TRUE(settle());
    const Recipe before = session().recipe();
    tick(terms(), "dock_hours");
    tick(terms(), "dock_hours");
    EXPECT_EQ(ticked("dock_hours"), Qt::Unchecked);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe(), before);
    EXPECT_EQ(session().trail().fits().size(), 1u);
}

TEST_F(Edits, TicksByKeysAndUndoMeetRunningFits) {
    openFile(demo + "/1_straight.json");
    station(3);
    ASSERT_TRUE(settle());
    const Recipe before = session().recipe();
    terms()->setFocus();
    for (const auto* name : {"dock_hours", "promotion"}) {
        terms()->setCurrentIndex(line(terms(), name));
        QTest::keyClick(terms(), Qt::Key_Space);
    }
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().terms.size(), before.terms.size() + 1) << "one step back of two";
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().terms.size(), before.terms.size() + 2);
}

TEST_F(Edits, ADamagedProjectOffersWhatIsWholeAsACopy) {
    const QString path = folder.filePath("damaged.oxgoad");
    ASSERT_TRUE(QFile::copy(demo + "/cold_storage.oxgoad", path));
    {
        Database database(ss(path), false);
        database.run("UPDATE columns SET data = zeroblob(length(data)) WHERE name = 'dock_hours' AND "
                     "table_name = 'rows'");
    }
    openFile(path);
    EXPECT_TRUE(failure().contains("dock_hours: it is not as it was written")) << ss(failure());
    EXPECT_FALSE(session().hasRows());
    auto* salvage = find<QPushButton>("salvage");
    ASSERT_TRUE(salvage->isVisible());
    click(salvage);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session().hasRows());
    EXPECT_EQ(session().table().find("dock_hours"), nullptr);
    EXPECT_TRUE(failure().contains("lost: column ")) << ss(failure());
    EXPECT_FALSE(salvage->isVisible());
    EXPECT_TRUE(session().projectPath().isEmpty()) << "it is saved under another name";
    EXPECT_TRUE(session().dirty());
    EXPECT_EQ(session().trail().fits().size(), 4u);
}

TEST_F(Edits, SavingOverAProtectedFileIsToldAndNothingIsLost) {
    openFile(demo + "/1_straight.json");
    const QString path = folder.filePath("locked.oxgoad");
    QFile file(path);
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("theirs");
    file.close();
    file.setPermissions(QFile::ReadOwner);
    files.toSave = path;
    QTest::keyClick(window.get(), Qt::Key_S, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(failure().contains("write-protected")) << ss(failure());
    EXPECT_TRUE(session().dirty());
    EXPECT_EQ(QFileInfo(path).size(), 6);
}

TEST_F(Edits, APipeIsNoFileAndDoesNotHoldTheWindow) {
    const QString path = folder.filePath("rows.csv");
    ASSERT_EQ(mkfifo(ss(path).c_str(), 0600), 0);
    openFile(path);
    EXPECT_TRUE(failure().contains("not a regular file")) << ss(failure());
}

TEST_F(Edits, FewGroupsAreAGoadWithTheCorrectionOneClickAway) {
    openFile(demo + "/1_straight.json");
    Recipe recipe = session().draft();
    recipe.errors = {CovarianceKind::clustered, "region", -1};
    session().change(recipe);
    ASSERT_TRUE(settle());
    QPushButton* correct = nullptr;
    for (auto* button : window->findChildren<QPushButton*>())
        if (button->text() == "correct for few groups") correct = button;
    ASSERT_NE(correct, nullptr);
    click(correct);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().errors.kind, CovarianceKind::clusteredFewGroups);
    for (const Goad& goad : session().goads().all)
        EXPECT_FALSE(goad.key.starts_with("few groups")) << "it is mended";
    EXPECT_EQ(session().trail().fits().back().change, "errors by region, corrected for few groups");
}

TEST_F(Edits, RowsOfWeight0AreShownAsSuch) {
    QFile file(folder.filePath("w.csv"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("x,w,y\n");
    for (int i = 0; i < 30; ++i)
        file.write(QString("%1,%2,%3\n").arg(i).arg(i % 5 == 0 ? 0 : 2).arg(i + (i * 7) % 4).toUtf8());
    file.close();
    openFile(folder.filePath("w.csv"));
    session().setRole("w", Role::weight);
    Recipe recipe = session().draft();
    recipe.terms = {plainTerm("x")};
    session().change(recipe);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().evidence()->rowsWeightless, 6u);
    EXPECT_EQ(session().evidence()->rowsLearning, 24u);
    GridModel model;
    model.setContent(rowsGrid(session(), nullptr));
    EXPECT_EQ(model.index(0, 1).data().toString(), "weight 0");
    EXPECT_EQ(model.index(1, 1).data().toString(), "learning");
}

} // namespace edits_test
