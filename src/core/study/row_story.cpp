#include "study/row_story.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "check/influence.h"
#include "estimate/distributions.h"
#include "estimate/row_blocks.h"
#include "study/effects.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;

constexpr std::size_t nearRows = 8;

class Storyteller {
public:
    Storyteller(const Evidence& evidence, const Recipe& recipe, const Table& table, const Table* forecast,
                const std::string& file, std::uint32_t row, Threads threads, Progress& progress)
        : m_evidence(evidence), m_study(*evidence.study), m_recipe(recipe), m_table(table),
          m_forecast(forecast), m_file(file), m_threads(threads), m_progress(progress),
          m_bound(m_study.bind(table, file)) {
        m_story.row = row;
    }

    RowStory tell() {
        takeNumbers();
        m_story.problems = m_bound.problems(m_story.row);
        m_complete = m_bound.complete(m_story.row);
        takePlaces();
        takeNearest();
        if (!m_complete) return std::move(m_story);
        if (m_study.linear())
            climbTerms();
        else
            climbColumns();
        takeWithout();
        return std::move(m_story);
    }

private:
    void takeNumbers() {
        const std::uint32_t row = m_story.row;
        RowStory& s = m_story;
        s.state = m_evidence.rows.state[row];
        s.actual = m_evidence.rows.actual[row];
        s.predicted = m_evidence.rows.fitted[row];
        s.residual = m_evidence.rows.residual[row];
        s.lower = s.upper = s.leverage = s.studentized = s.cook = s.dffits = nan;
        s.forecastTotal = s.forecastTotalWithout = nan;
        s.start = s.end = nan;
        if (!m_evidence.linear) return;
        s.leverage = m_evidence.linear->rows.leverage[row];
        s.studentized = m_evidence.linear->rows.studentized[row];
        s.cook = m_evidence.linear->rows.cook[row];
        s.dffits = dffits(s.studentized, s.leverage);
    }

