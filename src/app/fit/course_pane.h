#pragma once
#include "app/plots/plot_frame.h"
#include "model/learned_model.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>
#include <memory>

class QLabel;
class QPushButton;
class QSplitter;

namespace oxgoad {

class GridView;
struct TuningDrawn;

/// How learning went, or goes: what rows are missed by after each step; how weights spread; and of formulas
/// the list, from simple to exact.
class CoursePane : public QWidget {
    Q_OBJECT
public:
    CoursePane(Session& session, QWidget* parent);
    void refresh();
    /// Whether the model that is shown, or what is learned now, has a course.
    static bool has(const Session& session);

private:
    /// The error of every value that was tried of a setting that was found.
    void showTuning(const TuningDrawn& drawn);
    void show(const LearningCourse& course, bool running);
    void showSpreads(const LearningCourse& course);
    void showFormulas();
    void takeFormula();

    Session& m_session;
    QLabel* m_said;
    QPushButton* m_take;
    QPushButton* m_scale;
    QSplitter* m_parts;
    PlotFrame* m_plot;
    PlotFrame* m_spreads;
    GridView* m_formulas;
    GridModel m_model;
    bool m_log = false;
};

} // namespace oxgoad
