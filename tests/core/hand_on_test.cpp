// Models handed on: every format run by what runs it, and compared with the program.
#include "base/file.h"
#include "base/random.h"
#include "base/text.h"
#include "hand_on/hand_on.h"
#include "hand_on/model_file.h"
#include "hand_on/onnx_out.h"
#include "hand_on/pmml_out.h"
#include "hand_on/report.h"
#include "hand_on/writers.h"
#include "read/database.h"
#include "study/load_rows.h"
#include "support/server.h"
#include "support/support.h"

#include <sqlite3.h>

#include <nlohmann/json.hpp>

#include <cstdio>
#include <cstdlib>
#include <sstream>

using namespace oxgoad;
using namespace oxgoad::test;

namespace hand_on_test {

namespace fs = std::filesystem;

/// Levels and names that are code somewhere.
const std::vector<std::string> hostileLevels{"a", "o'b\"r", "x; DROP TABLE rows; --",
                                             "=1+1 <b>&amp;</b> ?\?/"};
const std::string hostileName = "rate \"per' }); -- </td>";

std::string quotedCell(const std::string& text) {
    std::string out = "\"";
    for (const char c : text)
        out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
}

/// Rows as a text file: with missing values, levels never learned and values far out when they are to come.
std::string rowsText(std::size_t n, unsigned seed, bool coming) {
    RandomStream random(seed, "handed on");
    std::string text = (coming ? "" : "y,") + std::string("x,z,g,h,day,w,") + quotedCell(hostileName) + "\n";
    for (std::size_t i = 0; i < n; ++i) {
        const double x = 1 + 9 * random.uniform() * (coming && i % 9 == 0 ? 8 : 1), z = random.normal();
        const std::size_t g = random.below(4), h = random.below(3);
        const double rate = 5 + 3 * random.uniform(), w = 1 + static_cast<double>(random.below(3));
        const int month = static_cast<int>(1 + random.below(12)),
                  day = static_cast<int>(1 + random.below(28));
        const double y =
            20 + 3 * x + 4 * static_cast<double>(g) + std::exp(0.1 * x) + 2 * z + rate + random.normal();
        std::array<char, 40> date{};
        std::snprintf(date.data(), date.size(), "20%02d-%02d-%02d", 20 + static_cast<int>(random.below(5)),
                      month, day);
        const bool lacks = i % 13 == 5, strange = coming && i % 17 == 3;
        text += (coming ? "" : exactText(y) + ",") + (coming && i % 23 == 7 ? "" : exactText(x)) + "," +
                (lacks ? "" : exactText(z)) + "," + (strange ? "never seen" : quotedCell(hostileLevels[g])) +
                "," + std::string(1, static_cast<char>('p' + h)) + "," + date.data() + "," + exactText(w) +
                "," + exactText(rate) + "\n";
    }
    return text;
}

/// Told to stop from the start.
struct StopsAtOnce : Progress {
    bool stopRequested() const override { return true; }
};

struct Form {
    std::string name, recipe;
    /// Of what the formats that write programs refuse.
    bool kept = false;
    /// Its intervals are those of a distribution, which programs do not hold.
    bool distribution = false;
};

const std::vector<Form>& forms() {
    const std::string rate = R"("rate \"per' }); -- </td>")";
    const std::string many = R"("terms": ["x", {"column": "z", "as": "curve"}, "g", {"product": ["x", "g"]},
        {"column": "h", "as": "deviations"}, {"column": "day", "as": "wave"}, )" +
                             rate + "]";
    const std::string few = R"("terms": ["x", "g", )" + rate + "]";
    static const std::vector<Form> all{
        {"all kinds of terms", many},
        {"powers and pieces",
         R"("terms": [{"column": "x", "as": "polynomial", "degree": 3}, {"column": "z", "as": "straight pieces"},
            {"log": "x"}, {"column": "x", "power": -1}, {"column": "day", "as": "wave", "period": 30},
            {"column": "z", "as": "standardised"}, {"column": "g", "as": "trend"}])"},
        {"logs, weights and an offset",
         few + R"(, "response_in_logs": true, "roles": {"w": "weight", "z": "offset"})"},
        {"errors for unequal spread", many + R"(, "errors": {"kind": "HC3"})"},
        {"without a constant",
         few + R"(, "intercept": false, "errors": {"kind": "serial", "column": "day"})"},
        {"robust", few + R"(, "estimator": {"kind": "robust", "function": "bisquare"})"},
        {"quantile", few + R"(, "estimator": {"kind": "quantile", "share": 0.5})"},
        {"penalised", many + R"(, "estimator": {"kind": "penalised", "l1_share": 0.5, "penalty": 0.3})"},
        {"tree", R"("terms": ["x", "z", "g", "h", "day"], "estimator": {"kind": "tree"})"},
        {"tree in logs",
         R"("terms": ["x", "z", "g"], "response_in_logs": true, "estimator": {"kind": "tree"})"},
        {"dependent",
         R"("terms": ["x", "twice", "g", "h"], "steps": [{"do": "derive", "name": "twice", "expression": "2 * x + 1"}])"},
        {"prepared",
         R"j("terms": ["x", "z", "ln x", "g", "x band", "day month", "day weekday", "both", "flag", "deal"], "steps": [
            {"do": "fill missing", "columns": ["z"], "with": "median", "indicator": true},
            {"do": "transform", "columns": ["x"], "by": "ln"},
            {"do": "merge levels", "column": "g", "levels": ["a", "o'b\"r"], "into": "early"},
            {"do": "cut into bands", "column": "x", "bands": 3},
            {"do": "parts of date", "column": "day", "month": true, "weekday": true},
            {"do": "combine", "columns": ["g", "h"], "name": "both"},
            {"do": "derive", "name": "flag", "expression": "if(x > 4 and not(z < 0) or h = \"p\", round(x / 3), -z^2)"},
            {"do": "derive", "name": "deal", "expression": "max(x, z, 2) + year(day) - 2020 + abs(z) + (x > z)"},
            {"do": "standardise", "columns": ["x"]}])j"},
        {"gamma", many + R"(, "estimator": {"kind": "gamma"}, "roles": {"w": "weight"})", false, true},
        {"two parts",
         R"("response": "spent", )" + few +
             R"j(, "estimator": {"kind": "two parts"},
            "steps": [{"do": "derive", "name": "spent", "expression": "if(z > 0, y, 0)"}])j",
         false, true},
        {"ordered", R"j("response": "rank", "terms": ["x", "g", "h"], "estimator": {"kind": "ordered"},
            "steps": [{"do": "derive", "name": "rank", "expression": "min(4, round(y / 15))"}])j",
         false, true},
        {"forest", R"("terms": ["x", "z", "g", "h"], "estimator": {"kind": "forest", "trees": 6})"},
        {"boosted",
         R"("terms": ["x", "z", "g", "day"], "estimator": {"kind": "boosted", "rounds": 12, "leaves": 6, "smallest_leaf": 4})"},
        {"network",
         R"("terms": ["x", "z", "g"], "estimator": {"kind": "network", "layers": [4, 3], "passes": 40, "restarts": 1})"},
        {"network of other units",
         R"("terms": ["x", "g"], "estimator": {"kind": "network", "layers": [3], "activation": "softplus", "passes": 20, "restarts": 1})"},
        {"formula",
         R"("terms": ["x", "z", "g"], "estimator": {"kind": "formula", "generations": 8, "population": 40, "operations": ["+", "×", "÷", "ln", "√", "²"]})"},
        {"neighbours", R"("terms": ["x", "z", "g"], "estimator": {"kind": "neighbours", "count": 3})", true}};
    return all;
}

