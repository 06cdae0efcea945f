#pragma once
// Long work off the interface thread, one job at a time.
#include "base/progress.h"
#include "model/learned_model.h"

#include <QObject>
#include <QString>
#include <functional>
#include <memory>
#include <thread>
#include <vector>

namespace oxgoad {

/// Runs one job in the background. A new job stops the one before it; the outdated answer is dropped.
class Jobs : public QObject {
    Q_OBJECT
public:
    /// Called on the interface thread with the job's result.
    using Finish = std::function<void()>;
    /// Runs in the background; returns what to do with the result. Errors of the core may be thrown.
    using Work = std::function<Finish(Progress&)>;

    explicit Jobs(QObject* parent = nullptr);
    ~Jobs() override;

    /// Called on the interface thread when the job failed or was stopped, before the signal that says so; not
    /// when a newer job took its place.
    using Otherwise = std::function<void(bool stopped)>;
    void start(const QString& title, Work work, Otherwise otherwise = {});
    /// Asks the running job to stop. stopped() and busyChanged() follow, unless what it has is of use and it
    /// ends with that.
    void stop();
    /// Stops the running job without a word: its answer is of no use any more.
    void drop();
    bool busy() const { return m_running != nullptr; }

signals:
    /// A job began or ended.
    void busyChanged(bool busy);
    /// Share 0..1, what is done now, and seconds left (negative when not known yet).
    void progressed(double share, const QString& message, double secondsLeft);
    /// How learning goes so far; now and then.
    void coursed(const std::shared_ptr<const LearningCourse>& course);
    void failed(const QString& sentence);
    void stopped(const QString& title);

private:
    class Running;
    void ended(Running* job, const Finish& finish, const QString& failure, bool wasStopped);

    struct Thread {
        std::shared_ptr<Running> job;
        std::jthread thread;
    };
    std::shared_ptr<Running> m_running;
    std::vector<Thread> m_threads;
};

} // namespace oxgoad
