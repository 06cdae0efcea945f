// Forecasts against the limits they are meant to keep: scoring, reach, one row by hand, totals, rolling
// origins.
#include "base/random.h"
#include "base/text.h"
#include "bench_support.h"
#include "read/text_reader.h"
#include "study/evaluate.h"
#include "study/forecast_answers.h"
#include "study/judge.h"
#include "study/load_rows.h"
#include "study/reach_measures.h"
#include "study/row_by_hand.h"

#include <benchmark/benchmark.h>

#include <cstdio>
#include <filesystem>
#include <string>
#include <vector>

using namespace oxgoad;

namespace {

Table columnsOf(std::size_t rows, int columns, std::uint64_t seed, bool response) {
    RandomStream random(seed, "forecasts");
    std::vector<Column> all;
    std::vector<double> y(rows, 0), t(rows);
    std::vector<std::int32_t> g(rows);
    std::vector<std::string> levels;
    for (int k = 0; k < 20; ++k)
        levels.push_back("g" + std::to_string(10 + k));
    for (int j = 0; j < columns; ++j) {
        std::vector<double> values(rows);
        for (std::size_t i = 0; i < rows; ++i) {
            values[i] = random.normal();
            y[i] += values[i] * (j % 5);
        }
        all.push_back(Column::ofNumbers("x" + std::to_string(j), std::move(values)));
    }
    for (std::size_t i = 0; i < rows; ++i) {
        y[i] += random.normal();
        t[i] = static_cast<double>(i);
        g[i] = static_cast<std::int32_t>(random.below(20));
    }
    all.push_back(Column::ofNumbers("t", std::move(t)));
    all.push_back(Column::ofFactor("g", std::move(g), std::move(levels)));
    if (response) all.push_back(Column::ofNumbers("y", std::move(y)));
    return Table(std::move(all));
}

struct Set {
    StudyRows rows;
    Recipe recipe;
    std::shared_ptr<const PreparedRows> prepared;
    Evidence evidence;
};

Set fitted(std::size_t learning, std::size_t coming, int columns) {
    Set out;
    out.rows.learning.table = columnsOf(learning, columns, 1, true);
    out.rows.forecast.emplace();
    out.rows.forecast->table = columnsOf(coming, columns, 2, false);
    out.recipe.rows.file = "rows.csv";
    out.recipe.response = "y";
    for (int j = 0; j < columns; ++j)
        out.recipe.terms.push_back(plainTerm("x" + std::to_string(j)));
    out.recipe.forecast.emplace();
    out.prepared = prepareRows(out.recipe, out.rows, {}, quietly());
    out.evidence = evaluate(out.recipe, out.rows, *out.prepared, {.checks = ChecksWanted::none}, quietly());
    return out;
}

/// A million rows of 30 columns scored with intervals and reach, over reading them. Limit: 1.5.
void scoresAMillion(benchmark::State& state) {
    const auto file = std::filesystem::temp_directory_path() / "oxgoad_bench_forecast.csv";
    constexpr std::size_t n = 1000000;
    {
        const Table table = columnsOf(n, 30, 2, false);
        std::FILE* out = std::fopen(file.c_str(), "w");
        for (int j = 0; j < 30; ++j)
            std::fprintf(out, "x%d%c", j, j == 29 ? '\n' : ',');
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t j = 0; j < 30; ++j)
                std::fprintf(out, "%.9g%c", table.columns()[j].numbers()[i], j == 29 ? '\n' : ',');
        std::fclose(out);
    }
    Set set = fitted(100000, 10, 30);
    for (auto _ : state) {
        RowsPlan plan;
        plan.file = file.string();
        RowsRead read;
        const double reading = seconds([&] { read = readRows(plan, {}, {}, {}, quietly()); }, 1);
        set.rows.forecast->table = std::move(read.table);
        const auto prepared = prepareRows(set.recipe, set.rows, {}, quietly());
        const double scoring = seconds(
            [&] {
                const Evidence scored =
                    evaluate(set.recipe, set.rows, *prepared,
                             {.study = set.evidence.study, .checks = ChecksWanted::none}, quietly());
                benchmark::DoNotOptimize(scored.forecast->lower.data());
            },
            1);
        state.counters["reading_s"] = reading;
        state.counters["scoring_s"] = scoring;
        state.counters["over_reading"] = scoring / reading;
        state.counters["over_reading_limit"] = 1.5;
    }
    std::filesystem::remove(file);
}
BENCHMARK(scoresAMillion)->Unit(benchmark::kSecond)->Iterations(1);

