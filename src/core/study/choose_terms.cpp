#include "study/choose_terms.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "look/scaled.h"
#include "study/judge.h"
#include "study/rows_used.h"
#include "study/study.h"
#include "study/term_search.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t mostForSubsets = 30;

std::vector<Term> candidatesOf(const Recipe& recipe, const PreparedRows& prepared,
                               const ChoosePlan& request) {
    if (!request.from.empty()) return request.from;
    std::vector<Term> terms = recipe.terms;
    const auto used = inputNames(recipe.terms);
    for (const Column& column : prepared.table.columns())
        if (column.name() != recipe.response && column.kind() != ColumnKind::text &&
            isOffered(recipe, column.name()) &&
            std::find(used.begin(), used.end(), column.name()) == used.end())
            terms.push_back(plainTerm(column.name()));
    return terms;
}

void requireSensible(const ChoosePlan& request, const std::vector<Term>& terms) {
    const auto refuse = [](const std::string& what, const std::string& remedy) {
        throw Error(ErrorCode::badTerm, what, {}, remedy);
    };
    if (terms.empty())
        refuse("there is no term to choose from", "Bring a column, or give one the role of a predictor.");
    if (request.folds < 2 || request.folds > 20)
        refuse("the rows cannot be dealt into " + std::to_string(request.folds) + " folds",
               "Use from 2 to 20.");
    if (request.by == ChooseBy::bestSubsets && terms.size() > mostForSubsets)
        refuse("best subsets of " + std::to_string(terms.size()) + " terms cannot be searched",
               "Choose from at most 30, or go forward or both ways.");
    if (request.criterion == ChooseCriterion::pValue) {
        if (request.by == ChooseBy::bestSubsets)
            refuse("best subsets cannot be compared by p", "Use an error or an information criterion.");
        if (!(request.enter > 0 && request.leave < 1 && request.enter <= request.leave))
            refuse("a term would come in below p " + shortText(request.enter) + " and go out above p " +
                       shortText(request.leave) + ", which could go round for ever",
                   "The first must be above 0 and at most the second, the second below 1.");
    }
}

/// Columns of every offered candidate over rows that have them all.
std::vector<std::uint32_t> commonRows(const Recipe& recipe, const PreparedRows& prepared,
                                      const std::vector<Term>& terms) {
    Recipe all = recipe;
    all.terms = terms;
    std::vector<const Column*> columns;
    for (const std::string& name : columnsInUse(all))
        columns.push_back(&prepared.table.at(name, {}));
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < prepared.table.rows(); ++i)
        if (prepared.teaches(i) &&
            std::none_of(columns.begin(), columns.end(), [&](const Column* c) { return c->isMissing(i); }))
            rows.push_back(static_cast<std::uint32_t>(i));
    return rows;
}

/// Factors with one level, numbers with one value and terms that cannot be made are passed over.
std::vector<Term> usable(const Recipe& recipe, const PreparedRows& prepared, const std::vector<Term>& terms,
                         std::span<const std::uint32_t> rows, std::vector<std::string>& notSelected) {
    std::vector<Term> kept;
    for (const Term& term : terms) {
        try {
            const Design design = Design::learn(prepared.table, rows, {term}, recipe.reference, {});
            const BoundDesign bound(design, prepared.table, {});
            const bool defined =
                design.guards().empty() ||
                std::all_of(rows.begin(), rows.end(), [&](auto row) { return bound.complete(row); });
            // A factor of more levels than a tenth of the rows would be chosen for its size.
            if (defined && design.columns().size() * 10 <= rows.size()) {
                kept.push_back(term);
                continue;
            }
        } catch (const Error& error) {
            if (error.code() != ErrorCode::badTerm) throw;
        }
        notSelected.push_back(termName(term));
    }
    return kept;
}

/// From the criterion's inner scale to what people read.
double told(ChooseCriterion criterion, double value, double unit, double totalVariance, double rows) {
    switch (criterion) {
    case ChooseCriterion::crossValidated:
        return std::sqrt(value) / unit;
    case ChooseCriterion::adjustedRSquared:
        return 1 - value / totalVariance;
    case ChooseCriterion::aicc:
    case ChooseCriterion::bic:
        return value + rows * (std::log(2 * M_PI / (unit * unit)) + 1);
    case ChooseCriterion::pValue:
        break;
    }
    return value;
}

