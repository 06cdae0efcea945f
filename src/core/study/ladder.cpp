#include "study/ladder.h"

#include "estimate/linear/linear_model.h"
#include "study/effects.h"

#include <array>
#include <cmath>

namespace oxgoad {

namespace {

using Eigen::Index;

class Climber {
public:
    Climber(const Study& study, const std::vector<HeldValue>& usual, const Table& table,
            const std::string& file, const BoundModel& bound, std::uint32_t row)
        : m_study(study), m_usual(usual), m_table(table), m_file(file), m_bound(bound), m_row(row) {}

    Ladder climb() {
        m_ladder.offset = m_bound.offset(m_row);
        if (m_study.linear())
            climbTerms();
        else if (!climbContributions())
            climbColumns();
        return std::move(m_ladder);
    }

private:
    std::string valuesOf(const std::vector<std::string>& columns) const {
        std::string text;
        for (const std::string& column : columns) {
            const auto at = findInput(m_study.inputs, column);
            if (!at) continue;
            text += (text.empty() ? "" : ", ") + column + " " +
                    m_study.inputs[*at].valueText(m_bound.inputs().value(*at, m_row));
        }
        return text;
    }

    void climbTerms() {
        const LinearModel& model = *m_study.linear();
        const LeastSquaresFit& fit = model.fit;
        const BoundDesign design(model.design, m_table, m_file);
        const std::array<std::uint32_t, 1> one{m_row};
        Eigen::MatrixXd x(1, static_cast<Index>(model.design.columns().size()));
        design.fill(one, x);
        const Eigen::VectorXd mean = fit.columnMeans();
        const std::vector<Term>& terms = model.design.terms();
        std::vector<double> amounts(terms.size(), 0);
        double start = fit.constant, end = fit.constant;
        for (Index j = 0; j < x.cols(); ++j) {
            const double coefficient = fit.coefficients[j];
            if (std::isnan(coefficient)) continue; // other columns say it
            const double centre = fit.intercept ? mean[j] : 0;
            start += coefficient * centre;
            end += coefficient * x(0, j);
            amounts[model.design.columns()[static_cast<std::size_t>(j)].term] +=
                coefficient * (x(0, j) - centre);
        }
        std::optional<SerialErrors::Carried> carried;
        if (model.serial) {
            Eigen::RowVectorXd own(static_cast<Index>(m_study.inputs.size()));
            for (std::size_t i = 0; i < m_study.inputs.size(); ++i)
                own[static_cast<Index>(i)] = m_bound.inputs().value(i, m_row);
            carried = model.serial->at(own);
        }
        m_ladder.start = start;
        m_ladder.end = end + (carried ? carried->value : 0);
        for (std::size_t t = 0; t < terms.size(); ++t) {
            if (!m_study.has(t)) continue;
            m_ladder.steps.push_back({termName(terms[t]), valuesOf(columnsOf(terms[t])), amounts[t]});
        }
        if (carried && carried->value != 0)
            m_ladder.steps.push_back({"errors of the rows before", "", carried->value});
    }

    /// What each column adds, where the model says that.
    bool climbContributions() {
        const auto& inputs = m_study.inputs;
        std::vector<double> own;
        for (std::size_t i = 0; i < inputs.size(); ++i)
            own.push_back(m_bound.inputs().value(i, m_row));
        const Contributions said = m_study.model->contributions(own);
        if (said.amounts.empty()) return false;
        m_ladder.start = m_ladder.end = said.start;
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            m_ladder.steps.push_back({inputs[i].name, valuesOf({inputs[i].name}), said.amounts[i]});
            m_ladder.end += said.amounts[i];
        }
        return true;
    }

    void climbColumns() {
        const auto& inputs = m_study.inputs;
        Eigen::MatrixXd at(static_cast<Index>(inputs.size() + 1), static_cast<Index>(inputs.size()));
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            double start = m_bound.inputs().value(i, m_row);
            const double own = start;
            for (const HeldValue& held : m_usual)
                if (held.column == inputs[i].name) start = held.value;
            for (std::size_t k = 0; k <= inputs.size(); ++k)
                at(static_cast<Index>(k), static_cast<Index>(i)) = k > i ? own : start;
        }
        const Eigen::VectorXd said = m_study.rule.valuesOf(*m_study.model, at);
        m_ladder.start = said[0];
        m_ladder.end = said[said.size() - 1];
        for (std::size_t i = 0; i < inputs.size(); ++i)
            m_ladder.steps.push_back({inputs[i].name, valuesOf({inputs[i].name}),
                                      said[static_cast<Index>(i + 1)] - said[static_cast<Index>(i)]});
    }

    const Study& m_study;
    const std::vector<HeldValue>& m_usual;
    const Table& m_table;
    const std::string& m_file;
    const BoundModel& m_bound;
    std::uint32_t m_row;
    Ladder m_ladder;
};

} // namespace

Ladder ladderOf(const Study& study, const std::vector<HeldValue>& usual, const Table& table,
                const std::string& file, const BoundModel& bound, std::uint32_t row) {
    return Climber(study, usual, table, file, bound, row).climb();
}

} // namespace oxgoad
