#include "estimate/penalised/penalised_path.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/decompositions.h"
#include "estimate/penalised/grouped_path.h"
#include "estimate/penalised/kept_factor.h"
#include "estimate/row_blocks.h"

#include <Eigen/Cholesky>
#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <optional>
#include <utility>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

double factorOf(const PenaltyOptions& options, Index j) {
    return options.factors.empty() ? 1 : options.factors[static_cast<std::size_t>(j)];
}
int signOf(const PenaltyOptions& options, Index j) {
    return options.signs.empty() ? 0 : options.signs[static_cast<std::size_t>(j)];
}

/// Coordinate descent over one problem; warm from penalty to penalty.
class Descent {
public:
    Descent(const PenalisedProblem& problem, const PenaltyOptions& options, bool rough, Progress& progress)
        : m_p(problem), m_options(options), m_rough(rough), m_progress(progress),
          m_b(VectorXd::Zero(problem.columns())), m_gradient(problem.cross), m_curvature(problem.columns()) {
        if (m_p.naive()) {
            m_residual = m_p.y;
            m_curvature = m_p.z.colwise().squaredNorm().transpose() / n();
        } else {
            m_curvature = m_p.gram.diagonal();
        }
        for (Index j = 0; j < m_b.size(); ++j)
            if (!m_p.constant[static_cast<std::size_t>(j)] && factorOf(m_options, j) == 0)
                m_free.push_back(j);
    }

    PenalisedPoint solve(double penalty) {
        m_l1 = penalty * m_options.l1Share;
        m_l2 = penalty * (1 - m_options.l1Share);
        m_progress.checkpoint(0, "Following the path of penalties");
        const double before = m_before.value_or(penalty);
        m_before = penalty;
        choose(m_options.l1Share * (2 * penalty - before));
        // The columns and signs of the penalty before, and all without an l1 part, need no descent.
        bool done = m_l1 == 0 || (m_solved && !enoughByDescent()) ? settle() : false;
        const double start = m_rough ? 1e-9 : 1e-12;
        for (double tolerance = start; !done; tolerance *= 1e-3) {
            descend(tolerance);
            if (enoughByDescent()) {
                const bool more = addViolators();
                done = !more && (m_rough || gapNow() < 1e-11);
                if (more) tolerance = start * 1e3; // and once more with them
            } else {
                done = settle();
                if (!done && addViolators()) tolerance = start * 1e3;
            }
            if (tolerance < 1e-27) done = true;
        }
        m_solved = true;
        return pointAt(penalty);
    }

    /// Near the solution, on the way to another penalty.
    void approach(double penalty) {
        const bool rough = std::exchange(m_rough, true);
        solve(penalty);
        m_rough = rough;
    }

private:
    double n() const { return static_cast<double>(m_p.rows); }

    /// Columns that are in are too many to be solved for at every penalty: descent goes to where the dual
    /// says that nothing is left to gain, or, where digits matter little, until nothing moves.
    bool enoughByDescent() const {
        const Index most = !m_rough ? 500 : m_p.naive() ? 60 : 300;
        return m_l1 > 0 && (m_b.array() != 0).count() > most;
    }

    /// Working set: what is in, and what the strong rule does not pass over.
    void choose(double bound) {
        m_set.clear();
        for (Index j = 0; j < m_b.size(); ++j)
            if (!m_p.constant[static_cast<std::size_t>(j)] &&
                (m_b[j] != 0 || m_l1 == 0 || !(pull(j) < factorOf(m_options, j) * bound)))
                m_set.push_back(j);
    }

    /// How strongly a column that is out wants in: the gradient in a direction its sign may take.
    double pull(Index j) const {
        const int sign = signOf(m_options, j);
        return sign == 0 ? std::fabs(m_gradient[j]) : std::max(0.0, sign * m_gradient[j]);
    }

    double gradientAt(Index j) const {
        return m_p.naive() ? m_p.z.col(j).dot(m_residual) / n() : m_gradient[j];
    }

