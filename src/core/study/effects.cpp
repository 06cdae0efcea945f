#include "study/effects.h"

#include "base/error.h"
#include "base/text.h"
#include "design/input_ranges.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "study/average_effects.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t mostRows = 5000;
constexpr std::size_t mostLines = 12;

std::size_t inputNamed(const Study& study, const std::string& name) {
    if (const auto found = findInput(study.inputs, name)) return *found;
    throw Error(ErrorCode::unknownColumn, "the model does not use this column", {.column = name},
                "Put it in as a term first.");
}

class Effects {
public:
    Effects(const Evidence& evidence, const Table& table, Progress& progress)
        : m_evidence(evidence), m_study(*evidence.study), m_table(table), m_progress(progress),
          m_bound(m_study.inputs, table, {}) {}

    std::vector<double> values(const std::map<std::string, double>& hold,
                               std::vector<HeldValue>& held) const {
        held = usualValues(m_study, m_table);
        std::vector<double> inputs;
        for (std::size_t i = 0; i < held.size(); ++i) {
            if (const auto asked = hold.find(held[i].column); asked != hold.end()) {
                held[i].value = asked->second;
                held[i].text = textOf(i, asked->second);
            }
            inputs.push_back(held[i].value);
        }
        return inputs;
    }

    std::string textOf(std::size_t input, double value) const {
        const Input& known = m_study.inputs[input];
        if (!std::isfinite(value)) return "missing";
        if (known.factor) return known.levels[static_cast<std::size_t>(value)];
        return m_table.at(known.name, {}).kind() == ColumnKind::date
                   ? dateText(static_cast<std::int32_t>(value))
                   : shortText(value);
    }

    /// Predicted mean and, where there is one, its band at one place; NaN where a term is not defined.
    void addPoint(EffectLine& line, const std::vector<double>& inputs, double at) const {
        double mean = 0, half = std::numeric_limits<double>::quiet_NaN();
        if (const LinearModel* linear = m_study.linear()) {
            const auto said = linear->at(rowOf(inputs));
            mean = said.mean[0] + m_offset;
            half = studentQuantile(m_evidence.level, said.degreesOfFreedom[0]) * std::sqrt(said.variance[0]);
        } else {
            mean = meanAt(inputs);
        }
        line.at.push_back(at);
        line.mean.push_back(m_study.rule.toResponseScale(mean));
        line.lower.push_back(m_study.rule.toResponseScale(mean - half));
        line.upper.push_back(m_study.rule.toResponseScale(mean + half));
    }

    double meanAt(const std::vector<double>& inputs) const {
        return m_study.rule.valuesOf(*m_study.model, rowOf(inputs))[0] + m_offset;
    }

    /// From the held values with the row's own residual: what the row would say were the others held.
    double partial(const std::vector<double>& inputs, std::size_t row) const {
        // Of a model of the mean with a log link what was over what was predicted, which may be 0.
        const Link& link = m_study.rule.link;
        const double actual = m_evidence.rows.actual[row], predicted = m_evidence.rows.fitted[row];
        if (link.family)
            return link.isLogarithmic() ? link.toResponseScale(meanAt(inputs)) * actual / predicted
                                        : meanAt(inputs) + actual - predicted;
        const double value = meanAt(inputs) + m_evidence.rows.residual[row];
        return m_study.rule.link.quantileToResponseScale(value);
    }

    /// The offset is held at its mean over the learning rows.
    void holdOffset(std::vector<HeldValue>& held) {
        if (m_study.rule.offset.empty()) return;
        m_offset = usualOffset(m_study, m_table);
        held.push_back({m_study.rule.offset, m_offset, shortText(m_offset)});
    }

    const Study& study() const { return m_study; }
    const BoundInputs& bound() const { return m_bound; }
    Progress& progress() const { return m_progress; }
    const Table& table() const { return m_table; }

    /// Range and density of an input over the learning rows.
    void describe(Effect& effect, std::size_t input) const {
        const Input& known = m_study.inputs[input];
        effect.dates = m_table.at(known.name, {}).kind() == ColumnKind::date;
        const Range range = known.factor ? Range{0, static_cast<double>(known.levels.size() - 1), true}
                                         : rangeOver(m_bound, input, m_study.rows);
        effect.levels = known.levels;
        effect.lowest = range.low;
        effect.highest = range.high;
        effect.density = densityOver(m_bound, input, m_study.rows, range, 48);
    }

    /// Points along an input from low to high; every level of a factor.
    std::vector<double> pointsAlong(std::size_t input, double low, double high) const {
        const Input& known = m_study.inputs[input];
        std::vector<double> points;
        if (known.factor) {
            points.resize(known.levels.size());
            std::iota(points.begin(), points.end(), 0.0);
            return points;
        }
        constexpr int count = 81;
        for (int i = 0; i < count; ++i)
            points.push_back(low + (high - low) * i / (count - 1));
        return points;
    }

private:
    static MatrixXd rowOf(const std::vector<double>& inputs) {
        return Eigen::Map<const Eigen::RowVectorXd>(inputs.data(), static_cast<Index>(inputs.size()));
    }

