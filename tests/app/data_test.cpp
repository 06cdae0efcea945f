// The Data station, driven by mouse and keys.
#include "app/brief/brief_bar.h"
#include "app/data/data_station.h"
#include "app/data/step_dialog.h"
#include "app_support.h"
#include "study/sqlite.h"
#include "workspace/grids.h"

#include <QCheckBox>
#include <QClipboard>
#include <QElapsedTimer>
#include <QHeaderView>
#include <QLineEdit>
#include <QListWidget>
#include <QMenu>
#include <QPlainTextEdit>
#include <QProcess>
#include <fstream>

using namespace oxgoad;
using namespace oxgoad::test;

namespace data_test {

class DataWindow : public WindowTest {
protected:
    void pane(const QString& name) {
        for (auto* b : window->findChildren<QPushButton*>())
            if (b->property("pane") == name) click(b);
    }
    QString write(const QString& name, const QByteArray& bytes) {
        QFile file(folder.filePath(name));
        EXPECT_TRUE(file.open(QIODevice::WriteOnly));
        file.write(bytes);
        return file.fileName();
    }
    /// Triggers the entry of an open menu, in whatever submenu it stands.
    void choose(const QString& menuName, const QString& text) {
        auto* menu = find<QMenu>(menuName);
        ASSERT_NE(menu, nullptr);
        QAction* wanted = nullptr;
        for (auto* action : menu->findChildren<QAction*>())
            if (action->text() == text) wanted = action;
        ASSERT_NE(wanted, nullptr) << text.toStdString();
        menu->close();
        wanted->trigger();
    }
    void source(const QString& text) {
        click(find<QPushButton>("openRows"));
        choose("sourceMenu", text);
    }
    void accept(QDialog* dialog) {
        ASSERT_NE(dialog, nullptr);
        for (auto* b : dialog->findChildren<QPushButton*>())
            if (b->isDefault() || b->text() == "Add" || b->text() == "Change") {
                ASSERT_TRUE(b->isEnabled());
                click(b);
                QApplication::setActiveWindow(window.get()); // as a window manager does when a dialog goes
                return;
            }
        ADD_FAILURE() << "no button that accepts";
    }
    /// Opens the dialog of a new step.
    StepDialog* newStep(const QString& title) {
        pane("steps");
        click(find<QPushButton>("addStep"));
        choose("stepMenu", title);
        return find<StepDialog>("stepDialog");
    }
    void tickOnly(QListWidget* list, const QStringList& names) {
        for (int i = 0; i < list->count(); ++i)
            list->item(i)->setCheckState(names.contains(list->item(i)->text()) ? Qt::Checked : Qt::Unchecked);
    }
    QString stepText(int row, int column) {
        return find<GridView>("steps")->model()->index(row, column).data().toString();
    }
    bool waitFor(const std::function<bool()>& what) { return QTest::qWaitFor(what, 10000); }
};

TEST_F(DataWindow, AStepIsAddedPreviewedEditedMovedSwitchedOffAndUndone) {
    openFile(demo + "/1_straight.json");
    station(1);
    const std::size_t missing = session().evidence()->rowsMissing;
    ASSERT_GT(missing, 0u);
    StepDialog* dialog = newStep("Fill missing values");
    ASSERT_NE(dialog, nullptr);
    tickOnly(dialog->findChild<QListWidget*>("field_columns"), {"occupancy", "energy_price"});
    EXPECT_EQ(dialog->findChild<QLabel*>("stepSentence")->text(),
              "Fill missing values of occupancy and energy_price with the median of the learning rows");
    auto* effect = dialog->findChild<GridView*>("stepEffect");
    ASSERT_TRUE(waitFor([&] { return effect->model()->rowCount() == 2; }));
    QString before;
    for (int row = 0; row < 2; ++row)
        before += effect->model()->index(row, 3).data().toString() + "|";
    EXPECT_TRUE(before.contains("12 → 0")) << before.toStdString();
    accept(dialog);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().steps.size(), 1u);
    EXPECT_EQ(session().evidence()->rowsMissing, 0u);
    EXPECT_EQ(session().trail().fits().back().change.substr(0, 6), "+ Fill");
    // A second step, moved before the first by the keyboard.
    dialog = newStep("Leave out rows where a condition holds");
    auto* condition = dialog->findChild<QLineEdit*>("field_condition");
    condition->setText("list_rate > 10x0");
    EXPECT_TRUE(dialog->findChild<QLabel*>("stepTrouble")->text().contains("character"));
    condition->setText("list_rate > 100");
    accept(dialog);
    ASSERT_TRUE(settle());
    EXPECT_EQ(stepText(1, 1), QString::fromUtf8("1,440 → 1,439"));
    auto* steps = find<GridView>("steps");
    steps->setCurrentIndex(steps->model()->index(1, 0));
    QTest::keyClick(steps, Qt::Key_Up, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().steps[0].kind, "leave out where");
    // Switched off by the space bar; the row is back.
    steps->setCurrentIndex(steps->model()->index(0, 0));
    QTest::keyClick(steps, Qt::Key_Space);
    ASSERT_TRUE(settle());
    EXPECT_FALSE(session().recipe().steps[0].on);
    EXPECT_EQ(stepText(0, 1), "switched off");
    EXPECT_EQ(session().evidence()->rowsLeftOut, 0u);
    QApplication::setActiveWindow(window.get());
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session().recipe().steps[0].on);
    // The row is held out: it teaches nothing and is judged all the same, and both scores are told.
    EXPECT_EQ(session().evidence()->rowsLeftOut, 0u);
    EXPECT_EQ(session().evidence()->rows.leftOutBy[128], 1);
    EXPECT_EQ(session().evidence()->rows.state[128], RowState::heldOut);
    ASSERT_TRUE(session().evidence()->heldOutKept);
    EXPECT_LT(session().evidence()->heldOutKept->rmse, session().evidence()->heldOut.rmse);
    EXPECT_TRUE(find<BriefBar>("briefBar")->sentence().contains("without 1 row that a step leaves out"))
        << ss(find<BriefBar>("briefBar")->sentence());
    // Edited by Return, removed by Delete.
    steps->setCurrentIndex(steps->model()->index(0, 0));
    QTest::keyClick(steps, Qt::Key_Return);
    dialog = find<StepDialog>("stepDialog");
    EXPECT_EQ(dialog->findChild<QLineEdit*>("field_condition")->text(), "list_rate > 100");
    dialog->findChild<QLineEdit*>("field_condition")->setText("list_rate > 24");
    accept(dialog);
    ASSERT_TRUE(settle());
    EXPECT_GT(session().evidence()->rowsLeftOut, 1u);
    steps->setCurrentIndex(steps->model()->index(0, 0));
    QTest::keyClick(steps, Qt::Key_Delete);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().steps.size(), 1u);
}

