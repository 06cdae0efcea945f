#include "app/fit/course_pane.h"

#include "app/parts.h"
#include "app/theme.h"
#include "base/text.h"
#include "estimate/formula/formula.h"
#include "recipe/recipe_edits.h"
#include "study/tune.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>
#include <array>
#include <cmath>

namespace oxgoad {

namespace {

const LearningCourse* courseOf(const Session& session) {
    const auto& evidence = session.evidence();
    return evidence && evidence->study ? evidence->study->model->course() : nullptr;
}

/// The study, where folds or held-out rows found one of its settings.
const Study* tuningOf(const Session& session) {
    const auto& evidence = session.evidence();
    return evidence && evidence->study && evidence->study->tuning ? evidence->study.get() : nullptr;
}

const FormulaModel* formulaOf(const Session& session) {
    const auto& evidence = session.evidence();
    return evidence && evidence->study ? dynamic_cast<const FormulaModel*>(evidence->study->model.get())
                                       : nullptr;
}

constexpr std::array styles{Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine, Qt::DashDotDotLine};

} // namespace

CoursePane::CoursePane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    auto* head = new QHBoxLayout;
    m_said = plainLabel({}, "hint");
    m_said->setObjectName("courseSaid");
    m_said->setWordWrap(true);
    head->addWidget(m_said, 1);
    m_take = linkButton(tr("make it a term"), this);
    m_take->setObjectName("takeFormula");
    m_take->setToolTip(tr("A column of the chosen formula, and a straight model of it"));
    connect(m_take, &QPushButton::clicked, this, &CoursePane::takeFormula);
    head->addWidget(m_take, 0, Qt::AlignTop);
    m_scale = linkButton(tr("logarithmic scale"), this);
    m_scale->setObjectName("courseScale");
    m_scale->setCheckable(true);
    connect(m_scale, &QPushButton::toggled, this, [this](bool on) {
        m_log = on;
        refresh();
    });
    head->addWidget(m_scale, 0, Qt::AlignTop);
    layout->addLayout(head);
    m_parts = new QSplitter(Qt::Horizontal, this);
    m_parts->setHandleWidth(1);
    m_plot = new PlotFrame(tr("Course of learning"), m_parts);
    m_plot->setObjectName("coursePlot");
    m_spreads = new PlotFrame(tr("Spread of the weights"), m_parts);
    m_spreads->setObjectName("spreadPlot");
    m_formulas = new GridView(tr("Formulas, from simple to exact"), m_parts);
    m_formulas->setObjectName("formulas");
    m_formulas->setModel(&m_model);
    connect(m_formulas, &GridView::opened, this, [this] { takeFormula(); });
    m_parts->addWidget(m_plot);
    m_parts->addWidget(m_spreads);
    m_parts->addWidget(m_formulas);
    m_parts->setSizes({520, 420, 420});
    layout->addWidget(m_parts, 1);
    connect(&session.jobs(), &Jobs::coursed, this,
            [this](const std::shared_ptr<const LearningCourse>& course) {
                if (isVisible()) show(*course, true);
            });
}

bool CoursePane::has(const Session& session) {
    return courseOf(session) || tuningOf(session);
}

void CoursePane::showTuning(const TuningDrawn& drawn) {
    PlotFrame::Content content;
    content.xTitle = qs(drawn.sizeName);
    content.yTitle = tr("root mean squared error");
    if (const QString unit = m_session.unit(m_session.recipe().response); !unit.isEmpty())
        content.yTitle += " (" + unit + ")";
    content.yLog = m_log;
    const auto add = [&](const QString& name, const std::vector<double>& errors, const QColor& colour,
                         Qt::PenStyle style) {
        PlotFrame::Line line{.name = name, .x = {}, .y = {}, .colour = colour, .style = style};
        for (std::size_t k = 0; k < errors.size(); ++k)
            if (std::isfinite(errors[k])) {
                line.x.push_back(drawn.size[k]);
                line.y.push_back(errors[k]);
            }
        if (!line.x.empty()) content.lines.push_back(std::move(line));
    };
    add(tr("over folds, ± one standard error"), drawn.folds, theme::ink, Qt::SolidLine);
    add(tr("learning rows"), drawn.learning, theme::learning, Qt::DashLine);
    add(tr("held out"), drawn.heldOut, theme::heldOut, Qt::DotLine);
    add(tr("test rows"), drawn.test, theme::forecast, Qt::DashDotLine);
    PlotFrame::Band band{.x = {}, .low = {}, .high = {}, .colour = theme::ink};
    for (std::size_t k = 0; k < drawn.size.size(); ++k)
        if (std::isfinite(drawn.low[k]) && std::isfinite(drawn.high[k])) {
            band.x.push_back(drawn.size[k]);
            band.low.push_back(drawn.low[k]);
            band.high.push_back(drawn.high[k]);
        }
    content.bands.push_back(std::move(band));
    const auto mark = [&](const QString& name, std::size_t k, theme::Mark sign) {
        const double y = std::isfinite(drawn.folds[k]) ? drawn.folds[k] : drawn.heldOut[k];
        content.marks.push_back({.name = name.arg(qs(shortText(drawn.size[k]))),
                                 .mark = sign,
                                 .x = {drawn.size[k]},
                                 .y = {y},
                                 .rows = {}});
    };
    mark(tr("smallest error: %1"), drawn.smallest, theme::Mark::diamond);
    if (drawn.simplest != drawn.smallest)
        mark(tr("within one standard error: %1"), drawn.simplest, theme::Mark::plain);
    if (drawn.taken != drawn.smallest && drawn.taken != drawn.simplest)
        mark(tr("taken: %1"), drawn.taken, theme::Mark::forecastInside);
    content.summary = qs(drawn.says);
    m_plot->show(std::move(content));
    const QString says = qs(drawn.says);
    m_said->setText(says.left(1).toUpper() + says.mid(1) + ".");
}