/// Every candidate as a column, shifted and scaled, and the rows as folds of triangular factors of these
/// columns; or of the rows themselves where candidates are so many that a factor of them all would be most of
/// the work.
struct CandidateFactors {
    std::vector<std::uint32_t> rows;
    std::vector<double> weights;
    Design design;
    /// Of everything; of wide tables shifts, scales and sums of squares alone.
    LeastSquaresFit fit;
    Candidates candidates;
    CellFactors cells;
    std::vector<std::string> notSelected;
};

/// One fit of everything tells which columns can be told apart, and gives shifts and scales.
void fitEverything(CandidateFactors& ground, const Recipe& recipe, const Table& table,
                   const std::string& file, std::span<const std::uint32_t> rows, Threads threads,
                   Progress& progress) {
    Recipe everything = recipe;
    everything.estimator = Settings{};
    everything.errors = {};
    everything.choose.reset();
    everything.forecast.reset();
    const auto study = learn(everything, table, {}, file, {rows.begin(), rows.end()}, threads, progress);
    ground.rows = study->rows;
    ground.weights = study->weights;
    ground.design = study->linear()->design;
    requireOneMatrix(ground.design, "a choice among terms", file);
    ground.fit = study->linear()->fit;
    ground.candidates.first = recipe.intercept ? 1 : 0;
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        std::vector<Index> columns;
        for (const std::size_t j : ground.fit.kept)
            if (ground.design.columns()[j].term == t)
                columns.push_back(ground.candidates.first + static_cast<Index>(j));
        if (columns.empty()) {
            ground.notSelected.push_back(termName(recipe.terms[t]));
            continue;
        }
        ground.candidates.terms.push_back(recipe.terms[t]);
        ground.candidates.columns.push_back(std::move(columns));
    }
}

/// Terms from which steps forward go by the rows; and values that these may have, folds included.
constexpr std::size_t wideTerms = 300;
constexpr double mostRowValues = 5e7;

/// Learns the candidates' columns; whether steps go by the rows of these. Errors: as those of a fit.
bool goesByRows(CandidateFactors& ground, const Recipe& recipe, const Table& table, const std::string& file,
                std::span<const std::uint32_t> rows, const ChoosePlan& request, bool byFolds) {
    if (request.by != ChooseBy::forward && request.by != ChooseBy::bothWays) return false;
    if (recipe.terms.size() < wideTerms) return false;
    const Inputs known = learnInputs(table, rows, inputNames(recipe.terms), recipe.reference, file);
    const BoundInputs inputs(known, table, file);
    const std::string none;
    ground.design =
        learnDesign({.inputs = inputs, .rows = rows, .terms = recipe.terms, .unitsName = none, .file = file});
    requireOneMatrix(ground.design, "a choice among terms", file);
    return static_cast<double>(rows.size()) * static_cast<double>(ground.design.columns().size()) *
               (byFolds ? request.folds + 1 : 1) <=
           mostRowValues;
}

/// The rows themselves, [1, X~, y~] times the roots of their weights.
MatrixXd wideRows(CandidateFactors& ground, const Recipe& recipe, const Table& table, const std::string& file,
                  std::span<const std::uint32_t> rows, Threads threads, Progress& progress) {
    ground.rows.assign(rows.begin(), rows.end());
    ground.weights = weightsOf(recipe, table, file, rows);
    const BoundDesign bound(ground.design, table, file);
    const auto n = static_cast<Index>(rows.size()), p = static_cast<Index>(ground.design.columns().size());
    const Index first = recipe.intercept ? 1 : 0;
    ground.candidates.first = first;
    MatrixXd x(n, first + p + 1);
    if (first > 0) x.col(0).setOnes();
    forEachBlock(bound, rows, threads, progress, [&](std::size_t from, const MatrixXd& block) {
        x.block(static_cast<Index>(from), first, block.rows(), p) = block;
    });
    const ModelResponse response(recipe, table, file);
    for (Index i = 0; i < n; ++i)
        x(i, first + p) = response.at(rows[static_cast<std::size_t>(i)]);
    VectorXd weights = VectorXd::Ones(n);
    for (Index i = 0; i < n && !ground.weights.empty(); ++i)
        weights[i] = ground.weights[static_cast<std::size_t>(i)];
    LeastSquaresFit& fit = ground.fit;
    fit.rows = n;
    fit.columns = p;
    fit.intercept = recipe.intercept;
    VectorXd scales(p + 1);
    parallelFor(static_cast<std::size_t>(p + 1), threads, [&](std::size_t j) {
        stopIfTold(progress);
        auto column = x.col(first + static_cast<Index>(j));
        if (first > 0) column.array() -= weights.dot(column) / weights.sum();
        scales[static_cast<Index>(j)] = powerOfTwoScale(std::span<const double>(column.data(), rows.size()));
        column *= scales[static_cast<Index>(j)];
        column.array() *= weights.array().sqrt();
    });
    if (first > 0) x.col(0) = weights.cwiseSqrt();
    fit.responseScale = scales[p];
    fit.totalSumOfSquares = x.col(first + p).squaredNorm() / (scales[p] * scales[p]);
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        ground.candidates.terms.push_back(recipe.terms[t]);
        ground.candidates.columns.emplace_back();
    }
    for (std::size_t j = 0; j < ground.design.columns().size(); ++j)
        ground.candidates.columns[ground.design.columns()[j].term].push_back(first + static_cast<Index>(j));
    return x;
}

