#include "study/residual_view.h"

#include "base/not_a_number.h"
#include "base/random.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "estimate/row_blocks.h"
#include "look/curve.h"

#include <boost/math/distributions/beta.hpp>

#include <algorithm>
#include <cmath>
#include <numbers>

namespace oxgoad {

namespace {

using Eigen::Index;

constexpr std::size_t mostSmoothed = 20000, mostQuantiles = 2000, bandPlaces = 160;

/// Of every row of the table; NaN where there is none.
std::vector<double> residualsOf(const Evidence& evidence, ResidualKind kind) {
    const RowEvidence& rows = evidence.rows;
    const std::size_t n = rows.state.size();
    std::vector<double> out(n, nan);
    const LinearRows* linear = evidence.linear ? &evidence.linear->rows : nullptr;
    const double s = evidence.linear ? evidence.linear->residualStandardDeviation : nan;
    for (std::size_t i = 0; i < n; ++i) {
        const bool learning = rows.state[i] == RowState::learning;
        switch (kind) {
        case ResidualKind::plain:
        case ResidualKind::partial:
            out[i] = rows.residual[i];
            break;
        case ResidualKind::standardised:
            // With weights the studentised one knows them: t back to r by the degrees of freedom.
            if (learning && linear) {
                const double t = linear->studentized[i], df = evidence.linear->degreesOfFreedom;
                out[i] = std::isnan(t) ? rows.residual[i] / (s * std::sqrt(1 - linear->leverage[i]))
                                       : t * std::sqrt(df / (df - 1 + t * t));
            }
            break;
        case ResidualKind::deleted:
            if (learning && linear) out[i] = linear->studentized[i];
            break;
        case ResidualKind::heldOut:
            if (rows.state[i] == RowState::heldOut) out[i] = rows.residual[i];
            break;
        case ResidualKind::outOfFold:
            if (evidence.folds && learning) out[i] = rows.actual[i] - evidence.folds->outOfFold[i];
            break;
        case ResidualKind::leaveOneOut:
            if (learning && linear && linear->leverage[i] < 1)
                out[i] = rows.residual[i] / (1 - linear->leverage[i]);
            break;
        case ResidualKind::actual:
            out[i] = rows.actual[i];
            break;
        }
    }
    return out;
}

/// What the terms of a column alone add to the prediction of each row, less its mean over learning rows.
void addComponent(const Evidence& evidence, const PreparedRows& prepared, const std::string& file,
                  const std::string& column, Threads threads, Progress& progress, std::vector<double>& y) {
    const LinearModel* model = evidence.study->linear();
    if (!model) return;
    const BoundDesign design(model->design, prepared.table, file);
    std::vector<Index> columns;
    const auto& all = model->design.columns();
    for (std::size_t j = 0; j < all.size(); ++j)
        if (all[j].pieces.size() == 1 && model->design.inputs()[all[j].pieces[0].input].name == column &&
            !std::isnan(model->fit.coefficients[static_cast<Index>(j)]))
            columns.push_back(static_cast<Index>(j));
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < y.size(); ++i)
        if (!std::isnan(y[i])) rows.push_back(static_cast<std::uint32_t>(i));
    std::vector<double> added(rows.size(), 0);
    const DesignRows x(design, rows);
    forRowBlocks(x, threads, progress, [&](Index begin, const Eigen::MatrixXd& raw) {
        for (Index i = 0; i < raw.rows(); ++i)
            for (const Index j : columns)
                added[static_cast<std::size_t>(begin + i)] += model->fit.coefficients[j] * raw(i, j);
    });
    double mean = 0, count = 0;
    for (std::size_t k = 0; k < rows.size(); ++k)
        if (evidence.rows.state[rows[k]] == RowState::learning) {
            mean += added[k];
            ++count;
        }
    for (std::size_t k = 0; k < rows.size(); ++k)
        y[rows[k]] += added[k] - mean / std::max(count, 1.0);
}

/// Smooth lines through at most `mostSmoothed` evenly spaced points of learning rows.
void smooth(const Evidence& evidence, ResidualView& view, Threads threads) {
    std::vector<double> x, y;
    const std::size_t n = view.rows.size();
    std::size_t learning = 0;
    for (const auto row : view.rows)
        learning += evidence.rows.state[row] == RowState::learning;
    const bool all = learning == 0; // held-out rows alone
    std::vector<std::size_t> places;
    for (std::size_t k = 0; k < n; ++k)
        if (all || evidence.rows.state[view.rows[k]] == RowState::learning) places.push_back(k);
    const std::size_t taken = std::min(mostSmoothed, places.size());
    for (std::size_t k = 0; k < taken; ++k) {
        const std::size_t at = places[k * places.size() / taken];
        x.push_back(view.x[at]);
        y.push_back(view.y[at]);
    }
    const auto curve = fitCurve(x, y, threads);
    if (!curve || x.size() < 20) return;
    std::vector<double> sizes(x.size());
    for (std::size_t k = 0; k < x.size(); ++k)
        sizes[k] = std::fabs(y[k] - curve->at(x[k]));
    const auto size = fitCurve(x, sizes, threads);
    constexpr int steps = 60;
    const double z = normalQuantile(0.975);
    for (int k = 0; k <= steps; ++k) {
        const double at = curve->low + (curve->high - curve->low) * k / steps;
        const double middle = curve->at(at), half = z * curve->errorAt(at);
        view.middle.at.push_back(at);
        view.middle.middle.push_back(middle);
        view.middle.low.push_back(middle - half);
        view.middle.high.push_back(middle + half);
        if (!size) continue;
        const double deviation = std::sqrt(std::numbers::pi / 2) * std::max(0.0, size->at(at));
        view.spread.at.push_back(at);
        view.spread.middle.push_back(deviation);
        view.spread.low.push_back(middle - deviation);
        view.spread.high.push_back(middle + deviation);
    }
}

void addQuantiles(ResidualView& view, Threads threads, Progress& progress) {
    std::vector<double> values;
    const std::size_t n = std::min(mostQuantiles, view.y.size());
    for (std::size_t k = 0; k < n; ++k)
        values.push_back(view.y[k * view.y.size() / n]);
    view.quantilesOf = n;
    view.normal = normalQuantiles(values);
    if (!view.normal || n < 10) return;
    // The band at some of the places, and between them on straight lines.
    std::vector<std::size_t> places;
    const std::size_t count = std::min(bandPlaces, n);
    for (std::size_t k = 0; k < count; ++k)
        places.push_back(k * (n - 1) / (count - 1));
    const QuantileBand band = normalBand(n, places, threads, progress);
    const Moments moments = momentsOf(values);
    // normalQuantiles gives its values in order; place i of n is the i-th of them.
    const auto& sorted = view.normal->value;
    const bool whole = sorted.size() == n;
    for (std::size_t i = 0; i < sorted.size(); ++i) {
        const double place = whole ? static_cast<double>(i)
                                   : static_cast<double>(i) * static_cast<double>(n - 1) /
                                         static_cast<double>(sorted.size() - 1);
        const auto next =
            std::lower_bound(places.begin(), places.end(), static_cast<std::size_t>(std::ceil(place)));
        const auto b = static_cast<std::size_t>(
            std::min<std::ptrdiff_t>(next - places.begin(), static_cast<std::ptrdiff_t>(places.size()) - 1));
        const std::size_t a = b > 0 && places[b] > static_cast<std::size_t>(std::floor(place)) ? b - 1 : b;
        const double share =
            a == b ? 0
                   : (place - static_cast<double>(places[a])) / static_cast<double>(places[b] - places[a]);
        const auto scaled = [&](const std::vector<double>& edge) {
            return moments.mean + moments.standardDeviation * (edge[a] + share * (edge[b] - edge[a]));
        };
        view.normalLow.push_back(scaled(band.low));
        view.normalHigh.push_back(scaled(band.high));
        view.beyond += sorted[i] < view.normalLow.back() || sorted[i] > view.normalHigh.back();
    }
}

} // namespace

