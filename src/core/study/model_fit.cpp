#include "study/model_fit.h"

#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

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

void replaceErrors(ModelFit& model, const Recipe& recipe, const Table& table, const std::string& file,
                   const RowSource& x, Threads threads, Progress& progress) {
    const Errors& errors = recipe.errors;
    if (errors.kind == ErrorsKind::equalSpread || !(model.fit.degreesOfFreedom > 0)) return;
    progress.checkpoint(0.9, "Errors of the coefficients");
    std::vector<std::uint32_t> units;
    if (!errors.column.empty()) {
        const Column& column = table.at(errors.column, file);
        if (column.kind() == ColumnKind::text ||
            (errors.kind == ErrorsKind::serial && column.kind() == ColumnKind::factor))
            throw Error(ErrorCode::wrongType,
                        "is a " + std::string(kindName(column.kind())) + " column, which has no " +
                            (errors.kind == ErrorsKind::serial ? "order in time" : "groups"),
                        {.file = file, .column = errors.column},
                        errors.kind == ErrorsKind::serial ? "Choose a date or a number."
                                                          : "Choose a factor, a date or a number.");
        units = unitsOf(column, model.rows);
    }
    if (errors.kind == ErrorsKind::serial)
        model.errorLags =
            errors.lags >= 0
                ? errors.lags
                : usualLags(units.empty() ? 0
                                          : *std::max_element(units.begin(), units.end()) + std::size_t{1});
    RobustErrors found;
    try {
        found =
            robustErrors(model.fit, x, model.weights, errors.kind, units, model.errorLags, threads, progress);
    } catch (const Error& error) {
        throw Error(error.code(), error.message(), {.file = file, .column = errors.column}, error.remedy());
    }
    model.errorUnits = found.units;
    model.fit.rowsFixed = found.rowsFixed;
    model.fit.unseen = std::move(found.unseen);
    model.fit.undefinedThere = found.undefinedThere;
    model.fit.fewGroups = std::move(found.fewGroups);
    model.fit.replaceCovariance(std::move(found.covarianceRoot), found.degreesOfFreedom);
}

double weightAt(const ModelFit& model, std::size_t i) {
    return model.weights.empty() ? 1 : model.weights[i];
}

/// The quantile of the learning rows alone, to compare the check loss with.
double lossOfConstant(const ModelFit& model, double share) {
    std::vector<std::pair<double, double>> sorted;
    double whole = 0;
    for (std::size_t i = 0; i < model.working.size(); ++i) {
        sorted.emplace_back(model.working[i], weightAt(model, i));
        whole += weightAt(model, i);
    }
    std::sort(sorted.begin(), sorted.end());
    double passed = 0;
    double at = sorted.back().first;
    for (const auto& [value, weight] : sorted) {
        passed += weight;
        if (passed >= share * whole) {
            at = value;
            break;
        }
    }
    long double loss = 0;
    for (const auto& [value, weight] : sorted)
        loss += weight * (value - at) * (share - (value < at ? 1 : 0));
    return static_cast<double>(loss);
}

void findSmearing(ModelFit& model) {
    if (!model.rule.logarithm || model.rule.isQuantile()) return;
    long double sum = 0, squares = 0, whole = 0;
    for (std::size_t i = 0; i < model.rows.size(); ++i) {
        const double w = weightAt(model, i);
        const double grown = std::exp(model.fit.residuals[static_cast<Index>(i)]);
        sum += w * grown;
        squares += static_cast<long double>(w) * grown * grown;
        whole += w;
    }
    const long double mean = sum / whole;
    model.rule.smearing = static_cast<double>(mean);
    model.rule.relativeVariance = static_cast<double>(squares / whole / (mean * mean) - 1);
}

