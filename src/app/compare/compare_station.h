#pragma once
#include "app/station.h"
#include "workspace/compare_grids.h"
#include "workspace/grid_model.h"

#include <array>
#include <map>

class QLabel;
class QPushButton;
class QSplitter;

namespace oxgoad {

class GridView;

/// Two to six fits of the trail on the same rows.
class CompareStation : public Station {
    Q_OBJECT
public:
    CompareStation(Session& session, QWidget* parent);
    QWidget* focusTarget() override { return m_boxes[0]; }

private:
    static constexpr std::size_t mostFits = 6;
    void refresh() override;
    void draw();
    /// Numbers of the fits that are chosen, each once.
    std::vector<int> chosen() const;
    void compare(const std::vector<int>& numbers,
                 const std::vector<std::shared_ptr<const Evidence>>& evidence);
    void take(std::shared_ptr<const ComparedFits> compared);
    void showPane(const std::string& pane);
    void showPredictions();
    void showDifferences();
    QString sentence(const ComparedFits& compared) const;

    std::array<QComboBox*, mostFits> m_boxes{};
    QPushButton* m_more;
    QPushButton* m_everything;
    /// Once the model is chosen: the rows held out learn with the others.
    QPushButton* m_refit;
    QLabel* m_sentence;
    std::vector<std::pair<std::string, QPushButton*>> m_panes;
    std::string m_pane = "scores";
    GridModel m_model;
    GridView* m_table;
    QSplitter* m_splitter;
    PlotFrame* m_plot;
    std::size_t m_shownBoxes = 2;
    /// What was compared last, and what is being compared.
    std::shared_ptr<const ComparedFits> m_compared;
    std::vector<std::shared_ptr<const Evidence>> m_of;
    std::vector<int> m_numbers;
};

} // namespace oxgoad
