#include "run/arguments.h"

#include "base/text.h"

#include <algorithm>
#include <charconv>
#include <functional>

namespace oxgoad {

void usage(const std::string& what, const std::string& remedy) {
    throw Error(ErrorCode::badRecipe, what, {}, remedy.empty() ? "See oxgoad-run --help." : remedy);
}

namespace {

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

/// Words parted by commas.
std::vector<std::string> listOf(const std::string& text) {
    std::vector<std::string> words;
    for (std::size_t at = 0; at <= text.size();) {
        const std::size_t end = std::min(text.find(',', at), text.size());
        if (end > at) words.push_back(text.substr(at, end - at));
        at = end + 1;
    }
    return words;
}

/// What is being parsed, with what only the end can judge.
struct Parsed {
    Arguments arguments;
    ChooseRequest request;
    std::optional<std::string> against;
};

/// One option: what --help and the manual page say of it, and what it does.
struct Option {
    const char* name;
    /// What its value is called; "" without one. One that begins with "[=" may be left out and is part of the
    /// word.
    const char* value;
    const char* says;
    std::function<void(Parsed&, const std::string& value)> apply;
};

using Text = const std::string&;

const std::vector<Option>& options() {
    static const std::vector<Option> all{
        {"--out", "DIR",
         "Write evidence.json, coefficients.csv, rows.csv, summary.txt and, when the recipe asks for a "
         "forecast, forecast.csv into DIR, which is made when it is not there.",
         [](Parsed& p, Text v) { p.arguments.out = v; }},
        {"--project", "FILE",
         "Evaluate the recipes one after the other, each coming from the one before it, and save them as a "
         "project for the window; all must use the same rows.",
         [](Parsed& p, Text v) { p.arguments.project = v; }},
        {"--project-evidence", "FILE",
         "Write what a fit of a project says, by the model that the project keeps, or fitted anew when it "
         "keeps none. --threads, --read-aloud, --influence, --fail-on-open-goads and --look-at-test go with "
         "it.",
         [](Parsed& p, Text v) { p.arguments.projectEvidence = v; }},
        {"--forecast", "ROWS",
         "With --project FILE and --out DIR: forecast the rows of a text file or a workbook by the model "
         "that the "
         "project keeps, which is not fitted anew, and write what the recipe's forecast asks for.",
         [](Parsed& p, Text v) { p.arguments.forecast = v; }},
        {"--fit", "N", "With --project-evidence: another fit than the one shown.",
         [](Parsed& p, Text v) { p.arguments.fit = number("--fit", v); }},
        {"--describe", "FILE",
         "Print the ledger: what every column holds and what is odd about it. FILE is a text file, a "
         "workbook, an SQLite file (with --query), or a recipe, whose steps run first.",
         [](Parsed& p, Text v) { p.arguments.describe = v; }},
        {"--look", "FILE",
         "Rank all columns by what they explain of the response alone, and compare them with each other, "
         "over "
         "the learning rows. FILE as with --describe; prints JSON, or writes look.json, ranking.csv and "
         "pairs.csv into DIR with --out.",
         [](Parsed& p, Text v) { p.arguments.look = v; }},
        {"--response", "NAME", "With --look: the response, when FILE is no recipe.",
         [](Parsed& p, Text v) { p.arguments.response = v; }},
        {"--against", "WHAT",
         "With --describe: an earlier file, to print what changed since. With --look: response, or predicted "
         "or residual of the recipe's fit.",
         [](Parsed& p, Text v) { p.against = v; }},
        {"--sheet", "NAME", "The sheet of a workbook.",
         [](Parsed& p, Text v) { p.arguments.source.sheet = v; }},
        {"--range", "B3:F200", "The cells of a sheet.",
         [](Parsed& p, Text v) { p.arguments.source.range = v; }},
        {"--query", "SQL", "What to ask an SQLite file.",
         [](Parsed& p, Text v) { p.arguments.source.query = v; }},
        {"--json", "", "With --describe: print it as JSON.",
         [](Parsed& p, Text) { p.arguments.json = true; }},
        {"--what-helps", "",
         "With --out, also measure every column, bend and pair that is not in the model: what_helps.json.",
         [](Parsed& p, Text) { p.arguments.whatHelps = true; }},
        {"--read-aloud", "",
         "With --out, also the equation in words and by level, effects with bands and average marginal "
         "effects: reading.txt, effects.csv, marginal_effects.csv; of models without coefficients also what "
         "columns do on average and which act together: average_effects.csv, interactions.csv.",
         [](Parsed& p, Text) { p.arguments.readAloud = true; }},
        {"--influence", "",
         "With --out, also what leaving out each learning row would do to the coefficients: influence.csv "
         "(least squares).",
         [](Parsed& p, Text) { p.arguments.influence = true; }},
        {"--moves", "",
         "With --out, also what each move of an open goad would change, worked out: moves.json.",
         [](Parsed& p, Text) { p.arguments.moves = true; }},
        {"--fail-on-open-goads", "[=alarm]",
         "With --out, write everything, then list the open goads on standard error and end with 4 when there "
         "are any; =alarm counts alarms only.",
         [](Parsed& p, Text v) {
             if (!v.empty() && v != "alarm")
                 usage("--fail-on-open-goads takes =alarm or nothing, not \"" + v + "\"");
             p.arguments.fail = v.empty() ? Arguments::Fail::onAny : Arguments::Fail::onAlarm;
         }},
        {"--choose", "WAY",
         "With --out, also choose terms among those of the recipe and the other columns: forward, backward, "
         "\"both ways\" or \"best subsets\"; writes choice.json and chosen_recipe.json.",
         [](Parsed& p, Text v) {
             const auto by = chooseByNamed(v);
             if (!by) usage("--choose needs forward, backward, both ways or best subsets, not \"" + v + "\"");
             p.request.by = *by;
             p.arguments.choose = p.request;
         }},
        {"--search", "PLAN",
         "With --out, also search kinds, settings and terms within a budget, by a file or a text like "
         "{\"minutes\": 5, \"seed\": 1} (fits, patience, kinds, terms, logs): search.csv, search.txt, "
         "search.json and searched_recipe.json.",
         [](Parsed& p, Text v) { p.arguments.search = v; }},
        {"--by", "CRITERION",
         "Of the choice: \"cross-validated error\" (usual), \"adjusted R2\", AICc, BIC or p.",
         [](Parsed& p, Text v) {
             const auto criterion = criterionNamed(v);
             if (!criterion)
                 usage("--by needs cross-validated error, adjusted R2, AICc, BIC or p, not \"" + v + "\"");
             p.request.criterion = *criterion;
         }},
        {"--steps", "N", "Of the choice: at most N.",
         [](Parsed& p, Text v) { p.request.mostSteps = number("--steps", v); }},
        {"--enter", "P", "Of a choice by p: a term comes in below it (0.05).",
         [](Parsed& p, Text v) { p.request.enter = share("--enter", v); }},
        {"--leave", "P", "Of a choice by p: a term goes out above it (0.1).",
         [](Parsed& p, Text v) { p.request.leave = share("--leave", v); }},
        {"--folds", "N", "Of the choice: 5 is usual.",
         [](Parsed& p, Text v) { p.request.folds = number("--folds", v); }},
        {"--deal-again", "N", "Deal the folds of the recipe N times, each with the next seed.",
         [](Parsed& p, Text v) { p.arguments.dealings = number("--deal-again", v); }},
        {"--compare-with", "RECIPE",
         "With --out, also fit this recipe and say how it compares on the same rows and folds: "
         "comparison.txt, comparison.json; may be repeated.",
         [](Parsed& p, Text v) { p.arguments.compareWith.push_back(v); }},
        {"--halves", "N",
         "With --out, for a penalised recipe, let halves of the rows choose terms N times: shares of halves "
         "and p after selection, halves.csv and halves.txt.",
         [](Parsed& p, Text v) { p.arguments.halves = number("--halves", v); }},
        {"--path-folds", "",
         "With --out, for a penalised recipe, the share of folds that keep each column, and errors of least "
         "squares of what is kept: path_folds.csv.",
         [](Parsed& p, Text) { p.arguments.pathFolds = true; }},
        {"--learning-curve", "",
         "With --out, also the error against the number of rows learned from: learning_curve.csv, "
         "learning_curve.txt.",
         [](Parsed& p, Text) { p.arguments.learningCurve = true; }},
        {"--hand-on", "FORMATS",
         "With --out, also the model for others, formats parted by commas: report (and pdf), workbook, ods, "
         "sql, "
         "python, c, onnx, pmml, json, equation. What a format cannot hold is said, and the others are "
         "written.",
         [](Parsed& p, Text v) {
             p.arguments.handOn = listOf(v);
             if (p.arguments.handOn.empty()) usage("--hand-on needs one format or more");
         }},
        {"--report-parts", "PARTS",
         "Of the report: parts parted by commas, of rows, model, errors, goads, forecast, totals, clearance, "
         "methods.",
         [](Parsed& p, Text v) { p.arguments.reportParts = listOf(v); }},
        {"--append-to", "USER@HOST:PORT/DATABASE/TABLE",
         "With --out or --score, also append the scored rows to a table of a PostgreSQL server, which is "
         "made when it "
         "is not there: all rows, or none.",
         [](Parsed& p, Text v) { p.arguments.appendTo = v; }},
        {"--report", "", "With --out, also report.html and report.pdf: the same as --hand-on report.",
         [](Parsed& p, Text) { p.arguments.handOn.emplace_back("report"); }},
        {"--score", "MODEL.json",
         "With --rows FILE and --out DIR: forecast rows by a model that was handed on as JSON, without the "
         "rows it "
         "learned from; writes forecast.csv.",
         [](Parsed& p, Text v) { p.arguments.score = v; }},
        {"--rows", "FILE", "With --score: a text file, a workbook or an SQLite file (with --query).",
         [](Parsed& p, Text v) { p.arguments.rows = v; }},
        {"--fail-on-rows-outside", "", "End with 5 when rows to be forecast lie outside what was learned.",
         [](Parsed& p, Text) { p.arguments.failOutside = true; }},
        {"--fail-on-drift", "",
         "End with 6 when columns of the rows to be forecast differ from those learned from.",
         [](Parsed& p, Text) { p.arguments.failDrift = true; }},
        {"--log", "FILE", "Add one line of JSON to FILE when done: when, what, how many rows, how it ended.",
         [](Parsed& p, Text v) { p.arguments.log = v; }},
        {"--look-at-test", "", "Score the locked test rows too; in a project the look is counted.",
         [](Parsed& p, Text) { p.arguments.lookAtTest = true; }},
        {"--go-on", "",
         "Fit though a step of the recipe cannot run; the step is passed over, and a goad says so.",
         [](Parsed& p, Text) { p.arguments.goOn = true; }},
        {"--threads", "N", "Use N threads (results do not depend on it); all cores are usual.",
         [](Parsed& p, Text v) {
             p.arguments.threads.count = static_cast<unsigned>(number("--threads", v));
         }},
        {"--quiet", "", "No progress on standard error.", [](Parsed& p, Text) { p.arguments.quiet = true; }},
        {"--version", "", "Print the version, and for which machines its arithmetic is built.", nullptr},
        {"--man", "", "Print this as a manual page (troff).", nullptr},
        {"--help", "", "Print this.", nullptr},
    };
    return all;
}

constexpr const char* waysToCall[]{"RECIPE.json --out DIR --hand-on sql,workbook,report",
                                   "--score MODEL.json --rows FILE --out DIR",
                                   "RECIPE.json --out DIR [--threads N] [--quiet]",
                                   "RECIPE.json [MORE.json ...] --project FILE.oxgoad",
                                   "--project-evidence FILE.oxgoad --out DIR [--fit N]",
                                   "--look FILE [--response NAME] [--against WHAT] [--out DIR]",
                                   "--describe NEW --against OLD [--json]",
                                   "--describe FILE [--json] [--sheet S] [--range B3:F200] [--query SQL]"};

struct ExitCode {
    int code;
    const char* says;
};
constexpr ExitCode exitCodes[]{
    {0, "Done. Cells that do not fit and rows without a prediction are told on standard error."},
    {2, "Bad input, or a step that cannot run: one sentence on standard error, nothing half written."},
    {3, "Stopped by an interrupt; folds that were judged by then are kept and written."},
    {4, "Goads are open, with --fail-on-open-goads."},
    {5, "Rows to be forecast lie outside what was learned, with --fail-on-rows-outside."},
    {6, "Rows to be forecast differ from those learned from, with --fail-on-drift."}};

constexpr const char* aboutFiles =
    "File names in a recipe are relative to it; recipe.md and evidence.md, which are installed with the "
    "documents, say what recipes and results hold. The same recipe and rows give the same evidence on any "
    "number of threads; between machines with and without wide instructions the last digits may differ. The "
    "password of a server is read from the environment variable OXGOAD_PASSWORD.";

/// Words in lines of at most `width` characters, each begun by `indent`.
std::string filled(const std::string& text, std::size_t indent, std::size_t width) {
    std::string out, line;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = std::min(text.find(' ', at), text.size());
        const std::string word = text.substr(at, end - at);
        if (!line.empty() && indent + line.size() + 1 + word.size() > width) {
            out += std::string(indent, ' ') + line + "\n";
            line.clear();
        }
        line += (line.empty() ? "" : " ") + word;
        at = end + 1;
    }
    return out + std::string(indent, ' ') + line + "\n";
}

std::string optionWords(const Option& option) {
    const std::string value = option.value;
    return option.name + (value.empty() || value.starts_with("[=") ? value : " " + value);
}

/// Strokes and backslashes as troff wants them.
std::string troff(std::string_view text) {
    std::string out;
    for (const char c : text)
        out += c == '-' ? "\\-" : c == '\\' ? "\\e" : std::string(1, c);
    return out;
}

} // namespace

