#pragma once
#include "app/station.h"
#include "workspace/grid_model.h"

class QLabel;
class QStackedWidget;
class QPushButton;

namespace oxgoad {

class GridView;

/// The ledger of columns, the rows, and the cells that do not fit.
class DataStation : public Station {
    Q_OBJECT
public:
    DataStation(Session& session, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override;

private:
    void refresh() override;
    void showSelection();
    void readOtherwise();
    void openColumn(const QModelIndex& index);

    QLabel* m_file;
    QLabel* m_notes;
    QStackedWidget* m_stack;
    GridModel m_ledgerModel, m_rowsModel, m_faultsModel;
    GridView* m_ledger;
    GridView* m_rows;
    GridView* m_faults;
    QStackedWidget* m_lower;
    QPushButton* m_otherwise;
    QPushButton* m_showRows;
    QPushButton* m_showFaults;
};

} // namespace oxgoad
