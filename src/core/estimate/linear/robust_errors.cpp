#include "estimate/linear/robust_errors.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/decompositions.h"
#include "estimate/linear/apart_scores.h"
#include "estimate/row_blocks.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double fixedLeft = 1e-10;

/// Calls each(begin, P, e) for blocks of rows: P = X~R⁻¹ and the residuals, both times the square roots of
/// the weights.
template <class Each>
void forWeightedRows(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                     Threads threads, Progress& progress, Each&& each) {
    const Index size = rowsOfBlock(x.columns());
    parallelFor(static_cast<std::size_t>((x.rows() + size - 1) / size), threads, [&](std::size_t b) {
        stopIfTold(progress);
        const Index begin = static_cast<Index>(b) * size, count = std::min(size, x.rows() - begin);
        VectorXd e = fit.residuals.segment(begin, count);
        VectorXd roots = VectorXd::Ones(count);
        if (!weights.empty())
            roots = Eigen::Map<const VectorXd>(weights.data() + begin, count).array().sqrt();
        e = e.cwiseProduct(roots);
        MatrixXd p;
        if (fit.orthonormal) {
            p = fit.orthonormal->middleRows(begin, count);
        } else {
            MatrixXd raw(count, x.columns());
            x.fill(begin, raw);
            p = fit.inOrthonormalBasis(raw);
            p.array().colwise() *= roots.array();
        }
        each(begin, p, e);
    });
}

double spreadFactor(CovarianceKind kind, double leverage) {
    const double left = 1 - leverage;
    if (left < fixedLeft) return 0;
    return kind == CovarianceKind::hc2 ? 1 / left : kind == CovarianceKind::hc3 ? 1 / (left * left) : 1;
}

/// R' of the rows given, so that R'R is their product without having been formed: small directions keep their
/// digits.
MatrixXd rootOfRows(const MatrixXd& rows) {
    if (rows.rows() <= rows.cols()) return rows.transpose();
    return upperTriangle(rows).transpose();
}

/// Scores e·p summed within each unit: units × rank. Sums of a unit may span blocks, so in the order of rows.
MatrixXd scoresByUnit(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                      std::span<const std::uint32_t> units, std::size_t count, Progress& progress) {
    MatrixXd scores = MatrixXd::Zero(static_cast<Index>(count), fit.rank());
    forWeightedRows(fit, x, weights, Threads{1}, progress,
                    [&](Index begin, const MatrixXd& p, const VectorXd& e) {
                        for (Index i = 0; i < p.rows(); ++i)
                            if (1 - fit.leverages[begin + i] >= fixedLeft)
                                scores.row(units[static_cast<std::size_t>(begin + i)]) += e[i] * p.row(i);
                    });
    return scores;
}

/// Scores e·√w times √w of rows that do not fix their own value, as the factor's levels are apart.
std::vector<double> weightedResiduals(const LeastSquaresFit& fit, std::span<const double> weights) {
    std::vector<double> scores(static_cast<std::size_t>(fit.residuals.size()));
    for (std::size_t i = 0; i < scores.size(); ++i) {
        const auto at = static_cast<Index>(i);
        if (1 - fit.leverages[at] >= fixedLeft)
            scores[i] = (weights.empty() ? 1 : weights[i]) * fit.residuals[at];
    }
    return scores;
}

/// The same for each kind, n and df those of the fit.
DirectionRows rootApart(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                        CovarianceKind kind, std::span<const std::uint32_t> units, std::size_t count,
                        int lags, double n, Threads threads, Progress& progress) {
    const ApartScores scores(fit, x, threads, progress);
    const double df = fit.degreesOfFreedom, g = static_cast<double>(count);
    const std::vector<double> e = weightedResiduals(fit, weights);
    if (kind == CovarianceKind::clustered) {
        DirectionRows root = scores.byUnit(e, units, count);
        root.multiply(std::sqrt(g / (g - 1) * (n - 1) / df));
        return root;
    }
    if (kind == CovarianceKind::autocorrelated) {
        DirectionRows root = windowsOf(scores.byUnit(e, units, count), lags);
        root.multiply(std::sqrt(n / df / (lags + 1)));
        return root;
    }
    std::vector<double> squared(e.size());
    for (std::size_t i = 0; i < e.size(); ++i)
        squared[i] = e[i] * e[i] * spreadFactor(kind, fit.leverages[static_cast<Index>(i)]);
    DirectionRows root = scores.root(squared);
    if (kind == CovarianceKind::hc1) root.multiply(std::sqrt(n / df));
    return root;
}

