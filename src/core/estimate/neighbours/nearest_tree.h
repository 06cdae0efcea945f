#pragma once
// The nearest of many points, exactly.
#include <Eigen/Core>

#include <cstdint>
#include <vector>

namespace oxgoad {

/// Points of n numbers and m codes; the squared distance of two is the sum of the squared differences of
/// their numbers, in order, and `codeDistance`² for each code that differs. A k-d tree over the numbers
/// (Friedman, Bentley and Finkel 1977, ACM Transactions on Mathematical Software 3), with the bounds of Arya
/// and Mount 1993; leaves are looked through. Immutable, safe to share between threads.
class NearestTree {
public:
    /// `numbers` n × d and `codes` n × m, all finite.
    NearestTree(const Eigen::MatrixXd& numbers, const Eigen::MatrixXd& codes, double codeDistance);

    struct Neighbour {
        double squaredDistance = 0;
        std::uint32_t point = 0;
        /// Nearer first; of two as near the one that stands earlier.
        bool operator<(const Neighbour& other) const {
            return squaredDistance < other.squaredDistance ||
                   (squaredDistance == other.squaredDistance && point < other.point);
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

    double m_codeSquare;
    std::vector<Node> m_nodes;
    /// In the order of the leaves: which point stands there, its numbers and its codes, column by column.
    std::vector<std::uint32_t> m_points;
    Eigen::MatrixXd m_numbers, m_codes;
};

} // namespace oxgoad
