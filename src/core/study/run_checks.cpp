#include "study/run_checks.h"

#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "check/checks.h"
#include "estimate/distributions.h"
#include "estimate/forest/forest.h"
#include "estimate/linear/apart_reader.h"
#include "estimate/linear/linear_model.h"
#include "estimate/neighbours/neighbours.h"
#include "estimate/row_blocks.h"
#include "study/average_effects.h"
#include "study/fold_evidence.h"
#include "study/importance.h"
#include "study/judge.h"
#include "study/linear_evidence.h"
#include "study/model_goads.h"
#include "study/other_seeds.h"
#include "study/tune.h"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <mutex>
#include <optional>
#include <string_view>
#include <unordered_map>

namespace oxgoad {

namespace {

using Eigen::Index;

/// Everything the checks read, owned in one place.
class CheckedFit {
public:
    CheckedFit(const Evidence& evidence, const EvaluatedFrom& from, Threads threads, Progress& progress)
        : m_evidence(evidence), m_from(from), m_table(from.prepared.table),
          m_file(from.rows.learning.report.file), m_threads(threads), m_progress(progress) {
        takeRows();
        takeLinear();
        takeHalves();
        takeErrors();
        takeUnseen();
        takeMisfits();
    }

    CheckContext context() {
        const Study& study = *m_evidence.study;
        CheckContext context{
            .recipe = m_from.recipe,
            .table = m_table,
            .file = m_file,
            .inputs = m_bound->inputs(),
            .terms = m_terms,
            .kind = kindOf(m_from.recipe.estimator),
            .linear = m_checked ? &*m_checked : nullptr,
            .learningRows = study.rows,
            .working = m_working,
            .fitted = m_fitted,
            .errorsOf = m_errorsOf,
            .errorRows = m_errorRows,
            .errors = m_errors,
            .spread = study.rule.spread,
            .spreadDegreesOfFreedom =
                study.linear()
                    ? study.linear()->fit.degreesOfFreedom
                    : (study.rule.byErrors() ? static_cast<double>(study.rule.byErrors()->sizes.size())
                                             : 0.0),
            .heldOutRows = m_heldOutRows,
            .heldOutErrors = m_heldOutErrors,
            .heldOutHalves = m_heldOutHalves,
            .unseen = {m_unseenWhat, m_unseenRows, m_unseenActual, m_unseenPredicted, m_unseenHeldOut},
            .learning =
                study.linear() ? m_evidence.learning : m_evidence.leftOneOut.value_or(m_evidence.learning),
            .learnedWithoutItself = !study.linear() && m_evidence.leftOneOut.has_value(),
            .heldOut = m_evidence.heldOut,
            .weights = study.weights,
            .robustToSpread = m_from.recipe.errors.kind != CovarianceKind::homoskedastic,
            .logResponse = m_from.recipe.logResponse,
            .rowsMissing = m_evidence.rowsMissing,
            .missingByColumn = m_evidence.missingByColumn,
            .misfitsByColumn = m_misfits,
            .threads = m_threads,
            .progress = &m_progress};
        const bool ofFolds = !m_unseenHeldOut && m_evidence.folds;
        context.unseenRmse = ofFolds ? m_evidence.folds->rmse : m_evidence.heldOut.rmse;
        context.unseenRSquared = ofFolds ? m_evidence.folds->rSquared : m_evidence.heldOut.rSquared;
        if (m_evidence.forecast) {
            context.reach = m_evidence.forecast->reach;
            context.forecast = m_evidence.forecast->prediction;
            context.coming = &m_evidence.forecast->rows;
        }
        if (m_checked && context.kind.leastSquares && m_checked->fit.degreesOfFreedom > 0)
            context.shareOfModel = [this](std::span<const std::uint32_t> rows) { return shareOfModel(rows); };
        context.otherSeeds = [this](Progress& progress) {
            if (!kindOf(m_evidence.study->settings).costly)
                return otherSeeds(m_evidence, m_from, m_threads, progress);
            SeedSpread none;
            none.why = "such a model takes too long to be learned twenty times";
            return none;
        };
        if (!study.linear()) {
            // A model that holds its rows goes through them for every prediction.
            const auto inputs = static_cast<double>(study.inputs.size());
            const bool holdsRows = dynamic_cast<const NeighboursModel*>(study.model.get()) != nullptr;
            const auto* forest = dynamic_cast<const ForestModel*>(study.model.get());
            const double ofOne = holdsRows ? static_cast<double>(study.rows.size()) * inputs
                                 : forest  ? static_cast<double>(forest->trees.trees())
                                           : 1;
            constexpr double longest = 5e9, asksOfPair = 50 * 50, asksOfColumn = 5 * 1000;
            if (ofOne * asksOfPair * inputs * inputs / 2 < longest)
                context.pairs = [this](Progress& progress) {
                    return interactionStrengths(*m_evidence.study, m_table, m_threads, progress);
                };
            if (ofOne * asksOfColumn * inputs < longest || !m_evidence.importance.lines.empty())
                context.importances = [this](Progress& progress) { return importances(progress); };
        }
        if (m_evidence.study->tuning)
            context.otherSettings = [this](Progress& progress) {
                constexpr std::size_t seeds = 20;
                return tuneWithOtherSeeds(m_from.recipe, m_from.prepared, *m_evidence.study, seeds, m_threads,
                                          progress);
            };
        return context;
    }

private:
    std::vector<ColumnImportance> importances(Progress& progress) const {
        const Importance found = !m_evidence.importance.lines.empty()
                                     ? m_evidence.importance
                                     : permutationImportance(m_from.recipe, m_from.prepared, m_evidence,
                                                             m_file, m_threads, progress);
        std::vector<ColumnImportance> columns;
        for (const ImportanceLine& line : found.lines)
            if (line.columns.size() == 1)
                columns.push_back({line.columns[0], line.increase * (2 * found.rmse + line.increase)});
        return columns;
    }

