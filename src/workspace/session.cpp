#include "workspace/session.h"

#include "base/file.h"
#include "workspace/text.h"

#include <QCryptographicHash>
#include <QDir>
#include <QFileInfo>
#include <QStandardPaths>
#include <algorithm>
#include <filesystem>

namespace oxgoad {

namespace fs = std::filesystem;

namespace {

constexpr std::size_t recentEvidence = 4;

/// A start for rows nobody has said anything about: the last number column as response, no terms.
Recipe startRecipe(const RowsPlan& plan, const Table& table) {
    Recipe recipe;
    recipe.rows = plan;
    for (const Column& column : table.columns())
        if (column.kind() == ColumnKind::number && column.missingCount() < column.size())
            recipe.response = column.name();
    if (table.rows() >= 40) recipe.setAside = SetAside{.share = 0.25, .seed = 7};
    return recipe;
}

std::string keyOf(const ServerPlace& place) {
    return place.user + "@" + place.host + ":" + std::to_string(place.port) + "/" + place.database;
}

} // namespace

Session::Session(QObject* parent)
    : QObject(parent), m_jobs(this), m_sideJobs(this), m_viewJobs(this), m_saveJobs(this), m_lookJobs(this),
      m_rankJobs(this), m_helpJobs(this), m_chooseJobs(this), m_effectJobs(this) {
    for (Jobs* jobs : {&m_jobs, &m_sideJobs, &m_viewJobs, &m_saveJobs, &m_lookJobs, &m_rankJobs, &m_helpJobs,
                       &m_chooseJobs, &m_effectJobs})
        connect(jobs, &Jobs::failed, this, &Session::failed);
}

const Table& Session::table() const {
    static const Table empty;
    return m_prepared ? m_prepared->table : empty;
}

const Ledger& Session::ledger() const {
    static const Ledger empty;
    return m_prepared ? m_prepared->ledger : empty;
}

std::vector<Goad> Session::goads() const {
    std::vector<Goad> all;
    if (m_evidence) all = m_evidence->goads;
    // A check of the fit speaks for the ledger about columns in use.
    std::vector<std::string> used;
    if (m_evidence) {
        used = inputNames(m_recipe.terms);
        used.push_back(m_recipe.response);
    }
    if (!m_evidence) all = notedGoads(m_recipe);
    for (Goad& goad : ledger().goads()) {
        const bool there =
            std::any_of(all.begin(), all.end(), [&](const Goad& g) { return g.key == goad.key; });
        if (there || (!goad.column.empty() && std::find(used.begin(), used.end(), goad.column) != used.end()))
            continue;
        for (const AcceptedGoad& accepted : m_recipe.accepted)
            if (accepted.goad == goad.key) goad.accepted = accepted.reason;
        all.push_back(std::move(goad));
    }
    return all;
}

QString Session::unit(const std::string& column) const {
    const auto found = m_recipe.units.find(column);
    return found == m_recipe.units.end() ? QString() : qs(found->second);
}

QString Session::titled(const std::string& column) const {
    const QString name = unit(column);
    return name.isEmpty() ? qs(column) : qs(column) + ", " + name;
}

PasswordFor Session::passwordFor() const {
    return [passwords = m_passwords](const ServerPlace& place) {
        const auto found = passwords.find(keyOf(place));
        return found == passwords.end() ? std::string() : found->second;
    };
}

void Session::givePassword(const ServerPlace& place, const QString& password) {
    m_passwords[keyOf(place)] = ss(password);
    if (const auto again = std::exchange(m_afterPassword, {})) again();
}

void Session::start(const QString& title, Jobs::Work work, std::function<RowsPlan()> planOf,
                    std::function<void()> again) {
    m_jobs.start(title,
                 [this, work = std::move(work), planOf = std::move(planOf),
                  again = std::move(again)](Progress& progress) -> Jobs::Finish {
                     try {
                         return work(progress);
                     } catch (const Error& error) {
                         if (error.code() != ErrorCode::badPassword) throw;
                         for (const ServerPlace& place : serversOf(planOf()))
                             if (serverName(place) == error.where().file)
                                 return [this, again, place, why = qs(error.message())] {
                                     m_afterPassword = again;
                                     emit passwordWanted(place, why);
                                 };
                         throw;
                     }
                 });
}

Session::Evaluated Session::evaluated(const Recipe& recipe, const StudyRows& rows,
                                      std::shared_ptr<const PreparedRows> prepared, bool fit,
                                      Progress& progress, bool lookAtTest) {
    ProgressStage preparing(progress, 0, fit ? 0.3 : 1);
    if (!prepared || !isPreparedFor(*prepared, recipe, rows)) {
        prepared = prepareRows(recipe, rows, {}, preparing, prepared.get());
    } else {
        const bool sameForecast =
            prepared->rawForecast.has_value() == rows.forecast.has_value() &&
            (!rows.forecast ||
             (!rows.forecast->table.columns().empty() && !prepared->rawForecast->columns().empty() &&
              rows.forecast->table.columns()[0].sharesValues(prepared->rawForecast->columns()[0])));
        if (!sameForecast) prepared = withForecast(*prepared, recipe, rows, preparing);
    }
    Evaluated result{prepared, nullptr};
    if (!fit) return result;
    ProgressStage fitting(progress, 0.3, 1);
    result.evidence = std::make_shared<const Evidence>(
        evaluate(recipe, rows, *prepared, {.lookAtTest = lookAtTest}, fitting));
    return result;
}

void Session::open(const QString& path) {
    const QString suffix = QFileInfo(path).suffix().toLower();
    if (suffix == "oxgoad") {
        openProjectFile(path);
    } else if (suffix == "json") {
        openRecipe(path);
    } else {
        const fs::path file = fs::absolute(ss(path));
        RowsPlan plan;
        plan.file = file.filename().string();
        plan.kind = kindOfFile(file);
        if (plan.kind == SourceKind::sqlite) {
            emit failed(tr("%1 is a database: choose \"Rows from a database…\" and say what to read.")
                            .arg(qs(plan.file)));
            return;
        }
        openPlan(plan, qs(file.parent_path().string()));
    }
}

void Session::openProjectFile(const QString& path) {
    m_jobs.start(tr("Opening"), [this, path](Progress& progress) -> Jobs::Finish {
        ProgressStage opening(progress, 0, 0.4);
        auto project = std::make_shared<Project>(openProject(ss(path), opening));
        auto rows = std::make_shared<const StudyRows>(std::move(project->rows));
        ProgressStage fitting(progress, 0.4, 1);
        const TrailFit* fit = project->trail.find(project->current);
        const Evaluated result =
            evaluated(fit ? fit->recipe : project->recipe, *rows, nullptr, fit != nullptr, fitting);
        return [this, path, project, rows, result] {
            m_folder = project->folder;
            m_trail = project->trail;
            m_view = project->view;
            m_recipe = project->recipe;
            takeRows(rows);
            m_projectPath = path;
            showFit(project->current, result);
            setDirty(false);
            emit opened(path);
        };
    });
}

void Session::openRecipe(const QString& path) {
    start(
        tr("Opening"),
        [this, path, password = passwordFor()](Progress& progress) -> Jobs::Finish {
            const Recipe recipe = readRecipe(ss(path));
            const std::string folder = fs::absolute(ss(path)).parent_path().string();
            ProgressStage reading(progress, 0, 0.6);
            auto rows = std::make_shared<const StudyRows>(loadRows(recipe, folder, {}, reading, password));
            ProgressStage fitting(progress, 0.6, 1);
            const Evaluated result = evaluated(recipe, *rows, nullptr, true, fitting);
            return [this, path, recipe, folder, rows, result] {
                m_folder = folder;
                m_trail = Trail();
                m_recipe = recipe;
                m_view.clear();
                takeRows(rows);
                m_projectPath.clear();
                showFit(m_trail.add(recipe, *result.evidence, 0), result);
                setDirty(true);
                emit opened(path);
            };
        },
        [path] { return readRecipe(ss(path)).rows; }, [this, path] { openRecipe(path); });
}

void Session::openPlan(const RowsPlan& plan, const QString& folder) {
    start(
        tr("Reading"),
        [this, plan, folder = ss(folder), password = passwordFor()](Progress& progress) -> Jobs::Finish {
            ProgressStage reading(progress, 0, 0.8);
            auto rows = std::make_shared<StudyRows>();
            rows->learning = readRows(plan, folder, password, {}, reading);
            const Recipe recipe = startRecipe(plan, rows->learning.table);
            ProgressStage preparing(progress, 0.8, 1);
            const Evaluated result = evaluated(recipe, *rows, nullptr, false, preparing);
            return [this, folder, recipe, rows, result] {
                m_folder = folder;
                m_trail = Trail();
                m_recipe = recipe;
                m_view.clear();
                takeRows(rows);
                m_projectPath.clear();
                showFit(0, result);
                setDirty(true);
                emit opened(recipe.rows.kind == SourceKind::postgres
                                ? QString()
                                : qs((fs::path(folder) / recipe.rows.file).string()));
            };
        },
        [plan] { return plan; }, [this, plan, folder] { openPlan(plan, folder); });
}

void Session::paste(const QString& text) {
    if (text.trimmed().isEmpty()) {
        emit failed(tr("There is no text on the clipboard. Copy cells or lines somewhere first."));
        return;
    }
    const QByteArray bytes = text.toUtf8();
    const QString folder = QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) + "/pasted";
    const QString name =
        "pasted_" +
        QString::fromLatin1(QCryptographicHash::hash(bytes, QCryptographicHash::Sha256).toHex().left(12)) +
        ".txt";
    try {
        if (!QDir().mkpath(folder))
            throw Error(ErrorCode::cannotWrite, "the folder cannot be made", {.file = ss(folder)},
                        "Paste into a file and open that.");
        replaceFile(ss(folder + "/" + name), {bytes.constData(), static_cast<std::size_t>(bytes.size())});
    } catch (const Error& error) {
        emit failed(qs(error.what()));
        return;
    }
    RowsPlan plan;
    plan.file = ss(folder + "/" + name);
    openPlan(plan, folder);
}

