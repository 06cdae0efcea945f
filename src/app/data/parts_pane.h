#pragma once
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>

class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;

/// What each part of the rows holds, and the locked test rows.
class PartsPane : public QWidget {
    Q_OBJECT
public:
    PartsPane(Session& session, QWidget* parent);
    void refresh();

private:
    Session& m_session;
    GridModel m_model;
    GridView* m_view;
    QLabel* m_sentence;
    QPushButton* m_change;
    QPushButton* m_look;
};

/// Asks how rows are set aside and changes the recipe.
void askParts(Session& session, QWidget* parent);

} // namespace oxgoad
