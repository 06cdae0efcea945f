// Random problems against a second route that shares no code with the program: model matrices written out by
// hand, pivoted Householder reduction and textbook formulas in 80-bit numbers. 200 problems by default;
// OXGOAD_PROBLEMS=2000 by hand.
#include "base/random.h"
#include "estimate/distributions.h"
#include "support/support.h"

#include <Eigen/Dense>

#include <cstdlib>
#include <map>

using namespace oxgoad;
using namespace oxgoad::test;

namespace random_problems_test {

using Real = long double;
using Matrix = Eigen::Matrix<Real, Eigen::Dynamic, Eigen::Dynamic>;
using Vector = Eigen::Matrix<Real, Eigen::Dynamic, 1>;
using Eigen::Index;

/// A problem as the program sees it, and the same as plain numbers.
struct Problem {
    std::uint64_t seed = 0;
    Recipe recipe;
    StudyRows rows;
    std::vector<std::string> names;
    Matrix x; // all columns of the model matrix, the constant first if there is one
    Vector y, w;
    std::vector<int> group, period;
    bool collinear = false;
    std::string says;
};

Problem made(std::uint64_t seed) {
    RandomStream random(seed, "random problems");
    const auto chance = [&](double share) { return random.uniform() < share; };
    Problem p;
    p.seed = seed;
    const Index n = 12 + static_cast<Index>(random.below(chance(0.2) ? 400 : 70));
    const bool weighted = chance(0.4), zeros = weighted && chance(0.6), logs = chance(0.25),
               offset = chance(0.2), intercept = !chance(0.15), single = chance(0.4), product = chance(0.35),
               power = chance(0.4);
    // Columns of very different size and distance from 0.
    std::vector<std::vector<double>> columns;
    const std::size_t numbers = 1 + random.below(3);
    for (std::size_t c = 0; c < numbers; ++c) {
        const double size = std::pow(10.0, random.uniform() * 8 - 4),
                     shift = chance(0.3) ? 1000 * size * random.normal() : size;
        std::vector<double> values;
        for (Index i = 0; i < n; ++i)
            values.push_back(shift + size * (chance(0.1) ? 5 : 1) * random.normal());
        columns.push_back(std::move(values));
    }
    if (numbers > 1 && chance(0.3)) { // nearly or exactly the same as another
        p.collinear = true;
        const double off = chance(0.5) ? 0 : 1e-5;
        for (std::size_t i = 0; i < static_cast<std::size_t>(n); ++i)
            columns[1][i] = 2 * columns[0][i] + off * std::fabs(columns[0][i]) * random.normal();
    }
    const int levels = 2 + static_cast<int>(random.below(4));
    std::vector<std::int32_t> codes;
    for (Index i = 0; i < n; ++i)
        codes.push_back(
            static_cast<std::int32_t>(i < levels ? i : random.below(static_cast<std::uint64_t>(levels))));
    if (single)
        for (Index i = levels; i < n; ++i)
            if (codes[static_cast<std::size_t>(i)] == levels - 1)
                codes[static_cast<std::size_t>(i)] = 0; // one row is left
    std::vector<double> y, weights, offsets, period;
    std::vector<std::int32_t> group;
    for (Index i = 0; i < n; ++i) {
        const auto at = static_cast<std::size_t>(i);
        double value = 3 + codes[at] + random.normal();
        for (const auto& column : columns)
            value += (column[at] - column[0]) / (std::fabs(column[0]) + 1e-9);
        if (logs) value = std::exp(0.3 * std::tanh(value));
        y.push_back(value);
        weights.push_back(zeros && i >= levels && chance(0.2) ? 0
                          : weighted                          ? 0.2 + 3 * random.uniform()
                                                              : 1);
        offsets.push_back(offset ? random.normal() : 0);
        group.push_back(static_cast<std::int32_t>(i % 7));
        period.push_back(static_cast<double>(i / 2));
    }
    std::vector<Column> table;
    for (std::size_t c = 0; c < numbers; ++c)
        table.push_back(Column::ofNumbers("x" + std::to_string(c), columns[c]));
    std::vector<std::string> names;
    for (int l = 0; l < levels; ++l)
        names.push_back(std::string(1, static_cast<char>('a' + l)));
    table.push_back(Column::ofFactor("g", codes, names));
    table.push_back(Column::ofFactor("grp", group, {"0", "1", "2", "3", "4", "5", "6"}));
    table.push_back(Column::ofNumbers("per", period));
    table.push_back(Column::ofNumbers("w", weights));
    table.push_back(Column::ofNumbers("off", offsets));
    table.push_back(Column::ofNumbers("y", y));
    p.rows.learning.table = Table(std::move(table));
    p.recipe = recipeOf("y", {});
    p.recipe.intercept = intercept;
    p.recipe.logResponse = logs;
    p.recipe.level = 0.5 + 0.49 * random.uniform();
    for (const auto* unused : {"grp", "per"})
        p.recipe.roles[unused] = Role::setAside;
    p.recipe.roles["w"] = weighted ? Role::weight : Role::setAside;
    p.recipe.roles["off"] = offset ? Role::offset : Role::setAside;
    for (std::size_t c = 0; c < numbers; ++c)
        p.recipe.terms.push_back(plainTerm("x" + std::to_string(c)));
    if (power) p.recipe.terms.push_back(Term{{TermPart{"x0", 2}}});
    p.recipe.terms.push_back(plainTerm("g"));
    if (product) p.recipe.terms.push_back(Term{{TermPart{"x0"}, TermPart{"g"}}});
    p.recipe.forecast = ForecastRequest{};
    p.recipe.forecast->level = 0.9;
    p.rows.forecast = p.rows.learning; // predicted where it was learned
    const std::array kinds{CovarianceKind::homoskedastic, CovarianceKind::hc0, CovarianceKind::hc1,
                           CovarianceKind::hc2,           CovarianceKind::hc3, CovarianceKind::clustered,
                           CovarianceKind::autocorrelated};
    p.recipe.errors.kind = kinds[random.below(kinds.size())];
    if (p.recipe.errors.kind == CovarianceKind::clustered) p.recipe.errors.column = "grp";
    if (p.recipe.errors.kind == CovarianceKind::autocorrelated) {
        p.recipe.errors.column = "per";
        p.recipe.errors.lags = static_cast<int>(random.below(3));
    }
    // The same by hand, over the rows that weigh something.
    std::vector<Index> teach;
    for (Index i = 0; i < n; ++i)
        if (weights[static_cast<std::size_t>(i)] > 0) teach.push_back(i);
    std::vector<std::vector<Real>> by;
    const auto over = [&](const auto& value) {
        std::vector<Real> column;
        for (const Index i : teach)
            column.push_back(value(static_cast<std::size_t>(i)));
        return column;
    };
    if (intercept) by.push_back(over([](std::size_t) { return Real(1); }));
    for (const auto& column : columns)
        by.push_back(over([&](std::size_t i) { return Real(column[i]); }));
    if (power) by.push_back(over([&](std::size_t i) { return Real(columns[0][i]) * columns[0][i]; }));
    std::vector<int> seen; // levels of the rows that teach; the first is the reference
    for (int l = 0; l < levels; ++l)
        for (const Index i : teach)
            if (codes[static_cast<std::size_t>(i)] == l) {
                seen.push_back(l);
                break;
            }
    for (std::size_t l = 1; l < seen.size(); ++l)
        by.push_back(over([&](std::size_t i) { return Real(codes[i] == seen[l]); }));
    if (product)
        for (std::size_t l = 1; l < seen.size(); ++l)
            by.push_back(
                over([&](std::size_t i) { return codes[i] == seen[l] ? Real(columns[0][i]) : Real(0); }));
    p.x.resize(static_cast<Index>(teach.size()), static_cast<Index>(by.size()));
    for (std::size_t c = 0; c < by.size(); ++c)
        p.x.col(static_cast<Index>(c)) = Eigen::Map<Vector>(by[c].data(), static_cast<Index>(by[c].size()));
    p.y.resize(p.x.rows());
    p.w.resize(p.x.rows());
    std::map<double, int> periods;
    std::map<std::int32_t, int> groups;
    for (const Index i : teach) {
        periods[period[static_cast<std::size_t>(i)]];
        groups[group[static_cast<std::size_t>(i)]];
    }
    int next = 0;
    for (auto& [value, place] : periods)
        place = next++;
    next = 0;
    for (auto& [value, place] : groups)
        place = next++;
    for (Index k = 0; k < p.x.rows(); ++k) {
        const auto i = static_cast<std::size_t>(teach[static_cast<std::size_t>(k)]);
        // The program takes the logarithm as a double; what it fits is that number.
        p.y[k] = (logs ? Real(std::log(y[i]) - offsets[i]) : Real(y[i] - offsets[i]));
        p.w[k] = weights[i];
        p.group.push_back(groups[group[i]]);
        p.period.push_back(periods[period[i]]);
    }
    p.says = "seed " + std::to_string(seed) + ", " + errorsText(p.recipe.errors) +
             (weighted ? ", weighted" : "") + (logs ? ", logs" : "") + (single ? ", single-row level" : "") +
             (p.collinear ? ", collinear" : "");
    return p;
}

/// Everything by the textbook, in 80 bits, over columns that could be estimated.
struct Answer {
    Vector b, errors, leverage, residual;
    Matrix covariance, inverse;
    Real rss = 0, df = 0, condition = 1, tss = 0;
};

Answer solved(const Problem& p, const std::vector<Index>& kept) {
    Answer a;
    const Vector roots = p.w.cwiseSqrt();
    Matrix x = roots.asDiagonal() * p.x(Eigen::all, kept);
    Vector scale(x.cols());
    for (Index j = 0; j < x.cols(); ++j) {
        scale[j] = x.col(j).norm();
        x.col(j) /= scale[j];
    }
    const Vector y = roots.cwiseProduct(p.y);
    const Eigen::JacobiSVD<Matrix> svd(x, Eigen::ComputeThinU | Eigen::ComputeThinV);
    a.condition = svd.singularValues()[0] / svd.singularValues().tail(1)[0];
    const Eigen::HouseholderQR<Matrix> qr(x);
    const Matrix q = qr.householderQ() * Matrix::Identity(x.rows(), x.cols());
    const Matrix r = qr.matrixQR().topRows(x.cols()).triangularView<Eigen::Upper>();
    Vector scaled = r.triangularView<Eigen::Upper>().solve(q.transpose() * y);
    // One step of refinement.
    const Vector again = y - x * scaled;
    scaled += r.triangularView<Eigen::Upper>().solve(q.transpose() * again).eval();
    const Vector e = y - x * scaled;
    a.b = scaled.cwiseQuotient(scale);
    a.residual = e.cwiseQuotient(roots);
    a.leverage = q.rowwise().squaredNorm();
    a.rss = e.squaredNorm();
    const auto n = static_cast<Real>(x.rows()), k = static_cast<Real>(x.cols());
    a.df = n - k;
    const Real mean = p.recipe.intercept ? Real(p.w.dot(p.y) / p.w.sum()) : Real(0);
    a.tss = p.w.dot((p.y.array() - mean).square().matrix());
    const Matrix back = r.triangularView<Eigen::Upper>().solve(Matrix::Identity(x.cols(), x.cols()));
    a.inverse = scale.cwiseInverse().asDiagonal() * back;
    Matrix middle;
    const auto sums = [&](const std::vector<int>& unit) {
        const int count = *std::max_element(unit.begin(), unit.end()) + 1;
        Matrix s = Matrix::Zero(count, x.cols());
        for (Index i = 0; i < x.rows(); ++i)
            s.row(unit[static_cast<std::size_t>(i)]) += e[i] * q.row(i);
        return s;
    };
    Vector spread = e.cwiseAbs2();
    switch (p.recipe.errors.kind) {
    case CovarianceKind::homoskedastic:
        middle = a.rss / a.df * Matrix::Identity(x.cols(), x.cols());
        break;
    case CovarianceKind::clustered: {
        const Matrix s = sums(p.group);
        const auto g = static_cast<Real>(s.rows());
        middle = g / (g - 1) * (n - 1) / (n - k) * (s.transpose() * s);
        break;
    }
    case CovarianceKind::autocorrelated: {
        const Matrix s = sums(p.period);
        middle = s.transpose() * s;
        const int lags = p.recipe.errors.lags;
        for (int l = 1; l <= lags; ++l) {
            const Matrix cross = s.bottomRows(s.rows() - l).transpose() * s.topRows(s.rows() - l);
            middle += (1 - Real(l) / (lags + 1)) * (cross + cross.transpose());
        }
        middle *= n / (n - k);
        break;
    }
    default:
        if (p.recipe.errors.kind == CovarianceKind::hc2)
            spread = spread.cwiseQuotient((1 - a.leverage.array()).matrix());
        if (p.recipe.errors.kind == CovarianceKind::hc3)
            spread = spread.cwiseQuotient((1 - a.leverage.array()).square().matrix());
        middle = q.transpose() * spread.asDiagonal() * q;
        if (p.recipe.errors.kind == CovarianceKind::hc1) middle *= n / (n - k);
    }
    a.covariance = a.inverse * middle * a.inverse.transpose();
    a.errors = a.covariance.diagonal().cwiseMax(Real(0)).cwiseSqrt();
    return a;
}

TEST(RandomProblems, AgreeWithASecondRouteIn80Bits) {
    const auto problems = static_cast<int>(wanted("OXGOAD_PROBLEMS", 200));
    int fitted = 0, refused = 0, fixed = 0, errorsCompared = 0;
    std::map<CovarianceKind, int> byKind;
    for (int k = 0; k < problems; ++k) {
        const Problem p = made(static_cast<std::uint64_t>(k) + 1);
        SCOPED_TRACE(p.says);
        Evidence e;
        try {
            e = evaluate(p.recipe, p.rows, {2}, quietly());
        } catch (const Error& error) {
            ++refused; // too few rows for its columns, or one level only; never anything else
            EXPECT_TRUE(error.code() == ErrorCode::tooFewRows || error.code() == ErrorCode::badTerm)
                << error.what();
            continue;
        }
        std::vector<Index> kept;
        std::vector<const CoefficientEvidence*> coefficients;
        for (std::size_t c = 0; c < e.linear->coefficients.size(); ++c)
            if (!e.linear->coefficients[c].dependent) {
                kept.push_back(static_cast<Index>(c));
                coefficients.push_back(&e.linear->coefficients[c]);
            }
        ASSERT_EQ(static_cast<Index>(e.linear->coefficients.size()), p.x.cols());
        if (!(e.linear->degreesOfFreedom > 0) || e.linear->fitsExactly) continue;
        ++fitted;
        const Answer a = solved(p, kept);
        ASSERT_EQ(e.linear->degreesOfFreedom, static_cast<double>(a.df));
        // 80 bits carry 19 digits less those the conditioning takes, and errors of sums.
        const double possible = std::min(9.5, 16.5 - std::log10(static_cast<double>(a.condition)));
        if (possible < 4) continue;
        const auto agree = [&](double value, Real right, double less = 0) {
            return digits(value, static_cast<double>(right)) > possible - less;
        };
        const bool fixes = (1 - a.leverage.array() < 1e-9).any();
        fixed += fixes;
        for (std::size_t c = 0; c < kept.size(); ++c) {
            const auto at = static_cast<Index>(c);
            const CoefficientEvidence& found = *coefficients[c];
            const double size = static_cast<double>(a.errors[at]);
            EXPECT_TRUE(agree(found.estimate, a.b[at]) ||
                        std::fabs(found.estimate - static_cast<double>(a.b[at])) < 1e-8 * size)
                << found.name << " " << found.estimate << " " << a.b[at];
            if (std::isnan(found.standardError)) {
                EXPECT_TRUE(fixes || p.recipe.errors.kind == CovarianceKind::clustered) << found.name;
                continue;
            }
            if (fixes && p.recipe.errors.kind >= CovarianceKind::hc2 &&
                p.recipe.errors.kind <= CovarianceKind::hc3)
                continue; // 0 over 0 in the textbook's formula
            ++errorsCompared;
            ++byKind[p.recipe.errors.kind];
            EXPECT_TRUE(agree(found.standardError, a.errors[at], 0.5))
                << found.name << " " << found.standardError << " " << size;
            EXPECT_LT(found.lower, found.upper);
            EXPECT_TRUE(
                agree(found.upper - found.lower,
                      2 * Real(studentQuantile(p.recipe.level, found.degreesOfFreedom)) * a.errors[at], 0.5));
        }
        EXPECT_TRUE(agree(e.linear->residualSumOfSquares, a.rss, 1));
        EXPECT_TRUE(agree(e.linear->totalSumOfSquares, a.tss, 1))
            << e.linear->totalSumOfSquares << " " << a.tss;
        Index row = 0;
        const Real variance = a.rss / a.df;
        for (std::size_t i = 0; i < e.rows.state.size(); ++i) {
            if (e.rows.state[i] != RowState::learning) continue;
            const Real h = a.leverage[row], r = a.residual[row] * std::sqrt(p.w[row]);
            EXPECT_NEAR(e.linear->rows.leverage[i], static_cast<double>(h), 1e-9) << i;
            EXPECT_NEAR(e.rows.residual[i], static_cast<double>(a.residual[row]),
                        1e-8 *
                            static_cast<double>(std::sqrt(variance / p.w[row]) + std::fabs(p.y[row]) * 1e-4))
                << i;
            if (1 - h > 1e-6) {
                const Real cook =
                    r * r / (static_cast<Real>(kept.size()) * variance) * h / ((1 - h) * (1 - h));
                EXPECT_NEAR(e.linear->rows.cook[i], static_cast<double>(cook),
                            1e-7 * (1 + static_cast<double>(cook)))
                    << i;
            }
            ++row;
        }
        // Variance inflation of numbers that stand alone: 1/(1 − R²) on the others, by their residual's
        // length.
        if (p.recipe.intercept)
            for (std::size_t t = 0; t < p.recipe.terms.size(); ++t) {
                const Term& term = p.recipe.terms[t];
                if (term.parts.size() > 1 || term.parts[0].column == "g" || term.parts[0].column == "x0" ||
                    e.linear->terms[t].degreesOfFreedom != 1)
                    continue;
                Index own = -1;
                for (std::size_t c = 0; c < kept.size(); ++c)
                    if (coefficients[c]->term == static_cast<int>(t)) own = static_cast<Index>(c);
                const Vector roots = p.w.cwiseSqrt();
                const Vector z = p.x.col(kept[static_cast<std::size_t>(own)]);
                const Real mean = p.w.dot(z) / p.w.sum();
                const Real whole = p.w.dot((z.array() - mean).square().matrix());
                const Real left = 1 / a.inverse.row(own).squaredNorm();
                EXPECT_TRUE(agree(e.linear->terms[t].inflation, whole / left, 0.5)) << term.parts[0].column;
            }
        // Predictions with both intervals, where it was learned.
        const ForecastEvidence& f = *e.forecast;
        row = 0;
        for (std::size_t i = 0; i < e.rows.state.size(); ++i) {
            if (e.rows.state[i] != RowState::learning) continue;
            const Index at = row++;
            if (p.recipe.logResponse || std::isnan(f.meanLower[i])) continue;
            const Vector x = p.x.row(at)(kept).transpose();
            const Real offset = Real(f.prediction[i]) - x.dot(a.b);
            const Real t = studentQuantile(0.9, p.recipe.errors.kind == CovarianceKind::clustered
                                                    ? *std::max_element(p.group.begin(), p.group.end())
                                                    : static_cast<double>(a.df));
            const Real ofMean = x.dot(a.covariance * x);
            if (fixes && p.recipe.errors.kind != CovarianceKind::homoskedastic) continue;
            if (!(ofMean > 1e-9 * variance * a.leverage[at] / p.w[at])) continue;
            EXPECT_LT(std::fabs(static_cast<double>(offset)), 1e3) << "the offset, or nothing";
            EXPECT_NEAR(f.meanUpper[i] - f.meanLower[i], static_cast<double>(2 * t * std::sqrt(ofMean)),
                        1e-6 * static_cast<double>(std::sqrt(variance) + std::fabs(p.y[at]) * 1e-3))
                << i;
            EXPECT_NEAR(f.upper[i] - f.lower[i],
                        static_cast<double>(2 * t * std::sqrt(ofMean + variance / p.w[at])),
                        1e-6 * static_cast<double>(std::sqrt(variance / p.w[at]) + std::fabs(p.y[at]) * 1e-3))
                << i;
        }
        if (testing::Test::HasFailure() && k < problems - 1) {
            ADD_FAILURE() << "stopped at the first problem that disagrees";
            return;
        }
    }
    std::printf("[ problems ] %d fitted, %d refused, %d with rows that fix their value, %d standard errors "
                "compared\n",
                fitted, refused, fixed, errorsCompared);
    EXPECT_GT(fitted, problems * 7 / 10);
    EXPECT_GT(fixed, problems / 20);
    if (problems >= 200) {
        EXPECT_EQ(byKind.size(), 7u) << "every kind of errors was met";
    }
}

} // namespace random_problems_test
