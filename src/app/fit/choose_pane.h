#pragma once
#include "app/parts.h"
#include "study/choose_terms.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>

class QCheckBox;
class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;

/// Terms chosen by what they add, and how far the choice can be trusted.
class ChoosePane : public QWidget {
    Q_OBJECT
public:
    ChoosePane(Session& session, QWidget* parent);
    /// The fit or the rows changed: a choice of before is not offered any more.
    void forget();

private:
    void choose();
    void show(std::shared_ptr<const Choice> choice, const Recipe& recipe);

    Session& m_session;
    QComboBox* m_by;
    QComboBox* m_criterion;
    WholeBox* m_steps;
    WholeBox* m_folds;
    /// p values at which terms come in and go out; shown when that is the criterion.
    QDoubleSpinBox* m_enter;
    QDoubleSpinBox* m_leave;
    QCheckBox* m_hierarchy;
    QPushButton* m_choose;
    QPushButton* m_take;
    /// Makes the choice part of what every fit learns.
    QPushButton* m_always;
    /// Ends that: the terms that are in stay.
    QPushButton* m_fix;
    GridView* m_terms;
    GridModel m_model;
    QLabel* m_said;
    /// What the path was chosen from.
    Recipe m_base;
    std::vector<Recipe> m_path;
    ChooseRequest m_asked;
    std::shared_ptr<const Choice> m_choice;
};

} // namespace oxgoad
