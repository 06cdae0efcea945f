#pragma once
// A thin owner of SQLite handles.
#include "base/progress.h"
#include "read/sqlite_file.h"

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>

struct sqlite3;
struct sqlite3_stmt;

namespace oxgoad {

/// What SQLite said when a call failed.
struct SqliteFailure {
    int code = 0;
    std::string message;
};

class Database {
public:
    /// Throws SqliteFailure, as all members do. Opened for reading, a file can run nothing of its own: no
    /// triggers, no views, no functions in its schema; queries end when a stop is asked for, with a failure
    /// of code SQLITE_INTERRUPT; and no other file appears beside it.
    Database(const std::string& path, bool readOnly, Progress* progress = nullptr);
    ~Database();
    Database(const Database&) = delete;
    Database& operator=(const Database&) = delete;
    void run(const char* sql);
    sqlite3* handle() { return m_handle; }

private:
    std::optional<SqliteSideFiles> m_side;
    sqlite3* m_handle = nullptr;
};

class Statement {
public:
    Statement(Database& database, const char* sql);
    ~Statement();
    Statement(const Statement&) = delete;
    Statement& operator=(const Statement&) = delete;
    Statement& bind(int place, std::int64_t value);
    Statement& bind(int place, double value);
    Statement& bind(int place, std::string_view value);
    /// The bytes must stay until the statement was run.
    Statement& bindBytes(int place, std::span<const std::byte> bytes);
    /// True while there is a row.
    bool step();
    /// What was bound is null again afterwards.
    void runOnce();
    std::int64_t integer(int column);
    double real(int column);
    std::string text(int column);
    std::span<const std::byte> bytes(int column);

private:
    void check(int code);
    Database& m_database;
    sqlite3_stmt* m_statement = nullptr;
};

} // namespace oxgoad
