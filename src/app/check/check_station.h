#pragma once
#include "app/station.h"
#include "workspace/grid_model.h"

class QLabel;
class QLineEdit;
class QPushButton;
class QStackedWidget;

namespace oxgoad {

class GridView;

/// The residual plot and the distribution beside it.
struct CheckPicture {
    PlotFrame::Content plot, beside;
};

/// One large residual plot, the distribution beside it on the same scale; below them the rows that stand out
/// or the readings of the checks.
class CheckStation : public Station {
    Q_OBJECT
public:
    CheckStation(Session& session, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override { return m_across; }
    PlotFrame* plot() { return m_plot; }

private:
    void refresh() override;
    void draw();
    void show(CheckPicture picture);
    void showSelection();
    /// "rows" or "readings": the table below the plots.
    void showTable(const QString& name);

    /// Of many rows the picture is put together in the background.
    Jobs m_jobs{this};
    QComboBox* m_across;
    QComboBox* m_up;
    PlotFrame* m_plot;
    PlotFrame* m_distribution;
    QLabel* m_selected;
    QPushButton* m_leaveOut;
    QLineEdit* m_reason;
    GridModel m_outlyingModel, m_readingsModel;
    GridView* m_outlying;
    GridView* m_readings;
    QStackedWidget* m_tables;
    QPushButton* m_showRows;
    QPushButton* m_showReadings;
};

} // namespace oxgoad
