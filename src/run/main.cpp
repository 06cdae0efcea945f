// The headless command: recipe in, evidence out.
#include "base/error.h"
#include "base/text.h"
#include "share/exports.h"
#include "share/ledger_text.h"
#include "share/look_text.h"
#include "share/reading_text.h"
#include "study/choose_terms.h"
#include "study/evaluate.h"
#include "study/project.h"
#include "study/say.h"
#include "study/what_helps.h"

#include <atomic>
#include <charconv>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <iostream>
#include <mutex>
#include <string>
#include <unistd.h>
#include <vector>

namespace fs = std::filesystem;
using namespace oxgoad;

namespace {

constexpr int exitBadInput = 2;
constexpr int exitStopped = 3;

constexpr const char* help = R"(oxgoad-run: fits the model a recipe describes and writes the evidence.

  oxgoad-run RECIPE.json --out DIR [--threads N] [--quiet]
  oxgoad-run RECIPE.json [MORE.json ...] --project FILE.oxgoad
  oxgoad-run --look FILE [--response NAME] [--against WHAT] [--out DIR]
  oxgoad-run --describe NEW --against OLD [--json]
  oxgoad-run --describe FILE [--json] [--sheet S] [--range B3:F200] [--query SQL]

  --out DIR        write evidence.json, coefficients.csv, rows.csv and, when the
                   recipe asks for a forecast, forecast.csv into DIR
  --project FILE   evaluate the recipes one after the other, each coming from the
                   one before it, and save them as a project for the window; all
                   must use the same rows
  --describe FILE  print the ledger: what every column holds and what is odd about
                   it. FILE is a text file, a workbook, an SQLite file (with
                   --query), or a recipe, whose steps run first
  --json           print it as JSON
  --look FILE      rank all columns by what they explain of the response alone, and
                   compare them with each other, over the learning rows. FILE as
                   above; prints JSON, or writes look.json, ranking.csv and pairs.csv
                   into DIR with --out
  --response NAME  the response, when FILE is no recipe
  --against OLD    with --describe: print what changed since an earlier file
  --against WHAT   with --look: response, or predicted or residual of the recipe's fit
  --what-helps     with --out, also measure every column, bend and pair that is not in
                   the model: what_helps.json
  --read-aloud     with --out, also the equation in words and by level, effects with
                   bands and average marginal effects: reading.txt, effects.csv,
                   marginal_effects.csv
  --choose WAY     with --out, also choose terms among those of the recipe and the other
                   columns: forward, backward, "both ways" or "best subsets"; writes
                   choice.json and chosen_recipe.json
  --by CRITERION   of the choice: "cross-validated error" (default), "adjusted R2",
                   AICc, BIC or p
  --steps N        of the choice, at most N
  --enter P, --leave P
                   of a choice by p: a term comes in below, goes out above
                   (0.05 and 0.1)
  --folds N        of the choice, 5 by default
  --compare-with RECIPE
                   with --out, also fit this recipe and say how the two compare:
                   comparison.txt
  --look-at-test   score the locked test rows too; in a project the look is counted
  --threads N      use N threads (results do not depend on it); all cores by default
  --quiet          no progress on standard error
  --version        print the version
  --help           print this

Exit code: 0 done, 2 bad input (one sentence on standard error, nothing half
written), 3 stopped by an interrupt. The recipe's form is in docs/recipe.md. The
password of a server is read from the environment variable OXGOAD_PASSWORD.
)";

volatile std::sig_atomic_t interrupted = 0;

void interrupt(int) {
    interrupted = 1;
}

/// One line on a terminal, rewritten; nothing when standard error is a file.
class TerminalProgress final : public Progress {
public:
    explicit TerminalProgress(bool shown) : m_shown(shown && ::isatty(STDERR_FILENO)) {}
    ~TerminalProgress() override { clear(); }
    bool stopRequested() const override { return interrupted != 0; }
    void report(double share, std::string_view message) override {
        if (!m_shown) return;
        const std::lock_guard lock(m_guard);
        const auto now = std::chrono::steady_clock::now();
        if (now - m_last < std::chrono::milliseconds(100)) return;
        m_last = now;
        const double elapsed = std::chrono::duration<double>(now - m_start).count();
        std::string left;
        if (share > 0.02 && elapsed > 1)
            left = ", about " + readableText(elapsed * (1 - share) / share, 2) + " s left";
        std::cerr << "\r\033[K" << static_cast<int>(100 * share) << " %  " << message << left << std::flush;
    }
    void clear() {
        if (m_shown) std::cerr << "\r\033[K" << std::flush;
    }

private:
    bool m_shown;
    std::mutex m_guard;
    std::chrono::steady_clock::time_point m_start = std::chrono::steady_clock::now();
    std::chrono::steady_clock::time_point m_last{};
};

