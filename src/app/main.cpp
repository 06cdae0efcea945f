// Oxgoad: the window.
#include "app/theme.h"
#include "app/window/main_window.h"

#include <QApplication>
#include <QCommandLineParser>

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
    if (!parser.positionalArguments().isEmpty()) window.open(parser.positionalArguments().first());
    return QApplication::exec();
}
