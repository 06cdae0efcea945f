#include "study/judge.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "study/judge_parts.h"
#include "study/rows_used.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

bool learnsAnything(const std::vector<Step>& steps) {
    return std::any_of(steps.begin(), steps.end(), [](const Step& step) {
        const StepKind* kind = findStepKind(step.kind);
        return step.on && kind && kind->learns;
    });
}

void refuseLookBack(const Recipe& recipe, const PreparedRows& prepared, const std::string& file) {
    for (std::size_t i = 0; i < recipe.steps.size(); ++i) {
        if (!looksBackAtResponse(recipe.steps[i], recipe.response)) continue;
        const std::string step = "step " + std::to_string(i + 1) + " looks back at " + recipe.response;
        if (recipe.judge->kind != FoldKind::rollingOrigin)
            throw Error(ErrorCode::badParts,
                        step + ", and rows judged by " + foldPlanText(*recipe.judge) +
                            " would be told by it what they are judged by",
                        {.file = file, .column = recipe.response},
                        "Judge by rolling origin over the column of the time, or switch the step off.");
        if (!prepared.raw.find(recipe.response))
            throw Error(ErrorCode::badParts, step + ", which is made by a step and cannot be hidden from it",
                        {.file = file, .column = recipe.response}, "Switch one of the two steps off.");
    }
}

/// Adds folds up.
class Tally {
public:
    /// `whole` is null where nothing is said of a fit of all rows.
    Tally(const Recipe& recipe, const PreparedRows& prepared, const Study* whole, const Dealing& dealing)
        : m_recipe(recipe), m_dealing(dealing) {
        m_found.plan = *recipe.judge;
        m_found.asked = dealing.size();
        m_found.withoutValue = dealing.withoutValue;
        const std::size_t n = prepared.table.rows();
        m_sum.assign(n, 0);
        m_squares.assign(n, 0);
        m_times.assign(n, 0);
        m_found.foldOf.assign(n, -1);
        const auto response = prepared.table.at(recipe.response, {}).numbers();
        if (!whole) return;
        const BoundModel bound = whole->bind(prepared.table, {});
        long double squares = 0;
        for (std::size_t i = 0; i < whole->rows.size(); ++i) {
            const auto row = whole->rows[i];
            const double fitted = bound.toResponseScale(whole->trained.fitted[static_cast<Index>(i)], row);
            m_wholeActual.push_back(response[row]);
            m_wholeFitted.push_back(fitted);
            squares += (static_cast<long double>(response[row]) - fitted) *
                       (static_cast<long double>(response[row]) - fitted);
        }
        m_found.learningMse = static_cast<double>(squares / static_cast<long double>(whole->rows.size()));
    }

    void add(const FoldOutcome& fold) {
        long double squares = 0, absolute = 0, aboutMean = 0, sum = 0;
        for (std::size_t i = 0; i < fold.rows.size(); ++i) {
            const long double e = static_cast<long double>(fold.actual[i]) - fold.predicted[i];
            const long double d = static_cast<long double>(fold.actual[i]) - fold.learningMean;
            sum += fold.actual[i];
            squares += e * e;
            absolute += std::fabs(e);
            aboutMean += d * d;
            const auto row = fold.rows[i];
            m_sum[row] += fold.predicted[i];
            m_squares[row] += static_cast<double>(e * e);
            ++m_times[row];
            if (fold.repeat == 0 && m_found.plan.kind != FoldKind::bootstrap)
                m_found.foldOf[row] = static_cast<std::int32_t>(m_found.done);
        }
        m_total += squares;
        m_absolute += absolute;
        m_aboutMean += aboutMean;
        m_judged += fold.rows.size();
        const auto n = static_cast<double>(fold.rows.size());
        const double mse = n > 0 ? static_cast<double>(squares) / n : nan;
        m_mse.push_back(mse);
        m_repeatOf.push_back(fold.repeat);
        m_rows.push_back(fold.rows.size());
        m_wholeMse.push_back(fold.wholeMse);
        m_learningMse += fold.learningMse;
        if (m_found.plan.kind != FoldKind::leaveOneOut)
            m_found.each.push_back({fold.name, fold.repeat, fold.rows.size(), mse, std::sqrt(mse),
                                    n > 0 ? static_cast<double>(absolute) / n : nan,
                                    n > 0 ? static_cast<double>(sum) / n : nan, fold.chosen, fold.settings});
        if (fold.repeat == 0 && !fold.rows.empty()) {
            m_firstSquares += squares;
            if (fold.squaresWithout.empty()) m_withoutKnown = false;
            m_without.resize(std::max(m_without.size(), fold.squaresWithout.size()), 0);
            for (std::size_t t = 0; t < fold.squaresWithout.size(); ++t)
                m_without[t] += fold.squaresWithout[t];
        }
        for (const std::string& name : fold.chosen)
            ++m_chosen[name];
        m_found.unseen.insert(m_found.unseen.end(), fold.unseen.begin(), fold.unseen.end());
        m_found.unpredicted += fold.unpredicted;
        ++m_found.done;
    }

