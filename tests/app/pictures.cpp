// Takes the pictures of docs/screenshots from the demo project, so that they can be made anew after a change:
//   oxgoad-pictures PROJECT.oxgoad FOLDER [station]
//   oxgoad-pictures PROJECT.oxgoad FOLDER find TEXT: lists with what is found by the text
#include "app/brief/settings_dialog.h"
#include "app/data/data_station.h"
#include "app/data/database_dialog.h"
#include "app/data/parts_pane.h"
#include "app/data/reading_dialog.h"
#include "app/data/step_dialog.h"
#include "app/theme.h"
#include "app/window/main_window.h"
#include "workspace/text.h"

#include <QApplication>
#include <QCheckBox>
#include <QComboBox>
#include <QDialog>
#include <QDir>
#include <QElapsedTimer>
#include <QLineEdit>
#include <QPushButton>
#include <QTableView>
#include <QTemporaryDir>
#include <QTest>
#include <cstdio>
#include <fstream>
#include <map>

using namespace oxgoad;

namespace {

struct Shot {
    const char* name;
    const char* view;
    const char* column;
    /// Boxes and what they are set to.
    std::vector<std::pair<const char*, const char*>> boxes;
};

void shootLooks(MainWindow& window, const QString& folder) {
    const std::vector<Shot> shots{
        {"look_against", "against", "occupancy", {{"group", "one line"}}},
        {"look_panels",
         "against",
         "list_rate",
         {{"panelsBy", "plots by contract"}, {"group", "lines by region"}}},
        {"look_curves",
         "against",
         "list_rate",
         {{"panelsBy", "one plot"}, {"group", "lines by contract"}, {"shape", "curves"}}},
        {"look_log",
         "against",
         "places",
         {{"group", "one line"}, {"shape", "means of bands"}, {"scales", "ln both"}}},
        {"look_boxes", "against", "region", {{"shape", "lines"}, {"scales", "plain scales"}}},
        {"look_spread", "spread out", "revenue", {}},
        {"look_normal", "spread out", "revenue", {{"spread", "against normal"}}},
        {"look_powers", "spread out", "revenue", {{"spread", "powers"}}},
        {"look_time",
         "over time",
         "revenue",
         {{"group", "lines by contract"}, {"over", "each on its own scale"}}},
        {"look_itself", "over time", "revenue", {{"over", "against itself"}}},
        {"look_season", "season", "revenue", {}},
        {"look_map", "map", "", {}},
        {"look_pairs", "pairs", "", {}}};
    for (const Shot& shot : shots) {
        for (auto* button : window.findChildren<QPushButton*>())
            if (button->property("view") == shot.view) button->click();
        if (*shot.column != 0) window.findChild<QComboBox*>("predictor")->setCurrentText(shot.column);
        for (const auto& [box, text] : shot.boxes)
            window.findChild<QComboBox*>(box)->setCurrentText(text);
        QTest::qWait(500);
        window.grab().save(folder + "/" + shot.name + ".png");
    }
    for (auto* button : window.findChildren<QPushButton*>())
        if (button->property("view") == "against") button->click();
    window.findChild<QComboBox*>("predictor")->setCurrentText("places");
    QTest::qWait(500);
    std::vector<std::size_t> rows;
    for (std::size_t row = 0; row < 150; ++row)
        rows.push_back(row);
    window.session().markRows(rows, false);
    QTest::qWait(200);
    window.grab().save(folder + "/look_marked.png");
    window.session().markRows({}, false);
}

} // namespace

