#pragma once
// Asking for file names; tests answer in place of the dialogs.
#include <QString>

class QWidget;

namespace oxgoad {

class FileChooser {
public:
    virtual ~FileChooser() = default;
    /// Empty when the user thought better of it.
    virtual QString openFile(QWidget* parent, const QString& title, const QString& filter);
    virtual QString saveFile(QWidget* parent, const QString& title, const QString& name,
                             const QString& filter);
    enum class Unsaved { save, discard, cancel };
    virtual Unsaved askUnsaved(QWidget* parent);
    /// Of a project whose file somebody else wrote since it was opened.
    enum class Changed { replace, elsewhere, cancel };
    virtual Changed askChanged(QWidget* parent, const QString& name);
};

} // namespace oxgoad
