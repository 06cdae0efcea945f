#pragma once
#include "app/parts.h"
#include "study/search.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>
#include <memory>
#include <vector>

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;

/// A search under a budget, said as a sentence; what was tried, as it goes; and its story.
class SearchPane : public QWidget {
    Q_OBJECT
public:
    SearchPane(Session& session, QWidget* parent);
    /// The rows changed: what was found is of no use any more.
    void forget();

private:
    SearchPlan plan() const;
    void begin();
    void showTried();
    void show(std::shared_ptr<const SearchFound> found);
    void take(std::size_t place);

    Session& m_session;
    WholeBox* m_amount;
    QComboBox* m_of;
    QComboBox* m_kinds;
    QCheckBox* m_terms;
    QCheckBox* m_logs;
    WholeBox* m_seed;
    QPushButton* m_search;
    QPushButton* m_takeBest;
    QPushButton* m_takeSimpler;
    QPushButton* m_toTrail;
    GridView* m_grid;
    GridModel m_model;
    QLabel* m_said;
    /// From which recipe.
    Recipe m_base;
    std::vector<Tried> m_tried;
    /// Places of the lines among those tried.
    std::vector<std::size_t> m_order;
    std::shared_ptr<const SearchFound> m_found;
};

} // namespace oxgoad
