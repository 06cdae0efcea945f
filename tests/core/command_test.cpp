// The headless command, run as a user would, on the demo rows.
#include "support/support.h"

#include <csignal>
#include <cstdlib>
#include <sys/wait.h>

using namespace oxgoad;
using namespace oxgoad::test;

namespace command_test {

struct Ran {
    int code = -1;
    std::string errors;
};

Ran run(const std::string& arguments, const TemporaryFolder& folder) {
    const auto log = folder.file("stderr.txt");
    const int status = std::system((std::string(OXGOAD_RUN) + " " + arguments + " 2>" + log.string() + " >" +
                                    folder.file("stdout.txt").string())
                                       .c_str());
    return {WIFEXITED(status) ? WEXITSTATUS(status) : -1, bytesOf(log)};
}

const std::string demo = OXGOAD_DEMO;

bool hasGoad(const nlohmann::json& evidence, const std::string& start) {
    for (const auto& g : evidence["goads"]) {
        if (g["goad"].get<std::string>().starts_with(start)) return true;
        if (g.contains("also"))
            for (const auto& other : g["also"])
                if (other["goad"].get<std::string>().starts_with(start)) return true;
    }
    return false;
}

nlohmann::json evidenceOf(const std::string& recipe, const TemporaryFolder& folder) {
    EXPECT_EQ(run(demo + "/" + recipe + " --out " + folder.file("out").string(), folder).code, 0);
    return nlohmann::json::parse(bytesOf(folder.file("out") / "evidence.json"));
}

TEST(Command, WritesTheFixedPartsOfTheEvidence) {
    const TemporaryFolder folder;
    const auto e = evidenceOf("3_rate_by_contract.json", folder);
    std::vector<std::string> names;
    for (const auto& c : e["fit"]["coefficients"]) {
        for (const auto* key : {"name", "estimate", "standard_error", "t", "p", "lower", "upper"})
            EXPECT_TRUE(c.contains(key)) << key;
        names.push_back(c["name"]);
    }
    EXPECT_EQ(names[0], "intercept");
    EXPECT_NE(std::find(names.begin(), names.end(), "list_rate × contract = annual"), names.end());
    for (const auto* key :
         {"residual_standard_deviation", "degrees_of_freedom", "r_squared", "adjusted_r_squared"})
        EXPECT_TRUE(e["fit"][key].is_number()) << key;
    for (const auto* part : {"learning", "held_out"})
        for (const auto* key :
             {"rows", "rmse", "mae", "r_squared", "relative_absolute_error", "relative_squared_error"})
            EXPECT_TRUE(e["scores"][part][key].is_number()) << key;
    EXPECT_TRUE(e["goads"].is_array());
    const std::string head = bytesOf(folder.file("out") / "forecast.csv").substr(0, 400);
    EXPECT_NE(head.find(",prediction,mean_lower,mean_upper,lower,upper,reach,reasons\n"), std::string::npos);
    EXPECT_TRUE(
        bytesOf(folder.file("out") / "rows.csv")
            .starts_with("row,part,actual,fitted,residual,leverage,studentised_residual,cooks_distance,"
                         "out_of_fold\n"));
    for (const auto* key :
         {"rows", "mse", "rmse", "mae", "r_squared", "mean_of_fold_mse", "standard_error", "adjusted_mse"})
        EXPECT_TRUE(e["folds"][key].is_number()) << key;
    EXPECT_EQ(e["folds"]["kind"], "k folds");
    EXPECT_EQ(e["folds"]["each"].size(), 10U);
    for (const auto* key : {"fold", "rows", "mse", "rmse", "mae", "chosen", "settings"})
        EXPECT_TRUE(e["folds"]["each"][0].contains(key)) << key;
    EXPECT_TRUE(bytesOf(folder.file("out") / "coefficients.csv")
                    .starts_with("name,estimate,standard_error,t,p,lower,upper\n"));
}

TEST(Command, FindsThePlantedTruthsOfTheDemoRows) {
    // demo/README.md lists what is planted.
    const TemporaryFolder folder;
    const auto before = evidenceOf("3_rate_by_contract.json", folder);
    EXPECT_TRUE(hasGoad(before, "outlying: row 89")) << "the month after the fire";
    EXPECT_TRUE(hasGoad(before, "held-out row far off: row 129")) << "the mistyped rate";
    EXPECT_TRUE(hasGoad(before, "collinearity: outside_temperature"));
    EXPECT_TRUE(hasGoad(before, "missing values"));
    EXPECT_TRUE(hasGoad(before, "reach"));
    const auto after = evidenceOf("4_two_rows_left_out.json", folder);
    EXPECT_FALSE(hasGoad(after, "outlying: row 89"));
    EXPECT_TRUE(hasGoad(after, "unequal spread")) << "the spread that grows with size";
    for (const auto& c : after["fit"]["coefficients"]) {
        // Planted: 14.0 a pallet place; 1,900 more a euro of rate for annual contracts than for spot.
        if (c["name"] == "places") {
            EXPECT_LT(c["lower"].get<double>(), 14.0);
            EXPECT_GT(c["upper"].get<double>(), 14.0);
        }
        if (c["name"] == "list_rate × contract = annual") {
            EXPECT_LT(c["lower"].get<double>(), 1900);
            EXPECT_GT(c["upper"].get<double>(), 1900);
        }
    }
    const std::string plan = bytesOf(folder.file("out") / "forecast.csv");
    EXPECT_NE(plan.find("list_rate 34.5 is above the highest seen"), std::string::npos);
}

TEST(Command, BadInputIsExitCodeTwoWithOneSentenceAndNoOutput) {
    const TemporaryFolder folder;
    const std::string out = " --out " + folder.file("o").string();
    for (const auto& [arguments, said] : std::vector<std::pair<std::string, std::string>>{
             {folder.file("none.json").string() + out, "there is no such file"},
             {folder.path().string() + out, "this is a folder"},
             {folder.write("bad.json", "{\"recipe\": 1").string() + out, "this is not JSON here"},
             {folder.write("rows.json",
                           R"({"recipe": 1, "rows": {"file": "gone.csv"}, "response": "y", "terms": []})")
                      .string() +
                  out,
              "gone.csv"},
             {demo + "/1_straight.json", "say either --out DIR or --project FILE"},
             {demo + "/1_straight.json --out /proc/x/y", "nothing can be written"},
             {demo + "/1_straight.json --threads many" + out, "--threads needs a number"},
             {"--frobnicate", "there is no option"}}) {
        const Ran ran = run(arguments, folder);
        EXPECT_EQ(ran.code, 2) << arguments;
        EXPECT_NE(ran.errors.find(said), std::string::npos) << arguments << ": " << ran.errors;
        EXPECT_EQ(std::count(ran.errors.begin(), ran.errors.end(), '\n'), 1) << ran.errors;
        EXPECT_FALSE(std::filesystem::exists(folder.file("o"))) << arguments;
    }
}

TEST(Command, HelpAndVersionSucceed) {
    const TemporaryFolder folder;
    EXPECT_EQ(run("--help", folder).code, 0);
    EXPECT_NE(bytesOf(folder.file("stdout.txt")).find("Exit codes"), std::string::npos);
    EXPECT_EQ(run("--version", folder).code, 0);
    const std::string version = bytesOf(folder.file("stdout.txt"));
    EXPECT_TRUE(version.starts_with("oxgoad-run ")) << version;
    EXPECT_TRUE(version.ends_with("arithmetic for x86-64-v3\n") ||
                version.ends_with("arithmetic for any machine\n"))
        << version;
}

TEST(Command, HelpAndTheManualNameEveryOptionAndExitCode) {
    const TemporaryFolder folder;
    ASSERT_EQ(run("--help", folder).code, 0);
    const std::string help = bytesOf(folder.file("stdout.txt"));
    ASSERT_EQ(run("--man", folder).code, 0);
    std::string manual = bytesOf(folder.file("stdout.txt"));
    EXPECT_TRUE(manual.starts_with(".TH "));
    std::erase(manual, '\\');
    std::size_t options = 0;
    // Every line of the help that begins with an option, and whatever the parser takes.
    for (std::size_t at = help.find("\n  --"); at != std::string::npos; at = help.find("\n  --", at + 1)) {
        const std::string option = help.substr(at + 3, help.find_first_of(" [\n", at + 3) - at - 3);
        EXPECT_NE(manual.find(option), std::string::npos) << option;
        ++options;
    }
    EXPECT_GE(options, 35U);
    for (const char* code : {"0", "2", "3", "4"}) {
        EXPECT_NE(help.find("\n  " + std::string(code) + "  "), std::string::npos) << code;
        EXPECT_NE(manual.find(".B " + std::string(code)), std::string::npos) << code;
    }
    for (std::size_t at = 0; at < help.size();) { // nothing runs out of a terminal
        const std::size_t end = std::min(help.find('\n', at), help.size());
        EXPECT_LE(end - at, 92U) << help.substr(at, end - at);
        at = end + 1;
    }
    EXPECT_NE(run("--thread 2", folder).errors.find("Did you mean \"--threads\"?"), std::string::npos);
}

TEST(Command, AStepThatCannotRunEndsItUnlessToldToGoOn) {
    const TemporaryFolder folder;
    std::string text = "x,y\n";
    for (int i = 0; i < 30; ++i)
        text += std::to_string(i) + "," + std::to_string(3 * i + i % 5) + "\n";
    folder.write("r.csv", text);
    const auto recipe =
        folder.write("r.json",
                     R"({"recipe": 1, "rows": {"file": "r.csv"}, "response": "y", "terms": ["x"],
            "steps": [{"do": "leave out where", "condition": "xs > 3"}]})");
    const std::string out = " --out " + folder.file("o").string();
    const Ran ran = run(recipe.string() + out, folder);
    EXPECT_EQ(ran.code, 2);
    EXPECT_NE(ran.errors.find("step 1"), std::string::npos) << ran.errors;
    EXPECT_NE(ran.errors.find("Did you mean \"x\"?"), std::string::npos) << ran.errors;
    EXPECT_FALSE(std::filesystem::exists(folder.file("o")));
    EXPECT_EQ(run(recipe.string() + out + " --go-on", folder).code, 0);
    const auto e = nlohmann::json::parse(bytesOf(folder.file("o") / "evidence.json"));
    EXPECT_TRUE(e["goads"][0]["goad"].get<std::string>().starts_with("step: ")) << e["goads"][0];
}

