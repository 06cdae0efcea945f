#include "study/linear_evidence.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "design/input_ranges.h"
#include "estimate/distributions.h"

#include <Eigen/Dense>

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <string_view>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

void noTest(JointTest& test) {
    test.f = nan;
    test.why = "the model fits to the last digit, so that there is no spread to judge by";
}

class Terms {
public:
    Terms(const LinearScope& scope, LinearEvidence& out)
        : m_scope(scope), m_recipe(scope.recipe), m_study(scope.study), m_linear(*scope.study.linear()),
          m_bound(m_linear.design, scope.table, scope.file), m_threads(scope.threads),
          m_progress(scope.progress), m_out(out), m_working(scope.recipe, scope.table, scope.file),
          m_groups(termGroups(scope.recipe.terms)) {}

    void describe() {
        const std::size_t count = m_recipe.terms.size();
        std::vector<LeastSquaresFit::Reduced> reduced(count);
        m_out.terms.resize(count);
        parallelFor(count, m_threads, [&](std::size_t t) {
            stopIfTold(m_progress);
            const LeastSquaresFit& fit = m_linear.fit;
            const std::vector<std::size_t> own = columnsOf(m_linear, t);
            reduced[t] = fit.without(own);
            TermEvidence& term = m_out.terms[t];
            term.name = termName(m_recipe.terms[t]);
            term.entersAs = entersAs(m_recipe.terms[t]);
            if (!m_study.has(t)) {
                notChosen(term);
                return;
            }
            JointTest test = fit.jointTest(own);
            if (fit.fitsExactly) noTest(test);
            term.degreesOfFreedom = static_cast<int>(test.numeratorDf);
            term.f = test.f;
            term.why = test.why;
            term.denominatorDf = test.denominatorDf;
            term.p = fisherUpper(test.f, test.numeratorDf, test.denominatorDf);
            if (isFirstOfGroup(t)) { // terms taken together share it
                const auto related = relatedColumns(t);
                const auto kept = std::count_if(related.begin(), related.end(), [&](std::size_t j) {
                    return std::binary_search(fit.kept.begin(), fit.kept.end(), j);
                });
                term.inflation = std::pow(fit.inflation(related), 1 / static_cast<double>(kept));
            }
            describeShape(m_recipe.terms[t], own, term);
        });
        for (std::size_t t = 0; t < count; ++t)
            if (m_study.has(t))
                for (std::size_t first = 0; first <= t; ++first)
                    if (m_groups[first] == m_groups[t] && isFirstOfGroup(first))
                        m_out.terms[t].inflation = m_out.terms[first].inflation;
        addErrorsWithout(reduced);
    }

private:
    static void notChosen(TermEvidence& term) {
        term.chosen = false;
        term.entersAs = "not chosen";
        term.f = term.p = term.denominatorDf = term.inflation = term.lowest = term.highest = term.centre =
            term.scale = nan;
    }

    std::string entersAs(const Term& term) const {
        if (term.parts.size() > 1) return term.parts.size() == 2 ? "pair" : "product";
        const TermPart& part = term.parts[0];
        for (const Input& input : m_linear.design.inputs())
            if (input.name == part.column && input.factor && part.form == Form::plain)
                return "levels, from " + input.levels[input.referenceLevel];
        return enters(part);
    }

    /// First in the model of those that are linked.
    bool isFirstOfGroup(std::size_t t) const {
        if (!m_study.has(t)) return false;
        for (std::size_t before = 0; before < t; ++before)
            if (m_groups[before] == m_groups[t] && m_study.has(before)) return false;
        return true;
    }

    std::vector<std::size_t> relatedColumns(std::size_t t) const {
        std::vector<std::size_t> columns;
        for (std::size_t j = 0; j < m_linear.design.columns().size(); ++j)
            if (m_groups[m_linear.design.columns()[j].term] == m_groups[t]) columns.push_back(j);
        return columns;
    }