namespace {

/// How a wide table is read: revenue of the depots, one column a month.
void shootReading(MainWindow& window, const QString& folder) {
    const Table& table = window.session().table();
    if (!table.find("depot")) return; // other rows than the demo's
    const Column& depots = *table.find("depot");
    const Column& months = *table.find("month");
    const Column& revenue = *table.find("revenue");
    std::map<std::string, std::map<std::string, std::string>> cells;
    for (std::size_t row = 0; row < table.rows(); ++row)
        cells[depots.cellText(row)][months.cellText(row).substr(0, 7)] = revenue.cellText(row);
    QTemporaryDir place;
    const std::string path = ss(place.filePath("revenue_by_month.csv"));
    std::ofstream out(path);
    out << "Revenue of the depots, EUR\n\ndepot";
    for (const auto& [month, value] : cells.begin()->second)
        out << "," << month;
    for (const auto& [depot, values] : cells) {
        out << "\n" << depot;
        for (const auto& [month, value] : cells.begin()->second) {
            const auto found = values.find(month);
            out << "," << (found == values.end() ? "" : found->second);
        }
    }
    out.close();
    RowsPlan plan;
    plan.file = "revenue_by_month.csv";
    ReadingDialog dialog(plan, place.path(), "Open", &window);
    dialog.show();
    QTest::qWait(400);
    dialog.findChild<QCheckBox*>("gather")->setChecked(true);
    dialog.findChild<QLineEdit*>("gatherNames")->setText("month");
    dialog.findChild<QLineEdit*>("gatherValues")->setText("revenue");
    QTest::qWait(500);
    dialog.grab().save(folder + "/data_reading.png");
}

/// The Check station's panes, and a goad opened.
void shootChecks(MainWindow& window, const QString& folder) {
    Session& session = window.session();
    const auto settled = [&] {
        (void)QTest::qWaitFor(
            [&] {
                return !session.jobs().busy() && !session.checkJobs().busy() && !session.previewJobs().busy();
            },
            20000);
        QTest::qWait(700);
    };
    const auto press = [&](const char* property, const QString& value) {
        for (auto* button : window.findChildren<QPushButton*>())
            if (button->isVisible() && button->property(property).toString() == value) return button->click();
    };
    settled();
    window.grab().save(folder + "/check.png");
    press("table", "readings");
    settled();
    window.grab().save(folder + "/check_readings.png");
    session.openRow(276);
    settled();
    window.grab().save(folder + "/check_row.png");
    press("rowPart", "without");
    window.findChild<QComboBox*>("beside")->setCurrentText("normal quantiles");
    settled();
    window.grab().save(folder + "/check_without.png");
    press("table", "words");
    window.findChild<QComboBox*>("by")->setCurrentText("by contract");
    settled();
    window.grab().save(folder + "/check_words.png");
    window.findChild<QComboBox*>("by")->setCurrentIndex(0);
    window.findChild<QComboBox*>("beside")->setCurrentIndex(0);
    session.choose(1);
    settled();
    press("keeps", "family spread");
    settled();
    press("keeps", "why outlying: row 89");
    settled();
    settled();
    window.grab().save(folder + "/check_why.png");
    session.choose(4);
    press("table", "rows");
    settled();
}

/// How the model is judged: dealt again, the dealing, the dialog, residuals out of fold.
void shootJudging(MainWindow& window, const QString& folder) {
    Session& session = window.session();
    session.dealAgain(20);
    (void)QTest::qWaitFor(
        [&] { return !session.jobs().busy() && !session.foldJobs().busy() && !session.checkJobs().busy(); },
        20000);
    window.showStation("data");
    for (auto* button : window.findChildren<QPushButton*>())
        if (button->property("pane") == "parts") button->click();
    QTest::qWait(300);
    window.grab().save(folder + "/judge.png");
    askParts(session, &window);
    QTest::qWait(300);
    for (auto* dialog : window.findChildren<QDialog*>("rowsDialog")) {
        dialog->grab().save(folder + "/judge_dialog.png");
        dialog->reject();
    }
    window.showStation("check");
    QTest::qWait(300);
    for (auto* box : window.findChildren<QComboBox*>("up"))
        box->setCurrentText("out-of-fold residual");
    QTest::qWait(400);
    window.grab().save(folder + "/judge_residuals.png");
    session.undo();
    (void)QTest::qWaitFor([&] { return !session.jobs().busy(); }, 20000);
}

/// A pair read per level, a curve with its partial residuals, and a choice of terms.
void shootFit(MainWindow& window, const QString& folder) {
    const auto press = [&](const QString& text) {
        for (auto* button : window.findChildren<QPushButton*>())
            if (button->text() == text && button->isVisible()) button->click();
    };
    const auto rest = [&] {
        QTest::qWait(200);
        if (!QTest::qWaitFor(
                [&] {
                    return !window.session().jobs().busy() && !window.session().effectJobs().busy() &&
                           !window.session().chooseJobs().busy();
                },
                30000))
            std::fprintf(stderr, "the window did not come to rest\n");
        QTest::qWait(200);
    };
    const auto line = [&](const QString& term) {
        auto* terms = window.findChild<QTableView*>("terms");
        for (int row = 0; row < terms->model()->rowCount(); ++row)
            if (terms->model()->index(row, 0).data().toString() == term)
                terms->setCurrentIndex(terms->model()->index(row, 0));
    };
    {
        const Recipe before = window.session().recipe();
        Recipe held = before;
        held.estimator = {"penalised", {{"l1_share", 1.0}}};
        window.session().change(held);
        rest();
        if (!QTest::qWaitFor(
                [&] { return !window.session().foldJobs().busy() && !window.session().checkJobs().busy(); },
                60000))
            std::fprintf(stderr, "the checks did not end\n");
        rest();
        window.grab().save(folder + "/fit_penalty.png"); // what only a penalty brings
        press("path");
        QTest::qWait(100);
        (void)QTest::qWaitFor([&] { return !window.session().pathJobs().busy(); }, 60000);
        rest();
        window.grab().save(folder + "/fit_path.png");
        press("as a list");
        press("choose by halves");
        (void)QTest::qWaitFor([&] { return !window.session().pathJobs().busy(); }, 60000);
        rest();
        window.grab().save(folder + "/fit_path_list.png");
        press("more rows?");
        press("learn from fewer rows");
        (void)QTest::qWaitFor([&] { return !window.session().curveJobs().busy(); }, 60000);
        rest();
        window.grab().save(folder + "/fit_curve_rows.png");
        auto* dialog = new SettingsDialog(held.estimator, &window);
        dialog->show();
        QTest::qWait(300);
        dialog->grab().save(folder + "/penalty_dialog.png");
        dialog->close();
        Recipe near = before;
        near.estimator = {"neighbours"};
        std::erase_if(near.terms, [](const Term& term) { return term.parts.size() > 1; });
        press("in words");
        window.session().change(near);
        rest();
        window.showStation("check"); // the lines take the order of the model again
        window.showStation("fit");
        rest();
        window.grab().save(folder + "/fit_neighbours.png");
        window.session().change(before);
        rest();
    }
    press("in words");
    line(QString::fromUtf8("list_rate × contract"));
    rest();
    window.grab().save(folder + "/fit_pair.png");
    Recipe recipe = window.session().recipe();
    for (Term& term : recipe.terms)
        if (term.parts[0].column == "occupancy") term.parts[0].form = Form::spline;
    recipe.errors.kind = CovarianceKind::hc3;
    window.session().change(recipe);
    rest();
    line("occupancy");
    rest();
    window.grab().save(folder + "/fit_curve.png");
    line("contract");
    rest();
    window.grab().save(folder + "/fit_factor.png");
    press("choose terms");
    window.findChild<QPushButton*>("chooseTerms")->click();
    rest();
    window.grab().save(folder + "/fit_choose.png");
    window.findChild<QPushButton*>("takeChosen")->click();
    rest();
    press("in words");
    window.grab().save(folder + "/fit_chosen.png");
}

/// Several fits beside each other.
void shootCompared(MainWindow& window, const QString& folder) {
    const auto press = [&](const QString& text) {
        for (auto* button : window.findChildren<QPushButton*>())
            if (button->text() == text && button->isVisible()) {
                button->click();
                return;
            }
    };
    const auto settle = [&] {
        QTest::qWait(200);
        (void)QTest::qWaitFor(
            [&] { return !window.session().compareJobs().busy() && !window.session().sideJobs().busy(); },
            60000);
        QTest::qWait(300);
    };
    press("+ another fit");
    window.findChild<QComboBox*>("leftFit")->setCurrentIndex(0);
    settle();
    window.findChild<QComboBox*>("rightFit")->setCurrentIndex(2);
    settle();
    window.findChild<QComboBox*>("thirdFit")->setCurrentIndex(4);
    settle();
    settle();
    window.grab().save(folder + "/compare_scores.png");
    for (const auto& [text, file] : {std::pair{"differences", "compare_differences"},
                                     std::pair{"coefficients on one scale", "compare_common"},
                                     std::pair{"where they differ", "compare_rows"}}) {
        press(text);
        settle();
        window.grab().save(folder + "/" + file + ".png");
    }
}

/// The lists with what a text finds.
void shootFound(MainWindow& window, const QString& folder, const QString& text) {
    for (const auto& [station, field] :
         {std::pair{"data", "findColumn"}, std::pair{"look", "findRanked"}, std::pair{"fit", "findTerm"}}) {
        window.showStation(station);
        QTest::qWait(300);
        (void)QTest::qWaitFor(
            [&] { return !window.session().rankJobs().busy() && !window.session().lookJobs().busy(); },
            60000);
        auto* edit = window.findChild<QLineEdit*>(field);
        edit->setFocus();
        QTest::keyClicks(edit, text);
        QTest::qWait(600);
        window.grab().save(folder + "/found_" + station + ".png");
    }
}

} // namespace

