#include "study/learning_curve.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "write/csv.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace oxgoad {

namespace {

constexpr int sizes = 8;

double coefficientsOf(const Study& study) {
    const LinearModel* model = study.linear();
    if (!model) return nan;
    return model->penalised ? model->penalised->effectiveDegreesOfFreedom
                            : static_cast<double>(model->fit.rank());
}

/// What the end of the curve says.
std::string meaningOf(const std::vector<LearningPoint>& points) {
    if (points.size() < 2) return "Too few sizes could be judged to say whether more rows would help.";
    const LearningPoint& last = points.back();
    const LearningPoint* half = &points.front();
    for (const LearningPoint& point : points)
        if (2 * point.rows <= last.rows + 1) half = &point;
    const double fell = half->unseen - last.unseen, gap = last.unseen - last.learning;
    std::string text = "From " + countText(half->rows) + " to " + countText(last.rows) +
                       " rows the error of unseen rows " + (fell >= 0 ? "fell by " : "rose by ") +
                       readableText(100 * std::fabs(fell) / half->unseen, 2) + " % to " +
                       readableText(last.unseen, 4) + "; on rows learned from it is " +
                       readableText(last.learning, 4) + ". ";
    const bool falls = fell > last.unseenError || fell > 0.03 * half->unseen;
    if (falls && gap > 0.1 * last.unseen)
        return text + "It still falls and lies above that of the rows learned from: more rows would help, or "
                      "fewer terms.";
    if (gap > 0.1 * last.unseen)
        return text +
               "It lies above that of the rows learned from and hardly falls any more: fewer terms or a "
               "stronger penalty would help more than rows.";
    if (falls) return text + "It still falls: more rows would help.";
    return text + "Both are close and flat: more rows would hardly help; other terms or columns might.";
}

} // namespace

LearningCurve learningCurve(const Recipe& asked, const PreparedRows& prepared, const std::string& file,
                            const std::shared_ptr<const Study>& whole, Threads threads, Progress& progress,
                            const std::function<void(const LearningCurve&)>& soFar) {
    Recipe recipe = asked;
    if (!recipe.judge) recipe.judge = FoldPlan{};
    const auto dealt = rowsToDeal(recipe, prepared, file);
    if (recipe.judge->kind == FoldKind::kFolds)
        recipe.judge->folds =
            std::clamp(recipe.judge->folds, 2, std::max(2, static_cast<int>(dealt.size() / 2)));
    if (recipe.judge->kind == FoldKind::leaveOneOut) recipe.judge = FoldPlan{};
    recipe.judge->repeats = 1;
    const Dealing dealing = dealRows(*recipe.judge, prepared.table, dealt, file);
    std::size_t most = 0;
    for (std::size_t f = 0; f < dealing.size(); ++f)
        most = std::max(most, dealing.fold(f).learning.size());
    LearningCurve curve;
    curve.judgedBy = foldPlanText(*recipe.judge);
    const double coefficients = coefficientsOf(*whole);
    const double least = std::clamp(std::max(10.0, std::isnan(coefficients) ? 0 : 1.5 * coefficients + 2),
                                    2.0, static_cast<double>(most));
    const double first = std::max(least, static_cast<double>(most) / 128);
    std::set<std::size_t> numbers;
    for (int k = 0; k < sizes; ++k)
        numbers.insert(static_cast<std::size_t>(std::llround(
            first * std::pow(static_cast<double>(most) / first, static_cast<double>(k) / (sizes - 1)))));
    std::size_t done = 0;
    // From all rows down: what matters most is there first.
    for (auto rows = numbers.rbegin(); rows != numbers.rend(); ++rows, ++done) {
        ProgressStage stage(progress, static_cast<double>(done) / static_cast<double>(numbers.size()),
                            static_cast<double>(done + 1) / static_cast<double>(numbers.size()));
        try {
            stage.checkpoint(0, "Learning from " + countText(*rows) + " rows a fold");
            const FoldEvidence folds = judgeByFolds(
                recipe, prepared, file, {.threads = threads, .whole = whole, .learnFrom = *rows}, stage);
            if (folds.partial()) throw Stopped{};
            curve.points.push_back({*rows, std::sqrt(folds.foldLearningMse), std::sqrt(folds.meanOfFoldMse),
                                    folds.standardError / (2 * std::sqrt(folds.meanOfFoldMse)),
                                    static_cast<double>(*rows) / coefficients, folds.done});
        } catch (const Stopped&) {
            if (curve.points.empty()) throw;
            curve.stopped = true;
            break;
        } catch (const Error& error) {
            if (*rows == most) throw;
            curve.notSelected +=
                (curve.notSelected.empty() ? "" : "; ") + countText(*rows) + " rows: " + error.message();
            continue;
        }
        std::sort(curve.points.begin(), curve.points.end(),
                  [](const auto& a, const auto& b) { return a.rows < b.rows; });
        curve.says = meaningOf(curve.points);
        if (soFar) soFar(curve);
    }
    return curve;
}

std::string learningCurveCsv(const LearningCurve& curve) {
    CsvWriter out;
    for (const auto* name :
         {"rows", "learning_rmse", "unseen_rmse", "standard_error", "rows_per_coefficient", "folds"})
        out.text(name);
    out.endRow();
    for (const LearningPoint& point : curve.points) {
        out.count(point.rows);
        out.number(point.learning).number(point.unseen).number(point.unseenError);
        out.number(point.rowsPerCoefficient);
        out.count(point.folds);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
