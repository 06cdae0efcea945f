#include "base/error.h"
#include "base/file.h"
#include "estimate/model_text.h"
#include "study/project.h"
#include "study/project_parts.h"
#include "study/sqlite.h"

#include <sqlite3.h>

#include <algorithm>
#include <charconv>
#include <cstring>
#include <set>

namespace oxgoad {

namespace fs = std::filesystem;
using nlohmann::json;

namespace {

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
    r.format.skipLines = j.value("skip_lines", std::size_t{0});
    if (j.contains("doubts")) // projects of earlier versions have none
        for (const auto& d : j.at("doubts"))
            r.doubts.push_back({d.at(0).get<std::string>(), d.at(1).get<std::string>(),
                                d.size() > 2 && d.at(2).get<std::string>() == kindName(ColumnKind::date)
                                    ? ColumnKind::date
                                    : ColumnKind::number});
    if (j.contains("units")) r.units = j.at("units").get<decltype(r.units)>();
    return r;
}

/// What is wrong with a part, found while it is read.
struct Damage {
    std::string what;
};

[[noreturn]] void damaged(const fs::path& path, const std::string& what) {
    throw Error(ErrorCode::damagedProject, "the project is damaged: " + what, {.file = path.string()},
                "Open an older copy, or what is whole of this one as a copy; the file is left as it is.");
}

template <class T> std::vector<T> valuesFrom(std::span<const std::byte> bytes, std::size_t rows) {
    if (bytes.size() / sizeof(T) != rows || bytes.size() % sizeof(T) != 0)
        throw Damage{"it has the wrong length"};
    std::vector<T> values(rows);
    if (!bytes.empty()) std::memcpy(values.data(), bytes.data(), bytes.size());
    return values;
}

Column columnFrom(Statement& row, std::size_t rows) {
    const std::string name = row.text(2);
    const std::string kind = row.text(3);
    const auto data = row.bytes(6);
    if (kind == "number") return Column::ofNumbers(name, valuesFrom<double>(data, rows));
    if (kind == "date and time") return Column::ofMoments(name, valuesFrom<double>(data, rows));
    if (kind == "date") return Column::ofDates(name, valuesFrom<std::int32_t>(data, rows));
    if (kind == "factor") {
        auto levels = json::parse(row.text(4)).get<std::vector<std::string>>();
        if (std::set<std::string>(levels.begin(), levels.end()).size() != levels.size())
            throw Damage{"it has a level twice"};
        auto codes = valuesFrom<std::int32_t>(data, rows);
        for (const auto code : codes)
            if (code < Column::missingCode || code >= static_cast<std::int32_t>(levels.size()))
                throw Damage{"it has a code without a level"};
        return Column::ofFactor(name, std::move(codes), std::move(levels));
    }
    if (kind != "text") throw Damage{"it is of an unknown kind"};
    TextCells cells;
    cells.offsets = valuesFrom<std::uint64_t>(row.bytes(5), rows + 1);
    cells.bytes.assign(reinterpret_cast<const char*>(data.data()), data.size());
    if (cells.offsets.front() != 0 || cells.offsets.back() != cells.bytes.size() ||
        !std::is_sorted(cells.offsets.begin(), cells.offsets.end()))
        throw Damage{"its texts do not add up"};
    return Column::ofText(name, std::move(cells));
}

std::int64_t pragma(Database& database, const char* sql) {
    Statement statement(database, sql);
    return statement.step() ? statement.integer(0) : 0;
}

/// Reads a project part by part. A part that is not as it was written ends the reading, or is noted and
/// passed over.
class Reader {
public:
    Reader(Database& database, const fs::path& path, bool salvage, Progress& progress)
        : m_database(database), m_path(path), m_salvage(salvage), m_progress(progress) {}

