#include "study/other_seeds.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "estimate/row_blocks.h"
#include "study/judge.h"
#include "study/rows_used.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>
#include <optional>

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

/// Rows of least squares in the basis that makes its columns orthonormal, so that the errors of some rows by
/// a fit of the others take no fit: e + Q_H (I − Q_H'Q_H)⁻¹ Q_H'e (Cook and Weisberg 1982, §3.6).
class OneFit {
public:
    OneFit(const Recipe& recipe, const Table& table, const std::string& file, const LearnedModel& model,
           std::vector<std::uint32_t> rows, Threads threads, Progress& progress)
        : m_rows(std::move(rows)), m_place(table.rows(), -1) {
        const BoundDesign design(model.linear()->design, table, file);
        const ModelResponse working(recipe, table, file);
        std::vector<double> y;
        for (std::size_t i = 0; i < m_rows.size(); ++i) {
            m_place[m_rows[i]] = static_cast<std::int64_t>(i);
            y.push_back(working.at(m_rows[i]));
        }
        const DesignRows x(design, m_rows);
        LeastSquaresOptions options;
        options.intercept = recipe.intercept;
        options.threads = threads;
        options.precision = LeastSquaresOptions::Precision::plain;
        const LeastSquaresFit fit = fitLeastSquares(x, y, options, progress);
        m_errors = fit.residuals;
        m_q.resize(fit.rank(), x.rows());
        forRowBlocks(x, threads, progress, [&](Eigen::Index begin, const Eigen::MatrixXd& raw) {
            Eigen::MatrixXd block = fit.shifted(raw);
            fit.factor.turn(block);
            m_q.middleCols(begin, block.rows()) = block.transpose();
        });
        m_squares = m_errors.squaredNorm();
    }

    std::size_t size() const { return m_rows.size(); }

    struct Left {
        /// Of the rows left out by a fit of the others, and of the others by it.
        double squares = 0, otherSquares = 0;
        std::size_t rows = 0;
    };
    /// None where the others do not hold the model.
    std::optional<Left> without(std::span<const std::uint32_t> rows) const {
        std::vector<Eigen::Index> places;
        for (const auto row : rows)
            if (m_place[row] >= 0) places.push_back(m_place[row]);
        const auto m = static_cast<Eigen::Index>(places.size());
        if (m == 0) return std::nullopt;
        // Block by block, each gathered once for the products and once for the errors.
        constexpr Eigen::Index block = 512;
        const Eigen::Index p = m_q.rows();
        Eigen::MatrixXd product = Eigen::MatrixXd::Zero(p, p);
        Eigen::VectorXd g = Eigen::VectorXd::Zero(p);
        double own = 0;
        const auto eachBlock = [&](const auto& use) {
            Eigen::MatrixXd q;
            Eigen::VectorXd e;
            for (Eigen::Index begin = 0; begin < m; begin += block) {
                const Eigen::Index count = std::min(block, m - begin);
                q.resize(p, count);
                e.resize(count);
                for (Eigen::Index i = 0; i < count; ++i) {
                    const Eigen::Index place = places[static_cast<std::size_t>(begin + i)];
                    q.col(i) = m_q.col(place);
                    e[i] = m_errors[place];
                }
                use(q, e);
            }
        };
        eachBlock([&](const Eigen::MatrixXd& q, const Eigen::VectorXd& e) {
            product.selfadjointView<Eigen::Lower>().rankUpdate(q);
            g.noalias() += q * e;
            own += e.squaredNorm();
        });
        Eigen::MatrixXd rest = -product;
        rest.diagonal().array() += 1;
        const Eigen::LLT<Eigen::MatrixXd, Eigen::Lower> solver(rest);
        // A direction that only these rows have: the others do not hold the model.
        if (solver.info() != Eigen::Success ||
            !(solver.matrixLLT().diagonal().array().square().minCoeff() > 1e-9))
            return std::nullopt;
        const Eigen::VectorXd d = solver.solve(g);
        Left left;
        left.rows = places.size();
        eachBlock([&](const Eigen::MatrixXd& q, const Eigen::VectorXd& e) {
            left.squares += (e + q.transpose() * d).squaredNorm();
        });
        left.otherSquares = std::max(0.0, m_squares - own - d.dot(g));
        return left;
    }

private:
    std::vector<std::uint32_t> m_rows;
    std::vector<std::int64_t> m_place;
    Eigen::MatrixXd m_q;
    Eigen::VectorXd m_errors;
    double m_squares = 0;
};

/// Whether a fit learns nothing from its rows but coefficients, and errors are in the response's unit.
bool onlyCoefficients(const Evidence& evidence, const Recipe& recipe) {
    if (recipe.choose || recipe.logResponse || !evidence.study->linear() ||
        !kindOf(recipe.estimator).leastSquares || !evidence.study->weights.empty() ||
        std::any_of(recipe.steps.begin(), recipe.steps.end(), [](const Step& s) { return s.on; }))
        return false;
    Recipe asked = recipe;
    asked.judge = FoldPlan{};
    return judgesInOnePass(asked, *evidence.study);
}

