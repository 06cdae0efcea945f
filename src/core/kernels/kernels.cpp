#include "kernels/kernels.h"
#include "kernels/reflection.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::Ref;
using Eigen::VectorXd;

using View = Eigen::Map<MatrixXd, 0, Eigen::OuterStride<>>;

View viewOf(const OxgoadMatrix& matrix) {
    return {matrix.values, matrix.rows, matrix.columns, Eigen::OuterStride<>(matrix.stride)};
}

/// Whoever waits for the work, and was asked by it.
struct Waiting {
    OxgoadTold told;
    const void* whom;
    bool over() const { return told(whom); }
};

/// Up to so many columns are reduced one by one, as all of them are where there are few.
constexpr Index fewColumns = 64;
constexpr Index narrow = 16;
constexpr Index panelColumns = 32;

/// One reflection a column: the row of R and the rows below it. Leaves the reflections' vectors in the place
/// of the rows, each with a 1 in R's row before them. Their factors.
VectorXd reduceOneByOne(Ref<MatrixXd> r, Ref<MatrixXd> rows) {
    const Index count = rows.cols();
    VectorXd factors = VectorXd::Zero(count);
    for (Index j = 0; j < count; ++j) {
        auto column = rows.col(j);
        const oxgoad::Reflection turn = oxgoad::reflectionOf(r(j, j), column);
        if (turn.factor == 0) {
            column.setZero();
            continue;
        }
        factors[j] = turn.factor;
        r(j, j) = turn.length;
        column *= turn.scale;
        if (const Index after = count - j - 1; after > 0) {
            VectorXd along = r.row(j).tail(after).transpose();
            along.noalias() += rows.rightCols(after).transpose() * column;
            along *= turn.factor;
            r.row(j).tail(after) -= along.transpose();
            rows.rightCols(after).noalias() -= column * along.transpose();
        }
    }
    return factors;
}

/// sum += by·ab, and by·a'b: in two places only, since every product of its own types is compiled anew.
void addProduct(Ref<MatrixXd> sum, double by, const Ref<const MatrixXd>& a, const Ref<const MatrixXd>& b) {
    sum.noalias() += by * a * b;
}
void addCrossProduct(Ref<MatrixXd> sum, double by, const Ref<const MatrixXd>& a,
                     const Ref<const MatrixXd>& b) {
    sum.noalias() += by * a.transpose() * b;
}

/// Applies reflections (their vectors, their triangle T) to columns: I - V T' V' with V = [I; vectors].
void apply(const Ref<const MatrixXd>& vectors, const MatrixXd& t, Ref<MatrixXd> r, Ref<MatrixXd> rows) {
    MatrixXd along = r;
    addCrossProduct(along, 1, vectors, rows);
    MatrixXd turned = MatrixXd::Zero(along.rows(), along.cols());
    addCrossProduct(turned, 1, t, along);
    r -= turned;
    addProduct(rows, -1, vectors, turned);
}

/// Reduces a panel by halves. T of its reflections, where it is wanted.
MatrixXd reducePanel(Ref<MatrixXd> r, Ref<MatrixXd> rows, bool wanted) {
    const Index count = rows.cols();
    MatrixXd t;
    if (count <= narrow || !wanted) {
        const VectorXd factors = reduceOneByOne(r, rows);
        if (!wanted) return t;
        MatrixXd products = MatrixXd::Zero(count, count);
        addCrossProduct(products, 1, rows, rows); // T as of Schreiber and Van Loan, from V'V
        t = MatrixXd::Zero(count, count);
        for (Index j = 0; j < count; ++j) {
            t(j, j) = factors[j];
            if (j == 0) continue;
            const VectorXd said = -factors[j] * products.col(j).head(j);
            t.col(j).head(j) = t.topLeftCorner(j, j) * said;
        }
        return t;
    }
    const Index half = count / 2, other = count - half;
    const MatrixXd first = reducePanel(r.topLeftCorner(half, half), rows.leftCols(half), true);
    apply(rows.leftCols(half), first, r.topRightCorner(half, other), rows.rightCols(other));
    const MatrixXd second = reducePanel(r.bottomRightCorner(other, other), rows.rightCols(other), true);
    t = MatrixXd::Zero(count, count);
    t.topLeftCorner(half, half) = first;
    t.bottomRightCorner(other, other) = second;
    MatrixXd between = MatrixXd::Zero(half, other), whole = between;
    addCrossProduct(between, 1, rows.leftCols(half), rows.rightCols(other));
    addProduct(whole, 1, first, between);
    addProduct(t.topRightCorner(half, other), -1, whole, second);
    return t;
}

} // namespace