    Salvaged read() {
        requireProject();
        part("what it checks itself by", [&] { readChecks(); });
        part("how its pages fit together", [&] {
            Statement check(m_database, "PRAGMA quick_check(1)");
            if (!check.step() || check.text(0) != "ok") throw Damage{"SQLite says they do not"};
        });
        Project& project = m_found.project;
        readFits();
        const auto state = readPairs("state");
        project.view = readPairs("view");
        const auto value = [&](const char* key) {
            const auto found = state.find(key);
            if (found == state.end()) throw Damage{"it is not there"};
            return found->second;
        };
        part("folder", [&] { project.folder = value("folder"); });
        part("number of the fit shown", [&] {
            const std::string text = value("current");
            const auto [end, failure] =
                std::from_chars(text.data(), text.data() + text.size(), project.current);
            if (failure != std::errc{} || end != text.data() + text.size() ||
                (project.current != 0 && !project.trail.find(project.current))) {
                project.current = 0;
                throw Damage{"it is not on the trail"};
            }
        });
        const bool hasRecipe = part("recipe being edited", [&] {
            project.recipe = parseRecipe(value("recipe"), m_path.filename().string());
        });
        if (!hasRecipe && !project.trail.empty()) {
            const TrailFit* shown = project.trail.find(project.current);
            project.recipe = (shown ? *shown : project.trail.fits().back()).recipe;
        }
        auto rows = readTable("rows");
        if (!rows || rows->table.columns().empty()) damaged(m_path, "its rows are not there");
        project.rows.learning = std::move(*rows);
        project.rows.forecast = readTable("forecast");
        readModels();
        return std::move(m_found);
    }

private:
    /// True when the part could be read.
    template <class Read> bool part(const std::string& name, Read&& read) {
        std::string what;
        try {
            read();
            return true;
        } catch (const SqliteFailure& failure) {
            if (failure.code == SQLITE_INTERRUPT) throw Stopped{};
            what = failure.message;
        } catch (const Damage& damage) {
            what = damage.what;
        } catch (const json::exception&) {
            what = "it cannot be read";
        } catch (const Error& error) { // a recipe, or a part of this part
            if (error.code() == ErrorCode::damagedProject) throw;
            what = error.message();
        }
        if (!m_salvage) damaged(m_path, name + ": " + what);
        m_found.lost.push_back(name);
        return false;
    }

    void requireProject() {
        if (pragma(m_database, "PRAGMA application_id") != applicationId)
            throw Error(ErrorCode::badProject, "this is not an Oxgoad project", {.file = m_path.string()},
                        "Choose a project file, a recipe or a text file with rows.");
        m_version = pragma(m_database, "PRAGMA user_version");
        if (m_version > projectVersion)
            throw Error(ErrorCode::newerVersion,
                        "the project was saved by a newer Oxgoad (form " + std::to_string(m_version) +
                            ", this one knows " + std::to_string(projectVersion) + ")",
                        {.file = m_path.string()}, "Use the newer program; this file is left as it is.");
        static const std::set<std::string> known{"state",  "view",    "fits",   "test_looks",
                                                 "tables", "columns", "models", "checks"};
        Statement schema(m_database, "SELECT type, name, sql FROM sqlite_schema");
        while (schema.step()) {
            const std::string name = schema.text(1);
            const bool own = schema.text(0) == "index" && name.starts_with("sqlite_autoindex_");
            if (!own && (schema.text(0) != "table" || !known.contains(name) ||
                         !schema.text(2).starts_with("CREATE TABLE ")))
                throw Error(ErrorCode::badProject,
                            "this is not an Oxgoad project as Oxgoad writes it: it holds the " +
                                schema.text(0) + " \"" + name + "\"",
                            {.file = m_path.string()},
                            "Do not trust it; ask whoever sent it for another copy.");
        }
    }

    void readChecks() {
        if (m_version < 3) return;
        Statement select(m_database, "SELECT part, sum FROM checks");
        while (select.step())
            m_checks[select.text(0)] = select.integer(1);
    }

    void require(const std::string& name, const CheckSum& check) const {
        if (m_version < 3) return;
        const auto found = m_checks.find(name);
        if (found == m_checks.end()) throw Damage{"it has no checksum"};
        if (found->second != check.sum()) throw Damage{"it is not as it was written"};
    }

