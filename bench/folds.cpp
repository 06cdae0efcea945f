// Folds against fits of the same rows in the same run: 10 folds of least squares 100,000 × 30 with steps that
// learn within 6 fits, leaving out one row at a time within 2, 10 folds dealt 10 times within 1.5 s, a tick
// of the term table with 10 folds at 20,000 × 30 within 150 ms, a stop within 100 ms.
#include "base/random.h"
#include "study/evaluate.h"
#include "study/judge.h"
#include "study/rows_used.h"

#include <benchmark/benchmark.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <functional>
#include <thread>

using namespace oxgoad;

namespace {

Progress& quietly() {
    static Progress progress;
    return progress;
}

double seconds(const std::function<void()>& work) {
    const auto start = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

struct Made {
    StudyRows rows;
    Recipe recipe;
    std::shared_ptr<const PreparedRows> prepared;
    std::shared_ptr<const Study> study;
};

/// y of k columns, some of whose cells are missing when a step is to fill them.
Made made(std::size_t n, int k, bool steps, const FoldPlan& plan) {
    RandomStream random(11, "folds bench");
    Made m;
    std::vector<Column> columns;
    std::vector<double> y(n);
    for (int j = 0; j < k; ++j) {
        std::vector<double> x(n);
        for (std::size_t i = 0; i < n; ++i) {
            x[i] = random.normal();
            y[i] += x[i] / (j + 1);
            if (steps && j < 5 && random.below(50) == 0) x[i] = std::nan("");
        }
        const std::string name = "x" + std::to_string(j);
        columns.push_back(Column::ofNumbers(name, std::move(x)));
        m.recipe.terms.push_back(plainTerm(name));
    }
    for (double& value : y)
        value += random.normal();
    columns.push_back(Column::ofNumbers("y", std::move(y)));
    m.rows.learning.table = Table(std::move(columns));
    m.recipe.response = "y";
    m.recipe.judge = plan;
    if (steps)
        m.recipe.steps = {{.kind = "fill missing",
                           .fields = {{"columns", std::vector<std::string>{"x0", "x1", "x2", "x3", "x4"}}}},
                          {.kind = "leave out beyond fences",
                           .fields = {{"columns", std::vector<std::string>{"x10", "x11"}}, {"width", 2.0}}}};
    m.prepared = prepareRows(m.recipe, m.rows, {}, quietly());
    const auto used = rowsUsed(m.recipe, *m.prepared, {});
    m.study = learn(m.recipe, m.prepared->table, m.prepared->steps, {}, used.learning, {}, quietly());
    return m;
}

double fitOf(const Made& m) {
    double best = 1e9;
    for (int i = 0; i < 5; ++i)
        best = std::min(best, seconds([&] {
                            benchmark::DoNotOptimize(learn(m.recipe, m.prepared->table, m.prepared->steps, {},
                                                           m.study->rows, {}, quietly()));
                        }));
    return best;
}

FoldEvidence judge(const Made& m, Progress& progress) {
    return judgeByFolds(m.recipe, *m.prepared, {}, {.whole = m.study}, progress);
}

void againstFits(benchmark::State& state, bool steps, const FoldPlan& plan, double fits) {
    const Made m = made(100000, 30, steps, plan);
    double best = 1e9;
    const double fit = fitOf(m);
    for (auto _ : state)
        best = std::min(best, seconds([&] { benchmark::DoNotOptimize(judge(m, quietly())); }));
    state.counters["fit_s"] = fit;
    state.counters["seconds_best"] = best;
    state.counters["times_fit"] = best / fit;
    state.counters["times_fit_limit"] = fits;
}

void repeats(benchmark::State& state) {
    const Made m = made(100000, 30, false, {.folds = 10, .repeats = 10});
    double best = 1e9;
    for (auto _ : state)
        best = std::min(best, seconds([&] { benchmark::DoNotOptimize(judge(m, quietly())); }));
    state.counters["seconds_best"] = best;
    state.counters["seconds_best_limit"] = 1.5;
}

void tick(benchmark::State& state) {
    Made m = made(20000, 30, false, FoldPlan{});
    Recipe other = m.recipe;
    other.terms.pop_back();
    double best = 1e9;
    for (auto _ : state)
        best = std::min(best, seconds([&] {
                            const Evidence e =
                                evaluate(other, m.rows, *m.prepared,
                                         {.folds = EvaluateOptions::Folds::whenQuick,
                                          .checks = ChecksWanted::quick}, // the slow ones come after it
                                         quietly());
                            if (!e.folds) std::abort();
                        }));
    state.counters["seconds_best"] = best;
    state.counters["seconds_best_limit"] = 0.15;
}

class Stoppable : public Progress {
public:
    bool stopRequested() const override { return stop; }
    std::atomic<bool> stop{false};
};

/// The longest wait after a stop, at ten moments of the work.
void stopping(benchmark::State& state, bool steps, const FoldPlan& plan) {
    const Made m = made(100000, 30, steps, plan);
    const double whole = seconds([&] { judge(m, quietly()); });
    double longest = 0;
    for (auto _ : state)
        for (int moment = 0; moment < 10; ++moment) {
            Stoppable progress;
            std::chrono::steady_clock::time_point asked;
            std::thread other([&] {
                std::this_thread::sleep_for(std::chrono::duration<double>(whole * (moment + 0.5) / 10));
                asked = std::chrono::steady_clock::now();
                progress.stop = true;
            });
            try {
                judge(m, progress);
            } catch (const Stopped&) {
            }
            const auto end = std::chrono::steady_clock::now();
            other.join();
            longest = std::max(longest, std::chrono::duration<double>(end - asked).count());
        }
    state.counters["longest_s"] = longest;
    state.counters["longest_s_limit"] = 0.1;
}

} // namespace

BENCHMARK_CAPTURE(againstFits, steps_10_folds, true, FoldPlan{}, 6)
    ->Unit(benchmark::kMillisecond)
    ->Iterations(3);
BENCHMARK_CAPTURE(againstFits, plain_10_folds, false, FoldPlan{}, 6)
    ->Unit(benchmark::kMillisecond)
    ->Iterations(3);
BENCHMARK_CAPTURE(againstFits, leave_one_out, false, (FoldPlan{.kind = FoldKind::leaveOneOut}), 2)
    ->Unit(benchmark::kMillisecond)
    ->Iterations(3);
BENCHMARK(repeats)->Unit(benchmark::kMillisecond)->Iterations(3);
BENCHMARK(tick)->Unit(benchmark::kMillisecond)->Iterations(5);
BENCHMARK_CAPTURE(stopping, steps, true, FoldPlan{})->Unit(benchmark::kMillisecond)->Iterations(1);
BENCHMARK_CAPTURE(stopping, leave_one_out, false, (FoldPlan{.kind = FoldKind::leaveOneOut}))
    ->Unit(benchmark::kMillisecond)
    ->Iterations(1);
BENCHMARK_CAPTURE(stopping, draws, false, (FoldPlan{.kind = FoldKind::bootstrap, .draws = 50}))
    ->Unit(benchmark::kMillisecond)
    ->Iterations(1);
BENCHMARK_MAIN();
