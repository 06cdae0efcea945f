#include "study/sqlite.h"

#include <cmath>
#include <sqlite3.h>

namespace oxgoad {

Database::Database(const std::string& path, bool readOnly, Progress* progress) {
    if (readOnly) m_side.emplace(path);
    const int flags =
        readOnly ? SQLITE_OPEN_READONLY | SQLITE_OPEN_URI : SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE;
    const int code =
        sqlite3_open_v2(readOnly ? m_side->uri().c_str() : path.c_str(), &m_handle, flags, nullptr);
    if (code == SQLITE_OK) {
        if (readOnly) trustNothing(m_handle, true, progress);
        return;
    }
    const SqliteFailure failure{code, sqlite3_errmsg(m_handle)};
    sqlite3_close(m_handle);
    throw failure;
}

Database::~Database() {
    sqlite3_close(m_handle);
}

void Database::run(const char* sql) {
    const int code = sqlite3_exec(m_handle, sql, nullptr, nullptr, nullptr);
    if (code != SQLITE_OK) throw SqliteFailure{code, sqlite3_errmsg(m_handle)};
}

Statement::Statement(Database& database, const char* sql) : m_database(database) {
    check(sqlite3_prepare_v2(database.handle(), sql, -1, &m_statement, nullptr));
}

Statement::~Statement() {
    sqlite3_finalize(m_statement);
}

void Statement::check(int code) {
    if (code != SQLITE_OK) throw SqliteFailure{code, sqlite3_errmsg(m_database.handle())};
}

Statement& Statement::bind(int place, std::int64_t value) {
    check(sqlite3_bind_int64(m_statement, place, value));
    return *this;
}

Statement& Statement::bind(int place, double value) {
    check(std::isnan(value) ? sqlite3_bind_null(m_statement, place)
                            : sqlite3_bind_double(m_statement, place, value));
    return *this;
}

Statement& Statement::bind(int place, std::string_view value) {
    check(sqlite3_bind_text64(m_statement, place, value.data(), value.size(), SQLITE_TRANSIENT, SQLITE_UTF8));
    return *this;
}

Statement& Statement::bindBytes(int place, std::span<const std::byte> bytes) {
    // A null pointer would bind NULL.
    check(sqlite3_bind_blob64(m_statement, place, bytes.empty() ? static_cast<const void*>("") : bytes.data(),
                              bytes.size(), SQLITE_STATIC));
    return *this;
}

bool Statement::step() {
    const int code = sqlite3_step(m_statement);
    if (code == SQLITE_ROW) return true;
    if (code != SQLITE_DONE) throw SqliteFailure{code, sqlite3_errmsg(m_database.handle())};
    return false;
}

void Statement::runOnce() {
    step();
    check(sqlite3_reset(m_statement));
    check(sqlite3_clear_bindings(m_statement));
}

std::int64_t Statement::integer(int column) {
    return sqlite3_column_int64(m_statement, column);
}

double Statement::real(int column) {
    return sqlite3_column_type(m_statement, column) == SQLITE_NULL
               ? std::nan("")
               : sqlite3_column_double(m_statement, column);
}

std::string Statement::text(int column) {
    const auto* text = reinterpret_cast<const char*>(sqlite3_column_text(m_statement, column));
    return text ? std::string(text, static_cast<std::size_t>(sqlite3_column_bytes(m_statement, column)))
                : std::string();
}

std::span<const std::byte> Statement::bytes(int column) {
    const auto* data = static_cast<const std::byte*>(sqlite3_column_blob(m_statement, column));
    return {data, static_cast<std::size_t>(sqlite3_column_bytes(m_statement, column))};
}

} // namespace oxgoad