struct Fitted {
    Recipe recipe;
    StudyRows rows;
    std::shared_ptr<const PreparedRows> prepared;
    Evidence evidence;
    fs::path folder;
};

Fitted fitted(const Form& form, const fs::path& folder) {
    Fitted out;
    out.folder = folder;
    replaceFile(folder / "rows.csv", rowsText(400, 3, false));
    replaceFile(folder / "coming.csv", rowsText(300, 4, true));
    out.recipe = parseRecipe(
        R"({"recipe": 1, "rows": {"file": "rows.csv", "kinds": {"g": "factor", "h": "factor"}}, )" +
            std::string(form.recipe.find("\"response\"") == std::string::npos ? R"("response": "y", )" : "") +
            R"("forecast": {"file": "coming.csv", "level": 0.9}, )" + form.recipe + "}",
        "recipe");
    Progress progress;
    out.rows = loadRows(out.recipe, folder, {2}, progress);
    out.prepared = prepareRows(out.recipe, out.rows, {2}, progress);
    for (const StepOutcome& step : out.prepared->steps)
        EXPECT_EQ(step.problem, "") << form.name;
    out.evidence = evaluate(out.recipe, out.rows, *out.prepared,
                            {.threads = {2}, .checks = ChecksWanted::none}, progress);
    return out;
}

