// Kinds of model in the window: chosen in the brief, shown in every station, kept with the project.
#include "app/parts.h"
#include "app/plots/plot_frame.h"
#include "app/trail/trail_strip.h"
#include "app_support.h"
#include "study/evidence.h"
#include "workspace/compare_grids.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QDialog>
#include <QDialogButtonBox>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>

#include <cstdlib>

using namespace oxgoad;
using namespace oxgoad::test;

namespace kinds_test {

class Kinds : public WindowTest {
protected:
    void open(const QString& recipe = "/1_straight.json") {
        openFile(demo + recipe);
        station(3);
        ASSERT_TRUE(settle());
    }
    QPushButton* estimator() {
        for (auto* b : window->findChildren<QPushButton*>())
            if (b->accessibleName().startsWith("estimator: ")) return b;
        return nullptr;
    }
    void estimate(const QStringList& path) {
        click(estimator());
        auto* at = window->findChild<QMenu*>("estimatorMenu");
        ASSERT_NE(at, nullptr);
        QMenu* whole = at;
        for (const QString& step : path) {
            QAction* found = nullptr;
            for (auto* action : at->actions())
                if (action->text() == step) found = action;
            ASSERT_NE(found, nullptr) << ss(step);
            if (found->menu())
                at = found->menu();
            else
                found->trigger();
        }
        whole->close();
        ASSERT_TRUE(settle());
    }
    QStringList headers(GridView* view) {
        QStringList all;
        for (int c = 0; c < view->model()->columnCount(); ++c)
            all << view->model()->headerData(c, Qt::Horizontal).toString().replace('\n', ' ');
        return all;
    }
};

TEST_F(Kinds, NeighboursAreChosenInTheBriefAndShownInEveryStation) {
    open();
    const int before = session().current();
    estimate({"Nearest neighbours", "Mean of the 5 nearest rows"});
    EXPECT_EQ(estimator()->text(), "5 nearest neighbours");
    ASSERT_FALSE(session().evidence()->linear);
    EXPECT_GT(session().current(), before);
    EXPECT_EQ(qs(session().trail().find(session().current())->change), "by 5 nearest neighbours");
    auto* terms = find<GridView>("terms");
    EXPECT_EQ(headers(terms),
              (QStringList{"term", "enters as", "error when shuffled", "± se", "shape", "range learned"}));
    const auto index = line(terms, "places");
    ASSERT_TRUE(index.isValid());
    EXPECT_EQ(index.siblingAtColumn(1).data().toString(), "as is");
    EXPECT_TRUE(index.siblingAtColumn(2).data().toString().contains('%'));
    EXPECT_FALSE(index.siblingAtColumn(5).data().toString().isEmpty());
    // The effect's averages have bands of models without a part of the rows, and its words say what the
    // column is worth.
    terms->setCurrentIndex(index);
    ASSERT_TRUE(settle());
    EXPECT_FALSE(find<PlotFrame>("effectPlot")->content().lines.empty());
    EXPECT_EQ(find<PlotFrame>("effectPlot")->content().bands.size(), 3U)
        << "accumulated, averaged, and where the rows lie";
    if (const char* to = std::getenv("OXGOAD_PICTURES"))
        window->grab().save(QString::fromUtf8(to) + "/effect_bands.png");
    EXPECT_TRUE(find<QLabel>("inWords")->text().contains("Shuffled over rows, places makes the error"))
        << ss(find<QLabel>("inWords")->text());
    EXPECT_TRUE(find<QLabel>("equation")->text().contains("by 5 nearest neighbours in "));
    QApplication::setActiveWindow(window.get());
    for (int s = 1; s < 7; ++s) {
        station(s);
        EXPECT_TRUE(settle()) << s;
    }
    ASSERT_TRUE(session().evidence()->forecast);
    EXPECT_GT(session().evidence()->forecast->inside, 0U);
    // Columns are ticked in and out as ever.
    station(3);
    const auto tick = line(terms, "dock_hours");
    ASSERT_TRUE(tick.isValid());
    terms->setCurrentIndex(tick);
    QTest::keyClick(terms, Qt::Key_Space);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(line(terms, "dock_hours").siblingAtColumn(2).data().toString().contains('%'));
    station(3);
    QTest::keyClick(window.get(), Qt::Key_Z, Qt::ControlModifier);
    ASSERT_TRUE(settle());
}

TEST_F(Kinds, OtherSettingsAreAskedForFieldByField) {
    open();
    estimate({"Nearest neighbours", "Other settings…"});
    auto* dialog = window->findChild<QDialog*>("settingsDialog");
    ASSERT_NE(dialog, nullptr);
    auto* count = dialog->findChild<QDoubleSpinBox*>("number_count");
    ASSERT_NE(count, nullptr);
    EXPECT_EQ(count->accessibleName(), "Neighbours, as given");
    count->setFocus();
    count->selectAll();
    QTest::keyClicks(count, "12");
    QTest::keyClick(count, Qt::Key_Tab);
    EXPECT_EQ(dialog->findChild<QLabel*>("settingsSentence")->text(), "12 nearest neighbours");
    QTest::keyClick(count, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().estimator.number("count"), 12);
    EXPECT_EQ(estimator()->text(), "12 nearest neighbours");
    // A quantile of one's own, by the same dialog.
    estimate({"Quantile regression", "Other settings…"});
    dialog = window->findChild<QDialog*>("settingsDialog");
    ASSERT_NE(dialog, nullptr);
    dialog->findChild<QDoubleSpinBox*>("field_share")->setValue(0.35);
    click(dialog->findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok));
    ASSERT_TRUE(settle());
    EXPECT_EQ(estimator()->text(), "35 % quantile regression");
}

