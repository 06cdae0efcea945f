#pragma once
// Progress that is told to stop somewhere on the way.
#include "base/progress.h"

#include <atomic>

namespace oxgoad::test {

/// Stops after it was asked so many times; says how often it was asked.
class StopsAfterAsked final : public Progress {
public:
    explicit StopsAfterAsked(int times) : m_times(times) {}
    bool stopRequested() const override { return ++m_asked > m_times; }
    int asked() const { return m_asked; }

private:
    int m_times;
    mutable std::atomic<int> m_asked = 0;
};

/// Never stops; for counting how often work asks.
inline StopsAfterAsked neverStops() {
    return StopsAfterAsked(1 << 30);
}

} // namespace oxgoad::test
