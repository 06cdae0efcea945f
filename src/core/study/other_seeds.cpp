#include "study/other_seeds.h"

#include "base/error.h"
#include "base/text.h"
#include "study/judge.h"
#include "study/rows_used.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr int seeds = 20;

/// Rows set aside with another seed; nothing else is prepared anew where no step learns.
std::shared_ptr<const PreparedRows> setAsideAnew(const Recipe& recipe, const EvaluatedFrom& from,
                                                 Threads threads, Progress& progress) {
    const bool steps =
        std::any_of(recipe.steps.begin(), recipe.steps.end(), [](const Step& s) { return s.on; });
    if (steps) return prepareRows(recipe, from.rows, threads, progress, &from.prepared);
    auto next = std::make_shared<PreparedRows>(from.prepared);
    next->parts = assignParts(next->table, recipe.setAside, from.rows.learning.report.file);
    for (const LeftOutRow& row : recipe.leaveOut)
        if (row.row - 1 < next->leftOut.size()) next->leftOut[row.row - 1] = -1;
    return next;
}

void judgeSplit(const Recipe& recipe, const EvaluatedFrom& from, Threads threads, Progress& progress,
                SeedSpread& spread) {
    const std::string& file = from.rows.learning.report.file;
    const auto prepared = setAsideAnew(recipe, from, threads, progress);
    const RowsUsed used = rowsUsed(recipe, *prepared, file);
    const auto study =
        learn(recipe, prepared->table, prepared->steps, file, used.learning, threads, progress);
    const BoundModel bound = study->bind(prepared->table, file);
    std::vector<std::uint32_t> judged = used.heldOut;
    std::erase_if(judged, [&](std::uint32_t row) { return !bound.complete(row); });
    if (judged.size() < 2) return;
    const auto response = prepared->table.at(recipe.response, file).numbers();
    const Applied applied = apply(*study, prepared->table, file, judged, threads, progress);
    std::vector<double> actual, learned, fitted;
    for (const auto row : judged)
        actual.push_back(response[row]);
    long double sum = 0;
    for (std::size_t i = 0; i < used.learning.size(); ++i) {
        const auto row = used.learning[i];
        learned.push_back(response[row]);
        sum += response[row];
        fitted.push_back(bound.natural(study->taught.fitted[static_cast<Eigen::Index>(i)], row));
    }
    const double mean = static_cast<double>(sum / static_cast<long double>(learned.size()));
    const Scores h = score(actual, applied.predicted, mean);
    const Scores l = score(learned, fitted, mean);
    spread.rmse.push_back(h.rmse);
    spread.overMean.push_back(std::sqrt(std::max(0.0, 1 - h.rSquared)));
    spread.overLearning.push_back(h.rmse / l.rmse);
}

} // namespace

SeedSpread otherSeeds(const Evidence& evidence, const EvaluatedFrom& from, Threads threads,
                      Progress& progress) {
    SeedSpread spread;
    const Recipe& recipe = from.recipe;
    const bool drawn = recipe.setAside && (recipe.setAside->kind == SetAsideKind::random ||
                                           recipe.setAside->kind == SetAsideKind::proportionate ||
                                           recipe.setAside->kind == SetAsideKind::groups);
    if (drawn && evidence.heldOut.rows > 1) {
        Recipe other = recipe;
        other.judge.reset();
        other.forecast.reset();
        // Rows of the test are neither learned from nor judged.
        if (recipe.setAside->testShare > 0) {
            for (std::size_t row = 0; row < evidence.rows.state.size(); ++row)
                if (from.prepared.parts[row] == Part::test)
                    other.leaveOut.push_back({row + 1, "locked for the test"});
            other.setAside->share = recipe.setAside->share / (1 - recipe.setAside->testShare);
            other.setAside->testShare = 0;
        }
        for (int k = 1; k <= seeds; ++k) {
            ProgressStage stage(progress, (k - 1.0) / seeds, 1.0 * k / seeds);
            stage.checkpoint(0, "Judging with other seeds");
            other.setAside->seed = recipe.setAside->seed + static_cast<std::uint64_t>(k);
            try {
                judgeSplit(other, from, threads, stage, spread);
            } catch (const Error&) { // too few rows of a level, say: such a seed says nothing
            }
        }
        spread.what = "of rows held out with seeds " + std::to_string(recipe.setAside->seed + 1) + " to " +
                      std::to_string(recipe.setAside->seed + seeds);
        spread.own = evidence.heldOut.rmse;
        spread.ownOverMean = std::sqrt(std::max(0.0, 1 - evidence.heldOut.rSquared));
        spread.ownOverLearning = evidence.heldOut.rmse / evidence.learning.rmse;
        return spread;
    }
    if (!evidence.folds || !recipe.judge || !recipe.judge->hasSeed() || !recipe.judge->repeatsWell()) {
        spread.why = evidence.folds || evidence.heldOut.rows > 1
                         ? "nothing in the judgement is drawn at random"
                         : "the model is judged by no rows that it did not learn from";
        return spread;
    }
    Recipe other = recipe;
    other.judge->seed = recipe.judge->seed + 1;
    other.judge->repeats = seeds;
    const FoldEvidence folds = judgeByFolds(other, from.prepared, from.rows.learning.report.file,
                                            {.threads = threads, .whole = evidence.study}, progress);
    const double overMean = std::sqrt(std::max(0.0, 1 - folds.rSquared)) / folds.rmse;
    for (const RepeatScore& repeat : folds.repeats) {
        spread.rmse.push_back(repeat.rmse);
        spread.overMean.push_back(repeat.rmse * overMean);
        spread.overLearning.push_back(repeat.rmse / evidence.learning.rmse);
    }
    spread.what = "over folds dealt with seeds " + std::to_string(other.judge->seed) + " to " +
                  std::to_string(other.judge->seed + seeds - 1);
    spread.own = evidence.folds->rmse;
    spread.ownOverMean = std::sqrt(std::max(0.0, 1 - evidence.folds->rSquared));
    spread.ownOverLearning = evidence.folds->rmse / evidence.learning.rmse;
    return spread;
}

} // namespace oxgoad
