#pragma once
#include <QDialog>
#include <string>
#include <vector>

class QListWidget;

namespace oxgoad {

class Session;

/// The levels of a factor put in their order, from low to high, to be predicted as ranks. By mouse they are
/// dragged, by keys moved with Alt and the arrows.
class OrderDialog : public QDialog {
    Q_OBJECT
public:
    /// Requires a factor of the session's table.
    OrderDialog(Session& session, const std::string& column, QWidget* parent);
    std::vector<std::string> order() const;

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void move(int by);

    Session& m_session;
    std::string m_column;
    QListWidget* m_levels;
};

/// Of a factor that can be ranked: three levels or more, and not so many that nobody ordered them.
bool canBeRanked(const Session& session, const std::string& column);

} // namespace oxgoad