    void readFits() {
        std::vector<TrailFit> fits;
        CheckSum numbers;
        std::set<int> known;
        part("trail", [&] {
            Statement select(m_database, "SELECT * FROM fits ORDER BY number");
            while (select.step()) {
                m_progress.checkpoint(0.1, "Opening fits");
                StoredFit stored{select.integer(0),
                                 select.integer(1),
                                 select.text(2),
                                 select.text(3),
                                 select.real(4),
                                 select.real(5),
                                 select.real(6),
                                 select.real(7),
                                 select.integer(8),
                                 select.text(9),
                                 0};
                if (m_version >= 2) stored.earlierRows = select.integer(10);
                if (m_version >= 5) stored.folds = select.text(11);
                if (m_version >= 6) stored.about = select.text(12);
                numbers.add(stored.number);
                part(fitPart(stored.number), [&] {
                    require(fitPart(stored.number), stored.check(m_version));
                    if (stored.number < 1 || stored.number > INT32_MAX || stored.rowsLearning < 0 ||
                        stored.parent < 0 || stored.parent >= stored.number)
                        throw Damage{"its numbers do not hang together"};
                    TrailFit fit;
                    fit.number = static_cast<int>(stored.number);
                    fit.parent = static_cast<int>(stored.parent);
                    fit.change = stored.change;
                    fit.recipe = parseRecipe(stored.recipe, m_path.filename().string());
                    fit.summary = {stored.learningRmse,
                                   stored.heldOutRmse,
                                   stored.heldOutRmseError,
                                   stored.adjustedRSquared,
                                   static_cast<std::size_t>(stored.rowsLearning),
                                   json::parse(stored.goads).get<std::vector<std::string>>()};
                    if (m_version >= 5) readFolds(json::parse(stored.folds), fit.summary);
                    if (m_version >= 6) readAbout(json::parse(stored.about), fit);
                    fit.earlierRows = stored.earlierRows != 0;
                    if (fit.parent != 0 && !known.contains(fit.parent)) {
                        if (!m_salvage) throw Damage{"the fit it came from is not there"};
                        fit.parent = fits.empty() ? 0 : fits.back().number;
                    }
                    known.insert(fit.number);
                    fits.push_back(std::move(fit));
                });
            }
            require("trail", numbers);
        });
        if (auto trail = Trail::fromFits(std::move(fits)))
            m_found.project.trail = std::move(*trail);
        else
            part("trail", [] { throw Damage{"it does not hang together"}; });
        if (m_version < 2) return; // form 1 knew no test rows
        part("looks at test rows", [&] {
            Statement select(m_database, "SELECT fit FROM test_looks ORDER BY position");
            std::vector<std::int64_t> looks;
            CheckSum check;
            while (select.step()) {
                looks.push_back(select.integer(0));
                check.add(looks.back());
            }
            require("looks at test rows", check);
            for (const std::int64_t fit : looks) {
                if (!known.contains(static_cast<int>(fit))) throw Damage{"one belongs to no fit"};
                m_found.project.trail.lookAtTest(static_cast<int>(fit));
            }
        });
    }

    static void readAbout(const json& about, TrailFit& fit) {
        fit.summary.complexity = numberFrom(about.at("complexity"));
        fit.summary.testRmse = numberFrom(about.at("test_rmse"));
        fit.name = about.value("name", std::string());
        fit.note = about.value("note", std::string());
        fit.madeAt = about.value("made_at", std::string());
        fit.pinned = about.value("pinned", false);
        fit.pruned = about.value("pruned", false);
    }

    static void readFolds(const json& folds, FitSummary& summary) {
        if (folds.empty()) return;
        summary.foldRmse = numberFrom(folds.at("rmse"));
        summary.foldRmseError = numberFrom(folds.at("error"));
        summary.repeatSpread = numberFrom(folds.at("spread"));
        summary.foldRmses = numbersFrom(folds.at("each"));
        summary.repeatRmses = numbersFrom(folds.at("repeats"));
    }

    void readModels() {
        if (m_version < 4) return;
        part("models", [&] {
            Statement select(m_database, "SELECT * FROM models ORDER BY fit");
            CheckSum fits;
            while (select.step()) {
                m_progress.checkpoint(0.9, "Opening models");
                const std::int64_t fit = select.integer(0);
                fits.add(fit);
                part(modelPart(fit), [&] { readModel(select, fit); });
            }
            require("models", fits);
        });
    }

    void readModel(Statement& row, std::int64_t fit) {
        CheckSum check;
        check.add(row.text(1));
        for (int column = 2; column < 2 + static_cast<int>(modelVectors); ++column)
            check.add(row.bytes(column));
        require(modelPart(fit), check);
        if (fit < 1 || fit > INT32_MAX || !m_found.project.trail.find(static_cast<int>(fit)))
            throw Damage{"it belongs to no fit"};
        auto study = readStudy(row.text(1));
        const auto count = row.bytes(2).size() / sizeof(std::uint32_t);
        // A vector is there for every row learned from, or not at all.
        const auto vector = [&](int column) {
            const auto bytes = row.bytes(column);
            return bytes.empty() ? std::vector<double>() : valuesFrom<double>(bytes, count);
        };
        const auto eigen = [&](int column) {
            const std::vector<double> values = vector(column);
            return Eigen::VectorXd(
                Eigen::Map<const Eigen::VectorXd>(values.data(), static_cast<Eigen::Index>(values.size())));
        };
        study->rows = valuesFrom<std::uint32_t>(row.bytes(2), count);
        const std::size_t tableRows = m_found.project.rows.learning.table.rows();
        for (const std::uint32_t learned : study->rows)
            if (learned >= tableRows) throw Damage{"it learned from a row that is not there"};
        study->weights = vector(3);
        study->trained.fitted = eigen(4);
        study->trained.residuals = eigen(5);
        study->trained.leverages = eigen(6);
        study->trained.robustWeights = vector(7);
        const auto leftOut = row.bytes(8).size() / sizeof(std::uint32_t);
        study->trained.unseenRows = valuesFrom<std::uint32_t>(row.bytes(8), leftOut);
        study->trained.unseen = valuesFrom<double>(row.bytes(9), leftOut);
        if (const IntervalsByErrors* errors = study->rule.byErrors()) study->trained.unseenOf = errors->of;
        requireRows(*study);
        m_found.project.studies[static_cast<int>(fit)] = std::move(study);
    }

