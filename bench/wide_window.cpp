// The window on 2,000 rows of 5,000 columns: each thing an analyst does there, how long until all of it
// stands, and the longest time the window did not answer meanwhile, against its limit.
#include "app/parts.h"
#include "app/theme.h"
#include "window_support.h"

#include <benchmark/benchmark.h>

#include <QApplication>
#include <QComboBox>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>

#include <memory>

using namespace oxgoad;

namespace {

std::unique_ptr<Shown> wide;

Session& session() {
    return wide->window.session();
}

bool rests() {
    Session& s = session();
    return !s.jobs().busy() && !s.checkJobs().busy() && !s.foldJobs().busy() && !s.rankJobs().busy() &&
           !s.lookJobs().busy() && !s.helpJobs().busy() && !s.chooseJobs().busy() && !s.effectJobs().busy();
}

GridView* grid(const char* name) {
    return wide->window.findChild<GridView*>(name);
}

void type(const char* field, const QString& text) {
    auto* edit = wide->window.findChild<QLineEdit*>(field);
    edit->setFocus();
    edit->clear();
    for (const QChar c : text) {
        QTest::keyClicks(edit, c);
        QTest::qWait(5);
    }
}

void walk(GridView* view, Qt::Key key, int times) {
    view->setFocus();
    for (int i = 0; i < times; ++i) {
        QTest::keyClick(view, key);
        QTest::qWait(5);
    }
}

void press(const char* property, const QString& value) {
    for (auto* button : wide->window.findChildren<QPushButton*>())
        if (button->isVisible() && button->property(property).toString() == value) return button->click();
}

void pressText(const QString& text) {
    for (auto* button : wide->window.findChildren<QPushButton*>())
        if (button->isVisible() && button->text() == text) return button->click();
}

void tick(const char* column) {
    Recipe recipe = session().draft();
    recipe.terms.push_back(plainTerm(column));
    session().change(recipe);
}

/// What is done, and what stands afterwards.
struct Act {
    const char* name;
    std::function<void()> act;
};

void measure(benchmark::State& state, const Act& act) {
    for (auto _ : state) {
        Heartbeat heart;
        const auto start = Clock::now();
        act.act();
        QTest::qWait(20);
        const bool came = waitFor(rests);
        state.SetIterationTime(since(start));
        QTest::qWait(100);
        state.counters["rested"] = came ? 1 : 0;
        state.counters["longest_gap_ms"] = heart.longestMs();
        state.counters["limit_ms"] = 50;
    }
}

std::vector<Act> acts() {
    return {
        {"rows opened", [] { wide->open(wide->folder.filePath("rows.csv")); }},
        {"a model of two terms",
         [] {
             Recipe recipe = session().recipe();
             recipe.response = "y";
             recipe.terms = {plainTerm("x0"), plainTerm("x17")};
             session().change(recipe);
         }},
        {"Look shown", [] { wide->window.showStation("look"); }},
        {"Fit shown", [] { wide->window.showStation("fit"); }},
        {"Check shown", [] { wide->window.showStation("check"); }},
        {"Compare shown", [] { wide->window.showStation("compare"); }},
        {"Forecast shown", [] { wide->window.showStation("forecast"); }},
        {"Data shown", [] { wide->window.showStation("data"); }},
        {"ledger, 40 lines down", [] { walk(grid("ledger"), Qt::Key_Down, 40); }},
        {"ledger, 10 pages down", [] { walk(grid("ledger"), Qt::Key_PageDown, 10); }},
        {"ledger, a column typed", [] { type("findColumn", "x49"); }},
        {"ledger, all columns again", [] { wide->window.findChild<QLineEdit*>("findColumn")->clear(); }},
        {"rows, 10 pages down", [] { walk(grid("rows"), Qt::Key_PageDown, 10); }},
        {"rows, 40 columns to the right", [] { walk(grid("rows"), Qt::Key_Right, 40); }},
        {"rows, the last column", [] { walk(grid("rows"), Qt::Key_End, 1); }},
        {"another term, seen from Data", [] { tick("x3"); }},
        {"Look shown again", [] { wide->window.showStation("look"); }},
        {"ranking, 40 lines down", [] { walk(grid("ranking"), Qt::Key_Down, 40); }},
        {"another predictor",
         [] { wide->window.findChild<QComboBox*>("predictor")->setCurrentText("x2500"); }},
        {"pairs", [] { press("view", "pairs"); }},
        {"against again", [] { press("view", "against"); }},
        {"Fit shown again", [] { wide->window.showStation("fit"); }},
        {"terms, 40 lines down", [] { walk(grid("terms"), Qt::Key_Down, 40); }},
        {"terms, 10 pages down", [] { walk(grid("terms"), Qt::Key_PageDown, 10); }},
        {"another term", [] { tick("x4"); }},
        {"what would help", [] { pressText("what would help"); }},
        {"another term beside what would help", [] { tick("x5"); }},
        {"Check shown again", [] { wide->window.showStation("check"); }},
        {"another term, seen from Check", [] { tick("x6"); }},
        {"undone", [] { session().undo(); }},
        {"Forecast shown again", [] { wide->window.showStation("forecast"); }},
    };
}

} // namespace

int main(int argc, char** argv) {
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication application(argc, argv);
    theme::apply(application);
    benchmark::Initialize(&argc, argv);
    wide = std::make_unique<Shown>();
    writeRows(wide->folder.filePath("rows.csv"), 2000, 5000);
    for (const Act& act : acts())
        benchmark::RegisterBenchmark(act.name, [act](benchmark::State& state) { measure(state, act); })
            ->UseManualTime()
            ->Iterations(1)
            ->Unit(benchmark::kMillisecond);
    benchmark::RunSpecifiedBenchmarks();
    wide.reset();
    return 0;
}
