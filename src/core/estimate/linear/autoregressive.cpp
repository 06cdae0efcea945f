#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/linear/linear_kinds.h"
#include "estimate/linear/orthonormal_rows.h"
#include "estimate/linear/serial_errors.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::RowVectorXd;
using Eigen::VectorXd;

const std::string orderByAicc = "AICc";
constexpr Index mostOrder = 12, largestSearched = 5;
constexpr int mostRounds = 60, mostMoves = 40;

/// Rows in order of time by series: places among the learning rows, and the periods.
struct SeriesRows {
    std::vector<std::vector<std::uint32_t>> places;
    std::vector<std::vector<std::int64_t>> at;
    SerialErrors::Of of;
};

SeriesRows seriesOfRows(const TrainingData& training) {
    SeriesRows out;
    const Inputs& inputs = training.inputs.inputs();
    const auto time = findInput(inputs, training.time);
    if (training.time.empty() || !time)
        throw Error(ErrorCode::badTerm, "errors that depend in time need to know when each row was",
                    {.file = training.file},
                    "Give the column of dates, or of periods, the role of the time.");
    out.of.time = *time;
    if (!training.group.empty()) out.of.group = findInput(inputs, training.group);
    const std::size_t n = training.rows.size();
    std::vector<double> times(n);
    training.inputs.fillOne(*time, training.rows, times.data());
    const auto scale = findPeriods(times, inputs[*time].date);
    if (!scale)
        throw Error(ErrorCode::badTerm,
                    "the rows do not lie at even steps, as errors that depend on those "
                    "before them need",
                    {.file = training.file, .column = training.time},
                    "Bring rows at even steps (some may be missing), or take another kind of model.");
    out.of.periods = *scale;
    const std::size_t series = out.of.group ? inputs[*out.of.group].levels.size() : 1;
    out.places.resize(series);
    out.at.resize(series);
    std::vector<std::int64_t> periods(n);
    for (std::uint32_t i = 0; i < n; ++i) {
        periods[i] = scale->at(times[i]).value();
        const double level = out.of.group ? training.inputs.value(*out.of.group, training.rows[i]) : 0;
        out.places[static_cast<std::size_t>(level)].push_back(i);
    }
    for (std::size_t s = 0; s < series; ++s) {
        auto& places = out.places[s];
        std::stable_sort(places.begin(), places.end(),
                         [&](std::uint32_t a, std::uint32_t b) { return periods[a] < periods[b]; });
        for (std::size_t k = 0; k < places.size(); ++k) {
            out.at[s].push_back(periods[places[k]]);
            if (k == 0 || out.at[s][k - 1] < out.at[s][k]) continue;
            const std::string of =
                out.of.group ? " of " + training.group + " " + inputs[*out.of.group].levels[s] : "";
            throw Error(ErrorCode::badTerm,
                        "rows " + countText(training.rows[places[k - 1]] + 1) + " and " +
                            countText(training.rows[places[k]] + 1) + of + " have the same " + training.time +
                            ", " + inputs[*time].valueText(times[places[k]]) +
                            ": errors that depend in time need one row a period",
                        {.file = training.file, .column = training.time},
                        out.of.group ? "Sum the rows up by period, or give the column that tells the series "
                                       "apart the role of the group."
                                     : "Give the column that tells the series apart (places, products) the "
                                       "role of the group.");
        }
    }
    return out;
}

/// What the filter leaves of one column of values.
struct Innovations {
    VectorXd value;    // v_t, in the order of the learning rows
    VectorXd variance; // F_t
    double logSum = 0; // Σ ln F
    double squares() const { return (value.array().square() / variance.array()).sum(); }
};

