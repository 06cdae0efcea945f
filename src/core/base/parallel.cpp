#include "base/parallel.h"

#include "base/urgent.h"

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

namespace {

std::atomic<int> urgentWork{0};
thread_local bool urgentThread = false;

/// Threads beside the calling one that a loop may start, taken from what the whole program has.
class Helpers {
public:
    Helpers(std::size_t wanted, bool shared) : m_shared(shared), m_count(wanted) {
        if (!shared) return;
        if (urgentThread || urgentWork > 0) {
            m_shared = false;
            if (!urgentThread) m_count = 0;
            return;
        }
        int spare = s_spare.load();
        int taken = 0;
        do
            taken = std::clamp(spare, 0, static_cast<int>(wanted));
        while (!s_spare.compare_exchange_weak(spare, spare - taken));
        m_count = static_cast<std::size_t>(taken);
    }
    ~Helpers() {
        if (m_shared) s_spare += static_cast<int>(m_count);
    }
    Helpers(const Helpers&) = delete;
    Helpers& operator=(const Helpers&) = delete;
    std::size_t count() const { return m_count; }

private:
    static inline std::atomic<int> s_spare{
        static_cast<int>(std::max(1u, std::thread::hardware_concurrency())) - 1};
    bool m_shared;
    std::size_t m_count;
};

} // namespace

Urgent::Urgent() {
    urgentThread = true;
    ++urgentWork;
}

Urgent::~Urgent() {
    urgentThread = false;
    --urgentWork;
}

void parallelFor(std::size_t count, Threads threads, const std::function<void(std::size_t)>& body) {
    const std::size_t wanted = std::min<std::size_t>(threads.resolved(), count);
    const Helpers helpers(wanted > 1 ? wanted - 1 : 0, threads.count == 0);
    const std::size_t workers = helpers.count() + 1;
    if (workers <= 1) {
        for (std::size_t i = 0; i < count; ++i)
            body(i);
        return;
    }
    std::atomic<std::size_t> next{0};
    std::mutex guard;
    std::exception_ptr failure;
    std::size_t failedAt = count;
    // A helper of a loop that is not urgent ends when urgent work waits; the loop's own thread does the rest.
    const bool yields = threads.count == 0 && !urgentThread;
    auto work = [&](bool helps) {
        while (!(helps && yields && urgentWork > 0)) {
            const std::size_t i = next.fetch_add(1);
            if (i >= count) break;
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
            pool.emplace_back(work, true);
        work(false);
    }
    if (failure) std::rethrow_exception(failure);
}

} // namespace oxgoad
