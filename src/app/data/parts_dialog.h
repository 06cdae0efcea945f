#pragma once
#include "app/parts.h"
#include "workspace/session.h"

#include <QDialog>

class QComboBox;
class QFormLayout;
class QLabel;
class QLineEdit;
class QListWidget;
class QPushButton;

namespace oxgoad {

class FoldFields;

/// How a model is judged: by folds of its learning rows, and by rows that are set aside, held out for judging
/// or locked away for the test.
class PartsDialog : public QDialog {
    Q_OBJECT
public:
    PartsDialog(Session& session, QWidget* parent);
    std::optional<SetAside> setAside() const;
    std::optional<FoldPlan> folds() const;

private:
    void fillColumns();
    void fillValues();
    void changed();
    SetAsideKind kind() const;

    Session& m_session;
    QFormLayout* m_form;
    QComboBox* m_kind;
    QComboBox* m_column;
    NumberBox* m_share;
    NumberBox* m_test;
    WholeBox* m_seed;
    WholeBox* m_bands;
    QListWidget* m_heldOut;
    QListWidget* m_testValues;
    QLabel* m_hint;
    FoldFields* m_folds;
    QLabel* m_foldHint;
    QPushButton* m_ok = nullptr;
};

} // namespace oxgoad
