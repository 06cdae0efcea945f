#include "study/project.h"

#include "base/error.h"
#include "base/file.h"
#include "study/sqlite.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cstring>
#include <set>

namespace oxgoad {

namespace fs = std::filesystem;
using nlohmann::json;

namespace {

constexpr int applicationId = 0x4F584744; // "OXGD"

constexpr const char* schema = R"(
CREATE TABLE state (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE view (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE fits (number INTEGER PRIMARY KEY, parent INTEGER NOT NULL, change TEXT NOT NULL, recipe TEXT NOT NULL,
  learning_rmse REAL, held_out_rmse REAL, held_out_rmse_error REAL, adjusted_r_squared REAL,
  rows_learning INTEGER NOT NULL, goads TEXT NOT NULL, earlier_rows INTEGER NOT NULL);
CREATE TABLE test_looks (position INTEGER PRIMARY KEY, fit INTEGER NOT NULL);
CREATE TABLE tables (name TEXT PRIMARY KEY, rows INTEGER NOT NULL, report TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE columns (table_name TEXT NOT NULL, position INTEGER NOT NULL, name TEXT NOT NULL, kind TEXT NOT NULL,
  levels TEXT NOT NULL, offsets BLOB NOT NULL, data BLOB NOT NULL, PRIMARY KEY (table_name, position));
)";

template <class T> std::span<const std::byte> asBytes(std::span<const T> values) {
    return std::as_bytes(values);
}

json reportJson(const ReadReport& r) {
    json faults = json::array();
    for (const CellFault& f : r.faults)
        faults.push_back({f.line, f.row, f.cell, f.column, f.text, f.reason});
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
            {"fault_count", r.faultCount},
            {"faults", faults},
            {"faults_by_column", byColumn},
            {"notes", r.notes}};
}

ReadReport reportFrom(const json& j) {
    ReadReport r;
    r.file = j.at("file").get<std::string>();
    r.bytes = j.at("bytes").get<std::size_t>();
    r.rows = j.at("rows").get<std::size_t>();
    r.format.delimiter = static_cast<char>(j.at("delimiter").get<int>());
    r.format.quote = static_cast<char>(j.at("quote").get<int>());
    r.format.header = j.at("header").get<bool>();
    r.format.decimalMark = static_cast<char>(j.at("decimal_mark").get<int>());
    r.format.encoding = static_cast<Encoding>(std::clamp(j.at("encoding").get<int>(), 0, 3));
    r.faultCount = j.at("fault_count").get<std::size_t>();
    for (const auto& f : j.at("faults"))
        r.faults.push_back({f.at(0).get<std::size_t>(), f.at(1).get<std::size_t>(),
                            f.at(2).get<std::size_t>(), f.at(3).get<std::string>(),
                            f.at(4).get<std::string>(), f.at(5).get<std::string>()});
    for (const auto& c : j.at("faults_by_column"))
        r.faultsByColumn.emplace_back(c.at(0).get<std::string>(), c.at(1).get<std::size_t>());
    r.notes = j.at("notes").get<std::vector<std::string>>();
    return r;
}

std::string dumped(const json& value) {
    return value.dump(-1, ' ', false, json::error_handler_t::replace);
}

void writeTable(Database& database, const char* name, const RowsRead& rows, Progress& progress) {
    Statement(database, "INSERT INTO tables VALUES (?, ?, ?)")
        .bind(1, std::string_view(name))
        .bind(2, static_cast<std::int64_t>(rows.table.rows()))
        .bind(3, dumped(reportJson(rows.report)))
        .runOnce();
    std::int64_t position = 0;
    for (const Column& column : rows.table.columns()) {
        progress.checkpoint(static_cast<double>(position) / static_cast<double>(rows.table.columns().size()),
                            "Saving rows");
        Statement insert(database, "INSERT INTO columns VALUES (?, ?, ?, ?, ?, ?, ?)");
        insert.bind(1, std::string_view(name))
            .bind(2, position++)
            .bind(3, column.name())
            .bind(4, kindName(column.kind()));
        insert.bind(5, dumped(json(column.levels())));
        std::vector<std::uint64_t> offsets;
        std::string text;
        insert.bindBytes(6, {});
        if (column.kind() == ColumnKind::number)
            insert.bindBytes(7, asBytes(column.numbers()));
        else if (column.kind() == ColumnKind::factor)
            insert.bindBytes(7, asBytes(column.codes()));
        else if (column.kind() == ColumnKind::date)
            insert.bindBytes(7, asBytes(column.days()));
        else {
            offsets.push_back(0);
            for (std::size_t i = 0; i < column.size(); ++i) {
                text += column.text(i);
                offsets.push_back(text.size());
            }
            insert.bindBytes(6, asBytes(std::span<const std::uint64_t>(offsets)));
            insert.bindBytes(7, asBytes(std::span<const char>(text)));
        }
        insert.runOnce();
    }
}

void writeFits(Database& database, const Trail& trail) {
    for (std::size_t i = 0; i < trail.testLooks().size(); ++i)
        Statement(database, "INSERT INTO test_looks VALUES (?, ?)")
            .bind(1, static_cast<std::int64_t>(i + 1))
            .bind(2, static_cast<std::int64_t>(trail.testLooks()[i]))
            .runOnce();
    for (const TrailFit& fit : trail.fits())
        Statement(database, "INSERT INTO fits VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
            .bind(1, static_cast<std::int64_t>(fit.number))
            .bind(2, static_cast<std::int64_t>(fit.parent))
            .bind(3, fit.change)
            .bind(4, recipeText(fit.recipe))
            .bind(5, fit.summary.learningRmse)
            .bind(6, fit.summary.heldOutRmse)
            .bind(7, fit.summary.heldOutRmseError)
            .bind(8, fit.summary.adjustedRSquared)
            .bind(9, static_cast<std::int64_t>(fit.summary.rowsLearning))
            .bind(10, dumped(json(fit.summary.goads)))
            .bind(11, static_cast<std::int64_t>(fit.earlierRows))
            .runOnce();
}

[[noreturn]] void damaged(const fs::path& path, const std::string& what) {
    throw Error(ErrorCode::badProject, "the project is damaged: " + what, {.file = path.string()},
                "Open an older copy; this file is left as it is.");
}

template <class T>
std::vector<T> valuesFrom(std::span<const std::byte> bytes, std::size_t rows, const fs::path& path) {
    if (bytes.size() != rows * sizeof(T)) damaged(path, "a column has the wrong length");
    std::vector<T> values(rows);
    if (!bytes.empty()) std::memcpy(values.data(), bytes.data(), bytes.size());
    return values;
}

Column columnFrom(Statement& row, std::size_t rows, const fs::path& path) {
    const std::string name = row.text(2);
    const std::string kind = row.text(3);
    const auto data = row.bytes(6);
    if (kind == "number") return Column::ofNumbers(name, valuesFrom<double>(data, rows, path));
    if (kind == "date") return Column::ofDates(name, valuesFrom<std::int32_t>(data, rows, path));
    if (kind == "factor") {
        auto levels = json::parse(row.text(4)).get<std::vector<std::string>>();
        if (std::set<std::string>(levels.begin(), levels.end()).size() != levels.size())
            damaged(path, "a factor has a level twice");
        auto codes = valuesFrom<std::int32_t>(data, rows, path);
        for (const auto code : codes)
            if (code < Column::missingCode || code >= static_cast<std::int32_t>(levels.size()))
                damaged(path, "a factor has a code without a level");
        return Column::ofFactor(name, std::move(codes), std::move(levels));
    }
    if (kind != "text") damaged(path, "a column is of an unknown kind");
    TextCells cells;
    cells.offsets = valuesFrom<std::uint64_t>(row.bytes(5), rows + 1, path);
    cells.bytes.assign(reinterpret_cast<const char*>(data.data()), data.size());
    if (cells.offsets.front() != 0 || cells.offsets.back() != cells.bytes.size() ||
        !std::is_sorted(cells.offsets.begin(), cells.offsets.end()))
        damaged(path, "a text column does not add up");
    return Column::ofText(name, std::move(cells));
}

std::optional<RowsRead> readTable(Database& database, const char* name, const fs::path& path,
                                  Progress& progress) {
    Statement table(database, "SELECT rows, report FROM tables WHERE name = ?");
    table.bind(1, std::string_view(name));
    if (!table.step()) return std::nullopt;
    const auto rows = static_cast<std::size_t>(table.integer(0));
    RowsRead read;
    read.report = reportFrom(json::parse(table.text(1)));
    Statement select(database, "SELECT * FROM columns WHERE table_name = ? ORDER BY position");
    select.bind(1, std::string_view(name));
    std::vector<Column> columns;
    std::set<std::string> names;
    while (select.step()) {
        progress.checkpoint(0.5, "Opening rows");
        columns.push_back(columnFrom(select, rows, path));
        if (!names.insert(columns.back().name()).second) damaged(path, "a column is there twice");
    }
    read.table = Table(std::move(columns));
    return read;
}

Trail readFits(Database& database, std::int64_t version, const fs::path& path) {
    std::vector<TrailFit> fits;
    Statement select(database, "SELECT * FROM fits ORDER BY number");
    while (select.step()) {
        TrailFit fit;
        fit.number = static_cast<int>(select.integer(0));
        fit.parent = static_cast<int>(select.integer(1));
        fit.change = select.text(2);
        fit.recipe = parseRecipe(select.text(3), path.filename().string());
        fit.summary = {select.real(4),
                       select.real(5),
                       select.real(6),
                       select.real(7),
                       static_cast<std::size_t>(select.integer(8)),
                       json::parse(select.text(9)).get<std::vector<std::string>>()};
        if (version >= 2) fit.earlierRows = select.integer(10) != 0;
        fits.push_back(std::move(fit));
    }
    auto trail = Trail::fromFits(std::move(fits));
    if (!trail) damaged(path, "the trail does not hang together");
    if (version >= 2) { // form 1 knew no test rows
        Statement looks(database, "SELECT fit FROM test_looks ORDER BY position");
        while (looks.step()) {
            const auto fit = static_cast<int>(looks.integer(0));
            if (!trail->find(fit)) damaged(path, "a look at the test rows belongs to no fit");
            trail->lookAtTest(fit);
        }
    }
    return *trail;
}

std::map<std::string, std::string> readPairs(Database& database, const char* sql) {
    std::map<std::string, std::string> pairs;
    Statement select(database, sql);
    while (select.step())
        pairs[select.text(0)] = select.text(1);
    return pairs;
}

std::int64_t pragma(Database& database, const char* sql) {
    Statement statement(database, sql);
    return statement.step() ? statement.integer(0) : 0;
}

Project readProject(Database& database, const fs::path& path, Progress& progress) {
    if (pragma(database, "PRAGMA application_id") != applicationId)
        throw Error(ErrorCode::badProject, "this is not an Oxgoad project", {.file = path.string()},
                    "Choose a project file, a recipe or a text file with rows.");
    const auto version = pragma(database, "PRAGMA user_version");
    if (version > projectVersion)
        throw Error(ErrorCode::newerVersion,
                    "the project was saved by a newer Oxgoad (form " + std::to_string(version) +
                        ", this one knows " + std::to_string(projectVersion) + ")",
                    {.file = path.string()}, "Use the newer program; this file is left as it is.");
    {
        Statement check(database, "PRAGMA quick_check(1)");
        if (!check.step() || check.text(0) != "ok") damaged(path, "its pages do not fit together");
    }
    Project project;
    const auto state = readPairs(database, "SELECT key, value FROM state");
    for (const auto* key : {"current", "recipe", "folder"})
        if (!state.contains(key)) damaged(path, std::string("it lacks \"") + key + "\"");
    project.trail = readFits(database, version, path);
    project.current = std::stoi(state.at("current"));
    if (project.current != 0 && !project.trail.find(project.current))
        damaged(path, "its current fit is not on the trail");
    project.recipe = parseRecipe(state.at("recipe"), path.filename().string());
    project.folder = state.at("folder");
    project.view = readPairs(database, "SELECT key, value FROM view");
    auto rows = readTable(database, "rows", path, progress);
    if (!rows) damaged(path, "its rows are not there");
    project.rows.learning = std::move(*rows);
    project.rows.forecast = readTable(database, "forecast", path, progress);
    return project;
}

} // namespace

void saveProject(const fs::path& path, const Project& project, Progress& progress) {
    AtomicFile file(path);
    std::error_code ignored;
    fs::remove(file.temporary(), ignored);
    try {
        Database database(file.temporary().string(), false);
        // The whole file is thrown away when anything fails, so it needs no journal of its own.
        database.run("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; BEGIN;");
        database.run(("PRAGMA application_id = " + std::to_string(applicationId) +
                      "; PRAGMA user_version = " + std::to_string(projectVersion) + ";")
                         .c_str());
        database.run(schema);
        for (const auto& [key, value] :
             std::map<std::string, std::string>{{"current", std::to_string(project.current)},
                                                {"recipe", recipeText(project.recipe)},
                                                {"folder", project.folder}})
            Statement(database, "INSERT INTO state VALUES (?, ?)").bind(1, key).bind(2, value).runOnce();
        for (const auto& [key, value] : project.view)
            Statement(database, "INSERT INTO view VALUES (?, ?)").bind(1, key).bind(2, value).runOnce();
        writeFits(database, project.trail);
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

Project openProject(const fs::path& path, Progress& progress) {
    requireFile(path);
    try {
        Database database(path.string(), true);
        return readProject(database, path, progress);
    } catch (const SqliteFailure& failure) {
        throw Error(ErrorCode::badProject,
                    "this is not an Oxgoad project, or it is damaged (" + failure.message + ")",
                    {.file = path.string()}, "Open an older copy; this file is left as it is.");
    } catch (const json::exception&) {
        damaged(path, "a part of it cannot be read");
    } catch (const std::logic_error&) { // std::stoi
        damaged(path, "a number in it cannot be read");
    }
}

} // namespace oxgoad
