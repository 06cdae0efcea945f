// The Fit station by mouse and keys: how terms enter, effects, estimators, choosing.
#include "app/fit/choose_pane.h"
#include "app/fit/effect_pane.h"
#include "app/parts.h"
#include "app/plots/plot_frame.h"
#include "app_support.h"
#include "study/say.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QDoubleSpinBox>
#include <QFile>
#include <QInputDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QTemporaryDir>
#include <algorithm>

using namespace oxgoad;
using namespace oxgoad::test;

namespace fit_test {

class Fits : public WindowTest {
protected:
    void openFit(const QString& recipe = "/3_rate_by_contract.json") {
        openFile(demo + recipe);
        station(3);
        ASSERT_TRUE(settle());
    }
    GridView* terms() { return find<GridView>("terms"); }
    /// Presses Return on a line and follows the menu.
    void follow(const QString& term, const QStringList& path) {
        terms()->setCurrentIndex(line(terms(), term));
        QTest::keyClick(terms(), Qt::Key_Return);
        pick(window->findChild<QMenu*>("termMenu"), path);
    }
    void pick(QMenu* menu, const QStringList& path) {
        ASSERT_NE(menu, nullptr);
        QMenu* at = menu;
        for (const QString& step : path) {
            QAction* found = nullptr;
            QStringList known;
            for (auto* action : at->actions()) {
                known << action->text();
                if (action->text() == step) found = action;
            }
            ASSERT_NE(found, nullptr) << ss(step) << " of " << ss(known.join(" | "));
            if (found->menu())
                at = found->menu();
            else
                found->trigger();
        }
        menu->close();
        ASSERT_TRUE(settle());
    }
    void estimate(const QStringList& path) {
        for (auto* b : window->findChildren<QPushButton*>())
            if (b->accessibleName().startsWith("estimator: ")) {
                click(b);
                break;
            }
        pick(window->findChild<QMenu*>("estimatorMenu"), path);
    }
    QString brief() {
        for (auto* b : window->findChildren<QPushButton*>())
            if (b->accessibleName().startsWith("estimator: ")) return b->text();
        return {};
    }
    const PlotFrame::Content& effect() { return find<PlotFrame>("effectPlot")->content(); }
    QString change() { return qs(session().trail().find(session().current())->change); }
    bool hasGoad(const std::string& key) {
        const auto& goads = session().evidence()->goads;
        return std::any_of(goads.begin(), goads.end(), [&](const Goad& g) { return g.key == key; });
    }
};

TEST_F(Fits, TermsEnterInOtherWaysByTheMenu) {
    openFit("/1_straight.json");
    follow("occupancy", {"Enter it instead", "ln(occupancy)"});
    EXPECT_TRUE(line(terms(), "ln(occupancy)").isValid());
    EXPECT_EQ(change(), "+ ln(occupancy), − occupancy");
    follow("ln(occupancy)", {"Enter it instead", "Curve", "4 knots at quantiles"});
    const QModelIndex curve = line(terms(), "occupancy");
    ASSERT_TRUE(curve.isValid());
    EXPECT_EQ(curve.siblingAtColumn(1).data().toString(), "as a curve with 4 knots");
    // The effect is curved, with a band and the rows' partial residuals.
    terms()->setCurrentIndex(curve);
    ASSERT_TRUE(settle());
    EXPECT_EQ(effect().xTitle, "occupancy, %");
    EXPECT_EQ(effect().yTitle, "revenue, EUR a month");
    ASSERT_EQ(effect().lines.size(), 1u);
    EXPECT_EQ(effect().marks[0].x.size(), session().evidence()->rowsLearning);
    EXPECT_GE(effect().bands.size(), 2u); // the interval, and where the rows lie
    follow("contract", {"Enter it instead", "Levels against the mean of the levels"});
    EXPECT_EQ(line(terms(), "contract").siblingAtColumn(1).data().toString(), "against the mean of levels");
    follow("promotion", {"Standardised"});
    EXPECT_TRUE(change().contains("+ promotion standardised"));
}

TEST_F(Fits, KnotsOfOnesOwnAreTypedAndWrongOnesAreTold) {
    openFit("/1_straight.json");
    const auto type = [&](const QString& text) {
        follow("occupancy", {"Enter it instead", "Straight pieces", "Knots of your own…"});
        auto* dialog = window->findChild<QInputDialog*>("formDialog");
        ASSERT_NE(dialog, nullptr);
        dialog->setTextValue(text);
        dialog->accept();
        ASSERT_TRUE(settle());
    };
    type("50 many");
    EXPECT_TRUE(window->failureShown().contains("\"50 many\" could not be read"))
        << ss(window->failureShown());
    type("50 500");
    EXPECT_TRUE(window->failureShown().contains("the knot at 500 is outside the learning rows"))
        << ss(window->failureShown());
    EXPECT_EQ(session().recipe().terms[1], plainTerm("occupancy")); // nothing is lost
    type("50 75");
    EXPECT_EQ(line(terms(), "occupancy").siblingAtColumn(1).data().toString(),
              "in straight pieces with 2 knots");
    // Read aloud: the slope beyond the knot.
    terms()->setCurrentIndex(terms()->model()->index(line(terms(), "occupancy").row() + 2, 0));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(
        find<QLabel>("inWords")->text().startsWith("Beyond 50 % each extra % point of occupancy goes with "))
        << ss(find<QLabel>("inWords")->text());
}

TEST_F(Fits, AProductIsReadAndDrawnPerLevel) {
    openFit();
    terms()->setCurrentIndex(line(terms(), "list_rate × contract"));
    ASSERT_TRUE(settle());
    const QString words = find<QLabel>("inWords")->text();
    for (const char* level : {"spot", "annual", "anchor"})
        EXPECT_TRUE(words.contains(QString("For contract = %1: list_rate ").arg(level))) << ss(words);
    ASSERT_EQ(effect().lines.size(), 3u);
    EXPECT_EQ(effect().lines[0].name, "anchor");
    EXPECT_TRUE(find<QLabel>("equation")->text().contains("contract = annual:\nrevenue = "));
    // Only over the range the level's rows cover.
    EXPECT_LT(effect().lines[0].x.back(), effect().lines[2].x.back());
    // A coefficient's line is read in units.
    terms()->setCurrentIndex(terms()->model()->index(line(terms(), "list_rate × contract").row() + 1, 0));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<QLabel>("inWords")->text().startsWith(
        "For contract = anchor each extra EUR of list_rate goes with "));
}

