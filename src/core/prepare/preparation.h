#pragma once
// Steps run over rows, learned from learning rows and applied to others.
#include "base/progress.h"
#include "prepare/frame.h"

#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// What a step did, or why it did nothing.
struct StepOutcome {
    bool done = false;
    std::size_t rowsIn = 0, rowsOut = 0;
    std::size_t columnsIn = 0, columnsOut = 0;
    std::size_t changedCells = 0;
    /// Names of columns it added or changed.
    std::vector<std::string> touched;
    /// Why a step that is switched on was passed over; empty when it ran.
    std::string problem;
    std::vector<std::string> notes;
    std::vector<LearnedValue> learned;
    /// Rows of the past for steps that look back; not written to the evidence.
    std::vector<Column> kept;
};

struct Prepared {
    Table table;
    /// For each row who left it out.
    std::vector<LeftOutBy> leftOut;
    std::vector<StepOutcome> outcomes;
};

/// Runs the steps that are switched on, in order. Whatever a step learns (medians, fences, scales, level
/// lists), it learns from rows with learning[i] != 0 that are not left out before it; all rows when
/// `learning` is empty. Rows are marked, never removed. A step that cannot run is passed over with its
/// problem, and the rest still runs. `leftOutByHand[i]` marks rows the analyst left out. Throws Stopped.
Prepared learnSteps(const Table& table, const std::vector<Step>& steps, std::vector<LeftOutBy> leftOutByHand,
                    std::vector<std::uint8_t> learning, const std::string& file, Progress& progress);

/// Runs the same steps over other rows with what was learned; steps that leave rows out mark them only. Steps
/// whose columns are not there (the response of rows to be forecast) are passed over.
Prepared applySteps(const Table& table, const std::vector<Step>& steps, std::span<const StepOutcome> learned,
                    const std::string& file, Progress& progress);

/// The table after the steps that learn nothing: enough to say which rows are set aside.
Table withoutLearning(const Table& table, const std::vector<Step>& steps, const std::string& file,
                      Progress& progress);

} // namespace oxgoad
