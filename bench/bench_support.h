#pragma once
// What the benchmarks share.
#include "base/progress.h"

#include <algorithm>
#include <chrono>
#include <functional>

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

} // namespace oxgoad
