// The path of penalties taken hold of, the trail in full, more rows, and several fits side by side.
#include "app/fit/path_picture.h"
#include "app/parts.h"
#include "app/trail/trail_layout.h"
#include "app/trail/trail_strip.h"
#include "app_support.h"
#include "estimate/linear/linear_model.h"
#include "study/evidence.h"
#include "workspace/compare_grids.h"
#include "workspace/path_grid.h"
#include "workspace/text.h"
#include "workspace/trail_grid.h"

#include <QComboBox>
#include <QDialog>
#include <QFile>
#include <QInputDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QTemporaryDir>
#include <QTimer>

#include <cmath>
#include <set>

using namespace oxgoad;
using namespace oxgoad::test;

namespace restrain_test {

class Restrain : public WindowTest {
protected:
    void openPenalised() {
        openFile(demo + "/1_straight.json");
        station(3);
        ASSERT_TRUE(settle());
        Recipe recipe = session().recipe();
        recipe.estimator = Settings{"penalised"};
        session().change(recipe);
        ASSERT_TRUE(settle());
        ASSERT_TRUE(session().evidence()->study->linear()->penalised);
    }
    PathPicture* openPath() {
        click(button("path"));
        EXPECT_TRUE(settle());
        return find<PathPicture>("pathPicture");
    }
    double penalty() { return session().evidence()->study->linear()->penalised->penalty; }
    QString said(const char* name) { return find<QLabel>(name)->text(); }
    TrailStrip* trail() { return window->findChild<TrailStrip*>(); }
    QAction* actionOf(QMenu* menu, const QString& text) {
        for (auto* action : menu->actions())
            if (action->text() == text) return action;
        ADD_FAILURE() << "no action " << ss(text);
        return nullptr;
    }
    /// Answers the next dialog that asks for a text.
    void answer(const QString& text) {
        QTimer::singleShot(50, [text] {
            for (auto* widget : QApplication::topLevelWidgets())
                if (auto* dialog = qobject_cast<QInputDialog*>(widget); dialog && dialog->isVisible()) {
                    dialog->setTextValue(text);
                    dialog->accept();
                }
        });
    }
};

/// A trail of made-up errors, each fit the child of the one before.
Trail trailOf(const std::vector<double>& errors) {
    std::vector<TrailFit> fits;
    for (std::size_t i = 0; i < errors.size(); ++i) {
        TrailFit fit;
        fit.number = static_cast<int>(i + 1);
        fit.parent = static_cast<int>(i);
        fit.change = "change " + std::to_string(i + 1);
        fit.recipe.response = "revenue";
        fit.recipe.level = 0.5 + 1e-4 * static_cast<double>(i);
        fit.summary.learningRmse = 0.95 * errors[i];
        fit.summary.heldOutRmse = errors[i];
        fit.summary.heldOutRmseError = 0.02 * errors[i];
        fits.push_back(std::move(fit));
    }
    return *Trail::fromFits(std::move(fits));
}

TEST_F(Restrain, AHandleOnThePathMovesTheFitAndOneDragIsOneFit) {
    openPenalised();
    const std::size_t fits = session().trail().fits().size();
    const double found = penalty();
    PathPicture* path = openPath();
    ASSERT_TRUE(path->isVisible());
    EXPECT_FALSE(find<PlotFrame>("effectPlot")->isVisible()) << "the path has the whole width";
    const std::size_t start = path->place();
    EXPECT_TRUE(said("pathSaid").contains("typically off by")) << ss(said("pathSaid"));
    EXPECT_TRUE(path->accessibleDescription().contains("columns"));
    // Dragged by hand: the fit follows, again and again, and is one on the trail.
    QTest::mousePress(path, Qt::LeftButton, {}, path->gripAt(start));
    for (const std::size_t by : {4U, 9U, 15U}) {
        ASSERT_GE(start, by);
        QTest::mouseMove(path, path->gripAt(start - by));
        EXPECT_EQ(path->place(), start - by) << "the handle goes at once";
        QTest::qWait(80);
        ASSERT_TRUE(settle());
        EXPECT_GT(penalty(), found);
        EXPECT_EQ(session().trail().fits().size(), fits + 1);
    }
    QTest::mouseRelease(path, Qt::LeftButton, {}, path->gripAt(start - 15));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().trail().fits().size(), fits + 1);
    const double dragged = penalty();
    EXPECT_EQ(session().recipe().estimator.number("penalty"), dragged);
    EXPECT_TRUE(qs(session().trail().fits().back().change).contains("penalty"))
        << session().trail().fits().back().change;
    EXPECT_EQ(path->place(), start - 15) << "the path is the same one, not followed anew";
    // One step back leads to where the drag began.
    session().undo();
    ASSERT_TRUE(settle());
    EXPECT_EQ(penalty(), found);
    EXPECT_EQ(path->place(), start);
    session().redo();
    ASSERT_TRUE(settle());
    EXPECT_EQ(penalty(), dragged);
    // By keys, a drag of its own.
    path->setFocus();
    QTest::keyPress(path, Qt::Key_Right);
    QTest::keyRelease(path, Qt::Key_Right);
    ASSERT_TRUE(settle());
    EXPECT_EQ(path->place(), start - 14);
    EXPECT_LT(penalty(), dragged);
    EXPECT_EQ(session().trail().fits().size(), fits + 2);
    QTest::keyClick(path, Qt::Key_End);
    ASSERT_TRUE(settle());
    const double simple = penalty();
    EXPECT_GT(simple, found);
    // Its rule finds the very same.
    click(find<QPushButton>("pathSimpler"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(penalty(), simple);
    EXPECT_TRUE(
        std::holds_alternative<std::string>(session().recipe().estimator.get(std::string_view("penalty"))));
    EXPECT_TRUE(said("pathMore").startsWith("The simpler one keeps")) << ss(said("pathMore"));
}

TEST_F(Restrain, ThePathIsListedAndHalvesChoose) {
    openPenalised();
    openPath();
    click(find<QPushButton>("pathListed"));
    auto* columns = find<GridView>("pathColumns");
    ASSERT_TRUE(columns->isVisible());
    ASSERT_GT(columns->model()->rowCount(), 5);
    QStringList heads;
    for (int c = 0; c < columns->model()->columnCount(); ++c)
        heads << columns->model()->headerData(c, Qt::Horizontal).toString().replace('\n', ' ');
    EXPECT_TRUE(heads.contains("folds that keep it, %"));
    const QString per = heads.value(1);
    EXPECT_EQ(per, "estimate per st. dev.");
    // The other scale: natural units, as the term table has them.
    click(find<QPushButton>("pathScale"));
    const QModelIndex places = line(columns, "places");
    ASSERT_TRUE(places.isValid());
    const double shown = places.siblingAtColumn(1).data(RawValueRole).toDouble();
    const LinearModel* model = session().evidence()->study->linear();
    double own = 0;
    for (std::size_t j = 0; j < model->design.columns().size(); ++j)
        if (model->design.columns()[j].name == "places")
            own = model->fit.coefficients[static_cast<Eigen::Index>(j)];
    EXPECT_NEAR(shown, own, 1e-9 * std::fabs(own));
    click(find<QPushButton>("pathHalves"));
    ASSERT_TRUE(settle());
    EXPECT_TRUE(said("pathMore").contains("of halves or more")) << ss(said("pathMore"));
    EXPECT_EQ(columns->model()->columnCount(), heads.size() + 2);
    const QModelIndex sure = line(columns, "places");
    EXPECT_EQ(sure.siblingAtColumn(static_cast<int>(heads.size())).data(RawValueRole).toDouble(), 100);
    // A model without a penalty has no path to show.
    Recipe plain = session().recipe();
    plain.estimator = Settings{};
    session().change(plain);
    ASSERT_TRUE(settle());
    for (auto* b : window->findChildren<QPushButton*>()) {
        if (b->text() == "path") {
            EXPECT_FALSE(b->isVisible());
        }
    }
    EXPECT_TRUE(find<PlotFrame>("effectPlot")->isVisible());
}

TEST_F(Restrain, MoreRowsAreAskedForInTheWindow) {
    openFile(demo + "/1_straight.json");
    station(3);
    click(button("more rows?"));
    EXPECT_TRUE(find<QPushButton>("curveWork")->isVisible());
    click(find<QPushButton>("curveWork"));
    ASSERT_TRUE(settle());
    const auto& content = find<PlotFrame>("curvePlot")->content();
    ASSERT_EQ(content.lines.size(), 2U);
    EXPECT_GE(content.lines[0].x.size(), 5U);
    EXPECT_TRUE(said("curveSaid").contains("error of unseen rows")) << ss(said("curveSaid"));
    EXPECT_TRUE(said("curveSaid").contains("Rows a coefficient"));
}

TEST_F(Restrain, FitsOfTheTrailAreNamedPinnedFoundAndPruned) {
    openFile(demo + "/cold_storage.oxgoad");
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().current(), 4);
    trail()->setFocus();
    QTest::keyClick(trail(), Qt::Key_P);
    EXPECT_TRUE(session().trail().find(4)->pinned);
    EXPECT_TRUE(session().dirty());
    answer("without the fire");
    QTest::keyClick(trail(), Qt::Key_N);
    EXPECT_EQ(session().trail().find(4)->name, "without the fire");
    answer("agreed with the depot");
    click(find<QPushButton>("trailMore"));
    auto* menu = window->findChild<QMenu*>("trailMenu");
    ASSERT_NE(menu, nullptr);
    actionOf(menu, "Note…")->trigger();
    menu->close();
    EXPECT_EQ(session().trail().find(4)->note, "agreed with the depot");
    EXPECT_TRUE(trailHint(session(), 4).contains("without the fire"));
    EXPECT_TRUE(trailHint(session(), 4).contains("beside fit 3: RMSE"));
    // Up to where it came from, down again, home.
    QTest::keyClick(trail(), Qt::Key_Up);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 3);
    QTest::keyClick(trail(), Qt::Key_Down);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 4);
    QTest::keyClick(trail(), Qt::Key_Home);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 1);
    // Found by name; the one that is shown stays.
    activate();
    trail()->setFocus();
    QTest::keyClick(trail(), Qt::Key_Slash);
    auto* find_ = find<QLineEdit>("trailFind");
    EXPECT_TRUE(find_->hasFocus());
    QTest::keyClicks(find_, "FIRE");
    EXPECT_EQ(trail()->shown(), (std::vector<int>{1, 4}));
    find_->clear();
    EXPECT_EQ(trail()->shown().size(), 4U);
    // Pruned with what came from it: what is pinned stays with the way to it.
    session().pinFit(4, false);
    QTest::mouseClick(trail(), Qt::LeftButton, {}, trail()->placeOf(2));
    ASSERT_TRUE(settle());
    ASSERT_EQ(session().current(), 2);
    QTest::mouseClick(trail(), Qt::LeftButton, {}, trail()->placeOf(1));
    ASSERT_TRUE(settle());
    session().pruneFit(3, true);
    EXPECT_EQ(trail()->shown(), (std::vector<int>{1, 2}));
    session().pruneFit(3, false);
    EXPECT_EQ(trail()->shown().size(), 4U);
    // The fit that is shown gives way to the one it came from.
    activate();
    session().choose(4);
    ASSERT_TRUE(settle());
    trail()->setFocus();
    QTest::keyClick(trail(), Qt::Key_Delete);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 3);
    EXPECT_EQ(trail()->shown(), (std::vector<int>{1, 2, 3}));
    session().pruneFit(4, false);
    EXPECT_EQ(trail()->shown().size(), 4U);
    // As a list, from which a fit is picked up.
    click(find<QPushButton>("trailMore"));
    for (auto* each : window->findChildren<QMenu*>("trailMenu"))
        if (each->isVisible()) {
            actionOf(each, "The trail as a list")->trigger();
            each->close();
        }
    auto* list = window->findChild<QDialog*>("trailList");
    ASSERT_NE(list, nullptr);
    auto* view = list->findChild<GridView*>();
    EXPECT_EQ(view->model()->rowCount(), 4);
    emit view->opened(view->model()->index(2, 0));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 3);
    list->close();
}

