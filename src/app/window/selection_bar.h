#pragma once
#include "workspace/session.h"

#include <QWidget>

class QLabel;
class QLineEdit;
class QPushButton;

namespace oxgoad {

/// How many rows are marked, and what can be done with them. Hidden while none are.
class SelectionBar : public QWidget {
    Q_OBJECT
public:
    SelectionBar(Session& session, QWidget* parent);

signals:
    void rowsWanted();

private:
    void refresh();

    Session& m_session;
    QLabel* m_said;
    QLineEdit* m_reason;
    QPushButton* m_leaveOut;
    QPushButton* m_only;
    QPushButton* m_all;
    QPushButton* m_rows;
    QPushButton* m_unmark;
};

} // namespace oxgoad
