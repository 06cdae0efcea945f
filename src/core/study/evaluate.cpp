#include "study/evaluate.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "forecast/forecast.h"
#include "study/fold_evidence.h"
#include "study/forecast_answers.h"
#include "study/importance.h"
#include "study/input_evidence.h"
#include "study/linear_evidence.h"
#include "study/reach_measures.h"
#include "study/step_by_step.h"
#include "study/tune.h"
#include "table/same_table.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

namespace {

using Eigen::Index;

/// Rows that are judged: what was, and what the model says.
struct Judged {
    std::vector<std::uint32_t> rows;
    std::vector<double> actual;
    Applied applied;
};

/// One evaluation, step by step; each step reads what the steps before it left.
class Evaluation {
public:
    Evaluation(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
               const EvaluateOptions& options, Progress& progress)
        : m_recipe(recipe), m_rows(rows), m_prepared(prepared), m_table(prepared.table),
          m_file(rows.learning.report.file), m_options(options), m_threads(options.threads),
          m_progress(progress) {}

    Evidence run() {
        m_progress.checkpoint(0, "Sorting rows");
        takeResponse();
        m_used = rowsUsed(m_recipe, m_prepared, m_file);
        takeStudy();
        judge();
        fillRows();
        describe();
        if (m_recipe.forecast && m_rows.forecast && m_prepared.forecast) forecast();
        describePreparation();
        return std::move(m_evidence);
    }

private:
    void takeResponse() {
        const Column& column = m_table.at(m_recipe.response, m_file);
        if (column.kind() != ColumnKind::number)
            throw Error(ErrorCode::wrongType,
                        "the response must be a number, and this is a " +
                            std::string(kindName(column.kind())) + " column",
                        {.file = m_file, .column = column.name()},
                        "Choose another response, or read the column as a number.");
        if (column.missingCount() == column.size())
            throw Error(ErrorCode::tooFewRows, "all values of the response are missing",
                        {.file = m_file, .column = column.name()}, "Choose another response.");
        m_response = column.numbers();
        m_evidence.response = m_recipe.response;
        m_evidence.level = m_recipe.level;
        m_evidence.rowsRead = m_table.rows();
        const ReadReport& report = m_rows.learning.report;
        constexpr std::size_t listed = 20;
        m_evidence.faultCount = report.faultCount;
        m_evidence.faultsByColumn = report.faultsByColumn;
        m_evidence.faults.assign(report.faults.begin(),
                                 report.faults.begin() +
                                     static_cast<std::ptrdiff_t>(std::min(listed, report.faults.size())));
        m_evidence.intercept = m_recipe.intercept;
        if (m_recipe.terms.empty() && !m_recipe.intercept)
            throw Error(ErrorCode::badTerm, "the model has neither a term nor a constant", {}, "Add a term.");
        for (const Term& term : m_recipe.terms)
            for (const TermPart& part : term.parts)
                if (part.column == m_recipe.response)
                    throw Error(ErrorCode::badTerm, "the response cannot explain itself",
                                {.column = part.column}, "Take " + termName(term) + " out of the terms.");
    }

    /// Learns, or takes what was learned of the same rows.
    void takeStudy() {
        const Study* known = m_options.study.get();
        if (known && learnsTheSame(known->recipe, m_recipe) && known->rows == m_used.learning) {
            m_evidence.study = m_options.study;
        } else {
            ProgressStage stage(m_progress, 0.05, 0.7);
            m_evidence.study = learn(m_recipe, m_table, m_prepared.steps, m_file, m_used.learning, m_threads,
                                     stage, m_used.heldOut);
        }
        m_bound.emplace(study().bind(m_table, m_file));
        m_working.emplace(m_recipe, m_table, m_file);
        m_evidence.logResponse = m_recipe.logResponse;
        m_evidence.smearing = study().rule.link.smearing;
        m_evidence.weight = study().rule.weight;
        m_evidence.offset = study().rule.offset;
        m_evidence.says = study().model->says();
        m_evidence.missingByColumn = m_used.missingByColumn;
        m_evidence.rowsLeftOut = m_used.leftOut;
        m_evidence.rowsMissing = m_used.missing;
        m_evidence.rowsWeightless = m_used.allWeightless;
    }

