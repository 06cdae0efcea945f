#pragma once
#include "app/files.h"
#include "workspace/session.h"

#include <QWidget>

class QCheckBox;
class QLabel;
class QPushButton;

namespace oxgoad {

/// What a model is handed on as: a sentence for each, by whom it is for, with what it holds and what this
/// kind of model cannot do there.
class HandOnPane : public QWidget {
    Q_OBJECT
public:
    HandOnPane(Session& session, FileChooser& files, QWidget* parent);
    void refresh();
    /// The link that was used last, or the first.
    QWidget* focusTarget();

private:
    struct Line {
        std::string format;
        QLabel* says;
        QPushButton* write;
    };
    void write(const std::string& format);
    void preview();
    /// Parts of the report that are ticked.
    std::vector<std::string> parts() const;

    Session& m_session;
    FileChooser& m_files;
    std::vector<Line> m_lines;
    std::vector<QCheckBox*> m_parts;
    QLabel* m_written;
    std::string m_last;
};

} // namespace oxgoad
