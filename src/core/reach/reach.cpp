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

namespace {

bool inOneTerm(const std::vector<Term>& terms, const std::string& a, const std::string& b) {
    return std::any_of(terms.begin(), terms.end(), [&](const Term& term) {
        const auto has = [&](const std::string& name) {
            return std::any_of(term.parts.begin(), term.parts.end(),
                               [&](const TermPart& p) { return p.column == name; });
        };
        return has(a) && has(b);
    });
}

} // namespace

LearnedReach::LearnedReach(const BoundInputs& learned, std::span<const std::uint32_t> rows,
                           const std::vector<Term>& terms, DistanceScale distance, const Progress& progress,
                           ReachOptions options)
    : m_inputs(learned.inputs()), m_options(options), m_distance(std::move(distance)) {
    const auto& inputs = m_inputs;
    m_ranges.resize(inputs.size());
    for (std::size_t a = 0; a < inputs.size(); ++a) {
        if (!inputs[a].factor) {
            m_ranges[a] = rangeOver(learned, a, rows);
            continue;
        }
        for (std::size_t b = 0; b < inputs.size(); ++b) {
            if (b == a) continue;
            stopIfTold(progress);
            const bool product = inOneTerm(terms, inputs[a].name, inputs[b].name);
            if (inputs[b].factor) {
                if (b < a) continue;
                Together pair{a, b, product,
                              std::vector<char>(inputs[a].levels.size() * inputs[b].levels.size(), 0)};
                for (const auto row : rows)
                    pair.seen[static_cast<std::size_t>(learned.value(a, row)) * inputs[b].levels.size() +
                              static_cast<std::size_t>(learned.value(b, row))] = 1;
                m_together.push_back(std::move(pair));
            } else {
                Within pair{a, b, product, std::vector<Range>(inputs[a].levels.size())};
                for (const auto row : rows)
                    pair.ranges[static_cast<std::size_t>(learned.value(a, row))].add(learned.value(b, row));
                m_within.push_back(std::move(pair));
            }
        }
    }
}

void LearnedReach::judgeRanges(const double* values, std::vector<Finding>& findings) const {
    for (std::size_t i = 0; i < m_ranges.size(); ++i) {
        const Input& input = m_inputs[i];
        if (input.factor) continue;
        const double value = values[i];
        const Range& range = m_ranges[i];
        const double beyond = std::max(value - range.high, range.low - value);
        if (!(beyond > 0)) continue;
        const double width = range.high - range.low;
        const ReachGrade grade =
            beyond > m_options.edgeShare * width ? ReachGrade::outside : ReachGrade::edge;
        findings.push_back(
            {grade, input.name,
             input.name + " " + input.valueText(value) +
                 (value > range.high ? " is above the highest seen, " + input.valueText(range.high)
                                     : " is below the lowest seen, " + input.valueText(range.low))});
    }
}

void LearnedReach::judgePairs(const double* values, std::vector<Finding>& findings) const {
    const auto& inputs = m_inputs;
    for (const Together& pair : m_together) {
        const auto a = static_cast<std::size_t>(values[pair.first]);
        const auto b = static_cast<std::size_t>(values[pair.second]);
        if (pair.seen[a * inputs[pair.second].levels.size() + b]) continue;
        findings.push_back({pair.product ? ReachGrade::outside : ReachGrade::edge, inputs[pair.first].name,
                            inputs[pair.first].name + " = " + inputs[pair.first].levels[a] +
                                " was never seen with " + inputs[pair.second].name + " = " +
                                inputs[pair.second].levels[b]});
    }
    for (const Within& pair : m_within) {
        const auto level = static_cast<std::size_t>(values[pair.factor]);
        const double value = values[pair.number];
        const Range& whole = m_ranges[pair.number];
        const Range& range = pair.ranges[level];
        if (value > whole.high || value < whole.low) continue; // said already, more gravely
        const double beyond = std::max(value - range.high, range.low - value);
        if (!(beyond > m_options.edgeShare * (whole.high - whole.low))) continue;
        findings.push_back(
            {pair.product ? ReachGrade::outside : ReachGrade::edge, inputs[pair.number].name,
             inputs[pair.number].name + " " + inputs[pair.number].valueText(value) + " with " +
                 inputs[pair.factor].name + " = " + inputs[pair.factor].levels[level] +
                 (value > range.high ? ": seen only up to " + inputs[pair.number].valueText(range.high)
                                     : ": seen only from " + inputs[pair.number].valueText(range.low))});
    }
}

std::string LearnedReach::subjectOf(const std::string& problem) const {
    std::string subject;
    for (const Input& input : m_inputs)
        if (input.name.size() > subject.size() && problem.starts_with(input.name + " ")) subject = input.name;
    return subject.empty() ? problem : subject;
}

Reach LearnedReach::judge(const double* values, double distance, std::vector<std::string> problems) const {
    Reach reach;
    reach.reasons = std::move(problems);
    const bool refused = !reach.reasons.empty();
    if (refused) {
        reach.grade = ReachGrade::outside;
        reach.subject = subjectOf(reach.reasons.front());
    }
    for (std::size_t i = 0; i < m_inputs.size() && refused; ++i)
        if (std::isnan(values[i])) return reach; // nothing to go by
    std::vector<Finding> findings;
    judgeRanges(values, findings);
    judgePairs(values, findings);
    const std::string said = m_distance.name + " " + readableText(distance, 2);
    if (distance > m_distance.largest * (1 + 1e-9))
        findings.push_back(
            {distance > m_options.outsideDistance * m_distance.largest ? ReachGrade::outside
                                                                       : ReachGrade::edge,
             m_distance.name,
             said + " is above the largest learned from, " + readableText(m_distance.largest, 2)});
    else if (distance > m_options.edgeDistance * m_distance.average)
        findings.push_back({ReachGrade::edge, m_distance.name,
                            said + " is more than " + readableText(m_options.edgeDistance, 1) +
                                " times the average, " + readableText(m_distance.average, 2)});
    std::stable_sort(findings.begin(), findings.end(),
                     [](const Finding& a, const Finding& b) { return a.grade > b.grade; });
    if (!findings.empty() && !refused) {
        reach.grade = findings.front().grade;
        reach.subject = findings.front().subject;
    }
    for (Finding& finding : findings)
        reach.reasons.push_back(std::move(finding.reason));
    return reach;
}

} // namespace oxgoad
