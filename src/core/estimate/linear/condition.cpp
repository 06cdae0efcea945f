#include "estimate/linear/condition.h"

#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// By products with R'R, and with its inverse, which gives the length before its second half.
template <class Up, class Down>
double conditionBy(Index k, const Progress& progress, Up&& timesProducts, Down&& solveProducts) {
    VectorXd up(k);
    for (Index j = 0; j < k; ++j)
        up[j] = 1 + 0.1 * static_cast<double>((j * 7) % 5);
    VectorXd down = up;
    double largest = 1;
    double smallestInverse = 1;
    for (int step = 0; step < 40; ++step) {
        stopIfTold(progress);
        up.normalize();
        up = timesProducts(up);
        largest = std::sqrt(up.norm());
        down.normalize();
        smallestInverse = solveProducts(down);
    }
    return largest * smallestInverse;
}

/// Of each place the length of its column of a factor with levels, less what lies along `one` (none when it
/// is empty): a level has rows beside it that are not its.
VectorXd centredLengths(const TriangularFactor& factor, const VectorXd& one) {
    const TriangularFactor::Levels& levels = factor.ofLevels();
    VectorXd squares = VectorXd::Zero(factor.rank());
    for (Index d = 0; d < levels.count(); ++d)
        for (Index k = d; k < levels.end(levels.first(d)); ++k)
            squares[levels.places[static_cast<std::size_t>(k)]] += std::pow(levels.own(d, k - d), 2);
    for (std::size_t k = 0; k < factor.restPlaces().size(); ++k) {
        const auto at = static_cast<Index>(k);
        squares[factor.restPlaces()[k]] =
            levels.shared.col(at).squaredNorm() + factor.triangle().col(at).squaredNorm();
    }
    if (one.size() > 0) squares -= factor.transposeTimes(one).cwiseAbs2();
    return squares.cwiseMax(0).cwiseSqrt();
}

} // namespace

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
            [&](VectorXd& v) {
                unit.transpose().triangularView<Eigen::Lower>().solveInPlace(v);
                const double length = v.norm();
                unit.triangularView<Eigen::Upper>().solveInPlace(v);
                return length;
            });
    }
    // Columns about their means: what the constant says is taken out of each product; the inverse of what is
    // left is a part of the whole's.
    const VectorXd one = first ? VectorXd(factor.columns({0}).col(0).normalized()) : VectorXd();
    const auto beside = [&](VectorXd z) {
        if (first) z -= one * one.dot(z);
        return z;
    };
    const VectorXd lengths = centredLengths(factor, one).tail(k);
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
        [&](VectorXd& v) {
            const VectorXd direction = factor.solveTransposed(padded(v.cwiseProduct(lengths)));
            v = VectorXd(factor.solve(direction).bottomRows(k)).cwiseProduct(lengths);
            return direction.norm();
        });
}

} // namespace oxgoad
