// The whole path through the window, by mouse and keys.
#include "app/brief/brief_bar.h"
#include "app/goads/goads_panel.h"
#include "app/trail/trail_strip.h"
#include "app_support.h"
#include "workspace/grids.h"

#include <QDialog>
#include <QLineEdit>
#include <QMenu>
#include <QToolButton>

#include <algorithm>
#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace window_test {

class Window : public WindowTest {};

QString text(GridView* view, const QModelIndex& line, const QString& column) {
    for (int c = 0; c < view->model()->columnCount(); ++c)
        if (view->model()->headerData(c, Qt::Horizontal, Qt::DisplayRole).toString().startsWith(column))
            return line.siblingAtColumn(c).data().toString();
    return "no such column";
}

TEST_F(Window, TheWholePathFromOpeningToReopening) {
    // Open rows.
    openFile(demo + "/depot_months.csv");
    EXPECT_EQ(find<BriefBar>("briefBar")->sentence(),
              "Predict revenue (a guess: click to choose another) from no terms yet by least squares, to be "
              "judged by 10 folds, seed 1. "
              "Tick a column in Fit to begin.");
    EXPECT_EQ(find<GridView>("ledger")->model()->rowCount(), 18);
    EXPECT_EQ(find<GridView>("rows")->model()->rowCount(), 1440);

    // Choose terms by mouse and by key.
    station(3);
    auto* terms = find<GridView>("terms");
    tick(terms, "places");
    ASSERT_TRUE(settle());
    ASSERT_NE(session().evidence(), nullptr);
    EXPECT_EQ(session().current(), 1);
    terms->setFocus();
    terms->setCurrentIndex(line(terms, "contract"));
    QTest::keyClick(terms, Qt::Key_Space);
    ASSERT_TRUE(settle());
    tick(terms, "list_rate");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().trail().fits().size(), 3u);
    EXPECT_EQ(text(terms, line(terms, "contract"), "enters as"), "levels, from anchor");
    EXPECT_TRUE(find<BriefBar>("briefBar")
                    ->sentence()
                    .startsWith("Predict revenue from 3 terms by least squares, learning from 1,440 rows, "
                                "judged by 10 folds, seed 1: typically off by"))
        << ss(find<BriefBar>("briefBar")->sentence());

    // Select an outlying row by clicking its mark.
    station(4);
    auto* plot = find<PlotFrame>("checkPlot");
    QTest::qWait(50);
    const auto& residuals = session().evidence()->rows.residual;
    std::size_t worst = 0;
    for (std::size_t i = 0; i < residuals.size(); ++i)
        if (std::fabs(residuals[i]) > std::fabs(residuals[worst])) worst = i;
    const auto place = plot->placeOfRow(worst);
    ASSERT_TRUE(place);
    QTest::mouseClick(plot->childAt(*place), Qt::LeftButton, {},
                      plot->childAt(*place)->mapFrom(plot, *place));
    EXPECT_EQ(session().selectedRow(), worst);
    auto* outlying = find<GridView>("outlying");
    EXPECT_EQ(outlying->currentIndex().data(DataRowRole).toULongLong(), worst)
        << "selected in one place is selected in all";
    station(1);
    EXPECT_EQ(find<GridView>("rows")->currentIndex().row(), static_cast<int>(worst));

    // Forecast and export.
    station(6);
    files.toOpen = demo + "/plan.csv";
    click(find<QPushButton>("chooseForecast"));
    ASSERT_TRUE(settle());
    auto* forecast = find<GridView>("forecastTable");
    EXPECT_EQ(forecast->model()->rowCount(), 504);
    EXPECT_TRUE(find<BriefBar>("briefBar")
                    ->sentence()
                    .startsWith("Forecast revenue for 504 rows of plan.csv with fit 4, 95 % intervals:"))
        << ss(find<BriefBar>("briefBar")->sentence());
    files.toSave = folder.filePath("forecast.csv");
    click(find<QPushButton>("exportForecast"));
    ASSERT_TRUE(settle());
    int told = 0;
    for (auto* label : window->findChildren<QLabel*>())
        told += label->text() == "written to forecast.csv";
    EXPECT_EQ(told, 1);
    QFile exported(files.toSave);
    ASSERT_TRUE(exported.open(QIODevice::ReadOnly));
    const QList<QByteArray> lines = exported.readAll().split('\n');
    EXPECT_EQ(lines.size(), 506);
    EXPECT_TRUE(lines[0].endsWith("prediction,mean_lower,mean_upper,lower,upper,reach,reasons"))
        << lines[0].toStdString();

    // Save, close, reopen: everything is as it was.
    files.toSave = folder.filePath("work.oxgoad");
    QTest::keyClick(window.get(), Qt::Key_S, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_FALSE(session().dirty());
    EXPECT_TRUE(window->windowTitle().startsWith("work.oxgoad")) << ss(window->windowTitle());
    const Recipe recipe = session().recipe();
    const double rmse = session().evidence()->folds->rmse;
    const QString sentence = find<BriefBar>("briefBar")->sentence();
    window->close();
    EXPECT_EQ(files.asked, 0);
    window = std::make_unique<MainWindow>(files, settings);
    activate();
    openFile(folder.filePath("work.oxgoad"));
    ASSERT_NE(session().evidence(), nullptr);
    EXPECT_EQ(session().recipe(), recipe);
    EXPECT_EQ(session().evidence()->folds->rmse, rmse);
    EXPECT_EQ(session().trail().fits().size(), 4u);
    EXPECT_EQ(find<BriefBar>("briefBar")->sentence(), sentence) << "the station it was left at";
    EXPECT_TRUE(settings.value("recent").toStringList().first().endsWith("work.oxgoad"));
}

