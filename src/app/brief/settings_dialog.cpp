#include "app/brief/settings_dialog.h"

#include "app/parts.h"
#include "base/error.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QPushButton>
#include <QVBoxLayout>

namespace oxgoad {

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
