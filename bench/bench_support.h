#pragma once
// What the benchmarks share. A counter NAME_limit is the most that the counter NAME may be: what
// `scripts/bench --check` asks.
#include "base/progress.h"

#include <algorithm>
#include <chrono>
#include <fstream>
#include <functional>
#include <malloc.h>
#include <string>

namespace oxgoad {

inline Progress& quietly() {
    static Progress progress;
    return progress;
}

/// The best of some times.
inline double seconds(const std::function<void()>& work, int times = 3) {
    double best = 1e9;
    for (int i = 0; i < times; ++i) {
        const auto start = std::chrono::steady_clock::now();
        work();
        best =
            std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
    }
    return best;
}

/// Of /proc/self/status, in bytes.
inline double ofProcess(const std::string& name) {
    std::ifstream status("/proc/self/status");
    for (std::string line; std::getline(status, line);)
        if (line.starts_with(name + ":")) return 1024 * std::stod(line.substr(name.size() + 1));
    return 0;
}

/// Memory that work takes at most beside what is there before it.
inline double peakBytes(const std::function<void()>& work) {
    malloc_trim(0);
    std::ofstream("/proc/self/clear_refs") << 5; // the most so far is what there is now
    const double before = ofProcess("VmRSS");
    work();
    return ofProcess("VmHWM") - before;
}

} // namespace oxgoad
