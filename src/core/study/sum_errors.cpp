#include "study/sum_errors.h"

#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "estimate/one_way.h"
#include "table/fields.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr std::size_t parts = 20;
constexpr std::size_t fewestModels = 8;
constexpr std::int64_t noKey = INT64_MIN;
constexpr double pLimitOfGroups = 0.01; // as of groups; common practice, no source

std::int64_t keyIn(const Column& column, std::size_t row) {
    if (column.isMissing(row)) return noKey;
    if (column.kind() == ColumnKind::factor) return column.codes()[row];
    return static_cast<std::int64_t>(std::floor(column.asNumber(row)));
}

} // namespace

PredictionSum PredictionSum::minusShareOf(const PredictionSum& whole, double share) const {
    PredictionSum out = *this;
    out.value -= share * whole.value;
    out.shift -= share * whole.shift;
    // Rows of this sum count 1 − share, the others −share.
    out.own = own * (1 - 2 * share) + share * share * whole.own;
    out.gradient -= share * whole.gradient;
    out.constant -= share * whole.constant;
    out.byModel -= share * whole.byModel;
    for (const auto& [key, slope] : whole.shared)
        out.shared[key] -= share * slope;
    return out;
}

/// What a table's rows are predicted as, block by block for what is too much to keep.
struct SumErrors::Rows {
    std::vector<std::uint8_t> predicted;
    /// `ownSlope` is what a unit of the rows' own spread is of the response.
    std::vector<double> value, slope, weight, ownSlope;
    MatrixXd byModel; // n × models
};

SumErrors::SumErrors(const Recipe& recipe, const PreparedRows& prepared, const Evidence& evidence,
                     const std::string& file, const Table& coming, Threads threads, Progress& progress)
    : m_study(*evidence.study), m_file(file), m_threads(threads) {
    const LinearModel* linear = m_study.linear();
    const PredictionRule& rule = m_study.rule;
    m_theory = linear && linear->hasErrors() && !linear->isQuantile();
    m_ownVariance =
        rule.link.kind == Link::Kind::logarithm ? rule.link.relativeVariance : rule.spread * rule.spread;
    const VectorXd& residuals = m_study.trained.residuals;
    if (linear && linear->isQuantile() && residuals.size() > 1) {
        const bool logs = rule.link.isLogarithmic();
        const VectorXd errors = logs ? VectorXd(residuals.array().exp() - 1) : residuals;
        m_shift = errors.mean();
        m_ownVariance = (errors.array() - m_shift).square().sum() / static_cast<double>(errors.size() - 1);
    }
    findShared(recipe, prepared, coming);
    if (m_theory && linear->serial) {
        m_innovations = m_shared.size();
        m_shared.push_back({"", std::sqrt(m_ownVariance), linear->fit.degreesOfFreedom});
    }
    if (m_theory)
        m_how = "by theory";
    else
        learnModels(recipe, prepared, threads, progress);
}

void SumErrors::findShared(const Recipe& recipe, const PreparedRows& prepared, const Table& coming) {
    const VectorXd& residuals = m_study.trained.residuals;
    if (residuals.size() != static_cast<Index>(m_study.rows.size())) return;
    // Deviance residuals are near the model's scale where both are relative errors.
    const Link& link = m_study.rule.link;
    if (link.family && (link.family->power != 2 || !link.isLogarithmic())) return;
    std::vector<std::string> columns;
    for (const Column& column : coming.columns()) {
        const Column* other = prepared.table.find(column.name());
        if (!other || other->kind() != column.kind()) continue;
        const bool firstDate = column.kind() == ColumnKind::date && columns.empty();
        const bool group =
            roleOf(recipe, column.name()) == Role::group && column.kind() == ColumnKind::factor;
        if (firstDate)
            columns.insert(columns.begin(), column.name());
        else if (group)
            columns.push_back(column.name());
    }
    for (const std::string& name : columns) {
        const Column& column = prepared.table.at(name, m_file);
        std::vector<std::int64_t> keys;
        for (const auto row : m_study.rows)
            keys.push_back(keyIn(column, row));
        const Grouping grouping = Grouping::by(keys, noKey);
        if (grouping.shared() < 2) continue;
        const OneWay way = oneWay({residuals.data(), static_cast<std::size_t>(residuals.size())}, grouping);
        if (!(way.p() < pLimitOfGroups) || !(way.between > 0)) continue;
        m_shared.push_back({name, std::sqrt(way.between), way.numeratorDf});
    }
    const double whole = m_study.rule.spread * m_study.rule.spread;
    double between = 0;
    for (const Shared& shared : m_shared)
        between += shared.spread * shared.spread;
    if (whole > 0) m_ownVariance *= std::max(0.0, 1 - between / whole);
}

