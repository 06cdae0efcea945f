#include "study/preview_move.h"

#include "base/error.h"
#include "base/text.h"

#include <nlohmann/json.hpp>

namespace oxgoad {

namespace {

/// What a fit is judged by, and its error there.
std::pair<std::string, double> judged(const Evidence& evidence, const Recipe& recipe) {
    if (evidence.folds && !evidence.folds->partial())
        return {"typical error over " + foldPlanText(*recipe.judge), evidence.folds->rmse};
    if (evidence.heldOut.rows > 1)
        return {"typical error of " + plural(evidence.heldOut.rows, "held-out row", "held-out rows"),
                evidence.heldOut.rmse};
    return {"typical error of learning rows", evidence.learning.rmse};
}

} // namespace

MovePreview previewMove(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                        const PreparedRows& prepared, const Move& move, Threads threads, Progress& progress) {
    MovePreview preview;
    std::tie(preview.measure, preview.before) = judged(evidence, recipe);
    preview.after = std::nan("");
    Recipe with = recipe;
    move.edit(with, "to see what it would change");
    with.forecast.reset();
    const bool folds = evidence.folds && with.judge;
    if (!folds) with.judge.reset();
    try {
        ProgressStage preparing(progress, 0, 0.4);
        const auto changed = prepareRows(with, rows, threads, preparing, &prepared);
        ProgressStage fitting(progress, 0.4, 1);
        const Evidence then =
            evaluate(with, rows, *changed,
                     {.threads = threads,
                      .folds = folds ? EvaluateOptions::Folds::now : EvaluateOptions::Folds::never,
                      .checks = ChecksWanted::none},
                     fitting);
        if (then.folds && then.folds->partial()) throw Stopped{};
        // Folds do not see held-out rows: what only these tell is told by them.
        if (preview.before == judged(then, with).second && evidence.heldOut.rows > 1 &&
            then.heldOut.rows > 1 && evidence.heldOut.rmse != then.heldOut.rmse) {
            preview.measure = "typical error of held-out rows";
            preview.before = evidence.heldOut.rmse;
            preview.after = then.heldOut.rmse;
            return preview;
        }
        const auto [measure, after] = judged(then, with);
        preview.after = after;
        preview.otherRows = measure != preview.measure;
        if (preview.otherRows) preview.measure += ", then " + measure;
    } catch (const Error& error) {
        preview.problem = error.what();
    }
    return preview;
}

std::string previewText(const MovePreview& preview) {
    if (!preview.problem.empty()) return "cannot be fitted: " + preview.problem;
    // As many digits as tell the two apart.
    int digits = 5;
    while (digits < 8 && readableText(preview.before, digits) == readableText(preview.after, digits) &&
           preview.before != preview.after)
        ++digits;
    return "typical error " + readableText(preview.before, digits) + " → " +
           readableText(preview.after, digits) + (preview.otherRows ? ", judged by other rows" : "");
}

std::string movesJson(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                      const PreparedRows& prepared, Threads threads, Progress& progress) {
    nlohmann::ordered_json out = nlohmann::ordered_json::array();
    std::size_t done = 0, all = 0;
    for (const Goad& goad : evidence.goads)
        all += goad.accepted || goad.noted ? 0 : goad.moves.size();
    for (const Goad& goad : evidence.goads) {
        if (goad.accepted || goad.noted) continue;
        for (const Move& move : goad.moves) {
            ProgressStage stage(progress, static_cast<double>(done) / static_cast<double>(all),
                                static_cast<double>(done + 1) / static_cast<double>(all));
            ++done;
            if (!move.edit) continue;
            const MovePreview preview = previewMove(evidence, recipe, rows, prepared, move, threads, stage);
            nlohmann::ordered_json each{{"goad", goad.key},           {"move", move.label},
                                        {"measure", preview.measure}, {"before", preview.before},
                                        {"after", preview.after},     {"other_rows", preview.otherRows}};
            if (!preview.problem.empty()) each["problem"] = preview.problem;
            out.push_back(std::move(each));
        }
    }
    return out.dump(2, ' ', false, nlohmann::ordered_json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
