#include "app/forecast/one_row_pane.h"

#include "app/forecast/reach_slider.h"
#include "app/parts.h"
#include "app/station.h"
#include "base/error.h"
#include "base/text.h"
#include "table/values.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QScrollArea>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

QLineEdit* field(const QString& name, const QString& object, int width, QWidget* parent) {
    auto* edit = new QLineEdit(parent);
    edit->setObjectName(object);
    edit->setAccessibleName(name);
    edit->setFixedWidth(width);
    return edit;
}

} // namespace

OneRowPane::OneRowPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 6, 0, 0);
    auto* head = new QHBoxLayout;
    head->addWidget(plainLabel(tr("Begin with"), {}, this));
    m_start = plainBox(tr("Row to begin with"), "oneRowStart", this);
    head->addWidget(m_start);
    head->addWidget(plainLabel(tr("and keep it as"), {}, this));
    m_name = field(tr("Name of the row"), "oneRowName", 130, this);
    m_name->setPlaceholderText(tr("name"));
    head->addWidget(m_name);
    m_keep = new QPushButton(tr("Keep"), this);
    m_keep->setObjectName("oneRowKeep");
    m_forget = new QPushButton(tr("Forget"), this);
    m_forget->setObjectName("oneRowForget");
    head->addWidget(m_keep);
    head->addWidget(m_forget);
    head->addStretch(1);
    layout->addLayout(head);
    auto* target = new QHBoxLayout;
    target->addWidget(plainLabel(tr("Which"), {}, this));
    m_targetColumn = plainBox(tr("Column to be moved"), "oneRowColumn", this);
    target->addWidget(m_targetColumn);
    target->addWidget(plainLabel(tr("predicts"), {}, this));
    m_target = field(tr("Prediction to be reached"), "oneRowTarget", 100, this);
    target->addWidget(m_target);
    m_find = new QPushButton(tr("Find"), this);
    m_find->setObjectName("oneRowFind");
    target->addWidget(m_find);
    m_found = plainLabel({}, "hint", this);
    m_found->setObjectName("oneRowFound");
    target->addWidget(m_found, 1);
    layout->addLayout(target);
    auto* body = new QHBoxLayout;
    m_scroll = new QScrollArea(this);
    m_scroll->setWidgetResizable(true);
    m_scroll->setFrameShape(QFrame::NoFrame);
    m_scroll->setFocusPolicy(Qt::NoFocus);
    m_scroll->viewport()->setAutoFillBackground(false);
    body->addWidget(m_scroll, 3);
    auto* said = new QVBoxLayout;
    m_says = plainLabel({}, "heading", this);
    m_says->setObjectName("oneRowSays");
    m_says->setWordWrap(true);
    said->addWidget(m_says);
    m_reach = plainLabel({}, {}, this);
    m_reach->setObjectName("oneRowReach");
    m_reach->setWordWrap(true);
    said->addWidget(m_reach);
    m_steps = new GridView(tr("How it is predicted"), this);
    m_steps->setObjectName("oneRowLadder");
    m_steps->setModel(&m_ladder);
    said->addWidget(m_steps, 1);
    body->addLayout(said, 2);
    layout->addLayout(body, 1);
    connect(m_start, &QComboBox::activated, this, &OneRowPane::takeStart);
    connect(m_keep, &QPushButton::clicked, this, &OneRowPane::keep);
    connect(m_forget, &QPushButton::clicked, this, &OneRowPane::forget);
    connect(m_find, &QPushButton::clicked, this, &OneRowPane::findTarget);
    connect(m_target, &QLineEdit::returnPressed, this, &OneRowPane::findTarget);
    connect(m_name, &QLineEdit::returnPressed, this, &OneRowPane::keep);
    connect(&m_jobs, &Jobs::failed, this, [this](const QString& sentence) { m_found->setText(sentence); });
}

void OneRowPane::refresh() {
    const auto evidence = m_session.evidence();
    const bool there = evidence && evidence->study && m_session.prepared();
    for (QWidget* each : {static_cast<QWidget*>(m_scroll), static_cast<QWidget*>(m_find),
                          static_cast<QWidget*>(m_keep), static_cast<QWidget*>(m_start)})
        each->setEnabled(there);
    if (!there) {
        m_says->setText(tr("Fit a model first, then ask it about a row."));
        return;
    }
    QStringList starts{tr("usual values")};
    for (const HandRow& row : m_session.recipe().handRows)
        starts << qs(row.name);
    fillBox(*m_start, starts, m_start->currentText().isEmpty() ? starts[0] : m_start->currentText());
    m_forget->setEnabled(m_start->currentIndex() > 0);
    if (!m_of || m_of->study != evidence->study) learnAgain();
}