void Session::takeRows(std::shared_ptr<const StudyRows> rows) {
    m_rows = std::move(rows);
    m_prepared.reset();
    m_recent.clear();
    m_back.clear();
    m_forward.clear();
    m_selectedRow.reset();
    m_marked.reset();
    m_markedCount = 0;
    m_lookedAt.reset();
    m_evidence.reset();
    m_current = 0;
}

void Session::remember(int fit, Evaluated evaluated) {
    std::erase_if(m_recent, [fit](const Recent& entry) { return entry.fit == fit; });
    m_recent.push_back({fit, std::move(evaluated)});
    if (m_recent.size() > recentEvidence) m_recent.erase(m_recent.begin());
}

const Session::Recent* Session::recent(int fit) const {
    const auto at = std::find_if(m_recent.begin(), m_recent.end(),
                                 [fit](const Recent& entry) { return entry.fit == fit; });
    return at == m_recent.end() ? nullptr : &*at;
}

void Session::showFit(int fit, Evaluated result) {
    m_current = fit;
    m_evidence = result.evidence;
    const bool otherRows = m_prepared != result.prepared;
    m_prepared = result.prepared;
    if (const TrailFit* entry = m_trail.find(fit)) m_recipe = entry->recipe;
    if (m_evidence) remember(fit, result);
    if (otherRows) emit rowsChanged();
    emit trailChanged();
    emit fitChanged();
}