    void move(Index j, double by) {
        m_b[j] += by;
        m_fresh = false;
        if (m_p.naive())
            m_residual -= by * m_p.z.col(j);
        else
            m_gradient -= by * m_p.gram.col(j);
    }

    double updated(Index j) const {
        const double f = factorOf(m_options, j);
        const double z = gradientAt(j) + m_curvature[j] * m_b[j];
        const double over = std::fabs(z) - m_l1 * f;
        if (!(over > 0)) return 0;
        const double b = std::copysign(over, z) / (m_curvature[j] + m_l2 * f);
        const int sign = signOf(m_options, j);
        return sign * b < 0 ? 0 : b;
    }

    /// One pass over some columns; the largest change of the loss.
    double pass(const std::vector<Index>& columns) {
        double largest = 0;
        for (const Index j : columns) {
            const double by = updated(j) - m_b[j];
            if (by == 0) continue;
            move(j, by);
            largest = std::max(largest, m_curvature[j] * by * by);
        }
        return largest;
    }

    void descend(double tolerance) {
        const double enough = tolerance * std::max(m_p.squares, 1e-300);
        std::vector<Index> inside;
        // Columns that nearly repeat each other crawl: what follows goes on from where that got.
        int left = 400;
        while (left-- > 0) {
            stopIfTold(m_progress);
            if (!(pass(m_set) > enough)) return;
            inside.clear();
            for (const Index j : m_set)
                if (m_b[j] != 0) inside.push_back(j);
            while (left-- > 0 && pass(inside) > enough) {
            }
        }
    }

    void refreshGradient() {
        if (!m_p.naive() || m_fresh) return;
        // Each column by itself: the same for any number of threads.
        constexpr Index some = 256;
        parallelFor(static_cast<std::size_t>((m_b.size() + some - 1) / some), {}, [&](std::size_t k) {
            const Index begin = static_cast<Index>(k) * some, count = std::min(some, m_b.size() - begin);
            m_gradient.segment(begin, count).noalias() =
                m_p.z.middleCols(begin, count).transpose() * m_residual / n();
        });
        m_fresh = true;
    }

    /// Columns outside the working set that the optimality conditions ask for; true when there were any.
    bool addViolators() {
        refreshGradient();
        std::vector<std::uint8_t> in(static_cast<std::size_t>(m_b.size()), 0);
        for (const Index j : m_set)
            in[static_cast<std::size_t>(j)] = 1;
        const std::size_t before = m_set.size();
        for (Index j = 0; j < m_b.size(); ++j)
            if (!in[static_cast<std::size_t>(j)] && !m_p.constant[static_cast<std::size_t>(j)] &&
                pull(j) > m_l1 * factorOf(m_options, j) * (1 + 1e-10))
                m_set.push_back(j);
        std::sort(m_set.begin(), m_set.end());
        return m_set.size() > before;
    }

