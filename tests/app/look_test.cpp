// The Look station, driven by mouse and keys on the demo rows and on odd ones.
#include "app_support.h"
#include "study/look_at.h"

#include <QFile>
#include <QHeaderView>

#include <algorithm>
#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace {

class Looks : public WindowTest {
protected:
    void look(const QString& file) {
        openFile(file);
        station(2);
        ASSERT_TRUE(settle());
    }
    void rows(const QByteArray& bytes) {
        QFile file(folder.filePath("odd.csv"));
        ASSERT_TRUE(file.open(QIODevice::WriteOnly));
        file.write(bytes);
        file.close();
        look(file.fileName());
    }
    void clickLine(const QString& column) {
        auto* view = find<GridView>("ranking");
        const QModelIndex index = line(view, column);
        ASSERT_TRUE(index.isValid()) << column.toStdString();
        view->scrollTo(index);
        QTest::mouseClick(view->viewport(), Qt::LeftButton, {}, view->visualRect(index).center());
        ASSERT_TRUE(settle());
    }
    void press(const QString& text) {
        click(button(text));
        ASSERT_TRUE(settle());
    }
    QString said() { return find<QLabel>("lookSaid")->text(); }
    const PlotFrame::Content& shown() { return find<PlotFrame>("lookPlot")->content(); }
    bool hasTerm(const std::string& name) {
        const auto& terms = session().recipe().terms;
        return std::any_of(terms.begin(), terms.end(), [&](const Term& t) { return termName(t) == name; });
    }
};

} // namespace

TEST_F(Looks, TheRankingIsThatOfTheCoreStrongestFirstAndSortsByAClick) {
    look(demo + "/1_straight.json");
    auto* view = find<GridView>("ranking");
    ASSERT_EQ(view->model()->rowCount(), 17);
    Progress progress;
    const auto report =
        lookReport(session().recipe(), *session().prepared(), nullptr, Against::response, {}, progress);
    for (int row = 0; row < 17; ++row) {
        const RankedColumn& ranked = report.ranking[static_cast<std::size_t>(row)];
        EXPECT_EQ(view->model()->index(row, 0).data().toString(), qs(ranked.name));
        EXPECT_EQ(view->model()->index(row, 2).data(RawValueRole).toDouble(), ranked.straight);
        EXPECT_EQ(view->model()->index(row, 3).data(RawValueRole).toDouble(), ranked.curved);
    }
    view->resize(900, 400);
    auto* head = view->horizontalHeader();
    QTest::mouseClick(head->viewport(), Qt::LeftButton, {}, {head->sectionViewportPosition(0) + 20, 10});
    EXPECT_EQ(view->model()->index(0, 0).data().toString(), "calendar_month");
}

TEST_F(Looks, TheInteractionIsSeenAndAddedInThreeClicks) {
    look(demo + "/1_straight.json");
    clickLine("list_rate");
    press("see slopes differ by contract");
    EXPECT_EQ(shown().lines.size(), 3u);
    EXPECT_TRUE(said().startsWith("Slopes differ by contract: F = 18.7 on 2 and 1,002"))
        << said().toStdString();
    EXPECT_EQ(find<GridView>("slopes")->model()->rowCount(), 3);
    press("add list_rate × contract to the terms");
    EXPECT_TRUE(hasTerm("list_rate × contract"));
}

TEST_F(Looks, TheSaturationIsSeenInTheResidualsAndAddedInThreeClicks) {
    look(demo + "/1_straight.json");
    find<QComboBox>("against")->setCurrentText("residual");
    ASSERT_TRUE(settle());
    clickLine("occupancy");
    EXPECT_TRUE(said().contains("it bends")) << said().toStdString();
    ASSERT_EQ(shown().lines.size(), 2u);
    // The curve falls off on both sides of its top: saturation left over by a straight line.
    const auto& curve = shown().lines[1].y;
    EXPECT_GT(*std::max_element(curve.begin(), curve.end()), std::max(curve.front(), curve.back()));
    for (auto* b : window->findChildren<QPushButton*>())
        if (b->isVisible() && b->text().startsWith("add the bend")) {
            click(b);
            break;
        }
    ASSERT_TRUE(settle());
    EXPECT_TRUE(hasTerm("occupancy^2") || hasTerm("ln(occupancy)"));
}