void Session::change(const Recipe& recipe) {
    if (!m_rows) return;
    if (m_evidence && sameModel(recipe, m_recipe)) {
        if (recipe.chosen != m_recipe.chosen) takePath({recipe});
        return;
    }
    if (const TrailFit* made = m_evidence || !recipe.terms.empty() ? m_trail.findModel(recipe) : nullptr) {
        choose(made->number);
        return;
    }
    evaluateInto(recipe, rowsFor(recipe), m_current, true);
}

void Session::takePath(const std::vector<Recipe>& recipes) {
    if (!m_rows || recipes.empty()) return;
    m_jobs.start(tr("Fitting"),
                 [this, recipes, rows = rowsFor(recipes.back()),
                  prepared = m_prepared](Progress& progress) -> Jobs::Finish {
                     std::vector<Evaluated> results;
                     for (std::size_t i = 0; i < recipes.size(); ++i) {
                         const auto n = static_cast<double>(recipes.size());
                         ProgressStage stage(progress, static_cast<double>(i) / n,
                                             static_cast<double>(i + 1) / n);
                         results.push_back(evaluated(recipes[i], *rows, prepared, true, stage));
                     }
                     return [this, recipes, results] {
                         m_back.push_back({m_current, m_recipe});
                         m_forward.clear();
                         int parent = m_current;
                         for (std::size_t i = 0; i < recipes.size(); ++i) {
                             const TrailFit* made = m_trail.findModel(recipes[i]);
                             const int fit =
                                 made ? made->number : m_trail.add(recipes[i], *results[i].evidence, parent);
                             if (made && i + 1 == recipes.size()) m_trail.updateNotes(fit, recipes[i]);
                             remember(fit, results[i]);
                             parent = fit;
                         }
                         m_recipe = recipes.back();
                         showFit(parent, results.back());
                         setDirty(true);
                     };
                 });
}

