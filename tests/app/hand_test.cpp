// What the hand meets: lines that keep their places, numbers that are never cut, keys that do what they say,
// the start, help, files dropped, numbers typed.
#include "app/check/check_station.h"
#include "app/window/help_window.h"
#include "app/window/start_pane.h"
#include "app_support.h"
#include "recipe/recipe_edits.h"
#include "workspace/grids.h"
#include "workspace/start_recipe.h"

#include <QDialogButtonBox>
#include <QDragEnterEvent>
#include <QDropEvent>
#include <QFile>
#include <QFileInfo>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMenu>
#include <QMimeData>
#include <QTemporaryDir>
#include <QTextBrowser>
#include <QUrl>

using namespace oxgoad;
using namespace oxgoad::test;

namespace hand_test {

class Hand : public WindowTest {
protected:
    GridView* terms() { return find<GridView>("terms"); }
    QStringList names(GridView* view) {
        QStringList list;
        for (int row = 0; row < view->model()->rowCount(); ++row)
            list << view->model()->index(row, 0).data().toString().trimmed();
        return list;
    }
    QAction* action(const QString& menu, const QString& text) {
        auto* found = window->findChild<QMenu*>(menu);
        if (!found) return nullptr;
        for (QAction* a : found->actions())
            if (a->text().startsWith(text)) return a;
        return nullptr;
    }
};

/// Every number of a table has room in its cell.
void expectNothingCut(GridView* view, const std::string& where) {
    const QFontMetrics metrics(view->font());
    for (int column = 0; column < view->model()->columnCount(); ++column)
        for (int row = 0; row < std::min(view->model()->rowCount(), 100); ++row) {
            const QModelIndex index = view->model()->index(row, column);
            if (!(index.data(Qt::TextAlignmentRole).value<Qt::Alignment>() & Qt::AlignRight)) continue;
            EXPECT_LE(metrics.horizontalAdvance(index.data().toString()), view->columnWidth(column) - 8)
                << where << " row " << row << " column " << column << ": "
                << index.data().toString().toStdString();
        }
}

Table tableOf(const std::string& text) {
    Progress quiet;
    return readTextBytes(text, "t.csv", {}, {1}, quiet).table;
}

std::string guessOf(const std::string& text) {
    return startRecipe({}, RowsRead{tableOf(text), {}}).response;
}

TEST_F(Hand, NothingMovesAtTheFirstTickOfAFreshFile) {
    QTemporaryDir folder;
    QFile file(folder.filePath("fresh.csv"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("fee,depot,places,weight,revenue\n");
    for (int i = 0; i < 60; ++i)
        file.write(QString("%1,%2,%3,%4 kg,%5\n")
                       .arg(10 + i * i % 17)
                       .arg(i % 2 ? "Oslo" : "Bergen")
                       .arg(100 + i * 7 % 31)
                       .arg(1200 + 3 * i)
                       .arg(1000 + 5 * (i * 7 % 31) + i % 9)
                       .toUtf8());
    file.close();
    openFile(folder.filePath("fresh.csv"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().response, "revenue");
    EXPECT_EQ(session().unit("weight"), "kg") << "of its cells";
    EXPECT_TRUE(find<QWidget>("readDoubts")->isVisible());
    // Nothing of the brief runs out of the window.
    for (auto* word : find<QWidget>("briefBar")->findChildren<QLabel*>())
        if (word->isVisible()) {
            EXPECT_LE(word->mapTo(window.get(), QPoint(word->width(), 0)).x(), window->width())
                << ss(word->text());
        }
    station(3);
    ASSERT_TRUE(settle());
    const QStringList before = names(terms());
    EXPECT_EQ(before.front(), "constant");
    tick(terms(), "places");
    ASSERT_TRUE(settle());
    const QStringList after = names(terms());
    for (const QString& name : before)
        EXPECT_EQ(after.indexOf(name), before.indexOf(name)) << ss(name);
    // Another response leaves no empty line behind.
    Recipe other = session().recipe();
    other.response = "fee";
    session().change(other);
    ASSERT_TRUE(settle());
    EXPECT_FALSE(names(terms()).contains(QString()));
}

TEST_F(Hand, LinesOfFitKeepTheirPlacesWhileTheyAreTicked) {
    openFile(demo + "/1_straight.json");
    station(3);
    ASSERT_TRUE(settle());
    const QStringList before = names(terms());
    // Clicking down the list at fixed places ticks what stands there.
    QStringList out;
    for (const QString& name : before)
        if (line(terms(), name).data(Qt::CheckStateRole).isValid() &&
            line(terms(), name).data(Qt::CheckStateRole).toInt() == Qt::Unchecked &&
            session().table().find(ss(name)) &&
            session().table().find(ss(name))->kind() == ColumnKind::number)
            out << name;
    ASSERT_GE(out.size(), 3);
    out = out.mid(0, 3);
    for (const QString& column : out) {
        const int row = line(terms(), column).row();
        ASSERT_EQ(row, before.indexOf(column)) << ss(column);
        tick(terms(), column);
        ASSERT_TRUE(settle());
        EXPECT_EQ(line(terms(), column).row(), row) << ss(column) << " moved";
        EXPECT_EQ(line(terms(), column).data(Qt::CheckStateRole).toInt(), Qt::Checked);
    }
    EXPECT_EQ(names(terms()), before);
    EXPECT_EQ(session().recipe().terms.size(), readRecipe(ss(demo) + "/1_straight.json").terms.size() + 3);
    // A factor put in does not push the lines below it down.
    const int below = line(terms(), out[2]).row();
    for (const char* factor : {"contract", "region"})
        if (line(terms(), factor).isValid() &&
            line(terms(), factor).data(Qt::CheckStateRole).toInt() == Qt::Unchecked) {
            tick(terms(), factor);
            ASSERT_TRUE(settle());
        }
    EXPECT_EQ(line(terms(), out[2]).row(), below);
    // Taken out, the line stays where it is too.
    tick(terms(), out[0]);
    ASSERT_TRUE(settle());
    EXPECT_EQ(line(terms(), out[2]).row(), below);
    expectNothingCut(terms(), "Fit");
    // Left and come back, the list is in the order of the model.
    station(1);
    station(3);
    ASSERT_TRUE(settle());
    const QStringList after = names(terms());
    EXPECT_LT(after.indexOf(out[2]), after.indexOf(out[0])) << "what is in stands above what is not";
}

TEST_F(Hand, SpaceTwiceIsInAndOutAgain) {
    openFile(demo + "/1_straight.json");
    station(3);
    ASSERT_TRUE(settle());
    const auto terms0 = session().recipe().terms;
    terms()->setFocus();
    terms()->setCurrentIndex(line(terms(), "dock_hours"));
    QTest::keyClick(terms(), Qt::Key_Space);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().terms.size(), terms0.size() + 1);
    EXPECT_EQ(terms()->currentIndex().siblingAtColumn(0).data().toString().trimmed(), "dock_hours");
    QTest::keyClick(terms(), Qt::Key_Space);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().terms, terms0);
    // Ctrl+Space chooses lines and ticks nothing.
    QTest::keyClick(terms(), Qt::Key_Space, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().terms, terms0);
}

TEST_F(Hand, ArrivingByTabChoosesNoRow) {
    openFile(demo + "/1_straight.json");
    station(1);
    ASSERT_TRUE(settle());
    for (GridView* view : window->findChildren<GridView*>())
        if (view->accessibleName().startsWith("Rows") && view->isVisible()) {
            view->setFocus(Qt::TabFocusReason);
            EXPECT_TRUE(view->hasFocus());
        }
    EXPECT_FALSE(session().selectedRow()) << "no row is offered to be left out";
}

TEST_F(Hand, NoNumberIsCutInAnyTableOfTheDemo) {
    openFile(OXGOAD_DEMO "/cold_storage.oxgoad");
    for (const QSize size : {QSize(1280, 800), QSize(1920, 1080)}) {
        window->resize(size);
        for (int number = 1; number <= 6; ++number) {
            station(number);
            ASSERT_TRUE(settle());
            for (GridView* view : window->findChildren<GridView*>())
                if (view->isVisible())
                    expectNothingCut(view, "station " + std::to_string(number) + " " +
                                               view->accessibleName().toStdString());
        }
    }
    station(4);
    ASSERT_TRUE(settle());
    click(button("readings of the checks"));
    auto* readings = find<GridView>("readings");
    ASSERT_TRUE(readings->isVisible());
    expectNothingCut(readings, "readings");
    click(button("rows that stand out"));
    auto* outlying = find<GridView>("outlying");
    ASSERT_TRUE(outlying->isVisible());
    const int last = outlying->model()->columnCount() - 1;
    EXPECT_LE(outlying->columnViewportPosition(last) + outlying->columnWidth(last),
              outlying->viewport()->width())
        << "all columns are seen";
    EXPECT_LT(outlying->columnWidth(last), 400) << "a last column of numbers stands beside the others";
}

TEST_F(Hand, AStartWithoutRowsOffersTheDemoAndWhatWasOpen) {
    auto* start = window->findChild<StartPane*>();
    ASSERT_NE(start, nullptr);
    EXPECT_TRUE(start->isVisible());
    EXPECT_FALSE(StartPane::demoPath("cold_storage").isEmpty());
    auto* demoButton = start->findChild<QPushButton*>("openDemo");
    ASSERT_TRUE(demoButton->isVisible());
    demoButton->setFocus();
    QTest::keyClick(demoButton, Qt::Key_Space);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(session().hasRows());
    EXPECT_FALSE(start->isVisible());
    EXPECT_TRUE(find<GridView>("ledger") != nullptr);
    bool offered = false;
    for (auto* link : start->findChildren<QPushButton*>())
        offered |= link->text() == "cold_storage.oxgoad";
    EXPECT_TRUE(offered) << "what was open is offered the next time";
}

TEST_F(Hand, AFileDroppedOnTheWindowIsOpened) {
    const QString path = folder.filePath("drop.csv");
    QFile file(path);
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("site,cost\nA,1.5\nB,2.5\nC,4\n");
    file.close();
    QMimeData data;
    data.setUrls({QUrl::fromLocalFile(path)});
    QDragEnterEvent enter(QPoint(10, 10), Qt::CopyAction, &data, Qt::LeftButton, {});
    QApplication::sendEvent(window.get(), &enter);
    EXPECT_TRUE(enter.isAccepted());
    QDropEvent drop(QPointF(10, 10), Qt::CopyAction, &data, Qt::LeftButton, {});
    QApplication::sendEvent(window.get(), &drop);
    ASSERT_TRUE(QTest::qWaitFor([&] { return session().hasRows(); }, 10000));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().table().rows(), 3u);
    QMimeData words;
    words.setText("no file");
    QDragEnterEvent other(QPoint(10, 10), Qt::CopyAction, &words, Qt::LeftButton, {});
    other.ignore();
    QApplication::sendEvent(window.get(), &other);
    EXPECT_FALSE(other.isAccepted());
}

TEST_F(Hand, F1OpensTheHelpAtThePlaceThatBelongs) {
    openFile(demo + "/1_straight.json");
    station(3);
    ASSERT_TRUE(settle());
    QTest::keyClick(window.get(), Qt::Key_F1);
    auto* help = window->findChild<HelpWindow*>();
    ASSERT_NE(help, nullptr);
    EXPECT_TRUE(help->isVisible());
    EXPECT_EQ(help->shownHeading(), "Fit");
    auto* text = help->findChild<QTextBrowser*>("helpText");
    EXPECT_TRUE(text->toPlainText().contains("Goads")) << "the guide of docs/";
    auto* findBox = help->findChild<QLineEdit*>("helpFind");
    QTest::keyClicks(findBox, "Cook's distance");
    EXPECT_TRUE(text->textCursor().selectedText().contains("Cook", Qt::CaseInsensitive))
        << "found in another page";
    findBox->clear();
    QTest::keyClicks(findBox, "zzzz");
    EXPECT_EQ(help->findChild<QLabel*>("helpFound")->text(), "not found");
    help->close();
    station(4);
    QTest::keyClick(window.get(), Qt::Key_F1);
    EXPECT_EQ(help->shownHeading(), "Check");
    auto* headings = help->findChild<QListWidget*>("helpHeadings");
    EXPECT_GT(headings->count(), 15);
    help->close();
}

TEST_F(Hand, AColumnIsHeldAtWhatWasTypedAndAtNothingElse) {
    openFile(demo + "/1_straight.json");
    station(3);
    ASSERT_TRUE(settle());
    terms()->setCurrentIndex(line(terms(), "occupancy"));
    ASSERT_TRUE(settle());
    click(button("hold at…"));
    QAction* other = nullptr;
    for (QAction* a : window->findChild<QMenu*>("holdMenu")->actions())
        if (a->text().contains(" = ") && !other) other = a;
    ASSERT_NE(other, nullptr);
    const std::string column = ss(other->text().section(" = ", 0, 0));
    other->trigger();
    auto* dialog = find<QDialog>("holdDialog");
    auto* edit = dialog->findChild<QLineEdit*>("holdValue");
    auto* ok = dialog->findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok);
    for (const auto& [typed, fine] : std::vector<std::pair<QString, bool>>{{"70,5", false},
                                                                           {"70.5.", false},
                                                                           {"1,23", false},
                                                                           {"", false},
                                                                           {"x", false},
                                                                           {"1,234.5", true}}) {
        edit->selectAll();
        QTest::keyClicks(edit, typed);
        if (typed.isEmpty()) edit->clear();
        EXPECT_EQ(ok->isEnabled(), fine) << typed.toStdString();
    }
    EXPECT_TRUE(dialog->findChild<QLabel*>("holdSaid")->text().isEmpty());
    edit->selectAll();
    QTest::keyClicks(edit, "70.5");
    QTest::keyClick(edit, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().view()["hold " + column], "70.5");
}