    void takeRows() {
        const Study& study = *m_evidence.study;
        m_bound.emplace(study.bind(m_table, m_file));
        m_terms = study.terms();
        const ModelResponse working(m_from.recipe, m_table, m_file);
        for (const auto row : study.rows) {
            m_working.push_back(working.at(row));
            m_fitted.push_back(m_evidence.rows.fitted[row]);
        }
        for (std::size_t row = 0; row < m_evidence.rows.state.size(); ++row) {
            if (m_evidence.rows.state[row] != RowState::heldOut || std::isnan(m_evidence.rows.fitted[row]))
                continue;
            m_heldOutAll.push_back(static_cast<std::uint32_t>(row));
            const double error = m_evidence.rows.residual[row];
            if (std::isnan(error)) continue; // no logarithm
            m_heldOutErrors.push_back(error);
            m_heldOutRows.push_back(static_cast<std::uint32_t>(row));
        }
    }

    void takeLinear() {
        const Study& study = *m_evidence.study;
        const LinearModel* linear = study.linear();
        if (!linear || !m_evidence.linear) return;
        const auto groups = termGroups(m_from.recipe.terms);
        for (std::size_t t = 0; t < m_evidence.linear->terms.size(); ++t)
            if (study.has(t))
                m_checkedTerms.push_back(
                    {m_evidence.linear->terms[t].name, m_evidence.linear->terms[t].inflation, groups[t]});
        for (const auto row : study.rows) {
            m_leverages.push_back(m_evidence.linear->rows.leverage[row]);
            m_studentized.push_back(m_evidence.linear->rows.studentized[row]);
            m_cooks.push_back(m_evidence.linear->rows.cook[row]);
        }
        m_fit = linear->fit;
        m_fit.residuals = study.trained.residuals;
        takeEffects(*linear);
        m_design.emplace(linear->design, m_table, m_file);
        m_checked.emplace(CheckedLinear{*linear, *m_design, m_fit, study.trained.residuals, m_checkedTerms,
                                        m_effects, m_leverages, m_studentized, m_cooks,
                                        [this]() -> const Eigen::MatrixXd& { return orthonormal(); },
                                        tooWide(m_fit, study.rows.size())});
    }

    static std::string tooWide(const LeastSquaresFit& fit, std::size_t rows) {
        constexpr double most = 2.5e8;
        if (static_cast<double>(rows) * static_cast<double>(fit.rank()) <= most) return {};
        return plural(static_cast<std::size_t>(fit.rank()), "coefficient", "coefficients") + " at " +
               plural(rows, "row", "rows") + " are too many for it";
    }

    const Eigen::MatrixXd& orthonormal() {
        std::call_once(m_madeOrthonormal, [this] { makeOrthonormal(); });
        return m_orthonormal;
    }