    /// From where descent got to the solution itself: solves for the columns that are in, with their signs,
    /// goes there as far as no coefficient changes its sign, drops the one that does, and takes in what the
    /// optimality conditions ask for (active sets: Osborne, Presnell and Turlach 2000, IMA Journal of
    /// Numerical Analysis 20). False, and nothing changed, where that does not end soon.
    bool settle() {
        std::vector<Index> active;
        std::vector<int> sign(static_cast<std::size_t>(m_b.size()), 0);
        for (const Index j : m_set) {
            if (m_l1 == 0 && signOf(m_options, j) != 0) return false; // which are at 0 is not known yet
            if (m_b[j] != 0 || factorOf(m_options, j) == 0 || m_l1 == 0) active.push_back(j);
            sign[static_cast<std::size_t>(j)] = m_b[j] > 0 ? 1 : m_b[j] < 0 ? -1 : 0;
        }
        const bool keptFresh = m_fresh;
        const VectorXd keptB = m_b, keptGradient = m_gradient, keptResidual = m_residual;
        const double rounding = 1e-14 * std::sqrt(m_p.squares);
        // Steps that take about a second at most.
        const double cube = std::pow(static_cast<double>(active.size()) + 20, 3);
        const auto most = static_cast<std::size_t>(
            std::min(3.0 * static_cast<double>(active.size()) + 20, 10 + 3e9 / cube));
        VectorXd b;
        for (std::size_t step = 0; step < most; ++step) {
            stopIfTold(m_progress);
            const auto k = static_cast<Index>(active.size());
            const Solved solved = k > 0 ? solveFor(active, sign, b) : Solved::yes;
            if (solved == Solved::dependent && slide(active, sign, b)) continue;
            if (solved != Solved::yes) break;
            double reach = 1;
            Index drop = -1;
            for (Index c = 0; c < k; ++c) {
                const Index j = active[static_cast<std::size_t>(c)];
                const int own = m_l1 > 0 && factorOf(m_options, j) > 0 ? sign[static_cast<std::size_t>(j)]
                                                                       : signOf(m_options, j);
                if (own * b[c] > 0 || own == 0) continue;
                const double at = m_b[j] == b[c] ? 0 : m_b[j] / (m_b[j] - b[c]);
                if (at < reach || drop < 0) {
                    reach = std::clamp(at, 0.0, 1.0);
                    drop = c;
                }
            }
            for (Index c = 0; c < k; ++c) {
                double& own = m_b[active[static_cast<std::size_t>(c)]];
                own = drop < 0 ? b[c] : own + reach * (b[c] - own);
            }
            if (drop >= 0) {
                m_b[active[static_cast<std::size_t>(drop)]] = 0;
                active.erase(active.begin() + drop);
                continue;
            }
            recompute(active);
            Index enters = -1;
            double worst = 0;
            for (Index j = 0; j < m_b.size(); ++j) {
                if (m_b[j] != 0 || m_p.constant[static_cast<std::size_t>(j)] ||
                    std::binary_search(active.begin(), active.end(), j))
                    continue;
                const double allowed = m_l1 * factorOf(m_options, j);
                const double over = pull(j) - allowed * (1 + 1e-9) - rounding;
                if (over > worst) {
                    worst = over;
                    enters = j;
                }
            }
            if (enters < 0) return true;
            active.insert(std::lower_bound(active.begin(), active.end(), enters), enters);
            sign[static_cast<std::size_t>(enters)] = m_gradient[enters] > 0 ? 1 : -1;
        }
        m_b = keptB;
        m_gradient = keptGradient;
        m_residual = keptResidual;
        m_fresh = keptFresh;
        return false;
    }

    /// Gradient of the coefficients as they are, from the start.
    void recompute(const std::vector<Index>& active) {
        if (m_p.naive()) {
            m_residual = m_p.y;
            for (const Index j : active)
                m_residual -= m_b[j] * m_p.z.col(j);
            m_fresh = false;
            refreshGradient();
            return;
        }
        m_gradient = m_p.cross;
        for (const Index j : active)
            m_gradient -= m_b[j] * m_p.gram.col(j);
    }

    enum class Solved { yes, no, dependent };

    /// Columns that are in say one of them together: along `null`, which changes no fitted value, goes the
    /// way on which the penalty does not grow, until a coefficient is 0; that column is out.
    bool slide(std::vector<Index>& active, const std::vector<int>& sign, VectorXd null) {
        double slope = 0;
        const auto own = [&](Index c) {
            const Index j = active[static_cast<std::size_t>(c)];
            return factorOf(m_options, j) > 0 ? sign[static_cast<std::size_t>(j)] : signOf(m_options, j);
        };
        for (Index c = 0; c < null.size(); ++c) {
            const Index j = active[static_cast<std::size_t>(c)];
            slope += factorOf(m_options, j) * sign[static_cast<std::size_t>(j)] * null[c];
        }
        if (slope > 0) null = -null;
        double reach = std::numeric_limits<double>::infinity();
        Index drop = -1;
        for (Index c = 0; c < null.size(); ++c)
            if (own(c) * null[c] < 0) {
                const double at = std::fabs(m_b[active[static_cast<std::size_t>(c)]] / null[c]);
                if (at < reach) {
                    reach = at;
                    drop = c;
                }
            }
        if (drop < 0) return false;
        for (Index c = 0; c < null.size(); ++c)
            m_b[active[static_cast<std::size_t>(c)]] += reach * null[c];
        m_b[active[static_cast<std::size_t>(drop)]] = 0;
        active.erase(active.begin() + drop);
        return true;
    }

