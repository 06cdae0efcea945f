#include "estimate/linear/exact.h"

#include "base/double_double.h"
#include "estimate/linear/proof.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <vector>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// A small square matrix of double-double numbers, by row.
class Square {
public:
    explicit Square(Index size) : m_size(size), m_values(static_cast<std::size_t>(size * size)) {}
    Index size() const { return m_size; }
    DoubleDouble& operator()(Index i, Index j) { return m_values[static_cast<std::size_t>(i * m_size + j)]; }
    const DoubleDouble& operator()(Index i, Index j) const {
        return m_values[static_cast<std::size_t>(i * m_size + j)];
    }

private:
    Index m_size;
    std::vector<DoubleDouble> m_values;
};

using Vector = std::vector<DoubleDouble>;

DoubleDouble& at(Vector& v, Index i) {
    return v[static_cast<std::size_t>(i)];
}
/// Upper C with C'C = the upper triangle given; false when it is not positive definite.
bool cholesky(Square& a, const Progress& progress) {
    for (Index j = 0; j < a.size(); ++j) {
        for (Index k = 0; k < j; ++k) {
            stopIfTold(progress);
            for (Index i = j; i < a.size(); ++i)
                a(j, i) -= a(k, j) * a(k, i);
        }
        // Columns that R made orthonormal leave 1 here; little left says that R did not.
        if (!(a(j, j).hi > 1e-4)) return false;
        const DoubleDouble root = squareRoot(a(j, j));
        for (Index i = j; i < a.size(); ++i)
            a(j, i) = a(j, i) / root;
    }
    return true;
}

/// Rows of the model matrix as the reduction saw them, shifted and scaled, to twice the precision.
struct Rows {
    MatrixXd hi, lo;
    VectorXd yHi, yLo;

    void load(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
              std::span<const double> weights, Index begin, Index count) {
        const Index first = fit.intercept ? 1 : 0;
        MatrixXd rawHi(count, fit.columns), rawLo(count, fit.columns);
        x.fillExact(begin, rawHi, rawLo);
        hi.resize(count, fit.rank());
        lo.resize(count, fit.rank());
        if (first) {
            hi.col(0).setOnes();
            lo.col(0).setZero();
        }
        for (std::size_t k = 0; k < fit.kept.size(); ++k) {
            const auto j = static_cast<Index>(fit.kept[k]);
            const Index place = first + static_cast<Index>(k);
            for (Index i = 0; i < count; ++i) {
                const DoubleDouble shifted = exactSum(rawHi(i, j), -fit.shift[j]);
                const DoubleDouble value = normalised(shifted.hi, shifted.lo + rawLo(i, j));
                hi(i, place) = value.hi * fit.scale[j];
                lo(i, place) = value.lo * fit.scale[j];
            }
        }
        yHi.resize(count);
        yLo.resize(count);
        for (Index i = 0; i < count; ++i) {
            const DoubleDouble value = exactSum(y[static_cast<std::size_t>(begin + i)], -fit.responseShift);
            yHi[i] = value.hi * fit.responseScale;
            yLo[i] = value.lo * fit.responseScale;
        }
        if (weights.empty()) return;
        for (Index i = 0; i < count; ++i) {
            const DoubleDouble root = squareRoot(DoubleDouble(weights[static_cast<std::size_t>(begin + i)]));
            const auto apply = [&](double& high, double& low) {
                const DoubleDouble value = DoubleDouble(high, low) * root;
                high = value.hi;
                low = value.lo;
            };
            for (Index j = 0; j < hi.cols(); ++j)
                apply(hi(i, j), lo(i, j));
            apply(yHi[i], yLo[i]);
        }
    }
    DoubleDoubleColumn column(Index j) const { return {hi.col(j).data(), lo.col(j).data()}; }
};

void multiply(Rows& rows, Index j, DoubleDouble factor) {
    for (Index i = 0; i < rows.hi.rows(); ++i) {
        const DoubleDouble value = DoubleDouble(rows.hi(i, j), rows.lo(i, j)) * factor;
        rows.hi(i, j) = value.hi;
        rows.lo(i, j) = value.lo;
    }
}