Program programFor(const Fitted& f, std::size_t most) {
    return programOf(*f.evidence.study, f.rows.learning.table.columns(), 0.9, most);
}

void expectSame(double said, double wanted, const std::string& where) {
    if (std::isnan(wanted)) {
        EXPECT_TRUE(std::isnan(said)) << where << ": " << said << " where there is nothing";
        return;
    }
    EXPECT_NEAR(said, wanted, 1e-9 * std::max(1.0, std::fabs(wanted))) << where;
}

void expectForecast(const Fitted& f, std::size_t row, double prediction, double lower, double upper,
                    bool bounds, const std::string& where) {
    const ForecastEvidence& forecast = *f.evidence.forecast;
    const std::string at = where + " row " + std::to_string(row + 1);
    expectSame(prediction, forecast.prediction[row], at);
    if (!bounds) return;
    expectSame(lower, forecast.lower[row], at + " lower");
    expectSame(upper, forecast.upper[row], at + " upper");
}

/// The last columns of what a program wrote: prediction, lower, upper.
std::vector<std::array<double, 3>> lastThree(const std::string& text) {
    std::vector<std::array<double, 3>> out;
    std::istringstream lines(text);
    std::string line;
    std::getline(lines, line);
    while (std::getline(lines, line)) {
        std::array<double, 3> row{NAN, NAN, NAN};
        for (std::size_t k = 3; k-- > 0;) {
            const auto comma = line.rfind(',');
            const std::string cell = line.substr(comma + 1);
            if (!cell.empty()) row[k] = std::stod(cell);
            line.resize(comma);
        }
        out.push_back(row);
    }
    return out;
}

std::string outputOf(const std::string& command, int& code) {
    std::string out;
    FILE* pipe = ::popen(command.c_str(), "r");
    std::array<char, 4096> buffer{};
    for (std::size_t n = 0; (n = std::fread(buffer.data(), 1, buffer.size(), pipe)) > 0;)
        out.append(buffer.data(), n);
    code = ::pclose(pipe);
    return out;
}

class HandedOnForms : public ::testing::TestWithParam<std::size_t> {
protected:
    const Form& form() const { return forms()[GetParam()]; }
};

