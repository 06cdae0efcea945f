#pragma once
// The open project as the window sees it.
#include "base/file.h"
#include "ledger/drift.h"
#include "study/evaluate.h"
#include "study/project.h"
#include "workspace/jobs.h"

#include <QObject>
#include <QString>
#include <QStringList>
#include <cstdint>
#include <deque>
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
    /// Everything found that could make the forecast wrong: first the goads of the fit and the notes, then
    /// those of the ledger about columns that are not in use; all as they are accepted now.
    struct Goads {
        std::vector<Goad> all;
        std::size_t ofTheFit = 0;
    };
    Goads goads() const;
    /// Of what is shown.
    const Recipe& recipe() const { return m_recipe; }
    /// With the edits that are still being worked out: what the next edit starts from.
    const Recipe& draft() const { return m_edits.empty() ? m_recipe : m_edits.back().recipe; }
    /// Whether edits are being worked out.
    bool editing() const { return !m_edits.empty(); }
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
    bool dirty() const { return m_revision != m_savedRevision; }
    std::map<std::string, std::string>& view() { return m_view; }
    const std::map<std::string, std::string>& view() const { return m_view; }

    /// Opens a project, a recipe, or a file with rows, by what it is.
    void open(const QString& path);
    /// What is whole of a damaged project, as a copy that has no file yet.
    void openSalvaged(const QString& path);
    /// Opens rows from anywhere. Relative names start from `folder`.
    void openPlan(const RowsPlan& plan, const QString& folder);
    /// Keeps pasted text as a file of its own in the folder for application data and opens it.
    void paste(const QString& text);
    /// The password of a server, for this run of the program only.
    void givePassword(const ServerPlace& place, const QString& password);
    /// There will be none: what needed it is taken back.
    void withoutPassword();
    /// Saves what there is now, edits being worked out included. Saves follow each other, none is lost. The
    /// project's own file that somebody else wrote meanwhile is written `over` only; otherwise
    /// changedMeanwhile() asks.
    void save(const QString& path, bool over = false);
    /// Whether there is work that is in no file.
    bool hasUnsavedWork() const { return dirty() && m_rows && (!m_trail.empty() || editing()); }
    /// Fits another model, made from draft(); comes back to the old one by undo(). Does nothing when it is
    /// the same. Until its fit is there, recipe() and evidence() stay and draft() is the new one; an edit
    /// made meanwhile stands on top of it. An edit that cannot be fitted is told by failed() and taken back,
    /// those before it stay.
    void change(const Recipe& recipe);
    /// The same for a recipe that was made from another one, `base`, some time ago: only what differs from
    /// that is changed.
    void changeFrom(const Recipe& base, const Recipe& recipe);
    /// The same while something is being dragged: a fit made so takes the place of the one that the same drag
    /// made before, as long as nothing came between. endSlide() ends a drag.
    void slide(const Recipe& recipe);
    void endSlide();
    /// Fits a row of models, each made from the one before it, the first from `base`, and each its child on
    /// the trail, and shows the last; one step back.
    void takePath(const Recipe& base, const std::vector<Recipe>& recipes);
    /// Shows a fit of the trail.
    void choose(int fit);
    /// Reads the same rows in another way, or the same source anew; tells what changed by rowsCompared.
    void readAgain(const RowsPlan& plan);
    void chooseForecast(const QString& path);
    void makeForecast(const MadeRows& made);
    /// Keeps a row told by hand, in the place of one of the same name, and takes one back.
    void keepHandRow(const HandRow& row);
    /// In the place of one of the same rows.
    void keepDelivery(const Delivery& delivery);
    void forgetHandRow(const std::string& name);
    /// Changes the preparation to steps made from those of recipe(). Makes a fit when there are terms.
    void setSteps(std::vector<Step> steps);
    void addStep(const Step& step);
    /// Makes an edit of draft(): a fit when it asks for another model, otherwise what is said beside it.
    void make(const RecipeEdit& edit, const std::string& reason);
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
    /// What is said of fits of the trail.
    void renameFit(int fit, const std::string& name);
    void noteFit(int fit, const std::string& note);
    void pinFit(int fit, bool pinned);
    /// Puts a fit and what came from it out of sight, or brings them back.
    void pruneFit(int fit, bool pruned);
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
    /// The folds of the fit that is shown, where they take longer than the fit. A stop keeps those done.
    Jobs& foldJobs() { return m_foldJobs; }
    /// What they found so far; null when none are being judged.
    const std::shared_ptr<const FoldEvidence>& foldsSoFar() const { return m_foldsSoFar; }
    /// Deals the rows into folds with other seeds, several times; judged again from the first.
    void dealAgain(int repeats);
    Jobs& effectJobs() { return m_effectJobs; }
    /// The path of penalties of the fit that is shown, and what halves of the rows choose.
    Jobs& pathJobs() { return m_pathJobs; }
    /// Errors against the number of rows learned from.
    Jobs& curveJobs() { return m_curveJobs; }
    Jobs& compareJobs() { return m_compareJobs; }
    /// The checks that take as long as a fit, of the fit that is shown.
    Jobs& checkJobs() { return m_checkJobs; }
    /// Runs the checks that are left of what is shown: by itself once the fit and its folds are there, or
    /// again after a stop.
    void startChecks();
    /// What moves would change, of the fit that is shown.
    Jobs& previewJobs() { return m_previewJobs; }
    /// Works out what the moves of a goad would change; movePreviewed() follows for each. What is known is
    /// told at once.
    void previewMoves(const Goad& goad);
    /// Opens a row, wherever it was pointed at: it is selected, and rowOpened() follows.
    void openRow(std::size_t row);
    /// Takes back that a row was left out by hand.
    void putBack(std::size_t row);

    bool canUndo() const { return !back().empty(); }
    bool canRedo() const { return !forward().empty(); }
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
    /// Other edits are being worked out, or none any more.
    void draftChanged();
    /// The selected row or the marked ones.
    void selectionChanged();
    void lookedAtChanged();
    void rowOpened(std::size_t row);
    /// What a move of a goad of the fit that is shown would change, in a sentence.
    void movePreviewed(const QString& goad, const QString& move, const QString& says);
    void evidenceReady(int fit);
    /// foldsSoFar() is another.
    void foldsProgressed();
    void dirtyChanged();
    void saved(const QString& path);
    void changedMeanwhile(const QString& path);
    void opened(const QString& path);
    void failed(const QString& sentence);
    /// A project that has a part that is not as it was written; openSalvaged() opens the rest.
    void damaged(const QString& path, const QString& sentence);

