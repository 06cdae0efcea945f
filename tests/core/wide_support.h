#pragma once
// Tables with factors of many levels, and a fit of them held against the dense way.
#include "support/support.h"

#include "base/random.h"
#include "estimate/linear/cell_rows.h"
#include "estimate/linear/least_squares.h"
#include "estimate/linear/linear_model.h"
#include "study/evaluate.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <memory>
#include <utility>

namespace oxgoad::test {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// The same rows, of whose levels nothing is known.
class Dense final : public RowSource {
public:
    explicit Dense(const RowSource& rows) : m_rows(rows) {}
    Index rows() const override { return m_rows.rows(); }
    Index columns() const override { return m_rows.columns(); }
    void fill(Index begin, Eigen::Ref<MatrixXd> block) const override { m_rows.fill(begin, block); }

private:
    const RowSource& m_rows;
};

class Stoppable : public Progress {
public:
    bool stopRequested() const override { return m_asked; }
    void stop() { m_asked = true; }

private:
    std::atomic<bool> m_asked = false;
};

struct Shape {
    std::size_t n = 4200;
    int levels = 40;
    /// Of a second factor; none with 0.
    int others = 0;
    int numbers = 2;
    bool intercept = true;
    bool weighted = false;
    /// A product of the first factor with the first number.
    bool slopes = false;
    /// And one with the last number; the products come before the factor; there is no factor beside them.
    bool moreSlopes = false, productsFirst = false, productsAlone = false;
    /// A product of both factors.
    bool crossed = false;
    /// A factor before the first, each level of which is four of the first's; none with false.
    bool regions = false;
    /// The last number is the same for all rows of a level, so that levels say it.
    bool said = false;
    /// The last levels of the first factor have one row each.
    int single = 0;
    /// The last levels have rows of weight 0 only.
    int weightless = 0;
};

struct Made {
    Table table;
    std::vector<Term> terms;
    std::vector<std::uint32_t> rows;
    std::vector<double> y, weights;
};

inline Made made(const Shape& shape, std::uint64_t seed) {
    RandomStream random(seed, "wide rows");
    Made m;
    const std::size_t n = shape.n;
    std::vector<Column> columns;
    m.y.resize(n);
    for (double& value : m.y)
        value = 100 + random.normal();
    const auto addFactor = [&](const std::string& name, int levels, int single) {
        std::vector<std::string> names;
        for (int l = 0; l < levels; ++l)
            names.push_back(name + std::to_string(l));
        std::vector<std::int32_t> codes(n);
        for (std::size_t i = 0; i < n; ++i) {
            codes[i] = static_cast<std::int32_t>(random.below(static_cast<std::uint64_t>(levels - single)));
            if (i < static_cast<std::size_t>(levels)) codes[i] = static_cast<std::int32_t>(i);
            m.y[i] += std::sin(codes[i]);
        }
        columns.push_back(Column::ofFactor(name, codes, names));
        m.terms.push_back(plainTerm(name));
        return codes;
    };
    if (shape.regions) m.terms.push_back(plainTerm("region"));
    const auto first = addFactor("site", shape.levels, shape.single);
    if (shape.regions) {
        std::vector<std::string> names;
        for (int l = 0; l <= (shape.levels - 1) / 4; ++l)
            names.push_back("region" + std::to_string(l));
        std::vector<std::int32_t> codes;
        for (const auto site : first)
            codes.push_back(site / 4);
        columns.push_back(Column::ofFactor("region", codes, names));
    }
    if (shape.others > 0) addFactor("month", shape.others, 0);
    for (int j = 0; j < shape.numbers; ++j) {
        std::vector<double> x(n);
        const bool said = shape.said && j + 1 == shape.numbers;
        for (std::size_t i = 0; i < n; ++i) {
            x[i] = said ? std::cos(first[i]) : 50 * (j + 1) + random.normal();
            m.y[i] += 0.3 * x[i];
        }
        columns.push_back(Column::ofNumbers("x" + std::to_string(j), std::move(x)));
        m.terms.push_back(plainTerm("x" + std::to_string(j)));
    }
    if (shape.slopes) {
        std::vector<Term> products{Term{{TermPart{"x0"}, TermPart{"site"}}}};
        if (shape.moreSlopes && shape.numbers > 1)
            products.push_back(Term{{TermPart{"x" + std::to_string(shape.numbers - 1)}, TermPart{"site"}}});
        m.terms.insert(shape.productsFirst ? m.terms.begin() : m.terms.end(), products.begin(),
                       products.end());
        if (shape.productsAlone) std::erase(m.terms, plainTerm("site"));
    }
    if (shape.crossed) m.terms.push_back(Term{{TermPart{"site"}, TermPart{"month"}}});
    m.table = Table(std::move(columns));
    for (std::size_t i = 0; i < n; ++i) {
        m.rows.push_back(static_cast<std::uint32_t>(i));
        if (!shape.weighted) continue;
        const bool none = random.below(10) == 0 || first[i] >= shape.levels - shape.weightless;
        m.weights.push_back(none ? 0 : 0.5 + random.uniform());
    }
    return m;
}

/// With a number more that is the first but for noise of this size, and matters.
inline Made withNearRepeat(Made m, double noise) {
    RandomStream random(1, "near");
    std::vector<double> x(m.y.size());
    for (std::size_t i = 0; i < x.size(); ++i) {
        x[i] = m.table.columns()[1].numbers()[i] + noise * random.normal();
        m.y[i] += 2 * x[i];
    }
    std::vector<Column> columns = m.table.columns();
    columns.push_back(Column::ofNumbers("near", x));
    m.table = Table(columns);
    m.terms.push_back(plainTerm("near"));
    return m;
}

/// Both fits of the same rows: levels apart, and one triangle.
struct Both {
    Made m;
    Design design;
    std::unique_ptr<DesignRows> rows;
    LeastSquaresFit apart, dense;
    MatrixXd matrix;
};

inline std::unique_ptr<Both> bothOf(const Shape& shape, std::uint64_t seed,
                                    LeastSquaresOptions::Precision precision) {
    auto both = std::make_unique<Both>();
    both->m = made(shape, seed);
    both->design = Design::learn(both->m.table, both->m.rows, both->m.terms, {}, {});
    both->rows = std::make_unique<DesignRows>(BoundDesign(both->design, both->m.table, {}), both->m.rows);
    LeastSquaresOptions options;
    options.intercept = shape.intercept;
    options.weights = both->m.weights;
    options.precision = precision;
    options.levels = LeastSquaresOptions::Levels::apart;
    both->apart = fitLeastSquares(*both->rows, both->m.y, options, quietly());
    both->dense = fitLeastSquares(Dense(*both->rows), both->m.y, options, quietly());
    both->matrix.resize(both->rows->rows(), both->rows->columns());
    both->rows->fill(0, both->matrix);
    return both;
}

/// The rows and a recipe of all their terms.
inline std::pair<StudyRows, Recipe> studied(const Made& m) {
    std::vector<Column> columns = m.table.columns();
    columns.push_back(Column::ofNumbers("y", m.y));
    std::pair<StudyRows, Recipe> made;
    made.first.learning.table = Table(columns);
    made.second.response = "y";
    made.second.terms = m.terms;
    return made;
}

inline double farthest(const VectorXd& a, const VectorXd& b) {
    double most = 0;
    for (Index i = 0; i < a.size(); ++i)
        most = std::max(most, std::isnan(a[i]) && std::isnan(b[i]) ? 0 : std::fabs(a[i] - b[i]));
    return most;
}

/// All that a fit says, by what its rows have in common and as all rows do.
inline void expectTheSame(const Shape& shape, std::uint64_t seed, LeastSquaresOptions::Levels levels) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    const Made m = made(shape, seed);
    const Design design = Design::learn(m.table, m.rows, m.terms, {}, {});
    const DesignRows rows(BoundDesign(design, m.table, {}), m.rows);
    if (levels == LeastSquaresOptions::Levels::asNeeded) {
        ASSERT_TRUE(CellRows::worthwhile(rows)) << "the rows are not worked on by cells at all";
    }
    LeastSquaresOptions options;
    options.intercept = shape.intercept;
    options.weights = m.weights;
    options.precision = LeastSquaresOptions::Precision::plain;
    options.levels = levels;
    const LeastSquaresFit a = fitLeastSquares(rows, m.y, options, quietly());
    ASSERT_EQ(a.factor.levels() > 0, levels == LeastSquaresOptions::Levels::apart);
    const LeastSquaresFit b = fitLeastSquares(Dense(rows), m.y, options, quietly());
    if (a.kept != b.kept)
        for (const auto* fit : {&a, &b})
            for (const Dependency& one : fit->dependent)
                ADD_FAILURE() << (fit == &a ? "only here " : "only there ")
                              << design.columns()[one.column].name;
    ASSERT_EQ(a.kept, b.kept);
    ASSERT_EQ(a.dependent.size(), b.dependent.size());
    for (std::size_t k = 0; k < a.dependent.size(); ++k) {
        const Dependency &one = a.dependent[k], &other = b.dependent[k];
        EXPECT_EQ(one.column, other.column);
        EXPECT_NEAR(one.constant, other.constant, 1e-7 * std::max(1.0, std::fabs(other.constant)));
        ASSERT_EQ(one.combination.size(), other.combination.size())
            << design.columns()[one.column].name << [&] {
                   std::string said;
                   for (const auto& [column, weight] : other.combination)
                       said += ", " + std::to_string(weight) + " of " + design.columns()[column].name;
                   return said;
               }();
        for (std::size_t c = 0; c < one.combination.size(); ++c) {
            EXPECT_EQ(one.combination[c].first, other.combination[c].first);
            EXPECT_NEAR(one.combination[c].second, other.combination[c].second, 1e-7);
        }
    }
    const double size = b.residualStandardDeviation;
    EXPECT_GE(digits(a.residualSumOfSquares, b.residualSumOfSquares), 9);
    EXPECT_GE(digits(a.totalSumOfSquares, b.totalSumOfSquares), 12);
    EXPECT_EQ(a.degreesOfFreedom, b.degreesOfFreedom);
    EXPECT_GE(digits(a.conditionNumber, b.conditionNumber), 6);
    // Nine digits of what is said, beside the errors it has.
    for (const std::size_t j : a.kept) {
        const auto at = static_cast<Index>(j);
        EXPECT_NEAR(a.coefficients[at], b.coefficients[at],
                    1e-9 * std::max(std::fabs(b.coefficients[at]), b.standardErrors[at]));
        EXPECT_GE(digits(a.standardErrors[at], b.standardErrors[at]), 9);
    }
    EXPECT_NEAR(a.constant, b.constant, 1e-9 * std::max(std::fabs(b.constant), b.constantError));
    if (shape.intercept) {
        EXPECT_GE(digits(a.constantError, b.constantError), 9);
    }
    EXPECT_LT(farthest(a.residuals, b.residuals), 1e-9 * size);
    EXPECT_LT(farthest(a.fitted, b.fitted), 1e-9 * std::max(size, b.fitted.cwiseAbs().maxCoeff()));
    EXPECT_LT(farthest(a.leverages, b.leverages), 1e-10);
    for (std::size_t t = 0; t < m.terms.size(); ++t) {
        std::vector<std::size_t> own;
        for (std::size_t j = 0; j < design.columns().size(); ++j)
            if (design.columns()[j].term == t) own.push_back(j);
        const JointTest one = a.jointTest(own), other = b.jointTest(own);
        EXPECT_EQ(one.numeratorDf, other.numeratorDf);
        if (!std::isnan(other.f)) {
            EXPECT_GE(digits(one.f, other.f), 8);
        }
        if (const double inflation = b.inflation(own); std::isfinite(inflation)) {
            EXPECT_GE(digits(a.inflation(own), inflation), 7);
        }
        EXPECT_GE(digits(a.without(own).residualSumOfSquares, b.without(own).residualSumOfSquares), 9);
    }
}

} // namespace oxgoad::test
