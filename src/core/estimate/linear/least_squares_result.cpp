// What a least squares fit answers once it is made: predictions, leverages, covariances, tests, fits without
// some columns.
#include "estimate/linear/least_squares.h"

#include <Eigen/Cholesky>
#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

MatrixXd LeastSquaresFit::shifted(const MatrixXd& block) const {
    const Index first = intercept ? 1 : 0;
    MatrixXd out(block.rows(), rank());
    if (first) out.col(0).setOnes();
    for (std::size_t k = 0; k < kept.size(); ++k) {
        const auto j = static_cast<Index>(kept[k]);
        out.col(first + static_cast<Index>(k)) = (block.col(j).array() - shift[j]) * scale[j];
    }
    return out;
}

VectorXd LeastSquaresFit::predict(const MatrixXd& block) const {
    VectorXd mean = VectorXd::Constant(block.rows(), 0);
    double level = constant;
    for (const auto k : kept) {
        const auto j = static_cast<Index>(k);
        mean += (block.col(j).array() - shift[j]).matrix() * coefficients[j];
        level += coefficients[j] * shift[j];
    }
    return mean.array() + level;
}

VectorXd LeastSquaresFit::leverage(const MatrixXd& block) const {
    MatrixXd out = shifted(block);
    factor.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(out);
    return out.rowwise().squaredNorm();
}

MatrixXd LeastSquaresFit::shiftedCovariance() const {
    const MatrixXd half =
        covarianceRoot ? MatrixXd(inverse * *covarianceRoot) : MatrixXd(residualStandardDeviation * inverse);
    return half * half.transpose();
}

VectorXd LeastSquaresFit::shiftedCoefficients() const {
    VectorXd b(rank());
    const Index first = intercept ? 1 : 0;
    long double level = constant;
    for (std::size_t k = 0; k < kept.size(); ++k) {
        const auto j = static_cast<Index>(kept[k]);
        b[first + static_cast<Index>(k)] = coefficients[j] / scale[j];
        level += static_cast<long double>(coefficients[j]) * shift[j];
    }
    if (first) b[0] = static_cast<double>(level);
    return b;
}

void LeastSquaresFit::replaceCovariance(MatrixXd root, double df) {
    covarianceRoot = std::move(root);
    covarianceDegreesOfFreedom = df;
    const Index first = intercept ? 1 : 0;
    VectorXd toNatural = VectorXd::Zero(rank());
    if (first) toNatural[0] = 1;
    for (std::size_t k = 0; k < kept.size(); ++k) {
        const auto j = static_cast<Index>(kept[k]);
        const Index place = first + static_cast<Index>(k);
        standardErrors[j] = errorOf(inverse.row(place).transpose()) * scale[j];
        toNatural[place] = -shift[j] * scale[j];
    }
    if (first) constantError = errorOf(inverse.transpose() * toNatural);
}

double LeastSquaresFit::errorOf(const VectorXd& direction) const {
    const double usual = residualStandardDeviation * direction.norm();
    if (!covarianceRoot) return usual;
    if (undefinedThere && unseen.size() > 0 &&
        (unseen.transpose() * direction).squaredNorm() > 0.01 * direction.squaredNorm())
        return std::nan("");
    const double error = (covarianceRoot->transpose() * direction).norm();
    return error > 1e-6 * usual || (usual == 0 && error > 0) ? error : std::nan("");
}

void LeastSquaresFit::replaceCoefficients(const VectorXd& b, MatrixXd root, double df) {
    const Index first = intercept ? 1 : 0;
    long double level = first ? b[0] : 0;
    for (std::size_t k = 0; k < kept.size(); ++k) {
        const auto j = static_cast<Index>(kept[k]);
        coefficients[j] = b[first + static_cast<Index>(k)] * scale[j];
        level -= static_cast<long double>(coefficients[j]) * shift[j];
    }
    if (first) constant = static_cast<double>(level);
    VectorXd unscaled = b;
    if (first) unscaled[0] -= responseShift;
    projections = factor.triangularView<Eigen::Upper>() * (unscaled * responseScale);
    replaceCovariance(std::move(root), df);
}