    /// (Z_A'Z_A/n + l2 F) b = Z_A'y/n − l1 f sign. Where a column depends on those before it, `b` is a
    /// combination of columns that is 0.
    Solved solveFor(const std::vector<Index>& active, const std::vector<int>& sign, VectorXd& b) {
        const auto k = static_cast<Index>(active.size());
        VectorXd held(k), ridge(k);
        for (Index c = 0; c < k; ++c) {
            const Index j = active[static_cast<std::size_t>(c)];
            const double f = factorOf(m_options, j);
            held[c] = m_l1 * f * sign[static_cast<std::size_t>(j)];
            ridge[c] = m_l2 * f;
        }
        if (!m_p.naive()) {
            m_factor.bring(m_p.gram, active, ridge);
            // Products lose twice the digits that the condition number takes.
            const double ratio = m_factor.ratio();
            if (ratio > (m_rough ? 1e-6 : 1e-2) || !m_p.root) {
                if (!(ratio > 1e-6)) return Solved::no;
                VectorXd right(k);
                for (Index c = 0; c < k; ++c)
                    right[c] = m_p.cross[active[static_cast<std::size_t>(c)]] - held[c];
                b = m_factor.solve(right);
                if (!m_rough) { // once more on what is left
                    for (Index c = 0; c < k; ++c) {
                        const Index j = active[static_cast<std::size_t>(c)];
                        right[c] -= ridge[c] * b[c];
                        for (Index d = 0; d < k; ++d)
                            right[c] -= m_p.gram(active[static_cast<std::size_t>(d)], j) * b[d];
                    }
                    b += m_factor.solve(right);
                }
                return b.allFinite() ? Solved::yes : Solved::no;
            }
        }
        if (m_p.naive() && solveByProducts(active, held, ridge, b)) return Solved::yes;
        const MatrixXd r = m_p.naive() ? rootOfRows(active) : rootOver(active);
        MatrixXd stacked = MatrixXd::Zero(r.rows() + k, k);
        VectorXd answer = VectorXd::Zero(stacked.rows());
        stacked.topRows(r.rows()) = r.leftCols(k);
        answer.head(r.rows()) = r.col(k);
        for (Index c = 0; c < k; ++c)
            stacked(r.rows() + c, c) = std::sqrt(ridge[c]);
        const Eigen::HouseholderQR<MatrixXd> qr(stacked);
        const MatrixXd upper = qr.matrixQR().topRows(k).triangularView<Eigen::Upper>();
        for (Index c = 0; c < k; ++c) {
            if (std::fabs(upper(c, c)) > 1e-11 * upper.col(c).norm()) continue;
            b = VectorXd::Zero(k);
            b[c] = -1;
            b.head(c) = upper.topLeftCorner(c, c).triangularView<Eigen::Upper>().solve(upper.col(c).head(c));
            return b.allFinite() ? Solved::dependent : Solved::no;
        }
        VectorXd q = (qr.householderQ().transpose() * answer).head(k);
        q -= upper.triangularView<Eigen::Upper>().transpose().solve(held);
        b = upper.triangularView<Eigen::Upper>().solve(q);
        return b.allFinite() ? Solved::yes : Solved::no;
    }

