// Factors whose levels have slopes of their own: a few columns a level, eliminated together.
#include "core/wide_support.h"

#include "base/error.h"
#include "check/influence.h"
#include "estimate/linear/apart_reader.h"
#include "estimate/model_text.h"
#include "study/evaluate.h"
#include "study/marginal_effects.h"

#include <Eigen/Cholesky>

#include <map>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;

namespace level_slopes_test {

using Levels = LeastSquaresOptions::Levels;

/// Least squares of y on 1 and x by the rows of one level (Montgomery, Peck and Vining 2012, §2.2), in long
/// doubles.
struct Line {
    long double n = 0, meanX = 0, meanY = 0, xx = 0, slope = 0, rss = 0;
};

std::vector<Line> lineOfEachLevel(const Made& m, std::size_t levels) {
    const auto codes = m.table.columns()[0].codes();
    const auto x = m.table.columns()[1].numbers();
    std::vector<Line> lines(levels);
    std::vector<long double> xy(levels, 0), yy(levels, 0);
    for (std::size_t i = 0; i < x.size(); ++i) {
        Line& line = lines[static_cast<std::size_t>(codes[i])];
        line.n += 1;
        line.meanX += x[i];
        line.meanY += m.y[i];
    }
    for (Line& line : lines) {
        line.meanX /= line.n;
        line.meanY /= line.n;
    }
    for (std::size_t i = 0; i < x.size(); ++i) {
        const auto l = static_cast<std::size_t>(codes[i]);
        Line& line = lines[l];
        line.xx += (x[i] - line.meanX) * (x[i] - line.meanX);
        xy[l] += (x[i] - line.meanX) * (m.y[i] - line.meanY);
        yy[l] += (m.y[i] - line.meanY) * (m.y[i] - line.meanY);
    }
    for (std::size_t l = 0; l < levels; ++l) {
        lines[l].slope = xy[l] / lines[l].xx;
        lines[l].rss = yy[l] - lines[l].slope * xy[l];
    }
    return lines;
}

/// With a line for each level the model is as many simple regressions with one spread.
TEST(LevelSlopes, AreTheLinesOfTwoThousandLevels) {
    constexpr std::size_t levels = 2000;
    const Made m = made({.n = 40000, .levels = levels, .numbers = 1, .slopes = true}, 6);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    const LeastSquaresFit fit = fitLeastSquares(rows, m.y, {.threads = {2}}, quietly());
    // site (1,999), x0, x0 × site (1,999): all but x0 are levels'.
    ASSERT_EQ(design.columns().size(), 2 * levels - 1);
    ASSERT_EQ(fit.factor.levels(), static_cast<Index>(2 * levels - 2));
    ASSERT_EQ(fit.rank(), static_cast<Index>(2 * levels));
    const auto lines = lineOfEachLevel(m, levels);
    long double rss = 0;
    for (const Line& line : lines)
        rss += line.rss;
    const double df = 40000 - 2 * static_cast<double>(levels);
    const double sigma = std::sqrt(static_cast<double>(rss) / df);
    EXPECT_GE(digits(fit.residualSumOfSquares, static_cast<double>(rss)), 12);
    EXPECT_EQ(fit.degreesOfFreedom, df);
    const auto slopeOf = [&](std::size_t l) { return static_cast<Index>(levels - 1 + l); }; // 0: of x0 itself
    EXPECT_GE(digits(fit.coefficients[slopeOf(0)], static_cast<double>(lines[0].slope)), 10);
    EXPECT_GE(digits(fit.standardErrors[slopeOf(0)], sigma / std::sqrt(static_cast<double>(lines[0].xx))),
              10);
    for (const std::size_t l : {1U, 7U, 1000U, 1999U}) {
        const Line &own = lines[l], &first = lines[0];
        EXPECT_NEAR(fit.coefficients[slopeOf(l)], static_cast<double>(own.slope - first.slope), 1e-9);
        EXPECT_GE(digits(fit.standardErrors[slopeOf(l)],
                         sigma * static_cast<double>(std::sqrt(1 / own.xx + 1 / first.xx))),
                  10);
        const long double at0 = own.meanY - own.slope * own.meanX - (first.meanY - first.slope * first.meanX);
        EXPECT_NEAR(fit.coefficients[static_cast<Index>(l) - 1], static_cast<double>(at0), 1e-7);
        EXPECT_GE(digits(fit.standardErrors[static_cast<Index>(l) - 1],
                         sigma * static_cast<double>(std::sqrt(1 / own.n + own.meanX * own.meanX / own.xx +
                                                               1 / first.n +
                                                               first.meanX * first.meanX / first.xx))),
                  9);
    }
    const auto codes = m.table.columns()[0].codes();
    const auto x = m.table.columns()[1].numbers();
    for (const std::size_t i : {0U, 1234U, 39999U}) {
        const Line& line = lines[static_cast<std::size_t>(codes[i])];
        const long double d = x[i] - line.meanX;
        EXPECT_NEAR(fit.leverages[static_cast<Index>(i)], static_cast<double>(1 / line.n + d * d / line.xx),
                    1e-11);
        EXPECT_NEAR(fit.residuals[static_cast<Index>(i)],
                    static_cast<double>(m.y[i] - line.meanY - line.slope * d), 1e-10);
    }
    // One slope for all against one each: sums within levels (Frisch and Waugh 1933).
    long double xx = 0, xy = 0, within = 0;
    for (const Line& line : lines) {
        xx += line.xx;
        xy += line.xx * line.slope;
        within += line.rss + line.slope * line.slope * line.xx;
    }
    const long double common = within - xy * xy / xx;
    std::vector<std::size_t> products(levels - 1);
    std::iota(products.begin(), products.end(), levels);
    EXPECT_GE(digits(fit.jointTest(products).f, static_cast<double>((common - rss) / (levels - 1) /
                                                                    (rss / static_cast<long double>(df)))),
              9);
    const auto reduced = fit.without(products);
    EXPECT_GE(digits(reduced.residualSumOfSquares, static_cast<double>(common)), 11);
    EXPECT_GE(digits(reduced.coefficients[slopeOf(0)], static_cast<double>(xy / xx)), 10);
    // White's errors of a slope are those of its own line's rows.
    // (see levels_errors_test.cpp for all kinds against one triangle)
}

/// A number far from 0 beside its own level: counted from the level's first row, it keeps its digits.
TEST(LevelSlopes, KeepTheDigitsOfNumbersFarFromZero) {
    Made m = made({.n = 3000, .levels = 60, .numbers = 1, .slopes = true}, 12);
    std::vector<Column> columns = m.table.columns();
    std::vector<double> x(columns[1].numbers().begin(), columns[1].numbers().end());
    for (double& value : x)
        value = 1e6 + std::round(value * 4096) / 4096; // exact in doubles
    columns[1] = Column::ofNumbers("x0", x);
    m.table = Table(columns);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    const LeastSquaresFit fit = fitLeastSquares(rows, m.y, {.levels = Levels::apart}, quietly());
    const auto lines = lineOfEachLevel(m, 60);
    long double rss = 0;
    for (const Line& line : lines)
        rss += line.rss;
    EXPECT_GE(digits(fit.residualSumOfSquares, static_cast<double>(rss)), 10);
    for (std::size_t l = 1; l < 60; ++l)
        EXPECT_NEAR(fit.coefficients[static_cast<Index>(59 + l)],
                    static_cast<double>(lines[l].slope - lines[0].slope),
                    1e-7 * fit.standardErrors[static_cast<Index>(59 + l)]);
}

/// Levels without a slope to tell: one row, the same number in all rows, a number of 0, no weight. What the
/// dense way leaves out, in its words, is left out.
TEST(LevelSlopes, LeaveOutWhatALevelDoesNotTell) {
    RandomStream random(3, "levels that tell little");
    std::vector<std::int32_t> codes;
    std::vector<double> x, z, y, weights;
    std::vector<std::uint32_t> places;
    for (std::uint32_t i = 0; i < 400; ++i) {
        const auto level = static_cast<std::int32_t>(i < 20 ? i : random.below(19));
        codes.push_back(level);
        x.push_back(level == 3 ? 7.5 : level == 4 ? 0 : 50 + random.normal());
        z.push_back(level == 5 ? 2 * x.back() + 1 : random.normal());
        y.push_back(100 + level + x.back() * 0.3 + random.normal());
        weights.push_back(level == 6 ? 0 : 1 + random.uniform());
        places.push_back(i);
    }
    std::vector<std::string> names;
    for (int l = 0; l < 20; ++l)
        names.push_back("s" + std::to_string(l));
    const Table table(
        {Column::ofFactor("site", codes, names), Column::ofNumbers("x", x), Column::ofNumbers("z", z)});
    const std::vector<Term> orders[] = {
        {plainTerm("site"), plainTerm("x"), plainTerm("z"), Term{{TermPart{"x"}, TermPart{"site"}}},
         Term{{TermPart{"z"}, TermPart{"site"}}}},
        {Term{{TermPart{"z"}, TermPart{"site"}}}, plainTerm("x"), Term{{TermPart{"x"}, TermPart{"site"}}},
         plainTerm("site"), plainTerm("z")}};
    for (const auto& terms : orders)
        for (const bool weighted : {false, true})
            for (const bool intercept : {true, false}) {
                const Design design = Design::learn(table, places, terms, {}, {});
                const DesignRows rows(BoundDesign(design, table, {}), places);
                LeastSquaresOptions options;
                options.intercept = intercept;
                options.precision = LeastSquaresOptions::Precision::plain;
                options.levels = Levels::apart;
                if (weighted) options.weights = weights;
                const LeastSquaresFit a = fitLeastSquares(rows, y, options, quietly());
                const LeastSquaresFit b = fitLeastSquares(Dense(rows), y, options, quietly());
                EXPECT_EQ(a.kept, b.kept);
                ASSERT_EQ(a.dependent.size(), b.dependent.size());
                EXPECT_GE(a.dependent.size(), 4U);
                for (std::size_t d = 0; d < a.dependent.size(); ++d) {
                    EXPECT_EQ(a.dependent[d].column, b.dependent[d].column);
                    ASSERT_EQ(a.dependent[d].combination.size(), b.dependent[d].combination.size())
                        << design.columns()[a.dependent[d].column].name;
                    for (std::size_t c = 0; c < a.dependent[d].combination.size(); ++c) {
                        EXPECT_EQ(a.dependent[d].combination[c].first, b.dependent[d].combination[c].first);
                        EXPECT_NEAR(a.dependent[d].combination[c].second,
                                    b.dependent[d].combination[c].second, 1e-7);
                    }
                }
                EXPECT_GE(digits(a.residualSumOfSquares, b.residualSumOfSquares), 10);
                for (const std::size_t j : b.kept)
                    EXPECT_NEAR(a.coefficients[static_cast<Index>(j)], b.coefficients[static_cast<Index>(j)],
                                1e-8 * b.standardErrors[static_cast<Index>(j)]);
                EXPECT_LT(farthest(a.leverages, b.leverages), 1e-9);
            }
}

/// The factor of some of the columns is that of a reduction of these alone.
TEST(LevelSlopes, AFactorOfSomePlacesIsTheirOwn) {
    for (std::uint64_t seed = 1; seed <= 30; ++seed) {
        SCOPED_TRACE(seed);
        const Made m = made({.n = 600, .levels = 30, .others = 4, .numbers = 2, .slopes = true}, seed);
        const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
        const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
        const LeastSquaresFit fit = fitLeastSquares(rows, m.y, {.levels = Levels::apart}, quietly());
        ASSERT_FALSE(fit.factor.ofLevels().single());
        RandomStream random(seed, "places");
        std::vector<Index> places;
        for (Index place = 0; place < fit.rank(); ++place)
            if (random.below(3) != 0) places.push_back(place);
        const TriangularFactor::Part part = fit.factor.of(places, fit.projections);
        // R'R of these columns, what is said of the response, and what is lost.
        const MatrixXd columns = fit.factor.columns(places);
        std::vector<Index> all(places.size());
        std::iota(all.begin(), all.end(), Index{0});
        const MatrixXd own = part.factor.columns(all);
        EXPECT_LT((own.transpose() * own - columns.transpose() * columns).cwiseAbs().maxCoeff(),
                  1e-11 * (columns.transpose() * columns).cwiseAbs().maxCoeff());
        EXPECT_LT(farthest(own.transpose() * part.projections, columns.transpose() * fit.projections),
                  1e-10 * (columns.transpose() * fit.projections).cwiseAbs().maxCoeff());
        EXPECT_GE(digits(part.lost, fit.projections.squaredNorm() - part.projections.squaredNorm()), 8);
        EXPECT_NEAR(part.factor.logDeterminant(),
                    0.5 * (own.transpose() * own).ldlt().vectorD().array().log().sum(), 1e-7);
    }
}

/// Rows in the factor's directions, whichever way they are read.
TEST(LevelSlopes, RowsAreReadWithoutTheirColumns) {
    for (const bool weighted : {false, true}) {
        const Made m = made({.n = 500,
                             .levels = 25,
                             .others = 3,
                             .numbers = 2,
                             .weighted = weighted,
                             .slopes = true,
                             .moreSlopes = true},
                            4);
        const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
        const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
        const LeastSquaresFit fit =
            fitLeastSquares(rows, m.y, {.weights = m.weights, .levels = Levels::apart}, quietly());
        MatrixXd matrix(rows.rows(), rows.columns());
        rows.fill(0, matrix);
        const ApartReader reader(fit, rows);
        ApartReader::Rows read = reader.read(0, rows.rows());
        const MatrixXd b = MatrixXd::NullaryExpr(
            fit.rank(), 2, [](Index i, Index j) { return std::cos(static_cast<double>(i + 3 * j)); });
        EXPECT_LT((reader.times(read, b) - fit.shifted(matrix) * b).cwiseAbs().maxCoeff(), 1e-9);
        MatrixXd sums = MatrixXd::Zero(fit.rank(), 1);
        const VectorXd z =
            VectorXd::NullaryExpr(rows.rows(), [](Index i) { return std::sin(static_cast<double>(i)); });
        reader.addProducts(read, z, sums);
        EXPECT_LT((sums - fit.shifted(matrix).transpose() * z).cwiseAbs().maxCoeff(), 1e-8);
        reader.turn(read);
        EXPECT_LT(farthest(ApartReader::leverages(read), fit.leverage(matrix)), 1e-11);
        // DFBETAS go column by column.
        const LeastSquaresFit dense = fitLeastSquares(
            Dense(rows), m.y, {.weights = m.weights, .precision = LeastSquaresOptions::Precision::plain},
            quietly());
        ASSERT_EQ(dense.kept, fit.kept);
        std::vector<double> leverages, studentized;
        for (Index i = 0; i < rows.rows(); ++i) {
            leverages.push_back(dense.leverages[i]);
            studentized.push_back(std::sin(static_cast<double>(i)));
        }
        std::vector<MatrixXd> found[2];
        for (const LeastSquaresFit* one : {&fit, &dense})
            forEachDfbetas(*one, rows, m.weights, leverages, studentized, {1}, quietly(),
                           [&](Index, const MatrixXd& block) { found[one == &dense].push_back(block); });
        const auto stacked = [&](const std::vector<MatrixXd>& blocks) {
            MatrixXd all(rows.rows(), fit.rank());
            Index at = 0;
            for (const MatrixXd& block : blocks) {
                all.middleRows(at, block.rows()) = block;
                at += block.rows();
            }
            return all;
        };
        const MatrixXd one = stacked(found[0]), other = stacked(found[1]);
        for (Index i = 0; i < one.rows(); ++i)
            for (Index j = 0; j < one.cols(); ++j)
                if (!std::isnan(other(i, j))) {
                    EXPECT_NEAR(one(i, j), other(i, j), 1e-8);
                }
        const auto largest = largestDfbetas(fit, rows, m.weights, leverages, studentized, {2}, quietly()),
                   ofDense = largestDfbetas(dense, rows, m.weights, leverages, studentized, {2}, quietly());
        for (std::size_t i = 0; i < largest.size(); ++i) {
            EXPECT_EQ(std::isnan(largest[i].value), std::isnan(ofDense[i].value));
            if (std::isnan(ofDense[i].value)) continue;
            EXPECT_NEAR(std::fabs(largest[i].value), one.row(static_cast<Index>(i)).cwiseAbs().maxCoeff(),
                        1e-12);
            EXPECT_NEAR(std::fabs(largest[i].value), std::fabs(ofDense[i].value), 1e-8);
            EXPECT_NEAR(one(static_cast<Index>(i), largest[i].place), largest[i].value, 1e-12);
        }
        // What a design says at values of its inputs, and what a project keeps.
        MatrixXd inputs(rows.rows(), static_cast<Index>(design.inputs().size()));
        BoundDesign(design, m.table, {}).inputs().fill(m.rows, inputs);
        const MatrixXd wanted = MatrixXd::NullaryExpr(
            rows.columns(), 2, [](Index i, Index j) { return std::cos(static_cast<double>(i - j)); });
        EXPECT_LT((design.times(inputs, wanted) - matrix * wanted).cwiseAbs().maxCoeff(), 1e-9);
        const auto written = nlohmann::json::parse(fitJson(fit).dump());
        EXPECT_EQ(fitFrom(written).leverage(matrix), fit.leverage(matrix));
        for (const char* what : {"firsts", "own", "shared"}) {
            auto broken = written;
            broken["factor_levels"].erase(what);
            EXPECT_ANY_THROW(fitFrom(broken)) << what;
        }
        auto broken = written;
        broken["factor_levels"]["firsts"].back() = 0;
        EXPECT_THROW(fitFrom(broken), std::out_of_range);
    }
}

/// Through a recipe: 1,200 levels with slopes of their own, rows held out and checks, against one triangle.
TEST(LevelSlopes, AnEvaluationPredictsAsOneTriangle) {
    const Made m = made({.n = 3600, .levels = 700, .others = 3, .numbers = 2, .slopes = true}, 31);
    auto [rows, recipe] = studied(m);
    recipe.setAside = SetAside{.share = 0.1, .seed = 3};
    const auto prepared = prepareRows(recipe, rows, {2}, quietly());
    const auto evidence =
        evaluate(recipe, rows, *prepared, {.threads = {2}, .checks = ChecksWanted::none}, quietly());
    const LinearModel& model = *evidence.study->linear();
    ASSERT_GT(model.fit.factor.levels(), 1300);
    const BoundDesign bound(model.design, rows.learning.table, {});
    std::vector<double> y;
    for (const auto row : evidence.study->rows)
        y.push_back(m.y[row]);
    const DesignRows x(bound, evidence.study->rows);
    const LeastSquaresFit dense = fitLeastSquares(
        Dense(x), y, {.threads = {2}, .precision = LeastSquaresOptions::Precision::plain}, quietly());
    std::vector<std::uint32_t> held;
    for (std::size_t row = 0; row < m.y.size(); ++row)
        if (evidence.rows.state[row] == RowState::heldOut && !std::isnan(evidence.rows.fitted[row]))
            held.push_back(static_cast<std::uint32_t>(row));
    ASSERT_GT(held.size(), 200U);
    MatrixXd block(static_cast<Index>(held.size()), x.columns()),
        inputs(block.rows(), static_cast<Index>(model.design.inputs().size()));
    bound.fill(held, block);
    bound.inputs().fill(held, inputs);
    const auto at = model.at(inputs);
    const VectorXd predicted = dense.predict(block), variance = dense.meanVariance(block);
    for (Index i = 0; i < block.rows(); ++i) {
        EXPECT_NEAR(at.mean[i], predicted[i], 1e-8);
        EXPECT_NEAR(evidence.rows.fitted[held[static_cast<std::size_t>(i)]], predicted[i], 1e-8);
        EXPECT_NEAR(at.variance[i], variance[i], 1e-8 * variance[i]);
    }
    EXPECT_LT(farthest(at.leverage, model.distances(inputs)), 1e-12);
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        std::vector<std::size_t> own;
        for (std::size_t j = 0; j < model.design.columns().size(); ++j)
            if (model.design.columns()[j].term == t) own.push_back(j);
        EXPECT_GE(digits(evidence.linear->terms[t].f, dense.jointTest(own).f), 8);
    }
}

