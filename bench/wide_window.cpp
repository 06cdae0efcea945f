// The window on 2,000 rows of 5,000 columns: each thing an analyst does there, how long until all of it
// stands, and the longest time the window did not answer meanwhile, against its limit.
#include "app/parts.h"
#include "app/theme.h"
#include "window_support.h"
#include "workspace/text.h"

#include <benchmark/benchmark.h>

#include <QApplication>
#include <QComboBox>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>

#include <memory>

using namespace oxgoad;

namespace {

std::unique_ptr<Shown> shown;
std::unique_ptr<QTemporaryDir> files;

QString fileCalled(const QString& name) {
    return files->filePath(name);
}

Session& session() {
    return shown->window.session();
}

bool rests() {
    Session& s = session();
    return !s.jobs().busy() && !s.checkJobs().busy() && !s.foldJobs().busy() && !s.rankJobs().busy() &&
           !s.lookJobs().busy() && !s.helpJobs().busy() && !s.chooseJobs().busy() && !s.effectJobs().busy();
}

GridView* grid(const char* name) {
    return shown->window.findChild<GridView*>(name);
}

void type(const char* field, const QString& text) {
    auto* edit = shown->window.findChild<QLineEdit*>(field);
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
    for (auto* button : shown->window.findChildren<QPushButton*>())
        if (button->isVisible() && button->property(property).toString() == value) return button->click();
}

void pressText(const QString& text) {
    for (auto* button : shown->window.findChildren<QPushButton*>())
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
        waitFor([] { return !session().jobs().busy(); }); // the fit stands, its slow checks follow
        const double fitted = since(start);
        const bool came = waitFor(rests);
        state.SetIterationTime(since(start));
        state.counters["fit_ms"] = 1000 * fitted;
        QTest::qWait(100);
        state.counters["rested"] = came ? 1 : 0;
        state.counters["longest_gap_ms"] = heart.longestMs();
        state.counters["longest_gap_ms_limit"] = 50;
    }
}

std::vector<Act> columnActs() {
    return {
        {"rows opened", [] { shown->open(fileCalled("rows.csv")); }},
        {"a model of two terms",
         [] {
             Recipe recipe = session().recipe();
             recipe.response = "y";
             recipe.terms = {plainTerm("x0"), plainTerm("x17")};
             session().change(recipe);
         }},
        {"Look shown", [] { shown->window.showStation("look"); }},
        {"Fit shown", [] { shown->window.showStation("fit"); }},
        {"Check shown", [] { shown->window.showStation("check"); }},
        {"Compare shown", [] { shown->window.showStation("compare"); }},
        {"Forecast shown", [] { shown->window.showStation("forecast"); }},
        {"Data shown", [] { shown->window.showStation("data"); }},
        {"ledger, 40 lines down", [] { walk(grid("ledger"), Qt::Key_Down, 40); }},
        {"ledger, 10 pages down", [] { walk(grid("ledger"), Qt::Key_PageDown, 10); }},
        {"ledger, a column typed", [] { type("findColumn", "x49"); }},
        {"ledger, all columns again", [] { shown->window.findChild<QLineEdit*>("findColumn")->clear(); }},
        {"rows, 10 pages down", [] { walk(grid("rows"), Qt::Key_PageDown, 10); }},
        {"rows, 40 columns to the right", [] { walk(grid("rows"), Qt::Key_Right, 40); }},
        {"rows, the last column", [] { walk(grid("rows"), Qt::Key_End, 1); }},
        {"another term, seen from Data", [] { tick("x3"); }},
        {"Look shown again", [] { shown->window.showStation("look"); }},
        {"ranking, 40 lines down", [] { walk(grid("ranking"), Qt::Key_Down, 40); }},
        {"another predictor",
         [] { shown->window.findChild<QComboBox*>("predictor")->setCurrentText("x2500"); }},
        {"pairs", [] { press("view", "pairs"); }},
        {"against again", [] { press("view", "against"); }},
        {"Fit shown again", [] { shown->window.showStation("fit"); }},
        {"terms, 40 lines down", [] { walk(grid("terms"), Qt::Key_Down, 40); }},
        {"terms, 10 pages down", [] { walk(grid("terms"), Qt::Key_PageDown, 10); }},
        {"another term", [] { tick("x4"); }},
        {"what would help", [] { pressText("what would help"); }},
        {"another term beside what would help", [] { tick("x5"); }},
        {"Check shown again", [] { shown->window.showStation("check"); }},
        {"another term, seen from Check", [] { tick("x6"); }},
        {"undone", [] { session().undo(); }},
        {"Forecast shown again", [] { shown->window.showStation("forecast"); }},
    };
}

