#include "read/database.h"

#include "base/error.h"
#include "base/file.h"
#include "base/text.h"
#include "read/sqlite_file.h"
#include "read/table_builder.h"

#include <libpq-fe.h>
#include <sqlite3.h>

#include <poll.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <chrono>
#include <memory>
#include <set>
#include <string_view>

namespace oxgoad {

namespace {

[[noreturn]] void refuseQuery(const std::string& name, const std::string& what, std::size_t character,
                              const std::string& remedy) {
    throw Error(ErrorCode::badQuery, what, {.file = name, .character = character}, remedy);
}

/// Query columns need names of their own: a table cannot have two columns called the same.
void requireDistinct(const std::vector<std::string>& names, const std::string& source) {
    std::set<std::string_view> known;
    for (const std::string& name : names)
        if (!known.insert(name).second)
            refuseQuery(source, "the query gives two columns the name \"" + name + "\"", 0,
                        "Give one of them another name with AS.");
}

std::size_t characterOf(std::string_view text, std::size_t byte) {
    std::size_t count = 1;
    for (std::size_t i = 0; i < byte && i < text.size(); ++i)
        count += (static_cast<unsigned char>(text[i]) & 0xC0U) != 0x80;
    return count;
}

void requireQuery(std::string_view query, const std::string& source) {
    if (trimmed(query).empty())
        refuseQuery(source, "there is no query", 0, "Type one, such as SELECT * FROM depots.");
}

using SqliteHandle = std::unique_ptr<sqlite3, int (*)(sqlite3*)>;
using SqliteStatement = std::unique_ptr<sqlite3_stmt, int (*)(sqlite3_stmt*)>;

[[noreturn]] void sqliteFailed(sqlite3* handle, const std::string& name, const std::string& query) {
    const int code = sqlite3_errcode(handle) & 0xFF;
    const std::string message = sqlite3_errmsg(handle);
    if (code == SQLITE_NOTADB || code == SQLITE_CORRUPT)
        throw Error(ErrorCode::badDatabase,
                    code == SQLITE_NOTADB ? "this is not an SQLite database, or it is encrypted"
                                          : "the database is damaged: " + message,
                    {.file = name}, "Choose another file, or one made from a backup.");
    const int offset = sqlite3_error_offset(handle);
    refuseQuery(name, "the query was refused: " + message,
                offset >= 0 ? characterOf(query, static_cast<std::size_t>(offset)) : 0, "Correct the query.");
}

/// A database and what must outlive it.
struct OpenSqlite {
    std::unique_ptr<SqliteSideFiles> side;
    SqliteHandle handle{nullptr, sqlite3_close};
    sqlite3* get() const { return handle.get(); }
};

OpenSqlite openSqlite(const std::filesystem::path& path, Progress* progress) {
    requireFile(path);
    OpenSqlite open;
    open.side = std::make_unique<SqliteSideFiles>(path);
    sqlite3* raw = nullptr;
    const int code =
        sqlite3_open_v2(open.side->uri().c_str(), &raw, SQLITE_OPEN_READONLY | SQLITE_OPEN_URI, nullptr);
    open.handle.reset(raw);
    if (code != SQLITE_OK)
        throw Error(ErrorCode::badDatabase,
                    "the database cannot be opened: " + std::string(sqlite3_errmsg(raw)),
                    {.file = path.filename().string()}, "Choose another file.");
    sqlite3_busy_timeout(raw, 2000);
    // Views are what people query; they and queries may run long before a first row, and end when told to.
    trustNothing(raw, false, progress);
    // Only a look inside tells whether the file is a database at all.
    if (sqlite3_exec(raw, "PRAGMA schema_version", nullptr, nullptr, nullptr) != SQLITE_OK)
        sqliteFailed(raw, path.filename().string(), {});
    return open;
}

SqliteStatement prepared(sqlite3* handle, const std::string& query, const std::string& name) {
    sqlite3_stmt* raw = nullptr;
    const char* rest = nullptr;
    if (sqlite3_prepare_v2(handle, query.c_str(), static_cast<int>(query.size()), &raw, &rest) != SQLITE_OK)
        sqliteFailed(handle, name, query);
    SqliteStatement statement(raw, sqlite3_finalize);
    const std::string_view left =
        trimmed(std::string_view(rest, query.size() - static_cast<std::size_t>(rest - query.c_str())));
    if (!raw)
        refuseQuery(name, "there is no query, only a comment", 1, "Type one, such as SELECT * FROM depots.");
    if (!left.empty() && left != ";") {
        sqlite3_stmt* second = nullptr;
        sqlite3_prepare_v2(handle, rest, -1, &second, nullptr);
        const bool more = second != nullptr;
        sqlite3_finalize(second);
        if (more)
            refuseQuery(name, "there is a second statement",
                        characterOf(query, static_cast<std::size_t>(rest - query.c_str())),
                        "Keep the query alone.");
    }
    if (sqlite3_column_count(raw) == 0 || sqlite3_stmt_readonly(raw) == 0)
        refuseQuery(name, "this is not a query: it gives no rows or would change the database", 1,
                    "Begin it with SELECT.");
    return statement;
}

void addSqliteCell(sqlite3_stmt* statement, int c, TableBuilder& builder) {
    const auto column = static_cast<std::size_t>(c);
    switch (sqlite3_column_type(statement, c)) {
    case SQLITE_INTEGER:
    case SQLITE_FLOAT:
        builder.addNumber(column, sqlite3_column_double(statement, c));
        break;
    case SQLITE_TEXT:
        builder.addText(column, {reinterpret_cast<const char*>(sqlite3_column_text(statement, c)),
                                 static_cast<std::size_t>(sqlite3_column_bytes(statement, c))});
        break;
    case SQLITE_BLOB:
        builder.addFault(column, "", "is a blob, not a value");
        break;
    default:
        break;
    }
}

constexpr std::size_t rowsBetweenChecks = 1024;

} // namespace

RowsRead readSqlite(const std::filesystem::path& path, const std::string& query, const TextOptions& options,
                    std::size_t mostRows, Progress& progress) {
    const std::string name = path.filename().string();
    requireQuery(query, name);
    progress.checkpoint(0, "Asking the database");
    const OpenSqlite handle = openSqlite(path, &progress);
    const SqliteStatement statement = prepared(handle.get(), query, name);
    std::vector<std::string> names;
    for (int c = 0; c < sqlite3_column_count(statement.get()); ++c)
        names.emplace_back(sqlite3_column_name(statement.get(), c));
    requireDistinct(names, name);
    TableBuilder builder(names, options, name);
    for (;;) {
        const int code = sqlite3_step(statement.get());
        if (code == SQLITE_DONE) break;
        if (code == SQLITE_INTERRUPT) throw Stopped{};
        if (code != SQLITE_ROW) sqliteFailed(handle.get(), name, query);
        for (int c = 0; c < static_cast<int>(names.size()); ++c)
            addSqliteCell(statement.get(), c, builder);
        builder.endRow(builder.rows() + 1);
        if (builder.rows() == mostRows) break;
        if (builder.rows() % rowsBetweenChecks == 0)
            progress.checkpoint(0.5, "Reading rows, " + countText(builder.rows()) + " so far");
    }
    return builder.finish();
}

std::vector<std::string> tablesOfSqlite(const std::filesystem::path& path) {
    const std::string name = path.filename().string();
    const std::string query = "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT "
                              "LIKE 'sqlite_%' ORDER BY name";
    const OpenSqlite handle = openSqlite(path, nullptr);
    const SqliteStatement statement = prepared(handle.get(), query, name);
    std::vector<std::string> tables;
    while (sqlite3_step(statement.get()) == SQLITE_ROW)
        tables.emplace_back(reinterpret_cast<const char*>(sqlite3_column_text(statement.get(), 0)));
    return tables;
}

namespace {

using Connection = std::unique_ptr<PGconn, void (*)(PGconn*)>;
using Result = std::unique_ptr<PGresult, void (*)(PGresult*)>;

// Types of the server's catalogue (pg_type).
constexpr Oid boolType = 16, int8Type = 20, int2Type = 21, int4Type = 23, oidType = 26, float4Type = 700,
              float8Type = 701, dateType = 1082, timestampType = 1114, timestamptzType = 1184,
              numericType = 1700;

std::string oneLine(const char* text) {
    std::string line(trimmed(text ? text : ""));
    std::replace(line.begin(), line.end(), '\n', ' ');
    return line;
}

/// Waits a little for the server. False where it has nothing to say yet. Throws Stopped.
bool waitFor(PGconn* connection, bool toRead, const Progress& progress) {
    constexpr int milliseconds = 20;
    stopIfTold(progress);
    pollfd waiting{PQsocket(connection), static_cast<short>(toRead ? POLLIN : POLLOUT), 0};
    return ::poll(&waiting, 1, milliseconds) != 0;
}

/// What the server answers to what was sent; told to stop, it is told so, too.
Result answered(PGconn* connection, bool sent, const Progress& progress) {
    Result last(nullptr, PQclear);
    try {
        while (sent && PQisBusy(connection) != 0) {
            if (waitFor(connection, true, progress) && PQconsumeInput(connection) == 0) break;
        }
    } catch (const Stopped&) {
        const std::unique_ptr<PGcancel, void (*)(PGcancel*)> cancel(PQgetCancel(connection), PQfreeCancel);
        std::array<char, 256> why{};
        if (cancel) PQcancel(cancel.get(), why.data(), why.size());
        throw;
    }
    while (PGresult* result = PQgetResult(connection))
        last.reset(result);
    return last;
}

Connection connected(const ServerPlace& place, const std::string& password, const Progress& progress) {
    const std::string port = std::to_string(place.port);
    const std::array<const char*, 8> keys{
        "host", "port", "dbname", "user", "password", "connect_timeout", "client_encoding", nullptr};
    const std::array<const char*, 8> values{place.host.c_str(),
                                            port.c_str(),
                                            place.database.c_str(),
                                            place.user.c_str(),
                                            password.c_str(),
                                            "10",
                                            "UTF8",
                                            nullptr};
    Connection connection(PQconnectStartParams(keys.data(), values.data(), 0), PQfinish);
    const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(10);
    for (PostgresPollingStatusType state = PGRES_POLLING_WRITING;
         PQstatus(connection.get()) != CONNECTION_BAD && state != PGRES_POLLING_OK &&
         state != PGRES_POLLING_FAILED && std::chrono::steady_clock::now() < end;) {
        if (waitFor(connection.get(), state == PGRES_POLLING_READING, progress))
            state = PQconnectPoll(connection.get());
    }
    if (PQstatus(connection.get()) == CONNECTION_OK) return connection;
    const bool wantsPassword = PQconnectionNeedsPassword(connection.get()) != 0;
    const bool wrongPassword = PQconnectionUsedPassword(connection.get()) != 0;
    if (wantsPassword || wrongPassword)
        throw Error(ErrorCode::badPassword,
                    wantsPassword ? "the server asks for a password"
                                  : "the server refused the password of " + place.user,
                    {.file = serverName(place)}, "Give the password again; it is not stored.");
    const std::string why = oneLine(PQerrorMessage(connection.get()));
    throw Error(ErrorCode::badDatabase,
                "no connection: " + (why.empty() ? "the server did not answer within 10 seconds" : why),
                {.file = serverName(place)},
                "Look whether the server runs and whether host, port, database and user are right.");
}

void run(PGconn* connection, const char* sql, const ServerPlace& place, const Progress& progress) {
    const Result result = answered(connection, PQsendQuery(connection, sql) != 0, progress);
    if (PQresultStatus(result.get()) != PGRES_COMMAND_OK)
        throw Error(ErrorCode::badDatabase, oneLine(PQresultErrorMessage(result.get())),
                    {.file = serverName(place)}, "Ask whoever looks after the server.");
}

[[noreturn]] void postgresFailed(PGconn* connection, const PGresult* result, const ServerPlace& place,
                                 std::size_t rows) {
    if (PQstatus(connection) != CONNECTION_OK)
        throw Error(ErrorCode::badDatabase,
                    "the connection was lost after " + plural(rows, "row", "rows") + ": " +
                        oneLine(PQerrorMessage(connection)),
                    {.file = serverName(place)}, "Try again; what was open before stays as it was.");
    const char* state = PQresultErrorField(result, PG_DIAG_SQLSTATE);
    const char* message = PQresultErrorField(result, PG_DIAG_MESSAGE_PRIMARY);
    const char* position = PQresultErrorField(result, PG_DIAG_STATEMENT_POSITION);
    std::size_t character = 0;
    if (position) {
        // The query was wrapped in a cursor's declaration; the server counts characters from 1.
        character = static_cast<std::size_t>(std::max(0L, std::strtol(position, nullptr, 10)));
        const std::size_t wrapped = std::string_view("DECLARE oxgoad_rows NO SCROLL CURSOR FOR ").size();
        character = character > wrapped ? character - wrapped : 0;
    }
    const std::string_view code = state ? state : "";
    if (code == "25006" || code == "42601")
        refuseQuery(serverName(place),
                    code == "25006" ? "this is not a query: it would change the database"
                                    : "this is not a query the server understands: " + oneLine(message),
                    character, "Begin it with SELECT.");
    refuseQuery(serverName(place), "the query was refused: " + oneLine(message), character,
                "Correct the query.");
}

void addPostgresCell(TableBuilder& builder, std::size_t column, Oid type, std::string_view text) {
    switch (type) {
    case int2Type:
    case int4Type:
    case int8Type:
    case oidType:
    case float4Type:
    case float8Type:
    case numericType: {
        double value = 0;
        const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), value);
        if (failure == std::errc{} && end == text.data() + text.size())
            builder.addNumber(column, value);
        else
            builder.addFault(column, text, "is no number a double can hold");
        return;
    }
    case dateType:
    case timestampType:
    case timestamptzType:
        if (const auto moment = parseMoment(text, DateOrder::yearFirst))
            builder.addDate(column, *moment);
        else if (const auto day = parseDate(text, DateOrder::yearFirst))
            builder.addDate(column, *day);
        else
            builder.addFault(column, text, "is no date of the calendar");
        return;
    case boolType:
        builder.addText(column, text == "t" ? "true" : "false");
        return;
    default:
        builder.addText(column, text);
    }
}

} // namespace

