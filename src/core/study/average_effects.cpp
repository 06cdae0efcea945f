#include "study/average_effects.h"

#include "study/effects.h"
#include "write/csv.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr std::size_t mostRowsAccumulated = 2000, mostRowsAveraged = 300, mostRowsOfPairs = 50,
                      mostParts = 40, mostPaired = 20;

/// Inputs of some learning rows, evenly spaced.
MatrixXd someRows(const Study& study, const Table& table, std::size_t most) {
    const BoundModel bound = study.bind(table, {});
    const std::size_t stride = std::max<std::size_t>(1, (study.rows.size() + most - 1) / most);
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < study.rows.size(); i += stride)
        rows.push_back(study.rows[i]);
    MatrixXd inputs(static_cast<Index>(rows.size()), static_cast<Index>(study.inputs.size()));
    bound.inputs().fill(rows, inputs);
    return inputs;
}

/// Predictions in the response's unit, with the usual offset.
VectorXd predictAt(const Study& study, const MatrixXd& inputs, double offset) {
    VectorXd said = study.rule.valuesOf(*study.model, inputs);
    for (double& value : said)
        value = study.rule.toResponseScale(value + offset);
    return said;
}

/// Different values that part sorted ones into parts of about as many.
std::vector<double> partEnds(std::vector<double> values) {
    std::sort(values.begin(), values.end());
    std::vector<double> ends;
    if (values.empty()) return ends;
    ends.push_back(values.front());
    const std::size_t parts = std::min(mostParts, values.size());
    for (std::size_t k = 1; k <= parts; ++k) {
        const double end = values[k * values.size() / parts - 1];
        if (end > ends.back()) ends.push_back(end);
    }
    return ends;
}

void accumulate(AverageEffect& effect, const Study& study, MatrixXd rows, Index column, double offset) {
    const std::size_t parts = effect.at.size();
    std::vector<std::uint32_t> part(static_cast<std::size_t>(rows.rows()));
    MatrixXd low = rows, high = std::move(rows);
    for (Index i = 0; i < low.rows(); ++i) {
        const auto end = std::lower_bound(effect.at.begin() + 1, effect.at.end(), low(i, column));
        const auto k = static_cast<std::size_t>(end - effect.at.begin());
        part[static_cast<std::size_t>(i)] = static_cast<std::uint32_t>(k);
        low(i, column) = effect.at[k - 1];
        high(i, column) = effect.at[k];
    }
    const VectorXd change = predictAt(study, high, offset) - predictAt(study, low, offset);
    std::vector<double> sum(parts, 0);
    for (Index i = 0; i < change.size(); ++i) {
        if (std::isnan(change[i])) continue;
        sum[part[static_cast<std::size_t>(i)]] += change[i];
        ++effect.rows[part[static_cast<std::size_t>(i)]];
    }
    effect.accumulated.assign(parts, 0);
    double mean = 0, count = 0;
    for (std::size_t k = 1; k < parts; ++k) {
        const auto n = static_cast<double>(effect.rows[k]);
        effect.accumulated[k] = effect.accumulated[k - 1] + (n > 0 ? sum[k] / n : 0);
        mean += n * (effect.accumulated[k - 1] + effect.accumulated[k]) / 2;
        count += n;
    }
    for (double& value : effect.accumulated)
        value -= count > 0 ? mean / count : 0;
}

} // namespace

AverageEffect averageEffect(const Study& study, const Table& table, std::size_t input,
                            const Progress& progress) {
    const Input& known = study.inputs[input];
    const auto column = static_cast<Index>(input);
    const double offset = usualOffset(study, table);
    AverageEffect effect;
    effect.column = known.name;
    MatrixXd rows = someRows(study, table, mostRowsAccumulated);
    std::vector<Index> there;
    for (Index i = 0; i < rows.rows(); ++i)
        if (std::isfinite(rows(i, column))) there.push_back(i);
    rows = MatrixXd(rows(there, Eigen::all));
    if (known.factor) {
        effect.levels = known.levels;
        effect.at.resize(known.levels.size());
        std::iota(effect.at.begin(), effect.at.end(), 0.0);
        effect.rows.assign(effect.at.size(), 0);
        for (Index i = 0; i < rows.rows(); ++i)
            ++effect.rows[static_cast<std::size_t>(rows(i, column))];
    } else {
        effect.at = partEnds({rows.col(column).begin(), rows.col(column).end()});
        effect.rows.assign(effect.at.size(), 0);
        if (effect.at.size() > 1) accumulate(effect, study, rows, column, offset);
    }
    MatrixXd some = someRows(study, table, mostRowsAveraged);
    for (const double value : effect.at) {
        stopIfTold(progress);
        some.col(column).setConstant(value);
        const VectorXd said = predictAt(study, some, offset);
        effect.partial.push_back(said.size() > 0 ? said.mean() : 0);
    }
    return effect;
}

