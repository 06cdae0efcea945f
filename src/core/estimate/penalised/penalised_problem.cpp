#include "estimate/penalised/penalised_problem.h"

#include "estimate/decompositions.h"
#include "estimate/products.h"
#include "estimate/row_blocks.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// A column whose spread is rounding has none.
bool spreads(double deviation, double mean) {
    return deviation > 1e-12 * std::fabs(mean) && deviation > 0;
}

} // namespace

void RowSums::add(const RowSums& other) {
    if (x.size() == 0) {
        *this = other;
        return;
    }
    rows += other.rows;
    weight += other.weight;
    x += other.x;
    xy += other.xy;
    xx += other.xx;
    y += other.y;
    yy += other.yy;
}

SumShift shiftOf(const RowSource& x, std::span<const double> y, bool intercept) {
    SumShift shift{VectorXd::Zero(x.columns()), 0};
    const Index count = std::min<Index>(x.rows(), 2048);
    if (!intercept || count == 0) return shift;
    MatrixXd first(count, x.columns());
    x.fill(0, first);
    shift.x = first.colwise().mean();
    for (Index i = 0; i < count; ++i)
        shift.y += y[static_cast<std::size_t>(i)] / static_cast<double>(count);
    return shift;
}

RowSums sumRows(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                const SumShift& shift, Threads threads, Progress& progress) {
    const Index p = x.columns();
    const Index size = rowsOfBlock(p);
    // Several blocks one after the other, so that sums of many columns are not held too often.
    const auto blocks = static_cast<std::size_t>((x.rows() + size - 1) / size);
    const std::size_t chunk = std::max<std::size_t>(1, (blocks + 15) / 16);
    std::vector<RowSums> parts((blocks + chunk - 1) / chunk);
    parallelFor(parts.size(), threads, [&](std::size_t c) {
        RowSums& part = parts[c];
        part.x = part.xy = VectorXd::Zero(p);
        part.xx = MatrixXd::Zero(p, p);
        MatrixXd raw;
        VectorXd response;
        for (std::size_t b = c * chunk; b < std::min(blocks, (c + 1) * chunk); ++b) {
            stopIfTold(progress);
            const Index begin = static_cast<Index>(b) * size, count = std::min(size, x.rows() - begin);
            raw.resize(count, p);
            response.resize(count);
            x.fill(begin, raw);
            raw.rowwise() -= shift.x.transpose();
            for (Index i = 0; i < count; ++i)
                response[i] = y[static_cast<std::size_t>(begin + i)] - shift.y;
            part.rows += count;
            if (weights.empty()) {
                part.weight += static_cast<double>(count);
                part.x += raw.colwise().sum().transpose();
                part.y += response.sum();
            } else {
                const Eigen::Map<const VectorXd> w(weights.data() + begin, count);
                part.weight += w.sum();
                part.x.noalias() += raw.transpose() * w;
                part.y += response.dot(w);
                const VectorXd root = w.cwiseSqrt();
                raw.array().colwise() *= root.array();
                response.array() *= root.array();
            }
            part.xy.noalias() += raw.transpose() * response;
            addSquares(part.xx, raw);
            part.yy += response.squaredNorm();
        }
    });
    RowSums sums;
    sums.x = sums.xy = VectorXd::Zero(p);
    sums.xx = MatrixXd::Zero(p, p);
    for (const RowSums& part : parts)
        sums.add(part);
    return sums;
}

MatrixXd orthogonalRoot(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                        const PenalisedProblem& p, const std::vector<Index>& columns) {
    const auto k = static_cast<Index>(columns.size());
    const Index size = std::max<Index>(rowsOfBlock(x.columns()), k + 1);
    MatrixXd stacked = MatrixXd::Zero(k + 1 + size, k + 1), raw;
    for (Index begin = 0; begin < x.rows(); begin += size) {
        const Index count = std::min(size, x.rows() - begin);
        raw.resize(count, x.columns());
        x.fill(begin, raw);
        auto block = stacked.middleRows(k + 1, count);
        for (Index c = 0; c < k; ++c) {
            const Index j = columns[static_cast<std::size_t>(c)];
            block.col(c) = (raw.col(j).array() - p.mean[j]) / p.scale[j];
        }
        for (Index i = 0; i < count; ++i) {
            const auto row = static_cast<std::size_t>(begin + i);
            block(i, k) = y[row] - p.responseMean;
            if (!weights.empty()) block.row(i) *= std::sqrt(weights[row]);
        }
        stacked.topRows(k + 1) = upperTriangle(stacked.topRows(k + 1 + count));
    }
    return stacked.topRows(k + 1) / std::sqrt(static_cast<double>(p.rows));
}

