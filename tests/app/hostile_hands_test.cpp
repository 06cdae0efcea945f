// What hands do that nobody thought of: a pointer over plots that are being drawn, names that would be marks,
// numbers typed in other ways than meant, two windows on one file, a session that ends.
#include "app_support.h"

#include "base/random.h"

#include <QContextMenuEvent>
#include <QDialog>
#include <QDialogButtonBox>
#include <QMenu>
#include <QMouseEvent>
#include <QStandardPaths>
#include <QTimer>
#include <QXmlStreamReader>
#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace hostile_hands_test {

class HostileHands : public WindowTest {
protected:
    QString write(const QString& name, const QByteArray& bytes) {
        QFile file(folder.filePath(name));
        EXPECT_TRUE(file.open(QIODevice::WriteOnly));
        file.write(bytes);
        return file.fileName();
    }
    QByteArray manyRows(int count) const {
        RandomStream random(4, "many rows");
        QByteArray text = "y,x,z,g,day\n";
        for (int i = 0; i < count; ++i) {
            const double x = random.normal(), z = random.normal();
            text += QByteArray::number(20 + x + z * z + random.normal(), 'g', 8) + "," +
                    QByteArray::number(x, 'g', 8) + "," + QByteArray::number(z, 'g', 8) + "," +
                    QByteArray(1, static_cast<char>('a' + random.below(4))) + ",2024-" +
                    QByteArray::number(static_cast<int>(10 + random.below(3))) + "-" +
                    QByteArray::number(static_cast<int>(10 + random.below(18))) + "\n";
        }
        return text;
    }
};

/// The widget of the plotting library, which the mouse is over.
QWidget* canvasOf(PlotFrame* plot) {
    for (auto* child : plot->findChildren<QWidget*>())
        if (child->parentWidget() == plot) return child;
    return plot;
}

void moveTo(QWidget* widget, const QPoint& place) {
    QMouseEvent move(QEvent::MouseMove, place, widget->mapToGlobal(place), Qt::NoButton, Qt::NoButton, {});
    QApplication::sendEvent(widget, &move);
}

TEST(PlotHands, APointerIsOverAPlotBeforeItWasEverDrawn) {
    PlotFrame plot("plot");
    plot.resize(300, 200);
    plot.setVisible(true);
    QWidget* canvas = canvasOf(&plot);
    moveTo(canvas, {150, 100});
    QEvent leave(QEvent::Leave);
    QApplication::sendEvent(canvas, &leave);
    QTest::mouseClick(canvas, Qt::LeftButton, {}, {120, 90});
    QTest::mouseDClick(canvas, Qt::LeftButton, {}, {120, 90});
    for (const int key :
         {Qt::Key_Plus, Qt::Key_Left, Qt::Key_M, Qt::Key_Home, Qt::Key_Return, Qt::Key_Escape})
        QTest::keyClick(&plot, static_cast<Qt::Key>(key));
    plot.setSelectedRow(3);
    plot.setMarkedRows(std::make_shared<const std::vector<std::uint8_t>>(5, 1));
    EXPECT_EQ(plot.marksMarked(), 0U);
}

TEST(PlotHands, TheRightButtonOpensTheMenuOfAPlot) {
    PlotFrame plot("plot");
    plot.resize(300, 200);
    plot.setVisible(true);
    bool opened = false;
    QTimer::singleShot(50, &plot, [&] {
        if (auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) {
            opened = menu->actions().size() > 4;
            menu->close();
        }
    });
    QWidget* canvas = canvasOf(&plot);
    QContextMenuEvent event(QContextMenuEvent::Mouse, {150, 100}, canvas->mapToGlobal(QPoint(150, 100)));
    QApplication::sendEvent(canvas, &event);
    EXPECT_TRUE(opened);
}