std::string SumErrors::sharedText() const {
    std::vector<std::string> names;
    for (const Shared& shared : m_shared)
        if (!shared.column.empty()) names.push_back(shared.column);
    if (m_innovations != SIZE_MAX)
        return names.empty() ? "errors depend on those before them"
                             : "rows of the same " + nameList(names) +
                                   " share a part of their errors, which depend on those before them";
    return names.empty() ? std::string()
                         : "rows of the same " + nameList(names) + " share a part of their errors";
}

void SumErrors::learnModels(const Recipe& recipe, const PreparedRows& prepared, Threads threads,
                            Progress& progress) {
    Recipe plain = recipe;
    plain.estimator = m_study.settings;
    plain.choose.reset();
    plain.terms = m_study.terms();
    plain.forecast.reset();
    const auto n = static_cast<std::uint32_t>(m_study.rows.size());
    const std::size_t count = std::min<std::size_t>(parts, n);
    RandomStream stream(1, "parts of the rows for sums");
    const std::vector<std::uint32_t> order = shuffled(n, stream);
    std::string why;
    for (std::size_t k = 0; k < count; ++k) {
        ProgressStage stage(progress, static_cast<double>(k) / static_cast<double>(count),
                            static_cast<double>(k + 1) / static_cast<double>(count));
        std::vector<std::uint32_t> rows;
        for (std::uint32_t i = 0; i < n; ++i)
            if (i % count != k) rows.push_back(m_study.rows[order[i]]);
        std::sort(rows.begin(), rows.end());
        try {
            m_models.push_back(learn(plain, prepared.table, prepared.steps, m_file, std::move(rows), threads,
                                     stage, {}, LearnFor::judging));
        } catch (const Error& error) {
            why = error.what();
        }
    }
    if (m_models.size() < fewestModels) {
        m_models.clear();
        m_how = "none: " +
                (why.empty() ? "there are too few learning rows to learn without a part of them" : why);
    } else {
        m_how = "by " + countText(m_models.size()) + " models, each learned without a part of the rows";
    }
}

