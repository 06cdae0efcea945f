#include "app/fit/curve_pane.h"

#include "app/parts.h"
#include "app/theme.h"
#include "base/error.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>
#include <cmath>

namespace oxgoad {

CurvePane::CurvePane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    m_plot = new PlotFrame(tr("Error against rows learned from"), this);
    m_plot->setObjectName("curvePlot");
    layout->addWidget(m_plot, 1);
    auto* line = new QHBoxLayout;
    m_said = plainLabel({}, "hint");
    m_said->setObjectName("curveSaid");
    m_said->setWordWrap(true);
    line->addWidget(m_said, 1);
    m_work = linkButton(tr("learn from fewer rows"), this);
    m_work->setObjectName("curveWork");
    m_work->setToolTip(tr(
        "Every fold learns anew from eight numbers of its rows; takes about as long as judging eight times"));
    line->addWidget(m_work, 0, Qt::AlignTop);
    layout->addLayout(line);
    connect(m_work, &QPushButton::clicked, this, &CurvePane::work);
}

void CurvePane::refresh() {
    const auto& evidence = m_session.evidence();
    if (evidence && m_of == evidence->study) return;
    if (m_session.curveJobs().busy()) m_session.curveJobs().drop();
    m_of.reset();
    m_work->setVisible(evidence != nullptr);
    m_plot->clear(evidence ? tr("Would more rows help, or other terms? Learn from fewer rows and see.")
                           : tr("There is no fit yet."));
    m_said->clear();
}

void CurvePane::work() {
    const auto evidence = m_session.evidence();
    const auto prepared = m_session.prepared();
    if (!evidence || !prepared) return;
    m_of = evidence->study;
    m_plot->clear(tr("Learning from fewer rows…"));
    m_said->clear();
    m_work->hide();
    m_session.curveJobs().start(
        tr("Learning curve"),
        [this, prepared, study = evidence->study, recipe = m_session.recipe(),
         file = m_session.rows()->learning.report.file](Progress& progress) -> Jobs::Finish {
            const auto soFar = [&](const LearningCurve& curve) {
                QMetaObject::invokeMethod(this, [this, study, curve] {
                    if (m_of == study && m_session.curveJobs().busy()) draw(curve);
                });
            };
            try {
                const auto curve = learningCurve(recipe, *prepared, file, study, {}, progress, soFar);
                return [this, study, curve] {
                    if (m_of == study) draw(curve);
                };
            } catch (const Error& error) {
                return [this, study, why = qs(error.what())] {
                    if (m_of == study) m_plot->clear(why);
                };
            }
        },
        [this](bool stopped) {
            if (!stopped || !m_of) return;
            m_of.reset();
            refresh();
        });
}

void CurvePane::draw(const LearningCurve& curve) {
    PlotFrame::Content content;
    const QString unit = m_session.unit(m_session.recipe().response);
    content.xTitle = tr("rows learned from, logarithmic");
    content.yTitle = tr("RMSE") + (unit.isEmpty() ? QString() : ", " + unit);
    content.xLog = true;
    PlotFrame::Line learning, unseen;
    PlotFrame::Band band;
    learning.name = tr("rows learned from");
    unseen.name = tr("unseen rows, ± one standard error");
    learning.colour = theme::learning;
    learning.style = Qt::DashLine;
    unseen.colour = theme::heldOut;
    band.colour = theme::heldOut;
    PlotFrame::Marks marks;
    marks.mark = theme::Mark::heldOut;
    marks.name = {};
    for (const LearningPoint& point : curve.points) {
        const auto x = static_cast<double>(point.rows);
        learning.x.push_back(x);
        learning.y.push_back(point.learning);
        unseen.x.push_back(x);
        unseen.y.push_back(point.unseen);
        band.x.push_back(x);
        band.low.push_back(point.unseen - point.unseenError);
        band.high.push_back(point.unseen + point.unseenError);
    }
    content.lines = {unseen, learning};
    content.bands = {band};
    content.summary = qs(curve.says);
    m_plot->show(std::move(content));
    QString text = qs(curve.says);
    if (!curve.points.empty() && std::isfinite(curve.points.back().rowsPerCoefficient))
        text += tr(" Rows a coefficient: %1 to %2.")
                    .arg(qs(readableText(curve.points.front().rowsPerCoefficient, 2)),
                         qs(readableText(curve.points.back().rowsPerCoefficient, 3)));
    text += tr(" Judged by %1.").arg(qs(curve.judgedBy));
    if (!curve.notSelected.empty()) text += tr(" Passed over: %1.").arg(qs(curve.notSelected));
    if (curve.stopped) text += tr(" Stopped: smaller numbers are missing.");
    m_said->setText(text);
}

} // namespace oxgoad
