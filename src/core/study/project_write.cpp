#include "base/error.h"
#include "base/file.h"
#include "estimate/model_text.h"
#include "study/project.h"
#include "study/project_parts.h"
#include "study/sqlite.h"

namespace oxgoad {

namespace fs = std::filesystem;
using nlohmann::json;

namespace {

constexpr const char* schema = R"(
CREATE TABLE state (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE view (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE fits (number INTEGER PRIMARY KEY, parent INTEGER NOT NULL, change TEXT NOT NULL, recipe TEXT NOT NULL,
  learning_rmse REAL, held_out_rmse REAL, held_out_rmse_error REAL, adjusted_r_squared REAL,
  rows_learning INTEGER NOT NULL, goads TEXT NOT NULL, earlier_rows INTEGER NOT NULL,
  folds TEXT NOT NULL, about TEXT NOT NULL);
CREATE TABLE test_looks (position INTEGER PRIMARY KEY, fit INTEGER NOT NULL);
CREATE TABLE tables (name TEXT PRIMARY KEY, rows INTEGER NOT NULL, report TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE columns (table_name TEXT NOT NULL, position INTEGER NOT NULL, name TEXT NOT NULL, kind TEXT NOT NULL,
  levels TEXT NOT NULL, offsets BLOB NOT NULL, data BLOB NOT NULL, PRIMARY KEY (table_name, position));
CREATE TABLE models (fit INTEGER PRIMARY KEY, study TEXT NOT NULL, rows BLOB NOT NULL, weights BLOB NOT NULL,
  fitted BLOB NOT NULL, residuals BLOB NOT NULL, leverages BLOB NOT NULL, robust_weights BLOB NOT NULL,
  left_one_out_rows BLOB NOT NULL, left_one_out BLOB NOT NULL);
CREATE TABLE checks (part TEXT PRIMARY KEY, sum INTEGER NOT NULL) WITHOUT ROWID;
)";

void writeCheck(Database& database, const std::string& part, const CheckSum& check) {
    Statement(database, "INSERT INTO checks VALUES (?, ?)").bind(1, part).bind(2, check.sum()).runOnce();
}

json reportJson(const ReadReport& r) {
    json faults = json::array();
    for (const CellFault& f : r.faults)
        faults.push_back({f.line, f.row, f.cell, f.column, f.text, f.reason});
    json doubts = json::array();
    for (const ReadDoubt& doubt : r.doubts)
        doubts.push_back({doubt.said, doubt.column, kindName(doubt.as)});
    json byColumn = json::array();
    for (const auto& [column, count] : r.faultsByColumn)
        byColumn.push_back({column, count});
    return {{"file", r.file},
            {"bytes", r.bytes},
            {"rows", r.rows},
            {"delimiter", static_cast<int>(r.format.delimiter)},
            {"quote", static_cast<int>(r.format.quote)},
            {"header", r.format.header},
            {"decimal_mark", static_cast<int>(r.format.decimalMark)},
            {"encoding", static_cast<int>(r.format.encoding)},
            {"skip_lines", r.format.skipLines},
            {"fault_count", r.faultCount},
            {"faults", faults},
            {"faults_by_column", byColumn},
            {"notes", r.notes},
            {"doubts", doubts},
            {"units", r.units}};
}

void writeTable(Database& database, const char* name, const RowsRead& rows, Progress& progress) {
    const auto count = static_cast<std::int64_t>(rows.table.rows());
    const std::string report = dumped(reportJson(rows.report));
    Statement(database, "INSERT INTO tables VALUES (?, ?, ?)")
        .bind(1, std::string_view(name))
        .bind(2, count)
        .bind(3, report)
        .runOnce();
    writeCheck(database, name, CheckSum().add(count).add(report));
    std::int64_t position = 0;
    for (const Column& column : rows.table.columns()) {
        progress.checkpoint(static_cast<double>(position) / static_cast<double>(rows.table.columns().size()),
                            "Saving rows");
        Statement insert(database, "INSERT INTO columns VALUES (?, ?, ?, ?, ?, ?, ?)");
        insert.bind(1, std::string_view(name))
            .bind(2, position)
            .bind(3, column.name())
            .bind(4, column.kindText());
        const std::string levels = dumped(json(column.levels()));
        insert.bind(5, levels);
        std::vector<std::uint64_t> offsets;
        std::string text;
        std::span<const std::byte> data, offsetBytes;
        if (column.kind() == ColumnKind::number)
            data = asBytes(column.numbers());
        else if (column.kind() == ColumnKind::factor)
            data = asBytes(column.codes());
        else if (column.kind() == ColumnKind::date)
            data = asBytes(column.days());
        else {
            offsets.push_back(0);
            for (std::size_t i = 0; i < column.size(); ++i) {
                text += column.text(i);
                offsets.push_back(text.size());
            }
            offsetBytes = asBytes(std::span<const std::uint64_t>(offsets));
            data = asBytes(std::span<const char>(text));
        }
        insert.bindBytes(6, offsetBytes).bindBytes(7, data);
        insert.runOnce();
        writeCheck(
            database, columnPart(name, position),
            CheckSum().add(column.name()).add(column.kindText()).add(levels).add(offsetBytes).add(data));
        ++position;
    }
}

json foldsOf(const FitSummary& summary) {
    if (std::isnan(summary.foldRmse)) return json::object();
    return {{"rmse", numberJson(summary.foldRmse)},
            {"error", numberJson(summary.foldRmseError)},
            {"spread", numberJson(summary.repeatSpread)},
            {"each", numbersJson(summary.foldRmses)},
            {"repeats", numbersJson(summary.repeatRmses)}};
}

json aboutOf(const TrailFit& fit) {
    json about{{"complexity", numberJson(fit.summary.complexity)},
               {"test_rmse", numberJson(fit.summary.testRmse)}};
    if (!fit.name.empty()) about["name"] = fit.name;
    if (!fit.note.empty()) about["note"] = fit.note;
    if (!fit.madeAt.empty()) about["made_at"] = fit.madeAt;
    if (fit.pinned) about["pinned"] = true;
    if (fit.pruned) about["pruned"] = true;
    return about;
}

void writeFits(Database& database, const Trail& trail) {
    CheckSum looks;
    for (std::size_t i = 0; i < trail.testLooks().size(); ++i) {
        const auto fit = static_cast<std::int64_t>(trail.testLooks()[i]);
        Statement(database, "INSERT INTO test_looks VALUES (?, ?)")
            .bind(1, static_cast<std::int64_t>(i + 1))
            .bind(2, fit)
            .runOnce();
        looks.add(fit);
    }
    writeCheck(database, "looks at test rows", looks);
    CheckSum numbers;
    for (const TrailFit& fit : trail.fits()) {
        const StoredFit stored{fit.number,
                               fit.parent,
                               fit.change,
                               recipeText(fit.recipe),
                               fit.summary.learningRmse,
                               fit.summary.heldOutRmse,
                               fit.summary.heldOutRmseError,
                               fit.summary.adjustedRSquared,
                               static_cast<std::int64_t>(fit.summary.rowsLearning),
                               dumped(json(fit.summary.goads)),
                               fit.earlierRows ? 1 : 0,
                               dumped(foldsOf(fit.summary)),
                               dumped(aboutOf(fit))};
        Statement(database, "INSERT INTO fits VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
            .bind(1, stored.number)
            .bind(2, stored.parent)
            .bind(3, stored.change)
            .bind(4, stored.recipe)
            .bind(5, stored.learningRmse)
            .bind(6, stored.heldOutRmse)
            .bind(7, stored.heldOutRmseError)
            .bind(8, stored.adjustedRSquared)
            .bind(9, stored.rowsLearning)
            .bind(10, stored.goads)
            .bind(11, stored.earlierRows)
            .bind(12, stored.folds)
            .bind(13, stored.about)
            .runOnce();
        writeCheck(database, fitPart(stored.number), stored.check(projectVersion));
        numbers.add(stored.number);
    }
    writeCheck(database, "trail", numbers);
}

std::span<const std::byte> bytesOf(const Eigen::VectorXd& vector) {
    return asBytes(std::span<const double>(vector.data(), static_cast<std::size_t>(vector.size())));
}

void writeModels(Database& database, const Project& project, Progress& progress) {
    CheckSum fits;
    for (const auto& [fit, study] : project.studies) {
        progress.checkpoint(0, "Saving models");
        const std::string text = studyText(*study);
        const TrainingResults& trained = study->trained;
        const std::array<std::span<const std::byte>, modelVectors> vectors{
            asBytes(std::span(study->rows)),
            asBytes(std::span(study->weights)),
            bytesOf(trained.fitted),
            bytesOf(trained.residuals),
            bytesOf(trained.leverages),
            asBytes(std::span(trained.robustWeights)),
            asBytes(std::span(trained.unseenRows)),
            asBytes(std::span(trained.unseen))};
        Statement insert(database, "INSERT INTO models VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
        insert.bind(1, static_cast<std::int64_t>(fit)).bind(2, text);
        CheckSum check;
        check.add(text);
        int place = 3;
        for (const auto& bytes : vectors) {
            insert.bindBytes(place++, bytes);
            check.add(bytes);
        }
        insert.runOnce();
        writeCheck(database, modelPart(fit), check);
        fits.add(static_cast<std::int64_t>(fit));
    }
    writeCheck(database, "models", fits);
}

} // namespace

void saveProject(const fs::path& path, const Project& project, Progress& progress) {
    AtomicFile file(path);
    try {
        Database database(file.temporary().string(), false);
        // The whole file is thrown away when anything fails, so it needs no journal of its own.
        database.run("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; BEGIN;");
        database.run(("PRAGMA application_id = " + std::to_string(applicationId) +
                      "; PRAGMA user_version = " + std::to_string(projectVersion) + ";")
                         .c_str());
        database.run(schema);
        const std::map<std::string, std::string> state{{"current", std::to_string(project.current)},
                                                       {"recipe", recipeText(project.recipe)},
                                                       {"folder", project.folder}};
        for (const auto& [table, pairs] : {std::pair{"state", &state}, std::pair{"view", &project.view}}) {
            CheckSum check;
            for (const auto& [key, value] : *pairs) {
                Statement(database, ("INSERT INTO " + std::string(table) + " VALUES (?, ?)").c_str())
                    .bind(1, key)
                    .bind(2, value)
                    .runOnce();
                check.add(key).add(value);
            }
            writeCheck(database, table, check);
        }
        writeFits(database, project.trail);
        writeModels(database, project, progress);
        writeTable(database, "rows", project.rows.learning, progress);
        if (project.rows.forecast) writeTable(database, "forecast", *project.rows.forecast, progress);
        database.run("COMMIT;");
    } catch (const SqliteFailure& failure) {
        throw Error(ErrorCode::cannotWrite, "cannot be written: " + failure.message, {.file = path.string()},
                    "Choose another folder or free some space; the old file is as it was.");
    }
    progress.checkpoint(1, "Saved");
    file.commit();
}

} // namespace oxgoad