void CoursePane::refresh() {
    const LearningCourse* course = courseOf(m_session);
    const Study* tuned = tuningOf(m_session);
    m_scale->setVisible(course || tuned);
    if (!course && tuned) {
        m_spreads->hide();
        m_formulas->hide();
        m_take->hide();
        showTuning(drawnTuning(*tuned));
        return;
    }
    if (!course) {
        m_plot->clear(tr("This kind of model learns at once."));
        m_spreads->hide();
        m_formulas->hide();
        m_take->hide();
        m_said->clear();
        return;
    }
    show(*course, false);
    showSpreads(*course);
    showFormulas();
}

void CoursePane::show(const LearningCourse& course, bool running) {
    PlotFrame::Content content;
    const QString steps = course.steps.empty() ? tr("steps") : qs(course.steps);
    content.xTitle = steps;
    content.yTitle = course.loss.empty() ? tr("loss") : qs(course.loss);
    if (const QString unit = m_session.unit(m_session.recipe().response); !unit.isEmpty())
        content.yTitle += " (" + unit + ")";
    content.yLog = m_log;
    QString heard;
    for (std::size_t r = 0; r < course.runs.size(); ++r) {
        const auto& run = course.runs[r];
        const bool taken = running ? r + 1 == course.runs.size() : r == course.taken;
        // The others are thin lines without a name: more names than there is room for.
        const bool named = course.runs.size() > 1;
        const auto nameOf = [&](const QString& rows) {
            return !named ? rows : taken ? tr("%1, %2").arg(qs(run.name), rows) : QString();
        };
        const auto style = styles[std::min(r, styles.size() - 1)];
        PlotFrame::Line learning{.name = nameOf(tr("learning rows")),
                                 .x = {},
                                 .y = {},
                                 .colour = theme::learning,
                                 .style = style,
                                 .width = taken ? 2.2 : 1.0};
        // What is missed by before anything is learned would flatten all that follows.
        const auto drawn = [&](std::size_t k) { return run.step[k] > 0 || run.step.size() < 3; };
        for (std::size_t k = 0; k < run.step.size(); ++k)
            if (drawn(k)) {
                learning.x.push_back(run.step[k]);
                learning.y.push_back(run.learning[k]);
            }
        content.lines.push_back(std::move(learning));
        if (std::any_of(run.unseen.begin(), run.unseen.end(), [](double v) { return std::isfinite(v); })) {
            PlotFrame::Line unseen{.name = nameOf(tr("unseen rows")),
                                   .x = {},
                                   .y = {},
                                   .colour = theme::heldOut,
                                   .style = style,
                                   .width = taken ? 2.2 : 1.0};
            for (std::size_t k = 0; k < run.step.size(); ++k)
                if (drawn(k) && std::isfinite(run.unseen[k])) {
                    unseen.x.push_back(run.step[k]);
                    unseen.y.push_back(run.unseen[k]);
                }
            content.lines.push_back(std::move(unseen));
        }
    }
    if (!running && !course.runs.empty()) {
        const auto& run = course.runs[std::min(course.taken, course.runs.size() - 1)];
        const auto at = std::find(run.step.begin(), run.step.end(), course.takenAt);
        if (at != run.step.end()) {
            const auto k = static_cast<std::size_t>(at - run.step.begin());
            const double y = std::isfinite(run.unseen[k]) ? run.unseen[k] : run.learning[k];
            content.marks.push_back(
                {.name =
                     tr("taken, %1: %2").arg(steps, qs(countText(static_cast<std::size_t>(course.takenAt)))),
                 .mark = theme::Mark::heldOut,
                 .x = {course.takenAt},
                 .y = {y},
                 .rows = {}});
        }
    }
    heard = qs(course.says);
    content.summary = heard;
    m_plot->show(std::move(content));
    if (running)
        m_said->setText(tr("Learning runs; Stop keeps the best so far."));
    else
        m_said->setText(heard.isEmpty() ? QString() : heard.left(1).toUpper() + heard.mid(1) + ".");
}