TEST(TrailLayouts, FiveHundredFitsAreReadableAndOneAwfulOneFlattensNothing) {
    std::vector<double> errors;
    for (int i = 0; i < 500; ++i)
        errors.push_back(15000 + 3000 * std::exp(-i / 80.0) + 40 * (i % 7));
    errors[250] = 4e9;
    const Trail trail = trailOf(errors);
    const TrailLayout layout(trail, {}, 500);
    ASSERT_EQ(layout.places().size(), 500U);
    EXPECT_LT(layout.high(), 25000);
    EXPECT_TRUE(layout.places()[250].beyond);
    EXPECT_EQ(std::count_if(layout.places().begin(), layout.places().end(),
                            [](const TrailLayout::Place& p) { return p.beyond; }),
              1);
    EXPECT_GE(layout.step(1100), 9);
    EXPECT_EQ(layout.step(90000), 150);
    // Labels keep apart, and the chosen fit has one.
    const double step = layout.step(1100);
    const auto labels = layout.labelled(trail, 500, step);
    EXPECT_EQ(labels[499], 1);
    int last = -1000, count = 0;
    for (int i = 0; i < 500; ++i)
        if (labels[static_cast<std::size_t>(i)]) {
            EXPECT_GE((i - last) * step, 100);
            last = i;
            ++count;
        }
    EXPECT_GT(count, 20);
    // Two far apart are a story, not an outlier: the first straight fit and what mended it.
    const TrailLayout few(trailOf({45000, 30000, 14000}), {}, 3);
    EXPECT_GT(few.high(), 45000);
    EXPECT_FALSE(few.places()[0].beyond);
}