std::string commandHelp() {
    std::string text = "oxgoad-run: fits the model a recipe describes and writes the evidence.\n\n";
    for (const char* words : waysToCall)
        text += "  oxgoad-run " + std::string(words) + "\n";
    text += "\n";
    constexpr std::size_t column = 19, width = 90;
    for (const Option& option : options()) {
        const std::string words = "  " + optionWords(option);
        std::string says = filled(option.says, column, width);
        if (words.size() + 1 < column)
            says = words + says.substr(words.size());
        else
            says = words + "\n" + says;
        text += says;
    }
    text += "\nExit codes\n";
    for (const ExitCode& exit : exitCodes)
        text += "  " + std::to_string(exit.code) + filled(exit.says, 5, width).substr(3);
    return text + "\n" + filled(aboutFiles, 0, width);
}

std::string commandManual(const std::string& version) {
    std::string text =
        ".TH OXGOAD\\-RUN 1 \"\" \"Oxgoad " + version +
        "\" \"User commands\"\n.SH NAME\n"
        "oxgoad\\-run \\- fit the model a recipe describes and write the evidence\n.SH SYNOPSIS\n";
    for (const char* words : waysToCall)
        text += ".B oxgoad\\-run\n" + troff(words) + "\n.br\n";
    text += ".SH OPTIONS\n";
    for (const Option& option : options())
        text += ".TP\n.B " + troff(optionWords(option)) + "\n" + troff(option.says) + "\n";
    text += ".SH EXIT STATUS\n";
    for (const ExitCode& exit : exitCodes)
        text += ".TP\n.B " + std::to_string(exit.code) + "\n" + troff(exit.says) + "\n";
    return text + ".SH FILES AND ENVIRONMENT\n" + troff(aboutFiles) + "\n.SH SEE ALSO\n.BR oxgoad (1)\n";
}