Innovations innovationsOf(const SeriesRows& rows, const Autoregression& process, const VectorXd& u) {
    Innovations out{VectorXd(u.size()), VectorXd(u.size())};
    const auto p = static_cast<std::size_t>(process.order());
    for (std::size_t s = 0; s < rows.places.size(); ++s) {
        const auto& places = rows.places[s];
        SeriesFilter filter(process, 1);
        RowVectorXd one(1);
        // Where as many rows as the order stand one after the other, these are all that the next hangs on.
        std::size_t unbroken = 0;
        bool behind = false;
        for (std::size_t k = 0; k < places.size(); ++k) {
            const std::int64_t gap = k > 0 ? rows.at[s][k] - rows.at[s][k - 1] : 1;
            const auto place = static_cast<Index>(places[k]);
            if (gap == 1 && unbroken >= p && k > 0) {
                double expected = 0;
                for (std::size_t i = 1; i <= p; ++i)
                    expected += process.phi[static_cast<Index>(i) - 1] * u[static_cast<Index>(places[k - i])];
                out.value[place] = u[place] - expected;
                out.variance[place] = 1;
                ++unbroken;
                behind = true;
                continue;
            }
            if (behind) {
                MatrixXd state(process.stationary.rows(), 1);
                for (Index i = 0; i < state.rows(); ++i)
                    state(i, 0) = u[static_cast<Index>(places[k - 1 - static_cast<std::size_t>(i)])];
                filter.restore(state, MatrixXd::Zero(state.rows(), state.rows()));
                behind = false;
            }
            filter.advance(gap);
            out.value[place] = u[place] - filter.expected()[0];
            out.variance[place] = filter.variance();
            out.logSum += std::log(filter.variance());
            one[0] = u[place];
            filter.observe(one);
            unbroken = k > 0 && gap == 1 ? unbroken + 1 : 1;
        }
    }
    return out;
}

/// Profile of the exact likelihood over the coefficients' and the innovations' variance: −2 ln L less
/// constants, from squares and Σ ln F (Ansley 1979, Biometrika 66).
double profileOf(const Innovations& of) {
    const auto n = static_cast<double>(of.value.size());
    return n * std::log(of.squares() / n) + of.logSum;
}

/// Least squares of the rows as the filter leaves them, of Q d against u.
struct FilteredFit {
    VectorXd move;
    MatrixXd triangle; // of the filtered Q
    double squares = 0;
    std::vector<MatrixXd> lastRows;
};

FilteredFit fitFiltered(const SeriesRows& rows, const Autoregression& process, const MatrixXd& q,
                        const VectorXd& u, const Progress& progress) {
    const Index r = q.cols(), c = r + 1;
    constexpr Index block = 512;
    MatrixXd triangle = MatrixXd::Zero(c, c), stacked(c + block, c);
    Index filled = 0;
    FilteredFit out;
    const auto reduce = [&] {
        stopIfTold(progress);
        stacked.topRows(c) = triangle;
        const MatrixXd now = stacked.topRows(c + filled);
        const Eigen::HouseholderQR<MatrixXd> qr(now);
        triangle = qr.matrixQR().topRows(c).triangularView<Eigen::Upper>();
        filled = 0;
    };
    for (std::size_t s = 0; s < rows.places.size(); ++s) {
        SeriesFilter filter(process, c);
        RowVectorXd row(c);
        for (std::size_t k = 0; k < rows.places[s].size(); ++k) {
            filter.advance(k > 0 ? rows.at[s][k] - rows.at[s][k - 1] : 1);
            const auto place = static_cast<Index>(rows.places[s][k]);
            row.head(r) = q.row(place);
            row[r] = u[place];
            stacked.row(c + filled) = (row - filter.expected()) / std::sqrt(filter.variance());
            filter.observe(row);
            if (++filled == block) reduce();
        }
        out.lastRows.push_back(filter.state().leftCols(r));
    }
    reduce();
    out.triangle = triangle.topLeftCorner(r, r);
    out.move = out.triangle.triangularView<Eigen::Upper>().solve(triangle.col(r).head(r));
    out.squares = triangle(r, r) * triangle(r, r);
    return out;
}

