// Quantile regression.
#include "estimate/distributions.h"
#include "estimate/linear/orthonormal_rows.h"
#include "estimate/linear/robust_fit.h"
#include "table/summary.h"

#include <Eigen/Cholesky>
#include <Eigen/LU>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

class QuantileSolver {
public:
    QuantileSolver(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y, double share,
                   std::span<const double> weights, Threads threads, Progress& progress)
        : m_fit(fit), m_p(fit, x, threads, progress), m_share(share), m_progress(progress), m_y(x.rows()),
          m_w(VectorXd::Ones(x.rows())) {
        for (Index i = 0; i < m_y.size(); ++i) {
            m_y[i] = (y[static_cast<std::size_t>(i)] - fit.responseShift) * fit.responseScale;
            if (!weights.empty()) m_w[i] = weights[static_cast<std::size_t>(i)];
        }
        m_solution = fit.projections;
    }

    Iterated solve() {
        Iterated said;
        interiorPoint(said);
        said.exactVertex = toVertex();
        findResiduals();
        said.converged = said.converged || said.exactVertex;
        store();
        return said;
    }

private:
    void findResiduals() {
        m_residuals.resize(m_y.size());
        m_p.apply(m_solution, m_residuals);
        m_residuals = m_y - m_residuals;
    }

    /// Largest step, at most 1, that keeps v + step·dv at or above 0, short of the border.
    static double stepTo(const VectorXd& v, const VectorXd& dv) {
        double step = std::numeric_limits<double>::infinity();
        for (Index i = 0; i < v.size(); ++i)
            if (dv[i] < 0) step = std::min(step, -v[i] / dv[i]);
        return std::min(1.0, 0.99995 * step);
    }