/// Folds made of the cells of a dealing; the last cell is of rows that always learn.
void takeFolds(CellFactors& cells, const Dealing& dealing) {
    for (std::size_t f = 0; f < dealing.foldsPerRepeat(); ++f) {
        CellFactors::Fold fold;
        for (std::size_t c = 0; c < dealing.cells(); ++c) {
            if (dealing.learns(f, c)) fold.learns.push_back(c);
            if (dealing.judges(f, c)) fold.judges.push_back(c);
        }
        fold.learns.push_back(dealing.cells());
        cells.folds.push_back(std::move(fold));
    }
}

/// The wide rows as they are, dealt into folds where that is asked for.
void dealWideRows(CandidateFactors& ground, const Recipe& recipe, const Table& table, const std::string& file,
                  const ChoosePlan& request, bool byFolds, MatrixXd x) {
    ground.cells.reduced = false;
    ground.cells.rows = static_cast<double>(ground.rows.size());
    if (!byFolds) {
        ground.cells.counts.push_back(ground.cells.rows);
        ground.cells.factors.push_back(std::move(x));
        return;
    }
    const Dealing dealing = dealRows(innerFolds(recipe, table, ground.rows, request.folds, request.seed),
                                     table, ground.rows, file);
    const auto cellOf = dealing.cellOf(0);
    for (std::size_t c = 0; c <= dealing.cells(); ++c) {
        std::vector<Index> own;
        for (std::size_t i = 0; i < ground.rows.size(); ++i)
            if (cellOf[i] == c) own.push_back(static_cast<Index>(i));
        ground.cells.counts.push_back(static_cast<double>(own.size()));
        ground.cells.factors.push_back(x(own, Eigen::all));
    }
    takeFolds(ground.cells, dealing);
}

/// Rows dealt into folds, each reduced to a triangular factor in one pass.
void reduceFolds(CandidateFactors& ground, const Recipe& recipe, const Table& table, const std::string& file,
                 const ChoosePlan& request, Threads threads, Progress& progress) {
    const auto& rows = ground.rows;
    const Dealing dealing =
        dealRows(innerFolds(recipe, table, rows, request.folds, request.seed), table, rows, file);
    const ModelResponse response(recipe, table, file);
    const BoundDesign bound(ground.design, table, file);
    const auto cellOf = dealing.cellOf(0);
    const std::size_t cells = dealing.cells();
    ground.cells.rows = static_cast<double>(rows.size());
    for (std::size_t c = 0; c <= cells; ++c) { // the last one: rows that always learn
        ProgressStage stage(progress, static_cast<double>(c) / static_cast<double>(cells + 1),
                            static_cast<double>(c + 1) / static_cast<double>(cells + 1));
        std::vector<std::uint32_t> own;
        std::vector<double> y, weights;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            if (cellOf[i] != c) continue;
            own.push_back(rows[i]);
            y.push_back(response.at(rows[i]));
            if (!ground.weights.empty()) weights.push_back(ground.weights[i]);
        }
        ground.cells.counts.push_back(static_cast<double>(own.size()));
        ground.cells.factors.push_back(
            own.empty() ? MatrixXd::Zero(1, ground.fit.columns + ground.candidates.first + 1)
                        : reduceRows(ground.fit, DesignRows(bound, own), y, weights, threads, stage));
    }
    takeFolds(ground.cells, dealing);
}

