// The arithmetic that is built twice: each build against sums in twice the precision, and the one the loader
// took.
#include "kernels/kernels.h"

#include "base/random.h"
#include "support/support.h"

#include <Eigen/Dense>

#include <cmath>
#include <cstdlib>
#include <dlfcn.h>
#include <filesystem>
#include <string>
#include <vector>

using namespace oxgoad;
using Eigen::Index;
using Eigen::MatrixXd;

namespace kernels_test {

using Wide = Eigen::Matrix<long double, Eigen::Dynamic, Eigen::Dynamic>;

/// One build of the library, beside the one the program runs on.
class Build {
public:
    explicit Build(const std::string& folder) {
        const std::string path = OXGOAD_KERNELS + folder + "/liboxgoad_kernels.so";
        if (!std::filesystem::exists(path)) return;
        m_library = dlopen(path.c_str(), RTLD_NOW | RTLD_LOCAL);
        EXPECT_NE(m_library, nullptr) << dlerror();
    }
    ~Build() {
        if (m_library) dlclose(m_library);
    }
    Build(const Build&) = delete;
    explicit operator bool() const { return m_library != nullptr; }
    template <class F> F* find(const char* name) const {
        auto* found = reinterpret_cast<F*>(dlsym(m_library, name));
        EXPECT_NE(found, nullptr) << name;
        return found;
    }

private:
    void* m_library = nullptr;
};

bool hasWideInstructions() {
    return __builtin_cpu_supports("x86-64-v3");
}

std::vector<std::string> foldersHere() {
    std::vector<std::string> folders{""};
    if (hasWideInstructions()) folders.emplace_back("/glibc-hwcaps/x86-64-v3");
    return folders;
}

MatrixXd someRows(Index rows, Index columns, std::uint64_t seed) {
    RandomStream random(seed, "kernels");
    MatrixXd x(rows, columns);
    for (double& value : x.reshaped())
        value = random.normal();
    return x;
}

/// The middle of a larger array: what is beside it must stay as it is.
struct Framed {
    MatrixXd whole;
    Index rows, columns;
    explicit Framed(const MatrixXd& inner)
        : whole(MatrixXd::Constant(inner.rows() + 5, inner.cols() + 2, 77)), rows(inner.rows()),
          columns(inner.cols()) {
        whole.block(2, 1, rows, columns) = inner;
    }
    OxgoadMatrix array() { return {&whole(2, 1), rows, columns, whole.rows()}; }
    MatrixXd inner() const { return whole.block(2, 1, rows, columns); }
    bool frameIsWhole() const {
        MatrixXd frame = whole;
        frame.block(2, 1, rows, columns).setConstant(77);
        return (frame.array() == 77).all();
    }
};

bool never(const void*) {
    return false;
}

/// Largest difference of R'R from what it should be, over the lengths of the two columns.
double farthest(const MatrixXd& r, const Wide& wanted) {
    const Wide wide = r.cast<long double>();
    const Wide products = wide.transpose() * wide;
    long double worst = 0;
    for (Index i = 0; i < wanted.rows(); ++i)
        for (Index j = 0; j < wanted.cols(); ++j)
            worst = std::max(worst, std::fabs(products(i, j) - wanted(i, j)) /
                                        std::sqrt(wanted(i, i) * wanted(j, j)));
    return static_cast<double>(worst);
}

TEST(Kernels, EachBuildTakesRowsIntoTheTriangle) {
    for (const std::string& folder : foldersHere()) {
        const Build build(folder);
        ASSERT_TRUE(build) << folder;
        const auto absorb = build.find<decltype(oxgoad_absorb)>("oxgoad_absorb");
        const auto few = build.find<decltype(oxgoad_triangle_of_few)>("oxgoad_triangle_of_few");
        for (const Index columns : {1, 2, 3, 7, 16, 17, 63, 64, 65, 97, 130})
            for (const Index rows : {1, 2, 31, 64, 200}) {
                const MatrixXd first = someRows(columns + 3, columns, 1), then = someRows(rows, columns, 2);
                Framed r(MatrixXd::Zero(columns, columns)), start(first), next(then);
                ASSERT_TRUE(few(r.array(), start.array(), never, nullptr));
                const Wide x = first.cast<long double>(), z = then.cast<long double>();
                Wide wanted = x.transpose() * x;
                EXPECT_LT(farthest(r.inner(), wanted), 1e-14) << folder << columns << " " << rows;
                ASSERT_TRUE(absorb(r.array(), next.array(), never, nullptr));
                wanted += z.transpose() * z;
                EXPECT_LT(farthest(r.inner(), wanted), 1e-14) << folder << columns << " " << rows;
                EXPECT_TRUE(r.frameIsWhole() && start.frameIsWhole() && next.frameIsWhole());
                for (Index j = 0; j < columns; ++j)
                    for (Index i = j + 1; i < columns; ++i)
                        ASSERT_EQ(r.inner()(i, j), 0) << "below the diagonal";
            }
    }
}

TEST(Kernels, EachBuildSolvesRows) {
    for (const std::string& folder : foldersHere()) {
        const Build build(folder);
        ASSERT_TRUE(build) << folder;
        const auto solve = build.find<decltype(oxgoad_solve_rows)>("oxgoad_solve_rows");
        for (const Index columns : {1, 2, 5, 33, 130})
            for (const Index rows : {1, 2, 40, 300}) {
                MatrixXd triangle = someRows(columns, columns, 3).triangularView<Eigen::Upper>();
                triangle.diagonal().array() += 3 * std::sqrt(static_cast<double>(columns));
                const MatrixXd x = someRows(rows, columns, 4);
                Framed t(triangle), solved(x);
                solve(t.array(), solved.array());
                const Wide back = solved.inner().cast<long double>() * triangle.cast<long double>();
                EXPECT_LT((back - x.cast<long double>()).cwiseAbs().maxCoeff(), 1e-13L)
                    << folder << columns << " " << rows;
                EXPECT_TRUE(solved.frameIsWhole() && t.frameIsWhole());
            }
    }
}

TEST(Kernels, EachBuildAddsProducts) {
    for (const std::string& folder : foldersHere()) {
        const Build build(folder);
        ASSERT_TRUE(build) << folder;
        const auto add = build.find<decltype(oxgoad_add_products)>("oxgoad_add_products");
        const auto addSquare = build.find<decltype(oxgoad_add_squares)>("oxgoad_add_squares");
        for (const Index rows : {1, 3, 64, 300})
            for (const Index left : {1, 2, 65})
                for (const Index right : {1, 7, 40}) {
                    const MatrixXd a = someRows(rows, left, 7), b = someRows(rows, right, 8);
                    const Wide x = a.cast<long double>(), z = b.cast<long double>();
                    Framed first(a), second(b), sum(MatrixXd::Constant(left, right, 0.5)),
                        squares(MatrixXd::Constant(left, left, 0.25));
                    add(sum.array(), first.array(), second.array());
                    addSquare(squares.array(), first.array());
                    const Wide apart =
                        sum.inner().cast<long double>() - Wide((x.transpose() * z).array() + 0.5L);
                    EXPECT_LT(apart.cwiseAbs().maxCoeff(), 1e-12L) << folder;
                    const Wide wanted = (x.transpose() * x).array() + 0.25L;
                    for (Index j = 0; j < left; ++j)
                        for (Index i = 0; i < left; ++i)
                            EXPECT_NEAR(squares.inner()(i, j),
                                        i < j ? 0.25 : static_cast<double>(wanted(i, j)), 1e-12)
                                << "only below the diagonal";
                    EXPECT_TRUE(sum.frameIsWhole() && squares.frameIsWhole() && first.frameIsWhole() &&
                                second.frameIsWhole());
                }
    }
}

TEST(Kernels, WorkStopsWhenItIsTold) {
    struct Asked {
        int times = 0, stopAt = 0;
    };
    const auto told = [](const void* whom) {
        auto* asked = static_cast<Asked*>(const_cast<void*>(whom));
        return ++asked->times == asked->stopAt;
    };
    for (int stopAt = 1;; ++stopAt) {
        MatrixXd r = MatrixXd::Identity(200, 200), x = someRows(300, 200, 5);
        Asked asked{0, stopAt};
        if (oxgoad_absorb({r.data(), 200, 200, 200}, {x.data(), 300, 200, 300}, told, &asked)) {
            EXPECT_GT(stopAt, 5) << "it asks before each panel, and beside it";
            EXPECT_LT(asked.times, stopAt);
            break;
        }
        EXPECT_EQ(asked.times, stopAt) << "nothing is done after it was told";
    }
    Asked once{0, 1};
    MatrixXd r = MatrixXd::Zero(200, 200), x = someRows(210, 200, 6);
    EXPECT_FALSE(oxgoad_triangle_of_few({r.data(), 200, 200, 200}, {x.data(), 210, 200, 210}, told, &once));
}

TEST(Kernels, TheLoaderTakesTheBuildForThisMachine) {
    if (std::getenv("LD_PRELOAD")) GTEST_SKIP() << "a build was asked for";
    EXPECT_STREQ(oxgoad_built_for(), hasWideInstructions() ? "x86-64-v3" : "any machine");
}

} // namespace kernels_test
