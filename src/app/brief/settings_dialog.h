#pragma once
#include "estimate/model_kind.h"

#include <QDialog>
#include <functional>
#include <string>
#include <vector>

class QLabel;
class QPushButton;

namespace oxgoad {

/// The fields of a kind of model, asked for one by one; whatever fields a kind has.
class SettingsDialog : public QDialog {
    Q_OBJECT
public:
    /// `start` is of the kind that is asked for.
    SettingsDialog(Settings start, QWidget* parent);
    Settings settings() const;

private:
    QWidget* editorFor(const Field& field);
    QWidget* soughtEditor(const Field& field, const FieldValue& now);
    QWidget* listEditor(const Field& field, const FieldValue& now);
    void changed();

    Settings m_start;
    const ModelKind& m_kind;
    struct Editor {
        std::string key;
        std::function<FieldValue()> value;
    };
    std::vector<Editor> m_editors;
    QLabel* m_sentence = nullptr;
    QPushButton* m_ok = nullptr;
};

} // namespace oxgoad
