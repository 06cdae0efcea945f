#pragma once
// Recipe and rows to evidence.
#include "base/parallel.h"
#include "base/progress.h"
#include "recipe/recipe.h"
#include "study/evidence.h"
#include "study/load_rows.h"
#include "study/prepare_rows.h"
#include "study/run_checks.h"
#include "table/table.h"

#include <memory>

namespace oxgoad {

struct EvaluateOptions {
    Threads threads{};
    /// Whether the test rows are predicted and scored. Whoever asks has to count it.
    bool lookAtTest = false;
    /// What was learned before from the same prepared rows: nothing is fitted when it learned the same.
    std::shared_ptr<const Study> study{};
    /// Whether the recipe's folds are judged here: always, when that is quick beside the fit, or never. Folds
    /// that cannot be judged are an error, or a goad when only quick ones were asked for.
    enum class Folds { now, whenQuick, never } folds = Folds::now;
    /// Which checks run here: all, or those that are quick beside the fit.
    ChecksWanted checks = ChecksWanted::all;
    /// Whether the forecast is questioned by fits of its own that the recipe does not ask for (see
    /// answerForecast).
    bool questioned = false;
    /// Whether columns are permuted to see what the model loses.
    bool importance = false;
    /// Evidence of that study, whose parts are taken over where nothing else can come out.
    const Evidence* before = nullptr;
};

/// Learns, judges, checks and forecasts. A pure function of its arguments: no clock, no global state; the
/// same recipe and rows give the same evidence to the last digit for any number of threads. Missing values:
/// rows lacking the response or a value of a column in use are counted by column and not used. Errors:
/// unknownColumn, wrongType, badTerm, tooFewRows, noSpread, badForecastRows, badParts. Throws Stopped.
/// `prepared` must be prepared for the recipe and the rows, its forecast included.
Evidence evaluate(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
                  const EvaluateOptions& options, Progress& progress);
/// Judges the recipe's folds and puts what they found into evidence that evaluate() gave without, or a goad
/// that says why they could not be judged. A stop keeps the folds done, and their checks are left to run.
/// Throws Stopped.
Evidence withFolds(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                   const PreparedRows& prepared, const JudgeOptions& options, Progress& progress);

/// Runs the checks that evaluate() or withFolds() left; `soFar` is told what those that ended found. Throws
/// Stopped.
Evidence withChecks(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                    const PreparedRows& prepared, Threads threads, Progress& progress,
                    const ChecksSoFar& soFar = {});

/// Prepares the rows first.
Evidence evaluate(const Recipe& recipe, const StudyRows& rows, Threads threads, Progress& progress);

} // namespace oxgoad