TEST(PlotHands, NamesAreTextInAnSvgWhateverTheyHold) {
    QTemporaryDir folder;
    PlotFrame plot("plot");
    plot.resize(400, 300);
    PlotFrame::Content content;
    content.xTitle = "</title><script>alert(1)</script> \x1b[31m & \"x\"";
    content.yTitle = "<b>y</b>";
    content.marks.push_back({"<i>rows</i>\x07", theme::Mark::learning, {1, 2, 3}, {4, 5, 7}, {0, 1, 2}});
    plot.show(content);
    plot.setVisible(true);
    const QString path = folder.filePath("plot.svg");
    ASSERT_TRUE(plot.savePicture(path));
    QFile file(path);
    ASSERT_TRUE(file.open(QIODevice::ReadOnly));
    QXmlStreamReader xml(&file);
    QString title;
    while (!xml.atEnd()) {
        xml.readNext();
        if (!xml.isStartElement()) continue;
        EXPECT_NE(xml.name().toString(), "script");
        EXPECT_NE(xml.name().toString(), "b");
        if (xml.name().toString() == "title") title = xml.readElementText();
    }
    EXPECT_FALSE(xml.hasError()) << ss(xml.errorString());
    EXPECT_TRUE(title.contains("<script>alert(1)</script>")) << ss(title);
    EXPECT_TRUE(plot.savePicture(folder.filePath("plot.png")));
    EXPECT_FALSE(plot.savePicture(folder.filePath("no such folder/plot.svg")));
}

TEST_F(HostileHands, ThePointerMovesOverEveryPlotWhileFitsAndChecksRun) {
    openFile(write("many.csv", manyRows(qEnvironmentVariableIntValue("OXGOAD_MOUSE_ROWS") > 0
                                            ? qEnvironmentVariableIntValue("OXGOAD_MOUSE_ROWS")
                                            : 20000)));
    RandomStream random(9, "pointer");
    Recipe recipe = session().draft();
    recipe.response = "y";
    const auto pick = [&](std::size_t of) { return static_cast<std::size_t>(random.below(of)); };
    const int rounds = std::max(60, qEnvironmentVariableIntValue("OXGOAD_MOUSE_ROUNDS"));
    const std::vector<Term> terms{plainTerm("x"), plainTerm("z"), plainTerm("g"),
                                  Term{{TermPart{"x"}, TermPart{"z"}}}};
    for (int round = 0; round < rounds; ++round) {
        if (round % 6 == 0) {
            recipe.terms.clear();
            for (const Term& term : terms)
                if (random.below(2) == 0) recipe.terms.push_back(term);
            session().change(recipe);
        }
        if (round % 4 == 0) station(2 + static_cast<int>(random.below(5)));
        for (auto* plot : window->findChildren<PlotFrame*>()) {
            QWidget* canvas = canvasOf(plot);
            for (int move = 0; move < 4; ++move) {
                const QPoint place(
                    static_cast<int>(pick(static_cast<std::size_t>(std::max(1, canvas->width())))),
                    static_cast<int>(pick(static_cast<std::size_t>(std::max(1, canvas->height())))));
                moveTo(canvas, place);
                if (random.below(10) == 0 && plot->isVisible())
                    QTest::mouseClick(canvas, Qt::LeftButton, {}, place);
                if (random.below(20) == 0)
                    QTest::keyClick(plot, random.below(2) == 0 ? Qt::Key_Plus : Qt::Key_Home);
            }
        }
        QTest::qWait(static_cast<int>(random.below(15)));
    }
    EXPECT_TRUE(settle());
}

