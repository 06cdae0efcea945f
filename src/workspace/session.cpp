#include "workspace/session.h"

#include "study/fold_evidence.h"
#include "study/model_goads.h"
#include "study/preview_move.h"
#include "workspace/text.h"

#include <algorithm>
#include <atomic>
#include <chrono>

namespace oxgoad {

namespace {

constexpr std::size_t recentEvidence = 8;

bool isNoted(const Goad& goad) {
    return goad.noted;
}

} // namespace

Session::Session(QObject* parent)
    : QObject(parent), m_jobs(this), m_sideJobs(this), m_viewJobs(this), m_saveJobs(this), m_lookJobs(this),
      m_rankJobs(this), m_helpJobs(this), m_chooseJobs(this), m_effectJobs(this), m_pathJobs(this),
      m_curveJobs(this), m_compareJobs(this), m_foldJobs(this), m_checkJobs(this), m_previewJobs(this) {
    for (Jobs* jobs : {&m_jobs, &m_sideJobs, &m_viewJobs, &m_saveJobs, &m_lookJobs, &m_rankJobs, &m_helpJobs,
                       &m_chooseJobs, &m_effectJobs, &m_pathJobs, &m_curveJobs, &m_compareJobs, &m_foldJobs,
                       &m_checkJobs, &m_previewJobs})
        connect(jobs, &Jobs::failed, this, &Session::failed);
    connect(&m_saveJobs, &Jobs::busyChanged, this, [this](bool busy) {
        if (!busy) startNextSave();
    });
}

const Table& Session::table() const {
    static const Table empty;
    return m_prepared ? m_prepared->table : empty;
}

const Ledger& Session::ledger() const {
    static const Ledger empty;
    return m_prepared ? m_prepared->ledger : empty;
}

Session::Goads Session::goads() const {
    Goads goads;
    std::vector<std::string> used;
    if (m_evidence) {
        // A check of the fit speaks for the ledger about columns in use.
        used = inputNames(m_recipe.terms);
        used.push_back(m_recipe.response);
        for (const Goad& goad : m_evidence->goads)
            if (!isNoted(goad)) goads.all.push_back(goad);
    }
    for (Goad& goad : notedGoads(m_recipe))
        goads.all.push_back(std::move(goad));
    goads.ofTheFit = goads.all.size();
    for (Goad& goad : ledger().goads()) {
        const bool there =
            std::any_of(goads.all.begin(), goads.all.end(), [&](const Goad& g) { return g.key == goad.key; });
        if (there || (!goad.column.empty() && std::find(used.begin(), used.end(), goad.column) != used.end()))
            continue;
        // A few missing values of a column that no model reads can wait until one does.
        constexpr double few = 0.05;
        const LedgerLine* line = ledger().find(goad.column);
        if (line && goad.column != m_recipe.response && goad.key.starts_with("missing: ") &&
            static_cast<double>(line->summary.missing) < few * static_cast<double>(line->summary.rows))
            continue;
        goads.all.push_back(std::move(goad));
    }
    for (Goad& goad : goads.all)
        markAccepted(m_recipe, goad);
    // What stood under one that is accepted now stands by itself, or under the next.
    std::vector<Goad> own(
        std::make_move_iterator(goads.all.begin()),
        std::make_move_iterator(goads.all.begin() + static_cast<std::ptrdiff_t>(goads.ofTheFit)));
    gatherUnder(own);
    std::move(own.begin(), own.end(), goads.all.begin());
    tellColumnsTogether(goads.all, goads.ofTheFit);
    return goads;
}

QString Session::unit(const std::string& column) const {
    const auto found = m_recipe.units.find(column);
    return found == m_recipe.units.end() ? QString() : qs(found->second);
}

QString Session::titled(const std::string& column) const {
    const QString name = unit(column);
    return name.isEmpty() ? qs(column) : qs(column) + ", " + name;
}

void Session::takeProject() {
    ++m_project;
    m_view.clear();
    m_projectPath.clear();
}

void Session::takeRows(std::shared_ptr<const StudyRows> rows, std::optional<RowsSource> forecastOf) {
    // What is worked out of the rows before must not be taken for an answer of these.
    for (Jobs* jobs :
         {&m_sideJobs, &m_viewJobs, &m_lookJobs, &m_rankJobs, &m_helpJobs, &m_chooseJobs, &m_effectJobs,
          &m_pathJobs, &m_curveJobs, &m_compareJobs, &m_foldJobs, &m_checkJobs, &m_previewJobs})
        jobs->drop();
    m_previews.clear();
    m_foldsSoFar.reset();
    m_rows = std::move(rows);
    m_forecastOf = std::move(forecastOf);
    m_prepared.reset();
    m_recent.clear();
    m_studies.clear();
    m_edits.clear();
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
    if (evaluated.evidence) {
        m_studies[fit] = evaluated.evidence->study;
        // Old ones go when all together are of more rows than this.
        constexpr std::size_t mostRows = 4000000;
        std::size_t rows = 0;
        for (const auto& [number, study] : m_studies)
            rows += study->rows.size();
        for (auto at = m_studies.begin(); at != m_studies.end() && rows > mostRows;) {
            if (at->first == fit || at->first == m_current) {
                ++at;
                continue;
            }
            rows -= at->second->rows.size();
            at = m_studies.erase(at);
        }
    }
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
    m_previews.clear();
    m_previewJobs.drop();
    const bool otherRows = m_prepared != result.prepared;
    m_prepared = result.prepared;
    if (const TrailFit* entry = m_trail.find(fit)) m_recipe = entry->recipe;
    if (m_evidence) remember(fit, result);
    startFolds();
    if (otherRows) emit rowsChanged();
    emit trailChanged();
    emit fitChanged();
}

void Session::startFolds() {
    m_foldsSoFar.reset();
    m_foldJobs.drop();
    m_checkJobs.drop();
    if (!m_evidence || !m_recipe.judge || m_evidence->folds || !m_prepared) {
        startChecks();
        return;
    }
    if (std::any_of(m_evidence->goads.begin(), m_evidence->goads.end(),
                    [](const Goad& goad) { return goad.key == unjudgedKey; })) {
        startChecks(); // it was tried, and the goad says why not
        return;
    }
    // A stop throws away the job's answer, and this is where it is kept.
    const auto kept = std::make_shared<std::shared_ptr<const Evidence>>();
    const auto work = [this, kept, of = m_evidence, recipe = m_recipe, rows = m_rows,
                       prepared = m_prepared](Progress& progress) -> Jobs::Finish {
        JudgeOptions options;
        auto told = std::chrono::steady_clock::now();
        options.soFar = [this, of, told](const FoldEvidence& folds) mutable {
            const auto now = std::chrono::steady_clock::now();
            if (now - told < std::chrono::milliseconds(200)) return;
            told = now;
            QMetaObject::invokeMethod(
                this,
                [this, of, folds = std::make_shared<const FoldEvidence>(folds)] {
                    if (m_evidence != of || !m_foldJobs.busy()) return;
                    m_foldsSoFar = folds;
                    emit foldsProgressed();
                },
                Qt::QueuedConnection);
        };
        *kept = std::make_shared<const Evidence>(withFolds(*of, recipe, *rows, *prepared, options, progress));
        return [this, of, judged = *kept] { takeFolds(of, judged); };
    };
    m_foldJobs.start(tr("Judging by folds"), work, [this, kept, of = m_evidence](bool stopped) {
        m_foldsSoFar.reset();
        if (stopped && *kept)
            takeFolds(of, *kept);
        else if (m_evidence == of)
            startChecks();
        emit foldsProgressed();
    });
}

void Session::takeFolds(const std::shared_ptr<const Evidence>& of,
                        const std::shared_ptr<const Evidence>& judged) {
    m_foldsSoFar.reset();
    if (m_evidence != of) return; // another fit is shown by now
    m_evidence = judged;
    if (m_trail.find(m_current)) m_trail.renew(m_current, *judged);
    remember(m_current, {m_prepared, judged});
    startChecks();
    emit trailChanged();
    emit fitChanged();
}

void Session::startChecks() {
    m_checkJobs.drop();
    if (!m_evidence || !m_prepared || !checksPending(*m_evidence)) return;
    const auto of = m_evidence;
    // What is shown of this fit; replaced as checks end, and by nobody else.
    const auto shown = std::make_shared<std::shared_ptr<const Evidence>>(of);
    const auto show = [this, shown](const std::shared_ptr<const Evidence>& checked) {
        if (m_evidence != *shown) return; // another fit is shown by now
        m_evidence = *shown = checked;
        if (m_trail.find(m_current)) m_trail.renew(m_current, *checked);
        remember(m_current, {m_prepared, checked});
        emit trailChanged();
        emit fitChanged();
    };
    m_checkJobs.start(tr("Checking"),
                      [this, show, of, recipe = m_recipe, rows = m_rows,
                       prepared = m_prepared](Progress& progress) -> Jobs::Finish {
                          const ChecksSoFar soFar = [this, show](const Evidence& found) {
                              auto checked = std::make_shared<const Evidence>(found);
                              QMetaObject::invokeMethod(
                                  this,
                                  [this, show, checked] {
                                      if (m_checkJobs.busy()) show(checked);
                                  },
                                  Qt::QueuedConnection);
                          };
                          auto checked = std::make_shared<const Evidence>(
                              withChecks(*of, recipe, *rows, *prepared, {}, progress, soFar));
                          return [show, checked] { show(checked); };
                      });
}

void Session::previewMoves(const Goad& goad) {
    if (!m_evidence || !m_prepared) return;
    std::vector<Move> wanted;
    for (const Move& move : goad.moves) {
        if (!move.edit) continue;
        const auto known = m_previews.find({goad.key, move.label});
        if (known != m_previews.end())
            emit movePreviewed(qs(goad.key), qs(move.label), known->second);
        else
            wanted.push_back(move);
    }
    if (wanted.empty()) return;
    m_previewJobs.start(
        tr("Working out what it would change"),
        [this, key = goad.key, wanted, of = m_evidence, recipe = m_recipe, rows = m_rows,
         prepared = m_prepared](Progress& progress) -> Jobs::Finish {
            std::vector<std::pair<std::string, QString>> told;
            for (std::size_t i = 0; i < wanted.size(); ++i) {
                const auto n = static_cast<double>(wanted.size());
                ProgressStage stage(progress, static_cast<double>(i) / n, static_cast<double>(i + 1) / n);
                told.emplace_back(wanted[i].label, qs(previewText(previewMove(*of, recipe, *rows, *prepared,
                                                                              wanted[i], {}, stage))));
            }
            return [this, key, of, told] {
                if (!m_evidence || m_evidence->study != of->study) return;
                for (const auto& [label, text] : told) {
                    m_previews[{key, label}] = text;
                    emit movePreviewed(qs(key), qs(label), text);
                }
            };
        });
}

void Session::openRow(std::size_t row) {
    selectRow(row);
    if (m_selectedRow) emit rowOpened(row);
}

void Session::putBack(std::size_t row) {
    Recipe recipe = draft();
    std::erase_if(recipe.leaveOut, [&](const LeftOutRow& left) { return left.row == row + 1; });
    change(recipe);
}

void Session::dealAgain(int repeats) {
    Recipe recipe = draft();
    if (!recipe.judge || !recipe.judge->repeatsWell()) return;
    recipe.judge->repeats = repeats;
    change(recipe);
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
    Recipe recipe = draft();
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
    annotate([made = NotedGoad{column, says}](Recipe& recipe) {
        if (std::find(recipe.noted.begin(), recipe.noted.end(), made) == recipe.noted.end())
            recipe.noted.push_back(made);
    });
}

void Session::renameFit(int fit, const std::string& name) {
    if (!m_trail.find(fit)) return;
    m_trail.rename(fit, name);
    setDirty();
    emit trailChanged();
}

void Session::noteFit(int fit, const std::string& note) {
    if (!m_trail.find(fit)) return;
    m_trail.annotate(fit, note);
    setDirty();
    emit trailChanged();
}

void Session::pinFit(int fit, bool pinned) {
    if (!m_trail.find(fit)) return;
    m_trail.pin(fit, pinned);
    setDirty();
    emit trailChanged();
}

void Session::pruneFit(int fit, bool pruned) {
    const TrailFit* entry = m_trail.find(fit);
    if (!entry) return;
    // What is shown cannot be out of sight: the fit it came from is shown instead.
    const int parent = entry->parent;
    const bool leaves = pruned && fit == m_current && m_trail.find(parent);
    if (m_trail.prune(fit, pruned, leaves ? parent : m_current) == 0) return;
    setDirty();
    if (leaves) choose(parent);
    emit trailChanged();
}

void Session::dropNote(const std::string& column, const std::string& says) {
    annotate([made = NotedGoad{column, says}](Recipe& recipe) { std::erase(recipe.noted, made); });
}

void Session::acceptGoad(const std::string& key, const std::string& reason) {
    if (!m_rows) return;
    std::optional<double> size;
    for (const Goad& goad : goads().all)
        if (goad.key == key) size = goad.size;
    annotate([made = AcceptedGoad{key, reason, size}](Recipe& recipe) {
        std::erase_if(recipe.accepted, [&](const AcceptedGoad& a) { return a.goad == made.goad; });
        recipe.accepted.push_back(made);
    });
}

void Session::takeBackAcceptance(const std::string& key) {
    annotate([key](Recipe& recipe) {
        std::erase_if(recipe.accepted, [&](const AcceptedGoad& a) { return a.goad == key; });
    });
}

void Session::setUnit(const std::string& column, const std::string& unit) {
    annotate([column, unit](Recipe& recipe) {
        if (unit.empty())
            recipe.units.erase(column);
        else
            recipe.units[column] = unit;
    });
}

void Session::save(const QString& path, bool over) {
    if (!m_rows) return;
    if (const FileStamp now = stampOf(ss(path)); path == m_projectPath && !over && !m_saveJobs.busy() &&
                                                 now.exists && m_projectStamp.exists &&
                                                 now != m_projectStamp) {
        emit changedMeanwhile(path);
        return;
    }
    auto project = std::make_shared<Project>();
    project->trail = m_trail;
    project->current = m_current;
    project->recipe = draft();
    project->folder = m_folder;
    project->view = m_view;
    project->rows = *m_rows;
    project->studies = m_studies;
    // The rows to be forecast belong to the recipe that is kept; others are read again from their file.
    const auto& forecast = project->recipe.forecast;
    if (!forecast || !m_forecastOf || static_cast<const RowsSource&>(*forecast) != *m_forecastOf)
        project->rows.forecast.reset();
    // One of the same name that has not begun would only be written over.
    std::erase_if(m_saves, [&](const Save& waiting) { return waiting.path == path; });
    m_saves.push_back({path, std::move(project), m_revision, m_project});
    startNextSave();
}

void Session::startNextSave() {
    if (m_saves.empty() || m_saveJobs.busy()) return;
    const Save save = m_saves.front();
    m_saves.pop_front();
    const auto written = std::make_shared<std::atomic<bool>>(false);
    const auto done = [this, save] {
        if (save.of == m_project) {
            m_projectPath = save.path;
            m_projectStamp = stampOf(ss(save.path));
            setSaved(save.revision);
        }
        emit saved(save.path);
    };
    m_saveJobs.start(
        tr("Saving"),
        [save, written, done](Progress& progress) -> Jobs::Finish {
            saveProject(ss(save.path), *save.project, progress);
            *written = true;
            return done;
        },
        // A stop that came too late: the file is there.
        [written, done](bool) {
            if (*written) done();
        });
}

void Session::touch() {
    setDirty();
}

void Session::setDirty() {
    const bool before = dirty();
    ++m_revision;
    if (!before) emit dirtyChanged();
}

void Session::setSaved(std::uint64_t revision) {
    const bool before = dirty();
    m_savedRevision = revision;
    if (before != dirty()) emit dirtyChanged();
}

std::shared_ptr<const Evidence> Session::evidenceOf(int fit) {
    if (fit == m_current) return m_evidence;
    const TrailFit* entry = m_trail.find(fit);
    // A fit made on the way may not have its folds yet.
    if (const Recent* at = recent(fit);
        at && (at->evaluated.evidence->folds || !entry || !entry->recipe.judge))
        return at->evaluated.evidence;
    if (!entry) return nullptr;
    m_sideJobs.start(tr("Fitting"),
                     [this, fit, recipe = entry->recipe, rows = m_rows, forecastOf = m_forecastOf,
                      folder = m_folder, password = passwordFor(), prepared = m_prepared,
                      known = knownOf(fit)](Progress& progress) -> Jobs::Finish {
                         const auto own = rowsFor(recipe, rows, forecastOf, folder, password, progress);
                         const Evaluated result = evaluated(recipe, *own, prepared, true, progress, known,
                                                            false, EvaluateOptions::Folds::now);
                         return [this, fit, result] {
                             remember(fit, result);
                             if (const TrailFit* shown = m_trail.find(fit); shown && !shown->earlierRows) {
                                 m_trail.renew(fit, *result.evidence);
                                 emit trailChanged();
                             }
                             emit evidenceReady(fit);
                         };
                     });
    return nullptr;
}

Session::Known Session::knownOf(int fit) const {
    const auto kept = m_studies.find(fit);
    return {kept == m_studies.end() ? nullptr : kept->second, m_evidence};
}

} // namespace oxgoad