TEST_F(DataWindow, LevelsAreOrderedByKeys) {
    openFile(demo + "/1_straight.json");
    station(1);
    StepDialog* dialog = newStep("Put levels in order");
    ASSERT_NE(dialog, nullptr);
    dialog->findChild<QComboBox*>("field_column")->setCurrentText("contract");
    auto* levels = dialog->findChild<QListWidget*>("field_levels");
    ASSERT_EQ(levels->count(), 3);
    EXPECT_EQ(levels->item(0)->text(), "anchor");
    QApplication::setActiveWindow(dialog);
    levels->setFocus();
    levels->setCurrentRow(2); // spot
    QTest::keyClick(levels, Qt::Key_Up, Qt::ControlModifier);
    QTest::keyClick(levels, Qt::Key_Up, Qt::ControlModifier);
    dialog->findChild<QCheckBox*>("field_scores")->setChecked(true);
    accept(dialog);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().table().find("contract")->levels(),
              (std::vector<std::string>{"spot", "anchor", "annual"}));
    EXPECT_EQ(session().table().find("contract score")->missingCount(), 0u);
}

TEST_F(DataWindow, EveryKindOfStepOpensADialogThatTellsWhatIsMissing) {
    openFile(demo + "/1_straight.json");
    station(1);
    pane("steps");
    for (const StepKind& kind : stepKinds()) {
        StepDialog* dialog = newStep(qs(kind.title));
        ASSERT_NE(dialog, nullptr) << kind.name;
        const bool asks = !dialog->findChild<QLabel*>("stepTrouble")->text().isEmpty() ||
                          !dialog->findChild<QLabel*>("stepSentence")->text().isEmpty();
        EXPECT_TRUE(asks) << kind.name;
        EXPECT_EQ(dialog->step().kind, kind.name);
        dialog->reject();
        delete dialog;
    }
    EXPECT_TRUE(session().recipe().steps.empty());
}