TEST(NumberFields, WhatIsTypedIsTakenAsItIsOrRefused) {
    QDialog dialog;
    QVBoxLayout layout(&dialog);
    auto* share = new NumberBox(&dialog);
    share->setDecimals(2);
    share->setRange(0, 90);
    share->setSuffix(" %");
    auto* count = new WholeBox(2, 1000, &dialog);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, &dialog);
    layout.addWidget(share);
    layout.addWidget(count);
    layout.addWidget(buttons);
    dialog.show();
    QPushButton* ok = buttons->button(QDialogButtonBox::Ok);
    const auto type = [&](NumberBox* box, const QString& text, double before) {
        box->setValue(before);
        box->setFocus();
        box->selectAll();
        QTest::keyClicks(box, text);
        const bool held = !ok->isEnabled();
        EXPECT_EQ(held, box->property("wrong").toBool()) << ss(text);
        QTest::keyClick(box, Qt::Key_Return);
        EXPECT_TRUE(dialog.isVisible() || !held) << ss(text);
        return std::pair(box->QDoubleSpinBox::value(), held);
    };
    for (const char* wrong : {"7,5", "0,25", "12,5", "1,000", "2.555", "x", "--3", "95"}) {
        const auto [value, held] = type(share, wrong, 25);
        EXPECT_TRUE(held) << wrong;
        EXPECT_EQ(value, 25) << wrong;
    }
    dialog.show();
    EXPECT_EQ(type(share, "2.5", 25), std::pair(2.5, false));
    dialog.show();
    EXPECT_EQ(type(share, "12.25", 25), std::pair(12.25, false));
    dialog.show();
    for (const char* wrong : {"7,5", "2.5", "0,25", "1", "1e9"}) {
        const auto [value, held] = type(count, wrong, 10);
        EXPECT_TRUE(held) << wrong;
        EXPECT_EQ(value, 10) << wrong;
    }
    dialog.show();
    EXPECT_EQ(type(count, "1,000", 10), std::pair(1000.0, false)); // groups of three
    EXPECT_TRUE(ok->isEnabled());
}

TEST_F(HostileHands, AFileThatAnotherWindowSavedIsNotOverwrittenWithoutAWord) {
    openFile(demo + "/1_straight.json");
    files.toSave = folder.filePath("shared.oxgoad");
    QTest::keyClick(window.get(), Qt::Key_S, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    MainWindow other(files, settings);
    other.open(files.toSave);
    ASSERT_TRUE(
        QTest::qWaitFor([&] { return other.session().hasRows() && !other.session().jobs().busy(); }, 20000));
    Recipe recipe = other.session().draft();
    recipe.terms.pop_back();
    other.session().change(recipe);
    ASSERT_TRUE(QTest::qWaitFor([&] { return !other.session().jobs().busy(); }, 20000));
    QTest::qWait(20);
    other.session().save(files.toSave);
    ASSERT_TRUE(QTest::qWaitFor([&] { return !other.session().saveJobs().busy(); }, 20000));
    EXPECT_EQ(files.askedChanged, 0);
    const auto bytes = [&] {
        QFile file(folder.filePath("shared.oxgoad"));
        EXPECT_TRUE(file.open(QIODevice::ReadOnly));
        return file.readAll();
    };
    const QByteArray theirs = bytes();
    session().setUnit("revenue", "EUR");
    QTest::keyClick(window.get(), Qt::Key_S, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(files.askedChanged, 1);
    EXPECT_EQ(bytes(), theirs);
    EXPECT_TRUE(session().dirty());
    files.changed = FileChooser::Changed::elsewhere;
    files.toSave = folder.filePath("mine.oxgoad");
    QTest::keyClick(window.get(), Qt::Key_S, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(bytes(), theirs);
    EXPECT_FALSE(session().dirty());
    EXPECT_TRUE(QFile::exists(folder.filePath("mine.oxgoad")));
    // Its own saves are no change by others.
    session().setUnit("revenue", "USD");
    QTest::keyClick(window.get(), Qt::Key_S, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(files.askedChanged, 2);
    EXPECT_FALSE(session().dirty());
}

TEST_F(HostileHands, WorkIsKeptWhenTheSessionEnds) {
    openFile(demo + "/1_straight.json");
    session().setUnit("revenue", "EUR");
    ASSERT_TRUE(session().hasUnsavedWork());
    window->endSession();
    ASSERT_TRUE(settle());
    const QString kept = settings.value("kept").toString();
    ASSERT_TRUE(QFile::exists(kept)) << ss(kept);
    // The next window says so, once, and offers it.
    MainWindow next(files, settings);
    next.show();
    EXPECT_TRUE(next.failureShown().contains(kept)) << ss(next.failureShown());
    EXPECT_TRUE(settings.value("recent").toStringList().contains(kept));
    EXPECT_TRUE(settings.value("kept").toString().isEmpty());
    next.open(kept);
    ASSERT_TRUE(
        QTest::qWaitFor([&] { return next.session().hasRows() && !next.session().jobs().busy(); }, 20000));
    EXPECT_EQ(next.session().unit("revenue"), "EUR");
    QFile::remove(kept);
}

} // namespace hostile_hands_test
