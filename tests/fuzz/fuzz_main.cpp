// Runs a fuzz target without a fuzzing engine: the seeds as they are, then mutations of them, for a number of
// seconds. The same numbers every run. With clang's libFuzzer the targets are linked to its own main instead.
//   fuzz_x SECONDS SEED_FILE...
#include "base/random.h"

#include <chrono>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <iterator>
#include <string>
#include <vector>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size);

namespace {

std::string mutated(const std::vector<std::string>& seeds, oxgoad::RandomStream& random) {
    static const std::vector<std::string> pieces{"\"",
                                                 "\"\"",
                                                 ",",
                                                 ";",
                                                 "\n",
                                                 "\r\n",
                                                 "\r",
                                                 "\t",
                                                 "NA",
                                                 "?",
                                                 "1e308",
                                                 "-0",
                                                 "99999999999999999999",
                                                 "\xEF\xBB\xBF",
                                                 "\xFF\xFE",
                                                 std::string(1, '\0'),
                                                 "{",
                                                 "}",
                                                 "[",
                                                 "]",
                                                 ":",
                                                 "null",
                                                 "true",
                                                 "1e999",
                                                 "\\u0000",
                                                 "2025-02-30",
                                                 "\xC3",
                                                 "<",
                                                 "/>",
                                                 "&lt;",
                                                 "&#x0;",
                                                 "<c r=\"XFD1048576\">",
                                                 "number-rows-repeated=\"999999999\"",
                                                 "t=\"s\"",
                                                 "(",
                                                 ")",
                                                 "{x}",
                                                 "and",
                                                 "^",
                                                 "é"};
    std::string bytes = seeds[random.below(seeds.size())];
    for (std::uint64_t k = 1 + random.below(6); k > 0; --k) {
        const std::size_t at = bytes.empty() ? 0 : random.below(bytes.size() + 1);
        switch (random.below(6)) {
        case 0:
            bytes.insert(at, pieces[random.below(pieces.size())]);
            break;
        case 1:
            if (at < bytes.size()) bytes[at] = static_cast<char>(random.next());
            break;
        case 2:
            if (at < bytes.size()) bytes.erase(at, 1 + random.below(8));
            break;
        case 3:
            bytes.resize(at);
            break;
        case 4:
            bytes.insert(at, bytes.substr(at / 2, random.below(40)));
            break;
        default:
            bytes += seeds[random.below(seeds.size())].substr(0, random.below(60));
        }
    }
    return bytes;
}

} // namespace

int main(int argc, char** argv) {
    if (argc < 3) return 2;
    std::vector<std::string> seeds;
    for (int i = 2; i < argc; ++i) {
        std::ifstream in(argv[i], std::ios::binary);
        seeds.emplace_back(std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>());
        seeds.back().resize(std::min<std::size_t>(seeds.back().size(), 6000));
    }
    auto run = [](const std::string& bytes) {
        LLVMFuzzerTestOneInput(reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size());
    };
    for (const auto& seed : seeds)
        run(seed);
    oxgoad::RandomStream random(1, "fuzz");
    const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(std::atof(argv[1]));
    std::size_t runs = 0;
    while (std::chrono::steady_clock::now() < end) {
        run(mutated(seeds, random));
        ++runs;
    }
    std::printf("%zu runs\n", runs);
    return 0;
}
