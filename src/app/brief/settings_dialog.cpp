#include "app/brief/settings_dialog.h"

#include "app/parts.h"
#include "base/error.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QLocale>
#include <QPushButton>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

std::string trimmed(const std::string& text) {
    return ss(qs(text).trimmed());
}

std::vector<std::string> partsOf(const std::string& text) {
    std::vector<std::string> parts;
    for (const QString& part : qs(text).split(';'))
        if (!part.trimmed().isEmpty()) parts.push_back(ss(part.trimmed()));
    return parts;
}

/// A text that is no number is none that is finite, which the check of the field refuses.
std::vector<double> numbersFrom(const std::string& text) {
    std::vector<double> numbers;
    for (const std::string& part : partsOf(text)) {
        bool read = false;
        const double value = QLocale::c().toDouble(qs(part), &read);
        numbers.push_back(read ? value : std::nan(""));
    }
    return numbers;
}

std::string fieldText(const FieldValue& value) {
    QStringList parts;
    if (const auto* numbers = std::get_if<std::vector<double>>(&value))
        for (const double number : *numbers)
            parts << qs(exactText(number));
    if (const auto* texts = std::get_if<std::vector<std::string>>(&value))
        for (const std::string& text : *texts)
            parts << qs(text);
    if (const auto* pairs = std::get_if<TextPairs>(&value))
        for (const auto& [name, factor] : *pairs)
            parts << qs(name + " = " + factor);
    return ss(parts.join("; "));
}

} // namespace

SettingsDialog::SettingsDialog(Settings start, QWidget* parent)
    : QDialog(parent), m_start(std::move(start)), m_kind(kindOf(m_start)) {
    setObjectName("settingsDialog");
    setAttribute(Qt::WA_DeleteOnClose);
    setWindowTitle(qs(m_kind.title));
    auto* layout = new QVBoxLayout(this);
    auto* form = new QFormLayout;
    layout->addLayout(form);
    for (const Field& field : m_kind.fields) {
        QWidget* editor = editorFor(field);
        editor->setObjectName("field_" + qs(field.key));
        editor->setAccessibleName(qs(field.label));
        form->addRow(qs(field.label), editor);
    }
    m_sentence = plainLabel({}, "heading");
    m_sentence->setObjectName("settingsSentence");
    m_sentence->setWordWrap(true);
    layout->addWidget(m_sentence);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    m_ok = buttons->button(QDialogButtonBox::Ok);
    m_ok->setText(tr("Fit"));
    layout->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    changed();
}

QWidget* SettingsDialog::editorFor(const Field& field) {
    const FieldValue& now = fieldValue(m_kind.fields, m_start.fields, field.key);
    if (field.type == FieldType::choice) {
        auto* box = new QComboBox(this);
        for (const std::string& choice : field.choices)
            box->addItem(qs(choice));
        box->setCurrentText(qs(std::get<std::string>(now)));
        connect(box, &QComboBox::currentTextChanged, this, &SettingsDialog::changed);
        m_editors.push_back({field.key, [box] { return FieldValue(ss(box->currentText())); }});
        return box;
    }
    if (field.type == FieldType::flag) {
        auto* box = new QCheckBox(this);
        box->setChecked(std::get<bool>(now));
        connect(box, &QCheckBox::toggled, this, &SettingsDialog::changed);
        m_editors.push_back({field.key, [box] { return FieldValue(box->isChecked()); }});
        return box;
    }
    if (field.type == FieldType::sought) return soughtEditor(field, now);
    if (field.type == FieldType::numbers || field.type == FieldType::texts ||
        field.type == FieldType::columns || field.type == FieldType::pairs)
        return listEditor(field, now);
    auto* box = new NumberBox(this);
    box->setDecimals(field.type == FieldType::whole ? 0 : 6);
    const bool usual = field.fallback && *field.fallback == FieldValue(0.0);
    box->setRange(usual ? 0 : field.low, field.high);
    box->setSingleStep(field.type == FieldType::whole ? 1 : field.high <= 1 ? 0.05 : 0.5);
    box->setValue(std::get<double>(now));
    connect(box, &QDoubleSpinBox::valueChanged, this, &SettingsDialog::changed);
    m_editors.push_back({field.key, [box] { return FieldValue(box->value()); }});
    return box;
}