/// Partial autocorrelations with the least −2 ln L of these errors, by Gauss–Newton steps of √(squares) with
/// the determinant taken in (Ansley 1979), from where they are; in z = artanh r.
VectorXd likeliest(const SeriesRows& rows, const VectorXd& u, VectorXd partials, const Progress& progress) {
    const Index p = partials.size();
    if (p == 0) return partials;
    const auto n = static_cast<double>(u.size());
    const auto weighted = [&](const VectorXd& z, double& profile) {
        const Innovations of = innovationsOf(rows, Autoregression::ofPartials(z.array().tanh()), u);
        profile = profileOf(of);
        return VectorXd(of.value.array() / of.variance.array().sqrt() * std::exp(of.logSum / (2 * n)));
    };
    VectorXd z = partials.cwiseMax(-0.999999).cwiseMin(0.999999).array().atanh();
    double best = 0, damping = 1e-3;
    VectorXd w = weighted(z, best);
    constexpr double apart = 1e-6, furthest = 8; // tanh 8 is 1 − 2e-7
    for (int step = 0; step < mostMoves; ++step) {
        stopIfTold(progress);
        MatrixXd jacobian(w.size(), p);
        for (Index k = 0; k < p; ++k) {
            double ignored = 0;
            VectorXd up = z, down = z;
            up[k] += apart, down[k] -= apart;
            jacobian.col(k) = (weighted(up, ignored) - weighted(down, ignored)) / (2 * apart);
        }
        const MatrixXd curve = jacobian.transpose() * jacobian;
        const VectorXd slope = jacobian.transpose() * w;
        double moved = 0;
        for (int tries = 0; tries < 12; ++tries) {
            MatrixXd damped = curve;
            damped.diagonal() *= 1 + damping;
            VectorXd next = z - damped.ldlt().solve(slope);
            next = next.cwiseMax(-furthest).cwiseMin(furthest);
            double profile = 0;
            const VectorXd there = weighted(next, profile);
            if (profile <= best) {
                moved = (next - z).cwiseAbs().maxCoeff();
                z = next, w = there, best = profile;
                damping = std::max(1e-12, damping / 10);
                break;
            }
            damping *= 10;
        }
        if (moved < 1e-9) break;
    }
    return z.array().tanh();
}

struct SerialFit {
    VectorXd partials;
    FilteredFit filtered;
    double profile = 0;
    int rounds = 0;
    bool converged = false;
    std::vector<double> history;
};

/// Coefficients and autocorrelations in turn, which each make the likelihood larger (Cochrane and Orcutt
/// 1949, Journal of the American Statistical Association 44, iterated, here with the exact likelihood).
SerialFit fitOrder(const SeriesRows& rows, const MatrixXd& q, const VectorXd& u, const VectorXd& from,
                   Progress& progress) {
    SerialFit out{.partials = from};
    VectorXd left = u;
    double before = std::numeric_limits<double>::infinity();
    for (; out.rounds < mostRounds && !out.converged; ++out.rounds) {
        progress.checkpoint(1 - std::exp(-out.rounds / 4.0), "Errors of order " +
                                                                 std::to_string(from.size()) + ", round " +
                                                                 std::to_string(out.rounds + 1));
        out.partials = likeliest(rows, left, out.partials, progress);
        const Autoregression process = Autoregression::ofPartials(out.partials);
        out.filtered = fitFiltered(rows, process, q, u, progress);
        left = u - q * out.filtered.move;
        out.profile = profileOf(innovationsOf(rows, process, left));
        out.history.push_back(out.profile);
        out.converged = std::fabs(before - out.profile) < 1e-9;
        before = out.profile;
    }
    return out;
}

double aiccOf(double profile, double n, Index rank, Index order) {
    const double k = static_cast<double>(rank + order + 1);
    return n - k - 1 > 0 ? profile + 2 * k * n / (n - k - 1) : std::numeric_limits<double>::infinity();
}

