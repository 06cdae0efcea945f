#pragma once
// Responses that are ranks: cumulative chances with parallel slopes.
#include "estimate/linear/linear_model.h"
#include "estimate/model_kind.h"

#include <Eigen/Core>

#include <string>
#include <vector>

namespace oxgoad {

/// P(y <= k) = F(cut_k − x'b), without a constant in x'b (McCullagh 1980, "Regression models for ordinal
/// data", Journal of the Royal Statistical Society B 42).
class OrderedModel final : public LearnedModel {
public:
    enum class Form { logit, probit, complementaryLogLog };
    Form form = Form::logit;
    /// The design and the coefficients with their errors; its constant is not used.
    LinearModel slopes;
    /// On the scale of x'b, ascending; one less than levels.
    std::vector<double> cuts, cutErrors;
    /// The response's values, and their names where it has some.
    std::vector<double> values;
    std::vector<std::string> names;
    double logLikelihood = 0, nullLogLikelihood = 0;
    /// Of the rows learned from: share whose likeliest level it is, mean of the ranked probability score
    /// (Epstein 1969; Murphy 1971), mean absolute error of the expected score.
    double shareRight = 0, rankedProbabilityScore = 0, meanAbsoluteError = 0;
    /// Whether slopes are alike at all cuts (Brant 1990, "Assessing proportionality in the proportional odds
    /// model for ordinal logistic regression", Biometrics 46): of the logit only; NaN where it cannot be
    /// said.
    double brant = 0, brantDf = 0, brantP = 0;
    std::string brantWhy;

    const std::string& kind() const override;
    Eigen::Index outputs() const override { return static_cast<Eigen::Index>(values.size()); }
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    Eigen::MatrixXd quantiles(const Eigen::MatrixXd& inputs, std::span<const double> shares) const override;
    Eigen::VectorXd distances(const Eigen::MatrixXd& inputs) const override {
        return slopes.distances(inputs);
    }
    DistanceScale distanceScale() const override { return slopes.distanceScale(); }
    std::vector<std::string> problems(std::span<const double> inputs) const override {
        return slopes.problems(inputs);
    }
    bool definedWhereInputsAre() const override { return slopes.definedWhereInputsAre(); }
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
};

/// Recipes: {"kind": "ordered", "link": "logit", "order": ["low", "medium", "high"]}; without an order the
/// response's numbers are its ranks. By Newton's method with the observed information, in an orthonormal
/// basis of the columns, halved until the likelihood rises; errors from the inverse of that information.
/// Errors: badTerm where a term parts levels without an exception (its coefficient has no finite estimate),
/// noSpread for one level alone, badTerm for more than 50 levels. Throws Stopped.
ModelKind orderedKind();

} // namespace oxgoad