    const Evidence& m_evidence;
    const Study& m_study;
    const Table& m_table;
    Progress& m_progress;
    BoundInputs m_bound;
    double m_offset = 0;
};

/// Values that one line of a pair stands for, and which rows belong to it.
struct LineRows {
    double value = 0;
    std::string label;
    std::vector<std::uint32_t> rows;
};

std::vector<LineRows> linesOf(const Effects& effects, std::size_t by) {
    const Study& study = effects.study();
    const Input& known = study.inputs[by];
    std::vector<LineRows> lines;
    if (known.factor) {
        lines.resize(known.levels.size());
        for (std::size_t level = 0; level < lines.size(); ++level) {
            lines[level].value = static_cast<double>(level);
            lines[level].label = known.levels[level];
        }
        for (const auto row : study.rows)
            if (const double level = effects.bound().value(by, row); std::isfinite(level))
                lines[static_cast<std::size_t>(level)].rows.push_back(row);
        if (lines.size() > mostLines) {
            std::stable_sort(lines.begin(), lines.end(), [](const LineRows& a, const LineRows& b) {
                return a.rows.size() > b.rows.size();
            });
            lines.resize(mostLines);
        }
        return lines;
    }
    // A third of the rows around each quartile.
    std::vector<std::pair<double, std::uint32_t>> sorted;
    for (const auto row : study.rows)
        if (const double x = effects.bound().value(by, row); !std::isnan(x)) sorted.emplace_back(x, row);
    if (sorted.empty()) return lines;
    std::sort(sorted.begin(), sorted.end());
    const std::size_t n = sorted.size();
    for (int q = 0; q < 3; ++q) {
        LineRows line;
        line.value = sorted[std::min(n - 1, n * static_cast<std::size_t>(q + 1) / 4)].first;
        line.label = known.name + " = " + effects.textOf(by, line.value);
        for (std::size_t i = n * static_cast<std::size_t>(q) / 3; i < n * static_cast<std::size_t>(q + 1) / 3;
             ++i)
            line.rows.push_back(sorted[i].second);
        if (lines.empty() || line.value != lines.back().value) lines.push_back(std::move(line));
    }
    return lines;
}

} // namespace

std::vector<double> placesByMean(const Effect& effect) {
    const std::vector<double>& mean = effect.lines[0].mean;
    std::vector<std::size_t> order(mean.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return mean[a] < mean[b]; });
    std::vector<double> places(mean.size());
    for (std::size_t k = 0; k < order.size(); ++k)
        places[order[k]] = static_cast<double>(k);
    return places;
}

std::vector<HeldValue> usualValues(const Study& study, const Table& table) {
    const BoundInputs bound(study.inputs, table, {});
    std::vector<HeldValue> held;
    for (std::size_t i = 0; i < study.inputs.size(); ++i) {
        const Input& input = study.inputs[i];
        HeldValue value{input.name, 0, {}};
        if (input.factor) {
            std::vector<std::size_t> counts(input.levels.size(), 0);
            for (const auto row : study.rows)
                if (const double level = bound.value(i, row); std::isfinite(level))
                    ++counts[static_cast<std::size_t>(level)];
            const auto most =
                static_cast<std::size_t>(std::max_element(counts.begin(), counts.end()) - counts.begin());
            value.value = static_cast<double>(most);
            value.text = input.levels[most];
        } else {
            std::vector<double> values;
            values.reserve(study.rows.size());
            for (const auto row : study.rows)
                if (const double x = bound.value(i, row); !std::isnan(x)) values.push_back(x);
            if (values.empty()) values.push_back(0);
            const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
            std::nth_element(values.begin(), middle, values.end());
            value.value = *middle;
            const bool date = table.at(input.name, {}).kind() == ColumnKind::date;
            // Of an even number the mean of both in the middle (definition 7); a date stays a day.
            if (!date && values.size() % 2 == 0)
                value.value = (*middle + *std::max_element(values.begin(), middle)) / 2;
            value.text = date || input.years ? input.valueText(value.value) : shortText(value.value);
        }
        held.push_back(std::move(value));
    }
    return held;
}

double usualOffset(const Study& study, const Table& table) {
    if (study.rule.offset.empty()) return 0;
    const auto numbers = table.at(study.rule.offset, {}).numbers();
    long double sum = 0;
    for (const auto row : study.rows)
        sum += numbers[row];
    return static_cast<double>(sum / static_cast<long double>(study.rows.size()));
}