void Session::setSteps(std::vector<Step> steps) {
    Recipe recipe = m_recipe;
    recipe.steps = std::move(steps);
    change(recipe);
}

void Session::addStep(const Step& step) {
    Recipe recipe = m_recipe;
    recipe.steps.push_back(step);
    change(recipe);
}

void Session::setRole(const std::string& column, Role role) {
    const auto counts = [](Role r) { return r == Role::weight || r == Role::offset; };
    if (counts(role) || counts(roleOf(m_recipe, column))) { // another model, not only another ledger
        Recipe recipe = m_recipe;
        if (counts(role)) // one column has it
            std::erase_if(recipe.roles, [&](const auto& has) { return has.second == role; });
        recipe.roles.erase(column);
        if (role != Role::predictor) recipe.roles[column] = role;
        change(recipe);
        return;
    }
    if (role == Role::predictor)
        m_recipe.roles.erase(column);
    else
        m_recipe.roles[column] = role;
    if (m_current != 0) m_trail.updateNotes(m_current, m_recipe);
    // What is odd about a column depends on its role.
    m_jobs.start(tr("Counting"),
                 [this, recipe = m_recipe, rows = rowsFor(m_recipe), prepared = m_prepared,
                  fit = m_evidence != nullptr](Progress& progress) -> Jobs::Finish {
                     const Evaluated result = evaluated(recipe, *rows, prepared, fit, progress);
                     return [this, result] {
                         m_recent.clear();
                         showFit(m_current, result);
                         setDirty(true);
                     };
                 });
    setDirty(true);
}

void Session::setUnit(const std::string& column, const std::string& unit) {
    if (unit.empty())
        m_recipe.units.erase(column);
    else
        m_recipe.units[column] = unit;
    if (m_current != 0) m_trail.updateNotes(m_current, m_recipe);
    emit trailChanged();
    emit fitChanged();
    setDirty(true);
}

int Session::describeStep(const std::vector<Step>& steps, std::size_t index) {
    const int ticket = ++m_ticket;
    if (!m_prepared) return ticket;
    m_viewJobs.start(
        tr("Comparing"),
        [this, ticket, steps, index, prepared = m_prepared](Progress& progress) -> Jobs::Finish {
            StepOutcome outcome;
            auto effect =
                std::make_shared<StepEffect>(stepEffect(*prepared, index, steps, progress, &outcome));
            return [this, ticket, effect, outcome] { emit stepDescribed(ticket, *effect, outcome); };
        });
    return ticket;
}

