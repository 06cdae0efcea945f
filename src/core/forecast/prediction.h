#pragma once
// From what a model says to the response, for every kind of model alike.
#include "model/learned_model.h"
#include "table/table.h"

#include <cmath>
#include <functional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// How predictions and their intervals follow from what a model says.
struct PredictionRule {
    Link link{};
    /// Column added to what the model says, on its scale; empty without.
    std::string offset{};
    /// Column of weights; rows without a value have the mean weight of the learning rows.
    std::string weight{};
    double usualWeight = 1;
    /// Standard deviation of a row of weight 1 about what the model says, on its scale.
    double spread = 0;
    /// What intervals of single values are made of.
    Intervals intervals{};

    /// What a model says of rows (m × inputs), one value each on its scale.
    Eigen::VectorXd valuesOf(const LearnedModel& model, const Eigen::MatrixXd& inputs) const;
    Eigen::VectorXd valuesOf(const Eigen::MatrixXd& outputs) const;
    /// From the model's scale, with the offset, to the response's unit.
    double toResponseScale(double value) const { return link.toResponseScale(value); }
    /// Sizes of errors of rows not learned from; null where intervals are made otherwise.
    const IntervalsByErrors* byErrors() const { return std::get_if<IntervalsByErrors>(&intervals); }
    /// Half of an interval for the usual weight; NaN where intervals are made otherwise or errors are too
    /// few.
    double halfByErrors(double level) const { return byErrors() ? byErrors()->half(level) : std::nan(""); }
};

struct ValueInterval {
    double lower = 0, upper = 0;
};
/// Of a single value of a rule with a family: its quantiles at the mean, with the dispersion that gives the
/// value the variance of the distribution and that of the mean (`meanError` on the model's scale) together.
ValueInterval familyInterval(const PredictionRule& rule, double mean, double meanError, double weight,
                             double level);

/// A model over a table, with what the rule reads beside the inputs. References must outlive it.
class BoundModel {
public:
    /// Errors: unknownColumn (the weights may be absent), wrongType.
    BoundModel(const Inputs& inputs, const LearnedModel& model, const PredictionRule& rule,
               const Table& table, const std::string& file);

    const BoundInputs& inputs() const { return m_inputs; }
    const LearnedModel& model() const { return m_model; }
    const PredictionRule& rule() const { return m_rule; }
    /// Whether the row has a prediction: its inputs have values, where the model needs them, and it is
    /// defined there.
    bool complete(std::size_t row) const;
    /// Why the row has no prediction, or is outside though it has one: a phrase for each reason.
    std::vector<std::string> problems(std::size_t row) const;
    bool hasOffset(std::size_t row) const { return !m_offset || !m_offset->isMissing(row); }
    double offset(std::size_t row) const { return m_offset ? m_offset->numbers()[row] : 0; }
    /// Weight of a row; the usual one where it has none above 0.
    double weight(std::size_t row) const;
    /// Calls use(first, inputs) for blocks of the chosen rows, in parallel; throws Stopped.
    void eachBlock(std::span<const std::uint32_t> rows, Threads threads, const Progress& progress,
                   const std::function<void(std::size_t first, const Eigen::MatrixXd& inputs)>& use) const;
    /// What the model says at the chosen rows, without the offset. Throws Stopped.
    std::vector<double> predict(std::span<const std::uint32_t> rows, Threads threads,
                                const Progress& progress) const;
    /// From what the model says of a row to the response's unit.
    double toResponseScale(double value, std::size_t row) const {
        return m_rule.toResponseScale(value + offset(row));
    }

private:
    const LearnedModel& m_model;
    const PredictionRule& m_rule;
    BoundInputs m_inputs;
    const Column* m_offset = nullptr;
    const Column* m_weight = nullptr;
};

} // namespace oxgoad