struct Arguments {
    std::vector<std::string> recipes;
    std::string out;
    std::string project;
    /// What to describe, and how it is read.
    std::string describe;
    /// What to look at.
    std::string look;
    std::string response;
    Against against = Against::response;
    /// With --describe: the earlier file.
    std::string describeAgainst;
    RowsSource source;
    bool json = false;
    bool lookAtTest = false;
    bool whatHelps = false;
    bool readAloud = false;
    std::optional<ChooseRequest> choose;
    std::string compareWith;
    Threads threads;
    bool quiet = false;
};

[[noreturn]] void usage(const std::string& what) {
    throw Error(ErrorCode::badRecipe, what, {}, "See oxgoad-run --help.");
}

int number(const std::string& option, const std::string& value) {
    if (value.empty() || value.size() > 4 || value.find_first_not_of("0123456789") != std::string::npos ||
        std::stoi(value) < 1)
        usage(option + " needs a number from 1 to 9999, not \"" + value + "\"");
    return std::stoi(value);
}

double share(const std::string& option, const std::string& value) {
    double number = 0;
    const auto read = std::from_chars(value.data(), value.data() + value.size(), number);
    if (read.ec != std::errc() || read.ptr != value.data() + value.size() || !(number > 0 && number < 1))
        usage(option + " needs a number above 0 and below 1, not \"" + value + "\"");
    return number;
}

Arguments parse(int argc, char** argv) {
    Arguments arguments;
    ChooseRequest request;
    std::optional<std::string> against;
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        auto next = [&] {
            if (i + 1 >= argc) usage(word + " needs a value");
            return std::string(argv[++i]);
        };
        if (word == "--out")
            arguments.out = next();
        else if (word == "--project")
            arguments.project = next();
        else if (word == "--describe")
            arguments.describe = next();
        else if (word == "--look")
            arguments.look = next();
        else if (word == "--response")
            arguments.response = next();
        else if (word == "--against")
            against = next();
        else if (word == "--sheet")
            arguments.source.sheet = next();
        else if (word == "--range")
            arguments.source.range = next();
        else if (word == "--query")
            arguments.source.query = next();
        else if (word == "--json")
            arguments.json = true;
        else if (word == "--what-helps")
            arguments.whatHelps = true;
        else if (word == "--read-aloud")
            arguments.readAloud = true;
        else if (word == "--compare-with")
            arguments.compareWith = next();
        else if (word == "--choose") {
            const std::string value = next();
            const auto by = chooseByNamed(value);
            if (!by)
                usage("--choose needs forward, backward, both ways or best subsets, not \"" + value + "\"");
            request.by = *by;
            arguments.choose = request;
        } else if (word == "--by") {
            const std::string value = next();
            const auto criterion = criterionNamed(value);
            if (!criterion)
                usage("--by needs cross-validated error, adjusted R2, AICc, BIC or p, not \"" + value + "\"");
            request.criterion = *criterion;
        } else if (word == "--enter")
            request.enter = share(word, next());
        else if (word == "--leave")
            request.leave = share(word, next());
        else if (word == "--steps")
            request.mostSteps = number(word, next());
        else if (word == "--folds")
            request.folds = number(word, next());
        else if (word == "--look-at-test")
            arguments.lookAtTest = true;
        else if (word == "--quiet")
            arguments.quiet = true;
        else if (word == "--threads") {
            arguments.threads.count = static_cast<unsigned>(number(word, next()));
        } else if (word.starts_with("-"))
            usage("there is no option " + word);
        else
            arguments.recipes.push_back(word);
    }
    if (!arguments.describe.empty()) {
        if (!arguments.recipes.empty() || !arguments.out.empty() || !arguments.project.empty())
            usage("--describe takes one file and writes nothing");
        arguments.describeAgainst = against.value_or("");
        return arguments;
    }
    if (against) {
        const auto named = againstNamed(*against);
        if (!named) usage("--against needs response, predicted or residual, not \"" + *against + "\"");
        arguments.against = *named;
    }
    if (!arguments.look.empty()) {
        if (!arguments.recipes.empty() || !arguments.project.empty())
            usage("--look takes one file and no project");
        return arguments;
    }
    if (!arguments.response.empty()) usage("--response goes with --look");
    if (arguments.choose) arguments.choose = request;
    if (arguments.out.empty() &&
        (arguments.whatHelps || arguments.readAloud || arguments.choose || !arguments.compareWith.empty()))
        usage("--what-helps, --read-aloud, --choose and --compare-with go with --out");
    if (arguments.recipes.empty()) usage("name a recipe");
    if (arguments.out.empty() == arguments.project.empty()) usage("say either --out DIR or --project FILE");
    if (!arguments.out.empty() && arguments.recipes.size() != 1) usage("--out takes one recipe");
    return arguments;
}