void OneRowPane::learnAgain() {
    const auto evidence = m_session.evidence();
    const auto prepared = m_session.prepared();
    m_of = evidence;
    m_says->setText(tr("Looking at what the rows cover …"));
    m_jobs.start(tr("Looking at what the rows cover"),
                 [this, evidence, prepared, recipe = m_session.recipe()](Progress& progress) -> Jobs::Finish {
                     auto model =
                         std::make_shared<const RowByHand>(*evidence, recipe, *prepared, Threads{}, progress);
                     return [this, model] {
                         // What was told stays, as far as the columns do.
                         std::map<std::string, HandRow::Value> told;
                         for (std::size_t i = 0; m_model && i < m_values.size(); ++i)
                             told[m_model->columns()[i].name] = m_values[i];
                         m_model = model;
                         m_values = model->valuesOf({});
                         for (std::size_t i = 0; i < m_values.size(); ++i)
                             if (const auto at = told.find(model->columns()[i].name);
                                 at != told.end() && at->second.index() == m_values[i].index())
                                 m_values[i] = at->second;
                         fillLines();
                         ask();
                     };
                 });
}

QString OneRowPane::textOf(std::size_t column, const HandRow::Value& value) const {
    if (const auto* text = std::get_if<std::string>(&value)) return qs(*text);
    const double number = std::get<double>(value);
    if (std::isnan(number)) return {};
    const AskedKind kind = m_model->columns()[column].kind;
    if (kind == ColumnKind::date) return qs(dateText(static_cast<std::int32_t>(number)));
    if (kind.moments) return qs(Column::ofMoments("", {number}).cellText(0));
    return qs(exactText(number));
}

void OneRowPane::fillLines() {
    m_filling = true;
    auto* list = new QWidget(m_scroll);
    auto* grid = new QGridLayout(list);
    grid->setContentsMargins(0, 0, 8, 0);
    grid->setVerticalSpacing(2);
    grid->setColumnStretch(1, 1);
    m_lines.clear();
    QStringList numbers;
    const auto& columns = m_model->columns();
    for (std::size_t i = 0; i < columns.size(); ++i) {
        const HandColumn& column = columns[i];
        const int row = static_cast<int>(i);
        grid->addWidget(plainLabel(m_session.titled(column.name), {}, list), row, 0);
        Line line;
        const bool number = column.kind == ColumnKind::number || column.kind == ColumnKind::date;
        if (number && column.high >= column.low) {
            line.slider = new ReachSlider(list);
            line.slider->setObjectName(qs("oneRowSlider_" + column.name));
            line.slider->setAccessibleName(tr("%1, along what was learned from").arg(qs(column.name)));
            grid->addWidget(line.slider, row, 1);
            connect(line.slider, &QSlider::valueChanged, this, [this, i] {
                if (m_filling) return;
                double to = m_lines[i].slider->number();
                if (m_model->columns()[i].kind == ColumnKind::date) to = std::round(to);
                m_values[i] = to;
                m_lines[i].field->setText(textOf(i, m_values[i]));
                ask();
            });
            numbers << qs(column.name);
        }
        if (!column.levels.empty()) {
            line.levels = plainBox(qs(column.name), qs("oneRowLevels_" + column.name), list);
            for (const std::string& level : column.levels)
                line.levels->addItem(qs(level));
            grid->addWidget(line.levels, row, 1, 1, 2);
            connect(line.levels, &QComboBox::activated, this, [this, i](int at) {
                m_values[i] = m_model->columns()[i].levels[static_cast<std::size_t>(at)];
                ask();
            });
        } else {
            line.field =
                field(tr("%1, its value").arg(qs(column.name)), qs("oneRowField_" + column.name), 110, list);
            if (number) line.field->setAlignment(Qt::AlignRight);
            grid->addWidget(line.field, row, 2);
            connect(line.field, &QLineEdit::editingFinished, this, [this, i] { typed(i); });
        }
        m_lines.push_back(line);
    }
    grid->setRowStretch(static_cast<int>(columns.size()), 1);
    m_scroll->setWidget(list);
    list->setAutoFillBackground(false); // which it was given
    fillBox(*m_targetColumn, numbers, numbers.isEmpty() ? QString() : numbers[0]);
    m_filling = false;
    showValues();
}

