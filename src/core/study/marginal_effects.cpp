#include "study/marginal_effects.h"

#include "base/not_a_number.h"
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

/// One effect a number, one a level but the reference level.
struct Wanted {
    std::size_t input;
    /// -1 for a number.
    int level;
};

std::vector<Wanted> wantedEffects(const Inputs& inputs, const std::string& only) {
    std::vector<Wanted> wanted;
    for (std::size_t i = 0; i < inputs.size(); ++i) {
        if (!only.empty() && inputs[i].name != only) continue;
        if (!inputs[i].factor) wanted.push_back({i, -1});
        for (std::size_t level = 0; level < inputs[i].levels.size(); ++level)
            if (level != inputs[i].referenceLevel) wanted.push_back({i, static_cast<int>(level)});
    }
    return wanted;
}

MarginalEffect named(const Study& study, const Wanted& wanted) {
    MarginalEffect effect;
    effect.column = study.inputs[wanted.input].name;
    if (wanted.level >= 0)
        effect.level = study.inputs[wanted.input].levels[static_cast<std::size_t>(wanted.level)];
    return effect;
}

/// Some columns of the row of the model matrix at values of the inputs.
void designRow(const Design& design, const std::vector<double>& inputs, const std::vector<Index>& columns,
               Eigen::Ref<VectorXd> out) {
    for (const Index j : columns) {
        double product = 1;
        for (const auto& piece : design.columns()[static_cast<std::size_t>(j)].pieces)
            product *= piece.basis.at(inputs[piece.input]);
        out[j] = product;
    }
}

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

std::vector<MarginalEffect> linearEffects(const Evidence& evidence, const Table& table, Threads threads,
                                          Progress& progress, const std::vector<Wanted>& wanted) {
    const Study& study = *evidence.study;
    const LeastSquaresFit& fit = study.linear()->fit;
    const Design& design = study.linear()->design;
    const BoundInputs bound(study.inputs, table, {});
    const WorkingResponse offsets = [&] {
        Recipe recipe;
        recipe.response = evidence.response;
        if (!evidence.offset.empty()) recipe.roles[evidence.offset] = Role::offset;
        return WorkingResponse(recipe, table, {});
    }();
    const auto p = static_cast<Index>(design.columns().size());
    VectorXd b = fit.coefficients;
    for (Index j = 0; j < p; ++j)
        if (std::isnan(b[j])) b[j] = 0;
    constexpr std::size_t blockRows = 2048;
    std::vector<Index> all(static_cast<std::size_t>(p));
    std::iota(all.begin(), all.end(), Index{0});
    std::vector<MarginalEffect> found;
    for (std::size_t w = 0; w < wanted.size(); ++w) {
        progress.checkpoint(static_cast<double>(w) / static_cast<double>(wanted.size()),
                            "Average marginal effects");
        const auto [input, level] = wanted[w];
        std::vector<Index> touched;
        for (Index j = 0; j < p; ++j)
            for (const auto& piece : design.columns()[static_cast<std::size_t>(j)].pieces)
                if (piece.input == input && (touched.empty() || touched.back() != j)) touched.push_back(j);
        // A level changes the prediction by the same in every row unless it stands in a product: one row says
        // it.
        const bool alike =
            level >= 0 && !study.rule.logarithm && std::all_of(touched.begin(), touched.end(), [&](Index j) {
                return design.columns()[static_cast<std::size_t>(j)].pieces.size() == 1;
            });
        const std::size_t rows = alike ? 1 : study.rows.size();
        const std::vector<Index>& needed = study.rule.logarithm ? all : touched;
        const std::size_t blocks = (rows + blockRows - 1) / blockRows;
        std::vector<MarginalSum> sums(blocks);
        parallelFor(blocks, threads, [&](std::size_t block) {
            if (progress.stopRequested()) throw Stopped{};
            MarginalSum& sum = sums[block];
            sum.gradient = VectorXd::Zero(p + 1);
            std::vector<double> inputs(design.inputs().size());
            VectorXd one(p), two(p), at(p);
            for (std::size_t i = block * blockRows; i < std::min(rows, (block + 1) * blockRows); ++i) {
                const auto row = study.rows[i];
                for (std::size_t k = 0; k < inputs.size(); ++k)
                    inputs[k] = bound.value(k, row);
                const double own = inputs[input];
                // Two places and what their difference is divided by: one unit as a central difference.
                double step = 1;
                if (level >= 0) {
                    inputs[input] = static_cast<double>(design.inputs()[input].referenceLevel);
                    designRow(design, inputs, needed, one);
                    inputs[input] = level;
                    designRow(design, inputs, needed, two);
                } else {
                    const double h = 1e-5 * std::max(std::fabs(own), 1e-3);
                    inputs[input] = own - h;
                    designRow(design, inputs, needed, one);
                    inputs[input] = own + h;
                    designRow(design, inputs, needed, two);
                    step = 2 * h;
                }
                if (!study.rule.logarithm) {
                    for (const Index j : touched) {
                        const double d = (two[j] - one[j]) / step;
                        sum.effect += b[j] * d;
                        sum.gradient[j] += d;
                    }
                    continue;
                }
                const double base = offsets.offset(row) + (fit.intercept ? fit.constant : 0);
                const double low = study.rule.natural(one.dot(b) + base),
                             high = study.rule.natural(two.dot(b) + base);
                sum.effect += (high - low) / step;
                sum.gradient.head(p) += (high * two - low * one) / step;
                sum.gradient[p] += (high - low) / step;
            }
        });
        MarginalSum total;
        for (const MarginalSum& sum : sums)
            total += sum;
        MarginalEffect effect = named(study, wanted[w]);
        const double count = static_cast<double>(rows);
        effect.effect = total.effect / count;
        const auto [linear, error, df] =
            fit.combination(total.gradient.head(p) / count, total.gradient[p] / count);
        effect.standardError = error;
        const double half = studentQuantile(evidence.level, df) * effect.standardError;
        effect.lower = effect.effect - half;
        effect.upper = effect.effect + half;
        effect.p = studentTwoSided(effect.effect / effect.standardError, df);
        found.push_back(std::move(effect));
    }
    return found;
}