std::vector<AverageEffect> averageEffects(const Study& study, const Table& table, Threads threads,
                                          const Progress& progress) {
    std::vector<AverageEffect> effects(study.inputs.size());
    parallelFor(effects.size(), threads,
                [&](std::size_t j) { effects[j] = averageEffect(study, table, j, progress); });
    return effects;
}

std::vector<PairStrength> interactionStrengths(const Study& study, const Table& table, Threads threads,
                                               const Progress& progress) {
    const double offset = usualOffset(study, table);
    const MatrixXd rows = someRows(study, table, mostRowsOfPairs);
    const Index n = rows.rows();
    // The mean over all rows with some columns as row i has them, less its mean.
    const auto dependence = [&](std::span<const Index> columns) {
        VectorXd means(n);
        for (Index i = 0; i < n; ++i) {
            MatrixXd at = rows;
            for (const Index column : columns)
                at.col(column).setConstant(rows(i, column));
            means[i] = predictAt(study, at, offset).mean();
        }
        means.array() -= means.mean();
        return means;
    };
    const std::size_t inputs = study.inputs.size();
    std::vector<VectorXd> own(inputs);
    parallelFor(inputs, threads, [&](std::size_t j) {
        stopIfTold(progress);
        const std::array one{static_cast<Index>(j)};
        own[j] = dependence(one);
    });
    std::vector<std::size_t> order(inputs);
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return own[a].squaredNorm() > own[b].squaredNorm();
    });
    order.resize(std::min(order.size(), mostPaired));
    std::sort(order.begin(), order.end());
    std::vector<std::pair<std::size_t, std::size_t>> pairs;
    for (std::size_t a = 0; a < order.size(); ++a)
        for (std::size_t b = a + 1; b < order.size(); ++b)
            pairs.emplace_back(order[a], order[b]);
    std::vector<PairStrength> strengths(pairs.size());
    parallelFor(pairs.size(), threads, [&](std::size_t k) {
        stopIfTold(progress);
        const auto [a, b] = pairs[k];
        const std::array both{static_cast<Index>(a), static_cast<Index>(b)};
        const VectorXd together = dependence(both);
        const double whole = together.squaredNorm();
        strengths[k] = {study.inputs[a].name, study.inputs[b].name,
                        whole > 0 ? (together - own[a] - own[b]).squaredNorm() / whole : 0};
    });
    std::stable_sort(strengths.begin(), strengths.end(),
                     [](const PairStrength& a, const PairStrength& b) { return a.hSquared > b.hSquared; });
    return strengths;
}

std::string averageEffectsCsv(const std::vector<AverageEffect>& effects, const Study& study) {
    CsvWriter out;
    for (const auto* name : {"column", "at", "level", "accumulated", "partial_dependence", "rows"})
        out.text(name);
    out.endRow();
    for (std::size_t j = 0; j < effects.size(); ++j) {
        const AverageEffect& effect = effects[j];
        for (std::size_t k = 0; k < effect.at.size(); ++k) {
            out.text(effect.column);
            if (study.inputs[j].factor)
                out.text("").text(effect.levels[k]).text("");
            else if (study.inputs[j].date)
                out.text(study.inputs[j].valueText(effect.at[k])).text("").number(effect.accumulated[k]);
            else
                out.number(effect.at[k])
                    .text("")
                    .number(effect.accumulated.empty() ? 0 : effect.accumulated[k]);
            out.number(effect.partial[k]).count(effect.rows[k]);
            out.endRow();
        }
    }
    return out.bytes();
}

std::string interactionsCsv(const std::vector<PairStrength>& pairs) {
    CsvWriter out;
    for (const auto* name : {"first", "second", "h_squared"})
        out.text(name);
    out.endRow();
    for (const PairStrength& pair : pairs) {
        out.text(pair.first).text(pair.second).number(pair.hSquared);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
