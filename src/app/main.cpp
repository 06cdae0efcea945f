// Oxgoad: the window.
#include "app/theme.h"
#include "app/window/main_window.h"

#include <QApplication>
#include <QCommandLineParser>
#include <QSocketNotifier>

#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <csignal>

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    QApplication::setApplicationName("oxgoad");
    QApplication::setOrganizationName("oxgoad");
    QApplication::setApplicationVersion(OXGOAD_VERSION);
    QApplication::setDesktopFileName("oxgoad");
    oxgoad::theme::apply(application);
    QCommandLineParser parser;
    parser.setApplicationDescription("Fits, checks and forecasts with regression models.");
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addPositionalArgument("file", "A project (.oxgoad), a recipe (.json) or a text file with rows.",
                                 "[file]");
    parser.process(application);
    oxgoad::FileChooser files;
    QSettings settings;
    oxgoad::MainWindow window(files, settings);
    window.show();
    // The end of a session, or whoever ends the program, loses nothing.
    static std::array<int, 2> told{};
    if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, told.data()) == 0) {
        auto* end = new QSocketNotifier(told[1], QSocketNotifier::Read, &window);
        QObject::connect(end, &QSocketNotifier::activated, &window, [end, &window] {
            end->setEnabled(false);
            window.endSession();
        });
        for (const int signal : {SIGTERM, SIGHUP, SIGINT})
            std::signal(signal, [](int) {
                const char byte = 1;
                [[maybe_unused]] const auto written = ::write(told[0], &byte, 1);
            });
    }
    if (!parser.positionalArguments().isEmpty()) window.open(parser.positionalArguments().first());
    return QApplication::exec();
}
