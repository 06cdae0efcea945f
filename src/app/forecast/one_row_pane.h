#pragma once
#include "study/row_by_hand.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>

class QComboBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QScrollArea;

namespace oxgoad {

class GridView;
class ReachSlider;

/// One row told by hand: a line for each column with a slider or a list, and what the model says of it.
class OneRowPane : public QWidget {
    Q_OBJECT
public:
    OneRowPane(Session& session, QWidget* parent);
    void refresh();

private:
    struct Line {
        QLineEdit* field = nullptr;
        QComboBox* levels = nullptr;
        ReachSlider* slider = nullptr;
    };
    /// What is shown at once: answered off the interface thread.
    struct Answered {
        HandAnswer answer;
        std::vector<HandScale> scales;
    };
    void learnAgain();
    void fillLines();
    void showValues();
    void ask();
    void show(const Answered& answered);
    void typed(std::size_t line);
    void findTarget();
    void keep();
    void forget();
    void takeStart(int index);
    QString textOf(std::size_t column, const HandRow::Value& value) const;

    Session& m_session;
    Jobs m_jobs;
    std::shared_ptr<const RowByHand> m_model;
    std::shared_ptr<const Evidence> m_of;
    std::vector<HandRow::Value> m_values;
    std::vector<Line> m_lines;
    bool m_filling = false, m_again = false;
    QComboBox *m_start, *m_targetColumn;
    QLineEdit *m_name, *m_target;
    QPushButton *m_keep, *m_forget, *m_find;
    QScrollArea* m_scroll;
    QLabel *m_says, *m_reach, *m_found;
    GridModel m_ladder;
    GridView* m_steps;
};

} // namespace oxgoad
