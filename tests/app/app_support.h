#pragma once
// Helpers of the app tests: a window on temporary settings whose file dialogs are answered by the test.
#include "app/files.h"
#include "app/parts.h"
#include "app/plots/plot_frame.h"
#include "app/window/main_window.h"
#include "workspace/text.h"

#include <QApplication>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QScrollBar>
#include <QTemporaryDir>
#include <QTest>
#include <gtest/gtest.h>

#include <ostream>

inline void PrintTo(const QString& text, std::ostream* out) {
    *out << '"' << text.toStdString() << '"';
}

namespace oxgoad::test {

class AnsweringChooser : public FileChooser {
public:
    QString openFile(QWidget*, const QString&, const QString&) override { return toOpen; }
    QString saveFile(QWidget*, const QString&, const QString&, const QString&) override { return toSave; }
    Unsaved askUnsaved(QWidget*) override {
        ++asked;
        return answer;
    }
    Changed askChanged(QWidget*, const QString&) override {
        ++askedChanged;
        return changed;
    }
    int askedChanged = 0;
    Changed changed = Changed::cancel;
    QString toOpen, toSave;
    Unsaved answer = Unsaved::discard;
    int asked = 0;
};

inline const QString demo = OXGOAD_DEMO;

class WindowTest : public testing::Test {
protected:
    WindowTest()
        : settings(folder.filePath("settings.ini"), QSettings::IniFormat),
          window(std::make_unique<MainWindow>(files, settings)) {
        window->resize(1280, 800);
        activate();
    }
    /// Makes the window the active one, as a window manager would; shortcuts reach only that.
    void activate() {
        window->show();
        EXPECT_TRUE(QTest::qWaitForWindowExposed(window.get()));
        QApplication::setActiveWindow(window.get());
    }
    Session& session() { return window->session(); }
    /// Waits until nothing is being worked out.
    bool settle() {
        const bool done = QTest::qWaitFor(
            [this] {
                return !session().jobs().busy() && !session().saveJobs().busy() &&
                       !session().lookJobs().busy() && !session().sideJobs().busy() &&
                       !session().helpJobs().busy() && !session().chooseJobs().busy() &&
                       !session().effectJobs().busy() && !session().rankJobs().busy() &&
                       !session().foldJobs().busy() && !session().checkJobs().busy() &&
                       !session().previewJobs().busy() && !session().pathJobs().busy() &&
                       !session().curveJobs().busy() && !session().compareJobs().busy();
            },
            20000);
        QTest::qWait(20);
        // What the answer set going in turns of the event loop of its own, such as the goads, is there too.
        for (int turn = 0; turn < 5; ++turn)
            QCoreApplication::processEvents();
        return done;
    }
    template <class T> T* find(const QString& name) {
        auto* widget = window->findChild<T*>(name);
        EXPECT_NE(widget, nullptr) << name.toStdString();
        return widget;
    }
    QPushButton* button(const QString& text) {
        for (auto* b : window->findChildren<QPushButton*>())
            if (b->isVisible() && b->text() == text) return b;
        ADD_FAILURE() << "no button " << text.toStdString();
        return nullptr;
    }
    void click(QWidget* widget) {
        ASSERT_NE(widget, nullptr);
        QTest::mouseClick(widget, Qt::LeftButton);
    }
    void station(int number) {
        QTest::keyClick(window.get(), static_cast<Qt::Key>(Qt::Key_0 + number), Qt::ControlModifier);
    }
    /// The line of a grid whose first cell says this.
    QModelIndex line(GridView* view, const QString& first) {
        for (int row = 0; row < view->model()->rowCount(); ++row)
            if (view->model()->index(row, 0).data().toString().trimmed() == first)
                return view->model()->index(row, 0);
        return {};
    }
    /// Clicks the tick of a term line.
    void tick(GridView* view, const QString& first) {
        const QModelIndex index = line(view, first);
        ASSERT_TRUE(index.isValid()) << first.toStdString();
        view->scrollTo(index);
        QTest::mouseClick(view->viewport(), Qt::LeftButton, {},
                          CellDelegate::tickRect(view->visualRect(index)).center());
    }
    void openFile(const QString& path) {
        files.toOpen = path;
        QTest::keyClick(window.get(), Qt::Key_O, Qt::ControlModifier);
        ASSERT_TRUE(settle());
    }

    QTemporaryDir folder;
    AnsweringChooser files;
    QSettings settings;
    std::unique_ptr<MainWindow> window;
};

} // namespace oxgoad::test
