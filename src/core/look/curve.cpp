#include "look/curve.h"

#include "estimate/decompositions.h"
#include "look/scaled.h"

#include <Eigen/Cholesky>
#include <Eigen/LU>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace oxgoad {

namespace {

constexpr std::size_t sampleRows = 4000;
constexpr std::size_t mostJudged = 50000;
constexpr unsigned folds = 10;
constexpr std::size_t chunkRows = 32768;

/// Values of the cubic B-splines of a knot sequence that are not 0 on the interval `span`, at t (de Boor
/// 1978, "A practical guide to splines", ch. X).
std::array<double, 4> splinesAt(const std::vector<double>& knots, std::size_t span, double t) {
    std::array<double, 4> value{1, 0, 0, 0};
    std::array<double, 4> left{}, right{};
    for (std::size_t j = 1; j <= 3; ++j) {
        left[j] = t - knots[span + 1 - j];
        right[j] = knots[span + j] - t;
        double saved = 0;
        for (std::size_t r = 0; r < j; ++r) {
            const double part = value[r] / (right[r + 1] + left[j - r]);
            value[r] = saved + right[r + 1] * part;
            saved = left[j - r] * part;
        }
        value[j] = saved;
    }
    return value;
}

} // namespace

std::optional<CurveBasis> CurveBasis::of(std::span<const double> x, std::size_t mostKnots) {
    CurveBasis basis;
    basis.m_low = std::numeric_limits<double>::infinity();
    basis.m_high = -basis.m_low;
    std::size_t finite = 0;
    for (const double v : x)
        if (std::isfinite(v)) {
            basis.m_low = std::min(basis.m_low, v);
            basis.m_high = std::max(basis.m_high, v);
            ++finite;
        }
    const double range = basis.m_high - basis.m_low;
    if (finite < 2 || !(range > 0) || !std::isfinite(range)) return std::nullopt;
    basis.m_inverseRange = 1 / range;
    if (!std::isnormal(basis.m_inverseRange)) return std::nullopt;
    std::vector<double> sample;
    const std::size_t stride = finite / sampleRows + 1;
    sample.reserve(finite / stride + 1);
    std::size_t seen = 0;
    for (const double v : x)
        if (std::isfinite(v) && seen++ % stride == 0)
            sample.push_back((v - basis.m_low) * basis.m_inverseRange);
    std::sort(sample.begin(), sample.end());
    std::vector<double> values = sample;
    values.erase(std::unique(values.begin(), values.end()), values.end());
    basis.m_distinct = values.size();
    const std::size_t inner = std::min(mostKnots, values.size() / 4);
    basis.m_breaks = {0};
    // At quantiles of the rows, but never two knots nearer than a thousandth of the range.
    for (std::size_t k = 1; k <= inner; ++k) {
        const double at = sample[k * (sample.size() - 1) / (inner + 1)];
        if (at > basis.m_breaks.back() + 1e-3 && at < 1 - 1e-3) basis.m_breaks.push_back(at);
    }
    basis.m_breaks.push_back(1);

    std::vector<double> knots(3, 0.0);
    knots.insert(knots.end(), basis.m_breaks.begin(), basis.m_breaks.end());
    knots.insert(knots.end(), 3, 1.0);
    const std::size_t pieces = basis.m_breaks.size() - 1;
    // A cubic is known by its values at four places of the interval.
    Eigen::Matrix4d places;
    for (int i = 0; i < 4; ++i)
        for (int k = 0; k < 4; ++k)
            places(i, k) = std::pow(i / 3.0, k);
    const Eigen::Matrix4d inverse = places.inverse();
    for (std::size_t p = 0; p < pieces; ++p) {
        const double from = basis.m_breaks[p];
        const double width = basis.m_breaks[p + 1] - from;
        Eigen::Matrix4d heights;
        for (int i = 0; i < 4; ++i) {
            const auto value = splinesAt(knots, p + 3, from + width * i / 3.0);
            for (int s = 0; s < 4; ++s)
                heights(i, s) = value[static_cast<std::size_t>(s)];
        }
        const Eigen::Matrix4d cubic = inverse * heights;
        Piece piece;
        for (int s = 0; s < 4; ++s)
            for (int k = 0; k < 4; ++k)
                piece.coefficient[s][k] = cubic(k, s);
        piece.from = from;
        piece.inverseWidth = 1 / width;
        basis.m_pieces.push_back(piece);
    }
    basis.m_start.resize(256);
    std::size_t p = 0;
    for (std::size_t cell = 0; cell < 256; ++cell) {
        while (p + 1 < pieces && basis.m_breaks[p + 1] <= static_cast<double>(cell) / 256)
            ++p;
        basis.m_start[cell] = static_cast<std::uint16_t>(p);
    }
    const auto q = static_cast<Eigen::Index>(basis.size());
    basis.m_roughness = Eigen::MatrixXd::Zero(q, q);
    for (std::size_t piece = 0; piece < pieces; ++piece) {
        const Piece& c = basis.m_pieces[piece];
        for (int a = 0; a < 4; ++a)
            for (int b = 0; b < 4; ++b) {
                // Second derivatives are straight lines p + q·u and r + s·u over the interval.
                const double p0 = 2 * c.coefficient[a][2], q0 = 6 * c.coefficient[a][3];
                const double r0 = 2 * c.coefficient[b][2], s0 = 6 * c.coefficient[b][3];
                basis.m_roughness(static_cast<Eigen::Index>(piece) + a,
                                  static_cast<Eigen::Index>(piece) + b) +=
                    std::pow(c.inverseWidth, 3) * (p0 * r0 + (p0 * s0 + q0 * r0) / 2 + q0 * s0 / 3);
            }
    }
    return basis;
}

