// The Look station, driven by mouse and keys on the demo rows and on odd ones.
#include "app_support.h"
#include "recipe/recipe_edits.h"
#include "study/look_at.h"
#include "workspace/grids.h"

#include <QFile>
#include <QHeaderView>
#include <QLineEdit>
#include <QMouseEvent>
#include <QRegularExpression>

#include <algorithm>
#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace look_test {

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
    /// Presses the button at the first place, goes through the others, and lets go at the last.
    void drag(QWidget* inner, const std::vector<QPoint>& way, Qt::KeyboardModifiers keys) {
        auto* plot = find<PlotFrame>("lookPlot");
        const auto send = [&](QEvent::Type type, const QPoint& at, Qt::MouseButton button,
                              Qt::MouseButtons held) {
            const QPointF place(inner->mapFrom(plot, at));
            QMouseEvent event(type, place, inner->mapToGlobal(place), button, held, keys);
            QApplication::sendEvent(inner, &event);
        };
        send(QEvent::MouseButtonPress, way.front(), Qt::LeftButton, Qt::LeftButton);
        for (std::size_t k = 1; k < way.size(); ++k)
            for (int step = 1; step <= 10; ++step)
                send(QEvent::MouseMove, way[k - 1] + (way[k] - way[k - 1]) * step / 10, Qt::NoButton,
                     Qt::LeftButton);
        send(QEvent::MouseButtonRelease, way.back(), Qt::LeftButton, Qt::NoButton);
    }
    QString said() { return find<QLabel>("lookSaid")->text(); }
    const PlotFrame::Content& shown() { return find<PlotFrame>("lookPlot")->content(); }
    bool hasTerm(const std::string& name) {
        const auto& terms = session().recipe().terms;
        return std::any_of(terms.begin(), terms.end(), [&](const Term& t) { return termName(t) == name; });
    }
};

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
    EXPECT_TRUE(said().startsWith("Slopes differ by contract: F = 20.4 on 2 and 1,002"))
        << said().toStdString();
    EXPECT_EQ(find<GridView>("slopes")->model()->rowCount(), 3);
    press("add list_rate × contract to the terms");
    EXPECT_TRUE(hasTerm("list_rate × contract"));
}