int main(int argc, char** argv) {
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication application(argc, argv);
    if (argc < 3) return 2;
    QDir().mkpath(QString::fromLocal8Bit(argv[2]));
    theme::apply(application);
    QTemporaryDir folder;
    QSettings settings(folder.filePath("settings.ini"), QSettings::IniFormat);
    FileChooser files;
    MainWindow window(files, settings);
    window.resize(1280, 800);
    window.show();
    if (argc <= 3) {
        QTest::qWait(200);
        window.grab().save(QString::fromLocal8Bit(argv[2]) + "/start.png");
    }
    window.open(QString::fromLocal8Bit(argv[1]));
    if (!QTest::qWaitFor(
            [&] { return window.session().evidence() != nullptr && !window.session().jobs().busy(); },
            20000)) {
        std::fprintf(stderr, "%s\n", qPrintable(window.failureShown()));
        return 1;
    }
    window.session().view()["look.predictor"] = "list_rate";
    window.session().view()["look.group"] = "contract";
    if (argc > 4 && QString(argv[3]) == "find")
        shootFound(window, QString::fromLocal8Bit(argv[2]), QString::fromLocal8Bit(argv[4]));
    for (const auto* station : {"data", "look", "fit", "check", "compare", "forecast"}) {
        if (argc > 3 && QString(argv[3]) != station) continue;
        if (QString(station) == "check") window.session().selectRow(276);
        window.showStation(station);
        QTest::qWait(400);
        window.grab().save(QString::fromLocal8Bit(argv[2]) + "/" + station + ".png");
        if (QString(station) == "fit") {
            for (auto* button : window.findChildren<QPushButton*>())
                if (button->text() == "what would help" && button->isVisible()) button->click();
            QTest::qWait(300);
            if (!QTest::qWaitFor([&] { return !window.session().helpJobs().busy(); }, 20000)) return 1;
            QTest::qWait(100);
            window.grab().save(QString::fromLocal8Bit(argv[2]) + "/fit_helps.png");
            shootFit(window, QString::fromLocal8Bit(argv[2]));
        }
        if (QString(station) == "check") {
            shootChecks(window, QString::fromLocal8Bit(argv[2]));
            shootJudging(window, QString::fromLocal8Bit(argv[2]));
        }
        if (QString(station) == "compare") shootCompared(window, QString::fromLocal8Bit(argv[2]));
        if (QString(station) == "data") shootReading(window, QString::fromLocal8Bit(argv[2]));
        if (QString(station) == "look") shootLooks(window, QString::fromLocal8Bit(argv[2]));
        if (QString(station) != "data" || window.session().recipe().steps.empty()) continue;
        for (const auto* pane : {"steps", "parts"}) {
            for (auto* button : window.findChildren<QPushButton*>())
                if (button->property("pane") == pane) button->click();
            QTest::qWait(200);
            window.grab().save(QString::fromLocal8Bit(argv[2]) + "/data_" + pane + ".png");
        }
    }
    if (argc <= 3) {
        window.showStation("check");
        window.showHelp();
        QTest::qWait(300);
        for (QWidget* dialog : QApplication::topLevelWidgets())
            if (dialog->isVisible() && dialog->inherits("QDialog"))
                dialog->grab().save(QString::fromLocal8Bit(argv[2]) + "/help.png");
    }
    if (argc > 3 && QString(argv[3]) == "dialogs") {
        const QString out = QString::fromLocal8Bit(argv[2]);
        auto shoot = [&](const QString& name) {
            QTest::qWait(700);
            for (QWidget* dialog : QApplication::topLevelWidgets())
                if (dialog->isVisible() && (dialog->inherits("QDialog") || dialog->inherits("QMenu"))) {
                    dialog->grab().save(out + "/" + name + ".png");
                    dialog->close();
                }
        };
        auto* station = window.findChild<DataStation*>();
        for (auto* button : window.findChildren<QPushButton*>())
            if (button->text() == QString::fromUtf8("read otherwise…")) button->click();
        shoot("dialog_reading");
        window.findChild<QPushButton*>("openRows")->click();
        shoot("menu_rows");
        window.findChild<QPushButton*>("addStep")->click();
        shoot("menu_steps");
        auto* ledger = window.findChild<QTableView*>("ledger");
        ledger->setCurrentIndex(ledger->model()->index(8, 0));
        QTest::keyClick(ledger, Qt::Key_Return);
        shoot("menu_column");
        for (const Step& step : window.session().recipe().steps) {
            auto* dialog =
                new StepDialog(window.session(), step, window.session().recipe().steps.size(), station);
            dialog->open();
            shoot("dialog_step_" + qs(step.kind).replace(' ', '_'));
        }
        askParts(window.session(), station);
        shoot("dialog_parts");
        RowsSource server;
        server.kind = SourceKind::postgres;
        (new DatabaseDialog(server, ".", station))->open();
        shoot("dialog_database");
    }
    return 0;
}