fs::path folderOf(const fs::path& file) {
    return file.has_parent_path() ? file.parent_path() : fs::path(".");
}

std::string passwordOf(const ServerPlace&) {
    const char* password = std::getenv("OXGOAD_PASSWORD");
    return password ? password : "";
}

/// The recipe of a file: itself, or a new one whose rows are the file's.
Recipe recipeOfFile(const fs::path& path, const Arguments& arguments) {
    Recipe recipe;
    if (path.extension() == ".json") {
        recipe = readRecipe(path);
        recipe.forecast.reset();
    } else {
        static_cast<RowsSource&>(recipe.rows) = arguments.source;
        recipe.rows.file = path.filename().string();
        recipe.rows.kind = arguments.source.query.empty() ? kindOfFile(path) : SourceKind::sqlite;
    }
    return recipe;
}

/// Standard output that could not be written is an error, not a silence.
void print(const std::string& text) {
    std::cout << text << std::flush;
    if (!std::cout)
        throw Error(ErrorCode::cannotWrite, "the output cannot be written", {.file = "standard output"},
                    "Look whether the disk is full.");
}

void lookAtRows(const Arguments& arguments, TerminalProgress& progress) {
    const fs::path path = arguments.look;
    Recipe recipe = recipeOfFile(path, arguments);
    if (!arguments.response.empty()) recipe.response = arguments.response;
    if (recipe.response.empty()) usage("--look needs --response when the file is no recipe");
    ProgressStage reading(progress, 0, 0.5);
    const StudyRows rows = loadRows(recipe, folderOf(path), arguments.threads, reading, passwordOf);
    ProgressStage preparing(progress, 0.5, 0.7);
    const auto prepared = prepareRows(recipe, rows, arguments.threads, preparing);
    std::optional<Evidence> evidence;
    if (arguments.against != Against::response)
        evidence = evaluate(recipe, rows, *prepared, {.threads = arguments.threads}, preparing);
    ProgressStage looking(progress, 0.7, 1);
    const LookReport report = lookReport(recipe, *prepared, evidence ? &*evidence : nullptr,
                                         arguments.against, arguments.threads, looking);
    progress.clear();
    if (arguments.out.empty())
        print(lookJson(report));
    else
        writeLook(arguments.out, report);
}

void describeRows(const Arguments& arguments, TerminalProgress& progress) {
    const fs::path path = arguments.describe;
    const Recipe recipe = recipeOfFile(path, arguments);
    ProgressStage reading(progress, 0, 0.6);
    const StudyRows rows = loadRows(recipe, folderOf(path), arguments.threads, reading, passwordOf);
    if (!arguments.describeAgainst.empty()) {
        const fs::path before = arguments.describeAgainst;
        const Recipe earlier = recipeOfFile(before, arguments);
        ProgressStage again(progress, 0.6, 0.9);
        const StudyRows old = loadRows(earlier, folderOf(before), arguments.threads, again, passwordOf);
        ProgressStage comparing(progress, 0.9, 1);
        const Drift drift = compareReadings(old.learning.table, rows.learning.table, comparing);
        progress.clear();
        print(arguments.json ? driftJson(drift) : driftText(drift));
        return;
    }
    ProgressStage preparing(progress, 0.6, 1);
    const auto prepared = prepareRows(recipe, rows, arguments.threads, preparing);
    progress.clear();
    print(arguments.json ? ledgerJson(recipe, rows, *prepared) : ledgerText(recipe, rows, *prepared));
}