void CoursePane::showSpreads(const LearningCourse& course) {
    m_spreads->setVisible(!course.spreads.empty());
    if (course.spreads.empty()) return;
    PlotFrame::Content content;
    content.xTitle = qs(course.steps);
    content.yTitle = tr("value");
    content.zeroLine = true;
    const std::array colours{theme::forecast, theme::learning, theme::heldOut, theme::ink};
    std::size_t k = 0;
    for (const auto& spread : course.spreads) {
        if (spread.name.starts_with("constants")) continue;
        const QColor colour = colours[k % colours.size()];
        PlotFrame::Band band;
        PlotFrame::Line middle{.name = qs(spread.name),
                               .x = spread.step,
                               .y = {},
                               .colour = colour,
                               .style = styles[k % styles.size()]};
        PlotFrame::Line low{
            .name = {}, .x = spread.step, .y = {}, .colour = colour, .style = Qt::DotLine, .width = 1.0};
        PlotFrame::Line high = low;
        band.x = spread.step;
        band.colour = colour;
        for (const auto& five : spread.values) {
            band.low.push_back(five[1]);
            band.high.push_back(five[3]);
            middle.y.push_back(five[2]);
            low.y.push_back(five[0]);
            high.y.push_back(five[4]);
        }
        content.bands.push_back(std::move(band));
        content.lines.push_back(std::move(middle));
        content.lines.push_back(std::move(low));
        content.lines.push_back(std::move(high));
        ++k;
    }
    content.summary = tr("Median, quartiles and extremes of the weights of each layer, standardised columns");
    m_spreads->show(std::move(content));
}

void CoursePane::showFormulas() {
    const FormulaModel* model = formulaOf(m_session);
    m_formulas->setVisible(model != nullptr);
    m_take->setVisible(model != nullptr);
    if (!model) return;
    GridModel::Content content;
    struct Row {
        QString formula, size, learning, folds;
        bool taken;
    };
    auto rows = std::make_shared<std::vector<Row>>();
    for (std::size_t k = 0; k < model->front.size(); ++k) {
        const FoundFormula& each = model->front[k];
        rows->push_back({qs(formulaText(each.tree, model->names, 4)), qs(countText(each.size())),
                         qs(readableText(each.rmse(), 4)),
                         std::isfinite(each.foldMse) ? qs(readableText(each.foldRmse(), 4)) : tr("none"),
                         k == model->taken});
    }
    content.rows = static_cast<int>(rows->size());
    const auto at = [rows](int row) -> const Row& { return (*rows)[static_cast<std::size_t>(row)]; };
    content.columns = {
        {tr("size"), true, [at](int r) { return at(r).size; }, {}, tr("Operations and operands")},
        {tr("RMSE"), true, [at](int r) { return at(r).learning; }, {}, tr("Of learning rows")},
        {tr("over folds"),
         true,
         [at](int r) { return at(r).folds; },
         {},
         tr("Root mean squared error over five folds, constants fitted anew")},
        {tr("formula"),
         false,
         [at](int r) { return (at(r).taken ? tr("taken: ") : QString()) + at(r).formula; },
         {},
         {}}};
    content.extra = [at](int row, int, int role) -> QVariant {
        return role == ToneRole && at(row).taken ? QVariant("strong") : QVariant();
    };
    const int chosen = m_formulas->currentIndex().row();
    m_model.setContent(std::move(content));
    if (chosen < 0) m_formulas->setCurrentIndex(m_model.index(static_cast<int>(model->taken), 0));
}

void CoursePane::takeFormula() {
    const FormulaModel* model = formulaOf(m_session);
    const int row = m_formulas->currentIndex().row();
    if (!model || row < 0 || row >= static_cast<int>(model->front.size())) return;
    const std::string expression =
        expressionText(model->front[static_cast<std::size_t>(row)].tree, model->names);
    m_session.change(withExpressionTerm(m_session.draft(), "formula", expression));
}

} // namespace oxgoad
