#include "read/sqlite_file.h"

#include <array>
#include <cstdio>
#include <fstream>
#include <sqlite3.h>

namespace oxgoad {

namespace fs = std::filesystem;

namespace {

/// Bytes 18 and 19 of the header are 2 where a write-ahead log is used (SQLite, "Database File Format",
/// §1.3).
bool usesLog(const fs::path& path) {
    std::ifstream in(path, std::ios::binary);
    std::array<char, 20> head{};
    return in.read(head.data(), head.size()) && head[18] == 2 && head[19] == 2;
}

std::string escaped(const std::string& path) {
    std::string out;
    for (const char c : path) {
        const auto byte = static_cast<unsigned char>(c);
        if (c == '%' || c == '?' || c == '#' || byte <= ' ' || byte >= 127) {
            std::array<char, 4> hex{};
            std::snprintf(hex.data(), hex.size(), "%%%02X", static_cast<unsigned>(byte));
            out += hex.data();
        } else {
            out += c;
        }
    }
    return out;
}

} // namespace

SqliteSideFiles::SqliteSideFiles(const fs::path& database) {
    const fs::path whole = fs::absolute(database);
    m_log = whole.string() + "-wal";
    m_shared = whole.string() + "-shm";
    std::error_code failure;
    m_hadLog = fs::exists(m_log, failure);
    m_hadShared = fs::exists(m_shared, failure);
    m_uri = "file:" + escaped(whole.string());
    if (!m_hadLog && usesLog(whole)) m_uri += "?immutable=1";
}

SqliteSideFiles::~SqliteSideFiles() {
    std::error_code ignored;
    if (!m_hadShared) fs::remove(m_shared, ignored);
    if (!m_hadLog) fs::remove(m_log, ignored);
}

void trustNothing(sqlite3* handle, bool tablesOnly, Progress* progress) {
    sqlite3_db_config(handle, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
    sqlite3_db_config(handle, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
    sqlite3_db_config(handle, SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, nullptr);
    if (tablesOnly) sqlite3_db_config(handle, SQLITE_DBCONFIG_ENABLE_VIEW, 0, nullptr);
    constexpr int steps = 10000;
    if (progress)
        sqlite3_progress_handler(
            handle, steps, [](void* data) { return static_cast<Progress*>(data)->stopRequested() ? 1 : 0; },
            progress);
}

} // namespace oxgoad
