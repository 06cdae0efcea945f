#pragma once
#include "app/station.h"
#include "workspace/grid_model.h"

class QLabel;

namespace oxgoad {

class GridView;

/// Two fits of the trail side by side.
class CompareStation : public Station {
    Q_OBJECT
public:
    CompareStation(Session& session, QWidget* parent);
    QWidget* focusTarget() override { return m_left; }

private:
    void refresh() override;
    void draw();
    QString sentence(int left, const Evidence& a, int right, const Evidence& b) const;

    QComboBox* m_left;
    QComboBox* m_right;
    QLabel* m_sentence;
    GridModel m_model;
    GridView* m_table;
    PlotFrame* m_plot;
};

} // namespace oxgoad