    FoldEvidence result() const {
        FoldEvidence found = m_found;
        std::set<std::uint32_t> unseen;
        for (const UnseenLevel& level : found.unseen)
            unseen.insert(level.rows.begin(), level.rows.end());
        found.unseenRows = unseen.size();
        found.outOfFold.assign(m_sum.size(), nan);
        long double byRow = 0;
        for (std::size_t i = 0; i < m_sum.size(); ++i)
            if (m_times[i] > 0) {
                ++found.rows;
                found.outOfFold[i] = m_sum[i] / m_times[i];
                byRow += m_squares[i] / m_times[i];
            }
        const auto judged = static_cast<long double>(m_judged);
        const bool draws = found.plan.kind == FoldKind::bootstrap;
        found.mse = m_judged == 0 ? nan
                    : draws       ? static_cast<double>(byRow / static_cast<long double>(found.rows))
                                  : static_cast<double>(m_total / judged);
        found.rmse = std::sqrt(found.mse);
        found.foldLearningMse =
            found.done > 0 ? static_cast<double>(m_learningMse / static_cast<long double>(found.done)) : nan;
        found.mae = m_judged > 0 ? static_cast<double>(m_absolute / judged) : nan;
        found.rSquared = m_aboutMean > 0 ? static_cast<double>(1 - m_total / m_aboutMean) : nan;
        addSpread(found);
        if (m_withoutKnown && m_firstSquares > 0)
            for (const double squares : m_without)
                found.errorWithout.push_back(std::sqrt(squares / static_cast<double>(m_firstSquares)) - 1);
        found.adjustedMse = adjusted(found);
        if (draws) found.bootstrap = bootstrapErrors(found.learningMse, found.mse, noInformation());
        if (m_recipe.choose)
            for (const Term& term : m_recipe.terms) {
                const auto times = m_chosen.find(termName(term));
                found.chosenShares.emplace_back(termName(term), times == m_chosen.end()
                                                                    ? 0
                                                                    : static_cast<double>(times->second) /
                                                                          static_cast<double>(found.done));
            }
        return found;
    }

private:
    void addSpread(FoldEvidence& found) const {
        long double sum = 0, within = 0;
        std::size_t folds = 0, repeats = 0;
        const std::size_t every = m_dealing.foldsPerRepeat();
        for (std::size_t begin = 0; begin < m_mse.size(); begin += every) {
            const std::size_t end = std::min(begin + every, m_mse.size());
            long double squared = 0, mean = 0;
            double rows = 0, k = 0;
            for (std::size_t f = begin; f < end; ++f) {
                if (std::isnan(m_mse[f])) continue;
                mean += m_mse[f];
                squared += m_mse[f] * static_cast<long double>(m_rows[f]);
                rows += static_cast<double>(m_rows[f]);
                ++k;
            }
            if (k == 0) continue;
            sum += mean;
            folds += static_cast<std::size_t>(k);
            mean /= k;
            long double squares = 0;
            for (std::size_t f = begin; f < end; ++f)
                if (!std::isnan(m_mse[f])) squares += (m_mse[f] - mean) * (m_mse[f] - mean);
            const long double variance = k > 1 ? squares / (k - 1) / k : nan;
            within += variance;
            ++repeats;
            const double mse = static_cast<double>(squared / rows);
            if (end - begin == every && found.plan.kind != FoldKind::bootstrap)
                found.repeats.push_back({found.plan.seed + begin / every, mse, std::sqrt(mse),
                                         static_cast<double>(std::sqrt(variance))});
        }
        found.meanOfFoldMse = folds > 0 ? static_cast<double>(sum / static_cast<long double>(folds)) : nan;
        found.standardError =
            repeats > 0 ? static_cast<double>(std::sqrt(within / static_cast<long double>(repeats))) : nan;
        // Draws take all rows again and again: their spread says how many draws there were, not how many
        // rows.
        found.rmseError = found.plan.kind == FoldKind::bootstrap
                              ? nan
                              : found.standardError / (2 * std::sqrt(found.meanOfFoldMse));
        long double mean = 0, squares = 0;
        const auto r = static_cast<long double>(found.repeats.size());
        for (const RepeatScore& repeat : found.repeats)
            mean += repeat.rmse / r;
        for (const RepeatScore& repeat : found.repeats)
            squares += (repeat.rmse - mean) * (repeat.rmse - mean);
        found.spreadOverRepeats = r > 1 ? static_cast<double>(std::sqrt(squares / (r - 1))) : nan;
    }

