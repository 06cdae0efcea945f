#include "run/arguments.h"

#include <charconv>

namespace oxgoad {

const char* const commandHelp = R"(oxgoad-run: fits the model a recipe describes and writes the evidence.

  oxgoad-run RECIPE.json --out DIR [--threads N] [--quiet]
  oxgoad-run RECIPE.json [MORE.json ...] --project FILE.oxgoad
  oxgoad-run --project-evidence FILE.oxgoad --out DIR [--fit N]
  oxgoad-run --look FILE [--response NAME] [--against WHAT] [--out DIR]
  oxgoad-run --describe NEW --against OLD [--json]
  oxgoad-run --describe FILE [--json] [--sheet S] [--range B3:F200] [--query SQL]

  --out DIR        write evidence.json, coefficients.csv, rows.csv, summary.txt and,
                   when the recipe asks for a forecast, forecast.csv into DIR
  --project FILE   evaluate the recipes one after the other, each coming from the
                   one before it, and save them as a project for the window; all
                   must use the same rows
  --project-evidence FILE
                   write what a fit of a project says, by the model that the project
                   keeps, or fitted anew when it keeps none; --fit N chooses another
                   than the one shown, and --threads, --read-aloud and --look-at-test
                   go with it
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
  --influence      with --out, also what leaving out each learning row would do to
                   the coefficients: influence.csv (least squares)
  --moves          with --out, also what each move of an open goad would change,
                   worked out: moves.json
  --fail-on-open-goads[=alarm]
                   with --out, write everything, then list the open goads on standard
                   error and end with 4 when there are any; =alarm counts alarms only
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
  --deal-again N   deal the folds of the recipe N times, each with the next seed
  --compare-with RECIPE
                   with --out, also fit this recipe and say how it compares on the same
                   rows and folds: comparison.txt, comparison.json; may be repeated
  --halves N       with --out, for a penalised recipe, let halves of the rows choose terms N
                   times: shares of halves and p after selection, halves.csv
  --path-folds     with --out, for a penalised recipe, the share of folds that keep each
                   column, and errors of least squares of what is kept: path_folds.csv
  --learning-curve with --out, also the error against the number of rows learned from:
                   learning_curve.csv, learning_curve.txt
  --look-at-test   score the locked test rows too; in a project the look is counted
  --threads N      use N threads (results do not depend on it); all cores by default
  --quiet          no progress on standard error
  --version        print the version, and for which machines its arithmetic is built
  --help           print this

Exit code: 0 done, 2 bad input (one sentence on standard error, nothing half
written), 3 stopped by an interrupt; folds that were judged by then are kept and
written; 4 goads are open, with --fail-on-open-goads. The recipe's form is in docs/recipe.md. The
password of a server is read from the environment variable OXGOAD_PASSWORD.
)";

void usage(const std::string& what) {
    throw Error(ErrorCode::badRecipe, what, {}, "See oxgoad-run --help.");
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

} // namespace

Arguments parseArguments(int argc, char** argv) {
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
        else if (word == "--project-evidence")
            arguments.projectEvidence = next();
        else if (word == "--fit")
            arguments.fit = number(word, next());
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
        else if (word == "--influence")
            arguments.influence = true;
        else if (word == "--halves")
            arguments.halves = number(word, next());
        else if (word == "--path-folds")
            arguments.pathFolds = true;
        else if (word == "--learning-curve")
            arguments.learningCurve = true;
        else if (word == "--moves")
            arguments.moves = true;
        else if (word == "--fail-on-open-goads")
            arguments.fail = Arguments::Fail::onAny;
        else if (word == "--fail-on-open-goads=alarm")
            arguments.fail = Arguments::Fail::onAlarm;
        else if (word == "--compare-with")
            arguments.compareWith.push_back(next());
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
        else if (word == "--deal-again")
            arguments.dealings = number(word, next());
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
    if (!arguments.projectEvidence.empty()) {
        if (arguments.out.empty()) usage("--project-evidence needs --out DIR");
        if (!arguments.recipes.empty() || !arguments.project.empty() || arguments.whatHelps ||
            arguments.choose || !arguments.compareWith.empty() || arguments.moves || arguments.halves > 0 ||
            arguments.pathFolds || arguments.learningCurve)
            usage("--project-evidence takes a project, and of the other options --fit, --out, --read-aloud, "
                  "--influence, --fail-on-open-goads, --look-at-test and --threads");
        return arguments;
    }
    if (arguments.fit != 0) usage("--fit goes with --project-evidence");
    if (arguments.choose) arguments.choose = request;
    if (arguments.out.empty() &&
        (arguments.whatHelps || arguments.readAloud || arguments.choose || !arguments.compareWith.empty() ||
         arguments.influence || arguments.moves || arguments.halves > 0 || arguments.pathFolds ||
         arguments.learningCurve || arguments.fail != Arguments::Fail::never))
        usage("--what-helps, --read-aloud, --choose, --compare-with, --influence, --moves, --halves, "
              "--path-folds, --learning-curve and "
              "--fail-on-open-goads go with --out");
    if (arguments.recipes.empty()) usage("name a recipe");
    if (arguments.out.empty() == arguments.project.empty()) usage("say either --out DIR or --project FILE");
    if (!arguments.out.empty() && arguments.recipes.size() != 1) usage("--out takes one recipe");
    return arguments;
}

} // namespace oxgoad