TEST_F(Window, UntickingGoesBackToTheFitThatWas) {
    openFile(demo + "/1_straight.json");
    station(3);
    auto* terms = find<GridView>("terms");
    tick(terms, "occupancy");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 2);
    EXPECT_EQ(session().trail().find(2)->change, "− occupancy");
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 1);
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 2);
}

TEST_F(Window, APairIsAddedWithItsParents) {
    openFile(demo + "/1_straight.json");
    station(3);
    auto* terms = find<GridView>("terms");
    QTest::mouseClick(terms->viewport(), Qt::LeftButton, {},
                      terms->visualRect(line(terms, "list_rate").siblingAtColumn(1)).center());
    QTest::mouseClick(terms->viewport(), Qt::LeftButton, Qt::ControlModifier,
                      terms->visualRect(line(terms, "contract").siblingAtColumn(1)).center());
    click(button("add the pair"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(termName(session().recipe().terms.back()), "list_rate × contract");
    EXPECT_TRUE(line(terms, "list_rate × contract").isValid());
}

TEST_F(Window, GoadsJumpAreAcceptedAndMended) {
    openFile(demo + "/cold_storage.oxgoad");
    const auto& evidence = session().evidence();
    ASSERT_TRUE(evidence);
    auto* panel = find<GoadsPanel>("goadsPanel");
    QLabel* counts = nullptr;
    for (auto* label : panel->findChildren<QLabel*>())
        if (label->property("goadCounts").toBool()) counts = label;
    ASSERT_NE(counts, nullptr);
    ASSERT_TRUE(settle());
    const auto open = [&] { return counts->text().section(' ', 0, 0).toInt(); };
    const auto mended = [&] { return counts->text().section(' ', 3, 3).toInt(); };
    const int before = open(), mendedBefore = mended();
    EXPECT_GE(before, 4); // one cause is one card
    EXPECT_TRUE(counts->text().endsWith("mended · 0 accepted")) << ss(counts->text());
    const auto openFamily = [&](const QString& key) {
        QString name = key; // of the goad it stands under
        for (const Goad& goad : session().goads().all)
            if (qs(goad.key) == key && !goad.under.empty()) name = qs(goad.under);
        QPushButton* toggle = nullptr;
        for (auto* b : panel->findChildren<QPushButton*>())
            if (b->property("keeps").toString() == "family " + name && !b->parentWidget()->isHidden())
                toggle = b;
        ASSERT_NE(toggle, nullptr) << ss(name);
        toggle->click();
        ASSERT_TRUE(settle()); // the cards are made anew in a turn of the event loop of their own
    };
    auto card = [&](const QString& key) -> QWidget* {
        QTest::qWait(20); // new cards are shown by the next turn of the event loop
        for (auto* widget : panel->findChildren<QWidget*>("goadCard"))
            if (!widget->isHidden() && widget->property("goad").toString() == key) return widget;
        return nullptr;
    };
    auto press = [&](const QString& key, const QString& label) {
        QWidget* widget = card(key);
        ASSERT_NE(widget, nullptr) << key.toStdString();
        for (auto* b : widget->findChildren<QPushButton*>())
            if (b->text() == label) return QTest::mouseClick(b, Qt::LeftButton);
        FAIL() << label.toStdString();
    };
    // A jump shows the evidence.
    openFamily("unequal spread");
    press("unequal spread", "see residuals");
    QTest::qWait(50);
    EXPECT_EQ(find<QComboBox>("across")->currentText(), "places");
    // Accepting asks for a reason.
    press("missing values", "accept…");
    auto* reason = card("missing values")->findChild<QLineEdit*>("reason");
    ASSERT_NE(reason, nullptr);
    QTest::keyClick(reason, Qt::Key_Return);
    EXPECT_TRUE(session().recipe().accepted.empty()) << "without a reason nothing is accepted";
    QTest::keyClicks(reason, "few and at random");
    QTest::keyClick(reason, Qt::Key_Return);
    ASSERT_EQ(session().recipe().accepted.size(), 1u);
    ASSERT_TRUE(settle());
    EXPECT_EQ(open(), before - 1);
    EXPECT_TRUE(counts->text().endsWith("1 accepted"));
    press("missing values", "take back");
    ASSERT_TRUE(settle());
    EXPECT_EQ(open(), before);
    // A move answers the goad.
    openFamily("collinearity: energy_price");
    press("collinearity: energy_price", "leave out energy_price");
    ASSERT_TRUE(settle());
    EXPECT_GT(mended(), mendedBefore) << counts->text().toStdString();
    EXPECT_EQ(card("collinearity: energy_price"), nullptr);
}

TEST_F(Window, ARowIsLeftOutWithAReasonAndTakenBack) {
    openFile(demo + "/1_straight.json");
    station(4);
    session().selectRow(88);
    auto* reason = find<QLineEdit>("leaveOutReason");
    QTest::keyClicks(reason, "closed after a fire");
    QTest::keyClick(reason, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().leaveOut, (std::vector<LeftOutRow>{{89, "closed after a fire"}}));
    EXPECT_EQ(session().evidence()->rowsLeftOut, 1u);
    for (auto* part : window->findChildren<QPushButton*>("briefPart"))
        if (part->isVisible() && part->property("part") == "rows") click(part);
    auto* dialog = find<QDialog>("rowsDialog");
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->text() == "take back") click(b);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session().recipe().leaveOut.empty());
}