TEST_F(Kinds, ATermTheKindCannotUseIsToldAndTheModelStays) {
    open("/3_rate_by_contract.json");
    const int before = session().current();
    QString told;
    QObject::connect(&session(), &Session::failed, [&](const QString& sentence) { told = sentence; });
    estimate({"Nearest neighbours", "The nearest row"});
    EXPECT_TRUE(told.contains("not the term list_rate × contract")) << ss(told);
    EXPECT_EQ(session().current(), before);
    EXPECT_TRUE(session().evidence()->linear);
}

TEST_F(Kinds, AnotherLevelOfTheForecastFitsNothing) {
    open("/3_rate_by_contract.json");
    const auto study = session().evidence()->study;
    const double width = session().evidence()->forecast->upper[0] - session().evidence()->forecast->lower[0];
    session().setForecastLevel(0.5);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().evidence()->study, study);
    EXPECT_LT(session().evidence()->forecast->upper[0] - session().evidence()->forecast->lower[0], width / 2);
    session().undo();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().evidence()->study, study);
    EXPECT_EQ(session().evidence()->forecast->upper[0] - session().evidence()->forecast->lower[0], width);
}

TEST_F(Kinds, AReopenedProjectShowsWhatItKnewOfEveryKind) {
    open();
    for (const QStringList& path : {QStringList{"Nearest neighbours", "Mean of the 10 nearest rows"},
                                    QStringList{"Robust: outliers pull no harder (Huber)"}}) {
        estimate(path);
        const std::string said = evidenceText(*session().evidence(), session().recipe());
        const QString file = folder.filePath("kinds.oxgoad");
        session().save(file);
        ASSERT_TRUE(settle());
        Session other;
        other.open(file);
        ASSERT_TRUE(QTest::qWaitFor(
            [&] {
                return other.evidence() != nullptr && !other.foldJobs().busy() && !other.checkJobs().busy();
            },
            20000));
        EXPECT_EQ(evidenceText(*other.evidence(), other.recipe()), said);
        EXPECT_EQ(studyText(*other.evidence()->study), studyText(*session().evidence()->study));
        // The fit before comes back from the project too.
        const int first = session().trail().fits().front().number;
        other.choose(first);
        ASSERT_TRUE(QTest::qWaitFor([&] { return other.current() == first; }, 20000));
        EXPECT_TRUE(other.evidence()->linear);
    }
}

TEST_F(Kinds, CompareLaysKindsSideBySide) {
    open();
    const int first = session().current();
    const auto a = session().evidence();
    estimate({"Nearest neighbours", "Mean of the 10 nearest rows"});
    const auto grid =
        compareGrid(session(), {{first, a.get()}, {session().current(), session().evidence().get()}});
    QStringList names;
    for (int row = 0; row < grid.rows; ++row)
        names << grid.columns[0].text(row);
    EXPECT_TRUE(names.contains("R², learning rows"));
    const int at = static_cast<int>(names.indexOf("adjusted R²"));
    ASSERT_GE(at, 0);
    EXPECT_FALSE(grid.columns[1].text(at).isEmpty());
    EXPECT_TRUE(grid.columns[2].text(at).isEmpty()) << "what neighbours have not is not made up";
}

TEST_F(Kinds, TheTrailIsWalkedBetweenKindsByKeys) {
    open();
    const int first = session().current();
    estimate({"Nearest neighbours", "Mean of the 5 nearest rows"});
    const int second = session().current();
    const auto study = session().evidence()->study;
    auto* trail = window->findChild<TrailStrip*>();
    ASSERT_NE(trail, nullptr);
    trail->setFocus();
    QTest::keyClick(trail, Qt::Key_Left);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), first);
    EXPECT_TRUE(session().evidence()->linear);
    EXPECT_EQ(headers(find<GridView>("terms")).size(), 11) << "coefficients are back";
    QTest::keyClick(trail, Qt::Key_Right);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), second);
    EXPECT_EQ(session().evidence()->study, study) << "nothing was learned again";
    // Compare by its own boxes: the kinds beside each other, and a sentence that says why there is no F.
    QApplication::setActiveWindow(window.get());
    station(5);
    auto* table = find<GridView>("compare");
    ASSERT_TRUE(QTest::qWaitFor([&] { return table->model()->rowCount() > 0; }, 10000));
    find<QComboBox>("leftFit")->setCurrentIndex(0);
    ASSERT_TRUE(settle());
    bool said = false;
    for (auto* label : window->findChildren<QLabel*>())
        said = said || label->text().contains("they are fitted by different estimators");
    EXPECT_TRUE(said);
}

