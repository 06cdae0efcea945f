// Errors by few groups against their definition, written out with matrices of the size of the rows.
#include "base/random.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "support/support.h"

#include <Eigen/Dense>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace few_groups_test {

struct Made {
    StudyRows rows;
    MatrixXd x; // with the constant
    VectorXd y, w;
    std::vector<int> group;
};

Made made(int groups, int each, std::uint64_t seed, bool weighted) {
    RandomStream random(seed, "few groups");
    Made m;
    const Index n = groups * each;
    m.x = MatrixXd::Ones(n, 3);
    m.y.resize(n);
    m.w = VectorXd::Ones(n);
    std::string text = "a,b,g,w,y\n";
    for (Index i = 0; i < n; ++i) {
        const int g = static_cast<int>(i) % groups;
        m.group.push_back(g);
        m.x(i, 1) = random.normal() + g % 3;
        m.x(i, 2) = g < groups / 2 ? 1 : 0; // a column that groups share
        if (weighted) m.w[i] = 0.5 + 3 * random.uniform();
        m.y[i] = 1 + 2 * m.x(i, 1) - m.x(i, 2) + 0.4 * (g % 5) + random.normal();
        text += exactText(m.x(i, 1)) + "," + exactText(m.x(i, 2)) + ",g" + std::to_string(g) + "," +
                exactText(m.w[i]) + "," + exactText(m.y[i]) + "\n";
    }
    m.rows.learning = readBytes(text);
    return m;
}

/// Bell and McCaffrey 2002, eq. 4 and §4, as they stand: A_g = (I − H_gg)^(−1/2), G's columns (I − H)_g A_g
/// X_g (X'X)⁻¹ c.
struct Defined {
    MatrixXd covariance;
    std::vector<MatrixXd> g; // for each coefficient n × groups
};
Defined defined(const Made& m, int groups) {
    const VectorXd roots = m.w.cwiseSqrt();
    const MatrixXd x = roots.asDiagonal() * m.x;
    const VectorXd y = roots.asDiagonal() * m.y;
    const MatrixXd inverse = (x.transpose() * x).inverse();
    const MatrixXd hat = x * inverse * x.transpose();
    const VectorXd e = y - hat * y;
    const Index n = x.rows(), k = x.cols();
    Defined d{MatrixXd::Zero(k, k),
              std::vector<MatrixXd>(static_cast<std::size_t>(k), MatrixXd::Zero(n, groups))};
    const MatrixXd left = MatrixXd::Identity(n, n) - hat;
    for (int g = 0; g < groups; ++g) {
        std::vector<Index> own;
        for (Index i = 0; i < n; ++i)
            if (m.group[static_cast<std::size_t>(i)] == g) own.push_back(i);
        const Eigen::SelfAdjointEigenSolver<MatrixXd> eigen(left(own, own));
        const VectorXd root =
            eigen.eigenvalues().unaryExpr([](double v) { return v > 1e-10 ? 1 / std::sqrt(v) : 0; });
        const MatrixXd a = eigen.eigenvectors() * root.asDiagonal() * eigen.eigenvectors().transpose();
        const MatrixXd xg = x(own, Eigen::all);
        const VectorXd score = xg.transpose() * a * e(own);
        d.covariance += inverse * score * score.transpose() * inverse;
        for (Index c = 0; c < k; ++c)
            d.g[static_cast<std::size_t>(c)].col(g) = left(Eigen::all, own) * a * xg * inverse.col(c);
    }
    return d;
}

Recipe recipeFor(bool weighted) {
    Recipe recipe = recipeOf("y", {"a", "b"});
    recipe.errors = {CovarianceKind::clusteredFewGroups, "g", -1};
    if (weighted) recipe.roles["w"] = Role::weight;
    return recipe;
}

TEST(FewGroups, ErrorsAndDegreesOfFreedomAreThoseOfTheDefinition) {
    for (const bool weighted : {false, true})
        for (const int groups : {3, 6, 11}) {
            const Made m = made(groups, 7, 20 + static_cast<std::uint64_t>(groups), weighted);
            const Evidence e = evaluate(recipeFor(weighted), m.rows, {}, quietly());
            const Defined d = defined(m, groups);
            for (Index c = 0; c < 3; ++c) {
                const auto& coefficient = e.linear->coefficients[static_cast<std::size_t>(c)];
                EXPECT_GT(digits(coefficient.standardError, std::sqrt(d.covariance(c, c))), 9) << groups << c;
                const MatrixXd b =
                    d.g[static_cast<std::size_t>(c)].transpose() * d.g[static_cast<std::size_t>(c)];
                const double df = b.trace() * b.trace() / (b * b).trace(); // Satterthwaite
                EXPECT_GT(digits(coefficient.degreesOfFreedom, df), 8) << groups << c;
                EXPECT_LT(coefficient.degreesOfFreedom, groups);
                const double half = studentQuantile(0.95, df) * coefficient.standardError;
                EXPECT_GT(digits(coefficient.upper, coefficient.estimate + half), 8);
            }
        }
}

