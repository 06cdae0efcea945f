#include "study/evaluate.h"

#include "base/error.h"
#include "base/text.h"
#include "check/checks.h"
#include "estimate/distributions.h"
#include "forecast/forecast.h"
#include "reach/reach.h"
#include "study/model_fit.h"
#include "study/model_goads.h"
#include "table/summary.h"

#include <Eigen/Dense>

#include <algorithm>
#include <cmath>
#include <functional>
#include <numbers>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double nan = std::numeric_limits<double>::quiet_NaN();

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
        sortRows();
        fit();
        predictHeldOut();
        diagnoseRows();
        describeCoefficients();
        describeTerms();
        if (m_recipe.forecast && m_rows.forecast && m_prepared.forecast) forecast();
        describePreparation();
        check();
        // What later questions need; a value a row is in the evidence already.
        for (VectorXd* rows : {&m_model->fit.fitted, &m_model->fit.residuals, &m_model->fit.leverages})
            rows->resize(0);
        m_model->working = {};
        m_model->weights = {};
        m_model->fit.orthonormal.reset();
        if (m_model->iterated) m_model->iterated->rowWeights = {};
        m_evidence.model = m_model;
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
        m_evidence.intercept = m_recipe.intercept;
        if (m_recipe.terms.empty() && !m_recipe.intercept)
            throw Error(ErrorCode::badTerm, "the model has neither a term nor a constant", {}, "Add a term.");
        for (const Term& term : m_recipe.terms)
            for (const TermPart& part : term.parts)
                if (part.column == m_recipe.response)
                    throw Error(ErrorCode::badTerm, "the response cannot explain itself",
                                {.column = part.column}, "Take " + termName(term) + " out of the terms.");
    }

    /// State of every row: learning, held out, left out, or lacking a value of a column in use.
    void sortRows() {
        const std::size_t n = m_table.rows();
        auto& state = m_evidence.rows.state;
        state.resize(n);
        for (std::size_t i = 0; i < n; ++i) {
            state[i] = m_prepared.leftOut[i] != 0              ? RowState::leftOut
                       : m_prepared.parts[i] == Part::learning ? RowState::learning
                       : m_prepared.parts[i] == Part::heldOut  ? RowState::heldOut
                                                               : RowState::test;
            if (state[i] == RowState::learning && !m_prepared.teaches(i)) state[i] = RowState::weightless;
        }
        m_evidence.rows.leftOutBy = m_prepared.leftOut;
        std::vector<const Column*> used;
        for (const std::string& name : columnsInUse(m_recipe))
            used.push_back(&m_table.at(name, m_file));
        for (const Column* column : used) {
            if (column->missingCount() == 0) continue;
            std::size_t count = 0;
            for (std::size_t i = 0; i < n; ++i)
                if (state[i] != RowState::leftOut && state[i] != RowState::weightless &&
                    column->isMissing(i)) {
                    ++count;
                    state[i] = RowState::missing;
                }
            if (count > 0) m_evidence.missingByColumn.emplace_back(column->name(), count);
        }
        for (std::size_t i = 0; i < n; ++i) {
            if (state[i] == RowState::learning)
                m_learning.push_back(static_cast<std::uint32_t>(i));
            else if (state[i] == RowState::heldOut)
                m_heldOut.push_back(static_cast<std::uint32_t>(i));
            else if (state[i] == RowState::test)
                m_test.push_back(static_cast<std::uint32_t>(i));
            else if (state[i] == RowState::weightless)
                m_weightless.push_back(static_cast<std::uint32_t>(i));
            m_evidence.rowsLeftOut += state[i] == RowState::leftOut;
            m_evidence.rowsMissing += state[i] == RowState::missing;
        }
        m_evidence.rowsWeightless = m_weightless.size();
        std::erase_if(m_weightless, [&](std::uint32_t row) {
            return std::any_of(used.begin(), used.end(),
                               [row](const Column* c) { return c->isMissing(row); });
        });
        if (m_learning.empty() && m_evidence.rowsWeightless > 0)
            throw Error(ErrorCode::badWeights, "all weights of the learning rows are 0",
                        {.file = m_file, .column = columnWith(m_recipe, Role::weight)},
                        "Give another column the role of the weight, or none.");
        if (m_learning.empty())
            throw Error(ErrorCode::tooFewRows, "no learning row has values in all columns in use",
                        {.file = m_file}, "Take out the terms whose columns are mostly missing.");
    }

    void fit() {
        ProgressStage stage(m_progress, 0.05, 0.7);
        m_model =
            std::make_shared<ModelFit>(fitModel(m_recipe, m_table, m_file, m_learning, m_threads, stage));
        const LeastSquaresFit& fit = m_model->fit;
        m_bound.emplace(m_model->design, m_table, m_file);
        m_working.emplace(m_recipe, m_table, m_file);
        // Rows with missing values are gone by now; what is left to ask is whether terms are defined there,
        // and whether held-out rows have levels that were learned.
        const bool factors = std::any_of(m_model->design.inputs().begin(), m_model->design.inputs().end(),
                                         [](const DesignInput& input) { return input.factor; });
        const std::size_t before = m_heldOut.size();
        if (factors || !m_model->design.guards().empty()) {
            std::erase_if(m_heldOut, [&](std::uint32_t row) { return !m_bound->complete(row); });
            std::erase_if(m_test, [&](std::uint32_t row) { return !m_bound->complete(row); });
            std::erase_if(m_weightless, [&](std::uint32_t row) { return !m_bound->complete(row); });
        }
        m_evidence.heldOutUnpredicted = before - m_heldOut.size();
        m_evidence.rowsLearning = m_learning.size();
        m_evidence.rowsHeldOut = m_heldOut.size();
        m_evidence.rowsTest = m_test.size();
        for (const auto row : m_learning)
            m_y.push_back(m_response[row]);
        const double k = static_cast<double>(fit.rank() - (fit.intercept ? 1 : 0));
        const double df = fit.degreesOfFreedom;
        const double explained = fit.totalSumOfSquares - fit.residualSumOfSquares;
        m_evidence.logResponse = m_recipe.logResponse;
        m_evidence.smearing = m_model->rule.smearing;
        m_evidence.weight = m_model->rule.weight;
        m_evidence.offset = m_model->rule.offset;
        m_evidence.errorUnits = m_model->errorUnits;
        m_evidence.errorLags = m_model->errorLags;
        m_evidence.iterated = m_model->iterated;
        if (m_evidence.iterated) m_evidence.iterated->rowWeights.clear();
        m_evidence.quantileFit = m_model->quantileFit;
        m_evidence.residualStandardDeviation = fit.residualStandardDeviation;
        m_evidence.degreesOfFreedom = df;
        m_evidence.residualSumOfSquares = fit.residualSumOfSquares;
        m_evidence.totalSumOfSquares = fit.totalSumOfSquares;
        m_evidence.conditionNumber = fit.conditionNumber;
        m_evidence.digitsLeft = fit.digitsLeft;
        m_evidence.responseDigitsLeft = fit.responseDigitsLeft;
        m_evidence.fitsExactly = fit.fitsExactly;
        m_evidence.rowsFixed = fit.rowsFixed;
        m_evidence.twicePrecision = fit.exact;
        m_evidence.rankTolerance = fit.rankToleranceUsed;
        m_evidence.rSquared = df > 0 ? 1 - fit.residualSumOfSquares / fit.totalSumOfSquares : nan;
        const double whole = df + static_cast<double>(fit.rank()) - (fit.intercept ? 1 : 0);
        m_evidence.adjustedRSquared =
            df > 0 ? 1 - (fit.residualSumOfSquares / df) / (fit.totalSumOfSquares / whole) : nan;
        m_evidence.fDegreesOfFreedom = k;
        JointTest all{nan, k, fit.testDegreesOfFreedom(), {}};
        if (k > 0) all = fit.jointTest(fit.kept);
        if (!fit.covarianceRoot && !std::isnan(all.f))
            all.f = (explained / k) / (fit.residualSumOfSquares / df);
        if (fit.fitsExactly) noTest(all);
        m_evidence.f = all.f;
        m_evidence.fDenominatorDf = all.denominatorDf;
        m_evidence.fWhy = all.why;
        m_evidence.fP = fisherUpper(all.f, k, all.denominatorDf);
        judgeByInformation();
        for (std::size_t i = 0; i < m_y.size(); ++i)
            m_fitted.push_back(natural(fit.fitted[static_cast<Index>(i)], m_learning[i]));
        m_evidence.learning = score(m_y, m_fitted, meanOfLearning());
    }

    static void noTest(JointTest& test) {
        test.f = nan;
        test.why = "the model fits to the last digit, so that there is no spread to judge by";
    }

    /// AIC corrected for few rows (Hurvich and Tsai 1989, Biometrika 76) and BIC (Schwarz 1978, Annals of
    /// Statistics 6) of normal errors, the spread counting as a parameter; of ln(response) carried back to
    /// the response by the sum of its logarithms, so that both forms compare. Least squares only.
    void judgeByInformation() {
        m_evidence.aicc = m_evidence.bic = nan;
        const LeastSquaresFit& fit = m_model->fit;
        if (m_recipe.estimator.kind != EstimatorKind::leastSquares || !(fit.residualSumOfSquares > 0) ||
            !(fit.degreesOfFreedom > 0) || fit.fitsExactly)
            return;
        const double parameters = static_cast<double>(fit.rank()) + 1;
        const double n = fit.degreesOfFreedom + static_cast<double>(fit.rank());
        double twice = n * (std::log(2 * std::numbers::pi * fit.residualSumOfSquares / n) + 1);
        for (const double w : m_model->weights)
            if (w > 0) twice -= std::log(w);
        if (m_recipe.logResponse)
            for (const auto row : m_learning)
                twice += 2 * std::log(m_response[row]);
        m_evidence.bic = twice + parameters * std::log(n);
        if (n - parameters - 1 > 0)
            m_evidence.aicc =
                twice + 2 * parameters + 2 * parameters * (parameters + 1) / (n - parameters - 1);
    }

    /// From the fit's linear predictor to the response.
    double natural(double predictor, std::uint32_t row) const {
        return m_model->rule.natural(predictor + m_working->offset(row));
    }

    double meanOfLearning() const {
        long double sum = 0;
        for (const double y : m_y)
            sum += y;
        return static_cast<double>(sum / static_cast<long double>(m_y.size()));
    }

    void eachBlock(std::span<const std::uint32_t> rows,
                   const std::function<void(std::size_t, const MatrixXd&)>& use) const {
        forEachBlock(*m_bound, rows, m_threads, m_progress, use);
    }

    std::vector<double> predict(std::span<const std::uint32_t> rows, std::vector<double>& naturalValues) {
        std::vector<double> values = predictor(m_model->fit, *m_bound, rows, m_threads, m_progress);
        for (std::size_t i = 0; i < rows.size(); ++i)
            naturalValues.push_back(natural(values[i], rows[i]));
        return values;
    }

    void predictHeldOut() {
        m_heldOutPredictor = predict(m_heldOut, m_heldOutPredicted);
        for (const auto row : m_heldOut)
            m_heldOutActual.push_back(m_response[row]);
        m_evidence.heldOut = score(m_heldOutActual, m_heldOutPredicted, meanOfLearning());
        if (!m_options.lookAtTest || m_test.empty()) return;
        m_testPredictor = predict(m_test, m_testPredicted);
        std::vector<double> actual;
        for (const auto row : m_test)
            actual.push_back(m_response[row]);
        m_evidence.test = score(actual, m_testPredicted, meanOfLearning());
    }

    /// Leverage, deleted residuals and Cook's distances (Cook and Weisberg 1982, §2.2 and §3.1).
    void diagnoseRows() {
        m_progress.checkpoint(0.75, "Diagnosing rows");
        RowEvidence& rows = m_evidence.rows;
        const std::size_t n = m_table.rows();
        rows.actual.assign(m_response.begin(), m_response.end());
        for (auto* values : {&rows.fitted, &rows.residual, &rows.leverage, &rows.studentized, &rows.cook})
            values->assign(n, nan);
        m_studentized.resize(m_learning.size());
        m_cooks.resize(m_learning.size());
        const LeastSquaresFit& fit = m_model->fit;
        const double df = fit.degreesOfFreedom;
        const double variance = fit.residualSumOfSquares / df;
        const auto rank = static_cast<double>(fit.rank());
        const bool leastSquares = m_recipe.estimator.kind == EstimatorKind::leastSquares;
        if (m_model->iterated && !m_model->iterated->rowWeights.empty()) rows.robustWeight.assign(n, nan);
        for (std::size_t i = 0; i < m_learning.size(); ++i) {
            const auto row = m_learning[i];
            const auto at = static_cast<Index>(i);
            const double weight = m_model->weights.empty() ? 1 : m_model->weights[i];
            const double e = fit.residuals[at] * std::sqrt(weight);
            const double h = fit.leverages[at];
            const double left = 1 - h;
            const bool determined = left < 1e-10; // the row alone fixes its fitted value
            const double deleted = (fit.residualSumOfSquares - e * e / left) / (df - 1);
            m_studentized[i] = df > 1 && !determined && deleted > 0 ? e / std::sqrt(deleted * left) : nan;
            m_cooks[i] =
                df > 0 && !determined && variance > 0 ? e * e / (rank * variance) * h / (left * left) : nan;
            if (!leastSquares) { // no row's leaving is known without another fit
                m_studentized[i] = e / (fit.residualStandardDeviation * std::sqrt(std::max(left, 1e-10)));
                m_cooks[i] = nan;
            }
            rows.fitted[row] = m_fitted[i];
            rows.residual[row] = fit.residuals[at];
            rows.leverage[row] = h;
            rows.studentized[row] = m_studentized[i];
            rows.cook[row] = m_cooks[i];
            if (!rows.robustWeight.empty()) rows.robustWeight[row] = m_model->iterated->rowWeights[i];
        }
        for (std::size_t i = 0; i < m_heldOut.size(); ++i) {
            rows.fitted[m_heldOut[i]] = m_heldOutPredicted[i];
            rows.residual[m_heldOut[i]] = m_working->at(m_heldOut[i]) - m_heldOutPredictor[i];
        }
        for (std::size_t i = 0; i < m_testPredicted.size(); ++i) {
            rows.fitted[m_test[i]] = m_testPredicted[i];
            rows.residual[m_test[i]] = m_working->at(m_test[i]) - m_testPredictor[i];
        }
        const auto weightless = predictor(m_model->fit, *m_bound, m_weightless, m_threads, m_progress);
        for (std::size_t i = 0; i < m_weightless.size(); ++i) {
            rows.fitted[m_weightless[i]] = natural(weightless[i], m_weightless[i]);
            rows.residual[m_weightless[i]] = m_working->at(m_weightless[i]) - weightless[i];
        }
        // The response of locked test rows is not shown either.
        if (m_testPredicted.empty())
            for (const auto row : m_test)
                rows.actual[row] = nan;
    }

    /// What a column of the model matrix spreads over: from lower to upper quartile, and its standard
    /// deviation.
    struct Span {
        double quartiles = 1;
        double deviation = 1;
    };

    void addCoefficient(std::string name, double estimate, double error, double df, int term, Span span) {
        if (m_model->fit.fitsExactly) error = nan; // rounding, not spread
        const double t = estimate / error;
        const double half = studentQuantile(m_recipe.level, df) * error;
        CoefficientEvidence c{.name = std::move(name),
                              .estimate = estimate,
                              .standardError = error,
                              .t = t,
                              .p = studentTwoSided(t, df),
                              .lower = estimate - half,
                              .upper = estimate + half,
                              .term = term,
                              .effect = estimate * span.quartiles,
                              .effectLower = (estimate - half) * span.quartiles,
                              .effectUpper = (estimate + half) * span.quartiles,
                              .deviation = span.deviation,
                              .dependent = std::isnan(estimate),
                              .degreesOfFreedom = df};
        m_evidence.coefficients.push_back(std::move(c));
    }

    void describeCoefficients() {
        m_progress.checkpoint(0.8, "Testing coefficients");
        if (m_recipe.intercept)
            addCoefficient("intercept", m_model->fit.constant, m_model->fit.constantError,
                           m_model->fit.constantDegreesOfFreedom(), -1, {nan, nan});
        const auto spans = spansOfColumns();
        const auto& columns = m_model->design.columns();
        for (std::size_t j = 0; j < columns.size(); ++j) {
            addCoefficient(columns[j].name, m_model->fit.coefficients[static_cast<Index>(j)],
                           m_model->fit.standardErrors[static_cast<Index>(j)],
                           m_model->fit.coefficientDegreesOfFreedom(j), static_cast<int>(columns[j].term),
                           spans[j]);
            if (j + 1 == columns.size() || columns[j + 1].term != columns[j].term)
                addLastDeviation(columns[j].term);
        }
    }

    /// Deviations from the mean add up to 0, so the level without a column has what is left.
    void addLastDeviation(std::size_t t) {
        const Term& term = m_recipe.terms[t];
        if (term.parts.size() != 1 || term.parts[0].form != Form::deviations) return;
        const auto own = columnsOf(t);
        const DesignInput& input =
            m_model->design.inputs()[m_model->design.columns()[own[0]].pieces[0].input];
        VectorXd weights = VectorXd::Zero(m_model->fit.columns);
        for (const std::size_t j : own)
            weights[static_cast<Index>(j)] = -1;
        const auto [estimate, error, df] = m_model->fit.combination(weights, 0);
        addCoefficient(input.name + " = " + input.levels[input.referenceLevel] + " against the mean",
                       estimate, error, df, static_cast<int>(t), {});
        m_evidence.coefficients.back().derived = true;
    }

    /// Spans of each column of the model matrix; 1 for indicators.
    std::vector<Span> spansOfColumns() const {
        // At most 10,000 rows, fewer for thousands of columns, so that the block stays small.
        const std::size_t columns = std::max<std::size_t>(1, m_model->design.columns().size());
        const std::size_t sampled = std::clamp<std::size_t>(20000000 / columns, 500, 10000);
        std::vector<std::uint32_t> sample;
        const std::size_t stride = std::max<std::size_t>(1, (m_learning.size() + sampled - 1) / sampled);
        for (std::size_t i = 0; i < m_learning.size(); i += stride)
            sample.push_back(m_learning[i]);
        MatrixXd block(static_cast<Index>(sample.size()),
                       static_cast<Index>(m_model->design.columns().size()));
        m_bound->fill(sample, block);
        std::vector<Span> spans(m_model->design.columns().size());
        parallelFor(spans.size(), m_threads, [&](std::size_t j) {
            const auto& pieces = m_model->design.columns()[j].pieces;
            if (std::all_of(pieces.begin(), pieces.end(), [](const auto& piece) {
                    return piece.basis.kind == Basis::Kind::indicator ||
                           piece.basis.kind == Basis::Kind::codes;
                }))
                return;
            std::vector<double> values(block.col(static_cast<Index>(j)).begin(),
                                       block.col(static_cast<Index>(j)).end());
            // A product with an indicator is spread by its number alone.
            if (pieces.size() > 1) std::erase(values, 0.0);
            if (values.empty()) return;
            std::sort(values.begin(), values.end());
            spans[j].quartiles = quantileOfSorted(values, 0.75) - quantileOfSorted(values, 0.25);
            const Eigen::Map<const VectorXd> all(values.data(), static_cast<Index>(values.size()));
            spans[j].deviation = values.size() > 1 ? std::sqrt((all.array() - all.mean()).square().sum() /
                                                               static_cast<double>(values.size() - 1))
                                                   : 0;
        });
        return spans;
    }

    void describeTerms() {
        m_progress.checkpoint(0.85, "Weighing terms");
        groupTerms();
        const std::size_t count = m_recipe.terms.size();
        std::vector<LeastSquaresFit::Reduced> reduced(count);
        m_evidence.terms.resize(count);
        parallelFor(count, m_threads, [&](std::size_t t) {
            if (m_progress.stopRequested()) throw Stopped{};
            const LeastSquaresFit& fit = m_model->fit;
            const std::vector<std::size_t> own = columnsOf(t);
            reduced[t] = fit.without(own);
            TermEvidence& term = m_evidence.terms[t];
            term.name = termName(m_recipe.terms[t]);
            term.entersAs = entersAs(m_recipe.terms[t]);
            JointTest test = fit.jointTest(own);
            if (fit.fitsExactly) noTest(test);
            term.degreesOfFreedom = static_cast<int>(test.numeratorDf);
            term.f = test.f;
            term.why = test.why;
            term.denominatorDf = test.denominatorDf;
            term.p = fisherUpper(test.f, test.numeratorDf, test.denominatorDf);
            if (m_group[t] == t) { // terms taken together share it
                const auto related = relatedColumns(t);
                const auto kept = std::count_if(related.begin(), related.end(), [&](std::size_t j) {
                    return std::find(fit.kept.begin(), fit.kept.end(), j) != fit.kept.end();
                });
                term.inflation = std::pow(fit.inflation(related), 1 / static_cast<double>(kept));
            }
            describeShape(m_recipe.terms[t], own, term);
        });
        for (std::size_t t = 0; t < count; ++t)
            m_evidence.terms[t].inflation = m_evidence.terms[m_group[t]].inflation;
        addErrorsWithout(reduced);
    }

    std::string entersAs(const Term& term) const {
        if (term.parts.size() > 1) return term.parts.size() == 2 ? "pair" : "product";
        const TermPart& part = term.parts[0];
        for (const DesignInput& input : m_model->design.inputs())
            if (input.name == part.column && input.factor && part.form == Form::plain)
                return "levels, from " + input.levels[input.referenceLevel];
        return enters(part);
    }

    /// For each term the first of the terms linked to it by columns they share (a product and its parents, a
    /// column and its powers): such terms are collinear by construction and are judged together.
    void groupTerms() {
        m_group.resize(m_recipe.terms.size());
        std::iota(m_group.begin(), m_group.end(), std::size_t{0});
        auto share = [](const Term& a, const Term& b) {
            return std::any_of(a.parts.begin(), a.parts.end(), [&](const TermPart& p) {
                return std::any_of(b.parts.begin(), b.parts.end(),
                                   [&](const TermPart& q) { return p.column == q.column; });
            });
        };
        for (std::size_t i = 0; i < m_group.size(); ++i)
            for (std::size_t j = 0; j < i; ++j)
                if (m_group[i] != m_group[j] && share(m_recipe.terms[i], m_recipe.terms[j])) {
                    const std::size_t from = std::max(m_group[i], m_group[j]);
                    std::replace(m_group.begin(), m_group.end(), from, std::min(m_group[i], m_group[j]));
                }
    }

    /// Columns of the model matrix that term t made.
    std::vector<std::size_t> columnsOf(std::size_t t) const {
        std::vector<std::size_t> own;
        for (std::size_t j = 0; j < m_model->design.columns().size(); ++j)
            if (m_model->design.columns()[j].term == t) own.push_back(j);
        return own;
    }

    std::vector<std::size_t> relatedColumns(std::size_t t) const {
        std::vector<std::size_t> columns;
        for (std::size_t j = 0; j < m_model->design.columns().size(); ++j)
            if (m_group[m_model->design.columns()[j].term] == m_group[t]) columns.push_back(j);
        return columns;
    }

    /// The term's part of the linear predictor along its one column.
    void describeShape(const Term& term, const std::vector<std::size_t>& own, TermEvidence& evidence) const {
        evidence.lowest = evidence.highest = evidence.centre = evidence.scale = nan;
        if (term.parts.size() != 1) return;
        const TermPart& part = term.parts[0];
        const std::size_t input = m_model->design.columns()[own[0]].pieces[0].input;
        const auto effectAt = [&](double value) {
            double sum = 0;
            for (const std::size_t j : own) {
                const double b = m_model->fit.coefficients[static_cast<Index>(j)];
                if (!std::isnan(b)) sum += b * m_model->design.columns()[j].pieces[0].basis.at(value);
            }
            return sum;
        };
        if (m_model->design.inputs()[input].factor) {
            for (std::size_t level = 0; level < m_model->design.inputs()[input].levels.size(); ++level)
                evidence.shape.push_back(effectAt(static_cast<double>(level)));
            evidence.density.assign(m_model->design.inputs()[input].levels.size(), 0);
            for (const auto row : m_learning)
                ++evidence.density[static_cast<std::size_t>(m_bound->inputValue(input, row))];
            return;
        }
        const Basis& basis = m_model->design.columns()[own[0]].pieces[0].basis;
        if (basis.kind == Basis::Kind::standard) {
            evidence.centre = basis.shift;
            evidence.scale = basis.scale;
        }
        const Column& column = m_table.at(part.column, m_file);
        LearnedReach::Range range;
        if (column.kind() == ColumnKind::number) {
            const auto numbers = column.numbers();
            for (const auto row : m_learning)
                range.add(numbers[row]);
        } else {
            for (const auto row : m_learning)
                range.add(column.asNumber(row));
        }
        evidence.lowest = range.low;
        evidence.highest = range.high;
        constexpr double cells = 24;
        evidence.density.assign(static_cast<std::size_t>(cells), 0);
        const double width = range.high - range.low;
        // For a drawing of 24 bars evenly spaced rows do.
        const std::size_t stride = std::max<std::size_t>(1, m_learning.size() / 20000);
        for (std::size_t i = 0; i < m_learning.size(); i += stride)
            ++evidence.density[static_cast<std::size_t>(
                width > 0 ? std::min(cells - 1, (column.asNumber(m_learning[i]) - range.low) / width * cells)
                          : 0)];
        const int points =
            part.form == Form::plain || part.form == Form::centred || part.form == Form::standardised ? 25
                                                                                                      : 61;
        for (int i = 0; i < points; ++i)
            evidence.shape.push_back(effectAt(range.low + (range.high - range.low) * i / (points - 1)));
        const double middle = evidence.shape[static_cast<std::size_t>(points / 2)];
        for (double& value : evidence.shape)
            value -= middle;
    }

    /// Held-out RMSE of each reduced fit against the full one, all in one pass over the held-out rows.
    void addErrorsWithout(const std::vector<LeastSquaresFit::Reduced>& reduced) {
        for (TermEvidence& term : m_evidence.terms)
            term.errorWithout = nan;
        if (m_heldOut.empty() || reduced.empty() || !(m_evidence.heldOut.rmse > 0)) return;
        const auto p = static_cast<Index>(m_model->design.columns().size());
        MatrixXd coefficients(p, static_cast<Index>(reduced.size()));
        Eigen::RowVectorXd constants(static_cast<Index>(reduced.size()));
        for (std::size_t t = 0; t < reduced.size(); ++t) {
            coefficients.col(static_cast<Index>(t)) = reduced[t].coefficients;
            constants[static_cast<Index>(t)] = reduced[t].constant;
        }
        const Eigen::RowVectorXd smearing = smearingWithout(coefficients, constants);
        std::vector<Eigen::RowVectorXd> sums((m_heldOut.size() + designBlockRows - 1) / designBlockRows);
        eachBlock(m_heldOut, [&](std::size_t first, const MatrixXd& block) {
            MatrixXd errors = block * coefficients;
            errors.rowwise() += constants;
            if (!m_recipe.logResponse && m_model->rule.offset.empty()) {
                errors.colwise() -= Eigen::Map<const VectorXd>(m_heldOutActual.data() + first, block.rows());
                sums[first / designBlockRows] = errors.colwise().squaredNorm();
                return;
            }
            for (Index i = 0; i < errors.rows(); ++i) {
                const auto row = m_heldOut[first + static_cast<std::size_t>(i)];
                for (Index t = 0; t < errors.cols(); ++t)
                    errors(i, t) =
                        (m_recipe.logResponse ? std::exp(errors(i, t) + m_working->offset(row)) * smearing[t]
                                              : natural(errors(i, t), row)) -
                        m_response[row];
            }
            sums[first / designBlockRows] = errors.colwise().squaredNorm();
        });
        Eigen::RowVectorXd total = Eigen::RowVectorXd::Zero(static_cast<Index>(reduced.size()));
        for (const auto& sum : sums)
            total += sum;
        for (std::size_t t = 0; t < reduced.size(); ++t)
            m_evidence.terms[t].errorWithout =
                std::sqrt(total[static_cast<Index>(t)] / static_cast<double>(m_heldOut.size())) /
                    m_evidence.heldOut.rmse -
                1;
    }

    /// Duan's factor of each reduced fit in logarithms, from its own residuals; 1 where none is used.
    Eigen::RowVectorXd smearingWithout(const MatrixXd& coefficients,
                                       const Eigen::RowVectorXd& constants) const {
        const Index count = coefficients.cols();
        if (!m_recipe.logResponse || m_model->rule.isQuantile()) return Eigen::RowVectorXd::Ones(count);
        std::vector<Eigen::RowVectorXd> sums((m_learning.size() + designBlockRows - 1) / designBlockRows);
        std::vector<double> weights(sums.size(), 0);
        eachBlock(m_learning, [&](std::size_t first, const MatrixXd& block) {
            MatrixXd grown = block * coefficients;
            grown.rowwise() += constants;
            grown.colwise() -= Eigen::Map<const VectorXd>(m_model->working.data() + first, block.rows());
            grown = (-grown.array()).exp();
            Eigen::RowVectorXd& sum = sums[first / designBlockRows];
            if (m_model->weights.empty()) {
                sum = grown.colwise().sum();
                weights[first / designBlockRows] = static_cast<double>(block.rows());
                return;
            }
            const Eigen::Map<const VectorXd> w(m_model->weights.data() + first, block.rows());
            sum = w.transpose() * grown;
            weights[first / designBlockRows] = w.sum();
        });
        Eigen::RowVectorXd total = Eigen::RowVectorXd::Zero(count);
        double whole = 0;
        for (std::size_t b = 0; b < sums.size(); ++b) {
            total += sums[b];
            whole += weights[b];
        }
        return total / whole;
    }

    void forecast() {
        m_progress.checkpoint(0.9, "Forecasting");
        const LearnedRows learned{m_table,    m_file,       m_response,   *m_bound,
                                  m_learning, m_model->fit, m_model->rule};
        ForecastEvidence forecast =
            forecastRows(learned, m_prepared.forecast->table, m_rows.forecast->report.file,
                         m_recipe.forecast->level, m_threads, m_progress);
        nameMisfits(forecast.reach, m_rows.forecast->report.faults);
        forecast.file = m_recipe.forecast->file;
        m_evidence.forecast = std::move(forecast);
    }

    void describePreparation() {
        m_evidence.steps = m_prepared.steps;
        for (StepOutcome& outcome : m_evidence.steps)
            outcome.kept.clear();
        m_evidence.parts = m_prepared.partSummaries;
        if (!m_evidence.forecast) return;
        for (std::size_t i = 0; i < m_evidence.forecast->reach.size(); ++i)
            if (const auto by = m_prepared.forecast->leftOut[i]; by > 0) {
                Reach& reach = m_evidence.forecast->reach[i];
                reach.reasons.push_back("step " + std::to_string(by) + " would have left it out of learning");
                if (reach.grade == ReachGrade::inside) {
                    reach.grade = ReachGrade::edge;
                    --m_evidence.forecast->inside;
                    ++m_evidence.forecast->edge;
                }
            }
    }

    void check() {
        m_progress.checkpoint(0.95, "Checking");
        std::vector<CheckedTerm> terms;
        for (std::size_t t = 0; t < m_evidence.terms.size(); ++t)
            terms.push_back({m_evidence.terms[t].name, m_evidence.terms[t].inflation, m_group[t]});
        std::vector<double> heldOutErrors;
        std::vector<std::uint32_t> heldOutRows;
        for (std::size_t i = 0; i < m_heldOut.size(); ++i) {
            const double error = m_working->at(m_heldOut[i]) - m_heldOutPredictor[i];
            if (std::isnan(error)) continue; // no logarithm
            heldOutErrors.push_back(error);
            heldOutRows.push_back(m_heldOut[i]);
        }
        std::vector<std::pair<std::string, std::size_t>> misfits;
        const auto used = inputNames(m_recipe.terms);
        for (const auto& [column, count] : m_rows.learning.report.faultsByColumn)
            if (column == m_recipe.response || std::find(used.begin(), used.end(), column) != used.end())
                misfits.emplace_back(column, count);
        const CheckContext context{.table = m_table,
                                   .design = *m_bound,
                                   .fit = m_model->fit,
                                   .learningRows = m_learning,
                                   .terms = terms,
                                   .studentized = m_studentized,
                                   .cooks = m_cooks,
                                   .heldOutRows = heldOutRows,
                                   .heldOutErrors = heldOutErrors,
                                   .learning = m_evidence.learning,
                                   .heldOut = m_evidence.heldOut,
                                   .response = m_recipe.response,
                                   .weights = m_model->weights,
                                   .robustToSpread = m_recipe.errors.kind != ErrorsKind::equalSpread,
                                   .robustToOutliers = m_recipe.estimator.kind != EstimatorKind::leastSquares,
                                   .logResponse = m_recipe.logResponse,
                                   .forecasts = m_evidence.forecast.has_value(),
                                   .rowsMissing = m_evidence.rowsMissing,
                                   .missingByColumn = m_evidence.missingByColumn,
                                   .misfitsByColumn = std::move(misfits),
                                   .reach = m_evidence.forecast
                                                ? std::span<const Reach>(m_evidence.forecast->reach)
                                                : std::span<const Reach>(),
                                   .threads = m_threads,
                                   .progress = &m_progress};
        Findings findings = runChecks(context);
        addDataGoads(m_recipe, m_prepared, findings.goads);
        addModelGoads(m_recipe, m_evidence, findings.goads);
        for (Goad& goad : findings.goads)
            for (const AcceptedGoad& accepted : m_recipe.accepted)
                if (accepted.goad == goad.key) goad.accepted = accepted.reason;
        for (Goad& goad : notedGoads(m_recipe))
            findings.goads.push_back(std::move(goad));
        m_evidence.readings = std::move(findings.readings);
        m_evidence.goads = std::move(findings.goads);
    }

    const Recipe& m_recipe;
    const StudyRows& m_rows;
    const PreparedRows& m_prepared;
    const Table& m_table;
    std::string m_file;
    EvaluateOptions m_options;
    Threads m_threads;
    Progress& m_progress;
    Evidence m_evidence;
    std::span<const double> m_response;
    std::vector<std::uint32_t> m_learning;
    std::vector<std::uint32_t> m_heldOut;
    std::vector<std::uint32_t> m_test;
    /// Rows of weight 0 that can be predicted.
    std::vector<std::uint32_t> m_weightless;
    std::vector<double> m_testPredicted;
    std::vector<double> m_testPredictor;
    std::vector<double> m_y;
    /// Fitted values of the learning rows, in the response's unit.
    std::vector<double> m_fitted;
    std::vector<double> m_heldOutActual;
    std::vector<double> m_heldOutPredicted;
    /// The fit's linear predictor there, without offset.
    std::vector<double> m_heldOutPredictor;
    std::vector<double> m_studentized;
    std::vector<double> m_cooks;
    std::vector<std::size_t> m_group;
    std::shared_ptr<ModelFit> m_model;
    std::optional<BoundDesign> m_bound;
    std::optional<WorkingResponse> m_working;
};

} // namespace