TEST(Command, TellsOfCellsAndLinesThatDoNotFitAndOfRowsWithoutAPrediction) {
    const TemporaryFolder folder;
    std::string text = "a rate,depot,y\n";
    for (int i = 0; i < 40; ++i)
        text += (i == 5 ? "about 7" : std::to_string(i % 9)) + "," + (i % 2 ? "Oslo" : "Bergen") + "," +
                std::to_string(10 + i % 9 + i % 4) + (i == 8 ? ",note" : "") + "\n";
    folder.write("r.csv", text);
    folder.write(
        "f.csv",
        "a rate,depot,day\n3,Oslo,2025-01-01\n,Oslo,2025-01-01\n4,Narvik,2025-02-01\n,Bergen,2025-02-01\n");
    const auto recipe = folder.write(
        "r.json", R"({"recipe": 1, "rows": {"file": "r.csv"}, "response": "y", "terms": ["a rate", "depot"],
            "forecast": {"file": "f.csv"}})");
    const Ran ran = run(recipe.string() + " --quiet --out " + folder.file("o").string(), folder);
    EXPECT_EQ(ran.code, 0) << ran.errors;
    EXPECT_NE(ran.errors.find("line 7, a rate: \"about 7\" is not a number"), std::string::npos)
        << ran.errors;
    EXPECT_NE(ran.errors.find("line 10"), std::string::npos) << ran.errors;
    EXPECT_NE(ran.errors.find(
                  "3 of 4 rows to forecast have no prediction: a rate is missing (2 rows); depot = Narvik "
                  "was never learned from (1 row)"),
              std::string::npos)
        << ran.errors;
    const auto e = nlohmann::json::parse(bytesOf(folder.file("o") / "evidence.json"));
    EXPECT_EQ(e["rows"]["faults"]["count"], 2);
    EXPECT_EQ(e["rows"]["faults"]["by_column"]["a rate"], 1);
    EXPECT_EQ(e["rows"]["faults"]["first"][1]["text"], "note");
    EXPECT_TRUE(e["forecast"]["without_prediction_because"].is_string());
    for (const auto& goad : e["goads"])
        if (goad["goad"] == "reach") {
            EXPECT_EQ(goad["column"], "a rate") << goad;
        }
    EXPECT_EQ(run("--describe " + folder.file("r.csv").string(), folder).code, 0);
    EXPECT_NE(bytesOf(folder.file("stdout.txt"))
                  .find("Not read: 2 cells or lines do not fit: a rate 1, 1 line of another length"),
              std::string::npos);
}

