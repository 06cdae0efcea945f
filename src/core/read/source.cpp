#include "read/source.h"

#include "base/error.h"
#include "base/text.h"
#include "read/database.h"
#include "read/stack_join.h"
#include "read/workbook.h"

#include <algorithm>
#include <array>
#include <fstream>

namespace oxgoad {

SourceKind kindOfFile(const std::filesystem::path& path) {
    std::string ending = path.extension().string();
    for (char& c : ending)
        c = c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    if (ending == ".xlsx" || ending == ".xlsm" || ending == ".ods") return SourceKind::workbook;
    std::array<char, 16> head{};
    std::error_code failure;
    if (std::filesystem::is_regular_file(path, failure)) // opening a pipe would wait for its other end
        std::ifstream(path, std::ios::binary).read(head.data(), head.size());
    if (std::string_view(head.data(), head.size()) == std::string_view("SQLite format 3\0", 16))
        return SourceKind::sqlite;
    if (ending == ".sqlite" || ending == ".sqlite3" || ending == ".db") return SourceKind::sqlite;
    return SourceKind::text;
}

std::string sourceName(const RowsSource& source) {
    if (source.made)
        return "the next " +
               plural(static_cast<std::size_t>(source.made->periods), source.made->every,
                      source.made->every + "s") +
               " of " + source.made->date;
    const std::string file = std::filesystem::path(source.file).filename().string();
    switch (source.kind) {
    case SourceKind::workbook:
        return source.sheet.empty() ? file : file + ", sheet " + source.sheet;
    case SourceKind::sqlite:
        return "query of " + file;
    case SourceKind::postgres:
        return "query of " + source.server.database +
               (source.server.host.empty() ? "" : " on " + source.server.host);
    case SourceKind::text:
        break;
    }
    return file;
}

std::string serverName(const ServerPlace& place) {
    return place.database + " on " + (place.host.empty() ? "this machine" : place.host);
}

std::vector<ServerPlace> serversOf(const RowsPlan& plan) {
    std::vector<ServerPlace> servers;
    auto add = [&servers](const RowsSource& source) {
        if (source.kind == SourceKind::postgres &&
            std::find(servers.begin(), servers.end(), source.server) == servers.end())
            servers.push_back(source.server);
    };
    add(plan);
    for (const RowsSource& source : plan.stacked)
        add(source);
    for (const JoinedSource& join : plan.joins)
        add(join.source);
    return servers;
}

namespace {

RowsRead readTable(const RowsSource& source, const std::filesystem::path& folder, const PasswordFor& password,
                   Threads threads, Progress& progress) {
    const auto path = folder / source.file;
    switch (source.kind) {
    case SourceKind::workbook:
        return readWorkbook(path, {source.sheet, source.range, 0}, source.text, progress);
    case SourceKind::sqlite:
        return readSqlite(path, source.query, source.text, 0, progress);
    case SourceKind::postgres:
        return readPostgres(source.server, password ? password(source.server) : std::string(), source.query,
                            source.text, 0, progress);
    case SourceKind::text:
        break;
    }
    return readText(path, source.text, threads, progress);
}

} // namespace

RowsRead readSource(const RowsSource& source, const std::filesystem::path& folder,
                    const PasswordFor& password, Threads threads, Progress& progress) {
    if (!source.gather) return readTable(source, folder, password, threads, progress);
    // Types asked for the two new columns are not the reader's business.
    RowsSource wide = source;
    wide.text.kinds.erase(source.gather->names);
    wide.text.kinds.erase(source.gather->values);
    ProgressStage reading(progress, 0, 0.8);
    RowsRead rows = readTable(wide, folder, password, threads, reading);
    ProgressStage gathering(progress, 0.8, 1);
    return gatherRows(std::move(rows), *source.gather, source.text.kinds, gathering);
}

RowsRead readRows(const RowsPlan& plan, const std::filesystem::path& folder, const PasswordFor& password,
                  Threads threads, Progress& progress) {
    const auto stages = static_cast<double>(1 + plan.stacked.size() + plan.joins.size());
    double done = 0;
    auto read = [&](const RowsSource& source) {
        ProgressStage stage(progress, done / stages, (done + 1) / stages);
        ++done;
        return readSource(source, folder, password, threads, stage);
    };
    RowsRead rows = read(plan);
    if (!plan.stacked.empty() || !plan.originColumn.empty()) {
        std::vector<StackedRows> parts;
        parts.push_back({sourceName(plan), std::move(rows)});
        for (const RowsSource& source : plan.stacked) {
            RowsSource same = source;
            same.text.kindsMayBeAbsent = true;
            // Kinds found in the first source hold for all of them: the same column is read the same way.
            for (const Column& column : parts.front().rows.table.columns())
                same.text.kinds.emplace(column.name(), column.kind());
            parts.push_back({sourceName(source), read(same)});
        }
        rows = stackRows(std::move(parts), plan.originColumn);
    }
    for (const JoinedSource& join : plan.joins) {
        const RowsRead second = read(join.source);
        rows = joinRows(std::move(rows), second, sourceName(join.source), join.keys, threads, progress);
    }
    return rows;
}

} // namespace oxgoad
