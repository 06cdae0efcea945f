// What the ledger says of columns, and rows prepared end to end.
#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "ledger/ledger.h"
#include "recipe/recipe.h"
#include "study/prepare_rows.h"
#include "study/project.h"
#include "support/support.h"

using namespace oxgoad;
using namespace oxgoad::test;

namespace ledger_test {

RowsRead rowsOf(const std::string& text) {
    return readTextBytes(text, "t.csv", {}, {}, quietly());
}

Ledger ledgerOf(const RowsRead& rows, const std::string& origin = {}) {
    LedgerInput input{.table = rows.table,
                      .used = {},
                      .response = "y",
                      .misfits = rows.report.faultsByColumn,
                      .originColumn = origin};
    for (const CellFault& fault : rows.report.faults)
        input.misfitTexts[fault.column].push_back(fault.text);
    return makeLedger(input, {}, quietly());
}

const Goad* goadOf(const Ledger& ledger, const std::string& start) {
    static std::vector<Goad> all;
    all = ledger.goads();
    for (const LedgerLine& line : ledger.columns)
        all.insert(all.end(), line.remarks.begin(), line.remarks.end());
    for (const Goad& goad : all)
        if (goad.key.starts_with(start)) return &goad;
    return nullptr;
}

/// The step a goad offers under a label.
Step stepOf(const Goad& goad, const std::string& label) {
    for (const Move& move : goad.moves)
        if (move.edit && move.label.starts_with(label)) {
            Recipe recipe;
            move.edit(recipe, {});
            if (!recipe.steps.empty()) return recipe.steps.back();
        }
    ADD_FAILURE() << goad.key << " has no move " << label;
    return {};
}

/// Every trap of the ledger in one table of 200 rows.
std::string traps() {
    std::string text = "y,price,code,constant,nearly,id,region,texty,fine\n";
    for (int i = 0; i < 200; ++i) {
        const std::string price = i == 17       ? "-3"
                                  : i == 60     ? "900"
                                  : i % 50 == 9 ? "?"
                                                : std::to_string(20 + i % 13);
        const std::string region = i % 40 == 0   ? "North east"
                                   : i % 40 == 1 ? "north-east"
                                   : i >= 195    ? "islands"
                                   : i % 2       ? "north east"
                                                 : "south";
        const std::string texty =
            i % 4 == 3 ? "n.a. (" + std::to_string(i % 3) + ")" : std::to_string(i % 90);
        text += std::to_string(i % 31) + "." + std::to_string(i % 7) + "," + price + "," +
                std::to_string(1 + i % 3) + ",7," + (i == 5 ? "1" : "0") + "," + std::to_string(1001 + i) +
                "," + region + "," + texty + "," + std::to_string(i % 97) + ".5\n";
    }
    return text;
}

TEST(Ledger, EveryTrapIsAGoadWithMovesThatAnswerIt) {
    const auto rows = rowsOf(traps());
    const Ledger ledger = ledgerOf(rows);
    for (const auto* key : {"missing: price", "sign: price", "far out: price", "code: code",
                            "constant: constant", "almost constant: nearly", "identifier: id",
                            "alike levels: region", "rare levels: region", "number as text: texty"})
        ASSERT_NE(goadOf(ledger, key), nullptr) << key;
    for (const Goad& goad : ledger.goads()) {
        EXPECT_NE(goad.column, "fine") << goad.key;
        EXPECT_FALSE(goad.reading.empty()) << goad.key;
        EXPECT_FALSE(goad.threshold.empty()) << goad.key;
        EXPECT_FALSE(goad.source.empty()) << goad.key;
    }
    EXPECT_NE(goadOf(ledger, "sign: price")->reading.find("row 18: −3"), std::string::npos);
    EXPECT_NE(goadOf(ledger, "far out: price")->reading.find("row 61: 900"), std::string::npos);
    // Answering a goad by its first offered step makes it go away.
    struct Answer {
        const char* key;
        const char* label;
    };
    for (const Answer& answer : {Answer{"missing: price", "fill"},
                                 {"sign: price", "make"},
                                 {"far out: price", "make"},
                                 {"far out: price", "leave"},
                                 {"code: code", "take"},
                                 {"alike levels: region", "merge"},
                                 {"rare levels: region", "lump"},
                                 {"number as text: texty", "take"},
                                 {"missing: price", "leave"},
                                 {"sign: price", "leave"}}) {
        const Goad* goad = goadOf(ledger, answer.key);
        const Step step = stepOf(*goad, answer.label);
        const std::string key = goad->key;
        const auto prepared = learnSteps(rows.table, {step}, {}, {}, "t", quietly());
        ASSERT_TRUE(prepared.outcomes[0].done) << key << ": " << prepared.outcomes[0].problem;
        std::vector<std::uint8_t> used;
        for (const auto by : prepared.leftOut)
            used.push_back(by == 0);
        const LedgerInput input{.table = prepared.table, .used = used, .response = "y"};
        const Ledger after = makeLedger(input, {}, quietly());
        const auto left = after.goads();
        // "rare levels" may have another level left: the lump itself is 'other', with few rows.
        if (std::string(answer.label) == "lump") continue;
        EXPECT_TRUE(std::none_of(left.begin(), left.end(), [&](const Goad& g) { return g.key == key; }))
            << key << " by " << answer.label;
    }
}

TEST(Ledger, EqualRowsAreFoundAndLeftOutOnce) {
    std::string text = "y,g\n";
    for (int i = 0; i < 50; ++i)
        text += std::to_string(i) + "," + (i % 2 ? "a" : "b") + "\n";
    text += "3,a\n7,a\n3,a\n";
    const auto rows = rowsOf(text);
    const Goad* goad = goadOf(ledgerOf(rows), "duplicate rows");
    ASSERT_NE(goad, nullptr);
    EXPECT_NE(goad->title.find("3 rows equal"), std::string::npos) << goad->title;
    const auto prepared = learnSteps(rows.table, {stepOf(*goad, "leave")}, {}, {}, "t", quietly());
    EXPECT_EQ(prepared.outcomes[0].rowsOut, 50u);
    EXPECT_EQ(prepared.leftOut[3], 0); // the first of them stays
}

TEST(Ledger, SourcesThatLieApartAreNamed) {
    std::string text = "y,rate,source\n";
    for (int i = 0; i < 100; ++i)
        text += std::to_string(i) + "," + std::to_string(i % 2 ? 20 + i % 9 : 2000 + i % 90) + "," +
                (i % 2 ? "euro.csv" : "cent.csv") + "\n";
    const Goad* goad = goadOf(ledgerOf(rowsOf(text), "source"), "distant sources: rate");
    ASSERT_NE(goad, nullptr);
    EXPECT_EQ(goad->severity, Severity::alarm);
}

TEST(Ledger, OrdinaryColumnsAreLeftInPeace) {
    std::string text = "y,x,g,d\n";
    RandomStream random(3, "ordinary");
    for (int i = 0; i < 400; ++i)
        text += std::to_string(random.normal()) + "," + std::to_string(random.normal() * 10 + 50) + "," +
                "abc"[random.below(3)] + ",2024-0" + std::to_string(1 + i % 9) + "-01\n";
    EXPECT_TRUE(ledgerOf(rowsOf(text)).goads().empty()) << ledgerOf(rowsOf(text)).goads().front().key;
}

TEST(Ledger, SortingByDigitsIsSorting) {
    RandomStream random(5, "sort");
    std::vector<double> values{0.0,
                               -0.0,
                               1e-310,
                               -1e-310,
                               1e308,
                               -1e308,
                               std::numeric_limits<double>::infinity(),
                               -std::numeric_limits<double>::infinity()};
    for (int i = 0; i < 20000; ++i)
        values.push_back(random.normal() * std::pow(10, static_cast<double>(random.below(20)) - 10));
    values.push_back(std::nan(""));
    auto expected = values;
    expected.pop_back();
    std::stable_sort(expected.begin(), expected.end());
    sortNumbers(values);
    EXPECT_TRUE(std::isnan(values.back()));
    values.pop_back();
    EXPECT_EQ(values, expected);
}

const std::string demo = OXGOAD_DEMO;

TEST(PreparedDemo, PlantedFaultsAreFoundAndEachIsAnsweredByOneStep) {
    const Recipe recipe = readRecipe(demo + "/1_straight.json");
    const StudyRows rows = loadRows(recipe, demo, {}, quietly());
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const auto goads = prepared->ledger.goads();
    auto find = [&](const std::string& key) {
        const auto at = std::find_if(goads.begin(), goads.end(), [&](const Goad& g) { return g.key == key; });
        EXPECT_NE(at, goads.end()) << key;
        return at == goads.end() ? Goad{} : *at;
    };
    // Missing marks, the mistyped rate, the rare level (demo/README.md); the fire month is found once there
    // is a fit.
    EXPECT_NE(find("missing: occupancy").title.find("12 values"), std::string::npos);
    EXPECT_NE(find("far out: list_rate").reading.find("row 129"), std::string::npos);
    EXPECT_NE(find("rare levels: cooling").reading.find("glycol 5"), std::string::npos);
    const Evidence evidence = evaluate(recipe, rows, {}, quietly());
    bool fire = false;
    for (const Goad& goad : evidence.goads)
        fire |= goad.key == "outlying: row 89" &&
                std::any_of(goad.moves.begin(), goad.moves.end(),
                            [](const Move& m) { return m.asks == "Why is row 89 left out?"; });
    EXPECT_TRUE(fire);
}

TEST(PreparedDemo, NextMonthsFileGoesThroughTheSameSteps) {
    const TemporaryFolder folder;
    const Recipe recipe = readRecipe(demo + "/prepared.json");
    std::string text;
    {
        std::ifstream in(demo + "/depot_months.csv");
        text.assign(std::istreambuf_iterator<char>(in), {});
    }
    folder.write("depot_months.csv", text);
    std::filesystem::copy_file(demo + "/plan.csv", folder.file("plan.csv"));
    const StudyRows rows = loadRows(recipe, folder.path(), {}, quietly());
    const Evidence first = evaluate(recipe, rows, {}, quietly());
    for (const StepOutcome& outcome : first.steps)
        EXPECT_TRUE(outcome.problem.empty()) << outcome.problem;
    EXPECT_EQ(first.steps[2].changedCells, 29u);
    EXPECT_EQ(first.rowsLeftOut, 2u);
    EXPECT_EQ(first.rowsMissing, 0u);
    EXPECT_FALSE(first.test);
    EXPECT_EQ(first.rowsTest, 160u);
    for (std::size_t i = 0; i < first.rows.state.size(); ++i)
        if (first.rows.state[i] == RowState::test) {
            EXPECT_TRUE(std::isnan(first.rows.fitted[i]));
            EXPECT_TRUE(std::isnan(first.rows.actual[i]));
        }
    // A month more, whose last line repeats the rows of the month before; and the step's column renamed.
    const auto line = text.rfind('\n', text.size() - 2);
    folder.write("depot_months.csv", text + text.substr(line + 1));
    const StudyRows next = loadRows(recipe, folder.path(), {}, quietly());
    EXPECT_EQ(evaluate(recipe, next, {}, quietly()).rowsRead, first.rowsRead + 1);
    std::string renamed = text;
    renamed.replace(renamed.find("cooling"), 7, "chilled");
    folder.write("depot_months.csv", renamed);
    const Evidence gone = evaluate(recipe, loadRows(recipe, folder.path(), {}, quietly()), {}, quietly());
    EXPECT_NE(gone.steps[3].problem.find("no column \"cooling\""), std::string::npos)
        << gone.steps[3].problem;
    EXPECT_TRUE(gone.steps[4].done);
    EXPECT_TRUE(std::any_of(gone.goads.begin(), gone.goads.end(),
                            [](const Goad& g) { return g.key.starts_with("step: Merge"); }));
}

TEST(PreparedDemo, TheSameForAnyNumberOfThreadsAndNoMatterWhatHeldOutRowsSay) {
    const Recipe recipe = readRecipe(demo + "/prepared.json");
    StudyRows rows = loadRows(recipe, demo, {}, quietly());
    const std::string one = evidenceText(evaluate(recipe, rows, {1}, quietly()), recipe);
    EXPECT_EQ(one, evidenceText(evaluate(recipe, rows, {3}, quietly()), recipe));
    // The response of held-out and test rows is spoilt: nothing that was learned may change.
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const Evidence before = evaluate(recipe, rows, {}, quietly());
    for (const char* name : {"revenue", "energy_price", "promotion", "occupancy"}) {
        const Column& column = rows.learning.table.at(name, "");
        std::vector<double> values(column.numbers().begin(), column.numbers().end());
        for (std::size_t i = 0; i < values.size(); ++i)
            if (prepared->parts[i] != Part::learning) values[i] = values[i] * 3 + 1;
        rows.learning.table = rows.learning.table.withColumn(Column::ofNumbers(name, values));
    }
    const Evidence after = evaluate(recipe, rows, {}, quietly());
    for (std::size_t i = 0; i < before.steps.size(); ++i)
        EXPECT_EQ(before.steps[i].learned, after.steps[i].learned) << i;
    ASSERT_EQ(before.linear->coefficients.size(), after.linear->coefficients.size());
    for (std::size_t i = 0; i < before.linear->coefficients.size(); ++i)
        EXPECT_EQ(before.linear->coefficients[i].estimate, after.linear->coefficients[i].estimate)
            << before.linear->coefficients[i].name;
    EXPECT_NE(before.heldOut.rmse, after.heldOut.rmse);
}

TEST(PreparedDemo, TestRowsAreScoredOnlyWhenAskedAndTheLookIsKept) {
    const Recipe recipe = readRecipe(demo + "/prepared.json");
    Project project;
    project.rows = loadRows(recipe, demo, {}, quietly());
    const auto prepared = prepareRows(recipe, project.rows, {}, quietly());
    const Evidence locked = evaluate(recipe, project.rows, *prepared, {}, quietly());
    EXPECT_EQ(evidenceText(locked, recipe).find("\"test\": {"), std::string::npos);
    const Evidence seen = evaluate(recipe, project.rows, *prepared, {.lookAtTest = true}, quietly());
    ASSERT_TRUE(seen.test);
    EXPECT_EQ(seen.test->rows, 160u);
    EXPECT_GT(seen.test->rmse, 0);
    EXPECT_EQ(seen.linear->coefficients[1].estimate, locked.linear->coefficients[1].estimate);
    project.current = project.trail.add(recipe, seen, 0);
    project.recipe = recipe;
    project.trail.lookAtTest(1);
    project.trail.lookAtTest(1);
    const TemporaryFolder folder;
    saveProject(folder.file("p.oxgoad"), project, quietly());
    const Project again = openProject(folder.file("p.oxgoad"), quietly());
    EXPECT_EQ(again.trail.testLooks(), (std::vector<int>{1, 1}));
    EXPECT_TRUE(again.recipe == recipe);
}

TEST(PreparedRecipe, ReadsBackEqualWhateverItHolds) {
    Recipe recipe;
    recipe.rows.file = "a.xlsx";
    recipe.rows.kind = SourceKind::workbook;
    recipe.rows.sheet = "S";
    recipe.rows.range = "B3:F9";
    recipe.rows.text.thousandsMarks = " '";
    recipe.rows.text.percent = NumberDress::Percent::number;
    recipe.rows.text.dateOrder = DateOrder::monthFirst;
    recipe.rows.text.currency = false;
    recipe.rows.text.skipLines = 3;
    RowsSource server;
    server.kind = SourceKind::postgres;
    server.server = {"db", 5433, "d", "u"};
    server.query = "SELECT 1 AS \"x\"";
    RowsSource lite;
    lite.kind = SourceKind::sqlite;
    lite.file = "b.db";
    lite.query = "SELECT * FROM t";
    recipe.rows.stacked = {server, lite};
    recipe.rows.originColumn = "from";
    recipe.rows.joins = {{RowsSource{.file = "c.csv"}, {{"k", "K"}, {"l", "L"}}}};
    recipe.response = "y";
    recipe.steps = {{"replace values",
                     false,
                     {{"column", std::string("x")}, {"pairs", TextPairs{{"b", "a"}, {"a", ""}}}}},
                    {"cut into bands",
                     true,
                     {{"column", std::string("x")},
                      {"limits", std::vector<double>{0.1, 1e300}},
                      {"at", std::string("given limits")}}},
                    {"leave out where", true, {{"condition", std::string("x ≠ \"\\\"")}}}};
    recipe.roles = {{"k", Role::group}, {"id", Role::identifier}, {"w", Role::weight}};
    EXPECT_FALSE(isOffered(recipe, "w"));
    for (const SetAside& aside :
         {SetAside{.kind = SetAsideKind::groups, .share = 0.2, .testShare = 0.1, .seed = 3, .column = "k"},
          SetAside{
              .kind = SetAsideKind::column, .column = "part", .heldOutValues = {"v"}, .testValues = {"t"}},
          SetAside{.kind = SetAsideKind::proportionate, .column = "y", .bands = 7}}) {
        recipe.setAside = aside;
        EXPECT_TRUE(parseRecipe(recipeText(recipe), "r") == recipe) << recipeText(recipe);
    }
    auto refused = [](const std::string& rest, const std::string& words) {
        try {
            parseRecipe("{\"recipe\": 1, \"rows\": {\"file\": \"a\"}, \"response\": \"y\", \"terms\": [], " +
                            rest + "}",
                        "r");
            ADD_FAILURE() << rest;
        } catch (const Error& error) {
            EXPECT_NE(std::string(error.what()).find(words), std::string::npos) << error.what();
        }
    };
    refused("\"steps\": [{\"do\": \"dance\"}]", "steps[0].do is \"dance\"");
    refused("\"steps\": [{\"do\": \"fill missing\"}]", "lacks \"columns\"");
    refused("\"steps\": [{\"do\": \"fill missing\", \"columns\": [\"a\"], \"width\": 3}]", "width");
    refused("\"set_aside\": {\"kind\": \"random\", \"share\": 0.6, \"test_share\": 0.5, \"seed\": 1}",
            "nothing to learn from");
    refused("\"roles\": {\"a\": \"hero\"}", "hero");
    EXPECT_THROW(parseRecipe("{\"recipe\": 1, \"rows\": {\"server\": {\"database\": \"d\", \"user\": \"u\", "
                             "\"password\": \"secret\"}, \"query\": \"SELECT 1\"}, "
                             "\"response\": \"y\", \"terms\": []}",
                             "r"),
                 Error);
}

} // namespace ledger_test
