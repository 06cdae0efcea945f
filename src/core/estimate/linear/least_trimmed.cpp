#include "estimate/linear/least_trimmed.h"

#include "base/random.h"
#include "estimate/distributions.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>
#include <numeric>
#include <utility>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index subsampleRows = 1500;
constexpr std::size_t finalists = 10;

/// Least squares of chosen rows. A hair of ridge stands in where they do not determine every direction.
/// `q` has a row a column, so that a row lies in one place.
VectorXd solveRows(const MatrixXd& q, const VectorXd& y, const std::vector<Index>& rows,
                   Threads threads = {1}) {
    const Index p = q.rows();
    constexpr std::size_t block = 1024, chunk = 8 * block;
    struct Sums {
        MatrixXd gram;
        VectorXd cross;
    };
    std::vector<Sums> sums((rows.size() + chunk - 1) / chunk);
    parallelFor(sums.size(), threads, [&](std::size_t c) {
        Sums& sum = sums[c];
        sum.gram = MatrixXd::Zero(p, p);
        sum.cross = VectorXd::Zero(p);
        MatrixXd part;
        const std::size_t last = std::min(rows.size(), (c + 1) * chunk);
        for (std::size_t begin = c * chunk; begin < last; begin += block) {
            const auto count = static_cast<Index>(std::min(block, last - begin));
            part.resize(p, count);
            for (Index i = 0; i < count; ++i) {
                const Index row = rows[begin + static_cast<std::size_t>(i)];
                part.col(i) = q.col(row);
                sum.cross += y[row] * part.col(i);
            }
            sum.gram.selfadjointView<Eigen::Lower>().rankUpdate(part);
        }
    });
    MatrixXd gram = MatrixXd::Zero(p, p);
    VectorXd cross = VectorXd::Zero(p);
    for (const Sums& sum : sums) {
        gram += sum.gram;
        cross += sum.cross;
    }
    gram.diagonal().array() += 1e-9 * std::max(gram.trace() / static_cast<double>(p), 1e-300);
    return gram.selfadjointView<Eigen::Lower>().ldlt().solve(cross);
}

/// The same of the rows that are kept, by those that are dropped where these are few: all rows together have
/// the products I and q·y.
VectorXd solveWithout(const MatrixXd& q, const VectorXd& y, const VectorXd& leastSquares,
                      const std::vector<Index>& kept, const std::vector<Index>& dropped, Threads threads) {
    if (dropped.size() * 4 > kept.size()) return solveRows(q, y, kept, threads);
    const Index p = q.rows();
    MatrixXd few(p, static_cast<Index>(dropped.size()));
    VectorXd fewY(few.cols());
    for (Index i = 0; i < few.cols(); ++i) {
        few.col(i) = q.col(dropped[static_cast<std::size_t>(i)]);
        fewY[i] = y[dropped[static_cast<std::size_t>(i)]];
    }
    MatrixXd gram = MatrixXd::Identity(p, p);
    gram.selfadjointView<Eigen::Lower>().rankUpdate(few, -1);
    const Eigen::LLT<MatrixXd> solver(gram.selfadjointView<Eigen::Lower>());
    // A direction that hardly any row kept has would lose its digits.
    if (solver.info() != Eigen::Success || !(solver.matrixLLT().diagonal().minCoeff() > 1e-3))
        return solveRows(q, y, kept, threads);
    return solver.solve(leastSquares - few * fewY);
}

/// The h rows with the smallest squared residuals, and the sum of these.
std::pair<std::vector<Index>, double> closest(const VectorXd& residuals, Index h) {
    std::vector<Index> order(static_cast<std::size_t>(residuals.size()));
    std::iota(order.begin(), order.end(), Index{0});
    const auto smaller = [&](Index a, Index b) {
        const double ra = std::fabs(residuals[a]), rb = std::fabs(residuals[b]);
        return ra != rb ? ra < rb : a < b;
    };
    std::nth_element(order.begin(), order.begin() + (h - 1), order.end(), smaller);
    order.resize(static_cast<std::size_t>(h));
    std::sort(order.begin(), order.end()); // sums in one order
    double sum = 0;
    for (const Index row : order)
        sum += residuals[row] * residuals[row];
    return {std::move(order), sum};
}

struct Start {
    VectorXd beta;
    double sum = 0;
};

/// Concentration steps: least squares of the rows that lie closest, again and again.
void concentrate(const MatrixXd& q, const VectorXd& y, Index h, int steps, Start& start,
                 Threads threads = {1}) {
    double before = INFINITY;
    for (int step = 0; step < steps; ++step) {
        auto [rows, sum] = closest(y - q.transpose() * start.beta, h);
        start.sum = sum;
        if (!(sum < before * (1 - 1e-12))) break;
        before = sum;
        start.beta = solveRows(q, y, rows, threads);
    }
    start.sum = closest(y - q.transpose() * start.beta, h).second;
}