void OneRowPane::showValues() {
    m_filling = true;
    for (std::size_t i = 0; i < m_lines.size(); ++i) {
        const HandColumn& column = m_model->columns()[i];
        const Line& line = m_lines[i];
        if (line.field) line.field->setText(textOf(i, m_values[i]));
        if (line.levels) line.levels->setCurrentText(textOf(i, m_values[i]));
        if (line.slider) {
            const double width = column.high > column.low ? column.high - column.low : 1;
            line.slider->setScale(column.low - width / 2, column.high + width / 2, {});
            line.slider->setNumber(std::get<double>(m_values[i]));
        }
    }
    m_filling = false;
}

void OneRowPane::typed(std::size_t at) {
    const HandColumn& column = m_model->columns()[at];
    const QString text = m_lines[at].field->text().trimmed();
    if (text == textOf(at, m_values[at])) return;
    const bool number = column.kind == ColumnKind::number && !column.kind.moments;
    if (text.isEmpty() && (number || column.kind == ColumnKind::date)) {
        m_values[at] = std::nan("");
    } else if (number) {
        const auto value = typedNumber(text);
        if (!value) {
            m_found->setText(tr("\"%1\" is no number for %2.").arg(text, qs(column.name)));
            return;
        }
        m_values[at] = *value;
    } else if (column.kind == ColumnKind::date) {
        const auto day = parseDate(ss(text));
        if (!day) {
            m_found->setText(tr("\"%1\" is no date; write it as 2026-03-31.").arg(text));
            return;
        }
        m_values[at] = static_cast<double>(*day);
    } else if (!column.kind.moments) {
        m_values[at] = ss(text);
    }
    m_found->clear();
    if (m_lines[at].slider) {
        m_filling = true;
        m_lines[at].slider->setNumber(std::get<double>(m_values[at]));
        m_filling = false;
    }
    ask();
}

void OneRowPane::ask() {
    if (!m_model) return;
    if (m_jobs.busy()) { // the newest is asked once this one is answered
        m_again = true;
        return;
    }
    m_again = false;
    m_jobs.start(tr("Asking"), [this, model = m_model, values = m_values](Progress&) -> Jobs::Finish {
        auto answered = std::make_shared<Answered>();
        answered->answer = model->ask(values);
        for (std::size_t i = 0; i < values.size(); ++i)
            answered->scales.push_back(model->along(values, i, ReachSlider::places));
        return [this, model, answered] {
            if (model == m_model) show(*answered);
        };
    });
    // Once the job has ended, and is not busy any more.
    connect(
        &m_jobs, &Jobs::busyChanged, this,
        [this](bool busy) {
            if (!busy && m_again) QMetaObject::invokeMethod(this, &OneRowPane::ask, Qt::QueuedConnection);
        },
        Qt::SingleShotConnection);
}

void OneRowPane::show(const Answered& answered) {
    const auto evidence = m_session.evidence();
    if (!evidence) return;
    const HandAnswer& a = answered.answer;
    const int decimals = decimalsFor(evidence->learning.rmse);
    const auto text = [&](double value) {
        const double unit = std::pow(10, decimals);
        return qs(groupedText(std::round(value * unit) / unit));
    };
    const double level =
        m_session.recipe().forecast ? m_session.recipe().forecast->level : m_session.recipe().level;
    m_says->setText(std::isnan(a.prediction)
                        ? tr("No prediction")
                        : tr("%1: %2%3")
                              .arg(m_session.titled(evidence->response), text(a.prediction),
                                   std::isfinite(a.lower)
                                       ? tr(", %1 between %2 and %3")
                                             .arg(qs(percentText(level)), text(a.lower), text(a.upper))
                                       : QString()));
    QStringList reasons;
    for (const std::string& reason : a.reach.reasons)
        reasons << qs(reason);
    const QString grade = a.reach.grade == ReachGrade::inside ? tr("Inside what was learned from")
                          : a.reach.grade == ReachGrade::edge ? tr("At the edge")
                                                              : tr("Outside what was learned from");
    m_reach->setText(reasons.isEmpty() ? grade : tr("%1: %2").arg(grade, reasons.join("; ")));
    auto steps = std::make_shared<std::vector<Contribution>>();
    if (!a.ladder.steps.empty()) {
        steps->push_back({"mean of the rows learned from", "", a.ladder.start});
        for (const Contribution& step : a.ladder.steps)
            steps->push_back(step);
        if (a.ladder.offset != 0) steps->push_back({evidence->study->rule.offset, "", a.ladder.offset});
    }
    const bool logs = evidence->study->rule.link.isLogarithmic();
    GridModel::Content content;
    content.rows = static_cast<int>(steps->size());
    const auto each = [steps](int row) -> const Contribution& {
        return (*steps)[static_cast<std::size_t>(row)];
    };
    content.columns = {textColumn(tr("what"), [each](int row) { return qs(each(row).name); }),
                       textColumn(tr("value"), [each](int row) { return qs(each(row).values); }),
                       numberColumn(
                           logs ? tr("adds, in logarithms") : tr("adds"),
                           [each](int row) { return each(row).amount; }, logs ? 4 : decimals)};
    m_ladder.setContent(std::move(content));
    m_steps->fitColumns(200);
    m_filling = true;
    for (std::size_t i = 0; i < m_lines.size(); ++i) {
        const HandScale& scale = answered.scales[i];
        if (!m_lines[i].slider || scale.at.empty()) continue;
        m_lines[i].slider->setScale(scale.at.front(), scale.at.back(), scale.grade);
    }
    m_filling = false;
}

