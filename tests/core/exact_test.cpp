// Twice the precision: the arithmetic against 113-bit numbers, the solver against exact solutions.
#include "base/double_double.h"
#include "base/random.h"
#include "estimate/linear/least_squares.h"
#include "support/support.h"

#include <vector>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace exact_test {

__extension__ typedef __float128 Quad;

Quad quad(DoubleDouble a) {
    return static_cast<Quad>(a.hi) + static_cast<Quad>(a.lo);
}
double errorOf(DoubleDouble got, Quad expected) {
    const Quad off = quad(got) - expected;
    return std::fabs(static_cast<double>(off / expected));
}
DoubleDouble somewhere(RandomStream& random) {
    const double size = std::ldexp(random.normal(), static_cast<int>(random.below(60)) - 30);
    return normalised(size, size * 1e-17 * random.normal());
}

/// x, x², …, of 1 … n/scale; the powers to twice the precision.
class Powers final : public RowSource {
public:
    Powers(Index rows, Index degree, double unit) : m_rows(rows), m_degree(degree), m_unit(unit) {}
    Index rows() const override { return m_rows; }
    Index columns() const override { return m_degree; }
    void fill(Index begin, Eigen::Ref<MatrixXd> block) const override {
        MatrixXd lo(block.rows(), block.cols());
        fillExact(begin, block, lo);
    }
    void fillExact(Index begin, Eigen::Ref<MatrixXd> hi, Eigen::Ref<MatrixXd> lo) const override {
        for (Index i = 0; i < hi.rows(); ++i) {
            DoubleDouble power(1);
            for (Index k = 0; k < m_degree; ++k) {
                power = power * DoubleDouble(static_cast<double>(begin + i + 1) * m_unit);
                hi(i, k) = power.hi;
                lo(i, k) = power.lo;
            }
        }
    }

private:
    Index m_rows, m_degree;
    double m_unit;
};

TEST(DoubleDouble, AgreesWithHundredAndThirteenBits) {
    RandomStream random(1, "double double");
    for (int k = 0; k < 20000; ++k) {
        const DoubleDouble a = somewhere(random), b = somewhere(random);
        EXPECT_LT(errorOf(a * b, quad(a) * quad(b)), 1e-31);
        EXPECT_LT(errorOf(a / b, quad(a) / quad(b)), 1e-31);
        const Quad sum = quad(a) + quad(b);
        if (std::fabs(static_cast<double>(sum)) > 1e-3 * std::fabs(a.hi)) {
            EXPECT_LT(errorOf(a + b, sum), 1e-28);
        }
        const DoubleDouble square = a * a;
        EXPECT_LT(errorOf(squareRoot(square), static_cast<Quad>(a.hi < 0 ? -1 : 1) * quad(a)), 1e-31);
        EXPECT_EQ(exactProduct(a.hi, b.hi).lo, std::fma(a.hi, b.hi, -(a.hi * b.hi)));
    }
}

TEST(DoubleDouble, SumsOfProductsKeepThirtyDigits) {
    RandomStream random(2, "sums");
    for (const std::size_t n : {0u, 1u, 7u, 8u, 9u, 1000u}) {
        std::vector<double> a, al, b, bl;
        Quad expected = 0, size = 0;
        for (std::size_t i = 0; i < n; ++i) {
            const DoubleDouble x = somewhere(random), y = somewhere(random);
            a.push_back(x.hi);
            al.push_back(x.lo);
            b.push_back(y.hi);
            bl.push_back(y.lo);
            expected += quad(x) * quad(y);
            size += quad(x) * quad(y) < 0 ? -quad(x) * quad(y) : quad(x) * quad(y);
        }
        const DoubleDouble sum = sumOfProducts(n, {a.data(), al.data()}, {b.data(), bl.data()});
        EXPECT_LE(std::fabs(static_cast<double>(quad(sum) - expected)), 1e-29 * static_cast<double>(size));
        std::vector<double> hi = b, lo = bl;
        const DoubleDouble factor = somewhere(random);
        subtractMultiple(n, {a.data(), al.data()}, factor, hi.data(), lo.data());
        for (std::size_t i = 0; i < n; ++i) {
            const Quad left = quad({b[i], bl[i]}) - quad({a[i], al[i]}) * quad(factor);
            const double scale = std::fabs(b[i]) + std::fabs(a[i] * factor.hi);
            EXPECT_LE(std::fabs(static_cast<double>(quad({hi[i], lo[i]}) - left)), 1e-30 * scale);
        }
    }
}

