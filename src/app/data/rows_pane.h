#pragma once
#include "prepare/arrange.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QTimer>
#include <QWidget>
#include <memory>

class QLabel;
class QLineEdit;
class QPushButton;

namespace oxgoad {

class GridView;

/// The rows themselves: sorted by a click on a column's head, chosen by a condition or a text, jumped to by
/// number.
class RowsPane : public QWidget {
    Q_OBJECT
public:
    RowsPane(Session& session, QWidget* parent);
    void refresh();
    void showSelection();
    /// Brings a column into view.
    void showColumn(const QString& column);
    void showOnlyMarked(bool only);
    GridView* view() const { return m_view; }

private:
    void sortBy(int column);
    void arrange();
    void jump();

    Session& m_session;
    GridModel m_model;
    GridView* m_view;
    QLineEdit* m_condition;
    QLineEdit* m_search;
    QLineEdit* m_jump;
    QLabel* m_count;
    QPushButton* m_only;
    bool m_takingLines = false;
    QTimer m_later;
    RowArrangement m_arrangement;
    int m_sortColumn = -1;
    std::shared_ptr<const std::vector<std::uint32_t>> m_order;
};

} // namespace oxgoad