SumErrors::Rows SumErrors::rowsOf(const Table& table, Progress& progress) const {
    const BoundModel bound = m_study.bind(table, m_file);
    const PredictionRule& rule = m_study.rule;
    const std::size_t n = table.rows();
    Rows out{.predicted = std::vector<std::uint8_t>(n),
             .value = std::vector<double>(n, nan),
             .slope = std::vector<double>(n, nan),
             .weight = std::vector<double>(n, 1),
             .ownSlope = std::vector<double>(n, nan),
             .byModel = MatrixXd::Constant(static_cast<Index>(n), static_cast<Index>(m_models.size()), nan)};
    std::vector<std::uint32_t> complete;
    for (std::uint32_t i = 0; i < n; ++i)
        if (bound.complete(i) && bound.hasOffset(i)) complete.push_back(i);
    bound.eachBlock(complete, m_threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
        const VectorXd values = rule.valuesOf(bound.model(), inputs);
        for (Index i = 0; i < values.size(); ++i) {
            const auto row = complete[first + static_cast<std::size_t>(i)];
            out.value[row] = rule.toResponseScale(values[i] + bound.offset(row));
            out.slope[row] = rule.link.slopeAt(out.value[row]);
            out.weight[row] = bound.weight(row);
            out.ownSlope[row] =
                rule.link.family ? std::sqrt(rule.link.family->variance(out.value[row])) : out.slope[row];
            out.predicted[row] = std::isfinite(out.value[row]);
        }
    });
    for (std::size_t k = 0; k < m_models.size(); ++k) {
        const BoundModel other = m_models[k]->bind(table, m_file);
        std::vector<std::uint32_t> rows;
        for (const auto row : complete)
            if (other.complete(row)) rows.push_back(row);
        other.eachBlock(rows, m_threads, progress, [&](std::size_t first, const MatrixXd& inputs) {
            const VectorXd values = other.rule().valuesOf(other.model(), inputs);
            for (Index i = 0; i < values.size(); ++i) {
                const auto row = rows[first + static_cast<std::size_t>(i)];
                out.byModel(row, static_cast<Index>(k)) =
                    other.rule().toResponseScale(values[i] + other.offset(row));
            }
        });
    }
    return out;
}

std::int64_t SumErrors::keyOf(const Table& table, std::size_t shared, std::size_t row) const {
    const Column* column = table.find(m_shared[shared].column);
    return column ? keyIn(*column, row) : noKey;
}

std::vector<PredictionSum> SumErrors::sums(std::span<const Side> sides, std::span<const std::int32_t> group,
                                           std::size_t groups, Progress& progress) const {
    std::vector<Rows> rows;
    for (const Side& side : sides)
        rows.push_back(rowsOf(side.table, progress));
    const LinearModel* linear = m_theory ? m_study.linear() : nullptr;
    const bool logs = m_study.rule.link.isLogarithmic();
    std::vector<PredictionSum> sums(groups);
    for (PredictionSum& sum : sums) {
        sum.byModel = VectorXd::Zero(static_cast<Index>(m_models.size()));
        if (linear) sum.gradient = VectorXd::Zero(linear->fit.coefficients.size());
    }
    std::vector<std::uint32_t> counted;
    for (std::uint32_t i = 0; i < group.size(); ++i)
        if (group[i] >= 0 &&
            std::all_of(rows.begin(), rows.end(), [i](const Rows& r) { return r.predicted[i] != 0; }))
            counted.push_back(i);
    for (const auto i : counted) {
        PredictionSum& sum = sums[static_cast<std::size_t>(group[i])];
        ++sum.rows;
        double slope = 0, value = 0, ownSlope = 0;
        for (std::size_t s = 0; s < sides.size(); ++s) {
            value += sides[s].sign * rows[s].value[i];
            slope += sides[s].sign * rows[s].slope[i];
            ownSlope += sides[s].sign * rows[s].ownSlope[i];
            sum.byModel += sides[s].sign * rows[s].byModel.row(static_cast<Index>(i)).transpose();
        }
        sum.value += value;
        sum.constant += slope;
        sum.shift += m_shift * slope;
        const double usual = logs && !m_study.rule.link.family ? m_study.rule.usualWeight : 1;
        if (m_innovations == SIZE_MAX)
            sum.own += ownSlope * ownSlope * m_ownVariance * usual / rows[0].weight[i];
        for (std::size_t k = 0; k < std::min(m_innovations, m_shared.size()); ++k)
            sum.shared[{k, keyOf(sides[0].table, k, i)}] += slope;
    }
    if (linear)
        for (std::size_t s = 0; s < sides.size(); ++s) {
            const BoundModel bound = m_study.bind(sides[s].table, m_file);
            // One block after the other: sums in the order of the rows.
            bound.eachBlock(counted, {1}, progress, [&](std::size_t first, const MatrixXd& inputs) {
                const MatrixXd block = linear->matrix(inputs);
                for (Index i = 0; i < block.rows(); ++i) {
                    const auto row = counted[first + static_cast<std::size_t>(i)];
                    PredictionSum& sum = sums[static_cast<std::size_t>(group[row])];
                    const double slope = sides[s].sign * rows[s].slope[row];
                    sum.gradient += slope * block.row(i).transpose();
                    if (linear->serial) carryOn(*linear, inputs.row(i), row, slope, sum);
                }
            });
        }
    return sums;
}

