#pragma once
// What a move of a goad would change, before anybody makes it.
#include "study/evaluate.h"

#include <string>

namespace oxgoad {

struct MovePreview {
    /// "typical error over 10 folds, seed 1", "typical error of 300 held-out rows", "… of learning rows".
    std::string measure;
    /// In the response's unit.
    double before = 0, after = 0;
    /// The fit with it is judged by other rows, so that the two are no comparison.
    bool otherRows = false;
    /// Why it cannot be fitted; empty otherwise.
    std::string problem;
};

/// Fits the recipe with the move's edit beside the fit, judged as it is. Requires a move with an edit. Throws
/// Stopped.
MovePreview previewMove(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                        const PreparedRows& prepared, const Move& move, Threads threads, Progress& progress);

/// "typical error 14,162 → 12,480": what a button shows; the problem where it cannot be fitted.
std::string previewText(const MovePreview& preview);

/// Of every move with an edit of every open goad, as JSON: goad, move, measure, before, after, problem.
std::string movesJson(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                      const PreparedRows& prepared, Threads threads, Progress& progress);

} // namespace oxgoad
