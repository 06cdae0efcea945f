#pragma once
// The open project as the window sees it.
#include "ledger/drift.h"
#include "study/evaluate.h"
#include "study/project.h"
#include "workspace/jobs.h"

#include <QObject>
#include <QString>
#include <QStringList>
#include <functional>
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
    /// After the steps of the recipe; rows keep the numbers they were read with.
    const Table& table() const;
    const std::shared_ptr<const PreparedRows>& prepared() const { return m_prepared; }
    /// What every column holds and what is odd about it.
    const Ledger& ledger() const;
    /// Everything found that could make the forecast wrong: the evidence's goads, then those of the ledger
    /// about columns that are not in use.
    std::vector<Goad> goads() const;
    const Recipe& recipe() const { return m_recipe; }
    const Trail& trail() const { return m_trail; }
    int current() const { return m_current; }
    /// Of the current fit; null when there is none.
    const std::shared_ptr<const Evidence>& evidence() const { return m_evidence; }
    /// Of another fit of the trail, if it is at hand; otherwise it is worked out and evidenceReady follows.
    std::shared_ptr<const Evidence> evidenceOf(int fit);
    std::optional<std::size_t> selectedRow() const { return m_selectedRow; }
    /// A byte a row, not 0 where rows are marked; null when none are.
    using RowMask = std::shared_ptr<const std::vector<std::uint8_t>>;
    const RowMask& markedRows() const { return m_marked; }
    std::size_t markedCount() const { return m_markedCount; }
    /// The rows looks are taken at; null for all.
    const RowMask& lookedAtRows() const { return m_lookedAt; }
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

    /// Opens a project, a recipe, or a file with rows, by what it is.
    void open(const QString& path);
    /// Opens rows from anywhere. Relative names start from `folder`.
    void openPlan(const RowsPlan& plan, const QString& folder);
    /// Keeps pasted text as a file of its own in the folder for application data and opens it.
    void paste(const QString& text);
    /// The password of a server, for this run of the program only.
    void givePassword(const ServerPlace& place, const QString& password);
    void save(const QString& path);
    /// Fits another model; comes back to the old one by undo(). Does nothing when it is the same.
    void change(const Recipe& recipe);
    /// Fits a row of models, each the child of the one before on the trail, and shows the last; one step
    /// back.
    void takePath(const std::vector<Recipe>& recipes);
    /// Shows a fit of the trail.
    void choose(int fit);
    /// Reads the same rows in another way, or the same source anew; tells what changed by rowsCompared.
    void readAgain(const RowsPlan& plan);
    void chooseForecast(const QString& path);
    /// Changes the preparation. Makes a fit when there are terms.
    void setSteps(std::vector<Step> steps);
    void addStep(const Step& step);
    void setRole(const std::string& column, Role role);
    /// "" takes the unit away. Units change no number.
    void setUnit(const std::string& column, const std::string& unit);
    /// What step `index` (from 0) of some steps does to its columns: stepDescribed follows with the ticket
    /// returned.
    int describeStep(const std::vector<Step>& steps, std::size_t index);
    /// Scores the test rows by the current fit. It is counted on the trail.
    void lookAtTest();
    const std::string& folder() const { return m_folder; }
    void setForecastLevel(double level);
    void selectRow(std::optional<std::size_t> row);
    /// Marks rows in place of those that are, or beside them; rows beyond the table are passed over.
    void markRows(const std::vector<std::size_t>& rows, bool add);
    /// Fits without the marked rows, for a reason.
    void leaveOutMarked(const std::string& reason);
    /// Takes looks at the marked rows only, or at all rows again.
    void lookAtOnlyMarked();
    void lookAtAllRows();
    /// Keeps a sentence as a goad of the analyst's own, which stays until it is dropped or accepted.
    void note(const std::string& column, const std::string& says);
    void dropNote(const std::string& column, const std::string& says);
    void acceptGoad(const std::string& key, const std::string& reason);
    void takeBackAcceptance(const std::string& key);

    /// Work beside the fits that a view needs: one at a time, an outdated answer is dropped.
    Jobs& sideJobs() { return m_viewJobs; }
    /// What the Look station draws and ranks: neither stops the other.
    Jobs& lookJobs() { return m_lookJobs; }
    Jobs& rankJobs() { return m_rankJobs; }
    /// What would help the fit, measured.
    Jobs& helpJobs() { return m_helpJobs; }
    /// Choosing terms, and the effect that is shown.
    Jobs& chooseJobs() { return m_chooseJobs; }
    Jobs& effectJobs() { return m_effectJobs; }

    bool canUndo() const { return !m_back.empty(); }
    bool canRedo() const { return !m_forward.empty(); }
    void undo();
    void redo();

    /// For views' own notes: marks the project as changed.
    void touch();

