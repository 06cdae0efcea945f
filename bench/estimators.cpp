// Estimators and choices against the limits they are meant to keep, and the memory they take beside the model
// matrix: quantile regression 100,000 × 20 within 3 s, best subsets of 30 within 10 s, a tick of the term
// table at 100,000 × 50 within 150 ms and at 1,000,000 × 30 within 1 s, no method above 3 times the model
// matrix.
#include "base/random.h"
#include "bench_support.h"
#include "estimate/linear/robust_errors.h"
#include "estimate/linear/robust_fit.h"
#include "study/choose_terms.h"
#include "study/evaluate.h"

#include <benchmark/benchmark.h>

#include <chrono>
#include <functional>
#include <malloc.h>
#include <map>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;

namespace {

struct Rows {
    MatrixXd x;
    std::vector<double> y;
};

Rows invented(Index n, Index k, bool heavyTails) {
    RandomStream random(4, "estimators bench");
    Rows rows{MatrixXd(n, k), std::vector<double>(static_cast<std::size_t>(n))};
    for (Index i = 0; i < n; ++i) {
        double y = 0;
        const double shared = random.normal();
        for (Index j = 0; j < k; ++j) {
            rows.x(i, j) = random.normal() + 0.3 * shared;
            y += rows.x(i, j) / static_cast<double>(j + 1);
        }
        const double e = random.normal();
        rows.y[static_cast<std::size_t>(i)] = y + (heavyTails ? e * e * e : e);
    }
    return rows;
}

/// Peak memory that `work` adds, in bytes: in a process of its own.
double peakOf(const std::function<void()>& work) {
    malloc_trim(0); // or memory that was given back already would not be counted
    int ends[2];
    if (pipe(ends) != 0) return 0;
    if (const pid_t child = fork(); child == 0) {
        rusage before{}, after{};
        getrusage(RUSAGE_SELF, &before);
        work();
        getrusage(RUSAGE_SELF, &after);
        const double kilobytes = static_cast<double>(after.ru_maxrss - before.ru_maxrss);
        const bool told = write(ends[1], &kilobytes, sizeof kilobytes) == sizeof kilobytes;
        _exit(told ? 0 : 1);
    }
    double kilobytes = 0;
    if (read(ends[0], &kilobytes, sizeof kilobytes) != sizeof kilobytes) kilobytes = 0;
    int status = 0;
    wait(&status);
    close(ends[0]);
    close(ends[1]);
    return 1024 * kilobytes;
}

void measured(benchmark::State& state, double limit, double matrixBytes, const std::function<void()>& work) {
    const double peak = matrixBytes > 0 ? peakOf(work) : 0;
    double best = 1e9;
    for (auto _ : state) {
        const auto start = std::chrono::steady_clock::now();
        work();
        best =
            std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
    }
    state.counters["seconds_best"] = best;
    if (limit > 0) {
        state.counters["seconds_best_limit"] = limit;
        state.counters["share_of_limit"] = best / limit;
    }
    if (matrixBytes > 0) state.counters["times_matrix"] = peak / matrixBytes;
}

void onMatrix(benchmark::State& state, Index n, Index k, double limit,
              const std::function<void(LeastSquaresFit&, const MatrixRows&, const Rows&)>& work) {
    static std::map<std::pair<Index, Index>, Rows> kept;
    if (!kept.contains({n, k})) kept[{n, k}] = invented(n, k, true);
    const Rows& rows = kept[{n, k}];
    const MatrixRows x(rows.x);
    measured(state, limit, static_cast<double>(n * k) * sizeof(double), [&] {
        LeastSquaresFit fit = fitLeastSquares(x, rows.y, {}, quietly());
        if (work) work(fit, x, rows);
        benchmark::DoNotOptimize(fit.coefficients.data());
    });
}

void quantile(benchmark::State& state) {
    onMatrix(state, 100000, 20, 3, [](LeastSquaresFit& fit, const MatrixRows& x, const Rows& rows) {
        const Iterated said = fitQuantile(fit, x, rows.y, 0.9, {}, {}, quietly());
        if (!said.exactVertex) std::abort();
    });
}
void robust(benchmark::State& state) {
    onMatrix(state, 100000, 20, 3, [](LeastSquaresFit& fit, const MatrixRows& x, const Rows& rows) {
        if (!fitRobust(fit, x, rows.y, {.influence = Influence::bisquare}, quietly()).converged) std::abort();
    });
}
void unequalSpread(benchmark::State& state) {
    onMatrix(state, 100000, 30, 0, [](LeastSquaresFit& fit, const MatrixRows& x, const Rows&) {
        benchmark::DoNotOptimize(robustErrors(fit, x, {}, CovarianceKind::hc3, {}, 0, {}, quietly())
                                     .covarianceRoot.columns()
                                     .data());
    });
}
void leastSquares(benchmark::State& state) {
    onMatrix(state, 1000000, 30, 0, {});
}
/// The condition number is above 300 here, so that the solver goes to twice the precision.
void twiceThePrecision(benchmark::State& state) {
    static const Rows rows = [] {
        Rows made = invented(300000, 30, false);
        made.x.col(7) = made.x.col(6) + 1e-3 * made.x.col(7);
        return made;
    }();
    const MatrixRows x(rows.x);
    measured(state, 0, 300000.0 * 30 * sizeof(double), [&] {
        const LeastSquaresFit fit = fitLeastSquares(x, rows.y, {}, quietly());
        if (!fit.exact) std::abort();
    });
}

void subsets(benchmark::State& state) {
    const Rows rows = invented(2000, 30, false);
    MatrixXd whole(2000, 32);
    whole.col(0).setOnes();
    whole.middleCols(1, 30) = rows.x;
    whole.col(31) = Eigen::Map<const Eigen::VectorXd>(rows.y.data(), 2000);
    std::vector<std::vector<Index>> groups;
    for (Index j = 1; j <= 30; ++j)
        groups.push_back({j});
    measured(state, 10, 0,
             [&] { benchmark::DoNotOptimize(bestSubsets(whole, 1, groups, {}, quietly()).data()); });
}

/// A table of n rows and k numbers, prepared, a third held out.
struct Made {
    Recipe recipe;
    StudyRows rows;
    std::shared_ptr<const PreparedRows> prepared;
};
const Made& study(Index n, Index k) {
    static std::map<std::pair<Index, Index>, Made> kept;
    Made& made = kept[{n, k}];
    if (made.prepared) return made;
    const Rows rows = invented(n, k, false);
    std::vector<Column> columns{Column::ofNumbers("y", rows.y)};
    for (Index j = 0; j < k; ++j) {
        const std::string name = "x" + std::to_string(j);
        columns.push_back(Column::ofNumbers(name, {rows.x.col(j).begin(), rows.x.col(j).end()}));
        made.recipe.terms.push_back(plainTerm(name));
    }
    made.rows.learning.table = Table(std::move(columns));
    made.recipe.response = "y";
    made.recipe.setAside = SetAside{.share = 0.3, .seed = 7};
    made.prepared = prepareRows(made.recipe, made.rows, {}, quietly());
    return made;
}

/// What a tick of the term table waits for: one term fewer, the whole evidence anew.
void tick(benchmark::State& state, Index n, Index k, double limit) {
    const Made& made = study(n, k);
    Recipe recipe = made.recipe;
    recipe.terms.pop_back();
    measured(state, limit, static_cast<double>(n * k) * sizeof(double), [&] {
        const Evidence evidence = evaluate(recipe, made.rows, *made.prepared, {}, quietly());
        benchmark::DoNotOptimize(evidence.linear->coefficients.data());
    });
}

void choose(benchmark::State& state) {
    const Made& made = study(100000, 50);
    measured(state, 0, 100000.0 * 50 * sizeof(double), [&] {
        const Choice choice =
            chooseTerms(made.recipe, *made.prepared, {.criterion = ChooseCriterion::bic}, {}, quietly());
        benchmark::DoNotOptimize(choice.terms.data());
    });
}

} // namespace