TEST_F(Looks, TheSeasonIsSeenAndAddedInTwoClicks) {
    look(demo + "/1_straight.json");
    press("season");
    EXPECT_EQ(shown().xLevels.size(), 12);
    EXPECT_EQ(shown().lines.size(), 3u); // 2023, 2024, 2025
    EXPECT_TRUE(said().contains("lowest in Jan")) << said().toStdString();
    press("add calendar_month to the terms");
    EXPECT_TRUE(hasTerm("calendar_month"));
}

TEST_F(Looks, TheSpreadGrowsWithPlaces) {
    look(demo + "/1_straight.json");
    find<QComboBox>("against")->setCurrentText("residual");
    ASSERT_TRUE(settle());
    clickLine("places");
    EXPECT_TRUE(said().contains("The spread grows with places")) << said().toStdString();
}

TEST_F(Looks, TheMapHasAMarkAPlaceInTheProportionsOfItsLatitude) {
    look(demo + "/1_straight.json");
    press("map");
    std::size_t marks = 0;
    for (const auto& m : shown().marks)
        marks += m.x.size();
    EXPECT_EQ(marks, 40u);
    ASSERT_TRUE(shown().proportion);
    EXPECT_NEAR(*shown().proportion, std::cos(53 * M_PI / 180), 0.01);
    EXPECT_TRUE(said().contains("Moran's I"));
    press("add longitude and latitude to the terms");
    EXPECT_TRUE(hasTerm("longitude") && hasTerm("latitude"));
}

TEST_F(Looks, LevelsStandInTheOrderOfTheirMedians) {
    look(demo + "/1_straight.json");
    clickLine("region");
    ASSERT_EQ(shown().boxes.size(), 4u);
    for (std::size_t k = 1; k < 4; ++k)
        EXPECT_LE(shown().boxes[k - 1].median, shown().boxes[k].median);
    EXPECT_EQ(shown().xLevels.size(), 4);
}

TEST_F(Looks, PairsAreListedAndOneOpensItsScatter) {
    look(demo + "/1_straight.json");
    press("pairs");
    auto* view = find<GridView>("pairs");
    ASSERT_EQ(view->model()->rowCount(), 17 * 16 / 2);
    int row = 0;
    while (row < view->model()->rowCount() && !(view->model()->index(row, 1).data() == "places" &&
                                                view->model()->index(row, 2).data() == "dock_hours"))
        ++row;
    ASSERT_LT(row, view->model()->rowCount());
    view->setCurrentIndex(view->model()->index(row, 0));
    QTest::keyClick(view, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_TRUE(shown().xTitle.startsWith("places"));
    EXPECT_TRUE(shown().yTitle.startsWith("dock_hours"));
}

TEST_F(Looks, TheDistributionSaysItsShapeAndItsPower) {
    look(demo + "/1_straight.json");
    press("distribution");
    find<QComboBox>("predictor")->setCurrentText("places");
    ASSERT_TRUE(settle());
    ASSERT_EQ(shown().bars.size(), 1u);
    EXPECT_TRUE(said().contains("Likeliest power")) << said().toStdString();
    double rows = 0;
    for (const double h : shown().bars[0].heights)
        rows += h;
    EXPECT_GT(rows, 900);
}

TEST_F(Looks, OddRowsGiveADrawingOrASentenceInEveryView) {
    const std::vector<QByteArray> cases{
        "x,y\n1,2\n2,3\n",                                     // two rows
        "c,y\n5,1\n5,2\n5,3\n5,4\n5,9\n",                      // constant
        "e,y\n,1\n,2\n,3\n,4\n",                               // all missing
        "d,f\n2024-01-01,a\n2024-02-01,b\n2024-03-01,c\n",     // nothing to predict
        "x,y\n1e-300,1\n1e300,2\n1,3\n5,4\n7,5\n9,6\n",        // both ends of the doubles
        "lon,lat,y\n500,10,1\n600,20,2\n700,30,3\n800,40,4\n", // not on the ground
        "g,x,y\na,1,1\na,2,2\na,3,4\na,5,5\nb,9,9\n"};         // a group of one row
    for (const QByteArray& bytes : cases) {
        rows(bytes);
        for (const char* view : {"against a column", "distribution", "over time", "season", "map", "pairs"}) {
            press(view);
            EXPECT_FALSE(shown().summary.isEmpty() && QString(view) != "pairs")
                << view << " of " << bytes.toStdString();
            EXPECT_TRUE(window->failureShown().isEmpty()) << window->failureShown().toStdString();
        }
    }
}
