// Ranking, pairs and the parts of a picture, on the sizes the Look station must bear.
#include "base/random.h"
#include "look/curve.h"
#include "look/lines.h"
#include "look/pairs.h"
#include "look/ranking.h"

#include <benchmark/benchmark.h>

#include <string>

using namespace oxgoad;

namespace {

struct Rows {
    Table table;
    std::vector<std::string> names;
    std::vector<double> target;
};

/// `columns` predictors, every tenth a factor of 12 levels, one in a hundred values missing.
Rows makeRows(std::size_t rows, std::size_t columns) {
    RandomStream random(1, "look");
    std::vector<Column> made;
    Rows result;
    result.target.resize(rows);
    for (double& y : result.target)
        y = random.normal();
    std::vector<std::string> levels;
    for (int k = 0; k < 12; ++k)
        levels.push_back("level " + std::to_string(k));
    for (std::size_t c = 0; c < columns; ++c) {
        result.names.push_back("column " + std::to_string(c));
        if (c % 10 == 9) {
            std::vector<std::int32_t> codes(rows);
            for (auto& code : codes)
                code = static_cast<std::int32_t>(random.below(12));
            made.push_back(Column::ofFactor(result.names.back(), codes, levels));
            continue;
        }
        std::vector<double> values(rows);
        for (std::size_t i = 0; i < rows; ++i) {
            values[i] = random.below(100) == 0 ? std::nan("") : random.normal();
            if (c < 5 && !std::isnan(values[i])) result.target[i] += values[i] * values[i];
        }
        made.push_back(Column::ofNumbers(result.names.back(), values));
    }
    result.table = Table(made);
    return result;
}

void ranking(benchmark::State& state) { // limit 1 s
    static const Rows rows = makeRows(100000, 100);
    Progress quiet;
    for (auto _ : state)
        benchmark::DoNotOptimize(rankColumns(rows.table, rows.target, {}, rows.names, {2}, quiet));
}
BENCHMARK(ranking)->Unit(benchmark::kMillisecond)->Iterations(5)->UseRealTime();

void pairs(benchmark::State& state) {
    static const Rows rows = makeRows(100000, 100);
    Progress quiet;
    for (auto _ : state)
        benchmark::DoNotOptimize(pairsOf(rows.table, {}, rows.names, {2}, quiet));
}
BENCHMARK(pairs)->Unit(benchmark::kMillisecond)->Iterations(3)->UseRealTime();

/// Line, curve with its bands, and what both explain of unseen rows: what a changed predictor needs.
void picture(benchmark::State& state) {
    const Rows rows = makeRows(static_cast<std::size_t>(state.range(0)), 1);
    const auto x = rows.table.columns()[0].numbers();
    const std::size_t judged = std::min<std::size_t>(x.size(), 200000);
    for (auto _ : state) {
        benchmark::DoNotOptimize(groupLines(x, rows.target, {}, 0));
        benchmark::DoNotOptimize(fitCurve(x, rows.target, {2}));
        benchmark::DoNotOptimize(
            crossValidateCurve(x.subspan(0, judged), std::span(rows.target).subspan(0, judged)));
    }
}
BENCHMARK(picture)->Arg(100000)->Arg(1000000)->Unit(benchmark::kMillisecond)->UseRealTime();

} // namespace

BENCHMARK_MAIN();
