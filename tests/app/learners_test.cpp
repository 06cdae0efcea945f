// Learners in the window: how learning goes is drawn, a formula becomes a term, a search tells its story.
#include "app_support.h"
#include "estimate/formula/formula.h"
#include "estimate/network/network.h"

#include <QCheckBox>

#include <algorithm>
#include <cstdlib>

using namespace oxgoad;
using namespace oxgoad::test;

namespace learners_window_test {

class Learners : public WindowTest {
protected:
    void open() {
        openFile(demo + "/depot_months.csv");
        Recipe recipe = session().draft();
        recipe.response = "revenue";
        recipe.terms.clear();
        for (const char* column : {"places", "occupancy", "list_rate", "contract"})
            recipe.terms.push_back(plainTerm(column));
        recipe.judge.reset();
        recipe.checks["hangs on the seed"] = {.off = true};
        session().change(recipe);
        ASSERT_TRUE(settle());
    }
    void learn(const Settings& settings) {
        Recipe recipe = session().draft();
        recipe.estimator = settings;
        session().change(recipe);
        ASSERT_TRUE(settle());
        EXPECT_EQ(session().recipe().estimator.kind, settings.kind);
    }
    void side(const QString& name) {
        station(3);
        click(button(name));
        ASSERT_TRUE(settle());
    }
    void picture(const char* name) {
        if (const char* to = std::getenv("OXGOAD_PICTURES")) {
            QTest::qWait(300);
            window->grab().save(QString::fromUtf8(to) + "/" + name + ".png");
        }
    }
};

TEST_F(Learners, TheCourseOfEachIsDrawn) {
    open();
    for (auto* each : window->findChildren<QPushButton*>())
        if (each->text() == "course") {
            EXPECT_FALSE(each->isVisible()) << "least squares learns at once";
        }
    learn({"forest", {{"trees", 60.0}}});
    side("course");
    auto* plot = find<PlotFrame>("coursePlot");
    ASSERT_EQ(plot->content().lines.size(), 2U);
    EXPECT_EQ(plot->content().lines[1].name, "unseen rows");
    EXPECT_EQ(plot->content().xTitle, "trees");
    EXPECT_EQ(plot->content().yTitle, "root mean squared error");
    EXPECT_TRUE(find<QLabel>("courseSaid")->text().startsWith("After "))
        << ss(find<QLabel>("courseSaid")->text());
    EXPECT_TRUE(find<PlotFrame>("spreadPlot")->isHidden());
    picture("course_forest");
    learn({"boosted", {{"rounds", 150.0}, {"rate", 0.1}}});
    EXPECT_EQ(plot->content().xTitle, "rounds");
    EXPECT_EQ(plot->content().lines[0].x.size(), 150U);
    picture("course_boosted");
    learn({"network", {{"passes", 150.0}, {"restarts", 3.0}}});
    EXPECT_EQ(plot->content().lines.size(), 6U) << "three starts over each other";
    EXPECT_EQ(std::count_if(plot->content().lines.begin(), plot->content().lines.end(),
                            [](const PlotFrame::Line& each) { return !each.name.isEmpty(); }),
              2)
        << "only the one taken is named";
    EXPECT_FALSE(find<PlotFrame>("spreadPlot")->isHidden());
    EXPECT_EQ(find<PlotFrame>("spreadPlot")->content().bands.size(), 2U);
    find<QPushButton>("courseScale")->click();
    EXPECT_TRUE(plot->content().yLog);
    picture("course_network");
    // A model that learns at once leaves it.
    learn({"tree", {}});
    EXPECT_FALSE(find<QWidget>("coursePane")->isVisible());
}

TEST_F(Learners, AFormulaBecomesATerm) {
    open();
    learn({"formula", {{"generations", 25.0}, {"largest", 13.0}, {"population", 60.0}}});
    side("course");
    auto* list = find<GridView>("formulas");
    ASSERT_TRUE(list->isVisible());
    EXPECT_GT(list->model()->rowCount(), 2);
    picture("formula");
    const auto& model = dynamic_cast<const FormulaModel&>(*session().evidence()->study->model);
    EXPECT_EQ(static_cast<std::size_t>(list->model()->rowCount()), model.front.size());
    list->setCurrentIndex(list->model()->index(1, 0));
    click(find<QPushButton>("takeFormula"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().estimator.kind, "least squares");
    ASSERT_EQ(session().recipe().terms.size(), 1U);
    EXPECT_EQ(termName(session().recipe().terms[0]), "formula");
    ASSERT_TRUE(session().evidence());
    // One step back.
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().estimator.kind, "formula");
}

TEST_F(Learners, ASearchTellsItsStoryAndItsBestIsTaken) {
    open();
    side("search");
    find<QComboBox>("searchBudget")->setCurrentIndex(1);
    find<WholeBox>("searchAmount")->setValue(45);
    find<QComboBox>("searchKinds")->setCurrentText("trees, forests and boosting");
    auto* grid = find<GridView>("tried");
    click(find<QPushButton>("beginSearch"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return !session().chooseJobs().busy(); }, 120000));
    ASSERT_TRUE(settle());
    EXPECT_GT(grid->model()->rowCount(), 5);
    const QString said = find<QLabel>("searchSaid")->text();
    for (const char* words : {"models were tried", "straight model", "It ended by 45 fits"})
        EXPECT_TRUE(said.contains(words)) << ss(said);
    picture("search");
    ASSERT_TRUE(find<QPushButton>("takeBest")->isVisible());
    const QString best = grid->model()->index(0, 0).data().toString();
    EXPECT_EQ(grid->model()->index(0, 4).data().toString(), "judged by all") << ss(best);
    click(find<QPushButton>("takeBest"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return !session().jobs().busy(); }, 120000));
    EXPECT_NE(session().recipe().estimator.kind, "");
    EXPECT_TRUE(session().evidence());
}

TEST_F(Learners, StopKeepsTheBestOfATraining) {
    open();
    Recipe recipe = session().draft();
    recipe.estimator = {"network", {{"passes", 1e6}, {"patience", 0.0}, {"restarts", 1.0}}};
    session().change(recipe);
    ASSERT_TRUE(QTest::qWaitFor([&] { return session().jobs().busy(); }, 5000));
    QTest::qWait(700);
    session().jobs().stop();
    ASSERT_TRUE(QTest::qWaitFor([&] { return !session().jobs().busy(); }, 60000));
    ASSERT_TRUE(session().evidence());
    const auto* network = dynamic_cast<const NetworkModel*>(session().evidence()->study->model.get());
    ASSERT_NE(network, nullptr);
    EXPECT_NE(session().evidence()->study->outcome.why.find("stopped after pass"), std::string::npos);
}

} // namespace learners_window_test