TEST(TrailLayouts, HiddenFitsAreBridged) {
    Trail trail = trailOf({5, 4, 3, 2});
    trail.prune(2, true, 0);
    const TrailLayout some(trail, {}, 4); // 2 and 3 are out of sight, 4 is shown all the same
    ASSERT_EQ(some.places().size(), 2U);
    EXPECT_EQ(some.places()[1].from, 0);
    EXPECT_FALSE(some.places()[1].direct);
    TrailFilter all;
    all.withPruned = true;
    EXPECT_EQ(TrailLayout(trail, all, 4).places().size(), 4U);
    TrailFilter pinned;
    pinned.onlyPinned = true;
    trail.pin(1, true);
    EXPECT_EQ(TrailLayout(trail, pinned, 4).places().size(), 2U);
    EXPECT_TRUE(TrailLayout(Trail{}, {}, 0).places().empty());
}

TEST_F(Restrain, SixFitsAreComparedByTheSameFolds) {
    openFile(demo + "/cold_storage.oxgoad");
    ASSERT_TRUE(settle());
    station(5);
    ASSERT_TRUE(settle());
    auto* table = find<GridView>("compare");
    click(find<QPushButton>("anotherFit"));
    find<QComboBox>("leftFit")->setCurrentIndex(0);
    find<QComboBox>("rightFit")->setCurrentIndex(1);
    find<QComboBox>("thirdFit")->setCurrentIndex(4); // after "none"
    ASSERT_TRUE(settle());
    ASSERT_TRUE(QTest::qWaitFor(
        [&] { return table->model()->headerData(3, Qt::Horizontal).toString() == "fit 4"; }, 20000));
    EXPECT_EQ(said("comparison").count('\n'), 1) << ss(said("comparison"));
    EXPECT_TRUE(said("comparison").contains("Fit 4 is better than fit 1")) << ss(said("comparison"));
    click(button("differences"));
    EXPECT_EQ(table->model()->rowCount(), 9) << "three pairs by three measures";
    EXPECT_EQ(find<PlotFrame>("comparePlot")->content().xLevels.size(), 2);
    const int words = table->model()->columnCount() - 1;
    EXPECT_TRUE(table->model()->index(0, words).data().toString().contains("F ")) << "fit 2 holds fit 1";
    EXPECT_EQ(table->model()->index(1, words).data().toString(), "");
    click(button("coefficients on one scale"));
    EXPECT_TRUE(line(table, "places").isValid());
    EXPECT_FALSE(find<PlotFrame>("comparePlot")->isVisible());
    click(button("where they differ"));
    ASSERT_GT(table->model()->rowCount(), 10);
    // A line is a row, and opens it.
    const auto row = table->model()->index(0, 0).data(DataRowRole);
    ASSERT_TRUE(row.isValid());
    table->setCurrentIndex(table->model()->index(0, 0));
    table->setFocus();
    QTest::keyClick(table, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().selectedRow(), row.toULongLong());
}

