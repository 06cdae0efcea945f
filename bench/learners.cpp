// Flexible learners against the limits they are meant to keep.
#include "base/random.h"
#include "bench_support.h"
#include "estimate/boosted/boosted.h"
#include "estimate/forest/forest.h"
#include "estimate/formula/formula.h"
#include "estimate/network/network.h"

#include <benchmark/benchmark.h>

#include <cmath>
#include <string>
#include <vector>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;

namespace {

struct Drawn {
    Table table;
    std::vector<double> y;
    Inputs inputs;
    std::vector<std::uint32_t> rows;
};

const Drawn& drawn() {
    static const Drawn made = [] {
        constexpr std::size_t n = 100000;
        RandomStream random(6, "learners");
        std::vector<Column> columns;
        Drawn out;
        out.y.assign(n, 0);
        for (int j = 0; j < 20; ++j) {
            std::vector<double> values(n);
            for (std::size_t i = 0; i < n; ++i) {
                values[i] = random.uniform();
                out.y[i] += j == 0 ? 3 * values[i] : j == 1 ? std::sin(6 * values[i]) : 0;
            }
            columns.push_back(Column::ofNumbers("x" + std::to_string(j), std::move(values)));
            out.inputs.push_back({.name = "x" + std::to_string(j), .factor = false, .levels = {}});
        }
        for (std::size_t i = 0; i < n; ++i) {
            out.y[i] += random.normal();
            out.rows.push_back(static_cast<std::uint32_t>(i));
        }
        out.table = Table(std::move(columns));
        return out;
    }();
    return made;
}

/// 200 trees of 100,000 rows of 20 columns, a third of the columns a question. A general-purpose library
/// takes 74 s on both cores of the same machine (all cores asked for, the same settings).
void growsForest(benchmark::State& state) {
    const Drawn& d = drawn();
    const BoundInputs inputs(d.inputs, d.table, "");
    const std::vector<Term> terms;
    const TrainingData training{.inputs = inputs,
                                .rows = d.rows,
                                .y = d.y,
                                .weights = {},
                                .terms = terms,
                                .unitsName = noName,
                                .file = noName};
    Settings settings{"forest", {{"stop_early", false}}};
    double best = 0;
    for (auto _ : state)
        best = seconds([&] { kindOf(settings).learn(settings, training, quietly()); }, 1);
    state.counters["s_best"] = best;
    state.counters["s_best_limit"] = 74;
}
BENCHMARK(growsForest)->Unit(benchmark::kSecond)->Iterations(1);

/// 300 trees of 31 leaves of the same rows. Limit: 3 s.
void boosts(benchmark::State& state) {
    const Drawn& d = drawn();
    TreeRows rows;
    rows.levels.assign(20, 0);
    rows.y = d.y;
    for (const Column& column : d.table.columns())
        rows.columns.emplace_back(column.numbers().begin(), column.numbers().end());
    double best = 0;
    for (auto _ : state)
        best = seconds([&] { boost(rows, d.inputs, {}, {}, quietly()); }, 2);
    state.counters["s_best"] = best;
    state.counters["s_best_limit"] = 3;
}
BENCHMARK(boosts)->Unit(benchmark::kSecond)->Iterations(1);

NetworkRows networkRows(Index n) {
    RandomStream random(7, "network");
    NetworkRows rows;
    rows.x.resize(25, n);
    for (double& v : rows.x.reshaped())
        v = random.normal();
    for (Index i = 0; i < n; ++i)
        rows.y.push_back(std::sin(rows.x(0, i)) + 0.1 * random.normal());
    return rows;
}

/// 10,000 passes of a network 25–100–1 over 200 rows. Limit: 3 s.
void trainsFewRows(benchmark::State& state) {
    NetworkShape shape;
    shape.sizes = {25, 100, 1};
    const NetworkRows rows = networkRows(200);
    NetworkOptions options;
    options.passes = 10000;
    options.patience = 0;
    double best = 0;
    for (auto _ : state)
        best = seconds([&] { train(shape, options, rows, {}, 1, {}, quietly()); }, 1);
    state.counters["s_best"] = best;
    state.counters["s_best_limit"] = 3;
}
BENCHMARK(trainsFewRows)->Unit(benchmark::kSecond)->Iterations(1);

/// The same network over 100,000 rows: seconds a million row-passes. Limit: 0.5.
void trainsManyRows(benchmark::State& state) {
    NetworkShape shape;
    shape.sizes = {25, 100, 1};
    const NetworkRows rows = networkRows(100000);
    NetworkOptions options;
    options.passes = 20;
    options.patience = 0;
    double best = 0;
    for (auto _ : state)
        best = seconds([&] { train(shape, options, rows, {}, 1, {}, quietly()); }, 1);
    state.counters["s_a_million"] = best / 2;
    state.counters["s_a_million_limit"] = 0.5;
}
BENCHMARK(trainsManyRows)->Unit(benchmark::kSecond)->Iterations(1);

/// Nodes of formulas worked out over 400 rows: millions of nodes times rows a second, one core; and a search
/// of 80 generations on such rows, whose front is of use. Limit: 30 s.
void searchesFormulas(benchmark::State& state) {
    RandomStream random(8, "formulas");
    MatrixXd columns(400, 5);
    for (double& v : columns.reshaped())
        v = 1 + random.uniform();
    std::vector<double> y;
    for (Index i = 0; i < 400; ++i)
        y.push_back(columns(i, 0) * columns(i, 1) / columns(i, 2) + 0.05 * random.normal());
    const FormulaTree tree{{.operation = Operation::add},
                           {.operation = Operation::divide},
                           {.operation = Operation::multiply},
                           {.operation = Operation::column, .column = 0},
                           {.operation = Operation::column, .column = 1},
                           {.operation = Operation::column, .column = 2},
                           {.operation = Operation::constant, .constant = 2}};
    FormulaOptions options;
    options.operations = {Operation::add, Operation::subtract, Operation::multiply, Operation::divide,
                          Operation::logarithm};
    double working = 0, searching = 0, error = 0;
    for (auto _ : state) {
        working = seconds([&] {
            for (int k = 0; k < 2000; ++k)
                benchmark::DoNotOptimize(valuesOf(tree, columns).data());
        });
        searching =
            seconds([&] { error = searchFormulas(columns, y, {}, options, {}, quietly()).back().mse; }, 1);
    }
    state.counters["million_nodes_a_second"] = 2000.0 * 7 * 400 / working / 1e6;
    state.counters["s_search"] = searching;
    state.counters["s_search_limit"] = 30;
    state.counters["error_over_noise"] = error / 0.0025;
    state.counters["error_over_noise_limit"] = 1.2;
}
BENCHMARK(searchesFormulas)->Unit(benchmark::kSecond)->Iterations(1);

} // namespace

BENCHMARK_MAIN();