TEST_P(HandedOnForms, SayWhatTheProgramSays) {
    const TemporaryFolder folder;
    const Fitted f = fitted(form(), folder.path());
    if (form().kept) {
        EXPECT_NE(errorOf([&] { programFor(f, 60); }).find("keeps the rows themselves"), std::string::npos);
        return;
    }
    const Program program = programFor(f, 500);
    const bool bounds = program.noIntervals.empty();
    if (form().name != "errors for unequal spread" && !form().distribution) {
        EXPECT_TRUE(bounds) << program.noIntervals;
    }
    std::vector<std::uint32_t> all(300);
    std::iota(all.begin(), all.end(), 0U);
    const auto rows = programRows(program, f.rows.forecast->table, "", all);
    std::size_t there = 0;
    for (std::size_t i = 0; i < 300; ++i) {
        const ProgramResult said = runProgram(program, rows[i]);
        expectForecast(f, i, said.prediction, said.lower, said.upper, bounds, "program");
        there += std::isfinite(said.prediction);
        const bool outside = f.evidence.forecast->reach[i].grade == ReachGrade::outside;
        EXPECT_LE(said.outside, outside) << i << ": what it calls outside is";
    }
    EXPECT_GT(there, 200U);
    EXPECT_TRUE(there < 300U || f.evidence.study->model->readsMissing());

    // PMML, read back.
    const std::vector<double> read = runPmml(pmmlOf(program), program, rows);
    for (std::size_t i = 0; i < 300; ++i)
        expectForecast(f, i, read[i], NAN, NAN, false, "PMML");
}

TEST_P(HandedOnForms, ScoreInsideADatabase) {
    if (form().kept) return;
    const TemporaryFolder folder;
    const Fitted f = fitted(form(), folder.path());
    const Program program = programFor(f, 60);
    sqlite3* db = nullptr;
    ASSERT_EQ(sqlite3_open(":memory:", &db), SQLITE_OK);
    const Table& table = f.rows.forecast->table;
    const auto name = [](const std::string& text) {
        std::string out = "\"";
        for (const char c : text)
            out += c == '"' ? std::string("\"\"") : std::string(1, c);
        return out + "\"";
    };
    std::string columns, marks;
    for (const Column& column : table.columns()) {
        columns += (columns.empty() ? "" : ", ") + name(column.name()) +
                   (column.kind() == ColumnKind::number ? " DOUBLE PRECISION" : " TEXT");
        marks += marks.empty() ? "?" : ", ?";
    }
    ASSERT_EQ(sqlite3_exec(db, ("CREATE TABLE rows (" + columns + ")").c_str(), nullptr, nullptr, nullptr),
              SQLITE_OK);
    sqlite3_stmt* insert = nullptr;
    ASSERT_EQ(
        sqlite3_prepare_v2(db, ("INSERT INTO rows VALUES (" + marks + ")").c_str(), -1, &insert, nullptr),
        SQLITE_OK);
    for (std::size_t i = 0; i < table.rows(); ++i) {
        for (std::size_t c = 0; c < table.columns().size(); ++c) {
            const Column& column = table.columns()[c];
            const int at = static_cast<int>(c) + 1;
            if (column.isMissing(i))
                sqlite3_bind_null(insert, at);
            else if (column.kind() == ColumnKind::number)
                sqlite3_bind_double(insert, at, column.asNumber(i));
            else
                sqlite3_bind_text(insert, at, column.cellText(i).c_str(), -1, SQLITE_TRANSIENT);
        }
        ASSERT_EQ(sqlite3_step(insert), SQLITE_DONE);
        sqlite3_reset(insert);
    }
    sqlite3_finalize(insert);
    sqlite3_stmt* select = nullptr;
    const std::string sql = sqlOf(program);
    ASSERT_EQ(sqlite3_prepare_v2(db, sql.c_str(), -1, &select, nullptr), SQLITE_OK)
        << sqlite3_errmsg(db) << "\n"
        << sql.substr(0, 3000);
    const int given = static_cast<int>(table.columns().size());
    EXPECT_EQ(sqlite3_column_count(select), given + 3);
    EXPECT_STREQ(sqlite3_column_name(select, given), "prediction");
    const auto number = [&](int column) {
        return sqlite3_column_type(select, column) == SQLITE_NULL ? NAN
                                                                  : sqlite3_column_double(select, column);
    };
    std::size_t i = 0;
    for (; sqlite3_step(select) == SQLITE_ROW; ++i)
        expectForecast(f, i, number(given), number(given + 1), number(given + 2), program.noIntervals.empty(),
                       "SQL");
    EXPECT_EQ(i, 300U) << sqlite3_errmsg(db);
    sqlite3_finalize(select);
    sqlite3_close(db);
}

