#include "estimate/penalised/grouped_path.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/decompositions.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>
#include <optional>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Columns that stand beside each other and come in together.
struct Group {
    Index begin = 0, size = 0;
    /// f, and f √d.
    double factor = 1, weight = 1;
    int sign = 0;
};

std::vector<Group> groupsOf(const PenaltyOptions& options) {
    std::vector<Group> groups;
    for (std::size_t j = 0; j < options.groups.size(); ++j) {
        if (j == 0 || options.groups[j] != options.groups[j - 1]) {
            Group next;
            next.begin = static_cast<Index>(j);
            next.factor = options.factors.empty() ? 1 : options.factors[j];
            next.sign = options.signs.empty() ? 0 : options.signs[j];
            groups.push_back(next);
        }
        ++groups.back().size;
    }
    for (Group& group : groups)
        group.weight = group.factor * std::sqrt(static_cast<double>(group.size));
    return groups;
}

/// How strongly a group that is out wants in.
double pullOf(const Group& group, const Eigen::Ref<const VectorXd>& own) {
    return group.size == 1 && group.sign != 0 ? std::max(0.0, group.sign * own[0]) : own.norm();
}

class BlockDescent {
public:
    BlockDescent(const PenalisedProblem& problem, const PenaltyOptions& options, bool rough,
                 Progress& progress)
        : m_p(problem), m_options(options), m_rough(rough), m_progress(progress), m_groups(groupsOf(options)),
          m_b(VectorXd::Zero(problem.columns())), m_gradient(problem.cross) {
        if (problem.naive()) {
            if (problem.columns() > 5000)
                throw Error(ErrorCode::tooFewRows,
                            countText(static_cast<std::size_t>(problem.columns())) +
                                " columns in groups on " + countText(static_cast<std::size_t>(problem.rows)) +
                                " rows",
                            {}, "Groups need two rows a column where there are more than 5,000 columns.");
            m_own = problem.z.transpose() * problem.z / static_cast<double>(problem.rows);
        }
        for (const Group& group : m_groups) {
            Basis basis;
            if (group.size > 1) {
                const SymmetricParts parts =
                    symmetricParts(gram().block(group.begin, group.begin, group.size, group.size));
                basis.values = parts.values.cwiseMax(0);
                basis.vectors = parts.vectors;
            } else {
                basis.values = gram().diagonal().segment(group.begin, 1);
                basis.vectors = MatrixXd::Ones(1, 1);
            }
            m_bases.push_back(std::move(basis));
        }
    }

    PenalisedPoint solve(double penalty) {
        m_l1 = penalty * m_options.l1Share;
        m_l2 = penalty * (1 - m_options.l1Share);
        m_progress.checkpoint(0, "Following the path of penalties");
        const double scale = std::max(std::sqrt(m_p.squares), 1e-300);
        const double enough = (m_rough ? 1e-7 : 1e-13) * scale;
        std::vector<std::size_t> in = working(enough);
        for (int round = 0; round < 200; ++round) {
            double moved = 0;
            for (int sweep = 0; sweep < 8; ++sweep) {
                moved = 0;
                for (const std::size_t g : in)
                    moved = std::max(moved, update(g));
                if (moved < enough) break;
                stopIfTold(m_progress);
            }
            if (moved >= enough) newton(in);
            m_gradient = m_p.cross - gram() * m_b;
            in = working(enough);
            if (violation(in) <= enough) break;
        }
        return pointAt(penalty);
    }

private:
    struct Basis {
        VectorXd values;
        MatrixXd vectors;
    };
    const MatrixXd& gram() const { return m_p.naive() ? m_own : m_p.gram; }

    /// Groups that are in, or want in.
    std::vector<std::size_t> working(double enough) const {
        std::vector<std::size_t> in;
        for (std::size_t g = 0; g < m_groups.size(); ++g) {
            const Group& group = m_groups[g];
            if (m_b.segment(group.begin, group.size).squaredNorm() > 0 ||
                pullOf(group, m_gradient.segment(group.begin, group.size)) > m_l1 * group.weight + enough)
                in.push_back(g);
        }
        return in;
    }

