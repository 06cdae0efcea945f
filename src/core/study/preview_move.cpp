#include "study/preview_move.h"

#include "base/error.h"
#include "base/text.h"
#include "recipe/validity.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Rows that an edit leaves out of learning, where it does nothing else.
std::vector<std::uint32_t> rowsLeftOut(const Recipe& before, const Recipe& after) {
    Recipe same = after;
    same.leaveOut = before.leaveOut;
    std::vector<std::uint32_t> rows;
    if (!sameModel(same, before)) return rows;
    for (const LeftOutRow& row : after.leaveOut)
        if (std::find(before.leaveOut.begin(), before.leaveOut.end(), row) == before.leaveOut.end())
            rows.push_back(static_cast<std::uint32_t>(row.row - 1));
    return rows;
}

/// The root mean squared error of a study at rows that another learned from.
double errorAt(const Study& study, const Study& of, const PreparedRows& prepared, const Recipe& recipe,
               const std::string& file, Threads threads, Progress& progress) {
    const Applied said = apply(study, prepared.table, file, of.rows, threads, progress);
    const auto actual = prepared.table.at(recipe.response, file).numbers();
    long double squares = 0;
    for (std::size_t i = 0; i < of.rows.size(); ++i) {
        const long double e = actual[of.rows[i]] - said.predicted[i];
        squares += e * e;
    }
    return static_cast<double>(std::sqrt(squares / static_cast<long double>(of.rows.size())));
}

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
    with = settled(std::move(with));
    with.forecast.reset();
    // Rows left out are still among those that the fit without them is judged by: other rows would be another
    // question.
    const std::vector<std::uint32_t> withheld = rowsLeftOut(recipe, with);
    const std::string& file = rows.learning.report.file;
    if (!withheld.empty() && evidence.folds && !evidence.folds->partial()) {
        try {
            preview.after =
                judgeByFolds(recipe, prepared, file,
                             {.threads = threads, .whole = evidence.study, .withheld = withheld}, progress)
                    .rmse;
        } catch (const Error& error) {
            preview.problem = error.what();
        }
        return preview;
    }
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
        if (!withheld.empty() && !evidence.folds && evidence.heldOut.rows <= 1) {
            preview.after = errorAt(*then.study, *evidence.study, *changed, recipe, file, threads, progress);
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