    const Study& study() const { return *m_evidence.study; }

    /// Rows with missing values are gone by now; what is left to ask is whether terms are defined there, and
    /// whether judged rows have levels that were learned.
    std::size_t dropIncomplete(std::vector<std::uint32_t>& rows) const {
        const bool factors = std::any_of(study().inputs.begin(), study().inputs.end(),
                                         [](const Input& input) { return input.factor; });
        if (!factors && study().model->definedWhereInputsAre()) return 0;
        return std::erase_if(rows, [&](std::uint32_t row) { return !m_bound->complete(row); });
    }

    Judged judged(std::vector<std::uint32_t> rows) {
        Judged out;
        out.rows = std::move(rows);
        out.applied = apply(study(), m_table, m_file, out.rows, m_threads, m_progress);
        for (const auto row : out.rows)
            out.actual.push_back(m_response[row]);
        return out;
    }

    void judge() {
        m_evidence.heldOutUnpredicted = dropIncomplete(m_used.heldOut);
        dropIncomplete(m_used.test);
        dropIncomplete(m_used.weightless);
        m_evidence.rowsLearning = m_used.learning.size();
        m_evidence.rowsHeldOut = m_used.heldOut.size();
        m_evidence.rowsTest = m_used.test.size();
        std::vector<double> actual;
        long double sum = 0;
        for (std::size_t i = 0; i < m_used.learning.size(); ++i) {
            const auto row = m_used.learning[i];
            actual.push_back(m_response[row]);
            sum += m_response[row];
            m_fitted.push_back(m_bound->toResponseScale(study().trained.fitted[static_cast<Index>(i)], row));
            m_learned.push_back(m_working->at(row));
        }
        m_mean = static_cast<double>(sum / static_cast<long double>(actual.size()));
        m_evidence.learning = score(actual, m_fitted, m_mean);
        scoreLeftOneOut();
        m_heldOut = judged(m_used.heldOut);
        m_evidence.heldOut = score(m_heldOut.actual, m_heldOut.applied.predicted, m_mean);
        scoreKept();
        m_weightless = judged(m_used.weightless);
        if (!m_options.lookAtTest || m_used.test.empty()) return;
        m_test = judged(m_used.test);
        m_bare = std::exchange(m_evidence.study, withTestErrors(m_evidence.study, m_prepared, m_used.test,
                                                                m_threads, m_progress));
        m_evidence.test = score(m_test.actual, m_test.applied.predicted, m_mean);
    }

    void scoreLeftOneOut() {
        const TrainingResults& trained = study().trained;
        if (trained.unseen.empty()) return;
        std::vector<double> actual, predicted;
        for (std::size_t i = 0; i < trained.unseen.size(); ++i) {
            const auto row = m_used.learning[trained.unseenRows[i]];
            actual.push_back(m_response[row]);
            predicted.push_back(
                m_bound->toResponseScale(m_learned[trained.unseenRows[i]] - trained.unseen[i], row));
        }
        m_evidence.leftOneOut = score(actual, predicted, m_mean);
    }

    /// The held-out score without rows that a step would have left out of learning.
    void scoreKept() {
        std::vector<double> actual, predicted;
        for (std::size_t i = 0; i < m_heldOut.rows.size(); ++i) {
            if (m_prepared.leftOut[m_heldOut.rows[i]] != 0) continue;
            actual.push_back(m_heldOut.actual[i]);
            predicted.push_back(m_heldOut.applied.predicted[i]);
        }
        if (actual.size() < m_heldOut.rows.size()) m_evidence.heldOutKept = score(actual, predicted, m_mean);
    }

