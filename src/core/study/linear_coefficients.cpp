#include "study/linear_evidence.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "table/selection.h"

#include <Eigen/Dense>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// A coefficient's interval at a level, and that of its effect.
void bound(CoefficientEvidence& c, double level) {
    const double half = studentQuantile(level, c.degreesOfFreedom) * c.standardError;
    c.lower = c.estimate - half;
    c.upper = c.estimate + half;
    c.effectLower = (c.estimate - half) * c.quartiles;
    c.effectUpper = (c.estimate + half) * c.quartiles;
}

class Coefficients {
public:
    Coefficients(const LinearScope& scope, LinearEvidence& out)
        : m_recipe(scope.recipe), m_study(scope.study), m_linear(*scope.study.linear()),
          m_bound(m_linear.design, scope.table, scope.file), m_threads(scope.threads),
          m_progress(scope.progress), m_out(out) {}

    void describe() {
        if (m_recipe.intercept)
            addCoefficient("intercept", m_linear.fit.constant, m_linear.fit.constantError,
                           m_linear.fit.constantDegreesOfFreedom(), -1, {nan, nan});
        const auto spans = spansOfColumns();
        const auto& columns = m_linear.design.columns();
        for (std::size_t j = 0; j < columns.size(); ++j) {
            stopIfTold(m_progress);
            addCoefficient(columns[j].name, m_linear.fit.coefficients[static_cast<Index>(j)],
                           m_linear.fit.standardErrors[static_cast<Index>(j)],
                           m_linear.fit.coefficientDegreesOfFreedom(j), static_cast<int>(columns[j].term),
                           spans[j]);
            if (j + 1 == columns.size() || columns[j + 1].term != columns[j].term)
                addLastDeviation(columns[j].term);
        }
    }

private:
    /// What a column of the model matrix spreads over: from lower to upper quartile, and its standard
    /// deviation.
    struct Span {
        double quartiles = 1;
        double deviation = 1;
    };

    void addCoefficient(std::string name, double estimate, double error, double df, int term, Span span) {
        if (m_linear.fit.fitsExactly) error = nan; // rounding, not spread
        const double t = estimate / error;
        CoefficientEvidence c{.name = std::move(name),
                              .estimate = estimate,
                              .standardError = error,
                              .t = t,
                              .p = studentTwoSided(t, df),
                              .term = term,
                              .effect = estimate * span.quartiles,
                              .deviation = span.deviation,
                              .dependent = std::isnan(estimate),
                              .degreesOfFreedom = df,
                              .quartiles = span.quartiles};
        bound(c, m_recipe.level);
        m_out.coefficients.push_back(std::move(c));
    }

    /// Deviations from the mean add up to 0, so the level without a column has what is left.
    void addLastDeviation(std::size_t t) {
        const Term& term = m_recipe.terms[t];
        if (term.parts.size() != 1 || term.parts[0].form != Form::deviations) return;
        const auto own = columnsOf(m_linear, t);
        if (own.empty()) return;
        const Input& input = m_linear.design.inputs()[m_linear.design.columns()[own[0]].pieces[0].input];
        VectorXd weights = VectorXd::Zero(m_linear.fit.columns);
        for (const std::size_t j : own)
            weights[static_cast<Index>(j)] = -1;
        const auto [estimate, error, df] = m_linear.fit.combination(weights, 0);
        addCoefficient(input.name + " = " + input.levels[input.referenceLevel] + " against the mean",
                       estimate, error, df, static_cast<int>(t), {});
        m_out.coefficients.back().derived = true;
    }

    /// Spans of each column of the model matrix; 1 for indicators.
    std::vector<Span> spansOfColumns() const {
        // At most 10,000 rows, fewer for thousands of columns, so that the block stays small.
        const std::size_t columns = std::max<std::size_t>(1, m_linear.design.columns().size());
        const std::size_t sampled = std::clamp<std::size_t>(20000000 / columns, 500, 10000);
        std::vector<std::uint32_t> sample;
        const std::size_t stride = std::max<std::size_t>(1, (m_study.rows.size() + sampled - 1) / sampled);
        for (std::size_t i = 0; i < m_study.rows.size(); i += stride)
            sample.push_back(m_study.rows[i]);
        std::vector<Index> spread;
        for (std::size_t j = 0; j < m_linear.design.columns().size(); ++j) {
            const auto& pieces = m_linear.design.columns()[j].pieces;
            if (!std::all_of(pieces.begin(), pieces.end(), [](const auto& piece) {
                    return piece.basis.kind == Basis::Kind::indicator ||
                           piece.basis.kind == Basis::Kind::codes;
                }))
                spread.push_back(static_cast<Index>(j));
        }
        std::vector<Span> spans(m_linear.design.columns().size());
        if (spread.empty()) return spans;
        MatrixXd kept(static_cast<Index>(sample.size()), static_cast<Index>(spread.size()));
        constexpr std::size_t piece = 128;
        MatrixXd block;
        for (std::size_t begin = 0; begin < sample.size(); begin += piece) {
            stopIfTold(m_progress);
            const std::size_t count = std::min(piece, sample.size() - begin);
            block.resize(static_cast<Index>(count), static_cast<Index>(spans.size()));
            m_bound.fill(std::span(sample).subspan(begin, count), block);
            kept.middleRows(static_cast<Index>(begin), block.rows()) = block(Eigen::all, spread);
        }
        parallelFor(spread.size(), m_threads, [&](std::size_t at) {
            stopIfTold(m_progress);
            const auto j = static_cast<std::size_t>(spread[at]);
            const auto& pieces = m_linear.design.columns()[j].pieces;
            std::vector<double> values(kept.col(static_cast<Index>(at)).begin(),
                                       kept.col(static_cast<Index>(at)).end());
            // A product with an indicator is spread by its number alone.
            if (pieces.size() > 1) std::erase(values, 0.0);
            if (values.empty()) return;
            const Eigen::Map<const VectorXd> all(values.data(), static_cast<Index>(values.size()));
            spans[j].deviation = values.size() > 1 ? std::sqrt((all.array() - all.mean()).square().sum() /
                                                               static_cast<double>(values.size() - 1))
                                                   : 0;
            const double upper = quantileBySelection(values, 0.75);
            spans[j].quartiles = upper - quantileBySelection(values, 0.25);
        });
        return spans;
    }

    const Recipe& m_recipe;
    const Study& m_study;
    const LinearModel& m_linear;
    BoundDesign m_bound;
    Threads m_threads;
    Progress& m_progress;
    LinearEvidence& m_out;
};

} // namespace

void describeCoefficients(const LinearScope& scope, LinearEvidence& evidence) {
    evidence.coefficients.clear();
    Coefficients(scope, evidence).describe();
}

void setLevel(LinearEvidence& evidence, double level) {
    for (CoefficientEvidence& c : evidence.coefficients)
        bound(c, level);
}

} // namespace oxgoad
