// Folds whose steps are learned anew, on tables of their own, in the basis of the whole fit.
#include "base/not_a_number.h"
#include "estimate/linear/linear_model.h"
#include "study/judge_parts.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// Rows of a fold's own table in the basis of the whole fit.
class OwnRows {
public:
    OwnRows(const Recipe& recipe, const Table& table, const std::string& file, const Study& whole,
            Progress& progress)
        : m_recipe(recipe), m_table(table), m_file(file), m_whole(whole), m_linear(*whole.linear()),
          m_bound(whole.bind(table, file)), m_working(recipe, table, file),
          m_response(table.at(recipe.response, file).numbers()), m_progress(progress) {}

    std::optional<FoldOutcome> judge(const RowsUsed& used) {
        if (!m_linear.fit.dependent.empty() || m_linear.fit.factor.levels() > 0 ||
            used.learning.size() <= static_cast<std::size_t>(m_linear.fit.rank()))
            return std::nullopt;
        if (!holdsAll(used.learning)) return std::nullopt;
        FoldOutcome out;
        std::vector<std::uint32_t> judged;
        // Rows with missing values are gone by now: what is left to ask is about levels and where terms are
        // defined.
        const bool asks =
            !m_linear.design.guards().empty() || std::any_of(m_whole.inputs.begin(), m_whole.inputs.end(),
                                                             [](const Input& input) { return input.factor; });
        for (const auto row : used.heldOut) {
            if (!asks || m_bound.complete(row))
                judged.push_back(row);
            else if (hasUnseenLevel(row))
                return std::nullopt;
            else
                ++out.unpredicted;
        }
        std::vector<std::uint32_t> rows = used.learning;
        rows.insert(rows.end(), judged.begin(), judged.end());
        const std::size_t taught = used.learning.size();
        std::vector<std::uint8_t> there(m_table.rows(), 0);
        for (const auto row : rows)
            there[row] = 1;
        for (const auto row : m_whole.rows) // the others of the whole fit, which a step leaves out here
            if (there[row] == 0 && m_bound.complete(row) &&
                !m_table.at(m_recipe.response, m_file).isMissing(row))
                rows.push_back(row);
        if (!fill(rows, taught)) return std::nullopt;
        const auto d = solve();
        if (!d) return std::nullopt;
        put(out, rows, taught, judged.size(), *d);
        return out;
    }

private:
    /// Every learning row is complete, and each level of the whole fit is among them.
    bool holdsAll(const std::vector<std::uint32_t>& learning) const {
        std::vector<std::vector<std::uint8_t>> seen;
        std::vector<std::size_t> factors;
        for (std::size_t k = 0; k < m_whole.inputs.size(); ++k)
            if (m_whole.inputs[k].factor) {
                factors.push_back(k);
                seen.emplace_back(m_whole.inputs[k].levels.size(), 0);
            }
        const bool guarded = !m_linear.design.guards().empty();
        for (const auto row : learning) {
            if (guarded && !m_bound.complete(row)) return false;
            for (std::size_t f = 0; f < factors.size(); ++f) {
                const double level = m_bound.inputs().value(factors[f], row);
                if (std::isnan(level)) return false;
                seen[f][static_cast<std::size_t>(level)] = 1;
            }
        }
        return std::all_of(seen.begin(), seen.end(), [](const auto& levels) {
            return std::all_of(levels.begin(), levels.end(), [](std::uint8_t there) { return there != 0; });
        });
    }

    bool hasUnseenLevel(std::uint32_t row) const {
        for (std::size_t k = 0; k < m_whole.inputs.size(); ++k)
            if (m_whole.inputs[k].factor && std::isnan(m_bound.inputs().value(k, row)) &&
                !m_table.at(m_whole.inputs[k].name, m_file).isMissing(row))
                return true;
        return false;
    }