VectorXd LeastSquaresFit::meanVariance(const MatrixXd& block) const {
    if (!covarianceRoot) return residualStandardDeviation * residualStandardDeviation * leverage(block);
    MatrixXd x = shifted(block);
    factor.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(x);
    VectorXd variance(x.rows());
    for (Index i = 0; i < x.rows(); ++i) {
        const double error = errorOf(x.row(i).transpose());
        variance[i] = error * error;
    }
    return variance;
}

VectorXd LeastSquaresFit::meanDegreesOfFreedom(const MatrixXd& block) const {
    VectorXd df = VectorXd::Constant(block.rows(), testDegreesOfFreedom());
    if (!fewGroups) return df;
    MatrixXd x = shifted(block);
    factor.triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(x);
    for (Index i = 0; i < x.rows(); ++i)
        df[i] = fewGroups->degreesOfFreedom(x.row(i).transpose());
    return df;
}

Combination LeastSquaresFit::combination(const VectorXd& weights, double constantWeight) const {
    const Index first = intercept ? 1 : 0;
    VectorXd shiftedWeights = VectorXd::Zero(rank());
    Combination result{constantWeight * constant, 0, testDegreesOfFreedom()};
    if (first) shiftedWeights[0] = constantWeight;
    for (std::size_t k = 0; k < kept.size(); ++k) {
        const auto j = static_cast<Index>(kept[k]);
        result.value += weights[j] * coefficients[j];
        shiftedWeights[first + static_cast<Index>(k)] =
            (weights[j] - (first ? constantWeight * shift[j] : 0)) * scale[j];
    }
    const VectorXd direction = inverse.transpose() * shiftedWeights;
    result.standardError = errorOf(direction);
    if (fewGroups) result.degreesOfFreedom = fewGroups->degreesOfFreedom(direction);
    return result;
}

double LeastSquaresFit::coefficientDegreesOfFreedom(std::size_t j) const {
    const auto at = std::find(kept.begin(), kept.end(), j);
    if (!fewGroups || at == kept.end()) return testDegreesOfFreedom();
    return fewGroups->degreesOfFreedom(inverse.row((intercept ? 1 : 0) + (at - kept.begin())).transpose());
}

double LeastSquaresFit::constantDegreesOfFreedom() const {
    return fewGroups ? combination(VectorXd::Zero(columns), 1).degreesOfFreedom : testDegreesOfFreedom();
}

std::vector<Index> LeastSquaresFit::placesOf(std::span<const std::size_t> which) const {
    std::vector<Index> places;
    for (std::size_t k = 0; k < kept.size(); ++k)
        if (std::find(which.begin(), which.end(), kept[k]) != which.end())
            places.push_back((intercept ? 1 : 0) + static_cast<Index>(k));
    return places;
}

MatrixXd LeastSquaresFit::directionsOf(const std::vector<Index>& places) const {
    const auto q = static_cast<Index>(places.size());
    const Index others = rank() - q;
    MatrixXd basis;
    if (q <= others) { // the span of these rows of the inverse
        MatrixXd rows = inverse(places, Eigen::all).transpose();
        for (Index j = 0; j < q; ++j)
            rows.col(j).normalize();
        const Eigen::HouseholderQR<MatrixXd> qr(rows);
        basis = qr.householderQ() * MatrixXd::Identity(rank(), q);
    } else { // what the others' columns of the factor leave
        std::vector<Index> rest;
        for (Index k = 0; k < rank(); ++k)
            if (std::find(places.begin(), places.end(), k) == places.end()) rest.push_back(k);
        MatrixXd part = factor(Eigen::all, rest);
        for (Index j = 0; j < others; ++j)
            part.col(j).normalize();
        MatrixXd last = MatrixXd::Zero(rank(), q);
        last.bottomRows(q).setIdentity();
        if (others == 0) return last;
        const Eigen::HouseholderQR<MatrixXd> qr(part);
        basis = qr.householderQ() * last;
    }
    return basis;
}

