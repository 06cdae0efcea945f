#include "reach/reach.h"

#include "base/text.h"
#include "estimate/model_text.h"

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

bool anyReads(const std::vector<Term>& terms, const std::string& name) {
    return std::any_of(terms.begin(), terms.end(), [&](const Term& term) {
        return std::any_of(term.parts.begin(), term.parts.end(),
                           [&](const TermPart& p) { return p.column == name; });
    });
}

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
            // One that no term reads says when a row is: being later is no reach of the terms.
            if (anyReads(terms, inputs[a].name)) m_ranges[a] = rangeOver(learned, a, rows);
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
                    if (const double one = learned.value(a, row), other = learned.value(b, row);
                        std::isfinite(one) && std::isfinite(other))
                        pair.seen[static_cast<std::size_t>(one) * inputs[b].levels.size() +
                                  static_cast<std::size_t>(other)] = 1;
                m_together.push_back(std::move(pair));
            } else {
                Within pair{a, b, product, std::vector<Range>(inputs[a].levels.size())};
                for (const auto row : rows)
                    if (const double level = learned.value(a, row); std::isfinite(level))
                        pair.ranges[static_cast<std::size_t>(level)].add(learned.value(b, row));
                m_within.push_back(std::move(pair));
            }
        }
    }
}

void LearnedReach::judgeRanges(const double* values, std::vector<Finding>& findings) const {
    for (std::size_t i = 0; i < m_ranges.size(); ++i) {
        const Input& input = m_inputs[i];
        const double value = values[i];
        if (std::isnan(value)) findings.push_back({ReachGrade::edge, input.name, input.name + " is missing"});
        if (input.factor) continue;
        const Range& range = m_ranges[i];
        if (!range.seen) continue;
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
        if (!std::isfinite(values[pair.first]) || !std::isfinite(values[pair.second])) continue;
        const auto a = static_cast<std::size_t>(values[pair.first]);
        const auto b = static_cast<std::size_t>(values[pair.second]);
        if (pair.seen[a * inputs[pair.second].levels.size() + b]) continue;
        findings.push_back({pair.product ? ReachGrade::outside : ReachGrade::edge, inputs[pair.first].name,
                            inputs[pair.first].name + " = " + inputs[pair.first].levels[a] +
                                " was never seen with " + inputs[pair.second].name + " = " +
                                inputs[pair.second].levels[b]});
    }
    for (const Within& pair : m_within) {
        if (!std::isfinite(values[pair.factor]) || std::isnan(values[pair.number])) continue;
        const auto level = static_cast<std::size_t>(values[pair.factor]);
        const double value = values[pair.number];
        const Range& whole = m_ranges[pair.number];
        const Range& range = pair.ranges[level];
        if (!range.seen || value > whole.high || value < whole.low) continue; // said already, more gravely
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

namespace {

using nlohmann::json;

json rangeJson(const Range& range) {
    return range.seen ? json::array({numberJson(range.low), numberJson(range.high)}) : json(nullptr);
}

Range rangeFrom(const json& j) {
    if (j.is_null()) return {};
    Range range{numberFrom(j.at(0)), numberFrom(j.at(1)), true};
    if (!(range.low <= range.high)) damaged("a range that ends before it begins");
    return range;
}

} // namespace

std::string LearnedReach::text() const {
    json out{{"ranges", json::array()},
             {"within", json::array()},
             {"together", json::array()},
             {"distance",
              {{"name", m_distance.name},
               {"average", numberJson(m_distance.average)},
               {"largest", numberJson(m_distance.largest)},
               {"by_weight", m_distance.byWeight}}}};
    for (const Range& range : m_ranges)
        out["ranges"].push_back(rangeJson(range));
    for (const Within& pair : m_within) {
        json ranges = json::array();
        for (const Range& range : pair.ranges)
            ranges.push_back(rangeJson(range));
        out["within"].push_back({{"factor", pair.factor},
                                 {"number", pair.number},
                                 {"in_one_term", pair.product},
                                 {"ranges_of_levels", ranges}});
    }
    for (const Together& pair : m_together)
        out["together"].push_back({{"first", pair.first},
                                   {"second", pair.second},
                                   {"in_one_term", pair.product},
                                   {"seen", std::vector<int>(pair.seen.begin(), pair.seen.end())}});
    return out.dump(-1, ' ', false, json::error_handler_t::replace);
}

LearnedReach LearnedReach::read(std::string_view text, Inputs inputs, ReachOptions options) {
    return guardedRead([&] {
        const json j = json::parse(text);
        LearnedReach reach;
        reach.m_inputs = std::move(inputs);
        reach.m_options = options;
        const std::size_t n = reach.m_inputs.size();
        const auto input = [&](const json& at, bool factor) {
            const auto place = at.get<std::size_t>();
            if (place >= n || reach.m_inputs[place].factor != factor) damaged("a range of no input");
            return place;
        };
        for (const json& each : j.at("ranges"))
            reach.m_ranges.push_back(rangeFrom(each));
        if (reach.m_ranges.size() != n) damaged("other ranges than inputs");
        for (const json& each : j.at("within")) {
            Within pair{input(each.at("factor"), true),
                        input(each.at("number"), false),
                        each.at("in_one_term").get<bool>(),
                        {}};
            for (const json& range : each.at("ranges_of_levels"))
                pair.ranges.push_back(rangeFrom(range));
            if (pair.ranges.size() != reach.m_inputs[pair.factor].levels.size())
                damaged("other ranges than levels");
            reach.m_within.push_back(std::move(pair));
        }
        for (const json& each : j.at("together")) {
            Together pair{input(each.at("first"), true),
                          input(each.at("second"), true),
                          each.at("in_one_term").get<bool>(),
                          {}};
            for (const json& seen : each.at("seen"))
                pair.seen.push_back(seen.get<int>() != 0);
            if (pair.seen.size() !=
                reach.m_inputs[pair.first].levels.size() * reach.m_inputs[pair.second].levels.size())
                damaged("other pairs than levels");
            reach.m_together.push_back(std::move(pair));
        }
        const json& d = j.at("distance");
        reach.m_distance = {d.at("name").get<std::string>(), numberFrom(d.at("average")),
                            numberFrom(d.at("largest")), d.at("by_weight").get<bool>()};
        return reach;
    });
}

} // namespace oxgoad
