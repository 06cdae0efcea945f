#pragma once
#include "app/look/look_pictures.h"
#include "app/station.h"
#include "workspace/grid_model.h"

class QButtonGroup;
class QHBoxLayout;
class QLabel;
class QStackedWidget;

namespace oxgoad {

class GridView;

/// What each column explains alone, and one large plot of what is looked at, with the moves that take it into
/// the model. Everything is worked out off the interface thread.
class LookStation : public Station {
    Q_OBJECT
public:
    LookStation(Session& session, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override;
    PlotFrame* plot() { return m_plot; }

private:
    void refresh() override;
    void buildRanking(QWidget* side);
    void buildPlot(QWidget* side);
    void showView(const QString& view);
    void rank();
    void showRanking();
    void draw();
    void drawPairs();
    void take(LookPicture picture);
    LookRequest request() const;

    QComboBox* m_against;
    QComboBox* m_predictor;
    QComboBox* m_group;
    QLabel* m_by;
    GridView* m_ranking;
    GridModel m_rankingModel;
    std::vector<RankedColumn> m_ranked;
    int m_sortColumn = 3;
    bool m_descending = true;
    QButtonGroup* m_views;
    QStackedWidget* m_stack;
    PlotFrame* m_plot;
    GridView* m_pairs;
    GridModel m_pairsModel;
    GridView* m_slopes;
    GridModel m_slopesModel;
    QLabel* m_said;
    QHBoxLayout* m_moves;
    QString m_view = "against";
    std::string m_up;
};

} // namespace oxgoad