TEST_F(Window, TheBriefChangesTheHoldOut) {
    openFile(demo + "/1_straight.json");
    for (auto* part : window->findChildren<QPushButton*>("briefPart"))
        if (part->isVisible() && part->property("part") == "held-out rows") click(part);
    auto* dialog = find<QDialog>("rowsDialog");
    auto* seed = dialog->findChild<NumberBox*>("heldOutSeed");
    seed->selectAll();
    QTest::keyClicks(seed, "11");
    QTest::keyClick(dialog, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().setAside->seed, 11u);
    EXPECT_NE(find<BriefBar>("briefBar")->sentence().indexOf("seed 11"), -1);
}

TEST_F(Window, TheTrailIsWalkedByMouseAndKeys) {
    openFile(demo + "/cold_storage.oxgoad");
    auto* trail = window->findChild<TrailStrip*>();
    QTest::mouseClick(trail, Qt::LeftButton, {}, trail->placeOf(2));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 2);
    QTest::keyClick(trail, Qt::Key_Left);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 1);
    EXPECT_EQ(session().trail().fits().size(), 4u) << "walking makes no new fits";
}

TEST_F(Window, CompareLaysTwoFitsSideBySide) {
    openFile(demo + "/cold_storage.oxgoad");
    station(5);
    ASSERT_TRUE(
        QTest::qWaitFor([this] { return find<GridView>("compare")->model()->rowCount() > 0; }, 10000));
    auto* table = find<GridView>("compare");
    EXPECT_EQ(text(table, line(table, "learning rows"), "fit 3"), "996");
    EXPECT_EQ(text(table, line(table, "learning rows"), "fit 4"), "995");
    find<QComboBox>("leftFit")->setCurrentIndex(0);
    ASSERT_TRUE(QTest::qWaitFor(
        [&] { return table->model()->headerData(1, Qt::Horizontal, Qt::DisplayRole) == "fit 1"; }, 10000));
    EXPECT_EQ(text(table, line(table, "calendar_month = Apr"), "fit 1"), "");
}