TEST_P(HandedOnForms, ScoreAsProgramsOfTheirOwn) {
    const TemporaryFolder folder;
    const Fitted f = fitted(form(), folder.path());
    const HandOnFrom from{f.evidence, f.recipe, f.rows, *f.prepared};
    Progress progress;
    const auto handed = handOn(folder.path(), {"c", "python", "json"}, from, progress);
    ASSERT_EQ(handed.size(), 3U);
    const std::string at = folder.path().string();
    // As JSON: the same to the last bit, without the rows.
    const ModelFile kept = readModelFile(folder.path() / "model.json");
    RowsSource source;
    source.file = "coming.csv";
    const Scored scored = scoreByFile(kept, source, folder.path(), {1}, progress);
    for (std::size_t i = 0; i < 300; ++i) {
        const auto same = [&](double a, double b) { return a == b || (std::isnan(a) && std::isnan(b)); };
        EXPECT_TRUE(same(scored.forecast.prediction[i], f.evidence.forecast->prediction[i])) << i;
        EXPECT_TRUE(same(scored.forecast.lower[i], f.evidence.forecast->lower[i])) << i;
        EXPECT_EQ(scored.forecast.reach[i].grade, f.evidence.forecast->reach[i].grade) << i;
        EXPECT_EQ(scored.forecast.reach[i].reasons, f.evidence.forecast->reach[i].reasons) << i;
    }
    if (form().kept) {
        EXPECT_FALSE(fs::exists(folder.path() / "model.c"));
        EXPECT_NE(handed[0].refused.find("model.json"), std::string::npos) << "and says what to use instead";
        return;
    }
    const bool bounds = programFor(f, 500).noIntervals.empty();
    int code = 0;
    const std::string said =
        outputOf("cc -std=c99 -Wall -Werror -O0 -o " + at + "/model " + at + "/model.c -lm 2>&1", code);
    ASSERT_EQ(code, 0) << said;
    outputOf(at + "/model 2>&1", code);
    EXPECT_EQ(code, 0) << "its own test";
    outputOf("python3 " + at + "/model.py 2>&1", code);
    EXPECT_EQ(code, 0) << "its own test";
    for (const std::string& command : {at + "/model", "python3 " + at + "/model.py"}) {
        const auto rows = lastThree(outputOf(command + " " + at + "/coming.csv", code));
        EXPECT_EQ(code, 0);
        ASSERT_EQ(rows.size(), 300U) << command;
        for (std::size_t i = 0; i < 300; ++i)
            expectForecast(f, i, rows[i][0], rows[i][1], rows[i][2], bounds, command);
    }
}

/// Where the runtime of the npm registry is installed (docs/hand_on.md says how); a package of the system has
/// none.
TEST_P(HandedOnForms, ScoreInAnIndependentRuntimeOfGraphs) {
    const char* runtime = std::getenv("OXGOAD_ONNX_RUNTIME");
    if (!runtime) GTEST_SKIP() << "OXGOAD_ONNX_RUNTIME names no folder of packages";
    if (form().kept) return;
    const TemporaryFolder folder;
    const Fitted f = fitted(form(), folder.path());
    const Program program = programFor(f, 60);
    std::vector<std::uint32_t> all(300);
    std::iota(all.begin(), all.end(), 0U);
    const auto rows = programRows(program, f.rows.forecast->table, "", all);
    nlohmann::json given;
    for (std::size_t s = 0; s < program.sources.size(); ++s)
        for (const ProgramRow& row : rows) {
            if (program.sources[s].kind == Program::Kind::text)
                given[program.sources[s].name].push_back(row.texts[s]);
            else
                given[program.sources[s].name].push_back(
                    std::isnan(row.numbers[s]) ? nlohmann::json(nullptr) : nlohmann::json(row.numbers[s]));
        }
    std::string graph;
    if (const std::string refused = errorOf([&] { graph = onnxOf(program); }); !refused.empty()) {
        EXPECT_NE(refused.find("no operator in this format"), std::string::npos) << refused;
        return;
    }
    replaceFile(folder.path() / "model.onnx", graph);
    replaceFile(folder.path() / "given.json", given.dump());
    int code = 0;
    const std::string said = outputOf("node " OXGOAD_SUPPORT "/run_onnx.js " + folder.path().string() +
                                          "/model.onnx " + folder.path().string() + "/given.json 2>/dev/null",
                                      code);
    ASSERT_EQ(code, 0) << said.substr(0, 500);
    const nlohmann::json out = nlohmann::json::parse(said);
    const auto number = [&](const char* name, std::size_t i) {
        return out[name][i].is_null() ? NAN : out[name][i].get<double>();
    };
    for (std::size_t i = 0; i < 300; ++i)
        expectForecast(f, i, number("prediction", i), number("lower", i), number("upper", i),
                       program.noIntervals.empty(), "graph");
}