/// What the groups' rows of P are: P'P within each as V diag(s) V', all that the adjustment needs, so that
/// nothing of the size of a group squared is held.
class AdjustedGroups final : public FewGroups {
public:
    AdjustedGroups(std::vector<MatrixXd> products, std::vector<MatrixXd> own)
        : m_products(std::move(products)), m_own(std::move(own)) {}
    AdjustedGroups(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                   std::span<const std::uint32_t> units, std::size_t count, Progress& progress)
        : m_products(count, MatrixXd::Zero(fit.rank(), fit.rank())),
          m_scores(scoresByUnit(fit, x, weights, units, count, progress)) {
        forWeightedRows(fit, x, weights, Threads{1}, progress,
                        [&](Index begin, const MatrixXd& p, const VectorXd&) {
                            for (Index i = 0; i < p.rows(); ++i)
                                m_products[units[static_cast<std::size_t>(begin + i)]]
                                    .selfadjointView<Eigen::Lower>()
                                    .rankUpdate(p.row(i).transpose());
                        });
        for (std::size_t g = 0; g < count; ++g) {
            progress.checkpoint(static_cast<double>(g) / static_cast<double>(count), "Adjusting groups");
            const SymmetricParts eigen = symmetricParts(m_products[g]);
            // (1 − s)^(−1/2), and 0 where the group alone says all of a direction (Moore and Penrose's
            // inverse).
            const VectorXd s = eigen.values.cwiseMax(0);
            VectorXd adjust(s.size());
            for (Index i = 0; i < s.size(); ++i)
                adjust[i] = 1 - s[i] > 1e-10 ? 1 / std::sqrt(1 - s[i]) : 0;
            const MatrixXd& v = eigen.vectors;
            m_scores.row(static_cast<Index>(g)) =
                m_scores.row(static_cast<Index>(g)) * v * adjust.asDiagonal() * v.transpose();
            m_own.push_back(v * (s.array() * adjust.array().square()).matrix().asDiagonal() * v.transpose());
            m_products[g] = v * (s.array() * adjust.array()).matrix().asDiagonal() * v.transpose();
        }
    }

    const MatrixXd& scores() const { return m_scores; }
    const std::vector<MatrixXd>& products() const override { return m_products; }
    const std::vector<MatrixXd>& own() const override { return m_own; }

    double degreesOfFreedom(const VectorXd& a) const override { return wishartDegreesOfFreedom(a); }

    /// η = q(q+1) / Σ Var(d_st) over the entries of the covariance in units of what it is expected to be,
    /// rows independent and of equal spread (Pustejovsky and Tipton 2018, eq. 15).
    double wishartDegreesOfFreedom(const MatrixXd& directions) const override {
        const Index q = directions.cols();
        const auto groups = static_cast<Index>(m_own.size());
        // In units of the expected covariance: Q'Q, as the adjusted one is unbiased, but where a group alone
        // says all of a direction.
        MatrixXd a = directions;
        MatrixXd expected = MatrixXd::Zero(q, q);
        for (Index g = 0; g < groups; ++g) {
            const MatrixXd across = m_products[static_cast<std::size_t>(g)] * a;
            expected += a.transpose() * m_own[static_cast<std::size_t>(g)] * a - across.transpose() * across;
        }
        const Eigen::LLT<MatrixXd> factor(expected);
        if (factor.info() != Eigen::Success) return std::nan("");
        const MatrixXd l = factor.matrixL();
        l.triangularView<Eigen::Lower>().transpose().solveInPlace<Eigen::OnTheRight>(a);
        std::vector<MatrixXd> u; // q columns a group: P_g'v_g
        for (Index g = 0; g < groups; ++g)
            u.push_back(m_products[static_cast<std::size_t>(g)] * a);
        double variances = 0;
        for (Index g = 0; g < groups; ++g)
            for (Index h = 0; h <= g; ++h) {
                MatrixXd b = -(u[static_cast<std::size_t>(g)].transpose() * u[static_cast<std::size_t>(h)]);
                if (g == h) b += a.transpose() * m_own[static_cast<std::size_t>(g)] * a;
                // Σ over s, t of b_ss·b_tt + b_st·b_ts.
                const double trace = b.trace();
                variances += (g == h ? 1 : 2) * (trace * trace + (b * b).trace());
            }
        return static_cast<double>(q) * static_cast<double>(q + 1) / variances;
    }

private:
    /// P'AP without the residual part, then V s·(1−s)^(−1/2) V'.
    std::vector<MatrixXd> m_products;
    /// V s/(1−s) V'.
    std::vector<MatrixXd> m_own;
    MatrixXd m_scores;
};

