#include "estimate/tree/tree_set.h"

#include "estimate/model_text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

std::size_t TreeSet::leaves() const {
    return static_cast<std::size_t>(std::count_if(m_nodes.begin(), m_nodes.end(),
                                                  [](const Node& n) { return n.input == TreeNode::none; }));
}

std::size_t TreeSet::push(Node node, std::span<const std::int32_t> levels) {
    if (node.input != TreeNode::none && m_inputs[static_cast<std::size_t>(node.input)].factor) {
        node.levels = static_cast<std::uint32_t>(m_bits.size());
        m_bits.resize(m_bits.size() + m_inputs[static_cast<std::size_t>(node.input)].levels.size() / 64 + 1);
        for (const auto code : levels)
            m_bits[node.levels + static_cast<std::size_t>(code) / 64] |= std::uint64_t{1} << (code % 64);
    }
    m_nodes.push_back(node);
    return m_nodes.size() - 1;
}

void TreeSet::add(const std::vector<TreeNode>& nodes) {
    begin();
    const std::size_t first = m_nodes.size();
    for (const TreeNode& from : nodes) {
        Node node{.value = from.mean};
        if (from.asks()) {
            const TreeNode &left = nodes[static_cast<std::size_t>(from.left)],
                           &right = nodes[static_cast<std::size_t>(from.right)];
            node.value = from.below;
            node.input = from.input;
            node.right = static_cast<std::int32_t>(first) + from.right;
            node.missingLeft = from.missingLeft;
            node.unknownLeft = left.rows > right.rows;
        }
        push(node, from.levels);
    }
}

void TreeSet::add(const TreeSet& other) {
    const std::size_t first = m_nodes.size();
    const auto bits = static_cast<std::uint32_t>(m_bits.size());
    for (const std::size_t at : other.m_begin)
        m_begin.push_back(first + at);
    for (Node node : other.m_nodes) {
        if (node.input != TreeNode::none) {
            node.right += static_cast<std::int32_t>(first);
            node.levels += bits;
        }
        m_nodes.push_back(node);
    }
    m_bits.insert(m_bits.end(), other.m_bits.begin(), other.m_bits.end());
}

std::size_t TreeSet::leafOf(std::size_t tree, const double* inputs) const {
    std::size_t at = m_begin[tree];
    for (;;) {
        const Node& node = m_nodes[at];
        if (node.input == TreeNode::none) return at;
        const double value = inputs[node.input];
        const Input& input = m_inputs[static_cast<std::size_t>(node.input)];
        bool left = false;
        if (!input.factor)
            left = std::isnan(value) ? node.missingLeft : value < node.value;
        else if (std::isinf(value))
            left = node.unknownLeft;
        else
            left = has(node, std::isnan(value) ? input.levels.size() : static_cast<std::size_t>(value));
        at = left ? at + 1 : static_cast<std::size_t>(node.right);
    }
}

double TreeSet::sum(const double* inputs, std::size_t trees) const {
    double sum = 0;
    for (std::size_t t = 0; t < trees; ++t)
        sum += m_nodes[leafOf(t, inputs)].value;
    return sum;
}

void TreeSet::keep(std::size_t trees) {
    if (trees >= m_begin.size()) return;
    m_nodes.resize(m_begin[trees]);
    m_begin.resize(trees);
}

nlohmann::json TreeSet::json() const {
    using nlohmann::json;
    json nodes = json::array();
    for (const Node& node : m_nodes) {
        if (node.input == TreeNode::none)
            nodes.push_back(numberJson(node.value));
        else
            nodes.push_back({numberJson(node.value), node.input, node.right, node.levels,
                             (node.missingLeft ? 1 : 0) + (node.unknownLeft ? 2 : 0)});
    }
    return {{"inputs", inputsJson(m_inputs)}, {"begin", m_begin}, {"bits", m_bits}, {"nodes", nodes}};
}

TreeSet TreeSet::from(const nlohmann::json& j) {
    TreeSet set(inputsFrom(j.at("inputs")));
    set.m_begin = j.at("begin").get<std::vector<std::size_t>>();
    set.m_bits = j.at("bits").get<std::vector<std::uint64_t>>();
    const auto& nodes = j.at("nodes");
    const std::size_t count = nodes.size();
    if (set.m_begin.empty() || set.m_begin.front() != 0 ||
        std::adjacent_find(set.m_begin.begin(), set.m_begin.end(), std::greater_equal<>()) !=
            set.m_begin.end() ||
        set.m_begin.back() >= count)
        damaged("trees that begin nowhere");
    std::size_t tree = 0;
    for (std::size_t at = 0; at < count; ++at) {
        while (tree + 1 < set.m_begin.size() && set.m_begin[tree + 1] <= at)
            ++tree;
        const std::size_t end = tree + 1 < set.m_begin.size() ? set.m_begin[tree + 1] : count;
        Node node;
        if (!nodes[at].is_array()) {
            node.value = numberFrom(nodes[at]);
        } else {
            node.value = numberFrom(nodes[at].at(0));
            node.input = nodes[at].at(1).get<std::int32_t>();
            node.right = nodes[at].at(2).get<std::int32_t>();
            node.levels = nodes[at].at(3).get<std::uint32_t>();
            const int flags = nodes[at].at(4).get<int>();
            node.missingLeft = (flags & 1) != 0;
            node.unknownLeft = (flags & 2) != 0;
            if (node.input < 0 || static_cast<std::size_t>(node.input) >= set.m_inputs.size())
                damaged("a question about no column");
            // The left one comes next, so that every way goes on and ends within its tree.
            if (node.right <= static_cast<std::int32_t>(at + 1) ||
                static_cast<std::size_t>(node.right) >= end)
                damaged("a question without two answers");
            const Input& input = set.m_inputs[static_cast<std::size_t>(node.input)];
            if (input.factor && node.levels + input.levels.size() / 64 >= set.m_bits.size())
                damaged("levels that are not there");
        }
        if (!std::isfinite(node.value)) damaged("a place that is not sound");
        set.m_nodes.push_back(node);
    }
    // A place that asks needs a place after it in its tree.
    for (std::size_t t = 0; t < set.m_begin.size(); ++t) {
        const std::size_t end = t + 1 < set.m_begin.size() ? set.m_begin[t + 1] : count;
        if (set.m_nodes[end - 1].input != TreeNode::none) damaged("a question without an answer");
    }
    return set;
}

} // namespace oxgoad