TEST(NumberBoxes, ReadNoNumberAsAnother) {
    NumberBox box;
    box.setRange(0, 10000);
    box.setDecimals(4);
    box.setValue(0.25);
    auto type = [&](const QString& text) {
        auto* edit = box.findChild<QLineEdit*>();
        edit->selectAll();
        QTest::keyClicks(edit, text);
        box.interpretText();
        return box.value();
    };
    EXPECT_EQ(type("70.5"), 70.5);
    EXPECT_EQ(type("70,5"), 70.5) << "not taken: the value stays";
    EXPECT_EQ(type("1,234.5"), 1234.5);
    EXPECT_EQ(type("12,34"), 1234.5);
    EXPECT_EQ(type("99999"), 1234.5) << "beyond the range";
    EXPECT_EQ(type("1e3"), 1000);
    EXPECT_FALSE(typedNumber("5 %"));
    EXPECT_FALSE(typedNumber("€ 5"));
    EXPECT_EQ(typedNumber("−3").value_or(0), -3);
}

TEST(Guesses, OfTheResponseGoByNameValuesAndPlace) {
    std::string rows = "revenue,places,year\n", codes = "depot_code,spend,zone_code\n", plain = "a,b,c\n",
                last;
    for (int i = 0; i < 60; ++i) {
        rows += std::to_string(1000.5 + i * 7 % 41) + "," + std::to_string(i % 30) + "," +
                std::to_string(1970 + i) + "\n";
        codes += std::to_string(100 + i) + "," + std::to_string(50.25 + i * 3 % 17) + "," +
                 std::to_string(i % 4) + "\n";
        plain += std::to_string(i % 7) + ".5," + std::to_string(i * i % 13) + ".25," +
                 std::to_string(i * 3 % 31) + ".75\n";
    }
    EXPECT_EQ(guessOf(rows), "revenue") << "not the year";
    EXPECT_EQ(guessOf(codes), "spend") << "no code";
    EXPECT_EQ(guessOf(plain), "c") << "the last where nothing else speaks";
    EXPECT_EQ(guessOf("g,h\nx,y\nz,w\n"), "");
}

TEST_F(Hand, AGuessIsSaidToBeOneUntilSomebodyChooses) {
    const QString path = folder.filePath("guess.csv");
    QFile file(path);
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    QByteArray text = "site,cost,kg\n";
    for (int i = 0; i < 50; ++i)
        text += QByteArray::number(i % 5) + "," + QByteArray::number(i * 1.5) + "," +
                QByteArray::number(i % 9) + "\n";
    file.write(text);
    file.close();
    openFile(path);
    ASSERT_TRUE(settle());
    auto said = [&] {
        QString words;
        for (auto* label : window->findChildren<QLabel*>("briefWord"))
            if (label->isVisible()) words += label->text() + " ";
        return words;
    };
    EXPECT_EQ(session().recipe().response, "cost");
    EXPECT_TRUE(said().contains("a guess")) << said().toStdString();
    Recipe next = withResponse(session().recipe(), "kg");
    EXPECT_EQ(next.response, "kg");
    session().view().erase("response");
    session().change(next);
    ASSERT_TRUE(settle());
    EXPECT_FALSE(said().contains("a guess"));
}

} // namespace hand_test