    /// max y'a subject to P'a = (1−τ)P'w, 0 ≤ a ≤ w, with multipliers z, s of the bounds; the multipliers of
    /// the equalities are the coefficients in P's basis.
    void interiorPoint(Iterated& said) {
        const Index n = m_y.size();
        VectorXd a = (1 - m_share) * m_w;
        VectorXd slack = m_w - a;
        findResiduals();
        VectorXd z(n), s(n), q(n), r(n), da(n), dz(n), ds(n), fitted(n), correction(n);
        const double size = std::max(m_residuals.cwiseAbs().mean(), 1e-300);
        // Multipliers: residual = s' − z' with both above 0.
        for (Index i = 0; i < n; ++i) {
            const double e = m_residuals[i];
            z[i] = std::max(-e, 0.0) + 1e-2 * size;
            s[i] = std::max(e, 0.0) + 1e-2 * size;
            if (m_w[i] == 0) a[i] = slack[i] = 0;
        }
        const VectorXd right = m_p.crossProduct((1 - m_share) * m_w);
        said.converged = false;
        for (int step = 0; step < 80; ++step) {
            m_progress.checkpoint(std::min(0.9, step / 30.0), "Quantile, step " + std::to_string(step + 1));
            m_p.apply(m_solution, fitted);
            long double gapSum = 0;
            double active = 0;
            for (Index i = 0; i < n; ++i)
                if (m_w[i] > 0) {
                    gapSum +=
                        static_cast<long double>(a[i]) * z[i] + static_cast<long double>(slack[i]) * s[i];
                    ++active;
                }
            const double gap = static_cast<double>(gapSum);
            said.iterations = step;
            if (gap <= 1e-11 * size * active) {
                said.converged = true;
                break;
            }
            // Dual residual: y − Pc − s + z; primal residual: right − P'a.
            for (Index i = 0; i < n; ++i)
                q[i] = m_w[i] > 0 ? 1 / (z[i] / a[i] + s[i] / slack[i]) : 0;
            const Eigen::LDLT<MatrixXd> factor = m_p.product(q).ldlt();
            const VectorXd lacking = right - m_p.crossProduct(a);
            // Δa = q(e_d − PΔc + corr) where e_d = y − Pc − s + z and corr collects the complementarities.
            const auto direction = [&](const auto& target) {
                for (Index i = 0; i < n; ++i)
                    r[i] = m_w[i] > 0 ? m_y[i] - fitted[i] + target(i) : 0;
                const VectorXd dc = factor.solve(m_p.crossProduct(q.cwiseProduct(r)) - lacking);
                m_p.apply(dc, correction);
                for (Index i = 0; i < n; ++i)
                    da[i] = q[i] * (r[i] - correction[i]);
                return dc;
            };
            // Affine step: z + Δz = −(z/a)Δa, s + Δs = (s/slack)Δa.
            VectorXd dc = direction([](Index) { return 0.0; });
            for (Index i = 0; i < n; ++i) {
                if (m_w[i] == 0) {
                    dz[i] = ds[i] = 0;
                    continue;
                }
                dz[i] = -z[i] - z[i] / a[i] * da[i];
                ds[i] = -s[i] + s[i] / slack[i] * da[i];
            }
            double primal = std::min(stepTo(a, da), stepTo(slack, -da));
            double dual = std::min(stepTo(z, dz), stepTo(s, ds));
            if (std::min(primal, dual) < 1) {
                long double ahead = 0;
                for (Index i = 0; i < n; ++i)
                    if (m_w[i] > 0)
                        ahead += static_cast<long double>(a[i] + primal * da[i]) * (z[i] + dual * dz[i]) +
                                 static_cast<long double>(slack[i] - primal * da[i]) * (s[i] + dual * ds[i]);
                const double ratio = static_cast<double>(ahead) / gap;
                const double mu = gap * ratio * ratio * ratio / (2 * active);
                const VectorXd daBefore = da, dzBefore = dz, dsBefore = ds;
                const auto zTarget = [&](Index i) { return (mu - daBefore[i] * dzBefore[i]) / a[i]; };
                const auto sTarget = [&](Index i) { return (mu + daBefore[i] * dsBefore[i]) / slack[i]; };
                dc = direction([&](Index i) { return zTarget(i) - sTarget(i); });
                for (Index i = 0; i < n; ++i) {
                    if (m_w[i] == 0) continue;
                    dz[i] = -z[i] - z[i] / a[i] * da[i] + zTarget(i);
                    ds[i] = -s[i] + s[i] / slack[i] * da[i] + sTarget(i);
                }
                primal = std::min(stepTo(a, da), stepTo(slack, -da));
                dual = std::min(stepTo(z, dz), stepTo(s, ds));
            }
            a += primal * da;
            slack -= primal * da;
            z += dual * dz;
            s += dual * ds;
            m_solution += dual * dc;
            if (!(primal > 1e-12) && !(dual > 1e-12)) break;
        }
        // Rows fitted exactly are those whose multiplier is away from both bounds.
        m_between = a.cwiseMin(slack);
    }

    /// Moves to a vertex near the interior solution and on along edges until no edge goes down: the optimum,
    /// which fits rank rows exactly. False when that could not be confirmed; the interior solution is kept
    /// then.
    bool toVertex() {
        const Index k = m_p.rank();
        findResiduals();
        std::vector<Index> basis = nearestBasis();
        if (static_cast<Index>(basis.size()) < k) return false;
        const VectorXd kept = m_solution;
        const double keptLoss = loss();
        for (int pivot = 0; pivot < 200; ++pivot) {
            m_progress.checkpoint(0.95, "Quantile, last steps");
            MatrixXd rows(k, k);
            VectorXd values(k);
            for (Index j = 0; j < k; ++j) {
                rows.row(j) = m_p.matrix().row(basis[static_cast<std::size_t>(j)]);
                values[j] = m_y[basis[static_cast<std::size_t>(j)]];
            }
            const Eigen::PartialPivLU<MatrixXd> lu(rows);
            m_solution = lu.solve(values);
            m_solution += lu.solve(values - rows * m_solution);
            findResiduals();
            std::vector<char> inBasis(static_cast<std::size_t>(m_y.size()), 0);
            for (const Index i : basis) {
                inBasis[static_cast<std::size_t>(i)] = 1;
                m_residuals[i] = 0;
            }
            // Σ over the others of ψ(e)w·p = −P_B'd, and optimal when every d is within [τ−1, τ]·w.
            VectorXd pull(m_y.size());
            for (Index i = 0; i < pull.size(); ++i)
                pull[i] = inBasis[static_cast<std::size_t>(i)]
                              ? 0
                              : m_w[i] * (m_residuals[i] < 0 ? m_share - 1 : m_share);
            const VectorXd d = rows.transpose().partialPivLu().solve(-m_p.crossProduct(pull));
            Index leaving = -1;
            double worst = 1e-9;
            for (Index j = 0; j < k; ++j) {
                const double w = m_w[basis[static_cast<std::size_t>(j)]];
                const double beyond =
                    std::max(d[j] - m_share * w, (m_share - 1) * w - d[j]) / std::max(w, 1e-300);
                if (beyond > worst) {
                    worst = beyond;
                    leaving = j;
                }
            }
            if (leaving < 0) return loss() <= keptLoss * (1 + 1e-9) + 1e-300 || giveBack(kept);
            if (!alongEdge(basis, leaving, d[leaving] > 0, lu)) break;
        }
        return giveBack(kept);
    }