TEST_F(Restrain, HeldOutRowsLearnTooOnceTheModelIsChosen) {
    openFile(demo + "/cold_storage.oxgoad");
    ASSERT_TRUE(settle());
    const std::size_t learning = session().evidence()->rowsLearning, held = session().evidence()->rowsHeldOut;
    ASSERT_GT(held, 0U);
    station(5);
    ASSERT_TRUE(settle());
    click(find<QPushButton>("refit"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().evidence()->rowsHeldOut, 0U);
    EXPECT_EQ(session().evidence()->rowsLearning, learning + held);
    EXPECT_EQ(find<QPushButton>("refit")->text(), "hold the rows out again");
    ASSERT_TRUE(
        QTest::qWaitFor([&] { return find<GridView>("compare")->model()->columnCount() == 4; }, 20000));
    click(find<QPushButton>("refit"));
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().current(), 4) << "the model of before, not another one";
}

/// A path of `places` penalties with two columns, one of which comes in half way.
std::shared_ptr<const PathView> pathOf(std::size_t places, bool judged, bool toZero = false) {
    auto view = std::make_shared<PathView>();
    view->columns = 3;
    view->smallest = view->oneError = places;
    PathLine first{"places", 0, {}, {}, {}, 0}, second{"<b>season</b>", 1, {}, {}, {}, places / 2};
    for (std::size_t k = 0; k < places; ++k) {
        PathPlace place;
        place.penalty = toZero && k + 1 == places ? 0 : std::pow(0.8, static_cast<double>(k));
        const double away = static_cast<double>(k) - 0.6 * static_cast<double>(places);
        if (judged) {
            place.error = 100 + 0.1 * away * away;
            place.low = place.error - 3;
            place.high = place.error + 3;
            place.learning = 100 - static_cast<double>(k);
            place.relaxed = k > 2 ? 102 : std::nan("");
        }
        place.kept = k < places / 2 ? 1 : 2;
        view->places.push_back(place);
        first.perDeviation.push_back(static_cast<double>(k));
        first.natural.push_back(0.1 * static_cast<double>(k));
        const double b = k < places / 2 ? 0 : -0.5 * static_cast<double>(k - places / 2 + 1);
        second.perDeviation.push_back(b);
        second.natural.push_back(b);
        if (judged) {
            first.keptShare.push_back(1);
            second.keptShare.push_back(b == 0 ? 0 : 0.7);
        }
    }
    view->lines = {first, second};
    if (judged) {
        view->judgedBy = "10 folds, seed 1";
        view->smallest = static_cast<std::size_t>(0.6 * static_cast<double>(places));
        view->oneError = view->smallest / 2;
    }
    return view;
}

