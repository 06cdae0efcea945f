#pragma once
// Progress on a terminal, and the request to stop by an interrupt.
#include "base/progress.h"

#include <chrono>
#include <mutex>

namespace oxgoad {

/// From now on SIGINT and SIGTERM ask for a stop, and a limit on the size of files is an error like a full
/// disk.
void listenToSignals();

/// One line, rewritten; nothing when standard error is a file.
class TerminalProgress final : public Progress {
public:
    explicit TerminalProgress(bool shown);
    ~TerminalProgress() override { clear(); }
    bool stopRequested() const override;
    bool serveStop() override {
        goOn();
        return true;
    }
    void report(double share, std::string_view message) override;
    void clear();
    /// Forgets a stop that was asked for and served.
    void goOn();

private:
    bool m_shown;
    std::mutex m_guard;
    std::chrono::steady_clock::time_point m_start = std::chrono::steady_clock::now();
    std::chrono::steady_clock::time_point m_last{};
};

} // namespace oxgoad