Index trimmedRows(Index n, Index p) {
    return (n + p + 1) / 2;
}

/// `steps` of concentration for the finalists.
std::vector<Start> tryStarts(const MatrixXd& q, const VectorXd& y, const VectorXd& leastSquares, int steps,
                             Threads threads, Progress& progress) {
    const Index n = q.cols(), p = q.rows(), h = trimmedRows(n, p);
    const std::size_t random = p <= 10 ? 300 : std::max<std::size_t>(40, static_cast<std::size_t>(3000 / p));
    std::vector<Start> starts(random + 1);
    parallelFor(starts.size(), threads, [&](std::size_t k) {
        stopIfTold(progress);
        Start& start = starts[k];
        if (k == 0) {
            start.beta = leastSquares;
        } else {
            RandomStream stream(k, "least trimmed squares");
            std::vector<Index> rows;
            while (static_cast<Index>(rows.size()) < p + 1) {
                const auto row = static_cast<Index>(stream.below(static_cast<std::uint64_t>(n)));
                if (std::find(rows.begin(), rows.end(), row) == rows.end()) rows.push_back(row);
            }
            start.beta = solveRows(q, y, rows);
        }
        concentrate(q, y, h, 2, start);
    });
    std::stable_sort(starts.begin(), starts.end(),
                     [](const Start& a, const Start& b) { return a.sum < b.sum; });
    starts.resize(std::min(starts.size(), finalists));
    parallelFor(starts.size(), threads, [&](std::size_t k) {
        stopIfTold(progress);
        concentrate(q, y, h, steps, starts[k]);
    });
    std::stable_sort(starts.begin(), starts.end(),
                     [](const Start& a, const Start& b) { return a.sum < b.sum; });
    return starts;
}

double normalDensity(double z) {
    return std::exp(-0.5 * z * z) / 2.50662827463100050242;
}

/// The standard deviation of a normal over that of its part within ±z.
double consistency(double z) {
    const double inside = 1 - normalTwoSided(z);
    return 1 / std::sqrt(1 - 2 * z * normalDensity(z) / inside);
}

} // namespace

LeastTrimmed leastTrimmed(const MatrixXd& columns, const VectorXd& y, Threads threads, Progress& progress) {
    const MatrixXd q = columns.transpose();
    const Index n = q.cols(), p = q.rows(), h = trimmedRows(n, p);
    const VectorXd leastSquares = q * y;
    Start best;
    if (n <= subsampleRows) {
        best = tryStarts(q, y, leastSquares, 30, threads, progress).front();
    } else {
        RandomStream stream(1, "least trimmed squares, rows");
        auto rows = shuffled(static_cast<std::uint32_t>(n), stream);
        rows.resize(static_cast<std::size_t>(subsampleRows));
        std::sort(rows.begin(), rows.end());
        MatrixXd few(p, subsampleRows);
        VectorXd fewY(subsampleRows);
        for (Index i = 0; i < subsampleRows; ++i) {
            few.col(i) = q.col(rows[static_cast<std::size_t>(i)]);
            fewY[i] = y[rows[static_cast<std::size_t>(i)]];
        }
        // All rows concentrate what some of them found, so that these need not settle.
        best = tryStarts(few, fewY, leastSquares, 5, threads, progress).front();
        const bool much = static_cast<double>(n) * static_cast<double>(p) * static_cast<double>(p) > 5e7;
        concentrate(q, y, h, much ? 2 : 20, best, threads);
    }
    progress.checkpoint(0.8, "Looking for rows that hide each other");
    // Reweighted: the scale of the trimmed sum decides which rows count.
    VectorXd residuals = y - q.transpose() * best.beta;
    double sum = closest(residuals, h).second;
    double scale = std::sqrt(sum / static_cast<double>(h)) *
                   consistency(normalQuantile((1 + static_cast<double>(h) / static_cast<double>(n)) / 2));
    LeastTrimmed out;
    constexpr double cut = 2.5;
    std::vector<Index> kept, dropped;
    for (Index i = 0; i < n; ++i)
        (std::fabs(residuals[i]) <= cut * scale ? kept : dropped).push_back(i);
    if (static_cast<Index>(kept.size()) > p && scale > 0) {
        residuals = y - q.transpose() * solveWithout(q, y, leastSquares, kept, dropped, threads);
        sum = 0;
        for (const Index row : kept)
            sum += residuals[row] * residuals[row];
        scale = std::sqrt(sum / static_cast<double>(static_cast<Index>(kept.size()) - p)) * consistency(cut);
    }
    const double far = normalQuantile(1 - 0.005 / static_cast<double>(n));
    for (Index i = 0; i < n && scale > 0; ++i)
        if (std::fabs(residuals[i]) > far * scale) out.suspects.push_back(i);
    out.residuals = std::move(residuals);
    out.scale = scale;
    return out;
}

} // namespace oxgoad
