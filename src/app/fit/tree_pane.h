#pragma once
// What only a regression tree has: its drawing, its cutting back, and its text.
#include "workspace/session.h"

#include <QWidget>

class QLabel;

namespace oxgoad {

class TreePicture;

class TreePane : public QWidget {
    Q_OBJECT
public:
    TreePane(Session& session, QWidget* parent);
    void refresh();
    TreePicture& picture() { return *m_picture; }

private:
    void cutBack(const FieldValue& complexity);
    void copyText();

    Session& m_session;
    TreePicture* m_picture;
    QLabel* m_said;
};

} // namespace oxgoad
