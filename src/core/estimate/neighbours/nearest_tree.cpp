#include "estimate/neighbours/nearest_tree.h"

#include <algorithm>
#include <limits>
#include <numeric>

namespace oxgoad {

using Eigen::Index;

namespace {

constexpr std::uint32_t leafPoints = 32;
/// Bounds are worked out by other additions than distances, so they are believed to this share only.
constexpr double slack = 1 + 1e-9;

} // namespace

struct NearestTree::Search {
    const double* numbers;
    const double* codes;
    std::size_t count;
    std::int64_t without;
    /// A heap, the farthest on top.
    std::vector<Neighbour>& found;
    /// How far the query is from the cell in each dimension.
    std::vector<double> offsets;

    double farthest() const {
        return found.size() < count ? std::numeric_limits<double>::infinity() : found.front().sum;
    }
    void take(const Neighbour& neighbour) {
        if (found.size() == count) {
            if (!(neighbour < found.front())) return;
            std::pop_heap(found.begin(), found.end());
            found.back() = neighbour;
        } else {
            found.push_back(neighbour);
        }
        std::push_heap(found.begin(), found.end());
    }
};

NearestTree::NearestTree(const Eigen::MatrixXd& numbers, const Eigen::MatrixXd& codes,
                         std::vector<double> codeParts, bool plain)
    : m_codeParts(std::move(codeParts)), m_plain(plain), m_points(static_cast<std::size_t>(numbers.rows())) {
    std::iota(m_points.begin(), m_points.end(), 0U);
    if (!m_points.empty()) build(0, static_cast<std::uint32_t>(m_points.size()), numbers);
    m_numbers.resize(numbers.rows(), numbers.cols());
    m_codes.resize(codes.rows(), codes.cols());
    for (std::size_t i = 0; i < m_points.size(); ++i) {
        m_numbers.row(static_cast<Index>(i)) = numbers.row(m_points[i]);
        m_codes.row(static_cast<Index>(i)) = codes.row(m_points[i]);
    }
}

std::uint32_t NearestTree::build(std::uint32_t begin, std::uint32_t end, const Eigen::MatrixXd& numbers) {
    const auto at = static_cast<std::uint32_t>(m_nodes.size());
    m_nodes.push_back({.begin = begin, .end = end});
    if (end - begin <= leafPoints) return at;
    int widest = -1;
    double width = 0;
    for (Index j = 0; j < numbers.cols(); ++j) {
        double low = std::numeric_limits<double>::infinity(), high = -low;
        for (std::uint32_t i = begin; i < end; ++i) {
            const double value = numbers(m_points[i], j);
            low = std::min(low, value);
            high = std::max(high, value);
        }
        if (high - low > width) {
            width = high - low;
            widest = static_cast<int>(j);
        }
    }
    if (widest < 0) return at; // all alike: a leaf however many they are
    const std::uint32_t middle = begin + (end - begin) / 2;
    const auto by = [&](std::uint32_t a, std::uint32_t b) {
        const double x = numbers(a, widest), y = numbers(b, widest);
        return x < y || (x == y && a < b);
    };
    std::nth_element(m_points.begin() + begin, m_points.begin() + middle, m_points.begin() + end, by);
    double left = -std::numeric_limits<double>::infinity();
    for (std::uint32_t i = begin; i < middle; ++i)
        left = std::max(left, numbers(m_points[i], widest));
    const double right = numbers(m_points[middle], widest);
    const std::uint32_t leftChild = build(begin, middle, numbers);
    const std::uint32_t rightChild = build(middle, end, numbers);
    Node& node = m_nodes[at];
    node.dimension = widest;
    node.left = left;
    node.right = right;
    node.leftChild = leftChild;
    node.rightChild = rightChild;
    return at;
}

void NearestTree::lookThrough(Search& search, const Node& leaf) const {
    double distances[leafPoints];
    for (std::uint32_t begin = leaf.begin; begin < leaf.end; begin += leafPoints) {
        const std::uint32_t count = std::min(leafPoints, leaf.end - begin);
        std::fill_n(distances, count, 0.0);
        Eigen::Map<Eigen::ArrayXd> sums(distances, count);
        for (Index j = 0; j < m_numbers.cols(); ++j) {
            const auto differences = m_numbers.col(j).segment(begin, count).array() - search.numbers[j];
            if (m_plain)
                sums += differences.abs();
            else
                sums += differences.square();
        }
        for (Index j = 0; j < m_codes.cols(); ++j) {
            const double* codes = m_codes.col(j).data() + begin;
            for (std::uint32_t i = 0; i < count; ++i)
                distances[i] += codes[i] != search.codes[j] ? m_codeParts[static_cast<std::size_t>(j)] : 0;
        }
        const double farthest = search.farthest();
        for (std::uint32_t i = 0; i < count; ++i)
            if (distances[i] <= farthest && static_cast<std::int64_t>(m_points[begin + i]) != search.without)
                search.take({distances[i], m_points[begin + i]});
    }
}

void NearestTree::look(Search& search, std::uint32_t index, double bound) const {
    const Node& node = m_nodes[index];
    if (node.dimension < 0) {
        lookThrough(search, node);
        return;
    }
    const auto d = static_cast<std::size_t>(node.dimension);
    const double value = search.numbers[d];
    const bool leftFirst = value - node.left < node.right - value;
    look(search, leftFirst ? node.leftChild : node.rightChild, bound);
    const double across = leftFirst ? node.right - value : value - node.left;
    const double before = search.offsets[d];
    const double beyond = std::max(across, 0.0);
    const double further = bound - part(before) + part(beyond);
    if (further > search.farthest() * slack) return;
    search.offsets[d] = beyond;
    look(search, leftFirst ? node.rightChild : node.leftChild, std::max(further, 0.0));
    search.offsets[d] = before;
}

void NearestTree::nearest(const double* numbers, const double* codes, std::size_t count,
                          std::vector<Neighbour>& found, std::int64_t without) const {
    found.clear();
    if (m_nodes.empty() || count == 0) return;
    Search search{numbers, codes, count,
                  without, found, std::vector<double>(static_cast<std::size_t>(m_numbers.cols()), 0.0)};
    look(search, 0, 0);
    std::sort_heap(found.begin(), found.end());
}

} // namespace oxgoad
