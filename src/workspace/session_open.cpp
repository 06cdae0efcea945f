// Opening projects, recipes and rows, and the passwords that takes.
#include "base/file.h"
#include "workspace/session.h"
#include "workspace/start_recipe.h"
#include "workspace/text.h"

#include <QCryptographicHash>
#include <QDir>
#include <QFileInfo>
#include <QStandardPaths>
#include <filesystem>

namespace oxgoad {

namespace fs = std::filesystem;

namespace {

std::string keyOf(const ServerPlace& place) {
    return place.user + "@" + place.host + ":" + std::to_string(place.port) + "/" + place.database;
}

/// The source of the rows to be forecast, if there are such rows.
std::optional<RowsSource> forecastSource(const Recipe& recipe, const StudyRows& rows) {
    if (!recipe.forecast || !rows.forecast) return std::nullopt;
    return static_cast<const RowsSource&>(*recipe.forecast);
}

} // namespace

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

void Session::withoutPassword() {
    m_afterPassword = {};
    if (m_edits.empty()) return;
    editFailed(m_edits.back().readRows ? Stage::rows : Stage::forecast);
}

Jobs::Work Session::askingForPasswords(Jobs::Work work, std::function<RowsPlan()> planOf,
                                       std::function<void()> again) {
    return [this, work = std::move(work), planOf = std::move(planOf),
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
    };
}

void Session::startOpening(const QString& title, Jobs::Work work) {
    m_opening = true;
    m_jobs.start(
        title,
        [this, work = std::move(work)](Progress& progress) -> Jobs::Finish {
            Jobs::Finish finish = work(progress);
            return [this, finish = std::move(finish)] {
                m_opening = false;
                finish();
            };
        },
        [this](bool) {
            m_opening = false;
            if (!m_edits.empty()) startEdit();
        });
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

Session::Known Session::keptStudy(const Project& project) {
    const auto kept = project.studies.find(project.current);
    return {kept == project.studies.end() ? nullptr : kept->second, nullptr};
}

void Session::openProjectFile(const QString& path) {
    startOpening(tr("Opening"), [this, path](Progress& progress) -> Jobs::Finish {
        ProgressStage opening(progress, 0, 0.4);
        std::shared_ptr<Project> project;
        const FileStamp stamp = stampOf(ss(path));
        try {
            project = std::make_shared<Project>(openProject(ss(path), opening));
        } catch (const Error& error) {
            if (error.code() != ErrorCode::damagedProject) throw;
            return [this, path, why = qs(error.what())] { emit damaged(path, why); };
        }
        ProgressStage fitting(progress, 0.4, 1);
        const TrailFit* fit = project->trail.find(project->current);
        const auto rows = std::make_shared<const StudyRows>(std::move(project->rows));
        const Evaluated result = evaluated(fit ? fit->recipe : project->recipe, *rows, nullptr,
                                           fit != nullptr, fitting, keptStudy(*project));
        return [this, path, project, rows, result, stamp] {
            takeOpened(*project, rows, result);
            m_projectPath = path;
            m_projectStamp = stamp;
            setSaved(m_revision);
            emit opened(path);
            // An edit that was being worked out when the project was saved.
            const TrailFit* shown = m_trail.find(project->current);
            const bool same =
                shown ? sameModel(shown->recipe, project->recipe) : project->recipe.terms.empty();
            if (!same) change(project->recipe);
        };
    });
}

void Session::takeOpened(const Project& project, const std::shared_ptr<const StudyRows>& rows,
                         const Evaluated& result) {
    m_folder = project.folder;
    m_trail = project.trail;
    m_recipe = project.recipe;
    takeProject();
    m_view = project.view;
    takeRows(rows, forecastSource(project.recipe, *rows));
    m_studies = project.studies;
    showFit(project.current, result);
}

void Session::openSalvaged(const QString& path) {
    startOpening(tr("Opening"), [this, path](Progress& progress) -> Jobs::Finish {
        ProgressStage opening(progress, 0, 0.4);
        const auto found = std::make_shared<Salvaged>(salvageProject(ss(path), opening));
        Project& project = found->project;
        const auto rows = std::make_shared<const StudyRows>(std::move(project.rows));
        const TrailFit* fit = project.trail.find(project.current);
        if (fit) project.recipe = fit->recipe;
        ProgressStage fitting(progress, 0.4, 1);
        Evaluated result;
        try {
            result = evaluated(project.recipe, *rows, nullptr, fit != nullptr, fitting, keptStudy(project));
        } catch (const Error&) { // its columns are among what is lost
            project.current = 0;
            project.recipe = startRecipe(project.recipe.rows, rows->learning);
            result = evaluated(project.recipe, *rows, nullptr, false, fitting, {});
        }
        return [this, path, found, rows, result] {
            takeOpened(found->project, rows, result);
            setDirty();
            emit opened(QString());
            QStringList lost;
            for (const std::string& part : found->lost)
                lost << qs(part);
            emit failed(tr("Opened as a copy what is whole of %1; lost: %2. Save it under another name.")
                            .arg(QFileInfo(path).fileName(), lost.join("; ")));
        };
    });
}

void Session::openRecipe(const QString& path) {
    startOpening(tr("Opening"),
                 askingForPasswords(
                     [this, path, password = passwordFor()](Progress& progress) -> Jobs::Finish {
                         const Recipe recipe = readRecipe(ss(path));
                         const std::string folder = fs::absolute(ss(path)).parent_path().string();
                         ProgressStage reading(progress, 0, 0.6);
                         auto rows = std::make_shared<const StudyRows>(
                             loadRows(recipe, folder, {}, reading, password));
                         ProgressStage fitting(progress, 0.6, 1);
                         const Evaluated result = evaluated(recipe, *rows, nullptr, true, fitting, {});
                         return [this, path, recipe, folder, rows, result] {
                             m_folder = folder;
                             m_trail = Trail();
                             m_recipe = recipe;
                             takeProject();
                             takeRows(rows, forecastSource(recipe, *rows));
                             showFit(m_trail.add(recipe, *result.evidence, 0), result);
                             setDirty();
                             emit opened(path);
                         };
                     },
                     [path] { return readRecipe(ss(path)).rows; }, [this, path] { openRecipe(path); }));
}

void Session::openPlan(const RowsPlan& plan, const QString& folder) {
    startOpening(
        tr("Reading"),
        askingForPasswords(
            [this, plan, folder = ss(folder), password = passwordFor()](Progress& progress) -> Jobs::Finish {
                ProgressStage reading(progress, 0, 0.8);
                auto rows = std::make_shared<StudyRows>();
                rows->learning = readRows(plan, folder, password, {}, reading);
                const Recipe recipe = startRecipe(plan, rows->learning);
                ProgressStage preparing(progress, 0.8, 1);
                const Evaluated result = evaluated(recipe, *rows, nullptr, false, preparing, {});
                return [this, folder, recipe, rows, result] {
                    m_folder = folder;
                    m_trail = Trail();
                    m_recipe = recipe;
                    takeProject();
                    m_view["response"] = "guess";
                    takeRows(rows, std::nullopt);
                    showFit(0, result);
                    setDirty();
                    emit opened(recipe.rows.kind == SourceKind::postgres
                                    ? QString()
                                    : qs((fs::path(folder) / recipe.rows.file).string()));
                };
            },
            [plan] { return plan; }, [this, plan, folder] { openPlan(plan, folder); }));
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

} // namespace oxgoad
