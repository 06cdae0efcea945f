#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/formula/formula.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <array>
#include <cmath>

namespace oxgoad {

using Eigen::ArrayXd;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr std::array<std::string_view, 12> operationNames{"constant", "column", "+", "−", "×",   "÷",
                                                          "ln",       "exp",    "√", "²", "sin", "cos"};

double applied(Operation operation, double a, double b) {
    switch (operation) {
    case Operation::add:
        return a + b;
    case Operation::subtract:
        return a - b;
    case Operation::multiply:
        return a * b;
    case Operation::divide:
        return a / b;
    case Operation::logarithm:
        return std::log(a);
    case Operation::exponential:
        return std::exp(a);
    case Operation::root:
        return std::sqrt(a);
    case Operation::square:
        return a * a;
    case Operation::sine:
        return std::sin(a);
    case Operation::cosine:
        return std::cos(a);
    default:
        return nan;
    }
}

Dimension dimensionFrom(const FormulaTree& tree, std::size_t& at, std::span<const Dimension> columns,
                        bool& agree) {
    const FormulaNode& node = tree[at++];
    if (node.operation == Operation::constant) return std::nullopt;
    if (node.operation == Operation::column) return columns[node.column];
    Dimension a = dimensionFrom(tree, at, columns, agree);
    const Dimension b =
        operandsOf(node.operation) == 2 ? dimensionFrom(tree, at, columns, agree) : Dimension{};
    const auto raised = [&](double by) {
        if (a)
            for (auto& [unit, power] : *a)
                power *= by;
        return a;
    };
    switch (node.operation) {
    case Operation::add:
    case Operation::subtract:
        if (a && b && *a != *b) agree = false;
        return a ? a : b;
    case Operation::multiply:
    case Operation::divide:
        if (!a || !b) return std::nullopt;
        for (const auto& [unit, power] : *b)
            if (((*a)[unit] += node.operation == Operation::divide ? -power : power) == 0) a->erase(unit);
        return a;
    case Operation::root:
        return raised(0.5);
    case Operation::square:
        return raised(2);
    case Operation::logarithm: // a unit is a constant more
        return std::nullopt;
    default:
        if (a && !a->empty()) agree = false;
        return Dimension{std::in_place};
    }
}

ArrayXd valueFrom(const FormulaTree& tree, std::size_t& at, const MatrixXd& columns) {
    const FormulaNode& node = tree[at++];
    if (node.operation == Operation::constant) return ArrayXd::Constant(columns.rows(), node.constant);
    if (node.operation == Operation::column) return columns.col(static_cast<Index>(node.column)).array();
    ArrayXd a = valueFrom(tree, at, columns);
    if (operandsOf(node.operation) == 2) {
        const ArrayXd b = valueFrom(tree, at, columns);
        switch (node.operation) {
        case Operation::add:
            a += b;
            break;
        case Operation::subtract:
            a -= b;
            break;
        case Operation::multiply:
            a *= b;
            break;
        default:
            a /= b;
            break;
        }
        return a;
    }
    switch (node.operation) {
    case Operation::logarithm:
        return a.log();
    case Operation::exponential:
        return a.exp();
    case Operation::root:
        return a.sqrt();
    case Operation::square:
        return a.square();
    case Operation::sine:
        return a.sin();
    default:
        return a.cos();
    }
}

constexpr ValueRange undefinedRange{1, 0};

ValueRange productRange(const ValueRange& a, const ValueRange& b) {
    const auto [low, high] = std::minmax({a.low * b.low, a.low * b.high, a.high * b.low, a.high * b.high});
    return {low, high};
}

ValueRange rangeFrom(const FormulaTree& tree, std::size_t& at, std::span<const ValueRange> columns) {
    const FormulaNode& node = tree[at++];
    if (node.operation == Operation::constant) return {node.constant, node.constant};
    if (node.operation == Operation::column) return columns[node.column];
    const ValueRange a = rangeFrom(tree, at, columns);
    ValueRange b = undefinedRange;
    if (operandsOf(node.operation) == 2) b = rangeFrom(tree, at, columns);
    if (!a.defined() || (operandsOf(node.operation) == 2 && !b.defined())) return undefinedRange;
    ValueRange out = undefinedRange;
    switch (node.operation) {
    case Operation::add:
        out = {a.low + b.low, a.high + b.high};
        break;
    case Operation::subtract:
        out = {a.low - b.high, a.high - b.low};
        break;
    case Operation::multiply:
        out = productRange(a, b);
        break;
    case Operation::divide:
        if (b.low <= 0 && b.high >= 0) return undefinedRange;
        out = productRange(a, {1 / b.high, 1 / b.low});
        break;
    case Operation::logarithm:
        if (!(a.low > 0)) return undefinedRange;
        out = {std::log(a.low), std::log(a.high)};
        break;
    case Operation::exponential:
        out = {std::exp(a.low), std::exp(a.high)};
        break;
    case Operation::root:
        if (!(a.low >= 0)) return undefinedRange;
        out = {std::sqrt(a.low), std::sqrt(a.high)};
        break;
    case Operation::square: {
        const double one = a.low * a.low, other = a.high * a.high;
        out = {a.low <= 0 && a.high >= 0 ? 0 : std::min(one, other), std::max(one, other)};
        break;
    }
    default:
        out = {-1, 1};
        break;
    }
    return std::isfinite(out.low) && std::isfinite(out.high) ? out : undefinedRange;
}

FormulaTree constantTree(double value) {
    return {{.operation = Operation::constant, .constant = value}};
}

bool isConstant(const FormulaTree& tree, double value) {
    return tree.size() == 1 && tree[0].operation == Operation::constant && tree[0].constant == value;
}

FormulaTree joined(const FormulaNode& node, const FormulaTree& a, const FormulaTree& b) {
    FormulaTree out{node};
    out.insert(out.end(), a.begin(), a.end());
    out.insert(out.end(), b.begin(), b.end());
    return out;
}

/// A product that begins with a constant below 0, and the product with the other sign.
bool timesNegative(const FormulaTree& tree) {
    return tree[0].operation == Operation::multiply && tree[1].operation == Operation::constant &&
           tree[1].constant < 0;
}
FormulaTree negated(FormulaTree tree) {
    tree[1].constant = -tree[1].constant;
    return tree;
}

FormulaTree simplifiedFrom(const FormulaTree& tree, std::size_t& at) {
    const FormulaNode node = tree[at++];
    const int operands = operandsOf(node.operation);
    if (operands == 0) return {node};
    const FormulaTree a = simplifiedFrom(tree, at);
    const FormulaTree b = operands == 2 ? simplifiedFrom(tree, at) : FormulaTree{};
    const auto plain = [](const FormulaTree& t) {
        return t.size() == 1 && t[0].operation == Operation::constant;
    };
    if (plain(a) && (operands == 1 || plain(b))) {
        const double value = applied(node.operation, a[0].constant, operands == 2 ? b[0].constant : 0);
        if (std::isfinite(value)) return constantTree(value);
    }
    switch (node.operation) {
    case Operation::add:
        if (isConstant(a, 0)) return b;
        if (isConstant(b, 0)) return a;
        if (plain(b) && b[0].constant < 0)
            return joined({.operation = Operation::subtract}, a, constantTree(-b[0].constant));
        if (timesNegative(b)) return joined({.operation = Operation::subtract}, a, negated(b));
        break;
    case Operation::subtract:
        if (isConstant(b, 0)) return a;
        if (a == b) return constantTree(0);
        // a − (−c)·x is a + c·x.
        if (plain(b) && b[0].constant < 0)
            return joined({.operation = Operation::add}, a, constantTree(-b[0].constant));
        if (timesNegative(b)) return joined({.operation = Operation::add}, a, negated(b));
        break;
    case Operation::multiply:
        if (isConstant(a, 0) || isConstant(b, 0)) return constantTree(0);
        if (isConstant(a, 1)) return b;
        if (isConstant(b, 1)) return a;
        if (plain(b)) return simplified(joined(node, b, a)); // the constant first
        if (plain(a) && b[0].operation == Operation::multiply && b[1].operation == Operation::constant) {
            FormulaTree rest(b.begin() + 2, b.end());
            return joined(node, constantTree(a[0].constant * b[1].constant), rest);
        }
        break;
    case Operation::divide:
        if (isConstant(b, 1)) return a;
        if (a == b) return constantTree(1);
        if (plain(b) && b[0].constant != 0)
            return simplified(joined({.operation = Operation::multiply}, constantTree(1 / b[0].constant), a));
        break;
    case Operation::logarithm:
        if (a[0].operation == Operation::exponential) return {a.begin() + 1, a.end()};
        break;
    case Operation::exponential:
        if (a[0].operation == Operation::logarithm) return {a.begin() + 1, a.end()};
        break;
    case Operation::square:
        if (a[0].operation == Operation::root) return {a.begin() + 1, a.end()};
        break;
    default:
        break;
    }
    return joined(node, a, b);
}

/// How tightly an operation holds its operands.
int holds(Operation operation) {
    switch (operation) {
    case Operation::add:
    case Operation::subtract:
        return 1;
    case Operation::multiply:
    case Operation::divide:
        return 2;
    default:
        return 3;
    }
}

struct Writing {
    const std::vector<std::string>& names;
    int digits;
    bool expression;

