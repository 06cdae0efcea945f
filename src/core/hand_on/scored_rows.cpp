#include "hand_on/scored_rows.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "hand_on/notation.h"
#include "read/database.h"
#include "study/sqlite.h"

#include <libpq-fe.h>

#include <array>
#include <cmath>
#include <memory>
#include <set>

namespace oxgoad {

namespace {

/// A column of what is written: of numbers, or of texts.
struct OutColumn {
    std::string name;
    bool isNumber;
};

constexpr std::array addedNumbers{"prediction", "mean_lower", "mean_upper", "lower", "upper"};

std::vector<OutColumn> outColumns(const ScoredRows& scored) {
    std::vector<OutColumn> out;
    std::set<std::string> taken{"prediction", "mean_lower", "mean_upper", "lower",
                                "upper",      "reach",      "reasons"};
    for (const Column& column : scored.given.columns())
        out.push_back({taken.contains(column.name()) ? "given_" + column.name() : column.name(),
                       column.kind() == ColumnKind::number && !column.moments()});
    for (const auto* name : addedNumbers)
        out.push_back({name, true});
    out.push_back({"reach", false});
    out.push_back({"reasons", false});
    return out;
}

/// Calls number(column, value) or text(column, text) for what is there of a row.
template <class Number, class Text>
void eachCell(const ScoredRows& scored, const std::vector<OutColumn>& columns, std::size_t row,
              const Number& number, const Text& text) {
    const std::size_t given = scored.given.columns().size();
    for (std::size_t c = 0; c < given; ++c) {
        const Column& column = scored.given.columns()[c];
        if (column.isMissing(row)) continue;
        if (columns[c].isNumber)
            number(c, column.asNumber(row));
        else
            text(c, column.cellText(row));
    }
    const ForecastEvidence& f = scored.forecast;
    std::size_t c = given;
    for (const auto* values : {&f.prediction, &f.meanLower, &f.meanUpper, &f.lower, &f.upper}) {
        if (std::isfinite((*values)[row])) number(c, (*values)[row]);
        ++c;
    }
    text(c++, std::string(gradeName(f.reach[row].grade)));
    std::string reasons;
    for (const std::string& reason : f.reach[row].reasons)
        reasons += (reasons.empty() ? "" : "; ") + reason;
    if (!reasons.empty()) text(c, reasons);
}

void stopAndTell(Progress& progress, std::size_t row, std::size_t rows) {
    if (row % 4096 == 0)
        progress.checkpoint(static_cast<double>(row) / static_cast<double>(std::max<std::size_t>(1, rows)),
                            "Writing rows");
}

[[noreturn]] void cannotWriteInto(const std::filesystem::path& file, const std::string& why) {
    throw Error(ErrorCode::cannotWrite, "cannot be written: " + why, {.file = file.string()});
}

} // namespace

void writeScoredSheets(SheetsOut& out, const ScoredRows& scored, Progress& progress) {
    constexpr std::size_t most = 1048575;
    if (scored.given.rows() > most)
        throw Error(ErrorCode::badTerm,
                    countText(scored.given.rows()) + " rows are more than a sheet holds (" + countText(most) +
                        ")",
                    {}, "Write them as text or into a database.");
    const std::vector<OutColumn> columns = outColumns(scored);
    out.sheet("forecast");
    for (std::size_t c = 0; c < columns.size(); ++c)
        out.text(0, c, columns[c].name);
    for (std::size_t row = 0; row < scored.given.rows(); ++row) {
        stopAndTell(progress, row, scored.given.rows());
        eachCell(
            scored, columns, row, [&](std::size_t c, double value) { out.number(row + 1, c, value); },
            [&](std::size_t c, const std::string& text) { out.text(row + 1, c, text); });
    }
    out.sheet("notes");
    for (std::size_t i = 0; i < scored.notes.size(); ++i) {
        out.text(i, 0, scored.notes[i].first);
        out.text(i, 1, scored.notes[i].second);
    }
}

void writeScoredSqlite(const std::filesystem::path& file, const ScoredRows& scored, Progress& progress) {
    std::error_code ignored;
    std::filesystem::remove(file, ignored);
    try {
        Database database(file.string(), false);
        const std::vector<OutColumn> columns = outColumns(scored);
        std::string create = "CREATE TABLE forecast (", insert = "INSERT INTO forecast VALUES (";
        for (std::size_t c = 0; c < columns.size(); ++c) {
            create += (c > 0 ? ", " : "") + quotedName(columns[c].name) +
                      (columns[c].isNumber ? " DOUBLE PRECISION" : " TEXT");
            insert += c > 0 ? ", ?" : "?";
        }
        database.run("PRAGMA journal_mode = OFF");
        database.run("PRAGMA synchronous = OFF");
        database.run("BEGIN");
        database.run((create + ")").c_str());
        database.run("CREATE TABLE notes (name TEXT, says TEXT)");
        {
            Statement rows(database, (insert + ")").c_str());
            for (std::size_t row = 0; row < scored.given.rows(); ++row) {
                stopAndTell(progress, row, scored.given.rows());
                eachCell(
                    scored, columns, row,
                    [&](std::size_t c, double value) { rows.bind(static_cast<int>(c) + 1, value); },
                    [&](std::size_t c, const std::string& text) {
                        rows.bind(static_cast<int>(c) + 1, std::string_view(text));
                    });
                rows.runOnce();
            }
            Statement notes(database, "INSERT INTO notes VALUES (?, ?)");
            for (const auto& [name, says] : scored.notes) {
                notes.bind(1, std::string_view(name)).bind(2, std::string_view(says));
                notes.runOnce();
            }
        }
        database.run("COMMIT");
    } catch (const SqliteFailure& failure) {
        std::filesystem::remove(file, ignored);
        cannotWriteInto(file, failure.message);
    } catch (...) {
        std::filesystem::remove(file, ignored);
        throw;
    }
}

void appendScored(const ServerPlace& place, const std::string& password, const std::string& table,
                  const ScoredRows& scored, Progress& progress) {
    const auto connection = connectPostgres(place, password, progress);
    const std::string where = place.host + "/" + place.database + "/" + table;
    using Result = std::unique_ptr<PGresult, void (*)(PGresult*)>;
    const auto run = [&](const std::string& sql, ExecStatusType wanted) {
        Result result(PQexec(connection.get(), sql.c_str()), PQclear);
        if (PQresultStatus(result.get()) != wanted)
            throw Error(ErrorCode::badDatabase, std::string(trimmed(PQerrorMessage(connection.get()))),
                        {.file = where}, "Nothing was appended.");
        return result;
    };
    const std::vector<OutColumn> columns = outColumns(scored);
    std::string create, names;
    for (const OutColumn& column : columns) {
        create += (create.empty() ? "" : ", ") + quotedName(column.name) +
                  (column.isNumber ? " double precision" : " text");
        names += (names.empty() ? "" : ", ") + quotedName(column.name);
    }
    // A connection that goes before the end takes everything back.
    run("BEGIN", PGRES_COMMAND_OK);
    run("CREATE TABLE IF NOT EXISTS " + quotedName(table) + " (" + create + ")", PGRES_COMMAND_OK);
    {
        const Result there = run("SELECT * FROM " + quotedName(table) + " LIMIT 0", PGRES_TUPLES_OK);
        std::set<std::string> known;
        for (int c = 0; c < PQnfields(there.get()); ++c)
            known.insert(PQfname(there.get(), c));
        for (const OutColumn& column : columns)
            if (!known.contains(column.name))
                throw Error(ErrorCode::cannotWrite, "the table has no column of that name",
                            {.file = where, .column = column.name},
                            "Name another table; it is made when it is not there.");
    }
    run("COPY " + quotedName(table) + " (" + names + ") FROM STDIN", PGRES_COPY_IN);
    const auto copied = [](std::string& line, const std::string& text) {
        for (const char c : text)
            if (c == '\\' || c == '\t' || c == '\n' || c == '\r')
                line += c == '\\' ? "\\\\" : c == '\t' ? "\\t" : c == '\n' ? "\\n" : "\\r";
            else if (c != '\0')
                line += c;
    };
    try {
        for (std::size_t row = 0; row < scored.given.rows(); ++row) {
            stopAndTell(progress, row, scored.given.rows());
            std::vector<std::string> cells(columns.size(), "\\N");
            eachCell(
                scored, columns, row, [&](std::size_t c, double value) { cells[c] = exactText(value); },
                [&](std::size_t c, const std::string& text) {
                    cells[c].clear();
                    copied(cells[c], text);
                });
            std::string line;
            for (std::size_t c = 0; c < cells.size(); ++c)
                line += (c > 0 ? "\t" : "") + cells[c];
            line += '\n';
            if (PQputCopyData(connection.get(), line.data(), static_cast<int>(line.size())) != 1)
                throw Error(ErrorCode::badDatabase, std::string(trimmed(PQerrorMessage(connection.get()))),
                            {.file = where}, "Nothing was appended.");
        }
    } catch (...) {
        PQputCopyEnd(connection.get(), "stopped");
        throw;
    }
    PQputCopyEnd(connection.get(), nullptr);
    const Result ended(PQgetResult(connection.get()), PQclear);
    if (PQresultStatus(ended.get()) != PGRES_COMMAND_OK)
        throw Error(ErrorCode::badDatabase, std::string(trimmed(PQerrorMessage(connection.get()))),
                    {.file = where}, "Nothing was appended.");
    while (PGresult* more = PQgetResult(connection.get()))
        PQclear(more);
    run("COMMIT", PGRES_COMMAND_OK);
}

} // namespace oxgoad