    void makeOrthonormal() {
        const DesignRows x(*m_design, m_evidence.study->rows);
        m_orthonormal.resize(x.rows(), m_fit.rank());
        const auto& weights = m_evidence.study->weights;
        forRowBlocks(x, m_threads, m_progress, [&](Index begin, const Eigen::MatrixXd& raw) {
            Eigen::MatrixXd block = m_fit.inOrthonormalBasis(raw);
            for (Index i = 0; i < block.rows() && !weights.empty(); ++i)
                block.row(i) *= std::sqrt(weights[static_cast<std::size_t>(begin + i)]);
            m_orthonormal.middleRows(begin, block.rows()) = block;
        });
    }

    void takeEffects(const LinearModel& linear) {
        const Inputs& inputs = linear.design.inputs();
        const BoundDesign bound(linear.design, m_table, m_file);
        std::unordered_map<std::string_view, const DesignColumn*> byName;
        for (const DesignColumn& column : linear.design.columns())
            byName.emplace(column.name, &column);
        // Rows of every level, a pass a factor.
        std::vector<std::vector<std::size_t>> rowsOf(inputs.size());
        for (const CoefficientEvidence& c : m_evidence.linear->coefficients) {
            if (c.term < 0 || c.dependent || c.derived) continue;
            CheckedEffect effect{c.name, c.effect, false, 0};
            const auto found = byName.find(c.name);
            if (found != byName.end() && found->second->pieces.size() == 1) {
                const auto& piece = found->second->pieces[0];
                if (inputs[piece.input].factor && piece.basis.kind == Basis::Kind::indicator) {
                    auto& rows = rowsOf[piece.input];
                    if (rows.empty()) {
                        rows.resize(inputs[piece.input].levels.size());
                        for (const auto row : m_evidence.study->rows)
                            if (const double level = bound.inputValue(piece.input, row); level >= 0)
                                ++rows[static_cast<std::size_t>(level)];
                    }
                    effect.level = true;
                    effect.rows = rows[static_cast<std::size_t>(piece.basis.level)];
                }
            }
            m_effects.push_back(std::move(effect));
        }
    }

    /// Half of the interval of a single value at each held-out row.
    void takeHalves() {
        const LinearModel* model = m_evidence.study->linear();
        const PredictionRule& rule = m_evidence.study->rule;
        if (m_heldOutRows.empty() || (model && model->isQuantile())) return;
        if (!model || !model->hasErrors()) { // by rows left out, where there are enough
            const double half = rule.halfByErrors(m_from.recipe.level);
            if (std::isnan(half)) return;
            for (const auto row : m_heldOutRows)
                m_heldOutHalves.push_back(half * std::sqrt(rule.usualWeight / m_bound->weight(row)));
            return;
        }
        if (!(rule.spread > 0) || rule.link.family) return; // a family's are no halves
        const LinearModel& linear = *model;
        const double t = studentQuantile(m_from.recipe.level, linear.fit.testDegreesOfFreedom());
        if (std::isnan(t)) return;
        m_heldOutHalves.assign(m_heldOutRows.size(), nan);
        const double spread = m_evidence.study->rule.spread;
        m_bound->eachBlock(
            m_heldOutRows, m_threads, m_progress, [&](std::size_t first, const Eigen::MatrixXd& inputs) {
                const Eigen::VectorXd ofMean = linear.at(inputs).variance;
                const auto begin = static_cast<Index>(first);
                for (Index i = 0; i < inputs.rows(); ++i) {
                    const auto at = static_cast<std::size_t>(begin + i);
                    m_heldOutHalves[at] =
                        t * std::sqrt(ofMean[i] + spread * spread / m_bound->weight(m_heldOutRows[at]));
                }
            });
    }

    /// Normal where the distribution holds, with values of a chance of their own spread over it at random
    /// (Dunn and Smyth 1996, "Randomized quantile residuals", Journal of Computational and Graphical
    /// Statistics 5); on the scale of the spread.
    void takeQuantileResiduals(const Study& study) {
        const PowerFamily& family = *study.rule.link.family;
        const double spread = study.rule.spread;
        RandomStream stream(1, "quantile residuals");
        for (std::size_t i = 0; i < study.rows.size(); ++i) {
            const double weight = study.weights.empty() ? 1 : study.weights[i];
            const double u = stream.uniform();
            if (!(weight > 0)) {
                m_errors.push_back(0);
                continue;
            }
            const double y = m_evidence.rows.actual[study.rows[i]], mean = m_fitted[i],
                         dispersion = spread * spread / weight;
            const double below = family.strictlyBelow(y, mean, dispersion),
                         upTo = family.below(y, mean, dispersion);
            constexpr double end = 1e-12;
            m_errors.push_back(spread * normalQuantile(std::clamp(below + u * (upTo - below), end, 1 - end)));
        }
    }

