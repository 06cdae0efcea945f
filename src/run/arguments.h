#pragma once
// What the headless command is asked for.
#include "base/error.h"
#include "base/parallel.h"
#include "study/choose_terms.h"
#include "study/look_at.h"

#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// What --help prints, and the manual page as troff: made of the same table as the parser.
std::string commandHelp();
std::string commandManual(const std::string& version);

struct Arguments {
    std::vector<std::string> recipes;
    std::string out;
    std::string project;
    /// A project whose evidence is asked for, and of which fit; 0 for the one shown.
    std::string projectEvidence;
    int fit = 0;
    /// With a project and an output folder: rows that its kept model is to forecast.
    std::string forecast;
    /// Formats to hand the model on in, and parts of the report; all when empty.
    std::vector<std::string> handOn, reportParts;
    /// Where scored rows are appended: [USER@]HOST[:PORT]/DATABASE/TABLE.
    std::string appendTo;
    /// A model that was handed on as JSON, and the rows it is to score.
    std::string score, rows;
    /// Ends with exitRowsOutside or exitDrift, where rows to be forecast give reason.
    bool failOutside = false, failDrift = false;
    /// A file to which one line of JSON is added when it is done.
    std::string log;
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
    /// A plan of a search: a file, or its text.
    std::string search;
    std::vector<std::string> compareWith;
    /// Every row's measures of influence.
    bool influence = false;
    /// Splits of the learning rows into halves that choose terms; 0 for none.
    int halves = 0;
    bool learningCurve = false;
    bool pathFolds = false;
    /// What each move of an open goad would change.
    bool moves = false;
    /// Ends with exitOpenGoads when goads are open: all, or alarms only.
    enum class Fail { never, onAny, onAlarm } fail = Fail::never;
    /// Times the recipe's folds are dealt; 0 as the recipe says.
    int dealings = 0;
    Threads threads;
    /// Fits though a step cannot run.
    bool goOn = false;
    bool quiet = false;
};

/// Throws Error for words that do not go together.
Arguments parseArguments(int argc, char** argv);
[[noreturn]] void usage(const std::string& what, const std::string& remedy = {});

} // namespace oxgoad