    std::string number(double value, bool first) const {
        const std::string text = digits > 0 && !expression ? readableText(value, digits) : exactText(value);
        return value < 0 && !first ? "(" + text + ")" : text;
    }

    std::string write(const FormulaTree& tree, std::size_t& at, int around, bool right) const {
        const FormulaNode& node = tree[at++];
        if (node.operation == Operation::constant) return number(node.constant, !right && around < 3);
        if (node.operation == Operation::column) return names[node.column];
        const int own = holds(node.operation);
        if (operandsOf(node.operation) == 2) {
            const std::string a = write(tree, at, own, false);
            const std::string b = write(tree, at, own, true);
            std::string sign;
            switch (node.operation) {
            case Operation::add:
                sign = " + ";
                break;
            case Operation::subtract:
                sign = expression ? " - " : " − ";
                break;
            case Operation::multiply:
                sign = expression ? " * " : "·";
                break;
            default:
                sign = " / ";
                break;
            }
            const bool brackets = own < around || (own == around && right);
            return brackets ? "(" + a + sign + b + ")" : a + sign + b;
        }
        const std::string a = write(tree, at, 0, false);
        switch (node.operation) {
        case Operation::logarithm:
            return "ln(" + a + ")";
        case Operation::exponential:
            return "exp(" + a + ")";
        case Operation::root:
            return expression ? "sqrt(" + a + ")" : "√(" + a + ")";
        case Operation::square:
            return expression ? "(" + a + ")^2" : "(" + a + ")²";
        case Operation::sine:
            return "sin(" + a + ")";
        default:
            return "cos(" + a + ")";
        }
    }
};

void partsFrom(const FormulaTree& tree, std::size_t at, std::vector<std::size_t>& parts) {
    if (tree[at].operation != Operation::add && tree[at].operation != Operation::subtract) {
        parts.push_back(at);
        return;
    }
    partsFrom(tree, at + 1, parts);
    partsFrom(tree, endOf(tree, at + 1), parts);
}

double meanSquare(const VectorXd& e, std::span<const double> weights) {
    if (weights.empty()) return e.squaredNorm() / static_cast<double>(e.size());
    double sum = 0, whole = 0;
    for (Index i = 0; i < e.size(); ++i) {
        sum += weights[static_cast<std::size_t>(i)] * e[i] * e[i];
        whole += weights[static_cast<std::size_t>(i)];
    }
    return sum / whole;
}

} // namespace