    double adjusted(const FoldEvidence& found) const {
        const FoldKind kind = found.plan.kind;
        if (kind == FoldKind::rollingOrigin || kind == FoldKind::bootstrap || m_judged == 0) return nan;
        long double fallen = 0;
        for (std::size_t f = 0; f < m_wholeMse.size(); ++f)
            if (m_rows[f] > 0) fallen += m_wholeMse[f] * static_cast<long double>(m_rows[f]);
        return static_cast<double>(found.mse + found.learningMse -
                                   fallen / static_cast<long double>(m_judged));
    }

    /// Mean over all pairs of rows of the squared distance from one's response to the other's prediction.
    double noInformation() const {
        const auto n = static_cast<long double>(m_wholeActual.size());
        long double y = 0, f = 0, yy = 0, ff = 0;
        for (std::size_t i = 0; i < m_wholeActual.size(); ++i) {
            y += m_wholeActual[i] / n;
            f += m_wholeFitted[i] / n;
        }
        for (std::size_t i = 0; i < m_wholeActual.size(); ++i) {
            yy += (m_wholeActual[i] - y) * (m_wholeActual[i] - y) / n;
            ff += (m_wholeFitted[i] - f) * (m_wholeFitted[i] - f) / n;
        }
        return static_cast<double>(yy + ff + (y - f) * (y - f));
    }

    const Recipe& m_recipe;
    const Dealing& m_dealing;
    FoldEvidence m_found;
    std::vector<double> m_sum, m_squares;
    std::vector<std::uint32_t> m_times;
    std::vector<double> m_wholeActual, m_wholeFitted;
    long double m_total = 0, m_absolute = 0, m_aboutMean = 0;
    std::size_t m_judged = 0;
    /// Of the first repeat: squared errors with all terms, and without each.
    long double m_firstSquares = 0;
    std::vector<double> m_without;
    bool m_withoutKnown = true;
    std::vector<double> m_mse, m_wholeMse;
    long double m_learningMse = 0;
    std::vector<std::size_t> m_repeatOf, m_rows;
    std::map<std::string, std::size_t> m_chosen;
};

class FoldJudge {
public:
    FoldJudge(const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
              const JudgeOptions& options, Progress& progress)
        : m_recipe(recipe), m_prepared(prepared), m_file(file), m_options(options), m_progress(progress),
          m_lookBack(
              std::any_of(recipe.steps.begin(), recipe.steps.end(),
                          [&](const Step& step) { return looksBackAtResponse(step, recipe.response); })),
          m_steps(learnsAnything(recipe.steps) || m_lookBack),
          m_response(prepared.table.at(recipe.response, file).numbers()) {}