namespace {

/// Beside the line of one row as is usual: what the column does on average, which is another thing where
/// columns act together.
void addAverages(Effect& effect, const AverageEffect& average) {
    double mean = 0, rows = 0;
    for (std::size_t k = 0; k < average.at.size(); ++k) {
        mean += static_cast<double>(average.rows[k]) * average.partial[k];
        rows += static_cast<double>(average.rows[k]);
    }
    if (!(rows > 0) || average.accumulated.empty()) return;
    effect.lines.front().label = "others as usual";
    const std::vector<double> none(average.at.size(), std::numeric_limits<double>::quiet_NaN());
    const bool banded = !average.accumulatedLow.empty();
    EffectLine accumulated{"accumulated over the rows", average.at, average.accumulated,
                           banded ? average.accumulatedLow : none, banded ? average.accumulatedHigh : none};
    for (auto* values : {&accumulated.mean, &accumulated.lower, &accumulated.upper})
        for (double& value : *values)
            value += mean / rows;
    effect.lines.push_back(std::move(accumulated));
    effect.lines.push_back({"averaged over the rows", average.at, average.partial,
                            banded ? average.partialLow : none, banded ? average.partialHigh : none});
    for (std::size_t i = 0; i < average.curves.size(); ++i)
        effect.curves.push_back(
            {"row " + countText(average.curveRows[i]), average.at, average.curves[i], {}, {}});
}

} // namespace

Effect effectOf(const Evidence& evidence, const Table& table, const std::string& column,
                const std::map<std::string, double>& hold, Progress& progress) {
    Effects effects(evidence, table, progress);
    const std::size_t input = inputNamed(effects.study(), column);
    Effect effect;
    effect.column = column;
    std::vector<double> inputs = effects.values(hold, effect.held);
    effect.held.erase(effect.held.begin() + static_cast<std::ptrdiff_t>(input));
    effects.holdOffset(effect.held);
    effects.describe(effect, input);
    EffectLine line;
    for (const double at : effects.pointsAlong(input, effect.lowest, effect.highest)) {
        inputs[input] = at;
        effects.addPoint(line, inputs, at);
    }
    effect.lines.push_back(std::move(line));
    if (!effects.study().linear() && effect.levels.empty())
        addAverages(effect,
                    averageEffect(effects.study(), table, input,
                                  studiesWithoutParts(effects.study(), table, {}, progress), progress));
    const auto& rows = effects.study().rows;
    const std::size_t stride = std::max<std::size_t>(1, (rows.size() + mostRows - 1) / mostRows);
    for (std::size_t i = 0; i < rows.size(); i += stride) {
        stopIfTold(progress);
        inputs[input] = effects.bound().value(input, rows[i]);
        if (std::isnan(inputs[input])) continue;
        effect.rows.row.push_back(rows[i]);
        effect.rows.x.push_back(inputs[input]);
        effect.rows.y.push_back(effects.partial(inputs, rows[i]));
        effect.rows.line.push_back(0);
    }
    return effect;
}

Effect pairEffect(const Evidence& evidence, const Table& table, const std::string& column,
                  const std::string& by, const std::map<std::string, double>& hold, Progress& progress) {
    Effects effects(evidence, table, progress);
    const std::size_t input = inputNamed(effects.study(), column), other = inputNamed(effects.study(), by);
    Effect effect;
    effect.column = column;
    effect.by = by;
    std::vector<double> inputs = effects.values(hold, effect.held);
    std::erase_if(effect.held, [&](const HeldValue& v) { return v.column == column || v.column == by; });
    effects.holdOffset(effect.held);
    effects.describe(effect, input);
    const bool factor = effects.study().inputs[input].factor;
    const auto lines = linesOf(effects, other);
    for (std::size_t l = 0; l < lines.size(); ++l) {
        stopIfTold(progress);
        const LineRows& covered = lines[l];
        double low = std::numeric_limits<double>::infinity(), high = -low;
        std::vector<char> seen(effect.levels.size(), 0);
        for (const auto row : covered.rows) {
            const double v = effects.bound().value(input, row);
            if (std::isnan(v)) continue;
            low = std::min(low, v);
            high = std::max(high, v);
            if (factor) seen[static_cast<std::size_t>(v)] = 1;
        }
        EffectLine line;
        line.label = covered.label;
        inputs[other] = covered.value;
        for (const double at : effects.pointsAlong(input, low, high)) {
            if (factor && !seen[static_cast<std::size_t>(at)]) continue;
            inputs[input] = at;
            effects.addPoint(line, inputs, at);
        }
        const std::size_t share = mostRows / lines.size();
        const std::size_t stride = std::max<std::size_t>(1, (covered.rows.size() + share - 1) / share);
        for (std::size_t i = 0; i < covered.rows.size(); i += stride) {
            const auto row = covered.rows[i];
            inputs[input] = effects.bound().value(input, row);
            inputs[other] = effects.bound().value(other, row);
            if (std::isnan(inputs[input]) || std::isnan(inputs[other])) continue;
            effect.rows.row.push_back(row);
            effect.rows.x.push_back(inputs[input]);
            effect.rows.y.push_back(effects.partial(inputs, row));
            effect.rows.line.push_back(static_cast<int>(l));
        }
        effect.lines.push_back(std::move(line));
    }
    return effect;
}

} // namespace oxgoad
