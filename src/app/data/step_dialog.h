#pragma once
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QDialog>
#include <QTimer>
#include <functional>
#include <vector>

class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;

/// One step of the preparation, asked for field by field, with what it would do to its columns.
class StepDialog : public QDialog {
    Q_OBJECT
public:
    /// `index` is the step's place among the recipe's steps; their number for a new one.
    StepDialog(Session& session, Step step, std::size_t index, QWidget* parent);
    Step step() const;

private:
    struct Field {
        std::string key;
        std::function<StepValue()> value;
    };
    QWidget* editorFor(const StepField& field);
    QWidget* columnBox(const StepField& field);
    QWidget* checkList(const StepField& field);
    QWidget* pairsEditor(const StepField& field);
    void fillLevels();
    void changed();
    void preview();

    Session& m_session;
    Step m_step;
    std::size_t m_index;
    const StepKind* m_kind;
    std::vector<Field> m_fields;
    /// Fills lists of levels when the column changes.
    std::vector<std::function<void()>> m_levelFillers;
    std::function<std::string()> m_column;
    QLabel* m_sentence;
    QLabel* m_trouble;
    GridModel m_effectModel;
    GridView* m_effect;
    QPushButton* m_ok = nullptr;
    QTimer m_later;
    int m_ticket = 0;
};

} // namespace oxgoad
