#pragma once
#include <QDialog>

class QLineEdit;
class QListWidget;
class QTextBrowser;
class QLabel;

namespace oxgoad {

/// The guide, the methods and the keys, as in docs/, with their headings at the left and a search over all of
/// them.
class HelpWindow : public QDialog {
    Q_OBJECT
public:
    explicit HelpWindow(QWidget* parent);
    /// Turns to a heading ("Fit"); to the guide's beginning when there is none of that name.
    void showTopic(const QString& heading);
    QString shownHeading() const;

private:
    void search(bool again);
    void showDocument(int document);
    void showLine(int line);

    QListWidget* m_headings;
    QTextBrowser* m_text;
    QLineEdit* m_find;
    QLabel* m_found;
    int m_document = -1;
};

} // namespace oxgoad