TEST_F(DataWindow, PlantedFaultsAreAnsweredFromTheirGoads) {
    openFile(demo + "/1_straight.json");
    auto press = [&](const QString& key, const QString& text) {
        QPushButton* wanted = nullptr;
        ASSERT_TRUE(waitFor([&] {
            for (auto* card : window->findChildren<QWidget*>("goadCard"))
                if (card->property("goad") == key && card->isVisibleTo(window.get()))
                    for (auto* b : card->findChildren<QPushButton*>())
                        if (b->text() == text) wanted = b;
            return wanted != nullptr;
        })) << key.toStdString();
        wanted->click(); // far down in a scrolled column
        ASSERT_TRUE(settle());
    };
    press("missing values", "fill with medians");
    EXPECT_EQ(session().evidence()->rowsMissing, 0u);
    press("far out: list_rate", "make it missing");
    EXPECT_TRUE(std::isnan(session().table().find("list_rate")->numbers()[128]));
    press("rare levels: cooling", "leave out these rows");
    EXPECT_EQ(session().evidence()->rowsLeftOut, 4u) << "the fifth is held out and judged all the same";
    EXPECT_EQ(session().recipe().steps.size(), 3u);
}

TEST_F(DataWindow, ColumnsGetRolesAndIdentifiersAreNotOffered) {
    openFile(demo + "/1_straight.json");
    station(1);
    auto* ledger = find<GridView>("ledger");
    ledger->setCurrentIndex(line(ledger, "depot"));
    QTest::keyClick(ledger, Qt::Key_Return);
    choose("columnMenu", "identifier");
    ASSERT_TRUE(settle());
    EXPECT_EQ(line(ledger, "depot").siblingAtColumn(1).data().toString(), "identifier");
    for (const TermLine& each : termLines(session()))
        EXPECT_NE(each.column, "depot");
    EXPECT_EQ(session().trail().fits().size(), 1u); // a role is no other model
    ledger->setCurrentIndex(line(ledger, "dock_hours"));
    QTest::keyClick(ledger, Qt::Key_Return);
    choose("columnMenu", QString::fromUtf8("Unit…"));
    auto* dialog = find<QDialog>("unitDialog");
    dialog->findChild<QLineEdit*>()->setText("hours a week");
    QTest::keyClick(dialog->findChild<QLineEdit*>(), Qt::Key_Return);
    EXPECT_EQ(line(ledger, "dock_hours").siblingAtColumn(3).data().toString(), "hours a week");
    EXPECT_EQ(session().recipe().units.at("dock_hours"), "hours a week");
}