/// Differences of predictions, for models that have no derivative.
std::vector<MarginalEffect> differences(const Study& study, const Table& table, Threads threads,
                                        Progress& progress, const std::vector<Wanted>& wanted) {
    constexpr std::size_t most = 2000;

    const BoundModel bound = study.bind(table, {});
    std::vector<std::uint32_t> rows;
    const std::size_t stride = std::max<std::size_t>(1, (study.rows.size() + most - 1) / most);
    for (std::size_t i = 0; i < study.rows.size(); i += stride)
        rows.push_back(study.rows[i]);
    MatrixXd inputs(static_cast<Index>(rows.size()), static_cast<Index>(study.inputs.size()));
    bound.inputs().fill(rows, inputs);
    std::vector<MarginalEffect> found(wanted.size());
    parallelFor(wanted.size(), threads, [&](std::size_t w) {
        progress.checkpoint(static_cast<double>(w) / static_cast<double>(wanted.size()),
                            "Average marginal effects");
        const auto j = static_cast<Index>(wanted[w].input);
        found[w] = named(study, wanted[w]);
        found[w].standardError = found[w].lower = found[w].upper = found[w].p = nan;
        MatrixXd low = inputs, high = inputs;
        double over = 1;
        if (wanted[w].level >= 0) {
            low.col(j).setConstant(static_cast<double>(study.inputs[wanted[w].input].referenceLevel));
            high.col(j).setConstant(wanted[w].level);
        } else {
            const auto values = inputs.col(j).array();
            over = std::sqrt((values - values.mean()).square().mean());
            low.col(j).array() -= over / 2;
            high.col(j).array() += over / 2;
        }
        const VectorXd before = bound.model().predict(low), after = bound.model().predict(high);
        long double sum = 0;
        for (std::size_t i = 0; i < rows.size(); ++i)
            sum += bound.natural(after[static_cast<Index>(i)], rows[i]) -
                   bound.natural(before[static_cast<Index>(i)], rows[i]);
        found[w].effect =
            over > 0 ? static_cast<double>(sum / static_cast<long double>(rows.size())) / over : 0;
    });
    return found;
}

} // namespace

std::vector<MarginalEffect> averageMarginalEffects(const Evidence& evidence, const Table& table,
                                                   Threads threads, Progress& progress,
                                                   const std::string& only) {
    const auto wanted = wantedEffects(evidence.study->inputs, only);
    return evidence.study->linear() ? linearEffects(evidence, table, threads, progress, wanted)
                                    : differences(*evidence.study, table, threads, progress, wanted);
}

std::vector<MarginalEffect> fromLowToHigh(std::vector<MarginalEffect> effects) {
    std::stable_sort(effects.begin(), effects.end(),
                     [](const MarginalEffect& a, const MarginalEffect& b) { return a.effect < b.effect; });
    return effects;
}

} // namespace oxgoad