bool goApart(CovarianceKind kind, const LeastSquaresFit& fit) {
    return fit.factor.levels() > 0 && kind != CovarianceKind::homoskedastic &&
           kind != CovarianceKind::clusteredFewGroups;
}

/// Said before it is asked for: triangles of blocks of rows, or scores of groups, and the time they take.
void requireRoom(CovarianceKind kind, const LeastSquaresFit& fit, Index columns, std::size_t units,
                 int lags) {
    if (kind == CovarianceKind::homoskedastic) return;
    constexpr double mostBytes = 6e9, mostWork = 2e12;
    const auto n = static_cast<double>(fit.rows), k = static_cast<double>(fit.rank());
    const auto u = static_cast<double>(units);
    const double triangles = units > 0 ? k : std::ceil(n / static_cast<double>(rowsOfBlock(columns))) * k;
    double bytes = 8 * k * (triangles + u), work = n * k * k;
    if (goApart(kind, fit)) { // the others' columns, rows of the root, and its products with every direction
        const double rest = k - static_cast<double>(fit.factor.levels());
        const double rows = (units > 0 ? u + lags : k), entries = units > 0 ? n * (lags + 1) : k;
        bytes = 8 * ((n + rows) * (rest + 2) + 3 * entries);
        work = n * rest * rest + rows * rest * k;
    }
    if (bytes <= mostBytes && work <= mostWork) return;
    throw Error(ErrorCode::badTerm,
                "errors that stand unequal or dependent spread would need some " +
                    shortText(std::ceil(bytes / 1e9)) + " GB and " + shortText(std::ceil(work / 1e12)) +
                    " million million products for " +
                    plural(static_cast<std::size_t>(fit.rank()), "coefficient", "coefficients") + " of " +
                    plural(static_cast<std::size_t>(fit.rows), "row", "rows"),
                {}, "Keep errors for equal spread, or lump rare levels into one first.");
}

} // namespace

std::shared_ptr<const FewGroups> fewGroupsOf(std::vector<MatrixXd> products, std::vector<MatrixXd> own) {
    return std::make_shared<AdjustedGroups>(std::move(products), std::move(own));
}

int usualLags(std::size_t periods) {
    return static_cast<int>(4 * std::pow(static_cast<double>(periods) / 100, 2.0 / 9));
}