TEST_F(DataWindow, TheLedgerIsSortedAndSearched) {
    openFile(demo + "/1_straight.json");
    station(1);
    auto* ledger = find<GridView>("ledger");
    const int all = ledger->model()->rowCount();
    auto* header = ledger->horizontalHeader();
    QTest::mouseClick(header->viewport(), Qt::LeftButton, {},
                      QPoint(header->sectionViewportPosition(5) + 10, 10));
    QTest::mouseClick(header->viewport(), Qt::LeftButton, {},
                      QPoint(header->sectionViewportPosition(5) + 10, 10));
    EXPECT_EQ(ledger->model()->index(0, 0).data().toString(), "occupancy"); // 12 missing values, most of all
    QTest::keyClick(window.get(), Qt::Key_F, Qt::ControlModifier);
    auto* find_ = find<QLineEdit>("findColumn");
    QTest::keyClicks(find_, "rare");
    EXPECT_EQ(ledger->model()->rowCount(), 1);
    EXPECT_EQ(ledger->model()->index(0, 0).data().toString(), "cooling");
    find_->clear();
    EXPECT_EQ(ledger->model()->rowCount(), all);
}

TEST_F(DataWindow, RowsAreChosenSortedSearchedAndJumpedTo) {
    openFile(demo + "/4_two_rows_left_out.json");
    station(1);
    auto* rows = find<GridView>("rows");
    auto count = [&] { return rows->model()->rowCount(); };
    auto* condition = find<QLineEdit>("rowCondition");
    condition->setText("list_rate > 100");
    ASSERT_TRUE(waitFor([&] { return count() == 1; }));
    EXPECT_EQ(rows->model()->index(0, 0).data().toString(), "129");
    EXPECT_EQ(rows->model()->index(0, 1).data().toString(), "left out by hand");
    condition->setText("list_rate >");
    ASSERT_TRUE(waitFor([&] { return find<QLabel>("rowCount")->text().contains("missing at the end"); }));
    condition->setText("");
    find<QLineEdit>("rowSearch")->setText("cinder");
    ASSERT_TRUE(waitFor([&] { return count() == 36; }));
    find<QLineEdit>("rowSearch")->setText("");
    ASSERT_TRUE(waitFor([&] { return count() == 1440; }));
    auto* jump = find<QLineEdit>("rowJump");
    QTest::keyClicks(jump, "1,200");
    QTest::keyClick(jump, Qt::Key_Return);
    EXPECT_EQ(session().selectedRow(), std::optional<std::size_t>(1199));
    EXPECT_EQ(rows->currentIndex().row(), 1199);
    auto* header = rows->horizontalHeader();
    QTest::mouseClick(header->viewport(), Qt::LeftButton, {},
                      QPoint(header->sectionViewportPosition(2) + 10, 10));
    QTest::mouseClick(header->viewport(), Qt::LeftButton, {},
                      QPoint(header->sectionViewportPosition(2) + 10, 10));
    ASSERT_TRUE(waitFor([&] { return rows->model()->index(0, 2).data().toString().toStdString() > "S"; }));
    rows->setCurrentIndex(rows->model()->index(0, 0));
    rows->selectRow(0);
    QTest::keyClick(rows, Qt::Key_C, Qt::ControlModifier);
    EXPECT_GT(QGuiApplication::clipboard()->text().count('\t'), 15);
}