Arguments parseArguments(int argc, char** argv) {
    Parsed parsed;
    Arguments& arguments = parsed.arguments;
    const ChooseRequest& request = parsed.request;
    const std::optional<std::string>& against = parsed.against;
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (!word.starts_with("-")) {
            arguments.recipes.push_back(word);
            continue;
        }
        const auto equals = std::min(word.find('='), word.size());
        const std::string name = word.substr(0, equals);
        const auto found = std::find_if(options().begin(), options().end(),
                                        [&](const Option& option) { return name == option.name; });
        const bool own = found != options().end() && std::string_view(found->value).starts_with("[=");
        if (found == options().end() || !found->apply || (equals < word.size() && !own)) {
            std::vector<std::string> names;
            for (const Option& option : options())
                names.emplace_back(option.name);
            const std::string meant = didYouMean(name, names);
            usage("there is no option " + word, meant.empty() ? "" : meant + " See oxgoad-run --help.");
        }
        std::string value = own && equals < word.size() ? word.substr(equals + 1) : "";
        if (!own && *found->value != '\0') {
            if (i + 1 >= argc) usage(word + " needs a value");
            value = argv[++i];
        }
        found->apply(parsed, value);
    }
    if (!arguments.describe.empty()) {
        if (!arguments.recipes.empty() || !arguments.out.empty() || !arguments.project.empty())
            usage("--describe takes one file and writes nothing");
        arguments.describeAgainst = against.value_or("");
        return arguments;
    }
    if (arguments.score.empty() != arguments.rows.empty() ||
        (!arguments.score.empty() && (arguments.out.empty() || !arguments.recipes.empty())))
        usage("--score MODEL.json goes with --rows FILE and --out DIR");
    if (!arguments.score.empty()) return arguments;
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
    if (!arguments.forecast.empty()) { // by what a project keeps: its evidence, of other rows to come
        if (arguments.project.empty() || arguments.out.empty())
            usage("--forecast goes with --project FILE and --out DIR");
        arguments.projectEvidence = std::exchange(arguments.project, {});
    }
    if (!arguments.projectEvidence.empty()) {
        if (arguments.out.empty()) usage("--project-evidence needs --out DIR");
        if (!arguments.recipes.empty() || !arguments.project.empty() || arguments.whatHelps ||
            arguments.choose || !arguments.search.empty() || !arguments.compareWith.empty() ||
            arguments.moves || arguments.halves > 0 || arguments.pathFolds || arguments.learningCurve)
            usage("--project-evidence takes a project, and of the other options --fit, --out, --read-aloud, "
                  "--influence, --fail-on-open-goads, --look-at-test and --threads");
        return arguments;
    }
    if (arguments.fit != 0) usage("--fit goes with --project-evidence");
    if (arguments.choose) arguments.choose = request;
    if (arguments.out.empty() &&
        (arguments.whatHelps || arguments.readAloud || arguments.choose || !arguments.search.empty() ||
         !arguments.compareWith.empty() || arguments.influence || arguments.moves || arguments.halves > 0 ||
         arguments.pathFolds || arguments.learningCurve || arguments.fail != Arguments::Fail::never))
        usage(
            "--what-helps, --read-aloud, --choose, --search, --compare-with, --influence, --moves, --halves, "
            "--path-folds, --learning-curve and "
            "--fail-on-open-goads go with --out");
    if (arguments.recipes.empty()) usage("name a recipe");
    if (arguments.out.empty() == arguments.project.empty()) usage("say either --out DIR or --project FILE");
    if (!arguments.out.empty() && arguments.recipes.size() != 1) usage("--out takes one recipe");
    return arguments;
}

} // namespace oxgoad
