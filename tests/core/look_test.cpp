// Readings for looks. Values in look.json are made by tests/reference/make/look_values.py from the published
// rows: lines, correlations and moments with mpmath at 50 digits, the rest by the library named there.
#include "look/curve.h"
#include "look/density.h"
#include "look/distribution.h"
#include "look/levels.h"
#include "look/lines.h"
#include "look/pairs.h"
#include "look/places.h"
#include "look/points.h"
#include "look/ranking.h"
#include "look/series.h"
#include "share/look_text.h"
#include "support/support.h"
#include "table/summary.h"

#include "base/random.h"
#include "base/text.h"

#include <algorithm>
#include <numeric>
#include <set>

#include <nlohmann/json.hpp>

using namespace oxgoad;
using namespace oxgoad::test;

namespace look_test {

const nlohmann::json& look() {
    static const nlohmann::json values = publishedJson("look");
    return values;
}

const Table& tableOf(const char* name) {
    static std::map<std::string, Table> tables;
    auto& table = tables[name];
    if (table.columns().empty()) table = publishedRows(name).learning.table;
    return table;
}

std::vector<double> values(const Table& table, const std::string& name) {
    const NumberView view(table.at(name, {}));
    return {view.values().begin(), view.values().end()};
}

/// Codes 0, 1, … of the distinct values, in the order of the values.
std::vector<std::int32_t> codesOf(const std::vector<double>& values) {
    std::set<double> distinct(values.begin(), values.end());
    std::vector<std::int32_t> codes;
    for (const double v : values)
        codes.push_back(static_cast<std::int32_t>(std::distance(distinct.begin(), distinct.find(v))));
    return codes;
}

Table asFactors(const Table& table, const std::vector<std::string>& names) {
    std::vector<Column> columns;
    for (const Column& c : table.columns())
        columns.push_back(std::find(names.begin(), names.end(), c.name()) != names.end()
                              ? c.converted(ColumnKind::factor).column
                              : c);
    return Table(columns);
}

constexpr double none = std::numeric_limits<double>::quiet_NaN();
constexpr double inf = std::numeric_limits<double>::infinity();

TEST(Lines, SlopesOfBothSexesAndTheirTestAgreeWithFiftyDigitArithmetic) {
    const Table& t = tableOf("diabetes");
    const auto lines = groupLines(values(t, "bmi"), values(t, "y"), codesOf(values(t, "sex")), 2);
    const auto& expected = look()["equal_slopes"];
    ASSERT_EQ(lines.lines.size(), 2u);
    for (std::size_t g = 0; g < 2; ++g) {
        const auto& e = expected["groups"][std::to_string(g + 1)];
        const GroupLine& line = lines.lines[g];
        EXPECT_EQ(line.rows, e["rows"].get<std::size_t>());
        EXPECT_GT(digits(line.slope, e["slope"]), 12);
        EXPECT_GT(digits(line.intercept, e["intercept"]), 12);
        EXPECT_GT(digits(line.slopeError, e["slope_error"]), 12);
        EXPECT_GT(digits(line.rSquared, e["r_squared"]), 12);
        EXPECT_GT(digits(line.spreadX, e["sxx"]), 12);
    }
    ASSERT_TRUE(lines.equalSlopes);
    EXPECT_GT(digits(lines.equalSlopes->f, expected["f"]), 11);
    EXPECT_EQ(lines.equalSlopes->numeratorDf, 1);
    EXPECT_EQ(lines.equalSlopes->denominatorDf, 438);
    EXPECT_GT(digits(lines.equalSlopes->p, expected["p"]), 11);
    EXPECT_GT(digits(lines.equalSlopes->commonSlope, expected["common_slope"]), 12);
}

TEST(Lines, AnscombesFourSetsShareALine) {
    // Anscombe 1973, "Graphs in statistical analysis": y = 3.00 + 0.500x in each set; exact values beside it.
    const auto exact = publishedJson("anscombe");
    const Table& t = tableOf("anscombe");
    const Column* group = nullptr;
    for (const Column& c : t.columns())
        if (c.kind() == ColumnKind::factor) group = &c;
    ASSERT_NE(group, nullptr);
    const auto lines = groupLines(values(t, "x"), values(t, "y"), group->codes(), group->levels().size());
    ASSERT_EQ(lines.lines.size(), 4u);
    for (const GroupLine& line : lines.lines) {
        const auto& e = exact["results"][group->levels()[static_cast<std::size_t>(line.level)]];
        EXPECT_GE(digits(line.intercept, e["coef"][0]), 13);
        EXPECT_GE(digits(line.slope, e["coef"][1]), 13);
        EXPECT_GE(digits(line.slopeError, e["se"][1]), 13);
        EXPECT_GE(digits(line.rSquared, e["r2"]), 13);
    }
    EXPECT_GT(lines.equalSlopes->p, 0.99);
}

TEST(Lines, HaveTheirGroupsOwnRangeAndGroupsThatCannotHaveOneAreNamed) {
    const std::vector<double> x{1, 2, 3, 10, 20, 30, 5, 7, 7, 7, none, inf};
    const std::vector<double> y{1, 2, 4, 1, 0, 2, 5, 1, 2, 3, 1, 1};
    const std::vector<std::int32_t> g{0, 0, 0, 1, 1, 1, 2, 3, 3, 3, 0, 1};
    const auto lines = groupLines(x, y, g, 5);
    ASSERT_EQ(lines.lines.size(), 2u);
    EXPECT_EQ(lines.lines[0].low, 1);
    EXPECT_EQ(lines.lines[0].high, 3);
    EXPECT_EQ(lines.lines[1].low, 10);
    EXPECT_EQ(lines.lines[1].high, 30);
    EXPECT_EQ(lines.without,
              (std::vector<std::int32_t>{2, 3})); // one row; no spread in x; level 4 has no rows
}

TEST(Lines, KeepTheirDigitsAtTheEndsOfTheRangeOfDoubles) {
    for (const double size : {1e-300, 1e-150, 1.0, 1e150, 1e300}) {
        const std::vector<double> x{1 * size, 2 * size, 3 * size, 4 * size};
        const std::vector<double> y{2 / size, 4.1 / size, 5.9 / size, 8 / size};
        const auto lines = groupLines(x, y, {}, 0);
        ASSERT_EQ(lines.lines.size(), 1u) << size;
        EXPECT_GT(digits(lines.lines[0].rSquared, 98.01 / 98.1), 12) << size; // by hand
        EXPECT_GT(digits(lines.lines[0].at(2.5 * size), 5 / size), 14) << size;
    }
}

TEST(Lines, TheBandIsNarrowestAtTheMeanAndHasTheTextbookWidth) {
    const std::vector<double> x{1, 2, 3, 4, 5};
    const std::vector<double> y{1, 3, 2, 5, 4};
    const GroupLine line = groupLines(x, y, {}, 0).lines[0];
    // By hand: slope 0.8, s² = (10 - 6.4)/3 = 1.2, Sxx = 10.
    EXPECT_NEAR(line.slope, 0.8, 1e-15);
    EXPECT_NEAR(line.residualStandardDeviation, std::sqrt(1.2), 1e-15);
    EXPECT_NEAR(line.errorAt(3), std::sqrt(1.2 / 5), 1e-15);
    EXPECT_NEAR(line.errorAt(5), std::sqrt(1.2 * (0.2 + 0.4)), 1e-15);
    EXPECT_NEAR(line.slopeUpper - line.slope, 3.182446305284263 * std::sqrt(0.12),
                1e-12); // t(0.975; 3), tables
}

TEST(Ranking, CorrelationsAgreeWithTheReferenceAndAreTheSameForAnyNumberOfThreads) {
    const Table& t = tableOf("diabetes");
    const std::vector<std::string> names = look()["holm"]["names"];
    const auto y = values(t, "y");
    std::size_t told = 0;
    const auto ranked =
        rankColumns(t, y, {}, names, {1}, quietly(),
                    [&](std::size_t i, const RankedColumn& r) { told += r.name == names[i]; });
    EXPECT_EQ(told, names.size());
    const auto again = rankColumns(t, y, {}, names, {3}, quietly());
    for (std::size_t c = 0; c < names.size(); ++c) {
        const double r = look()["pearson"][names[c]];
        EXPECT_GT(digits(ranked[c].straight, r * r), 12) << names[c];
        EXPECT_EQ(ranked[c].direction, r > 0 ? 1 : -1);
        EXPECT_GT(digits(ranked[c].rankCorrelation, look()["spearman"][names[c]]), 12) << names[c];
        EXPECT_GT(digits(ranked[c].p, look()["holm"]["p"][c]), 10) << names[c];
        EXPECT_GT(digits(ranked[c].pAdjusted, look()["holm"]["adjusted"][c]), 10) << names[c];
        EXPECT_EQ(ranked[c].curved, again[c].curved);
        EXPECT_EQ(ranked[c].straight, again[c].straight);
    }
}

TEST(Ranking, LevelMeansAgreeWithCertifiedAnalysisOfVariance) { // NIST StRD SiRstv
    const auto certified = publishedJson("nist_anova_sirstv");
    const Table t =
        asFactors(tableOf("nist_anova_sirstv"), {tableOf("nist_anova_sirstv").columns()[0].name()});
    const auto y = values(t, t.columns()[1].name());
    const auto ranked = rankColumns(t, y, {}, {t.columns()[0].name()}, {}, quietly());
    const double r2 = certified["certified"]["r2"];
    const double f = certified["certified"]["F"];
    EXPECT_GT(digits(ranked[0].straight, r2), 10);
    EXPECT_GT(digits(ranked[0].straight / 4 / ((1 - ranked[0].straight) / 20), f), 10);
}

TEST(Ranking, AColumnWithGapsIsRankedOverTheRowsItHas) {
    const std::size_t n = 300;
    RandomStream random(3, "gaps");
    std::vector<double> x(n), y(n), shortX, shortY;
    for (std::size_t i = 0; i < n; ++i) {
        x[i] = std::floor(20 * random.uniform()); // many equal values
        y[i] = std::floor(x[i] / 3 + 3 * random.normal());
        if (i % 4 == 1) x[i] = none;
        if (i % 4 != 1) {
            shortX.push_back(x[i]);
            shortY.push_back(y[i]);
        }
    }
    const Table t({Column::ofNumbers("x", x)});
    const auto r = rankColumns(t, y, {}, {"x"}, {}, quietly())[0];
    EXPECT_EQ(r.rows, shortX.size());
    EXPECT_NEAR(r.missingShare, 0.25, 1e-12);
    // Spearman is Pearson of the mean ranks.
    const auto lines = groupLines(ranksOf(shortX), ranksOf(shortY), {}, 0).lines[0];
    EXPECT_NEAR(r.rankCorrelation * r.rankCorrelation, lines.rSquared, 1e-12);
}

TEST(Ranking, NoiseExplainsNothingOfUnseenRowsAndABendIsSeen) {
    const std::size_t n = 2000;
    RandomStream random(11, "bend");
    std::vector<double> noise(n), bent(n), straight(n), y(n);
    std::vector<std::int32_t> manyLevels(n);
    std::vector<std::string> names;
    for (int k = 0; k < 500; ++k)
        names.push_back("level " + std::to_string(k));
    for (std::size_t i = 0; i < n; ++i) {
        noise[i] = random.normal();
        bent[i] = random.uniform();
        straight[i] = random.normal();
        manyLevels[i] = static_cast<std::int32_t>(random.below(500));
        y[i] = 8 * (bent[i] - 0.5) * (bent[i] - 0.5) + 0.3 * straight[i] + 0.2 * random.normal();
    }
    const Table t({Column::ofNumbers("noise", noise), Column::ofNumbers("bent", bent),
                   Column::ofNumbers("straight", straight), Column::ofFactor("many", manyLevels, names)});
    const auto r = rankColumns(t, y, {}, {"noise", "bent", "straight", "many"}, {}, quietly());
    EXPECT_LT(r[0].curved, 0.005);
    EXPECT_LT(r[1].straight, 0.02);
    EXPECT_GT(r[1].curved, 0.6);
    EXPECT_GT(r[1].bend(), 0.6);
    EXPECT_LT(r[2].bend(), 0.005);
    EXPECT_NEAR(r[2].curved, r[2].straight, 0.02);
    EXPECT_GT(r[3].straight, 0.15); // 500 level means flatter themselves
    EXPECT_LT(r[3].curved, 0.0);    // unseen rows do not
    EXPECT_GT(r[3].pAdjusted, 0.01);
}

TEST(Ranking, OddColumnsHaveNoNumbersInsteadOfWrongOnes) {
    const Table t({Column::ofNumbers("constant", {3, 3, 3, 3, 3}),
                   Column::ofNumbers("gone", {none, none, none, none, none}),
                   Column::ofNumbers("infinite", {inf, -inf, inf, none, inf}),
                   Column::ofFactor("one level", {0, 0, 0, 0, 0}, {"a"}),
                   Column::ofNumbers("wide", {1e-300, 1e300, 1, 2, 3})});
    const std::vector<double> y{1, 2, 3, 4, 7};
    const auto r =
        rankColumns(t, y, {}, {"constant", "gone", "infinite", "one level", "wide"}, {}, quietly());
    EXPECT_TRUE(std::isnan(r[0].straight));
    EXPECT_TRUE(std::isnan(r[1].straight));
    EXPECT_EQ(r[1].missingShare, 1);
    EXPECT_EQ(r[2].rows, 0u);
    EXPECT_TRUE(std::isnan(r[3].p));
    EXPECT_TRUE(std::isfinite(r[4].straight));
}

TEST(Ranking, StopsWhenTold) {
    struct Stopping : Progress {
        bool stopRequested() const override { return true; }
    } stopping;
    EXPECT_THROW(
        rankColumns(tableOf("diabetes"), values(tableOf("diabetes"), "y"), {}, {"bmi"}, {}, stopping),
        Stopped);
}

TEST(Holm, KeepsTheOrderOfPAndNeverPassesOne) {
    const auto adjusted = holmAdjusted(std::vector<double>{0.01, 0.04, none, 0.03, 0.005, 0.9});
    // Five p values: 0.005·5, 0.01·4, 0.03·3, max(0.04·2, …), 0.9 (Holm 1979).
    EXPECT_NEAR(adjusted[4], 0.025, 1e-15);
    EXPECT_NEAR(adjusted[0], 0.04, 1e-15);
    EXPECT_NEAR(adjusted[3], 0.09, 1e-15);
    EXPECT_NEAR(adjusted[1], 0.09, 1e-15);
    EXPECT_NEAR(adjusted[5], 0.9, 1e-15);
    EXPECT_TRUE(std::isnan(adjusted[2]));
}

TEST(SortedOrder, IsStableAndPutsMissingLastByBothMethods) {
    for (const std::size_t n : {100u, 10000u}) {
        RandomStream random(5, "order");
        std::vector<double> v(n);
        for (double& x : v)
            x = random.uniform() < 0.1 ? none : std::floor(50 * random.normal());
        v[3] = -0.0;
        v[4] = 0.0;
        const auto order = sortedOrder(v);
        for (std::size_t k = 1; k < n; ++k) {
            const double a = v[order[k - 1]], b = v[order[k]];
            if (std::isnan(a)) {
                EXPECT_TRUE(std::isnan(b));
            } else if (!std::isnan(b)) {
                ASSERT_LE(a, b);
            }
            if (a == b) {
                EXPECT_LT(order[k - 1], order[k]);
            }
        }
    }
}

TEST(Curve, FollowsABendAndReducesToALineWhereThereIsNone) {
    RandomStream random(2, "curve");
    std::vector<double> x, bent, line;
    for (int i = 0; i < 500; ++i) {
        x.push_back(10 + 80 * random.uniform());
        bent.push_back(100 * (1 - std::exp(-x.back() / 30)) + random.normal());
        line.push_back(3 - 2 * x.back() + random.normal());
    }
    const auto curve = fitCurve(x, bent);
    ASSERT_TRUE(curve);
    for (const double at : {15.0, 30.0, 50.0, 85.0}) {
        EXPECT_NEAR(curve->at(at), 100 * (1 - std::exp(-at / 30)), 0.6) << at;
        EXPECT_LT(std::fabs(curve->at(at) - 100 * (1 - std::exp(-at / 30))), 4 * curve->errorAt(at)) << at;
    }
    EXPECT_NEAR(curve->residualStandardDeviation, 1, 0.1);
    const auto straight = fitCurve(x, line);
    ASSERT_TRUE(straight);
    EXPECT_LT(straight->degreesOfFreedom, 3.5);
    EXPECT_NEAR((straight->at(60) - straight->at(40)) / 20, -2, 0.03);
}

TEST(Curve, IsNearTheSmoothingSplineOfAnotherLibraryOnTheNile) {
    const Table& t = tableOf("nile");
    const auto curve = fitCurve(values(t, "year"), values(t, "volume"));
    const auto& reference = look()["smoothing_spline_nile"];
    // Another penalty (factor 1 instead of 1.4) and fewer knots: the same shape, somewhat smoother.
    EXPECT_LT(curve->rSquared, reference["r_squared"].get<double>());
    for (std::size_t k = 0; k < 10; ++k)
        EXPECT_NEAR(curve->at(1871 + 10.0 * static_cast<double>(k)), reference["fitted"][k].get<double>(),
                    120)
            << k;
}

TEST(Curve, DoesNotDependOnUnitsOrThreads) {
    RandomStream random(4, "units");
    std::vector<double> x, y, x2, y2;
    for (int i = 0; i < 70000; ++i) {
        x.push_back(random.normal());
        y.push_back(std::sin(2 * x.back()) + random.normal());
        x2.push_back(1e6 + 1000 * x.back());
        y2.push_back(1e-9 * y.back());
    }
    const auto one = fitCurve(x, y, {1});
    const auto three = fitCurve(x, y, {3});
    const auto scaled = fitCurve(x2, y2, {2});
    for (const double at : {-2.0, -0.5, 0.0, 1.3}) {
        EXPECT_EQ(one->at(at), three->at(at));
        EXPECT_EQ(one->errorAt(at), three->errorAt(at));
        EXPECT_NEAR(1e9 * scaled->at(1e6 + 1000 * at), one->at(at), 1e-5);
    }
}

TEST(Curve, HasItsNominalCoverageAcrossTheRange) { // Nychka (1988): on average over the range
    RandomStream random(9, "coverage");
    std::size_t covered = 0, asked = 0;
    for (int run = 0; run < 60; ++run) {
        std::vector<double> x, y;
        for (int i = 0; i < 200; ++i) {
            x.push_back(random.uniform());
            y.push_back(std::sin(6 * x.back()) + 0.5 * random.normal());
        }
        const auto curve = fitCurve(x, y);
        for (double at = 0.02; at < 1; at += 0.04) {
            covered += std::fabs(curve->at(at) - std::sin(6 * at)) < 1.96 * curve->errorAt(at);
            ++asked;
        }
    }
    const double share = static_cast<double>(covered) / static_cast<double>(asked);
    EXPECT_GT(share, 0.90);
    EXPECT_LT(share, 0.99);
}

TEST(Curve, CrossValidationOfTheLineIsThatOfTenRefits) {
    const Table& t = tableOf("diabetes");
    const auto x = values(t, "bmi"), y = values(t, "y");
    double error = 0, base = 0, curveError = 0;
    for (unsigned fold = 0; fold < 10; ++fold) {
        std::vector<double> learnX, learnY;
        for (std::size_t i = 0; i < x.size(); ++i)
            if (foldOf(i) != fold) {
                learnX.push_back(x[i]);
                learnY.push_back(y[i]);
            }
        const GroupLine line = groupLines(learnX, learnY, {}, 0).lines[0];
        const auto curve = fitCurve(learnX, learnY);
        for (std::size_t i = 0; i < x.size(); ++i)
            if (foldOf(i) == fold) {
                error += std::pow(y[i] - line.at(x[i]), 2);
                base += std::pow(y[i] - line.meanY, 2);
                curveError += std::pow(y[i] - curve->at(x[i]), 2);
            }
    }
    const CrossValidated cv = crossValidateCurve(x, y);
    EXPECT_GT(digits(cv.line, 1 - error / base), 11);
    EXPECT_NEAR(cv.curve, 1 - curveError / base, 0.005); // knots of the folds differ a little
}

TEST(Curve, FewPointsGiveNoCurve) {
    EXPECT_FALSE(fitCurve(std::vector<double>{1, 2}, std::vector<double>{1, 2}));
    EXPECT_FALSE(fitCurve(std::vector<double>{1, 1, 1, 1, 1, 1}, std::vector<double>{1, 2, 3, 4, 5, 6}));
    EXPECT_FALSE(
        fitCurve(std::vector<double>{-1e308, 1e308, 0, 1, 2, 3}, std::vector<double>{1, 2, 3, 4, 5, 6}));
    EXPECT_TRUE(fitCurve(std::vector<double>{1, 2, 3, 4, 5, 6}, std::vector<double>{1, 2, 2, 4, 5, 6}));
}

TEST(Boxes, AgreeWithTheReferenceAndStandInTheOrderOfMedians) {
    const auto spots = values(tableOf("sunspots"), "sunspots");
    const auto box = boxOf(spots);
    const auto& e = look()["box_sunspots"];
    EXPECT_EQ(box->lowerQuartile, e["quartiles"][0].get<double>());
    EXPECT_EQ(box->median, e["quartiles"][1].get<double>());
    EXPECT_EQ(box->upperQuartile, e["quartiles"][2].get<double>());
    EXPECT_NEAR(box->upperFence, e["fences"][1].get<double>(), 1e-12);
    EXPECT_EQ(box->lowerWhisker, e["whiskers"][0].get<double>());
    EXPECT_EQ(box->upperWhisker, e["whiskers"][1].get<double>());
    EXPECT_EQ(box->beyond, e["beyond"].get<std::size_t>());
    const auto boxes = boxesByLevel(std::vector<double>{5, 6, 1, 2, none, 9, 3},
                                    std::vector<std::int32_t>{0, 0, 1, 1, 1, -1, 2}, 4);
    ASSERT_EQ(boxes.size(), 3u);
    EXPECT_EQ(boxes[0].level, 1);
    EXPECT_EQ(boxes[1].level, 2);
    EXPECT_EQ(boxes[2].level, 0);
    EXPECT_EQ(boxes[1].lowerWhisker, 3); // one row
}

TEST(Bands, HoldAboutTheSameRowsAndKeepEqualValuesTogether) {
    std::vector<double> x, y;
    for (int i = 0; i < 100; ++i) {
        x.push_back(i < 30 ? 0 : i);
        y.push_back(i);
    }
    const auto bands = meansByBand(x, y, 10);
    ASSERT_EQ(bands.size(), 8u);
    EXPECT_EQ(bands[0].rows, 30u);
    EXPECT_EQ(bands[0].mean, 14.5);
    EXPECT_EQ(bands[1].rows, 10u);
    EXPECT_NEAR(bands[1].mean, 34.5, 1e-12);
    // t(0.975; 9) = 2.262157 (tables) · s/√n, s² of ten consecutive whole numbers = 9.1666…
    EXPECT_NEAR(bands[1].upper - bands[1].mean, 2.2621571627 * std::sqrt(55.0 / 6 / 10), 1e-8);
}

TEST(Distribution, MomentsAgreeWithFiftyDigitArithmetic) {
    const auto m = momentsOf(values(tableOf("sunspots"), "sunspots"));
    const auto& e = look()["moments_sunspots"];
    EXPECT_GT(digits(m.mean, e["mean"]), 14);
    EXPECT_GT(digits(m.standardDeviation, e["sd"]), 14);
    EXPECT_GT(digits(m.skewness, e["skewness"]), 13);
    EXPECT_GT(digits(m.excessKurtosis, e["kurtosis"]), 13);
}

TEST(Distribution, BoxCoxAgreesWithRootsFoundByMultipleArithmetic) {
    for (const auto& [name, table, column] :
         {std::tuple{"diabetes_target", "diabetes", "y"}, {"nile_volume", "nile", "volume"}}) {
        const auto fit = boxCox(values(tableOf(table), column), 0.95, {2}, quietly());
        const auto& e = look()["box_cox"][name];
        ASSERT_TRUE(fit);
        EXPECT_NEAR(fit->lambda, e["lambda_"].get<double>(), 2e-6) << name;
        EXPECT_NEAR(fit->lower, e["lower"].get<double>(), 2e-6) << name;
        EXPECT_NEAR(fit->upper, e["upper"].get<double>(), 2e-6) << name;
        EXPECT_GT(digits(fit->logLikelihood, e["log_likelihood"]), 12) << name;
    }
    EXPECT_EQ(boxCox(values(tableOf("nile"), "volume"), 0.95, {}, quietly())->plain, 1); // 1 lies within
    EXPECT_NEAR(boxCox(values(tableOf("diabetes"), "y"), 0.95, {}, quietly())->plain, 1.0 / 3, 1e-15);
    EXPECT_FALSE(boxCox(std::vector<double>{1, 2, 3, 4, 0}, 0.95, {}, quietly()));
    EXPECT_FALSE(boxCox(std::vector<double>{2, 2, 2, 2, 2, 2}, 0.95, {}, quietly()));
    // From the smallest to the largest double the logarithms are still plain numbers.
    EXPECT_TRUE(boxCox(std::vector<double>{1e-300, 1e-150, 1, 1e150, 1e300}, 0.95, {}, quietly()));
}

TEST(Distribution, NormalQuantilesAgreeWithTheReference) {
    const auto volume = values(tableOf("nile"), "volume");
    const auto q = normalQuantiles(volume);
    EXPECT_GT(digits(q->normal.front(), look()["normal_quantiles_nile"]["first"]), 13);
    EXPECT_GT(digits(q->correlation, look()["normal_quantiles_nile"]["correlation"]), 12);
    for (std::size_t k = 0; k < q->value.size(); ++k)
        EXPECT_EQ(q->value[k], volume[q->place[k]]);
    EXPECT_FALSE(normalQuantiles(std::vector<double>{1, none}));
}

TEST(Distribution, TheDensityIsThatOfTheKernelAndCountsAllRowsOnce) {
    const auto volume = values(tableOf("nile"), "volume");
    const auto d = smoothDensity(volume);
    double area = 0;
    for (const double h : d->height)
        area += h * d->step;
    EXPECT_NEAR(area, 1, 0.005); // three bandwidths beyond the ends
    const std::size_t at = 200;
    double direct = 0;
    for (const double v : volume) {
        const double z = (d->low + d->step * at - v) / d->bandwidth;
        direct +=
            std::exp(-z * z / 2) / (std::sqrt(2 * M_PI) * d->bandwidth * static_cast<double>(volume.size()));
    }
    EXPECT_NEAR(d->height[at], direct, 1e-3 * direct);
    const auto h = histogram(volume);
    EXPECT_EQ(std::accumulate(h->counts.begin(), h->counts.end(), std::size_t{0}), 100u);
    EXPECT_FALSE(histogram({none, inf}));
    EXPECT_FALSE(histogram({-1e308, 1e308}));
    EXPECT_EQ(histogram({4, 4, 4})->counts.size(), 5u);
}

TEST(Series, AutocorrelationAgreesWithTheReference) {
    const auto reference = publishedJson("forecasting")["autocorrelation"]["results"];
    for (const auto& [name, column] : {std::pair{"nile", "volume"}, {"sunspots", "sunspots"}}) {
        const auto r = autocorrelation(values(tableOf(name), column), 20);
        for (std::size_t k = 0; k < r.size(); ++k)
            EXPECT_GT(digits(r[k], reference[name]["acf"][k + 1]), 12) << name << k;
    }
    EXPECT_TRUE(autocorrelation(std::vector<double>{2, 2, 2}, 5).empty());
}

TEST(Series, TheSeasonOfElectricalEquipmentAgreesWithAnotherLibrary) {
    const auto& table = tableOf("elec_equip");
    std::vector<double> days;
    for (std::size_t i = 0; i < table.rows(); ++i) // monthly from January 1995
        days.push_back(firstDayOf(25 * 12 + static_cast<std::int64_t>(i), Period::month));
    const Series series = seriesOf(days, values(table, "index"), Period::month, Summing::mean);
    EXPECT_EQ(series.time.size(), 257u);
    EXPECT_EQ(series.gaps, 0u);
    EXPECT_EQ(periodText(series.time.front(), Period::month), "Jan 1995");
    const auto season = seasonOf(series);
    const auto& e = look()["season_elec_equip"];
    ASSERT_TRUE(season);
    EXPECT_EQ(season->numeratorDf, e["df1"].get<double>());
    EXPECT_EQ(season->denominatorDf, e["df2"].get<double>());
    EXPECT_GT(digits(season->f, e["f"]), 10);
    EXPECT_GT(digits(season->share, e["share"]), 10);
    EXPECT_GT(digits(season->p, e["p"]), 7);
}

TEST(Series, PeriodsFollowTheCalendarOnBothSidesOf1970) {
    const auto day = [](int y, unsigned m, unsigned d) {
        return static_cast<double>(*daysFromCivil(y, m, d));
    };
    const std::vector<double> days{day(1969, 12, 31), day(1970, 1, 1), day(1970, 1, 31), day(1970, 4, 1),
                                   none};
    const std::vector<double> y{1, 2, 3, 4, 5};
    const Series months = seriesOf(days, y, Period::month, Summing::total);
    EXPECT_EQ(months.time, (std::vector<std::int64_t>{-1, 0, 3}));
    EXPECT_EQ(months.value, (std::vector<double>{1, 5, 4}));
    EXPECT_EQ(months.rows, (std::vector<std::size_t>{1, 2, 1}));
    EXPECT_EQ(months.gaps, 2u);
    const Series quarters = seriesOf(days, y, Period::quarter, Summing::mean);
    EXPECT_EQ(quarters.time, (std::vector<std::int64_t>{-1, 0, 1}));
    EXPECT_EQ(quarters.value[1], 2.5);
    EXPECT_EQ(periodText(-1, Period::quarter), "1969 Q4");
    EXPECT_EQ(periodText(-1, Period::month), "Dec 1969");
    EXPECT_EQ(firstDayOf(1969, Period::year), *daysFromCivil(1969, 1, 1));
    EXPECT_EQ(fittingPeriod(days), Period::day);
    EXPECT_EQ(fittingPeriod(std::vector<double>{day(2024, 1, 1), day(2024, 2, 1), day(2024, 3, 1)}),
              Period::month);
    EXPECT_EQ(fittingPeriod(std::vector<double>{day(2022, 1, 1), day(2023, 1, 1), day(2024, 1, 1)}),
              Period::year);
    EXPECT_FALSE(seasonOf(months));
    EXPECT_TRUE(seriesOf(std::vector<double>{none}, std::vector<double>{1}, Period::month, Summing::mean)
                    .value.empty());
}

TEST(Places, MoransExpectationAndDeviationAreThoseOfAllPermutations) {
    // 7 places on a line with unequal weights: 5,040 permutations instead of the formula.
    constexpr std::size_t n = 7;
    std::vector<double> weights(n * n, 0);
    for (std::size_t i = 0; i + 1 < n; ++i)
        weights[i * n + i + 1] = weights[(i + 1) * n + i] = 1 + static_cast<double>(i % 3);
    weights[0 * n + 6] = 2; // one way only
    std::vector<double> v{1, 2, 4, 7, 5, 11, 3};
    const auto m = moran(v, weights);
    ASSERT_TRUE(m);
    std::sort(v.begin(), v.end());
    double sum = 0, squares = 0, count = 0;
    do {
        const double i = moran(v, weights)->i;
        sum += i;
        squares += i * i;
        count += 1;
    } while (std::next_permutation(v.begin(), v.end()));
    EXPECT_EQ(count, 5040);
    EXPECT_NEAR(m->expected, sum / count, 1e-12);
    EXPECT_NEAR(m->deviation, std::sqrt(squares / count - sum / count * sum / count), 1e-12);
}

TEST(Places, GatherRowsAndRefuseCoordinatesThatAreNone) {
    const std::vector<double> lon{9.15, 9.15, 10, 181, none, -180};
    const std::vector<double> lat{53.5, 53.5, 54, 10, 10, 91};
    const std::vector<double> y{1, 3, none, 1, 1, 1};
    const Places p = placesOf(lon, lat, y, {});
    ASSERT_EQ(p.places.size(), 2u);
    EXPECT_EQ(p.places[0].rows, 2u);
    EXPECT_EQ(p.places[0].mean, 2);
    EXPECT_TRUE(std::isnan(p.places[1].mean));
    EXPECT_EQ(p.outOfRange, 2u);
    EXPECT_EQ(p.missing, 1u);
    EXPECT_EQ(p.placeOfRow, (std::vector<std::int32_t>{0, 0, 1, -1, -1, -1}));
    EXPECT_NEAR(p.proportion, std::cos(53.75 * M_PI / 180), 1e-12);
    EXPECT_FALSE(moran(p.places));
}

TEST(Places, NeighboursAreAlikeWhereThereIsAGradientAndNotInNoise) {
    RandomStream random(7, "places");
    std::vector<Place> gradient, noise;
    for (int k = 0; k < 60; ++k) {
        Place p{10 * random.uniform(), 50 + 5 * random.uniform(), 1, 0, 0};
        p.mean = p.longitude + 0.3 * random.normal();
        gradient.push_back(p);
        p.mean = random.normal();
        noise.push_back(p);
    }
    EXPECT_LT(moran(gradient)->p, 1e-10);
    EXPECT_GT(moran(gradient)->i, 0.5);
    EXPECT_GT(moran(noise)->p, 0.01);
}

TEST(Pairs, StrengthsAgreeWithTheReferences) {
    const Table anes = asFactors(tableOf("anes96"), {"PID", "educ", "vote"});
    const Pairs p = pairsOf(anes, {}, {"PID", "educ", "vote", "age"}, {2}, quietly());
    EXPECT_GT(digits(p.at(0, 1), look()["cramers_v"]["PID_educ"]), 12);
    EXPECT_GT(digits(p.at(0, 2), look()["cramers_v"]["PID_vote"]), 12);
    EXPECT_GT(digits(p.at(3, 0), look()["correlation_ratio_age_PID"]), 12);
    EXPECT_EQ(p.strongest[0].kind, AssociationKind::cramersV);
    EXPECT_EQ(p.columns[p.strongest[0].b] + p.columns[p.strongest[0].a], "votePID");
    const Pairs d = pairsOf(tableOf("diabetes"), {}, {"s1", "s2", "s3", "s4", "age"}, {1}, quietly());
    EXPECT_GT(digits(d.at(0, 1), look()["pearson_s1_s2"]), 12);
    // s1 and s2 (0.897) are one group; s3 and s4 (−0.738) another; age is alone.
    EXPECT_EQ(d.group, (std::vector<int>{d.group[0], d.group[0], d.group[2], d.group[2], 0}));
    EXPECT_NE(d.group[0], d.group[2]);
    EXPECT_EQ(std::set<int>(d.group.begin(), d.group.end()), (std::set<int>{0, 1, 2}));
    std::vector<std::size_t> order = d.order;
    const auto place = [&](std::size_t c) {
        return std::find(order.begin(), order.end(), c) - order.begin();
    };
    EXPECT_EQ(std::abs(place(0) - place(1)), 1);
    EXPECT_EQ(std::abs(place(2) - place(3)), 1);
    std::sort(order.begin(), order.end());
    EXPECT_EQ(order, (std::vector<std::size_t>{0, 1, 2, 3, 4}));
}

TEST(Pairs, OfThousandsOfColumnsTheStrongestAreWritten) {
    LookReport report;
    report.pairs.columns = {"a", "b"};
    report.pairs.group = {0, 0};
    for (std::size_t k = 0; k < mostPairsOfCsv + 5; ++k)
        report.pairs.strongest.push_back({.a = 0,
                                          .b = 1,
                                          .kind = AssociationKind::correlation,
                                          .value = 1 / (1.0 + double(k)),
                                          .rows = 9});
    const std::string csv = pairsCsv(report);
    EXPECT_EQ(std::count(csv.begin(), csv.end(), '\n'), 1 + static_cast<std::ptrdiff_t>(mostPairsOfCsv));
    const auto json = nlohmann::json::parse(lookJson(report));
    EXPECT_EQ(json["pairs_in_all"], mostPairsOfCsv + 5);
    EXPECT_EQ(json["pairs"].size(), mostPairsOfJson);
    EXPECT_EQ(json["pairs"][0]["value"], 1);
    report.pairs.strongest.resize(3); // few are all there
    EXPECT_EQ(nlohmann::json::parse(lookJson(report))["pairs"].size(), 3U);
}

TEST(Pairs, GapsAndFactorsOfManyLevelsAreCounted) {
    std::vector<double> a, b;
    std::vector<std::int32_t> codes, same;
    std::vector<std::string> levels;
    for (int k = 0; k < 5000; ++k)
        levels.push_back(std::to_string(k));
    for (int i = 0; i < 5000; ++i) {
        a.push_back(i % 7 == 0 ? none : i);
        b.push_back(i % 5 == 0 ? none : 3 * i + (i % 3));
        codes.push_back(i);
        same.push_back(i);
    }
    const Table t({Column::ofNumbers("a", a), Column::ofNumbers("b", b), Column::ofFactor("c", codes, levels),
                   Column::ofFactor("d", same, levels)});
    const Pairs p = pairsOf(t, {}, {"a", "b", "c", "d"}, {3}, quietly());
    EXPECT_EQ(std::find_if(p.strongest.begin(), p.strongest.end(),
                           [](const Association& x) { return x.a == 0 && x.b == 1; })
                  ->rows,
              static_cast<std::size_t>(
                  std::count_if(codes.begin(), codes.end(), [](int i) { return i % 7 != 0 && i % 5 != 0; })));
    EXPECT_GT(p.at(0, 1), 0.999);
    EXPECT_NEAR(p.at(2, 3), 1, 1e-12);
}

TEST(DensityGrid, ABandOfManyPointsCoversWhatTheyCover) {
    std::vector<double> x, low, high;
    for (int i = 0; i < 5000; ++i) {
        x.push_back(i);
        low.push_back(std::sin(i * 0.37) - 2);
        high.push_back(std::cos(i * 0.11) + 2);
    }
    low[1234] = -50;
    high[4321] = 60;
    x.push_back(none); // not known where, and how far up
    low.push_back(0);
    high.push_back(0);
    x.push_back(77.5);
    low.push_back(none);
    high.push_back(1e9);
    x.push_back(78.5);
    low.push_back(-std::numeric_limits<double>::infinity());
    high.push_back(0);
    const BandPoints few = bandPoints(x, low, high, 100, 149.5, 60); // as they are
    EXPECT_EQ(few.x.size(), 50u);
    for (std::size_t k = 0; k < few.x.size(); ++k) {
        EXPECT_EQ(few.x[k], 100.0 + static_cast<double>(k));
        EXPECT_EQ(few.low[k], low[100 + k]);
        EXPECT_EQ(few.high[k], high[100 + k]);
    }
    const BandPoints many = bandPoints(x, low, high, 0, 4999, 100);
    ASSERT_EQ(many.x.size(), 100u);
    EXPECT_TRUE(std::is_sorted(many.x.begin(), many.x.end()));
    for (std::size_t cell = 0; cell < 100; ++cell) {
        double lowest = 1e9, highest = -1e9;
        for (int i = 0; i < 5000; ++i)
            if (std::min<std::size_t>(99, static_cast<std::size_t>(i / 49.99)) == cell) {
                lowest = std::min(lowest, low[static_cast<std::size_t>(i)]);
                highest = std::max(highest, high[static_cast<std::size_t>(i)]);
            }
        EXPECT_EQ(many.low[cell], lowest) << cell;
        EXPECT_EQ(many.high[cell], highest) << cell;
    }
    EXPECT_EQ(*std::min_element(many.low.begin(), many.low.end()), -50) << "one row far off is seen";
    EXPECT_EQ(*std::max_element(many.high.begin(), many.high.end()), 60);
    // Stretches without points have none.
    const std::vector<double> apart{0, 0.1, 10, 10}, down{0, -1, 2, 3}, up{1, 2, 5, 4};
    const BandPoints two = bandPoints(apart, down, up, 0, 10, 2);
    EXPECT_EQ(two.low, (std::vector<double>{-1, 2}));
    EXPECT_EQ(two.high, (std::vector<double>{2, 5}));
    EXPECT_TRUE(bandPoints({}, {}, {}, 0, 1, 5).x.empty());
}

TEST(DensityGrid, CountsEveryPointOnceWithinItsEdges) {
    const std::vector<double> x{0, 0.5, 1, 1.5, none};
    const std::vector<double> y{0, 0.5, 1, 0.5, 0};
    const Density d = density(x, y, 0, 1, 0, 1, 2, 2);
    EXPECT_EQ(d.counts, (std::vector<std::uint32_t>{1, 0, 0, 2}));
    EXPECT_EQ(d.largest, 2u);
}

} // namespace look_test