    bool giveBack(const VectorXd& kept) {
        m_solution = kept;
        return false;
    }

    double loss() const { return checkLoss(m_residuals.cwiseProduct(m_w), m_share); }

    /// Rows that the interior solution fits exactly, as far as their columns are independent.
    std::vector<Index> nearestBasis() const {
        const Index k = m_p.rank();
        std::vector<Index> order;
        for (Index i = 0; i < m_y.size(); ++i)
            if (m_w[i] > 0) order.push_back(i);
        const auto tried = std::min<std::size_t>(order.size(), static_cast<std::size_t>(50 * k + 200));
        std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(tried), order.end(),
                          [&](Index a, Index b) {
                              const double x = m_between[a] / m_w[a], y = m_between[b] / m_w[b];
                              return x > y || (x == y && a < b);
                          });
        std::vector<Index> basis;
        MatrixXd directions(k, k);
        for (std::size_t c = 0; c < tried && static_cast<Index>(basis.size()) < k; ++c) {
            VectorXd row = m_p.matrix().row(order[c]).transpose();
            const double whole = row.norm();
            const auto have = static_cast<Index>(basis.size());
            for (int pass = 0; pass < 2; ++pass)
                row -= directions.leftCols(have) * (directions.leftCols(have).transpose() * row);
            if (!(row.norm() > 1e-7 * whole)) continue;
            directions.col(have) = row.normalized();
            basis.push_back(order[c]);
        }
        return basis;
    }

    /// Lets row `leaving` go to one side; the loss falls until the weighted slopes of the rows passed make up
    /// for it, and the row met there comes in.
    bool alongEdge(std::vector<Index>& basis, Index leaving, bool up,
                   const Eigen::PartialPivLU<MatrixXd>& lu) {
        const Index k = m_p.rank();
        VectorXd unit = VectorXd::Zero(k);
        unit[leaving] = up ? -1 : 1;
        // Moving the coefficients by t·edge changes the leaving residual by −t·unit.
        const VectorXd edge = lu.solve(unit);
        VectorXd change(m_y.size());
        m_p.apply(edge, change);
        for (const Index i : basis)
            change[i] = 0;
        change[basis[static_cast<std::size_t>(leaving)]] = unit[leaving];
        struct Met {
            double at;
            Index row;
            double turn;
        };
        std::vector<Met> met;
        double slope = 0; // of the loss along the edge
        for (Index i = 0; i < m_y.size(); ++i) {
            const double c = change[i];
            if (c == 0 || m_w[i] == 0) continue;
            const bool isLeaving = i == basis[static_cast<std::size_t>(leaving)];
            // Residual e − t·c.
            const bool below = isLeaving ? c > 0 : m_residuals[i] < 0;
            slope += -c * m_w[i] * (below ? m_share - 1 : m_share);
            if (isLeaving) continue;
            const double at = m_residuals[i] / c;
            if (at > 0 || (m_residuals[i] == 0 && c > 0)) met.push_back({at, i, std::fabs(c) * m_w[i]});
        }
        if (!(slope < 0)) return false;
        std::sort(met.begin(), met.end(),
                  [](const Met& a, const Met& b) { return a.at < b.at || (a.at == b.at && a.row < b.row); });
        for (const Met& m : met) {
            slope += m.turn;
            if (slope >= 0) {
                basis[static_cast<std::size_t>(leaving)] = m.row;
                return true;
            }
        }
        return false;
    }

    void store() {
        const double unit = m_fit.responseScale;
        const Index k = m_p.rank();
        const Index n = m_y.size();
        // Bandwidth of Hall and Sheather 1988 at 95 %, carried to the scale of the residuals.
        double rows = 0;
        for (Index i = 0; i < n; ++i)
            rows += m_w[i] > 0;
        const double at = normalQuantile(m_share);
        const double density = std::exp(-at * at / 2) / std::sqrt(2 * M_PI);
        double share = std::pow(rows, -1.0 / 3) * std::pow(normalQuantile(0.975), 2.0 / 3) *
                       std::cbrt(1.5 * density * density / (2 * at * at + 1));
        share = std::min({share, 0.999 * m_share, 0.999 * (1 - m_share)});
        std::vector<double> sorted;
        double mean = 0;
        for (Index i = 0; i < n; ++i)
            if (m_w[i] > 0) {
                sorted.push_back(m_residuals[i]);
                mean += m_residuals[i] / rows;
            }
        double squares = 0;
        for (const double e : sorted)
            squares += (e - mean) * (e - mean);
        std::sort(sorted.begin(), sorted.end());
        const double deviation = std::sqrt(squares / std::max(rows - 1, 1.0));
        const double quartiles = (quantileOfSorted(sorted, 0.75) - quantileOfSorted(sorted, 0.25)) / 1.34;
        // Half of the residuals may be 0 without all being so.
        const double spread = quartiles > 0 ? std::min(deviation, quartiles) : deviation;
        const double width = spread * (normalQuantile(m_share + share) - normalQuantile(m_share - share));
        VectorXd near(n), weightSquares(n);
        for (Index i = 0; i < n; ++i) {
            near[i] = std::fabs(m_residuals[i]) <= width ? m_w[i] / (2 * width) : 0;
            weightSquares[i] = m_w[i] * m_w[i];
        }
        const MatrixXd h = m_p.product(near);
        const Eigen::LDLT<MatrixXd> factor(h);
        const MatrixXd inverse = factor.solve(MatrixXd::Identity(k, k));
        const MatrixXd squareRoot = Eigen::LLT<MatrixXd>(m_p.product(weightSquares)).matrixL();
        const MatrixXd root = std::sqrt(m_share * (1 - m_share)) * (inverse * squareRoot);
        VectorXd b = m_fit.factor.byInverse(m_solution) / unit;
        if (m_fit.intercept) b[0] += m_fit.responseShift;
        m_fit.residuals = m_residuals / unit;
        m_fit.fitted = (m_y - m_residuals) / unit;
        m_fit.fitted.array() += m_fit.responseShift;
        long double whole = 0;
        for (Index i = 0; i < n; ++i)
            whole += static_cast<long double>(m_w[i]) * m_fit.residuals[i] * m_fit.residuals[i];
        m_fit.residualSumOfSquares = static_cast<double>(whole);
        m_fit.residualStandardDeviation = std::sqrt(m_fit.residualSumOfSquares / m_fit.degreesOfFreedom);
        m_fit.exact = false;
        m_fit.fitsExactly = m_residuals.cwiseAbs().maxCoeff() <=
                            16 * std::numeric_limits<double>::epsilon() * m_y.cwiseAbs().maxCoeff();
        m_fit.replaceCoefficients(b, root / unit, std::numeric_limits<double>::infinity());
    }

    LeastSquaresFit& m_fit;
    OrthonormalRows m_p;
    double m_share;
    Progress& m_progress;
    VectorXd m_y;
    VectorXd m_w;
    /// Coefficients in P's basis.
    VectorXd m_solution;
    VectorXd m_residuals;
    /// How far each row's multiplier is from its bounds.
    VectorXd m_between;
};

} // namespace

Iterated fitQuantile(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y, double share,
                     std::span<const double> weights, Threads threads, Progress& progress) {
    return QuantileSolver(fit, x, y, share, weights, threads, progress).solve();
}

} // namespace oxgoad
