// What is asked of a forecast, and the drawing of a tree, by mouse and keys in the window.
#include "app/fit/tree_picture.h"
#include "app/plots/plot_frame.h"
#include "app_support.h"
#include "base/file.h"
#include "estimate/tree/tree.h"
#include "study/forecast_answers.h"

#include <QCheckBox>
#include <QDialog>
#include <QDoubleSpinBox>
#include <QLineEdit>
#include <QListWidget>
#include <QSlider>
#include <cstdlib>

using namespace oxgoad;
using namespace oxgoad::test;

namespace questions_test {

class Questions : public WindowTest {
protected:
    void choose(const QString& box, const QString& text) {
        auto* at = find<QComboBox>(box);
        const int index = at->findText(text);
        ASSERT_GE(index, 0) << ss(text);
        at->setCurrentIndex(index);
        emit at->activated(index);
    }
    void type(const QString& field, const QString& text) {
        auto* at = find<QLineEdit>(field);
        at->setFocus();
        at->clear();
        QTest::keyClicks(at, text);
    }
    /// For people: where OXGOAD_PICTURES names a folder.
    void picture(const QString& name) {
        if (const char* folder = std::getenv("OXGOAD_PICTURES")) {
            QTest::qWait(300);
            window->grab().save(QString::fromUtf8(folder) + "/" + name + ".png");
        }
    }
    void forecastDemo() {
        openFile(demo + "/depot_months.csv");
        station(3);
        for (const auto* term : {"places", "occupancy", "list_rate", "contract"})
            tick(find<GridView>("terms"), term);
        ASSERT_TRUE(settle());
        station(6);
        files.toOpen = demo + "/plan.csv";
        click(find<QPushButton>("chooseForecast"));
        ASSERT_TRUE(settle());
    }
};

TEST_F(Questions, ARowIsToldByHand) {
    forecastDemo();
    choose("below", "one row");
    ASSERT_TRUE(
        QTest::qWaitFor([this] { return find<QLabel>("oneRowSays")->text().contains("between"); }, 8000))
        << ss(find<QLabel>("oneRowSays")->text());
    picture("one_row");
    EXPECT_TRUE(find<QLabel>("oneRowReach")->text().startsWith("Inside")) << "usual values are inside";
    EXPECT_GE(find<GridView>("oneRowLadder")->model()->rowCount(), 5) << "the mean and a step a term";
    const QString before = find<QLabel>("oneRowSays")->text();
    // By keys: a slider moves, and what it says follows.
    auto* slider = find<QSlider>("oneRowSlider_list_rate");
    slider->setFocus();
    for (int k = 0; k < 40; ++k)
        QTest::keyClick(slider, Qt::Key_PageUp);
    ASSERT_TRUE(
        QTest::qWaitFor([this] { return find<QLabel>("oneRowReach")->text().startsWith("Outside"); }, 8000));
    EXPECT_NE(find<QLabel>("oneRowSays")->text(), before);
    EXPECT_NE(find<QLabel>("oneRowReach")->text().indexOf("list_rate"), -1);
    picture("one_row_outside");
    // A number typed is read as typed, or refused.
    type("oneRowField_list_rate", "abc");
    QTest::keyClick(find<QLineEdit>("oneRowField_list_rate"), Qt::Key_Return);
    EXPECT_NE(find<QLabel>("oneRowFound")->text().indexOf("no number"), -1);
    type("oneRowField_list_rate", "20");
    QTest::keyClick(find<QLineEdit>("oneRowField_list_rate"), Qt::Key_Return);
    ASSERT_TRUE(
        QTest::qWaitFor([this] { return find<QLabel>("oneRowReach")->text().startsWith("Inside"); }, 8000));
    choose("oneRowColumn", "list_rate");
    type("oneRowTarget", "150000");
    click(find<QPushButton>("oneRowFind"));
    ASSERT_TRUE(QTest::qWaitFor(
        [this] { return find<QLabel>("oneRowFound")->text().startsWith("list_rate = "); }, 8000))
        << ss(find<QLabel>("oneRowFound")->text());
    type("oneRowName", "a lot");
    click(find<QPushButton>("oneRowKeep"));
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().recipe().handRows.size(), 1U);
    EXPECT_EQ(session().recipe().handRows[0].name, "a lot");
    choose("oneRowStart", "a lot");
    click(find<QPushButton>("oneRowForget"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session().recipe().handRows.empty());
}

TEST_F(Questions, RowsAreMadeForTheNextPeriods) {
    openFile(demo + "/depot_months.csv");
    station(3);
    for (const auto* term : {"places", "list_rate", "contract"})
        tick(find<GridView>("terms"), term);
    ASSERT_TRUE(settle());
    station(6);
    click(find<QPushButton>("makeForecast"));
    auto* dialog = window->findChild<QDialog*>("madeDialog");
    ASSERT_TRUE(dialog);
    picture("made_behind");
    if (const char* folder = std::getenv("OXGOAD_PICTURES"))
        dialog->grab().save(QString::fromUtf8(folder) + "/made_dialog.png");
    auto* by = dialog->findChild<QListWidget*>("madeBy");
    for (int i = 0; i < by->count(); ++i)
        if (by->item(i)->text() == "depot") by->item(i)->setCheckState(Qt::Checked);
    dialog->findChild<QDoubleSpinBox*>("madePeriods")->setValue(3);
    dialog->accept();
    ASSERT_TRUE(settle());
    const auto evidence = session().evidence();
    ASSERT_TRUE(evidence && evidence->forecast);
    EXPECT_EQ(evidence->forecast->prediction.size() % 3, 0U);
    EXPECT_EQ(evidence->forecast->unpredicted, 0U) << unpredictedText(*evidence->forecast);
    EXPECT_EQ(evidence->forecast->file, "the next 3 months of month");
    picture("made_rows");
}

TEST_F(Questions, AModelIsHandedOnInThreeClicks) {
    forecastDemo();
    const QTemporaryDir own;
    const auto file = [&](const char* name) { return own.path() + "/" + name; };
    const auto bytes = [&](const char* name) { return readFile(ss(file(name))); };
    click(find<QPushButton>("handOn"));
    picture("hand_on");
    for (const char* name : {"handOn_workbook", "handOn_sql", "handOn_report"}) {
        auto* link = find<QPushButton>(name);
        EXPECT_TRUE(link->isEnabled());
        EXPECT_FALSE(link->accessibleName().isEmpty());
        files.toSave = file(name);
        click(link);
        ASSERT_TRUE(settle());
        EXPECT_GT(bytes(name).size(), 1000U) << name;
        EXPECT_NE(find<QLabel>("handOnSaid")->text().indexOf(name), -1);
    }
    EXPECT_TRUE(bytes("handOn_workbook").starts_with("PK"));
    EXPECT_NE(bytes("handOn_sql").find("SELECT \"rows\".*"), std::string::npos);
    EXPECT_TRUE(bytes("handOn_report").starts_with("<!DOCTYPE html>"));
    // By keys: the link that was used last has the focus.
    find<QPushButton>("handOn")->setFocus();
    QTest::keyClick(find<QPushButton>("handOn"), Qt::Key_Space);
    EXPECT_EQ(QApplication::focusWidget(), find<QPushButton>("handOn_report"));
}

TEST_F(Questions, AreAskedInSentencesAndAnsweredInTables) {
    forecastDemo();
    choose("below", "cross table");
    choose("crossDown", "region");
    choose("crossAcross", "quarter of month");
    ASSERT_TRUE(settle());
    auto* answers = find<GridView>("answersTable");
    ASSERT_TRUE(session().recipe().forecast->crossTable);
    EXPECT_EQ(answers->model()->columnCount(), 5);
    EXPECT_EQ(answers->model()->headerData(1, Qt::Horizontal).toString(), "2026-Q1");
    EXPECT_GE(answers->model()->rowCount(), 3);
    picture("forecast_cross");
    choose("crossMeasure", "share of predicted");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().evidence()->answers->crossTable->asked.measure, CrossMeasure::shareOfPredicted);
    EXPECT_LT(answers->model()->index(0, 1).data(RawValueRole).toDouble(), 1);
    // As lines, one a region, over the quarters; back by keys.
    auto* lines = find<QCheckBox>("crossLines");
    click(lines);
    auto* plot = find<PlotFrame>("crossPlot");
    EXPECT_TRUE(plot->isVisible());
    EXPECT_FALSE(answers->isVisible());
    EXPECT_EQ(plot->content().lines.size(), session().evidence()->answers->crossTable->down.size());
    EXPECT_EQ(plot->content().lines[0].x.size(), 4U);
    EXPECT_EQ(plot->content().xLevels.front(), "2026-Q1");
    EXPECT_EQ(plot->content().yTitle, "share of predicted") << "which has no unit";
    picture("forecast_cross_lines");
    lines->setFocus();
    QTest::keyClick(lines, Qt::Key_Space);
    EXPECT_TRUE(answers->isVisible());
    // The same down and across is no table, and says so.
    choose("crossAcross", "region");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().forecast->crossTable->across.column, "month");

    choose("below", "what if");
    type("scenarioName", "dearer");
    choose("scenarioColumn", "list_rate");
    choose("scenarioHow", "by per cent");
    type("scenarioValue", "five");
    type("scenarioWhere", "contract = \"annual\"");
    click(find<QPushButton>("scenarioAdd"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session().recipe().scenarios.empty()) << "five is no number";
    type("scenarioValue", "5");
    QTest::keyClick(find<QLineEdit>("scenarioValue"), Qt::Key_Return);
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().recipe().scenarios.size(), 1U);
    ASSERT_EQ(answers->model()->rowCount(), 1);
    EXPECT_EQ(answers->model()->index(0, 1).data().toString(), "list_rate + 5 % where contract = \"annual\"");
    EXPECT_GT(answers->model()->index(0, 5).data(RawValueRole).toDouble(), 0);
    type("scenarioName", "wrong");
    type("scenarioWhere", "nothing = 3");
    click(find<QPushButton>("scenarioAdd"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(answers->model()->index(1, 9).data().toString().contains("nothing"));
    picture("forecast_what_if");
    answers->setCurrentIndex(answers->model()->index(1, 0));
    click(find<QPushButton>("scenarioDrop"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().scenarios.size(), 1U);
    EXPECT_EQ(session().recipe().scenarios[0].name, "dearer");

    choose("below", "how far it reaches");
    choose("reachColumn", "list_rate");
    click(find<QPushButton>("reachTest"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(answers->model()->rowCount(), 8);
    picture("forecast_reach");
    // All of it is in the project, and undone step by step.
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session().recipe().forecast->testReach.empty());
}

TEST_F(Questions, WhatCameOfItIsKept) {
    forecastDemo();
    EXPECT_FALSE(find<QPushButton>("keepCame")->isVisible()) << "nothing is known yet";
    // The first half of the learning rows, as if they had been forecast: their revenue is known.
    const QTemporaryDir own;
    const std::string all = readFile(ss(demo) + "/depot_months.csv");
    const auto half = all.find('\n', all.size() / 2);
    replaceFile(ss(own.path()) + "/first.csv", all.substr(0, half + 1));
    replaceFile(ss(own.path()) + "/second.csv", all.substr(0, all.find('\n') + 1) + all.substr(half + 1));
    for (const auto* name : {"/first.csv", "/second.csv"}) {
        files.toOpen = own.path() + name;
        click(find<QPushButton>("chooseForecast"));
        ASSERT_TRUE(settle());
        auto* keep = find<QPushButton>("keepCame");
        ASSERT_TRUE(keep->isVisible());
        keep->setFocus();
        QTest::keyClick(keep, Qt::Key_Space);
        ASSERT_TRUE(settle());
        EXPECT_FALSE(keep->isVisible()) << "it is kept";
    }
    ASSERT_EQ(session().recipe().deliveries.size(), 2U);
    EXPECT_TRUE(find<QLabel>("cameOfIt")->text().contains("2 deliveries so far"))
        << ss(find<QLabel>("cameOfIt")->text());
    picture("forecast_deliveries");
    // One step back forgets the last.
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().deliveries.size(), 1U);
}

TEST_F(Questions, ATreeIsDrawnCutBackAndRead) {
    openFile(demo + "/trailer_quotes.csv");
    station(3);
    for (const auto* term : {"age", "kilometres", "length", "condition"})
        tick(find<GridView>("terms"), term);
    ASSERT_TRUE(settle());
    Recipe recipe = session().recipe();
    recipe.response = "price";
    recipe.estimator = {"tree",
                        {{"smallest_leaf", 30.0},
                         {"smallest_split", 60.0},
                         {"complexity", std::string("one standard error")}}};
    session().change(recipe);
    ASSERT_TRUE(settle());
    click(button("tree"));
    QTest::qWait(100);
    auto* picture = find<TreePicture>("treePicture");
    const std::size_t before = picture->leaves();
    ASSERT_GT(before, 3U);
    EXPECT_TRUE(find<QLabel>("treeSaid")->text().contains("10 folds"));
    session().selectRow(4);
    QTest::qWait(50);
    EXPECT_TRUE(picture->sentence().startsWith("Row 5: ")) << ss(picture->sentence());
    this->picture("fit_tree");
    // By keys: one step further, the root, a leaf.
    picture->setFocus();
    QTest::keyClick(picture, Qt::Key_Up);
    ASSERT_TRUE(settle());
    EXPECT_LT(picture->leaves(), before);
    EXPECT_TRUE(
        std::holds_alternative<double>(session().recipe().estimator.get(std::string_view("complexity"))));
    QTest::keyClick(picture, Qt::Key_Right);
    EXPECT_TRUE(picture->sentence().contains("from ")) << ss(picture->sentence());
    EXPECT_TRUE(picture->accessibleDescription().contains("leaves"));
    QTest::keyClick(picture, Qt::Key_Home);
    ASSERT_TRUE(settle());
    EXPECT_EQ(picture->leaves(), 1U);
    // By mouse: the line is dragged down.
    const QPoint grip = picture->gripAt(picture->step());
    QTest::mousePress(picture, Qt::LeftButton, {}, grip);
    QTest::mouseMove(picture, picture->gripAt(picture->step() / 2));
    QTest::mouseRelease(picture, Qt::LeftButton, {}, picture->gripAt(picture->step() / 2));
    ASSERT_TRUE(settle());
    EXPECT_GT(picture->leaves(), 1U);
    click(find<QPushButton>("treeFull"));
    ASSERT_TRUE(settle());
    EXPECT_GT(picture->leaves(), before);
    this->picture("fit_tree_full");
    // Zoomed by keys and by the wheel, moved, and back.
    picture->setFocus();
    const int all = picture->leafRect(0).width();
    for (int k = 0; k < 8; ++k)
        QTest::keyClick(picture, Qt::Key_Plus);
    EXPECT_GT(picture->leafRect(0).width(), 3 * all);
    for (std::size_t k = 1; k < picture->leaves(); ++k)
        QTest::keyClick(picture, Qt::Key_Right);
    EXPECT_TRUE(picture->rect().contains(picture->leafRect(picture->leaves() - 1).center()))
        << "the last came into view";
    this->picture("fit_tree_zoomed");
    const int before0 = picture->leafRect(0).left();
    QTest::keyClick(picture, Qt::Key_Left, Qt::ShiftModifier);
    EXPECT_GT(picture->leafRect(0).left(), before0);
    for (int k = 0; k < 12; ++k)
        QTest::keyClick(picture, Qt::Key_Minus);
    EXPECT_EQ(picture->leafRect(0).width(), all);
    EXPECT_TRUE(find<QLabel>("treeSaid")->text().contains("error taken away by age"))
        << ss(find<QLabel>("treeSaid")->text());
    // Another kind has no drawing.
    recipe.estimator = {};
    session().change(recipe);
    ASSERT_TRUE(settle());
    EXPECT_FALSE(picture->isVisible());
}

} // namespace questions_test