    void takeErrors() {
        const Study& study = *m_evidence.study;
        if (study.linear()) {
            m_errorRows = study.rows;
            if (study.rule.link.family) {
                m_errorsOf = "quantile residuals";
                takeQuantileResiduals(study);
                return;
            }
            m_errorsOf = "residuals";
            for (std::size_t i = 0; i < study.rows.size(); ++i) {
                const double weight = study.weights.empty() ? 1 : study.weights[i];
                m_errors.push_back(std::sqrt(weight) * study.trained.residuals[static_cast<Index>(i)]);
            }
            return;
        }
        const auto add = [&](std::uint32_t row, double error) {
            if (!std::isfinite(error)) return;
            m_errorRows.push_back(row);
            m_errors.push_back(std::sqrt(m_bound->weight(row)) * error);
        };
        if (m_evidence.folds && m_evidence.folds->rows > 0) {
            m_errorsOf = "errors of rows out of fold";
            const auto& outOfFold = m_evidence.folds->outOfFold;
            for (const auto row : study.rows) {
                const double actual = m_evidence.rows.actual[row];
                const Link& link = study.rule.link;
                add(row, link.family                 ? link.family->devianceResidual(actual, outOfFold[row])
                         : m_from.recipe.logResponse ? std::log(actual / outOfFold[row])
                                                     : actual - outOfFold[row]);
            }
        } else if (!study.trained.unseen.empty()) {
            m_errorsOf = "errors of learning rows " + std::string(errorsOfName(study.trained.unseenOf));
            for (std::size_t i = 0; i < study.trained.unseen.size(); ++i)
                add(study.rows[study.trained.unseenRows[i]], study.trained.unseen[i]);
        } else if (!m_heldOutRows.empty()) {
            m_errorsOf = "errors of held-out rows";
            for (std::size_t i = 0; i < m_heldOutRows.size(); ++i)
                add(m_heldOutRows[i], m_heldOutErrors[i]);
        }
        if (m_errors.empty()) m_errorsOf.clear();
    }

    void takeUnseen() {
        const auto add = [&](std::uint32_t row, double predicted) {
            const double actual = m_evidence.rows.actual[row];
            if (!std::isfinite(predicted) || !std::isfinite(actual)) return;
            m_unseenRows.push_back(row);
            m_unseenActual.push_back(actual);
            m_unseenPredicted.push_back(predicted);
        };
        if (m_heldOutAll.size() > 1) {
            m_unseenWhat = "held-out rows";
            m_unseenHeldOut = true;
            for (const auto row : m_heldOutAll)
                add(row, m_evidence.rows.fitted[row]);
        } else if (m_evidence.folds && m_evidence.folds->rows > 1) {
            m_unseenWhat = "rows out of fold";
            for (std::size_t row = 0; row < m_evidence.folds->outOfFold.size(); ++row)
                if (m_evidence.rows.state[row] == RowState::learning)
                    add(static_cast<std::uint32_t>(row), m_evidence.folds->outOfFold[row]);
        }
    }

    void takeMisfits() {
        const auto used = inputNames(m_from.recipe.terms);
        for (const auto& [column, count] : m_from.rows.learning.report.faultsByColumn)
            if (column == m_from.recipe.response || std::find(used.begin(), used.end(), column) != used.end())
                m_misfits.emplace_back(column, count);
    }

    /// s'(X'X)⁻¹s of the sum s of the rows' columns over Σ 1/w; of a fit in logarithms each row times its
    /// prediction, by the delta method.
    double shareOfModel(std::span<const std::uint32_t> rows) {
        const DesignRows x(*m_design, rows);
        const std::vector<double> weights = weightsOf(m_from.recipe, m_table, m_file, rows);
        const bool logarithm = m_from.recipe.logResponse;
        const auto slope = [&](Index i) {
            return logarithm ? m_evidence.rows.fitted[rows[static_cast<std::size_t>(i)]] : 1.0;
        };
        double ofRows = 0;
        const double usual = m_evidence.study->rule.usualWeight;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const double w = weights.empty() ? 1 : weights[i] > 0 ? weights[i] : usual;
            ofRows += std::pow(slope(static_cast<Index>(i)), 2) / w;
        }
        const Eigen::MatrixXd sum = m_fit.factor.levels() > 0 ? sumApart(x, slope) : sumOf(x, slope);
        return m_fit.factor.solveTransposed(sum).squaredNorm() / ofRows;
    }

