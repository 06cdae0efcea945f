#include "estimate/linear/serial_errors.h"

#include "base/text.h"
#include "estimate/model_text.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::RowVectorXd;
using Eigen::VectorXd;

namespace {

struct MonthOfDay {
    std::int64_t month;
    unsigned day;
    bool last;
};

MonthOfDay monthOfDay(double days) {
    const std::chrono::sys_days at{std::chrono::days{static_cast<int>(days)}};
    const std::chrono::year_month_day date{at};
    const std::chrono::year_month_day_last end{date.year(), std::chrono::month_day_last{date.month()}};
    return {12 * static_cast<std::int64_t>(static_cast<int>(date.year())) +
                static_cast<std::int64_t>(static_cast<unsigned>(date.month())) - 1,
            static_cast<unsigned>(date.day()), date.day() == end.day()};
}

bool soundDay(double days) {
    return std::isfinite(days) && days == std::floor(days) && std::fabs(days) < 1e7;
}

/// Longest variance series that is kept; far later it is that of the process.
constexpr std::size_t mostAhead = 512;
constexpr std::int64_t fewSteps = 32;

} // namespace

std::optional<std::int64_t> PeriodScale::at(double time) const {
    if (!std::isfinite(time)) return {};
    if (months) {
        if (!soundDay(time)) return {};
        const auto by = monthOfDay(time).month - monthOfDay(origin).month;
        const auto every = static_cast<std::int64_t>(step);
        return by % every == 0 ? std::optional(by / every) : std::nullopt;
    }
    const double by = (time - origin) / step;
    if (std::fabs(by) > 1e15 || std::fabs(by - std::round(by)) > 1e-6) return {};
    return static_cast<std::int64_t>(std::llround(by));
}

std::string PeriodScale::text(bool date) const {
    if (!date) return shortText(step);
    const std::string unit = months ? "month" : "day";
    return step == 1 ? unit : shortText(step) + " " + unit + "s";
}

std::optional<PeriodScale> findPeriods(std::span<const double> times, bool dates) {
    std::vector<double> sorted(times.begin(), times.end());
    std::sort(sorted.begin(), sorted.end());
    sorted.erase(std::unique(sorted.begin(), sorted.end()), sorted.end());
    PeriodScale scale;
    scale.origin = sorted.front();
    if (sorted.size() == 1) return scale;
    if (dates && std::all_of(sorted.begin(), sorted.end(), soundDay)) {
        const MonthOfDay first = monthOfDay(sorted.front());
        bool sameDay = true, lastDay = true;
        std::int64_t months = 0, days = 0;
        for (const double time : sorted) {
            const MonthOfDay at = monthOfDay(time);
            sameDay = sameDay && at.day == first.day;
            lastDay = lastDay && at.last;
            months = std::gcd(months, at.month - first.month);
            days = std::gcd(days, static_cast<std::int64_t>(time - sorted.front()));
        }
        scale.months = (sameDay || lastDay) && months > 0;
        scale.step = static_cast<double>(scale.months ? months : days);
        return scale;
    }
    double step = sorted[1] - sorted[0];
    for (std::size_t i = 2; i < sorted.size(); ++i)
        step = std::min(step, sorted[i] - sorted[i - 1]);
    scale.step = step;
    for (const double time : sorted)
        if (!scale.at(time)) return {};
    return scale;
}

Autoregression Autoregression::ofPartials(const VectorXd& r) {
    const Index p = r.size(), size = std::max<Index>(1, p);
    Autoregression out{VectorXd(p), MatrixXd(size, size)};
    double variance = 1; // of u
    for (Index k = 0; k < p; ++k)
        variance /= (1 - r[k]) * (1 + r[k]);
    VectorXd covariance(size), phi(p);
    covariance[0] = variance;
    double left = variance;
    for (Index k = 0; k < p; ++k) { // Durbin and Levinson
        double next = r[k] * left;
        for (Index j = 0; j < k; ++j)
            next += phi[j] * covariance[k - j];
        if (k + 1 < size) covariance[k + 1] = next;
        VectorXd longer = phi;
        for (Index j = 0; j < k; ++j)
            longer[j] = phi[j] - r[k] * phi[k - 1 - j];
        longer[k] = r[k];
        phi = longer;
        left *= (1 - r[k]) * (1 + r[k]);
    }
    out.phi = phi;
    for (Index i = 0; i < size; ++i)
        for (Index j = 0; j < size; ++j)
            out.stationary(i, j) = covariance[std::abs(i - j)];
    return out;
}