    FoldEvidence run() {
        m_progress.checkpoint(0, "Dealing folds");
        refuseLookBack(m_recipe, m_prepared, m_file);
        const Dealing dealing =
            dealRows(*m_recipe.judge, m_prepared.table, rowsToDeal(m_recipe, m_prepared, m_file), m_file);
        m_dealing = &dealing;
        m_whole = m_options.whole;
        double from = 0.02;
        if (!some() && (!m_whole || m_whole->rows.empty())) {
            ProgressStage stage(m_progress, from, 0.1);
            const RowsUsed used = rowsUsed(m_recipe, m_prepared, m_file);
            m_whole = learn(m_recipe, m_prepared.table, m_prepared.steps, m_file, used.learning,
                            m_options.threads, stage);
            from = 0.1;
        }
        Tally tally(m_recipe, m_prepared, some() ? nullptr : m_whole.get(), dealing);
        const auto take = [&](const FoldOutcome& outcome) {
            tally.add(outcome);
            tellSoFar(tally);
            return !m_progress.stopRequested();
        };
        std::size_t done = 0;
        try {
            ProgressStage stage(m_progress, from, 1);
            if (!refits() && !m_steps && LeastSquaresFolds::applies(m_recipe, *m_whole)) {
                LeastSquaresFolds folds(m_recipe, m_prepared.table, m_file, *m_whole, dealing,
                                        m_options.threads, stage);
                folds.judge([&](std::size_t fold) { return judgeOne(fold, m_options.threads, stage); },
                            [&](const FoldOutcome& outcome) {
                                ++done;
                                return take(outcome);
                            },
                            stage);
            } else {
                m_inBasis = !refits() && m_recipe.judge->kind != FoldKind::bootstrap &&
                            LeastSquaresFolds::applies(m_recipe, *m_whole);
                // Those that need no fit of their own run beside each other, each in one thread, and so do
                // those whose fit is a long row of small steps.
                const std::size_t beside =
                    m_inBasis || choosesInLittleRoom() ? m_options.threads.resolved() : 1;
                const auto all = static_cast<double>(dealing.size());
                const std::size_t last =
                    some() ? std::min(dealing.size(), m_options.first + m_options.count) : dealing.size();
                bool going = true;
                for (std::size_t begin = some() ? m_options.first : 0; going && begin < last;
                     begin += beside) {
                    const std::size_t end = std::min(begin + beside, last);
                    stage.checkpoint(static_cast<double>(begin) / all, "Judging, fold " +
                                                                           countText(begin + 1) + " of " +
                                                                           countText(dealing.size()));
                    std::vector<std::optional<FoldOutcome>> outcomes(end - begin);
                    if (beside > 1)
                        parallelFor(end - begin, m_options.threads, [&](std::size_t i) {
                            ProgressStage own(stage, static_cast<double>(begin) / all,
                                              static_cast<double>(end) / all);
                            outcomes[i] =
                                m_inBasis ? judgeInBasis(begin + i, own) : judgeOne(begin + i, {1}, own);
                        });
                    for (std::size_t fold = begin; going && fold < end; ++fold) {
                        ProgressStage own(stage, static_cast<double>(fold) / all,
                                          static_cast<double>(fold + 1) / all);
                        if (!outcomes[fold - begin])
                            outcomes[fold - begin] = judgeOne(fold, m_options.threads, own);
                        ++done;
                        going = take(*outcomes[fold - begin]);
                    }
                }
            }
        } catch (const Stopped&) {
            if (done == 0) throw; // nothing is there to be kept
        }
        return tally.result();
    }

private:
    /// Candidates of all threads together, and what is made of them, in about a gigabyte.
    bool choosesInLittleRoom() const {
        constexpr double most = 1e9;
        return m_recipe.choose && 16.0 * static_cast<double>(m_recipe.terms.size()) *
                                          static_cast<double>(m_prepared.table.rows()) *
                                          static_cast<double>(m_options.threads.resolved()) <
                                      most;
    }
    bool some() const { return m_options.count > 0; }
    bool refits() const {
        return some() || m_options.refit || m_options.learnFrom > 0 || !m_options.withheld.empty();
    }

    /// Its learning rows as many as are asked for.
    Fold foldAt(std::size_t number) const {
        Fold fold = m_dealing->fold(number);
        const auto& withheld = m_options.withheld;
        if (!withheld.empty())
            std::erase_if(fold.learning, [&](std::uint32_t row) {
                return std::find(withheld.begin(), withheld.end(), row) != withheld.end();
            });
        if (m_options.learnFrom == 0 || m_options.learnFrom >= fold.learning.size()) return fold;
        RandomStream random(m_recipe.judge->seed + number, "fewer learning rows");
        for (std::size_t i = fold.learning.size() - 1; i > 0; --i)
            std::swap(fold.learning[i], fold.learning[random.below(i + 1)]);
        fold.learning.resize(m_options.learnFrom);
        std::sort(fold.learning.begin(), fold.learning.end());
        return fold;
    }

    /// Adding up takes as long as there are rows, so it is done a few times a second only.
    void tellSoFar(const Tally& tally) {
        if (!m_options.soFar) return;
        const auto now = std::chrono::steady_clock::now();
        if (now - m_told < std::chrono::milliseconds(150)) return;
        m_told = now;
        m_options.soFar(tally.result());
    }

