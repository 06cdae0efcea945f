#include "forecast/prediction.h"

#include "base/error.h"
#include "base/not_a_number.h"

#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

VectorXd PredictionRule::valuesOf(const MatrixXd& outputs) const {
    if (outputs.cols() == 1) return outputs.col(0);
    VectorXd values(outputs.rows());
    std::vector<double> row(static_cast<std::size_t>(outputs.cols()));
    for (Index i = 0; i < outputs.rows(); ++i) {
        for (Index k = 0; k < outputs.cols(); ++k)
            row[static_cast<std::size_t>(k)] = outputs(i, k);
        values[i] = link.valueOf(row);
    }
    return values;
}

VectorXd PredictionRule::valuesOf(const LearnedModel& model, const MatrixXd& inputs) const {
    return valuesOf(model.predict(inputs));
}

BoundModel::BoundModel(const Inputs& inputs, const LearnedModel& model, const PredictionRule& rule,
                       const Table& table, const std::string& file)
    : m_model(model), m_rule(rule), m_inputs(inputs, table, file, model.readsMissing() ? INFINITY : nan) {
    if (!rule.offset.empty()) m_offset = &table.at(rule.offset, file);
    if (!rule.weight.empty()) m_weight = table.find(rule.weight);
    for (const Column* column : {m_offset, m_weight})
        if (column && column->kind() != ColumnKind::number)
            throw Error(ErrorCode::wrongType,
                        "holds " + std::string(kindName(column->kind())) +
                            " values where the model needs numbers",
                        {.file = file, .column = column->name()}, "Correct the file.");
}

bool BoundModel::complete(std::size_t row) const {
    if (m_model.readsMissing()) return true;
    if (!m_inputs.complete(row)) return false;
    return m_model.definedWhereInputsAre() || problems(row).empty();
}

std::vector<std::string> BoundModel::problems(std::size_t row) const {
    if (m_model.readsMissing()) return m_inputs.unseenLevels(row);
    std::vector<std::string> found = m_inputs.problems(row);
    std::vector<double> values;
    for (std::size_t i = 0; i < m_inputs.inputs().size(); ++i)
        values.push_back(m_inputs.value(i, row));
    for (std::string& problem : m_model.problems(values))
        found.push_back(std::move(problem));
    return found;
}

double BoundModel::weight(std::size_t row) const {
    if (!m_weight) return m_rule.usualWeight;
    const double w = m_weight->numbers()[row];
    return w > 0 ? w : m_rule.usualWeight;
}

void BoundModel::eachBlock(std::span<const std::uint32_t> rows, Threads threads, const Progress& progress,
                           const std::function<void(std::size_t, const MatrixXd&)>& use) const {
    forEachRowBlock(rows, threads, progress, [&](std::size_t first, std::span<const std::uint32_t> part) {
        MatrixXd inputs(static_cast<Index>(part.size()), static_cast<Index>(m_inputs.inputs().size()));
        m_inputs.fill(part, inputs);
        use(first, inputs);
    });
}

std::vector<double> BoundModel::predict(std::span<const std::uint32_t> rows, Threads threads,
                                        const Progress& progress) const {
    std::vector<double> values(rows.size());
    eachBlock(rows, threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        const VectorXd said = m_rule.valuesOf(m_model, inputs);
        std::copy(said.begin(), said.end(), values.begin() + static_cast<std::ptrdiff_t>(first));
    });
    return values;
}

ValueInterval familyInterval(const PredictionRule& rule, double mean, double meanError, double weight,
                             double level) {
    const PowerFamily& family = *rule.link.family;
    const double unsure = rule.link.slopeAt(mean) * meanError;
    const double dispersion = rule.spread * rule.spread / weight + unsure * unsure / family.variance(mean);
    return {family.quantile((1 - level) / 2, mean, dispersion),
            family.quantile((1 + level) / 2, mean, dispersion)};
}

} // namespace oxgoad
