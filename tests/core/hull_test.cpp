// The hull against brute force, and reach by measures that ask no model.
#include "base/random.h"
#include "reach/hull.h"
#include "study/reach_measures.h"
#include "support/support.h"

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace hull_test {

/// Outside of a plane figure: some line through two of the points, or across the way to one, has all of them
/// on one side and the point on the other.
bool outsidePlane(const MatrixXd& points, const VectorXd& q) {
    const auto apart = [&](double a, double b) {
        double most = -INFINITY;
        for (Index k = 0; k < points.cols(); ++k)
            most = std::max(most, a * points(0, k) + b * points(1, k));
        return a * q[0] + b * q[1] > most + 1e-9;
    };
    for (Index i = 0; i < points.cols(); ++i) {
        if (apart(q[0] - points(0, i), q[1] - points(1, i))) return true;
        for (Index j = 0; j < points.cols(); ++j) {
            const double dx = points(0, j) - points(0, i), dy = points(1, j) - points(1, i);
            if (apart(dy, -dx) || apart(-dy, dx)) return true;
        }
    }
    return false;
}

TEST(Hull, IsThatOfBruteForceInThePlane) {
    RandomStream random(5, "hull");
    std::size_t outside = 0;
    for (int problem = 0; problem < 2000; ++problem) {
        const auto n = static_cast<Index>(1 + random.below(12));
        const bool coarse = problem % 2 == 0; // with points on edges, on each other, on a line
        MatrixXd points(2, n);
        for (double& value : points.reshaped())
            value = coarse ? static_cast<double>(random.below(5)) : random.normal();
        VectorXd q(2);
        for (double& value : q)
            value = coarse ? static_cast<double>(random.below(7)) - 1 : 1.2 * random.normal();
        const HullPlace place = placeInHull(points, q);
        EXPECT_EQ(place.outside, outsidePlane(points, q)) << problem;
        outside += place.outside;
        // The way leads to the hull, and before its end it is still outside.
        if (!place.outside) continue;
        EXPECT_LT(placeInHull(points, q + place.way).way.norm(), 1e-7) << problem;
        EXPECT_TRUE(placeInHull(points, q + 0.999 * place.way).outside) << problem;
    }
    EXPECT_GT(outside, 300U);
    EXPECT_LT(outside, 1900U);
}

TEST(Hull, InManyDimensionsKnowsItsOwnMixtures) {
    RandomStream random(6, "mixtures");
    for (int problem = 0; problem < 100; ++problem) {
        const auto p = static_cast<Index>(3 + random.below(6));
        const auto n = static_cast<Index>(200);
        MatrixXd points(p, n);
        for (double& value : points.reshaped())
            value = random.normal();
        VectorXd weights(n);
        for (double& w : weights)
            w = -std::log(random.uniform() + 1e-300);
        weights /= weights.sum();
        EXPECT_FALSE(placeInHull(points, points * weights).outside) << problem;
        // Beyond the farthest point in some direction nothing lies.
        VectorXd direction(p);
        for (double& value : direction)
            value = random.normal();
        Index farthest = 0;
        (direction.transpose() * points).maxCoeff(&farthest);
        const HullPlace place = placeInHull(points, points.col(farthest) + 0.01 * direction);
        EXPECT_TRUE(place.outside);
        EXPECT_LE(place.way.norm(), 0.0101 * direction.norm());
    }
}

TEST(Hull, NamesTheColumnThatLeaves) {
    RandomStream random(8, "rows");
    std::string learned = "x,z,g,y\n";
    for (int i = 0; i < 200; ++i) {
        const double x = 10 * random.uniform();
        learned += std::to_string(x) + "," + std::to_string(x + random.uniform()) + "," +
                   (i % 2 == 0 ? "a" : "b") + "," + std::to_string(2 * x) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(learned);
    // Each within its range, together never seen; like others; beyond x; a value missing.
    rows.forecast = readBytes("x,z,g\n1,9,a\n5,5.5,b\n12,12.5,a\n,3,a\n");
    Recipe recipe = recipeOf("y", {"x", "z", "g"});
    recipe.estimator.kind = "tree";
    recipe.forecast = ForecastRequest{};
    Progress progress;
    const auto prepared = prepareRows(recipe, rows, {1}, progress);
    const Evidence e = unchecked(recipe, rows);
    const ReachMeasures said =
        reachMeasures(*e.study, prepared->table, prepared->forecast->table, {2}, progress);
    ASSERT_EQ(said.rows.size(), 4U);
    EXPECT_EQ(said.rows[0].hull, "outside");
    EXPECT_EQ(said.rows[0].share, 0) << "no learning row stands so far from its like";
    EXPECT_EQ(said.rows[1].hull, "inside");
    EXPECT_GT(said.rows[1].share, 0.01);
    EXPECT_EQ(said.rows[2].hull, "outside");
    EXPECT_NE(said.rows[2].leavesBy.find("x"), std::string::npos);
    EXPECT_TRUE(std::isnan(said.rows[3].distance));
}

} // namespace hull_test
