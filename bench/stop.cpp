// How long work goes on after it was told to stop: the longest of stops asked for at tenths of its way,
// against 100 ms. "Stopped" of 9 says how many came before the work was done.
#include "estimate/linear/least_squares.h"
#include "estimate/penalised/penalised_path.h"
#include "look/pairs.h"
#include "look/ranking.h"
#include "study/choose_terms.h"
#include "study/evaluate.h"
#include "study/what_helps.h"
#include "wide_support.h"

#include <benchmark/benchmark.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <functional>
#include <thread>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;

namespace {

using Work = std::function<void(Progress&)>;

class Told final : public Progress {
public:
    bool stopRequested() const override { return m_told; }
    void tell() { m_told = true; }

private:
    std::atomic<bool> m_told = false;
};

void stops(benchmark::State& state, const Work& work) {
    for (auto _ : state) {
        const double whole = seconds([&] { work(quietly()); }, 1);
        double worst = 0;
        int stopped = 0;
        for (int tenth = 1; tenth < 10; ++tenth) {
            Told told;
            std::chrono::steady_clock::time_point ended;
            std::jthread thread([&] {
                try {
                    work(told);
                } catch (const Stopped&) { // others come back with what they have
                }
                ended = std::chrono::steady_clock::now();
            });
            std::this_thread::sleep_for(std::chrono::duration<double>(whole * tenth / 10));
            const auto asked = std::chrono::steady_clock::now();
            told.tell();
            thread.join();
            if (ended < asked) continue;
            ++stopped;
            worst = std::max(worst, std::chrono::duration<double>(ended - asked).count());
        }
        state.counters["whole_s"] = whole;
        state.counters["worst_ms"] = 1000 * worst;
        state.counters["stopped"] = stopped;
        state.counters["worst_ms_limit"] = 100;
    }
}

Work learning(Made m, Errors errors = {}) {
    m.recipe.errors = std::move(errors);
    return [m = std::move(m)](Progress& progress) { learnOnce(m, progress); };
}

Work evaluating(Made m, ChecksWanted checks) {
    std::shared_ptr<const PreparedRows> prepared = prepareRows(m.recipe, m.rows, {2}, quietly());
    return [m = std::move(m), prepared, checks](Progress& progress) {
        benchmark::DoNotOptimize(
            evaluate(m.recipe, m.rows, *prepared, {.threads = {2}, .checks = checks}, progress));
    };
}

/// Another kind of model on 40,000 rows of 20 numbers and a factor, intervals and all.
Work ofKind(const std::string& kind, FieldValues fields) {
    Made m = made(kind == "formula" ? 2000 : 40000, 20, 30);
    m.recipe.estimator = {kind, std::move(fields)};
    return learning(std::move(m));
}

Work wideAndLong() {
    RandomStream random(2, "wide");
    auto x = std::make_shared<MatrixXd>(100000, 500);
    auto y = std::make_shared<std::vector<double>>(100000);
    for (double& value : x->reshaped())
        value = random.uniform();
    for (double& value : *y)
        value = random.uniform();
    return [x, y](Progress& progress) {
        benchmark::DoNotOptimize(fitLeastSquares(MatrixRows(*x), *y, {.threads = {2}}, progress));
    };
}

Work choosing(int columns, ChooseBy by) {
    Made m = made(5000, columns, 0);
    std::shared_ptr<const PreparedRows> prepared = prepareRows(m.recipe, m.rows, {2}, quietly());
    return [m = std::move(m), prepared, by](Progress& progress) {
        const auto used = rowsUsed(m.recipe, *prepared, {});
        const ChoosePlan plan{.by = by, .criterion = ChooseCriterion::bic};
        chooseAmong(m.recipe, prepared->table, {}, used.learning, plan, {2}, progress);
    };
}

Work looking() {
    auto m = std::make_shared<Made>(made(5000, 1500, 0));
    return [m](Progress& progress) {
        std::vector<std::string> names;
        for (int j = 0; j < 1500; ++j)
            names.push_back("x" + std::to_string(j));
        const Table& table = m->rows.learning.table;
        benchmark::DoNotOptimize(rankColumns(table, table.at("y", {}).numbers(), {}, names, {2}, progress));
        benchmark::DoNotOptimize(pairsOf(table, {}, names, {2}, progress));
    };
}

Work helping(Made made) {
    auto m = std::make_shared<Made>(std::move(made));
    m->recipe.terms.resize(3);
    std::shared_ptr<const PreparedRows> prepared = prepareRows(m->recipe, m->rows, {2}, quietly());
    return [m, prepared](Progress& progress) {
        benchmark::DoNotOptimize(whatHelps(m->recipe, *prepared, {2}, progress));
    };
}

Work judging(Made m, FoldPlan plan) {
    m.recipe.judge = std::move(plan);
    return evaluating(std::move(m), ChecksWanted::quick);
}

Work path(Index rows, Index columns, Index group = 1) {
    RandomStream random(5, "stops");
    auto x = std::make_shared<MatrixXd>(rows, columns);
    auto y = std::make_shared<std::vector<double>>();
    for (double& value : x->reshaped())
        value = random.normal();
    for (Index i = 0; i < rows; ++i)
        y->push_back((*x)(i, 0) - (*x)(i, 1) + random.normal());
    PenaltyOptions options;
    for (Index j = 0; group > 1 && j < columns; ++j)
        options.groups.push_back(static_cast<std::size_t>(j / group));
    return [x, y, options](Progress& progress) {
        const MatrixRows source(*x);
        const PenalisedProblem problem = problemOf(source, *y, {}, options, {2}, progress);
        benchmark::DoNotOptimize(penalisedPath(problem, options, usualPenalties(problem, options), progress));
    };
}

void add(const char* name, const std::function<Work()>& make) {
    benchmark::RegisterBenchmark(name, [make](benchmark::State& state) { stops(state, make()); })
        ->Iterations(1)
        ->Unit(benchmark::kMillisecond)
        ->UseRealTime();
}

Made withSlopes(Made m) {
    m.recipe.terms.push_back(Term{{TermPart{"x0"}, TermPart{"article"}}});
    return m;
}

} // namespace

