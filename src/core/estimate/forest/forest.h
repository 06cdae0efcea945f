#pragma once
// Forests: many trees, each of rows drawn with replacement and of few columns a question, that say their
// mean.
#include "estimate/tree/tree_set.h"

#include <string>
#include <vector>

namespace oxgoad {

class ForestModel final : public LearnedModel {
public:
    TreeSet trees;
    LearningCourse learning{};
    /// "forest" or "quantile forest".
    std::string kindName = "forest";
    /// Of quantile forests: of each place of the trees the response of one of its learning rows, drawn by
    /// weight (at leaves; 0 elsewhere).
    std::vector<double> drawn{};

    const std::string& kind() const override { return kindName; }
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    bool readsMissing() const override { return true; }
    bool definedWhereInputsAre() const override { return true; }
    /// Of quantile forests: the distribution that its leaves give a row (Meinshausen 2006, Journal of Machine
    /// Learning Research 7), one learning row drawn from each leaf, which leaves its weights as they are on
    /// the average.
    Eigen::MatrixXd quantiles(const Eigen::MatrixXd& inputs, std::span<const double> shares) const override;
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
    const LearningCourse* course() const override { return &learning; }
};

/// Breiman 2001, Machine Learning 45: trees on bootstrap rows (growTree), a share of the columns tried a
/// split, predictions of rows not drawn as those of rows unseen.
ModelKind forestKind();
/// The same, whose intervals are quantiles of what its leaves hold.
ModelKind quantileForestKind();

} // namespace oxgoad