int operandsOf(Operation operation) {
    if (operation == Operation::constant || operation == Operation::column) return 0;
    return operation == Operation::add || operation == Operation::subtract ||
                   operation == Operation::multiply || operation == Operation::divide
               ? 2
               : 1;
}

std::string_view operationName(Operation operation) {
    return operationNames[static_cast<std::size_t>(operation)];
}

std::size_t endOf(const FormulaTree& tree, std::size_t at) {
    for (int open = 1; open > 0; ++at)
        open += operandsOf(tree[at].operation) - 1;
    return at;
}

ArrayXd valuesOf(const FormulaTree& tree, const MatrixXd& columns) {
    std::size_t at = 0;
    return valueFrom(tree, at, columns);
}

bool unitsAgree(const FormulaTree& tree, std::span<const Dimension> columns) {
    std::size_t at = 0;
    bool agree = true;
    dimensionFrom(tree, at, columns, agree);
    return agree;
}

ValueRange rangeOf(const FormulaTree& tree, std::span<const ValueRange> columns) {
    std::size_t at = 0;
    return rangeFrom(tree, at, columns);
}

FormulaTree simplified(const FormulaTree& tree) {
    std::size_t at = 0;
    return simplifiedFrom(tree, at);
}

std::string formulaText(const FormulaTree& tree, const std::vector<std::string>& names, int digits) {
    std::size_t at = 0;
    return Writing{names, digits, false}.write(tree, at, 0, false);
}

