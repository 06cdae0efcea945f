#include "study/marginal_effects.h"

#include "base/not_a_number.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>
#include <optional>

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

/// Columns that are not the same at a level of an input and at its reference level, by level.
std::vector<std::vector<Index>> columnsByLevel(const Design& design, std::size_t input) {
    std::vector<std::vector<Index>> found(design.inputs()[input].levels.size());
    const auto reference = static_cast<int>(design.inputs()[input].referenceLevel);
    for (std::size_t j = 0; j < design.columns().size(); ++j) {
        const auto& pieces = design.columns()[j].pieces;
        const auto own = std::find_if(pieces.begin(), pieces.end(),
                                      [&](const auto& piece) { return piece.input == input; });
        if (own == pieces.end()) continue;
        const bool one = own->basis.kind == Basis::Kind::indicator && own->basis.level != reference;
        if (one)
            found[static_cast<std::size_t>(own->basis.level)].push_back(static_cast<Index>(j));
        else
            for (auto& level : found)
                level.push_back(static_cast<Index>(j));
    }
    return found;
}

/// From so many columns on, those that are 0 at a row are not looked at.
constexpr std::size_t manyColumns = 64;

/// Which of some columns are not 0 at a row: those without the indicator of a level of another input, and
/// those with that of the row's level.
class ActiveColumns {
public:
    ActiveColumns(const Design& design, const std::vector<Index>& columns, std::size_t input) {
        for (const Index j : columns) {
            const auto& pieces = design.columns()[static_cast<std::size_t>(j)].pieces;
            const auto indicator = std::find_if(pieces.begin(), pieces.end(), [&](const auto& piece) {
                return piece.input != input && piece.basis.kind == Basis::Kind::indicator;
            });
            if (indicator == pieces.end()) {
                m_always.push_back(j);
                continue;
            }
            auto& levels = m_byLevel[indicator->input];
            levels.resize(std::max(levels.size(), static_cast<std::size_t>(indicator->basis.level) + 1));
            levels[static_cast<std::size_t>(indicator->basis.level)].push_back(j);
        }
    }
    /// Rising.
    void at(const std::vector<double>& inputs, std::vector<Index>& active) const {
        active = m_always;
        for (const auto& [input, levels] : m_byLevel)
            if (const auto level = static_cast<std::size_t>(inputs[input]); level < levels.size())
                active.insert(active.end(), levels[level].begin(), levels[level].end());
        std::sort(active.begin(), active.end());
    }

private:
    std::vector<Index> m_always;
    std::map<std::size_t, std::vector<std::vector<Index>>> m_byLevel;
};

/// Means over rows of what stands beside one input in columns, each once: what a level's products change by.
class MeansBeside {
public:
    using Pieces = std::vector<DesignColumn::Piece>;
    MeansBeside(const BoundInputs& bound, std::span<const std::uint32_t> rows, Threads threads,
                Progress& progress)
        : m_bound(bound), m_rows(rows), m_threads(threads), m_progress(progress) {}

    double of(const Pieces& pieces, std::size_t input) {
        Pieces beside;
        for (const auto& piece : pieces)
            if (piece.input != input) beside.push_back(piece);
        for (const auto& [known, mean] : m_known)
            if (std::equal(
                    known.begin(), known.end(), beside.begin(), beside.end(),
                    [](const auto& a, const auto& b) { return a.input == b.input && a.basis == b.basis; }))
                return mean;
        const double mean = beside.empty() ? 1 : meanOf(beside);
        m_known.emplace_back(std::move(beside), mean);
        return mean;
    }

private:
    double meanOf(const Pieces& pieces) const {
        constexpr std::size_t blockRows = 8192;
        std::vector<double> sums((m_rows.size() + blockRows - 1) / blockRows, 0);
        parallelFor(sums.size(), m_threads, [&](std::size_t block) {
            stopIfTold(m_progress);
            for (std::size_t i = block * blockRows; i < std::min(m_rows.size(), (block + 1) * blockRows);
                 ++i) {
                double product = 1;
                for (const auto& piece : pieces)
                    product *= piece.basis.at(m_bound.value(piece.input, m_rows[i]));
                sums[block] += product;
            }
        });
        return std::accumulate(sums.begin(), sums.end(), 0.0) / static_cast<double>(m_rows.size());
    }