    /// The same from products of the columns that were ever in, where rows are in memory; false, and nothing
    /// said, where these columns are so nearly dependent that their products lose digits.
    bool solveByProducts(const std::vector<Index>& active, const VectorXd& held, const VectorXd& ridge,
                         VectorXd& b) {
        m_products.bring(m_p.z, active);
        const auto k = static_cast<Index>(active.size());
        // In the order in which they came in.
        std::vector<Index> order(active.size()), places(active.size());
        std::iota(order.begin(), order.end(), 0);
        const auto placeOf = [&](Index c) { return m_products.placeOf(active[static_cast<std::size_t>(c)]); };
        std::sort(order.begin(), order.end(), [&](Index c, Index d) { return placeOf(c) < placeOf(d); });
        std::transform(order.begin(), order.end(), places.begin(), placeOf);
        m_factor.bring(m_products.gram(), places, ridge(order));
        if (!(m_factor.ratio() > (m_rough ? 1e-6 : 1e-2))) return false;
        VectorXd right(k);
        for (Index c = 0; c < k; ++c)
            right[c] = m_p.cross[active[static_cast<std::size_t>(c)]] - held[c];
        b.resize(k);
        b(order) = m_factor.solve(right(order));
        if (!m_rough) { // once more on what they leave of the rows
            VectorXd left = m_p.y;
            for (Index c = 0; c < k; ++c)
                left -= b[c] * m_p.z.col(active[static_cast<std::size_t>(c)]);
            for (Index c = 0; c < k; ++c)
                right[c] = m_p.z.col(active[static_cast<std::size_t>(c)]).dot(left) / n() - held[c] -
                           ridge[c] * b[c];
            b(order) += m_factor.solve(right(order));
        }
        return b.allFinite();
    }

    /// R of some columns and the response from the rows in memory.
    MatrixXd rootOfRows(const std::vector<Index>& active) const {
        const auto k = static_cast<Index>(active.size());
        MatrixXd all(m_p.rows, k + 1);
        for (Index c = 0; c < k; ++c)
            all.col(c) = m_p.z.col(active[static_cast<std::size_t>(c)]);
        all.col(k) = m_p.y;
        all /= std::sqrt(n());
        return upperTriangle(std::move(all));
    }

    /// R of some columns and the response, from that of all columns that were ever in.
    MatrixXd rootOver(const std::vector<Index>& active) {
        if (!std::includes(m_rootColumns.begin(), m_rootColumns.end(), active.begin(), active.end())) {
            std::vector<Index> all;
            std::set_union(m_rootColumns.begin(), m_rootColumns.end(), active.begin(), active.end(),
                           std::back_inserter(all));
            m_rootColumns = std::move(all);
            constexpr Index few = 600;
            if (m_p.columns() <= few) { // all at once, rather than again for every column that comes in
                m_rootColumns.clear();
                for (Index j = 0; j < m_p.columns(); ++j)
                    if (!m_p.constant[static_cast<std::size_t>(j)]) m_rootColumns.push_back(j);
            }
            m_root = m_p.root(m_rootColumns);
        }
        const auto k = static_cast<Index>(active.size());
        MatrixXd some(m_root.rows(), k + 1);
        for (Index c = 0; c < k; ++c)
            some.col(c) = m_root.col(std::lower_bound(m_rootColumns.begin(), m_rootColumns.end(),
                                                      active[static_cast<std::size_t>(c)]) -
                                     m_rootColumns.begin());
        some.col(k) = m_root.col(m_root.cols() - 1);
        return upperTriangle(std::move(some));
    }

    PenalisedPoint pointAt(double penalty) {
        refreshGradient();
        PenalisedPoint point = pointOf(m_p, penalty, m_b);
        const double withY = m_p.squares - m_b.dot(m_p.cross); // y'r/n
        const double own =
            m_p.naive() ? m_residual.squaredNorm() / n() : std::max(0.0, withY - m_b.dot(m_gradient));
        point.squares = own * n();
        point.dualityGap = gap(own, withY);
        return point;
    }

    /// Of the coefficients as they are; the gradient is up to date.
    double gapNow() const {
        const double withY = m_p.squares - m_b.dot(m_p.cross);
        const double own =
            m_p.naive() ? m_residual.squaredNorm() / n() : std::max(0.0, withY - m_b.dot(m_gradient));
        return gap(own, withY);
    }

