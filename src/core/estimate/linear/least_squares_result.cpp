// What a least squares fit answers once it is made: predictions, leverages, covariances, tests, fits without
// some columns.
#include "estimate/linear/least_squares.h"

#include <Eigen/Cholesky>
#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

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
    if (factor.levels() == 0) return inOrthonormalBasis(block).rowwise().squaredNorm();
    const ApartRows rows = apart(block);
    VectorXd squares = rows.rest.rowwise().squaredNorm();
    for (const auto& [row, direction, value] : rows.ofLevels)
        squares[row] += value * value;
    return squares;
}

LeastSquaresFit::ApartRows LeastSquaresFit::apart(const MatrixXd& block) const {
    const Index first = intercept ? 1 : 0, m = block.rows();
    const TriangularFactor::Levels& levels = factor.ofLevels();
    ApartRows made;
    made.rest.resize(m, factor.triangle().rows());
    for (Index k = 0; k < made.rest.cols(); ++k) {
        const Index place = factor.restPlaces()[static_cast<std::size_t>(k)];
        if (place < first) {
            made.rest.col(k).setOnes();
            continue;
        }
        const auto j = static_cast<Index>(kept[static_cast<std::size_t>(place - first)]);
        made.rest.col(k) = (block.col(j).array() - shift[j]) * scale[j];
    }
    for (Index l = 0; l < factor.levels(); ++l) {
        const Index place = levels.places[static_cast<std::size_t>(l)];
        const auto column = block.col(static_cast<Index>(kept[static_cast<std::size_t>(place - first)]));
        for (Index i = 0; i < m; ++i) {
            if (column[i] == 0) continue;
            const double value = column[i] / levels.lengths[l];
            made.ofLevels.push_back({i, l, value});
            made.rest.row(i) -= value * levels.shared.row(l);
        }
    }
    if (made.rest.size() > 0)
        factor.triangle().triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(made.rest);
    return made;
}

MatrixXd LeastSquaresFit::inOrthonormalBasis(const MatrixXd& block) const {
    const Index first = intercept ? 1 : 0, m = block.rows();
    if (factor.levels() > 0) {
        const ApartRows rows = apart(block);
        MatrixXd out = MatrixXd::Zero(m, rank());
        for (const auto& [row, direction, value] : rows.ofLevels)
            out(row, direction) = value;
        out.rightCols(rows.rest.cols()) = rows.rest;
        return out;
    }
    const MatrixXd& inverse = factor.inverse();
    // Below these the search for zeros costs what it saves.
    constexpr Index fewColumns = 64, fewRows = 64;
    std::vector<Index> sparse, dense;
    Index values = 0;
    if (rank() >= fewColumns && m >= fewRows)
        for (Index k = 0; k < rank() - first; ++k) {
            const auto column = block.col(static_cast<Index>(kept[static_cast<std::size_t>(k)]));
            const Index there = (column.array() != 0).count();
            (4 * there < m ? sparse : dense).push_back(k);
            if (4 * there < m) values += there;
        }
    if (sparse.empty() || 4 * (static_cast<Index>(dense.size()) * m + values) > rank() * m) {
        MatrixXd out = shifted(block);
        factor.turn(out);
        return out;
    }
    const auto at = [&](Index k) { return static_cast<Index>(kept[static_cast<std::size_t>(k)]); };
    // What the columns of levels say where they are all 0, what the others say, and what each level changes.
    Eigen::RowVectorXd base = Eigen::RowVectorXd::Zero(rank());
    if (first) base = inverse.row(0);
    for (const Index k : sparse)
        base -= shift[at(k)] * scale[at(k)] * inverse.row(first + k);
    MatrixXd numbers(m, static_cast<Index>(dense.size()));
    MatrixXd ofNumbers(numbers.cols(), rank());
    for (Index d = 0; d < numbers.cols(); ++d) {
        const Index k = dense[static_cast<std::size_t>(d)];
        numbers.col(d) = (block.col(at(k)).array() - shift[at(k)]) * scale[at(k)];
        ofNumbers.row(d) = inverse.row(first + k);
    }
    MatrixXd out(rank(), m); // a row of the block a column
    out.noalias() = ofNumbers.transpose() * numbers.transpose();
    out.colwise() += base.transpose();
    for (const Index k : sparse) {
        const Index length = rank() - first - k; // the inverse is triangular
        const VectorXd change = scale[at(k)] * inverse.row(first + k).tail(length).transpose();
        const auto column = block.col(at(k));
        for (Index i = 0; i < m; ++i)
            if (column[i] != 0) out.col(i).tail(length) += column[i] * change;
    }
    return out.transpose();
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
        standardErrors[j] = errorOf(factor.direction(place)) * scale[j];
        toNatural[place] = -shift[j] * scale[j];
    }
    if (first) constantError = errorOf(factor.directionOf(toNatural));
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
    projections = factor.times(unscaled * responseScale);
    replaceCovariance(std::move(root), df);
}