    /// The rows as the fold sees them: its steps learned from its learning rows alone.
    PreparedRows preparedFor(const Fold& fold, Progress& progress) const {
        PreparedRows own;
        own.weight = m_prepared.weight;
        own.weightless = m_prepared.weightless;
        const std::size_t n = m_prepared.table.rows();
        std::vector<std::uint8_t> learns(n, 0);
        for (const auto row : fold.learning)
            learns[row] = 1;
        std::vector<LeftOutBy> leftOut = m_prepared.leftOut;
        if (m_steps) {
            std::vector<LeftOutBy> byHand(n, 0);
            for (const LeftOutRow& row : m_recipe.leaveOut)
                byHand[row.row - 1] = -1;
            Prepared done = learnSteps(hidden(fold), m_recipe.steps, byHand, learns, m_file, progress);
            own.table = m_lookBack ? done.table.withColumn(m_prepared.table.at(m_recipe.response, m_file))
                                   : std::move(done.table);
            leftOut = std::move(done.leftOut);
            own.steps = std::move(done.outcomes);
        } else {
            own.table = m_prepared.table;
            own.steps = m_prepared.steps;
        }
        own.parts.assign(n, Part::learning);
        own.leftOut.assign(n, -1); // what is in no part of the fold
        for (const auto row : fold.learning)
            own.leftOut[row] = leftOut[row];
        for (const auto row : fold.judged) {
            own.parts[row] = Part::heldOut;
            own.leftOut[row] = leftOut[row];
        }
        return own;
    }

    /// The rows as read, without the responses that the fold's model cannot know, where a step looks at them.
    Table hidden(const Fold& fold) const {
        if (!m_lookBack) return m_prepared.raw;
        const Column& column = m_prepared.raw.at(m_recipe.response, m_file);
        std::vector<double> values(column.size(), nan);
        for (const auto row : fold.learning)
            values[row] = column.numbers()[row];
        return m_prepared.raw.withColumn(Column::ofNumbers(column.name(), std::move(values)));
    }

    /// None where the fold needs a fit of its own.
    std::optional<FoldOutcome> judgeInBasis(std::size_t number, Progress& progress) const {
        const Fold fold = m_dealing->fold(number);
        try {
            const PreparedRows own = preparedFor(fold, progress);
            const RowsUsed used = rowsUsed(m_recipe, own, m_file);
            auto out = foldOfLeastSquares(m_recipe, own.table, m_file, *m_whole, used, progress);
            if (!out) return out;
            out->name = fold.name;
            out->repeat = fold.repeat;
            out->settings = m_recipe.estimator;
            for (const Term& term : m_recipe.terms)
                out->chosen.push_back(termName(term));
            out->unpredicted += fold.judged.size() - used.heldOut.size();
            return out;
        } catch (const Error&) { // said by the fit, with the fold's name
            return std::nullopt;
        }
    }

    FoldOutcome judgeOne(std::size_t number, Threads threads, Progress& progress) const {
        const Fold fold = foldAt(number);
        const bool draws = m_recipe.judge->kind == FoldKind::bootstrap;
        try {
            ProgressStage preparing(progress, 0, 0.3);
            const PreparedRows own = preparedFor(fold, preparing);
            RowsUsed used = rowsUsed(m_recipe, own, m_file);
            std::vector<std::uint32_t> learning = used.learning;
            if (draws) { // as often as they were drawn
                std::vector<std::uint8_t> in(own.table.rows(), 0);
                for (const auto row : learning)
                    in[row] = 1;
                learning = fold.learning;
                std::erase_if(learning, [&](std::uint32_t row) { return in[row] == 0; });
            }
            FirmStage learns(progress, 0.3, 0.9); // a fold by half of its search is no fold
            const auto study = learn(m_recipe, own.table, own.steps, m_file, std::move(learning), threads,
                                     learns, {}, LearnFor::judging);
            return judged(fold, own, *study, used, draws);
        } catch (const Error& error) {
            throw Error(error.code(), "fold " + fold.name + ": " + error.message(),
                        {.file = m_file, .column = error.where().column},
                        error.remedy() + (error.remedy().empty() ? "" : " ") +
                            "Fewer folds, or folds in proportion, learn from more alike rows.");
        }
    }

