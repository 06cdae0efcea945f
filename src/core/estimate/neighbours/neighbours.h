#pragma once
// Nearest neighbours: a row is predicted by what the learning rows most like it had.
#include "estimate/model_kind.h"
#include "estimate/neighbours/nearest_tree.h"

#include <cmath>
#include <memory>
#include <vector>

namespace oxgoad {

struct NeighbourOptions {
    std::size_t count = 5;
    /// Each neighbour weighs 1 over its distance; those at distance 0 alone where there are any. Otherwise
    /// alike.
    bool byDistance = false;
    /// Numbers less their mean over their standard deviation (divisor n) over the learning rows; otherwise as
    /// they are.
    bool standardised = true;
    /// The mean over columns of differences, those of numbers over the range of the learning rows, those of
    /// levels 0 or 1 (Gower 1971, Biometrics 27), instead of the Euclidean distance.
    bool gower = false;
    /// What each input counts; empty: all alike.
    std::vector<double> columnWeights{};
    /// Between rows with different levels of a factor.
    double levelDistance = 1;
};

/// k-nearest-neighbour regression (Fix and Hodges 1951; Hastie, Tibshirani and Friedman 2009, "The elements
/// of statistical learning", 2nd ed., §2.3.2 and §13.3): the mean of the values of the `count` learning rows
/// at the least Euclidean distance, each number a dimension, a factor adding levelDistance² where levels
/// differ. Of rows as near as each other those that stand earlier are taken. Rows' own weights multiply those
/// of the distance; rows of weight 0 teach nothing.
class NeighboursModel final : public LearnedModel {
public:
    /// `points` n × inputs, complete; `y` and `weights` (or none) a value a point. Errors: tooFewRows when
    /// there are fewer points than neighbours.
    NeighboursModel(Inputs inputs, NeighbourOptions options, Eigen::MatrixXd points, Eigen::VectorXd y,
                    Eigen::VectorXd weights);

    const std::string& kind() const override;
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    /// Mean distance to the neighbours.
    Eigen::VectorXd distances(const Eigen::MatrixXd& inputs) const override;
    Placed locate(const Eigen::MatrixXd& inputs) const override;
    DistanceScale distanceScale() const override;
    bool definedWhereInputsAre() const override { return true; }
    std::vector<NamedNumber> says() const override;
    std::string text() const override;

    /// What the model would say of one of its own points without it, and its mean distance to the others.
    struct LeftOut {
        double predicted = 0, distance = 0;
    };
    LeftOut without(std::uint32_t point) const;
    /// Over points left out one at a time; kept with the model for distanceScale.
    void setScale(double average, double largest) {
        m_average = average;
        m_largest = largest;
    }
    /// Of two of its points; and its mean over any two, kept with the model.
    double distanceBetween(std::uint32_t a, std::uint32_t b) const;
    void setAnyDistance(double distance) { m_any = distance; }
    /// What models of fewer neighbours would say, one column a count; NaN where there are fewer points.
    /// Throws Stopped.
    Eigen::MatrixXd predictEach(const Eigen::MatrixXd& inputs, std::span<const std::size_t> counts,
                                Progress& progress) const;
    const Eigen::MatrixXd& pointsAsRead() const { return m_points; }
    const NeighbourOptions& options() const { return m_options; }
    std::size_t points() const { return m_tree.size(); }

private:
    using Found = std::vector<NearestTree::Neighbour>;
    /// Places a row of inputs among the points; false when a value is missing.
    bool place(const Eigen::MatrixXd& inputs, Eigen::Index row, std::vector<double>& numbers,
               std::vector<double>& codes) const;
    double mean(std::span<const NearestTree::Neighbour> found) const;
    double distanceOf(double sum) const { return m_options.gower ? sum / m_whole : std::sqrt(sum); }
    double distance(const Found& found) const;

    Inputs m_inputs;
    NeighbourOptions m_options;
    Eigen::MatrixXd m_points;
    Eigen::VectorXd m_y, m_weights;
    std::vector<Eigen::Index> m_numbers, m_factors;
    Eigen::VectorXd m_shift, m_scale;
    /// What all columns count together.
    double m_whole = 1;
    NearestTree m_tree;
    double m_average = 0, m_largest = 0, m_any = 0;
};

ModelKind neighboursKind();

} // namespace oxgoad