TEST(Command, ABrokenRecipeNamesLineAndPlace) {
    const TemporaryFolder folder;
    const Ran ran = run(folder.write("b.json", "{\"recipe\": 1,\n \"rows\": {\"file\" \"r.csv\"}}").string() +
                            " --out " + folder.file("o").string(),
                        folder);
    EXPECT_EQ(ran.code, 2);
    EXPECT_NE(ran.errors.find("line 2"), std::string::npos) << ran.errors;
    EXPECT_NE(ran.errors.find("character 24"), std::string::npos) << ran.errors;
    const Ran key = run(
        folder.write(
                  "k.json",
                  R"({"recipe": 1, "rows": {"file": "r.csv"}, "response": "y", "terms": [], "judges": {}})")
                .string() +
            " --out " + folder.file("o").string(),
        folder);
    EXPECT_NE(key.errors.find("Did you mean \"judge\"?"), std::string::npos) << key.errors;
}

TEST(Command, AnInterruptIsExitCodeThreeAndLeavesNothing) {
    const TemporaryFolder folder;
    std::string text = "x,g,y\n";
    for (int i = 0; i < 1500000; ++i)
        text +=
            std::to_string(i % 977) + ".5,g" + std::to_string(i % 50) + "," + std::to_string(i % 1013) + "\n";
    folder.write("rows.csv", text);
    const auto recipe = folder.write(
        "r.json",
        R"({"recipe": 1, "rows": {"file": "rows.csv"}, "response": "y", "terms": ["x", "g", {"product": ["x", "g"]}]})");
    const Ran ran = run(recipe.string() + " --threads 1 --out " + folder.file("o").string() +
                            " & pid=$!; sleep 0.4; kill -INT $pid; wait $pid",
                        folder);
    // The shell's redirection covers the last command only; its exit code is that of wait.
    EXPECT_EQ(ran.code, 3);
    EXPECT_FALSE(std::filesystem::exists(folder.file("o")));
}

TEST(Command, DealsFoldsAgainByAnOption) {
    const TemporaryFolder folder;
    const std::string recipe = demo + "/1_straight.json";
    EXPECT_EQ(run(recipe + " --deal-again 4 --out " + folder.file("out").string(), folder).code, 0);
    const auto e = nlohmann::json::parse(bytesOf(folder.file("out") / "evidence.json"));
    EXPECT_EQ(e["folds"]["repeats"].size(), 4U);
    EXPECT_EQ(e["recipe"]["judge"]["repeats"], 4);
    EXPECT_TRUE(e["folds"]["spread_over_repeats"].is_number());
    const auto none = folder.write(
        "r.json", R"({"recipe": 1, "rows": {"file": "rows.csv"}, "response": "y", "terms": ["x"]})");
    const Ran refused = run(none.string() + " --deal-again 4 --out " + folder.file("o").string(), folder);
    EXPECT_EQ(refused.code, 2);
    EXPECT_NE(refused.errors.find("no folds to deal again"), std::string::npos) << refused.errors;
}