    double gap(double own, double withY) const {
        const double null = m_p.squares / 2;
        if (!(null > 0)) return 0;
        double l1 = 0, l2 = 0, shrink = 1, conjugate = 0;
        for (Index j = 0; j < m_b.size(); ++j) {
            const double f = factorOf(m_options, j);
            if (m_p.constant[static_cast<std::size_t>(j)] || f == 0) continue;
            l1 += f * std::fabs(m_b[j]);
            l2 += f * m_b[j] * m_b[j];
            if (m_l1 > 0) {
                const double g = m_gradient[j] - m_l2 * f * m_b[j];
                const int sign = signOf(m_options, j);
                const double pulled = sign == 0 ? std::fabs(g) : std::max(0.0, sign * g);
                if (pulled > m_l1 * f) shrink = std::min(shrink, m_l1 * f / pulled);
            } else if (m_l2 > 0) {
                const int sign = signOf(m_options, j);
                const double g = sign == 0 ? m_gradient[j] : std::max(0.0, sign * m_gradient[j]);
                conjugate += g * g / (2 * m_l2 * f);
            }
        }
        const double primal = own / 2 + m_l1 * l1 + m_l2 * l2 / 2;
        // The dual at the residuals, shrunk until it is allowed; the ridge part counts as rows of its own.
        const double dual =
            m_l1 > 0 ? shrink * withY - shrink * shrink * (own + m_l2 * l2) / 2 : withY - own / 2 - conjugate;
        return std::max(0.0, primal - dual) / null;
    }

    const PenalisedProblem& m_p;
    const PenaltyOptions& m_options;
    bool m_rough;
    Progress& m_progress;
    VectorXd m_b;
    /// Z'(y − Zb)/n; where columns outnumber rows only as it was last asked for.
    VectorXd m_gradient;
    VectorXd m_curvature, m_residual;
    std::vector<Index> m_set, m_free;
    double m_l1 = 0, m_l2 = 0;
    std::optional<double> m_before;
    bool m_solved = false;
    /// The gradient is that of the coefficients as they are.
    bool m_fresh = true;
    KeptFactor m_factor;
    ProductsOfColumns m_products;
    std::vector<Index> m_rootColumns;
    MatrixXd m_root;
};

} // namespace

PenalisedPoint pointOf(const PenalisedProblem& problem, double penalty, const VectorXd& standardised) {
    PenalisedPoint point;
    point.penalty = penalty;
    point.standardised = standardised;
    point.coefficients = VectorXd::Zero(standardised.size());
    point.constant = problem.responseMean;
    for (Index j = 0; j < standardised.size(); ++j) {
        if (standardised[j] == 0) continue;
        ++point.kept;
        point.coefficients[j] = standardised[j] / problem.scale[j];
        point.constant -= point.coefficients[j] * problem.mean[j];
    }
    if (!problem.intercept) point.constant = 0;
    return point;
}

double largestPenalty(const PenalisedProblem& problem, const PenaltyOptions& options) {
    // Beside the columns that are not penalised, fitted alone.
    PenaltyOptions alone = options;
    alone.l1Share = 1;
    alone.groups.clear();
    Progress quiet;
    double largest = 0;
    VectorXd gradient = problem.cross;
    const bool any = !options.factors.empty() && std::any_of(options.factors.begin(), options.factors.end(),
                                                             [](double f) { return f == 0; });
    if (any) {
        double most = 0;
        for (Index j = 0; j < problem.columns(); ++j)
            if (const double f = factorOf(options, j); f > 0)
                most = std::max(most, std::sqrt(problem.squares) * 1e3 / f);
        const std::vector<double> one{most};
        const PenalisedPoint point = penalisedPath(problem, alone, one, quiet).front();
        if (problem.naive())
            gradient -=
                problem.z.transpose() * (problem.z * point.standardised) / static_cast<double>(problem.rows);
        else
            gradient -= problem.gram * point.standardised;
    }
    if (!options.groups.empty()) return largestOfGroups(options, gradient) / std::max(options.l1Share, 0.001);
    for (Index j = 0; j < problem.columns(); ++j) {
        const double f = factorOf(options, j);
        if (!(f > 0)) continue;
        const int sign = signOf(options, j);
        const double pulled = sign == 0 ? std::fabs(gradient[j]) : std::max(0.0, sign * gradient[j]);
        largest = std::max(largest, pulled / f);
    }
    return largest / std::max(options.l1Share, 0.001);
}