bool heldBySums(Index rows, Index columns) {
    return 2 * columns <= rows;
}

PenalisedProblem problemOf(const RowSums& sums, const SumShift& shift, const PenaltyOptions& options) {
    const Index p = sums.x.size();
    const double w = sums.weight, n = static_cast<double>(sums.rows);
    PenalisedProblem out;
    out.rows = sums.rows;
    out.intercept = options.intercept;
    out.mean = VectorXd::Zero(p);
    out.scale = VectorXd::Ones(p);
    out.constant.assign(static_cast<std::size_t>(p), 0);
    const VectorXd about = options.intercept ? VectorXd(sums.x / w) : VectorXd::Zero(p);
    const double aboutY = options.intercept ? sums.y / w : 0;
    if (options.intercept) {
        out.mean = shift.x + about;
        out.responseMean = shift.y + aboutY;
    }
    out.gram = MatrixXd(sums.xx.selfadjointView<Eigen::Lower>());
    out.gram -= w * about * about.transpose();
    out.cross = sums.xy - w * aboutY * about;
    out.squares = std::max(0.0, sums.yy - w * aboutY * aboutY) / n;
    VectorXd by(p);
    for (Index j = 0; j < p; ++j) {
        const double deviation = std::sqrt(std::max(0.0, out.gram(j, j) / w));
        if (!spreads(deviation, options.intercept ? out.mean[j] : 0)) {
            out.constant[static_cast<std::size_t>(j)] = 1;
            by[j] = 0;
            continue;
        }
        if (options.standardise) out.scale[j] = deviation;
        by[j] = 1 / out.scale[j];
    }
    out.gram = by.asDiagonal() * out.gram * by.asDiagonal() / n;
    out.cross = out.cross.cwiseProduct(by) / n;
    return out;
}

PenalisedProblem problemOf(const RowSums& sums, const SumShift& shift, const PenaltyOptions& options,
                           const RowSource& x, std::span<const double> y, std::span<const double> weights) {
    PenalisedProblem out = problemOf(sums, shift, options);
    out.root = [&x, y, weights, p = out](const std::vector<Index>& columns) {
        return orthogonalRoot(x, y, weights, p, columns);
    };
    return out;
}

PenalisedProblem problemOf(const RowSource& x, std::span<const double> y, std::span<const double> weights,
                           const PenaltyOptions& options, Threads threads, Progress& progress) {
    if (heldBySums(x.rows(), x.columns())) {
        const SumShift shift = shiftOf(x, y, options.intercept);
        return problemOf(sumRows(x, y, weights, shift, threads, progress), shift, options, x, y, weights);
    }
    const Index n = x.rows(), p = x.columns();
    PenalisedProblem out;
    out.rows = n;
    out.intercept = options.intercept;
    out.z.resize(n, p);
    x.fill(0, out.z);
    out.y = Eigen::Map<const VectorXd>(y.data(), n);
    VectorXd w = VectorXd::Ones(n);
    if (!weights.empty()) w = Eigen::Map<const VectorXd>(weights.data(), n);
    const double whole = w.sum();
    out.mean = VectorXd::Zero(p);
    out.scale = VectorXd::Ones(p);
    out.constant.assign(static_cast<std::size_t>(p), 0);
    if (options.intercept) {
        out.responseMean = w.dot(out.y) / whole;
        out.y.array() -= out.responseMean;
    }
    const VectorXd root = w.cwiseSqrt();
    out.y.array() *= root.array();
    parallelFor(static_cast<std::size_t>(p), threads, [&](std::size_t at) {
        const auto j = static_cast<Index>(at);
        auto z = out.z.col(j);
        if (options.intercept) {
            out.mean[j] = w.dot(z) / whole;
            z.array() -= out.mean[j];
        }
        z.array() *= root.array();
        const double deviation = z.norm() / std::sqrt(whole);
        if (!spreads(deviation, out.mean[j])) {
            out.constant[at] = 1;
            z.setZero();
            return;
        }
        if (options.standardise) out.scale[j] = deviation;
        z /= out.scale[j];
    });
    out.cross = out.z.transpose() * out.y / static_cast<double>(n);
    out.squares = out.y.squaredNorm() / static_cast<double>(n);
    return out;
}

} // namespace oxgoad