    /// The largest by which a group of the working set is off its condition.
    double violation(const std::vector<std::size_t>& in) const {
        double largest = 0;
        for (const std::size_t g : in) {
            const Group& group = m_groups[g];
            const VectorXd b = m_b.segment(group.begin, group.size);
            const double norm = b.norm();
            if (norm == 0) { // it wants in
                const double pull = pullOf(group, m_gradient.segment(group.begin, group.size));
                largest = std::max(largest, pull - m_l1 * group.weight);
                continue;
            }
            const VectorXd off = m_gradient.segment(group.begin, group.size) - m_l2 * group.factor * b -
                                 m_l1 * group.weight / norm * b;
            largest = std::max(largest, off.cwiseAbs().maxCoeff());
        }
        return largest;
    }

    /// Of ½ b'Sb − r'b + t‖b‖ + ½ s‖b‖².
    VectorXd best(std::size_t g, const VectorXd& r) const {
        const Group& group = m_groups[g];
        const double t = m_l1 * group.weight, s = m_l2 * group.factor;
        const Basis& basis = m_bases[g];
        const double floor = 1e-13 * std::max(basis.values.maxCoeff(), 0.0);
        if (group.size == 1) {
            const double over = std::fabs(r[0]) - t;
            double b =
                over > 0 && basis.values[0] > 0 ? std::copysign(over, r[0]) / (basis.values[0] + s) : 0;
            if (group.sign * b < 0) b = 0;
            return VectorXd::Constant(1, b);
        }
        VectorXd q = basis.vectors.transpose() * r;
        for (Index i = 0; i < q.size(); ++i)
            if (!(basis.values[i] > floor)) q[i] = 0; // no spread that way
        if (!(q.norm() > t)) return VectorXd::Zero(group.size);
        VectorXd c(q.size());
        if (t == 0) {
            for (Index i = 0; i < q.size(); ++i)
                c[i] = q[i] == 0 ? 0 : q[i] / (basis.values[i] + s);
            return basis.vectors * c;
        }
        // Its norm ν solves Σ q² / ((d + s) ν + t)² = 1: one over the root of it rises nearly straight.
        double low = 0, high = q.norm() / std::max(basis.values.maxCoeff() * 1e-13 + s, 1e-300);
        double norm = 0;
        for (int k = 0; k < 100; ++k) {
            double sum = 0, slope = 0;
            for (Index i = 0; i < q.size(); ++i) {
                const double d = basis.values[i] + s, below = d * norm + t;
                sum += q[i] * q[i] / (below * below);
                slope += q[i] * q[i] * d / (below * below * below);
            }
            const double value = 1 / std::sqrt(sum) - 1; // rises with the norm, from below 0
            if (value > 0)
                high = norm;
            else
                low = norm;
            double next = norm - value / (slope / (sum * std::sqrt(sum)));
            if (!(next > low && next < high)) next = std::isfinite(high) ? 0.5 * (low + high) : 2 * norm + 1;
            if (std::fabs(next - norm) <= 1e-16 * next) break;
            norm = next;
        }
        for (Index i = 0; i < q.size(); ++i)
            c[i] = q[i] == 0 ? 0 : q[i] * norm / ((basis.values[i] + s) * norm + t);
        return basis.vectors * c;
    }

    /// The most that any product moved.
    double update(std::size_t g) {
        const Group& group = m_groups[g];
        const VectorXd before = m_b.segment(group.begin, group.size);
        const auto own = gram().block(group.begin, group.begin, group.size, group.size);
        const VectorXd now = best(g, m_gradient.segment(group.begin, group.size) + own * before);
        const VectorXd by = now - before;
        if (by.squaredNorm() == 0) return 0;
        m_b.segment(group.begin, group.size) = now;
        m_gradient.noalias() -= gram().middleCols(group.begin, group.size) * by;
        const VectorXd moved = own * by;
        return moved.cwiseAbs().maxCoeff();
    }

