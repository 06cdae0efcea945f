#pragma once
// The nearest of many points, exactly.
#include <Eigen/Core>

#include <cmath>
#include <cstdint>
#include <vector>

namespace oxgoad {

/// Points of n numbers and m codes; of two of them the squared differences of their numbers are added up, in
/// order, or the differences themselves (`plain`), and `codeParts[j]` for each code that differs. A k-d tree
/// over the numbers (Friedman, Bentley and Finkel 1977, ACM Transactions on Mathematical Software 3), with
/// the bounds of Arya and Mount 1993; leaves are looked through. Immutable, safe to share between threads.
class NearestTree {
public:
    /// `numbers` n × d and `codes` n × m, all finite.
    NearestTree(const Eigen::MatrixXd& numbers, const Eigen::MatrixXd& codes, std::vector<double> codeParts,
                bool plain = false);

    struct Neighbour {
        /// Of the differences, squared or not.
        double sum = 0;
        std::uint32_t point = 0;
        /// Nearer first; of two as near the one that stands earlier.
        bool operator<(const Neighbour& other) const {
            return sum < other.sum || (sum == other.sum && point < other.point);
        }
    };

    /// The `count` nearest of all points but `without`, in order; fewer when there are fewer. The same
    /// whatever the shape of the tree: of points as near as each other the earlier ones. O(log n) and up to
    /// O(n · d).
    void nearest(const double* numbers, const double* codes, std::size_t count, std::vector<Neighbour>& found,
                 std::int64_t without = -1) const;

    std::size_t size() const { return m_points.size(); }

private:
    struct Node {
        /// Below 0: a leaf.
        int dimension = -1;
        /// Largest number of the left, smallest of the right.
        double left = 0, right = 0;
        std::uint32_t begin = 0, end = 0;
        std::uint32_t leftChild = 0, rightChild = 0;
    };
    struct Search;
    std::uint32_t build(std::uint32_t begin, std::uint32_t end, const Eigen::MatrixXd& numbers);
    void look(Search& search, std::uint32_t node, double bound) const;
    void lookThrough(Search& search, const Node& leaf) const;

    double part(double difference) const { return m_plain ? std::fabs(difference) : difference * difference; }

    std::vector<double> m_codeParts;
    bool m_plain;
    std::vector<Node> m_nodes;
    /// In the order of the leaves: which point stands there, its numbers and its codes, column by column.
    std::vector<std::uint32_t> m_points;
    Eigen::MatrixXd m_numbers, m_codes;
};

} // namespace oxgoad
