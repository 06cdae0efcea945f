#include "study/choose_terms.h"

#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "study/rows_used.h"
#include "study/study.h"
#include "study/term_search.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t mostForSubsets = 30;

std::vector<Term> candidatesOf(const Recipe& recipe, const PreparedRows& prepared,
                               const ChooseRequest& request) {
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

void requireSensible(const ChooseRequest& request, const std::vector<Term>& terms) {
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
                         std::span<const std::uint32_t> rows, std::vector<std::string>& passedOver) {
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
        passedOver.push_back(termName(term));
    }
    return kept;
}

std::vector<std::size_t> foldOf(const Recipe& recipe, const PreparedRows& prepared,
                                std::span<const std::uint32_t> rows, const ChooseRequest& request) {
    const auto folds = static_cast<std::size_t>(request.folds);
    std::vector<std::uint32_t> unit(rows.size());
    std::uint32_t units = 0;
    const std::string group = columnWith(recipe, Role::group);
    if (const Column* column = group.empty() ? nullptr : prepared.table.find(group);
        column && column->kind() != ColumnKind::text) {
        std::vector<double> values;
        for (const auto row : rows)
            values.push_back(column->isMissing(row)                 ? std::numeric_limits<double>::infinity()
                             : column->kind() == ColumnKind::factor ? column->codes()[row]
                                                                    : column->asNumber(row));
        std::vector<double> distinct = values;
        std::sort(distinct.begin(), distinct.end());
        distinct.erase(std::unique(distinct.begin(), distinct.end()), distinct.end());
        if (distinct.size() >= folds) {
            units = static_cast<std::uint32_t>(distinct.size());
            for (std::size_t i = 0; i < rows.size(); ++i)
                unit[i] = static_cast<std::uint32_t>(
                    std::lower_bound(distinct.begin(), distinct.end(), values[i]) - distinct.begin());
        }
    }
    if (units == 0) {
        std::iota(unit.begin(), unit.end(), 0U);
        units = static_cast<std::uint32_t>(rows.size());
    }
    RandomStream random(request.seed, "folds of the choice of terms");
    const auto order = shuffled(units, random);
    std::vector<std::size_t> foldOfUnit(units);
    for (std::size_t i = 0; i < order.size(); ++i)
        foldOfUnit[order[i]] = i % folds;
    std::vector<std::size_t> fold;
    for (const auto u : unit)
        fold.push_back(foldOfUnit[u]);
    return fold;
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

} // namespace