std::size_t CurveBasis::at(double x, double values[4]) const {
    const double t = std::clamp((x - m_low) * m_inverseRange, 0.0, 1.0);
    std::size_t p = m_start[std::min<std::size_t>(255, static_cast<std::size_t>(t * 256))];
    while (p + 1 < m_pieces.size() && t >= m_breaks[p + 1])
        ++p;
    const Piece& piece = m_pieces[p];
    const double u = (t - piece.from) * piece.inverseWidth;
    for (int s = 0; s < 4; ++s) {
        const double* c = piece.coefficient[s];
        values[s] = c[0] + u * (c[1] + u * (c[2] + u * c[3]));
    }
    return p;
}

namespace {

/// What a penalised fit needs of its rows: B'B by bands, B'y, and sums of y (centred and scaled).
struct Sums {
    std::vector<std::array<double, 8>> band; // [i]: B'B(i, i..i+3), B'y(i), and room to align
    double yy = 0, y = 0, n = 0;
    double x = 0, xx = 0, xy = 0; // for the line; x centred and scaled too
    explicit Sums(std::size_t size) : band(size, std::array<double, 8>{}) {}
    /// What only the curve needs.
    void addSplines(std::size_t first, const double b[4], double value) {
        const double b0 = b[0], b1 = b[1], b2 = b[2],
                     b3 = b[3]; // the sums might lie over b for all one knows
        double* r = band[first].data();
        r[0] += b0 * b0;
        r[1] += b0 * b1;
        r[2] += b0 * b2;
        r[3] += b0 * b3;
        r[4] += b0 * value;
        r[8] += b1 * b1;
        r[9] += b1 * b2;
        r[10] += b1 * b3;
        r[12] += b1 * value;
        r[16] += b2 * b2;
        r[17] += b2 * b3;
        r[20] += b2 * value;
        r[24] += b3 * b3;
        r[28] += b3 * value;
    }
    void add(std::size_t first, const double b[4], double t, double value) {
        addSplines(first, b, value);
        yy += value * value;
        y += value;
        n += 1;
        x += t;
        xx += t * t;
        xy += t * value;
    }
    void add(const Sums& other, double sign) {
        for (std::size_t i = 0; i < band.size(); ++i)
            for (std::size_t j = 0; j < 5; ++j)
                band[i][j] += sign * other.band[i][j];
        yy += sign * other.yy;
        y += sign * other.y;
        n += sign * other.n;
        x += sign * other.x;
        xx += sign * other.xx;
        xy += sign * other.xy;
    }
    Eigen::MatrixXd products() const {
        const auto q = static_cast<Eigen::Index>(band.size());
        Eigen::MatrixXd a = Eigen::MatrixXd::Zero(q, q);
        for (Eigen::Index i = 0; i < q; ++i)
            for (Eigen::Index j = i; j < std::min(q, i + 4); ++j)
                a(i, j) = a(j, i) = band[static_cast<std::size_t>(i)][static_cast<std::size_t>(j - i)];
        return a;
    }
    Eigen::VectorXd right() const {
        Eigen::VectorXd b(static_cast<Eigen::Index>(band.size()));
        for (Eigen::Index i = 0; i < b.size(); ++i)
            b[i] = band[static_cast<std::size_t>(i)][4];
        return b;
    }
};

struct Penalised {
    Eigen::VectorXd coefficients;
    /// Posterior covariance over σ² is root·root'.
    Eigen::MatrixXd root;
    double degreesOfFreedom = 0;
    double rss = 0;
};

/// By the basis in which B'B is the identity and the penalty diagonal (Demmler and Reinsch 1975, "Oscillation
/// matrices with spline smoothing").
Penalised solve(const Sums& sums, const Eigen::MatrixXd& roughness, bool straight = false) {
    const Eigen::MatrixXd products = sums.products();
    // A knot interval without rows leaves B'B singular: a trace of the penalty settles what rows do not say.
    const double trace = 1e-10 * products.trace() / std::max(roughness.trace(), 1e-300);
    const Eigen::LLT<Eigen::MatrixXd> root(products + trace * roughness);
    if (root.info() != Eigen::Success) return {};
    Eigen::MatrixXd inner = root.matrixL().solve(roughness);
    inner = root.matrixL().solve(inner.transpose().eval());
    const SymmetricParts spectrum = symmetricParts(inner);
    const Eigen::VectorXd gamma = spectrum.values.cwiseMax(0);
    const Eigen::VectorXd z = spectrum.vectors.transpose() * root.matrixL().solve(sums.right());
    const Eigen::Index q = gamma.size();
    // The two smallest are those of straight lines, which the penalty leaves alone.
    const double largest = gamma[q - 1];
    const double smallest = std::max(gamma[std::min<Eigen::Index>(2, q - 1)], 1e-14 * largest);
    const double from = std::log(1e-3 / std::max(largest, 1e-300));
    const double to = std::log(1e4 / std::max(smallest, 1e-300));
    auto shrunk = [&](double logPenalty) {
        Eigen::VectorXd s(q);
        const double penalty = std::exp(logPenalty);
        for (Eigen::Index i = 0; i < q; ++i)
            s[i] = i < 2 ? 1 : 1 / (1 + penalty * gamma[i]);
        return s;
    };
    auto rssOf = [&](const Eigen::VectorXd& s) {
        double rss = sums.yy;
        for (Eigen::Index i = 0; i < q; ++i)
            rss -= z[i] * z[i] * s[i] * (2 - s[i]);
        return std::max(rss, 0.0);
    };
    double best = std::numeric_limits<double>::infinity();
    Eigen::VectorXd shrink = shrunk(to);
    constexpr int steps = 60;
    for (int k = steps; k >= 0; --k) { // the smoothest of equals
        if (straight) {
            shrink.tail(q - std::min<Eigen::Index>(2, q)).setZero();
            break;
        }
        const Eigen::VectorXd s = shrunk(from + (to - from) * k / steps);
        const double left = sums.n - 1.4 * s.sum();
        if (left <= 0) break;
        const double score = rssOf(s) / (left * left);
        if (score < best * (1 - 1e-12)) {
            best = score;
            shrink = s;
        }
    }
    Penalised fit;
    const Eigen::MatrixXd back = root.matrixU().solve(spectrum.vectors);
    fit.coefficients = back * shrink.cwiseProduct(z);
    fit.root = back * shrink.cwiseSqrt().asDiagonal();
    fit.degreesOfFreedom = shrink.sum();
    fit.rss = rssOf(shrink);
    return fit;
}

/// Centre and scale of y that keep sums of squares in range.
struct Centred {
    double centre = 0, scale = 1;
    explicit Centred(std::span<const double> x, std::span<const double> y) {
        scale = powerOfTwoScale(y);
        double n = 0;
        double mean = 0;
        for (std::size_t i = 0; i < y.size(); ++i)
            if (std::isfinite(x[i]) && std::isfinite(y[i])) mean += (y[i] * scale - mean) / ++n;
        centre = mean;
    }
    double of(double y) const { return y * scale - centre; }
};

} // namespace