INSTANTIATE_TEST_SUITE_P(All, HandedOnForms, ::testing::Range(std::size_t{0}, forms().size()));

TEST(HandedOn, ARealServerTakesRowsAndScoresThem) {
    const Server server;
    ASSERT_TRUE(server.running) << "the server did not start";
    const auto ask = [&](const std::string& query) {
        return readPostgres(server.place(), "right", query, {}, 0, quietly()).table;
    };
    for (const std::size_t k : {0, 3, 8, 11, 13}) {
        SCOPED_TRACE(forms()[k].name);
        const TemporaryFolder folder;
        const Fitted f = fitted(forms()[k], folder.path());
        const ScoredRows scored = scoredOf({f.evidence, f.recipe, f.rows, *f.prepared, {}});
        const std::string table = "scored \"" + std::to_string(k);
        const auto append = [&](const ScoredRows& rows) {
            appendScored(server.place(), "right", table, rows, quietly());
        };
        append(scored);
        // Of the columns that were given: the table has the prediction of the application too.
        std::string given;
        for (const Column& column : f.rows.forecast->table.columns()) {
            std::string name = column.name();
            for (std::size_t at = 0; (at = name.find('"', at)) != std::string::npos; at += 2)
                name.insert(at, 1, '"');
            given += (given.empty() ? "\"" : ", \"") + name + "\"";
        }
        std::string sql = sqlOf(programFor(f, 60));
        const std::string from = "FROM \"rows\"";
        ASSERT_NE(sql.find(from), std::string::npos) << sql.substr(0, 2000);
        while (sql.find(from) != std::string::npos)
            sql.replace(sql.find(from), from.size(),
                        "FROM (SELECT " + given + " FROM \"scored \"\"" + std::to_string(k) +
                            "\") AS \"rows\"");
        const Table said = ask(sql);
        ASSERT_EQ(said.rows(), 300U);
        const auto prediction = said.at("prediction", "").numbers();
        for (std::size_t i = 0; i < 300; ++i)
            expectForecast(f, i, prediction[i], NAN, NAN, false, "PostgreSQL");
        append(scored);
        EXPECT_EQ(ask("SELECT 1 AS a FROM \"scored \"\"" + std::to_string(k) + "\"").rows(), 600U);
        // A table of other columns takes nothing; nothing is half written.
        const Table other({scored.given.columns()[0].renamed("a column of another table")});
        EXPECT_THROW(append({other, scored.forecast, {}}), Error);
        StopsAtOnce stops;
        EXPECT_THROW(appendScored(server.place(), "right", table, scored, stops), Stopped);
        EXPECT_EQ(ask("SELECT 1 AS a FROM \"scored \"\"" + std::to_string(k) + "\"").rows(), 600U);
        // A connection that is lost half way takes everything back.
        struct Cuts final : Progress {
            std::function<void()> cut;
            void report(double, std::string_view) override {
                if (cut) std::exchange(cut, {})();
            }
        } cuts;
        std::size_t ended = 0;
        cuts.cut = [&] {
            ended = ask("SELECT pg_terminate_backend(pid)::text AS a FROM pg_stat_activity "
                        "WHERE pid <> pg_backend_pid() AND query LIKE 'COPY%'")
                        .rows();
        };
        EXPECT_THROW(appendScored(server.place(), "right", table, scored, cuts), Error);
        EXPECT_EQ(ended, 1U) << "one was copying";
        EXPECT_EQ(ask("SELECT 1 AS a FROM \"scored \"\"" + std::to_string(k) + "\"").rows(), 600U);
    }
}