/// The same without folds.
void reduceWhole(CandidateFactors& ground, const Recipe& recipe, const Table& table, const std::string& file,
                 Threads threads, Progress& progress) {
    const ModelResponse response(recipe, table, file);
    const BoundDesign bound(ground.design, table, file);
    const auto& rows = ground.rows;
    std::vector<double> y;
    for (const auto row : rows)
        y.push_back(response.at(row));
    ground.cells.rows = static_cast<double>(rows.size());
    ground.cells.counts.push_back(ground.cells.rows);
    ground.cells.factors.push_back(
        reduceRows(ground.fit, DesignRows(bound, rows), y, ground.weights, threads, progress));
}

} // namespace

FoldPlan innerFolds(const Recipe& recipe, const Table& table, std::span<const std::uint32_t> rows, int folds,
                    std::uint64_t seed) {
    FoldPlan plan{.kind = FoldKind::kFolds, .folds = folds, .seed = seed};
    const auto valuesOf = [&](const std::string& name) {
        const Column* column = name.empty() ? nullptr : table.find(name);
        if (!column || column->kind() == ColumnKind::text) return std::size_t{0};
        std::set<double> values;
        for (const auto row : rows)
            if (!column->isMissing(row)) values.insert(column->asNumber(row));
        return values.size();
    };
    if (recipe.judge) {
        const FoldPlan& judge = *recipe.judge;
        const std::size_t values = judge.goesByColumn() ? valuesOf(judge.column) : 0;
        const auto wanted = static_cast<std::size_t>(folds);
        if (judge.kind == FoldKind::inProportion && values > 0) {
            plan.kind = judge.kind;
            plan.column = judge.column;
            plan.bands = judge.bands;
            return plan;
        }
        if ((judge.kind == FoldKind::groups || judge.kind == FoldKind::column) && values >= 2) {
            plan.kind = FoldKind::groups;
            plan.column = judge.column;
            plan.folds = static_cast<int>(std::min(wanted, values));
            return plan;
        }
        const auto horizon = static_cast<std::size_t>(judge.horizon);
        const auto gap = static_cast<std::size_t>(judge.gap);
        if (judge.kind == FoldKind::rollingOrigin && values >= 2 * (horizon + gap)) {
            plan.kind = judge.kind;
            plan.column = judge.column;
            plan.horizon = judge.horizon;
            plan.gap = judge.gap;
            // At least half of the periods learn.
            plan.folds = static_cast<int>(std::clamp<std::size_t>(values / 2 / horizon, 1, wanted));
            return plan;
        }
    }
    const std::string group = columnWith(recipe, Role::group);
    if (valuesOf(group) >= static_cast<std::size_t>(folds)) {
        plan.kind = FoldKind::groups;
        plan.column = group;
    }
    return plan;
}

Choice chooseAmong(const Recipe& recipe, const Table& table, const std::string& file,
                   std::span<const std::uint32_t> rows, const ChoosePlan& request, Threads threads,
                   Progress& progress, const std::function<void(const ChooseStep&)>& soFar, bool describe) {
    requireSensible(request, recipe.terms);
    Choice choice;
    choice.rows = rows.size();
    choice.folds = request.folds;
    const bool byFolds = describe || request.criterion == ChooseCriterion::crossValidated;
    CandidateFactors ground;
    if (goesByRows(ground, recipe, table, file, rows, request, byFolds)) {
        ProgressStage first(progress, 0, 0.4);
        MatrixXd x = wideRows(ground, recipe, table, file, rows, threads, first);
        dealWideRows(ground, recipe, table, file, request, byFolds, std::move(x));
    } else {
        ProgressStage first(progress, 0, 0.4);
        fitEverything(ground, recipe, table, file, rows, threads, first);
        ProgressStage reducing(progress, 0.4, 0.8);
        if (byFolds)
            reduceFolds(ground, recipe, table, file, request, threads, reducing);
        else
            reduceWhole(ground, recipe, table, file, threads, reducing);
    }
    choice.notSelected = ground.notSelected;
    ProgressStage choosing(progress, 0.8, 1);
    Chooser chooser(ground.candidates, ground.cells, request, threads, choosing);
    const double unit = ground.fit.responseScale;
    const double n = static_cast<double>(rows.size());
    const double totalVariance =
        ground.fit.totalSumOfSquares * unit * unit / (n - (recipe.intercept ? 1 : 0));
    const auto tellStep = [&](const ChooseStep& step) {
        if (!soFar) return;
        ChooseStep shown = step;
        shown.criterion = told(request.criterion, step.criterion, unit, totalVariance, n);
        soFar(shown);
    };
    const TermSet chosen = chooser.choose(&choice.steps, tellStep);
    for (ChooseStep& step : choice.steps)
        step.criterion = told(request.criterion, step.criterion, unit, totalVariance, n);
    for (const std::size_t t : chosen)
        choice.terms.push_back(ground.candidates.terms[t]);
    choice.how = choosePlanText(request);
    if (!describe) return choice;
    choice.startCriterion = told(request.criterion, chooser.start(), unit, totalVariance, n);
    choice.endCriterion = told(request.criterion, chooser.end(), unit, totalVariance, n);
    choice.seenError = std::sqrt(chooser.crossValidated(chosen)) / unit;
    const std::vector<double> added = chooser.pOfAdding(chosen), left = chooser.pOfLeaving(chosen);
    for (std::size_t t = 0; t < ground.candidates.terms.size(); ++t) {
        const bool in = std::binary_search(chosen.begin(), chosen.end(), t);
        choice.candidates.push_back({ground.candidates.terms[t], in, std::nan(""), in ? left[t] : added[t]});
    }
    return choice;
}

