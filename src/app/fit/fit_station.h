#pragma once
#include "app/station.h"
#include "workspace/grids.h"
#include "workspace/helps_grid.h"

class QLabel;
class QLineEdit;
class QPushButton;
class QSplitter;
class QStackedWidget;

namespace oxgoad {

class ChoosePane;
class CoursePane;
class CurvePane;
class EffectPane;
class GridView;
class PathPane;
class SearchPane;
class TreePane;

/// The term table, the effect of the chosen term, and the fit in words.
class FitStation : public Station {
    Q_OBJECT
public:
    FitStation(Session& session, QWidget* parent);
    void showColumn(const QString& column) override;
    QWidget* focusTarget() override;

protected:
    /// Left, the list takes the order of the model again.
    void hideEvent(QHideEvent* event) override;

private:
    void refresh() override;
    /// Lists the terms, levels and columns called so.
    void find(const QString& text);
    void showLine();
    /// "words", "helps", "choose", "curve", "path", "tree", "course" or "search".
    void showSide(const std::string& side);
    /// Measures what would help, while that is shown.
    void findHelps();
    void showHelps(std::shared_ptr<const ListedHelps> listed);
    void openLine(const QModelIndex& index);
    std::optional<Term> pairOfSelection();

    GridModel m_model;
    TermPlaces m_places;
    /// What the lines of the list are of.
    std::vector<TermLine> m_lines;
    QSplitter* m_whole;
    /// Heights before the path asked for more.
    QList<int> m_heights;
    GridView* m_terms;
    QLineEdit* m_find;
    QPushButton* m_pair;
    QPushButton* m_scale;
    EffectPane* m_effect;
    QStackedWidget* m_side;
    std::vector<std::pair<std::string, QPushButton*>> m_sides;
    ChoosePane* m_choose;
    CurvePane* m_curve;
    PathPane* m_path;
    TreePane* m_tree;
    CoursePane* m_course;
    SearchPane* m_search;
    GridView* m_helps;
    GridModel m_helpsModel;
    QLabel* m_helpsSaid;
    QLineEdit* m_findHelp;
    /// What is shown of the helps.
    std::shared_ptr<const ListedHelps> m_found;
    /// The fit the helps are for.
    std::shared_ptr<const Evidence> m_helped;
    QLabel* m_words;
    QLabel* m_equation;
};

} // namespace oxgoad
