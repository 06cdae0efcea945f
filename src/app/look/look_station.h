#pragma once
#include "app/look/look_pictures.h"
#include "app/station.h"
#include "workspace/grid_model.h"

class QButtonGroup;
class QHBoxLayout;
class QLabel;
class QSlider;
class QStackedWidget;

namespace oxgoad {

class GridView;
class PlotPanels;

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
    void buildChoices(QWidget* side, QLayout* layout);
    QComboBox* choice(const QString& accessibleName, const char* name, const QStringList& items,
                      QLayout* layout);
    void showView(const QString& view);
    /// Columns the view can be about.
    void fillColumns();
    void showPairs();
    void openPair(const QString& first, const QString& second);
    /// A small plot made like the large one.
    void prepare(PlotFrame& frame);
    void rank();
    void showRanking();
    void draw();
    void drawPairs();
    void take(LookPicture picture);
    LookRequest request() const;
    Against against() const;

    QButtonGroup* m_against;
    QComboBox* m_predictor;
    QComboBox* m_group;
    QComboBox* m_shape;
    QComboBox* m_panelsBy;
    QComboBox* m_scales;
    QComboBox* m_spread;
    QComboBox* m_summing;
    QComboBox* m_over;
    QComboBox* m_pairsAs;
    QComboBox* m_drag;
    QSlider* m_opacity;
    QLineEdit* m_find;
    GridView* m_ranking;
    GridModel m_rankingModel;
    std::vector<RankedColumn> m_ranked;
    /// Grows with each ranking: columns of one before are not shown.
    int m_rankingsBegun = 0;
    int m_sortColumn = 3;
    bool m_descending = true;
    QButtonGroup* m_views;
    QStackedWidget* m_stack;
    PlotFrame* m_plot;
    PlotPanels* m_panels;
    GridView* m_pairs;
    GridModel m_pairsModel;
    std::shared_ptr<const Pairs> m_pairsFound;
    /// What m_pairsFound is of.
    struct PairsWanted {
        std::shared_ptr<const PreparedRows> prepared;
        Session::RowMask only;
        std::vector<std::string> columns;
        bool operator==(const PairsWanted&) const = default;
    };
    PairsWanted m_pairsWanted;
    GridView* m_slopes;
    GridModel m_slopesModel;
    QLabel* m_said;
    QLayout* m_moves;
    QString m_view = "against";
    std::string m_up;
    /// Grows with each drawing: rows that come late are not shown.
    int m_drawing = 0;
};

} // namespace oxgoad
