// Algebra that must hold whatever the numbers are.
#include "base/random.h"
#include "estimate/linear/least_squares.h"
#include "support/support.h"
#include <Eigen/Dense>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace least_squares_test {

MatrixXd randomMatrix(Index rows, Index columns, std::uint64_t seed) {
    RandomStream random(seed, "test matrix");
    MatrixXd x(rows, columns);
    for (Index j = 0; j < columns; ++j)
        for (Index i = 0; i < rows; ++i)
            x(i, j) = random.normal() + 10 * static_cast<double>(j % 3);
    return x;
}

LeastSquaresFit fitOf(const MatrixXd& x, const VectorXd& y, LeastSquaresOptions options = {}) {
    return fitLeastSquares(MatrixRows(x), std::span(y.data(), static_cast<std::size_t>(y.size())), options,
                           quietly());
}

TEST(LeastSquares, ResidualsAreOrthogonalAndLeveragesSumToTheRank) {
    const MatrixXd x = randomMatrix(9000, 6, 1);
    const VectorXd y = randomMatrix(9000, 1, 2);
    const auto fit = fitOf(x, y);
    EXPECT_LT((x.transpose() * fit.residuals).norm(), 1e-8 * x.norm() * fit.residuals.norm());
    EXPECT_NEAR(fit.residuals.sum(), 0, 1e-8);
    EXPECT_NEAR(fit.leverages.sum(), 7, 1e-9);
    EXPECT_GE(fit.leverages.minCoeff(), 1.0 / 9000 - 1e-12);
    EXPECT_NEAR((fit.leverage(x) - fit.leverages).cwiseAbs().maxCoeff(), 0, 1e-12);
    EXPECT_NEAR((fit.predict(x) - fit.fitted).cwiseAbs().maxCoeff(), 0, 1e-9);
}

TEST(LeastSquares, TheNumberOfThreadsChangesNothing) {
    const MatrixXd x = randomMatrix(50000, 8, 3);
    const VectorXd y = randomMatrix(50000, 1, 4);
    const auto one = fitOf(x, y, {.threads = {1}});
    const auto many = fitOf(x, y, {.threads = {5}});
    EXPECT_EQ(one.coefficients, many.coefficients);
    EXPECT_EQ(one.standardErrors, many.standardErrors);
    EXPECT_EQ(one.leverages, many.leverages);
    EXPECT_EQ(one.residualSumOfSquares, many.residualSumOfSquares);
}

TEST(LeastSquares, UnitsAndOrderOfRowsOnlyRescale) {
    const MatrixXd x = randomMatrix(500, 4, 5);
    const VectorXd y = randomMatrix(500, 1, 6);
    const auto plain = fitOf(x, y);
    MatrixXd scaled = x.colwise().reverse();
    scaled.col(1) *= 1e9;
    scaled.col(2) *= 1e-12;
    const VectorXd reversed = 3.5 * y.reverse();
    const auto other = fitOf(scaled, reversed);
    EXPECT_GE(digits(other.coefficients[1] * 1e9 / 3.5, plain.coefficients[1]), 11);
    EXPECT_GE(digits(other.coefficients[2] * 1e-12 / 3.5, plain.coefficients[2]), 11);
    EXPECT_GE(digits(other.residualStandardDeviation / 3.5, plain.residualStandardDeviation), 12);
}

TEST(LeastSquares, HugeAndTinyValuesDoNotOverflow) {
    MatrixXd x = randomMatrix(100, 2, 7);
    x.col(0) *= 1e200;
    x.col(1) *= 1e-200;
    const VectorXd y = randomMatrix(100, 1, 8) * 1e90;
    const auto fit = fitOf(x, y);
    EXPECT_EQ(fit.rank(), 3);
    EXPECT_TRUE(std::isfinite(fit.standardErrors[0]));
    EXPECT_TRUE(std::isfinite(fit.coefficients[1]));
}

TEST(LeastSquares, DependentColumnsAreNamedWithTheirCombination) {
    MatrixXd x = randomMatrix(5000, 5, 9);
    x.col(3) = 2 * x.col(0) - x.col(1) + VectorXd::Constant(5000, 7); // says what 0 and 1 say
    x.col(4).setConstant(4);                                          // says what the constant says
    const VectorXd y = randomMatrix(5000, 1, 10);
    const auto fit = fitOf(x, y);
    ASSERT_EQ(fit.dependent.size(), 2u);
    EXPECT_EQ(fit.dependent[0].column, 3u);
    ASSERT_EQ(fit.dependent[0].combination.size(), 2u);
    EXPECT_NEAR(fit.dependent[0].combination[0].second, 2, 1e-9);
    EXPECT_NEAR(fit.dependent[0].combination[1].second, -1, 1e-9);
    EXPECT_NEAR(fit.dependent[0].constant, 7, 1e-8);
    EXPECT_EQ(fit.dependent[1].column, 4u);
    EXPECT_TRUE(fit.dependent[1].combination.empty());
    EXPECT_NEAR(fit.dependent[1].constant, 4, 1e-12);
    EXPECT_TRUE(std::isnan(fit.coefficients[3]));
    MatrixXd kept = x.leftCols(3);
    const auto without = fitOf(kept, y);
    for (Index j = 0; j < 3; ++j)
        EXPECT_GE(digits(fit.coefficients[j], without.coefficients[j]), 11);
    EXPECT_EQ(fit.degreesOfFreedom, without.degreesOfFreedom);
}