/// A rule or values to try, or a number of one's own.
QWidget* SettingsDialog::soughtEditor(const Field& field, const FieldValue& now) {
    auto* both = new QWidget(this);
    auto* row = new QHBoxLayout(both);
    row->setContentsMargins(0, 0, 0, 0);
    auto* how = new QComboBox(both);
    how->setAccessibleName(qs(field.label));
    how->setObjectName("how_" + qs(field.key));
    for (const std::string& rule : field.choices)
        how->addItem(tr("by folds: %1").arg(qs(rule)));
    if (field.choices.empty()) how->addItem(tr("by folds, among"));
    how->addItem(tr("as given"));
    const int given = how->count() - 1;
    auto* number = new NumberBox(both);
    number->setObjectName("number_" + qs(field.key));
    number->setAccessibleName(tr("%1, as given").arg(qs(field.label)));
    number->setDecimals(field.whole ? 0 : 9);
    number->setRange(field.low, std::min(field.high, 1e15));
    auto* values = new QLineEdit(both);
    values->setObjectName("values_" + qs(field.key));
    values->setAccessibleName(tr("%1, values to try").arg(qs(field.label)));
    values->setText("0.1; 0.5; 0.9; 1");
    row->addWidget(how);
    row->addWidget(values);
    row->addWidget(number, 1);
    if (const auto* value = std::get_if<double>(&now)) {
        number->setValue(*value);
        how->setCurrentIndex(given);
    } else if (const auto* rule = std::get_if<std::string>(&now)) {
        const auto at = std::find(field.choices.begin(), field.choices.end(), *rule);
        how->setCurrentIndex(static_cast<int>(at - field.choices.begin()));
    } else {
        values->setText(qs(fieldText(now)));
        how->setCurrentIndex(0);
    }
    const bool rules = !field.choices.empty();
    const auto show = [=] {
        number->setVisible(how->currentIndex() == given);
        values->setVisible(!rules && how->currentIndex() != given);
    };
    show();
    connect(how, &QComboBox::currentIndexChanged, this, [this, show] {
        show();
        changed();
    });
    connect(number, &QDoubleSpinBox::valueChanged, this, &SettingsDialog::changed);
    connect(values, &QLineEdit::textChanged, this, &SettingsDialog::changed);
    m_editors.push_back({field.key, [=, choices = field.choices]() -> FieldValue {
                             if (how->currentIndex() == given) return number->value();
                             if (rules) return choices[static_cast<std::size_t>(how->currentIndex())];
                             return numbersFrom(ss(values->text()));
                         }});
    return both;
}

/// Several values in one line, parted by semicolons; a pair is "term = factor".
QWidget* SettingsDialog::listEditor(const Field& field, const FieldValue& now) {
    auto* line = new QLineEdit(qs(fieldText(now)), this);
    line->setPlaceholderText(field.type == FieldType::pairs ? tr("term = factor; …")
                                                            : tr("none; several parted by ;"));
    connect(line, &QLineEdit::textChanged, this, &SettingsDialog::changed);
    m_editors.push_back({field.key, [line, type = field.type]() -> FieldValue {
                             const std::string text = ss(line->text());
                             if (type == FieldType::numbers) return numbersFrom(text);
                             const auto parts = partsOf(text);
                             if (type == FieldType::texts || type == FieldType::columns) return parts;
                             TextPairs pairs;
                             for (const std::string& part : parts) {
                                 const auto at = part.rfind('=');
                                 pairs.emplace_back(trimmed(part.substr(0, at)),
                                                    at == std::string::npos ? ""
                                                                            : trimmed(part.substr(at + 1)));
                             }
                             return pairs;
                         }});
    return line;
}

Settings SettingsDialog::settings() const {
    Settings settings{m_start.kind, {}};
    for (const Editor& editor : m_editors)
        settings.fields[editor.key] = editor.value();
    return settings;
}

void SettingsDialog::changed() {
    if (!m_ok) return; // while the fields are being made
    try {
        const Settings now = settings();
        checkSettings(now);
        m_sentence->setText(qs(m_kind.sentence(now)));
        m_ok->setEnabled(true);
    } catch (const Error& error) {
        m_sentence->setText(qs(error.what()));
        m_ok->setEnabled(false);
    }
}

} // namespace oxgoad