    const BoundInputs& m_bound;
    std::span<const std::uint32_t> m_rows;
    Threads m_threads;
    Progress& m_progress;
    std::vector<std::pair<Pieces, double>> m_known;
};

/// Of a model in logarithms, over rows: the sum of what it predicts where one factor's columns are left out,
/// and that of this times each column of the model matrix (constant last). What a level multiplies
/// predictions by is the same in every row when the factor stands in no product, so that the effects of all
/// its levels follow from these.
class WithoutFactor {
public:
    /// `touched` are the factor's columns.
    WithoutFactor(const Evidence& evidence, const BoundInputs& bound, const ModelResponse& offsets,
                  const VectorXd& b, std::size_t input, const std::vector<Index>& touched, Threads threads,
                  Progress& progress)
        : m_design(evidence.study->linear()->design), m_b(b), m_touched(touched) {
        const Study& study = *evidence.study;
        const LeastSquaresFit& fit = study.linear()->fit;
        std::vector<Index> others;
        for (Index j = 0; j < b.size(); ++j)
            if (!std::binary_search(touched.begin(), touched.end(), j)) others.push_back(j);
        const ActiveColumns active(m_design, others, input);
        constexpr std::size_t blockRows = 8192;
        std::vector<MarginalSum> sums((study.rows.size() + blockRows - 1) / blockRows);
        parallelFor(sums.size(), threads, [&](std::size_t block) {
            stopIfTold(progress);
            MarginalSum& sum = sums[block];
            sum.gradient = VectorXd::Zero(b.size() + 1);
            std::vector<double> inputs(m_design.inputs().size());
            VectorXd x(b.size());
            std::vector<Index> columns;
            for (std::size_t i = block * blockRows; i < std::min(study.rows.size(), (block + 1) * blockRows);
                 ++i) {
                const auto row = study.rows[i];
                for (std::size_t k = 0; k < inputs.size(); ++k)
                    inputs[k] = bound.value(k, row);
                active.at(inputs, columns);
                designRow(m_design, inputs, columns, x);
                double linear = offsets.offset(row) + (fit.intercept ? fit.constant : 0);
                for (const Index j : columns)
                    linear += b[j] * x[j];
                const double predicted = study.rule.toResponseScale(linear);
                sum.effect += predicted;
                for (const Index j : columns)
                    sum.gradient[j] += predicted * x[j];
            }
            sum.gradient[b.size()] = sum.effect;
        });
        for (const MarginalSum& sum : sums)
            m_sum += sum;
    }

    /// Of a level against another, over all rows.
    MarginalSum ofLevel(int level, int reference) const {
        double high = 0, low = 0;
        for (const Index j : m_touched) {
            high += m_b[j] * basisOf(j).at(level);
            low += m_b[j] * basisOf(j).at(reference);
        }
        high = std::exp(high);
        low = std::exp(low);
        MarginalSum made{(high - low) * m_sum.effect, (high - low) * m_sum.gradient};
        for (const Index j : m_touched)
            made.gradient[j] = (high * basisOf(j).at(level) - low * basisOf(j).at(reference)) * m_sum.effect;
        return made;
    }

private:
    const Basis& basisOf(Index j) const {
        return m_design.columns()[static_cast<std::size_t>(j)].pieces.front().basis;
    }

    const Design& m_design;
    const VectorXd& m_b;
    std::vector<Index> m_touched;
    MarginalSum m_sum;
};

