#pragma once
// Many trees over the same inputs with little room a place: what forests and boosting are made of.
#include "estimate/tree/tree.h"

#include <nlohmann/json_fwd.hpp>

#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

class TreeSet {
public:
    /// Depth first: the left of a place that asks is the next.
    struct Node {
        /// Rows go left where the number is below; at a leaf what it says.
        double value = 0;
        std::int32_t input = TreeNode::none;
        std::int32_t right = TreeNode::none;
        /// Of a factor: where its set of levels begins, of as many bits as levels and one for "missing".
        std::uint32_t levels = 0;
        bool missingLeft = false;
        /// Levels that were never learned go left.
        bool unknownLeft = false;
    };

    TreeSet() = default;
    explicit TreeSet(Inputs inputs) : m_inputs(std::move(inputs)) {}

    const Inputs& inputs() const { return m_inputs; }
    std::size_t trees() const { return m_begin.size(); }
    std::size_t places() const { return m_nodes.size(); }
    std::size_t leaves() const;
    const std::vector<Node>& nodes() const { return m_nodes; }
    std::size_t firstOf(std::size_t tree) const { return m_begin[tree]; }

    /// A tree as growTree gives it.
    void add(const std::vector<TreeNode>& nodes);
    /// All trees of another set of the same inputs.
    void add(const TreeSet& other);
    /// One place after the other: a tree begins with `begin`, `levels` are codes that go left.
    void begin() { m_begin.push_back(m_nodes.size()); }
    std::size_t push(Node node, std::span<const std::int32_t> levels = {});
    void setRight(std::size_t place, std::size_t right) {
        m_nodes[place].right = static_cast<std::int32_t>(right);
    }
    void setValue(std::size_t place, double value) { m_nodes[place].value = value; }

    /// The leaf where a row (its inputs: NaN is missing, infinity a level never learned) stays.
    std::size_t leafOf(std::size_t tree, const double* inputs) const;
    /// Sum of what the first trees say.
    double sum(const double* inputs, std::size_t trees) const;
    /// Only the first trees.
    void keep(std::size_t trees);
    /// Whether a level (missing is one after the last) goes left at a place that asks about a factor.
    bool has(const Node& node, std::size_t code) const {
        return (m_bits[node.levels + code / 64] >> (code % 64) & 1) != 0;
    }

    nlohmann::json json() const;
    /// Throws what guardedRead makes an Error of.
    static TreeSet from(const nlohmann::json& json);

private:
    Inputs m_inputs;
    std::vector<Node> m_nodes;
    std::vector<std::size_t> m_begin;
    std::vector<std::uint64_t> m_bits;
};

} // namespace oxgoad