FitResult learnAutoregressive(const Settings& settings, const TrainingData& training, Progress& progress) {
    const SeriesRows rows = seriesOfRows(training);
    ProgressStage first(progress, 0, 0.2);
    LinearModel model;
    model.kindName = "autoregressive errors";
    model.quantileFit = nan;
    LinearFit made = fitLinearTogether(training, "a model with errors that depend in time", first);
    model.design = std::move(made.design);
    LeastSquaresFit fit = std::move(made.fit);
    const DesignRows x(BoundDesign(model.design, training.inputs), training.rows);
    ProgressStage basis(progress, 0.2, 0.25);
    const OrthonormalRows orthonormal(fit, x, training.threads, basis);
    const MatrixXd& q = orthonormal.matrix();
    const VectorXd u = fit.residuals;
    const auto n = static_cast<double>(u.size());
    const auto* asked = std::get_if<double>(&settings.get(std::string_view("order")));
    std::size_t longest = 0;
    for (const auto& places : rows.places)
        longest = std::max(longest, places.size());
    const auto room = static_cast<Index>(std::max(0.0, n - static_cast<double>(fit.rank()) - 2));
    const Index possible = std::min<Index>({mostOrder, room, static_cast<Index>(longest) - 1});
    if (fit.fitsExactly)
        throw Error(ErrorCode::noSpread,
                    "the terms say the response exactly: there are no errors to depend "
                    "on each other",
                    {.file = training.file}, "Take least squares.");
    if (asked && static_cast<Index>(*asked) > possible)
        throw Error(ErrorCode::tooFewRows,
                    "errors that depend on " + plural(static_cast<std::size_t>(*asked), "period", "periods") +
                        " before them need longer series: the longest has " +
                        plural(longest, "learning row", "learning rows"),
                    {.file = training.file}, "Ask for a smaller order, or bring more rows.");
    const Index from = asked ? static_cast<Index>(*asked) : 0;
    const Index to = asked ? from : std::min(possible, std::min(largestSearched, static_cast<Index>(n / 8)));
    SerialFit best;
    double bestAicc = std::numeric_limits<double>::infinity();
    VectorXd start = VectorXd::Zero(from);
    for (Index p = from; p <= std::max(from, to); ++p) {
        ProgressStage stage(
            progress, 0.25 + 0.65 * static_cast<double>(p - from) / static_cast<double>(to - from + 1),
            0.25 + 0.65 * static_cast<double>(p - from + 1) / static_cast<double>(to - from + 1));
        SerialFit now = fitOrder(rows, q, u, start, stage);
        const double aicc = aiccOf(now.profile, n, fit.rank(), p);
        start = VectorXd::Zero(p + 1);
        start.head(p) = now.partials;
        if (p > from && !(aicc < bestAicc)) continue;
        bestAicc = aicc;
        best = std::move(now);
    }
    progress.checkpoint(0.92, "Errors of the coefficients");
    const Autoregression process = Autoregression::ofPartials(best.partials);
    const double variance = fit.degreesOfFreedom > 0 ? best.filtered.squares / fit.degreesOfFreedom : nan;
    // Rows of the root are its columns.
    MatrixXd root = best.filtered.triangle.triangularView<Eigen::Upper>().solve(
        MatrixXd::Identity(fit.rank(), fit.rank()));
    root *= std::sqrt(variance);
    const VectorXd b = fit.shiftedCoefficients() + fit.factor.solve(best.filtered.move).col(0);
    fit.replaceCoefficients(b, std::move(root), fit.degreesOfFreedom);
    const VectorXd errors = u - q * best.filtered.move;
    const Innovations innovations = innovationsOf(rows, process, errors);
    fit.residualSumOfSquares = best.filtered.squares;
    fit.residualStandardDeviation = std::sqrt(variance);
    fit.exact = fit.fitsExactly = false;
    fit.residuals = innovations.value;
    fit.fitted = Eigen::Map<const VectorXd>(training.y.data(), u.size()) - innovations.value;
    SerialErrors::Of of = rows.of;
    of.partials = best.partials;
    of.variance = variance;
    of.found = !asked;
    of.logLikelihood = -0.5 * (best.profile + n * (1 + std::log(2 * M_PI)));
    for (std::size_t s = 0; s < rows.places.size(); ++s) {
        SerialErrors::History history{rows.at[s], {}};
        for (const auto place : rows.places[s])
            history.error.push_back(errors[static_cast<Index>(place)]);
        of.series.push_back(std::move(history));
    }
    of.rows = std::move(best.filtered.lastRows);
    model.serial.emplace(std::move(of));
    Iterated iterated{.iterations = best.rounds, .converged = best.converged};
    const auto order = static_cast<double>(best.partials.size());
    FitResult result = finishedLinear(std::move(model), std::move(fit), std::move(iterated));
    result.outcome.historyOf = "−2 log likelihood";
    result.outcome.history = std::move(best.history);
    result.found["order"] = order;
    return result;
}

