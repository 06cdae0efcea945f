// Takes the pictures of docs/screenshots from the demo project, so that they can be made anew after a change:
//   oxgoad-pictures PROJECT.oxgoad FOLDER [station]
#include "app/theme.h"
#include "app/window/main_window.h"
#include "workspace/text.h"

#include <QApplication>
#include <QElapsedTimer>
#include <QTemporaryDir>
#include <QTest>
#include <cstdio>

using namespace oxgoad;

int main(int argc, char** argv) {
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication application(argc, argv);
    if (argc < 3) return 2;
    theme::apply(application);
    QTemporaryDir folder;
    QSettings settings(folder.filePath("settings.ini"), QSettings::IniFormat);
    FileChooser files;
    MainWindow window(files, settings);
    window.resize(1280, 800);
    window.show();
    window.open(QString::fromLocal8Bit(argv[1]));
    if (!QTest::qWaitFor(
            [&] { return window.session().evidence() != nullptr && !window.session().jobs().busy(); },
            20000)) {
        std::fprintf(stderr, "%s\n", qPrintable(window.failureShown()));
        return 1;
    }
    window.session().view()["look.predictor"] = "list_rate";
    window.session().view()["look.group"] = "contract";
    for (const auto* station : {"data", "look", "fit", "check", "compare", "forecast"}) {
        if (argc > 3 && QString(argv[3]) != station) continue;
        if (QString(station) == "check") window.session().selectRow(276);
        window.showStation(station);
        QTest::qWait(400);
        window.grab().save(QString::fromLocal8Bit(argv[2]) + "/" + station + ".png");
    }
    return 0;
}
