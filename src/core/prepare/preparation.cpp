#include "prepare/preparation.h"

#include "base/error.h"

#include <algorithm>

namespace oxgoad {

namespace {

/// Columns that `after` has and `before` has not with the same values. Columns share their values when they
/// were not touched, so that comparing where these lie is enough.
std::vector<std::string> touchedColumns(const StepFrame& before, const StepFrame& after) {
    std::vector<std::string> touched;
    for (const Column& column : after.columns()) {
        const Column* old = before.find(column.name());
        if (!old || !old->sharesValues(column)) touched.push_back(column.name());
    }
    return touched;
}

/// Runs one step on the frame; on a problem the frame is put back.
StepOutcome runStep(StepFrame& frame, const Step& step, LeftOutBy number, StepValues values) {
    StepOutcome outcome;
    outcome.rowsIn = outcome.rowsOut = frame.rowsIn();
    outcome.columnsIn = outcome.columnsOut = frame.columns().size();
    if (!step.on) return outcome;
    const StepFrame before = frame;
    try {
        checkStep(step);
        frame.begin(number, std::move(values));
        findStepKind(step.kind)->run(step, frame);
        outcome.done = true;
        outcome.rowsOut = frame.rowsIn();
        outcome.columnsOut = frame.columns().size();
        outcome.changedCells = frame.changedCells();
        outcome.notes = frame.notes();
        outcome.learned = frame.values().all();
        outcome.kept = frame.values().kept();
        outcome.touched = touchedColumns(before, frame);
    } catch (const Error& error) {
        frame = before;
        outcome.problem = error.what();
    }
    return outcome;
}

Prepared finished(StepFrame& frame, std::vector<StepOutcome> outcomes) {
    return {Table(frame.columns()), frame.leftOut(), std::move(outcomes)};
}

} // namespace

Prepared learnSteps(const Table& table, const std::vector<Step>& steps, std::vector<LeftOutBy> leftOutByHand,
                    std::vector<std::uint8_t> learning, const std::string& file, Progress& progress) {
    StepFrame frame(table, std::move(leftOutByHand), std::move(learning), file);
    std::vector<StepOutcome> outcomes;
    for (std::size_t i = 0; i < steps.size(); ++i) {
        progress.checkpoint(static_cast<double>(i) / static_cast<double>(steps.size()), "Preparing rows");
        outcomes.push_back(runStep(frame, steps[i], static_cast<LeftOutBy>(i + 1), StepValues()));
    }
    return finished(frame, std::move(outcomes));
}

Prepared applySteps(const Table& table, const std::vector<Step>& steps, std::span<const StepOutcome> learned,
                    const std::string& file, Progress& progress) {
    StepFrame frame(table, {}, {}, file);
    std::vector<StepOutcome> outcomes;
    for (std::size_t i = 0; i < steps.size(); ++i) {
        progress.checkpoint(static_cast<double>(i) / static_cast<double>(steps.size()),
                            "Preparing rows to be forecast");
        Step step = steps[i];
        step.on = step.on && i < learned.size() && learned[i].done;
        outcomes.push_back(runStep(frame, step, static_cast<LeftOutBy>(i + 1),
                                   step.on ? StepValues(learned[i].learned, learned[i].kept) : StepValues()));
    }
    return finished(frame, std::move(outcomes));
}

Table withoutLearning(const Table& table, const std::vector<Step>& steps, const std::string& file,
                      Progress& progress) {
    std::vector<Step> plain;
    for (const Step& step : steps) {
        const StepKind* kind = findStepKind(step.kind);
        if (kind && !kind->learns && !kind->leavesOut) plain.push_back(step);
    }
    return learnSteps(table, plain, {}, {}, file, progress).table;
}

} // namespace oxgoad
