#pragma once
#include "app/station.h"

class QLabel;

namespace oxgoad {

/// The response against one predictor, with a line per group drawn only over that group's own range.
class LookStation : public Station {
    Q_OBJECT
public:
    LookStation(Session& session, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override { return m_predictor; }
    PlotFrame* plot() { return m_plot; }

private:
    void refresh() override;
    void draw();

    QComboBox* m_predictor;
    QComboBox* m_group;
    QWidget* m_add;
    PlotFrame* m_plot;
    QLabel* m_lines;
};

} // namespace oxgoad
