#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "estimate/linear/robust_errors.h"
#include "estimate/penalised/penalised.h"
#include "study/choose_terms.h"
#include "study/rows_used.h"
#include "study/study.h"
#include "study/tune.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

using Eigen::Index;

/// Place of each row's value among the different ones, ascending: groups and periods.
std::vector<std::uint32_t> unitsOf(const Column& column, std::span<const std::uint32_t> rows) {
    std::vector<double> values;
    values.reserve(rows.size());
    for (const auto row : rows)
        values.push_back(column.kind() == ColumnKind::factor ? column.codes()[row] : column.asNumber(row));
    std::vector<double> distinct = values;
    std::sort(distinct.begin(), distinct.end());
    distinct.erase(std::unique(distinct.begin(), distinct.end()), distinct.end());
    std::vector<std::uint32_t> units;
    units.reserve(rows.size());
    for (const double value : values)
        units.push_back(static_cast<std::uint32_t>(std::lower_bound(distinct.begin(), distinct.end(), value) -
                                                   distinct.begin()));
    return units;
}

/// Groups or periods that the errors are made over; empty without.
std::vector<std::uint32_t> unitsOfErrors(const Errors& errors, const Table& table, const std::string& file,
                                         std::span<const std::uint32_t> rows) {
    if (errors.column.empty()) return {};
    const Column& column = table.at(errors.column, file);
    const bool serial = errors.kind == CovarianceKind::autocorrelated;
    if (column.kind() == ColumnKind::text || (serial && column.kind() == ColumnKind::factor))
        throw Error(ErrorCode::wrongType,
                    "is a " + std::string(kindName(column.kind())) + " column, which has no " +
                        (serial ? "order in time" : "groups"),
                    {.file = file, .column = errors.column},
                    serial ? "Choose a date or a number." : "Choose a factor, a date or a number.");
    return unitsOf(column, rows);
}

int lagsOf(const Errors& errors, std::span<const std::uint32_t> units) {
    if (errors.kind != CovarianceKind::autocorrelated) return 0;
    if (errors.lags >= 0) return errors.lags;
    return usualLags(units.empty() ? 0 : *std::max_element(units.begin(), units.end()) + std::size_t{1});
}

std::vector<double> workingValues(const Recipe& recipe, const Table& table, const std::string& file,
                                  std::span<const std::uint32_t> rows) {
    const ModelResponse response(recipe, table, file);
    std::vector<double> working;
    working.reserve(rows.size());
    for (const auto row : rows) {
        working.push_back(response.at(row));
        if (std::isnan(working.back()))
            throw Error(ErrorCode::badTerm,
                        "ln of the response is not defined at " + shortText(response.asRead(row)) +
                            " in row " + countText(row + 1),
                        {.file = file, .column = recipe.response},
                        "Fit the response as it is, or leave out the rows where it is 0 or less.");
    }
    return working;
}

/// The column that tells series of rows apart; empty without, or where the rows are all of one.
std::string seriesColumn(const Recipe& recipe, const Table& table, std::span<const std::uint32_t> rows,
                         const std::string& file) {
    const std::string name = columnWith(recipe, Role::group);
    if (name.empty()) return name;
    const Column& column = table.at(name, file);
    if (column.kind() != ColumnKind::factor) return {};
    const auto codes = column.codes();
    return std::all_of(rows.begin(), rows.end(),
                       [&](std::uint32_t row) { return codes[row] == codes[rows.front()]; })
               ? std::string()
               : name;
}

/// Of kinds with a link of their own: what is added to what they say of each row; empty without.
std::vector<double> offsetsOf(const Recipe& recipe, const Table& table, const std::string& file,
                              std::span<const std::uint32_t> rows) {
    std::vector<double> offsets;
    if (!kindOf(recipe.estimator).can.ownLink || columnWith(recipe, Role::offset).empty()) return offsets;
    const ModelResponse response(recipe, table, file);
    for (const auto row : rows)
        offsets.push_back(response.offset(row));
    return offsets;
}

