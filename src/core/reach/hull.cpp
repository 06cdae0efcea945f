#include "reach/hull.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// Of a symmetric system, positive definite but for rounding, by elimination with pivots.
VectorXd solved(MatrixXd a, VectorXd b) {
    const Index n = a.rows();
    for (Index k = 0; k < n; ++k) {
        Index pivot = k;
        for (Index i = k + 1; i < n; ++i)
            if (std::fabs(a(i, k)) > std::fabs(a(pivot, k))) pivot = i;
        if (!(std::fabs(a(pivot, k)) > 0)) continue;
        a.row(k).swap(a.row(pivot));
        std::swap(b[k], b[pivot]);
        for (Index i = k + 1; i < n; ++i) {
            const double by = a(i, k) / a(k, k);
            a.row(i).tail(n - k) -= by * a.row(k).tail(n - k);
            b[i] -= by * b[k];
        }
    }
    for (Index k = n; k-- > 0;) {
        for (Index j = k + 1; j < n; ++j)
            b[k] -= a(k, j) * b[j];
        b[k] = std::fabs(a(k, k)) > 0 ? b[k] / a(k, k) : 0;
    }
    return b;
}

/// Weights, adding up to 1, of the point nearest to 0 of the plane through the chosen ones.
VectorXd nearestOfPlane(const MatrixXd& points, const std::vector<Index>& chosen) {
    const auto m = static_cast<Index>(chosen.size());
    MatrixXd products(m, m);
    for (Index i = 0; i < m; ++i)
        for (Index j = 0; j < m; ++j)
            products(i, j) = 1 + points.col(chosen[static_cast<std::size_t>(i)])
                                     .dot(points.col(chosen[static_cast<std::size_t>(j)]));
    VectorXd weights = solved(products, VectorXd::Ones(m));
    const double sum = weights.sum();
    return sum != 0 ? VectorXd(weights / sum) : VectorXd::Constant(m, 1.0 / static_cast<double>(m));
}

} // namespace

HullPlace placeInHull(const MatrixXd& given, const VectorXd& point) {
    const MatrixXd points = given.colwise() - point;
    const double size = std::max(points.colwise().norm().maxCoeff(), 1e-300);
    const MatrixXd scaled = points / size;
    Index first = 0;
    scaled.colwise().squaredNorm().minCoeff(&first);
    std::vector<Index> chosen{first};
    std::vector<double> weights{1};
    VectorXd x = scaled.col(first);
    constexpr double tolerance = 1e-10;
    for (int round = 0; round < 1000 && x.norm() > 1e-9; ++round) {
        Index next = 0;
        const double least = (x.transpose() * scaled).minCoeff(&next);
        if (x.squaredNorm() - least <= tolerance * std::max(1e-6, x.norm()) ||
            std::find(chosen.begin(), chosen.end(), next) != chosen.end())
            break;
        chosen.push_back(next);
        weights.push_back(0);
        for (;;) {
            const VectorXd wanted = nearestOfPlane(scaled, chosen);
            double step = 1;
            for (std::size_t i = 0; i < chosen.size(); ++i)
                if (wanted[static_cast<Index>(i)] < tolerance && weights[i] > wanted[static_cast<Index>(i)])
                    step = std::min(step, weights[i] / (weights[i] - wanted[static_cast<Index>(i)]));
            for (std::size_t i = 0; i < chosen.size(); ++i)
                weights[i] += step * (wanted[static_cast<Index>(i)] - weights[i]);
            bool dropped = false;
            for (std::size_t i = chosen.size(); i-- > 0;)
                if (weights[i] <= tolerance && chosen.size() > 1) {
                    chosen.erase(chosen.begin() + static_cast<std::ptrdiff_t>(i));
                    weights.erase(weights.begin() + static_cast<std::ptrdiff_t>(i));
                    dropped = true;
                }
            if (!dropped) break;
        }
        x.setZero();
        double sum = 0;
        for (const double w : weights)
            sum += w;
        for (std::size_t i = 0; i < chosen.size(); ++i)
            x += weights[i] / sum * scaled.col(chosen[i]);
    }
    HullPlace place;
    place.outside = x.norm() > 1e-8;
    place.way = place.outside ? VectorXd(x * size) : VectorXd::Zero(point.size());
    return place;
}

} // namespace oxgoad
