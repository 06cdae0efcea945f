#pragma once
#include "look/ranking.h"

#include <QElapsedTimer>

#include <mutex>
#include <utility>
#include <vector>

namespace oxgoad {

/// Columns that were ranked and are not shown yet. Added by workers, taken by the window.
class RankedColumns {
public:
    /// True when it is time to show what has come: ten times a second, however many come.
    bool add(const RankedColumn& column) {
        const std::lock_guard lock(m_mutex);
        m_columns.push_back(column);
        if (m_called || (m_since.isValid() && m_since.elapsed() < 100)) return false;
        return m_called = true;
    }
    std::vector<RankedColumn> take() {
        const std::lock_guard lock(m_mutex);
        m_called = false;
        m_since.start();
        return std::exchange(m_columns, {});
    }

private:
    std::mutex m_mutex;
    std::vector<RankedColumn> m_columns;
    QElapsedTimer m_since;
    bool m_called = false;
};

} // namespace oxgoad
