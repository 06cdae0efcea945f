#pragma once
// One row: how its prediction comes about, where it lies, rows like it, the fit without it.
#include "study/row_story.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QWidget>

class QLabel;
class QPushButton;

namespace oxgoad {

class GridView;

class RowPane : public QWidget {
    Q_OBJECT
public:
    explicit RowPane(Session& session, QWidget* parent);
    /// The selected row of the session's fit; worked out beside the window.
    void refresh();

private:
    void show(std::shared_ptr<const RowStory> story);
    void showPart(const QString& part);

    Session& m_session;
    Jobs m_jobs{this};
    std::shared_ptr<const RowStory> m_story;
    QString m_part = "ladder";
    QLabel* m_headline;
    QLabel* m_note;
    GridModel m_model;
    GridView* m_view;
    std::vector<QPushButton*> m_parts;
};

} // namespace oxgoad
