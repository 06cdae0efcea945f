#pragma once
// The goads of the chosen fit, with their moves.
#include "workspace/session.h"

#include <QPushButton>
#include <QTimer>
#include <QWidget>

class QLabel;
class QVBoxLayout;

namespace oxgoad {

class GoadsPanel : public QWidget {
    Q_OBJECT
public:
    explicit GoadsPanel(Session& session, QWidget* parent = nullptr);

signals:
    /// Show the evidence: a station's name, a column ("" for none).
    void evidenceWanted(const QString& station, const QString& column);

private:
    void rebuild();
    QWidget* card(const Goad& goad);
    void act(const Move& move, const Goad& goad, QWidget* card);
    void askReason(QWidget* card, const QString& prompt, const std::function<void(const std::string&)>& use);

    Session& m_session;
    QLabel* m_counts;
    QVBoxLayout* m_cards;
    QWidget* m_inner;
    QTimer m_later;
};

} // namespace oxgoad
