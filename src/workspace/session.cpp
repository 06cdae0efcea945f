#include "workspace/session.h"

#include "workspace/text.h"

#include <QFileInfo>
#include <algorithm>
#include <filesystem>

namespace oxgoad {

namespace fs = std::filesystem;

namespace {

constexpr std::size_t recentEvidence = 4;

/// A start for rows nobody has said anything about: the last number column as response, no terms.
Recipe startRecipe(const std::string& file, const Table& table, const TextOptions& options) {
    Recipe recipe;
    recipe.rows = {file, options};
    for (const Column& column : table.columns())
        if (column.kind() == ColumnKind::number && column.missingCount() < column.size())
            recipe.response = column.name();
    if (table.rows() >= 40) recipe.setAside = RandomHoldOut{0.25, 7};
    return recipe;
}

} // namespace

Session::Session(QObject* parent) : QObject(parent), m_jobs(this), m_sideJobs(this), m_saveJobs(this) {
    connect(&m_jobs, &Jobs::failed, this, &Session::failed);
    connect(&m_sideJobs, &Jobs::failed, this, &Session::failed);
    connect(&m_saveJobs, &Jobs::failed, this, &Session::failed);
}

const Table& Session::table() const {
    static const Table empty;
    return m_rows ? m_rows->learning.table : empty;
}

QString Session::unit(const std::string& column) const {
    const auto found = m_recipe.units.find(column);
    return found == m_recipe.units.end() ? QString() : qs(found->second);
}

QString Session::titled(const std::string& column) const {
    const QString name = unit(column);
    return name.isEmpty() ? qs(column) : qs(column) + ", " + name;
}

void Session::open(const QString& path) {
    const QString suffix = QFileInfo(path).suffix().toLower();
    if (suffix == "oxgoad")
        openProjectFile(path);
    else if (suffix == "json")
        openRecipe(path);
    else
        openRows(path);
}

void Session::openProjectFile(const QString& path) {
    m_jobs.start(tr("Opening"), [this, path](Progress& progress) -> Jobs::Finish {
        ProgressStage opening(progress, 0, 0.4);
        auto project = std::make_shared<Project>(openProject(ss(path), opening));
        auto rows = std::make_shared<const StudyRows>(std::move(project->rows));
        ProgressStage counting(progress, 0.4, 0.6);
        auto summaries = summarize(rows->learning.table, {}, counting);
        std::shared_ptr<const Evidence> evidence;
        if (const TrailFit* fit = project->trail.find(project->current)) {
            ProgressStage fitting(progress, 0.6, 1);
            evidence = std::make_shared<const Evidence>(evaluate(fit->recipe, *rows, {}, fitting));
        }
        return [this, path, project, rows, summaries = std::move(summaries), evidence]() mutable {
            m_folder = project->folder;
            m_trail = project->trail;
            m_current = 0;
            m_view = project->view;
            m_recipe = project->recipe;
            takeRows(rows, std::move(summaries));
            m_projectPath = path;
            showFit(project->current, evidence);
            setDirty(false);
            emit opened(path);
        };
    });
}

void Session::openRecipe(const QString& path) {
    m_jobs.start(tr("Opening"), [this, path](Progress& progress) -> Jobs::Finish {
        const Recipe recipe = readRecipe(ss(path));
        const std::string folder = fs::absolute(ss(path)).parent_path().string();
        ProgressStage reading(progress, 0, 0.6);
        auto rows = std::make_shared<const StudyRows>(loadRows(recipe, folder, {}, reading));
        ProgressStage counting(progress, 0.6, 0.7);
        auto summaries = summarize(rows->learning.table, {}, counting);
        ProgressStage fitting(progress, 0.7, 1);
        auto evidence = std::make_shared<const Evidence>(evaluate(recipe, *rows, {}, fitting));
        return [this, path, recipe, folder, rows, summaries = std::move(summaries), evidence]() mutable {
            m_folder = folder;
            m_trail = Trail();
            m_recipe = recipe;
            m_view.clear();
            takeRows(rows, std::move(summaries));
            m_projectPath.clear();
            showFit(m_trail.add(recipe, *evidence, 0), evidence);
            setDirty(true);
            emit opened(path);
        };
    });
}

void Session::openRows(const QString& path) {
    m_jobs.start(tr("Reading"), [this, path](Progress& progress) -> Jobs::Finish {
        ProgressStage reading(progress, 0, 0.8);
        auto rows = std::make_shared<StudyRows>();
        rows->learning = readText(ss(path), {}, {}, reading);
        ProgressStage counting(progress, 0.8, 1);
        auto summaries = summarize(rows->learning.table, {}, counting);
        return [this, path, rows, summaries = std::move(summaries)]() mutable {
            const fs::path file = fs::absolute(ss(path));
            m_folder = file.parent_path().string();
            m_trail = Trail();
            m_recipe = startRecipe(file.filename().string(), rows->learning.table, {});
            m_view.clear();
            takeRows(rows, std::move(summaries));
            m_projectPath.clear();
            showFit(0, nullptr);
            setDirty(true);
            emit opened(path);
        };
    });
}

void Session::takeRows(std::shared_ptr<const StudyRows> rows, std::vector<ColumnSummary> summaries) {
    m_rows = std::move(rows);
    m_summaries = std::move(summaries);
    m_recent.clear();
    m_back.clear();
    m_forward.clear();
    m_selectedRow.reset();
    m_evidence.reset();
    m_current = 0;
    emit rowsChanged();
}

void Session::remember(int fit, std::shared_ptr<const Evidence> evidence) {
    std::erase_if(m_recent, [fit](const auto& entry) { return entry.first == fit; });
    m_recent.emplace_back(fit, std::move(evidence));
    if (m_recent.size() > recentEvidence) m_recent.erase(m_recent.begin());
}

void Session::showFit(int fit, std::shared_ptr<const Evidence> evidence) {
    m_current = fit;
    m_evidence = std::move(evidence);
    if (const TrailFit* entry = m_trail.find(fit)) m_recipe = entry->recipe;
    if (m_evidence) remember(fit, m_evidence);
    emit trailChanged();
    emit fitChanged();
}

void Session::change(const Recipe& recipe) {
    if (!m_rows || (m_evidence && sameModel(recipe, m_recipe))) return;
    if (recipe.terms.empty()) { // a mean alone is a model too, but only when it was asked for after terms
        if (!m_evidence) {
            m_recipe = recipe;
            emit fitChanged();
            setDirty(true);
            return;
        }
    }
    const TrailFit* made = m_trail.findModel(recipe);
    if (made) {
        choose(made->number);
        return;
    }
    evaluateInto(recipe, rowsFor(recipe), m_current, true);
}

std::shared_ptr<const StudyRows> Session::rowsFor(const Recipe& recipe) const {
    if (recipe.forecast || !m_rows->forecast) return m_rows;
    auto rows = std::make_shared<StudyRows>(*m_rows);
    rows->forecast.reset();
    return rows;
}

void Session::evaluateInto(const Recipe& recipe, std::shared_ptr<const StudyRows> rows, int parent,
                           bool rememberStep) {
    m_jobs.start(tr("Fitting"),
                 [this, recipe, rows, parent, rememberStep](Progress& progress) -> Jobs::Finish {
                     auto evidence = std::make_shared<const Evidence>(evaluate(recipe, *rows, {}, progress));
                     return [this, recipe, parent, rememberStep, evidence] {
                         const int before = m_current;
                         const int fit = m_trail.add(recipe, *evidence, parent);
                         if (rememberStep && before != 0) {
                             m_back.push_back(before);
                             m_forward.clear();
                         }
                         showFit(fit, evidence);
                         setDirty(true);
                     };
                 });
}

void Session::choose(int fit) {
    if (fit == m_current || !m_trail.find(fit)) return;
    if (m_current != 0) m_back.push_back(m_current);
    m_forward.clear();
    goTo(fit);
    setDirty(true);
}

void Session::goTo(int fit) {
    const auto at = std::find_if(m_recent.begin(), m_recent.end(),
                                 [fit](const auto& entry) { return entry.first == fit; });
    if (at != m_recent.end()) {
        showFit(fit, at->second);
        return;
    }
    const Recipe recipe = m_trail.find(fit)->recipe;
    m_jobs.start(tr("Fitting"),
                 [this, fit, recipe, rows = rowsFor(recipe)](Progress& progress) -> Jobs::Finish {
                     auto evidence = std::make_shared<const Evidence>(evaluate(recipe, *rows, {}, progress));
                     return [this, fit, evidence] { showFit(fit, evidence); };
                 });
}

std::shared_ptr<const Evidence> Session::evidenceOf(int fit) {
    if (fit == m_current) return m_evidence;
    const auto at = std::find_if(m_recent.begin(), m_recent.end(),
                                 [fit](const auto& entry) { return entry.first == fit; });
    if (at != m_recent.end()) return at->second;
    const TrailFit* entry = m_trail.find(fit);
    if (!entry) return nullptr;
    m_sideJobs.start(tr("Fitting"),
                     [this, fit, recipe = entry->recipe,
                      rows = rowsFor(entry->recipe)](Progress& progress) -> Jobs::Finish {
                         auto evidence =
                             std::make_shared<const Evidence>(evaluate(recipe, *rows, {}, progress));
                         return [this, fit, evidence] {
                             remember(fit, evidence);
                             emit evidenceReady(fit);
                         };
                     });
    return nullptr;
}

void Session::undo() {
    if (m_back.empty()) return;
    const int fit = m_back.back();
    m_back.pop_back();
    if (m_current != 0) m_forward.push_back(m_current);
    goTo(fit);
    setDirty(true);
}

void Session::redo() {
    if (m_forward.empty()) return;
    const int fit = m_forward.back();
    m_forward.pop_back();
    if (m_current != 0) m_back.push_back(m_current);
    goTo(fit);
    setDirty(true);
}

void Session::readAgain(const TextOptions& options) {
    if (!m_rows) return;
    Recipe recipe = m_recipe;
    recipe.rows.text = options;
    m_jobs.start(tr("Reading"), [this, recipe, folder = m_folder](Progress& progress) -> Jobs::Finish {
        ProgressStage reading(progress, 0, 0.6);
        auto rows = std::make_shared<const StudyRows>(loadRows(recipe, folder, {}, reading));
        ProgressStage counting(progress, 0.6, 0.8);
        auto summaries = summarize(rows->learning.table, {}, counting);
        std::shared_ptr<const Evidence> evidence;
        ProgressStage fitting(progress, 0.8, 1);
        // Read otherwise, the columns may have other names: without the response it is a start like any
        // other.
        Recipe next = recipe;
        const bool same = rows->learning.table.find(recipe.response) != nullptr;
        if (!same) next = startRecipe(recipe.rows.file, rows->learning.table, recipe.rows.text);
        if (same && !recipe.terms.empty())
            evidence = std::make_shared<const Evidence>(evaluate(recipe, *rows, {}, fitting));
        return [this, recipe = next, rows, summaries = std::move(summaries), evidence]() mutable {
            const int parent = m_current;
            m_recipe = recipe;
            // Fits of the trail were made from other values: those that stay keep their numbers but are
            // worked out anew when they are chosen.
            takeRows(rows, std::move(summaries));
            const TrailFit* made = evidence ? m_trail.findModel(recipe) : nullptr;
            showFit(made ? made->number : evidence ? m_trail.add(recipe, *evidence, parent) : 0, evidence);
            setDirty(true);
        };
    });
}

void Session::chooseForecast(const QString& path) {
    if (!m_rows || m_recipe.response.empty()) return;
    Recipe recipe = m_recipe;
    const fs::path file = fs::absolute(ss(path));
    std::error_code failure;
    const fs::path relative = fs::relative(file, m_folder, failure);
    recipe.forecast = ForecastRequest{
        failure || relative.empty() || *relative.begin() == ".." ? file.string() : relative.string(),
        recipe.forecast ? recipe.forecast->level : 0.95,
        {}};
    m_jobs.start(tr("Forecasting"),
                 [this, recipe, rows = m_rows, folder = m_folder](Progress& progress) -> Jobs::Finish {
                     ProgressStage reading(progress, 0, 0.5);
                     auto next = std::make_shared<StudyRows>(*rows);
                     next->forecast = loadForecastRows(*recipe.forecast, rows->learning.table,
                                                       recipe.response, folder, {}, reading);
                     ProgressStage fitting(progress, 0.5, 1);
                     std::shared_ptr<const Evidence> evidence;
                     if (!recipe.terms.empty())
                         evidence = std::make_shared<const Evidence>(evaluate(recipe, *next, {}, fitting));
                     return [this, recipe, next, evidence] {
                         m_rows = next;
                         m_recent.clear();
                         if (evidence && !sameModel(recipe, m_recipe)) {
                             const int before = m_current;
                             const int fit = m_trail.add(recipe, *evidence, before);
                             if (before != 0) m_back.push_back(before);
                             m_forward.clear();
                             showFit(fit, evidence);
                         } else if (evidence) {
                             showFit(m_current, evidence);
                         } else {
                             m_recipe = recipe;
                             emit fitChanged();
                         }
                         setDirty(true);
                     };
                 });
}

void Session::setForecastLevel(double level) {
    if (!m_recipe.forecast || m_recipe.forecast->level == level) return;
    Recipe recipe = m_recipe;
    recipe.forecast->level = level;
    change(recipe);
}

void Session::selectRow(std::optional<std::size_t> row) {
    if (row && *row >= table().rows()) row.reset();
    if (row == m_selectedRow) return;
    m_selectedRow = row;
    emit selectionChanged();
}

void Session::acceptGoad(const std::string& key, const std::string& reason) {
    if (!m_evidence) return;
    std::erase_if(m_recipe.accepted, [&](const AcceptedGoad& a) { return a.goad == key; });
    m_recipe.accepted.push_back({key, reason});
    auto next = std::make_shared<Evidence>(*m_evidence);
    for (Goad& goad : next->goads)
        if (goad.key == key) goad.accepted = reason;
    m_trail.updateNotes(m_current, m_recipe);
    showFit(m_current, next);
    setDirty(true);
}

void Session::takeBackAcceptance(const std::string& key) {
    if (!m_evidence) return;
    std::erase_if(m_recipe.accepted, [&](const AcceptedGoad& a) { return a.goad == key; });
    auto next = std::make_shared<Evidence>(*m_evidence);
    for (Goad& goad : next->goads)
        if (goad.key == key) goad.accepted.reset();
    m_trail.updateNotes(m_current, m_recipe);
    showFit(m_current, next);
    setDirty(true);
}

void Session::save(const QString& path) {
    if (!m_rows) return;
    auto project = std::make_shared<Project>();
    project->trail = m_trail;
    project->current = m_current;
    project->recipe = m_recipe;
    project->folder = m_folder;
    project->view = m_view;
    project->rows = *m_rows;
    m_saveJobs.start(tr("Saving"), [this, path, project](Progress& progress) -> Jobs::Finish {
        saveProject(ss(path), *project, progress);
        return [this, path] {
            m_projectPath = path;
            setDirty(false);
            emit saved(path);
        };
    });
}

void Session::touch() {
    setDirty(true);
}

void Session::setDirty(bool dirty) {
    if (m_dirty == dirty) return;
    m_dirty = dirty;
    emit dirtyChanged();
}

} // namespace oxgoad