    FoldOutcome judged(const Fold& fold, const PreparedRows& own, const Study& study, const RowsUsed& used,
                       bool draws) const {
        FoldOutcome out;
        out.name = fold.name;
        out.repeat = fold.repeat;
        out.settings = study.settings;
        for (std::size_t t = 0; t < m_recipe.terms.size(); ++t)
            if (study.has(t)) out.chosen.push_back(termName(m_recipe.terms[t]));
        const auto response = own.table.at(m_recipe.response, m_file).numbers();
        long double sum = 0;
        for (const auto row : study.rows)
            sum += response[row];
        out.learningMean = static_cast<double>(sum / static_cast<long double>(study.rows.size()));
        std::vector<double> predicted = predict(study, own.table, used.heldOut, fold.name, &out.unseen);
        out.unpredicted = fold.judged.size() - used.heldOut.size();
        for (std::size_t i = 0; i < predicted.size(); ++i) {
            if (std::isnan(predicted[i])) {
                ++out.unpredicted;
                continue;
            }
            out.rows.push_back(used.heldOut[i]);
            out.actual.push_back(response[used.heldOut[i]]);
            out.predicted.push_back(predicted[i]);
        }
        out.wholeMse = draws || some() || m_options.learnFrom > 0
                           ? nan
                           : wholeMse(study, own.table, used, predicted, response);
        const BoundModel bound = study.bind(own.table, m_file);
        long double learned = 0;
        for (std::size_t i = 0; i < study.rows.size(); ++i) {
            const auto row = study.rows[i];
            const long double e = static_cast<long double>(response[row]) -
                                  bound.toResponseScale(study.trained.fitted[static_cast<Index>(i)], row);
            learned += e * e;
        }
        out.learningMse = static_cast<double>(learned / static_cast<long double>(study.rows.size()));
        return out;
    }

    double wholeMse(const Study& study, const Table& table, const RowsUsed& used,
                    const std::vector<double>& judged, std::span<const double> response) const {
        std::vector<double> at(table.rows(), nan);
        const BoundModel bound = study.bind(table, m_file);
        for (std::size_t i = 0; i < study.rows.size(); ++i)
            at[study.rows[i]] =
                bound.toResponseScale(study.trained.fitted[static_cast<Index>(i)], study.rows[i]);
        for (std::size_t i = 0; i < used.heldOut.size(); ++i)
            at[used.heldOut[i]] = judged[i];
        std::vector<std::uint32_t> others;
        for (const auto row : m_whole->rows)
            if (std::isnan(at[row])) others.push_back(row);
        const std::vector<double> more = predict(study, table, others, {}, nullptr);
        for (std::size_t i = 0; i < others.size(); ++i)
            at[others[i]] = more[i];
        long double squares = 0, count = 0;
        for (const auto row : m_whole->rows) {
            if (std::isnan(at[row])) continue;
            const long double e = static_cast<long double>(response[row]) - at[row];
            squares += e * e;
            ++count;
        }
        return count > 0 ? static_cast<double>(squares / count) : nan;
    }

