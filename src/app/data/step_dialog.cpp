#include "app/data/step_dialog.h"

#include "app/parts.h"
#include "base/text.h"
#include "prepare/expression.h"
#include "table/values.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLineEdit>
#include <QListWidget>
#include <QShortcut>
#include <QTableWidget>
#include <QVBoxLayout>

namespace oxgoad {

namespace {

constexpr int describeDelay = 250;

/// "89, 129" or "1.5; 3" as numbers; what cannot be read is passed over.
std::vector<double> numbersIn(const QString& text) {
    std::vector<double> numbers;
    for (const QString& part : text.split(QRegularExpression("[,;\\s]+"), Qt::SkipEmptyParts))
        if (const auto value = parseNumber(ss(part), '.')) numbers.push_back(*value);
    return numbers;
}

QString numberList(const std::vector<double>& numbers) {
    QStringList parts;
    for (const double number : numbers)
        parts << qs(exactText(number));
    return parts.join(", ");
}

} // namespace

StepDialog::StepDialog(Session& session, Step step, std::size_t index, QWidget* parent)
    : QDialog(parent), m_session(session), m_step(std::move(step)), m_index(index),
      m_kind(findStepKind(m_step.kind)) {
    setObjectName("stepDialog");
    setWindowTitle(qs(m_kind->title));
    resize(620, 460);
    auto* layout = new QVBoxLayout(this);
    auto* form = new QFormLayout;
    form->setFieldGrowthPolicy(QFormLayout::ExpandingFieldsGrow);
    layout->addLayout(form);
    for (const StepField& field : m_kind->fields) {
        QWidget* editor = editorFor(field);
        editor->setObjectName("field_" + qs(field.key));
        editor->setAccessibleName(qs(field.label));
        if (field.type == FieldType::flag)
            form->addRow({}, editor);
        else
            form->addRow(qs(field.label), editor);
    }
    m_sentence = plainLabel({}, "heading");
    m_sentence->setWordWrap(true);
    m_sentence->setObjectName("stepSentence");
    layout->addWidget(m_sentence);
    m_trouble = plainLabel({});
    m_trouble->setWordWrap(true);
    m_trouble->setObjectName("stepTrouble");
    layout->addWidget(m_trouble);
    m_effect = new GridView(tr("Columns before and after"), this);
    m_effect->setObjectName("stepEffect");
    m_effect->setModel(&m_effectModel);
    m_effect->setMinimumHeight(96);
    layout->addWidget(m_effect, 1);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    m_ok = buttons->button(QDialogButtonBox::Ok);
    m_ok->setText(m_index < m_session.recipe().steps.size() ? tr("Change") : tr("Add"));
    layout->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    m_later.setSingleShot(true);
    m_later.setInterval(describeDelay);
    connect(&m_later, &QTimer::timeout, this, &StepDialog::preview);
    connect(&m_session, &Session::stepDescribed, this,
            [this](int ticket, const StepEffect& effect, const StepOutcome& outcome) {
                if (ticket != m_ticket) return;
                m_effectModel.setContent(stepEffectGrid(effect));
                m_effect->fitColumns(180);
                QStringList said;
                for (const auto& note : outcome.notes)
                    said << qs(note);
                if (outcome.problem.empty())
                    said.prepend(tr("%1 → %2 rows, %3 → %4 columns, %5 cells changed")
                                     .arg(qs(countText(outcome.rowsIn)), qs(countText(outcome.rowsOut)))
                                     .arg(outcome.columnsIn)
                                     .arg(outcome.columnsOut)
                                     .arg(qs(countText(outcome.changedCells))));
                m_trouble->setStyleSheet(outcome.problem.empty() ? "color: #5E6A6B;" : "color: #A33B2C;");
                m_trouble->setText(outcome.problem.empty() ? said.join("; ") : qs(outcome.problem));
            });
    fillLevels();
    changed();
}

Step StepDialog::step() const {
    Step step = m_step;
    step.fields.clear();
    for (const Field& field : m_fields) {
        const StepValue value = field.value();
        const auto own = std::find_if(m_kind->fields.begin(), m_kind->fields.end(),
                                      [&](const StepField& f) { return f.key == field.key; });
        // A field that says what it says anyway is left out, so that recipes stay short.
        if (own->fallback && *own->fallback == value) continue;
        step.fields[field.key] = value;
    }
    return step;
}

void StepDialog::changed() {
    if (!m_ok) return; // while the fields are being made
    const Step now = step();
    QString trouble;
    try {
        checkStep(now);
        for (const StepField& field : m_kind->fields)
            if (field.type == FieldType::expression)
                Expression::parse(now.text(field.key), m_session.table().columns());
        m_sentence->setText(qs(stepSentence(now)));
    } catch (const Error& error) {
        trouble = qs(error.what());
        m_sentence->setText({});
    }
    m_ok->setEnabled(trouble.isEmpty());
    m_trouble->setStyleSheet(trouble.isEmpty() ? "color: #5E6A6B;" : "color: #A33B2C;");
    m_trouble->setText(trouble);
    if (trouble.isEmpty())
        m_later.start();
    else
        m_later.stop();
}

void StepDialog::preview() {
    auto steps = m_session.recipe().steps;
    if (m_index < steps.size())
        steps[m_index] = step();
    else
        steps.push_back(step());
    steps[m_index].on = true;
    m_ticket = m_session.describeStep(steps, m_index);
}

void StepDialog::fillLevels() {
    for (const auto& fill : m_levelFillers)
        fill();
}

QWidget* StepDialog::columnBox(const StepField& field) {
    auto* box = new QComboBox(this);
    if (field.fallback) box->addItem(tr("(none)"), QString());
    for (const Column& column : m_session.table().columns())
        if (field.kinds.empty() ||
            std::find(field.kinds.begin(), field.kinds.end(), column.kind()) != field.kinds.end())
            box->addItem(qs(column.name()), qs(column.name()));
    const auto own = m_step.fields.find(field.key);
    if (own != m_step.fields.end()) {
        const QString name = qs(std::get<std::string>(own->second));
        if (box->findData(name) < 0) box->addItem(name, name);
        box->setCurrentIndex(box->findData(name));
    }
    if (field.key == "column") m_column = [box] { return ss(box->currentData().toString()); };
    connect(box, &QComboBox::currentTextChanged, this, [this] {
        fillLevels();
        changed();
    });
    m_fields.push_back({field.key, [box] { return StepValue(ss(box->currentData().toString())); }});
    return box;
}

QWidget* StepDialog::checkList(const StepField& field) {
    auto* list = new QListWidget(this);
    list->setMaximumHeight(150);
    list->setDragDropMode(field.type == FieldType::levels ? QAbstractItemView::InternalMove
                                                          : QAbstractItemView::NoDragDrop);
    if (field.type == FieldType::levels) {
        list->setToolTip(tr("Drag levels to put them in order, or move one with Ctrl+Up and Ctrl+Down"));
        for (const auto& [key, by] : {std::pair{Qt::Key_Up, -1}, std::pair{Qt::Key_Down, 1}}) {
            auto* shortcut =
                new QShortcut(QKeySequence(Qt::CTRL | key), list, nullptr, nullptr, Qt::WidgetShortcut);
            connect(shortcut, &QShortcut::activated, this, [this, list, by = by] {
                const int from = list->currentRow();
                const int to = from + by;
                if (from < 0 || to < 0 || to >= list->count()) return;
                list->insertItem(to, list->takeItem(from));
                list->setCurrentRow(to);
                changed();
            });
        }
    }
    std::vector<std::string> chosen;
    const auto own = m_step.fields.find(field.key);
    if (own != m_step.fields.end()) chosen = std::get<std::vector<std::string>>(own->second);
    auto add = [list](const std::string& name, bool ticked) {
        auto* item = new QListWidgetItem(qs(name), list);
        item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsUserCheckable |
                       Qt::ItemIsDragEnabled);
        item->setCheckState(ticked ? Qt::Checked : Qt::Unchecked);
    };
    if (field.type == FieldType::columns) {
        for (const std::string& name : chosen)
            add(name, true);
        for (const Column& column : m_session.table().columns())
            if ((field.kinds.empty() ||
                 std::find(field.kinds.begin(), field.kinds.end(), column.kind()) != field.kinds.end()) &&
                std::find(chosen.begin(), chosen.end(), column.name()) == chosen.end())
                add(column.name(), false);
    } else {
        const bool ordered = m_step.kind == "order levels";
        m_levelFillers.emplace_back([this, list, add, chosen, ordered, last = std::string("\n")]() mutable {
            const std::string name = m_column ? m_column() : std::string();
            if (name == last) return;
            last = name;
            const QSignalBlocker blocker(list);
            list->clear();
            const Column* column = m_session.table().find(name);
            std::vector<std::string> levels = chosen;
            if (column && column->kind() == ColumnKind::factor) {
                if (!chosen.empty() && column->codeOf(chosen.front()) < 0 && m_step.fields.empty())
                    levels.clear();
                for (const std::string& level : column->levels())
                    if (std::find(levels.begin(), levels.end(), level) == levels.end())
                        levels.push_back(level);
            }
            for (std::size_t i = 0; i < levels.size() && i < 2000; ++i)
                add(levels[i], chosen.empty()
                                   ? ordered
                                   : std::find(chosen.begin(), chosen.end(), levels[i]) != chosen.end());
        });
    }
    connect(list, &QListWidget::itemChanged, this, &StepDialog::changed);
    connect(list->model(), &QAbstractItemModel::rowsMoved, this, &StepDialog::changed);
    m_fields.push_back({field.key, [list] {
                            std::vector<std::string> names;
                            for (int i = 0; i < list->count(); ++i)
                                if (list->item(i)->checkState() == Qt::Checked)
                                    names.push_back(ss(list->item(i)->text()));
                            return StepValue(names);
                        }});
    return list;
}

