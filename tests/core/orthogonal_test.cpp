// What a least squares fit is: its residuals are orthogonal to every column, whatever way it was taken.
// Uneven layouts, nested, nearly disconnected, crossed, weighted, with levels that whole blocks of rows lack,
// against a pivoted factorisation by a library of general purpose in 80-bit numbers. 60 layouts by default;
// OXGOAD_LAYOUTS=2000 by hand.
#include "core/wide_support.h"

#include "estimate/linear/proof.h"
#include "estimate/linear/triangle.h"
#include "kernels/reflection.h"

#include <Eigen/QR>

#include <cstdlib>

using namespace oxgoad;
using namespace oxgoad::test;

namespace orthogonal_test {

using Long = Eigen::Matrix<long double, Eigen::Dynamic, Eigen::Dynamic>;
using LongVector = Eigen::Matrix<long double, Eigen::Dynamic, 1>;

struct Layout {
    Table table;
    std::vector<double> y, weights;
    std::vector<std::uint32_t> rows;
    std::vector<Term> terms;
    bool intercept = true;
    std::string says;
};

/// Levels that are uneven: of some there are many rows, of some one.
std::int32_t unevenLevel(RandomStream& random, int levels) {
    const double u = random.uniform();
    return static_cast<std::int32_t>(static_cast<double>(levels) * u * (random.below(3) == 0 ? u * u : 1)) %
           levels;
}

std::vector<std::string> namesOf(const std::string& of, int count) {
    std::vector<std::string> names;
    for (int l = 0; l < count; ++l)
        names.push_back(of + std::to_string(l));
    return names;
}

Layout layoutOf(std::uint64_t seed) {
    RandomStream random(seed, "uneven layouts");
    Layout made;
    const bool wide = random.below(4) == 0;
    const auto n = static_cast<std::size_t>(wide ? 4200 + random.below(900) : 150 + random.below(1500));
    const int gs = 2 + static_cast<int>(random.below(wide ? 60 : 90)),
              hs = 2 + static_cast<int>(random.below(wide ? 20 : 40));
    const std::uint64_t second = random.below(4); // none, crossed, nested, nearly disconnected
    const std::uint64_t order = random.below(3);
    made.intercept = random.below(5) != 0;
    const std::uint64_t weighting = random.below(4);
    std::vector<std::int32_t> g(n), h(n);
    std::vector<double> x(n), z(n);
    for (std::size_t i = 0; i < n; ++i) {
        g[i] = unevenLevel(random, gs);
        h[i] = second == 2   ? g[i] % hs
               : second == 3 ? (random.below(50) == 0 ? unevenLevel(random, hs) : g[i] % hs)
                             : unevenLevel(random, hs);
    }
    if (order > 0) // sorted: whole blocks of rows lack most levels
        std::sort(g.begin(), g.end());
    if (order == 2) std::reverse(g.begin(), g.end());
    for (std::size_t i = 0; i < n; ++i) {
        if (order > 0 && second == 2) h[i] = g[i] % hs;
        x[i] = 1000 + random.normal() + 0.1 * g[i];
        z[i] = random.normal() * (i % 7 == 0 ? 100 : 1);
        made.y.push_back(5 + 0.3 * x[i] + std::sin(g[i]) + std::cos(h[i]) + random.normal());
        if (weighting > 0)
            made.weights.push_back(weighting == 1   ? std::exp(3 * random.normal())
                                   : weighting == 2 ? (random.below(3) == 0 ? 0.0 : 1.0)
                                                    : 1 + static_cast<double>(random.below(3)));
        made.rows.push_back(static_cast<std::uint32_t>(i));
    }
    made.table =
        Table({Column::ofNumbers("x", x), Column::ofNumbers("z", z),
               Column::ofFactor("g", g, namesOf("g", gs)), Column::ofFactor("h", h, namesOf("h", hs))});
    made.terms.push_back(plainTerm("x"));
    made.terms.push_back(plainTerm("g"));
    if (second > 0) made.terms.push_back(plainTerm("h"));
    if (random.below(3) == 0) made.terms.push_back(plainTerm("z"));
    if (random.below(4) == 0) made.terms.push_back(Term{{TermPart{"x"}, TermPart{"g"}}});
    if (second > 0 && random.below(5) == 0 && gs * hs < 400)
        made.terms.push_back(Term{{TermPart{"g"}, TermPart{"h"}}});
    made.says = std::to_string(n) + " rows, " + std::to_string(gs) + " and " + std::to_string(hs) +
                " levels, second " + std::to_string(second) + ", order " + std::to_string(order) +
                ", weighting " + std::to_string(weighting);
    return made;
}

/// Fitted values by an 80-bit pivoted factorisation of centred columns.
LongVector fittedByLibrary(const MatrixXd& raw, const Layout& layout, long double& squares) {
    const auto n = static_cast<Index>(layout.y.size());
    Long x(n, raw.cols() + (layout.intercept ? 1 : 0));
    if (layout.intercept) x.col(0).setOnes();
    x.rightCols(raw.cols()) = raw.cast<long double>();
    LongVector y = Eigen::Map<const VectorXd>(layout.y.data(), n).cast<long double>(), root(n);
    for (Index i = 0; i < n; ++i)
        root[i] = layout.weights.empty()
                      ? 1
                      : std::sqrt(static_cast<long double>(layout.weights[static_cast<std::size_t>(i)]));
    Long weighted = root.asDiagonal() * x;
    if (layout.intercept) // the numbers are far from 0
        for (Index j = 1; j < x.cols(); ++j) {
            const long double mean = x.col(j).mean();
            x.col(j).array() -= mean;
            weighted.col(j) = root.cwiseProduct(x.col(j));
        }
    Eigen::CompleteOrthogonalDecomposition<Long> qr(weighted.rows(), weighted.cols());
    qr.setThreshold(1e-13L);
    qr.compute(weighted);
    const LongVector b = qr.solve(LongVector(root.cwiseProduct(y)));
    const LongVector fitted = x * b;
    squares = root.cwiseProduct(LongVector(y - fitted)).squaredNorm();
    return fitted;
}

void expectLeastSquares(const Layout& layout, const LeastSquaresFit& fit, const LongVector& fitted,
                        long double squares, const std::string& way) {
    SCOPED_TRACE(way + ": " + layout.says);
    EXPECT_TRUE(fit.proven()) << fit.fromOrthogonal;
    EXPECT_FALSE(fit.workedOutAnew) << "a quick way was wrong";
    const double sigma = std::sqrt(static_cast<double>(squares) / static_cast<double>(layout.y.size()));
    double off = 0;
    for (std::size_t i = 0; i < layout.y.size(); ++i)
        if (layout.weights.empty() || layout.weights[i] > 0)
            off = std::max(off, std::fabs(fit.fitted[static_cast<Index>(i)] -
                                          static_cast<double>(fitted[static_cast<Index>(i)])));
    EXPECT_LT(off, 1e-7 * std::max(sigma, 1.0));
    EXPECT_GE(digits(fit.residualSumOfSquares, static_cast<double>(squares)), 9);
}

TEST(Orthogonal, EveryWayIsLeastSquaresOnUnevenLayouts) {
    const std::uint64_t count = wanted("OXGOAD_LAYOUTS", 60);
    std::map<std::string, int> ways;
    for (std::uint64_t seed = 1; seed <= count && !HasFailure(); ++seed) {
        const Layout layout = layoutOf(seed);
        const Design design = Design::learn(layout.table, layout.rows, layout.terms, {}, {});
        const BoundDesign bound(design, layout.table, {});
        const DesignRows rows(bound, layout.rows);
        MatrixXd raw(rows.rows(), rows.columns());
        rows.fill(0, raw);
        const auto training =
            layout.weights.empty()
                ? static_cast<Index>(layout.y.size())
                : static_cast<Index>(std::count_if(layout.weights.begin(), layout.weights.end(),
                                                   [](double w) { return w > 0; }));
        if (training < 2 * rows.columns() + 10) continue;
        long double squares = 0;
        const LongVector fitted = fittedByLibrary(raw, layout, squares);
        using Levels = LeastSquaresOptions::Levels;
        for (const auto& [name, levels] :
             {std::pair{"as needed", Levels::asNeeded}, std::pair{"together", Levels::together},
              std::pair{"apart", Levels::apart}}) {
            LeastSquaresOptions options;
            options.intercept = layout.intercept;
            options.weights = layout.weights;
            options.levels = levels;
            options.precision = seed % 2 == 0 ? LeastSquaresOptions::Precision::plain
                                              : LeastSquaresOptions::Precision::asNeeded;
            options.threads = {seed % 3 == 0 ? 3U : 1U};
            const LeastSquaresFit fit = fitLeastSquares(rows, layout.y, options, quietly());
            expectLeastSquares(layout, fit, fitted, squares, name);
            ++ways[name];
        }
        LeastSquaresOptions plain;
        plain.intercept = layout.intercept;
        plain.weights = layout.weights;
        plain.precision = LeastSquaresOptions::Precision::plain;
        expectLeastSquares(layout, fitLeastSquares(Dense(rows), layout.y, plain, quietly()), fitted, squares,
                           "rows as they are");
    }
    for (const auto& [name, times] : ways)
        std::printf("[ layouts  ] %s: %d\n", name.c_str(), times);
}

/// Columns of levels that a block of rows does not hold are rounding of rounding after some reflections.
TEST(Orthogonal, ReflectionsOfWhatIsNearlyNothingKeepLengths) {
    for (const double size :
         {1.0, 1e-140, 1e-150, 1e-155, 1e-160, 1e-200, 1e-280, 1e-300, 1e150, 1e200, 1e290}) {
        VectorXd column(5);
        column << 3, -1, 2, 0.5, 4;
        const double length = size < 1e-289 ? 0 : column.norm() * size;
        const VectorXd scaled = column * size;
        EXPECT_NEAR(lengthOf(scaled), length, 1e-15 * length) << size;
        for (const double first : {0.0, 1.0, -2.0 * size}) {
            const Reflection turn = reflectionOf(first, scaled);
            if (turn.factor == 0) continue;
            VectorXd v(6);
            v << 1, turn.scale * scaled;
            // H = I − factor·vv' is orthogonal when factor·v'v = 2.
            EXPECT_NEAR(turn.factor * v.squaredNorm(), 2, 1e-14) << size << " after " << first;
            EXPECT_NEAR(std::fabs(turn.length), std::hypot(first, length), 1e-15 * std::hypot(first, length));
        }
    }
}

/// R'R is X'X whatever is in the columns, also where most of them are multiples of the first in a block.
TEST(Orthogonal, TrianglesOfLevelsThatABlockLacksHoldTheirProducts) {
    RandomStream random(3, "levels in blocks");
    const Index n = 4096, k = 400;
    MatrixXd x = MatrixXd::Zero(n, k);
    x.col(0).setOnes();
    for (Index i = 0; i < n; ++i)
        if (const Index level = static_cast<Index>(random.below(2 * k)); level > 0 && level < k)
            x(i, level) = 1;
    // Shifted by their means, as the solver does: where a block lacks a level its column is constant there.
    for (Index j = 1; j < k; ++j)
        x.col(j).array() -= x.col(j).mean();
    MatrixXd r(0, 0);
    for (Index begin = 0; begin < n; begin += 512) {
        MatrixXd block = x.middleRows(begin, 512);
        if (begin == 0)
            r = triangle(block, quietly());
        else
            absorb(r, block, quietly());
    }
    EXPECT_LT((r.transpose() * r - x.transpose() * x).cwiseAbs().maxCoeff(), 1e-10);
}

/// Says other things of its rows at first than later: what a quick way that is wrong looks like.
class Changing final : public RowSource {
public:
    Changing(MatrixXd matrix, int lies) : m_matrix(std::move(matrix)), m_lies(lies) {}
    Index rows() const override { return m_matrix.rows(); }
    Index columns() const override { return m_matrix.cols(); }
    void fill(Index begin, Eigen::Ref<MatrixXd> block) const override {
        block = m_matrix.middleRows(begin, block.rows());
        if (m_calls++ < m_lies) block.array() *= 1 + 1e-6 * static_cast<double>(m_calls);
    }

private:
    MatrixXd m_matrix;
    int m_lies;
    mutable int m_calls = 0;
};

TEST(Orthogonal, AFitThatIsNotLeastSquaresIsWorkedOutAnewOrSaysSo) {
    RandomStream random(5, "lies");
    MatrixXd x(4000, 2);
    std::vector<double> y;
    for (Index i = 0; i < x.rows(); ++i) {
        x(i, 0) = random.normal();
        x(i, 1) = random.normal() + 3;
        y.push_back(1 + x(i, 0) - x(i, 1) + random.normal());
    }
    const LeastSquaresOptions plain{.threads = {1}, .precision = LeastSquaresOptions::Precision::plain};
    const LeastSquaresFit right = fitLeastSquares(MatrixRows(x), y, plain, quietly());
    EXPECT_TRUE(right.proven());
    EXPECT_FALSE(right.workedOutAnew);
    EXPECT_LT(right.fromOrthogonal, 0.1);
    bool anew = false, never = false;
    for (int lies = 1; lies < 24; ++lies) {
        const LeastSquaresFit fit = fitLeastSquares(Changing(x, lies), y, plain, quietly());
        if (fit.proven())
            EXPECT_LT((fit.coefficients - right.coefficients).cwiseAbs().maxCoeff(), 1e-9) << lies;
        else
            EXPECT_LT(fit.digitsLeft, 12) << lies;
        anew = anew || (fit.workedOutAnew && fit.proven());
        never = never || !fit.proven();
    }
    EXPECT_TRUE(anew);
    EXPECT_TRUE(never);
}

} // namespace orthogonal_test