/// Sales of articles, popular ones more often, at sites; rows to be forecast.
void writeSales(const QString& path, int rows, std::uint64_t seed, bool withRevenue) {
    RandomStream random(seed, "sales");
    std::string text = withRevenue ? "article,site,price_eur,temperature_c,revenue_eur\n"
                                   : "article,site,price_eur,temperature_c\n";
    for (int i = 0; i < rows; ++i) {
        const double popular = random.uniform();
        const auto article = static_cast<int>(5000 * popular * popular),
                   site = static_cast<int>(random.below(12));
        const double price = 10 + article % 7 + random.normal(), warm = 12 + 6 * random.normal();
        text += "article " + std::to_string(10000 + article) + ",site " + std::to_string(site) + "," +
                std::to_string(price) + "," + std::to_string(warm);
        if (withRevenue)
            text += "," + std::to_string(60 + article % 83 - price + site + 0.2 * warm + 6 * random.normal());
        text += '\n';
    }
    replaceFile(path.toStdString(), text);
}

std::vector<Act> salesActs() {
    return {
        {"sales opened",
         [] {
             shown = std::make_unique<Shown>();
             shown->open(fileCalled("sales.csv"));
         }},
        {"a model of articles, sites and two numbers",
         [] {
             Recipe recipe = session().draft();
             recipe.response = "revenue_eur";
             recipe.terms = {plainTerm("article"), plainTerm("site"), plainTerm("price_eur"),
                             plainTerm("temperature_c")};
             session().change(recipe);
         }},
        {"sales, Fit shown", [] { shown->window.showStation("fit"); }},
        {"an article typed", [] { type("findTerm", "12345"); }},
        {"all terms again", [] { shown->window.findChild<QLineEdit*>("findTerm")->clear(); }},
        {"the levels opened, by p",
         [] {
             session().view()["levels of article"] = "open";
             session().view()["order of article"] = "by p";
             shown->window.showStation("check");
             shown->window.showStation("fit");
         }},
        {"levels, 40 lines down", [] { walk(grid("terms"), Qt::Key_Down, 40); }},
        {"levels, 10 pages down", [] { walk(grid("terms"), Qt::Key_PageDown, 10); }},
        {"a term less",
         [] {
             Recipe recipe = session().draft();
             recipe.terms.pop_back();
             session().change(recipe);
         }},
        {"sales, Check shown", [] { shown->window.showStation("check"); }},
        {"sales, Look shown", [] { shown->window.showStation("look"); }},
        {"sales, Data shown", [] { shown->window.showStation("data"); }},
        {"20,000 rows forecast",
         [] {
             shown->window.showStation("forecast");
             Recipe recipe = session().draft();
             recipe.forecast.emplace();
             recipe.forecast->file = ss(fileCalled("plan.csv"));
             session().change(recipe);
         }},
        {"forecast, 10 pages down", [] { walk(grid("forecastTable"), Qt::Key_PageDown, 10); }},
    };
}

} // namespace

int main(int argc, char** argv) {
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication application(argc, argv);
    theme::apply(application);
    benchmark::Initialize(&argc, argv);
    const auto addAll = [](const std::vector<Act>& acts) {
        for (const Act& act : acts)
            benchmark::RegisterBenchmark(act.name, [act](benchmark::State& state) { measure(state, act); })
                ->UseManualTime()
                ->Iterations(1)
                ->Unit(benchmark::kMillisecond);
    };
    addAll(columnActs());
    addAll(salesActs());
    files = std::make_unique<QTemporaryDir>();
    shown = std::make_unique<Shown>();
    writeRows(fileCalled("rows.csv"), 2000, 5000);
    writeSales(fileCalled("sales.csv"), 1000000, 1, true);
    writeSales(fileCalled("plan.csv"), 20000, 2, false);
    benchmark::RunSpecifiedBenchmarks();
    shown.reset();
    files.reset();
    return 0;
}