QWidget* StepDialog::pairsEditor(const StepField& field) {
    auto* table = new QTableWidget(0, 2, this);
    table->setMaximumHeight(150);
    table->setHorizontalHeaderLabels({tr("value"), tr("replaced by")});
    table->verticalHeader()->hide();
    table->horizontalHeader()->setStretchLastSection(true);
    const auto own = m_step.fields.find(field.key);
    const TextPairs pairs = own == m_step.fields.end() ? TextPairs() : std::get<TextPairs>(own->second);
    table->setRowCount(static_cast<int>(pairs.size()) + 1);
    for (int i = 0; i < static_cast<int>(pairs.size()); ++i) {
        table->setItem(i, 0, new QTableWidgetItem(qs(pairs[static_cast<std::size_t>(i)].first)));
        table->setItem(i, 1, new QTableWidgetItem(qs(pairs[static_cast<std::size_t>(i)].second)));
    }
    auto cell = [table](int row, int column) {
        const auto* item = table->item(row, column);
        return item ? item->text().trimmed() : QString();
    };
    connect(table, &QTableWidget::cellChanged, this, [this, table, cell] {
        if (!cell(table->rowCount() - 1, 0).isEmpty()) table->setRowCount(table->rowCount() + 1);
        changed();
    });
    m_fields.push_back({field.key, [table, cell] {
                            TextPairs all;
                            for (int i = 0; i < table->rowCount(); ++i)
                                if (!cell(i, 0).isEmpty()) all.emplace_back(ss(cell(i, 0)), ss(cell(i, 1)));
                            return StepValue(all);
                        }});
    return table;
}