    /// Rows in the basis, what the whole fit says of them and what is left; sums over the first `taught`.
    bool fill(const std::vector<std::uint32_t>& rows, std::size_t taught) {
        const LeastSquaresFit& fit = m_linear.fit;
        const Index rank = fit.rank();
        const std::vector<double> weights =
            weightsOf(m_recipe, m_table, m_file, std::span(rows).subspan(0, taught));
        m_z.resize(static_cast<Index>(rows.size()), rank);
        m_said.resize(static_cast<Index>(rows.size()));
        m_squares = MatrixXd::Zero(rank, rank);
        m_products = VectorXd::Zero(rank);
        const BoundDesign design(m_linear.design, m_table, m_file);
        const MatrixXd inverse = fit.factor.wholeInverse().triangularView<Eigen::Upper>().toDenseMatrix();
        // Well conditioned columns lose two digits at most by being squared as they are, which saves the turn
        // into the basis: only the sums are turned.
        const bool asTheyAre = fit.conditionNumber <= 10;
        const VectorXd coefficients = fit.shiftedCoefficients();
        MatrixXd raw, weighted;
        constexpr std::size_t piece = 2048;
        for (std::size_t begin = 0, end = 0; begin < rows.size(); begin = end) {
            stopIfTold(m_progress);
            end = std::min(begin + piece, rows.size());
            if (begin < taught) end = std::min(end, taught); // a piece either teaches or does not
            const std::size_t count = end - begin;
            raw.resize(static_cast<Index>(count), fit.columns);
            design.fill(std::span(rows).subspan(begin, count), raw);
            auto z = m_z.middleRows(static_cast<Index>(begin), static_cast<Index>(count));
            const MatrixXd shifted = fit.shifted(raw);
            auto said = m_said.segment(static_cast<Index>(begin), static_cast<Index>(count));
            said.noalias() = shifted * coefficients;
            if (asTheyAre)
                z = shifted;
            else
                z.noalias() = shifted * inverse;
            if (begin >= taught) continue;
            VectorXd e(static_cast<Index>(count));
            for (std::size_t i = 0; i < count; ++i)
                e[static_cast<Index>(i)] = m_working.at(rows[begin + i]) - said[static_cast<Index>(i)];
            if (weights.empty()) {
                m_squares.selfadjointView<Eigen::Lower>().rankUpdate(z.transpose());
                m_products.noalias() += z.transpose() * e;
                continue;
            }
            const VectorXd root =
                Eigen::Map<const VectorXd>(weights.data() + begin, static_cast<Index>(count)).cwiseSqrt();
            weighted = root.asDiagonal() * z;
            m_squares.selfadjointView<Eigen::Lower>().rankUpdate(weighted.transpose());
            m_products.noalias() += weighted.transpose() * root.cwiseProduct(e);
        }
        if (asTheyAre) {
            const MatrixXd whole = m_squares.selfadjointView<Eigen::Lower>();
            m_squares = inverse.transpose() * whole * inverse;
            m_products = inverse.transpose() * m_products;
            m_back = inverse;
        }
        m_weights = weights;
        return m_products.allFinite() && m_squares.allFinite();
    }

    std::optional<VectorXd> solve() const {
        const Eigen::LDLT<MatrixXd> solver(m_squares.selfadjointView<Eigen::Lower>());
        const VectorXd d = solver.vectorD();
        if (solver.info() != Eigen::Success || !(d.minCoeff() > leastShare * d.maxCoeff()))
            return std::nullopt;
        const VectorXd found = solver.solve(m_products);
        return m_back.size() > 0 ? VectorXd(m_back * found) : found;
    }

    void put(FoldOutcome& out, const std::vector<std::uint32_t>& rows, std::size_t taught, std::size_t judged,
             const VectorXd& d) const {
        const VectorXd value = m_said + m_z * d;
        long double sum = 0;
        SmearingSum smearing;
        for (std::size_t i = 0; i < taught; ++i) {
            sum += m_response[rows[i]];
            if (m_recipe.logResponse)
                smearing.add(m_working.at(rows[i]) - value[static_cast<Index>(i)],
                             m_weights.empty() ? 1 : m_weights[i]);
        }
        out.learningMean = static_cast<double>(sum / static_cast<long double>(taught));
        Link link = linkOf(m_recipe);
        if (m_recipe.logResponse) link.smearing = smearing.factor();
        std::vector<std::uint8_t> inWhole(m_table.rows(), 0);
        for (const auto row : m_whole.rows)
            inWhole[row] = 1;
        long double squares = 0, count = 0;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const double predicted =
                             link.toResponseScale(value[static_cast<Index>(i)] + m_bound.offset(rows[i])),
                         actual = m_response[rows[i]];
            if (inWhole[rows[i]] != 0) {
                squares += (static_cast<long double>(actual) - predicted) * (actual - predicted);
                ++count;
            }
            if (i < taught || i >= taught + judged) continue;
            out.rows.push_back(rows[i]);
            out.actual.push_back(actual);
            out.predicted.push_back(predicted);
        }
        out.wholeMse = count > 0 ? static_cast<double>(squares / count) : nan;
    }

    const Recipe& m_recipe;
    const Table& m_table;
    const std::string& m_file;
    const Study& m_whole;
    const LinearModel& m_linear;
    BoundModel m_bound;
    ModelResponse m_working;
    std::span<const double> m_response;
    Progress& m_progress;
    /// R⁻¹ where m_z are the shifted columns as they are, otherwise empty.
    MatrixXd m_back;
    MatrixXd m_z, m_squares;
    VectorXd m_said, m_products;
    std::vector<double> m_weights;
};

} // namespace

std::optional<FoldOutcome> foldOfLeastSquares(const Recipe& recipe, const Table& own, const std::string& file,
                                              const Study& whole, const RowsUsed& used, Progress& progress) {
    return OwnRows(recipe, own, file, whole, progress).judge(used);
}

} // namespace oxgoad
