#pragma once
// Rows from database queries: SQLite files and PostgreSQL servers.
#include "read/source.h"

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

struct pg_conn;

namespace oxgoad {

/// Runs one query that reads, on a file opened for reading only. Columns take the names the query gives them;
/// equal names are refused. Integers and reals are numbers, texts are read by the rules of readText (and so
/// dates in ISO form are dates), blobs are a fault, NULL is missing. Errors: fileNotFound, badDatabase (not a
/// database, damaged), badQuery (with the place where it can be told; SQL that is not a query; two columns of
/// one name), noRows.
RowsRead readSqlite(const std::filesystem::path& path, const std::string& query, const TextOptions& options,
                    std::size_t mostRows, Progress& progress);

/// Names of tables and views. Errors as readSqlite.
std::vector<std::string> tablesOfSqlite(const std::filesystem::path& path);

/// The same on a server, in a transaction that reads only; rows arrive one after the other. Errors:
/// badDatabase (no connection, or a connection lost half way), badPassword, badQuery, noRows. Dates and times
/// of the server are dates.
RowsRead readPostgres(const ServerPlace& place, const std::string& password, const std::string& query,
                      const TextOptions& options, std::size_t mostRows, Progress& progress);

/// A connection to a server. Errors: badDatabase, badPassword. Throws Stopped.
std::unique_ptr<pg_conn, void (*)(pg_conn*)>
connectPostgres(const ServerPlace& place, const std::string& password, const Progress& progress);

} // namespace oxgoad