void Session::lookAtTest() {
    if (!m_evidence || m_evidence->rowsTest == 0 || m_current == 0) return;
    m_jobs.start(tr("Scoring test rows"),
                 [this, fit = m_current, recipe = m_recipe, rows = rowsFor(m_recipe),
                  prepared = m_prepared](Progress& progress) -> Jobs::Finish {
                     const Evaluated result = evaluated(recipe, *rows, prepared, true, progress, true);
                     return [this, fit, result] {
                         m_trail.lookAtTest(fit);
                         showFit(fit, result);
                         setDirty(true);
                     };
                 });
}

std::shared_ptr<const StudyRows> Session::rowsFor(const Recipe& recipe) const {
    if (recipe.forecast || !m_rows->forecast) return m_rows;
    auto rows = std::make_shared<StudyRows>(*m_rows);
    rows->forecast.reset();
    return rows;
}

void Session::evaluateInto(const Recipe& recipe, std::shared_ptr<const StudyRows> rows, int parent,
                           bool rememberStep) {
    // A mean alone is a model too, but only when it was asked for after terms.
    const bool fit = !recipe.terms.empty() || m_evidence;
    m_jobs.start(fit ? tr("Fitting") : tr("Preparing"),
                 [this, recipe, rows, parent, rememberStep, fit,
                  prepared = m_prepared](Progress& progress) -> Jobs::Finish {
                     const Evaluated result = evaluated(recipe, *rows, prepared, fit, progress);
                     return [this, recipe, parent, rememberStep, result] {
                         if (rememberStep) {
                             m_back.push_back({m_current, m_recipe});
                             m_forward.clear();
                         }
                         m_recipe = recipe;
                         showFit(result.evidence ? m_trail.add(recipe, *result.evidence, parent) : 0, result);
                         setDirty(true);
                     };
                 });
}

void Session::choose(int fit) {
    if (fit == m_current || !m_trail.find(fit)) return;
    m_back.push_back({m_current, m_recipe});
    m_forward.clear();
    goTo({fit, m_trail.find(fit)->recipe});
    setDirty(true);
}

void Session::goTo(const State& state) {
    if (state.fit != 0)
        if (const Recent* at = recent(state.fit)) {
            showFit(state.fit, at->evaluated);
            return;
        }
    const TrailFit* entry = m_trail.find(state.fit);
    const Recipe recipe = entry ? entry->recipe : state.recipe;
    m_jobs.start(tr("Fitting"),
                 [this, fit = state.fit, recipe, rows = rowsFor(recipe),
                  prepared = m_prepared](Progress& progress) -> Jobs::Finish {
                     const Evaluated result = evaluated(recipe, *rows, prepared, fit != 0, progress);
                     return [this, fit, recipe, result] {
                         m_recipe = recipe;
                         if (result.evidence) m_trail.renew(fit, *result.evidence);
                         showFit(fit, result);
                     };
                 });
}

std::shared_ptr<const Evidence> Session::evidenceOf(int fit) {
    if (fit == m_current) return m_evidence;
    if (const Recent* at = recent(fit)) return at->evaluated.evidence;
    const TrailFit* entry = m_trail.find(fit);
    if (!entry) return nullptr;
    m_sideJobs.start(tr("Fitting"),
                     [this, fit, recipe = entry->recipe, rows = rowsFor(entry->recipe),
                      prepared = m_prepared](Progress& progress) -> Jobs::Finish {
                         const Evaluated result = evaluated(recipe, *rows, prepared, true, progress);
                         return [this, fit, result] {
                             remember(fit, result);
                             emit evidenceReady(fit);
                         };
                     });
    return nullptr;
}