RowsRead loadForecastRows(const Recipe& recipe, const Table& learning, const std::filesystem::path& folder,
                          Threads threads, Progress& progress, const PasswordFor& password) {
    RowsPlan plan;
    static_cast<RowsSource&>(plan) = *recipe.forecast;
    plan.text.kindsMayBeAbsent = true;
    for (const Column& column : learning.columns())
        if (column.name() != recipe.response && !plan.text.kinds.contains(column.name()))
            plan.text.kinds[column.name()] = column.kind();
    plan.joins = recipe.rows.joins;
    return readRows(plan, folder, password, threads, progress);
}

StudyRows loadRows(const Recipe& recipe, const std::filesystem::path& folder, Threads threads,
                   Progress& progress, const PasswordFor& password) {
    StudyRows rows;
    {
        ProgressStage stage(progress, 0, recipe.forecast ? 0.8 : 1);
        rows.learning = readRows(recipe.rows, folder, password, threads, stage);
    }
    if (recipe.forecast) {
        ProgressStage stage(progress, 0.8, 1);
        rows.forecast = loadForecastRows(recipe, rows.learning.table, folder, threads, stage, password);
    }
    return rows;
}

Evidence evaluate(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
                  const EvaluateOptions& options, Progress& progress) {
    return Evaluation(recipe, rows, prepared, options, progress).run();
}

Evidence evaluate(const Recipe& recipe, const StudyRows& rows, Threads threads, Progress& progress) {
    ProgressStage preparing(progress, 0, 0.3);
    const auto prepared = prepareRows(recipe, rows, threads, preparing);
    ProgressStage fitting(progress, 0.3, 1);
    return evaluate(recipe, rows, *prepared, {.threads = threads}, fitting);
}

} // namespace oxgoad