TEST(Exact, APolynomialOfTheEighthDegreeComesBackToTheLastDigit) {
    // y is exact in doubles: whole numbers below 2^53 for x = 1 … 40.
    const Powers x(40, 8, 1);
    const std::vector<double> b{3, -2, 5, 1, -4, 2, -1, 1};
    std::vector<double> y;
    for (int i = 1; i <= 40; ++i) {
        double power = 1, sum = 7;
        for (const double c : b)
            sum += c * (power *= i);
        y.push_back(sum);
    }
    const auto fit = fitLeastSquares(x, y, {}, quietly());
    ASSERT_TRUE(fit.exact);
    EXPECT_GT(fit.conditionNumber, 1e5);
    for (std::size_t k = 0; k < b.size(); ++k)
        EXPECT_NEAR(fit.coefficients[static_cast<Index>(k)], b[k], 1e-13) << "power " << k + 1;
    EXPECT_NEAR(fit.constant, 7, 1e-12);
    // What doubles alone make of it.
    LeastSquaresOptions plain;
    plain.precision = LeastSquaresOptions::Precision::plain;
    const auto rough = fitLeastSquares(x, y, plain, quietly());
    EXPECT_FALSE(rough.exact);
    EXPECT_GT(std::fabs(rough.coefficients[0] - 3), 1e-9);
}

TEST(Exact, TheNumberOfThreadsChangesNothing) {
    const Powers x(5000, 6, 1e-3);
    RandomStream random(4, "noise");
    std::vector<double> y;
    for (int i = 0; i < 5000; ++i)
        y.push_back(std::sin(i * 1e-3) + random.normal());
    LeastSquaresOptions one, many;
    one.threads = {1};
    many.threads = {5};
    const auto a = fitLeastSquares(x, y, one, quietly());
    const auto b = fitLeastSquares(x, y, many, quietly());
    ASSERT_TRUE(a.exact);
    EXPECT_EQ(a.coefficients, b.coefficients);
    EXPECT_EQ(a.standardErrors, b.standardErrors);
    EXPECT_EQ(a.constant, b.constant);
    EXPECT_EQ(a.leverages, b.leverages);
    EXPECT_EQ(a.residuals, b.residuals);
    EXPECT_NEAR(a.leverages.sum(), 7, 1e-12);
}

TEST(Exact, BothPrecisionsAgreeWhereNothingIsLost) {
    RandomStream random(5, "well conditioned");
    MatrixXd x(3000, 5);
    std::vector<double> y;
    for (Index i = 0; i < x.rows(); ++i) {
        for (Index j = 0; j < x.cols(); ++j)
            x(i, j) = random.normal();
        y.push_back(x(i, 0) + random.normal());
    }
    LeastSquaresOptions plain;
    plain.precision = LeastSquaresOptions::Precision::plain;
    for (const bool intercept : {true, false}) {
        LeastSquaresOptions exact;
        exact.intercept = plain.intercept = intercept;
        const auto a = fitLeastSquares(MatrixRows(x), y, exact, quietly());
        const auto b = fitLeastSquares(MatrixRows(x), y, plain, quietly());
        ASSERT_TRUE(a.exact && !b.exact);
        for (Index j = 0; j < 5; ++j) {
            EXPECT_NEAR(a.coefficients[j], b.coefficients[j], 1e-14);
            EXPECT_GT(digits(a.standardErrors[j], b.standardErrors[j]), 13);
        }
        EXPECT_NEAR((a.leverages - b.leverages).cwiseAbs().maxCoeff(), 0, 1e-15);
        EXPECT_NEAR((a.residuals - b.residuals).cwiseAbs().maxCoeff(), 0, 1e-13);
        EXPECT_GT(digits(a.residualSumOfSquares, b.residualSumOfSquares), 13);
    }
}

