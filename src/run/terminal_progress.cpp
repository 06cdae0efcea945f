#include "run/terminal_progress.h"

#include "base/text.h"

#include <csignal>
#include <iostream>
#include <unistd.h>

namespace oxgoad {

namespace {

volatile std::sig_atomic_t interrupted = 0;

void interrupt(int) {
    interrupted = 1;
}

} // namespace

void listenToSignals() {
    std::signal(SIGINT, interrupt);
    std::signal(SIGTERM, interrupt);
    std::signal(SIGXFSZ, SIG_IGN);
}

TerminalProgress::TerminalProgress(bool shown) : m_shown(shown && ::isatty(STDERR_FILENO)) {}

bool TerminalProgress::stopRequested() const {
    return interrupted != 0;
}

void TerminalProgress::report(double share, std::string_view message) {
    if (!m_shown) return;
    const std::lock_guard lock(m_guard);
    const auto now = std::chrono::steady_clock::now();
    if (now - m_last < std::chrono::milliseconds(100)) return;
    m_last = now;
    const double elapsed = std::chrono::duration<double>(now - m_start).count();
    std::string left;
    if (share > 0.02 && elapsed > 1)
        left = ", about " + readableText(elapsed * (1 - share) / share, 2) + " s left";
    std::cerr << "\r\033[K" << static_cast<int>(100 * share) << " %  " << message << left << std::flush;
}

void TerminalProgress::goOn() {
    interrupted = 0;
}

void TerminalProgress::clear() {
    if (m_shown) std::cerr << "\r\033[K" << std::flush;
}

} // namespace oxgoad