RowsRead readPostgres(const ServerPlace& place, const std::string& password, const std::string& query,
                      const TextOptions& options, std::size_t mostRows, Progress& progress) {
    requireQuery(query, serverName(place));
    progress.checkpoint(0, "Connecting");
    const Connection connection = connected(place, password, progress);
    run(connection.get(), "SET DateStyle TO ISO", place, progress);
    run(connection.get(), "SET extra_float_digits TO 3", place, progress);
    run(connection.get(), "BEGIN TRANSACTION READ ONLY", place, progress);
    std::string plain(trimmed(query));
    while (!plain.empty() && (plain.back() == ';' || plain.back() == ' ' || plain.back() == '\n'))
        plain.pop_back();
    // A cursor takes exactly one query, and its rows come in portions.
    {
        const std::string declare = "DECLARE oxgoad_rows NO SCROLL CURSOR FOR " + plain;
        // The protocol with parameters takes one statement only: a second one is refused by the server.
        const Result result = answered(connection.get(),
                                       PQsendQueryParams(connection.get(), declare.c_str(), 0, nullptr,
                                                         nullptr, nullptr, nullptr, 0) != 0,
                                       progress);
        if (PQresultStatus(result.get()) != PGRES_COMMAND_OK)
            postgresFailed(connection.get(), result.get(), place, 0);
    }
    std::optional<TableBuilder> builder;
    std::vector<Oid> types;
    for (bool more = true; more;) {
        progress.checkpoint(0.5, "Reading rows, " + countText(builder ? builder->rows() : 0) + " so far");
        const Result result = answered(
            connection.get(), PQsendQuery(connection.get(), "FETCH 5000 FROM oxgoad_rows") != 0, progress);
        if (PQresultStatus(result.get()) != PGRES_TUPLES_OK)
            postgresFailed(connection.get(), result.get(), place, builder ? builder->rows() : 0);
        if (!builder) {
            std::vector<std::string> names;
            for (int c = 0; c < PQnfields(result.get()); ++c) {
                names.emplace_back(PQfname(result.get(), c));
                types.push_back(PQftype(result.get(), c));
            }
            requireDistinct(names, serverName(place));
            builder.emplace(names, options, serverName(place));
        }
        const int rows = PQntuples(result.get());
        for (int r = 0; r < rows && (mostRows == 0 || builder->rows() < mostRows); ++r) {
            for (int c = 0; c < static_cast<int>(types.size()); ++c)
                if (PQgetisnull(result.get(), r, c) == 0)
                    addPostgresCell(*builder, static_cast<std::size_t>(c), types[static_cast<std::size_t>(c)],
                                    {PQgetvalue(result.get(), r, c),
                                     static_cast<std::size_t>(PQgetlength(result.get(), r, c))});
            builder->endRow(builder->rows() + 1);
        }
        more = rows > 0 && (mostRows == 0 || builder->rows() < mostRows);
    }
    return builder->finish();
}

std::unique_ptr<pg_conn, void (*)(pg_conn*)>
connectPostgres(const ServerPlace& place, const std::string& password, const Progress& progress) {
    return connected(place, password, progress);
}

} // namespace oxgoad
