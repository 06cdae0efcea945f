#pragma once
// A small parallel loop. Results never depend on the number of threads: callers cut the work into
// chunks of fixed size, each chunk writes its own place, and sums are taken in the order of chunks.
#include <cstddef>
#include <functional>

namespace oxgoad {

/// How many threads a loop may use; 0 means as many as the machine has cores, less those that other such
/// loops of the program use at the time: however many jobs run beside each other, together they never take
/// more.
struct Threads {
    unsigned count = 0;
    unsigned resolved() const;
};

/// Calls `body(i)` once for every i in 0..count-1, on up to `threads` threads. The first exception (by
/// smallest i among those that were thrown) is rethrown after all threads have ended.
void parallelFor(std::size_t count, Threads threads, const std::function<void(std::size_t)>& body);

} // namespace oxgoad