TEST(PathPictures, AreDrawnWhateverThePathHas) {
    PathPicture picture;
    picture.resize(900, 330);
    picture.clear("Nothing yet.");
    picture.grab();
    EXPECT_EQ(picture.accessibleDescription(), "Nothing yet.");
    EXPECT_FALSE(picture.savePicture("/nowhere/x.png"));
    const QTemporaryDir folder;
    for (const std::size_t places : {1U, 2U, 40U})
        for (const bool judged : {false, true})
            for (const bool toZero : {false, true}) {
                picture.show(pathOf(places, judged && places > 2, toZero && places > 2), "revenue",
                             "EUR a month", "EUR a month", true);
                for (const QSize size : {QSize(900, 330), QSize(300, 190), QSize(20, 20)}) {
                    picture.resize(size);
                    picture.grab();
                }
                picture.resize(900, 330);
                EXPECT_LT(picture.place(), places);
                EXPECT_TRUE(picture.savePicture(folder.filePath("path.png")));
                EXPECT_TRUE(picture.savePicture(folder.filePath("path.svg")));
            }
    QFile svg(folder.filePath("path.svg"));
    ASSERT_TRUE(svg.open(QIODevice::ReadOnly));
    const QString drawn = QString::fromUtf8(svg.readAll());
    EXPECT_TRUE(drawn.contains("&lt;b&gt;season")) << "names of columns are text";
    EXPECT_FALSE(drawn.contains("<b>season"));
    picture.copyPicture();
}