    template <class Slope> Eigen::MatrixXd sumOf(const DesignRows& x, const Slope& slope) {
        return sumRowBlocks(x, m_threads, m_progress, Eigen::VectorXd::Zero(m_fit.rank()).eval(),
                            [&](Index begin, const Eigen::MatrixXd& raw) {
                                Eigen::MatrixXd shifted = m_fit.shifted(raw);
                                for (Index i = 0; i < shifted.rows(); ++i)
                                    shifted.row(i) *= slope(begin + i);
                                return Eigen::VectorXd(shifted.colwise().sum());
                            });
    }

    template <class Slope> Eigen::MatrixXd sumApart(const DesignRows& x, const Slope& slope) {
        const ApartReader reader(m_fit, x);
        Eigen::MatrixXd sum = Eigen::MatrixXd::Zero(m_fit.rank(), 1);
        constexpr Index piece = 4096;
        for (Index begin = 0; begin < x.rows(); begin += piece) {
            stopIfTold(m_progress);
            const ApartReader::Rows part = reader.read(begin, std::min(piece, x.rows() - begin));
            Eigen::MatrixXd slopes(part.rest.rows(), 1);
            for (Index i = 0; i < slopes.rows(); ++i)
                slopes(i, 0) = slope(begin + i);
            reader.addProducts(part, slopes, sum);
        }
        return sum;
    }

    const Evidence& m_evidence;
    const EvaluatedFrom& m_from;
    const Table& m_table;
    std::string m_file;
    Threads m_threads;
    Progress& m_progress;
    std::optional<BoundModel> m_bound;
    std::vector<Term> m_terms;
    std::vector<double> m_working, m_fitted;
    std::vector<std::uint32_t> m_heldOutAll, m_heldOutRows;
    std::vector<double> m_heldOutErrors, m_heldOutHalves;
    std::vector<CheckedTerm> m_checkedTerms;
    std::vector<CheckedEffect> m_effects;
    std::vector<double> m_leverages, m_studentized, m_cooks;
    LeastSquaresFit m_fit;
    std::once_flag m_madeOrthonormal;
    Eigen::MatrixXd m_orthonormal;
    std::optional<BoundDesign> m_design;
    std::optional<CheckedLinear> m_checked;
    std::string m_errorsOf, m_unseenWhat;
    std::vector<std::uint32_t> m_errorRows, m_unseenRows;
    std::vector<double> m_errors, m_unseenActual, m_unseenPredicted;
    bool m_unseenHeldOut = false;
    std::vector<std::pair<std::string, std::size_t>> m_misfits;
};

/// Only asked whether to stop: of checks that run beside each other each would tell a share of its own.
std::string checkingText(std::size_t check) {
    const auto& readings = checks()[check].readings;
    return readings.empty() ? "Checking" : "Checking " + std::string(readings[0]);
}

/// Outcomes as they come, and what they make of the evidence so far.
class Outcomes {
public:
    Outcomes(const Evidence& evidence, const EvaluatedFrom& from, const ChecksSoFar& soFar)
        : m_evidence(evidence), m_from(from), m_soFar(soFar), m_outcomes(evidence.checks) {
        m_outcomes.resize(checks().size());
    }

    const std::vector<CheckOutcome>& all() const { return m_outcomes; }
    std::vector<CheckOutcome> taken() { return std::move(m_outcomes); }

    void take(std::size_t check, CheckOutcome outcome) {
        using namespace std::chrono;
        const std::lock_guard lock(m_guard);
        m_outcomes[check] = std::move(outcome);
        if (!m_soFar || steady_clock::now() - m_told < milliseconds(250)) return;
        Evidence next = m_evidence;
        next.checks = m_outcomes;
        next.checkSettings = m_from.recipe.checks;
        gatherFindings(next, m_from);
        m_soFar(next);
        m_told = steady_clock::now();
    }

private:
    const Evidence& m_evidence;
    const EvaluatedFrom& m_from;
    const ChecksSoFar& m_soFar;
    std::vector<CheckOutcome> m_outcomes;
    std::mutex m_guard;
    std::chrono::steady_clock::time_point m_told = std::chrono::steady_clock::now();
};

} // namespace

