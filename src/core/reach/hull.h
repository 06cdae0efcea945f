#pragma once
// Whether a point lies among others: in their convex hull.
#include <Eigen/Core>

namespace oxgoad {

/// Where a point stands to the convex hull of others.
struct HullPlace {
    bool outside = false;
    /// From the point to the nearest of the hull; zeros where it lies inside.
    Eigen::VectorXd way;
};

/// `points` p × n, n > 0. The nearest point of the hull by the active sets of Wolfe 1976, "Finding the
/// nearest point in a polytope", Mathematical Programming 11: exact but for rounding. A point nearer than
/// 1e-9 of the spread of the points lies inside.
HullPlace placeInHull(const Eigen::MatrixXd& points, const Eigen::VectorXd& point);

} // namespace oxgoad