VectorXd LeastSquaresFit::meanVariance(const MatrixXd& block) const {
    if (!covarianceRoot) return residualStandardDeviation * residualStandardDeviation * leverage(block);
    const MatrixXd x = inOrthonormalBasis(block);
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
    const MatrixXd x = inOrthonormalBasis(block);
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
    const VectorXd direction = factor.directionOf(shiftedWeights);
    result.standardError = errorOf(direction);
    if (fewGroups) result.degreesOfFreedom = fewGroups->degreesOfFreedom(direction);
    return result;
}

double LeastSquaresFit::coefficientDegreesOfFreedom(std::size_t j) const {
    const auto at = std::find(kept.begin(), kept.end(), j);
    if (!fewGroups || at == kept.end()) return testDegreesOfFreedom();
    return fewGroups->degreesOfFreedom(factor.direction((intercept ? 1 : 0) + (at - kept.begin())));
}

double LeastSquaresFit::constantDegreesOfFreedom() const {
    return fewGroups ? combination(VectorXd::Zero(columns), 1).degreesOfFreedom : testDegreesOfFreedom();
}

std::vector<Index> LeastSquaresFit::placesOf(std::span<const std::size_t> which) const {
    std::vector<char> asked(static_cast<std::size_t>(columns), 0);
    for (const std::size_t j : which)
        if (j < asked.size()) asked[j] = 1;
    std::vector<Index> places;
    for (std::size_t k = 0; k < kept.size(); ++k)
        if (asked[kept[k]]) places.push_back((intercept ? 1 : 0) + static_cast<Index>(k));
    return places;
}