/// Ranges, leverage, neighbours and hull of 100,000 rows against 100,000 of 15 columns. Limit: 20 s.
void fullReach(benchmark::State& state) {
    const Set set = fitted(100000, 100000, 15);
    for (auto _ : state) {
        const double ranges = seconds(
            [&] {
                benchmark::DoNotOptimize(evaluate(set.recipe, set.rows, *set.prepared,
                                                  {.study = set.evidence.study, .checks = ChecksWanted::none},
                                                  quietly())
                                             .forecast->reach.data());
            },
            1);
        const double measures = seconds(
            [&] {
                benchmark::DoNotOptimize(reachMeasures(*set.evidence.study, set.prepared->table,
                                                       set.prepared->forecast->table, {}, quietly())
                                             .rows.data());
            },
            1);
        state.counters["first_s"] = ranges;
        state.counters["all_s"] = ranges + measures;
        state.counters["all_s_limit"] = 20;
    }
}
BENCHMARK(fullReach)->Unit(benchmark::kSecond)->Iterations(1);

/// One row by hand of 30 columns: prediction, interval, reach and ladder; and its scale of 100 places. Limit:
/// 30 ms for both.
void oneRowByHand(benchmark::State& state) {
    const Set set = fitted(100000, 10, 30);
    const RowByHand hand(set.evidence, set.recipe, *set.prepared, {}, quietly());
    auto values = hand.valuesOf({});
    double worst = 0;
    for (auto _ : state)
        for (std::size_t c = 0; c < values.size(); ++c) {
            values[c] = 0.1 * static_cast<double>(c);
            worst = std::max(worst, seconds(
                                        [&] {
                                            benchmark::DoNotOptimize(hand.ask(values).prediction);
                                            benchmark::DoNotOptimize(hand.along(values, c, 100).at.data());
                                        },
                                        1));
        }
    state.counters["ms"] = 1000 * worst;
    state.counters["ms_limit"] = 30;
}
BENCHMARK(oneRowByHand)->Unit(benchmark::kMillisecond)->Iterations(3);

/// Totals of 100,000 rows in all and by twenty levels, with intervals that carry what rows share. Limit: 2 s.
void totals(benchmark::State& state) {
    Set set = fitted(100000, 100000, 30);
    set.recipe.forecast->totals = {{}, {{{.column = "g"}}}};
    for (auto _ : state) {
        Evidence asked = set.evidence;
        const double took = seconds(
            [&] { answerForecast(asked, set.recipe, set.rows, *set.prepared, false, {}, quietly()); }, 1);
        benchmark::DoNotOptimize(asked.answers);
        state.counters["s"] = took;
        state.counters["s_limit"] = 2;
    }
}
BENCHMARK(totals)->Unit(benchmark::kSecond)->Iterations(3);

/// Ten rolling origins of 100,000 rows and 30 columns. Limit: 1 s.
void rollingOrigins(benchmark::State& state) {
    Set set = fitted(100000, 10, 30);
    Recipe recipe = set.recipe;
    recipe.forecast.reset();
    recipe.roles["t"] = Role::time;
    recipe.judge = FoldPlan{.kind = FoldKind::rollingOrigin, .folds = 10};
    recipe.judge->column = "t";
    StudyRows rows;
    rows.learning = set.rows.learning;
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    for (auto _ : state) {
        const double took = seconds(
            [&] { benchmark::DoNotOptimize(judgeByFolds(recipe, *prepared, "rows.csv", {}, quietly()).mse); },
            1);
        state.counters["s"] = took;
        state.counters["s_limit"] = 1;
    }
}
BENCHMARK(rollingOrigins)->Unit(benchmark::kSecond)->Iterations(3);

} // namespace

BENCHMARK_MAIN();