TEST(Command, AnInterruptKeepsTheFoldsDone) {
    const TemporaryFolder folder;
    std::string text = "x,z,y\n";
    for (int i = 0; i < 6000; ++i)
        text += std::to_string((i * 7919) % 977) + "," + std::to_string((i * 31) % 1009) + "," +
                std::to_string((i * 17) % 1013) + "\n";
    folder.write("rows.csv", text);
    const auto recipe = folder.write(
        "r.json",
        R"({"recipe": 1, "rows": {"file": "rows.csv"}, "response": "y", "terms": ["x", "z"], "estimator": {"kind": "neighbours"}, "judge": {"kind": "leave one out"}})");
    const Ran ran = run(recipe.string() + " --threads 1 --out " + folder.file("o").string() +
                            " & pid=$!; sleep 1.5; kill -INT $pid; wait $pid",
                        folder);
    EXPECT_EQ(ran.code, 3);
    const auto e = nlohmann::json::parse(bytesOf(folder.file("o") / "evidence.json"));
    EXPECT_GT(e["folds"]["done"], 0);
    EXPECT_LT(e["folds"]["done"], 6000);
    EXPECT_EQ(e["folds"]["asked"], 6000);
    EXPECT_EQ(e["folds"]["rows"], e["folds"]["done"]);
}

TEST(Command, DescribesRowsAsTextAndAsJson) {
    const TemporaryFolder folder;
    folder.write("r.csv", "price,re\x1b[31mgion\n1,a\n2,b\n-5,b\n");
    EXPECT_EQ(run("--describe " + folder.file("r.csv").string(), folder).code, 0);
    const std::string text = bytesOf(folder.file("stdout.txt"));
    EXPECT_NE(text.find("price"), std::string::npos);
    EXPECT_EQ(text.find('\x1b'), std::string::npos) << "data must not steer the terminal";
    ASSERT_EQ(run("--describe " + demo + "/prepared.json --json --threads 1", folder).code, 0);
    const std::string one = bytesOf(folder.file("stdout.txt"));
    const auto ledger = nlohmann::json::parse(one);
    EXPECT_EQ(ledger["rows"], 1440);
    EXPECT_EQ(ledger["columns"][0]["name"], "depot");
    EXPECT_EQ(ledger["columns"][0]["role"], "group");
    EXPECT_EQ(ledger["steps"][1]["rows_out"], 1438);
    EXPECT_EQ(ledger["parts"].size(), 3u);
    ASSERT_EQ(run("--describe " + demo + "/prepared.json --json --threads 2", folder).code, 0);
    EXPECT_EQ(bytesOf(folder.file("stdout.txt")), one);
    EXPECT_EQ(run("--describe " + demo + "/prepared.json --out " + folder.file("o").string(), folder).code,
              2);
    EXPECT_EQ(run("--describe " + folder.file("none.csv").string(), folder).code, 2);
}

TEST(Command, SaysWhatChangedSinceAnEarlierFile) {
    const TemporaryFolder folder;
    std::string before = "site,cost,kg\n", now = "site,cost,eur\n";
    for (int i = 0; i < 200; ++i) {
        before += std::string(i % 2 ? "A," : "B,") + std::to_string(i % 17) + ".5,1\n";
        now += std::string(i % 2 ? "A," : "C,") + std::to_string(100 + i % 17) + ".5,1\n";
    }
    folder.write("before.csv", before);
    folder.write("now.csv", now + "A,103.5,2\n");
    const std::string files =
        "--describe " + folder.file("now.csv").string() + " --against " + folder.file("before.csv").string();
    ASSERT_EQ(run(files, folder).code, 0);
    const std::string text = bytesOf(folder.file("stdout.txt"));
    for (const char* word : {"kg", "eur", "new level: C", "cost"})
        EXPECT_NE(text.find(word), std::string::npos) << word << "\n" << text;
    ASSERT_EQ(run(files + " --json", folder).code, 0);
    const auto json = nlohmann::json::parse(bytesOf(folder.file("stdout.txt")));
    EXPECT_EQ(json["rows_before"], 200);
    EXPECT_EQ(json["rows_now"], 201);
    EXPECT_EQ(json["columns_gone"], nlohmann::json::array({"kg"}));
    EXPECT_EQ(json["columns_new"], nlohmann::json::array({"eur"}));
    bool moved = false;
    for (const auto& column : json["columns"])
        moved |= column["name"] == "cost" && column["p"].get<double>() < 1e-6;
    EXPECT_TRUE(moved);
    const auto missing =
        run("--describe " + folder.file("now.csv").string() + " --against /nowhere.csv", folder);
    EXPECT_EQ(missing.code, 2);
    EXPECT_NE(missing.errors.find("nowhere.csv"), std::string::npos);
}

TEST(Command, OutputThatCannotBeWrittenIsAnError) {
    const int status = std::system(
        (std::string(OXGOAD_RUN) + " --describe " + demo + "/plan.csv >/dev/full 2>/dev/null").c_str());
    EXPECT_EQ(WEXITSTATUS(status), 2);
}