TEST_F(Window, AGroupsLineIsDrawnOnlyOverItsRange) {
    openFile(demo + "/cold_storage.oxgoad");
    station(2);
    find<QComboBox>("predictor")->setCurrentText("list_rate");
    find<QComboBox>("group")->setCurrentText("lines by contract");
    ASSERT_TRUE(settle());
    const auto& content = find<PlotFrame>("lookPlot")->content();
    ASSERT_EQ(content.lines.size(), 3u);
    const Column& rate = *session().table().find("list_rate");
    const Column& contract = *session().table().find("contract");
    for (const auto& drawn : content.lines) {
        double low = 1e9, high = -1e9;
        for (std::size_t i = 0; i < rate.size(); ++i)
            if (contract.cellText(i) == ss(drawn.label) &&
                session().evidence()->rows.state[i] == RowState::learning) {
                low = std::min(low, rate.numbers()[i]);
                high = std::max(high, rate.numbers()[i]);
            }
        EXPECT_EQ(drawn.x.front(), low) << drawn.label.toStdString();
        EXPECT_EQ(drawn.x.back(), high) << drawn.label.toStdString();
    }
    EXPECT_EQ(content.xTitle, "list_rate, EUR a pallet and week");
}

TEST_F(Window, PlotsZoomPanComeBackAndAreSaved) {
    openFile(demo + "/1_straight.json");
    station(4);
    auto* plot = find<PlotFrame>("checkPlot");
    plot->setFocus();
    const auto whole = plot->extent();
    QTest::keyClick(plot, Qt::Key_Plus);
    EXPECT_GT(plot->extent()[0], whole[0]);
    QTest::keyClick(plot, Qt::Key_Right);
    QTest::keyClick(plot, Qt::Key_Home);
    EXPECT_EQ(plot->extent(), whole);
    EXPECT_TRUE(plot->savePicture(folder.filePath("p.png")));
    EXPECT_TRUE(plot->savePicture(folder.filePath("p.svg")));
    EXPECT_GT(QFileInfo(folder.filePath("p.png")).size(), 5000);
    QFile svg(folder.filePath("p.svg"));
    ASSERT_TRUE(svg.open(QIODevice::ReadOnly));
    EXPECT_TRUE(svg.readAll().contains("<svg"));
    plot->showAsTable();
    QTest::qWait(30);
    GridView* values = nullptr;
    for (auto* view : plot->findChildren<GridView*>())
        values = view;
    ASSERT_NE(values, nullptr);
    std::size_t points = session().evidence()->rowsLearning + session().evidence()->rowsHeldOut;
    for (const auto& line : plot->content().lines) // smooth lines have places of their own
        points += line.x.size();
    EXPECT_EQ(values->model()->rowCount(), static_cast<int>(points));
}