JointTest LeastSquaresFit::jointTest(std::span<const std::size_t> which) const {
    JointTest test{std::nan(""), 0, testDegreesOfFreedom(), {}};
    const std::vector<Index> places = placesOf(which);
    const auto q = static_cast<Index>(places.size());
    test.numeratorDf = static_cast<double>(q);
    if (q == 0) {
        test.why = "all its columns repeat others";
        return test;
    }
    if (!(degreesOfFreedom > 0)) {
        test.why = "no degrees of freedom are left to judge by";
        return test;
    }
    if (fitsExactly && !(residualStandardDeviation > 0)) {
        test.why = "the residuals are all 0";
        return test;
    }
    if (covarianceRoot && covarianceRoot->size() > 0 && !covarianceRoot->allFinite()) {
        test.why = "the coefficients are held back, and a test would take them for free";
        return test;
    }
    const MatrixXd basis = directionsOf(places);
    const VectorXd effects = basis.transpose() * projections / responseScale;
    if (!covarianceRoot) {
        test.f = effects.squaredNorm() / test.numeratorDf /
                 (residualStandardDeviation * residualStandardDeviation);
        return test;
    }
    if (unseen.size() > 0) {
        for (Index j = 0; j < q; ++j)
            if (!((unseen.transpose() * basis.col(j)).squaredNorm() <= 0.01)) {
                test.why = "rows that alone fix their fitted value leave no residual to judge it by";
                return test;
            }
    }
    const MatrixXd half = covarianceRoot->transpose() * basis;
    const Eigen::ColPivHouseholderQR<MatrixXd> qr(half);
    const double all = covarianceRoot->colwise().norm().maxCoeff();
    constexpr double seen = 1e-6;
    Index known = 0;
    for (Index j = 0; j < std::min(q, half.rows()); ++j)
        known += std::fabs(qr.matrixQR()(j, j)) > seen * all;
    if (known < q || !(all > 0)) {
        test.why = "the residuals say something of " + std::to_string(known) + " of its " +
                   std::to_string(q) + " directions only";
        return test;
    }
    VectorXd z = qr.colsPermutation().transpose() * effects;
    qr.matrixQR().topLeftCorner(q, q).triangularView<Eigen::Upper>().transpose().solveInPlace(z);
    test.f = z.squaredNorm() / test.numeratorDf;
    if (!fewGroups) return test;
    const double eta = fewGroups->wishartDegreesOfFreedom(basis);
    test.denominatorDf = eta - test.numeratorDf + 1;
    if (!(test.denominatorDf > 0)) {
        test.why = "there are too few groups for " + std::to_string(q) + " coefficients together";
        test.f = std::nan("");
        return test;
    }
    test.f *= test.denominatorDf / eta;
    return test;
}

double LeastSquaresFit::inflation(std::span<const std::size_t> which) const {
    const Index first = intercept ? 1 : 0;
    const Index k = rank() - first;
    std::vector<Index> mine = placesOf(which);
    if (mine.empty()) return std::nan("");
    for (Index& place : mine)
        place -= first;
    MatrixXd unit = factor.bottomRightCorner(k, k).triangularView<Eigen::Upper>();
    MatrixXd back = inverse.bottomRightCorner(k, k).triangularView<Eigen::Upper>();
    for (Index j = 0; j < k; ++j) {
        const double length = unit.col(j).norm();
        unit.col(j) /= length;
        back.row(j) *= length;
    }
    const auto logDeterminant = [](const MatrixXd& columns) {
        const Eigen::HouseholderQR<MatrixXd> qr(columns);
        return 2 * qr.matrixQR().diagonal().array().abs().log().sum();
    };
    // What the columns span alone over what they span beside the others; the latter is one over the
    // determinant of their rows of the inverse.
    return std::max(1.0, std::exp(logDeterminant(unit(Eigen::all, mine)) +
                                  logDeterminant(back(mine, Eigen::all).transpose())));
}

