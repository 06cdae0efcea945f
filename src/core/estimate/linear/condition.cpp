#include "estimate/linear/condition.h"

#include "estimate/decompositions.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// The largest eigenvalue of a symmetric matrix that is not below 0, given by its products with vectors: by
/// Lanczos' method with the basis kept orthogonal, until it stands still to the last digits or after `most`
/// steps.
template <class Times>
double largestEigenvalue(Index k, Index most, const Progress& progress, Times&& times) {
    const Index steps = std::min(k, most);
    MatrixXd basis(k, steps), tridiagonal = MatrixXd::Zero(steps, steps);
    VectorXd v(k); // with a part along everything
    for (Index j = 0; j < k; ++j)
        v[j] = 0.1 + std::fmod(0.6180339887498949 * static_cast<double>(j + 1), 1.0);
    v.normalize();
    double largest = 0;
    int stood = 0;
    for (Index m = 0; m < steps; ++m) {
        stopIfTold(progress);
        basis.col(m) = v;
        VectorXd next = times(v);
        tridiagonal(m, m) = v.dot(next);
        for (int pass = 0; pass < 2; ++pass) // twice is enough (Parlett 1998, §6.9)
            next -= basis.leftCols(m + 1) * VectorXd(basis.leftCols(m + 1).transpose() * next);
        const double left = next.norm();
        const bool last = m + 1 == steps || !(left > 1e-15 * tridiagonal(m, m));
        if (last || m % 5 == 4) {
            const double now = symmetricValues(tridiagonal.topLeftCorner(m + 1, m + 1))[m];
            stood = std::fabs(now - largest) <= 1e-15 * now ? stood + 1 : 0;
            largest = now;
            if (last || stood == 2) break;
        }
        tridiagonal(m + 1, m) = tridiagonal(m, m + 1) = left;
        v = next / left;
    }
    return largest;
}

/// By products with R'R, and with its inverse.
template <class Up, class Down>
double conditionBy(Index k, const Progress& progress, Up&& timesProducts, Down&& solveProducts) {
    const Index most = k <= 400 ? 200 : 40; // of many columns a step costs as much as a row of the reduction
    return std::sqrt(largestEigenvalue(k, most, progress, timesProducts)) *
           std::sqrt(largestEigenvalue(k, most, progress, solveProducts));
}

} // namespace

VectorXd columnLengths(const TriangularFactor& factor, const VectorXd& one) {
    VectorXd squares = VectorXd::Zero(factor.rank());
    const TriangularFactor::Levels& levels = factor.ofLevels();
    for (Index d = 0; d < levels.count(); ++d)
        for (Index k = d; k < levels.end(levels.first(d)); ++k)
            squares[levels.places[static_cast<std::size_t>(k)]] += std::pow(levels.own(d, k - d), 2);
    for (std::size_t k = 0; k < factor.restPlaces().size(); ++k) {
        const auto at = static_cast<Index>(k);
        squares[factor.restPlaces()[k]] = factor.triangle().col(at).squaredNorm();
        if (levels.count() > 0) squares[factor.restPlaces()[k]] += levels.shared.col(at).squaredNorm();
    }
    if (one.size() > 0) squares -= factor.transposeTimes(one).cwiseAbs2();
    return squares.cwiseMax(0).cwiseSqrt();
}

VectorXd directionLengths(const TriangularFactor& factor) {
    VectorXd lengths(factor.rank());
    if (factor.levels() == 0) {
        for (Index place = 0; place < lengths.size(); ++place)
            lengths[place] = factor.inverse().row(place).norm();
        return lengths;
    }
    const TriangularFactor::Levels& levels = factor.ofLevels();
    MatrixXd trade = levels.shared * factor.inverse();
    levels.solve(trade);
    for (Index d = 0; d < levels.count(); ++d) {
        const Index first = levels.first(d), last = levels.end(first);
        // Its row of the inverse of its level's triangle.
        VectorXd own = VectorXd::Zero(last - d);
        for (Index k = d; k < last; ++k) {
            double said = k == d ? 1 : 0;
            for (Index i = d; i < k; ++i)
                said -= own[i - d] * levels.own(i, k - i);
            own[k - d] = said / levels.own(k, 0);
        }
        lengths[levels.places[static_cast<std::size_t>(d)]] =
            std::sqrt(own.squaredNorm() + trade.row(d).squaredNorm());
    }
    for (std::size_t k = 0; k < factor.restPlaces().size(); ++k)
        lengths[factor.restPlaces()[k]] = factor.inverse().row(static_cast<Index>(k)).norm();
    return lengths;
}

double conditionOf(const TriangularFactor& factor, bool intercept, const Progress& progress) {
    const Index first = intercept ? 1 : 0;
    const Index k = factor.rank() - first;
    if (k < 1) return 1;
    if (factor.levels() == 0) {
        MatrixXd unit = factor.triangle().bottomRightCorner(k, k).triangularView<Eigen::Upper>();
        for (Index j = 0; j < k; ++j)
            unit.col(j).normalize();
        return conditionBy(
            k, progress, [&](const VectorXd& v) { return VectorXd(unit.transpose() * (unit * v).eval()); },
            [&](VectorXd v) {
                unit.transpose().triangularView<Eigen::Lower>().solveInPlace(v);
                unit.triangularView<Eigen::Upper>().solveInPlace(v);
                return v;
            });
    }
    // Columns about their means: what the constant says is taken out of each product; the inverse of what is
    // left is a part of the whole's.
    const VectorXd one = first ? VectorXd(factor.columns({0}).col(0).normalized()) : VectorXd();
    const auto beside = [&](VectorXd z) {
        if (first) z -= one * one.dot(z);
        return z;
    };
    const VectorXd lengths = columnLengths(factor, one).tail(k);
    const auto padded = [&](const VectorXd& v) {
        VectorXd all = VectorXd::Zero(k + first);
        all.tail(k) = v;
        return all;
    };
    return conditionBy(
        k, progress,
        [&](const VectorXd& v) {
            const VectorXd z = beside(factor.times(padded(v.cwiseQuotient(lengths))));
            return VectorXd(VectorXd(factor.transposeTimes(z).tail(k)).cwiseQuotient(lengths));
        },
        [&](const VectorXd& v) {
            const VectorXd direction = factor.solveTransposed(padded(v.cwiseProduct(lengths)));
            return VectorXd(VectorXd(factor.solve(direction).bottomRows(k)).cwiseProduct(lengths));
        });
}

} // namespace oxgoad
