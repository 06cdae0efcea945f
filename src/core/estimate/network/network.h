#pragma once
// Small fully connected networks.
#include "estimate/model_kind.h"

#include <Eigen/Core>

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

enum class Activation { tanh, rectifier, logistic, softplus };

struct NetworkShape {
    /// Inputs, hidden layers and 1.
    std::vector<std::ptrdiff_t> sizes{};
    Activation activation = Activation::tanh;
    enum class Loss { squared, absolute, quantile };
    Loss loss = Loss::squared;
    double share = 0.5;

    std::size_t parameters() const;
    /// What it says of rows, a row a column of `x`.
    Eigen::VectorXd says(const std::vector<double>& parameters, const Eigen::MatrixXd& x) const;
    /// Σ weight·loss and its derivative by the parameters, by going backwards through the layers (Rumelhart,
    /// Hinton and Williams 1986, Nature 323). Weights: one a row, or empty.
    double lossOf(const std::vector<double>& parameters, const Eigen::MatrixXd& x, std::span<const double> y,
                  std::span<const double> weights, std::vector<double>& gradient) const;
};

struct NetworkOptions {
    /// Added to the mean loss: penalty · Σ weight², constants left out.
    double weightPenalty = 1e-4;
    std::size_t passes = 1000;
    /// Rows of a step; 0: a fiftieth of the rows, 32 at least and 1,024 at most.
    std::size_t batch = 0;
    /// The rate of pass t is rate / (1 + decay · t).
    double rate = 0.01, decay = 0.001;
    /// Share of hidden units left out at each step (Srivastava and others 2014).
    double dropout = 0;
    /// Ends when so many passes brought nothing for the unseen rows; 0: never.
    std::size_t patience = 100;
    std::uint64_t seed = 1;
    std::string name = "seed 1";
};

/// Rows of a network, standardised: columns of x, with y and weights (empty: alike).
struct NetworkRows {
    Eigen::MatrixXd x;
    std::vector<double> y, weights;
};

struct TrainedNetwork {
    /// Of the best pass.
    std::vector<double> parameters;
    double learningLoss = 0, unseenLoss = 0;
    std::size_t bestPass = 0;
    LearningCourse::Run run;
    std::vector<LearningCourse::Spread> spreads;
    /// Empty, or why it ended: "the loss was no number after step 12".
    std::string ended;
};

/// Adam (Kingma and Ba 2015, ICLR) from weights drawn after Glorot and Bengio 2010. The same bits for any
/// number of threads: the rows of a step are summed in parts of fixed size. A stop that is served ends it
/// with the best so far. Its course is in the response's unit, of which `unit` is one of y's; of squared loss
/// the root. Throws Stopped.
TrainedNetwork train(const NetworkShape& shape, const NetworkOptions& options, const NetworkRows& learning,
                     const NetworkRows& unseen, double unit, Threads threads, Progress& progress);

class NetworkModel final : public LearnedModel {
public:
    Inputs inputs{};
    NetworkShape shape{};
    std::vector<double> parameters{};
    /// Of the standardised columns (numbers, and levels but the first of each factor), and of the response.
    Eigen::VectorXd center{}, scale{};
    double yCenter = 0, yScale = 1;
    LearningCourse learning{};
    /// Losses of the restarts, the best first; units that say the same of all learning rows, by hidden layer.
    std::vector<double> restarts{};
    std::vector<std::size_t> dead{};
    std::string kindName = "network";

    const std::string& kind() const override { return kindName; }
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    bool definedWhereInputsAre() const override { return true; }
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
    const LearningCourse* course() const override { return &learning; }
    /// Rows (m × inputs) as columns of the network, standardised.
    Eigen::MatrixXd standardised(const Eigen::MatrixXd& rows) const;
};

/// Of the mean, or the median by absolute loss.
ModelKind networkKind();
/// Of a quantile, by the check loss.
ModelKind networkQuantileKind();

} // namespace oxgoad