signals:
    /// Other rows: read or prepared anew.
    void rowsChanged();
    /// What is different since the rows were read the last time.
    void rowsCompared(const QStringList& sentences);
    void stepDescribed(int ticket, const oxgoad::StepEffect& effect, const oxgoad::StepOutcome& outcome);
    void passwordWanted(const oxgoad::ServerPlace& place, const QString& why);
    /// Recipe, evidence and current fit changed together.
    void fitChanged();
    void trailChanged();
    /// The selected row or the marked ones.
    void selectionChanged();
    void lookedAtChanged();
    void evidenceReady(int fit);
    void dirtyChanged();
    void saved(const QString& path);
    void opened(const QString& path);
    void failed(const QString& sentence);

private:
    /// What an evaluation gives: the rows it saw, and the evidence when there are terms or a fit.
    struct Evaluated {
        std::shared_ptr<const PreparedRows> prepared;
        std::shared_ptr<const Evidence> evidence;
    };
    struct State {
        int fit = 0;
        Recipe recipe;
    };
    struct Recent {
        int fit;
        Evaluated evaluated;
    };
    static Evaluated evaluated(const Recipe& recipe, const StudyRows& rows,
                               std::shared_ptr<const PreparedRows> prepared, bool fit, Progress& progress,
                               bool lookAtTest = false);
    /// Runs `work`; a password that is wanted is asked for, and `again` is what happens then.
    void start(const QString& title, Jobs::Work work, std::function<RowsPlan()> planOf,
               std::function<void()> again);
    PasswordFor passwordFor() const;
    void openProjectFile(const QString& path);
    void openRecipe(const QString& path);
    void takeRows(std::shared_ptr<const StudyRows> rows);
    void showFit(int fit, Evaluated evaluated);
    void evaluateInto(const Recipe& recipe, std::shared_ptr<const StudyRows> rows, int parent, bool remember);
    void goTo(const State& state);
    void setDirty(bool dirty);
    void remember(int fit, Evaluated evaluated);
    const Recent* recent(int fit) const;
    /// Shows the goads of the recipe's notes in place of those of the evidence.
    void showNotes();
    /// The recipe of a fit with the forecast that is loaded now.
    std::shared_ptr<const StudyRows> rowsFor(const Recipe& recipe) const;

    Jobs m_jobs;
    /// Work that must not stop a fit, nor be stopped by one.
    Jobs m_sideJobs;
    Jobs m_viewJobs;
    Jobs m_saveJobs;
    Jobs m_lookJobs;
    Jobs m_rankJobs;
    Jobs m_helpJobs;
    Jobs m_chooseJobs;
    Jobs m_effectJobs;
    std::shared_ptr<const StudyRows> m_rows;
    std::shared_ptr<const PreparedRows> m_prepared;
    std::map<std::string, std::string> m_passwords;
    std::function<void()> m_afterPassword;
    int m_ticket = 0;
    std::string m_folder;
    Recipe m_recipe;
    Trail m_trail;
    int m_current = 0;
    std::shared_ptr<const Evidence> m_evidence;
    std::vector<Recent> m_recent;
    std::vector<State> m_back;
    std::vector<State> m_forward;
    std::optional<std::size_t> m_selectedRow;
    RowMask m_marked;
    std::size_t m_markedCount = 0;
    RowMask m_lookedAt;
    QString m_projectPath;
    std::map<std::string, std::string> m_view;
    bool m_dirty = false;
};

} // namespace oxgoad
