// Two factors of many levels: rows that have the same level of both are reduced together.
#include "core/stops.h"
#include "core/wide_support.h"

#include "base/error.h"
#include "estimate/linear/level_rows.h"

using namespace oxgoad;
using namespace oxgoad::test;

namespace level_meetings_test {

using Levels = LeastSquaresOptions::Levels;

Shape randomShape(std::uint64_t seed) {
    RandomStream random(seed, "shapes that meet");
    Shape shape;
    shape.n = 300 + random.below(1200);
    shape.levels = 20 + static_cast<int>(random.below(60));
    shape.others = 17 + static_cast<int>(random.below(25));
    shape.numbers = static_cast<int>(random.below(4));
    shape.intercept = random.below(4) != 0;
    shape.weighted = random.below(3) == 0;
    shape.single = random.below(3) == 0 ? 3 : 0;
    shape.weightless = shape.weighted && random.below(2) == 0 ? 2 : 0;
    shape.said = shape.numbers > 1 && random.below(4) == 0;
    shape.regions = random.below(4) == 0;
    shape.slopes = shape.numbers > 0 && random.below(8) == 0; // levels with a slope are reduced as before
    return shape;
}

struct Bound {
    Design design;
    DesignRows rows;
    Bound(const Made& m) : Bound(m.table, m.rows, m.terms) {}
    Bound(const Table& table, const std::vector<std::uint32_t>& of, const std::vector<Term>& terms)
        : design(Design::learn(table, of, terms, {}, {})), rows(BoundDesign(design, table, {}), of) {}
};

void expectTheSame(const LeastSquaresFit& a, const LeastSquaresFit& b, double leverages) {
    ASSERT_GT(a.factor.levels(), 0);
    ASSERT_EQ(b.factor.levels(), 0);
    ASSERT_EQ(a.kept, b.kept);
    for (const std::size_t column : b.kept) {
        const auto j = static_cast<Index>(column);
        EXPECT_NEAR(a.coefficients[j], b.coefficients[j],
                    1e-9 * std::max(std::fabs(b.coefficients[j]), b.standardErrors[j]));
        EXPECT_GE(digits(a.standardErrors[j], b.standardErrors[j]), 9);
    }
    EXPECT_LT(farthest(a.leverages, b.leverages), leverages);
    EXPECT_LT(farthest(a.residuals, b.residuals), 1e-9 * b.residualStandardDeviation);
}

TEST(LevelsThatMeet, FitAsRowsDoOnAHundredRandomProblems) {
    int second = 0;
    for (std::uint64_t seed = 501; seed <= 600; ++seed) {
        const Shape shape = randomShape(seed);
        const Made m = made(shape, seed);
        const Bound bound(m);
        const auto levels = bound.rows.levels();
        if (levels->second && levels->perLevel == 1) ++second;
        expectTheSame(shape, seed, Levels::apart);
        if (HasFailure()) break;
    }
    EXPECT_GT(second, 80) << "most of them are what this is about";
}

/// Of a factor with most columns the second is the other that has most, and what follows from its level alone
/// is its own, wherever it stands among the terms.
TEST(LevelsThatMeet, AreThoseOfTheTwoLargestFactors) {
    Made m = made({.n = 2000, .levels = 60, .others = 20, .numbers = 2}, 4);
    TermPart scores;
    scores.column = "month";
    scores.form = Form::scores;
    scores.order.clear();
    for (int l = 0; l < 20; ++l)
        scores.order.push_back("month" + std::to_string(l));
    m.terms = {plainTerm("x0"), plainTerm("month"), Term{{scores, TermPart{"x1"}}}, plainTerm("site"),
               plainTerm("x1")};
    const Bound bound(m);
    const auto levels = bound.rows.levels();
    ASSERT_TRUE(levels->second);
    const RowLevels::Second& second = *levels->second;
    EXPECT_EQ(second.levels, 20);
    EXPECT_EQ(second.places.size(), 19U);
    EXPECT_EQ(second.others.size(), 3U) << "x0, x1 and the product";
    MatrixXd all(2000, static_cast<Index>(levels->rest.size())),
        others(2000, static_cast<Index>(second.others.size()));
    levels->fill(m.rows, all);
    second.fill(m.rows, others);
    for (std::size_t k = 0; k < second.others.size(); ++k)
        EXPECT_EQ(others.col(static_cast<Index>(k)), all.col(second.others[k]));
    for (Index i = 0; i < all.rows(); ++i)
        for (std::size_t k = 0; k < second.places.size(); ++k)
            ASSERT_EQ(second.values(second.of[static_cast<std::size_t>(i)], static_cast<Index>(k)),
                      all(i, second.places[k]));
    // Too few columns are worked out with the others.
    m = made({.n = 2000, .levels = 60, .others = 16, .numbers = 2}, 4);
    EXPECT_FALSE(Bound(m).rows.levels()->second);
    m = made({.n = 2000, .levels = 60, .numbers = 2}, 4);
    EXPECT_FALSE(Bound(m).rows.levels()->second);
}

/// In a balanced layout of two factors the fit is the mean of a row's level, plus that of its other level,
/// less the mean of all, and the leverages follow (Scheffé 1959, "The analysis of variance", §4.1): an
/// independent reckoning by sums.
TEST(LevelsThatMeet, OfABalancedLayoutTheFitIsThatOfMeans) {
    constexpr int sites = 120, months = 24, times = 4;
    constexpr std::size_t n = std::size_t{sites} * months * times;
    RandomStream random(11, "balanced");
    std::vector<std::int32_t> site, month;
    std::vector<double> y;
    std::vector<std::uint32_t> places;
    for (std::uint32_t i = 0; i < n; ++i) {
        places.push_back(i);
        site.push_back(static_cast<std::int32_t>(i % sites)); // rows that meet stand far from each other
        month.push_back(static_cast<std::int32_t>(i / sites % months));
        y.push_back(1e5 + 10 * std::sin(site.back()) + month.back() + random.normal());
    }
    const auto names = [](int count) {
        std::vector<std::string> made;
        for (int l = 0; l < count; ++l)
            made.push_back("level " + std::to_string(1000 + l));
        return made;
    };
    const Table table(
        {Column::ofFactor("site", site, names(sites)), Column::ofFactor("month", month, names(months))});
    const Bound bound(table, places, {plainTerm("site"), plainTerm("month")});
    const LeastSquaresFit fit = fitLeastSquares(bound.rows, y, {.levels = Levels::apart}, quietly());
    std::vector<long double> ofSite(sites, 0), ofMonth(months, 0);
    long double mean = 0;
    for (std::size_t i = 0; i < n; ++i) {
        ofSite[static_cast<std::size_t>(site[i])] += static_cast<long double>(y[i]) / (months * times);
        ofMonth[static_cast<std::size_t>(month[i])] += static_cast<long double>(y[i]) / (sites * times);
        mean += static_cast<long double>(y[i]) / n;
    }
    const double leverage = 1.0 / (months * times) + 1.0 / (sites * times) - 1.0 / n;
    for (std::size_t i = 0; i < n; ++i) {
        const auto row = static_cast<Index>(i);
        ASSERT_NEAR(fit.fitted[row],
                    static_cast<double>(ofSite[static_cast<std::size_t>(site[i])] +
                                        ofMonth[static_cast<std::size_t>(month[i])] - mean),
                    1e-9);
        ASSERT_NEAR(fit.leverages[row], leverage, 1e-14);
    }
    // Differences of two levels' means have the variance of two means.
    const double error = fit.residualStandardDeviation * std::sqrt(2.0 / (months * times));
    for (int l = 1; l < sites; ++l) {
        EXPECT_NEAR(fit.coefficients[l - 1],
                    static_cast<double>(ofSite[static_cast<std::size_t>(l)] - ofSite[0]), 1e-9);
        EXPECT_GE(digits(fit.standardErrors[l - 1], error), 11);
    }
    EXPECT_EQ(fit.degreesOfFreedom, static_cast<double>(n - sites - months + 1));
}

/// A number that hardly differs among rows that meet has its leverage from these differences alone.
TEST(LevelsThatMeet, KeepTheDigitsOfANumberThatBothFactorsNearlySay) {
    RandomStream random(8, "nearly said");
    std::vector<std::int32_t> site, month;
    std::vector<double> x, z, y;
    std::vector<std::uint32_t> places;
    for (std::uint32_t i = 0; i < 40000; ++i) {
        places.push_back(i);
        site.push_back(i % 3 == 0 ? static_cast<std::int32_t>(random.below(25)) : 7); // more than a batch
        month.push_back(static_cast<std::int32_t>(random.below(20)));
        x.push_back(1000 + 3 * std::cos(site.back()) + std::sin(month.back()) + 1e-4 * random.normal());
        z.push_back(random.normal());
        y.push_back(50 * (x.back() - 1000) + z.back() + random.normal());
    }
    std::vector<std::string> sites, months;
    for (int l = 0; l < 25; ++l)
        sites.push_back("s" + std::to_string(l));
    for (int l = 0; l < 20; ++l)
        months.push_back("m" + std::to_string(l));
    const Table table({Column::ofFactor("site", site, sites), Column::ofFactor("month", month, months),
                       Column::ofNumbers("x", x), Column::ofNumbers("z", z)});
    const Bound bound(table, places, {plainTerm("site"), plainTerm("x"), plainTerm("month"), plainTerm("z")});
    for (const auto precision :
         {LeastSquaresOptions::Precision::plain, LeastSquaresOptions::Precision::asNeeded}) {
        LeastSquaresOptions options;
        options.precision = precision;
        const LeastSquaresFit dense = fitLeastSquares(Dense(bound.rows), y, options, quietly());
        options.levels = Levels::apart;
        const LeastSquaresFit apart = fitLeastSquares(bound.rows, y, options, quietly());
        expectTheSame(apart, dense, 1e-10);
    }
}

TEST(LevelsThatMeet, GiveTheSameBitsOnAnyNumberOfThreads) {
    const Made m = made({.n = 60000, .levels = 900, .others = 40, .numbers = 3, .weighted = true}, 9);
    const Bound bound(m);
    const auto fit = [&](unsigned threads) {
        return fitLeastSquares(bound.rows, m.y,
                               {.threads = {threads}, .weights = m.weights, .levels = Levels::apart},
                               quietly());
    };
    const LeastSquaresFit one = fit(1), three = fit(3);
    ASSERT_GT(one.factor.levels(), 0);
    EXPECT_EQ(one.coefficients, three.coefficients);
    EXPECT_EQ(one.standardErrors, three.standardErrors);
    EXPECT_EQ(one.residuals, three.residuals);
    EXPECT_EQ(one.leverages, three.leverages);
}

TEST(LevelsThatMeet, StopWhereverTheyAre) {
    const Made m = made({.n = 50000, .levels = 1500, .others = 30, .numbers = 2}, 2);
    const Bound bound(m);
    auto never = neverStops();
    (void)fitLeastSquares(bound.rows, m.y, {.threads = {1}}, never);
    ASSERT_GT(never.asked(), 20);
    for (int after = 0; after < never.asked(); after += std::max(1, never.asked() / 12)) {
        StopsAfterAsked progress(after);
        EXPECT_THROW(fitLeastSquares(bound.rows, m.y, {.threads = {1}}, progress), Stopped) << after;
    }
}

} // namespace level_meetings_test