TEST_F(Fits, OtherColumnsAreHeldWhereOneSays) {
    openFit();
    terms()->setCurrentIndex(line(terms(), "list_rate"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<QLabel>("heldValues")->text().contains("contract "));
    const double before = effect().lines[0].y.front();
    click(button("hold at…"));
    pick(window->findChild<QMenu*>("holdMenu"), {"contract", "spot"});
    EXPECT_TRUE(find<QLabel>("heldValues")->text().contains("contract spot"))
        << ss(find<QLabel>("heldValues")->text());
    const double spot = effect().lines[0].y.front();
    EXPECT_NE(spot, before);
    click(button("hold at…"));
    pick(window->findChild<QMenu*>("holdMenu"), {"contract", "anchor"});
    EXPECT_NE(effect().lines[0].y.front(), spot);
    click(button("hold at…"));
    pick(window->findChild<QMenu*>("holdMenu"), {"Medians and most frequent levels"});
    EXPECT_EQ(effect().lines[0].y.front(), before);
}

TEST_F(Fits, DrawnEffectsChangeTheirScale) {
    openFit();
    EXPECT_TRUE(
        terms()->model()->headerData(4, Qt::Horizontal).toString().startsWith("low to high quartile"));
    const auto drawn = [&] {
        return line(terms(), "places")
            .siblingAtColumn(4)
            .data(DrawingRole)
            .value<IntervalDrawing>()
            .marks[0]
            .estimate;
    };
    const double quartiles = drawn();
    click(button("effects: low to high quartile"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(
        terms()->model()->headerData(4, Qt::Horizontal).toString().startsWith("one standard deviation"));
    const auto& c = session().evidence()->linear->coefficients[1];
    EXPECT_DOUBLE_EQ(drawn(), c.estimate * c.deviation);
    EXPECT_NE(drawn(), quartiles);
}

TEST_F(Fits, ATermGoesOutWithItsProductsUnlessToldOtherwise) {
    openFit();
    tick(terms(), "contract");
    ASSERT_TRUE(settle());
    EXPECT_FALSE(line(terms(), "list_rate × contract").isValid());
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(line(terms(), "list_rate × contract").isValid());
    follow("contract", {"Take it out but keep its products"});
    EXPECT_TRUE(line(terms(), "list_rate × contract").isValid());
    ASSERT_TRUE(hasGoad("product without parents: list_rate × contract"));
    click(button("put them in"));
    ASSERT_TRUE(settle());
    EXPECT_FALSE(hasGoad("product without parents: list_rate × contract"));
}

TEST_F(Fits, TermsAreChosenCheckedAndTaken) {
    openFit();
    click(button("choose terms"));
    find<QComboBox>("chooseCriterion")->setCurrentText("BIC");
    find<NumberBox>("chooseSteps")->setValue(4);
    click(find<QPushButton>("chooseTerms"));
    ASSERT_TRUE(settle());
    auto* chosen = find<GridView>("chosen");
    EXPECT_EQ(chosen->model()->index(0, 0).data().toString(), "places");
    EXPECT_EQ(chosen->model()->index(0, 1).data().toString(), "chosen");
    EXPECT_TRUE(find<QLabel>("chosenSaid")->text().startsWith("4 of "))
        << ss(find<QLabel>("chosenSaid")->text());
    const std::size_t fits = session().trail().fits().size();
    click(find<QPushButton>("takeChosen"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().trail().fits().size(), fits + 4); // each step is on the trail
    EXPECT_EQ(session().recipe().terms.size(), 4u);
    EXPECT_TRUE(hasGoad("chosen terms"));
    // One step back is before the choice.
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().terms.size(), 8u);
    // By p, with limits of one's own: what could go round for ever is refused.
    find<QComboBox>("chooseCriterion")->setCurrentText("p");
    for (auto* spin : window->findChildren<QDoubleSpinBox*>())
        if (spin->isVisible() && spin->accessibleName() == "A term comes in below p") spin->setValue(0.2);
    click(find<QPushButton>("chooseTerms"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<QLabel>("chosenSaid")->text().contains("round for ever"))
        << ss(find<QLabel>("chosenSaid")->text());
    // What cannot be is told where it was asked.
    find<QComboBox>("chooseWay")->setCurrentText("best subsets");
    find<QComboBox>("chooseCriterion")->setCurrentText("p");
    click(find<QPushButton>("chooseTerms"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<QLabel>("chosenSaid")->text().contains("cannot be compared by p"));
}

TEST_F(Fits, EstimatorsAndErrorsAreChosenInTheBrief) {
    openFit("/4_two_rows_left_out.json");
    const double plain = session().evidence()->linear->coefficients[1].standardError;
    estimate({"Standard errors", "For unequal spread, small samples (HC3)"});
    EXPECT_EQ(brief(), "least squares with HC3 errors");
    EXPECT_NE(session().evidence()->linear->coefficients[1].standardError, plain);
    estimate({"Standard errors", "For groups of rows that depend on each other", "depot"});
    EXPECT_EQ(brief(), "least squares with errors by depot");
    EXPECT_EQ(session().evidence()->linear->errorUnits, 40u);
    estimate({"Robust: far outliers do not pull (bisquare)"});
    EXPECT_EQ(brief(), "robust regression with the bisquare");
    EXPECT_TRUE(session().evidence()->linear->iterated->converged);
    estimate({"Quantile regression", "90 % quantile"});
    EXPECT_EQ(brief(), "90 % quantile regression");
    EXPECT_NEAR(session().evidence()->linear->quantileFit, 0.8, 0.15);
    estimate({"Least squares"});
    estimate({"Through the logarithm of the response"});
    EXPECT_TRUE(session().evidence()->logResponse);
    EXPECT_TRUE(find<QLabel>("equation")->text().startsWith("ln(revenue) = "));
    EXPECT_TRUE(find<QLabel>("inWords")->text().contains(" % more revenue"))
        << ss(find<QLabel>("inWords")->text());
    // A forecast is in EUR all the same.
    EXPECT_GT(session().evidence()->forecast->prediction[0], 10000);
}

TEST_F(Fits, ASpreadThatGrowsIsAnsweredByOneClick) {
    openFit("/4_two_rows_left_out.json");
    ASSERT_TRUE(hasGoad("unequal spread"));
    QString lead = "unequal spread";
    for (const Goad& goad : session().goads().all)
        if (goad.key == "unequal spread" && !goad.under.empty()) lead = qs(goad.under);
    for (auto* each : window->findChildren<QPushButton*>())
        if (each->property("keeps").toString() == "family " + lead && !each->parentWidget()->isHidden()) {
            each->click();
            break;
        }
    ASSERT_TRUE(settle());
    for (auto* each : window->findChildren<QPushButton*>())
        if (each->parentWidget()->parentWidget()->property("goad") == "unequal spread" &&
            each->text() == "errors that stand it" && !each->isHidden()) {
            each->click();
            break;
        }
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().errors.kind, CovarianceKind::hc3);
}

TEST_F(Fits, WeightsComeFromTheRoleOfAColumn) {
    openFit();
    session().setRole("places", Role::weight);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().evidence()->weight, "places");
    EXPECT_TRUE(brief().startsWith("weighted least squares")) << ss(brief());
    EXPECT_EQ(change(), "weight places");
    session().setRole("dock_hours", Role::weight); // one column has it
    ASSERT_TRUE(settle());
    EXPECT_EQ(columnWith(session().recipe(), Role::weight), "dock_hours");
}

TEST_F(Fits, NestedFitsAreComparedInASentence) {
    openFile(demo + "/cold_storage.oxgoad");
    session().choose(3);
    ASSERT_TRUE(settle());
    station(5);
    ASSERT_TRUE(settle());
    QString said;
    const bool told = QTest::qWaitFor(
        [&] { // the other fit is worked out beside
            for (auto* label : window->findChildren<QLabel*>())
                if (label->isVisible() && label->text().contains("both hold out")) said = label->text();
            return !said.isEmpty();
        },
        10000);
    ASSERT_TRUE(told);
    EXPECT_TRUE(
        said.startsWith("list_rate × contract explains more than chance would (fit 3 against fit 2): F "))
        << ss(said);
    EXPECT_TRUE(said.contains("AICc changes by −"));
}

TEST_F(Fits, ManyLevelsStandFromLowToHigh) {
    QTemporaryDir folder;
    QFile file(folder.filePath("sales.csv"));
    ASSERT_TRUE(file.open(QFile::WriteOnly));
    file.write("article,price,sold\n");
    for (int i = 0; i < 600; ++i) {
        const int article = i % 40, price = 5 + i * 7 % 11;
        const double sold = 100 + 3 * ((article * 17) % 40) - 2 * price + 0.01 * (i * 31 % 13);
        file.write(QString("A%1,%2,%3\n").arg(article, 2, 10, QChar('0')).arg(price).arg(sold).toUtf8());
    }
    file.close();
    openFile(file.fileName());
    Recipe recipe = session().draft();
    recipe.response = "sold";
    recipe.terms = {plainTerm("article"), plainTerm("price")};
    session().change(recipe);
    station(3);
    ASSERT_TRUE(settle());
    // One line for the factor; its levels are folded.
    const QModelIndex article = line(terms(), "article");
    ASSERT_TRUE(article.isValid());
    EXPECT_LE(terms()->model()->rowCount(), 5);
    terms()->setCurrentIndex(article);
    ASSERT_TRUE(settle());
    EXPECT_EQ(effect().xTitle, "40 levels of article, from low to high");
    EXPECT_TRUE(effect().xLevels.isEmpty());
    ASSERT_EQ(effect().lines.size(), 1u);
    const auto& drawn = effect().lines[0];
    ASSERT_EQ(drawn.y.size(), 40u);
    EXPECT_TRUE(std::is_sorted(drawn.y.begin(), drawn.y.end()));
    // Each row stands at the place of its level: A00 sells least, A07 (7 · 17 = 119, 39 beyond 80) most.
    const auto& marks = effect().marks[0];
    for (std::size_t k = 0; k < marks.rows.size(); ++k) {
        const int level = static_cast<int>(marks.rows[k]) % 40;
        EXPECT_NEAR(marks.x[k], (level * 17) % 40, 0.16);
    }
    const QString said = find<QLabel>("averageEffect")->text();
    EXPECT_TRUE(said.contains("lowest: ") && said.contains("highest: ") && said.contains("A07 ")) << ss(said);
    // The equation in words speaks of the factor.
    EXPECT_TRUE(QString::fromStdString(equationText(*session().evidence()))
                    .contains("effect of article (39 levels against A00"));
    // Opened, its lines stand as the analyst wants them.
    follow("article", {"Show a line for each coefficient"});
    ASSERT_GE(terms()->model()->rowCount(), 40);
    const auto estimates = [this] {
        std::vector<double> found;
        const LinearEvidence& linear = *session().evidence()->linear;
        for (const TermLine& line : termLines(session()))
            if (line.kind == TermLine::Kind::level)
                found.push_back(linear.coefficients[static_cast<std::size_t>(line.coefficient)].estimate);
        return found;
    };
    const std::vector<double> named = estimates();
    ASSERT_EQ(named.size(), 39u);
    EXPECT_FALSE(std::is_sorted(named.begin(), named.end()));
    follow("article", {"Order of its lines", "From low to high"});
    std::vector<double> sorted = estimates();
    EXPECT_TRUE(std::is_sorted(sorted.begin(), sorted.end()));
    follow("article", {"Order of its lines", "The smallest p first"});
    sorted = estimates();
    EXPECT_TRUE(std::is_sorted(sorted.begin(), sorted.end(), [](double a, double b) { // errors are alike
        return std::fabs(a) > 1.01 * std::fabs(b);
    }));
    follow("article", {"Order of its lines", "As they are named"});
    EXPECT_EQ(estimates(), named);
}

} // namespace fit_test
