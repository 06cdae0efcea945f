#pragma once
// Formulas that are searched for: trees of operations whose constants are fitted.
#include "estimate/model_kind.h"

#include <Eigen/Core>

#include <cmath>
#include <cstdint>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

enum class Operation : std::uint8_t {
    constant,
    column,
    add,
    subtract,
    multiply,
    divide,
    logarithm,
    exponential,
    root,
    square,
    sine,
    cosine
};
/// 0, 1 or 2.
int operandsOf(Operation operation);
/// "+", "ln"; as recipes name them.
std::string_view operationName(Operation operation);

struct FormulaNode {
    Operation operation = Operation::constant;
    std::uint32_t column = 0;
    double constant = 0;
    bool operator==(const FormulaNode&) const = default;
};

/// Operations before their operands.
using FormulaTree = std::vector<FormulaNode>;

/// Lowest and highest value; NaN where it is not defined all over.
struct ValueRange {
    double low = 0, high = 0;
    bool defined() const { return low <= high; }
};

/// One past the subtree that begins at `at`.
std::size_t endOf(const FormulaTree& tree, std::size_t at);
/// Values at rows of columns (n × columns).
Eigen::ArrayXd valuesOf(const FormulaTree& tree, const Eigen::MatrixXd& columns);
/// What it may be where columns lie in their ranges, by interval arithmetic (Keijzer 2003, EuroGP): not
/// defined where a logarithm, a root or a division might not be.
ValueRange rangeOf(const FormulaTree& tree, std::span<const ValueRange> columns);
/// Units of a column: powers of names of units ("EUR" 1, "m²" −1; none of a plain number), or not known.
using Dimension = std::optional<std::map<std::string, double>>;
/// Whether nothing is added to, or subtracted from, what has other units, and no exponential, sine or cosine
/// is taken of what has any. Constants have whatever units they need, so that a factor in front makes any sum
/// sound; what a logarithm is of changes a constant only.
bool unitsAgree(const FormulaTree& tree, std::span<const Dimension> columns);
/// Constants folded, and what does nothing taken away: x + 0, 1 · x, x − x, x / x, ln exp x.
FormulaTree simplified(const FormulaTree& tree);
/// As mathematics: "2.5 + 0.3·rate·ln(places)"; as an expression of the preparation: with * and names in
/// square brackets. `digits` of constants; 0 for all.
std::string formulaText(const FormulaTree& tree, const std::vector<std::string>& names, int digits);
std::string expressionText(const FormulaTree& tree, const std::vector<std::string>& names);
/// Σ of which it is made, at the top: places of the parts of + and −.
std::vector<std::size_t> partsOf(const FormulaTree& tree);

/// Fits the constants by least squares (Levenberg 1944; Marquardt 1963) from where they are; the mean squared
/// error reached.
double polish(FormulaTree& tree, const Eigen::MatrixXd& columns, std::span<const double> y,
              std::span<const double> weights, int steps);

struct FormulaOptions {
    std::vector<Operation> operations{};
    std::size_t largest = 25, generations = 80, population = 120, islands = 4;
    std::uint64_t seed = 1;
    /// One a column, or empty: none is known.
    std::vector<Dimension> units{};
};

struct FoundFormula {
    FormulaTree tree;
    double mse = 0;
    /// Over folds with the constants fitted anew.
    double foldMse = 0, standardError = 0;
    std::size_t size() const { return tree.size(); }
    double rmse() const { return std::sqrt(mse); }
    double foldRmse() const { return std::sqrt(foldMse); }
};

/// Genetic programming on trees (Koza 1992, "Genetic programming") on islands that send each other their
/// best, each tree scaled linearly (Keijzer 2003), constants of the better ones polished. The best of every
/// size that is better than all smaller ones. The same for any number of threads. Throws Stopped; a stop that
/// is served gives what there is.
std::vector<FoundFormula> searchFormulas(const Eigen::MatrixXd& columns, std::span<const double> y,
                                         std::span<const double> weights, const FormulaOptions& options,
                                         Threads threads, Progress& progress);

class FormulaModel final : public LearnedModel {
public:
    Inputs inputs{};
    /// Columns that formulas read: a number, or whether a factor has a level.
    std::vector<std::string> names{};
    std::vector<FoundFormula> front{};
    std::size_t taken = 0;
    /// Share of the variance of what is said that each top part goes along with.
    std::vector<double> shares{};
    LearningCourse learning{};

    const std::string& kind() const override;
    Eigen::MatrixXd predict(const Eigen::MatrixXd& rows) const override;
    std::vector<std::string> problems(std::span<const double> row) const override;
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
    const LearningCourse* course() const override { return &learning; }
    /// m × columns of formulas.
    Eigen::MatrixXd columnsAt(const Eigen::MatrixXd& rows) const;
    const FormulaTree& tree() const { return front[taken].tree; }
};

ModelKind formulaKind();

} // namespace oxgoad
