#include "app/forecast/questions_pane.h"

#include "app/parts.h"
#include "app/plots/plot_frame.h"
#include "app/station.h"
#include "base/text.h"
#include "study/forecast_answers.h"
#include "workspace/answers_grids.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QComboBox>
#include <QStackedWidget>
#include <QVBoxLayout>
#include <algorithm>
#include <array>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::array measures{CrossMeasure::sumOfPredicted,   CrossMeasure::meanOfPredicted,
                              CrossMeasure::shareOfPredicted, CrossMeasure::sumOfActual,
                              CrossMeasure::meanOfActual,     CrossMeasure::sumOfDifference,
                              CrossMeasure::meanOfDifference, CrossMeasure::rows,
                              CrossMeasure::interval};
constexpr std::size_t mostLevels = 200;

QLabel* word(const QString& text) {
    auto* label = plainLabel(text, {}, nullptr);
    label->setTextInteractionFlags(Qt::NoTextInteraction);
    label->setMinimumHeight(28); // on the line of the controls beside it
    label->setAlignment(Qt::AlignVCenter);
    return label;
}

constexpr std::array lineStyles{Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};

/// A line for each value that goes down, over those that go across; with intervals where lines are few.
PlotFrame::Content crossLines(const Session& session) {
    PlotFrame::Content content;
    const CrossTableFound& table = *session.evidence()->answers->crossTable;
    const auto named = [](const std::string& label) {
        return label.empty() ? QuestionsPane::tr("missing") : qs(label);
    };
    for (const std::string& label : table.across)
        content.xLevels << named(label);
    content.xTitle = qs(segmentText(table.asked.across));
    content.yTitle = qs(std::string(crossMeasureName(table.asked.measure)));
    const bool counts = table.asked.measure == CrossMeasure::rows,
               shares = table.asked.measure == CrossMeasure::shareOfPredicted;
    if (const QString unit = session.unit(session.recipe().response); !unit.isEmpty() && !counts && !shares)
        content.yTitle += " (" + unit + ")";
    constexpr std::size_t mostWithBands = 3;
    for (std::size_t i = 0; i < table.down.size(); ++i) {
        PlotFrame::Line line{.name = named(table.down[i]),
                             .x = {},
                             .y = {},
                             .colour = theme::groupColour(static_cast<int>(i)),
                             .style = lineStyles[i % lineStyles.size()],
                             .label = named(table.down[i])};
        PlotFrame::Band band{.x = {}, .low = {}, .high = {}, .colour = line.colour};
        for (std::size_t j = 0; j < table.across.size(); ++j) {
            const CrossCell& cell = table.at(i, j);
            if (!std::isfinite(cell.value)) continue;
            line.x.push_back(static_cast<double>(j));
            line.y.push_back(cell.value);
            if (!std::isfinite(cell.lower)) continue;
            band.x.push_back(static_cast<double>(j));
            band.low.push_back(cell.lower);
            band.high.push_back(cell.upper);
        }
        content.lines.push_back(std::move(line));
        if (table.down.size() <= mostWithBands && !band.x.empty()) content.bands.push_back(std::move(band));
    }
    content.legend = false; // each line says its name at its end
    content.summary =
        QuestionsPane::tr("%1 for each %2 over %3, %n line(s)", nullptr, static_cast<int>(table.down.size()))
            .arg(content.yTitle, qs(segmentText(table.asked.down)), content.xTitle);
    return content;
}

} // namespace

QuestionsPane::QuestionsPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 6, 0, 0);
    m_sentences = new QStackedWidget(this);
    m_sentences->addWidget(crossSentence());
    m_sentences->addWidget(scenarioSentence());
    m_sentences->addWidget(reachSentence());
    m_sentences->setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Maximum);
    layout->addWidget(m_sentences);
    m_problem = plainLabel({}, "hint", this);
    m_problem->setWordWrap(true);
    layout->addWidget(m_problem);
    m_table = new GridView(tr("Answers"), this);
    m_table->setObjectName("answersTable");
    m_table->setModel(&m_model);
    layout->addWidget(m_table, 1);
    m_plot = new PlotFrame(tr("The cross table as lines"), this);
    m_plot->setObjectName("crossPlot");
    m_plot->hide();
    layout->addWidget(m_plot, 1);
}