TEST(LeastSquares, LeavingColumnsOutOfTheFactorIsAFitWithoutThem) {
    const MatrixXd x = randomMatrix(3000, 6, 11);
    const VectorXd y = randomMatrix(3000, 1, 12) + x.col(2) * 2;
    const auto fit = fitOf(x, y);
    const std::vector<std::size_t> out{2, 4};
    const auto reduced = fit.without(out);
    MatrixXd rest(3000, 4);
    rest << x.col(0), x.col(1), x.col(3), x.col(5);
    const auto refitted = fitOf(rest, y);
    EXPECT_EQ(reduced.coefficients[2], 0);
    EXPECT_GE(digits(reduced.coefficients[5], refitted.coefficients[3]), 10);
    EXPECT_GE(digits(reduced.constant, refitted.constant), 10);
    EXPECT_GE(digits(reduced.residualSumOfSquares, refitted.residualSumOfSquares), 12);
}

TEST(LeastSquares, TwoRoutesGiveOneAnswer) {
    const MatrixXd x = randomMatrix(20000, 12, 13);
    const VectorXd y = randomMatrix(20000, 1, 14) + x * VectorXd::LinSpaced(12, 1, 2);
    const auto fit = fitOf(x, y);
    MatrixXd whole(20000, 13);
    whole << VectorXd::Ones(20000), x;
    const VectorXd normal = (whole.transpose() * whole).ldlt().solve(whole.transpose() * y);
    for (Index j = 0; j < 12; ++j)
        EXPECT_GE(digits(fit.coefficients[j], normal[j + 1]), 9);
    EXPECT_GE(digits(fit.constant, normal[0]), 8);
    const MatrixXd covariance = (whole.transpose() * whole).inverse().bottomRightCorner(12, 12);
    EXPECT_LT((fit.unscaledCovariance() - covariance).norm(), 1e-8 * covariance.norm());
}

TEST(LeastSquares, TooFewRowsAndNoSpreadAreErrors) {
    const auto wide =
        fitOf(randomMatrix(3, 5, 1), randomMatrix(3, 1, 2)); // what three rows cannot tell apart is dependent
    EXPECT_EQ(wide.dependent.size(), 3u);
    EXPECT_EQ(wide.degreesOfFreedom, 0);
    EXPECT_NE(errorOf([] {
                  fitOf(randomMatrix(10, 2, 1), VectorXd::Constant(10, 5.5));
              }).find("same value in all 10 learning rows"),
              std::string::npos);
    EXPECT_NE(errorOf([] { fitOf(MatrixXd(0, 2), VectorXd(0)); }).find("no rows to learn from"),
              std::string::npos);
}

TEST(LeastSquares, AsManyRowsAsCoefficientsLeavesNoErrors) {
    const auto fit = fitOf(randomMatrix(4, 3, 15), randomMatrix(4, 1, 16));
    EXPECT_EQ(fit.degreesOfFreedom, 0);
    EXPECT_TRUE(std::isnan(fit.residualStandardDeviation));
    EXPECT_NEAR(fit.leverages.minCoeff(), 1, 1e-9);
}

TEST(LeastSquares, IntervalsCoverAsOftenAsTheySay) {
    // 2,000 samples of 40 rows; the slope's 95 % interval covers within 3 standard errors of 95 %.
    RandomStream random(17, "coverage");
    int covered = 0;
    constexpr int samples = 2000;
    for (int s = 0; s < samples; ++s) {
        MatrixXd x(40, 1);
        VectorXd y(40);
        for (Index i = 0; i < 40; ++i) {
            x(i, 0) = random.normal();
            y[i] = 1 + 2 * x(i, 0) + random.normal();
        }
        const auto fit = fitOf(x, y);
        covered +=
            std::fabs(fit.coefficients[0] - 2) < 2.0243941639 * fit.standardErrors[0]; // t quantile, 38 df
    }
    EXPECT_NEAR(covered / static_cast<double>(samples), 0.95, 3 * std::sqrt(0.95 * 0.05 / samples));
}

TEST(LeastSquares, StopsWhenAsked) {
    class Stopper : public Progress {
        bool stopRequested() const override { return true; }
    } stopper;
    const MatrixXd x = randomMatrix(100, 2, 1);
    const VectorXd y = randomMatrix(100, 1, 2);
    EXPECT_THROW(fitLeastSquares(MatrixRows(x), std::span(y.data(), 100), {}, stopper), Stopped);
}

} // namespace least_squares_test
