// Check and the goads by mouse and keys: panes, one row, plain words, why, what a move would change,
// families, rows put back, and the demo answered in the order the goads are offered.
#include "app/check/check_station.h"
#include "app/check/row_pane.h"
#include "app/goads/goads_panel.h"
#include "app/look/plot_panels.h"
#include "app/parts.h"
#include "app/plots/plot_frame.h"
#include "app/window/help_window.h"
#include "app_support.h"
#include "study/say.h"
#include "workspace/row_grids.h"

#include <QApplication>
#include <QClipboard>
#include <QComboBox>
#include <QLineEdit>
#include <cmath>
#include <map>
#include <numbers>
#include <utility>

#include <cstdlib>

using namespace oxgoad;
using namespace oxgoad::test;

namespace check_test {

class CheckTest : public WindowTest {
protected:
    void openDemo(int fit = 0) {
        openFile(QString(OXGOAD_DEMO) + "/cold_storage.oxgoad");
        if (fit > 0) {
            session().choose(fit);
            ASSERT_TRUE(settle());
        }
        station(4);
        ASSERT_TRUE(settle());
    }
    QPushButton* pane(const QString& name) {
        for (auto* each : window->findChildren<QPushButton*>())
            if (each->isVisible() && each->property("table").toString() == name) return each;
        ADD_FAILURE() << "no pane " << name.toStdString();
        return nullptr;
    }
    QPushButton* rowPart(const QString& name) {
        for (auto* each : window->findChildren<QPushButton*>())
            if (each->isVisible() && each->property("rowPart").toString() == name) return each;
        return nullptr;
    }
    QWidget* card(const QString& key) {
        for (auto* each : window->findChildren<QWidget*>("goadCard"))
            if (!each->isHidden() && each->property("goad").toString() == key) return each;
        return nullptr;
    }
    QWidget* family(const QString& name) {
        for (auto* each : window->findChildren<QWidget*>("goadFamily"))
            if (!each->isHidden() && each->property("family").toString() == name) return each;
        return nullptr;
    }
    static QPushButton* keeps(QWidget* in, const QString& what) {
        for (auto* each : in->findChildren<QPushButton*>())
            if (each->property("keeps").toString() == what) return each;
        return nullptr;
    }
    static QPushButton* move(QWidget* in, const QString& label) {
        for (auto* each : in->findChildren<QPushButton*>())
            if (each->property("move").toString() == label) return each;
        return nullptr;
    }
    void openFamily(const QString& name) {
        QWidget* of = family(name);
        ASSERT_TRUE(of) << name.toStdString();
        keeps(of, "family " + name)->click();
        ASSERT_TRUE(settle());
    }
    /// Clicks a move of a goad, opening its family first.
    void makeMove(const QString& key, const QString& label, const QString& reason = {}) {
        const auto goads = session().goads().all;
        const auto goad =
            std::find_if(goads.begin(), goads.end(), [&](const Goad& g) { return qs(g.key) == key; });
        ASSERT_NE(goad, goads.end()) << key.toStdString();
        if (!card(key)) openFamily(qs(goad->under.empty() ? goad->key : goad->under));
        ASSERT_TRUE(card(key)) << key.toStdString();
        QPushButton* button = move(card(key), label);
        ASSERT_TRUE(button) << label.toStdString();
        button->click();
        if (!reason.isEmpty()) {
            auto* edit = card(key)->findChild<QLineEdit*>("reason");
            ASSERT_TRUE(edit);
            QTest::keyClicks(edit, reason);
            QTest::keyClick(edit, Qt::Key_Return);
        }
        ASSERT_TRUE(settle());
    }
};

TEST_F(CheckTest, OnePaneAtATimeStandsAtFullWidth) {
    openDemo();
    for (const char* name : {"rows", "readings", "row", "left out", "words"}) {
        click(pane(name));
        ASSERT_TRUE(settle());
        EXPECT_TRUE(pane(name)->isChecked());
        std::size_t checked = 0;
        for (auto* each : window->findChildren<QPushButton*>())
            checked += each->isVisible() && each->property("table").isValid() && each->isChecked();
        EXPECT_EQ(checked, 1U);
    }
    click(pane("readings"));
    auto* readings = find<GridView>("readings");
    EXPECT_TRUE(readings->isVisible());
    EXPECT_GE(readings->model()->rowCount(), 35);
    EXPECT_GT(readings->width(), 850) << "not beside another table";
    const QModelIndex none = line(readings, "curvature overall");
    EXPECT_TRUE(none.isValid());
}

TEST_F(CheckTest, AllKindsOfResidualsAreDrawnAgainstAnything) {
    openDemo();
    auto* up = find<QComboBox>("up");
    auto* across = find<QComboBox>("across");
    auto* plot = find<PlotFrame>("checkPlot");
    for (int i = 0; i < up->count(); ++i) {
        up->setCurrentIndex(i);
        for (const char* along :
             {"predicted", "row number", "time", "leverage", "places", "contract", "opened"}) {
            ASSERT_GE(across->findText(along), 0) << along;
            across->setCurrentText(along);
            ASSERT_TRUE(settle());
            const bool none = up->currentText() == "held-out residual" && QString(along) == "leverage";
            EXPECT_EQ(plot->content().marks.empty(), none) << ss(up->currentText()) << " " << along;
            EXPECT_FALSE(plot->content().xTitle.isEmpty());
            EXPECT_FALSE(plot->content().yTitle.isEmpty());
        }
    }
    up->setCurrentText("residual");
    across->setCurrentText("predicted");
    ASSERT_TRUE(settle());
    EXPECT_EQ(plot->content().lines.size(), 3U) << "a smooth mean and the spread about it";
    EXPECT_EQ(plot->content().bands.size(), 1U);
    up->setCurrentText("actual");
    ASSERT_TRUE(settle());
    ASSERT_EQ(plot->content().lines.size(), 1U);
    EXPECT_EQ(plot->content().lines[0].name, "actual = predicted");
    EXPECT_EQ(plot->content().marks.size(), 2U) << "learning and held out";
}

TEST_F(CheckTest, ByGroupEachLevelHasAPanelOnOneScale) {
    openDemo();
    auto* by = find<QComboBox>("by");
    by->setCurrentText("by contract");
    ASSERT_TRUE(settle());
    PlotPanels* panels = nullptr;
    for (auto* each : window->findChildren<PlotPanels*>())
        if (each->isVisible()) panels = each;
    ASSERT_TRUE(panels);
    ASSERT_EQ(panels->frames().size(), 3U);
    const auto first = panels->frames()[0]->content();
    for (PlotFrame* frame : panels->frames()) {
        EXPECT_EQ(frame->content().yRange, first.yRange);
        EXPECT_EQ(frame->content().xRange, first.xRange);
        EXPECT_FALSE(frame->accessibleName().isEmpty());
    }
    by->setCurrentText("by depot");
    ASSERT_TRUE(settle());
    EXPECT_EQ(panels->frames().size(), 6U);
    by->setCurrentIndex(0);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<PlotFrame>("checkPlot")->isVisible());
}

