// The session: opening, changing, saving, reading again, without a window.
#include "app_support.h"
#include "workspace/grids.h"
#include "workspace/reading.h"

#include <QClipboard>
#include <QFile>
#include <QSignalSpy>

using namespace oxgoad;
using namespace oxgoad::test;

namespace session_test {

class Sessions : public testing::Test {
protected:
    bool settle() {
        return QTest::qWaitFor([this] { return !session.jobs().busy() && !session.saveJobs().busy(); },
                               20000);
    }
    void open(const QString& path) {
        session.open(path);
        ASSERT_TRUE(settle());
    }
    QString write(const QString& name, const QByteArray& bytes) {
        QFile file(folder.filePath(name));
        EXPECT_TRUE(file.open(QIODevice::WriteOnly));
        file.write(bytes);
        return file.fileName();
    }
    QTemporaryDir folder;
    Session session;
};

TEST_F(Sessions, RowsAloneAreAStartWithoutTerms) {
    open(demo + "/trailer_quotes.csv");
    EXPECT_TRUE(session.hasRows());
    EXPECT_EQ(session.recipe().response, "price");
    EXPECT_TRUE(session.recipe().terms.empty());
    EXPECT_EQ(session.current(), 0);
    EXPECT_EQ(session.ledger().columns.size(), session.table().columns().size());
    EXPECT_FALSE(session.canUndo());
}

TEST_F(Sessions, FewRowsAreNotHeldOut) {
    open(write("few.csv", "x,y\n1,2\n2,3\n3,5\n"));
    EXPECT_FALSE(session.recipe().setAside);
}

TEST_F(Sessions, SavingAndOpeningKeepsTheTrailAndAcceptedGoads) {
    open(demo + "/cold_storage.oxgoad");
    session.acceptGoad("missing values", "few");
    session.view()["station"] = "check";
    const auto fits = session.trail().fits().size();
    const QString path = folder.filePath("copy.oxgoad");
    QSignalSpy saved(&session, &Session::saved);
    session.save(path);
    ASSERT_TRUE(settle());
    ASSERT_EQ(saved.size(), 1);
    EXPECT_FALSE(session.dirty());
    Session other;
    other.open(path);
    ASSERT_TRUE(QTest::qWaitFor([&] { return other.evidence() != nullptr; }, 20000));
    EXPECT_EQ(other.trail().fits().size(), fits);
    EXPECT_EQ(other.recipe(), session.recipe());
    EXPECT_EQ(other.view().at("station"), "check");
    EXPECT_EQ(other.evidence()->learning.rmse, session.evidence()->learning.rmse);
    int accepted = 0;
    for (const Goad& goad : other.evidence()->goads)
        accepted += goad.accepted.has_value();
    EXPECT_EQ(accepted, 1);
}

TEST_F(Sessions, SavingWhereNothingCanBeWrittenIsToldAndStaysUnsaved) {
    open(demo + "/1_straight.json");
    QSignalSpy failed(&session, &Session::failed);
    session.save("/proc/none/p.oxgoad");
    ASSERT_TRUE(settle());
    ASSERT_EQ(failed.size(), 1);
    EXPECT_TRUE(failed[0][0].toString().contains("cannot be written")) << ss(failed[0][0].toString());
    EXPECT_TRUE(session.dirty());
}

TEST_F(Sessions, ReadingAgainKeepsTheModelWhereTheColumnsStay) {
    open(write("r.csv", "x,g,y\n" + QByteArray("1,1,2\n2,2,3\n3,1,5\n4,2,6\n5,1,9\n6,2,8\n").repeated(8)));
    Recipe recipe = session.recipe();
    recipe.terms = {plainTerm("x"), plainTerm("g")};
    session.change(recipe);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.evidence()->linear->coefficients.size(), 3u);
    RowsPlan plan = session.recipe().rows;
    plan.text.kinds["g"] = ColumnKind::factor;
    session.readAgain(plan);
    ASSERT_TRUE(settle());
    ASSERT_TRUE(session.evidence());
    EXPECT_EQ(session.evidence()->linear->coefficients.back().name, "g = 2");
    ASSERT_EQ(session.trail().fits().size(), 2u);
    // The first fit's error is of the rows as they were read before; chosen again, it is of these.
    EXPECT_TRUE(session.trail().fits()[0].earlierRows);
    EXPECT_FALSE(session.trail().fits()[1].earlierRows);
    session.choose(1);
    ASSERT_TRUE(settle());
    EXPECT_FALSE(session.trail().fits()[0].earlierRows);
}

TEST_F(Sessions, SelectingARowThatIsNotThereSelectsNone) {
    open(demo + "/1_straight.json");
    session.selectRow(5);
    EXPECT_EQ(session.selectedRow(), 5u);
    session.selectRow(100000);
    EXPECT_FALSE(session.selectedRow());
}