TEST_F(Window, UnsavedChangesAreAskedAbout) {
    openFile(demo + "/1_straight.json");
    files.answer = FileChooser::Unsaved::cancel;
    window->close();
    EXPECT_TRUE(window->isVisible());
    EXPECT_EQ(files.asked, 1);
    files.answer = FileChooser::Unsaved::save;
    files.toSave = folder.filePath("kept");
    window->close();
    ASSERT_TRUE(settle());
    EXPECT_FALSE(window->isVisible()) << "closes once it is saved";
    EXPECT_TRUE(QFileInfo::exists(folder.filePath("kept.oxgoad")));
}

TEST_F(Window, FailuresAreToldAndNothingIsLost) {
    openFile(demo + "/1_straight.json");
    const Recipe recipe = session().recipe();
    files.answer = FileChooser::Unsaved::discard;
    openFile(folder.filePath("none.csv"));
    EXPECT_NE(window->failureShown().indexOf("there is no such file"), -1);
    EXPECT_EQ(session().recipe(), recipe);
    QFile bad(folder.filePath("bad.oxgoad"));
    ASSERT_TRUE(bad.open(QIODevice::WriteOnly));
    bad.write("no project at all");
    bad.close();
    openFile(bad.fileName());
    EXPECT_NE(window->failureShown().indexOf("not an Oxgoad project"), -1) << ss(window->failureShown());
    EXPECT_NE(session().evidence(), nullptr);
    click(button("dismiss"));
    EXPECT_EQ(window->failureShown(), "");
    // A term that cannot be used says why; the fit stays.
    Recipe log = recipe;
    log.terms.push_back(Term{{TermPart{"outside_temperature", 1, true}}});
    session().change(log);
    ASSERT_TRUE(settle());
    EXPECT_NE(window->failureShown().indexOf("ln(outside_temperature) is not defined"), -1)
        << ss(window->failureShown());
    EXPECT_EQ(session().recipe(), recipe);
}