TEST_F(DataWindow, RowsAreSetAsideByWholeGroupsAndTheTestStaysLocked) {
    openFile(demo + "/1_straight.json");
    station(1);
    pane("parts");
    click(button("How it is judged…"));
    auto* dialog = find<QDialog>("rowsDialog");
    auto* kind = dialog->findChild<QComboBox*>("setAsideKind");
    kind->setCurrentText("by whole groups");
    dialog->findChild<QComboBox*>("setAsideColumn")->setCurrentText("depot");
    dialog->findChild<NumberBox*>("heldOutShare")->setValue(60);
    dialog->findChild<NumberBox*>("testShare")->setValue(50);
    auto* ok = dialog->findChildren<QPushButton*>().front();
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->text().contains("OK")) ok = b;
    EXPECT_FALSE(ok->isEnabled());
    dialog->findChild<NumberBox*>("heldOutShare")->setValue(20);
    dialog->findChild<NumberBox*>("testShare")->setValue(10);
    EXPECT_TRUE(ok->isEnabled());
    click(ok);
    ASSERT_TRUE(settle());
    ASSERT_TRUE(session().evidence());
    const auto& partOf = session().prepared()->parts;
    EXPECT_EQ(std::count(partOf.begin(), partOf.end(), Part::heldOut), 8 * 36); // 20 % of 40 depots
    EXPECT_EQ(std::count(partOf.begin(), partOf.end(), Part::test), 4 * 36);
    EXPECT_FALSE(session().evidence()->test);
    auto* parts = find<GridView>("parts");
    ASSERT_EQ(parts->model()->rowCount(), 3 + 10); // the folds of the learning rows stand below them
    EXPECT_EQ(parts->model()->index(12, 5).data().toString(), "locked");
    click(button("look at the test rows"));
    ASSERT_TRUE(settle());
    ASSERT_TRUE(session().evidence()->test);
    EXPECT_NE(parts->model()->index(12, 5).data().toString(), "locked");
    EXPECT_EQ(session().trail().testLooks().size(), 1u);
}

TEST_F(DataWindow, ThePreviewIsRedrawnAtOnceAndAColumnsTypeChosenInIt) {
    const QString path =
        write("odd.csv", "made;by hand\nsite;price;day\nA;1.234,5;03/04/2025\nB;5 %;05/06/2025\n");
    files.toOpen = path;
    station(1);
    source("Open a file, looking at it first…");
    auto* dialog = find<QDialog>("readingDialog");
    ASSERT_NE(dialog, nullptr);
    auto* preview = dialog->findChild<GridView*>("preview");
    dialog->findChild<NumberBox*>("skipLines")->setValue(1);
    dialog->findChild<QComboBox*>("decimalMark")->setCurrentText(",");
    dialog->findChild<QComboBox*>("percent")->setCurrentText("5");
    dialog->findChild<QComboBox*>("dateOrder")->setCurrentText("4 March");
    ASSERT_TRUE(waitFor([&] {
        return preview->model()->columnCount() == 3 &&
               preview->model()->index(0, 2).data().toString() == "2025-03-04" &&
               preview->model()->index(1, 1).data().toString() == "5";
    }));
    EXPECT_EQ(preview->model()->index(0, 1).data().toString(), "1234.5");
    auto* header = preview->horizontalHeader();
    QTest::mouseClick(header->viewport(), Qt::LeftButton, {},
                      QPoint(header->sectionViewportPosition(0) + 10, 10));
    choose("kindMenu", "Read as text");
    ASSERT_TRUE(waitFor([&] {
        return preview->model()->headerData(0, Qt::Horizontal, Qt::DisplayRole).toString() == "site\ntext";
    }));
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->text() == "Open") click(b);
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().table().rows(), 2u);
    EXPECT_EQ(session().table().find("site")->kind(), ColumnKind::text);
    EXPECT_EQ(session().table().find("price")->numbers()[0], 1234.5);
}

