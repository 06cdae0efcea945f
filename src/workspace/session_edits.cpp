// Edits: what was asked for, worked out in the background, and then shown.
#include "base/urgent.h"
#include "recipe/recipe_edits.h"
#include "recipe/validity.h"
#include "workspace/session.h"
#include "workspace/start_recipe.h"
#include "workspace/text.h"

#include <QDateTime>
#include <algorithm>
#include <filesystem>

namespace oxgoad {

namespace fs = std::filesystem;

/// What the work on an edit found.
struct Session::Worked {
    std::shared_ptr<const StudyRows> rows;
    std::optional<RowsSource> forecastOf;
    /// As it could be fitted: rows read anew may lack columns and rows.
    Recipe recipe;
    std::vector<Evaluated> path;
    Evaluated last;
    QStringList changes;
    QString said;
};

Session::Evaluated Session::evaluated(const Recipe& recipe, const StudyRows& rows,
                                      std::shared_ptr<const PreparedRows> prepared, bool fit,
                                      Progress& progress, const Known& known, bool lookAtTest,
                                      EvaluateOptions::Folds folds) {
    ProgressStage preparing(progress, 0, fit ? 0.3 : 1);
    const bool samePrepared = prepared && isPreparedFor(*prepared, recipe, rows);
    if (!samePrepared) {
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
    // What was learned by the same recipe from these rows needs no fit; what was said of it stays as it is.
    const std::shared_ptr<const Study> shown =
        samePrepared && known.evidence ? known.evidence->study : nullptr;
    const bool again = shown && learnsTheSame(shown->recipe, recipe);
    result.evidence =
        std::make_shared<const Evidence>(evaluate(recipe, rows, *prepared,
                                                  {.lookAtTest = lookAtTest,
                                                   .study = again ? shown : known.study,
                                                   .folds = folds,
                                                   .checks = ChecksWanted::quick,
                                                   .before = again ? known.evidence.get() : nullptr},
                                                  fitting));
    return result;
}

Session::State Session::drafted() const {
    if (m_edits.empty()) return {m_current, m_recipe, m_evidence != nullptr};
    const Edit& edit = m_edits.back();
    return {edit.fit, edit.recipe, edit.fits};
}

Session::Edit Session::editOf(const Recipe& recipe) const {
    Edit edit;
    edit.recipe = recipe;
    const State from = drafted();
    // A mean alone is a model too, but only when it was asked for after terms.
    edit.fits = !recipe.terms.empty() || from.fits;
    edit.parent = from.fit != 0 || m_edits.empty() ? from.fit : m_edits.back().parent;
    edit.back = back();
    edit.back.push_back(from);
    return edit;
}

void Session::push(Edit edit) {
    if (m_opening)
        emit failed(tr(
            "Opening was stopped, since the model was changed meanwhile. Open it again when you are done."));
    m_opening = false;
    setDirty();
    const Recent* at = edit.fit != 0 && !edit.lookAtTest && !edit.readRows ? recent(edit.fit) : nullptr;
    if (at) { // at hand: nothing has to be worked out
        const Evaluated evaluated = at->evaluated;
        m_jobs.drop();
        m_edits.clear();
        m_back = std::move(edit.back);
        m_forward = std::move(edit.forward);
        showFit(edit.fit, evaluated);
        emit draftChanged();
        return;
    }
    if (!m_edits.empty()) {
        // What has not been read yet is still to be read, and a path is still to be walked.
        const Edit& before = m_edits.back();
        edit.readRows = edit.readRows || (before.readRows && edit.recipe.rows == before.recipe.rows);
        edit.readForecast =
            edit.readForecast || (before.readForecast && edit.recipe.forecast == before.recipe.forecast);
        if (!before.path.empty() && edit.path.empty() && edit.fit == 0) {
            edit.path = before.path;
            edit.path.push_back(before.recipe);
        }
    }
    const auto source = [](const Recipe& recipe) {
        return recipe.forecast ? std::optional<RowsSource>(*recipe.forecast) : std::nullopt;
    };
    edit.newForecast = edit.fit == 0 && source(edit.recipe) != source(m_recipe);
    m_edits.push_back(std::move(edit));
    emit draftChanged();
    startEdit();
}

void Session::change(const Recipe& asked) {
    if (!m_rows) return;
    std::vector<std::string> dropped;
    const Recipe recipe = settled(asked, &dropped);
    for (const std::string& sentence : dropped)
        emit failed(qs(sentence));
    const State from = drafted();
    if (from.fits && sameModel(recipe, from.recipe)) {
        if (recipe.chosen != from.recipe.chosen) takePath(from.recipe, {recipe});
        return;
    }
    Edit edit = editOf(recipe);
    if (const TrailFit* made = edit.fits ? m_trail.findModel(recipe) : nullptr) {
        if (made->number == from.fit) return;
        edit.fit = made->number;
        edit.recipe = made->recipe;
    }
    push(std::move(edit));
}

void Session::slide(const Recipe& asked) {
    const Recipe recipe = settled(asked);
    if (!m_rows || recipe.terms.empty() || sameModel(recipe, draft())) return;
    Edit edit = editOf(recipe);
    edit.slides = true;
    const bool goesOn =
        m_sliding && (m_edits.empty() ? m_slid != 0 && m_slid == m_current : m_edits.back().slides);
    if (goesOn) { // one step back leads to where the drag began
        edit.back = back();
        edit.forward = forward();
    }
    if (!m_edits.empty() && m_edits.back().slides) m_edits.pop_back();
    if (!m_sliding) m_slid = 0;
    m_sliding = true;
    push(std::move(edit));
}

void Session::endSlide() {
    m_sliding = false;
}

void Session::changeFrom(const Recipe& base, const Recipe& recipe) {
    change(rebased(recipe, base, draft()));
}

void Session::takePath(const Recipe& base, const std::vector<Recipe>& recipes) {
    if (!m_rows || recipes.empty()) return;
    std::vector<Recipe> path;
    for (const Recipe& recipe : recipes)
        path.push_back(rebased(recipe, base, draft()));
    Edit edit = editOf(path.back());
    edit.fits = true;
    path.pop_back();
    edit.path = std::move(path);
    push(std::move(edit));
}

void Session::setSteps(std::vector<Step> steps) {
    Recipe recipe = m_recipe;
    recipe.steps = std::move(steps);
    changeFrom(m_recipe, recipe);
}

void Session::addStep(const Step& step) {
    Recipe recipe = draft();
    recipe.steps.push_back(step);
    change(recipe);
}

void Session::setRole(const std::string& column, Role role) {
    make(giveRole({}, column, role).edit, {});
}

void Session::make(const RecipeEdit& edit, const std::string& reason) {
    Recipe recipe = draft();
    edit(recipe, reason);
    if (recipe == draft()) return;
    if (!sameModel(recipe, draft())) {
        change(recipe);
        return;
    }
    const bool roles = recipe.roles != draft().roles;
    annotate([&](Recipe& to) { edit(to, reason); });
    if (!roles) return;
    // Not another model, but another ledger: what is odd about a column depends on its role.
    m_recent.clear();
    Edit again = editOf(recipe);
    again.fit = drafted().fit;
    again.back = back();
    again.forward = forward();
    push(std::move(again));
}

void Session::lookAtTest() {
    if (!m_evidence || m_evidence->rowsTest == 0 || m_current == 0) return;
    Edit edit = editOf(draft());
    edit.fit = drafted().fit;
    edit.back = back();
    edit.forward = forward();
    edit.lookAtTest = true;
    push(std::move(edit));
}

void Session::choose(int fit) {
    const TrailFit* entry = m_trail.find(fit);
    const State from = drafted();
    if (!entry || fit == from.fit) return;
    std::vector<State> before = back();
    before.push_back(from);
    goTo({fit, entry->recipe, true}, std::move(before), {});
}

void Session::undo() {
    std::vector<State> before = back(), after = forward();
    if (before.empty()) return;
    const State state = before.back();
    before.pop_back();
    after.push_back(drafted());
    goTo(state, std::move(before), std::move(after));
}

void Session::redo() {
    std::vector<State> before = back(), after = forward();
    if (after.empty()) return;
    const State state = after.back();
    after.pop_back();
    before.push_back(drafted());
    goTo(state, std::move(before), std::move(after));
}

void Session::goTo(const State& state, std::vector<State> back, std::vector<State> forward) {
    Edit edit;
    const TrailFit* entry = m_trail.find(state.fit);
    edit.recipe = entry ? entry->recipe : state.recipe;
    edit.fit = state.fit;
    edit.fits = state.fits;
    edit.parent = m_current;
    edit.back = std::move(back);
    edit.forward = std::move(forward);
    push(std::move(edit));
}

void Session::readAgain(const RowsPlan& plan) {
    if (!m_rows) return;
    Recipe recipe = draft();
    recipe.rows = plan;
    Edit edit = editOf(recipe);
    edit.readRows = true;
    edit.back.clear();
    push(std::move(edit));
}

void Session::chooseForecast(const QString& path) {
    if (!m_rows || draft().response.empty()) return;
    Recipe recipe = draft();
    const fs::path file = fs::absolute(ss(path));
    std::error_code failure;
    const fs::path relative = fs::relative(file, m_folder, failure);
    ForecastRequest request =
        recipe.forecast.value_or(ForecastRequest{}); // what was asked is asked of these rows
    static_cast<RowsSource&>(request) = {};
    request.file =
        failure || relative.empty() || *relative.begin() == ".." ? file.string() : relative.string();
    request.kind = kindOfFile(file);
    askForecast(std::move(request));
}

void Session::makeForecast(const MadeRows& made) {
    if (!m_rows || draft().response.empty()) return;
    ForecastRequest request = draft().forecast.value_or(ForecastRequest{});
    static_cast<RowsSource&>(request) = {};
    request.made = made;
    askForecast(std::move(request));
}

void Session::keepHandRow(const HandRow& row) {
    annotate([row](Recipe& recipe) {
        std::erase_if(recipe.handRows, [&](const HandRow& r) { return r.name == row.name; });
        recipe.handRows.push_back(row);
    });
}

void Session::keepDelivery(const Delivery& delivery) {
    annotate([delivery](Recipe& recipe) {
        std::erase_if(recipe.deliveries,
                      [&](const Delivery& d) { return d.fingerprint == delivery.fingerprint; });
        recipe.deliveries.push_back(delivery);
    });
}

void Session::forgetHandRow(const std::string& name) {
    annotate([name](Recipe& recipe) {
        std::erase_if(recipe.handRows, [&](const HandRow& r) { return r.name == name; });
    });
}

void Session::askForecast(ForecastRequest request) {
    Recipe recipe = draft();
    recipe.forecast = std::move(request);
    Edit edit = editOf(recipe);
    const State from = drafted();
    if (sameModel(recipe, from.recipe) || !edit.fits) { // the same file again: no fit of its own
        edit.fit = from.fit;
        edit.back = back();
        edit.forward = forward();
    }
    edit.readForecast = true;
    m_recent.clear();
    push(std::move(edit));
}

void Session::setForecastLevel(double level) {
    Recipe recipe = draft();
    if (!recipe.forecast || recipe.forecast->level == level) return;
    recipe.forecast->level = level;
    change(recipe);
}

void Session::annotate(const std::function<void(Recipe&)>& change) {
    change(m_recipe);
    if (m_current != 0) m_trail.updateNotes(m_current, m_recipe);
    for (Edit& edit : m_edits)
        if (edit.fit == 0 || edit.fit == m_current) change(edit.recipe);
    setDirty();
    emit trailChanged();
    emit fitChanged();
}

void Session::startEdit() {
    const Edit edit = m_edits.back();
    const auto stage = std::make_shared<Stage>(edit.readRows ? Stage::rows : Stage::forecast);
    const QString title = edit.readRows       ? tr("Reading")
                          : edit.lookAtTest   ? tr("Scoring test rows")
                          : edit.readForecast ? tr("Forecasting")
                          : edit.fits         ? tr("Fitting")
                                              : tr("Preparing");
    m_jobs.start(
        title,
        askingForPasswords(
            [this, edit, stage, rows = m_rows, forecastOf = m_forecastOf, folder = m_folder,
             prepared = m_prepared, known = knownOf(edit.fit), password = passwordFor()](Progress& progress) {
                const Urgent urgent; // people wait for it, and what runs beside is of the fit before
                return workOn(edit, stage, progress, rows, forecastOf, folder, prepared, known, password);
            },
            [plan = edit.recipe.rows, forecast = edit.recipe.forecast] {
                RowsPlan all = plan;
                if (forecast) all.stacked.push_back(*forecast);
                return all;
            },
            [this] {
                if (!m_edits.empty()) startEdit();
            }),
        [this, stage](bool stopped) {
            if (stopped)
                m_edits.clear();
            else
                editFailed(*stage);
            emit draftChanged();
        });
}

std::shared_ptr<const StudyRows> Session::rowsFor(const Recipe& recipe,
                                                  const std::shared_ptr<const StudyRows>& rows,
                                                  const std::optional<RowsSource>& forecastOf,
                                                  const std::string& folder, const PasswordFor& password,
                                                  Progress& progress) {
    if (!recipe.forecast && !rows->forecast) return rows;
    if (recipe.forecast && rows->forecast && forecastOf &&
        *forecastOf == static_cast<const RowsSource&>(*recipe.forecast))
        return rows;
    auto other = std::make_shared<StudyRows>(*rows);
    other->forecast.reset();
    if (recipe.forecast)
        other->forecast = loadForecastRows(recipe, rows->learning.table, folder, {}, progress, password);
    return other;
}

Jobs::Finish Session::workOn(const Edit& edit, const std::shared_ptr<Stage>& stage, Progress& progress,
                             const std::shared_ptr<const StudyRows>& rows,
                             const std::optional<RowsSource>& forecastOf, const std::string& folder,
                             const std::shared_ptr<const PreparedRows>& prepared, const Known& known,
                             const PasswordFor& password) {
    Worked worked;
    worked.recipe = edit.recipe;
    worked.rows = rows;
    worked.forecastOf = forecastOf;
    Recipe& recipe = worked.recipe;
    std::shared_ptr<const PreparedRows> before = prepared;
    if (edit.readRows) {
        ProgressStage reading(progress, 0, 0.6);
        worked.rows = std::make_shared<const StudyRows>(loadRows(recipe, folder, {}, reading, password));
        worked.forecastOf.reset();
        if (recipe.forecast) worked.forecastOf = static_cast<const RowsSource&>(*recipe.forecast);
        ProgressStage comparing(progress, 0.6, 0.7);
        for (const auto& sentence :
             compareReadings(rows->learning.table, worked.rows->learning.table, comparing).sentences())
            worked.changes << qs(sentence);
        // Rows left out by hand are row numbers; of other rows they would be others.
        const std::size_t count = worked.rows->learning.table.rows();
        if (rows->learning.table.rows() != count)
            std::erase_if(recipe.leaveOut, [&](const LeftOutRow& row) { return row.row > count; });
        before.reset();
    }
    *stage = Stage::forecast;
    ProgressStage reading(progress, edit.readRows ? 0.7 : 0,
                          edit.readRows || edit.readForecast ? 0.75 : 0.02);
    try {
        worked.rows = rowsFor(recipe, worked.rows, edit.readForecast ? std::nullopt : worked.forecastOf,
                              folder, password, reading);
        worked.forecastOf.reset();
        if (worked.rows->forecast) worked.forecastOf = static_cast<const RowsSource&>(*recipe.forecast);
    } catch (const Error& error) {
        if (edit.newForecast || edit.readForecast || error.code() == ErrorCode::badPassword) throw;
        // The fit is shown all the same, without its forecast.
        auto without = std::make_shared<StudyRows>(*worked.rows);
        without->forecast.reset();
        worked.rows = without;
        worked.forecastOf.reset();
        worked.said = qs(error.what());
    }
    *stage = Stage::fit;
    ProgressStage fitting(progress, edit.readRows ? 0.75 : 0.02, 1);
    bool fits = edit.fits;
    if (edit.readRows) {
        const Evaluated looked = evaluated(recipe, *worked.rows, nullptr, false, fitting, {});
        // Read otherwise, the columns may have other names: without the response it is a start like any
        // other.
        if (!looked.prepared->table.find(recipe.response)) {
            recipe = startRecipe(edit.recipe.rows, worked.rows->learning);
            takeNotes(recipe, edit.recipe);
            auto without = std::make_shared<StudyRows>(*worked.rows);
            without->forecast.reset();
            worked.rows = without;
            worked.forecastOf.reset();
        } else {
            before = looked.prepared;
        }
        fits = !recipe.terms.empty();
    }
    const auto steps = static_cast<double>(edit.path.size() + 1);
    for (std::size_t i = 0; i < edit.path.size(); ++i) {
        ProgressStage step(fitting, static_cast<double>(i) / steps, static_cast<double>(i + 1) / steps);
        worked.path.push_back(evaluated(edit.path[i], *worked.rows, before, true, step, {}));
    }
    ProgressStage last(fitting, 1 - 1 / steps, 1);
    worked.last =
        evaluated(recipe, *worked.rows, before, fits, last, edit.readRows ? Known{} : known, edit.lookAtTest);
    return [this, worked] { editDone(worked); };
}

void Session::editDone(const Worked& worked) {
    Edit edit = std::move(m_edits.back());
    m_edits.clear();
    Recipe recipe = worked.recipe;
    takeNotes(recipe, edit.recipe); // said meanwhile
    const int before = m_current;
    if (edit.readRows) {
        // Fits of the trail were made from other values: those that stay keep their numbers but are worked
        // out anew when they are chosen.
        takeRows(worked.rows, worked.forecastOf);
        m_trail.rowsWereReadAgain();
        edit.parent = before;
        edit.fit = 0;
    } else {
        m_rows = worked.rows;
        m_forecastOf = worked.forecastOf;
        m_back = std::move(edit.back);
        m_forward = std::move(edit.forward);
    }
    int parent = m_trail.find(edit.parent) ? edit.parent : 0;
    const auto place = [&](const Recipe& of, const Evaluated& made) {
        const TrailFit* known = m_trail.findModel(of);
        if (known) {
            m_trail.renew(known->number, *made.evidence);
            return known->number;
        }
        if (edit.slides && m_slid != 0 && m_slid == m_trail.fits().back().number) {
            m_trail.replaceLast(of, *made.evidence);
            return m_slid;
        }
        const int fit = m_trail.add(of, *made.evidence, parent);
        m_trail.timeOf(fit, ss(QDateTime::currentDateTime().toString("yyyy-MM-dd hh:mm")));
        if (edit.slides) m_slid = fit;
        return fit;
    };
    for (std::size_t i = 0; i < worked.path.size(); ++i) {
        parent = place(edit.path[i], worked.path[i]);
        remember(parent, worked.path[i]);
    }
    int fit = edit.fit;
    if (worked.last.evidence) {
        if (fit == 0) {
            fit = place(recipe, worked.last);
            m_trail.updateNotes(fit, recipe);
        } else {
            m_trail.renew(fit, *worked.last.evidence);
        }
        if (edit.lookAtTest) m_trail.lookAtTest(fit);
    }
    m_recipe = recipe;
    showFit(fit, worked.last);
    setDirty();
    emit draftChanged();
    if (edit.readRows) emit rowsCompared(worked.changes);
    if (!worked.said.isEmpty()) emit failed(worked.said);
}

void Session::editFailed(Stage stage) {
    if (m_edits.empty()) return;
    const Edit failed = m_edits.back();
    if (stage == Stage::fit) {
        m_edits.pop_back();
    } else {
        // What could not be read is taken back; the edits on top of it stay.
        const bool ofRows = stage == Stage::rows;
        std::erase_if(m_edits, [&](const Edit& edit) {
            Recipe without = edit.recipe;
            return ofRows ? edit.readRows && (without.rows = m_recipe.rows, sameModel(without, m_recipe))
                          : edit.recipe.forecast == failed.recipe.forecast &&
                                (without.forecast = m_recipe.forecast, sameModel(without, m_recipe));
        });
        for (Edit& edit : m_edits) {
            if (ofRows) {
                edit.recipe.rows = m_recipe.rows;
                edit.readRows = false;
            } else if (edit.recipe.forecast == failed.recipe.forecast) {
                edit.recipe.forecast = m_recipe.forecast;
                edit.readForecast = false;
            }
        }
    }
    if (!m_edits.empty()) startEdit();
}

} // namespace oxgoad