TEST_F(CheckTest, NormalQuantilesStandBesideWithTheirBand) {
    openDemo(3);
    find<QComboBox>("beside")->setCurrentText("normal quantiles");
    ASSERT_TRUE(settle());
    ASSERT_TRUE(
        QTest::qWaitFor([this] { return !find<PlotFrame>("checkBeside")->content().bands.empty(); }, 10000));
    auto* beside = find<PlotFrame>("checkBeside");
    EXPECT_EQ(beside->content().xTitle, "normal quantile");
    EXPECT_EQ(beside->content().marks.size(), 1U);
    EXPECT_TRUE(beside->content().summary.contains("beyond the 95 % band"));
}

TEST_F(CheckTest, CalibrationStandsBesideOnScalesOfItsOwn) {
    openDemo(3);
    auto* box = find<QComboBox>("beside");
    box->setFocus();
    QTest::keyClick(box, Qt::Key_End);
    EXPECT_EQ(box->currentText(), "calibration");
    ASSERT_TRUE(settle());
    auto* beside = find<PlotFrame>("checkBeside");
    EXPECT_EQ(beside->content().xTitle, "mean predicted, EUR a month");
    ASSERT_EQ(beside->content().marks.size(), 1U);
    EXPECT_EQ(beside->content().marks[0].x.size(), 10U);
    EXPECT_EQ(beside->content().lines.size(), 11U) << "ten intervals, and where both are equal";
    EXPECT_TRUE(beside->content().summary.contains("held-out rows in 10 parts"))
        << ss(beside->content().summary);
    EXPECT_FALSE(beside->content().xLog);
    // Of a response in logs the scales are logarithmic, of the residuals along predictions too.
    Recipe recipe = session().draft();
    recipe.logResponse = true;
    session().change(recipe);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<PlotFrame>("checkPlot")->content().xLog);
    EXPECT_TRUE(beside->content().xLog && beside->content().yLog);
    if (const char* to = std::getenv("OXGOAD_PICTURES")) {
        QTest::qWait(300);
        window->grab().save(QString::fromUtf8(to) + "/check_calibration.png");
    }
}

