// The window on rows of hundreds of columns: looked for as it is typed, measured only where they are in view.
#include "app/fit/fit_station.h"
#include "app_support.h"
#include "base/random.h"
#include "workspace/grids.h"
#include "workspace/look_grids.h"

#include <QFile>
#include <QHeaderView>
#include <QImage>
#include <QLineEdit>
#include <QPainter>
#include <QSet>

#include <algorithm>

using namespace oxgoad;
using namespace oxgoad::test;

namespace wide_rows_test {

class WideRows : public WindowTest {
protected:
    /// y, a factor of 60 articles, and numbers x0, x1 … of which the first few say something of y.
    void openWide(int columns, int rows, const std::string& terms) {
        RandomStream random(7, "wide rows");
        QByteArray text = "y,article";
        for (int j = 0; j < columns; ++j)
            text += ",x" + QByteArray::number(j);
        for (int i = 0; i < rows; ++i) {
            double y = random.normal() + i % 60;
            QByteArray line;
            for (int j = 0; j < columns; ++j) {
                const double x = j % 5 == 4 ? 1e6 * random.normal() : random.normal();
                if (j < 3) y += 3 * x;
                line += "," + QByteArray::number(x, 'f', 3);
            }
            text +=
                "\n" + QByteArray::number(y, 'f', 3) + ",article " + QByteArray::number(100 + i % 60) + line;
        }
        write("rows.csv", text);
        write("wide.json", R"({"recipe":1,"rows":{"file":"rows.csv"},"response":"y","terms":[)" +
                               QByteArray::fromStdString(terms) + "]}");
        openFile(folder.filePath("wide.json"));
        ASSERT_TRUE(session().evidence()) << ss(window->failureShown());
    }
    void write(const QString& name, const QByteArray& bytes) {
        QFile file(folder.filePath(name));
        ASSERT_TRUE(file.open(QIODevice::WriteOnly));
        file.write(bytes);
    }
    QStringList names(GridView* view) {
        QStringList all;
        for (int row = 0; row < view->model()->rowCount(); ++row)
            all << view->model()->index(row, 0).data().toString().trimmed();
        return all;
    }
    /// Ctrl+F and the text, as it is typed.
    QLineEdit* typed(const QString& field, const QString& text) {
        QTest::keyClick(window.get(), Qt::Key_F, Qt::ControlModifier);
        auto* edit = find<QLineEdit>(field);
        EXPECT_TRUE(edit->hasFocus());
        QTest::keyClicks(edit, text);
        return edit;
    }
    /// Numbers in view have room, the whole column and not more than it needs.
    void expectRoom(GridView* view) {
        const QFontMetrics metrics(view->font());
        const int last = view->columnAt(view->viewport()->width() - 1);
        for (int column = view->columnAt(0);
             column >= 0 && column <= (last < 0 ? view->model()->columnCount() - 1 : last); ++column) {
            int needed = 0;
            for (int row = view->rowAt(0); row <= view->rowAt(view->viewport()->height() - 1); ++row)
                needed = std::max(
                    needed, metrics.horizontalAdvance(view->model()->index(row, column).data().toString()));
            EXPECT_LE(needed, view->columnWidth(column) - 8) << "column " << column;
            EXPECT_LT(view->columnWidth(column), 260) << "column " << column;
        }
    }
};

TEST_F(WideRows, TermsAndColumnsAreFoundAsTheyAreTyped) {
    openWide(300, 240, R"("x0","x17")");
    station(3);
    ASSERT_TRUE(settle());
    auto* terms = find<GridView>("terms");
    const QStringList all = names(terms);
    EXPECT_EQ(all.size(), 1 + 301); // constant, x0 … x299 and the factor
    auto* edit = typed("findTerm", "X17");
    EXPECT_EQ(names(terms), (QStringList{"x17", "x170", "x171", "x172", "x173", "x174", "x175", "x176",
                                         "x177", "x178", "x179"}));
    // The first that was found is shown, and Return goes to the list.
    ASSERT_TRUE(settle());
    EXPECT_EQ(find<PlotFrame>("effectPlot")->content().xTitle, "x17");
    QTest::keyClick(edit, Qt::Key_Return);
    EXPECT_TRUE(terms->hasFocus());
    // Of columns that are not in the model the first is chosen too.
    edit->setFocus();
    edit->setText("x29");
    EXPECT_EQ(terms->currentIndex().data().toString(), "x29");
    EXPECT_TRUE(find<PlotFrame>("effectPlot")->content().summary.startsWith("x29 is not in the model"))
        << ss(find<PlotFrame>("effectPlot")->content().summary);
    edit->setText("x17");
    // What is ticked keeps its place among what was found.
    tick(terms, "x175");
    ASSERT_TRUE(settle());
    EXPECT_EQ(names(terms)[6], "x175");
    EXPECT_EQ(session().recipe().terms.size(), 3u);
    tick(terms, "x17");
    ASSERT_TRUE(settle());
    EXPECT_EQ(names(terms)[0], "x17");
    EXPECT_EQ(session().recipe().terms.size(), 2u);
    // Escape forgets what was looked for; the list has everything again.
    edit->setFocus();
    QTest::keyClick(edit, Qt::Key_Escape);
    EXPECT_EQ(edit->text(), "");
    QStringList again = names(terms);
    EXPECT_EQ(QSet<QString>(again.begin(), again.end()), QSet<QString>(all.begin(), all.end()));
    QTest::keyClicks(edit, "no such");
    EXPECT_EQ(terms->model()->rowCount(), 0);
    EXPECT_TRUE(find<PlotFrame>("effectPlot")->content().summary.contains("\"no such\""))
        << ss(find<PlotFrame>("effectPlot")->content().summary);
    // A goad that turns to a column is not hidden by what was looked for.
    edit->setText("x2");
    window->findChild<FitStation*>()->showColumn("x101");
    EXPECT_EQ(edit->text(), "");
    EXPECT_EQ(terms->currentIndex().siblingAtColumn(0).data().toString(), "x101");
}

TEST_F(WideRows, WhatAFactorWouldCostIsSaidBeforeItIsTicked) {
    openWide(3, 240, R"("x0")");
    station(3);
    ASSERT_TRUE(settle());
    auto* terms = find<GridView>("terms");
    EXPECT_EQ(line(terms, "article").siblingAtColumn(1).data().toString(),
              "not in the model, factor of 60 levels");
    EXPECT_EQ(line(terms, "x1").siblingAtColumn(1).data().toString(), "not in the model, number");
}

TEST_F(WideRows, LevelsOfAClosedFactorAreFound) {
    openWide(3, 240, R"("article","x0")");
    station(3);
    ASSERT_TRUE(settle());
    auto* terms = find<GridView>("terms");
    EXPECT_EQ(names(terms), (QStringList{"constant", "article", "x0", "x1", "x2"})) << "levels are folded";
    typed("findTerm", "le 12");
    QStringList expected{"article"};
    for (int level = 120; level < 130; ++level)
        expected << "article " + QString::number(level);
    EXPECT_EQ(names(terms), expected);
    // A level's line has its own numbers.
    const auto& coefficients = session().evidence()->linear->coefficients;
    const auto known = std::find_if(coefficients.begin(), coefficients.end(),
                                    [](const auto& c) { return c.name == "article = article 120"; });
    ASSERT_NE(known, coefficients.end());
    EXPECT_DOUBLE_EQ(line(terms, "article 120").siblingAtColumn(2).data(RawValueRole).toDouble(),
                     known->estimate);
    // Of a factor that is called so itself, as many lines as it shows without.
    find<QLineEdit>("findTerm")->setText("artic");
    EXPECT_EQ(names(terms), QStringList{"article"});
    find<QLineEdit>("findTerm")->setText("const");
    EXPECT_EQ(names(terms), QStringList{"constant"});
}

TEST_F(WideRows, RankedColumnsAndWhatWouldHelpAreFound) {
    openWide(120, 200, R"("x0")");
    station(2);
    ASSERT_TRUE(settle());
    auto* ranking = find<GridView>("ranking");
    QStringList all = names(ranking);
    EXPECT_EQ(all.size(), 121);
    EXPECT_EQ(QSet<QString>(all.begin(), all.end()).size(), 121) << "each column once";
    auto* edit = typed("findRanked", "x11");
    QStringList found = names(ranking);
    EXPECT_EQ(found.size(), 11); // x11, x110 … x119
    // In the order they had among all.
    all.erase(
        std::remove_if(all.begin(), all.end(), [](const QString& name) { return !name.contains("x11"); }),
        all.end());
    EXPECT_EQ(found, all);
    QTest::keyClick(edit, Qt::Key_Return);
    QTest::keyClick(ranking, Qt::Key_Down);
    ASSERT_TRUE(settle());
    EXPECT_EQ(find<PlotFrame>("lookPlot")->content().xTitle,
              ranking->currentIndex().siblingAtColumn(0).data().toString());
    station(3);
    click(button("what would help"));
    ASSERT_TRUE(settle());
    auto* helps = find<GridView>("helps");
    const int every = helps->model()->rowCount();
    auto* findHelp = find<QLineEdit>("findHelp");
    findHelp->setFocus();
    QTest::keyClicks(findHelp, "x2");
    for (const QString& name : names(helps))
        EXPECT_TRUE(name.contains("x2")) << ss(name);
    EXPECT_GT(helps->model()->rowCount(), 0);
    EXPECT_LT(helps->model()->rowCount(), every);
    // The tick of a line that was found takes in that line.
    findHelp->setText("x2");
    const QString first = names(helps)[0];
    tick(helps, first);
    ASSERT_TRUE(settle());
    const auto& terms = session().recipe().terms;
    EXPECT_TRUE(
        std::any_of(terms.begin(), terms.end(), [&](const Term& t) { return qs(termName(t)) == first; }));
}

TEST_F(WideRows, NumbersHaveRoomWhereverTheRowsAreLookedAt) {
    openWide(600, 80, R"("x0")");
    station(1);
    ASSERT_TRUE(settle());
    auto* rows = find<GridView>("rows");
    expectRoom(rows);
    rows->setFocus();
    rows->setCurrentIndex(rows->model()->index(0, 0));
    for (int i = 0; i < 40; ++i) {
        QTest::keyClick(rows, Qt::Key_Right);
        QTest::qWait(1);
    }
    expectRoom(rows);
    QTest::keyClick(rows, Qt::Key_End);
    QTest::qWait(20);
    expectRoom(rows);
    // The last column stands whole in view.
    const int last = rows->model()->columnCount() - 1;
    EXPECT_EQ(rows->currentIndex().column(), last);
    EXPECT_LE(rows->columnViewportPosition(last) + rows->columnWidth(last), rows->viewport()->width());
    QTest::keyClick(rows, Qt::Key_Home);
    QTest::qWait(20);
    EXPECT_EQ(rows->columnAt(0), 0);
    rows->horizontalScrollBar()->setValue(rows->horizontalScrollBar()->maximum() / 2);
    QTest::qWait(20);
    expectRoom(rows);
    window->resize(1900, 900); // more columns come into view
    QTest::qWait(50);
    expectRoom(rows);
}

TEST_F(WideRows, AColumnChosenInTheLedgerIsSeenAmongTheRows) {
    openWide(300, 80, R"("x0")");
    station(1);
    ASSERT_TRUE(settle());
    auto* ledger = find<GridView>("ledger");
    auto* rows = find<GridView>("rows");
    const auto shown = [&](const QString& column) {
        for (int at = 0; at < rows->model()->columnCount(); ++at)
            if (rows->model()->headerData(at, Qt::Horizontal, Qt::DisplayRole).toString() == column)
                return rows->columnViewportPosition(at) >= 0 &&
                       rows->columnViewportPosition(at) + rows->columnWidth(at) <= rows->viewport()->width();
        return false;
    };
    EXPECT_FALSE(shown("x200"));
    QTest::keyClick(typed("findColumn", "x200"), Qt::Key_Return);
    EXPECT_TRUE(ledger->hasFocus());
    EXPECT_TRUE(shown("x200"));
    expectRoom(rows);
    find<QLineEdit>("findColumn")->clear();
    ledger->setCurrentIndex(line(ledger, "x299"));
    EXPECT_TRUE(shown("x299"));
    ledger->setCurrentIndex(line(ledger, "y"));
    EXPECT_TRUE(shown("y"));
    // What is in view already stays where it is.
    const int before = rows->horizontalScrollBar()->value();
    ledger->setCurrentIndex(line(ledger, "x1"));
    EXPECT_EQ(rows->horizontalScrollBar()->value(), before);
}

TEST_F(WideRows, OfANumberAtTheEdgeOfTheViewNoPartIsShown) {
    openWide(60, 80, R"("x0")");
    station(1);
    ASSERT_TRUE(settle());
    auto* rows = find<GridView>("rows");
    const int column = 4; // after row, part, y and article
    ASSERT_NE(rows->model()->index(0, column).data().toString(),
              rows->model()->index(1, column).data().toString());
    const auto painted = [&](int row, int left) {
        QImage image(rows->viewport()->size(), QImage::Format_RGB32);
        image.fill(Qt::white);
        QPainter painter(&image);
        QStyleOptionViewItem option;
        option.font = rows->font();
        option.widget = rows;
        option.rect = QRect(left, 20, rows->columnWidth(column), 23);
        rows->itemDelegate()->paint(&painter, option, rows->model()->index(row, column));
        return image;
    };
    const int width = rows->viewport()->width(), cell = rows->columnWidth(column);
    EXPECT_NE(painted(0, 100), painted(1, 100)) << "two numbers, whole in view";
    EXPECT_NE(painted(0, width - cell), painted(1, width - cell));
    for (const int left : {width - cell / 2, width - 30, 30 - cell})
        EXPECT_EQ(painted(0, left), painted(1, left)) << "each is a mark that there is one, at " << left;
    QImage none(rows->viewport()->size(), QImage::Format_RGB32);
    none.fill(Qt::white);
    EXPECT_NE(painted(0, width - cell / 2), none) << "the mark is seen";
}

TEST_F(WideRows, PairsOfManyColumnsAreKeptAndTheStrongestListed) {
    openWide(480, 120, R"("x0")");
    station(2);
    ASSERT_TRUE(settle());
    click(button("pairs"));
    ASSERT_TRUE(settle());
    auto* pairs = find<GridView>("pairs");
    EXPECT_EQ(pairs->model()->columnCount(), 2 + 481);
    EXPECT_EQ(pairs->columnWidth(300), 44);
    find<QComboBox>("pairsAs")->setCurrentIndex(1);
    EXPECT_FALSE(session().lookJobs().busy()) << "they are known";
    EXPECT_EQ(pairs->model()->rowCount(), static_cast<int>(mostPairsListed));
    EXPECT_TRUE(
        find<QLabel>("lookSaid")->text().startsWith("The 100,000 strongest of 115,440 pairs of 481 columns"))
        << ss(find<QLabel>("lookSaid")->text());
    find<QComboBox>("pairsAs")->setCurrentIndex(0);
    EXPECT_EQ(pairs->model()->rowCount(), 481);
    EXPECT_EQ(pairs->columnWidth(300), 44);
    // Of other rows they are worked out anew.
    session().setRole("x5", Role::identifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(pairs->model()->rowCount(), 480);
}

} // namespace wide_rows_test