/// What a row's error is made of, and what of its mean is the same as that of its series' last rows.
void SumErrors::carryOn(const LinearModel& linear, const Eigen::RowVectorXd& inputs, std::uint32_t row,
                        double slope, PredictionSum& sum) const {
    const auto carried = linear.serial->at(inputs);
    if (!carried) return;
    if (carried->ahead == 0) { // of its own
        sum.shared[{m_innovations, -static_cast<std::int64_t>(row) - 1}] +=
            slope * std::sqrt(carried->variance);
        return;
    }
    const LeastSquaresFit& fit = linear.fit;
    const VectorXd shifted =
        fit.factor.transposeTimes(linear.serial->rowsCarried(*carried, fit.rank()).transpose());
    const Index first = fit.intercept ? 1 : 0;
    const double constant = first ? shifted[0] : 0;
    sum.constant -= slope * constant;
    for (std::size_t k = 0; k < fit.kept.size(); ++k) {
        const auto j = static_cast<Index>(fit.kept[k]);
        sum.gradient[j] -=
            slope * (shifted[first + static_cast<Index>(k)] / fit.scale[j] + fit.shift[j] * constant);
    }
    // Far later what is new long before is forgotten.
    constexpr std::int64_t most = 1000;
    const std::int64_t steps = std::min(carried->ahead, most);
    const std::vector<double> psi = linear.serial->autoregression().weights(static_cast<std::size_t>(steps));
    const std::int64_t base = static_cast<std::int64_t>(carried->series) << 32;
    for (std::int64_t k = 0; k < steps; ++k)
        sum.shared[{m_innovations, base + carried->ahead - k}] += slope * psi[static_cast<std::size_t>(k)];
}

SumInterval SumErrors::interval(const PredictionSum& sum, double level) const {
    double half = nan;
    bool ofCoefficients = false; // whose covariance already knows what groups share
    if (m_theory) {
        const LeastSquaresFit& fit = m_study.linear()->fit;
        const Combination common = fit.combination(sum.gradient, fit.intercept ? sum.constant : 0);
        half = studentQuantile(level, common.degreesOfFreedom) *
               std::sqrt(sum.own + common.standardError * common.standardError);
        ofCoefficients = fit.covarianceRoot.has_value();
    } else if (!m_models.empty() && sum.byModel.allFinite()) {
        const auto k = static_cast<double>(sum.byModel.size());
        const double mean = sum.byModel.mean();
        const double common = std::sqrt((k - 1) / k * (sum.byModel.array() - mean).square().sum());
        half = std::hypot(studentQuantile(level, k - 1) * common,
                          normalQuantile((1 + level) / 2) * std::sqrt(sum.own));
    }
    for (std::size_t k = 0; k < m_shared.size(); ++k) {
        double squares = 0, whole = 0;
        for (const auto& [key, slope] : sum.shared)
            if (key.first == k) {
                squares += slope * slope;
                whole += slope;
            }
        const double values = m_shared[k].degreesOfFreedom + 1;
        half = std::hypot(half, studentQuantile(level, m_shared[k].degreesOfFreedom) * m_shared[k].spread *
                                    std::sqrt(squares + (ofCoefficients ? 0 : whole * whole / values)));
    }
    const double middle = sum.value + sum.shift;
    return {middle - half, middle + half};
}

} // namespace oxgoad