TEST_F(Window, DataTextIsPlainTextEverywhere) {
    QFile file(folder.filePath("markup.csv"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("<b>bold</b>,&amp;g,y\n");
    for (int i = 0; i < 60; ++i)
        file.write(QString("%1,%2,%3\n")
                       .arg(i % 9)
                       .arg(i % 2 ? "<i>a</i>" : "<img src=x>")
                       .arg(3 * (i % 9) + (i * 7) % 5)
                       .toUtf8());
    file.close();
    openFile(file.fileName());
    station(3);
    auto* terms = find<GridView>("terms");
    tick(terms, "<b>bold</b>");
    ASSERT_TRUE(settle());
    tick(terms, "&amp;g");
    ASSERT_TRUE(settle());
    for (int s = 1; s <= 6; ++s) {
        station(s);
        QTest::qWait(20);
        for (auto* label : window->findChildren<QLabel*>())
            EXPECT_EQ(label->textFormat(), Qt::PlainText) << label->text().toStdString();
    }
    EXPECT_EQ(session().recipe().terms[0].parts[0].column, "<b>bold</b>");
}

TEST_F(Window, AColumnIsReadAsAnotherKind) {
    openFile(demo + "/1_straight.json");
    station(1);
    auto* ledger = find<GridView>("ledger");
    ledger->setCurrentIndex(line(ledger, "opened"));
    QTest::keyClick(ledger, Qt::Key_Return);
    auto* menu = window->findChild<QMenu*>("columnMenu");
    ASSERT_NE(menu, nullptr);
    for (auto* action : menu->findChildren<QAction*>())
        if (action->text() == "Read as factor") action->trigger();
    menu->close();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().table().find("opened")->kind(), ColumnKind::factor);
    EXPECT_EQ(session().recipe().rows.text.kinds.at("opened"), ColumnKind::factor);
}

TEST_F(Window, AFileIsReadOtherwise) {
    QFile file(folder.filePath("odd.txt"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("1,5 2\n2,5 4\n3,5 9\n");
    file.close();
    openFile(file.fileName());
    EXPECT_EQ(session().table().columns().size(), 2u); // taken for two columns parted by commas
    click(button("read otherwise…"));
    auto* dialog = find<QDialog>("readingDialog");
    auto choose = [&](const QString& box, const QString& entry) {
        dialog->findChild<QComboBox*>(box)->setCurrentText(entry);
    };
    choose("delimiter", "space");
    choose("decimalMark", ",");
    for (auto* b : dialog->findChildren<QPushButton*>())
        if (b->text() == "Read again") click(b);
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().table().rows(), 3u);
    EXPECT_EQ(session().table().columns()[0].numbers()[1], 2.5);
    EXPECT_EQ(session().table().columns()[1].numbers()[2], 9);
}

TEST_F(Window, EveryStationIsReachedByKeysAndHasAnAccessibleName) {
    openFile(demo + "/cold_storage.oxgoad");
    for (int s = 1; s <= 6; ++s) {
        station(s);
        QTest::qWait(20);
        int checked = 0;
        for (auto* b : window->findChildren<QToolButton*>("railButton")) {
            EXPECT_FALSE(b->accessibleName().isEmpty());
            checked += b->isChecked();
        }
        EXPECT_EQ(checked, 1);
        for (auto* view : window->findChildren<GridView*>())
            EXPECT_FALSE(view->accessibleName().isEmpty());
        for (auto* plot : window->findChildren<PlotFrame*>())
            EXPECT_FALSE(plot->accessibleName().isEmpty());
    }
}

TEST_F(Window, ManyRowsAreDrawnAsADensity) {
    QFile file(folder.filePath("many.csv"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    QByteArray bytes = "x,y\n";
    for (int i = 0; i < 60000; ++i)
        bytes +=
            QByteArray::number(i % 997) + "," + QByteArray::number((i % 997) * 2 + (i * 31) % 101) + "\n";
    file.write(bytes);
    file.close();
    openFile(file.fileName());
    station(2);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<PlotFrame>("lookPlot")->showsDensity());
}

TEST_F(Window, WhatWouldHelpIsMeasuredAndATickAddsIt) {
    openFile(demo + "/1_straight.json");
    station(3);
    click(button("what would help"));
    ASSERT_TRUE(settle());
    auto* helps = find<GridView>("helps");
    ASSERT_GT(helps->model()->rowCount(), 100);
    QModelIndex pair;
    for (int row = 0; row < helps->model()->rowCount() && !pair.isValid(); ++row)
        if (helps->model()->index(row, 1).data() == "pair") pair = helps->model()->index(row, 0);
    EXPECT_EQ(pair.data(), "list_rate × contract"); // the planted one before all other pairs
    helps->scrollTo(pair);
    QTest::mouseClick(helps->viewport(), Qt::LeftButton, {},
                      CellDelegate::tickRect(helps->visualRect(pair)).center());
    ASSERT_TRUE(settle());
    const auto& terms = session().recipe().terms;
    EXPECT_EQ(termName(terms.back()), "list_rate × contract");
    // Measured anew for the new fit, without it.
    EXPECT_FALSE(line(helps, "list_rate × contract").isValid());
    EXPECT_GT(helps->model()->rowCount(), 100);
    EXPECT_TRUE(find<QLabel>("helpsSaid")->text().contains("tried"))
        << find<QLabel>("helpsSaid")->text().toStdString();
}

} // namespace window_test