std::vector<MarginalEffect> linearEffects(const Evidence& evidence, const Table& table, Threads threads,
                                          Progress& progress, const std::vector<Wanted>& wanted) {
    const Study& study = *evidence.study;
    const LeastSquaresFit& fit = study.linear()->fit;
    const Design& design = study.linear()->design;
    const BoundInputs bound(study.inputs, table, {});
    const ModelResponse offsets = [&] {
        Recipe recipe;
        recipe.response = evidence.response;
        if (!evidence.offset.empty()) recipe.roles[evidence.offset] = Role::offset;
        return ModelResponse(recipe, table, {});
    }();
    const auto p = static_cast<Index>(design.columns().size());
    VectorXd b = fit.coefficients;
    for (Index j = 0; j < p; ++j)
        if (std::isnan(b[j])) b[j] = 0;
    constexpr std::size_t blockRows = 2048;
    std::vector<Index> all(static_cast<std::size_t>(p));
    std::iota(all.begin(), all.end(), Index{0});
    std::vector<MarginalEffect> found;
    // Of a factor of many levels the columns of each.
    std::map<std::size_t, std::vector<std::vector<Index>>> columnsOfLevel;
    MeansBeside means(bound, study.rows, threads, progress);
    constexpr std::size_t fewLevels = 8;
    std::optional<WithoutFactor> without; // of withoutInput
    std::size_t withoutInput = 0;
    const auto tell = [&](const Wanted& which, double value, const VectorXd& gradient) {
        MarginalEffect effect = named(study, which);
        if (fit.partsFrom(gradient.head(p), gradient[p])) { // the rows do not tell it from others
            effect.effect = effect.standardError = effect.lower = effect.upper = effect.p = nan;
            found.push_back(std::move(effect));
            return;
        }
        effect.effect = value;
        const auto [linear, error, df] = fit.combination(gradient.head(p), gradient[p]);
        effect.standardError = error;
        const double half = studentQuantile(evidence.level, df) * effect.standardError;
        effect.lower = effect.effect - half;
        effect.upper = effect.effect + half;
        effect.p = studentTwoSided(effect.effect / effect.standardError, df);
        found.push_back(std::move(effect));
    };
    for (std::size_t w = 0; w < wanted.size(); ++w) {
        progress.checkpoint(static_cast<double>(w) / static_cast<double>(wanted.size()),
                            "Average marginal effects");
        const auto [input, level] = wanted[w];
        if (level >= 0 && !study.rule.link.isLogarithmic() &&
            design.inputs()[input].levels.size() > manyColumns) {
            auto& ofLevel = columnsOfLevel[input];
            if (ofLevel.empty()) ofLevel = columnsByLevel(design, input);
            const auto reference = static_cast<double>(design.inputs()[input].referenceLevel);
            double value = 0;
            VectorXd gradient = VectorXd::Zero(p + 1);
            for (const Index j : ofLevel[static_cast<std::size_t>(level)]) {
                const auto& pieces = design.columns()[static_cast<std::size_t>(j)].pieces;
                double two = 1, one = 1;
                for (const auto& piece : pieces)
                    if (piece.input == input) {
                        two *= piece.basis.at(level);
                        one *= piece.basis.at(reference);
                    }
                gradient[j] = (two - one) * means.of(pieces, input);
                value += b[j] * gradient[j];
            }
            tell(wanted[w], value, gradient);
            continue;
        }
        std::vector<Index> touched;
        for (Index j = 0; j < p; ++j)
            for (const auto& piece : design.columns()[static_cast<std::size_t>(j)].pieces)
                if (piece.input == input && (touched.empty() || touched.back() != j)) touched.push_back(j);
        // A level changes the prediction by the same in every row unless it stands in a product: one row says
        // it. In logarithms it multiplies all by the same.
        const bool alone = level >= 0 && std::all_of(touched.begin(), touched.end(), [&](Index j) {
                               return design.columns()[static_cast<std::size_t>(j)].pieces.size() == 1;
                           });
        const bool alike = alone && !study.rule.link.isLogarithmic();
        if (alone && study.rule.link.isLogarithmic() && design.inputs()[input].levels.size() > fewLevels) {
            if (!without || withoutInput != input) {
                without.emplace(evidence, bound, offsets, b, input, touched, threads, progress);
                withoutInput = input;
            }
            const MarginalSum sum =
                without->ofLevel(level, static_cast<int>(design.inputs()[input].referenceLevel));
            const auto count = static_cast<double>(study.rows.size());
            tell(wanted[w], sum.effect / count, sum.gradient / count);
            continue;
        }
        const std::size_t rows = alike ? 1 : study.rows.size();
        const std::vector<Index>& needed = study.rule.link.isLogarithmic() ? all : touched;
        const ActiveColumns active(design, needed, input);
        const std::size_t blocks = (rows + blockRows - 1) / blockRows;
        std::vector<MarginalSum> sums(blocks);
        parallelFor(blocks, threads, [&](std::size_t block) {
            stopIfTold(progress);
            MarginalSum& sum = sums[block];
            sum.gradient = VectorXd::Zero(p + 1);
            std::vector<double> inputs(design.inputs().size());
            VectorXd one(p), two(p);
            std::vector<Index> columns = needed;
            for (std::size_t i = block * blockRows; i < std::min(rows, (block + 1) * blockRows); ++i) {
                const auto row = study.rows[i];
                for (std::size_t k = 0; k < inputs.size(); ++k)
                    inputs[k] = bound.value(k, row);
                if (needed.size() > manyColumns) active.at(inputs, columns);
                const double own = inputs[input];
                // Two places and what their difference is divided by: one unit as a central difference.
                double step = 1;
                if (level >= 0) {
                    inputs[input] = static_cast<double>(design.inputs()[input].referenceLevel);
                    designRow(design, inputs, columns, one);
                    inputs[input] = level;
                    designRow(design, inputs, columns, two);
                } else {
                    const double h = 1e-5 * std::max(std::fabs(own), 1e-3);
                    inputs[input] = own - h;
                    designRow(design, inputs, columns, one);
                    inputs[input] = own + h;
                    designRow(design, inputs, columns, two);
                    step = 2 * h;
                }
                if (!study.rule.link.isLogarithmic()) {
                    for (const Index j : columns) {
                        const double d = (two[j] - one[j]) / step;
                        sum.effect += b[j] * d;
                        sum.gradient[j] += d;
                    }
                    continue;
                }
                const double base = offsets.offset(row) + (fit.intercept ? fit.constant : 0);
                const auto linear = [&](const VectorXd& x) {
                    double predicted = 0;
                    for (const Index j : columns)
                        predicted += x[j] * b[j];
                    return predicted;
                };
                const bool few = needed.size() <= manyColumns;
                const double low = study.rule.toResponseScale((few ? one.dot(b) : linear(one)) + base),
                             high = study.rule.toResponseScale((few ? two.dot(b) : linear(two)) + base);
                sum.effect += (high - low) / step;
                for (const Index j : columns)
                    sum.gradient[j] += (high * two[j] - low * one[j]) / step;
                sum.gradient[p] += (high - low) / step;
            }
        });
        MarginalSum total;
        for (const MarginalSum& sum : sums)
            total += sum;
        const double count = static_cast<double>(rows);
        tell(wanted[w], total.effect / count, total.gradient / count);
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
        const VectorXd before = bound.rule().valuesOf(bound.model(), low),
                       after = bound.rule().valuesOf(bound.model(), high);
        long double sum = 0;
        for (std::size_t i = 0; i < rows.size(); ++i)
            sum += bound.toResponseScale(after[static_cast<Index>(i)], rows[i]) -
                   bound.toResponseScale(before[static_cast<Index>(i)], rows[i]);
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
