#pragma once
// Regression trees: rows parted again and again by one question, each leaf saying the mean of its rows.
#include "base/parallel.h"
#include "base/progress.h"
#include "estimate/model_kind.h"

#include <Eigen/Core>

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// A place in a tree. Rows go left where the value is below `below`, or their level is one of `levels`.
struct TreeNode {
    static constexpr std::int32_t none = -1;
    std::int32_t parent = none, left = none, right = none;
    /// Place of the input that is asked; none at a leaf.
    std::int32_t input = none;
    double below = 0;
    /// Of a factor: levels that go left, ascending. Levels that no row of the place has go with most rows.
    /// Where values were missing while it learned, "missing" is a level more, after the last.
    std::vector<std::int32_t> levels{};
    /// Of a number: where rows go whose value is missing.
    bool missingLeft = false;
    std::size_t rows = 0;
    double weight = 0, mean = 0;
    /// Mean squared distance from the mean.
    double mse = 0;
    /// Squared error (times weight) that the question takes away.
    double gain = 0;
    /// Complexity at which its question is cut away; infinite never happens, 0 for a leaf.
    double cutAt = 0;

    bool asks() const { return input != none; }
};

struct TreeOptions {
    /// Rows, not weights.
    std::size_t smallestLeaf = 5, smallestSplit = 10;
    /// The root is at depth 0.
    std::size_t deepest = 30;
    /// Share of the root's squared error that a question must take away.
    double leastGain = 0;
    /// Columns that are tried at a place, drawn anew there; 0: all.
    std::size_t columnsASplit = 0;
    std::uint64_t seed = 1;
    /// Whether TreeNode::cutAt is worked out.
    bool weakest = true;
};

/// One tree of the weakest-link sequence: the smallest with the least error plus complexity times leaves.
struct TreeStep {
    double complexity = 0;
    std::size_t leaves = 1;
    /// Mean squared error over the rows learned from.
    double learningMse = 0;
};

/// Columns of learning rows; codes of levels for factors; NaN for numbers that are missing. Rows of weight 0
/// teach nothing.
struct TreeRows {
    std::vector<std::vector<double>> columns;
    /// Levels of each column; 0 for numbers.
    std::vector<std::size_t> levels;
    std::vector<double> y, weights;
};

/// Grows a tree by the largest fall of the squared error at each place: thresholds half way between
/// neighbouring values, levels of factors in the order of their means, which is exact for squared errors
/// (Breiman, Friedman, Olshen and Stone 1984, "Classification and regression trees", §8.2, §8.8,
/// theorem 4.5). Of questions that take away the same (to 1e-12 of it) the first column's, the lowest
/// threshold's. Rows whose number is missing go to the side where the fall is larger, and where no row of the
/// place lacks it, with most rows; in a factor "missing" is a level of its own. The order of rows and the
/// number of threads change nothing. Depth first, left first. With the weakest-link complexity of every place
/// (there, §3.3). Throws Stopped.
std::vector<TreeNode> growTree(const TreeRows& rows, const TreeOptions& options, Threads threads,
                               const Progress& progress);

/// Rows by each number (none for factors) and by the response, sorted once for many trees of the same rows
/// with other weights.
struct TreeOrder {
    std::vector<std::vector<std::uint32_t>> byColumn;
    std::vector<std::uint32_t> byResponse;
};
TreeOrder orderOf(const TreeRows& rows, Threads threads, const Progress& progress);
/// A tree of rows that weigh as given (one a row), the order of equal ones as it stands.
std::vector<TreeNode> growTree(const TreeRows& rows, const TreeOrder& order, std::span<const double> weights,
                               const TreeOptions& options, const Progress& progress);

/// What a tree learns from: the inputs of learning rows, the response and the weights.
TreeRows treeRowsOf(const TrainingData& training);
/// Errors: tooFewRows for two leaves of so many rows, noSpread.
void requireTreeRows(const TrainingData& training, std::size_t leaf);

/// The weakest-link sequence from the full tree to the root, a line for each distinct complexity; the first
/// has 0.
std::vector<TreeStep> weakestLinks(const std::vector<TreeNode>& nodes);

class TreeModel final : public LearnedModel {
public:
    /// Requires nodes whose places hang together (growTree, or read). A row stays where complexity reaches
    /// cutAt.
    TreeModel(Inputs inputs, std::vector<TreeNode> nodes, double complexity);

    const std::string& kind() const override;
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    bool readsMissing() const override { return true; }
    bool definedWhereInputsAre() const override { return true; }
    /// Shapley values (1953) of the tree's own expectation: columns that are not known go both ways, by the
    /// weight of the learning rows; exact (Lundberg and others 2020, Nature Machine Intelligence 2, algorithm
    /// 1), leaf by leaf.
    Contributions contributions(std::span<const double> inputs) const override;
    std::vector<NamedNumber> says() const override;
    std::string text() const override;

    /// m × values: what the trees cut back at other complexities say.
    Eigen::MatrixXd predictEach(const Eigen::MatrixXd& inputs, std::span<const double> complexities) const;
    const Inputs& inputs() const { return m_inputs; }
    /// The full tree.
    const std::vector<TreeNode>& grown() const { return m_nodes; }
    double complexity() const { return m_complexity; }
    /// The tree after cutting back, its places numbered anew, depth first and left first.
    std::vector<TreeNode> cutBack() const;
    std::vector<TreeStep> sequence() const { return weakestLinks(m_nodes); }
    /// The place where a row (its inputs) stays; of the full tree.
    std::size_t leafOf(const double* inputs, double complexity) const;
    /// Which way a row goes at a place that asks; levels never learned (infinity) go with most rows.
    bool goesLeft(const TreeNode& node, const double* inputs) const;
    /// The same at a place of other nodes over the same inputs, as cutBack() gives.
    bool goesLeft(const std::vector<TreeNode>& nodes, const TreeNode& node, const double* inputs) const;
    /// "list_rate below 22.5", "contract annual or anchor"; the other way with `left` false.
    std::string question(const TreeNode& node, bool left) const;

private:
    Inputs m_inputs;
    std::vector<TreeNode> m_nodes;
    double m_complexity = 0;
};

std::shared_ptr<const LearnedModel> readTree(std::string_view text);
ModelKind treeKind();

} // namespace oxgoad
