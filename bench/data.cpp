// Workbooks against unpacking and parsing alone, the ledger, joins, the rows view's sorting, and peak memory.
#include "base/random.h"
#include "bench_support.h"
#include "ledger/ledger.h"
#include "prepare/arrange.h"
#include "read/stack_join.h"
#include "read/text_reader.h"
#include "read/workbook.h"

#include <benchmark/benchmark.h>
#include <expat.h>
#include <xlsxwriter.h>
#include <zip.h>

#include <array>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <string>

using namespace oxgoad;

namespace {

/// 100,000 × 20: ten numbers, five dates, five texts.
const std::filesystem::path& workbookFile() {
    static const std::filesystem::path path = [] {
        const auto file = std::filesystem::temp_directory_path() / "oxgoad-bench-rows.xlsx";
        lxw_workbook* book = workbook_new(file.c_str());
        lxw_worksheet* sheet = workbook_add_worksheet(book, nullptr);
        lxw_format* dates = workbook_add_format(book);
        format_set_num_format(dates, "yyyy-mm-dd");
        RandomStream random(1, "workbook");
        const std::array words{"spot", "annual", "anchor", "north", "islands"};
        for (lxw_col_t c = 0; c < 20; ++c)
            worksheet_write_string(sheet, 0, c, ("column " + std::to_string(c)).c_str(), nullptr);
        for (lxw_row_t r = 1; r <= 100000; ++r)
            for (lxw_col_t c = 0; c < 20; ++c) {
                if (c < 10)
                    worksheet_write_number(sheet, r, c, random.uniform() * 1e6, nullptr);
                else if (c < 15)
                    worksheet_write_number(sheet, r, c, 45000 + static_cast<double>(random.below(1000)),
                                           dates);
                else
                    worksheet_write_string(sheet, r, c, words[random.below(5)], nullptr);
            }
        workbook_close(book);
        return file;
    }();
    return path;
}

/// Unpacks the sheet and lets the parser see it, with handlers that do nothing.
void unpackAndParse() {
    int failure = 0;
    zip_t* archive = zip_open(workbookFile().c_str(), ZIP_RDONLY, &failure);
    for (const char* part : {"xl/sharedStrings.xml", "xl/worksheets/sheet1.xml"}) {
        zip_file_t* file = zip_fopen(archive, part, 0);
        XML_Parser parser = XML_ParserCreate(nullptr);
        XML_SetElementHandler(
            parser, [](void*, const char*, const char**) {}, [](void*, const char*) {});
        XML_SetCharacterDataHandler(parser, [](void*, const char*, int) {});
        std::vector<char> block(256U << 10U);
        for (zip_int64_t n = 0; (n = zip_fread(file, block.data(), block.size())) > 0;)
            XML_Parse(parser, block.data(), static_cast<int>(n), 0);
        XML_Parse(parser, "", 0, 1);
        XML_ParserFree(parser);
        zip_fclose(file);
    }
    zip_discard(archive);
}

std::size_t peakBytes() {
    std::ifstream status("/proc/self/status");
    std::string word;
    std::size_t kilobytes = 0;
    while (status >> word)
        if (word == "VmHWM:") status >> kilobytes;
    return kilobytes * 1024;
}

/// What a fresh process prints that reads one file: the most memory it needed above what it had, over the
/// table.
int printPeak(const std::string& what, const std::filesystem::path& path) {
    Progress quiet;
    const std::size_t before = peakBytes();
    const std::size_t table =
        (what == "text" ? readText(path, {}, {}, quiet) : readWorkbook(path, {}, {}, quiet))
            .table.valueBytes();
    std::printf("%.3f\n", static_cast<double>(peakBytes() - before) / static_cast<double>(table));
    return 0;
}

double peakOver(const std::string& what, const std::filesystem::path& path) {
    const std::string self = std::filesystem::read_symlink("/proc/self/exe").string();
    FILE* pipe = popen((self + " --peak " + what + " " + path.string()).c_str(), "r");
    double ratio = 0;
    if (!pipe || std::fscanf(pipe, "%lf", &ratio) != 1) ratio = 0;
    if (pipe) pclose(pipe);
    return ratio;
}

/// 1,000,000 × 12 text, as bench_read has it.
void textPeak(benchmark::State& state) {
    const auto file = std::filesystem::temp_directory_path() / "oxgoad-bench-peak.csv";
    {
        RandomStream random(1, "peak");
        std::ofstream out(file);
        out << "a,b,c,d,e,f,g,h,month,contract,region,depot\n";
        std::array<char, 256> line{};
        for (int i = 0; i < 1000000; ++i) {
            for (int c = 0; c < 8; ++c)
                out.write(line.data(),
                          std::snprintf(line.data(), line.size(), "%.4f,", 1000 * random.uniform()));
            out.write(line.data(), std::snprintf(line.data(), line.size(),
                                                 "2025-%02d-01,spot,north,depot %d\n", 1 + i % 12, i % 40));
        }
    }
    double peak = 0;
    for (auto _ : state)
        peak = peakOver("text", file);
    state.counters["peak_over_table"] = peak;
    state.counters["peak_over_table_limit"] = 3;
    std::filesystem::remove(file);
}
BENCHMARK(textPeak)->Unit(benchmark::kMillisecond)->Iterations(1)->UseRealTime();

void workbook(benchmark::State& state) {
    workbookFile();
    Progress quiet;
    const double memory = peakOver("workbook", workbookFile());
    const double alone = seconds(unpackAndParse);
    double best = 1e9;
    for (auto _ : state)
        best = std::min(
            best,
            seconds(
                [&] { benchmark::DoNotOptimize(readWorkbook(workbookFile(), {}, {}, quiet).table.rows()); },
                1));
    state.counters["times_unpack_and_parse"] = best / alone;
    state.counters["times_unpack_and_parse_limit"] = 4;
    state.counters["peak_over_table"] = memory;
    state.counters["peak_over_table_limit"] = 3;
}
BENCHMARK(workbook)->Unit(benchmark::kMillisecond)->Iterations(3)->UseRealTime();

Table wideRows(std::size_t rows, std::size_t columns) {
    std::vector<Column> all;
    for (std::size_t c = 0; c < columns; ++c) {
        RandomStream random(c + 1, "wide");
        if (c % 5 == 4) {
            std::vector<std::int32_t> codes(rows);
            for (auto& code : codes)
                code = static_cast<std::int32_t>(random.below(40));
            std::vector<std::string> levels;
            for (int l = 0; l < 40; ++l)
                levels.push_back("level " + std::to_string(l));
            all.push_back(Column::ofFactor("f" + std::to_string(c), std::move(codes), std::move(levels)));
        } else {
            std::vector<double> values(rows);
            for (double& value : values)
                value = c % 2 ? random.normal() : static_cast<double>(random.below(5000));
            all.push_back(Column::ofNumbers("n" + std::to_string(c), std::move(values)));
        }
    }
    return Table(std::move(all));
}

const Table& millionByFifty() {
    static const Table table = wideRows(1000000, 50);
    return table;
}

void ledger(benchmark::State& state) {
    const Table& table = millionByFifty();
    Progress quiet;
    double best = 1e9;
    for (auto _ : state)
        best =
            std::min(best, seconds(
                               [&] {
                                   benchmark::DoNotOptimize(
                                       makeLedger({.table = table, .used = {}, .response = "n0"}, {2}, quiet)
                                           .columns.size());
                               },
                               1));
    state.counters["seconds"] = best;
    state.counters["seconds_limit"] = 2;
}
BENCHMARK(ledger)->Unit(benchmark::kMillisecond)->Iterations(3)->UseRealTime();

void sortRows(benchmark::State& state) {
    const Table& table = millionByFifty();
    Progress quiet;
    for (auto _ : state)
        benchmark::DoNotOptimize(arrangeRows(table, {.sortBy = "n1", .descending = true}, {}, quiet).size());
}
BENCHMARK(sortRows)->Unit(benchmark::kMillisecond)->Iterations(3)->UseRealTime();

void joinMillion(benchmark::State& state) {
    RandomStream random(7, "join");
    std::vector<double> key(1000000), second(10000), value(10000);
    for (double& k : key)
        k = static_cast<double>(random.below(10000));
    for (std::size_t i = 0; i < second.size(); ++i) {
        second[i] = static_cast<double>(i);
        value[i] = random.uniform();
    }
    RowsRead rows{wideRows(1000000, 9).withColumn(Column::ofNumbers("key", key)), {}};
    const RowsRead other{Table({Column::ofNumbers("key", second), Column::ofNumbers("value", value),
                                Column::ofNumbers("twice", value)}),
                         {}};
    Progress quiet;
    double best = 1e9;
    for (auto _ : state)
        best = std::min(
            best, seconds(
                      [&] {
                          benchmark::DoNotOptimize(
                              joinRows(rows, other, "second", {{"key", "key"}}, {2}, quiet).table.rows());
                      },
                      1));
    state.counters["seconds"] = best;
    state.counters["seconds_limit"] = 1;
}
BENCHMARK(joinMillion)->Unit(benchmark::kMillisecond)->Iterations(3)->UseRealTime();

} // namespace

int main(int argc, char** argv) {
    if (argc == 4 && std::string(argv[1]) == "--peak") return printPeak(argv[2], argv[3]);
    benchmark::Initialize(&argc, argv);
    benchmark::RunSpecifiedBenchmarks();
}
