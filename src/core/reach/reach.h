#pragma once
// Reach: how far a row to be forecast stands from the rows the model learned from.
#include "base/parallel.h"
#include "design/design.h"
#include "estimate/least_squares.h"

#include <algorithm>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

enum class ReachGrade { inside, edge, outside };

/// "inside", "edge", "outside".
std::string_view gradeName(ReachGrade grade);

struct Reach {
    ReachGrade grade = ReachGrade::inside;
    /// Phrases in words, the gravest first.
    std::vector<std::string> reasons;
};

/// How the grade is decided. Thresholds are common practice without a source where none is named.
struct ReachOptions {
    /// Beyond a range by up to this share of its width is edge, further is outside.
    double edgeShare = 0.05;
    /// Leverage above this many times the average leverage of learning rows is edge.
    double edgeLeverage = 3;
    /// Leverage above the largest learning leverage is hidden extrapolation (Montgomery, Peck and Vining
    /// 2012, "Introduction to linear regression analysis", 5th ed., §3.8): edge, and above this many times it
    /// outside.
    double outsideLeverage = 2;
};

/// What the learning rows cover: the range of each number, the range within each level of each factor, the
/// pairs of levels seen together, and the leverages.
class LearnedReach {
public:
    /// Throws Stopped.
    LearnedReach(const BoundDesign& learned, std::span<const std::uint32_t> rows, const LeastSquaresFit& fit,
                 const Progress& progress, ReachOptions options = {});

    /// Grades one row. `leverage` is x'(X'X)⁻¹x there; NaN when it cannot be said. Rows that are not complete
    /// are outside, with the reasons of BoundDesign::problems.
    Reach judge(const BoundDesign& rows, std::size_t row, double leverage) const;

    struct Range {
        double low = 0;
        double high = 0;
        bool seen = false;
        void add(double value) {
            low = seen ? std::min(low, value) : value;
            high = seen ? std::max(high, value) : value;
            seen = true;
        }
    };
    /// Range of a numeric input over the learning rows.
    const Range& range(std::size_t input) const { return m_ranges[input]; }

private:
    struct Finding {
        ReachGrade grade;
        std::string reason;
    };
    struct Within { // a number within the levels of a factor
        std::size_t factor, number;
        bool product;
        std::vector<Range> ranges;
    };
    struct Together { // two factors
        std::size_t first, second;
        bool product;
        std::vector<char> seen;
    };
    bool inOneTerm(std::size_t a, std::size_t b) const;
    void judgeRanges(const BoundDesign& rows, std::size_t row, std::vector<Finding>& findings) const;
    void judgePairs(const BoundDesign& rows, std::size_t row, std::vector<Finding>& findings) const;

    const Design& m_design;
    ReachOptions m_options;
    std::vector<Range> m_ranges;
    std::vector<Within> m_within;
    std::vector<Together> m_together;
    double m_largestLeverage = 0;
    double m_averageLeverage = 0;
};

} // namespace oxgoad