void forgetChecksOfFolds(Evidence& evidence) {
    for (std::size_t i = 0; i < evidence.checks.size(); ++i)
        if (checks()[i].readsFolds) evidence.checks[i] = {};
}

void takeOverChecks(Evidence& evidence, const Evidence& before, const Recipe& recipe) {
    if (before.study != evidence.study || before.checkSettings != recipe.checks ||
        before.forecast.has_value() != evidence.forecast.has_value() ||
        before.checks.size() != checks().size())
        return;
    evidence.checks.resize(checks().size());
    for (std::size_t i = 0; i < evidence.checks.size(); ++i)
        if (checks()[i].slow && (checks()[i].needs & needsForecast) == 0 &&
            (!checks()[i].readsFolds || before.folds == evidence.folds))
            evidence.checks[i] = before.checks[i];
}

bool checksPending(const Evidence& evidence) {
    return evidence.checks.size() < checks().size() ||
           std::any_of(evidence.checks.begin(), evidence.checks.end(),
                       [](const CheckOutcome& outcome) { return !outcome.done; });
}

void runChecks(Evidence& evidence, const EvaluatedFrom& from, ChecksWanted wanted, Threads threads,
               Progress& progress, const ChecksSoFar& soFar) {
    if (wanted == ChecksWanted::none) {
        gatherFindings(evidence, from);
        return;
    }
    progress.checkpoint(0, "Checking");
    Outcomes outcomes(evidence, from, soFar);
    std::vector<std::size_t> beside, alone;
    for (std::size_t i = 0; i < checks().size(); ++i)
        if (!outcomes.all()[i].done && !(checks()[i].slow && wanted == ChecksWanted::quick))
            (checks()[i].alone ? alone : beside).push_back(i);
    const auto count = static_cast<double>(beside.size() + alone.size());
    StopOnly unheard(progress);
    CheckedFit fit(evidence, from, threads, progress);
    CheckContext context = fit.context();
    context.progress = &unheard;
    std::atomic<std::size_t> done{0};
    parallelFor(beside.size(), threads, [&](std::size_t k) {
        progress.checkpoint(static_cast<double>(done) / count, checkingText(beside[k]));
        outcomes.take(beside[k], runCheck(beside[k], context));
        ++done;
    });
    for (const std::size_t check : alone) {
        ProgressStage stage(progress, static_cast<double>(done) / count,
                            static_cast<double>(done + 1) / count);
        context.progress = &stage;
        stage.checkpoint(0, checkingText(check));
        outcomes.take(check, runCheck(check, context));
        ++done;
    }
    evidence.checks = outcomes.taken();
    evidence.checkSettings = from.recipe.checks;
    gatherFindings(evidence, from);
}

void gatherFindings(Evidence& evidence, const EvaluatedFrom& from) {
    std::vector<Reading> readings;
    std::vector<Goad> goads;
    const auto take = [&](const Findings& found) {
        for (const Reading& reading : found.readings) {
            // Two checks may make one reading for different kinds of model: what has a value stands.
            const auto same = std::find_if(readings.begin(), readings.end(),
                                           [&](const Reading& r) { return r.name == reading.name; });
            if (same == readings.end())
                readings.push_back(reading);
            else if (std::isnan(same->value))
                *same = reading;
        }
        for (const Goad& goad : found.goads) // a row may be named by several measures of influence
            if (std::none_of(goads.begin(), goads.end(), [&](const Goad& g) { return g.key == goad.key; }))
                goads.push_back(goad);
    };
    for (const CheckOutcome& outcome : evidence.checks)
        take(outcome.found);
    take(foldFindings(evidence));
    addDataGoads(from.recipe, from.prepared, goads);
    addModelGoads(from.recipe, evidence, goads);
    orderGoads(goads);
    for (Goad& goad : goads)
        markAccepted(from.recipe, goad);
    gatherUnder(goads);
    for (Goad& goad : notedGoads(from.recipe))
        goads.push_back(std::move(goad));
    evidence.readings = std::move(readings);
    evidence.goads = std::move(goads);
}

} // namespace oxgoad