/// Residuals that a rule is made of: of rows not learned from where that is asked for and the kind says them,
/// otherwise of the learning rows.
struct RuleResiduals {
    std::vector<double> values, weights;
    bool unseen = false;
};

RuleResiduals residualsOf(const TrainingResults& rows, std::span<const double> weights, bool unseen) {
    RuleResiduals found;
    found.unseen = unseen && !rows.unseen.empty();
    const std::size_t count =
        found.unseen ? rows.unseen.size() : static_cast<std::size_t>(rows.residuals.size());
    for (std::size_t i = 0; i < count; ++i) {
        const std::size_t place = found.unseen ? rows.unseenRows[i] : i;
        found.values.push_back(found.unseen ? rows.unseen[i] : rows.residuals[static_cast<Index>(i)]);
        found.weights.push_back(weights.empty() ? 1 : weights[place]);
    }
    return found;
}

/// What theory says of linear models is taken of rows left out where there is none. What a model is off at
/// rows that it learned from says nothing of others: without unseen rows there are no intervals.
void findSpread(PredictionRule& rule, const RuleResiduals& residuals, IntervalsByErrors::Of of) {
    long double squares = 0, count = 0;
    IntervalsByErrors errors{of, {}};
    for (std::size_t i = 0; i < residuals.values.size(); ++i) {
        const double w = residuals.weights[i], e = residuals.values[i];
        if (!(w > 0) || std::isnan(e)) continue;
        squares += static_cast<long double>(w) * e * e;
        ++count;
        if (residuals.unseen) errors.sizes.push_back(std::fabs(e) * std::sqrt(w / rule.usualWeight));
    }
    std::sort(errors.sizes.begin(), errors.sizes.end());
    rule.spread = count > 0 ? static_cast<double>(std::sqrt(squares / count)) : std::nan("");
    if (!errors.sizes.empty()) rule.intervals = std::move(errors);
}

} // namespace

std::vector<double> weightsOf(const Recipe& recipe, const Table& table, const std::string& file,
                              std::span<const std::uint32_t> rows) {
    const std::string name = columnWith(recipe, Role::weight);
    if (name.empty()) return {};
    const Column& column = table.at(name, file);
    if (column.kind() != ColumnKind::number)
        throw Error(ErrorCode::wrongType,
                    "weights must be numbers, and this is a " + std::string(kindName(column.kind())) +
                        " column",
                    {.file = file, .column = name}, "Give another column the role of the weight, or none.");
    const auto numbers = column.numbers();
    std::vector<double> weights;
    weights.reserve(rows.size());
    bool any = false;
    for (const auto row : rows) {
        if (!(numbers[row] >= 0) || !std::isfinite(numbers[row]))
            throw Error(ErrorCode::badWeights,
                        "the weight in row " + countText(row + 1) + " is " + shortText(numbers[row]),
                        {.file = file, .column = name},
                        "Weights are 0 or more. Correct it or leave the row out.");
        any = any || numbers[row] > 0;
        weights.push_back(numbers[row]);
    }
    if (!any)
        throw Error(ErrorCode::badWeights, "all weights of the learning rows are 0",
                    {.file = file, .column = name}, "Give another column the role of the weight, or none.");
    return weights;
}

ModelResponse::ModelResponse(const Recipe& recipe, const Table& table, const std::string& file)
    : m_response(table.at(recipe.response, file).numbers()), m_link(linkOf(recipe)),
      m_asIs(kindOf(recipe.estimator).can.ownLink) {
    const std::string name = columnWith(recipe, Role::offset);
    if (name.empty()) return;
    m_offset = &table.at(name, file);
    if (m_offset->kind() != ColumnKind::number)
        throw Error(ErrorCode::wrongType,
                    "an offset must be a number, and this is a " + std::string(kindName(m_offset->kind())) +
                        " column",
                    {.file = file, .column = name}, "Give another column the role of the offset, or none.");
}