/// The splits of all seeds from one fit of learning and held-out rows; false where some could not be had so.
bool judgeSplitsAtOnce(const Evidence& evidence, const Recipe& other, std::uint64_t seed,
                       const EvaluatedFrom& from, Threads threads, Progress& progress, SeedSpread& spread) {
    const std::string& file = from.rows.learning.report.file;
    const Table& table = from.prepared.table;
    std::vector<std::uint32_t> rows;
    for (std::size_t row = 0; row < evidence.rows.state.size(); ++row) {
        const RowState state = evidence.rows.state[row];
        if (state == RowState::learning ||
            (state == RowState::heldOut && !std::isnan(evidence.rows.fitted[row])))
            rows.push_back(static_cast<std::uint32_t>(row));
    }
    const OneFit fit(other, table, file, *evidence.study->model, rows, threads, progress);
    const auto response = table.at(other.response, file).numbers();
    struct Judged {
        double rmse = 0, overMean = 0, overLearning = 0;
        bool there = false;
    };
    std::vector<Judged> judged(seeds);
    parallelFor(seeds, threads, [&](std::size_t k) {
        stopIfTold(progress);
        SetAside aside = *other.setAside;
        aside.seed = seed + k + 1;
        const auto parts = assignParts(table, aside, file);
        std::vector<std::uint32_t> held;
        double sum = 0;
        for (const auto row : rows)
            if (parts[row] == Part::heldOut) {
                held.push_back(row);
                sum += response[row];
            }
        if (held.size() < 2 || held.size() >= rows.size()) return;
        const auto left = fit.without(held);
        if (!left) return;
        const double mean = sum / static_cast<double>(held.size());
        double about = 0;
        for (const auto row : held)
            about += (response[row] - mean) * (response[row] - mean);
        const auto n = static_cast<double>(left->rows);
        judged[k].rmse = std::sqrt(left->squares / n);
        judged[k].overMean = std::sqrt(left->squares / about);
        judged[k].overLearning =
            judged[k].rmse / std::sqrt(left->otherSquares / static_cast<double>(fit.size() - left->rows));
        judged[k].there = true;
    });
    if (std::any_of(judged.begin(), judged.end(), [](const Judged& j) { return !j.there; })) return false;
    for (const Judged& each : judged) {
        spread.rmse.push_back(each.rmse);
        spread.overMean.push_back(each.overMean);
        spread.overLearning.push_back(each.overLearning);
    }
    return true;
}

/// The same of folds, from the fit of the learning rows.
bool judgeFoldsAtOnce(const Evidence& evidence, const Recipe& other, const EvaluatedFrom& from,
                      Threads threads, Progress& progress, std::vector<double>& rmse) {
    const std::string& file = from.rows.learning.report.file;
    const Table& table = from.prepared.table;
    const auto dealt = rowsToDeal(other, from.prepared, file);
    const OneFit fit(other, table, file, *evidence.study->model, evidence.study->rows, threads, progress);
    std::vector<double> found(seeds, std::nan(""));
    parallelFor(seeds, threads, [&](std::size_t k) {
        FoldPlan plan = *other.judge;
        plan.seed += k;
        plan.repeats = 1;
        const Dealing dealing = dealRows(plan, table, dealt, file);
        double squares = 0;
        std::size_t rows = 0;
        for (std::size_t f = 0; f < dealing.size(); ++f) {
            stopIfTold(progress);
            const auto left = fit.without(dealing.fold(f).judged);
            if (!left) return;
            squares += left->squares;
            rows += left->rows;
        }
        found[k] = std::sqrt(squares / static_cast<double>(rows));
    });
    if (std::any_of(found.begin(), found.end(), [](double v) { return std::isnan(v); })) return false;
    rmse = found;
    return true;
}

void judgeSplit(const Recipe& recipe, const EvaluatedFrom& from, Threads threads, Progress& progress,
                SeedSpread& spread) {
    const std::string& file = from.rows.learning.report.file;
    const auto prepared = setAsideAnew(recipe, from, threads, progress);
    const RowsUsed used = rowsUsed(recipe, *prepared, file);
    const auto study = learn(recipe, prepared->table, prepared->steps, file, used.learning, threads, progress,
                             {}, LearnFor::judging);
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
        fitted.push_back(bound.toResponseScale(study->trained.fitted[static_cast<Eigen::Index>(i)], row));
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
    // With the penalty that was found: looking for it anew would take as long again for every seed.
    Recipe found = recipe;
    found.estimator = evidence.study->settings;
    const bool drawn = recipe.setAside && (recipe.setAside->kind == SetAsideKind::random ||
                                           recipe.setAside->kind == SetAsideKind::proportionate ||
                                           recipe.setAside->kind == SetAsideKind::groups);
    if (drawn && evidence.heldOut.rows > 1) {
        Recipe other = found;
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
        const bool atOnce =
            onlyCoefficients(evidence, other) &&
            judgeSplitsAtOnce(evidence, other, recipe.setAside->seed, from, threads, progress, spread);
        for (int k = 1; k <= seeds && !atOnce; ++k) {
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
    Recipe other = found;
    other.judge->seed = recipe.judge->seed + 1;
    other.judge->repeats = seeds;
    std::vector<double> rmse;
    if (!onlyCoefficients(evidence, other) ||
        !judgeFoldsAtOnce(evidence, other, from, threads, progress, rmse)) {
        const FoldEvidence folds = judgeByFolds(other, from.prepared, from.rows.learning.report.file,
                                                {.threads = threads, .whole = evidence.study}, progress);
        for (const RepeatScore& repeat : folds.repeats)
            rmse.push_back(repeat.rmse);
    }
    // The mean is as far off whatever the dealing.
    const double overMean = std::sqrt(std::max(0.0, 1 - evidence.folds->rSquared)) / evidence.folds->rmse;
    for (const double each : rmse) {
        spread.rmse.push_back(each);
        spread.overMean.push_back(each * overMean);
        spread.overLearning.push_back(each / evidence.learning.rmse);
    }
    spread.what = "over folds dealt with seeds " + std::to_string(other.judge->seed) + " to " +
                  std::to_string(other.judge->seed + seeds - 1);
    spread.own = evidence.folds->rmse;
    spread.ownOverMean = std::sqrt(std::max(0.0, 1 - evidence.folds->rSquared));
    spread.ownOverLearning = evidence.folds->rmse / evidence.learning.rmse;
    return spread;
}

} // namespace oxgoad