class ExactSolver {
public:
    ExactSolver(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                std::span<const double> weights, bool keepOrthonormal, Threads threads, Progress& progress)
        : m_keep(keepOrthonormal), m_fit(fit), m_x(x), m_y(y), m_weights(weights), m_threads(threads),
          m_progress(progress), m_rank(fit.rank()), m_blockRows(std::clamp<Index>(24576 / m_rank, 64, 1024)),
          m_blocks((fit.rows + m_blockRows - 1) / m_blockRows), m_products(m_rank), m_inverse(m_rank) {}

    bool solve() {
        accumulate();
        if (!cholesky(m_products, m_progress)) return false;
        solveCoefficients();
        invert();
        residuals();
        store();
        return true;
    }

private:
    void requireRunning() const { stopIfTold(m_progress); }
    Index length(Index b) const { return std::min(m_blockRows, m_fit.rows - b * m_blockRows); }

    template <class Each> void forBlocks(double from, double to, const char* what, Each&& each) {
        std::atomic<std::size_t> done{0};
        parallelFor(static_cast<std::size_t>(m_blocks), m_threads, [&](std::size_t b) {
            m_progress.checkpoint(
                from + (to - from) * static_cast<double>(done) / static_cast<double>(m_blocks), what);
            each(static_cast<Index>(b));
            ++done;
        });
    }

    /// Z'Z and Z'y, and Z itself in doubles.
    void accumulate() {
        const MatrixXd& r = m_fit.factor.wholeTriangle();
        m_z.resize(m_fit.rows, m_rank);
        Vector reciprocals;
        for (Index j = 0; j < m_rank; ++j)
            reciprocals.push_back(DoubleDouble(1) / DoubleDouble(r(j, j)));
        const auto pairs = static_cast<std::size_t>(m_rank * (m_rank + 1) / 2 + m_rank);
        std::vector<Vector> sums(static_cast<std::size_t>(m_blocks));
        forBlocks(0.6, 0.85, "Solving to twice the precision", [&](Index b) {
            Rows rows;
            const Index n = length(b);
            rows.load(m_fit, m_x, m_y, m_weights, b * m_blockRows, n);
            for (Index j = 0; j < m_rank; ++j) {
                requireRunning();
                for (Index k = 0; k < j; ++k)
                    if (r(k, j) != 0)
                        subtractMultiple(static_cast<std::size_t>(n), rows.column(k), r(k, j),
                                         rows.hi.col(j).data(), rows.lo.col(j).data());
                multiply(rows, j, at(reciprocals, j));
            }
            Vector& sum = sums[static_cast<std::size_t>(b)];
            sum.reserve(pairs);
            for (Index j = 0; j < m_rank; ++j) {
                requireRunning();
                for (Index i = j; i < m_rank; ++i)
                    sum.push_back(sumOfProducts(static_cast<std::size_t>(n), rows.column(j), rows.column(i)));
                sum.push_back(sumOfProducts(static_cast<std::size_t>(n), rows.column(j),
                                            {rows.yHi.data(), rows.yLo.data()}));
            }
            m_z.middleRows(b * m_blockRows, n) = rows.hi;
        });
        m_cross.assign(static_cast<std::size_t>(m_rank), {});
        for (const Vector& sum : sums) {
            std::size_t next = 0;
            for (Index j = 0; j < m_rank; ++j) {
                for (Index i = j; i < m_rank; ++i)
                    m_products(j, i) += sum[next++];
                at(m_cross, j) += sum[next++];
            }
        }
    }