BENCHMARK(quantile)->Name("quantile 0.9, 100,000 x 20")->Iterations(3)->Unit(benchmark::kMillisecond);
BENCHMARK(robust)->Name("bisquare, 100,000 x 20")->Iterations(3)->Unit(benchmark::kMillisecond);
BENCHMARK(unequalSpread)->Name("HC3, 100,000 x 30")->Iterations(3)->Unit(benchmark::kMillisecond);
BENCHMARK(leastSquares)->Name("least squares, 1,000,000 x 30")->Iterations(3)->Unit(benchmark::kMillisecond);
BENCHMARK(twiceThePrecision)
    ->Name("twice the precision, 300,000 x 30")
    ->Iterations(3)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(subsets)->Name("best subsets of 30")->Iterations(3)->Unit(benchmark::kMillisecond);
BENCHMARK(choose)
    ->Name("forward by BIC, 100,000 x 50, five folds")
    ->Iterations(3)
    ->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(tick, small, 100000, 50, 0.15)
    ->Name("tick, 100,000 x 50")
    ->Iterations(5)
    ->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(tick, large, 1000000, 30, 1.0)
    ->Name("tick, 1,000,000 x 30")
    ->Iterations(3)
    ->Unit(benchmark::kMillisecond);

BENCHMARK_MAIN();