    /// The term's part of the linear predictor along its one column.
    void describeShape(const Term& term, const std::vector<std::size_t>& own, TermEvidence& evidence) const {
        evidence.lowest = evidence.highest = evidence.centre = evidence.scale = nan;
        if (term.parts.size() != 1) return;
        const TermPart& part = term.parts[0];
        const std::size_t input = m_linear.design.columns()[own[0]].pieces[0].input;
        const auto effectAt = [&](double value) {
            double sum = 0;
            for (const std::size_t j : own) {
                const double b = m_linear.fit.coefficients[static_cast<Index>(j)];
                if (!std::isnan(b)) sum += b * m_linear.design.columns()[j].pieces[0].basis.at(value);
            }
            return sum;
        };
        if (m_linear.design.inputs()[input].factor) {
            std::vector<double> effects(m_linear.design.inputs()[input].levels.size(), 0);
            for (const std::size_t j : own) { // what is 1 at one level is added there
                const double b = m_linear.fit.coefficients[static_cast<Index>(j)];
                const Basis& basis = m_linear.design.columns()[j].pieces[0].basis;
                if (std::isnan(b)) continue;
                if (basis.kind == Basis::Kind::indicator)
                    effects[static_cast<std::size_t>(basis.level)] += b;
                else
                    for (std::size_t level = 0; level < effects.size(); ++level)
                        effects[level] += b * basis.at(static_cast<double>(level));
            }
            evidence.shape = std::move(effects);
            evidence.density = densityOver(m_bound.inputs(), input, m_study.rows, {}, 0);
            return;
        }
        const Basis& basis = m_linear.design.columns()[own[0]].pieces[0].basis;
        if (basis.kind == Basis::Kind::standard) {
            evidence.centre = basis.shift;
            evidence.scale = basis.scale;
        }
        const Range range = rangeOver(m_bound.inputs(), input, m_study.rows);
        evidence.lowest = range.low;
        evidence.highest = range.high;
        // For a drawing of 24 bars evenly spaced rows do.
        evidence.density = densityOver(m_bound.inputs(), input, m_study.rows, range, 24, 20000);
        const int points =
            part.form == Form::plain || part.form == Form::centred || part.form == Form::standardised ? 25
                                                                                                      : 61;
        for (int i = 0; i < points; ++i)
            evidence.shape.push_back(effectAt(range.low + (range.high - range.low) * i / (points - 1)));
        const double middle = evidence.shape[static_cast<std::size_t>(points / 2)];
        for (double& value : evidence.shape)
            value -= middle;
    }

    /// use(first, inputs) for blocks of the inputs at rows, in parallel.
    template <class Use> void forEachInputs(std::span<const std::uint32_t> rows, Use&& use) const {
        forEachRowBlock(rows, m_threads, m_progress,
                        [&](std::size_t first, std::span<const std::uint32_t> part) {
                            MatrixXd inputs(static_cast<Index>(part.size()),
                                            static_cast<Index>(m_linear.design.inputs().size()));
                            m_bound.inputs().fill(part, inputs);
                            use(first, inputs);
                        });
    }

    /// Held-out RMSE of each reduced fit against the full one, all in one pass over the held-out rows.
    void addErrorsWithout(const std::vector<LeastSquaresFit::Reduced>& reduced) {
        for (TermEvidence& term : m_out.terms)
            term.errorWithout = nan;
        if (m_scope.heldOut.empty() || reduced.empty() || !(m_scope.heldOutRmse > 0)) return;
        const auto p = static_cast<Index>(m_linear.design.columns().size());
        MatrixXd coefficients(p, static_cast<Index>(reduced.size()));
        Eigen::RowVectorXd constants(static_cast<Index>(reduced.size()));
        for (std::size_t t = 0; t < reduced.size(); ++t) {
            if (m_study.has(t)) {
                coefficients.col(static_cast<Index>(t)) = reduced[t].coefficients;
                constants[static_cast<Index>(t)] = reduced[t].constant;
            } else { // not in the model: without it is with it
                coefficients.col(static_cast<Index>(t)).setZero();
                constants[static_cast<Index>(t)] = 0;
            }
        }
        const Eigen::RowVectorXd smearing = smearingWithout(coefficients, constants);
        std::vector<Eigen::RowVectorXd> sums((m_scope.heldOut.size() + designBlockRows - 1) /
                                             designBlockRows);
        forEachInputs(m_scope.heldOut, [&](std::size_t first, const MatrixXd& inputs) {
            MatrixXd errors = m_linear.design.times(inputs, coefficients);
            errors.rowwise() += constants;
            if (!m_study.rule.link.isLogarithmic() && m_study.rule.offset.empty()) {
                errors.colwise() -=
                    Eigen::Map<const VectorXd>(m_scope.heldOutActual.data() + first, errors.rows());
                sums[first / designBlockRows] = errors.colwise().squaredNorm();
                return;
            }
            Link link = m_study.rule.link;
            for (Index i = 0; i < errors.rows(); ++i) {
                const auto row = m_scope.heldOut[first + static_cast<std::size_t>(i)];
                for (Index t = 0; t < errors.cols(); ++t) {
                    link.smearing = smearing[t];
                    errors(i, t) =
                        link.toResponseScale(errors(i, t) + m_working.offset(row)) - m_working.asRead(row);
                }
            }
            sums[first / designBlockRows] = errors.colwise().squaredNorm();
        });
        Eigen::RowVectorXd total = Eigen::RowVectorXd::Zero(static_cast<Index>(reduced.size()));
        for (const auto& sum : sums)
            total += sum;
        std::vector<char> says(reduced.size(), 0); // a term held at 0 changes nothing, to the last bit
        for (std::size_t j = 0; j < m_linear.design.columns().size(); ++j) {
            const double b = m_linear.fit.coefficients[static_cast<Index>(j)];
            if (!std::isnan(b) && b != 0) says[m_linear.design.columns()[j].term] = 1;
        }
        for (std::size_t t = 0; t < reduced.size(); ++t)
            if (m_study.has(t) && says[t] == 0)
                m_out.terms[t].errorWithout = 0;
            else if (m_study.has(t))
                m_out.terms[t].errorWithout =
                    std::sqrt(total[static_cast<Index>(t)] / static_cast<double>(m_scope.heldOut.size())) /
                        m_scope.heldOutRmse -
                    1;
    }

