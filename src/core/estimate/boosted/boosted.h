#pragma once
// Boosting: small trees one after the other, each of what those before it leave.
#include "estimate/tree/tree_set.h"

#include <span>
#include <string>
#include <vector>

namespace oxgoad {

struct BoostOptions {
    enum class Loss { squared, absolute, huber, quantile };
    Loss loss = Loss::squared;
    /// Which quantile.
    double share = 0.5;
    std::size_t rounds = 300, leaves = 31, deepest = 100, smallestLeaf = 20;
    /// What of each tree is taken.
    double rate = 0.05;
    /// Added to the second derivatives of a leaf (Chen and Guestrin 2016, KDD, eq. 5).
    double leafPenalty = 0;
    /// Of the rows and of the columns, drawn for each tree.
    double rowShare = 1, columnShare = 1;
    std::size_t bins = 255;
    std::uint64_t seed = 1;
    /// One a column: 1 may only rise, −1 only fall, 0 as it likes; empty: all as they like.
    std::vector<int> direction{};
};

/// What boosting says: a start and the trees' sum.
struct Boosted {
    double start = 0;
    TreeSet trees{};
    /// Mean loss of the learning rows after each round.
    std::vector<double> loss{};
};

/// As it is told: a mean square by its root.
double shownLoss(const BoostOptions& options, double loss);

/// Grows trees leaf by leaf where the loss falls most, by sums of first and second derivatives in bins of the
/// columns (Friedman 2001, Annals of Statistics 29; Chen and Guestrin 2016; Ke and others 2017, NeurIPS 30,
/// for bins and leaves). Leaves of absolute, Huber and quantile loss say medians and quantiles of what is
/// left (Friedman 2001, algorithms 3 and 4; Huber's bound is the 0.9 quantile of the errors' sizes). Numbers
/// have bins at quantiles of their values, factors one a level, missing values one of their own that goes to
/// the side where the loss falls more. The same result for any number of threads. Throws Stopped.
Boosted boost(const TreeRows& rows, const Inputs& inputs, const BoostOptions& options, Threads threads,
              Progress& progress);

class BoostedModel final : public LearnedModel {
public:
    Boosted said;
    LearningCourse learning{};
    std::string kindName = "boosted";

    const std::string& kind() const override { return kindName; }
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    /// m × rounds asked: what the first trees say.
    Eigen::MatrixXd predictEach(const Eigen::MatrixXd& inputs, std::span<const double> rounds) const;
    bool readsMissing() const override { return true; }
    bool definedWhereInputsAre() const override { return true; }
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
    const LearningCourse* course() const override { return &learning; }
};

/// Of the mean, or the median by absolute or Huber loss.
ModelKind boostedKind();
/// Of a quantile, by the check loss.
ModelKind boostedQuantileKind();

} // namespace oxgoad