double Curve::at(double x) const {
    double b[4];
    const auto first = static_cast<Eigen::Index>(m_basis->at(x, b));
    double sum = m_centre;
    for (Eigen::Index i = 0; i < 4; ++i)
        sum += b[i] * m_coefficients[first + i];
    return sum / m_scale;
}

double Curve::errorAt(double x) const {
    double b[4];
    const auto first = static_cast<Eigen::Index>(m_basis->at(x, b));
    Eigen::VectorXd row = Eigen::VectorXd::Zero(m_root.cols());
    for (Eigen::Index i = 0; i < 4; ++i)
        row += b[i] * m_root.row(first + i).transpose();
    return residualStandardDeviation * row.norm();
}

std::optional<Curve> fitCurve(std::span<const double> x, std::span<const double> y, Threads threads,
                              bool straight) {
    auto basis = CurveBasis::of(x);
    if (!basis || basis->distinct() < 4) return std::nullopt;
    const Centred centred(x, y);
    const std::size_t chunks = (x.size() + chunkRows - 1) / chunkRows;
    std::vector<Sums> parts(chunks, Sums(basis->size()));
    parallelFor(chunks, threads, [&](std::size_t c) {
        Sums& part = parts[c];
        double b[4];
        double n = 0, sum = 0, squares = 0;
        for (std::size_t i = c * chunkRows; i < std::min(x.size(), (c + 1) * chunkRows); ++i) {
            if (!std::isfinite(x[i]) || !std::isfinite(y[i])) continue;
            const double value = centred.of(y[i]);
            part.addSplines(basis->at(x[i], b), b, value);
            n += 1;
            sum += value;
            squares += value * value;
        }
        part.n = n;
        part.y = sum;
        part.yy = squares;
    });
    Sums sums(basis->size());
    for (const Sums& part : parts)
        sums.add(part, 1);
    if (sums.n < 5) return std::nullopt;
    Penalised fit = solve(sums, basis->roughness(), straight);
    if (fit.coefficients.size() == 0 || !fit.coefficients.allFinite()) return std::nullopt;
    Curve curve;
    curve.rows = static_cast<std::size_t>(sums.n);
    curve.low = basis->low();
    curve.high = basis->high();
    curve.degreesOfFreedom = fit.degreesOfFreedom;
    const double total = sums.yy - sums.y * sums.y / sums.n;
    curve.rSquared = total > 0 ? 1 - fit.rss / total : std::nan("");
    curve.residualStandardDeviation =
        std::sqrt(fit.rss / std::max(1.0, sums.n - fit.degreesOfFreedom)) / centred.scale;
    curve.m_basis = std::make_shared<const CurveBasis>(std::move(*basis));
    curve.m_coefficients = std::move(fit.coefficients);
    curve.m_root = std::move(fit.root);
    curve.m_centre = centred.centre;
    curve.m_scale = centred.scale;
    return curve;
}

