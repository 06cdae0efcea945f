#pragma once
// The goads of the chosen fit, with their moves.
#include "workspace/session.h"

#include <QPushButton>
#include <QSet>
#include <QTimer>
#include <QWidget>

class QLabel;
class QScrollArea;
class QVBoxLayout;

namespace oxgoad {

class GoadsPanel : public QWidget {
    Q_OBJECT
public:
    explicit GoadsPanel(Session& session, QWidget* parent = nullptr);

signals:
    /// Show the evidence: a station's name, a column ("" for none).
    void evidenceWanted(const QString& station, const QString& column);
    /// Turn the help to a heading.
    void helpWanted(const QString& heading);

private:
    void rebuild();
    QWidget* card(const Goad& goad, int indent);
    /// One card for goads of a family, the places of which among `goads` are given.
    QWidget* familyCard(const std::vector<Goad>& goads, const std::vector<std::size_t>& family, bool shown);
    /// The three sentences and what the moves would change, where they were asked for.
    void addWhy(QVBoxLayout& layout, QWidget& card, const Goad& goad);
    void showPreview(const QString& goad, const QString& move, const QString& says);
    void act(const Move& move, const Goad& goad, QWidget* card);
    void askReason(QWidget* card, const QString& prompt, const std::function<void(const std::string&)>& use);

    Session& m_session;
    QLabel* m_heading;
    QLabel* m_counts;
    QVBoxLayout* m_cards;
    QWidget* m_inner;
    QScrollArea* m_scroll;
    QTimer m_later;
    /// Families and goads that stand open, and the button that has the keyboard after a rebuild.
    QSet<QString> m_openFamilies, m_openWhys;
    QString m_focusAfter;
};

} // namespace oxgoad
