#include "study/row_story.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "check/influence.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "estimate/row_blocks.h"

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
        takePlacesAndNearest();
        if (!m_complete) return std::move(m_story);
        climb();
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

    /// Where the row lies in each column, and the learning rows most like it: two passes over blocks of rows.
    void takePlacesAndNearest() {
        const auto& inputs = m_study.inputs;
        const std::size_t n = m_study.rows.size(), k = inputs.size();
        std::vector<double> own(k);
        for (std::size_t i = 0; i < k; ++i)
            own[i] = m_bound.inputs().value(i, m_story.row);
        struct Sums {
            std::vector<double> below, equal, sum, squares;
        };
        constexpr std::size_t size = designBlockRows;
        const std::size_t blocks = (n + size - 1) / size;
        std::vector<Sums> parts(blocks);
        const auto eachBlock = [&](const auto& use) {
            parallelFor(blocks, m_threads, [&](std::size_t b) {
                stopIfTold(m_progress);
                const auto rows = std::span(m_study.rows).subspan(b * size, std::min(size, n - b * size));
                std::vector<double> values(rows.size());
                for (std::size_t i = 0; i < k; ++i) {
                    m_bound.inputs().fillOne(i, rows, values.data());
                    use(b, i, values);
                }
            });
        };
        for (Sums& part : parts)
            part.below = part.equal = part.sum = part.squares = std::vector<double>(k, 0);
        eachBlock([&](std::size_t b, std::size_t i, const std::vector<double>& values) {
            // About the row's own value, which is near enough for a scale.
            const double at = std::isnan(own[i]) ? 0 : own[i];
            double below = 0, equal = 0, sum = 0, squares = 0;
            for (const double v : values) {
                const double d = v - at;
                if (std::isnan(d)) continue;
                below += d < 0 ? 1 : 0;
                equal += d == 0 ? 1 : 0;
                sum += d;
                squares += d * d;
            }
            parts[b].below[i] = below;
            parts[b].equal[i] = equal;
            parts[b].sum[i] = sum;
            parts[b].squares[i] = squares;
        });
        std::vector<double> variances(k, 0);
        for (std::size_t i = 0; i < k; ++i) {
            double below = 0, equal = 0, sum = 0, squares = 0;
            for (const Sums& part : parts) {
                below += part.below[i];
                equal += part.equal[i];
                sum += part.sum[i];
                squares += part.squares[i];
            }
            const auto rows = static_cast<double>(n);
            variances[i] = (squares - sum * sum / rows) / std::max(rows - 1, 1.0);
            ColumnPlace place{inputs[i].name, {}, inputs[i].factor, nan, false};
            place.value = std::isnan(own[i]) ? m_table.at(inputs[i].name, m_file).cellText(m_story.row)
                                             : inputs[i].valueText(own[i]);
            if (place.value.empty()) place.value = "missing";
            if (!std::isnan(own[i])) {
                place.share = inputs[i].factor ? equal / rows : (below + equal / 2) / rows;
                place.outside = !inputs[i].factor && equal == 0 && (below == 0 || below == rows);
            }
            m_story.places.push_back(std::move(place));
        }
        std::vector<double> distances(n, 0);
        eachBlock([&](std::size_t b, std::size_t i, const std::vector<double>& values) {
            if (std::isnan(own[i]) || (!inputs[i].factor && !(variances[i] > 0))) return;
            double* to = distances.data() + b * size;
            for (std::size_t r = 0; r < values.size(); ++r) {
                const double d = values[r] - own[i];
                to[r] += inputs[i].factor || std::isnan(d) ? (d == 0 ? 0 : 1) : d * d / variances[i];
            }
        });
        takeNearest(distances);
    }

    void takeNearest(const std::vector<double>& squares) {
        const std::size_t n = squares.size();
        std::vector<std::uint32_t> order(n);
        std::iota(order.begin(), order.end(), 0U);
        const std::size_t count = std::min(nearRows + 1, order.size()); // the row itself may be among them
        std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(count), order.end(),
                          [&](std::uint32_t a, std::uint32_t b) {
                              return squares[a] != squares[b] ? squares[a] < squares[b] : a < b;
                          });
        for (std::size_t k = 0; k < count && m_story.nearest.size() < nearRows; ++k) {
            const auto row = m_study.rows[order[k]];
            if (row == m_story.row) continue;
            m_story.nearest.push_back({row, std::sqrt(squares[order[k]]), m_evidence.rows.actual[row],
                                       m_evidence.rows.fitted[row], m_evidence.rows.residual[row]});
        }
    }

    void climb() {
        const LinearModel* model = m_study.linear();
        Ladder ladder = ladderOf(m_study, model ? std::vector<HeldValue>() : usualValues(m_study, m_table),
                                 m_table, m_file, m_bound, m_story.row);
        m_story.start = ladder.start;
        m_story.end = ladder.end;
        m_story.offset = ladder.offset;
        m_story.ladder = std::move(ladder.steps);
        if (!model) {
            takeHalf(m_study.rule.halfByErrors(m_recipe.level));
            return;
        }
        const BoundDesign design(model->design, m_table, m_file);
        const std::array<std::uint32_t, 1> one{m_story.row};
        Eigen::MatrixXd x(1, static_cast<Index>(model->design.columns().size()));
        design.fill(one, x);
        takeInterval(*model, x);
    }

    void takeInterval(const LinearModel& model, const Eigen::MatrixXd& x) {
        if (!model.hasErrors()) {
            takeHalf(m_study.rule.halfByErrors(m_recipe.level));
            return;
        }
        const double spread = m_study.rule.spread;
        const double t = studentQuantile(m_recipe.level, model.fit.testDegreesOfFreedom());
        if (model.isQuantile() || !(spread > 0) || std::isnan(t)) return;
        if (m_study.rule.link.family) {
            const auto ends =
                familyInterval(m_study.rule, m_story.predicted, std::sqrt(model.fit.meanVariance(x)[0]),
                               m_bound.weight(m_story.row), m_recipe.level);
            m_story.lower = ends.lower;
            m_story.upper = ends.upper;
            return;
        }
        const double half =
            t * std::sqrt(model.fit.meanVariance(x)[0] + spread * spread / m_bound.weight(m_story.row));
        takeHalf(half);
    }

    /// Ends of a fit in logarithms are those of the logarithm, carried back.
    void takeHalf(double half) {
        if (!std::isfinite(half)) return;
        const double middle = m_story.end + m_story.offset;
        m_story.lower = m_study.rule.link.quantileToResponseScale(middle - half);
        m_story.upper = m_study.rule.link.quantileToResponseScale(middle + half);
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