unsigned foldOf(std::size_t row) {
    std::uint64_t z = (static_cast<std::uint64_t>(row) + 1) * 0x9E3779B97F4A7C15U;
    z = (z ^ (z >> 30U)) * 0xBF58476D1CE4E5B9U;
    z = (z ^ (z >> 27U)) * 0x94D049BB133111EBU;
    return static_cast<unsigned>(((z ^ (z >> 31U)) >> 32U) * folds >> 32U);
}

CrossValidated crossValidateCurve(std::span<const double> x, std::span<const double> y) {
    CrossValidated result{std::nan(""), std::nan(""), false};
    const auto basis = CurveBasis::of(x);
    if (!basis) return result;
    const Centred centred(x, y);
    const double range = basis->high() - basis->low();
    const double middle = basis->low() + range / 2;
    std::vector<Sums> held(folds, Sums(basis->size()));
    double b[4];
    const std::size_t stride = (x.size() + mostJudged - 1) / mostJudged;
    for (std::size_t i = 0; i < x.size(); i += stride) {
        if (!std::isfinite(x[i]) || !std::isfinite(y[i])) continue;
        const std::size_t first = basis->at(x[i], b);
        held[foldOf(i)].add(first, b, (x[i] - middle) / range, centred.of(y[i]));
    }
    Sums all(basis->size());
    for (const Sums& h : held)
        all.add(h, 1);
    if (all.n < 2 * folds) return result;
    double total = 0, line = 0, curve = 0;
    for (const Sums& h : held) {
        if (h.n == 0) continue;
        Sums learning = all;
        learning.add(h, -1);
        const double mean = learning.y / learning.n;
        total += h.yy - 2 * mean * h.y + h.n * mean * mean;
        const double meanT = learning.x / learning.n;
        const double spread = learning.xx - learning.n * meanT * meanT;
        const double slope =
            spread > 1e-14 * learning.xx ? (learning.xy - learning.n * meanT * mean) / spread : 0;
        const double constant = mean - slope * meanT;
        line += h.yy - 2 * (constant * h.y + slope * h.xy) + h.n * constant * constant +
                2 * constant * slope * h.x + slope * slope * h.xx;
        const Penalised fit = basis->distinct() < 4 ? Penalised{} : solve(learning, basis->roughness());
        if (fit.coefficients.size() == 0) {
            curve += h.yy - 2 * (constant * h.y + slope * h.xy) + h.n * constant * constant +
                     2 * constant * slope * h.x + slope * slope * h.xx;
            continue;
        }
        curve += h.yy - 2 * fit.coefficients.dot(h.right()) +
                 fit.coefficients.dot(h.products() * fit.coefficients);
    }
    if (total > 0) {
        result.line = 1 - line / total;
        result.straight = !(curve < line);
        result.curve = result.straight ? result.line : 1 - curve / total;
    }
    return result;
}

} // namespace oxgoad