TEST(Command, ARunOverAnOlderOneLeavesNothingStale) {
    const TemporaryFolder folder;
    const std::string out = " --out " + folder.file("out").string();
    ASSERT_EQ(run(demo + "/3_rate_by_contract.json" + out + " --what-helps", folder).code, 0);
    EXPECT_TRUE(std::filesystem::exists(folder.file("out") / "forecast.csv"));
    EXPECT_TRUE(std::filesystem::exists(folder.file("out") / "what_helps.json"));
    std::ofstream(folder.file("out") / "notes.txt") << "mine";
    const TemporaryFolder other;
    other.write("r.json", R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": []})");
    other.write("a.csv", "y,x\n1,2\n2,3\n4,4\n");
    ASSERT_EQ(run(other.file("r.json").string() + out, folder).code, 0);
    EXPECT_FALSE(std::filesystem::exists(folder.file("out") / "forecast.csv")) << "of the run before";
    EXPECT_FALSE(std::filesystem::exists(folder.file("out") / "what_helps.json"));
    EXPECT_TRUE(std::filesystem::exists(folder.file("out") / "notes.txt")) << "what is not ours stays";
}

TEST(Command, DescribesAWideFileGatheredByItsRecipe) {
    const TemporaryFolder folder;
    folder.write("wide.csv", "country,1960,1961,1962\nArvia,1.5,2.5,3\nBelmor,4,5,6\n");
    folder.write("r.json",
                 R"({"recipe": 1, "rows": {"file": "wide.csv", "gather": {"from": "1960", "to": "1962",
        "names": "year", "values": "rate"}}, "response": "rate", "terms": ["year"]})");
    ASSERT_EQ(run("--describe " + folder.file("r.json").string(), folder).code, 0);
    const std::string text = bytesOf(folder.file("stdout.txt"));
    EXPECT_NE(text.find("6 rows, 3 columns"), std::string::npos) << text;
    EXPECT_NE(text.find("1960"), std::string::npos) << "years are not grouped";
    EXPECT_EQ(text.find("1,960"), std::string::npos) << text;
    ASSERT_EQ(run(folder.file("r.json").string() + " --out " + folder.file("out").string(), folder).code, 0);
    EXPECT_EQ(
        nlohmann::json::parse(bytesOf(folder.file("out") / "evidence.json"))["fit"]["coefficients"].size(),
        2u);
}

TEST(Command, DataTextCannotSteerATerminalNorAProgramThatReadsTheExports) {
    const TemporaryFolder folder;
    std::string text = "y,g\n";
    for (int i = 0; i < 20; ++i)
        text += std::to_string(i % 7) + (i % 2 ? ",a\x1b[31m\n" : ",b\n");
    folder.write("a.csv", text);
    folder.write("r.json", R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": ["g"]})");
    ASSERT_EQ(run(folder.file("r.json").string() + " --out " + folder.file("out").string(), folder).code, 0);
    for (const char* file : {"coefficients.csv", "rows.csv"})
        EXPECT_EQ(bytesOf(folder.file("out") / file).find('\x1b'), std::string::npos) << file;
    folder.write(
        "bad.json",
        "{\"recipe\": 1, \"rows\": {\"file\": \"a.csv\"}, \"response\": \"\\u001b[31m\", \"terms\": []}");
    const auto refused =
        run(folder.file("bad.json").string() + " --out " + folder.file("o2").string(), folder);
    EXPECT_EQ(refused.code, 2);
    EXPECT_EQ(refused.errors.find('\x1b'), std::string::npos);
}

TEST(Command, ScoresTestRowsOnlyWhenTold) {
    const TemporaryFolder folder;
    const std::string to = " --out " + folder.file("out").string();
    ASSERT_EQ(run(demo + "/prepared.json" + to, folder).code, 0);
    EXPECT_FALSE(
        nlohmann::json::parse(bytesOf(folder.file("out") / "evidence.json"))["scores"].contains("test"));
    ASSERT_EQ(run(demo + "/prepared.json --look-at-test" + to, folder).code, 0);
    const auto evidence = nlohmann::json::parse(bytesOf(folder.file("out") / "evidence.json"));
    EXPECT_EQ(evidence["scores"]["test"]["rows"], 160);
    EXPECT_EQ(evidence["steps"][2]["learned"][0]["what"], "median");
}

