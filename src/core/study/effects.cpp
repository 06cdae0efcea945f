#include "study/effects.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/distributions.h"

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

/// The row of the model matrix at values of the inputs.
void designRow(const Design& design, const std::vector<double>& inputs, Eigen::Ref<VectorXd> out) {
    const auto& columns = design.columns();
    for (std::size_t j = 0; j < columns.size(); ++j) {
        double product = 1;
        for (const auto& piece : columns[j].pieces)
            product *= piece.basis.at(inputs[piece.input]);
        out[static_cast<Index>(j)] = product;
    }
}

std::size_t inputNamed(const ModelFit& model, const std::string& name) {
    const auto& inputs = model.design.inputs();
    for (std::size_t i = 0; i < inputs.size(); ++i)
        if (inputs[i].name == name) return i;
    throw Error(ErrorCode::unknownColumn, "the model does not use this column", {.column = name},
                "Put it in as a term first.");
}

class Effects {
public:
    Effects(const Evidence& evidence, const Table& table, Progress& progress)
        : m_evidence(evidence), m_model(*evidence.model), m_table(table), m_progress(progress),
          m_bound(m_model.design, table, {}) {}

    std::vector<double> values(const std::map<std::string, double>& hold,
                               std::vector<HeldValue>& held) const {
        held = usualValues(m_model, m_table);
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
        const DesignInput& known = m_model.design.inputs()[input];
        if (known.factor) return known.levels[static_cast<std::size_t>(value)];
        return m_table.at(known.name, {}).kind() == ColumnKind::date
                   ? dateText(static_cast<std::int32_t>(value))
                   : shortText(value);
    }

    /// Predicted mean and band at one place; NaN where a term is not defined.
    void addPoint(EffectLine& line, const std::vector<double>& inputs, double at) const {
        MatrixXd block(1, static_cast<Index>(m_model.design.columns().size()));
        VectorXd row(block.cols());
        designRow(m_model.design, inputs, row);
        block.row(0) = row.transpose();
        const double mean = m_model.fit.predict(block)[0] + m_offset;
        const double half = studentQuantile(m_evidence.level, m_model.fit.meanDegreesOfFreedom(block)[0]) *
                            std::sqrt(m_model.fit.meanVariance(block)[0]);
        line.at.push_back(at);
        line.mean.push_back(m_model.rule.natural(mean));
        line.lower.push_back(m_model.rule.natural(mean - half));
        line.upper.push_back(m_model.rule.natural(mean + half));
    }

    double meanAt(const std::vector<double>& inputs) const {
        MatrixXd block(1, static_cast<Index>(m_model.design.columns().size()));
        VectorXd row(block.cols());
        designRow(m_model.design, inputs, row);
        block.row(0) = row.transpose();
        return m_model.fit.predict(block)[0] + m_offset;
    }

    /// From the held values with the row's own residual: what the row would say were the others held.
    double partial(const std::vector<double>& inputs, std::size_t row) const {
        const double value = meanAt(inputs) + m_evidence.rows.residual[row];
        return m_model.rule.logarithm ? std::exp(value) : value;
    }

    /// The offset is held at its mean over the learning rows.
    void holdOffset(std::vector<HeldValue>& held) {
        if (m_model.rule.offset.empty()) return;
        const auto numbers = m_table.at(m_model.rule.offset, {}).numbers();
        long double sum = 0;
        for (const auto row : m_model.rows)
            sum += numbers[row];
        m_offset = static_cast<double>(sum / static_cast<long double>(m_model.rows.size()));
        held.push_back({m_model.rule.offset, m_offset, shortText(m_offset)});
    }

    const ModelFit& model() const { return m_model; }
    const BoundDesign& bound() const { return m_bound; }
    Progress& progress() const { return m_progress; }
    const Table& table() const { return m_table; }

    /// Range and density of an input over the learning rows.
    void describe(Effect& effect, std::size_t input) const {
        const DesignInput& known = m_model.design.inputs()[input];
        effect.dates = m_table.at(known.name, {}).kind() == ColumnKind::date;
        if (known.factor) {
            effect.levels = known.levels;
            effect.density.assign(known.levels.size(), 0);
            for (const auto row : m_model.rows)
                ++effect.density[static_cast<std::size_t>(m_bound.inputValue(input, row))];
            effect.lowest = 0;
            effect.highest = static_cast<double>(known.levels.size() - 1);
            return;
        }
        effect.lowest = std::numeric_limits<double>::infinity();
        effect.highest = -effect.lowest;
        for (const auto row : m_model.rows) {
            const double v = m_bound.inputValue(input, row);
            effect.lowest = std::min(effect.lowest, v);
            effect.highest = std::max(effect.highest, v);
        }
        constexpr int cells = 48;
        effect.density.assign(cells, 0);
        const double width = effect.highest - effect.lowest;
        for (const auto row : m_model.rows) {
            const double share = width > 0 ? (m_bound.inputValue(input, row) - effect.lowest) / width : 0;
            ++effect.density[static_cast<std::size_t>(std::min(cells - 1.0, share * cells))];
        }
    }

