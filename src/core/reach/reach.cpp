#include "reach/reach.h"

#include "base/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

std::string_view gradeName(ReachGrade grade) {
    switch (grade) {
    case ReachGrade::inside:
        return "inside";
    case ReachGrade::edge:
        return "edge";
    case ReachGrade::outside:
        return "outside";
    }
    return "outside";
}

bool LearnedReach::inOneTerm(std::size_t a, std::size_t b) const {
    return std::any_of(m_design.terms().begin(), m_design.terms().end(), [&](const Term& term) {
        auto has = [&](std::size_t input) {
            return std::any_of(term.parts.begin(), term.parts.end(),
                               [&](const TermPart& p) { return p.column == m_design.inputs()[input].name; });
        };
        return has(a) && has(b);
    });
}

LearnedReach::LearnedReach(const BoundDesign& learned, std::span<const std::uint32_t> rows,
                           const LeastSquaresFit& fit, const Progress& progress, ReachOptions options)
    : m_design(learned.design()), m_options(options) {
    const auto& inputs = m_design.inputs();
    m_ranges.resize(inputs.size());
    for (std::size_t a = 0; a < inputs.size(); ++a) {
        if (!inputs[a].factor) {
            for (const auto row : rows)
                m_ranges[a].add(learned.inputValue(a, row));
            continue;
        }
        for (std::size_t b = 0; b < inputs.size(); ++b) {
            if (b == a) continue;
            if (progress.stopRequested()) throw Stopped{};
            if (inputs[b].factor) {
                if (b < a) continue;
                Together pair{a, b, inOneTerm(a, b),
                              std::vector<char>(inputs[a].levels.size() * inputs[b].levels.size(), 0)};
                for (const auto row : rows)
                    pair.seen[static_cast<std::size_t>(learned.inputValue(a, row)) * inputs[b].levels.size() +
                              static_cast<std::size_t>(learned.inputValue(b, row))] = 1;
                m_together.push_back(std::move(pair));
            } else {
                Within pair{a, b, inOneTerm(a, b), std::vector<Range>(inputs[a].levels.size())};
                for (const auto row : rows)
                    pair.ranges[static_cast<std::size_t>(learned.inputValue(a, row))].add(
                        learned.inputValue(b, row));
                m_within.push_back(std::move(pair));
            }
        }
    }
    m_largestLeverage = fit.leverages.maxCoeff();
    m_averageLeverage = static_cast<double>(fit.rank()) / static_cast<double>(fit.rows);
}

void LearnedReach::judgeRanges(const BoundDesign& rows, std::size_t row,
                               std::vector<Finding>& findings) const {
    for (std::size_t i = 0; i < m_ranges.size(); ++i) {
        const DesignInput& input = m_design.inputs()[i];
        if (input.factor) continue;
        const double value = rows.inputValue(i, row);
        const Range& range = m_ranges[i];
        const double beyond = std::max(value - range.high, range.low - value);
        if (!(beyond > 0)) continue;
        const double width = range.high - range.low;
        const ReachGrade grade =
            beyond > m_options.edgeShare * width ? ReachGrade::outside : ReachGrade::edge;
        findings.push_back(
            {grade, input.name + " " + input.valueText(value) +
                        (value > range.high ? " is above the highest seen, " + input.valueText(range.high)
                                            : " is below the lowest seen, " + input.valueText(range.low))});
    }
}

void LearnedReach::judgePairs(const BoundDesign& rows, std::size_t row,
                              std::vector<Finding>& findings) const {
    const auto& inputs = m_design.inputs();
    for (const Together& pair : m_together) {
        const auto a = static_cast<std::size_t>(rows.inputValue(pair.first, row));
        const auto b = static_cast<std::size_t>(rows.inputValue(pair.second, row));
        if (pair.seen[a * inputs[pair.second].levels.size() + b]) continue;
        findings.push_back({pair.product ? ReachGrade::outside : ReachGrade::edge,
                            inputs[pair.first].name + " = " + inputs[pair.first].levels[a] +
                                " was never seen with " + inputs[pair.second].name + " = " +
                                inputs[pair.second].levels[b]});
    }
    for (const Within& pair : m_within) {
        const auto level = static_cast<std::size_t>(rows.inputValue(pair.factor, row));
        const double value = rows.inputValue(pair.number, row);
        const Range& whole = m_ranges[pair.number];
        const Range& range = pair.ranges[level];
        if (value > whole.high || value < whole.low) continue; // said already, more gravely
        const double beyond = std::max(value - range.high, range.low - value);
        if (!(beyond > m_options.edgeShare * (whole.high - whole.low))) continue;
        findings.push_back(
            {pair.product ? ReachGrade::outside : ReachGrade::edge,
             inputs[pair.number].name + " " + inputs[pair.number].valueText(value) + " with " +
                 inputs[pair.factor].name + " = " + inputs[pair.factor].levels[level] +
                 (value > range.high ? ": seen only up to " + inputs[pair.number].valueText(range.high)
                                     : ": seen only from " + inputs[pair.number].valueText(range.low))});
    }
}

Reach LearnedReach::judge(const BoundDesign& rows, std::size_t row, double leverage) const {
    Reach reach;
    reach.reasons = rows.problems(row);
    if (!reach.reasons.empty()) {
        reach.grade = ReachGrade::outside;
        return reach;
    }
    std::vector<Finding> findings;
    judgeRanges(rows, row, findings);
    judgePairs(rows, row, findings);
    if (leverage > m_largestLeverage * (1 + 1e-9))
        findings.push_back({leverage > m_options.outsideLeverage * m_largestLeverage ? ReachGrade::outside
                                                                                     : ReachGrade::edge,
                            "leverage " + readableText(leverage, 2) + " is above the largest learned from, " +
                                readableText(m_largestLeverage, 2)});
    else if (leverage > m_options.edgeLeverage * m_averageLeverage)
        findings.push_back({ReachGrade::edge, "leverage " + readableText(leverage, 2) + " is more than " +
                                                  readableText(m_options.edgeLeverage, 1) +
                                                  " times the average, " +
                                                  readableText(m_averageLeverage, 2)});
    std::stable_sort(findings.begin(), findings.end(),
                     [](const Finding& a, const Finding& b) { return a.grade > b.grade; });
    if (!findings.empty()) reach.grade = findings.front().grade;
    for (Finding& finding : findings)
        reach.reasons.push_back(std::move(finding.reason));
    return reach;
}

} // namespace oxgoad