QWidget* QuestionsPane::crossSentence() {
    auto* page = new QWidget(this);
    auto* flow = new FlowLayout(page, 6, 6);
    m_measure = plainBox(tr("Measure"), "crossMeasure", page);
    m_down = plainBox(tr("Down"), "crossDown", page);
    m_across = plainBox(tr("Across"), "crossAcross", page);
    for (const CrossMeasure measure : measures)
        m_measure->addItem(qs(std::string(crossMeasureName(measure))));
    flow->addWidget(word(tr("Show the")));
    flow->addWidget(m_measure);
    flow->addWidget(word(tr("of the rows to forecast, down by")));
    flow->addWidget(m_down);
    flow->addWidget(word(tr("and across by")));
    flow->addWidget(m_across);
    m_lines = new QCheckBox(tr("as lines"), page);
    m_lines->setObjectName("crossLines");
    connect(m_lines, &QCheckBox::toggled, this, &QuestionsPane::refresh);
    flow->addWidget(m_lines);
    for (QComboBox* box : {m_measure, m_down, m_across})
        connect(box, &QComboBox::activated, this, &QuestionsPane::askCross);
    return page;
}

QWidget* QuestionsPane::scenarioSentence() {
    auto* page = new QWidget(this);
    auto* flow = new FlowLayout(page, 6, 6);
    const auto field = [&](const QString& name, const char* objectName, const QString& placeholder,
                           int width) {
        auto* edit = new QLineEdit(page);
        edit->setObjectName(objectName);
        edit->setAccessibleName(name);
        edit->setPlaceholderText(placeholder);
        edit->setMinimumWidth(width);
        connect(edit, &QLineEdit::returnPressed, this, &QuestionsPane::addScenario);
        return edit;
    };
    m_name = field(tr("Name of the scenario"), "scenarioName", tr("name"), 130);
    m_column = plainBox(tr("Column"), "scenarioColumn", page);
    m_how = plainBox(tr("How it changes"), "scenarioHow", page);
    m_how->addItems({tr("by"), tr("by per cent"), tr("to")});
    m_value = field(tr("By how much, or to what"), "scenarioValue", tr("5"), 70);
    m_where = field(tr("Where: a condition"), "scenarioWhere",
                    tr("all rows, or a condition: contract = \"annual\""), 260);
    m_add = new QPushButton(tr("Ask"), page);
    m_add->setObjectName("scenarioAdd");
    m_drop = new QPushButton(tr("Drop the chosen one"), page);
    m_drop->setObjectName("scenarioDrop");
    connect(m_add, &QPushButton::clicked, this, &QuestionsPane::addScenario);
    connect(m_drop, &QPushButton::clicked, this, &QuestionsPane::dropScenario);
    flow->addWidget(word(tr("What if")));
    flow->addWidget(m_name);
    flow->addWidget(word(tr("changes")));
    flow->addWidget(m_column);
    flow->addWidget(m_how);
    flow->addWidget(m_value);
    flow->addWidget(word(tr("where")));
    flow->addWidget(m_where);
    flow->addWidget(m_add);
    flow->addWidget(m_drop);
    return page;
}

QWidget* QuestionsPane::reachSentence() {
    auto* page = new QWidget(this);
    auto* flow = new FlowLayout(page, 6, 6);
    m_end = plainBox(tr("Column to test along"), "reachColumn", page);
    auto* test = new QPushButton(tr("Test"), page);
    test->setObjectName("reachTest");
    connect(test, &QPushButton::clicked, this, &QuestionsPane::testReach);
    flow->addWidget(word(tr("Hold out the outermost rows along")));
    flow->addWidget(m_end);
    flow->addWidget(word(tr("in steps, learn of the others, and see how far predictions hold")));
    flow->addWidget(test);
    flow->addWidget(word(tr("Rows are graded by ranges (at the edge up to")));
    m_edge = new NumberBox(page);
    m_edge->setObjectName("reachEdge");
    m_edge->setAccessibleName(tr("Per cent of a range beyond which a row is outside"));
    m_edge->setRange(0, 1000);
    m_edge->setDecimals(1);
    m_edge->setFixedWidth(56);
    m_edge->setValue(5);
    flow->addWidget(m_edge);
    flow->addWidget(word(tr("% beyond one), leverage")));
    m_hull = new QCheckBox(tr("and the hull of the numbers together"), page);
    m_hull->setObjectName("reachHull");
    m_nearest = new QCheckBox(tr("and the distance to the nearest rows"), page);
    m_nearest->setObjectName("reachNearest");
    flow->addWidget(m_hull);
    flow->addWidget(m_nearest);
    connect(m_edge, &QDoubleSpinBox::editingFinished, this, &QuestionsPane::askGrades);
    connect(m_hull, &QCheckBox::clicked, this, &QuestionsPane::askGrades);
    connect(m_nearest, &QCheckBox::clicked, this, &QuestionsPane::askGrades);
    return page;
}

