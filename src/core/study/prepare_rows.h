#pragma once
// From rows as they were read to rows as the model sees them.
#include "ledger/ledger.h"
#include "prepare/preparation.h"
#include "recipe/recipe.h"
#include "resample/parts.h"

#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace oxgoad {

/// The rows a recipe names, as read.
struct StudyRows {
    RowsRead learning;
    std::optional<RowsRead> forecast;
};

/// Rows after the steps, and what each step learned. Row numbers are those of the rows as read: rows are
/// marked, never removed.
struct PreparedRows {
    Table table;
    std::vector<Part> parts;
    std::vector<LeftOutBy> leftOut;
    std::vector<StepOutcome> steps;
    /// What every column holds, over the rows that are not left out, and what is odd about it.
    Ledger ledger;
    std::vector<PartSummary> partSummaries;
    /// Rows to be forecast after the same steps; none without a forecast.
    std::optional<Prepared> forecast;

    /// What it was made from.
    Table raw;
    std::optional<Table> rawForecast;
    std::vector<Step> madeBy;
    std::optional<SetAside> setAside;
    std::vector<LeftOutRow> leftOutByHand;
    std::string response;
    /// Levels of a response that are ranks, from low to high; the column holds 1, 2, … then.
    std::vector<std::string> ranks;
    /// Column of the weights; empty without. Rows of weight 0 teach nothing: no step, no term, no reading
    /// learns from them.
    std::string weight;
    std::vector<std::uint8_t> weightless;
    /// Columns the ledger finds nothing odd about, since nobody asks any more.
    std::set<std::string> quiet;

    /// 1 for rows nobody left out.
    std::vector<std::uint8_t> used() const;
    /// The same without rows for the test: what the ledger counts. Rows set aside for the test enter no
    /// statistic that is shown.
    std::vector<std::uint8_t> counted() const;
    /// True for rows that models and readings learn from, as far as they have values: learning rows that
    /// nobody left out and that weigh something. The one place where this is decided.
    bool teaches(std::size_t row) const {
        return leftOut[row] == 0 && parts[row] == Part::learning &&
               (weightless.empty() || weightless[row] == 0);
    }
};

/// Sets rows aside, then runs the steps, which learn from learning rows only, then looks at every column. A
/// set-aside rule that goes by a column finds it among the columns as read and those that steps make without
/// learning. A pure function: the same for any number of threads. Errors: badParts, badRecipe; a step that
/// cannot run is no error but has its problem in `steps`. Throws Stopped. `before`, rows prepared by another
/// recipe, saves work where it can be taken over; it changes no result.
std::shared_ptr<const PreparedRows> prepareRows(const Recipe& recipe, const StudyRows& rows, Threads threads,
                                                Progress& progress, const PreparedRows* before = nullptr);

/// Whether a step takes earlier values of the response.
bool looksBackAtResponse(const Step& step, const std::string& response);

/// True when the recipe and the rows ask for the very rows that were prepared, up to the forecast's.
bool isPreparedFor(const PreparedRows& prepared, const Recipe& recipe, const StudyRows& rows);

/// The prepared rows with the recipe's rows to be forecast, when that is all that changed.
std::shared_ptr<const PreparedRows> withForecast(const PreparedRows& prepared, const Recipe& recipe,
                                                 const StudyRows& rows, Progress& progress);

/// What a step did to the columns it touches: their lines of the ledger before and after it.
struct StepEffect {
    std::vector<ColumnSummary> before, after;
};
/// Runs the steps up to and with number `index` (from 0) again. Throws Stopped.
StepEffect stepEffect(const PreparedRows& prepared, std::size_t index, const std::vector<Step>& steps,
                      Progress& progress, StepOutcome* outcome = nullptr);

} // namespace oxgoad
