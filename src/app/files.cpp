#include "app/files.h"

#include <QFileDialog>
#include <QMessageBox>
#include <QPushButton>

namespace oxgoad {

QString FileChooser::openFile(QWidget* parent, const QString& title, const QString& filter) {
    return QFileDialog::getOpenFileName(parent, title, {}, filter);
}

QString FileChooser::saveFile(QWidget* parent, const QString& title, const QString& name,
                              const QString& filter) {
    return QFileDialog::getSaveFileName(parent, title, name, filter);
}

FileChooser::Unsaved FileChooser::askUnsaved(QWidget* parent) {
    QMessageBox box(QMessageBox::NoIcon, QObject::tr("Unsaved changes"),
                    QObject::tr("The project has changes that are not saved."), QMessageBox::NoButton,
                    parent);
    auto* save = box.addButton(QObject::tr("Save"), QMessageBox::AcceptRole);
    auto* discard = box.addButton(QObject::tr("Discard changes"), QMessageBox::DestructiveRole);
    box.addButton(QObject::tr("Go back"), QMessageBox::RejectRole);
    box.setDefaultButton(save);
    box.exec();
    if (box.clickedButton() == static_cast<QAbstractButton*>(save)) return Unsaved::save;
    return box.clickedButton() == static_cast<QAbstractButton*>(discard) ? Unsaved::discard : Unsaved::cancel;
}

FileChooser::Changed FileChooser::askChanged(QWidget* parent, const QString& name) {
    QMessageBox box(
        QMessageBox::NoIcon, QObject::tr("The file has changed"),
        QObject::tr("%1 was written by somebody else, or from another window, since it was opened here. "
                    "Replacing it loses what was saved there.")
            .arg(name.toHtmlEscaped()),
        QMessageBox::NoButton, parent);
    auto* elsewhere = box.addButton(QObject::tr("Save under another name…"), QMessageBox::AcceptRole);
    auto* replace = box.addButton(QObject::tr("Replace it"), QMessageBox::DestructiveRole);
    box.addButton(QObject::tr("Go back"), QMessageBox::RejectRole);
    box.setDefaultButton(elsewhere);
    box.exec();
    if (box.clickedButton() == static_cast<QAbstractButton*>(elsewhere)) return Changed::elsewhere;
    return box.clickedButton() == static_cast<QAbstractButton*>(replace) ? Changed::replace : Changed::cancel;
}

} // namespace oxgoad
