#pragma once
// Errors that depend on those before them in time: what they were, and what they leave for later rows.
#include <Eigen/Core>

#include <nlohmann/json_fwd.hpp>

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// Numbers of periods of times that lie evenly: days, every seventh day, months, quarters, years, or whole
/// multiples of a number.
struct PeriodScale {
    /// Of dates that all lie on the same day of their month, or all on its last.
    bool months = false;
    double origin = 0;
    /// Months, days or units of the number from one period to the next.
    double step = 1;

    /// Number of the period, 0 at the origin; none between two periods.
    std::optional<std::int64_t> at(double time) const;
    /// "month", "3 months", "day", "7 days", "0.5".
    std::string text(bool date) const;
};

/// The longest step that all times are whole multiples of. Requires at least one time, all finite; none where
/// there is no such step (to a millionth of it).
std::optional<PeriodScale> findPeriods(std::span<const double> times, bool dates);

/// An autoregression u_t = φ₁u_{t−1} + … + φ_p u_{t−p} + ε_t, Var ε = 1, by partial autocorrelations r
/// (Barndorff-Nielsen and Schou 1973, Journal of Multivariate Analysis 3), so that it is stationary for all
/// |r| < 1.
struct Autoregression {
    Eigen::VectorXd phi;
    /// Autocovariances, p × p (1 × 1 for p = 0).
    Eigen::MatrixXd stationary;

    static Autoregression ofPartials(const Eigen::VectorXd& partials);
    Eigen::Index order() const { return phi.size(); }
    /// ψ₀ … ψ_{count−1}: what an innovation leaves so many periods later.
    std::vector<double> weights(std::size_t count) const;
};

/// Conditional means and variances of one series of rows with several columns, periods without a row passed
/// over (Kalman filter of an autoregression with missing values: Jones 1980, Technometrics 22).
class SeriesFilter {
public:
    SeriesFilter(const Autoregression& of, Eigen::Index columns);
    /// To a later period; before the first row any number.
    void advance(std::int64_t periods);
    /// What the rows before leave at this period, a value a column, and its variance in units of ε's.
    Eigen::RowVectorXd expected() const { return m_state.row(0); }
    double variance() const { return m_variance(0, 0); }
    void observe(const Eigen::RowVectorXd& values);

    const Eigen::MatrixXd& state() const { return m_state; }
    const Eigen::MatrixXd& spread() const { return m_variance; }
    void restore(const Eigen::MatrixXd& state, const Eigen::MatrixXd& spread);

private:
    const Autoregression& m_of;
    Eigen::MatrixXd m_state;    // p × columns: u_t, u_{t−1}, …
    Eigen::MatrixXd m_variance; // p × p
    bool m_begun = false;
};

/// What a model keeps of errors that depend in time.
class SerialErrors {
public:
    /// Rows of one series in order of time: number of the period, and y − X b.
    struct History {
        std::vector<std::int64_t> at;
        std::vector<double> error;
    };
    struct Of {
        /// Places of the inputs.
        std::size_t time = 0;
        std::optional<std::size_t> group{};
        PeriodScale periods{};
        Eigen::VectorXd partials{};
        /// Of ε.
        double variance = 0;
        /// The order was chosen by AICc.
        bool found = false;
        double logLikelihood = 0;
        /// One a level of the group; one without.
        std::vector<History> series{};
        /// Of each series, after its last row: rows of the model in the orthonormal basis, as the filter
        /// has them, order × rank. What is carried rests on the same coefficients.
        std::vector<Eigen::MatrixXd> rows{};
    };
    explicit SerialErrors(Of of);

    const Of& of() const { return m_of; }
    const Autoregression& autoregression() const { return m_process; }

    /// What the rows before a row leave of its error.
    struct Carried {
        double value = 0;
        /// Of the row's error, in units of that of ε.
        double variance = 1;
        /// Periods after the last row of its series; 0 for rows before it or in a series that has none.
        std::int64_t ahead = 0;
        std::size_t series = 0;
    };
    /// None where the time is missing or lies between two periods, or the group is not known.
    std::optional<Carried> at(const Eigen::RowVectorXd& inputs) const;
    /// To be taken from a row of the model, in the orthonormal basis; zero unless ahead.
    Eigen::RowVectorXd rowsCarried(const Carried& carried, Eigen::Index rank) const;

    nlohmann::json json() const;
    /// Throws what guardedRead makes an Error of.
    static SerialErrors from(const nlohmann::json& json);

private:
    struct State {
        Eigen::VectorXd mean;
        /// Empty where nothing is unsure: as many rows as the order came one after the other.
        Eigen::MatrixXd spread;
    };
    Of m_of;
    Autoregression m_process;
    std::vector<std::vector<State>> m_states; // after each row
    std::vector<double> m_ahead;              // variance h periods after rows without a gap
};

} // namespace oxgoad