    /// Points along an input from low to high; every level of a factor.
    std::vector<double> pointsAlong(std::size_t input, double low, double high) const {
        const DesignInput& known = m_model.design.inputs()[input];
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
    const Evidence& m_evidence;
    const ModelFit& m_model;
    const Table& m_table;
    Progress& m_progress;
    BoundDesign m_bound;
    double m_offset = 0;
};

/// Values that one line of a pair stands for, and which rows belong to it.
struct LineRows {
    double value = 0;
    std::string label;
    std::vector<std::uint32_t> rows;
};

std::vector<LineRows> linesOf(const Effects& effects, std::size_t by) {
    const ModelFit& model = effects.model();
    const DesignInput& known = model.design.inputs()[by];
    std::vector<LineRows> lines;
    if (known.factor) {
        lines.resize(known.levels.size());
        for (std::size_t level = 0; level < lines.size(); ++level) {
            lines[level].value = static_cast<double>(level);
            lines[level].label = known.levels[level];
        }
        for (const auto row : model.rows)
            lines[static_cast<std::size_t>(effects.bound().inputValue(by, row))].rows.push_back(row);
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
    for (const auto row : model.rows)
        sorted.emplace_back(effects.bound().inputValue(by, row), row);
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

std::vector<HeldValue> usualValues(const ModelFit& model, const Table& table) {
    const BoundDesign bound(model.design, table, {});
    std::vector<HeldValue> held;
    for (std::size_t i = 0; i < model.design.inputs().size(); ++i) {
        const DesignInput& input = model.design.inputs()[i];
        HeldValue value{input.name, 0, {}};
        if (input.factor) {
            std::vector<std::size_t> counts(input.levels.size(), 0);
            for (const auto row : model.rows)
                ++counts[static_cast<std::size_t>(bound.inputValue(i, row))];
            const auto most =
                static_cast<std::size_t>(std::max_element(counts.begin(), counts.end()) - counts.begin());
            value.value = static_cast<double>(most);
            value.text = input.levels[most];
        } else {
            std::vector<double> values;
            values.reserve(model.rows.size());
            for (const auto row : model.rows)
                values.push_back(bound.inputValue(i, row));
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

Effect effectOf(const Evidence& evidence, const Table& table, const std::string& column,
                const std::map<std::string, double>& hold, Progress& progress) {
    Effects effects(evidence, table, progress);
    const std::size_t input = inputNamed(effects.model(), column);
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
    const auto& rows = effects.model().rows;
    const std::size_t stride = std::max<std::size_t>(1, (rows.size() + mostRows - 1) / mostRows);
    for (std::size_t i = 0; i < rows.size(); i += stride) {
        if (progress.stopRequested()) throw Stopped{};
        inputs[input] = effects.bound().inputValue(input, rows[i]);
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
    const std::size_t input = inputNamed(effects.model(), column), other = inputNamed(effects.model(), by);
    Effect effect;
    effect.column = column;
    effect.by = by;
    std::vector<double> inputs = effects.values(hold, effect.held);
    std::erase_if(effect.held, [&](const HeldValue& v) { return v.column == column || v.column == by; });
    effects.holdOffset(effect.held);
    effects.describe(effect, input);
    const bool factor = effects.model().design.inputs()[input].factor;
    const auto lines = linesOf(effects, other);
    for (std::size_t l = 0; l < lines.size(); ++l) {
        if (progress.stopRequested()) throw Stopped{};
        const LineRows& covered = lines[l];
        double low = std::numeric_limits<double>::infinity(), high = -low;
        std::vector<char> seen(effect.levels.size(), 0);
        for (const auto row : covered.rows) {
            const double v = effects.bound().inputValue(input, row);
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
            inputs[input] = effects.bound().inputValue(input, row);
            inputs[other] = effects.bound().inputValue(other, row);
            effect.rows.row.push_back(row);
            effect.rows.x.push_back(inputs[input]);
            effect.rows.y.push_back(effects.partial(inputs, row));
            effect.rows.line.push_back(static_cast<int>(l));
        }
        effect.lines.push_back(std::move(line));
    }
    return effect;
}

namespace {

/// Sums over rows for one effect: of the effect, and of its derivative by the coefficients (p columns,
/// constant last).
struct MarginalSum {
    double effect = 0;
    VectorXd gradient;
    MarginalSum& operator+=(const MarginalSum& other) {
        effect += other.effect;
        if (gradient.size() == 0)
            gradient = other.gradient;
        else
            gradient += other.gradient;
        return *this;
    }
};

} // namespace

std::vector<MarginalEffect> averageMarginalEffects(const Evidence& evidence, const Table& table,
                                                   Threads threads, Progress& progress,
                                                   const std::string& only) {
    const ModelFit& model = *evidence.model;
    const Design& design = model.design;
    const BoundDesign bound(design, table, {});
    const WorkingResponse offsets = [&] {
        Recipe recipe;
        recipe.response = evidence.response;
        if (!evidence.offset.empty()) recipe.roles[evidence.offset] = Role::offset;
        return WorkingResponse(recipe, table, {});
    }();
    const auto p = static_cast<Index>(design.columns().size());
    // One effect a number, one a level but the reference level.
    struct Wanted {
        std::size_t input;
        int level;
    };
    std::vector<Wanted> wanted;
    for (std::size_t i = 0; i < design.inputs().size(); ++i) {
        const DesignInput& input = design.inputs()[i];
        if (!only.empty() && input.name != only) continue;
        if (!input.factor) wanted.push_back({i, -1});
        for (std::size_t level = 0; level < input.levels.size(); ++level)
            if (level != input.referenceLevel) wanted.push_back({i, static_cast<int>(level)});
    }
    VectorXd b = model.fit.coefficients;
    for (Index j = 0; j < p; ++j)
        if (std::isnan(b[j])) b[j] = 0;
    const double n = static_cast<double>(model.rows.size());
    constexpr std::size_t blockRows = 2048;
    const std::size_t blocks = (model.rows.size() + blockRows - 1) / blockRows;
    std::vector<MarginalEffect> found;
    for (std::size_t w = 0; w < wanted.size(); ++w) {
        progress.checkpoint(static_cast<double>(w) / static_cast<double>(wanted.size()),
                            "Average marginal effects");
        const auto [input, level] = wanted[w];
        std::vector<Index> touched;
        for (Index j = 0; j < p; ++j)
            for (const auto& piece : design.columns()[static_cast<std::size_t>(j)].pieces)
                if (piece.input == input && (touched.empty() || touched.back() != j)) touched.push_back(j);
        std::vector<MarginalSum> sums(blocks);
        parallelFor(blocks, threads, [&](std::size_t block) {
            if (progress.stopRequested()) throw Stopped{};
            MarginalSum& sum = sums[block];
            sum.gradient = VectorXd::Zero(p + 1);
            std::vector<double> inputs(design.inputs().size());
            VectorXd one(p), two(p), at(p);
            for (std::size_t i = block * blockRows; i < std::min(model.rows.size(), (block + 1) * blockRows);
                 ++i) {
                const auto row = model.rows[i];
                for (std::size_t k = 0; k < inputs.size(); ++k)
                    inputs[k] = bound.inputValue(k, row);
                const double own = inputs[input];
                // Two places and what their difference is divided by: one unit as a central difference.
                double step = 1;
                if (level >= 0) {
                    inputs[input] = static_cast<double>(design.inputs()[input].referenceLevel);
                    designRow(design, inputs, one);
                    inputs[input] = level;
                    designRow(design, inputs, two);
                } else {
                    const double h = 1e-5 * std::max(std::fabs(own), 1e-3);
                    inputs[input] = own - h;
                    designRow(design, inputs, one);
                    inputs[input] = own + h;
                    designRow(design, inputs, two);
                    step = 2 * h;
                }
                if (!model.rule.logarithm) {
                    for (const Index j : touched) {
                        const double d = (two[j] - one[j]) / step;
                        sum.effect += b[j] * d;
                        sum.gradient[j] += d;
                    }
                    continue;
                }
                const double base = offsets.offset(row) + (model.fit.intercept ? model.fit.constant : 0);
                const double low = model.rule.natural(one.dot(b) + base),
                             high = model.rule.natural(two.dot(b) + base);
                sum.effect += (high - low) / step;
                sum.gradient.head(p) += (high * two - low * one) / step;
                sum.gradient[p] += (high - low) / step;
            }
        });
        MarginalSum total;
        for (const MarginalSum& sum : sums)
            total += sum;
        MarginalEffect effect;
        effect.column = design.inputs()[input].name;
        if (level >= 0) effect.level = design.inputs()[input].levels[static_cast<std::size_t>(level)];
        effect.effect = total.effect / n;
        const auto [linear, error, df] =
            model.fit.combination(total.gradient.head(p) / n, total.gradient[p] / n);
        effect.standardError = error;
        const double half = studentQuantile(evidence.level, df) * effect.standardError;
        effect.lower = effect.effect - half;
        effect.upper = effect.effect + half;
        effect.p = studentTwoSided(effect.effect / effect.standardError, df);
        found.push_back(std::move(effect));
    }
    return found;
}

} // namespace oxgoad