std::string_view residualName(ResidualKind kind) {
    switch (kind) {
    case ResidualKind::plain:
        return "residual";
    case ResidualKind::standardised:
        return "standardised residual";
    case ResidualKind::deleted:
        return "deleted residual";
    case ResidualKind::partial:
        return "partial residual";
    case ResidualKind::heldOut:
        return "held-out residual";
    case ResidualKind::outOfFold:
        return "out-of-fold residual";
    case ResidualKind::leaveOneOut:
        return "leave-one-out residual";
    case ResidualKind::actual:
        return "actual";
    }
    return "residual";
}

std::vector<ResidualKind> residualKinds(const Evidence& evidence) {
    std::vector<ResidualKind> kinds{ResidualKind::plain};
    const bool closed = evidence.linear && kindOf(evidence.study->recipe.estimator).leastSquares;
    if (closed) {
        kinds.push_back(ResidualKind::standardised);
        kinds.push_back(ResidualKind::deleted);
    }
    if (evidence.linear) kinds.push_back(ResidualKind::partial);
    if (evidence.heldOut.rows > 0) kinds.push_back(ResidualKind::heldOut);
    if (evidence.folds) kinds.push_back(ResidualKind::outOfFold);
    if (closed) kinds.push_back(ResidualKind::leaveOneOut);
    kinds.push_back(ResidualKind::actual);
    return kinds;
}

