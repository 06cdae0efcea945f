// Rows taken into a triangular factor, against a factorisation of all of them at once.
#include "core/stops.h"
#include "support/support.h"

#include "base/random.h"
#include "estimate/linear/triangle.h"

#include <Eigen/QR>

#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace triangle_test {

MatrixXd normals(Index rows, Index columns, std::uint64_t seed) {
    RandomStream random(seed, "triangle");
    return MatrixXd::NullaryExpr(rows, columns, [&] { return random.normal(); });
}

/// Rows turned over where their diagonal is below 0: R is unique up to that.
MatrixXd upright(MatrixXd r) {
    for (Index i = 0; i < r.rows(); ++i)
        if (r(i, i) < 0) r.row(i) *= -1;
    return r;
}

MatrixXd ofAll(const MatrixXd& rows) {
    const Index m = std::min(rows.rows(), rows.cols());
    MatrixXd r = MatrixXd::Zero(rows.cols(), rows.cols());
    r.topRows(m) = Eigen::HouseholderQR<MatrixXd>(rows).matrixQR().topRows(m).triangularView<Eigen::Upper>();
    return upright(r);
}

double farthestApart(const MatrixXd& a, const MatrixXd& b) {
    return (a - b).cwiseAbs().maxCoeff();
}

TEST(Triangle, IsThatOfAllRowsForAnyNumberOfColumns) {
    // One panel, panels that end within a half, panels of which one column is left, several of them.
    for (const Index columns : {1, 2, 15, 16, 17, 31, 63, 64, 65, 66, 81, 96, 97, 130, 257})
        for (const Index rows : {columns, 2 * columns - 1, 2 * columns, 5 * columns + 3, Index{1400}}) {
            SCOPED_TRACE(std::to_string(rows) + " x " + std::to_string(columns));
            const MatrixXd x = normals(rows, columns, static_cast<std::uint64_t>(rows * 1000 + columns));
            MatrixXd work = x;
            const MatrixXd r = triangle(work, quietly());
            ASSERT_EQ(r.rows(), columns);
            EXPECT_EQ(MatrixXd(r.triangularView<Eigen::StrictlyLower>()), MatrixXd::Zero(columns, columns));
            const double size = std::sqrt(static_cast<double>(rows));
            EXPECT_LT(farthestApart(upright(r), ofAll(x)), 2e-11 * size); // square ones are nearly singular
            EXPECT_LT(farthestApart(r.transpose() * r, x.transpose() * x), 1e-13 * size * size);
        }
}

TEST(Triangle, TakesRowsInPiecesOfAnyLength) {
    const MatrixXd x = normals(900, 75, 3);
    const MatrixXd whole = ofAll(x);
    for (const Index step : {1, 7, 74, 75, 76, 300, 900}) {
        MatrixXd r;
        for (Index begin = 0; begin < x.rows(); begin += step) {
            MatrixXd rows = x.middleRows(begin, std::min(step, x.rows() - begin));
            absorb(r, rows, quietly());
        }
        EXPECT_LT(farthestApart(upright(r), whole), 1e-12) << step;
    }
}

TEST(Triangle, OfFewerRowsThanColumnsEndsInRowsOfZeros) {
    for (const Index columns : {5, 80}) {
        MatrixXd few = normals(3, columns, 4);
        const MatrixXd kept = few;
        const MatrixXd r = triangle(few, quietly());
        ASSERT_EQ(r.rows(), columns);
        EXPECT_EQ(r.bottomRows(columns - 3), MatrixXd::Zero(columns - 3, columns));
        EXPECT_LT(farthestApart(r.transpose() * r, kept.transpose() * kept), 1e-14);
    }
    MatrixXd none(0, 4), noColumns(4, 0), r;
    EXPECT_EQ(triangle(none, quietly()), MatrixXd::Zero(4, 4));
    EXPECT_EQ(triangle(noColumns, quietly()).size(), 0);
    absorb(r, none, quietly());
    EXPECT_EQ(r, MatrixXd::Zero(4, 4));
}

TEST(Triangle, LeavesColumnsOfZerosAsTheyAreAndOfRepeatsHardlyAnything) {
    for (const Index columns : {12, 90}) {
        MatrixXd x = normals(1000, columns, 5);
        x.col(3).setZero();
        x.col(columns - 1) = x.col(1);
        MatrixXd work = x;
        const MatrixXd r = triangle(work, quietly());
        EXPECT_EQ(r.col(3), VectorXd::Zero(columns));
        EXPECT_LT(std::fabs(r(columns - 1, columns - 1)), 1e-13 * x.col(1).norm());
        EXPECT_LT(farthestApart(r.transpose() * r, x.transpose() * x), 1e-10);
    }
}

TEST(Triangle, ChangesNothingWithRowsOfZeros) {
    MatrixXd x = normals(600, 70, 6), zeros = MatrixXd::Zero(50, 70);
    MatrixXd r = triangle(x, quietly());
    const MatrixXd before = r;
    absorb(r, zeros, quietly());
    EXPECT_EQ(r, before);
}

TEST(Triangle, KeepsWhatProductsOfColumnsLose) {
    // Läuchli (1961), "Jordan-Elimination und Ausgleichung nach kleinsten Quadraten": a row of ones above e
    // times the identity. 1 + e² is 1 in double precision where e is 1e-9; R's last diagonal is
    // e √(1 + 1/(n-1)), by the ratio of determinants (e² + n) e^(2(n-1)) of n and n-1 columns.
    const double e = 1e-9;
    for (const Index n : {2, 10, 100}) {
        MatrixXd x = MatrixXd::Zero(n + 1, n);
        x.row(0).setOnes();
        x.bottomRows(n).diagonal().setConstant(e);
        for (const bool tall : {false, true}) { // reduced among themselves, or taken into zeros row by row
            MatrixXd r;
            if (tall) {
                r = MatrixXd::Zero(n, n);
                for (Index i = 0; i <= n; ++i) {
                    MatrixXd row = x.row(i);
                    absorb(r, row, quietly());
                }
            } else {
                MatrixXd work = x;
                r = triangle(work, quietly());
            }
            const double last = e * std::sqrt(1 + 1 / static_cast<double>(n - 1));
            EXPECT_NEAR(std::fabs(r(n - 1, n - 1)), last, 1e-6 * last) << n << ' ' << tall;
        }
    }
}

TEST(Triangle, OfVerySmallAndVeryLargeNumbersIsAsExact) {
    const MatrixXd x = normals(300, 80, 7);
    const MatrixXd plain = ofAll(x);
    for (const double by : {0x1p-400, 0x1p400}) {
        MatrixXd work = by * x;
        const MatrixXd r = triangle(work, quietly()) / by;
        EXPECT_LT(farthestApart(upright(r), plain), 1e-12) << by;
    }
}

TEST(Triangle, StopsBetweenPanels) {
    const MatrixXd x = normals(1000, 200, 8);
    auto never = neverStops();
    MatrixXd work = x;
    (void)triangle(work, never);
    ASSERT_GT(never.asked(), 6);
    for (int after = 0; after < never.asked(); ++after) {
        const StopsAfterAsked progress(after);
        work = x;
        EXPECT_THROW(triangle(work, progress), Stopped) << after;
    }
}

} // namespace triangle_test
