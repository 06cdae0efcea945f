#include "study/average_effects.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/random.h"
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
                      mostParts = 40, mostPaired = 20, rowsDrawn = 10, mostRowsLearnedAgain = 50000,
                      partsLeftOut = 5;

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

/// Changes over the parts, added up, with a mean of 0 over the rows; counts the rows of the parts.
std::vector<double> accumulated(const AverageEffect& effect, const Study& study, MatrixXd rows, Index column,
                                double offset, std::vector<std::size_t>& counts) {
    const std::size_t parts = effect.at.size();
    counts.assign(parts, 0);
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
        ++counts[part[static_cast<std::size_t>(i)]];
    }
    std::vector<double> values(parts, 0);
    double mean = 0, count = 0;
    for (std::size_t k = 1; k < parts; ++k) {
        const auto n = static_cast<double>(counts[k]);
        values[k] = values[k - 1] + (n > 0 ? sum[k] / n : 0);
        mean += n * (values[k - 1] + values[k]) / 2;
        count += n;
    }
    for (double& value : values)
        value -= count > 0 ? mean / count : 0;
    return values;
}

/// The mean prediction of some rows with the column at each value; rows without a prediction are passed over.
std::vector<double> partialDependence(const AverageEffect& effect, const Study& study, MatrixXd rows,
                                      Index column, double offset, const Progress& progress) {
    std::vector<double> values;
    for (const double value : effect.at) {
        stopIfTold(progress);
        rows.col(column).setConstant(value);
        double sum = 0, count = 0;
        for (const double said : predictAt(study, rows, offset))
            if (!std::isnan(said)) sum += said, ++count;
        values.push_back(count > 0 ? sum / count : 0);
    }
    return values;
}

void widen(std::vector<double>& low, std::vector<double>& high, const std::vector<double>& by) {
    if (low.empty()) low = high = by;
    for (std::size_t k = 0; k < by.size(); ++k) {
        low[k] = std::min(low[k], by[k]);
        high[k] = std::max(high[k], by[k]);
    }
}

} // namespace

std::vector<std::shared_ptr<const Study>> studiesWithoutParts(const Study& study, const Table& table,
                                                              Threads threads, Progress& progress) {
    std::vector<std::shared_ptr<const Study>> studies;
    if (study.rows.size() > mostRowsLearnedAgain || study.rows.size() < 2 * partsLeftOut) return studies;
    Recipe recipe = study.recipe;
    recipe.estimator = study.settings;
    recipe.terms = study.terms();
    recipe.choose.reset();
    recipe.forecast.reset();
    RandomStream stream(1, "bands of effects");
    const auto order = shuffled(static_cast<std::uint32_t>(study.rows.size()), stream);
    for (std::size_t part = 0; part < partsLeftOut; ++part) {
        std::vector<std::uint32_t> rows;
        for (std::size_t i = 0; i < order.size(); ++i)
            if (i % partsLeftOut != part) rows.push_back(study.rows[order[i]]);
        std::sort(rows.begin(), rows.end());
        const double from = static_cast<double>(part) / partsLeftOut;
        ProgressStage stage(progress, from, from + 1.0 / partsLeftOut);
        try {
            studies.push_back(learn(recipe, table, study.steps, {}, std::move(rows), threads, stage, {},
                                    LearnFor::judging));
        } catch (const Error&) { // a level that only rows left out have, fewer rows than it needs
            return {};
        }
        // Rows are bound by the whole study's inputs, whose levels have the same numbers only if all are
        // there.
        for (std::size_t j = 0; j < study.inputs.size(); ++j)
            if (studies.back()->inputs[j].levels != study.inputs[j].levels) return {};
    }
    return studies;
}