Choice chooseTerms(const Recipe& recipe, const PreparedRows& prepared, const ChooseRequest& request,
                   Threads threads, Progress& progress, const std::function<void(const ChooseStep&)>& soFar) {
    Choice choice;
    std::vector<Term> terms = candidatesOf(recipe, prepared, request);
    if (recipe.response.empty())
        throw Error(ErrorCode::badTerm, "there is no response to explain", {}, "Choose one.");
    requireSensible(request, terms);
    // A column that most rows lack would take the rows from all others.
    std::erase_if(terms, [&](const Term& term) {
        const auto columns = columnsOf(term);
        const bool lacking = std::any_of(columns.begin(), columns.end(), [&](const std::string& name) {
            return 2 * prepared.table.at(name, {}).missingCount() > prepared.table.rows();
        });
        if (lacking) choice.passedOver.push_back(termName(term));
        return lacking;
    });
    const auto rows = commonRows(recipe, prepared, terms);
    if (rows.empty())
        throw Error(ErrorCode::tooFewRows, "no learning row has values in all columns to choose from", {},
                    "Give columns that are mostly missing the role \"set aside\", or fill them in a step.");
    terms = usable(recipe, prepared, terms, rows, choice.passedOver);
    requireSensible(request, terms);
    choice.rows = rows.size();
    choice.folds = request.folds;

    // One fit of everything tells which columns can be told apart, and gives shifts and scales.
    Recipe everything = recipe;
    everything.terms = terms;
    everything.estimator = Settings{};
    everything.errors = {};
    everything.forecast.reset();
    ProgressStage first(progress, 0, 0.3);
    const std::shared_ptr<const Study> study =
        learn(everything, prepared.table, prepared.steps, {}, rows, threads, first);
    const LinearModel& model = *study->linear();
    LeastSquaresFit fit = model.fit;
    const WorkingResponse response(everything, prepared.table, {});
    const BoundDesign bound(model.design, prepared.table, {});
    Candidates candidates;
    candidates.first = recipe.intercept ? 1 : 0;
    for (std::size_t t = 0; t < terms.size(); ++t) {
        std::vector<Index> columns;
        for (const std::size_t j : model.fit.kept)
            if (model.design.columns()[j].term == t)
                columns.push_back(candidates.first + static_cast<Index>(j));
        if (columns.empty()) {
            choice.passedOver.push_back(termName(terms[t]));
            continue;
        }
        candidates.terms.push_back(terms[t]);
        candidates.columns.push_back(std::move(columns));
    }

    const auto fold = foldOf(recipe, prepared, rows, request);
    std::vector<MatrixXd> factors;
    std::vector<double> counts;
    for (std::size_t f = 0; f < static_cast<std::size_t>(request.folds); ++f) {
        ProgressStage stage(progress, 0.3 + 0.3 * static_cast<double>(f) / request.folds,
                            0.3 + 0.3 * static_cast<double>(f + 1) / request.folds);
        std::vector<std::uint32_t> own;
        std::vector<double> y, weights;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            if (fold[i] != f) continue;
            own.push_back(rows[i]);
            y.push_back(response.at(rows[i]));
            if (!study->weights.empty()) weights.push_back(study->weights[i]);
        }
        if (own.empty())
            throw Error(ErrorCode::tooFewRows,
                        plural(rows.size(), "row", "rows") + " cannot be dealt into " +
                            std::to_string(request.folds) + " folds",
                        {}, "Use fewer folds, or bring more rows.");
        factors.push_back(reduceRows(fit, DesignRows(bound, own), y, weights, threads, stage));
        counts.push_back(static_cast<double>(own.size()));
    }
    const auto chooserWithout = [&](std::size_t out, Progress& stage) {
        std::vector<const MatrixXd*> parts;
        double n = 0;
        for (std::size_t f = 0; f < factors.size(); ++f)
            if (f != out) {
                parts.push_back(&factors[f]);
                n += counts[f];
            }
        return Chooser(candidates, parts, n, request, threads, stage);
    };

    ProgressStage choosing(progress, 0.6, 0.75);
    Chooser chooser = chooserWithout(factors.size(), choosing);
    const double unit = model.fit.responseScale;
    const double n = static_cast<double>(rows.size());
    const double totalVariance = model.fit.totalSumOfSquares * unit * unit / (n - (recipe.intercept ? 1 : 0));
    const auto tellStep = [&](const ChooseStep& step) {
        if (!soFar) return;
        ChooseStep shown = step;
        shown.criterion = told(request.criterion, step.criterion, unit, totalVariance, n);
        soFar(shown);
    };
    const TermSet chosen = chooser.choose(&choice.steps, tellStep);
    for (ChooseStep& step : choice.steps)
        step.criterion = told(request.criterion, step.criterion, unit, totalVariance, n);
    choice.startCriterion = told(request.criterion, chooser.start(), unit, totalVariance, n);
    choice.endCriterion = told(request.criterion, chooser.end(), unit, totalVariance, n);
    choice.seenError = std::sqrt(chooser.crossValidated(chosen)) / unit;

    // The same choice without each fold: how stable it is, and what it really predicts.
    std::vector<double> times(candidates.terms.size(), 0);
    double squares = 0;
    for (std::size_t f = 0; f < factors.size(); ++f) {
        const double from = 0.75 + 0.25 * static_cast<double>(f) / request.folds;
        ProgressStage stage(progress, from, from + 0.25 / request.folds);
        Chooser again = chooserWithout(f, stage);
        const TermSet set = again.choose(nullptr, {});
        for (const std::size_t t : set)
            times[t] += 1.0 / request.folds;
        squares += again.squaredError(factors[f], set, again.solve(again.whole(), set));
    }
    choice.honestError = std::sqrt(squares / n) / unit;
    for (std::size_t t = 0; t < candidates.terms.size(); ++t) {
        const bool in = std::find(chosen.begin(), chosen.end(), t) != chosen.end();
        TermSet other = chosen;
        if (in)
            std::erase(other, t);
        else
            other.insert(std::lower_bound(other.begin(), other.end(), t), t);
        choice.candidates.push_back({candidates.terms[t], in, std::min(1.0, times[t]),
                                     in ? chooser.pOf(other, chosen) : chooser.pOf(chosen, other)});
        if (in) choice.terms.push_back(candidates.terms[t]);
    }
    choice.how =
        std::string(chooseByName(request.by)) + " by " + std::string(criterionName(request.criterion));
    if (request.criterion == ChooseCriterion::pValue)
        choice.how += " in below " + shortText(request.enter) + ", out above " + shortText(request.leave);
    if (request.mostSteps > 0)
        choice.how += ", at most " + plural(static_cast<std::size_t>(request.mostSteps),
                                            request.by == ChooseBy::bestSubsets ? "term" : "step",
                                            request.by == ChooseBy::bestSubsets ? "terms" : "steps");
    return choice;
}

} // namespace oxgoad
