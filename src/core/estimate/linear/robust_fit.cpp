#include "estimate/linear/robust_fit.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/orthonormal_rows.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Φ⁻¹(3/4): the median absolute deviation of a standard normal.
constexpr double normalMad = 0.67448975019608174;

double medianAbsolute(const VectorXd& values) {
    std::vector<double> sizes(static_cast<std::size_t>(values.size()));
    for (Index i = 0; i < values.size(); ++i)
        sizes[static_cast<std::size_t>(i)] = std::fabs(values[i]);
    const auto middle = sizes.begin() + static_cast<std::ptrdiff_t>(sizes.size() / 2);
    std::nth_element(sizes.begin(), middle, sizes.end());
    if (sizes.size() % 2 == 1) return *middle;
    return (*middle + *std::max_element(sizes.begin(), middle)) / 2;
}

double weightAt(Influence influence, double u, double k) {
    const double size = std::fabs(u);
    if (influence == Influence::huber) return size <= k ? 1 : k / size;
    if (size > k) return 0;
    const double left = 1 - (u / k) * (u / k);
    return left * left;
}

/// Derivative of ψ(u) = u·weight(u).
double slopeAt(Influence influence, double u, double k) {
    if (influence == Influence::huber) return std::fabs(u) <= k ? 1 : 0;
    if (std::fabs(u) > k) return 0;
    const double q = (u / k) * (u / k);
    return (1 - q) * (1 - 5 * q);
}

class RobustSolver {
public:
    RobustSolver(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                 const RobustOptions& options, Progress& progress)
        : m_fit(fit), m_p(fit, x, options.threads, progress), m_options(options), m_progress(progress),
          m_y(x.rows()), m_roots(VectorXd::Ones(x.rows())) {
        for (Index i = 0; i < m_y.size(); ++i) {
            m_y[i] = (y[static_cast<std::size_t>(i)] - fit.responseShift) * fit.responseScale;
            if (!options.weights.empty())
                m_roots[i] = std::sqrt(options.weights[static_cast<std::size_t>(i)]);
        }
        m_solution = fit.projections;
        m_residuals.resize(m_y.size());
    }

    Iterated solve() {
        Iterated said;
        findResiduals();
        // A redescending weight needs a start that outliers have not moved.
        if (m_options.influence == Influence::bisquare)
            iterate(Influence::huber, usualTuning(Influence::huber), 1e-4, said);
        const double k = m_options.tuning > 0 ? m_options.tuning : usualTuning(m_options.influence);
        said.converged = iterate(m_options.influence, k, 1e-14, said);
        store(k, said);
        return said;
    }

private:
    void findResiduals() {
        m_p.apply(m_solution, m_residuals);
        m_residuals = m_y - m_residuals;
    }
    VectorXd standardised() const { return m_residuals.cwiseProduct(m_roots); }

    bool iterate(Influence influence, double k, double tolerance, Iterated& said) {
        VectorXd weights(m_y.size());
        double before = std::numeric_limits<double>::infinity();
        for (int step = 0; step < m_options.mostIterations; ++step) {
            m_progress.checkpoint(1 - std::exp(-step / 12.0),
                                  "Weighing rows again, step " + std::to_string(step + 1));
            const VectorXd e = standardised();
            m_scale = medianAbsolute(e) / normalMad;
            if (!(m_scale > 1e-13)) // of a response of the size 1
                throw Error(
                    ErrorCode::tooFewRows,
                    "half of the residuals and more are 0, so they have no scale to judge outliers by", {},
                    "Use least squares, or take terms out.");
            for (Index i = 0; i < weights.size(); ++i)
                weights[i] = weightAt(influence, e[i] / m_scale, k) * m_roots[i] * m_roots[i];
            const MatrixXd products = m_p.product(weights);
            const VectorXd move = products.ldlt().solve(m_p.crossProduct(weights.cwiseProduct(m_residuals)));
            m_solution += move;
            findResiduals();
            ++said.iterations;
            // Relative to the errors of the estimates, which the orthonormal basis all makes near the scale;
            // at the limit of doubles steps stop shrinking.
            const double size = move.cwiseAbs().maxCoeff() / std::max(m_scale, 1e-300);
            if (size <= tolerance || (size < 1e-9 && size >= before)) return true;
            before = size;
        }
        return false;
    }

    void store(double k, Iterated& said) {
        const VectorXd e = standardised();
        m_scale = medianAbsolute(e) / normalMad;
        const double df = m_fit.degreesOfFreedom;
        const double rank = static_cast<double>(m_fit.rank());
        long double squares = 0, slope = 0, slopeSquares = 0, whole = 0;
        double rows = 0;
        said.rowWeights.resize(static_cast<std::size_t>(e.size()));
        for (Index i = 0; i < e.size(); ++i) {
            const double u = e[i] / m_scale;
            const double w = weightAt(m_options.influence, u, k);
            said.rowWeights[static_cast<std::size_t>(i)] = w;
            if (m_roots[i] == 0) continue;
            ++rows;
            said.rowsDoubted += w < 0.5;
            const double d = slopeAt(m_options.influence, u, k);
            squares += static_cast<long double>(u * w) * (u * w);
            slope += d;
            slopeSquares += static_cast<long double>(d) * d;
            whole += static_cast<long double>(e[i]) * e[i];
        }
        const double mean = static_cast<double>(slope) / rows;
        const double variance = static_cast<double>(slopeSquares) / rows - mean * mean;
        const double correction = 1 + rank / rows * variance / (mean * mean);
        const double unit = m_fit.responseScale;
        const double factor = correction * correction * m_scale * m_scale * static_cast<double>(squares) /
                              df / (mean * mean) / (unit * unit);
        VectorXd b = m_fit.factor.byInverse(m_solution) / unit;
        if (m_fit.intercept) b[0] += m_fit.responseShift;
        m_fit.residuals = m_residuals / unit;
        m_fit.fitted = (m_y - m_residuals) / unit;
        m_fit.fitted.array() += m_fit.responseShift;
        m_fit.residualSumOfSquares = static_cast<double>(whole) / (unit * unit);
        m_fit.residualStandardDeviation = m_scale / unit;
        m_fit.exact = m_fit.fitsExactly = false;
        // Asymptotic: the normal, not t.
        m_fit.replaceCoefficients(b, std::sqrt(factor) * MatrixXd::Identity(m_fit.rank(), m_fit.rank()),
                                  std::numeric_limits<double>::infinity());
        said.scale = m_scale / unit;
    }

    LeastSquaresFit& m_fit;
    OrthonormalRows m_p;
    const RobustOptions& m_options;
    Progress& m_progress;
    VectorXd m_y;
    /// Square roots of the weights.
    VectorXd m_roots;
    VectorXd m_solution;
    VectorXd m_residuals;
    double m_scale = 0;
};

} // namespace

double usualTuning(Influence influence) {
    return influence == Influence::huber ? 1.345 : 4.685;
}

Iterated fitRobust(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                   const RobustOptions& options, Progress& progress) {
    return RobustSolver(fit, x, y, options, progress).solve();
}

double checkLoss(const VectorXd& residuals, double share) {
    long double sum = 0;
    for (Index i = 0; i < residuals.size(); ++i)
        sum += residuals[i] * (share - (residuals[i] < 0 ? 1 : 0));
    return static_cast<double>(sum);
}

} // namespace oxgoad
