#pragma once
// Sorting of long rows that stops when told.
#include "base/progress.h"

#include <algorithm>
#include <cstdint>
#include <functional>
#include <vector>

namespace oxgoad {

/// Sorts in place as std::sort does, and throws Stopped within some ten thousands of comparisons of a stop;
/// the values are then in any order. Requires what std::sort requires, and values that copy without failing.
template <class Value, class Less = std::less<>>
void sortUnlessStopped(std::vector<Value>& values, const Progress& progress, Less less = {}) {
    std::uint32_t comparisons = 0;
    std::sort(values.begin(), values.end(), [&](const Value& a, const Value& b) {
        if ((++comparisons & 0x3FFFU) == 0) stopIfTold(progress);
        return less(a, b);
    });
}

} // namespace oxgoad
