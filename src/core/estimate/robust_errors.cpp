#include "estimate/robust_errors.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/row_blocks.h"

#include <Eigen/LU>

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

double weightOf(std::span<const double> weights, Index i) {
    return weights.empty() ? 1 : weights[static_cast<std::size_t>(i)];
}

/// Rows of P = X~R⁻¹, unweighted: V = P'P-like sandwiches need no inverse of a product.
MatrixXd orthonormal(const LeastSquaresFit& fit, const MatrixXd& raw) {
    MatrixXd p = fit.shifted(raw);
    fit.factor.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(p);
    return p;
}

double spreadFactor(ErrorsKind kind, double leverage) {
    const double left = std::max(1 - leverage, 1e-12);
    return kind == ErrorsKind::hc2 ? 1 / left : kind == ErrorsKind::hc3 ? 1 / (left * left) : 1;
}

/// Scores w·e·p summed within each unit: units × rank.
MatrixXd scoresByUnit(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                      std::span<const std::uint32_t> units, std::size_t count, Progress& progress) {
    MatrixXd scores = MatrixXd::Zero(static_cast<Index>(count), fit.rank());
    // In the order of rows: sums of a unit may span blocks.
    forRowBlocks(x, Threads{1}, progress, [&](Index begin, const MatrixXd& raw) {
        const MatrixXd p = orthonormal(fit, raw);
        for (Index i = 0; i < raw.rows(); ++i) {
            const Index row = begin + i;
            scores.row(units[static_cast<std::size_t>(row)]) +=
                weightOf(weights, row) * fit.residuals[row] * p.row(i);
        }
    });
    return scores;
}

} // namespace

int usualLags(std::size_t periods) {
    return static_cast<int>(4 * std::pow(static_cast<double>(periods) / 100, 2.0 / 9));
}

RobustErrors robustErrors(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                          ErrorsKind kind, std::span<const std::uint32_t> units, int lags, Threads threads,
                          Progress& progress) {
    const Index k = fit.rank();
    const double df = fit.degreesOfFreedom;
    const double n = df + static_cast<double>(k);
    RobustErrors errors;
    errors.degreesOfFreedom = df;
    MatrixXd middle = MatrixXd::Zero(k, k);
    const std::size_t count =
        units.empty() ? 0 : *std::max_element(units.begin(), units.end()) + std::size_t{1};
    switch (kind) {
    case ErrorsKind::equalSpread:
        errors.covariance = fit.shiftedCovariance();
        return errors;
    case ErrorsKind::hc0:
    case ErrorsKind::hc1:
    case ErrorsKind::hc2:
    case ErrorsKind::hc3:
        middle =
            sumRowBlocks(x, threads, progress, middle, [&](Index begin, const MatrixXd& raw) -> MatrixXd {
                MatrixXd p = orthonormal(fit, raw);
                for (Index i = 0; i < p.rows(); ++i) {
                    const Index row = begin + i;
                    p.row(i) *= weightOf(weights, row) * fit.residuals[row] *
                                std::sqrt(spreadFactor(kind, fit.leverages[row]));
                }
                return p.transpose() * p;
            });
        if (kind == ErrorsKind::hc1) middle *= n / df;
        break;
    case ErrorsKind::byGroup: {
        if (count < 2)
            throw Error(ErrorCode::tooFewRows, "errors by group need two groups or more, and there is one",
                        {}, "Choose another column for the groups.");
        const MatrixXd scores = scoresByUnit(fit, x, weights, units, count, progress);
        const auto g = static_cast<double>(count);
        middle = g / (g - 1) * (n - 1) / df * (scores.transpose() * scores);
        errors.degreesOfFreedom = g - 1;
        errors.units = count;
        break;
    }
    case ErrorsKind::serial: {
        if (count <= static_cast<std::size_t>(lags) + 1)
            throw Error(ErrorCode::tooFewRows,
                        "errors with " + plural(static_cast<std::size_t>(lags), "lag", "lags") +
                            " need more than " + countText(count) + " periods",
                        {}, "Look back over fewer periods.");
        const MatrixXd scores = scoresByUnit(fit, x, weights, units, count, progress);
        middle = scores.transpose() * scores;
        const Index periods = scores.rows();
        for (Index lag = 1; lag <= lags; ++lag) {
            const double weight = 1 - static_cast<double>(lag) / (lags + 1);
            const MatrixXd cross =
                scores.bottomRows(periods - lag).transpose() * scores.topRows(periods - lag);
            middle += weight * (cross + cross.transpose());
        }
        middle *= n / df;
        errors.units = count;
        break;
    }
    }
    // V = R⁻¹ M R⁻ᵀ.
    const auto r = fit.factor.triangularView<Eigen::Upper>();
    const MatrixXd half = r.solve(middle);
    const MatrixXd whole = r.solve(half.transpose().eval());
    errors.covariance = (whole + whole.transpose()) / 2;
    return errors;
}

} // namespace oxgoad