TEST_F(CheckTest, ARowOpensFromATableAndFromAPlot) {
    openDemo(3);
    auto* outlying = find<GridView>("outlying");
    outlying->setFocus();
    outlying->selectRow(1); // row 89, which the fit learned from
    QTest::keyClick(outlying, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(pane("row")->isChecked());
    auto* table = find<GridView>("rowTable");
    ASSERT_TRUE(QTest::qWaitFor([&] { return table->model()->rowCount() > 5; }, 5000));
    const QModelIndex last = table->model()->index(table->model()->rowCount() - 1, 0);
    EXPECT_EQ(last.data().toString(), "prediction");
    QLabel* headline = nullptr;
    for (auto* label : window->findChildren<QLabel*>())
        if (label->property("rowHeadline").toBool()) headline = label;
    ASSERT_TRUE(headline);
    EXPECT_TRUE(headline->text().contains("actual")) << ss(headline->text());
    for (const char* part : {"places", "nearest", "without"}) {
        click(rowPart(part));
        EXPECT_GT(table->model()->rowCount(), 3) << part;
    }
    click(rowPart("nearest"));
    const auto near = table->model()->index(0, 0).data(DataRowRole).toULongLong();
    table->setFocus();
    table->selectRow(0);
    QTest::keyClick(table, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_EQ(*session().selectedRow(), near) << "a near row opens in turn";
    // Return in a plot opens the row that is selected, and a double click on a mark does.
    click(pane("rows"));
    auto* plot = find<PlotFrame>("checkPlot");
    session().selectRow(200);
    QTest::keyClick(plot, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(pane("row")->isChecked());
    click(pane("rows"));
    const auto place = plot->placeOfRow(128);
    ASSERT_TRUE(place);
    QTest::mouseDClick(plot->childAt(*place), Qt::LeftButton, {},
                       plot->childAt(*place)->mapFrom(plot, *place));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(pane("row")->isChecked());
    EXPECT_EQ(*session().selectedRow(), 128U);
    // From another station, too.
    station(2);
    ASSERT_TRUE(settle());
    session().openRow(7);
    ASSERT_TRUE(settle());
    ASSERT_TRUE(pane("row"));
    EXPECT_TRUE(pane("row")->isChecked());
}

TEST_F(CheckTest, TheFitIsSaidInPlainWordsAndCopiedWithOneKey) {
    openDemo();
    click(pane("words"));
    ASSERT_TRUE(settle());
    QApplication::clipboard()->clear();
    QTest::keyClick(QApplication::focusWidget(), Qt::Key_C, Qt::ControlModifier);
    EXPECT_EQ(ss(QApplication::clipboard()->text()), summaryText(*session().evidence(), session().recipe()));
    EXPECT_TRUE(QApplication::clipboard()->text().contains("Cinder Quay was closed after a fire"));
    QApplication::clipboard()->clear();
    click(button("copy"));
    EXPECT_FALSE(QApplication::clipboard()->text().isEmpty());
}

TEST_F(CheckTest, RowsLeftOutStayListedAndArePutBackSingly) {
    openDemo();
    click(pane("left out"));
    auto* view = find<GridView>("leftOut");
    ASSERT_EQ(view->model()->rowCount(), 2);
    view->setFocus();
    view->selectRow(1);
    ASSERT_TRUE(settle());
    click(button("put it back"));
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().recipe().leaveOut.size(), 1U);
    EXPECT_EQ(session().recipe().leaveOut[0].row, 89U);
    EXPECT_EQ(view->model()->rowCount(), 1);
    EXPECT_EQ(session().trail().find(session().current())->change, "+ 1 row");
}

TEST_F(CheckTest, WhyOpensThreeSentencesAndWhatMovesWouldChange) {
    openDemo(1);
    const QString key = "outlying: row 89";
    if (!card(key)) openFamily("outlying");
    ASSERT_TRUE(card(key));
    keeps(card(key), "why " + key)->click();
    ASSERT_TRUE(settle());
    std::size_t sentences = 0;
    QString preview;
    for (auto* label : card(key)->findChildren<QLabel*>()) {
        sentences += label->property("why").isValid();
        if (label->property("previewOf").toString() == "leave out…") preview = label->text();
    }
    EXPECT_EQ(sentences, 3U);
    EXPECT_TRUE(preview.startsWith("leave out…: typical error 16,460 → 14,8")) << ss(preview);
    EXPECT_TRUE(keeps(card(key), "why " + key)->hasFocus()) << "the keyboard stays where it was";
    // The help opens at the formula.
    for (auto* each : card(key)->findChildren<QPushButton*>())
        if (each->text() == "formula and source") each->click();
    auto* help = window->findChild<HelpWindow*>();
    ASSERT_TRUE(help);
    EXPECT_EQ(help->shownHeading(), "Checks of rows");
    keeps(card(key), "why " + key)->click();
    ASSERT_TRUE(settle());
    for (auto* label : card(key)->findChildren<QLabel*>())
        EXPECT_FALSE(label->property("why").isValid());
}

TEST_F(CheckTest, LikeGoadsShareACardAndKeepTheirKeys) {
    openDemo(1);
    ASSERT_TRUE(family("collinearity: energy_price"));
    EXPECT_FALSE(card("collinearity: energy_price"));
    openFamily("collinearity: energy_price");
    ASSERT_TRUE(card("collinearity: energy_price"));
    ASSERT_TRUE(card("collinearity: outside_temperature"));
    // One of them is accepted by its own key; the other stands alone then.
    for (auto* each : card("collinearity: energy_price")->findChildren<QPushButton*>())
        if (each->property("accept").toBool()) each->click();
    auto* reason = card("collinearity: energy_price")->findChild<QLineEdit*>("reason");
    ASSERT_TRUE(reason);
    QTest::keyClicks(reason, "both are wanted");
    QTest::keyClick(reason, Qt::Key_Return);
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().recipe().accepted.size(), 1U);
    EXPECT_EQ(session().recipe().accepted[0].goad, "collinearity: energy_price");
    ASSERT_TRUE(session().recipe().accepted[0].size) << "what it was when it was accepted";
    EXPECT_NEAR(*session().recipe().accepted[0].size, 16.7, 0.1);
    EXPECT_FALSE(family("collinearity: energy_price"));
    EXPECT_FALSE(family("collinearity: outside_temperature"));
    EXPECT_TRUE(card("collinearity: outside_temperature"));
}

TEST_F(CheckTest, SlowChecksComeAfterTheFitAndAreDroppedWhenItChanges) {
    openDemo(1);
    Recipe recipe = session().recipe();
    recipe.terms.push_back(plainTerm("dock_hours"));
    session().change(recipe);
    ASSERT_TRUE(QTest::qWaitFor([this] { return !session().jobs().busy() && !session().editing(); }, 20000));
    recipe.terms.push_back(plainTerm("promotion"));
    session().change(recipe); // while the checks of the fit before may still run
    ASSERT_TRUE(settle());
    EXPECT_FALSE(checksPending(*session().evidence()));
    EXPECT_EQ(session().evidence()->study->recipe.terms.size(), recipe.terms.size());
    const auto& summary = session().trail().find(session().current())->summary;
    EXPECT_EQ(summary.goads.size(), session().evidence()->goads.size())
        << "the trail knows of the slow ones too";
}

TEST_F(CheckTest, StoppedChecksAreSaidAndRunAgain) {
    openDemo(1);
    Recipe recipe = session().recipe();
    recipe.terms.push_back(plainTerm("promotion"));
    // Stopped as they begin, before any of them can have ended.
    bool stopped = false;
    const auto stopping = QObject::connect(&session().checkJobs(), &Jobs::busyChanged, [&](bool busy) {
        if (busy && !std::exchange(stopped, true)) session().checkJobs().stop();
    });
    session().change(recipe);
    ASSERT_TRUE(QTest::qWaitFor([&] { return stopped; }, 20000));
    ASSERT_TRUE(settle());
    QObject::disconnect(stopping);
    ASSERT_TRUE(checksPending(*session().evidence()));
    QPushButton* again = nullptr;
    for (auto* each : window->findChildren<QPushButton*>())
        if (each->property("runChecks").toBool() && !each->isHidden()) again = each;
    ASSERT_TRUE(again);
    again->click();
    ASSERT_TRUE(settle());
    EXPECT_FALSE(checksPending(*session().evidence()));
}

TEST_F(CheckTest, ManyZerosAreFoundAndGetAModelOfTheirOwn) {
    openFile(demo + "/repairs.csv");
    ASSERT_TRUE(settle());
    Recipe recipe = session().draft();
    recipe.response = "repairs";
    recipe.terms = {plainTerm("plant"), plainTerm("plant_age"), plainTerm("places"),
                    plainTerm("running_hours")};
    session().change(recipe);
    ASSERT_TRUE(settle());
    const auto picture = [&](const char* name) {
        if (const char* to = std::getenv("OXGOAD_PICTURES")) {
            QTest::qWait(300);
            window->grab().save(QString::fromUtf8(to) + "/" + name + ".png");
        }
    };
    station(3);
    picture("repairs_line");
    makeMove("kind of response", "whether, and how much");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().estimator.kind, "two parts");
    const auto evidence = session().evidence();
    EXPECT_FALSE(std::any_of(evidence->goads.begin(), evidence->goads.end(),
                             [](const Goad& goad) { return goad.key == "impossible predictions"; }));
    picture("repairs_two_parts");
    recipe = session().draft();
    recipe.estimator = Settings{"tweedie", {{"power", std::string("likelihood")}}};
    session().change(recipe);
    ASSERT_TRUE(settle());
    ASSERT_TRUE(session().evidence()->linear && session().evidence()->linear->generalised);
    picture("repairs_tweedie");
    station(4);
    picture("repairs_check");
}

