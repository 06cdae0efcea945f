#pragma once
#include "app/parts.h"
#include "workspace/session.h"

#include <QWidget>

class QComboBox;
class QFormLayout;

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
    WholeBox* m_folds;
    WholeBox* m_repeats;
    WholeBox* m_bands;
    WholeBox* m_horizon;
    WholeBox* m_gap;
    WholeBox* m_draws;
    WholeBox* m_seed;
};

} // namespace oxgoad