    double lossAt(const VectorXd& b) const {
        double loss = 0.5 * b.dot(gram() * b) - b.dot(m_p.cross);
        for (const Group& group : m_groups) {
            const auto own = b.segment(group.begin, group.size);
            loss += m_l1 * group.weight * own.norm() + 0.5 * m_l2 * group.factor * own.squaredNorm();
        }
        return loss;
    }

    /// Steps on the groups that are not 0, as long as they help.
    void newton(const std::vector<std::size_t>& in) {
        std::vector<Index> columns;
        for (const std::size_t g : in)
            if (m_b.segment(m_groups[g].begin, m_groups[g].size).squaredNorm() > 0)
                for (Index k = 0; k < m_groups[g].size; ++k)
                    columns.push_back(m_groups[g].begin + k);
        const auto m = static_cast<Index>(columns.size());
        if (m == 0 || m > 1000) return; // beyond, a step takes longer than a stop may;
        double loss = lossAt(m_b);
        for (int step = 0; step < 20; ++step) {
            m_progress.checkpoint(0, "Following the path of penalties");
            MatrixXd h(m, m);
            VectorXd slope(m);
            PenalisedPoint at;
            at.standardised = m_b;
            at.penalty = m_options.l1Share > 0 ? m_l1 / m_options.l1Share : 0;
            h = groupCurvature(m_options, at, columns);
            const VectorXd gradient = m_p.cross - gram() * m_b;
            for (Index c = 0; c < m; ++c)
                for (Index d = 0; d < m; ++d)
                    h(c, d) +=
                        gram()(columns[static_cast<std::size_t>(c)], columns[static_cast<std::size_t>(d)]);
            Index c = 0;
            for (const std::size_t g : in) {
                const Group& group = m_groups[g];
                const VectorXd b = m_b.segment(group.begin, group.size);
                const double norm = b.norm();
                if (norm == 0) continue;
                for (Index k = 0; k < group.size; ++k, ++c) {
                    h(c, c) += m_l2 * group.factor;
                    slope[c] = gradient[group.begin + k] - m_l2 * group.factor * b[k] -
                               m_l1 * group.weight * b[k] / norm;
                }
            }
            h.diagonal().array() += 1e-14 * h.diagonal().maxCoeff();
            const Eigen::LDLT<MatrixXd> solver(h);
            const VectorXd by = solver.solve(slope);
            if (solver.info() != Eigen::Success || !by.allFinite()) return;
            bool helped = false;
            for (double length = 1; length > 1e-3; length /= 2) {
                VectorXd next = m_b;
                bool kept = true;
                for (Index k = 0; k < m; ++k) {
                    const Index j = columns[static_cast<std::size_t>(k)];
                    next[j] += length * by[k];
                    const int sign =
                        m_options.signs.empty() ? 0 : m_options.signs[static_cast<std::size_t>(j)];
                    kept = kept && !(sign * next[j] < 0);
                }
                // A group that would pass through 0 is left to the descent.
                for (const std::size_t g : in) {
                    const auto own = m_b.segment(m_groups[g].begin, m_groups[g].size);
                    kept = kept && own.dot(next.segment(m_groups[g].begin, m_groups[g].size)) >= 0;
                }
                if (!kept) continue;
                const double now = lossAt(next);
                if (now <= loss + 1e-15 * std::fabs(loss)) {
                    helped = true;
                    m_b = next;
                    loss = now;
                    break;
                }
            }
            const double size = m_b.cwiseAbs().maxCoeff();
            if (!helped || by.cwiseAbs().maxCoeff() <= 1e-15 * size) break;
        }
        m_gradient = m_p.cross - gram() * m_b;
    }