/// A slope that a level of one row does not tell is named; of more than a few of one term it is one goad.
TEST(LevelSlopes, ManyThatAreNotToldAreOneGoad) {
    for (const int single : {3, 12}) {
        SCOPED_TRACE(single);
        const Made m = made({.n = 1500, .levels = 40, .numbers = 1, .slopes = true, .single = single}, 19);
        auto [rows, recipe] = studied(m);
        const auto evidence = evaluate(recipe, rows, {2}, quietly());
        std::vector<std::string> titles;
        for (const Goad& goad : evidence.goads)
            if (goad.key.starts_with("dependent: ")) titles.push_back(goad.title);
        if (single == 3) {
            EXPECT_EQ(titles.size(), 3U);
            EXPECT_EQ(titles.at(0), "x0 × site = site37 repeats other columns and has no coefficient");
        } else {
            EXPECT_EQ(titles, std::vector<std::string>{
                                  "12 columns of x0 × site repeat others and have no coefficient"});
        }
    }
}

/// Average effects by their definition, as means of slopes and of differences from the reference level, with
/// the delta method's errors, by the whole model matrix.
void expectMeansOverRows(const Made& m, bool logarithm, const std::string& offset = {}) {
    auto [rows, recipe] = studied(m);
    recipe.logResponse = logarithm;
    if (!offset.empty()) {
        std::erase(recipe.terms, plainTerm(offset));
        recipe.roles[offset] = Role::offset;
    }
    const auto evidence = evaluate(recipe, rows, {2}, quietly());
    const LinearModel& model = *evidence.study->linear();
    const Table& table = rows.learning.table;
    const auto effects = averageMarginalEffects(evidence, table, {2}, quietly());
    const auto alone = averageMarginalEffects(evidence, table, {1}, quietly(), "x0");
    ASSERT_EQ(alone.size(), 1U);
    const BoundInputs bound(evidence.study->inputs, table, {});
    MatrixXd inputs(static_cast<Index>(evidence.study->rows.size()),
                    static_cast<Index>(evidence.study->inputs.size()));
    bound.fill(evidence.study->rows, inputs);
    const auto n = static_cast<double>(inputs.rows());
    // What a model says on the response's scale.
    const auto natural = [&](VectorXd said) {
        for (Index i = 0; i < said.size(); ++i) {
            const auto row = evidence.study->rows[static_cast<std::size_t>(i)];
            if (!offset.empty()) said[i] += table.at(offset, {}).numbers()[row];
            if (logarithm) said[i] = evidence.study->rule.toResponseScale(said[i]);
        }
        return said;
    };
    std::map<std::string, std::size_t> compared;
    for (const MarginalEffect& effect : effects) {
        if (++compared[effect.column] > 12) continue;
        std::size_t input = 0;
        while (evidence.study->inputs[input].name != effect.column)
            ++input;
        const Input& own = evidence.study->inputs[input];
        MatrixXd low = inputs, high = inputs;
        double step = 1;
        if (own.factor) {
            const auto level = std::find(own.levels.begin(), own.levels.end(), effect.level);
            low.col(static_cast<Index>(input)).setConstant(static_cast<double>(own.referenceLevel));
            high.col(static_cast<Index>(input)).setConstant(static_cast<double>(level - own.levels.begin()));
        } else {
            step = 1e-3;
            low.col(static_cast<Index>(input)).array() -= step / 2;
            high.col(static_cast<Index>(input)).array() += step / 2;
        }
        const VectorXd one = natural(model.predict(low)), two = natural(model.predict(high));
        EXPECT_NEAR(effect.effect, (two - one).mean() / step,
                    1e-6 * std::max(std::fabs(effect.effect), effect.standardError))
            << effect.column << " " << effect.level;
        VectorXd gradient = VectorXd::Zero(model.fit.columns);
        double constant = 0;
        if (logarithm) {
            gradient =
                (model.matrix(high).transpose() * two - model.matrix(low).transpose() * one) / step / n;
            constant = (two - one).mean() / step;
        } else {
            gradient = (model.matrix(high) - model.matrix(low)).colwise().sum().transpose() / step / n;
        }
        const auto combined = model.fit.combination(gradient, constant);
        EXPECT_GE(digits(effect.standardError, combined.standardError), own.factor ? 9 : 5) << effect.column;
    }
    EXPECT_GT(compared["site"], 12U);
    for (const MarginalEffect& effect : effects)
        if (effect.column == "x0") {
            EXPECT_EQ(effect.effect, alone[0].effect);
        }
}