private:
    /// Changes what is said beside the model, of what is shown and of the edits on top of it.
    void annotate(const std::function<void(Recipe&)>& change);
    void askForecast(ForecastRequest request);
    /// What an evaluation gives: the rows it saw, and the evidence when there are terms or a fit.
    struct Evaluated {
        std::shared_ptr<const PreparedRows> prepared;
        std::shared_ptr<const Evidence> evidence;
    };
    /// A place on the trail, or beside it.
    struct State {
        /// 0 without a fit of the trail.
        int fit = 0;
        Recipe recipe;
        /// Whether there is a fit to show: a mean alone is one, once it was asked for after terms.
        bool fits = false;
    };
    /// What was asked for and is not shown yet.
    struct Edit {
        Recipe recipe;
        int fit = 0;
        bool fits = false;
        /// The fit a new one is a child of.
        int parent = 0;
        /// Fits to be made on the way.
        std::vector<Recipe> path;
        std::vector<State> back, forward;
        /// Asks for the rows, or those to be forecast, to be read whatever is at hand.
        bool readRows = false, readForecast = false;
        /// Other rows are to be forecast than those of what is shown.
        bool newForecast = false;
        bool lookAtTest = false;
        /// Made by a drag.
        bool slides = false;
    };
    /// How far the work on an edit came.
    enum class Stage { rows, forecast, fit };
    struct Worked;
    struct Recent {
        int fit;
        Evaluated evaluated;
    };
    /// What may be learned already: by the fit asked for, and what is shown.
    struct Known {
        std::shared_ptr<const Study> study;
        std::shared_ptr<const Evidence> evidence;
    };
    Known knownOf(int fit) const;
    static Known keptStudy(const Project& project);
    static Evaluated evaluated(const Recipe& recipe, const StudyRows& rows,
                               std::shared_ptr<const PreparedRows> prepared, bool fit, Progress& progress,
                               const Known& known, bool lookAtTest = false,
                               EvaluateOptions::Folds folds = EvaluateOptions::Folds::whenQuick);
    /// Runs `work`; a password that is wanted is asked for, and `again` is what happens then.
    Jobs::Work askingForPasswords(Jobs::Work work, std::function<RowsPlan()> planOf,
                                  std::function<void()> again);
    /// Opens something in place of what there is; edits that were on the way go on when it fails.
    void startOpening(const QString& title, Jobs::Work work);
    PasswordFor passwordFor() const;
    void openProjectFile(const QString& path);
    void openRecipe(const QString& path);
    void takeRows(std::shared_ptr<const StudyRows> rows, std::optional<RowsSource> forecastOf);
    void takeProject();
    void takeOpened(const Project& project, const std::shared_ptr<const StudyRows>& rows,
                    const Evaluated& result);
    void showFit(int fit, Evaluated evaluated);
    /// Judges the folds of what is shown, when nobody did.
    void startFolds();
    void takeFolds(const std::shared_ptr<const Evidence>& of, const std::shared_ptr<const Evidence>& judged);
    void setDirty();
    void setSaved(std::uint64_t revision);
    void remember(int fit, Evaluated evaluated);
    const Recent* recent(int fit) const;
    void startNextSave();

    // Edits: session_edits.cpp.
    const std::vector<State>& back() const { return m_edits.empty() ? m_back : m_edits.back().back; }
    const std::vector<State>& forward() const { return m_edits.empty() ? m_forward : m_edits.back().forward; }
    State drafted() const;
    /// An edit of draft() that can be undone.
    Edit editOf(const Recipe& recipe) const;
    void push(Edit edit);
    void goTo(const State& state, std::vector<State> back, std::vector<State> forward);
    void startEdit();
    Jobs::Finish workOn(const Edit& edit, const std::shared_ptr<Stage>& stage, Progress& progress,
                        const std::shared_ptr<const StudyRows>& rows,
                        const std::optional<RowsSource>& forecastOf, const std::string& folder,
                        const std::shared_ptr<const PreparedRows>& prepared, const Known& known,
                        const PasswordFor& password);
    void editDone(const Worked& worked);
    void editFailed(Stage stage);
    /// The rows with those to be forecast that the recipe names, none when it names none; reads them when
    /// `rows` holds others.
    static std::shared_ptr<const StudyRows> rowsFor(const Recipe& recipe,
                                                    const std::shared_ptr<const StudyRows>& rows,
                                                    const std::optional<RowsSource>& forecastOf,
                                                    const std::string& folder, const PasswordFor& password,
                                                    Progress& progress);

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
    Jobs m_pathJobs;
    Jobs m_curveJobs;
    Jobs m_compareJobs;
    Jobs m_foldJobs;
    Jobs m_checkJobs;
    Jobs m_previewJobs;
    /// Of the fit that is shown, by goad and move.
    std::map<std::pair<std::string, std::string>, QString> m_previews;
    std::shared_ptr<const FoldEvidence> m_foldsSoFar;
    std::shared_ptr<const StudyRows> m_rows;
    /// What the rows to be forecast in m_rows were read from.
    std::optional<RowsSource> m_forecastOf;
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
    /// What fits of the trail learned from these rows; goes into the project, so that it opens without
    /// fitting.
    std::map<int, std::shared_ptr<const Study>> m_studies;
    std::vector<State> m_back;
    std::vector<State> m_forward;
    /// The fit that the drag that goes on made; 0 without.
    int m_slid = 0;
    bool m_sliding = false;
    /// The last one is being worked out; those before it are what is left when it fails.
    std::vector<Edit> m_edits;
    bool m_opening = false;
    std::optional<std::size_t> m_selectedRow;
    RowMask m_marked;
    std::size_t m_markedCount = 0;
    RowMask m_lookedAt;
    QString m_projectPath;
    /// Of the project's file as it was read or written last.
    FileStamp m_projectStamp;
    std::map<std::string, std::string> m_view;
    /// Counts changes; what was saved last is a number of it.
    std::uint64_t m_revision = 0;
    std::uint64_t m_savedRevision = 0;
    /// Counts projects: a save that ends touches only the one it was made of.
    int m_project = 0;
    struct Save {
        QString path;
        std::shared_ptr<const Project> project;
        std::uint64_t revision = 0;
        int of = 0;
    };
    std::deque<Save> m_saves;
};

} // namespace oxgoad