    PenalisedPoint pointAt(double penalty) const {
        PenalisedPoint point = pointOf(m_p, penalty, m_b);
        const double withY = m_p.squares - m_b.dot(m_p.cross);
        const double own = std::max(0.0, withY - m_b.dot(m_gradient));
        point.squares = own * static_cast<double>(m_p.rows);
        point.dualityGap = gap(own, withY);
        return point;
    }

    /// As of single columns, the residuals shrunk until no group wants more than it may.
    double gap(double own, double withY) const {
        const double null = m_p.squares / 2;
        if (!(null > 0)) return 0;
        double norms = 0, l2 = 0, shrink = 1, conjugate = 0;
        for (const Group& group : m_groups) {
            if (group.factor == 0) continue;
            const VectorXd b = m_b.segment(group.begin, group.size);
            norms += group.weight * b.norm();
            l2 += group.factor * b.squaredNorm();
            VectorXd pulled = m_gradient.segment(group.begin, group.size);
            if (m_l1 > 0) {
                pulled -= m_l2 * group.factor * b;
                const double pull = pullOf(group, pulled);
                if (pull > m_l1 * group.weight) shrink = std::min(shrink, m_l1 * group.weight / pull);
            } else if (m_l2 > 0) {
                const double pull = pullOf(group, pulled);
                conjugate += pull * pull / (2 * m_l2 * group.factor);
            }
        }
        const double primal = own / 2 + m_l1 * norms + m_l2 * l2 / 2;
        const double dual =
            m_l1 > 0 ? shrink * withY - shrink * shrink * (own + m_l2 * l2) / 2 : withY - own / 2 - conjugate;
        return std::max(0.0, primal - dual) / null;
    }

    const PenalisedProblem& m_p;
    const PenaltyOptions& m_options;
    bool m_rough;
    Progress& m_progress;
    std::vector<Group> m_groups;
    std::vector<Basis> m_bases;
    /// Z'Z/n where the problem has none.
    MatrixXd m_own;
    VectorXd m_b, m_gradient;
    double m_l1 = 0, m_l2 = 0;
};

} // namespace

std::vector<PenalisedPoint> groupedPath(const PenalisedProblem& problem, const PenaltyOptions& options,
                                        std::span<const double> penalties, PathDigits digits,
                                        Progress& progress) {
    BlockDescent descent(problem, options, digits == PathDigits::few, progress);
    std::vector<PenalisedPoint> points;
    points.reserve(penalties.size());
    for (const double penalty : penalties)
        points.push_back(descent.solve(penalty));
    return points;
}

double largestOfGroups(const PenaltyOptions& options, const VectorXd& gradient) {
    double largest = 0;
    for (const Group& group : groupsOf(options))
        if (group.weight > 0)
            largest =
                std::max(largest, pullOf(group, gradient.segment(group.begin, group.size)) / group.weight);
    return largest;
}

MatrixXd groupCurvature(const PenaltyOptions& options, const PenalisedPoint& point,
                        const std::vector<Index>& columns) {
    const auto m = static_cast<Index>(columns.size());
    MatrixXd curvature = MatrixXd::Zero(m, m);
    const double l1 = point.penalty * options.l1Share;
    std::vector<Index> place(options.groups.size(), -1);
    for (Index c = 0; c < m; ++c)
        place[static_cast<std::size_t>(columns[static_cast<std::size_t>(c)])] = c;
    for (const Group& group : groupsOf(options)) {
        const VectorXd b = point.standardised.segment(group.begin, group.size);
        const double norm = b.norm();
        if (group.size == 1 || norm == 0) continue;
        const double t = l1 * group.weight / norm;
        for (Index i = 0; i < group.size; ++i)
            for (Index k = 0; k < group.size; ++k) {
                const Index c = place[static_cast<std::size_t>(group.begin + i)],
                            d = place[static_cast<std::size_t>(group.begin + k)];
                if (c >= 0 && d >= 0) curvature(c, d) += t * ((i == k ? 1 : 0) - b[i] * b[k] / (norm * norm));
            }
    }
    return curvature;
}

} // namespace oxgoad