TEST(HandedOn, TargetsThatCannotBeWrittenAreNamedAndStayAsTheyAre) {
    const TemporaryFolder made;
    const Fitted f = fitted(forms()[0], made.path());
    const HandOnFrom from{f.evidence, f.recipe, f.rows, *f.prepared};
    for (const HandOnFormat& format : handOnFormats()) {
        SCOPED_TRACE(format.name);
        const std::string name(format.file);
        const auto refused = [&](const fs::path& folder) {
            return errorOf([&] { handOn(folder, {std::string(format.name)}, from, quietly()); });
        };
        {
            const TemporaryFolder folder; // a folder of that name
            fs::create_directories(folder.path() / name / "keep");
            EXPECT_NE(refused(folder.path()).find(name), std::string::npos);
            EXPECT_TRUE(fs::exists(folder.path() / name / "keep"));
        }
        {
            const TemporaryFolder folder; // write-protected
            replaceFile(folder.path() / name, "as it was");
            fs::permissions(folder.path() / name, fs::perms::owner_read);
            EXPECT_NE(refused(folder.path()).find(name), std::string::npos);
            EXPECT_EQ(bytesOf(folder.path() / name), "as it was");
        }
        {
            const TemporaryFolder folder; // a link to a device that is full
            fs::create_symlink("/dev/full", folder.path() / name);
            EXPECT_NE(refused(folder.path()).find("not a regular file"), std::string::npos);
            EXPECT_TRUE(fs::is_symlink(folder.path() / name));
        }
        {
            const TemporaryFolder folder; // a link to a file of the user's: that file is written
            replaceFile(folder.path() / "mine", "old");
            fs::create_symlink(folder.path() / "mine", folder.path() / name);
            EXPECT_EQ(refused(folder.path()), "");
            EXPECT_TRUE(fs::is_symlink(folder.path() / name));
            EXPECT_NE(bytesOf(folder.path() / "mine"), "old");
        }
        {
            const TemporaryFolder folder; // the folder is a file
            replaceFile(folder.path() / "flat", "a file");
            EXPECT_NE(refused(folder.path() / "flat"), "");
            EXPECT_EQ(bytesOf(folder.path() / "flat"), "a file");
        }
    }
}

TEST(HandedOn, FormulasAreOneSelfTestAway) {
    // A test inside that is wrong fails.
    const TemporaryFolder folder;
    const Fitted f = fitted(forms()[0], folder.path());
    const Program program = programFor(f, 500);
    TestRows tests = testRowsOf(
        program, programRows(program, f.rows.forecast->table, "", std::vector<std::uint32_t>{0, 1}));
    tests.results[1].prediction += 1e-3;
    replaceFile(folder.path() / "model.py", pythonOf(program, tests));
    int code = 0;
    outputOf("python3 " + (folder.path() / "model.py").string() + " 2>&1", code);
    EXPECT_NE(code, 0);
}