void QuestionsPane::ask(Question question) {
    m_question = question;
    m_sentences->setCurrentIndex(static_cast<int>(question));
    refresh();
}

void QuestionsPane::fillChoices() {
    m_filling = true;
    if (const auto& forecast = m_session.draft().forecast) {
        m_edge->setValue(100 * forecast->reach.edgeShare);
        m_hull->setChecked(forecast->reach.hull);
        m_nearest->setChecked(forecast->reach.nearest > 0);
    }
    m_segments.clear();
    QStringList segments, columns, ends;
    const auto prepared = m_session.prepared();
    const auto rows = m_session.rows();
    if (prepared && prepared->forecast) {
        const Table& table = prepared->forecast->table;
        for (const Column& column : table.columns())
            if (column.kind() == ColumnKind::factor && column.levels().size() <= mostLevels)
                m_segments.push_back({.column = column.name()});
        for (const Column& column : table.columns())
            if (column.kind() == ColumnKind::date || column.moments())
                for (const auto stretch :
                     {Stretch::month, Stretch::quarter, Stretch::year, Stretch::week, Stretch::day})
                    m_segments.push_back({.column = column.name(), .stretch = stretch});
        for (const Column& column : table.columns())
            if (column.kind() == ColumnKind::number && !column.moments())
                m_segments.push_back({.column = column.name(), .bands = 4});
        for (const Segment& segment : m_segments)
            segments << qs(segmentText(segment));
    }
    if (rows && rows->forecast)
        for (const Column& column : rows->forecast->table.columns())
            columns << qs(column.name());
    if (const auto evidence = m_session.evidence(); evidence && evidence->study)
        for (const Input& input : evidence->study->inputs)
            if (!input.factor) ends << qs(input.name);
    fillBox(*m_down, segments, {});
    fillBox(*m_across, segments, {});
    fillBox(*m_column, columns, {});
    fillBox(*m_end, ends, {});
    const Recipe recipe = m_session.recipe();
    if (recipe.forecast && recipe.forecast->crossTable) {
        const CrossTable& asked = *recipe.forecast->crossTable;
        m_measure->setCurrentText(qs(std::string(crossMeasureName(asked.measure))));
        m_down->setCurrentText(qs(segmentText(asked.down)));
        m_across->setCurrentText(qs(segmentText(asked.across)));
    } else if (m_across->count() > 1 && m_across->currentIndex() == m_down->currentIndex()) {
        const auto dated = std::find_if(m_segments.begin(), m_segments.end(),
                                        [](const Segment& s) { return s.stretch == Stretch::quarter; });
        m_across->setCurrentIndex(dated != m_segments.end() ? static_cast<int>(dated - m_segments.begin())
                                                            : 1);
    }
    m_filling = false;
}

void QuestionsPane::refresh() {
    fillChoices();
    const Recipe recipe = m_session.recipe();
    const auto evidence = m_session.evidence();
    const bool there = evidence && evidence->forecast && evidence->answers;
    GridModel::Content content;
    QString says;
    if (there) {
        const ForecastAnswers& answers = *evidence->answers;
        switch (m_question) {
        case Question::crossTable:
            content = crossGrid(m_session);
            says = answers.crossTable
                       ? tr("Intervals of each cell %1%2; they show where the pointer rests")
                             .arg(qs(answers.sumsBy),
                                  answers.shared.empty() ? QString() : "; " + qs(answers.shared))
                       : tr("Choose a measure, and what goes down and across.");
            break;
        case Question::scenarios:
            content = scenariosGrid(m_session);
            says = answers.scenarios.empty()
                       ? tr("Name what could be otherwise; the rows to forecast stay as they are.")
                       : tr("The interval is that of the difference, %1").arg(qs(answers.sumsBy));
            break;
        case Question::reach:
            content = reachGrid(m_session);
            says = answers.reach.empty() ? tr("Nothing was tested yet.")
                                         : tr("Errors inside are %1").arg(qs(answers.reach.front().insideOf));
            break;
        }
    }
    const bool lines =
        m_question == Question::crossTable && m_lines->isChecked() && there && evidence->answers->crossTable;
    m_table->setVisible(!lines);
    m_plot->setVisible(lines);
    if (lines) m_plot->show(crossLines(m_session));
    m_drop->setEnabled(!recipe.scenarios.empty());
    m_problem->setText(says);
    const int columns = m_model.columnCount(), rowsBefore = m_model.rowCount();
    m_model.setContent(std::move(content));
    if (columns != m_model.columnCount() || rowsBefore != m_model.rowCount()) m_table->fitColumns(300);
}

