#pragma once
#include <QStringList>
#include <QWidget>

class QLabel;
class QVBoxLayout;

namespace oxgoad {

/// What a window without rows shows: what the program is for, the demo, what was open before, a place to drop
/// a file.
class StartPane : public QWidget {
    Q_OBJECT
public:
    explicit StartPane(QWidget* parent);
    void setRecent(const QStringList& paths);
    /// A demo project ("cold_storage", "trailers") beside the program or where it is installed; empty when
    /// there is none.
    static QString demoPath(const QString& name);

signals:
    void openWanted();
    void pathWanted(const QString& path);

private:
    QVBoxLayout* m_recent;
    QLabel* m_recentHead;
};

} // namespace oxgoad
