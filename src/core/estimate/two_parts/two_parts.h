#pragma once
// Responses that are often 0: whether there is anything, and how much where there is.
#include "estimate/model_kind.h"
#include "estimate/ordered/ordered.h"

#include <memory>

namespace oxgoad {

/// E y = P(y > 0)·E(y | y > 0) (Cragg 1971, "Some statistical models for limited dependent variables",
/// Econometrica 39; Duan, Manning, Morris and Newhouse 1983, Journal of Business & Economic Statistics 1).
class TwoPartsModel final : public LearnedModel {
public:
    /// Whether: two ranks, the second being above 0, by the logit.
    std::shared_ptr<const OrderedModel> whether{};
    /// How much, and how it becomes an amount; the dispersion of a family, the variance otherwise.
    std::shared_ptr<const LearnedModel> amount{};
    Link link{};
    double dispersion = 0;

    const std::string& kind() const override;
    /// m × 1: the mean.
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    /// Of the mixture of 0 and the amount's distribution: the family's, or the normal about the mean.
    Eigen::MatrixXd quantiles(const Eigen::MatrixXd& inputs, std::span<const double> shares) const override;
    Eigen::VectorXd distances(const Eigen::MatrixXd& inputs) const override {
        return whether->distances(inputs);
    }
    DistanceScale distanceScale() const override { return whether->distanceScale(); }
    std::vector<std::string> problems(std::span<const double> inputs) const override;
    bool definedWhereInputsAre() const override {
        return whether->definedWhereInputsAre() && amount->definedWhereInputsAre();
    }
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
    /// m × 2: the chance that there is anything, and the mean of what there is then.
    Eigen::MatrixXd parts(const Eigen::MatrixXd& inputs) const;
};

/// Recipes: {"kind": "two parts", "amount": {"kind": "gamma", "link": "log"}}; amounts by gamma, inverse
/// Gaussian or least squares, both parts on the same terms. Errors: those of both parts; wrongType below 0;
/// noSpread where all or no rows are 0. Throws Stopped.
ModelKind twoPartsKind();

} // namespace oxgoad