void QuestionsPane::edit(const std::function<void(Recipe&)>& change) {
    Recipe recipe = m_session.draft();
    if (!recipe.forecast) return;
    change(recipe);
    m_session.change(recipe);
}

void QuestionsPane::askCross() {
    if (m_filling || m_segments.empty()) return;
    const auto segment = [&](const QComboBox& box) {
        return m_segments[static_cast<std::size_t>(std::max(0, box.currentIndex()))];
    };
    const CrossTable asked{.down = segment(*m_down),
                           .across = segment(*m_across),
                           .measure =
                               measures[static_cast<std::size_t>(std::max(0, m_measure->currentIndex()))]};
    if (asked.down == asked.across) {
        m_problem->setText(tr("Down and across are the same: choose two."));
        return;
    }
    edit([&](Recipe& recipe) { recipe.forecast->crossTable = asked; });
}

void QuestionsPane::addScenario() {
    ColumnChange change{.column = ss(m_column->currentText())};
    change.how = static_cast<ColumnChange::How>(m_how->currentIndex());
    const QString typed = m_value->text().trimmed();
    const auto number = typedNumber(typed);
    if (number)
        change.value = *number;
    else if (change.how == ColumnChange::How::to && !typed.isEmpty())
        change.value = ss(typed);
    else {
        m_problem->setText(tr("\"%1\" is no number to change %2 by.").arg(typed, m_column->currentText()));
        m_value->setFocus();
        return;
    }
    const Recipe recipe = m_session.draft();
    QString name = m_name->text().trimmed();
    if (name.isEmpty()) name = tr("scenario %1").arg(recipe.scenarios.size() + 1);
    const auto same = [&](const Scenario& s) { return s.name == ss(name); };
    if (std::any_of(recipe.scenarios.begin(), recipe.scenarios.end(), same)) {
        m_problem->setText(tr("There is a scenario \"%1\" already.").arg(name));
        m_name->setFocus();
        return;
    }
    edit([&](Recipe& r) { r.scenarios.push_back({ss(name), ss(m_where->text().trimmed()), {change}}); });
    m_name->clear();
}

void QuestionsPane::dropScenario() {
    const int row =
        m_table->currentIndex().isValid() ? m_table->currentIndex().row() : m_model.rowCount() - 1;
    edit([&](Recipe& recipe) {
        if (row >= 0 && row < static_cast<int>(recipe.scenarios.size()))
            recipe.scenarios.erase(recipe.scenarios.begin() + row);
    });
}

void QuestionsPane::askGrades() {
    if (m_filling || !m_session.draft().forecast) return;
    ReachRules rules = m_session.draft().forecast->reach;
    rules.edgeShare = m_edge->value() / 100;
    rules.hull = m_hull->isChecked();
    constexpr double usualShare = 0.01;
    rules.nearest = !m_nearest->isChecked() ? 0 : rules.nearest > 0 ? rules.nearest : usualShare;
    if (rules == m_session.draft().forecast->reach) return;
    edit([&](Recipe& recipe) { recipe.forecast->reach = rules; });
}

void QuestionsPane::testReach() {
    const std::string column = ss(m_end->currentText());
    if (column.empty()) return;
    edit([&](Recipe& recipe) {
        auto& named = recipe.forecast->testReach;
        if (std::find(named.begin(), named.end(), column) == named.end()) named.push_back(column);
    });
}

} // namespace oxgoad
