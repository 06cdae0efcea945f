#pragma once
// Reach: how far a row to be forecast stands from the rows the model learned from.
#include "base/parallel.h"
#include "design/input_ranges.h"
#include "design/term.h"
#include "estimate/model_kind.h"

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
    /// What the first is about: a column, or the model's distance.
    std::string subject{};
};

/// How the grade is decided. Thresholds are common practice without a source where none is named.
struct ReachOptions {
    /// Beyond a range by up to this share of its width is edge, further is outside.
    double edgeShare = 0.05;
    /// A distance (leverage, where the model is linear) above this many times the average of learning rows is
    /// edge.
    double edgeDistance = 3;
    /// A distance above the largest of learning rows is hidden extrapolation (Montgomery, Peck and Vining
    /// 2012, "Introduction to linear regression analysis", 5th ed., §3.8): edge, and above this many times it
    /// outside.
    double outsideDistance = 2;
};

/// What the learning rows cover: the range of each number, the range within each level of each factor, the
/// pairs of levels seen together, which need no fit; and the scale of the model's own distance.
class LearnedReach {
public:
    /// `terms` say which inputs enter together. Throws Stopped.
    LearnedReach(const BoundInputs& learned, std::span<const std::uint32_t> rows,
                 const std::vector<Term>& terms, DistanceScale distance, const Progress& progress,
                 ReachOptions options = {});

    /// Grades a row by the values of its inputs. `distance` is the model's there; NaN when it cannot be said.
    /// Rows with problems are outside, with these as reasons; a missing value of a model that reads such rows
    /// is at the edge.
    Reach judge(const double* values, double distance, std::vector<std::string> problems) const;

    /// As JSON, for what scores rows without those it learned from; `read` makes an equal one for the same
    /// inputs. Errors: badProject.
    std::string text() const;
    static LearnedReach read(std::string_view text, Inputs inputs, ReachOptions options = {});

    /// Range of a numeric input over the learning rows.
    const Range& range(std::size_t input) const { return m_ranges[input]; }

private:
    LearnedReach() = default;
    struct Finding {
        ReachGrade grade;
        std::string subject, reason;
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
    void judgeRanges(const double* values, std::vector<Finding>& findings) const;
    /// The input that a reason why a row cannot be used begins with: the longest of such a name.
    std::string subjectOf(const std::string& problem) const;
    void judgePairs(const double* values, std::vector<Finding>& findings) const;

    Inputs m_inputs;
    ReachOptions m_options;
    std::vector<Range> m_ranges;
    std::vector<Within> m_within;
    std::vector<Together> m_together;
    DistanceScale m_distance;
};

} // namespace oxgoad
