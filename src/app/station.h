#pragma once
// What every station has in common.
#include "app/plots/plot_frame.h"
#include "workspace/session.h"

#include <QComboBox>
#include <QLineEdit>
#include <QWidget>

namespace oxgoad {

class Station : public QWidget {
    Q_OBJECT
public:
    Station(Session& session, const QString& name, QWidget* parent);
    /// "data", "look", …
    const QString& name() const { return m_name; }
    /// Turns to a column, as a goad's jump asks for.
    virtual void showColumn(const QString& column) { (void)column; }
    /// Something to put the keyboard on.
    virtual QWidget* focusTarget() { return this; }

    /// Marks of `n` rows by part, those of no part left out; without evidence all are alike. Only finite
    /// points.
    static std::vector<PlotFrame::Marks> marksOf(const Evidence* evidence, std::size_t n,
                                                 const std::function<double(std::size_t)>& x,
                                                 const std::function<double(std::size_t)>& y);

signals:
    void openWanted();
    void pathWanted(const QString& path);
    void forecastRowsWanted();

protected:
    /// Runs `refresh` when the session changes, but only while the station is shown; otherwise once it is.
    virtual void refresh() = 0;
    void showEvent(QShowEvent* event) override;
    void refreshLater();
    /// The same of the session's rows.
    std::vector<PlotFrame::Marks> marksByPart(const std::function<double(std::size_t)>& x,
                                              const std::function<double(std::size_t)>& y) const;
    std::function<QString(std::size_t)> rowDescription() const;
    /// Ctrl+F goes to the field while the station is shown.
    void findWith(QLineEdit& field);
    /// Joins a plot of rows to the selection: a click selects, boxes and lines mark, and both are shown.
    void link(PlotFrame& plot);
    void showSelectionIn(PlotFrame& plot) const;

    Session& m_session;

private:
    QString m_name;
    bool m_stale = true;
    std::vector<PlotFrame*> m_linked;
};

/// Fills a box with names, keeping the choice.
void fillBox(QComboBox& box, const QStringList& items, const QString& fallback);
QComboBox* plainBox(const QString& accessibleName, const QString& objectName, QWidget* parent);

} // namespace oxgoad
