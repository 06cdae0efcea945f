#pragma once
#include "app/station.h"
#include "study/residual_view.h"
#include "workspace/grid_model.h"

class QLabel;
class QHBoxLayout;
class QLineEdit;
class QPushButton;
class QSplitter;
class QStackedWidget;

namespace oxgoad {

class GridView;
class PlotPanels;
class RowPane;

/// The residual plot, by group where that was asked for, and what stands beside it.
struct CheckPicture {
    PlotFrame::Content plot, beside;
    /// One a level of the group; the plot is not shown then.
    std::vector<std::pair<QString, PlotFrame::Content>> panels;
    /// Said under the plots.
    QString says;
};

/// One large residual view with the distribution beside it on the same scale; below it one pane at a time:
/// the rows that stand out, the readings of the checks, one row, rows left out, or the paragraph in plain
/// words.
class CheckStation : public Station {
    Q_OBJECT
public:
    CheckStation(Session& session, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override { return m_across; }
    PlotFrame* plot() { return m_plot; }
    /// "rows", "readings", "row", "left out" or "words".
    void showPane(const QString& name);

private:
    void refresh() override;
    void fillBoxes();
    void draw();
    void show(CheckPicture picture);
    void showSelection();
    void refreshPane();
    QHBoxLayout* makeHead();
    QWidget* makePlots(QWidget* parent);
    QWidget* makePanes(QWidget* parent);
    void leaveOut();

    /// The picture is put together in the background.
    Jobs m_jobs{this};
    QComboBox* m_across;
    QComboBox* m_up;
    QComboBox* m_groups;
    QComboBox* m_besideBox;
    PlotFrame* m_plot;
    PlotFrame* m_distribution;
    PlotPanels* m_panels;
    QStackedWidget* m_main;
    QLabel* m_says;
    QLabel* m_selected;
    QPushButton* m_leaveOut;
    QLineEdit* m_reason;
    GridModel m_outlyingModel, m_readingsModel, m_leftOutModel;
    GridView* m_outlying;
    GridView* m_readings;
    GridView* m_leftOut;
    RowPane* m_row;
    QLabel* m_words;
    QPushButton* m_copy;
    QStackedWidget* m_panes;
    QSplitter* m_splitter;
    QString m_pane;
    std::vector<QPushButton*> m_tabs;
};

} // namespace oxgoad