std::vector<double> usualPenalties(const PenalisedProblem& problem, const PenaltyOptions& options) {
    constexpr int count = 100;
    const double largest = largestPenalty(problem, options);
    const double ratio = problem.rows > problem.columns() ? 1e-4 : 1e-2;
    std::vector<double> penalties;
    for (int k = 0; k < count; ++k)
        penalties.push_back(largest * std::pow(ratio, static_cast<double>(k) / (count - 1)));
    return penalties;
}

std::vector<PenalisedPoint> penalisedPath(const PenalisedProblem& problem, const PenaltyOptions& options,
                                          std::span<const double> penalties, Progress& progress,
                                          PathDigits digits) {
    if (!options.groups.empty()) return groupedPath(problem, options, penalties, digits, progress);
    Descent descent(problem, options, digits == PathDigits::few, progress);
    std::vector<PenalisedPoint> points;
    points.reserve(penalties.size());
    for (const double penalty : penalties)
        points.push_back(descent.solve(penalty));
    return points;
}

PenalisedPoint penalisedPoint(const PenalisedProblem& problem, const PenaltyOptions& options, double penalty,
                              Progress& progress) {
    std::vector<double> way;
    const double largest = largestPenalty(problem, options);
    constexpr int steps = 12;
    if (options.l1Share > 0)
        for (int k = 1; k < steps && penalty > 0 && penalty < largest; ++k)
            way.push_back(largest * std::pow(penalty / largest, static_cast<double>(k) / steps));
    if (!options.groups.empty()) {
        way.push_back(penalty);
        return groupedPath(problem, options, way, PathDigits::all, progress).back();
    }
    Descent descent(problem, options, false, progress);
    for (const double each : way)
        descent.approach(each);
    return descent.solve(penalty);
}

KeptColumns keptColumns(const PenalisedProblem& p, const PenaltyOptions& options,
                        const PenalisedPoint& point) {
    KeptColumns kept;
    for (Index j = 0; j < p.columns(); ++j)
        if (point.standardised[j] != 0) kept.columns.push_back(j);
    const auto k = static_cast<Index>(kept.columns.size());
    kept.gram.resize(k, k);
    for (Index c = 0; c < k; ++c)
        for (Index d = 0; d <= c; ++d) {
            const Index i = kept.columns[static_cast<std::size_t>(c)],
                        j = kept.columns[static_cast<std::size_t>(d)];
            kept.gram(c, d) = kept.gram(d, c) =
                p.naive() ? p.z.col(i).dot(p.z.col(j)) / static_cast<double>(p.rows) : p.gram(i, j);
        }
    MatrixXd held = kept.gram;
    for (Index c = 0; c < k; ++c)
        held(c, c) += point.penalty * (1 - options.l1Share) *
                      factorOf(options, kept.columns[static_cast<std::size_t>(c)]);
    if (!options.groups.empty()) held += groupCurvature(options, point, kept.columns);
    // A hair where columns kept are the same.
    held.diagonal().array() += 1e-14 * std::max(1.0, k > 0 ? held.diagonal().maxCoeff() : 1.0);
    kept.solver.compute(held);
    return kept;
}

