#include "app/window/main_window.h"

#include "app/brief/brief_bar.h"
#include "app/check/check_station.h"
#include "app/compare/compare_station.h"
#include "app/data/data_station.h"
#include "app/fit/fit_station.h"
#include "app/forecast/forecast_station.h"
#include "app/goads/goads_panel.h"
#include "app/look/look_station.h"
#include "app/parts.h"
#include "app/trail/trail_strip.h"
#include "app/window/help_window.h"
#include "app/window/rail_icons.h"
#include "app/window/selection_bar.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QApplication>
#include <QButtonGroup>
#include <QCloseEvent>
#include <QDateTime>
#include <QDir>
#include <QDragEnterEvent>
#include <QFileInfo>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QMenu>
#include <QMimeData>
#include <QProgressBar>
#include <QShortcut>
#include <QStackedWidget>
#include <QStandardPaths>
#include <QToolButton>
#include <QVBoxLayout>

namespace oxgoad {

namespace {

constexpr int recentKept = 8;

} // namespace

MainWindow::MainWindow(FileChooser& files, QSettings& settings, QWidget* parent)
    : QMainWindow(parent), m_files(files), m_settings(settings), m_session(this) {
    auto* page = new QWidget(this);
    page->setObjectName("page");
    page->setAttribute(Qt::WA_StyledBackground);
    auto* rail = new QWidget(page);
    rail->setObjectName("rail");
    rail->setAttribute(Qt::WA_StyledBackground);
    m_brief = new BriefBar(m_session, page);
    m_goads = new GoadsPanel(m_session, page);
    m_trail = new TrailStrip(m_session, page);
    m_selection = new SelectionBar(m_session, page);
    m_messageLine = new QWidget(page);
    m_stack = new QStackedWidget(page);
    for (Station* station : std::initializer_list<Station*>{
             new DataStation(m_session, m_files, m_stack), new LookStation(m_session, m_stack),
             new FitStation(m_session, m_stack), new CheckStation(m_session, m_stack),
             new CompareStation(m_session, m_stack), new ForecastStation(m_session, m_files, m_stack)}) {
        m_stations.push_back(station);
        m_stack->addWidget(station);
        connect(station, &Station::openWanted, this, &MainWindow::askOpen);
        connect(station, &Station::pathWanted, this, [this](const QString& path) {
            if (mayLeave()) open(path);
        });
        connect(station, &Station::forecastRowsWanted, this, &MainWindow::askForecastRows);
    }
    buildRail(rail);
    buildMessageLine(m_messageLine);

    auto* grid = new QGridLayout(page);
    grid->setContentsMargins(0, 0, 0, 0);
    grid->setSpacing(0);
    grid->addWidget(rail, 0, 0, 5, 1);
    grid->addWidget(m_brief, 0, 1, 1, 2);
    grid->addWidget(m_messageLine, 1, 1, 1, 2);
    grid->addWidget(m_stack, 2, 1);
    grid->addWidget(m_selection, 3, 1);
    grid->addWidget(m_goads, 2, 2, 2, 1);
    grid->addWidget(m_trail, 4, 1, 1, 2);
    grid->setColumnStretch(1, 4);
    grid->setColumnStretch(2, 1);
    grid->setRowStretch(2, 1);
    setCentralWidget(page);

    connect(m_brief, &BriefBar::termsWanted, this, [this] { showStation("fit"); });
    connect(m_selection, &SelectionBar::rowsWanted, this, [this] {
        showStation("data");
        for (Station* station : m_stations)
            if (auto* data = qobject_cast<DataStation*>(station)) data->showMarkedRows();
    });
    connect(m_brief, &BriefBar::openWanted, this, &MainWindow::askOpen);
    connect(m_brief, &BriefBar::forecastRowsWanted, this, &MainWindow::askForecastRows);
    connect(m_goads, &GoadsPanel::evidenceWanted, this, [this](const QString& name, const QString& column) {
        showStation(name);
        for (Station* station : m_stations)
            if (station->name() == name) station->showColumn(column);
    });
    connect(m_goads, &GoadsPanel::helpWanted, this, &MainWindow::showHelpAbout);
    connect(&m_session, &Session::rowOpened, this, [this] {
        showStation("check");
        for (Station* station : m_stations)
            if (auto* check = qobject_cast<CheckStation*>(station)) check->showPane("row");
    });
    connect(&m_session, &Session::failed, this, &MainWindow::showFailure);
    connect(&m_session, &Session::damaged, this, [this](const QString& path, const QString& sentence) {
        showFailure(sentence);
        m_damagedPath = path;
        m_salvage->show();
    });
    for (Jobs* jobs : {&m_session.jobs(), &m_session.saveJobs(), &m_session.chooseJobs(),
                       &m_session.foldJobs(), &m_session.pathJobs(), &m_session.curveJobs()}) {
        connect(jobs, &Jobs::progressed, this, &MainWindow::showProgress);
        connect(jobs, &Jobs::busyChanged, this, [this](bool busy) {
            if (!busy && m_stop->isVisible()) m_messageLine->hide();
        });
    }
    connect(&m_session.jobs(), &Jobs::stopped, this, [this](const QString& title) {
        showFailure(tr("%1 was stopped; everything is as it was.").arg(title));
    });
    connect(&m_session, &Session::rowsCompared, this, &MainWindow::showNews);
    connect(&m_session, &Session::dirtyChanged, this, &MainWindow::updateTitle);
    connect(&m_session, &Session::opened, this, [this](const QString& path) {
        m_messageLine->hide();
        m_salvage->hide();
        if (!path.isEmpty()) rememberRecent(path);
        updateTitle();
        const auto& view = m_session.view();
        const auto station = view.find("station");
        showStation(station != view.end()                          ? qs(station->second)
                    : QFileInfo(path).suffix().toLower() == "json" ? QString("fit")
                                                                   : QString("data"));
    });
    connect(&m_session, &Session::saved, this, [this](const QString& path) {
        rememberRecent(path);
        updateTitle();
        if (m_ending)
            QApplication::quit();
        else if (m_closeAfterSave)
            close();
    });
    connect(&m_session, &Session::changedMeanwhile, this, [this](const QString& path) {
        switch (m_files.askChanged(this, QFileInfo(path).fileName())) {
        case FileChooser::Changed::replace:
            m_session.save(path, true);
            break;
        case FileChooser::Changed::elsewhere:
            saveAs();
            break;
        case FileChooser::Changed::cancel:
            m_closeAfterSave = false;
            break;
        }
    });
    addShortcuts();
    setAcceptDrops(true);
    for (Station* station : m_stations)
        if (auto* data = qobject_cast<DataStation*>(station))
            data->setRecent(m_settings.value("recent").toStringList());
    // Within what the screen has, the title bar of the window included.
    const int title = style()->pixelMetric(QStyle::PM_TitleBarHeight, nullptr, this);
    const QSize room = screen()->availableGeometry().size() - QSize(0, title);
    resize(QSize(1280, 800).boundedTo(room));
    if (m_settings.contains("window/geometry"))
        restoreGeometry(m_settings.value("window/geometry").toByteArray());
    updateTitle();
    showStation("data");
    tellOfKept();
}

void MainWindow::buildRail(QWidget* rail) {
    auto* layout = new QVBoxLayout(rail);
    layout->setContentsMargins(0, 12, 0, 0);
    layout->setSpacing(2);
    rail->setFixedWidth(70);
    m_menuButton = new QPushButton(tr("Oxgoad ▾"), rail);
    m_menuButton->setObjectName("link");
    m_menuButton->setStyleSheet("color: #1F2A2C; text-align: center; font-size: 12px; font-weight: 700;");
    m_menuButton->setAccessibleName(tr("Oxgoad: open, save and other commands"));
    m_menuButton->setToolTip(tr("Open, save, undo and more (F10)"));
    m_menu = new QMenu(this);
    m_menu->setObjectName("mainMenu");
    connect(m_menuButton, &QPushButton::clicked, this, [this] {
        fillMenu();
        m_menu->popup(m_menuButton->mapToGlobal(QPoint(4, m_menuButton->height())));
    });
    layout->addWidget(m_menuButton);
    layout->addSpacing(10);
    m_rail = new QButtonGroup(this);
    m_rail->setExclusive(true);
    static constexpr std::array words{QT_TR_NOOP("Data"),  QT_TR_NOOP("Look"),    QT_TR_NOOP("Fit"),
                                      QT_TR_NOOP("Check"), QT_TR_NOOP("Compare"), QT_TR_NOOP("Forecast")};
    for (std::size_t i = 0; i < m_stations.size(); ++i) {
        auto* button = new QToolButton(rail);
        button->setObjectName("railButton");
        button->setText(tr(words[i]));
        button->setIcon(stationIcon(m_stations[i]->name()));
        button->setIconSize(QSize(28, 28));
        button->setToolButtonStyle(Qt::ToolButtonTextUnderIcon);
        button->setCheckable(true);
        button->setFixedSize(70, 66);
        button->setToolTip(tr("%1 (Ctrl+%2)").arg(tr(words[i])).arg(i + 1));
        button->setAccessibleName(tr(words[i]));
        m_rail->addButton(button, static_cast<int>(i));
        layout->addWidget(button);
        connect(button, &QToolButton::clicked, this, [this, i] {
            if (m_session.hasRows() && m_stack->currentWidget() != m_stations[i])
                m_session.view()["station"] = ss(m_stations[i]->name());
            showStation(m_stations[i]->name());
        });
        auto* shortcut = new QShortcut(QKeySequence(QString("Ctrl+%1").arg(i + 1)), this);
        connect(shortcut, &QShortcut::activated, button, &QToolButton::click);
    }
    layout->addStretch(1);
    auto* fold = new QPushButton(tr("goads"), rail);
    fold->setObjectName("link");
    fold->setStyleSheet("color: #5E6A6B; text-align: center; font-size: 11px;");
    fold->setToolTip(tr("Fold the goads away or bring them back (Ctrl+G)"));
    connect(fold, &QPushButton::clicked, this, [this] { m_goads->setVisible(!m_goads->isVisible()); });
    auto* foldKey = new QShortcut(QKeySequence("Ctrl+G"), this);
    connect(foldKey, &QShortcut::activated, fold, &QPushButton::click);
    layout->addWidget(fold);
    layout->addSpacing(8);
}

void MainWindow::buildMessageLine(QWidget* line) {
    line->setObjectName("sheet");
    line->setAttribute(Qt::WA_StyledBackground);
    auto* layout = new QHBoxLayout(line);
    layout->setContentsMargins(20, 5, 12, 5);
    m_message = plainLabel({}, "message");
    m_message->setWordWrap(true);
    m_progress = new QProgressBar(line);
    m_progress->setTextVisible(false);
    m_progress->setFixedSize(180, 6);
    m_progress->setRange(0, 1000);
    m_stop = new QPushButton(tr("Stop"), line);
    m_stop->setObjectName("stop");
    m_salvage = linkButton(tr("open what is whole, as a copy"), line);
    m_salvage->setObjectName("salvage");
    m_dismiss = linkButton(tr("dismiss"), line);
    layout->addWidget(m_message, 1);
    layout->addWidget(m_progress);
    layout->addWidget(m_stop);
    layout->addWidget(m_salvage);
    layout->addWidget(m_dismiss);
    connect(m_salvage, &QPushButton::clicked, this, [this] { m_session.openSalvaged(m_damagedPath); });
    connect(m_stop, &QPushButton::clicked, this, [this] {
        m_session.jobs().stop();
        m_session.saveJobs().stop();
        m_session.chooseJobs().stop();
        m_session.foldJobs().stop();
        m_session.checkJobs().stop();
        m_session.pathJobs().stop();
        m_session.curveJobs().stop();
    });
    connect(m_dismiss, &QPushButton::clicked, line, &QWidget::hide);
    line->hide();
}

void MainWindow::addShortcuts() {
    auto key = [this](const QKeySequence& sequence, auto act) {
        connect(new QShortcut(sequence, this), &QShortcut::activated, this, act);
    };
    key(QKeySequence::Open, [this] { askOpen(); });
    key(QKeySequence::Save, [this] { save(); });
    key(QKeySequence("Ctrl+Shift+S"), [this] { saveAs(); });
    key(QKeySequence::Undo, [this] { m_session.undo(); });
    key(QKeySequence("Ctrl+Shift+Z"), [this] { m_session.redo(); });
    key(QKeySequence::Quit, [this] { close(); });
    key(QKeySequence("F1"), [this] { showHelp(); });
    key(QKeySequence("F10"), [this] { m_menuButton->click(); });
    key(QKeySequence("Escape"), [this] {
        m_session.jobs().stop();
        m_session.foldJobs().stop();
        m_session.checkJobs().stop();
    });
}

void MainWindow::fillMenu() {
    m_menu->clear();
    auto add = [this](const QString& text, const QKeySequence& key, bool enabled, auto act) {
        auto* action = m_menu->addAction(text);
        action->setEnabled(enabled);
        if (!key.isEmpty()) action->setText(text + "\t" + key.toString(QKeySequence::NativeText));
        connect(action, &QAction::triggered, this, act);
    };
    add(tr("Open…"), QKeySequence::Open, true, [this] { askOpen(); });
    for (const QString& path : m_settings.value("recent").toStringList())
        add("    " + QString(QFileInfo(path).fileName()).replace('&', "&&"), {}, true, [this, path] {
            if (mayLeave()) open(path);
        });
    m_menu->addSeparator();
    add(tr("Save"), QKeySequence::Save, m_session.hasRows(), [this] { save(); });
    add(tr("Save as…"), QKeySequence("Ctrl+Shift+S"), m_session.hasRows(), [this] { saveAs(); });
    m_menu->addSeparator();
    add(tr("Back to the fit before"), QKeySequence::Undo, m_session.canUndo(), [this] { m_session.undo(); });
    add(tr("Forward again"), QKeySequence("Ctrl+Shift+Z"), m_session.canRedo(), [this] { m_session.redo(); });
    m_menu->addSeparator();
    add(tr("Help"), QKeySequence("F1"), true, [this] { showHelp(); });
    add(tr("Quit"), QKeySequence::Quit, true, [this] { close(); });
}

void MainWindow::open(const QString& path) {
    m_session.open(path);
}

void MainWindow::showStation(const QString& name) {
    for (std::size_t i = 0; i < m_stations.size(); ++i) {
        if (m_stations[i]->name() != name) continue;
        m_stack->setCurrentWidget(m_stations[i]);
        m_rail->button(static_cast<int>(i))->setChecked(true);
        m_brief->tellForecast(name == "forecast");
        m_stations[i]->focusTarget()->setFocus(Qt::OtherFocusReason);
    }
}

QString MainWindow::failureShown() const {
    return m_messageLine->isVisible() && m_dismiss->isVisible() ? m_message->text() : QString();
}

void MainWindow::showHelp() {
    // What has the focus, or the station it is in.
    QString topic = "Data";
    for (const auto& [name, heading] : {std::pair{"data", "Data"},
                                        {"look", "Look"},
                                        {"fit", "Fit"},
                                        {"check", "Check"},
                                        {"compare", "Compare"},
                                        {"forecast", "Forecast"}})
        if (auto* station = qobject_cast<Station*>(m_stack->currentWidget());
            station && station->name() == name)
            topic = heading;
    const QWidget* focused = QApplication::focusWidget();
    for (const QWidget* widget = focused; widget; widget = widget->parentWidget()) {
        if (widget == m_brief) topic = "The brief";
        if (widget == m_goads) topic = "Goads";
        if (widget == m_trail) topic = "Trail";
        if (qobject_cast<const PlotFrame*>(widget)) topic = "Plots";
    }
    showHelpAbout(topic);
}

void MainWindow::showHelpAbout(const QString& topic) {
    if (!m_help) m_help = new HelpWindow(this);
    m_help->showTopic(topic);
    m_help->show();
    m_help->raise();
    m_help->activateWindow();
}

namespace {

/// The one file of this machine that is dragged; empty for anything else.
QString draggedFile(const QMimeData* data) {
    const auto urls = data ? data->urls() : QList<QUrl>();
    return urls.size() == 1 && urls.front().isLocalFile() ? urls.front().toLocalFile() : QString();
}

} // namespace

void MainWindow::dragEnterEvent(QDragEnterEvent* event) {
    if (!draggedFile(event->mimeData()).isEmpty()) event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event) {
    const QString path = draggedFile(event->mimeData());
    if (path.isEmpty()) return;
    event->acceptProposedAction();
    // The drag ends first: what is asked now may open a dialog.
    QMetaObject::invokeMethod(
        this,
        [this, path] {
            if (mayLeave()) open(path);
        },
        Qt::QueuedConnection);
}

void MainWindow::askOpen() {
    if (!mayLeave()) return;
    const QString path = m_files.openFile(this, tr("Open rows, a recipe or a project"),
                                          tr("Rows, recipes and projects (*.csv *.tsv *.txt *.xlsx *.xlsm "
                                             "*.ods *.json *.oxgoad);;All files (*)"));
    if (!path.isEmpty()) open(path);
}

void MainWindow::askForecastRows() {
    if (!m_session.hasRows()) {
        showFailure(tr("Open the rows to learn from first, then choose the rows to forecast."));
        return;
    }
    const QString path = m_files.openFile(this, tr("Choose the rows to forecast"),
                                          tr("Rows (*.csv *.tsv *.txt *.xlsx *.xlsm *.ods);;All files (*)"));
    if (!path.isEmpty()) m_session.chooseForecast(path);
}

bool MainWindow::mayLeave() {
    if (!m_session.hasUnsavedWork()) return true;
    switch (m_files.askUnsaved(this)) {
    case FileChooser::Unsaved::discard:
        return true;
    case FileChooser::Unsaved::cancel:
        return false;
    case FileChooser::Unsaved::save:
        save();
        return false;
    }
    return false;
}

void MainWindow::save() {
    if (!m_session.hasRows()) return;
    if (m_session.projectPath().isEmpty())
        saveAs();
    else
        m_session.save(m_session.projectPath());
}

void MainWindow::saveAs() {
    if (!m_session.hasRows()) return;
    QString path =
        m_files.saveFile(this, tr("Save the project"), "project.oxgoad", tr("Oxgoad projects (*.oxgoad)"));
    if (path.isEmpty()) {
        m_closeAfterSave = false;
        return;
    }
    if (!path.endsWith(".oxgoad", Qt::CaseInsensitive)) path += ".oxgoad";
    m_session.save(path);
}

void MainWindow::rememberRecent(const QString& path) {
    QStringList recent = m_settings.value("recent").toStringList();
    const QString whole = QFileInfo(path).absoluteFilePath();
    recent.removeAll(whole);
    recent.prepend(whole);
    while (recent.size() > recentKept)
        recent.removeLast();
    m_settings.setValue("recent", recent);
    for (Station* station : m_stations)
        if (auto* data = qobject_cast<DataStation*>(station)) data->setRecent(recent);
}

void MainWindow::updateTitle() {
    const QString name = m_session.projectPath().isEmpty()
                             ? (m_session.hasRows() ? qs(m_session.rows()->learning.report.file) : QString())
                             : QFileInfo(m_session.projectPath()).fileName();
    setWindowTitle(name.isEmpty() ? tr("Oxgoad")
                                  : tr("%1%2 — Oxgoad").arg(name, m_session.dirty() ? " *" : ""));
}

void MainWindow::showFailure(const QString& sentence) {
    m_closeAfterSave = false;
    if (m_ending) QApplication::quit();
    m_salvage->hide();
    m_message->setText(sentence);
    m_message->setStyleSheet("color: #A33B2C;");
    m_progress->hide();
    m_stop->hide();
    m_dismiss->show();
    m_messageLine->show();
}

void MainWindow::showNews(const QStringList& sentences) {
    QStringList shown = sentences.mid(0, 6);
    if (sentences.size() > shown.size()) shown << tr("and %1 more").arg(sentences.size() - shown.size());
    m_message->setText(tr("Read again: %1.").arg(shown.join("; ")));
    m_message->setToolTip("<qt>" + sentences.join("\n").toHtmlEscaped().replace("\n", "<br>") + "</qt>");
    m_message->setStyleSheet({});
    m_progress->hide();
    m_stop->hide();
    m_salvage->hide();
    m_dismiss->show();
    m_messageLine->show();
}

void MainWindow::showProgress(double share, const QString& message, double secondsLeft) {
    m_message->setText(secondsLeft < 0.5
                           ? message
                           : tr("%1, about %2 s left").arg(message, qs(readableText(secondsLeft, 2))));
    m_message->setStyleSheet({});
    m_progress->setValue(static_cast<int>(1000 * share));
    m_progress->show();
    m_stop->show();
    m_salvage->hide();
    m_dismiss->hide();
    m_messageLine->show();
}

void MainWindow::endSession() {
    if (m_ending) return;
    m_ending = true;
    if (!m_session.hasUnsavedWork()) {
        QApplication::quit();
        return;
    }
    // Nobody can be asked any more: it is kept beside the files of the analyst, which stay as they are.
    const QDir folder(QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) + "/kept");
    folder.mkpath(".");
    const QString name = m_session.projectPath().isEmpty() ? qs(m_session.rows()->learning.report.file)
                                                           : m_session.projectPath();
    const QString path =
        folder.filePath(QFileInfo(name).completeBaseName() +
                        QDateTime::currentDateTime().toString("' unsaved 'yyyy-MM-dd hh.mm.ss'.oxgoad'"));
    m_settings.setValue("kept", path);
    m_settings.sync();
    m_session.save(path);
}

void MainWindow::tellOfKept() {
    const QString path = m_settings.value("kept").toString();
    m_settings.remove("kept");
    if (path.isEmpty() || !QFileInfo::exists(path)) return;
    rememberRecent(path);
    m_message->setText(
        tr("The session ended with work that was not saved. It was kept in %1; open it from the list "
           "of what was open last.")
            .arg(path));
    m_message->setStyleSheet({});
    m_progress->hide();
    m_stop->hide();
    m_dismiss->show();
    m_messageLine->show();
}

void MainWindow::closeEvent(QCloseEvent* event) {
    if (m_session.hasUnsavedWork() && !m_ending) {
        const auto answer = m_files.askUnsaved(this);
        if (answer != FileChooser::Unsaved::discard) {
            event->ignore();
            if (answer == FileChooser::Unsaved::save) {
                m_closeAfterSave = true;
                save();
            }
            return;
        }
    }
    m_settings.setValue("window/geometry", saveGeometry());
    event->accept();
}

} // namespace oxgoad