void runToFolder(const Arguments& arguments, Progress& progress) {
    const fs::path path = arguments.recipes[0];
    const Recipe recipe = readRecipe(path);
    ProgressStage reading(progress, 0, 0.5);
    const StudyRows rows = loadRows(recipe, folderOf(path), arguments.threads, reading, passwordOf);
    ProgressStage fitting(progress, 0.5, 0.95);
    const auto prepared = prepareRows(recipe, rows, arguments.threads, fitting);
    const Evidence evidence = evaluate(
        recipe, rows, *prepared, {.threads = arguments.threads, .lookAtTest = arguments.lookAtTest}, fitting);
    // Everything is worked out before anything is written: a stop leaves the folder as it was.
    NamedFiles more;
    if (arguments.whatHelps)
        more.emplace_back("what_helps.json",
                          helpsJson(whatHelps(recipe, *prepared, arguments.threads, progress), recipe));
    if (arguments.readAloud)
        for (auto& file : readingFiles(recipe, evidence, prepared->table, arguments.threads, progress))
            more.push_back(std::move(file));
    if (arguments.choose) {
        const Choice choice = chooseTerms(recipe, *prepared, *arguments.choose, arguments.threads, progress);
        more.emplace_back("choice.json", choiceJson(choice));
        more.emplace_back("chosen_recipe.json", recipeText(withChoice(recipe, choice)));
    }
    if (!arguments.compareWith.empty()) {
        const Recipe other = readRecipe(arguments.compareWith);
        if (other.rows != recipe.rows)
            throw Error(ErrorCode::badRecipe, "the recipe uses other rows", {.file = arguments.compareWith},
                        "Compare recipes of the same rows.");
        const auto otherRows = prepareRows(other, rows, arguments.threads, progress);
        Recipe fitted = other;
        fitted.forecast.reset();
        const Evidence second = evaluate(fitted, rows, *otherRows, {.threads = arguments.threads}, progress);
        more.emplace_back("comparison.txt", comparisonSentence({evidence, recipe, "the first fit"},
                                                               {second, other, "the second fit"}) +
                                                "\n");
    }
    progress.checkpoint(0.95, "Writing");
    writeEvidence(arguments.out, recipe, evidence, rows, more);
}

void runToProject(const Arguments& arguments, Progress& progress) {
    Project project;
    project.folder = fs::absolute(folderOf(arguments.recipes[0])).lexically_normal().string();
    std::optional<RowsPlan> source;
    for (const std::string& name : arguments.recipes) {
        const Recipe recipe = readRecipe(name);
        if (source && recipe.rows != *source)
            throw Error(ErrorCode::badRecipe, "the recipe uses other rows than the first one", {.file = name},
                        "Put it into a project of its own.");
        if (!source)
            project.rows = loadRows(recipe, project.folder, arguments.threads, progress, passwordOf);
        else if (recipe.forecast && (!project.rows.forecast || recipe.forecast != project.recipe.forecast))
            project.rows.forecast = loadForecastRows(recipe, project.rows.learning.table, project.folder,
                                                     arguments.threads, progress, passwordOf);
        source = recipe.rows;
        const auto prepared = prepareRows(recipe, project.rows, arguments.threads, progress);
        const Evidence evidence =
            evaluate(recipe, project.rows, *prepared,
                     {.threads = arguments.threads, .lookAtTest = arguments.lookAtTest}, progress);
        project.current = project.trail.add(recipe, evidence, project.current);
        if (evidence.test) project.trail.lookAtTest(project.current);
        project.recipe = recipe;
    }
    saveProject(arguments.project, project, progress);
}

} // namespace

int main(int argc, char** argv) {
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (word == "--help") {
            std::cout << help;
            return 0;
        }
        if (word == "--version") {
            std::cout << "oxgoad-run " OXGOAD_VERSION "\n";
            return 0;
        }
    }
    std::signal(SIGINT, interrupt);
    std::signal(SIGTERM, interrupt);
    std::signal(SIGXFSZ, SIG_IGN); // a limit on the size of files is an error like a full disk
    try {
        const Arguments arguments = parse(argc, argv);
        TerminalProgress progress(!arguments.quiet);
        if (!arguments.describe.empty())
            describeRows(arguments, progress);
        else if (!arguments.look.empty())
            lookAtRows(arguments, progress);
        else if (arguments.project.empty())
            runToFolder(arguments, progress);
        else
            runToProject(arguments, progress);
        return 0;
    } catch (const Stopped&) {
        std::cerr << "Stopped; nothing was written.\n";
        return exitStopped;
    } catch (const std::bad_alloc&) {
        std::cerr << "There is not enough memory for these rows.\n";
        return exitBadInput;
    } catch (const std::exception& error) {
        for (const char c : std::string(error.what())) // line by line: a message may have several
            std::cerr << (c == '\n' ? std::string("\n") : harmless({&c, 1}));
        std::cerr << "\n";
        return exitBadInput;
    }
}