TEST(PathPictures, AHandleIsTakenHoldOfByMouseAndKeys) {
    PathPicture picture;
    picture.resize(900, 330);
    picture.show(pathOf(40, true), "revenue", "EUR", "EUR", true);
    std::vector<std::pair<std::size_t, bool>> moves;
    QObject::connect(&picture, &PathPicture::moved,
                     [&](std::size_t place, bool rests) { moves.emplace_back(place, rests); });
    picture.setPlace(10);
    EXPECT_TRUE(moves.empty()) << "only a hand moves it";
    EXPECT_LT(picture.gripAt(10).x(), picture.gripAt(11).x()) << "weaker to the right";
    QTest::mousePress(&picture, Qt::LeftButton, {}, picture.gripAt(12));
    QTest::mouseMove(&picture, picture.gripAt(20));
    QTest::mouseMove(&picture, picture.gripAt(20) + QPoint(0, 40)); // up and down is no move
    QTest::mouseRelease(&picture, Qt::LeftButton, {}, picture.gripAt(20));
    EXPECT_EQ(moves, (std::vector<std::pair<std::size_t, bool>>{{12, false}, {20, false}, {20, true}}));
    // Beyond the ends it stays at them; outside of the picture's axes nothing is taken.
    QTest::mousePress(&picture, Qt::LeftButton, {}, picture.gripAt(20));
    QTest::mouseMove(&picture, {2000, 50});
    EXPECT_EQ(picture.place(), 39U);
    QTest::mouseMove(&picture, {-50, 50});
    EXPECT_EQ(picture.place(), 0U);
    QTest::mouseRelease(&picture, Qt::LeftButton, {}, {0, 50});
    moves.clear();
    QTest::mouseClick(&picture, Qt::LeftButton, {}, {3, 50});
    QTest::mouseClick(&picture, Qt::RightButton, {}, picture.gripAt(20) + QPoint(0, 0), 0);
    EXPECT_TRUE(moves.empty());
    QTest::keyClick(&picture, Qt::Key_Left);
    EXPECT_EQ(picture.place(), 0U) << "there is nothing stronger";
    QTest::keyClick(&picture, Qt::Key_Home);
    EXPECT_EQ(picture.place(), 24U);
    QTest::keyClick(&picture, Qt::Key_End);
    EXPECT_EQ(picture.place(), 12U);
    ASSERT_FALSE(moves.empty());
    EXPECT_TRUE(moves.back().second) << "a key that is let go rests";
    // A line under the pointer; none where it is not in yet.
    const auto at = [&](std::size_t place, double y) {
        return QPoint(picture.gripAt(place).x(), static_cast<int>(y));
    };
    std::set<std::size_t> found;
    for (int y = 150; y < 300; ++y)
        found.insert(picture.lineAt(at(39, y)));
    EXPECT_EQ(found, (std::set<std::size_t>{0, 1, 2})) << "both lines, and between them none";
    found.clear();
    for (int y = 150; y < 300; ++y)
        found.insert(picture.lineAt(at(5, y)));
    EXPECT_EQ(found, (std::set<std::size_t>{0, 2}));
}