ModelPart describeSerial(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const LinearModel&>(learned);
    const SerialErrors& serial = *model.serial;
    const auto& phi = serial.autoregression().phi;
    const Input& time = model.design.inputs()[serial.of().time];
    nlohmann::json said{{"order", phi.size()},
                        {"order_chosen_by", serial.of().found ? nlohmann::json("AICc") : nullptr},
                        {"coefficients", std::vector<double>(phi.begin(), phi.end())},
                        {"innovation_variance", serial.of().variance},
                        {"error_variance", serial.of().variance * serial.autoregression().stationary(0, 0)},
                        {"log_likelihood", serial.of().logLikelihood},
                        {"period", serial.of().periods.text(time.date)},
                        {"series", serial.of().series.size()}};
    ModelPart part{.key = "errors_in_time",
                   .json = said.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace)};
    part.file = "errors_in_time.csv";
    part.header = {"lag", "coefficient", "partial_autocorrelation"};
    std::string terms;
    for (Index k = 0; k < phi.size(); ++k) {
        part.table.push_back({std::to_string(k + 1), exactText(phi[k]), exactText(serial.of().partials[k])});
        terms += (k == 0       ? ""
                  : phi[k] < 0 ? " − "
                               : " + ") +
                 readableText(k == 0 ? phi[k] : std::fabs(phi[k]), 3) + " of that " +
                 (k == 0 ? "of the " + serial.of().periods.text(time.date) + " before"
                         : std::to_string(k + 1) + " before");
    }
    part.text = phi.size() == 0 ? "errors do not depend on those before them\n"
                                : "an error is " + terms + ", and what is new (standard deviation " +
                                      readableText(std::sqrt(serial.of().variance), 4) + ")\n";
    return part;
}

} // namespace

ModelKind autoregressiveKind() {
    ModelKind kind{.can = {.weights = WeightUse::refused,
                           .intervals = IntervalSource::theory,
                           .iterates = true,
                           .terms = Capabilities::Terms::formula}};
    kind.name = "autoregressive errors";
    kind.title = "Least squares with errors that depend in time";
    kind.fields = {soughtField("order", "Periods before that an error depends on", 1.0, 0,
                               static_cast<double>(mostOrder), {orderByAicc})};
    kind.fields.front().whole = true;
    kind.offers = {
        {"Errors that depend on those before them (order by AICc)", {kind.name, {{"order", orderByAicc}}}}};
    kind.findsItself = kind.series = true;
    kind.sentence = [](const Settings& settings) {
        const auto* order = std::get_if<double>(&settings.get(std::string_view("order")));
        return "least squares whose errors depend on those " +
               (order ? "of " + plural(static_cast<std::size_t>(*order), "period", "periods") + " before"
                      : std::string("before them"));
    };
    kind.learn = learnAutoregressive;
    kind.describe = describeSerial;
    kind.read = readLinearModel;
    return kind;
}

} // namespace oxgoad