AverageEffect averageEffect(const Study& study, const Table& table, std::size_t input,
                            std::span<const std::shared_ptr<const Study>> without, const Progress& progress) {
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
        if (effect.at.size() > 1)
            effect.accumulated = accumulated(effect, study, rows, column, offset, effect.rows);
    }
    const MatrixXd some = someRows(study, table, mostRowsAveraged);
    effect.partial = partialDependence(effect, study, some, column, offset, progress);
    for (const auto& other : without) {
        std::vector<std::size_t> counts;
        if (!effect.accumulated.empty())
            widen(effect.accumulatedLow, effect.accumulatedHigh,
                  accumulated(effect, *other, rows, column, offset, counts));
        widen(effect.partialLow, effect.partialHigh,
              partialDependence(effect, *other, some, column, offset, progress));
    }
    const std::size_t stride = std::max<std::size_t>(1, study.rows.size() / rowsDrawn);
    MatrixXd few(static_cast<Index>(std::min(rowsDrawn, study.rows.size())), rows.cols());
    std::vector<std::uint32_t> chosen;
    for (std::size_t i = 0; i < static_cast<std::size_t>(few.rows()); ++i) {
        chosen.push_back(study.rows[i * stride]);
        effect.curveRows.push_back(chosen.back() + std::size_t{1});
    }
    study.bind(table, {}).inputs().fill(chosen, few);
    effect.curves.resize(effect.curveRows.size());
    for (const double value : effect.at) {
        few.col(column).setConstant(value);
        const VectorXd said = predictAt(study, few, offset);
        for (std::size_t i = 0; i < effect.curves.size(); ++i)
            effect.curves[i].push_back(said[static_cast<Index>(i)]);
    }
    return effect;
}

std::vector<AverageEffect> averageEffects(const Study& study, const Table& table, Threads threads,
                                          Progress& progress) {
    const auto without = studiesWithoutParts(study, table, threads, progress);
    std::vector<AverageEffect> effects(study.inputs.size());
    parallelFor(effects.size(), threads,
                [&](std::size_t j) { effects[j] = averageEffect(study, table, j, without, progress); });
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
    double spread = 0;
    {
        const VectorXd said = predictAt(study, rows, offset);
        spread = (said.array() - said.mean()).matrix().squaredNorm();
    }
    std::vector<PairStrength> strengths(pairs.size());
    parallelFor(pairs.size(), threads, [&](std::size_t k) {
        stopIfTold(progress);
        const auto [a, b] = pairs[k];
        const std::array both{static_cast<Index>(a), static_cast<Index>(b)};
        const VectorXd together = dependence(both);
        const double whole = together.squaredNorm();
        const double acting = (together - own[a] - own[b]).squaredNorm();
        strengths[k] = {study.inputs[a].name, study.inputs[b].name, whole > 0 ? acting / whole : 0,
                        spread > 0 ? acting / spread : 0};
    });
    std::stable_sort(strengths.begin(), strengths.end(),
                     [](const PairStrength& a, const PairStrength& b) { return a.hSquared > b.hSquared; });
    return strengths;
}

std::string averageEffectsCsv(const std::vector<AverageEffect>& effects, const Study& study) {
    CsvWriter out;
    for (const auto* name : {"column", "at", "level", "accumulated", "partial_dependence", "rows",
                             "accumulated_low", "accumulated_high", "partial_low", "partial_high"})
        out.text(name);
    out.endRow();
    const auto band = [&](const std::vector<double>& end, std::size_t k) {
        out.number(end.empty() ? nan : end[k]);
    };
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
            for (const auto* end :
                 {&effect.accumulatedLow, &effect.accumulatedHigh, &effect.partialLow, &effect.partialHigh})
                band(*end, k);
            out.endRow();
        }
    }
    return out.bytes();
}

std::string rowCurvesCsv(const std::vector<AverageEffect>& effects, const Study& study) {
    CsvWriter out;
    for (const auto* name : {"column", "at", "level", "row", "prediction"})
        out.text(name);
    out.endRow();
    for (std::size_t j = 0; j < effects.size(); ++j)
        for (std::size_t i = 0; i < effects[j].curves.size(); ++i)
            for (std::size_t k = 0; k < effects[j].at.size(); ++k) {
                const bool factor = study.inputs[j].factor;
                out.text(effects[j].column)
                    .text(factor ? "" : study.inputs[j].valueText(effects[j].at[k]))
                    .text(factor ? effects[j].levels[k] : "")
                    .count(effects[j].curveRows[i])
                    .number(effects[j].curves[i][k]);
                out.endRow();
            }
    return out.bytes();
}

std::string interactionsCsv(const std::vector<PairStrength>& pairs) {
    CsvWriter out;
    for (const auto* name : {"first", "second", "h_squared", "share"})
        out.text(name);
    out.endRow();
    for (const PairStrength& pair : pairs) {
        out.text(pair.first).text(pair.second).number(pair.hSquared).number(pair.share);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
