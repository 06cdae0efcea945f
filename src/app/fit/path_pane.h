#pragma once
// What only a penalised model has: its path of penalties, drawn, read, and taken hold of.
#include "study/path_view.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>
#include <memory>

class QComboBox;
class QLabel;
class QPushButton;
class QStackedWidget;
class QTimer;

namespace oxgoad {

class GridView;
class PathPicture;

class PathPane : public QWidget {
    Q_OBJECT
public:
    PathPane(Session& session, QWidget* parent);
    /// Follows the path of the fit that is shown, unless it is there; for when the pane is seen.
    void refresh();
    PathPicture& picture() { return *m_picture; }

private:
    /// The recipe whose penalty is to be found: fits that differ in their penalty alone share a path.
    static Recipe soughtOf(Recipe recipe);
    bool isOfShown() const;
    void follow();
    void take(std::shared_ptr<const PenaltySearch> search);
    void showShare();
    void showPlace(std::size_t place);
    void moved(std::size_t place, bool rests);
    void slideNow();
    void takeRule(const char* rule);
    void chooseByHalves();
    void showMode();
    QString unit() const;

    Session& m_session;
    PathPicture* m_picture;
    GridView* m_terms;
    GridModel m_model;
    QStackedWidget* m_stack;
    QPushButton *m_drawn, *m_listed, *m_smallest, *m_simpler, *m_scale, *m_halvesButton;
    QComboBox* m_shares;
    QLabel* m_said;
    QLabel* m_more;
    QTimer* m_rest;
    /// What the path is of.
    std::shared_ptr<const PreparedRows> m_prepared;
    Recipe m_recipe;
    std::shared_ptr<const PenaltySearch> m_search;
    std::shared_ptr<const PathView> m_view;
    std::shared_ptr<const StabilitySelection> m_halves;
    bool m_following = false;
    bool m_moving = false;
    bool m_perDeviation = true;
    QString m_halvesSaid;
};

} // namespace oxgoad