    std::map<std::string, std::string> readPairs(const std::string& table) {
        std::map<std::string, std::string> pairs;
        CheckSum check;
        part(table == "state" ? "where the work stood" : "view", [&] {
            Statement select(m_database, ("SELECT key, value FROM " + table + " ORDER BY key").c_str());
            while (select.step()) {
                pairs[select.text(0)] = select.text(1);
                check.add(select.text(0)).add(select.text(1));
            }
            require(table, check);
        });
        return pairs;
    }

    std::optional<RowsRead> readTable(const char* name) {
        RowsRead read;
        std::int64_t rows = -1;
        const bool there = part(name, [&] {
            Statement table(m_database, "SELECT rows, report FROM tables WHERE name = ?");
            table.bind(1, std::string_view(name));
            if (!table.step()) {
                if (std::string_view(name) == "rows" || m_checks.contains(name))
                    throw Damage{"they are not there"};
                return;
            }
            rows = table.integer(0);
            require(name, CheckSum().add(rows).add(table.text(1)));
            if (rows < 0) throw Damage{"they have a number below 0"};
            read.report = reportFrom(json::parse(table.text(1)));
        });
        if (there && rows < 0) return std::nullopt; // none were kept
        std::vector<Column> columns;
        std::set<std::string> names;
        part(std::string("columns of the ") + name, [&] {
            Statement select(m_database, "SELECT * FROM columns WHERE table_name = ? ORDER BY position");
            select.bind(1, std::string_view(name));
            std::int64_t expected = 0;
            while (select.step()) {
                m_progress.checkpoint(0.5, "Opening rows");
                const std::int64_t position = select.integer(1);
                const std::string own = select.text(2);
                const std::string message = columnPart(name, position) + ", " + own;
                const bool whole = part(message, [&] {
                    require(columnPart(name, position), CheckSum(m_version)
                                                            .add(own)
                                                            .add(select.text(3))
                                                            .add(select.text(4))
                                                            .add(select.bytes(5))
                                                            .add(select.bytes(6)));
                    if (position != expected) throw Damage{"a column before it is not there"};
                    if (rows < 0) rows = rowsOf(select);
                    columns.push_back(columnFrom(select, static_cast<std::size_t>(rows)));
                    if (!names.insert(own).second) {
                        columns.pop_back();
                        throw Damage{"it is there twice"};
                    }
                });
                if (!whole) m_found.lostColumns.push_back(own);
                ++expected;
            }
            if (m_version >= 3 && m_checks.contains(columnPart(name, expected)))
                throw Damage{"the last ones are not there"};
            if (columns.empty() && rows != 0) throw Damage{"there are none"};
        });
        read.report.rows = static_cast<std::size_t>(std::max<std::int64_t>(0, rows));
        if (columns.empty()) return std::nullopt;
        read.table = Table(std::move(columns));
        return read;
    }

    /// Rows of a column, where the table does not say.
    static std::int64_t rowsOf(Statement& row) {
        const std::string kind = row.text(3);
        if (kind == "text") return static_cast<std::int64_t>(row.bytes(5).size() / sizeof(std::uint64_t)) - 1;
        return static_cast<std::int64_t>(row.bytes(6).size() / (kind == "number" ? 8 : 4));
    }

    Database& m_database;
    const fs::path& m_path;
    bool m_salvage;
    Progress& m_progress;
    std::int64_t m_version = 0;
    std::map<std::string, std::int64_t> m_checks;
    Salvaged m_found;
};

Salvaged readProject(const fs::path& path, bool salvage, Progress& progress) {
    requireFile(path);
    try {
        Database database(path.string(), true, &progress);
        return Reader(database, path, salvage, progress).read();
    } catch (const SqliteFailure& failure) {
        if (failure.code == SQLITE_INTERRUPT) throw Stopped{};
        throw Error(ErrorCode::badProject,
                    "this is not an Oxgoad project, or it is damaged (" + failure.message + ")",
                    {.file = path.string()}, "Open an older copy; this file is left as it is.");
    }
}

} // namespace

Project openProject(const fs::path& path, Progress& progress) {
    return readProject(path, false, progress).project;
}

Salvaged salvageProject(const fs::path& path, Progress& progress) {
    return readProject(path, true, progress);
}

} // namespace oxgoad