double ModelResponse::offset(std::size_t row) const {
    return m_offset ? m_offset->numbers()[row] : 0;
}

double ModelResponse::at(std::size_t row) const {
    if (m_asIs) return m_response[row];
    return m_link.toModelScale(m_response[row]) - offset(row);
}

std::shared_ptr<const Study> learn(const Recipe& recipe, const Table& table,
                                   const std::vector<StepOutcome>& steps, const std::string& file,
                                   std::vector<std::uint32_t> rows, Threads threads, Progress& progress,
                                   std::span<const std::uint32_t> heldOut, LearnFor what) {
    const ModelKind& kind = kindOf(recipe.estimator);
    auto study = std::make_shared<Study>();
    study->recipe = recipe;
    study->steps = steps;
    study->rows = std::move(rows);
    if (recipe.choose && !recipe.terms.empty()) {
        ProgressStage choosing(progress, 0, 0.8);
        const Choice choice =
            chooseAmong(recipe, table, file, study->rows, *recipe.choose, threads, choosing);
        for (const Term& term : recipe.terms)
            study->notSelected.push_back(std::find(choice.terms.begin(), choice.terms.end(), term) ==
                                         choice.terms.end());
        if (choice.terms.empty() && !recipe.intercept)
            throw Error(ErrorCode::badTerm, "no term was chosen, and the model has no constant",
                        {.file = file}, "Give it a constant, or choose by another criterion.");
    }
    std::map<std::string, std::string> references = recipe.reference;
    auto names = inputNames(study->terms());
    const std::string time = kind.series ? columnWith(recipe, Role::time) : "";
    const std::string series = kind.series ? seriesColumn(recipe, table, study->rows, file) : "";
    for (const std::string& name : {time, series})
        if (!name.empty() && std::find(names.begin(), names.end(), name) == names.end())
            names.push_back(name);
    if (recipe.choose)
        std::erase_if(references, [&](const auto& reference) {
            return std::find(names.begin(), names.end(), reference.first) == names.end();
        });
    stopIfTold(progress);
    study->inputs = learnInputs(table, study->rows, names, references, file, progress);
    const BoundInputs inputs(study->inputs, table, file);
    const std::vector<double> working = workingValues(recipe, table, file, study->rows);
    stopIfTold(progress);
    study->weights = weightsOf(recipe, table, file, study->rows);
    const Errors errors = kind.choosesErrors ? recipe.errors : Errors{};
    const std::vector<std::uint32_t> units = unitsOfErrors(errors, table, file, study->rows);
    const std::vector<double> offsets = offsetsOf(recipe, table, file, study->rows);
    const TrainingData training{.inputs = inputs,
                                .rows = study->rows,
                                .y = working,
                                .weights = study->weights,
                                .offsets = offsets,
                                .terms = recipe.terms,
                                .notSelected = study->notSelected,
                                .intercept = recipe.intercept,
                                .errors = errors.kind,
                                .units = units,
                                .unitsName = errors.column,
                                .lags = lagsOf(errors, units),
                                .time = time,
                                .group = series,
                                .unitOf = recipe.units,
                                .intervalLevel =
                                    recipe.forecast ? std::optional(recipe.forecast->level) : std::nullopt,
                                // Smearing is of them.
                                .unseen = what == LearnFor::keeping || recipe.logResponse,
                                .file = file,
                                .threads = threads};
    study->settings = recipe.estimator;
    requireCapable(kind, study->settings, training, linkOf(recipe),
                   !columnWith(recipe, Role::offset).empty());
    FitResult fit{.outcome = {.converged = false}};
    if (isSought(recipe.estimator)) {
        SoughtModel found = learnSought(recipe, table, training, progress);
        study->search = std::move(found.search);
        study->settings = study->search->settings;
        fit = std::move(found.fit);
    } else {
        ProgressStage last(progress, soughtKey(recipe.estimator) ? 0.9 : 0, 1);
        if (soughtKey(recipe.estimator) && !kind.findsItself) {
            ProgressStage tuning(progress, 0, 0.9);
            study->tuning = tuneByFolds(recipe, table, training, heldOut, tuning);
            study->settings = study->tuning->settings;
        }
        fit = kind.learn(study->settings, training, last);
        for (const auto& [key, value] : fit.found) // what learns again need not look for it
            study->settings.fields[key] = value;
    }
    study->rule = ruleOf(recipe, kind, fit, study->weights);
    study->model = std::move(fit.model);
    study->trained = std::move(fit.rows);
    study->outcome = std::move(fit.outcome);
    return study;
}