TEST_F(Restrain, ADragMeetsOtherEdits) {
    openPenalised();
    const std::size_t fits = session().trail().fits().size();
    const auto slide = [&](double penalty) {
        Recipe recipe = session().draft();
        recipe.estimator.fields["penalty"] = penalty;
        session().slide(recipe);
    };
    // Three moves before the first fit is there: one fit, of the last.
    slide(900);
    slide(700);
    slide(500);
    EXPECT_TRUE(session().editing());
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().trail().fits().size(), fits + 1);
    EXPECT_EQ(penalty(), 500);
    session().undo();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().trail().find(session().current())->number, static_cast<int>(fits));
    session().redo();
    ASSERT_TRUE(settle());
    EXPECT_EQ(penalty(), 500);
    // Another edit in between ends what a drag may replace.
    slide(400);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().trail().fits().size(), fits + 1) << "the same drag";
    Recipe other = session().recipe();
    other.terms.pop_back();
    session().change(other);
    ASSERT_TRUE(settle());
    const std::size_t more = session().trail().fits().size();
    EXPECT_EQ(more, fits + 2);
    slide(300);
    ASSERT_TRUE(settle());
    session().endSlide();
    EXPECT_EQ(session().trail().fits().size(), more + 1);
    EXPECT_EQ(session().trail().fits().back().parent, static_cast<int>(more));
    // A new drag is a new fit; one that ends where a fit was shows that fit.
    slide(250);
    ASSERT_TRUE(settle());
    session().endSlide();
    EXPECT_EQ(session().trail().fits().size(), more + 2);
    slide(300);
    ASSERT_TRUE(settle());
    session().endSlide();
    EXPECT_EQ(session().trail().fits().size(), more + 2);
    EXPECT_EQ(session().current(), static_cast<int>(more + 1));
    // What cannot be fitted is told and taken back.
    Recipe wrong = session().recipe();
    wrong.estimator.fields["rising"] = std::vector<std::string>{"no such term"};
    session().slide(wrong);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(window->failureShown().contains("no such term"));
    EXPECT_EQ(session().current(), static_cast<int>(more + 1));
}

TEST_F(Restrain, TablesOfThePathTheTrailAndComparisonsHoldTheirNumbers) {
    openPenalised();
    auto view = pathOf(10, true);
    GridModel model;
    model.setContent(pathGrid(view, 8, nullptr, session().recipe(), true));
    EXPECT_EQ(model.rowCount(), 2);
    EXPECT_EQ(model.index(0, 0).data().toString(), "places") << "the largest first";
    EXPECT_EQ(model.index(0, 1).data(RawValueRole).toDouble(), 8);
    EXPECT_EQ(model.index(1, 5).data(RawValueRole).toDouble(), 70) << "share of folds";
    model.setContent(pathGrid(view, 0, nullptr, session().recipe(), false));
    EXPECT_EQ(model.index(1, 1).data(RawValueRole).toDouble(), 0);
    EXPECT_FALSE(model.index(1, 3).data(RawValueRole).isValid()) << "nothing is left of it";
    const auto list = trailGrid(session(), {1, 2, 99});
    EXPECT_EQ(list.rows, 2) << "a fit that is not there is no line";
    model.setContent(list);
    EXPECT_EQ(model.index(1, 1).data(RawValueRole).toDouble(), 1) << "where it came from";
    EXPECT_FALSE(model.index(0, 1).data(RawValueRole).isValid());
    EXPECT_GT(model.index(1, 8).data(RawValueRole).toDouble(), 1) << "effective degrees of freedom";
    EXPECT_TRUE(trailHint(session(), 99).isEmpty());
    EXPECT_TRUE(compareGrid(session(), {}).rows == 0);
    EXPECT_TRUE(compareGrid(session(), {{1, nullptr}, {2, nullptr}}).rows == 0);
    const auto e = session().evidence();
    const auto six = compareGrid(session(), std::vector<FitColumn>(6, FitColumn{2, e.get()}));
    EXPECT_EQ(six.columns.size(), 7U) << "no difference of more than two";
    bool gap = false;
    for (int row = 0; row < six.rows; ++row)
        gap |= six.columns[0].text(row).startsWith("gap: unseen over learning rows");
    EXPECT_TRUE(gap);
}

} // namespace restrain_test