TEST(Command, LooksAtRowsAndWritesRankingAndPairs) {
    const TemporaryFolder folder;
    const std::string out = folder.file("look").string();
    ASSERT_EQ(run("--look " + demo + "/1_straight.json --out " + out, folder).code, 0);
    const auto look = nlohmann::json::parse(bytesOf(folder.file("look") / "look.json"));
    EXPECT_EQ(look["ranking"][0]["column"], "depot");
    EXPECT_EQ(look["ranking"].size(), 17u);
    EXPECT_EQ(look["pairs"].size(), 136u);
    EXPECT_EQ(look["learning_rows"], 1008);
    EXPECT_TRUE(bytesOf(folder.file("look") / "ranking.csv")
                    .starts_with("column,kind,rows,missing_share,straight_r2,"));
    EXPECT_TRUE(
        bytesOf(folder.file("look") / "pairs.csv").starts_with("column_a,column_b,measure,value,rows,"));
    // The same for any number of threads, and printed without a folder.
    ASSERT_EQ(run("--look " + demo + "/1_straight.json --threads 3", folder).code, 0);
    EXPECT_EQ(bytesOf(folder.file("stdout.txt")), bytesOf(folder.file("look") / "look.json"));
    ASSERT_EQ(run("--look " + demo + "/depot_months.csv --response revenue --threads 1", folder).code, 0);
    EXPECT_EQ(run("--look " + demo + "/depot_months.csv", folder).code, 2);
    EXPECT_NE(run("--look " + demo + "/depot_months.csv --response region", folder).errors.find("no number"),
              std::string::npos);
    EXPECT_EQ(run("--look " + demo + "/1_straight.json --against residual", folder).code, 0);
    EXPECT_EQ(run("--look " + demo + "/1_straight.json --against nothing", folder).code, 2);
}

TEST(Command, ReadsAloudChoosesTermsAndCompares) {
    const TemporaryFolder folder;
    const std::string out = folder.file("o").string();
    ASSERT_EQ(
        run(demo +
                "/3_rate_by_contract.json --read-aloud --choose \"both ways\" --by BIC --steps 6 --folds 4 "
                "--compare-with " +
                demo + "/2_season.json --out " + out,
            folder)
            .code,
        0);
    const std::string said = bytesOf(folder.file("o") / "reading.txt");
    EXPECT_TRUE(said.starts_with("revenue = "));
    EXPECT_NE(said.find("\nFor each level of contract:\n  anchor: revenue = "), std::string::npos);
    EXPECT_NE(said.find("\nFor contract = annual each extra EUR of list_rate goes with "), std::string::npos);
    EXPECT_TRUE(bytesOf(folder.file("o") / "effects.csv")
                    .starts_with("column,by,line,at,level,mean,lower,upper\nplaces,,,"));
    EXPECT_NE(bytesOf(folder.file("o") / "marginal_effects.csv").find("\ncontract,annual,"),
              std::string::npos);
    EXPECT_TRUE(
        bytesOf(folder.file("o") / "comparison.txt")
            .starts_with(
                "list_rate × contract explains more than chance would (the first fit against the second "
                "fit): F "));
    const auto choice = nlohmann::json::parse(bytesOf(folder.file("o") / "choice.json"));
    EXPECT_EQ(choice["how"], "both ways by BIC, at most 6 steps");
    EXPECT_EQ(choice["steps"].size(), 6u);
    EXPECT_GE(choice["honest_error"], choice["seen_error"]);
    const Recipe chosen = readRecipe(folder.file("o") / "chosen_recipe.json");
    EXPECT_EQ(chosen.terms[0].parts[0].column, "places");
    ASSERT_TRUE(chosen.chosen.has_value());
    for (const char* wrong : {"--choose sideways", "--choose forward --by luck", "--choose forward --folds 0",
                              "--choose forward --by p --enter 2", "--read-aloud"}) {
        const std::string to =
            std::string(wrong) == "--read-aloud" ? " --project " + out + "p" : " --out " + out + "2";
        EXPECT_EQ(run(demo + "/2_season.json " + wrong + to, folder).code, 2) << wrong;
    }
}

TEST(Command, AProjectSaysWhatItsFitsSaidWithoutFitting) {
    const TemporaryFolder folder;
    const std::string project = demo + "/cold_storage.oxgoad";
    for (const auto& [fit, recipe] :
         {std::pair{3, "3_rate_by_contract.json"}, std::pair{4, "4_two_rows_left_out.json"}}) {
        const std::string out = folder.file("project" + std::to_string(fit)).string();
        ASSERT_EQ(
            run("--project-evidence " + project + " --fit " + std::to_string(fit) + " --out " + out, folder)
                .code,
            0);
        ASSERT_EQ(run(demo + "/" + recipe + " --out " + folder.file("out").string(), folder).code, 0);
        for (const auto* name : {"evidence.json", "coefficients.csv", "rows.csv", "forecast.csv"})
            EXPECT_EQ(bytesOf(std::filesystem::path(out) / name), bytesOf(folder.file("out") / name))
                << fit << " " << name;
    }
    // Without a number it is the fit shown, the last one.
    ASSERT_EQ(run("--project-evidence " + project + " --out " + folder.file("shown").string(), folder).code,
              0);
    EXPECT_EQ(bytesOf(folder.file("shown") / "rows.csv"), bytesOf(folder.file("project4") / "rows.csv"));
    // Other rows by the model that it keeps, without a fit: here the same ones.
    ASSERT_EQ(run("--project " + project + " --forecast " + demo + "/plan.csv --out " +
                      folder.file("other").string(),
                  folder)
                  .code,
              0);
    EXPECT_EQ(bytesOf(folder.file("other") / "forecast.csv"),
              bytesOf(folder.file("project4") / "forecast.csv"));
    EXPECT_TRUE(std::filesystem::exists(folder.file("other") / "clearance.json"));
    EXPECT_EQ(run("--forecast " + demo + "/plan.csv --out " + folder.file("none").string(), folder).code, 2);
    const Ran none =
        run("--project-evidence " + project + " --fit 9 --out " + folder.file("none").string(), folder);
    EXPECT_EQ(none.code, 2);
    EXPECT_NE(none.errors.find("the project has no fit 9"), std::string::npos) << none.errors;
    EXPECT_FALSE(std::filesystem::exists(folder.file("none")));
    EXPECT_EQ(
        run("--project-evidence " + demo + "/plan.csv --out " + folder.file("none").string(), folder).code,
        2);
    EXPECT_EQ(run("--project-evidence " + project, folder).code, 2) << "says where to";
    EXPECT_EQ(run("--project-evidence " + project + " --choose forward --out " + folder.file("none").string(),
                  folder)
                  .code,
              2);
    EXPECT_EQ(run(demo + "/1_straight.json --fit 2 --out " + folder.file("none").string(), folder).code, 2);
}

