// How a model is judged, by mouse and keys: the dialog, the brief, dealing again, the trail, parts, Check,
// Compare, terms chosen in every fit, folds that take longer than the fit.
#include "app/brief/brief_bar.h"
#include "app/parts.h"
#include "app/plots/fold_marks.h"
#include "app/plots/plot_frame.h"
#include "app/trail/trail_strip.h"
#include "app_support.h"

#include <QComboBox>
#include <QDialog>
#include <QMenu>
#include <QSpinBox>

using namespace oxgoad;
using namespace oxgoad::test;

namespace folds_test {

class FoldsTest : public WindowTest {
protected:
    QPushButton* part(const QString& name) {
        for (auto* each : window->findChildren<QPushButton*>("briefPart"))
            if (each->isVisible() && each->property("part") == name) return each;
        return nullptr;
    }
    QDialog* dialog() {
        for (auto* each : window->findChildren<QDialog*>("rowsDialog"))
            if (each->isVisible()) return each;
        return nullptr;
    }
    /// Opens the dialog about judging by the keyboard from the Data station.
    QDialog* openDialog() {
        station(1);
        showParts();
        click(button("How it is judged…"));
        return dialog();
    }
    void showParts() {
        for (auto* each : window->findChildren<QPushButton*>())
            if (each->property("pane") == "parts") click(each);
    }
    /// Until the fit is there; its folds may still be judged.
    bool fitted() {
        return QTest::qWaitFor([this] { return !session().jobs().busy() && !session().editing(); }, 20000);
    }
    static void accept(QDialog* dialog) { dialog->accept(); }
    /// Until the folds are there, too.
    bool judged() {
        return settle() && QTest::qWaitFor([this] { return !session().foldJobs().busy(); }, 20000);
    }
    QString sentence() { return find<BriefBar>("briefBar")->sentence(); }
    void choose(QDialog* of, FoldKind kind) {
        auto* box = of->findChild<QComboBox*>("foldKind");
        box->setCurrentIndex(box->findData(static_cast<int>(kind)));
    }
};

TEST_F(FoldsTest, TheDialogDealsInEveryWayAndSaysWhatEachIsFor) {
    openFile(demo + "/4_two_rows_left_out.json");
    ASSERT_TRUE(judged());
    const std::vector<std::pair<FoldKind, QString>> ways{
        {FoldKind::inProportion, "10 folds in proportion to depot, seed 1"},
        {FoldKind::groups, "10 folds by whole depot, seed 1"},
        {FoldKind::rollingOrigin, "6 origins rolling over month, 1 period ahead"},
        {FoldKind::leaveOneOut, "leaving out one row at a time"},
        {FoldKind::bootstrap, "200 bootstrap draws, seed 1"},
        {FoldKind::kFolds, "10 folds, seed 1"}};
    QStringList said;
    for (const auto& [kind, words] : ways) {
        QDialog* open = openDialog();
        ASSERT_NE(open, nullptr);
        choose(open, kind);
        if (kind == FoldKind::groups) open->findChild<QComboBox*>("foldColumn")->setCurrentText("depot");
        QString hint;
        for (auto* label : open->findChildren<QLabel*>("hint"))
            hint += label->text() + "\n";
        EXPECT_TRUE(hint.contains("Held-out rows judge the one model that is used")) << ss(hint);
        said << hint;
        accept(open);
        ASSERT_TRUE(judged());
        ASSERT_TRUE(session().recipe().judge);
        EXPECT_EQ(session().recipe().judge->kind, kind);
        EXPECT_TRUE(sentence().contains("judged by " + words)) << ss(sentence());
        ASSERT_TRUE(session().evidence()->folds) << ss(words);
    }
    said.removeDuplicates();
    EXPECT_GE(said.size(), 5);
    // None at all: the held-out rows stay.
    QDialog* open = openDialog();
    open->findChild<QComboBox*>("foldKind")->setCurrentIndex(0);
    accept(open);
    ASSERT_TRUE(judged());
    EXPECT_FALSE(session().recipe().judge);
    EXPECT_FALSE(session().evidence()->folds);
    EXPECT_TRUE(sentence().contains("judged on 424 rows held out")) << ss(sentence());
}

TEST_F(FoldsTest, WhatCannotBeDealtIsSaidAndTakenBack) {
    openFile(demo + "/4_two_rows_left_out.json");
    ASSERT_TRUE(judged());
    const Recipe before = session().recipe();
    QDialog* open = openDialog();
    choose(open, FoldKind::groups);
    open->findChild<QComboBox*>("foldColumn")->setCurrentText("contract");
    accept(open); // three groups for ten folds
    ASSERT_TRUE(judged());
    EXPECT_EQ(session().recipe(), before);
    QString message;
    for (auto* label : window->findChildren<QLabel*>())
        if (label->isVisible() && label->text().contains("3 groups of contract for 10 folds"))
            message = label->text();
    EXPECT_TRUE(message.contains("Use 3 folds or fewer")) << ss(message);
}

TEST_F(FoldsTest, DealingAgainShowsWhatTurnsWithTheSeed) {
    openFile(demo + "/4_two_rows_left_out.json");
    ASSERT_TRUE(judged());
    auto* marks = window->findChild<FoldMarks*>("foldMarks");
    ASSERT_NE(marks, nullptr);
    EXPECT_TRUE(marks->accessibleName().startsWith("errors of 10 folds from "))
        << ss(marks->accessibleName());
    const std::size_t fits = session().trail().fits().size();
    auto* folds = part("folds");
    ASSERT_NE(folds, nullptr);
    folds->setFocus();
    QTest::keyClick(folds, Qt::Key_Space);
    auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
    ASSERT_NE(menu, nullptr);
    for (auto* action : menu->actions())
        if (action->text().startsWith("Deal again: 5 times, seeds 1 to 5")) action->trigger();
    menu->close();
    ASSERT_TRUE(judged());
    const auto& found = *session().evidence()->folds;
    EXPECT_EQ(found.repeats.size(), 5U);
    EXPECT_EQ(session().trail().fits().size(), fits + 1);
    EXPECT_EQ(session().trail().fits().back().change, "judged by 10 folds, dealt 5 times, seeds 1 to 5");
    EXPECT_EQ(session().trail().fits().back().summary.repeatRmses.size(), 5U);
    QString accessible;
    for (auto* each : window->findChildren<FoldMarks*>("foldMarks"))
        if (each->isVisible()) accessible = each->accessibleName();
    EXPECT_TRUE(accessible.contains("of 5 dealings from")) << ss(accessible);
    station(3);
    QString words;
    for (auto* label : window->findChildren<QLabel*>())
        if (label->isVisible() && label->text().contains("what turns with the seed")) words = label->text();
    EXPECT_TRUE(words.contains("Dealt 5 times: RMSE from")) << ss(words);
    EXPECT_TRUE(words.contains("bias-adjusted")) << ss(words);
    window->findChild<TrailStrip*>()->grab(); // drawn with folds and dealings
}

TEST_F(FoldsTest, PartsShowTheDealingAndCheckDrawsOutOfFoldResiduals) {
    openFile(demo + "/4_two_rows_left_out.json");
    ASSERT_TRUE(judged());
    station(1);
    showParts();
    auto* parts = find<GridView>("parts");
    EXPECT_EQ(parts->model()->rowCount(), 2 + 10);
    EXPECT_EQ(parts->model()->index(1, 0).data().toString().trimmed(), "fold 1");
    double rows = 0;
    for (int i = 1; i <= 10; ++i)
        rows += parts->model()->index(i, 1).data().toString().toDouble();
    EXPECT_EQ(rows, static_cast<double>(session().evidence()->folds->rows));
    station(4);
    auto* up = find<QComboBox>("up");
    ASSERT_GE(up->findText("out-of-fold residual"), 0);
    up->setCurrentText("out-of-fold residual");
    ASSERT_TRUE(settle());
    EXPECT_TRUE(find<PlotFrame>("checkPlot")->accessibleDescription().contains("out of fold"))
        << ss(find<PlotFrame>("checkPlot")->accessibleDescription());
    click(button("readings of the checks"));
    auto* readings = find<GridView>("readings");
    bool found = false;
    for (int i = 0; i < readings->model()->rowCount(); ++i)
        found = found ||
                readings->model()->index(i, 0).data().toString() == "held-out error less error over folds";
    EXPECT_TRUE(found);
    // Without folds the choice is gone.
    Recipe recipe = session().recipe();
    recipe.judge.reset();
    session().change(recipe);
    ASSERT_TRUE(judged());
    EXPECT_EQ(up->findText("out-of-fold residual"), -1);
    EXPECT_EQ(up->currentText(), "residual");
}

TEST_F(FoldsTest, TwoWaysToJudgeOneModelStandSideBySide) {
    openFile(demo + "/4_two_rows_left_out.json");
    ASSERT_TRUE(judged());
    Recipe recipe = session().recipe();
    recipe.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    session().change(recipe);
    ASSERT_TRUE(judged());
    recipe.judge = FoldPlan{.kind = FoldKind::bootstrap, .draws = 20};
    session().change(recipe);
    ASSERT_TRUE(judged());
    station(5);
    ASSERT_TRUE(judged());
    auto* table = find<GridView>("compare");
    const auto valueOf = [&](const QString& name, int column) {
        for (int i = 0; i < table->model()->rowCount(); ++i)
            if (table->model()->index(i, 0).data().toString().startsWith(name))
                return table->model()->index(i, column).data().toString();
        return QString("no such line");
    };
    EXPECT_EQ(valueOf("judged by", 1), "leaving out one row at a time");
    EXPECT_EQ(valueOf("judged by", 2), "20 bootstrap draws, seed 1");
    EXPECT_NE(valueOf("bias-adjusted RMSE", 1), "");
    EXPECT_NE(valueOf(".632+ RMSE", 2), "");
    QString said;
    for (auto* label : window->findChildren<QLabel*>())
        if (label->isVisible() && label->text().contains("that both are judged by")) said = label->text();
    EXPECT_TRUE(said.contains("leaving out one row at a time")) << ss(said);
}

TEST_F(FoldsTest, TermsAreChosenInEveryFitUntilNoMore) {
    openFile(demo + "/1_straight.json");
    ASSERT_TRUE(judged());
    station(3);
    click(button("choose terms"));
    find<QComboBox>("chooseCriterion")->setCurrentText("BIC");
    click(find<QPushButton>("chooseTerms"));
    ASSERT_TRUE(QTest::qWaitFor([this] { return find<QPushButton>("chooseAlways")->isVisible(); }, 30000));
    click(find<QPushButton>("chooseAlways"));
    ASSERT_TRUE(judged());
    ASSERT_TRUE(session().recipe().choose);
    EXPECT_TRUE(sentence().contains("(chosen forward by BIC: ")) << ss(sentence());
    const auto& evidence = *session().evidence();
    EXPECT_EQ(evidence.linear->terms.size(), session().recipe().terms.size());
    const auto in = evidence.study->terms();
    EXPECT_LT(in.size(), session().recipe().terms.size());
    ASSERT_TRUE(evidence.folds);
    EXPECT_FALSE(evidence.folds->chosenShares.empty());
    // A term that was passed over stands in the table, quietly, and says so.
    auto* terms = find<GridView>("terms");
    QString out;
    for (const TermEvidence& term : evidence.linear->terms)
        if (!term.chosen) out = qs(term.name);
    const QModelIndex line = [&] {
        for (int i = 0; i < terms->model()->rowCount(); ++i)
            if (terms->model()->index(i, 0).data().toString() == out) return terms->model()->index(i, 0);
        return QModelIndex();
    }();
    ASSERT_TRUE(line.isValid()) << ss(out);
    EXPECT_EQ(line.siblingAtColumn(1).data().toString(), "not chosen");
    terms->setCurrentIndex(line);
    click(button("in words"));
    QString words;
    for (auto* label : window->findChildren<QLabel*>())
        if (label->isVisible() && label->text().contains("passed it over")) words = label->text();
    EXPECT_FALSE(words.isEmpty());
    // Saved and opened again it is the same; then the choice ends.
    files.toSave = folder.filePath("chosen.oxgoad");
    QTest::keyClick(window.get(), Qt::Key_S, Qt::ControlModifier);
    ASSERT_TRUE(settle());
    const double rmse = evidence.folds->rmse;
    openFile(folder.filePath("chosen.oxgoad"));
    ASSERT_TRUE(judged());
    EXPECT_EQ(session().evidence()->folds->rmse, rmse);
    station(3);
    click(button("choose terms"));
    click(find<QPushButton>("chooseNoMore"));
    ASSERT_TRUE(judged());
    EXPECT_FALSE(session().recipe().choose);
    EXPECT_EQ(session().recipe().terms, in);
    EXPECT_FALSE(find<QPushButton>("chooseNoMore")->isVisible());
}

TEST_F(FoldsTest, FoldsThatTakeLongerFillInAndAStopKeepsThoseDone) {
    openFile(demo + "/1_straight.json");
    ASSERT_TRUE(judged());
    Recipe recipe = session().recipe();
    recipe.estimator.kind = "neighbours";
    recipe.errors = {};
    recipe.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    session().change(recipe);
    ASSERT_TRUE(fitted());
    ASSERT_TRUE(session().foldJobs().busy()) << "a thousand fits take a while";
    EXPECT_FALSE(session().evidence()->folds);
    EXPECT_TRUE(sentence().contains("working it out…") || sentence().contains("going on…")) << ss(sentence());
    ASSERT_TRUE(QTest::qWaitFor([this] { return session().foldsSoFar() != nullptr; }, 20000));
    EXPECT_TRUE(sentence().contains("in the first ")) << ss(sentence());
    QTest::keyClick(window.get(), Qt::Key_Escape);
    ASSERT_TRUE(QTest::qWaitFor([this] { return !session().foldJobs().busy(); }, 5000));
    ASSERT_TRUE(session().evidence()->folds);
    EXPECT_TRUE(session().evidence()->folds->partial());
    EXPECT_GT(session().evidence()->folds->done, 0U);
    EXPECT_TRUE(std::any_of(session().evidence()->goads.begin(), session().evidence()->goads.end(),
                            [](const Goad& g) { return g.key == "folds were stopped"; }));
    EXPECT_EQ(session().trail().find(session().current())->summary.foldRmse,
              session().evidence()->folds->rmse);
    // An edit made while folds are judged is not held up by them and drops them.
    session().change(recipe = [&] {
        Recipe next = session().recipe();
        next.terms.pop_back();
        return next;
    }());
    ASSERT_TRUE(fitted());
    ASSERT_TRUE(session().foldJobs().busy());
    Recipe next = session().recipe();
    next.judge = FoldPlan{.folds = 3};
    next.estimator = Settings{};
    session().change(next);
    ASSERT_TRUE(judged());
    EXPECT_EQ(session().evidence()->folds->asked, 3U);
    EXPECT_FALSE(session().evidence()->folds->partial());
}

TEST_F(FoldsTest, AFitIsShownThoughItsFoldsCannotBeJudged) {
    QFile file(folder.filePath("rare.csv"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("kind,amount\n");
    for (int i = 0; i < 30; ++i)
        file.write(QByteArray(i == 7 ? "rare" : "usual") + "," + QByteArray::number(10.5 + i * 7 % 11) +
                   "\n");
    file.close();
    openFile(file.fileName());
    ASSERT_TRUE(session().recipe().judge);
    station(3);
    tick(find<GridView>("terms"), "kind");
    ASSERT_TRUE(settle());
    ASSERT_TRUE(session().evidence());
    EXPECT_FALSE(session().evidence()->folds);
    EXPECT_TRUE(sentence().contains("not judged")) << ss(sentence());
    EXPECT_TRUE(session().evidence()->goads.front().title.starts_with("The folds could not be judged"));
}

TEST_F(FoldsTest, AFreshFileIsJudgedByWhatItsRowsAllow) {
    openFile(demo + "/depot_months.csv");
    EXPECT_EQ(session().recipe().judge, FoldPlan{});
    EXPECT_FALSE(session().recipe().setAside);
    QFile few(folder.filePath("few.csv"));
    ASSERT_TRUE(few.open(QIODevice::WriteOnly));
    few.write("amount,x\n");
    for (int i = 0; i < 12; ++i)
        few.write(QByteArray::number(10.5 + i * i) + "," + QByteArray::number(i * 0.7) + "\n");
    few.close();
    openFile(few.fileName());
    ASSERT_TRUE(session().recipe().judge);
    EXPECT_EQ(session().recipe().judge->kind, FoldKind::leaveOneOut);
    QFile many(folder.filePath("many.csv"));
    ASSERT_TRUE(many.open(QIODevice::WriteOnly));
    many.write("amount,x\n");
    for (int i = 0; i < 5200; ++i)
        many.write(QByteArray::number(10.5 + (i * 7919) % 1013) + "," + QByteArray::number((i * 31) % 977) +
                   "\n");
    many.close();
    openFile(many.fileName());
    EXPECT_FALSE(session().recipe().judge);
    ASSERT_TRUE(session().recipe().setAside);
}

} // namespace folds_test
