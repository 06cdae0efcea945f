#include "workspace/jobs.h"

#include "workspace/text.h"

#include <QCoreApplication>
#include <QPointer>
#include <algorithm>
#include <atomic>
#include <chrono>
#include <mutex>
#include <sys/resource.h>

namespace oxgoad {

namespace {

constexpr double quietSeconds = 0.35;

/// The thread that calls, and those that it starts, leave the cores to the window's whenever that has
/// something to do.
void standBack() {
    constexpr int further = 10;
    // On Linux these are of the thread alone.
    setpriority(PRIO_PROCESS, 0, getpriority(PRIO_PROCESS, 0) + further);
}

} // namespace

class Jobs::Running final : public Progress {
public:
    Running(Jobs* owner, QString title, Otherwise otherwise)
        : m_owner(owner), m_title(std::move(title)), m_otherwise(std::move(otherwise)) {}
    void report(double share, std::string_view message) override {
        const std::lock_guard lock(m_guard);
        const auto now = std::chrono::steady_clock::now();
        if (now - m_last < std::chrono::milliseconds(60)) return;
        m_last = now;
        const double elapsed = std::chrono::duration<double>(now - m_start).count();
        if (elapsed < quietSeconds) return; // short work is not worth a word, and the window would flicker
        const double left = share > 0.03 && elapsed > 0.5 ? elapsed * (1 - share) / share : -1;
        QMetaObject::invokeMethod(
            m_owner,
            [owner = m_owner, self = this, share, text = qs(message), left] {
                if (owner->m_running.get() == self) emit owner->progressed(share, text, left);
            },
            Qt::QueuedConnection);
    }
    void course(std::string_view run, double step, double learning, double unseen) override {
        const std::lock_guard lock(m_guard);
        if (m_courseOver) return;
        auto& runs = m_course.runs;
        if (runs.empty() || runs.back().name != run) {
            // What comes again is learned for something else: a fold, a part of the rows.
            m_courseOver =
                std::any_of(runs.begin(), runs.end(), [&](const auto& r) { return r.name == run; });
            if (m_courseOver) return;
            runs.push_back({.name = std::string(run)});
        } else if (!runs.back().step.empty() && step <= runs.back().step.back()) {
            m_courseOver = true;
            return;
        }
        runs.back().step.push_back(step);
        runs.back().learning.push_back(learning);
        runs.back().unseen.push_back(unseen);
        const auto now = std::chrono::steady_clock::now();
        if (now - m_lastCourse < std::chrono::milliseconds(250)) return;
        m_lastCourse = now;
        QMetaObject::invokeMethod(
            m_owner,
            [owner = m_owner, self = this, so = std::make_shared<const LearningCourse>(m_course)] {
                if (owner->m_running.get() == self) emit owner->coursed(so);
            },
            Qt::QueuedConnection);
    }
    bool stopRequested() const override { return m_stop; }
    bool serveStop() override {
        if (m_outdated) return false;
        m_stop = false;
        return true;
    }
    /// Somebody wants what there is so far; nobody wants anything of it any more.
    void requestStop() { m_stop = true; }
    void end() {
        m_outdated = true;
        m_stop = true;
    }
    const QString& title() const { return m_title; }
    const Otherwise& otherwise() const { return m_otherwise; }
    /// The thread has nothing left to do: joining it does not wait.
    bool over() const { return m_over; }
    void setOver() { m_over = true; }

private:
    Jobs* m_owner;
    QString m_title;
    Otherwise m_otherwise;
    std::atomic<bool> m_over{false};
    std::atomic<bool> m_stop{false}, m_outdated{false};
    std::mutex m_guard;
    LearningCourse m_course;
    bool m_courseOver = false;
    std::chrono::steady_clock::time_point m_lastCourse{};
    std::chrono::steady_clock::time_point m_start = std::chrono::steady_clock::now();
    std::chrono::steady_clock::time_point m_last{};
};

Jobs::Jobs(QObject* parent) : QObject(parent) {}

Jobs::~Jobs() {
    if (m_running) m_running->end();
    m_running.reset();
    m_threads.clear(); // joins: everything stops soon after it was asked to
    QCoreApplication::removePostedEvents(this);
}

void Jobs::start(const QString& title, Work work, Otherwise otherwise) {
    if (m_running) m_running->end();
    auto job = std::make_shared<Running>(this, title, std::move(otherwise));
    const bool wasBusy = m_running != nullptr;
    m_running = job;
    // Threads of outdated jobs end soon after they were asked to. Only those that ended are joined: joining
    // another one would make the window wait.
    std::erase_if(m_threads, [](const Thread& thread) { return thread.job->over(); });
    m_threads.push_back(
        {job, std::jthread([this, job, work = std::move(work)] {
             standBack();
             Finish finish;
             QString failure;
             bool wasStopped = false;
             try {
                 finish = work(*job);
             } catch (const Stopped&) {
                 wasStopped = true;
             } catch (const std::bad_alloc&) {
                 failure = tr("There is not enough memory for this.");
             } catch (const std::exception& error) {
                 failure = qs(error.what());
             }
             QMetaObject::invokeMethod(
                 this,
                 [this, job, finish, failure, wasStopped] { ended(job.get(), finish, failure, wasStopped); },
                 Qt::QueuedConnection);
             job->setOver();
         })});
    if (!wasBusy) emit busyChanged(true);
}

void Jobs::stop() {
    if (m_running) m_running->requestStop();
}

void Jobs::drop() {
    if (!m_running) return;
    m_running->end();
    m_running.reset();
    emit busyChanged(false);
}

void Jobs::ended(Running* job, const Finish& finish, const QString& failure, bool wasStopped) {
    if (m_running.get() != job) return; // outdated
    const auto keep = m_running;
    m_running.reset();
    const bool halted = wasStopped || keep->stopRequested();
    if ((!failure.isEmpty() || halted) && keep->otherwise()) keep->otherwise()(failure.isEmpty());
    if (!failure.isEmpty())
        emit failed(failure);
    else if (halted)
        emit stopped(keep->title());
    else if (finish)
        finish();
    if (!m_running) emit busyChanged(false);
}

} // namespace oxgoad