bool oxgoad_absorb(OxgoadMatrix triangle, OxgoadMatrix block, OxgoadTold told, const void* whom) {
    View r = viewOf(triangle), rows = viewOf(block);
    const Waiting waiting{told, whom};
    const Index columns = r.cols();
    const Index panel = columns <= fewColumns ? std::max<Index>(1, columns) : panelColumns;
    // To the right in pieces of some 2e8 operations, so that a stop is seen soon.
    const Index piece = std::max<Index>(64, 50000000 / std::max<Index>(1, rows.rows() * panel));
    for (Index j = 0; j < columns; j += panel) {
        if (waiting.over()) return false;
        const Index width = std::min(panel, columns - j), end = j + width;
        const MatrixXd t = reducePanel(r.block(j, j, width, width), rows.middleCols(j, width), end < columns);
        for (Index from = end; from < columns; from += piece) {
            if (waiting.over()) return false;
            const Index count = std::min(piece, columns - from);
            apply(rows.middleCols(j, width), t, r.block(j, from, width, count), rows.middleCols(from, count));
        }
    }
    return true;
}

bool oxgoad_triangle_of_few(OxgoadMatrix triangle, OxgoadMatrix rows, OxgoadTold told, const void* whom) {
    View r = viewOf(triangle), block = viewOf(rows);
    const Waiting waiting{told, whom};
    const Index k = block.cols();
    // Panel by panel, so that most of the work is products of matrices; to the right in pieces of some 2e8
    // operations, so that a stop is seen soon.
    // Wide panels are applied as one product each (48 reflections or more), narrow ones one by one.
    const Index panel = k >= 128 ? 64 : std::clamp<Index>((k + 1) / 2, 8, 32);
    for (Index j = 0; j < std::min(k, block.rows()); j += panel) {
        const Index width = std::min(panel, k - j), below = block.rows() - j;
        Ref<MatrixXd> left = block.block(j, j, below, width); // factored in its place
        const Eigen::HouseholderQR<Ref<MatrixXd>> qr(left);
        const Index piece = std::max<Index>(64, 50000000 / (below * width));
        for (Index from = j + width; from < k; from += piece) {
            if (waiting.over()) return false;
            block.block(j, from, below, std::min(piece, k - from))
                .applyOnTheLeft(qr.householderQ().adjoint());
        }
    }
    const Index m = std::min(block.rows(), k);
    r.topRows(m) = block.topRows(m).triangularView<Eigen::Upper>();
    return true;
}

void oxgoad_solve_rows(OxgoadMatrix triangle, OxgoadMatrix rows) {
    View block = viewOf(rows);
    viewOf(triangle).triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(block);
}

void oxgoad_add_products(OxgoadMatrix sum, OxgoadMatrix a, OxgoadMatrix b) {
    addCrossProduct(viewOf(sum), 1, viewOf(a), viewOf(b));
}

void oxgoad_add_squares(OxgoadMatrix sum, OxgoadMatrix a) {
    viewOf(sum).selfadjointView<Eigen::Lower>().rankUpdate(viewOf(a).transpose());
}

const char* oxgoad_built_for(void) {
    return OXGOAD_BUILT_FOR;
}