int main(int argc, char** argv) {
    benchmark::Initialize(&argc, argv);
    add("fit/5000_levels", [] { return learning(made(1000000, 8, 5000)); });
    add("fit/5000_slopes", [] { return learning(withSlopes(made(1000000, 8, 5000))); });
    add("fit/2000_and_100_levels", [] { return learning(made(1000000, 8, 2000, 100)); });
    add("fit/hc3_5000_levels",
        [] { return learning(made(1000000, 8, 5000, 12), {.kind = CovarianceKind::hc3}); });
    add("fit/500_columns", [] { return wideAndLong(); });
    add("evaluate/5000_levels", [] { return evaluating(made(300000, 8, 5000), ChecksWanted::all); });
    add("evaluate/400_terms", [] { return evaluating(made(4000, 400, 0), ChecksWanted::all); });
    add("choose/forward_1500", [] { return choosing(1500, ChooseBy::forward); });
    add("choose/backward_300", [] { return choosing(300, ChooseBy::backward); });
    add("look/1500", [] { return looking(); });
    add("helps/1500", [] { return helping(made(2000, 1500, 0)); });
    add("helps/million", [] { return helping(made(1000000, 8, 10)); });
    add("judge/bootstrap",
        [] { return judging(made(100000, 30, 0), {.kind = FoldKind::bootstrap, .draws = 50}); });
    add("judge/bootstrap_levels",
        [] { return judging(made(100000, 8, 300), {.kind = FoldKind::bootstrap, .draws = 10}); });
    add("judge/folds_levels", [] { return judging(made(300000, 8, 300, 40), {}); });
    add("kinds/tree", [] { return ofKind("tree", {{"complexity", std::string(smallestErrorRule)}}); });
    add("kinds/neighbours", [] { return ofKind("neighbours", {{"count", std::string(smallestErrorRule)}}); });
    add("kinds/forest", [] { return ofKind("forest", {{"trees", 60.0}}); });
    add("kinds/boosted", [] { return ofKind("boosted", {{"rounds", 100.0}}); });
    add("kinds/network", [] { return ofKind("network", {{"passes", 20.0}}); });
    add("kinds/formula", [] { return ofKind("formula", {{"generations", 20.0}}); });
    add("kinds/average", [] {
        return ofKind("average", {{"models", std::vector<std::string>{"least squares", "tree"}}});
    });
    add("path/groups_3000_900", [] { return path(3000, 900, 6); });
    add("path/2000_2000", [] { return path(2000, 2000); });
    add("path/20000_400", [] { return path(20000, 400); });
    benchmark::RunSpecifiedBenchmarks();
    return 0;
}