MatrixXd LeastSquaresFit::unscaledCovariance() const {
    const Index first = intercept ? 1 : 0;
    const Index k = rank() - first;
    MatrixXd covariance = inverse.bottomRows(k) * inverse.bottomRows(k).transpose();
    for (Index i = 0; i < k; ++i) {
        const double s = scale[static_cast<Index>(kept[static_cast<std::size_t>(i)])];
        covariance.row(i) *= s;
        covariance.col(i) *= s;
    }
    return covariance;
}

MatrixXd LeastSquaresFit::correlation() const {
    const Index first = intercept ? 1 : 0;
    const Index k = rank() - first;
    MatrixXd unit = factor.bottomRightCorner(k, k).triangularView<Eigen::Upper>();
    for (Index j = 0; j < k; ++j)
        unit.col(j).normalize();
    MatrixXd r = unit.transpose() * unit;
    r.diagonal().setOnes();
    return r;
}

double LeastSquaresFit::constantOf(const VectorXd& b, double shiftedConstant) const {
    long double value = static_cast<long double>(shiftedConstant) / responseScale + responseShift;
    for (const auto j : kept)
        value -= static_cast<long double>(b[static_cast<Index>(j)]) * shift[static_cast<Index>(j)];
    return static_cast<double>(value);
}

LeastSquaresFit::Reduced LeastSquaresFit::without(std::span<const std::size_t> leftOut) const {
    const Index first = intercept ? 1 : 0;
    std::vector<Index> places;
    if (intercept) places.push_back(0);
    for (std::size_t k = 0; k < kept.size(); ++k)
        if (std::find(leftOut.begin(), leftOut.end(), kept[k]) == leftOut.end())
            places.push_back(first + static_cast<Index>(k));
    Reduced reduced;
    reduced.rank = static_cast<Index>(places.size());
    reduced.coefficients = VectorXd::Zero(columns);
    reduced.residualSumOfSquares = residualSumOfSquares;
    if (places.empty()) {
        reduced.residualSumOfSquares += projections.squaredNorm() / (responseScale * responseScale);
        return reduced;
    }
    MatrixXd part(rank(), reduced.rank);
    for (Index k = 0; k < reduced.rank; ++k)
        part.col(k) = factor.col(places[static_cast<std::size_t>(k)]);
    const Eigen::HouseholderQR<MatrixXd> qr(part);
    VectorXd effects = projections;
    effects.applyOnTheLeft(qr.householderQ().adjoint());
    const VectorXd solution =
        qr.matrixQR().topRows(reduced.rank).triangularView<Eigen::Upper>().solve(effects.head(reduced.rank));
    reduced.residualSumOfSquares +=
        effects.tail(rank() - reduced.rank).squaredNorm() / (responseScale * responseScale);
    for (Index k = first; k < reduced.rank; ++k) {
        const auto j =
            static_cast<Index>(kept[static_cast<std::size_t>(places[static_cast<std::size_t>(k)] - first)]);
        reduced.coefficients[j] = solution[k] * scale[j] / responseScale;
    }
    if (intercept) reduced.constant = constantOf(reduced.coefficients, solution[0]);
    return reduced;
}

double LeastSquaresFit::explainedSumOfSquares(const VectorXd& products, double sum) const {
    VectorXd z(rank());
    const Index first = intercept ? 1 : 0;
    if (first) z[0] = sum;
    z.tail(rank() - first) = products;
    factor.transpose().triangularView<Eigen::Lower>().solveInPlace(z);
    return z.tail(rank() - first).squaredNorm();
}

} // namespace oxgoad