std::vector<double> Autoregression::weights(std::size_t count) const {
    std::vector<double> psi(count, 0);
    for (std::size_t k = 0; k < count; ++k) {
        psi[k] = k == 0;
        for (std::size_t i = 1; i <= std::min<std::size_t>(k, static_cast<std::size_t>(order())); ++i)
            psi[k] += phi[static_cast<Index>(i) - 1] * psi[k - i];
    }
    return psi;
}

SeriesFilter::SeriesFilter(const Autoregression& of, Index columns)
    : m_of(of), m_state(MatrixXd::Zero(of.stationary.rows(), columns)), m_variance(of.stationary) {}

void SeriesFilter::advance(std::int64_t periods) {
    if (!m_begun) return; // stationary
    const Index p = m_of.order();
    if (p == 0) {
        m_state.setZero();
        m_variance.setOnes();
        return;
    }
    if (periods <= fewSteps) {
        for (std::int64_t k = 0; k < periods; ++k) {
            const RowVectorXd next = m_of.phi.transpose() * m_state;
            for (Index i = p - 1; i > 0; --i)
                m_state.row(i) = m_state.row(i - 1);
            m_state.row(0) = next;
            if (m_variance.isZero(0)) {
                m_variance(0, 0) = 1;
                continue;
            }
            const VectorXd cross = m_variance * m_of.phi;
            const double own = m_of.phi.dot(cross) + 1;
            const MatrixXd kept = m_variance.topLeftCorner(p - 1, p - 1);
            m_variance.bottomRightCorner(p - 1, p - 1) = kept;
            m_variance.row(0).tail(p - 1) = cross.head(p - 1).transpose();
            m_variance.col(0).tail(p - 1) = cross.head(p - 1);
            m_variance(0, 0) = own;
        }
        return;
    }
    MatrixXd power = MatrixXd::Identity(p, p), square = MatrixXd::Zero(p, p);
    square.row(0) = m_of.phi.transpose();
    square.diagonal(-1).setOnes();
    for (std::int64_t left = periods; left > 0; left /= 2) {
        if (left % 2 == 1) power = power * square;
        square = square * square;
    }
    m_state = power * m_state;
    m_variance = m_of.stationary - power * (m_of.stationary - m_variance) * power.transpose();
}

void SeriesFilter::observe(const RowVectorXd& values) {
    m_begun = true;
    const double f = m_variance(0, 0);
    const VectorXd gain = m_variance.col(0) / f;
    m_state += gain * (values - m_state.row(0));
    m_state.row(0) = values;
    m_variance -= gain * f * gain.transpose();
    // The row itself is known; rounding would leave it unsure.
    m_variance.row(0).setZero();
    m_variance.col(0).setZero();
    const double size = m_of.stationary(0, 0);
    if (m_variance.cwiseAbs().maxCoeff() < 1e-14 * size) m_variance.setZero();
}

void SeriesFilter::restore(const MatrixXd& state, const MatrixXd& spread) {
    m_begun = true;
    m_state = state;
    m_variance = spread;
}

SerialErrors::SerialErrors(Of of)
    : m_of(std::move(of)), m_process(Autoregression::ofPartials(m_of.partials)) {
    for (const History& series : m_of.series) {
        std::vector<State> states;
        SeriesFilter filter(m_process, 1);
        RowVectorXd one(1);
        for (std::size_t i = 0; i < series.at.size(); ++i) {
            filter.advance(i > 0 ? series.at[i] - series.at[i - 1] : 1);
            one[0] = series.error[i];
            filter.observe(one);
            states.push_back(
                {filter.state().col(0), filter.spread().isZero(0) ? MatrixXd() : filter.spread()});
        }
        m_states.push_back(std::move(states));
    }
    double sum = 0;
    for (const double psi : m_process.weights(mostAhead))
        m_ahead.push_back(sum += psi * psi);
}

