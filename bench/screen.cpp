// Screening all pairs of 60 columns at 100,000 rows (limit 5 s, and 50 times faster than fitting with each);
// twice the precision against plain doubles.
#include "estimate/linear/screen.h"
#include "base/random.h"

#include <benchmark/benchmark.h>

#include <chrono>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;

namespace {

const MatrixXd& matrix() {
    static const MatrixXd x = [] {
        RandomStream random(7, "bench");
        MatrixXd m(100000, 60);
        for (Index j = 0; j < m.cols(); ++j)
            for (Index i = 0; i < m.rows(); ++i)
                m(i, j) = random.uniform();
        return m;
    }();
    return x;
}

const std::vector<double>& response() {
    static const std::vector<double> y = [] {
        RandomStream random(8, "bench");
        std::vector<double> values;
        for (Index i = 0; i < matrix().rows(); ++i)
            values.push_back(matrix()(i, 3) * matrix()(i, 7) + random.uniform());
        return values;
    }();
    return y;
}

/// Products of pairs of columns.
class PairRows final : public RowSource {
public:
    explicit PairRows(std::vector<std::pair<Index, Index>> pairs) : m_pairs(std::move(pairs)) {}
    Index rows() const override { return matrix().rows(); }
    Index columns() const override { return static_cast<Index>(m_pairs.size()); }
    void fill(Index begin, Eigen::Ref<MatrixXd> block) const override {
        for (std::size_t k = 0; k < m_pairs.size(); ++k)
            block.col(static_cast<Index>(k)) =
                matrix()
                    .col(m_pairs[k].first)
                    .segment(begin, block.rows())
                    .cwiseProduct(matrix().col(m_pairs[k].second).segment(begin, block.rows()));
    }

private:
    std::vector<std::pair<Index, Index>> m_pairs;
};

double seconds(const std::function<void()>& work) {
    const auto start = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

void screenPairs(benchmark::State& state) {
    Progress quiet;
    LeastSquaresOptions options;
    options.threads = {2};
    options.precision = LeastSquaresOptions::Precision::plain;
    const MatrixRows x(matrix());
    LeastSquaresFit fit;
    const double one = seconds([&] { fit = fitLeastSquares(x, response(), options, quiet); });
    double screening = 0;
    std::size_t pairs = 0;
    for (auto _ : state) {
        std::vector<std::pair<Index, Index>> batch;
        pairs = 0;
        screening = seconds([&] {
            const auto screen = [&] {
                std::vector<ScreenBlock> blocks;
                for (std::size_t k = 0; k < batch.size(); ++k)
                    blocks.push_back({{k}, 0});
                benchmark::DoNotOptimize(screenBlocks(fit, x, PairRows(batch), blocks, {}, {2}, quiet));
                pairs += batch.size();
                batch.clear();
            };
            for (Index a = 0; a < 60; ++a)
                for (Index b = a + 1; b < 60; ++b) {
                    batch.emplace_back(a, b);
                    if (batch.size() == 256) screen();
                }
            screen();
        });
        state.SetIterationTime(screening);
    }
    state.counters["pairs"] = static_cast<double>(pairs);
    state.counters["screening_s"] = screening;
    state.counters["screening_s_limit"] = 5;
    state.counters["times_faster_than_refits"] = one * static_cast<double>(pairs) / screening;
    state.counters["at_least"] = 50;
}
BENCHMARK(screenPairs)->UseManualTime()->Iterations(3)->Unit(benchmark::kMillisecond);

/// How many times a plain fit a fit to twice the precision costs, where the conditioning asks for it.
void twicePrecision(benchmark::State& state) {
    MatrixXd x = matrix().leftCols(30);
    x.col(29) = x.col(28) + 1e-3 * x.col(29); // condition number of some thousands
    Progress quiet;
    LeastSquaresOptions plain, exact;
    plain.threads = exact.threads = {2};
    plain.precision = LeastSquaresOptions::Precision::plain;
    double simple = 0, twice = 0;
    for (auto _ : state) {
        simple = seconds([&] { fitLeastSquares(MatrixRows(x), response(), plain, quiet); });
        twice = seconds([&] {
            if (!fitLeastSquares(MatrixRows(x), response(), exact, quiet).exact)
                state.SkipWithError("not to twice the precision");
        });
        state.SetIterationTime(twice);
    }
    state.counters["times_plain"] = twice / simple;
}
BENCHMARK(twicePrecision)->UseManualTime()->Iterations(5)->Unit(benchmark::kMillisecond);

} // namespace

BENCHMARK_MAIN();
