#pragma once
// Several kinds of model averaged, with weights by what they miss rows by that they did not learn from.
#include "estimate/model_kind.h"

#include <Eigen/Core>

#include <memory>
#include <string>
#include <vector>

namespace oxgoad {

/// w ≥ 0 with the least w'Gw − 2c'w (G positive semidefinite), by coordinates one after the other (Franc,
/// Hlaváč and Navara 2005, CAIP, on sequential coordinate-wise non-negative least squares).
Eigen::VectorXd nonNegativeLeastSquares(const Eigen::MatrixXd& gram, const Eigen::VectorXd& cross);

class AverageModel final : public LearnedModel {
public:
    std::vector<std::shared_ptr<const LearnedModel>> parts{};
    std::vector<double> weights{};

    const std::string& kind() const override;
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    std::vector<std::string> problems(std::span<const double> inputs) const override;
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
};

/// Stacked regressions with non-negative weights (Breiman 1996, Machine Learning 24): each kind, with its
/// usual settings, predicts each fifth of the learning rows from the others; the weights are least squares of
/// the response on these predictions; then each learns from all rows.
ModelKind averageKind();

} // namespace oxgoad
