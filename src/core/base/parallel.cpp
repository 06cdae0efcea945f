#include "base/parallel.h"

#include <algorithm>
#include <atomic>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

namespace oxgoad {

unsigned Threads::resolved() const {
    return count > 0 ? count : std::max(1u, std::thread::hardware_concurrency());
}

void parallelFor(std::size_t count, Threads threads, const std::function<void(std::size_t)>& body) {
    const std::size_t workers = std::min<std::size_t>(threads.resolved(), count);
    if (workers <= 1) {
        for (std::size_t i = 0; i < count; ++i)
            body(i);
        return;
    }
    std::atomic<std::size_t> next{0};
    std::mutex guard;
    std::exception_ptr failure;
    std::size_t failedAt = count;
    auto work = [&] {
        for (std::size_t i = next.fetch_add(1); i < count; i = next.fetch_add(1)) {
            try {
                body(i);
            } catch (...) {
                const std::lock_guard lock(guard);
                if (i < failedAt) {
                    failedAt = i;
                    failure = std::current_exception();
                }
                next.store(count);
            }
        }
    };
    {
        std::vector<std::jthread> pool;
        pool.reserve(workers - 1);
        for (std::size_t t = 1; t < workers; ++t)
            pool.emplace_back(work);
        work();
    }
    if (failure) std::rethrow_exception(failure);
}

} // namespace oxgoad
