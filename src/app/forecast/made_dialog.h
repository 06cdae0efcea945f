#pragma once
#include "workspace/session.h"

#include <QDialog>

class QComboBox;
class QLabel;
class QLineEdit;
class QListWidget;
class QPushButton;

namespace oxgoad {

class WholeBox;

/// Rows to be forecast that no file holds: which periods come, for which series, and how columns go on.
class MadeDialog : public QDialog {
    Q_OBJECT
public:
    MadeDialog(Session& session, QWidget* parent);
    /// What was chosen; nothing while a value given is no number.
    std::optional<MadeRows> made() const;

private:
    struct Carried {
        std::string column;
        bool number = false;
        QComboBox* how = nullptr;
        QLineEdit* value = nullptr;
    };
    void changed();

    Session& m_session;
    QComboBox *m_date, *m_every;
    WholeBox* m_periods;
    QListWidget* m_by;
    std::vector<Carried> m_columns;
    QLabel* m_hint;
    QPushButton* m_ok;
};

} // namespace oxgoad
