#include "run/commands.h"

#include "base/file.h"
#include "base/text.h"
#include "hand_on/hand_on.h"
#include "hand_on/model_file.h"
#include "ledger/drift.h"
#include "share/exports.h"
#include "share/ledger_text.h"
#include "share/look_text.h"
#include "share/reading_text.h"
#include "study/compare_pairs.h"
#include "study/evaluate.h"
#include "study/halves.h"
#include "study/learning_curve.h"
#include "study/preview_move.h"
#include "study/project.h"
#include "study/reach_measures.h"
#include "study/row_by_hand.h"
#include "study/say.h"
#include "study/search.h"
#include "study/tune.h"
#include "study/what_helps.h"

#include <array>
#include <chrono>
#include <cstdlib>
#include <ctime>
#include <deque>
#include <filesystem>
#include <fstream>
#include <iostream>

#include <nlohmann/json.hpp>

namespace oxgoad {

namespace fs = std::filesystem;

namespace {

fs::path folderOf(const fs::path& file) {
    return file.has_parent_path() ? file.parent_path() : fs::path(".");
}

std::string passwordOf(const ServerPlace&) {
    const char* password = std::getenv("OXGOAD_PASSWORD");
    return password ? password : "";
}

/// The recipe of a file: itself, or a new one whose rows are the file's.
Recipe recipeOfFile(const fs::path& path, const Arguments& arguments) {
    Recipe recipe;
    if (path.extension() == ".json") {
        recipe = readRecipe(path);
        recipe.forecast.reset();
    } else {
        static_cast<RowsSource&>(recipe.rows) = arguments.source;
        recipe.rows.file = path.filename().string();
        recipe.rows.kind = arguments.source.query.empty() ? kindOfFile(path) : SourceKind::sqlite;
    }
    return recipe;
}

/// Standard output that could not be written is an error, not a silence.
void print(const std::string& text) {
    std::cout << text << std::flush;
    if (!std::cout)
        throw Error(ErrorCode::cannotWrite, "the output cannot be written", {.file = "standard output"},
                    "Look whether the disk is full.");
}

void lookAtRows(const Arguments& arguments, TerminalProgress& progress) {
    const fs::path path = arguments.look;
    Recipe recipe = recipeOfFile(path, arguments);
    if (!arguments.response.empty()) recipe.response = arguments.response;
    if (recipe.response.empty()) usage("--look needs --response when the file is no recipe");
    ProgressStage reading(progress, 0, 0.5);
    const StudyRows rows = loadRows(recipe, folderOf(path), arguments.threads, reading, passwordOf);
    ProgressStage preparing(progress, 0.5, 0.7);
    const auto prepared = prepareRows(recipe, rows, arguments.threads, preparing);
    std::optional<Evidence> evidence;
    if (arguments.against != Against::response)
        evidence =
            evaluate(recipe, rows, *prepared,
                     {.threads = arguments.threads, .folds = EvaluateOptions::Folds::never}, preparing);
    ProgressStage looking(progress, 0.7, 1);
    const LookReport report = lookReport(recipe, *prepared, evidence ? &*evidence : nullptr,
                                         arguments.against, arguments.threads, looking);
    progress.clear();
    if (arguments.out.empty())
        print(lookJson(report));
    else
        writeLook(arguments.out, report, progress);
}

void describeRows(const Arguments& arguments, TerminalProgress& progress) {
    const fs::path path = arguments.describe;
    const Recipe recipe = recipeOfFile(path, arguments);
    ProgressStage reading(progress, 0, 0.6);
    const StudyRows rows = loadRows(recipe, folderOf(path), arguments.threads, reading, passwordOf);
    if (!arguments.describeAgainst.empty()) {
        const fs::path before = arguments.describeAgainst;
        const Recipe earlier = recipeOfFile(before, arguments);
        ProgressStage again(progress, 0.6, 0.9);
        const StudyRows old = loadRows(earlier, folderOf(before), arguments.threads, again, passwordOf);
        ProgressStage comparing(progress, 0.9, 1);
        const Drift drift = compareReadings(old.learning.table, rows.learning.table, comparing);
        progress.clear();
        print(arguments.json ? driftJson(drift) : driftText(drift));
        return;
    }
    ProgressStage preparing(progress, 0.6, 1);
    const auto prepared = prepareRows(recipe, rows, arguments.threads, preparing);
    progress.clear();
    print(arguments.json ? ledgerJson(recipe, rows, *prepared) : ledgerText(recipe, rows, *prepared));
}

/// The recipe with the dealings that were asked for.
Recipe dealtAgain(Recipe recipe, const Arguments& arguments) {
    if (arguments.dealings == 0) return recipe;
    if (!recipe.judge || !recipe.judge->repeatsWell())
        throw Error(ErrorCode::badParts,
                    recipe.judge
                        ? "the rows are judged by " + foldPlanText(*recipe.judge) + ", which no seed turns"
                        : "the recipe has no folds to deal again",
                    {.file = arguments.recipes[0]},
                    "Give \"judge\" of the kind \"k folds\", \"groups\" or \"in proportion\".");
    recipe.judge->repeats = arguments.dealings;
    return recipe;
}

/// Lists what is open, where that was asked for.
int openGoads(const Arguments& arguments, const Evidence& evidence, TerminalProgress& progress) {
    if (arguments.fail == Arguments::Fail::never) return 0;
    std::string list;
    std::size_t open = 0;
    for (const Goad& goad : evidence.goads) {
        if (goad.accepted || !goad.under.empty() ||
            (arguments.fail == Arguments::Fail::onAlarm && goad.severity != Severity::alarm))
            continue;
        ++open;
        list += std::string(goad.severity == Severity::alarm ? "alarm: " : "caution: ") + goad.key + ": " +
                goad.title + " (" + goad.reading + ")\n";
    }
    if (open == 0) return 0;
    progress.clear();
    for (const char c : list) // line by line: texts of data are shown, not obeyed
        std::cerr << harmless({&c, 1}, true);
    std::cerr << plural(open, "goad is", "goads are") << " open.\n";
    return exitOpenGoads;
}

/// Fits the other recipes on the rows and folds of the first and compares: comparison.txt each with the
/// first, comparison.json all pairs.
void compareFits(const Arguments& arguments, const Recipe& recipe, const Evidence& evidence,
                 const StudyRows& rows, NamedFiles& more, Progress& progress) {
    std::deque<Evidence> kept;
    std::deque<Recipe> recipes;
    std::vector<Compared> fits{{evidence, recipe, "fit 1"}};
    std::string sentences;
    for (const std::string& name : arguments.compareWith) {
        const Recipe other = readRecipe(name);
        if (other.rows != recipe.rows)
            throw Error(ErrorCode::badRecipe, "the recipe uses other rows", {.file = name},
                        "Compare recipes of the same rows.");
        const auto fitted = [&](Recipe with) -> Compared {
            with.forecast.reset();
            const auto prepared = prepareRows(with, rows, arguments.threads, progress);
            kept.push_back(evaluate(with, rows, *prepared,
                                    {.threads = arguments.threads, .checks = ChecksWanted::quick}, progress));
            recipes.push_back(std::move(with));
            return {kept.back(), recipes.back(), "fit " + std::to_string(fits.size() + 1)};
        };
        // Text and JSON have one basis: the rows and folds of the first fit.
        Recipe alike = other;
        alike.judge = recipe.judge;
        alike.setAside = recipe.setAside;
        fits.push_back(fitted(alike));
        const std::string second = arguments.compareWith.size() > 1 ? fits.back().name : "the second fit";
        sentences +=
            comparisonSentence({evidence, recipe, "the first fit"},
                               {fits.back().evidence, fits.back().recipe, second}) +
            (alike.judge == other.judge && alike.setAside == other.setAside
                 ? ""
                 : " " + name + " asks for other rows or folds; here it is judged by those of the first.") +
            "\n";
    }
    more.emplace_back("comparison.txt", sentences);
    more.emplace_back("comparison.json", comparisonJson(fits, comparePairs(fits, recipe.level, progress)));
}

/// Steps that cannot run end the command, unless it is to go on.
void requireSteps(const Arguments& arguments, const Recipe& recipe, const PreparedRows& prepared,
                  const std::string& file) {
    if (arguments.goOn) return;
    std::string problems;
    for (std::size_t i = 0; i < prepared.steps.size(); ++i)
        if (!prepared.steps[i].problem.empty())
            problems += (problems.empty() ? "" : "; ") + std::string("step ") + std::to_string(i + 1) + ", " +
                        stepSentence(recipe.steps[i]) + ": " + prepared.steps[i].problem;
    if (problems.empty()) return;
    throw Error(ErrorCode::badStep, "a step cannot run: " + problems, {.file = file},
                "Correct the step, switch it off, or go on without it by --go-on.");
}

/// A line of standard error; texts of data are shown, not obeyed.
void warn(const std::string& text) {
    for (const char c : text + "\n")
        std::cerr << harmless({&c, 1}, true);
}

/// What of the file could not be read, and rows that could not be predicted.
void warnOfRows(const StudyRows& rows, const Evidence& evidence) {
    const auto faults = [](const ReadReport& report) {
        if (report.faultCount == 0) return;
        warn(report.file + ": " + report.faultsText() + ".");
        constexpr std::size_t few = 3;
        for (std::size_t i = 0; i < std::min(few, report.faults.size()); ++i)
            warn("  " + faultText(report.faults[i]));
    };
    faults(rows.learning.report);
    if (rows.forecast) faults(rows.forecast->report);
    if (!evidence.forecast) return;
    const std::string unpredicted = unpredictedText(*evidence.forecast);
    if (!unpredicted.empty()) warn(unpredicted + ".");
}

/// USER@HOST:PORT/DATABASE/TABLE.
std::pair<ServerPlace, std::string> tableOf(const std::string& text) {
    const auto slash = text.find('/'),
               second = slash == std::string::npos ? slash : text.find('/', slash + 1);
    if (second == std::string::npos || second + 1 == text.size())
        usage("--append-to needs USER@HOST:PORT/DATABASE/TABLE, not \"" + text + "\"");
    ServerPlace place;
    std::string host = text.substr(0, slash);
    if (const auto at = host.find('@'); at != std::string::npos) {
        place.user = host.substr(0, at);
        host = host.substr(at + 1);
    }
    if (const auto colon = host.rfind(':'); colon != std::string::npos) {
        place.port = std::atoi(host.c_str() + colon + 1);
        host.resize(colon);
    }
    place.host = host;
    place.database = text.substr(slash + 1, second - slash - 1);
    return {place, text.substr(second + 1)};
}

void appendAsked(const Arguments& arguments, const ScoredRows& scored, TerminalProgress& progress) {
    const auto [place, table] = tableOf(arguments.appendTo);
    appendScored(place, passwordOf(place), table, scored, progress);
}

/// The model in the formats that were asked for; what one of them cannot hold is said.
void handOnAsked(const Arguments& arguments, const Recipe& recipe, const Evidence& evidence,
                 const StudyRows& rows, const PreparedRows& prepared, TerminalProgress& progress) {
    if (!arguments.appendTo.empty() && evidence.forecast && rows.forecast)
        appendAsked(arguments, scoredOf({evidence, recipe, rows, prepared}), progress);
    if (arguments.handOn.empty()) return;
    const auto handed = handOn(arguments.out, arguments.handOn,
                               {evidence, recipe, rows, prepared, arguments.reportParts}, progress);
    progress.clear();
    for (const HandedOn& one : handed)
        if (!one.refused.empty())
            warn(one.file + " was not written: " + one.refused);
        else if (!one.lacks.empty())
            warn(one.file + ": " + one.lacks + ".");
}

/// A sentence for each column of the model whose values in the rows to be forecast are others than those
/// learned from. Dates go on by themselves.
std::vector<std::string> driftOf(const Evidence& evidence, const StudyRows& rows, Progress& progress) {
    const auto used = [&](const Table& table) {
        std::vector<Column> columns;
        for (const Column& column : table.columns())
            if (column.kind() != ColumnKind::date && findInput(evidence.study->inputs, column.name()))
                columns.push_back(column);
        return Table(std::move(columns));
    };
    const Drift drift = compareReadings(used(rows.learning.table), used(rows.forecast->table), progress);
    std::vector<std::string> out;
    for (const ColumnDrift& column : drift.columns)
        for (const std::string& change : column.changes)
            out.push_back(column.column + ": " + change);
    return out;
}

/// How a run ends that was told to look at what it found.
int judged(const Arguments& arguments, const Evidence& evidence, const StudyRows& rows,
           TerminalProgress& progress) {
    if (const int open = openGoads(arguments, evidence, progress); open != 0) return open;
    if (arguments.failOutside && evidence.forecast && evidence.forecast->outside > 0) {
        progress.clear();
        warn(plural(evidence.forecast->outside, "row", "rows") +
             " to be forecast lie outside what was learned.");
        return exitRowsOutside;
    }
    if (!arguments.failDrift || !rows.forecast) return 0;
    const auto changed = driftOf(evidence, rows, progress);
    progress.clear();
    for (const std::string& each : changed)
        warn(each);
    return changed.empty() ? 0 : exitDrift;
}

void addHandRows(NamedFiles& files, const Recipe& recipe, const Evidence& evidence,
                 const PreparedRows& prepared, Threads threads, const Progress& progress) {
    if (recipe.handRows.empty()) return;
    const auto found = answerHandRows(evidence, recipe, prepared, threads, progress);
    files.emplace_back("rows_by_hand.json", handRowsText(found));
}

int runToFolder(const Arguments& arguments, TerminalProgress& progress) {
    const fs::path path = arguments.recipes[0];
    const Recipe recipe = dealtAgain(readRecipe(path), arguments);
    ProgressStage reading(progress, 0, 0.5);
    const StudyRows rows = loadRows(recipe, folderOf(path), arguments.threads, reading, passwordOf);
    ProgressStage fitting(progress, 0.5, 0.95);
    const auto prepared = prepareRows(recipe, rows, arguments.threads, fitting);
    requireSteps(arguments, recipe, *prepared, path.string());
    Evidence evidence = evaluate(recipe, rows, *prepared,
                                 {.threads = arguments.threads,
                                  .lookAtTest = arguments.lookAtTest,
                                  .questioned = true,
                                  .importance = true},
                                 fitting);
    // A stop while folds are judged keeps those done; another one stops the rest.
    const bool partly = evidence.folds && evidence.folds->partial();
    if (partly) {
        progress.goOn();
        runChecks(evidence, {recipe, rows, *prepared}, ChecksWanted::quick, arguments.threads, progress);
    }
    // Everything is worked out before anything is written: a stop leaves the folder as it was.
    NamedFiles more;
    if (arguments.whatHelps) {
        Recipe stands = recipe; // with the terms that are in the model
        stands.terms = evidence.study->terms();
        stands.choose.reset();
        more.emplace_back("what_helps.json",
                          helpsJson(whatHelps(stands, *prepared, arguments.threads, progress), recipe));
    }
    if (arguments.readAloud)
        for (auto& file : readingFiles(recipe, evidence, prepared->table, arguments.threads, progress))
            more.push_back(std::move(file));
    if (arguments.choose) {
        const Choice choice = chooseTerms(recipe, *prepared, *arguments.choose, arguments.threads, progress);
        more.emplace_back("choice.json", choiceJson(choice));
        more.emplace_back("chosen_recipe.json", recipeText(withChoice(recipe, choice)));
    }
    if (!arguments.search.empty()) {
        const bool said = arguments.search.starts_with('{');
        const SearchPlan plan = searchPlanFrom(said ? arguments.search : readFile(arguments.search),
                                               said ? "--search" : arguments.search);
        const SearchFound found =
            search(recipe, *prepared, rows.learning.report.file, plan, arguments.threads, progress);
        more.emplace_back("search.csv", searchCsv(found));
        more.emplace_back("search.txt", found.says + "\n");
        more.emplace_back("search.json", searchJson(found));
        more.emplace_back("searched_recipe.json", recipeText(withTried(recipe, found.tried[found.best])));
    }
    if (!arguments.compareWith.empty()) {
        FirmStage comparing(progress, 0.9, 0.95);
        compareFits(arguments, recipe, evidence, rows, more, comparing);
    }
    if (arguments.influence)
        more.emplace_back("influence.csv", influenceCsv(evidence, prepared->table, rows.learning.report.file,
                                                        arguments.threads, progress));
    if (evidence.study && evidence.study->tuning)
        more.emplace_back("tuning.csv", tuningCsv(*evidence.study->tuning));
    if (recipe.estimator.kind == "penalised") {
        ProgressStage following(progress, 0.95, 0.96);
        const auto followed = penaltyPath(recipe, *prepared, *evidence.study, arguments.threads, following,
                                          arguments.pathFolds);
        more.emplace_back("path.csv", pathCsv(*followed));
        if (arguments.pathFolds) more.emplace_back("path_folds.csv", pathFoldsCsv(*followed));
    } else if (arguments.halves > 0 || arguments.pathFolds) {
        throw Error(ErrorCode::badRecipe, "the recipe has no penalty", {.file = arguments.recipes.front()},
                    "--halves and --path-folds ask what a penalty keeps.");
    }
    if (arguments.halves > 0) {
        ProgressStage choosing(progress, 0.9, 0.95);
        const StabilitySelection halves = halvesOf(recipe, *prepared, *evidence.study,
                                                   {.splits = arguments.halves}, arguments.threads, choosing);
        more.emplace_back("halves.csv", halvesCsv(halves));
        more.emplace_back("halves.txt", halves.says + ".\n");
    }
    if (arguments.learningCurve) {
        ProgressStage curving(progress, 0.9, 0.95);
        const LearningCurve curve = learningCurve(recipe, *prepared, rows.learning.report.file,
                                                  evidence.study, arguments.threads, curving);
        more.emplace_back("learning_curve.csv", learningCurveCsv(curve));
        more.emplace_back("learning_curve.txt", curve.says + "\n");
    }
    if (arguments.moves)
        more.emplace_back("moves.json",
                          movesJson(evidence, recipe, rows, *prepared, arguments.threads, progress));
    if (evidence.forecast && prepared->forecast)
        more.emplace_back("reach_measures.csv", reachMeasuresCsv(reachMeasures(
                                                    *evidence.study, prepared->table,
                                                    prepared->forecast->table, arguments.threads, progress)));
    addHandRows(more, recipe, evidence, *prepared, arguments.threads, progress);
    progress.checkpoint(0.95, "Writing");
    writeEvidence(arguments.out, recipe, evidence, rows, more);
    handOnAsked(arguments, recipe, evidence, rows, *prepared, progress);
    progress.clear();
    warnOfRows(rows, evidence);
    if (evidence.study->search && evidence.study->search->stopped()) {
        progress.clear();
        std::cerr << "The search for the penalty was stopped after "
                  << countText(evidence.study->search->foldsDone) << " of "
                  << countText(evidence.study->search->folds) << " folds; what they say was written.\n";
        return exitStopped;
    }
    if (!partly) return judged(arguments, evidence, rows, progress);
    progress.clear();
    std::cerr << "Stopped after " << countText(evidence.folds->done) << " of "
              << countText(evidence.folds->asked) << " folds; what they say was written.\n";
    return exitStopped;
}

/// What a fit of a project says, without fitting where the project keeps what was learned.
int runProjectEvidence(const Arguments& arguments, TerminalProgress& progress) {
    const fs::path path = arguments.projectEvidence;
    ProgressStage opening(progress, 0, 0.4);
    const Project project = openProject(path, opening);
    const int number = arguments.fit != 0 ? arguments.fit : project.current;
    const TrailFit* fit = project.trail.find(number);
    if (!fit)
        throw Error(ErrorCode::badProject,
                    number == 0 ? "the project has no fit"
                                : "the project has no fit " + std::to_string(number),
                    {.file = path.string()},
                    project.trail.empty()
                        ? "Open it in the window and make one."
                        : "Its fits are 1 to " + std::to_string(project.trail.fits().back().number) + ".");
    Recipe recipe = fit->recipe;
    // The project keeps the rows of one forecast: that of the recipe being edited.
    if (recipe.forecast != project.recipe.forecast) recipe.forecast.reset();
    StudyRows rows = project.rows;
    if (!arguments.forecast.empty()) {
        if (!recipe.forecast) recipe.forecast = ForecastRequest{};
        static_cast<RowsSource&>(*recipe.forecast) = arguments.source;
        recipe.forecast->file = fs::absolute(arguments.forecast).lexically_normal().string();
        rows.forecast = loadForecastRows(recipe, rows.learning.table, project.folder, arguments.threads,
                                         opening, passwordOf);
    }
    if (!recipe.forecast) rows.forecast.reset();
    ProgressStage preparing(progress, 0.4, 0.6);
    const auto prepared = prepareRows(recipe, rows, arguments.threads, preparing);
    const auto kept = project.studies.find(number);
    ProgressStage telling(progress, 0.6, 0.95);
    const Evidence evidence = evaluate(recipe, rows, *prepared,
                                       {.threads = arguments.threads,
                                        .lookAtTest = arguments.lookAtTest,
                                        .study = kept == project.studies.end() ? nullptr : kept->second,
                                        .questioned = true,
                                        .importance = true},
                                       telling);
    NamedFiles more;
    if (arguments.readAloud)
        more = readingFiles(recipe, evidence, prepared->table, arguments.threads, progress);
    if (arguments.influence)
        more.emplace_back("influence.csv", influenceCsv(evidence, prepared->table, rows.learning.report.file,
                                                        arguments.threads, progress));
    addHandRows(more, recipe, evidence, *prepared, arguments.threads, progress);
    progress.checkpoint(0.95, "Writing");
    writeEvidence(arguments.out, recipe, evidence, rows, more);
    handOnAsked(arguments, recipe, evidence, rows, *prepared, progress);
    return judged(arguments, evidence, rows, progress);
}

/// Rows scored by a model that was handed on.
int runScore(const Arguments& arguments, TerminalProgress& progress) {
    const ModelFile model = readModelFile(arguments.score);
    RowsSource source = arguments.source;
    source.file = fs::absolute(arguments.rows).lexically_normal().string();
    source.kind = arguments.source.query.empty() ? kindOfFile(arguments.rows) : SourceKind::sqlite;
    const Scored scored = scoreByFile(model, source, ".", arguments.threads, progress, passwordOf);
    Evidence evidence;
    evidence.forecast = scored.forecast;
    writeFiles(arguments.out, {{"forecast.csv", forecastCsv(evidence, scored.read.table)}});
    if (!arguments.appendTo.empty())
        appendAsked(arguments, {scored.read.table, scored.forecast, {}}, progress);
    progress.clear();
    StudyRows rows;
    rows.learning.report = scored.read.report;
    warnOfRows(rows, evidence);
    return arguments.failOutside && scored.forecast.outside > 0 ? exitRowsOutside : 0;
}

void runToProject(const Arguments& arguments, Progress& progress) {
    Project project;
    project.folder = fs::absolute(folderOf(arguments.recipes[0])).lexically_normal().string();
    std::optional<RowsPlan> source;
    for (const std::string& name : arguments.recipes) {
        const Recipe recipe = dealtAgain(readRecipe(name), arguments);
        if (source && recipe.rows != *source)
            throw Error(ErrorCode::badRecipe, "the recipe uses other rows than the first one", {.file = name},
                        "Put it into a project of its own.");
        if (!source)
            project.rows = loadRows(recipe, project.folder, arguments.threads, progress, passwordOf);
        else if (recipe.forecast && (!project.rows.forecast || recipe.forecast != project.recipe.forecast))
            project.rows.forecast = loadForecastRows(recipe, project.rows.learning.table, project.folder,
                                                     arguments.threads, progress, passwordOf);
        source = recipe.rows;
        const auto prepared = prepareRows(recipe, project.rows, arguments.threads, progress);
        requireSteps(arguments, recipe, *prepared, name);
        const Evidence evidence =
            evaluate(recipe, project.rows, *prepared,
                     {.threads = arguments.threads, .lookAtTest = arguments.lookAtTest}, progress);
        project.current = project.trail.add(recipe, evidence, project.current);
        if (evidence.test) project.trail.lookAtTest(project.current);
        project.studies[project.current] = evidence.study;
        project.recipe = recipe;
    }
    saveProject(arguments.project, project, progress);
}

} // namespace

namespace {

int runAsked(const Arguments& arguments, TerminalProgress& progress) {
    if (!arguments.score.empty()) return runScore(arguments, progress);
    if (!arguments.describe.empty())
        describeRows(arguments, progress);
    else if (!arguments.look.empty())
        lookAtRows(arguments, progress);
    else if (!arguments.projectEvidence.empty())
        return runProjectEvidence(arguments, progress);
    else if (arguments.project.empty())
        return runToFolder(arguments, progress);
    else
        runToProject(arguments, progress);
    return 0;
}

/// One line of JSON at the end of a file, whole or not at all.
void addToLog(const Arguments& arguments, int code, const std::string& problem) {
    if (arguments.log.empty()) return;
    const auto now = std::chrono::floor<std::chrono::seconds>(std::chrono::system_clock::now());
    const std::time_t time = std::chrono::system_clock::to_time_t(now);
    std::tm utc{};
    gmtime_r(&time, &utc);
    std::array<char, 32> at{};
    std::strftime(at.data(), at.size(), "%Y-%m-%dT%H:%M:%SZ", &utc);
    nlohmann::ordered_json line{
        {"at", at.data()},
        {"what", arguments.score.empty()
                     ? arguments.recipes.empty() ? arguments.projectEvidence : arguments.recipes.front()
                     : arguments.score},
        {"out", arguments.out},
        {"code", code}};
    if (!problem.empty()) line["problem"] = problem;
    std::ofstream out(arguments.log, std::ios::app);
    out << line.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace) + "\n" << std::flush;
    if (!out) warn(arguments.log + " cannot be written.");
}

} // namespace

int runCommand(const Arguments& arguments, TerminalProgress& progress) {
    try {
        const int code = runAsked(arguments, progress);
        addToLog(arguments, code, {});
        return code;
    } catch (const Stopped&) {
        addToLog(arguments, exitStopped, "stopped");
        throw;
    } catch (const std::exception& error) {
        addToLog(arguments, 2, error.what());
        throw;
    }
}

} // namespace oxgoad