void OneRowPane::findTarget() {
    if (!m_model) return;
    const auto target = typedNumber(m_target->text().trimmed());
    if (!target) {
        m_found->setText(tr("\"%1\" is no number to be reached.").arg(m_target->text().trimmed()));
        m_target->setFocus();
        return;
    }
    const auto& columns = m_model->columns();
    const std::string name = ss(m_targetColumn->currentText());
    const auto at =
        std::find_if(columns.begin(), columns.end(), [&](const HandColumn& c) { return c.name == name; });
    if (at == columns.end()) return;
    const auto column = static_cast<std::size_t>(at - columns.begin());
    m_found->setText(tr("Looking …"));
    m_jobs.start(
        tr("Looking for a value"),
        [this, model = m_model, values = m_values, column, target = *target](Progress&) -> Jobs::Finish {
            const auto found = model->valuesFor(values, column, target);
            return [this, model, values, column, found] {
                if (model != m_model) return;
                QStringList texts;
                for (const double value : found) {
                    const double width =
                        std::max(model->columns()[column].high - model->columns()[column].low, 1e-300);
                    const double unit = std::pow(10, std::floor(std::log10(width)) - 4);
                    texts << textOf(column, std::round(value / unit) * unit);
                }
                const QString moved = qs(model->columns()[column].name);
                m_found->setText(
                    texts.isEmpty()
                        ? tr("No value of %1 from half its range below to half above does.").arg(moved)
                        : tr("%1 = %2").arg(moved, texts.join(tr(" or "))));
                if (found.size() != 1) return;
                m_values[column] = found.front();
                showValues();
                ask();
            };
        });
}

void OneRowPane::keep() {
    if (!m_model) return;
    const Recipe recipe = m_session.draft();
    QString name = m_name->text().trimmed();
    if (name.isEmpty()) name = tr("row %1").arg(recipe.handRows.size() + 1);
    HandRow row{.name = ss(name)};
    for (std::size_t i = 0; i < m_values.size(); ++i) {
        const auto* number = std::get_if<double>(&m_values[i]);
        const bool date = m_model->columns()[i].kind == ColumnKind::date;
        row.values.emplace_back(m_model->columns()[i].name, number && (date || std::isnan(*number))
                                                                ? HandRow::Value(ss(textOf(i, m_values[i])))
                                                                : m_values[i]);
    }
    if (const auto target = typedNumber(m_target->text().trimmed()))
        row.target = HandRow::Target{ss(m_targetColumn->currentText()), *target};
    m_name->clear();
    m_session.keepHandRow(row);
    refresh();
    m_found->setText(tr("Kept as \"%1\".").arg(name));
}

void OneRowPane::forget() {
    const std::string name = ss(m_start->currentText());
    if (m_start->currentIndex() < 1) return;
    m_start->setCurrentIndex(0);
    m_session.forgetHandRow(name);
    refresh();
}

void OneRowPane::takeStart(int index) {
    m_forget->setEnabled(index > 0);
    if (!m_model) return;
    HandRow row;
    for (const HandRow& kept : m_session.recipe().handRows)
        if (index > 0 && qs(kept.name) == m_start->currentText()) row = kept;
    try {
        m_values = m_model->valuesOf(row);
    } catch (const Error& error) {
        m_found->setText(qs(error.what()));
        return;
    }
    showValues();
    ask();
}

} // namespace oxgoad