TEST_F(DataWindow, WideColumnsAreGatheredWithAPreviewAndTheRecipeSaysSo) {
    QByteArray wide = "depot,2021,2022,2023,note\n";
    for (int i = 0; i < 9; ++i)
        wide += "D" + QByteArray::number(i) + "," + QByteArray::number(10.5 + i) + "," +
                QByteArray::number(20 + i) + "," + QByteArray::number(30.25 + i) + ",x\n";
    files.toOpen = write("wide.csv", wide);
    station(1);
    source("Open a file, looking at it first…");
    auto* dialog = find<QDialog>("readingDialog");
    ASSERT_NE(dialog, nullptr);
    auto* preview = dialog->findChild<GridView*>("preview");
    ASSERT_TRUE(waitFor([&] { return preview->model()->columnCount() == 5; }));
    EXPECT_EQ(dialog->findChild<QComboBox*>("delimiter")->currentText(), "as found: ,");
    EXPECT_EQ(dialog->findChild<QComboBox*>("header")->currentText(), "as found: yes");
    EXPECT_EQ(dialog->findChild<NumberBox*>("skipLines")->text(), "as found: 0");
    auto* gather = dialog->findChild<QCheckBox*>("gather");
    gather->setFocus();
    QTest::keyClick(gather, Qt::Key_Space);
    auto* columns = dialog->findChild<QListWidget*>("gatherColumns");
    ASSERT_TRUE(waitFor([&] { return preview->model()->columnCount() == 4; }));
    EXPECT_EQ(columns->item(0)->checkState(), Qt::Unchecked);
    EXPECT_EQ(columns->item(1)->checkState(), Qt::Checked) << "years are suggested";
    EXPECT_EQ(columns->item(3)->checkState(), Qt::Checked);
    auto* values = dialog->findChild<QLineEdit*>("gatherValues");
    values->selectAll();
    QTest::keyClicks(values, "cost");
    columns->setFocus();
    columns->setCurrentItem(columns->item(2));
    QTest::keyClick(columns, Qt::Key_Space); // 2022 is left where it is
    ASSERT_TRUE(waitFor([&] {
        return preview->model()->columnCount() == 5 &&
               preview->model()->headerData(2, Qt::Horizontal, Qt::DisplayRole).toString() == "cost\nnumber";
    }));
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->text() == "Open") click(b);
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().table().rows(), 18u);
    EXPECT_EQ(session().table().find("year")->kind(), ColumnKind::number);
    EXPECT_EQ(session().table().find("year")->numbers()[1], 2023);
    EXPECT_EQ(session().table().find("cost")->numbers()[1], 30.25);
    EXPECT_EQ(session().table().find("2022")->numbers()[1], 20);
    ASSERT_TRUE(session().recipe().rows.gather);
    EXPECT_EQ(session().recipe().rows.gather->columns, (std::vector<std::string>{"2021", "2023"}));
    // Read otherwise shows the choice that was made.
    click(button("read otherwise…"));
    auto* again = find<QDialog>("readingDialog");
    ASSERT_TRUE(waitFor([&] { return again->findChild<QListWidget*>("gatherColumns")->count() == 5; }));
    EXPECT_EQ(again->findChild<QListWidget*>("gatherColumns")->item(3)->checkState(), Qt::Checked);
    EXPECT_EQ(again->findChild<QListWidget*>("gatherColumns")->item(2)->checkState(), Qt::Unchecked);
    EXPECT_EQ(again->findChild<QLineEdit*>("gatherValues")->text(), "cost");
    again->close();
}