QWidget* StepDialog::editorFor(const StepField& field) {
    const auto own = m_step.fields.find(field.key);
    const StepValue* now = own != m_step.fields.end() ? &own->second
                           : field.fallback           ? &*field.fallback
                                                      : nullptr;
    switch (field.type) {
    case FieldType::column:
        return columnBox(field);
    case FieldType::columns:
    case FieldType::levels:
        return checkList(field);
    case FieldType::pairs:
        return pairsEditor(field);
    case FieldType::flag: {
        auto* box = new QCheckBox(qs(field.label), this);
        box->setChecked(now && std::get<bool>(*now));
        connect(box, &QCheckBox::toggled, this, &StepDialog::changed);
        m_fields.push_back({field.key, [box] { return StepValue(box->isChecked()); }});
        return box;
    }
    case FieldType::choice: {
        auto* box = new QComboBox(this);
        for (const std::string& choice : field.choices)
            box->addItem(qs(choice));
        if (now) box->setCurrentText(qs(std::get<std::string>(*now)));
        connect(box, &QComboBox::currentTextChanged, this, &StepDialog::changed);
        m_fields.push_back({field.key, [box] { return StepValue(ss(box->currentText())); }});
        return box;
    }
    case FieldType::level: {
        auto* box = new QComboBox(this);
        const QString chosen = now ? qs(std::get<std::string>(*now)) : QString();
        m_levelFillers.emplace_back([this, box, chosen, last = std::string("\n")]() mutable {
            const std::string name = m_column ? m_column() : std::string();
            if (name == last) return;
            last = name;
            const QSignalBlocker blocker(box);
            box->clear();
            if (const Column* column = m_session.table().find(name))
                for (const std::string& level : column->levels())
                    box->addItem(qs(level));
            if (box->findText(chosen) >= 0) box->setCurrentText(chosen);
        });
        connect(box, &QComboBox::currentTextChanged, this, &StepDialog::changed);
        m_fields.push_back({field.key, [box] { return StepValue(ss(box->currentText())); }});
        return box;
    }
    default:
        break;
    }
    auto* edit = new QLineEdit(this);
    connect(edit, &QLineEdit::textChanged, this, &StepDialog::changed);
    if (field.type == FieldType::number || field.type == FieldType::whole) {
        if (now) edit->setText(qs(exactText(std::get<double>(*now))));
        m_fields.push_back({field.key, [edit] {
                                const auto value = parseNumber(ss(edit->text()), '.');
                                return value ? StepValue(*value) : StepValue(std::nan(""));
                            }});
    } else if (field.type == FieldType::numbers) {
        if (now) edit->setText(numberList(std::get<std::vector<double>>(*now)));
        m_fields.push_back({field.key, [edit] { return StepValue(numbersIn(edit->text())); }});
    } else {
        if (now) edit->setText(qs(std::get<std::string>(*now)));
        if (field.type == FieldType::expression)
            edit->setPlaceholderText(tr("such as list_rate > 100 and contract = \"spot\""));
        m_fields.push_back({field.key, [edit] { return StepValue(ss(edit->text().trimmed())); }});
    }
    return edit;
}

} // namespace oxgoad
