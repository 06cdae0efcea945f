#pragma once
#include "app/station.h"
#include "recipe/forecast_plan.h"
#include "workspace/grid_model.h"

#include <QWidget>

class QCheckBox;
class QComboBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QStackedWidget;

namespace oxgoad {

class GridView;
class NumberBox;
class PlotFrame;

/// What is asked of the rows to be forecast, as sentences whose words are controls, each with its table: a
/// cross table, scenarios, how far the model reached when it was asked to.
class QuestionsPane : public QWidget {
    Q_OBJECT
public:
    enum class Question { crossTable, scenarios, reach };
    QuestionsPane(Session& session, QWidget* parent);
    void ask(Question question);
    void refresh();

private:
    QWidget* crossSentence();
    QWidget* scenarioSentence();
    QWidget* reachSentence();
    void fillChoices();
    void askCross();
    void addScenario();
    void dropScenario();
    void testReach();
    void askGrades();
    /// An edit of what is asked of the forecast; nothing is fitted for it.
    void edit(const std::function<void(Recipe&)>& change);

    Session& m_session;
    Question m_question = Question::crossTable;
    QStackedWidget* m_sentences;
    QComboBox *m_measure, *m_down, *m_across, *m_column, *m_how, *m_end;
    QLineEdit *m_name, *m_where, *m_value;
    QPushButton *m_add, *m_drop;
    QCheckBox *m_hull, *m_nearest, *m_lines;
    NumberBox* m_edge;
    QLabel* m_problem;
    GridModel m_model;
    GridView* m_table;
    PlotFrame* m_plot;
    std::vector<Segment> m_segments;
    bool m_filling = false;
};

} // namespace oxgoad