PredictionRule ruleOf(const Recipe& recipe, const ModelKind& kind, const FitResult& fit,
                      std::span<const double> weights) {
    PredictionRule rule;
    rule.link = fit.link.value_or(linkOf(recipe));
    rule.offset = columnWith(recipe, Role::offset);
    rule.weight = columnWith(recipe, Role::weight);
    long double sum = 0;
    for (const double w : weights)
        sum += w;
    if (!weights.empty())
        rule.usualWeight = static_cast<double>(sum / static_cast<long double>(weights.size()));
    const LinearModel* linear = fit.model->linear();
    switch (kind.can.intervals) {
    case IntervalSource::distribution:
        rule.intervals = IntervalsByTheory{};
        break;
    case IntervalSource::theory:
    case IntervalSource::quantiles:
        rule.spread = linear->fit.residualStandardDeviation;
        if (kind.can.intervals == IntervalSource::theory)
            rule.intervals = IntervalsByTheory{};
        else
            rule.intervals = IntervalsByQuantiles{};
        break;
    case IntervalSource::unseenErrors:
        findSpread(rule, residualsOf(fit.rows, weights, true), fit.rows.unseenOf);
        break;
    case IntervalSource::none:
        rule.intervals = NoIntervals{kind.title + " gives none"};
        break;
    }
    // Smearing is of the residuals (Duan 1983) wherever there are coefficients; models that know their own
    // rows by heart have none to speak of.
    if (rule.link.kind == Link::Kind::logarithm && !kind.quantile) {
        SmearingSum smearing;
        const RuleResiduals residuals = residualsOf(fit.rows, weights, !linear);
        for (std::size_t i = 0; i < residuals.values.size(); ++i)
            smearing.add(residuals.values[i], residuals.weights[i]);
        rule.link.smearing = smearing.factor();
        rule.link.relativeVariance = smearing.relativeVariance();
    }
    return rule;
}

TrainingAgain::TrainingAgain(const Recipe& recipe, const PreparedRows& prepared, const Study& study,
                             Threads threads)
    : m_inputs(study.inputs, prepared.table, {}),
      m_working(workingValues(recipe, prepared.table, {}, study.rows)),
      m_weights(weightsOf(recipe, prepared.table, {}, study.rows)),
      m_offsets(offsetsOf(recipe, prepared.table, {}, study.rows)), m_data{.inputs = m_inputs,
                                                                           .rows = study.rows,
                                                                           .y = m_working,
                                                                           .weights = m_weights,
                                                                           .offsets = m_offsets,
                                                                           .terms = recipe.terms,
                                                                           .notSelected = study.notSelected,
                                                                           .intercept = recipe.intercept,
                                                                           .unitsName = m_none,
                                                                           .file = m_none,
                                                                           .threads = threads} {}

std::shared_ptr<const PenaltySearch> penaltyPath(const Recipe& recipe, const PreparedRows& prepared,
                                                 const Study& study, Threads threads, Progress& progress,
                                                 bool detailed) {
    const TrainingAgain again(recipe, prepared, study, threads);
    FirmStage first(progress, 0, 0.4), second(progress, 0.4, 1);
    const auto search =
        study.search ? study.search
                     : searchPenalty(recipe, prepared.table, again.data(), recipe.judge.has_value(), first);
    return (detailed ? detailedSearch : refinedSearch)(*search, recipe, prepared.table, again.data(), second);
}

} // namespace oxgoad
