// Checks against limits in the same run: all checks on 100,000 × 50 within 1 s; influence of all rows of
// 1,000,000 × 30 within 3 fits, what each fit without one row of 100,000 × 30 predicts within 2; a row's
// opening within 30 ms; the quick checks and a stop. Each slow check's own time is told, so that one sees
// where it goes.
#include "base/random.h"
#include "check/influence.h"
#include "study/evaluate.h"
#include "study/judge.h"
#include "study/row_story.h"
#include "study/rows_used.h"

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <functional>

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
};

/// y of k numbers and, where asked for, a factor; two columns, groups and a time are left out.
Made made(std::size_t n, int k, bool more) {
    RandomStream random(12, "checks bench");
    Made m;
    std::vector<Column> columns;
    std::vector<double> y(n);
    for (int j = 0; j < k; ++j) {
        std::vector<double> x(n);
        for (std::size_t i = 0; i < n; ++i) {
            x[i] = random.normal();
            y[i] += x[i] / (j + 1);
        }
        const std::string name = "x" + std::to_string(j);
        columns.push_back(Column::ofNumbers(name, std::move(x)));
        m.recipe.terms.push_back(plainTerm(name));
    }
    for (double& value : y)
        value += 20 + random.normal();
    columns.push_back(Column::ofNumbers("y", std::move(y)));
    if (more) {
        std::vector<std::int32_t> group(n), day(n);
        std::vector<double> u(n), v(n);
        std::vector<std::string> levels;
        for (int g = 0; g < 100; ++g)
            levels.push_back("g" + std::to_string(g));
        for (std::size_t i = 0; i < n; ++i) {
            group[i] = static_cast<std::int32_t>(i % 100);
            day[i] = static_cast<std::int32_t>(18000 + i / 100);
            u[i] = random.normal();
            v[i] = random.normal();
        }
        columns.push_back(Column::ofFactor("g", group, levels));
        columns.push_back(Column::ofDates("day", day));
        columns.push_back(Column::ofNumbers("u", u));
        columns.push_back(Column::ofNumbers("v", v));
    }
    m.rows.learning.table = Table(std::move(columns));
    m.recipe.response = "y";
    m.prepared = prepareRows(m.recipe, m.rows, {}, quietly());
    return m;
}

Evidence quick(const Made& m) {
    return evaluate(m.recipe, m.rows, *m.prepared, {.checks = ChecksWanted::quick}, quietly());
}

void allChecks(benchmark::State& state, bool folds) {
    Made m = made(100000, 50, true);
    if (folds) m.recipe.judge = FoldPlan{};
    const Evidence before = quick(m);
    double best = 1e9;
    for (auto _ : state)
        best = std::min(best, seconds([&] {
                            benchmark::DoNotOptimize(
                                withChecks(before, m.recipe, m.rows, *m.prepared, {}, quietly()));
                        }));
    state.counters["seconds_best"] = best;
    state.counters["seconds_best_limit"] = 1;
    // Where the time goes: each slow check alone.
    for (std::size_t i = 0; i < checks().size(); ++i) {
        if (!checks()[i].slow) continue;
        Evidence one = before;
        for (std::size_t j = 0; j < one.checks.size(); ++j)
            one.checks[j].done = j != i;
        const double own = seconds(
            [&] { benchmark::DoNotOptimize(withChecks(one, m.recipe, m.rows, *m.prepared, {}, quietly())); });
        std::printf("    %-40s %.3f s\n",
                    checks()[i].readings.empty() ? "-" : std::string(checks()[i].readings[0]).c_str(), own);
    }
}

void quickChecks(benchmark::State& state) {
    const Made m = made(100000, 50, true);
    double with = 1e9, without = 1e9;
    for (auto _ : state) {
        with = std::min(with, seconds([&] { benchmark::DoNotOptimize(quick(m)); }));
        without = std::min(without, seconds([&] {
                               benchmark::DoNotOptimize(evaluate(m.recipe, m.rows, *m.prepared,
                                                                 {.checks = ChecksWanted::none}, quietly()));
                           }));
    }
    state.counters["seconds_best"] = with - without;
    state.counters["evaluation_s"] = without;
}

void influence(benchmark::State& state) {
    const Made m = made(1000000, 30, false);
    const auto used = rowsUsed(m.recipe, *m.prepared, {});
    std::shared_ptr<const Study> study;
    double fit = 1e9, best = 1e9;
    for (int i = 0; i < 2; ++i)
        fit = std::min(fit, seconds([&] {
                           study = learn(m.recipe, m.prepared->table, m.prepared->steps, {}, used.learning,
                                         {}, quietly());
                       }));
    const Evidence e = quick(m);
    std::vector<double> leverages(study->rows.size()), studentized(study->rows.size());
    for (std::size_t i = 0; i < study->rows.size(); ++i) {
        leverages[i] = e.linear->rows.leverage[study->rows[i]];
        studentized[i] = e.linear->rows.studentized[study->rows[i]];
    }
    const BoundDesign design(study->linear()->design, m.prepared->table, {});
    for (auto _ : state)
        best = std::min(best, seconds([&] {
                            double largest = 0;
                            forEachDfbetas(study->linear()->fit, DesignRows(design, study->rows), {},
                                           leverages, studentized, {1}, quietly(),
                                           [&](Eigen::Index, const Eigen::MatrixXd& block) {
                                               largest = std::max(largest, block.cwiseAbs().maxCoeff());
                                           });
                            benchmark::DoNotOptimize(largest);
                        }));
    state.counters["fit_s"] = fit;
    state.counters["seconds_best"] = best;
    state.counters["times_fit"] = best / fit;
    state.counters["times_fit_limit"] = 3;
}

void openRow(benchmark::State& state) {
    const Made m = made(100000, 50, true);
    const Evidence e = quick(m);
    double longest = 0;
    std::uint32_t row = 0;
    for (auto _ : state) {
        longest = std::max(longest, seconds([&] {
                               benchmark::DoNotOptimize(
                                   rowStory(e, m.recipe, m.prepared->table, nullptr, {}, row, {}, quietly()));
                           }));
        row += 4999;
    }
    state.counters["longest_s"] = longest;
    state.counters["longest_s_limit"] = 0.03;
}

} // namespace

BENCHMARK_CAPTURE(allChecks, without_folds, false)->Unit(benchmark::kMillisecond)->Iterations(3);
BENCHMARK_CAPTURE(allChecks, ten_folds, true)->Unit(benchmark::kMillisecond)->Iterations(2);
BENCHMARK(quickChecks)->Unit(benchmark::kMillisecond)->Iterations(3);
BENCHMARK(influence)->Unit(benchmark::kMillisecond)->Iterations(2);
BENCHMARK(openRow)->Unit(benchmark::kMillisecond)->Iterations(10);
BENCHMARK_MAIN();