    void fillRows() {
        m_progress.checkpoint(0.75, "Diagnosing rows");
        RowEvidence& rows = m_evidence.rows;
        rows.state = m_used.state;
        rows.leftOutBy = m_prepared.leftOut;
        rows.actual.assign(m_response.begin(), m_response.end());
        rows.fitted.assign(m_table.rows(), nan);
        rows.residual.assign(m_table.rows(), nan);
        for (std::size_t i = 0; i < m_used.learning.size(); ++i) {
            rows.fitted[m_used.learning[i]] = m_fitted[i];
            rows.residual[m_used.learning[i]] = study().trained.residuals[static_cast<Index>(i)];
        }
        for (const Judged* judged : {&m_heldOut, &m_test, &m_weightless})
            for (std::size_t i = 0; i < judged->rows.size(); ++i) {
                const auto row = judged->rows[i];
                rows.fitted[row] = judged->applied.predicted[i];
                const Link& link = study().rule.link;
                rows.residual[row] = link.family
                                         ? link.residual(m_working->asRead(row),
                                                         judged->applied.said[i] + m_working->offset(row))
                                         : m_working->at(row) - judged->applied.said[i];
            }
        // The response of locked test rows is not shown either.
        if (m_test.rows.empty())
            for (const auto row : m_used.test)
                rows.actual[row] = nan;
    }

    void describe() {
        ProgressStage stage(m_progress, 0.75, 0.9);
        const Evidence* before = m_options.before;
        if (before && before->study == m_evidence.study) { // the same model of the same rows
            m_evidence.linear = before->linear;
            m_evidence.inputs = before->inputs;
            if (m_evidence.linear && before->level != m_recipe.level)
                setLevel(*m_evidence.linear, m_recipe.level);
            return;
        }
        if (study().linear()) {
            m_evidence.linear = describeLinear({.recipe = m_recipe,
                                                .study = study(),
                                                .table = m_table,
                                                .file = m_file,
                                                .working = m_learned,
                                                .heldOut = m_heldOut.rows,
                                                .heldOutActual = m_heldOut.actual,
                                                .heldOutRmse = m_evidence.heldOut.rmse,
                                                .threads = m_threads,
                                                .progress = stage});
            return;
        }
        const bool any = !m_heldOut.rows.empty();
        std::vector<double> actual = m_heldOut.actual;
        if (!any)
            for (const auto row : m_used.learning)
                actual.push_back(m_response[row]);
        m_evidence.inputs = describeInputs(study(), m_table, m_file, any ? m_heldOut.rows : m_used.learning,
                                           actual, m_threads, stage);
    }

    void forecast() {
        m_progress.checkpoint(0.9, "Forecasting");
        ProgressStage stage(m_progress, 0.9, 0.95);
        const std::vector<Term> terms = study().terms();
        const Eigen::VectorXd& residuals = study().trained.residuals;
        const LearnedRows learned{
            m_table,
            m_file,
            m_response,
            *m_bound,
            terms,
            m_used.learning,
            std::span<const double>(residuals.data(), static_cast<std::size_t>(residuals.size())),
            reachOptionsOf(m_recipe)};
        const std::string& file = m_rows.forecast->report.file;
        const Evidence* before = m_options.before;
        if (before && before->study == m_evidence.study && before->forecast &&
            m_recipe.forecast->intervals == IntervalWay::usual && before->forecast->asKind &&
            before->forecast->gradedBy == reachRulesText(m_recipe) &&
            sameTable(before->forecast->rows, m_prepared.forecast->table)) {
            m_evidence.forecast = before->forecast;
            if (before->forecast->level != m_recipe.forecast->level)
                setForecastLevel(*m_evidence.forecast, learned, file, m_recipe.forecast->level);
        } else {
            const auto stepped = stepThrough(study(), m_recipe, m_prepared, file, m_threads, stage);
            const Prepared& coming = stepped ? stepped->prepared : *m_prepared.forecast;
            m_evidence.forecast =
                forecastRows(learned, coming.table, file, m_recipe.forecast->level, m_threads, stage);
            if (stepped) widenByPaths(*m_evidence.forecast, *stepped, learned, file);
            nameMisfits(m_evidence.forecast->reach, m_rows.forecast->report.faults);
            markLeftOut(*m_evidence.forecast, coming.leftOut);
            const ReachRules& rules = m_recipe.forecast->reach;
            if (rules.hull || rules.nearest > 0)
                gradeByMeasures(*m_evidence.forecast,
                                reachMeasures(study(), m_prepared.table, coming.table, m_threads, stage),
                                rules);
            m_evidence.forecast->gradedBy = reachRulesText(m_recipe);
        }
        m_evidence.forecast->file =
            m_recipe.forecast->made ? sourceName(*m_recipe.forecast) : m_recipe.forecast->file;
        m_evidence.forecast->asKind = m_recipe.forecast->intervals == IntervalWay::usual;
    }

