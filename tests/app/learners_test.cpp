// Learners in the window: how learning goes is drawn, a formula becomes a term, a search tells its story.
#include "app/brief/order_dialog.h"
#include "app/brief/settings_dialog.h"
#include "app_support.h"
#include "estimate/formula/formula.h"
#include "estimate/network/network.h"
#include "estimate/ordered/ordered.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialogButtonBox>
#include <QLineEdit>
#include <QListWidget>

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
    // Of a setting that was found, the error of every value.
    learn({"tree", {{"complexity", std::string(oneStandardErrorRule)}}});
    EXPECT_EQ(plot->content().xTitle, "leaves");
    EXPECT_EQ(plot->content().bands.size(), 1U);
    EXPECT_GE(plot->content().marks.size(), 1U);
    EXPECT_TRUE(find<QLabel>("courseSaid")->text().startsWith("The error by "))
        << ss(find<QLabel>("courseSaid")->text());
    picture("course_tree");
    learn({"neighbours", {{"count", std::string(smallestErrorRule)}}});
    EXPECT_GT(plot->content().lines[0].x.size(), 5U);
    picture("course_neighbours");
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

TEST_F(Learners, EachIsComparedWithTheStraightModelOnBothDemos) {
    struct Demo {
        const char *file, *response;
        std::vector<std::string> columns;
        bool logs;
    };
    for (const Demo& each :
         {Demo{"/depot_months.csv", "revenue", {"places", "occupancy", "list_rate", "contract"}, false},
          Demo{"/trailer_quotes.csv", "price", {"age", "length", "condition", "make"}, true}}) {
        SCOPED_TRACE(each.file);
        openFile(demo + each.file);
        Recipe recipe = session().draft();
        recipe.estimator = {};
        recipe.response = each.response;
        recipe.terms.clear();
        for (const std::string& column : each.columns)
            recipe.terms.push_back(plainTerm(column));
        recipe.logResponse = each.logs;
        recipe.judge = FoldPlan{.folds = 5};
        recipe.checks["hangs on the seed"] = {.off = true};
        session().change(recipe);
        ASSERT_TRUE(settle());
        const int straight = session().current();
        for (const Settings& settings :
             {Settings{"forest", {{"trees", 12.0}}},
              Settings{"boosted", {{"rounds", 20.0}, {"rate", 0.2}, {"leaves", 8.0}}},
              Settings{"network", {{"passes", 25.0}, {"restarts", 1.0}}},
              Settings{"formula", {{"generations", 4.0}, {"population", 30.0}, {"largest", 11.0}}}}) {
            Recipe next = session().draft();
            next.estimator = settings;
            session().change(next);
            ASSERT_TRUE(settle() || settle() || settle())
                << settings.kind; // checks of 3,000 rows take their time
            const auto evidence = session().evidence();
            ASSERT_TRUE(evidence && evidence->folds) << settings.kind;
            EXPECT_TRUE(std::isfinite(evidence->folds->rmse)) << settings.kind;
            // Explained as all kinds are: what it loses without a column, the shape along it, one row.
            ASSERT_EQ(evidence->inputs.size(), each.columns.size()) << settings.kind;
            for (const InputEvidence& input : evidence->inputs)
                EXPECT_TRUE(std::isfinite(input.importance)) << settings.kind << " " << input.name;
        }
        station(5);
        auto* table = find<GridView>("compare");
        ASSERT_TRUE(QTest::qWaitFor([&] { return table->model()->rowCount() > 0; }, 10000));
        auto* left = find<QComboBox>("leftFit");
        for (int k = 0; k < left->count(); ++k)
            if (left->itemText(k).startsWith(QString::number(straight) + " ")) left->setCurrentIndex(k);
        ASSERT_TRUE(settle());
        EXPECT_GT(table->model()->rowCount(), 3);
        picture(each.logs ? "compare_trailers" : "compare_depots");
    }
}