TEST_F(DataWindow, WhatTheReaderWasNotSureOfIsOneLineWithTheWayToSayIt) {
    QByteArray rows = "zip,kg\n";
    for (int i = 0; i < 40; ++i)
        rows += "0" + QByteArray::number(1000 + i % 7) + "," + QByteArray::number(3.5 * i) + "\n";
    openFile(write("zip.csv", rows));
    station(1);
    auto* line = find<QWidget>("readDoubts");
    ASSERT_TRUE(line->isVisible());
    EXPECT_TRUE(line->findChild<QLabel*>()->text().contains("zip: whole numbers with zeros in front"));
    EXPECT_EQ(session().table().find("zip")->kind(), ColumnKind::factor);
    click(button("read zip as numbers"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().table().find("zip")->kind(), ColumnKind::number);
    EXPECT_FALSE(line->isVisible()) << "what was said is no longer doubted";
}

TEST_F(DataWindow, FilesAreStackedJoinedAndReadAgainWithAReport) {
    QByteArray jan = "depot,rate\n", feb = "depot,rate\n", depots = "depot,places\nCinder,100\nDunlin,200\n";
    for (int i = 0; i < 60; ++i) {
        jan += (i % 2 ? "Cinder," : "Dunlin,") + QByteArray::number(20 + i % 7) + "\n";
        feb += (i % 2 ? "Cinder," : "Kelder,") + QByteArray::number(40 + i % 7) + "\n";
    }
    const QString first = write("jan.csv", jan);
    openFile(first);
    station(1);
    files.toOpen = write("feb.csv", feb);
    source("Stack more rows below…");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().table().rows(), 120u);
    ASSERT_NE(session().table().find("source"), nullptr);
    EXPECT_TRUE(std::any_of(session().ledger().table.begin(), session().ledger().table.end(),
                            [](const Goad& g) { return g.key == "distant sources: rate"; }));
    files.toOpen = write("depots.csv", depots);
    source("Join a second table by key…");
    ASSERT_TRUE(waitFor([&] { return window->findChild<QDialog*>("joinDialog") != nullptr; }));
    auto* dialog = find<QDialog>("joinDialog");
    EXPECT_TRUE(waitFor([&] {
        return dialog->findChild<QLabel*>("joinSaid")->text().contains("90 rows matched, 30 without a match");
    }));
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->text() == "Join") click(b);
    ASSERT_TRUE(settle());
    ASSERT_NE(session().table().find("places"), nullptr);
    EXPECT_EQ(session().table().find("places")->missingCount(), 30u);
    // The file has grown.
    write("jan.csv", jan + "Nowhere,99\n");
    QApplication::setActiveWindow(window.get());
    QTest::keyClick(window.get(), Qt::Key_F5);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().table().rows(), 121u);
    EXPECT_TRUE(window->findChild<QLabel*>("message")->text().contains("1 new level: Nowhere"));
    // What is taken back is gone.
    source("Take the join of depots.csv back");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().table().find("places"), nullptr);
}

TEST_F(DataWindow, PastedRowsAreKeptInAFileOfTheirOwn) {
    station(1);
    QGuiApplication::clipboard()->setText("a\tb\n1\t2\n3\t4\n5\t6\n");
    source("Paste rows from the clipboard");
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().table().rows(), 3u);
    EXPECT_EQ(session().table().columns()[1].numbers()[2], 6);
    EXPECT_TRUE(QFile::exists(qs(session().recipe().rows.file)));
    QFile::remove(qs(session().recipe().rows.file));
    QGuiApplication::clipboard()->setText("  ");
    source("Paste rows from the clipboard");
    EXPECT_TRUE(window->failureShown().contains("no text on the clipboard"));
    EXPECT_EQ(session().table().rows(), 3u); // what was open stays
}

TEST_F(DataWindow, ADatabaseIsAskedAndABadQuerySaysWhere) {
    const QString path = folder.filePath("depots.sqlite");
    {
        Database database(path.toStdString(), false);
        database.run("CREATE TABLE depots (name TEXT, places REAL); INSERT INTO depots VALUES ('Cinder', 1), "
                     "('Dunlin', 2), ('Kelder', 3);");
    }
    files.toOpen = path;
    station(1);
    source("Rows from a database…");
    auto* dialog = find<QDialog>("databaseDialog");
    ASSERT_NE(dialog, nullptr);
    auto* query = dialog->findChild<QPlainTextEdit*>("query");
    ASSERT_TRUE(waitFor([&] { return !query->toPlainText().isEmpty(); }));
    EXPECT_EQ(query->toPlainText(), "SELECT * FROM \"depots\"");
    query->setPlainText("DROP TABLE depots");
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->property("tryQuery").toBool()) click(b);
    ASSERT_TRUE(
        waitFor([&] { return dialog->findChild<QLabel*>("databaseSaid")->text().contains("not a query"); }));
    query->setPlainText("SELECT name, places * 2 AS twice FROM depots");
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->text() == "Read") click(b);
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().table().rows(), 3u);
    EXPECT_EQ(session().table().find("twice")->numbers()[2], 6);
    EXPECT_EQ(session().recipe().rows.kind, SourceKind::sqlite);
}