    void describePreparation() {
        m_evidence.steps = m_prepared.steps;
        for (StepOutcome& outcome : m_evidence.steps)
            outcome.kept.clear();
        m_evidence.parts = m_prepared.partSummaries;
    }

    const Recipe& m_recipe;
    const StudyRows& m_rows;
    const PreparedRows& m_prepared;
    /// What is bound refers to it, where the evidence has one that tells more.
    std::shared_ptr<const Study> m_bare;
    const Table& m_table;
    std::string m_file;
    const EvaluateOptions& m_options;
    Threads m_threads;
    Progress& m_progress;
    Evidence m_evidence;
    std::span<const double> m_response;
    RowsUsed m_used;
    std::optional<BoundModel> m_bound;
    std::optional<ModelResponse> m_working;
    /// Of the learning rows: what the model fits, and fitted values in the response's unit.
    std::vector<double> m_learned, m_fitted;
    double m_mean = 0;
    Judged m_heldOut, m_test, m_weightless;
};

void judgeInto(Evidence& evidence, const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
               const JudgeOptions& options, Progress& progress) {
    JudgeOptions own = options;
    if (!own.whole) own.whole = evidence.study;
    evidence.folds = std::make_shared<const FoldEvidence>(
        judgeByFolds(recipe, prepared, rows.learning.report.file, own, progress));
}

/// Folds that take some tens of milliseconds: by the work they are, so that the same is done on any machine.
bool isQuick(const Recipe& recipe, const Study& study) {
    if (!study.linear() || !kindOf(recipe.estimator).leastSquares || recipe.choose) return false;
    const auto n = static_cast<double>(study.rows.size());
    const auto rank = static_cast<double>(study.linear()->fit.rank());
    const FoldPlan& plan = *recipe.judge;
    if (!judgesInOnePass(recipe, study)) { // a fit and the steps for each
        const double folds = plan.kind == FoldKind::leaveOneOut ? n
                             : plan.kind == FoldKind::bootstrap ? plan.draws
                             : plan.kind == FoldKind::column    ? 20
                                                                : 1.0 * plan.folds * plan.repeats;
        const auto steps = static_cast<double>(recipe.steps.size());
        return folds * n * (4 * rank * rank + 60 * static_cast<double>(study.inputs.size()) + 200 * steps) <
               5e7;
    }
    const bool plain = !recipe.logResponse && study.weights.empty();
    const double models = plan.kind == FoldKind::leaveOneOut ? n
                          : plan.kind == FoldKind::bootstrap ? plan.draws
                                                             : 10.0 * plan.repeats;
    const double sums = plan.kind == FoldKind::leaveOneOut ? n * rank
                        : plan.kind == FoldKind::bootstrap ? n * rank * rank * plan.draws
                                                           : n * rank * rank * plan.repeats;
    const auto without = static_cast<double>(recipe.terms.size() + 1); // each term is left out once
    return sums + n * (rank + 20) * (plain ? without : without * models) < 1e8;
}

/// Folds of an evaluation, as the options ask for.
void judge(Evidence& evidence, const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
           const EvaluateOptions& options, Progress& progress) {
    using Folds = EvaluateOptions::Folds;
    const Evidence* before = options.before;
    if (before && before->folds && before->study == evidence.study && before->folds->plan == *recipe.judge &&
        !before->folds->partial()) {
        evidence.folds = before->folds;
        return;
    }
    // What cannot be dealt is said at once, whenever the folds are judged.
    requireJudgeable(recipe, prepared, rows.learning.report.file);
    if (options.folds != Folds::now && (options.folds == Folds::never || !isQuick(recipe, *evidence.study)))
        return;
    if (evidence.study->search && evidence.study->search->stopped()) {
        evidence.foldsProblem =
            "the search for the penalty was stopped, so that folds were not asked to search";
        return;
    }
    try {
        judgeInto(evidence, recipe, rows, prepared, {.threads = options.threads, .whole = evidence.study},
                  progress);
    } catch (const Error& error) {
        if (options.folds == Folds::now) throw;
        evidence.foldsProblem = error.what();
    }
}

} // namespace