    void takePlaces() {
        const auto& inputs = m_study.inputs;
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            ColumnPlace place{inputs[i].name, {}, inputs[i].factor, nan, false};
            const double value = m_bound.inputs().value(i, m_story.row);
            place.value = std::isnan(value) ? m_table.at(inputs[i].name, m_file).cellText(m_story.row)
                                            : inputs[i].valueText(value);
            if (place.value.empty()) place.value = "missing";
            if (!std::isnan(value)) {
                double below = 0, equal = 0;
                for (const auto row : m_study.rows) {
                    const double other = m_bound.inputs().value(i, row);
                    below += other < value;
                    equal += other == value;
                }
                const auto n = static_cast<double>(m_study.rows.size());
                place.share = inputs[i].factor ? equal / n : (below + equal / 2) / n;
                place.outside = !inputs[i].factor && equal == 0 && (below == 0 || below == n);
            }
            m_story.places.push_back(std::move(place));
        }
    }

    void takeNearest() {
        const auto& inputs = m_study.inputs;
        const std::size_t n = m_study.rows.size();
        std::vector<double> squares(n, 0);
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            if (m_progress.stopRequested()) throw Stopped{};
            const double own = m_bound.inputs().value(i, m_story.row);
            if (std::isnan(own)) continue;
            std::vector<double> values(n);
            m_bound.inputs().fillOne(i, m_study.rows, values.data());
            if (inputs[i].factor) {
                for (std::size_t k = 0; k < n; ++k)
                    squares[k] += values[k] == own ? 0 : 1;
                continue;
            }
            double sum = 0, sizes = 0;
            for (const double v : values)
                sum += v;
            const double mean = sum / static_cast<double>(n);
            for (const double v : values)
                sizes += (v - mean) * (v - mean);
            const double variance = sizes / static_cast<double>(std::max<std::size_t>(n, 2) - 1);
            if (!(variance > 0)) continue;
            for (std::size_t k = 0; k < n; ++k)
                squares[k] += (values[k] - own) * (values[k] - own) / variance;
        }
        std::vector<std::size_t> order(n);
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::erase_if(order, [&](std::size_t k) { return m_study.rows[k] == m_story.row; });
        const std::size_t count = std::min(nearRows, order.size());
        std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(count), order.end(),
                          [&](std::size_t a, std::size_t b) {
                              return squares[a] != squares[b] ? squares[a] < squares[b] : a < b;
                          });
        for (std::size_t k = 0; k < count; ++k) {
            const auto row = m_study.rows[order[k]];
            m_story.nearest.push_back({row, std::sqrt(squares[order[k]]), m_evidence.rows.actual[row],
                                       m_evidence.rows.fitted[row], m_evidence.rows.residual[row]});
        }
    }

    std::string valuesOf(const std::vector<std::string>& columns) const {
        std::string text;
        for (const std::string& column : columns) {
            const auto at = findInput(m_study.inputs, column);
            if (!at) continue;
            text += (text.empty() ? "" : ", ") + column + " " +
                    m_study.inputs[*at].valueText(m_bound.inputs().value(*at, m_story.row));
        }
        return text;
    }

    void climbTerms() {
        const LinearModel& model = *m_study.linear();
        const LeastSquaresFit& fit = model.fit;
        const BoundDesign design(model.design, m_table, m_file);
        const std::array<std::uint32_t, 1> one{m_story.row};
        Eigen::MatrixXd x(1, static_cast<Index>(model.design.columns().size()));
        design.fill(one, x);
        // Means of the learning rows, of all columns at once.
        Eigen::VectorXd mean = Eigen::VectorXd::Zero(x.cols());
        const DesignRows rows(design, m_study.rows);
        mean = sumRowBlocks(
                   rows, m_threads, m_progress, mean,
                   [](Index, const Eigen::MatrixXd& raw) { return Eigen::VectorXd(raw.colwise().sum()); }) /
               static_cast<double>(m_study.rows.size());
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
        m_story.start = start;
        m_story.end = end;
        m_story.offset = m_bound.offset(m_story.row);
        for (std::size_t t = 0; t < terms.size(); ++t) {
            if (!m_study.has(t)) continue;
            m_story.ladder.push_back({termName(terms[t]), valuesOf(columnsOf(terms[t])), amounts[t]});
        }
        takeInterval(model, x);
    }

    void takeInterval(const LinearModel& model, const Eigen::MatrixXd& x) {
        const double spread = m_study.rule.spread;
        const double t = studentQuantile(m_recipe.level, model.fit.testDegreesOfFreedom());
        if (model.isQuantile() || !(spread > 0) || std::isnan(t)) return;
        const double half =
            t * std::sqrt(model.fit.meanVariance(x)[0] + spread * spread / m_bound.weight(m_story.row));
        const double middle = m_story.end + m_story.offset;
        // Ends of a fit in logarithms are those of the logarithm, carried back.
        m_story.lower = m_recipe.logResponse ? std::exp(middle - half) : middle - half;
        m_story.upper = m_recipe.logResponse ? std::exp(middle + half) : middle + half;
    }

    void climbColumns() {
        const auto usual = usualValues(m_study, m_table);
        const auto& inputs = m_study.inputs;
        Eigen::MatrixXd at(static_cast<Index>(inputs.size() + 1), static_cast<Index>(inputs.size()));
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            double start = m_bound.inputs().value(i, m_story.row);
            const double own = start;
            for (const HeldValue& held : usual)
                if (held.column == inputs[i].name) start = held.value;
            for (std::size_t k = 0; k <= inputs.size(); ++k)
                at(static_cast<Index>(k), static_cast<Index>(i)) = k > i ? own : start;
        }
        const Eigen::VectorXd said = m_study.model->predict(at);
        m_story.start = said[0];
        m_story.end = said[said.size() - 1];
        m_story.offset = m_bound.offset(m_story.row);
        for (std::size_t i = 0; i < inputs.size(); ++i)
            m_story.ladder.push_back({inputs[i].name, valuesOf({inputs[i].name}),
                                      said[static_cast<Index>(i + 1)] - said[static_cast<Index>(i)]});
        const double half = m_study.rule.leftOneOutHalf(m_recipe.level);
        if (!std::isfinite(half)) return;
        const double middle = m_story.end + m_story.offset;
        m_story.lower = m_recipe.logResponse ? std::exp(middle - half) : middle - half;
        m_story.upper = m_recipe.logResponse ? std::exp(middle + half) : middle + half;
    }

    void takeWithout() {
        const LinearModel* model = m_study.linear();
        if (!model || !kindOf(m_recipe.estimator).leastSquares || m_story.state != RowState::learning) return;
        const LeastSquaresFit& fit = model->fit;
        if (!(1 - m_story.leverage > 1e-10)) return; // it alone says a coefficient
        const BoundDesign design(model->design, m_table, m_file);
        const std::array<std::uint32_t, 1> one{m_story.row};
        Eigen::MatrixXd x(1, static_cast<Index>(model->design.columns().size()));
        design.fill(one, x);
        const double weight = m_study.weights.empty() ? 1 : m_bound.weight(m_story.row);
        const CoefficientChange change =
            changeWithout(fit, x, weight, m_story.residual, m_story.leverage, m_story.studentized);
        for (Index k = 0; k < change.naturalChange.size(); ++k) {
            const bool constant = fit.intercept && k == 0;
            const std::size_t column =
                constant ? 0 : fit.kept[static_cast<std::size_t>(k - (fit.intercept ? 1 : 0))];
            const double with = constant ? fit.constant : fit.coefficients[static_cast<Index>(column)];
            m_story.coefficients.push_back({constant ? "intercept" : model->design.columns()[column].name,
                                            with, with - change.naturalChange[k], change.dfbetas[k]});
        }
        takeForecast(*model, change);
    }

    void takeForecast(const LinearModel& model, const CoefficientChange& change) {
        if (!m_forecast || !m_evidence.forecast) return;
        const BoundDesign design(model.design, *m_forecast, m_file);
        std::vector<std::uint32_t> rows;
        double total = 0;
        for (std::size_t i = 0; i < m_evidence.forecast->prediction.size(); ++i)
            if (!std::isnan(m_evidence.forecast->prediction[i])) {
                rows.push_back(static_cast<std::uint32_t>(i));
                total += m_evidence.forecast->prediction[i];
            }
        if (rows.empty()) return;
        const DesignRows x(design, rows);
        const double moved =
            sumRowBlocks(x, m_threads, m_progress, 0.0, [&](Index begin, const Eigen::MatrixXd& raw) {
                const Eigen::VectorXd shift = model.fit.shifted(raw) * change.shiftedChange;
                double sum = 0;
                for (Index i = 0; i < shift.size(); ++i) {
                    const double predicted =
                        m_evidence.forecast->prediction[rows[static_cast<std::size_t>(begin + i)]];
                    sum += m_recipe.logResponse ? predicted * (1 - std::exp(-shift[i])) : shift[i];
                }
                return sum;
            });
        m_story.forecastTotal = total;
        m_story.forecastTotalWithout = total - moved;
    }

    const Evidence& m_evidence;
    const Study& m_study;
    const Recipe& m_recipe;
    const Table& m_table;
    const Table* m_forecast;
    const std::string& m_file;
    Threads m_threads;
    Progress& m_progress;
    BoundModel m_bound;
    RowStory m_story;
    bool m_complete = false;
};

} // namespace

RowStory rowStory(const Evidence& evidence, const Recipe& recipe, const Table& table, const Table* forecast,
                  const std::string& file, std::uint32_t row, Threads threads, Progress& progress) {
    return Storyteller(evidence, recipe, table, forecast, file, row, threads, progress).tell();
}

} // namespace oxgoad
