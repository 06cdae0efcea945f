// Penalised paths against one product X'X of the same matrix, and against limits: 100 penalties on 100,000 ×
// 100 within 2 products; with 10 folds within 3 such paths; 2,000 × 2,000 with 30 true columns within 0.4 s;
// 100 × 20,000 within 2 s; the 256 columns of the demo's trailer quotes tuned by ten folds within 0.3 s.
#include "base/random.h"
#include "bench_support.h"
#include "estimate/penalised/penalised_path.h"
#include "study/evaluate.h"
#include "study/load_rows.h"
#include "study/rows_used.h"

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <functional>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

struct Made {
    MatrixXd x;
    std::vector<double> y;
};

Made made(Index n, Index p, Index truth) {
    RandomStream random(5, "penalised bench");
    Made m;
    m.x.resize(n, p);
    for (Index j = 0; j < p; ++j)
        for (Index i = 0; i < n; ++i)
            m.x(i, j) = random.normal();
    for (Index i = 0; i < n; ++i) {
        double y = 20 + 0.2 * random.normal();
        for (Index j = 0; j < truth; ++j)
            y += m.x(i, j) * (j % 2 == 0 ? 1 : -0.5);
        m.y.push_back(y);
    }
    return m;
}

void follow(const Made& m, std::size_t& kept) {
    const MatrixRows rows(m.x);
    const PenaltyOptions options;
    const PenalisedProblem problem = problemOf(rows, m.y, {}, options, {}, quietly());
    const auto path = penalisedPath(problem, options, usualPenalties(problem, options), quietly());
    kept = path.back().kept;
    benchmark::DoNotOptimize(path);
}

void path(benchmark::State& state) {
    const Made m = made(state.range(0), state.range(1), state.range(2));
    std::size_t kept = 0;
    double best = 1e9;
    for (auto _ : state)
        best = std::min(best, seconds([&] { follow(m, kept); }, 1));
    state.counters["seconds_best"] = best;
    state.counters["kept"] = static_cast<double>(kept);
}

void pathOverProduct(benchmark::State& state) {
    const Made m = made(100000, 100, 30);
    std::size_t kept = 0;
    double best = 1e9, product = 1e9, folds = 1e9;
    const MatrixRows rows(m.x);
    for (auto _ : state) {
        best = std::min(best, seconds([&] { follow(m, kept); }, 1));
        // The product by all threads, half of it, block by block: what the path needs.
        product = std::min(product, seconds([&] {
                               MatrixXd xx = MatrixXd::Zero(100, 100);
                               xx.selfadjointView<Eigen::Lower>().rankUpdate(m.x.transpose());
                               benchmark::DoNotOptimize(xx);
                           }));
        folds =
            std::min(folds, seconds([&] {
                         const PenaltyOptions options;
                         const SumShift shift = shiftOf(rows, m.y, true);
                         std::vector<RowSums> cells(10);
                         for (Index c = 0; c < 10; ++c) {
                             const MatrixXd some = m.x.middleRows(c * 10000, 10000);
                             cells[static_cast<std::size_t>(c)] =
                                 sumRows(MatrixRows(some),
                                         std::span(m.y).subspan(static_cast<std::size_t>(c) * 10000, 10000),
                                         {}, shift, {}, quietly());
                         }
                         RowSums all;
                         for (const RowSums& cell : cells)
                             all.add(cell);
                         const PenalisedProblem whole = problemOf(all, shift, options);
                         const auto penalties = usualPenalties(whole, options);
                         benchmark::DoNotOptimize(penalisedPath(whole, options, penalties, quietly()));
                         parallelFor(10, {}, [&](std::size_t f) {
                             RowSums learned;
                             for (std::size_t c = 0; c < 10; ++c)
                                 if (c != f) learned.add(cells[c]);
                             const PenalisedProblem problem = problemOf(learned, shift, options);
                             benchmark::DoNotOptimize(penalisedPath(problem, options, penalties, quietly()));
                         });
                     }));
    }
    state.counters["seconds_best"] = best;
    state.counters["product_s"] = product;
    state.counters["times_product"] = best / product;
    state.counters["times_product_limit"] = 2;
    state.counters["folds_times_path"] = folds / best;
    state.counters["folds_times_path_limit"] = 3;
}

void trailersTuned(benchmark::State& state) {
    Recipe recipe = readRecipe(OXGOAD_DEMO "/trailers_3_lasso.json");
    const StudyRows rows = loadRows(recipe, OXGOAD_DEMO, {2}, quietly());
    const auto prepared = prepareRows(recipe, rows, {2}, quietly());
    const auto used = rowsUsed(recipe, *prepared, {});
    for (auto _ : state) {
        state.counters["tuned_s"] = seconds([&] {
            benchmark::DoNotOptimize(
                learn(recipe, prepared->table, prepared->steps, {}, used.learning, {2}, quietly()));
        });
        state.counters["tuned_s_limit"] = 0.3;
    }
}

} // namespace

BENCHMARK(trailersTuned)->Iterations(1)->Unit(benchmark::kMillisecond);
BENCHMARK(pathOverProduct)->Iterations(3)->Unit(benchmark::kMillisecond);
BENCHMARK(path)->Args({2000, 2000, 30})->Iterations(2)->Unit(benchmark::kMillisecond);
BENCHMARK(path)->Args({100, 20000, 10})->Iterations(2)->Unit(benchmark::kMillisecond);
BENCHMARK(path)->Args({4000, 300, 20})->Iterations(2)->Unit(benchmark::kMillisecond);

BENCHMARK_MAIN();
