#include "estimate/penalised/optimality.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

using Eigen::Index;
using Eigen::VectorXd;

double fromOptimum(const PenalisedProblem& problem, const PenaltyOptions& options,
                   const PenalisedPoint& point, const VectorXd& gradient) {
    const double l1 = point.penalty * options.l1Share, l2 = point.penalty * (1 - options.l1Share);
    const VectorXd lengths =
        problem.naive() ? VectorXd(problem.z.colwise().norm() / std::sqrt(static_cast<double>(problem.rows)))
                        : VectorXd(problem.gram.diagonal().cwiseMax(0).cwiseSqrt());
    const double rounding =
        64 * std::numeric_limits<double>::epsilon() *
        (std::fabs(problem.responseMean) + point.coefficients.cwiseAbs().dot(problem.mean.cwiseAbs()));
    double worst = 0;
    for (Index begin = 0, end; begin < problem.columns(); begin = end) {
        const auto first = static_cast<std::size_t>(begin);
        end = begin + 1;
        if (!options.groups.empty())
            while (end < problem.columns() &&
                   options.groups[static_cast<std::size_t>(end)] == options.groups[first])
                ++end;
        const double factor = options.factors.empty() ? 1 : options.factors[first];
        const auto b = point.standardised.segment(begin, end - begin);
        const double norm = b.norm();
        if (problem.constant[first] || (!std::isfinite(factor) && norm == 0)) continue;
        const VectorXd pulled = gradient.segment(begin, end - begin) - l2 * factor * b;
        const double most = l1 * factor * std::sqrt(static_cast<double>(end - begin));
        double departure = 0;
        if (norm > 0) {
            departure = (pulled - most / norm * b).norm();
        } else {
            const int sign = options.signs.empty() || end - begin > 1 ? 0 : options.signs[first];
            departure = std::max(0.0, (sign != 0 ? sign * pulled[0] : pulled.norm()) - most);
        }
        const double allowed =
            lengths.segment(begin, end - begin).norm() * (1e-6 * std::sqrt(problem.squares) + rounding);
        const double share = allowed > 0 ? departure / allowed : departure > 0 ? INFINITY : 0;
        if (!(share <= worst)) worst = share;
    }
    return worst;
}

} // namespace oxgoad