TEST(HandedOn, TheReportIsOneSafePage) {
    const TemporaryFolder folder;
    const Fitted f = fitted(forms()[0], folder.path());
    Progress progress;
    const HandOnFrom from{f.evidence, f.recipe, f.rows, *f.prepared};
    const auto blocks = reportOf(from, progress);
    const std::string html = reportHtml(blocks);
    EXPECT_EQ(html, reportHtml(reportOf(from, progress))) << "the same bytes";
    for (const auto* never : {"<b>&amp;", "</td>\"", "<script", "http://", "src=", "href="}) {
        std::string text = html;
        for (std::size_t at = 0; (at = text.find("http://www.w3.org", at)) != std::string::npos;)
            text.erase(at, 17);
        EXPECT_EQ(text.find(never), std::string::npos) << never;
    }
    for (const auto* there :
         {"The model", "How far off it is", "What to look at", "Forecast", "Clearance", "<svg"})
        EXPECT_NE(html.find(there), std::string::npos) << there;
    const std::string pdf = reportPdf(blocks);
    EXPECT_TRUE(pdf.starts_with("%PDF-"));
    EXPECT_EQ(pdf, reportPdf(blocks)) << "the same bytes";
    EXPECT_GT(pdf.size(), 10000U);
}

TEST(HandedOn, AKeptModelThatWasSpoiltIsRefused) {
    const TemporaryFolder folder;
    const Fitted f = fitted(forms()[0], folder.path());
    const std::string good = modelFileText(f.evidence, f.recipe, f.rows, *f.prepared);
    replaceFile(folder.path() / "good.json", good);
    EXPECT_NO_THROW(readModelFile(folder.path() / "good.json"));
    RandomStream random(3, "spoilt");
    for (int k = 0; k < 200; ++k) {
        std::string bad = good;
        for (int c = 0; c < 1 + k % 3; ++c)
            bad[random.below(bad.size())] = static_cast<char>(random.below(256));
        replaceFile(folder.path() / "bad.json", bad);
        try {
            const ModelFile model = readModelFile(folder.path() / "bad.json");
            RowsSource source;
            source.file = "coming.csv";
            Progress progress;
            scoreByFile(model, source, folder.path(), {1}, progress);
        } catch (const Error&) { // refused, in words
        }
    }
    EXPECT_NE(errorOf([&] { readModelFile(folder.path() / "rows.csv"); }).find("not a model"),
              std::string::npos);
}

} // namespace hand_on_test

namespace hand_on_test {

TEST(HandedOn, ScoredRowsAreATableAndASheet) {
    const TemporaryFolder folder;
    const Fitted f = fitted(forms()[0], folder.path());
    const HandOnFrom from{f.evidence, f.recipe, f.rows, *f.prepared};
    Progress progress;
    handOn(folder.path(), {"rows-sqlite", "rows-xlsx", "rows-ods"}, from, progress);
    const ForecastEvidence& forecast = *f.evidence.forecast;
    // The table has all rows, to the last bit, and nothing in them is code.
    const RowsRead table =
        readSqlite(folder.path() / "scored.sqlite", "SELECT * FROM forecast", {}, 0, progress);
    ASSERT_EQ(table.table.rows(), 300U);
    EXPECT_NE(table.table.find(hostileName), nullptr);
    const RowsRead notes =
        readSqlite(folder.path() / "scored.sqlite", "SELECT * FROM notes", {}, 0, progress);
    EXPECT_GE(notes.table.rows(), 5U);
    RowsPlan plan;
    for (const auto* name : {"scored.xlsx", "scored.ods"}) {
        plan.file = name;
        plan.kind = SourceKind::workbook;
        const RowsRead sheet = readRows(plan, folder.path(), {}, {1}, progress);
        ASSERT_EQ(sheet.table.rows(), 300U) << name;
        for (std::size_t i = 0; i < 300; ++i)
            expectSame(sheet.table.at("prediction", "").asNumber(i), forecast.prediction[i], name);
    }
    for (std::size_t i = 0; i < 300; ++i) {
        const double said = table.table.at("prediction", "").asNumber(i);
        EXPECT_TRUE(said == forecast.prediction[i] ||
                    (std::isnan(said) && std::isnan(forecast.prediction[i])));
        EXPECT_EQ(table.table.at("reach", "").cellText(i), gradeName(forecast.reach[i].grade));
        EXPECT_EQ(table.table.at("g", "").cellText(i), f.rows.forecast->table.at("g", "").cellText(i));
    }
}

} // namespace hand_on_test
