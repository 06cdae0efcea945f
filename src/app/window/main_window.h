#pragma once
#include "app/files.h"
#include "workspace/session.h"

#include <QMainWindow>
#include <QSettings>
#include <vector>

class QButtonGroup;
class QLabel;
class QMenu;
class QProgressBar;
class QPushButton;
class QStackedWidget;

namespace oxgoad {

class BriefBar;
class SelectionBar;
class GoadsPanel;
class HelpWindow;
class Station;
class TrailStrip;

/// Puts the parts together: rail, brief, station, goads, trail, and the line that tells of work and failures.
class MainWindow : public QMainWindow {
    Q_OBJECT
public:
    /// `files` and `settings` outlive the window.
    MainWindow(FileChooser& files, QSettings& settings, QWidget* parent = nullptr);

    Session& session() { return m_session; }
    void open(const QString& path);
    void showStation(const QString& name);
    QString failureShown() const;
    /// The help, at what belongs to what has the focus.
    void showHelp();
    void showHelpAbout(const QString& topic);
    /// Keeps what is not saved in a file of its own and ends the program, without asking: the session is
    /// over.
    void endSession();

protected:
    void closeEvent(QCloseEvent* event) override;
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dropEvent(QDropEvent* event) override;

private:
    void buildRail(QWidget* rail);
    void buildMessageLine(QWidget* line);
    void addShortcuts();
    void fillMenu();
    void askOpen();
    void askForecastRows();
    /// True when the work may go on: nothing unsaved, saved now, or given up.
    bool mayLeave();
    void save();
    void saveAs();
    void rememberRecent(const QString& path);
    void updateTitle();
    void showFailure(const QString& sentence);
    /// What is different since the rows were read the last time.
    void showNews(const QStringList& sentences);
    void showProgress(double share, const QString& message, double secondsLeft);

    FileChooser& m_files;
    QSettings& m_settings;
    Session m_session;
    BriefBar* m_brief;
    GoadsPanel* m_goads;
    TrailStrip* m_trail;
    QStackedWidget* m_stack;
    std::vector<Station*> m_stations;
    QButtonGroup* m_rail;
    QPushButton* m_menuButton;
    QMenu* m_menu;
    SelectionBar* m_selection;
    QWidget* m_messageLine;
    QLabel* m_message;
    QProgressBar* m_progress;
    QPushButton* m_stop;
    QPushButton* m_dismiss;
    QPushButton* m_salvage = nullptr;
    QString m_damagedPath;
    HelpWindow* m_help = nullptr;
    void tellOfKept();
    bool m_closeAfterSave = false;
    bool m_ending = false;
};

} // namespace oxgoad
