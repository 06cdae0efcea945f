#pragma once
// Would more rows help: errors against the number of rows learned from.
#include "app/plots/plot_frame.h"
#include "study/learning_curve.h"
#include "workspace/session.h"

#include <QWidget>

class QLabel;
class QPushButton;

namespace oxgoad {

class CurvePane : public QWidget {
    Q_OBJECT
public:
    CurvePane(Session& session, QWidget* parent);
    /// Shows what is known of the fit that is shown.
    void refresh();

private:
    void work();
    void draw(const LearningCurve& curve);

    Session& m_session;
    PlotFrame* m_plot;
    QPushButton* m_work;
    QLabel* m_said;
    /// The fit the curve is of.
    std::shared_ptr<const Study> m_of;
};

} // namespace oxgoad
