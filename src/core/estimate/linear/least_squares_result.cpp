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

const Dependency* LeastSquaresFit::partsFrom(const VectorXd& row, double constantWeight) const {
    // Weights below 1e-8 of a column are not listed; large numbers far from 0 lose digits.
    constexpr double unlisted = 1e-6, rounding = 1e-12;
    const auto spread = [&](Index k) { return row[k] - constantWeight * shift[k]; };
    for (const Dependency& one : dependent) {
        const auto j = static_cast<Index>(one.column);
        double said = constantWeight * one.constant, size = std::fabs(spread(j)),
               digits = std::fabs(row[j]) + std::fabs(said);
        for (const auto& [other, weight] : one.combination) {
            const auto k = static_cast<Index>(other);
            said += weight * row[k];
            size += std::fabs(weight * spread(k));
            digits += std::fabs(weight * row[k]);
        }
        if (std::fabs(row[j] - said) > unlisted * size + rounding * digits) return &one;
    }
    return nullptr;
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
    return inOrthonormalBasis(block).rowwise().squaredNorm();
}

MatrixXd LeastSquaresFit::inOrthonormalBasis(const MatrixXd& block) const {
    const Index first = intercept ? 1 : 0, m = block.rows();
    if (factor.levels() > 0) {
        MatrixXd out = shifted(block);
        factor.turn(out);
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

void LeastSquaresFit::replaceCovariance(DirectionRows root, double df, const Progress& progress) {
    covarianceRoot = std::move(root);
    covarianceDegreesOfFreedom = df;
    const Index first = intercept ? 1 : 0;
    VectorXd toNatural = VectorXd::Zero(rank());
    if (first) toNatural[0] = 1;
    const auto at = [&](Index place) {
        return static_cast<Index>(kept[static_cast<std::size_t>(place - first)]);
    };
    for (Index place = first; place < rank(); ++place)
        toNatural[place] = -shift[at(place)] * scale[at(place)];
    constexpr Index piece = 64;
    for (Index begin = first; begin < rank(); begin += piece) {
        stopIfTold(progress);
        const Index count = std::min(piece, rank() - begin);
        if (!covarianceRoot->apart()) {
            for (Index place = begin; place < begin + count; ++place)
                standardErrors[at(place)] = errorOf(factor.direction(place)) * scale[at(place)];
            continue;
        }
        std::vector<Index> places(static_cast<std::size_t>(count));
        std::iota(places.begin(), places.end(), begin);
        const VectorXd errors = errorsOf(factor.directions(places));
        for (Index k = 0; k < count; ++k)
            standardErrors[at(begin + k)] = errors[k] * scale[at(begin + k)];
    }
    if (first) constantError = errorOf(factor.directionOf(toNatural));
}

double LeastSquaresFit::errorOf(const VectorXd& direction) const {
    if (!covarianceRoot) return residualStandardDeviation * direction.norm();
    const double squared = direction.squaredNorm();
    return errorFrom(squared, asksUnseen() ? unseen.times(direction).squaredNorm() : 0,
                     covarianceRoot->times(direction).squaredNorm());
}

bool LeastSquaresFit::asksUnseen() const {
    return undefinedThere && !unseen.empty();
}

double LeastSquaresFit::errorFrom(double squared, double unseenSquared, double variance) const {
    if (unseenSquared > 0.01 * squared) return std::nan("");
    const double usual = residualStandardDeviation * std::sqrt(squared), error = std::sqrt(variance);
    return error > 1e-6 * usual || (usual == 0 && error > 0) ? error : std::nan("");
}

VectorXd LeastSquaresFit::errorsOf(const MatrixXd& directions) const {
    const Index m = directions.cols();
    const VectorXd squared = directions.colwise().squaredNorm(),
                   variance = covarianceRoot->times(directions).colwise().squaredNorm();
    VectorXd hidden = VectorXd::Zero(m);
    if (asksUnseen()) hidden = unseen.times(directions).colwise().squaredNorm();
    VectorXd errors(m);
    for (Index j = 0; j < m; ++j)
        errors[j] = errorFrom(squared[j], hidden[j], variance[j]);
    return errors;
}

VectorXd LeastSquaresFit::varianceApart(std::span<const Index> firsts, const MatrixXd& own,
                                        const MatrixXd& rest) const {
    const auto m = static_cast<Index>(firsts.size());
    VectorXd found(m);
    constexpr Index piece = 64;
    for (Index begin = 0; begin < m; begin += piece) {
        const Index count = std::min(piece, m - begin);
        const auto part = firsts.subspan(static_cast<std::size_t>(begin), static_cast<std::size_t>(count));
        const MatrixXd atLevels = own.middleRows(begin, count), others = rest.middleRows(begin, count);
        const VectorXd variance = covarianceRoot->timesApart(part, atLevels, others).colwise().squaredNorm(),
                       squared = atLevels.rowwise().squaredNorm() + others.rowwise().squaredNorm();
        VectorXd hidden = VectorXd::Zero(count);
        if (asksUnseen()) hidden = unseen.timesApart(part, atLevels, others).colwise().squaredNorm();
        for (Index i = 0; i < count; ++i) {
            const double error = errorFrom(squared[i], hidden[i], variance[i]);
            found[begin + i] = error * error;
        }
    }
    return found;
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
    replaceCovariance(DirectionRows(std::move(root)), df);
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

std::vector<Index> LeastSquaresFit::besides(const std::vector<Index>& places) const {
    std::vector<Index> others;
    for (Index k = 0; k < rank(); ++k)
        if (!std::binary_search(places.begin(), places.end(), k)) others.push_back(k);
    return others;
}

namespace {

constexpr double seenShare = 1e-6;
/// Up to so many places a basis of their directions takes no longer than the factor of the others.
Index fewOf(const TriangularFactor& factor) {
    return std::clamp<Index>(factor.triangle().rows(), 16, 256);
}
constexpr auto whyFixed = "rows that alone fix their fitted value leave no residual to judge it by";

std::string whyFewDirections(Index known, Index all) {
    return "the residuals say something of " + std::to_string(known) + " of its " + std::to_string(all) +
           " directions only";
}

} // namespace

double LeastSquaresFit::sizeOfRoot() const {
    const double longest = covarianceRoot->longest();
    return residualStandardDeviation > longest ? residualStandardDeviation : longest;
}

void LeastSquaresFit::testApart(const std::vector<Index>& places, JointTest& test) const {
    const auto q = static_cast<Index>(places.size());
    const std::vector<Index> others = besides(places);
    const auto notMade = [&] {
        test.why = "a test of " + std::to_string(q) + " coefficients together is not made with these errors";
    };
    // Of levels' own columns some stay: what they leave has no form that is soon worked out.
    if (2 * q <= rank()) return notMade();
    const MatrixXd part = factor.columns(others);
    const auto basisOf = [](MatrixXd columns) {
        for (Index j = 0; j < columns.cols(); ++j)
            columns.col(j).normalize();
        const Eigen::HouseholderQR<MatrixXd> qr(columns);
        return MatrixXd(qr.householderQ() * MatrixXd::Identity(columns.rows(), columns.cols()));
    };
    const auto beside = [](const MatrixXd& basis, VectorXd v) {
        for (int step = 0; step < 2 && basis.cols() > 0; ++step)
            v -= basis * (basis.transpose() * v);
        return v;
    };
    if (!unseen.empty()) {
        // Of each unseen row, what lies where only these places are: its length less what the others say.
        const MatrixXd shared = others.empty() ? MatrixXd(unseen.rows(), 0) : unseen.times(basisOf(part));
        if (!(shared.rowwise().squaredNorm().minCoeff() >= 0.99)) {
            test.why = whyFixed;
            return;
        }
    }
    const double all = sizeOfRoot();
    if (covarianceRoot->rows() < q || !(all > 0)) {
        test.why = whyFewDirections(covarianceRoot->rows(), q);
        return;
    }
    if (!covarianceRoot->triangular()) {
        notMade();
        return;
    }
    // A covariance that says nothing of some directions says nothing of as many of these at the most.
    const Index known = covarianceRoot->known(seenShare * all);
    if (known < rank()) {
        test.why = whyFewDirections(std::max<Index>(0, known - (rank() - q)), q);
        return;
    }
    // min over what the others' coefficients could be of (b − ·)'V⁻¹(b − ·), V⁻¹ = R'U⁻¹U⁻ᵀR.
    const TriangularFactor& root = *covarianceRoot->factor();
    VectorXd left = root.solveTransposed(projections / responseScale).col(0);
    if (!others.empty()) left = beside(basisOf(root.solveTransposed(part)), left);
    test.f = left.squaredNorm() / test.numeratorDf;
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
    if (covarianceRoot && !covarianceRoot->empty() && !covarianceRoot->allFinite()) {
        test.why = "the coefficients are held back, and a test would take them for free";
        return test;
    }
    const bool many = factor.levels() > 0 && q > fewOf(factor); // levels: without a basis of theirs
    if (many && !covarianceRoot) {
        test.f = factor.of(besides(places), projections).lost / (responseScale * responseScale) /
                 test.numeratorDf / (residualStandardDeviation * residualStandardDeviation);
        return test;
    }
    constexpr Index mostTogether = 2000; // coefficients that a basis of them all is made for
    if (many && (2 * q > rank() || rank() > mostTogether)) {
        testApart(places, test);
        return test;
    }
    const MatrixXd basis = directionsOf(places);
    const VectorXd effects = basis.transpose() * projections / responseScale;
    if (!covarianceRoot) {
        test.f = effects.squaredNorm() / test.numeratorDf /
                 (residualStandardDeviation * residualStandardDeviation);
        return test;
    }
    if (!unseen.empty()) {
        for (Index j = 0; j < q; ++j)
            if (!(unseen.times(VectorXd(basis.col(j))).squaredNorm() <= 0.01)) {
                test.why = whyFixed;
                return test;
            }
    }
    const MatrixXd half = covarianceRoot->times(basis);
    const Eigen::ColPivHouseholderQR<MatrixXd> qr(half);
    const double all = sizeOfRoot();
    Index known = 0;
    for (Index j = 0; j < std::min(q, half.rows()); ++j)
        known += std::fabs(qr.matrixQR()(j, j)) > seenShare * all;
    if (known < q || !(all > 0)) {
        test.why = whyFewDirections(known, q);
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
    if (factor.levels() > 0 && q > fewOf(factor)) {
        // Each about the constant, whose length all three share.
        std::vector<Index> own = mine;
        if (first) own.insert(own.begin(), 0);
        double log = factor.of(own, projections).factor.logDeterminant() +
                     factor.of(besides(mine), projections).factor.logDeterminant() - factor.logDeterminant();
        if (first) log -= std::log(factor.columns({0}).col(0).norm());
        return std::max(1.0, std::exp(2 * log));
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
    const bool few = factor.levels() > 0 ? q <= fewOf(factor) : 4 * q < reduced.rank;
    const VectorXd solution = few ? takenOut(out, given) : ofTheOthers(out, given);
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
    const std::vector<Index> places = besides(out);
    VectorXd b = VectorXd::Zero(rank());
    if (factor.levels() > 0) {
        const TriangularFactor::Part part = factor.of(places, projections);
        given = part.lost;
        b(places) = VectorXd(part.factor.solve(part.projections));
        return b;
    }
    const auto count = static_cast<Index>(places.size());
    const MatrixXd part = factor.columns(places);
    const Eigen::HouseholderQR<MatrixXd> qr(part);
    VectorXd effects = projections;
    effects.applyOnTheLeft(qr.householderQ().adjoint());
    given = effects.tail(rank() - count).squaredNorm();
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
