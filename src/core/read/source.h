#pragma once
// Where rows come from, as a recipe says it.
#include "read/gather.h"
#include "read/text_reader.h"

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

namespace oxgoad {

enum class SourceKind { text, workbook, sqlite, postgres };

/// Where a PostgreSQL server is. The password is no part of it: it is asked for and never kept.
struct ServerPlace {
    std::string host;
    int port = 5432;
    std::string database;
    std::string user;
    bool operator==(const ServerPlace&) const = default;
};

/// One table from one place.
/// A column of made rows: carried on, or given.
struct CarriedColumn {
    enum class How { lastValue, yearBefore, usualValue, given };
    std::string column;
    How how = How::lastValue;
    /// Of `given`: a number, or the text of a level.
    std::variant<double, std::string> value = 0.0;
    bool operator==(const CarriedColumn&) const = default;
};

/// The next periods, made of the rows that there are.
struct MadeRows {
    std::string date;
    /// "day", "week", "month", "quarter", "year".
    std::string every = "month";
    int periods = 1;
    /// Columns that tell series apart.
    std::vector<std::string> by{};
    /// Columns that are not carried on by their last value.
    std::vector<CarriedColumn> columns{};
    bool operator==(const MadeRows&) const = default;
};

struct RowsSource {
    /// Of rows to be forecast that no file holds; nothing else is said then.
    std::optional<MadeRows> made{};
    /// Relative to the recipe, or absolute; empty for servers.
    std::string file{};
    /// For text files; marks and kinds also for the others.
    TextOptions text{};
    SourceKind kind = SourceKind::text;
    /// Of a workbook: the first sheet with cells when empty; all cells when no range such as B3:F200 is
    /// given.
    std::string sheet{};
    std::string range{};
    /// Of a database.
    std::string query{};
    ServerPlace server{};
    /// Columns that become rows once the table is read.
    std::optional<GatherPlan> gather{};
    bool operator==(const RowsSource&) const = default;
};

/// A second table whose columns are added where the keys are equal.
struct JoinedSource {
    RowsSource source;
    /// Column of the rows and column of the second table.
    std::vector<std::pair<std::string, std::string>> keys;
    bool operator==(const JoinedSource&) const = default;
};

/// Everything that makes the rows: a source, others of the same shape below it, others joined by key.
struct RowsPlan : RowsSource {
    std::vector<RowsSource> stacked;
    /// Column that says which source a row came from; none when empty.
    std::string originColumn;
    std::vector<JoinedSource> joins;
    bool operator==(const RowsPlan&) const = default;
};

/// Text, workbook or SQLite file, by the name's ending and, for files that are there, by their first bytes.
SourceKind kindOfFile(const std::filesystem::path& path);

/// "depots.xlsx, sheet Rates", "query of depots on db.example": what messages and the window call it.
std::string sourceName(const RowsSource& source);

/// "depots on db.example": what messages call a server.
std::string serverName(const ServerPlace& place);

/// Servers a plan asks, each once.
std::vector<ServerPlace> serversOf(const RowsPlan& plan);

/// Asks for the password of a server; the connection is tried without one when empty. Called where readRows
/// runs.
using PasswordFor = std::function<std::string(const ServerPlace&)>;

/// One table, its wide columns gathered where the source says so. Relative names are looked up in `folder`.
/// Errors of the readers and of gatherRows; Stopped.
RowsRead readSource(const RowsSource& source, const std::filesystem::path& folder,
                    const PasswordFor& password, Threads threads, Progress& progress);

/// The whole plan. Columns that a stacked source lacks are missing there, those it has beyond the first are
/// added; both are told in the notes, and so are unmatched and doubled keys of joins. Errors: those of the
/// readers, badJoin.
RowsRead readRows(const RowsPlan& plan, const std::filesystem::path& folder, const PasswordFor& password,
                  Threads threads, Progress& progress);

} // namespace oxgoad