TEST_F(Sessions, AForecastIsAFitOfItsOwnOnTheTrail) {
    open(demo + "/depot_months.csv");
    Recipe recipe = session.recipe();
    recipe.terms = {plainTerm("places")};
    session.change(recipe);
    ASSERT_TRUE(settle());
    session.chooseForecast(demo + "/plan.csv");
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.recipe().forecast->file, "plan.csv");
    EXPECT_EQ(session.trail().fits().back().change, "forecast of plan.csv");
    session.undo();
    ASSERT_TRUE(settle());
    EXPECT_FALSE(session.evidence()->forecast);
}

TEST_F(Sessions, StoppingKeepsWhatThereWas) {
    open(demo + "/1_straight.json");
    ASSERT_TRUE(QTest::qWaitFor([this] { return !session.checkJobs().busy(); }, 20000));
    const auto before = session.evidence();
    QByteArray big = "a,b,y\n";
    for (int i = 0; i < 400000; ++i)
        big += QByteArray::number(i % 977) + "," + QByteArray::number(i % 31) + "," +
               QByteArray::number(i % 11) + "\n";
    session.open(write("big.csv", big));
    session.jobs().stop();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session.evidence(), before);
    EXPECT_EQ(session.table().rows(), 1440u);
}

TEST_F(Sessions, TheForecastTableSaysWhereEachNumberBelongs) {
    open(demo + "/1_straight.json");
    GridModel model;
    model.setContent(forecastGrid(session));
    QStringList heads;
    for (int c = 0; c < model.columnCount(); ++c)
        heads << model.headerData(c, Qt::Horizontal, Qt::DisplayRole).toString();
    EXPECT_EQ(heads.mid(0, 7).join("|"), "depot|month|forecast|95 % from|to|reach|because");
    const double shown = model.index(0, 2).data().toString().remove(',').toDouble();
    EXPECT_NEAR(shown, session.evidence()->forecast->prediction[0], 0.5);
    EXPECT_EQ(model.index(0, 2).data(RawValueRole).toDouble(), session.evidence()->forecast->prediction[0]);
}

TEST_F(Sessions, TheOutlyingTableIsInOrder) {
    open(demo + "/1_straight.json");
    GridModel model;
    model.setContent(outlyingGrid(session));
    ASSERT_GT(model.rowCount(), 5);
    EXPECT_EQ(model.index(0, 0).data().toString(), "129") << "the mistyped rate";
    EXPECT_EQ(model.index(1, 0).data().toString(), "89") << "the month after the fire";
}

TEST_F(Sessions, TheLedgerNamesWhatIsOdd) {
    open(demo + "/1_straight.json");
    GridModel model;
    model.setContent(ledgerGrid(session));
    QMap<QString, QString> odd;
    for (int r = 0; r < model.rowCount(); ++r)
        odd[model.index(r, 0).data().toString()] = model.index(r, 8).data().toString();
    EXPECT_EQ(odd["occupancy"], "missing");
    EXPECT_EQ(odd["cooling"], "rare levels");
    EXPECT_TRUE(odd["list_rate"].contains("far out")) << ss(odd["list_rate"]);
    EXPECT_EQ(odd["places"], "");
}

TEST_F(Sessions, EquationsAndSummariesCarrySignsAndUnits) {
    open(demo + "/1_straight.json");
    const QString equation = equationFor(session, {});
    EXPECT_TRUE(equation.startsWith("revenue = 14,479 + 13.89·places + 510·occupancy")) << ss(equation);
    EXPECT_TRUE(equation.contains("[contract = annual]"));
    EXPECT_TRUE(equation.contains(" − 311·energy_price")) << ss(equation);
    EXPECT_TRUE(equation.endsWith("+ ε"));
    EXPECT_TRUE(fitSummary(session).join("\n").contains("EUR a month"));
}

TEST_F(WindowTest, CopyingATableKeepsFullPrecision) {
    openFile(demo + "/1_straight.json");
    station(4);
    auto* outlying = find<GridView>("outlying");
    outlying->setFocus();
    outlying->selectRow(0);
    QTest::keyClick(outlying, Qt::Key_C, Qt::ControlModifier);
    const QStringList cells = QApplication::clipboard()->text().split('\t');
    ASSERT_EQ(cells.size(), 9);
    EXPECT_EQ(cells[4].toDouble(), session().evidence()->rows.residual[128]);
}

TEST_F(WindowTest, TheGoadsFoldAwayAndComeBack) {
    openFile(demo + "/1_straight.json");
    auto* panel = find<QWidget>("goadsPanel");
    EXPECT_TRUE(panel->isVisible());
    QTest::keyClick(window.get(), Qt::Key_G, Qt::ControlModifier);
    EXPECT_FALSE(panel->isVisible());
    QTest::keyClick(window.get(), Qt::Key_G, Qt::ControlModifier);
    EXPECT_TRUE(panel->isVisible());
}

} // namespace session_test