std::optional<SerialErrors::Carried> SerialErrors::at(const RowVectorXd& inputs) const {
    Carried out;
    if (m_of.group) {
        const double level = inputs[static_cast<Index>(*m_of.group)];
        if (!(level >= 0 && level < static_cast<double>(m_of.series.size()))) return {};
        out.series = static_cast<std::size_t>(level);
    }
    const auto period = m_of.periods.at(inputs[static_cast<Index>(m_of.time)]);
    if (!period) return {};
    const History& history = m_of.series[out.series];
    const auto before = std::lower_bound(history.at.begin(), history.at.end(), *period) - history.at.begin();
    out.variance = m_process.stationary(0, 0);
    if (before == 0) return out;
    const auto last = static_cast<std::size_t>(before) - 1;
    const std::int64_t steps = *period - history.at[last];
    if (last + 1 == history.at.size()) out.ahead = steps;
    const State& state = m_states[out.series][last];
    const bool sure = state.spread.size() == 0;
    SeriesFilter filter(m_process, 1);
    filter.restore(state.mean, sure ? MatrixXd::Zero(state.mean.size(), state.mean.size()) : state.spread);
    filter.advance(steps);
    out.value = filter.expected()[0];
    out.variance = sure && steps <= static_cast<std::int64_t>(mostAhead)
                       ? m_ahead[static_cast<std::size_t>(steps) - 1]
                       : filter.variance();
    return out;
}

RowVectorXd SerialErrors::rowsCarried(const Carried& carried, Index rank) const {
    if (carried.ahead == 0 || m_of.rows.empty()) return RowVectorXd::Zero(rank);
    const MatrixXd& rows = m_of.rows[carried.series];
    SeriesFilter filter(m_process, rank);
    filter.restore(rows, MatrixXd::Zero(rows.rows(), rows.rows()));
    filter.advance(carried.ahead);
    return filter.expected();
}

nlohmann::json SerialErrors::json() const {
    using nlohmann::json;
    json series = json::array(), rows = json::array();
    for (const History& each : m_of.series)
        series.push_back({{"at", each.at}, {"error", numbersJson(each.error)}});
    for (const MatrixXd& each : m_of.rows)
        rows.push_back(matrixJson(each));
    return {{"time", m_of.time},
            {"group", m_of.group ? json(*m_of.group) : json(nullptr)},
            {"months", m_of.periods.months},
            {"origin", numberJson(m_of.periods.origin)},
            {"step", numberJson(m_of.periods.step)},
            {"partials", numbersJson({m_of.partials.begin(), m_of.partials.end()})},
            {"variance", numberJson(m_of.variance)},
            {"found", m_of.found},
            {"log_likelihood", numberJson(m_of.logLikelihood)},
            {"series", series},
            {"rows", rows}};
}

SerialErrors SerialErrors::from(const nlohmann::json& j) {
    Of of;
    of.time = j.at("time").get<std::size_t>();
    if (!j.at("group").is_null()) of.group = j.at("group").get<std::size_t>();
    of.periods = {j.at("months").get<bool>(), numberFrom(j.at("origin")), numberFrom(j.at("step"))};
    if (!(of.periods.step > 0) || !std::isfinite(of.periods.step) || !std::isfinite(of.periods.origin) ||
        (of.periods.months && (!soundDay(of.periods.origin) || of.periods.step < 1)))
        damaged("periods that are none");
    const std::vector<double> partials = numbersFrom(j.at("partials"));
    of.partials = Eigen::Map<const VectorXd>(partials.data(), static_cast<Index>(partials.size()));
    if (of.partials.size() > 50 || !(of.partials.size() == 0 || of.partials.cwiseAbs().maxCoeff() < 1))
        damaged("errors that grow without end");
    of.variance = numberFrom(j.at("variance"));
    of.found = j.at("found").get<bool>();
    of.logLikelihood = numberFrom(j.at("log_likelihood"));
    const Index size = std::max<Index>(1, of.partials.size());
    for (const auto& each : j.at("series")) {
        History history{each.at("at").get<std::vector<std::int64_t>>(), numbersFrom(each.at("error"))};
        if (history.at.size() != history.error.size() ||
            std::adjacent_find(history.at.begin(), history.at.end(), std::greater_equal<>()) !=
                history.at.end() ||
            std::any_of(history.at.begin(), history.at.end(),
                        [](std::int64_t at) { return std::abs(at) > 1'000'000'000'000; }))
            damaged("rows that do not follow each other");
        of.series.push_back(std::move(history));
    }
    for (const auto& each : j.at("rows")) {
        of.rows.push_back(matrixFrom(each));
        if (of.rows.back().rows() != size || of.rows.back().cols() != of.rows.front().cols())
            damaged("rows of another order");
    }
    if (of.series.empty() || (!of.rows.empty() && of.rows.size() != of.series.size())) damaged("no series");
    return SerialErrors(std::move(of));
}

} // namespace oxgoad
