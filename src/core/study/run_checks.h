#pragma once
// From evidence to what its checks say.
#include "base/parallel.h"
#include "base/progress.h"
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <functional>

namespace oxgoad {

enum class ChecksWanted {
    none,
    /// Those of a pass or two over the rows.
    quick,
    all
};

/// What an evaluation was made of.
struct EvaluatedFrom {
    const Recipe& recipe;
    const StudyRows& rows;
    const PreparedRows& prepared;
};

/// Told what is found so far, from any thread, one call at a time.
using ChecksSoFar = std::function<void(const Evidence&)>;

/// Runs the checks that did not run yet, the most useful first and several beside each other, and gathers
/// what all found; `soFar` is told a few times a second. A stop leaves the evidence as it was. Throws
/// Stopped. The same for any number of threads.
void runChecks(Evidence& evidence, const EvaluatedFrom& from, ChecksWanted wanted, Threads threads,
               Progress& progress, const ChecksSoFar& soFar = {});

/// Checks that read rows out of fold have to run again.
void forgetChecksOfFolds(Evidence& evidence);

/// Slow checks of evidence of the same study, where nothing they read is different now.
void takeOverChecks(Evidence& evidence, const Evidence& before, const Recipe& recipe);

/// Whether checks are left to run.
bool checksPending(const Evidence& evidence);

/// Readings and goads of the evidence anew: of the checks that ran, of the rows, the recipe and the folds;
/// the goads in the order of what they could cost, marked as the recipe accepts them, the analyst's own last.
void gatherFindings(Evidence& evidence, const EvaluatedFrom& from);

} // namespace oxgoad
