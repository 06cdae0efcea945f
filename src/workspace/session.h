#pragma once
// The open project as the window sees it.
#include "study/evaluate.h"
#include "study/project.h"
#include "table/summary.h"
#include "workspace/jobs.h"

#include <QObject>
#include <QString>
#include <map>
#include <memory>
#include <optional>
#include <vector>

namespace oxgoad {

/// Holds the rows, the trail and the chosen fit; runs reading, fitting and saving in the background; tells
/// everybody what changed. All members are for the interface thread.
class Session : public QObject {
    Q_OBJECT
public:
    explicit Session(QObject* parent = nullptr);

    bool hasRows() const { return m_rows != nullptr; }
    const std::shared_ptr<const StudyRows>& rows() const { return m_rows; }
    const Table& table() const;
    const std::vector<ColumnSummary>& summaries() const { return m_summaries; }
    const Recipe& recipe() const { return m_recipe; }
    const Trail& trail() const { return m_trail; }
    int current() const { return m_current; }
    /// Of the current fit; null when there is none.
    const std::shared_ptr<const Evidence>& evidence() const { return m_evidence; }
    /// Of another fit of the trail, if it is at hand; otherwise it is worked out and evidenceReady follows.
    std::shared_ptr<const Evidence> evidenceOf(int fit);
    std::optional<std::size_t> selectedRow() const { return m_selectedRow; }
    /// Unit of a column, "" when none was given.
    QString unit(const std::string& column) const;
    /// "list_rate, EUR a pallet and week".
    QString titled(const std::string& column) const;
    Jobs& jobs() { return m_jobs; }
    Jobs& saveJobs() { return m_saveJobs; }

    QString projectPath() const { return m_projectPath; }
    bool dirty() const { return m_dirty; }
    std::map<std::string, std::string>& view() { return m_view; }
    const std::map<std::string, std::string>& view() const { return m_view; }

    /// Opens a project, a recipe, or a text file with rows, by what it is.
    void open(const QString& path);
    void save(const QString& path);
    /// Fits another model; comes back to the old one by undo(). Does nothing when it is the same.
    void change(const Recipe& recipe);
    /// Shows a fit of the trail.
    void choose(int fit);
    void readAgain(const TextOptions& options);
    void chooseForecast(const QString& path);
    void setForecastLevel(double level);
    void selectRow(std::optional<std::size_t> row);
    void acceptGoad(const std::string& key, const std::string& reason);
    void takeBackAcceptance(const std::string& key);

    bool canUndo() const { return !m_back.empty(); }
    bool canRedo() const { return !m_forward.empty(); }
    void undo();
    void redo();

    /// For views' own notes: marks the project as changed.
    void touch();

signals:
    void rowsChanged();
    /// Recipe, evidence and current fit changed together.
    void fitChanged();
    void trailChanged();
    void selectionChanged();
    void evidenceReady(int fit);
    void dirtyChanged();
    void saved(const QString& path);
    void opened(const QString& path);
    void failed(const QString& sentence);

private:
    void openProjectFile(const QString& path);
    void openRecipe(const QString& path);
    void openRows(const QString& path);
    void takeRows(std::shared_ptr<const StudyRows> rows, std::vector<ColumnSummary> summaries);
    void showFit(int fit, std::shared_ptr<const Evidence> evidence);
    void evaluateInto(const Recipe& recipe, std::shared_ptr<const StudyRows> rows, int parent, bool remember);
    void goTo(int fit);
    void setDirty(bool dirty);
    void remember(int fit, std::shared_ptr<const Evidence> evidence);
    /// The recipe of a fit with the forecast that is loaded now.
    std::shared_ptr<const StudyRows> rowsFor(const Recipe& recipe) const;

    Jobs m_jobs;
    /// Work that must not stop a fit, nor be stopped by one.
    Jobs m_sideJobs;
    Jobs m_saveJobs;
    std::shared_ptr<const StudyRows> m_rows;
    std::vector<ColumnSummary> m_summaries;
    std::string m_folder;
    Recipe m_recipe;
    Trail m_trail;
    int m_current = 0;
    std::shared_ptr<const Evidence> m_evidence;
    std::vector<std::pair<int, std::shared_ptr<const Evidence>>> m_recent;
    std::vector<int> m_back;
    std::vector<int> m_forward;
    std::optional<std::size_t> m_selectedRow;
    QString m_projectPath;
    std::map<std::string, std::string> m_view;
    bool m_dirty = false;
};

} // namespace oxgoad
