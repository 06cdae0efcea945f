#pragma once
#include "app/files.h"
#include "app/station.h"
#include "workspace/grid_model.h"

class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;
class HandOnPane;
class OneRowPane;
class QuestionsPane;

/// The rows to be forecast: totals over time, each row with its interval and reach, export.
class ForecastStation : public Station {
    Q_OBJECT
public:
    ForecastStation(Session& session, FileChooser& files, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override;

private:
    void refresh() override;
    void drawChart();
    void drawTotals(const ForecastEvidence& forecast);
    void drawRows(const ForecastEvidence& forecast);
    void showBelow(int what);
    void makeRows();
    void exportCsv();

    FileChooser& m_files;
    QLabel* m_head;
    /// What came of it, where the truth is known by now.
    QLabel* m_came;
    QPushButton* m_keepCame;
    QLabel* m_written;
    QPushButton* m_export;
    HandOnPane* m_handOn;
    OneRowPane* m_oneRow;
    QComboBox* m_show;
    QComboBox* m_below;
    QuestionsPane* m_questions;
    GridModel m_model;
    GridView* m_table;
    PlotFrame* m_chart;
};

} // namespace oxgoad
