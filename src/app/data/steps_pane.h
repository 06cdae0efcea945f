#pragma once
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>

class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;

/// The preparation as sentences, one a line: switched on and off, edited, moved, removed.
class StepsPane : public QWidget {
    Q_OBJECT
public:
    StepsPane(Session& session, QWidget* parent);
    void refresh();
    /// Opens the dialog for a new step of a kind, with some of its fields filled in.
    void askStep(const Step& start);
    QWidget* focusTarget() const;

private:
    void addMenu();
    void edit(int row);
    void move(int by);
    void remove();
    int row() const;
    void updateButtons();
    bool eventFilter(QObject* watched, QEvent* event) override;

    Session& m_session;
    GridModel m_model;
    GridView* m_view;
    QPushButton* m_edit;
    QPushButton* m_up;
    QPushButton* m_down;
    QPushButton* m_remove;
    QPushButton* m_add;
    QLabel* m_hint;
};

} // namespace oxgoad
