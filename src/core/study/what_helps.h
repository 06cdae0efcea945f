#pragma once
// What would help a fit: every column, bend and pair that is not in it yet, measured before it is added.
#include "base/parallel.h"
#include "base/progress.h"
#include "recipe/recipe.h"
#include "study/prepare_rows.h"

#include <functional>
#include <string>
#include <vector>

namespace oxgoad {

/// One thing that could be added.
struct Help {
    enum class Kind { column, bend, pair };
    Kind kind = Kind::column;
    Term term;
    /// Terms it needs beside it that the model lacks; they are put in with it.
    std::vector<Term> parents;
    /// Learning rows it was measured on: those that have all its columns.
    std::size_t rows = 0;
    /// Share of what the model (with the parents) leaves over that it would explain.
    double share = 0;
    double f = 0, numeratorDf = 0, denominatorDf = 0;
    double p = 0;
    /// For the number of things tried (Holm 1979).
    double pAdjusted = 0;
    /// Typical error of predicting rows that were not learned from, by the recipe's folds, with the parents
    /// alone and with it beside them; of each row from the others (root of Allen's 1974 sum over rows) where
    /// the recipe has no folds that are parts of its rows. NaN where it was not worked out.
    double errorBefore = 0, errorWith = 0;
};

struct WhatHelps {
    /// By p, then by F; the first few by what they take from the error of rows left out one by one.
    std::vector<Help> helps;
    std::size_t tried = 0;
    /// Pairs passed over because their levels would make too many columns, and columns with one value.
    std::size_t notSelected = 0;
    /// Columns that are not offered, with why: they hold the response by their making (columnsThatHold), or
    /// rows to be forecast lack them wholly.
    std::vector<std::pair<std::string, std::string>> notOffered;
    /// Of more columns than all pairs of can be tried: how many pairs were tried among, those of the model
    /// and those that add most by themselves; 0 where it was all.
    std::size_t pairsAmong = 0;
    /// How errors before and with were judged: "10 folds, seed 1", "leaving out one row at a time".
    std::string judgedBy;
    /// By folds of the recipe.
    bool byFolds = false;
};

/// "column", "bend", "pair".
std::string_view helpKindName(Help::Kind kind);

/// Called with what is known so far, from the calling thread; p values are not adjusted yet.
using HelpsSoFar = std::function<void(const WhatHelps&)>;

/// Requires a recipe that can be fitted. Measured by least squares on what the model fits (its logarithm,
/// less the offset), rows counting alike. Only learning rows are read. Each candidate is measured on the rows
/// that have its columns, with the model fitted to the same rows. Errors: those of Design::learn and
/// fitLeastSquares for the model itself. Throws Stopped.
WhatHelps whatHelps(const Recipe& recipe, const PreparedRows& prepared, Threads threads, Progress& progress,
                    const HelpsSoFar& soFar = {});

/// The recipe with a help and its parents; what is there already is not put in twice.
Recipe withHelp(const Recipe& recipe, const Help& help);

/// As JSON and as a table, for files.
std::string helpsJson(const WhatHelps& helps, const Recipe& recipe);

} // namespace oxgoad