TEST(Exact, DependentColumnsAreStillNamed) {
    RandomStream random(6, "dependent");
    MatrixXd x(200, 3);
    std::vector<double> y;
    for (Index i = 0; i < 200; ++i) {
        x(i, 0) = random.normal();
        x(i, 1) = 2 * x(i, 0) + 1;
        x(i, 2) = random.normal();
        y.push_back(x(i, 0) + random.normal());
    }
    const auto fit = fitLeastSquares(MatrixRows(x), y, {}, quietly());
    ASSERT_EQ(fit.dependent.size(), 1u);
    EXPECT_EQ(fit.dependent[0].column, 1u);
    EXPECT_TRUE(std::isnan(fit.coefficients[1]));
    EXPECT_TRUE(fit.exact);
}

TEST(Exact, ANearDependencyIsReportedWithTheDigitsLeft) {
    RandomStream random(7, "near");
    std::vector<double> a, b, y;
    for (int i = 0; i < 300; ++i) {
        a.push_back(random.normal());
        b.push_back(a.back() + 1e-9 * random.normal());
        y.push_back(a.back() + random.normal());
    }
    StudyRows rows;
    rows.learning.table =
        Table({Column::ofNumbers("a", a), Column::ofNumbers("b", b), Column::ofNumbers("y", y)});
    const Evidence e = evaluate(recipeOf("y", {"a", "b"}), rows, {}, quietly());
    EXPECT_TRUE(e.linear->twicePrecision);
    EXPECT_GT(e.linear->digitsLeft, 6);
    EXPECT_LT(e.linear->digitsLeft, 7.5);
    const auto goad = std::find_if(e.goads.begin(), e.goads.end(),
                                   [](const Goad& g) { return g.key == "near dependency"; });
    ASSERT_NE(goad, e.goads.end());
    EXPECT_NE(goad->reading.find("of the data's 16 digits"), std::string::npos) << goad->reading;
    EXPECT_FALSE(e.linear->coefficients[1].dependent);
}

TEST(Exact, WamplersFourthAndFifthSetsHaveTheCertifiedErrors) {
    // By their definition (Wampler 1970, "A report on the accuracy of some widely used least squares computer
    // programs"): the errors of the third set times 100 and 10,000; the standard errors grow alike.
    const auto certified = publishedJson("nist_wampler3")["certified"];
    const StudyRows first = publishedRows("nist_wampler1"), third = publishedRows("nist_wampler3");
    const auto y1 = first.learning.table.at("y", {}).numbers(),
               y3 = third.learning.table.at("y", {}).numbers();
    const auto x = third.learning.table.at("x", {}).numbers();
    for (const double times : {100.0, 10000.0}) {
        std::vector<double> y;
        for (std::size_t i = 0; i < y1.size(); ++i)
            y.push_back(y1[i] + times * (y3[i] - y1[i]));
        StudyRows rows;
        rows.learning.table =
            Table({Column::ofNumbers("x", {x.begin(), x.end()}), Column::ofNumbers("y", y)});
        Recipe recipe = recipeOf("y", {});
        for (int k = 1; k <= 5; ++k)
            recipe.terms.push_back(Term{{TermPart{"x", k}}});
        const Evidence e = evaluate(recipe, rows, {}, quietly());
        for (std::size_t k = 0; k < 6; ++k) {
            EXPECT_GE(digits(e.linear->coefficients[k].estimate, 1), 13)
                << "times " << times << ", power " << k;
            EXPECT_GE(
                digits(e.linear->coefficients[k].standardError, times * certified["se"][k].get<double>()),
                12);
        }
    }
}

} // namespace exact_test
