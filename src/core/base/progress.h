#pragma once
// Progress of long work, and the request to stop it.
#include "base/error.h"

#include <string_view>

namespace oxgoad {

/// Handed to every long computation. Methods may be called from any thread at any time.
class Progress {
public:
    virtual ~Progress() = default;
    /// `share` of the work done, from 0 to 1, and what is being done now, in the user's words.
    virtual void report(double share, std::string_view message) {
        (void)share;
        (void)message;
    }
    /// A point of the course of learning, as it runs: what learning rows and unseen rows (NaN for none) are
    /// missed by after so many steps of a named run.
    virtual void course(std::string_view run, double step, double learning, double unseen) {
        (void)run;
        (void)step;
        (void)learning;
        (void)unseen;
    }
    virtual bool stopRequested() const { return false; }
    /// Whoever keeps what it has of long work serves the stop: it is not requested any more, until the next.
    /// False where a stop is to end everything.
    virtual bool serveStop() { return false; }
    /// Reports, then throws Stopped when a stop was asked for.
    void checkpoint(double share, std::string_view message) {
        if (stopRequested()) throw Stopped{};
        report(share, message);
    }
};

/// For loops that have nothing to report. Throws Stopped when a stop was asked for.
inline void stopIfTold(const Progress& progress) {
    if (progress.stopRequested()) throw Stopped{};
}

/// Maps 0..1 of one stage of the work onto from..to of the whole.
class ProgressStage : public Progress {
public:
    ProgressStage(Progress& whole, double from, double to) : m_whole(whole), m_from(from), m_to(to) {}
    void report(double share, std::string_view message) override {
        m_whole.report(m_from + share * (m_to - m_from), message);
    }
    void course(std::string_view run, double step, double learning, double unseen) override {
        m_whole.course(run, step, learning, unseen);
    }
    bool stopRequested() const override { return m_whole.stopRequested(); }
    bool serveStop() override { return m_whole.serveStop(); }

private:
    Progress& m_whole;
    double m_from;
    double m_to;
};

/// Work beside other work that reports for it: only a stop gets through, and ends it.
class StopOnly : public Progress {
public:
    explicit StopOnly(const Progress& whole) : m_whole(whole) {}
    bool stopRequested() const override { return m_whole.stopRequested(); }

private:
    const Progress& m_whole;
};

/// Work of which nothing can be kept by itself: a stop ends it.
class FirmStage : public ProgressStage {
public:
    using ProgressStage::ProgressStage;
    bool serveStop() override { return false; }
};

} // namespace oxgoad