const Column* residualTime(const Recipe& recipe, const Table& table) {
    const Column* date = nullptr;
    for (const Column& column : table.columns()) {
        if (column.kind() == ColumnKind::text || column.kind() == ColumnKind::factor) continue;
        if (roleOf(recipe, column.name()) == Role::time) return &column;
        if (column.kind() == ColumnKind::date && !date) date = &column;
    }
    return date;
}

ResidualView residualView(const Evidence& evidence, const Recipe& recipe, const PreparedRows& prepared,
                          const std::string& file, const ResidualRequest& request, Threads threads,
                          Progress& progress) {
    ResidualView view;
    std::vector<double> y = residualsOf(evidence, request.kind);
    progress.checkpoint(0.1, "Drawing residuals");
    if (request.kind == ResidualKind::partial && !request.column.empty())
        addComponent(evidence, prepared, file, request.column, threads, progress, y);
    const Column* column = nullptr;
    if (request.against == ResidualAgainst::column) column = prepared.table.find(request.column);
    if (request.against == ResidualAgainst::time) column = residualTime(recipe, prepared.table);
    const auto xOf = [&](std::size_t i) {
        switch (request.against) {
        case ResidualAgainst::predicted:
            return request.kind == ResidualKind::outOfFold ? evidence.folds->outOfFold[i]
                                                           : evidence.rows.fitted[i];
        case ResidualAgainst::rowNumber:
            return static_cast<double>(i + 1);
        case ResidualAgainst::leverage:
            return evidence.linear ? evidence.linear->rows.leverage[i] : nan;
        case ResidualAgainst::time:
        case ResidualAgainst::column:
            break;
        }
        return column ? column->asNumber(i) : nan;
    };
    view.levels = column && column->kind() == ColumnKind::factor;
    view.dates = column && column->kind() == ColumnKind::date;
    for (std::size_t i = 0; i < y.size(); ++i) {
        if (!std::isfinite(y[i])) continue;
        const double x = xOf(i);
        if (!std::isfinite(x) || (view.levels && x < 0)) continue;
        view.rows.push_back(static_cast<std::uint32_t>(i));
        view.x.push_back(x);
        view.y.push_back(y[i]);
    }
    view.logarithmic = request.against == ResidualAgainst::predicted && evidence.study &&
                       evidence.study->rule.link.isLogarithmic() &&
                       std::all_of(view.x.begin(), view.x.end(), [](double x) { return x > 0; });
    progress.checkpoint(0.3, "Drawing residuals");
    if (!view.levels && request.kind != ResidualKind::actual) {
        const auto scaled = [&](std::vector<double>& values, double (*by)(double)) {
            if (view.logarithmic) std::transform(values.begin(), values.end(), values.begin(), by);
        };
        const std::vector<double> along = view.x;
        scaled(view.x, std::log);
        smooth(evidence, view, threads);
        view.x = along;
        scaled(view.middle.at, std::exp);
        scaled(view.spread.at, std::exp);
    }
    progress.checkpoint(0.5, "Drawing residuals");
    if (request.quantiles && request.kind != ResidualKind::actual && !view.y.empty())
        addQuantiles(view, threads, progress);
    return view;
}

QuantileBand normalBand(std::size_t n, std::span<const std::size_t> places, Threads threads,
                        Progress& progress) {
    constexpr int samples = 500;
    const auto tail = [n](std::size_t place, double u) {
        const boost::math::beta_distribution<double> beta(static_cast<double>(place + 1),
                                                          static_cast<double>(n - place));
        const double below = boost::math::cdf(beta, std::clamp(u, 1e-300, 1 - 1e-16));
        return 2 * std::min(below, 1 - below);
    };
    std::vector<double> smallest(samples);
    parallelFor(samples, threads, [&](std::size_t k) {
        stopIfTold(progress);
        RandomStream stream(k + 1, "normal quantiles");
        std::vector<double> z(n);
        for (double& v : z)
            v = stream.normal();
        const Moments m = momentsOf(z);
        std::sort(z.begin(), z.end());
        double least = 1;
        for (const std::size_t place : places) {
            const double scaled = (z[place] - m.mean) / m.standardDeviation;
            const double half = 0.5 * normalTwoSided(scaled);
            least = std::min(least, tail(place, scaled < 0 ? half : 1 - half));
        }
        smallest[k] = least;
    });
    std::sort(smallest.begin(), smallest.end());
    const double chance = smallest[samples / 20 - 1]; // one sample in twenty lies outside somewhere
    QuantileBand band;
    for (const std::size_t place : places) {
        const boost::math::beta_distribution<double> beta(static_cast<double>(place + 1),
                                                          static_cast<double>(n - place));
        band.low.push_back(normalQuantile(boost::math::quantile(beta, chance / 2)));
        band.high.push_back(normalQuantile(boost::math::quantile(boost::math::complement(beta, chance / 2))));
    }
    return band;
}

} // namespace oxgoad