    /// b~ of X~ b~ ≈ y~: R⁻¹ C⁻¹ C⁻ᵀ Z'y.
    void solveCoefficients() {
        const MatrixXd& r = m_fit.factor.wholeTriangle();
        Vector v = m_cross;
        for (Index j = 0; j < m_rank; ++j) {
            for (Index k = 0; k < j; ++k)
                at(v, j) -= m_products(k, j) * at(v, k);
            at(v, j) = at(v, j) / m_products(j, j);
        }
        m_projections = v;
        for (Index j = m_rank - 1; j >= 0; --j) {
            for (Index k = j + 1; k < m_rank; ++k)
                at(v, j) -= m_products(j, k) * at(v, k);
            at(v, j) = at(v, j) / m_products(j, j);
        }
        for (Index j = m_rank - 1; j >= 0; --j) {
            for (Index k = j + 1; k < m_rank; ++k)
                at(v, j) -= DoubleDouble(r(j, k)) * at(v, k);
            at(v, j) = at(v, j) / DoubleDouble(r(j, j));
        }
        m_solution = std::move(v);
    }

    /// (C·R)⁻¹, upper triangular.
    void invert() {
        const MatrixXd& r = m_fit.factor.wholeTriangle();
        Square whole(m_rank); // C·R
        for (Index i = 0; i < m_rank; ++i)
            for (Index j = i; j < m_rank; ++j, requireRunning())
                for (Index k = i; k <= j; ++k)
                    whole(i, j) += m_products(i, k) * DoubleDouble(r(k, j));
        m_factor = MatrixXd::Zero(m_rank, m_rank);
        for (Index i = 0; i < m_rank; ++i)
            for (Index j = i; j < m_rank; ++j)
                m_factor(i, j) = whole(i, j).hi;
        for (Index j = 0; j < m_rank; ++j) {
            m_inverse(j, j) = DoubleDouble(1) / whole(j, j);
            for (Index i = j - 1; i >= 0; --i) {
                requireRunning();
                DoubleDouble sum;
                for (Index k = i + 1; k <= j; ++k)
                    sum += whole(i, k) * m_inverse(k, j);
                m_inverse(i, j) = -sum / whole(i, i);
            }
        }
    }

    void residuals() {
        MatrixXd corrector(m_rank, m_rank); // C⁻¹ is near the identity: doubles do
        corrector.setZero();
        for (Index i = 0; i < m_rank; ++i)
            for (Index j = i; j < m_rank; ++j)
                corrector(i, j) = m_products(i, j).hi;
        std::vector<DoubleDouble> squares(static_cast<std::size_t>(m_blocks));
        std::vector<VectorXd> products(squares.size());
        forBlocks(0.85, 1, "Leverages and residuals", [&](Index b) {
            Rows rows;
            const Index n = length(b), begin = b * m_blockRows;
            rows.load(m_fit, m_x, m_y, m_weights, begin, n);
            for (Index j = 0; j < m_rank; ++j)
                subtractMultiple(static_cast<std::size_t>(n), rows.column(j), at(m_solution, j),
                                 rows.yHi.data(), rows.yLo.data());
            const DoubleDoubleColumn left{rows.yHi.data(), rows.yLo.data()};
            squares[static_cast<std::size_t>(b)] = sumOfProducts(static_cast<std::size_t>(n), left, left);
            products[static_cast<std::size_t>(b)] = rows.hi.transpose() * rows.yHi;
            m_fit.residuals.segment(begin, n) = rows.yHi / m_fit.responseScale;
            if (!m_weights.empty())
                for (Index i = 0; i < n; ++i) {
                    const double w = m_weights[static_cast<std::size_t>(begin + i)];
                    m_fit.residuals[begin + i] /= w > 0 ? std::sqrt(w) : 1;
                }
            m_fit.fitted.segment(begin, n) =
                Eigen::Map<const VectorXd>(m_y.data() + begin, n) - m_fit.residuals.segment(begin, n);
            MatrixXd z = m_z.middleRows(begin, n);
            corrector.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(z);
            m_fit.leverages.segment(begin, n) = z.rowwise().squaredNorm();
            if (m_keep) m_z.middleRows(begin, n) = z;
        });
        m_orthogonal = VectorXd::Zero(m_rank);
        for (std::size_t b = 0; b < squares.size(); ++b) {
            m_squares += squares[b];
            m_orthogonal += products[b];
        }
    }