TEST(FewGroups, TheTestOfOneColumnIsTheSquareOfItsT) {
    const Made m = made(8, 6, 5, false);
    const Evidence e = evaluate(recipeFor(false), m.rows, {}, quietly());
    for (const std::size_t t : {0U, 1U}) {
        EXPECT_GT(
            digits(e.linear->terms[t].f, e.linear->coefficients[t + 1].t * e.linear->coefficients[t + 1].t),
            9);
        EXPECT_GT(digits(e.linear->terms[t].denominatorDf, e.linear->coefficients[t + 1].degreesOfFreedom),
                  9);
        EXPECT_GT(digits(e.linear->terms[t].p, e.linear->coefficients[t + 1].p), 8);
    }
}

TEST(FewGroups, JointTestIsThatOfPustejovskyAndTipton) {
    const int groups = 9;
    const Made m = made(groups, 6, 9, false);
    const Evidence e = evaluate(recipeFor(false), m.rows, {}, quietly());
    const Defined d = defined(m, groups);
    // η by its definition: standardised contrasts of both slopes, entries' variances from the groups'
    // products.
    const MatrixXd expected = (m.x.transpose() * m.x).inverse().bottomRightCorner(2, 2);
    const MatrixXd root = Eigen::SelfAdjointEigenSolver<MatrixXd>(expected).operatorInverseSqrt();
    std::vector<MatrixXd> g(2);
    for (Index s = 0; s < 2; ++s)
        g[static_cast<std::size_t>(s)] = root(s, 0) * d.g[1] + root(s, 1) * d.g[2];
    double variances = 0;
    for (std::size_t s = 0; s < 2; ++s)
        for (std::size_t t = 0; t < 2; ++t) {
            const MatrixXd ss = g[s].transpose() * g[s], tt = g[t].transpose() * g[t],
                           st = g[s].transpose() * g[t];
            variances += ss.cwiseProduct(tt).sum() + st.cwiseProduct(st.transpose()).sum();
        }
    const double eta = 2 * 3 / variances;
    const VectorXd b{{e.linear->coefficients[1].estimate, e.linear->coefficients[2].estimate}};
    const double q = b.dot(d.covariance.bottomRightCorner(2, 2).inverse() * b);
    EXPECT_GT(digits(e.linear->fDenominatorDf, eta - 1), 8);
    EXPECT_GT(digits(e.linear->f, (eta - 1) / eta * q / 2), 8);
}

TEST(FewGroups, AGroupThatAloneDeterminesAColumnIsAdjustedByTheMoorePenroseInverse) {
    const Made m = made(5, 6, 31, false);
    Recipe recipe = recipeOf("y", {"a", "g"}); // each group a term: I − H_gg is singular
    recipe.errors = {CovarianceKind::clusteredFewGroups, "g", -1};
    const Evidence e = evaluate(recipe, m.rows, {}, quietly());
    EXPECT_GT(e.linear->coefficients[1].standardError, 0) << "the slope within groups is judged";
    for (const TermEvidence& term : e.linear->terms)
        EXPECT_TRUE(term.name != "g" || (std::isnan(term.f) && !term.why.empty()));
}

TEST(FewGroups, WithTenGroupsIntervalsCoverWhatTheySay) {
    // 400 seeded samples of 10 groups: of 95 % intervals the plain ones cover less than the corrected ones,
    // and these about what they say.
    int plain = 0, corrected = 0;
    constexpr int samples = 400, groups = 10, each = 8;
    for (int s = 0; s < samples; ++s) {
        RandomStream random(1000 + static_cast<std::uint64_t>(s), "coverage");
        std::string text = "x,g,y\n";
        for (int g = 0; g < groups; ++g) {
            const double shared = random.normal(), level = random.normal();
            for (int i = 0; i < each; ++i)
                text += exactText(shared) + ",g" + std::to_string(g) + "," +
                        exactText(0.5 * shared + level + random.normal()) + "\n";
        }
        StudyRows rows;
        rows.learning = readBytes(text);
        Recipe recipe = recipeOf("y", {"x"});
        for (const auto kind : {CovarianceKind::clustered, CovarianceKind::clusteredFewGroups}) {
            recipe.errors = {kind, "g", -1};
            const CoefficientEvidence c = unchecked(recipe, rows).linear->coefficients[1];
            const bool covers = c.lower <= 0.5 && 0.5 <= c.upper;
            (kind == CovarianceKind::clustered ? plain : corrected) += covers;
        }
    }
    RecordProperty("plain", plain);
    RecordProperty("corrected", corrected);
    EXPECT_LT(plain, 0.94 * samples) << plain;
    EXPECT_GT(corrected, 0.93 * samples) << corrected;
    EXPECT_LT(corrected, 0.98 * samples) << corrected;
}

TEST(FewGroups, RecipesReadBackAndRefuseOtherCorrections) {
    const Recipe recipe = recipeFor(false);
    EXPECT_EQ(parseRecipe(recipeText(recipe), "r.json"), recipe);
    EXPECT_NE(recipeText(recipe).find("\"correction\": \"few groups\""), std::string::npos);
    std::string text = recipeText(recipe);
    text.replace(text.find("few groups"), 10, "no groups!");
    EXPECT_NE(errorOf([&] { parseRecipe(text, "r.json"); }).find("errors.correction"), std::string::npos);
}

} // namespace few_groups_test
