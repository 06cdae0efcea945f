#pragma once
#include "workspace/session.h"

#include <QWidget>

class QComboBox;
class QFormLayout;
class QSpinBox;

namespace oxgoad {

/// How rows are dealt into folds: the part of the dialog about judging that is about them.
class FoldFields : public QWidget {
    Q_OBJECT
public:
    FoldFields(Session& session, QWidget* parent);
    /// None when there are to be no folds.
    std::optional<FoldPlan> plan() const;
    /// What stands in the way of dealing so; empty when nothing does.
    QString trouble() const;
    /// What the plan is for, in a sentence or two.
    QString says() const;

signals:
    void changed();

private:
    bool none() const;
    FoldKind kind() const;
    void fillColumns();
    void showFields();

    Session& m_session;
    QFormLayout* m_form;
    QComboBox* m_kind;
    QComboBox* m_column;
    QSpinBox* m_folds;
    QSpinBox* m_repeats;
    QSpinBox* m_bands;
    QSpinBox* m_horizon;
    QSpinBox* m_gap;
    QSpinBox* m_draws;
    QSpinBox* m_seed;
};

} // namespace oxgoad
