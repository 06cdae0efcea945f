// Terms to columns of the model matrix.
#include "design/design.h"
#include "support/support.h"

#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;

namespace design_test {

Table sample() {
    return readBytes("x,g,h,when,y\n1,a,p,2025-01-01,1\n2,b,q,2025-01-03,2\n3,c,p,2025-01-05,3\n4,a,q,2025-"
                     "01-07,4\n?,b,p,2025-01-09,5\n6,,q,2025-01-11,6\n")
        .table;
}

std::vector<std::uint32_t> firstRows(std::uint32_t n) {
    std::vector<std::uint32_t> rows(n);
    std::iota(rows.begin(), rows.end(), 0U);
    return rows;
}

Design learn(const Table& table, const std::vector<Term>& terms,
             const std::map<std::string, std::string>& references = {}) {
    return Design::learn(table, firstRows(4), terms, references, "rows.csv");
}

std::vector<std::string> names(const Design& design) {
    std::vector<std::string> all;
    for (const auto& column : design.columns())
        all.push_back(column.name);
    return all;
}

Eigen::MatrixXd matrix(const Design& design, const Table& table, const std::vector<std::uint32_t>& rows) {
    const BoundDesign bound(design, table, "rows.csv");
    Eigen::MatrixXd block(static_cast<Eigen::Index>(rows.size()),
                          static_cast<Eigen::Index>(design.columns().size()));
    bound.fill(rows, block);
    return block;
}

TEST(Design, ColumnsAreNamedAfterTheirTerms) {
    const Table table = sample();
    const auto design = learn(table,
                              {plainTerm("x"), Term{{TermPart{"x", 3}}}, Term{{TermPart{"x", 1, true}}},
                               Term{{TermPart{"x", -1}}}, plainTerm("g"),
                               Term{{TermPart{"x"}, TermPart{"g"}}}, Term{{TermPart{"g"}, TermPart{"h"}}}},
                              {{"g", "b"}});
    EXPECT_EQ(names(design),
              (std::vector<std::string>{"x", "x^3", "ln(x)", "x^-1", "g = a", "g = c", "x × g = a",
                                        "x × g = c", "g = a × h = q", "g = c × h = q"}));
    EXPECT_EQ(design.columns()[6].term, 5u);
}

TEST(Design, TheMatrixIsWhatOneWouldWriteByHand) {
    const Table table = sample();
    const auto design =
        learn(table, {plainTerm("x"), Term{{TermPart{"x", 2}}}, Term{{TermPart{"x", -2}}},
                      Term{{TermPart{"x", 1, true}}}, plainTerm("g"), Term{{TermPart{"x"}, TermPart{"g"}}}});
    const auto m = matrix(design, table, {3, 0, 1, 2}); // any order of rows
    Eigen::MatrixXd expected(4, 8);
    expected << 4, 16, 1.0 / 16, std::log(4.0), 0, 0, 0, 0, // g = a is the reference level
        1, 1, 1, 0, 0, 0, 0, 0,                             //
        2, 4, 0.25, std::log(2.0), 1, 0, 2, 0,              //
        3, 9, 1.0 / 9, std::log(3.0), 0, 1, 0, 3;
    EXPECT_LT((m - expected).cwiseAbs().maxCoeff(), 1e-15);
}

TEST(Design, DatesEnterAsDays) {
    const Table table = sample();
    const auto m = matrix(learn(table, {plainTerm("when")}), table, {0, 1});
    EXPECT_EQ(m(1, 0) - m(0, 0), 2);
}

TEST(Design, LevelsComeFromLearningRowsOnly) {
    const Table table = sample();
    const std::vector<std::uint32_t> two{0, 1};
    const auto design = Design::learn(table, two, {plainTerm("g")}, {}, "rows.csv");
    EXPECT_EQ(design.inputs()[0].levels, (std::vector<std::string>{"a", "b"}));
    const BoundDesign bound(design, table, "rows.csv");
    EXPECT_FALSE(bound.complete(2));
    EXPECT_EQ(bound.problems(2), (std::vector<std::string>{"g = c was never learned from"}));
}

TEST(Design, ProblemsOfARowAreSaidOneByOne) {
    const Table table = sample();
    const auto design = learn(table, {Term{{TermPart{"x", 1, true}}}, plainTerm("g")});
    const BoundDesign bound(design, table, "rows.csv");
    EXPECT_TRUE(bound.complete(0));
    EXPECT_EQ(bound.problems(4), (std::vector<std::string>{"x is missing"}));
    EXPECT_EQ(bound.problems(5), (std::vector<std::string>{"g is missing"}));
    const Table other = readBytes("x,g\n-2,a\n0,d\n").table;
    const BoundDesign there(design, other, "plan.csv");
    EXPECT_EQ(there.problems(0), (std::vector<std::string>{"ln(x) is not defined at −2.00000"}));
    EXPECT_EQ(there.problems(1).size(), 2u);
}

TEST(Design, ANumberWhereLevelsWereLearnedIsRefused) {
    const Table table = sample();
    const auto design = learn(table, {plainTerm("g")});
    const Table other = readBytes("g\n1\n2\n").table;
    EXPECT_NE(errorOf([&] {
                  const BoundDesign bound(design, other, "plan.csv");
              }).find("holds number values where the model learned from levels"),
              std::string::npos);
    const Table none = readBytes("k\n1\n2\n").table;
    EXPECT_NE(errorOf([&] {
                  const BoundDesign bound(design, none, "plan.csv");
              }).find("plan.csv: there is no column \"g\""),
              std::string::npos);
}

TEST(Design, SenselessTermsAreRefused) {
    const Table table = sample();
    EXPECT_NE(errorOf([&] {
                  learn(table, {plainTerm("x"), plainTerm("x")});
              }).find("is there twice"),
              std::string::npos);
    EXPECT_NE(errorOf([&] { learn(table, {Term{}}); }).find("term 1 is empty"), std::string::npos);
    EXPECT_NE(errorOf([&] {
                  learn(table, {Term{{TermPart{"x", 0}}}});
              }).find("the power 0"),
              std::string::npos);
    EXPECT_NE(errorOf([&] {
                  learn(table, {Term{{TermPart{"g", 2}}}});
              }).find("a factor has no powers"),
              std::string::npos);
    EXPECT_NE(errorOf([&] {
                  learn(table, {Term{{TermPart{"g", 1, true}}}});
              }).find("a factor has no logarithm"),
              std::string::npos);
    EXPECT_NE(errorOf([&] {
                  learn(table, {plainTerm("g")}, {{"g", "z"}});
              }).find("reference level \"z\""),
              std::string::npos);
}

TEST(Design, BlocksCoverEveryRowOnce) {
    std::string text = "x\n";
    for (int i = 0; i < 10000; ++i)
        text += std::to_string(i) + "\n";
    const Table table = readBytes(text).table;
    const auto rows = firstRows(10000);
    const auto design = Design::learn(table, rows, {plainTerm("x")}, {}, "rows.csv");
    const BoundDesign bound(design, table, "rows.csv");
    std::vector<double> seen(10000, -1);
    forEachBlock(bound, rows, {3}, quietly(), [&](std::size_t first, const Eigen::MatrixXd& block) {
        for (Eigen::Index i = 0; i < block.rows(); ++i)
            seen[first + static_cast<std::size_t>(i)] = block(i, 0);
    });
    for (std::size_t i = 0; i < seen.size(); ++i)
        ASSERT_EQ(seen[i], static_cast<double>(i));
}

} // namespace design_test