TEST(Command, FitsNearestNeighboursAndReadsThemAloud) {
    const TemporaryFolder folder;
    auto recipe = nlohmann::json::parse(bytesOf(demo + "/1_straight.json"));
    recipe["estimator"] = {{"kind", "neighbours"}, {"count", 5}};
    recipe["rows"]["file"] = demo + "/depot_months.csv";
    recipe["forecast"]["file"] = demo + "/plan.csv";
    const auto path = folder.write("neighbours.json", recipe.dump());
    ASSERT_EQ(run(path.string() + " --out " + folder.file("out").string() + " --read-aloud --compare-with " +
                      path.string(),
                  folder)
                  .code,
              0);
    const auto e = nlohmann::json::parse(bytesOf(folder.file("out") / "evidence.json"));
    EXPECT_EQ(e["fit"]["estimator"], "5 nearest neighbours");
    EXPECT_TRUE(e["fit"]["coefficients"].empty());
    EXPECT_EQ(e["fit"]["inputs"].size(), recipe["terms"].size());
    EXPECT_TRUE(e["scores"]["left_one_out"]["rmse"].is_number());
    EXPECT_EQ(e["forecast"]["intervals"], "by rows left out one at a time");
    EXPECT_EQ(e["recipe"]["estimator"]["weights"], "equal");
    EXPECT_NE(bytesOf(folder.file("out") / "reading.txt").find("by 5 nearest neighbours in"),
              std::string::npos);
    EXPECT_EQ(bytesOf(folder.file("out") / "coefficients.csv"),
              "name,estimate,standard_error,t,p,lower,upper\n");
    EXPECT_NE(bytesOf(folder.file("out") / "comparison.txt").find("both are fitted by 5 nearest neighbours"),
              std::string::npos);
}

TEST(Command, OpenGoadsAreExitCodeFourAfterEverythingIsWritten) {
    const TemporaryFolder folder;
    const std::string recipe = demo + "/1_straight.json";
    const std::string out = " --quiet --out " + folder.file("out").string();
    const Ran any = run(recipe + out + " --fail-on-open-goads --influence --moves", folder);
    EXPECT_EQ(any.code, 4);
    for (const auto* name : {"evidence.json", "coefficients.csv", "rows.csv", "forecast.csv", "summary.txt",
                             "influence.csv", "moves.json"})
        EXPECT_TRUE(std::filesystem::exists(folder.file("out") / name)) << name;
    const auto e = nlohmann::json::parse(bytesOf(folder.file("out") / "evidence.json"));
    std::size_t alarms = 0;
    for (const auto& goad : e["goads"]) {
        EXPECT_NE(any.errors.find(goad["goad"].get<std::string>()), std::string::npos) << goad["goad"];
        alarms += goad["severity"] == "alarm";
        EXPECT_TRUE(goad["why"]["what"].is_string());
    }
    EXPECT_NE(any.errors.find(std::to_string(e["goads"].size()) + " goads are open."), std::string::npos);
    ASSERT_GT(alarms, 0U);
    ASSERT_LT(alarms, e["goads"].size());
    const Ran grave = run(recipe + out + " --fail-on-open-goads=alarm", folder);
    EXPECT_EQ(grave.code, 4);
    EXPECT_EQ(grave.errors.find("caution: "), std::string::npos);
    EXPECT_NE(grave.errors.find("\n" + std::to_string(alarms) + " goads are open."), std::string::npos);
    EXPECT_FALSE(std::filesystem::exists(folder.file("out") / "influence.csv")) << "of the run before";
    // All accepted, none open.
    auto accepted = nlohmann::json::parse(bytesOf(recipe));
    accepted["rows"]["file"] = demo + "/depot_months.csv";
    accepted["forecast"]["file"] = demo + "/plan.csv";
    for (const auto& goad : e["goads"]) {
        accepted["accepted"].push_back({{"goad", goad["goad"]}, {"reason", "known"}});
        if (goad.contains("also"))
            for (const auto& other : goad["also"])
                accepted["accepted"].push_back({{"goad", other["goad"]}, {"reason", "known"}});
    }
    const auto file = folder.write("accepted.json", accepted.dump());
    EXPECT_EQ(run(file.string() + out + " --fail-on-open-goads", folder).code, 0);
    // Moves were worked out as fits are.
    run(recipe + out + " --moves", folder);
    const auto moves = nlohmann::json::parse(bytesOf(folder.file("out") / "moves.json"));
    bool pair = false;
    for (const auto& move : moves)
        if (move["move"] == "add the pair") {
            pair = true;
            EXPECT_LT(move["after"].get<double>(), move["before"].get<double>());
        }
    EXPECT_TRUE(pair);
    EXPECT_EQ(run(recipe + " --influence --project " + folder.file("p.oxgoad").string(), folder).code, 2);
}