void fitQuantiles(ModelFit& model, const Recipe& recipe, const RowSource& x, Threads threads,
                  Progress& progress) {
    model.rule.share = recipe.estimator.share;
    const LeastSquaresFit start = model.fit;
    const auto at = [&](LeastSquaresFit& fit, double share) {
        return fitQuantile(fit, x, model.working, share, model.weights, threads, progress);
    };
    model.iterated = at(model.fit, recipe.estimator.share);
    VectorXd weighted = model.fit.residuals;
    for (std::size_t i = 0; i < model.rows.size(); ++i)
        weighted[static_cast<Index>(i)] *= weightAt(model, i);
    model.quantileFit =
        1 - checkLoss(weighted, recipe.estimator.share) / lossOfConstant(model, recipe.estimator.share);
    if (!recipe.forecast) return;
    const auto bound = [&](double share) {
        auto fit = std::make_shared<LeastSquaresFit>(start);
        at(*fit, share);
        for (VectorXd* rows : {&fit->fitted, &fit->residuals, &fit->leverages})
            rows->resize(0);
        return fit;
    };
    model.rule.lower = bound((1 - recipe.forecast->level) / 2);
    model.rule.upper = bound((1 + recipe.forecast->level) / 2);
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

std::vector<std::string> columnsInUse(const Recipe& recipe) {
    std::vector<std::string> names{recipe.response};
    const auto add = [&](const std::string& name) {
        if (!name.empty() && std::find(names.begin(), names.end(), name) == names.end())
            names.push_back(name);
    };
    for (const std::string& name : inputNames(recipe.terms))
        add(name);
    add(columnWith(recipe, Role::weight));
    add(columnWith(recipe, Role::offset));
    add(recipe.errors.column);
    return names;
}

WorkingResponse::WorkingResponse(const Recipe& recipe, const Table& table, const std::string& file)
    : m_response(table.at(recipe.response, file).numbers()), m_logarithm(recipe.logResponse) {
    const std::string name = columnWith(recipe, Role::offset);
    if (name.empty()) return;
    m_offset = &table.at(name, file);
    if (m_offset->kind() != ColumnKind::number)
        throw Error(ErrorCode::wrongType,
                    "an offset must be a number, and this is a " + std::string(kindName(m_offset->kind())) +
                        " column",
                    {.file = file, .column = name}, "Give another column the role of the offset, or none.");
}

double WorkingResponse::offset(std::size_t row) const {
    return m_offset ? m_offset->numbers()[row] : 0;
}

double WorkingResponse::at(std::size_t row) const {
    const double y = m_response[row];
    if (!m_logarithm) return y - offset(row);
    return y > 0 ? std::log(y) - offset(row) : std::nan("");
}

std::vector<double> predictor(const LeastSquaresFit& fit, const BoundDesign& design,
                              std::span<const std::uint32_t> rows, Threads threads, Progress& progress) {
    std::vector<double> values(rows.size());
    forEachBlock(design, rows, threads, progress, [&](std::size_t first, const MatrixXd& block) {
        const VectorXd mean = fit.predict(block);
        std::copy(mean.begin(), mean.end(), values.begin() + static_cast<std::ptrdiff_t>(first));
    });
    return values;
}

ModelFit fitModel(const Recipe& recipe, const Table& table, const std::string& file,
                  std::vector<std::uint32_t> rows, Threads threads, Progress& progress) {
    ModelFit model;
    model.rows = std::move(rows);
    model.quantileFit = std::nan("");
    model.design = Design::learn(table, model.rows, recipe.terms, recipe.reference, file);
    const BoundDesign bound(model.design, table, file);
    if (!model.design.guards().empty())
        for (const auto row : model.rows)
            if (!bound.complete(row))
                throw Error(ErrorCode::badTerm, bound.problems(row).front() + " in row " + countText(row + 1),
                            {.file = file}, "Leave the row out or take the term out.");
    const auto needed = model.design.columns().size() + (recipe.intercept ? 1 : 0);
    if (model.rows.size() < needed)
        throw Error(ErrorCode::tooFewRows,
                    plural(model.rows.size(), "learning row is", "learning rows are") + " too few for " +
                        plural(needed, "coefficient", "coefficients"),
                    {.file = file}, "Take terms out, hold fewer rows out, or bring more rows.");
    const WorkingResponse response(recipe, table, file);
    model.working.reserve(model.rows.size());
    for (const auto row : model.rows) {
        model.working.push_back(response.at(row));
        if (std::isnan(model.working.back()))
            throw Error(ErrorCode::badTerm,
                        "ln of the response is not defined at " + shortText(response.natural(row)) +
                            " in row " + countText(row + 1),
                        {.file = file, .column = recipe.response},
                        "Fit the response as it is, or leave out the rows where it is 0 or less.");
    }
    model.weights = weightsOf(recipe, table, file, model.rows);
    model.rule.logarithm = recipe.logResponse;
    model.rule.offset = columnWith(recipe, Role::offset);
    model.rule.weight = columnWith(recipe, Role::weight);
    long double sum = 0;
    for (const double w : model.weights)
        sum += w;
    if (!model.weights.empty())
        model.rule.usualWeight = static_cast<double>(sum / static_cast<long double>(model.weights.size()));

    const DesignRows x(bound, model.rows);
    const bool iterates = recipe.estimator.kind != EstimatorKind::leastSquares;
    {
        ProgressStage stage(progress, 0, iterates ? 0.3 : 0.9);
        model.fit =
            fitLeastSquares(x, model.working,
                            {.intercept = recipe.intercept,
                             .threads = threads,
                             .weights = model.weights,
                             .keepOrthonormal = !iterates && recipe.errors.kind != ErrorsKind::equalSpread},
                            stage);
    }
    ProgressStage stage(progress, iterates ? 0.3 : 0.9, 1);
    switch (recipe.estimator.kind) {
    case EstimatorKind::leastSquares:
        replaceErrors(model, recipe, table, file, x, threads, stage);
        break;
    case EstimatorKind::robust:
        model.iterated = fitRobust(model.fit, x, model.working,
                                   {.influence = recipe.estimator.influence,
                                    .tuning = recipe.estimator.tuning,
                                    .weights = model.weights,
                                    .threads = threads},
                                   stage);
        break;
    case EstimatorKind::quantile:
        fitQuantiles(model, recipe, x, threads, stage);
        break;
    }
    model.rule.spread = model.fit.residualStandardDeviation;
    findSmearing(model);
    return model;
}

} // namespace oxgoad