void Session::undo() {
    if (m_back.empty()) return;
    const State state = m_back.back();
    m_back.pop_back();
    m_forward.push_back({m_current, m_recipe});
    goTo(state);
    setDirty(true);
}

void Session::redo() {
    if (m_forward.empty()) return;
    const State state = m_forward.back();
    m_forward.pop_back();
    m_back.push_back({m_current, m_recipe});
    goTo(state);
    setDirty(true);
}

void Session::readAgain(const RowsPlan& plan) {
    if (!m_rows) return;
    Recipe recipe = m_recipe;
    recipe.rows = plan;
    start(
        tr("Reading"),
        [this, recipe, folder = m_folder, before = m_rows,
         password = passwordFor()](Progress& progress) -> Jobs::Finish {
            ProgressStage reading(progress, 0, 0.6);
            auto rows = std::make_shared<const StudyRows>(loadRows(recipe, folder, {}, reading, password));
            ProgressStage comparing(progress, 0.6, 0.7);
            QStringList changes;
            for (const auto& sentence :
                 compareReadings(before->learning.table, rows->learning.table, comparing).sentences())
                changes << qs(sentence);
            // Read otherwise, the columns may have other names: without the response it is a start like any
            // other.
            Recipe next = recipe;
            ProgressStage fitting(progress, 0.7, 1);
            // Rows left out by hand are row numbers; of other rows they would be others.
            if (before->learning.table.rows() != rows->learning.table.rows())
                std::erase_if(next.leaveOut,
                              [&](const LeftOutRow& row) { return row.row > rows->learning.table.rows(); });
            Evaluated result = evaluated(next, *rows, nullptr, false, fitting);
            const bool same = result.prepared->table.find(recipe.response) != nullptr;
            if (!same) {
                next = startRecipe(recipe.rows, rows->learning.table);
                result = evaluated(next, *rows, nullptr, false, fitting);
            } else if (!next.terms.empty()) {
                result = evaluated(next, *rows, result.prepared, true, fitting);
            }
            return [this, recipe = next, rows, result, changes] {
                const int parent = m_current;
                m_recipe = recipe;
                // Fits of the trail were made from other values: those that stay keep their numbers but are
                // worked out anew when they are chosen.
                takeRows(rows);
                m_trail.rowsWereReadAgain();
                const TrailFit* made = result.evidence ? m_trail.findModel(recipe) : nullptr;
                if (made) m_trail.renew(made->number, *result.evidence);
                showFit(made              ? made->number
                        : result.evidence ? m_trail.add(recipe, *result.evidence, parent)
                                          : 0,
                        result);
                setDirty(true);
                emit rowsCompared(changes);
            };
        },
        [plan] { return plan; }, [this, plan] { readAgain(plan); });
}