TEST(Command, WhatHalvesFoldsAndFewerRowsSayIsWrittenWhenAskedFor) {
    const TemporaryFolder folder;
    nlohmann::json recipe = nlohmann::json::parse(bytesOf(demo + "/1_straight.json"));
    recipe["rows"]["file"] = demo + "/depot_months.csv";
    recipe.erase("forecast");
    recipe["estimator"] = {{"kind", "penalised"}, {"penalty", {{"tuned", {{"rule", "one standard error"}}}}}};
    folder.write("lasso.json", recipe.dump());
    const std::string out = " --out " + folder.file("o").string();
    ASSERT_EQ(
        run(folder.file("lasso.json").string() + out + " --halves 10 --path-folds --learning-curve", folder)
            .code,
        0);
    const auto text = [&](const char* name) { return bytesOf(folder.file("o") / name); };
    EXPECT_TRUE(text("path.csv").starts_with("penalty,l1_share,mean_of_fold_mse,standard_error,kept,"));
    EXPECT_TRUE(
        text("path_folds.csv").starts_with("penalty,l1_share,learning_mse,relaxed_mean_of_fold_mse,"));
    EXPECT_TRUE(text("halves.csv").starts_with("term,columns,share_of_halves,stable,p_after_selection\n"));
    EXPECT_NE(text("halves.csv").find("\nplaces,1,1,yes,"), std::string::npos) << text("halves.csv");
    EXPECT_NE(text("halves.txt").find("of halves or more"), std::string::npos);
    EXPECT_TRUE(text("learning_curve.csv").starts_with("rows,learning_rmse,unseen_rmse,standard_error,"));
    EXPECT_NE(text("learning_curve.txt").find("error of unseen rows"), std::string::npos);
    // Not without being asked for, and not of a model that holds nothing back.
    ASSERT_EQ(run(folder.file("lasso.json").string() + " --out " + folder.file("p").string(), folder).code,
              0);
    EXPECT_TRUE(std::filesystem::exists(folder.file("p") / "path.csv"));
    for (const char* name : {"path_folds.csv", "halves.csv", "learning_curve.csv"})
        EXPECT_FALSE(std::filesystem::exists(folder.file("p") / name)) << name;
    for (const char* option : {"--halves 10", "--path-folds"}) {
        const Ran ran =
            run(demo + "/1_straight.json --out " + folder.file("q").string() + " " + option, folder);
        EXPECT_EQ(ran.code, 2);
        EXPECT_NE(ran.errors.find("the recipe has no penalty"), std::string::npos) << ran.errors;
        EXPECT_FALSE(std::filesystem::exists(folder.file("q") / "evidence.json")) << "nothing half written";
    }
    EXPECT_EQ(run(demo + "/1_straight.json --learning-curve", folder).code, 2);
    EXPECT_EQ(run(folder.file("lasso.json").string() + out + " --halves none", folder).code, 2);
    EXPECT_NE(run(demo + "/1_straight.json --halves 10", folder).errors.find("--out"), std::string::npos);
}

TEST(Command, SeveralFitsAreComparedInEveryWay) {
    const TemporaryFolder folder;
    ASSERT_EQ(run(demo + "/2_season.json --out " + folder.file("o").string() + " --compare-with " + demo +
                      "/1_straight.json --compare-with " + demo + "/3_rate_by_contract.json",
                  folder)
                  .code,
              0);
    const auto found = nlohmann::json::parse(bytesOf(folder.file("o") / "comparison.json"));
    ASSERT_EQ(found["fits"].size(), 3U);
    for (const auto& fit : found["fits"]) {
        std::vector<std::string> parts;
        for (const auto& part : fit["scores"]) {
            parts.push_back(part["part"]);
            for (const char* key : {"rows", "rmse", "mae", "median_absolute_error", "r_squared",
                                    "relative_absolute_error", "relative_squared_error"})
                EXPECT_TRUE(part[key].is_number()) << key;
            EXPECT_LE(part["median_absolute_error"], part["rmse"]);
        }
        EXPECT_EQ(parts, (std::vector<std::string>{"learning", "held out", "out of fold"}));
        const auto& money = fit["absolute_error_on_forecast"];
        EXPECT_EQ(money["over"], "504 rows in 12 periods");
        EXPECT_NEAR(money["sum"].get<double>(), 504 * fit["out_of_fold"]["mae"].get<double>(), 1);
        EXPECT_NEAR(money["a_year"].get<double>() / money["sum"].get<double>(), 1, 0.02) << "twelve months";
    }
    EXPECT_EQ(found["pairs"].size(), 9U);
    EXPECT_EQ(found["coefficients"][0]["name"], "places");
    EXPECT_EQ(found["coefficients"][0]["per_deviation"].size(), 3U);
    EXPECT_EQ(found["differ_most"].size(), 20U);
    EXPECT_GE(found["differ_most"][0]["spread"], found["differ_most"][19]["spread"]);
}

} // namespace command_test
