#pragma once
#include "app/station.h"
#include "workspace/grid_model.h"

class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;

/// The term table, the effect of the chosen term, and the fit in words.
class FitStation : public Station {
    Q_OBJECT
public:
    FitStation(Session& session, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override;

private:
    void refresh() override;
    void showLine();
    void openLine(const QModelIndex& index);
    std::optional<Term> pairOfSelection() const;

    GridModel m_model;
    GridView* m_terms;
    QPushButton* m_pair;
    PlotFrame* m_effect;
    QLabel* m_words;
    QLabel* m_equation;
};

} // namespace oxgoad