std::string expressionText(const FormulaTree& tree, const std::vector<std::string>& names) {
    std::size_t at = 0;
    return Writing{names, 0, true}.write(tree, at, 0, false);
}

std::vector<std::size_t> partsOf(const FormulaTree& tree) {
    std::vector<std::size_t> parts;
    partsFrom(tree, 0, parts);
    return parts;
}

double polish(FormulaTree& tree, const MatrixXd& columns, std::span<const double> y,
              std::span<const double> weights, int steps) {
    const Index n = columns.rows();
    const Eigen::Map<const VectorXd> response(y.data(), n);
    std::vector<std::size_t> places;
    for (std::size_t k = 0; k < tree.size(); ++k)
        if (tree[k].operation == Operation::constant) places.push_back(k);
    VectorXd e = response - valuesOf(tree, columns).matrix();
    double best = meanSquare(e, weights);
    if (places.empty() || !std::isfinite(best)) return best;
    const auto p = static_cast<Index>(places.size());
    VectorXd root = VectorXd::Ones(n);
    if (!weights.empty())
        for (Index i = 0; i < n; ++i)
            root[i] = std::sqrt(weights[static_cast<std::size_t>(i)]);
    double damping = 1e-3;
    for (int step = 0; step < steps; ++step) {
        MatrixXd jacobian(n, p);
        for (Index k = 0; k < p; ++k) {
            double& constant = tree[places[static_cast<std::size_t>(k)]].constant;
            const double kept = constant, by = 1e-6 * std::max(1e-3, std::fabs(kept));
            constant = kept + by;
            const ArrayXd up = valuesOf(tree, columns);
            constant = kept - by;
            jacobian.col(k) = (up - valuesOf(tree, columns)).matrix() / (2 * by);
            constant = kept;
        }
        if (!jacobian.allFinite()) return best;
        jacobian = root.asDiagonal() * jacobian;
        const MatrixXd curve = jacobian.transpose() * jacobian;
        const VectorXd slope = jacobian.transpose() * root.cwiseProduct(e);
        bool better = false;
        double gained = 0;
        for (int tries = 0; tries < 6 && !better; ++tries) {
            MatrixXd damped = curve;
            damped.diagonal() *= 1 + damping;
            damped.diagonal().array() += 1e-300;
            const VectorXd move = damped.ldlt().solve(slope);
            FormulaTree next = tree;
            for (Index k = 0; k < p; ++k)
                next[places[static_cast<std::size_t>(k)]].constant += move[k];
            const VectorXd there = response - valuesOf(next, columns).matrix();
            const double now = meanSquare(there, weights);
            if (move.allFinite() && now < best) {
                better = true;
                gained = (best - now) / best;
                tree = std::move(next);
                e = there;
                best = now;
                damping = std::max(1e-12, damping / 10);
            } else {
                damping *= 10;
            }
        }
        if (!better || gained < 1e-12) break;
    }
    return best;
}

} // namespace oxgoad
