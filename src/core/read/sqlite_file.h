#pragma once
// Opening SQLite files that may not be what they seem.
#include "base/progress.h"

#include <filesystem>
#include <string>

struct sqlite3;

namespace oxgoad {

/// Files that reading a database with a write-ahead log makes beside it; those that were not there before are
/// taken away by the destructor, which must run after the database was closed.
class SqliteSideFiles {
public:
    explicit SqliteSideFiles(const std::filesystem::path& database);
    ~SqliteSideFiles();
    SqliteSideFiles(const SqliteSideFiles&) = delete;
    SqliteSideFiles& operator=(const SqliteSideFiles&) = delete;
    /// The name to open it by: as it stands, without locks and logs, where it has a log mode and no log.
    const std::string& uri() const { return m_uri; }

private:
    std::string m_uri;
    std::filesystem::path m_log, m_shared;
    bool m_hadLog, m_hadShared;
};

/// Takes from the file the means to run anything: no triggers, no functions in its schema, and no views where
/// `tablesOnly`. Statements end when a stop is asked for; `progress` may be null.
void trustNothing(sqlite3* handle, bool tablesOnly, Progress* progress);

} // namespace oxgoad