void Session::chooseForecast(const QString& path) {
    if (!m_rows || m_recipe.response.empty()) return;
    Recipe recipe = m_recipe;
    const fs::path file = fs::absolute(ss(path));
    std::error_code failure;
    const fs::path relative = fs::relative(file, m_folder, failure);
    ForecastRequest request;
    request.file =
        failure || relative.empty() || *relative.begin() == ".." ? file.string() : relative.string();
    request.kind = kindOfFile(file);
    request.level = recipe.forecast ? recipe.forecast->level : 0.95;
    recipe.forecast = request;
    m_jobs.start(tr("Forecasting"),
                 [this, recipe, rows = m_rows, folder = m_folder,
                  prepared = m_prepared](Progress& progress) -> Jobs::Finish {
                     ProgressStage reading(progress, 0, 0.5);
                     auto next = std::make_shared<StudyRows>(*rows);
                     next->forecast = loadForecastRows(recipe, rows->learning.table, folder, {}, reading);
                     ProgressStage fitting(progress, 0.5, 1);
                     const Evaluated result =
                         evaluated(recipe, *next, prepared, !recipe.terms.empty(), fitting);
                     return [this, recipe, next, result] {
                         m_rows = next;
                         m_recent.clear();
                         if (result.evidence && !sameModel(recipe, m_recipe)) {
                             m_back.push_back({m_current, m_recipe});
                             m_forward.clear();
                             showFit(m_trail.add(recipe, *result.evidence, m_current), result);
                         } else {
                             m_recipe = recipe;
                             showFit(m_current, result);
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

void Session::markRows(const std::vector<std::size_t>& rows, bool add) {
    std::vector<std::uint8_t> mask =
        add && m_marked ? *m_marked : std::vector<std::uint8_t>(table().rows(), 0);
    for (const std::size_t row : rows)
        if (row < mask.size()) mask[row] = 1;
    m_markedCount = static_cast<std::size_t>(std::count(mask.begin(), mask.end(), 1));
    m_marked =
        m_markedCount > 0 ? std::make_shared<const std::vector<std::uint8_t>>(std::move(mask)) : nullptr;
    emit selectionChanged();
}

void Session::leaveOutMarked(const std::string& reason) {
    if (!m_marked) return;
    Recipe recipe = m_recipe;
    std::vector<std::uint8_t> known(m_marked->size(), 0);
    for (const LeftOutRow& out : recipe.leaveOut)
        if (out.row >= 1 && out.row <= known.size()) known[out.row - 1] = 1;
    for (std::size_t i = 0; i < known.size(); ++i)
        if ((*m_marked)[i] != 0 && known[i] == 0) recipe.leaveOut.push_back({i + 1, reason});
    markRows({}, false);
    change(recipe);
}

void Session::lookAtOnlyMarked() {
    if (!m_marked) return;
    m_lookedAt = m_marked;
    emit lookedAtChanged();
}

void Session::lookAtAllRows() {
    if (!m_lookedAt) return;
    m_lookedAt.reset();
    emit lookedAtChanged();
}

void Session::note(const std::string& column, const std::string& says) {
    if (!m_rows || says.empty()) return;
    const NotedGoad made{column, says};
    if (std::find(m_recipe.noted.begin(), m_recipe.noted.end(), made) != m_recipe.noted.end()) return;
    m_recipe.noted.push_back(made);
    showNotes();
}

void Session::dropNote(const std::string& column, const std::string& says) {
    std::erase(m_recipe.noted, NotedGoad{column, says});
    showNotes();
}

void Session::showNotes() {
    setDirty(true);
    if (!m_evidence) {
        emit fitChanged();
        return;
    }
    auto next = std::make_shared<Evidence>(*m_evidence);
    std::erase_if(next->goads, [](const Goad& goad) { return goad.key.starts_with("noted: "); });
    for (Goad& goad : notedGoads(m_recipe))
        next->goads.push_back(std::move(goad));
    m_trail.updateNotes(m_current, m_recipe);
    showFit(m_current, {m_prepared, next});
}

void Session::acceptGoad(const std::string& key, const std::string& reason) {
    if (!m_rows) return;
    std::erase_if(m_recipe.accepted, [&](const AcceptedGoad& a) { return a.goad == key; });
    m_recipe.accepted.push_back({key, reason});
    if (!m_evidence) {
        emit fitChanged();
        setDirty(true);
        return;
    }
    auto next = std::make_shared<Evidence>(*m_evidence);
    for (Goad& goad : next->goads)
        if (goad.key == key) goad.accepted = reason;
    m_trail.updateNotes(m_current, m_recipe);
    showFit(m_current, {m_prepared, next});
    setDirty(true);
}

void Session::takeBackAcceptance(const std::string& key) {
    std::erase_if(m_recipe.accepted, [&](const AcceptedGoad& a) { return a.goad == key; });
    if (!m_evidence) {
        emit fitChanged();
        setDirty(true);
        return;
    }
    auto next = std::make_shared<Evidence>(*m_evidence);
    for (Goad& goad : next->goads)
        if (goad.key == key) goad.accepted.reset();
    m_trail.updateNotes(m_current, m_recipe);
    showFit(m_current, {m_prepared, next});
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