    static double normOf(const Vector& v) {
        DoubleDouble sum;
        for (const DoubleDouble& value : v)
            sum += value * value;
        return squareRoot(sum).hi;
    }

    void store() {
        LeastSquaresFit& fit = m_fit;
        const Index first = fit.intercept ? 1 : 0;
        const double unit = fit.responseScale * fit.responseScale;
        fit.residualSumOfSquares = m_squares.hi / unit;
        fit.residualStandardDeviation =
            fit.degreesOfFreedom > 0
                ? squareRoot(m_squares / DoubleDouble(fit.degreesOfFreedom)).hi / fit.responseScale
                : std::nan("");
        const double sigma = fit.residualStandardDeviation;
        fit.coefficients = VectorXd::Constant(fit.columns, std::nan(""));
        fit.standardErrors = fit.coefficients;
        Vector toNatural(static_cast<std::size_t>(m_rank)); // b0 = this · (b~0, b~)
        if (first) toNatural[0] = 1;
        DoubleDouble constant = fit.responseShift;
        if (first)
            constant +=
                DoubleDouble(m_solution[0].hi / fit.responseScale, m_solution[0].lo / fit.responseScale);
        for (std::size_t k = 0; k < fit.kept.size(); ++k) {
            const auto j = static_cast<Index>(fit.kept[k]);
            const Index place = first + static_cast<Index>(k);
            const double scale = fit.scale[j] / fit.responseScale;
            const DoubleDouble natural(at(m_solution, place).hi * scale, at(m_solution, place).lo * scale);
            fit.coefficients[j] = natural.hi;
            Vector row;
            for (Index m = place; m < m_rank; ++m)
                row.push_back(m_inverse(place, m));
            fit.standardErrors[j] = sigma * normOf(row) * fit.scale[j];
            at(toNatural, place) = -fit.shift[j] * fit.scale[j]; // exact: the scale is a power of two
            constant -= natural * DoubleDouble(fit.shift[j]);
        }
        fit.exact = true;
        MatrixXd inverse = MatrixXd::Zero(m_rank, m_rank);
        for (Index i = 0; i < m_rank; ++i) {
            for (Index j = i; j < m_rank; ++j)
                inverse(i, j) = m_inverse(i, j).hi;
            fit.projections[i] = at(m_projections, i).hi;
        }
        fit.factor = TriangularFactor(std::move(m_factor), std::move(inverse));
        VectorXd solution(m_rank);
        for (Index i = 0; i < m_rank; ++i)
            solution[i] = at(m_solution, i).hi;
        prove(fit, m_orthogonal, solution);
        if (m_keep) fit.orthonormal = std::make_shared<const MatrixXd>(std::move(m_z));
        if (!first) return;
        fit.constant = constant.hi;
        Vector effect(static_cast<std::size_t>(m_rank));
        for (Index m = 0; m < m_rank; ++m)
            for (Index k = 0; k <= m; ++k)
                at(effect, m) += at(toNatural, k) * m_inverse(k, m);
        fit.constantError = sigma * normOf(effect);
    }

    bool m_keep;
    LeastSquaresFit& m_fit;
    const RowSource& m_x;
    std::span<const double> m_y;
    std::span<const double> m_weights;
    Threads m_threads;
    Progress& m_progress;
    Index m_rank;
    Index m_blockRows;
    Index m_blocks;
    /// Z'Z, then its factor C.
    Square m_products;
    Square m_inverse;
    Vector m_cross;
    Vector m_projections;
    Vector m_solution;
    MatrixXd m_factor;
    DoubleDouble m_squares;
    MatrixXd m_z;
    /// X~'Wr.
    VectorXd m_orthogonal;
};

} // namespace

bool solveExactly(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                  std::span<const double> weights, bool keepOrthonormal, Threads threads,
                  Progress& progress) {
    return ExactSolver(fit, x, y, weights, keepOrthonormal, threads, progress).solve();
}

} // namespace oxgoad