TEST_F(Kinds, APenaltyIsFoundByFoldsAndSaidWithoutTests) {
    open();
    estimate({"Penalised least squares", "Lasso: the simplest within one standard error"});
    const auto evidence = session().evidence();
    const LinearModel* model = evidence->study->linear();
    ASSERT_TRUE(model && model->penalised);
    EXPECT_GT(model->penalised->penalty, 0);
    ASSERT_TRUE(evidence->study->search);
    EXPECT_EQ(evidence->study->search->judgedBy, "10 folds, seed 1");
    EXPECT_EQ(estimator()->text(), "the lasso, penalty of the simplest model within one standard error");
    // The sentence says the penalty and how it was found.
    bool said = false;
    for (auto* label : window->findChildren<QLabel*>())
        said |= label->isVisible() && label->text().contains("l1 share 1, keeps") &&
                label->text().contains("found by 10 folds, seed 1");
    EXPECT_TRUE(said);
    // Estimates, but no t and p as if nothing had been chosen.
    auto* terms = find<GridView>("terms");
    const auto places = line(terms, "places");
    ASSERT_TRUE(places.isValid());
    const QStringList heads = headers(terms);
    EXPECT_FALSE(
        places.siblingAtColumn(static_cast<int>(heads.indexOf("estimate"))).data().toString().isEmpty());
    for (const char* column : {"t", "p"}) {
        const auto at = static_cast<int>(heads.indexOf(column));
        if (at >= 0) {
            EXPECT_EQ(places.siblingAtColumn(at).data().toString().trimmed(), "") << column;
        }
    }
    // The forecast has intervals of single values, by rows left out.
    ASSERT_TRUE(evidence->forecast);
    EXPECT_EQ(evidence->forecast->intervals, "by rows left out one at a time");
    std::size_t bounded = 0;
    for (std::size_t i = 0; i < evidence->forecast->lower.size(); ++i)
        bounded += evidence->forecast->lower[i] < evidence->forecast->prediction[i];
    EXPECT_GT(bounded, 400U);
    // Every station stands it.
    for (int k = 1; k <= 6; ++k) {
        station(k);
        ASSERT_TRUE(settle()) << k;
    }
}

TEST_F(Kinds, APenaltyIsGivenInItsDialog) {
    open();
    estimate({"Penalised least squares", "Other settings…"});
    auto* dialog = window->findChild<QDialog*>("settingsDialog");
    ASSERT_NE(dialog, nullptr);
    auto* how = dialog->findChild<QComboBox*>("how_penalty");
    ASSERT_NE(how, nullptr);
    how->setCurrentText("as given");
    auto* number = dialog->findChild<QDoubleSpinBox*>("number_penalty");
    ASSERT_NE(number, nullptr);
    EXPECT_TRUE(number->isVisibleTo(dialog));
    number->setValue(2500);
    dialog->findChild<QComboBox*>("how_l1_share")->setCurrentText("as given");
    dialog->findChild<QDoubleSpinBox*>("number_l1_share")->setValue(0.5);
    auto* factors = dialog->findChild<QLineEdit*>("field_factors");
    ASSERT_NE(factors, nullptr);
    factors->setText("places = 0.5");
    auto* rising = dialog->findChild<QLineEdit*>("field_rising");
    rising->setText(" occupancy ; list_rate");
    // What is no number is refused while it stands there.
    auto* penalties = dialog->findChild<QLineEdit*>("field_penalties");
    penalties->setText("3; many");
    auto* ok = dialog->findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok);
    EXPECT_FALSE(ok->isEnabled());
    penalties->setText("");
    EXPECT_TRUE(ok->isEnabled());
    EXPECT_TRUE(dialog->findChild<QLabel*>("settingsSentence")
                    ->text()
                    .startsWith("the elastic net with l1 share 0.5, penalty 2,500"))
        << ss(dialog->findChild<QLabel*>("settingsSentence")->text());
    click(ok);
    ASSERT_TRUE(settle());
    const Settings& settings = session().recipe().estimator;
    EXPECT_EQ(settings.number("penalty"), 2500);
    EXPECT_EQ(settings.get<std::vector<std::string>>("rising"),
              (std::vector<std::string>{"occupancy", "list_rate"}));
    EXPECT_EQ(settings.get<TextPairs>("factors"), (TextPairs{{"places", "0.5"}}));
    EXPECT_EQ(session().evidence()->study->linear()->penalised->l1Share, 0.5);
    EXPECT_FALSE(session().evidence()->study->search);
}

} // namespace kinds_test