TEST_F(Looks, TheSaturationIsSeenInTheResidualsAndAddedInThreeClicks) {
    look(demo + "/1_straight.json");
    press("residual");
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

TEST_F(Looks, TheSpreadGrowsWithPlacesAndIsNotedInThreeClicks) {
    look(demo + "/1_straight.json");
    press("residual");
    clickLine("places");
    EXPECT_TRUE(said().contains("The spread grows with places")) << said().toStdString();
    const std::size_t before = session().goads().all.size();
    press("note it as a goad");
    ASSERT_EQ(session().recipe().noted.size(), 1u);
    ASSERT_EQ(session().goads().all.size(), before + 1);
    const auto goads = session().goads().all;
    const auto noted =
        std::find_if(goads.begin(), goads.end(), [](const Goad& g) { return g.title == "Seen in places"; });
    ASSERT_NE(noted, goads.end());
    EXPECT_TRUE(noted->reading.starts_with("The spread grows with places (p "));
    // It stands there through another fit, until it is dropped.
    session().change(withTerm(session().recipe(), plainTerm("occupancy")));
    ASSERT_TRUE(settle());
    press("drop the note");
    EXPECT_TRUE(session().recipe().noted.empty());
}

TEST_F(Looks, ABoxMarksItsRowsInThePlotsAndInTheRows) {
    look(demo + "/1_straight.json");
    clickLine("occupancy");
    auto* plot = find<PlotFrame>("lookPlot");
    QWidget* inner = plot->childAt(plot->rect().center());
    const QPoint from = plot->rect().center() - QPoint(60, 50), to = plot->rect().center() + QPoint(60, 50);
    std::vector<std::size_t> within;
    std::size_t onTheEdge = 0;
    for (const auto& marks : shown().marks)
        for (const std::size_t row : marks.rows) {
            const QPoint place = *plot->placeOfRow(row);
            if (place.x() > from.x() + 1 && place.x() < to.x() - 1 && place.y() > from.y() + 1 &&
                place.y() < to.y() - 1)
                within.push_back(row);
            else if (place.x() >= from.x() - 1 && place.x() <= to.x() + 1 && place.y() >= from.y() - 1 &&
                     place.y() <= to.y() + 1)
                ++onTheEdge;
        }
    ASSERT_GT(within.size(), 3u);
    drag(inner, {from, to}, Qt::ShiftModifier);
    ASSERT_TRUE(session().markedRows());
    for (const std::size_t row : within)
        EXPECT_EQ((*session().markedRows())[row], 1);
    EXPECT_LE(session().markedCount(), within.size() + onTheEdge);
    EXPECT_EQ(plot->marksMarked(), session().markedCount());
    const std::size_t marked = session().markedCount();
    // The same rows in Check, and among the rows.
    station(4);
    ASSERT_TRUE(settle());
    std::size_t withResidual = 0; // a row that lacks a column of the model has no place there
    for (std::size_t row = 0; row < session().markedRows()->size(); ++row)
        withResidual +=
            (*session().markedRows())[row] != 0 && !std::isnan(session().evidence()->rows.residual[row]);
    ASSERT_GT(withResidual, 3u);
    EXPECT_EQ(find<PlotFrame>("checkPlot")->marksMarked(), withResidual);
    press("show the rows");
    ASSERT_TRUE(settle());
    EXPECT_EQ(find<GridView>("rows")->model()->rowCount(), static_cast<int>(marked));
    EXPECT_TRUE(find<GridView>("rows")->model()->index(0, 1).data().toString().endsWith(", marked"));
    press("unmark");
    EXPECT_FALSE(session().markedRows());
    EXPECT_FALSE(find<QWidget>("selectionBar")->isVisible());
}

TEST_F(Looks, ALineDrawnRoundRowsMarksThem) {
    look(demo + "/1_straight.json");
    clickLine("occupancy");
    auto* plot = find<PlotFrame>("lookPlot");
    QWidget* inner = plot->childAt(plot->rect().center());
    const QPoint c = plot->rect().center();
    // A triangle: half of the box that holds it.
    drag(inner, {c + QPoint(-80, -80), c + QPoint(80, -80), c + QPoint(-80, 80)}, Qt::ControlModifier);
    const std::size_t triangle = session().markedCount();
    ASSERT_GT(triangle, 3u);
    for (std::size_t row = 0; row < session().markedRows()->size(); ++row)
        if ((*session().markedRows())[row] != 0) {
            const QPoint place = *plot->placeOfRow(row) - c;
            EXPECT_LE(place.x() + place.y(), 3) << "beyond the slanted side";
        }
    find<QComboBox>("drag")->setCurrentText("drag: mark a box");
    drag(inner, {c + QPoint(-80, -80), c + QPoint(80, 80)}, {});
    EXPECT_GT(session().markedCount(), triangle);
}

TEST_F(Looks, MarkedRowsAreLookedAtAloneAndLeftOutForAReason) {
    look(demo + "/1_straight.json");
    clickLine("occupancy");
    auto* plot = find<PlotFrame>("lookPlot");
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < 200; ++i)
        rows.push_back(i);
    session().markRows(rows, false);
    press("look at only these");
    EXPECT_TRUE(said().startsWith("Only the ")) << said().toStdString();
    for (const auto& marks : shown().marks)
        for (const std::size_t row : marks.rows)
            EXPECT_LT(row, 200u);
    press("look at all rows again");
    EXPECT_GT(shown().marks[0].rows.size(), 300u);
    EXPECT_GT(plot->marksMarked(), 150u);
    // From the keyboard: what is in view is marked, Escape unmarks.
    plot->setFocus();
    QTest::keyClick(plot, Qt::Key_Escape);
    EXPECT_FALSE(session().markedRows());
    QTest::keyClick(plot, Qt::Key_Plus);
    QTest::keyClick(plot, Qt::Key_M);
    ASSERT_TRUE(session().markedRows());
    const std::size_t marked = session().markedCount();
    press("leave them out");
    EXPECT_TRUE(session().recipe().leaveOut.empty()) << "without a reason";
    auto* reason = find<QLineEdit>("markedReason");
    QTest::keyClicks(reason, "another tariff");
    QTest::keyClick(reason, Qt::Key_Return);
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().leaveOut.size(), marked);
    EXPECT_EQ(session().recipe().leaveOut.front().reason, "another tariff");
    EXPECT_FALSE(session().markedRows());
}