    /// In the response's unit; NaN where a value is missing or a term is not defined. A level that the study
    /// has not learned is predicted as the mean over those that it has, each as often as it learned it.
    std::vector<double> predict(const Study& study, const Table& table, std::span<const std::uint32_t> rows,
                                const std::string& fold, std::vector<UnseenLevel>* unseen) const {
        const BoundModel bound = study.bind(table, m_file);
        std::vector<double> predicted(rows.size(), nan);
        std::vector<std::uint32_t> complete, places;
        std::map<std::vector<std::size_t>, std::vector<std::size_t>> lacking; // unseen inputs: places
        for (std::size_t i = 0; i < rows.size(); ++i) {
            if (bound.complete(rows[i])) {
                complete.push_back(rows[i]);
                places.push_back(static_cast<std::uint32_t>(i));
                continue;
            }
            std::vector<std::size_t> inputs;
            bool other = false;
            for (std::size_t k = 0; k < study.inputs.size(); ++k) {
                if (!std::isnan(bound.inputs().value(k, rows[i]))) continue;
                const Column& column = table.at(study.inputs[k].name, m_file);
                if (!study.inputs[k].factor || column.isMissing(rows[i])) {
                    other = true;
                    continue;
                }
                inputs.push_back(k);
            }
            if (!other && !inputs.empty()) lacking[inputs].push_back(i);
        }
        const std::vector<double> said = bound.predict(complete, m_options.threads, m_progress);
        for (std::size_t i = 0; i < complete.size(); ++i)
            predicted[places[i]] = bound.toResponseScale(said[i], complete[i]);
        for (const auto& [inputs, at] : lacking) {
            std::map<std::vector<double>, double> levels; // those learned together, and how often
            for (const auto row : study.rows) {
                std::vector<double> together;
                for (const std::size_t k : inputs)
                    together.push_back(bound.inputs().value(k, row));
                ++levels[together];
            }
            MatrixXd block(static_cast<Index>(levels.size()), static_cast<Index>(study.inputs.size()));
            MatrixXd own(1, block.cols());
            VectorXd weights(block.rows());
            for (const std::size_t i : at) {
                const std::uint32_t row = rows[i];
                bound.inputs().fill({&row, 1}, own);
                Index line = 0;
                for (const auto& [together, times] : levels) {
                    block.row(line) = own.row(0);
                    for (std::size_t k = 0; k < inputs.size(); ++k)
                        block(line, static_cast<Index>(inputs[k])) = together[k];
                    weights[line++] = times;
                }
                predicted[i] = bound.toResponseScale(
                    study.rule.valuesOf(*study.model, block).dot(weights) / weights.sum(), row);
                if (unseen)
                    for (const std::size_t k : inputs)
                        tell(*unseen, fold, study.inputs[k].name,
                             table.at(study.inputs[k].name, m_file).cellText(row), row);
            }
        }
        return predicted;
    }

    static void tell(std::vector<UnseenLevel>& unseen, const std::string& fold, const std::string& column,
                     const std::string& level, std::uint32_t row) {
        for (UnseenLevel& known : unseen)
            if (known.column == column && known.level == level) {
                known.rows.push_back(row);
                return;
            }
        unseen.push_back({fold, column, level, {row}});
    }

    const Recipe& m_recipe;
    const PreparedRows& m_prepared;
    const std::string& m_file;
    const JudgeOptions& m_options;
    Progress& m_progress;
    bool m_lookBack, m_steps;
    /// Folds can be had by sums in the basis of the whole fit, on their own tables.
    bool m_inBasis = false;
    std::span<const double> m_response;
    std::shared_ptr<const Study> m_whole;
    std::chrono::steady_clock::time_point m_told = std::chrono::steady_clock::now();
    const Dealing* m_dealing = nullptr;
};

} // namespace

BootstrapErrors bootstrapErrors(double learningMse, double outOfBag, double noInformation) {
    BootstrapErrors e;
    e.outOfBag = outOfBag;
    e.noInformation = noInformation;
    e.plain632 = 0.368 * learningMse + 0.632 * outOfBag;
    const double bounded = std::min(outOfBag, noInformation);
    e.overfitting = bounded > learningMse && noInformation > learningMse
                        ? (bounded - learningMse) / (noInformation - learningMse)
                        : 0;
    e.weight = 0.632 / (1 - 0.368 * e.overfitting);
    e.plus632 = (1 - e.weight) * learningMse + e.weight * bounded;
    return e;
}

void requireJudgeable(const Recipe& recipe, const PreparedRows& prepared, const std::string& file) {
    refuseLookBack(recipe, prepared, file);
    (void)dealRows(*recipe.judge, prepared.table, rowsToDeal(recipe, prepared, file), file);
}

std::vector<std::uint32_t> rowsToDeal(const Recipe& recipe, const PreparedRows& prepared,
                                      const std::string& file) {
    const Column& response = prepared.table.at(recipe.response, file);
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < prepared.table.rows(); ++i)
        if (prepared.parts[i] == Part::learning && prepared.leftOut[i] >= 0 &&
            (prepared.weightless.empty() || prepared.weightless[i] == 0) && !response.isMissing(i))
            rows.push_back(static_cast<std::uint32_t>(i));
    return rows;
}

bool judgesInOnePass(const Recipe& recipe, const Study& whole) {
    return recipe.judge && !learnsAnything(recipe.steps) && LeastSquaresFolds::applies(recipe, whole);
}

FoldEvidence judgeByFolds(const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
                          const JudgeOptions& options, Progress& progress) {
    return FoldJudge(recipe, prepared, file, options, progress).run();
}

} // namespace oxgoad
