#pragma once
// From what a model says to the response, for every kind of model alike.
#include "estimate/linear/linear_model.h"
#include "estimate/model_kind.h"
#include "table/table.h"

#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// How predictions and their intervals follow from what a model says.
struct PredictionRule {
    /// The model is one of ln(response).
    bool logarithm = false;
    /// Mean of exp(residual) over the learning rows: exp of a predicted mean of logarithms falls short of the
    /// mean by this factor (Duan 1983, "Smearing estimate", Journal of the American Statistical Association
    /// 78). 1 for quantiles, which need none.
    double smearing = 1;
    /// Variance of exp(residual) over its squared mean: of one value about its mean, relative.
    double relativeVariance = 0;
    /// Column added to what the model says, on its scale; empty without.
    std::string offset;
    /// Column of weights; rows without a value have the mean weight of the learning rows.
    std::string weight;
    double usualWeight = 1;
    /// Standard deviation of a row of weight 1 about what the model says, on its scale.
    double spread = 0;
    /// Where theory has no interval: sizes of the residuals of learning rows left out one at a time, on the
    /// model's scale and for the usual weight, ascending.
    std::vector<double> leftOneOut;

    /// From the model's scale to the response's unit: exp and smearing, or nothing.
    double natural(double value) const;
    /// Half of an interval of single values by rows left out: the ⌈level·(m + 1)⌉-th of the m sizes (the
    /// jackknife interval: Barber, Candès, Ramdas and Tibshirani 2021, Annals of Statistics 49, §1); NaN when
    /// there are too few for the level.
    double leftOneOutHalf(double level) const;
};

/// A model over a table, with what the rule reads beside the inputs. References must outlive it.
class BoundModel {
public:
    /// Errors: unknownColumn (the weights may be absent), wrongType.
    BoundModel(const Inputs& inputs, const LearnedModel& model, const PredictionRule& rule,
               const Table& table, const std::string& file);

    const BoundInputs& inputs() const { return m_inputs; }
    const LearnedModel& model() const { return m_model; }
    const PredictionRule& rule() const { return m_rule; }
    /// Whether the inputs have values and the model is defined there.
    bool complete(std::size_t row) const;
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
    double natural(double value, std::size_t row) const { return m_rule.natural(value + offset(row)); }

private:
    const LearnedModel& m_model;
    const PredictionRule& m_rule;
    BoundInputs m_inputs;
    const Column* m_offset = nullptr;
    const Column* m_weight = nullptr;
};

} // namespace oxgoad