TEST_F(Looks, PanelsShareTheirScalesAndNoLineLeavesTheRangeOfItsGroup) {
    look(demo + "/1_straight.json");
    clickLine("list_rate");
    find<QComboBox>("panelsBy")->setCurrentText("plots by contract");
    ASSERT_TRUE(settle());
    const auto panels = window->findChildren<PlotFrame*>(QRegularExpression("^panel"));
    ASSERT_EQ(panels.size(), 3);
    std::size_t marks = 0;
    for (const PlotFrame* panel : panels) {
        EXPECT_EQ(panel->extent(), panels[0]->extent());
        double low = INFINITY, high = -INFINITY;
        for (const auto& m : panel->content().marks) {
            marks += m.rows.size();
            for (const double x : m.x) {
                low = std::min(low, x);
                high = std::max(high, x);
            }
        }
        for (const auto& l : panel->content().lines) {
            EXPECT_GE(l.x.front(), low);
            EXPECT_LE(l.x.back(), high);
        }
    }
    EXPECT_EQ(find<GridView>("slopes")->model()->rowCount(), 3);
    find<QComboBox>("panelsBy")->setCurrentIndex(0);
    ASSERT_TRUE(settle());
    std::size_t whole = 0;
    for (const auto& m : shown().marks)
        whole += m.rows.size();
    EXPECT_EQ(marks, whole);
}

TEST_F(Looks, OnLogarithmicScalesTheSlopeIsThatOfLogarithms) {
    look(demo + "/1_straight.json");
    clickLine("places");
    find<QComboBox>("scales")->setCurrentText("ln both");
    ASSERT_TRUE(settle());
    EXPECT_TRUE(shown().xLog && shown().yLog);
    EXPECT_TRUE(said().contains("1 % more places goes with")) << said().toStdString();
    // The drawn line is straight on these scales: equal ratios along, equal ratios up.
    const auto& line = shown().lines[0];
    const double up = std::log(line.y.back() / line.y.front()),
                 across = std::log(line.x.back() / line.x.front());
    const std::size_t middle = line.x.size() / 2;
    EXPECT_NEAR(std::log(line.y[middle] / line.y.front()) / std::log(line.x[middle] / line.x.front()),
                up / across, 1e-9);
    const auto extent = find<PlotFrame>("lookPlot")->extent();
    EXPECT_GT(extent[0], 0);
    EXPECT_LT(extent[0], line.x.front());
    press("add ln(places) to the terms");
    EXPECT_TRUE(hasTerm("ln(places)"));
}

TEST_F(Looks, CurvesOfGroupsAndMeansOfBandsAreDrawn) {
    look(demo + "/1_straight.json");
    clickLine("list_rate");
    find<QComboBox>("group")->setCurrentText("lines by contract");
    find<QComboBox>("shape")->setCurrentText("curves");
    ASSERT_TRUE(settle());
    ASSERT_EQ(shown().lines.size(), 3u);
    EXPECT_EQ(shown().lines[0].x.size(), 121u);
    // Rows have the colour of their level's curve.
    for (const auto& line : shown().lines) {
        for (const auto& marks : shown().marks) {
            if (marks.name == line.label) {
                EXPECT_EQ(*marks.colour, line.colour);
            }
        }
    }
    find<QComboBox>("group")->setCurrentIndex(0);
    find<QComboBox>("shape")->setCurrentText("means of bands");
    ASSERT_TRUE(settle());
    EXPECT_EQ(shown().lines.back().x.size(), 12u);
    EXPECT_EQ(shown().lines.size(), 13u);
}

TEST_F(Looks, TheResponseIsSeenAgainstNormalAndWithItsPowers) {
    look(demo + "/1_straight.json");
    press("distribution");
    find<QComboBox>("predictor")->setCurrentText("revenue");
    ASSERT_TRUE(settle());
    auto panels = window->findChildren<PlotFrame*>(QRegularExpression("^panel"));
    ASSERT_EQ(panels.size(), 2);
    EXPECT_EQ(panels[1]->content().xTitle, "ln revenue");
    find<QComboBox>("spread")->setCurrentText("against normal");
    ASSERT_TRUE(settle());
    EXPECT_EQ(panels[0]->content().xTitle, "normal quantile");
    EXPECT_GT(panels[0]->content().marks[0].rows.size(), 900u);
    find<QComboBox>("spread")->setCurrentText("powers");
    ASSERT_TRUE(settle());
    const auto& profile = shown().lines[0];
    const auto top = std::max_element(profile.y.begin(), profile.y.end()) - profile.y.begin();
    const auto& interval = shown().lines[1];
    EXPECT_GE(profile.x[static_cast<std::size_t>(top)], interval.x.front() - 0.1);
    EXPECT_LE(profile.x[static_cast<std::size_t>(top)], interval.x.back() + 0.1);
}