TEST_F(DataWindow, AStepWhoseColumnIsGoneIsMarkedAndTheRestRuns) {
    openFile(write("r.csv", "x,g,y\n" + QByteArray("1,a,2\n2,b,3\n,a,5\n4,b,6\n").repeated(20)));
    station(1);
    session().addStep({"fill missing", true, {{"columns", std::vector<std::string>{"x"}}}});
    ASSERT_TRUE(settle());
    session().addStep({"merge levels",
                       true,
                       {{"column", std::string("g")},
                        {"levels", std::vector<std::string>{"a"}},
                        {"into", std::string("c")}}});
    ASSERT_TRUE(settle());
    write("r.csv", "x,h,y\n" + QByteArray("1,a,2\n2,b,3\n,a,5\n4,b,6\n").repeated(20));
    click(button("read again"));
    ASSERT_TRUE(settle());
    pane("steps");
    EXPECT_TRUE(stepText(1, 4).contains("no column \"g\""));
    EXPECT_EQ(session().table().find("x")->missingCount(), 0u);
    EXPECT_TRUE(window->findChild<QLabel*>("message")->text().contains("gone: g"));
}

TEST_F(DataWindow, AThousandColumnsStayUsable) {
    QByteArray text;
    for (int c = 0; c < 1000; ++c)
        text += (c ? ",c" : "c") + QByteArray::number(c);
    for (int r = 0; r < 60; ++r) {
        text += '\n';
        for (int c = 0; c < 1000; ++c)
            text += (c ? "," : "") + QByteArray::number((r * 7 + c) % 53);
    }
    QElapsedTimer timer;
    openFile(write("wide.csv", text + "\n"));
    station(1);
    auto* ledger = find<GridView>("ledger");
    EXPECT_EQ(ledger->model()->rowCount(), 1000);
    find<QLineEdit>("findColumn")->setText("c999");
    EXPECT_EQ(ledger->model()->rowCount(), 1);
}

TEST_F(DataWindow, APasswordIsAskedForAndNeverStored) {
    const QString script = OXGOAD_SUPPORT "/postgres.sh";
    const int port = 40000 + static_cast<int>(QCoreApplication::applicationPid() % 20000);
    QProcess start;
    start.start(script, {"start", QString::number(port)});
    ASSERT_TRUE(start.waitForFinished(60000));
    ASSERT_EQ(start.exitCode(), 0) << start.readAllStandardError().toStdString();
    const QString place = QString::fromUtf8(start.readAllStandardOutput()).trimmed();
    RowsPlan plan;
    plan.kind = SourceKind::postgres;
    plan.server = {"127.0.0.1", port, "postgres", "oxgoad"};
    plan.query = "SELECT x, y FROM many WHERE x <= 500";
    station(1);
    session().openPlan(plan, ".");
    auto answer = [&](const QString& password) {
        QDialog* dialog = nullptr;
        ASSERT_TRUE(waitFor([&] {
            dialog = window->findChild<QDialog*>("passwordDialog");
            return dialog && dialog->isVisible();
        }));
        auto* field = dialog->findChild<QLineEdit*>();
        EXPECT_EQ(field->echoMode(), QLineEdit::Password);
        QTest::keyClicks(field, password);
        QTest::keyClick(field, Qt::Key_Return);
        delete dialog;
    };
    answer("wrong");
    answer("right");
    ASSERT_TRUE(waitFor([&] { return session().hasRows() && !session().jobs().busy(); }));
    EXPECT_EQ(session().table().rows(), 500u);
    session().save(folder.filePath("p.oxgoad"));
    ASSERT_TRUE(settle());
    QFile saved(folder.filePath("p.oxgoad"));
    ASSERT_TRUE(saved.open(QIODevice::ReadOnly));
    EXPECT_TRUE(saved.readAll().contains("127.0.0.1"));
    saved.seek(0);
    EXPECT_FALSE(saved.readAll().contains("right"));
    QProcess stop;
    stop.start(script, {"stop", place});
    EXPECT_TRUE(stop.waitForFinished(60000));
}

} // namespace data_test