TEST_F(Learners, TheirSettingsAreTypedAndReadAloud) {
    const auto opened = [&](const char* kind) {
        auto* dialog = new SettingsDialog(Settings{kind}, window.get());
        dialog->setAttribute(Qt::WA_DeleteOnClose, false);
        dialog->show();
        QTest::qWait(50);
        if (const char* to = std::getenv("OXGOAD_PICTURES"))
            dialog->grab().save(QString::fromUtf8(to) + "/settings_" + QString(kind).replace(' ', '_') +
                                ".png");
        return std::unique_ptr<SettingsDialog>(dialog);
    };
    const auto retype = [](QLineEdit* field, const QString& text) {
        field->setFocus();
        field->selectAll();
        QTest::keyClicks(field, text);
    };
    const auto sentence = [](const SettingsDialog& dialog) {
        return dialog.findChild<QLabel*>("settingsSentence")->text();
    };
    const auto fits = [](const SettingsDialog& dialog) {
        return dialog.findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok)->isEnabled();
    };
    const auto network = opened("network");
    auto* layers = network->findChild<QLineEdit*>("field_layers");
    ASSERT_TRUE(layers);
    retype(layers, "10; 5");
    EXPECT_EQ(network->settings().get<std::vector<double>>("layers"), (std::vector<double>{10, 5}));
    EXPECT_TRUE(fits(*network)) << ss(sentence(*network));
    EXPECT_TRUE(sentence(*network).contains("10") && sentence(*network).contains("5"))
        << ss(sentence(*network));
    retype(layers, "10; x");
    EXPECT_FALSE(fits(*network)) << ss(sentence(*network));
    EXPECT_TRUE(sentence(*network).contains("layers")) << "what is wrong is said: " << ss(sentence(*network));
    retype(layers, "");
    EXPECT_FALSE(layers->text().isEmpty()) << "nothing typed changes nothing";
    layers->clear();
    EXPECT_TRUE(fits(*network)) << "none is a straight model";
    const auto formula = opened("formula");
    auto* operations = formula->findChild<QLineEdit*>("field_operations");
    ASSERT_TRUE(operations);
    retype(operations, "+; *; sqrt");
    EXPECT_EQ(formula->settings().get<std::vector<std::string>>("operations"),
              (std::vector<std::string>{"+", "*", "sqrt"}));
    EXPECT_TRUE(fits(*formula)) << ss(sentence(*formula));
    const auto boosted = opened("boosted");
    retype(boosted->findChild<QLineEdit*>("field_rising"), "places; occupancy");
    EXPECT_EQ(boosted->settings().get<std::vector<std::string>>("rising"),
              (std::vector<std::string>{"places", "occupancy"}));
    // Every kind has its dialog, from what it usually is to what can be fitted.
    for (const ModelKind& each : modelKinds()) {
        const char* kind = each.name.c_str();
        const auto dialog = opened(kind);
        EXPECT_TRUE(fits(*dialog)) << kind << ": " << ss(sentence(*dialog));
        checkSettings(dialog->settings());
        for (const auto* label : dialog->findChildren<QLabel*>())
            EXPECT_GE(label->width(), std::min(label->sizeHint().width(), 900))
                << kind << ": " << ss(label->text());
    }
}

TEST_F(Learners, AFactorIsPredictedAsRanks) {
    openFile(demo + "/trailer_quotes.csv");
    station(3);
    for (const auto* term : {"age", "kilometres"})
        tick(find<GridView>("terms"), term);
    ASSERT_TRUE(settle());
    auto* dialog = new OrderDialog(session(), "condition", window.get());
    dialog->open();
    auto* levels = dialog->findChild<QListWidget*>("orderLevels");
    ASSERT_GE(levels->count(), 3);
    EXPECT_EQ(levels->accessibleName(), "Levels from low to high");
    // By keys: the first goes one higher; by the button it comes back.
    const QString first = levels->item(0)->text();
    levels->setFocus();
    QTest::keyClick(levels, Qt::Key_Down, Qt::AltModifier);
    EXPECT_EQ(levels->item(1)->text(), first);
    EXPECT_EQ(levels->currentRow(), 1);
    dialog->findChild<QPushButton*>("orderLower")->click();
    EXPECT_EQ(levels->item(0)->text(), first);
    dialog->findChild<QPushButton*>("orderLower")->click(); // there is nothing lower
    EXPECT_EQ(levels->item(0)->text(), first);
    if (const char* to = std::getenv("OXGOAD_PICTURES"))
        dialog->grab().save(QString::fromUtf8(to) + "/order_dialog.png");
    const auto order = dialog->order();
    dialog->accept();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().response, "condition");
    EXPECT_EQ(session().recipe().estimator.kind, "ordered");
    EXPECT_EQ(session().recipe().estimator.get<std::vector<std::string>>("order"), order);
    const auto evidence = session().evidence();
    ASSERT_TRUE(evidence && evidence->study);
    const auto* model = dynamic_cast<const OrderedModel*>(evidence->study->model.get());
    ASSERT_TRUE(model);
    EXPECT_EQ(model->names, order);
    for (const int each : {1, 2, 3, 4, 5})
        station(each); // nothing takes the response for a number
    ASSERT_TRUE(settle());
    picture("ranks");
    // Escape leaves everything as it is.
    auto* again = new OrderDialog(session(), "make", window.get());
    again->open();
    QTest::keyClick(again, Qt::Key_Escape);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().response, "condition");
    EXPECT_FALSE(canBeRanked(session(), "price"));
}

} // namespace learners_window_test
