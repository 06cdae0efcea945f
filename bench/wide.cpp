// Width: hundreds of terms, thousands of candidates and levels, each against a smaller model or a product of
// the same matrix in the same run. Limits: 400 terms on 4,000 rows within 4 fits of 40; 500 × 100,000 within
// 3 products X'X; 200 levels and 8 numbers on 1,000,000 rows within 2 fits of the 8 numbers, 10,000 levels
// within 4, factors of 100 and 2,000 levels within 5 s; forward choice
// of 25 among 1,500 on 5,000 rows within 3 s; ranking of 1,500 columns × 5,000 rows within 1 s, their pairs
// within 5 s.
#include "wide_support.h"

#include "base/random.h"
#include "estimate/linear/least_squares.h"
#include "estimate/products.h"
#include "look/pairs.h"
#include "look/ranking.h"
#include "study/choose_terms.h"
#include "study/evaluate.h"
#include "study/rows_used.h"

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <functional>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;

namespace {

/// All that a fit says at once, and with the checks that follow.
double secondsToEvaluate(const Made& m, ChecksWanted checks, int times) {
    const auto prepared = prepareRows(m.recipe, m.rows, {2}, quietly());
    return seconds(
        [&] {
            benchmark::DoNotOptimize(
                evaluate(m.recipe, m.rows, *prepared, {.threads = {2}, .checks = checks}, quietly()));
        },
        times);
}

void manyTerms(benchmark::State& state) {
    const Made few = made(4000, 40, 0), many = made(4000, 400, 0);
    for (auto _ : state) {
        const double small = secondsToEvaluate(few, ChecksWanted::quick, 5),
                     large = secondsToEvaluate(many, ChecksWanted::quick, 5);
        state.counters["terms_40_s"] = small;
        state.counters["terms_400_s"] = large;
        state.counters["ratio"] = large / small;
        state.counters["ratio_limit"] = 4;
    }
}
BENCHMARK(manyTerms)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

/// The same with all checks, which follow in the background.
void manyTermsChecked(benchmark::State& state) {
    const Made few = made(4000, 40, 0), many = made(4000, 400, 0);
    for (auto _ : state) {
        state.counters["terms_40_s"] = secondsToEvaluate(few, ChecksWanted::all, 3);
        state.counters["terms_400_s"] = secondsToEvaluate(many, ChecksWanted::all, 2);
    }
}
BENCHMARK(manyTermsChecked)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

/// X'X over row blocks on two threads, by the matrix library as this program is built, or by the program's
/// own arithmetic for this machine.
double secondsOfProduct(const MatrixXd& x, bool own) {
    return seconds([&] {
        std::vector<MatrixXd> parts(2, MatrixXd::Zero(x.cols(), x.cols()));
        parallelFor(2, {2}, [&](std::size_t w) {
            const Index half = x.rows() / 2;
            for (Index from = 0; from < half; from += 2048) {
                const auto rows =
                    x.middleRows(static_cast<Index>(w) * half + from, std::min<Index>(2048, half - from));
                if (own)
                    addSquares(parts[w], rows);
                else
                    parts[w].selfadjointView<Eigen::Lower>().rankUpdate(rows.transpose());
            }
        });
        benchmark::DoNotOptimize(parts[0].data());
    });
}

void wideAndLong(benchmark::State& state) {
    RandomStream random(2, "wide");
    MatrixXd x(100000, 500);
    std::vector<double> y(100000);
    for (double& value : x.reshaped())
        value = random.uniform();
    for (std::size_t i = 0; i < y.size(); ++i)
        y[i] = 2 * x(static_cast<Index>(i), 3) + random.uniform();
    const double product = secondsOfProduct(x, false), ownProduct = secondsOfProduct(x, true);
    for (auto _ : state) {
        const double fit = seconds(
            [&] { benchmark::DoNotOptimize(fitLeastSquares(MatrixRows(x), y, {.threads = {2}}, quietly())); },
            2);
        state.counters["fit_s"] = fit;
        state.counters["product_s"] = product;
        state.counters["ratio"] = fit / product;
        state.counters["own_product_s"] = ownProduct;
        state.counters["ratio_own"] = fit / ownProduct;
        state.counters["ratio_limit"] = 3;
    }
}
BENCHMARK(wideAndLong)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

double secondsToLearn(const Made& m) {
    const auto prepared = prepareRows(m.recipe, m.rows, {2}, quietly());
    const auto used = rowsUsed(m.recipe, *prepared, {});
    return seconds(
        [&] {
            benchmark::DoNotOptimize(
                learn(m.recipe, prepared->table, prepared->steps, {}, used.learning, {2}, quietly()));
        },
        2);
}

/// The fit alone, as learning makes it; then everything an evaluation says.
void manyLevels(benchmark::State& state) {
    const Made plain = made(1000000, 8, 0), levels = made(1000000, 8, static_cast<int>(state.range(0)));
    for (auto _ : state) {
        const double small = secondsToLearn(plain), large = secondsToLearn(levels);
        state.counters["numbers_s"] = small;
        state.counters["levels_s"] = large;
        state.counters["ratio"] = large / small;
        state.counters["all_numbers_s"] = secondsToEvaluate(plain, ChecksWanted::quick, 1);
        state.counters["all_levels_s"] = secondsToEvaluate(levels, ChecksWanted::quick, 1);
        state.counters["ratio_limit"] = state.range(0) > 200 ? 4 : 2;
    }
}
BENCHMARK(manyLevels)
    ->Arg(200)
    ->Arg(5000)
    ->Arg(10000)
    ->Unit(benchmark::kMillisecond)
    ->Iterations(1)
    ->UseRealTime();

/// A slope of its own for each level as well, and errors for unequal spread, by group and in time.
void levelsOwnSlopes(benchmark::State& state) {
    const Made plain = made(1000000, 8, 0);
    Made levels = made(1000000, 8, static_cast<int>(state.range(0)));
    levels.recipe.terms.push_back(Term{{TermPart{"x0"}, TermPart{"article"}}});
    for (auto _ : state) {
        const double small = secondsToLearn(plain), large = secondsToLearn(levels);
        state.counters["numbers_s"] = small;
        state.counters["slopes_s"] = large;
        state.counters["ratio"] = large / small;
        state.counters["all_slopes_s"] = secondsToEvaluate(levels, ChecksWanted::quick, 1);
        state.counters["ratio_limit"] = 6;
    }
}
BENCHMARK(levelsOwnSlopes)->Arg(200)->Arg(5000)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

void levelsUnequalSpread(benchmark::State& state) {
    Made m = made(1000000, 8, 5000, 12);
    const double usual = secondsToLearn(m);
    m.recipe.errors.kind = CovarianceKind::hc3;
    const double unequal = secondsToLearn(m);
    m.recipe.errors = {CovarianceKind::clustered, "article"};
    for (auto _ : state) {
        state.counters["usual_s"] = usual;
        state.counters["hc3_s"] = unequal;
        state.counters["by_article_s"] = secondsToLearn(m);
        state.counters["ratio"] = unequal / usual;
        state.counters["ratio_limit"] = 4;
    }
}
BENCHMARK(levelsUnequalSpread)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

void twoFactors(benchmark::State& state) {
    const Made m = made(1000000, 8, static_cast<int>(state.range(0)), static_cast<int>(state.range(1)));
    for (auto _ : state) {
        state.counters["fit_s"] = secondsToLearn(m);
        state.counters["all_s"] = secondsToEvaluate(m, ChecksWanted::quick, 1);
        state.counters["all_s_limit"] = 5;
    }
}
BENCHMARK(twoFactors)
    ->Args({2000, 100})
    ->Args({5000, 200})
    ->Args({5000, 500})
    ->Unit(benchmark::kMillisecond)
    ->Iterations(1)
    ->UseRealTime();

/// What learning takes at most beside what is there before, against the columns that it reads.
void memoryOfLevels(benchmark::State& state) {
    const Made m = made(1000000, 8, static_cast<int>(state.range(0)), static_cast<int>(state.range(1)));
    const auto prepared = prepareRows(m.recipe, m.rows, {2}, quietly());
    const auto used = rowsUsed(m.recipe, *prepared, {});
    const auto fit = [&] {
        return learn(m.recipe, prepared->table, prepared->steps, {}, used.learning, {2}, quietly());
    };
    for (auto _ : state) {
        const double peak = peakBytes([&] { benchmark::DoNotOptimize(fit()); });
        const double columns = static_cast<double>(used.learning.size()) *
                               (8 * 9 + 4 * (state.range(1) > 0 ? 2 : 1)); // numbers and y, codes of levels
        state.counters["columns_MB"] = columns / 1e6;
        state.counters["peak_MB"] = peak / 1e6;
        state.counters["ratio"] = peak / columns;
        state.counters["ratio_limit"] = 2;
    }
}
BENCHMARK(memoryOfLevels)->Args({5000, 0})->Args({2000, 100})->Iterations(1)->UseRealTime();

void forwardChoice(benchmark::State& state) {
    const Made m = made(5000, static_cast<int>(state.range(0)), 0);
    const auto prepared = prepareRows(m.recipe, m.rows, {2}, quietly());
    const auto used = rowsUsed(m.recipe, *prepared, {});
    ChoosePlan plan{.by = ChooseBy::forward, .criterion = ChooseCriterion::bic};
    for (auto _ : state) {
        std::size_t steps = 0;
        state.counters["choice_s"] = seconds(
            [&] {
                steps = chooseAmong(m.recipe, prepared->table, {}, used.learning, plan, {2}, quietly())
                            .steps.size();
            },
            1);
        state.counters["steps"] = static_cast<double>(steps);
        state.counters["choice_s_limit"] = 3;
    }
}
BENCHMARK(forwardChoice)->Arg(300)->Arg(1500)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

void wideLook(benchmark::State& state) {
    const Made m = made(5000, 1500, 0);
    std::vector<std::string> names;
    for (int j = 0; j < 1500; ++j)
        names.push_back("x" + std::to_string(j));
    const auto target = m.rows.learning.table.at("y", {}).numbers();
    for (auto _ : state) {
        state.counters["ranking_s"] = seconds([&] {
            benchmark::DoNotOptimize(rankColumns(m.rows.learning.table, target, {}, names, {2}, quietly()));
        });
        state.counters["ranking_s_limit"] = 1;
        state.counters["pairs_s"] = seconds(
            [&] { benchmark::DoNotOptimize(pairsOf(m.rows.learning.table, {}, names, {2}, quietly())); }, 2);
        state.counters["pairs_s_limit"] = 5;
    }
}
BENCHMARK(wideLook)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

} // namespace

BENCHMARK_MAIN();