MatrixXd LeastSquaresFit::directionsOf(const std::vector<Index>& places) const {
    const auto q = static_cast<Index>(places.size());
    const Index others = rank() - q;
    MatrixXd basis;
    if (q <= others) { // the span of these rows of the inverse
        MatrixXd rows = factor.directions(places);
        for (Index j = 0; j < q; ++j)
            rows.col(j).normalize();
        const Eigen::HouseholderQR<MatrixXd> qr(rows);
        basis = qr.householderQ() * MatrixXd::Identity(rank(), q);
    } else { // what the others' columns of the factor leave
        std::vector<Index> rest;
        for (Index k = 0; k < rank(); ++k)
            if (!std::binary_search(places.begin(), places.end(), k)) rest.push_back(k);
        MatrixXd part = factor.columns(rest);
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

VectorXd LeastSquaresFit::besideTheOthers(const std::vector<Index>& places) const {
    std::vector<Index> others;
    for (Index k = 0; k < rank(); ++k)
        if (!std::binary_search(places.begin(), places.end(), k)) others.push_back(k);
    VectorXd left = projections;
    if (others.empty()) return left;
    MatrixXd part = factor.columns(others);
    for (Index j = 0; j < part.cols(); ++j)
        part.col(j).normalize();
    const Eigen::HouseholderQR<MatrixXd> qr(part);
    const MatrixXd basis = qr.householderQ() * MatrixXd::Identity(rank(), part.cols());
    for (int step = 0; step < 2; ++step)
        left -= basis * (basis.transpose() * left);
    return left;
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
    if (!covarianceRoot && factor.levels() > 0 && 2 * q > rank()) { // many levels: without a basis of theirs
        test.f = besideTheOthers(places).squaredNorm() / (responseScale * responseScale) / test.numeratorDf /
                 (residualStandardDeviation * residualStandardDeviation);
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
    const std::vector<Index> mine = placesOf(which);
    if (mine.empty()) return std::nan("");
    const auto q = static_cast<Index>(mine.size());
    const auto logDeterminant = [](const MatrixXd& columns) {
        const Eigen::HouseholderQR<MatrixXd> qr(columns);
        return 2 * qr.matrixQR().diagonal().array().abs().log().sum();
    };
    // Columns and directions without what the constant says.
    const VectorXd one = first ? VectorXd(factor.columns({0}).col(0).normalized()) : VectorXd(0);
    const auto centred = [&](MatrixXd columns) {
        if (first && factor.levels() > 0) columns -= one * (one.transpose() * columns);
        return columns;
    };
    if (factor.levels() > 0 && mine == factor.ofLevels().places) {
        // Levels against the rest: both determinants are products of lengths.
        std::vector<Index> others;
        for (const Index place : factor.restPlaces())
            if (place >= first) others.push_back(place);
        double log = others.empty() ? 0 : logDeterminant(centred(factor.columns(others)));
        for (Index j = 0; j < factor.triangle().rows(); ++j)
            if (j >= first) log -= 2 * std::log(std::fabs(factor.triangle()(j, j)));
        return std::max(1.0, std::exp(log));
    }
    MatrixXd alone = centred(factor.columns(mine)), beside = factor.directions(mine);
    if (factor.levels() == 0 && first) { // the constant is the first direction
        alone = alone.bottomRows(k).eval();
        beside = beside.bottomRows(k).eval();
    }
    for (Index m = 0; m < q; ++m) {
        const double length = alone.col(m).norm();
        alone.col(m) /= length;
        beside.col(m) *= length;
    }
    // What the columns span alone over what they span beside the others; the latter is one over the
    // determinant of their rows of the inverse.
    return std::max(1.0, std::exp(logDeterminant(alone) + logDeterminant(beside)));
}

MatrixXd LeastSquaresFit::unscaledCovariance() const {
    const Index first = intercept ? 1 : 0;
    const Index k = rank() - first;
    std::vector<Index> places(static_cast<std::size_t>(k));
    std::iota(places.begin(), places.end(), first);
    const MatrixXd directions = factor.directions(places);
    MatrixXd covariance = directions.transpose() * directions;
    for (Index i = 0; i < k; ++i) {
        const double s = scale[static_cast<Index>(kept[static_cast<std::size_t>(i)])];
        covariance.row(i) *= s;
        covariance.col(i) *= s;
    }
    return covariance;
}

VectorXd LeastSquaresFit::columnMeans() const {
    VectorXd means = VectorXd::Zero(columns);
    if (!intercept) return means;
    const VectorXd one = factor.columns({0}).col(0);
    const VectorXd products = factor.transposeTimes(one) / one.squaredNorm();
    for (std::size_t k = 0; k < kept.size(); ++k) {
        const auto j = static_cast<Index>(kept[k]);
        means[j] = shift[j] + products[static_cast<Index>(k) + 1] / scale[j];
    }
    return means;
}

double LeastSquaresFit::constantOf(const VectorXd& b, double shiftedConstant) const {
    long double value = static_cast<long double>(shiftedConstant) / responseScale + responseShift;
    for (const auto j : kept)
        value -= static_cast<long double>(b[static_cast<Index>(j)]) * shift[static_cast<Index>(j)];
    return static_cast<double>(value);
}

LeastSquaresFit::Reduced LeastSquaresFit::without(std::span<const std::size_t> leftOut) const {
    const std::vector<Index> out = placesOf(leftOut);
    const auto q = static_cast<Index>(out.size());
    Reduced reduced;
    reduced.rank = rank() - q;
    reduced.coefficients = VectorXd::Zero(columns);
    reduced.residualSumOfSquares = residualSumOfSquares;
    const double unit = responseScale * responseScale;
    if (reduced.rank == 0) {
        reduced.residualSumOfSquares += projections.squaredNorm() / unit;
        return reduced;
    }
    double given = 0;
    // A few columns are taken out of the solution, many leave a factor that is soon made.
    const VectorXd solution = 4 * q < reduced.rank ? takenOut(out, given) : ofTheOthers(out, given);
    reduced.residualSumOfSquares += given / unit;
    const Index first = intercept ? 1 : 0;
    for (std::size_t k = 0; k < kept.size(); ++k) {
        const auto j = static_cast<Index>(kept[k]);
        reduced.coefficients[j] = solution[first + static_cast<Index>(k)] * scale[j] / responseScale;
    }
    if (intercept) reduced.constant = constantOf(reduced.coefficients, solution[0]);
    return reduced;
}

VectorXd LeastSquaresFit::takenOut(const std::vector<Index>& out, double& given) const {
    const MatrixXd own = directionsOf(out);
    const VectorXd effects = own.transpose() * projections;
    given = effects.squaredNorm();
    const auto beside = [&](const VectorXd& v) { return VectorXd(v - own * (own.transpose() * v)); };
    // Along these the columns that go out trade with the others: moving there makes their coefficients 0.
    const MatrixXd trade = factor.byInverse(own);
    const Eigen::HouseholderQR<MatrixXd> share(trade(out, Eigen::all));
    const auto solve = [&](const VectorXd& right) {
        VectorXd b = factor.byInverse(right);
        b -= trade * share.solve(VectorXd(b(out)));
        b(out).setZero();
        return b;
    };
    const VectorXd wanted = beside(beside(projections));
    VectorXd b = solve(wanted);
    // What nearly repeats a column that goes out has lost digits to it, and finds them again here.
    b += solve(beside(wanted - factor.times(b)));
    return b;
}

VectorXd LeastSquaresFit::ofTheOthers(const std::vector<Index>& out, double& given) const {
    std::vector<Index> places;
    for (Index place = 0; place < rank(); ++place)
        if (!std::binary_search(out.begin(), out.end(), place)) places.push_back(place);
    const auto count = static_cast<Index>(places.size());
    const MatrixXd part = factor.columns(places);
    const Eigen::HouseholderQR<MatrixXd> qr(part);
    VectorXd effects = projections;
    effects.applyOnTheLeft(qr.householderQ().adjoint());
    given = effects.tail(rank() - count).squaredNorm();
    VectorXd b = VectorXd::Zero(rank());
    const VectorXd own =
        qr.matrixQR().topRows(count).triangularView<Eigen::Upper>().solve(effects.head(count));
    b(places) = own;
    return b;
}

double LeastSquaresFit::explainedSumOfSquares(const VectorXd& products, double sum) const {
    VectorXd z(rank());
    const Index first = intercept ? 1 : 0;
    if (first) z[0] = sum;
    z.tail(rank() - first) = products;
    const VectorXd direction = factor.solveTransposed(z).col(0);
    if (factor.levels() == 0) return direction.tail(rank() - first).squaredNorm();
    if (!first) return direction.squaredNorm();
    const VectorXd one = factor.columns({0}).col(0).normalized();
    return (direction - one * one.dot(direction)).squaredNorm();
}

} // namespace oxgoad