Evidence evaluate(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
                  const EvaluateOptions& options, Progress& progress) {
    const bool judged = recipe.judge && options.folds != EvaluateOptions::Folds::never;
    const bool slow = options.checks == ChecksWanted::all;
    requireKnownChecks(recipe);
    ProgressStage fitting(progress, 0, judged ? 0.3 : slow ? 0.6 : 0.95);
    Evidence evidence = Evaluation(recipe, rows, prepared, options, fitting).run();
    if (recipe.judge) {
        ProgressStage judging(progress, 0.3, slow ? 0.7 : 0.95);
        judge(evidence, recipe, rows, prepared, options, judging);
    }
    const bool folded = !evidence.folds || !evidence.folds->partial();
    if (evidence.forecast && folded) {
        ProgressStage answering(progress, judged ? 0.65 : 0.55, judged ? 0.7 : 0.6);
        // With what was predicted of earlier periods, where steps look back at it.
        std::optional<PreparedRows> fed;
        if (!sameTable(prepared.forecast->table, evidence.forecast->rows)) {
            fed = prepared;
            fed->forecast->table = evidence.forecast->rows;
        }
        answerForecast(evidence, recipe, rows, fed ? *fed : prepared, options.questioned, options.threads,
                       answering);
    }
    if (options.importance && folded)
        evidence.importance = permutationImportance(recipe, prepared, evidence, rows.learning.report.file,
                                                    options.threads, progress);
    if (options.before) takeOverChecks(evidence, *options.before, recipe);
    ProgressStage checking(progress, judged ? 0.7 : slow ? 0.6 : 0.95, 1);
    // A stop while folds are judged keeps those done, and checks are then not waited for.
    const bool stopped = evidence.folds && evidence.folds->partial();
    runChecks(evidence, {recipe, rows, prepared}, stopped ? ChecksWanted::none : options.checks,
              options.threads, checking);
    return evidence;
}

Evidence withFolds(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                   const PreparedRows& prepared, const JudgeOptions& options, Progress& progress) {
    Evidence next = evidence;
    next.foldsProblem.clear();
    try {
        judgeInto(next, recipe, rows, prepared, options, progress);
    } catch (const Error& error) {
        next.folds.reset();
        next.foldsProblem = error.what();
    }
    forgetChecksOfFolds(next);
    // A stop keeps the folds that were judged and waits for nothing else.
    const EvaluatedFrom from{recipe, rows, prepared};
    const bool stopped = next.folds && next.folds->partial();
    try {
        runChecks(next, from, stopped ? ChecksWanted::none : ChecksWanted::quick, options.threads, progress);
    } catch (const Stopped&) {
        gatherFindings(next, from);
    }
    return next;
}

Evidence withChecks(const Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                    const PreparedRows& prepared, Threads threads, Progress& progress,
                    const ChecksSoFar& soFar) {
    Evidence next = evidence;
    runChecks(next, {recipe, rows, prepared}, ChecksWanted::all, threads, progress, soFar);
    return next;
}

Evidence evaluate(const Recipe& recipe, const StudyRows& rows, Threads threads, Progress& progress) {
    ProgressStage preparing(progress, 0, 0.3);
    const auto prepared = prepareRows(recipe, rows, threads, preparing);
    ProgressStage fitting(progress, 0.3, 1);
    return evaluate(recipe, rows, *prepared, {.threads = threads}, fitting);
}

} // namespace oxgoad