RobustErrors robustErrors(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                          CovarianceKind kind, std::span<const std::uint32_t> units, int lags,
                          Threads threads, Progress& progress) {
    const Index k = fit.rank();
    const double df = fit.degreesOfFreedom;
    const double n = df + static_cast<double>(k);
    RobustErrors errors;
    errors.degreesOfFreedom = df;
    const std::size_t count =
        units.empty() ? 0 : *std::max_element(units.begin(), units.end()) + std::size_t{1};
    requireRoom(kind, fit, x.columns(), count, lags);
    const bool apart = goApart(kind, fit);
    std::vector<Index> fixed;
    for (Index i = 0; i < fit.leverages.size(); ++i)
        if (1 - fit.leverages[i] < fixedLeft) fixed.push_back(i);
    errors.rowsFixed = fixed.size();
    switch (kind) {
    case CovarianceKind::homoskedastic:
        errors.covarianceRoot = DirectionRows(fit.residualStandardDeviation * MatrixXd::Identity(k, k));
        return errors;
    case CovarianceKind::hc0:
    case CovarianceKind::hc1:
    case CovarianceKind::hc2:
    case CovarianceKind::hc3: {
        if (apart) {
            errors.covarianceRoot =
                rootApart(fit, x, weights, kind, units, count, lags, n, threads, progress);
            break;
        }
        const Index size = rowsOfBlock(x.columns());
        std::vector<MatrixXd> parts(static_cast<std::size_t>((x.rows() + size - 1) / size));
        forWeightedRows(
            fit, x, weights, threads, progress, [&](Index begin, const MatrixXd& p, const VectorXd& e) {
                MatrixXd scores = p;
                for (Index i = 0; i < p.rows(); ++i)
                    scores.row(i) *= e[i] * std::sqrt(spreadFactor(kind, fit.leverages[begin + i]));
                parts[static_cast<std::size_t>(begin / size)] = rootOfRows(scores).transpose();
            });
        MatrixXd rows;
        for (const MatrixXd& part : parts) {
            progress.checkpoint(0.9, "Errors of the coefficients");
            MatrixXd stacked(rows.rows() + part.rows(), k);
            if (rows.rows() > 0) stacked.topRows(rows.rows()) = rows;
            stacked.bottomRows(part.rows()) = part;
            rows = rootOfRows(stacked).transpose();
        }
        MatrixXd root = rows.transpose();
        if (kind == CovarianceKind::hc1) root *= std::sqrt(n / df);
        errors.covarianceRoot = DirectionRows(std::move(root));
        break;
    }
    case CovarianceKind::clustered:
    case CovarianceKind::clusteredFewGroups: {
        if (count < 2)
            throw Error(ErrorCode::tooFewRows, "errors by group need two groups or more, and there is one",
                        {}, "Choose another column for the groups.");
        const auto g = static_cast<double>(count);
        errors.degreesOfFreedom = g - 1;
        errors.units = count;
        if (apart) {
            errors.covarianceRoot =
                rootApart(fit, x, weights, kind, units, count, lags, n, threads, progress);
            break;
        }
        MatrixXd root;
        if (kind == CovarianceKind::clusteredFewGroups) {
            constexpr double most = 5e7; // numbers held
            if (g * static_cast<double>(k) * static_cast<double>(k) > most)
                throw Error(ErrorCode::badTerm,
                            "the correction for few groups is not made for " + countText(count) +
                                " groups and " +
                                plural(static_cast<std::size_t>(k), "coefficient", "coefficients"),
                            {}, "Use errors by group as they are: with many groups they need none.");
            const auto adjusted = std::make_shared<AdjustedGroups>(fit, x, weights, units, count, progress);
            root = adjusted->scores().transpose();
            errors.fewGroups = adjusted;
        } else {
            const double correction = g / (g - 1) * (n - 1) / df;
            root = std::sqrt(correction) * scoresByUnit(fit, x, weights, units, count, progress).transpose();
        }
        // Many groups make a root wider than the covariance.
        errors.covarianceRoot = DirectionRows(rootOfRows(root.transpose()));
        break;
    }
    case CovarianceKind::autocorrelated: {
        if (count <= static_cast<std::size_t>(lags) + 1)
            throw Error(ErrorCode::tooFewRows,
                        "errors with " + plural(static_cast<std::size_t>(lags), "lag", "lags") +
                            " need more than " + countText(count) + " periods",
                        {}, "Look back over fewer periods.");
        errors.units = count;
        if (apart) {
            errors.covarianceRoot =
                rootApart(fit, x, weights, kind, units, count, lags, n, threads, progress);
            break;
        }
        const MatrixXd scores = scoresByUnit(fit, x, weights, units, count, progress);
        // The weights 1 − l/(L+1) are those of sums over windows of L+1 periods, each pair in as many windows
        // as it overlaps: Σ over windows of (Σ s)(Σ s)'/(L+1), which is a product with itself from the start.
        const Index periods = scores.rows();
        MatrixXd windows = MatrixXd::Zero(periods + lags, k);
        for (Index window = 0; window < windows.rows(); ++window) {
            stopIfTold(progress);
            for (Index t = std::max<Index>(0, window - lags); t <= std::min(window, periods - 1); ++t)
                windows.row(window) += scores.row(t);
        }
        errors.covarianceRoot = DirectionRows(std::sqrt(n / df / (lags + 1)) * rootOfRows(windows));
        break;
    }
    }
    if (!fixed.empty() && apart) {
        std::vector<std::uint32_t> rows(fixed.begin(), fixed.end());
        std::vector<double> roots(fixed.size(), 1);
        for (std::size_t f = 0; f < fixed.size() && !weights.empty(); ++f)
            roots[f] = std::sqrt(weights[rows[f]]);
        errors.unseen = ApartScores(fit, x, threads, progress).at(rows, roots);
        errors.undefinedThere = kind == CovarianceKind::hc2 || kind == CovarianceKind::hc3;
    } else if (!fixed.empty()) { // their rows of P
        MatrixXd directions(k, static_cast<Index>(fixed.size()));
        forWeightedRows(fit, x, weights, threads, progress,
                        [&](Index begin, const MatrixXd& p, const VectorXd&) {
                            auto at = std::lower_bound(fixed.begin(), fixed.end(), begin);
                            for (; at != fixed.end() && *at < begin + p.rows(); ++at)
                                directions.col(at - fixed.begin()) = p.row(*at - begin).transpose();
                        });
        // Rows that fix their own value have orthonormal rows of P.
        errors.unseen = DirectionRows(std::move(directions));
        errors.undefinedThere = kind == CovarianceKind::hc2 || kind == CovarianceKind::hc3;
    }
    return errors;
}

} // namespace oxgoad