TEST_F(Looks, GroupsRunOnTheirOwnScalesAndAgainstThemselves) {
    look(demo + "/1_straight.json");
    press("over time");
    find<QComboBox>("group")->setCurrentText("lines by contract");
    find<QComboBox>("over")->setCurrentText("each on its own scale");
    ASSERT_TRUE(settle());
    const auto panels = window->findChildren<PlotFrame*>(QRegularExpression("^panel"));
    ASSERT_EQ(panels.size(), 3);
    EXPECT_EQ(panels[0]->extent()[0], panels[1]->extent()[0]);
    EXPECT_NE(panels[0]->extent()[2], panels[1]->extent()[2]);
    find<QComboBox>("summing")->setCurrentText("total");
    ASSERT_TRUE(settle());
    EXPECT_TRUE(panels[0]->accessibleName().contains(": total of revenue"));
    find<QComboBox>("over")->setCurrentText("against itself");
    ASSERT_TRUE(settle());
    ASSERT_EQ(shown().bars.size(), 1u);
    EXPECT_EQ(shown().bars[0].heights.size(), 18u); // half of 36 months
    find<QComboBox>("predictor")->setCurrentText("energy_price");
    find<QComboBox>("over")->setCurrentText("on one scale");
    ASSERT_TRUE(settle());
    EXPECT_TRUE(shown().yTitle.contains("energy_price"));
}

TEST_F(Looks, AMarkOnTheMapMarksAllRowsOfItsPlace) {
    look(demo + "/1_straight.json");
    press("map");
    auto* plot = find<PlotFrame>("lookPlot");
    plot->setFocus();
    QTest::keyClick(plot, Qt::Key_M);
    EXPECT_GT(session().markedCount(), 900u);
    EXPECT_EQ(plot->marksMarked(), 40u);
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
    // First as a matrix: columns that go together stand side by side.
    ASSERT_EQ(view->model()->rowCount(), 17);
    ASSERT_EQ(view->model()->columnCount(), 19);
    int bracketed = 0;
    for (int row = 0; row < 17; ++row) {
        EXPECT_TRUE(view->model()->index(row, row + 2).data().toString().isEmpty());
        bracketed += view->model()->index(row, 0).data(DrawingRole).canConvert<BracketDrawing>();
        for (int column = 0; column < row; ++column)
            EXPECT_EQ(view->model()->index(row, column + 2).data(RawValueRole),
                      view->model()->index(column, row + 2).data(RawValueRole));
    }
    EXPECT_GT(bracketed, 1);
    find<QComboBox>("pairsAs")->setCurrentText("as a list");
    ASSERT_TRUE(settle());
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
    const auto& shown = window->findChild<PlotFrame*>("panel0")->content();
    ASSERT_EQ(shown.bars.size(), 1u);
    EXPECT_TRUE(said().contains("Likeliest power")) << said().toStdString();
    double rows = 0;
    for (const double h : shown.bars[0].heights)
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
    QByteArray levels = "code,y\n";                            // a level a row
    for (int i = 0; i < 5000; ++i)
        levels += "c" + QByteArray::number(i) + "x," + QByteArray::number(i % 17) + "\n";
    std::vector<QByteArray> all = cases;
    all.push_back(levels);
    for (const QByteArray& bytes : all) {
        rows(bytes);
        for (const char* view : {"against a column", "distribution", "over time", "season", "map", "pairs"}) {
            press(view);
            EXPECT_FALSE(shown().summary.isEmpty() && QString(view) != "pairs")
                << view << " of " << bytes.toStdString();
            EXPECT_TRUE(window->failureShown().isEmpty()) << window->failureShown().toStdString();
        }
    }
}

} // namespace look_test