PenalisedPoint relaxedPoint(const PenalisedProblem& p, const PenaltyOptions& options,
                            std::span<const Index> columns, Progress& progress) {
    const auto k = static_cast<Index>(columns.size());
    PenalisedProblem some;
    some.rows = p.rows;
    some.intercept = p.intercept;
    some.responseMean = p.responseMean;
    some.squares = p.squares;
    some.y = p.y;
    some.mean.resize(k);
    some.scale.resize(k);
    some.cross.resize(k);
    some.constant.resize(columns.size());
    PenaltyOptions none;
    none.l1Share = 0;
    none.standardise = options.standardise;
    none.intercept = options.intercept;
    if (p.naive())
        some.z.resize(p.z.rows(), k);
    else
        some.gram.resize(k, k);
    for (Index c = 0; c < k; ++c) {
        const Index j = columns[static_cast<std::size_t>(c)];
        some.mean[c] = p.mean[j];
        some.scale[c] = p.scale[j];
        some.cross[c] = p.cross[j];
        some.constant[static_cast<std::size_t>(c)] = p.constant[static_cast<std::size_t>(j)];
        if (!options.signs.empty()) none.signs.push_back(signOf(options, j));
        if (p.naive()) {
            some.z.col(c) = p.z.col(j);
            continue;
        }
        for (Index d = 0; d < k; ++d)
            some.gram(d, c) = p.gram(columns[static_cast<std::size_t>(d)], j);
    }
    if (p.root)
        some.root = [&](const std::vector<Index>& of) {
            std::vector<Index> own;
            for (const Index c : of)
                own.push_back(columns[static_cast<std::size_t>(c)]);
            return p.root(own);
        };
    PenalisedPoint found;
    if (k > 0) {
        const std::vector<double> zero{0.0};
        found = penalisedPath(some, none, zero, progress).front();
    } else {
        found.constant = p.intercept ? p.responseMean : 0;
        found.squares = p.squares * static_cast<double>(p.rows);
    }
    const VectorXd own = found.coefficients, standardised = found.standardised;
    found.coefficients = VectorXd::Zero(p.columns());
    found.standardised = VectorXd::Zero(p.columns());
    for (Index c = 0; c < k; ++c) {
        found.coefficients[columns[static_cast<std::size_t>(c)]] = own[c];
        found.standardised[columns[static_cast<std::size_t>(c)]] = standardised[c];
    }
    return found;
}

double effectiveDegreesOfFreedom(const PenalisedProblem& problem, const PenaltyOptions& options,
                                 const PenalisedPoint& point) {
    const double constant = problem.intercept ? 1 : 0;
    if ((options.l1Share == 1 && options.groups.empty()) || point.penalty == 0)
        return static_cast<double>(point.kept) + constant;
    const KeptColumns kept = keptColumns(problem, options, point);
    return kept.columns.empty() ? constant : kept.solver.solve(kept.gram).trace() + constant;
}

VectorXd penalisedLeverages(const PenalisedProblem& problem, const PenaltyOptions& options,
                            const PenalisedPoint& point, const RowSource& x, std::span<const double> weights,
                            Threads threads, Progress& progress) {
    const KeptColumns kept = keptColumns(problem, options, point);
    const auto k = static_cast<Index>(kept.columns.size());
    double whole = static_cast<double>(x.rows());
    if (!weights.empty()) whole = Eigen::Map<const VectorXd>(weights.data(), x.rows()).sum();
    VectorXd leverages(x.rows());
    forRowBlocks(x, threads, progress, [&](Index begin, const MatrixXd& raw) {
        MatrixXd z(k, raw.rows());
        for (Index c = 0; c < k; ++c) {
            const Index j = kept.columns[static_cast<std::size_t>(c)];
            z.row(c) = ((raw.col(j).array() - problem.mean[j]) / problem.scale[j]).matrix().transpose();
        }
        kept.solver.matrixL().solveInPlace(z);
        for (Index i = 0; i < raw.rows(); ++i) {
            const double w = weights.empty() ? 1 : weights[static_cast<std::size_t>(begin + i)];
            leverages[begin + i] = w * ((problem.intercept ? 1 / whole : 0) +
                                        z.col(i).squaredNorm() / static_cast<double>(problem.rows));
        }
    });
    return leverages;
}

} // namespace oxgoad