TEST_F(CheckTest, TheDemoIsAnsweredInTenMovesAndTheErrorFallsAtEach) {
    openDemo(1);
    // A row that is held out tells in the held-out error, one that was learned from over the folds.
    std::vector<std::pair<double, double>> errors;
    const auto note = [&] {
        errors.emplace_back(session().evidence()->heldOut.rmse, session().evidence()->folds->rmse);
    };
    note();
    const auto step = [&](const QString& key, const QString& label, const QString& reason = {}) {
        makeMove(key, label, reason);
        note();
    };
    // In the order in which the goads offer them.
    step("held-out row far off: row 129", "leave out…", "typed ten times too high");
    step("outlying: row 89", "leave out…", "closed after a fire");
    step("left-out column: calendar_month", "add calendar_month");
    step("missing interaction: list_rate × contract", "add the pair");
    step("curvature: occupancy", "add the curve");
    for (std::size_t i = 1; i < errors.size(); ++i) {
        EXPECT_LT(std::min(errors[i].first / errors[i - 1].first, errors[i].second / errors[i - 1].second), 1)
            << "move " << i;
        EXPECT_LT(std::max(errors[i].first / errors[i - 1].first, errors[i].second / errors[i - 1].second),
                  1.001)
            << "move " << i;
    }
    EXPECT_LT(errors.back().first, 0.32 * errors.front().first);
    EXPECT_LT(errors.back().second, 0.88 * errors.front().second);
    // Planted: 14 a place, slopes of the rate 3,900, 5,800 and 6,900, levels of the contract, energy and
    // temperature, and a season of 14,000 · sin(2π (month − 4) / 12), here against April.
    std::map<std::string, double> planted{{"places", 14},
                                          {"list_rate", 3900},
                                          {"list_rate × contract = annual", 1900},
                                          {"list_rate × contract = anchor", 3000},
                                          {"contract = annual", -33000},
                                          {"contract = anchor", -45000},
                                          {"energy_price", -120},
                                          {"outside_temperature", 250}};
    const std::vector<std::string> months{"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                          "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
    for (std::size_t m = 0; m < months.size(); ++m)
        if (months[m] != "Apr")
            planted["calendar_month = " + months[m]] =
                14000 * std::sin(2 * std::numbers::pi * (static_cast<double>(m) - 3) / 12);
    std::size_t compared = 0, beyond = 0;
    for (const auto& c : session().evidence()->linear->coefficients) {
        const auto truth = planted.find(c.name);
        if (truth == planted.end()) continue;
        ++compared;
        const double away = (c.estimate - truth->second) / c.standardError;
        beyond += std::fabs(away) > 2;
        EXPECT_LT(std::fabs(away), 3) << c.name;
    }
    EXPECT_EQ(compared, planted.size());
    // Of nineteen one may lie beyond two standard errors by chance.
    EXPECT_LE(beyond, 1U);
    for (const char* name :
         {"places", "list_rate", "list_rate × contract = annual", "list_rate × contract = anchor"})
        for (const auto& c : session().evidence()->linear->coefficients)
            if (c.name == name) {
                EXPECT_NEAR(c.estimate, planted[name], 2 * c.standardError) << name;
            }
}

TEST_F(CheckTest, EveryPlantedTruthBringsUpItsGoadOnAStraightFit) {
    openDemo(1);
    const auto goads = session().goads().all;
    for (const char* key : {"missing interaction: list_rate × contract", "curvature: occupancy",
                            "left-out column: calendar_month", "unequal spread, ranks",
                            "collinearity: energy_price", "collinearity: outside_temperature",
                            "missing values", "outlying: row 89", "held-out row far off: row 129",
                            "far out: list_rate", "rare levels: cooling", "reach", "hangs on the seed"})
        EXPECT_TRUE(std::any_of(goads.begin(), goads.end(), [&](const Goad& g) { return g.key == key; }))
            << key;
}

} // namespace check_test
