#pragma once
// What benchmarks of the window share: the window shown, waiting for it, and how long it did not answer.
#include "app/files.h"
#include "app/window/main_window.h"
#include "base/file.h"
#include "base/random.h"

#include <QCoreApplication>
#include <QSettings>
#include <QTemporaryDir>
#include <QTimer>

#include <algorithm>
#include <chrono>
#include <functional>
#include <string>
#include <vector>

namespace oxgoad {

using Clock = std::chrono::steady_clock;

inline double since(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

/// The longest gap between beats of a timer: how long the window did not answer.
class Heartbeat {
public:
    Heartbeat() {
        QObject::connect(&m_timer, &QTimer::timeout, [this] {
            m_longest = std::max(m_longest, since(m_last));
            m_last = Clock::now();
        });
        m_timer.start(1);
    }
    void reset() {
        m_longest = 0;
        m_last = Clock::now();
    }
    double longestMs() const { return 1000 * m_longest; }

private:
    QTimer m_timer;
    Clock::time_point m_last = Clock::now();
    double m_longest = 0;
};

inline bool waitFor(const std::function<bool()>& done) {
    const auto start = Clock::now();
    QTimer beat;
    beat.start(2);
    while (!done()) {
        if (since(start) > 120) return false;
        QCoreApplication::processEvents(QEventLoop::WaitForMoreEvents); // sleeps until the next beat or event
    }
    return true;
}

struct Shown {
    QTemporaryDir folder;
    FileChooser files;
    QSettings settings{folder.filePath("s.ini"), QSettings::IniFormat};
    MainWindow window{files, settings};
    Shown() {
        window.resize(1280, 800);
        window.show();
    }
    void open(const QString& path) {
        window.open(path);
        waitFor([this] { return window.session().hasRows() && !window.session().jobs().busy(); });
        QCoreApplication::processEvents();
    }
};

/// y and `columns` numbers x0, x1 … on `rows` rows.
inline void writeRows(const QString& path, int rows, int columns) {
    RandomStream random(4, "bench");
    std::string text = "y";
    for (int j = 0; j < columns; ++j)
        text += ",x" + std::to_string(j);
    text += '\n';
    std::vector<double> x(static_cast<std::size_t>(columns));
    for (int i = 0; i < rows; ++i) {
        double y = random.normal();
        for (int j = 0; j < columns; ++j) {
            x[static_cast<std::size_t>(j)] = random.uniform();
            if (j < 10) y += x[static_cast<std::size_t>(j)] / (1 + j);
        }
        text += std::to_string(y);
        for (const double v : x)
            text += "," + std::to_string(v);
        text += '\n';
    }
    replaceFile(path.toStdString(), text);
}

} // namespace oxgoad