Choice chooseTerms(const Recipe& recipe, const PreparedRows& prepared, const ChoosePlan& request,
                   Threads threads, Progress& progress, const std::function<void(const ChooseStep&)>& soFar) {
    std::vector<std::string> notSelected;
    Recipe among = recipe;
    among.terms = candidatesOf(recipe, prepared, request);
    if (recipe.response.empty())
        throw Error(ErrorCode::badTerm, "there is no response to explain", {}, "Choose one.");
    requireSensible(request, among.terms);
    // A column that most rows lack would take the rows from all others.
    std::erase_if(among.terms, [&](const Term& term) {
        const auto columns = columnsOf(term);
        const bool lacking = std::any_of(columns.begin(), columns.end(), [&](const std::string& name) {
            return 2 * prepared.table.at(name, {}).missingCount() > prepared.table.rows();
        });
        if (lacking) notSelected.push_back(termName(term));
        return lacking;
    });
    const auto rows = commonRows(recipe, prepared, among.terms);
    if (rows.empty())
        throw Error(ErrorCode::tooFewRows, "no learning row has values in all columns to choose from", {},
                    "Give columns that are mostly missing the role \"set aside\", or fill them in a step.");
    among.terms = usable(recipe, prepared, among.terms, rows, notSelected);
    const auto names = inputNames(among.terms);
    std::erase_if(among.reference, [&](const auto& reference) {
        return std::find(names.begin(), names.end(), reference.first) == names.end();
    });
    among.choose.reset();
    ProgressStage choosing(progress, 0, 0.5);
    Choice choice = chooseAmong(among, prepared.table, {}, rows, request, threads, choosing, soFar, true);
    notSelected.insert(notSelected.end(), choice.notSelected.begin(), choice.notSelected.end());
    choice.notSelected = std::move(notSelected);

    // The whole procedure judged: the choice made anew in every fold, by the recipe's own folds where it has
    // some. What is chosen by least squares is judged by least squares.
    among.choose = request;
    among.choose->from.clear();
    among.estimator = Settings{};
    among.errors = {};
    if (!among.judge) among.judge = innerFolds(recipe, prepared.table, rows, request.folds, request.seed);
    ProgressStage judging(progress, 0.5, 1);
    const FoldEvidence folds = judgeByFolds(among, prepared, {}, {.threads = threads}, judging);
    if (folds.partial()) throw Stopped{};
    choice.honestError = folds.rmse;
    choice.judgedBy = foldPlanText(*among.judge);
    for (ChosenTerm& candidate : choice.candidates) {
        const std::string name = termName(candidate.term);
        const auto times = std::count_if(folds.each.begin(), folds.each.end(), [&](const FoldScore& fold) {
            return std::find(fold.chosen.begin(), fold.chosen.end(), name) != fold.chosen.end();
        });
        candidate.share = folds.each.empty()
                              ? std::nan("")
                              : static_cast<double>(times) / static_cast<double>(folds.each.size());
    }
    return choice;
}

} // namespace oxgoad
