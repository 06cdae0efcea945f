#pragma once
#include "app/files.h"
#include "app/station.h"
#include "workspace/grid_model.h"

class QHBoxLayout;
class QLabel;
class QLineEdit;
class QSplitter;
class QStackedWidget;
class QPushButton;

namespace oxgoad {

class GridView;
class PartsPane;
class RowsPane;
class StartPane;
class StepsPane;

/// The ledger of columns above; below it the rows, the steps of preparation, the parts, and cells that do not
/// fit.
class DataStation : public Station {
    Q_OBJECT
public:
    DataStation(Session& session, FileChooser& files, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override;
    /// "rows", "steps", "parts" or "faults".
    void showPane(const QString& name);
    void showMarkedRows();
    /// Files that were open before, for the start without rows.
    void setRecent(const QStringList& paths);

private:
    void refresh() override;
    void buildHead(QLayout* layout);
    void buildPanes(QWidget* below);
    /// What the reader was not sure of, with the ways to say it.
    void showDoubts();
    void fillLedger();
    void sortLedger(int column);
    void readOtherwise();
    void sourceMenu();
    void openDatabase();
    void stackMore();
    void joinTable();
    void openColumn(const QModelIndex& index);
    /// Column at a line of the ledger, whatever its order.
    QString columnAt(const QModelIndex& index) const;

    FileChooser& m_files;
    StartPane* m_start;
    QSplitter* m_body;
    QLabel* m_file;
    QLabel* m_notes;
    QWidget* m_doubtsLine;
    QLabel* m_doubts;
    QHBoxLayout* m_doubtLinks;
    QLineEdit* m_find;
    GridModel m_ledgerModel, m_faultsModel;
    GridView* m_ledger;
    GridView* m_faults;
    RowsPane* m_rows;
    StepsPane* m_steps;
    PartsPane* m_parts;
    QStackedWidget* m_lower;
    QPushButton* m_otherwise;
    QPushButton* m_again;
    QPushButton* m_source;
    QPushButton* m_showRows;
    QPushButton* m_showSteps;
    QPushButton* m_showParts;
    QPushButton* m_showFaults;
    int m_sortColumn = -1;
    bool m_sortDescending = false;
    Jobs m_jobs;
};

} // namespace oxgoad