/// Where a row has few of the columns, and where a level stands in no product.
TEST(LevelSlopes, AverageEffectsAreMeansOverRows) {
    const Made slopes = made({.n = 2500, .levels = 80, .others = 3, .numbers = 2, .slopes = true}, 17);
    expectMeansOverRows(slopes, false);
    expectMeansOverRows(slopes, true);
    const Made plain = made({.n = 1500, .levels = 80, .others = 12, .numbers = 2}, 18);
    expectMeansOverRows(plain, true);
    expectMeansOverRows(plain, true, "x1");
    expectMeansOverRows(plain, false, "x1");
}

/// Columns of a factor's levels count once for all of its products; others do not.
TEST(LevelSlopes, AModelMatrixHasRoomForThemAndSaysForHowMany) {
    std::vector<std::int32_t> codes, groups;
    std::vector<double> x;
    std::vector<std::uint32_t> places;
    std::vector<std::string> names, others;
    for (int l = 0; l < 30000; ++l)
        names.push_back("a" + std::to_string(l));
    for (int l = 0; l < 5200; ++l)
        others.push_back("g" + std::to_string(l));
    for (std::uint32_t i = 0; i < 60000; ++i) {
        codes.push_back(static_cast<std::int32_t>(i % 30000));
        groups.push_back(static_cast<std::int32_t>(i % 5200));
        x.push_back(i * 0.25);
        places.push_back(i);
    }
    const Table table({Column::ofFactor("article", codes, names), Column::ofFactor("group", groups, others),
                       Column::ofNumbers("x", x)});
    const Term product{{TermPart{"x"}, TermPart{"article"}}};
    const Design design =
        Design::learn(table, places, {plainTerm("article"), plainTerm("x"), product}, {}, {});
    EXPECT_EQ(design.columns().size(), 29999U + 1 + 29999);
    EXPECT_EQ(design.levelColumns()->rest.size(), 1U);
    EXPECT_EQ(design.levelColumns()->perLevel, 2U);
    const auto refused = [&](const std::vector<Term>& terms) {
        try {
            (void)Design::learn(table, places, terms, {}, {});
            return std::string("not refused");
        } catch (const Error& error) {
            return error.message() + "\n" + error.remedy();
        }
    };
    EXPECT_NE(refused({plainTerm("article"), plainTerm("group")}).find("At most 50,000 levels"),
              std::string::npos);
    EXPECT_NE(refused({plainTerm("article"), product, plainTerm("x"),
                       Term{{TermPart{"article"}, TermPart{"group"}}}})
                  .find("would make"),
              std::string::npos);
}

} // namespace level_slopes_test
