// Plots and stations on odd rows: a sensible drawing or a sentence, never an empty box or a crash.
#include "app/brief/brief_bar.h"
#include "app_support.h"

#include <QMenu>
#include <QMouseEvent>
#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;

namespace plots_test {

class OddRows : public WindowTest, public testing::WithParamInterface<std::pair<const char*, const char*>> {};

PlotFrame::Content marksAt(std::vector<double> x, std::vector<double> y) {
    PlotFrame::Content content;
    content.xTitle = "x, km";
    content.yTitle = "y, EUR";
    PlotFrame::Marks marks{"rows", theme::Mark::learning, std::move(x), std::move(y), {}};
    for (std::size_t i = 0; i < marks.x.size(); ++i)
        marks.rows.push_back(10 + i);
    content.marks.push_back(std::move(marks));
    return content;
}

TEST_P(OddRows, AreShownInEveryStation) {
    const auto [name, text] = GetParam();
    QFile file(folder.filePath("odd.csv"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write(text);
    file.close();
    openFile(file.fileName());
    ASSERT_TRUE(session().hasRows()) << ss(window->failureShown());
    station(3);
    auto* terms = find<GridView>("terms");
    bool ticked = false;
    for (int row = 0; row < terms->model()->rowCount(); ++row) {
        const QModelIndex index = terms->model()->index(row, 0);
        if (index.data(Qt::CheckStateRole).toInt() == Qt::Unchecked) {
            terms->setCurrentIndex(index);
            QTest::keyClick(terms, Qt::Key_Space);
            ASSERT_TRUE(settle());
            ticked = true;
            break;
        }
    }
    EXPECT_TRUE(!ticked || session().evidence() || !window->failureShown().isEmpty())
        << "neither a fit nor a reason";
    for (int s = 1; s <= 6; ++s) {
        station(s);
        ASSERT_TRUE(settle());
        for (auto* plot : window->findChildren<PlotFrame*>()) {
            if (!plot->isVisible()) continue;
            EXPECT_TRUE(!plot->content().summary.isEmpty() || !plot->content().marks.empty())
                << "an empty box in station " << s;
            for (const double edge : plot->extent())
                EXPECT_TRUE(std::isfinite(edge));
        }
    }
}

INSTANTIATE_TEST_SUITE_P(
    Window, OddRows,
    testing::Values(std::pair{"constant", "x,y\n5,1\n5,2\n5,3\n5,4\n5,9\n"},
                    std::pair{"two_rows", "x,y\n1,2\n3,4\n"}, std::pair{"one_row", "x,y\n1,2\n"},
                    std::pair{"all_missing", "x,y\n?,1\n?,2\n?,3\n?,5\n"},
                    std::pair{"dates_only", "d,y\n2025-01-01,1\n2025-02-01,2\n2025-03-01,5\n2025-04-01,4\n"},
                    std::pair{"wide_range", "x,y\n1e-300,1\n1e300,2\n1,3\n2,5\n-1e300,4\n"},
                    std::pair{"one_group_row", "x,g,y\n1,a,1\n2,a,3\n3,a,2\n4,b,9\n5,a,5\n"},
                    std::pair{"one_column", "y\n1\n2\n4\n"}, std::pair{"no_spread", "x,y\n1,7\n2,7\n3,7\n"}),
    [](const auto& each) { return std::string(each.param.first); });

TEST(Plots, ClicksFindTheNearestMark) {
    PlotFrame plot("test");
    plot.resize(600, 400);
    static_cast<QWidget&>(plot).show();
    plot.show(marksAt({1, 2, 3}, {10, 30, 20}));
    std::vector<std::size_t> clicked;
    QObject::connect(&plot, &PlotFrame::rowClicked, [&](std::size_t row) { clicked.push_back(row); });
    for (const std::size_t row : {12u, 10u}) {
        const QPoint place = *plot.placeOfRow(row);
        QWidget* inner = plot.childAt(place);
        QTest::mouseClick(inner, Qt::LeftButton, {}, inner->mapFrom(&plot, place + QPoint(3, -2)));
    }
    EXPECT_EQ(clicked, (std::vector<std::size_t>{12, 10}));
    EXPECT_FALSE(plot.placeOfRow(99));
}

TEST(Plots, NothingToShowIsSaidInWords) {
    PlotFrame plot("test");
    plot.resize(400, 300);
    static_cast<QWidget&>(plot).show();
    plot.clear("Open rows first.");
    EXPECT_EQ(plot.accessibleDescription(), "Open rows first.");
    plot.show(marksAt({std::nan("")}, {std::nan("")}));
    for (const double edge : plot.extent())
        EXPECT_TRUE(std::isfinite(edge));
}

TEST(Plots, SharedScalesAreKept) {
    PlotFrame plot("test");
    plot.resize(400, 300);
    PlotFrame::Content content;
    content.bars.push_back({"", 0, 1, {3, 5, 2}, true, theme::learning});
    content.yRange = {-10.0, 10.0};
    plot.show(std::move(content));
    EXPECT_EQ(plot.extent()[2], -10);
    EXPECT_EQ(plot.extent()[3], 10);
    EXPECT_GE(plot.extent()[1], 5);
}

TEST(Plots, DraggingPansAndADoubleClickComesBack) {
    PlotFrame plot("test");
    plot.resize(600, 400);
    static_cast<QWidget&>(plot).show();
    plot.show(marksAt({1, 2, 3}, {10, 30, 20}));
    const auto whole = plot.extent();
    QWidget* inner = plot.childAt(plot.rect().center());
    QTest::mousePress(inner, Qt::LeftButton, {}, QPoint(300, 200));
    QMouseEvent move(QEvent::MouseMove, QPointF(220, 200), inner->mapToGlobal(QPointF(220, 200)),
                     Qt::NoButton, Qt::LeftButton, {});
    QApplication::sendEvent(inner, &move);
    QTest::mouseRelease(inner, Qt::LeftButton, {}, QPoint(220, 200));
    EXPECT_GT(plot.extent()[0], whole[0]);
    EXPECT_NEAR(plot.extent()[1] - plot.extent()[0], whole[1] - whole[0], 1e-9);
    QTest::mouseDClick(inner, Qt::LeftButton, {}, QPoint(300, 200));
    EXPECT_EQ(plot.extent(), whole);
}

TEST(Plots, ManyMarksBecomeADensityThatCountsThemAll) {
    PlotFrame plot("test");
    plot.resize(400, 300);
    std::vector<double> x, y;
    for (int i = 0; i < 40001; ++i) {
        x.push_back(i % 200);
        y.push_back(i / 200);
    }
    plot.show(marksAt(x, y));
    EXPECT_TRUE(plot.showsDensity());
    x.resize(40000);
    y.resize(40000);
    plot.show(marksAt(x, y));
    EXPECT_FALSE(plot.showsDensity());
}

class Sentences : public WindowTest {};

TEST_F(Sentences, TheBriefIsTrueInEveryState) {
    auto* brief = find<BriefBar>("briefBar");
    EXPECT_EQ(brief->sentence(), "Open rows to fit a model: a text file, a recipe or a project.");
    openFile(demo + "/trailer_quotes.csv");
    EXPECT_TRUE(brief->sentence().startsWith(
        "Predict price (a guess: click to choose another) from no terms yet by least squares"))
        << ss(brief->sentence());
    station(6);
    EXPECT_EQ(brief->sentence(), "Forecast price for rows to choose once there is a fit.");
    Recipe recipe = session().recipe();
    recipe.terms = {plainTerm("age"), plainTerm("make")};
    recipe.judge.reset();
    session().change(recipe);
    ASSERT_TRUE(settle());
    station(3);
    EXPECT_EQ(
        brief->sentence(),
        "Predict price from 2 terms by least squares, learning from 3,000 rows, judged on no rows held out.")
        << ss(brief->sentence());
    recipe.intercept = false;
    session().change(recipe);
    ASSERT_TRUE(settle());
    EXPECT_NE(brief->sentence().indexOf("least squares without a constant"), -1);
}

TEST_F(Sentences, TheResponseIsChangedFromTheBrief) {
    openFile(demo + "/trailer_quotes.csv");
    for (auto* part : window->findChildren<QPushButton*>("briefPart"))
        if (part->isVisible() && part->property("part") == "response") click(part);
    QMenu* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
    ASSERT_NE(menu, nullptr);
    for (auto* action : menu->actions())
        if (action->text() == "kilometres") action->trigger();
    menu->close();
    ASSERT_TRUE(settle());
    EXPECT_EQ(session().recipe().response, "kilometres");
}

TEST_F(Sentences, LookAddsAPairWithItsParents) {
    openFile(demo + "/1_straight.json");
    station(2);
    find<QComboBox>("predictor")->setCurrentText("promotion");
    find<QComboBox>("group")->setCurrentText("lines by region");
    ASSERT_TRUE(settle());
    click(button("add promotion × region to the terms"));
    ASSERT_TRUE(settle());
    std::vector<std::string> names;
    for (const Term& term : session().recipe().terms)
        names.push_back(termName(term));
    EXPECT_EQ((std::vector<std::string>(names.end() - 3, names.end())),
              (std::vector<std::string>{"promotion", "region", "promotion × region"}));
}

TEST_F(Sentences, TheForecastLevelIsChangedFromTheBrief) {
    openFile(demo + "/1_straight.json");
    station(6);
    const double before = session().evidence()->forecast->upper[0] - session().evidence()->forecast->lower[0];
    session().setForecastLevel(0.5);
    ASSERT_TRUE(settle());
    const double after = session().evidence()->forecast->upper[0] - session().evidence()->forecast->lower[0];
    EXPECT_NEAR(after / before, 0.6748 / 1.9624, 0.002)
        << "ratio of the t quantiles at 50 % and 95 %, 988 degrees of freedom";
    EXPECT_NE(find<BriefBar>("briefBar")->sentence().indexOf("50 % intervals"), -1);
}

TEST_F(Sentences, AForecastFileThatLacksAColumnIsToldAndNothingIsLost) {
    openFile(demo + "/1_straight.json");
    QFile file(folder.filePath("plan.csv"));
    ASSERT_TRUE(file.open(QIODevice::WriteOnly));
    file.write("places,occupancy\n100,50\n");
    file.close();
    station(6);
    const auto before = session().evidence();
    files.toOpen = file.fileName();
    click(find<QPushButton>("chooseForecast"));
    ASSERT_TRUE(settle());
    EXPECT_NE(window->failureShown().indexOf("there is no column \"list_rate\""), -1)
        << ss(window->failureShown());
    EXPECT_EQ(session().evidence(), before);
}

} // namespace plots_test
