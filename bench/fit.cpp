// Least squares with full inference, residuals and leverages on 1,000,000 × 30 against one X'X product of the
// same matrix with the same threads, measured in the same run. Limit: 12 times.
#include "base/random.h"
#include "estimate/linear/least_squares.h"

#include <benchmark/benchmark.h>

#include <chrono>
#include <vector>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;

namespace {

const MatrixXd& matrix() {
    static const MatrixXd x = [] {
        RandomStream random(2, "bench");
        MatrixXd m(1000000, 30);
        for (Index j = 0; j < m.cols(); ++j)
            for (Index i = 0; i < m.rows(); ++i)
                m(i, j) = random.uniform();
        return m;
    }();
    return x;
}

const std::vector<double>& response() {
    static const std::vector<double> y = [] {
        RandomStream random(3, "bench");
        std::vector<double> values(static_cast<std::size_t>(matrix().rows()));
        for (std::size_t i = 0; i < values.size(); ++i)
            values[i] = 2 * matrix()(static_cast<Index>(i), 3) + random.uniform();
        return values;
    }();
    return y;
}

/// X'X over row blocks on the given threads.
double secondsOfCrossProduct(Threads threads) {
    const MatrixXd& x = matrix();
    constexpr Index rows = 2048;
    const Index blocks = (x.rows() + rows - 1) / rows;
    const auto workers = static_cast<Index>(threads.resolved());
    double best = 1e9;
    for (int repeat = 0; repeat < 7; ++repeat) {
        const auto start = std::chrono::steady_clock::now();
        std::vector<MatrixXd> parts(static_cast<std::size_t>(workers), MatrixXd::Zero(x.cols(), x.cols()));
        parallelFor(static_cast<std::size_t>(workers), threads, [&](std::size_t w) {
            for (Index b = static_cast<Index>(w); b < blocks; b += workers) {
                const auto block = x.middleRows(b * rows, std::min(rows, x.rows() - b * rows));
                parts[w].selfadjointView<Eigen::Lower>().rankUpdate(block.transpose());
            }
        });
        for (std::size_t w = 1; w < parts.size(); ++w)
            parts[0] += parts[w];
        benchmark::DoNotOptimize(parts[0].data());
        best =
            std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
    }
    return best;
}

void leastSquares(benchmark::State& state) {
    const Threads threads{static_cast<unsigned>(state.range(0))};
    const MatrixRows x(matrix());
    const double product = secondsOfCrossProduct(threads);
    Progress progress;
    double best = 1e9;
    for (auto _ : state) {
        const auto start = std::chrono::steady_clock::now();
        const auto fit = fitLeastSquares(x, response(), {.threads = threads}, progress);
        benchmark::DoNotOptimize(fit.leverages.data());
        best =
            std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
    }
    state.counters["seconds_best"] = best;
    state.counters["crossproduct_s"] = product;
    state.counters["times_crossproduct"] = best / product;
    state.counters["times_crossproduct_limit"] = 12;
}
BENCHMARK(leastSquares)->Arg(1)->Arg(2)->Unit(benchmark::kMillisecond)->Iterations(5)->UseRealTime();

} // namespace

BENCHMARK_MAIN();