    /// Duan's factor of each reduced fit in logarithms, from its own residuals; 1 where none is used.
    Eigen::RowVectorXd smearingWithout(const MatrixXd& coefficients,
                                       const Eigen::RowVectorXd& constants) const {
        const Index count = coefficients.cols();
        if (!m_recipe.logResponse || m_linear.isQuantile()) return Eigen::RowVectorXd::Ones(count);
        std::vector<Eigen::RowVectorXd> sums((m_study.rows.size() + designBlockRows - 1) / designBlockRows);
        std::vector<double> weights(sums.size(), 0);
        forEachInputs(m_study.rows, [&](std::size_t first, const MatrixXd& inputs) {
            MatrixXd grown = m_linear.design.times(inputs, coefficients);
            grown.rowwise() += constants;
            grown.colwise() -= Eigen::Map<const VectorXd>(m_scope.working.data() + first, grown.rows());
            grown = (-grown.array()).exp();
            Eigen::RowVectorXd& sum = sums[first / designBlockRows];
            if (m_study.weights.empty()) {
                sum = grown.colwise().sum();
                weights[first / designBlockRows] = static_cast<double>(grown.rows());
                return;
            }
            const Eigen::Map<const VectorXd> w(m_study.weights.data() + first, grown.rows());
            sum = w.transpose() * grown;
            weights[first / designBlockRows] = w.sum();
        });
        Eigen::RowVectorXd total = Eigen::RowVectorXd::Zero(count);
        double whole = 0;
        for (std::size_t b = 0; b < sums.size(); ++b) {
            total += sums[b];
            whole += weights[b];
        }
        return total / whole;
    }

    const LinearScope& m_scope;
    const Recipe& m_recipe;
    const Study& m_study;
    const LinearModel& m_linear;
    BoundDesign m_bound;
    Threads m_threads;
    Progress& m_progress;
    LinearEvidence& m_out;
    ModelResponse m_working;
    std::vector<std::size_t> m_groups;
};

} // namespace

std::vector<std::size_t> columnsOf(const LinearModel& linear, std::size_t t) {
    std::vector<std::size_t> own;
    for (std::size_t j = 0; j < linear.design.columns().size(); ++j)
        if (linear.design.columns()[j].term == t) own.push_back(j);
    return own;
}

std::vector<std::size_t> termGroups(const std::vector<Term>& terms) {
    // Each group goes by its first term; terms of one column are of one group.
    std::vector<std::size_t> groups(terms.size());
    std::iota(groups.begin(), groups.end(), std::size_t{0});
    const auto firstOf = [&](std::size_t t) {
        while (groups[t] != t)
            t = groups[t] = groups[groups[t]];
        return t;
    };
    std::map<std::string_view, std::size_t> termOf;
    for (std::size_t t = 0; t < terms.size(); ++t)
        for (const TermPart& part : terms[t].parts) {
            const auto [known, isNew] = termOf.emplace(part.column, t);
            const std::size_t a = firstOf(known->second), b = firstOf(t);
            groups[std::max(a, b)] = std::min(a, b);
        }
    for (std::size_t t = 0; t < groups.size(); ++t)
        groups[t] = firstOf(t);
    return groups;
}

void describeTerms(const LinearScope& scope, LinearEvidence& evidence) {
    Terms(scope, evidence).describe();
}

} // namespace oxgoad
