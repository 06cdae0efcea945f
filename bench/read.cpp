// Reading 1,000,000 × 12 text: MB/s, and the ratio to a plain read of the same file in the same run.
#include "base/file.h"
#include "base/random.h"
#include "base/text.h"
#include "read/text_reader.h"

#include <benchmark/benchmark.h>

#include <array>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <string>

using namespace oxgoad;

namespace {

const std::filesystem::path& rowsFile() {
    static const std::filesystem::path path = [] {
        auto file = std::filesystem::temp_directory_path() / "oxgoad-bench-rows.csv";
        RandomStream random(1, "bench");
        std::string text = "depot,month,places,occupancy,list_rate,contract,region,energy,temperature,hours,"
                           "promotion,revenue\n";
        constexpr std::array contracts{"spot", "annual", "anchor"};
        constexpr std::array regions{"north", "east", "south", "west", "islands"};
        for (int i = 0; i < 1000000; ++i) {
            std::array<char, 256> line{};
            const int length = std::snprintf(
                line.data(), line.size(),
                "depot %02d,2025-%02d-01,%d,%.4f,%.2f,%s,%s,%.2f,%.2f,%.1f,%.3f,%.2f\n", i % 40, 1 + i % 12,
                static_cast<int>(1000 + random.below(19000)), random.uniform(), 10 + 30 * random.uniform(),
                contracts[random.below(3)], regions[random.below(5)], 60 + 80 * random.uniform(),
                40 * random.uniform() - 10, 100 + 600 * random.uniform(), 9999 * random.uniform(),
                10000 + 490000 * random.uniform());
            text.append(line.data(), static_cast<std::size_t>(length));
        }
        replaceFile(file, text);
        return file;
    }();
    return path;
}

double secondsOfPlainRead() {
    double best = 1e9;
    for (int i = 0; i < 5; ++i) {
        const auto start = std::chrono::steady_clock::now();
        benchmark::DoNotOptimize(readBytes(rowsFile(), {}).size());
        best =
            std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
    }
    return best;
}

void readText(benchmark::State& state) {
    const double plain = secondsOfPlainRead();
    Progress progress;
    const Threads threads{static_cast<unsigned>(state.range(0))};
    double best = 1e9;
    std::size_t bytes = 0, values = 0;
    for (auto _ : state) {
        const auto start = std::chrono::steady_clock::now();
        const RowsRead read = oxgoad::readText(rowsFile(), {}, threads, progress);
        best =
            std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
        bytes = read.report.bytes;
        values = read.table.valueBytes();
    }
    const double megabytes = static_cast<double>(bytes) / 1e6;
    state.counters["MB_s_best"] = megabytes / best;
    state.counters["MB_s_mean"] =
        benchmark::Counter(megabytes * static_cast<double>(state.iterations()), benchmark::Counter::kIsRate);
    state.counters["times_plain_read"] = best / plain;
    // Eight number columns of 8 bytes, four of codes or days of 4.
    state.counters["memory_over_values"] = static_cast<double>(values) / (1e6 * (8 * 8 + 4 * 4));
}
BENCHMARK(readText)->Arg(1)->Arg(2)->Unit(benchmark::kMillisecond)->Iterations(7)->UseRealTime();

} // namespace

BENCHMARK_MAIN();
